//! A line for what takes longer than a second: what is done, and for how long by now. It goes to the terminal of whoever
//! waits and to nobody else, and is gone when the work is.

use crate::Common;
use std::io::{IsTerminal, Write};
use std::sync::{Arc, Condvar, Mutex};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// Shown as long as it lives.
pub struct Waiting {
    over: Arc<(Mutex<bool>, Condvar)>,
    line: Option<JoinHandle<()>>,
}

impl Waiting {
    /// Begins to wait for `what`.
    pub fn begin(what: String, common: &Common) -> Self {
        let over = Arc::new((Mutex::new(false), Condvar::new()));
        let is_seen = !common.json && !common.events && std::io::stderr().is_terminal();
        let line = is_seen.then(|| {
            let over = over.clone();
            std::thread::spawn(move || {
                let (began, mut shown) = (Instant::now(), false);
                let mut done = over.0.lock().expect("waiting lock");
                while !*done {
                    done = over.1.wait_timeout(done, Duration::from_secs(1)).expect("waiting lock").0;
                    if !*done {
                        shown = true;
                        // Nobody is left to tell where this fails.
                        let _ = write!(std::io::stderr(), "\r\x1b[K○ {what} ... {} s", began.elapsed().as_secs());
                    }
                }
                if shown {
                    let _ = write!(std::io::stderr(), "\r\x1b[K");
                }
            })
        });
        Self { over, line }
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        *self.over.0.lock().expect("waiting lock") = true;
        self.over.1.notify_all();
        if let Some(line) = self.line.take() {
            // It panics nowhere, and if it did the work is done all the same.
            let _ = line.join();
        }
    }
}
