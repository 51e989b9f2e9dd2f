//! Which read comes next. Nothing here reads: a strategy is asked, told what came of it, and learns what trouble looks like.

mod choose;
mod told;

use crate::map::{Map, State};
use crate::trouble::{Bands, Pace};
use badger_drive::Extents;
use std::collections::BTreeSet;
use std::ops::Range;

/// Bytes of a long read.
pub const LONG: u64 = 8 << 20;
/// The passes, in the order in which most of them come.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Pass {
    /// Long reads over what nobody has touched; trouble is left at once, and jumped over.
    Skim,
    /// Into what was jumped over, from its good side.
    Edge,
    /// Sector by sector through what lies between bad ones.
    Comb,
    /// What failed, again: other directions, other lengths.
    Insist,
}

impl Pass {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Skim => "skim",
            Self::Edge => "edge",
            Self::Comb => "comb",
            Self::Insist => "insist",
        }
    }
}

/// How much a place is worth; the first are read first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Worth {
    /// Tables, boot areas, what file systems keep for themselves.
    Structure,
    /// What somebody picked.
    Picked,
    /// A file that was picked, and that cannot be whole: something of it failed. Those that may still be whole come before it.
    Holed,
    /// Held by files, or nobody knows.
    InUse,
    /// Free, as the file systems say.
    Empty,
}

impl Worth {
    /// All of them, the first first.
    pub const ALL: [Self; 5] = [Self::Structure, Self::Picked, Self::Holed, Self::InUse, Self::Empty];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Structure => "structure",
            Self::Picked => "picked",
            Self::Holed => "picked, not whole",
            Self::InUse => "in use",
            Self::Empty => "free space",
        }
    }
}

/// A read that is to be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ask {
    /// Its bytes.
    pub range: Range<u64>,
    /// In which pass.
    pub pass: Pass,
    /// For the sake of what.
    pub worth: Worth,
}

/// What came of a read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Came {
    /// All of it.
    Whole,
    /// It failed at this byte; what lies before it came.
    Until(u64),
    /// Nothing, and where it fails is not known: the drive did not answer.
    Nothing,
    /// It was not tried: nobody knows what is there, and no read will tell.
    Unknown,
}

/// How a gap is gone about. The order is the order in which they come.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Way {
    Fresh,
    Edge,
    Slow,
    Deep,
    Tried,
}

/// One thing to do: what it is worth, how, and where. Larger gaps come before smaller ones, fresh ones in their order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Job {
    worth: Worth,
    way: Way,
    by: u64,
    start: u64,
    end: u64,
}

/// Where so many files in a row fail, it is not the files: more is jumped over.
const FILES_IN_A_ROW: u32 = 3;

/// What is taken back where a drive turns out to have stopped as a whole: states in the order in which they changed, and what was learned.
struct Kept {
    states: Vec<(Range<u64>, State)>,
    pace: Pace,
    bands: Bands,
    jump: Option<(u64, u64)>,
    head: u64,
    reach: u64,
    alone: f64,
    failing_files: u32,
}

/// More changes are not kept: those behind them stay as they were noted.
const MOST_KEPT: usize = 100_000;

/// What decides.
pub struct Strategy {
    map: Map,
    sector: u64,
    /// Places of another worth than [`Worth::InUse`]; `None` is what nobody wants.
    worth: Extents<Option<Worth>>,
    jobs: BTreeSet<Job>,
    slow: Extents<bool>,
    /// Where reads began that were slow.
    slow_at: BTreeSet<u64>,
    /// Where the last read ended.
    head: u64,
    /// Backwards over what nobody has touched.
    backwards: bool,
    pace: Pace,
    bands: Bands,
    /// The last jump, and where it led to.
    jump: Option<(u64, u64)>,
    /// Something came at a later try.
    late: bool,
    round: u32,
    /// What is left of the round over what was tried.
    again: Vec<Range<u64>>,
    /// What was known before the reads that failed last, while it may have to be taken back.
    kept: Option<Box<Kept>>,
    /// Changes since the last time that they were taken.
    changes: Vec<(Range<u64>, State)>,
    most_tries: Option<u8>,
    /// Bytes of the next long read.
    reach: u64,
    /// Seconds spent with reading, but for what was tried again.
    spent: f64,
    /// How likely what lies right behind a bad sector is good.
    alone: f64,
    edges: u32,
    /// Files that were picked, and which of them a place belongs to.
    files: Vec<Box<[Range<u64>]>>,
    file_at: Extents<u32>,
    /// So many of them in a row failed.
    failing_files: u32,
}

/// One value for a whole drive.
fn all<V: Clone + PartialEq>(size: u64, value: V) -> Extents<V> {
    let mut all = Extents::new();
    all.set(0..size, value);
    all
}

