//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod attacks;
mod copyout;
mod folders;
mod support;
