//! What the tests of lending and borrowing share: a bench that lends, drives with known bytes, servers of others.
#![allow(dead_code)]

mod listening;

use badger_drive::{Control, Workshop};
use badger_network::{BORROWED, Lender, Lending, Lent, Note, Shelf};
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

pub const MIB: u64 = 1 << 20;

pub fn workshop() -> Workshop {
    Workshop { more: &[BORROWED], ..Workshop::default() }
}

/// Bytes that repeat nowhere.
pub fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    (0..len.div_ceil(8)).flat_map(|_| next().to_le_bytes()).take(len).collect()
}

/// A file of `size` bytes, noise in some places and holes everywhere else.
pub fn drive(dir: &Path, name: &str, size: u64, seed: u64) -> PathBuf {
    let path = dir.join(name);
    let file = File::create(&path).unwrap();
    file.set_len(size).unwrap();
    for place in 0..size.div_ceil(4 * MIB) {
        let len = (MIB + 4096 * place).min(size - place * 4 * MIB);
        file.write_all_at(&noise(len as usize, seed + place), place * 4 * MIB).unwrap();
    }
    path
}

/// A bench that lends, until it is dropped.
pub struct Lends {
    control: Arc<Control>,
    thread: Option<JoinHandle<()>>,
    pub port: u16,
    pub notes: Arc<Mutex<Vec<Note>>>,
}

impl Lends {
    pub fn new(lent: Vec<Lent>) -> Self {
        Self::with(lent, None)
    }

    /// With a certificate and its key.
    pub fn with(lent: Vec<Lent>, tls: Option<(&Path, &Path)>) -> Self {
        let lender = Lender::at("127.0.0.1:0".parse().unwrap()).unwrap();
        let port = lender.address().unwrap().port();
        let (control, notes) = (Arc::new(Control::new()), Arc::new(Mutex::new(Vec::new())));
        let tls = tls.map(|(certificate, key)| badger_network::identified(certificate, key).unwrap());
        let (obeyed, told) = (control.clone(), notes.clone());
        let thread = std::thread::spawn(move || {
            let shelf = Shelf(lent);
            lender.lend(&Lending { shelf: &shelf, tls, control: &obeyed, told: &|note| told.lock().unwrap().push(note) });
        });
        Self { control, thread: Some(thread), port, notes }
    }

    /// Files, to be read only.
    pub fn files(paths: &[&Path]) -> Self {
        let name = |path: &Path| path.file_name().unwrap().to_str().unwrap().to_string();
        Self::new(paths.iter().map(|path| Lent::new(name(path), workshop().source(path).unwrap())).collect())
    }

    pub fn uri(&self, export: &str) -> String {
        format!("nbd://127.0.0.1:{}/{export}", self.port)
    }
}

impl Drop for Lends {
    fn drop(&mut self) {
        self.control.stop();
        if let Some(thread) = self.thread.take() {
            thread.join().unwrap();
        }
    }
}

/// A server of somebody else, until it is dropped.
pub struct Server {
    child: Child,
}

impl Server {
    /// Waits until it listens.
    pub fn start(command: &mut Command, socket: &Path) -> Self {
        let child = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let began = Instant::now();
        while !listening::listens(socket) {
            assert!(began.elapsed() < Duration::from_secs(20), "no server at {}", socket.display());
            std::thread::sleep(Duration::from_millis(20));
        }
        Self { child }
    }

    /// `nbdkit` on a socket, with these arguments.
    pub fn nbdkit(socket: &Path, args: &[&str]) -> Self {
        let _ = fs::remove_file(socket);
        Self::start(Command::new("nbdkit").args(["-f", "-U"]).arg(socket).args(args), socket)
    }

    /// Ends it as a loss of power would.
    pub fn kill(mut self) {
        self.end();
    }

    fn end(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.end();
    }
}

/// A socket's URI.
pub fn unix(socket: &Path) -> PathBuf {
    format!("nbd+unix:///?socket={}", socket.display()).into()
}

pub fn ran(program: &str, args: &[&str]) -> Output {
    let out = Command::new(program).args(args).output().unwrap();
    assert!(out.status.success(), "{program} {args:?}: {}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
    out
}

pub fn said(program: &str, args: &[&str]) -> String {
    String::from_utf8_lossy(&ran(program, args).stdout).into_owned()
}
