//! Finds the drives that are attached, through what the Linux kernel publishes under `/sys` and `/proc`
//! (`Documentation/ABI` of the kernel) and what the device manager keeps under `/run/udev`.
//!
//! The root of these trees is a parameter, so that recorded trees of other machines can be read.

use crate::ground::{Footing, Ground};
use crate::identity::{Bus, Identity};
use crate::medium::Geometry;
use crate::sys;
use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};

/// Why a drive, or a part of it, is in use.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case", tag = "kind", content = "by")]
pub enum Use {
    /// Mounted at this place.
    Mounted(PathBuf),
    /// Swap space of this system.
    Swap(PathBuf),
    /// Held by a device on top of it: a mapped device, an array.
    Held(String),
}

impl std::fmt::Display for Use {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Mounted(place) => write!(f, "mounted at {}", place.display()),
            Self::Swap(device) => write!(f, "swap space {}", device.display()),
            Self::Held(name) => write!(f, "held by {name}"),
        }
    }
}

/// A drive that was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// What it says it is.
    pub identity: Identity,
    /// Its size and sectors.
    pub geometry: Geometry,
    /// Who uses it now.
    pub uses: Vec<Use>,
    /// Whether this machine runs from it.
    pub system: bool,
    /// Its device numbers; `None` for simulated drives.
    pub numbers: Option<(u32, u32)>,
}

impl Found {
    /// The stable key, see [`Identity::key`].
    pub fn key(&self) -> String {
        self.identity.key(self.geometry.size_bytes)
    }
}

/// A place where the kernel's trees are.
#[derive(Clone, Debug)]
pub struct Sysfs {
    root: PathBuf,
}

/// Places that make the disk under them this machine's own.
const SYSTEM_PLACES: [&str; 6] = ["/", "/boot", "/boot/efi", "/efi", "/usr", "/var"];

impl Default for Sysfs {
    fn default() -> Self {
        Self::at("/")
    }
}

#[derive(Debug)]
struct Mount {
    numbers: (u32, u32),
    place: PathBuf,
    device: PathBuf,
}

impl Sysfs {
    /// Reads `root/sys`, `root/proc` and `root/run/udev`.
    pub fn at(root: impl Into<PathBuf>) -> Self {
        Self { root: root.into() }
    }

    fn live(&self) -> bool {
        self.root == Path::new("/")
    }

    fn text(&self, path: &Path) -> Option<String> {
        let bytes = fs::read(path).ok()?;
        let text = String::from_utf8_lossy(&bytes).replace('\0', "");
        let text = text.trim();
        (!text.is_empty()).then(|| text.to_string())
    }

    fn number(&self, path: &Path) -> Option<u64> {
        self.text(path)?.parse().ok()
    }

    /// The directory of a block device, links resolved inside this root.
    fn device_dir(&self, major: u32, minor: u32) -> Option<PathBuf> {
        self.root.join(format!("sys/dev/block/{major}:{minor}")).canonicalize().ok()
    }

    fn numbers_of(&self, dir: &Path) -> Option<(u32, u32)> {
        let text = self.text(&dir.join("dev"))?;
        let (major, minor) = text.split_once(':')?;
        Some((major.parse().ok()?, minor.parse().ok()?))
    }

    /// The devices right under this one: the disk of a partition, the parts of a mapped device or an array.
    pub fn carriers(&self, major: u32, minor: u32) -> Vec<(u32, u32)> {
        let Some(dir) = self.device_dir(major, minor) else { return Vec::new() };
        let mut under = Vec::new();
        if dir.join("partition").exists()
            && let Some(disk) = dir.parent().and_then(|disk| self.numbers_of(disk))
        {
            under.push(disk);
        }
        for entry in fs::read_dir(dir.join("slaves")).into_iter().flatten().flatten() {
            under.extend(entry.path().canonicalize().ok().and_then(|dir| self.numbers_of(&dir)));
        }
        under
    }

