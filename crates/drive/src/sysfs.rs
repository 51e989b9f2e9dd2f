//! The trees in which the Linux kernel publishes devices and mounts (`Documentation/ABI` of the kernel), read one by one;
//! discovery and the ground of a drive put together what they say.

use crate::ata::AtaIdentity;
use crate::paths::real;
use crate::sys;
use std::collections::HashMap;
use std::ffi::OsString;
use std::fs::{self, File};
use std::os::unix::ffi::OsStringExt;
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
    options: Vec<u8>,
}

impl Mount {
    /// The directories an overlay is made of, the one that is written to first. The kernel shows each as whoever mounted it wrote it:
    /// relative to a directory that nobody knows any more, or with a backslash before `,`, `:` and `\`.
    pub fn overlay_dirs(&self) -> Vec<PathBuf> {
        let mut dirs = Vec::new();
        for upper in [true, false] {
            for option in self.options.split(|byte| *byte == b',') {
                let Some(at) = option.iter().position(|byte| *byte == b'=') else { continue };
                let value = unescape(&option[at + 1..]);
                match &option[..at] {
                    b"upperdir" if upper => dirs.push(path(without_backslashes(&value))),
                    b"lowerdir" if !upper => dirs.extend(layers(&value)),
                    b"lowerdir+" | b"datadir+" if !upper => dirs.push(path(value)),
                    _ => {}
                }
            }
        }
        dirs
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
        let mut name = fs::read(dir.join("loop/backing_file")).ok()?;
        name.pop_if(|last| *last == b'\n');
        let path = path(name);
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
        let bytes = fs::read(self.root.join("proc/self/mountinfo")).unwrap_or_default();
        bytes.split(|byte| *byte == b'\n').filter_map(mount_line).collect()
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
                kind => {
                    let mut dirs = if kind.starts_with("fuse") { self.held_by_fuse(mount.numbers.1).held } else { Vec::new() };
                    dirs.extend(Some(mount.device.clone()).filter(|dir| dir.is_absolute()));
                    dirs.retain(|dir| dir.is_dir());
                    dirs.into_iter().map(|dir| real(&dir)).collect()
                }
            };
            let inner = place.1.strip_prefix("/").unwrap_or(&place.1);
            waiting.extend(shown.iter().map(|dir| dir.join(inner)));
            places.push(place);
        }
        places
    }

    pub(crate) fn swaps(&self) -> Vec<PathBuf> {
        let bytes = fs::read(self.root.join("proc/swaps")).unwrap_or_default();
        let names = bytes.split(|byte| *byte == b'\n').skip(1).filter_map(|line| line.split(|byte| b" \t".contains(byte)).next());
        names.filter(|name| !name.is_empty()).map(|name| path(unescape(name))).collect()
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

/// A line of `/proc/self/mountinfo` (`Documentation/filesystems/proc.rst` of the kernel, section 3.5). Names in it are bytes.
fn mount_line(line: &[u8]) -> Option<Mount> {
    let mut words = line.split(|byte| *byte == b' ');
    let text = |word: &[u8]| std::str::from_utf8(word).ok().map(str::to_string);
    let id = text(words.next()?)?.parse().ok()?;
    let numbers = text(words.nth(1)?)?;
    let (major, minor) = numbers.split_once(':')?;
    let (within, place) = (unescape(words.next()?), unescape(words.next()?));
    // Optional fields end with a dash; a space within a name is escaped.
    words.find(|word| *word == b"-")?;
    let (kind, device) = (text(words.next()?)?, unescape(words.next()?));
    Some(Mount {
        id,
        numbers: (major.parse().ok()?, minor.parse().ok()?),
        within: path(within),
        place: path(place),
        device: path(device),
        kind,
        options: words.next().unwrap_or_default().to_vec(),
    })
}

fn path(bytes: Vec<u8>) -> PathBuf {
    PathBuf::from(OsString::from_vec(bytes))
}

/// Undoes the kernel's octal escapes for spaces and the like: a backslash and three octal digits.
fn unescape(text: &[u8]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some((&first, after)) = rest.split_first() {
        let octal =
            || after.get(..3)?.iter().try_fold(0_u8, |value, digit| value.checked_mul(8)?.checked_add(digit.checked_sub(b'0').filter(|d| *d < 8)?));
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
    bytes
}

/// Undoes the escapes of whoever mounted an overlay: a backslash before any byte.
fn without_backslashes(text: &[u8]) -> Vec<u8> {
    let (mut out, mut bytes) = (Vec::with_capacity(text.len()), text.iter());
    while let Some(&byte) = bytes.next() {
        out.push(if byte == b'\\' { bytes.next().copied().unwrap_or(byte) } else { byte });
    }
    out
}

/// The lower layers of an overlay: names with colons between them, where a colon of a name has a backslash before it.
fn layers(value: &[u8]) -> Vec<PathBuf> {
    let (mut names, mut name, mut bytes) = (Vec::new(), Vec::new(), value.iter().copied());
    loop {
        match bytes.next() {
            Some(b'\\') => name.extend(bytes.next()),
            Some(byte) if byte != b':' => name.push(byte),
            end => {
                // Two colons stand before a layer of data only.
                if !name.is_empty() {
                    names.push(path(std::mem::take(&mut name)));
                }
                if end.is_none() {
                    return names;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain(b"/mnt/a", &["/mnt/a"])]
    #[case::two(b"/mnt/a:/mnt/b", &["/mnt/a", "/mnt/b"])]
    #[case::a_comma(b"/mnt/lo\\134\\054w", &["/mnt/lo,w"])]
    #[case::a_colon(b"/mnt/l\\134:o:/b", &["/mnt/l:o", "/b"])]
    #[case::data_only(b"/a::/data", &["/a", "/data"])]
    fn layers_of_an_overlay_are_named_as_they_lie(#[case] shown: &[u8], #[case] dirs: &[&str]) {
        let line =
            [b"47 27 0:40 / /mnt/x rw,relatime shared:1 - overlay overlay rw,lowerdir=", shown, b",upperdir=/u\\134\\054p,workdir=/w"].concat();
        let mount = mount_line(&line).unwrap();
        let wanted: Vec<PathBuf> = std::iter::once(&"/u,p").chain(dirs).map(PathBuf::from).collect();
        assert_eq!(mount.overlay_dirs(), wanted);
    }

    #[test]
    fn names_that_are_no_text_are_kept() {
        let mount = mount_line(b"45 27 0:40 / /mnt/x\\040y rw - fuse /tmp/x\xffy/v.img rw,user_id=0").unwrap();
        assert_eq!((mount.place, mount.device), (PathBuf::from("/mnt/x y"), path(b"/tmp/x\xffy/v.img".to_vec())));
    }
}
