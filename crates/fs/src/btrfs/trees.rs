//! The trees of btrfs: where a place of the volume lies on the drive, nodes and leaves, items by their keys.

use super::superblock::SuperBlock;
use crate::cached::Cached;
use crate::finding::{Finding, Result};
use badger_drive::field::{le16, le32, le64};
use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;
use std::sync::{Arc, Mutex};

/// Object, kind of item, offset: items lie in this order.
pub(super) type Key = (u64, u8, u64);

pub(super) const LAST: Key = (u64::MAX, u8::MAX, u64::MAX);
const CHUNK: u8 = 228;
/// Chunks that lie on a drive one byte after the other: alone, or as copies of each other.
const COPIES: u64 = 0x20 | 0x10 | 0x200 | 0x400;
const STRIPES: u64 = 0x8 | 0x40 | 0x80 | 0x100;
const HEAD: usize = 101;
/// Levels of a tree.
const MOST_LEVEL: u8 = 7;
/// Bytes of nodes that are held.
const MOST_HELD: u64 = 32 << 20;
/// So many chunks are held: of the smallest ones, as many as 4 TiB have.
const MOST_CHUNKS: usize = 1 << 20;
/// Copies of a chunk at the most.
const MOST_COPIES: usize = 4;

/// Where a tree begins: place, level, and when it was written.
pub(super) type Root = (u64, u8, u64);

/// A stretch of places of the volume, and where its copies lie on this drive.
struct Chunk {
    len: u64,
    copies: Vec<u64>,
    /// It is spread over several drives, or lies on others.
    spread: bool,
}

impl Chunk {
    fn read(item: &[u8], device: u64) -> Self {
        let (len, kind, count) = (le64(item, 0), le64(item, 24), usize::from(le16(item, 44)));
        let stripes = item.get(48..).unwrap_or_default().as_chunks::<32>().0.iter().take(count);
        let own = stripes.filter(|stripe| le64(&stripe[..], 0) == device).map(|stripe| le64(stripe, 8));
        let copies: Vec<u64> = own.take(MOST_COPIES).collect();
        let spread = copies.is_empty() || count > 1 && (kind & STRIPES != 0 || kind & COPIES == 0);
        Self { len, copies, spread }
    }
}

/// A node that is whole: its keys are in order, and every item lies within it.
pub(super) struct Node {
    bytes: Vec<u8>,
    level: u8,
    count: usize,
}

impl Node {
    fn key(&self, slot: usize) -> Key {
        let at = HEAD + slot * if self.level == 0 { 25 } else { 33 };
        (le64(&self.bytes, at), self.bytes[at + 8], le64(&self.bytes, at + 9))
    }

    /// Of an inner node, where a slot leads, and when that was written.
    fn child(&self, slot: usize) -> (u64, u64) {
        let at = HEAD + slot * 33 + 17;
        (le64(&self.bytes, at), le64(&self.bytes, at + 8))
    }

    fn item(&self, slot: usize) -> &[u8] {
        let at = HEAD + slot * 25 + 17;
        let start = HEAD + le32(&self.bytes, at) as usize;
        &self.bytes[start..start + le32(&self.bytes, at + 4) as usize]
    }

    /// The first slot whose key is not below this one.
    fn slot(&self, key: Key) -> usize {
        let (mut low, mut high) = (0, self.count);
        while low < high {
            let middle = low.midpoint(high);
            if self.key(middle) < key { low = middle + 1 } else { high = middle }
        }
        low
    }
}

/// All that is needed to find items.
pub(super) struct Trees {
    pub volume: Cached,
    pub sb: SuperBlock,
    chunks: BTreeMap<u64, Chunk>,
    held: Mutex<HashMap<u64, Arc<Node>>>,
}

fn damaged(what: impl std::fmt::Display) -> Finding {
    Finding::new("btrfs-tree", format!("a node of a tree is damaged: {what}"))
}

