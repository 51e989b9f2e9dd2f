//! What the tests of the whole program share: a place of their own, the program, loop devices.
#![allow(dead_code)]

/// Shared with what lends and borrows.
#[path = "../../../network/tests/support/listening.rs"]
pub mod listening;

use serde_json::Value;
use std::collections::HashSet;
use std::fs::{self, File};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};
use tempfile::TempDir;

pub const MIB: u64 = 1 << 20;

/// Waits for what other tests are just starting: until it is a program of its own, each holds open what was open for writing here
/// when it was begun, and what holds a drive open for writing is a reason to refuse.
fn await_newborn() {
    let newborn = || -> HashSet<u32> {
        let own = fs::read_link("/proc/self/exe").unwrap();
        let all = fs::read_dir("/proc").unwrap().flatten().filter_map(|entry| entry.file_name().to_str()?.parse().ok());
        let same = |process: &u32| fs::read_link(format!("/proc/{process}/exe")).is_ok_and(|exe| exe == own);
        all.filter(|process| *process != std::process::id() && same(process)).collect()
    };
    let mut left = newborn();
    let start = Instant::now();
    while !left.is_empty() && start.elapsed() < Duration::from_secs(10) {
        std::thread::sleep(Duration::from_millis(2));
        let now = newborn();
        left.retain(|process| now.contains(process));
    }
}

pub struct Place {
    pub dir: TempDir,
}

