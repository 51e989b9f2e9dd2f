//! What is left of former volumes, and files whose places end before they do.

use badger_drive::{Source, Workshop};
use badger_fs::tree::{self, Tree};
use badger_fs::{Kind, recognise};
use rstest::rstest;
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

const MIB: u64 = 1 << 20;

fn tool(command: &str, args: &[&str], path: &Path) {
    let out = Command::new(command).args(args).arg(path).stdin(Stdio::null()).output().unwrap();
    assert!(out.status.success(), "{command}: {}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
}

fn volume(dir: &Path, mib: u64) -> PathBuf {
    let path = dir.join("volume.img");
    File::create(&path).unwrap().set_len(mib * MIB).unwrap();
    path
}

fn source(path: &Path) -> Source {
    Workshop::default().source(path).unwrap()
}

/// A volume of another format, or something locked, is made over an old one, of which the copies of the super block stay.
#[rstest]
#[case::btrfs(Kind::Btrfs, |path: &Path| tool("mkfs.btrfs", &["-q", "-f"], path))]
#[case::xfs(Kind::Xfs, |path: &Path| tool("mkfs.xfs", &["-q", "-f"], path))]
#[case::swap(Kind::Swap, |path: &Path| tool("mkswap", &["-q"], path))]
#[case::fat(Kind::Fat32, |path: &Path| tool("mkfs.fat", &["-F", "32"], path))]
#[case::ntfs(Kind::Ntfs, |path: &Path| tool("mkntfs", &["-q", "-Q", "-F"], path))]
#[case::exfat(Kind::ExFat, |path: &Path| tool("mkfs.exfat", &[], path))]
#[case::locked(Kind::Luks, |path: &Path| {
    let mut locked = Command::new("cryptsetup");
    locked.args(["luksFormat", "-q", "--type", "luks2", "--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000"]).arg(path).stdin(Stdio::piped());
    let mut locked = locked.spawn().unwrap();
    locked.stdin.take().unwrap().write_all(b"otter").unwrap();
    assert!(locked.wait().unwrap().success());
})]
fn a_former_volume_is_not_taken_for_the_one_in_use(#[case] kind: Kind, #[case] over: fn(&Path)) {
    let dir = tempfile::tempdir().unwrap();
    let path = volume(dir.path(), 400);
    tool("mkfs.ext4", &["-q", "-F", "-b", "1024"], &path);
    over(&path);
    let drive = source(&path);
    let found = recognise::recognise(&*drive, 0, 400 * MIB).unwrap();
    assert_eq!(found.kind, kind, "{found:?}");
    assert!(!found.copied && found.others.is_empty(), "{found:?}");
}

/// Only a copy is left: it is a hint, and nothing of the place may be left out for it.
#[test]
fn a_copy_alone_is_a_hint() {
    let dir = tempfile::tempdir().unwrap();
    let path = volume(dir.path(), 400);
    tool("mkfs.ext4", &["-q", "-F", "-b", "1024"], &path);
    OpenOptions::new().write(true).open(&path).unwrap().write_all_at(&[0x5a; 64 << 10], 0).unwrap();
    let found = recognise::recognise(&*source(&path), 0, 400 * MIB).unwrap();
    assert!(found.kind == Kind::Ext4 && found.copied && found.doubt().unwrap().contains("former volume"), "{found:?}");
}

/// A volume with the first structures of two formats: one format is shown, and the other is named as a doubt.
#[test]
fn two_formats_in_one_place_are_both_named() {
    let dir = tempfile::tempdir().unwrap();
    let (path, other) = (volume(dir.path(), 400), dir.path().join("other.img"));
    tool("mkfs.ext4", &["-q", "-F"], &path);
    File::create(&other).unwrap().set_len(400 * MIB).unwrap();
    tool("mkfs.xfs", &["-q", "-f"], &other);
    // The first sector of another format, in front of a super block that is whole.
    let mut first = [0; 512];
    File::open(&other).unwrap().read_exact_at(&mut first, 0).unwrap();
    OpenOptions::new().write(true).open(&path).unwrap().write_all_at(&first, 0).unwrap();
    let found = recognise::recognise(&*source(&path), 0, 400 * MIB).unwrap();
    assert!(found.doubt().is_some() && found.others.len() == 1, "{found:?}");
}

/// What stands in a file up to a byte, and what reading behind it brings.
fn torn(tree: &dyn Tree, path: &str, whole: u64) {
    let (node, _) = tree::find_named(tree, path).unwrap();
    let content = tree.open(&node, "").unwrap();
    let mut bytes = vec![0; content.size() as usize];
    assert!(content.read(0, &mut bytes[..whole as usize]).is_ok());
    assert!(bytes[..whole as usize].iter().all(|byte| *byte == 7), "what is there is read");
    assert!(content.read(0, &mut bytes).is_err(), "what is not there is no zeroes");
    let mut lost = Vec::new();
    let (mut at, end) = (0, content.size());
    while at < end {
        at += content.read_hard(at, &mut bytes, &mut lost) as u64;
    }
    assert!(lost.iter().map(|(_, len)| len).sum::<u64>() == end - whole && lost[0].0 == whole, "{lost:?} of {end}");
    assert_eq!(content.hole(whole), 0, "nobody knows that it is empty");
}

/// A file of 64 KiB of sevens on a FAT volume, by `mtools`.
fn on_fat(dir: &Path, bits: &str) -> PathBuf {
    let (path, file) = (volume(dir, 64), dir.join("scores.bin"));
    fs::write(&file, vec![7; 64 << 10]).unwrap();
    tool("mkfs.fat", &["-F", bits, "-s", "1"], &path);
    let out = Command::new("mcopy").arg("-i").arg(&path).arg(&file).arg("::scores.bin").output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    path
}

