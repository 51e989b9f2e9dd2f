//! NTFS. Here its structures, and the system files that tell a volume's name, its state and how full it is; walking is
//! in [`walk`].
//!
//! Follows the publicly documented on-disk structures of NTFS: boot sector, file records with update sequences,
//! resident and non-resident attributes, run lists.

mod check;
mod index;
mod record;
mod reparse;
mod resize;
mod rewrite;
mod runs;
mod survey;
mod walk;

use crate::format::Format;
use crate::volume::{Kind, Recognised, State, Stretch};
use badger_drive::field::{array, le16, le32, le64};
use runs::{Run, runs};
pub use walk::Ntfs;

/// NTFS.
pub(crate) const FORMAT: Format = Format { recognise, open: Some(|volume| Ok(crate::format::alone(Ntfs::open(volume)?))), files: None };

/// Whether the volume's system sleeps: its hibernation file begins with one of the marks of a stored state. Fast start
/// stores one at every shutdown.
pub fn is_asleep(fs: &dyn crate::Tree) -> bool {
    let Ok(file) = crate::tree::find(fs, "/hiberfil.sys") else { return false };
    let mut mark = [0; 4];
    fs.read(&file, 0, &mut mark).is_ok() && matches!(&mark, b"HIBR" | b"hibr" | b"RSTR" | b"rstr")
}

/// The bitmap of a volume is never longer than this; 32 TiB at 4 KiB clusters.
const MOST_BITMAP: u64 = 1 << 30;

struct Geometry {
    cluster: u64,
    record: usize,
    mft: u64,
    clusters: u64,
}

fn geometry(boot: &[u8]) -> Option<Geometry> {
    let sector = u64::from(le16(boot, 11));
    let per = boot[13];
    // Above 128 the byte is a negative power of two.
    let per_cluster = if per > 128 { 1u64.checked_shl(256 - u32::from(per))? } else { u64::from(per) };
    let cluster = sector.checked_mul(per_cluster).filter(|size| (512..=2 << 20).contains(size))?;
    let raw = boot[64] as i8;
    let record = if raw > 0 { cluster.checked_mul(raw as u64)? } else { 1u64.checked_shl(u32::from(raw.unsigned_abs()))? };
    let record = usize::try_from(record).ok().filter(|size| (512..=65536).contains(size))?;
    let clusters = le64(boot, 40) / per_cluster.max(1);
    Some(Geometry { cluster, record, mft: le64(boot, 48), clusters })
}

/// A file record with its update sequence undone; `None` where a sector of it is torn.
fn record(volume: &Stretch, geometry: &Geometry, number: u64) -> Option<Vec<u8>> {
    let at = geometry.mft.checked_mul(geometry.cluster)?.checked_add(number * geometry.record as u64)?;
    fixed(volume.read(at, geometry.record)?, b"FILE")
}

/// Undoes the update sequence of a record or an index block; `None` where it is another structure or torn.
fn fixed(mut bytes: Vec<u8>, magic: &[u8; 4]) -> Option<Vec<u8>> {
    fix(&mut bytes, magic).then_some(bytes)
}

/// The same in place; false where it is another structure or torn.
fn fix(bytes: &mut [u8], magic: &[u8; 4]) -> bool {
    if bytes.get(..4) != Some(magic) {
        return false;
    }
    let (start, count) = (le16(bytes, 4) as usize, le16(bytes, 6) as usize);
    let mark: [u8; 2] = array(bytes, start);
    for step in 1..count {
        let end = step * 512;
        let original: [u8; 2] = array(bytes, start + step * 2);
        match bytes.get_mut(end - 2..end) {
            Some(place) if place == mark => place.copy_from_slice(&original),
            _ => return false,
        }
    }
    true
}

/// Whether a record is the first one of its file. The reference of a further one counts how often the first was used, so
/// that it is not zero even where it leads to record 0.
fn is_base(record: &[u8]) -> bool {
    le64(record, 32) == 0
}

