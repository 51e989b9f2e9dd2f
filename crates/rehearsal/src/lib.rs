//! Rehearsals: a drive is started in a virtual machine that is built after the one it goes into. The drive is lent to it for reading only;
//! what the system writes goes to an overlay that is thrown away. The outcome is read off its screen and its serial line.

mod emulator;
mod held;
mod letters;
mod monitor;
mod picture;
mod run;
mod signs;

pub use emulator::Emulator;
pub use letters::Letters;
pub use picture::Picture;
pub use run::{Rehearsal, Rehearsed, Scene};
pub use signs::{Sign, Signs};
