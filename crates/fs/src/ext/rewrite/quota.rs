//! What quotas count: where the list of a file's places becomes longer or shorter, its owners use more or less.
//!
//! The files are those of Linux's quota format 2, revision 1: blocks of 1 KiB, the first with a mark and a version, from the
//! second on a tree of four levels over the bytes of a number, which leads to blocks of entries.

use super::super::inode::Inode;
use super::super::{EXTENTS, VALUE_INODE};
use super::{Change, Extent, ROOT, set};
use crate::finding::Result;
use crate::resize::refused;
use badger_drive::field::{le16, le32, le64};
use std::collections::BTreeMap;

/// Quotas are kept in inodes of their own, as the super block says.
const QUOTA: u32 = 0x100;
/// Where the super block names the files of users, groups and projects, and the mark that each begins with.
const FILES: [(usize, u32); 3] = [(0x240, 0xd9c0_1f11), (0x244, 0xd9c0_1927), (0x26c, 0xd9c0_3f14)];
const BLOCK: u64 = 1024;
const ENTRY: usize = 72;
/// Bytes in front of the entries of a block.
const HEAD: usize = 16;
/// Where an entry says how many bytes are in use.
const IN_USE: usize = 48;

/// Bytes by which owners use more or less than before: by the kind of owner, in the order of [`FILES`], and its number.
pub(super) type Charged = BTreeMap<(usize, u32), i64>;

impl Change<'_> {
    /// An inode takes so many bytes more than before.
    pub(super) fn charge(&mut self, of: &Inode, by: i64) -> Result<()> {
        if self.fs.features[2] & QUOTA == 0 || of.number < self.fs.first_own() && of.number != ROOT {
            return Ok(());
        }
        // Values of attributes count for everybody who shares them.
        if of.flags() & VALUE_INODE != 0 {
            return Err(other_quotas());
        }
        let bytes = &of.bytes;
        let number = |low: usize, high: usize| u32::from(le16(bytes, low)) | u32::from(le16(bytes, high)) << 16;
        let project = if bytes.len() >= 160 && 128 + usize::from(le16(bytes, 128)) >= 160 { le32(bytes, 156) } else { 0 };
        for owner in [number(2, 120), number(24, 122), project].into_iter().enumerate() {
            *self.charged.entry(owner).or_default() += by;
        }
        Ok(())
    }

    /// Writes what was charged into the quotas' files.
    pub(super) fn quotas(&mut self) -> Result<()> {
        let charged = std::mem::take(&mut self.charged);
        for (kind, (place, mark)) in FILES.into_iter().enumerate() {
            let owners: Vec<(u32, i64)> =
                charged.range((kind, 0)..=(kind, u32::MAX)).map(|((_, id), by)| (*id, *by)).filter(|(_, by)| *by != 0).collect();
            let number = le32(&self.fs.sb, place);
            if number == 0 || owners.is_empty() {
                continue;
            }
            let inode = self.fs.inode(number)?;
            if inode.flags() & EXTENTS == 0 {
                return Err(other_quotas());
            }
            let (mut lies, mut tree) = (Vec::new(), Vec::new());
            self.fs.collect(&inode.bytes[40..100], &mut lies, &mut tree, 5)?;
            let first = self.quota_block(&lies, 0)?.1;
            if (le32(&first, 0), le32(&first, 4)) != (mark, 1) {
                return Err(other_quotas());
            }
            let mut changed: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
            for (id, by) in owners {
                let mut at = 1;
                for byte in id.to_be_bytes() {
                    at = u64::from(le32(&self.quota_block(&lies, at)?.1, usize::from(byte) * 4));
                    if at == 0 {
                        return Err(other_quotas());
                    }
                }
                let (place, was) = self.quota_block(&lies, at)?;
                let block = changed.entry(place).or_insert(was);
                let entries = (HEAD..=BLOCK as usize - ENTRY).step_by(ENTRY);
                let entry = entries.into_iter().find(|at| le32(block, *at) == id && block[*at..*at + ENTRY].iter().any(|byte| *byte != 0));
                let at = entry.ok_or_else(other_quotas)? + IN_USE;
                let now = le64(block, at).checked_add_signed(by).ok_or_else(other_quotas)?;
                set(block, at, &now.to_le_bytes());
            }
            for (place, bytes) in changed {
                self.view.write(place, &bytes)?;
            }
        }
        Ok(())
    }

    /// A block of a quota's file: the byte of the new volume where it goes, and what it holds.
    fn quota_block(&self, lies: &[Extent], number: u64) -> Result<(u64, Vec<u8>)> {
        let size = self.fs.block;
        let (logical, within) = (number * BLOCK / size, number * BLOCK % size);
        let there = lies.iter().find(|(from, _, len, unwritten)| (*from..*from + len).contains(&logical) && !unwritten);
        let (from, physical, ..) = there.ok_or_else(other_quotas)?;
        let block = physical + (logical - from);
        let bytes = self.fs.volume.read(block * size + within, BLOCK as usize)?;
        Ok((self.moved(block)? * size + within, bytes.to_vec()))
    }
}

fn other_quotas() -> crate::finding::Finding {
    refused("ext-quota", "it counts what people use in a way of its own, and a list of where a file lies would become longer")
}
