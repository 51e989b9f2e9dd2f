//! Inodes: where they stand, what their fields say.

use super::checksum::crc32c;
use super::groups::Group;
use super::{ATTRIBUTES, ENCRYPTED, Ext, INLINE, MOST_TABLES};
use crate::cached::Near;
use crate::finding::{Finding, Result};
use crate::node::{Node, NodeKind, Place, Time};
use badger_drive::field::{le16, le32};

pub(super) struct Inode {
    pub(super) number: u32,
    pub(super) bytes: Vec<u8>,
}

impl Inode {
    pub(super) fn mode(&self) -> u16 {
        le16(&self.bytes, 0)
    }

    pub(super) fn size(&self) -> u64 {
        u64::from(le32(&self.bytes, 4)) | u64::from(le32(&self.bytes, 108)) << 32
    }

    pub(super) fn flags(&self) -> u32 {
        le32(&self.bytes, 32)
    }

    pub(super) fn kind(&self) -> NodeKind {
        match self.mode() >> 12 {
            4 => NodeKind::Directory,
            8 => NodeKind::File,
            10 => NodeKind::Link,
            _ => NodeKind::Other,
        }
    }

    /// Seconds at `at`, the extra bits at `extra` where the inode is long enough for them.
    pub(super) fn time(&self, at: usize, extra: usize) -> Option<Time> {
        let seconds = i64::from(le32(&self.bytes, at) as i32);
        let room = self.bytes.len() > 128 && 128 + usize::from(le16(&self.bytes, 128)) >= extra + 4;
        let more = if room { le32(&self.bytes, extra) } else { 0 };
        Some(Time { seconds: seconds + (i64::from(more & 3) << 32), nanos: (more >> 2).min(999_999_999) })
    }

    /// Data kept in the inode: the block field, then the value of the attribute `system.data`.
    pub(super) fn inline(&self) -> Vec<u8> {
        let mut data = self.bytes[40..100].to_vec();
        data.extend(self.inline_rest().unwrap_or_default());
        data.truncate(self.size().min(1 << 16) as usize);
        data
    }

    /// The value of the attribute `system.data`, which every inode with data in it has.
    pub(super) fn inline_rest(&self) -> Option<&[u8]> {
        let start = 128 + usize::from(le16(&self.bytes, 128));
        if self.bytes.len() > 132 && le32(&self.bytes, start) == ATTRIBUTES {
            let mut at = start + 4;
            while let Some(entry) = self.bytes.get(at..at + 16).filter(|entry| entry[..4] != [0; 4]) {
                let name = self.bytes.get(at + 16..at + 16 + usize::from(entry[0])).unwrap_or_default();
                if entry[1] == 7 && name == b"data" {
                    let value = start + 4 + usize::from(le16(entry, 2));
                    return self.bytes.get(value..value.checked_add(le32(entry, 8) as usize)?);
                }
                at += (16 + usize::from(entry[0]) + 3) & !3;
            }
        }
        None
    }
}

impl Ext {
    /// Where an inode stands; `None` where its group has no table.
    pub(super) fn inode_at(&self, number: u32) -> Option<u64> {
        let before = number.checked_sub(1)?;
        let (group, index) = (before / self.inodes_per_group, before % self.inodes_per_group);
        let table = self.groups.get(group as usize).map_or(0, |group| group.inode_table);
        table.checked_mul(self.block).filter(|at| *at > 0)?.checked_add(u64::from(index) * self.inode_size)
    }

    /// The parts of the inode tables that were ever used, as bytes of the volume; none where they are more than can be kept.
    pub(super) fn used_tables(&self) -> Vec<(u64, u64)> {
        let used = |group: &Group| u64::from(self.inodes_per_group.saturating_sub(group.untouched)) * self.inode_size;
        let tables = || self.groups.iter().filter(|group| group.free_inodes < self.inodes_per_group && group.inode_table > 0);
        if tables().map(used).sum::<u64>() > MOST_TABLES {
            return Vec::new();
        }
        tables().filter_map(|group| Some((group.inode_table.checked_mul(self.block)?, used(group)))).collect()
    }

    pub(super) fn inode(&self, number: u32) -> Result<Inode> {
        self.inode_near(number, &mut self.volume.near())
    }

    /// An inode, read with those beside it.
    pub(super) fn inode_near(&self, number: u32, near: &mut Near) -> Result<Inode> {
        let gone = |why: &str| Finding::new("ext-inode", format!("inode {number}: {why}"));
        if number == 0 || number > self.inodes {
            return Err(gone("there is none of that number"));
        }
        let mut bytes = vec![0; self.inode_size as usize];
        near.read_into(self.inode_at(number).ok_or_else(|| gone("its table lies nowhere"))?, &mut bytes)?;
        Ok(Inode { number, bytes })
    }

    /// An inode with what fast commits changed of it.
    pub(super) fn inode_now(&self, number: u32) -> Result<Inode> {
        self.inode_now_near(number, &mut self.volume.near())
    }

    pub(super) fn inode_now_near(&self, number: u32, near: &mut Near) -> Result<Inode> {
        let inode = self.inode_near(number, near)?;
        match self.fast.inode(number, &inode.bytes, INLINE) {
            Some(bytes) => Ok(Inode { number, bytes }),
            None => Ok(inode),
        }
    }

    /// Begins the checksum of whatever belongs to an inode.
    pub(super) fn seed_of(&self, inode: &Inode) -> Option<u32> {
        self.seed.map(|seed| crc32c(crc32c(seed, &inode.number.to_le_bytes()), &inode.bytes[100..104]))
    }

    pub(super) fn node_of(&self, inode: &Inode) -> Node {
        let kind = inode.kind();
        Node {
            id: u64::from(inode.number),
            kind,
            size: if kind == NodeKind::Directory { 0 } else { inode.size() },
            modified: inode.time(16, 136),
            accessed: inode.time(8, 140),
            created: if inode.bytes.len() > 128 && le16(&inode.bytes, 128) >= 24 { inode.time(144, 148) } else { None },
            mode: Some(u32::from(inode.mode()) & 0o7777),
            owner: Some((
                u32::from(le16(&inode.bytes, 2)) | u32::from(le16(&inode.bytes, 120)) << 16,
                u32::from(le16(&inode.bytes, 24)) | u32::from(le16(&inode.bytes, 122)) << 16,
            )),
            links: u32::from(le16(&inode.bytes, 26)),
            attributes: 0,
            what: match inode.mode() >> 12 {
                1 => Some("pipe".into()),
                2 | 6 => Some("device".into()),
                12 => Some("socket".into()),
                _ if inode.flags() & ENCRYPTED != 0 => Some("encrypted".into()),
                _ => None,
            },
            place: Place::default(),
            path: None,
        }
    }
}
