//! Clones onto disks of another size, sector or table on the command line: made by the system's tools, judged by its
//! checkers, read by its drivers.

use crate::support::{Loop, MIB, Mount, Place, path, text, tool};
use rstest::rstest;
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

/// Where the partitions of [`disk`] begin and how long they are, in MiB.
const PARTS: [(u64, u64, &str); 4] = [
    (1, 40, "C12A7328-F81F-11D2-BA4B-00A0C93EC93B"),
    (41, 60, "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"),
    (101, 50, "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"),
    (151, 80, "0FC63DAF-8483-4772-8E79-3D69D8477DE4"),
];
const SIZE: u64 = 240 * MIB;

fn table(image: &Path, script: &str) {
    let mut child =
        Command::new("sfdisk").args(["-q", "--wipe", "never", "--wipe-partitions", "never", path(image)]).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.as_mut().unwrap().write_all(script.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
}

/// Sheets and recordings, 8 MB in all.
fn people(place: &Place) -> PathBuf {
    let data = place.path("data");
    for number in 0..40u64 {
        let dir = data.join(format!("Oda/Recordings {}", number % 5));
        fs::create_dir_all(&dir).unwrap();
        let noise = fs::read(place.noise("noise", number * 10_000 / 8 * 8, number + 1)).unwrap();
        fs::write(dir.join(format!("rehearsal {number}.wav")), noise).unwrap();
    }
    data
}

/// How each partition's file system is mounted by the system.
fn driver(number: usize) -> &'static [&'static str] {
    [&["true"][..], &["ntfs-3g"], &["mount.exfat-fuse"], &["mount"]][number]
}

