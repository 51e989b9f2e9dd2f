//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod built;
mod hostile;
mod kept;
mod open;
mod own;
// The one module whose insides are tested: with it alone, the library need not be compiled twice.
#[allow(dead_code)]
#[path = "../src/own/record.rs"]
mod record;
mod support;
mod write;
