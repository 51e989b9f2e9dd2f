//! Carries out what a strategy wants: reads, writes, notes, waits for a drive that vanished.

use crate::ends::Break;
use crate::file::MapFile;
use crate::limits::Limits;
use crate::map::{Map, State, Totals};
use crate::pieces::Pieces;
use crate::strategy::{Ask, Came, LONG, Pass, Strategy, Worth};
use crate::through::Through;
use crate::value::{self, Wanted};
use crate::writer::{Piece, Writer, hash_all};
use badger_drive::buffer::Pool;
use badger_drive::clock::Clock;
use badger_drive::{Control, Event, Holds, Observer, Patience, ReadError, Source, Stretch, Target};
use std::collections::VecDeque;
use std::ops::Range;
use std::sync::atomic::AtomicBool;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// A flush comes after so much time of the run's clock, or so many bytes.
const FLUSH_AFTER: Duration = Duration::from_secs(5);
const FLUSH_BYTES: u64 = 1 << 30;
/// How long one read is waited for.
pub const DEADLINE: Duration = Duration::from_secs(60);
/// How long a drive that vanished, or does not answer, is waited for.
pub const ABSENCE: Duration = Duration::from_secs(600);
/// So many other places are read before the same one is tried again.
const ELSEWHERE: usize = 8;
/// Bytes that are read around what is looked for first.
const AROUND: u64 = 1 << 20;
/// A map is shown no more often than this, in the time of whoever looks.
const MAP_EVERY: Duration = Duration::from_millis(200);
/// Points of the chart of saved over time.
const POINTS: usize = 2000;

/// What a technician wants of a run that goes on.
#[derive(Clone, Debug, PartialEq)]
pub enum Steer {
    /// Go on from this byte.
    Here(u64),
    /// Read backwards, or forwards again.
    Backwards(bool),
    /// This is worth something else; `None` leaves it out.
    Value(Vec<Range<u64>>, Option<Worth>),
    /// These files come next, each with all its places.
    Files(Vec<Vec<Range<u64>>>),
    /// Leave the drive in peace for so long.
    Rest(Duration),
}

/// What a run came to in one pass.
#[derive(Clone, Copy, Debug, PartialEq, serde::Serialize)]
pub struct PassReport {
    /// Which.
    pub name: Pass,
    /// Time spent, in seconds of the run's clock.
    pub seconds: f64,
    /// What it brought, in bytes.
    pub saved_bytes: u64,
    /// Reads, and those that failed.
    pub reads: u64,
    /// See above.
    pub failures: u64,
}

/// What is known of a run while it goes on.
#[derive(Clone, Debug, Default)]
pub struct Watch {
    /// Bytes in each state.
    pub totals: Totals,
    /// Seconds since it began.
    pub seconds: f64,
    /// Saved over time: seconds, bytes of the whole map.
    pub timeline: Vec<(f64, u64)>,
    /// The read that is under way.
    pub now: Option<Ask>,
    /// The latest troubles: when, at which byte, and how long it took.
    pub troubles: VecDeque<(f64, u64, f64)>,
    /// The passes so far.
    pub passes: Vec<PassReport>,
    /// Bytes a second where it reads well, and seconds that a failure costs.
    pub pace: (f64, f64),
    /// It is waited for: why.
    pub waits: Option<String>,
    /// What was wanted first and cannot be found, and why.
    pub not_found: Vec<(String, String)>,
    /// Bytes that are free as the file systems say.
    pub free: u64,
    /// Partitions, once they are known.
    pub places: Vec<(Range<u64>, String)>,
    /// Somebody wants to see the map; and the map as it was when that was last granted.
    pub wants_map: bool,
    /// See above.
    pub map: Option<Map>,
    /// The direction that was wished for.
    pub backwards: bool,
}

/// So many troubles are kept in sight.
const TROUBLES: usize = 12;

