//! What a volume holds: entries with names, kinds, sizes and times, and where their bytes lie.

use crate::finding::{Finding, Result};
use badger_drive::Extents;
use serde::Serialize;
use std::borrow::Cow;
use std::path::Path;
use std::sync::Arc;

/// Bytes as text; what is none of it is written as `\xff`, in hexadecimal.
pub fn escaped(bytes: &[u8]) -> String {
    use std::fmt::Write;
    if let Ok(text) = std::str::from_utf8(bytes) {
        return text.to_string();
    }
    let mut out = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        out.push_str(chunk.valid());
        // Writing into a string does not fail.
        chunk.invalid().iter().for_each(|byte| _ = write!(out, "\\x{byte:02x}"));
    }
    out
}

/// A name as it stands on the disk and as it is shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Name {
    /// The bytes; for formats that keep UTF-16, its UTF-8 form.
    pub bytes: Vec<u8>,
    /// For people, and to name it by: bytes that are no text are written as `\xff`, in hexadecimal.
    pub shown: String,
}

impl Name {
    pub(crate) fn from_bytes(bytes: &[u8]) -> Self {
        Self { bytes: bytes.to_vec(), shown: escaped(bytes) }
    }

    /// UTF-16 that may not be valid: a half of a pair that stands alone becomes the three bytes its number would have
    /// (WTF-8), so that no two names become one.
    pub(crate) fn from_units(units: &[u16]) -> Self {
        let known = if units.iter().fold(0, |all, unit| all | unit) < 128 {
            String::from_utf8(units.iter().map(|unit| *unit as u8).collect()).ok()
        } else {
            String::from_utf16(units).ok()
        };
        if let Some(shown) = known {
            return Self { bytes: shown.clone().into_bytes(), shown };
        }
        let mut bytes = Vec::with_capacity(units.len());
        for unit in char::decode_utf16(units.iter().copied()) {
            match unit.map_err(|alone| alone.unpaired_surrogate()) {
                Ok(letter) => bytes.extend(letter.encode_utf8(&mut [0; 4]).as_bytes()),
                Err(alone) => bytes.extend([0xe0 | (alone >> 12) as u8, 0x80 | (alone >> 6 & 63) as u8, 0x80 | (alone & 63) as u8]),
            }
        }
        Self::from_bytes(&bytes)
    }
}

/// What an entry is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum NodeKind {
    /// Bytes.
    File,
    /// More entries.
    Directory,
    /// A symbolic link.
    Link,
    /// A device, a pipe, a socket.
    Other,
}

/// A moment in UTC. Formats that keep local time without a zone are taken as UTC.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Time {
    /// Seconds since 1970.
    pub seconds: i64,
    /// Nanoseconds, 0 to 999,999,999.
    pub nanos: u32,
}

/// Seconds since 1970 of a date and a time of day as FAT and exFAT pack them; `None` where no date is set.
pub(crate) fn packed_seconds(date: u16, time: u16) -> Option<i64> {
    let day = jiff::civil::Date::new(1980 + (date >> 9) as i16, (date >> 5 & 15) as i8, (date & 31) as i8).ok()?;
    let midnight = day.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_second();
    // What no clock shows, such as 25 hours, still counts as time.
    Some(midnight + i64::from(time >> 11) * 3600 + i64::from(time >> 5 & 63) * 60 + i64::from(time & 31) * 2)
}

/// Adds a run of clusters to pieces, to the last one where it goes on from there.
pub(crate) fn push_piece(pieces: &mut Vec<Piece>, at: Option<u64>, len: u64) {
    match pieces.last_mut() {
        Some(last) if at.is_some() && last.at.map(|start| start + last.len) == at => last.len += len,
        Some(last) if at.is_none() && last.at.is_none() => last.len = last.len.saturating_add(len),
        _ => pieces.push(Piece { at, len }),
    }
}

/// Knows when a walk from number to number comes back to where it was, without noting where it went (R. P. Brent, "An improved Monte
/// Carlo factorization algorithm", 1980).
#[derive(Default)]
pub(crate) struct Turn {
    kept: Option<u32>,
    steps: u64,
    next: u64,
}

impl Turn {
    /// Whether the walk was at this number before; a circle is noticed within a few turns of it.
    pub fn comes_back(&mut self, number: u32) -> bool {
        if self.kept == Some(number) {
            return true;
        }
        self.steps += 1;
        if self.steps >= self.next {
            (self.kept, self.next) = (Some(number), self.steps * 2);
        }
        false
    }
}

/// The byte of a file at which pieces come to a place of the volume for the second time.
pub(crate) fn first_repeated(pieces: &[Piece]) -> Option<u64> {
    let (mut seen, mut offset) = (Extents::new(), 0u64);
    for piece in pieces {
        if let Some(at) = piece.at {
            let place = at..at.saturating_add(piece.len);
            if let Some((before, ())) = seen.within(place.clone()).next() {
                return Some(offset + before.start.max(at) - at);
            }
            seen.set(place, ());
        }
        offset = offset.saturating_add(piece.len);
    }
    None
}

