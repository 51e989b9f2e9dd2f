//! Starting a drive in a virtual machine, and what came of it in its job.

use crate::record;
use badger_bench::Bench;
use badger_drive::health::State;
use badger_drive::{Bus, Control, Refusal, Source};
use badger_inspect::{Looked, Verdict};
use badger_rehearsal::{Rehearsal, Scene};
use badger_system::machine::{Controller, Starts};
use badger_system::{Firmware, Machine};
use badger_transfer::{Outcome, Report};
use std::path::PathBuf;
use std::time::Duration;

pub use badger_rehearsal::Rehearsed;

/// What is asked for.
#[derive(Clone, Debug)]
pub struct RehearseOrder {
    /// The drive, or an image of one.
    pub target: PathBuf,
    /// The machine that it goes into; without one, a machine that suits it.
    pub machine: Option<Machine>,
    /// So long it may take at the most.
    pub patience: Duration,
}

/// A machine that suits a drive of which nobody said where it goes.
fn suited(drive: &Source) -> Machine {
    let controller = match drive.identity().bus {
        Bus::Nvme | Bus::UsbNvme => Controller::Nvme,
        Bus::Ide => Controller::Ide,
        _ => Controller::Sata,
    };
    Machine {
        name: format!("any machine with {}", controller.word()),
        firmware: Some(Starts::Either),
        controller: Some(controller),
        ..Machine::default()
    }
}

impl RehearseOrder {
    /// Starts it, and watches until something is known.
    ///
    /// # Errors
    /// Why it could not be tried. Nothing is written to the drive in any case.
    pub fn run(self, bench: &Bench, control: &Control, told: &dyn Fn(&Scene)) -> Result<Rehearsed, Refusal> {
        let drive = bench.workshop.source(&self.target)?;
        if bench.workshop.found(&self.target).is_some_and(|found| bench.workshop.health(&found).state == State::Failing) {
            let text = format!(
                "{} fails, as it says itself: a start reads here and there, for hours; salvage it, and rehearse what was saved",
                self.target.display()
            );
            return Err(Refusal::new("drive-failing", text));
        }
        let chains = badger_system::chains(&drive, &Looked::at_structures(&drive));
        let machine = self.machine.unwrap_or_else(|| suited(&drive));
        let firmware: Firmware = machine.starts_by(&chains);
        let key = drive.key();
        let failed = |error: badger_bench::ledger::Error| Refusal::new("ledger", error.to_string());
        let job = bench.open_ledger().and_then(|ledger| ledger.last_job_of(&key)).map_err(failed)?.filter(|job| job.target_key == key);
        let of = job.as_ref().map_or_else(|| format!("drive-{}", &blake3::hash(key.as_bytes()).to_hex()[..16]), |job| format!("job-{}", job.id));
        let folder = bench.ledger.with_file_name("rehearsals");
        let log = (1..).map(|number| folder.join(format!("{of}-{number}"))).find(|path| std::fs::symlink_metadata(path).is_err()).unwrap_or(folder);
        bench.keep_off(Vec::new(), &[badger_drive::RunDrive::source(&drive)])?;
        let rehearsal = Rehearsal { source: drive, machine: &machine, firmware, patience: self.patience, control, log: &log };
        let rehearsed = rehearsal.run(told)?;
        if job.is_some() {
            record::amend(bench, &key, |report| stand_in(report, &rehearsed)).map_err(failed)?;
        }
        Ok(rehearsed)
    }
}

/// Puts it into a report, in place of an earlier one.
pub fn stand_in(report: &mut Report, rehearsed: &Rehearsed) {
    let line = &rehearsed.line;
    report.proof.retain(|other| other.link != line.link);
    report.say_of_boot(line.clone());
    if line.result == Verdict::Fails && report.outcome == Outcome::Proved {
        (report.outcome, report.reason) = report.verdict();
    }
}