    /// The file under a loop device.
    pub fn loop_file(&self, major: u32, minor: u32) -> Option<PathBuf> {
        self.text(&self.device_dir(major, minor)?.join("loop/backing_file")).map(PathBuf::from)
    }

    fn mounts(&self) -> Vec<Mount> {
        let text = fs::read_to_string(self.root.join("proc/self/mountinfo")).unwrap_or_default();
        text.lines().filter_map(mount_line).collect()
    }

    /// The device named in the mount table for the file system that holds `path`.
    pub fn device_of_mount(&self, path: &Path) -> Option<PathBuf> {
        let path = crate::ground::real(path);
        let mounts = self.mounts();
        let mount = mounts.iter().filter(|mount| path.starts_with(&mount.place)).max_by_key(|mount| mount.place.as_os_str().len())?;
        mount.device.starts_with("/dev").then(|| mount.device.clone())
    }

    fn swaps(&self) -> Vec<PathBuf> {
        let text = fs::read_to_string(self.root.join("proc/swaps")).unwrap_or_default();
        text.lines().skip(1).filter_map(|line| line.split_whitespace().next()).map(|name| PathBuf::from(unescape(name))).collect()
    }

    /// Every drive, in the order of their names. Optical drives, memory disks, mapped devices and arrays are not
    /// drives on a bench; a loop device counts where a file is under it and it is not a mounted read-only one.
    pub fn drives(&self) -> Vec<Found> {
        let (mounts, swaps) = (self.mounts(), self.swaps());
        let system = self.system_footings(&mounts, &swaps);
        let mut found: Vec<Found> = Vec::new();
        for entry in fs::read_dir(self.root.join("sys/block")).into_iter().flatten().flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if let Some(drive) = self.drive(&name, &mounts, &swaps, &system) {
                found.push(drive);
            }
        }
        found.sort_by_key(|drive| natural(&drive.identity.path));
        found
    }

    /// One drive by its path; a partition is a drive too when it is asked for by name.
    pub fn drive_at(&self, path: &Path) -> Option<Found> {
        use std::os::unix::fs::{FileTypeExt, MetadataExt};
        let meta = fs::metadata(path).ok()?;
        if !meta.file_type().is_block_device() {
            return None;
        }
        let (major, minor) = crate::ground::numbers(meta.rdev());
        let dir = self.device_dir(major, minor)?;
        let (mounts, swaps) = (self.mounts(), self.swaps());
        let system = self.system_footings(&mounts, &swaps);
        let mut found = self.describe(&dir, &mounts, &swaps, &system)?;
        found.identity.path = path.to_path_buf();
        Some(found)
    }

    fn drive(&self, name: &str, mounts: &[Mount], swaps: &[PathBuf], system: &HashSet<Footing>) -> Option<Found> {
        let skipped = ["ram", "zram", "dm-", "md", "sr", "fd"];
        if skipped.iter().any(|prefix| name.strip_prefix(prefix).is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit()))) {
            return None;
        }
        let dir = self.root.join("sys/block").join(name).canonicalize().ok()?;
        if self.number(&dir.join("hidden")) == Some(1) {
            return None;
        }
        let found = self.describe(&dir, mounts, swaps, system)?;
        let snapshot = found.identity.bus == Bus::Loop && found.identity.read_only && !found.uses.is_empty();
        (!snapshot).then_some(found)
    }

    fn describe(&self, dir: &Path, mounts: &[Mount], swaps: &[PathBuf], system: &HashSet<Footing>) -> Option<Found> {
        let name = dir.file_name()?.to_string_lossy().replace('!', "/");
        let numbers = self.numbers_of(dir)?;
        // The kernel counts in 512 bytes here whatever the drive counts in.
        let size_bytes = self.number(&dir.join("size"))?.checked_mul(512)?;
        if size_bytes == 0 {
            return None;
        }
        let disk = if dir.join("partition").exists() { dir.parent()? } else { dir };
        let queue = disk.join("queue");
        let logical_sector = self.number(&queue.join("logical_block_size")).unwrap_or(512) as u32;
        let physical_sector = self.number(&queue.join("physical_block_size")).unwrap_or(512) as u32;
        let geometry = Geometry { size_bytes, logical_sector, physical_sector: physical_sector.max(logical_sector) };
        let mut identity = self.identity(disk, &name, numbers);
        identity.rotational = self.number(&queue.join("rotational")).map(|value| value == 1);
        if identity.bus == Bus::Loop || identity.bus == Bus::Virtio {
            identity.rotational = None;
        }
        identity.removable = self.number(&disk.join("removable")) == Some(1);
        identity.read_only = self.number(&dir.join("ro")) == Some(1);
        let uses = self.uses(dir, mounts, swaps);
        // A partition beside the system's own is on the system's disk all the same.
        let own = |(major, minor)| system.contains(&Footing::Device { major, minor });
        let system = own(numbers) || self.numbers_of(disk).is_some_and(own);
        Some(Found { identity, geometry, uses, system, numbers: Some(numbers) })
    }

    fn identity(&self, dir: &Path, name: &str, numbers: (u32, u32)) -> Identity {
        let device = dir.join("device");
        let udev = self.udev(numbers);
        let real = device.canonicalize().unwrap_or_else(|_| dir.to_path_buf());
        let usb = usb_box(self, &real);
        let ata = self.ata_identity(&device, name, usb.is_some() || in_path(&real, "ata"));
        let says = |file: &str| self.text(&device.join(file));
        let mut identity = Identity { path: Path::new("/dev").join(name), ..Identity::of_file(Path::new(name)) };
        identity.bus = bus_of(name, &real, usb.is_some(), ata.as_ref());
        let vendor = says("vendor").filter(|vendor| !vendor.starts_with("0x") && vendor != "ATA");
        let shown = match (vendor, says("model").or_else(|| says("name"))) {
            (Some(vendor), Some(model)) => Some(format!("{vendor} {model}")),
            (_, model) => model,
        };
        let loop_file = self.text(&dir.join("loop/backing_file"));
        let file_name = loop_file.as_deref().and_then(|file| Path::new(file).file_name()).map(|name| name.to_string_lossy().into_owned());
        identity.model =
            shown.clone().or_else(|| udev.get("ID_MODEL").map(|model| model.replace('_', " "))).or(file_name).unwrap_or_else(|| name.to_string());
        identity.serial = says("serial")
            .or_else(|| self.text(&dir.join("serial")))
            .or_else(|| self.page_80(&device))
            .or_else(|| udev.get("ID_SERIAL_SHORT").cloned())
            .or_else(|| usb.as_ref().and_then(|usb| usb.serial.clone()))
            .unwrap_or_default();
        identity.firmware = says("firmware_rev").or_else(|| says("rev")).or_else(|| says("fwrev")).unwrap_or_default();
        if let Some(usb) = &usb {
            identity.adapter = Some(usb.name.clone().or(shown).unwrap_or_else(|| "USB box".into()));
        }
        if let Some(ata) = ata {
            identity.model = ata.model;
            if !ata.serial.is_empty() {
                identity.serial = ata.serial;
            }
            identity.firmware = ata.firmware;
        }
        if identity.adapter.as_ref() == Some(&identity.model) {
            identity.adapter = None;
        }
        identity
    }

    /// The serial of SCSI's vital product data page 0x80.
    fn page_80(&self, device: &Path) -> Option<String> {
        let page = fs::read(device.join("vpd_pg80")).ok()?;
        let text = String::from_utf8_lossy(page.get(4..)?).replace('\0', "");
        let text = text.trim();
        (!text.is_empty()).then(|| text.to_string())
    }

    /// What the ATA drive behind a SCSI translation says: from page 0x89 where the kernel has it, else by asking.
    fn ata_identity(&self, device: &Path, name: &str, ask: bool) -> Option<AtaIdentity> {
        if let Ok(page) = fs::read(device.join("vpd_pg89"))
            && let Some(words) = page.get(60..572)
        {
            return AtaIdentity::parse(words);
        }
        if !self.live() || !ask {
            return None;
        }
        let file = fs::File::open(Path::new("/dev").join(name)).ok()?;
        AtaIdentity::parse(&sys::ata_identify(&file).ok()?)
    }

    fn udev(&self, (major, minor): (u32, u32)) -> BTreeMap<String, String> {
        let text = fs::read_to_string(self.root.join(format!("run/udev/data/b{major}:{minor}"))).unwrap_or_default();
        let pairs = text.lines().filter_map(|line| line.strip_prefix("E:")?.split_once('='));
        pairs.map(|(key, value)| (key.to_string(), value.to_string())).collect()
    }

    fn uses(&self, dir: &Path, mounts: &[Mount], swaps: &[PathBuf]) -> Vec<Use> {
        let mut dirs = vec![dir.to_path_buf()];
        for entry in fs::read_dir(dir).into_iter().flatten().flatten() {
            if entry.path().join("partition").exists() {
                dirs.push(entry.path());
            }
        }
        let mut uses = Vec::new();
        for dir in dirs {
            let name = dir.file_name().map(|name| name.to_string_lossy().replace('!', "/")).unwrap_or_default();
            let node = Path::new("/dev").join(&name);
            let numbers = self.numbers_of(&dir);
            for mount in mounts {
                if Some(mount.numbers) == numbers || mount.device == node {
                    uses.push(Use::Mounted(mount.place.clone()));
                }
            }
            uses.extend(swaps.iter().filter(|swap| **swap == node).cloned().map(Use::Swap));
            for holder in fs::read_dir(dir.join("holders")).into_iter().flatten().flatten() {
                let mapped = self.text(&holder.path().join("dm/name"));
                let held = holder.file_name().to_string_lossy().into_owned();
                uses.push(Use::Held(mapped.map_or(held.clone(), |mapped| format!("{held} ({mapped})"))));
            }
        }
        uses.dedup();
        uses
    }

    /// Mounts of something that stands on this drive by a way of its own: a loop device over the same file, say.
    pub fn mounted_above(&self, ground: &Ground) -> Vec<Use> {
        // The drive itself, and the file under it where it is a loop device.
        let second = ground.chain.get(1).filter(|footing| matches!(footing, Footing::File { .. }));
        let own: Vec<&Footing> = ground.top().into_iter().chain(second).collect();
        let above = |mount: &Mount| {
            mount.numbers.0 != 0 && Ground::of_device(mount.numbers.0, mount.numbers.1, self).chain.iter().any(|footing| own.contains(&footing))
        };
        self.mounts().into_iter().filter(above).map(|mount| Use::Mounted(mount.place)).collect()
    }

    fn system_footings(&self, mounts: &[Mount], swaps: &[PathBuf]) -> HashSet<Footing> {
        let mut set = HashSet::new();
        for mount in mounts.iter().filter(|mount| SYSTEM_PLACES.iter().any(|place| mount.place == Path::new(place))) {
            let (major, minor) = mount.numbers;
            if major != 0 {
                set.extend(Ground::of_device(major, minor, self).chain);
            } else if let Some((major, minor)) = self.numbers_of_node(&mount.device) {
                set.extend(Ground::of_device(major, minor, self).chain);
            }
        }
        for swap in swaps {
            if let Some((major, minor)) = self.numbers_of_node(swap) {
                set.extend(Ground::of_device(major, minor, self).chain);
            }
        }
        set
    }

    /// The numbers of a device node by its name under `/dev`, looked up in this root.
    fn numbers_of_node(&self, node: &Path) -> Option<(u32, u32)> {
        let name = node.strip_prefix("/dev").ok()?.to_string_lossy().replace('/', "!");
        self.numbers_of(&self.root.join("sys/class/block").join(name).canonicalize().ok()?)
    }
}

