//! The screens. They compute nothing: they show what the engines say and pass on what the technician wants.

pub mod app;
mod bench;
pub mod dig;
mod draw;
mod help;
mod job;
mod ledger;
mod message;
mod palette;
mod past;
mod running;
mod step;
pub mod theme;

use app::App;
use badger_bench::Bench;
use crossterm::event::{self, DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture, Event};
use crossterm::{SynchronizedUpdate, execute};
use std::io;
use std::time::Duration;

/// How long a frame stands while something goes on; a key is answered at once.
const FRAME: Duration = Duration::from_millis(100);

/// Opens the bench on this terminal and stays until the technician leaves.
///
/// # Errors
/// What the terminal says.
pub fn open(bench: Bench) -> io::Result<()> {
    let mut app = App::new(bench);
    let mut terminal = ratatui::init();
    // A terminal without a mouse still has its keys.
    let _ = execute!(io::stdout(), EnableMouseCapture, EnableBracketedPaste);
    let outcome = (|| {
        // An idle screen is drawn when its clock changes, and not more often.
        let (mut stale, mut minute) = (true, 0);
        while !app.is_left() {
            let now = badger_bench::ledger::now() / 60;
            stale |= app.refresh() | app.is_busy() | (now != minute);
            if std::mem::take(&mut stale) {
                minute = now;
                // A frame comes up whole, also over a slow line; terminals that do not know of it pass over the two marks.
                io::stdout().sync_update(|_| terminal.draw(|frame| app.draw(frame)).map(drop))??;
            }
            // The first look round takes milliseconds; the shelf shall not wait a whole frame for it.
            let wait = if app.is_looking() { FRAME / 10 } else { FRAME };
            if event::poll(wait)? {
                stale = true;
                loop {
                    match event::read()? {
                        Event::Key(key) => app.key(key),
                        Event::Mouse(mouse) => app.mouse(mouse),
                        Event::Paste(text) => app.paste(&text),
                        _ => {}
                    }
                    if app.is_left() || !event::poll(Duration::ZERO)? {
                        break;
                    }
                }
            }
        }
        Ok(())
    })();
    let _ = execute!(io::stdout(), DisableMouseCapture, DisableBracketedPaste);
    ratatui::restore();
    app.close();
    outcome
}
