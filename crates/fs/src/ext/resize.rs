//! An ext volume of another size: how small and large it can become, which groups come or go, and where their structures lie.

use super::groups::Group;
use super::rewrite::{Change, set, set16, set32};
use super::{CHECKSUMS, DESCRIPTOR_SUMS, Ext, INODES_UNWRITTEN, RECOVER, RESIZE_INODE, SEED_STORED, SPARSE_TWO, WIDE};
use crate::bits::Bits;
use crate::cached::Cached;
use crate::content::FileMap;
use crate::finding::{Finding, Result};
use crate::resize::{Bounds, Relocation, View, Wanted, must_be_sound, refused, total, units, up};
use crate::survey::Survey;
use badger_drive::Extents;
use badger_drive::field::{le16, le32};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::ops::Range;

/// Features whose structures are known here: compatible, incompatible, read-only compatible.
const KNOWN: [u32; 3] = [0x1e3f, 0x3_e7d6, 0x1_b77f];
const STABLE_INODES: u32 = 0x800;
const FLEXIBLE: u32 = 0x200;
/// A last group shorter than its own structures and this many blocks is not worth having.
const LEAST_GROUP: u64 = 50;

/// A stretch of a file: its first block, where it lies, how long it is, and whether it was only set aside.
type Extent = (u64, u64, u64, bool);
/// A file of more stretches than these, or a tree of more blocks, is taken for damaged.
const MOST_EXTENTS: usize = 4 << 20;

impl Ext {
    pub(super) fn table_blocks(&self) -> u64 {
        (u64::from(self.inodes_per_group) * self.inode_size).div_ceil(self.block)
    }

    /// The same volume with so many blocks, as far as places at fixed distances go.
    fn shaped(&self, blocks: u64) -> Self {
        let mut sb = self.sb.clone();
        let per_block = self.block / self.descriptor;
        let groups = blocks.saturating_sub(self.first_block).div_ceil(u64::from(self.blocks_per_group));
        let tables = |groups: u64| groups.div_ceil(per_block);
        let first_meta = self.first_meta.map(|first| u64::from(first).min(tables(groups)) as u32);
        if self.features[0] & RESIZE_INODE != 0 {
            // The room and what was made of it stay as long together as they were.
            let both = tables(self.group_count()) + u64::from(le16(&sb, 0xce));
            // A block of the list of that room names no more than it has places for.
            set16(&mut sb, 0xce, both.saturating_sub(tables(groups)).min(self.block / 4) as u16);
        }
        if let Some(first) = first_meta {
            set32(&mut sb, 0x104, first);
        }
        if self.features[0] & SPARSE_TWO != 0 {
            let last = if groups > 1 { groups as u32 - 1 } else { 0 };
            let chosen = [u32::from(groups > 1), if groups > 2 { last } else { 0 }];
            let was = [le32(&self.sb, 0x24c), le32(&self.sb, 0x250)];
            set32(&mut sb, 0x24c, if was[0] == 0 { 0 } else { chosen[0] });
            set32(&mut sb, 0x250, if was[1] == 0 { 0 } else { chosen[1] });
        }
        Self {
            volume: Cached::new(self.volume.drive().clone(), self.volume.start(), self.volume.len()),
            sb,
            groups: Vec::new(),
            opened: Vec::new(),
            inodes: (groups * u64::from(self.inodes_per_group)).min(u64::from(u32::MAX)) as u32,
            first_meta,
            blocks,
            fast: self.fast.clone(),
            ..*self
        }
    }

    /// Blocks that the structures of all groups take.
    fn overhead(&self) -> u64 {
        let fronts: u64 = (0..self.group_count()).map(|group| self.front(group)).map(|front| front.end - front.start).sum();
        fronts + self.group_count() * (self.table_blocks() + 2)
    }

    /// The number of blocks a volume of at most `blocks` can have: no last group that is hardly longer than its structures.
    fn normal(&self, blocks: u64) -> u64 {
        let blocks = blocks / self.ratio() * self.ratio();
        let per_group = u64::from(self.blocks_per_group);
        let tail = blocks.saturating_sub(self.first_block) % per_group;
        let new = self.shaped(blocks);
        let Some(last) = new.group_count().checked_sub(1) else { return 0 };
        let front = new.front(last);
        let least = front.end - front.start + new.table_blocks() + 2 + LEAST_GROUP * self.ratio();
        if tail > 0 && tail < least && last > 0 { blocks - tail } else { blocks }
    }

