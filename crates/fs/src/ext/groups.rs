//! Block groups: their descriptors, the copies of those, and what stands at the front of a group.

use super::checksum::{crc16, crc32c};
use super::{CHECKSUMS, DESCRIPTOR_SUMS, Ext, MOST_GROUPS, SPARSE, SPARSE_TWO};
use crate::finding::Finding;
use badger_drive::field::{le16, le32};
use std::ops::Range;

/// What a group's descriptor says.
#[derive(Clone, Copy, Default)]
pub(super) struct Group {
    pub(super) block_bitmap: u64,
    pub(super) inode_bitmap: u64,
    pub(super) inode_table: u64,
    pub(super) free_blocks: u32,
    pub(super) free_inodes: u32,
    pub(super) directories: u32,
    pub(super) flags: u16,
    pub(super) sums: [u32; 2],
    /// Inodes at the end of the table that were never used.
    pub(super) untouched: u32,
    /// It comes from a copy, whose counts and checksums of bitmaps are not kept up.
    pub(super) copied: bool,
}

impl Ext {
    pub(super) fn group_count(&self) -> u64 {
        self.blocks.saturating_sub(self.first_block).div_ceil(u64::from(self.blocks_per_group))
    }

    /// Reads the descriptors of all groups; a damaged one is taken from its copy.
    pub(super) fn load_groups(&mut self) {
        let most = self.group_count().min(MOST_GROUPS).min(self.volume.len() / self.block + 1) as u32;
        self.groups = Vec::with_capacity(most as usize);
        for group in 0..most {
            let first = self.volume.read(self.descriptor_at(group), self.descriptor as usize);
            let found = first.ok().and_then(|bytes| self.group(group, &bytes));
            let found = found.or_else(|| {
                let copy = self.descriptor_copy_at(group).and_then(|at| self.volume.read(at, self.descriptor as usize).ok());
                let copy = copy.and_then(|bytes| self.group(group, &bytes));
                let text = format!("the descriptor of group {group} is damaged{}", if copy.is_some() { "; its copy is used" } else { "" });
                if self.opened.len() < 100 {
                    let finding = if copy.is_some() { Finding::new("ext-descriptor", text) } else { Finding::grave("ext-descriptor", text) };
                    self.opened.push(finding.at(self.descriptor_at(group)));
                }
                copy.map(|copy| Group { copied: true, ..copy })
            });
            self.groups.push(found.unwrap_or_default());
        }
    }

    /// A descriptor taken apart; `None` where it is damaged.
    pub(super) fn group(&self, number: u32, bytes: &[u8]) -> Option<Group> {
        let wide = self.descriptor >= 64;
        let long = |low: usize, high: usize| u64::from(le32(bytes, low)) | if wide { u64::from(le32(bytes, high)) << 32 } else { 0 };
        let short = |low: usize, high: usize| u32::from(le16(bytes, low)) | if wide { u32::from(le16(bytes, high)) << 16 } else { 0 };
        let stored = le16(bytes, 30);
        let right = match self.seed {
            Some(seed) => {
                let sum = crc32c(crc32c(seed, &number.to_le_bytes()), &bytes[..30]);
                crc32c(crc32c(sum, &[0; 2]), &bytes[32..]) as u16 == stored
            }
            None if self.features[2] & DESCRIPTOR_SUMS != 0 => {
                crc16(&[&self.sb[104..120], &number.to_le_bytes(), &bytes[..30], &bytes[32..]]) == stored
            }
            None => true,
        };
        let group = Group {
            block_bitmap: long(0, 32),
            inode_bitmap: long(4, 36),
            inode_table: long(8, 40),
            free_blocks: short(12, 44),
            free_inodes: short(14, 46),
            directories: short(16, 48),
            flags: if self.features[2] & (DESCRIPTOR_SUMS | CHECKSUMS) != 0 { le16(bytes, 18) } else { 0 },
            sums: [short(24, 56), short(26, 58)],
            untouched: if self.features[2] & (DESCRIPTOR_SUMS | CHECKSUMS) != 0 { short(28, 50) } else { 0 },
            copied: false,
        };
        let inside = |block: u64| (self.first_block..self.blocks).contains(&block);
        (right && inside(group.block_bitmap) && inside(group.inode_bitmap) && inside(group.inode_table)).then_some(group)
    }

