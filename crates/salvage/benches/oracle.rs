//! The strategy against somebody who knows every fault beforehand, drive by drive, in simulated time; and what a step costs on a map of
//! two million stretches. `ONLY=name` picks drives by their names, `SEED=n` adds some that nobody tuned to.

#[path = "../tests/support/mod.rs"]
mod support;

use badger_salvage::map::{Map, State};
use badger_salvage::run::Limits;
use badger_salvage::strategy::{Came, Strategy};
use std::time::{Duration, Instant};
use support::{area, drive, oracle, random_faults, reached, salvage, set, straight};

fn main() {
    let only = std::env::var("ONLY").unwrap_or_default();
    let mut drives = set();
    if let Ok(seed) = std::env::var("SEED") {
        let seed: u64 = seed.parse().expect("a number");
        drives = (seed..seed + 8).map(|seed| ("random", 1024, "read_mb_s = 120.0\nseek_ms = 9.0", random_faults(seed, 2_097_152))).collect();
    }
    println!("area: saved over time against who knows, until our end / until 1.5 times the end of who knows");
    println!(
        "{:<13} {:>7} {:>7} {:>10} {:>9} {:>8} {:>7} {:>7}  passes: seconds, reads, failures",
        "drive", "area", "early", "x straight", "knows s", "end s", "lost", "missed"
    );
    for entry in drives.iter().filter(|entry| entry.0.contains(&only)) {
        let failing = drive(entry);
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
    if only.is_empty() || only == "steps" {
        steps();
    }
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