    /// Why a volume cannot be changed although it is sound.
    fn can_change(&self, sector: u64) -> Result<()> {
        if self.block < sector {
            return Err(refused("ext-sectors", format!("its blocks of {} bytes are smaller than a sector of {sector}", self.block)));
        }
        if self.blocks.saturating_mul(self.block) > self.volume.len() {
            return Err(refused("ext-longer", "it says it is longer than its partition; let its own system check it first"));
        }
        if self.features[1] & RECOVER != 0 || self.volume.is_laid_over() {
            return Err(refused("ext-journal-pending", "its journal holds changes that were not carried out; let its own system do that first"));
        }
        if le32(&self.sb, 0xe8) != 0 {
            return Err(refused("ext-orphan", "files in it were deleted while they were open; let its own system check it first"));
        }
        let unknown: Vec<String> = self
            .features
            .iter()
            .zip(KNOWN)
            .zip(["compatible", "incompatible", "read-only"])
            .filter(|((has, known), _)| **has & !known != 0)
            .map(|((has, known), word)| format!("{word} 0x{:x}", has & !known))
            .collect();
        if !unknown.is_empty() {
            return Err(refused("ext-features", format!("it has features that are not known here: {}", unknown.join(", "))));
        }
        Ok(())
    }

    /// Units that files, directories and the format's own files lie on, without what stands at the groups' own places.
    fn file_units(&self, survey: &Survey) -> Vec<Range<u64>> {
        let mut survey = survey.clone();
        let unit = self.block * self.ratio();
        for (number, group) in self.groups.iter().enumerate() {
            for range in self.fixed(number as u64, group).into_iter().filter(|range| range.start < range.end) {
                survey.usage.clear(range.start * self.block / unit * unit..(range.end * self.block).div_ceil(unit) * unit);
            }
        }
        let first = self.first_block / self.ratio();
        units(&survey, self.first_block * self.block..self.blocks * self.block, unit, first)
    }

    /// Blocks that extent trees may need besides when stretches are divided.
    fn spare(&self, survey: &Survey, used: &[Range<u64>]) -> u64 {
        let gaps = used.len() as u64;
        (survey.spread + gaps / 3 + gaps / 300 + 8) * self.ratio()
    }

    fn least_blocks(&self, survey: &Survey, used: &[Range<u64>], inodes: u64) -> u64 {
        let held = total(used) * self.ratio() + self.spare(survey, used);
        let per_group = u64::from(self.blocks_per_group);
        let groups = inodes.div_ceil(u64::from(self.inodes_per_group)).max(1);
        let mut blocks = (held + self.first_block).max((groups - 1) * per_group + self.first_block + 1);
        loop {
            let new = self.shaped(blocks);
            // Of the last unit of each group's structures only a part may be theirs.
            let need = held + new.overhead() + self.first_block + new.group_count() * self.ratio().saturating_sub(1) * 4;
            let fits = self.normal(blocks);
            let enough = fits >= need && new.group_count() >= groups && self.shaped(fits).group_count() >= groups;
            if enough && fits == blocks {
                return blocks;
            }
            blocks = if fits < blocks { blocks + 1 } else { need.max(blocks + 1) };
        }
    }

    /// How many inodes are in use, by the groups' own counts, and whether they may get other numbers.
    fn inodes_needed(&self) -> Result<u64> {
        let free: u64 = self.groups.iter().map(|group| u64::from(group.free_inodes)).sum();
        let used = u64::from(self.inodes) - free;
        if self.features[0] & STABLE_INODES == 0 {
            return Ok(used);
        }
        Ok(self.used_inodes()?.ranges().last().map_or(used, |range| range.end))
    }

    pub(super) fn used_inodes(&self) -> Result<Bits> {
        let mut used = Bits::new(u64::from(self.inodes) + 1);
        for (group, first) in self.groups.iter().zip((1u64..).step_by(self.inodes_per_group as usize)) {
            if group.flags & INODES_UNWRITTEN == 0 {
                let bytes = self.volume.read(group.inode_bitmap * self.block, self.inodes_per_group.div_ceil(8) as usize)?;
                used.load(first..first + u64::from(self.inodes_per_group), &bytes);
            }
        }
        Ok(used)
    }

    pub(super) fn bounds_of(&self, survey: &Survey, sector: u64) -> Result<Bounds> {
        must_be_sound(survey)?;
        self.can_change(sector)?;
        let least = self.least_blocks(survey, &self.file_units(survey), self.inodes_needed()?);
        let per_group = u64::from(self.blocks_per_group);
        let mut most = if self.features[1] & WIDE != 0 { 1 << 44 } else { u64::from(u32::MAX) };
        // Inodes are counted in 32 bits, and descriptors must leave room in a group.
        most = most.min(u64::from(u32::MAX) / u64::from(self.inodes_per_group) * per_group);
        if self.first_meta.is_none() {
            most = most.min(per_group / 2 * (self.block / self.descriptor) * per_group);
        }
        Ok(Bounds { least: up(least * self.block, sector), most: most.saturating_mul(self.block), unit: self.block * self.ratio() })
    }

