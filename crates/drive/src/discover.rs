//! Finds the drives that are attached, through what the Linux kernel publishes under `/sys` and `/proc`
//! (`Documentation/ABI` of the kernel) and what the device manager keeps under `/run/udev`.
//!
//! The root of these trees is a parameter, so that recorded trees of other machines can be read.

use crate::ata::{self, AtaIdentity};
use crate::claims::{AGAIN, TRIES};
use crate::ground::{Footing, Ground, Layer};
use crate::identity::{Bus, Identity};
use crate::medium::Geometry;
use crate::sysfs::{Mount, Sysfs};
use rustix::fs::{AtFlags, FileType, Mode, OFlags, RawDir};
use std::collections::{BTreeMap, HashSet};
use std::fs::{self, File};
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

/// Why a drive, or a part of it, is in use.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case", tag = "kind", content = "by")]
pub enum Use {
    /// Mounted at this place.
    Mounted(PathBuf),
    /// Swap space of this system.
    Swap(PathBuf),
    /// Held by a device on top of it: a mapped device, an array, a loop device.
    Held(String),
    /// Open for writing in another program.
    Written(String),
}

impl std::fmt::Display for Use {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Mounted(place) => write!(f, "mounted at {}", place.display()),
            Self::Swap(device) => write!(f, "swap space {}", device.display()),
            Self::Held(name) => write!(f, "held by {name}"),
            Self::Written(program) => write!(f, "open for writing in {program}"),
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
    /// The number the kernel gave this very medium when it appeared; no other gets it until the machine is started anew.
    pub sequence: Option<u64>,
}

impl Found {
    /// The stable key, see [`Identity::key`].
    pub fn key(&self) -> String {
        self.identity.key(self.geometry.size_bytes)
    }
}

/// Places that make the disk under them this machine's own.
const SYSTEM_PLACES: [&str; 6] = ["/", "/boot", "/boot/efi", "/efi", "/usr", "/var"];

