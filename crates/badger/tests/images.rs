//! Images on the command line: made, looked into, proved, put back, refused.

use crate::support::{MIB, Place, path, text};
use rstest::rstest;
use std::fs::{self, OpenOptions};
use std::os::unix::fs::FileExt;
use std::process::Command;

/// A drive with an ext4 volume that holds a file.
fn drive(place: &Place) -> std::path::PathBuf {
    let (drive, data) = (place.path("slate.img"), place.path("data"));
    fs::create_dir(&data).unwrap();
    fs::write(data.join("hymn.txt"), "the slate of Lantern Row\n".repeat(9000)).unwrap();
    fs::File::create(&drive).unwrap().set_len(96 * MIB).unwrap();
    let made = Command::new("mke2fs").args(["-q", "-t", "ext4", "-d", path(&data), path(&drive)]).status().unwrap();
    assert!(made.success());
    drive
}

#[test]
fn an_image_is_a_drive_and_comes_back_proved() {
    let place = Place::new();
    let (drive, image, back) = (drive(&place), place.path("slate.zbi"), place.path("back.img"));
    let (code, report) = place.json(&["image", path(&drive), path(&image), "--used", "--ticket", "LR-212"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    assert_eq!(report["proof"][0]["result"], "holds");
    let (code, said) = place.json(&["verify", path(&image)]);
    assert_eq!((code, said["hash"].as_str()), (0, report["hash"]["target"].as_str()));
    assert_eq!((&said["image"]["sparing"], &said["image"]["locked"]), (&true.into(), &false.into()));
    assert!(place.run(&["ls", path(&image)]).1.contains("hymn.txt"));
    let into = place.path("out");
    assert_eq!(place.run(&["fetch", path(&image), "/hymn.txt", "--into", path(&into)]).0, 0);
    assert!(fs::read(into.join("hymn.txt")).unwrap().starts_with(b"the slate of Lantern Row"));
    let (code, report) = place.json(&["restore", path(&image), path(&back), "--new-size", "96MiB", "--confirm", "back"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    let checked = Command::new("e2fsck").args(["-fn", path(&back)]).output().unwrap();
    assert!(checked.status.success(), "{}", text(&checked.stdout));
    let jobs = place.json(&["jobs"]).1;
    assert!(jobs["jobs"].as_array().unwrap().iter().any(|job| job["ticket"] == "LR-212" && job["outcome"] == "proved"), "{jobs}");
    // A drive is cloned, an image is not written over, and neither is taken for a target.
    for (args, wanted) in [
        (&["image", path(&drive), path(&image)][..], "image-exists"),
        (&["clone", path(&drive), path(&image), "--confirm", "late"], "target-unusable"),
        (&["image", path(&drive), path(&place.path("slate.tar"))], "usage"),
        (&["image", path(&drive), path(&place.path("x.qcow2")), "--level", "3"], "usage"),
        (&["image", path(&drive), path(&place.path("y.zbi")), "--lock"], "--passphrase-file"),
    ] {
        let before = fs::read(&image).unwrap();
        let (code, _, errors) = place.run(args);
        assert!(code == 2 && errors.contains(wanted), "{args:?}: {code} {errors}");
        assert!(fs::read(&image).unwrap() == before);
    }
}

#[rstest]
#[case("qcow2", "qcow2")]
#[case("vhd", "vpc")]
#[case("vhdx", "vhdx")]
#[case("vmdk", "vmdk")]
#[case("vdi", "vdi")]
fn open_formats_are_made_proved_and_read(#[case] ending: &str, #[case] format: &str) {
    let place = Place::new();
    let (drive, image) = (drive(&place), place.path(&format!("slate.{ending}")));
    let (code, report) = place.json(&["image", path(&drive), path(&image)]);
    assert_eq!((code, report["outcome"].as_str(), report["proof"][0]["result"].as_str()), (0, Some("proved"), Some("holds")), "{report}");
    let same = Command::new("qemu-img").args(["compare", "-f", "raw", "-F", format, path(&drive), path(&image)]).status().unwrap();
    assert!(same.success());
    assert!(place.run(&["ls", path(&image)]).1.contains("hymn.txt"));
    let (code, _, errors) = place.run(&["image", path(&drive), path(&image)]);
    assert!(code == 2 && errors.contains("image-exists"), "{errors}");
}

#[test]
fn a_pipe_and_a_lock() {
    let place = Place::new();
    let (drive, piped, locked, key) = (drive(&place), place.path("piped.zbi"), place.path("locked.zbi"), place.path("key"));
    let out = place.badger(&["image", path(&drive), "-"]).output().unwrap();
    assert!(out.status.success(), "{}", text(&out.stderr));
    fs::write(&piped, &out.stdout).unwrap();
    assert_eq!(place.run(&["verify", path(&piped)]).0, 0);
    assert_eq!(place.run(&["verify", path(&drive), path(&piped)]).0, 0);
    fs::write(&key, "slate and lantern\n").unwrap();
    assert_eq!(place.run(&["image", path(&drive), path(&locked), "--lock", "--passphrase-file", path(&key)]).0, 0);
    let (code, _, errors) = place.run(&["ls", path(&locked)]);
    assert!(code == 2 && errors.contains("passphrase"), "{errors}");
    assert!(place.run(&["ls", path(&locked), "--passphrase-file", path(&key)]).1.contains("hymn.txt"));
    // What is damaged is named, and costs the exit code.
    let file = OpenOptions::new().write(true).open(&piped).unwrap();
    file.write_all_at(&[0x5a; 64], file.metadata().unwrap().len() / 3).unwrap();
    let (code, said) = place.json(&["verify", path(&piped)]);
    assert!(code == 1 && !said["damage"].as_array().unwrap().is_empty(), "{said}");
}

/// Files that came, went, changed, and one whose bytes changed under its name, size and time.
/// What an image cannot go on from is said before anything is made, not by a run that fails.
#[rstest]
#[case::nowhere("nowhere.zbi", "nowhere.zbi")]
#[case::no_image("drive.img", "drive.img")]
#[case::other_size("large.zbi", "another size")]
#[case::unlocked("one.zbi", "locked where")]
fn what_an_image_cannot_go_on_from_is_refused(#[case] parent: &str, #[case] why: &str) {
    let place = Place::new();
    let (drive, large) = (place.noise("drive.img", 2 * MIB, 1), place.noise("large.img", 3 * MIB, 2));
    for (drive, image) in [(&drive, "one.zbi"), (&large, "large.zbi")] {
        assert_eq!(place.json(&["image", path(drive), path(&place.path(image))]).0, 0);
    }
    fs::write(place.path("words"), "high water\n").unwrap();
    let (image, parent, words) = (place.path("next.zbi"), place.path(parent), place.path("words"));
    let mut args = vec!["image", path(&drive), path(&image), "--parent", path(&parent)];
    if why.starts_with("locked") {
        args.extend(["--lock", "--passphrase-file", path(&words)]);
    }
    let (code, _, refused) = place.run(&args);
    assert!(code == 2 && refused.contains("parent-unfit") && refused.contains(why), "{refused}");
    assert!(!image.exists());
    let (_, jobs, _) = place.run(&["jobs"]);
    assert_eq!(jobs.matches("proved").count(), 2, "{jobs}");
}

#[test]
fn two_images_of_one_drive_show_what_changed_file_by_file() {
    let place = Place::new();
    let (folder, drive) = (place.path("folder"), place.path("drive.img"));
    let run = |program: &str, args: &[&str]| {
        let out = std::process::Command::new(program).args(args).output().unwrap();
        assert!(out.status.success(), "{program} {args:?}: {}", String::from_utf8_lossy(&out.stderr));
    };
    std::fs::create_dir_all(folder.join("letters/old")).unwrap();
    for (name, text) in [("letters/a.txt", "a"), ("letters/b.txt", "b"), ("letters/old/c.txt", "c"), ("kept.txt", "kept")] {
        std::fs::write(folder.join(name), text).unwrap();
    }
    let made = |image: &str, parent: &[&str]| {
        let (_, report) = place.json(&[&["image", path(&drive), path(&place.path(image))], parent].concat());
        assert_eq!(report["outcome"], "proved", "{report}");
    };
    run("mke2fs", &["-q", "-t", "ext4", "-d", path(&folder), path(&drive), "24M"]);
    made("one.zbi", &[]);
    let one = place.path("one.zbi");
    made("same.zbi", &["--parent", path(&one)]);
    let same = place.path("same.zbi");
    let (code, document) = place.json(&["changes", path(&one), path(&same), "--content"]);
    assert_eq!((code, document["same"].as_bool()), (0, Some(true)), "{document}");
    let script = "write /dev/null letters/new.txt\nrm letters/old/c.txt\nrmdir letters/old\nset_inode_field letters/b.txt size 0\n";
    std::fs::write(place.path("script"), script).unwrap();
    run("debugfs", &["-w", "-f", path(&place.path("script")), path(&drive)]);
    // Another byte where the system would never see it by name, size or time.
    let mut bytes = std::fs::read(&drive).unwrap();
    let at = bytes.windows(5).position(|window| window == b"kept\0").unwrap();
    bytes[at] = b'l';
    std::fs::write(&drive, bytes).unwrap();
    made("two.zbi", &["--parent", path(&one)]);
    let two = place.path("two.zbi");
    let changed = |args: &[&str]| {
        let (code, document) = place.json(&[&["changes", path(&one), path(&two)], args].concat());
        assert_eq!(code, 1, "{document}");
        let list = document["partitions"][0]["changes"].as_array().unwrap().clone();
        let words = |change: &serde_json::Value| {
            format!("{} {} {} {}", change["path"].as_str().unwrap(), !change["before"].is_null(), !change["after"].is_null(), change["differs"])
        };
        let mut list: Vec<String> = list.iter().map(words).collect();
        list.sort();
        list
    };
    let mut expected = vec![
        "/letters/b.txt true true [\"size\"]",
        "/letters/new.txt false true []",
        "/letters/old true false []",
        "/letters/old/c.txt true false []",
    ];
    assert_eq!(changed(&[]), expected);
    expected.insert(0, "/kept.txt true true [\"content\"]");
    assert_eq!(changed(&["--content"]), expected);
    let (_, text, _) = place.run(&["changes", path(&one), path(&two)]);
    assert!(text.contains("not by content") && text.contains("- ") && text.contains("/letters/old/"), "{text}");
}

#[test]
fn a_damaged_image_is_mended_where_a_hash_proves_it() {
    let place = Place::new();
    let drive = place.noise("drive.img", 24 * MIB, 77);
    let (image, whole, rest) = (place.path("one.zbi"), place.path("mended.zbi"), place.path("rest.zbi"));
    assert_eq!(place.json(&["image", path(&drive), path(&image)]).1["outcome"], "proved");
    let mut bytes = fs::read(&image).unwrap();
    for at in [5 * MIB, 9 * MIB + 77, 20 * MIB] {
        bytes[at as usize] ^= 0x10;
    }
    fs::write(&image, &bytes).unwrap();
    assert_eq!(place.run(&["verify", path(&image)]).0, 1);
    // The drive changed since in one of the places: what it holds there now proves nothing.
    let file = OpenOptions::new().write(true).open(&drive).unwrap();
    let (code, report) = place.json(&["repair", path(&image), path(&whole), "--from", path(&drive)]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    let line = |report: &serde_json::Value| report["proof"].as_array().unwrap().iter().find(|line| line["what"] == "repair").unwrap().clone();
    assert!(line(&report)["text"].as_str().unwrap().contains("3 places were damaged, and are mended"), "{report}");
    assert_eq!(place.run(&["verify", path(&drive), path(&whole)]).0, 0);
    file.write_all_at(&[0x77; 512], 9 * MIB - 4096).unwrap();
    let (code, report) = place.json(&["repair", path(&image), path(&rest), "--from", path(&drive)]);
    assert_eq!((code, report["outcome"].as_str(), line(&report)["result"].as_str()), (1, Some("incomplete"), Some("fails")), "{report}");
    assert!(line(&report)["text"].as_str().unwrap().contains("1 place could not be mended"), "{report}");
    assert_eq!(report["lost_bytes"].as_u64(), Some(64 << 10), "{report}");
    // The damaged one stays as it is.
    assert!(fs::read(&image).unwrap() == bytes);
}

/// What is in use alone, in a format that cannot say so; then from one format into another.
#[test]
fn open_formats_hold_what_is_in_use_and_become_others() {
    let place = Place::new();
    let drive = place.path("drive.img");
    let run = |program: &str, args: &[&str]| assert!(Command::new(program).args(args).output().unwrap().status.success(), "{program} {args:?}");
    // A volume whose free space is full of what nobody needs.
    place.noise("drive.img", 64 * MIB, 9);
    run("mke2fs", &["-q", "-F", "-t", "ext4", path(&drive)]);
    std::fs::write(place.path("letter"), "Dear Ines").unwrap();
    run("debugfs", &["-w", "-R", &format!("write {} letter", path(&place.path("letter"))), path(&drive)]);
    let made = |from: &str, to: &str, more: &[&str]| {
        let (code, report) = place.json(&[&["image", path(&place.path(from)), path(&place.path(to))], more].concat());
        assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
        report
    };
    let report = made("drive.img", "used.qcow2", &["--used"]);
    assert!(report["proof"].as_array().unwrap().iter().any(|line| line["what"] == "rest" && line["result"] == "not-checked"), "{report}");
    assert!(fs::metadata(place.path("used.qcow2")).unwrap().len() < 24 * MIB);
    made("used.qcow2", "used.vhdx", &[]);
    made("used.vhdx", "used.001", &["--split", "20MiB"]);
    assert!(place.path("used.004").exists());
    run("qemu-img", &["compare", "-f", "qcow2", "-F", "vhdx", path(&place.path("used.qcow2")), path(&place.path("used.vhdx"))]);
    assert_eq!(place.run(&["verify", path(&place.path("used.qcow2")), path(&place.path("used.001"))]).0, 0);
    // Beside somebody's second piece a first one would be read back as two.
    fs::write(place.path("theirs.002"), "somebody's").unwrap();
    let (code, report) = place.json(&["image", path(&drive), path(&place.path("theirs.001")), "--format", "raw"]);
    assert_eq!((code, report["code"].as_str()), (2, Some("part-of-split")), "{report}");
    assert!(!place.path("theirs.001").exists());
    let (code, listed, _) = place.run(&["ls", path(&place.path("used.001")), "/letter"]);
    assert!(code == 0 && listed.contains("letter"), "{listed}");
    // What is made of an image that holds only what was in use says so as well.
    made("drive.img", "used.zbi", &["--used"]);
    made("used.zbi", "again.zbi", &[]);
    let (code, told, _) =
        place.run(&["clone", path(&place.path("again.zbi")), path(&place.path("copy.img")), "--new-size", "64MiB", "--confirm", "copy"]);
    assert!(code == 0 && told.contains("source-in-part"), "{told}");
    let (code, document) = place.json(&["changes", path(&drive), path(&place.path("used.001")), "--content"]);
    assert_eq!((code, document["same"].as_bool()), (0, Some(true)), "{document}");
    let (code, _, refused) = place.run(&["image", path(&drive), path(&place.path("x.qcow2")), "--split", "1MiB"]);
    assert!(code == 2 && refused.contains("--split"), "{refused}");
}

/// A sample that saw nothing but zeroes promises too little: the image ends before the place is full, and is gone on with.
#[test]
fn room_is_watched_while_an_image_grows() {
    let place = Place::new();
    let (drive, small) = (place.noise("drive.img", 160 * MIB, 11), place.path("small"));
    let file = OpenOptions::new().write(true).open(&drive).unwrap();
    (0..48).for_each(|turn| file.write_all_at(&vec![0; 600 << 10], turn * (160 * MIB / 48)).unwrap());
    fs::create_dir(&small).unwrap();
    let mount =
        |options: &str| assert!(Command::new("mount").args(["-t", "tmpfs", "-o", options, "tmpfs", path(&small)]).status().unwrap().success());
    mount("size=70m");
    let image = small.join("one.zbi");
    // Slow enough that the room is looked at in time.
    let (code, report) = place.json(&["image", path(&drive), path(&image), "--rate", "16MiB"]);
    let room = badger_free(&small);
    let before = fs::read(&image).unwrap();
    mount("remount,size=300m");
    let (again, proved) = place.json(&["image", path(&drive), path(&image)]);
    let same = place.run(&["verify", path(&drive), path(&image)]).0;
    let goes_on = fs::read(&image).unwrap().starts_with(&before[..40 << 20]);
    let _ = Command::new("umount").arg(&small).status();
    assert_eq!((code, report["outcome"].as_str(), report["code"].as_str()), (3, Some("interrupted"), Some("no-room")), "{report}");
    assert!(room > 0, "it ended before the place was full");
    assert!(goes_on, "what was there is gone on with");
    assert_eq!((again, proved["outcome"].as_str(), same), (0, Some("proved"), 0), "{proved}");
    // The system says that nothing was written to the drive between the two runs; else the image would not be proved.
    let lines = proved["proof"].as_array().unwrap();
    assert!(lines.iter().any(|line| line["what"] == "source" && line["result"] == "holds"), "{proved}");
}

fn badger_free(dir: &std::path::Path) -> u64 {
    let out = Command::new("stat").args(["-f", "-c", "%a"]).arg(dir).output().unwrap();
    text(&out.stdout).trim().parse().unwrap()
}

/// What was broken off before its first page is there until somebody says that it may go, and only then goes.
#[test]
fn an_unfinished_image_is_not_taken_away_unasked() {
    let place = Place::new();
    let (drive, image) = (place.noise("drive.img", 40 * MIB, 3), place.path("one.zbi"));
    let mut child = place.badger(&["image", path(&drive), path(&image), "--rate", "4MiB"]).spawn().unwrap();
    while fs::metadata(&image).map_or(0, |meta| meta.len()) < MIB {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    // Nobody meddles with it meanwhile, not even where it is asked for.
    let (code, _, refused) = place.run(&["image", path(&drive), path(&image), "--restart"]);
    assert!(code == 2 && refused.contains("another run"), "{refused}");
    Command::new("kill").args(["-TERM", &child.id().to_string()]).status().unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    let before = fs::read(&image).unwrap();
    let (code, _, refused) = place.run(&["image", path(&drive), path(&image)]);
    assert!(code == 2 && refused.contains("image-unbegun") && refused.contains("--restart"), "{refused}");
    assert!(fs::read(&image).unwrap() == before);
    let (code, report) = place.json(&["image", path(&drive), path(&image), "--restart"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
}
