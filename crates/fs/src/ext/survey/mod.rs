//! Going over an ext volume: every group, every inode, every directory.

mod check;
mod directory;

use super::checksum::crc32c;
use super::extents::{Held, Walked};
use super::groups::Group;
use super::inode::Inode;
use super::{ATTRIBUTE_INODES, BIG_ALLOCATION, BLOCKS_UNWRITTEN, EXTENTS, Ext, HUGE, INLINE, INODES_UNWRITTEN, RESIZE, ROOT, VALUE_INODE};
use crate::bits::Bits;
use crate::finding::{Finding, Weight};
use crate::node::NodeKind;
use crate::resize::total;
use crate::survey::{Claims, Survey, Use};
use badger_drive::field::{le16, le32};
use badger_drive::size::thousands;
use std::collections::{BTreeMap, HashMap};
use std::ops::Range;

/// So many links are counted; directories with more say 1.
const MOST_LINKS: u32 = 65_000;

/// What the inodes said of themselves, for when the names are known.
#[derive(Clone, Copy)]
struct Known {
    links: u16,
    directory: bool,
    special: bool,
    /// As entries of directories tell it: 1 for a file, 2 for a directory and so on.
    kind: u8,
}

/// Kinds of entries in directories by the upper bits of the mode: pipes, devices, directories, files, links, sockets.
const KINDS: [u8; 16] = [0, 5, 3, 0, 2, 0, 4, 0, 1, 0, 7, 0, 6, 0, 0, 0];
/// A name's count goes into the lower bits of a word, the kind its entries tell into the upper ones.
const COUNT: u32 = 0x0fff_ffff;
/// Entries tell different kinds.
const MANY_KINDS: u32 = 15;

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
    /// What is in use below a journal that was not carried out.
    below: Option<Bits>,
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
            values: self.features[1] & ATTRIBUTE_INODES != 0,
            spread: 0,
            walked: Walked::new(self),
            names_left: self.volume.len() + (1 << 20),
            below: self.volume.is_laid_over().then(|| Bits::new(first + count)),
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
        Finding::longer(self.blocks * self.block, self.volume.len()).into_iter().for_each(|finding| tour.add(finding));
        self.super_block_faults().into_iter().for_each(|finding| tour.add(finding));
        self.journal_faults().into_iter().for_each(|finding| tour.add(finding));
        self.orphan_fault().into_iter().for_each(|finding| tour.add(finding));
        self.room_fault().into_iter().for_each(|finding| tour.add(finding));
        let map = tour.blocks(first + count);
        tour.inodes();
        tour.names_and_links();
        tour.counts(&map);
        // What the format keeps for itself may say it is a directory where it is damaged.
        (survey.files, survey.directories) = (tour.known.len().saturating_sub(tour.directories.len()) as u64, tour.directories.len() as u64);
        survey.spread = tour.spread;
        let below = tour.below.take();
        tour.claims.finish(&map, "ext-lost", "ext-free-in-use", &mut survey);
        // What the journal would free is in use until it is carried out.
        for range in below.iter().flat_map(|below| below.without(&map)) {
            let bytes = base + (range.start - first) * unit..base + (range.end - first) * unit;
            fill(&mut survey, bytes);
        }
        // What fast commits gave to files no map knows of yet.
        for range in self.fast.taken() {
            fill(&mut survey, range.start * self.block..range.end * self.block);
        }
        survey.usage.set(0..base, Use::Metadata);
        survey
    }
}

