//! GRUB: what its configurations start.

mod menu;
mod script;

pub(crate) use menu::{Chosen, Outcome, run};
