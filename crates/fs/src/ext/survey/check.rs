//! What an inode, its attributes, the journal's super block and the inode with the room for descriptors say of
//! themselves, held against what the kernel and the checker expect of them.

use super::super::checksum::{self, crc32c};
use super::super::{
    ATTRIBUTE_INODES, ATTRIBUTES, CHECKSUMS, ENCRYPTED, EXTENTS, Ext, HUGE, INDEXED, INLINE, Inode, ORPHAN_MARK, RECOVER, RESIZE, RESIZE_INODE, ROOT,
    VALUE_INODE, WIDE, journal,
};
use super::Tour;
use crate::content::{FileMap, Form};
use crate::finding::Finding;
use crate::node::NodeKind;
use badger_drive::field::{array, le16, le32};

/// Features a kernel knows: compatible, incompatible, read-only compatible.
const KNOWN: [u32; 3] = [0x1e3f, 0x3_e7de, 0x1_f77f];
const EXTENTS_FEATURE: u32 = 0x40;
const INLINE_FEATURE: u32 = 0x8000;
const ENCRYPTED_FEATURE: u32 = 0x1_0000;
const GUARD_FEATURE: u32 = 0x100;
const HUGE_FEATURE: u32 = 8;
/// The mark of the block that guards against being mounted twice.
const GUARD: u32 = 0x004d_4d50;
const GUARD_CLEAN: u32 = 0xff4d_4d50;

/// The greatest size of a file by a block map.
fn most_mapped(block: u64) -> u64 {
    let per = block / 4;
    (12 + per + per * per + per * per * per).saturating_mul(block)
}

/// How far the blocks of an inode reach: the last one that was written, and the last one at all, plus one each.
#[derive(Clone, Copy, Default)]
pub(super) struct Reach {
    pub written: u64,
    pub all: u64,
    pub holes: bool,
}

/// The hash an attribute's entry carries of its name and value; older systems took the letters of names with their sign.
fn attribute_hashes(name: &[u8], value: &[u8]) -> [u32; 2] {
    let over = |unit: &dyn Fn(u8) -> u32| {
        let hash = name.iter().fold(0u32, |hash, byte| hash << 5 ^ hash >> 27 ^ unit(*byte));
        value.as_chunks::<4>().0.iter().fold(hash, |hash, word| hash << 16 ^ hash >> 16 ^ u32::from_le_bytes(*word))
    };
    [over(&u32::from), over(&|byte| byte as i8 as u32)]
}

/// What is wrong with a list of attributes from `at` on; values are counted from `values` on and end with `bytes`.
fn attribute_fault(bytes: &[u8], mut at: usize, values: usize, (in_block, have_inodes): (bool, bool)) -> Option<&'static str> {
    let mut taken: Vec<(usize, usize)> = Vec::new();
    loop {
        let Some(mark) = bytes.get(at..at + 4) else { return Some("their list does not end") };
        if mark == [0; 4] {
            break;
        }
        let Some(entry) = bytes.get(at..at + 16) else { return Some("their list does not end") };
        let end = at + ((16 + usize::from(entry[0]) + 3) & !3);
        let Some(name) = bytes.get(at + 16..at + 16 + usize::from(entry[0])).filter(|_| end <= bytes.len()) else {
            return Some("a name leads out of its place");
        };
        let (start, len, inode, stored) = (usize::from(le16(entry, 2)), le32(entry, 8) as usize, le32(entry, 4), le32(entry, 12));
        if inode != 0 && !have_inodes {
            return Some("a value is said to have an inode, the volume knows of nothing like it");
        }
        if inode == 0 {
            let from = values + start;
            let padded = len.saturating_add(3) & !3;
            // What fills it up to whole words goes into the hash as well.
            let Some(value) = bytes.get(from..from.saturating_add(padded)).filter(|_| len == 0 || from.is_multiple_of(4)) else {
                return Some("a value leads out of its place");
            };
            if len > 0 {
                taken.push((from, from + padded));
            }
            // In the inode itself old systems left it out.
            if !attribute_hashes(name, value).contains(&stored) && (in_block || stored != 0) {
                return Some("the hash of one is wrong");
            }
        }
        at = end;
    }
    taken.push((0, at + 4));
    taken.sort_unstable();
    taken.windows(2).any(|pair| pair[1].0 < pair[0].1).then_some("two of them lie over each other")
}

