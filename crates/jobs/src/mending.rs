//! Setting right what keeps a target from starting, with a journal that takes it back.

use crate::record;
use badger_bench::Bench;
use badger_bench::ledger;
use badger_drive::{Candidate, Extents, Refusal, Target};
use badger_inspect::{Line, Looked, Verdict};
use badger_system::mend::{self, Renamed, Repair, Wishes};
use badger_system::patch::Patch;
use badger_system::{Machine, machine};
use badger_transfer::{Outcome, Report};
use serde::{Deserialize, Serialize};
use std::fs;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use tracing::info;

/// What is asked for.
#[derive(Clone, Debug)]
pub struct MendOrder {
    /// The target of an earlier job.
    pub target: PathBuf,
    /// Beyond what is broken.
    pub wishes: Wishes,
    /// What became of identifiers, where the copy that it follows knows that.
    pub renamed: Vec<Renamed>,
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
    /// Bytes of the target.
    size: u64,
    texts: Vec<String>,
    patches: Vec<Patch>,
}

/// The first line of a journal: what it is, then the BLAKE3 of everything behind the line.
const MAGIC: &str = "zealous badger mend journal 2 ";
/// No journal is longer, in bytes.
const MOST_JOURNAL: u64 = 512 << 20;

impl Kept {
    fn written(&self) -> String {
        let body = serde_json::to_string(self).unwrap_or_default();
        format!("{MAGIC}{}\n{body}", blake3::hash(body.as_bytes()).to_hex())
    }

    /// Reads a journal whole: nothing of it is believed unless all of it is as it was written.
    fn read(path: &Path, key: &str, size: u64) -> Result<Self, String> {
        let mut text = String::new();
        let file = badger_drive::keep::open_to_read(path).map_err(|error| error.to_string())?;
        file.take(MOST_JOURNAL).read_to_string(&mut text).map_err(|error| error.to_string())?;
        let (hash, body) =
            text.strip_prefix(MAGIC).and_then(|rest| rest.split_once('\n')).ok_or("it is none, or of another version of this program")?;
        if blake3::hash(body.as_bytes()).to_hex().as_str() != hash {
            return Err("it is not as it was written".into());
        }
        let kept: Self = serde_json::from_str(body).map_err(|error| error.to_string())?;
        if kept.version != 2 || kept.target != key || kept.size != size {
            return Err("it is of another target, or of another version of this program".into());
        }
        kept.sound().then_some(kept).ok_or_else(|| "it names bytes that the target does not have, or some twice".into())
    }

    /// Whether each patch lies on the target, leaves its length as it is, and no byte is in two of them.
    fn sound(&self) -> bool {
        let mut all = Extents::new();
        self.patches.iter().all(|Patch { at, old, new }| {
            let end = at.checked_add(new.len() as u64).filter(|end| *end <= self.size && old.len() == new.len());
            let free = end.is_some_and(|end| all.within(*at..end).next().is_none());
            end.into_iter().for_each(|end| all.set(*at..end, ()));
            free
        })
    }
}

/// What the journal of a target with this key and so many bytes would take back, in the order in which it was written.
///
/// # Errors
/// Why nothing of it is believed.
pub fn taken_back(journal: &Path, key: &str, size: u64) -> Result<Vec<Patch>, String> {
    Kept::read(journal, key, size).map(|kept| kept.patches)
}

/// A line about the machine that the target goes into.
fn is_of_machine(line: &Line) -> bool {
    line.link.starts_with("machine/")
}

fn stem(key: &str) -> String {
    format!("mend-{}-", &blake3::hash(key.as_bytes()).to_hex()[..16])
}

/// The number of a target's journal.
fn number(path: &Path, key: &str) -> Option<u32> {
    path.file_name()?.to_str()?.strip_prefix(&stem(key))?.strip_suffix(".json")?.parse().ok()
}

