//! What is borrowed, from servers that others wrote and from such as mean ill.

use crate::support::{Lends, MIB, Server, drive, noise, unix, workshop};
use badger_drive::narrow::read_hard;
use badger_drive::reads::Reads;
use badger_drive::{Control, Holds, Medium, Patience, ReadError, Source, WriteMedium};
use badger_network::{Borrowed, Uri};
use proptest::prelude::*;
use rstest::rstest;
use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tempfile::tempdir;

fn whole(source: &Source) -> Vec<u8> {
    let size = source.geometry().size_bytes;
    let mut out = vec![0; size as usize];
    for (piece, at) in out.chunks_mut(3 << 20).zip((0u64..).step_by(3 << 20)) {
        source.read_at(at, piece).unwrap();
    }
    out
}

#[rstest]
#[case::plain(&[])]
#[case::without_holes(&["--filter=nozero"])]
#[case::old_replies(&["--no-sr"])]
#[case::slow(&["--filter=delay", "delay-read=20ms"])]
#[case::whole_blocks(&["--filter=blocksize-policy", "blocksize-minimum=4096", "blocksize-maximum=1M", "blocksize-error-policy=error"])]
fn servers_of_others_are_read(#[case] args: &[&str]) {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "disk.img", 24 * MIB, 5);
    let socket = dir.path().join("s");
    let (options, values): (Vec<&str>, Vec<&str>) = args.iter().partition(|arg| arg.starts_with("--"));
    let file = ["file", path.to_str().unwrap()];
    let _server = Server::nbdkit(&socket, &[&options[..], &["-r"], &file, &values[..]].concat());
    let source = workshop().source(&unix(&socket)).unwrap();
    assert!(source.identity().read_only && source.geometry().size_bytes == 24 * MIB);
    let own = fs::read(&path).unwrap();
    assert!(whole(&source) == own);
    // What is said to be zero is.
    let mut at = 0;
    while at < 24 * MIB {
        let known = source.stretch(at, u64::MAX);
        assert!(known.len > 0);
        let bytes = &own[at as usize..(at + known.len) as usize];
        assert!(known.holds == Holds::Bytes || known.holds == Holds::Zero && bytes.iter().all(|byte| *byte == 0));
        at += known.len;
    }
    // Pieces of any length, from anywhere.
    for (at, len) in [(1, 1), (511, 514), (4095, 8194), (24 * MIB - 3, 3), (MIB - 1, 2 << 20)] {
        let mut bytes = vec![0; len];
        source.read_at(at, &mut bytes).unwrap();
        assert!(bytes == own[at as usize..at as usize + len], "{at} {len}");
    }
}

#[test]
fn the_old_server_and_that_of_the_emulator_are_read() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "disk.img", 12 * MIB, 6);
    let own = fs::read(&path).unwrap();
    let socket = dir.path().join("q");
    let shared = ["--persistent", "--shared=8", "-r", "-f", "raw", "-x", "disk", "-k"];
    let _emulator = Server::start(Command::new("qemu-nbd").args(shared).arg(&socket).arg(&path), &socket);
    let source = workshop().source(Path::new(&format!("nbd+unix:///disk?socket={}", socket.display()))).unwrap();
    assert!(whole(&source) == own);
    let (config, socket) = (dir.path().join("config"), dir.path().join("o"));
    let text = format!("[generic]\nunixsock = {}\n[disk]\nexportname = {}\nreadonly = true\n", socket.display(), path.display());
    fs::write(&config, text).unwrap();
    let _old = Server::start(Command::new("nbd-server").args(["-d", "-C"]).arg(&config), &socket);
    let source = workshop().source(Path::new(&format!("nbd+unix:///disk?socket={}", socket.display()))).unwrap();
    assert!(whole(&source) == own);
}

