//! What may become a target and what may not, on files and loop devices.

use crate::support::{Loop, file, refused, source};
use badger_drive::{Release, Workshop};
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use std::process::Command;

#[test]
fn only_the_tail_releases() {
    let dir = tempfile::tempdir().unwrap();
    let (from, to) = (source(&file(&dir, "weir.img", 4)), file(&dir, "target-0f2a.img", 4));
    for (tail, code) in
        [("", "no-tail"), ("  ", "no-tail"), ("0f2", "wrong-tail"), ("0f2b", "wrong-tail"), ("yes", "wrong-tail"), ("0F2A", "released")]
    {
        assert_eq!(refused(&from, &to, tail), code, "{tail}");
    }
}

#[test]
fn the_same_drive_is_found_out_behind_any_disguise() {
    let dir = tempfile::tempdir().unwrap();
    let path = file(&dir, "weir.img", 8);
    let link = dir.path().join("link.img");
    symlink(&path, &link).unwrap();
    let hard = dir.path().join("hard.img");
    fs::hard_link(&path, &hard).unwrap();
    let looped = Loop::over(&path, &[]);
    let part = Loop::over(&path, &["--offset", "1048576"]);
    assert_eq!(refused(&source(&path), &link, "link"), "same-drive");
    assert_eq!(refused(&source(&path), &hard, "hard"), "same-drive");
    let tail = |path: &Path| Workshop::default().candidate(path, None, 512).unwrap().tail();
    assert_eq!(refused(&source(&path), &looped.0, &tail(&looped.0)), "target-on-source");
    assert_eq!(refused(&source(&looped.0), &path, "weir"), "source-on-target");
    assert_eq!(refused(&source(&part.0), &path, "weir"), "source-on-target");
    let toml = "backing = \"weir.img\"\n[identity]\nmodel = \"Tamarack T250\"\nserial = \"TM25-0091-7F3C\"\nbus = \"sata\"\n";
    let drive = dir.path().join("t250.drive.toml");
    fs::write(&drive, toml).unwrap();
    assert_eq!(refused(&source(&path), &drive, "7F3C"), "same-drive");
}

#[test]
fn a_source_file_that_lies_on_the_target_is_found_out() {
    let dir = tempfile::tempdir().unwrap();
    let disk = file(&dir, "disk.img", 64);
    assert!(Command::new("mke2fs").args(["-q", "-F"]).arg(&disk).status().unwrap().success());
    let looped = Loop::over(&disk, &[]);
    let place = dir.path().join("mnt");
    fs::create_dir(&place).unwrap();
    assert!(Command::new("mount").arg(&looped.0).arg(&place).status().unwrap().success());
    let inner = place.join("inner.img");
    File::create(&inner).unwrap().set_len(1 << 20).unwrap();
    let tail = Workshop::default().candidate(&looped.0, None, 512).unwrap().tail();
    let (on_target, mounted) = (refused(&source(&inner), &looped.0, &tail), refused(&source(&file(&dir, "other.img", 1)), &looped.0, &tail));
    let on_source = refused(&source(&looped.0), &inner, "nner");
    assert!(Command::new("umount").arg(&place).status().unwrap().success());
    assert_eq!((on_target, mounted, on_source), ("source-on-target", "target-mounted", "target-on-source"));
}

#[test]
fn a_target_that_cannot_or_must_not_be_written_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "weir.img", 8));
    let small = file(&dir, "small.img", 7);
    assert_eq!(refused(&from, &small, "mall"), "target-too-small");
    let locked = file(&dir, "locked.img", 8);
    fs::set_permissions(&locked, fs::Permissions::from_mode(0o444)).unwrap();
    assert_eq!(refused(&from, &locked, "cked"), "target-read-only");
    let backing = file(&dir, "backing.img", 8);
    let read_only = Loop::over(&backing, &["--read-only"]);
    let tail = Workshop::default().candidate(&read_only.0, None, 512).unwrap().tail();
    assert_eq!(refused(&from, &read_only.0, &tail), "target-read-only");
    assert_eq!(refused(&from, dir.path(), "x"), "is-directory");
    assert_eq!(refused(&from, Path::new("/dev/null"), "null"), "is-pipe");
    assert_eq!(refused(&from, &dir.path().join("nowhere.img"), "here"), "not-found");
}