impl Ext {
    /// Orphans are dealt with at the next mount: their inodes look deleted, or too short.
    pub(super) fn has_orphans(&self) -> bool {
        le32(&self.sb, 0xe8) != 0 || self.features[2] & 0x1_0000 != 0 || self.volume.is_laid_over()
    }

    /// What the super block says that no system would take.
    pub(super) fn super_block_faults(&self) -> Vec<Finding> {
        let wrong = |what: &str| Finding::new("ext-super-block", format!("the super block is damaged: {what}")).at(1024);
        let mut out = Vec::new();
        let groups = self.group_count();
        let old = le32(&self.sb, 76) == 0;
        let unknown = (0..3).any(|word| self.features[word] & !KNOWN[word] != 0);
        let ratio = self.ratio();
        for (is_wrong, what) in [
            (!old && unknown, "it names features that are not known"),
            (groups.checked_mul(u64::from(self.inodes_per_group)) != Some(u64::from(le32(&self.sb, 0))), "its number of inodes"),
            (
                u64::from(self.blocks_per_group) > self.block * 8 * ratio || !self.blocks_per_group.is_multiple_of(8) && ratio == 1,
                "its blocks in a group",
            ),
            (u64::from(self.inodes_per_group) > self.block * 8, "its inodes in a group"),
            (self.features[0] & RESIZE_INODE != 0 && u64::from(le16(&self.sb, 0xce)) > self.block / 4, "its room for more descriptors"),
            (!old && !(11..=self.inodes_per_group.max(11)).contains(&le32(&self.sb, 84)), "its first inode"),
            (self.first_block != u64::from(self.block == 1024 && ratio == 1), "its first block"),
            (ratio == 1 && le32(&self.sb, 28) != le32(&self.sb, 24), "its size of clusters"),
            (le32(&self.sb, 76) > 1, "its revision"),
            (self.reserved_blocks() > self.blocks, "its blocks set aside"),
            (self.features[2] & CHECKSUMS != 0 && self.sb[0x175] != 1, "its kind of checksum"),
            (self.features[1] & 0x10 != 0 && u64::from(le32(&self.sb, 0x104)) > groups.div_ceil(self.block / self.descriptor), "its meta groups"),
            (le32(&self.sb, 0xe8) > self.inodes, "the head of its orphans"),
            (le16(&self.sb, 58) & !0x27 != 0, "its state"),
        ] {
            if is_wrong {
                out.push(wrong(what));
            }
        }
        if self.features[1] & GUARD_FEATURE != 0 {
            out.extend(self.guard_fault());
        }
        out
    }

    fn reserved_blocks(&self) -> u64 {
        u64::from(le32(&self.sb, 8)) | if self.features[1] & WIDE != 0 { u64::from(le32(&self.sb, 0x154)) << 32 } else { 0 }
    }

    /// The block that guards against being mounted twice, if there is one.
    pub(in super::super) fn guard_block(&self) -> Option<u64> {
        let block = u64::from(le32(&self.sb, 0x168)) | u64::from(le32(&self.sb, 0x16c)) << 32;
        (self.features[1] & GUARD_FEATURE != 0 && block > self.first_block && block < self.blocks).then_some(block)
    }

