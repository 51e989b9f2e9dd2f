//! Simulated drives: a raw file that behaves like a failing, slow or odd drive, described by a `*.drive.toml`.

mod description;

use crate::clock::Clock;
use crate::extents::Extents;
use crate::failing::Pattern;
use crate::identity::Identity;
use crate::medium::{Geometry, Holds, Medium, ReadError, Stretch, WriteError, WriteMedium, inside};
use crate::patience::{GLANCE, Patience};
use crate::raw::{RawFile, writable};
use crate::standing::Standing;
pub use description::{Description, Fault, IdentityPart, Pace, describe};
use std::fs::File;
use std::io;
use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

struct State {
    reads: u64,
    /// Reads since it was opened.
    all_reads: u64,
    /// Reads until it vanishes the next time, where its contact is bad.
    lasts: u64,
    gone_since: Option<Duration>,
    /// When it is back, where that was drawn.
    back_at: Duration,
    /// When every read began to fail.
    stopped_since: Option<Duration>,
    /// How often each pattern was met.
    failures: Vec<u64>,
    /// What failed last: where, and after how many reads.
    remembered: Option<(u64, u64)>,
    free_at: Duration,
    head: u64,
    random: u64,
    flushes: u64,
    /// The last stretch that was written and not flushed.
    unflushed: Option<(u64, u64)>,
}

/// An open simulated drive.
pub struct SimDrive {
    identity: Identity,
    geometry: Geometry,
    backing: RawFile,
    pace: Option<Pace>,
    faults: Vec<Fault>,
    failing: Vec<Pattern>,
    clock: Arc<dyn Clock>,
    /// When it was opened.
    began: Duration,
    state: Mutex<State>,
}

impl SimDrive {
    /// Opens the drive described at `path` for reading; it lives by `clock`.
    ///
    /// # Errors
    /// What is wrong with the description or its backing file.
    pub fn open(path: &Path, clock: Arc<dyn Clock>) -> io::Result<Self> {
        let description = describe(path)?;
        let backing = RawFile::open(&description.backing)?;
        Ok(Self::over(description, path, backing, clock))
    }

    pub(crate) fn open_for_writing(path: &Path, clock: Arc<dyn Clock>) -> io::Result<Self> {
        let description = describe(path)?;
        let backing = RawFile::open_for_writing(&description.backing)?;
        Ok(Self::over(description, path, backing, clock))
    }

    fn over(description: Description, path: &Path, backing: RawFile, clock: Arc<dyn Clock>) -> Self {
        let part = &description.identity;
        let geometry =
            Geometry { size_bytes: backing.geometry().size_bytes, logical_sector: part.logical_sector, physical_sector: part.physical_sector };
        let state = State {
            reads: 0,
            all_reads: 0,
            lasts: 0,
            stopped_since: None,
            gone_since: None,
            back_at: Duration::ZERO,
            failures: vec![0; description.failing.len()],
            remembered: None,
            free_at: Duration::ZERO,
            head: 0,
            random: 0x9e37_79b9_7f4a_7c15,
            flushes: 0,
            unflushed: None,
        };
        Self {
            identity: description.identity(path),
            geometry,
            backing,
            pace: description.pace,
            faults: description.faults,
            failing: description.failing,
            began: clock.now(),
            clock,
            state: Mutex::new(state),
        }
    }

    /// Calls its place as whoever named it did.
    pub(crate) fn shown_at(mut self, path: &Path) -> Self {
        self.identity.path = path.to_path_buf();
        self
    }

    pub(crate) fn file(&self) -> &File {
        self.backing.file()
    }

    fn touched(&self, lba: u64, sectors: u64, offset: u64, len: u64) -> Option<Range<u64>> {
        let sector = u64::from(self.geometry.logical_sector);
        let start = lba.saturating_mul(sector).max(offset);
        let end = lba.saturating_add(sectors).saturating_mul(sector).min(offset + len);
        (start < end).then_some(start..end)
    }

    /// Lets the drive be busy for `bytes` at `mb_s`, a jump where the head is elsewhere, and `more`.
    fn spend(&self, state: &mut State, offset: u64, bytes: u64, reading: bool, more: Duration) {
        let mut cost = more;
        if let Some(pace) = self.pace {
            let rate = if reading { pace.read_mb_s } else { pace.write_mb_s };
            if rate > 0.0 {
                cost += Duration::from_secs_f64(bytes as f64 / (rate * 1e6));
            }
            if state.head != offset {
                cost += ms(pace.seek_ms);
            }
        }
        state.head = offset + bytes;
        if !cost.is_zero() {
            state.free_at = state.free_at.max(self.clock.now()) + cost;
        }
    }

