//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod adversary;
mod honesty;
mod orders;
mod support;