impl Place {
    pub fn new() -> Self {
        Self { dir: tempfile::tempdir().unwrap() }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// The program with a ledger of this place's own.
    pub fn badger(&self, args: &[&str]) -> Command {
        await_newborn();
        let mut command = Command::new(env!("CARGO_BIN_EXE_badger"));
        command.args(args).arg("--ledger").arg(self.path("ledger.db")).stdin(Stdio::null());
        // Nothing of the user who runs the tests plays a part.
        command.env("XDG_STATE_HOME", self.path("state")).env("XDG_CONFIG_HOME", self.path("config"));
        command
    }

    pub fn run(&self, args: &[&str]) -> (i32, String, String) {
        let out = self.badger(args).output().unwrap();
        (out.status.code().unwrap_or(-1), text(&out.stdout), text(&out.stderr))
    }

    /// Runs with `--json` and gives exit code and document.
    pub fn json(&self, args: &[&str]) -> (i32, Value) {
        let out = self.badger(args).arg("--json").output().unwrap();
        let value = serde_json::from_slice(&out.stdout).unwrap_or_else(|error| panic!("{error}: {}{}", text(&out.stdout), text(&out.stderr)));
        (out.status.code().unwrap_or(-1), value)
    }

    /// Journals of runs that have begun, with their lengths.
    pub fn journals(&self) -> Vec<(PathBuf, u64)> {
        let entries = fs::read_dir(self.path("ledger-journals")).into_iter().flatten().flatten();
        let journals = entries.filter(|entry| entry.path().extension().is_some_and(|ending| ending == "journal"));
        journals.filter_map(|entry| Some((entry.path(), entry.metadata().ok()?.len()))).filter(|(_, len)| *len > 0).collect()
    }

    /// Starts a run, and waits until it has a journal of its own, which gets its name when it is whole, and has written to its target.
    pub fn begun(&self, args: &[&str], target: &Path) -> Child {
        let written = || fs::metadata(target).unwrap().modified().unwrap();
        let (before, was) = (self.journals(), written());
        let mut run = self.badger(args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        while written() == was || self.journals().iter().all(|journal| before.contains(journal)) {
            assert!(run.try_wait().unwrap().is_none(), "it ended before it wrote anything");
            std::thread::sleep(Duration::from_millis(10));
        }
        run
    }

    pub fn noise(&self, name: &str, len: u64, seed: u64) -> PathBuf {
        let path = self.path(name);
        let mut state = seed | 1;
        let bytes: Vec<u8> = (0..len / 8)
            .flat_map(|_| {
                state ^= state << 13;
                state ^= state >> 7;
                state ^= state << 17;
                state.to_le_bytes()
            })
            .collect();
        fs::write(&path, bytes).unwrap();
        path
    }

    pub fn sparse(&self, name: &str, len: u64) -> PathBuf {
        let path = self.path(name);
        File::create(&path).unwrap().set_len(len).unwrap();
        path
    }

    /// A simulated drive over a file of this place.
    pub fn drive(&self, name: &str, backing: &str, more: &str) -> PathBuf {
        let path = self.path(&format!("{name}.drive.toml"));
        let text = format!("backing = \"{backing}\"\n[identity]\nmodel = \"{name}\"\nserial = \"TM25-{name}\"\nbus = \"sata\"\n{more}");
        fs::write(&path, text).unwrap();
        path
    }
}

pub fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

pub fn tool(command: &[&str]) -> Output {
    let out = Command::new(command[0]).args(&command[1..]).stdin(Stdio::null()).output().unwrap_or_else(|error| panic!("{}: {error}", command[0]));
    assert!(out.status.success(), "{command:?}: {}{}", text(&out.stdout), text(&out.stderr));
    out
}

/// The program that kills at a call; it traces the system calls of ours, so nothing of ours has to help.
fn killer() -> &'static PathBuf {
    static MADE: OnceLock<PathBuf> = OnceLock::new();
    MADE.get_or_init(|| {
        let made = PathBuf::from(format!("{}/kill-at-{}", env!("CARGO_TARGET_TMPDIR"), std::process::id()));
        tool(&["gcc", "-O1", "-o", path(&made), concat!(env!("CARGO_MANIFEST_DIR"), "/tests/support/kill-at.c")]);
        made
    })
}

/// Runs a command until its `at`th call of a kind; whether it was killed there, and how many there were.
pub fn killed_at(place: &Place, kind: &str, at: u64, args: &[&str]) -> (bool, u64) {
    traced(place, kind, at, args, &[])
}

fn traced(place: &Place, kind: &str, at: u64, args: &[&str], more: &[(&str, &Path)]) -> (bool, u64) {
    let (dir, command) = (tempfile::tempdir().unwrap(), place.badger(args));
    let count = dir.path().join("count");
    let mut traced = Command::new(killer());
    traced.args([kind, &at.to_string(), path(&count)]).arg(command.get_program()).args(command.get_args());
    traced.envs(command.get_envs().filter_map(|(name, value)| Some((name, value?)))).envs(more.iter().copied());
    let code = traced.output().unwrap().status.code();
    // A tracer that failed leaves no count.
    (code == Some(137), fs::read_to_string(&count).unwrap().trim().parse().unwrap())
}

/// Runs a command until its `at`th flush, and takes from the disk what was not flushed before it. Whether it came so far.
pub fn power_lost_at(place: &Place, loss: &Loss, at: u64, args: &[&str]) -> bool {
    let durable = tempfile::tempdir().unwrap();
    let (lost, _) = traced(place, "flush", at, args, &[("DURABLE", durable.path()), ("DURABLE_ROOT", place.dir.path())]);
    if lost {
        Disk { durable: durable.path(), loss, random: (at * 0x9e37_79b9) | 1 }.folder(place.dir.path());
    }
    lost
}

/// What a loss of power may leave, within what a file system promises: a flush of a file keeps its bytes, one of a folder its names.
#[derive(Debug)]
pub struct Loss {
    /// Names are those of the last flush of their folder; otherwise those of the moment.
    pub names: bool,
    /// Of bytes that were not flushed some pages are there; otherwise none.
    pub some: bool,
}

/// A disk on which the power failed.
struct Disk<'a> {
    /// What was flushed, as the tracer kept it.
    durable: &'a Path,
    loss: &'a Loss,
    random: u64,
}

