//! What mending makes of the outcome of a run.

use badger_inspect::{Line, Stretch, Verdict};
use badger_jobs::mending::Mended;
use badger_transfer::{Outcome, Report};

fn report(outcome: Outcome, lines: &[(&str, Verdict)], lost: bool) -> Report {
    let mut report = Report::new("a".into(), "b".into());
    (report.outcome, report.reason) = (outcome, "as it was".into());
    report.proof = lines.iter().map(|(what, result)| Line::new(what, *result, "text")).collect();
    report.lost = if lost { vec![Stretch { start: 1, sectors: 1 }] } else { Vec::new() };
    report
}

/// A chain that was mended makes whole only what was finished for its sake alone.
#[test]
fn mending_hides_nothing_else() {
    use Verdict::{Fails, Holds, NotChecked};
    let after = |mut report: Report, chain| {
        Mended { outcome: "mended", repairs: Vec::new(), proof: vec![Line::new("boot", chain, "chain")] }.stand_in(&mut report);
        report.outcome
    };
    let lines = [("blocks", Holds), ("boot", Fails)];
    assert_eq!(after(report(Outcome::Finished, &lines, false), Holds), Outcome::Proved);
    assert_eq!(after(report(Outcome::Finished, &lines, false), Fails), Outcome::Finished);
    assert_eq!(after(report(Outcome::Finished, &lines, true), Holds), Outcome::Incomplete);
    assert_eq!(after(report(Outcome::Finished, &[("files", Fails), ("boot", Fails)], false), Holds), Outcome::Finished);
    // Finished because not all could be read back: the chain says nothing of that.
    assert_eq!(after(report(Outcome::Finished, &[("blocks", NotChecked), ("boot", NotChecked)], false), Holds), Outcome::Finished);
    assert_eq!(after(report(Outcome::Proved, &[("blocks", Holds)], false), Fails), Outcome::Finished);
    assert_eq!(after(report(Outcome::Interrupted, &lines, false), Holds), Outcome::Interrupted);
}
