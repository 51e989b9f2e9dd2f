//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod backup;
mod hazards;
mod references;
