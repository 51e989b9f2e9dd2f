//! LZX as system files and system images use it: chunks on their own, a window of 32 KiB, calls translated. Follows
//! Microsoft's "LZX Compression Format" with the shorter block header of chunks that stand alone.

use super::words::{Code, Words, repeat};

const WINDOW: usize = 32768;
/// Position slots of that window.
const SLOTS: usize = 30;
const MAIN: usize = 256 + 8 * SLOTS;
const LENGTHS: usize = 249;
/// What stands in for the size of a program when calls are translated.
const TRANSLATED: i32 = 12_000_000;

/// Reads the lengths of a code as differences to those of the block before.
fn lengths(words: &mut Words, lengths: &mut [u8]) -> Option<()> {
    let mut pre = [0u8; 20];
    for length in &mut pre {
        *length = words.take(4)? as u8;
    }
    let code = Code::new(&pre)?;
    let changed = |old: u8, symbol: usize| (usize::from(old) + 17).checked_sub(symbol).map(|new| (new % 17) as u8);
    let mut at = 0;
    while at < lengths.len() {
        let (count, value) = match code.next(words)? {
            17 => (4 + words.take(4)?, 0),
            18 => (20 + words.take(5)?, 0),
            19 => {
                let count = 4 + words.take(1)?;
                let symbol = code.next(words)?;
                (count, changed(lengths[at], symbol)?)
            }
            symbol => (1, changed(lengths[at], symbol)?),
        };
        let end = (at + count).min(lengths.len());
        lengths[at..end].fill(value);
        at = end;
    }
    Some(())
}

/// Extra bits of a slot, and where its distances begin.
fn slot(number: usize) -> (u32, usize) {
    let bits = (number / 2).saturating_sub(1).min(17) as u32;
    let base = (0..number).map(|slot| 1usize << (slot / 2).saturating_sub(1).min(17)).sum();
    (bits, base)
}

/// Unpacks into exactly `size` bytes, 32 KiB at the most; `None` where the data is damaged.
pub fn unpack(data: &[u8], size: usize) -> Option<Vec<u8>> {
    if size > WINDOW {
        return None;
    }
    let slots: Vec<(u32, usize)> = (0..SLOTS).map(slot).collect();
    let mut words = Words::new(data);
    let mut out = Vec::with_capacity(size);
    let (mut main_lengths, mut length_lengths) = ([0u8; MAIN], [0u8; LENGTHS]);
    let mut recent = [1usize; 3];
    while out.len() < size {
        let kind = words.take(3)?;
        let len = if words.take(1)? == 1 { WINDOW } else { words.take(16)? };
        let end = out.len().checked_add(len).filter(|end| *end <= size && len > 0)?;
        if kind == 3 {
            words.align()?;
            for place in &mut recent {
                *place = words.byte()? | words.byte()? << 8 | words.byte()? << 16 | words.byte()? << 24;
            }
            out.extend_from_slice(data.get(words.at..words.at + len)?);
            words.at += len + len % 2;
            continue;
        }
        let aligned = match kind {
            1 => None,
            2 => {
                let mut lengths = [0u8; 8];
                for length in &mut lengths {
                    *length = words.take(3)? as u8;
                }
                Some(Code::new(&lengths)?)
            }
            _ => return None,
        };
        lengths(&mut words, &mut main_lengths[..256])?;
        lengths(&mut words, &mut main_lengths[256..])?;
        lengths(&mut words, &mut length_lengths)?;
        let (main, long) = (Code::new(&main_lengths)?, Code::new(&length_lengths)?);
        while out.len() < end {
            let symbol = main.next(&mut words)?;
            let Some(symbol) = symbol.checked_sub(256) else {
                out.push(symbol as u8);
                continue;
            };
            let len = match symbol & 7 {
                7 => 9 + long.next(&mut words)?,
                short => short + 2,
            };
            let back = match symbol >> 3 {
                recently @ 0..3 => {
                    recent.swap(0, recently);
                    recent[0]
                }
                number => {
                    let (bits, base) = *slots.get(number)?;
                    let extra = match &aligned {
                        Some(aligned) if bits >= 3 => words.take(bits - 3)? << 3 | aligned.next(&mut words)?,
                        _ => words.take(bits)?,
                    };
                    recent = [base + extra - 2, recent[0], recent[1]];
                    recent[0]
                }
            };
            repeat(&mut out, back, len, end)?;
        }
    }
    translate(&mut out);
    Some(out)
}

