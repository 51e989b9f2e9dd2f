//! Who reads and who writes which bytes, told between all runs on this machine, whatever way they reach them.
//!
//! A claim is a range lock on a file that stands for a device or an inode. Any number may read the same bytes; who
//! writes is alone with them. The claim ends with the process, however it ends.

use crate::ground::{Footing, Ground};
use crate::sys;
use std::fs::{self, File, OpenOptions, Permissions};
use std::io;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::PathBuf;
use std::time::Duration;

/// A claim is tried so many times, and so long after the last time: a program that is just being started by another
/// thread holds what this one has open for a moment.
pub(crate) const TRIES: u32 = 20;
pub(crate) const AGAIN: Duration = Duration::from_millis(25);

/// A claim that holds as long as it lives.
#[derive(Debug)]
pub struct Claim(#[expect(dead_code, reason = "held, not read")] Vec<File>);

/// Where the files for the locks are: one place for every user of the machine.
fn room() -> io::Result<PathBuf> {
    let mut last = io::Error::from(io::ErrorKind::NotFound);
    for base in ["/run/lock", "/tmp"] {
        let dir = PathBuf::from(base).join("zealous-badger-claims");
        match fs::create_dir(&dir) {
            Ok(()) => fs::set_permissions(&dir, Permissions::from_mode(0o1777))?,
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(error) => {
                last = error;
                continue;
            }
        }
        if fs::symlink_metadata(&dir)?.is_dir() {
            return Ok(dir);
        }
    }
    Err(last)
}

fn lock_file(footing: &Footing) -> io::Result<File> {
    let name = match footing {
        Footing::Device { major, minor } => format!("device-{major}-{minor}"),
        Footing::File { device, inode } => format!("file-{device}-{inode}"),
    };
    let path = room()?.join(name);
    let mut options = OpenOptions::new();
    options.read(true).write(true).custom_flags(libc::O_NOFOLLOW | libc::O_CLOEXEC);
    // Creating is tried last: in a directory for everybody some systems refuse it for files of others.
    match options.open(&path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let file = options.create(true).truncate(false).open(&path)?;
            file.set_permissions(Permissions::from_mode(0o666))?;
            Ok(file)
        }
        other => other,
    }
}

impl Claim {
    /// Claims the very bytes of `ground`, for writing where `alone` is set. `None` where somebody's claim does not go
    /// with this one.
    ///
    /// # Errors
    /// What the system says where no claim can be kept at all.
    pub fn take(ground: &Ground, alone: bool) -> io::Result<Option<Self>> {
        let mut files = Vec::new();
        for layer in ground.layers.iter().filter(|layer| layer.exact) {
            let file = lock_file(&layer.footing)?;
            let mut tries = 0;
            while !sys::lock_range(&file, layer.range.clone(), alone)? {
                tries += 1;
                if tries == TRIES {
                    return Ok(None);
                }
                std::thread::sleep(AGAIN);
            }
            files.push(file);
        }
        Ok(Some(Self(files)))
    }
}
