//! What else is done with drives: images and what is restored from them, salvages, copies of files, borrowed drives.

use super::{NAMES, Situation};
use badger_bench::volume::Fetch;
use badger_drive::{Control, Event, Geometry, Identity, Medium, Outcome, ReadError, Source};
use badger_jobs::salvage::{SalvageOrder, Seat};
use badger_jobs::{ImageOrder, Order, Prepared};
use badger_network::{Lender, Lending, Lent, Shelf};
use badger_people::Collision;
use badger_transfer::events::Silent;
use std::fs::{self, File};
use std::os::unix::fs::{FileExt, MetadataExt, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread::JoinHandle;

/// Stops after so many steps.
fn stopping(control: &Control, after: u64) -> impl Fn(&Event) + Sync + '_ {
    let left = AtomicU64::new(after);
    move |event| {
        if matches!(event, Event::Moved { .. }) && left.fetch_sub(1, Ordering::SeqCst) == 1 {
            control.stop();
        }
    }
}

impl Situation {
    /// Stop it, or let it go to its end.
    fn patience(&mut self) -> u64 {
        if self.dice.one_in(2) { 1 + self.dice.below(6) } else { u64::MAX }
    }

    /// Makes a name lead to a storage: a link or a hard link.
    fn mislead(&mut self, path: &Path) {
        let name = self.dice.of(&NAMES);
        let image = self.source(name);
        let _ = fs::remove_file(path);
        match self.dice.below(2) {
            0 => symlink(&image, path).unwrap(),
            _ => fs::hard_link(&image, path).unwrap(),
        }
        self.tell(format!("{} leads to {}", path.display(), image.display()));
    }

    /// Changes a byte of a file of ours, cuts it off, or puts zeroes behind it.
    fn tampered(&mut self, path: &Path) {
        let Ok(file) = File::options().read(true).write(true).open(path) else { return };
        let len = file.metadata().unwrap().len();
        if len == 0 || self.behind(path).is_some() {
            return;
        }
        let at = self.dice.below(len);
        match self.dice.below(4) {
            0 => file.set_len(at).unwrap(),
            1 => file.set_len(len + 4096).unwrap(),
            _ => {
                let mut byte = [0];
                file.read_exact_at(&mut byte, at).unwrap();
                file.write_all_at(&[byte[0] ^ 1 << self.dice.below(8)], at).unwrap();
            }
        }
        self.tell(format!("somebody changes {} at {at} of {len}", path.display()));
    }

    /// Changes one of the records that a clone goes on from, or the ledger.
    pub(super) fn tampered_record(&mut self) {
        let journals = fs::read_dir(self.shop.path("ledger-journals")).into_iter().flatten();
        let mut records: Vec<PathBuf> = journals.map(|entry| entry.unwrap().path()).collect();
        records.sort();
        records.push(self.shop.bench.ledger.clone());
        let which = self.dice.below(records.len() as u64) as usize;
        self.tampered(&records[which]);
    }

    fn refused(&mut self, what: &str, refusal: &badger_drive::Refusal) {
        self.tell(format!("{what} refused: {} ({})", refusal.code, refusal.text));
        self.count(&format!("{what} refused {}", refusal.code));
        self.compare(None);
    }