#[test]
fn an_error_of_the_server_is_one_at_that_place() {
    let dir = tempdir().unwrap();
    let socket = dir.path().join("s");
    // Every third sector of the second MiB cannot be read.
    let script = r#"case "$1" in get_size) echo 4194304;; pread) c=$3; o=$4; e=$((o+c)); s=$((o/512));
        while [ $((s*512)) -lt $e ]; do if [ $s -ge 2048 ] && [ $s -lt 2060 ] && [ $((s%3)) -eq 0 ]; then echo "EIO no" >&2; exit 1; fi; s=$((s+1)); [ $s -ge 2061 ] && break; done
        dd if=/dev/zero bs=$c count=1 2>/dev/null | tr '\0' 'x';; can_write) exit 3;; thread_model) echo parallel;; *) exit 2;; esac"#;
    let path = dir.path().join("plugin.sh");
    fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
    fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let _server = Server::nbdkit(&socket, &["sh", path.to_str().unwrap()]);
    let source = workshop().source(&unix(&socket)).unwrap();
    let (mut lost, mut buf) = (Vec::new(), vec![0; 2 * MIB as usize]);
    read_hard(&*source, 0, &mut buf, &mut lost).unwrap();
    let bad: Vec<(u64, u64)> = (2048..2060u64).filter(|sector| sector % 3 == 0).map(|sector| (sector * 512, 512)).collect();
    assert_eq!(lost, bad);
    assert_eq!(buf.iter().filter(|byte| **byte == b'x').count(), buf.len() - bad.len() * 512);
    assert!(source.present());
}

#[test]
fn a_server_that_comes_back_is_gone_on_with() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "disk.img", 16 * MIB, 9);
    let socket = dir.path().join("s");
    let args = ["-r", "file", path.to_str().unwrap()];
    let server = Server::nbdkit(&socket, &args);
    let source = workshop().source(&unix(&socket)).unwrap();
    let own = fs::read(&path).unwrap();
    let mut bytes = vec![0; MIB as usize];
    source.read_at(0, &mut bytes).unwrap();
    server.kill();
    let reading = std::thread::spawn({
        let source = source.clone();
        move || {
            let mut bytes = vec![0; MIB as usize];
            source.read_at(4 * MIB, &mut bytes).map(|()| bytes)
        }
    });
    std::thread::sleep(Duration::from_millis(700));
    // That server ends with the thread that started it.
    let server = Server::nbdkit(&socket, &args);
    assert!(reading.join().unwrap().unwrap() == own[4 * MIB as usize..5 * MIB as usize]);
    server.kill();
    // Another drive under the same name, of the same size, is not the same drive.
    let other = drive(dir.path(), "other.img", 16 * MIB, 90);
    let _server = Server::nbdkit(&socket, &["-r", "file", other.to_str().unwrap()]);
    source.wait_at_most(Duration::from_secs(2));
    let error = source.read_at(4 * MIB, &mut bytes).unwrap_err();
    assert!(matches!(&error, ReadError::Silent { .. } | ReadError::Gone(_)), "{error}");
}

/// Lets every connection to `port` end after so many bytes; the first ones of each are passed on as they are.
fn cut_off(port: u16, after: u64) -> (u16, Arc<AtomicU64>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (here, cuts) = (listener.local_addr().unwrap().port(), Arc::new(AtomicU64::new(0)));
    let counted = cuts.clone();
    std::thread::spawn(move || {
        for client in listener.incoming() {
            let (Ok(mut client), Ok(mut server)) = (client, TcpStream::connect(("127.0.0.1", port))) else { return };
            let (mut up, mut down) = (client.try_clone().unwrap(), server.try_clone().unwrap());
            std::thread::spawn(move || std::io::copy(&mut up, &mut down));
            let counted = counted.clone();
            std::thread::spawn(move || {
                let passed = std::io::copy(&mut Read::by_ref(&mut server).take(after), &mut client).unwrap_or(0);
                counted.fetch_add(u64::from(passed == after), Ordering::SeqCst);
                let _ = (client.shutdown(std::net::Shutdown::Both), server.shutdown(std::net::Shutdown::Both));
            });
        }
    });
    (here, cuts)
}

#[test]
fn a_connection_that_ends_again_and_again_costs_nothing_of_the_bytes() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "disk.img", 40 * MIB, 13);
    let lends = Lends::files(&[&path]);
    let (port, cuts) = cut_off(lends.port, 6 * MIB + 1234);
    let source = workshop().source(Path::new(&format!("nbd://127.0.0.1:{port}/disk.img"))).unwrap();
    let pool = badger_drive::buffer::Pool::new(8, MIB as usize);
    let mut reads = Reads::new(&*source, 4, &Patience::default(), &pool);
    let own = fs::read(&path).unwrap();
    let mut next = 0;
    let mut check = |got: badger_drive::reads::Got| {
        assert_eq!(got.offset, next);
        assert!(got.lost.is_empty() && got.buffer[..got.len] == own[next as usize..next as usize + got.len]);
        next += got.len as u64;
        pool.give(got.buffer);
    };
    for at in (0..40 * MIB).step_by(MIB as usize) {
        reads.begin(at, MIB);
        while let Some(got) = reads.make_room().unwrap() {
            check(got);
        }
    }
    while let Some(got) = reads.land().unwrap() {
        check(got);
    }
    assert_eq!(next, 40 * MIB);
    assert!(cuts.load(Ordering::SeqCst) >= 5, "{cuts:?}");
}

