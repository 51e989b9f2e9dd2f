//! Copying files and whole folders out of a volume.
//!
//! Three threads overlap: one walks and reads, one writes, one reads back and names. A file gets its name only when it
//! was read back equal, so whatever ends a copy, a file that is there is whole.

use crate::beneath::Beneath;
use crate::journal::{Done, Journal, Kept, Line, Way};
use crate::names::{self, Holds};
use crate::place;
use crate::write::{self, Job, Missing, Outcome, Piece};
use badger_drive::Sysfs;
use badger_drive::buffer::Pool;
use badger_drive::clock::Clock;
use badger_drive::ground::Footing;
use badger_drive::{Control, Refusal};
use badger_fs::tree::{self, DEEPEST, Entry, Node, NodeKind, Time};
use badger_fs::{Content, Origin, Tree};
use rustix::fs::{FileType, Mode, XattrFlags};
use serde::Serialize;
use sha2::{Digest, Sha256};
use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, SyncSender, channel, sync_channel};

/// Bytes of one transfer, and how many are in flight.
const CHUNK: usize = 2 << 20;
const BUFFERS: usize = 12;
/// So much is written before it is read back: bytes, files.
const BATCH_BYTES: u64 = 192 << 20;
const BATCH_FILES: usize = 4096;
/// So many lines of each kind are kept for the report; the lists at the destination hold all.
const MOST_LINES: usize = 1000;

/// What is done where something is there already.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Collision {
    /// What is there stays.
    Skip,
    /// The new one gets a number.
    KeepBoth,
    /// The new one takes the place of an older one.
    ReplaceIfNewer,
    /// Somebody is asked each time.
    Ask,
}

/// Two files that want one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clash {
    /// The name, relative to the destination.
    pub to: PathBuf,
    /// Bytes and time of what is there.
    pub there: (u64, Option<Time>),
    /// Bytes and time of what comes.
    pub comes: (u64, Option<Time>),
}

/// What is asked for.
pub struct Order<'a> {
    /// Where they are.
    pub tree: &'a dyn Tree,
    /// Names it among all, for the journal.
    pub key: String,
    /// Paths from the top of the tree.
    pub picks: Vec<String>,
    /// The destination; made where it is not there.
    pub into: PathBuf,
    /// Where something is there already.
    pub collision: Collision,
    /// Asked where [`Collision::Ask`] is set; gives one of the others.
    pub ask: &'a (dyn Fn(&Clash) -> Collision + Sync),
}

/// What a copy reports while it goes on. Amounts are bytes, times seconds since it began.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(tag = "event", rename_all = "lowercase")]
pub enum Event {
    /// So much lies ahead.
    Begin {
        /// Files.
        files: u64,
        /// Bytes.
        bytes: u64,
    },
    /// Bytes were read.
    Moved {
        /// How many.
        len: u64,
        /// When.
        at: f64,
    },
    /// A file is there and proved.
    File {
        /// Where, relative to the destination.
        path: String,
        /// Its bytes.
        bytes: u64,
    },
}

/// Takes the reports of a copy.
pub trait Observer: Send + Sync {
    /// One report.
    fn event(&self, event: &Event);
}

impl<F: Fn(&Event) + Send + Sync> Observer for F {
    fn event(&self, event: &Event) {
        self(event);
    }
}

/// A file of which something, or all, could not be had.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Lost {
    /// Its path in the volume.
    pub path: String,
    /// Why.
    pub why: String,
    /// What of it is zero at the destination: start and length in bytes. Empty where all is missing, or where it changed while
    /// it was read.
    pub stretches: Vec<(u64, u64)>,
}

/// How a copy ended.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Report {
    /// `proved`, `incomplete` or `interrupted`.
    pub outcome: &'static str,
    /// Files at the destination that were read back equal, those of an earlier run among them.
    pub files: u64,
    /// Folders.
    pub directories: u64,
    /// Symbolic and hard links.
    pub links: u64,
    /// Bytes of the files.
    pub bytes: u64,
    /// Files among them that were there before: brought by an earlier run, or found equal.
    pub resumed: u64,
    /// What could not be read; the first of them.
    pub lost: Vec<Lost>,
    /// How many there are.
    pub lost_count: u64,
    /// Names that were changed: in the volume, at the destination.
    pub renamed: Vec<(String, String)>,
    /// What was there already and stayed.
    pub skipped: Vec<String>,
    /// How many stayed.
    pub skipped_count: u64,
    /// What the destination cannot hold.
    pub not_held: Vec<String>,
    /// The list of checksums.
    pub manifest: Option<PathBuf>,
    /// The list of everything else, where there is anything.
    pub list: Option<PathBuf>,
    /// Seconds.
    pub seconds: f64,
    /// Why it is not proved.
    pub reason: String,
}

/// What ended a copy before its time.
enum Break {
    Stopped,
    Failed(io::Error),
}

impl From<io::Error> for Break {
    fn from(error: io::Error) -> Self {
        Self::Failed(error)
    }
}

/// Something picked: its path in the volume, its node, and where it goes.
struct Pick {
    path: Vec<u8>,
    node: Node,
    to: PathBuf,
}

