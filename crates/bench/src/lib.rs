//! Jobs, the ledger, papers.

pub mod config;
pub mod drawing;
pub mod health;
pub mod job;
pub mod ledger;
pub mod rates;
pub mod ribbon;
pub mod sheet;
pub mod stake;
pub mod volume;

pub use config::Config;
pub use health::Checkup;
pub use job::{Bench, Order, Prepared};
pub use ledger::Ledger;
