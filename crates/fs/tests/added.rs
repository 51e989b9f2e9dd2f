//! Files that are laid into a volume of FAT, judged by the system's own checker and by other tools that read it.

use crate::support::{image, noise, open, run};
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::process::Command;

#[rstest]
#[case::usual(64, &["-F", "32", "-s", "1"], 3)]
#[case::large_clusters(300, &["-F", "32", "-s", "8"], 3)]
#[case::middle(32, &["-F", "16"], 3)]
#[case::small(4, &["-F", "12"], 3)]
#[case::long_sectors(300, &["-F", "32", "-S", "4096"], 3)]
#[case::full_folders(64, &["-F", "32", "-s", "1"], 200)]
fn files_are_laid_in(#[case] mib: u64, #[case] format: &[&str], #[case] others: usize) {
    let (_kept, path) = image(mib);
    let (name, dir) = (path.to_str().unwrap(), tempfile::tempdir().unwrap());
    run(&[&["mkfs.fat"], format, &[name]].concat());
    run(&["mmd", "-i", name, "::/EFI", "::/EFI/debian"]);
    let other = dir.path().join("other");
    fs::write(&other, noise(3000, 5)).unwrap();
    let numbered: Vec<String> = (0..others).map(|number| format!("::/EFI/a name that is long {number}.txt")).collect();
    numbered.iter().for_each(|to| run(&["mcopy", "-i", name, other.to_str().unwrap(), to]));
    // A place that was given free is taken again.
    run(&["mdel", "-i", name, &numbered[1]]);
    let contents = [noise(1, 1), noise(200_000, 2), Vec::new(), noise(4096, 3), noise(9, 4), noise(10, 5), noise(11, 6)];
    let files = [
        "EFI/BOOT/BOOTX64.EFI",
        "/EFI/BOOT/GRUBX64.EFI",
        "EMPTY",
        "A/B/C.D",
        "EFI/Long folder of words/bootmgfw.efi.mui",
        "EFI/Long folder of words/bootmgfw.efi.txt",
        "EFI/Long folder of words/thirteen char",
    ];
    let volume = open(&path);
    let wanted: Vec<(&str, &[u8])> = files.iter().zip(&contents).map(|(path, content)| (*path, content.as_slice())).collect();
    let changes = volume.added(&wanted).unwrap_or_else(|finding| panic!("{}", finding.text));
    drop(volume);
    let file = File::options().write(true).open(&path).unwrap();
    changes.iter().for_each(|(at, bytes)| file.write_all_at(bytes, *at).unwrap());
    let checked = Command::new("fsck.fat").args(["-nv", name]).output().unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stdout));
    for (path, content) in files.iter().zip(&contents) {
        let to = dir.path().join("read");
        let _ = fs::remove_file(&to);
        run(&["mcopy", "-n", "-i", name, &format!("::/{}", path.trim_start_matches('/')), to.to_str().unwrap()]);
        assert!(fs::read(&to).unwrap() == *content, "{path}");
    }
    for from in numbered.iter().enumerate().filter(|(at, _)| *at != 1).map(|(_, from)| from) {
        let to = dir.path().join("read");
        let _ = fs::remove_file(&to);
        run(&["mcopy", "-n", "-i", name, from, to.to_str().unwrap()]);
        assert!(fs::read(&to).unwrap() == noise(3000, 5), "{from}");
    }
    let volume = open(&path);
    let twice = volume.added(&[("efi/boot/bootx64.efi", b"other")]).unwrap_err();
    assert!(twice.text.contains("there already"), "{}", twice.text);
    assert!(volume.added(&[("EFI/BOOT/BOOTX64.EFI/X", b"")]).unwrap_err().text.contains("no folder"));
    for wrong in ["a:b", "ends.", &"x".repeat(256)] {
        assert!(volume.added(&[(wrong, b"")]).unwrap_err().text.contains("no name"), "{wrong}");
    }
    assert!(volume.added(&[("LARGE", &noise((mib as usize + 1) << 20, 1))]).unwrap_err().text.contains("room"));
}

/// A volume made anew, over what was there before.
#[rstest]
#[case::usual(100 << 20, 512, 3)]
#[case::least(badger_fs::fat::make::least(512), 512, 3)]
#[case::long_sectors(300 << 20, 4096, 3)]
#[case::many(100 << 20, 512, 300)]
fn a_volume_is_made_with_files(#[case] len: u64, #[case] sector: u32, #[case] count: usize) {
    let (_kept, path) = image(len >> 20);
    let (name, dir) = (path.to_str().unwrap(), tempfile::tempdir().unwrap());
    let file = File::options().write(true).open(&path).unwrap();
    file.write_all_at(&noise(8 << 20, 9), 0).unwrap();
    file.write_all_at(&noise(1 << 20, 9), len - (1 << 20)).unwrap();
    let contents: Vec<Vec<u8>> = (0..count).map(|number| noise(number * 1000, number as u64)).collect();
    let paths: Vec<String> = (0..count).map(|number| format!("/EFI/Boot of something/file number {number}.efi")).collect();
    let files: Vec<(&str, &[u8])> = paths.iter().zip(&contents).map(|(path, content)| (path.as_str(), content.as_slice())).collect();
    let new = badger_fs::fat::make::New { sector, len, first: 2048, serial: 0x1234_5678, label: "SYSTEM" };
    let changes = badger_fs::fat::make::made(&new, &files).unwrap_or_else(|finding| panic!("{}", finding.text));
    changes.iter().for_each(|(at, bytes)| file.write_all_at(bytes, *at).unwrap());
    let checked = Command::new("fsck.fat").args(["-nv", name]).output().unwrap();
    let said = String::from_utf8_lossy(&checked.stdout);
    assert!(checked.status.success() && said.contains("32 bit entries") && !said.contains("differ"), "{said}");
    for (path, content) in paths.iter().zip(&contents) {
        let to = dir.path().join("read");
        let _ = fs::remove_file(&to);
        run(&["mcopy", "-n", "-i", name, &format!("::{path}"), to.to_str().unwrap()]);
        assert!(fs::read(&to).unwrap() == *content, "{path}");
    }
    let label = Command::new("blkid").args(["-o", "export", name]).output().unwrap();
    let label = String::from_utf8_lossy(&label.stdout).into_owned();
    assert!(label.contains("LABEL=SYSTEM") && label.contains("UUID=1234-5678"), "{label}");
    let small = badger_fs::fat::make::New { len: badger_fs::fat::make::least(sector) - (2 << 20), ..new };
    assert!(badger_fs::fat::make::made(&small, &[]).unwrap_err().text.contains("too little"));
    assert!(badger_fs::fat::make::made(&new, &[("LARGE", &noise(len as usize, 1))]).unwrap_err().text.contains("room"));
}

#[test]
fn a_volume_in_use_is_left_alone() {
    let (_kept, path) = image(64);
    run(&["mkfs.fat", "-F", "32", path.to_str().unwrap()]);
    File::options().write(true).open(&path).unwrap().write_all_at(&[1], 65).unwrap();
    assert!(open(&path).added(&[("FILE", b"text")]).unwrap_err().text.contains("still writes"));
}
