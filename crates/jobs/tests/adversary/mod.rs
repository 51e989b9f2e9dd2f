//! A standing adversary: situations by the thousand out of a seed, against a model of what may be written where.
//!
//! Some storages, each reached by several ways; drives that share a serial; drives that begin like a container; faults; somebody who swaps,
//! writes, unlinks and truncates between every two steps; wrong tails; stops and resumes. Clones, images and what is restored from them,
//! salvages, copies of files, drives borrowed from a server that may lend another one later, or a part of a storage that it does not hold open;
//! files of ours that lead to a storage, and that somebody changed; journals and the ledger too. After each step the model says which storage
//! may have changed, and what must be so where something is called proved. `BADGER_SITUATIONS` sets how many.

mod others;

use crate::support::{MIB, Shop, noise};
use badger_bench::Bench;
use badger_drive::Refusal;
use badger_jobs::{Order, Prepared, Ready};
use badger_layout::plan::Ids;
use badger_transfer::Report;
use badger_transfer::events::Silent;
use badger_transfer::{Control, Event, Outcome, Phase};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Read;
use std::os::unix::fs::{FileExt, symlink};
use std::path::PathBuf;
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU64, Ordering};

/// With nothing left open.
fn settled(prepared: Prepared) -> Ready {
    prepared.settle(&Control::new(), &Silent).unwrap_or_else(|(_, refusal)| panic!("{}", refusal.text))
}

/// Bytes of a storage at the most: three leaves of the proof, the last a short one. Most have two: how long the middle is, is
/// asked of every fourth.
const MOST: usize = 2 * MIB + MIB / 4;
const NAMES: [&str; 4] = ["weir", "tide", "lock", "rota"];
const SITUATIONS: u64 = 3000;

/// Numbers that look like nothing in particular; the same for the same seed.
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % most
    }
    fn one_in(&mut self, chances: u64) -> bool {
        self.below(chances) == 0
    }
    fn of<T: Copy>(&mut self, list: &[T]) -> T {
        list[self.below(list.len() as u64) as usize]
    }
}

/// Bytes that look like nothing in particular: where they begin in a store that is made once tells storages apart.
fn grain(len: usize, seed: u64) -> Vec<u8> {
    static STORE: LazyLock<Vec<u8>> = LazyLock::new(|| noise(16 * MOST, 1));
    let from = seed as usize * 8 % (STORE.len() - len);
    STORE[from..from + len].to_vec()
}

/// The head of a QCOW2 file of version 3, of which the backing file's name stands at byte 512.
fn container(size: u64) -> [u8; 104] {
    let mut head = [0; 104];
    head[..4].copy_from_slice(b"QFI\xfb");
    for (at, number) in [(4, 3u32), (16, 8), (20, 16), (36, 1), (96, 4), (100, 104)] {
        head[at..at + 4].copy_from_slice(&number.to_be_bytes());
    }
    for (at, number) in [(8, 512u64), (24, size), (40, 65_536), (48, 131_072)] {
        head[at..at + 8].copy_from_slice(&number.to_be_bytes());
    }
    head
}

struct Situation {
    shop: Shop,
    dice: Dice,
    /// Bytes of each storage.
    size: usize,
    /// What each storage must hold, by its name.
    model: BTreeMap<&'static str, Vec<u8>>,
    /// Inode and time of the last change, as each was seen last.
    stamps: BTreeMap<&'static str, Option<(u64, i64, i64)>>,
    last: bool,
    /// What was read last: memory is used again.
    seen: Vec<u8>,
    story: Vec<String>,
    counts: BTreeMap<String, u64>,
}

impl Situation {
    fn new(seed: u64) -> Self {
        let mut dice = Dice(seed);
        let size = if dice.one_in(4) { MOST } else { MOST - MIB };
        let mut situation = Self {
            shop: Shop::new(),
            dice,
            size,
            model: BTreeMap::new(),
            stamps: BTreeMap::new(),
            last: false,
            seen: Vec::new(),
            story: Vec::new(),
            counts: BTreeMap::new(),
        };
        for name in NAMES {
            let filled = situation.dice.below(6);
            let content = match filled {
                5 => {
                    // It names another storage as what it goes on from.
                    let mut content = grain(size, situation.dice.below(1 << 40));
                    content[..104].copy_from_slice(&container(size as u64));
                    content[512..520].copy_from_slice(b"tide.img");
                    content
                }
                0 => vec![0; size],
                1 => [vec![0; size / 2], grain(size - size / 2, situation.dice.below(1 << 40))].concat(),
                _ => grain(size, situation.dice.below(1 << 40)),
            };
            fs::write(situation.image(name), &content).unwrap();
            fs::hard_link(situation.image(name), situation.shop.path(&format!("{name}-hard.img"))).unwrap();
            symlink(situation.image(name), situation.shop.path(&format!("{name}-soft.img"))).unwrap();
            // Bridges that give every drive the same serial are among them.
            let serial = if situation.dice.one_in(3) { "000000".to_string() } else { format!("SN-{name}") };
            situation.shop.describe(name, name, &serial, "");
            situation.model.insert(name, content);
        }
        situation
    }

