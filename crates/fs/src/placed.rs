//! What a volume keeps of its place on the drive.

use crate::recognise::recognise;
use crate::volume::Kind;
use badger_drive::Source;
use badger_drive::field::{le16, le64};

/// What must be written over a volume that is copied as it is to another place, so that it knows where it begins: bytes
/// of the volume and what they become. `first` is its first sector there, in sectors of the size it had.
pub fn placed(drive: &Source, start: u64, len: u64, first: u64) -> Vec<(u64, Vec<u8>)> {
    let Some(kind) = recognise(&**drive, start, len).map(|volume| volume.kind) else { return Vec::new() };
    let read = |at: u64, len: usize| {
        let mut bytes = vec![0; len];
        drive.read_at(start + at, &mut bytes).ok().map(|()| bytes)
    };
    let Some(boot) = read(0, 512) else { return Vec::new() };
    let short = u32::try_from(first).unwrap_or(0).to_le_bytes().to_vec();
    // Copies are only set right where they are what they should be.
    let copy = |at: u64| (at > 0 && at + 512 <= len && read(at, 512).is_some_and(|copy| copy[..28] == boot[..28])).then(|| (at + 28, short.clone()));
    let sector = u64::from(le16(&boot, 11));
    match kind {
        Kind::Fat12 | Kind::Fat16 => vec![(28, short)],
        Kind::Fat32 => std::iter::once((28, short.clone())).chain(copy(u64::from(le16(&boot, 50)) * sector)).collect(),
        Kind::Ntfs => std::iter::once((28, short.clone())).chain(copy(le64(&boot, 40).saturating_mul(sector))).collect(),
        Kind::ExFat => crate::exfat::placed(&boot, &read, first),
        _ => Vec::new(),
    }
}
