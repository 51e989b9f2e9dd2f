//! Small volumes that are made to be walked for ever, or to fill the memory: each costs no more than its size is worth. They have a
//! program to themselves, whose memory and time are measured.

mod support;

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use support::{image, run};

/// What this program took of the processors, whatever else they had to do.
fn taken() -> Duration {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    Duration::new(time.tv_sec.unsigned_abs(), u32::try_from(time.tv_nsec).unwrap())
}

/// Everything that goes over a volume, with the time it took.
fn walked(path: &Path) -> Duration {
    let began = taken();
    let drive = badger_drive::Workshop::default().source(path).unwrap();
    let size = drive.geometry().size_bytes;
    let _ = badger_fs::recognise(&*drive, 0, size);
    if let Ok(fs) = badger_fs::open(&drive, 0, size) {
        if let Ok(root) = fs.root() {
            let mut count = 0u64;
            badger_fs::walk::walk(&*fs, root, "", &mut |_, entry| {
                count += 1;
                if count < 5000 {
                    let _ = (fs.open(&entry.node, ""), fs.attributes(&entry.node), fs.streams(&entry.node), fs.link(&entry.node));
                }
            });
        }
        let survey = fs.survey();
        assert!(!survey.is_sound(), "{}: what was done to it is not seen", path.display());
        let _ = fs.bounds(&survey, 512);
    }
    taken() - began
}

/// Most memory this process ever had, in bytes.
fn peak() -> u64 {
    let text = fs::read_to_string("/proc/self/status").unwrap();
    let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    line.trim().trim_end_matches(" kB").parse::<u64>().unwrap() * 1024
}

fn debugfs(path: &Path, commands: &str) {
    let script = path.with_extension("commands");
    fs::write(&script, commands).unwrap();
    let status = Command::new("debugfs").args(["-w", "-f"]).arg(&script).arg(path).stdout(Stdio::null()).stderr(Stdio::null()).status();
    assert!(status.unwrap().success());
}

fn put32(bytes: &mut [u8], at: usize, value: u32) {
    bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
}

/// A volume of 8 MiB with blocks of 1 KiB that holds one file.
fn ext(kind: &str, features: &str) -> (tempfile::TempDir, std::path::PathBuf) {
    let (dir, path) = image(8);
    let data = dir.path().join("data");
    fs::create_dir(&data).unwrap();
    fs::write(data.join("file"), "file").unwrap();
    run(&["mke2fs", "-q", "-F", "-t", kind, "-b", "1024", "-O", features, "-d", data.to_str().unwrap(), path.to_str().unwrap()]);
    (dir, path)
}

/// A tree of extents whose nodes all lead to the same node below, and the lowest is empty.
fn extents_round_and_round() -> (tempfile::TempDir, std::path::PathBuf) {
    let (dir, path) = ext("ext4", "^metadata_csum,^has_journal");
    let lowest = 8000u32;
    let mut bytes = fs::read(&path).unwrap();
    for depth in 0..5u32 {
        let at = (lowest + depth) as usize * 1024;
        bytes[at..at + 1024].fill(0);
        let count = if depth == 0 { 0u16 } else { 84 };
        bytes[at..at + 2].copy_from_slice(&0xf30au16.to_le_bytes());
        bytes[at + 2..at + 4].copy_from_slice(&count.to_le_bytes());
        bytes[at + 4..at + 6].copy_from_slice(&84u16.to_le_bytes());
        bytes[at + 6..at + 8].copy_from_slice(&(depth as u16).to_le_bytes());
        for entry in 0..usize::from(count) {
            put32(&mut bytes, at + 12 + entry * 12, entry as u32);
            put32(&mut bytes, at + 12 + entry * 12 + 4, lowest + depth - 1);
        }
    }
    fs::write(&path, bytes).unwrap();
    let root = [0x0004_f30au32, 0x0005_0004, 0, 0, lowest + 4, 0, 1, lowest + 4, 0, 2, lowest + 4, 0, 3, lowest + 4, 0];
    let fields: String = root.iter().enumerate().map(|(at, word)| format!("set_inode_field /file block[{at}] {word}\n")).collect();
    debugfs(
        &path,
        &format!(
            "{}set_inode_field /file size 0x7fffffffff\n",
            fields.replace("block[12]", "block[IND]").replace("block[13]", "block[DIND]").replace("block[14]", "block[TIND]")
        ),
    );
    (dir, path)
}

/// A map of blocks that is its own lower level.
fn block_map_in_itself() -> (tempfile::TempDir, std::path::PathBuf) {
    let (dir, path) = ext("ext2", "^resize_inode");
    let mut bytes = fs::read(&path).unwrap();
    (0..256).for_each(|entry| put32(&mut bytes, 8000 * 1024 + entry * 4, 8000));
    fs::write(&path, bytes).unwrap();
    debugfs(
        &path,
        "set_inode_field /file block[IND] 8000\nset_inode_field /file block[DIND] 8000\nset_inode_field /file block[TIND] 8000\nset_inode_field /file size 0xffffffffff\n",
    );
    (dir, path)
}