/// Journals of a target, the oldest first.
fn journals(dir: &Path, key: &str) -> Vec<PathBuf> {
    let names = fs::read_dir(dir).into_iter().flatten().flatten().map(|entry| entry.path());
    let mut all: Vec<(u32, PathBuf)> = names.filter_map(|path| Some((number(&path, key)?, path))).collect();
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
            let repairs = mend::find(&drive, &looked, &chain, self.wishes, &self.renamed);
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
        let unreadable = |why: String| Refusal::new("journal-damaged", format!("{}: {why}; nothing was written", journal.display()));
        let kept = Kept::read(&journal, &key, candidate.geometry().size_bytes).map_err(unreadable)?;
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
        bench.keep_off(Vec::new(), &[candidate.in_run()])?;
        let target = candidate.release_to_mend(tail)?;
        let sector = u64::from(target.geometry().logical_sector);
        for patch in &patches {
            let now = read(&target, patch.at, patch.old.len())?;
            if let Some(at) = strange(patch, &now, sector, undoes.is_some()) {
                let text = format!("byte {at} of {} is not as it was when it was shown; nothing was written", order.target.display());
                return Err(Refusal::new("shown-changed", text));
            }
        }
        let dir = ledger::journals_beside(&bench.ledger);
        let failed =
            |error: std::io::Error| Refusal::new("journal", format!("the journal in {} cannot be written: {error}; nothing else was", dir.display()));
        if undoes.is_none() && !patches.is_empty() {
            let kept = Kept {
                version: 2,
                target: key.clone(),
                size: target.geometry().size_bytes,
                texts: repairs.iter().map(|repair| repair.text.clone()).collect(),
                patches: patches.iter().copied().cloned().collect(),
            };
            if !kept.sound() {
                let text = "what would be set right contradicts itself; nothing was written";
                return Err(Refusal::new("journal", text));
            }
            keep_journal(&dir, &key, &kept).map_err(failed)?;
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

/// The first byte of a target that is neither as it was nor, where a part may be done, as it becomes. A drive writes whole sectors:
/// where a run was killed, some of a patch are done and some are not.
fn strange(patch: &Patch, now: &[u8], sector: u64, may_be_done: bool) -> Option<u64> {
    let mut at = patch.at;
    let end = patch.at + patch.old.len() as u64;
    while at < end {
        let next = (at / sector + 1).saturating_mul(sector).min(end);
        let part = (at - patch.at) as usize..(next - patch.at) as usize;
        if now[part.clone()] != patch.old[part.clone()] && !(may_be_done && now[part.clone()] == patch.new[part]) {
            return Some(at);
        }
        at = next;
    }
    None
}

/// Keeps what it takes to take it back, durably, before anything is written.
fn keep_journal(dir: &Path, key: &str, kept: &Kept) -> std::io::Result<()> {
    fs::create_dir_all(dir)?;
    // The highest is taken back first: a number is never given to a later one while an earlier has it.
    let last = journals(dir, key).last().and_then(|path| number(path, key)).unwrap_or(0);
    let path = dir.join(format!("{}{}.json", stem(key), last.checked_add(1).ok_or(std::io::ErrorKind::AlreadyExists)?));
    badger_drive::keep::replace(&path, &|_| false, |file| file.write_all(kept.written().as_bytes()))?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn kept(patches: &[(u64, &[u8], &[u8])]) -> Kept {
        let patches = patches.iter().map(|(at, old, new)| Patch { at: *at, old: old.to_vec(), new: new.to_vec() });
        Kept { version: 2, target: "weir".into(), size: 1 << 20, texts: vec!["fstab".into()], patches: patches.collect() }
    }

    /// Whatever is changed in a journal, nothing of it is believed.
    #[test]
    fn a_journal_is_believed_whole_or_not_at_all() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("mend.json");
        let whole = kept(&[(512, b"old bytes", b"new bytes"), (4096, &[1; 600], &[2; 600])]).written();
        let read = |text: &[u8]| {
            fs::write(&path, text).unwrap();
            Kept::read(&path, "weir", 1 << 20)
        };
        assert_eq!(read(whole.as_bytes()).unwrap().patches.len(), 2);
        for at in 0..whole.len() {
            let mut changed = whole.clone().into_bytes();
            changed[at] ^= 1;
            assert!(read(&changed).is_err(), "byte {at}: {}", String::from_utf8_lossy(&changed));
            assert!(at > 200 || read(&whole.as_bytes()[..at]).is_err(), "cut at {at}");
        }
        assert!(Kept::read(&path, "slate", 1 << 20).is_err() && Kept::read(&path, "weir", 2 << 20).is_err());
    }

    #[rstest]
    #[case::a_length_that_changes(&[(512, "longer", "short")])]
    #[case::past_the_end(&[((1 << 20) - 2, "old", "new")])]
    #[case::past_every_end(&[(u64::MAX - 1, "old", "new")])]
    #[case::twice(&[(512, "old", "new"), (514, "old", "new")])]
    fn a_journal_that_contradicts_itself_is_refused(#[case] patches: &[(u64, &str, &str)]) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("mend.json");
        let patches: Vec<_> = patches.iter().map(|(at, old, new)| (*at, old.as_bytes(), new.as_bytes())).collect();
        fs::write(&path, kept(&patches).written()).unwrap();
        assert!(Kept::read(&path, "weir", 1 << 20).is_err());
    }

    /// A run that was killed leaves some sectors of a patch done and some not: each by itself is as it was, or as it becomes.
    #[rstest]
    #[case::nothing_done(&[0, 0, 0, 0], None)]
    #[case::all_done(&[1, 1, 1, 1], None)]
    #[case::torn(&[1, 0, 1, 0], None)]
    #[case::something_else(&[1, 2, 0, 0], Some(512))]
    fn a_torn_patch_is_told_from_a_strange_one(#[case] sectors: &[u8], #[case] strange_at: Option<u64>) {
        let patch = Patch { at: 100, old: vec![0; 4 * 512 - 200], new: vec![1; 4 * 512 - 200] };
        let now: Vec<u8> = (0..4 * 512).map(|at| sectors[at / 512]).skip(100).take(patch.old.len()).collect();
        assert_eq!(strange(&patch, &now, 512, true), strange_at);
        // Before anything is written nothing may be done already.
        assert_eq!(strange(&patch, &now, 512, false).is_none(), sectors == [0; 4]);
    }
}
