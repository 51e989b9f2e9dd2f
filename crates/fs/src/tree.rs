//! One interface over all file systems that can be walked: entries with names, kinds, sizes, times, and their bytes.
//!
//! Reading only. A broken structure costs what it holds, not the volume: it becomes a [`Finding`] and the walk goes on.

use badger_drive::Source;
use serde::Serialize;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};

/// Something wrong in a volume. `code` is stable.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// Short stable name.
    pub code: &'static str,
    /// What and where.
    pub text: String,
}

impl Finding {
    pub(crate) fn new(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, text: text.into() }
    }
}

/// Why something could not be read.
pub type Result<T> = std::result::Result<T, Finding>;

/// A name as it stands on the disk and as it is shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Name {
    /// The bytes; for formats that keep UTF-16, its UTF-8 form.
    pub bytes: Vec<u8>,
    /// For people; bytes that are no text are shown as the replacement character.
    pub shown: String,
}

impl Name {
    pub(crate) fn from_bytes(bytes: &[u8]) -> Self {
        Self { bytes: bytes.to_vec(), shown: String::from_utf8_lossy(bytes).into_owned() }
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
    let (year, month, day) = (i64::from(date >> 9) + 1980, i64::from(date >> 5 & 15), i64::from(date & 31));
    if !(1..=12).contains(&month) || day == 0 {
        return None;
    }
    // Days since 1970 of the proleptic Gregorian calendar, years starting in March.
    let (y, m) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
    let days = y * 365 + y / 4 - y / 100 + y / 400 + (m * 153 + 2) / 5 + day - 719_469;
    Some(days * 86_400 + i64::from(time >> 11) * 3600 + i64::from(time >> 5 & 63) * 60 + i64::from(time & 31) * 2)
}

/// Adds a run of clusters to pieces, to the last one where it goes on from there.
pub(crate) fn push_piece(pieces: &mut Vec<Piece>, at: Option<u64>, len: u64) {
    match pieces.last_mut() {
        Some(last) if at.is_some() && last.at.map(|start| start + last.len) == at => last.len += len,
        Some(last) if at.is_none() && last.at.is_none() => last.len += len,
        _ => pieces.push(Piece { at, len }),
    }
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
    /// Attribute bits, where the format has them: read-only 1, hidden 2, system 4, archive 32.
    pub attributes: u32,
    /// Where its bytes begin, for formats that say so in the entry.
    pub(crate) place: Place,
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

/// A volume that can be walked.
pub trait FileSystem: Send + Sync {
    /// The directory everything starts from.
    fn root(&self) -> Result<Node>;

    /// The entries of a directory.
    fn list(&self, directory: &Node) -> Listing;

    /// Where a file's bytes lie, in order, up to its size. Data that lies inside a structure of the format has no
    /// pieces; [`FileSystem::read`] gives it all the same.
    fn pieces(&self, file: &Node) -> Result<Vec<Piece>>;

    /// Reads from byte `offset` of a file; gives how many bytes were read, 0 at its end.
    fn read(&self, file: &Node, offset: u64, buf: &mut [u8]) -> Result<usize>;

    /// The target of a symbolic link; a format without them has none to give.
    fn link(&self, _link: &Node) -> Result<Name> {
        Err(Finding::new("no-links", "this format has no symbolic links"))
    }

    /// Whether upper and lower case name different entries.
    fn is_case_sensitive(&self) -> bool;
}

/// Deepest directory that is followed.
pub const DEEPEST: usize = 512;

/// Finds a path, its parts divided by `/`, from the root on.
pub fn find(fs: &dyn FileSystem, path: &str) -> Result<Node> {
    let mut node = fs.root()?;
    for part in path.split('/').filter(|part| !part.is_empty()) {
        if node.kind != NodeKind::Directory {
            return Err(Finding::new("not-a-directory", format!("what comes before \"{part}\" in {path} is no directory")));
        }
        let same = |entry: &Entry| entry.name.shown == part || !fs.is_case_sensitive() && entry.name.shown.to_lowercase() == part.to_lowercase();
        node =
            fs.list(&node).entries.into_iter().find(same).ok_or_else(|| Finding::new("not-found", format!("there is no \"{part}\" in {path}")))?.node;
    }
    Ok(node)
}

/// Goes through everything below a directory, each directory before what is in it. `each` gets the path and the entry.
/// Directories that contain themselves are entered once.
pub fn walk(fs: &dyn FileSystem, from: Node, path: &str, each: &mut dyn FnMut(&str, &Entry)) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut seen = std::collections::HashSet::from([from.id]);
    let mut waiting = vec![(path.trim_end_matches('/').to_string(), from, 0)];
    while let Some((path, directory, depth)) = waiting.pop() {
        let listing = fs.list(&directory);
        findings.extend(listing.findings.into_iter().map(|finding| Finding { text: format!("{}/: {}", path, finding.text), ..finding }));
        let mut below = Vec::new();
        for entry in &listing.entries {
            let full = format!("{path}/{}", entry.name.shown);
            each(&full, entry);
            if entry.node.kind == NodeKind::Directory {
                if depth >= DEEPEST || !seen.insert(entry.node.id) {
                    findings.push(Finding::new("directory-loop", format!("{full} leads back to a directory above it, or is too deep")));
                    continue;
                }
                below.push((full, entry.node.clone(), depth + 1));
            }
        }
        waiting.extend(below.into_iter().rev());
    }
    findings
}

/// Reads through pieces that lie one after the other in a volume.
pub(crate) fn read_pieces(volume: &Cached, pieces: &[Piece], size: u64, offset: u64, buf: &mut [u8]) -> Result<usize> {
    let end = size.min(offset.saturating_add(buf.len() as u64));
    let (mut start, mut done) = (0u64, 0usize);
    for piece in pieces {
        let stop = start.saturating_add(piece.len);
        let at = offset + done as u64;
        if at < end && at < stop {
            let len = (stop.min(end) - at) as usize;
            let out = &mut buf[done..done + len];
            match piece.at {
                Some(place) => volume.read_into(place + (at - start), out)?,
                None => out.fill(0),
            }
            done += len;
        }
        start = stop;
    }
    Ok(done)
}

/// Bytes of one cached block, and how many are kept: 64 MiB at the most.
const BLOCK: u64 = 64 << 10;
const MOST_BLOCKS: usize = 1024;

/// A volume on a drive, read through a cache of limited size.
pub struct Cached {
    drive: Source,
    start: u64,
    len: u64,
    blocks: Mutex<Blocks>,
}

#[derive(Default)]
struct Blocks {
    held: HashMap<u64, (Arc<[u8]>, u64)>,
    turn: u64,
}

impl Cached {
    /// `len` bytes from byte `start` of a drive on.
    pub fn new(drive: Source, start: u64, len: u64) -> Self {
        let len = len.min(drive.geometry().size_bytes.saturating_sub(start));
        Self { drive, start, len, blocks: Mutex::default() }
    }

