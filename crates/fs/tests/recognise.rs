//! File systems made by the system's own tools are recognised, with what the system's own tools say of them.

use badger_drive::Workshop;
use badger_drive::medium::MemoryMedium;
use badger_fs::recognise::{Kind, State, recognise};
use proptest::prelude::*;
use rstest::rstest;
use std::fs::{self, File};
use std::path::Path;
use std::process::Command;

fn run(command: &[&str]) {
    let out = Command::new(command[0]).args(&command[1..]).output().unwrap_or_else(|error| panic!("{}: {error}", command[0]));
    assert!(out.status.success(), "{command:?}: {}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
}

/// What the system's own probe says: type, label, id.
fn probe(path: &Path, field: &str) -> String {
    let out = Command::new("blkid").args(["-p", "-o", "value", "-s", field]).arg(path).output().unwrap();
    String::from_utf8(out.stdout).unwrap().trim().to_string()
}

fn image(size: u64) -> (tempfile::TempDir, std::path::PathBuf) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("volume.img");
    File::create(&path).unwrap().set_len(size).unwrap();
    (dir, path)
}

const MIB: u64 = 1 << 20;

#[rstest]
#[case(Kind::Fat12, 4, &["mkfs.fat", "-F", "12", "-n", "LOCK"])]
#[case(Kind::Fat16, 40, &["mkfs.fat", "-F", "16", "-n", "LOCK"])]
#[case(Kind::Fat32, 100, &["mkfs.fat", "-F", "32", "-n", "LOCK"])]
#[case(Kind::Fat32, 600, &["mkfs.fat", "-F", "32", "-S", "4096", "-n", "LOCK"])]
#[case(Kind::ExFat, 100, &["mkfs.exfat", "-L", "Weir"])]
#[case(Kind::Ntfs, 100, &["mkntfs", "-q", "-F", "-Q", "-L", "Fähre"])]
#[case(Kind::Ntfs, 100, &["mkntfs", "-q", "-F", "-Q", "-c", "65536", "-L", "Large"])]
#[case(Kind::Ext2, 50, &["mke2fs", "-q", "-F", "-t", "ext2", "-L", "tides"])]
#[case(Kind::Ext3, 50, &["mke2fs", "-q", "-F", "-t", "ext3", "-L", "tides"])]
#[case(Kind::Ext4, 50, &["mke2fs", "-q", "-F", "-t", "ext4", "-L", "tides"])]
#[case(Kind::Ext4, 50, &["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-O", "^64bit", "-L", "tides"])]
#[case(Kind::Btrfs, 200, &["mkfs.btrfs", "-q", "-L", "scores"])]
#[case(Kind::Xfs, 400, &["mkfs.xfs", "-q", "-L", "scores"])]
#[case(Kind::Swap, 50, &["mkswap", "-q", "-L", "swap"])]
#[case(Kind::Luks, 50, &["sh", "-c", "echo secret | cryptsetup luksFormat -q --type luks2 --label box --pbkdf pbkdf2 --pbkdf-force-iterations 1000 \"$0\""])]
#[case(Kind::Luks, 50, &["sh", "-c", "echo secret | cryptsetup luksFormat -q --type luks1 --pbkdf-force-iterations 1000 \"$0\""])]
fn kind_label_and_id_are_those_of_the_systems_probe(#[case] kind: Kind, #[case] mib: u64, #[case] command: &[&str]) {
    let (_dir, path) = image(mib * MIB);
    let mut command = command.to_vec();
    command.push(path.to_str().unwrap());
    run(&command);
    let source = Workshop::default().source(&path).unwrap();
    let volume = recognise(&*source, 0, mib * MIB).unwrap();
    assert_eq!(volume.kind, kind);
    assert_eq!(volume.label, probe(&path, "LABEL"));
    assert_eq!(volume.id.to_lowercase(), probe(&path, "UUID").to_lowercase());
    assert_eq!((volume.state, volume.problems.len()), (State::Clean, 0));
    assert!(volume.size_bytes <= mib * MIB && volume.size_bytes > mib * MIB * 8 / 10, "{}", volume.size_bytes);
    if let Some(used) = volume.used_bytes {
        assert!(used < volume.size_bytes);
    }
}

