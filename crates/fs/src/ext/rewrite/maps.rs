//! Extent trees and block maps, leading to where their stretches went.

use super::super::HUGE;
use super::super::checksum::crc32c;
use super::super::inode::Inode;
use super::{Change, Extent, set, set16, set32};
use crate::finding::{Finding, Result};
use badger_drive::field::{le16, le32};

impl Change<'_> {
    /// The blocks of an inode that has an extent tree.
    pub(super) fn extents(&mut self, old: &Inode, bytes: &mut [u8], seed: Option<u32>) -> Result<()> {
        let fs = self.fs;
        let (mut all, mut tree) = (Vec::new(), Vec::new());
        fs.collect(&old.bytes[40..100], &mut all, &mut tree, 5)?;
        let mut moved: Vec<Extent> = Vec::with_capacity(all.len());
        for &(logical, physical, len, unwritten) in &all {
            let mut at = logical;
            let pieces = self.moved_all(physical..physical + len);
            if pieces.iter().map(|piece| piece.end - piece.start).sum::<u64>() != len {
                return Err(Finding::new("ext-outside", format!("inode {} lies on blocks that are free", old.number)));
            }
            for piece in pieces {
                moved.push((at, piece.start, piece.end - piece.start, unwritten));
                at += piece.end - piece.start;
            }
        }
        if moved.len() == all.len() {
            let mut next = moved.iter();
            return self.lead_on(&mut bytes[40..100], seed, &mut next);
        }
        let before = tree.len() as u64;
        let mut free: Vec<u64> = tree.iter().map(|block| self.moved(*block)).collect::<Result<_>>()?;
        free.reverse();
        let root = self.build(&moved, &mut free, seed)?;
        set(bytes, 40, &root.0);
        // Blocks of the old tree that are not needed are free.
        for block in free {
            self.moves.release(block / fs.ratio());
        }
        if root.1 != before {
            self.charge(old, (root.1 as i64 - before as i64) * (fs.block * fs.ratio()) as i64)?;
            let unit = if old.flags() & HUGE != 0 { 1 } else { fs.block / 512 } * fs.ratio();
            let said = u64::from(le32(bytes, 28)) | u64::from(le16(bytes, 116)) << 32;
            let now = said + root.1 * unit - before * unit;
            set32(bytes, 28, now as u32);
            if now >> 32 != 0 || le16(bytes, 116) != 0 {
                set16(bytes, 116, (now >> 32) as u16);
            }
        }
        Ok(())
    }

    /// Leads the entries of a tree that keeps its shape.
    pub(super) fn lead_on(&mut self, node: &mut [u8], seed: Option<u32>, next: &mut std::slice::Iter<Extent>) -> Result<()> {
        let fs = self.fs;
        let (count, depth) = (usize::from(le16(node, 2)), le16(node, 6));
        for slot in 0..count {
            let at = 12 + slot * 12;
            if depth == 0 {
                let Some((_, physical, ..)) = next.next() else { return Ok(()) };
                set32(node, at + 8, *physical as u32);
                set16(node, at + 6, (physical >> 32) as u16);
                continue;
            }
            let child = u64::from(le32(node, at + 4)) | u64::from(le16(node, at + 8)) << 32;
            let old = fs.volume.read(child * fs.block, fs.block as usize)?;
            let mut bytes = old.clone();
            self.lead_on(&mut bytes, seed, next)?;
            self.write_node(child, &old, bytes, seed)?;
            let to = self.moved(child)?;
            set32(node, at + 4, to as u32);
            set16(node, at + 8, (to >> 32) as u16);
        }
        Ok(())
    }

    pub(super) fn seal_node(bytes: &mut [u8], seed: Option<u32>) {
        let tail = 12 + usize::from(le16(bytes, 4)) * 12;
        if let Some(seed) = seed.filter(|_| tail + 4 <= bytes.len()) {
            let sum = crc32c(seed, &bytes[..tail]);
            set32(bytes, tail, sum);
        }
    }

    pub(super) fn write_node(&mut self, block: u64, old: &[u8], mut bytes: Vec<u8>, seed: Option<u32>) -> Result<()> {
        Self::seal_node(&mut bytes, seed);
        if bytes != old {
            let to = self.moved(block)?;
            self.view.write(to * self.fs.block, &bytes)?;
        }
        Ok(())
    }

    /// Builds a tree over extents; `free` has blocks of the old one. Gives the 60 bytes of the root and the number of blocks.
    pub(super) fn build(&mut self, all: &[Extent], free: &mut Vec<u64>, seed: Option<u32>) -> Result<([u8; 60], u64)> {
        let block = self.fs.block as usize;
        let most = (block - 12) / 12;
        let mut entries: Vec<[u8; 12]> = all
            .iter()
            .map(|(logical, physical, len, unwritten)| {
                let mut entry = [0; 12];
                set32(&mut entry, 0, *logical as u32);
                set16(&mut entry, 4, *len as u16 + if *unwritten { 32768 } else { 0 });
                set16(&mut entry, 6, (physical >> 32) as u16);
                set32(&mut entry, 8, *physical as u32);
                entry
            })
            .collect();
        let node = |entries: &[[u8; 12]], most: usize, depth: u16, len: usize| {
            let mut bytes = vec![0; len];
            set16(&mut bytes, 0, 0xf30a);
            set16(&mut bytes, 2, entries.len() as u16);
            set16(&mut bytes, 4, most as u16);
            set16(&mut bytes, 6, depth);
            set(&mut bytes, 12, entries.as_flattened());
            bytes
        };
        let (mut depth, mut count) = (0, 0);
        while entries.len() > 4 {
            let mut above = Vec::new();
            for part in entries.chunks(most) {
                let at = match free.pop() {
                    Some(at) => at,
                    None => self.moves.take_whole(1).ok_or_else(|| self.short())? * self.fs.ratio(),
                };
                count += 1;
                let mut bytes = node(part, most, depth, block);
                Self::seal_node(&mut bytes, seed);
                self.view.write(at * self.fs.block, &bytes)?;
                let mut entry = [0; 12];
                set(&mut entry, 0, &part[0][..4]);
                set32(&mut entry, 4, at as u32);
                set16(&mut entry, 8, (at >> 32) as u16);
                above.push(entry);
            }
            entries = above;
            depth += 1;
        }
        let root = node(&entries, 4, depth, 60);
        Ok((std::array::from_fn(|at| root[at]), count))
    }

    /// The block numbers of an inode of the old kind.
    pub(super) fn block_map(&mut self, bytes: &mut [u8]) -> Result<()> {
        for slot in 0..15 {
            let at = 40 + slot * 4;
            let block = le32(bytes, at);
            if block != 0 {
                let to = self.indirect(block, slot.saturating_sub(11) as u32)?;
                set32(bytes, at, to);
            }
        }
        Ok(())
    }

    /// Leads a block, and what the block names where it is an indirect one of a level. Gives its new number.
    pub(super) fn indirect(&mut self, block: u32, level: u32) -> Result<u32> {
        let fs = self.fs;
        let to = self.moved(u64::from(block))?;
        self.budget = self.budget.checked_sub(1).ok_or_else(|| Finding::new("ext-map", "the maps of its files name more blocks than there are"))?;
        if level > 0 {
            let old = fs.volume.read(u64::from(block) * fs.block, fs.block as usize)?;
            let mut bytes = old.clone();
            for at in (0..bytes.len()).step_by(4) {
                let below = le32(&bytes, at);
                if below != 0 {
                    let to = self.indirect(below, level - 1)?;
                    set32(&mut bytes, at, to);
                }
            }
            if bytes != old {
                self.view.write(to * fs.block, &bytes)?;
            }
        }
        Ok(to as u32)
    }
}
