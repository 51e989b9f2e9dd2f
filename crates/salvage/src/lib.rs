//! Copies a drive that fails: what is known of it, which read comes next, and the run that does it.
#![forbid(unsafe_code)]

pub mod ends;
pub mod file;
pub mod holed;
mod kind;
pub mod limits;
pub mod map;
pub mod pieces;
pub mod run;
pub mod strategy;
mod through;
mod trouble;
pub mod value;
pub mod view;
mod waits;
mod writer;

pub use kind::{MAPS, is_map};
