//! What is asked for.

use badger_layout::Rules;
use badger_layout::plan::{Ids, Rest};
use badger_system::Machine;
use badger_system::mend::Wishes;
use std::path::PathBuf;

/// What is asked for.
#[derive(Clone, Debug)]
pub struct Order {
    /// Path of the source.
    pub source: PathBuf,
    /// Path of the target.
    pub target: PathBuf,
    /// Size of a target file that shall be made, in bytes.
    pub new_size: Option<u64>,
    /// Identifiers on the target.
    pub ids: Ids,
    /// Begin anew even where an unfinished run could be gone on with.
    pub restart: bool,
    /// Read the source a second time after the proof.
    pub again: bool,
    /// Copy only what is in use, and what becomes of the rest of the target.
    pub used: Option<Rest>,
    /// How the partitions are to fit the target; `None` for a clone as it is.
    pub fit: Option<Rules>,
    /// The machine that the target goes into, where somebody said.
    pub machine: Option<Machine>,
    /// What is set right on the target beyond what the copy itself broke.
    pub wishes: Wishes,
    /// The customer's ticket; may be empty.
    pub ticket: String,
    /// Customer; may be empty.
    pub customer: String,
    /// Who does it; may be empty.
    pub technician: String,
}

impl Order {
    /// An exact clone that keeps identifiers.
    pub fn new(source: impl Into<PathBuf>, target: impl Into<PathBuf>) -> Self {
        let none = String::new;
        Self {
            source: source.into(),
            target: target.into(),
            new_size: None,
            ids: Ids::Keep,
            restart: false,
            again: false,
            used: None,
            fit: None,
            machine: None,
            wishes: Wishes::default(),
            ticket: none(),
            customer: none(),
            technician: none(),
        }
    }
}
