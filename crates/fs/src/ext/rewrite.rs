//! An ext volume of another size is written: what lay in the way or beyond the end is led elsewhere, inodes of dropped groups
//! get other numbers, and every structure that tells places or numbers is written anew with its checksum.

use super::checksum::{self, crc16, crc32c};
use super::{
    ATTRIBUTE_INODES, ATTRIBUTES, CHECKSUMS, DESCRIPTOR_SUMS, EXTENTS, Ext, HUGE, INDEXED, INLINE, INODES_UNWRITTEN, Inode, MOST_DIRECTORY,
    ORPHAN_MARK, RESIZE, RESIZE_INODE, ROOT, WIDE,
};
use crate::bits::Bits;
use crate::content::{FileMap, Form};
use crate::finding::{Finding, Result};
use crate::node::NodeKind;
use crate::resize::{Relocation, View, refused};
use badger_drive::field::{le16, le32};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::ops::Range;

const QUOTA: u32 = 0x100;

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

    /// The blocks of an inode that has an extent tree.
    fn extents(&mut self, old: &Inode, bytes: &mut [u8], seed: Option<u32>) -> Result<()> {
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
            if fs.features[2] & QUOTA != 0 {
                return Err(refused("ext-quota", "it counts what people use, and a list of where a file lies would become longer"));
            }
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
    fn lead_on(&mut self, node: &mut [u8], seed: Option<u32>, next: &mut std::slice::Iter<Extent>) -> Result<()> {
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

    fn seal_node(bytes: &mut [u8], seed: Option<u32>) {
        let tail = 12 + usize::from(le16(bytes, 4)) * 12;
        if let Some(seed) = seed.filter(|_| tail + 4 <= bytes.len()) {
            let sum = crc32c(seed, &bytes[..tail]);
            set32(bytes, tail, sum);
        }
    }

    fn write_node(&mut self, block: u64, old: &[u8], mut bytes: Vec<u8>, seed: Option<u32>) -> Result<()> {
        Self::seal_node(&mut bytes, seed);
        if bytes != old {
            let to = self.moved(block)?;
            self.view.write(to * self.fs.block, &bytes)?;
        }
        Ok(())
    }

    /// Builds a tree over extents; `free` has blocks of the old one. Gives the 60 bytes of the root and the number of blocks.
    fn build(&mut self, all: &[Extent], free: &mut Vec<u64>, seed: Option<u32>) -> Result<([u8; 60], u64)> {
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
    fn block_map(&mut self, bytes: &mut [u8]) -> Result<()> {
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
    fn indirect(&mut self, block: u32, level: u32) -> Result<u32> {
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

    /// Leads a block of attributes, which several files may share. Gives its new number.
    fn attribute_block(&mut self, block: u64) -> Result<u64> {
        let fs = self.fs;
        let to = self.moved(block)?;
        if self.attributes.insert(block) {
            let old = fs.volume.read(block * fs.block, fs.block as usize)?;
            let mut bytes = old.clone();
            if fs.features[1] & ATTRIBUTE_INODES != 0 {
                self.attribute_numbers(&mut bytes, 32);
            }
            if let Some(seed) = fs.seed {
                let sum = checksum::attributes(seed, to, &bytes);
                set32(&mut bytes, 16, sum);
            }
            if bytes != old {
                self.view.write(to * fs.block, &bytes)?;
            }
        }
        Ok(to)
    }

    /// Numbers of inodes that hold long values of attributes.
    fn attribute_numbers(&self, bytes: &mut [u8], mut at: usize) {
        while let Some(entry) = bytes.get(at..at + 16).filter(|entry| entry[..4] != [0; 4]) {
            let (number, len) = (le32(entry, 4), usize::from(entry[0]));
            if number != 0 {
                set32(bytes, at + 4, self.number(number));
            }
            at += (16 + len + 3) & !3;
        }
    }

    /// Gives the entries of a stretch of a directory their inodes' new numbers.
    fn entries(&self, bytes: &mut [u8]) {
        let mut at = 0;
        while at + 8 <= bytes.len() {
            let len = usize::from(le16(bytes, at + 4));
            let len = if len == 65535 || len == 0 && self.fs.block == 65536 { 65536 } else { len };
            let number = le32(bytes, at);
            if number != 0 {
                set32(bytes, at, self.number(number));
            }
            if len < 8 {
                break;
            }
            at += len;
        }
    }

    fn inline_directory(&self, bytes: &mut [u8]) {
        let above = le32(bytes, 40);
        set32(bytes, 40, self.number(above));
        self.entries(&mut bytes[44..100]);
        let start = 128 + usize::from(le16(bytes, 128));
        if bytes.len() <= 132 || le32(bytes, start) != ATTRIBUTES {
            return;
        }
        let mut at = start + 4;
        while let Some(entry) = bytes.get(at..at + 16).filter(|entry| entry[..4] != [0; 4]) {
            let (name_len, index) = (usize::from(entry[0]), entry[1]);
            let (value, len) = (start + 4 + usize::from(le16(entry, 2)), le32(entry, 8) as usize);
            if index == 7 && bytes.get(at + 16..at + 16 + name_len) == Some(b"data") && value + len <= bytes.len() {
                self.entries(&mut bytes[value..value + len]);
                // The hash of the value may be left out, but not be wrong.
                set32(bytes, at + 12, 0);
            }
            at += (16 + name_len + 3) & !3;
        }
    }

    fn directory(&mut self, old: &Inode, seed: Option<u32>, moved: bool) -> Result<()> {
        let fs = self.fs;
        let size = old.size().min(MOST_DIRECTORY);
        let content = FileMap::new(size, fs.pieces_of(old)?, Form::Plain);
        let indexed = old.flags() & INDEXED != 0 && fs.features[0] & 0x20 != 0;
        let nodes = if indexed { fs.index_blocks(&content)? } else { BTreeMap::new() };
        let mut before = vec![0; fs.block as usize];
        for block in 0..size / fs.block {
            content.read(&fs.volume, block * fs.block, &mut before)?;
            let mut bytes = before.clone();
            self.entries(&mut bytes);
            if bytes == before && !moved {
                continue;
            }
            if let Some(seed) = seed {
                let tail = bytes.len() - 12;
                if let Some(&at) = nodes.get(&block) {
                    let (limit, count) = (usize::from(le16(&bytes, at)), usize::from(le16(&bytes, at + 2)));
                    let end = at + limit * 8;
                    if end + 8 <= bytes.len() && count <= limit {
                        let sum = crc32c(crc32c(crc32c(seed, &bytes[..at + count * 8]), &bytes[end..end + 4]), &[0; 4]);
                        set32(&mut bytes, end + 4, sum);
                    }
                } else if le16(&bytes, tail + 4) == 12 && bytes[tail + 7] == 0xde {
                    let sum = crc32c(seed, &bytes[..tail]);
                    set32(&mut bytes, tail + 8, sum);
                }
            }
            let place = content.place(block * fs.block).ok_or_else(|| Finding::new("ext-directory", "a directory has a hole"))?;
            let to = self.moved(place / fs.block)?;
            self.view.write(to * fs.block, &bytes)?;
        }
        Ok(())
    }

    /// The file of orphans: its checksums count the places of its blocks.
    fn orphan_file(&mut self, old: &Inode, seed: Option<u32>) -> Result<()> {
        let fs = self.fs;
        let Some(seed) = seed else { return Ok(()) };
        for piece in fs.pieces_of(old)? {
            let Some(at) = piece.at else { continue };
            for block in at / fs.block..(at + piece.len).div_ceil(fs.block) {
                let before = fs.volume.read(block * fs.block, fs.block as usize)?;
                let mut bytes = before.clone();
                let tail = bytes.len() - 8;
                if le32(&bytes, tail) != ORPHAN_MARK {
                    continue;
                }
                let to = self.moved(block)?;
                let sum = crc32c(crc32c(seed, &to.to_le_bytes()), &bytes[..tail]);
                set32(&mut bytes, tail + 4, sum);
                if bytes != before {
                    self.view.write(to * fs.block, &bytes)?;
                }
            }
        }
        Ok(())
    }

    /// The inode that holds the room for more descriptors: it lists every block of that room and its copies.
    fn resize_inode(&mut self) -> Result<()> {
        let fs = self.fs;
        let old = fs.inode(RESIZE)?;
        let list = u64::from(le32(&old.bytes, 40 + 13 * 4));
        let mut bytes = old.bytes.clone();
        let spare = u64::from(le16(&self.new.sb, 0xce));
        let tables = self.new.group_count().div_ceil(fs.block / fs.descriptor);
        if list == 0 {
            return if spare == 0 { Ok(()) } else { Err(Finding::new("ext-resize-inode", "the inode with the room for descriptors is empty")) };
        }
        let list = self.moved(list)?;
        set32(&mut bytes, 40 + 13 * 4, list as u32);
        let backups: Vec<u64> = (1..self.new.group_count()).filter(|group| self.new.has_super(*group)).collect();
        let per_block = fs.block / 4;
        let mut named = vec![0u8; fs.block as usize];
        for number in 0..spare {
            // The first copy of each block of the room lists where the others are.
            let block = 1024 / fs.block + 1 + tables + number;
            set32(&mut named, ((tables + number) % per_block * 4) as usize, block as u32);
            let mut copies = vec![0u8; fs.block as usize];
            for (group, at) in backups.iter().zip((0..copies.len()).step_by(4)) {
                set32(&mut copies, at, (block + group * u64::from(fs.blocks_per_group)) as u32);
            }
            self.view.write(block * fs.block, &copies)?;
        }
        self.view.write(list * fs.block, &named)?;
        let count = (1 + spare * (1 + backups.len() as u64)) * (fs.block / 512) * fs.ratio();
        set32(&mut bytes, 28, count as u32);
        set16(&mut bytes, 116, (count >> 32) as u16);
        self.write_inode(RESIZE, bytes, &old.bytes, false)
    }

    /// Writes both maps of every group; gives the free units and free inodes of each.
    fn maps(&mut self) -> Result<Vec<(u64, u64)>> {
        let fs = self.fs;
        let per_group = u64::from(fs.blocks_per_group) / fs.ratio();
        let mut used = Bits::new(self.room.end);
        for range in self.moves.used(self.room.clone()) {
            used.set(range);
        }
        let inodes = u64::from(fs.inodes_per_group);
        let mut free = Vec::with_capacity(self.groups);
        for number in 0..self.groups {
            let fill = |bits: &Bits, first: u64, count: u64| {
                let mut bytes = vec![0xffu8; fs.block as usize];
                (0..count).filter(|bit| !bits.has(first + bit)).for_each(|bit| bytes[(bit / 8) as usize] &= !(1 << (bit % 8)));
                bytes
            };
            let first = self.room.start + number as u64 * per_group;
            let count = per_group.min(self.room.end - first);
            let blocks = fill(&used, first, count);
            let first_inode = number as u64 * inodes + 1;
            let own = fill(&self.inode_bits, first_inode, inodes);
            free.push((count - used.total_within(first..first + count), inodes - self.inode_bits.total_within(first_inode..first_inode + inodes)));
            let group = &mut self.new.groups[number];
            if let Some(seed) = fs.seed {
                group.sums = [crc32c(seed, &blocks[..(per_group / 8) as usize]), crc32c(seed, &own[..(inodes / 8) as usize])];
            }
            let (block_bitmap, inode_bitmap) = (group.block_bitmap, group.inode_bitmap);
            self.view.write(block_bitmap * fs.block, &blocks)?;
            self.view.write(inode_bitmap * fs.block, &own)?;
        }
        Ok(free)
    }

    /// The descriptor of a group.
    fn descriptor(&self, number: usize, free: (u64, u64)) -> Result<Vec<u8>> {
        let fs = self.fs;
        let wide = fs.descriptor >= 64;
        let mut bytes = match fs.groups.get(number) {
            Some(_) => fs.volume.read(fs.descriptor_at(number as u32), fs.descriptor as usize)?,
            None => vec![0; fs.descriptor as usize],
        };
        let group = self.new.groups[number];
        for (value, low, high) in [(group.block_bitmap, 0, 32), (group.inode_bitmap, 4, 36), (group.inode_table, 8, 40)] {
            set32(&mut bytes, low, value as u32);
            if wide {
                set32(&mut bytes, high, (value >> 32) as u32);
            }
        }
        let sums = fs.features[2] & (DESCRIPTOR_SUMS | CHECKSUMS) != 0;
        let directories = self.directories.get(&number).copied().unwrap_or(0);
        // How many inodes at the end of a table were never written: as it was, less what came to be used there.
        let first = number as u64 * u64::from(fs.inodes_per_group) + 1;
        let last =
            self.inode_bits.ranges().filter(|range| range.start < first + u64::from(fs.inodes_per_group)).map(|range| range.end).last().unwrap_or(0);
        let unused = if group.flags & INODES_UNWRITTEN != 0 {
            fs.inodes_per_group
        } else {
            let old = if fs.groups.get(number).is_some_and(|old| old.flags & INODES_UNWRITTEN == 0) {
                u32::from(le16(&bytes, 28)) | if wide { u32::from(le16(&bytes, 50)) << 16 } else { 0 }
            } else {
                fs.inodes_per_group
            };
            old.min((first + u64::from(fs.inodes_per_group)).saturating_sub(last.max(first)) as u32)
        };
        for (value, low, high, always) in [
            (free.0 as u32, 12, 44, true),
            (free.1 as u32, 14, 46, true),
            (directories, 16, 48, true),
            (unused, 28, 50, sums),
            (group.sums[0], 24, 56, fs.seed.is_some()),
            (group.sums[1], 26, 58, fs.seed.is_some()),
        ] {
            if always {
                set16(&mut bytes, low, value as u16);
                if wide {
                    set16(&mut bytes, high, (value >> 16) as u16);
                }
            }
        }
        if sums {
            // The map of blocks is written for every group now.
            let flags = le16(&bytes, 18) & !(super::BLOCKS_UNWRITTEN | INODES_UNWRITTEN) | group.flags & INODES_UNWRITTEN;
            set16(&mut bytes, 18, flags);
            set16(&mut bytes, 30, 0);
            let sum = match fs.seed {
                Some(seed) => crc32c(crc32c(seed, &(number as u32).to_le_bytes()), &bytes) as u16,
                None => crc16(&[&self.new.sb[104..120], &(number as u32).to_le_bytes(), &bytes[..30], &bytes[32..]]),
            };
            set16(&mut bytes, 30, sum);
        }
        Ok(bytes)
    }

    fn super_blocks(&mut self, free: &[(u64, u64)]) -> Result<()> {
        let fs = self.fs;
        let wide = fs.features[1] & WIDE != 0;
        let mut sb = self.new.sb.clone();
        let long = |bytes: &[u8], low: usize, high: usize| u64::from(le32(bytes, low)) | if wide { u64::from(le32(bytes, high)) << 32 } else { 0 };
        let kept = long(&sb, 8, 0x154);
        let kept = (u128::from(kept) * u128::from(self.new.blocks) / u128::from(fs.blocks.max(1))) as u64;
        let free_blocks = free.iter().map(|(blocks, _)| blocks).sum::<u64>() * fs.ratio();
        let free_inodes: u64 = free.iter().map(|(_, inodes)| inodes).sum();
        for (value, low, high) in [(self.new.blocks, 4, 0x150), (kept, 8, 0x154), (free_blocks, 12, 0x158)] {
            set32(&mut sb, low, value as u32);
            if wide {
                set32(&mut sb, high, (value >> 32) as u32);
            }
        }
        set32(&mut sb, 0, self.new.inodes);
        set32(&mut sb, 16, free_inodes as u32);
        // Counted anew by the system.
        set32(&mut sb, 0x248, 0);
        if let Some(guard) = fs.guard_block() {
            let place = self.moved(guard)?;
            set32(&mut sb, 0x168, place as u32);
            set32(&mut sb, 0x16c, (place >> 32) as u32);
        }
        for at in [0xe0, 0x240, 0x244, 0x26c, 0x268, 0x280] {
            let number = le32(&sb, at);
            if number != 0 && self.numbers.contains_key(&number) {
                set32(&mut sb, at, self.number(number));
            }
        }
        let journal = le32(&fs.sb, 0xe0);
        if journal != 0 && sb[0xfd] == 1 {
            // The blocks of the journal are noted here a second time.
            let at = self.place_of(self.number(journal))?;
            let inode = self.view.bytes(at, fs.inode_size as usize)?;
            set(&mut sb, 0x10c, &inode[40..100]);
        }
        let mut tables: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
        for (number, free) in free.iter().enumerate() {
            let bytes = self.descriptor(number, *free)?;
            let at = self.new.descriptor_at(number as u32);
            let block = tables.entry(at / fs.block).or_insert_with(|| vec![0; fs.block as usize]);
            set(block, (at % fs.block) as usize, &bytes);
        }
        let per_group = u64::from(fs.blocks_per_group);
        let per_block = fs.block / fs.descriptor;
        let first_meta = self.new.first_meta.map_or(u64::MAX, u64::from);
        let main = 1024 / fs.block + 1;
        for group in (0..self.groups as u64).filter(|group| self.new.has_super(*group)) {
            set16(&mut sb, 0x5a, group as u16);
            if fs.features[2] & CHECKSUMS != 0 {
                let sum = crc32c(u32::MAX, &sb[..1020]);
                set32(&mut sb, 1020, sum);
            }
            let start = (group * per_group + fs.first_block) * fs.block;
            self.view.write(if group == 0 { 1024 } else { start }, &sb)?;
            if group > 0 {
                // The old kind of tables stands behind every copy.
                let copied = tables.iter().filter(|(block, _)| **block >= main && **block - main < first_meta.min(per_group));
                let old: Vec<(u64, Vec<u8>)> = copied.map(|(block, bytes)| (*block - main, bytes.clone())).collect();
                let most = self.new.group_count().div_ceil(per_block).min(first_meta);
                for (inner, bytes) in old.into_iter().filter(|(inner, _)| *inner < most) {
                    self.view.write(start + (1 + inner) * fs.block, &bytes)?;
                }
            }
        }
        for (block, bytes) in &tables {
            self.view.write(block * fs.block, bytes)?;
        }
        // Copies of the newer kind stand in the second and the last group of each set of groups.
        for (number, bytes) in
            (0..self.groups as u64).step_by(per_block as usize).zip(tables.values()).filter(|(number, _)| number / per_block >= first_meta)
        {
            for group in [number + 1, number + per_block - 1].into_iter().filter(|group| *group < self.groups as u64) {
                let at = group * per_group + fs.first_block + u64::from(self.new.has_super(group));
                self.view.write(at * fs.block, bytes)?;
            }
        }
        Ok(())
    }
}