impl Trees {
    /// Reads where everything lies.
    ///
    /// # Errors
    /// A finding where the super block or the tree of chunks is damaged.
    pub fn open(volume: Cached) -> Result<Self> {
        let sb = SuperBlock::find(&|at, len| volume.read(at, len).ok())?;
        let mut trees = Self { volume, sb, chunks: BTreeMap::new(), held: Mutex::default() };
        let first = trees.sb.first.clone();
        let mut at = 0;
        while let Some(head) = first.get(at..at + 17 + 48) {
            let len = 48 + usize::from(le16(head, 17 + 44)) * 32;
            let chunk = first.get(at + 17..at + 17 + len).ok_or_else(|| damaged("the first chunks are cut off"))?;
            trees.chunks.insert(le64(head, 9), Chunk::read(chunk, trees.sb.device));
            at += 17 + len;
        }
        let mut all = Vec::new();
        trees.each(trees.sb.chunks, ((0, 0, 0), LAST), &mut |key, item| {
            if key.1 == CHUNK && all.len() < MOST_CHUNKS {
                all.push((key.2, Chunk::read(item, trees.sb.device)));
            }
            ControlFlow::Continue(())
        })?;
        trees.chunks.extend(all);
        Ok(trees)
    }

    /// Where a stretch of the volume's own places lies on this drive, once for each copy, and how much of it lies there in one piece.
    pub fn copies(&self, at: u64, len: u64) -> Result<(Vec<u64>, u64)> {
        let (start, chunk) = self.chunks.range(..=at).next_back().ok_or_else(|| nowhere(at))?;
        let inner = at - start;
        let here = chunk.len.checked_sub(inner).filter(|here| *here > 0).ok_or_else(|| nowhere(at))?.min(len);
        if chunk.spread {
            let text = format!("part of it lies on another drive of the {} that the volume has", self.sb.devices);
            return Err(Finding::new("btrfs-drives", text));
        }
        let is_inside = |copy: &u64| copy.checked_add(here).is_some_and(|end| end <= self.volume.len());
        let copies: Vec<u64> = chunk.copies.iter().filter_map(|copy| copy.checked_add(inner)).filter(is_inside).collect();
        if copies.is_empty() { Err(nowhere(at)) } else { Ok((copies, here)) }
    }

    /// A node that is whole, of whichever copy.
    fn node(&self, (place, level, written): Root) -> Result<Arc<Node>> {
        if let Some(node) = self.held.lock().expect("node lock").get(&place) {
            return if node.level == level { Ok(node.clone()) } else { Err(damaged("its level")) };
        }
        let (copies, here) = self.copies(place, self.sb.node)?;
        if here < self.sb.node {
            return Err(nowhere(place));
        }
        let mut wrong = nowhere(place);
        for copy in copies {
            match self.volume.read(copy, self.sb.node as usize).and_then(|bytes| self.checked(bytes, (place, level, written))) {
                Ok(node) => {
                    let node = Arc::new(node);
                    let mut held = self.held.lock().expect("node lock");
                    if held.len() as u64 * self.sb.node >= MOST_HELD {
                        held.clear();
                    }
                    held.insert(place, node.clone());
                    return Ok(node);
                }
                Err(finding) => wrong = finding.at(copy),
            }
        }
        Err(wrong)
    }

