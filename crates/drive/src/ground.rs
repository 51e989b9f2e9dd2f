//! What a drive stands on, down to devices and inodes and *which bytes of them*. A loop device stands on a stretch of a
//! file, the file somewhere on a partition, the partition on a stretch of a disk, a mapped device somewhere on others.
//! Two paths touch the same storage where their trees share bytes.

use crate::medium::Medium;
use crate::paths::{numbers, real};
use crate::sysfs::{Backing, Sysfs};
use std::fs::File;
use std::ops::Range;
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::Path;

/// One thing that something else can stand on.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
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

impl Footing {
    /// The inode of a file.
    pub fn inode(&self) -> Option<u64> {
        match self {
            Self::File { inode, .. } => Some(*inode),
            Self::Device { .. } => None,
        }
    }
}

/// A part of a footing under a drive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layer {
    /// Of what.
    pub footing: Footing,
    /// Which bytes of it.
    pub range: Range<u64>,
    /// Whether the drive is just these bytes. Else it lies somewhere among them, as a file does on its device.
    pub exact: bool,
    /// Whether a program that serves the drive holds this open: the drive may be just these bytes.
    pub served: bool,
}

/// How the storage of a source and a target meet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Meeting {
    /// One and the same.
    Same,
    /// The target is, or lies on, a part of the source.
    TargetOnSource,
    /// The source is, or lies on, a part of the target.
    SourceOnTarget,
    /// Some bytes belong to both.
    Shared,
}

/// Everything under a drive, the drive itself first.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ground {
    /// The parts it stands on, from the drive itself down to whole disks.
    pub layers: Vec<Layer>,
    /// Layers of which the system does not tell exactly what lies below, in words.
    pub veils: Vec<String>,
    /// Those of them of which the system tells nothing at all: they may lie on any storage.
    pub hidden: Vec<String>,
}

/// Nobody stacks devices deeper than this; a chain that does is a loop.
const DEPTH: usize = 16;
/// Where the end of something is not known.
const EVERYTHING: Range<u64> = 0..u64::MAX;

fn meet(a: &Range<u64>, b: &Range<u64>) -> bool {
    a.start < b.end && b.start < a.end
}

impl Ground {
    /// Follows `path` down. What cannot be found out becomes a veil.
    pub fn of(path: &Path, sysfs: &Sysfs) -> Self {
        let mut ground = Self::default();
        ground.follow(path, sysfs, EVERYTHING, true, 0);
        ground
    }

    /// The same for something that is open: what its name leads to now does not matter.
    pub fn of_open(file: &File, sysfs: &Sysfs) -> Self {
        Self::of(Path::new(&format!("/proc/self/fd/{}", file.as_raw_fd())), sysfs)
    }

    /// What a file that is not there yet will stand on in the directory `dir`.
    pub fn of_new_file(dir: &Path, sysfs: &Sysfs) -> Self {
        let mut ground = Self::of(dir, sysfs);
        ground.layers.iter_mut().for_each(|layer| layer.exact = false);
        ground
    }

    /// Everything under block device `major:minor`.
    pub fn of_device(major: u32, minor: u32, sysfs: &Sysfs) -> Self {
        let mut ground = Self::default();
        ground.follow_device((major, minor), sysfs, EVERYTHING, true, 0);
        ground
    }

    fn add(&mut self, footing: Footing, range: Range<u64>, exact: bool) -> bool {
        let layer = Layer { footing, range, exact, served: false };
        let new = !self.layers.contains(&layer);
        if new {
            self.layers.push(layer);
        }
        new
    }

    /// The same, resting on something more of which nothing is known.
    #[must_use]
    pub fn veiled(mut self, what: Option<String>) -> Self {
        what.into_iter().for_each(|what| self.hide(what));
        self
    }

    /// Everything under an open drive: the files that it rests on, and what a program of this machine holds open that serves it.
    pub fn of_medium(medium: &dyn Medium, sysfs: &Sysfs) -> Self {
        let files = medium.rests_on().into_iter().map(|file| Self::of_open(file, sysfs));
        let mut ground = files.reduce(Self::and).unwrap_or_default().veiled(medium.veil());
        for path in medium.peer().iter().flat_map(|socket| sysfs.held_by_peer(socket)) {
            // Where a server works, and what directories it looks into, is no storage of the drive.
            if std::fs::metadata(&path).is_ok_and(|meta| !meta.is_dir()) {
                let mut held = Self::of(&path, sysfs);
                held.layers.iter_mut().for_each(|layer| (layer.served, layer.exact) = (layer.exact, false));
                ground = ground.and(held);
            }
        }
        ground
    }

