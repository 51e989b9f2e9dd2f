//! The strategy against somebody who knows every fault beforehand, drive by drive, in simulated time; and what a step costs on a map of
//! two million stretches. `ONLY=name` picks drives by their names, `SEED=n` takes some that nobody tuned to, `PICKED=1` only looks at
//! folders that somebody picked.

#[path = "../tests/support/mod.rs"]
mod support;

use badger_drive::Extents;
use badger_salvage::limits::Limits;
use badger_salvage::map::{Map, State};
use badger_salvage::strategy::{Came, Strategy};
use badger_salvage::value::Wanted;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use support::{Failing, How, area, go_on, oracle, oracle_over, random_faults, reached, salvage, set, straight, structures_and_files, whole_at};

/// Bytes of each drive.
const SIZE: u64 = 1 << 30;

fn main() {
    let only = std::env::var("ONLY").unwrap_or_default();
    let named = |path: &PathBuf| path.file_name().is_some_and(|name| name.to_string_lossy().contains(&only));
    let random = |seed: u64| Failing::new(&format!("random-{seed}"), SIZE, "read_mb_s = 120.0\nseek_ms = 9.0", &random_faults(seed, SIZE / 512));
    let of_the_set = || set().into_iter().filter(named);
    let seeds = std::env::var("SEED").map(|seed| seed.parse::<u64>().expect("a number"));
    let drives: Box<dyn Iterator<Item = Failing>> = match seeds {
        Ok(seed) => Box::new((seed..seed + 8).map(random)),
        Err(_) => Box::new(of_the_set().map(|path| Failing::of(&path, SIZE, None))),
    };
    println!("area: saved over time against who knows, until our end / until 1.5 times the end of who knows");
    println!(
        "{:<13} {:>7} {:>7} {:>10} {:>9} {:>8} {:>7} {:>7}  passes: seconds, reads, failures",
        "drive", "area", "early", "x straight", "knows s", "end s", "lost", "missed"
    );
    for failing in drives.filter(|_| std::env::var("PICKED").is_err()) {
        let (ours, best, plain) = (salvage(&failing, Limits::default()), oracle(&failing), straight(&failing));
        let (end, knows) = (ours.seconds, best.last().expect("it read something").0);
        let share = |until: f64| area(&ours.timeline, until) / area(&best, until);
        let bad = failing.bad();
        let missed = (0..failing.size / 512).filter(|at| !bad[*at as usize] && !ours.map.is_saved(at * 512..at * 512 + 512)).count();
        let most = best.last().expect("it read something").1 * 95 / 100;
        let passes: Vec<String> =
            ours.passes.iter().map(|pass| format!("{} {:.1} {} {}", pass.name.word(), pass.seconds, pass.reads, pass.failures)).collect();
        println!(
            "{:<13} {:>7.4} {:>7.4} {:>10.1} {knows:>9.1} {end:>8.0} {:>7} {missed:>7}  {}",
            failing.name,
            share(end),
            share(knows * 1.5),
            reached(&plain, most) / reached(&ours.timeline, most),
            ours.map.totals().lost / 512,
            passes.join(", ")
        );
    }
    picked(&of_the_set().collect::<Vec<_>>());
    if only.is_empty() || only == "steps" {
        steps();
    }
}

