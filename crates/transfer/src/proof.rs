//! Reads the target back from the medium and compares it with what was read from the source.

use crate::copy::{Break, CHUNK, Context, DEPTH, noted};
use crate::journal::Journal;
use crate::tree::{self, Builder, Hash, LEAF};
use badger_drive::buffer::{Buffer, Pool};
use badger_drive::events::Event;
use badger_drive::reads::{Got, Reads};
use badger_drive::{Medium, Patience};
use badger_inspect::Stretch;
use std::collections::BTreeMap;
use std::sync::mpsc::{SyncSender, sync_channel};

/// So many differing leaves are remembered; of more only the number.
const MOST: usize = 4096;
/// Known zeroes passed over in one go, so that a stop is heard.
const MOST_ZERO: u64 = 64 << 20;
/// Hashes fetched from the journal in one go.
const FETCH: u64 = 4096;

/// What reading back brought.
#[derive(Debug, Default)]
pub struct ReadBack {
    /// Root of the source's tree.
    pub source: Hash,
    /// Root of what the target should hold.
    pub expected: Hash,
    /// Root of what the drive that was read holds.
    pub found: Hash,
    /// Numbers of leaves that differ.
    pub differing: Vec<u64>,
    /// How many differ, also where there are too many to remember.
    pub differ: u64,
    /// Stretches that could not be read back.
    pub unreadable: Places,
    /// Leaves that differ because something in them could not be read back.
    pub unread_leaves: u64,
}

/// Stretches in bytes, neighbours put together; of very many only the first, and how many they are.
#[derive(Debug, Default)]
pub struct Places {
    /// Start and length.
    pub ranges: Vec<(u64, u64)>,
    /// How many there are.
    pub count: u64,
    /// Bytes of all of them.
    pub bytes: u64,
}

impl Places {
    fn add(&mut self, start: u64, len: u64) {
        self.bytes += len;
        match self.ranges.last_mut() {
            Some((before, held)) if *before + *held == start => *held += len,
            _ => {
                self.count += 1;
                if self.ranges.len() < MOST {
                    self.ranges.push((start, len));
                }
            }
        }
    }
}

/// What reading the rest of the target brought.
#[derive(Debug, Default)]
pub struct Beside {
    /// Bytes read.
    pub bytes: u64,
    /// Blocks that are not zero.
    pub differ: u64,
    /// The first of them: start and length in bytes.
    pub differing: Vec<(u64, u64)>,
    /// What could not be read.
    pub unreadable: Places,
}

/// What on the target nothing is copied or written to: start and length in bytes, in order.
pub fn gaps(context: &Context) -> Vec<(u64, u64)> {
    let size = context.target.geometry().size_bytes;
    let patches = context.plan.patches.iter().map(|patch| (patch.at, patch.bytes.len() as u64));
    let mut held: Vec<(u64, u64)> = context.plan.stretches().into_iter().chain(patches).collect();
    held.sort_unstable();
    let (mut at, mut out) = (0, Vec::new());
    for (start, len) in held.into_iter().chain([(size, 0)]) {
        if at < start {
            out.push((at, start - at));
        }
        at = at.max(start + len);
    }
    out
}

/// Reads everything on the target that nothing is copied or written to, whether it is zero.
///
/// # Errors
/// [`Break::Stopped`], [`Break::TargetGone`].
pub fn beside(context: &Context) -> Result<Beside, Break> {
    let mut out = Beside::default();
    let mut buffer = Buffer::new(CHUNK as usize);
    for (start, len) in gaps(context) {
        let (mut at, end) = (start, start + len);
        while at < end {
            if !context.control.go_on() {
                return Err(Break::Stopped);
            }
            let known = context.target.zero_run(at, (end - at).min(MOST_ZERO));
            let step = if known > 0 { known } else { (end - at).min(LEAF - at % LEAF) };
            if known == 0 {
                let mut unreadable = Vec::new();
                let bytes = &mut buffer[..step as usize];
                read(&**context.target, at, bytes, &mut unreadable)?;
                if !badger_drive::buffer::is_zero(bytes) {
                    out.differ += 1;
                    if out.differing.len() < MOST {
                        out.differing.push((at, step));
                    }
                    context.observer.event(&Event::Differs { start: at, len: step });
                }
                unreadable.iter().for_each(|(start, len)| out.unreadable.add(*start, *len));
            }
            out.bytes += step;
            context.observer.event(&Event::Moved { start: at, len: step, at: context.seconds() });
            at += step;
        }
    }
    Ok(out)
}