    /// Notes a layer that may lie on any storage.
    fn hide(&mut self, what: impl Into<String>) {
        let what = what.into();
        if !self.hidden.contains(&what) {
            self.hidden.push(what.clone());
        }
        self.veil(what);
    }

    fn veil(&mut self, what: impl Into<String>) {
        let what = what.into();
        if !self.veils.contains(&what) {
            self.veils.push(what);
        }
    }

    fn follow(&mut self, path: &Path, sysfs: &Sysfs, range: Range<u64>, exact: bool, depth: usize) {
        let Ok(meta) = std::fs::metadata(path) else {
            self.hide(format!("{} is not to be seen", path.display()));
            return;
        };
        if depth > DEPTH {
            self.hide(format!("{} lies on too many layers", path.display()));
            return;
        }
        if meta.file_type().is_block_device() {
            self.follow_device(numbers(meta.rdev()), sysfs, range, exact, depth + 1);
            return;
        }
        let range = if meta.is_file() { range.start..range.end.min(meta.len().max(range.start)) } else { range };
        if !self.add(Footing::File { device: meta.dev(), inode: meta.ino() }, range.clone(), exact) {
            return;
        }
        self.follow_mount(path, numbers(meta.dev()), sysfs, range, exact, depth + 1);
    }

    /// What lies under the file system that holds `path`.
    fn follow_mount(&mut self, path: &Path, (major, minor): (u32, u32), sysfs: &Sysfs, range: Range<u64>, exact: bool, depth: usize) {
        let mount = sysfs.mount_of(path);
        let kind = mount.as_ref().map_or(String::new(), |mount| mount.kind.clone());
        if kind == "overlay" {
            // The same file under another number: the bytes are those of one of the layers.
            let mount = mount.as_ref().expect("it has a kind");
            let real = real(path);
            let inside = real.strip_prefix(&mount.place).unwrap_or(Path::new(""));
            let dirs = mount.overlay_dirs();
            for dir in &dirs {
                let below = dir.join(inside);
                if !dir.is_absolute() || std::fs::symlink_metadata(dir).is_err() {
                    self.hide(format!("layer {} of the overlay at {}", dir.display(), mount.place.display()));
                } else if std::fs::symlink_metadata(&below).is_ok() {
                    self.follow(&below, sysfs, range.clone(), exact, depth + 1);
                } else {
                    self.follow(dir, sysfs, EVERYTHING, false, depth + 1);
                }
            }
            if dirs.is_empty() {
                self.hide(format!("an overlay at {}", mount.place.display()));
            }
            return;
        }
        if major != 0 {
            self.follow_device((major, minor), sysfs, EVERYTHING, false, depth + 1);
            return;
        }
        let Some(mount) = mount else {
            self.hide(format!("what {} is mounted from", path.display()));
            return;
        };
        // Some file systems show a number of their own instead of their device's.
        if mount.device.is_absolute() && mount.device.exists() {
            self.follow(&mount.device, sysfs, EVERYTHING, false, depth + 1);
            sysfs.btrfs_members(&mount.device).into_iter().for_each(|numbers| self.follow_device(numbers, sysfs, EVERYTHING, false, depth + 1));
        }
        let shown = format!("{kind} at {}", mount.place.display());
        match kind.as_str() {
            "tmpfs" | "ramfs" | "devtmpfs" | "hugetlbfs" | "proc" | "sysfs" | "rootfs" | "btrfs" => {}
            // Whoever mounts by FUSE says what it is mounted from as it likes; what its program holds open is certain.
            _ if kind == "fuse" || kind.starts_with("fuse.") => {
                let served = sysfs.held_by_fuse(minor);
                served.held.iter().for_each(|path| self.follow(path, sysfs, EVERYTHING, false, depth + 1));
                if served.is_all { self.veil(shown) } else { self.hide(shown) }
            }
            _ => self.hide(shown),
        }
    }

