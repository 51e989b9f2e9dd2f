//! ext2, ext3 and ext4, following the kernel's "ext4 Data Structures and Algorithms": block groups (flexible and meta
//! groups too), inodes with extents, block maps or inline data, linear and hashed directories, symbolic links.
//!
//! A journal that was not carried out is not applied yet; the recognised state of the volume says that it is dirty.

use crate::tree::{Cached, Entry, FileSystem, Finding, Listing, Name, Node, NodeKind, Piece, Place, Result, Time, read_pieces};
use badger_drive::field::{le16, le32};

const ROOT: u32 = 2;
/// Inode flags.
const EXTENTS: u32 = 0x8_0000;
const INLINE: u32 = 0x1000_0000;
/// A directory is not read further than this.
const MOST_DIRECTORY: u64 = 256 << 20;

/// An open volume.
pub struct Ext {
    volume: Cached,
    block: u64,
    inode_size: u64,
    inodes: u32,
    inodes_per_group: u32,
    blocks_per_group: u32,
    first_block: u64,
    descriptor: u64,
    /// From this group of descriptor blocks on they lie in the groups themselves.
    first_meta: Option<u32>,
    blocks: u64,
    file_types: bool,
}

struct Inode {
    number: u32,
    bytes: Vec<u8>,
}

impl Inode {
    fn mode(&self) -> u16 {
        le16(&self.bytes, 0)
    }
    fn size(&self) -> u64 {
        u64::from(le32(&self.bytes, 4)) | u64::from(le32(&self.bytes, 108)) << 32
    }
    fn flags(&self) -> u32 {
        le32(&self.bytes, 32)
    }
    fn kind(&self) -> NodeKind {
        match self.mode() >> 12 {
            4 => NodeKind::Directory,
            8 => NodeKind::File,
            10 => NodeKind::Link,
            _ => NodeKind::Other,
        }
    }
    /// Seconds at `at`, the extra bits at `extra` where the inode is long enough for them.
    fn time(&self, at: usize, extra: usize) -> Option<Time> {
        let seconds = i64::from(le32(&self.bytes, at) as i32);
        let room = self.bytes.len() > 128 && 128 + usize::from(le16(&self.bytes, 128)) >= extra + 4;
        let more = if room { le32(&self.bytes, extra) } else { 0 };
        Some(Time { seconds: seconds + (i64::from(more & 3) << 32), nanos: (more >> 2).min(999_999_999) })
    }
    /// Data kept in the inode: the block field, then the value of the attribute `system.data`.
    fn inline(&self) -> Vec<u8> {
        let mut data = self.bytes[40..100].to_vec();
        let start = 128 + usize::from(le16(&self.bytes, 128));
        if self.bytes.len() > 132 && le32(&self.bytes, start) == 0xea02_0000 {
            let mut at = start + 4;
            while let Some(entry) = self.bytes.get(at..at + 16).filter(|entry| entry[..4] != [0; 4]) {
                let name = self.bytes.get(at + 16..at + 16 + usize::from(entry[0])).unwrap_or_default();
                if entry[1] == 7 && name == b"data" {
                    let value = start + 4 + usize::from(le16(entry, 2));
                    data.extend(self.bytes.get(value..value + le32(entry, 8) as usize).unwrap_or_default());
                }
                at += (16 + usize::from(entry[0]) + 3) & !3;
            }
        }
        data.truncate(self.size().min(1 << 16) as usize);
        data
    }
}

