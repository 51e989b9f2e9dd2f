//! What is asked of a half-salvaged drive while the run goes on: whose the place under the cursor is, and how many files are whole.

use badger_bench::Bench;
use badger_jobs::salvaged::{counted, owners};
use badger_salvage::holed::Owners;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

/// A cursor stands so long before anything is looked up.
const STANDS: Duration = Duration::from_millis(300);
/// Files are counted no more often than this, and for no more than a twentieth of the time.
const COUNT_EVERY: Duration = Duration::from_secs(30);

const COUNT_SOON: Duration = Duration::from_secs(2);

/// A question, until it is answered or nobody wants to know any more.
struct Question<T> {
    answer: Receiver<Option<T>>,
    stop: Arc<AtomicBool>,
    since: Instant,
}

impl<T: Send + 'static> Question<T> {
    fn ask(find: impl FnOnce(&dyn Fn() -> bool) -> Option<T> + Send + 'static) -> Self {
        let (give, answer) = channel();
        let stop = Arc::new(AtomicBool::new(false));
        let stopped = stop.clone();
        std::thread::spawn(move || {
            let found = find(&|| stopped.load(Ordering::Relaxed));
            // Nobody may want to know any more.
            let _ = give.send(found);
        });
        Self { answer, stop, since: Instant::now() }
    }
}

impl<T> Drop for Question<T> {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}

/// What is asked, and what was answered.
#[derive(Default)]
pub(super) struct Asking {
    /// Where the cursor stands, and since when.
    at: Option<(Range<u64>, Instant)>,
    place: Option<Question<Owners>>,
    /// Whose it is; `None` where that cannot be told yet.
    pub owners: Option<Option<Owners>>,
    count: Option<Question<(u64, u64)>>,
    next: Option<Instant>,
    /// Files that were whole: seconds of the run, how many.
    pub whole: Vec<(f64, u64)>,
}

impl Asking {
    /// Takes in answers, and asks what is to be asked: the cursor stands on `at`; the run is `seconds` old.
    pub fn turn(&mut self, bench: &Bench, map: &Path, at: Option<Range<u64>>, seconds: f64) {
        if self.at.as_ref().map(|(range, _)| range) != at.as_ref() {
            (self.place, self.owners) = (None, None);
            self.at = at.map(|range| (range, Instant::now()));
        }
        if let Some((range, since)) = &self.at
            && self.place.is_none()
            && self.owners.is_none()
            && since.elapsed() >= STANDS
        {
            let (bench, map, range) = (bench.clone(), map.to_path_buf(), range.clone());
            self.place = Some(Question::ask(move |stop| owners(&bench, &map, &range, stop).ok()));
        }
        if let Some(answer) = self.place.as_ref().and_then(|place| place.answer.try_recv().ok()) {
            (self.place, self.owners) = (None, Some(answer));
        }
        if self.count.is_none() && self.next.is_none_or(|next| Instant::now() >= next) {
            let (bench, map) = (bench.clone(), map.to_path_buf());
            self.count = Some(Question::ask(move |stop| counted(&bench, &map, stop).ok()));
        }
        if let Some((answer, took)) = self.count.as_ref().and_then(|count| Some((count.answer.try_recv().ok()?, count.since.elapsed()))) {
            // Before the first folders are saved nothing can be counted, and that changes soon.
            let wait = if answer.is_some_and(|(whole, holed)| whole + holed > 0) { COUNT_EVERY } else { COUNT_SOON };
            self.whole.extend(answer.map(|(whole, _)| (seconds, whole)));
            (self.count, self.next) = (None, Some(Instant::now() + wait.max(took * 20)));
        }
    }

    /// How many files became whole since a moment of the run, and how many are; `None` where nothing was counted.
    pub fn became_whole(&self, since: f64) -> Option<(u64, u64)> {
        let (_, now) = *self.whole.last()?;
        let then = self.whole.iter().rev().find(|(at, _)| *at <= since).or(self.whole.first())?.1;
        Some((now.saturating_sub(then), now))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whole_files_are_counted_from_a_moment_on() {
        let mut asking = Asking::default();
        assert_eq!(asking.became_whole(0.0), None);
        asking.whole = vec![(10.0, 4), (300.0, 9), (900.0, 15)];
        assert_eq!(asking.became_whole(0.0), Some((11, 15)));
        assert_eq!(asking.became_whole(300.0), Some((6, 15)));
        assert_eq!(asking.became_whole(5000.0), Some((0, 15)));
    }
}
