//! The log: what happened, for a bug report. It names drives, never people's files unless that was asked for.

use crate::{papers, state_dir};
use rustix::fs::OFlags;
use std::fs::{self, OpenOptions};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::PathBuf;
use std::sync::Mutex;
use tracing::{error, info};

/// A log of this size is put aside when the program starts; one such is kept.
const MOST: u64 = 1 << 20;

/// Begins to write the log, and says where it lies. One that cannot be written is no reason not to work.
pub fn begin(names: bool) -> Option<PathBuf> {
    let dir = state_dir();
    let path = dir.join("badger.log");
    fs::create_dir_all(&dir).ok()?;
    if path.metadata().is_ok_and(|about| about.len() > MOST) {
        let _ = fs::rename(&path, dir.join("badger.log.1"));
    }
    // Whoever runs this with more rights than the directory's owner must not be led to somebody's drive or file.
    let flags = (OFlags::NOFOLLOW | OFlags::NONBLOCK).bits() as i32;
    let file = OpenOptions::new().create(true).append(true).mode(0o600).custom_flags(flags).open(&path).ok()?;
    file.metadata().ok().filter(|about| about.is_file() && about.nlink() == 1)?;
    let subscriber = tracing_subscriber::fmt().with_ansi(false).with_writer(Mutex::new(file)).with_max_level(tracing::Level::INFO).finish();
    tracing::subscriber::set_global_default(subscriber).ok()?;
    let before = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        // What it says may hold a name.
        let text = if names { panic.to_string() } else { String::new() };
        error!(place = panic.location().map(ToString::to_string), text, "the program broke");
        before(panic);
    }));
    // Of the arguments only the command: the others may name files.
    let command = std::env::args().nth(1).filter(|word| word.chars().all(|c| c.is_ascii_lowercase()));
    info!(version = papers::VERSION, command, process = std::process::id(), "it starts");
    Some(path)
}
