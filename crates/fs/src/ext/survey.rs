//! Going over an ext volume: every group, every inode in use, every directory.

use super::checksum::{self, crc32c};
use super::{
    ATTRIBUTES, BIG_ALLOCATION, BLOCKS_UNWRITTEN, EXTENTS, Ext, Group, Held, INLINE, INODES_UNWRITTEN, Inode, MOST_DIRECTORY, ROOT, RawEntry, Walked,
};
use crate::bits::Bits;
use crate::content::{Content, Form};
use crate::survey::{Claims, Survey, Use};
use crate::tree::{Finding, NodeKind, Weight};
use badger_drive::field::{le16, le32};
use badger_drive::size::thousands;
use std::collections::{BTreeMap, HashMap};
use std::ops::Range;

/// Inode flags.
const HUGE: u32 = 0x4_0000;
const INDEXED: u32 = 0x1000;
const VALUE_INODE: u32 = 0x20_0000;
/// Inodes of the format's own.
const RESIZE: u32 = 7;
/// So many links are counted; directories with more say 1.
const MOST_LINKS: u32 = 65_000;

/// What the inodes said of themselves, for when the names are known.
#[derive(Clone, Copy)]
struct Known {
    links: u16,
    directory: bool,
    special: bool,
}

struct Tour<'a> {
    fs: &'a Ext,
    claims: Claims,
    /// Names that lead to each inode, group by group where there are any.
    names: BTreeMap<u32, Vec<u32>>,
    known: HashMap<u32, Known>,
    /// Directory to the directory it says is above it.
    above: HashMap<u32, u32>,
    /// Entry to the directory it stands in.
    above_by_name: HashMap<u32, u32>,
    /// Attribute blocks that several files share: how often they were met and how often they say.
    shared: HashMap<u64, (u32, u32)>,
    inode_map: Bits,
    directories: Vec<u32>,
    free_inodes: Vec<u32>,
    values: bool,
    /// Trees and roots of trees that may be full.
    spread: u64,
    walked: Walked,
    /// Bytes of directories that may still be read: all of them together are no longer than the volume.
    names_left: u64,
}

impl Ext {
    /// Blocks that the map counts as one.
    pub(super) fn ratio(&self) -> u64 {
        if self.features[2] & BIG_ALLOCATION != 0 { 1 << le32(&self.sb, 28).saturating_sub(le32(&self.sb, 24)).min(20) } else { 1 }
    }

    /// Every stretch of blocks that a group's own structures lie on.
    pub(super) fn fixed(&self, number: u64, group: &Group) -> Vec<Range<u64>> {
        let table = (u64::from(self.inodes_per_group) * self.inode_size).div_ceil(self.block);
        let of = |start: u64, len: u64| start..start.saturating_add(len).min(self.blocks);
        let mut out = vec![self.front(number)];
        if group.inode_table != 0 {
            out.extend([of(group.block_bitmap, 1), of(group.inode_bitmap, 1), of(group.inode_table, table)]);
        }
        out
    }

    pub(super) fn go_over(&self) -> Survey {
        let mut survey = Survey::default();
        let ratio = self.ratio();
        let unit = self.block * ratio;
        // With blocks of 1024 bytes they are counted from block 1.
        let (base, first) = (self.first_block * self.block, self.first_block / ratio);
        // A volume that says it is longer than its place costs no memory for what is not there.
        let count = self.blocks.saturating_sub(self.first_block).div_ceil(ratio).min(self.volume.len() / unit + 1);
        let word = if ratio > 1 { "cluster" } else { "block" };
        let mut tour = Tour {
            fs: self,
            claims: Claims::new(base, unit, first, count, word),
            names: BTreeMap::new(),
            known: HashMap::new(),
            above: HashMap::new(),
            above_by_name: HashMap::new(),
            shared: HashMap::new(),
            inode_map: Bits::new(u64::from(self.inodes) + 1),
            directories: Vec::new(),
            free_inodes: Vec::new(),
            values: self.features[1] & 0x400 != 0,
            spread: 0,
            walked: Walked::new(self),
            names_left: self.volume.len() + (1 << 20),
        };
        self.opened.iter().for_each(|finding| tour.claims.findings.add(finding.clone()));
        if (self.groups.len() as u64) < self.group_count() {
            let text = format!("it says it has {} groups, more than there is room for", thousands(self.group_count()));
            tour.claims.findings.add(Finding::grave("ext-super-block", text));
        }
        let state = le16(&self.sb, 58);
        if state & 2 != 0 {
            tour.claims.findings.add(Finding::new("ext-errors", "its system noted errors in it"));
        }
        let copied = self.opened.iter().any(|finding| finding.code == "ext-super-block");
        if state & 1 == 0 && !copied {
            tour.claims.findings.add(Finding::new("volume-dirty", "it was in use when it was last seen"));
        }
        let map = tour.blocks(first + count);
        tour.inodes();
        tour.names_and_links();
        tour.counts(&map);
        (survey.files, survey.directories) = (tour.known.len() as u64 - tour.directories.len() as u64, tour.directories.len() as u64);
        survey.spread = tour.spread;
        tour.claims.finish(&map, "ext-lost", "ext-free-in-use", &mut survey);
        survey.usage.set(0..base, Use::Metadata);
        survey
    }
}