/// Where each pick goes: under its own name, or, where two have the same, under its whole path.
fn picks(order: &Order, holds: Holds) -> Result<Vec<Pick>, Refusal> {
    let refused = |finding: badger_fs::Finding| Refusal::new(finding.code, finding.text);
    let trimmed: Vec<&str> = order.picks.iter().map(|path| path.trim_matches('/')).collect();
    let last = |path: &str| path.rsplit('/').next().unwrap_or_default().to_lowercase();
    let twins = trimmed.iter().enumerate().any(|(at, path)| trimmed[..at].iter().any(|other| last(other) == last(path)));
    let each = trimmed.iter().map(|path| {
        let (node, found) = tree::find_named(order.tree, path).map_err(refused)?;
        let kept = if twins { &found[..] } else { &found[found.len().saturating_sub(1)..] };
        let to = kept.iter().map(|name| OsStr::from_bytes(&names::held(&name.bytes, holds)).to_os_string()).collect();
        let path = if found.is_empty() { b"/".to_vec() } else { found.iter().flat_map(|name| [b"/", &name.bytes[..]].concat()).collect() };
        Ok(Pick { path, node, to })
    });
    each.collect()
}

/// Copies what is picked, proves every file, and writes a manifest.
///
/// # Errors
/// A refusal before anything was written: the destination lies on the source, has no room, or a pick is not there.
pub fn copy_out(order: &Order, sysfs: &Sysfs, control: &Control, clock: &dyn Clock, observer: &dyn Observer) -> Result<Report, Refusal> {
    place::refuse_source(&order.into, order.tree, sysfs)?;
    let holds = place::holds(&order.into);
    let picks = picks(order, holds)?;
    let (files, bytes) = totals(order.tree, &picks, control);
    let unwritable = |error: io::Error| {
        let text = format!("{} cannot be written: {error}; make it writable, or take another place", order.into.display());
        Refusal::new("destination", text)
    };
    let beneath = Beneath::new(&order.into).map_err(unwritable)?;
    // Looked at again on what is open: that is where everything goes.
    place::refuse_opened(beneath.root(), &order.into, order.tree, sysfs)?;
    let taken = brought(order.tree, &picks, holds);
    let begin = Line::Begin { version: 2, source: order.key.clone(), picks: order.picks.clone() };
    let (mut journal, done) = Journal::open(&beneath, &begin, &taken).map_err(unwritable)?;
    let before = done.values().fold(0u64, |sum, kept| sum.saturating_add(kept.size));
    let free = place::free(&order.into).unwrap_or(u64::MAX);
    if free < bytes.saturating_sub(before) {
        let missing = badger_drive::size::human(bytes.saturating_sub(before) - free);
        let text = format!("{} has {missing} too little room for what is picked: pick less or take another place", order.into.display());
        return Err(Refusal::new("destination-full", text));
    }
    let parts = journal.parts();
    observer.event(&Event::Begin { files, bytes });
    let began = clock.now();
    let pool = Pool::new(BUFFERS, CHUNK);
    let (to_writer, from_reader) = sync_channel(BUFFERS);
    let (to_settler, from_writer) = sync_channel(2);
    let (tell, told) = channel();
    let as_root = rustix::process::geteuid().is_root();
    let mut walker = Walker {
        order,
        beneath: &beneath,
        holds,
        control,
        clock,
        began,
        observer,
        pool: &pool,
        done: &done,
        send: to_writer,
        told,
        batch: Vec::new(),
        batch_bytes: 0,
        reserved: HashSet::new(),
        folders: Vec::new(),
        soft: Vec::new(),
        hard: Vec::new(),
        firsts: HashMap::new(),
        report: Report::default(),
    };
    let outcome = std::thread::scope(|scope| {
        let (beneath, parts, pool, journal) = (&beneath, &parts, &pool, &mut journal);
        let writing =
            scope.spawn(move || drain(&from_reader, pool, |pieces| write::write(beneath, parts, pieces, pool, &to_settler, as_root, control)));
        let settling = scope.spawn(move || write::settle(beneath, holds, &from_writer, journal, &tell, control));
        let walked = walker.walk(picks);
        let (report, folders, soft, hard) = walker.end();
        let written = writing.join().expect("the writer does not panic");
        let settled = settling.join().expect("the one who reads back does not panic");
        // Where one end failed, the walker only noticed that nobody listens any more.
        let finished = settled.and(written).map_err(Break::Failed).and(walked);
        (report, folders, soft, hard, finished)
    });
    let (mut report, folders, soft, hard, finished) = outcome;
    let last = Last { beneath: &beneath, parts: &parts, control, as_root };
    let finished = finished.and_then(|()| last.links_and_times(&folders, soft, hard, &mut journal, &mut report));
    report.seconds = clock.now().saturating_sub(began).as_secs_f64();
    match finished.and_then(|()| Ok(journal.finish(&beneath, &taken)?)) {
        Ok((manifest, list)) => {
            let full = |name: PathBuf| order.into.join(name);
            (report.manifest, report.list) = (manifest.map(full), list.map(full));
            report.outcome = if report.lost_count > 0 { "incomplete" } else { "proved" };
            if report.skipped_count > 0 {
                report.reason = format!("{} were there already and stayed as they are", report.skipped_count);
            }
            if report.lost_count > 0 {
                report.reason = format!("{} could not be had whole", report.lost_count);
            }
        }
        Err(_) if control.is_stopped() => (report.outcome, report.reason) = ("interrupted", "stopped; give the same command again to go on".into()),
        Err(Break::Stopped) => (report.outcome, report.reason) = ("interrupted", "broken off; give the same command again to go on".into()),
        Err(Break::Failed(error)) => {
            report.outcome = "interrupted";
            report.reason = format!("{}: {error}; make it good and give the same command again to go on", order.into.display());
        }
    }
    Ok(report)
}

