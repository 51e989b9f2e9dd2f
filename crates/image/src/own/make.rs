//! Making an image of our own: one reader, several who hash and pack, one writer, all at once.

use super::crypt::{self, Keys, Lock, Passphrase};
use super::entry::{Entry, Held};
use super::read::Image;
use super::record::{Header, What};
use super::scan;
use super::shelf::{self, Files, Pipe, Store, Volumes};
use super::write::{Head, Known, PageAt, Writer};
use super::{CHUNK, GROUP};
use crate::layer::{Result, Wrong};
use badger_drive::buffer::{Buffer, Pool, is_zero};
use badger_drive::clock::Clock;
use badger_drive::reads::{Got, Reads};
use badger_drive::{Control, Event, Extents, Geometry, Observer, Outcome, Phase, Since, Source};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Write;
use std::ops::Range;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicI32, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Mutex, RwLock};
use std::time::Duration;

/// Bytes of one read.
const PIECE: u64 = 64 * CHUNK;
/// Reads in flight, and pieces between the reader and the writer.
const DEPTH: u32 = 2;
const PIECES: usize = 8;
/// Zeroes that are passed over in one go.
const MOST_ZERO: u64 = GROUP * CHUNK;
/// So much is written before it is made durable.
const KEEP_BYTES: u64 = 1 << 30;
/// Bytes at the end of an unfinished image that may not be durable, at the most: [`KEEP_BYTES`] and what is written before it is counted again.
const TORN_BYTES: u64 = KEEP_BYTES + (64 << 20);
/// Levels of Zstandard between which it is adapted.
const LEVELS: std::ops::RangeInclusive<i32> = 1..=9;

/// Where an image goes.
pub enum Onto<'a> {
    /// Into a file, or several of at most so many bytes.
    File(&'a Path, Option<u64>),
    /// Wherever bytes go that come one after the other.
    Pipe(Box<dyn Write + Send>),
}

/// What is asked for.
pub struct Making<'a> {
    /// The drive.
    pub source: &'a Source,
    /// What of it is needed, in bytes.
    pub needed: &'a Extents<()>,
    /// Whether that is only what is in use.
    pub sparing: bool,
    /// An image of the same drive, made before: what did not change since is not stored again.
    pub parent: Option<&'a Path>,
    /// Locks the image, and opens the parent.
    pub passphrase: Option<&'a Passphrase>,
    /// The level of Zstandard; `None` adapts it so that the drive is what is waited for.
    pub level: Option<i32>,
    /// Goes on with what a run before this one left.
    pub resume: bool,
    /// JSON about the drive and the job.
    pub facts: &'a (dyn Fn() -> String + Sync),
}

/// What came of it. Amounts are bytes.
#[derive(Debug, Default)]
pub struct Made {
    /// `Proved` stands for whole here: the proof is another reading.
    pub outcome: Outcome,
    /// Why it is not whole.
    pub reason: String,
    /// Of the drive, known zeroes among them.
    pub read_bytes: u64,
    /// What chunks take in the image.
    pub stored_bytes: u64,
    /// Length of the image.
    pub len: u64,
    /// What could not be read: start and length.
    pub lost: Vec<(u64, u64)>,
    /// Over all.
    pub hash: [u8; 32],
    /// What became of the drive between the runs, where this one continues an earlier one.
    pub between: Option<Since>,
}

/// A stretch of the drive on its way.
enum Piece {
    Data { first: u64, len: usize, buffer: Buffer, lost: Vec<(u64, u64)> },
    Zero { first: u64, count: u64 },
}

/// What became of a chunk.
enum Packed {
    Zero,
    There(Held),
    New(Header, Vec<u8>),
}

/// A piece that was gone over.
enum Gone {
    Data { first: u64, len: usize, chunks: Vec<Packed>, lost: Vec<(u64, u64)> },
    Zero { first: u64, count: u64 },
}