    fn guard_fault(&self) -> Option<Finding> {
        let wrong = |what: &str| Some(Finding::new("ext-guard", format!("the block that guards against being mounted twice: {what}")));
        let Some(block) = self.guard_block() else { return wrong("it lies outside of the volume") };
        let bytes = match self.volume.read(block * self.block, 1024) {
            Ok(bytes) => bytes,
            Err(finding) => return Some(finding),
        };
        match le32(&bytes, 0) {
            GUARD if self.seed.is_some_and(|seed| crc32c(seed, &bytes[..1020]) != le32(&bytes, 1020)) => wrong("its checksum is wrong"),
            GUARD if le32(&bytes, 4) != GUARD_CLEAN => Some(Finding::new("volume-dirty", "a system has it mounted, or had when it was last seen")),
            GUARD => None,
            _ => wrong("it is none"),
        }
    }

    /// What is wrong with the super block of the journal.
    pub(super) fn journal_faults(&self) -> Vec<Finding> {
        let number = le32(&self.sb, 0xe0);
        if self.features[0] & 4 == 0 || number == 0 {
            return Vec::new();
        }
        let wrong = |what: &str| vec![Finding::new("ext-journal", format!("its journal is damaged: {what}"))];
        let Ok(inode) = self.inode(number) else { return wrong("its inode cannot be read") };
        if inode.kind() != NodeKind::File || le16(&inode.bytes, 26) == 0 {
            return wrong("its inode is none of a file");
        }
        let Ok(pieces) = self.pieces_of(&inode) else { return wrong("where it lies cannot be told") };
        let holes = pieces.iter().any(|piece| piece.at.is_none());
        let mut head = vec![0; 1024];
        if FileMap::new(inode.size(), pieces, Form::Plain).read(&self.volume, 0, &mut head).is_err() {
            return wrong("it cannot be read");
        }
        if holes {
            return wrong("it has holes");
        }
        let is_pending = self.features[1] & RECOVER != 0;
        journal::head_fault(&head, inode.size() / self.block, self.block, is_pending).map_or_else(Vec::new, wrong)
    }

    /// What is wrong with the file that orphans are noted in: while it notes none its blocks are empty but for their mark.
    pub(super) fn orphan_fault(&self) -> Option<Finding> {
        let number = le32(&self.sb, 0x280);
        if self.features[0] & 0x1000 == 0 || self.features[2] & 0x1_0000 != 0 || self.volume.is_laid_over() {
            return None;
        }
        let wrong = |what: &str| Some(Finding::new("ext-orphan-file", format!("the file that orphans are noted in is damaged: {what}")));
        let Some(inode) = self.inode(number).ok().filter(|inode| inode.kind() == NodeKind::File) else { return wrong("its inode is none of a file") };
        let Ok(pieces) = self.pieces_of(&inode) else { return wrong("where it lies cannot be told") };
        let seed = self.seed_of(&inode);
        let mut bytes = vec![0; self.block as usize];
        for piece in pieces {
            let Some(first) = piece.at else { return wrong("it has holes") };
            for at in (first..first + piece.len).step_by(self.block as usize) {
                if self.volume.read_into(at, &mut bytes).is_err() {
                    return wrong("it cannot be read");
                }
                let (body, tail) = bytes.split_at(bytes.len() - 8);
                let sum = |seed| crc32c(crc32c(seed, &(at / self.block).to_le_bytes()), body);
                if le32(tail, 0) != ORPHAN_MARK || seed.is_some_and(|seed| sum(seed) != le32(tail, 4)) || body.iter().any(|byte| *byte != 0) {
                    return wrong("a block of it is not empty, or has lost its mark");
                }
            }
        }
        None
    }