/// The names that a copy brings right under the destination, in lower case: those are never taken for our own files.
fn brought(tree: &dyn Tree, picks: &[Pick], holds: Holds) -> HashSet<Vec<u8>> {
    let mut names = HashSet::new();
    let mut add = |name: &[u8]| _ = names.insert(name.to_ascii_lowercase());
    for pick in picks {
        match pick.to.iter().next() {
            Some(first) => add(first.as_bytes()),
            None => tree.list(&pick.node).entries.iter().for_each(|entry| add(&names::held(&entry.name.bytes, holds))),
        }
    }
    names
}

/// Runs the writer; after a failure it takes what still comes, so that the reader never waits for its buffers.
fn drain(pieces: &Receiver<Piece>, pool: &Pool, run: impl FnOnce(&Receiver<Piece>) -> io::Result<()>) -> io::Result<()> {
    let outcome = run(pieces);
    for piece in pieces {
        if let Piece::Data { buffer, .. } = piece {
            pool.give(buffer);
        }
    }
    outcome
}

/// Files longer than this may be mostly holes, which need no room.
const SPARSE: u64 = 1 << 30;

/// No format holds a larger file: NTFS, the most generous of them, ends at 2^53 bytes.
const IMPLAUSIBLE: u64 = 1 << 53;

/// Bytes of a file that lie somewhere.
fn held(tree: &dyn Tree, node: &Node) -> u64 {
    let Ok(content) = tree.open(node, "") else { return 0 };
    if content.is_packed() {
        content.size()
    } else if content.pieces().is_empty() {
        // Of a file of this machine the system tells only where its holes are.
        let (mut at, mut bytes) = (0, 0);
        while at < content.size() {
            let here = content.until_hole(at, u64::MAX);
            bytes += here;
            at = at.saturating_add(here.max(content.hole(at)).max(1));
        }
        bytes
    } else {
        content.pieces().iter().filter(|piece| piece.at.is_some()).fold(0, |sum, piece| sum.saturating_add(piece.len))
    }
}

/// Files and bytes of everything picked.
fn totals(tree: &dyn Tree, picks: &[Pick], control: &Control) -> (u64, u64) {
    let (mut files, mut bytes) = (0, 0);
    let mut count = |node: &Node| {
        if node.kind == NodeKind::File {
            files += 1;
            bytes = u64::saturating_add(bytes, if node.size > SPARSE { held(tree, node) } else { node.size });
        }
    };
    for pick in picks {
        if control.is_stopped() {
            break;
        }
        count(&pick.node);
        if pick.node.kind == NodeKind::Directory {
            tree::walk_until(tree, pick.node.clone(), "", &|| control.is_stopped(), &mut |_, entry| count(&entry.node));
        }
    }
    (files, bytes)
}

/// A folder whose attributes and times are set when everything is in it.
struct Folder {
    from: Way,
    to: PathBuf,
    node: Node,
    attributes: Vec<(String, Vec<u8>)>,
}

/// A symbolic link: its source, where it goes, what it says, its node.
type Soft = (Way, PathBuf, Vec<u8>, Node);
/// A further name of a file: its source, where it goes, the source of the first one.
type Hard = (Way, PathBuf, Way);

/// What becomes of a file at the destination.
enum Settled {
    /// It gets this name, and replaces what has it.
    To(PathBuf, bool),
    /// It is there already, and equal.
    There,
    /// It is not copied.
    Not,
}

struct Walker<'a> {
    order: &'a Order<'a>,
    beneath: &'a Beneath,
    holds: Holds,
    control: &'a Control,
    clock: &'a dyn Clock,
    began: std::time::Duration,
    observer: &'a dyn Observer,
    pool: &'a Pool,
    done: &'a Done,
    send: SyncSender<Piece>,
    told: Receiver<Outcome>,
    batch: Vec<(Job, Content<'a>, u64)>,
    batch_bytes: u64,
    /// Names given in this run that may not be there yet.
    reserved: HashSet<PathBuf>,
    folders: Vec<Folder>,
    soft: Vec<Soft>,
    hard: Vec<Hard>,
    /// Files with several names: the first one met.
    firsts: HashMap<u64, Way>,
    report: Report,
}

