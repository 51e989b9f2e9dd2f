//! The format's own files that hold more than places: attribute kinds, upper case letters, permissions.

use super::attribute;
use super::walk::{Attribute, DATA, NUMBER, Ntfs};
use crate::finding::Finding;
use crate::tree::Volume;
use badger_drive::field::{le16, le32, le64};

const ATTRIBUTE_KINDS: u64 = 4;
const SECURITY: u64 = 9;
/// A descriptor of permissions and its copy stand so far apart, and no descriptor goes over such a border.
const STRIDE: u64 = 256 << 10;
/// More permissions are not gone through.
const MOST_PERMISSIONS: u64 = 64 << 20;

/// A hash of a name in its directory, such that a file's names in its record and in directories can be held against
/// each other in any order.
pub(super) fn name_hash(directory: u64, name: &[u16], dos: bool) -> u64 {
    let mut hash = 0xcbf2_9ce4_8422_2325u64 ^ (directory & NUMBER) << 1 ^ u64::from(dos);
    for unit in name {
        hash = (hash ^ u64::from(*unit)).wrapping_mul(0x0000_0100_0000_01b3);
    }
    hash ^ hash >> 29
}

impl Ntfs {
    /// The list of attributes in a file's first record against what its records hold.
    pub(super) fn list_fault(&self, number: u64) -> Option<Finding> {
        let wrong = |what: &str| Some(Finding::new("ntfs-attribute-list", format!("record {number}: its list of attributes is damaged: {what}")));
        let base = self.raw_record(number).ok()?;
        let Ok(list) = self.list_of(&base) else { return wrong("it cannot be read") };
        let list = list?;
        let (mut at, mut named) = (0, Vec::new());
        while at + 26 <= list.len() {
            let (len, name_len, name_at) = (usize::from(le16(&list, at + 4)), usize::from(list[at + 6]), usize::from(list[at + 7]));
            if len < 26 || at + len > list.len() || name_len > 0 && name_at + name_len * 2 > len {
                return wrong("an entry leads out of it");
            }
            let name: Vec<u16> = (0..name_len).map(|unit| le16(&list, at + name_at + unit * 2)).collect();
            named.push((le32(&list, at), name, le64(&list, at + 8), le64(&list, at + 16) & NUMBER, le16(&list, at + 24)));
            at += len;
        }
        let mut there = Vec::new();
        let records: std::collections::BTreeSet<u64> = named.iter().map(|entry| entry.3).chain([number]).collect();
        for other in records {
            let Ok(record) = self.raw_record(other) else { return wrong("it names a record that is damaged") };
            if other != number && le64(&record, 32) & NUMBER != number {
                return wrong("it names a record of another file");
            }
            let mut attributes = Vec::new();
            Self::attributes_in(&record, &mut attributes);
            there.extend(attributes.iter().filter(|one| one.code != super::walk::LIST).map(|one: &Attribute| {
                let low = if one.bytes[8] == 0 { 0 } else { le64(&one.bytes, 16) };
                (one.code, one.name.clone(), low, other, le16(&one.bytes, 14))
            }));
        }
        named.sort_unstable();
        there.sort_unstable();
        if named == there { None } else { wrong("it names others than there are") }
    }

    /// The files that say which kinds of attributes there are, how letters are folded, and who may do what.
    pub(super) fn system_files(&self) -> Vec<Finding> {
        let mut out = Vec::new();
        if (0x20..0x7f).any(|unit: u16| self.upper(unit) != u16::from((unit as u8).to_ascii_uppercase())) {
            out.push(Finding::new("ntfs-upcase", "the table of upper case letters ($UpCase) is damaged"));
        }
        if self.content(10, DATA, "").is_ok_and(|content| content.size() != 128 << 10) {
            out.push(Finding::new("ntfs-upcase", "the table of upper case letters ($UpCase) has another length than it must"));
        }
        if self.kinds_are_damaged() {
            out.push(Finding::new("ntfs-attribute-kinds", "the table of kinds of attributes ($AttrDef) is missing or damaged"));
        }
        if let Some(what) = self.permissions_fault() {
            out.push(Finding::new("ntfs-permissions", format!("what says who may do what ($Secure) is damaged: {what}")));
        }
        out
    }

    /// Entries of 160 bytes: a label, then the kind, rising, with its least and its greatest size.
    fn kinds_are_damaged(&self) -> bool {
        let Ok(content) = self.content(ATTRIBUTE_KINDS, DATA, "") else { return true };
        let mut bytes = vec![0; content.size().min(64 << 10) as usize];
        if content.read(self.volume(), 0, &mut bytes).is_err() {
            return true;
        }
        let mut before = 0;
        for entry in bytes.chunks_exact(160) {
            let (label, kind, flags) = (le16(entry, 0), le32(entry, 128), le32(entry, 140));
            let (least, most) = (le64(entry, 144), le64(entry, 152));
            if kind == 0 && label == 0 {
                break;
            }
            // A greatest size of all ones stands for none.
            if kind <= before || !kind.is_multiple_of(16) || label == 0 || flags & !0xff != 0 || least > most {
                return true;
            }
            before = kind;
        }
        before < 0xc0
    }

