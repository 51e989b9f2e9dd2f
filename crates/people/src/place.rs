//! The destination: what it can hold, and whether it may be written to at all.

use crate::names::Holds;
use badger_drive::Refusal;
use badger_drive::Sysfs;
use badger_drive::ground::Ground;
use badger_fs::{Origin, Tree};
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::{Path, PathBuf};

/// Kinds of file systems by the numbers the kernel gives them, that take only part of all names.
const NARROW: [i64; 7] = [0x4d44, 0x2011_bab0, 0x7366_746e, 0x6573_5546, 0xff53_4d42, 0xfe53_4d42, 0x517b];

/// What the nearest directory that exists can hold.
pub fn holds(path: &Path) -> Holds {
    let narrow = rustix::fs::statfs(nearest(path)).is_ok_and(|info| NARROW.contains(&(info.f_type & 0xffff_ffff)));
    if narrow { Holds::Units } else { Holds::Bytes }
}

/// Bytes that are free there for this user, where the system says it: some FUSE file systems say neither how large they are nor what is free.
pub fn free(path: &Path) -> Option<u64> {
    let info = rustix::fs::statvfs(nearest(path)).ok().filter(|info| info.f_blocks > 0)?;
    Some(info.f_bavail.saturating_mul(info.f_frsize))
}

fn nearest(path: &Path) -> PathBuf {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    absolute.ancestors().find(|path| path.exists()).unwrap_or(Path::new("/")).to_path_buf()
}

/// Refuses a destination on the drive that is read: the drive itself, another partition of it, a mount of it, or a loop
/// device over it. One of which nobody knows what lies below it is tried out, unless it is `trusted`.
pub fn refuse_source(path: &Path, tree: &dyn Tree, sysfs: &Sysfs, trusted: bool) -> Result<(), Refusal> {
    refuse(&nearest(path), path, tree, sysfs, trusted)
}

/// The same of the directory that is open by now.
pub fn refuse_opened(dir: &OwnedFd, path: &Path, tree: &dyn Tree, sysfs: &Sysfs, trusted: bool) -> Result<(), Refusal> {
    let open = PathBuf::from(format!("/proc/self/fd/{}", dir.as_raw_fd()));
    refuse(&open, path, tree, sysfs, trusted)
}

fn refuse(here: &Path, path: &Path, tree: &dyn Tree, sysfs: &Sysfs, trusted: bool) -> Result<(), Refusal> {
    let text = match tree.origin() {
        Origin::Volume(_) | Origin::Files(_) => {
            let volume = tree.origin().cached().ok_or_else(|| Refusal::new("into-source", "the drive that is read cannot be told"))?;
            let (source, probed, here) = (volume.drive(), here, Ground::of(here, sysfs));
            // What lies below an image file is only where that file happens to be; of a drive no partition is taken.
            if !source.ground().shares_device(&here, false) && !source.ground().touches(&here) {
                return if trusted { Ok(()) } else { badger_drive::own::refuse_hidden(probed, &here, source) };
            }
            format!("{} lies on the drive that is read; a source is never written to: choose a place on another drive", path.display())
        }
        Origin::Folder(folder) => {
            let places = |path: &Path| match sysfs.places(path) {
                none if none.is_empty() => Err(Refusal::new("into-source", format!("where {} lies cannot be told", path.display()))),
                places => Ok(places),
            };
            // A folder that is not made yet comes below the nearest one that is there.
            let (sources, rest) = (places(folder)?, rest(path, here));
            let meets = |(device, into): &((u32, u32), PathBuf)| {
                sources.iter().any(|(there, source)| there == device && (into.starts_with(source) || source.starts_with(into.join(&rest))))
            };
            if !places(here)?.iter().any(meets) {
                return Ok(());
            }
            let source = folder.display();
            format!("{} and {source}, which is read, lie in one another; a source is never written to: choose another place", path.display())
        }
    };
    Err(Refusal::new("into-source", text))
}

/// What of a path is not there yet.
fn rest(path: &Path, here: &Path) -> PathBuf {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    absolute.strip_prefix(here).map(Path::to_path_buf).unwrap_or_default()
}