    pub(super) fn image_and_restore(&mut self) {
        let source = self.dice.of(&NAMES);
        let (from, file) = (self.way(source), self.shop.path("kept.zbi"));
        let side = self.shop.path(self.dice.of(&["kept.zbi.new", ".kept.zbi.new", "kept.zbi.001", "kept.002.zbi", "kept.zbi.part"]));
        if self.dice.one_in(6) {
            let path = if self.dice.one_in(2) { file.clone() } else { side };
            self.mislead(&path);
        }
        let order = ImageOrder {
            source: from.clone(),
            file: file.clone(),
            level: Some(1),
            split: self.dice.one_in(4).then_some(1 << 20),
            ..ImageOrder::default()
        };
        self.tell(format!("image of {} in {}", from.display(), file.display()));
        for _ in 0..3 {
            let Some(behind) = self.behind(&from) else { return };
            // What it is called by may be another one later; what was opened is kept.
            let held = self.model[behind].clone();
            let ready = match order.clone().prepare(&self.shop.bench, &Control::new()) {
                Ok(ready) => ready,
                Err(refusal) => {
                    self.refused("image", &refusal);
                    self.meddle(source, source);
                    continue;
                }
            };
            if self.dice.one_in(4) {
                self.meddle(source, source);
            }
            let (control, after) = (Control::new(), self.patience());
            let done = ready.run(&self.shop.bench, &control, &stopping(&control, after));
            match done {
                Err(refusal) => self.refused("image", &refusal),
                Ok(report) => {
                    self.tell(format!("image {:?}: {}", report.outcome, report.reason));
                    self.count(&format!("image {:?}", report.outcome));
                    self.compare(None);
                    if report.outcome == Outcome::Proved {
                        self.restore(&file, &held);
                        return;
                    }
                }
            }
            match self.dice.below(3) {
                0 => self.meddle(source, source),
                1 => self.tampered(&file),
                _ => {}
            }
        }
    }

    /// Restores an image of what was `held`, changed or not.
    fn restore(&mut self, file: &Path, held: &[u8]) {
        let target = self.dice.of(&NAMES);
        if self.dice.one_in(2) {
            let volumes: Vec<PathBuf> = fs::read_dir(self.shop.dir.path()).unwrap().map(|entry| entry.unwrap().path()).collect();
            let mut volumes: Vec<_> = volumes.into_iter().filter(|path| path.file_name().unwrap().to_string_lossy().starts_with("kept.")).collect();
            volumes.sort();
            let which = self.dice.below(volumes.len() as u64) as usize;
            match self.dice.below(6) {
                0 => _ = fs::remove_file(&volumes[which]),
                1 if volumes.len() > 1 && self.behind(&volumes[1]).is_none() => _ = fs::copy(&volumes[0], &volumes[1]),
                _ => self.tampered(&volumes[which]),
            }
        }
        let order = Order::new(file, self.way(target));
        let prepared = match Prepared::of(&self.shop.bench, &order) {
            Ok(prepared) => prepared,
            Err(refusal) => return self.refused("restored", &refusal),
        };
        let onto = self.behind(&order.target);
        let tail = prepared.candidate.tail();
        let after = self.patience();
        match self.run(prepared, &tail, after).0 {
            Err(refusal) => self.refused("restored", &refusal),
            Ok(report) => {
                self.tell(format!("restored {:?}: {}", report.outcome, report.reason));
                self.count(&format!("restored {:?}", report.outcome));
                let Some(onto) = onto else { self.fail("restored onto nothing") };
                self.compare(Some(onto));
                if report.outcome == Outcome::Proved && !self.model[onto].starts_with(held) {
                    let found = &self.model[onto];
                    let at = found.iter().zip(held).position(|(a, b)| a != b);
                    let text = format!(
                        "an image was restored and proved, and the target ({onto}, {} bytes) differs from the {} that were kept at {at:?}",
                        found.len(),
                        held.len()
                    );
                    self.fail(&text);
                }
            }
        }
    }