    /// Lets the time go by that the drive is busy.
    fn wait(&self, state: &State) {
        self.clock.reach(state.free_at);
    }

    /// The same, as long as somebody has the patience.
    fn wait_within(&self, state: &State, offset: u64, patience: &Patience) -> Result<(), ReadError> {
        let began = self.clock.now();
        loop {
            let now = self.clock.now();
            if now >= state.free_at {
                return Ok(());
            }
            patience.check(offset, now - began)?;
            self.clock.reach(state.free_at.min(now + GLANCE.max((state.free_at - now) / 100)).min(began.saturating_add(patience.limit)));
        }
    }

    /// Whether its contact holds.
    fn contact(&self, state: &mut State, counts: bool) -> Result<(), String> {
        let Some((reads, s, seed)) = self.faults.iter().find_map(|fault| match fault {
            Fault::Contact { reads, s, seed } => Some((*reads, *s, *seed)),
            _ => None,
        }) else {
            return Ok(());
        };
        let gone = || Err("it dropped off the bus".to_string());
        if self.clock.now() < state.back_at {
            return gone();
        }
        let mut draw = || {
            state.random = state.random.wrapping_add(seed | 1);
            0.25 + 1.5 * ((step(&mut state.random) >> 11) as f64 / (1u64 << 53) as f64)
        };
        if state.lasts == 0 {
            state.lasts = ((reads as f64 * draw()) as u64).max(2);
        }
        if counts {
            state.lasts -= 1;
            if state.lasts == 0 {
                state.back_at = self.clock.now() + Duration::from_secs_f64((s * draw()).clamp(0.0, 1e6));
                return gone();
            }
        }
        Ok(())
    }

    fn answer(&self, state: &mut State, counts: bool) -> Result<(), String> {
        self.contact(state, counts)?;
        state.all_reads += u64::from(counts);
        let Some((after, back)) = self.faults.iter().find_map(|fault| match fault {
            Fault::Drops { after_reads, back_after_s } => Some((*after_reads, *back_after_s)),
            _ => None,
        }) else {
            state.reads += u64::from(counts);
            return Ok(());
        };
        if let Some(since) = state.gone_since {
            let returned = back.is_some_and(|seconds| self.clock.now() >= since + Duration::from_secs_f64(seconds.max(0.0)));
            if !returned {
                return Err("it dropped off the bus".into());
            }
            state.gone_since = None;
            state.reads = 0;
        }
        if counts {
            state.reads += 1;
            if state.reads > after {
                state.gone_since = Some(self.clock.now());
                return Err("it dropped off the bus".into());
            }
        }
        Ok(())
    }
}

impl SimDrive {
    /// The first place of a stretch that fails with the milliseconds that this takes, and how much longer the whole takes.
    fn troubles(&self, state: &mut State, offset: u64, len: u64) -> (Option<(u64, f64)>, Duration) {
        let mut extra = Duration::ZERO;
        let mut bad: Option<(u64, f64)> = None;
        let mut fails = |range: Range<u64>, ms: f64| {
            if bad.is_none_or(|(at, _)| range.start < at) {
                bad = Some((range.start, ms));
            }
        };
        for fault in &self.faults {
            let (lba, sectors) = fault.place();
            let Some(range) = self.touched(lba, sectors, offset, len) else { continue };
            match *fault {
                Fault::Unreadable { ms, .. } => fails(range, ms),
                Fault::Hangs { s, .. } => fails(range, s * 1000.0),
                Fault::Unknown { .. } => fails(range, 0.0),
                Fault::Flaky { chance, seed, ms, .. } => {
                    state.random = state.random.wrapping_add(seed | 1);
                    let drawn = (step(&mut state.random) >> 11) as f64 / (1u64 << 53) as f64;
                    if drawn >= chance {
                        fails(range, ms);
                    }
                }
                Fault::Slow { ms: more, .. } => extra += ms(more),
                _ => {}
            }
        }
        let sector = u64::from(self.geometry.logical_sector);
        let hours = self.clock.now().saturating_sub(self.began).as_secs_f64() / 3600.0;
        let mut met = None;
        for (number, pattern) in self.failing.iter().enumerate() {
            let range = offset / sector..(offset + len).div_ceil(sector);
            let Some(first) = pattern.first_bad(range, self.geometry.sectors(), hours, state.failures[number]) else { continue };
            let at = (first * sector).max(offset);
            if bad.is_none_or(|(before, _)| at < before) {
                (bad, met) = (Some((at, pattern.ms())), Some(number));
            }
        }
        if let Some(number) = met {
            state.failures[number] += 1;
        }
        (self.after_error(state, offset, len, bad), extra)
    }

