//! A volume on a drive, read through a cache of limited size, with the blocks of a journal laid over it.

use crate::finding::{Finding, Result};
use badger_drive::{ReadError, Since, Source, Standing};
use std::collections::{HashMap, HashSet};
use std::ops::{Deref, Range};
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Condvar, Mutex};

/// Bytes of one cached block, and how many are kept: 8 MiB, near enough to the processor; the system keeps more. Whoever
/// reads on is given more at once: twice as much each time, up to so many blocks.
const BLOCK: u64 = 16 << 10;
const MOST_BLOCKS: usize = 512;
const AHEAD: u64 = 32;
/// Blocks as near as this are asked for together.
const NEAR: u64 = 5;
/// Reads of so many bytes go past the cache.
const LARGE: u64 = 1 << 20;

/// A volume on a drive, read through a cache of limited size.
pub struct Cached {
    drive: Source,
    start: u64,
    len: u64,
    /// What the system said of the drive when this was opened.
    opened: Standing,
    blocks: Mutex<Blocks>,
    /// Somebody has read a block.
    read: Condvar,
    overlay: Overlay,
}

/// Reads many small things that lie near each other: it holds on to the block it read last.
pub(crate) struct Near<'a> {
    volume: &'a Cached,
    held: Option<(u64, Block)>,
}

impl Near<'_> {
    /// See [`Cached::read_into`].
    pub(crate) fn read_into(&mut self, at: u64, buf: &mut [u8]) -> Result<()> {
        let (number, inner) = (at / BLOCK, (at % BLOCK) as usize);
        if inner + buf.len() > BLOCK as usize || self.volume.is_laid_over() {
            return self.volume.read_into(at, buf);
        }
        if self.held.as_ref().is_none_or(|(held, _)| *held != number) {
            self.held = if at < self.volume.len { self.volume.block(number, 1).ok().map(|block| (number, block)) } else { None };
        }
        match self.held.as_ref().and_then(|(_, block)| block.get(inner..inner + buf.len())) {
            Some(bytes) => buf.copy_from_slice(bytes),
            None => self.volume.read_into(at, buf)?,
        }
        Ok(())
    }
}

/// Blocks whose newer content lies elsewhere in the volume: a journal that was not carried out.
#[derive(Default)]
pub(crate) struct Overlay {
    /// Bytes of a block.
    pub block: u64,
    /// Number of a block, to where its content lies and whether its first four bytes were taken out.
    pub places: HashMap<u64, (u64, Option<[u8; 4]>)>,
}

#[derive(Default)]
struct Blocks {
    /// The run that holds a block.
    held: HashMap<u64, Arc<Run>>,
    turn: u64,
    /// Blocks that somebody is reading.
    busy: HashSet<u64>,
    /// Where several runs followed each other, the latest first.
    streams: Vec<Stream>,
    /// Room of runs that are not held any more.
    buffers: Vec<Vec<u8>>,
    /// Blocks that could not be read whole, and their sectors as far as somebody wanted them: each is read once.
    failed: HashSet<u64>,
    sectors: HashMap<u64, std::result::Result<Arc<[u8]>, Finding>>,
}

/// Runs that were announced one after the other: the block where they end, and how many more than wanted were announced.
struct Stream {
    end: u64,
    window: u64,
}

/// Streams told apart, and the most blocks that are announced without being wanted yet: 1 MiB.
const MOST_STREAMS: usize = 4;
const MOST_WINDOW: u64 = 64;

/// So many sectors of blocks that failed are kept.
const MOST_SECTORS: usize = 64 << 10;

/// Blocks that were read together, which are let go together.
struct Run {
    first: u64,
    bytes: Vec<u8>,
    /// When it was last asked for.
    used: AtomicU64,
}

/// A block within its run.
struct Block {
    run: Arc<Run>,
    place: Range<usize>,
}

impl Block {
    fn of(run: &Arc<Run>, number: u64) -> Self {
        let start = ((number - run.first) * BLOCK) as usize;
        Self { run: run.clone(), place: start..run.bytes.len().min(start + BLOCK as usize) }
    }
}

impl Deref for Block {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.run.bytes[self.place.clone()]
    }
}

/// Buffers kept for the next run.
const MOST_BUFFERS: usize = 64;