impl Strategy {
    /// Goes on with what a map says, on sectors of `sector` bytes.
    pub fn new(map: Map, sector: u32) -> Self {
        let size = map.size();
        let mut strategy = Self {
            map,
            sector: u64::from(sector),
            worth: all(size, Some(Worth::InUse)),
            jobs: BTreeSet::new(),
            slow: all(size, false),
            slow_at: BTreeSet::new(),
            head: 0,
            backwards: false,
            pace: Pace::default(),
            bands: Bands::default(),
            jump: None,
            late: false,
            round: 0,
            again: Vec::new(),
            changes: Vec::new(),
            kept: None,
            most_tries: None,
            reach: LONG,
            spent: 0.0,
            alone: 0.0,
            edges: 0,
            files: Vec::new(),
            file_at: Extents::new(),
            failing_files: 0,
        };
        strategy.jobs.extend(strategy.jobs_in(0..size));
        strategy
    }

    /// Tries no sector more often than so many times.
    pub fn try_at_most(&mut self, tries: u8) {
        self.most_tries = Some(tries.max(1));
    }

    /// Keeps what is known, until it is confirmed or taken back.
    pub fn keep(&mut self) {
        let Self { pace, jump, head, reach, alone, failing_files, .. } = *self;
        self.kept = Some(Box::new(Kept { states: Vec::new(), bands: self.bands.clone(), pace, jump, head, reach, alone, failing_files }));
    }

    /// What came since [`Self::keep`] was of the places, and stays.
    pub fn confirm(&mut self) {
        self.kept = None;
    }

    /// What came since [`Self::keep`] was of the drive: no place is held to it. The places are asked for again.
    pub fn take_back(&mut self) {
        let Some(kept) = self.kept.take() else { return };
        let Kept { states, pace, bands, jump, head, reach, alone, failing_files } = *kept;
        states.into_iter().rev().for_each(|(range, state)| self.note(range, state));
        (self.pace, self.bands, self.jump, self.head) = (pace, bands, jump, head);
        (self.reach, self.alone, self.failing_files) = (reach, alone, failing_files);
        self.again.clear();
    }

    /// What is known.
    pub fn map(&self) -> &Map {
        &self.map
    }

    /// What became known since the last time.
    pub fn take_changes(&mut self) -> Vec<(Range<u64>, State)> {
        std::mem::take(&mut self.changes)
    }

    /// Seconds that a read that fails costs about, and bytes a second of those that do not.
    pub fn pace(&self) -> (f64, f64) {
        (self.pace.failure(), self.pace.rate())
    }

    /// Says what a range is worth; `None` leaves it out.
    pub fn value(&mut self, range: Range<u64>, worth: Option<Worth>) {
        // Files begin and end within sectors; reads do not.
        let end = range.end.div_ceil(self.sector).saturating_mul(self.sector).min(self.map.size());
        let range = self.aligned(range.start).min(end)..end;
        if range.is_empty() {
            return;
        }
        self.change(range.clone(), |this| this.worth.set(range, worth));
        self.again.clear();
    }

    /// Picks files, each with all its places: those that can be whole come before those of which something fails.
    pub fn pick(&mut self, files: Vec<Vec<Range<u64>>>) {
        for ranges in files {
            let number = u32::try_from(self.files.len()).unwrap_or(u32::MAX);
            for range in &ranges {
                self.value(range.clone(), Some(Worth::Picked));
                self.file_at.set(self.aligned(range.start)..range.end, number);
            }
            self.files.push(ranges.into());
        }
    }

    /// A read for the sake of what was picked failed here: its file is not whole any more. True where it was known to be one, and where not
    /// one after the other fails: then only that file is left.
    fn holes(&mut self, at: u64) -> bool {
        let Some(ranges) = self.file_at.at(at).and_then(|(_, number)| self.files.get(*number as usize)).cloned() else { return false };
        for range in ranges {
            // What somebody wished for meanwhile stays.
            let still: Vec<_> = self.worth.within(range).filter(|(_, worth)| **worth == Some(Worth::Picked)).map(|(part, _)| part).collect();
            still.into_iter().for_each(|part| self.value(part, Some(Worth::Holed)));
        }
        self.failing_files += 1;
        self.failing_files < FILES_IN_A_ROW
    }

    /// Where the last read ended.
    pub fn head(&self) -> u64 {
        self.head
    }

    /// Whether what nobody has touched is read backwards.
    pub fn is_backwards(&self) -> bool {
        self.backwards
    }

    /// Says that a range is known to be zero, without a read.
    pub fn knew(&mut self, range: &Range<u64>) {
        self.note(range.clone(), State::Saved);
        self.head = range.end;
        self.reach = self.reach.saturating_mul(4).min(LONG);
        self.calm(self.head);
    }