impl Ext {
    /// Opens a volume.
    ///
    /// # Errors
    /// A finding where the super block is none or contradicts itself.
    pub fn open(volume: Cached) -> Result<Self> {
        let sb = volume.read(1024, 1024)?;
        let wrong = |what: &str| Finding::new("ext-super-block", format!("the super block is damaged: {what}"));
        let shift = le32(&sb, 24);
        if le16(&sb, 56) != 0xef53 || shift > 6 {
            return Err(wrong("it is none"));
        }
        let incompatible = le32(&sb, 96);
        let old = le32(&sb, 76) == 0;
        let wide = incompatible & 0x80 != 0;
        let blocks = u64::from(le32(&sb, 4)) | if wide { u64::from(le32(&sb, 0x150)) << 32 } else { 0 };
        let fs = Self {
            block: 1024 << shift,
            inode_size: if old { 128 } else { u64::from(le16(&sb, 88)) },
            inodes: le32(&sb, 0),
            inodes_per_group: le32(&sb, 40),
            blocks_per_group: le32(&sb, 32),
            first_block: u64::from(le32(&sb, 20)),
            descriptor: if wide { u64::from(le16(&sb, 254)).max(32) } else { 32 },
            first_meta: (incompatible & 0x10 != 0).then(|| le32(&sb, 260)),
            blocks,
            file_types: incompatible & 2 != 0,
            volume,
        };
        if !(128..=fs.block).contains(&fs.inode_size) || !fs.inode_size.is_power_of_two() {
            return Err(wrong("the size of inodes"));
        }
        if fs.inodes_per_group == 0 || fs.blocks_per_group == 0 || fs.descriptor > 1024 {
            return Err(wrong("the size of groups"));
        }
        Ok(fs)
    }

