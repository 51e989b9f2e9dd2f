//! Whether what was written will start: its boot chain, held against that of what it was copied from.

use badger_bench::Bench;
use badger_inspect::{Line, Looked, Verdict};
use badger_transfer::{Outcome, Report};
use std::path::Path;

fn chain(bench: &Bench, path: &Path) -> Vec<Line> {
    let Ok(drive) = bench.workshop.source(path) else { return Vec::new() };
    badger_system::lines(&drive, &Looked::at_structures(&drive))
}

/// Puts the links of the target's chain in place of the line that nobody looked. What does not hold on the source either is told so, and is no
/// fault of the copy.
pub(crate) fn prove(report: &mut Report, bench: &Bench, source: &Path, target: &Path) {
    if !matches!(report.outcome, Outcome::Proved | Outcome::Finished | Outcome::Incomplete) {
        return;
    }
    let mut lines = chain(bench, target);
    if lines.iter().all(|line| line.link.is_empty() && line.result == Verdict::NotChecked) {
        return;
    }
    if lines.iter().any(|line| line.result == Verdict::Fails) {
        let before = chain(bench, source);
        for line in lines.iter_mut().filter(|line| line.result == Verdict::Fails) {
            if before.iter().any(|other| other.link == line.link && other.result == Verdict::Fails) {
                line.result = Verdict::Differs;
                line.text = format!("{}; it is so on the source too", line.text);
            }
        }
    }
    let broken = lines.iter().find(|line| line.result == Verdict::Fails).map(|line| line.text.clone());
    let place = report.proof.iter().position(|line| line.what == "boot").unwrap_or(report.proof.len());
    // A line that says what names the old places stays in front of them.
    let keeps = report.proof.get(place).is_some_and(|line| line.result == Verdict::Fails);
    let end = if keeps || place == report.proof.len() { place } else { place + 1 };
    report.proof.splice(if keeps { place + 1..place + 1 } else { place..end }, lines);
    if let (Some(broken), Outcome::Proved) = (broken, report.outcome) {
        (report.outcome, report.reason) = (Outcome::Finished, format!("it will not start: {broken}"));
    }
}