enum Piece {
    Data {
        leaf: u64,
        len: usize,
        buffer: Buffer,
        unreadable: Vec<(u64, u64)>,
    },
    Zero {
        leaf: u64,
        count: u64,
    },
    /// Leaves that nothing is copied to and nobody reads; they count as zero.
    Spared {
        leaf: u64,
        count: u64,
    },
}

/// Which side is read.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// The target, against what it should hold.
    Target,
    /// The source once more, as the target is to hold it, against what it gave the first time.
    Source,
}

/// Feeds leaves into a tree, runs of zeroes in one go.
struct Feed {
    builder: Builder,
    zeroes: u64,
}

impl Feed {
    fn new() -> Self {
        Self { builder: Builder::new(), zeroes: 0 }
    }
    fn push(&mut self, noted: Hash) {
        if noted == [0; 32] {
            self.zeroes += 1;
        } else {
            self.builder.push_zero(std::mem::take(&mut self.zeroes));
            self.builder.push(noted);
        }
    }
    fn root(mut self, size: u64) -> Hash {
        self.builder.push_zero(self.zeroes);
        self.builder.root(size)
    }
}

/// Reads a stretch; what fails is narrowed down to the sector and read as zero.
///
/// # Errors
/// [`Break::TargetGone`] where the drive does not answer any more: that is no fault of what it holds.
fn read(drive: &dyn Medium, start: u64, buf: &mut [u8], unreadable: &mut Vec<(u64, u64)>) -> Result<(), Break> {
    badger_drive::narrow::read_hard(drive, start, buf, unreadable).map_err(Break::TargetGone)
}

/// What is read for a proof: everything that was copied.
pub fn proved_stretches(context: &Context) -> Vec<(u64, u64)> {
    match &context.plan.sparing {
        None if context.plan.fit.is_none() => vec![(0, context.plan.size())],
        _ => context.plan.stretches(),
    }
}

/// One side while it is read for a proof.
struct Reading<'a> {
    context: &'a Context<'a>,
    drive: &'a (dyn Medium + 'a),
    side: Side,
    pool: &'a Pool,
}

