//! The copying pipeline: a reader, a hasher and a writer overlap over a pool of aligned buffers.

use crate::Control;
use crate::image::Image;
use crate::journal::Journal;
use crate::route::Route;
use crate::tally::{Note, Tally};
use crate::tree::{self, Hash, LEAF};
use badger_drive::buffer::{Buffer, Pool, is_zero};
use badger_drive::clock::Clock;
use badger_drive::events::{Event, Observer};
use badger_drive::narrow::read_hard;
use badger_drive::reads::{Got, Reads};
use badger_drive::{Extents, Holds, Medium, Source, Target, WriteError};
use badger_layout::Plan;
use badger_layout::plan::{Patch, Rest};
use std::collections::BTreeSet;
use std::io;
use std::ops::Range;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::time::Duration;

/// Bytes of one transfer.
pub const CHUNK: u64 = 4 * LEAF;
/// Buffers in flight.
const BUFFERS: usize = 6;
/// Reads that one reader has in flight, where the drive has a way to that.
pub const DEPTH: u32 = 2;
/// A flush comes after so many bytes at the latest ...
const FLUSH_BYTES: u64 = 1 << 30;
/// ... or so much time of the run's clock.
const FLUSH_AFTER: Duration = Duration::from_secs(5);

/// Why a run broke off. All of these can be picked up again.
#[derive(Debug, thiserror::Error)]
pub enum Break {
    /// The technician stopped it.
    #[error("stopped; give the same command again to go on")]
    Stopped,
    /// The source went away.
    #[error("the source does not answer any more ({0}); plug it in again and give the same command")]
    SourceGone(String),
    /// It does not read in so many places.
    #[error(
        "the source does not read in {0} places more, and a clone grinds over each of them: badger salvage with the same source and target, \
         and --map FILE, takes over what is copied; the same command goes on with the clone"
    )]
    Trouble(u64),
    /// The target went away.
    #[error("the target does not answer any more ({0}); plug it in again and give the same command")]
    TargetGone(String),
    /// The target did not take a write.
    #[error("target: {0}")]
    Target(#[from] WriteError),
    /// The journal could not be written.
    #[error("the journal cannot be written: {0}; make room for it and give the same command again")]
    Journal(#[from] io::Error),
}

/// What a run needs all along.
pub struct Context<'a> {
    /// What is done.
    pub plan: &'a Plan,
    /// From where.
    pub source: &'a Source,
    /// What the target is to hold, read from there.
    pub image: &'a Image,
    /// To where.
    pub target: &'a Target,
    /// Obeyed.
    pub control: &'a Control,
    /// Told.
    pub observer: &'a dyn Observer,
    /// The run's time.
    pub clock: &'a dyn Clock,
    /// When the run began on that clock.
    pub began: Duration,
}

impl Context<'_> {
    /// The target as a drive to be read, by whoever must not write; it gives nothing more after a stop.
    pub fn target_source(&self) -> Source {
        let source = self.target.as_source();
        source.obey(self.control);
        source
    }

    /// Seconds since the run began.
    pub fn seconds(&self) -> f64 {
        self.clock.now().saturating_sub(self.began).as_secs_f64()
    }

    fn patches(&self, start: u64, len: u64) -> impl Iterator<Item = &Patch> {
        self.plan.patches.iter().filter(move |patch| patch.at < start + len && patch.at + patch.bytes.len() as u64 > start)
    }

    /// Lays the plan's own bytes over a stretch of the target that starts at `start`; false where there are none.
    pub fn apply_patches(&self, start: u64, bytes: &mut [u8]) -> bool {
        let mut any = false;
        for patch in self.patches(start, bytes.len() as u64) {
            let from = patch.at.max(start);
            let to = (patch.at + patch.bytes.len() as u64).min(start + bytes.len() as u64);
            let piece = &patch.bytes[(from - patch.at) as usize..(to - patch.at) as usize];
            bytes[(from - start) as usize..(to - start) as usize].copy_from_slice(piece);
            any = true;
        }
        any
    }
}

