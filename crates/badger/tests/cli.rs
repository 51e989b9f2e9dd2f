//! The command line as scripts use it: exit codes, documents, refusals, kills.

use crate::support::{Loop, MIB, Mount, Place, path, text, tool};
use rstest::rstest;
use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

fn divide(file: &str, script: &str) {
    let mut sfdisk = Command::new("sfdisk").args(["-q", file]).stdin(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    std::io::Write::write_all(&mut sfdisk.stdin.take().unwrap(), script.as_bytes()).unwrap();
    assert!(sfdisk.wait().unwrap().success());
}

#[test]
fn a_clone_prints_the_promised_document() {
    let place = Place::new();
    let source = place.noise("weir.img", 8 * MIB, 1);
    let target = place.path("fresh.img");
    let (code, report) = place.json(&["clone", path(&source), path(&target), "--new-size", "8MiB", "--confirm", "resh"]);
    assert_eq!(code, 0);
    assert_eq!(report["outcome"], "proved");
    assert_eq!((report["planned_bytes"].as_u64(), report["lost_bytes"].as_u64(), report["job"].as_u64()), (Some(8 * MIB), Some(0), Some(1)));
    assert_eq!(report["hash"]["algorithm"], "blake3");
    assert_eq!(report["hash"]["source"], report["hash"]["target"]);
    let results: Vec<&str> = report["proof"].as_array().unwrap().iter().map(|line| line["result"].as_str().unwrap()).collect();
    assert_eq!(results, ["holds", "holds", "not-checked", "not-checked"]);
    for field in ["read_bytes", "written_bytes", "skipped_bytes", "lost", "seconds", "reason", "source"] {
        assert!(!report[field].is_null(), "{field}");
    }
    assert!(fs::read(&source).unwrap() == fs::read(&target).unwrap());
    let (code, jobs) = place.json(&["jobs"]);
    assert_eq!((code, jobs["jobs"][0]["outcome"].as_str()), (0, Some("proved")));
}

#[rstest]
#[case::for_people(&[])]
#[case::for_programs(&["--json"])]
fn a_full_standard_output_is_no_success(#[case] more: &[&str]) {
    let place = Place::new();
    let image = place.noise("weir.img", MIB, 1);
    for command in [&["drives"][..], &["show", path(&image)], &["check", path(&image)], &["jobs"]] {
        let full = File::options().write(true).open("/dev/full").unwrap();
        let status = place.badger(&[command, more].concat()).stdout(full).stderr(Stdio::null()).status().unwrap();
        // What says nothing loses nothing.
        let says = !place.run(&[command, more].concat()).1.is_empty();
        assert_eq!(status.code() != Some(0), says, "{command:?}");
    }
}

#[test]
fn names_on_a_drive_do_not_steer_the_terminal() {
    let place = Place::new();
    let data = place.path("data");
    fs::create_dir(&data).unwrap();
    fs::write(data.join("a\x1b]0;owned\x07\u{202e}gpj.exe"), "x").unwrap();
    let image = place.sparse("weir.img", 8 * MIB);
    tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-L", "w\x1b[2J", "-d", path(&data), path(&image)]);
    for command in [&["ls", path(&image)][..], &["show", path(&image)], &["fetch", path(&image), "/", "--into", path(&place.path("out"))]] {
        let (_, out, err) = place.run(command);
        assert!(!(out.clone() + &err).chars().any(|c| c.is_control() && c != '\n' || c == '\u{202e}'), "{command:?}: {out:?}");
    }
    let (_, listed) = place.json(&["ls", path(&image)]);
    assert!(listed["entries"].as_array().unwrap().iter().any(|entry| entry["path"].as_str().unwrap().contains("\x1b]0;owned")));
}

#[test]
fn a_clone_goes_into_the_pieces_that_are_there() {
    let place = Place::new();
    let source = place.noise("field.img", 5 * MIB, 3);
    for number in 1..=3 {
        place.sparse(&format!("weir.{number:03}"), 2 * MIB);
    }
    let (code, report) = place.json(&["clone", path(&source), path(&place.path("weir.001")), "--confirm", "weir"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    let whole: Vec<u8> = (1..=3).flat_map(|number| fs::read(place.path(&format!("weir.{number:03}"))).unwrap()).collect();
    assert!(whole[..5 << 20] == fs::read(&source).unwrap()[..] && whole.len() == 6 << 20);
    assert_eq!(place.run(&["verify", path(&source), path(&place.path("weir.001"))]).0, 0, "and is read as one");
    let (code, refused) = place.json(&["clone", path(&source), path(&place.path("weir.002")), "--confirm", "weir"]);
    assert_eq!((code, refused["code"].as_str()), (2, Some("part-of-split")));
    assert_eq!(place.json(&["clone", path(&place.path("weir.001")), path(&place.path("weir.001")), "--confirm", "weir"]).1["code"], "same-drive");
}

#[test]
fn a_folder_of_this_machine_is_listed_and_fetched_like_a_volume() {
    let place = Place::new();
    let data = place.path("data");
    fs::create_dir_all(data.join("scores")).unwrap();
    fs::write(data.join("scores/psalm.txt"), "a psalm").unwrap();
    let (code, listed) = place.json(&["ls", path(&data), "--recursive"]);
    let shown: Vec<_> = listed["entries"].as_array().unwrap().iter().map(|entry| (entry["path"].as_str().unwrap(), entry["size"].as_u64())).collect();
    assert_eq!((code, &shown[..]), (0, &[("/scores", Some(0)), ("/scores/psalm.txt", Some(7))][..]));
    let (code, report) = place.json(&["fetch", path(&data), "/scores", "--into", path(&place.path("out"))]);
    assert_eq!((code, report["outcome"].as_str(), report["files"].as_u64()), (0, Some("proved"), Some(1)));
    assert_eq!(fs::read_to_string(place.path("out/scores/psalm.txt")).unwrap(), "a psalm");
    let (code, report) = place.json(&["fetch", path(&data), "/scores", "--into", path(&data.join("scores/back"))]);
    assert_eq!((code, report["code"].as_str()), (2, Some("into-source")));
    assert_eq!(place.run(&["ls", &format!("{}#1", path(&data))]).0, 2, "a folder has no partitions");
    // What has no length and yet holds something is not called copied.
    let (code, report) = place.json(&["fetch", "/proc/self", "/limits", "--into", path(&place.path("made-up"))]);
    assert_eq!((code, report["outcome"].as_str()), (1, Some("incomplete")));
}

#[rstest]
#[case::says("[health]\nreplaced = 18\nhours = 9120\n", "worn", "worn: 18 sectors replaced · 9,120 h on")]
#[case::fails("[health]\nwaiting = 1\n", "failing", "fails: 1 sector cannot be read")]
#[case::silent("", "unknown", "unknown: the sample drive says nothing of it")]
fn show_says_how_a_drive_is(#[case] health: &str, #[case] state: &str, #[case] text: &str) {
    let place = Place::new();
    place.sparse("arc.img", 8 * MIB);
    let drive = place.path("arc.drive.toml");
    fs::write(&drive, format!("backing = \"arc.img\"\n[identity]\nmodel = \"Ostrel Arc\"\nserial = \"OA75-1144-F10D\"\nbus = \"sata\"\n{health}"))
        .unwrap();
    let (_, shown) = place.json(&["show", path(&drive)]);
    assert_eq!((shown["health"]["state"].as_str(), shown["health"]["text"].as_str()), (Some(state), Some(text)));
    assert_eq!(shown["health"]["facts"].get("celsius"), None, "what is not said is not there");
    assert!(place.run(&["show", path(&drive)]).1.contains(text));
    let (_, file) = place.json(&["show", path(&place.path("arc.img"))]);
    assert_eq!(file["health"]["state"], "unknown");
}

#[test]
fn a_paper_is_not_written_over_something_else() {
    let place = Place::new();
    let (source, target) = (place.noise("weir.img", 2 * MIB, 1), place.noise("slate.img", 2 * MIB, 2));
    let (code, out, errors) = place.run(&["clone", path(&source), path(&target), "--confirm", "late"]);
    assert_eq!(code, 0, "{out}{errors}");
    let before = fs::read(&source).unwrap();
    std::os::unix::fs::symlink(&source, place.path("link.svg")).unwrap();
    for name in ["weir.img", "link.svg"] {
        assert_eq!(place.run(&["sheet", "1", "--svg", path(&place.path(name))]).0, 2);
    }
    assert!(fs::read(&source).unwrap() == before);
    for _ in 0..2 {
        assert_eq!(place.run(&["sheet", "1", "--svg", path(&place.path("sheet.svg")), "--pdf", path(&place.path("sheet.pdf"))]).0, 0);
    }
}

#[test]
fn the_sample_workshop_is_not_made_among_somebodys_files() {
    let place = Place::new();
    fs::write(place.path("field-laptop.img"), "the only copy").unwrap();
    let (code, _, said) = place.run(&["demo", "--run", "--dir", path(place.dir.path())]);
    assert!(code == 2 && said.contains("something else lies there"), "{said}");
    assert_eq!(fs::read_to_string(place.path("field-laptop.img")).unwrap(), "the only copy");
}

#[test]
fn a_drive_without_partitions_says_what_it_is() {
    let place = Place::new();
    let image = place.sparse("blank.img", 8 * MIB);
    let (code, _, said) = place.run(&["ls", path(&image)]);
    assert!(code == 2 && said.contains("looks empty (") && !said.contains("0 partitions"), "{said}");
}

#[rstest]
#[case::wrong_tail("wrong-tail", &["clone", "S", "T", "--confirm", "nope"])]
#[case::no_tail("no-tail", &["clone", "S", "T"])]
#[case::same("same-drive", &["clone", "S", "S", "--confirm", "weir"])]
#[case::too_small("target-too-small", &["clone", "S", "small.img", "--confirm", "mall"])]
#[case::no_source("not-found", &["clone", "gone.img", "T", "--confirm", "rget"])]
#[case::directory("is-directory", &["clone", ".", "T", "--confirm", "rget"])]
#[case::empty("empty", &["clone", "empty.img", "T", "--confirm", "rget"])]
fn refusals_have_their_code_and_leave_the_target_alone(#[case] code: &str, #[case] args: &[&str]) {
    let place = Place::new();
    let source = place.noise("weir.img", 2 * MIB, 1);
    let target = place.noise("target.img", 2 * MIB, 2);
    place.noise("small.img", MIB, 2);
    File::create(place.path("empty.img")).unwrap();
    let before = fs::read(&target).unwrap();
    let named: Vec<String> = args
        .iter()
        .map(|arg| match *arg {
            "S" => path(&source).into(),
            "T" => path(&target).into(),
            arg if arg.ends_with(".img") => path(&place.path(arg)).into(),
            arg => arg.into(),
        })
        .collect();
    let named: Vec<&str> = named.iter().map(String::as_str).collect();
    let (exit, report) = place.json(&named);
    assert_eq!((exit, report["code"].as_str(), report["outcome"].as_str()), (2, Some(code), Some("refused")));
    assert!(!report["reason"].as_str().unwrap().is_empty());
    let (exit, out, err) = place.run(&named);
    assert_eq!(exit, 2);
    assert!(err.contains(code), "{out}{err}");
    assert!(fs::read(&target).unwrap() == before);
}

#[test]
fn bad_usage_is_refused_too() {
    let place = Place::new();
    assert_eq!(place.run(&["clone", "only-one"]).0, 2);
    assert_eq!(place.run(&["clone", "a", "b", "--new-size", "five"]).0, 2);
    assert_eq!(place.run(&["frobnicate"]).0, 2);
    assert_eq!(place.run(&["sheet", "7"]).0, 2);
}

#[test]
fn unreadable_sectors_make_it_incomplete_with_exit_1() {
    let place = Place::new();
    place.noise("slate.img", 4 * MIB, 1);
    let source = place.drive("BEEF", "slate.img", "[[fault]]\nkind = \"unreadable\"\nlba = 5000\nsectors = 9\n");
    let target = place.sparse("vault.img", 4 * MIB);
    let (code, report) = place.json(&["clone", path(&source), path(&target), "--confirm", "ault"]);
    assert_eq!((code, report["outcome"].as_str(), report["lost_bytes"].as_u64()), (1, Some("incomplete"), Some(9 * 512)));
    assert_eq!(report["lost"], serde_json::json!([{"start": 5000, "sectors": 9}]));
    let (_, jobs, _) = place.run(&["jobs", "-v"]);
    assert!(jobs.contains("unreadable: sector 5000 and on, 9 sectors") && jobs.contains("reading back"), "{jobs}");
}

#[test]
fn a_full_file_system_under_the_target_ends_it_cleanly_and_it_goes_on() {
    let place = Place::new();
    let source = place.noise("weir.img", 24 * MIB, 1);
    let small = Mount::of(&["mount", "-t", "tmpfs", "-o", "size=16m"], "none", place.path("small"));
    let target = small.0.join("fresh.img");
    let args = ["clone", path(&source), path(&target), "--new-size", "24MiB", "--confirm", "resh"];
    let (code, report) = place.json(&args);
    assert_eq!((code, report["outcome"].as_str()), (3, Some("interrupted")));
    assert!(report["reason"].as_str().unwrap().contains("no space left"));
    tool(&["mount", "-o", "remount,size=64m", path(&small.0)]);
    let (code, report) = place.json(&args);
    assert_eq!((code, report["outcome"].as_str(), report["job"].as_u64()), (0, Some("proved"), Some(1)), "the same job goes on");
    assert!(fs::read(&source).unwrap() == fs::read(&target).unwrap());
}

#[test]
fn another_run_on_the_same_target_is_refused_meanwhile() {
    let place = Place::new();
    let (source, target) = (place.noise("weir.img", 64 * MIB, 1), place.sparse("fresh.img", 64 * MIB));
    let args = ["clone", path(&source), path(&target), "--confirm", "resh"];
    let mut first = place.begun(&[&args[..], &["--rate", "10M"]].concat(), &target);
    let (code, report) = place.json(&args);
    assert_eq!((code, report["code"].as_str()), (2, Some("target-claimed")));
    tool(&["kill", "-INT", &first.id().to_string()]);
    assert_eq!(first.wait().unwrap().code(), Some(130), "stopped by the user");
    let (code, report) = place.json(&args);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")));
}

#[test]
fn other_options_do_not_go_on_with_an_unfinished_run() {
    let place = Place::new();
    let (source, target) = (place.noise("weir.img", 64 * MIB, 1), place.sparse("fresh.img", 64 * MIB));
    let args = ["clone", path(&source), path(&target), "--confirm", "resh"];
    let mut first = place.begun(&[&args[..], &["--rate", "10M"]].concat(), &target);
    first.kill().unwrap();
    first.wait().unwrap();
    let with = |more: &[&str]| place.json(&[&args[..], more].concat());
    assert_eq!(with(&["--ids", "fresh"]).1["code"], "run-differs");
    assert_eq!(with(&["--ids", "fresh", "--restart"]).1["outcome"], "proved");
}

/// Kills at random moments, on a file and on a loop device, until the run gets through.
#[rstest]
fn it_survives_fifty_kills(#[values(false, true)] on_a_device: bool) {
    let place = Place::new();
    let content = place.noise("weir.img", 96 * MIB, 7);
    OpenOptions::new().write(true).open(&content).unwrap().write_all_at(&vec![0; 30 << 20], 20 << 20).unwrap();
    // The drive's simulated time passes much faster than the machine's, so marks in the journal come often.
    let source = place.drive("7F3C", "weir.img", "[pace]\nread_mb_s = 4.0\nwrite_mb_s = 400.0\n");
    let backing = place.noise("target.img", 96 * MIB, 9);
    let device = on_a_device.then(|| Loop::over(&backing, &[]));
    let (target, tail) =
        device.as_ref().map_or_else(|| (path(&backing).to_string(), "rget".to_string()), |device| (device.path().into(), device.tail()));
    let args = ["clone", path(&source), &target, "--confirm", &tail];
    let (mut kills, mut random, mut furthest) = (0, 99u64, 0);
    let kill_for = if on_a_device { 25 } else { 50 };
    let mut proved = 0;
    while kills < kill_for {
        random = random.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        let mut run = place.badger(&args).arg("--json").stdout(Stdio::piped()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(3 + (random >> 33) % 160));
        let over = run.try_wait().unwrap().is_some();
        let _ = run.kill();
        let out = run.wait_with_output().unwrap();
        if over {
            let report: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
            assert_eq!(report["outcome"], "proved", "{report}");
            assert!(fs::read(&content).unwrap() == fs::read(&backing).unwrap());
            proved += 1;
            // On with another round over other content.
            fs::write(&backing, vec![proved as u8; 96 << 20]).unwrap();
        } else {
            kills += 1;
            furthest = furthest.max(out.stdout.len());
        }
    }
    let (code, report) = place.json(&args);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    assert!(fs::read(&content).unwrap() == fs::read(&backing).unwrap());
    let (code, _) = place.json(&["jobs"]);
    assert_eq!(code, 0, "the ledger survived as well");
}

const SCRIPT: &str = "label: gpt\nsize=60MiB, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, name=EFI\nsize=64MiB, name=papers\nsize=64MiB, name=office\nsize=40MiB, name=scores\n";

/// Four file systems on a divided drive; their starts and lengths in sectors.
fn filled(place: &Place) -> (std::path::PathBuf, Vec<(u64, u64)>) {
    let disk = place.sparse("field-laptop.img", 256 * MIB);
    divide(path(&disk), SCRIPT);
    let json: serde_json::Value = serde_json::from_slice(&tool(&["sfdisk", "--json", path(&disk)]).stdout).unwrap();
    let parts: Vec<(u64, u64)> = json["partitiontable"]["partitions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|part| (part["start"].as_u64().unwrap(), part["size"].as_u64().unwrap()))
        .collect();
    let data = place.path("data");
    fs::create_dir(&data).unwrap();
    for number in 0..40 {
        fs::write(data.join(format!("count-{number:02}.csv")), format!("day,trout\n{number},7\n").repeat(300)).unwrap();
    }
    for (command, (start, sectors)) in
        [&["mkfs.fat", "-F", "32"][..], &["mke2fs", "-q", "-t", "ext4", "-d", path(&data)], &["mkntfs", "-q", "-Q"], &["mkfs.exfat"]]
            .iter()
            .zip(&parts)
    {
        let part = Loop::part(&disk, *start, *sectors);
        tool(&[command, &[part.path()][..]].concat());
    }
    let office = Loop::part(&disk, parts[2].0, parts[2].1);
    let mount = Mount::of(&["ntfs-3g"], office.path(), place.path("fill"));
    tool(&["cp", "-r", path(&data), path(&mount.0)]);
    drop(mount);
    (disk, parts)
}

#[rstest]
#[case::file_to_device(false, true)]
#[case::device_to_file(true, false)]
#[case::device_to_device(true, true)]
fn file_systems_arrive_whole_on_a_larger_drive(#[case] from_device: bool, #[case] to_device: bool) {
    let place = Place::new();
    let (disk, parts) = filled(&place);
    let backing = place.sparse("corvane.img", 400 * MIB);
    let from = from_device.then(|| Loop::over(&disk, &[]));
    let onto = to_device.then(|| Loop::over(&backing, &[]));
    let source = from.as_ref().map_or(path(&disk), |device| device.path()).to_string();
    let (target, tail) =
        onto.as_ref().map_or_else(|| (path(&backing).to_string(), "vane".to_string()), |device| (device.path().into(), device.tail()));
    let (code, report) = place.json(&["clone", &source, &target, "--confirm", &tail]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    assert_eq!(report["proof"][0]["result"], "differs");
    drop((from, onto));
    tool(&["sfdisk", "--verify", "-q", path(&backing)]);
    assert!(text(&tool(&["sgdisk", "-v", path(&backing)]).stdout).contains("No problems found"));
    let window = |number: usize| Loop::part(&backing, parts[number].0, parts[number].1);
    tool(&["fsck.fat", "-n", window(0).path()]);
    tool(&["e2fsck", "-fn", window(1).path()]);
    tool(&["ntfsfix", "-n", window(2).path()]);
    tool(&["fsck.exfat", "-n", window(3).path()]);
    for (number, command) in [(1, &["mount", "-o", "ro"][..]), (2, &["ntfs-3g", "-o", "ro"])] {
        let device = window(number);
        let mount = Mount::of(command, device.path(), place.path(&format!("check-{number}")));
        let copied = if number == 2 { mount.0.join("data") } else { mount.0.clone() };
        tool(&["diff", "-r", "--exclude=lost+found", path(&place.path("data")), path(&copied)]);
    }
    let json = place.json(&["show", path(&backing)]).1;
    assert_eq!(json["table"]["kind"], "gpt");
    assert_eq!(json["table"]["state"], "sound");
    let kinds: Vec<&str> = json["partitions"].as_array().unwrap().iter().map(|part| part["fs"]["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["fat32", "ext4", "ntfs", "exfat"]);
}

#[test]
fn fresh_identifiers_differ_and_kept_ones_warn() {
    let place = Place::new();
    let (disk, _) = filled(&place);
    let target = place.sparse("corvane.img", 256 * MIB);
    let (code, report) = place.json(&["clone", path(&disk), path(&target), "--confirm", "vane", "--ids", "fresh"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    let id = |file: &std::path::Path| place.json(&["show", path(file)]).1["table"]["disk_id"].as_str().unwrap().to_string();
    assert_ne!(id(&disk), id(&target));
    assert!(text(&tool(&["sgdisk", "-v", path(&target)]).stdout).contains("No problems found"));
    let (_, out, _) = place.run(&["clone", path(&disk), path(&target), "--confirm", "vane"]);
    assert!(out.contains("ids-kept") && out.contains("target-holds") && out.contains("4 partitions"), "{out}");
}

#[test]
fn four_kilobyte_sectors_clone_onto_a_larger_device_of_their_kind_only() {
    let place = Place::new();
    let disk = Loop::over(&place.sparse("four.img", 200 * MIB), &["--sector-size", "4096"]);
    let larger = Loop::over(&place.sparse("larger.img", 300 * MIB), &["--sector-size", "4096"]);
    let other = Loop::over(&place.sparse("other.img", 300 * MIB), &[]);
    divide(disk.path(), "label: gpt\nsize=100MiB, name=papers\nsize=50MiB\n");
    let window = Loop::over(&disk.0, &["--offset", "1048576", "--sizelimit", "104857600"]);
    tool(&["mke2fs", "-q", "-t", "ext4", "-b", "4096", window.path()]);
    drop(window);
    let (code, report) = place.json(&["clone", disk.path(), larger.path(), "--confirm", &larger.tail()]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    tool(&["sfdisk", "--verify", "-q", larger.path()]);
    let shown = place.json(&["show", larger.path()]).1;
    assert_eq!((shown["drive"]["logical_sector"].as_u64(), shown["table"]["state"].as_str()), (Some(4096), Some("sound")));
    let copied = Loop::over(&larger.0, &["--offset", "1048576", "--sizelimit", "104857600"]);
    tool(&["e2fsck", "-fn", copied.path()]);
    assert_eq!(place.json(&["clone", disk.path(), other.path(), "--confirm", &other.tail()]).1["code"], "sector-differs");
}

#[test]
fn an_attached_twin_is_named_before_the_run() {
    let place = Place::new();
    let (disk, _) = filled(&place);
    let copy = place.path("copy.img");
    fs::copy(&disk, &copy).unwrap();
    let twin = Loop::over(&copy, &[]);
    let (_, out, _) = place.run(&["clone", path(&disk), path(&place.path("third.img")), "--new-size", "256MiB", "--confirm", "hird"]);
    assert!(out.contains("same-ids") && out.contains(twin.path()), "{out}");
    let (_, fresh, _) =
        place.run(&["clone", path(&disk), path(&place.path("fourth.img")), "--new-size", "256MiB", "--confirm", "urth", "--ids", "fresh"]);
    assert!(!fresh.contains("same-ids"), "{fresh}");
}

#[test]
fn a_mounted_source_is_a_thing_to_mind_but_no_stop() {
    let place = Place::new();
    let (disk, parts) = filled(&place);
    let device = Loop::over(&disk, &[]);
    let part = Loop::part(&disk, parts[1].0, parts[1].1);
    let mount = Mount::of(&["mount", "-o", "ro"], part.path(), place.path("in-use"));
    let whole = place.json(&["show", part.path()]).1;
    assert_eq!(whole["drive"]["mounted"][0], path(&mount.0));
    let (code, out, _) = place.run(&["clone", part.path(), path(&place.path("one.img")), "--new-size", "64MiB", "--confirm", "one"]);
    assert_eq!(code, 0, "{out}");
    assert!(out.contains("source-in-use"), "{out}");
    let (code, out, _) = place.run(&["image", part.path(), path(&place.path("one.zbi"))]);
    assert_eq!(code, 0, "{out}");
    assert!(out.contains("source-in-use") && out.contains("nothing was written to it while it was read"), "{out}");
    let checked = place.run(&["check", part.path()]).1;
    assert!(checked.contains("the drive was in use, but nothing was written to it while it was read"), "{checked}");
    let piped = place.badger(&["image", part.path(), "-"]).output().unwrap();
    assert!(piped.status.success() && text(&piped.stderr).contains("source-in-use"), "{}", text(&piped.stderr));
    drop(device);
}

/// Who is not root does not see whose programs write to a drive, and is told so.
#[test]
fn writers_that_cannot_be_seen_are_told_of() {
    let place = Place::new();
    let (source, target) = (place.noise("weir.img", 8 * MIB, 1), place.path("fresh.img"));
    let args = ["clone", path(&source), path(&target), "--new-size", "8MiB"];
    let is_told = |mut command: Command| {
        let out = text(&command.output().unwrap().stdout);
        assert!(out.contains("[target-new]"), "{out}");
        out.contains("[writers-unseen]")
    };
    assert!(!is_told(place.badger(&args)));
    // Somebody else, who comes into every folder all the same: the place is root's own.
    let mut other = Command::new("setpriv");
    other.args(["--reuid", "65534", "--clear-groups", "--inh-caps", "+dac_override", "--ambient-caps", "+dac_override"]);
    let mine = place.badger(&args);
    other.arg(mine.get_program()).args(mine.get_args()).envs(mine.get_envs().filter_map(|(name, value)| Some((name, value?))));
    assert!(is_told(other));
}

#[test]
fn verify_tells_equal_from_different() {
    let place = Place::new();
    let (a, b) = (place.noise("a.img", 3 * MIB, 1), place.noise("b.img", 3 * MIB, 1));
    assert_eq!(place.run(&["verify", path(&a), path(&b)]).0, 0);
    OpenOptions::new().write(true).open(&b).unwrap().write_all_at(b"x", 512 * 700 + 3).unwrap();
    let (code, report) = place.json(&["verify", path(&a), path(&b)]);
    assert_eq!((code, &report["differing"]), (1, &serde_json::json!([{"start": 700, "sectors": 1}])));
    // What is larger is not compared to its end, and a drive that equals itself is no copy, whatever it is called.
    let longer = place.path("longer.img");
    fs::copy(&a, &longer).unwrap();
    OpenOptions::new().write(true).open(&longer).unwrap().set_len(4 * MIB).unwrap();
    let (code, out, _) = place.run(&["verify", path(&a), path(&longer)]);
    assert!(code == 0 && out.contains("equal over 3.15 MB") && out.contains("longer.img is 1.05 MB larger, which was not compared"), "{out}");
    let device = Loop::over(&a, &[]);
    let link = place.path("link.img");
    std::os::unix::fs::symlink(&a, &link).unwrap();
    let hard = place.path("hard.img");
    fs::hard_link(&a, &hard).unwrap();
    for same in [&a, &link, &hard] {
        let (code, _, errors) = place.run(&["verify", path(&a), path(same)]);
        assert!(code == 2 && errors.contains("same-drive"), "{errors}");
    }
    let (code, report) = place.json(&["verify", device.path(), path(&a)]);
    assert!(code == 0 && report["notes"][0].as_str().unwrap().contains("the same storage"), "{report}");
}

/// Two states that one image keeps lie in one file, and are two all the same.
#[test]
fn verify_compares_a_state_with_what_the_image_holds_now() {
    let place = Place::new();
    let image = place.path("weir.qcow2");
    let tool = |program: &str, args: &[&str]| assert!(Command::new(program).args(args).stdout(Stdio::null()).status().unwrap().success());
    tool("qemu-img", &["create", "-q", "-f", "qcow2", path(&image), "8M"]);
    tool("qemu-io", &["-c", "write -P 1 0 1M", path(&image)]);
    tool("qemu-img", &["snapshot", "-c", "early", path(&image)]);
    let early = format!("{}@early", path(&image));
    let same = place.json(&["verify", &early, path(&image)]);
    assert_eq!((same.0, &same.1["same"]), (0, &true.into()), "{same:?}");
    tool("qemu-io", &["-c", "write -P 2 0 1M", path(&image)]);
    let (code, report) = place.json(&["verify", &early, path(&image)]);
    assert_eq!((code, &report["differing_sectors"]), (1, &2048.into()), "{report}");
}

/// What could not be read is neither equal nor different.
#[test]
fn verify_takes_nothing_unread_for_equal() {
    let place = Place::new();
    let good = place.noise("slate.img", 3 * MIB, 1);
    let copy = place.path("copy.img");
    fs::copy(&good, &copy).unwrap();
    let drive = place.drive("BEEF", "slate.img", "[[fault]]\nkind = \"unreadable\"\nlba = 700\nsectors = 9\n");
    let (code, report) = place.json(&["verify", path(&drive), path(&copy)]);
    let places = serde_json::json!([{"start": 700, "sectors": 9}]);
    assert_eq!((code, &report["same"], &report["differing_sectors"]), (1, &false.into(), &0.into()), "{report}");
    assert_eq!((&report["unreadable"], &report["unreadable_sectors"]), (&places, &9.into()));
}

#[test]
fn a_reader_that_goes_away_does_not_break_off_a_run() {
    let place = Place::new();
    let source = place.noise("weir.img", 32 * MIB, 1);
    let target = place.path("fresh.img");
    let mut run = place
        .badger(&["clone", path(&source), path(&target), "--new-size", "32MiB", "--confirm", "resh", "--events"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    drop(run.stdout.take());
    assert_eq!(run.wait().unwrap().code(), Some(0));
    assert!(fs::read(&source).unwrap() == fs::read(&target).unwrap());
}

#[test]
fn show_prints_the_promised_document() {
    let place = Place::new();
    let (disk, parts) = filled(&place);
    let drive = place.drive("7F3C", "field-laptop.img", "");
    let json = place.json(&["show", path(&drive)]).1;
    assert_eq!(
        (json["drive"]["model"].as_str(), json["drive"]["tail"].as_str(), json["drive"]["bus"].as_str()),
        (Some("7F3C"), Some("7F3C"), Some("sata"))
    );
    for field in ["path", "serial", "size_bytes", "logical_sector", "physical_sector", "mounted"] {
        assert!(!json["drive"][field].is_null(), "{field}");
    }
    let part = &json["partitions"][1];
    assert_eq!((part["number"].as_u64(), part["start"].as_u64(), part["sectors"].as_u64()), (Some(2), Some(parts[1].0), Some(parts[1].1)));
    assert_eq!((part["name"].as_str(), part["bootable"].as_bool(), part["fs"]["kind"].as_str()), (Some("papers"), Some(false), Some("ext4")));
    assert_eq!(part["fs"]["state"], "clean");
    assert!(part["fs"]["used_bytes"].as_u64().unwrap() > 0 && part["fs"]["problems"].as_array().unwrap().is_empty());
    assert_eq!((json["table"]["kind"].as_str(), json["table"]["problems"].as_array().unwrap().len()), (Some("gpt"), 0));
    let checked = place.json(&["check", path(&disk)]);
    assert_eq!((checked.0, checked.1["proof"][0]["result"].as_str()), (0, Some("holds")));
    OpenOptions::new().write(true).open(&disk).unwrap().write_all_at(b"?", 512 + 20).unwrap();
    let checked = place.json(&["check", path(&disk)]);
    assert_eq!((checked.0, checked.1["proof"][0]["result"].as_str()), (1, Some("fails")));
    let damaged = place.json(&["show", path(&disk)]).1;
    assert_eq!((damaged["table"]["state"].as_str(), damaged["hazards"][0]["code"].as_str()), (Some("damaged"), Some("gpt-primary-damaged")));
    assert_eq!(damaged["hazards"][0]["level"], "mind");
}

#[rstest]
#[case::asleep("HIBR", true)]
#[case::woken("wake", false)]
#[case::wiped("\0\0\0\0", false)]
fn a_system_that_only_slept_is_named(#[case] mark: &str, #[case] asleep: bool) {
    let place = Place::new();
    let (disk, parts) = filled(&place);
    let office = Loop::part(&disk, parts[2].0, parts[2].1);
    let mount = Mount::of(&["ntfs-3g"], office.path(), place.path("fill-2"));
    fs::write(mount.0.join("hiberfil.sys"), mark.repeat(2000)).unwrap();
    drop(mount);
    drop(office);
    let shown = place.json(&["show", path(&disk)]).1;
    assert_eq!(shown["partitions"][2]["fs"]["state"], if asleep { "hibernated" } else { "clean" });
    assert_eq!(shown["hazards"].as_array().unwrap().iter().any(|hazard| hazard["code"] == "volume-asleep"), asleep);
}

#[test]
fn files_are_listed_in_every_kind_of_volume() {
    let place = Place::new();
    let (disk, _) = filled(&place);
    let named = |part: u32| format!("{}#{part}", path(&disk));
    let (code, listed) = place.json(&["ls", &named(2)]);
    assert_eq!(code, 0);
    let entries = listed["entries"].as_array().unwrap();
    let first = entries.iter().find(|entry| entry["path"] == "/count-07.csv").unwrap();
    assert_eq!((first["kind"].as_str(), first["size"].as_u64(), first["state"].as_str()), (Some("file"), Some(300 * 14), Some("whole")));
    assert!(first["modified"].as_str().unwrap().ends_with('Z'));
    let (code, ntfs) = place.json(&["ls", &named(3), "--recursive"]);
    assert_eq!((code, ntfs["entries"].as_array().unwrap().len()), (0, 41));
    assert_eq!(place.json(&["ls", &named(4)]).1["entries"].as_array().unwrap().len(), 0);
    assert_eq!(place.run(&["ls", path(&disk)]).0, 2, "which partition is not said");
    assert_eq!(place.run(&["ls", &named(9)]).0, 2);
    assert_eq!(place.run(&["ls", &named(2), "/nowhere"]).0, 2);
}

#[test]
fn events_are_one_object_a_line() {
    let place = Place::new();
    let source = place.noise("weir.img", 6 * MIB, 1);
    let (code, out, _) = place.run(&["clone", path(&source), path(&place.path("fresh.img")), "--new-size", "6MiB", "--confirm", "resh", "--events"]);
    assert_eq!(code, 0);
    let events: Vec<serde_json::Value> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let moved: u64 = events.iter().filter(|event| event["event"] == "moved").map(|event| event["len"].as_u64().unwrap()).sum();
    assert_eq!(moved, 12 * MIB, "copied and read back");
    assert_eq!(events.last().unwrap()["report"]["outcome"], "proved");
}

#[test]
fn the_sample_workshop_goes_through_and_its_paper_is_text() {
    let place = Place::new();
    let dir = place.path("workshop");
    let (code, out, err) = place.run(&["demo", "--run", "--dir", path(&dir)]);
    assert_eq!(code, 0, "{out}{err}");
    for word in ["Look", "Plan", "Run", "Prove", "Hand over", "proved"] {
        assert!(out.contains(word), "{word}");
    }
    let paper = dir.join("LR-207.pdf");
    let info = text(&tool(&["pdfinfo", path(&paper)]).stdout);
    assert!(info.contains("Pages:           2") && info.contains("A4"), "{info}");
    let words = text(&tool(&["pdftotext", "-layout", path(&paper), "-"]).stdout);
    for word in [
        "Lantern Row Repairs",
        "LR-207",
        "Alder Weir fish-count station",
        "TM25-0091-7F3C",
        "CN96-4410-0F2A",
        "PROVED",
        "Rate over position",
        "as intended",
    ] {
        assert!(words.contains(word), "{word} in {words}");
    }
    let svg = place.path("sheet.svg");
    assert_eq!(place.run(&["sheet", "1", "--svg", path(&svg)]).0, 0);
    tool(&["rsvg-convert", "-o", path(&place.path("sheet.png")), path(&svg)]);
    assert!(fs::read_to_string(&svg).unwrap().contains("TM25-0091-7F3C"));
    let colours = fs::read_to_string(&svg).unwrap();
    let grey = |code: &str| code[0..2] == code[2..4] && code[2..4] == code[4..6];
    assert!(
        colours.split("\"#").skip(1).filter(|rest| rest.len() > 6 && &rest[6..7] == "\"").all(|rest| grey(&rest[..6])),
        "it prints in black and white"
    );
}

/// The workshop's settings reach sizes, papers and destinations; a word they do not know is refused before anything is done.
#[test]
fn the_settings_are_heeded() {
    let place = Place::new();
    let source = place.noise("weir.img", 8 * MIB, 1);
    let settled = place.path("config/zealous-badger");
    fs::create_dir_all(&settled).unwrap();
    let there = place.path("there");
    let file = |more: &str| {
        let text = format!("workshop = \"Lantern Row Repairs\"\ntechnician = \"Ines\"\ndestination = \"{}\"\n{more}", path(&there));
        fs::write(settled.join("config.toml"), text).unwrap();
    };
    file("");
    assert!(place.run(&["show", path(&source)]).1.contains("8.39 MB"));
    file("units = \"binary\"\ntheme = \"light\"\n");
    assert!(place.run(&["show", path(&source)]).1.contains("8 MiB"));
    let target = place.path("fresh.img");
    let (code, _) = place.json(&["clone", path(&source), path(&target), "--new-size", "8MiB", "--confirm", "resh"]);
    let paper = place.path("sheet.svg");
    assert_eq!((code, place.run(&["sheet", "1", "--svg", path(&paper)]).0), (0, 0));
    let paper = fs::read_to_string(paper).unwrap();
    assert!(paper.contains("Lantern Row Repairs") && paper.contains("Ines"));
    let (volume, data) = (place.sparse("volume.img", 8 * MIB), place.path("data"));
    fs::create_dir(&data).unwrap();
    fs::write(data.join("counts.csv"), "trout,31").unwrap();
    tool(&["mke2fs", "-q", "-F", "-d", path(&data), path(&volume)]);
    assert_eq!(place.run(&["fetch", path(&volume), "/counts.csv"]).0, 0);
    assert!(there.join("fetched.sha256").exists());
    file("unit = \"binary\"\n");
    let (code, _, said) = place.run(&["show", path(&source)]);
    assert!(code == 2 && said.contains("config") && said.contains("`unit`"), "{said}");
}

/// The log says what happened and to which drive; people's files it names only where that was asked for.
#[test]
fn the_log_names_no_files() {
    let place = Place::new();
    let data = place.path("data");
    fs::create_dir(&data).unwrap();
    fs::write(data.join("letter to the weir keeper"), "trout").unwrap();
    let volume = place.sparse("volume.img", 8 * MIB);
    tool(&["mke2fs", "-q", "-F", "-d", path(&data), path(&volume)]);
    let (into, wrong) = (place.path("into"), "/no letter to the weir keeper");
    assert_eq!(place.run(&["fetch", path(&volume), "/letter to the weir keeper", "--into", path(&into)]).0, 0);
    assert_eq!(place.run(&["ls", path(&volume), wrong]).0, 2);
    let log = || fs::read_to_string(place.path("state/zealous-badger/badger.log")).unwrap();
    let text = log();
    assert!(text.contains("files were copied out") && text.contains("files=1") && text.contains("refused"), "{text}");
    assert!(!text.contains("letter"), "{text}");
    place.run(&["ls", path(&volume), wrong, "--log-names"]);
    assert!(log().contains(wrong));
}

/// Completions that the shell takes, a page of the manual for every command, the build.
#[test]
fn what_people_expect_of_a_program() {
    let place = Place::new();
    let script = place.path("completions");
    fs::write(&script, place.run(&["completions", "bash"]).1).unwrap();
    let asked = format!("source {}; COMP_WORDS=(badger cl); COMP_CWORD=1; _badger badger cl badger; echo ${{COMPREPLY[@]}}", path(&script));
    assert_eq!(text(&tool(&["bash", "-c", &asked]).stdout).trim(), "clone");
    let manual = place.path("man");
    assert_eq!(place.run(&["man", path(&manual)]).0, 0);
    let help = place.run(&["--help"]).1;
    let commands = help.lines().skip_while(|line| *line != "Commands:").skip(1).take_while(|line| !line.is_empty());
    for command in commands.filter_map(|line| line.split_whitespace().next()).filter(|command| *command != "help") {
        assert!(fs::read_to_string(manual.join(format!("badger-{command}.1"))).unwrap().contains(".TH"), "{command}");
    }
    let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    assert!(!place.badger(&["completions", "bash"]).stdout(full).status().unwrap().success());
    let version = text(&Command::new(env!("CARGO_BIN_EXE_badger")).arg("--version").output().unwrap().stdout);
    assert!(version.starts_with(concat!("badger ", env!("CARGO_PKG_VERSION"), " (")) && version.contains("-linux"), "{version}");
}

/// The log follows no link, of either kind, to what is somebody's.
#[test]
fn the_log_is_written_to_nothing_else() {
    let place = Place::new();
    let (source, state) = (place.noise("weir.img", 8 * MIB, 1), place.path("state/zealous-badger"));
    let before = fs::read(&source).unwrap();
    fs::create_dir_all(&state).unwrap();
    let log = state.join("badger.log");
    for link in [std::os::unix::fs::symlink::<&Path, &Path>, fs::hard_link] {
        link(&source, &log).unwrap();
        assert_eq!(place.run(&["show", path(&source)]).0, 0);
        assert!(fs::read(&source).unwrap() == before);
        fs::remove_file(&log).unwrap();
    }
}

/// While drives are only looked at, a signal ends the program at once, however slow they are.
#[test]
fn a_look_that_takes_long_is_ended_by_a_signal() {
    let place = Place::new();
    let (image, target) = (place.noise("weir.img", 64 * MIB, 1), place.sparse("fresh.img", 64 * MIB));
    let source = image.with_file_name("weir.drive.toml");
    let text = "backing = \"weir.img\"\n[identity]\nmodel = \"weir\"\nserial = \"WE-1\"\nbus = \"sata\"\n[pace]\nread_mb_s = 0.001\nwrite_mb_s = 1.0\nreal = true\n";
    fs::write(&source, text).unwrap();
    let mut run = place.badger(&["clone", path(&source), path(&target), "--confirm", "resh"]).stdout(Stdio::null()).spawn().unwrap();
    std::thread::sleep(Duration::from_secs(1));
    assert!(run.try_wait().unwrap().is_none(), "it is over before it was to be stopped");
    // Whatever runs in the background of a shell may have been told not to hear an interrupt.
    tool(&["kill", "-TERM", &run.id().to_string()]);
    let asked = std::time::Instant::now();
    while run.try_wait().unwrap().is_none() {
        let too_long = asked.elapsed() > Duration::from_secs(5);
        if too_long {
            run.kill().unwrap();
        }
        assert!(!too_long, "it does not hear the signal");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// The key in a machine's firmware is read out of its table, masked unless it is asked for; a drive without a system says so.
#[test]
fn the_key_of_a_machines_firmware_is_told_masked() {
    let place = Place::new();
    let (drive, table) = (place.noise("plain.img", 8 << 20, 3), place.path("MSDM"));
    let key = "BBBBB-CCCCC-DDDDD-FFFFF-GGGGG";
    let mut bytes = [b"MSDM".as_slice(), &85u32.to_le_bytes(), &[1, 0], b"SAMPLEWORKSHOP", &[0; 12]].concat();
    [1u32, 0, 1, 0, 29].iter().for_each(|value| bytes.extend(value.to_le_bytes()));
    bytes.extend(key.as_bytes());
    bytes[9] = 0u8.wrapping_sub(bytes.iter().fold(0, |sum: u8, byte| sum.wrapping_add(*byte)));
    std::fs::write(&table, &bytes).unwrap();
    let asked = |more: &[&str]| place.run(&[&["licence", path(&drive), "--firmware", path(&table)], more].concat()).1;
    let told = asked(&[]);
    assert!(told.contains("no system with a licence") && told.contains("*****-*****-*****-*****-GGGGG") && !told.contains("CCCCC"), "{told}");
    assert!(asked(&["--keys"]).contains(key));
    bytes[60] ^= 1;
    std::fs::write(&table, &bytes).unwrap();
    assert!(asked(&[]).contains("checksum is wrong"));
    let (_, machines, _) = place.run(&["machines"]);
    assert!(machines.contains("uefi-nvme") && place.run(&["machines", "uefi-nvme"]).1.contains("secure-boot = true"), "{machines}");
    assert_eq!(place.json(&["rehearse", path(&drive), "--machine", "arm-nvme"]).1["code"], "no-emulator");
    assert_eq!(place.run(&["check", path(&drive), "--machine", "nothing-of-that-name"]).0, 2);
}
