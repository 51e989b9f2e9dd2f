//! A run in a thread of its own, and what the screen shows of it.

use crate::draw::surface::State;
use badger_bench::Bench;
use badger_drive::{Extents, Refusal};
use badger_jobs::salvage::{SalvageReady, Seat};
use badger_jobs::{ImageReady, Ready};
use badger_transfer::meter::Meter;
use badger_transfer::{Control, Event, Observer, Phase, Report};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

/// Longest history of rates; when it is full, neighbours are averaged.
const HISTORY: usize = 2048;

/// What a run has reported so far.
pub struct Progress {
    /// What it does.
    pub phase: Option<Phase>,
    /// How far it is.
    pub meter: Meter,
    /// The surface.
    pub map: Extents<State>,
    /// Where it is, in bytes of the source.
    pub head: Option<u64>,
    /// Bytes a second, one value a step of time.
    pub history: Vec<f64>,
    step: f64,
    bucket: (f64, u64),
    pauses: u64,
    /// Unreadable bytes and stretches.
    pub lost: (u64, u64),
    /// Stretches that differ.
    pub differs: u64,
    /// Bytes that are safe whatever happens.
    pub kept: u64,
    /// The run's time in seconds.
    pub now: f64,
    /// The outcome once it is over.
    pub outcome: Option<Result<Report, Refusal>>,
}

impl Progress {
    fn new() -> Self {
        Self {
            phase: None,
            meter: Meter::new(0, 0),
            map: Extents::new(),
            head: None,
            history: Vec::new(),
            step: 0.5,
            bucket: (0.0, 0),
            pauses: 0,
            lost: (0, 0),
            differs: 0,
            kept: 0,
            now: 0.0,
            outcome: None,
        }
    }

    fn take(&mut self, event: &Event) {
        match event {
            Event::Phase { phase, total, done, .. } => {
                self.phase = Some(*phase);
                self.meter = Meter::new(*total, *done);
                self.history.clear();
                self.step = 0.5;
                self.bucket = (self.now, 0);
                self.head = None;
            }
            Event::Moved { start, len, at } => {
                let state = if self.phase == Some(Phase::Copy) { State::Saved } else { State::Proved };
                self.now = self.now.max(*at);
                self.meter.add(*len, *at);
                // Files are read in their own order; the surface says nothing new of them.
                if self.phase != Some(Phase::Files) {
                    self.head = Some(start + len);
                    self.mark(*start, *len, state);
                }
                self.bucket.1 += len;
                let span = self.now - self.bucket.0;
                if span >= self.step {
                    self.history.push(self.bucket.1 as f64 / span);
                    self.bucket = (self.now, 0);
                    if self.history.len() >= HISTORY {
                        self.history = self.history.chunks(2).map(|pair| pair.iter().sum::<f64>() / pair.len() as f64).collect();
                        self.step *= 2.0;
                    }
                }
            }
            Event::Lost { start, len } => {
                self.map.set(*start..start + len, State::Lost);
                self.lost = (self.lost.0 + len, self.lost.1 + 1);
            }
            Event::Late { start, len } => {
                let around = start.saturating_sub(1)..start + len + 1;
                let holes = |map: &Extents<State>| map.within(around.clone()).filter(|(_, state)| **state == State::Lost).count() as u64;
                let before = holes(&self.map);
                self.map.set(*start..start + len, State::Saved);
                self.lost = (self.lost.0.saturating_sub(*len), (self.lost.1 + holes(&self.map)).saturating_sub(before));
            }
            Event::Differs { start, len } => {
                self.map.set(*start..start + len, State::Differs);
                self.differs += 1;
            }
            Event::Kept { done } => self.kept = *done,
            // Files are of another engine, which has no surface.
            Event::File { .. } | Event::Unreadable { .. } => {}
        }
    }

