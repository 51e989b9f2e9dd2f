//! A real system disk, cloned as it is, kept in an image and put back squeezed to two thirds, stretched to double, starts in a
//! virtual machine under the firmware it had.

use crate::support::{Place, path, started, system_disk, text, tool};
use std::collections::VecDeque;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::thread::ScopedJoinHandle;

fn starts(disk: &Path, firmware: &str, bus: &str) {
    let (up, console) = started(disk, firmware, bus);
    assert!(up, "{firmware}: {console}");
}

/// A volume of XFS with another identifier, as its own tools give it one.
fn renamed(disk: &Path, start: u64) {
    let device = crate::support::Loop::over(disk, &["--offset", &start.to_string()]);
    tool(&["xfs_admin", "-U", "generate", device.path()]);
}

#[test]
fn a_cloned_system_disk_starts_under_both_firmwares() {
    let place = Place::new();
    let made = |name: &str, options: &[&str]| system_disk(&place, name, &[&["--size", "1G"], options].concat());
    let cloned = |disk: &Path, name: &str, size: &str, more: &[&str]| {
        let target = place.path(name);
        let (code, report) = place.json(&[&["clone", path(disk), path(&target), "--new-size", size, "--confirm", "rget"], more].concat());
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        target
    };
    // Two machines at a time, and the next clone is made while they start.
    std::thread::scope(|scope| {
        let mut machines = VecDeque::new();
        let mut start = |disks: Vec<(PathBuf, &'static str, &'static str)>| {
            if machines.len() == 2 {
                let oldest: ScopedJoinHandle<()> = machines.pop_front().unwrap();
                oldest.join().unwrap();
            }
            machines.push_back(scope.spawn(move || disks.iter().for_each(|(disk, firmware, bus)| starts(disk, firmware, bus))));
        };
        let gpt = made("gpt.img", &["--table", "gpt"]);
        let larger = cloned(&gpt, "as-it-is-target.img", "1536MiB", &[]);
        assert!(text(&tool(&["sgdisk", "-v", path(&larger)]).stdout).contains("No problems found"));
        start(vec![(larger, "bios", "sata")]);
        // By way of an image that holds only what is in use, put back onto a smaller drive.
        let image = place.path("gpt.zbi");
        let (code, report) = place.json(&["image", path(&gpt), path(&image), "--used"]);
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        let squeezed = place.path("squeezed-target.img");
        let (code, report) = place.json(&["restore", path(&image), path(&squeezed), "--new-size", "683MiB", "--confirm", "rget", "--fit", "auto"]);
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        start(vec![(squeezed.clone(), "uefi", "nvme"), (squeezed, "bios", "sata")]);
        let stretched = cloned(&gpt, "stretched-target.img", "2GiB", &["--fit", "auto"]);
        start(vec![(stretched, "uefi", "nvme")]);
        let mbr = made("mbr.img", &["--table", "mbr"]);
        start(vec![(cloned(&mbr, "mbr-squeezed-target.img", "683MiB", &["--fit", "auto"]), "bios", "sata")]);
        // Its boot code is gone and its core image broken: both are put back out of what its loader keeps.
        let broken = cloned(&mbr, "mbr-stretched-target.img", "2GiB", &["--fit", "auto"]);
        let file = std::fs::OpenOptions::new().write(true).open(&broken).unwrap();
        file.write_all_at(&[0; 440], 0).unwrap();
        file.write_all_at(&[0x5a; 20 << 10], 20 << 10).unwrap();
        drop(file);
        let (_, mended) = place.json(&["mend", path(&broken), "--confirm", "rget"]);
        assert_eq!(mended["outcome"], "mended", "{mended}");
        assert!(mended["proof"].as_array().unwrap().iter().all(|line| line["result"] == "holds"), "{mended}");
        start(vec![(broken, "bios", "sata")]);
        // A root on btrfs, in a subvolume, is cloned as it is.
        let btrfs = made("btrfs.img", &["--table", "gpt", "--root", "btrfs", "--subvolume", "@"]);
        start(vec![(cloned(&btrfs, "btrfs-target.img", "1GiB", &[]), "bios", "sata")]);
        // A root on XFS got another identifier: what names it is set right, on XFS itself too.
        let xfs = made("xfs.img", &["--table", "gpt", "--firmware", "uefi", "--root", "xfs"]);
        let other = cloned(&xfs, "xfs-target.img", "1GiB", &[]);
        renamed(&other, *crate::support::starts(&other).last().unwrap());
        let (_, broken) = place.json(&["check", path(&other)]);
        assert!(broken["proof"].to_string().contains("fails"), "{broken}");
        let (_, mended) = place.json(&["mend", path(&other), "--confirm", "rget"]);
        assert_eq!(mended["outcome"], "mended", "{mended}");
        assert!(mended["proof"].as_array().unwrap().iter().all(|line| line["result"] == "holds"), "{mended}");
        start(vec![(other, "uefi", "nvme")]);
    });
}
