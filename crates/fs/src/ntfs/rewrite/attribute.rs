//! Attributes as they are written: run lists, parts of long ones, entries of attribute lists, whole records.

use super::super::{Run, runs::packed};
use super::{END, set};
use crate::resize::up;
use badger_drive::field::le16;

pub(super) fn count(runs: &[Run]) -> u64 {
    runs.iter().map(|(_, len)| len).sum()
}

/// An attribute that is not resident, with another run list.
pub(super) fn with_runs(attribute: &[u8], runs: &[Run]) -> Vec<u8> {
    let at = usize::from(le16(attribute, 32)).clamp(64, attribute.len());
    let mut out = attribute[..at].to_vec();
    out.extend(packed(runs));
    out.resize(up(out.len() as u64, 8) as usize, 0);
    let len = out.len() as u32;
    set(&mut out, 4, &len.to_le_bytes());
    out
}

pub(super) fn name_of(attribute: &[u8]) -> &[u8] {
    let (len, at) = (usize::from(attribute[9]) * 2, usize::from(le16(attribute, 10)));
    attribute.get(at..at + len).unwrap_or_default()
}

/// One attribute of a file with everything it has, wherever its parts stood.
pub(super) struct Whole {
    pub(super) code: u32,
    pub(super) bytes: Vec<u8>,
    /// `None` where it is resident.
    pub(super) runs: Option<Vec<Run>>,
    pub(super) outside: bool,
}

impl Whole {
    /// The part of a run list from cluster `low` on. Only the first part tells sizes.
    pub(super) fn part(&self, low: u64, runs: &[Run]) -> Vec<u8> {
        let head = if low == 0 {
            self.bytes.clone()
        } else {
            let name = name_of(&self.bytes);
            let mut head = self.bytes[..64].to_vec();
            head[40..64].fill(0);
            set(&mut head, 10, &64u16.to_le_bytes());
            head.extend(name);
            head.resize(up(head.len() as u64, 8) as usize, 0);
            let at = head.len() as u16;
            set(&mut head, 32, &at.to_le_bytes());
            head
        };
        let mut out = with_runs(&head, runs);
        set(&mut out, 16, &low.to_le_bytes());
        set(&mut out, 24, &(low + count(runs)).wrapping_sub(1).to_le_bytes());
        out
    }

    /// The next part that is written: all that is left where that fits into the `left` bytes of a record or `outer` of a new
    /// one, else as much as a new one holds. Gives the bytes, and how many runs they say.
    pub(super) fn next_part(&self, low: u64, rest: &[Run], left: usize, outer: usize, none_open: bool) -> (Vec<u8>, usize) {
        if self.runs.is_none() {
            return (self.bytes.clone(), 0);
        }
        let all = self.part(low, rest);
        if all.len() <= left.max(outer) && (all.len() <= left || none_open || all.len() <= outer) {
            return (all, rest.len());
        }
        let (mut few, mut many) = (1, rest.len());
        while few < many {
            let middle = (few + many).div_ceil(2);
            if self.part(low, &rest[..middle]).len() <= outer { few = middle } else { many = middle - 1 }
        }
        (self.part(low, &rest[..few]), few)
    }
}

/// Where an attribute, or a part of one, was written.
pub(super) struct Placed {
    /// Which of the file's attributes.
    pub(super) at: usize,
    /// The first cluster of the stream that the part tells.
    pub(super) low: u64,
    /// The record.
    pub(super) reference: u64,
    /// Its number there.
    pub(super) id: u16,
}

pub(super) fn list_entry(whole: &Whole, place: &Placed) -> Vec<u8> {
    let name = name_of(&whole.bytes);
    let mut out = vec![0; 26];
    set(&mut out, 0, &whole.code.to_le_bytes());
    out[6] = (name.len() / 2) as u8;
    out[7] = 26;
    set(&mut out, 8, &place.low.to_le_bytes());
    set(&mut out, 16, &place.reference.to_le_bytes());
    set(&mut out, 24, &place.id.to_le_bytes());
    out.extend(name);
    out.resize(up(out.len() as u64, 8) as usize, 0);
    let len = out.len() as u16;
    set(&mut out, 4, &len.to_le_bytes());
    out
}

pub(super) fn with_id(mut attribute: Vec<u8>, id: u16) -> Vec<u8> {
    set(&mut attribute, 14, &id.to_le_bytes());
    attribute
}

/// A record with other attributes; `next` is the id the next one would get.
pub(super) fn filled(mut record: Vec<u8>, all: &[Vec<u8>], next: u16) -> Vec<u8> {
    let mut at = usize::from(le16(&record, 20));
    record[at..].fill(0);
    for bytes in all {
        set(&mut record, at, bytes);
        at += bytes.len();
    }
    set(&mut record, at, &u32::MAX.to_le_bytes());
    let used = (at + END) as u32;
    set(&mut record, 24, &used.to_le_bytes());
    set(&mut record, 40, &next.to_le_bytes());
    record
}
