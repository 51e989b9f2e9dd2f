//! Which read comes next. Nothing here reads: a strategy is asked, told what came of it, and learns what trouble looks like.

use crate::map::{Map, State};
use crate::trouble::{Bands, Pace};
use badger_drive::Extents;
use std::collections::BTreeSet;
use std::ops::Range;
use std::time::Duration;

/// Bytes of a long read.
pub const LONG: u64 = 8 << 20;
/// Bytes of the first read after trouble; each that goes well is followed by one four times as long.
const SHORT: u64 = 512 << 10;
/// Bytes of a read in the depth of a gap, where every read may fail.
const PROBE: u64 = 256 << 10;
/// Bad places of one stretch that are read together when they are tried again.
const TOGETHER: u64 = 32 << 10;

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

/// How often a sector is tried, where nothing says that it may come at last.
const TRIES: u8 = 16;
/// The same where there are few of them, and where some came late.
const TRIES_FEW: u8 = 32;
const TRIES_FLAKY: u8 = 48;
/// Bad sectors stand alone where what follows is good that often: it is gone on right behind them.
const ALONE: f64 = 0.6;
/// Every so often one is looked right behind, to learn that.
const EXPLORE: u32 = 6;
/// Few are those that a try of each takes no longer than this, in seconds.
const FEW: f64 = 60.0;
/// What is tried again takes no longer than all before it, or than this, in seconds.
const PATIENCE: f64 = 3600.0;
/// Where so many files in a row fail, it is not the files: more is jumped over.
const FILES_IN_A_ROW: u32 = 3;

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
        self.calm();
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

    /// The next read; `None` where there is nothing more to do.
    pub fn choose(&mut self) -> Option<Ask> {
        // What matters most is finished first; of the rest what is easily had comes before what is not, whatever it is worth.
        for worth in [Worth::Structure, Worth::Picked, Worth::Holed] {
            if let Some(ask) = self.easy(worth).or_else(|| self.deep(worth)) {
                return Some(ask);
            }
        }
        if let Some(ask) = self.easy(Worth::InUse).or_else(|| self.easy(Worth::Empty)) {
            return Some(ask);
        }
        if let Some(ask) = self.deep(Worth::InUse).or_else(|| self.deep(Worth::Empty)) {
            return Some(ask);
        }
        self.insist()
    }

    fn easy(&mut self, worth: Worth) -> Option<Ask> {
        while let Some(ask) = self.skim(worth) {
            match ask {
                Some(ask) => return Some(ask),
                None => continue,
            }
        }
        let edge = self.first(worth, Way::Edge, 0);
        let slow = self.first(worth, Way::Slow, 0);
        match (edge, slow) {
            (Some(edge), Some(slow)) if self.edge_yields(&edge) < self.pace.slow_rate() => Some(self.back(&slow)),
            (Some(edge), _) => Some(self.edge(&edge)),
            (None, Some(slow)) => Some(self.back(&slow)),
            (None, None) => None,
        }
    }

    /// Bytes a second that a probe into a gap is likely to bring.
    fn edge_yields(&self, job: &Job) -> f64 {
        let bytes = ((job.end - job.start) / 2).min(8 * LONG) as f64;
        0.5 * bytes / (0.5 * self.pace.failure() + bytes / self.pace.rate() + self.pace.jump())
    }

    /// The next long read over what nobody has touched. `Some(None)` where something was left for later, and it is to be asked again.
    fn skim(&mut self, worth: Worth) -> Option<Option<Ask>> {
        let found = if self.backwards {
            self.before(worth, self.head).or_else(|| self.before(worth, u64::MAX))
        } else {
            let around = self.before(worth, self.head + 1).filter(|job| job.end > self.head);
            around.or_else(|| self.first(worth, Way::Fresh, self.head)).or_else(|| self.first(worth, Way::Fresh, 0))
        };
        let job = found?;
        let inside = (job.start..job.end).contains(&self.head);
        if self.backwards {
            let end = if inside { self.head.max(job.start + self.sector) } else { job.end };
            let start = ((end - 1) / self.reach * self.reach).max(job.start);
            return Some(Some(Ask { range: start..end.min(job.end), pass: Pass::Skim, worth }));
        }
        let start = if inside { self.head } else { job.start };
        // Reads end at multiples of their length, so that those of a healthy drive are the same whatever came before.
        let end = ((start / self.reach + 1) * self.reach).min(job.end);
        if let Some(band) = self.bands.expected(start, self.map.size())
            && band.start < end
        {
            if band.start > start + self.sector {
                let end = band.start / self.sector * self.sector;
                return Some(Some(Ask { range: start..end.max(start + self.sector), pass: Pass::Skim, worth }));
            }
            let to = (band.end / self.sector * self.sector).clamp(start + self.sector, self.map.size());
            self.skip(start..to, false);
            self.head = to;
            return Some(None);
        }
        Some(Some(Ask { range: start..end, pass: Pass::Skim, worth }))
    }

    fn aligned(&self, at: u64) -> u64 {
        at / self.sector * self.sector
    }

    /// On from the start of a gap.
    fn straight(&self, job: &Job) -> Ask {
        Ask { range: job.start..job.end.min(job.start + self.reach), pass: Pass::Edge, worth: job.worth }
    }

    /// What is slow, from its end: the jump over it may have led further than it is slow.
    fn back(&self, job: &Job) -> Ask {
        Ask { range: job.start.max(job.end.saturating_sub(LONG))..job.end, pass: Pass::Skim, worth: job.worth }
    }

    /// Into a gap of which at least one side is good.
    fn edge(&mut self, job: &Job) -> Ask {
        self.edges = self.edges.wrapping_add(1);
        if self.alone > ALONE || self.edges.is_multiple_of(EXPLORE) || !self.is_bad(job.start.checked_sub(1)) {
            return self.straight(job);
        }
        // Behind what is bad more is bad; how much, earlier troubles tell.
        let len = job.end - job.start;
        let reach = self.bands.typical().map_or(len / 2, |typical| typical.min(len / 2));
        let start = self.aligned(job.start + reach).max(job.start);
        Ask { range: start..job.end.min(start + self.reach), pass: Pass::Edge, worth: job.worth }
    }

    /// Into a gap between bad sectors.
    fn deep(&mut self, worth: Worth) -> Option<Ask> {
        let job = self.first(worth, Way::Deep, 0)?;
        if self.alone > ALONE {
            return Some(Ask { pass: Pass::Comb, ..self.straight(&job) });
        }
        let middle = self.aligned(job.start + (job.end - job.start) / 2).max(job.start);
        Some(Ask { range: middle..job.end.min(middle + PROBE), pass: Pass::Comb, worth })
    }

    /// What failed, once more.
    fn insist(&mut self) -> Option<Ask> {
        if self.again.is_empty() {
            self.settle();
            for worth in Worth::ALL {
                let mut from = 0;
                while let Some(job) = self.first(worth, Way::Tried, from) {
                    self.again.push(job.start..job.end);
                    from = job.start + 1;
                }
            }
            self.round += 1;
            // The other way round every second time; the list is taken from its end.
            if self.round % 2 == 1 {
                self.again.reverse();
            }
        }
        let run = self.again.pop()?;
        let worth = self.worth_of(run.start).unwrap_or(Worth::Empty);
        // By turns one by one, and several together.
        let step = if self.round.is_multiple_of(3) { TOGETHER } else { self.sector };
        let range = if self.round % 2 == 1 {
            let end = run.end.min(run.start + step);
            if end < run.end {
                self.again.push(end..run.end);
            }
            run.start..end
        } else {
            let start = run.start.max(run.end.saturating_sub(step));
            if start > run.start {
                self.again.push(run.start..start);
            }
            start..run.end
        };
        Some(Ask { range, pass: Pass::Insist, worth })
    }

    /// Gives up what was tried often enough.
    fn settle(&mut self) {
        let tried: u64 = self.map.totals().deferred / self.sector.max(1);
        let one_round = self.pace.failure() * tried as f64;
        let usual = match () {
            () if self.late => TRIES_FLAKY,
            () if one_round < FEW => TRIES_FEW,
            () => TRIES,
        };
        let affordable = (self.spent.max(PATIENCE) / one_round.max(0.001)).min(255.0) as u8;
        let limit = self.most_tries.unwrap_or(usual.min(affordable.saturating_add(2)));
        let over: Vec<_> =
            self.map.iter().filter(|(_, state)| matches!(state, State::Deferred(tries) if *tries >= limit)).map(|(range, _)| range).collect();
        let wanted = |range: Range<u64>| self.worth.within(range).filter(|(_, worth)| worth.is_some()).map(|(part, _)| part).collect::<Vec<_>>();
        let over: Vec<_> = over.into_iter().flat_map(wanted).collect();
        over.into_iter().for_each(|part| self.note(part, State::Lost));
    }

    /// Says what came of a read, and how long it took.
    pub fn told(&mut self, ask: &Ask, came: Came, took: Duration) {
        let Range { start, end } = ask.range;
        if ask.pass != Pass::Insist {
            self.spent += took.as_secs_f64();
        }
        if self.is_bad(start.checked_sub(1)) {
            let is_good = came == Came::Whole || matches!(came, Came::Until(at) if at >= start + self.sector);
            self.alone += (f64::from(u8::from(is_good)) - self.alone) * 0.2;
        }
        if came == Came::Unknown {
            // Whoever knows more may still be asked another time.
            return self.value(start..end, None);
        }
        self.reach = if came == Came::Whole { self.reach.saturating_mul(4).min(LONG) } else { SHORT };
        // What is looked for here and there says nothing of what lies behind it.
        let jumps = ask.pass == Pass::Skim && ask.worth != Worth::Structure;
        let jumped = start != self.head;
        self.head = if self.backwards { start } else { end };
        match came {
            Came::Whole => {
                self.late |= ask.pass == Pass::Insist;
                self.failing_files = 0;
                let slow = self.pace.came(end - start, took, jumped);
                if slow.is_some() {
                    self.change(start..end, |this| _ = this.slow_at.insert(start));
                }
                self.note(start..end, State::Saved);
                if jumps && self.map.at(end).is_some_and(|(_, state)| state == State::Unread) {
                    match slow {
                        Some(more) => self.leave((end, start), end - start, more, true),
                        None => self.calm(),
                    }
                }
            }
            Came::Until(at) => {
                let at = self.aligned(at.clamp(start, end - 1));
                let past = (at + self.sector).min(end);
                self.late |= ask.pass == Pass::Insist && at > start;
                self.note(start..at, State::Saved);
                self.pace.failed(at - start, took, jumped);
                let tries = match self.map.at(at) {
                    Some((_, State::Deferred(tries))) => tries.saturating_add(1),
                    _ => 1,
                };
                self.note(at..past, State::Deferred(tries));
                if ask.pass == Pass::Insist {
                    // The rest of what was read together is tried in this round too.
                    if past < end {
                        self.again.push(past..end);
                    }
                    return;
                }
                self.head = past;
                if ask.worth == Worth::Picked && self.holes(at) {
                    return;
                }
                self.skip(past..end, false);
                if jumps {
                    self.bands.begins(at);
                    self.leave((past, start), at - start, self.pace.failure(), false);
                }
            }
            Came::Nothing => {
                self.pace.failed(0, took, jumped);
                if ask.pass == Pass::Insist {
                    self.tried(start..end);
                    return;
                }
                let past = (start + self.sector).min(end);
                self.tried(start..past);
                if ask.worth == Worth::Picked && self.holes(start) {
                    self.head = past;
                    return;
                }
                self.skip(past..end, false);
                if jumps {
                    self.leave((end, start), 0, self.pace.failure(), false);
                }
            }
            Came::Unknown => {}
        }
    }

    fn tried(&mut self, range: Range<u64>) {
        let held: Vec<_> = self.map.within(range).filter(|(_, state)| matches!(state, State::Deferred(_) | State::Unread)).collect();
        for (part, state) in held {
            let tries = if let State::Deferred(tries) = state { tries.saturating_add(1) } else { 1 };
            self.note(part, State::Deferred(tries));
        }
    }

    /// Jumps ahead: a little further than trouble was wide before, four times as far where the last jump led into trouble too.
    fn leave(&mut self, (from, before): (u64, u64), good: u64, costs: f64, is_slow: bool) {
        let size = self.map.size();
        let from = if self.backwards { before } else { from };
        // The dearer a failure, the more may be left for later.
        let fair = (costs * self.pace.rate() * if is_slow { 2.0 } else { 1.0 / 64.0 }) as u64;
        let again = self.jump.filter(|(len, to)| from.abs_diff(*to) <= (*len).max(good)).map(|(len, _)| len * 4);
        let typical = self.bands.typical().map(|typical| typical / 8 * 7);
        let len = again.unwrap_or(0).max(fair).max(typical.unwrap_or(0)).clamp(self.sector, (size / 8).max(self.sector));
        let to = if self.backwards { self.aligned(from.saturating_sub(len)) } else { self.aligned(from + len).clamp(from, size) };
        self.skip(from.min(to)..from.max(to), is_slow);
        self.jump = Some((len, to));
        self.head = to;
    }

    /// A long read went well.
    fn calm(&mut self) {
        if let Some((len, to)) = self.jump
            && self.head.abs_diff(to) > 2 * len
        {
            self.bands.ends(to);
            self.jump = None;
        }
    }
}
