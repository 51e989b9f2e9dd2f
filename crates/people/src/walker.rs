//! The walker of a copy: goes over what is picked, settles where each file goes, reads it and hands it on.

use crate::beneath::Beneath;
use crate::journal::{Done, Kept, Line, Way};
use crate::names::{self, Holds};
use crate::order::{Break, Clash, Collision, Lost, Order, Report, push};
use crate::write::{self, Job, Missing, Outcome, Piece};
use badger_drive::buffer::Pool;
use badger_drive::clock::Clock;
use badger_drive::ground::Footing;
use badger_drive::{Control, Event, Observer};
use badger_fs::Content;
use badger_fs::tree::{Entry, Node, NodeKind, Time};
use badger_fs::walk::{Step, Walk};
use rustix::fs::FileType;
use sha2::{Digest, Sha256};
use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

/// Bytes of one transfer.
pub(crate) const CHUNK: usize = 2 << 20;
/// So much is written before it is read back: bytes, files.
const BATCH_BYTES: u64 = 192 << 20;
const BATCH_FILES: usize = 4096;

/// No format holds a larger file: NTFS, the most generous of them, ends at 2^53 bytes.
const IMPLAUSIBLE: u64 = 1 << 53;

/// Something picked: its path in the volume, its node, and where it goes.
pub(crate) struct Pick {
    pub(crate) path: Vec<u8>,
    pub(crate) node: Node,
    pub(crate) to: PathBuf,
}

/// A folder whose attributes and times are set when everything is in it.
pub(crate) struct Folder {
    pub(crate) from: Way,
    pub(crate) to: PathBuf,
    pub(crate) node: Node,
    pub(crate) attributes: Vec<(String, Vec<u8>)>,
}

/// A symbolic link: its source, where it goes, what it says, its node.
pub(crate) type Soft = (Way, PathBuf, Vec<u8>, Node);
/// A further name of a file: its source, where it goes, the source of the first one.
pub(crate) type Hard = (Way, PathBuf, Way);

/// What becomes of a file at the destination.
pub(crate) enum Settled {
    /// It gets this name, and replaces what has it.
    To(PathBuf, bool),
    /// It is there already, and equal.
    There,
    /// It is not copied.
    Not,
}