/// Swap in which a system sleeps is swap, and says so; the system's own probe sees the same.
#[rstest]
#[case(b"S1SUSPEND\0", State::Hibernated)]
#[case(b"ULSUSPEND\0", State::Hibernated)]
#[case(b"SWAPSPACE2", State::Clean)]
fn a_system_that_sleeps_in_swap_is_seen(#[case] mark: &[u8; 10], #[case] state: State) {
    let (_dir, path) = image(8 * MIB);
    run(&["mkswap", "-q", "-L", "swap", path.to_str().unwrap()]);
    let file = fs::OpenOptions::new().write(true).open(&path).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, &[b"SWAPSPACE2".as_slice(), mark].concat(), 4096 - 20).unwrap();
    let volume = recognise(&*Workshop::default().source(&path).unwrap(), 0, 8 * MIB).unwrap();
    assert_eq!((volume.kind, volume.state, volume.label.as_str()), (Kind::Swap, state, "swap"));
    assert_eq!(probe(&path, "TYPE") == "swsuspend", state == State::Hibernated);
    assert_eq!(volume.id.to_lowercase(), probe(&path, "UUID").to_lowercase());
}

#[test]
fn volumes_of_the_other_family_have_their_names() {
    let (_dir, path) = image(1024 * MIB);
    run(&["mkapfs", "-L", "Lock-keeper", path.to_str().unwrap()]);
    let source = Workshop::default().source(&path).unwrap();
    let volume = recognise(&*source, 0, 1024 * MIB).unwrap();
    assert_eq!((volume.kind, volume.label.as_str()), (Kind::Apfs, "Lock-keeper"));
    assert!(volume.used_bytes.is_some_and(|used| used < MIB), "{:?}", volume.used_bytes);
    let (dir, path) = image(MIB);
    let data = dir.path().join("data");
    fs::create_dir(&data).unwrap();
    fs::write(data.join("flood.jpg"), vec![7; 300_000]).unwrap();
    run(&["xorriso", "-as", "mkisofs", "-quiet", "-hfsplus", "-V", "SILVER", "-o", path.to_str().unwrap(), data.to_str().unwrap()]);
    let source = Workshop::default().source(&path).unwrap();
    let table = badger_layout::table::read(&*source);
    let found = badger_fs::recognise::volumes(&*source, &table);
    let volume = found.iter().map(|(_, volume)| volume).find(|volume| volume.kind == Kind::HfsPlus).unwrap();
    assert_eq!((volume.label.as_str(), volume.used_bytes), ("SILVER", Some(volume.size_bytes)));
}

#[test]
fn a_filled_volume_is_as_full_as_its_system_says() {
    let (dir, path) = image(200 * MIB);
    let data = dir.path().join("data");
    fs::create_dir(&data).unwrap();
    fs::write(data.join("rehearsal.wav"), vec![7; 60 << 20]).unwrap();
    run(&["mke2fs", "-q", "-F", "-t", "ext4", "-d", data.to_str().unwrap(), path.to_str().unwrap()]);
    let source = Workshop::default().source(&path).unwrap();
    let used = recognise(&*source, 0, 200 * MIB).unwrap().used_bytes.unwrap();
    let out = Command::new("dumpe2fs").arg("-h").arg(&path).output().unwrap();
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    let number = |name: &str| -> u64 { text.lines().find_map(|line| line.strip_prefix(name)).unwrap().trim().parse().unwrap() };
    assert_eq!(used, (number("Block count:") - number("Free blocks:")) * number("Block size:"));
    assert!(used > 60 << 20);
}

#[test]
fn a_full_ntfs_volume_shows_in_its_bitmap() {
    let (_dir, path) = image(200 * MIB);
    run(&["mkntfs", "-q", "-F", "-Q", path.to_str().unwrap()]);
    let used = |path: &Path| recognise(&*Workshop::default().source(path).unwrap(), 0, 200 * MIB).unwrap().used_bytes.unwrap();
    let before = used(&path);
    let data = path.with_file_name("file");
    fs::write(&data, vec![1; 50 << 20]).unwrap();
    run(&["ntfscp", "-q", path.to_str().unwrap(), data.to_str().unwrap(), "file"]);
    let grown = used(&path) - before;
    assert!((50 << 20..51 << 20).contains(&grown), "{grown}");
}

