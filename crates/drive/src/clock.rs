//! Time as the engines see it. They never ask the machine for the time themselves, so that a run can be watched at
//! its real pace, hurried, or measured without waiting.

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// A source of time. `now` counts from an arbitrary start and never goes back.
pub trait Clock: Send + Sync {
    /// Time since this clock's start.
    fn now(&self) -> Duration;
    /// Lets this much of this clock's time go by.
    fn sleep(&self, span: Duration);
    /// Lets the clock reach `moment`; returns at once where that has gone by.
    fn reach(&self, moment: Duration) {
        self.sleep(moment.saturating_sub(self.now()));
    }
}

/// The machine's own time, which can be hurried: at factor 60 a minute that somebody waits for takes a second. Time in which
/// the machine works is not hurried, so that rates stay those of the drives.
pub struct BenchClock {
    began: Instant,
    /// Nanoseconds that were gained by waiting less than was asked for.
    gained: AtomicU64,
    factor: AtomicU32,
}

impl BenchClock {
    /// A clock at factor 1.
    pub fn new() -> Arc<Self> {
        Arc::new(Self { began: Instant::now(), gained: AtomicU64::new(0), factor: AtomicU32::new(1) })
    }

    /// How many times faster than the machine's time waiting goes by.
    pub fn factor(&self) -> u32 {
        self.factor.load(Ordering::Relaxed)
    }

    /// Changes the factor (at least 1) from now on; what has gone by stays as it was.
    pub fn hurry(&self, factor: u32) {
        self.factor.store(factor.max(1), Ordering::Relaxed);
    }
}

impl Clock for BenchClock {
    fn now(&self) -> Duration {
        self.began.elapsed() + Duration::from_nanos(self.gained.load(Ordering::SeqCst))
    }

    fn sleep(&self, span: Duration) {
        let end = self.now() + span;
        // Short naps, so that a changed factor takes hold in the middle of a long wait.
        loop {
            let (before, factor) = (self.now(), self.factor());
            let left = end.saturating_sub(before) / factor;
            if left.is_zero() {
                return;
            }
            let nap = left.min(Duration::from_millis(50));
            std::thread::sleep(nap);
            // Two who wait at once gain the time once.
            let reached = before + nap * factor;
            self.gained.fetch_max(reached.saturating_sub(self.began.elapsed()).as_nanos() as u64, Ordering::SeqCst);
        }
    }
}

/// Time that passes only when somebody waits: an hour of drive time costs nothing.
#[derive(Default)]
pub struct SimClock {
    nanos: AtomicU64,
}

impl SimClock {
    /// A clock at zero.
    pub fn new() -> Arc<Self> {
        Arc::new(Self::default())
    }
}

impl Clock for SimClock {
    fn now(&self) -> Duration {
        Duration::from_nanos(self.nanos.load(Ordering::SeqCst))
    }

    fn sleep(&self, span: Duration) {
        self.nanos.fetch_add(span.as_nanos() as u64, Ordering::SeqCst);
    }

    fn reach(&self, moment: Duration) {
        self.nanos.fetch_max(moment.as_nanos() as u64, Ordering::SeqCst);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn simulated_time_passes_only_when_waited_for() {
        let clock = SimClock::new();
        clock.sleep(Duration::from_secs(3600));
        clock.reach(Duration::from_secs(10));
        assert_eq!(clock.now(), Duration::from_secs(3600));
        clock.reach(Duration::from_secs(7200));
        assert_eq!(clock.now(), Duration::from_secs(7200));
    }

    #[test]
    fn hurrying_neither_jumps_back_nor_loses_what_went_by() {
        let clock = BenchClock::new();
        clock.sleep(Duration::from_millis(5));
        let before = clock.now();
        clock.hurry(1000);
        assert!(clock.now() >= before);
        let start = Instant::now();
        clock.sleep(Duration::from_secs(20));
        assert!(start.elapsed() < Duration::from_secs(5));
        let later = clock.now();
        clock.hurry(1);
        assert!(clock.now() >= later);
    }
}
