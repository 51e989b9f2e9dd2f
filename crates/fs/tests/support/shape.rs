//! Volumes as machines have them, made out of a seed by the system's own tools and aged by the system's own drivers, and
//! what those tools and drivers say of a volume.

use super::{MIB, noise};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{ErrorKind, Read, Write};
use std::os::unix::fs::{FileExt, MetadataExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::Duration;
use tempfile::TempDir;

/// What the environment asks for, or what the test command takes.
pub fn asked(name: &str, default: u64) -> u64 {
    std::env::var(name).ok().and_then(|value| value.parse().ok()).unwrap_or(default)
}

pub struct Random(u64);

impl Random {
    pub fn new(seed: u64) -> Self {
        let mut random = Self(seed.wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
        (0..8).for_each(|_| random.0 ^= random.below(u64::MAX) << 3 | 1);
        random
    }
    pub fn below(&mut self, limit: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) % limit.max(1)
    }
    pub fn one<T: Clone>(&mut self, of: &[T]) -> T {
        of[self.below(of.len() as u64) as usize].clone()
    }
    pub fn chance(&mut self, percent: u64) -> bool {
        self.below(100) < percent
    }
    /// A length between 0 and `most`, small ones as often as large ones.
    fn length(&mut self, most: u64) -> usize {
        let bits = self.below(u64::from(most.max(2).ilog2()) + 1);
        self.below((2 << bits).min(most + 1)) as usize
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Family {
    Fat,
    ExFat,
    Ext,
    Ntfs,
}

pub const FAMILIES: [Family; 4] = [Family::Fat, Family::ExFat, Family::Ext, Family::Ntfs];

/// A made volume.
pub struct Shape {
    pub family: Family,
    /// The command that made it, for whoever has to look at it again.
    pub text: String,
    pub path: PathBuf,
    /// Whether this machine's driver mounts it; else it was filled by its maker.
    pub driven: bool,
    _dir: TempDir,
}

fn tool(command: &[String]) -> Output {
    Command::new(&command[0]).args(&command[1..]).stdin(Stdio::null()).output().unwrap_or_else(|error| panic!("{}: {error}", command[0]))
}

fn strings(parts: &[&str]) -> Vec<String> {
    parts.iter().map(ToString::to_string).collect()
}

/// What a checker says of a volume: what it found, or nothing.
pub fn judged(family: Family, path: &Path) -> Result<(), String> {
    let image = path.display().to_string();
    let command = match family {
        Family::Fat => strings(&["fsck.fat", "-n", &image]),
        Family::ExFat => strings(&["fsck.exfat", "-n", &image]),
        Family::Ext => strings(&["e2fsck", "-fn", &image]),
        Family::Ntfs => strings(&["ntfsfix", "-n", &image]),
    };
    // On some damage a checker goes round for ever, and says so all the time.
    let shell = format!("set -o pipefail; timeout 20 {} 2>&1 | head -c 65536", command.join(" "));
    let out = tool(&strings(&["bash", "-c", &shell]));
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    // Some things are told, but change nothing in what is returned.
    let words: &[&str] = match family {
        Family::Fat => &["differ", "wrong", "Wrong", "ong file name", "Auto-", "auto-correcting"],
        Family::ExFat => &["ERROR", "corrupted"],
        Family::Ext => &["IGNORED", "but journal has data"],
        _ => &[],
    };
    let told = words.iter().any(|word| text.contains(word));
    // A label that was changed later stands in the root directory alone: so do systems that write it.
    if family == Family::Fat && text.contains("Volume label '") && text.contains("and different") {
        return Ok(());
    }
    if out.status.success() && !told { Ok(()) } else { Err(text) }
}

/// A volume where its driver shows it.
pub struct Mounted {
    place: PathBuf,
    device: Option<String>,
}

impl Mounted {
    /// The driver's no is an error.
    pub fn new(family: Family, path: &Path, writable: bool) -> Result<Self, String> {
        let place = path.with_extension("mnt");
        fs::create_dir_all(&place).unwrap();
        let shown = place.display().to_string();
        let image = path.display().to_string();
        let mut device = None;
        let mut last = String::new();
        for _ in 0..20 {
            if family == Family::ExFat {
                let mut command = strings(&["losetup", "-f", "--show", &image]);
                if !writable {
                    command.insert(1, "-r".into());
                }
                let out = tool(&command);
                let name = String::from_utf8_lossy(&out.stdout).trim().to_string();
                if name.is_empty() {
                    std::thread::sleep(Duration::from_millis(50));
                    continue;
                }
                device = Some(name);
            }
            let mode = if writable { "rw" } else { "ro" };
            let command = match family {
                Family::Fat => return Err("mtools mounts nothing".into()),
                Family::ExFat => strings(&["mount.exfat-fuse", "-o", mode, device.as_deref().unwrap_or(""), &shown]),
                Family::Ext => strings(&["mount", "-o", &format!("loop,{mode}"), &image, &shown]),
                Family::Ntfs => strings(&["ntfs-3g", "-o", &format!("{mode},compression,streams_interface=windows"), &image, &shown]),
            };
            let out = tool(&command);
            if out.status.success() {
                return Ok(Self { place, device });
            }
            last = String::from_utf8_lossy(&out.stderr).into_owned();
            if let Some(device) = device.take() {
                tool(&strings(&["losetup", "-d", &device]));
            }
            // Two tests may be given the same free device; one of them tries again.
            if !last.contains("loop") && !last.contains("busy") {
                break;
            }
        }
        Err(last)
    }

    pub fn place(&self) -> &Path {
        &self.place
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let shown = self.place.display().to_string();
        for _ in 0..50 {
            if tool(&strings(&["umount", &shown])).status.success() {
                break;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        // A driver in user space still writes when its mount is gone already.
        let daemon = |name: &str| {
            let out = tool(&strings(&["pgrep", "-f", &format!("{name}.*{shown}$")]));
            out.status.success()
        };
        for _ in 0..200 {
            if !daemon("ntfs-3g") && !daemon("mount.exfat-fuse") {
                break;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        if let Some(device) = &self.device {
            tool(&strings(&["losetup", "-d", device]));
        }
    }
}

/// What a driver shows of a volume: path to kind, length and content.
pub type Shown = BTreeMap<Vec<u8>, (u32, u64, Vec<u8>)>;

/// What a damaged volume says to be longer is read no further.
const LONGEST: u64 = 1 << 30;

fn hash_of(path: &Path) -> std::io::Result<Vec<u8>> {
    let (mut file, mut hasher) = (fs::File::open(path)?.take(LONGEST), blake3::Hasher::new());
    let mut piece = vec![0; 1 << 20];
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(hasher.finalize().as_bytes().to_vec()),
            count => _ = hasher.update(&piece[..count]),
        }
    }
}

/// Takes a folder away. A driver outside the kernel holds on to a file for a moment after its closing, under a hidden name.
fn removed(folder: &Path) -> Result<(), String> {
    let mut last = String::new();
    for _ in 0..50 {
        match fs::remove_dir_all(folder) {
            Ok(()) => return Ok(()),
            Err(error) if matches!(error.kind(), ErrorKind::DirectoryNotEmpty | ErrorKind::AlreadyExists) => last = error.to_string(),
            Err(error) => return Err(error.to_string()),
        }
        std::thread::sleep(Duration::from_millis(40));
    }
    Err(last)
}

fn collect(root: &Path, below: &Path, out: &mut Shown) -> std::io::Result<()> {
    use std::os::unix::ffi::OsStrExt;
    for entry in fs::read_dir(below)? {
        let path = entry?.path();
        let data = match fs::symlink_metadata(&path) {
            Ok(data) => data,
            // A driver outside the kernel lets go of a file after its closing: removed at once, it is a hidden one for a moment.
            Err(_) if path.file_name().is_some_and(|name| name.as_bytes().starts_with(b".fuse_hidden")) => continue,
            Err(error) => return Err(error),
        };
        let key = path.strip_prefix(root).unwrap().as_os_str().as_bytes().to_vec();
        if key == b"lost+found" {
            continue;
        }
        let kind = data.mode() & 0o170_000;
        let content = match kind {
            0o120_000 => fs::read_link(&path).map(|link| link.as_os_str().as_bytes().to_vec()).unwrap_or_default(),
            0o100_000 => hash_of(&path).unwrap_or_else(|error| error.to_string().into_bytes()),
            _ => Vec::new(),
        };
        let size = if kind == 0o100_000 { data.len() } else { 0 };
        out.insert(key, (kind, size, content));
        if kind == 0o040_000 {
            collect(root, &path, out)?;
        }
    }
    Ok(())
}

/// Everything the driver shows.
pub fn shown(family: Family, path: &Path) -> Result<Shown, String> {
    let mut out = Shown::new();
    if family == Family::Fat {
        let to = tempfile::tempdir().unwrap();
        let told = tool(&strings(&["mcopy", "-s", "-n", "-Q", "-i", &path.display().to_string(), "::/*", &to.path().display().to_string()]));
        if !told.status.success() && !String::from_utf8_lossy(&told.stderr).contains("not found") {
            return Err(String::from_utf8_lossy(&told.stderr).into_owned());
        }
        collect(to.path(), to.path(), &mut out).map_err(|error| error.to_string())?;
        return Ok(out);
    }
    let mounted = Mounted::new(family, path, false)?;
    collect(mounted.place(), mounted.place(), &mut out).map_err(|error| error.to_string())?;
    Ok(out)
}

/// Files of `random` lengths below `place` until `room` bytes are used or nothing fits any more.
fn some(place: &Path, random: &mut Random, room: u64, family: Family, tag: &str) {
    let mut left = room;
    let mut folders = vec![place.to_path_buf()];
    for number in 0.. {
        if left < room / 50 || number > 900 {
            return;
        }
        if random.chance(8) {
            let name = random.one(&["Counts", "Partituren", "été 2026", "a folder whose name is long enough to need several entries", "weir"]);
            let folder = folders[random.below(folders.len() as u64) as usize].join(format!("{name} {tag}{number}"));
            if fs::create_dir(&folder).is_err() {
                return;
            }
            folders.push(folder);
        }
        let folder = folders[random.below(folders.len() as u64) as usize].clone();
        let name = match random.below(6) {
            0 => format!("{tag}{number}"),
            1 => format!("SHORT{number}.TXT"),
            2 => format!("Übung für Männerstimmen – Fassung {tag}{number}.txt"),
            3 => format!("{tag}{number} {}.csv", "a rather long name, as people write them ".repeat(1 + random.below(4) as usize)),
            _ => format!("sheet {tag}{number}.csv"),
        };
        let path = folder.join(name);
        let len = random.length(left / 3);
        // Written in pieces with others between them, it lies in pieces.
        let bytes = noise(len, random.below(u64::MAX >> 12));
        let written = File::create(&path).and_then(|mut file| {
            for (count, piece) in bytes.chunks((len / (1 + random.below(6) as usize)).max(1)).enumerate() {
                file.write_all(piece)?;
                if count > 0 && random.chance(60) {
                    file.sync_data()?;
                    fs::write(folder.join(format!("between {tag}{number} {count}")), &bytes[..random.length(6000).min(len)])?;
                }
            }
            Ok(())
        });
        if written.is_err() {
            let _ = fs::remove_file(&path);
            return;
        }
        left = left.saturating_sub(len as u64 + 4096);
        let rich = matches!(family, Family::Ext | Family::Ntfs);
        if rich && random.chance(6) {
            let _ = symlink(
                random.one(&["weir", "../elsewhere", "/a/very/long/way/that/does/not/fit/into/the/place/that/a/short/one/has/"]),
                path.with_extension("lnk"),
            );
        }
        if rich && random.chance(6) {
            let _ = fs::hard_link(&path, path.with_extension("again"));
        }
        if rich && random.chance(2) {
            // Hundreds of islands: such a list of places outgrows what most files have for it.
            let islands = File::create(path.with_extension("islands"));
            let count = 100 + random.below(500);
            let _ = islands.and_then(|file| {
                file.set_len(count << 17)?;
                (0..count).try_for_each(|island| file.write_all_at(&noise(512, island + 1), island << 17))
            });
            left = left.saturating_sub(count * 4096);
        }
        if rich && random.chance(5) {
            let sparse = File::create(path.with_extension("db"));
            let _ = sparse.and_then(|file| {
                file.set_len(3 << 20)?;
                file.write_all_at(&bytes[..len.min(70_000)], random.below(2 << 20))
            });
        }
        if family == Family::Ntfs && random.chance(8) {
            let _ = fs::write(format!("{}:note", path.display()), noise(random.length(30_000), number as u64 + 1));
        }
        if family == Family::Ext && random.chance(8) {
            let value = "x".repeat(1 + random.length(3000));
            let _ = Command::new("setfattr").args(["-n", "user.note", "-v", &value]).arg(&path).stderr(Stdio::null()).status();
        }
        if family == Family::Ext && random.chance(4) {
            let _ = Command::new("fallocate").args(["-n", "-l", "300000"]).arg(&path).stderr(Stdio::null()).status();
        }
    }
}

/// Removes about every third entry.
fn fewer(place: &Path, random: &mut Random, percent: u64) {
    let mut found = Shown::new();
    collect(place, place, &mut found).unwrap();
    use std::os::unix::ffi::OsStrExt;
    for (path, (kind, ..)) in found {
        let path = place.join(std::ffi::OsStr::from_bytes(&path));
        if kind != 0o040_000 && random.chance(percent) {
            let _ = fs::remove_file(path);
        } else if random.chance(3) {
            let _ = fs::rename(&path, path.with_extension("renamed"));
        }
    }
}

/// Some rounds of writing and deleting.
fn lived(place: &Path, random: &mut Random, room: u64, family: Family) {
    for round in 0..1 + random.below(4) {
        let part = room * (20 + random.below(60)) / 100;
        let tag = random.one(&["a", "b", "q"]).repeat(round as usize + 1);
        some(place, random, part, family, &tag);
        let percent = random.one(&[0, 15, 50, 80]);
        fewer(place, random, percent);
    }
}

fn free(place: &Path) -> u64 {
    let out = tool(&strings(&["stat", "-f", "-c", "%f %S", &place.display().to_string()]));
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    let mut words = text.split_whitespace().map(|word| word.parse::<u64>().unwrap_or(0));
    words.next().unwrap_or(0) * words.next().unwrap_or(0)
}

/// Options of a maker, out of a seed.
fn options(family: Family, random: &mut Random) -> (Vec<String>, u64) {
    match family {
        Family::Fat => {
            let width = random.one(&["12", "16", "32"]);
            let sector = if random.chance(20) { "4096" } else { "512" };
            let large = sector == "4096";
            let (per, mib) = match width {
                "12" if large => (random.one(&["1", "2"]), 2 + random.below(12)),
                "12" => (random.one(&["2", "4", "8"]), 2 + random.below(2)),
                "16" if large => ("1", 20 + random.below(40)),
                "16" => (random.one(&["1", "2", "4"]), 9 + random.below(7)),
                _ if large => ("1", 262 + random.below(10)),
                _ => (random.one(&["1", "1", "2"]), 68 + random.below(20)),
            };
            let tables = random.one(&["2", "2", "2", "1"]);
            let reserved = random.one(&["32", "33", "40", "64"]);
            let mut made = strings(&["mkfs.fat", "-F", width, "-S", sector, "-s", per, "-f", tables, "-n", "WEIR"]);
            if width == "32" || random.chance(30) {
                made.extend(strings(&["-R", reserved]));
            }
            if width != "32" && random.chance(30) {
                made.extend(strings(&["-r", random.one(&["128", "256", "1024"])]));
            }
            if random.chance(30) {
                made.push("-a".into());
            }
            (made, mib)
        }
        Family::ExFat => {
            let cluster = random.one(&["512", "1K", "4K", "8K", "32K", "128K"]);
            let mut made = strings(&["mkfs.exfat", "-c", cluster, "-L", "Weir"]);
            if random.chance(30) {
                made.extend(strings(&["-b", random.one(&["64K", "256K", "1M"])]));
            }
            if random.chance(20) {
                made.push("--pack-bitmap".into());
            }
            (made, random.one(&[6, 12, 20, 40, 64]))
        }
        Family::Ntfs => {
            let cluster = random.one(&["512", "1024", "2048", "4096", "4096", "4096", "8192", "65536"]);
            let sector = if cluster.len() > 3 && random.chance(25) && !matches!(cluster, "1024" | "2048") { "4096" } else { "512" };
            let mut made = strings(&["mkntfs", "-q", "-F", "-Q", "-c", cluster, "-s", sector, "-L", "Weir"]);
            if random.chance(20) {
                made.extend(strings(&["-z", random.one(&["1", "2", "4"])]));
            }
            (made, random.one(&[12, 24, 40, 64]))
        }
        Family::Ext => {
            let kind = random.one(&["ext4", "ext4", "ext4", "ext3", "ext2"]);
            let block = random.one(&["1024", "1024", "2048", "4096", "4096"]);
            let mut features: Vec<String> = Vec::new();
            let toggles: &[(&str, u64)] = match kind {
                "ext4" => &[
                    ("inline_data", 25),
                    ("^64bit", 25),
                    ("^metadata_csum", 30),
                    ("^flex_bg", 25),
                    ("^extent", 10),
                    ("meta_bg,^resize_inode", 12),
                    ("^resize_inode", 15),
                    ("sparse_super2,^resize_inode", 10),
                    ("^sparse_super,^resize_inode", 5),
                    ("bigalloc", 12),
                    ("metadata_csum_seed", 15),
                    ("orphan_file", 25),
                    ("ea_inode", 12),
                    ("large_dir", 15),
                    ("fast_commit", 15),
                    ("^dir_index", 10),
                    ("^has_journal", 12),
                    ("uninit_bg", 10),
                    ("^huge_file", 8),
                    ("^dir_nlink", 8),
                    ("^extra_isize", 8),
                    ("mmp", 6),
                    ("project,quota", 6),
                    ("quota", 6),
                    ("casefold", 6),
                    ("encrypt", 8),
                    ("verity", 6),
                    ("stable_inodes", 6),
                    ("^filetype", 4),
                    ("^ext_attr", 4),
                ],
                _ => &[
                    ("^dir_index", 20),
                    ("^resize_inode", 20),
                    ("^sparse_super,^resize_inode", 10),
                    ("^filetype", 10),
                    ("^ext_attr", 8),
                    ("uninit_bg", 8),
                    ("^large_file", 8),
                ],
            };
            for (feature, percent) in toggles {
                if random.chance(*percent) {
                    features.push((*feature).to_string());
                }
            }
            let mut made = strings(&["mke2fs", "-q", "-F", "-t", kind, "-b", block, "-m", random.one(&["0", "5"])]);
            if !features.is_empty() {
                made.extend(["-O".to_string(), features.join(",")]);
            }
            if random.chance(50) {
                made.extend(strings(&["-I", random.one(&["128", "256", "512", "1024"])]));
            }
            if random.chance(45) && !features.iter().any(|feature| feature == "bigalloc") {
                made.extend(strings(&["-g", random.one(&["1024", "2048", "4096", "8192"])]));
            }
            if random.chance(30) {
                made.extend(strings(&["-N", random.one(&["200", "1000", "4000", "9000"])]));
            }
            if random.chance(25) {
                made.extend(strings(&["-G", random.one(&["1", "2", "8", "64"])]));
            }
            let extended = random.one(&[
                "",
                "",
                "lazy_itable_init=0",
                "packed_meta_blocks=1",
                "resize=600000",
                "num_backup_sb=1",
                "num_backup_sb=0",
                "root_owner=1000:1000",
            ]);
            if !extended.is_empty() {
                made.extend(strings(&["-E", extended]));
            }
            (made, random.one(&[10, 16, 24, 40, 64]))
        }
    }
}

impl Shape {
    /// The volume of a seed.
    pub fn of(family: Family, seed: u64) -> Self {
        Self::within(family, seed, u64::MAX)
    }

    /// A volume of few MiB, for what is done to many of them.
    pub fn small(family: Family, seed: u64) -> Self {
        Self::within(family, seed, if family == Family::Fat { 70 } else { 8 })
    }

    fn within(family: Family, seed: u64, most_mib: u64) -> Self {
        let mut random = Random::new(seed ^ (family as u64) << 40);
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("volume.img");
        let data = dir.path().join("data");
        fs::create_dir(&data).unwrap();
        // Not every set of features goes together; the maker says so.
        let (text, bytes) = loop {
            let (mut made, mib) = options(family, &mut random);
            let bytes = mib.min(most_mib) * MIB - random.one(&[0, 0, 512 * 9, 4096 * 3]);
            let bytes = if made.iter().any(|part| part == "4096") { bytes / 4096 * 4096 } else { bytes };
            File::create(&path).unwrap().set_len(bytes).unwrap();
            made.push(path.display().to_string());
            let out = tool(&made);
            let quiet = family != Family::Fat || !String::from_utf8_lossy(&out.stderr).contains("WARNING");
            if out.status.success() && quiet && badger_fs::recognise(&*super::source(&path), 0, bytes).is_some() {
                made.pop();
                break (made, bytes);
            }
            fs::remove_file(&path).unwrap();
        };
        let mut driven = true;
        if family == Family::Fat {
            lived(&data, &mut random, bytes / 2, family);
            Self::by_mtools(&path, &data, &mut random);
        } else {
            match Mounted::new(family, &path, true) {
                Ok(mounted) => {
                    let room = free(mounted.place());
                    lived(mounted.place(), &mut random, room, family);
                }
                Err(_) => {
                    driven = false;
                    lived(&data, &mut random, bytes / 3, Family::Fat);
                    let mut made = text.clone();
                    made.extend(strings(&["-d", &data.display().to_string(), &path.display().to_string()]));
                    File::create(&path).unwrap().set_len(bytes).unwrap();
                    tool(&made);
                }
            }
        }
        Self { family, text: format!("{family:?} seed {seed}, {bytes} bytes: {}", text.join(" ")), path, driven, _dir: dir }
    }

    /// Fills a FAT volume from a folder, takes some away again, and fills once more.
    fn by_mtools(path: &Path, data: &Path, random: &mut Random) {
        let image = path.display().to_string();
        let entries =
            |place: &Path| -> Vec<String> { fs::read_dir(place).unwrap().map(|entry| entry.unwrap().path().display().to_string()).collect() };
        let mut command = strings(&["mcopy", "-s", "-n", "-Q", "-i", &image]);
        command.extend(entries(data));
        command.push("::/".into());
        tool(&command);
        let names: Vec<String> = fs::read_dir(data)
            .unwrap()
            .map(|entry| entry.unwrap())
            .filter(|entry| entry.file_type().unwrap().is_file() && random.chance(50))
            .map(|entry| format!("::/{}", entry.file_name().to_string_lossy()))
            .collect();
        if !names.is_empty() {
            let mut command = strings(&["mdel", "-i", &image]);
            command.extend(names);
            tool(&command);
        }
        let late = tempfile::tempdir().unwrap();
        (0..6).for_each(|number| fs::write(late.path().join(format!("later {number}.wav")), noise(random.length(400_000), number + 50)).unwrap());
        let mut command = strings(&["mcopy", "-n", "-Q", "-i", &image]);
        command.extend(entries(late.path()));
        command.push("::/".into());
        tool(&command);
    }
}

/// Fills a volume to the brim by its driver, empties it of that, and fills it again.
pub fn used_up(family: Family, path: &Path) -> Result<(), String> {
    let image = path.display().to_string();
    let before = shown(family, path)?;
    let file = |round: u64, number: u64, size: usize| noise(size, round * 100_000 + number + 3);
    if family == Family::Fat {
        let data = tempfile::tempdir().unwrap();
        let size = (fs::metadata(path).unwrap().len() / 30) as usize;
        for round in 0..2u64 {
            let names: Vec<String> = (0..60u64)
                .map(|number| {
                    let place = data.path().join(format!("round {round} {number}.bin"));
                    fs::write(&place, file(round, number, if number % 3 == 0 { 700 } else { size })).unwrap();
                    place.display().to_string()
                })
                .collect();
            let mut command = strings(&["mcopy", "-n", "-Q", "-i", &image]);
            command.extend(names);
            command.push("::/".into());
            // Full is what it is to become.
            tool(&command);
            if round == 0 {
                let listed = shown(family, path)?;
                let gone: Vec<String> =
                    listed.keys().filter_map(|key| String::from_utf8(key.clone()).ok()).filter(|key| key.starts_with("round 0")).collect();
                let mut command = strings(&["mdel", "-i", &image]);
                command.extend(gone.iter().map(|name| format!("::/{name}")));
                if !gone.is_empty() {
                    tool(&command);
                }
            }
        }
    } else {
        let mounted = Mounted::new(family, path, true)?;
        let size = (free(mounted.place()) / 20).clamp(2000, 8 << 20) as usize;
        for round in 0..2u64 {
            let folder = mounted.place().join(format!("round {round}"));
            if fs::create_dir(&folder).is_err() {
                break;
            }
            for number in 0..400u64 {
                let place = folder.join(format!("{number}.bin"));
                if fs::write(&place, file(round, number, if number % 3 == 0 { 700 } else { size })).is_err() {
                    let _ = fs::remove_file(place);
                    break;
                }
            }
            if round == 0 {
                removed(&folder)?;
            }
        }
    }
    let after = shown(family, path)?;
    for (path, was) in &before {
        let named = String::from_utf8_lossy(path);
        match after.get(path) {
            None => return Err(format!("{named} is gone after the driver wrote to the volume")),
            Some(is) if is != was => return Err(format!("{named} reads otherwise after the driver wrote to the volume")),
            Some(_) => {}
        }
    }
    // What was written in the second round is all there.
    for (path, (_, size, hash)) in &after {
        let name = String::from_utf8_lossy(path).into_owned();
        let number =
            name.strip_prefix("round 1/").or_else(|| name.strip_prefix("round 1 ")).and_then(|rest| rest.strip_suffix(".bin")?.parse::<u64>().ok());
        if let Some(number) = number
            && !(family == Family::Fat && after.len() > 60)
            && blake3::hash(&file(1, number, *size as usize)).as_bytes().as_slice() != hash.as_slice()
            && *size > 0
        {
            return Err(format!("{name} reads otherwise than it was written"));
        }
    }
    judged(family, path)
}