#[rstest]
#[case::fat32(&["mkfs.fat", "-F", "32"], 100)]
#[case::ext4(&["mke2fs", "-q", "-F", "-t", "ext4"], 50)]
#[case::exfat(&["mkfs.exfat"], 100)]
fn a_volume_cut_short_is_damaged(#[case] command: &[&str], #[case] mib: u64) {
    let (_dir, path) = image(mib * MIB);
    run(&[command, &[path.to_str().unwrap()]].concat());
    let source = Workshop::default().source(&path).unwrap();
    let volume = recognise(&*source, 0, mib * MIB / 2).unwrap();
    assert_eq!(volume.state, State::Damaged);
    assert!(volume.problems[0].contains("longer than the place"));
}

#[rstest]
#[case::fat32(&["mkfs.fat", "-F", "32"], 100, 32 * 512 + 7, 0x07)]
#[case::ext4(&["mke2fs", "-q", "-F", "-t", "ext4", "-O", "^metadata_csum"], 50, 1024 + 58, 0x00)]
#[case::exfat(&["mkfs.exfat"], 100, 106, 0x02)]
fn a_volume_in_use_is_dirty(#[case] command: &[&str], #[case] mib: u64, #[case] at: usize, #[case] byte: u8) {
    let (_dir, path) = image(mib * MIB);
    run(&[command, &[path.to_str().unwrap()]].concat());
    let mut bytes = fs::read(&path).unwrap();
    bytes[at] = byte;
    assert_eq!(recognise(&MemoryMedium::new(bytes, 512), 0, mib * MIB).unwrap().state, State::Dirty);
}

#[test]
fn a_volume_without_its_super_block_is_known_by_a_copy() {
    let (_dir, path) = image(50 * MIB);
    run(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-L", "Lock log", path.to_str().unwrap()]);
    let mut bytes = fs::read(&path).unwrap();
    bytes[1024..2048].fill(0);
    let volume = recognise(&MemoryMedium::new(bytes, 512), 0, 50 * MIB).unwrap();
    assert_eq!((volume.kind, volume.state, volume.label.as_str()), (Kind::Ext4, State::Damaged, "Lock log"));
    assert!(volume.problems[0].contains("copy"), "{:?}", volume.problems);
}

#[test]
fn nothing_is_recognised_as_nothing() {
    assert_eq!(recognise(&MemoryMedium::new(vec![0; 1 << 20], 512), 0, 1 << 20), None);
    assert_eq!(recognise(&MemoryMedium::new(vec![0; 1 << 20], 512), 5 << 20, 1 << 20), None);
}

fn volumes() -> &'static [Vec<u8>] {
    static VOLUMES: std::sync::OnceLock<Vec<Vec<u8>>> = std::sync::OnceLock::new();
    VOLUMES.get_or_init(|| {
        let tools: [&[&str]; 4] = [&["mkntfs", "-q", "-F", "-Q"], &["mkfs.fat"], &["mkfs.exfat"], &["mke2fs", "-q", "-F", "-t", "ext4"]];
        let made = tools.iter().map(|command| {
            let (_dir, path) = image(5 * MIB);
            let command: &[&str] = command;
            run(&[command, &[path.to_str().unwrap()]].concat());
            fs::read(&path).unwrap()
        });
        made.collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn damaged_volumes_never_panic(which in 0usize..4, near in prop::collection::vec((0usize..8192, any::<u8>()), 1..30), far in prop::collection::vec((0usize..5 << 20, any::<u8>()), 0..200)) {
        let mut bytes = volumes()[which].clone();
        near.into_iter().chain(far).for_each(|(at, byte)| bytes[at] = byte);
        recognise(&MemoryMedium::new(bytes, 512), 0, 5 << 20);
    }
}