/// What everybody shares.
struct Shared<'a> {
    making: &'a Making<'a>,
    keys: Option<Keys>,
    known: RwLock<Known>,
    parent: Option<Image>,
    level: AtomicI32,
    /// Pieces that wait to be packed.
    waiting: AtomicUsize,
    abort: AtomicBool,
    pool: Pool,
    control: &'a Control,
    clock: &'a dyn Clock,
}

/// Why it ended early.
enum Break {
    Stopped,
    Failed(String),
}

impl From<Wrong> for Break {
    fn from(wrong: Wrong) -> Self {
        Self::Failed(wrong.to_string())
    }
}

/// Makes an image. What was written when it is stopped, or breaks off, stays and is gone on with.
///
/// # Errors
/// Why nothing was begun.
pub fn make(making: &Making, onto: Onto, control: &Control, observer: &dyn Observer, clock: &dyn Clock) -> std::io::Result<Made> {
    let wrong = |wrong: Wrong| std::io::Error::other(wrong.to_string());
    let Begun { mut writer, shared, from, between } = begin(making, onto, control, clock).map_err(wrong)?;
    let size = making.source.geometry().size_bytes;
    let left = runs(making.needed, from * CHUNK, size);
    let total: u64 = runs(making.needed, 0, size).iter().map(|run| run.end - run.start).sum();
    let ahead: u64 = left.iter().map(|run| run.end - run.start).sum();
    observer.event(&Event::Phase { phase: Phase::Copy, total, done: total - ahead, files: None });
    let mut made = Made { read_bytes: total - ahead, lost: writer.lost_so_far(), between, ..Made::default() };
    let outcome = run(&shared, &mut writer, &left, observer, &mut made);
    made.stored_bytes = writer.stored;
    match outcome {
        Ok(()) => match writer.end(&(making.facts)()) {
            Ok((len, hash)) => {
                (made.len, made.hash) = (len, hash);
                made.outcome = if made.lost.is_empty() { Outcome::Proved } else { Outcome::Incomplete };
            }
            Err(why) => made.reason = writer.way_on(&why.to_string()),
        },
        Err(Break::Stopped) => made.reason = writer.way_on("stopped"),
        Err(Break::Failed(why)) => made.reason = writer.way_on(&why),
    }
    if made.outcome == Outcome::Interrupted {
        let _ = writer.keep();
    }
    Ok(made)
}

struct Begun<'a> {
    writer: Writer,
    shared: Shared<'a>,
    /// The first chunk that is still to be read.
    from: u64,
    /// What became of the drive since an earlier run.
    between: Option<Since>,
}

/// An image that another one goes on from.
fn parent(path: &Path, geometry: Geometry, passphrase: Option<&Passphrase>) -> Result<Image> {
    let parent = Image::opened(path, passphrase)?;
    let before = parent.head();
    if (before.size, before.logical) != (geometry.size_bytes, geometry.logical_sector) {
        return Err(Wrong::new("the image that it would go on from is of a drive of another size"));
    }
    if !parent.shown().whole {
        return Err(Wrong::new("the image that it would go on from is not whole"));
    }
    if before.lock.is_some() != passphrase.is_some() {
        return Err(Wrong::new("an image is locked where the one it goes on from is, and only there"));
    }
    Ok(parent)
}

/// Whether an image of a drive can go on from another one.
///
/// # Errors
/// Why it cannot: it is none, is not whole, is of a drive of another size, or locked where the new one is not.
pub fn goes_on_from(path: &Path, geometry: Geometry, passphrase: Option<&Passphrase>) -> std::io::Result<()> {
    parent(path, geometry, passphrase).map(drop).map_err(|wrong| std::io::Error::new(std::io::ErrorKind::InvalidData, wrong.to_string()))
}

