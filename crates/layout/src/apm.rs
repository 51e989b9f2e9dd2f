//! Apple partition maps, reading only. Follows "Inside Macintosh: Devices", SCSI Manager, "The Structure of Block
//! Devices": a driver descriptor in block 0, map entries from block 1 on, all big endian.

use crate::partition::{Partition, Problem};
use crate::types::TypeCode;
use badger_drive::field::{be16, be32};

/// No map is longer.
const MOST: u32 = 256;

/// Reads the map. `block` gives a 512-byte block by its number. `None` where there is no map.
pub fn read(mut block: impl FnMut(u64) -> Option<Vec<u8>>, sectors: u64, sector: u32) -> Option<(Vec<Partition>, Vec<Problem>)> {
    let first = block(0)?;
    let entry = block(1)?;
    if be16(&first, 0) != 0x4552 || be16(&entry, 0) != 0x504d {
        return None;
    }
    let (mut partitions, mut problems) = (Vec::new(), Vec::new());
    let count = be32(&entry, 4);
    if count > MOST {
        problems.push(Problem::grave("apm-too-many", format!("the Apple map says it has {count} entries; the first {MOST} are read")));
    }
    let scale = |blocks: u32| u64::from(blocks) * 512 / u64::from(sector);
    for number in 1..=count.min(MOST) {
        let Some(entry) = block(u64::from(number)).filter(|entry| be16(entry, 0) == 0x504d) else {
            problems.push(Problem::grave("apm-entry-damaged", format!("entry {number} of the Apple map cannot be read or is none")));
            break;
        };
        let text = |at: usize| String::from_utf8_lossy(&entry[at..at + 32]).trim_end_matches('\0').split('\0').next().unwrap_or("").to_string();
        let (start, size) = (scale(be32(&entry, 8)), scale(be32(&entry, 12)));
        let type_code = TypeCode::Apm(text(48));
        if type_code.is_free() || size == 0 {
            continue;
        }
        if start + size > sectors {
            problems.push(Problem::grave("apm-past-end", format!("partition {number} reaches past the end of the drive")));
        }
        partitions.push(Partition { name: text(16), ..Partition::new(number, start, size, type_code) });
    }
    Some((partitions, problems))
}
