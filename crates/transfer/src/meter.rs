//! Rate and time left, steady enough to be read from two metres away.

use std::collections::VecDeque;

/// Follows how much was done when. Times are seconds, amounts bytes.
pub struct Meter {
    total: u64,
    done: u64,
    start: Option<f64>,
    last: f64,
    recent: VecDeque<(f64, u64)>,
    smooth: f64,
    shown: Option<(f64, f64)>,
    /// When the last amount came.
    stood_at: Option<f64>,
}

/// The rate shown is that of so many seconds.
const WINDOW: f64 = 5.0;

impl Meter {
    /// `done` of `total` bytes were done before.
    pub fn new(total: u64, done: u64) -> Self {
        Self { total, done, start: None, last: 0.0, recent: VecDeque::new(), smooth: 0.0, shown: None, stood_at: None }
    }

    /// `bytes` more were done at time `now`.
    pub fn add(&mut self, bytes: u64, now: f64) {
        let start = *self.start.get_or_insert(now);
        self.stood_at = Some(now);
        self.done = (self.done + bytes).min(self.total);
        // One entry for a tenth of a second at the most, so that fast runs do not fill memory.
        match self.recent.back_mut() {
            Some((at, sum)) if now - *at < 0.1 => *sum += bytes,
            _ => self.recent.push_back((now, bytes)),
        }
        while self.recent.front().is_some_and(|(at, _)| now - at > WINDOW) {
            self.recent.pop_front();
        }
        let span = now - self.last;
        if span >= 0.25 {
            // The memory of the estimate grows with the run: late hiccups move it little.
            let memory = ((now - start) * 0.25).clamp(5.0, 120.0);
            let weight = 1.0 - (-span / memory).exp();
            let rate = self.rate(now);
            self.smooth = if self.smooth == 0.0 { rate } else { self.smooth + (rate - self.smooth) * weight };
            self.last = now;
            let estimate = self.total.saturating_sub(self.done) as f64 / self.smooth.max(1.0);
            self.shown = Some(match self.shown {
                None => (now, estimate),
                Some((at, shown)) => {
                    let expected = (shown - (now - at)).max(0.0);
                    (now, expected + (estimate - expected) * (1.0 - (-span / 4.0).exp()))
                }
            });
        }
    }

    /// It was held until time `now`: what went by since the last amount counts for nothing.
    pub fn resume(&mut self, now: f64) {
        self.recent.clear();
        self.last = now;
        self.shown = self.shown.map(|(at, shown)| (now, (shown - (self.stood_at.unwrap_or(at) - at)).max(0.0)));
        self.stood_at = Some(now);
    }

    /// Bytes a second over the last few seconds.
    pub fn rate(&self, now: f64) -> f64 {
        let Some((first, _)) = self.recent.front() else { return 0.0 };
        let sum: u64 = self.recent.iter().map(|(_, bytes)| bytes).sum();
        sum as f64 / (now - first).max(0.1)
    }

    /// Share done, 0 to 1.
    pub fn share(&self) -> f64 {
        if self.total == 0 { 1.0 } else { self.done as f64 / self.total as f64 }
    }

    /// Bytes done, and all.
    pub fn amounts(&self) -> (u64, u64) {
        (self.done, self.total)
    }

    /// Seconds left at time `now`; `None` before there is anything to go by.
    pub fn left(&self, now: f64) -> Option<f64> {
        let (at, shown) = self.shown?;
        Some((shown - (now - at)).max(0.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pause_does_not_change_what_is_left() {
        let (mut meter, mut now) = (Meter::new(300_000_000_000, 0), 0.0);
        for _ in 0..200 {
            now += 0.1;
            meter.add(47_400_000, now);
        }
        let before = meter.left(now).unwrap();
        now += 3600.0;
        meter.resume(now);
        for _ in 0..10 {
            now += 0.1;
            meter.add(47_400_000, now);
            let left = meter.left(now).unwrap();
            assert!((left - before).abs() < 20.0, "{before} s were left, then {left}");
        }
    }

    #[test]
    fn time_left_is_right_and_does_not_jump() {
        let total = 100_000_000_000u64;
        let mut meter = Meter::new(total, 0);
        let (mut now, mut done, mut before) = (0.0, 0u64, None::<f64>);
        let mut turn = 0u64;
        while done < total {
            // 200 MB/s on average, with stalls of a second and bursts in between.
            turn += 1;
            now += if turn.is_multiple_of(200) { 1.0 } else { 0.1 };
            done += 20_900_000;
            meter.add(20_900_000, now);
            if let (Some(before), Some(left)) = (before, meter.left(now))
                && now > 30.0
            {
                assert!(left - before < 6.0, "jumped from {before} to {left} at {now}");
                let truth = (total.saturating_sub(done)) as f64 / 200e6;
                assert!((left - truth).abs() < truth * 0.15 + 5.0, "{left} left at {now}, in truth {truth}");
            }
            before = meter.left(now);
        }
        assert_eq!(meter.share(), 1.0);
    }
}
