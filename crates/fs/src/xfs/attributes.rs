//! Extended attributes of XFS: in the inode, in blocks that hold them, and long values in blocks of their own.

use super::{Fork, Inode, LOCAL, Xfs, is_right};
use crate::content::{FileMap, Form};
use crate::finding::{Finding, Result};
use crate::node::escaped;
use badger_drive::field::{be16, be32, be64};

/// Flags of an attribute: its value stands beside it, whose it is, and that it is being made.
const BESIDE: u8 = 1;
const ROOT: u8 = 2;
const SECURE: u8 = 4;
const PARENT: u8 = 8;
const UNFINISHED: u8 = 0x80;

/// Levels of a tree of attributes.
const MOST_LEVELS: u32 = 5;
/// The longest value.
const MOST_VALUE: u32 = 64 << 10;
/// So many blocks of attributes are read of one file, and so many bytes.
const MOST_BLOCKS: usize = 4096;
const MOST_BYTES: usize = 16 << 20;

type Attributes = Vec<(String, Vec<u8>)>;

/// A list of who may do what as programs take it: entries of 8 bytes, where the disk has 12 the other way round.
fn acl(stored: &[u8]) -> Vec<u8> {
    let mut out = 2u32.to_le_bytes().to_vec();
    let count = be32(stored, 0) as usize;
    for entry in stored.get(4..).unwrap_or_default().as_chunks::<12>().0.iter().take(count) {
        let kind = be32(entry, 0) as u16;
        out.extend(kind.to_le_bytes());
        out.extend(be16(entry, 8).to_le_bytes());
        out.extend(if matches!(kind, 2 | 8) { be32(entry, 4) } else { u32::MAX }.to_le_bytes());
    }
    out
}

fn add(flags: u8, name: &[u8], value: &[u8], out: &mut Attributes) {
    match (flags & (ROOT | SECURE), name) {
        _ if flags & (PARENT | UNFINISHED) != 0 => {}
        (ROOT, b"SGI_ACL_FILE") => out.push(("system.posix_acl_access".into(), acl(value))),
        (ROOT, b"SGI_ACL_DEFAULT") => out.push(("system.posix_acl_default".into(), acl(value))),
        (ROOT, name) => out.push((format!("trusted.{}", escaped(name)), value.to_vec())),
        (SECURE, name) => out.push((format!("security.{}", escaped(name)), value.to_vec())),
        (_, name) => out.push((format!("user.{}", escaped(name)), value.to_vec())),
    }
}

fn damaged(what: &str) -> Finding {
    Finding::new("xfs-attributes", format!("its attributes are damaged: {what}"))
}

/// What may still be read of one file's attributes: entries may name the same bytes over and over.
struct Left {
    blocks: usize,
    bytes: usize,
}

impl Left {
    fn spend(&mut self, blocks: usize, bytes: usize) -> Result<()> {
        let left = self.blocks.checked_sub(blocks).zip(self.bytes.checked_sub(bytes));
        (self.blocks, self.bytes) = left.ok_or_else(|| damaged("there are more than there can be"))?;
        Ok(())
    }
}

impl Xfs {
    pub(super) fn attributes_of(&self, inode: &Inode) -> Result<Attributes> {
        let (fork, mut out) = (inode.attributes(), Vec::new());
        if fork.bytes.is_empty() || fork.form != LOCAL && fork.extents == 0 {
            return Ok(out);
        }
        if fork.form == LOCAL {
            let mut at = 4;
            for _ in 0..fork.bytes.get(2).copied().unwrap_or(0) {
                let [name, value, flags] = *fork.bytes.get(at..at + 3).ok_or_else(|| damaged("an entry"))? else { break };
                let (name, value) = (at + 3..at + 3 + usize::from(name), usize::from(value));
                at = name.end + value;
                let bytes = fork.bytes.get(name.end..at).ok_or_else(|| damaged("an entry"))?;
                add(flags, &fork.bytes[name], bytes, &mut out);
            }
            return Ok(out);
        }
        let map = self.attribute_map(inode, &fork)?;
        let mut left = Left { blocks: MOST_BLOCKS, bytes: MOST_BYTES };
        self.attribute_block(inode, &map, (0, MOST_LEVELS), &mut left, &mut out)?;
        Ok(out)
    }

