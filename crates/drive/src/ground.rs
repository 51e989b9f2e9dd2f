//! What a drive stands on. A loop device stands on a file, the file on a partition, the partition on a disk; a mapped
//! device on others. Two paths are the same drive, or one lies on the other, where these chains meet.

use crate::discover::Sysfs;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

/// One thing that something else can stand on.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Footing {
    /// A block device by its numbers.
    Device {
        /// Major number.
        major: u32,
        /// Minor number.
        minor: u32,
    },
    /// A file by the device of its file system and its inode.
    File {
        /// Device number of the file system.
        device: u64,
        /// Inode.
        inode: u64,
    },
}

/// The chain under a drive, the drive itself first.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ground {
    /// The drive itself, then what carries it, down to whole disks.
    pub chain: Vec<Footing>,
}

/// Nobody stacks devices deeper than this; a chain that does is a loop.
const DEPTH: usize = 12;

impl Ground {
    /// Follows `path` down. What cannot be found out is left out.
    pub fn of(path: &Path, sysfs: &Sysfs) -> Self {
        let mut ground = Self::default();
        ground.follow(path, sysfs, 0);
        ground
    }

    /// The whole chain under block device `major:minor`.
    pub fn of_device(major: u32, minor: u32, sysfs: &Sysfs) -> Self {
        let mut ground = Self::default();
        ground.follow_device(major, minor, sysfs, 0);
        ground
    }

    fn add(&mut self, footing: Footing) -> bool {
        let new = !self.chain.contains(&footing);
        if new {
            self.chain.push(footing);
        }
        new
    }

    fn follow(&mut self, path: &Path, sysfs: &Sysfs, depth: usize) {
        let Ok(meta) = std::fs::metadata(path) else { return };
        if depth > DEPTH {
            return;
        }
        if meta.file_type().is_block_device() {
            let (major, minor) = numbers(meta.rdev());
            self.follow_device(major, minor, sysfs, depth + 1);
            return;
        }
        if !self.add(Footing::File { device: meta.dev(), inode: meta.ino() }) {
            return;
        }
        let (major, minor) = numbers(meta.dev());
        if major != 0 {
            self.follow_device(major, minor, sysfs, depth + 1);
        } else if let Some(device) = sysfs.device_of_mount(path) {
            // Some file systems show a number of their own instead of their device's.
            self.follow(&device, sysfs, depth + 1);
        }
    }

    fn follow_device(&mut self, major: u32, minor: u32, sysfs: &Sysfs, depth: usize) {
        if depth > DEPTH || !self.add(Footing::Device { major, minor }) {
            return;
        }
        for (major, minor) in sysfs.carriers(major, minor) {
            self.follow_device(major, minor, sysfs, depth + 1);
        }
        if let Some(file) = sysfs.loop_file(major, minor) {
            self.follow(&file, sysfs, depth + 1);
        }
    }

    /// The drive itself.
    pub fn top(&self) -> Option<&Footing> {
        self.chain.first()
    }

    /// Whether this is the same drive as `other`.
    pub fn same_as(&self, other: &Self) -> bool {
        self.top().is_some() && self.top() == other.top()
    }

    /// Whether this lies on `other`, or is it.
    pub fn rests_on(&self, other: &Self) -> bool {
        other.top().is_some_and(|top| self.chain.contains(top))
    }
}

/// Major and minor of a device number, as the C library packs them.
pub fn numbers(device: u64) -> (u32, u32) {
    (libc::major(device), libc::minor(device))
}

/// A path with symbolic links resolved, or as it was.
pub fn real(path: &Path) -> PathBuf {
    path.canonicalize().unwrap_or_else(|_| path.to_path_buf())
}
