//! One order, from two paths to a report: looked at, planned, settled, run, recorded.
//!
//! [`Prepared`] holds both drives and a draft; [`Prepared::settle`] goes over what is to change and makes the plan final. Only
//! such a [`Ready`] order runs: what was shown is what is done.

pub mod activation;
mod imaging;
pub mod machines;
pub mod mending;
mod options;
mod order;
mod outcome;
mod plan;
mod prepared;
mod record;
pub mod rehearsing;
mod run;
pub mod salvage;
pub mod salvaged;
mod sight;
mod starting;

pub use imaging::{ImageOrder, ImageReady, ImageSight, There};
pub use order::Order;
pub use prepared::Prepared;
pub use run::Ready;
pub use sight::Sight;
