//! What a run waits for: rests, limits, a technician, a drive that does not answer or is not there.

use crate::ends::Break;
use crate::map::State;
use crate::run::{ABSENCE, DEADLINE, Running, Steer};
use crate::strategy::Pass;
use badger_drive::{Patience, ReadError};
use std::sync::atomic::Ordering;
use std::time::Duration;

/// How often it is asked how hot it is.
const HEAT_EVERY: Duration = Duration::from_secs(30);
/// So many places fail where the drive has stopped: every other one was read before.
const PLACES: u64 = 6;
/// So many failures in a row, with nothing saved between them, where long reads jump on at each: nothing comes any more.
const NOTHING_COMES: u64 = 100;

impl Running<'_, '_> {
    /// What must be looked at between two reads: wishes, limits, rests.
    pub(crate) fn obey(&mut self) -> Result<(), Break> {
        let control = self.salvage.control;
        if !control.go_on() {
            return Err(Break::Stopped);
        }
        // Why is said by the writer.
        if self.failed.load(Ordering::SeqCst) {
            return Err(Break::Stopped);
        }
        let wishes: Vec<Steer> = self.salvage.wishes.lock().expect("wishes lock").drain(..).collect();
        for wish in wishes {
            let strategy = &mut self.salvage.strategy;
            match wish {
                Steer::Here(at) => strategy.turn(at, strategy.is_backwards()),
                Steer::Backwards(backwards) => strategy.turn(strategy.head(), backwards),
                Steer::Files(files) => strategy.pick(files),
                Steer::Value(ranges, worth) => ranges.into_iter().for_each(|range| strategy.value(range, worth)),
                Steer::Rest(span) => self.rest(span, "it rests")?,
            }
        }
        let limits = self.salvage.limits.clone();
        let now = self.salvage.clock.now();
        if limits.time.is_some_and(|time| now - self.began >= time) {
            return Err(Break::Limit("the time that was allowed is over".into()));
        }
        let is_skim = self.last_pass == Some(Pass::Skim);
        let most = limits.failures.or((limits.pauses && is_skim).then_some(NOTHING_COMES));
        if most.is_some_and(|most| self.in_a_row >= most) {
            let text = format!("{} reads in a row failed, with nothing saved between them", self.in_a_row);
            if !limits.pauses {
                return Err(Break::Limit(text));
            }
            self.hold(&text)?;
        }
        if let Some((_, rest)) = limits.rests.filter(|(work, _)| now - self.rested >= *work) {
            self.rest(rest, "it rests")?;
            self.rested = self.salvage.clock.now();
        }
        if let Some(hottest) = limits.hottest
            && now >= self.heated + HEAT_EVERY
        {
            self.heated = now;
            let mut waited = Duration::ZERO;
            while (self.salvage.heat)().is_some_and(|heat| heat > hottest) {
                if waited >= ABSENCE {
                    return Err(Break::Limit(format!("it stays hotter than {hottest} °C")));
                }
                self.rest(HEAT_EVERY, "it is too hot, and cools")?;
                waited += HEAT_EVERY;
            }
        }
        Ok(())
    }

    /// Holds the run until somebody lets it go on.
    fn hold(&mut self, why: &str) -> Result<(), Break> {
        self.mark();
        self.salvage.watch.lock().expect("watch lock").waits = Some(format!("held: {why}"));
        self.salvage.control.pause();
        let goes_on = self.salvage.control.go_on();
        self.salvage.watch.lock().expect("watch lock").waits = None;
        self.in_a_row = 0;
        if goes_on { Ok(()) } else { Err(Break::Stopped) }
    }

    /// Lets time go by, and leaves the drive in peace; a stop ends it.
    fn rest(&mut self, span: Duration, why: &str) -> Result<(), Break> {
        self.mark();
        self.salvage.watch.lock().expect("watch lock").waits = Some(why.into());
        let end = self.salvage.clock.now() + span;
        while self.salvage.clock.now() < end {
            if !self.salvage.control.go_on() {
                return Err(Break::Stopped);
            }
            self.salvage.clock.reach(end.min(self.salvage.clock.now() + Duration::from_millis(200)));
        }
        self.salvage.watch.lock().expect("watch lock").waits = None;
        Ok(())
    }

    /// Waits until the drive is there again, or another way to it.
    pub(crate) fn wait_for_it(&mut self, why: &str, waited: &mut Duration) -> Result<(), Break> {
        self.mark();
        if self.salvage.control.is_stopped() {
            return Err(Break::Stopped);
        }
        self.salvage.watch.lock().expect("watch lock").waits = Some(format!("it vanished ({why}), and is waited for"));
        let mut nap = Duration::from_millis(250);
        loop {
            if *waited >= ABSENCE {
                return Err(Break::SourceGone(why.into()));
            }
            self.salvage.clock.sleep(nap);
            *waited += nap;
            if *waited > Duration::from_secs(10) {
                nap = Duration::from_secs(1);
            }
            if self.salvage.control.is_stopped() {
                return Err(Break::Stopped);
            }
            if self.salvage.source.present() {
                break;
            }
            if let Some(again) = (self.salvage.find)() {
                self.salvage.source = again;
                break;
            }
        }
        self.salvage.watch.lock().expect("watch lock").waits = None;
        Ok(())
    }