    pub(super) fn salvage(&mut self) {
        let (source, target) = (self.dice.of(&NAMES), self.dice.of(&NAMES));
        let from = self.shop.path(&format!("{source}.drive.toml"));
        if self.dice.one_in(3) {
            let fault = format!("[[fault]]\nkind = \"unreadable\"\nlba = {}\nsectors = 4\n", self.dice.below(self.size as u64 / 512 - 4));
            self.shop.describe(source, source, &format!("SN-{source}"), &fault);
        }
        let map = self.shop.path(self.dice.of(&["out.map", "out.map", "out.map", "w.004", "out.img"]));
        let sides = [".map.new", ".pieces", ".new"].map(|ending| PathBuf::from(format!("{}{ending}", map.display())));
        let hidden = self.shop.path(&format!(".{}.new", map.file_name().unwrap().to_string_lossy()));
        let onto = match self.dice.below(7) {
            0 => map.clone(),
            1 => sides[1].clone(),
            2 => self.way(target),
            3 => hidden.clone(),
            _ => self.shop.path("out.img"),
        };
        if self.dice.one_in(5) {
            let path = self.dice.of(&[&map, &sides[1], &hidden, &onto]).clone();
            if self.behind(&path).is_none() {
                self.mislead(&path);
            }
        }
        let order = SalvageOrder { source: from.clone(), target: onto.clone(), map: map.clone(), ..SalvageOrder::default() };
        self.tell(format!("salvage of {} onto {}, map {}", from.display(), onto.display(), map.display()));
        for _ in 0..3 {
            let ready = match order.clone().prepare(&self.shop.bench) {
                Ok(ready) => ready,
                Err(refusal) => {
                    self.refused("salvage", &refusal);
                    self.meddle(source, target);
                    continue;
                }
            };
            let shown = (self.behind(&from), self.behind(&onto));
            let held = shown.0.map(|name| self.model[name].clone()).unwrap_or_default();
            if self.dice.one_in(4) {
                self.meddle(source, target);
            }
            let tail = ready.candidate.tail();
            let (control, after) = (Control::new(), self.patience());
            match ready.run(&self.shop.bench, &tail, &Seat::default(), &control, &stopping(&control, after)) {
                Err(refusal) => self.refused("salvage", &refusal),
                Ok(done) => {
                    let report = done.report;
                    self.tell(format!("salvage {:?}: {}", report.outcome, report.reason));
                    self.count(&format!("salvage {:?}", report.outcome));
                    let (Some(behind), storage) = shown else { self.fail("a salvage of nothing") };
                    if storage.is_some_and(|storage| self.same_storage(behind).contains(&storage)) {
                        self.fail("a salvage onto what it reads");
                    }
                    self.compare(storage);
                    if report.outcome == Outcome::Proved {
                        let found = fs::read(storage.map_or(onto.clone(), |name| self.image(name))).unwrap();
                        // Nothing was read of it before it was released: what it holds since counts as well.
                        if !found.starts_with(&held) && !found.starts_with(&self.model[behind]) {
                            self.fail("a salvage is proved, and the target holds something else than the drive");
                        }
                        return;
                    }
                }
            }
            match self.dice.below(5) {
                0 => self.meddle(source, target),
                1 => self.tampered(&map),
                2 => self.tampered(&sides[1]),
                3 if self.behind(&sides[1]).is_none() => self.mislead(&sides[1]),
                _ => {}
            }
        }
    }