    /// What is wrong with the inode that holds the room for further descriptors: every block it names follows from the shape.
    pub(super) fn room_fault(&self) -> Option<Finding> {
        let wrong = |what: &str| Some(Finding::new("ext-resize-inode", format!("the inode with the room for descriptors is damaged: {what}")));
        let inode = self.inode(RESIZE).ok()?;
        let list = le32(&inode.bytes, 40 + 13 * 4);
        if self.features[0] & RESIZE_INODE == 0 {
            let empty = inode.bytes[40..100].iter().all(|byte| *byte == 0) && le32(&inode.bytes, 28) == 0;
            return if empty { None } else { wrong("it names blocks, but the volume has no such room") };
        }
        let spare = u64::from(le16(&self.sb, 0xce));
        if list == 0 && spare == 0 {
            return None;
        }
        if inode.kind() != NodeKind::File || le16(&inode.bytes, 26) == 0 || list == 0 || !self.is_block(list) {
            return wrong("its own fields");
        }
        let others = inode.bytes[40..100].as_chunks::<4>().0.iter().enumerate().any(|(slot, entry)| slot != 13 && *entry != [0; 4]);
        if others || inode.flags() & (EXTENTS | INLINE) != 0 {
            return wrong("its own fields");
        }
        let Ok(named) = self.volume.read(u64::from(list) * self.block, self.block as usize) else { return wrong("it cannot be read") };
        let tables = self.group_count().div_ceil(self.block / self.descriptor);
        let tables = self.first_meta.map_or(tables, |first| tables.min(u64::from(first)));
        // A volume that says it is longer than it is has no more groups than were read.
        let backups: Vec<u64> = (1..self.groups.len() as u64).filter(|group| self.has_super(*group)).collect();
        let per_block = self.block / 4;
        let said = u64::from(le32(&inode.bytes, 28)) | u64::from(le16(&inode.bytes, 116)) << 32;
        if self.ratio() == 1 && said != (1 + spare * (1 + backups.len() as u64)) * (self.block / 512) {
            return wrong("it says it holds another number of blocks");
        }
        let beside =
            (0..per_block).any(|slot| (slot + per_block - tables % per_block) % per_block >= spare && le32(&named, (slot * 4) as usize) != 0);
        if beside {
            return wrong("it names more blocks than the room has");
        }
        for number in 0..spare {
            let block = 1024 / self.block + 1 + tables + number;
            if u64::from(le32(&named, ((tables + number) % per_block * 4) as usize)) != block {
                return wrong("it names other blocks than the room has");
            }
            let Ok(copies) = self.volume.read(block * self.block, self.block as usize) else { return wrong("it cannot be read") };
            let wanted = backups.iter().map(|group| block + group * u64::from(self.blocks_per_group)).chain(std::iter::repeat(0));
            let right = copies.as_chunks::<4>().0.iter().zip(wanted).all(|(entry, wanted)| u64::from(u32::from_le_bytes(*entry)) == wanted);
            if !right {
                return wrong("the copies it names are none");
            }
        }
        None
    }
}