    pub(super) fn room_in(&self, survey: &Survey, len: u64, sector: u64) -> Result<u64> {
        self.can_change(sector)?;
        let most = if self.features[1] & WIDE != 0 { u64::MAX } else { u64::from(u32::MAX) };
        let new = self.shaped(self.normal((len / self.block).min(most)));
        let held = total(&self.file_units(survey)) * self.ratio();
        Ok(new.blocks.saturating_sub(new.overhead() + held + self.first_block) * self.block)
    }

    pub(super) fn resized_to(&self, survey: &Survey, wanted: &Wanted) -> Result<View> {
        must_be_sound(survey)?;
        self.can_change(u64::from(wanted.sector))?;
        let short = || refused("volume-too-small", format!("{} bytes are too few for what it holds", wanted.len));
        let used = self.file_units(survey);
        let blocks = wanted.len / self.block;
        if blocks < self.least_blocks(survey, &used, self.inodes_needed()?) {
            return Err(short());
        }
        let most = if self.features[1] & WIDE != 0 { u64::MAX } else { u64::from(u32::MAX) };
        let mut new = self.shaped(self.normal(blocks.min(most)));
        if let Some(fresh) = wanted.fresh {
            // The checksums go on from the old identifier, which is kept as their seed.
            if let Some(seed) = self.seed {
                set32(&mut new.sb, 0x270, seed);
                let features = le32(&new.sb, 96) | SEED_STORED;
                set32(&mut new.sb, 96, features);
            }
            set(&mut new.sb, 104, &fresh);
            new.sb[104 + 6] = new.sb[104 + 6] & 0x0f | 0x40;
            new.sb[104 + 8] = new.sb[104 + 8] & 0x3f | 0x80;
        }
        let (groups, solid) = self.place_groups(&new).ok_or_else(short)?;
        new.groups = groups;
        let ratio = self.ratio();
        let room = self.first_block / ratio..new.blocks / ratio;
        let taken = crate::resize::tidy(solid.iter().map(|(range, ())| range.start / ratio..range.end.div_ceil(ratio)).collect());
        let (mut moves, movers) = Relocation::begin(&used, &taken, room.clone());
        moves.settle(&movers).ok_or_else(short)?;
        let mut view = View::new(self.volume.drive(), wanted.len, wanted.sector)?;
        let (start, unit) = (self.volume.start(), self.block * ratio);
        for step in moves.steps() {
            view.show(start + step.from * unit, step.to * unit, step.len * unit);
        }
        // Whatever a boot loader put in front of the super block.
        view.show(start, 0, 1024);
        let table = self.table_blocks() * self.block;
        let sums = self.features[2] & (CHECKSUMS | DESCRIPTOR_SUMS) != 0;
        for (number, group) in new.groups.iter().enumerate() {
            let at = group.inode_table * self.block;
            match self.groups.get(number).filter(|old| old.flags & INODES_UNWRITTEN == 0) {
                Some(old) => view.show(start + old.inode_table * self.block, at, table),
                // With checksums a system knows that nobody wrote there yet.
                None if sums => {}
                None => view.fix(at..at + table),
            }
            for block in [group.block_bitmap, group.inode_bitmap] {
                view.fix(block * self.block..(block + 1) * self.block);
            }
            let front = new.front(number as u64);
            view.fix(front.start * self.block..front.end * self.block);
        }
        view.fix(0..(1024 / self.block + 1) * self.block);
        view.sort(start);
        let change = Change {
            fs: self,
            groups: new.groups.len(),
            inode_bits: Bits::new(u64::from(new.inodes) + 1),
            new,
            view,
            moves,
            numbers: HashMap::new(),
            directories: HashMap::new(),
            attributes: HashSet::new(),
            room,
            budget: self.blocks,
            charged: Default::default(),
        };
        change.all()
    }

