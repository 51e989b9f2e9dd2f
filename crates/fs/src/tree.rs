//! One interface over all file systems that can be walked: entries with names, kinds, sizes, times, and their bytes.
//!
//! Reading only. A broken structure costs what it holds, not the volume: it becomes a [`Finding`] and the walk goes on.

use crate::cached::Cached;
use crate::content::Content;
use crate::resize::{Bounds, View, Wanted};
use crate::survey::Survey;
use serde::Serialize;
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Mutex;
use std::sync::mpsc::channel;

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// Good to know; nothing is lost by it.
    Note,
    /// Costs a file, or space; what is in use is still known.
    Fault,
    /// What is in use cannot be told from what is free.
    Grave,
}

/// Something wrong in a volume. `code` is stable.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// Short stable name.
    pub code: &'static str,
    /// What and where.
    pub text: String,
    /// How much it matters.
    pub weight: Weight,
    /// Byte of the volume, where one place can be named.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<u64>,
}

impl Finding {
    pub(crate) fn new(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, text: text.into(), weight: Weight::Fault, at: None }
    }

    pub(crate) fn note(code: &'static str, text: impl Into<String>) -> Self {
        Self { weight: Weight::Note, ..Self::new(code, text) }
    }

    pub(crate) fn grave(code: &'static str, text: impl Into<String>) -> Self {
        Self { weight: Weight::Grave, ..Self::new(code, text) }
    }

    /// A volume of `says` bytes in a place of `has`: what lies beyond is not there.
    pub(crate) fn longer(says: u64, has: u64) -> Option<Self> {
        let text = || format!("it says it is {} bytes longer than the place it lies in; what lies there cannot be read", says - has);
        (says > has).then(|| Self::grave("longer-than-place", text()))
    }

    pub(crate) fn at(self, byte: u64) -> Self {
        Self { at: Some(byte), ..self }
    }
}