enum Piece {
    Data { to: u64, len: usize, buffer: Buffer, lost: Vec<(u64, u64)> },
    Zero { to: u64, len: u64 },
}

/// A piece with the hashes of its leaves; all zero stands for a leaf of zeroes.
struct Hashed {
    piece: Piece,
    leaves: Vec<Hash>,
    patched: Vec<(u64, Hash)>,
    /// Which leaves the target gets as zeroes.
    zero: Vec<bool>,
}

/// The hash as it is noted for a leaf of a drive of `size` bytes: all zero for a whole leaf of zeroes. Where `bytes` are
/// only the beginning of the leaf, zeroes follow.
pub fn noted(leaf: u64, bytes: &[u8], size: u64) -> Hash {
    let whole = LEAF.min(size.saturating_sub(leaf * LEAF)) as usize;
    if whole as u64 == LEAF && is_zero(bytes) {
        [0; 32]
    } else if bytes.len() < whole {
        let mut padded = vec![0; whole];
        padded[..bytes.len()].copy_from_slice(bytes);
        tree::leaf(&padded)
    } else {
        tree::leaf(bytes)
    }
}

struct Reader<'a> {
    context: &'a Context<'a>,
    route: &'a Route,
    pool: &'a Pool,
    abort: &'a AtomicBool,
}

impl Reader<'_> {
    /// How many whole leaves from `to` on are known to be zero and carry no change of the plan.
    fn zero_leaves(&self, to: u64, rest: u64) -> u64 {
        let untouched =
            self.context.plan.patches.iter().filter(|patch| patch.at + patch.bytes.len() as u64 > to).map(|patch| patch.at.saturating_sub(to)).min();
        let max = rest.min(untouched.unwrap_or(rest)) / LEAF * LEAF;
        if max == 0 { 0 } else { self.context.image.zero_run(to, max) / LEAF * LEAF }
    }

    fn read(&self, out: &SyncSender<Piece>) -> Result<(), Break> {
        let mut reads = Reads::new(self.context.image, DEPTH, &self.context.source.patience(), self.pool);
        while let Some(Range { start: mut to, end }) = self.route.next() {
            while to < end {
                if !self.context.control.go_on() {
                    return Err(Break::Stopped);
                }
                if self.abort.load(Ordering::Relaxed) {
                    return Ok(());
                }
                let zero = self.zero_leaves(to, end - to);
                let len = if zero > 0 { zero } else { (end - to).min(CHUNK) };
                if zero > 0 {
                    if out.send(Piece::Zero { to, len }).is_err() {
                        return Ok(());
                    }
                } else {
                    self.context.control.hold_back(len, self.context.clock);
                    reads.begin(to, len);
                }
                to += len;
                while let Some(got) = reads.make_room().map_err(|why| self.gone(why))? {
                    if !pass_on(got, out) {
                        return Ok(());
                    }
                }
            }
        }
        while let Some(got) = reads.land().map_err(|why| self.gone(why))? {
            if !pass_on(got, out) {
                return Ok(());
            }
        }
        Ok(())
    }

    fn gone(&self, why: String) -> Break {
        if self.context.control.is_stopped() { Break::Stopped } else { Break::SourceGone(why) }
    }
}

/// False where nobody takes it.
fn pass_on(Got { offset: to, len, buffer, lost }: Got, out: &SyncSender<Piece>) -> bool {
    out.send(Piece::Data { to, len, buffer, lost }).is_ok()
}