    /// Bytes of the volume.
    pub fn len(&self) -> u64 {
        self.len
    }

    /// Whether there is nothing at all.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    fn block(&self, number: u64) -> Result<Arc<[u8]>> {
        let mut blocks = self.blocks.lock().expect("cache lock");
        blocks.turn += 1;
        let turn = blocks.turn;
        if let Some((bytes, used)) = blocks.held.get_mut(&number) {
            *used = turn;
            return Ok(bytes.clone());
        }
        let at = number * BLOCK;
        let mut bytes = vec![0; BLOCK.min(self.len - at) as usize];
        self.drive.read_at(self.start + at, &mut bytes).map_err(|error| Finding::new("unreadable", error.to_string()))?;
        let bytes: Arc<[u8]> = bytes.into();
        if blocks.held.len() >= MOST_BLOCKS {
            // The older half goes at once, so that the search for it is rare.
            let mut turns: Vec<u64> = blocks.held.values().map(|(_, used)| *used).collect();
            turns.sort_unstable();
            let middle = turns[turns.len() / 2];
            blocks.held.retain(|_, (_, used)| *used > middle);
        }
        blocks.held.insert(number, (bytes.clone(), turn));
        Ok(bytes)
    }

    /// Fills `buf` from byte `at` of the volume.
    ///
    /// # Errors
    /// A finding where it lies outside or cannot be read.
    pub fn read_into(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        if at.checked_add(buf.len() as u64).is_none_or(|end| end > self.len) {
            return Err(Finding::new("outside", format!("byte {at} lies outside of the volume")));
        }
        // Large reads of file content would only push everything else out.
        if buf.len() as u64 >= 4 * BLOCK {
            return self.drive.read_at(self.start + at, buf).map_err(|error| Finding::new("unreadable", error.to_string()));
        }
        let mut done = 0;
        while done < buf.len() {
            let place = at + done as u64;
            let inner = (place % BLOCK) as usize;
            let len = (buf.len() - done).min(BLOCK as usize - inner);
            let out = &mut buf[done..done + len];
            match self.block(place / BLOCK) {
                Ok(block) => out.copy_from_slice(&block[inner..inner + len]),
                // Somewhere in the block is an unreadable place; it must not cost what lies beside it.
                Err(_) => self.drive.read_at(self.start + place, out).map_err(|error| Finding::new("unreadable", error.to_string()))?,
            }
            done += len;
        }
        Ok(())
    }

    /// `len` bytes at `at`, 16 MiB at the most.
    ///
    /// # Errors
    /// See [`Cached::read_into`].
    pub fn read(&self, at: u64, len: usize) -> Result<Vec<u8>> {
        if len > 16 << 20 {
            return Err(Finding::new("too-long", format!("a structure claims {len} bytes")));
        }
        let mut bytes = vec![0; len];
        self.read_into(at, &mut bytes)?;
        Ok(bytes)
    }
}