impl<'a> Walker<'a> {
    fn note(&mut self, line: Line) -> Result<(), Break> {
        match &line {
            Line::Lost { from, why, stretches } => {
                self.report.lost_count += 1;
                let lost = Lost { path: from.to_string(), why: why.clone(), stretches: stretches.clone() };
                push(&mut self.report.lost, lost);
            }
            Line::Name { from, to } => {
                let pair = (from.to_string(), to.to_string());
                push(&mut self.report.renamed, pair);
            }
            Line::Skipped { from, why } => {
                self.report.skipped_count += 1;
                let text = format!("{from}: {why}");
                push(&mut self.report.skipped, text);
            }
            Line::NotHeld { from, what } => {
                let text = format!("{from}: {what}");
                push(&mut self.report.not_held, text);
            }
            Line::Begin { .. } | Line::Room { .. } | Line::File { .. } => {}
        }
        self.send(Piece::Note(line))
    }

    fn send(&self, piece: Piece) -> Result<(), Break> {
        // The writer's own end says what went wrong with it.
        self.send.send(piece).map_err(|_| Break::Stopped)
    }

    fn go_on(&self) -> Result<(), Break> {
        if self.control.go_on() { Ok(()) } else { Err(Break::Stopped) }
    }

    fn walk(&mut self, picks: Vec<Pick>) -> Result<(), Break> {
        for pick in picks {
            // The folders above a pick are only ways to it.
            let to = match (pick.to.parent(), pick.to.file_name()) {
                (Some(parent), Some(name)) => {
                    let Some(parent) = self.ways(&Way::new(&pick.path), parent)? else { continue };
                    parent.join(name)
                }
                _ => pick.to,
            };
            if pick.node.kind == NodeKind::Directory {
                self.folder(pick.path, pick.node, to)?;
            } else {
                self.entry(&pick.path, &pick.node, to)?;
            }
        }
        self.flush()
    }

    /// Makes the folders that lead to a pick; where they go in truth, or `None` where one cannot be made.
    fn ways(&mut self, way: &Way, path: &Path) -> Result<Option<PathBuf>, Break> {
        let mut at = PathBuf::new();
        for name in path {
            match self.make_folder(way, at.join(name))? {
                Some(made) => at = made,
                None => return Ok(None),
            }
        }
        Ok(Some(at))
    }

    fn folder(&mut self, path: Vec<u8>, node: Node, to: PathBuf) -> Result<(), Break> {
        let mut seen = HashSet::from([node.id]);
        let mut waiting = vec![(path, node, to, 0)];
        let mut left = self.order.tree.most_entries();
        while let Some((path, node, to, depth)) = waiting.pop() {
            self.go_on()?;
            let way = Way::new(&path);
            self.report.directories += 1;
            let Some(to) = self.make_folder(&way, to)? else { continue };
            let listing = self.order.tree.list(&node);
            for finding in listing.findings {
                let why = finding.text;
                self.note(Line::Lost { from: way.clone(), why, stretches: Vec::new() })?;
            }
            let mut attributes = self.attributes(&way, &node)?;
            self.streams(&way, &node, &to, &mut attributes)?;
            self.folders.push(Folder { from: way.clone(), to: to.clone(), node, attributes });
            let Some(still) = left.checked_sub(listing.entries.len() as u64) else {
                let why = "the directories name more entries than the volume has room for; what follows was not copied".to_string();
                return self.note(Line::Lost { from: way, why, stretches: Vec::new() });
            };
            left = still;
            let mut below = Vec::new();
            for Entry { name, node } in listing.entries {
                let held = names::held(&name.bytes, self.holds);
                let (full, to) = ([&path[..], b"/", &name.bytes].concat(), to.join(OsStr::from_bytes(&held)));
                if held != name.bytes {
                    self.note(Line::Name { from: Way::new(&full), to: Way::new(to.as_os_str().as_bytes()) })?;
                }
                if node.kind != NodeKind::Directory {
                    self.entry(&full, &node, to)?;
                } else if depth < DEEPEST && seen.insert(node.id) {
                    below.push((full, node, to, depth + 1));
                } else {
                    let why = "it leads back to a folder above it, or is too deep".to_string();
                    self.note(Line::Lost { from: Way::new(&full), why, stretches: Vec::new() })?;
                }
            }
            waiting.extend(below.into_iter().rev());
        }
        Ok(())
    }

    /// Makes a folder, or takes the one that is there; never one behind a link. `None` where it cannot be made: that costs
    /// it and what is in it, and nothing else.
    fn make_folder(&mut self, way: &Way, to: PathBuf) -> Result<Option<PathBuf>, Break> {
        if to.as_os_str().is_empty() {
            return Ok(Some(to));
        }
        for number in 1..u32::MAX {
            let to = names::numbered_path(&to, number, self.holds);
            let made = match self.beneath.stat(&to) {
                Ok(stat) if FileType::from_raw_mode(stat.st_mode).is_dir() => Ok(()),
                Ok(_) => continue,
                Err(error) if error.kind() == io::ErrorKind::NotFound => self.beneath.make_dir(&to, 0o755),
                Err(error) => Err(error),
            };
            match made {
                Ok(()) => {}
                Err(error) if write::costs_itself(&error) => {
                    let why = format!("{}; nothing of what is in this folder was copied", write::refused(&error));
                    self.note(Line::Lost { from: way.clone(), why, stretches: Vec::new() })?;
                    return Ok(None);
                }
                Err(error) => return Err(error.into()),
            }
            if number > 1 {
                self.note(Line::Name { from: way.clone(), to: Way::new(to.as_os_str().as_bytes()) })?;
            }
            return Ok(Some(to));
        }
        Ok(None)
    }