/// Turns the absolute targets of calls back into relative ones.
fn translate(bytes: &mut [u8]) {
    let mut at = 0;
    while at + 10 < bytes.len() {
        if bytes[at] != 0xe8 {
            at += 1;
            continue;
        }
        let place = at as i32;
        let target = i32::from_le_bytes([bytes[at + 1], bytes[at + 2], bytes[at + 3], bytes[at + 4]]);
        if target >= -place && target < TRANSLATED {
            let relative = if target >= 0 { target - place } else { target + TRANSLATED };
            bytes[at + 1..at + 5].copy_from_slice(&relative.to_le_bytes());
        }
        at += 5;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Writes bits as the format has them.
    #[derive(Default)]
    struct Bits {
        bytes: Vec<u8>,
        held: u32,
        count: u32,
    }

    impl Bits {
        fn put(&mut self, value: usize, count: u32) {
            for bit in (0..count).rev() {
                self.held = self.held << 1 | (value >> bit & 1) as u32;
                self.count += 1;
                if self.count == 16 {
                    self.bytes.extend((self.held as u16).to_le_bytes());
                    (self.held, self.count) = (0, 0);
                }
            }
        }

        fn align(&mut self) {
            self.put(0, 16 - self.count);
        }
    }

    /// Every symbol of a code has the same length, so that its code is its own number.
    const MAIN_BITS: u32 = 9;
    const LONG_BITS: u32 = 8;

    fn tables(out: &mut Bits, first: bool, aligned: bool) {
        if aligned {
            (0..8).for_each(|_| out.put(3, 3));
        }
        for (count, bits) in [(256, MAIN_BITS), (MAIN - 256, MAIN_BITS), (LENGTHS, LONG_BITS)] {
            (0..20).for_each(|_| out.put(5, 4));
            // The difference to the block before, of which there is none at first.
            let symbol = if first { 17 - bits as usize } else { 0 };
            (0..count).for_each(|_| out.put(symbol, 5));
        }
    }

    /// A copy of `len` bytes from `back` bytes before, through the slot it belongs to or the place used last.
    fn copy(out: &mut Bits, back: usize, len: usize, recent: &mut [usize; 3], aligned: bool) {
        let number = match recent.iter().position(|place| *place == back) {
            Some(at) => {
                recent.swap(0, at);
                at
            }
            None => {
                *recent = [back, recent[0], recent[1]];
                (3..SLOTS).rev().find(|number| slot(*number).1 <= back + 2).unwrap()
            }
        };
        let header = (len - 2).min(7);
        out.put(256 + number * 8 + header, MAIN_BITS);
        if header == 7 {
            out.put(len - 9, LONG_BITS);
        }
        if number >= 3 {
            let (bits, base) = slot(number);
            let extra = back + 2 - base;
            if aligned && bits >= 3 {
                out.put(extra >> 3, bits - 3);
                out.put(extra & 7, 3);
            } else {
                out.put(extra, bits);
            }
        }
    }

    #[test]
    fn every_kind_of_block_gives_back_what_went_in() {
        let text = b"high water at the lock, low water at the weir; ".repeat(30);
        let mut out = Bits::default();
        let mut recent = [1usize; 3];
        let mut wanted = Vec::new();
        for (kind, first) in [(1usize, true), (2, false), (3, false), (2, false)] {
            let part = &text[..700 + wanted.len() % 7];
            out.put(kind, 3);
            out.put(0, 1);
            out.put(part.len(), 16);
            if kind == 3 {
                out.align();
                recent.iter().for_each(|place| out.bytes.extend((*place as u32).to_le_bytes()));
                out.bytes.extend_from_slice(part);
                out.bytes.extend(vec![0; part.len() % 2]);
                wanted.extend_from_slice(part);
                continue;
            }
            tables(&mut out, first, kind == 2);
            part[..47].iter().for_each(|byte| out.put(usize::from(*byte), MAIN_BITS));
            wanted.extend_from_slice(&part[..47]);
            let end = wanted.len() - 47 + part.len();
            // Short and long copies, near and far, new places and those used before.
            for (back, len) in [(47, 2), (47, 8), (47, 9), (5, 3), (47, 200), (12, 4), (5, 6), (46, 30), (40, 257)].into_iter().cycle() {
                let len = len.min(end - wanted.len());
                if len < 2 {
                    break;
                }
                copy(&mut out, back, len, &mut recent, kind == 2);
                (0..len).for_each(|_| wanted.push(wanted[wanted.len() - back]));
            }
            while wanted.len() < end {
                out.put(usize::from(b'.'), MAIN_BITS);
                wanted.push(b'.');
            }
        }
        out.align();
        let unpacked = unpack(&out.bytes, wanted.len()).unwrap();
        assert_eq!(String::from_utf8_lossy(&unpacked), String::from_utf8_lossy(&wanted));
    }

    #[test]
    fn calls_become_relative_again() {
        let mut bytes = vec![0x90; 64];
        bytes[20..25].copy_from_slice(&[0xe8, 100, 0, 0, 0]);
        bytes[30..35].copy_from_slice(&[0xe8, 0xe2, 0xff, 0xff, 0xff]);
        bytes[60..64].copy_from_slice(&[0xe8, 100, 0, 0]);
        translate(&mut bytes);
        assert_eq!(bytes[21..25], 80i32.to_le_bytes());
        assert_eq!(bytes[31..35], (TRANSLATED - 30).to_le_bytes());
        assert_eq!(bytes[60..64], [0xe8, 100, 0, 0], "what stands at the very end is left alone");
    }

    proptest! {
        #[test]
        fn arbitrary_data_never_panics(data in prop::collection::vec(any::<u8>(), 0..3000), size in 0usize..40_000) {
            if let Some(out) = unpack(&data, size) {
                prop_assert_eq!(out.len(), size);
            }
        }
    }
}
