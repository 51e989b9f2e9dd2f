//! Failing drives in simulated time, a run over one, and somebody who knows every fault beforehand.
#![allow(dead_code, reason = "tests and benchmarks take what they need of it")]

use badger_drive::clock::{Clock, SimClock};
use badger_drive::sim::{Fault, SimDrive, describe};
use badger_drive::{Control, Event, Medium, ReadError, Source, Target, Workshop};
use badger_salvage::file::{MapFile, Of};
use badger_salvage::map::Map;
use badger_salvage::pieces::Pieces;
use badger_salvage::run::{Limits, PassReport, Salvage, Steer, Watch, run};
use badger_salvage::strategy::Strategy;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

pub const MIB: u64 = 1 << 20;

/// A drive that fails, and where its files are.
pub struct Failing {
    pub dir: tempfile::TempDir,
    pub name: String,
    pub size: u64,
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
        std::fs::write(dir.path().join("t250.drive.toml"), text).unwrap();
        Self { dir, name: name.into(), size }
    }

    pub fn path(&self) -> PathBuf {
        self.dir.path().join("t250.drive.toml")
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
}

/// How a run is to be.
#[derive(Default)]
pub struct How {
    pub limits: Limits,
    /// Stopped after so many stretches that were saved.
    pub stop_after: Option<usize>,
    pub wishes: Vec<Steer>,
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
        path: onto.display().to_string(),
        size: failing.size,
        sector: 512,
        ..Of::default()
    };
    let file = MapFile::write(&map_path, of, &map).unwrap();
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
        first: Some(badger_salvage::value::Wanted::default()),
        limits: how.limits,
        wishes: Arc::new(Mutex::new(how.wishes.into())),
        watch: watch.clone(),
        heat: &|| None,
        control: &control,
        observer: &observer,
        clock: clock.clone(),
    };
    let ended = run(&mut salvage, &target, file, Pieces::open(&map_path, !begun).unwrap());
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
    }
}

/// The same by somebody who knows every fault: what reads well in its order, then what is slow, then what comes by chance.
pub fn oracle(failing: &Failing) -> Vec<(f64, u64)> {
    let clock = SimClock::new();
    let drive = SimDrive::open(&failing.path(), clock.clone()).unwrap();
    let bad = failing.bad();
    let (flaky, slow) = (failing.is_flaky(), failing.slow());
    let of = |list: &[(u64, u64)], at: u64| list.iter().any(|(start, len)| (*start..start + len).contains(&at));
    let mut runs: [Vec<(u64, u64)>; 3] = Default::default();
    for sector in 0..failing.size / 512 {
        let at = sector * 512;
        if bad[sector as usize] {
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

/// The drives of the set: those that the program ships with for practice, and what goes wrong on them.
pub fn set() -> Vec<(&'static str, u64, &'static str, String)> {
    let disk = "read_mb_s = 120.0\nseek_ms = 9.0";
    let old = "read_mb_s = 60.0\nseek_ms = 12.0";
    let flash = "read_mb_s = 450.0\nseek_ms = 0.1";
    let mut scattered = String::new();
    for number in 0..40u64 {
        let lba = (number * 7_919_377 + 31_337) % 2_000_000;
        scattered.push_str(&format!("[[fault]]\nkind = \"unreadable\"\nlba = {lba}\nsectors = {}\nms = 900\n", 1 + number % 9));
    }
    vec![
        ("sound", 512, disk, String::new()),
        ("one-spot", 1024, disk, "[[fault]]\nkind = \"unreadable\"\nlba = 1200000\nsectors = 64\nms = 800\n".into()),
        ("scattered", 1024, disk, scattered),
        ("wide-hole", 1024, disk, "[[fault]]\nkind = \"unreadable\"\nlba = 700000\nsectors = 6000\nms = 400\n".into()),
        ("dead-head", 1024, disk, "[[failing]]\nkind = \"weak-head\"\nheads = 4\nhead = 1\nzone = 65536\nshare = 1.0\nms = 300\n".into()),
        ("weak-head", 1024, disk, "[[failing]]\nkind = \"weak-head\"\nheads = 6\nhead = 4\nzone = 40000\nshare = 0.004\nseed = 5\nms = 700\n".into()),
        ("scratch", 1024, old, "[[failing]]\nkind = \"scratch\"\nlba = 300000\ntracks = 120\nevery = 1600\nwidth = 11\ndrift = 1\nms = 1100\n".into()),
        ("long-scratch", 1024, old, "[[failing]]\nkind = \"scratch\"\nlba = 100000\ntracks = 30\nevery = 52000\nwidth = 40\nms = 1100\n".into()),
        ("slow-zone", 1024, disk, "[[fault]]\nkind = \"slow\"\nlba = 500000\nsectors = 400000\nms = 600\n".into()),
        ("growing", 1024, disk, "[[failing]]\nkind = \"growing\"\nlba = 900000\nsectors = 300\nper_hour = 2000.0\nper_failure = 4.0\nmost = 30000\nms = 600\n".into()),
        ("flaky", 1024, disk, "[[fault]]\nkind = \"flaky\"\nlba = 400000\nsectors = 8\nchance = 0.25\nseed = 7\nms = 500\n[[fault]]\nkind = \"flaky\"\nlba = 1500000\nsectors = 200\nchance = 0.5\nseed = 3\nms = 300\n".into()),
        ("drops", 1024, disk, "[[fault]]\nkind = \"drops\"\nafter_reads = 60\nback_after_s = 3.0\n[[fault]]\nkind = \"unreadable\"\nlba = 1000000\nsectors = 16\nms = 500\n".into()),
        ("contact", 1024, disk, "[[fault]]\nkind = \"contact\"\nreads = 90\ns = 4.0\nseed = 11\n[[fault]]\nkind = \"unreadable\"\nlba = 300000\nsectors = 200\nms = 500\n".into()),
        ("bridge", 1024, disk, "[[fault]]\nkind = \"bridge\"\ns = 8.0\n[[fault]]\nkind = \"unreadable\"\nlba = 640000\nsectors = 30\nms = 200\n".into()),
        ("hangs", 1024, disk, "[[fault]]\nkind = \"hangs\"\nlba = 1111000\nsectors = 6\ns = 20.0\n".into()),
        ("remembers", 1024, disk, "[[fault]]\nkind = \"remembers\"\nreads = 4\n[[fault]]\nkind = \"flaky\"\nlba = 820000\nsectors = 4\nchance = 0.4\nseed = 2\nms = 600\n".into()),
        ("flash", 1024, flash, "[[fault]]\nkind = \"unreadable\"\nlba = 100000\nsectors = 2048\nms = 30\n[[fault]]\nkind = \"slow\"\nlba = 1300000\nsectors = 100000\nms = 90\n".into()),
        ("all-at-once", 1024, disk, "[[failing]]\nkind = \"weak-head\"\nheads = 4\nhead = 2\nzone = 50000\nshare = 0.001\nseed = 1\nms = 500\n[[fault]]\nkind = \"slow\"\nlba = 20000\nsectors = 90000\nms = 300\n[[fault]]\nkind = \"contact\"\nreads = 300\ns = 5.0\nseed = 4\n".into()),
    ]
}

pub fn drive((name, mib, pace, faults): &(&'static str, u64, &'static str, String)) -> Failing {
    Failing::new(name, mib * MIB, pace, faults)
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