/// A disk with a FAT32, an NTFS, an exFAT and an ext4 volume, each with the same files.
fn disk(place: &Place) -> PathBuf {
    let image = place.sparse("office.img", SIZE);
    let lines: Vec<String> = PARTS.iter().map(|(start, len, kind)| format!("start={start}MiB,size={len}MiB,type={kind}")).collect();
    table(&image, &format!("label: gpt\n{}\n", lines.join("\n")));
    let data = people(place);
    for (number, (start, len, _)) in PARTS.iter().enumerate() {
        let part = Loop::part(&image, start * 2048, len * 2048);
        let hidden = (start * 2048).to_string();
        match number {
            0 => drop(tool(&["mkfs.fat", "-F", "32", "-s", "1", "-h", &hidden, part.path()])),
            1 => drop(tool(&["mkntfs", "-q", "-F", "-Q", "-p", &hidden, part.path()])),
            2 => drop(tool(&["mkfs.exfat", "-c", "4K", part.path()])),
            _ => drop(tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", "-d", path(&data), part.path()])),
        }
        if number == 0 {
            tool(&["mcopy", "-s", "-i", part.path(), path(&data.join("Oda")), "::/"]);
        } else if number < 3 {
            let mount = Mount::of(driver(number), part.path(), place.path("mnt"));
            tool(&["cp", "-r", path(&data.join("Oda")), path(&mount.0)]);
        }
    }
    image
}

/// Every partition by number and place, as the system's own tool sees them.
fn seen(image: &Path) -> Vec<(u64, u64, u64)> {
    let out: serde_json::Value = serde_json::from_slice(&tool(&["sfdisk", "-J", path(image)]).stdout).unwrap();
    let unit = out["partitiontable"]["sectorsize"].as_u64().unwrap_or(512);
    let list = out["partitiontable"]["partitions"].as_array().unwrap().clone();
    let number = |node: &str| node.rsplit(|c: char| !c.is_ascii_digit()).next().unwrap().parse().unwrap();
    list.iter()
        .map(|one| (number(one["node"].as_str().unwrap()), one["start"].as_u64().unwrap() * unit, one["size"].as_u64().unwrap() * unit))
        .collect()
}

/// Has the volumes judged, and every file of them compared through the system's own drivers. `kinds` are those of [`disk`].
fn judge(place: &Place, image: &Path, kinds: &[usize]) {
    tool(&["sfdisk", "--verify", path(image)]);
    let parts = seen(image);
    assert_eq!(parts.len(), kinds.len());
    for ((_, start, len), kind) in parts.into_iter().zip(kinds) {
        let part = Loop::over(image, &["--offset", &start.to_string(), "--sizelimit", &len.to_string()]);
        match kind {
            0 => drop(tool(&["fsck.fat", "-n", part.path()])),
            1 => drop(tool(&["ntfsfix", "-n", part.path()])),
            2 => drop(tool(&["fsck.exfat", "-n", part.path()])),
            _ => drop(tool(&["e2fsck", "-fn", part.path()])),
        }
        let copied = place.path("copied");
        let _ = fs::remove_dir_all(&copied);
        fs::create_dir(&copied).unwrap();
        if *kind == 0 {
            tool(&["mcopy", "-s", "-i", part.path(), "::/Oda", path(&copied)]);
        } else {
            let mount = Mount::of(driver(*kind), part.path(), place.path("mnt"));
            tool(&["cp", "-r", path(&mount.0.join("Oda")), path(&copied)]);
        }
        tool(&["diff", "-r", path(&place.path("data")), path(&copied)]);
    }
}

fn line(report: &serde_json::Value, what: &str) -> String {
    let lines = report["proof"].as_array().unwrap().iter().filter(|line| line["what"] == what);
    lines.map(|line| line.to_string()).collect::<Vec<_>>().join("\n")
}

#[rstest]
#[case::squeezed("auto", 170, &[0, 1, 2, 3])]
#[case::to_the_least("1-4=least", 240, &[0, 1, 2, 3])]
#[case::stretched("auto", 700, &[0, 1, 2, 3])]
#[case::by_hand("2=33MiB,3=out,4=fill@100MiB", 300, &[0, 1, 3])]
#[case::all_of_them("1-4=fill", 600, &[0, 1, 2, 3])]
#[case::another_table("auto,mbr", 300, &[0, 1, 2, 3])]
fn every_file_arrives_in_volumes_of_another_size(#[case] rules: &str, #[case] mib: u64, #[case] kinds: &[usize]) {
    let place = Place::new();
    let image = disk(&place);
    let before = fs::read(&image).unwrap();
    let target = place.path("fitted.img");
    let (code, report) = place.json(&["clone", path(&image), path(&target), "--new-size", &format!("{mib}MiB"), "--fit", rules, "--confirm", "tted"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report:#}");
    assert!(line(&report, "table").contains("every partition begins at a multiple of 1 MiB"), "{report:#}");
    assert!(line(&report, "files").contains("equal the source's"), "{report:#}");
    judge(&place, &target, kinds);
    assert!(fs::read(&image).unwrap() == before, "the source is as it was");
}

#[test]
fn an_mbr_with_logical_partitions_becomes_a_gpt() {
    let place = Place::new();
    let script = "label: dos\nx1 : start=1MiB,size=40MiB,type=c,bootable\nx2 : start=41MiB,size=59MiB,type=7\nx3 : start=100MiB,size=140MiB,type=f\n\
        x5 : start=101MiB,size=50MiB,type=7\nx6 : start=152MiB,size=80MiB,type=83\n";
    let image = disk(&place);
    // The link of the last partition needs room, so its volume begins a MiB later.
    let bytes = fs::read(&image).unwrap();
    let file = OpenOptions::new().write(true).open(&image).unwrap();
    file.write_all_at(&bytes[(151 * MIB) as usize..(231 * MIB) as usize], 152 * MIB).unwrap();
    file.write_all_at(&vec![0; MIB as usize], 0).unwrap();
    file.write_all_at(&vec![0; MIB as usize], SIZE - MIB).unwrap();
    drop(file);
    table(&image, script);
    let target = place.path("newer.img");
    let (code, report) = place.json(&["clone", path(&image), path(&target), "--new-size", "400MiB", "--fit", "auto,gpt,2=out", "--confirm", "ewer"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report:#}");
    assert!(text(&tool(&["sgdisk", "-v", path(&target)]).stdout).contains("No problems found"));
    judge(&place, &target, &[0, 2, 3]);
    assert_eq!(seen(&target).iter().map(|(number, ..)| *number).collect::<Vec<_>>(), [1, 5, 6]);
}

#[test]
fn killed_at_random_moments_a_squeeze_goes_on_to_its_proof() {
    let place = Place::new();
    let image = disk(&place);
    let target = place.sparse("smaller.img", 170 * MIB);
    let args = ["clone", path(&image), path(&target), "--fit", "auto", "--confirm", "ller", "--rate", "40M"];
    let mut kills = 0;
    for wait in [150, 300, 450, 700, 250, 900, 600, 350, 500, 800] {
        let mut child = place.badger(&args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(wait));
        match child.try_wait().unwrap() {
            Some(_) => break,
            None => {
                child.kill().unwrap();
                child.wait().unwrap();
                kills += 1;
            }
        }
    }
    assert!(kills > 2);
    let (code, report) = place.json(&args[..7]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report:#}");
    judge(&place, &target, &[0, 1, 2, 3]);
    // With other rules it is not the same run.
    let mut child = place.begun(&["clone", path(&image), path(&target), "--fit", "auto", "--confirm", "ller", "--rate", "20M"], &target);
    child.kill().unwrap();
    child.wait().unwrap();
    let (code, report) = place.json(&["clone", path(&image), path(&target), "--fit", "auto,3=out", "--confirm", "ller"]);
    assert_eq!((code, report["code"].as_str()), (2, Some("run-differs")), "{report:#}");
}

#[test]
fn a_volume_that_was_not_put_away_is_only_copied_whole_and_says_why() {
    let place = Place::new();
    let image = disk(&place);
    let part = Loop::part(&image, 151 * 2048, 80 * 2048);
    tool(&["debugfs", "-w", "-R", "set_super_value state 0", part.path()]);
    drop(part);
    let target = place.path("fitted.img");
    let (code, shown, error) = place.run(&["clone", path(&image), path(&target), "--new-size", "700MiB", "--fit", "auto"]);
    assert!(code == 2 && error.contains("no-tail"), "{error}");
    assert!(shown.contains("keeps its size: it was in use when it was last seen"), "{shown}");
    let (code, report) = place.json(&["clone", path(&image), path(&target), "--new-size", "700MiB", "--fit", "4=200MiB", "--confirm", "tted"]);
    assert_eq!((code, report["code"].as_str()), (2, Some("volume-whole")), "{report:#}");
    let (code, report) = place.json(&["clone", path(&image), path(&target), "--new-size", "700MiB", "--fit", "auto", "--confirm", "tted"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report:#}");
    assert_eq!(seen(&target)[3].2, 80 * MIB);
    assert!(seen(&target)[1].2 > 400 * MIB);
}

/// One that is copied as it is to another place is told where it begins.
#[test]
fn a_volume_that_cannot_change_still_learns_its_new_place() {
    let place = Place::new();
    let image = disk(&place);
    let file = OpenOptions::new().write(true).open(&image).unwrap();
    // The flag that says it is in use, in the boot region that nobody sums up.
    file.write_all_at(&[2], 101 * MIB + 106).unwrap();
    let target = place.path("fitted.img");
    let (code, report) = place.json(&["clone", path(&image), path(&target), "--new-size", "300MiB", "--fit", "1=out,2-4=keep", "--confirm", "tted"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report:#}");
    assert!(line(&report, "blocks").contains("first sector of"), "{report:#}");
    let (_, start, len) = seen(&target)[1];
    assert_ne!(start, 101 * MIB);
    let bytes = fs::read(&target).unwrap();
    assert_eq!(bytes[start as usize + 64..start as usize + 72], (start / 512).to_le_bytes());
    let part = Loop::part(&target, start / 512, len / 512);
    let mount = Mount::of(driver(2), part.path(), place.path("mnt"));
    tool(&["diff", "-r", path(&place.path("data/Oda")), path(&mount.0.join("Oda"))]);
}

#[test]
fn a_target_that_counts_in_larger_sectors_is_set_right_or_refused_with_the_reason() {
    let place = Place::new();
    let image = disk(&place);
    place.sparse("large.img", 300 * MIB);
    let target = place.drive("large", "large.img", "logical_sector = 4096\nphysical_sector = 4096\n");
    let args = ["clone", path(&image), path(&target), "--confirm", "arge"];
    for (rules, why) in [
        ("auto", "clusters of 512 bytes cannot be counted in sectors of 4096"),
        ("auto,1=out", "file records of 1024 bytes are smaller than a sector"),
    ] {
        let (code, report) = place.json(&[&args[..], &["--fit", rules]].concat());
        assert_eq!((code, report["code"].as_str()), (2, Some("sector-differs")), "{report:#}");
        assert!(report["reason"].as_str().unwrap().contains(why), "{report:#}");
    }
    let (code, report) = place.json(&[&args[..], &["--fit", "auto,1-2=out"]].concat());
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report:#}");
    let whole = Loop::over(&place.path("large.img"), &["-b", "4096"]);
    tool(&["sfdisk", "--verify", whole.path()]);
    let parts = seen(&whole.0);
    assert_eq!(parts.len(), 2);
    for ((_, start, len), kind) in parts.into_iter().zip([2usize, 3]) {
        let part = Loop::over(&place.path("large.img"), &["-b", "4096", "--offset", &start.to_string(), "--sizelimit", &len.to_string()]);
        tool(&if kind == 2 { ["fsck.exfat", "-n", part.path()] } else { ["e2fsck", "-fn", part.path()] });
        let mount = Mount::of(driver(kind), part.path(), place.path("mnt"));
        tool(&["diff", "-r", path(&place.path("data/Oda")), path(&mount.0.join("Oda"))]);
    }
}

/// A format that is copied as it is must be able to live on the target's sectors; it can be left out.
#[test]
fn what_needs_small_sectors_stops_until_it_is_left_out() {
    let place = Place::new();
    let image = place.path("mixed.img");
    place.sparse("mixed.img", 800 * MIB);
    table(&image, "label: gpt\nstart=2048, size=204800\nstart=206848, size=1228800\n");
    let small = Loop::over(&image, &["--offset", &MIB.to_string(), "--sizelimit", &(100 * MIB).to_string()]);
    tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", small.path()]);
    drop(small);
    let part = Loop::over(&image, &["--offset", &(101 * MIB).to_string(), "--sizelimit", &(600 * MIB).to_string()]);
    tool(&["mkfs.xfs", "-q", "-s", "size=512", part.path()]);
    drop(part);
    place.sparse("large.img", 900 * MIB);
    let target = place.drive("large", "large.img", "logical_sector = 4096\nphysical_sector = 4096\n");
    let args = ["clone", path(&image), path(&target), "--confirm", "arge", "--fit"];
    let (code, report) = place.json(&[&args[..], &["auto"]].concat());
    assert_eq!(code, 2, "{report:#}");
    assert!(report.to_string().contains("needs-small-sectors"), "{report:#}");
    let (code, report) = place.json(&[&args[..], &["auto,2=out"]].concat());
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report:#}");
}

/// What lies beyond the end of its partition is not there: nobody calls that sound.
#[rstest]
#[case::ext(&["mke2fs", "-q", "-F", "-t", "ext4"])]
#[case::fat(&["mkfs.fat", "-F", "32"])]
#[case::exfat(&["mkfs.exfat"])]
#[case::ntfs(&["mkntfs", "-q", "-F", "-Q"])]
fn a_volume_longer_than_its_partition_is_not_sound(#[case] make: &[&str]) {
    let place = Place::new();
    let image = place.path("cut.img");
    place.sparse("cut.img", 100 * MIB);
    tool(&[make, &[path(&image)]].concat());
    let (code, report) = place.json(&["check", path(&image)]);
    assert_eq!(code, 0, "{report:#}");
    OpenOptions::new().write(true).open(&image).unwrap().set_len(90 * MIB).unwrap();
    let (code, report) = place.json(&["check", path(&image)]);
    assert_eq!(code, 1, "{report:#}");
    assert!(report.to_string().contains("longer"), "{report:#}");
}

#[rstest]
#[case::no_rule("3:keep", "is no rule")]
#[case::too_small("2=1MiB", "cannot become smaller")]
#[case::too_much("1-4=keep", "more than the target has: leave out partition 1")]
fn what_cannot_be_is_refused_before_anything_is_made(#[case] rules: &str, #[case] says: &str) {
    let place = Place::new();
    let image = disk(&place);
    let target = place.path("fitted.img");
    let (code, _, error) = place.run(&["clone", path(&image), path(&target), "--new-size", "200MiB", "--fit", rules, "--confirm", "tted"]);
    assert!(code == 2 && error.contains(says), "{error}");
    assert!(!target.exists());
}
