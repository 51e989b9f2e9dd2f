//! Partition tables and plans.
//!
//! [`table::read`] takes any drive and says what divides it, with every fault it finds. [`plan::exact`] says, as plain
//! data, what a clone will put where. Nothing here writes to a drive.

pub mod apm;
pub mod gpt;
pub mod guid;
pub mod mbr;
pub mod plan;
pub mod table;
pub mod types;

pub use guid::Guid;
pub use plan::Plan;
pub use table::{Kind, Partition, Problem, Table};