    /// Where the copy of a group's descriptor lies: behind the super block of group 1, or in the next group of a meta group.
    pub(super) fn descriptor_copy_at(&self, group: u32) -> Option<u64> {
        let per_block = (self.block / self.descriptor) as u32;
        let per_group = u64::from(self.blocks_per_group);
        if self.first_meta.is_none_or(|first| group / per_block < first) {
            // With sparse super blocks or without, group 1 has one; or else two chosen groups do.
            let chosen = [le32(&self.sb, 0x24c), le32(&self.sb, 0x250)].map(u64::from).into_iter().filter(|group| *group > 0).min();
            let holder = if self.features[0] & SPARSE_TWO != 0 { chosen? } else { 1 };
            (holder < self.group_count()).then_some(())?;
            return Some((holder * per_group + self.first_block + 1) * self.block + u64::from(group) * self.descriptor);
        }
        let second = u64::from(group / per_block * per_block) + 1;
        let start = second * per_group + self.first_block + u64::from(self.has_super(second));
        Some(start * self.block + u64::from(group % per_block) * self.descriptor)
    }

    /// Where the descriptor of a group lies, in bytes.
    pub(super) fn descriptor_at(&self, group: u32) -> u64 {
        let per_block = (self.block / self.descriptor) as u32;
        let table = group / per_block;
        let inner = u64::from(group % per_block) * self.descriptor;
        if self.first_meta.is_none_or(|first| table < first) {
            // Behind the block that holds the super block, which stands 1024 bytes into the volume.
            return (1024 / self.block + 1) * self.block + u64::from(group) * self.descriptor;
        }
        let first_group = u64::from(table) * u64::from(per_block);
        let start = first_group * u64::from(self.blocks_per_group) + self.first_block;
        let early = u64::from(table == 0 && self.block == 1024 && self.first_block == 0);
        let after = u64::from(self.has_super(first_group)) + early;
        (start + after) * self.block + inner
    }

    /// Whether a group starts with a copy of the super block: all do, or with sparse super blocks groups 0, 1 and powers of
    /// 3, 5 and 7, or two chosen ones.
    pub(super) fn has_super(&self, group: u64) -> bool {
        if group == 0 {
            return true;
        }
        if self.features[0] & SPARSE_TWO != 0 {
            return group == u64::from(le32(&self.sb, 0x24c)) || group == u64::from(le32(&self.sb, 0x250));
        }
        let power = |base: u64| {
            let mut value = base;
            while value < group {
                value = value.saturating_mul(base);
            }
            value == group
        };
        self.features[2] & SPARSE == 0 || group == 1 || power(3) || power(5) || power(7)
    }

    /// The blocks of a group that hold the super block, descriptors and room for more of them.
    pub(super) fn front(&self, group: u64) -> Range<u64> {
        let start = group * u64::from(self.blocks_per_group) + self.first_block;
        let per_block = self.block / self.descriptor;
        let has_super = self.has_super(group);
        let tables = self.group_count().div_ceil(per_block);
        let first_meta = self.first_meta.map_or(u64::MAX, u64::from);
        let mut len = u64::from(has_super);
        if group / per_block < first_meta {
            let old = tables.min(first_meta);
            len += if has_super { old + u64::from(le16(&self.sb, 0xce)) } else { 0 };
        } else if matches!(group % per_block, 0 | 1) || group % per_block == per_block - 1 {
            len += 1;
        }
        // With blocks of 1024 bytes the super block may stand in block 0 only in appearance.
        let early = u64::from(group == 0 && self.block == 1024 && self.first_block == 0);
        start..(start + len + early).min(self.blocks)
    }

    /// The first inode that is not the format's own.
    pub(super) fn first_own(&self) -> u32 {
        if le32(&self.sb, 76) == 0 { 11 } else { le32(&self.sb, 84).max(11) }
    }
}
