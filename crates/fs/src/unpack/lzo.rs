//! LZO1X, following the kernel's "LZO stream format as understood by Linux's LZO decompressor": literals and references back into what was
//! unpacked, in the parts of one sector each that btrfs makes.

use badger_drive::field::{le16, le32};

/// btrfs packs sectors of this size by themselves.
const SECTOR: usize = 4096;

/// Unpacks an extent into exactly `size` bytes; what it does not reach stays zero. `None` where it is damaged.
pub fn unpack(data: &[u8], size: usize) -> Option<Vec<u8>> {
    let total = le32(data.get(..4)?, 0) as usize;
    let data = data.get(..total.min(data.len()))?;
    let (mut out, mut at) = (Vec::with_capacity(size), 4);
    while at + 4 <= data.len() && out.len() < size {
        // The length of a part never lies over the end of a sector.
        if SECTOR - at % SECTOR < 4 {
            at = at.next_multiple_of(SECTOR);
        }
        let Some(head) = data.get(at..at + 4) else { break };
        let len = le32(head, 0) as usize;
        let part = data.get(at + 4..at.checked_add(4)?.checked_add(len)?)?;
        let before = out.len();
        out.extend(part_of(part, SECTOR.min(size - before))?);
        at += 4 + len;
    }
    out.resize(size, 0);
    Some(out)
}

/// A length that goes on through zero bytes.
fn long(data: &[u8], at: &mut usize, base: usize) -> Option<usize> {
    let mut len = base;
    while *data.get(*at)? == 0 {
        len = len.checked_add(255)?;
        *at += 1;
    }
    len += usize::from(data[*at]);
    *at += 1;
    Some(len)
}

/// One part, `most` bytes at the most.
fn part_of(data: &[u8], most: usize) -> Option<Vec<u8>> {
    let (mut out, mut at) = (Vec::with_capacity(most), 0);
    let literals = |out: &mut Vec<u8>, at: &mut usize, count: usize| {
        out.extend(data.get(*at..at.checked_add(count)?)?);
        *at += count;
        (out.len() <= most).then_some(())
    };
    // How many literals came last: 4 stands for a long run of them.
    let mut state = 0;
    if let Some(first) = data.first().copied().filter(|first| *first > 17) {
        at = 1;
        let count = usize::from(first) - 17;
        literals(&mut out, &mut at, count)?;
        state = count.min(4);
    }
    loop {
        let code = usize::from(*data.get(at)?);
        at += 1;
        let (back, len, next) = match code {
            0..16 if state == 0 => {
                let count = if code == 0 { long(data, &mut at, 15)? } else { code } + 3;
                literals(&mut out, &mut at, count)?;
                state = 4;
                continue;
            }
            0..16 => {
                let far = usize::from(*data.get(at)?) << 2;
                at += 1;
                let (base, len) = if state == 4 { (2049, 3) } else { (1, 2) };
                (far + (code >> 2) + base, len, code & 3)
            }
            16..32 => {
                let len = if code & 7 == 0 { long(data, &mut at, 7)? } else { code & 7 } + 2;
                let word = usize::from(le16(data.get(at..at + 2)?, 0));
                at += 2;
                let back = ((code & 8) << 11) + (word >> 2);
                if back == 0 {
                    return Some(out);
                }
                (back + 16384, len, word & 3)
            }
            32..64 => {
                let len = if code & 31 == 0 { long(data, &mut at, 31)? } else { code & 31 } + 2;
                let word = usize::from(le16(data.get(at..at + 2)?, 0));
                at += 2;
                ((word >> 2) + 1, len, word & 3)
            }
            _ => {
                let far = usize::from(*data.get(at)?) << 3;
                at += 1;
                let len = if code < 128 { 3 + (code >> 5 & 1) } else { 5 + (code >> 5 & 3) };
                (far + (code >> 2 & 7) + 1, len, code & 3)
            }
        };
        super::words::repeat(&mut out, back, len, most)?;
        literals(&mut out, &mut at, next)?;
        state = next;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn arbitrary_data_never_panics(data in prop::collection::vec(any::<u8>(), 0..6000), size in 0usize..140_000) {
            if let Some(out) = unpack(&data, size) {
                prop_assert_eq!(out.len(), size);
            }
            if let Some(out) = part_of(&data, 4096) {
                prop_assert!(out.len() <= 4096);
            }
        }
    }
}
