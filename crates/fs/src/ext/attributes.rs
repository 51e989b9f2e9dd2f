//! Extended attributes, in the inode, in a block beside it, or in inodes of their own.

use super::inode::Inode;
use super::{Ext, WIDE};
use crate::content::{FileMap, Form};
use crate::finding::Result;
use crate::node::escaped;
use badger_drive::field::{le16, le32};

/// A list of who may do what as programs take it: version 2, and 8 bytes for every entry. On the disk it has version 1, and
/// only entries of one user or one group have a number.
fn acl(stored: &[u8]) -> Option<Vec<u8>> {
    let mut rest = stored.strip_prefix(&1u32.to_le_bytes())?;
    let mut out = 2u32.to_le_bytes().to_vec();
    while !rest.is_empty() {
        let (kind, entry) = (le16(rest, 0), rest.get(..4)?);
        let named = matches!(kind, 2 | 8);
        out.extend(entry);
        out.extend(if named { rest.get(4..8)? } else { &[0xff; 4] });
        rest = &rest[if named { 8 } else { 4 }..];
    }
    Some(out)
}

impl Ext {
    /// What an inode says of the block with its further attributes: its number, which may lead anywhere; 0 where there is none.
    pub(super) fn attribute_place(&self, inode: &Inode) -> u64 {
        let high = if self.features[1] & WIDE != 0 { u64::from(le16(&inode.bytes, 118)) << 32 } else { 0 };
        u64::from(le32(&inode.bytes, 104)) | high
    }

    /// The block with an inode's further attributes.
    pub(super) fn attribute_block(&self, inode: &Inode) -> Option<u64> {
        let block = self.attribute_place(inode);
        (self.first_block + 1..self.blocks).contains(&block).then_some(block)
    }

    /// Attributes from `at` on; their values are counted from `values` on.
    pub(super) fn attributes_in(&self, bytes: &[u8], mut at: usize, values: usize, out: &mut Vec<(String, Vec<u8>)>) {
        while let Some(entry) = bytes.get(at..at + 16).filter(|entry| entry[..4] != [0; 4]) {
            let prefix = match entry[1] {
                1 => "user.",
                2 => "system.posix_acl_access",
                3 => "system.posix_acl_default",
                4 => "trusted.",
                6 => "security.",
                _ => "system.",
            };
            let name = bytes.get(at + 16..at + 16 + usize::from(entry[0])).unwrap_or_default();
            let (start, len) = (values + usize::from(le16(entry, 2)), le32(entry, 8) as usize);
            let value = match le32(entry, 4) {
                0 => bytes.get(start..start.saturating_add(len)).map(<[u8]>::to_vec),
                // A long value has an inode of its own.
                inode => self.inode_now(inode).and_then(|inode| self.value(&inode, len)).ok(),
            };
            // The content of small files is kept as an attribute; it is no attribute of the file.
            if let Some(value) = value.filter(|_| !(entry[1] == 7 && name == b"data")) {
                let value = if matches!(entry[1], 2 | 3) { acl(&value).unwrap_or(value) } else { value };
                out.push((format!("{prefix}{}", escaped(name)), value));
            }
            at += (16 + usize::from(entry[0]) + 3) & !3;
        }
    }

    pub(super) fn value(&self, inode: &Inode, len: usize) -> Result<Vec<u8>> {
        let mut bytes = vec![0; len.min(1 << 20)];
        let count = FileMap::new(inode.size(), self.pieces_now(inode)?, Form::Plain).read(&self.volume, 0, &mut bytes)?;
        bytes.truncate(count);
        Ok(bytes)
    }
}
