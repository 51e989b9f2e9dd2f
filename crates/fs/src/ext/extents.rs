//! Where the content of an inode lies: extent trees and block maps.

use super::inode::Inode;
use super::{EXTENTS, Ext, MOST_LEVELS};
use crate::finding::{Finding, Result};
use crate::node::Piece;
use badger_drive::field::{le16, le32};
use std::collections::HashSet;
use std::ops::Range;

/// The nodes of block maps that were read: none leads to another twice, and there are no more than the volume has blocks.
pub(super) struct Walked {
    pub(super) seen: HashSet<u64>,
    /// Pieces of a file at the most.
    pub(super) most: usize,
}

impl Walked {
    pub(super) fn new(fs: &Ext) -> Self {
        Self { seen: HashSet::new(), most: (fs.volume.len() / fs.block + 16).min(4 << 20) as usize }
    }

    pub(super) fn enter(&mut self, block: u64) -> Result<()> {
        let twice = || Finding::new("ext-tree-loop", format!("block {block} is a node of the map of two files, or of one twice"));
        self.seen.insert(block).then_some(()).ok_or_else(twice)
    }
}

/// What an extent tree holds: stretches of blocks, and the blocks of the tree itself.
pub(super) enum Held {
    Data(Range<u64>),
    Tree(u64),
}

impl Ext {
    /// Where its content lies by now.
    pub(super) fn pieces_now(&self, inode: &Inode) -> Result<Vec<Piece>> {
        let pieces = self.pieces_of(inode)?;
        Ok(if self.fast.is_empty() { pieces } else { self.fast.pieces(inode.number, pieces, inode.size(), self.block) })
    }

    pub(super) fn pieces_of(&self, inode: &Inode) -> Result<Vec<Piece>> {
        let size = inode.size();
        let (mut map, mut walked): (Vec<(u64, u64, u64)>, _) = (Vec::new(), Walked::new(self));
        if inode.flags() & EXTENTS != 0 {
            self.extents(&inode.bytes[40..100], &mut map, &mut walked, &mut |_, _| {})?;
        } else {
            self.block_map(inode, size, &mut map, &mut walked, &mut |_| {})?;
        }
        map.sort_unstable();
        let (mut pieces, mut at) = (Vec::new(), 0u64);
        for (logical, physical, count) in map {
            let (start, len) = (logical.saturating_mul(self.block), count * self.block);
            if start < at || start >= size {
                continue;
            }
            if start > at {
                pieces.push(Piece { at: None, len: start - at });
            }
            let len = len.min(size - start);
            pieces.push(Piece { at: (physical != 0).then_some(physical * self.block), len });
            at = start + len;
        }
        if at < size {
            pieces.push(Piece { at: None, len: size - at });
        }
        Ok(pieces)
    }

    /// Collects logical block, physical block (0 for one that was set aside but never written) and count. `each` is told
    /// the blocks of the tree itself and every stretch set aside. A tree that the kernel would not follow is damaged: nodes
    /// out of order, beyond what the one above leads to, or longer than they have room for.
    pub(super) fn extents(&self, root: &[u8], map: &mut Vec<(u64, u64, u64)>, walked: &mut Walked, each: &mut dyn FnMut(Held, &[u8])) -> Result<()> {
        self.extent_node(root, MOST_LEVELS, (None, 1 << 32), map, walked, each)
    }

