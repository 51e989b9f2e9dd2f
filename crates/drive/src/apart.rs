//! Whether a directory lies on a drive that is read, where a layer hides what is below: something small is written there, and the system
//! is asked whether anything was written to the drive.

use crate::medium::Medium;
use crate::standing::Since;
use rustix::fs::{AtFlags, Mode, OFlags};
use std::io::{self, Write};
use std::os::fd::AsFd;
use std::time::Duration;

/// What came of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Apart {
    /// Nothing was written to the drive.
    Yes,
    /// Each time something was written to the drive as well.
    No,
    /// The system does not tell whether anything is written to such a drive.
    Unknown,
}

/// Others may write to the drive by chance: so often it is tried.
const TURNS: usize = 3;
/// Times of files are no finer than the system's clock ticks.
const TICK: Duration = Duration::from_millis(20);

/// Writes a file of a few bytes into the directory `dir`, flushes it, and takes it away again.
///
/// # Errors
/// What the system says where nothing can be written there.
pub fn is_apart(dir: impl AsFd, drive: &dyn Medium) -> io::Result<Apart> {
    for turn in 0..TURNS {
        let before = drive.standing();
        std::thread::sleep(TICK);
        write(&dir, turn)?;
        // What a program behind a FUSE mount wrote may still wait in memory.
        drive.rests_on().into_iter().for_each(|file| _ = rustix::fs::fdatasync(file));
        match drive.standing().since(&before) {
            Since::Same => return Ok(Apart::Yes),
            Since::Written => {}
            Since::Unseen | Since::Silent => return Ok(Apart::Unknown),
        }
    }
    Ok(Apart::No)
}

fn write(dir: &impl AsFd, turn: usize) -> io::Result<()> {
    let name = format!(".badger-{}-{turn}-{}", std::process::id(), crate::witness::boot().get(..8).unwrap_or_default());
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let file = rustix::fs::openat(dir, &name, flags, Mode::RUSR | Mode::WUSR)?;
    let mut file = std::fs::File::from(file);
    let written = file.write_all(name.as_bytes()).and_then(|()| file.sync_all()).and_then(|()| Ok(rustix::fs::syncfs(&file)?));
    let removed = rustix::fs::unlinkat(dir, &name, AtFlags::empty());
    written.and(removed.map_err(Into::into))
}
