//! An ext volume of another size is written: what lay in the way or beyond the end is led elsewhere, inodes of dropped groups
//! get other numbers, and every structure that tells places or numbers is written anew with its checksum.

mod groups;
mod maps;
mod names;
mod quota;

use super::checksum;
use super::inode::Inode;
use super::{ATTRIBUTE_INODES, ATTRIBUTES, EXTENTS, Ext, INLINE, INODES_UNWRITTEN, RESIZE, RESIZE_INODE, ROOT};
use crate::bits::Bits;
use crate::finding::{Finding, Result};
use crate::node::NodeKind;
use crate::resize::{Relocation, View, refused};
use badger_drive::field::{le16, le32};
use std::collections::{HashMap, HashSet};
use std::ops::Range;

/// A stretch of a file: its first block, where it lies, how long it is, and whether it was only set aside.
pub(super) type Extent = (u64, u64, u64, bool);

pub(super) fn set(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes[at..at + value.len()].copy_from_slice(value);
}

pub(super) fn set32(bytes: &mut [u8], at: usize, value: u32) {
    set(bytes, at, &value.to_le_bytes());
}

pub(super) fn set16(bytes: &mut [u8], at: usize, value: u16) {
    set(bytes, at, &value.to_le_bytes());
}

/// A volume while it is written anew.
pub(super) struct Change<'a> {
    pub(super) fs: &'a Ext,
    /// The volume as it will be, as far as places go.
    pub(super) new: Ext,
    pub(super) groups: usize,
    pub(super) view: View,
    pub(super) moves: Relocation,
    /// Inodes in use, by their new numbers.
    pub(super) inode_bits: Bits,
    /// Old numbers of inodes that got another one.
    pub(super) numbers: HashMap<u32, u32>,
    /// Directories in each group.
    pub(super) directories: HashMap<usize, u32>,
    /// Blocks of attributes that were dealt with.
    pub(super) attributes: HashSet<u64>,
    /// Units of the new volume.
    pub(super) room: Range<u64>,
    /// What owners use more or less than before.
    pub(super) charged: quota::Charged,
    /// So many block numbers may still be met in maps: no volume has more than blocks.
    pub(super) budget: u64,
}

