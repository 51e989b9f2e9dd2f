//! The boot sector of FAT, read for recognising a volume and for opening it.

use crate::format::Format;
use crate::volume::{Kind, Recognised, State, Stretch, text};
use badger_drive::field::{le16, le32};

/// FAT12, FAT16 and FAT32.
pub(crate) const FORMAT: Format = Format { recognise, open: Some(|volume| Ok(crate::format::alone(super::Fat::open(volume)?))), files: None };

/// What it says of where things lie. Places and lengths are sectors.
pub(super) struct Boot {
    /// Bytes of a sector.
    pub sector: u64,
    pub per_cluster: u64,
    pub reserved: u64,
    pub copies: u64,
    /// Of one table.
    pub table_len: u64,
    pub root_start: u64,
    pub root_len: u64,
    pub data: u64,
    pub total: u64,
    pub clusters: u64,
    /// Bits of an entry in the tables.
    pub bits: u32,
    /// What its system notes here of a volume that is in use.
    pub dirty: bool,
    /// Sectors that hold counts and a copy of it; 0 where there are none.
    pub info: u64,
    pub backup: u64,
}

/// Bits of an entry in the tables, by the number of clusters.
///
/// FAT32 made smaller than the rules allow says so by having no table length and no root directory of the old kind; systems
/// go by that.
fn bits(boot: &[u8], clusters: u64) -> u32 {
    match clusters {
        _ if le16(boot, 22) == 0 && le16(boot, 17) == 0 => 32,
        0..4085 => 12,
        4085..65525 => 16,
        _ => 32,
    }
}

impl Boot {
    /// Reads a boot sector.
    ///
    /// # Errors
    /// What in it cannot be.
    pub fn read(boot: &[u8]) -> Result<Self, &'static str> {
        let (sector, per_cluster) = (u64::from(le16(boot, 11)), u64::from(boot[13]));
        if !matches!(sector, 512 | 1024 | 2048 | 4096) || !per_cluster.is_power_of_two() {
            return Err("its sizes");
        }
        let long = |short: u16, wide: u32| if short != 0 { u64::from(short) } else { u64::from(wide) };
        let (reserved, copies, roots) = (u64::from(le16(boot, 14)), u64::from(boot[16]), u64::from(le16(boot, 17)));
        let (table_len, total) = (long(le16(boot, 22), le32(boot, 36)), long(le16(boot, 19), le32(boot, 32)));
        let (root_start, root_len) = (reserved + copies * table_len, (roots * 32).div_ceil(sector));
        let data = total.checked_sub(root_start + root_len).ok_or("it is shorter than its tables")?;
        let clusters = data / per_cluster;
        let bits = bits(boot, clusters);
        let wide = |at: usize| if bits == 32 { u64::from(le16(boot, at)) } else { 0 };
        Ok(Self {
            sector,
            per_cluster,
            reserved,
            copies,
            table_len,
            root_start,
            root_len,
            data: root_start + root_len,
            total,
            clusters,
            bits,
            dirty: boot[if bits == 32 { 65 } else { 37 }] & 3 != 0,
            info: wide(48),
            backup: wide(50),
        })
    }
}

/// Microsoft's "FAT: General Overview of On-Disk Format".
fn recognise(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    let (media, marks) = (head[21], matches!(head[0], 0xeb | 0xe9) && le16(head, 510) == 0xaa55);
    let boot = Boot::read(head).ok().filter(|boot| (1..=4).contains(&boot.copies) && boot.reserved > 0 && (media == 0xf0 || media >= 0xf8))?;
    // A volume of the Atari begins with a branch of its processor, and has no mark at the end of the sector: the table has to say the same.
    let has_table = || stretch.read(boot.reserved * boot.sector, 4).is_some_and(|table| table[..3] == [media, 0xff, 0xff]);
    let is_fat = marks || head[0] == 0x60 && boot.bits < 32 && has_table();
    if !is_fat {
        return None;
    }
    let kind = match boot.bits {
        12 => Kind::Fat12,
        16 => Kind::Fat16,
        _ => Kind::Fat32,
    };
    let mut volume = Recognised::new(kind, boot.total * boot.sector);
    volume.most_sector = Some(boot.sector as u32);
    // Systems note here, too, that they write to it.
    if boot.dirty {
        volume.state = State::Dirty;
    }
    let extended = if kind == Kind::Fat32 { 66 } else { 38 };
    if head[extended] == 0x29 {
        let serial = le32(head, extended + 1);
        volume.id = format!("{:04X}-{:04X}", serial >> 16, serial & 0xffff);
        volume.label = text(&head[extended + 5..extended + 16]);
    }
    if volume.label == "NO NAME" {
        volume.label.clear();
    }
    let entries = stretch.read(boot.reserved * boot.sector, 8);
    if kind == Kind::Fat32 {
        let info = stretch.read(boot.info * boot.sector, 512).filter(|info| le32(info, 0) == 0x4161_5252 && le32(info, 484) == 0x6141_7272);
        let free = info.map(|info| u64::from(le32(&info, 488))).filter(|free| *free <= boot.clusters);
        volume.used_bytes = free.map(|free| (boot.clusters - free) * boot.per_cluster * boot.sector);
        // Bit 27 of the second entry is cleared while the volume is in use.
        if entries.is_some_and(|entries| le32(&entries, 4) & 0x0800_0000 == 0) {
            volume.state = State::Dirty;
        }
    } else if kind == Kind::Fat16 && entries.is_some_and(|entries| le16(&entries, 2) & 0x8000 == 0) {
        volume.state = State::Dirty;
    }
    Some(volume)
}