impl Tour<'_> {
    /// An inode that nobody uses: what is left in it must not look like one in use.
    pub(super) fn check_free(&mut self, inode: &Inode) {
        if inode.bytes.iter().all(|byte| *byte == 0) {
            return;
        }
        let number = inode.number;
        self.check_sum_of(inode);
        if le16(&inode.bytes, 26) != 0 {
            self.add(Finding::new("ext-inode-bitmap", format!("inode {number} is in use, but free in the map")));
        } else if inode.mode() != 0 && le32(&inode.bytes, 20) == 0 {
            self.add(Finding::new("ext-inode", format!("inode {number} was deleted, but does not say when")));
        }
    }

    pub(super) fn check_sum_of(&mut self, inode: &Inode) {
        let Some(seed) = self.fs.seed_of(inode) else { return };
        let (sum, wide) = checksum::inode(seed, &inode.bytes);
        let stored = u32::from(le16(&inode.bytes, 124)) | if wide { u32::from(le16(&inode.bytes, 130)) << 16 } else { 0 };
        if stored != if wide { sum } else { sum & 0xffff } {
            self.add(Finding::new("ext-inode-checksum", format!("the checksum of inode {} is wrong", inode.number)));
        }
    }

    /// The fields of an inode in use.
    pub(super) fn check_inode(&mut self, inode: &Inode, own: bool) {
        let fs = self.fs;
        self.check_sum_of(inode);
        let (number, bytes, flags) = (inode.number, &inode.bytes, inode.flags());
        let kind = inode.mode() >> 12;
        let has = |feature: u32| fs.features[1] & feature != 0;
        let special = matches!(kind, 1 | 2 | 6 | 12);
        let extra = if bytes.len() > 128 { usize::from(le16(bytes, 128)) } else { 0 };
        let links = le16(bytes, 26);
        let file_acl = fs.attribute_place(inode);
        for (is_wrong, code, what) in [
            (!own && !matches!(kind, 0 | 1 | 2 | 4 | 6 | 8 | 10 | 12), "ext-inode", "its kind is none"),
            (own && kind != 8 && kind != 4 && kind != 0, "ext-inode", "its kind is none of the format's own"),
            (
                links > 0 && le32(bytes, 20) != 0 && !fs.has_orphans() && (number >= 11 || number == ROOT),
                "ext-inode",
                "it is in use, but says when it was deleted",
            ),
            (extra != 0 && (extra < 4 || extra > bytes.len() - 128 || !extra.is_multiple_of(4)), "ext-inode", "the length of its further fields"),
            (flags & EXTENTS != 0 && !has(EXTENTS_FEATURE), "ext-inode", "it has extents, the volume has none"),
            (flags & INLINE != 0 && (!has(INLINE_FEATURE) || flags & EXTENTS != 0), "ext-inode", "it says its content lies within it"),
            (flags & ENCRYPTED != 0 && !has(ENCRYPTED_FEATURE), "ext-inode", "it is encrypted, the volume knows of nothing like it"),
            (flags & VALUE_INODE != 0 && !has(ATTRIBUTE_INODES), "ext-inode", "it says it holds a value of an attribute"),
            (flags & HUGE != 0 && fs.features[2] & HUGE_FEATURE == 0, "ext-inode", "it counts its blocks as the volume does not"),
            (flags & INDEXED != 0 && kind != 4, "ext-inode", "it has an index, but is no directory"),
            (le32(bytes, 112) != 0, "ext-inode", "a field that must be empty is not"),
            (
                (!own || number == ROOT) && !has(WIDE) && le16(bytes, 118) != 0,
                "ext-inode",
                "the place of its attributes is wider than the volume's numbers",
            ),
            (file_acl != 0 && (file_acl <= fs.first_block || file_acl >= fs.blocks), "ext-attributes", "its attributes lie outside of the volume"),
            (special && inode.size() != 0, "ext-inode", "it is no file, but has a size"),
            (special && bytes[56..100].iter().any(|byte| *byte != 0) && flags & INLINE == 0, "ext-inode", "it is no file, but has blocks"),
        ] {
            if is_wrong {
                self.add(Finding::new(code, format!("inode {number}: {what}")));
            }
        }
        if bytes.len() > 132 && extra >= 4 {
            let start = 128 + extra;
            if le32(bytes, start) == ATTRIBUTES
                && let Some(what) = attribute_fault(&bytes[start + 4..], 0, 0, (false, has(ATTRIBUTE_INODES)))
            {
                self.add(Finding::new("ext-attributes", format!("the attributes of inode {number} are damaged: {what}")));
            }
        }
        if kind == 10 {
            self.check_link(inode);
        }
        if flags & INLINE != 0 {
            let (size, there) = (inode.size(), 60 + inode.inline_rest().map_or(0, |rest| rest.len() as u64));
            if inode.inline_rest().is_none() {
                self.add(Finding::new("ext-inode", format!("inode {number}: its content is said to lie within it, but does not")));
            } else if size > there || (kind == 4 && size != there) {
                self.add(Finding::new("ext-inline", format!("inode {number} says it is {size} bytes long; {there} bytes lie within it")));
            }
        }
    }

    /// The target of a symbolic link is as long as it says.
    fn check_link(&mut self, inode: &Inode) {
        let fs = self.fs;
        let size = inode.size();
        let encrypted = inode.flags() & ENCRYPTED != 0;
        let target = if inode.flags() & INLINE != 0 {
            Some(inode.inline())
        } else if size < 60 && inode.flags() & EXTENTS == 0 {
            Some(inode.bytes[40..100].to_vec())
        } else if size < fs.block {
            let mut bytes = vec![0; fs.block as usize];
            let read = fs.pieces_of(inode).and_then(|pieces| FileMap::new(fs.block, pieces, Form::Plain).read(&fs.volume, 0, &mut bytes));
            read.ok().map(|_| bytes)
        } else {
            None
        };
        let end = target.as_ref().map(|bytes| bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len()) as u64);
        if size == 0 || !encrypted && end != Some(size) {
            self.add(Finding::new("ext-link", format!("inode {}: the target of this link is not as long as it says", inode.number)));
        }
    }

    /// The size of a file or directory against how far its blocks reach.
    pub(super) fn check_size(&mut self, inode: &Inode, reach: Reach) {
        let (fs, number, size) = (self.fs, inode.number, inode.size());
        let wrong = match inode.kind() {
            _ if inode.flags() & INLINE != 0 || fs.has_orphans() => false,
            NodeKind::Directory => {
                // Older systems set some blocks of a directory aside beyond its end.
                let aside = u64::from(fs.sb[0xcd]);
                let blocks = size / fs.block;
                !size.is_multiple_of(fs.block) || size == 0 || !(blocks..=blocks + aside).contains(&reach.all)
            }
            NodeKind::File if inode.flags() & EXTENTS != 0 => {
                // Room may be set aside beyond the end; what was written there is lost.
                (reach.written > 0 && size < (reach.written - 1) * fs.block && inode.flags() & 0x10_0000 == 0) || size >= fs.block << 32
            }
            NodeKind::File => reach.written > 0 && size < (reach.written - 1) * fs.block || size > most_mapped(fs.block),
            _ => false,
        };
        if wrong {
            self.add(Finding::new("ext-size", format!("inode {number}: its size of {size} bytes does not go with its blocks")));
        }
        if inode.kind() == NodeKind::Directory && reach.holes {
            self.add(Finding::new("ext-directory", format!("directory {number} has holes")));
        }
    }

    /// A block of attributes: its mark, its length, every entry.
    pub(super) fn check_attribute_block(&mut self, inode: &Inode, block: u64, bytes: &[u8]) {
        let fs = self.fs;
        let at = block * fs.block;
        let damaged = if le32(bytes, 0) != ATTRIBUTES {
            Some("they are none")
        } else if le32(bytes, 8) != 1 {
            Some("they say they are longer than a block")
        } else {
            attribute_fault(bytes, 32, 0, (true, fs.features[1] & ATTRIBUTE_INODES != 0))
        };
        if let Some(what) = damaged {
            self.add(Finding::new("ext-attributes", format!("the attributes of inode {} are damaged: {what}", inode.number)).at(at));
        } else if fs.seed.is_some_and(|seed| checksum::attributes(seed, block, bytes) != le32(bytes, 16)) {
            let text = format!("the checksum of the attributes of inode {} is wrong", inode.number);
            self.add(Finding::new("ext-attribute-checksum", text).at(at));
        }
    }

    /// What hashes the names of a directory, by the root of its index.
    pub(super) fn hasher(&self, inode: &Inode, version: u8) -> Option<super::super::hash::Hasher> {
        // Names that are folded or encrypted are hashed in another form.
        if inode.flags() & (ENCRYPTED | 0x4000_0000) != 0 {
            return None;
        }
        let words: [u8; 16] = array(&self.fs.sb, 0xec);
        let seed = [0, 4, 8, 12].map(|at| le32(&words, at));
        super::super::hash::Hasher::new(version, le32(&self.fs.sb, 0x160) & 2 != 0, seed)
    }
}
