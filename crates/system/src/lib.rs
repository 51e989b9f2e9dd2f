//! What starts a machine: boot chains link by link, and registry files. Reads only what it is given, and knows no interface.

mod advice;
pub mod append;
pub mod archive;
mod bios;
mod bootcode;
pub mod chain;
mod efi;
mod elf;
mod entries;
pub mod firmware_key;
mod grub;
mod kernel;
mod letters;
pub mod licence;
pub mod link;
pub mod linux;
mod loader;
pub mod machine;
pub mod mend;
pub mod patch;
pub mod pe;
pub mod places;
pub mod registry;
pub mod store;
pub mod uefi;
mod version;
mod windows;
mod xz;

pub use chain::{chains, lines};
pub use link::{Chain, Firmware, Link};
pub use machine::Machine;