    fn entry(&mut self, path: &[u8], node: &Node, to: PathBuf) -> Result<(), Break> {
        let way = Way::new(path);
        match node.kind {
            NodeKind::Link => match self.order.tree.link(node) {
                Ok(target) => {
                    self.soft.push((way, to, target.bytes, node.clone()));
                    Ok(())
                }
                Err(finding) => self.note(Line::Lost { from: way, why: finding.text, stretches: Vec::new() }),
            },
            NodeKind::Other | NodeKind::Directory => {
                let what = node.what.as_deref().unwrap_or("device, pipe or socket");
                self.note(Line::NotHeld { from: way, what: format!("it is no file: {what}") })
            }
            NodeKind::File => {
                if node.links > 1 {
                    match self.firsts.get(&node.id) {
                        Some(first) => {
                            self.hard.push((way, to, first.clone()));
                            return Ok(());
                        }
                        None => _ = self.firsts.insert(node.id, way.clone()),
                    }
                }
                self.file(way, node, to)
            }
        }
    }

    fn file(&mut self, way: Way, node: &Node, to: PathBuf) -> Result<(), Break> {
        self.go_on()?;
        if let Some(there) = self.kept(&way, node, node.size) {
            // An earlier run may have ended between a file and what lies beside it.
            return self.streams(&way, node, &there, &mut Vec::new());
        }
        if node.size > IMPLAUSIBLE {
            let why = format!("its size of {} bytes cannot be: its entry is damaged", badger_drive::size::thousands(node.size));
            return self.note(Line::Lost { from: way, why, stretches: Vec::new() });
        }
        let mut attributes = self.attributes(&way, node)?;
        let (to, replaces) = match self.settle_name(&way, node, ("", node.size), to.clone())? {
            Settled::To(to, replaces) => (to, replaces),
            Settled::There => return self.streams(&way, node, &to, &mut attributes),
            Settled::Not => return Ok(()),
        };
        self.streams(&way, node, &to, &mut attributes)?;
        match self.order.tree.open(node, "") {
            Ok(content) => {
                let size = content.size();
                self.add(self.job(way, node, to, size, replaces, attributes), content)
            }
            Err(finding) => self.note(Line::Lost { from: way, why: finding.text, stretches: Vec::new() }),
        }
    }

    /// Where a file or stream of `size` bytes lies since an earlier run; it counts as copied.
    fn kept(&mut self, way: &Way, node: &Node, size: u64) -> Option<PathBuf> {
        let kept = self.done.get(way).filter(|kept| !kept.holed && is_still_there(self.beneath, kept))?;
        let time = node.modified.map(|time| (time.seconds, time.nanos));
        if kept.size != size || time.is_some_and(|time| time != kept.modified) {
            return None;
        }
        let there = PathBuf::from(OsStr::from_bytes(kept.to.bytes()));
        self.count_there(size);
        Some(there)
    }

    /// Counts what an earlier run brought.
    fn count_there(&mut self, size: u64) {
        self.report.resumed += 1;
        self.report.files += 1;
        self.report.bytes += size;
        self.observer.event(&Event::Moved { len: size, at: self.seconds() });
    }

    /// Extended attributes that travel. What lets a program run as somebody else does not.
    fn attributes(&mut self, way: &Way, node: &Node) -> Result<Vec<(String, Vec<u8>)>, Break> {
        let mut attributes = match self.order.tree.attributes(node) {
            Ok(attributes) => attributes,
            Err(finding) => {
                let what = format!("its attributes, which cannot be read: {}", finding.text);
                self.note(Line::NotHeld { from: way.clone(), what })?;
                return Ok(Vec::new());
            }
        };
        let all = attributes.len();
        attributes.retain(|(name, _)| name != "security.capability");
        if attributes.len() < all {
            self.note(Line::NotHeld { from: way.clone(), what: "its right to run with more rights than whoever starts it".into() })?;
        }
        Ok(attributes)
    }

    /// The streams of a file or folder: short ones become attributes, longer ones files beside it.
    fn streams(&mut self, way: &Way, node: &Node, to: &Path, attributes: &mut Vec<(String, Vec<u8>)>) -> Result<(), Break> {
        let streams = match self.order.tree.streams(node) {
            Ok(streams) => streams,
            Err(finding) => return self.note(Line::Lost { from: way.clone(), why: finding.text, stretches: Vec::new() }),
        };
        for stream in streams {
            let from = Way::new(&[way.bytes(), b":", &stream.name.bytes].concat());
            let content = match self.order.tree.open(node, &stream.name.shown) {
                Ok(content) => content,
                Err(finding) => {
                    self.note(Line::Lost { from, why: finding.text, stretches: Vec::new() })?;
                    continue;
                }
            };
            if stream.size <= 3000 && self.holds == Holds::Bytes {
                let mut value = vec![0; stream.size as usize];
                match content.read(0, &mut value) {
                    Ok(_) => attributes.push((format!("user.{}", stream.name.shown), value)),
                    Err(finding) => self.note(Line::Lost { from, why: finding.text, stretches: Vec::new() })?,
                }
                continue;
            }
            if self.kept(&from, node, stream.size).is_some() {
                continue;
            }
            let name = [to.file_name().unwrap_or_default().as_bytes(), b":", &stream.name.bytes].concat();
            let beside = to.with_file_name(OsStr::from_bytes(&names::held(&name, self.holds)));
            let settled = self.settle_name(&from, node, (&stream.name.shown, stream.size), beside.clone())?;
            let Settled::To(to, replaces) = settled else { continue };
            if to == beside {
                self.note(Line::Name { from: from.clone(), to: Way::new(beside.as_os_str().as_bytes()) })?;
            }
            self.add(self.job(from, node, to, stream.size, replaces, Vec::new()), content)?;
        }
        Ok(())
    }

