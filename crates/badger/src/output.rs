//! Standard output, and whether everything that was said got there.

use crate::{Common, code};
use std::io::{self, Write};
use std::sync::Mutex;

/// The first thing that could not be written.
static LOST: Mutex<Option<io::Error>> = Mutex::new(None);

/// Notes what became of a write to standard output.
pub fn note(outcome: io::Result<()>) {
    if let Err(error) = outcome {
        LOST.lock().expect("output lock").get_or_insert(error);
    }
}

/// Writes to standard output.
pub fn print(text: &str) {
    note(io::stdout().write_all(text.as_bytes()));
}

/// The exit code, once it is known whether everything was written. A reader who has seen enough is no trouble, unless it is a
/// program that waits for a whole document.
pub fn settle(done: u8, common: &Common) -> u8 {
    note(io::stdout().flush());
    match &*LOST.lock().expect("output lock") {
        Some(error) if error.kind() != io::ErrorKind::BrokenPipe || common.json => {
            complain!("what there was to say could not be written to the standard output: {error}");
            done.max(code::LOSS)
        }
        _ => done,
    }
}