    fn checked(&self, bytes: Vec<u8>, (place, level, written): Root) -> Result<Node> {
        if !self.sb.sum.is_right(&bytes[32..], &bytes) {
            return Err(damaged("its checksum is wrong"));
        }
        if le64(&bytes, 48) != place || bytes[32..48] != self.sb.id || bytes[100] != level || level > MOST_LEVEL {
            return Err(damaged("it is another one"));
        }
        if le64(&bytes, 80) != written {
            return Err(damaged("it is older, or newer, than what leads to it"));
        }
        let count = le32(&bytes, 96) as usize;
        let each = if level == 0 { 25 } else { 33 };
        if count.checked_mul(each).is_none_or(|len| HEAD + len > bytes.len()) {
            return Err(damaged("the number of its entries"));
        }
        let node = Node { bytes, level, count };
        if (1..count).any(|slot| node.key(slot) <= node.key(slot - 1)) {
            return Err(damaged("its keys are out of order"));
        }
        // Items lie from the end backward, none over another: what is read of a node is never more than it has.
        let place = |slot: usize| {
            let at = HEAD + slot * 25 + 17;
            let start = HEAD as u64 + u64::from(le32(&node.bytes, at));
            start..start + u64::from(le32(&node.bytes, at + 4))
        };
        let behind = |slot: usize| slot.checked_sub(1).map_or(node.bytes.len() as u64, |before| place(before).start);
        if level == 0 && (0..count).any(|slot| place(slot).end > behind(slot)) {
            return Err(damaged("an item lies out of it, or over another one"));
        }
        Ok(node)
    }

    /// Every item from one key on, to another one, in their order, until `each` has enough.
    pub fn each(&self, root: Root, (from, to): (Key, Key), each: &mut dyn FnMut(Key, &[u8]) -> ControlFlow<()>) -> Result<()> {
        self.below(root, None, (from, to), each).map(|_| ())
    }

    /// What is below a node, whose keys all lie from `span` on: what does not begin where it was said to cannot be met twice.
    fn below(
        &self,
        root: Root,
        span: Option<(Key, Key)>,
        wanted: (Key, Key),
        each: &mut dyn FnMut(Key, &[u8]) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>> {
        let node = self.node(root)?;
        if let Some((first, end)) = span
            && (node.count == 0 || node.key(0) != first || node.key(node.count - 1) >= end)
        {
            return Err(damaged("it holds other keys than what leads to it says"));
        }
        let mut slot = node.slot(wanted.0);
        if node.level > 0 && (slot == node.count || node.key(slot) > wanted.0) {
            // What is wanted may begin within the one before.
            slot = slot.saturating_sub(1);
        }
        for slot in slot..node.count {
            let key = node.key(slot);
            if key > wanted.1 {
                break;
            }
            if node.level == 0 {
                if each(key, node.item(slot)).is_break() {
                    return Ok(ControlFlow::Break(()));
                }
                continue;
            }
            let end = if slot + 1 < node.count { node.key(slot + 1) } else { span.map_or(LAST, |(_, end)| end) };
            let (place, written) = node.child(slot);
            if self.below((place, node.level - 1, written), Some((key, end)), wanted, each)?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        Ok(ControlFlow::Continue(()))
    }

    /// The item with just this key.
    pub fn find(&self, root: Root, key: Key) -> Result<Option<Vec<u8>>> {
        let mut found = None;
        self.each(root, (key, key), &mut |_, item| {
            found = Some(item.to_vec());
            ControlFlow::Break(())
        })?;
        Ok(found)
    }

    /// The last key that is not above this one, with the item.
    pub fn last(&self, root: Root, key: Key) -> Result<Option<(Key, Vec<u8>)>> {
        let mut node = self.node(root)?;
        loop {
            let slot = node.slot(key);
            let exact = slot < node.count && node.key(slot) == key;
            let Some(slot) = slot.checked_sub(usize::from(!exact)) else { return Ok(None) };
            if node.level == 0 {
                return Ok(Some((node.key(slot), node.item(slot).to_vec())));
            }
            let (place, written) = node.child(slot);
            let below = self.node((place, node.level - 1, written))?;
            if below.count == 0 || below.key(0) != node.key(slot) {
                return Err(damaged("it holds other keys than what leads to it says"));
            }
            node = below;
        }
    }
}

fn nowhere(at: u64) -> Finding {
    Finding::new("btrfs-chunks", format!("nothing says where place {at} of the volume lies"))
}
