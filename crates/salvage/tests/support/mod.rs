//! Failing drives in simulated time, a run over one, and somebody who knows every fault beforehand.
#![allow(dead_code, reason = "tests and benchmarks take what they need of it")]

use badger_drive::clock::{Clock, SimClock};
use badger_drive::sim::{Fault, SimDrive, describe};
use badger_drive::{Control, Event, Extents, Geometry, Identity, Medium, ReadError, Source, Target, Workshop};
use badger_salvage::file::{MapFile, Of};
use badger_salvage::limits::Limits;
use badger_salvage::map::Map;
use badger_salvage::pieces::Pieces;
use badger_salvage::run::{PassReport, Salvage, Steer, Watch, run};
use badger_salvage::strategy::Strategy;

use badger_salvage::value::{self, Wanted};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

pub const MIB: u64 = 1 << 20;

/// A drive that fails, and where its files are.
pub struct Failing {
    pub dir: tempfile::TempDir,
    pub name: String,
    pub size: u64,
    description: PathBuf,
}

/// Bytes that tell where they are: eight for each place.
pub fn content(start: u64, len: usize) -> Vec<u8> {
    (start / 8..).flat_map(|at| (at.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1).to_le_bytes()).take(len).collect()
}

impl Failing {
    /// With `faults` as a description has them, and a pace.
    pub fn new(name: &str, size: u64, pace: &str, faults: &str) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let file = std::fs::File::create(dir.path().join("drive.img")).unwrap();
        for start in (0..size).step_by(MIB as usize) {
            file.write_all_at(&content(start, MIB.min(size - start) as usize), start).unwrap();
        }
        let text = format!(
            "backing = \"drive.img\"\n[identity]\nmodel = \"Tamarack T250\"\nserial = \"TM25-{name}\"\nbus = \"usb-sata\"\n[pace]\n{pace}\nwrite_mb_s = 300.0\n{faults}\n"
        );
        let description = dir.path().join("t250.drive.toml");
        std::fs::write(&description, text).unwrap();
        Self { dir, name: name.into(), size, description }
    }

    /// One of the sample workshop, over bytes of our own, or over an image.
    pub fn of(described: &Path, size: u64, image: Option<&Path>) -> Self {
        let name = described.file_name().unwrap().to_string_lossy().trim_end_matches(".drive.toml").to_string();
        let mut failing = Self::new(&name, if image.is_some() { MIB } else { size }, "read_mb_s = 1.0\nseek_ms = 1.0", "");
        let backing = failing.dir.path().join("drive.img");
        if let Some(image) = image {
            std::fs::copy(image, &backing).unwrap();
        }
        let text = std::fs::read_to_string(described).unwrap();
        let line = text.lines().find(|line| line.starts_with("backing")).unwrap();
        std::fs::write(&failing.description, text.replace(line, "backing = \"drive.img\"")).unwrap();
        failing.size = size;
        failing
    }

    pub fn path(&self) -> PathBuf {
        self.description.clone()
    }

    /// What no read will ever bring: sectors.
    pub fn bad(&self) -> Vec<bool> {
        let description = describe(&self.path()).unwrap();
        let all = self.size / 512;
        let mut bad = vec![false; all as usize];
        for fault in &description.faults {
            if let Fault::Unreadable { lba, sectors, .. } | Fault::Hangs { lba, sectors, .. } = *fault {
                (lba..(lba + sectors).min(all)).for_each(|at| bad[at as usize] = true);
            }
        }
        for pattern in &description.failing {
            for at in 0..all {
                bad[at as usize] |= pattern.first_bad(at..at + 1, all, 0.0, 0).is_some();
            }
        }
        bad
    }

    fn is_flaky(&self) -> Vec<(u64, u64)> {
        let faults = describe(&self.path()).unwrap().faults;
        faults
            .iter()
            .filter_map(|fault| if let Fault::Flaky { lba, sectors, .. } = *fault { Some((lba * 512, sectors * 512)) } else { None })
            .collect()
    }

    fn slow(&self) -> Vec<(u64, u64)> {
        let faults = describe(&self.path()).unwrap().faults;
        faults
            .iter()
            .filter_map(|fault| if let Fault::Slow { lba, sectors, .. } = *fault { Some((lba * 512, sectors * 512)) } else { None })
            .collect()
    }
}