#[test]
fn a_server_that_hangs_is_not_waited_for_without_end() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "disk.img", 4 * MIB, 14);
    let socket = dir.path().join("s");
    let _server = Server::nbdkit(&socket, &["--filter=delay", "-r", "file", path.to_str().unwrap(), "delay-read=1200ms"]);
    let source = workshop().source(&unix(&socket)).unwrap();
    source.wait_at_most(Duration::from_millis(300));
    let began = Instant::now();
    let mut bytes = [0; 4096];
    assert!(matches!(source.read_at(0, &mut bytes), Err(ReadError::Silent { .. })));
    assert!(began.elapsed() < Duration::from_secs(1));
    // A stop is heard as well, and what comes late is not taken for an answer to something else.
    source.wait_at_most(Duration::from_secs(30));
    source.read_at(MIB, &mut bytes).unwrap();
    assert!(bytes[..] == fs::read(&path).unwrap()[MIB as usize..][..4096]);
    let control = Control::new();
    source.obey(&control);
    std::thread::spawn(move || {
        std::thread::sleep(Duration::from_millis(200));
        control.stop();
    });
    let began = Instant::now();
    assert!(matches!(source.read_at(2 * MIB, &mut bytes), Err(ReadError::Gone(_))));
    assert!(began.elapsed() < Duration::from_secs(1));
}

/// Passes one connection on to `port`, the answers up to so many bytes; what comes later is taken and never answered, or turned away.
fn once(port: u16, after: u64, takes_more: bool) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let here = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        let mut client = listener.accept().unwrap().0;
        let mut server = TcpStream::connect(("127.0.0.1", port)).unwrap();
        let (mut up, mut down) = (client.try_clone().unwrap(), server.try_clone().unwrap());
        std::thread::spawn(move || std::io::copy(&mut up, &mut down));
        let listener = takes_more.then_some(listener);
        let _ = std::io::copy(&mut Read::by_ref(&mut server).take(after), &mut client);
        let _ = (client.shutdown(std::net::Shutdown::Both), server.shutdown(std::net::Shutdown::Both));
        let _silent: Vec<_> = listener.iter().flat_map(TcpListener::incoming).collect();
    });
    here
}

/// Wherever it leaves: nobody waits for it to come back before anything was read of it.
#[rstest]
#[case::in_its_greeting(10)]
#[case::before_it_says_the_size(150)]
#[case::before_the_first_bytes(400)]
#[case::within_the_first_bytes(5000)]
fn a_server_that_leaves_while_it_is_first_looked_at_is_not_waited_for(#[case] after: u64) {
    let dir = tempdir().unwrap();
    let lends = Lends::files(&[&drive(dir.path(), "disk.img", 4 * MIB, 14)]);
    let port = once(lends.port, after, false);
    let began = Instant::now();
    let _ = workshop().source(Path::new(&format!("nbd://127.0.0.1:{port}/disk.img")));
    assert!(began.elapsed() < Duration::from_secs(2), "{:?}", began.elapsed());
}

#[test]
fn a_stop_is_heard_while_a_server_that_came_back_says_nothing() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "disk.img", 40 * MIB, 14);
    let lends = Lends::files(&[&path]);
    let port = once(lends.port, 2 * MIB, true);
    let source = workshop().source(Path::new(&format!("nbd://127.0.0.1:{port}/disk.img"))).unwrap();
    let control = Control::new();
    source.obey(&control);
    let stopped = std::sync::OnceLock::new();
    std::thread::scope(|scope| {
        let readers: Vec<_> = (0..3u64)
            .map(|at| {
                let (source, stopped) = (&source, &stopped);
                scope.spawn(move || {
                    let mut bytes = vec![0; 4 * MIB as usize];
                    let error = source.read_at(at * 4 * MIB, &mut bytes).unwrap_err();
                    (error, stopped.get().map(Instant::elapsed))
                })
            })
            .collect();
        std::thread::sleep(Duration::from_millis(1500));
        let asked = Instant::now();
        let _ = source.present();
        assert!(asked.elapsed() < Duration::from_millis(100), "whether it is there is told at once: {:?}", asked.elapsed());
        stopped.set(Instant::now()).unwrap();
        control.stop();
        for reader in readers {
            let (error, after) = reader.join().unwrap();
            assert!(matches!(error, ReadError::Gone(_)), "{error}");
            assert!(after.expect("it ended after the stop") < Duration::from_secs(1), "{after:?}");
        }
    });
}