    pub(super) fn fetch(&mut self) {
        let (folk, into) = (self.shop.path("folk"), self.shop.path("into"));
        fs::create_dir_all(folk.join("sheets")).unwrap();
        fs::create_dir_all(&into).unwrap();
        let mut files: Vec<(PathBuf, Vec<u8>)> = (0..4u64)
            .map(|number| (folk.join(format!("sheets/{number}.csv")), super::grain(40_000 + 7 * number as usize, self.dice.below(1 << 40))))
            .collect();
        files.iter().for_each(|(path, bytes)| fs::write(path, bytes).unwrap());
        if self.dice.one_in(5) {
            fs::create_dir_all(into.join("sheets")).unwrap();
            let name = self.dice.of(&["sheets/1.csv", ".badger-fetch", "fetched.sha256", "sheets/2.csv"]);
            self.mislead(&into.join(name));
        }
        self.tell("files are fetched");
        for _ in 0..3 {
            let opened = self.shop.bench.open_tree(&folk, None).unwrap();
            let fetch = Fetch { picks: vec!["sheets".into()], into: into.clone(), collision: Collision::KeepBoth, ask: &|_| Collision::KeepBoth };
            let (control, after) = (Control::new(), self.patience());
            let done = self.shop.bench.fetch(&opened, fetch, &control, &stopping(&control, after));
            match done {
                Err(refusal) => self.refused("fetch", &refusal),
                Ok(report) => {
                    self.tell(format!("fetch {:?}: {}", report.outcome, report.reason));
                    self.count(&format!("fetch {:?}", report.outcome));
                    self.compare(None);
                    if report.outcome == Outcome::Proved {
                        let mut there = Vec::new();
                        let listed = |dir: &Path| fs::read_dir(dir).into_iter().flatten().map(|entry| entry.unwrap().path()).collect::<Vec<_>>();
                        for path in listed(&into).into_iter().filter(|path| path.is_dir()).flat_map(|dir| listed(&dir)) {
                            there.extend(fs::read(path).ok());
                        }
                        for (path, bytes) in &files {
                            if !there.contains(bytes) {
                                self.fail(&format!("files are proved, and {} is not at the destination", path.display()));
                            }
                        }
                    }
                }
            }
            for (path, bytes) in &files {
                if fs::read(path).unwrap() != *bytes {
                    self.fail(&format!("{} was written to", path.display()));
                }
            }
            let room = into.join(".badger-fetch");
            match self.dice.below(6) {
                0 => self.tampered(&room.join("journal")),
                1 if room.join("journal").exists() => self.mislead(&room.join("journal")),
                2 => {
                    let which = self.dice.below(4) as usize;
                    files[which].1 = super::grain(files[which].1.len(), self.dice.below(1 << 40));
                    fs::write(&files[which].0, &files[which].1).unwrap();
                    self.tell(format!("file {which} is written anew"));
                }
                3 => {
                    let which = self.dice.below(4);
                    self.tampered(&into.join(format!("sheets/{which}.csv")));
                }
                _ => {}
            }
        }
    }

    /// A drive that is borrowed: who lends it may lend another one under its name later.
    pub(super) fn borrow(&mut self) {
        let (mut lent, target) = (self.dice.of(&NAMES), self.dice.of(&NAMES));
        let socket = self.shop.path("socket");
        // Where it lies on its storage is nothing that a server tells, and of an opaque one nothing is held open.
        let from = self.dice.one_in(2).then(|| 1 + self.dice.below(self.size as u64 / 4));
        let mut server = Server::start(&socket, &self.source(lent), from);
        from.into_iter().for_each(|from| self.tell(format!("what is lent begins at byte {from} of its storage")));
        let order = Order::new(format!("nbd+unix:///drive?socket={}", socket.display()), self.way(target));
        self.tell(format!("{lent}, which is lent, onto {}", order.target.display()));
        for _ in 0..3 {
            let prepared = match Prepared::of(&self.shop.bench, &order) {
                Ok(prepared) => prepared,
                Err(refusal) => {
                    self.refused("borrowed", &refusal);
                    self.meddle(target, target);
                    continue;
                }
            };
            let (shown, held) = (self.behind(&order.target), server.content());
            if self.dice.one_in(4) {
                lent = self.dice.of(&NAMES);
                server = server.replaced(&self.source(lent));
                self.tell(format!("{lent} is lent now"));
            }
            let (tail, after) = (prepared.candidate.tail(), self.patience());
            let prepared = match prepared.settle(&Control::new(), &Silent) {
                Ok(ready) => ready,
                Err((_, refusal)) => {
                    self.refused("borrowed", &refusal);
                    continue;
                }
            };
            let control = Control::new();
            let own = shown.is_some_and(|onto| server.lends(&self.image(onto)));
            let done = prepared.run(&self.shop.bench, &tail, &control, &stopping(&control, after));
            match done {
                Err(refusal) => self.refused("borrowed", &refusal),
                Ok(report) => {
                    self.tell(format!("borrowed {:?}: {}", report.outcome, report.reason));
                    self.count(&format!("borrowed {:?}", report.outcome));
                    let Some(onto) = shown else { self.fail("released onto nothing") };
                    if own {
                        self.fail("released although both are one storage");
                    }
                    self.compare(Some(onto));
                    if report.outcome == Outcome::Proved && !self.model[onto].starts_with(&held) {
                        self.fail("proved, but the target does not hold what was lent");
                    }
                }
            }
            if self.dice.one_in(3) {
                lent = self.dice.of(&NAMES);
                server = server.replaced(&self.source(lent));
                self.tell(format!("{lent} is lent now"));
            }
        }
        server.end();
    }

