//! File systems: recognising them by their signatures.

mod ntfs;
pub mod recognise;

pub use recognise::{Kind, State, Volume, recognise};
