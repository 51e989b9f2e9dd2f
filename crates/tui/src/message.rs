//! What the screens say to the rest of the program: where to go, what was hit, what to tell.

use crate::step::Step;
use crate::theme::Mean;
use badger_bench::ledger::JobRow;
use ratatui::layout::Rect;
use std::path::PathBuf;

/// The places there are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// The shelf of drives.
    Bench,
    /// One job and its five steps.
    Job,
    /// Files of a drive.
    Dig,
    /// What was done before.
    Ledger,
}

/// Every place with its key and name, in the order of the bar.
pub const PLACES: [(Place, char, &str); 4] =
    [(Place::Bench, '1', "Bench"), (Place::Job, '2', "Job"), (Place::Dig, '3', "Dig"), (Place::Ledger, '5', "Ledger")];

/// What a click on an area means.
#[derive(Clone, Copy, Debug)]
pub enum Hit {
    /// Go to a place.
    Place(Place),
    /// Choose a drive.
    Drive(usize),
    /// Open a job of the list.
    Job(usize),
    /// Look at a step.
    Step(Step),
    /// Choose a line.
    Line(usize),
    /// The surface; the cell follows from where in the area it was hit.
    Surface,
}

/// Areas of a frame, and what a click on each means.
pub type Hits = Vec<(Rect, Hit)>;

/// What a screen asks for that is not its own.
pub enum Message {
    /// Go to a place.
    Go(Place),
    /// Tell this at the bottom.
    Say(Mean, String),
    /// Go to the files of a drive.
    Dig(PathBuf),
    /// Make a job of the marked drives.
    NewJob,
    /// Keep a drive in an image.
    Keep(PathBuf),
    /// Salvage a drive that fails.
    Salvage(PathBuf),
    /// Bring an image, a file or a drive that is lent to the bench.
    Bring(PathBuf),
    /// Open a job of the ledger.
    OpenPast(Box<JobRow>),
    /// What is in the ledger changed.
    LedgerChanged,
}
