//! What every engine reports while it works, and how a run of it ends.

use serde::{Deserialize, Serialize};

/// What a run is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Phase {
    /// Showing volumes anew and going over what comes out; nothing is written yet.
    Shape,
    /// Taking old tables off the target.
    Clear,
    /// Copying.
    Copy,
    /// Reading the target back.
    Prove,
    /// Reading every file through both file systems.
    Files,
    /// Reading the source a second time.
    Again,
    /// Copying files out.
    Fetch,
    /// Reading a drive that fails.
    Salvage,
}

impl Phase {
    /// The word for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Shape => "going over the plan",
            Self::Clear => "clearing",
            Self::Copy => "copying",
            Self::Prove => "reading back",
            Self::Files => "reading files",
            Self::Again => "second reading",
            Self::Fetch => "copying files",
            Self::Salvage => "salvaging",
        }
    }
}

/// One report. Positions and lengths are bytes, times seconds of the run's clock.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(tag = "event", rename_all = "lowercase")]
pub enum Event {
    /// A phase begins with so many bytes ahead, of which some were done by an earlier run.
    Phase {
        /// Which.
        phase: Phase,
        /// All bytes of the phase.
        total: u64,
        /// Bytes done before.
        done: u64,
        /// Files ahead, where it goes by files.
        #[serde(skip_serializing_if = "Option::is_none")]
        files: Option<u64>,
    },
    /// A stretch was dealt with.
    Moved {
        /// Its start on the target; where files are copied out, the bytes that came before it.
        start: u64,
        /// Its length.
        len: u64,
        /// Time since the run began.
        at: f64,
    },
    /// A stretch of the source could not be read.
    Lost {
        /// Its start on the target.
        start: u64,
        /// Its length.
        len: u64,
    },
    /// Where that stretch lies on the source, which may be elsewhere than on the target, and in several pieces.
    Unreadable {
        /// Its start on the source.
        start: u64,
        /// Its length.
        len: u64,
    },
    /// A stretch that could not be read before was read after all.
    Late {
        /// Its start on the target.
        start: u64,
        /// Its length.
        len: u64,
    },
    /// So much is on the target and in the journal.
    Kept {
        /// Bytes.
        done: u64,
    },
    /// A file is at the destination, and proved.
    File {
        /// Where, relative to the destination.
        path: String,
        /// Its bytes.
        bytes: u64,
    },
    /// A stretch of the target is not what it should be.
    Differs {
        /// Its start on the target.
        start: u64,
        /// Its length.
        len: u64,
    },
}

/// Takes the reports of an engine. Called from its threads; must not wait long.
pub trait Observer: Send + Sync {
    /// One report.
    fn event(&self, event: &Event);
}

/// Takes reports and lets them go.
pub struct Silent;

impl Observer for Silent {
    fn event(&self, _event: &Event) {}
}

impl<F: Fn(&Event) + Send + Sync> Observer for F {
    fn event(&self, event: &Event) {
        self(event);
    }
}

/// How a run ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// Everything that was planned was copied, and the proof holds.
    Proved,
    /// Copied; a proof failed.
    Finished,
    /// Copied, but parts of the source could not be read.
    Incomplete,
    /// Nothing was written.
    Refused,
    /// Broken off; can be picked up again.
    #[default]
    Interrupted,
}

impl Outcome {
    /// The word for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Proved => "proved",
            Self::Finished => "finished, not proved",
            Self::Incomplete => "incomplete",
            Self::Refused => "refused",
            Self::Interrupted => "interrupted",
        }
    }
}