impl Reading<'_> {
    /// Reads everything that was copied, and says what is passed over.
    fn all(&self, out: &SyncSender<Piece>) -> Result<(), Break> {
        let patience = Patience { control: Some(self.context.control.clone()), ..self.context.source.patience() };
        let mut reads = Reads::new(self.drive, DEPTH, &patience, self.pool);
        let size = self.context.plan.size();
        let mut leaf = 0;
        for (start, len) in proved_stretches(self.context).into_iter().chain([(size.div_ceil(LEAF) * LEAF, 0)]) {
            let count = start / LEAF - leaf;
            if count > 0 && !(self.all_landed(&mut reads, out)? && out.send(Piece::Spared { leaf, count }).is_ok()) {
                return Ok(());
            }
            let (mut at, end) = (start, (start + len).min(size));
            while at < end {
                if !self.context.control.go_on() {
                    return Err(Break::Stopped);
                }
                let zero = self.zero_leaves(at, end);
                if zero > 0 {
                    if !(self.all_landed(&mut reads, out)? && out.send(Piece::Zero { leaf: at / LEAF, count: zero }).is_ok()) {
                        return Ok(());
                    }
                    at += zero * LEAF;
                    continue;
                }
                let len = (end - at).min(CHUNK);
                self.context.control.hold_back(len, self.context.clock);
                reads.begin(at, len);
                at += len;
                while let Some(got) = reads.make_room().map_err(|why| self.gone(why))? {
                    if !pass_on(got, out) {
                        return Ok(());
                    }
                }
            }
            leaf = end.div_ceil(LEAF);
        }
        self.all_landed(&mut reads, out).map(|_| ())
    }

    /// How many whole leaves from a byte on are known to be zero.
    fn zero_leaves(&self, at: u64, end: u64) -> u64 {
        let whole = self.context.plan.size() / LEAF * LEAF;
        let rest = end.min(whole).saturating_sub(at);
        if rest >= LEAF { self.drive.zero_run(at, rest) / LEAF } else { 0 }
    }

    /// Passes on everything that is in flight. False where nobody takes it.
    fn all_landed(&self, reads: &mut Reads, out: &SyncSender<Piece>) -> Result<bool, Break> {
        while let Some(got) = reads.land().map_err(|why| self.gone(why))? {
            if !pass_on(got, out) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn gone(&self, why: String) -> Break {
        match self.side {
            _ if self.context.control.is_stopped() => Break::Stopped,
            Side::Source => Break::SourceGone(why),
            Side::Target => Break::TargetGone(why),
        }
    }
}

/// False where nobody takes it.
fn pass_on(Got { offset, len, buffer, lost }: Got, out: &SyncSender<Piece>) -> bool {
    out.send(Piece::Data { leaf: offset / LEAF, len, buffer, unreadable: lost }).is_ok()
}

/// What was read against what was noted.
struct Comparing<'a> {
    context: &'a Context<'a>,
    journal: &'a Journal,
    /// What leaves with changes of the plan should be; none where the source is read.
    patched: &'a BTreeMap<u64, Hash>,
    source: Feed,
    expected: Feed,
    found: Feed,
    out: ReadBack,
    failure: Option<std::io::Error>,
}

impl Comparing<'_> {
    /// What the journal says. One that cannot be read must not end the loop: the reader waits for its buffers to come back.
    fn recorded(&mut self, leaf: u64, count: usize) -> Vec<Hash> {
        self.journal.leaves(leaf, count).unwrap_or_else(|error| {
            self.failure = Some(error);
            vec![[0; 32]; count]
        })
    }

    fn leaf(&mut self, leaf: u64, noted: Hash, read: Hash) {
        let wanted = self.patched.get(&leaf).copied().unwrap_or(noted);
        self.source.push(noted);
        self.expected.push(wanted);
        self.found.push(read);
        if wanted != read {
            self.out.differ += 1;
            if self.out.differing.len() < MOST {
                self.out.differing.push(leaf);
            }
            let size = self.context.plan.size();
            self.context.observer.event(&Event::Differs { start: leaf * LEAF, len: LEAF.min(size - leaf * LEAF) });
        }
    }

    fn zeroes(&mut self, leaf: u64, count: u64) {
        let mut at = leaf;
        while at < leaf + count {
            let step = (leaf + count - at).min(FETCH);
            for (noted, number) in self.recorded(at, step as usize).into_iter().zip(at..) {
                self.leaf(number, noted, [0; 32]);
            }
            at += step;
        }
    }

    fn data(&mut self, leaf: u64, bytes: &[u8], unreadable: Vec<(u64, u64)>) {
        let size = self.context.plan.size();
        let hashes = self.recorded(leaf, bytes.len().div_ceil(LEAF as usize));
        for ((bytes, hash), number) in bytes.chunks(LEAF as usize).zip(hashes).zip(leaf..) {
            self.leaf(number, hash, noted(number, bytes, size));
        }
        let mut counted = None;
        for (start, len) in unreadable {
            self.out.unreadable.add(start, len);
            for leaf in start / LEAF..=(start + len - 1) / LEAF {
                self.out.unread_leaves += u64::from(counted.replace(leaf) != Some(leaf));
            }
        }
    }

    fn finish(self) -> Result<ReadBack, Break> {
        if let Some(error) = self.failure {
            return Err(error.into());
        }
        let size = self.context.plan.size();
        Ok(ReadBack { source: self.source.root(size), expected: self.expected.root(size), found: self.found.root(size), ..self.out })
    }
}