    /// One node; `span` is where its first stretch must begin, if that is known, and where the last one must end.
    pub(super) fn extent_node(
        &self,
        node: &[u8],
        depth_left: u16,
        span: (Option<u64>, u64),
        map: &mut Vec<(u64, u64, u64)>,
        walked: &mut Walked,
        each: &mut dyn FnMut(Held, &[u8]),
    ) -> Result<()> {
        let wrong = |what: &str| Finding::new("ext-extents", format!("a node of the extent tree is damaged: {what}"));
        let (count, limit, depth) = (usize::from(le16(node, 2)), usize::from(le16(node, 4)), le16(node, 6));
        // Up to two places may be left for what stands behind the entries.
        let room = (node.len() - 12) / 12;
        if le16(node, 0) != 0xf30a || depth > depth_left || map.len() > walked.most {
            return Err(wrong("its mark or its depth"));
        }
        if count > limit || limit > room || limit + 2 < room || count == 0 && (depth > 0 || span.0.is_some()) {
            return Err(wrong("the number of its entries"));
        }
        let entries = node[12..12 + count * 12].as_chunks::<12>().0;
        let mut end = 0;
        for (slot, entry) in entries.iter().enumerate() {
            let logical = u64::from(le32(entry, 0));
            if slot == 0 && span.0.is_some_and(|start| start != logical) || slot > 0 && logical < end || logical >= span.1 {
                return Err(wrong("its entries are out of order, or beyond what leads to them"));
            }
            if depth == 0 {
                let raw = le16(entry, 4);
                let unwritten = raw > 32768;
                let count = u64::from(if unwritten { raw - 32768 } else { raw });
                let physical = u64::from(le32(entry, 8)) | u64::from(le16(entry, 6)) << 32;
                end = logical + count;
                if count == 0 || end > span.1 || physical == 0 || physical + count > self.blocks {
                    return Err(wrong("a stretch is empty, or leads out of the volume"));
                }
                each(Held::Data(physical..physical + count), &[]);
                map.push((logical, if unwritten { 0 } else { physical }, count));
            } else {
                end = logical + 1;
                let next = entries.get(slot + 1).map_or(span.1, |next| u64::from(le32(next, 0)));
                let child = u64::from(le32(entry, 4)) | u64::from(le16(entry, 8)) << 32;
                walked.enter(child)?;
                if child == 0 || child >= self.blocks {
                    return Err(wrong("it leads out of the volume"));
                }
                let bytes = self.volume.read(child * self.block, self.block as usize)?;
                each(Held::Tree(child), &bytes);
                // A child must be one level lower, so that a loop cannot go on for ever.
                if u32::from(le16(&bytes, 6)) + 1 != u32::from(depth) {
                    return Err(wrong("its depth"));
                }
                self.extent_node(&bytes, depth - 1, (Some(logical), next), map, walked, each)?;
            }
        }
        Ok(())
    }

    pub(super) fn block_map(
        &self,
        inode: &Inode,
        size: u64,
        map: &mut Vec<(u64, u64, u64)>,
        walked: &mut Walked,
        tree: &mut dyn FnMut(u64),
    ) -> Result<()> {
        let total = size.div_ceil(self.block);
        let mut next = 0u64;
        // Every block can be in a file once; a map that has more pieces than that is none.
        let most = walked.most;
        let mut outside = None;
        let mut add = |physical: u32, next: &mut u64| {
            if map.len() > most {
                return;
            }
            if physical != 0 && !self.is_block(physical) {
                outside.get_or_insert(physical);
            } else if physical != 0 {
                match map.last_mut() {
                    Some((logical, start, count)) if *logical + *count == *next && *start + *count == u64::from(physical) => *count += 1,
                    _ => map.push((*next, u64::from(physical), 1)),
                }
            }
            *next += 1;
        };
        for slot in 0..12 {
            if next < total {
                add(le32(&inode.bytes, 40 + slot * 4), &mut next);
            }
        }
        for level in 1..=3u32 {
            if next < total {
                self.indirect(le32(&inode.bytes, 84 + level as usize * 4), level, total, &mut next, walked, &mut add, tree)?;
            }
        }
        outside.map_or(Ok(()), |block| Err(Finding::new("ext-block-map", format!("it names block {block}, which is none of the volume"))))
    }

    /// Whether a number is that of a block a file may have.
    pub(super) fn is_block(&self, number: u32) -> bool {
        u64::from(number) > self.first_block && u64::from(number) < self.blocks
    }

    #[allow(clippy::too_many_arguments)] // a walk and everything it carries along
    pub(super) fn indirect(
        &self,
        block: u32,
        level: u32,
        total: u64,
        next: &mut u64,
        walked: &mut Walked,
        add: &mut impl FnMut(u32, &mut u64),
        tree: &mut dyn FnMut(u64),
    ) -> Result<()> {
        let per = self.block / 4;
        if block == 0 {
            *next += per.pow(level);
            return Ok(());
        }
        if !self.is_block(block) {
            return Err(Finding::new("ext-block-map", format!("it names block {block}, which is none of the volume")));
        }
        walked.enter(u64::from(block))?;
        let bytes = self.volume.read(u64::from(block) * self.block, self.block as usize)?;
        tree(u64::from(block));
        for entry in bytes.chunks_exact(4) {
            if *next >= total {
                break;
            }
            let below = le32(entry, 0);
            if level == 1 { add(below, next) } else { self.indirect(below, level - 1, total, next, walked, add, tree)? }
        }
        Ok(())
    }
}