    fn source(&self, name: &str) -> PathBuf {
        fs::canonicalize(self.image(name)).unwrap()
    }
}

/// Lends one drive at a socket.
struct Server {
    socket: PathBuf,
    /// What it lends, whatever has its name by now.
    drive: Lends,
    control: Control,
    thread: JoinHandle<()>,
}

enum Lends {
    /// A file that is open, and the bytes that it had when it was lent: what grows is not lent.
    Open(File, u64),
    /// What has the name whenever it is read.
    Window(Window),
}

/// A part of a file, which is opened for every read.
#[derive(Clone)]
struct Window {
    path: PathBuf,
    from: u64,
    size: u64,
    identity: Identity,
}

impl Medium for Window {
    fn geometry(&self) -> Geometry {
        Geometry { size_bytes: self.size, logical_sector: 512, physical_sector: 512 }
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        let read = File::open(&self.path).and_then(|file| file.read_exact_at(buf, self.from + offset));
        read.map_err(|error| ReadError::Gone(error.to_string()))
    }
}

impl Server {
    fn start(socket: &Path, drive: &Path, from: Option<u64>) -> Self {
        let lender = Lender::at_socket(socket).unwrap();
        let len = fs::metadata(drive).unwrap().len();
        let (source, drive) = match from {
            None => (badger_drive::Workshop::default().source(drive).unwrap(), Lends::Open(File::open(drive).unwrap(), len)),
            Some(from) => {
                let size = (len - from) / 512 * 512;
                let window = Window { path: drive.to_path_buf(), from, size, identity: Identity::of_file(Path::new("window")) };
                (Source::detached(Arc::new(window.clone())), Lends::Window(window))
            }
        };
        let control = Control::new();
        let heard = control.clone();
        let thread = std::thread::spawn(move || {
            let shelf = Shelf(vec![Lent::new("drive".into(), source)]);
            lender.lend(&Lending { shelf: &shelf, tls: None, control: &heard, told: &|_| {} });
        });
        Self { socket: socket.to_path_buf(), drive, control, thread }
    }

    fn content(&self) -> Vec<u8> {
        match &self.drive {
            Lends::Open(drive, size) => {
                let mut bytes = vec![0; *size as usize];
                drive.read_exact_at(&mut bytes, 0).unwrap();
                bytes
            }
            Lends::Window(window) => {
                let mut bytes = vec![0; window.size as usize];
                window.read_at(0, &mut bytes).unwrap();
                bytes
            }
        }
    }

    fn lends(&self, path: &Path) -> bool {
        let node = |meta: fs::Metadata| (meta.dev(), meta.ino());
        let own = match &self.drive {
            Lends::Open(drive, _) => drive.metadata(),
            Lends::Window(window) => fs::metadata(&window.path),
        };
        node(own.unwrap()) == node(fs::metadata(path).unwrap())
    }

    fn end(self) {
        self.control.stop();
        self.thread.join().unwrap();
        fs::remove_file(&self.socket).unwrap();
    }

    /// Another drive is lent in its place.
    fn replaced(self, drive: &Path) -> Self {
        let socket = self.socket.clone();
        let from = match &self.drive {
            Lends::Open(..) => None,
            Lends::Window(window) => Some(window.from),
        };
        self.end();
        Self::start(&socket, drive, from)
    }
}