    fn job(&self, from: Way, node: &Node, to: PathBuf, size: u64, replaces: bool, attributes: Vec<(String, Vec<u8>)>) -> Job {
        let mode = node.mode.unwrap_or(if node.attributes & 1 != 0 { 0o444 } else { 0o644 });
        Job { from, to, size, modified: node.modified, accessed: node.accessed, mode, owner: node.owner, attributes, replaces, lost: None }
    }

    /// The name a file, or a stream of one with its length, gets by what is there already.
    fn settle_name(&mut self, way: &Way, node: &Node, (stream, len): (&str, u64), to: PathBuf) -> Result<Settled, Break> {
        let Ok(there) = self.beneath.stat(&to) else {
            if self.reserved.insert(to.clone()) {
                return Ok(Settled::To(to, false));
            }
            return self.numbered(way, &to);
        };
        // A file of this same copy that has a hole, or has changed on the source since, is written anew.
        if self.done.get(way).is_some_and(|kept| kept.to.bytes() == to.as_os_str().as_bytes()) {
            return Ok(Settled::To(to, true));
        }
        let is_file = FileType::from_raw_mode(there.st_mode).is_file();
        let (size, seconds) = (there.st_size as u64, there.st_mtime);
        let clash = Clash { to: to.clone(), there: (size, Some(Time { seconds, nanos: there.st_mtime_nsec as u32 })), comes: (len, node.modified) };
        // What an earlier copy brought is compared, not believed.
        let same_time = node.modified.is_none_or(|time| (time.seconds - seconds).abs() <= 2);
        if is_file && size == len && same_time && self.is_equal(way, node, stream, &to)? {
            return Ok(Settled::There);
        }
        let how = if self.order.collision == Collision::Ask { (self.order.ask)(&clash) } else { self.order.collision };
        match how {
            Collision::KeepBoth => self.numbered(way, &to),
            // A file that the drive itself lies in goes by no name.
            Collision::ReplaceIfNewer if self.is_source(&there) => {
                self.note(Line::Skipped { from: way.clone(), why: format!("{} is the drive that is read", to.display()) })?;
                Ok(Settled::Not)
            }
            Collision::ReplaceIfNewer if is_file && clash.comes.1 > clash.there.1 => Ok(Settled::To(to, true)),
            Collision::ReplaceIfNewer => {
                self.note(Line::Skipped { from: way.clone(), why: format!("{} is there and not older", to.display()) })?;
                Ok(Settled::Not)
            }
            Collision::Skip | Collision::Ask => {
                self.note(Line::Skipped { from: way.clone(), why: format!("{} is there already", to.display()) })?;
                Ok(Settled::Not)
            }
        }
    }

    /// Whether something at the destination is, or carries, the drive that is read.
    fn is_source(&self, there: &rustix::fs::Stat) -> bool {
        let footing = Footing::File { device: there.st_dev, inode: there.st_ino };
        let Origin::Volume(volume) = self.order.tree.origin() else { return false };
        volume.volume().drive().ground().layers.iter().any(|layer| layer.footing == footing)
    }

    /// Compares a file that is there with what would come, byte for byte; where they are equal it counts as there and
    /// proved.
    fn is_equal(&mut self, way: &Way, node: &Node, stream: &str, to: &Path) -> Result<bool, Break> {
        let (Ok(content), Ok(file)) = (self.order.tree.open(node, stream), self.beneath.read(to)) else { return Ok(false) };
        let size = content.size();
        let (mut comes, mut there) = (self.pool.take(), vec![0; CHUNK]);
        let (mut sha256, mut at, mut equal) = (Sha256::new(), 0, true);
        while equal && at < content.size() {
            if !self.control.go_on() {
                self.pool.give(comes);
                return Err(Break::Stopped);
            }
            self.control.hold_back(CHUNK as u64, self.clock);
            let len = CHUNK.min((content.size() - at) as usize);
            equal = match content.read(at, &mut comes[..len]) {
                Ok(count) if count > 0 => {
                    let same = file.read_exact_at(&mut there[..count], at).is_ok() && there[..count] == comes[..count];
                    sha256.update(&comes[..count]);
                    at += count as u64;
                    same
                }
                _ => false,
            };
        }
        self.pool.give(comes);
        if equal {
            let modified = node.modified.map_or((0, 0), |time| (time.seconds, time.nanos));
            let to = Way::new(to.as_os_str().as_bytes());
            self.note(Line::File { from: way.clone(), to, size, modified, sha256: write::hex(sha256) })?;
            self.count_there(size);
        }
        Ok(equal)
    }

