//! `badger salvage` as a technician runs it: in simulated time, killed and gone on with, from servers that give errors.

use crate::support::listening::listens;
use crate::support::{MIB, Place};
use rstest::rstest;
use std::fs;
use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};
use std::time::Duration;

/// A simulated drive over noise, or over what is there already.
fn failing(place: &Place, faults: &str) -> std::path::PathBuf {
    if !place.path("drive.img").exists() {
        place.noise("drive.img", 40 * MIB, 7);
    }
    let path = place.path("t250.drive.toml");
    let text = format!(
        "backing = \"drive.img\"\n[identity]\nmodel = \"Tamarack T250\"\nserial = \"TM25-0091\"\nbus = \"usb-sata\"\n[pace]\nread_mb_s = 120.0\nwrite_mb_s = 100.0\nseek_ms = 9.0\n{faults}"
    );
    fs::write(&path, text).unwrap();
    path
}

fn text(path: &std::path::Path) -> &str {
    path.to_str().unwrap()
}

const HOLE: &str = "[[fault]]\nkind = \"unreadable\"\nlba = 30000\nsectors = 40\nms = 600\n";

#[test]
fn a_failing_drive_is_told_of_in_json() {
    let place = Place::new();
    let drive = failing(&place, HOLE);
    let (to, map) = (place.path("out.img"), place.path("out.map"));
    let (code, report) = place.json(&["salvage", text(&drive), text(&to), "--map", text(&map)]);
    assert_eq!((code, report["outcome"].as_str()), (1, Some("incomplete")), "{report}");
    assert_eq!(report["map"]["lost"].as_u64(), Some(40 * 512), "{report}");
    assert_eq!((report["lost"][0]["start"].as_u64(), report["lost"][0]["sectors"].as_u64()), (Some(30000), Some(40)), "{report}");
    let names: Vec<&str> = report["passes"].as_array().unwrap().iter().map(|pass| pass["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["skim", "edge", "comb", "insist"], "{report}");
    let timeline = report["timeline"].as_array().unwrap();
    let last = timeline.last().unwrap();
    assert_eq!(last[1].as_u64(), Some(40 * MIB - 40 * 512), "{report}");
    assert!((last[0].as_f64().unwrap() - report["simulated_seconds"].as_f64().unwrap()).abs() < 1.0, "{report}");
    assert!(report["simulated_seconds"].as_f64().unwrap() > 24.0, "each of 40 sectors fails for 0.6 s at least");
    let early = timeline.iter().find(|point| point[1].as_u64().unwrap() > 38 * MIB).unwrap();
    assert!(early[0].as_f64().unwrap() < 6.0, "what reads well comes first: {early}");
    let (good, there) = (fs::read(place.path("drive.img")).unwrap(), fs::read(&to).unwrap());
    assert!(good[..30_000 * 512] == there[..30_000 * 512] && good[30_040 * 512..] == there[30_040 * 512..]);
    assert!(there[30_000 * 512..30_040 * 512].iter().all(|byte| *byte == 0));
    // Once more there is nothing more to do; marked, every lost sector says so.
    let (code, report) = place.json(&["salvage", text(&drive), text(&to), "--map", text(&map), "--fill", "marked"]);
    assert_eq!((code, report["read_bytes"].as_u64()), (1, Some(0)), "{report}");
    let there = fs::read(&to).unwrap();
    assert!(there[30_039 * 512..].starts_with(b"UNREAD sector 30039:"));
    // With a drive that reads better it is all there, and proved.
    let drive = failing(&place, "");
    let (code, report) = place.json(&["salvage", text(&drive), text(&to), "--map", text(&map), "--again"]);
    assert_eq!((code, report["outcome"].as_str(), report["read_bytes"].as_u64()), (0, Some("proved"), Some(40 * 512)), "{report}");
    assert!(fs::read(&to).unwrap() == good);
}

#[test]
fn what_does_not_belong_together_is_refused() {
    let place = Place::new();
    let drive = failing(&place, HOLE);
    let (to, map) = (place.path("out.img"), place.path("out.map"));
    let theirs = place.noise("theirs.img", 40 * MIB, 9);
    let before = fs::read(&theirs).unwrap();
    let code = |args: &[&str]| place.json(&[&["salvage"], args].concat()).1["code"].as_str().unwrap_or_default().to_string();
    assert_eq!(code(&[text(&drive), text(&theirs), "--map", text(&map)]), "no-tail");
    assert_eq!(code(&[text(&drive), text(&theirs), "--map", text(&map), "--confirm", "0091"]), "wrong-tail");
    assert!(fs::read(&theirs).unwrap() == before && !map.exists());
    assert_eq!(place.json(&["salvage", text(&drive), text(&to), "--map", text(&map), "--tries", "1"]).0, 1);
    // Its map does not say what is on another target, nor of another drive; and another thing under the target's name is found out.
    assert_eq!(code(&[text(&drive), text(&theirs), "--map", text(&map), "--confirm", "eirs"]), "map-of-another-target");
    assert_eq!(code(&[text(&theirs), text(&to), "--map", text(&map)]), "map-differs");
    fs::write(&to, &before).unwrap();
    assert_eq!(code(&[text(&drive), text(&to), "--map", text(&map)]), "no-tail");
    assert!(fs::read(&to).unwrap() == before);
    // Another drive that says the same of itself is not mixed with the first one.
    let held = fs::read(&to).unwrap();
    let good = fs::read(place.path("drive.img")).unwrap();
    place.noise("drive.img", 40 * MIB, 8);
    assert_eq!(code(&[text(&drive), text(&to), "--map", text(&map), "--confirm", "out", "--again"]), "source-changed");
    assert!(fs::read(&to).unwrap() == held);
    fs::write(place.path("drive.img"), good).unwrap();
    fs::write(&map, "something else").unwrap();
    assert_eq!(code(&[text(&drive), text(&to), "--map", text(&map), "--confirm", "out"]), "map-damaged");
    let inside = place.path("drive.img");
    assert_eq!(code(&[text(&drive), text(&inside), "--map", text(&place.path("new.map")), "--confirm", "rive"]), "same-drive");
}

/// Killed at any moment, it goes on where it was, without a tail, and comes to the same end.
#[test]
fn killed_at_random_it_comes_to_the_same_end() {
    let place = Place::new();
    let drive = failing(&place, &format!("{HOLE}[[failing]]\nkind = \"scratch\"\nlba = 50000\ntracks = 12\nevery = 1100\nwidth = 5\nms = 200\n"));
    let (to, map) = (place.path("out.img"), place.path("out.map"));
    let args = ["salvage", text(&drive), text(&to), "--map", text(&map), "--tries", "3", "--events"];
    for turn in 1..14u64 {
        let mut child = place.badger(&args).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        // So many reports, then the end: by a signal that nobody can take.
        let lines = BufReader::new(child.stdout.take().unwrap()).lines().take((turn * turn) as usize).count();
        let _ = child.kill();
        child.wait().unwrap();
        if lines < (turn * turn) as usize {
            break;
        }
    }
    let (code, report) = place.json(&["salvage", text(&drive), text(&to), "--map", text(&map), "--tries", "3"]);
    assert_eq!((code, report["map"]["lost"].as_u64(), report["map"]["deferred"].as_u64()), (1, Some(100 * 512), Some(0)), "{report}");
    let blocks = report["proof"].as_array().unwrap().iter().find(|line| line["what"] == "blocks").unwrap();
    assert_eq!(blocks["result"], "holds", "{report}");
    let (good, there) = (fs::read(place.path("drive.img")).unwrap(), fs::read(&to).unwrap());
    let differ = good.chunks(512).zip(there.chunks(512)).filter(|(a, b)| a != b).count();
    assert_eq!(differ, 100);
}

/// A server that gives errors at random: all of it is read in the end. One that tries again by itself is only slow.
#[rstest]
#[case::errors(&["--filter=error", "--filter=delay"], &["error-pread=EIO", "error-pread-rate=50%", "rdelay=2ms"], true)]
#[case::tries_again(&["--filter=retry", "--filter=error"], &["retries=20", "retry-delay=1", "retry-exponential=no", "error-pread=EIO", "error-pread-rate=12%"], false)]
fn a_server_that_gives_errors_is_read_to_its_end(#[case] filters: &[&str], #[case] parameters: &[&str], #[case] fails: bool) {
    let place = Place::new();
    // Long enough that half of all reads failing is some of them: of six it is none once in 64 runs.
    let good = place.noise("drive.img", 80 * MIB, 3);
    let socket = place.path("socket");
    let mut server = Command::new("nbdkit")
        .args(["--foreground", "--exit-with-parent", "-U", text(&socket)])
        .args(filters)
        .args(["file", text(&good)])
        .args(parameters)
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    for _ in 0..200 {
        if listens(&socket) {
            break;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    let (to, map) = (place.path("out.img"), place.path("out.map"));
    let uri = format!("nbd+unix:///?socket={}", socket.display());
    let (code, report) = place.json(&["salvage", &uri, text(&to), "--map", text(&map)]);
    let _ = server.kill();
    server.wait().unwrap();
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    let failures: u64 = report["passes"].as_array().unwrap().iter().map(|pass| pass["failures"].as_u64().unwrap()).sum();
    assert_eq!(failures > 0, fails, "{report}");
    assert!(report["simulated_seconds"].is_null());
    assert!(fs::read(&to).unwrap() == fs::read(&good).unwrap());
}

/// The map is a drive: what is saved is listed and taken, and what is not is not given for zeroes.
#[test]
fn a_half_salvaged_drive_is_a_drive() {
    let place = Place::new();
    let (folder, image) = (place.path("folder"), place.path("drive.img"));
    fs::create_dir_all(folder.join("letters")).unwrap();
    fs::write(folder.join("letters/a.txt"), "high water").unwrap();
    let marked: Vec<u8> = (0..2_000_000u32).flat_map(|at| (at | 0x8000_0000).to_le_bytes()).collect();
    fs::write(folder.join("long.bin"), &marked).unwrap();
    let made = Command::new("mke2fs").args(["-q", "-F", "-t", "ext4", "-d", text(&folder), text(&image), "40M"]).status().unwrap();
    assert!(made.success());
    let bytes = fs::read(&image).unwrap();
    let at = bytes.windows(32).position(|window| window == &marked[4_000_256..4_000_288]).unwrap() / 512;
    let drive = failing(&place, &format!("[[fault]]\nkind = \"unreadable\"\nlba = {at}\nsectors = 8\nms = 10\n"));
    let (to, map) = (place.path("out.img"), place.path("out.map"));
    let (_, report) = place.json(&["salvage", text(&drive), text(&to), "--map", text(&map), "--first", "/letters", "--first", "/nowhere"]);
    assert_eq!(report["holed"][0]["path"].as_str().unwrap().rsplit('/').next(), Some("long.bin"), "{report}");
    assert_eq!(report["holed"][0]["missing"][0]["bytes"].as_u64(), Some(8 * 512), "{report}");
    assert_eq!(report["not_found"][0][0], "/nowhere", "{report}");
    let (code, listed, _) = place.run(&["ls", text(&map), "/letters"]);
    assert!(code == 0 && listed.contains("a.txt"), "{listed}");
    let into = place.path("taken");
    let (_, fetched) = place.json(&["fetch", text(&map), "/letters", "/long.bin", "--into", text(&into)]);
    assert_eq!(fs::read(into.join("letters/a.txt")).unwrap(), b"high water", "{fetched}");
    assert!(fetched.to_string().contains("long.bin"), "it says what is not whole: {fetched}");
    // As another copy of the drive it gives what it has.
    let sound = failing(&place, "[[fault]]\nkind = \"unreadable\"\nlba = 100\nsectors = 8\nms = 10\n");
    let (second, its) = (place.path("second.img"), place.path("second.map"));
    assert_eq!(place.json(&["salvage", text(&sound), text(&second), "--map", text(&its)]).1["map"]["lost"].as_u64(), Some(8 * 512));
    let (code, report) = place.json(&["salvage", text(&map), text(&second), "--map", text(&its), "--again"]);
    // Two copies of one drive are put together: nobody knows whether it was written to between them, and that is no proof.
    assert_eq!((code, report["outcome"].as_str()), (1, Some("finished")), "{report}");
    assert!(report["reason"].as_str().unwrap().contains("between the runs"), "{report}");
    assert!(fs::read(&second).unwrap() == bytes);
}

/// Onto an image of our own: it holds what was saved and says what was not, and can be made again of more.
#[test]
fn an_image_is_made_of_what_was_saved() {
    let place = Place::new();
    let drive = failing(&place, HOLE);
    let (to, map, gathered) = (place.path("slate.zbi"), place.path("slate.map"), place.path("slate.gathered.img"));
    let args = ["salvage", text(&drive), text(&to), "--map", text(&map)];
    let (code, report) = place.json(&args);
    assert_eq!((code, report["outcome"].as_str(), report["map"]["lost"].as_u64()), (1, Some("incomplete"), Some(40 * 512)), "{report}");
    let line = report["proof"].as_array().unwrap().iter().find(|line| line["what"] == "image").unwrap();
    assert_eq!(line["result"], "holds", "{report}");
    assert!(gathered.exists() && map.exists(), "it is gone on with from there");
    // What is not in it is not given for zeroes.
    let (back, its) = (place.path("back.img"), place.path("back.map"));
    let (_, read) = place.json(&["salvage", text(&to), text(&back), "--map", text(&its)]);
    assert_eq!((read["map"]["saved"].as_u64(), read["map"]["lost"].as_u64()), (Some(40 * MIB - 40 * 512), Some(0)), "{read}");
    // An image that is there is not written over; without it the same command goes on, and at the end all is one proved image.
    assert_eq!(place.json(&args).1["code"], "image-exists");
    fs::remove_file(&to).unwrap();
    let drive = failing(&place, "");
    let (code, report) = place.json(&["salvage", text(&drive), text(&to), "--map", text(&map), "--again"]);
    assert_eq!((code, report["outcome"].as_str(), report["read_bytes"].as_u64()), (0, Some("proved"), Some(40 * 512)), "{report}");
    assert!(to.exists() && !gathered.exists() && !map.exists());
    let (last, of_it) = (place.path("last.img"), place.path("last.map"));
    assert_eq!(place.json(&["salvage", text(&to), text(&last), "--map", text(&of_it)]).0, 0);
    assert!(fs::read(&last).unwrap() == fs::read(place.path("drive.img")).unwrap());
}

/// A clone that meets trouble again and again says so, and a salvage takes over what it has.
#[test]
fn a_clone_that_grinds_is_gone_on_with_as_a_salvage() {
    let place = Place::new();
    let drive = failing(&place, "[[failing]]\nkind = \"scratch\"\nlba = 30000\ntracks = 200\nevery = 200\nwidth = 3\nms = 100\n");
    let (to, map) = (place.path("copy.img"), place.path("copy.map"));
    let (code, report) = place.json(&["clone", text(&drive), text(&to), "--new-size", "40MiB", "--confirm", "copy"]);
    assert_eq!((code, report["outcome"].as_str()), (3, Some("interrupted")), "{report}");
    assert!(report["reason"].as_str().unwrap().contains("badger salvage"), "{report}");
    let copied = report["read_bytes"].as_u64().unwrap();
    assert!(copied > 16 * MIB && copied < 40 * MIB, "{copied}");
    // What somebody wrote over it meanwhile is not taken for what was copied.
    let file = fs::OpenOptions::new().write(true).open(&to).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, &[0x55; 4096], 5 * MIB + 8192).unwrap();
    drop(file);
    let (code, report) = place.json(&["salvage", text(&drive), text(&to), "--map", text(&map), "--confirm", "copy", "--tries", "2"]);
    assert_eq!((code, report["map"]["lost"].as_u64()), (1, Some(600 * 512)), "{report}");
    let read = report["read_bytes"].as_u64().unwrap();
    assert!(read < 40 * MIB - copied + 3 * MIB, "{read} was read where {copied} was copied");
    let blocks = report["proof"].as_array().unwrap().iter().find(|line| line["what"] == "blocks").unwrap();
    assert_eq!(blocks["result"], "holds", "{report}");
    let (good, there) = (fs::read(place.path("drive.img")).unwrap(), fs::read(&to).unwrap());
    assert_eq!(good.chunks(512).zip(there.chunks(512)).filter(|(a, b)| a != b).count(), 600);
    // The clone's own account is gone.
    let (_, again) = place.json(&["jobs"]);
    assert_eq!(again["jobs"].as_array().unwrap().len(), 1, "{again}");
}