/// A line of `/proc/self/mountinfo`.
fn mount_line(line: &str) -> Option<Mount> {
    let (front, back) = line.split_once(" - ")?;
    let mut front = front.split(' ').skip(2);
    let (major, minor) = front.next()?.split_once(':')?;
    let place = front.nth(1)?;
    let device = back.split(' ').nth(1)?;
    let numbers = (major.parse().ok()?, minor.parse().ok()?);
    Some(Mount { numbers, place: PathBuf::from(unescape(place)), device: PathBuf::from(unescape(device)) })
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

/// Orders `sda` before `sdaa`, `nvme2n1` before `nvme10n1`.
fn natural(path: &Path) -> (String, usize, String) {
    let text = path.to_string_lossy().into_owned();
    let stem: String = text.chars().take_while(|c| !c.is_ascii_digit()).collect();
    (stem, text.len(), text)
}

fn in_path(real: &Path, prefix: &str) -> bool {
    real.components().any(|part| {
        let part = part.as_os_str().to_string_lossy();
        part.strip_prefix(prefix).is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit()))
    })
}

fn bus_of(name: &str, real: &Path, usb: bool, ata: Option<&AtaIdentity>) -> Bus {
    match ata {
        _ if name.starts_with("loop") => Bus::Loop,
        Some(_) if usb => Bus::UsbSata,
        None if usb && name.starts_with("nvme") => Bus::UsbNvme,
        None if usb => Bus::Usb,
        _ if name.starts_with("nvme") => Bus::Nvme,
        Some(ata) if !ata.serial_ata => Bus::Ide,
        Some(_) => Bus::Sata,
        None if in_path(real, "ata") => Bus::Sata,
        _ if name.starts_with("mmc") => Bus::Mmc,
        _ if in_path(real, "virtio") || name.starts_with("vd") => Bus::Virtio,
        _ if name.starts_with("sd") => Bus::Scsi,
        _ => Bus::Other,
    }
}

