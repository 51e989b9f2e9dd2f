//! What going over a whole volume brings: what is in use and for what, and what is wrong.

use crate::bits::Bits;
use crate::finding::{Finding, Weight};
use badger_drive::Extents;
use badger_drive::size::thousands;
use std::collections::BTreeMap;
use std::ops::Range;

/// What a stretch of a volume is used for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Use {
    /// The format's own structures, directories among them.
    Metadata,
    /// Content of files.
    Data,
}

/// Findings of one kind are listed up to this number and counted beyond it.
const MOST_OF_A_KIND: u64 = 50;

/// What was found in a volume.
#[derive(Clone, Debug, Default)]
pub struct Survey {
    /// What is in use, in bytes of the volume: whatever the format's own map calls used, and whatever a file or a
    /// structure lies on.
    pub usage: Extents<Use>,
    /// What is wrong; a clean volume has none above a note.
    pub findings: Vec<Finding>,
    /// Files, links and other entries, each once.
    pub files: u64,
    /// Directories.
    pub directories: u64,
    /// Structures that hold places and may be full: where places change they may need room beside them.
    pub spread: u64,
}

impl Survey {
    /// Whether what is in use can be told from what is free.
    pub fn is_trusted(&self) -> bool {
        self.findings.iter().all(|finding| finding.weight < Weight::Grave)
    }

    /// Whether nothing is wrong.
    pub fn is_sound(&self) -> bool {
        self.findings.iter().all(|finding| finding.weight < Weight::Fault)
    }

    /// Without what a damaged volume says of places beyond its end.
    pub(crate) fn within(mut self, len: u64) -> Self {
        self.usage.clear(len..u64::MAX);
        self
    }

    /// Bytes in use.
    pub fn used(&self) -> u64 {
        self.usage.total(|_| true)
    }
}

/// Findings as they come in, not more of a kind than anybody reads.
#[derive(Default)]
pub(crate) struct Findings {
    list: Vec<Finding>,
    counts: BTreeMap<&'static str, (u64, Weight)>,
}

impl Findings {
    pub fn add(&mut self, finding: Finding) {
        let (count, weight) = self.counts.entry(finding.code).or_insert((0, finding.weight));
        *count += 1;
        *weight = (*weight).max(finding.weight);
        if *count <= MOST_OF_A_KIND {
            self.list.push(finding);
        }
    }

    pub fn finish(mut self) -> Vec<Finding> {
        for (code, (count, weight)) in self.counts {
            if count > MOST_OF_A_KIND {
                let more = Finding::new(code, format!("and {} more of this kind", thousands(count - MOST_OF_A_KIND)));
                self.list.push(Finding { weight, ..more });
            }
        }
        self.list
    }
}

/// Who lies where: units of a volume (clusters, blocks), each claimed by one owner.
pub(crate) struct Claims {
    /// Byte of the volume where the first unit lies, the bytes of a unit, and the first one's number.
    base: u64,
    unit: u64,
    first: u64,
    /// Word for a unit on a screen.
    word: &'static str,
    all: Bits,
    metadata: Bits,
    pub findings: Findings,
}

impl Claims {
    pub fn new(base: u64, unit: u64, first: u64, count: u64, word: &'static str) -> Self {
        let count = first.saturating_add(count);
        Self { base, unit, first, word, all: Bits::new(count), metadata: Bits::new(count), findings: Findings::default() }
    }

    fn place(&self, unit: u64) -> u64 {
        self.base.saturating_add(unit.saturating_sub(self.first).saturating_mul(self.unit))
    }

    /// Claims units for an owner. One that is claimed already is a finding with this code.
    pub fn claim(&mut self, units: Range<u64>, use_: Use, code: &'static str, owner: impl FnOnce() -> String) {
        if use_ == Use::Metadata {
            self.metadata.set(units.clone());
        }
        if let Some(twice) = self.all.set(units) {
            let at = self.place(twice);
            self.findings.add(Finding::new(code, format!("{} {twice} belongs to {} and to another one as well", self.word, owner())).at(at));
        }
    }

    /// Calls units metadata that are claimed already.
    pub fn mark_metadata(&mut self, units: Range<u64>) {
        self.metadata.set(units);
    }

    pub fn has(&self, unit: u64) -> bool {
        self.all.has(unit)
    }

    pub fn claimed(&self) -> &Bits {
        &self.all
    }

    /// Holds the claims against the format's own map. Units in the map that nobody claims are findings with the code
    /// `lost`, claimed ones that the map calls free with the code `free`. What is in use is both together.
    pub fn finish(mut self, map: &Bits, lost: &'static str, free: &'static str, survey: &mut Survey) {
        let word = self.word;
        let named = |range: &Range<u64>| match range.end - range.start {
            1 => format!("{word} {}", range.start),
            count => format!("{word}s {} to {} ({})", range.start, range.end - 1, thousands(count)),
        };
        for range in map.without(&self.all) {
            let text = format!("{} in use, but no file has them", named(&range));
            self.findings.add(Finding::new(lost, text).at(self.place(range.start)));
        }
        for range in self.all.without(map) {
            let text = format!("{} free in the map, but a file lies there", named(&range));
            self.findings.add(Finding::new(free, text).at(self.place(range.start)));
        }
        for (bits, use_) in [(map, Use::Data), (&self.all, Use::Data), (&self.metadata, Use::Metadata)] {
            bits.ranges().for_each(|range| survey.usage.set(self.place(range.start)..self.place(range.end), use_));
        }
        survey.findings.extend(self.findings.finish());
    }
}