fn hash(context: &Context, mut piece: Piece) -> Hashed {
    let (mut leaves, mut patched, mut zero) = (Vec::new(), Vec::new(), Vec::new());
    let size = context.plan.size();
    if let Piece::Data { to, len, buffer, .. } = &mut piece {
        for (bytes, leaf) in buffer[..*len].chunks_mut(LEAF as usize).zip(*to / LEAF..) {
            let hash = noted(leaf, bytes, size);
            let mut is_zero = hash == [0; 32];
            if context.apply_patches(leaf * LEAF, bytes) {
                let expected = noted(leaf, bytes, size);
                is_zero = expected == [0; 32];
                patched.push((leaf, expected));
            }
            leaves.push(hash);
            zero.push(is_zero);
        }
    }
    Hashed { piece, leaves, patched, zero }
}

struct Writer<'a> {
    context: &'a Context<'a>,
    journal: &'a mut Journal,
    tally: &'a mut Tally,
    note: Note,
    since_flush: u64,
    flushed_at: Duration,
    seconds_before: f64,
    /// A flush or a note in the journal failed: what came since the last good one counts as not written, and a later
    /// flush that succeeds says nothing of it.
    broken: bool,
    /// Places that could not be read.
    trouble: u64,
}

/// After so many places that cannot be read a clone stops, and says what is better then.
const MOST_TROUBLE: u64 = 100;

impl Writer<'_> {
    fn zero(&mut self, to: u64, len: u64) -> Result<(), Break> {
        let target = self.context.target;
        let mut at = 0;
        while at < len {
            let known = target.zero_run(to + at, len - at);
            if known > 0 {
                self.tally.skipped += known;
                at += known;
                continue;
            }
            let step = (len - at).min(LEAF);
            target.write_zero(to + at, step)?;
            self.tally.written += step;
            self.since_flush += step;
            at += step;
        }
        Ok(())
    }

    fn data(&mut self, to: u64, bytes: &[u8], zero: &[bool]) -> Result<(), Break> {
        let mut leaf = 0;
        while leaf < zero.len() {
            let same = zero[leaf..].iter().take_while(|other| **other == zero[leaf]).count();
            let (start, end) = (leaf * LEAF as usize, ((leaf + same) * LEAF as usize).min(bytes.len()));
            if zero[leaf] {
                self.zero(to + start as u64, (end - start) as u64)?;
            } else {
                self.context.target.write_at(to + start as u64, &bytes[start..end])?;
                self.tally.written += (end - start) as u64;
                self.since_flush += (end - start) as u64;
            }
            leaf += same;
        }
        Ok(())
    }

    fn take(&mut self, hashed: Hashed, pool: &Pool) -> Result<(), Break> {
        let Hashed { piece, leaves, patched, zero } = hashed;
        let (to, len) = match piece {
            Piece::Zero { to, len } => {
                self.zero(to, len)?;
                (to, len)
            }
            Piece::Data { to, len, buffer, lost } => {
                let written = self.data(to, &buffer[..len], &zero);
                pool.give(buffer);
                written?;
                if leaves.iter().any(|hash| *hash != [0; 32]) {
                    self.journal.note_leaves(to / LEAF, &leaves)?;
                }
                self.tally.lost.clear(to..to + len as u64);
                for (start, len) in lost {
                    // What is known to be unknown costs no trying.
                    self.trouble += u64::from(self.context.image.stretch(start, len).holds != Holds::Unknown);
                    self.context.observer.event(&Event::Lost { start, len });
                    let sector = u64::from(self.context.plan.source.sector);
                    for (start, len) in self.context.image.origins(start, len, sector) {
                        self.context.observer.event(&Event::Unreadable { start, len });
                    }
                    self.tally.lost.set(start..start + len, ());
                    self.note.lost.push((start, len));
                }
                (to, len as u64)
            }
        };
        self.tally.patched.extend(patched.iter().copied());
        self.note.patched.extend(patched);
        self.tally.done.set(to..to + len, ());
        self.note.add(to, len);
        self.context.observer.event(&Event::Moved { start: to, len, at: self.context.seconds() });
        if self.trouble > MOST_TROUBLE {
            return Err(Break::Trouble(self.trouble));
        }
        if self.since_flush >= FLUSH_BYTES || self.context.clock.now() >= self.flushed_at + FLUSH_AFTER {
            self.mark()?;
        }
        Ok(())
    }

    /// Flushes the target, then says so in the journal; never the other way round.
    fn mark(&mut self) -> Result<(), Break> {
        if self.broken {
            return Ok(());
        }
        self.broken = true;
        self.context.target.flush()?;
        self.journal.note(&self.note, (self.tally.written, self.tally.skipped), self.seconds_before + self.context.seconds())?;
        self.tally.latest = std::mem::take(&mut self.note).done;
        self.context.observer.event(&Event::Kept { done: self.tally.done_bytes() });
        self.since_flush = 0;
        self.flushed_at = self.context.clock.now();
        self.broken = false;
        Ok(())
    }
}