/// Many directories that are all the same blocks, full of names.
fn one_directory_many_times() -> (tempfile::TempDir, std::path::PathBuf) {
    let (dir, path) = image(16);
    let data = dir.path().join("data");
    fs::create_dir_all(data.join("big")).unwrap();
    (0..3000).for_each(|number| fs::write(data.join(format!("big/{number}")), "").unwrap());
    (0..1500).for_each(|number| fs::create_dir(data.join(format!("d{number}"))).unwrap());
    run(&["mke2fs", "-q", "-F", "-t", "ext2", "-b", "1024", "-N", "6000", "-d", data.to_str().unwrap(), path.to_str().unwrap()]);
    let out = Command::new("debugfs").args(["-R", "blocks /big"]).arg(&path).output().unwrap();
    let blocks: Vec<u32> = String::from_utf8_lossy(&out.stdout).split_whitespace().filter_map(|word| word.parse().ok()).collect();
    let mut commands = String::new();
    for number in 0..1500 {
        for (slot, block) in blocks.iter().take(12).enumerate() {
            commands += &format!("set_inode_field /d{number} block[{slot}] {block}\n");
        }
        // The first indirect block comes behind the twelve.
        commands += &format!("set_inode_field /d{number} block[IND] {}\nset_inode_field /d{number} size 60000\n", blocks[12]);
    }
    debugfs(&path, &commands);
    (dir, path)
}

/// Numbers in a super block that no volume of this size can have.
fn ext_numbers(what: &[(usize, u32)]) -> (tempfile::TempDir, std::path::PathBuf) {
    let (dir, path) = ext("ext4", "^metadata_csum,^has_journal");
    let mut bytes = fs::read(&path).unwrap();
    what.iter().for_each(|(at, value)| put32(&mut bytes, 1024 + at, *value));
    bytes.truncate(64 << 10);
    fs::write(&path, bytes).unwrap();
    (dir, path)
}

fn made_by(command: &[&str], change: impl FnOnce(&mut Vec<u8>)) -> (tempfile::TempDir, std::path::PathBuf) {
    let (dir, path) = image(8);
    run(&[command, &[path.to_str().unwrap()]].concat());
    let mut bytes = fs::read(&path).unwrap();
    change(&mut bytes);
    fs::write(&path, bytes).unwrap();
    (dir, path)
}

/// A FAT directory that leads into noise, all of which looks like entries of directories.
fn directory_of_noise() -> (tempfile::TempDir, std::path::PathBuf) {
    let (dir, path) = image(64);
    let noise = dir.path().join("noise");
    fs::write(&noise, support::noise(50 << 20, 3)).unwrap();
    let volume = path.to_str().unwrap();
    run(&["mkfs.fat", "-F", "16", "-s", "4", volume]);
    run(&["mmd", "-i", volume, "::/D"]);
    run(&["mcopy", "-i", volume, noise.to_str().unwrap(), "::/N"]);
    let mut bytes = fs::read(&path).unwrap();
    let entry = |name: &[u8; 12]| bytes.windows(12).position(|window| window == name).unwrap();
    let (folder, file) = (entry(b"D          \x10"), entry(b"N          \x20"));
    for at in [20, 21, 26, 27] {
        bytes[folder + at] = bytes[file + at];
    }
    fs::write(&path, bytes).unwrap();
    (dir, path)
}

#[test]
fn what_goes_round_costs_no_more_than_its_size() {
    let exfat = |at: usize, value: u32| made_by(&["mkfs.exfat"], move |bytes| put32(bytes, at, value));
    let ntfs = |at: usize, value: u32| made_by(&["mkntfs", "-q", "-F", "-Q"], move |bytes| put32(bytes, at, value));
    let fat = |at: usize, value: u32| made_by(&["mkfs.fat", "-F", "32", "-s", "1"], move |bytes| put32(bytes, at, value));
    let cases = [
        ("extents", extents_round_and_round()),
        ("block map", block_map_in_itself()),
        ("directories", one_directory_many_times()),
        ("groups of 32 blocks", ext_numbers(&[(4, u32::MAX), (32, 32), (40, 8), (0, u32::MAX)])),
        ("two chosen groups", ext_numbers(&[(4, u32::MAX), (0x150, 0xffff), (0x5c, 0x200), (0x24c, 0), (0x250, 0)])),
        // With the room for more descriptors, of which every group is asked.
        (
            "blocks",
            made_by(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-O", "64bit,resize_inode,^metadata_csum,^has_journal"], |bytes| {
                put32(bytes, 1024 + 0x150, 1 << 16);
            }),
        ),
        ("inodes", ext_numbers(&[(0, u32::MAX), (40, 8192)])),
        ("exFAT clusters", exfat(92, u32::MAX - 16)),
        ("exFAT table", exfat(84, u32::MAX)),
        ("NTFS sectors", ntfs(44, u32::MAX / 2)),
        ("NTFS record", ntfs(64, 0x7f)),
        ("FAT sectors", fat(32, u32::MAX)),
        ("FAT table", fat(36, u32::MAX / 512)),
        ("FAT noise", directory_of_noise()),
    ];
    for (name, (_dir, path)) in &cases {
        let (before, took) = (peak(), walked(path));
        println!("{name}: {took:?}, {} MiB more", (peak() - before) >> 20);
        assert!(took < Duration::from_secs(8), "{name} took {took:?}");
        assert!(peak() < 400 << 20, "{name}: {} MiB", peak() >> 20);
    }
}
