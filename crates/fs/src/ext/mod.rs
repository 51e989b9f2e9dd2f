//! ext2, ext3 and ext4, following the kernel's "ext4 Data Structures and Algorithms": block groups (flexible and meta
//! groups too), inodes with extents, block maps or inline data, linear and hashed directories, symbolic links,
//! extended attributes. A journal that was not carried out is taken into account in memory.

mod attributes;
mod checksum;
mod entries;
mod extents;
mod fast;
mod groups;
mod grow;
mod hash;
mod inode;
mod journal;
mod resize;
mod rewrite;
mod superblock;
mod survey;

use crate::cached::Cached;
use crate::content::{Content, FileMap, Form};
use crate::finding::{Finding, Result};
use crate::node::{Listing, Name, Node, Piece, Resolution};
use crate::resize::{Bounds, View, Wanted};
use crate::survey::Survey;
use crate::tree::{Origin, Tree, Volume};
use badger_drive::field::{array, le16, le32};
use checksum::crc32c;
use fast::Fast;
use groups::Group;
use inode::Inode;
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
const VALUE_INODE: u32 = 0x20_0000;
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