/// Copies what the route hands out, with so many reading at a time. Where the whole route was taken, everything on it is
/// on the target then.
///
/// # Errors
/// See [`Break`]; up to the last flush everything is kept.
pub fn copy(context: &Context, route: &Route, readers: usize, journal: &mut Journal, tally: &mut Tally) -> Result<(), Break> {
    let pool = Pool::new(BUFFERS.max((DEPTH as usize + 1) * readers), CHUNK as usize);
    let abort = AtomicBool::new(false);
    let (to_hasher, from_reader) = sync_channel::<Piece>(BUFFERS);
    let (to_writer, from_hasher) = sync_channel::<Hashed>(BUFFERS);
    let reader = Reader { context, route, pool: &pool, abort: &abort };
    let reader = &reader;
    std::thread::scope(|scope| {
        let reading: Vec<_> = (0..readers.max(1))
            .map(|_| {
                let out = to_hasher.clone();
                scope.spawn(move || reader.read(&out))
            })
            .collect();
        drop(to_hasher);
        scope.spawn(move || {
            for piece in from_reader {
                if to_writer.send(hash(context, piece)).is_err() {
                    return;
                }
            }
        });
        let (flushed_at, seconds_before) = (context.clock.now(), tally.seconds);
        let mut writer =
            Writer { context, journal, tally, note: Note::default(), since_flush: 0, flushed_at, seconds_before, broken: false, trouble: 0 };
        let written = write_all(&mut writer, from_hasher, &pool, &abort);
        let read = reading.into_iter().map(|reading| reading.join().expect("the reader does not panic")).fold(Ok(()), Result::and);
        // What came before a stop, a vanished source or a refused write is kept all the same.
        let marked = writer.mark();
        written.and(marked).and(read)
    })
}

/// Leaves that are mended between two notes in the journal.
const MENDED: usize = 16;

/// Tries once more what an `earlier` run could not read, without reading anything else of the source again but what lies under
/// changes of the plan: what comes now goes where it belongs, and its leaf gets the hash of all that is there then. Whether
/// anything came.
///
/// # Errors
/// See [`Break`].
pub fn late(context: &Context, earlier: &Extents<()>, journal: &mut Journal, tally: &mut Tally) -> Result<bool, Break> {
    let leaves: BTreeSet<u64> = earlier.iter().flat_map(|(range, ())| range.start / LEAF..range.end.div_ceil(LEAF)).collect();
    let before = tally.lost_bytes();
    let mut mended = Vec::new();
    for leaf in leaves {
        if !context.control.go_on() {
            return Err(Break::Stopped);
        }
        mended.extend(mend(context, journal, tally, leaf)?);
        if mended.len() >= MENDED {
            settle(context, journal, tally, std::mem::take(&mut mended))?;
        }
    }
    settle(context, journal, tally, mended)?;
    Ok(tally.lost_bytes() < before)
}

/// A leaf of which more is known than before.
struct Mended {
    start: u64,
    /// What the source holds there, as far as it is known now.
    bytes: Buffer,
    came: Vec<Range<u64>>,
    lost: Vec<(u64, u64)>,
}

