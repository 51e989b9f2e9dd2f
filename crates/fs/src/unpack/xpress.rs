//! Xpress with Huffman codes, following Microsoft's "Xpress Compression Algorithm" document, LZ77+Huffman part, for data
//! of one block.

use super::words::{Code, Words, repeat};

/// Unpacks into exactly `size` bytes, 64 KiB at the most; `None` where the data is damaged.
pub fn unpack(data: &[u8], size: usize) -> Option<Vec<u8>> {
    let lengths: Vec<u8> = data.get(..256)?.iter().flat_map(|byte| [byte & 15, byte >> 4]).collect();
    let code = Code::new(&lengths)?;
    let mut words = Words::new(data);
    words.at = 256;
    let mut out = Vec::with_capacity(size);
    // The format says from where extra bytes are taken: behind the first two words, then
    // behind as many as it takes to hold 16 bits.
    words.ensure(17)?;
    while out.len() < size {
        let symbol = code.next(&mut words)?;
        words.fill()?;
        if symbol < 256 {
            out.push(symbol as u8);
            continue;
        }
        let (mut len, bits) = (symbol & 15, (symbol >> 4 & 15) as u32);
        if len == 15 {
            len = match words.byte()? {
                255 => {
                    let long = words.byte()? | words.byte()? << 8;
                    if long == 0 { words.byte()? | words.byte()? << 8 | words.byte()? << 16 | words.byte()? << 24 } else { long }
                }
                more => more + 15,
            };
            if len < 15 {
                return None;
            }
        }
        let back = words.take(bits)? + (1 << bits);
        words.fill()?;
        repeat(&mut out, back, len + 3, size)?;
    }
    Some(out)
}
