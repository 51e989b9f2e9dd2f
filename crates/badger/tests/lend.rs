//! Lending and borrowing with the whole program on both sides.

use crate::support::listening::listens;
use crate::support::{MIB, Place};
use serde_json::Value;
use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};

/// A bench that lends, until it is dropped.
struct Lends {
    child: Child,
    uri: String,
}

impl Lends {
    fn new(place: &Place, args: &[&str]) -> Self {
        let mut command = place.badger(&[&["lend", "--events", "--listen", "127.0.0.1:0"], args].concat());
        let mut child = command.stdout(Stdio::piped()).spawn().unwrap();
        let mut first = String::new();
        BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut first).unwrap();
        let told: Value = serde_json::from_str(&first).unwrap_or_else(|error| panic!("{error}: {first}"));
        let uri = told["uri"].as_str().unwrap().to_string();
        // What else it says is not waited for.
        let mut rest = child.stdout.take().unwrap();
        std::thread::spawn(move || std::io::copy(&mut rest, &mut std::io::sink()));
        Self { child, uri }
    }

    fn stop(mut self) -> i32 {
        Command::new("kill").args(["-TERM", &self.child.id().to_string()]).status().unwrap();
        self.child.wait().unwrap().code().unwrap_or(-1)
    }
}

impl Drop for Lends {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A drive of 32 MiB with a table and a FAT volume that holds a file.
fn disk(place: &Place, name: &str) -> std::path::PathBuf {
    let (path, volume) = (place.path(name), place.path("volume"));
    fs::write(place.path("letter.txt"), "Dear Ines\n").unwrap();
    let run = |program: &str, args: &[&str]| assert!(Command::new(program).args(args).stdout(Stdio::null()).status().unwrap().success(), "{program}");
    fs::File::create(&volume).unwrap().set_len(24 * MIB).unwrap();
    run("mkfs.vfat", &["-F", "16", volume.to_str().unwrap()]);
    run("mcopy", &["-i", volume.to_str().unwrap(), place.path("letter.txt").to_str().unwrap(), "::letter.txt"]);
    let file = fs::File::create(&path).unwrap();
    file.set_len(32 * MIB).unwrap();
    let mut child = Command::new("sfdisk").arg("-q").arg(&path).stdin(Stdio::piped()).spawn().unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), b"label: gpt\nstart=2048, size=49152, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n")
        .unwrap();
    assert!(child.wait().unwrap().success());
    file.write_all_at(&fs::read(&volume).unwrap(), MIB).unwrap();
    path
}

