//! Runs a plan from a source to a target and proves the outcome.
//!
//! [`run::start`] copies, survives read errors, resumes after a kill, reads the target back and says what holds.
//! Engines report to an [`events::Observer`] and obey a [`control::Control`]; they know neither screen nor clock.

pub mod copy;
mod files;
pub mod image;
pub mod journal;
pub mod meter;
pub mod proof;
mod recast;
pub mod report;
pub mod resume;
pub mod route;
pub mod run;
pub mod tally;
pub mod tree;
pub mod verify;

pub use badger_drive::{Control, Event, Observer, Outcome, Phase, events};
pub use badger_inspect::{Line, Stretch, Verdict};
pub use image::Image;
pub use report::Report;
