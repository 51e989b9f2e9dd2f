//! The GUID partition table, following the UEFI specification, 5.3: a protective MBR, a header in sector 1 with its
//! entries, and a second copy of both at the end of the drive.

use crate::guid::Guid;
use crate::mbr::{Entry as MbrEntry, Mbr};
use crate::partition::{Partition, Problem};
use crate::types::TypeCode;
use badger_drive::field::{le32, le64};

/// Largest entry array that is read, in bytes; the usual one has 16 KiB.
const MOST_ARRAY: u64 = 1 << 20;

/// One used entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Its place in the array, from 0.
    pub slot: u32,
    /// Type.
    pub type_id: Guid,
    /// The partition's own identifier.
    pub id: Guid,
    /// First sector.
    pub first: u64,
    /// Last sector, inclusive.
    pub last: u64,
    /// Attribute bits.
    pub attributes: u64,
    /// Up to 36 UTF-16 units, as they stand.
    pub name: [u16; 36],
    /// What lies behind the first 128 bytes in entries that are longer.
    pub extra: Vec<u8>,
}

impl Entry {
    /// The name for a screen.
    pub fn shown_name(&self) -> String {
        let end = self.name.iter().position(|unit| *unit == 0).unwrap_or(36);
        String::from_utf16_lossy(&self.name[..end])
    }
}

/// A whole table, independent of which copy it was read from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gpt {
    /// The disk's identifier.
    pub disk_id: Guid,
    /// First sector partitions may use.
    pub first_usable: u64,
    /// Last sector partitions may use.
    pub last_usable: u64,
    /// Where the second copy's header is.
    pub backup_at: u64,
    /// First sector of the first copy's array.
    pub entries_at: u64,
    /// Number of slots.
    pub slots: u32,
    /// Bytes a slot takes: 128 or more.
    pub slot_size: u32,
    /// The used entries in slot order.
    pub entries: Vec<Entry>,
    /// The MBR in front, protective or hybrid.
    pub mbr: Mbr,
}

struct Header {
    at: u64,
    other: u64,
    first_usable: u64,
    last_usable: u64,
    disk_id: Guid,
    entries_at: u64,
    slots: u32,
    slot_size: u32,
    array_crc: u32,
}

fn header(bytes: &[u8], at: u64) -> Result<Header, String> {
    if bytes.get(..8) != Some(b"EFI PART") {
        return Err("no header there".into());
    }
    let size = le32(bytes, 12) as usize;
    if !(92..=bytes.len()).contains(&size) {
        return Err(format!("its header claims a size of {size} bytes"));
    }
    let mut summed = bytes[..size].to_vec();
    summed[16..20].fill(0);
    if crc32fast::hash(&summed) != le32(bytes, 16) {
        return Err("the checksum of its header is wrong".into());
    }
    let guid = |at: usize| Guid(std::array::from_fn(|byte| bytes[at + byte]));
    let header = Header {
        at: le64(bytes, 24),
        other: le64(bytes, 32),
        first_usable: le64(bytes, 40),
        last_usable: le64(bytes, 48),
        disk_id: guid(56),
        entries_at: le64(bytes, 72),
        slots: le32(bytes, 80),
        slot_size: le32(bytes, 84),
        array_crc: le32(bytes, 88),
    };
    if header.at != at {
        return Err(format!("its header says it stands at sector {}, but it stands at {at}", header.at));
    }
    if header.slot_size < 128 || !header.slot_size.is_multiple_of(8) || u64::from(header.slots) * u64::from(header.slot_size) > MOST_ARRAY {
        return Err(format!("its header claims {} entries of {} bytes", header.slots, header.slot_size));
    }
    Ok(header)
}

fn entry(bytes: &[u8], slot: u32) -> Option<Entry> {
    let guid = |at: usize| Guid(std::array::from_fn(|byte| bytes[at + byte]));
    let type_id = guid(0);
    (type_id != Guid::ZERO).then(|| Entry {
        slot,
        type_id,
        id: guid(16),
        first: le64(bytes, 32),
        last: le64(bytes, 40),
        attributes: le64(bytes, 48),
        name: std::array::from_fn(|unit| u16::from_le_bytes([bytes[56 + unit * 2], bytes[57 + unit * 2]])),
        extra: bytes[128..].to_vec(),
    })
}