    fn numbered(&mut self, way: &Way, to: &Path) -> Result<Settled, Break> {
        let all = (2..u32::MAX).map(|number| names::numbered_path(to, number, self.holds));
        let free = |to: &PathBuf| !self.beneath.has(to) && !self.reserved.contains(to);
        let to = all.into_iter().find(free).unwrap_or_else(|| to.to_path_buf());
        self.reserved.insert(to.clone());
        self.note(Line::Name { from: way.clone(), to: Way::new(to.as_os_str().as_bytes()) })?;
        Ok(Settled::To(to, false))
    }

    fn add(&mut self, job: Job, content: Content<'a>) -> Result<(), Break> {
        self.batch_bytes = self.batch_bytes.saturating_add(job.size.min(BATCH_BYTES));
        let begin = content.pieces().iter().find_map(|piece| piece.at).unwrap_or(0);
        self.batch.push((job, content, begin));
        if self.batch_bytes >= BATCH_BYTES || self.batch.len() >= BATCH_FILES {
            self.flush()?;
        }
        Ok(())
    }

    /// Reads the batch in the order in which it lies on the drive.
    fn flush(&mut self) -> Result<(), Break> {
        let mut batch = std::mem::take(&mut self.batch);
        self.batch_bytes = 0;
        batch.sort_by_key(|(.., begin)| *begin);
        for (job, content, _) in batch {
            let from = job.from.clone();
            self.send(Piece::Begin(Box::new(job)))?;
            let lost = self.content(&content)?;
            if let Some((why, stretches)) = &lost {
                self.report.lost_count += 1;
                let entry = Lost { path: from.to_string(), why: why.clone(), stretches: stretches.clone() };
                push(&mut self.report.lost, entry);
            }
            self.send(Piece::End { lost })?;
        }
        self.send(Piece::Settle)?;
        let beneath = self.beneath;
        self.reserved.retain(|to| !beneath.has(to));
        self.hear(false);
        Ok(())
    }

    fn content(&mut self, content: &Content) -> Result<Option<Missing>, Break> {
        let (mut at, mut lost, mut why) = (0, Vec::new(), None);
        while at < content.size() {
            self.go_on()?;
            let hole = content.hole(at);
            if hole > 0 {
                at += hole;
                self.observer.event(&Event::Moved { len: hole, at: self.seconds() });
                continue;
            }
            let mut buffer = self.pool.take();
            let len = content.until_hole(at, CHUNK as u64) as usize;
            self.control.hold_back(len as u64, self.clock);
            let count = match content.read(at, &mut buffer[..len]) {
                Ok(count) => count,
                Err(finding) => {
                    why.get_or_insert(finding.text);
                    content.read_hard(at, &mut buffer[..len], &mut lost)
                }
            };
            if count == 0 {
                self.pool.give(buffer);
                break;
            }
            self.send(Piece::Data { offset: at, len: count, buffer })?;
            at += count as u64;
            self.observer.event(&Event::Moved { len: count as u64, at: self.seconds() });
        }
        if lost.is_empty() {
            return Ok(content.settled().err().map(|finding| (finding.text, lost)));
        }
        Ok(why.map(|why| (why, lost)))
    }

    fn seconds(&self) -> f64 {
        self.clock.now().saturating_sub(self.began).as_secs_f64()
    }

    /// Takes in what was proved meanwhile.
    fn hear(&mut self, to_the_end: bool) {
        loop {
            let outcome = if to_the_end { self.told.recv().ok() } else { self.told.try_recv().ok() };
            match outcome {
                Some(Outcome::File { bytes, to }) => {
                    self.report.files += 1;
                    self.report.bytes += bytes;
                    self.observer.event(&Event::File { path: to.to_string_lossy().into_owned(), bytes });
                }
                Some(Outcome::Lost(from, why)) => {
                    self.report.lost_count += 1;
                    push(&mut self.report.lost, Lost { path: from.to_string(), why, stretches: Vec::new() });
                }
                None => return,
            }
        }
    }

    /// Lets the other threads come to their end and hears them out.
    fn end(mut self) -> (Report, Vec<Folder>, Vec<Soft>, Vec<Hard>) {
        let (closed, _) = sync_channel(0);
        drop(std::mem::replace(&mut self.send, closed));
        self.hear(true);
        (self.report, self.folders, self.soft, self.hard)
    }
}

fn push<T>(list: &mut Vec<T>, one: T) {
    if list.len() < MOST_LINES {
        list.push(one);
    }
}

/// Whether a file of an earlier run is still as it was left.
fn is_still_there(beneath: &Beneath, kept: &Kept) -> bool {
    let stat = beneath.stat(Path::new(OsStr::from_bytes(kept.to.bytes())));
    // Some destinations keep even seconds only.
    let same_time = |time: i64| kept.modified == (0, 0) || (time - kept.modified.0).abs() <= 2;
    stat.is_ok_and(|stat| FileType::from_raw_mode(stat.st_mode).is_file() && stat.st_size as u64 == kept.size && same_time(stat.st_mtime))
}