/// What a run came to.
pub struct Run {
    pub map: Map,
    pub seconds: f64,
    pub timeline: Vec<(f64, u64)>,
    pub passes: Vec<PassReport>,
    pub target: Vec<u8>,
    /// Why it ended before its end.
    pub broke: Option<String>,
    /// What was saved, in its order.
    pub moved: Vec<(u64, u64)>,
    /// How often it was held, and somebody let it go on.
    pub held: usize,
    /// Seconds that a failure cost about.
    pub failure: f64,
}

/// How a run is to be.
#[derive(Default)]
pub struct How {
    pub limits: Limits,
    /// Stopped after so many stretches that were saved.
    pub stop_after: Option<usize>,
    pub wishes: Vec<Steer>,
    /// Somebody lets it go on whenever it is held.
    pub lets_go_on: bool,
    /// What comes first.
    pub wanted: Wanted,
    /// What is read instead of the drive.
    pub source: Option<Source>,
}

/// A whole salvage of a drive, by way of files for its target and its map.
pub fn salvage(failing: &Failing, limits: Limits) -> Run {
    let run = go_on(failing, How { limits, ..How::default() });
    assert_eq!(run.broke, None);
    run
}

/// Begins a salvage, or goes on with it.
pub fn go_on(failing: &Failing, how: How) -> Run {
    let clock = SimClock::new();
    let workshop = Workshop::default();
    let source = how.source.unwrap_or_else(|| workshop.over(Arc::new(SimDrive::open(&failing.path(), clock.clone()).unwrap())));
    let (onto, map_path) = (failing.dir.path().join("target.img"), failing.dir.path().join("t250.map"));
    let begun = map_path.exists();
    let file = std::fs::OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&onto).unwrap();
    file.set_len(failing.size).unwrap();
    let candidate = workshop.candidate(&onto, None, 512).unwrap();
    let key = candidate.key();
    let release = badger_drive::Release { source: &source, needed: failing.size, tail: "rget", overwritten: &[], shifts: &[] };
    let target: Target = candidate.release(&release).unwrap();
    let map = if begun { badger_salvage::file::load(&map_path).unwrap().map } else { Map::new(failing.size) };
    let identity = source.identity();
    let of = Of {
        model: identity.model.clone(),
        serial: identity.serial.clone(),
        target: key,
        path: onto.to_path_buf(),
        size: failing.size,
        sector: 512,
        ..Of::default()
    };
    let file = MapFile::write(&map_path, of.clone(), &map).unwrap();
    let (control, watch) = (Control::new(), Arc::new(Mutex::new(Watch::default())));
    let moved = Mutex::new(Vec::new());
    let observer = |event: &Event| {
        if let Event::Moved { start, len, .. } = event {
            let mut moved = moved.lock().unwrap();
            moved.push((*start, *len));
            if how.stop_after.is_some_and(|after| moved.len() >= after) {
                control.stop();
            }
        }
    };
    let mut salvage = Salvage {
        source,
        find: &|| None,
        strategy: Strategy::new(map, 512),
        first: Some(how.wanted),
        limits: how.limits,
        wishes: Arc::new(Mutex::new(how.wishes.into())),
        watch: watch.clone(),
        heat: &|| None,
        control: &control,
        observer: &observer,
        clock: clock.clone(),
    };
    let (over, held) = (AtomicBool::new(false), AtomicUsize::new(0));
    let ended = std::thread::scope(|scope| {
        if how.lets_go_on {
            scope.spawn(|| {
                while !over.load(Ordering::SeqCst) {
                    if control.is_paused() {
                        held.fetch_add(1, Ordering::SeqCst);
                        control.resume();
                    }
                    std::thread::yield_now();
                }
            });
        }
        let ended = run(&mut salvage, &target, file, Pieces::open(&map_path, &of, !begun).unwrap());
        over.store(true, Ordering::SeqCst);
        ended
    });
    let seen = watch.lock().unwrap().clone();
    let loaded = badger_salvage::file::load(&map_path).unwrap();
    assert_eq!(loaded.damaged, 0);
    assert_eq!(&loaded.map, salvage.strategy.map(), "what is in the file is what is known");
    let back = badger_salvage::pieces::prove(&map_path, &loaded.map, &target, &Control::new(), &|_, _| {}).unwrap();
    assert_eq!((back.equal, back.unknown, back.differing.len()), (loaded.map.totals().saved, 0, 0));
    let moved = moved.lock().unwrap().clone();
    Run {
        map: loaded.map,
        seconds: seen.seconds,
        timeline: seen.timeline,
        passes: seen.passes,
        target: std::fs::read(&onto).unwrap(),
        broke: ended.err().map(|why| why.to_string()),
        moved,
        held: held.into_inner(),
        failure: seen.pace.0,
    }
}

