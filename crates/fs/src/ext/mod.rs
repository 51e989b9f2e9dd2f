//! ext2, ext3 and ext4, following the kernel's "ext4 Data Structures and Algorithms": block groups (flexible and meta
//! groups too), inodes with extents, block maps or inline data, linear and hashed directories, symbolic links,
//! extended attributes. A journal that was not carried out is taken into account in memory.

mod checksum;
mod fast;
mod grow;
mod hash;
mod journal;
mod resize;
mod rewrite;
mod superblock;
mod survey;

use crate::cached::{Cached, Near};
use crate::content::{Content, FileMap, Form};
use crate::finding::{Finding, Result};
use crate::node::{Listing, Name, Node, NodeKind, Piece, Place, Resolution, Time, escaped};
use crate::resize::{Bounds, View, Wanted};
use crate::survey::Survey;
use crate::tree::{Origin, Tree, Volume};
use badger_drive::field::{array, le16, le32};
use checksum::{crc16, crc32c};
use fast::Fast;
use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;
pub(crate) use superblock::FORMAT;
use superblock::SuperBlock;

const ROOT: u32 = 2;
/// The inode that holds the room for further descriptors.
const RESIZE: u32 = 7;
/// Inode flags.
const EXTENTS: u32 = 0x8_0000;
const INLINE: u32 = 0x1000_0000;
const INDEXED: u32 = 0x1000;
const HUGE: u32 = 0x4_0000;
/// First bytes of extended attributes.
const ATTRIBUTES: u32 = 0xea02_0000;
/// Levels of an extent tree below its root.
const MOST_LEVELS: u16 = 5;
/// A directory is not read further than this.
const MOST_DIRECTORY: u64 = 256 << 20;
/// Inode tables of so many bytes are read in one go by whoever lists everything.
const MOST_TABLES: u64 = 64 << 20;

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
    /// The super block and its feature words: compatible, incompatible, read-only compatible.
    sb: Vec<u8>,
    features: [u32; 3],
    groups: Vec<Group>,
    /// Begins every checksum; `None` where the volume has none.
    seed: Option<u32>,
    /// Changes behind the journal's last whole transaction.
    fast: Arc<Fast>,
    /// What was found while it was opened.
    opened: Vec<Finding>,
}

/// What a group's descriptor says.
#[derive(Clone, Copy, Default)]
struct Group {
    block_bitmap: u64,
    inode_bitmap: u64,
    inode_table: u64,
    free_blocks: u32,
    free_inodes: u32,
    directories: u32,
    flags: u16,
    sums: [u32; 2],
    /// Inodes at the end of the table that were never used.
    untouched: u32,
    /// It comes from a copy, whose counts and checksums of bitmaps are not kept up.
    copied: bool,
}

/// A group whose bitmap was never written: only its own structures are in use.
const BLOCKS_UNWRITTEN: u16 = 2;
const INODES_UNWRITTEN: u16 = 1;
/// Feature bits: incompatible ones, then read-only compatible ones.
const RECOVER: u32 = 4;
const WIDE: u32 = 0x80;
const ATTRIBUTE_INODES: u32 = 0x400;
const SEED_STORED: u32 = 0x2000;
const ENCRYPTED: u32 = 0x800;
const SPARSE: u32 = 1;
const DESCRIPTOR_SUMS: u32 = 0x10;
const BIG_ALLOCATION: u32 = 0x200;
const CHECKSUMS: u32 = 0x400;
/// Room for further descriptors, in the compatible features.
const RESIZE_INODE: u32 = 0x10;
/// Two backups at chosen places, in the compatible features.
const SPARSE_TWO: u32 = 0x200;
/// The mark at the end of every block that orphans are noted in.
const ORPHAN_MARK: u32 = 0x0b10_ca04;
/// Descriptors of more groups than these are not held.
const MOST_GROUPS: u64 = 4 << 20;
/// More bytes than any volume of this format can have: 1 EiB.
const MOST_BYTES: u64 = 1 << 60;

/// The nodes of block maps that were read: none leads to another twice, and there are no more than the volume has blocks.
pub(super) struct Walked {
    seen: HashSet<u64>,
    /// Pieces of a file at the most.
    most: usize,
}

impl Walked {
    pub(super) fn new(fs: &Ext) -> Self {
        Self { seen: HashSet::new(), most: (fs.volume.len() / fs.block + 16).min(4 << 20) as usize }
    }