/// What comes after all files.
struct Last<'a> {
    beneath: &'a Beneath,
    parts: &'a Path,
    control: &'a Control,
    as_root: bool,
}

fn not_held(journal: &mut Journal, report: &mut Report, from: Way, what: String) -> io::Result<()> {
    push(&mut report.not_held, format!("{from}: {what}"));
    journal.add(&Line::NotHeld { from, what })
}

impl Last<'_> {
    /// Links come when their files are there, and folders get their times when nothing changes in them any more.
    fn links_and_times(&self, folders: &[Folder], soft: Vec<Soft>, hard: Vec<Hard>, journal: &mut Journal, report: &mut Report) -> Result<(), Break> {
        for (way, to, target, node) in soft {
            self.go_on()?;
            match self.beneath.symlink(&target, &to) {
                Ok(()) => {
                    write::link_times(self.beneath, &to, node.modified, node.accessed);
                    report.links += 1;
                }
                Err(_) if self.beneath.link(&to).is_ok_and(|there| there == target) => report.links += 1,
                Err(error) => not_held(journal, report, way, format!("a link to {}: {error}", String::from_utf8_lossy(&target)))?,
            }
        }
        if !hard.is_empty() {
            // Where the first name of each went stands in the journal.
            let done = journal.places(self.beneath)?;
            for (way, to, first) in hard {
                self.go_on()?;
                match done.get(&first) {
                    Some(kept) => self.further_name(way, &to, &first, kept, journal, report)?,
                    None => not_held(journal, report, way, format!("a further name of {first}, which was not copied"))?,
                }
            }
        }
        for folder in folders.iter().rev() {
            for what in self.folder(folder) {
                not_held(journal, report, folder.from.clone(), what)?;
            }
        }
        Ok(())
    }

    fn go_on(&self) -> Result<(), Break> {
        if self.control.is_stopped() { Err(Break::Stopped) } else { Ok(()) }
    }

    fn further_name(&self, way: Way, to: &Path, first: &Way, kept: &Kept, journal: &mut Journal, report: &mut Report) -> io::Result<()> {
        let there = Path::new(OsStr::from_bytes(kept.to.bytes()));
        let Kept { size, modified, sha256, .. } = kept.clone();
        let line = Line::File { from: way.clone(), to: Way::new(to.as_os_str().as_bytes()), size, modified, sha256 };
        match self.beneath.hard_link(there, to) {
            Ok(()) => {
                report.links += 1;
                journal.add(&line)
            }
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                let node = |path| self.beneath.stat(path).map(|stat| (stat.st_dev, stat.st_ino));
                if node(there)? == node(to)? {
                    report.links += 1;
                    return journal.add(&line);
                }
                report.skipped_count += 1;
                push(&mut report.skipped, format!("{way}: {} is there already", to.display()));
                journal.add(&Line::Skipped { from: way, why: format!("{} is there already", to.display()) })
            }
            // A destination without links gets a copy of the copy, which was proved; it is proved as well.
            Err(_) => match self.second(there, to) {
                Ok(()) => {
                    report.links += 1;
                    journal.add(&line)?;
                    not_held(journal, report, way, format!("the same file as {first}; it is there twice"))
                }
                Err(error) => not_held(journal, report, way, format!("a further name of {first}: {error}")),
            },
        }
    }

    /// Copies a file of the destination, and reads the copy back.
    fn second(&self, there: &Path, to: &Path) -> io::Result<()> {
        let part = self.parts.join("second");
        if self.beneath.has(&part) {
            self.beneath.remove(&part)?;
        }
        let (mut from, mut copy) = (self.beneath.read(there)?, self.beneath.create(&part)?);
        io::copy(&mut from, &mut copy)?;
        copy.sync_all()?;
        if write::read_back(&copy, self.control)? != write::read_back(&from, self.control)? {
            return Err(io::Error::other("the destination gives other bytes than were written"));
        }
        let meta = from.metadata()?;
        copy.set_permissions(meta.permissions())?;
        copy.set_modified(meta.modified()?)?;
        self.beneath.rename(&part, to, false)
    }

    /// Gives a folder what it had; what it has to go without is told.
    fn folder(&self, folder: &Folder) -> Vec<String> {
        let Folder { to, node, attributes, .. } = folder;
        let Ok(dir) = self.beneath.dir(to) else { return Vec::new() };
        let mut out = Vec::new();
        for (name, value) in attributes {
            if let Err(error) = rustix::fs::fsetxattr(&*dir, name.as_str(), value, XattrFlags::empty()) {
                out.push(format!("its attribute {name}: {error}"));
            }
        }
        // The destination itself keeps its own owner and times.
        if to.as_os_str().is_empty() {
            return out;
        }
        if let Some((user, group)) = node.owner.filter(|_| self.as_root) {
            let _ = std::os::unix::fs::fchown(&*dir, Some(user), Some(group));
        }
        if let Some(mode) = node.mode {
            let _ = rustix::fs::fchmod(&*dir, Mode::from(mode & 0o777));
        }
        write::link_times(self.beneath, to, node.modified, node.accessed);
        out
    }
}
