//! The log of VHDX: what was to be written when its system went away, gathered in memory.

use crate::held::{CHANGED, Held};
use crate::layer::{Result, Wrong};
use badger_drive::field::{le32, le64};
use std::collections::BTreeMap;

/// Everything in the log counts in these.
const SECTOR: u64 = 4096;
/// So many ends of sequences are tried, the newest first.
const MOST_ENDS: usize = 64;
/// A longer log is none.
const MOST: u64 = 256 << 20;

/// The checksum of a structure, which counts its own four bytes at 4 as zero.
pub(super) fn is_sound(bytes: &[u8]) -> bool {
    let sum = crc32c::crc32c_append(crc32c::crc32c_append(crc32c::crc32c(&bytes[..4]), &[0; 4]), &bytes[8..]);
    sum == le32(bytes, 4)
}

/// An entry that is whole.
struct Entry {
    sequence: u64,
    /// Where in the log the sequence it belongs to begins.
    tail: u64,
    bytes: Vec<u8>,
    len: u64,
}

struct Log<'a> {
    held: &'a Held,
    start: u64,
    len: u64,
    guid: [u8; 16],
}

impl Log<'_> {
    /// Bytes of the log from a place on, round its end.
    fn read(&self, at: u64, len: u64) -> Result<Vec<u8>> {
        let mut out = vec![0; len as usize];
        let first = (self.len - at).min(len) as usize;
        self.held.read_plain(self.start + at, &mut out[..first]).map_err(|error| Wrong::new(error.to_string()))?;
        self.held.read_plain(self.start, &mut out[first..]).map_err(|error| Wrong::new(error.to_string()))?;
        Ok(out)
    }

    /// The entry at a place, if one stands there whole.
    fn entry(&self, at: u64) -> Result<Option<Entry>> {
        let head = self.read(at, SECTOR)?;
        let len = u64::from(le32(&head, 8));
        if !head.starts_with(b"loge") || head[32..48] != self.guid || len == 0 || !len.is_multiple_of(SECTOR) || len > self.len {
            return Ok(None);
        }
        let bytes = self.read(at, len)?;
        let (sequence, tail, count) = (le64(&bytes, 16), u64::from(le32(&bytes, 12)), u64::from(le32(&bytes, 24)));
        let sectors = (64 + count * 32).div_ceil(SECTOR);
        let whole = is_sound(&bytes) && sequence > 0 && tail < self.len && tail.is_multiple_of(SECTOR) && sectors * SECTOR <= len;
        Ok(whole.then_some(Entry { sequence, tail, bytes, len }))
    }

    /// The entries that follow each other from a place on, by their numbers.
    fn sequence(&self, from: u64) -> Result<Vec<(u64, Entry)>> {
        let (mut out, mut at, mut total): (Vec<(u64, Entry)>, _, _) = (Vec::new(), from, 0);
        while let Some(entry) = self.entry(at)? {
            total += entry.len;
            if total > self.len || out.last().is_some_and(|(_, last)| entry.sequence != last.sequence + 1) {
                break;
            }
            let next = (at + entry.len) % self.len;
            out.push((at, entry));
            at = next;
        }
        Ok(out)
    }
}

/// What the log wants written: 4 KiB each, by where they begin.
pub(super) fn replay(held: &Held, start: u64, len: u64, guid: [u8; 16]) -> Result<BTreeMap<u64, Vec<u8>>> {
    if len == 0 || !len.is_multiple_of(SECTOR) || len > MOST || start.checked_add(len).is_none_or(|end| end > held.len()) {
        return Err(Wrong::new("its log lies where none can be"));
    }
    let log = Log { held, start, len, guid };
    let (mut ends, mut at): (Vec<(u64, u64)>, _) = (Vec::new(), 0);
    while at < len {
        let step = match log.entry(at)? {
            Some(entry) => {
                ends.push((entry.sequence, entry.tail));
                SECTOR.max(entry.len.min(len - at))
            }
            None => SECTOR,
        };
        at += step;
    }
    if ends.is_empty() {
        return Err(Wrong::new("it was not closed, and its log holds nothing that is whole"));
    }
    // The newest sequence that is whole ([MS-VHDX], 2.3.4): its last entry says where it begins. Of a newer one that was torn nothing
    // came to its place.
    ends.sort_unstable_by(|a, b| b.cmp(a));
    let mut found = None;
    for (newest, tail) in ends.into_iter().take(MOST_ENDS) {
        let entries = log.sequence(tail)?;
        if entries.iter().any(|(_, entry)| entry.sequence == newest) {
            found = Some((newest, entries));
            break;
        }
    }
    let Some((newest, entries)) = found else { return Err(Wrong::new("it was not closed, and what its log wants written is not whole")) };
    let mut changed = BTreeMap::new();
    for (_, entry) in entries.into_iter().take_while(|(_, entry)| entry.sequence <= newest) {
        carry_out(held, &entry, &mut changed)?;
    }
    Ok(changed)
}

fn carry_out(held: &Held, entry: &Entry, changed: &mut BTreeMap<u64, Vec<u8>>) -> Result<()> {
    let broken = || Wrong::new(format!("entry {} of its log contradicts itself", entry.sequence));
    let count = le32(&entry.bytes, 24) as usize;
    let mut data = (64 + count * 32).next_multiple_of(SECTOR as usize);
    let most = held.len().saturating_add(1 << 40);
    for number in 0..count {
        let descriptor = entry.bytes.get(64 + number * 32..96 + number * 32).ok_or_else(broken)?;
        let at = le64(descriptor, 16);
        if !at.is_multiple_of(CHANGED) || at > most || le64(descriptor, 24) != entry.sequence {
            return Err(broken());
        }
        match &descriptor[..4] {
            b"zero" => {
                let len = le64(descriptor, 8);
                if !len.is_multiple_of(CHANGED) || len > MOST {
                    return Err(broken());
                }
                (0..len / CHANGED).for_each(|step| _ = changed.insert(at + step * CHANGED, vec![0; CHANGED as usize]));
            }
            b"desc" => {
                let sector = entry.bytes.get(data..data + SECTOR as usize).filter(|sector| sector.starts_with(b"data")).ok_or_else(broken)?;
                let number = u64::from(le32(sector, 4)) << 32 | u64::from(le32(sector, 4092));
                if number != entry.sequence {
                    return Err(broken());
                }
                let page = [&descriptor[8..16], &sector[8..4092], &descriptor[4..8]].concat();
                changed.insert(at, page);
                data += SECTOR as usize;
            }
            _ => return Err(broken()),
        }
        if changed.len() as u64 * CHANGED > MOST {
            return Err(Wrong::new("its log wants more written than it has room for"));
        }
    }
    Ok(())
}