fn begin<'a>(making: &'a Making<'a>, onto: Onto, control: &'a Control, clock: &'a dyn Clock) -> Result<Begun<'a>> {
    let geometry = making.source.geometry();
    let parent = making.parent.map(|path| parent(path, geometry, making.passphrase)).transpose()?;
    let level = AtomicI32::new(making.level.unwrap_or(3));
    let pool = Pool::new(PIECES, PIECE as usize);
    let shared = |keys: Option<Keys>, known: Known, parent| Shared {
        making,
        keys,
        known: RwLock::new(known),
        parent,
        level,
        waiting: AtomicUsize::new(0),
        abort: AtomicBool::new(false),
        pool,
        control,
        clock,
    };
    if let (Onto::File(path, split), true) = (&onto, making.resume) {
        let (writer, keys, known, from, since) = resume(path, *split, making, control)?;
        return Ok(Begun { writer, shared: shared(keys, known, parent), from, between: Some(since) });
    }
    // One that goes on from another has its keys, so that equal chunks have equal hashes.
    let (lock, keys) = match (&parent, making.passphrase) {
        (Some(parent), _) => (parent.head().lock.clone(), parent.keys().cloned()),
        (None, Some(passphrase)) => Lock::new(passphrase).map(|(lock, keys)| (Some(lock), Some(keys)))?,
        (None, None) => (None, None),
    };
    let name = |path: &Path| path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let head = Head {
        version: 2,
        id: hex::encode(crypt::random::<16>()?),
        size: geometry.size_bytes,
        logical: geometry.logical_sector,
        physical: geometry.physical_sector,
        drive: Head::drive_of(&making.source.key()),
        sparing: making.sparing,
        standing: making.source.standing(),
        boot: badger_drive::witness::boot(),
        split: match &onto {
            Onto::File(_, split) => *split,
            Onto::Pipe(_) => None,
        },
        parent: parent.as_ref().zip(making.parent).map(|(parent, path)| (parent.head().id.clone(), name(path))),
        lock,
    };
    let store: Box<dyn Store> = match onto {
        Onto::File(path, split) => Box::new(Files::begin(path, split).map_err(|error| Wrong::new(format!("{}: {error}", path.display())))?),
        Onto::Pipe(out) => Box::new(Pipe::new(out)),
    };
    let keys = keys.map(|keys| Ok::<_, Wrong>(keys.bound_to(&head.text()?))).transpose()?;
    let writer = Writer::begin(store, &head, keys.clone(), making.sparing)?;
    Ok(Begun { writer, shared: shared(keys, Known::default(), parent), from: 0, between: None })
}

/// What came of a run that made an image whole and ended before it said so. Nothing of it was read back.
///
/// # Errors
/// It cannot be opened, or is not whole.
pub fn made(path: &Path, making: &Making) -> std::io::Result<Made> {
    let image = Image::open(path, making.passphrase)?;
    if !image.shown().whole {
        return Err(std::io::Error::new(std::io::ErrorKind::InvalidData, "it is not whole"));
    }
    let lost = image.lost_stretches();
    Ok(Made {
        outcome: if lost.is_empty() { Outcome::Proved } else { Outcome::Incomplete },
        read_bytes: making.needed.total(|()| true),
        len: image.len(),
        lost,
        between: Some(between(&image, making.source)),
        ..Made::default()
    })
}

/// Takes an image away that was broken off, with all its volumes.
///
/// # Errors
/// It is whole, cannot be opened, or another run makes it right now: then it stays.
pub fn give_up(path: &Path, passphrase: Option<&Passphrase>) -> std::io::Result<()> {
    shelf::remove(path, || Image::open(path, passphrase).map(|image| image.shown().whole))
}

/// An image that is written on: its keys, what is in it, the next chunk, and what became of the drive meanwhile.
type Resumed = (Writer, Option<Keys>, Known, u64, Since);