struct UsbBox {
    name: Option<String>,
    serial: Option<String>,
}

/// The USB device above a block device, if any.
fn usb_box(sysfs: &Sysfs, real: &Path) -> Option<UsbBox> {
    let dir = real.ancestors().take_while(|dir| **dir != sysfs.root).find(|dir| dir.join("idVendor").exists())?;
    let name = match (sysfs.text(&dir.join("manufacturer")), sysfs.text(&dir.join("product"))) {
        (Some(maker), Some(product)) => Some(format!("{maker} {product}")),
        (maker, product) => product.or(maker),
    };
    Some(UsbBox { name, serial: sysfs.text(&dir.join("serial")) })
}

/// The parts of ATA's IDENTIFY DEVICE data (ACS-3, 7.12) that tell drives apart.
#[derive(Debug, PartialEq, Eq)]
pub struct AtaIdentity {
    /// Model, words 27 to 46.
    pub model: String,
    /// Serial, words 10 to 19.
    pub serial: String,
    /// Firmware revision, words 23 to 26.
    pub firmware: String,
    /// Whether word 76 speaks of Serial ATA.
    pub serial_ata: bool,
}

impl AtaIdentity {
    /// Reads the 512 bytes; `None` where they carry no model name.
    pub fn parse(words: &[u8]) -> Option<Self> {
        let text = |from: usize, to: usize| {
            let bytes = words.get(from * 2..(to + 1) * 2)?;
            let swapped: Vec<u8> = bytes.chunks(2).flat_map(|pair| [pair[1], pair[0]]).filter(|byte| (0x20..0x7f).contains(byte)).collect();
            Some(String::from_utf8_lossy(&swapped).trim().to_string())
        };
        let model = text(27, 46)?;
        let capability = u16::from_le_bytes([*words.get(152)?, *words.get(153)?]);
        (!model.is_empty()).then_some(())?;
        Some(Self { model, serial: text(10, 19)?, firmware: text(23, 26)?, serial_ata: capability != 0 && capability != 0xffff })
    }
}
