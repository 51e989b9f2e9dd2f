//! The index of a directory: a B-tree of names in the record itself and in blocks beside it.

use super::fixed;
use super::walk::{BITMAP, INDEX_BLOCKS, INDEX_ROOT, MOST_DIRECTORY, Ntfs};
use crate::bits::Bits;
use crate::finding::{Finding, Result};
use crate::tree::Volume;
use badger_drive::field::{le16, le32, le64};
use std::cmp::Ordering;

/// One key of an index: the record it leads to, its name, the kind of name, and the block below it.
struct Key {
    reference: u64,
    name: Vec<u16>,
    dos: bool,
    below: Option<u64>,
    last: bool,
}

/// What an index holds.
pub(super) struct Index {
    /// References to records and names, without those of the DOS kind.
    pub entries: Vec<(u64, Vec<u16>)>,
    /// References and names of the DOS kind.
    pub short: Vec<(u64, Vec<u16>)>,
    pub findings: Vec<Finding>,
}

/// Takes the keys out of a node whose header stands at `at`; false where it is damaged.
fn keys(node: &[u8], at: usize, found: &mut Vec<Key>) -> bool {
    let mut place = at.saturating_add(le32(node, at) as usize);
    let end = at.saturating_add(le32(node, at + 4) as usize);
    let room = at.saturating_add(le32(node, at + 8) as usize);
    if end > room || room > node.len() || place < at + 16 {
        return false;
    }
    while place + 16 <= end {
        let (len, key, flags) = (usize::from(le16(node, place + 8)), usize::from(le16(node, place + 10)), le16(node, place + 12));
        if len < 16 || !len.is_multiple_of(8) || place + len > end {
            return false;
        }
        let below = (flags & 1 != 0 && len >= 24).then(|| le64(node, place + len - 8));
        let last = flags & 2 != 0;
        let mut one = Key { reference: le64(node, place), name: Vec::new(), dos: false, below, last };
        if !last {
            let Some(name) = node
                .get(place + 16..place + 16 + key)
                .filter(|name| 16 + key <= len && name.len() >= 66 && 66 + usize::from(name[64]) * 2 <= name.len())
            else {
                return false;
            };
            one.name = name[66..][..usize::from(name[64]) * 2].chunks_exact(2).map(|unit| u16::from_le_bytes([unit[0], unit[1]])).collect();
            one.dos = name[65] == 2;
        }
        found.push(one);
        if last {
            return true;
        }
        place += len;
    }
    false
}

impl Ntfs {
    /// The order of names: by upper case, then as they are.
    fn order(&self, a: &[u16], b: &[u16]) -> Ordering {
        let upper = |unit: &u16| self.upper(*unit);
        a.iter().map(upper).cmp(b.iter().map(upper)).then_with(|| a.cmp(b))
    }

