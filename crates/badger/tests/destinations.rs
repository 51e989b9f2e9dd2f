//! Files that the program makes, of whatever kind: none is ever written to a source, through a link, or over somebody's file.

use crate::support::{MIB, Place, path, text, tool};
use rstest::rstest;
use std::fs;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// What is mounted, and the programs behind it; all of it ends with the test.
struct Layers {
    mounts: Vec<PathBuf>,
    servers: Vec<Child>,
}

impl Drop for Layers {
    fn drop(&mut self) {
        for place in self.mounts.iter().rev() {
            let _ = Command::new("umount").arg("-l").arg(place).status();
        }
        for server in &mut self.servers {
            let _ = server.kill();
            let _ = server.wait();
        }
    }
}

/// A volume with a file on it, in `source.img`.
fn volume(place: &Place) -> PathBuf {
    let raw = place.sparse("source.img", 64 * MIB);
    tool(&["mkntfs", "-q", "-F", path(&raw)]);
    let layers = by_its_driver(place, &raw);
    fs::write(place.path("mnt/scores.txt"), "quietly").unwrap();
    drop(layers);
    raw
}

/// Mounted from the file itself.
fn by_its_driver(place: &Place, raw: &Path) -> Layers {
    let mnt = place.path("mnt");
    fs::create_dir_all(&mnt).unwrap();
    tool(&["ntfs-3g", path(raw), path(&mnt)]);
    Layers { mounts: vec![mnt], servers: Vec::new() }
}

/// Mounted from a directory whose name is no text.
fn by_a_name_that_is_no_text(place: &Place, raw: &Path) -> Layers {
    use std::os::unix::ffi::OsStrExt;
    let (mnt, dir) = (place.path("mnt"), place.dir.path().join(std::ffi::OsStr::from_bytes(b"shelf-\xff")));
    fs::create_dir_all(&mnt).unwrap();
    fs::create_dir_all(&dir).unwrap();
    let other = dir.join("other.img");
    fs::hard_link(raw, &other).unwrap();
    assert!(Command::new("ntfs-3g").arg(&other).arg(&mnt).status().unwrap().success());
    Layers { mounts: vec![mnt], servers: Vec::new() }
}

/// Mounted from a file that a server gives, whose name is all that the system shows: what lies below is not to be seen.
fn by_a_server(place: &Place, raw: &Path) -> Layers {
    let (mnt, shown, socket) = (place.path("mnt"), place.path("shown"), place.path("served"));
    fs::create_dir_all(&mnt).unwrap();
    fs::create_dir_all(&shown).unwrap();
    let mut layers = Layers { mounts: vec![shown.clone(), mnt.clone()], servers: Vec::new() };
    let quiet = |command: &mut Command| command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    layers.servers.push(quiet(Command::new("nbdkit").args(["-f", "-U"]).arg(&socket).arg("file").arg(raw)));
    until(|| socket.exists());
    layers.servers.push(quiet(Command::new("nbdfuse").arg(shown.join("nbd")).arg("--unix").arg(&socket)));
    until(|| shown.join("nbd").exists());
    tool(&["ntfs-3g", path(&shown.join("nbd")), path(&mnt)]);
    layers
}