/// Goes on behind the last page that was written whole.
fn resume(path: &Path, split: Option<u64>, making: &Making, control: &Control) -> Result<Resumed> {
    let failed = |error: std::io::Error| Wrong::new(format!("{}: {error}", path.display()));
    let held = File::open(path).map_err(failed)?;
    shelf::alone(&held).map_err(failed)?;
    let before = Image::opened(path, making.passphrase)?;
    if before.shown().whole {
        return Err(Wrong::new("it is whole already"));
    }
    let geometry = making.source.geometry();
    if before.head().size != geometry.size_bytes || !before.is_of(&making.source.key()) {
        return Err(Wrong::new("it was begun for another drive"));
    }
    // What was asked for then must be what is asked for now: one image is not two kinds.
    if before.head().sparing != making.sparing || before.head().lock.is_some() != making.passphrase.is_some() {
        return Err(Wrong::new("it was begun with another choice of what is in use, or of a lock: give the same, or begin anew"));
    }
    if between(&before, making.source) == Since::Written {
        return Err(Wrong::new("the drive was written to since it was begun: take the image away and begin again"));
    }
    let below = making.parent.map(|path| Image::opened(path, making.passphrase)).transpose()?;
    if before.head().parent.as_ref().map(|(id, _)| id) != below.as_ref().map(|below| &below.head().id) {
        return Err(Wrong::new("it was begun to go on from another image, or from none: give the same, or begin anew"));
    }
    let volumes = Volumes::open(path).map_err(failed)?;
    let mut found = scan::scan(&volumes, geometry.size_bytes);
    // A volume that is elsewhere may come back: nothing behind it is taken away.
    volumes.whole_to(found.pages_end).map_err(failed)?;
    let durable = found.pages_end.saturating_sub(TORN_BYTES);
    let torn = torn(&before, &found, durable, control)?;
    if torn.is_some_and(|at| at < durable) {
        return Err(Wrong::new("it is damaged before its last GiB: start over with --restart"));
    }
    torn.into_iter().for_each(|at| found.cut(&volumes, at));
    if found.pages_end == 0 {
        return Err(Wrong::new("nothing of it can be resumed: start over with --restart"));
    }
    let (mut pages, mut known, mut lost) = (Vec::new(), Known::default(), Extents::new());
    for (group, (at, copy)) in &found.pages {
        let (entries, gone, hash) = before.page_again(*group)?;
        // The drive must still hold what was read of it: some chunks of each group are looked at again.
        let is_looked_at = group.is_multiple_of(EVERY) || Some(group) == found.pages.last_key_value().map(|(group, _)| group);
        if is_looked_at && !still_holds(making.source, before.keys(), *group, &entries) {
            return Err(Wrong::new("the drive does not hold any more what was read of it: take the image away and begin anew"));
        }
        for entry in entries {
            if let Entry::Data(held) = entry {
                known.add(held);
            }
        }
        gone.into_iter().for_each(|(start, len)| lost.set(start..start + len, ()));
        pages.push(PageAt { group: *group, at: *at, copy: *copy, hash });
    }
    let from = found.pages.last_key_value().map_or(0, |(group, _)| (group + 1) * GROUP);
    let store = Files::resume(path, found.pages_end, split.or(before.head().split), held).map_err(failed)?;
    let keys = before.keys().cloned();
    let (head, text, since) = (before.first_record()?, before.head_text()?, between(&before, making.source));
    Ok((Writer::over(Box::new(store), (head, &text), keys.clone(), (making.sparing, pages), lost), keys, known, from, since))
}

