//! Files and volumes on the command line: check, clones of what is in use, copying out.

use crate::support::{Loop, MIB, Mount, Place, path, text, tool};
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::process::{Command, Stdio};
use std::time::Duration;

/// Folders with 400 files of all sizes, 30 MB in all.
fn people(place: &Place) -> std::path::PathBuf {
    let data = place.path("data");
    for number in 0..400u64 {
        let dir = data.join(format!("Oda/Recordings/{}", number % 9));
        fs::create_dir_all(&dir).unwrap();
        let noise = fs::read(place.noise("noise", (number * 400) / 8 * 8, number + 1)).unwrap();
        fs::write(dir.join(format!("rehearsal {number}.wav")), noise).unwrap();
    }
    data
}

fn ext4(place: &Place, name: &str, mib: u64) -> std::path::PathBuf {
    let (image, data) = (place.sparse(name, mib * MIB), people(place));
    tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-d", path(&data), path(&image)]);
    image
}

#[test]
fn check_looks_inside_and_names_what_is_wrong() {
    let place = Place::new();
    let image = ext4(&place, "slate.img", 96);
    let (code, checked) = place.json(&["check", path(&image)]);
    assert_eq!((code, checked["proof"][1]["result"].as_str()), (0, Some("holds")));
    assert!(checked["proof"][1]["text"].as_str().unwrap().contains("400 files in 13 folders"), "{checked}");
    tool(&["debugfs", "-w", "-R", "freeb 9000 40", path(&image)]);
    let (code, checked) = place.json(&["check", path(&image)]);
    assert_eq!((code, checked["proof"][1]["result"].as_str()), (1, Some("fails")));
    let evidence = checked["proof"][1]["evidence"].to_string();
    assert!(evidence.contains("fault ext-free-in-use:") && evidence.contains("at sector"), "{evidence}");
    let (code, human, _) = place.run(&["check", path(&image)]);
    assert!(code == 1 && human.contains("free in the map, but a file lies there"), "{human}");
}

#[test]
fn a_clone_of_what_is_in_use_promises_the_same_document() {
    let place = Place::new();
    let image = ext4(&place, "slate.img", 256);
    let target = place.path("fresh.img");
    let args = ["clone", path(&image), path(&target), "--new-size", "256MiB", "--confirm", "resh", "--used"];
    let (code, report) = place.json(&args);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    assert!(report["read_bytes"].as_u64().unwrap() < 120 * MIB, "{report}");
    let files = report["proof"].as_array().unwrap().iter().find(|line| line["what"] == "files").unwrap().clone();
    assert_eq!(files["result"], "holds");
    tool(&["e2fsck", "-fn", path(&target)]);
    let (code, _, error) = place.run(&["clone", path(&image), path(&target), "--confirm", "resh", "--rest", "zero"]);
    assert!(code == 2 && error.contains("--used"), "the rest is only a question where only what is in use is copied: {error}");
}

