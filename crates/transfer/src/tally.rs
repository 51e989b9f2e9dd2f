//! What is known of a run so far: a map of the target, which may be filled in any order.

use crate::tree::{Hash, LEAF};
use badger_drive::Extents;
use std::collections::BTreeMap;

/// What is known of a run so far. Places are bytes of the target.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Tally {
    /// What is on the target.
    pub done: Extents<()>,
    /// What came onto it last, in the order in which it came.
    pub latest: Vec<(u64, u64)>,
    /// Bytes written.
    pub written: u64,
    /// Bytes that needed no writing.
    pub skipped: u64,
    /// Seconds spent.
    pub seconds: f64,
    /// Stretches of the source that could not be read; they are zero on the target.
    pub lost: Extents<()>,
    /// Leaves with changes of the plan, and what they should be.
    pub patched: BTreeMap<u64, Hash>,
    /// Whether copying was over.
    pub copied: bool,
}

impl Tally {
    /// Bytes that are on the target.
    pub fn done_bytes(&self) -> u64 {
        self.done.total(|()| true)
    }

    /// Bytes that could not be read.
    pub fn lost_bytes(&self) -> u64 {
        self.lost.total(|()| true)
    }

    /// Forgets what is known of a stretch.
    pub fn forget(&mut self, start: u64, end: u64) {
        self.done.clear(start..end);
        self.lost.clear(start..end);
        let leaves: Vec<u64> = self.patched.range(start / LEAF..end.div_ceil(LEAF)).map(|(leaf, _)| *leaf).collect();
        leaves.iter().for_each(|leaf| _ = self.patched.remove(leaf));
    }

    /// Drops what was noted of stretches that are not done after all: they will be read again.
    pub(crate) fn settle(&mut self) {
        let undone: Vec<_> = self.lost.iter().flat_map(|(range, ())| self.done.gaps(range)).collect();
        undone.into_iter().for_each(|range| self.lost.clear(range));
    }
}

/// What happened since the last note in the journal. Places are bytes of the target.
#[derive(Clone, Debug, Default)]
pub struct Note {
    /// What came onto the target, in the order in which it came.
    pub done: Vec<(u64, u64)>,
    /// What could not be read.
    pub lost: Vec<(u64, u64)>,
    /// Leaves with changes of the plan.
    pub patched: Vec<(u64, Hash)>,
}

impl Note {
    /// Adds a stretch that is on the target.
    pub fn add(&mut self, start: u64, len: u64) {
        match self.done.last_mut() {
            Some((before, held)) if *before + *held == start => *held += len,
            _ => self.done.push((start, len)),
        }
    }
}
