//! What is asked of a copy of files, what it tells, and what came of it.

use badger_drive::Outcome;
use badger_fs::Tree;
use badger_fs::tree::Time;
use serde::Serialize;
use std::io;
use std::path::PathBuf;

/// What is done where something is there already.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Collision {
    /// What is there stays.
    Skip,
    /// The new one gets a number.
    KeepBoth,
    /// The new one takes the place of an older one.
    ReplaceIfNewer,
    /// Somebody is asked each time.
    Ask,
}

/// Two files that want one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clash {
    /// The name, relative to the destination.
    pub to: PathBuf,
    /// Bytes and time of what is there.
    pub there: (u64, Option<Time>),
    /// Bytes and time of what comes.
    pub comes: (u64, Option<Time>),
}

/// What is asked for.
pub struct Order<'a> {
    /// Where they are.
    pub tree: &'a dyn Tree,
    /// Names it among all, for the journal.
    pub key: String,
    /// Paths from the top of the tree.
    pub picks: Vec<String>,
    /// The destination; made where it is not there.
    pub into: PathBuf,
    /// The technician knows that it does not lie on what is read, although a layer hides what is below it.
    pub trusts_destination: bool,
    /// Where something is there already.
    pub collision: Collision,
    /// Asked where [`Collision::Ask`] is set; gives one of the others.
    pub ask: &'a (dyn Fn(&Clash) -> Collision + Sync),
}

/// A file of which something, or all, could not be had.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Lost {
    /// Its path in the volume.
    pub path: String,
    /// Why.
    pub why: String,
    /// What of it is zero at the destination: start and length in bytes. Empty where all is missing, or where it changed while
    /// it was read.
    pub stretches: Vec<(u64, u64)>,
}

/// How a copy ended.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Report {
    /// How it ended.
    pub outcome: Outcome,
    /// Files at the destination that were read back equal, those of an earlier run among them.
    pub files: u64,
    /// Folders.
    pub directories: u64,
    /// Symbolic and hard links.
    pub links: u64,
    /// Bytes of the files.
    pub bytes: u64,
    /// Files among them that were there before: brought by an earlier run, or found equal.
    pub resumed: u64,
    /// What could not be read; the first of them.
    pub lost: Vec<Lost>,
    /// How many there are.
    pub lost_count: u64,
    /// Names that were changed: in the volume, at the destination.
    pub renamed: Vec<(String, String)>,
    /// What was there already and stayed.
    pub skipped: Vec<String>,
    /// How many stayed.
    pub skipped_count: u64,
    /// What the destination cannot hold.
    pub not_held: Vec<String>,
    /// The list of checksums.
    pub manifest: Option<PathBuf>,
    /// The list of everything else, where there is anything.
    pub list: Option<PathBuf>,
    /// Seconds.
    pub seconds: f64,
    /// Why it is not proved.
    pub reason: String,
}

/// What ended a copy before its time.
pub(crate) enum Break {
    Stopped,
    Failed(io::Error),
}

impl From<io::Error> for Break {
    fn from(error: io::Error) -> Self {
        Self::Failed(error)
    }
}

/// So many lines of each kind are kept for the report; the lists at the destination hold all.
const MOST_LINES: usize = 1000;

pub(crate) fn push<T>(list: &mut Vec<T>, one: T) {
    if list.len() < MOST_LINES {
        list.push(one);
    }
}