/// The first damaged byte of what the pages name. Behind `durable` a loss of power may have torn any record, so the chunks there are read too.
fn torn(before: &Image, found: &scan::Found, durable: u64, control: &Control) -> Result<Option<u64>> {
    let mut damaged: Vec<u64> = found.damage.iter().map(|damage| damage.at).filter(|at| *at < found.pages_end).collect();
    for (group, (at, _)) in found.pages.iter().filter(|(_, (at, _))| *at >= durable) {
        let Ok((entries, ..)) = before.page_again(*group) else {
            damaged.push(*at);
            continue;
        };
        let own = entries.iter().filter_map(|entry| if let Entry::Data(held) = entry { Some(held) } else { None });
        for held in own.filter(|held| held.image == 0 && held.at >= durable) {
            if !control.go_on() {
                return Err(Wrong::new("stopped; give the same command again to go on"));
            }
            if before.chunk(held).is_err() {
                damaged.push(held.at);
            }
        }
    }
    Ok(damaged.into_iter().min())
}

/// What became of the drive since an image was begun.
fn between(before: &Image, source: &Source) -> Since {
    let head = before.head();
    badger_drive::witness::since(&head.standing, &head.boot, &source.standing())
}

/// Chunks of a group that are read again before an image is resumed, anywhere in it; of many groups only some are.
const LOOKED_AT: usize = 2;
const EVERY: u64 = 16;

fn still_holds(source: &Source, keys: Option<&Keys>, group: u64, entries: &[Entry]) -> bool {
    let size = source.geometry().size_bytes;
    let data = entries.iter().enumerate().filter_map(|(at, entry)| if let Entry::Data(held) = entry { Some((at as u64, held)) } else { None });
    let data: Vec<_> = data.collect();
    let mut looked = (0..LOOKED_AT.min(data.len())).map(|_| data[badger_drive::random_below(data.len() as u64) as usize]);
    looked.all(|(at, held)| {
        let start = (group * GROUP + at) * CHUNK;
        let mut bytes = vec![0; CHUNK.min(size.saturating_sub(start)) as usize];
        // What cannot be read now could be read then; that says nothing against it.
        source.read_at(start, &mut bytes).is_err() || crypt::hash(keys, &bytes) == held.hash
    })
}

/// What is to be read from a byte on: whole chunks, in their order.
pub(super) fn runs(needed: &Extents<()>, from: u64, size: u64) -> Vec<Range<u64>> {
    let mut out: Vec<Range<u64>> = Vec::new();
    for (range, ()) in needed.within(from..size) {
        let run = range.start / CHUNK * CHUNK..range.end.next_multiple_of(CHUNK).min(size);
        match out.last_mut() {
            Some(last) if last.end >= run.start => last.end = last.end.max(run.end),
            _ => out.push(run),
        }
    }
    out
}

fn run(shared: &Shared, writer: &mut Writer, left: &[Range<u64>], observer: &dyn Observer, made: &mut Made) -> std::result::Result<(), Break> {
    let packers = std::thread::available_parallelism().map_or(2, std::num::NonZero::get).clamp(1, 16);
    let (to_packers, from_reader) = sync_channel::<(u64, Piece)>(PIECES);
    let (to_writer, from_packers) = sync_channel::<(u64, Gone)>(PIECES);
    let from_reader = Mutex::new(from_reader);
    std::thread::scope(|scope| {
        let reading = scope.spawn(move || read(shared, left, &to_packers));
        for _ in 0..packers {
            let (from_reader, to_writer) = (&from_reader, to_writer.clone());
            scope.spawn(move || pack(shared, from_reader, &to_writer));
        }
        drop(to_writer);
        let written = write(shared, writer, &from_packers, observer, made);
        if written.is_err() {
            shared.abort.store(true, Ordering::Relaxed);
            // Whoever waits for room to pass something on must not wait for ever.
            while from_packers.recv().is_ok() {}
        }
        let read = reading.join().expect("the reader does not panic");
        written.and(read)
    })
}

/// Adapts the level by how many pieces wait to be packed when another one comes: none where packers wait for the drive.
#[derive(Default)]
struct Pace {
    busy: u32,
    pieces: u32,
}