#[test]
fn what_is_borrowed_is_a_drive_like_any_other() {
    let place = Place::new();
    let path = disk(&place, "lr-204.img");
    let lends = Lends::new(&place, &[path.to_str().unwrap()]);
    let (code, shown) = place.json(&["show", &lends.uri]);
    assert_eq!((code, shown["drive"]["bus"].as_str()), (0, Some("network")), "{shown}");
    let (code, listed, _) = place.run(&["ls", &format!("{}#1", lends.uri)]);
    assert!(code == 0 && listed.to_lowercase().contains("letter.txt"), "{listed}");
    let into = place.path("out");
    assert_eq!(place.run(&["fetch", &format!("{}#1", lends.uri), "/letter.txt", "--into", into.to_str().unwrap()]).0, 0);
    let copy = place.path("copy.img");
    let (code, report) = place.json(&["clone", &lends.uri, copy.to_str().unwrap(), "--new-size", "32MiB", "--confirm", "copy"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    assert!(fs::read(&copy).unwrap() == fs::read(&path).unwrap());
    let image = place.path("kept.zbi");
    let (code, report) = place.json(&["image", &lends.uri, image.to_str().unwrap()]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    // An image is lent like a drive.
    let again = Lends::new(&place, &[image.to_str().unwrap()]);
    assert_eq!(place.run(&["verify", path.to_str().unwrap(), &again.uri]).0, 0);
    again.stop();
    // One that holds only what was in use says so to the borrower too.
    let part = place.path("part.zbi");
    assert_eq!(place.json(&["image", &lends.uri, part.to_str().unwrap(), "--used"]).0, 0);
    let third = Lends::new(&place, &[part.to_str().unwrap()]);
    let onto = place.path("third.img");
    let (_, told, _) = place.run(&["clone", &third.uri, onto.to_str().unwrap(), "--new-size", "32MiB", "--confirm", "hird"]);
    assert!(told.contains("only what was in use"), "{told}");
    assert_eq!(lends.stop(), 0);
}

#[test]
fn a_borrowed_drive_becomes_a_target_where_both_sides_release_it() {
    let place = Place::new();
    let (from, onto) = (disk(&place, "from.img"), place.noise("onto.img", 40 * MIB, 5));
    let before = fs::read(&onto).unwrap();
    // Without the tail, and with another one, nothing is lent to be written to.
    let (code, _, refused) = place.run(&["lend", onto.to_str().unwrap(), "--listen", "127.0.0.1:0", "--confirm", "nono"]);
    assert!(code == 2 && refused.contains("wrong-tail"), "{refused}");
    {
        let lends = Lends::new(&place, &[onto.to_str().unwrap()]);
        let (code, report) = place.json(&["clone", from.to_str().unwrap(), &lends.uri, "--confirm", "onto"]);
        assert_eq!((code, report["code"].as_str()), (2, Some("target-read-only")), "{report}");
    }
    let lends = Lends::new(&place, &[onto.to_str().unwrap(), "--confirm", "onto"]);
    let (code, report) = place.json(&["clone", from.to_str().unwrap(), &lends.uri, "--confirm", "nono"]);
    assert_eq!((code, report["code"].as_str()), (2, Some("wrong-tail")), "{report}");
    assert!(fs::read(&onto).unwrap() == before);
    // Who lends it holds it alone.
    let (code, report) = place.json(&["clone", from.to_str().unwrap(), onto.to_str().unwrap(), "--confirm", "onto"]);
    assert!(code == 2 && ["target-claimed", "target-written"].contains(&report["code"].as_str().unwrap()), "{report}");
    let (code, report) = place.json(&["clone", from.to_str().unwrap(), &lends.uri, "--confirm", "onto"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    assert_eq!(lends.stop(), 0);
    let (code, _, _) = place.run(&["verify", from.to_str().unwrap(), onto.to_str().unwrap()]);
    assert_ne!(code, 2);
    assert!(fs::read(&onto).unwrap()[MIB as usize..25 * MIB as usize] == fs::read(&from).unwrap()[MIB as usize..25 * MIB as usize]);
}

/// The drive that is read, lent by somebody else who does not know of it, is not written to.
#[test]
fn a_source_that_is_lent_by_another_way_is_told_by_the_trip_wire() {
    let place = Place::new();
    let path = disk(&place, "only.img");
    let before = fs::read(&path).unwrap();
    let socket = place.path("s");
    let mut server = Command::new("nbdkit").args(["-f", "-U"]).arg(&socket).arg("file").arg(&path).stdin(Stdio::null()).spawn().unwrap();
    while !listens(Path::new(&socket)) {
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    let uri = format!("nbd+unix:///only?socket={}", socket.display());
    let (_, shown) = place.json(&["show", &uri]);
    let tail = shown["drive"]["tail"].as_str().unwrap_or("only").to_string();
    for (from, to) in [(path.to_str().unwrap(), uri.as_str()), (uri.as_str(), path.to_str().unwrap())] {
        let tail = if to == uri { tail.as_str() } else { "only" };
        let (code, report) = place.json(&["clone", from, to, "--confirm", tail]);
        let told = report["code"].as_str().unwrap_or_default();
        // Who serves it has it open to be written to, which is seen as well.
        assert!(
            code == 2 && ["same-storage", "same-drive", "source-on-target", "target-on-source", "target-written"].contains(&told),
            "{from} {to}: {report}"
        );
    }
    let _ = server.kill();
    let _ = server.wait();
    assert!(fs::read(&path).unwrap() == before);
}