impl Blocks {
    /// Room for so many bytes, one that was used before if it is not much larger.
    fn buffer(&mut self, len: usize) -> Vec<u8> {
        // New room comes from the system full of zeroes: it is not filled with them once more.
        let Some(fits) = self.buffers.iter().position(|buffer| (len..=len * 2).contains(&buffer.capacity())) else { return vec![0; len] };
        let mut buffer = self.buffers.swap_remove(fits);
        buffer.resize(len, 0);
        buffer
    }

    /// Lets the older half go at once, so that the search for it is rare.
    fn let_go(&mut self) {
        let mut turns: Vec<u64> = self.held.values().map(|run| run.used.load(Relaxed)).collect();
        turns.sort_unstable();
        let middle = turns[turns.len() / 2];
        let buffers = &mut self.buffers;
        self.held.retain(|_, run| {
            let stays = run.used.load(Relaxed) > middle;
            if !stays && buffers.len() < MOST_BUFFERS && Arc::strong_count(run) == 1 {
                buffers.push(std::mem::take(&mut Arc::get_mut(run).expect("held once").bytes));
            }
            stays
        });
    }

    /// What to announce of a run of blocks that is wanted next: less where it was announced before, more where one run
    /// follows another.
    fn onward(&mut self, run: Range<u64>) -> Option<Range<u64>> {
        let goes_on = |stream: &Stream| run.start <= stream.end + NEAR && run.end + stream.window >= stream.end;
        let Some(at) = self.streams.iter().position(goes_on) else {
            self.streams.truncate(MOST_STREAMS - 1);
            self.streams.insert(0, Stream { end: run.end, window: run.end - run.start });
            return Some(run);
        };
        let stream = &mut self.streams[at];
        if run.end + stream.window / 2 < stream.end {
            return None;
        }
        let start = run.start.max(stream.end);
        stream.window = (stream.window * 2).min(MOST_WINDOW);
        stream.end = stream.end.max(run.end) + stream.window;
        let end = stream.end;
        self.streams[..=at].rotate_right(1);
        Some(start..end)
    }

    /// How many blocks to read from one on that is not here: what is wanted, or more for whoever reads on.
    fn reach(&self, number: u64, wanted: u64) -> u64 {
        let before = (1..=AHEAD).take_while(|back| number.checked_sub(*back).is_some_and(|one| self.held.contains_key(&one))).count() as u64;
        let is_free = |on: &u64| {
            let number = number + on;
            !self.held.contains_key(&number) && !self.failed.contains(&number) && !self.busy.contains(&number)
        };
        1 + (1..(before + 1).max(wanted).min(AHEAD)).take_while(is_free).count() as u64
    }
}

impl Cached {
    /// `len` bytes from byte `start` of a drive on.
    pub fn new(drive: Source, start: u64, len: u64) -> Self {
        let len = len.min(drive.geometry().size_bytes.saturating_sub(start));
        let opened = drive.standing();
        Self { drive, start, len, opened, blocks: Mutex::default(), read: Condvar::new(), overlay: Overlay::default() }
    }

    /// Bytes the drive counts in.
    pub fn sector(&self) -> u64 {
        u64::from(self.drive.geometry().logical_sector.max(512))
    }

    /// The drive it lies on.
    pub fn drive(&self) -> &Source {
        &self.drive
    }

    /// What became of the drive since this was opened: what is kept of it, or was read of it, need not fit together where it was
    /// written to.
    pub fn since(&self) -> Since {
        self.drive.standing().since(&self.opened)
    }

    /// Byte of the drive where it begins.
    pub fn start(&self) -> u64 {
        self.start
    }

    /// Bytes of the volume.
    pub fn len(&self) -> u64 {
        self.len
    }

    /// Whether there is nothing at all.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// So many entries of directories have room on it: no format needs less than 8 bytes for one.
    pub(crate) fn most_entries(&self) -> u64 {
        self.len / 8 + 4096
    }

    /// Lays a journal's blocks over the volume, in place of those laid over it before.
    pub(crate) fn lay_over(&mut self, overlay: Overlay) {
        self.overlay = overlay;
    }

    /// Whether a journal lies over it.
    pub fn is_laid_over(&self) -> bool {
        !self.overlay.places.is_empty()
    }

