//! Formats that are recognised and not read yet.

use crate::format::Format;
use crate::volume::{Kind, Recognised, State, Stretch, text, uuid};
use badger_drive::field::{array, be16, be32, be64, le16, le32, le64};
use badger_layout::Guid;

const fn only(recognise: crate::format::Recognise) -> Format {
    Format { recognise, open: None, files: None }
}

pub(crate) const BITLOCKER: Format = only(bitlocker);
pub(crate) const HFS_PLUS: Format = only(hfs_plus);
pub(crate) const APFS: Format = only(apfs);
pub(crate) const LUKS: Format = only(luks);
pub(crate) const SQUASHFS: Format = only(squashfs);
pub(crate) const LVM: Format = only(lvm);
pub(crate) const MD: Format = only(md);
pub(crate) const SWAP: Format = only(swap);
pub(crate) const ISO: Format = only(iso);

fn bitlocker(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    (&head[3..11] == b"-FVE-FS-").then_some(())?;
    let mut volume = Recognised::new(Kind::BitLocker, stretch.len);
    volume.most_sector = Some(u32::from(le16(head, 11)));
    volume.id = Guid(array(head, 160)).to_string();
    Some(volume)
}

/// Apple's TN1150.
fn hfs_plus(stretch: &Stretch, _head: &[u8]) -> Option<Recognised> {
    let header = stretch.read(1024, 512).filter(|header| matches!(&header[..2], b"H+" | b"HX"))?;
    let (block, blocks, free) = (u64::from(be32(&header, 40)), u64::from(be32(&header, 44)), u64::from(be32(&header, 48)));
    let mut volume = Recognised::new(Kind::HfsPlus, blocks.checked_mul(block)?);
    volume.most_sector = u32::try_from(block).ok();
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
    volume.most_sector = Some(le32(head, 36));
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

fn luks(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    (&head[..6] == b"LUKS\xba\xbe").then_some(())?;
    let mut volume = Recognised::new(Kind::Luks, stretch.len);
    volume.id = text(&head[168..208]);
    if be16(head, 6) == 2 {
        volume.label = text(&head[24..72]);
    }
    Some(volume)
}

fn squashfs(_stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    (&head[..4] == b"hsqs").then_some(())?;
    let mut volume = Recognised::new(Kind::Squashfs, le64(head, 40));
    // Its blocks are found by bytes.
    volume.most_sector = Some(4096);
    volume.used_bytes = Some(volume.size_bytes);
    Some(volume)
}

fn lvm(_stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    let label = (0..4).map(|at| &head[at * 512..at * 512 + 512]).find(|label| &label[..8] == b"LABELONE" && &label[24..32] == b"LVM2 001")?;
    let mut volume = Recognised::new(Kind::Lvm, le64(label, 32 + 32));
    volume.id = text(&label[32..64]);
    Some(volume)
}

fn md(stretch: &Stretch, _head: &[u8]) -> Option<Recognised> {
    // Version 1.1 at the start, 1.2 at 4 KiB, 1.0 and 0.90 near the end.
    let ends = [stretch.len.checked_sub(8192).map(|end| end & !4095), (stretch.len & !65535).checked_sub(65536)];
    let places = [Some(0), Some(4096)].into_iter().chain(ends).flatten();
    let block = places.filter_map(|at| stretch.read(at, 256)).find(|block| le32(block, 0) == 0xa92b_4efc)?;
    let mut volume = Recognised::new(Kind::Md, stretch.len);
    if le32(&block, 4) == 1 {
        volume.id = uuid(array(&block, 16));
        volume.label = text(&block[32..64]);
    } else {
        let word = |at: usize| array::<4>(&block, at);
        let parts = [word(20), word(52), word(56), word(60)].concat();
        volume.id = uuid(array(&parts, 0));
    }
    Some(volume)
}

/// Sizes that the first page of swap can have; its mark stands at the end of it.
pub const SWAP_PAGES: [u64; 4] = [4096, 8192, 16384, 65536];
/// Marks of swap, and those in its place while a system sleeps in it.
const SWAP_MARKS: [&[u8]; 2] = [b"SWAPSPACE2", b"SWAP-SPACE"];
const SLEEP_MARKS: [&[u8]; 3] = [b"S1SUSPEND", b"S2SUSPEND", b"ULSUSPEND"];

/// The mark that swap gets back when a system wakes, out of the last 20 bytes of its first page; `None` where none sleeps in it
/// (Linux: `kernel/power/swap.c`, where the own mark is kept in front of the other).
pub fn swap_mark_of_sleep(end: &[u8; 20]) -> Option<[u8; 10]> {
    let (own, mark) = end.split_at(10);
    let sleeps = SLEEP_MARKS.iter().any(|sleep| mark.starts_with(sleep));
    own.try_into().ok().filter(|_| sleeps && SWAP_MARKS.contains(&own))
}

fn swap(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    let (page, end) = SWAP_PAGES.into_iter().find_map(|page| {
        let end: [u8; 20] = stretch.read(page - 20, 20)?.try_into().ok()?;
        (SWAP_MARKS.contains(&&end[10..]) || swap_mark_of_sleep(&end).is_some()).then_some((page, end))
    })?;
    let mut volume = Recognised::new(Kind::Swap, (u64::from(le32(head, 1028)) + 1) * page);
    if swap_mark_of_sleep(&end).is_some() {
        volume.state = State::Hibernated;
    }
    volume.most_sector = Some(4096);
    volume.id = uuid(array(head, 1036));
    volume.label = text(&head[1052..1068]);
    Some(volume)
}

fn iso(stretch: &Stretch, _head: &[u8]) -> Option<Recognised> {
    let block = stretch.read(32768, 2048).filter(|block| &block[1..6] == b"CD001")?;
    let mut volume = Recognised::new(Kind::Iso9660, u64::from(le32(&block, 80)) * u64::from(le16(&block, 128)));
    volume.most_sector = Some(2048);
    volume.label = text(&block[40..72]);
    volume.used_bytes = Some(volume.size_bytes);
    Some(volume)
}