/// Everything a run is given.
pub struct Salvage<'a> {
    /// From where; another one where it vanished and was found again.
    pub source: Source,
    /// Looks for the drive where it vanished: the same one, wherever it is now.
    pub find: &'a (dyn Fn() -> Option<Source> + 'a),
    /// What is known, and what is to be done.
    pub strategy: Strategy,
    /// What matters first is looked for before all else, and read for that; `None` where that was done, or nobody wants it.
    pub first: Option<Wanted>,
    /// What is allowed.
    pub limits: Limits,
    /// Wishes while it goes on.
    pub wishes: Arc<Mutex<VecDeque<Steer>>>,
    /// Shown.
    pub watch: Arc<Mutex<Watch>>,
    /// How hot it is, where that is known.
    pub heat: &'a (dyn Fn() -> Option<i64> + 'a),
    /// Obeyed.
    pub control: &'a Control,
    /// Told.
    pub observer: &'a dyn Observer,
    /// The run's time.
    pub clock: Arc<dyn Clock>,
}

/// The state of a run.
pub(crate) struct Running<'a, 's> {
    pub salvage: &'a mut Salvage<'s>,
    /// The target, to be read.
    target: Source,
    out: SyncSender<Piece>,
    pool: &'a Pool,
    pub failed: &'a AtomicBool,
    pub began: Duration,
    /// The last mark, and what was written since.
    marked: Duration,
    since: u64,
    /// Changes noted since the map was whole.
    noted: usize,
    pub rested: Duration,
    pub heated: Duration,
    pub in_a_row: u64,
    pub last_pass: Option<Pass>,
    /// Where a read went well last.
    pub last_good: Option<u64>,
    /// Reads in a row that brought nothing, since a place that was read before was read again.
    pub doubts: u64,
    /// What was tried again last.
    recent: VecDeque<Range<u64>>,
    /// When the map was shown last.
    map_shown: Instant,
}

/// Runs until there is nothing more to do. What was saved is on the target and in the map, however it ends.
///
/// # Errors
/// See [`Break`].
pub fn run(salvage: &mut Salvage, target: &Target, file: MapFile, pieces: Pieces) -> Result<(), Break> {
    if let Some(tries) = salvage.limits.tries {
        salvage.strategy.try_at_most(tries);
    }
    let pool = Pool::new(6, LONG as usize);
    let failed = AtomicBool::new(false);
    let (out, read) = sync_channel(2);
    let (hashed, taken) = sync_channel(2);
    let mut writer = Writer { target, file, pieces, pool: &pool };
    let began = salvage.clock.now();
    std::thread::scope(|scope| {
        let failed = &failed;
        scope.spawn(move || hash_all(&read, &hashed));
        let writing = scope.spawn(move || writer.work(&taken, failed));
        let mut running = Running {
            target: target.as_source(),
            salvage,
            out,
            pool: &pool,
            failed,
            began,
            marked: began,
            since: 0,
            noted: 0,
            rested: began,
            heated: began,
            in_a_row: 0,
            last_pass: None,
            last_good: None,
            doubts: 0,
            recent: VecDeque::new(),
            map_shown: Instant::now(),
        };
        running.show(None);
        let read = running.look_first().and_then(|()| running.go_on());
        running.mark();
        running.show(None);
        let last = running.salvage.strategy.map().clone();
        running.salvage.watch.lock().expect("watch lock").map = Some(last);
        drop(running);
        // What the writer says comes first: a reader that ends because nobody takes what it reads knows less.
        writing.join().expect("the writer does not panic").and(read)
    })
}

impl Running<'_, '_> {
    pub(crate) fn seconds(&self) -> f64 {
        self.salvage.clock.now().saturating_sub(self.began).as_secs_f64()
    }

    /// Looks for what matters first, by reads that are saved as they come.
    fn look_first(&mut self) -> Result<(), Break> {
        let Some(wanted) = self.salvage.first.take() else { return Ok(()) };
        let (through, wants) = Through::new(&self.salvage.source);
        let drive = Source::detached(Arc::new(through));
        let values = std::thread::scope(|scope| {
            let looking = scope.spawn(move || value::look(&drive, &wanted));
            let mut ended = Ok(());
            // Ends with the thread, which drops what asks.
            for want in &wants {
                match self.serve(&want.range) {
                    Ok(bytes) => _ = want.answer.send(Ok(bytes)),
                    Err(why) => {
                        ended = Err(why);
                        break;
                    }
                }
            }
            drop(wants);
            let values = looking.join().expect("looking does not panic");
            ended.map(|()| values)
        })?;
        let strategy = &mut self.salvage.strategy;
        values.ranges.iter().for_each(|(range, worth)| strategy.value(range.clone(), *worth));
        strategy.pick(values.files);
        strategy.turn(0, false);
        let mut watch = self.salvage.watch.lock().expect("watch lock");
        (watch.not_found, watch.free, watch.places) = (values.not_found, values.free, values.places);
        Ok(())
    }