/// Kills at random moments until the copy gets through; then the system's checksum program has the last word.
#[test]
fn copying_out_survives_twenty_five_kills() {
    let place = Place::new();
    ext4(&place, "slate.img", 96);
    let drive = place.drive("BEEF", "slate.img", "[pace]\nread_mb_s = 60.0\nwrite_mb_s = 60.0\nreal = true\n");
    let (mut kills, mut random) = (0, 7u64);
    let mut round = 0;
    while kills < 25 {
        let into = place.path(&format!("out-{round}"));
        let args = ["fetch", path(&drive), "/Oda", "--into", path(&into)];
        random = random.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        let mut run = place.badger(&args).arg("--json").stdout(Stdio::piped()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(20 + (random >> 33) % 500));
        let over = run.try_wait().unwrap().is_some();
        let _ = run.kill();
        let out = run.wait_with_output().unwrap();
        if over {
            let report: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
            assert_eq!(
                (report["outcome"].as_str(), report["files"].as_u64(), report["skipped_count"].as_u64()),
                (Some("proved"), Some(400), Some(0))
            );
            judge(&place, &into);
            round += 1;
        } else {
            kills += 1;
        }
    }
    let into = place.path(&format!("out-{round}"));
    let (code, report) = place.json(&["fetch", path(&drive), "/Oda", "--into", path(&into)]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    judge(&place, &into);
}

fn judge(place: &Place, into: &std::path::Path) {
    let sums = Command::new("sha256sum").args(["-c", "--strict", "--quiet", "fetched.sha256"]).current_dir(into).output().unwrap();
    assert!(sums.status.success(), "{}", text(&sums.stderr));
    tool(&["diff", "-r", path(&place.path("data/Oda")), path(&into.join("Oda"))]);
    assert_eq!(fs::read_to_string(into.join("fetched.sha256")).unwrap().lines().count(), 400);
    assert_eq!(fs::read_dir(into).unwrap().count(), 2, "nothing is left lying about");
}

#[test]
fn another_partition_of_the_source_is_the_source() {
    let place = Place::new();
    let disk = place.sparse("disk.img", 128 * MIB);
    let volume = ext4(&place, "volume.img", 60);
    let mut sfdisk = Command::new("sfdisk").args(["-q", path(&disk)]).stdin(Stdio::piped()).spawn().unwrap();
    std::io::Write::write_all(&mut sfdisk.stdin.take().unwrap(), b"label: gpt\nstart=2048,size=60MiB\nsize=60MiB\n").unwrap();
    assert!(sfdisk.wait().unwrap().success());
    for start in [MIB, 61 * MIB] {
        let (from, to) = (format!("if={}", path(&volume)), format!("of={}", path(&disk)));
        tool(&["dd", "conv=notrunc", "bs=1M", &format!("seek={}", start / MIB), &from, &to]);
    }
    let device = Loop::over(&disk, &[]);
    let part = Loop::part(std::path::Path::new(device.path()), 61 * MIB / 512, 60 * MIB / 512);
    let mount = Mount::of(&["mount"], part.path(), place.path("mnt"));
    let into = place.path("mnt/rescued");
    let (code, report) = place.json(&["fetch", &format!("{}#1", device.path()), "/Oda", "--into", path(&into)]);
    let (code_of_file, report_of_file) = place.json(&["fetch", &format!("{}#1", path(&disk)), "/Oda", "--into", path(&into)]);
    let there = into.exists();
    drop(mount);
    assert_eq!((code, report["code"].as_str()), (2, Some("into-source")), "{report}");
    assert_eq!((code_of_file, report_of_file["code"].as_str()), (2, Some("into-source")), "{report_of_file}");
    assert!(!there);
    let (code, report) = place.json(&["fetch", &format!("{}#1", device.path()), "/Oda/Recordings/3", "--into", path(&place.path("out"))]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
}

/// Paths of this machine may hold any bytes.
#[test]
fn paths_that_are_no_text_are_taken_as_they_are() {
    let place = Place::new();
    let odd = |name: &[u8]| place.dir.path().join(OsStr::from_bytes(name));
    let (drive, out, into, map) = (odd(b"weir \xe9.img"), odd(b"out \xe9.img"), odd(b"into \xe9"), odd(b"weir \xe9.map"));
    fs::rename(ext4(&place, "weir.img", 64), &drive).unwrap();
    let run = |command: &mut Command| {
        let out = command.output().unwrap();
        assert!(out.status.success(), "{}{}", text(&out.stdout), text(&out.stderr));
        text(&out.stdout)
    };
    assert!(run(place.badger(&["ls"]).arg(&drive).arg("/Oda")).contains("Recordings"));
    run(place.badger(&["fetch"]).arg(&drive).args(["/Oda/Recordings/3", "--into"]).arg(&into));
    assert!(into.join("3/rehearsal 3.wav").exists());
    run(place.badger(&["salvage"]).args([&drive, &out]).arg("--map").arg(&map));
    // The map knows where its target lies, and is a drive.
    assert!(run(place.badger(&["ls"]).arg(&map).arg("/Oda")).contains("Recordings"));
    run(place.badger(&["salvage"]).args([&drive, &out]).arg("--map").arg(&map));
}

/// The folder of a system's own backup is a folder, and with a number one of the partitions that lie in it.
#[test]
fn a_folder_of_a_backup_has_partitions() {
    let place = Place::new();
    let folder = place.path("weir-pc/Backup");
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("catalogue.xml"), "<Backup/>").unwrap();
    let volume = ext4(&place, "volume.img", 64);
    let raw = place.sparse("raw.img", 80 * MIB);
    tool(&["bash", "-c", &format!("echo '2048,131072,L' | sfdisk -q {}", path(&raw))]);
    tool(&["dd", &format!("if={}", path(&volume)), &format!("of={}", path(&raw)), "bs=1M", "seek=1", "conv=notrunc", "status=none"]);
    tool(&["qemu-img", "convert", "-f", "raw", "-O", "vhdx", path(&raw), path(&folder.join("system.vhdx"))]);
    let above = place.path("weir-pc");
    assert!(place.run(&["ls", path(&above)]).1.contains("Backup"));
    let part = format!("{}#1", path(&above));
    let (code, listed, errors) = place.run(&["ls", &part, "/Oda/Recordings"]);
    assert!(code == 0 && listed.contains('3'), "{listed}{errors}");
    let into = place.path("into");
    assert_eq!(place.json(&["fetch", &part, "/Oda/Recordings/3", "--into", path(&into)]).0, 0);
    assert!(into.join("3/rehearsal 3.wav").exists());
    assert!(place.run(&["ls", &format!("{}#1", path(&place.path("data")))]).2.contains("has no partitions"));
}