    /// Reads the index of a directory; `with_order` also checks the order of its names. Blocks that no key leads to, but the index's map calls used, are read as well.
    pub(super) fn index(&self, directory: u64, with_order: bool) -> Result<Index> {
        let broken = |what: &str| Finding::new("ntfs-index", format!("the index of record {directory}: {what}"));
        let mut index = Index { entries: Vec::new(), short: Vec::new(), findings: Vec::new() };
        let root = self.content(directory, INDEX_ROOT, "$I30")?;
        let mut bytes = vec![0; root.size().min(1 << 16) as usize];
        root.read(self.volume(), 0, &mut bytes)?;
        let mut found = Vec::new();
        let mut sound = keys(&bytes, 16, &mut found);
        let blocks = self.content(directory, INDEX_BLOCKS, "$I30").ok();
        let size = u64::from(le32(&bytes, 8));
        if blocks.is_some() && !(512..=65536).contains(&size) {
            return Err(broken("its blocks have no size"));
        }
        let count = blocks.as_ref().map_or(0, |blocks| blocks.size().min(MOST_DIRECTORY) / size);
        let used = self.blocks_in_use(directory, count, &mut index.findings)?;
        if let Some(blocks) = &blocks {
            self.volume().expect(blocks.pieces().iter().filter_map(|piece| Some((piece.at?, piece.len))));
        }
        // A block's number counts clusters, or sectors where a block is smaller than a cluster.
        let step = if size < self.cluster { 512 } else { self.cluster };
        let mut seen = Bits::new(count);
        let block = |number: u64, findings: &mut Vec<Finding>, found: &mut Vec<Key>| {
            let mut bytes = vec![0; size as usize];
            let read = blocks.as_ref().map(|blocks| blocks.read(self.volume(), number * size, &mut bytes));
            let right = matches!(read, Some(Ok(count)) if count as u64 == size);
            match fixed(bytes, b"INDX").filter(|block| right && le64(block, 16).checked_mul(step) == Some(number * size)) {
                Some(block) => keys(&block, 24, found),
                None => {
                    findings.push(broken(&format!("block {number} is damaged")));
                    true
                }
            }
        };
        // In order: what lies below a key comes before it.
        let mut stack: Vec<std::vec::IntoIter<Key>> = vec![found.into_iter()];
        let mut waiting: Vec<Option<Key>> = vec![None];
        let mut before: Option<Vec<u16>> = None;
        let mut rising = true;
        while let (Some(keys), Some(held)) = (stack.last_mut(), waiting.last_mut()) {
            let Some(mut key) = held.take().or_else(|| keys.next()) else {
                stack.pop();
                waiting.pop();
                continue;
            };
            if let Some(below) = key.below.take() {
                let number = below.checked_mul(step).filter(|at| at.is_multiple_of(size)).map_or(u64::MAX, |at| at / size);
                *held = Some(key);
                if number >= count || seen.set(number..number + 1).is_some() || stack.len() > 64 {
                    index.findings.push(broken("a key leads to a block that is none of its own"));
                    continue;
                }
                let mut found = Vec::new();
                sound &= block(number, &mut index.findings, &mut found);
                stack.push(found.into_iter());
                waiting.push(None);
                continue;
            }
            if key.last {
                continue;
            }
            if with_order {
                rising &= before.as_ref().is_none_or(|before| self.order(before, &key.name) == Ordering::Less);
                before = Some(key.name.clone());
            }
            if key.dos { index.short.push((key.reference, key.name)) } else { index.entries.push((key.reference, key.name)) }
        }
        for number in used.without(&seen).flatten().collect::<Vec<_>>() {
            let mut found = Vec::new();
            if !block(number, &mut Vec::new(), &mut found) || found.iter().all(|key| key.last) {
                continue;
            }
            index.findings.push(broken(&format!("no key leads to block {number}, which is in use")));
            found.into_iter().filter(|key| !key.last && !key.dos).for_each(|key| index.entries.push((key.reference, key.name)));
        }
        let faults = [(sound, "a node is damaged"), (rising, "its names are not in order")];
        index.findings.extend(faults.iter().filter(|(is_right, _)| !is_right).map(|(_, what)| broken(what)));
        Ok(index)
    }

    /// Which of so many blocks of a directory's index are in use.
    fn blocks_in_use(&self, directory: u64, count: u64, findings: &mut Vec<Finding>) -> Result<Bits> {
        let mut used = Bits::new(count);
        match self.content(directory, BITMAP, "$I30") {
            Ok(map) => {
                let mut bytes = vec![0; map.size().min(count.div_ceil(8)) as usize];
                map.read(self.volume(), 0, &mut bytes)?;
                used.load(0..count, &bytes);
            }
            Err(_) if count > 0 => {
                used.set(0..count);
                findings.push(Finding::new("ntfs-index", format!("the index of record {directory}: its map of blocks is missing")));
            }
            Err(_) => {}
        }
        Ok(used)
    }
}
