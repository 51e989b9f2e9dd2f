//! Follows a run on the command line: a progress line where there is a terminal, JSON events where asked for.

use crate::Common;
use badger_drive::size::{human, span};
use badger_transfer::meter::Meter;
use badger_transfer::{Control, Event, Observer, Phase};
use signal_hook::consts::{SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use std::io::{IsTerminal, Write};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// Lets an interrupt from the keyboard, or an orderly end of the system, stop a run in order.
pub fn obey_signals(control: Arc<Control>) {
    if let Ok(mut signals) = Signals::new([SIGINT, SIGTERM]) {
        std::thread::spawn(move || {
            for _ in signals.forever() {
                control.stop();
            }
        });
    }
}

struct State {
    phase: Option<Phase>,
    meter: Meter,
    lost: u64,
    drawn: Option<Instant>,
}

/// Prints what a run reports.
pub struct Follower {
    events: bool,
    line: bool,
    state: Mutex<State>,
}

impl Follower {
    /// By the options given.
    pub fn new(common: &Common) -> Self {
        let line = !common.json && !common.events && std::io::stdout().is_terminal();
        Self { events: common.events, line, state: Mutex::new(State { phase: None, meter: Meter::new(0, 0), lost: 0, drawn: None }) }
    }

    /// Ends the progress line.
    pub fn finish(&self) {
        if self.line {
            tell_part!("\r\x1b[K");
            let _ = std::io::stdout().flush();
        }
    }

    fn draw(&self, state: &mut State, now: f64) {
        let due = state.drawn.is_none_or(|drawn| drawn.elapsed() > Duration::from_millis(100));
        let Some(phase) = state.phase.filter(|_| self.line && due) else { return };
        state.drawn = Some(Instant::now());
        let (done, total) = state.meter.amounts();
        let filled = (state.meter.share() * 24.0) as usize;
        let bar: String = (0..24).map(|at| if at < filled { '━' } else { '╌' }).collect();
        let left = state.meter.left(now).map(|left| format!("{} left", span(left))).unwrap_or_default();
        let lost = if state.lost > 0 { format!("  {} unreadable", human(state.lost)) } else { String::new() };
        tell_part!(
            "\r\x1b[K{:<14} {bar} {:>3.0} %  {} of {}  {}/s  {left}{lost}",
            phase.word(),
            state.meter.share() * 100.0,
            human(done),
            human(total),
            human(state.meter.rate(now) as u64)
        );
        let _ = std::io::stdout().flush();
    }
}

impl Observer for Follower {
    fn event(&self, event: &Event) {
        if self.events
            && let Ok(text) = serde_json::to_string(event)
        {
            tell_part!("{text}\n");
        }
        let mut state = self.state.lock().expect("follower lock");
        match event {
            Event::Phase { phase, total, done, .. } => {
                state.phase = Some(*phase);
                state.meter = Meter::new(*total, *done);
            }
            Event::Moved { len, at, .. } => {
                state.meter.add(*len, *at);
                self.draw(&mut state, *at);
            }
            Event::Lost { len, .. } => state.lost += len,
            Event::Late { len, .. } => state.lost = state.lost.saturating_sub(*len),
            Event::Kept { .. } | Event::Differs { .. } | Event::File { .. } | Event::Unreadable { .. } => {}
        }
    }
}