impl Pace {
    fn note(&mut self, shared: &Shared) {
        self.pieces += 1;
        self.busy += u32::from(shared.waiting.load(Ordering::Relaxed) > 1);
        if self.pieces < 16 {
            return;
        }
        let step = match self.busy {
            0 => 1,
            4.. => -1,
            _ => 0,
        };
        let level = shared.level.load(Ordering::Relaxed) + step;
        shared.level.store(level.clamp(*LEVELS.start(), *LEVELS.end()), Ordering::Relaxed);
        *self = Self::default();
    }
}

/// The reader.
struct Reading<'a> {
    shared: &'a Shared<'a>,
    out: &'a SyncSender<(u64, Piece)>,
    sequence: u64,
    pace: Pace,
}

fn read(shared: &Shared, left: &[Range<u64>], out: &SyncSender<(u64, Piece)>) -> std::result::Result<(), Break> {
    let source = &**shared.making.source;
    let mut reads = Reads::new(source, DEPTH, &shared.making.source.patience(), &shared.pool);
    let mut reading = Reading { shared, out, sequence: 0, pace: Pace::default() };
    for run in left {
        let mut at = run.start;
        while at < run.end {
            if !shared.control.go_on() {
                return Err(Break::Stopped);
            }
            if shared.abort.load(Ordering::Relaxed) {
                return Ok(());
            }
            let zero = source.zero_run(at, (run.end - at).min(MOST_ZERO));
            let zero = if at + zero >= run.end { run.end - at } else { zero / CHUNK * CHUNK };
            if zero > 0 {
                reading.all_landed(&mut reads)?;
                reading.send(Piece::Zero { first: at / CHUNK, count: zero.div_ceil(CHUNK) })?;
                at += zero;
                continue;
            }
            let len = (run.end - at).min(PIECE);
            shared.control.hold_back(len, shared.clock);
            reads.begin(at, len);
            at += len;
            while let Some(got) = reads.make_room().map_err(|why| reading.gone(&why))? {
                reading.pass_on(got)?;
            }
        }
    }
    reading.all_landed(&mut reads)
}

impl Reading<'_> {
    fn all_landed(&mut self, reads: &mut Reads) -> std::result::Result<(), Break> {
        while let Some(got) = reads.land().map_err(|why| self.gone(&why))? {
            self.pass_on(got)?;
        }
        Ok(())
    }

    fn pass_on(&mut self, Got { offset, len, buffer, lost }: Got) -> std::result::Result<(), Break> {
        self.send(Piece::Data { first: offset / CHUNK, len, buffer, lost })
    }

    fn gone(&self, why: &str) -> Break {
        if self.shared.control.is_stopped() { Break::Stopped } else { Break::Failed(format!("the source does not answer any more ({why})")) }
    }

    fn send(&mut self, piece: Piece) -> std::result::Result<(), Break> {
        if self.shared.making.level.is_none() {
            self.pace.note(self.shared);
        }
        self.shared.waiting.fetch_add(1, Ordering::Relaxed);
        let sequence = self.sequence;
        self.sequence += 1;
        // The writer says what went wrong with it.
        self.out.send((sequence, piece)).map_err(|_| Break::Stopped)
    }
}

fn pack(shared: &Shared, pieces: &Mutex<Receiver<(u64, Piece)>>, out: &SyncSender<(u64, Gone)>) {
    loop {
        let next = pieces.lock().expect("queue lock").recv();
        let Ok((sequence, piece)) = next else { return };
        shared.waiting.fetch_sub(1, Ordering::Relaxed);
        let gone = match piece {
            Piece::Zero { first, count } => Gone::Zero { first, count },
            Piece::Data { first, len, buffer, lost } => {
                let level = shared.level.load(Ordering::Relaxed);
                let holed = |chunk: u64| lost.iter().any(|(start, len)| *start < (chunk + 1) * CHUNK && start + len > chunk * CHUNK);
                let chunks = buffer[..len].chunks(CHUNK as usize).zip(first..);
                let chunks = chunks.map(|(bytes, chunk)| packed(shared, (chunk, holed(chunk)), bytes, level)).collect();
                shared.pool.give(buffer);
                Gone::Data { first, len, chunks, lost }
            }
        };
        if out.send((sequence, gone)).is_err() {
            return;
        }
    }
}