    /// The bytes of a range as far as they can be had: what is not saved yet is read now, once.
    fn serve(&mut self, range: &Range<u64>) -> Result<Vec<u8>, Break> {
        let sector = u64::from(self.salvage.source.geometry().logical_sector);
        let mut bytes = vec![0; (range.end - range.start) as usize];
        let (mut at, mut exact) = (range.start, false);
        while at < range.end {
            let Some((held, state)) = self.salvage.strategy.map().at(at) else { break };
            let end = held.end.min(range.end);
            match state {
                State::Saved => {
                    self.sync();
                    if self.target.read_at(at, &mut bytes[(at - range.start) as usize..(end - range.start) as usize]).is_err() {
                        break;
                    }
                    at = end;
                }
                State::Unread | State::Deferred(0) => {
                    self.obey()?;
                    // What lies around it is likely to be asked for next; where trouble is near, nothing more than what is wanted.
                    let step = if state == State::Unread && !exact { AROUND } else { sector };
                    let from = (at / step * step).max(held.start);
                    let to = (end.div_ceil(step) * step).min(held.end).min(from + LONG);
                    let ask = Ask { range: from..to, pass: Pass::Skim, worth: Worth::Structure };
                    self.take(&ask)?;
                    let is_better = self.salvage.strategy.map().at(at).is_some_and(|(_, now)| now == State::Saved);
                    if !is_better && (exact || state == State::Deferred(0) || from == at / sector * sector) {
                        break;
                    }
                    // What lies before it in its surroundings may be what fails, or what nobody knows.
                    exact = !is_better;
                }
                State::Deferred(_) | State::Lost => break,
            }
        }
        bytes.truncate((at - range.start) as usize);
        Ok(bytes)
    }

    /// Waits until the writer has written what it was given.
    fn sync(&self) {
        let (done, is_done) = sync_channel(1);
        if self.out.send(Piece::Sync(done)).is_ok() {
            // A writer that failed says so at its end.
            let _ = is_done.recv();
        }
    }

    /// One read, and all that belongs to it.
    fn take(&mut self, ask: &Ask) -> Result<(), Break> {
        self.show(Some(ask));
        if ask.pass == Pass::Insist {
            self.look_elsewhere(ask);
        }
        let before = self.salvage.strategy.map().totals().saved;
        let began = self.seconds();
        let came = self.read_one(ask)?;
        self.account(ask, came, began, before);
        if self.salvage.clock.now() >= self.marked + FLUSH_AFTER || self.since >= FLUSH_BYTES {
            self.mark();
        }
        Ok(())
    }

    fn go_on(&mut self) -> Result<(), Break> {
        loop {
            self.obey()?;
            let Some(ask) = self.salvage.strategy.choose() else { return Ok(()) };
            self.take(&ask)?;
        }
    }

    /// A drive, or its bridge, may keep in mind what failed last, and not try it again: other places are read in between.
    fn look_elsewhere(&mut self, ask: &Ask) {
        let is_recent = self.recent.iter().any(|range| range.start < ask.range.end && range.end > ask.range.start);
        if is_recent {
            let size = self.salvage.strategy.map().size();
            let mut sector = vec![0; self.salvage.source.geometry().logical_sector as usize];
            for turn in 0..ELSEWHERE as u64 {
                let from = (ask.range.start + size / (ELSEWHERE as u64 + 1) * (turn + 1)) % size;
                let saved = self.salvage.strategy.map().within(from..size).find(|(_, state)| *state == State::Saved).map(|(range, _)| range.start);
                if let Some(at) = saved {
                    // It was read before: whether it comes again is of no account.
                    let _ =
                        self.salvage.source.read_within(at, &mut sector, &Patience { limit: DEADLINE, control: Some(self.salvage.control.clone()) });
                }
            }
            self.recent.clear();
        }
        if self.recent.len() == ELSEWHERE {
            self.recent.pop_front();
        }
        self.recent.push_back(ask.range.clone());
    }