    /// What an error does to the next reads, or an earlier one to this.
    fn after_error(&self, state: &mut State, offset: u64, len: u64, bad: Option<(u64, f64)>) -> Option<(u64, f64)> {
        let mut bad = bad;
        for fault in &self.faults {
            match *fault {
                Fault::Remembers { reads } => {
                    if let Some((at, since)) = state.remembered
                        && (offset..offset + len).contains(&at)
                        && bad.is_none_or(|(before, _)| before >= at)
                    {
                        if state.all_reads - since <= reads {
                            bad = Some((at, 0.0));
                        }
                        state.remembered = None;
                    }
                    if let Some((at, _)) = bad {
                        state.remembered = Some((at, state.all_reads));
                    }
                }
                Fault::Stops { after_reads, back_after_s, ms } if state.all_reads > after_reads => {
                    let since = *state.stopped_since.get_or_insert_with(|| self.clock.now());
                    if back_after_s.is_none_or(|seconds| self.clock.now() < since + Duration::from_secs_f64(seconds.max(0.0))) {
                        bad = Some((offset, ms));
                    }
                }
                Fault::Bridge { s } => bad = bad.map(|(at, ms)| (at, ms + s * 1000.0)),
                _ => {}
            }
        }
        bad
    }

    /// Writes what of a stretch the drive does not only pretend to write. `write` gets the start and the part of it.
    fn keep(&self, offset: u64, len: u64, write: &mut dyn FnMut(Range<u64>) -> Result<(), WriteError>) -> Result<(), WriteError> {
        let mut kept: Extents<()> = Extents::new();
        kept.set(offset..offset + len, ());
        for fault in &self.faults {
            if let Fault::WriteLost { lba, sectors } = *fault
                && let Some(range) = self.touched(lba, sectors, offset, len)
            {
                kept.clear(range);
            }
        }
        kept.iter().try_for_each(|(range, ())| write(range))
    }

    /// Whether a write of this stretch is taken, and the drive's state for carrying it out.
    fn take_write(&self, offset: u64, len: u64) -> Result<MutexGuard<'_, State>, WriteError> {
        let mut state = self.state.lock().expect("drive lock");
        self.answer(&mut state, false).map_err(WriteError::Gone)?;
        for fault in &self.faults {
            if let Fault::WriteUnreadable { lba, sectors } = *fault
                && let Some(range) = self.touched(lba, sectors, offset, len)
            {
                let why = "the drive reports a write error".into();
                return Err(WriteError::Failed { offset: range.start, len: range.end - range.start, why });
            }
        }
        Ok(state)
    }
}

fn ms(ms: f64) -> Duration {
    Duration::from_secs_f64(ms.max(0.0) / 1000.0)
}

/// A step of the xorshift sequence; good enough to be unpredictable, the same for the same seed.
fn step(random: &mut u64) -> u64 {
    *random ^= *random << 13;
    *random ^= *random >> 7;
    *random ^= *random << 17;
    *random
}

