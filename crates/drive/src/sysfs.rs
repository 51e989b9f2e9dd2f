//! The trees in which the Linux kernel publishes devices and mounts (`Documentation/ABI` of the kernel), read one by one;
//! discovery and the ground of a drive put together what they say.

use crate::ata::AtaIdentity;
use crate::paths::real;
use crate::sys;
use std::collections::HashMap;
use std::fs::{self, File};
use std::path::{Component, Path, PathBuf};
use std::sync::{Arc, Mutex};

/// A place where the kernel's trees are.
#[derive(Clone, Debug)]
pub struct Sysfs {
    pub(crate) root: PathBuf,
    /// What drives behind bridges said of themselves, so that each is asked once for every time it is attached.
    pub(crate) asked: Arc<Mutex<HashMap<Attached, Option<AtaIdentity>>>>,
}

/// One attachment of one medium: numbers, sequence, size.
pub(crate) type Attached = ((u32, u32), Option<u64>, u64);

/// Folders that show folders are not followed further than this.
const MOST_PLACES: usize = 64;

impl Default for Sysfs {
    fn default() -> Self {
        Self::at("/")
    }
}

/// A line of the mount table.
#[derive(Debug)]
pub(crate) struct Mount {
    id: u64,
    pub numbers: (u32, u32),
    /// What of its file system is mounted there.
    within: PathBuf,
    /// Where it is mounted.
    pub place: PathBuf,
    /// From what, as whoever mounted it said.
    pub device: PathBuf,
    /// The file system's name.
    pub kind: String,
    options: String,
}

impl Mount {
    /// The directories an overlay is made of, the one that is written to first.
    pub fn overlay_dirs(&self) -> Vec<PathBuf> {
        let value = |name: &str| self.options.split(',').find_map(|option| option.strip_prefix(name)?.strip_prefix('='));
        let lower = value("lowerdir").into_iter().flat_map(|dirs| dirs.split(':')).filter(|dir| !dir.is_empty());
        value("upperdir").into_iter().chain(lower).map(|dir| PathBuf::from(unescape(dir))).collect()
    }
}

/// The file or device under a loop device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Backing {
    /// Its path when it was attached.
    pub path: PathBuf,
    /// Device and inode, where the kernel tells them.
    pub node: Option<(u64, u64)>,
    /// Where the loop device begins in it, in bytes.
    pub offset: u64,
}

impl Sysfs {
    /// Reads `root/sys`, `root/proc` and `root/run/udev`.
    pub fn at(root: impl Into<PathBuf>) -> Self {
        Self { root: root.into(), asked: Arc::default() }
    }

    pub(crate) fn live(&self) -> bool {
        self.root == Path::new("/")
    }

    pub(crate) fn text(&self, path: &Path) -> Option<String> {
        let bytes = fs::read(path).ok()?;
        let text = String::from_utf8_lossy(&bytes).replace('\0', "");
        let text = text.trim();
        (!text.is_empty()).then(|| text.to_string())
    }

    pub(crate) fn number(&self, path: &Path) -> Option<u64> {
        self.text(path)?.parse().ok()
    }

    /// The directory of a block device, links resolved inside this root.
    pub(crate) fn device_dir(&self, major: u32, minor: u32) -> Option<PathBuf> {
        let mut dir = self.root.join("sys/dev/block");
        let link = dir.join(format!("{major}:{minor}"));
        // On the way from one directory of the kernel's to the other are no further links: each step of it is asked of nobody.
        let Some(way) = fs::read_link(&link).ok().filter(|way| way.is_relative()) else { return link.canonicalize().ok() };
        for step in way.components() {
            match step {
                Component::Normal(name) => dir.push(name),
                Component::ParentDir => _ = dir.pop(),
                _ => {}
            }
        }
        dir.exists().then_some(dir)
    }

    pub(crate) fn numbers_of(&self, dir: &Path) -> Option<(u32, u32)> {
        let text = self.text(&dir.join("dev"))?;
        let (major, minor) = text.split_once(':')?;
        Some((major.parse().ok()?, minor.parse().ok()?))
    }

    /// The disk of a partition, and where on it the partition begins, in bytes.
    pub(crate) fn partition_of(&self, (major, minor): (u32, u32)) -> Option<((u32, u32), u64)> {
        let dir = self.device_dir(major, minor)?;
        dir.join("partition").exists().then_some(())?;
        let start = self.number(&dir.join("start")).unwrap_or(0).saturating_mul(512);
        Some((self.numbers_of(dir.parent()?)?, start))
    }

    /// The parts of a mapped device or an array.
    pub(crate) fn slaves(&self, (major, minor): (u32, u32)) -> Vec<(u32, u32)> {
        let Some(dir) = self.device_dir(major, minor) else { return Vec::new() };
        let entries = fs::read_dir(dir.join("slaves")).into_iter().flatten().flatten();
        entries.filter_map(|entry| self.numbers_of(&entry.path().canonicalize().ok()?)).collect()
    }

    /// Bytes of a block device.
    pub(crate) fn device_size(&self, (major, minor): (u32, u32)) -> Option<u64> {
        // The kernel counts in 512 bytes here whatever the drive counts in.
        self.number(&self.device_dir(major, minor)?.join("size"))?.checked_mul(512).filter(|size| *size > 0)
    }

    /// What is under a loop device, and from where on.
    pub(crate) fn loop_backing(&self, (major, minor): (u32, u32)) -> Option<Backing> {
        let dir = self.device_dir(major, minor)?;
        let path = PathBuf::from(self.text(&dir.join("loop/backing_file"))?);
        let offset = self.number(&dir.join("loop/offset")).unwrap_or(0);
        // The device itself tells which inode it holds, whatever has its name now.
        let node = || sys::loop_node(&File::open(Path::new("/dev").join(dir.file_name()?)).ok()?).ok();
        Some(Backing { path, node: if self.live() { node() } else { None }, offset })
    }