    fn enter(&mut self, block: u64) -> Result<()> {
        let twice = || Finding::new("ext-tree-loop", format!("block {block} is a node of the map of two files, or of one twice"));
        self.seen.insert(block).then_some(()).ok_or_else(twice)
    }
}

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

/// An entry of a directory as it stands there.
struct RawEntry<'a> {
    number: u32,
    name: &'a [u8],
    /// Where the format tells kinds in directories: 2 for a directory.
    kind: u8,
}

/// What an extent tree holds: stretches of blocks, and the blocks of the tree itself.
enum Held {
    Data(Range<u64>),
    Tree(u64),
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
        data.extend(self.inline_rest().unwrap_or_default());
        data.truncate(self.size().min(1 << 16) as usize);
        data
    }
    /// The value of the attribute `system.data`, which every inode with data in it has.
    fn inline_rest(&self) -> Option<&[u8]> {
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
    /// Opens a volume. Where its super block is damaged a copy is taken; a journal that was not carried out is laid over
    /// it in memory.
    ///
    /// # Errors
    /// A finding where no super block is left, or it contradicts itself.
    pub fn open(volume: Cached) -> Result<Self> {
        let mut fs = Self::with(volume)?;
        if fs.features[1] & RECOVER != 0 {
            match fs.journal() {
                Ok((overlay, fast, finding)) => {
                    let found = std::mem::take(&mut fs.opened);
                    fs.volume.lay_over(overlay);
                    // The journal may hold newer descriptors as well.
                    fs = Self::with(fs.volume)?;
                    fs.fast = Arc::new(fast);
                    fs.opened.extend(found.into_iter().filter(|found| found.code == "ext-super-block"));
                    fs.opened.push(finding);
                }
                Err(finding) => fs.opened.push(finding),
            }
        }
        Ok(fs)
    }

    fn journal(&self) -> Result<(crate::cached::Overlay, Fast, Finding)> {
        let inode = self.inode(le32(&self.sb, 0xe0)).map_err(|_| Finding::new("ext-journal", "its journal lies on another drive"))?;
        let content = FileMap::new(inode.size(), self.pieces_of(&inode)?, Form::Plain);
        journal::replay(&self.volume, &content, self.block, self.blocks)
    }

    fn with(volume: Cached) -> Result<Self> {
        let wrong = |what: &str| Finding::new("ext-super-block", format!("the super block is damaged: {what}"));
        let found = SuperBlock::find(&|at| volume.read(at, 1024).ok()).ok_or_else(|| wrong("it is none"))?;
        let mut opened = Vec::new();
        if let Some(at) = found.copied {
            opened.push(Finding::new("ext-super-block", format!("the super block is damaged; its copy at byte {at} is used")).at(1024));
        } else if found.damaged {
            opened.push(Finding::new("ext-super-block", "the super block's checksum is wrong").at(1024));
        }
        let (block, blocks, features) = (found.block(), found.blocks(), found.features());
        let (sb, incompatible) = (found.bytes, features[1]);
        let old = le32(&sb, 76) == 0;
        let seed = match features[2] & CHECKSUMS != 0 {
            true if incompatible & SEED_STORED != 0 => Some(le32(&sb, 0x270)),
            true => Some(crc32c(u32::MAX, &array::<16>(&sb, 104))),
            false => None,
        };
        let mut fs = Self {
            block,
            inode_size: if old { 128 } else { u64::from(le16(&sb, 88)) },
            inodes: le32(&sb, 0),
            inodes_per_group: le32(&sb, 40),
            blocks_per_group: le32(&sb, 32),
            first_block: u64::from(le32(&sb, 20)),
            descriptor: if incompatible & WIDE != 0 { u64::from(le16(&sb, 254)).max(32) } else { 32 },
            first_meta: (incompatible & 0x10 != 0).then(|| le32(&sb, 260)),
            blocks,
            file_types: incompatible & 2 != 0,
            volume,
            sb,
            features,
            groups: Vec::new(),
            seed,
            fast: Arc::default(),
            opened,
        };
        if fs.blocks.checked_mul(fs.block).is_none_or(|bytes| bytes > MOST_BYTES) {
            return Err(wrong("its length"));
        }
        // Inodes that have no room on the volume cannot be read either.
        fs.inodes = u64::from(fs.inodes).min(fs.volume.len() / fs.inode_size.max(128) + 16) as u32;
        if !(128..=fs.block).contains(&fs.inode_size) || !fs.inode_size.is_power_of_two() {
            return Err(wrong("the size of inodes"));
        }
        // The bitmap of a group is one block long.
        if fs.inodes_per_group == 0
            || u64::from(fs.inodes_per_group) > fs.block * 8
            || fs.blocks_per_group == 0
            || !(32..=1024).contains(&fs.descriptor)
            || fs.descriptor > fs.block
        {
            return Err(wrong("the size of groups"));
        }
        fs.load_groups();
        Ok(fs)
    }

    fn group_count(&self) -> u64 {
        self.blocks.saturating_sub(self.first_block).div_ceil(u64::from(self.blocks_per_group))
    }

    /// Reads the descriptors of all groups; a damaged one is taken from its copy.
    fn load_groups(&mut self) {
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
    fn group(&self, number: u32, bytes: &[u8]) -> Option<Group> {
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
    fn descriptor_copy_at(&self, group: u32) -> Option<u64> {
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

    /// Whether a group starts with a copy of the super block: all do, or with sparse super blocks groups 0, 1 and powers of
    /// 3, 5 and 7, or two chosen ones.
    fn has_super(&self, group: u64) -> bool {
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
    fn front(&self, group: u64) -> Range<u64> {
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
    fn first_own(&self) -> u32 {
        if le32(&self.sb, 76) == 0 { 11 } else { le32(&self.sb, 84).max(11) }
    }

    /// Where an inode stands; `None` where its group has no table.
    fn inode_at(&self, number: u32) -> Option<u64> {
        let before = number.checked_sub(1)?;
        let (group, index) = (before / self.inodes_per_group, before % self.inodes_per_group);
        let table = self.groups.get(group as usize).map_or(0, |group| group.inode_table);
        table.checked_mul(self.block).filter(|at| *at > 0)?.checked_add(u64::from(index) * self.inode_size)
    }

    /// The parts of the inode tables that were ever used, as bytes of the volume; none where they are more than can be kept.
    fn used_tables(&self) -> Vec<(u64, u64)> {
        let used = |group: &Group| u64::from(self.inodes_per_group.saturating_sub(group.untouched)) * self.inode_size;
        let tables = || self.groups.iter().filter(|group| group.free_inodes < self.inodes_per_group && group.inode_table > 0);
        if tables().map(used).sum::<u64>() > MOST_TABLES {
            return Vec::new();
        }
        tables().filter_map(|group| Some((group.inode_table.checked_mul(self.block)?, used(group)))).collect()
    }

    fn inode(&self, number: u32) -> Result<Inode> {
        self.inode_near(number, &mut self.volume.near())
    }

    /// An inode, read with those beside it.
    fn inode_near(&self, number: u32, near: &mut Near) -> Result<Inode> {
        let gone = |why: &str| Finding::new("ext-inode", format!("inode {number}: {why}"));
        if number == 0 || number > self.inodes {
            return Err(gone("there is none of that number"));
        }
        let mut bytes = vec![0; self.inode_size as usize];
        near.read_into(self.inode_at(number).ok_or_else(|| gone("its table lies nowhere"))?, &mut bytes)?;
        Ok(Inode { number, bytes })
    }

    /// An inode with what fast commits changed of it.
    fn inode_now(&self, number: u32) -> Result<Inode> {
        self.inode_now_near(number, &mut self.volume.near())
    }

    fn inode_now_near(&self, number: u32, near: &mut Near) -> Result<Inode> {
        let inode = self.inode_near(number, near)?;
        match self.fast.inode(number, &inode.bytes, INLINE) {
            Some(bytes) => Ok(Inode { number, bytes }),
            None => Ok(inode),
        }
    }

    /// Where its content lies by now.
    fn pieces_now(&self, inode: &Inode) -> Result<Vec<Piece>> {
        let pieces = self.pieces_of(inode)?;
        Ok(if self.fast.is_empty() { pieces } else { self.fast.pieces(inode.number, pieces, inode.size(), self.block) })
    }

    /// Begins the checksum of whatever belongs to an inode.
    fn seed_of(&self, inode: &Inode) -> Option<u32> {
        self.seed.map(|seed| crc32c(crc32c(seed, &inode.number.to_le_bytes()), &inode.bytes[100..104]))
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

    fn pieces_of(&self, inode: &Inode) -> Result<Vec<Piece>> {
        let size = inode.size();
        let (mut map, mut walked): (Vec<(u64, u64, u64)>, _) = (Vec::new(), Walked::new(self));
        if inode.flags() & EXTENTS != 0 {
            self.extents(&inode.bytes[40..100], &mut map, &mut walked, &mut |_, _| {})?;
        } else {
            self.block_map(inode, size, &mut map, &mut walked, &mut |_| {})?;
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

    /// Collects logical block, physical block (0 for one that was set aside but never written) and count. `each` is told
    /// the blocks of the tree itself and every stretch set aside. A tree that the kernel would not follow is damaged: nodes
    /// out of order, beyond what the one above leads to, or longer than they have room for.
    fn extents(&self, root: &[u8], map: &mut Vec<(u64, u64, u64)>, walked: &mut Walked, each: &mut dyn FnMut(Held, &[u8])) -> Result<()> {
        self.extent_node(root, MOST_LEVELS, (None, 1 << 32), map, walked, each)
    }

    /// One node; `span` is where its first stretch must begin, if that is known, and where the last one must end.
    fn extent_node(
        &self,
        node: &[u8],
        depth_left: u16,
        span: (Option<u64>, u64),
        map: &mut Vec<(u64, u64, u64)>,
        walked: &mut Walked,
        each: &mut dyn FnMut(Held, &[u8]),
    ) -> Result<()> {
        let wrong = |what: &str| Finding::new("ext-extents", format!("a node of the extent tree is damaged: {what}"));
        let (count, limit, depth) = (usize::from(le16(node, 2)), usize::from(le16(node, 4)), le16(node, 6));
        // Up to two places may be left for what stands behind the entries.
        let room = (node.len() - 12) / 12;
        if le16(node, 0) != 0xf30a || depth > depth_left || map.len() > walked.most {
            return Err(wrong("its mark or its depth"));
        }
        if count > limit || limit > room || limit + 2 < room || count == 0 && (depth > 0 || span.0.is_some()) {
            return Err(wrong("the number of its entries"));
        }
        let entries = node[12..12 + count * 12].as_chunks::<12>().0;
        let mut end = 0;
        for (slot, entry) in entries.iter().enumerate() {
            let logical = u64::from(le32(entry, 0));
            if slot == 0 && span.0.is_some_and(|start| start != logical) || slot > 0 && logical < end || logical >= span.1 {
                return Err(wrong("its entries are out of order, or beyond what leads to them"));
            }
            if depth == 0 {
                let raw = le16(entry, 4);
                let unwritten = raw > 32768;
                let count = u64::from(if unwritten { raw - 32768 } else { raw });
                let physical = u64::from(le32(entry, 8)) | u64::from(le16(entry, 6)) << 32;
                end = logical + count;
                if count == 0 || end > span.1 || physical == 0 || physical + count > self.blocks {
                    return Err(wrong("a stretch is empty, or leads out of the volume"));
                }
                each(Held::Data(physical..physical + count), &[]);
                map.push((logical, if unwritten { 0 } else { physical }, count));
            } else {
                end = logical + 1;
                let next = entries.get(slot + 1).map_or(span.1, |next| u64::from(le32(next, 0)));
                let child = u64::from(le32(entry, 4)) | u64::from(le16(entry, 8)) << 32;
                walked.enter(child)?;
                if child == 0 || child >= self.blocks {
                    return Err(wrong("it leads out of the volume"));
                }
                let bytes = self.volume.read(child * self.block, self.block as usize)?;
                each(Held::Tree(child), &bytes);
                // A child must be one level lower, so that a loop cannot go on for ever.
                if u32::from(le16(&bytes, 6)) + 1 != u32::from(depth) {
                    return Err(wrong("its depth"));
                }
                self.extent_node(&bytes, depth - 1, (Some(logical), next), map, walked, each)?;
            }
        }
        Ok(())
    }

    fn block_map(&self, inode: &Inode, size: u64, map: &mut Vec<(u64, u64, u64)>, walked: &mut Walked, tree: &mut dyn FnMut(u64)) -> Result<()> {
        let total = size.div_ceil(self.block);
        let mut next = 0u64;
        // Every block can be in a file once; a map that has more pieces than that is none.
        let most = walked.most;
        let mut outside = None;
        let mut add = |physical: u32, next: &mut u64| {
            if map.len() > most {
                return;
            }
            if physical != 0 && !self.is_block(physical) {
                outside.get_or_insert(physical);
            } else if physical != 0 {
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
                self.indirect(le32(&inode.bytes, 84 + level as usize * 4), level, total, &mut next, walked, &mut add, tree)?;
            }
        }
        outside.map_or(Ok(()), |block| Err(Finding::new("ext-block-map", format!("it names block {block}, which is none of the volume"))))
    }

    /// Whether a number is that of a block a file may have.
    fn is_block(&self, number: u32) -> bool {
        u64::from(number) > self.first_block && u64::from(number) < self.blocks
    }

    #[allow(clippy::too_many_arguments)] // a walk and everything it carries along
    fn indirect(
        &self,
        block: u32,
        level: u32,
        total: u64,
        next: &mut u64,
        walked: &mut Walked,
        add: &mut impl FnMut(u32, &mut u64),
        tree: &mut dyn FnMut(u64),
    ) -> Result<()> {
        let per = self.block / 4;
        if block == 0 {
            *next += per.pow(level);
            return Ok(());
        }
        if !self.is_block(block) {
            return Err(Finding::new("ext-block-map", format!("it names block {block}, which is none of the volume")));
        }
        walked.enter(u64::from(block))?;
        let bytes = self.volume.read(u64::from(block) * self.block, self.block as usize)?;
        tree(u64::from(block));
        for entry in bytes.chunks_exact(4) {
            if *next >= total {
                break;
            }
            let below = le32(entry, 0);
            if level == 1 { add(below, next) } else { self.indirect(below, level - 1, total, next, walked, add, tree)? }
        }
        Ok(())
    }

    /// The entries of one stretch of a directory as they stand there, unused ones too. A damaged one, of which only the
    /// place is known, ends them.
    fn raw_entries<'a>(&self, bytes: &'a [u8]) -> impl Iterator<Item = std::result::Result<RawEntry<'a>, usize>> {
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
    fn entries(&self, bytes: &[u8], listing: &mut Listing, found: &mut Vec<(u64, Name)>) {
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

    fn named(&self, number: u64, name: &Name, near: &mut Near) -> Result<Node> {
        let inode = self.inode_now_near(u32::try_from(number).unwrap_or(0), near)?;
        match inode.mode() {
            0 => Err(Finding::new("ext-dangling", format!("{} names inode {number}, which is not in use", name.shown))),
            _ => Ok(self.node_of(&inode)),
        }
    }

    /// The block with an inode's further attributes.
    fn attribute_block(&self, inode: &Inode) -> Option<u64> {
        let block = u64::from(le32(&inode.bytes, 104)) | u64::from(le16(&inode.bytes, 118)) << 32;
        (self.first_block + 1..self.blocks).contains(&block).then_some(block)
    }

    /// Attributes from `at` on; their values are counted from `values` on.
    fn attributes_in(&self, bytes: &[u8], mut at: usize, values: usize, out: &mut Vec<(String, Vec<u8>)>) {
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

    fn value(&self, inode: &Inode, len: usize) -> Result<Vec<u8>> {
        let mut bytes = vec![0; len.min(1 << 20)];
        let count = FileMap::new(inode.size(), self.pieces_now(inode)?, Form::Plain).read(&self.volume, 0, &mut bytes)?;
        bytes.truncate(count);
        Ok(bytes)
    }

    /// Takes changes of names by fast commits into account.
    fn renamed(&self, directory: &Node, found: &mut Vec<(u64, Name)>) {
        if self.fast.is_empty() {
            return;
        }
        let mut plain: Vec<(u64, Vec<u8>)> = found.drain(..).map(|(number, name)| (number, name.bytes)).collect();
        self.fast.names(Self::number(directory), &mut plain);
        found.extend(plain.into_iter().map(|(number, name)| (number, Name::from_bytes(&name))));
    }

    /// The content of an inode as it stands there.
    fn held_by(&self, inode: &Inode) -> Result<FileMap> {
        if inode.flags() & INLINE != 0 {
            return Ok(FileMap::held(inode.inline()));
        }
        Ok(FileMap::new(inode.size(), self.pieces_now(inode)?, Form::Plain))
    }

    fn number(node: &Node) -> u32 {
        u32::try_from(node.id).unwrap_or(0)
    }
}

impl Ext {
    fn map_of(&self, file: &Node, stream: &str) -> Result<FileMap> {
        if !stream.is_empty() {
            return Err(Finding::new("no-stream", "this format has no further streams"));
        }
        let inode = self.inode_now(Self::number(file))?;
        if inode.flags() & ENCRYPTED != 0 {
            return Err(Finding::new("ext-encrypted", "it is encrypted; only its owner's system can read it"));
        }
        self.held_by(&inode)
    }

    fn stored_map_of(&self, file: &Node, stream: &str) -> Result<FileMap> {
        if !stream.is_empty() {
            return self.map_of(file, stream);
        }
        self.held_by(&self.inode_now(Self::number(file))?)
    }
}

impl Tree for Ext {
    fn root(&self) -> Result<Node> {
        Ok(self.node_of(&self.inode_now(ROOT)?))
    }

    fn list(&self, directory: &Node) -> Listing {
        let (mut listing, mut found, mut near) = (Listing::default(), Vec::new(), self.volume.near());
        let read = || -> Result<(Inode, Vec<Piece>)> {
            let inode = self.inode_now(Self::number(directory))?;
            let pieces = if inode.flags() & INLINE != 0 { Vec::new() } else { self.pieces_now(&inode)? };
            Ok((inode, pieces))
        };
        let (inode, pieces) = match read() {
            Ok(found) => found,
            Err(finding) => return finding.into(),
        };
        if inode.flags() & INLINE != 0 {
            let data = inode.inline();
            // Four bytes with the parent stand in front, and entries may not cross from one part to the other.
            self.entries(data.get(4..60.min(data.len())).unwrap_or_default(), &mut listing, &mut found);
            self.entries(data.get(60..).unwrap_or_default(), &mut listing, &mut found);
            self.renamed(directory, &mut found);
            listing.add(found, |number, name| self.named(number, name, &mut near));
            return listing;
        }
        let size = inode.size().min(MOST_DIRECTORY).min(self.volume.len());
        if pieces.len() > 1 {
            self.volume.expect(pieces.iter().filter_map(|piece| Some((piece.at?, piece.len))));
        }
        let content = FileMap::new(size, pieces, Form::Plain);
        let mut block = vec![0; self.block as usize];
        let mut at = 0;
        while at < size {
            match content.read(&self.volume, at, &mut block) {
                Ok(count) => self.entries(&block[..count], &mut listing, &mut found),
                Err(finding) => listing.findings.push(finding),
            }
            at += self.block;
        }
        self.renamed(directory, &mut found);
        self.volume.expect(found.iter().filter_map(|(number, _)| Some((self.inode_at(u32::try_from(*number).ok()?)?, self.inode_size))));
        listing.add(found, |number, name| self.named(number, name, &mut near));
        listing
    }

    fn open(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        Ok(self.map_of(file, stream)?.on(&self.volume))
    }

    fn stored(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        Ok(self.stored_map_of(file, stream)?.on(&self.volume))
    }

    fn attributes(&self, node: &Node) -> Result<Vec<(String, Vec<u8>)>> {
        let inode = self.inode_now(Self::number(node))?;
        let mut out = Vec::new();
        let start = 128 + usize::from(le16(&inode.bytes, 128));
        if inode.bytes.len() > 132 && le32(&inode.bytes, start) == ATTRIBUTES {
            self.attributes_in(&inode.bytes, start + 4, start + 4, &mut out);
        }
        if let Some(block) = self.attribute_block(&inode) {
            let bytes = self.volume.read(block * self.block, self.block as usize)?;
            if le32(&bytes, 0) == ATTRIBUTES {
                self.attributes_in(&bytes, 32, 0, &mut out);
            }
        }
        Ok(out)
    }

    fn link(&self, link: &Node) -> Result<Name> {
        let inode = self.inode_now(Self::number(link))?;
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

    fn resolution(&self) -> Resolution {
        let nanos = if self.inode_size > 128 { 1 } else { 1_000_000_000 };
        Resolution { modified: nanos, accessed: nanos, created: nanos }
    }

    fn origin(&self) -> Origin<'_> {
        Origin::Volume(self)
    }

    fn most_entries(&self) -> u64 {
        self.volume.most_entries()
    }

    fn will_walk(&self) {
        self.volume.expect_all(&self.used_tables());
    }
}

impl Volume for Ext {
    fn volume(&self) -> &Cached {
        &self.volume
    }

    fn bounds(&self, survey: &Survey, sector: u32) -> Result<Bounds> {
        self.bounds_of(survey, u64::from(sector))
    }

    fn room(&self, survey: &Survey, len: u64, sector: u32) -> Result<u64> {
        self.room_in(survey, len, u64::from(sector))
    }

    fn resized(&self, survey: &Survey, wanted: &Wanted) -> Result<View> {
        self.resized_to(survey, wanted)
    }

    fn lengthened(&self, files: &[(&Node, &[u8])]) -> Result<Vec<(u64, Vec<u8>)>> {
        let files: Vec<(u64, &[u8])> = files.iter().map(|(node, more)| (node.id, *more)).collect();
        self.grown(&files)
    }

    fn survey(&self) -> Survey {
        self.go_over().within(self.volume.len())
    }
}
