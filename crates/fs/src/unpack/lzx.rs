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
