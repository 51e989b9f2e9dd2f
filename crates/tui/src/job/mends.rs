//! How far a mending of a target is.

use badger_drive::Refusal;
use badger_jobs::mending::{MendReady, Mended};
use std::sync::mpsc::Receiver;

/// See the module.
#[derive(Default)]
pub(super) enum Mends {
    /// Nobody asked.
    #[default]
    Nothing,
    /// It is looked for what can be set right.
    Looking(Receiver<Result<Box<MendReady>, Refusal>>),
    /// It is shown, and the tail asked for.
    Shown(Box<MendReady>),
    /// It is being done.
    Doing(Receiver<Result<Mended, Refusal>>),
}

impl Mends {
    /// What is waited for, in words.
    pub fn waits(&self) -> Option<&'static str> {
        match self {
            Self::Looking(_) => Some("○ looking for what can be set right ..."),
            Self::Doing(_) => Some("○ setting it right, and looking at the chain again ..."),
            Self::Nothing | Self::Shown(_) => None,
        }
    }
}