    /// Whether reads fail at places too that were read before, spread over the drive, and at any others.
    pub(crate) fn has_stopped(&self) -> bool {
        let map = self.salvage.strategy.map();
        let size = map.size();
        let sector = self.salvage.source.geometry().logical_sector as usize;
        let mut buffer = vec![0; sector];
        let mut failed = 0u64;
        // Other places each time: what the drive keeps in its memory says nothing of its heads.
        let mut at = self.seconds().to_bits() ^ size;
        for turn in 0..PLACES {
            at = at.wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(29) | 1;
            let from = at % size;
            let saved = |range| map.within(range).find(|(_, state)| *state == State::Saved).map(|(range, _)| range);
            // One head may have died that read all that is saved: others are asked too.
            let range = saved(from..size).or_else(|| saved(0..from)).filter(|_| turn % 2 == 0).unwrap_or(0..size);
            let within = at.rotate_left(17) % (range.end - range.start);
            let start = (range.start + within) / sector as u64 * sector as u64;
            match self.salvage.source.read_within(start.max(range.start), &mut buffer, &self.patience()) {
                Ok(()) => return false,
                Err(ReadError::Unreadable { .. }) if self.salvage.source.present() => failed += 1,
                // Who vanished, or does not answer, is waited for elsewhere.
                Err(_) => return false,
            }
        }
        failed == PLACES
    }

    fn patience(&self) -> Patience {
        Patience { limit: DEADLINE, control: Some(self.salvage.control.clone()) }
    }

    /// Waits until a drive that stopped as a whole reads again where it did before, with growing patience: it is asked less and less often.
    pub(crate) fn wait_for_reads(&mut self) -> Result<(), Break> {
        let has_read = self.salvage.strategy.map().totals().saved > 0;
        let why = if has_read { "reads fail everywhere, also where they worked before" } else { "reads fail everywhere, from the first one on" };
        let (mut nap, mut waited) = (Duration::from_secs(2), Duration::ZERO);
        loop {
            self.rest(nap, &format!("the drive has stopped: {why}. Switch it off and on, let it cool, or use another cable or port"))?;
            waited += nap;
            nap = (nap * 2).min(Duration::from_secs(60));
            if !self.salvage.source.present() {
                self.wait_for_it("it was switched off", &mut Duration::default())?;
            }
            if !self.has_stopped() {
                return Ok(());
            }
            if waited >= ABSENCE {
                if !self.salvage.limits.pauses {
                    return Err(Break::SourceGone(format!("{why}: switch the drive off and on, let it cool, or use another cable or port")));
                }
                // Whoever lets it go on wants it to be read all the same; limits are looked at again before that.
                return self.hold(&format!("{why}. Switch the drive off and on, let it cool, or use another cable or port"));
            }
            if self.salvage.limits.time.is_some_and(|time| self.salvage.clock.now() - self.began >= time) {
                return Err(Break::Limit("the time that was allowed is over".into()));
            }
        }
    }

    /// After a read without an answer: nothing else is asked, and nothing held against other places, until it answers again
    /// where it did before.
    pub(crate) fn wait_for_an_answer(&mut self, waited: &mut Duration) -> Result<(), Break> {
        let sector = self.salvage.source.geometry().logical_sector as usize;
        let mut buffer = vec![0; sector];
        let patience = Patience { limit: DEADLINE, control: Some(self.salvage.control.clone()) };
        self.mark();
        self.salvage.watch.lock().expect("watch lock").waits = Some("it does not answer, and is waited for".into());
        // Where nothing was read yet, one place that hangs says nothing of others.
        let size = self.salvage.strategy.map().size();
        let places = [size / 2, size / 4 * 3, size / 4, 0].map(|place| place / sector as u64 * sector as u64);
        for turn in 0.. {
            let at = self.last_good.unwrap_or(places[turn % places.len()]);
            let began = self.salvage.clock.now();
            match self.salvage.source.read_within(at, &mut buffer, &patience) {
                Err(ReadError::Silent { .. }) => *waited += self.salvage.clock.now().saturating_sub(began).max(Duration::from_millis(50)),
                _ => break,
            }
            if self.salvage.control.is_stopped() {
                return Err(Break::Stopped);
            }
            if *waited >= ABSENCE {
                return Err(Break::SourceGone("it hangs".into()));
            }
        }
        self.salvage.watch.lock().expect("watch lock").waits = None;
        Ok(())
    }
}
