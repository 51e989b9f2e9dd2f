//! People's files: copying them out of a volume whole, proved, and never back onto the drive they come from.

mod beneath;
pub mod changes;
pub mod copyout;
mod digest;
mod journal;
pub mod kind;
mod last;
pub mod names;
mod order;
mod place;
mod settle;
mod walker;
mod write;

pub use copyout::{Clash, Collision, Order, Report, copy_out};
pub use place::free;