/// Reads one side, over the length of the plan, and compares every leaf.
///
/// # Errors
/// [`Break::Stopped`], or a journal that cannot be read.
pub fn read_back(context: &Context, journal: &Journal, patched: &BTreeMap<u64, Hash>, side: Side) -> Result<ReadBack, Break> {
    let pool = Pool::new(DEPTH as usize + 2, CHUNK as usize);
    let (send, pieces) = sync_channel::<Piece>(4);
    let drive: &(dyn Medium + '_) = match side {
        Side::Target => &**context.target,
        Side::Source => context.image,
    };
    let (reading, none) = (Reading { context, drive, side, pool: &pool }, BTreeMap::new());
    let patched = if side == Side::Target { patched } else { &none };
    let (source, expected, found) = (Feed::new(), Feed::new(), Feed::new());
    let mut comparing = Comparing { context, journal, patched, source, expected, found, out: ReadBack::default(), failure: None };
    std::thread::scope(|scope| {
        let reader = scope.spawn(move || reading.all(&send));
        for piece in pieces {
            let (start, len) = match piece {
                Piece::Spared { leaf, count } => {
                    (leaf..leaf + count).for_each(|number| comparing.leaf(number, [0; 32], [0; 32]));
                    continue;
                }
                Piece::Zero { leaf, count } => {
                    comparing.zeroes(leaf, count);
                    (leaf * LEAF, count * LEAF)
                }
                Piece::Data { leaf, len, buffer, unreadable } => {
                    comparing.data(leaf, &buffer[..len], unreadable);
                    pool.give(buffer);
                    (leaf * LEAF, len as u64)
                }
            };
            context.observer.event(&Event::Moved { start, len, at: context.seconds() });
        }
        reader.join().expect("the reader does not panic")
    })?;
    comparing.finish()
}

/// Finds the sectors in which a leaf of the target differs from what it should be. `None` where the source does not
/// give the same bytes as during the run, so that nothing can be compared.
pub fn narrow(context: &Context, journal: &Journal, leaf: u64) -> Option<Vec<Stretch>> {
    let start = leaf * LEAF;
    let len = LEAF.min(context.plan.size() - start) as usize;
    let (mut wanted, mut found) = (Buffer::new(len), Buffer::new(len));
    badger_drive::narrow::read_hard(context.image, start, &mut wanted, &mut Vec::new()).ok()?;
    if noted(leaf, &wanted, context.plan.size()) != *journal.leaves(leaf, 1).ok()?.first()? {
        return None;
    }
    context.apply_patches(start, &mut wanted);
    read(&**context.target, start, &mut found, &mut Vec::new()).ok()?;
    Some(differing_sectors(start, &wanted, &found, context.plan.target.sector))
}

/// The sectors in which two equally long stretches differ; `start` is their place in bytes.
pub fn differing_sectors(start: u64, a: &[u8], b: &[u8], sector: u32) -> Vec<Stretch> {
    let mut out: Vec<Stretch> = Vec::new();
    let first = start / u64::from(sector);
    for (at, (a, b)) in a.chunks(sector as usize).zip(b.chunks(sector as usize)).enumerate() {
        if a != b {
            let number = first + at as u64;
            match out.last_mut() {
                Some(last) if last.start + last.sectors == number => last.sectors += 1,
                _ => out.push(Stretch { start: number, sectors: 1 }),
            }
        }
    }
    out
}

/// A root in hex.
pub fn hex(hash: &Hash) -> String {
    tree::hex(hash)
}
