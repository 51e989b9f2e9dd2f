//! What is known of a drive before anything is done with it: what it holds, whether its volumes are sound, what names
//! partitions, what is to be minded.

mod backup;
pub mod hazard;
mod line;
mod looked;
pub mod references;
pub mod stake;
pub mod volumes;

pub use backup::BACKUPS;
pub use hazard::{Hazard, Level};
pub use line::{Line, Stretch, Verdict};
pub use looked::{Content, Looked};
pub use references::{Effect, Reference};
pub use stake::Stake;
pub use volumes::Surveyed;
