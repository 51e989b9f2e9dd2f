//! The outcome of a run, in the form scripts may rely on.

pub use badger_drive::Outcome;
use badger_drive::size::human;
use badger_inspect::{Line, Stretch, Verdict};
use serde::{Deserialize, Serialize};

/// The hashes of a run, roots of the tree that `docs/formats/hash-tree.md` describes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hashes {
    /// Always `blake3`.
    pub algorithm: String,
    /// Bytes under one leaf of the tree.
    pub leaf_bytes: u64,
    /// The source as it was read; empty where it was not read whole.
    pub source: String,
    /// What the target should hold: the source with the plan's intended changes.
    pub expected: String,
    /// The target as it was read back, over the length of the source.
    pub target: String,
}

impl Default for Hashes {
    fn default() -> Self {
        let none = String::new;
        Self { algorithm: "blake3".into(), leaf_bytes: crate::tree::LEAF, source: none(), expected: none(), target: none() }
    }
}

/// The whole outcome.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Report {
    /// How it ended.
    pub outcome: Outcome,
    /// Number of the job in the ledger; 0 where there is none.
    pub job: i64,
    /// Path of the source.
    pub source: String,
    /// Path of the target.
    pub target: String,
    /// Whether the target is an image.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub image: bool,
    /// Bytes the plan copies.
    pub planned_bytes: u64,
    /// Bytes read from the source, known holes included.
    pub read_bytes: u64,
    /// Bytes written to the target.
    pub written_bytes: u64,
    /// Bytes that needed no writing: zero on both sides.
    pub skipped_bytes: u64,
    /// Bytes that could not be read.
    pub lost_bytes: u64,
    /// Where they are.
    pub lost: Vec<Stretch>,
    /// Partitions that stayed behind by the plan, each by number, type and size.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<String>,
    /// Time of the run's clock.
    pub seconds: f64,
    /// Hashes.
    pub hash: Hashes,
    /// What was proved.
    pub proof: Vec<Line>,
    /// Why it is not proved; empty where it is.
    pub reason: String,
    /// The stable code of a refusal; empty otherwise.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub code: String,
}

impl Report {
    /// A report of nothing done yet.
    pub fn new(source: String, target: String) -> Self {
        Self {
            outcome: Outcome::Refused,
            job: 0,
            source,
            target,
            image: false,
            planned_bytes: 0,
            read_bytes: 0,
            written_bytes: 0,
            skipped_bytes: 0,
            lost_bytes: 0,
            lost: Vec::new(),
            left_out: Vec::new(),
            seconds: 0.0,
            hash: Hashes::default(),
            proof: Vec::new(),
            reason: String::new(),
            code: String::new(),
        }
    }

    /// Adds a line behind what is said of starting; where it stands.
    pub fn say_of_boot(&mut self, line: Line) -> usize {
        let place = self.proof.iter().rposition(|line| line.what == "boot").map_or(self.proof.len(), |at| at + 1);
        self.proof.insert(place, line);
        place
    }

    /// The worst of everything that is known is the verdict of a copy, whatever else holds; and why.
    pub fn verdict(&self) -> (Outcome, String) {
        let lost = (!self.lost.is_empty()).then(|| {
            format!("{} in {} stretches of the source could not be read and are zero on the target", human(self.lost_bytes), self.lost.len())
        });
        let failed = self.proof.iter().find(|line| line.result == Verdict::Fails).or_else(|| self.proof.iter().find(|line| line.doubts_source()));
        let failed = failed.map(|line| line.text.clone());
        match (failed, lost) {
            (Some(failed), Some(lost)) => (Outcome::Finished, format!("{failed}. Besides, {lost}")),
            (Some(failed), None) => (Outcome::Finished, failed),
            (None, Some(lost)) => (Outcome::Incomplete, lost),
            (None, None) => (Outcome::Proved, String::new()),
        }
    }
}