    fn image(&self, name: &str) -> PathBuf {
        self.shop.path(&format!("{name}.img"))
    }

    fn tell(&mut self, what: impl Into<String>) {
        self.story.push(what.into());
    }

    fn fail(&self, what: &str) -> ! {
        panic!("{what}\n  {}", self.story.join("\n  "))
    }

    /// A way to a storage.
    fn way(&mut self, name: &str) -> PathBuf {
        match self.dice.below(6) {
            0 => self.image(name),
            1 => self.shop.path(&format!("{name}-hard.img")),
            2 => self.shop.path(&format!("{name}-soft.img")),
            3 => self.shop.path("..").join(self.shop.dir.path().file_name().unwrap()).join(format!("{name}.img")),
            _ => self.shop.path(&format!("{name}.drive.toml")),
        }
    }

    /// Somebody does something to a storage, or to a name; the model follows what the bytes under each name are.
    fn meddle(&mut self, source: &str, target: &str) {
        let name = if self.dice.one_in(2) { source.to_string() } else { target.to_string() };
        let name: &'static str = NAMES.iter().find(|other| **other == name).unwrap();
        let other = self.dice.of(&NAMES);
        match self.dice.below(9) {
            0 => {
                let at = self.dice.below(self.size as u64 - 600);
                let bytes = grain(512, self.dice.below(1 << 40));
                File::options().write(true).open(self.image(name)).unwrap().write_all_at(&bytes, at).unwrap();
                for same in self.same_storage(name) {
                    self.model.get_mut(same).unwrap()[at as usize..at as usize + 512].copy_from_slice(&bytes);
                }
                self.tell(format!("somebody writes to {name} at {at}"));
            }
            1 => {
                // Another file comes into its place; the old one is still there under its second name.
                let bytes = grain(self.size, self.dice.below(1 << 40));
                fs::write(self.shop.path("new"), &bytes).unwrap();
                fs::rename(self.shop.path("new"), self.image(name)).unwrap();
                self.model.insert(name, bytes);
                self.tell(format!("another file comes into the place of {name}"));
            }
            2 if other != name && !self.same_storage(name).contains(&other) => {
                fs::remove_file(self.image(name)).unwrap();
                symlink(self.image(other), self.image(name)).unwrap();
                self.tell(format!("{name} becomes a link to {other}"));
                let bytes = self.model[other].clone();
                self.model.insert(name, bytes);
            }
            3 if other != name => {
                self.shop.describe(name, other, "SN-swapped", "");
                self.tell(format!("the description of {name} leads to {other}"));
            }
            4 => {
                let serial = format!("SN-{}", self.dice.below(3));
                self.shop.describe(name, name, &serial, "");
                self.tell(format!("the drive {name} is called {serial}"));
            }
            5 => {
                File::options().write(true).open(self.image(name)).unwrap().set_len((self.size + 4096) as u64).unwrap();
                for same in self.same_storage(name) {
                    self.model.get_mut(same).unwrap().resize(self.size + 4096, 0);
                }
                self.tell(format!("{name} grows"));
            }
            6 => {
                let fault = match self.dice.below(4) {
                    0 => format!("[[fault]]\nkind = \"flush-fails\"\nafter_flushes = {}\n", self.dice.below(6)),
                    1 => format!("[[fault]]\nkind = \"drops\"\nafter_reads = {}\n", 20 + self.dice.below(30)),
                    2 => format!("[[fault]]\nkind = \"unreadable\"\nlba = {}\nsectors = 4\n", self.dice.below(self.size as u64 / 512 - 4)),
                    _ => format!("[[fault]]\nkind = \"write-unreadable\"\nlba = {}\nsectors = 4\n", self.dice.below(self.size as u64 / 512 - 4)),
                };
                self.shop.describe(name, name, &format!("SN-{name}"), &fault);
                self.tell(format!("the drive {name} fails: {}", fault.replace('\n', " ")));
            }
            _ => {}
        }
        // Names that lead to the same file now hold the same.
        for same in self.same_storage(name) {
            let bytes = self.model[name].clone();
            self.model.insert(same, bytes);
            let (hard, image) = (self.shop.path(&format!("{same}-hard.img")), fs::canonicalize(self.image(same)).unwrap());
            let inode = |path: &std::path::Path| fs::metadata(path).map(|meta| std::os::unix::fs::MetadataExt::ino(&meta)).ok();
            if inode(&hard) != inode(&image) {
                fs::remove_file(&hard).unwrap();
                fs::hard_link(image, hard).unwrap();
            }
        }
    }

