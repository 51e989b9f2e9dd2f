//! What is lent, judged by clients that others wrote.

use crate::support::{Lends, MIB, drive, ran, said, workshop};
use badger_drive::sim::SimDrive;
use badger_drive::{Medium, Release, Source};
use badger_network::{Lent, Note};
use rstest::rstest;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tempfile::tempdir;

#[rstest]
#[case::even(64 * MIB)]
#[case::ends_in_a_sector(20 * MIB + 512)]
#[case::ends_anywhere(9 * MIB + 77)]
fn others_read_it_whole(#[case] size: u64) {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "lent.img", size, 7);
    let lends = Lends::files(&[&path]);
    let copy = dir.path().join("copy");
    ran("nbdcopy", &[&lends.uri("lent.img"), copy.to_str().unwrap()]);
    assert!(fs::read(&path).unwrap() == fs::read(&copy).unwrap());
    let compared = said("qemu-img", &["compare", "-f", "raw", "-F", "raw", path.to_str().unwrap(), &lends.uri("lent.img")]);
    assert!(!size.is_multiple_of(512) || compared.contains("identical"), "{compared}");
}

#[test]
fn several_drives_are_listed_and_holes_are_told() {
    let dir = tempdir().unwrap();
    let (one, two) = (drive(dir.path(), "one.img", 32 * MIB, 1), drive(dir.path(), "two Ä.img", MIB, 2));
    let lends = Lends::files(&[&one, &two]);
    let listed = said("nbdinfo", &["--list", &lends.uri("")]);
    assert!(listed.contains("one.img") && listed.contains("two Ä.img"), "{listed}");
    let map = said("nbdinfo", &["--map", "--json", &lends.uri("one.img")]);
    let map: Vec<serde_json::Value> = serde_json::from_str(&map).unwrap();
    // As the file system says it of the very file.
    let own = workshop().source(&one).unwrap();
    let mut at = 0;
    for stretch in &map {
        let (offset, len, kind) = (stretch["offset"].as_u64().unwrap(), stretch["length"].as_u64().unwrap(), stretch["type"].as_u64().unwrap());
        assert_eq!(offset, at);
        let known = own.stretch(offset, u64::MAX);
        assert_eq!((known.len, if known.holds == badger_drive::Holds::Zero { 3 } else { 0 }), (len, kind));
        at += len;
    }
    assert_eq!(at, 32 * MIB);
    assert!(map.len() >= 15);
}

#[test]
fn nobody_writes_to_what_is_not_released() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "lent.img", 8 * MIB, 3);
    let before = fs::read(&path).unwrap();
    let lends = Lends::files(&[&path]);
    assert!(said("nbdinfo", &[&lends.uri("lent.img")]).contains("is_read_only: true"));
    // A client that does not care what it was told.
    let script = format!("h.set_strict_mode(0); h.connect_uri('{}'); h.pwrite(b'x'*512, 0)", lends.uri("lent.img"));
    if let Ok(out) = std::process::Command::new("nbdsh").args(["-c", &script]).output() {
        assert!(!out.status.success());
    }
    let raw = badger_raw_write(lends.port, "lent.img");
    assert_eq!(raw, 1, "EPERM");
    assert!(fs::read(&path).unwrap() == before);
}

/// Writes by the bare protocol, whatever the flags say; the error number that comes back.
fn badger_raw_write(port: u16, export: &str) -> u32 {
    use std::io::{Read, Write};
    let mut stream = std::net::TcpStream::connect(("127.0.0.1", port)).unwrap();
    let mut greeting = [0; 18];
    stream.read_exact(&mut greeting).unwrap();
    stream.write_all(&3u32.to_be_bytes()).unwrap();
    let mut chosen = 0x4948_4156_454f_5054u64.to_be_bytes().to_vec();
    chosen.extend(1u32.to_be_bytes());
    chosen.extend((export.len() as u32).to_be_bytes());
    chosen.extend(export.bytes());
    stream.write_all(&chosen).unwrap();
    let mut told = [0; 10];
    stream.read_exact(&mut told).unwrap();
    let mut request = 0x2560_9513u32.to_be_bytes().to_vec();
    request.extend([0, 0, 0, 1]);
    request.extend(77u64.to_be_bytes());
    request.extend(0u64.to_be_bytes());
    request.extend(512u32.to_be_bytes());
    request.extend([0x55; 512]);
    stream.write_all(&request).unwrap();
    let mut answer = [0; 16];
    stream.read_exact(&mut answer).unwrap();
    u32::from_be_bytes(answer[4..8].try_into().unwrap())
}

