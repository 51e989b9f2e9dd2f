//! Transaction logs: what was to be written to a registry file that was not written to its end. Of the newer kind (entries `HvLE`, each with its
//! proof), and of the older one (`DIRT` and a map of pages).

use super::Wrong;
use super::base::{BASE, Base, LOG_BASE};
use super::bytes::{Bytes, LOGGED, Paged};
use badger_drive::field::{le32, le64};

/// Bytes of a log at the most.
const MOST_LOG: u64 = 256 << 20;
/// What the proofs of entries begin with.
const SEED: u64 = 0x82ef_4d88_7a4e_55c5;

/// The sum that proves an entry, as it was published for hashing short texts.
fn proof(seed: u64, bytes: &[u8]) -> u64 {
    let (mut low, mut high) = (seed as u32, (seed >> 32) as u32);
    let mut mix = |word: u32| {
        low = low.wrapping_add(word);
        high ^= low;
        low = low.rotate_left(20).wrapping_add(high);
        high = high.rotate_left(9) ^ low;
        low = low.rotate_left(27).wrapping_add(high);
        high = high.rotate_left(19);
    };
    let words = bytes.chunks_exact(4);
    let rest = words.remainder();
    words.for_each(|word| mix(le32(word, 0)));
    let last = rest.iter().rev().fold(0x80u32, |word, byte| word << 8 | u32::from(*byte));
    mix(last);
    mix(0);
    u64::from(high) << 32 | u64::from(low)
}

/// An entry of a log of the newer kind.
struct Entry {
    sequence: u32,
    bins: u32,
    /// Where in the bins, and what.
    pages: Vec<(u32, std::ops::Range<usize>)>,
}

/// Reads an entry at a place of a log; its length with it.
fn entry(log: &[u8], at: usize) -> Option<(Entry, usize)> {
    let head = log.get(at..at.checked_add(40)?)?;
    let size = le32(head, 4) as usize;
    if &head[..4] != b"HvLE" || size < 40 || !size.is_multiple_of(LOGGED as usize) {
        return None;
    }
    let whole = log.get(at..at.checked_add(size)?)?;
    if proof(SEED, &whole[40..]) != le64(head, 24) || proof(SEED, &whole[..32]) != le64(head, 32) {
        return None;
    }
    let count = le32(head, 20) as usize;
    let mut from = 40usize.checked_add(count.checked_mul(8)?)?;
    let mut pages = Vec::new();
    for page in whole.get(40..from)?.chunks_exact(8) {
        let (place, len) = (le32(page, 0), le32(page, 4) as usize);
        let end = from.checked_add(len)?;
        whole.get(from..end)?;
        pages.push((place, at + from..at + end));
        from = end;
    }
    Some((Entry { sequence: le32(head, 12), bins: le32(head, 16), pages }, size))
}

/// The whole of a log.
fn read(log: &dyn Bytes) -> Option<Vec<u8>> {
    let mut out = vec![0; usize::try_from(log.len().min(MOST_LOG)).ok()?];
    log.read_at(0, &mut out).ok()?;
    Some(out)
}

/// Lays what the logs have over the file; the base block as it is then, where any had something.
pub(super) fn apply(pages: &mut Paged, base: &Base, logs: &[&dyn Bytes], remarks: &mut Vec<Wrong>) -> Option<Base> {
    let read: Vec<(Base, Vec<u8>)> = logs
        .iter()
        .filter_map(|log| {
            let bytes = read(*log)?;
            Some((Base::read(bytes.get(..LOG_BASE as usize)?).ok().filter(|base| base.is_sound)?, bytes))
        })
        .collect();
    let mut now = *base;
    if !base.is_sound {
        // The base block of the latest log says what that of the file should.
        let (latest, _) = read.iter().max_by_key(|(base, _)| base.sequence.0)?;
        now = Base { kind: 0, sequence: (latest.sequence.0, latest.sequence.0), ..*latest };
    }
    let mut entries = Vec::new();
    for (number, (_, log)) in read.iter().enumerate() {
        let mut at = LOG_BASE as usize;
        while let Some((entry, size)) = entry(log, at) {
            entries.push((entry, number));
            at += size;
        }
    }
    // What was written to the file to its end is in it: later ones follow, each the next.
    entries.sort_by_key(|(entry, _)| entry.sequence);
    let from = if base.is_sound { base.sequence.1 } else { entries.first().map_or(0, |(entry, _)| entry.sequence) };
    let mut next = None;
    for (entry, number) in entries.iter().filter(|(entry, _)| entry.sequence >= from) {
        if next.is_some_and(|next| next != entry.sequence) {
            remarks.push(Wrong::new("registry-log-gap", format!("the logs lack change {}: later ones are left", next.unwrap_or_default())));
            break;
        }
        for (place, range) in &entry.pages {
            if u64::from(*place) + range.len() as u64 <= u64::from(entry.bins) {
                pages.lay_over(BASE + u64::from(*place), &read[*number].1[range.clone()]);
            }
        }
        next = Some(entry.sequence.wrapping_add(1));
        (now.bins, now.sequence) = (entry.bins, (entry.sequence.wrapping_add(1), entry.sequence.wrapping_add(1)));
    }
    if next.is_some() {
        return Some(now);
    }
    read.iter().find_map(|(base, log)| older(pages, now, base, log))
}

