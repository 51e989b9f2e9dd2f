//! A new volume of FAT32 with files in it, as it is to be written over whatever stood in its place.
//!
//! Follows the published description of FAT (its version of 2005) and what the firmware interface asks of a system partition.

use super::Fat;
use crate::cached::Cached;
use crate::finding::{Finding, Result};
use badger_drive::Source;
use badger_drive::medium::MemoryMedium;
use std::sync::Arc;

/// Sectors in front of the tables.
const RESERVED: u64 = 32;
/// Systems tell FAT32 by there being at least so many clusters; a few more keep clear of those that count wrongly.
const LEAST_CLUSTERS: u64 = 65_525 + 16;
/// No volume longer than this is made.
const MOST: u64 = 8 << 30;

/// What a new volume is to be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct New<'a> {
    /// Bytes of a sector: 512 to 4096.
    pub sector: u32,
    /// Its length in bytes, whole sectors of it are used.
    pub len: u64,
    /// Number of the first sector on the drive.
    pub first: u64,
    /// Its identifier.
    pub serial: u32,
    /// Up to eleven large letters.
    pub label: &'a str,
}

/// The least bytes that such a volume can have with sectors of so many bytes.
pub fn least(sector: u32) -> u64 {
    let sector = u64::from(sector);
    let table = (LEAST_CLUSTERS + 2) * 4;
    (RESERVED * sector + 2 * table.next_multiple_of(sector) + LEAST_CLUSTERS * sector).next_multiple_of(1 << 20)
}

fn refused(text: impl Into<String>) -> Finding {
    Finding::new("fat-not-made", text)
}

/// Where its parts lie.
struct Shape {
    sector: u64,
    total: u64,
    per_cluster: u64,
    table: u64,
    clusters: u64,
}

fn shape(new: &New) -> Result<Shape> {
    let sector = u64::from(new.sector);
    if !matches!(sector, 512 | 1024 | 2048 | 4096) || new.len > MOST {
        return Err(refused("such a volume is not made here"));
    }
    let total = new.len / sector;
    let with = |per_cluster: u64| {
        // Tables take from the clusters that they are for.
        let most = total.checked_sub(RESERVED)? / per_cluster;
        let table = ((most + 2) * 4).div_ceil(sector);
        let clusters = total.checked_sub(RESERVED + 2 * table)? / per_cluster;
        (clusters >= LEAST_CLUSTERS).then_some(Shape { sector, total, per_cluster, table, clusters })
    };
    [8, 4, 2, 1]
        .into_iter()
        .filter(|per| per * sector <= 4096)
        .find_map(with)
        .ok_or_else(|| refused(format!("{} bytes are too little for FAT32 with sectors of {sector}: it takes {}", new.len, least(new.sector))))
}

/// Everything in front of the root folder's cluster, and that.
fn head(new: &New, shape: &Shape) -> Result<Vec<u8>> {
    let sector = shape.sector as usize;
    let tables = RESERVED as usize * sector;
    let root = tables + 2 * shape.table as usize * sector;
    let mut out = vec![0; root + shape.per_cluster as usize * sector];
    let mut label = [b' '; 11];
    if new.label.len() > 11 || !new.label.is_ascii() {
        return Err(refused("its label is too long"));
    }
    label[..new.label.len()].copy_from_slice(new.label.as_bytes());
    let boot = &mut out[..512];
    boot[..11].copy_from_slice(b"\xeb\x58\x90ZBADGER ");
    boot[11..13].copy_from_slice(&(sector as u16).to_le_bytes());
    boot[13] = shape.per_cluster as u8;
    boot[14..16].copy_from_slice(&(RESERVED as u16).to_le_bytes());
    boot[16] = 2;
    boot[21] = 0xf8;
    boot[24..26].copy_from_slice(&63u16.to_le_bytes());
    boot[26..28].copy_from_slice(&255u16.to_le_bytes());
    boot[28..32].copy_from_slice(&u32::try_from(new.first).unwrap_or(0).to_le_bytes());
    boot[32..36].copy_from_slice(&(shape.total as u32).to_le_bytes());
    boot[36..40].copy_from_slice(&(shape.table as u32).to_le_bytes());
    boot[44..48].copy_from_slice(&2u32.to_le_bytes());
    boot[48..50].copy_from_slice(&1u16.to_le_bytes());
    boot[50..52].copy_from_slice(&6u16.to_le_bytes());
    boot[64] = 0x80;
    boot[66] = 0x29;
    boot[67..71].copy_from_slice(&new.serial.to_le_bytes());
    boot[71..82].copy_from_slice(&label);
    boot[82..90].copy_from_slice(b"FAT32   ");
    // Whoever starts it by the old way goes on with the next drive.
    boot[90..94].copy_from_slice(&[0xcd, 0x18, 0xeb, 0xfe]);
    boot[510..512].copy_from_slice(&[0x55, 0xaa]);
    let info = &mut out[sector..sector + 512];
    info[..4].copy_from_slice(b"RRaA");
    info[484..488].copy_from_slice(b"rrAa");
    info[488..492].copy_from_slice(&(shape.clusters as u32 - 1).to_le_bytes());
    info[492..496].copy_from_slice(&3u32.to_le_bytes());
    info[510..512].copy_from_slice(&[0x55, 0xaa]);
    out.copy_within(..2 * sector, 6 * sector);
    for copy in 0..2 {
        let at = tables + copy * shape.table as usize * sector;
        for (entry, value) in [0x0fff_fff8u32, 0x0fff_ffff, 0x0fff_ffff].into_iter().enumerate() {
            out[at + entry * 4..at + entry * 4 + 4].copy_from_slice(&value.to_le_bytes());
        }
    }
    // The label once more, as systems show it.
    if !new.label.is_empty() {
        out[root..root + 11].copy_from_slice(&label);
        out[root + 11] = 8;
        out[root + 24..root + 26].copy_from_slice(&super::add::DAY.to_le_bytes());
    }
    Ok(out)
}

/// What has to be written so that the volume stands there with its files: places counted from its first byte. What is not named may hold
/// anything.
///
/// # Errors
/// It is too small, or the files do not fit, or cannot be named there.
pub fn made(new: &New, files: &[(&str, &[u8])]) -> Result<Vec<(u64, Vec<u8>)>> {
    let shape = shape(new)?;
    let mut head = head(new, &shape)?;
    let mut bytes = vec![0; (shape.total * shape.sector) as usize];
    bytes[..head.len()].copy_from_slice(&head);
    let drive = Source::detached(Arc::new(MemoryMedium::new(bytes, new.sector)));
    let changes = Fat::open(Cached::new(drive, 0, shape.total * shape.sector))?.with_files(files)?;
    let mut behind = Vec::new();
    for (at, bytes) in changes {
        let split = (head.len() as u64).saturating_sub(at).min(bytes.len() as u64) as usize;
        if split > 0 {
            head[at as usize..at as usize + split].copy_from_slice(&bytes[..split]);
        }
        if split < bytes.len() {
            behind.push((at + split as u64, bytes[split..].to_vec()));
        }
    }
    // A copy of the counts stands beside the copy of the boot sector.
    let sector = shape.sector as usize;
    head.copy_within(sector..2 * sector, 7 * sector);
    Ok(std::iter::once((0, head)).chain(behind).collect())
}
