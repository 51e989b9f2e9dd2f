//! File systems: recognising them by their signatures, walking, reading and checking them, telling what is in
//! use, and showing them as they would be with another size. Nothing here writes.

mod bits;
pub mod cached;
pub mod content;
pub mod exfat;
pub mod ext;
pub mod fat;
pub mod finding;
pub mod folder;
pub mod node;
pub mod ntfs;
mod placed;
pub mod recognise;
pub mod resize;
pub mod survey;
pub mod tree;
mod unpack;
pub mod volume;

use badger_drive::Source;
pub use content::Content;
pub use finding::{Finding, Weight};
pub use folder::Folder;
pub use placed::placed;
pub use recognise::recognise;
pub use resize::{Bounds, View, Wanted};
pub use survey::{Survey, Use};
pub use tree::{Origin, Tree, Volume};
pub use volume::{Kind, Recognised, State};

/// Opens the volume in `len` bytes at byte `start` of a drive for walking.
///
/// # Errors
/// A finding where nothing is recognised, where the format is not walked yet, or where its first structure is broken.
pub fn open(drive: &Source, start: u64, len: u64) -> tree::Result<Box<dyn Volume>> {
    let volume = recognise(&**drive, start, len).ok_or_else(|| Finding::new("not-recognised", "no known file system stands there"))?;
    let cached = cached::Cached::new(drive.clone(), start, len);
    match volume.kind {
        Kind::Fat12 | Kind::Fat16 | Kind::Fat32 => Ok(Box::new(fat::Fat::open(cached)?)),
        Kind::Ext2 | Kind::Ext3 | Kind::Ext4 => Ok(Box::new(ext::Ext::open(cached)?)),
        Kind::ExFat => Ok(Box::new(exfat::ExFat::open(cached)?)),
        Kind::Ntfs => Ok(Box::new(ntfs::Ntfs::open(cached)?)),
        kind => Err(Finding::new("not-walked", format!("{} is recognised, but its files cannot be listed yet", kind.word()))),
    }
}
