//! Setting right what keeps a target from starting, with a journal that takes it back.

use crate::record;
use badger_bench::Bench;
use badger_bench::ledger;
use badger_drive::{Candidate, Refusal, Target};
use badger_inspect::{Line, Looked, Verdict};
use badger_system::mend::{self, Repair, Wishes};
use badger_system::patch::Patch;
use badger_system::{Machine, machine};
use badger_transfer::{Outcome, Report};
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use tracing::info;

/// What is asked for.
#[derive(Clone, Debug)]
pub struct MendOrder {
    /// The target of an earlier job.
    pub target: PathBuf,
    /// Beyond what is broken.
    pub wishes: Wishes,
    /// Take back what was set right last.
    pub undo: bool,
    /// The machine that the target goes into, where somebody said.
    pub machine: Option<Machine>,
}

/// What will be done, before anything is.
pub struct MendReady {
    order: MendOrder,
    candidate: Candidate,
    /// The chain as it is.
    pub chain: Vec<Line>,
    /// What is set right; of an undo what is taken back.
    pub repairs: Vec<Repair>,
    undoes: Option<PathBuf>,
}

/// What came of it.
#[derive(Clone, Debug, Serialize)]
pub struct Mended {
    /// `mended`, or `undone`.
    pub outcome: &'static str,
    /// What was done, in words.
    pub repairs: Vec<String>,
    /// The chain as it is now.
    pub proof: Vec<Line>,
}

/// What a journal keeps.
#[derive(Serialize, Deserialize)]
struct Kept {
    version: u32,
    target: String,
    texts: Vec<String>,
    patches: Vec<Patch>,
}

/// A line about the machine that the target goes into.
fn is_of_machine(line: &Line) -> bool {
    line.link.starts_with("machine/")
}

/// Journals of a target, the oldest first.
fn journals(dir: &Path, key: &str) -> Vec<PathBuf> {
    let start = format!("mend-{}-", &blake3::hash(key.as_bytes()).to_hex()[..16]);
    let names = fs::read_dir(dir).into_iter().flatten().flatten().map(|entry| entry.path());
    let mut all: Vec<(u32, PathBuf)> = names
        .filter_map(|path| {
            let number = path.file_name()?.to_str()?.strip_prefix(&start)?.strip_suffix(".json")?.parse().ok()?;
            Some((number, path))
        })
        .collect();
    all.sort();
    all.into_iter().map(|(_, path)| path).collect()
}

impl MendOrder {
    /// Looks at the target, and finds what can be set right. Nothing is written.
    ///
    /// # Errors
    /// A refusal with its reason.
    pub fn prepare(mut self, bench: &Bench) -> Result<MendReady, Refusal> {
        self.wishes.controller = self.machine.as_ref().and_then(|machine| machine.controller);
        let drive = bench.workshop.source(&self.target)?;
        let looked = Looked::at_structures(&drive);
        let candidate = bench.workshop.candidate(&self.target, None, drive.geometry().logical_sector)?;
        let key = candidate.key();
        let refused = |error: ledger::Error| Refusal::new("ledger", error.to_string());
        // What was a target once may have come back as what a customer brought: the latest job says what it is now.
        let last = bench.open_ledger().and_then(|ledger| ledger.last_job_of(&key)).map_err(refused)?;
        if last.is_none_or(|job| job.target_key != key || job.source_key == key) {
            let text = format!(
                "{} is not the target of its latest job on this bench: what a customer brought is never written to; clone it, and mend the clone",
                self.target.display()
            );
            return Err(Refusal::new("not-a-target", text));
        }
        let chain = machine::lines(&drive, &looked, self.machine.as_ref());
        if !self.undo {
            let repairs = mend::find(&drive, &looked, &chain, self.wishes);
            if self.wishes.uefi && repairs.iter().all(|repair| repair.name != "uefi") {
                let why =
                    badger_system::uefi::conversion(&drive, &looked).err().unwrap_or_else(|| "it touches what something else sets right".into());
                return Err(Refusal::new("no-uefi", format!("{} cannot be made to start by UEFI: {why}", self.target.display())));
            }
            return Ok(MendReady { order: self, candidate, chain, repairs, undoes: None });
        }
        let Some(journal) = journals(&ledger::journals_beside(&bench.ledger), &key).pop() else {
            return Err(Refusal::new("nothing-to-undo", format!("nothing was set right on {} that could be taken back", self.target.display())));
        };
        let unreadable = |why: String| Refusal::new("journal-damaged", format!("{}: {why}", journal.display()));
        let text = fs::read_to_string(&journal).map_err(|error| unreadable(error.to_string()))?;
        let kept: Kept = serde_json::from_str(&text).map_err(|error| unreadable(error.to_string()))?;
        if kept.version != 1 || kept.target != key {
            return Err(unreadable("it is of another target, or of another version of this program".into()));
        }
        let back = kept.patches.into_iter().rev().map(|patch| Patch { at: patch.at, old: patch.new, new: patch.old });
        let repair = Repair { name: "undo", text: format!("taken back: {}", kept.texts.join("; ")), consequence: None, patches: back.collect() };
        Ok(MendReady { order: self, candidate, chain, repairs: vec![repair], undoes: Some(journal) })
    }
}