/// Calls what is free of a stretch used.
fn fill(survey: &mut Survey, bytes: Range<u64>) {
    let held: Vec<Range<u64>> = survey.usage.within(bytes.clone()).map(|(range, _)| range).collect();
    let ends = held.iter().map(|range| range.end);
    let starts = held.iter().map(|range| range.start).chain(std::iter::once(bytes.end));
    for (from, to) in std::iter::once(bytes.start).chain(ends).zip(starts).filter(|(from, to)| from < to) {
        survey.usage.set(from..to, Use::Data);
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
        if let Some(block) = fs.guard_block() {
            let units = self.units(&(block..block + 1));
            self.claims.claim(units, Use::Metadata, "ext-cross-linked", || "the guard against being mounted twice".into());
        }
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
                self.claims.claimed().ranges_within(first..last).for_each(|range| _ = map.set(range));
                continue;
            }
            let at = group.block_bitmap * fs.block;
            match fs.volume.read(at, fs.block as usize) {
                Ok(mut bytes) => {
                    self.check_padding(&bytes, last.saturating_sub(first), "block", number, at);
                    bytes.truncate((per_group / 8).min(fs.block) as usize);
                    self.check_sum(group.copied, &bytes, group.sums[0], "ext-block-bitmap", || format!("the block bitmap of group {number}"), at);
                    map.load(first..last, &bytes);
                    if let Some(below) = &mut self.below {
                        let mut held = vec![0; bytes.len()];
                        if fs.volume.read_below(at, &mut held).is_ok() {
                            below.load(first..last, &held);
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

    /// Bits of a bitmap behind the last one that counts are set, so that nothing is ever found free there.
    fn check_padding(&mut self, bytes: &[u8], count: u64, what: &str, group: usize, at: u64) {
        let whole = count.div_ceil(8) as usize;
        let part = count.is_multiple_of(8) || whole > bytes.len() || bytes[whole - 1] >> (count % 8) == 0xff >> (count % 8);
        if !part || bytes.get(whole..).is_some_and(|rest| rest.iter().any(|byte| *byte != 0xff)) {
            self.add(Finding::new("ext-padding", format!("the {what} bitmap of group {group} calls free what there is not")).at(at));
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
                let len = (fs.inodes_per_group.div_ceil(8)).min(fs.block as u32) as usize;
                match fs.volume.read(at, fs.block as usize) {
                    Ok(bytes) => {
                        self.check_sum(
                            group.copied,
                            &bytes[..len],
                            group.sums[1],
                            "ext-inode-bitmap",
                            || format!("the inode bitmap of group {number}"),
                            at,
                        );
                        self.check_padding(&bytes, u64::from(fs.inodes_per_group), "inode", number, at);
                        let count = u64::from(fs.inodes_per_group).min((u64::from(fs.inodes) + 1).saturating_sub(first));
                        let has = |bit: u64| bytes[bit as usize / 8] >> (bit % 8) & 1 == 1;
                        for bit in (0..count).filter(|bit| has(*bit)) {
                            used += 1;
                            self.inode_map.set(first + bit..first + bit + 1);
                        }
                        // Behind those that were never used nothing stands that means anything.
                        let touched = count.saturating_sub(u64::from(group.untouched));
                        let numbers = (0..count).filter(|bit| *bit < touched || has(*bit)).map(|bit| (first + bit, has(bit)));
                        self.group_inodes(numbers, first_own);
                        if (touched..count).any(has) {
                            let text = format!("group {number} has inodes in use among those it calls never used");
                            self.add(Finding::new("ext-inode-bitmap", text).at(at));
                        }
                    }
                    Err(finding) => self.add(Finding { weight: Weight::Grave, ..finding }),
                }
            }
            self.free_inodes.push(fs.inodes_per_group - used);
        }
    }

    fn group_inodes(&mut self, numbers: impl Iterator<Item = (u64, bool)>, first_own: u32) {
        for (number, used) in numbers {
            let number = number as u32;
            let inode = match self.fs.inode(number) {
                Ok(inode) => inode,
                Err(finding) => {
                    self.add(Finding { weight: Weight::Grave, ..finding });
                    continue;
                }
            };
            if !used {
                self.check_free(&inode);
                continue;
            }
            let own = number < first_own && number != ROOT || self.is_system(number);
            if own && inode.mode() == 0 && inode.bytes[40..100].iter().all(|byte| *byte == 0) && le16(&inode.bytes, 26) == 0 {
                if inode.bytes.iter().any(|byte| *byte != 0) {
                    self.check_sum_of(&inode);
                }
                continue;
            }
            self.check_inode(&inode, own);
            let directory = inode.kind() == NodeKind::Directory;
            if number == ROOT && !directory {
                self.add(Finding::grave("ext-root", "its root is no directory"));
            }
            if !own {
                let links = le16(&inode.bytes, 26);
                if inode.mode() == 0 {
                    self.add(Finding::new("ext-inode-bitmap", format!("inode {number} is marked in use, but empty")));
                    continue;
                }
                let kind = KINDS[usize::from(inode.mode() >> 12)];
                self.known.insert(number, Known { links, directory, special: inode.flags() & VALUE_INODE != 0, kind });
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
                        if seed.is_some_and(|seed| tail + 4 > bytes.len() || crc32c(seed, &bytes[..tail]) != le32(bytes, tail)) {
                            let text = format!("the checksum of a node of the extent tree of inode {number} is wrong");
                            faults.push(Finding::new("ext-extent-checksum", text).at(block * fs.block));
                        }
                    }
                };
                let done = fs.extents(&inode.bytes[40..100], &mut map, &mut self.walked, &mut each);
                self.spread += tree.len() as u64 + u64::from(tree.is_empty() && map.len() > 2);
                done
            } else {
                // Blocks beyond its size are its blocks as well.
                let done = fs.block_map(inode, u64::MAX, &mut map, &mut self.walked, &mut |block| tree.push(block));
                data.extend(map.iter().map(|(_, physical, count)| *physical..*physical + *count));
                done
            };
            let is_whole = done.is_ok();
            if let Err(finding) = done {
                let text = format!("inode {number}: {}", finding.text);
                self.add(Finding { text, weight: Weight::Grave, ..finding });
            }
            if !own && is_whole {
                let mut reach = check::Reach::default();
                let mut next = 0;
                for (logical, physical, count) in map {
                    reach.holes |= logical > next || physical == 0;
                    next = logical + count;
                    reach.all = reach.all.max(next);
                    reach.written = reach.written.max(if physical != 0 { next } else { 0 });
                }
                self.check_size(inode, reach);
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
        let count: u64 = total(&units) * fs.ratio() + attributes.unwrap_or(0);
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
                self.check_attribute_block(inode, block, &bytes);
            }
        }
        Some(fs.ratio())
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

    /// Counts a name that leads to an inode; `kind` is what its entry tells, 0 for nothing.
    fn count_name(&mut self, number: u32, kind: u8) {
        if number == 0 || number > self.fs.inodes {
            return;
        }
        let (group, index) = ((number - 1) / self.fs.inodes_per_group, (number - 1) % self.fs.inodes_per_group);
        let count = self.fs.inodes_per_group as usize;
        let word = &mut self.names.entry(group).or_insert_with(|| vec![0; count])[index as usize];
        *word = (*word & COUNT).saturating_add(1).min(COUNT) | *word & !COUNT;
        if kind != 0 {
            let told = match *word >> 28 {
                0 => u32::from(kind.min(14)),
                known if known == u32::from(kind) => known,
                _ => MANY_KINDS,
            };
            *word = *word & COUNT | told << 28;
        }
    }

    fn names_and_links(&mut self) {
        let fs = self.fs;
        let known = std::mem::take(&mut self.known);
        for (number, inode) in &known {
            let (group, index) = ((number - 1) / fs.inodes_per_group, (number - 1) % fs.inodes_per_group);
            let word = self.names.get(&group).map_or(0, |names| names[index as usize]);
            let (names, told) = (word & COUNT, word >> 28);
            if told != 0 && told != u32::from(inode.kind) {
                self.add(Finding::new("ext-entry-kind", format!("a directory says inode {number} is something else than it is")));
            }
            let links = u32::from(inode.links);
            let right = names == links || inode.directory && links == 1 && names > MOST_LINKS || inode.special;
            if names == 0 && links == 0 && fs.has_orphans() {
                self.add(Finding::note("ext-orphan", format!("inode {number} was deleted while it was still open")));
            } else if links == 0 && !inode.special {
                self.add(Finding::new("ext-inode-bitmap", format!("inode {number} was deleted, but is in use in the map")));
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