/// Lays a log of the older kind over the file.
fn older(pages: &mut Paged, now: Base, log_base: &Base, log: &[u8]) -> Option<Base> {
    let map_at = LOG_BASE as usize + 4;
    if log.get(LOG_BASE as usize..map_at)? != b"DIRT" || !log_base.is_clean() || log_base.sequence.0 < now.sequence.1 {
        return None;
    }
    let count = log_base.bins as usize / LOGGED as usize;
    let map = log.get(map_at..map_at + count.div_ceil(8))?;
    let mut from = (map_at + map.len()).next_multiple_of(LOGGED as usize);
    let marked: Vec<usize> = (0..count).filter(|page| map[page / 8] & (1 << (page % 8)) != 0).collect();
    log.get(from..from + marked.len() * LOGGED as usize)?;
    for page in marked {
        pages.lay_over(BASE + page as u64 * LOGGED, &log[from..from + LOGGED as usize]);
        from += LOGGED as usize;
    }
    Some(Base { bins: log_base.bins, root: log_base.root, sequence: log_base.sequence, version: log_base.version, is_sound: true, ..now })
}

/// A log of the newer kind with one entry, for files that were not written to their end.
///
/// `base` is the 512 bytes the file begins with; pages are places in the bins and what stands there.
pub fn written(base: &[u8], sequence: u32, bins: u32, pages: &[(u32, &[u8])]) -> Vec<u8> {
    let mut log = base[..LOG_BASE as usize].to_vec();
    log[28..32].copy_from_slice(&6u32.to_le_bytes());
    let sum = super::base::sum(&log);
    log[508..512].copy_from_slice(&sum.to_le_bytes());
    let mut entry = b"HvLE".to_vec();
    let len = 40 + pages.len() * 8 + pages.iter().map(|(_, bytes)| bytes.len()).sum::<usize>();
    let size = len.next_multiple_of(LOGGED as usize);
    let numbers = [size as u32, 0, sequence, bins, pages.len() as u32];
    numbers.iter().for_each(|number| entry.extend(number.to_le_bytes()));
    entry.extend([0; 16]);
    pages.iter().for_each(|(place, bytes)| entry.extend([*place, bytes.len() as u32].iter().flat_map(|number| number.to_le_bytes())));
    pages.iter().for_each(|(_, bytes)| entry.extend(*bytes));
    entry.resize(size, 0);
    let of_pages = proof(SEED, &entry[40..]);
    entry[24..32].copy_from_slice(&of_pages.to_le_bytes());
    let of_head = proof(SEED, &entry[..32]);
    entry[32..40].copy_from_slice(&of_head.to_le_bytes());
    log.extend(entry);
    log
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_proof_is_the_published_one() {
        // From the published tests of the function.
        let seed = 0x004f_b61a_001b_dbcc;
        assert_eq!(proof(seed, &[]), 0x30ed_35c1_00cd_3c7d);
        assert_eq!(proof(seed, &[0xaf]), 0x48e7_3fc7_7d75_ddc1);
        assert_eq!(proof(seed, &[0xe7, 0x0f]), 0xb5f6_e1fc_485d_bff8);
    }
}