fn writable(path: &Path) -> Borrowed {
    let uri = Uri::of_path(path).unwrap().unwrap();
    Borrowed::open(path, &uri, None, true).unwrap()
}

#[test]
fn servers_of_others_are_written_to() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "disk.img", 16 * MIB, 15);
    let socket = dir.path().join("s");
    let server = Server::nbdkit(&socket, &["file", path.to_str().unwrap()]);
    let drive = writable(&unix(&socket));
    let mut expected = fs::read(&path).unwrap();
    let bytes = noise(9 << 20, 99);
    drive.write_at(MIB, &bytes).unwrap();
    expected[MIB as usize..10 * MIB as usize].copy_from_slice(&bytes);
    drive.write_zero(2 * MIB, 3 * MIB + 512).unwrap();
    expected[2 * MIB as usize..5 * MIB as usize + 512].fill(0);
    drive.flush().unwrap();
    let mut back = vec![0; 16 * MIB as usize];
    drive.read_at(0, &mut back).unwrap();
    assert!(back == expected && fs::read(&path).unwrap() == expected);
    // What is not durable when the connection ends is never said to be.
    drive.write_at(0, &bytes[..4096]).unwrap();
    server.kill();
    let _server = Server::nbdkit(&socket, &["file", path.to_str().unwrap()]);
    drive.read_at(0, &mut back[..512]).unwrap();
    assert!(drive.flush().is_err() && drive.flush().is_err());
}

#[test]
fn no_target_is_what_is_read_only_or_says_nothing_of_durability() {
    let dir = tempdir().unwrap();
    let path = drive(dir.path(), "disk.img", MIB, 16);
    let socket = dir.path().join("s");
    let open = |args: &[&str]| {
        let server = Server::nbdkit(&socket, args);
        let (path, uri) = (unix(&socket), Uri::of_path(&unix(&socket)).unwrap().unwrap());
        let opened = Borrowed::open(&path, &uri, None, true).err().map(|error| error.to_string());
        server.kill();
        opened
    };
    assert!(open(&["-r", "file", path.to_str().unwrap()]).is_some());
    let why = open(&["eval", "get_size=echo 1M", "pread=dd if=/dev/zero bs=$3 count=1", "pwrite=cat >/dev/null", "can_flush=exit 3"]);
    assert!(why.unwrap().contains("durable"));
}

/// A server that greets as it should, says this, and goes.
fn says(bytes: Vec<u8>) -> PathBuf {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming().take(40) {
            let Ok(mut stream) = stream else { return };
            let _ = stream.write_all(&bytes);
            let _ = stream.shutdown(std::net::Shutdown::Write);
            let _ = stream.set_read_timeout(Some(Duration::from_millis(300)));
            let _ = std::io::copy(&mut stream, &mut std::io::sink());
        }
    });
    format!("nbd://127.0.0.1:{port}/x").into()
}

/// All that a good server says up to its answers to requests.
fn greeting(size: u64) -> Vec<u8> {
    let mut out = b"NBDMAGICIHAVEOPT\x00\x03".to_vec();
    let mut reply = |option: u32, kind: u32, data: &[u8]| {
        out.extend(0x0003_e889_0455_65a9u64.to_be_bytes());
        out.extend(option.to_be_bytes());
        out.extend(kind.to_be_bytes());
        out.extend((data.len() as u32).to_be_bytes());
        out.extend(data);
    };
    reply(8, 1, &[]);
    reply(10, 4, &[&7u32.to_be_bytes()[..], b"base:allocation"].concat());
    reply(10, 1, &[]);
    reply(7, 3, &[&[0, 0][..], &size.to_be_bytes(), &[0, 3]].concat());
    reply(7, 1, &[]);
    out
}

