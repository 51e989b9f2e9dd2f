//! Image containers: files in which a drive lies, by open formats. Each is a drive like any other here, read in place.
//!
//! A format says where a stretch of the drive lies ([`layer::Layer`]); reading, unpacking, what lies below and what is remembered is
//! the same for all ([`container::Container`]).

pub mod container;
mod held;
mod kind;
mod layer;
mod only;
pub mod own;
mod parts;
mod read;
pub mod write;

pub use container::{Container, Format, open};
pub use kind::{CONTAINERS, OWN};
pub use only::Only;
