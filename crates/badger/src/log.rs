//! The log: what happened, for a bug report. It names drives, never people's files unless that was asked for.

use crate::{papers, state_dir};
use rustix::fs::OFlags;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use tracing::{error, info};

/// A log of this size is put aside when the program starts; one such is kept.
const MOST: u64 = 1 << 20;

/// Lines wait in memory up to this size: until it is known which drives are read, nobody knows where the log may lie.
const WAITING: usize = 256 << 10;

/// Where the log is written to.
static LOG: Mutex<Log> = Mutex::new(Log::Off);

enum Log {
    /// Nothing is written.
    Off,
    /// Waits for the drives.
    Waiting { path: PathBuf, lines: Vec<u8>, off: Arc<AtomicBool> },
    /// Is being written.
    Open { file: File, off: Arc<AtomicBool> },
}

impl Log {
    /// Writes what waits, where no drive that is read carries the log.
    fn settle(&mut self) {
        let Self::Waiting { path, lines, off } = self else { return };
        let made = if off.load(Ordering::Relaxed) { None } else { opened(path) };
        let (lines, off) = (std::mem::take(lines), off.clone());
        *self = match made {
            Some(mut file) => {
                let _ = file.write_all(&lines);
                Self::Open { file, off }
            }
            None => Self::Off,
        };
    }
}

/// Opens the log to write at its end: a plain file of one name, and no link. Whoever runs this with more rights than the directory's
/// owner must not be led to somebody's drive or file.
fn opened(path: &Path) -> Option<File> {
    let dir = path.parent()?;
    fs::create_dir_all(dir).ok()?;
    if fs::symlink_metadata(path).is_ok_and(|about| about.is_file() && about.nlink() == 1 && about.len() > MOST) {
        let old = dir.join("badger.log.1");
        if fs::symlink_metadata(&old).map_or(true, |about| about.is_file() && about.nlink() == 1) {
            let _ = fs::rename(path, old);
        }
    }
    let flags = (OFlags::NOFOLLOW | OFlags::NONBLOCK).bits() as i32;
    let file = OpenOptions::new().create(true).append(true).mode(0o600).custom_flags(flags).open(path).ok()?;
    file.metadata().ok().filter(|about| about.is_file() && about.nlink() == 1)?;
    Some(file)
}

/// Takes lines of the log in.
struct Lines;

impl Write for Lines {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut log = LOG.lock().unwrap_or_else(PoisonError::into_inner);
        match &mut *log {
            Log::Off => {}
            Log::Waiting { lines, .. } => {
                lines.extend_from_slice(bytes);
                if lines.len() > WAITING {
                    log.settle();
                }
            }
            Log::Open { off, .. } if off.load(Ordering::Relaxed) => *log = Log::Off,
            Log::Open { file, .. } => file.write_all(bytes)?,
        }
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Writes what waits: before a run that may take long, and at the end of the program.
pub fn settle() {
    LOG.lock().unwrap_or_else(PoisonError::into_inner).settle();
}

/// Where the log lies.
pub fn path() -> PathBuf {
    state_dir().join("badger.log")
}

/// Begins the log; it is not written once `off` is set, as it is when a drive is read on which it lies. One that cannot be written is
/// no reason not to work.
pub fn begin(names: bool, off: Arc<AtomicBool>) {
    *LOG.lock().unwrap_or_else(PoisonError::into_inner) = Log::Waiting { path: path(), lines: Vec::new(), off };
    let subscriber = tracing_subscriber::fmt().with_ansi(false).with_writer(|| Lines).with_max_level(tracing::Level::INFO).finish();
    if tracing::subscriber::set_global_default(subscriber).is_err() {
        return;
    }
    let before = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        // What it says may hold a name.
        let text = if names { panic.to_string() } else { String::new() };
        error!(place = panic.location().map(ToString::to_string), text, "the program broke");
        settle();
        before(panic);
    }));
    // Of the arguments only the command: the others may name files.
    let command = std::env::args().nth(1).filter(|word| word.chars().all(|c| c.is_ascii_lowercase()));
    info!(version = papers::VERSION, command, process = std::process::id(), "it starts");
}