fn chunk(flags: u16, kind: u16, cookie: u64, data: &[u8]) -> Vec<u8> {
    [&0x668e_33efu32.to_be_bytes()[..], &flags.to_be_bytes(), &kind.to_be_bytes(), &cookie.to_be_bytes(), &(data.len() as u32).to_be_bytes(), data]
        .concat()
}

#[rstest]
#[case::more_than_was_asked(chunk(1, 1, 1, &[&0u64.to_be_bytes()[..], &[1; 8192]].concat()))]
#[case::before_it(chunk(1, 1, 1, &[&u64::MAX.to_be_bytes()[..], &[1; 512]].concat()))]
#[case::twice([chunk(0, 1, 1, &[&0u64.to_be_bytes()[..], &[1; 4096]].concat()), chunk(1, 1, 1, &[&0u64.to_be_bytes()[..], &[2; 4096]].concat())].concat())]
#[case::less(chunk(1, 1, 1, &[&0u64.to_be_bytes()[..], &[1; 512]].concat()))]
#[case::nothing(chunk(1, 0, 1, &[]))]
#[case::for_nobody(chunk(1, 0, 99, &[]))]
#[case::huge([&0x668e_33efu32.to_be_bytes()[..], &[0, 1, 0, 1], &1u64.to_be_bytes(), &u32::MAX.to_be_bytes()].concat())]
#[case::huge_hole(chunk(1, 2, 1, &[&0u64.to_be_bytes()[..], &u32::MAX.to_be_bytes()].concat()))]
#[case::status_for_a_read(chunk(1, 5, 1, &[&7u32.to_be_bytes()[..], &512u32.to_be_bytes(), &0u32.to_be_bytes()].concat()))]
#[case::error_without_end(chunk(1, 0x8001, 1, &[&5u32.to_be_bytes()[..], &u16::MAX.to_be_bytes()].concat()))]
#[case::simple_bytes([&0x6744_6698u32.to_be_bytes()[..], &0u32.to_be_bytes(), &1u64.to_be_bytes(), &[3; 4096]].concat())]
#[case::another_language(b"HTTP/1.1 400 Bad Request\r\n\r\n".to_vec())]
fn answers_that_mean_ill_give_no_bytes(#[case] answer: Vec<u8>) {
    let path = says([greeting(8192), answer].concat());
    let uri = Uri::of_path(&path).unwrap().unwrap();
    let began = Instant::now();
    if let Ok(drive) = Borrowed::open(&path, &uri, None, false) {
        let patience = Patience { limit: Duration::from_secs(1), control: None };
        assert!(drive.read_within(0, &mut [0; 4096], &patience).is_err());
    }
    assert!(began.elapsed() < Duration::from_secs(60), "{:?}", began.elapsed());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    /// Whatever a server says instead of its part of the negotiation, it ends with an error or a drive, and soon.
    #[test]
    fn greetings_that_mean_ill_end(place in 0usize..150, byte in any::<u8>(), cut in 0usize..200, noise in prop::collection::vec(any::<u8>(), 0..64)) {
        let mut bytes = greeting(8192);
        let place = place % bytes.len();
        bytes[place] ^= byte;
        bytes.truncate(cut.max(place + 1));
        bytes.extend(noise);
        let path = says(bytes);
        let began = Instant::now();
        // Reading from it would only be waited for.
        let _ = badger_network::list(&Uri::of_path(&path).unwrap().unwrap(), None);
        prop_assert!(began.elapsed() < Duration::from_secs(15));
    }

    /// Whatever a borrower says, the lender goes on lending.
    #[test]
    fn borrowers_that_mean_ill_do_no_harm(says in prop::collection::vec(any::<u8>(), 0..300), politely in 0usize..4) {
        let dir = tempdir().unwrap();
        let path = drive(dir.path(), "disk.img", MIB, 17);
        let lends = Lends::files(&[&path]);
        let mut stream = TcpStream::connect(("127.0.0.1", lends.port)).unwrap();
        if politely > 0 {
            stream.write_all(&3u32.to_be_bytes()).unwrap();
        }
        if politely > 1 {
            let option = [1u32, 7, 10][politely % 3];
            stream.write_all(&[&0x4948_4156_454f_5054u64.to_be_bytes()[..], &option.to_be_bytes(), &(says.len() as u32).to_be_bytes()].concat()).unwrap();
        }
        let _ = stream.write_all(&says);
        let source = workshop().source(Path::new(&lends.uri("disk.img"))).unwrap();
        prop_assert!(whole(&source) == fs::read(&path).unwrap());
    }
}