/// The first `len` bytes of pieces.
pub(crate) fn cut_pieces(pieces: Vec<Piece>, len: u64) -> Vec<Piece> {
    let mut left = len;
    let cut = pieces.into_iter().map(|piece| {
        let len = piece.len.min(left);
        left -= len;
        Piece { len, ..piece }
    });
    cut.filter(|piece| piece.len > 0).collect()
}

/// What is known of a file or directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Node {
    /// Names it within its volume.
    pub id: u64,
    /// What it is.
    pub kind: NodeKind,
    /// Bytes; 0 for directories.
    pub size: u64,
    /// Last change of the content.
    pub modified: Option<Time>,
    /// Last reading.
    pub accessed: Option<Time>,
    /// When it was made.
    pub created: Option<Time>,
    /// Permission bits, where the format has them.
    pub mode: Option<u32>,
    /// User and group by number, where the format has them.
    pub owner: Option<(u32, u32)>,
    /// How many names it has.
    pub links: u32,
    /// Attribute bits, where the format has them: read-only 1, hidden 2, system 4, archive 32.
    pub attributes: u32,
    /// What it is, in words, where it is no plain file, folder or link: a device, or a file whose content its system keeps
    /// in another way or another place.
    pub what: Option<Cow<'static, str>>,
    /// Where its bytes begin, for formats that say so in the entry.
    pub(crate) place: Place,
    /// Its path from the top, where that is all there is to find it by.
    pub(crate) path: Option<Arc<Path>>,
}

/// The beginning of a file's bytes as its entry names it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Place {
    pub first: u32,
    /// The clusters follow each other; the table says nothing of them.
    pub contiguous: bool,
    /// Bytes that were written; the rest reads as zero.
    pub valid: u64,
}

impl Node {
    /// Something of which no more is known than this.
    pub fn plain(kind: NodeKind, size: u64, modified: Option<Time>) -> Self {
        Self {
            id: 0,
            kind,
            size,
            modified,
            accessed: None,
            created: None,
            mode: None,
            owner: None,
            links: 1,
            attributes: 0,
            what: None,
            place: Place::default(),
            path: None,
        }
    }
}

impl Node {
    /// Whether two nodes are the same in everything but where they lie.
    pub fn is_same_elsewhere(&self, other: &Self) -> bool {
        let facts =
            |node: &Self| (node.kind, node.size, node.modified, node.accessed, node.created, node.mode, node.owner, node.links, node.attributes);
        facts(self) == facts(other) && self.what == other.what
    }
}

/// An entry of a directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Its name.
    pub name: Name,
    /// What it names.
    pub node: Node,
}

/// What a directory holds, and what was broken in it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Listing {
    /// The entries in the order of the disk, without `.` and `..`.
    pub entries: Vec<Entry>,
    /// Faults.
    pub findings: Vec<Finding>,
}

impl Listing {
    /// Adds entries of which the names and the numbers are known. What the numbers name is read in their order, which is
    /// that of the disk: by the order of names a large directory would be read many times over.
    pub(crate) fn add(&mut self, found: Vec<(u64, Name)>, mut read: impl FnMut(u64, &Name) -> Result<Node>) {
        let mut order: Vec<usize> = (0..found.len()).collect();
        // The upper bits of an NTFS reference count how often its record was used.
        order.sort_by_key(|at| found[*at].0 & 0xffff_ffff_ffff);
        let mut nodes: Vec<Option<Node>> = vec![None; found.len()];
        for at in order {
            match read(found[at].0, &found[at].1) {
                Ok(node) => nodes[at] = Some(node),
                Err(finding) => self.findings.push(finding),
            }
        }
        self.entries.extend(found.into_iter().zip(nodes).filter_map(|((_, name), node)| Some(Entry { name, node: node? })));
    }
}

impl From<Finding> for Listing {
    /// A directory of which nothing could be read.
    fn from(finding: Finding) -> Self {
        Self { entries: Vec::new(), findings: vec![finding] }
    }
}

/// A stretch of a file: where it lies in the volume, or a hole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Piece {
    /// First byte within the volume; `None` for a hole, which reads as zero.
    pub at: Option<u64>,
    /// Bytes.
    pub len: u64,
}

/// A further stream of a file, beside its content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stream {
    /// Its name.
    pub name: Name,
    /// Bytes.
    pub size: u64,
}

/// How finely a format keeps its times, in nanoseconds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Resolution {
    /// Last change.
    pub modified: u64,
    /// Last reading.
    pub accessed: u64,
    /// Making.
    pub created: u64,
}