/// The same by somebody who knows every fault: what reads well in its order, then what is slow, then what comes by chance.
pub fn oracle(failing: &Failing) -> Vec<(f64, u64)> {
    let mut all = Extents::new();
    all.set(0..failing.size, ());
    oracle_over(failing, &all)
}

/// The same for some of the drive only.
pub fn oracle_over(failing: &Failing, wanted: &Extents<()>) -> Vec<(f64, u64)> {
    let clock = SimClock::new();
    let drive = SimDrive::open(&failing.path(), clock.clone()).unwrap();
    let bad = failing.bad();
    let (flaky, slow) = (failing.is_flaky(), failing.slow());
    let of = |list: &[(u64, u64)], at: u64| list.iter().any(|(start, len)| (*start..start + len).contains(&at));
    let mut runs: [Vec<(u64, u64)>; 3] = Default::default();
    for sector in 0..failing.size / 512 {
        let at = sector * 512;
        if bad[sector as usize] || wanted.at(at).is_none() {
            continue;
        }
        let kind = if of(&flaky, at) { 2 } else { usize::from(of(&slow, at)) };
        match runs[kind].last_mut() {
            Some((start, len)) if *start + *len == at => *len += 512,
            _ => runs[kind].push((at, 512)),
        }
    }
    let mut buffer = vec![0; 8 << 20];
    let (mut timeline, mut saved) = (vec![(0.0, 0)], 0);
    for (kind, list) in runs.iter().enumerate() {
        for (start, len) in list {
            let mut at = *start;
            let mut tries = 0;
            while at < start + len {
                let part = (start + len - at).min(8 << 20);
                match drive.read_at(at, &mut buffer[..part as usize]) {
                    Ok(()) => (at, saved) = (at + part, saved + part),
                    Err(ReadError::Gone(_)) => clock.sleep(std::time::Duration::from_millis(250)),
                    Err(_) if kind == 2 && tries < 10_000 => tries += 1,
                    // It grew.
                    Err(ReadError::Unreadable { offset, .. }) => {
                        saved += offset - at;
                        at = offset + 512;
                    }
                    Err(error) => panic!("{}: the one who knows met {error}", failing.name),
                }
                timeline.push((clock.now().as_secs_f64(), saved));
            }
        }
    }
    timeline
}

/// A drive that is well, and what was read of it.
struct Noted(Source, Arc<Mutex<Extents<()>>>);

impl Medium for Noted {
    fn geometry(&self) -> Geometry {
        self.0.geometry()
    }
    fn identity(&self) -> &Identity {
        self.0.identity()
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        self.1.lock().unwrap().set(offset..offset + buf.len() as u64, ());
        self.0.read_at(offset, buf)
    }
}

/// What is read to find some files, and what they lie on, on a drive that is well.
pub fn structures_and_files(image: &Path, first: &[String]) -> (Extents<()>, Extents<()>) {
    let structures = Arc::new(Mutex::new(Extents::new()));
    let drive = Source::detached(Arc::new(Noted(Workshop::default().source(image).unwrap(), structures.clone())));
    let values = value::look(&drive, &Wanted { first: first.to_vec(), used: false });
    assert!(values.not_found.is_empty(), "{:?}", values.not_found);
    let mut files = Extents::new();
    values.files.into_iter().flatten().for_each(|range| files.set(range, ()));
    let structures = structures.lock().unwrap().clone();
    (structures, files)
}

/// When all of some places was saved that can be read: seconds.
pub fn whole_at(failing: &Failing, run: &Run, wanted: &Extents<()>) -> f64 {
    let bad = failing.bad();
    let mut left: Extents<()> = wanted.clone();
    (0..failing.size / 512).filter(|at| bad[*at as usize]).for_each(|at| left.clear(at * 512..at * 512 + 512));
    let mut saved = 0;
    for (start, len) in &run.moved {
        saved += len;
        left.clear(*start..start + len);
        if left.is_empty() {
            return reached(&run.timeline, saved);
        }
    }
    f64::INFINITY
}