fn until(holds: impl Fn() -> bool) {
    let start = Instant::now();
    while !holds() {
        assert!(start.elapsed() < Duration::from_secs(20));
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn names(dir: &Path) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(dir).unwrap().flatten().map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

/// Every kind of file that a command writes, on the volume that it reads.
#[rstest]
fn nothing_of_ours_lies_on_a_mounted_source(#[values(by_its_driver, by_a_name_that_is_no_text, by_a_server)] mounted: fn(&Place, &Path) -> Layers) {
    let place = Place::new();
    let raw = volume(&place);
    let _layers = mounted(&place, &raw);
    let mnt = place.path("mnt");
    let image = path(&place.path("out.zbi")).to_string();
    // What is asked for, the codes of which one refuses it, and the variable of the environment that leads there.
    let asked = [
        ("fetch SOURCE scores.txt --into MNT/copied", "into-source target-on-source", ""),
        ("image SOURCE MNT/drive.zbi", "target-on-source", ""),
        ("image SOURCE MNT/drive.img --used", "target-on-source", ""),
        ("clone SOURCE MNT/drive.img --new-size 64MiB --confirm rive", "target-on-source", ""),
        ("salvage SOURCE MNT/saved.img --map OUT.map", "target-on-source", ""),
        ("salvage SOURCE OUT.img --map MNT/saved.map", "map-misplaced target-on-source", ""),
        ("image SOURCE OUT.zbi", "log-on-source target-on-source", "XDG_STATE_HOME"),
        ("salvage SOURCE OUT.img --map OUT.map", "log-on-source target-on-source", "XDG_STATE_HOME"),
        ("fetch SOURCE scores.txt --into OUT", "log-on-source target-on-source", "XDG_STATE_HOME"),
        ("image SOURCE OUT.zbi", "temporary-on-source target-on-source", "TMPDIR"),
        ("show SOURCE", "", "XDG_STATE_HOME"),
    ];
    for (asked, codes, variable) in asked {
        let said = |word: &str| word.replace("SOURCE", path(&raw)).replace("MNT", path(&mnt)).replace("OUT", path(&place.path("out")));
        let args: Vec<String> = asked.split(' ').map(said).collect();
        let mut command = place.badger(&args.iter().map(String::as_str).collect::<Vec<_>>());
        if !variable.is_empty() {
            command.env(variable, &mnt);
        }
        let output = command.output().unwrap();
        let said = text(&output.stderr);
        let is_right = if codes.is_empty() { output.status.success() } else { codes.split(' ').any(|code| said.contains(&format!("({code})"))) };
        assert!(is_right, "{asked}: {said}{}", text(&output.stdout));
        assert_eq!(names(&mnt), ["scores.txt"], "{asked}");
    }
    // The ledger and its journals.
    let output = Command::new(env!("CARGO_BIN_EXE_badger"))
        .args(["image", path(&raw), &image, "--ledger", path(&mnt.join("ledger.db"))])
        .env("XDG_STATE_HOME", place.path("state"))
        .output()
        .unwrap();
    assert!(["ledger-on-source", "target-on-source"].iter().any(|code| text(&output.stderr).contains(code)), "{}", text(&output.stderr));
    assert_eq!(names(&mnt), ["scores.txt"]);
}

/// Standard output is a destination like any other.
#[test]
fn standard_output_is_no_way_to_a_source() {
    let place = Place::new();
    let raw = volume(&place);
    let before = fs::read(&raw).unwrap();
    for args in [vec!["image", path(&raw), "-"], vec!["show", path(&raw)], vec!["ls", path(&raw), "--json"]] {
        let onto = fs::OpenOptions::new().read(true).write(true).open(&raw).unwrap();
        let output = place.badger(&args).stdout(onto).output().unwrap();
        assert!(text(&output.stderr).contains("output-on-source"), "{args:?}: {}", text(&output.stderr));
        assert!(fs::read(&raw).unwrap() == before, "{args:?}");
    }
    let _layers = by_its_driver(&place, &raw);
    for (args, name) in [(["image", path(&raw), "-"], "a"), (["ls", path(&raw), "/"], "b")] {
        let onto = fs::File::create(place.path("mnt").join(name)).unwrap();
        let output = place.badger(&args).stdout(onto).output().unwrap();
        assert!(text(&output.stderr).contains("output-on-source"), "{args:?}: {}", text(&output.stderr));
        assert_eq!(fs::metadata(place.path("mnt").join(name)).unwrap().len(), 0, "{args:?}");
    }
}

/// A salvage reads the whole drive before anybody notices that what it wrote is gone.
#[rstest]
#[case::one_file("saved.img", "saved.img")]
#[case::the_list_beside_the_map("saved.map.pieces", "saved.map")]
#[case::a_further_piece_of_another_drive("out.img", "weir.004")]
#[case::the_image_and_the_map("saved.zbi", "saved.zbi")]
#[case::what_the_image_is_gathered_in("saved.zbi", "saved.gathered.img")]
#[case::by_a_longer_way("./saved.img", "saved.img")]
fn a_map_is_no_other_file(#[case] target: &str, #[case] map: &str) {
    let place = Place::new();
    let drive = place.noise("drive.img", MIB, 5);
    for number in 1..=3 {
        place.noise(&format!("weir.{number:03}"), MIB, number);
    }
    let before = names(place.dir.path());
    let (code, _, said) = place.run(&["salvage", path(&drive), path(&place.path(target)), "--map", path(&place.path(map))]);
    assert!(code == 2 && said.contains("map-misplaced"), "{said}");
    let after: Vec<String> = names(place.dir.path()).into_iter().filter(|name| !["state", "ledger.db"].contains(&name.as_str())).collect();
    assert_eq!(after, before);
}

#[test]
fn a_map_is_used_by_one_salvage_at_a_time() {
    let place = Place::new();
    place.noise("drive.img", 8 * MIB, 5);
    let drive = place.drive("slow", "drive.img", "[pace]\nread_mb_s = 1.0\nwrite_mb_s = 1.0\nseek_ms = 0.0\nreal = true\n");
    let map = place.path("saved.map");
    let mut first = place.badger(&["salvage", path(&drive), path(&place.path("a.img")), "--map", path(&map)]).stdout(Stdio::null()).spawn().unwrap();
    until(|| map.exists());
    let (code, _, said) = place.run(&["salvage", path(&drive), path(&place.path("b.img")), "--map", path(&map)]);
    first.kill().unwrap();
    first.wait().unwrap();
    assert!(code == 2 && ["map-in-use", "map-of-another-target"].iter().any(|word| said.contains(word)), "{said}");
}

/// Gives the first name to the second file.
type Laid = fn(&Path, &Path);

/// Somebody's file, by each of the ways in which a name can lead to it.
const WAYS: [(&str, Laid); 3] = [
    ("a link", |name, file| symlink(file, name).unwrap()),
    ("a second name", |name, file| fs::hard_link(file, name).unwrap()),
    ("the file itself", |name, file| _ = fs::copy(file, name).unwrap()),
];

/// Whatever has the name of a file of ours keeps its bytes.
#[rstest]
#[case::map(&["salvage", "DRIVE", "NEW", "--map", "NAME"], "NAME", "")]
#[case::list_of_pieces(&["salvage", "DRIVE", "NEW", "--map", "NAME"], "NAME.pieces", "")]
#[case::paper(&["sheet", "1", "--pdf", "NAME"], "NAME", "")]
#[case::drawing(&["sheet", "1", "--svg", "NAME"], "NAME", "")]
#[case::manual(&["man", "."], "badger-clone.1", "")]
#[case::workshop(&["demo", "--dir", "NAME"], "NAME/making", "dir")]
#[case::workshop_drive(&["demo", "--dir", "NAME"], "NAME/brindle-120.drive.toml", "dir")]
#[case::image(&["image", "DRIVE", "NAME.zbi"], "NAME.zbi", "")]
#[case::raw_image(&["image", "DRIVE", "NAME.img"], "NAME.img", "")]
#[case::split_raw_image(&["image", "DRIVE", "NAME.001", "--split", "300k"], "NAME.002", "")]
#[case::split_image(&["image", "DRIVE", "NAME.zbi", "--split", "300k"], "NAME.002.zbi", "")]
#[case::socket(&["lend", "DRIVE", "--socket", "NAME"], "NAME", "")]
#[case::log(&["show", "DRIVE"], "state/zealous-badger/badger.log", "")]
fn files_of_others_are_left_alone(#[case] args: &[&str], #[case] taken: &str, #[case] more: &str) {
    for (way, lay) in WAYS {
        let place = Place::new();
        let drive = place.noise("drive.img", MIB, 5);
        assert_eq!(place.run(&["clone", path(&drive), path(&place.path("first.img")), "--new-size", "1MiB", "--confirm", "irst"]).0, 0);
        let precious = place.noise("precious", MIB / 2, 9);
        let (before, node) = (fs::read(&precious).unwrap(), fs::metadata(&precious).unwrap().ino());
        let said =
            |word: &str| word.replace("NAME", path(&place.path("taken"))).replace("DRIVE", path(&drive)).replace("NEW", path(&place.path("new.img")));
        let name = place.path(&taken.replace("NAME", "taken"));
        fs::create_dir_all(name.parent().unwrap()).unwrap();
        let _ = fs::remove_file(&name);
        if more == "dir" && !taken.ends_with("making") {
            fs::write(name.with_file_name("making"), "zealous badger: the sample workshop is being unpacked here\n").unwrap();
        }
        lay(&name, &precious);
        let args: Vec<String> = args.iter().map(|word| said(word)).collect();
        let mut command = place.badger(&args.iter().map(String::as_str).collect::<Vec<_>>());
        let done = command.current_dir(place.dir.path()).output().unwrap();
        let is_log = taken.ends_with("badger.log");
        assert!(
            is_log || way == "the file itself" && more == "dir" && !taken.ends_with("making") || !done.status.success(),
            "{way}: {}",
            text(&done.stdout)
        );
        assert!(fs::read(&precious).unwrap() == before && fs::metadata(&precious).unwrap().ino() == node, "{way}: {}", text(&done.stderr));
        let kept = fs::read(&name).unwrap();
        // A log is a text of nobody's making but ours; one that is there goes on.
        assert!(kept == before || is_log && kept.starts_with(&before) || more == "dir" && way == "the file itself", "{way}: {taken} is another file");
    }
}

/// Tables of ours in a database of somebody else.
#[rstest]
#[case::a_database("CREATE TABLE place (id INTEGER PRIMARY KEY, url TEXT); INSERT INTO place VALUES (1, 'weir');")]
#[case::one_with_a_version("PRAGMA user_version = 1; CREATE TABLE job (id INTEGER PRIMARY KEY);")]
#[case::one_with_a_mark("PRAGMA application_id = 7;")]
fn databases_of_others_are_no_ledger(#[case] made: &str) {
    let place = Place::new();
    let other = place.path("places.sqlite");
    let script = format!("import sqlite3; db = sqlite3.connect({:?}); db.executescript({made:?}); db.commit()", path(&other));
    tool(&["python3", "-c", &script]);
    let before = fs::read(&other).unwrap();
    for args in [vec!["jobs"], vec!["sheet", "1"]] {
        let output = Command::new(env!("CARGO_BIN_EXE_badger"))
            .args(&args)
            .arg("--ledger")
            .arg(&other)
            .env("XDG_STATE_HOME", place.path("state"))
            .output()
            .unwrap();
        assert_eq!(output.status.code(), Some(2), "{}", text(&output.stderr));
        assert!(fs::read(&other).unwrap() == before, "{args:?}");
        assert_eq!(names(place.dir.path()), ["places.sqlite", "state"]);
    }
}

/// Whatever lies where the socket was goes on lying there.
#[test]
fn a_lender_takes_away_only_its_own_socket() {
    let place = Place::new();
    let (drive, socket) = (place.noise("drive.img", MIB, 5), place.path("door"));
    let mut lender = place.badger(&["lend", path(&drive), "--socket", path(&socket)]).stdout(Stdio::null()).spawn().unwrap();
    until(|| socket.exists());
    fs::remove_file(&socket).unwrap();
    fs::write(&socket, "scores").unwrap();
    tool(&["kill", &lender.id().to_string()]);
    lender.wait().unwrap();
    assert_eq!(fs::read(&socket).unwrap(), b"scores");
}

/// A drive that another program of this machine serves is the drive that it serves, wherever in it that begins.
#[rstest]
#[case::whole(&[])]
#[case::a_stretch(&["--filter=offset"])]
fn a_served_drive_is_known_for_what_it_is(#[case] filters: &[&str], #[values(false, true)] through_another: bool) {
    let place = Place::new();
    let target = place.noise("target.img", 24 * MIB, 5);
    let before = fs::read(&target).unwrap();
    let served = |socket: &Path, args: &[&str]| {
        let server = Command::new("nbdkit").args(["-f", "-U"]).arg(socket).args(args).stdin(Stdio::null()).spawn().unwrap();
        let layers = Layers { mounts: Vec::new(), servers: vec![server] };
        until(|| socket.exists());
        layers
    };
    let (near, far) = (place.path("near"), place.path("far"));
    let range: &[&str] = if filters.is_empty() { &[] } else { &["offset=1234567", "range=12582912"] };
    let file = [filters, &["file", path(&target)], range].concat();
    let _server = served(if through_another { &far } else { &near }, &file);
    let uri = format!("nbd+unix:///?socket={}", path(&far));
    let _proxy = through_another.then(|| served(&near, &["nbd", &format!("uri={uri}")]));
    let source = format!("nbd+unix:///?socket={}", path(&near));
    let (code, report) = place.json(&["clone", &source, path(&target), "--confirm", "rget"]);
    assert_eq!(code, 2, "{report}");
    let codes = ["same-storage", "source-on-target", "target-on-source", "target-written", "same-drive"];
    assert!(codes.contains(&report["code"].as_str().unwrap_or_default()), "{report}");
    assert!(fs::read(&target).unwrap() == before, "nothing was written, or everything was put back");
}

/// A raw drive that begins like a container is a raw drive: somebody else's bytes say nothing of what the file is.
#[test]
fn what_a_drive_begins_with_does_not_say_what_its_file_is() {
    let place = Place::new();
    let base = place.noise("customer.img", 4 * MIB, 3);
    let inner = place.path("inner.qcow2");
    tool(&["qemu-img", "create", "-q", "-f", "qcow2", "-b", path(&base), "-F", "raw", path(&inner), "4M"]);
    let mut bytes = fs::read(&inner).unwrap();
    bytes.resize(8 << 20, 7);
    let drive = place.path("drive.raw");
    fs::write(&drive, &bytes).unwrap();
    let size = |args: &[&str]| place.json(args).1["drive"]["size_bytes"].as_u64();
    assert_eq!(size(&["show", path(&drive)]), Some(8 << 20), "the name says raw");
    // What the program wrote as a raw drive is one, by whatever name.
    let copy = place.path("copy.img");
    let (code, report) = place.json(&["clone", path(&drive), path(&copy), "--new-size", "8MiB", "--confirm", "copy"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    assert!(fs::read(&copy).unwrap() == bytes);
    let again = place.path("again.img");
    let (code, report) = place.json(&["clone", path(&copy), path(&again), "--new-size", "8MiB", "--confirm", "gain"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    assert!(fs::read(&again).unwrap() == bytes);
    // A file of somebody else that says both is asked about.
    for name in ["other.img", "other", "other.vhd"] {
        let other = place.path(name);
        fs::write(&other, &bytes).unwrap();
        let (code, _, said) = place.run(&["show", path(&other)]);
        assert!(code == 2 && said.contains("format-unclear") && said.contains("--as raw"), "{name}: {said}");
        assert_eq!(size(&["show", path(&other), "--as", "raw"]), Some(8 << 20));
        assert_eq!(size(&["show", path(&other), "--as", "qcow2"]), Some(4 << 20));
    }
    let (code, _, said) = place.run(&["show", path(&inner)]);
    assert_eq!(code, 0, "{said}");
    let shown = place.run(&["show", path(&inner)]).1;
    assert!(shown.contains("rests on") && shown.contains("customer.img"), "{shown}");
}

/// An image never leads out of its folder.
#[test]
fn an_image_follows_no_link_out_of_its_folder() {
    let place = Place::new();
    fs::create_dir(place.path("folder")).unwrap();
    let secret = place.noise("secret", MIB, 7);
    symlink(&secret, place.path("folder/flat.bin")).unwrap();
    let text = "# Disk DescriptorFile\nversion=1\nCID=fffffffe\nparentCID=ffffffff\ncreateType=\"monolithicFlat\"\nRW 2048 FLAT \"flat.bin\" 0\n";
    let image = place.path("folder/disk.vmdk");
    fs::write(&image, text).unwrap();
    let (code, _, said) = place.run(&["show", path(&image)]);
    assert!(code == 2 && said.contains("not beside it"), "{said}");
    fs::remove_file(place.path("folder/flat.bin")).unwrap();
    fs::copy(&secret, place.path("folder/flat.bin")).unwrap();
    assert_eq!(place.run(&["show", path(&image)]).0, 0);
}

/// A damaged image, a text, a part of a file: each would be written over a drive, and called proved.
#[rstest]
#[case::a_bit_of_the_header("drive.zbi", 3)]
#[case::a_bit_of_another_format("drive.qcow2", 3)]
#[case::a_text("notes.txt", 0)]
#[case::a_text_by_the_name_of_a_drive("notes.img", 0)]
#[case::a_few_bytes("few.img", 63)]
#[case::noise("noise.img", 512)]
fn what_is_no_image_is_not_restored(#[case] name: &str, #[case] what: usize) {
    let place = Place::new();
    let file = place.path(name);
    match name {
        "drive.zbi" | "drive.qcow2" => {
            let drive = place.noise("whole.img", MIB, 5);
            assert_eq!(place.run(&["image", path(&drive), path(&file)]).0, 0);
            let mut bytes = fs::read(&file).unwrap();
            bytes[what] ^= 1;
            fs::write(&file, bytes).unwrap();
        }
        _ if what > 0 => fs::write(&file, vec![0x5a; what]).unwrap(),
        _ => fs::write(&file, "tide table of the lower lock\n".repeat(2048)).unwrap(),
    }
    let target = place.noise("target.img", 2 * MIB, 9);
    let before = fs::read(&target).unwrap();
    let (code, report) = place.json(&["restore", path(&file), path(&target), "--confirm", "rget"]);
    assert_eq!(code, 2, "{report}");
    assert!(["no-image", "not-an-image"].contains(&report["code"].as_str().unwrap()), "{report}");
    assert!(fs::read(&target).unwrap() == before);
    // A name that promises an image is a stop for every command.
    if ["zbi", "qcow2"].iter().any(|ending| name.ends_with(ending)) {
        for args in [vec!["show", path(&file)], vec!["clone", path(&file), path(&target), "--confirm", "rget"], vec!["ls", path(&file)]] {
            assert_eq!(place.run(&args).0, 2, "{args:?}");
        }
    }
}

/// An image of changes over a base that is not its own.
#[test]
fn a_parent_that_was_changed_is_not_taken() {
    let format = "vmdk";
    let place = Place::new();
    let (base, child) = (place.path(&format!("base.{format}")), place.path(&format!("child.{format}")));
    tool(&["qemu-img", "create", "-q", "-f", format, path(&base), "4M"]);
    tool(&["qemu-img", "create", "-q", "-f", format, "-b", path(&base), "-F", format, path(&child)]);
    let shown = place.run(&["show", path(&child)]);
    assert!(shown.0 == 0 && shown.1.contains("which has the identifier"), "{}{}", shown.1, shown.2);
    // Written to since, as its own maker does it.
    tool(&["qemu-io", "-f", format, "-c", "write -P 7 0 64k", path(&base)]);
    let (code, _, said) = place.run(&["show", path(&child)]);
    assert!(code == 2 && said.contains("it was changed, or is another one"), "{said}");
}

/// A full disk, a pipe: what is written to is looked at once more at the end.
#[test]
fn a_pipe_still_takes_an_image() {
    let place = Place::new();
    let drive = place.noise("drive.img", MIB, 5);
    let mut run = place.badger(&["image", path(&drive), "-"]).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut taken = Vec::new();
    std::io::Read::read_to_end(run.stdout.as_mut().unwrap(), &mut taken).unwrap();
    assert!(run.wait().unwrap().success());
    fs::File::create(place.path("drive.zbi")).unwrap().write_all(&taken).unwrap();
    assert_eq!(place.run(&["verify", path(&place.path("drive.zbi"))]).0, 0);
}

/// A pipe whose other end nobody opens is refused where a file is read.
#[rstest]
#[case::settings("config", &["drives", "--config", "P"])]
#[case::map("map-damaged", &["salvage", "S", "T", "--map", "P"])]
#[case::image("image-exists", &["image", "S", "P"])]
fn a_pipe_is_not_waited_for(#[case] code: &str, #[case] args: &[&str]) {
    let place = Place::new();
    let (source, pipe) = (place.noise("weir.img", MIB, 3), place.path("pipe.zbi"));
    tool(&["mkfifo", path(&pipe)]);
    let target = place.path("out.img");
    let args: Vec<&str> = args
        .iter()
        .map(|arg| [("S", &source), ("T", &target), ("P", &pipe)].iter().find(|(name, _)| name == arg).map_or(*arg, |(_, at)| path(at)))
        .collect();
    let (exit, _, errors) = place.run(&args);
    assert!(exit == 2 && errors.contains(code), "{errors}");
}

/// The directory for temporary files is no drive: a target that is made in it is another file.
#[test]
fn a_target_in_the_directory_for_temporary_files_is_made() {
    let place = Place::new();
    let (source, target) = (place.noise("weir.img", MIB, 3), place.path("copy.img"));
    let args = ["clone", path(&source), path(&target), "--new-size", "1MiB", "--confirm", "copy"];
    let out = place.badger(&args).env("TMPDIR", place.dir.path()).output().unwrap();
    assert!(out.status.success(), "{}", text(&out.stderr));
}
