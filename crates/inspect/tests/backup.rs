//! The folder of an operating system's own backup, built as such folders are laid out, with disks made by the system's tools.

use badger_drive::Workshop;
use badger_fs::tree::find;
use badger_inspect::{BACKUPS, Looked};
use rstest::rstest;
use std::fs;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use tempfile::{TempDir, tempdir};

const MIB: u64 = 1 << 20;

fn run(program: &str, args: &[&str]) {
    let out = Command::new(program).args(args).output().unwrap();
    assert!(out.status.success(), "{program} {args:?}: {}", String::from_utf8_lossy(&out.stderr));
}

fn path(path: &Path) -> &str {
    path.to_str().unwrap()
}

/// A virtual disk with one partition that begins at `start` and holds a volume with one file.
fn disk(dir: &TempDir, folder: &Path, name: &str, start: u64, format: &str) {
    let (raw, volume, letter) = (dir.path().join("raw"), dir.path().join("volume"), dir.path().join("letter.txt"));
    fs::write(&letter, format!("lies in {name}")).unwrap();
    let _ = fs::remove_file(&volume);
    fs::File::create(&volume).unwrap().set_len(20 * MIB).unwrap();
    run("mkfs.vfat", &["-F", "16", path(&volume)]);
    run("mcopy", &["-i", path(&volume), path(&letter), "::letter.txt"]);
    let file = fs::File::create(&raw).unwrap();
    file.set_len(start + 30 * MIB).unwrap();
    let mut child = Command::new("sfdisk").arg("-q").arg(&raw).stdin(Stdio::piped()).spawn().unwrap();
    let script = format!("label: dos\nstart={}, size={}, type=7\n", start / 512, 20 * MIB / 512);
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), script.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    file.write_all_at(&fs::read(&volume).unwrap(), start).unwrap();
    let ending = if format == "vpc" { "vhd" } else { "vhdx" };
    run("qemu-img", &["convert", "-q", "-f", "raw", "-O", format, path(&raw), path(&folder.join(format!("{name}.{ending}")))]);
}

fn folder(dir: &TempDir) -> PathBuf {
    let folder = dir.path().join("weir-pc/Backup 2026-05-01 100000");
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("catalogue.xml"), "<Backup/>").unwrap();
    folder
}

fn workshop() -> Workshop {
    Workshop { more: &[BACKUPS, badger_image::CONTAINERS], ..Workshop::default() }
}

#[rstest]
#[case::where_they_lay([MIB, 40 * MIB], [MIB, 40 * MIB])]
#[case::one_behind_the_other([MIB, MIB], [MIB, 21 * MIB])]
fn a_folder_with_virtual_disks_is_one_drive(#[case] starts: [u64; 2], #[case] placed: [u64; 2], #[values("vhdx", "vpc")] format: &str) {
    let dir = tempdir().unwrap();
    let inner = folder(&dir);
    for (name, start) in ["esp", "system"].into_iter().zip(starts) {
        disk(&dir, &inner, name, start, format);
    }
    let drive = workshop().source(&dir.path().join("weir-pc")).unwrap();
    let looked = Looked::at(&drive);
    assert!(looked.table.is_sound(), "{:?}", looked.table.problems);
    let found: Vec<u64> = looked.table.partitions.iter().map(|partition| looked.table.place(partition).0).collect();
    assert_eq!(found, placed);
    for (partition, name) in looked.table.partitions.iter().zip(["esp", "system"]) {
        let (start, len) = looked.table.place(partition);
        let volume = badger_fs::open(&drive, start, len).unwrap();
        let mut text = vec![0; 100];
        let count = volume.read(&find(&*volume, "letter.txt").unwrap(), 0, &mut text).unwrap();
        assert_eq!(String::from_utf8_lossy(&text[..count]), format!("lies in {name}"));
    }
    // Its own tool finds nothing wrong with the table that was made.
    let whole = dir.path().join("whole.img");
    let mut bytes = vec![0; drive.geometry().size_bytes as usize];
    drive.read_at(0, &mut bytes).unwrap();
    fs::write(&whole, &bytes).unwrap();
    let said = Command::new("sgdisk").args(["-v", path(&whole)]).output().unwrap();
    assert!(String::from_utf8_lossy(&said.stdout).contains("No problems found"), "{}", String::from_utf8_lossy(&said.stdout));
    // What is said to be zero is.
    let mut at = 0;
    while at < bytes.len() as u64 {
        let known = drive.stretch(at, u64::MAX);
        assert!(known.len > 0);
        let part = &bytes[at as usize..(at + known.len) as usize];
        assert!(known.holds != badger_drive::Holds::Zero || part.iter().all(|byte| *byte == 0));
        at += known.len;
    }
    assert_eq!(workshop().candidate(&dir.path().join("weir-pc"), None, 512).err().unwrap().code, "target-unusable");
}

#[test]
fn other_folders_are_folders_and_a_damaged_disk_is_named() {
    let dir = tempdir().unwrap();
    assert_eq!(workshop().source(dir.path()).err().unwrap().code, "is-directory");
    let inner = folder(&dir);
    disk(&dir, &inner, "system", MIB, "vhdx");
    let disk = inner.join("system.vhdx");
    let bytes = fs::read(&disk).unwrap();
    fs::write(&disk, &bytes[..100_000]).unwrap();
    let refusal = workshop().source(&inner).err().unwrap();
    assert!(refusal.code == "not-readable" && refusal.text.contains("system.vhdx"), "{}", refusal.text);
    fs::write(&disk, &bytes).unwrap();
    assert!(workshop().source(&inner).is_ok());
    // Without a catalogue it is a folder with virtual disks in it, each a drive by itself.
    fs::remove_file(inner.join("catalogue.xml")).unwrap();
    assert_eq!(workshop().source(&inner).err().unwrap().code, "is-directory");
}
