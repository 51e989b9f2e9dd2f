//! A volume on a drive, read through a cache of limited size, with the blocks of a journal laid over it.

use crate::tree::{Finding, Result};
use badger_drive::{ReadError, Source};
use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Condvar, Mutex};

/// Bytes of one cached block, and how many are kept: 64 MiB at the most. Whoever reads on is given more at once: twice as
/// much each time, up to so many blocks.
const BLOCK: u64 = 16 << 10;
const MOST_BLOCKS: usize = 4096;
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
    blocks: Mutex<Blocks>,
    /// Somebody has read a block.
    read: Condvar,
    overlay: Overlay,
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
    held: HashMap<u64, (Arc<[u8]>, u64)>,
    turn: u64,
    /// Blocks that somebody is reading.
    busy: HashSet<u64>,
    /// Room for what is read before it is divided, one for each who reads.
    buffers: Vec<Vec<u8>>,
    /// Blocks that could not be read whole, and their sectors as far as somebody wanted them: each is read once.
    failed: HashSet<u64>,
    sectors: HashMap<u64, std::result::Result<Arc<[u8]>, Finding>>,
}
/// So many sectors of blocks that failed are kept.
const MOST_SECTORS: usize = 64 << 10;

impl Blocks {
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
        Self { drive, start, len, blocks: Mutex::default(), read: Condvar::new(), overlay: Overlay::default() }
    }

    /// Bytes the drive counts in.
    pub fn sector(&self) -> u64 {
        u64::from(self.drive.geometry().logical_sector.max(512))
    }

    /// The drive it lies on.
    pub fn drive(&self) -> &Source {
        &self.drive
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
    fn block(&self, number: u64, wanted: u64) -> Result<Arc<[u8]>> {
        let unreadable = |why: String| Finding::new("unreadable", why);
        let mut blocks = self.blocks.lock().expect("cache lock");
        loop {
            blocks.turn += 1;
            let turn = blocks.turn;
            if let Some((bytes, used)) = blocks.held.get_mut(&number) {
                *used = turn;
                return Ok(bytes.clone());
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
        let mut bytes = blocks.buffers.pop().unwrap_or_default();
        blocks.busy.extend(number..number + count);
        drop(blocks);
        let at = number * BLOCK;
        bytes.resize((count * BLOCK).min(self.len - at) as usize, 0);
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
            // The older half goes at once, so that the search for it is rare.
            let mut turns: Vec<u64> = blocks.held.values().map(|(_, used)| *used).collect();
            turns.sort_unstable();
            let middle = turns[turns.len() / 2];
            blocks.held.retain(|_, (_, used)| *used > middle);
        }
        let turn = blocks.turn;
        let first: Arc<[u8]> = bytes[..bytes.len().min(BLOCK as usize)].into();
        blocks.held.insert(number, (first.clone(), turn));
        for (block, number) in bytes.chunks(BLOCK as usize).zip(number..).skip(1) {
            blocks.held.insert(number, (block.into(), turn));
        }
        blocks.buffers.push(bytes);
        Ok(first)
    }

    /// Says which stretches are read next. Where a place of the drive failed nothing is read before its time any more.
    pub(crate) fn expect(&self, stretches: impl Iterator<Item = (u64, u64)>) {
        let blocks = self.blocks.lock().expect("cache lock");
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
        drop(blocks);
        wanted.sort_unstable();
        wanted.dedup();
        // What lies between two that are near each other is read faster than it is passed over.
        for run in wanted.chunk_by(|a, b| b - a <= NEAR) {
            let at = run[0] * BLOCK;
            let len = (run[run.len() - 1] + 1) * BLOCK - at;
            self.drive.will_read(self.start + at, len.min(self.len - at));
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
                let gone = matches!(read, Err(ReadError::Gone(_)));
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
