//! Simulated drives in a folder of their own, and runs between them.
#![allow(dead_code)] // every test uses a part of it

pub mod volatile;

use badger_drive::Sysfs;
use badger_drive::clock::Clock;
use badger_drive::{Refusal, Release, Source, Standing, Witness, Workshop};
use badger_inspect::Looked;
use badger_inspect::volumes;
use badger_layout::plan::{self, Ids, Rest, Side, Sparing};
use badger_layout::{Plan, table};
use badger_transfer::journal::Journal;
use badger_transfer::run::{self, Run};
use badger_transfer::{Control, Image, Report, events::Silent};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tempfile::TempDir;

pub const MIB: u64 = 1 << 20;

/// Bytes that look like nothing in particular, the same for the same seed.
pub fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    (0..len.div_ceil(8)).flat_map(|_| next().to_le_bytes()).take(len).collect()
}

pub struct Place {
    pub dir: TempDir,
    pub workshop: Workshop,
    /// Copy only what is in use.
    pub used: Option<Rest>,
    /// Which identifiers the target gets.
    pub ids: Ids,
}

impl Place {
    pub fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let workshop = Workshop { sysfs: Sysfs::at("/"), ..Workshop::default() };
        Self { dir, workshop, used: None, ids: Ids::Keep }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// A simulated drive with this content and these faults.
    pub fn drive(&self, name: &str, content: &[u8], faults: &str) -> PathBuf {
        fs::write(self.path(&format!("{name}.img")), content).unwrap();
        self.faults(name, faults)
    }

    pub fn faults(&self, name: &str, faults: &str) -> PathBuf {
        let path = self.path(&format!("{name}.drive.toml"));
        let text = format!(
            "backing = \"{name}.img\"\n[identity]\nmodel = \"{name}\"\nserial = \"XX-{name}\"\nbus = \"sata\"\n[pace]\nread_mb_s = 100.0\nwrite_mb_s = 100.0\n{faults}"
        );
        fs::write(&path, text).unwrap();
        path
    }

    pub fn content(&self, name: &str) -> Vec<u8> {
        fs::read(self.path(&format!("{name}.img"))).unwrap()
    }

    pub fn journals(&self) -> PathBuf {
        self.path("journals")
    }

    pub fn plan(&self, source: &Source, target: Side, ids: Ids) -> Plan {
        let here = Side { key: source.key(), size_bytes: source.geometry().size_bytes, sector: 512, physical: 512 };
        let mut plan = plan::exact(&table::read(&**source), &here, &target, ids, || [9; 16]).unwrap();
        if let Some(rest) = self.used {
            let (needed, volumes) = volumes::needed(&volumes::survey(source, &Looked::at(source)), here.size_bytes);
            plan.spare(&needed, Sparing { volumes, rest });
        }
        plan
    }

    /// Clones, or goes on with what was begun.
    pub fn clone_with(
        &self,
        source: &Path,
        target: &Path,
        control: &Control,
        again: bool,
        observer: &dyn badger_transfer::Observer,
    ) -> Result<Report, Refusal> {
        let source = self.workshop.source(source).unwrap();
        let candidate = self.workshop.candidate(target, None, 512).unwrap();
        let side = Side { key: candidate.key(), size_bytes: candidate.geometry().size_bytes, sector: 512, physical: 512 };
        let tail = candidate.tail();
        let target = candidate.release(&Release::new(&source, 0, &tail))?;
        let journal = self.journal(&source, side, &target.standing());
        let clock: Arc<dyn Clock> = self.workshop.sim_clock.clone();
        let image = Image::plain(&source, &journal.plan);
        let (report, finished) = run::start(Run { source, image, target, journal, control, observer, clock, references: &[], again })?;
        finished.into_iter().for_each(Journal::remove);
        Ok(report)
    }

    /// The journal of what was begun, or a new one.
    pub fn journal(&self, source: &Source, target: Side, standing: &Standing) -> Journal {
        let begun = Journal::peek(&self.journals(), &source.key(), &target.key).unwrap();
        match begun.first() {
            Some(begun) => Journal::open(&self.journals(), begun).unwrap().unwrap(),
            None => {
                let plan = self.plan(source, target, self.ids);
                Journal::begin(&self.journals(), plan, ("1", "{}"), &Witness::of(&**source, &[]), standing).unwrap()
            }
        }
    }

    pub fn clone(&self, source: &Path, target: &Path) -> Report {
        self.clone_with(source, target, &Control::new(), false, &Silent).unwrap()
    }

    pub fn has_journal(&self) -> bool {
        fs::read_dir(self.journals()).is_ok_and(|entries| entries.flatten().any(|entry| entry.path().extension().is_some_and(|end| end == "journal")))
    }
}
