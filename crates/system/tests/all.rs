//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod hostile;
mod linux;
#[path = "support/nt.rs"]
mod nt;
mod registry;
#[path = "../../fs/tests/support/tool.rs"]
mod tool;
mod windows;
