//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod borrowed;
mod lent;
mod support;
