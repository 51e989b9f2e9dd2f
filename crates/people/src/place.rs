//! The destination: what it can hold, and whether it may be written to at all.

use crate::names::Holds;
use badger_drive::discover::Sysfs;
use badger_drive::ground::Ground;
use badger_drive::{Refusal, Source};
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::{Path, PathBuf};

/// Kinds of file systems by the numbers the kernel gives them, that take only part of all names.
const NARROW: [i64; 7] = [0x4d44, 0x2011_bab0, 0x7366_746e, 0x6573_5546, 0xff53_4d42, 0xfe53_4d42, 0x517b];

/// What the nearest directory that exists can hold.
pub fn holds(path: &Path) -> Holds {
    let narrow = rustix::fs::statfs(nearest(path)).is_ok_and(|info| NARROW.contains(&(info.f_type & 0xffff_ffff)));
    if narrow { Holds::Units } else { Holds::Bytes }
}

/// Bytes that are free there for this user.
pub fn free(path: &Path) -> Option<u64> {
    let info = rustix::fs::statvfs(nearest(path)).ok()?;
    Some(info.f_bavail.saturating_mul(info.f_frsize))
}

fn nearest(path: &Path) -> PathBuf {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    absolute.ancestors().find(|path| path.exists()).unwrap_or(Path::new("/")).to_path_buf()
}

/// Refuses a destination on the drive that is read: the drive itself, another partition of it, a mount of it, or a loop
/// device over it.
pub fn refuse_source(path: &Path, source: &Source, sysfs: &Sysfs) -> Result<(), Refusal> {
    refuse(&Ground::of(&nearest(path), sysfs), path, source)
}

/// The same of the directory that is open by now.
pub fn refuse_opened(dir: &OwnedFd, path: &Path, source: &Source, sysfs: &Sysfs) -> Result<(), Refusal> {
    let open = PathBuf::from(format!("/proc/self/fd/{}", dir.as_raw_fd()));
    refuse(&Ground::of(&open, sysfs), path, source)
}

fn refuse(here: &Ground, path: &Path, source: &Source) -> Result<(), Refusal> {
    // What lies below an image file is only where that file happens to be; of a drive no partition is taken.
    if source.ground().shares_device(here, false) || source.ground().touches(here) {
        let text = format!("{} lies on the drive that is read; a source is never written to: choose a place on another drive", path.display());
        return Err(Refusal::new("into-source", text));
    }
    Ok(())
}
