//! Recognises what a partition holds, by the signatures and first structures that the public descriptions of each
//! format give. Nothing is followed deeper than a fixed number of reads, whatever the bytes say.

use crate::ntfs;
pub use crate::volume::{Kind, Recognised, State, Stretch};
use badger_drive::Medium;
use badger_drive::field::{array, be16, be32, be64, le16, le32, le64};
use badger_layout::{Guid, Table};

/// What stands in `len` bytes at byte `start` of a drive; `None` where nothing known does.
pub fn recognise(drive: &dyn Medium, start: u64, len: u64) -> Option<Recognised> {
    let len = len.min(drive.geometry().size_bytes.saturating_sub(start));
    let stretch = Stretch { drive, start, len };
    let mut head = stretch.read(0, len.min(4096) as usize)?;
    head.resize(4096, 0);
    let mut volume = boot_sector(&stretch, &head)
        .or_else(|| ext(&stretch))
        .or_else(|| btrfs(&stretch))
        .or_else(|| xfs(&head))
        .or_else(|| hfs_plus(&stretch))
        .or_else(|| apfs(&stretch, &head))
        .or_else(|| containers(&stretch, &head))
        .or_else(|| iso(&stretch))?;
    volume.most_sector = most_sector(&stretch, &head, volume.kind);
    if volume.size_bytes > len {
        let missing = badger_drive::size::thousands(volume.size_bytes - len);
        volume.problems.push(format!("it is {missing} bytes longer than the place it lies in"));
        volume.state = State::Damaged;
    }
    Some(volume)
}

