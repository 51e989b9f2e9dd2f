//! A file becomes longer at its end, on a volume at rest: blocks that are free are taken for it, and every structure that counts or maps them is
//! written anew with its checksum. Only what stays in the inode is mapped; a file that would need more is refused.

use super::checksum::{self, crc16, crc32c};
use super::inode::Inode;
use super::rewrite::{set16, set32};
use super::{BIG_ALLOCATION, BLOCKS_UNWRITTEN, CHECKSUMS, DESCRIPTOR_SUMS, EXTENTS, Ext, HUGE, INLINE, RECOVER, WIDE};
use crate::finding::{Finding, Result};
use crate::node::NodeKind;
use crate::pages::Pages;
use badger_drive::field::{le16, le32};
use std::ops::Range;

/// Inode flags of files that are kept in another way: encrypted, verified.
const OTHERWISE: u32 = 0x800 | 0x10_0000;
/// What of the read-only compatible features nothing is changed under: quotas, a volume that is only read, shared blocks.
const REFUSED: u32 = 0x100 | 0x1000 | 0x4000;
/// Extents that an inode holds itself.
const MOST_EXTENTS: u16 = 4;
/// Blocks of an extent at the most.
const MOST_BLOCKS: u64 = 32_768;

fn refused(text: impl Into<String>) -> Finding {
    Finding::new("ext-not-longer", text)
}

impl Ext {
    /// What has to be written so that each file has more bytes at its end: places on the volume, and what is to stand there.
    pub(super) fn grown(&self, files: &[(u64, &[u8])]) -> Result<Vec<(u64, Vec<u8>)>> {
        if self.features[1] & RECOVER != 0 || !self.opened.is_empty() || !self.fast.is_empty() {
            return Err(refused("it was not put away: its journal is to be carried out by its own system first"));
        }
        if self.features[2] & (BIG_ALLOCATION | REFUSED) != 0 || u64::from(self.blocks_per_group) > self.block * 8 {
            return Err(refused("it counts its blocks in another way, or is only read"));
        }
        let mut pages = Pages::new(&self.volume, self.block);
        for (number, more) in files {
            self.grow(*number as u32, more, &mut pages)?;
        }
        Ok(pages.changes())
    }

    fn grow(&self, number: u32, more: &[u8], pages: &mut Pages) -> Result<()> {
        let at = self.inode_at(number).ok_or_else(|| refused("its inode lies nowhere"))?;
        let mut inode = Inode { number, bytes: pages.get(at, self.inode_size as usize)? };
        let flags = inode.flags();
        if inode.kind() != NodeKind::File || flags & EXTENTS == 0 || flags & (INLINE | HUGE | OTHERWISE) != 0 {
            return Err(refused("the file is kept in a way that is not made longer here"));
        }
        let (size, block) = (inode.size(), self.block);
        let (count, depth) = (le16(&inode.bytes, 42), le16(&inode.bytes, 46));
        let last = 40 + 12 * usize::from(count);
        if depth != 0 || count == 0 || count > MOST_EXTENTS {
            return Err(refused("the file lies in too many pieces"));
        }
        let entry = &inode.bytes[last..last + 12];
        let (first, len) = (u64::from(le32(entry, 0)), u64::from(le16(entry, 4)));
        let place = u64::from(le32(entry, 8)) | u64::from(le16(entry, 6)) << 32;
        if len == 0 || len > MOST_BLOCKS || first + len != size.div_ceil(block) || place + len > self.blocks {
            return Err(refused("the end of the file is not where its blocks end"));
        }
        let slack = ((first + len) * block - size).min(more.len() as u64) as usize;
        if slack > 0 {
            pages.write((place + len) * block - ((first + len) * block - size), &more[..slack])?;
        }
        let rest = &more[slack..];
        let wanted = (rest.len() as u64).div_ceil(block);
        if wanted > 0 {
            let lengthens = len + wanted <= MOST_BLOCKS;
            let run = self.free_run(wanted, lengthens.then_some(place + len), pages)?;
            let is_next = run.start == place + len && lengthens;
            if !is_next && count == MOST_EXTENTS {
                return Err(refused("the file lies in too many pieces"));
            }
            self.claim(&run, pages)?;
            for (number, part) in run.clone().zip(rest.chunks(block as usize)) {
                let mut whole = part.to_vec();
                whole.resize(block as usize, 0);
                pages.write(number * block, &whole)?;
            }
            let bytes = &mut inode.bytes;
            if is_next {
                set16(bytes, last + 4, (len + wanted) as u16);
            } else {
                set16(bytes, 42, count + 1);
                set32(bytes, last + 12, (first + len) as u32);
                set16(bytes, last + 16, wanted as u16);
                set16(bytes, last + 18, (run.start >> 32) as u16);
                set32(bytes, last + 20, run.start as u32);
            }
            let sectors = (u64::from(le32(bytes, 28)) | u64::from(le16(bytes, 116)) << 32) + wanted * (block / 512);
            set32(bytes, 28, sectors as u32);
            set16(bytes, 116, (sectors >> 32) as u16);
        }
        let size = size + more.len() as u64;
        set32(&mut inode.bytes, 4, size as u32);
        set32(&mut inode.bytes, 108, (size >> 32) as u32);
        if let Some(seed) = self.seed_of(&inode) {
            let (sum, wide) = checksum::inode(seed, &inode.bytes);
            set16(&mut inode.bytes, 124, sum as u16);
            if wide {
                set16(&mut inode.bytes, 130, (sum >> 16) as u16);
            }
        }
        pages.write(at, &inode.bytes)
    }

