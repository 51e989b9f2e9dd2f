//! Jobs, the ledger, papers.

pub mod drawing;
pub mod job;
pub mod ledger;
pub mod rates;
pub mod ribbon;
pub mod sheet;
pub mod stake;
pub mod volume;

pub use job::{Bench, Order, Prepared};
pub use ledger::Ledger;