struct Copy {
    header: Header,
    entries: Vec<Entry>,
}

/// Gives `count` sectors from `at` on, or nothing where they cannot be read.
pub type ReadSectors<'a> = dyn FnMut(u64, u64) -> Option<Vec<u8>> + 'a;

fn copy(read: &mut ReadSectors, at: u64, sector: u32) -> Result<Copy, String> {
    let bytes = read(at, 1).ok_or_else(|| format!("sector {at} cannot be read"))?;
    let header = header(&bytes, at)?;
    let size = u64::from(header.slots) * u64::from(header.slot_size);
    let array = read(header.entries_at, size.div_ceil(u64::from(sector))).ok_or("its entries cannot be read")?;
    let array = array.get(..size as usize).ok_or("its entries cannot be read")?;
    if crc32fast::hash(array) != header.array_crc {
        return Err("the checksum of its entries is wrong".into());
    }
    let entries = array.chunks_exact(header.slot_size as usize).zip(0..).filter_map(|(bytes, slot)| entry(bytes, slot)).collect();
    Ok(Copy { header, entries })
}

/// Reads both copies. `None` where neither is there at all; with a table come all faults that were found.
pub fn read(read: &mut ReadSectors, mbr: &Mbr, sectors: u64, sector: u32) -> Option<(Gpt, Vec<Problem>)> {
    let end = sectors.checked_sub(1)?;
    let protective = mbr.entries.iter().any(|entry| entry.code == 0xee);
    let primary = copy(read, 1, sector);
    let mut problems = Vec::new();
    let named = primary.as_ref().ok().map(|copy| copy.header.other).filter(|at| *at < sectors && *at != 1);
    let mut backup_at = named.unwrap_or(end);
    let mut backup = copy(read, backup_at, sector);
    if backup.is_err() && backup_at != end {
        let last = copy(read, end, sector);
        if last.is_ok() {
            (backup, backup_at) = (last, end);
        }
    }
    let (used, spare) = match (primary, backup) {
        (Err(first), Err(second)) => {
            // Without either copy only a protective entry could still speak for this kind of table.
            if !protective {
                return None;
            }
            problems
                .push(Problem::grave("gpt-both-damaged", format!("both copies of the table are damaged: the first: {first}; the second: {second}")));
            let empty = Gpt {
                disk_id: Guid::ZERO,
                first_usable: 0,
                last_usable: 0,
                backup_at: end,
                entries_at: 2,
                slots: 0,
                slot_size: 128,
                entries: Vec::new(),
                mbr: mbr.clone(),
            };
            return Some((empty, problems));
        }
        (Ok(first), Err(why)) => {
            problems.push(Problem::grave(
                "gpt-backup-damaged",
                format!("the second copy of the table (sector {backup_at}) is damaged: {why}; the first one is used"),
            ));
            (first, None)
        }
        (Err(why), Ok(second)) => {
            problems.push(Problem::grave("gpt-primary-damaged", format!("the first copy of the table is damaged: {why}; the second one is used")));
            (second, None)
        }
        (Ok(first), Ok(second)) => (first, Some(second)),
    };
    let from_primary = used.header.at == 1;
    problems.extend(problems_of_copies(&used, spare.as_ref(), backup_at, sectors));
    problems.extend(problems_in_front(mbr, sectors));
    let gpt = Gpt {
        disk_id: used.header.disk_id,
        first_usable: used.header.first_usable,
        last_usable: used.header.last_usable,
        backup_at,
        entries_at: if from_primary { used.header.entries_at } else { 2 },
        slots: used.header.slots,
        slot_size: used.header.slot_size,
        entries: used.entries,
        mbr: mbr.clone(),
    };
    problems.extend(gpt.check(sectors));
    Some((gpt, problems))
}