fn packed(shared: &Shared, (chunk, holed): (u64, bool), bytes: &[u8], level: i32) -> Packed {
    if is_zero(bytes) {
        return Packed::Zero;
    }
    let hash = crypt::hash(shared.keys.as_ref(), bytes);
    let below = shared.parent.as_ref().and_then(|parent| parent.entry(chunk).ok());
    if let Some(Entry::Data(held)) = below.filter(|entry| matches!(entry, Entry::Data(held) if held.hash == hash))
        && let Some(image) = held.image.checked_add(1)
    {
        return Packed::There(Held { image, ..held });
    }
    if let Some(held) = shared.known.read().expect("index lock").find(&hash) {
        return Packed::There(held);
    }
    let header = Header { what: What::Chunk, packed: false, locked: false, holed, number: chunk, len: 0, whole: 0, hash };
    match crypt::seal(shared.keys.as_ref(), header, bytes, level) {
        Ok((header, payload)) => Packed::New(header, payload),
        // Only a system without random bytes comes here; the writer finds that the chunk is none.
        Err(_) => Packed::New(header, Vec::new()),
    }
}

fn write(
    shared: &Shared,
    writer: &mut Writer,
    pieces: &Receiver<(u64, Gone)>,
    observer: &dyn Observer,
    made: &mut Made,
) -> std::result::Result<(), Break> {
    let began = shared.clock.now();
    let (mut next, mut early) = (0, BTreeMap::new());
    let (mut kept, mut kept_at) = (writer.stored, shared.clock.now());
    for (sequence, gone) in pieces {
        early.insert(sequence, gone);
        while let Some(gone) = early.remove(&next) {
            next += 1;
            let (first, len) = match gone {
                Gone::Zero { first, count } => {
                    (first..first + count).try_for_each(|chunk| writer.note(chunk, Entry::Zero))?;
                    let end = ((first + count) * CHUNK).min(shared.making.source.geometry().size_bytes);
                    (first, end - first * CHUNK)
                }
                Gone::Data { first, len, chunks, lost } => {
                    for (start, len) in lost {
                        writer.lost(start, len);
                        made.lost.push((start, len));
                        observer.event(&Event::Lost { start, len });
                    }
                    for (chunk, packed) in (first..).zip(chunks) {
                        let entry = entry(shared, writer, packed)?;
                        writer.note(chunk, entry)?;
                    }
                    (first, len as u64)
                }
            };
            made.read_bytes += len;
            let at = (shared.clock.now().saturating_sub(began)).as_secs_f64();
            observer.event(&Event::Moved { start: first * CHUNK, len, at });
            if writer.stored >= kept + KEEP_BYTES || shared.clock.now() >= kept_at + Duration::from_secs(10) {
                writer.keep()?;
                (kept, kept_at) = (writer.stored, shared.clock.now());
                observer.event(&Event::Kept { done: made.read_bytes });
            }
        }
    }
    Ok(())
}

fn entry(shared: &Shared, writer: &mut Writer, packed: Packed) -> std::result::Result<Entry, Break> {
    let (header, payload) = match packed {
        Packed::Zero => return Ok(Entry::Zero),
        Packed::There(held) => return Ok(Entry::Data(held)),
        Packed::New(header, payload) => (header, payload),
    };
    // Two who packed the same at once did not know of each other.
    if let Some(held) = shared.known.read().expect("index lock").find(&header.hash) {
        return Ok(Entry::Data(held));
    }
    if payload.is_empty() {
        return Err(Break::Failed("the system gives no random bytes".into()));
    }
    let held = writer.chunk(&header, &payload)?;
    shared.known.write().expect("index lock").add(held);
    Ok(Entry::Data(held))
}