    /// A block, and as many of those behind it as are `wanted` with it or may be wanted next. While one reads, others may read
    /// elsewhere; nobody reads the same at the same time.
    fn block(&self, number: u64, wanted: u64) -> Result<Block> {
        let unreadable = |why: String| Finding::new("unreadable", why);
        let mut blocks = self.blocks.lock().expect("cache lock");
        loop {
            blocks.turn += 1;
            let turn = blocks.turn;
            if let Some(run) = blocks.held.get(&number) {
                run.used.store(turn, Relaxed);
                return Ok(Block::of(run, number));
            }
            if blocks.failed.contains(&number) {
                return Err(unreadable(format!("somewhere in the {BLOCK} bytes at {}", self.start + number * BLOCK)));
            }
            if !blocks.busy.contains(&number) {
                break;
            }
            blocks = self.read.wait(blocks).expect("cache lock");
        }
        let count = blocks.reach(number, wanted);
        let at = number * BLOCK;
        let mut bytes = blocks.buffer((count * BLOCK).min(self.len - at) as usize);
        blocks.busy.extend(number..number + count);
        drop(blocks);
        let mut outcome = self.drive.read_at(self.start + at, &mut bytes);
        let mut bad = None;
        if let (2.., Err(ReadError::Unreadable { offset, .. })) = (count, &outcome) {
            // What lies before the place that failed is here.
            match offset.saturating_sub(self.start + at) / BLOCK {
                0 => {
                    bytes.truncate(BLOCK as usize);
                    outcome = self.drive.read_at(self.start + at, &mut bytes);
                }
                good => {
                    bad = Some(number + good);
                    bytes.truncate((good * BLOCK) as usize);
                    outcome = Ok(());
                }
            }
        }
        let mut blocks = self.blocks.lock().expect("cache lock");
        if let Some(bad) = bad.filter(|_| blocks.failed.len() < MOST_SECTORS) {
            blocks.failed.insert(bad);
        }
        (number..number + count).for_each(|number| _ = blocks.busy.remove(&number));
        self.read.notify_all();
        if let Err(error) = outcome {
            // A drive that is away is asked again; one that cannot read a place is not.
            if matches!(error, ReadError::Unreadable { .. }) && blocks.failed.len() < MOST_SECTORS {
                blocks.failed.insert(number);
            }
            return Err(unreadable(error.to_string()));
        }
        if blocks.held.len() + bytes.len() / BLOCK as usize >= MOST_BLOCKS {
            blocks.let_go();
        }
        let count = (bytes.len() as u64).div_ceil(BLOCK);
        let run = Arc::new(Run { first: number, bytes, used: AtomicU64::new(blocks.turn) });
        blocks.held.extend((number..number + count).map(|number| (number, run.clone())));
        Ok(Block::of(&run, number))
    }

