//! What a technician can do to a run while it goes on: pause, resume, stop, limit the rate.

use crate::clock::Clock;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::time::Duration;

/// A handle shared between a run and whoever steers it. Clones are the same handle.
#[derive(Clone, Default)]
pub struct Control(Arc<Inner>);

#[derive(Default)]
struct Inner {
    paused: Mutex<bool>,
    changed: Condvar,
    stopped: AtomicBool,
    /// How often it was held and went on.
    resumed: AtomicU64,
    bytes_per_second: AtomicU64,
    free_at: Mutex<Duration>,
}

impl Control {
    /// A run that goes on unhindered.
    pub fn new() -> Self {
        Self::default()
    }

    /// Halts the run before its next read.
    pub fn pause(&self) {
        *self.0.paused.lock().expect("control lock") = true;
    }

    /// Lets a paused run go on.
    pub fn resume(&self) {
        *self.0.paused.lock().expect("control lock") = false;
        self.0.resumed.fetch_add(1, Ordering::SeqCst);
        self.0.changed.notify_all();
    }

    /// How often it was held and went on; the time between counts for nothing.
    pub fn pauses(&self) -> u64 {
        self.0.resumed.load(Ordering::SeqCst)
    }

    /// Whether the run is held.
    pub fn is_paused(&self) -> bool {
        *self.0.paused.lock().expect("control lock")
    }

    /// Ends the run in order; what was copied is flushed and can be picked up again.
    pub fn stop(&self) {
        self.0.stopped.store(true, Ordering::SeqCst);
        self.0.changed.notify_all();
    }

    /// Whether the run was told to end.
    pub fn is_stopped(&self) -> bool {
        self.0.stopped.load(Ordering::SeqCst)
    }

    /// Limits reading to so many bytes a second; 0 takes the limit away.
    pub fn limit(&self, bytes_per_second: u64) {
        self.0.bytes_per_second.store(bytes_per_second, Ordering::SeqCst);
    }

    /// The limit in bytes a second; 0 where there is none.
    pub fn rate_limit(&self) -> u64 {
        self.0.bytes_per_second.load(Ordering::SeqCst)
    }

    /// Waits while paused. False when the run shall end.
    pub fn go_on(&self) -> bool {
        let mut paused = self.0.paused.lock().expect("control lock");
        while *paused && !self.is_stopped() {
            paused = self.0.changed.wait_timeout(paused, Duration::from_millis(200)).expect("control lock").0;
        }
        !self.is_stopped()
    }

    /// Spends the time that `bytes` may not be faster than. A stop ends the wait.
    pub fn hold_back(&self, bytes: u64, clock: &dyn Clock) {
        let rate = self.rate_limit();
        if rate == 0 {
            return;
        }
        let end = {
            let mut free_at = self.0.free_at.lock().expect("control lock");
            *free_at = clock.now().max(*free_at) + Duration::from_secs_f64(bytes as f64 / rate as f64);
            *free_at
        };
        while clock.now() < end && !self.is_stopped() && self.rate_limit() != 0 {
            clock.reach(end.min(clock.now() + Duration::from_millis(100)));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clock::SimClock;

    #[test]
    fn the_limit_holds_over_time() {
        let (control, clock) = (Control::new(), SimClock::new());
        control.limit(10_000_000);
        for _ in 0..100 {
            control.hold_back(4_000_000, &*clock);
        }
        assert_eq!(clock.now().as_secs(), 40);
    }

    #[test]
    fn a_stop_ends_a_pause() {
        let control = Control::new();
        control.pause();
        std::thread::scope(|scope| {
            let waiting = scope.spawn(|| control.go_on());
            control.stop();
            assert!(!waiting.join().unwrap());
        });
    }
}