impl Medium for SimDrive {
    fn geometry(&self) -> Geometry {
        self.geometry
    }

    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read_within(offset, buf, &Patience { limit: Duration::MAX, control: None })
    }

    fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> Result<(), ReadError> {
        inside(offset, buf.len(), self.geometry.size_bytes)?;
        let len = buf.len() as u64;
        let mut state = self.state.lock().expect("drive lock");
        self.answer(&mut state, true).map_err(ReadError::Gone)?;
        let (bad, mut extra) = self.troubles(&mut state, offset, len);
        let good = bad.map_or(len, |(at, _)| at - offset);
        if let Some((_, more)) = bad {
            extra += ms(more);
        }
        self.spend(&mut state, offset, good, true, extra);
        self.wait_within(&state, offset, patience)?;
        self.backing.read_at(offset, &mut buf[..good as usize])?;
        for fault in &self.faults {
            if let Fault::Changes { lba, sectors, after_reads } = *fault
                && state.reads > after_reads
                && let Some(range) = self.touched(lba, sectors, offset, good)
            {
                buf[(range.start - offset) as usize..(range.end - offset) as usize].iter_mut().for_each(|byte| *byte ^= 0x5a);
            }
            if let Fault::Silent { lba, sectors } = *fault
                && let Some(range) = self.touched(lba, sectors, offset, good)
            {
                let sector = u64::from(self.geometry.logical_sector);
                let mut at = range.start;
                while at < range.end {
                    let wrong = step(&mut state.random) as u8 | 1;
                    buf[(at - offset) as usize] ^= wrong;
                    at = (at / sector + 1) * sector;
                }
            }
        }
        match bad {
            Some((at, _)) => Err(ReadError::Unreadable { offset: at, len: offset + len - at, why: "the drive reports a read error".into() }),
            None => Ok(()),
        }
    }

    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let Stretch { mut len, mut holds } = self.backing.stretch(offset, max);
        if !self.failing.is_empty() && holds == Holds::Zero {
            holds = Holds::Bytes;
        }
        for fault in self.faults.iter().filter(|fault| fault.is_read()) {
            let (lba, sectors) = fault.place();
            match self.touched(lba, sectors, offset, len) {
                Some(range) if range.start > offset => len = range.start - offset,
                Some(range) => {
                    (len, holds) = (range.end - offset, if matches!(fault, Fault::Unknown { .. }) { Holds::Unknown } else { Holds::Bytes })
                }
                None => {}
            }
        }
        if holds == Holds::Zero && len > 0 {
            // A sheet at a time, so that a watcher sees the head move.
            len = len.min(64 << 20);
            let mut state = self.state.lock().expect("drive lock");
            if self.answer(&mut state, false).is_err() {
                return Stretch { len, holds: Holds::Bytes };
            }
            self.spend(&mut state, offset, len, true, Duration::ZERO);
            self.wait(&state);
        }
        Stretch { len, holds }
    }

    fn rests_on(&self) -> Vec<&File> {
        vec![self.file()]
    }
    fn standing(&self) -> Standing {
        self.backing.standing()
    }

    fn present(&self) -> bool {
        self.answer(&mut self.state.lock().expect("drive lock"), false).is_ok()
    }

    fn clock(&self) -> Option<Arc<dyn Clock>> {
        Some(self.clock.clone())
    }
}

impl WriteMedium for SimDrive {
    fn write_at(&self, offset: u64, buf: &[u8]) -> Result<(), WriteError> {
        let len = buf.len() as u64;
        writable(offset, len, self.geometry.size_bytes)?;
        let mut state = self.take_write(offset, len)?;
        self.spend(&mut state, offset, len, false, Duration::ZERO);
        self.wait(&state);
        state.unflushed = Some((offset, len));
        self.keep(offset, len, &mut |range| self.backing.write_at(range.start, &buf[(range.start - offset) as usize..(range.end - offset) as usize]))
    }

    fn write_zero(&self, offset: u64, len: u64) -> Result<(), WriteError> {
        writable(offset, len, self.geometry.size_bytes)?;
        let mut state = self.take_write(offset, len)?;
        self.spend(&mut state, offset, len, false, Duration::ZERO);
        self.wait(&state);
        self.keep(offset, len, &mut |range| self.backing.write_zero(range.start, range.end - range.start))
    }

    fn flush(&self) -> Result<(), WriteError> {
        let mut state = self.state.lock().expect("drive lock");
        self.answer(&mut state, false).map_err(WriteError::Gone)?;
        let unflushed = state.unflushed.take();
        let fails = |fault: &Fault| matches!(fault, Fault::FlushFails { after_flushes } if *after_flushes == state.flushes);
        let failed = self.faults.iter().any(fails);
        state.flushes += 1;
        if failed {
            // The system has given up these pages, and says so once.
            if let Some((at, len)) = unflushed {
                self.backing.write_at(at, &vec![0xdb; len.min(4096) as usize])?;
            }
            return Err(WriteError::Failed { offset: 0, len: 0, why: "the drive reports that a flush failed".into() });
        }
        self.backing.flush()
    }

    fn finish(&self) -> Result<(), WriteError> {
        self.flush()?;
        self.backing.finish()
    }
    fn forget(&self, offset: u64, len: u64) {
        self.backing.forget(offset, len);
    }
}