/// Reads what is missing of a leaf. `None` where nothing came, and where not all else of it is known any more: what is on the
/// target is never given for what comes late.
fn mend(context: &Context, journal: &Journal, tally: &Tally, leaf: u64) -> Result<Option<Mended>, Break> {
    let start = leaf * LEAF;
    let Some((done, ())) = tally.done.within(start..(start + LEAF).min(context.plan.size())).find(|(range, ())| range.start == start) else {
        return Ok(None);
    };
    let len = (done.end - start) as usize;
    let inside = |range: &Range<u64>| (range.start - start) as usize..(range.end - start) as usize;
    let hard = |range: &Range<u64>, bytes: &mut [u8], lost: &mut Vec<(u64, u64)>| {
        let gone = |why| if context.control.is_stopped() { Break::Stopped } else { Break::SourceGone(why) };
        read_hard(context.image, range.start, &mut bytes[inside(range)], lost).map_err(gone)
    };
    let (mut missing, mut lost) = (Buffer::new(len), Vec::new());
    for (range, ()) in tally.lost.within(done.clone()) {
        hard(&range, &mut missing, &mut lost)?;
    }
    let mut still = Extents::new();
    lost.iter().for_each(|(at, len)| still.set(*at..at + len, ()));
    let came: Vec<Range<u64>> = tally.lost.within(done.clone()).flat_map(|(range, ())| still.gaps(range)).collect();
    if came.is_empty() {
        return Ok(None);
    }
    // All else comes from the target. One that does not hold what was written there is left to the proof.
    let (mut bytes, mut unread) = (Buffer::new(len), Vec::new());
    read_hard(&**context.target, start, &mut bytes, &mut unread).map_err(Break::TargetGone)?;
    let wanted = match tally.patched.get(&leaf) {
        Some(patched) => Some(*patched),
        None => journal.leaves(leaf, 1)?.first().copied(),
    };
    if !unread.is_empty() || wanted != Some(noted(leaf, &bytes, context.plan.size())) {
        return Ok(None);
    }
    came.iter().for_each(|range| bytes[inside(range)].copy_from_slice(&missing[inside(range)]));
    // Only under a change of the plan the source must say once more what it holds.
    let (sector, mut under) = (u64::from(context.image.geometry().logical_sector), Vec::new());
    for patch in context.patches(start, len as u64) {
        let end = patch.at + patch.bytes.len() as u64;
        let range = patch.at.max(start) / sector * sector..end.div_ceil(sector).saturating_mul(sector).min(done.end);
        hard(&range, &mut bytes, &mut under)?;
    }
    let is_known = under.iter().all(|(at, len)| still.gaps(*at..at + len).next().is_none());
    Ok(is_known.then_some(Mended { start, bytes, came, lost }))
}

/// Writes leaves of which more is known, and notes what they are now. Between the two notes they count as not done.
fn settle(context: &Context, journal: &mut Journal, tally: &mut Tally, mended: Vec<Mended>) -> Result<(), Break> {
    if mended.is_empty() {
        return Ok(());
    }
    let stretches: Vec<(u64, u64)> = mended.iter().map(|leaf| (leaf.start, leaf.bytes.len() as u64)).collect();
    journal.anew(&stretches)?;
    let mut note = Note::default();
    for Mended { start, mut bytes, came, lost } in mended {
        let (leaf, len, size) = (start / LEAF, bytes.len() as u64, context.plan.size());
        tally.forget(start, start + len);
        journal.note_leaves(leaf, &[noted(leaf, &bytes, size)])?;
        if context.apply_patches(start, &mut bytes) {
            note.patched.push((leaf, noted(leaf, &bytes, size)));
        }
        context.target.write_at(start, &bytes)?;
        tally.written += len;
        note.add(start, len);
        note.lost.extend(lost);
        came.iter().for_each(|range| context.observer.event(&Event::Late { start: range.start, len: range.end - range.start }));
    }
    context.target.flush()?;
    journal.note(&note, (tally.written, tally.skipped), tally.seconds + context.seconds())?;
    note.done.iter().for_each(|(start, len)| tally.done.set(*start..start + len, ()));
    note.lost.iter().for_each(|(start, len)| tally.lost.set(*start..start + len, ()));
    tally.patched.extend(note.patched);
    Ok(())
}

