//! Which read comes next, of all that there is to do.

use super::{Ask, Job, LONG, Pass, Strategy, Way, Worth};
use crate::map::State;
use std::ops::Range;

/// Bytes of a read in the depth of a gap, where every read may fail.
const PROBE: u64 = 256 << 10;
/// Bad places of one stretch that are read together when they are tried again.
const TOGETHER: u64 = 32 << 10;

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

impl Strategy {
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
            self.bands.passes();
            let to = (band.end / self.sector * self.sector).clamp(start + self.sector, self.map.size());
            self.skip(start..to, false);
            self.head = to;
            return Some(None);
        }
        Some(Some(Ask { range: start..end, pass: Pass::Skim, worth }))
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
}