    /// Carries out one ask, to its end: a drive that vanishes in the middle is waited for.
    fn read_one(&mut self, ask: &Ask) -> Result<Came, Break> {
        let Range { start, end } = ask.range;
        let known = self.salvage.source.stretch(start, end - start);
        let sector = u64::from(self.salvage.source.geometry().logical_sector);
        match known.holds {
            Holds::Zero if known.len >= sector => {
                let range = start..(start + known.len).min(end) / sector * sector;
                let ask = Ask { range: range.clone(), ..ask.clone() };
                self.since += 1;
                let _ = self.out.send(Piece::Zero(range.clone()));
                // No trouble and no speed is learned from what was not read.
                self.salvage.strategy.knew(&ask.range);
                self.moved(&range);
                return Ok(Came::Whole);
            }
            Holds::Unknown => {
                let range = start..(start + known.len).clamp(start + 1, end);
                self.salvage.strategy.told(&Ask { range, ..ask.clone() }, Came::Unknown, Duration::ZERO);
                return Ok(Came::Unknown);
            }
            _ => {}
        }
        let patience = Patience { limit: DEADLINE, control: Some(self.salvage.control.clone()) };
        let mut waited = Duration::ZERO;
        loop {
            self.salvage.control.hold_back(end - start, &*self.salvage.clock);
            let mut buffer = self.pool.take();
            let began = self.salvage.clock.now();
            let outcome = self.salvage.source.read_within(start, &mut buffer[..(end - start) as usize], &patience);
            let took = self.salvage.clock.now().saturating_sub(began);
            let (good, came) = match outcome {
                Ok(()) => (end, Came::Whole),
                Err(ReadError::Unreadable { offset, .. }) if self.salvage.source.present() => (offset.clamp(start, end - 1), Came::Until(offset)),
                Err(ReadError::Silent { .. }) => (start, Came::Nothing),
                Err(error) => {
                    self.pool.give(buffer);
                    self.wait_for_it(&error.to_string(), &mut waited)?;
                    continue;
                }
            };
            let good = good / sector.max(1) * sector.max(1);
            let good = if came == Came::Whole { end } else { good.max(start) };
            if good > start {
                self.since += good - start;
                let _ = self.out.send(Piece::Data(start..good, buffer, None));
                self.moved(&(start..good));
                self.last_good = Some(start);
            } else {
                self.pool.give(buffer);
            }
            if let Came::Until(at) = came
                && let Stretch { len, holds: Holds::Unknown } = self.salvage.source.stretch(at, end - at)
            {
                // That it failed there says nothing of a drive: nobody knows what is there.
                if good > start {
                    self.salvage.strategy.told(&Ask { range: start..good, ..ask.clone() }, Came::Whole, took);
                }
                let range = good..(at + len).clamp(good + 1, end);
                self.salvage.strategy.told(&Ask { range, ..ask.clone() }, Came::Unknown, Duration::ZERO);
                return Ok(Came::Unknown);
            }
            if matches!(came, Came::Until(_)) && good == start {
                if self.doubts == 0 {
                    self.salvage.strategy.keep();
                }
                self.doubts += 1;
                if is_doubtful(self.doubts) {
                    if self.has_stopped() {
                        self.salvage.strategy.take_back();
                        self.doubts = 0;
                        self.wait_for_reads()?;
                        continue;
                    }
                    self.salvage.strategy.keep();
                }
            } else {
                self.doubts = 0;
                self.salvage.strategy.confirm();
            }
            self.salvage.strategy.told(ask, came, took);
            if came == Came::Nothing {
                self.wait_for_an_answer(&mut waited)?;
            }
            return Ok(came);
        }
    }

    fn moved(&self, range: &Range<u64>) {
        self.salvage.observer.event(&Event::Moved { start: range.start, len: range.end - range.start, at: self.seconds() });
    }

    /// Asks the writer to make durable what was written, and to note it.
    pub fn mark(&mut self) {
        let changes = self.salvage.strategy.take_changes();
        (self.marked, self.since) = (self.salvage.clock.now(), 0);
        if changes.is_empty() {
            return;
        }
        for (range, _) in changes.iter().filter(|(_, state)| *state == State::Lost) {
            self.salvage.observer.event(&Event::Lost { start: range.start, len: range.end - range.start });
        }
        self.noted += changes.len();
        let long = self.noted > 50_000 + 2 * self.salvage.strategy.map().count();
        let whole = long.then(|| self.salvage.strategy.map().clone());
        if long {
            self.noted = 0;
        }
        // A writer that ended said why.
        let _ = self.out.send(Piece::Mark(changes, whole));
    }