    /// Blocks of a group.
    fn span(&self, group: usize) -> Range<u64> {
        let start = group as u64 * u64::from(self.blocks_per_group) + self.first_block;
        start..(start + u64::from(self.blocks_per_group)).min(self.blocks)
    }

    /// So many free blocks one behind the other, those first that begin at a wanted place.
    fn free_run(&self, wanted: u64, near: Option<u64>, pages: &mut Pages) -> Result<Range<u64>> {
        if wanted > MOST_BLOCKS {
            return Err(refused("that is more than one piece of a file can have"));
        }
        let group_of = |block: u64| (block.saturating_sub(self.first_block) / u64::from(self.blocks_per_group)) as usize;
        let first = near.map_or(0, group_of);
        let order = std::iter::once(first).chain((0..self.groups.len()).filter(|group| *group != first));
        for group in order {
            let Some(found) = self.groups.get(group) else { continue };
            if found.copied || u64::from(found.free_blocks) < wanted {
                continue;
            }
            let span = self.span(group);
            let is_unwritten = found.flags & BLOCKS_UNWRITTEN != 0;
            let is_changed = pages.is_changed(found.block_bitmap);
            if is_unwritten && !is_changed {
                let Some(fresh) = self.first_bitmap(group) else { continue };
                pages.write(found.block_bitmap * self.block, &fresh)?;
            }
            let bitmap = pages.get(found.block_bitmap * self.block, self.block as usize)?;
            if let (Some(seed), false) = (self.seed, is_changed || is_unwritten) {
                let sum = crc32c(seed, &bitmap[..(self.blocks_per_group / 8) as usize]);
                let known = found.sums[0];
                let mask = if self.descriptor >= 64 { u32::MAX } else { 0xffff };
                if sum & mask != known {
                    continue;
                }
            }
            let is_free = |block: u64| {
                let bit = block - span.start;
                bitmap[(bit / 8) as usize] & (1 << (bit % 8)) == 0
            };
            if let Some(near) = near.filter(|near| span.contains(near) && near + wanted <= span.end)
                && (near..near + wanted).all(is_free)
            {
                return Ok(near..near + wanted);
            }
            let mut start = span.start;
            for block in span.clone() {
                if !is_free(block) {
                    start = block + 1;
                } else if block + 1 - start == wanted {
                    return Ok(start..block + 1);
                }
            }
        }
        Err(refused(format!("it has no {wanted} free blocks one behind the other")))
    }