fn write_all(writer: &mut Writer, pieces: Receiver<Hashed>, pool: &Pool, abort: &AtomicBool) -> Result<(), Break> {
    let mut outcome = Ok(());
    for hashed in pieces {
        if outcome.is_ok() {
            outcome = writer.take(hashed, pool);
            abort.store(outcome.is_err(), Ordering::Relaxed);
        } else if let Piece::Data { buffer, .. } = hashed.piece {
            // The reader may be waiting for this buffer; it looks at `abort` next.
            pool.give(buffer);
        }
    }
    outcome
}

/// Zeroes or discards in steps of so many bytes.
const REST_STEP: u64 = 64 << 20;

/// Does to the rest of the target what the plan says: everything that nothing is copied to.
fn clear_rest(context: &Context, rest: Rest) -> Result<(), Break> {
    let size = context.target.geometry().size_bytes;
    let mut copied: Vec<(u64, u64)> = context.plan.moves.iter().map(|step| (step.to, step.to + step.len)).collect();
    copied.sort_unstable();
    let mut at = 0;
    for (start, end) in copied.into_iter().chain([(size, size)]) {
        while at < start {
            if !context.control.go_on() {
                return Err(Break::Stopped);
            }
            let known = if rest == Rest::Zero { context.target.zero_run(at, start - at) } else { 0 };
            let step = if known > 0 { known } else { (start - at).min(REST_STEP) };
            match rest {
                _ if known > 0 => {}
                Rest::Zero => context.target.write_zero(at, step)?,
                Rest::Discard => _ = context.target.discard(at, step)?,
                Rest::Leave => {}
            }
            at += step;
        }
        at = at.max(end);
    }
    Ok(())
}

/// Takes old tables off both ends of the target, and what else the plan wants gone.
///
/// # Errors
/// A write that was not taken; [`Break::Stopped`].
pub fn clear(context: &Context) -> Result<(), Break> {
    match context.plan.sparing.as_ref().map(|sparing| sparing.rest) {
        None | Some(Rest::Leave) => {}
        Some(rest) => clear_rest(context, rest)?,
    }
    for &(start, len) in &context.plan.cleared {
        let mut at = start;
        while at < start + len {
            let known = context.target.zero_run(at, start + len - at);
            if known > 0 {
                at += known;
                continue;
            }
            let step = (start + len - at).min(LEAF);
            context.target.write_zero(at, step)?;
            at += step;
        }
    }
    Ok(context.target.flush()?)
}

/// Writes the plan's bytes that lie outside everything that is copied.
///
/// # Errors
/// A write that was not taken.
pub fn write_outer_patches(context: &Context) -> Result<u64, Break> {
    let inside = |patch: &Patch| {
        let end = patch.at + patch.bytes.len() as u64;
        context.plan.moves.iter().map(|step| end.min(step.to + step.len).saturating_sub(patch.at.max(step.to))).sum::<u64>()
            == patch.bytes.len() as u64
    };
    let mut written = 0;
    for patch in context.plan.patches.iter().filter(|patch| !inside(patch)) {
        let mut buffer = Buffer::new(patch.bytes.len());
        buffer.copy_from_slice(&patch.bytes);
        context.target.write_at(patch.at, &buffer)?;
        written += patch.bytes.len() as u64;
    }
    context.target.flush()?;
    Ok(written)
}
