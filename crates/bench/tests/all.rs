//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod browse;
mod ledger;
mod papers;