/// The number of the file that record `number` belongs to.
fn owner(number: u64, record: &[u8]) -> u64 {
    if is_base(record) { number } else { le64(record, 32) & walk::NUMBER }
}

/// The attributes of a record one after the other: type and own bytes, 24 of them at least. A damaged one ends them.
fn attributes(record: &[u8]) -> impl Iterator<Item = (u32, &[u8])> {
    let mut at = usize::from(le16(record, 20));
    std::iter::from_fn(move || {
        let (code, len) = (le32(record, at), le32(record, at + 4) as usize);
        let bytes = record.get(at..at.checked_add(len)?).filter(|_| code != u32::MAX && len >= 24)?;
        at += len;
        Some((code, bytes))
    })
}

/// The attribute of a type in a record: its own bytes.
fn attribute(record: &[u8], wanted: u32) -> Option<&[u8]> {
    attributes(record).find(|(code, _)| *code == wanted).map(|(_, bytes)| bytes)
}

fn resident(attribute: &[u8]) -> Option<&[u8]> {
    let (len, at) = (le32(attribute, 16) as usize, le16(attribute, 20) as usize);
    (attribute[8] == 0).then(|| attribute.get(at..at.checked_add(len)?))?
}

/// Counts the clusters in use out of the bitmap.
fn used(volume: &Stretch, geometry: &Geometry, bitmap: &[u8]) -> Option<u64> {
    let mut left = geometry.clusters.div_ceil(8);
    if left > MOST_BITMAP {
        return None;
    }
    let mut clusters = 0u64;
    if bitmap[8] == 0 {
        clusters = resident(bitmap)?.iter().map(|byte| u64::from(byte.count_ones())).sum();
        return Some(clusters * geometry.cluster);
    }
    for (first, count) in runs(bitmap) {
        let mut at = first?.checked_mul(geometry.cluster)?;
        let mut rest = count.checked_mul(geometry.cluster)?.min(left);
        left -= rest;
        while rest > 0 {
            let step = rest.min(1 << 20);
            clusters += volume.read(at, step as usize)?.iter().map(|byte| u64::from(byte.count_ones())).sum::<u64>();
            at += step;
            rest -= step;
        }
    }
    (left == 0).then_some(clusters.min(geometry.clusters) * geometry.cluster)
}

/// NTFS, by its boot sector and the system files that tell its name, its state and how full it is.
fn recognise(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    let sector = le16(head, 11);
    let size = le64(head, 40).checked_add(1)?.checked_mul(u64::from(sector)).filter(|_| &head[3..11] == b"NTFS    ")?;
    let mut volume = Recognised::new(Kind::Ntfs, size);
    volume.most_sector = Some(u32::from(sector));
    volume.id = format!("{:016X}", le64(head, 72));
    let mut damaged = |what: &str| {
        volume.state = State::Damaged;
        volume.problems.push(what.into());
    };
    let Some(geometry) = geometry(head) else {
        damaged("its boot sector contradicts itself");
        return Some(volume);
    };
    let (named, bitmap) = (record(stretch, &geometry, 3), record(stretch, &geometry, 6));
    if named.is_none() {
        damaged("its $Volume record is damaged");
    }
    if bitmap.is_none() {
        damaged("its $Bitmap record is damaged");
    }
    if let Some(record) = named {
        let name = attribute(&record, 0x60).and_then(resident).unwrap_or_default();
        let units: Vec<u16> = name.chunks_exact(2).map(|unit| le16(unit, 0)).collect();
        volume.label = String::from_utf16_lossy(&units);
        match attribute(&record, 0x70).and_then(resident).map(|info| le16(info, 10)) {
            None => volume.state = State::Damaged,
            Some(flags) if flags & 1 != 0 && volume.state == State::Clean => volume.state = State::Dirty,
            Some(_) => {}
        }
    }
    volume.used_bytes = bitmap.and_then(|record| used(stretch, &geometry, attribute(&record, 0x80)?));
    Some(volume)
}
