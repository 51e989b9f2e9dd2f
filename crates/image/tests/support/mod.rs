//! Images made by the system's own tool.
#![allow(dead_code)]

use badger_drive::Medium;
use badger_image::Container;
use std::path::Path;
use std::process::Command;
use tempfile::TempDir;

pub struct Place(TempDir);

impl Place {
    pub fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }
    pub fn path(&self, name: &str) -> String {
        self.0.path().join(name).to_str().unwrap().to_string()
    }
    pub fn raw(&self, bytes: &[u8]) -> String {
        let path = self.path("content.raw");
        std::fs::write(&path, bytes).unwrap();
        path
    }
}

pub fn run(program: &str, args: &[&str]) {
    let out = Command::new(program).args(args).output().unwrap();
    assert!(out.status.success(), "{program} {args:?}: {}", String::from_utf8_lossy(&out.stderr));
}

/// Lets the tool write into an image.
pub fn qemu_io(image: &str, format: &str, commands: &[&str]) {
    let mut args = vec!["-f", format];
    commands.iter().for_each(|command| args.extend(["-c", command]));
    args.push(image);
    run("qemu-io", &args);
}

pub fn open(image: &str) -> Container {
    badger_image::open(Path::new(image), None).unwrap().expect("a container")
}

pub fn read_all(drive: &impl Medium) -> Vec<u8> {
    let mut bytes = vec![0xee; drive.geometry().size_bytes as usize];
    for (number, piece) in bytes.chunks_mut(1 << 20).enumerate() {
        drive.read_at((number as u64) << 20, piece).unwrap();
    }
    bytes
}

/// Bytes of which a part is random, a part repeats, and a part is zero.
pub fn content(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed | 1;
    let mut step = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    let mut out = Vec::with_capacity(len);
    while out.len() < len {
        let run = (step() % 300_000) as usize;
        match step() % 4 {
            0 => out.extend(std::iter::repeat_with(|| step() as u8).take(run)),
            1 => out.extend(b"the slate of Lantern Row ".iter().cycle().take(run)),
            2 => out.extend(std::iter::repeat_n(step() as u8, run)),
            _ => out.extend(std::iter::repeat_n(0, run)),
        }
    }
    out.truncate(len);
    out
}