    fn follow_device(&mut self, numbers: (u32, u32), sysfs: &Sysfs, range: Range<u64>, exact: bool, depth: usize) {
        let size = sysfs.device_size(numbers).unwrap_or(u64::MAX);
        let range = range.start..range.end.min(size);
        let (major, minor) = numbers;
        if depth > DEPTH || !self.add(Footing::Device { major, minor }, range.clone(), exact) {
            return;
        }
        if let Some((disk, start)) = sysfs.partition_of(numbers) {
            let range = range.start.saturating_add(start)..range.end.saturating_add(start);
            self.follow_device(disk, sysfs, range, exact, depth + 1);
        }
        let slaves = sysfs.slaves(numbers);
        if !slaves.is_empty() {
            self.veil("a mapped device or an array");
        }
        for slave in slaves {
            self.follow_device(slave, sysfs, EVERYTHING, false, depth + 1);
        }
        if let Some(backing) = sysfs.loop_backing(numbers) {
            let end = range.end.saturating_add(backing.offset);
            self.follow_backing(&backing, sysfs, range.start.saturating_add(backing.offset)..end, exact, depth + 1);
        } else if sysfs.is_remote(numbers) {
            self.hide("a drive over the network");
        }
    }

    fn follow_backing(&mut self, backing: &Backing, sysfs: &Sysfs, range: Range<u64>, exact: bool, depth: usize) {
        let there = std::fs::metadata(&backing.path).ok();
        let same = there.as_ref().is_some_and(|meta| backing.node.is_none_or(|node| node == (meta.dev(), meta.ino())));
        if same {
            self.follow(&backing.path, sysfs, range, exact, depth);
        } else if let Some((device, inode)) = backing.node {
            // Unlinked, replaced or out of sight: its numbers are known all the same.
            self.add(Footing::File { device, inode }, range, exact);
            let (major, minor) = numbers(device);
            if major != 0 {
                self.follow_device((major, minor), sysfs, EVERYTHING, false, depth);
            } else {
                self.hide(format!("what {} lies on", backing.path.display()));
            }
        } else {
            self.hide(format!("{} is not to be seen", backing.path.display()));
        }
    }

    /// What this and another one stand on, as the ground of a drive that rests on both.
    #[must_use]
    pub fn and(mut self, other: Self) -> Self {
        for layer in other.layers {
            if !self.layers.contains(&layer) {
                self.layers.push(layer);
            }
        }
        other.hidden.into_iter().for_each(|what| self.hide(what));
        other.veils.into_iter().for_each(|what| self.veil(what));
        self
    }

    /// The drive itself.
    pub fn top(&self) -> Option<&Layer> {
        self.layers.first()
    }

    /// Pairs of layers of one footing whose bytes meet.
    fn meetings<'a>(&'a self, other: &'a Self) -> impl Iterator<Item = (&'a Layer, &'a Layer)> {
        self.layers
            .iter()
            .flat_map(move |a| other.layers.iter().filter(move |b| a.footing == b.footing && meet(&a.range, &b.range)).map(move |b| (a, b)))
    }

    /// Whether writing to the bytes of `other` would change what lies here, or the other way round.
    pub fn touches(&self, other: &Self) -> bool {
        // One server may hold many drives: two that it serves need not be one.
        self.meetings(other).any(|(a, b)| a.exact || b.exact || a.served != b.served)
    }

    /// Whether something of this lies on just those bytes that are `other`.
    pub fn rests_on(&self, other: &Self) -> bool {
        self.meetings(other).any(|(_, b)| b.exact)
    }

    /// How this, a source, and a target meet; `None` where they share nothing that is known.
    pub fn meets(&self, target: &Self) -> Option<Meeting> {
        if !self.touches(target) {
            return None;
        }
        let has = |ground: &Self, layer: Option<&Layer>| {
            layer.is_some_and(|top| ground.layers.iter().any(|layer| layer.footing == top.footing && meet(&layer.range, &top.range)))
        };
        Some(match (has(target, self.top()), has(self, target.top())) {
            (true, true) => Meeting::Same,
            (true, false) => Meeting::TargetOnSource,
            (false, true) => Meeting::SourceOnTarget,
            (false, false) => Meeting::Shared,
        })
    }

    /// Whether any block device is under both, whichever parts of it. What carries a file only counts where `files` is set.
    pub fn shares_device(&self, other: &Self, files: bool) -> bool {
        let device = |layer: &&Layer| matches!(layer.footing, Footing::Device { .. });
        let mine = self.layers.iter().take_while(|layer| files || device(layer)).filter(device);
        mine.into_iter().any(|a| other.layers.iter().any(|b| a.footing == b.footing))
    }
}
