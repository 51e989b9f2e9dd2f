//! The entries of directories.

use super::Ext;
use crate::cached::Near;
use crate::finding::{Finding, Result};
use crate::node::{Listing, Name, Node};
use badger_drive::field::{le16, le32};

/// An entry of a directory as it stands there.
pub(super) struct RawEntry<'a> {
    pub(super) number: u32,
    pub(super) name: &'a [u8],
    /// Where the format tells kinds in directories: 2 for a directory.
    pub(super) kind: u8,
}

impl Ext {
    /// The entries of one stretch of a directory as they stand there, unused ones too. A damaged one, of which only the
    /// place is known, ends them.
    pub(super) fn raw_entries<'a>(&self, bytes: &'a [u8]) -> impl Iterator<Item = std::result::Result<RawEntry<'a>, usize>> {
        let large = self.block == 65536;
        let mut next = Some(0);
        std::iter::from_fn(move || {
            let at = next.take().filter(|at| at + 8 <= bytes.len())?;
            let (number, len) = (le32(bytes, at), usize::from(le16(bytes, at + 4)));
            // One byte, whether or not the next one tells the kind: no name is longer, and the mark of a checksum stands there.
            let name_len = usize::from(bytes[at + 6]);
            // The largest length of a block of 64 KiB does not fit into the field.
            let len = if len == 65535 || len == 0 && large { 65536 } else { len };
            if len < 12 || !len.is_multiple_of(4) || at + len > bytes.len() || 8 + name_len > len {
                return Some(Err(at));
            }
            next = Some(at + len);
            Some(Ok(RawEntry { number, name: &bytes[at + 8..at + 8 + name_len], kind: bytes[at + 7] }))
        })
    }

    /// Names and inode numbers of one stretch of a directory.
    pub(super) fn entries(&self, bytes: &[u8], listing: &mut Listing, found: &mut Vec<(u64, Name)>) {
        for entry in self.raw_entries(bytes) {
            match entry {
                Ok(RawEntry { number, name, .. }) if number != 0 && !name.is_empty() && name != b"." && name != b".." => {
                    found.push((u64::from(number), Name::from_bytes(name)));
                }
                Ok(_) => {}
                Err(at) => listing.findings.push(Finding::new("ext-directory", format!("an entry {at} bytes into a block is damaged"))),
            }
        }
    }

    pub(super) fn named(&self, number: u64, name: &Name, near: &mut Near) -> Result<Node> {
        let inode = self.inode_now_near(u32::try_from(number).unwrap_or(0), near)?;
        match inode.mode() {
            0 => Err(Finding::new("ext-dangling", format!("{} names inode {number}, which is not in use", name.shown))),
            _ => Ok(self.node_of(&inode)),
        }
    }

    /// Takes changes of names by fast commits into account.
    pub(super) fn renamed(&self, directory: &Node, found: &mut Vec<(u64, Name)>) {
        if self.fast.is_empty() {
            return;
        }
        let mut plain: Vec<(u64, Vec<u8>)> = found.drain(..).map(|(number, name)| (number, name.bytes)).collect();
        self.fast.names(Self::number(directory), &mut plain);
        found.extend(plain.into_iter().map(|(number, name)| (number, Name::from_bytes(&name))));
    }
}