    fn attribute_map(&self, inode: &Inode, fork: &Fork) -> Result<FileMap> {
        let pieces = self.pieces(inode, fork)?;
        let len = pieces.iter().fold(0u64, |sum, piece| sum.saturating_add(piece.len));
        Ok(FileMap::new(len, pieces, Form::Plain))
    }

    /// A block of attributes by its number, or of the tree that finds them, and what is below.
    fn attribute_block(&self, inode: &Inode, map: &FileMap, (number, levels): (u32, u32), left: &mut Left, out: &mut Attributes) -> Result<()> {
        left.spend(1, 0)?;
        let mut bytes = vec![0; self.sb.block as usize];
        map.read(&self.volume, u64::from(number) * self.sb.block, &mut bytes)?;
        let mark = be16(&bytes, 8);
        let is_new = matches!(mark, 0x3bee | 0x3ebe);
        if is_new != self.sb.sums || is_new && !self.is_whole(&bytes, 12, (48, inode.number)) {
            return Err(damaged("a block of them"));
        }
        let head = if is_new { 56 } else { 12 };
        let count = usize::from(be16(&bytes, head));
        match mark {
            0x3ebe | 0xfebe => {
                // The head of a block of the tree: count and level, and some bytes more where there are checksums.
                let entries = if is_new { 64 } else { 16 };
                let levels = levels.checked_sub(1).ok_or_else(|| damaged("the tree is too deep"))?;
                for entry in bytes[entries..].as_chunks::<8>().0.iter().take(count) {
                    self.attribute_block(inode, map, (be32(entry, 4), levels), left, out)?;
                }
                Ok(())
            }
            0x3bee | 0xfbee => {
                let entries = if is_new { 80 } else { 32 };
                for entry in bytes[entries..].as_chunks::<8>().0.iter().take(count) {
                    let (at, flags) = (usize::from(be16(entry, 4)), entry[6]);
                    if flags & BESIDE != 0 {
                        let (value, name) = (usize::from(be16(&bytes, at)), usize::from(bytes.get(at + 2).copied().unwrap_or(0)));
                        left.spend(0, name + value)?;
                        let both = bytes.get(at + 3..at + 3 + name + value).ok_or_else(|| damaged("an entry"))?;
                        add(flags, &both[..name], &both[name..], out);
                    } else {
                        let (block, len, name) = (be32(&bytes, at), be32(&bytes, at + 4), usize::from(bytes.get(at + 8).copied().unwrap_or(0)));
                        let name = bytes.get(at + 9..at + 9 + name).ok_or_else(|| damaged("an entry"))?;
                        if flags & UNFINISHED == 0 {
                            left.spend(0, name.len() + len as usize)?;
                            add(flags, name, &self.long_value(inode, map, block, len)?, out);
                        }
                    }
                }
                Ok(())
            }
            _ => Err(damaged("a block of them has no mark")),
        }
    }

    fn long_value(&self, inode: &Inode, map: &FileMap, block: u32, len: u32) -> Result<Vec<u8>> {
        if len > MOST_VALUE {
            return Err(damaged("a value is longer than any"));
        }
        let (mut out, mut at) = (Vec::with_capacity(len as usize), u64::from(block) * self.sb.block);
        while out.len() < len as usize {
            let mut bytes = vec![0; self.sb.block as usize];
            if map.read(&self.volume, at, &mut bytes)? == 0 {
                return Err(damaged("a value is cut off"));
            }
            let (head, wanted) = (if self.sb.sums { 56 } else { 0 }, len as usize - out.len());
            if self.sb.sums && (&bytes[..4] != b"XARM" || !is_right(&bytes, 12) || be64(&bytes, 32) != inode.number) {
                return Err(damaged("a block of a long value"));
            }
            out.extend(bytes[head..].iter().take(wanted));
            at += self.sb.block;
        }
        Ok(out)
    }
}
