//! What trouble looks like on this drive: what reads cost, how wide bad places are, and whether they come again and again.

use std::ops::Range;
use std::time::Duration;

/// What reads cost.
#[derive(Clone, Copy, Debug)]
pub struct Pace {
    /// Bytes a second of reads that went well.
    rate: f64,
    /// Seconds of a jump.
    jump: f64,
    /// Seconds that a failure costs.
    failure: f64,
    /// Bytes a second where it is slow.
    slow: f64,
    reads: u32,
    /// How many of the last ones were slow, and how fast they were.
    slow_share: f64,
}

impl Default for Pace {
    fn default() -> Self {
        Self { rate: 100e6, jump: 0.01, failure: 0.0, slow: 1e6, reads: 0, slow_share: 0.0 }
    }
}

/// A read is slow where it takes so many times as long as others, and so much longer.
const SLOW_TIMES: f64 = 4.0;
const SLOW_MORE: f64 = 0.03;

fn blend(old: f64, new: f64, share: f64) -> f64 {
    old + (new - old) * share
}

impl Pace {
    /// A read went well. By how much it was too slow, in seconds, where it was.
    pub fn came(&mut self, bytes: u64, took: Duration, jumped: bool) -> Option<f64> {
        let (bytes, took) = (bytes as f64, took.as_secs_f64());
        let usual = bytes / self.rate + if jumped { self.jump } else { 0.0 };
        self.reads = self.reads.saturating_add(1);
        let is_slow = self.reads > 4 && took > usual * SLOW_TIMES + SLOW_MORE;
        self.slow_share = blend(self.slow_share, f64::from(u8::from(is_slow)), 0.05);
        if is_slow {
            self.slow = blend(self.slow, bytes / took, 0.3);
            // Where all of it is slow, that is how the drive is.
            if self.slow_share > 0.5 {
                (self.rate, self.slow_share) = (bytes / took, 0.0);
            }
            return Some(took - usual);
        }
        if bytes >= 65536.0 && took > 0.0 {
            if jumped {
                self.jump = blend(self.jump, (took - bytes / self.rate).clamp(0.0, 0.2), 0.2);
            } else {
                self.rate = blend(self.rate, (bytes / took).min(20e9), if self.reads < 4 { 0.7 } else { 0.2 });
            }
        }
        None
    }

    /// A read failed after so many bytes.
    pub fn failed(&mut self, bytes: u64, took: Duration, jumped: bool) {
        let more = took.as_secs_f64() - bytes as f64 / self.rate - if jumped { self.jump } else { 0.0 };
        self.failure = blend(self.failure, more.max(0.0), if self.failure == 0.0 { 1.0 } else { 0.2 });
    }

    /// Bytes a second of reads that went well.
    pub fn rate(&self) -> f64 {
        self.rate
    }

    /// Bytes a second where it is slow.
    pub fn slow_rate(&self) -> f64 {
        self.slow
    }

    /// Seconds of a jump.
    pub fn jump(&self) -> f64 {
        self.jump
    }

    /// Seconds that a failure costs.
    pub fn failure(&self) -> f64 {
        self.failure
    }
}

/// Bad places in the order in which they were met while skimming.
#[derive(Clone, Debug, Default)]
pub struct Bands {
    /// Where each began, and, once that is known, where it was over at the latest.
    met: Vec<(u64, Option<u64>)>,
    /// So many of the last ones were expected and jumped over, not met.
    passed: usize,
}

/// So many are remembered.
const MOST: usize = 64;
/// A period is believed where distances agree that well.
const AGREE: f64 = 0.06;
/// So many in a row are jumped over; then one is met again, which says how far off expectations are by now.
const PASSED: usize = 8;
/// Bytes in front of an expected band that are left out with it at least.
const MARGIN: f64 = 262_144.0;

impl Bands {
    /// Trouble at a place; it belongs to the last band where that has no end yet, or has just been left too early.
    pub fn begins(&mut self, at: u64) {
        let typical = self.typical().unwrap_or(0);
        if let Some((start, end)) = self.met.last_mut()
            && at > *start
            && end.is_none_or(|end| end <= at && at - end <= typical / 4)
        {
            *end = None;
            return;
        }
        if self.met.last().is_some_and(|(start, _)| at <= *start) {
            // Another direction, or another part: what was learned of distances is not of this order.
            self.met.clear();
            self.passed = 0;
        }
        self.settle(at);
        self.push((at, None));
    }

    fn push(&mut self, band: (u64, Option<u64>)) {
        if self.met.len() == MOST {
            self.met.remove(0);
        }
        self.met.push(band);
    }

    /// One was met at `at` after some that were only expected: those lay between as evenly as before.
    fn settle(&mut self, at: u64) {
        let passed = std::mem::take(&mut self.passed);
        let Some((next, ..)) = self.next().filter(|_| passed > 0) else { return };
        let off = at as f64 - next;
        let count = self.met.len();
        for (number, (start, end)) in self.met[count - passed..].iter_mut().enumerate() {
            let share = off * (number + 1) as f64 / (passed + 1) as f64;
            let moved = |place: u64| (place as f64 + share).max(0.0) as u64;
            (*start, *end) = (moved(*start), end.map(moved));
        }
    }

    /// An expected band is jumped over.
    pub fn passes(&mut self) {
        let Some((start, width, _)) = self.next() else { return };
        self.push((start.max(0.0) as u64, Some((start + width) as u64)));
        self.passed = (self.passed + 1).min(self.met.len());
    }