    /// Which storages hold the very bytes that a name leads to now.
    fn same_storage(&self, name: &str) -> Vec<&'static str> {
        use std::os::unix::fs::MetadataExt;
        let node = |name: &str| fs::metadata(self.image(name)).map(|meta| (meta.dev(), meta.ino())).ok();
        NAMES.into_iter().filter(|other| node(other) == node(name)).collect()
    }

    /// The storage behind a way, as the descriptions and links are now.
    fn behind(&self, way: &std::path::Path) -> Option<&'static str> {
        use std::os::unix::fs::MetadataExt;
        let file = if way.to_string_lossy().ends_with(".drive.toml") {
            let text = fs::read_to_string(way).ok()?;
            self.shop.path(text.split('"').nth(1)?)
        } else {
            way.to_path_buf()
        };
        let meta = fs::metadata(file).ok()?;
        NAMES.into_iter().find(|name| fs::metadata(self.image(name)).is_ok_and(|other| (other.dev(), other.ino()) == (meta.dev(), meta.ino())))
    }

    /// Everything is as the model says, but for `written`.
    fn compare(&mut self, written: Option<&'static str>) {
        use std::os::unix::fs::MetadataExt;
        let changed: Vec<&'static str> = written.map(|name| self.same_storage(name)).unwrap_or_default();
        for name in NAMES {
            // What the system calls unchanged is read only at the end.
            let stamp = fs::metadata(self.image(name)).map(|meta| (meta.ino(), meta.ctime(), meta.ctime_nsec())).ok();
            if !changed.contains(&name) && !self.last && self.stamps.insert(name, stamp) == Some(stamp) {
                continue;
            }
            self.seen.clear();
            File::open(self.image(name)).unwrap().read_to_end(&mut self.seen).unwrap();
            if changed.contains(&name) {
                self.model.get_mut(name).unwrap().clone_from(&self.seen);
            } else if self.model[name] != self.seen {
                let at = self.model[name].iter().zip(&self.seen).position(|(a, b)| a != b);
                self.fail(&format!("{name} was written to, the first difference at byte {at:?}"));
            }
        }
    }

    fn run(&mut self, prepared: Prepared, tail: &str, stop_after: u64) -> (Result<Report, Refusal>, Option<u64>) {
        let (control, left, began) = (Control::new(), AtomicU64::new(stop_after), AtomicU64::new(u64::MAX));
        let watch = |event: &Event| match event {
            Event::Moved { .. } if left.fetch_sub(1, Ordering::SeqCst) == 1 => control.stop(),
            Event::Phase { phase: Phase::Copy, done, .. } => began.store(*done, Ordering::SeqCst),
            _ => {}
        };
        let bench: &Bench = &self.shop.bench;
        let outcome = settled(prepared).run(bench, tail, &control, &watch);
        (outcome, Some(began.load(Ordering::SeqCst)).filter(|done| *done != u64::MAX))
    }

    fn play(&mut self) {
        match self.dice.below(10) {
            0 | 1 => self.image_and_restore(),
            2 => self.salvage(),
            3 => self.fetch(),
            4 if self.dice.one_in(3) => self.borrow(),
            _ => self.clone_drive(),
        }
    }

    fn clone_drive(&mut self) {
        let (source, target) = (self.dice.of(&NAMES), self.dice.of(&NAMES));
        let order = {
            let (from, onto) = (self.way(source), self.way(target));
            let ids = if self.dice.one_in(4) { Ids::Fresh } else { Ids::Keep };
            Order { ids, again: self.dice.one_in(5), ..Order::new(from, onto) }
        };
        self.tell(format!("{} onto {}", order.source.display(), order.target.display()));
        let mut kept: Option<u64> = None;
        for turn in 0..4 {
            let order = Order { restart: turn > 0 && self.dice.one_in(5), ..order.clone() };
            let prepared = match Prepared::of(&self.shop.bench, &order) {
                Ok(prepared) => prepared,
                Err(refusal) => {
                    self.tell(format!("not planned: {}", refusal.code));
                    self.count(&format!("refused {}", refusal.code));
                    self.compare(None);
                    if self.dice.one_in(2) {
                        return;
                    }
                    self.meddle(source, target);
                    continue;
                }
            };
            let shown = (self.behind(&order.source), self.behind(&order.target));
            let tampered = self.dice.one_in(3);
            if tampered {
                self.meddle(source, target);
            }
            let tail = match self.dice.below(8) {
                0 => String::new(),
                1 => "beef".into(),
                2 => prepared.source.identity().tail(),
                _ => prepared.candidate.tail(),
            };
            let right = prepared.candidate.identity().tail_matches(&tail);
            let resumes = prepared.unfinished.is_some();
            let stop_after = if self.dice.one_in(2) { 1 + self.dice.below(6) } else { u64::MAX };
            let (outcome, began) = self.run(prepared, &tail, stop_after);
            let now = (self.behind(&order.source), self.behind(&order.target));
            match outcome {
                Err(refusal) => {
                    self.tell(format!("refused: {} ({})", refusal.code, refusal.text));
                    self.count(&format!("refused {}", refusal.code));
                    self.compare(None);
                }
                Ok(report) => {
                    self.tell(format!("{:?}: {}", report.outcome, report.reason));
                    self.count(&format!("{:?}", report.outcome));
                    if !right {
                        self.fail("released by a wrong tail");
                    }
                    if shown.1 != now.1 || shown.1.is_none() {
                        self.fail("released although the target is another one than was shown");
                    }
                    // What was shown is open since, whatever its name leads to now.
                    let (Some(from), Some(onto)) = (shown.0, now.1) else { self.fail("released without a source") };
                    if self.same_storage(from).contains(&onto) {
                        self.fail("released although both are one storage");
                    }
                    if resumes && began.is_some_and(|began| began == 0) && kept.is_some_and(|kept| kept > 0) {
                        self.fail("a resume began anew");
                    }
                    self.compare(Some(onto));
                    if report.outcome == Outcome::Proved {
                        let (wanted, found) = (&self.model[from], &self.model[onto]);
                        // No table is in any of them, so nothing of the plan lies over what is copied.
                        if found[..wanted.len()] != wanted[..] {
                            self.fail("proved, but the target does not hold what the source holds");
                        }
                    }
                    // Of what could not be flushed nothing is believed.
                    let is_kept = report.outcome == Outcome::Interrupted && !report.reason.contains("a flush failed");
                    kept = is_kept.then_some(report.read_bytes);
                    if report.outcome != Outcome::Interrupted && self.dice.one_in(2) {
                        return;
                    }
                }
            }
            if self.dice.one_in(3) {
                kept = None;
                self.meddle(source, target);
            }
            if self.dice.one_in(6) {
                kept = None;
                self.tampered_record();
            }
        }
    }

    fn count(&mut self, what: &str) {
        *self.counts.entry(what.to_string()).or_default() += 1;
    }
}

