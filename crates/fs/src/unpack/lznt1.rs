//! LZNT1, the compression of NTFS files, following Microsoft's "Xpress Compression Algorithm" document, LZNT1 part:
//! chunks of 4 KiB, each plain or a sequence of literals and references into the same chunk.

use badger_drive::field::le16;

const CHUNK: usize = 4096;

/// Unpacks into exactly `size` bytes; what the data does not reach stays zero. `None` where the data is damaged.
pub fn unpack(data: &[u8], size: usize) -> Option<Vec<u8>> {
    let mut out = vec![0; size];
    let (mut at, mut start) = (0, 0);
    while start < size && at + 2 <= data.len() {
        let header = le16(data, at);
        if header == 0 {
            break;
        }
        let len = usize::from(header & 0xfff) + 1;
        let body = data.get(at + 2..at + 2 + len)?;
        let chunk = &mut out[start..size.min(start + CHUNK)];
        if header & 0x8000 == 0 {
            chunk.get_mut(..len)?.copy_from_slice(body);
        } else {
            unpack_chunk(body, chunk)?;
        }
        at += 2 + len;
        start += CHUNK;
    }
    Some(out)
}

fn unpack_chunk(body: &[u8], out: &mut [u8]) -> Option<()> {
    let (mut at, mut done) = (0, 0);
    while at < body.len() {
        let flags = body[at];
        at += 1;
        for bit in 0..8 {
            if at >= body.len() {
                return Some(());
            }
            if flags >> bit & 1 == 0 {
                *out.get_mut(done)? = body[at];
                (at, done) = (at + 1, done + 1);
                continue;
            }
            let token = usize::from(le16(body.get(at..at + 2)?, 0));
            at += 2;
            // The further into the chunk, the more bits the distance takes from the length.
            let bits = 12 - (usize::BITS - (done.checked_sub(1)? >> 4).leading_zeros()).min(8) as usize;
            let (back, len) = ((token >> bits) + 1, (token & ((1 << bits) - 1)) + 3);
            let from = done.checked_sub(back)?;
            for step in 0..len {
                let byte = out[from + step];
                *out.get_mut(done + step)? = byte;
            }
            done += len;
        }
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_published_example() {
        // The document's own example: a text with repetitions.
        let packed = [
            0x38, 0xb0, 0x88, 0x46, 0x23, 0x20, 0x00, 0x20, 0x47, 0x20, 0x41, 0x00, 0x10, 0xa2, 0x47, 0x01, 0xa0, 0x45, 0x20, 0x44, 0x00, 0x08, 0x45,
            0x01, 0x50, 0x79, 0x00, 0xc0, 0x45, 0x20, 0x05, 0x24, 0x13, 0x88, 0x05, 0xb4, 0x02, 0x4a, 0x44, 0xef, 0x03, 0x58, 0x02, 0x8c, 0x09, 0x16,
            0x01, 0x48, 0x45, 0x00, 0xbe, 0x00, 0x9e, 0x00, 0x04, 0x01, 0x18, 0x90, 0x00,
        ];
        let text = b"F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E F# D E F# G F# D E F# G F# E D E A F# F# G A A G F# E D D E F# E D D\0";
        let unpacked = unpack(&packed, text.len()).unwrap();
        assert_eq!(String::from_utf8_lossy(&unpacked), String::from_utf8_lossy(text));
    }

    proptest! {
        #[test]
        fn arbitrary_data_never_panics(data in prop::collection::vec(any::<u8>(), 0..9000), size in 0usize..70_000) {
            if let Some(out) = unpack(&data, size) {
                prop_assert_eq!(out.len(), size);
            }
        }
    }
}