#[rstest]
#[case::comes_back_to_its_beginning(9, 2)]
#[case::comes_back_to_itself(9, 9)]
#[case::ends_early(9, 0x0fff_ffff)]
#[case::leads_nowhere(9, 0x0f00_0000)]
#[case::leads_to_a_free_cluster(9, 0)]
fn a_chain_of_fat_gives_what_is_sound_and_no_more(#[case] link: u64, #[case] to: u32) {
    let dir = tempfile::tempdir().unwrap();
    let path = on_fat(dir.path(), "32");
    let file = OpenOptions::new().read(true).write(true).open(&path).unwrap();
    let mut boot = [0; 512];
    file.read_exact_at(&mut boot, 0).unwrap();
    let (reserved, per, len) =
        (u64::from(u16::from_le_bytes([boot[14], boot[15]])), u64::from(boot[13]), u32::from_le_bytes(boot[36..40].try_into().unwrap()));
    // The file begins at the first cluster behind the root's.
    let first = 3u32;
    let to = if to == 2 {
        first
    } else if to == 9 {
        first + link as u32
    } else {
        to
    };
    for table in 0..2 {
        let at = (reserved + table * u64::from(len)) * 512 + (u64::from(first) + link) * 4;
        file.write_all_at(&to.to_le_bytes(), at).unwrap();
    }
    let drive = source(&path);
    torn(&*badger_fs::open(&drive, 0, 64 * MIB).unwrap(), "scores.bin", (link + 1) * per * 512);
}

/// The run list of a file on NTFS that ends at once, or leads in front of the volume.
#[rstest]
#[case::ends(|runs: &mut [u8]| runs[0] = 0)]
#[case::begins_in_front_of_the_volume(|runs: &mut [u8]| {
    let (len, jump) = (usize::from(runs[0] & 15), usize::from(runs[0] >> 4));
    runs[len + jump] = 0x80;
})]
fn a_run_list_that_is_cut_off_is_no_zeroes(#[case] damage: fn(&mut [u8])) {
    let dir = tempfile::tempdir().unwrap();
    let (path, mnt) = (volume(dir.path(), 64), dir.path().join("mnt"));
    tool("mkntfs", &["-q", "-F"], &path);
    fs::create_dir(&mnt).unwrap();
    assert!(Command::new("ntfs-3g").arg(&path).arg(&mnt).status().unwrap().success());
    fs::write(mnt.join("scores.bin"), vec![7; 64 << 10]).unwrap();
    assert!(Command::new("umount").arg(&mnt).status().unwrap().success());
    let mut bytes = fs::read(&path).unwrap();
    let name: Vec<u8> = "scores.bin".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let records = (0..bytes.len()).step_by(1024).filter(|at| bytes[*at..].starts_with(b"FILE"));
    let record = records.into_iter().find(|at| bytes[*at..*at + 1024].windows(name.len()).any(|part| part == name)).unwrap();
    let mut at = record + usize::from(u16::from_le_bytes([bytes[record + 20], bytes[record + 21]]));
    while bytes[at] != 0x80 {
        at += u32::from_le_bytes(bytes[at + 4..at + 8].try_into().unwrap()) as usize;
    }
    let runs = at + usize::from(u16::from_le_bytes([bytes[at + 32], bytes[at + 33]]));
    damage(&mut bytes[runs..runs + 16]);
    fs::write(&path, bytes).unwrap();
    let drive = source(&path);
    torn(&*badger_fs::open(&drive, 0, 64 * MIB).unwrap(), "scores.bin", 0);
}

/// A subvolume that lies in what was kept as it was: its place is an empty folder there, as its system shows it.
#[test]
fn a_snapshot_shows_no_files_of_today() {
    let dir = tempfile::tempdir().unwrap();
    let (path, mnt) = (volume(dir.path(), 200), dir.path().join("mnt"));
    tool("mkfs.btrfs", &["-q", "-f"], &path);
    fs::create_dir(&mnt).unwrap();
    let run = |args: &[&str]| {
        assert!(Command::new(args[0]).args(&args[1..]).current_dir(dir.path()).stdout(Stdio::null()).status().unwrap().success(), "{args:?}")
    };
    run(&["mount", "-o", "loop", path.to_str().unwrap(), "mnt"]);
    run(&["btrfs", "subvolume", "create", "mnt/counts"]);
    run(&["btrfs", "subvolume", "create", "mnt/counts/weir"]);
    run(&["btrfs", "subvolume", "snapshot", "-r", "mnt/counts", "mnt/yesterday"]);
    fs::write(mnt.join("counts/weir/today.csv"), "12").unwrap();
    fs::write(mnt.join("counts/list.csv"), "3").unwrap();
    let shown = fs::read_dir(mnt.join("yesterday/weir")).unwrap().count();
    run(&["umount", "mnt"]);
    let drive = source(&path);
    let tree = badger_fs::files(&drive, 0, 200 * MIB).unwrap();
    let names = |at: &str| {
        let (node, _) = tree::find_named(&*tree, at).unwrap();
        let listing = tree.list(&node);
        assert!(listing.findings.is_empty(), "{:?}", listing.findings);
        listing.entries.iter().map(|entry| entry.name.shown.clone()).collect::<Vec<_>>()
    };
    assert_eq!(names("yesterday/weir").len(), shown);
    assert_eq!((names("yesterday"), names("counts/weir")), (vec!["weir".to_string()], vec!["today.csv".to_string()]));
}
