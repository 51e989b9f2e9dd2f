//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod built;
mod hostile;
mod open;
mod own;
mod support;
mod write;