    /// The last band was over at this place.
    pub fn ends(&mut self, at: u64) {
        if let Some((_, end @ None)) = self.met.last_mut() {
            *end = Some(at);
        }
    }

    /// Widths of the last bands that were met from their start to their end, the least first: each was no wider than that.
    fn widths(&self) -> Vec<u64> {
        let met = self.met.len() - self.passed.min(self.met.len());
        let mut widths: Vec<u64> =
            self.met[..met].iter().rev().filter_map(|(start, end)| Some(end.as_ref()?.saturating_sub(*start))).take(9).collect();
        widths.sort_unstable();
        widths
    }

    /// How wide bands are about; `None` where none was met from its start to its end.
    pub fn typical(&self) -> Option<u64> {
        let widths = self.widths();
        widths.get(widths.len() / 2).copied()
    }

    /// How far to jump from the start of a band: where they come again and again, a little less than the least that was enough.
    pub fn jump(&self) -> Option<u64> {
        match self.next() {
            Some((_, width, _)) => Some((width / 16.0 * 15.0) as u64),
            None => self.typical().map(|typical| typical / 8 * 7),
        }
    }

    /// The band behind the last one, where they come again and again: where it begins, how wide it is, how far that may be off.
    fn next(&self) -> Option<(f64, f64, f64)> {
        let starts: Vec<u64> = self.met.iter().map(|(start, _)| *start).collect();
        let steps: Vec<f64> = starts.windows(2).map(|pair| (pair[1] - pair[0]) as f64).collect();
        let count = steps.len();
        let agree = |a: f64, b: f64| (a - b).abs() <= AGREE * a.max(b);
        // Every time, or, where tracks go to and fro, every second time.
        let period = (1..=2usize)
            .find(|period| count > 2 * period - 1 && (0..*period).all(|at| agree(steps[count - 1 - at], steps[count - 1 - at - period])))?;
        let off = (0..period).map(|at| (steps[count - 1 - at] - steps[count - 1 - at - period]).abs()).fold(0.0, f64::max);
        Some((*starts.last()? as f64 + steps[count - period], *self.widths().first()? as f64, off))
    }

    /// The next band that is to be expected from a place on, where they come again and again; `None` also where it is time to meet one again.
    pub fn expected(&self, from: u64, size: u64) -> Option<Range<u64>> {
        let (start, width, off) = self.next().filter(|_| self.passed < PASSED)?;
        // What was not met was not measured: the further, the less certain.
        let margin = MARGIN + off * (self.passed + 1) as f64 / 4.0;
        let band = (start - margin).max(0.0) as u64..((start + width + margin) as u64).min(size);
        (band.end > from && band.start < size).then_some(band)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bands_that_come_again_are_expected() {
        let mut bands = Bands::default();
        for start in [100_000u64, 200_000, 300_000] {
            bands.begins(start);
            bands.begins(start + 500);
            bands.ends(start + 1_000);
        }
        let band = bands.expected(310_000, 1 << 30).unwrap();
        assert!(band.contains(&400_000) && band.contains(&401_000), "{band:?}");
        assert!(bands.expected(310_000, 1000).is_none(), "behind the end is nothing");
    }

    /// What is jumped over is not measured: now and then a band is met again, and expectations follow it.
    #[test]
    fn expectations_do_not_drift() {
        let (mut bands, mut expected, mut widest) = (Bands::default(), 0, 0);
        let size = 1 << 40;
        // Each band a little further than the one before.
        let start = |turn: u64| turn * 100_000_000 + turn * turn * 300;
        for turn in 1..400 {
            match bands.expected(start(turn - 1) + 40_000_000, size) {
                Some(band) => {
                    assert!(band.contains(&start(turn)) && band.contains(&(start(turn) + 29_000_000)), "{turn} {band:?} {}", start(turn));
                    (expected, widest) = (expected + 1, widest.max(band.end - band.start));
                    bands.passes();
                }
                None => {
                    bands.begins(start(turn));
                    bands.ends(start(turn) + 30_000_000);
                }
            }
        }
        assert!(expected > 330 && widest < 34_000_000, "{expected} {widest}");
    }

    #[test]
    fn to_and_fro_is_a_period_too() {
        let mut bands = Bands::default();
        for start in [10_000u64, 60_000, 90_000, 140_000, 170_000] {
            bands.begins(start);
            bands.ends(start + 100);
        }
        assert!(bands.expected(175_000, 1 << 30).unwrap().contains(&220_000));
    }

    #[test]
    fn nothing_is_expected_of_what_comes_anywhere() {
        let mut bands = Bands::default();
        for start in [10_000u64, 60_000, 91_000, 400_000, 410_000] {
            bands.begins(start);
            bands.ends(start + 100);
        }
        assert_eq!(bands.expected(411_000, 1 << 30), None);
    }

    #[test]
    fn what_is_slow_is_told_from_a_drive_that_is_slow_throughout() {
        let mut pace = Pace::default();
        let read = |pace: &mut Pace, seconds: f64| pace.came(4 << 20, Duration::from_secs_f64(seconds), false).is_some();
        assert!((0..20).all(|_| !read(&mut pace, 0.04)));
        assert!(read(&mut pace, 0.44));
        assert!(!read(&mut pace, 0.04));
        let slow = (0..60).filter(|_| read(&mut pace, 0.44)).count();
        assert!(slow < 40, "{slow}");
    }
}
