//! The place where jobs are done: drives, the ledger, what the workshop settled.

use crate::config::Config;
use crate::ledger::{self, Ledger};
use badger_drive::kinds::Kind;
use badger_drive::{OwnFile, OwnKind, Refusal, RunDrive, Workshop};
use badger_inspect::{Hazard, Level};
use std::path::PathBuf;

/// The drives of this machine, with every kind of drive that is known.
pub fn workshop() -> Workshop {
    Workshop { more: KINDS, ..Workshop::default() }
}

/// Kinds of drives besides those that every workshop knows.
static KINDS: &[&dyn Kind] = &[badger_network::BORROWED, badger_inspect::BACKUPS, badger_image::OWN, badger_image::CONTAINERS, badger_salvage::MAPS];

/// The place where jobs are done: drives and the ledger.
#[derive(Clone)]
pub struct Bench {
    /// The drives.
    pub workshop: Workshop,
    /// Path of the ledger.
    pub ledger: PathBuf,
    /// What the workshop settled.
    pub config: Config,
}

impl Bench {
    /// The workshop's name or the technician's: the settings' one, else the ledger's; empty where neither says it.
    pub fn named(&self, ledger: Option<&Ledger>, what: &str) -> String {
        let settled = if what == "workshop" { &self.config.workshop } else { &self.config.technician };
        if !settled.is_empty() {
            return settled.clone();
        }
        ledger.and_then(|ledger| ledger.setting(what).ok().flatten()).unwrap_or_default()
    }

    /// The ledger, what SQLite keeps beside it, and the journals.
    fn ledger_files(&self) -> Vec<OwnFile> {
        let journals = ledger::journals_beside(&self.ledger);
        let within = std::fs::read_dir(&journals).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
        let all = [vec![self.ledger.clone(), journals], ledger::files_beside(&self.ledger).to_vec(), within].concat();
        all.into_iter().map(|path| OwnFile { path, kind: OwnKind::Ledger }).collect()
    }

    /// Refuses a run where a file that the program writes, by itself or as one of `more`, lies on one of its drives.
    ///
    /// # Errors
    /// Which file, and what to do.
    pub fn keep_off(&self, more: Vec<OwnFile>, sides: &[RunDrive]) -> Result<(), Refusal> {
        self.workshop.keep_off(&[self.ledger_files(), more].concat(), sides)
    }

    /// Opens the ledger.
    ///
    /// # Errors
    /// See [`ledger::Error`].
    pub fn open_ledger(&self) -> Result<Ledger, ledger::Error> {
        Ledger::open(&self.ledger)
    }

    /// Opens the ledger only to read it; `None` where there is none yet.
    ///
    /// # Errors
    /// See [`ledger::Error`].
    pub fn read_ledger(&self) -> Result<Option<Ledger>, ledger::Error> {
        Ledger::read(&self.ledger)
    }

    /// The job of which a drive holds an unfinished copy by the ledger, and what is to be known of that.
    pub fn unfinished_copy(&self, target_key: &str) -> Option<(i64, Hazard)> {
        let row = self.read_ledger().ok()??.last_job_of(target_key).ok()??;
        let unfinished = row.target_key == target_key && row.started.is_some() && row.outcome.as_deref().is_none_or(|word| word == "interrupted");
        unfinished.then(|| {
            let text =
                format!("it holds an unfinished copy of job {}: give the same two drives to go on with it, or all that was copied is lost", row.id);
            (row.id, Hazard { level: Level::Mind, code: "unfinished-copy", text })
        })
    }
}