    /// Descriptors stand one after the other, each behind its hash, its number, its place and its length, and once more
    /// 256 KiB further on.
    fn permissions_fault(&self) -> Option<&'static str> {
        let record = self.raw_record(SECURITY).ok()?;
        // The oldest version of the format had none.
        attribute(&record, 0x90)?;
        let Ok(content) = self.content(SECURITY, DATA, "$SDS") else { return Some("its descriptors are missing") };
        let size = content.size().min(MOST_PERMISSIONS);
        let (mut first, mut second) = (vec![0; STRIDE as usize], vec![0; STRIDE as usize]);
        let mut start = 0;
        while start < size {
            if content.read(self.volume(), start, &mut first).is_err() || content.read(self.volume(), start + STRIDE, &mut second).is_err() {
                return Some("its descriptors cannot be read");
            }
            let end = (size - start).min(STRIDE) as usize;
            let mut at = 0;
            while at + 20 <= end {
                let (hash, number, place, len) = (le32(&first, at), le32(&first, at + 4), le64(&first, at + 8), le32(&first, at + 16) as usize);
                if len == 0 && number == 0 {
                    break;
                }
                if place != start + at as u64 || len < 20 || at + len > STRIDE as usize {
                    return Some("a descriptor does not stand where it says");
                }
                let words = first[at + 20..at + len].as_chunks::<4>().0;
                let sum = words.iter().fold(0u32, |sum, word| u32::from_le_bytes(*word).wrapping_add(sum.rotate_left(3)));
                if sum != hash {
                    return Some("the hash of a descriptor is wrong");
                }
                if content.size() > start + STRIDE && second[at..at + len] != first[at..at + len] {
                    return Some("a descriptor differs from its copy");
                }
                at += len.div_ceil(16) * 16;
            }
            start += 2 * STRIDE;
        }
        for (index, what) in [("$SII", "its index of numbers"), ("$SDH", "its index of hashes")] {
            if self.view_is_damaged(SECURITY, index) {
                return Some(what);
            }
        }
        None
    }

    /// Whether an index of something else than names has a node that is damaged: its root, or a block in use.
    fn view_is_damaged(&self, number: u64, name: &str) -> bool {
        let Ok(root) = self.content(number, super::walk::INDEX_ROOT, name) else { return true };
        let mut bytes = vec![0; root.size().min(1 << 16) as usize];
        if root.read(self.volume(), 0, &mut bytes).is_err() || !is_node(&bytes, 16) {
            return true;
        }
        let size = u64::from(le32(&bytes, 8));
        let Ok(blocks) = self.content(number, super::walk::INDEX_BLOCKS, name) else { return false };
        let Ok(map) = self.content(number, super::walk::BITMAP, name) else { return true };
        let mut used = vec![0; map.size().min(1 << 16) as usize];
        if !(512..=65536).contains(&size) || map.read(self.volume(), 0, &mut used).is_err() {
            return true;
        }
        let mut block = vec![0; size as usize];
        (0..blocks.size() / size).filter(|at| used.get((at / 8) as usize).is_some_and(|byte| byte >> (at % 8) & 1 == 1)).any(|at| {
            let read = blocks.read(self.volume(), at * size, &mut block).is_ok();
            !read || super::fixed(block.clone(), b"INDX").is_none_or(|block| !is_node(&block, 24))
        })
    }
}

/// Whether the entries of a node whose header stands at `at` follow each other to the last one.
fn is_node(node: &[u8], at: usize) -> bool {
    let mut place = at.saturating_add(le32(node, at) as usize);
    let end = at.saturating_add(le32(node, at + 4) as usize);
    let room = at.saturating_add(le32(node, at + 8) as usize);
    if end > room || room > node.len() || !place.is_multiple_of(8) {
        return false;
    }
    while place + 16 <= end {
        let (len, flags) = (usize::from(le16(node, place + 8)), le16(node, place + 12));
        let (data_at, data_len, key) = (usize::from(le16(node, place)), usize::from(le16(node, place + 2)), usize::from(le16(node, place + 10)));
        if len < 16 || !len.is_multiple_of(8) || place + len > end || flags & 2 == 0 && (16 + key > len || data_at + data_len > len) {
            return false;
        }
        if flags & 2 != 0 {
            return true;
        }
        place += len;
    }
    false
}