fn released(path: &Path) -> Lent {
    let nothing = Source::detached(Arc::new(badger_drive::medium::MemoryMedium::new(Vec::new(), 512)));
    let candidate = workshop().candidate(path, None, 512).unwrap();
    let tail = candidate.tail();
    Lent::released(path.file_name().unwrap().to_str().unwrap().into(), candidate.release(&Release::new(&nothing, 0, &tail)).unwrap())
}

#[test]
fn what_was_released_is_written_to_by_others() {
    let dir = tempdir().unwrap();
    let (from, to) = (drive(dir.path(), "from.img", 40 * MIB, 11), drive(dir.path(), "onto.img", 40 * MIB, 12));
    {
        let lends = Lends::new(vec![released(&to)]);
        ran("nbdcopy", &["--flush", from.to_str().unwrap(), &lends.uri("onto.img")]);
        let compared = said("qemu-img", &["compare", "-f", "raw", "-F", "raw", from.to_str().unwrap(), &lends.uri("onto.img")]);
        assert!(compared.contains("identical"), "{compared}");
        let script = ["write -P 0x5a 1M 64k", "write -z 2M 1M", "discard 8M 1M", "flush", "read -P 0x5a 1M 64k", "read -P 0 2M 1M"];
        let args: Vec<&str> = ["-f", "raw"].into_iter().chain(script.iter().flat_map(|line| ["-c", line])).collect();
        let uri = lends.uri("onto.img");
        let out = said("qemu-io", &[&args[..], &[uri.as_str()]].concat());
        assert!(!out.contains("failed") && !out.contains("error"), "{out}");
    }
    let there = fs::read(&to).unwrap();
    assert!(there[MIB as usize..][..64 << 10].iter().all(|byte| *byte == 0x5a));
}

/// A drive with unreadable places, by its description.
fn failing(dir: &Path) -> PathBuf {
    drive(dir, "weak.img", 16 * MIB, 21);
    let path = dir.join("weak.drive.toml");
    let text = r#"
backing = "weak.img"

[identity]
model = "Ostrel Test"
serial = "OT-0001"
bus = "sata"

[[fault]]
kind = "unreadable"
lba = 4096
sectors = 3

[[fault]]
kind = "unknown"
lba = 16384
sectors = 2048
"#;
    fs::write(&path, text).unwrap();
    path
}

#[test]
fn what_cannot_be_read_is_an_error_at_its_place() {
    let dir = tempdir().unwrap();
    let path = failing(dir.path());
    let clock = badger_drive::clock::SimClock::new();
    let weak = SimDrive::open(&path, clock).unwrap();
    let identity = weak.identity().clone();
    let lends = Lends::new(vec![Lent::new("weak".into(), Source::detached(Arc::new(weak)))]);
    let source = workshop().source(Path::new(&lends.uri("weak"))).unwrap();
    assert_eq!((&source.identity().model, &source.identity().serial), (&identity.model, &identity.serial));
    let (mut lost, mut buf) = (Vec::new(), vec![1; 4 * MIB as usize]);
    badger_drive::narrow::read_hard(&*source, 0, &mut buf, &mut lost).unwrap();
    assert_eq!(lost, [(4096 * 512, 3 * 512)]);
    let own = fs::read(dir.path().join("weak.img")).unwrap();
    assert!(buf[..4096 * 512] == own[..4096 * 512] && buf[4099 * 512..] == own[4099 * 512..4 * MIB as usize]);
    // What nobody knows is known to be unknown here too, without a read.
    let known = source.stretch(16384 * 512, u64::MAX);
    assert_eq!((known.holds, known.len), (badger_drive::Holds::Unknown, MIB));
    assert_ne!(source.stretch(16384 * 512 + MIB, 4096).holds, badger_drive::Holds::Unknown);
    // Others hear of it too, and the connection lives on.
    let out = std::process::Command::new("qemu-io")
        .args(["-f", "raw", "-r", "-c", "read 2M 64k", "-c", "read 4M 64k", &lends.uri("weak")])
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&out.stdout).into_owned() + &String::from_utf8_lossy(&out.stderr);
    assert!(text.contains("Input/output error") && text.contains("read 65536/65536 bytes at offset 4194304"), "{text}");
}

