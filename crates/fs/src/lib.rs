//! File systems: recognising them by their signatures, walking, reading and checking them, telling what is in
//! use, and showing them as they would be with another size. Nothing here writes.

mod bits;
mod btrfs;
pub mod cached;
pub mod content;
pub mod exfat;
pub mod ext;
pub mod fat;
pub mod finding;
pub mod folder;
mod format;
pub mod node;
pub mod ntfs;
mod others;
mod pages;
mod placed;
pub mod recognise;
pub mod resize;
pub mod survey;
pub mod tree;
mod unpack;
pub mod volume;
pub mod walk;
mod xfs;

pub use content::Content;
pub use finding::{Finding, Weight};
pub use folder::Folder;
pub use others::{SWAP_PAGES, swap_mark_of_sleep};
pub use placed::placed;
pub use recognise::{files, open, open_all, recognise};
pub use resize::{Bounds, View, Wanted};
pub use survey::{Survey, Use};
pub use tree::{Origin, Tree, Volume};
pub use volume::{Kind, Recognised, State};