    /// Goes on from here, in this direction.
    pub fn turn(&mut self, head: u64, backwards: bool) {
        (self.head, self.backwards, self.jump) = (head / self.sector * self.sector, backwards, None);
    }

    /// What a place is worth.
    pub fn worth_of(&self, byte: u64) -> Option<Worth> {
        self.worth.at(byte).and_then(|(_, worth)| *worth)
    }

    /// The largest range around a byte that is of one state, one worth, and slow or not throughout; `None` past the end.
    fn part(&self, byte: u64) -> Option<(Range<u64>, State, Option<Worth>, bool)> {
        let (held, state) = self.map.at(byte)?;
        let (valued, worth) = self.worth.at(byte)?;
        let (paced, slow) = self.slow.at(byte)?;
        Some((held.start.max(valued.start).max(paced.start)..held.end.min(valued.end).min(paced.end), state, *worth, *slow))
    }

    /// Everything that touches a range, as it is now.
    fn jobs_in(&self, range: Range<u64>) -> Vec<Job> {
        let (mut out, mut at) = (Vec::new(), range.start);
        while at < range.end {
            let Some((part, state, worth, slow)) = self.part(at) else { break };
            out.extend(worth.and_then(|worth| self.job(&part, state, worth, slow)));
            at = part.end;
        }
        out
    }

    /// Changes what is known of a range by `change`, and what there is to do there and right beside it.
    fn change(&mut self, range: Range<u64>, change: impl FnOnce(&mut Self)) {
        let around = range.start.saturating_sub(1)..range.end.saturating_add(1);
        self.jobs_in(around.clone()).iter().for_each(|job| _ = self.jobs.remove(job));
        change(self);
        let jobs = self.jobs_in(around);
        self.jobs.extend(jobs);
    }

    /// What is to do about a part, if anything.
    fn job(&self, part: &Range<u64>, state: State, worth: Worth, slow: bool) -> Option<Job> {
        let len = part.end - part.start;
        let (way, by) = match state {
            State::Saved | State::Lost => return None,
            State::Unread => (Way::Fresh, part.start),
            // Those of which the far end may be fast come first.
            State::Deferred(0) if slow => {
                (Way::Slow, ((u64::MAX >> 1) - len.min(u64::MAX >> 1)) | (u64::from(self.slow_at.contains(&part.end)) << 63))
            }
            State::Deferred(0) if self.is_bad(part.start.checked_sub(1)) && self.is_bad(Some(part.end)) => (Way::Deep, u64::MAX - len),
            State::Deferred(0) => (Way::Edge, u64::MAX - len),
            State::Deferred(_) => (Way::Tried, part.start),
        };
        Some(Job { worth, way, by, start: part.start, end: part.end })
    }

    /// Whether a byte is known to be bad; the ends of the drive are not.
    fn is_bad(&self, byte: Option<u64>) -> bool {
        byte.and_then(|byte| self.map.at(byte)).is_some_and(|(_, state)| matches!(state, State::Lost | State::Deferred(1..)))
    }

    /// Notes a state.
    fn note(&mut self, range: Range<u64>, state: State) {
        if range.is_empty() {
            return;
        }
        if let Some(kept) = self.kept.as_mut().filter(|kept| kept.states.len() < MOST_KEPT) {
            kept.states.extend(self.map.within(range.clone()));
        }
        self.change(range.clone(), |this| {
            this.map.set(range.clone(), state);
            if state == State::Saved {
                this.slow.set(range.clone(), false);
            }
        });
        match self.changes.last_mut() {
            Some((last, held)) if *held == state && last.end == range.start => last.end = range.end,
            _ => self.changes.push((range, state)),
        }
    }

    /// Leaves the untouched parts of a range for later.
    fn skip(&mut self, range: Range<u64>, is_slow: bool) {
        let fresh: Vec<_> = self.map.within(range).filter(|(_, state)| *state == State::Unread).map(|(part, _)| part).collect();
        for part in fresh {
            if is_slow {
                self.change(part.clone(), |this| this.slow.set(part.clone(), true));
            }
            self.note(part, State::Deferred(0));
        }
    }

    /// The first job of a worth and a way, from a place on.
    fn first(&self, worth: Worth, way: Way, by: u64) -> Option<Job> {
        let from = Job { worth, way, by, start: 0, end: 0 };
        self.jobs.range(from..).next().filter(|job| job.worth == worth && job.way == way).copied()
    }

    fn before(&self, worth: Worth, by: u64) -> Option<Job> {
        let to = Job { worth, way: Way::Fresh, by, start: 0, end: 0 };
        self.jobs.range(..to).next_back().filter(|job| job.worth == worth && job.way == Way::Fresh).copied()
    }

    fn aligned(&self, at: u64) -> u64 {
        at / self.sector * self.sector
    }
}
