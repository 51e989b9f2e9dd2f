//! Bitmaps, descriptors, super blocks, and the room kept for further descriptors.

use super::super::checksum::{crc16, crc32c};
use super::super::{BLOCKS_UNWRITTEN, CHECKSUMS, DESCRIPTOR_SUMS, INODES_UNWRITTEN, RESIZE, WIDE};
use super::{Change, set, set16, set32};
use crate::bits::Bits;
use crate::finding::{Finding, Result};
use badger_drive::field::{le16, le32};
use std::collections::BTreeMap;

impl Change<'_> {
    /// The inode that holds the room for more descriptors: it lists every block of that room and its copies.
    pub(super) fn resize_inode(&mut self) -> Result<()> {
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
    pub(super) fn maps(&mut self) -> Result<Vec<(u64, u64)>> {
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
    pub(super) fn descriptor(&self, number: usize, free: (u64, u64)) -> Result<Vec<u8>> {
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
            let flags = le16(&bytes, 18) & !(BLOCKS_UNWRITTEN | INODES_UNWRITTEN) | group.flags & INODES_UNWRITTEN;
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

    pub(super) fn super_blocks(&mut self, free: &[(u64, u64)]) -> Result<()> {
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