    /// Places for the structures of every group of the new shape: where they were as far as they can stay. Gives the groups
    /// and all blocks that are taken by structures.
    fn place_groups(&self, new: &Self) -> Option<(Vec<Group>, Extents<()>)> {
        let count = new.group_count();
        let mut solid: Extents<()> = Extents::new();
        (0..count).for_each(|group| solid.set(new.front(group), ()));
        let table = self.table_blocks();
        let limit = new.blocks;
        let free = |solid: &Extents<()>, range: &Range<u64>| range.end <= limit && solid.within(range.clone()).next().is_none();
        let mut groups: Vec<[Option<u64>; 3]> = Vec::new();
        for number in 0..count {
            let old = self.groups.get(number as usize);
            let kept = |at: Option<u64>, len: u64, solid: &mut Extents<()>| {
                let at = at.filter(|at| free(solid, &(*at..at + len)))?;
                solid.set(at..at + len, ());
                Some(at)
            };
            let block_bitmap = kept(old.map(|old| old.block_bitmap), 1, &mut solid);
            let inode_bitmap = kept(old.map(|old| old.inode_bitmap), 1, &mut solid);
            groups.push([block_bitmap, inode_bitmap, kept(old.map(|old| old.inode_table), table, &mut solid)]);
        }
        let per_group = u64::from(self.blocks_per_group);
        let flexible = self.features[1] & FLEXIBLE != 0;
        for number in 0..count {
            for (part, len) in [(0usize, 1), (1, 1), (2, table)] {
                if groups[number as usize][part].is_some() {
                    continue;
                }
                let within = |group: u64| {
                    let start = group * per_group + self.first_block;
                    let end = (start + per_group).min(limit);
                    // Behind the front of a group that is new; at the end of one that holds files already.
                    if group >= self.groups.len() as u64 {
                        let mut at = start;
                        while at + len <= end {
                            match solid.within(at..at + len).last() {
                                None => return Some(at),
                                Some((range, ())) => at = solid.at(range.start).map_or(range.end, |(whole, ())| whole.end),
                            }
                        }
                        return None;
                    }
                    let mut at = end.checked_sub(len)?;
                    while at >= start {
                        match solid.within(at..at + len).next() {
                            None => return Some(at),
                            Some((range, ())) => at = solid.at(range.start).map_or(range.start, |(whole, ())| whole.start).checked_sub(len)?,
                        }
                    }
                    None
                };
                let others = if flexible { 0..count } else { 0..0 };
                let at = std::iter::once(number).chain(others).find_map(within)?;
                solid.set(at..at + len, ());
                groups[number as usize][part] = Some(at);
            }
        }
        let made = groups.iter().enumerate().map(|(number, places)| {
            let old =
                self.groups.get(number).copied().unwrap_or(Group { flags: INODES_UNWRITTEN, free_inodes: self.inodes_per_group, ..Group::default() });
            Some(Group { block_bitmap: places[0]?, inode_bitmap: places[1]?, inode_table: places[2]?, ..old })
        });
        Some((made.collect::<Option<_>>()?, solid))
    }

    /// All stretches of an extent tree, and its blocks.
    pub(super) fn collect(&self, node: &[u8], out: &mut Vec<Extent>, tree: &mut Vec<u64>, left: u16) -> Result<()> {
        let wrong = || Finding::new("ext-extents", "a node of the extent tree is damaged");
        let (count, depth) = (usize::from(le16(node, 2)), le16(node, 6));
        if 12 + count * 12 > node.len() || depth > left || out.len() + tree.len() > MOST_EXTENTS {
            return Err(wrong());
        }
        for entry in node[12..12 + count * 12].as_chunks::<12>().0 {
            let logical = u64::from(le32(entry, 0));
            if depth == 0 {
                let raw = le16(entry, 4);
                let len = u64::from(if raw > 32768 { raw - 32768 } else { raw });
                out.push((logical, u64::from(le32(entry, 8)) | u64::from(le16(entry, 6)) << 32, len, raw > 32768));
            } else {
                let child = u64::from(le32(entry, 4)) | u64::from(le16(entry, 8)) << 32;
                tree.push(child);
                let bytes = self.volume.read(child * self.block, self.block as usize)?;
                self.collect(&bytes, out, tree, depth - 1)?;
            }
        }
        Ok(())
    }

    /// Blocks of a directory that hold its index, and where in them the index begins.
    pub(super) fn index_blocks(&self, content: &FileMap) -> Result<BTreeMap<u64, usize>> {
        let mut out = BTreeMap::new();
        let mut root = vec![0; self.block as usize];
        content.read(&self.volume, 0, &mut root)?;
        let mut waiting = vec![(0u64, 24 + usize::from(root[29]), root[30].min(3), root)];
        while let Some((block, at, level, bytes)) = waiting.pop() {
            if out.insert(block, at).is_some() {
                return Err(Finding::new("ext-index", "the index of a directory comes back to itself"));
            }
            let count = usize::from(le16(&bytes, at + 2)).min(bytes.len().saturating_sub(at) / 8);
            for slot in (0..count).filter(|_| level > 0) {
                let child = u64::from(le32(&bytes, at + slot * 8 + 4) & 0x0fff_ffff);
                let mut below = vec![0; self.block as usize];
                content.read(&self.volume, child * self.block, &mut below)?;
                waiting.push((child, 8, level - 1, below));
            }
        }
        Ok(out)
    }
}