impl Change<'_> {
    fn short(&self) -> Finding {
        refused("volume-too-small", "there is too little room for the lists of where its files lie")
    }

    /// Where a block went.
    fn moved(&self, block: u64) -> Result<u64> {
        let ratio = self.fs.ratio();
        let place =
            self.moves.place(block / ratio).ok_or_else(|| Finding::new("ext-outside", format!("block {block} is used by a file, but free")))?;
        Ok(place * ratio + block % ratio)
    }

    /// Where a stretch of blocks went, in its order.
    fn moved_all(&self, blocks: Range<u64>) -> Vec<Range<u64>> {
        let ratio = self.fs.ratio();
        if ratio == 1 {
            return self.moves.run(blocks);
        }
        let mut out: Vec<Range<u64>> = Vec::new();
        let mut at = blocks.start;
        while at < blocks.end {
            let stop = blocks.end.min((at / ratio + 1) * ratio);
            let Some(place) = self.moves.place(at / ratio) else { break };
            let first = place * ratio + at % ratio;
            match out.last_mut() {
                Some(last) if last.end == first => last.end += stop - at,
                _ => out.push(first..first + (stop - at)),
            }
            at = stop;
        }
        out
    }

    fn number(&self, old: u32) -> u32 {
        self.numbers.get(&old).copied().unwrap_or(old)
    }

    pub(super) fn all(mut self) -> Result<View> {
        let used = self.fs.used_inodes()?;
        self.renumber(&used)?;
        let first_own = self.fs.first_own();
        for old in used.ranges().flatten() {
            let inode = self.fs.inode(old as u32)?;
            let number = self.number(inode.number);
            self.inode_bits.set(u64::from(number)..u64::from(number) + 1);
            if number == RESIZE {
                continue;
            }
            let special = inode.number < first_own && inode.number != ROOT;
            if !(special && inode.mode() == 0 && inode.bytes[40..100].iter().all(|byte| *byte == 0)) {
                self.inode(inode, number, special)?;
            }
        }
        if self.fs.features[0] & RESIZE_INODE != 0 {
            self.resize_inode()?;
        }
        self.quotas()?;
        let free = self.maps()?;
        self.super_blocks(&free)?;
        self.view.finish()
    }

    /// Gives inodes of dropped groups other numbers.
    fn renumber(&mut self, used: &Bits) -> Result<()> {
        let per_group = self.fs.inodes_per_group;
        let limit = u64::from(self.new.inodes);
        let last = u64::from(self.fs.inodes);
        let mut homeless = used.ranges().flat_map(|range| range.start.max(limit + 1)..range.end.min(last + 1)).peekable();
        let first_own = u64::from(self.fs.first_own());
        for group in 0..self.groups {
            if homeless.peek().is_none() {
                return Ok(());
            }
            let first = group as u64 * u64::from(per_group) + 1;
            if self.new.groups[group].flags & INODES_UNWRITTEN != 0 {
                // Its table comes into use; what stands there is nobody's.
                self.new.groups[group].flags &= !INODES_UNWRITTEN;
                let at = self.new.groups[group].inode_table * self.fs.block;
                self.view.fix(at..at + self.fs.table_blocks() * self.fs.block);
            }
            for number in (first.max(first_own)..first + u64::from(per_group)).filter(|number| !used.has(*number)) {
                let Some(old) = homeless.next() else { return Ok(()) };
                self.numbers.insert(old as u32, number as u32);
            }
        }
        match homeless.next() {
            None => Ok(()),
            Some(_) => Err(self.short()),
        }
    }

    fn place_of(&self, number: u32) -> Result<u64> {
        let gone = || Finding::new("ext-inode", format!("inode {number}: there is none of that number"));
        let before = number.checked_sub(1).ok_or_else(gone)?;
        let (group, index) = (before / self.fs.inodes_per_group, before % self.fs.inodes_per_group);
        let group = self.new.groups.get(group as usize).ok_or_else(gone)?;
        Ok(group.inode_table * self.fs.block + u64::from(index) * self.fs.inode_size)
    }

    fn sealed(&self, number: u32, bytes: &mut [u8]) {
        let Some(seed) = self.fs.seed_of(&Inode { number, bytes: bytes.to_vec() }) else { return };
        let (sum, wide) = checksum::inode(seed, bytes);
        set16(bytes, 124, sum as u16);
        if wide {
            set16(bytes, 130, (sum >> 16) as u16);
        }
    }

    fn write_inode(&mut self, number: u32, mut bytes: Vec<u8>, old: &[u8], moved: bool) -> Result<()> {
        if bytes != old || moved {
            self.sealed(number, &mut bytes);
            let at = self.place_of(number)?;
            self.view.write(at, &bytes)?;
        }
        Ok(())
    }

    fn inode(&mut self, old: Inode, number: u32, special: bool) -> Result<()> {
        let fs = self.fs;
        let mut bytes = old.bytes.clone();
        let moved = number != old.number;
        let seed = fs.seed_of(&Inode { number, bytes: bytes.clone() });
        let holds = matches!(old.mode() >> 12, 4 | 8) || old.kind() == NodeKind::Link && old.size() >= 60 || special;
        let inline = old.flags() & INLINE != 0;
        if holds && !inline {
            if old.flags() & EXTENTS != 0 { self.extents(&old, &mut bytes, seed)? } else { self.block_map(&mut bytes)? }
        }
        if let Some(block) = fs.attribute_block(&old) {
            let to = self.attribute_block(block)?;
            set32(&mut bytes, 104, to as u32);
            if to >> 32 != 0 || le16(&bytes, 118) != 0 {
                set16(&mut bytes, 118, (to >> 32) as u16);
            }
        }
        if fs.features[1] & ATTRIBUTE_INODES != 0 && bytes.len() > 132 {
            let start = 128 + usize::from(le16(&bytes, 128));
            if bytes.get(start..start + 4).is_some_and(|mark| le32(mark, 0) == ATTRIBUTES) {
                self.attribute_numbers(&mut bytes, start + 4);
            }
        }
        if old.kind() == NodeKind::Directory {
            *self.directories.entry(((number - 1) / fs.inodes_per_group) as usize).or_default() += 1;
            if !self.numbers.is_empty() {
                if inline { self.inline_directory(&mut bytes) } else { self.directory(&old, seed, moved)? }
            }
        }
        if old.number == le32(&fs.sb, 0x280) && fs.features[0] & 0x1000 != 0 {
            self.orphan_file(&old, seed)?;
        }
        self.write_inode(number, bytes, &old.bytes, moved)
    }
}