/// Why something could not be read.
pub type Result<T> = std::result::Result<T, Finding>;

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
        if let Ok(shown) = String::from_utf16(units) {
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
    pub(crate) fn add(&mut self, found: Vec<(u64, Name)>, read: impl Fn(u64, &Name) -> Result<Node>) {
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

/// A volume that can be walked.
pub trait FileSystem: Send + Sync {
    /// The bytes it stands on.
    fn volume(&self) -> &Cached;

    /// The directory everything starts from.
    fn root(&self) -> Result<Node>;

    /// The entries of a directory.
    fn list(&self, directory: &Node) -> Listing;

    /// Opens a file's content, or one of its further streams by name.
    fn open(&self, file: &Node, stream: &str) -> Result<Content>;

    /// Opens what a volume holds of a file's content or stream, whether or not it can be understood: encrypted, or kept
    /// elsewhere. For comparing copies of volumes.
    fn stored(&self, file: &Node, stream: &str) -> Result<Content> {
        self.open(file, stream)
    }

    /// The streams of a file or directory beside its content; most formats have none.
    fn streams(&self, _node: &Node) -> Result<Vec<Stream>> {
        Ok(Vec::new())
    }

    /// Extended attributes: full name and value; most formats have none.
    fn attributes(&self, _node: &Node) -> Result<Vec<(String, Vec<u8>)>> {
        Ok(Vec::new())
    }

    /// The target of a symbolic link; a format without them has none to give.
    fn link(&self, _link: &Node) -> Result<Name> {
        Err(Finding::new("no-links", "this format has no symbolic links"))
    }

    /// Whether upper and lower case name different entries.
    fn is_case_sensitive(&self) -> bool {
        false
    }

    /// Whether two names are one by the format's rules.
    fn is_same_name(&self, a: &str, b: &str) -> bool {
        a == b || !self.is_case_sensitive() && a.to_uppercase() == b.to_uppercase()
    }

    /// How finely times are kept.
    fn resolution(&self) -> Resolution;

    /// Goes over every structure of the volume: what is in use and for what, and everything that is wrong.
    fn survey(&self) -> Survey;

    /// How small and how large the volume can become on a drive with sectors of `sector` bytes; `survey` is its own.
    ///
    /// # Errors
    /// Why it can only be copied as it is.
    fn bounds(&self, survey: &Survey, sector: u32) -> Result<Bounds>;

    /// Bytes that are free for files when the volume is `len` bytes long on sectors of `sector` bytes: without what the
    /// format's own tables take then. Lists of where files lie may grow and take a little of it.
    ///
    /// # Errors
    /// Why it can only be copied as it is.
    fn room(&self, survey: &Survey, len: u64, sector: u32) -> Result<u64>;

    /// The volume with another size or on other sectors; `survey` is its own.
    ///
    /// # Errors
    /// Why that cannot be; nothing was written anywhere.
    fn resized(&self, survey: &Survey, wanted: &Wanted) -> Result<View>;

    /// Reads from byte `offset` of a file; gives how many bytes were read, 0 at its end. For a single read only:
    /// whoever reads a file through opens it once.
    fn read(&self, file: &Node, offset: u64, buf: &mut [u8]) -> Result<usize> {
        self.open(file, "")?.read(self.volume(), offset, buf)
    }
}

/// Deepest directory that is followed.
pub const DEEPEST: usize = 512;

/// Finds a path, its parts divided by `/`, from the root on; names that are no text go by how they are shown.
pub fn find(fs: &dyn FileSystem, path: &str) -> Result<Node> {
    find_named(fs, path).map(|(node, _)| node)
}

/// The same, with the names on the way as they stand on the disk.
pub fn find_named(fs: &dyn FileSystem, path: &str) -> Result<(Node, Vec<Name>)> {
    let (mut node, mut names) = (fs.root()?, Vec::new());
    for part in path.split('/').filter(|part| !part.is_empty()) {
        if node.kind != NodeKind::Directory {
            return Err(Finding::new("not-a-directory", format!("what comes before \"{part}\" in {path} is no directory")));
        }
        let entries = fs.list(&node).entries;
        let exact = entries.iter().position(|entry| entry.name.shown == part);
        let found = exact.or_else(|| entries.iter().position(|entry| fs.is_same_name(&entry.name.shown, part)));
        let entry = found.map(|at| entries[at].clone()).ok_or_else(|| Finding::new("not-found", format!("there is no \"{part}\" in {path}")))?;
        node = entry.node;
        names.push(entry.name);
    }
    Ok((node, names))
}

/// So many entries have room on a volume: no format needs less than 8 bytes for one. A walk that meets more goes round.
pub fn most_entries(fs: &dyn FileSystem) -> u64 {
    fs.volume().len() / 8 + 4096
}

/// So many directories are read before their turn, by so many readers: what a drive needs to find one does not hold up the
/// others.
const AHEAD: usize = 8;
const READERS: usize = 3;

/// A directory that was met, and will be gone into.
struct Waiting {
    path: String,
    node: Node,
    depth: usize,
    number: u64,
    asked: bool,
}

/// Goes through everything below a directory, each directory before what is in it. `each` gets the path and the entry.
/// Directories that contain themselves are entered once. While `each` looks at one directory the next ones are read.
pub fn walk(fs: &dyn FileSystem, from: Node, path: &str, each: &mut dyn FnMut(&str, &Entry)) -> Vec<Finding> {
    walk_until(fs, from, path, &|| false, each)
}

/// The same, ended before its time where `stop` says so.
pub fn walk_until(fs: &dyn FileSystem, from: Node, path: &str, stop: &dyn Fn() -> bool, each: &mut dyn FnMut(&str, &Entry)) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut seen = HashSet::from([from.id]);
    let mut left = most_entries(fs);
    let (ask, asked) = channel::<(u64, Node)>();
    let asked = Mutex::new(asked);
    let (give, given) = channel::<(u64, Listing)>();
    std::thread::scope(|scope| {
        for _ in 0..READERS {
            let (asked, give) = (&asked, give.clone());
            scope.spawn(move || {
                loop {
                    let next = asked.lock().expect("queue lock").recv();
                    let Ok((number, directory)) = next else { return };
                    // Whoever waits for it must not wait for ever.
                    match catch_unwind(AssertUnwindSafe(|| fs.list(&directory))) {
                        Ok(listing) => {
                            if give.send((number, listing)).is_err() {
                                return;
                            }
                        }
                        Err(panic) => {
                            let _ = give.send((number, Listing::default()));
                            resume_unwind(panic);
                        }
                    }
                }
            });
        }
        drop(give);
        let mut waiting: Vec<Waiting> = Vec::new();
        // Listings that came before their turn.
        let mut early: HashMap<u64, Listing> = HashMap::new();
        let (mut number, mut asked_for) = (0, 0);
        let (mut path, mut depth, mut listing) = (path.trim_end_matches('/').to_string(), 0, fs.list(&from));
        loop {
            let found = std::mem::take(&mut listing.findings);
            findings.extend(found.into_iter().map(|finding| Finding { text: format!("{path}/: {}", finding.text), ..finding }));
            let Some(still) = left.checked_sub(listing.entries.len() as u64) else {
                let text = format!("{path}/: the directories name more entries than the volume has room for; what follows was not read");
                findings.push(Finding::grave("walk-budget", text));
                break;
            };
            left = still;
            let first = waiting.len();
            for entry in listing.entries.iter().filter(|entry| entry.node.kind == NodeKind::Directory) {
                let full = format!("{path}/{}", entry.name.shown);
                if depth >= DEEPEST || !seen.insert(entry.node.id) {
                    findings.push(Finding::new("directory-loop", format!("{full} leads back to a directory above it, or is too deep")));
                    continue;
                }
                number += 1;
                waiting.push(Waiting { path: full, node: entry.node.clone(), depth: depth + 1, number, asked: false });
            }
            waiting[first..].reverse();
            // Those whose turn comes next are read meanwhile.
            for next in waiting.iter_mut().rev().take(AHEAD).filter(|next| !next.asked).take(AHEAD.saturating_sub(asked_for)) {
                // Its answer is waited for below.
                let _ = ask.send((next.number, next.node.clone()));
                next.asked = true;
                asked_for += 1;
            }
            let next = waiting.pop();
            let mut full = format!("{path}/");
            let folder = full.len();
            for entry in &listing.entries {
                full.truncate(folder);
                full.push_str(&entry.name.shown);
                each(&full, entry);
            }
            let Some(next) = next.filter(|_| !stop()) else { break };
            (path, depth) = (next.path, next.depth);
            listing = if next.asked {
                asked_for -= 1;
                loop {
                    if let Some(listing) = early.remove(&next.number) {
                        break listing;
                    }
                    let Ok((number, listing)) = given.recv() else { break Listing::default() };
                    early.insert(number, listing);
                }
            } else {
                fs.list(&next.node)
            };
        }
        drop(ask);
    });
    findings
}