    /// Marks a stretch, but never over what is lost or differs.
    fn mark(&mut self, start: u64, len: u64, state: State) {
        let bad: Vec<_> = self
            .map
            .within(start..start + len)
            .filter(|(_, state)| matches!(state, State::Lost | State::Differs))
            .map(|(range, state)| (range, *state))
            .collect();
        self.map.set(start..start + len, state);
        bad.into_iter().for_each(|(range, state)| self.map.set(range, state));
    }
}

struct Shared(Arc<Mutex<Progress>>, Arc<Control>);

impl Observer for Shared {
    fn event(&self, event: &Event) {
        let mut progress = self.0.lock().expect("progress lock");
        if let Event::Moved { at, .. } = event
            && std::mem::replace(&mut progress.pauses, self.1.pauses()) != self.1.pauses()
        {
            // The time in which it was held says nothing of how fast the drives are.
            progress.meter.resume(*at);
            progress.bucket = (*at, 0);
        }
        progress.take(event);
    }
}

/// A run that goes on.
pub struct Running {
    /// To steer it.
    pub control: Arc<Control>,
    progress: Arc<Mutex<Progress>>,
    thread: Option<JoinHandle<()>>,
}

impl Running {
    /// Begins; `done` stretches of an unfinished run are shown as saved at once.
    pub fn start(bench: Bench, ready: Ready, tail: String) -> Self {
        let mut first = Progress::new();
        if ready.plan.sparing.is_some() {
            first.map.set(0..ready.plan.size(), State::Free);
            ready.plan.moves.iter().for_each(|step| first.map.clear(step.to..step.to + step.len));
        }
        if let Some((past, _)) = &ready.prepared.unfinished {
            past.done.iter().for_each(|(range, ())| first.map.set(range, State::Saved));
            past.lost.iter().for_each(|(range, ())| first.take(&Event::Lost { start: range.start, len: range.end - range.start }));
            first.kept = past.done_bytes();
        }
        Self::begin(first, move |control, observer| ready.run(&bench, &tail, control, observer))
    }

    /// Begins to make an image.
    pub fn keep(bench: Bench, ready: ImageReady) -> Self {
        let (mut first, sight) = (Progress::new(), ready.sight());
        if sight.sparing {
            first.map.set(0..sight.source.size_bytes, State::Free);
            sight.needed.iter().for_each(|(range, ())| first.map.clear(range));
        }
        Self::begin(first, move |control, observer| ready.run(&bench, control, observer))
    }

    /// Begins to salvage a drive; what it shows and takes goes by its seat.
    pub fn salvage(bench: Bench, ready: SalvageReady, tail: String, seat: Seat) -> Self {
        Self::begin(Progress::new(), move |control, observer| ready.run(&bench, &tail, &seat, control, observer).map(|salvaged| salvaged.report))
    }

    fn begin(first: Progress, run: impl FnOnce(&Control, &dyn Observer) -> Result<Report, Refusal> + Send + 'static) -> Self {
        let control = Arc::new(Control::new());
        let progress = Arc::new(Mutex::new(first));
        let (shared, steered) = (progress.clone(), control.clone());
        let thread = std::thread::spawn(move || {
            let outcome = run(&steered, &Shared(shared.clone(), steered.clone()));
            shared.lock().expect("progress lock").outcome = Some(outcome);
        });
        Self { control, progress, thread: Some(thread) }
    }

    /// Looks at the progress.
    pub fn look<T>(&self, look: impl FnOnce(&Progress) -> T) -> T {
        look(&self.progress.lock().expect("progress lock"))
    }

    /// Whether it is over.
    pub fn is_over(&self) -> bool {
        self.look(|progress| progress.outcome.is_some())
    }

    /// Stops it and waits until everything is flushed.
    pub fn stop_and_wait(&mut self) {
        self.control.stop();
        if let Some(thread) = self.thread.take() {
            // A run that panicked has nothing left to flush.
            let _ = thread.join();
        }
    }
}
