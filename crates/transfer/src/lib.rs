//! Runs a plan from a source to a target and proves the outcome.
//!
//! [`run::start`] copies, survives read errors, resumes after a kill, reads the target back and says what holds.
//! Engines report to an [`events::Observer`] and obey a [`control::Control`]; they know neither screen nor clock.

pub mod copy;
pub mod events;
mod files;
pub mod hazard;
pub mod image;
pub mod journal;
pub mod looked;
pub mod meter;
pub mod proof;
mod recast;
pub mod references;
pub mod report;
pub mod resume;
pub mod route;
pub mod run;
pub mod tally;
pub mod tree;
pub mod verify;
pub mod volumes;

pub use badger_drive::Control;
pub use events::{Event, Observer, Phase};
pub use hazard::{Hazard, Level};
pub use image::Image;
pub use looked::Looked;
pub use report::{Line, Outcome, Report, Verdict};