#[test]
fn a_claimed_target_is_refused_until_it_is_let_go() {
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "weir.img", 1));
    let to = file(&dir, "slate.img", 1);
    let held = Workshop::default().candidate(&to, None, 512).unwrap().release(&Release::new(&from, 0, "late")).unwrap();
    assert_eq!(refused(&from, &to, "late"), "target-claimed");
    drop(held);
    // A child that another test starts at this very moment shares the claim until it runs its own program.
    let mut last = "";
    for _ in 0..50 {
        last = refused(&from, &to, "late");
        if last == "released" {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    assert_eq!(last, "released");
}

#[rstest]
#[case::empty("empty", "empty")]
#[case::directory("dir", "is-directory")]
#[case::pipe("pipe", "is-pipe")]
#[case::missing("missing", "not-found")]
fn what_is_no_source(#[case] name: &str, #[case] code: &str) {
    let dir = tempfile::tempdir().unwrap();
    File::create(dir.path().join("empty")).unwrap();
    fs::create_dir(dir.path().join("dir")).unwrap();
    assert!(Command::new("mkfifo").arg(dir.path().join("pipe")).status().unwrap().success());
    assert_eq!(Workshop::default().source(&dir.path().join(name)).err().unwrap().code, code);
}

#[test]
fn a_new_file_comes_into_being_only_at_the_release() {
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "weir.img", 4));
    let to = dir.path().join("fresh.img");
    let workshop = Workshop::default();
    let candidate = |size| workshop.candidate(&to, Some(size), 512);
    assert_eq!(candidate(4 << 20).unwrap().release(&Release::new(&from, 4 << 20, "wrong")).err().unwrap().code, "wrong-tail");
    assert_eq!(candidate(3 << 20).unwrap().release(&Release::new(&from, 4 << 20, "resh")).err().unwrap().code, "target-too-small");
    assert!(!to.exists());
    drop(candidate(4 << 20).unwrap().release(&Release::new(&from, 4 << 20, "resh")).unwrap());
    assert_eq!(fs::metadata(&to).unwrap().len(), 4 << 20);
    assert!(candidate(4 << 20).is_ok());
    assert_eq!(candidate(5 << 20).err().unwrap().code, "new-size-differs");
}

#[test]
fn a_loop_device_is_a_drive_with_its_own_sectors() {
    let dir = tempfile::tempdir().unwrap();
    let looped = Loop::over(&file(&dir, "four-k.img", 16), &["--sector-size", "4096"]);
    let drive = source(&looped.0);
    assert_eq!(drive.geometry().logical_sector, 4096);
    assert!(Workshop::default().drives().iter().any(|found| found.identity.path == looped.0));
}