    /// For many small reads near each other.
    pub(crate) fn near(&self) -> Near<'_> {
        Near { volume: self, held: None }
    }

    /// Says which stretches are read next. Where a place of the drive failed nothing is read before its time any more.
    pub(crate) fn expect(&self, stretches: impl Iterator<Item = (u64, u64)>) {
        let mut blocks = self.blocks.lock().expect("cache lock");
        if !blocks.failed.is_empty() {
            return;
        }
        let mut wanted: Vec<u64> = stretches
            .filter(|(at, len)| *len > 0 && at.checked_add(*len).is_some_and(|end| end <= self.len))
            .take(MOST_BLOCKS)
            .flat_map(|(at, len)| at / BLOCK..(at + len).div_ceil(BLOCK).min(at / BLOCK + MOST_BLOCKS as u64))
            .filter(|number| !blocks.held.contains_key(number))
            .take(MOST_BLOCKS / 4)
            .collect();
        wanted.sort_unstable();
        wanted.dedup();
        // What lies between two that are near each other is read faster than it is passed over.
        let runs = wanted.chunk_by(|a, b| b - a <= NEAR).map(|run| run[0]..run[run.len() - 1] + 1);
        let runs: Vec<Range<u64>> = runs.filter_map(|run| blocks.onward(run)).collect();
        drop(blocks);
        for run in runs {
            let at = run.start * BLOCK;
            if at < self.len {
                self.drive.will_read(self.start + at, ((run.end - run.start) * BLOCK).min(self.len - at));
            }
        }
    }

    /// Says that stretches are all read soon, the last first: what is read onward makes the system below a device over a
    /// file read on into whatever lies behind, eight times as much as is wanted.
    pub(crate) fn expect_all(&self, stretches: &[(u64, u64)]) {
        if !self.blocks.lock().expect("cache lock").failed.is_empty() {
            return;
        }
        for (at, len) in stretches.iter().rev().filter(|(at, len)| at.checked_add(*len).is_some_and(|end| end <= self.len)) {
            for part in (0..len.div_ceil(LARGE)).rev() {
                self.drive.will_read(self.start + at + part * LARGE, LARGE.min(len - part * LARGE));
            }
        }
    }

    /// Fills `buf` from byte `at` of the volume.
    ///
    /// # Errors
    /// A finding where it lies outside or cannot be read.
    pub fn read_into(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        self.read_below(at, buf)?;
        let size = self.overlay.block;
        if self.overlay.places.is_empty() || buf.is_empty() {
            return Ok(());
        }
        let end = at + buf.len() as u64;
        for block in at / size..end.div_ceil(size) {
            let Some((place, taken)) = self.overlay.places.get(&block) else { continue };
            let mut bytes = vec![0; size as usize];
            self.read_below(*place, &mut bytes)?;
            if let Some(taken) = taken {
                bytes[..4].copy_from_slice(taken);
            }
            let (from, to) = (at.max(block * size), end.min((block + 1) * size));
            buf[(from - at) as usize..(to - at) as usize].copy_from_slice(&bytes[(from - block * size) as usize..(to - block * size) as usize]);
        }
        Ok(())
    }

    /// What the volume itself holds, whatever lies over it.
    ///
    /// # Errors
    /// See [`Cached::read_into`].
    pub(crate) fn read_below(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        if at.checked_add(buf.len() as u64).is_none_or(|end| end > self.len) {
            return Err(Finding::new("outside", format!("byte {at} lies outside of the volume")));
        }
        // Large reads of file content would only push everything else out.
        if buf.len() as u64 >= LARGE {
            return self.drive.read_at(self.start + at, buf).map_err(|error| Finding::new("unreadable", error.to_string()));
        }
        let (mut done, buf_len) = (0, buf.len());
        while done < buf_len {
            let place = at + done as u64;
            let inner = (place % BLOCK) as usize;
            let len = (buf_len - done).min(BLOCK as usize - inner);
            let out = &mut buf[done..done + len];
            match self.block(place / BLOCK, (inner as u64 + (buf_len - done) as u64).div_ceil(BLOCK)) {
                Ok(block) => out.copy_from_slice(&block[inner..inner + len]),
                // Somewhere in the block is an unreadable place; it must not cost what lies beside it.
                Err(_) => self.by_sectors(place, out)?,
            }
            done += len;
        }
        Ok(())
    }

    /// Reads what lies in a block that could not be read whole, sector by sector, each once.
    fn by_sectors(&self, at: u64, out: &mut [u8]) -> Result<()> {
        let size = self.sector();
        let mut done = 0;
        while done < out.len() {
            let place = at + done as u64;
            // Sectors count from the start of the drive.
            let number = (self.start + place) / size;
            let inner = ((self.start + place) % size) as usize;
            let len = (out.len() - done).min(size as usize - inner);
            let known = self.blocks.lock().expect("cache lock").sectors.get(&number).cloned();
            let sector = known.unwrap_or_else(|| {
                let end = ((number + 1) * size).min(self.drive.geometry().size_bytes);
                let mut bytes = vec![0; (end - number * size) as usize];
                let read = self.drive.read_at(number * size, &mut bytes);
                let gone = matches!(read, Err(ReadError::Gone(_) | ReadError::Silent { .. }));
                let sector = read.map(|()| Arc::from(bytes)).map_err(|error| Finding::new("unreadable", error.to_string()));
                let mut blocks = self.blocks.lock().expect("cache lock");
                if !gone && blocks.sectors.len() < MOST_SECTORS {
                    blocks.sectors.insert(number, sector.clone());
                }
                sector
            })?;
            out[done..done + len].copy_from_slice(&sector[inner..inner + len]);
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