impl Tour<'_> {
    fn add(&mut self, finding: Finding) {
        self.claims.findings.add(finding);
    }

    /// Blocks as units of the map; several files' metadata may share one with big allocation.
    fn units(&self, blocks: &Range<u64>) -> Range<u64> {
        let ratio = self.fs.ratio();
        blocks.start / ratio..blocks.end.div_ceil(ratio)
    }

    /// Claims what lies at fixed places and loads the map of blocks in use.
    fn blocks(&mut self, limit: u64) -> Bits {
        let fs = self.fs;
        let mut map = Bits::new(limit);
        let mut whole = Bits::new(limit);
        for (number, group) in fs.groups.iter().enumerate() {
            for range in fs.fixed(number as u64, group).into_iter().filter(|range| range.start < range.end) {
                let units = self.units(&range);
                if fs.ratio() > 1 {
                    whole.set(units);
                } else {
                    self.claims.claim(units, Use::Metadata, "ext-cross-linked", || format!("the structures of group {number}"));
                }
            }
        }
        if fs.ratio() > 1 {
            for range in whole.ranges() {
                self.claims.claim(range, Use::Metadata, "ext-cross-linked", || "the structures of the groups".into());
            }
        }
        let per_group = u64::from(fs.blocks_per_group) / fs.ratio();
        let base = fs.first_block / fs.ratio();
        for (number, group) in fs.groups.iter().enumerate() {
            let first = base + number as u64 * per_group;
            let last = (first + per_group).min(limit);
            if group.flags & BLOCKS_UNWRITTEN != 0 {
                let held: Vec<Range<u64>> =
                    self.claims.claimed().ranges().skip_while(|range| range.end <= first).take_while(|range| range.start < last).collect();
                held.into_iter().for_each(|range| _ = map.set(range.start.max(first)..range.end.min(last)));
                continue;
            }
            let at = group.block_bitmap * fs.block;
            match fs.volume.read(at, (per_group / 8).min(fs.block) as usize) {
                Ok(bytes) => {
                    self.check_sum(group.copied, &bytes, group.sums[0], "ext-block-bitmap", || format!("the block bitmap of group {number}"), at);
                    map.load(first..last, &bytes);
                    if fs.volume.is_laid_over() {
                        // What the journal would free is in use until it is carried out.
                        let mut below = vec![0; bytes.len()];
                        if fs.volume.read_below(at, &mut below).is_ok() {
                            map.load(first..last, &below);
                        }
                    }
                }
                Err(finding) => self.add(Finding { weight: Weight::Grave, ..finding }),
            }
        }
        map
    }

    /// Compares the checksum of a bitmap; the upper half counts where descriptors are long enough.
    fn check_sum(&mut self, copied: bool, bytes: &[u8], stored: u32, code: &'static str, what: impl Fn() -> String, at: u64) {
        if let Some(seed) = self.fs.seed.filter(|_| !copied) {
            let sum = crc32c(seed, bytes);
            let sum = if self.fs.descriptor >= 64 { sum } else { sum & 0xffff };
            if sum != stored {
                self.add(Finding::new(code, format!("{}: its checksum is wrong", what())).at(at));
            }
        }
    }

    fn inodes(&mut self) {
        let fs = self.fs;
        let first_own = fs.first_own();
        for (number, group) in fs.groups.iter().enumerate() {
            let first = number as u64 * u64::from(fs.inodes_per_group) + 1;
            let mut used = 0;
            if group.flags & INODES_UNWRITTEN == 0 && group.inode_table != 0 {
                let at = group.inode_bitmap * fs.block;
                match fs.volume.read(at, (fs.inodes_per_group.div_ceil(8)).min(fs.block as u32) as usize) {
                    Ok(bytes) => {
                        self.check_sum(group.copied, &bytes, group.sums[1], "ext-inode-bitmap", || format!("the inode bitmap of group {number}"), at);
                        let count = u64::from(fs.inodes_per_group).min((u64::from(fs.inodes) + 1).saturating_sub(first));
                        let bits = (0..count).filter(|bit| bytes.get(*bit as usize / 8).is_some_and(|byte| byte >> (bit % 8) & 1 == 1));
                        let numbers: Vec<u32> = bits.map(|bit| (first + bit) as u32).collect();
                        used = numbers.len() as u32;
                        numbers.iter().for_each(|inode| _ = self.inode_map.set(u64::from(*inode)..u64::from(*inode) + 1));
                        self.group_inodes(&numbers, first_own);
                    }
                    Err(finding) => self.add(Finding { weight: Weight::Grave, ..finding }),
                }
            }
            self.free_inodes.push(fs.inodes_per_group - used);
        }
    }

    fn group_inodes(&mut self, numbers: &[u32], first_own: u32) {
        for &number in numbers {
            let inode = match self.fs.inode(number) {
                Ok(inode) => inode,
                Err(finding) => {
                    self.add(Finding { weight: Weight::Grave, ..finding });
                    continue;
                }
            };
            let own = number < first_own && number != ROOT || self.is_system(number);
            if own && inode.mode() == 0 && inode.bytes[40..100].iter().all(|byte| *byte == 0) {
                continue;
            }
            self.check_inode(&inode);
            let directory = inode.kind() == NodeKind::Directory;
            if !own {
                let links = le16(&inode.bytes, 26);
                if inode.mode() == 0 {
                    self.add(Finding::new("ext-inode-bitmap", format!("inode {number} is marked in use, but empty")));
                    continue;
                }
                self.known.insert(number, Known { links, directory, special: inode.flags() & VALUE_INODE != 0 });
            }
            self.claim_inode(&inode, own);
            if directory {
                self.directories.push(number);
                self.directory(&inode);
            }
        }
    }

    /// Quota, the journal and the like, wherever they lie.
    fn is_system(&self, number: u32) -> bool {
        // User, group and project quota, orphans, and the copy of the descriptors.
        [0x240, 0x244, 0x26c, 0x280, 0xe0].iter().any(|at| le32(&self.fs.sb, *at) == number)
    }

    fn check_inode(&mut self, inode: &Inode) {
        let Some(seed) = self.fs.seed_of(inode) else { return };
        let (sum, wide) = checksum::inode(seed, &inode.bytes);
        let stored = u32::from(le16(&inode.bytes, 124)) | if wide { u32::from(le16(&inode.bytes, 130)) << 16 } else { 0 };
        if stored != if wide { sum } else { sum & 0xffff } {
            self.add(Finding::new("ext-inode-checksum", format!("the checksum of inode {} is wrong", inode.number)));
        }
    }

    /// Claims everything an inode holds and compares it with how much it says.
    fn claim_inode(&mut self, inode: &Inode, own: bool) {
        let fs = self.fs;
        let number = inode.number;
        let (mut data, mut tree) = (Vec::new(), Vec::new());
        let holds = matches!(inode.mode() >> 12, 4 | 8) || inode.kind() == NodeKind::Link && inode.size() >= 60 || own;
        let seed = fs.seed_of(inode);
        let mut faults = Vec::new();
        if holds && inode.flags() & INLINE == 0 {
            let mut map = Vec::new();
            let done = if number == RESIZE {
                // It holds the room for more descriptors, which every group counts as its own.
                tree.push(u64::from(le32(&inode.bytes, 40 + 13 * 4)));
                Ok(())
            } else if inode.flags() & EXTENTS != 0 {
                let mut each = |held: Held, bytes: &[u8]| match held {
                    Held::Data(range) => data.push(range),
                    Held::Tree(block) => {
                        tree.push(block);
                        let tail = 12 + usize::from(le16(bytes, 4)) * 12;
                        if seed.is_some_and(|seed| tail + 4 <= bytes.len() && crc32c(seed, &bytes[..tail]) != le32(bytes, tail)) {
                            let text = format!("the checksum of a node of the extent tree of inode {number} is wrong");
                            faults.push(Finding::new("ext-extent-checksum", text).at(block * fs.block));
                        }
                    }
                };
                let done = fs.extents(&inode.bytes[40..100], 5, &mut map, &mut self.walked, &mut each);
                self.spread += tree.len() as u64 + u64::from(tree.is_empty() && map.len() > 2);
                done
            } else {
                let size = inode.size().max(if inode.kind() == NodeKind::Directory { 0 } else { self.reach(inode) });
                let done = fs.block_map(inode, size, &mut map, &mut self.walked, &mut |block| tree.push(block));
                data.extend(map.iter().map(|(_, physical, count)| *physical..*physical + *count));
                done
            };
            if let Err(finding) = done {
                let text = format!("inode {number}: {}", finding.text);
                self.add(Finding { text, weight: Weight::Grave, ..finding });
            }
        }
        faults.into_iter().for_each(|finding| self.add(finding));
        let attributes = self.attribute_block(inode);
        let (mut units, mut owned): (Vec<Range<u64>>, Vec<Range<u64>>) = (Vec::new(), data.iter().map(|range| self.units(range)).collect());
        owned.extend(tree.iter().filter(|block| **block != 0).map(|block| self.units(&(*block..*block + 1))));
        owned.sort_unstable_by_key(|range| range.start);
        // With big allocation several pieces of one file may share a unit.
        let merge = fs.ratio() > 1;
        for range in owned {
            match units.last_mut() {
                Some(last) if range.start == last.end || merge && range.start < last.end => last.end = last.end.max(range.end),
                _ => units.push(range),
            }
        }
        let count: u64 = units.iter().map(|range| range.end - range.start).sum::<u64>() * fs.ratio() + attributes.unwrap_or(0);
        let use_ = if own || inode.kind() == NodeKind::Directory { Use::Metadata } else { Use::Data };
        for range in units {
            self.claims.claim(range, use_, "ext-cross-linked", || format!("inode {number}"));
        }
        for block in tree.iter().filter(|_| use_ == Use::Data) {
            let units = self.units(&(*block..*block + 1));
            self.claims.mark_metadata(units);
        }
        let said = u64::from(le32(&inode.bytes, 28)) | u64::from(le16(&inode.bytes, 116)) << 32;
        let said = if inode.flags() & HUGE != 0 { said * fs.block / 512 } else { said };
        if holds && number != RESIZE && !self.values && said != count * (fs.block / 512) {
            let text = format!("inode {number} says it holds {} sectors, it holds {}", thousands(said), thousands(count * (fs.block / 512)));
            self.add(Finding::new("ext-block-count", text));
        }
    }

    /// How far a block map may reach beyond the size: all it can hold.
    fn reach(&self, inode: &Inode) -> u64 {
        let said = u64::from(le32(&inode.bytes, 28)) * 512;
        inode.size().saturating_add(said.min(1 << 30))
    }

    /// The block of attributes, claimed once for all files that share it. Gives how many blocks it adds to a file.
    fn attribute_block(&mut self, inode: &Inode) -> Option<u64> {
        let fs = self.fs;
        let block = fs.attribute_block(inode)?;
        match self.shared.get_mut(&block) {
            Some((met, _)) => *met += 1,
            None => {
                let bytes = fs.volume.read(block * fs.block, fs.block as usize).unwrap_or_default();
                self.shared.insert(block, (1, le32(&bytes, 4)));
                let units = self.units(&(block..block + 1));
                self.claims.claim(units, Use::Metadata, "ext-cross-linked", || format!("attributes of inode {}", inode.number));
                if le32(&bytes, 0) != ATTRIBUTES {
                    self.add(Finding::new("ext-attributes", format!("the attributes of inode {} are damaged", inode.number)).at(block * fs.block));
                } else if fs.seed.is_some_and(|seed| checksum::attributes(seed, block, &bytes) != le32(&bytes, 16)) {
                    let text = format!("the checksum of the attributes of inode {} is wrong", inode.number);
                    self.add(Finding::new("ext-attribute-checksum", text).at(block * fs.block));
                }
            }
        }
        Some(fs.ratio())
    }

    /// Reads a directory's blocks: their checksums, the index, and every name.
    fn directory(&mut self, inode: &Inode) {
        let fs = self.fs;
        let number = inode.number;
        if inode.flags() & INLINE != 0 {
            let data = inode.inline();
            self.above.insert(number, le32(&data, 0));
            self.count_name(le32(&data, 0));
            self.count_name(number);
            self.entries(number, data.get(4..60.min(data.len())).unwrap_or_default(), false);
            self.entries(number, data.get(60..).unwrap_or_default(), false);
            return;
        }
        let Ok(pieces) = fs.pieces_of(inode) else { return };
        let size = inode.size().min(MOST_DIRECTORY).min(fs.volume.len());
        let Some(left) = self.names_left.checked_sub(size) else {
            self.add(Finding::grave("walk-budget", format!("directory {number}: all directories together are longer than the volume")));
            return;
        };
        self.names_left = left;
        let content = Content::new(size, pieces, Form::Plain);
        let blocks = size / fs.block;
        if !size.is_multiple_of(fs.block) {
            self.add(Finding::new("ext-directory", format!("directory {number}: its size is no whole number of blocks")));
        }
        // Blocks that the index leads to, and those that hold the index itself.
        let (mut leaves, mut nodes) = (Bits::new(blocks), Bits::new(blocks));
        let indexed = inode.flags() & INDEXED != 0 && fs.features[0] & 0x20 != 0;
        if indexed && !self.index(inode, &content, blocks, &mut leaves, &mut nodes) {
            self.add(Finding::new("ext-index", format!("directory {number}: its index is damaged; its names are still there")));
        }
        let sound = nodes.total() > 0;
        let mut bytes = vec![0; fs.block as usize];
        for block in 0..blocks {
            if let Err(finding) = content.read(&fs.volume, block * fs.block, &mut bytes) {
                self.add(finding);
                continue;
            }
            let seed = fs.seed_of(inode);
            if indexed && nodes.has(block) && block > 0 {
                continue;
            }
            if indexed && sound && block > 0 && !leaves.has(block) {
                self.add(Finding::new("ext-index", format!("directory {number}: its index does not lead to block {block}")));
            }
            let tail = bytes.len() - 12;
            let in_index = indexed && block == 0;
            if let Some(seed) = seed.filter(|_| !in_index) {
                let marked = le16(&bytes, tail + 4) == 12 && bytes[tail + 7] == 0xde;
                if !marked || crc32c(seed, &bytes[..tail]) != le32(&bytes, tail + 8) {
                    let text = format!("directory {number}: the checksum of block {block} is wrong");
                    self.add(Finding::new("ext-directory-checksum", text).at(content.place(block * fs.block).unwrap_or(0)));
                }
            }
            self.entries(number, &bytes, block == 0);
        }
    }

    /// Goes through a hashed index: every node within bounds, hashes rising, every leaf named once.
    fn index(&mut self, inode: &Inode, content: &Content, blocks: u64, leaves: &mut Bits, nodes: &mut Bits) -> bool {
        let fs = self.fs;
        let mut root = vec![0; fs.block as usize];
        if content.read(&fs.volume, 0, &mut root).is_err() {
            return false;
        }
        let (version, info, levels) = (root[28], usize::from(root[29]), root[30]);
        if version > 6 || info != 8 || levels > 3 || le32(&root, 24) != 0 {
            return false;
        }
        let mut waiting = vec![(0u64, 24 + info, levels, root)];
        let mut sound = true;
        while let Some((block, at, level, bytes)) = waiting.pop() {
            let (limit, count) = (usize::from(le16(&bytes, at)), usize::from(le16(&bytes, at + 2)));
            if count == 0 || count > limit || at + limit * 8 > bytes.len() || nodes.set(block..block + 1).is_some() {
                return false;
            }
            if let Some(seed) = fs.seed_of(inode) {
                let tail = at + limit * 8;
                let sum = crc32c(crc32c(crc32c(seed, &bytes[..at + count * 8]), bytes.get(tail..tail + 4).unwrap_or_default()), &[0; 4]);
                if tail + 8 > bytes.len() || sum != le32(&bytes, tail + 4) {
                    let text = format!("directory {}: the checksum of its index in block {block} is wrong", inode.number);
                    self.add(Finding::new("ext-index-checksum", text).at(content.place(block * fs.block).unwrap_or(0)));
                }
            }
            let mut before = 0;
            for slot in 0..count {
                let entry = at + slot * 8;
                let (hash, child) = (if slot == 0 { 0 } else { le32(&bytes, entry) }, u64::from(le32(&bytes, entry + 4) & 0x0fff_ffff));
                if hash < before || child == 0 || child >= blocks {
                    sound = false;
                    continue;
                }
                before = hash;
                if level == 0 {
                    sound &= leaves.set(child..child + 1).is_none();
                } else {
                    let mut below = vec![0; fs.block as usize];
                    if content.read(&fs.volume, child * fs.block, &mut below).is_err()
                        || le16(&below, 4) as usize + 8 < below.len() && below.len() < 65536
                    {
                        return false;
                    }
                    waiting.push((child, 8, level - 1, below));
                }
            }
        }
        sound
    }

    /// Counts the names of a stretch of a directory; `first` begins with the directory itself and the one above.
    fn entries(&mut self, directory: u32, bytes: &[u8], first: bool) {
        let fs = self.fs;
        for (index, entry) in fs.raw_entries(bytes).enumerate() {
            let RawEntry { number, name, kind } = match entry {
                Ok(entry) => entry,
                Err(at) => {
                    self.add(Finding::new("ext-directory", format!("directory {directory}: an entry {at} bytes into a block is damaged")));
                    return;
                }
            };
            if first && index < 2 {
                let right = if index == 0 { name == b"." && number == directory } else { name == b".." };
                if !right {
                    self.add(Finding::new("ext-dots", format!("directory {directory}: its entries for itself and the one above are wrong")));
                }
                if index == 1 {
                    self.above.insert(directory, number);
                }
            }
            if number != 0 && !name.is_empty() {
                let shown = || String::from_utf8_lossy(name).into_owned();
                if number > fs.inodes || !self.inode_map.has(u64::from(number)) && self.is_counted(number) {
                    let text = format!("\"{}\" in directory {directory} names inode {number}, which is not in use", shown());
                    self.add(Finding::new("ext-dangling", text));
                } else {
                    self.count_name(number);
                    // An entry that says it is no directory needs no way back.
                    if !(first && index < 2) && (!fs.file_types || kind == 2) {
                        self.above_by_name.insert(number, directory);
                    }
                }
            }
        }
    }

    /// Whether the bitmap of the inode's group was read already; groups are gone over in order.
    fn is_counted(&self, number: u32) -> bool {
        let group = (number - 1) / self.fs.inodes_per_group;
        (group as usize) < self.free_inodes.len() || {
            let descriptor = self.fs.groups.get(group as usize).copied().unwrap_or_default();
            let at = descriptor.inode_bitmap * self.fs.block + u64::from((number - 1) % self.fs.inodes_per_group / 8);
            let mut byte = [0];
            let read = descriptor.flags & INODES_UNWRITTEN == 0 && self.fs.volume.read_into(at, &mut byte).is_ok();
            !read || byte[0] >> ((number - 1) % self.fs.inodes_per_group % 8) & 1 == 0
        }
    }

    fn count_name(&mut self, number: u32) {
        if number == 0 || number > self.fs.inodes {
            return;
        }
        let (group, index) = ((number - 1) / self.fs.inodes_per_group, (number - 1) % self.fs.inodes_per_group);
        let count = self.fs.inodes_per_group as usize;
        self.names.entry(group).or_insert_with(|| vec![0; count])[index as usize] += 1;
    }

    fn names_and_links(&mut self) {
        let fs = self.fs;
        let known = std::mem::take(&mut self.known);
        for (number, inode) in &known {
            let (group, index) = ((number - 1) / fs.inodes_per_group, (number - 1) % fs.inodes_per_group);
            let names = self.names.get(&group).map_or(0, |names| names[index as usize]);
            let links = u32::from(inode.links);
            let right = names == links || inode.directory && links == 1 && names > MOST_LINKS || inode.special;
            if !right && names == 0 && links == 0 {
                self.add(Finding::note("ext-orphan", format!("inode {number} was deleted while it was still open")));
            } else if !right {
                self.add(Finding::new("ext-link-count", format!("inode {number} says it has {links} links, it has {names}")));
            }
        }
        for (block, (met, said)) in std::mem::take(&mut self.shared) {
            if met != said {
                self.add(Finding::new(
                    "ext-attribute-count",
                    format!("the attributes in block {block} are said to have {said} owners, they have {met}"),
                ));
            }
        }
        // Climbing from every directory must end at the root.
        let mut reached: HashMap<u32, bool> = HashMap::from([(ROOT, true)]);
        for number in self.directories.clone() {
            let (mut at, mut way) = (number, Vec::new());
            let ends = loop {
                if let Some(known) = reached.get(&at) {
                    break *known;
                }
                // A circle comes back to a directory that is noted as not reached.
                way.push(at);
                reached.insert(at, false);
                match self.above_by_name.get(&at) {
                    Some(above) => at = *above,
                    None => break false,
                }
            };
            for passed in way {
                reached.insert(passed, ends);
            }
            if !ends {
                self.add(Finding::new("ext-cut-off", format!("directory {number} cannot be reached from the root")));
            }
            let (by_name, said) = (self.above_by_name.get(&number).copied(), self.above.get(&number).copied());
            if number != ROOT && by_name.is_some() && by_name != said {
                self.add(Finding::new("ext-dots", format!("directory {number} names another directory as the one above")));
            }
        }
        self.known = known;
    }

    fn counts(&mut self, map: &Bits) {
        let fs = self.fs;
        let ratio = fs.ratio();
        let per_group = u64::from(fs.blocks_per_group) / ratio;
        let base = fs.first_block / ratio;
        let last = base + fs.blocks.saturating_sub(fs.first_block).div_ceil(ratio);
        let (mut free_blocks, mut free_inodes) = (0u64, 0u64);
        let mut directories: HashMap<usize, u32> = HashMap::new();
        self.directories.iter().for_each(|number| *directories.entry(((number - 1) / fs.inodes_per_group) as usize).or_default() += 1);
        let pending = fs.volume.is_laid_over();
        for (number, group) in fs.groups.iter().enumerate() {
            let first = base + number as u64 * per_group;
            let end = (first + per_group).min(last);
            let free = (end.saturating_sub(first)).saturating_sub(map.total_within(first..end));
            let dirty = pending || group.copied;
            free_blocks += free;
            free_inodes += u64::from(self.free_inodes.get(number).copied().unwrap_or(0));
            let wrong = |what: &str, said: u64, is: u64| {
                Finding::new("ext-group-count", format!("group {number}: {} {what} by its descriptor, {} there are", thousands(said), thousands(is)))
            };
            if !dirty && u64::from(group.free_blocks) != free {
                self.add(wrong("free blocks", u64::from(group.free_blocks), free));
            }
            let free = self.free_inodes.get(number).copied().unwrap_or(0);
            if !dirty && group.free_inodes != free {
                self.add(wrong("free inodes", u64::from(group.free_inodes), u64::from(free)));
            }
            let found = directories.get(&number).copied().unwrap_or(0);
            if !dirty && group.directories != found {
                self.add(wrong("directories", u64::from(group.directories), u64::from(found)));
            }
        }
        let wide = fs.features[1] & 0x80 != 0;
        let said_blocks = u64::from(le32(&fs.sb, 12)) | if wide { u64::from(le32(&fs.sb, 0x158)) << 32 } else { 0 };
        let said_inodes = u64::from(le32(&fs.sb, 16));
        for (what, said, is) in [("blocks", said_blocks, free_blocks * ratio), ("inodes", said_inodes, free_inodes)] {
            if !pending && said != is {
                // A system keeps these up only when it lets go of the volume.
                self.add(Finding::note("ext-count", format!("{} {what} are said to be free, {} are", thousands(said), thousands(is))));
            }
        }
    }
}
