//! What a drive is: reading, writing, identity, faults, discovery.
//!
//! Everything with sectors is one kind of thing here. A [`Source`] can only be read; a [`Target`] can be written to
//! and comes into being in exactly one place, [`target::Candidate::release`], after every reason to refuse was looked
//! at and the technician typed the target's tail.

pub mod block;
pub mod buffer;
pub mod claims;
pub mod clock;
mod control;
pub mod discover;
pub mod extents;
pub mod field;
pub mod ground;
pub mod identity;
mod io;
pub mod medium;
pub mod open;
pub mod raw;
pub mod sim;
pub mod size;
pub mod sounding;
mod sys;
pub mod target;
pub mod text;
mod tripwire;
pub mod witness;

pub use control::Control;
pub use extents::Extents;
pub use identity::{Bus, Identity};
pub use medium::{Geometry, Medium, ReadError, Source, WriteError, WriteMedium};
pub use open::Workshop;
pub use sounding::Sounding;
pub use target::{Candidate, Refusal, Release, Target};
pub use witness::{Standing, Witness};
