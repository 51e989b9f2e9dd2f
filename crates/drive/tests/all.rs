//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod aliases;
mod discover;
mod hangs;
mod health;
mod release;
mod simulated;
mod support;