#[rstest]
#[case::root("proc/self/mountinfo", "22 1 7:NN / / rw - ext4 /dev/root rw", "system-drive")]
#[case::boot("proc/self/mountinfo", "22 1 7:NN / /boot/efi rw - vfat /dev/x rw", "system-drive")]
#[case::elsewhere("proc/self/mountinfo", "22 1 7:NN / /media/x rw - ext4 /dev/x rw", "target-mounted")]
#[case::mapped("sys/block/loop/holders/dm-3/size", "1", "target-held")]
#[case::nobody("proc/swaps", "Filename", "released")]
fn a_disk_that_a_recorded_machine_uses_is_refused(#[case] file_name: &str, #[case] content: &str, #[case] code: &str) {
    use badger_drive::Sysfs;
    use std::os::unix::fs::MetadataExt;
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "weir.img", 4));
    let looped = Loop::over(&file(&dir, "disk.img", 8), &[]);
    let minor = (fs::metadata(&looped.0).unwrap().rdev() & 0xff).to_string();
    // The tree of an imagined machine that knows this loop device as its own disk.
    let root = dir.path().join("machine");
    let device = root.join("sys/block/loop");
    fs::create_dir_all(&device).unwrap();
    fs::create_dir_all(root.join("sys/dev/block")).unwrap();
    symlink("../../block/loop", root.join(format!("sys/dev/block/7:{minor}"))).unwrap();
    fs::write(device.join("dev"), format!("7:{minor}")).unwrap();
    fs::write(device.join("size"), "16384").unwrap();
    let place = root.join(file_name);
    fs::create_dir_all(place.parent().unwrap()).unwrap();
    fs::write(place, content.replace("NN", &minor)).unwrap();
    let workshop = Workshop { sysfs: Sysfs::at(&root), ..Workshop::default() };
    let candidate = workshop.candidate(&looped.0, None, 512).unwrap();
    let tail = candidate.tail();
    assert_eq!(candidate.release(&Release::new(&from, 0, &tail)).err().map_or("released", |refusal| refusal.code), code);
}

#[test]
fn a_partition_beside_the_systems_own_is_refused() {
    use badger_drive::Sysfs;
    use std::os::unix::fs::MetadataExt;
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "weir.img", 4));
    let looped = Loop::over(&file(&dir, "part.img", 8), &[]);
    let minor = fs::metadata(&looped.0).unwrap().rdev() & 0xff;
    // An imagined machine on whose disk 8:0 the root is partition 2 and this loop device partition 3.
    let root = dir.path().join("machine");
    fs::create_dir_all(root.join("sys/dev/block")).unwrap();
    fs::create_dir_all(root.join("proc/self")).unwrap();
    for (name, numbers, link) in
        [("sda", "8:0".to_string(), "sda"), ("sda/sda2", "8:2".into(), "sda/sda2"), ("sda/sda3", format!("7:{minor}"), "sda/sda3")]
    {
        let device = root.join("sys/block").join(name);
        fs::create_dir_all(&device).unwrap();
        fs::write(device.join("dev"), &numbers).unwrap();
        fs::write(device.join("size"), "16384").unwrap();
        if name != "sda" {
            fs::write(device.join("partition"), "1").unwrap();
        }
        symlink(format!("../../block/{link}"), root.join(format!("sys/dev/block/{numbers}"))).unwrap();
    }
    fs::write(root.join("proc/self/mountinfo"), "22 1 8:2 / / rw - ext4 /dev/sda2 rw").unwrap();
    let candidate = Workshop { sysfs: Sysfs::at(&root), ..Workshop::default() }.candidate(&looped.0, None, 512).unwrap();
    let tail = candidate.tail();
    assert_eq!(candidate.release(&Release::new(&from, 0, &tail)).err().unwrap().code, "system-drive");
}

#[test]
fn a_file_that_is_mounted_by_another_way_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "weir.img", 4));
    let disk = file(&dir, "disk.img", 64);
    assert!(Command::new("mke2fs").args(["-q", "-F"]).arg(&disk).status().unwrap().success());
    let (mounted, other) = (Loop::over(&disk, &[]), Loop::over(&disk, &[]));
    let place = dir.path().join("mnt");
    fs::create_dir(&place).unwrap();
    let tail = Workshop::default().candidate(&other.0, None, 512).unwrap().tail();
    assert!(Command::new("mount").args(["-o", "ro"]).arg(&mounted.0).arg(&place).status().unwrap().success());
    let codes = (refused(&from, &disk, "disk"), refused(&from, &other.0, &tail));
    assert!(Command::new("umount").arg(&place).status().unwrap().success());
    assert_eq!(codes, ("target-mounted", "target-mounted"));
    assert_eq!(refused(&from, &other.0, &tail), "target-held");
    drop(mounted);
    assert_eq!(refused(&from, &other.0, &tail), "released");
}
