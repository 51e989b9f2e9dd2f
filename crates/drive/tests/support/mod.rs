//! Files and loop devices to try things on.
#![allow(dead_code)]

use badger_drive::{Release, Source, Workshop};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Command;
use tempfile::TempDir;

pub struct Loop(pub PathBuf);

impl Loop {
    pub fn over(file: &Path, more: &[&str]) -> Self {
        let out = losetup().args(["losetup", "-f", "--show"]).args(more).arg(file).output().unwrap();
        assert!(out.status.success(), "no loop device over {}: {}", file.display(), String::from_utf8_lossy(&out.stderr));
        Self(PathBuf::from(String::from_utf8(out.stdout).unwrap().trim()))
    }
}

/// One at a time: the loser of a race for the same free device holds it open for a moment, which is somebody writing to it.
pub fn losetup() -> Command {
    let mut command = Command::new("flock");
    command.arg(std::env::temp_dir().join("badger-losetup.lock"));
    command
}

impl Drop for Loop {
    fn drop(&mut self) {
        let _ = losetup().args(["losetup", "-d"]).arg(&self.0).status();
    }
}

pub fn file(dir: &TempDir, name: &str, mib: u64) -> PathBuf {
    let path = dir.path().join(name);
    File::create(&path).unwrap().set_len(mib << 20).unwrap();
    path
}

pub fn refused(source: &Source, target: &Path, tail: &str) -> &'static str {
    let needed = source.geometry().size_bytes;
    match Workshop::default().candidate(target, None, 512) {
        Err(refusal) => refusal.code,
        Ok(candidate) => candidate.release(&Release::new(source, needed, tail)).err().map_or("released", |refusal| refusal.code),
    }
}

pub fn source(path: &Path) -> Source {
    Workshop::default().source(path).unwrap()
}

/// Something that is mounted until it is dropped.
pub struct Mounted(pub PathBuf);

impl Mounted {
    /// Runs a command that mounts at `place`, which is made first.
    pub fn by(place: PathBuf, command: &str, args: &[&std::ffi::OsStr]) -> Self {
        std::fs::create_dir_all(&place).unwrap();
        assert!(Command::new(command).args(args).arg(&place).status().unwrap().success(), "{command}");
        Self(place)
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

/// The same storage with random-looking bytes in it.
pub fn filled(dir: &TempDir, name: &str, mib: u64, seed: u64) -> PathBuf {
    let path = file(dir, name, mib);
    let mut state = seed | 1;
    let bytes: Vec<u8> = std::iter::repeat_with(|| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state as u8
    })
    .take((mib << 20) as usize)
    .collect();
    std::fs::write(&path, bytes).unwrap();
    path
}

/// The tail that releases a path now.
pub fn tail(path: &Path) -> String {
    Workshop::default().candidate(path, None, 512).unwrap().tail()
}
