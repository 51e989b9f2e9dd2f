//! How far a rehearsal of a target is.

use badger_drive::{Control, Refusal};
use badger_jobs::rehearsing::Rehearsed;
use std::sync::mpsc::Receiver;
use std::thread::JoinHandle;

/// What is shown of a machine: its screen, small, and what it says.
pub(super) struct Shown {
    /// Dots of the screen, row by row.
    pub dots: Vec<[u8; 3]>,
    /// Of them in a row.
    pub width: u32,
    /// What can be read on it.
    pub text: Vec<String>,
    /// What came over the serial line.
    pub serial: Vec<String>,
    /// Since it was switched on.
    pub seconds: f64,
    /// Whether this bench's processor runs it by itself.
    pub is_accelerated: bool,
}

/// One that goes on.
pub(super) struct Running {
    /// Ends it.
    pub control: Control,
    /// How it stands, again and again.
    pub scenes: Receiver<Shown>,
    /// The last of them.
    pub now: Option<Shown>,
    /// How it went.
    pub done: Receiver<Result<Rehearsed, Refusal>>,
    /// Who does it.
    pub thread: JoinHandle<()>,
}

/// See the module.
#[derive(Default)]
pub(super) enum Rehearses {
    /// Nobody asked.
    #[default]
    Nothing,
    /// It goes on.
    Running(Box<Running>),
}

impl Rehearses {
    /// Stops it, and waits until nothing of it is left.
    pub fn stop_and_wait(&mut self) {
        if let Self::Running(running) = std::mem::take(self) {
            running.control.stop();
            let _ = running.thread.join();
        }
    }
}