    /// Takes a read into the account.
    fn account(&mut self, ask: &Ask, came: Came, began: f64, before: u64) {
        let now = self.seconds();
        let saved = self.salvage.strategy.map().totals().saved;
        let failed = matches!(came, Came::Until(_) | Came::Nothing);
        self.in_a_row = if saved > before || !failed { 0 } else { self.in_a_row + 1 };
        self.last_pass = Some(ask.pass);
        let mut watch = self.salvage.watch.lock().expect("watch lock");
        let spent = now - began;
        let pass = match watch.passes.iter_mut().find(|pass| pass.name == ask.pass) {
            Some(pass) => pass,
            None => {
                watch.passes.push(PassReport { name: ask.pass, seconds: 0.0, saved_bytes: 0, reads: 0, failures: 0 });
                watch.passes.sort_by_key(|pass| pass.name);
                watch.passes.iter_mut().find(|pass| pass.name == ask.pass).expect("just pushed")
            }
        };
        pass.seconds += spent;
        pass.saved_bytes += saved.saturating_sub(before);
        pass.reads += 1;
        pass.failures += u64::from(failed);
        if failed {
            let at = if let Came::Until(at) = came { at } else { ask.range.start };
            if watch.troubles.len() == TROUBLES {
                watch.troubles.pop_front();
            }
            watch.troubles.push_back((now, at, spent));
        }
    }

    fn show(&mut self, ask: Option<&Ask>) {
        let now = self.seconds();
        let strategy = &self.salvage.strategy;
        let (totals, pace) = (strategy.map().totals(), strategy.pace());
        let mut watch = self.salvage.watch.lock().expect("watch lock");
        (watch.totals, watch.seconds, watch.pace) = (totals, now, pace);
        watch.now = ask.cloned();
        if watch.wants_map && self.map_shown.elapsed() >= MAP_EVERY {
            (watch.map, watch.wants_map) = (Some(strategy.map().clone()), false);
            self.map_shown = Instant::now();
        }
        point(&mut watch.timeline, now, totals.saved);
    }
}

/// After how many reads in a row that brought nothing it is asked whether the places are bad, or the drive stopped.
fn is_doubtful(doubts: u64) -> bool {
    matches!(doubts, 4 | 16) || doubts.is_multiple_of(64)
}

/// Adds a point to a chart, which is thinned out where it gets long: what lies on a line needs no point.
fn point(timeline: &mut Vec<(f64, u64)>, now: f64, saved: u64) {
    match timeline[..] {
        [.., (_, before), (_, last)] if before == last && last == saved => timeline.last_mut().expect("two points").0 = now,
        [.., (then, last)] if then == now && last == saved => {}
        _ => timeline.push((now, saved)),
    }
    if timeline.len() > 2 * POINTS {
        // Evenly over the whole time, however often it was thinned out.
        let step = (now - timeline[0].0) / POINTS as f64;
        let end = timeline.len() - 1;
        let (mut at, mut last) = (0, f64::NEG_INFINITY);
        timeline.retain(|(then, _)| {
            let keeps = *then - last >= step || at == end;
            at += 1;
            if keeps {
                last = *then;
            }
            keeps
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_chart_is_thinned_out_evenly() {
        let mut timeline = Vec::new();
        for step in 0..100_000u64 {
            point(&mut timeline, step as f64, step * 10);
        }
        assert!(timeline.len() <= 2 * POINTS, "{}", timeline.len());
        let widest = timeline.windows(2).map(|pair| pair[1].0 - pair[0].0).fold(0.0, f64::max);
        assert!(widest < 2.0 * 100_000.0 / POINTS as f64, "{widest}");
        assert_eq!(timeline.last(), Some(&(99_999.0, 999_990)));
        // Where nothing more comes there is one point that moves.
        (0..1000).for_each(|more| point(&mut timeline, 100_000.0 + f64::from(more), 999_990));
        assert_eq!(timeline.last(), Some(&(100_999.0, 999_990)));
    }
}
