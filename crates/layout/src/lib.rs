//! Partition tables and plans.
//!
//! [`table::read`] takes any drive and says what divides it, with every fault it finds. [`plan::exact`] says, as plain
//! data, what a clone will put where; [`fit::plan`] does so for a target of another size, sector or table. Nothing here writes to a drive.

pub mod apm;
pub mod convert;
pub mod fit;
pub mod gpt;
pub mod guid;
pub mod mbr;
pub mod partition;
pub mod plan;
pub mod rules;
pub mod table;
pub mod types;

pub use guid::Guid;
pub use partition::{Partition, Problem};
pub use plan::Plan;
pub use rules::Rules;
pub use table::{Kind, Table};