/// What is wrong between the copies of a table: the one that is used, and the other where both are whole.
fn problems_of_copies(used: &Copy, spare: Option<&Copy>, backup_at: u64, sectors: u64) -> Vec<Problem> {
    let (mut problems, end, from_primary) = (Vec::new(), sectors - 1, used.header.at == 1);
    if let Some(spare) = spare {
        let differs = spare.entries != used.entries || spare.header.disk_id != used.header.disk_id;
        if differs {
            problems.push(Problem::grave("gpt-copies-differ", "the two copies of the table name different partitions; the first one is used"));
        }
        if spare.header.other != 1 {
            problems.push(Problem::light(
                "gpt-backup-points-wrong",
                format!("the second copy looks for the first at sector {}, not at 1", spare.header.other),
            ));
        }
    }
    if backup_at < end && (spare.is_some() || !from_primary) {
        let free = end - backup_at;
        problems.push(Problem::light(
            "gpt-backup-not-at-end",
            format!("the second copy stands at sector {backup_at}, {free} sectors before the end of the drive"),
        ));
    }
    if from_primary && used.header.other >= sectors {
        problems.push(Problem::grave(
            "gpt-past-end",
            format!("the table is for a drive of {} sectors, this one has {sectors}", used.header.other.saturating_add(1)),
        ));
    }
    problems
}

/// What is wrong with the MBR in front of a table.
fn problems_in_front(mbr: &Mbr, sectors: u64) -> Vec<Problem> {
    let (mut problems, protective) = (Vec::new(), mbr.entries.iter().any(|entry| entry.code == 0xee));
    if mbr.entries.iter().any(|entry| !matches!(entry.code, 0 | 0xee)) && protective {
        problems.push(Problem::light("gpt-hybrid", "the MBR in front names partitions too (hybrid); old systems follow it instead of the GPT"));
    }
    match mbr.entries.iter().find(|entry| entry.code == 0xee) {
        None => problems
            .push(Problem::light("gpt-no-protective", "the MBR in front does not protect the table; old programs may take the drive for empty")),
        Some(entry) => {
            let whole = u64::from(entry.start) + u64::from(entry.sectors);
            if entry.sectors != u32::MAX && whole != sectors && !problems.iter().any(|p| p.code == "gpt-hybrid") {
                problems.push(Problem::light("gpt-protective-size", format!("the protective entry covers {whole} of {sectors} sectors")));
            }
        }
    }
    problems
}

impl Gpt {
    /// The partitions, numbered by their slots from 1.
    pub fn partitions(&self) -> Vec<Partition> {
        let all = self.entries.iter().map(|entry| {
            let sectors = entry.last.checked_sub(entry.first).map_or(0, |length| length.saturating_add(1));
            Partition {
                name: entry.shown_name(),
                id: entry.id.to_string(),
                bootable: entry.attributes & 4 != 0,
                attributes: entry.attributes,
                ..Partition::new(entry.slot + 1, entry.first, sectors, TypeCode::Gpt(entry.type_id))
            }
        });
        all.collect()
    }

    fn check(&self, sectors: u64) -> Vec<Problem> {
        let mut problems = Vec::new();
        for entry in &self.entries {
            let number = entry.slot + 1;
            if entry.last < entry.first {
                problems.push(Problem::grave("gpt-entry-backwards", format!("partition {number} ends before it starts")));
            } else if entry.first < self.first_usable || entry.last > self.last_usable {
                problems.push(Problem::light(
                    "gpt-entry-outside",
                    format!("partition {number} reaches out of the sectors the table allows ({} to {})", self.first_usable, self.last_usable),
                ));
            }
        }
        let mut ids: Vec<Guid> = self.entries.iter().map(|entry| entry.id).collect();
        ids.sort();
        if ids.windows(2).any(|pair| pair[0] == pair[1]) {
            problems.push(Problem::light("gpt-same-ids", "two partitions carry the same identifier"));
        }
        problems.extend(crate::partition::overlaps(&self.partitions(), sectors, "gpt"));
        problems
    }