/// What a format counts in at the least: no system reads less than a sector of the drive.
fn most_sector(stretch: &Stretch, head: &[u8], kind: Kind) -> Option<u32> {
    let wide = |at: u64| stretch.read(at, 4);
    Some(match kind {
        Kind::Fat12 | Kind::Fat16 | Kind::Fat32 | Kind::Ntfs | Kind::BitLocker => u32::from(le16(head, 11)),
        Kind::ExFat => 1 << head[108].clamp(9, 12),
        Kind::Ext2 | Kind::Ext3 | Kind::Ext4 => 1024 << le32(&wide(1024 + 24)?, 0).min(6),
        Kind::Xfs => u32::from(be16(head, 102)),
        Kind::Btrfs => le32(&wide((64 << 10) + 144)?, 0),
        Kind::HfsPlus => be32(&wide(1024 + 40)?, 0),
        Kind::Apfs => le32(head, 36),
        Kind::Iso9660 => 2048,
        // Their blocks are found by bytes, or are pages.
        Kind::Squashfs | Kind::Swap => 4096,
        Kind::Lvm | Kind::Luks | Kind::Md => return None,
    })
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

fn text(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(&bytes[..end]).trim_end().to_string()
}

fn uuid(bytes: [u8; 16]) -> String {
    uuid::Uuid::from_bytes(bytes).to_string()
}

fn boot_sector(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    let sector = u64::from(le16(head, 11));
    match &head[3..11] {
        b"NTFS    " => {
            let facts = ntfs::facts(stretch, head);
            let mut volume = Recognised::new(Kind::Ntfs, le64(head, 40).checked_add(1)?.checked_mul(sector)?);
            volume.id = format!("{:016X}", le64(head, 72));
            volume.label = facts.label;
            volume.used_bytes = facts.used_bytes;
            volume.state = facts.state.unwrap_or(State::Damaged);
            volume.problems = facts.problems;
            Some(volume)
        }
        b"EXFAT   " => exfat(stretch, head),
        b"-FVE-FS-" => {
            let mut volume = Recognised::new(Kind::BitLocker, stretch.len);
            volume.id = Guid(array(head, 160)).to_string();
            Some(volume)
        }
        _ => fat(stretch, head),
    }
}

/// Microsoft's "FAT: General Overview of On-Disk Format".
fn fat(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    let sector = u64::from(le16(head, 11));
    let per_cluster = u64::from(head[13]);
    let (reserved, copies, roots) = (u64::from(le16(head, 14)), u64::from(head[16]), u64::from(le16(head, 17)));
    let marks = matches!(head[0], 0xeb | 0xe9) && le16(head, 510) == 0xaa55 && (head[21] == 0xf0 || head[21] >= 0xf8);
    if !marks || !matches!(sector, 512 | 1024 | 2048 | 4096) || !per_cluster.is_power_of_two() || !(1..=4).contains(&copies) || reserved == 0 {
        return None;
    }
    let long = |short: u16, wide: u32| if short != 0 { u64::from(short) } else { u64::from(wide) };
    let total = long(le16(head, 19), le32(head, 32));
    let table = long(le16(head, 22), le32(head, 36));
    let data = total.checked_sub(reserved + copies * table + (roots * 32).div_ceil(sector))?;
    let clusters = data / per_cluster;
    let kind = match crate::fat::bits(head, clusters) {
        12 => Kind::Fat12,
        16 => Kind::Fat16,
        _ => Kind::Fat32,
    };
    let extended = if kind == Kind::Fat32 { 66 } else { 38 };
    let mut volume = Recognised::new(kind, total * sector);
    // Systems note here, too, that they write to it.
    if head[extended - 1] & 3 != 0 {
        volume.state = State::Dirty;
    }
    if head[extended] == 0x29 {
        let serial = le32(head, extended + 1);
        volume.id = format!("{:04X}-{:04X}", serial >> 16, serial & 0xffff);
        volume.label = text(&head[extended + 5..extended + 16]);
    }
    if volume.label == "NO NAME" {
        volume.label.clear();
    }
    let fat_start = reserved * sector;
    let entries = stretch.read(fat_start, 8);
    if kind == Kind::Fat32 {
        let info =
            stretch.read(u64::from(le16(head, 48)) * sector, 512).filter(|info| le32(info, 0) == 0x4161_5252 && le32(info, 484) == 0x6141_7272);
        let free = info.map(|info| u64::from(le32(&info, 488))).filter(|free| *free <= clusters);
        volume.used_bytes = free.map(|free| (clusters - free) * per_cluster * sector);
        // Bit 27 of the second entry is cleared while the volume is in use.
        if entries.is_some_and(|entries| le32(&entries, 4) & 0x0800_0000 == 0) {
            volume.state = State::Dirty;
        }
    } else if kind == Kind::Fat16 && entries.is_some_and(|entries| le16(&entries, 2) & 0x8000 == 0) {
        volume.state = State::Dirty;
    }
    Some(volume)
}

/// Microsoft's "exFAT file system specification".
fn exfat(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    let shift = u32::from(head[108]);
    let cluster_shift = shift + u32::from(head[109]);
    if !(9..=12).contains(&shift) || cluster_shift > 25 {
        return None;
    }
    let mut volume = Recognised::new(Kind::ExFat, le64(head, 72).checked_mul(1 << shift)?);
    let serial = le32(head, 100);
    volume.id = format!("{:04X}-{:04X}", serial >> 16, serial & 0xffff);
    if le16(head, 106) & 2 != 0 {
        volume.state = State::Dirty;
    }
    // Whole percents: 0 is anything below one, which is not nothing.
    if (1..=100).contains(&head[112]) {
        let heap = u64::from(le32(head, 92)) << cluster_shift;
        volume.used_bytes = Some(heap / 100 * u64::from(head[112]));
    }
    let root = le32(head, 96).checked_sub(2)?;
    let at = (u64::from(le32(head, 88)) << shift).checked_add(u64::from(root) << cluster_shift)?;
    let entries = stretch.read(at, 1 << cluster_shift.min(15))?;
    if let Some(label) = entries.chunks_exact(32).take_while(|entry| entry[0] != 0).find(|entry| entry[0] == 0x83) {
        let units: Vec<u16> = (0..usize::from(label[1].min(11))).map(|at| le16(label, 2 + at * 2)).collect();
        volume.label = String::from_utf16_lossy(&units);
    }
    Some(volume)
}

/// The kernel's documentation of ext4, "Super Block".
fn ext(stretch: &Stretch) -> Option<Recognised> {
    let first = stretch.read(1024, 1024);
    let is_right = |block: &Vec<u8>| crate::ext::super_block(block).is_some();
    let copy = || crate::ext::BACKUPS.iter().find_map(|at| stretch.read(*at, 1024).filter(|block| is_right(block) && le16(block, 90) == 1));
    let (block, copied) = match first {
        Some(block) if is_right(&block) => (block, false),
        first => match copy() {
            Some(block) => (block, true),
            None => (first.filter(|block| le16(block, 56) == 0xef53 && le32(block, 24) <= 6)?, false),
        },
    };
    let shift = le32(&block, 24);
    let size = 1024u64 << shift;
    let (compatible, incompatible, read_only) = (le32(&block, 92), le32(&block, 96), le32(&block, 100));
    let wide = incompatible & 0x80 != 0;
    let count = |low: usize, high: usize| u64::from(le32(&block, low)) | if wide { u64::from(le32(&block, high)) << 32 } else { 0 };
    let kind = match () {
        () if incompatible & 0x2c0 != 0 || read_only & 0x478 != 0 => Kind::Ext4,
        () if compatible & 4 != 0 => Kind::Ext3,
        () => Kind::Ext2,
    };
    let (blocks, free) = (count(4, 0x150), count(12, 0x158));
    let mut volume = Recognised::new(kind, blocks.checked_mul(size)?);
    volume.used_bytes = blocks.checked_sub(free).map(|used| used * size);
    volume.id = uuid(array(&block, 104));
    volume.label = text(&block[120..136]);
    // Bit 2 of the incompatible features: the journal holds changes that are not carried out yet.
    let state = le16(&block, 58);
    if copied {
        volume.state = State::Damaged;
        volume.problems.push("its super block is damaged; a copy of it is used".into());
    } else if state & 2 != 0 {
        volume.state = State::Damaged;
        volume.problems.push("its system noted errors in it".into());
    } else if state & 1 == 0 || incompatible & 4 != 0 {
        volume.state = State::Dirty;
    }
    Some(volume)
}

fn btrfs(stretch: &Stretch) -> Option<Recognised> {
    let block = stretch.read(65536, 4096).filter(|block| &block[64..72] == b"_BHRfS_M")?;
    // One device of several may be here: its own size stands in the device item.
    let mut volume = Recognised::new(Kind::Btrfs, le64(&block, 201 + 8));
    volume.used_bytes = (le64(&block, 136) == 1).then(|| le64(&block, 120));
    volume.id = uuid(array(&block, 32));
    volume.label = text(&block[299..299 + 256]);
    Some(volume)
}

fn xfs(head: &[u8]) -> Option<Recognised> {
    (&head[..4] == b"XFSB").then_some(())?;
    let size = u64::from(be32(head, 4));
    let blocks = be64(head, 8);
    let mut volume = Recognised::new(Kind::Xfs, blocks.checked_mul(size)?);
    volume.used_bytes = blocks.checked_sub(be64(head, 144)).and_then(|used| used.checked_mul(size));
    volume.id = uuid(array(head, 32));
    volume.label = text(&head[108..120]);
    Some(volume)
}

/// Apple's TN1150.
fn hfs_plus(stretch: &Stretch) -> Option<Recognised> {
    let header = stretch.read(1024, 512).filter(|header| matches!(&header[..2], b"H+" | b"HX"))?;
    let (block, blocks, free) = (u64::from(be32(&header, 40)), u64::from(be32(&header, 44)), u64::from(be32(&header, 48)));
    let mut volume = Recognised::new(Kind::HfsPlus, blocks.checked_mul(block)?);
    volume.used_bytes = blocks.checked_sub(free).and_then(|used| used.checked_mul(block));
    volume.id = format!("{:016X}", be64(&header, 104));
    volume.label = hfs_label(stretch, &header, block).unwrap_or_default();
    // Bit 8: unmounted properly; bit 11: inconsistent.
    let attributes = be32(&header, 4);
    if attributes & 0x100 == 0 || attributes & 0x800 != 0 {
        volume.state = State::Dirty;
    }
    Some(volume)
}

/// The name of the root folder is the first key of the catalog, whose first extent stands in the volume header.
fn hfs_label(stretch: &Stretch, header: &[u8], block: u64) -> Option<String> {
    let start = u64::from(be32(header, 272 + 16)).checked_mul(block)?;
    let head = stretch.read(start, 512)?;
    let (first, size) = (u64::from(be32(&head, 14 + 10)), u64::from(be16(&head, 14 + 18)));
    let leaf = stretch.read(start.checked_add(first.checked_mul(size)?)?, size as usize)?;
    let at = usize::from(be16(&leaf, leaf.len().checked_sub(2)?));
    let units = usize::from(be16(&leaf, at + 6));
    let name = leaf.get(at + 8..at + 8 + units * 2).filter(|_| be32(&leaf, at + 2) == 1 && units <= 255)?;
    Some(String::from_utf16_lossy(&name.chunks_exact(2).map(|unit| be16(unit, 0)).collect::<Vec<_>>()))
}

/// Apple's "Apple File System Reference".
fn apfs(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    (&head[32..36] == b"NXSB").then_some(())?;
    let block = u64::from(le32(head, 36));
    let mut volume = Recognised::new(Kind::Apfs, le64(head, 40).checked_mul(block)?);
    volume.id = uuid(array(head, 72)).to_uppercase();
    let inside: Vec<(String, u64)> = (0..100)
        .map(|slot| le64(head, 184 + slot * 8))
        .take_while(|oid| *oid != 0)
        .filter_map(|oid| apfs_volume(stretch, head, block, oid))
        .collect();
    if !inside.is_empty() {
        volume.label = inside.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>().join(", ");
        volume.used_bytes = inside.iter().try_fold(0u64, |sum, (_, blocks)| sum.checked_add(blocks.checked_mul(block)?));
    }
    Some(volume)
}

/// Name and blocks in use of a volume of a container: where it lies stands in the container's map of objects.
fn apfs_volume(stretch: &Stretch, head: &[u8], block: u64, oid: u64) -> Option<(String, u64)> {
    let read = |number: u64| stretch.read(number.checked_mul(block)?, usize::try_from(block).ok()?);
    let map = read(le64(head, 160))?;
    let mut node = read(le64(&map, 48))?;
    // A tree is never as deep as this; a circle would be.
    for _ in 0..8 {
        let (flags, count, table) = (le16(&node, 32), le32(&node, 36) as usize, 56 + usize::from(le16(&node, 40)));
        let keys = table + usize::from(le16(&node, 42));
        let end = node.len().checked_sub(if flags & 1 != 0 { 40 } else { 0 })?;
        // Keys are pairs of an object and a time, in order; the last one that is not beyond the object counts.
        let slots = (0..count.min(node.len() / 4)).map(|slot| (le16(&node, table + slot * 4), le16(&node, table + slot * 4 + 2)));
        let found = slots.take_while(|(key, _)| le64(&node, keys + usize::from(*key)) <= oid).last();
        let (key, value) = found.map(|(key, value)| (keys + usize::from(key), end.checked_sub(usize::from(value))))?;
        let value = value?;
        if flags & 2 != 0 {
            let found = read(le64(&node, value + 8)).filter(|found| le64(&node, key) == oid && &found[32..36] == b"APSB")?;
            return Some((text(found.get(704..960)?), le64(&found, 88)));
        }
        node = read(le64(&node, value))?;
    }
    None
}

fn containers(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    if &head[..6] == b"LUKS\xba\xbe" {
        let mut volume = Recognised::new(Kind::Luks, stretch.len);
        volume.id = text(&head[168..208]);
        if be16(head, 6) == 2 {
            volume.label = text(&head[24..72]);
        }
        return Some(volume);
    }
    if &head[..4] == b"hsqs" {
        let mut volume = Recognised::new(Kind::Squashfs, le64(head, 40));
        volume.used_bytes = Some(volume.size_bytes);
        return Some(volume);
    }
    if let Some(label) = (0..4).map(|at| &head[at * 512..at * 512 + 512]).find(|label| &label[..8] == b"LABELONE" && &label[24..32] == b"LVM2 001") {
        let mut volume = Recognised::new(Kind::Lvm, le64(label, 32 + 32));
        volume.id = text(&label[32..64]);
        return Some(volume);
    }
    // Version 1.1 at the start, 1.2 at 4 KiB, 1.0 and 0.90 near the end.
    let ends = [stretch.len.checked_sub(8192).map(|end| end & !4095), (stretch.len & !65535).checked_sub(65536)];
    for at in [Some(0), Some(4096)].into_iter().chain(ends).flatten() {
        let Some(block) = stretch.read(at, 256).filter(|block| le32(block, 0) == 0xa92b_4efc) else { continue };
        let mut volume = Recognised::new(Kind::Md, stretch.len);
        if le32(&block, 4) == 1 {
            volume.id = uuid(array(&block, 16));
            volume.label = text(&block[32..64]);
        } else {
            let word = |at: usize| array::<4>(&block, at);
            let parts = [word(20), word(52), word(56), word(60)].concat();
            volume.id = uuid(array(&parts, 0));
        }
        return Some(volume);
    }
    for page in [4096u64, 8192, 16384, 65536] {
        let mark = stretch.read(page - 10, 10);
        if mark.is_some_and(|mark| mark == b"SWAPSPACE2" || mark == b"SWAP-SPACE") {
            let mut volume = Recognised::new(Kind::Swap, (u64::from(le32(head, 1028)) + 1) * page);
            volume.id = uuid(array(head, 1036));
            volume.label = text(&head[1052..1068]);
            return Some(volume);
        }
    }
    None
}

fn iso(stretch: &Stretch) -> Option<Recognised> {
    let block = stretch.read(32768, 2048).filter(|block| &block[1..6] == b"CD001")?;
    let mut volume = Recognised::new(Kind::Iso9660, u64::from(le32(&block, 80)) * u64::from(le16(&block, 128)));
    volume.label = text(&block[40..72]);
    volume.used_bytes = Some(volume.size_bytes);
    Some(volume)
}