#[test]
fn nothing_is_written_where_it_may_not_be_and_nothing_said_that_is_not_so() {
    let number = |name: &str, none: u64| std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(none);
    let (count, first) = (number("BADGER_SITUATIONS", SITUATIONS), number("BADGER_FIRST", 1));
    let next = AtomicU64::new(first);
    let counts = std::sync::Mutex::new(BTreeMap::<String, u64>::new());
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let seed = next.fetch_add(1, Ordering::SeqCst);
                    if seed >= first + count {
                        return;
                    }
                    let mut situation = Situation::new(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
                    situation.tell(format!("seed {seed}"));
                    situation.play();
                    situation.last = true;
                    situation.compare(None);
                    let mut counts = counts.lock().unwrap();
                    situation.counts.into_iter().for_each(|(what, times)| *counts.entry(what).or_default() += times);
                }
            });
        }
    });
    let counts = counts.into_inner().unwrap();
    println!("{count} situations: {counts:?}");
    // An adversary that never comes so far attacks nothing.
    let often = ["Proved", "Interrupted", "refused same-drive", "refused target-changed", "refused source-changed", "refused wrong-tail"];
    let more = ["image Proved", "image Interrupted", "restored Proved", "salvage Proved", "salvage Interrupted", "fetch Proved", "fetch Interrupted"];
    for (what, least) in
        often.map(|what| (what, count / 200)).into_iter().chain(more.map(|what| (what, count / 1000))).chain([("borrowed Proved", 1)])
    {
        assert!(count < 500 || counts.get(what).is_some_and(|times| *times > least), "{what}: {counts:?}");
    }
}