impl MendReady {
    /// The tail that releases the target.
    pub fn tail(&self) -> String {
        self.candidate.tail()
    }

    /// Sets right what was shown, looks at the chain again, and puts that into the target's job.
    ///
    /// # Errors
    /// A refusal; then nothing was written, or its text says what was.
    pub fn run(self, bench: &Bench, tail: &str) -> Result<Mended, Refusal> {
        let key = self.candidate.key();
        let mended = self.apply(bench, tail)?;
        record::amend(bench, &key, |report| mended.stand_in(report))
            .map_err(|error| Refusal::new("ledger", format!("it is {}, and the ledger could not be written: {error}", mended.outcome)))?;
        Ok(mended)
    }

    /// Sets right what was shown, and looks at the chain again.
    pub(crate) fn apply(self, bench: &Bench, tail: &str) -> Result<Mended, Refusal> {
        let Self { order, candidate, repairs, undoes, .. } = self;
        let (key, patches) = (candidate.key(), repairs.iter().flat_map(|repair| &repair.patches).collect::<Vec<_>>());
        let target = candidate.release_to_mend(tail)?;
        for patch in &patches {
            let now = read(&target, patch.at, patch.old.len())?;
            // Half of an undo, or of what it takes back, may be done.
            if now != patch.old && !(undoes.is_some() && now == patch.new) {
                let text = format!("byte {} of {} is not as it was when it was shown; nothing was written", patch.at, order.target.display());
                return Err(Refusal::new("shown-changed", text));
            }
        }
        let dir = ledger::journals_beside(&bench.ledger);
        let failed =
            |error: std::io::Error| Refusal::new("journal", format!("the journal in {} cannot be written: {error}; nothing else was", dir.display()));
        if undoes.is_none() && !patches.is_empty() {
            let kept = Kept {
                version: 1,
                target: key.clone(),
                texts: repairs.iter().map(|repair| repair.text.clone()).collect(),
                patches: patches.iter().copied().cloned().collect(),
            };
            keep(&dir, &key, &kept).map_err(failed)?;
        }
        for patch in &patches {
            write(&target, patch)?;
        }
        target.flush().map_err(|error| unwritten(&order.target, &error))?;
        for patch in &patches {
            let size = u64::from(target.geometry().logical_sector);
            target.forget(patch.at / size * size, (patch.new.len() as u64 + size).next_multiple_of(size));
            if read(&target, patch.at, patch.new.len())? != patch.new {
                let text = format!("byte {} of {} gives something else than was written: this drive is failing", patch.at, order.target.display());
                return Err(Refusal::new("target-unusable", text));
            }
        }
        drop(target);
        if let Some(journal) = &undoes {
            fs::remove_file(journal).map_err(|error| Refusal::new("journal", format!("{} is done, and stays: {error}", journal.display())))?;
        }
        info!(target = key, patches = patches.len(), undo = undoes.is_some(), "a target was mended");
        let drive = bench.workshop.source(&order.target)?;
        let proof = machine::lines(&drive, &Looked::at_structures(&drive), order.machine.as_ref());
        let mended = Mended {
            outcome: if undoes.is_some() { "undone" } else { "mended" },
            repairs: repairs.iter().map(|repair| repair.text.clone()).collect(),
            proof,
        };
        Ok(mended)
    }
}