pub(crate) struct Walker<'a> {
    pub(crate) order: &'a Order<'a>,
    pub(crate) beneath: &'a Beneath,
    pub(crate) holds: Holds,
    pub(crate) control: &'a Control,
    pub(crate) clock: &'a dyn Clock,
    pub(crate) began: std::time::Duration,
    pub(crate) observer: &'a dyn Observer,
    pub(crate) pool: &'a Pool,
    pub(crate) done: &'a Done,
    /// Files of an earlier run that are not as it left them.
    pub(crate) strange: HashSet<Way>,
    pub(crate) send: SyncSender<Piece>,
    pub(crate) told: Receiver<Outcome>,
    pub(crate) batch: Vec<(Job, Content<'a>, u64)>,
    pub(crate) batch_bytes: u64,
    /// Names given in this run that may not be there yet.
    pub(crate) reserved: HashSet<PathBuf>,
    /// Folders of this copy at the destination, by device and inode: the name that each was made for.
    pub(crate) made: HashMap<(u64, u64), PathBuf>,
    pub(crate) folders: Vec<Folder>,
    pub(crate) soft: Vec<Soft>,
    pub(crate) hard: Vec<Hard>,
    /// Files with several names: the first one met.
    pub(crate) firsts: HashMap<u64, Way>,
    pub(crate) report: Report,
    /// Bytes of the job that were dealt with.
    pub(crate) moved: u64,
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
            Line::Begin { .. } | Line::Room { .. } | Line::File { .. } | Line::There { .. } => {}
        }
        self.send(Piece::Note(line))
    }

    fn send(&self, piece: Piece) -> Result<(), Break> {
        // The writer's own end says what went wrong with it.
        self.send.send(piece).map_err(|_| Break::Stopped)
    }

    fn moved(&mut self, len: u64) {
        self.observer.event(&Event::Moved { start: self.moved, len, at: self.seconds() });
        self.moved += len;
    }

    fn go_on(&self) -> Result<(), Break> {
        if self.control.go_on() { Ok(()) } else { Err(Break::Stopped) }
    }

    pub(crate) fn walk(&mut self, picks: Vec<Pick>) -> Result<(), Break> {
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
        let mut walk = Walk::of(self.order.tree, node, (path, to));
        while let Some(Step { node, with: (path, to), .. }) = walk.take() {
            self.go_on()?;
            let way = Way::new(&path);
            self.report.directories += 1;
            let Some(to) = self.make_folder(&way, to)? else { continue };
            let listing = self.order.tree.list(&node);
            let has_room = walk.has_room_for(&listing);
            for finding in listing.findings {
                let why = finding.text;
                self.note(Line::Lost { from: way.clone(), why, stretches: Vec::new() })?;
            }
            let mut attributes = self.attributes(&way, &node)?;
            self.streams(&way, &node, &to, &mut attributes)?;
            self.folders.push(Folder { from: way.clone(), to: to.clone(), node, attributes });
            if !has_room {
                let why = "the directories name more entries than the volume has room for; what follows was not copied".to_string();
                return self.note(Line::Lost { from: way, why, stretches: Vec::new() });
            }
            for Entry { name, node } in listing.entries {
                let held = names::held(&name.bytes, self.holds);
                let (full, to) = ([&path[..], b"/", &name.bytes].concat(), to.join(OsStr::from_bytes(&held)));
                if held != name.bytes {
                    self.note(Line::Name { from: Way::new(&full), to: Way::new(to.as_os_str().as_bytes()) })?;
                }
                if node.kind != NodeKind::Directory {
                    self.entry(&full, &node, to)?;
                } else if walk.enter(&node, (full.clone(), to)).is_err() {
                    let why = "it leads back to a folder above it, or is too deep".to_string();
                    self.note(Line::Lost { from: Way::new(&full), why, stretches: Vec::new() })?;
                }
            }
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
                // A destination that takes `Docs` and `docs` for one name would put two folders into one.
                Ok(stat) if self.made.get(&(stat.st_dev, stat.st_ino)).is_some_and(|other| *other != to) => continue,
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
            if let Ok(stat) = self.beneath.stat(&to) {
                self.made.insert((stat.st_dev, stat.st_ino), to.clone());
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
        if let Some(there) = self.kept(&way, node, node.size)? {
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
    fn kept(&mut self, way: &Way, node: &Node, size: u64) -> Result<Option<PathBuf>, Break> {
        let Some(kept) = self.done.get(way) else { return Ok(None) };
        let there = PathBuf::from(OsStr::from_bytes(kept.to.bytes()));
        if !self.is_as_it_was_left(kept, &there)? {
            self.strange.insert(way.clone());
            return Ok(None);
        }
        let time = node.modified.map(|time| (time.seconds, time.nanos));
        if !kept.missing.is_empty() || kept.size != size || time.is_some_and(|time| time != kept.modified) {
            return Ok(None);
        }
        self.count_there(size);
        Ok(Some(there))
    }

    /// Whether a file of an earlier run is still as that left it. One that is gone is not.
    fn is_as_it_was_left(&self, kept: &Kept, there: &Path) -> Result<bool, Break> {
        let Ok(stat) = self.beneath.stat(there) else { return Ok(false) };
        if !FileType::from_raw_mode(stat.st_mode).is_file() || stat.st_size as u64 != kept.size {
            return Ok(false);
        }
        if kept.there == Some(((stat.st_ctime, stat.st_ctime_nsec as u32), stat.st_ino)) {
            return Ok(true);
        }
        if kept.sha256.is_empty() {
            // Too long to be hashed. Some destinations keep even seconds only.
            return Ok(kept.modified == (0, 0) || (stat.st_mtime - kept.modified.0).abs() <= 2);
        }
        let Ok(file) = self.beneath.read(there) else { return Ok(false) };
        let (mut sha256, mut buffer, mut at) = (Sha256::new(), vec![0; CHUNK], 0);
        while at < kept.size {
            self.go_on()?;
            self.control.hold_back(CHUNK as u64, self.clock);
            match file.read_at(&mut buffer, at) {
                Ok(count) if count > 0 => (at, _) = (at + count as u64, sha256.update(&buffer[..count])),
                _ => return Ok(false),
            }
        }
        Ok(hex::encode(sha256.finalize()) == kept.sha256)
    }

    /// Counts what an earlier run brought.
    fn count_there(&mut self, size: u64) {
        self.report.resumed += 1;
        self.report.files += 1;
        self.report.bytes += size;
        self.moved(size);
    }

    /// Extended attributes that travel. What lets a program run as somebody else does not.
    fn attributes(&mut self, way: &Way, node: &Node) -> Result<Vec<(String, Vec<u8>)>, Break> {
        let mut attributes = match self.order.tree.attributes(node) {
            Ok(attributes) => attributes,
            Err(finding) => {
                let from = Way::new(&[way.bytes(), b" (attributes)"].concat());
                self.note(Line::Lost { from, why: finding.text, stretches: Vec::new() })?;
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
            if self.kept(&from, node, stream.size)?.is_some() {
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
        // What somebody changed at the destination since is theirs.
        if self.done.get(way).is_some_and(|kept| kept.to.bytes() == to.as_os_str().as_bytes()) && !self.strange.contains(way) {
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
        let Some(volume) = self.order.tree.origin().cached() else { return false };
        volume.drive().ground().layers.iter().any(|layer| layer.footing == footing)
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
            let there = file.metadata().map(|meta| ((meta.ctime(), meta.ctime_nsec() as u32), meta.ino()));
            self.note(Line::File { from: way.clone(), to, size, modified, sha256: hex::encode(sha256.finalize()) })?;
            if let Ok((changed, inode)) = there {
                self.note(Line::There { from: way.clone(), changed, inode })?;
            }
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
                self.moved(hole);
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
            self.moved(count as u64);
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
    pub(crate) fn end(mut self) -> (Report, Vec<Folder>, Vec<Soft>, Vec<Hard>) {
        let (closed, _) = sync_channel(0);
        drop(std::mem::replace(&mut self.send, closed));
        self.hear(true);
        (self.report, self.folders, self.soft, self.hard)
    }
}