/// Reading straight through, every failure tried sector by sector.
pub fn straight(failing: &Failing) -> Vec<(f64, u64)> {
    let clock = SimClock::new();
    let drive = SimDrive::open(&failing.path(), clock.clone()).unwrap();
    let mut buffer = vec![0; 1 << 20];
    let (mut timeline, mut saved, mut at) = (vec![(0.0, 0)], 0, 0);
    while at < failing.size {
        let part = (failing.size - at).min(1 << 20);
        if drive.read_at(at, &mut buffer[..part as usize]).is_ok() {
            saved += part;
        } else {
            for sector in (at..at + part).step_by(512) {
                for _ in 0..3 {
                    match drive.read_at(sector, &mut buffer[..512]) {
                        Ok(()) => {
                            saved += 512;
                            break;
                        }
                        Err(ReadError::Gone(_)) => clock.sleep(std::time::Duration::from_secs(1)),
                        Err(_) => {}
                    }
                }
            }
        }
        at += part;
        timeline.push((clock.now().as_secs_f64(), saved));
    }
    timeline
}

/// The area under saved over time, up to a moment.
pub fn area(timeline: &[(f64, u64)], until: f64) -> f64 {
    let mut area = 0.0;
    for pair in timeline.windows(2) {
        let [(from, a), (to, b)] = [pair[0], pair[1]];
        if from >= until {
            return area;
        }
        let end = to.min(until);
        let at_end = if to > from { a as f64 + (b - a) as f64 * (end - from) / (to - from) } else { b as f64 };
        area += (a as f64 + at_end) / 2.0 * (end - from);
    }
    let (last, saved) = timeline.last().copied().unwrap_or_default();
    area + saved as f64 * (until - last).max(0.0)
}

/// When so many bytes were there.
pub fn reached(timeline: &[(f64, u64)], bytes: u64) -> f64 {
    timeline.iter().find(|(_, saved)| *saved >= bytes).map_or(f64::INFINITY, |(at, _)| *at)
}

/// The drives of the sample workshop that fail: their descriptions.
pub fn set() -> Vec<PathBuf> {
    let dir = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../workshop/failing");
    let mut all: Vec<_> = std::fs::read_dir(dir).unwrap().map(|entry| entry.unwrap().path()).collect();
    all.sort();
    all
}

/// Faults that nobody chose: of every kind, anywhere.
pub fn random_faults(seed: u64, sectors: u64) -> String {
    let mut random = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut below = |most: u64| {
        random ^= random << 13;
        random ^= random >> 7;
        random ^= random << 17;
        random % most.max(1)
    };
    let mut text = String::new();
    for _ in 0..1 + below(4) {
        let (lba, len, ms) = (below(sectors), 1 + below(sectors / 300), 100 + below(1500));
        match below(7) {
            0 => text.push_str(&format!("[[fault]]\nkind = \"unreadable\"\nlba = {lba}\nsectors = {}\nms = {ms}\n", 1 + len / 8)),
            1 => text.push_str(&format!("[[fault]]\nkind = \"unreadable\"\nlba = {lba}\nsectors = {}\nms = {ms}\n", 1 + below(64))),
            2 => text.push_str(&format!(
                "[[fault]]\nkind = \"flaky\"\nlba = {lba}\nsectors = {}\nchance = 0.{}\nseed = {seed}\nms = {ms}\n",
                1 + below(30),
                3 + below(6)
            )),
            3 => text.push_str(&format!("[[fault]]\nkind = \"slow\"\nlba = {lba}\nsectors = {}\nms = {ms}\n", len * 20)),
            4 => text.push_str(&format!(
                "[[failing]]\nkind = \"scratch\"\nlba = {lba}\ntracks = {}\nevery = {}\nwidth = {}\nms = {ms}\n",
                2 + below(40),
                500 + below(3000),
                1 + below(12)
            )),
            5 => text.push_str(&format!(
                "[[failing]]\nkind = \"weak-head\"\nheads = {}\nhead = 0\nzone = {}\nshare = 0.000{}\nseed = {seed}\nms = {ms}\n",
                2 + below(6),
                sectors / 60 + below(sectors / 30),
                1 + below(9)
            )),
            _ => text.push_str(&format!("[[fault]]\nkind = \"contact\"\nreads = {}\ns = {}.0\nseed = {seed}\n", 20 + below(300), 1 + below(6))),
        }
    }
    text
}
