//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod adversary;
mod hazards;
mod honesty;
mod mending;
mod orders;
mod support;