/// Folders that somebody picked, on a file system, on each drive of the set: how long until all of them is there.
fn picked(set: &[PathBuf]) {
    let dir = tempfile::tempdir().expect("a directory");
    let image = people(dir.path());
    let first = ["/people/d1".to_string(), "/people/d4".to_string()];
    let (structures, all) = structures_and_files(&image, &first);
    let one = |path: String| structures_and_files(&image, &[path]).1;
    let files: Vec<_> = first.iter().flat_map(|folder| (0..60).map(move |file| format!("{folder}/f{file}.bin"))).map(one).collect();
    println!("two picked folders, {} MiB of {} MiB: seconds until all their files are whole that can be", all.total(|()| true) >> 20, SIZE >> 20);
    println!("{:<13} {:>9} {:>9} {:>9} {:>9} {:>7} {:>7}", "drive", "files", "knows s", "finds s", "ours s", "/knows", "/finds");
    for path in set {
        let failing = Failing::of(path, SIZE, Some(&image));
        let bad = failing.bad();
        let is_whole = |file: &&Extents<()>| {
            !file.iter().any(|(range, ())| bad[(range.start / 512) as usize..(range.end.div_ceil(512)) as usize].contains(&true))
        };
        let (mut wanted, mut whole) = (structures.clone(), Extents::new());
        for (range, ()) in files.iter().filter(is_whole).flat_map(Extents::iter) {
            wanted.set(range.clone(), ());
            whole.set(range, ());
        }
        let count = files.iter().filter(is_whole).count();
        let knows = oracle_over(&failing, &wanted).last().expect("it read something").0;
        let run = go_on(&failing, How { wanted: Wanted { first: first.to_vec(), used: false }, ..How::default() });
        let ours = whole_at(&failing, &run, &whole);
        // Whoever knows where files are, and no fault, meets one failure in each that cannot be whole.
        let finds = knows + (files.len() - count) as f64 * run.failure;
        println!("{:<13} {count:>9} {knows:>9.2} {finds:>9.2} {ours:>9.2} {:>7.2} {:>7.2}", failing.name, ours / knows, ours / finds);
    }
}

/// A file system with folders of people.
fn people(dir: &Path) -> PathBuf {
    let folder = dir.join("made");
    for number in 0..8u64 {
        let below = folder.join(format!("people/d{number}"));
        std::fs::create_dir_all(&below).expect("a folder");
        for file in 0..60u64 {
            let len = (file * 7919 % 97 + 1) * 24 * 1024;
            std::fs::write(below.join(format!("f{file}.bin")), support::content(number << 32 | file << 20, len as usize)).expect("a file");
        }
    }
    let image = dir.join("people.img");
    let made =
        std::process::Command::new("mke2fs").args(["-q", "-F", "-t", "ext4", "-d"]).args([&folder, &image]).arg(format!("{}M", SIZE >> 20)).status();
    assert!(made.is_ok_and(|status| status.success()), "mke2fs made no file system");
    image
}

/// Resident memory in bytes.
fn resident() -> u64 {
    let text = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    text.split(' ').nth(1).and_then(|pages| pages.parse::<u64>().ok()).unwrap_or(0) * 4096
}

/// Two million stretches on 20 TB: what they take, and what each step costs.
fn steps() {
    let before = resident();
    let (size, stretches) = (20_000_000_000_000u64 / 512 * 512, 2_000_000u64);
    let step = size / stretches / 512 * 512;
    let mut map = Map::new(size);
    for number in 0..stretches / 2 {
        let at = number * 2 * step;
        map.set(at..at + step, State::Saved);
        map.set(at + step..at + step + 512 * (1 + number % 7), State::Deferred(1));
    }
    let began = Instant::now();
    let mut strategy = Strategy::new(map, 512);
    let made = began.elapsed();
    let count = 200_000;
    let began = Instant::now();
    for number in 0..count {
        let ask = strategy.choose().expect("there is more to do");
        let came = if number % 3 == 0 { Came::Until(ask.range.start + (ask.range.end - ask.range.start) / 2) } else { Came::Whole };
        strategy.told(&ask, came, Duration::from_millis(20));
        if number % 1000 == 0 {
            strategy.take_changes();
        }
    }
    let each = began.elapsed().as_secs_f64() / f64::from(count) * 1e6;
    println!(
        "two million stretches ({} now): made ready in {:.2} s, {each:.2} µs a step, {} MiB",
        strategy.map().count(),
        made.as_secs_f64(),
        resident().saturating_sub(before) >> 20
    );
}