    fn array_sectors(&self, sector: u32) -> u64 {
        (u64::from(self.slots) * u64::from(self.slot_size)).div_ceil(u64::from(sector))
    }

    /// Sets the table right for a drive of `sectors`: the second copy at the end, the limits, the protective entry.
    pub fn fit_to(&mut self, sectors: u64, sector: u32) {
        self.backup_at = sectors - 1;
        self.last_usable = sectors - 2 - self.array_sectors(sector);
        let whole = u32::try_from(sectors - 1).unwrap_or(u32::MAX);
        let hybrid = self.mbr.entries.iter().any(|entry| !matches!(entry.code, 0 | 0xee));
        match self.mbr.entries.iter_mut().find(|entry| entry.code == 0xee) {
            // In a hybrid table the protective entry covers only what the other entries leave.
            Some(_) if hybrid => {}
            Some(entry) => entry.sectors = whole,
            None => {
                if let Some(free) = self.mbr.entries.iter_mut().find(|entry| entry.code == 0) {
                    *free = MbrEntry { first_chs: [0, 2, 0], last_chs: [0xff; 3], ..MbrEntry::new(0xee, 1, whole, false) };
                }
            }
        }
    }

    fn array(&self, sector: u32) -> Vec<u8> {
        let mut array = vec![0; (self.array_sectors(sector) * u64::from(sector)) as usize];
        for entry in &self.entries {
            let at = entry.slot as usize * self.slot_size as usize;
            let slot = &mut array[at..at + self.slot_size as usize];
            slot[..16].copy_from_slice(&entry.type_id.0);
            slot[16..32].copy_from_slice(&entry.id.0);
            slot[32..40].copy_from_slice(&entry.first.to_le_bytes());
            slot[40..48].copy_from_slice(&entry.last.to_le_bytes());
            slot[48..56].copy_from_slice(&entry.attributes.to_le_bytes());
            for (unit, place) in entry.name.iter().zip((56..128).step_by(2)) {
                slot[place..place + 2].copy_from_slice(&unit.to_le_bytes());
            }
            let extra = entry.extra.len().min(slot.len() - 128);
            slot[128..128 + extra].copy_from_slice(&entry.extra[..extra]);
        }
        array
    }

    fn header(&self, at: u64, other: u64, entries_at: u64, array: &[u8], sector: u32) -> Vec<u8> {
        let mut bytes = vec![0; sector as usize];
        bytes[..8].copy_from_slice(b"EFI PART");
        bytes[8..12].copy_from_slice(&0x0001_0000u32.to_le_bytes());
        bytes[12..16].copy_from_slice(&92u32.to_le_bytes());
        for (value, place) in [(at, 24), (other, 32), (self.first_usable, 40), (self.last_usable, 48), (entries_at, 72)] {
            bytes[place..place + 8].copy_from_slice(&value.to_le_bytes());
        }
        bytes[56..72].copy_from_slice(&self.disk_id.0);
        bytes[80..84].copy_from_slice(&self.slots.to_le_bytes());
        bytes[84..88].copy_from_slice(&self.slot_size.to_le_bytes());
        let used = self.slots as usize * self.slot_size as usize;
        bytes[88..92].copy_from_slice(&crc32fast::hash(&array[..used]).to_le_bytes());
        let crc = crc32fast::hash(&bytes[..92]);
        bytes[16..20].copy_from_slice(&crc.to_le_bytes());
        bytes
    }

    /// Every sector of the table with its number: MBR, first copy, second copy.
    pub fn write(&self, sector: u32) -> Vec<(u64, Vec<u8>)> {
        let array = self.array(sector);
        let backup_array_at = self.backup_at - self.array_sectors(sector);
        let mut out = self.mbr.write(sector);
        out.truncate(1);
        out.push((1, self.header(1, self.backup_at, self.entries_at, &array, sector)));
        out.push((self.entries_at, array.clone()));
        out.push((backup_array_at, array.clone()));
        out.push((self.backup_at, self.header(self.backup_at, 1, backup_array_at, &array, sector)));
        out
    }
}