    /// Where the descriptor of a group lies, in bytes.
    fn descriptor_at(&self, group: u32) -> u64 {
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

    /// Whether a group starts with a copy of the super block (sparse super blocks: groups 0, 1 and powers of 3, 5, 7).
    fn has_super(&self, group: u64) -> bool {
        let power = |base: u64| {
            let mut value = base;
            while value < group {
                value *= base;
            }
            value == group
        };
        group <= 1 || power(3) || power(5) || power(7)
    }

    fn inode(&self, number: u32) -> Result<Inode> {
        let gone = |why: &str| Finding::new("ext-inode", format!("inode {number}: {why}"));
        if number == 0 || number > self.inodes {
            return Err(gone("there is none of that number"));
        }
        let (group, index) = ((number - 1) / self.inodes_per_group, (number - 1) % self.inodes_per_group);
        let descriptor = self.volume.read(self.descriptor_at(group), self.descriptor as usize)?;
        let high = if self.descriptor >= 64 { u64::from(le32(&descriptor, 40)) << 32 } else { 0 };
        let table = u64::from(le32(&descriptor, 8)) | high;
        let at = table.checked_mul(self.block).and_then(|at| at.checked_add(u64::from(index) * self.inode_size));
        let bytes = self.volume.read(at.ok_or_else(|| gone("its table lies nowhere"))?, self.inode_size as usize)?;
        Ok(Inode { number, bytes })
    }

    fn node_of(&self, inode: &Inode) -> Node {
        let kind = inode.kind();
        Node {
            id: u64::from(inode.number),
            kind,
            size: if kind == NodeKind::Directory { 0 } else { inode.size() },
            modified: inode.time(16, 136),
            accessed: inode.time(8, 140),
            created: if inode.bytes.len() > 128 && le16(&inode.bytes, 128) >= 24 { inode.time(144, 148) } else { None },
            mode: Some(u32::from(inode.mode()) & 0o7777),
            attributes: 0,
            place: Place::default(),
        }
    }

    fn pieces_of(&self, inode: &Inode) -> Result<Vec<Piece>> {
        let size = inode.size();
        let mut map: Vec<(u64, u64, u64)> = Vec::new();
        if inode.flags() & EXTENTS != 0 {
            self.extents(&inode.bytes[40..100], 5, &mut map)?;
        } else {
            self.block_map(inode, size, &mut map)?;
        }
        map.sort_unstable();
        let (mut pieces, mut at) = (Vec::new(), 0u64);
        for (logical, physical, count) in map {
            let (start, len) = (logical.saturating_mul(self.block), count * self.block);
            if start < at || start >= size {
                continue;
            }
            if start > at {
                pieces.push(Piece { at: None, len: start - at });
            }
            let len = len.min(size - start);
            pieces.push(Piece { at: (physical != 0).then_some(physical * self.block), len });
            at = start + len;
        }
        if at < size {
            pieces.push(Piece { at: None, len: size - at });
        }
        Ok(pieces)
    }

    /// Collects logical block, physical block (0 for one that was set aside but never written) and count.
    fn extents(&self, node: &[u8], depth_left: u16, map: &mut Vec<(u64, u64, u64)>) -> Result<()> {
        let wrong = || Finding::new("ext-extents", "a node of the extent tree is damaged");
        let (count, depth) = (usize::from(le16(node, 2)), le16(node, 6));
        if le16(node, 0) != 0xf30a || depth > depth_left || 12 + count * 12 > node.len() || map.len() > 4 << 20 {
            return Err(wrong());
        }
        for entry in node[12..12 + count * 12].chunks_exact(12) {
            let logical = u64::from(le32(entry, 0));
            if depth == 0 {
                let raw = le16(entry, 4);
                let unwritten = raw > 32768;
                let count = u64::from(if unwritten { raw - 32768 } else { raw });
                let physical = u64::from(le32(entry, 8)) | u64::from(le16(entry, 6)) << 32;
                if physical.checked_add(count).is_none_or(|end| end > self.blocks) {
                    return Err(wrong());
                }
                map.push((logical, if unwritten { 0 } else { physical }, count));
            } else {
                let child = u64::from(le32(entry, 4)) | u64::from(le16(entry, 8)) << 32;
                let bytes = self.volume.read(child.checked_mul(self.block).ok_or_else(wrong)?, self.block as usize)?;
                // A child must be one level lower, so that a loop cannot go on for ever.
                self.extents(&bytes, depth - 1, map)?;
            }
        }
        Ok(())
    }

    fn block_map(&self, inode: &Inode, size: u64, map: &mut Vec<(u64, u64, u64)>) -> Result<()> {
        let total = size.div_ceil(self.block);
        let mut next = 0u64;
        let mut add = |physical: u32, next: &mut u64| {
            if physical != 0 && u64::from(physical) < self.blocks {
                match map.last_mut() {
                    Some((logical, start, count)) if *logical + *count == *next && *start + *count == u64::from(physical) => *count += 1,
                    _ => map.push((*next, u64::from(physical), 1)),
                }
            }
            *next += 1;
        };
        for slot in 0..12 {
            if next < total {
                add(le32(&inode.bytes, 40 + slot * 4), &mut next);
            }
        }
        for level in 1..=3u32 {
            if next < total {
                self.indirect(le32(&inode.bytes, 84 + level as usize * 4), level, total, &mut next, &mut add)?;
            }
        }
        Ok(())
    }

    fn indirect(&self, block: u32, level: u32, total: u64, next: &mut u64, add: &mut impl FnMut(u32, &mut u64)) -> Result<()> {
        let per = self.block / 4;
        if block == 0 || u64::from(block) >= self.blocks {
            *next += per.pow(level);
            return Ok(());
        }
        let bytes = self.volume.read(u64::from(block) * self.block, self.block as usize)?;
        for entry in bytes.chunks_exact(4) {
            if *next >= total {
                break;
            }
            let below = le32(entry, 0);
            if level == 1 { add(below, next) } else { self.indirect(below, level - 1, total, next, add)? }
        }
        Ok(())
    }

    /// Entries of one stretch of a directory.
    fn entries(&self, bytes: &[u8], listing: &mut Listing) {
        let mut at = 0;
        while at + 8 <= bytes.len() {
            let (number, len) = (le32(bytes, at), usize::from(le16(bytes, at + 4)));
            let name_len = if self.file_types { usize::from(bytes[at + 6]) } else { usize::from(le16(bytes, at + 6)) };
            // The largest length of a block of 64 KiB does not fit into the field.
            let len = if len == 65535 || len == 0 && self.block == 65536 { 65536 } else { len };
            if len < 8 || at + len > bytes.len() || 8 + name_len > len {
                listing.findings.push(Finding::new("ext-directory", format!("an entry {at} bytes into a block is damaged")));
                return;
            }
            let name = &bytes[at + 8..at + 8 + name_len];
            if number != 0 && name_len > 0 && name != b"." && name != b".." {
                match self.inode(number) {
                    Ok(inode) if inode.mode() != 0 => listing.entries.push(Entry { name: Name::from_bytes(name), node: self.node_of(&inode) }),
                    Ok(_) => {
                        let shown = String::from_utf8_lossy(name).into_owned();
                        listing.findings.push(Finding::new("ext-dangling", format!("{shown} names inode {number}, which is not in use")));
                    }
                    Err(finding) => listing.findings.push(finding),
                }
            }
            at += len;
        }
    }

    fn number(node: &Node) -> u32 {
        u32::try_from(node.id).unwrap_or(0)
    }
}

impl FileSystem for Ext {
    fn root(&self) -> Result<Node> {
        Ok(self.node_of(&self.inode(ROOT)?))
    }