impl Mended {
    /// Puts the chain as it is now into a report, in place of the old one; what failed for that alone does not any more.
    pub fn stand_in(&self, report: &mut Report) {
        let place = report.proof.iter().position(|line| line.what == "boot").unwrap_or(report.proof.len());
        let failed_to_start = report.proof.iter().any(|line| line.what == "boot" && line.result == Verdict::Fails);
        // What the machine does not take stays, where nobody looked at that again; whether it is still so is not known then.
        let mut old: Vec<Line> = Vec::new();
        if !self.proof.iter().any(is_of_machine) {
            old = report.proof.iter().filter(|line| is_of_machine(line)).cloned().collect();
            let changes = |line: &Line| ["machine/controller", "machine/entry", "machine/sleep"].contains(&line.link.as_str());
            for line in old.iter_mut().filter(|line| changes(line)) {
                (line.result, line.text) = (Verdict::NotChecked, format!("{}; not looked at again after what was set right", line.text));
            }
        }
        report.proof.retain(|line| line.what != "boot");
        let text = match self.outcome {
            "undone" => "what was set right after the copy was taken back",
            _ => "set right after the copy; badger mend --undo takes it back",
        };
        let first = Line { evidence: self.repairs.clone(), ..Line::new("boot", Verdict::Differs, text) };
        report.proof.splice(place..place, std::iter::once(first).chain(self.proof.iter().cloned()).chain(old));
        // What it was finished for besides stays: what was lost, and what was never compared.
        let fails_now = self.proof.iter().any(|line| line.result == Verdict::Fails);
        if (failed_to_start && report.outcome == Outcome::Finished) || (fails_now && report.outcome == Outcome::Proved) {
            (report.outcome, report.reason) = report.verdict();
        }
    }
}

fn unwritten(path: &Path, error: &dyn std::fmt::Display) -> Refusal {
    Refusal::new("target-unusable", format!("{} takes no writes: {error}; what was set right until then is in the journal: undo it", path.display()))
}

/// Bytes of a target, read in whole sectors.
fn read(target: &Target, at: u64, len: usize) -> Result<Vec<u8>, Refusal> {
    let size = u64::from(target.geometry().logical_sector);
    let (from, to) = (at / size * size, (at + len as u64).next_multiple_of(size));
    let mut sectors = vec![0; (to - from) as usize];
    target.read_at(from, &mut sectors).map_err(|error| Refusal::new("target-unusable", format!("byte {at} cannot be read: {error}")))?;
    Ok(sectors[(at - from) as usize..(at - from) as usize + len].to_vec())
}

/// Writes the sectors that a patch lies in.
fn write(target: &Target, patch: &Patch) -> Result<(), Refusal> {
    let size = u64::from(target.geometry().logical_sector);
    let (from, to) = (patch.at / size * size, (patch.at + patch.new.len() as u64).next_multiple_of(size));
    let mut sectors = read(target, from, (to - from) as usize)?;
    let within = (patch.at - from) as usize;
    sectors[within..within + patch.new.len()].copy_from_slice(&patch.new);
    target.write_at(from, &sectors).map_err(|error| unwritten(&target.identity().path, &error))
}

/// Keeps what it takes to take it back, durably, before anything is written.
fn keep(dir: &Path, key: &str, kept: &Kept) -> std::io::Result<()> {
    fs::create_dir_all(dir)?;
    let number = journals(dir, key).len() + 1;
    let name = format!("mend-{}-{number}.json", &blake3::hash(key.as_bytes()).to_hex()[..16]);
    let mut file = File::create_new(dir.join(name))?;
    file.write_all(serde_json::to_string(kept).unwrap_or_default().as_bytes())?;
    file.sync_all()?;
    File::open(dir)?.sync_all()
}