/// A certificate for localhost, and its key.
fn certificate(dir: &Path) -> (PathBuf, PathBuf) {
    let (certificate, key) = (dir.join("server-cert.pem"), dir.join("server-key.pem"));
    let args = ["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-days", "2", "-subj", "/CN=localhost"];
    let names = [
        "-addext",
        "basicConstraints=critical,CA:FALSE",
        "-addext",
        "subjectAltName=DNS:localhost,IP:127.0.0.1",
        "-keyout",
        key.to_str().unwrap(),
        "-out",
        certificate.to_str().unwrap(),
    ];
    ran("openssl", &[&args[..], &names[..]].concat());
    (certificate, key)
}

#[test]
fn enciphered_it_is_for_those_who_know_the_lender() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "lent.img", 24 * MIB, 31);
    let (certificate, key) = certificate(dir.path());
    let lends = Lends::with(vec![Lent::new("lent.img".into(), workshop().source(&path).unwrap())], Some((&certificate, &key)));
    // By a client that others wrote.
    fs::copy(&certificate, dir.path().join("ca-cert.pem")).unwrap();
    let uri = format!("nbds://localhost:{}/lent.img?tls-certificates={}", lends.port, dir.path().display());
    let copy = dir.path().join("copy");
    ran("nbdcopy", &[&uri, copy.to_str().unwrap()]);
    assert!(fs::read(&path).unwrap() == fs::read(&copy).unwrap());
    // By ours.
    let name = PathBuf::from(format!("nbds://localhost:{}/lent.img", lends.port));
    let mut workshop = workshop();
    assert!(workshop.source(&name).err().unwrap().text.contains("trusted"));
    workshop.trusted = Some(certificate);
    let source = workshop.source(&name).unwrap();
    let mut all = vec![0; 24 * MIB as usize];
    source.read_at(0, &mut all).unwrap();
    assert!(all == fs::read(&path).unwrap());
    // Not in the clear, and not for whom another one is known.
    let clear = PathBuf::from(lends.uri("lent.img"));
    assert!(workshop.source(&clear).err().unwrap().text.contains("enciphered"), "{:?}", workshop.source(&clear).err());
    let other = tempdir().unwrap();
    workshop.trusted = Some(self::certificate(other.path()).0);
    assert!(workshop.source(&name).is_err());
}

#[test]
fn it_is_told_who_comes_and_goes() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "lent.img", MIB, 3);
    let lends = Lends::files(&[&path]);
    drop(workshop().source(Path::new(&lends.uri("lent.img"))).unwrap());
    assert!(workshop().source(Path::new(&lends.uri("other"))).err().unwrap().text.contains("no drive of that name"));
    let began = std::time::Instant::now();
    while lends.notes.lock().unwrap().iter().filter(|note| matches!(note, Note::Left(..))).count() < 2 {
        assert!(began.elapsed().as_secs() < 10);
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    let notes = lends.notes.lock().unwrap().clone();
    assert!(notes.contains(&Note::Took(1, "lent.img".into())));
    assert!(notes.iter().all(|note| !matches!(note, Note::Took(2, _))));
}