    /// Whether a device is one that another machine serves.
    pub(crate) fn is_remote(&self, (major, minor): (u32, u32)) -> bool {
        let name = self.device_dir(major, minor).and_then(|dir| Some(dir.file_name()?.to_string_lossy().into_owned()));
        name.is_some_and(|name| ["nbd", "rbd", "drbd", "etherd"].iter().any(|prefix| name.starts_with(prefix)))
    }

    /// The devices of a btrfs file system that one of them belongs to.
    pub(crate) fn btrfs_members(&self, device: &Path) -> Vec<(u32, u32)> {
        let name = real(device).file_name().map(std::ffi::OsStr::to_os_string).unwrap_or_default();
        for pool in fs::read_dir(self.root.join("sys/fs/btrfs")).into_iter().flatten().flatten() {
            let devices = pool.path().join("devices");
            if devices.join(&name).exists() {
                let each = fs::read_dir(devices).into_iter().flatten().flatten();
                return each.filter_map(|entry| self.numbers_of(&entry.path().canonicalize().ok()?)).collect();
            }
        }
        Vec::new()
    }

    pub(crate) fn mounts(&self) -> Vec<Mount> {
        let text = fs::read_to_string(self.root.join("proc/self/mountinfo")).unwrap_or_default();
        text.lines().filter_map(mount_line).collect()
    }

    /// The mount that holds `path`.
    pub(crate) fn mount_of(&self, path: &Path) -> Option<Mount> {
        let mut mounts = self.mounts();
        if self.live()
            && let Ok(stat) = rustix::fs::statx(rustix::fs::CWD, path, rustix::fs::AtFlags::empty(), rustix::fs::StatxFlags::MNT_ID)
            && let Some(at) = mounts.iter().position(|mount| mount.id == stat.stx_mnt_id)
        {
            return Some(mounts.swap_remove(at));
        }
        let path = real(path);
        mounts.into_iter().filter(|mount| path.starts_with(&mount.place)).max_by_key(|mount| mount.place.as_os_str().len())
    }

    /// Where something is within its file system, however it is reached, and within those that an overlay or a mounted folder
    /// shows: the numbers of each file system, and a path in it. Empty where that cannot be told.
    pub fn places(&self, path: &Path) -> Vec<((u32, u32), PathBuf)> {
        let (mut places, mut waiting) = (Vec::new(), vec![path.to_path_buf()]);
        while let Some(path) = waiting.pop() {
            let Some(mount) = self.mount_of(&path) else { continue };
            let path = real(&path);
            let Ok(rest) = path.strip_prefix(&mount.place) else { continue };
            let place = (mount.numbers, mount.within.join(rest));
            if places.contains(&place) || places.len() == MOST_PLACES {
                continue;
            }
            let shown = match mount.kind.as_str() {
                "overlay" => mount.overlay_dirs(),
                _ if mount.device.is_absolute() && mount.device.is_dir() => vec![mount.device.clone()],
                _ => Vec::new(),
            };
            let inner = place.1.strip_prefix("/").unwrap_or(&place.1);
            waiting.extend(shown.iter().map(|dir| dir.join(inner)));
            places.push(place);
        }
        places
    }

    pub(crate) fn swaps(&self) -> Vec<PathBuf> {
        let text = fs::read_to_string(self.root.join("proc/swaps")).unwrap_or_default();
        text.lines().skip(1).filter_map(|line| line.split_whitespace().next()).map(|name| PathBuf::from(unescape(name))).collect()
    }

    /// Lets one drive be asked again who it is.
    pub fn ask_again(&self, numbers: (u32, u32)) {
        self.asked.lock().expect("identity lock").retain(|(known, ..), _| *known != numbers);
    }

    /// The numbers of a device node by its name under `/dev`, looked up in this root.
    pub(crate) fn numbers_of_node(&self, node: &Path) -> Option<(u32, u32)> {
        let name = node.strip_prefix("/dev").ok()?.to_string_lossy().replace('/', "!");
        self.numbers_of(&self.root.join("sys/class/block").join(name).canonicalize().ok()?)
    }
}

/// A line of `/proc/self/mountinfo`.
fn mount_line(line: &str) -> Option<Mount> {
    let (front, back) = line.split_once(" - ")?;
    let mut front = front.split(' ');
    let id = front.next()?.parse().ok()?;
    let (major, minor) = front.nth(1)?.split_once(':')?;
    let (within, place) = (front.next()?, front.next()?);
    let mut back = back.split(' ');
    let (kind, device) = (back.next()?, back.next()?);
    let numbers = (major.parse().ok()?, minor.parse().ok()?);
    let options = back.next().unwrap_or_default().to_string();
    Some(Mount {
        id,
        numbers,
        within: unescape(within).into(),
        place: unescape(place).into(),
        device: unescape(device).into(),
        kind: kind.into(),
        options,
    })
}

/// Undoes the kernel's octal escapes for spaces and the like.
fn unescape(text: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = text.as_bytes();
    while let Some((&first, after)) = rest.split_first() {
        let octal = || -> Option<u8> {
            let digits = after.get(..3)?;
            u8::from_str_radix(std::str::from_utf8(digits).ok()?, 8).ok()
        };
        match (first, octal()) {
            (b'\\', Some(byte)) => {
                bytes.push(byte);
                rest = &after[3..];
            }
            _ => {
                bytes.push(first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}
