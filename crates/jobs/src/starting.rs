//! Whether what was written will start: its boot chain, held against that of what it was copied from.

use badger_bench::Bench;
use badger_drive::{Control, Source};
use badger_inspect::{Line, Looked, Verdict};
use badger_transfer::{Outcome, Report};
use std::path::Path;

/// A drive that gives nothing more once the run is told to stop, and what its first structures say.
fn look(bench: &Bench, path: &Path, control: &Control) -> Option<(Source, Looked)> {
    let drive = bench.workshop.source(path).ok()?;
    drive.obey(control);
    let looked = Looked::at_structures(&drive);
    Some((drive, looked))
}

/// Puts the links of the target's chain in place of the line that nobody looked. What does not hold on the source either is told so, and is no
/// fault of the copy.
pub(crate) fn prove(report: &mut Report, bench: &Bench, (source, target): (&Path, &Path), control: &Control) {
    if !matches!(report.outcome, Outcome::Proved | Outcome::Finished | Outcome::Incomplete) {
        return;
    }
    let Some((drive, looked)) = look(bench, target, control) else { return };
    let chain = badger_system::lines(&drive, &looked);
    let licence = badger_system::licence::lines(&drive, &looked);
    if let Some(place) = report.proof.iter().position(|line| line.what == "licence")
        && licence.iter().any(|line| !line.link.is_empty())
    {
        report.proof.splice(place..=place, licence);
    }
    let mut lines = chain.clone();
    if lines.iter().all(|line| line.link.is_empty() && line.result == Verdict::NotChecked) {
        return;
    }
    if lines.iter().any(|line| line.result == Verdict::Fails) {
        let before = look(bench, source, control).map(|(drive, looked)| badger_system::lines(&drive, &looked)).unwrap_or_default();
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
    if broken.is_some() && !badger_system::mend::find(&drive, &looked, &chain, badger_system::mend::Wishes::default()).is_empty() {
        let way = Line::new("boot", Verdict::NotChecked, "some of that can be set right on the target: badger mend shows it, and does it");
        let place = report.proof.iter().rposition(|line| line.what == "boot").map_or(report.proof.len(), |at| at + 1);
        report.proof.insert(place, way);
    }
    if let (Some(broken), Outcome::Proved) = (broken, report.outcome) {
        (report.outcome, report.reason) = (Outcome::Finished, format!("it will not start: {broken}"));
    }
}
