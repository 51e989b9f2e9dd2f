//! The place where jobs are done, the ledger, papers.

pub mod browse;
pub mod config;
pub mod drawing;
mod fonts;
pub mod health;
pub mod ledger;
pub mod pdf;
mod place;
pub mod rates;
pub mod ribbon;
pub mod sheet;
pub mod shelf;
pub mod volume;
pub mod ways;

pub use config::Config;
pub use health::Checkup;
pub use ledger::Ledger;
pub use place::{Bench, workshop};
