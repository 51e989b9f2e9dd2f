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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The document's own examples: a table of code lengths and the data behind it.
    fn example(lengths: &[(usize, u8)], data: &[u8]) -> Vec<u8> {
        let mut bytes = vec![0; 256];
        lengths.iter().for_each(|(symbol, length)| bytes[symbol / 2] |= length << (symbol % 2 * 4));
        bytes.extend_from_slice(data);
        bytes
    }

    #[test]
    fn the_published_examples() {
        let mut lengths: Vec<(usize, u8)> = (b'a'..=b'z').map(|letter| (usize::from(letter), if letter < b'w' { 5 } else { 4 })).collect();
        lengths.push((256, 4));
        let alphabet = example(
            &lengths,
            &[0xd8, 0x52, 0x3e, 0xd7, 0x94, 0x11, 0x5b, 0xe9, 0x19, 0x5f, 0xf9, 0xd6, 0x7c, 0xdf, 0x8d, 0x04, 0x00, 0x00, 0x00, 0x00],
        );
        assert_eq!(unpack(&alphabet, 26).unwrap(), b"abcdefghijklmnopqrstuvwxyz");
        let repeated = example(&[(0x61, 3), (0x62, 3), (0x63, 2), (256, 2), (0x11f, 2)], &[0xa8, 0xdc, 0x00, 0x00, 0xff, 0x26, 0x01]);
        assert_eq!(unpack(&repeated, 300).unwrap(), b"abc".repeat(100));
        assert_eq!(unpack(&repeated, 301), None, "there is no more in it");
    }

    proptest! {
        #[test]
        fn arbitrary_data_never_panics(data in prop::collection::vec(any::<u8>(), 0..3000), size in 0usize..20_000) {
            if let Some(out) = unpack(&data, size) {
                prop_assert_eq!(out.len(), size);
            }
        }
    }
}
