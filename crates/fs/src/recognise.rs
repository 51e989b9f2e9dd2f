//! Recognises what a partition holds, by the signatures and first structures that the public descriptions of each
//! format give, and opens it. Nothing is followed deeper than a fixed number of reads, whatever the bytes say.

use crate::cached::Cached;
use crate::finding::{Finding, Result};
use crate::format::{Format, HEAD};
use crate::tree::{Tree, Volume};
pub use crate::volume::{Kind, Recognised, State, Stretch};
use crate::{btrfs, exfat, ext, fat, ntfs, others, xfs};
use badger_drive::{Medium, Source};
use badger_layout::Table;

/// Every format that is known, in the order in which they are tried: what has a mark of its own before what is told by numbers
/// that make sense.
const FORMATS: [&Format; 15] = [
    &ntfs::FORMAT,
    &exfat::FORMAT,
    &others::BITLOCKER,
    &fat::FORMAT,
    &ext::FORMAT,
    &btrfs::FORMAT,
    &xfs::FORMAT,
    &others::HFS_PLUS,
    &others::APFS,
    &others::LUKS,
    &others::SQUASHFS,
    &others::LVM,
    &others::MD,
    &others::SWAP,
    &others::ISO,
];

fn find(drive: &dyn Medium, start: u64, len: u64) -> Option<(&'static Format, Recognised)> {
    let len = len.min(drive.geometry().size_bytes.saturating_sub(start));
    let stretch = Stretch { drive, start, len };
    let mut head = stretch.read(0, len.min(HEAD as u64) as usize)?;
    head.resize(HEAD, 0);
    let mut all: Vec<(&'static Format, Recognised)> =
        FORMATS.iter().filter_map(|format| Some((*format, (format.recognise)(&stretch, &head)?))).collect();
    // A copy far inside is what a former volume leaves; what begins here counts before it.
    all.sort_by_key(|(_, volume)| volume.copied);
    let others: Vec<Kind> = all.iter().skip(1).filter(|(_, other)| contradicts(&all[0].1, other)).map(|(_, other)| other.kind).collect();
    let (format, mut volume) = all.into_iter().next()?;
    volume.others = others;
    if volume.size_bytes > len {
        let missing = badger_drive::size::thousands(volume.size_bytes - len);
        volume.problems.push(format!("it is {missing} bytes longer than the place it lies in"));
        volume.state = State::Damaged;
    }
    Some((format, volume))
}

/// Whether two formats in one place cannot both be in use. Some live together on purpose: discs that start from a stick as well, and
/// members of a mirror, which hold their own mark and the content.
fn contradicts(volume: &Recognised, other: &Recognised) -> bool {
    let lives_with_others = |kind: Kind| matches!(kind, Kind::Iso9660 | Kind::Md);
    !lives_with_others(volume.kind) && !lives_with_others(other.kind) && !other.copied && volume.kind != other.kind
}

/// What stands in `len` bytes at byte `start` of a drive; `None` where nothing known does.
pub fn recognise(drive: &dyn Medium, start: u64, len: u64) -> Option<Recognised> {
    find(drive, start, len).map(|(_, volume)| volume)
}

/// Opens every volume in `len` bytes at byte `start` of a drive for walking: one, or those of a container.
///
/// # Errors
/// A finding where nothing is recognised, where the format is not walked yet, or where its first structure is broken.
pub fn open_all(drive: &Source, start: u64, len: u64) -> Result<Vec<Box<dyn Volume>>> {
    let unknown = || Finding::new("not-recognised", "no known file system stands there");
    let (format, volume) = find(&**drive, start, len).ok_or_else(unknown)?;
    format.open.ok_or_else(|| match format.files {
        Some(_) => Finding::new("not-checked", format!("files on {} can be read, its structures are not checked here", volume.kind.word())),
        None => Finding::new("not-walked", format!("{} is recognised, but its files cannot be listed yet", volume.kind.word())),
    })?(Cached::new(drive.clone(), start, len))
}

/// Opens what fills its place alone for its files: also of formats of which the structures are not checked here.
///
/// # Errors
/// As [`open`].
pub fn files(drive: &Source, start: u64, len: u64) -> Result<Box<dyn Tree>> {
    match find(&**drive, start, len) {
        Some((Format { files: Some(files), .. }, _)) => files(Cached::new(drive.clone(), start, len)),
        _ => Ok(open(drive, start, len)?),
    }
}

/// Opens the volume that fills its place alone: what is copied, checked and resized as a whole.
///
/// # Errors
/// As [`open_all`], and where there are several or none.
pub fn open(drive: &Source, start: u64, len: u64) -> Result<Box<dyn Volume>> {
    let mut volumes = open_all(drive, start, len)?;
    match (volumes.pop(), volumes.len()) {
        (Some(only), 0) => Ok(only),
        (_, others) => Err(Finding::new("several-volumes", format!("it holds {} volumes, each of which is a thing by itself", others + 1))),
    }
}

/// The volume in every partition of a table, by its number.
pub fn volumes(drive: &dyn Medium, table: &Table) -> Vec<(u32, Recognised)> {
    let sector = u64::from(table.sector);
    let place = |start: u64, sectors: u64| Some((start.checked_mul(sector)?, sectors.checked_mul(sector)?));
    let all = table.data_partitions().into_iter().filter_map(|partition| {
        let (start, len) = place(partition.start, partition.sectors)?;
        Some((partition.number, recognise(drive, start, len)?))
    });
    all.collect()
}