impl Disk<'_> {
    fn id(path: &Path) -> Option<String> {
        let meta = fs::symlink_metadata(path).ok()?;
        let born = meta.created().unwrap().duration_since(std::time::UNIX_EPOCH).unwrap();
        Some(format!("{}-{}.{}", meta.ino(), born.as_secs(), born.subsec_nanos()))
    }

    fn folder(&mut self, dir: &Path) {
        let listed = |dir: &Path| fs::read_dir(dir).unwrap().map(|entry| entry.unwrap().path()).collect::<Vec<_>>();
        let flushed = fs::read_to_string(self.durable.join(format!("d-{}", Self::id(dir).unwrap()))).unwrap_or_default();
        let flushed: Vec<(&str, PathBuf)> =
            flushed.lines().map(|line| line.split_once(' ').unwrap()).map(|(id, name)| (id, dir.join(name))).collect();
        let mut restored = Vec::new();
        if self.loss.names {
            // What kept its name is left alone: a new name would give it another time.
            let apart = dir.join("renamed or new");
            fs::create_dir(&apart).unwrap();
            for path in listed(dir).into_iter().filter(|path| *path != apart) {
                if !flushed.iter().any(|(id, name)| *name == path && Self::id(&path).as_deref() == Some(*id)) {
                    fs::rename(&path, apart.join(path.file_name().unwrap())).unwrap();
                }
            }
            for (id, path) in flushed.iter().filter(|(_, path)| fs::symlink_metadata(path).is_err()) {
                match listed(&apart).into_iter().chain(listed(dir)).find(|other| Self::id(other).as_deref() == Some(*id)) {
                    Some(other) if other.is_dir() => fs::rename(other, path).unwrap(),
                    Some(other) => fs::hard_link(other, path).unwrap(),
                    None => {
                        self.restore(id, path);
                        restored.push(path.clone());
                    }
                }
            }
            fs::remove_dir_all(&apart).unwrap();
        }
        for path in listed(dir).into_iter().filter(|path| !path.is_symlink() && !restored.contains(path)) {
            if path.is_dir() {
                self.folder(&path);
            } else if let Some(id) = Self::id(&path) {
                self.file(&path, &self.durable.join(format!("f-{id}")));
            }
        }
    }

    /// Brings back a file or folder whose removal was lost.
    fn restore(&self, id: &str, path: &Path) {
        match fs::read_to_string(self.durable.join(format!("d-{id}"))) {
            Err(_) => fs::write(path, fs::read(self.durable.join(format!("f-{id}"))).unwrap_or_default()).unwrap(),
            Ok(names) => {
                fs::create_dir(path).unwrap();
                names.lines().map(|line| line.split_once(' ').unwrap()).for_each(|(id, name)| self.restore(id, &path.join(name)));
            }
        }
    }

    fn file(&mut self, path: &Path, flushed: &Path) {
        let (now, flushed) = (fs::read(path).unwrap(), fs::read(flushed).unwrap_or_default());
        if now == flushed {
            return;
        }
        let mut left = flushed.clone();
        if self.loss.some {
            left.resize(if self.one_in_two() { now.len() } else { flushed.len() }, 0);
            for (at, page) in (0..).step_by(4096).zip(now.chunks(4096)) {
                if at < left.len() && self.one_in_two() {
                    let end = left.len().min(at + page.len());
                    left[at..end].copy_from_slice(&page[..end - at]);
                }
            }
        }
        // In its place: it keeps its inode and its second names.
        let file = File::options().write(true).open(path).unwrap();
        file.set_len(left.len() as u64).unwrap();
        file.write_all_at(&left, 0).unwrap();
    }

    fn one_in_two(&mut self) -> bool {
        self.random ^= self.random << 13;
        self.random ^= self.random >> 7;
        self.random ^= self.random << 17;
        self.random >> 40 & 1 == 1
    }
}