impl Sysfs {
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
        let meta = fs::metadata(path).ok()?;
        if !meta.file_type().is_block_device() {
            return None;
        }
        let (major, minor) = crate::paths::numbers(meta.rdev());
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
        let sequence = self.number(&disk.join("diskseq"));
        let mut identity = self.identity(disk, &name, numbers, sequence);
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
        Some(Found { identity, geometry, uses, system, numbers: Some(numbers), sequence })
    }

    fn identity(&self, dir: &Path, name: &str, numbers: (u32, u32), sequence: Option<u64>) -> Identity {
        let device = dir.join("device");
        let udev = self.udev(numbers);
        let real = device.canonicalize().unwrap_or_else(|_| dir.to_path_buf());
        let usb = usb_box(self, &real);
        let ata = if usb.is_some() || in_path(&real, "ata") {
            let attached = (numbers, sequence, self.number(&dir.join("size")).unwrap_or(0));
            let known = self.asked.lock().expect("identity lock").get(&attached).cloned();
            known.unwrap_or_else(|| {
                let says = self.ata_identity(&device, dir);
                self.asked.lock().expect("identity lock").insert(attached, says.clone());
                says
            })
        } else {
            None
        };
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
    fn ata_identity(&self, device: &Path, dir: &Path) -> Option<AtaIdentity> {
        if let Ok(page) = fs::read(device.join("vpd_pg89"))
            && let Some(words) = page.get(60..572)
        {
            return AtaIdentity::parse(words);
        }
        if !self.live() {
            return None;
        }
        let name = dir.file_name()?.to_string_lossy().replace('!', "/");
        let file = File::open(Path::new("/dev").join(name)).ok()?;
        AtaIdentity::parse(&ata::identify(&file).ok()?)
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

    /// Everything that stands on these very bytes by a way of its own: mounts, loop devices, swap space.
    pub fn users(&self, ground: &Ground) -> Vec<Use> {
        let mut uses = Vec::new();
        let mut add = |above: &Ground, used: Use| {
            if above.rests_on(ground) && !uses.contains(&used) {
                uses.push(used);
            }
        };
        for mount in self.mounts() {
            let above = match mount.numbers {
                (0, _) if mount.device.is_absolute() => Ground::of(&mount.device, self),
                (0, _) => continue,
                (major, minor) => Ground::of_device(major, minor, self),
            };
            add(&above, Use::Mounted(mount.place));
        }
        for entry in fs::read_dir(self.root.join("sys/block")).into_iter().flatten().flatten() {
            // Most loop devices are free.
            let Some((major, minor)) = self.numbers_of(&entry.path()).filter(|_| entry.path().join("loop").exists()) else { continue };
            let own = |layer: &Layer| layer.exact && layer.footing == Footing::Device { major, minor };
            if self.loop_backing((major, minor)).is_some() && !ground.layers.iter().any(own) {
                add(&Ground::of_device(major, minor, self), Use::Held(entry.file_name().to_string_lossy().into_owned()));
            }
        }
        for swap in self.swaps() {
            add(&self.ground_of_swap(&swap), Use::Swap(swap.clone()));
        }
        uses
    }

    fn ground_of_swap(&self, swap: &Path) -> Ground {
        match self.numbers_of_node(swap) {
            Some((major, minor)) => Ground::of_device(major, minor, self),
            None => Ground::of(swap, self),
        }
    }

    /// Whether [`Sysfs::writers`] sees the programs of every user: only root does.
    pub fn sees_all_writers(&self) -> bool {
        !self.live() || rustix::process::geteuid().is_root()
    }

    /// Other programs that have something open for writing that lies on these very bytes, as far as this user may look.
    pub fn writers(&self, ground: &Ground) -> Vec<Use> {
        if !self.live() {
            return Vec::new();
        }
        // A program that this one is just starting shares what is open here until it runs; it is looked at once more.
        for _ in 0..TRIES {
            let (uses, only_starting) = self.writers_now(ground);
            if !only_starting {
                return uses;
            }
            std::thread::sleep(AGAIN);
        }
        self.writers_now(ground).0
    }

    /// The same at this moment, and whether all of them are children of this program.
    fn writers_now(&self, ground: &Ground) -> (Vec<Use>, bool) {
        let inodes: HashSet<u64> = ground.layers.iter().filter(|layer| layer.exact).filter_map(|layer| layer.footing.inode()).collect();
        let (mut uses, mut strangers, own) = (Vec::new(), false, std::process::id());
        let mut names = Vec::with_capacity(32 << 10);
        for process in fs::read_dir("/proc").into_iter().flatten().flatten() {
            let Some(id) = process.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else { continue };
            if id == own {
                continue;
            }
            // Each is asked for from its own directory: a way from the root takes three times as long, and there are thousands.
            let fds = process.path().join("fd");
            let Ok(open) = rustix::fs::open(&fds, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty()) else { continue };
            let mut entries = RawDir::new(&open, names.spare_capacity_mut());
            while let Some(Ok(entry)) = entries.next() {
                let Ok(stat) = rustix::fs::statat(&open, entry.file_name(), AtFlags::empty()) else { continue };
                let candidate = FileType::from_raw_mode(stat.st_mode) == FileType::BlockDevice || inodes.contains(&stat.st_ino);
                let Some(name) = entry.file_name().to_str().ok().filter(|_| candidate) else { continue };
                let info = || fs::read_to_string(process.path().join("fdinfo").join(name)).unwrap_or_default();
                if is_for_writing(&info()) && Ground::of(&fds.join(name), self).rests_on(ground) {
                    let name = self.text(&process.path().join("comm")).unwrap_or_default();
                    let used = Use::Written(format!("{name} (process {id})"));
                    strangers |= !is_own_child(&process.path());
                    if !uses.contains(&used) {
                        uses.push(used);
                    }
                }
            }
        }
        let only_starting = !uses.is_empty() && !strangers;
        (uses, only_starting)
    }

    /// Whether something of this machine's own system lies on these very bytes.
    pub fn is_system(&self, ground: &Ground) -> bool {
        let system = self.system_footings(&self.mounts(), &self.swaps());
        ground.layers.iter().any(|layer| layer.exact && system.contains(&layer.footing))
    }

    /// The block devices under this machine's own system.
    fn system_footings(&self, mounts: &[Mount], swaps: &[PathBuf]) -> HashSet<Footing> {
        let mut set = HashSet::new();
        let mut add = |ground: Ground| {
            set.extend(ground.layers.into_iter().map(|layer| layer.footing).filter(|footing| footing.inode().is_none()));
        };
        for mount in mounts.iter().filter(|mount| SYSTEM_PLACES.iter().any(|place| mount.place == Path::new(place))) {
            let (major, minor) = mount.numbers;
            if major != 0 {
                add(Ground::of_device(major, minor, self));
            } else if let Some((major, minor)) = self.numbers_of_node(&mount.device) {
                add(Ground::of_device(major, minor, self));
                self.btrfs_members(&mount.device).into_iter().for_each(|(major, minor)| add(Ground::of_device(major, minor, self)));
            }
        }
        swaps.iter().for_each(|swap| add(self.ground_of_swap(swap)));
        set
    }
}

/// Whether a process was started by this one.
fn is_own_child(process: &Path) -> bool {
    let stat = fs::read_to_string(process.join("stat")).unwrap_or_default();
    // The name in front may hold anything; the parent is the second word behind it.
    let parent = stat.rsplit_once(')').and_then(|(_, rest)| rest.split_whitespace().nth(1)?.parse::<u32>().ok());
    parent == Some(std::process::id())
}

/// Whether the text of an `fdinfo` says that the file is open for writing.
fn is_for_writing(info: &str) -> bool {
    let flags = info.lines().find_map(|line| line.strip_prefix("flags:")).and_then(|flags| u32::from_str_radix(flags.trim(), 8).ok());
    flags.is_some_and(|flags| flags as i32 & libc::O_ACCMODE != libc::O_RDONLY)
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