    fn list(&self, directory: &Node) -> Listing {
        let mut listing = Listing::default();
        let read = || -> Result<(Inode, Vec<Piece>)> {
            let inode = self.inode(Self::number(directory))?;
            let pieces = if inode.flags() & INLINE != 0 { Vec::new() } else { self.pieces_of(&inode)? };
            Ok((inode, pieces))
        };
        let (inode, pieces) = match read() {
            Ok(found) => found,
            Err(finding) => return finding.into(),
        };
        if inode.flags() & INLINE != 0 {
            let data = inode.inline();
            // Four bytes with the parent stand in front, and entries may not cross from one part to the other.
            self.entries(data.get(4..60.min(data.len())).unwrap_or_default(), &mut listing);
            self.entries(data.get(60..).unwrap_or_default(), &mut listing);
            return listing;
        }
        let size = inode.size().min(MOST_DIRECTORY);
        let mut block = vec![0; self.block as usize];
        let mut at = 0;
        while at < size {
            match read_pieces(&self.volume, &pieces, size, at, &mut block) {
                Ok(count) => self.entries(&block[..count], &mut listing),
                Err(finding) => listing.findings.push(finding),
            }
            at += self.block;
        }
        listing
    }

    fn pieces(&self, file: &Node) -> Result<Vec<Piece>> {
        let inode = self.inode(Self::number(file))?;
        if inode.flags() & INLINE != 0 { Ok(Vec::new()) } else { self.pieces_of(&inode) }
    }

    fn read(&self, file: &Node, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let inode = self.inode(Self::number(file))?;
        if inode.flags() & INLINE != 0 {
            let data = inode.inline();
            let rest = data.get(offset.min(data.len() as u64) as usize..).unwrap_or_default();
            let len = rest.len().min(buf.len());
            buf[..len].copy_from_slice(&rest[..len]);
            return Ok(len);
        }
        read_pieces(&self.volume, &self.pieces_of(&inode)?, inode.size(), offset, buf)
    }

    fn link(&self, link: &Node) -> Result<Name> {
        let inode = self.inode(Self::number(link))?;
        let size = inode.size().min(4096) as usize;
        // Short targets stand where the block numbers of longer ones would.
        if size < 60 && inode.flags() & (EXTENTS | INLINE) == 0 {
            return Ok(Name::from_bytes(&inode.bytes[40..40 + size]));
        }
        let mut bytes = vec![0; size];
        let count = self.read(link, 0, &mut bytes)?;
        Ok(Name::from_bytes(&bytes[..count]))
    }

    fn is_case_sensitive(&self) -> bool {
        true
    }
}
