//! What a drive is: reading, writing, identity, faults, discovery.
//!
//! Everything with sectors is one kind of thing here. A [`Source`] can only be read; a [`Target`] can be written to
//! and comes into being in exactly one place, [`target::Candidate::release`], after every reason to refuse was looked
//! at and the technician typed the target's tail.

mod apart;
pub mod ata;
pub mod block;
pub mod buffer;
pub mod claims;
pub mod clock;
mod control;
pub mod discover;
pub mod error;
pub mod events;
pub mod extents;
pub mod failing;
pub mod field;
pub mod flight;
pub mod gentle;
pub mod ground;
pub mod health;
pub mod identity;
pub mod in_turn;
mod io;
pub mod keep;
pub mod kinds;
pub mod medium;
pub mod narrow;
pub mod open;
pub mod own;
mod paths;
pub mod patience;
mod random;
pub mod raw;
pub mod reads;
mod refusal;
mod release;
mod servers;
pub mod sim;
pub mod size;
pub mod sounding;
mod source;
pub mod split;
mod standing;
mod sys;
pub mod sysfs;
pub mod target;
pub mod text;
mod tripwire;
pub mod within;
pub mod witness;

pub use apart::{Apart, is_apart};
pub use control::Control;
pub use events::{Event, Observer, Outcome, Phase};
pub use extents::Extents;
pub use ground::Ground;
pub use identity::{Bus, Identity};
pub use medium::{Geometry, Holds, Medium, ReadError, Stretch, WriteError, WriteMedium};
pub use open::Workshop;
pub use own::{OwnFile, OwnKind, RunDrive};
pub use patience::Patience;
pub use random::{random, random_below};
pub use refusal::Refusal;
pub use release::Release;
pub use sounding::Sounding;
pub use source::Source;
pub use standing::{Since, Standing};
pub use sysfs::Sysfs;
pub use target::{Candidate, Target};
pub use witness::Witness;