    /// The bitmap of a group that has none yet: its own structures, and those of others that lie in it. `None` where it counts otherwise.
    fn first_bitmap(&self, group: usize) -> Option<Vec<u8>> {
        let span = self.span(group);
        let mut bitmap = vec![0u8; self.block as usize];
        let mut used = 0;
        let mut mark = |blocks: Range<u64>| {
            for block in blocks.start.max(span.start)..blocks.end.min(span.end) {
                let bit = block - span.start;
                let byte = &mut bitmap[(bit / 8) as usize];
                used += u64::from(*byte & (1 << (bit % 8)) == 0);
                *byte |= 1 << (bit % 8);
            }
        };
        mark(self.front(group as u64));
        for other in &self.groups {
            mark(other.block_bitmap..other.block_bitmap + 1);
            mark(other.inode_bitmap..other.inode_bitmap + 1);
            mark(other.inode_table..other.inode_table.saturating_add(self.table_blocks()));
        }
        let len = span.end - span.start;
        (len - used == u64::from(self.groups[group].free_blocks)).then_some(())?;
        // Behind the end of the group everything counts as used.
        (len..self.block * 8).for_each(|bit| bitmap[(bit / 8) as usize] |= 1 << (bit % 8));
        Some(bitmap)
    }

    /// Marks blocks of one group as used, and counts them.
    fn claim(&self, run: &Range<u64>, pages: &mut Pages) -> Result<()> {
        let group = ((run.start - self.first_block) / u64::from(self.blocks_per_group)) as usize;
        let (span, count, wide) = (self.span(group), run.end - run.start, self.descriptor >= 64);
        let place = self.groups[group].block_bitmap * self.block;
        let mut bitmap = pages.get(place, self.block as usize)?;
        for block in run.clone() {
            let bit = block - span.start;
            bitmap[(bit / 8) as usize] |= 1 << (bit % 8);
        }
        pages.write(place, &bitmap)?;
        let sum = self.seed.map(|seed| crc32c(seed, &bitmap[..(self.blocks_per_group / 8) as usize]));
        let at = self.descriptor_at(group as u32);
        let mut bytes = pages.get(at, self.descriptor as usize)?;
        let free = u64::from(le16(&bytes, 12)) | if wide { u64::from(le16(&bytes, 44)) << 16 } else { 0 };
        let left = free.checked_sub(count).ok_or_else(|| refused("a group counts less free blocks than it has"))?;
        set16(&mut bytes, 12, left as u16);
        if wide {
            set16(&mut bytes, 44, (left >> 16) as u16);
        }
        if self.features[2] & (CHECKSUMS | DESCRIPTOR_SUMS) != 0 {
            let flags = le16(&bytes, 18) & !BLOCKS_UNWRITTEN;
            set16(&mut bytes, 18, flags);
        }
        if let Some(sum) = sum {
            set16(&mut bytes, 24, sum as u16);
            if wide {
                set16(&mut bytes, 56, (sum >> 16) as u16);
            }
        }
        if self.features[2] & (CHECKSUMS | DESCRIPTOR_SUMS) != 0 {
            set16(&mut bytes, 30, 0);
            let number = (group as u32).to_le_bytes();
            let sum = match self.seed {
                Some(seed) => crc32c(crc32c(seed, &number), &bytes) as u16,
                None => crc16(&[&self.sb[104..120], &number, &bytes[..30], &bytes[32..]]),
            };
            set16(&mut bytes, 30, sum);
        }
        pages.write(at, &bytes)?;
        let mut sb = pages.get(1024, 1024)?;
        let high = if self.features[1] & WIDE != 0 { u64::from(le32(&sb, 0x158)) << 32 } else { 0 };
        let left = (u64::from(le32(&sb, 12)) | high).checked_sub(count).ok_or_else(|| refused("it counts less free blocks than it has"))?;
        set32(&mut sb, 12, left as u32);
        if self.features[1] & WIDE != 0 {
            set32(&mut sb, 0x158, (left >> 32) as u32);
        }
        if self.features[2] & CHECKSUMS != 0 {
            let sum = crc32c(u32::MAX, &sb[..1020]);
            set32(&mut sb, 1020, sum);
        }
        pages.write(1024, &sb)
    }
}