/// A real system disk; what is unpacked for it is kept between runs, as building it from packages takes minutes.
pub fn system_disk(place: &Place, name: &str, options: &[&str]) -> PathBuf {
    let (disk, cache) = (place.path(name), format!("{}/system-disk", env!("CARGO_TARGET_TMPDIR")));
    let make = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/support/make-system-disk");
    tool(&[&[make, path(&disk), "--cache", &cache], options].concat());
    disk
}

/// First bytes of the partitions of a disk of 512-byte sectors.
pub fn starts(disk: &Path) -> Vec<u64> {
    let dump = text(&tool(&["sfdisk", "-d", path(disk)]).stdout);
    let start = |line: &str| line.split("start=").nth(1)?.split(',').next()?.trim().parse::<u64>().ok();
    dump.lines().filter_map(start).map(|sector| sector * 512).collect()
}

/// What a machine says over its serial line when a disk is started in it, which is not written to; whether it came up whole.
pub fn started(disk: &Path, firmware: &str, bus: &str) -> (bool, String) {
    let boot = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/support/boot-disk");
    let run = Command::new(boot).args([path(disk), "--firmware", firmware, "--bus", bus, "--seconds", "1500"]).output().unwrap();
    let console = text(&run.stdout);
    (run.status.success() && console.contains("failed=0"), console)
}

pub fn path(path: &Path) -> &str {
    path.to_str().unwrap()
}

/// A loop device that goes away with its test.
pub struct Loop(pub PathBuf);

impl Loop {
    pub fn over(file: &Path, more: &[&str]) -> Self {
        let out = losetup().args(["losetup", "-f", "--show"]).args(more).arg(file).output().unwrap();
        assert!(out.status.success(), "no loop device over {}: {}", file.display(), text(&out.stderr));
        Self(PathBuf::from(text(&out.stdout).trim()))
    }

    /// A window on one partition of a drive.
    pub fn part(file: &Path, start: u64, sectors: u64) -> Self {
        Self::over(file, &["--offset", &(start * 512).to_string(), "--sizelimit", &(sectors * 512).to_string()])
    }

    pub fn path(&self) -> &str {
        path(&self.0)
    }

    /// What must be typed to release it.
    pub fn tail(&self) -> String {
        let name: Vec<char> = self.path().trim_start_matches("/dev/").chars().collect();
        name[name.len().saturating_sub(4)..].iter().collect()
    }
}

/// One at a time: the loser of a race for the same free device holds it open for a moment, which is somebody writing to it.
fn losetup() -> Command {
    let mut command = Command::new("flock");
    command.arg(std::env::temp_dir().join("badger-losetup.lock"));
    command
}

impl Drop for Loop {
    fn drop(&mut self) {
        let _ = losetup().args(["losetup", "-d"]).arg(&self.0).status();
    }
}

/// A mounted volume.
pub struct Mount(pub PathBuf, PathBuf);

impl Mount {
    pub fn of(command: &[&str], device: &str, place: PathBuf) -> Self {
        fs::create_dir_all(&place).unwrap();
        let mut command = command.to_vec();
        command.extend([device, path(&place)]);
        tool(&command);
        Self(place, device.into())
    }
}

impl Drop for Mount {
    fn drop(&mut self) {
        // A driver in user space goes on writing for a moment after its mount is gone; what comes next would see that.
        for _ in 0..200 {
            let gone = Command::new("umount").arg(&self.0).stderr(Stdio::null()).status().is_ok_and(|status| status.success());
            if gone || !fs::read_to_string("/proc/mounts").unwrap_or_default().contains(path(&self.0)) {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(25));
        }
        let held = || {
            let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
            let files = processes.flat_map(|process| fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten());
            files.into_iter().any(|entry| fs::read_link(entry.path()).is_ok_and(|link| link == self.1))
        };
        let turns = (0..200).take_while(|_| held()).inspect(|_| std::thread::sleep(std::time::Duration::from_millis(25))).count();
        assert!(turns < 200 || std::thread::panicking(), "{} is still in use", self.1.display());
    }
}
