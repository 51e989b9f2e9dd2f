//! A directory: every entry of its blocks, and its index held against the hashes of the names below it.

use super::super::checksum::crc32c;
use super::super::entries::RawEntry;
use super::super::hash::Hasher;
use super::super::inode::Inode;
use super::super::{ENCRYPTED, INDEXED, INLINE, MOST_DIRECTORY, ROOT};
use super::Tour;
use crate::bits::Bits;
use crate::content::{FileMap, Form};
use crate::finding::Finding;
use badger_drive::field::{le16, le32};
use std::collections::{HashMap, HashSet};
use std::hash::{BuildHasher, RandomState};

/// Letters of names count as one where a directory says so; encrypted names are bytes of any kind.
const FOLDED: u32 = 0x4000_0000;
/// Directories grow beyond two levels of index with this.
const LARGE: u32 = 0x4000;
/// The end of all hashes.
const LAST_HASH: u32 = 0xffff_fffe;

/// An index as it was read: what of it is damaged, and the hashes that each leaf may hold.
struct Index {
    hasher: Option<Hasher>,
    leaves: HashMap<u64, (u32, u32)>,
    nodes: Bits,
}

/// What is met in the entries of one directory.
struct Met {
    directory: u32,
    /// Hashes of the names, in place of the names themselves: a directory may hold millions.
    names: HashSet<u64>,
    hashes: RandomState,
    /// Names are text: no dividers in them, no two alike.
    plain: bool,
}

impl Tour<'_> {
    /// Reads a directory's blocks: their checksums, the index, and every name.
    pub(super) fn directory(&mut self, inode: &Inode) {
        let fs = self.fs;
        let number = inode.number;
        let plain = inode.flags() & (ENCRYPTED | FOLDED) == 0;
        let mut met = Met { directory: number, names: HashSet::new(), hashes: RandomState::new(), plain };
        if inode.flags() & INLINE != 0 {
            let data = inode.inline();
            let above = le32(&data, 0);
            if above == 0 || above > fs.inodes {
                self.add(Finding::new("ext-dots", format!("directory {number} names no directory as the one above")));
            }
            self.above.insert(number, above);
            self.count_name(above, 0);
            self.count_name(number, 0);
            self.entries(&mut met, data.get(4..60.min(data.len())).unwrap_or_default(), false, None);
            self.entries(&mut met, data.get(60..).unwrap_or_default(), false, None);
            return;
        }
        let Ok(pieces) = fs.pieces_of(inode) else { return };
        let size = inode.size().min(MOST_DIRECTORY).min(fs.volume.len());
        let Some(left) = self.names_left.checked_sub(size) else {
            self.add(Finding::grave("walk-budget", format!("directory {number}: all directories together are longer than the volume")));
            return;
        };
        self.names_left = left;
        let content = FileMap::new(size, pieces, Form::Plain);
        let blocks = size / fs.block;
        let indexed = inode.flags() & INDEXED != 0;
        let damaged = || Finding::new("ext-index", format!("directory {number}: its index is damaged; its names are still there"));
        let index = if indexed && fs.features[0] & 0x20 != 0 { self.index(inode, &content, blocks) } else { None };
        if indexed && index.is_none() {
            self.add(damaged());
        }
        let mut bytes = vec![0; fs.block as usize];
        for block in 0..blocks {
            if let Err(finding) = content.read(&fs.volume, block * fs.block, &mut bytes) {
                self.add(finding);
                continue;
            }
            let in_index = indexed && block == 0;
            let mut bounds = None;
            if let Some(index) = &index {
                if block > 0 && index.nodes.has(block) {
                    continue;
                }
                bounds = index.leaves.get(&block).map(|bounds| (index.hasher, *bounds));
                if block > 0 && bounds.is_none() {
                    self.add(Finding::new("ext-index", format!("directory {number}: its index does not lead to block {block}")));
                }
            }
            if let Some(seed) = fs.seed_of(inode).filter(|_| !in_index) {
                let tail = bytes.len() - 12;
                let marked = le32(&bytes, tail) == 0 && le16(&bytes, tail + 4) == 12 && bytes[tail + 6] == 0 && bytes[tail + 7] == 0xde;
                if !marked || crc32c(seed, &bytes[..tail]) != le32(&bytes, tail + 8) {
                    let text = format!("directory {number}: the checksum of block {block} is wrong");
                    self.add(Finding::new("ext-directory-checksum", text).at(content.place(block * fs.block).unwrap_or(0)));
                }
            }
            self.entries(&mut met, &bytes, block == 0, bounds);
        }
    }

    /// Goes through a hashed index: every node within bounds, hashes rising, every leaf named once. `None` where it is damaged.
    fn index(&mut self, inode: &Inode, content: &FileMap, blocks: u64) -> Option<Index> {
        let fs = self.fs;
        let mut root = vec![0; fs.block as usize];
        content.read(&fs.volume, 0, &mut root).ok()?;
        let (version, info, levels, unused) = (root[28], usize::from(root[29]), root[30], root[31]);
        let most = if fs.features[1] & LARGE != 0 { 3 } else { 2 };
        if version > 6 || info != 8 || levels >= most || le32(&root, 24) != 0 || unused & 1 != 0 {
            return None;
        }
        let mut index = Index { hasher: self.hasher(inode, version), leaves: HashMap::new(), nodes: Bits::new(blocks) };
        let room = fs.block as usize / 8;
        let tail = usize::from(fs.seed.is_some());
        let mut waiting = vec![(0u64, 24 + info, levels, root, (0, LAST_HASH))];
        while let Some((block, at, level, bytes, span)) = waiting.pop() {
            let (limit, count) = (usize::from(le16(&bytes, at)), usize::from(le16(&bytes, at + 2)));
            let right = limit == room - at / 8 - tail;
            if count == 0 || count > limit || !right || index.nodes.set(block..block + 1).is_some() || index.leaves.contains_key(&block) {
                return None;
            }
            if let Some(seed) = fs.seed_of(inode) {
                let tail = at + limit * 8;
                let sum = crc32c(crc32c(crc32c(seed, &bytes[..at + count * 8]), bytes.get(tail..tail + 4).unwrap_or_default()), &[0; 4]);
                if tail + 8 > bytes.len() || sum != le32(&bytes, tail + 4) {
                    let text = format!("directory {}: the checksum of its index in block {block} is wrong", inode.number);
                    self.add(Finding::new("ext-index-checksum", text).at(content.place(block * fs.block).unwrap_or(0)));
                }
            }
            let hash = |slot: usize| if slot == 0 { span.0 } else { le32(&bytes, at + slot * 8) & !1 };
            for slot in 0..count {
                let child = u64::from(le32(&bytes, at + slot * 8 + 4) & 0x0fff_ffff);
                let (from, to) = (hash(slot), if slot + 1 < count { hash(slot + 1) } else { span.1 });
                if from > to || child == 0 || child >= blocks {
                    return None;
                }
                if level == 0 {
                    if index.nodes.has(child) || index.leaves.insert(child, (from, to)).is_some() {
                        return None;
                    }
                } else {
                    let mut below = vec![0; fs.block as usize];
                    content.read(&fs.volume, child * fs.block, &mut below).ok()?;
                    // Whoever knows no index sees one unused entry over the whole block.
                    if le32(&below, 0) != 0 || le16(&below, 4) as usize != below.len() && below.len() < 65536 {
                        return None;
                    }
                    waiting.push((child, 8, level - 1, below, (from, to)));
                }
            }
        }
        Some(index)
    }

    /// Counts the names of a stretch of a directory; `first` begins with the directory itself and the one above.
    fn entries(&mut self, met: &mut Met, bytes: &[u8], first: bool, bounds: Option<(Option<Hasher>, (u32, u32))>) {
        let fs = self.fs;
        let directory = met.directory;
        let mut place = 0;
        for (index, entry) in fs.raw_entries(bytes).enumerate() {
            let RawEntry { number, name, kind } = match entry {
                Ok(entry) => entry,
                Err(at) => {
                    self.add(Finding::new("ext-directory", format!("directory {directory}: an entry {at} bytes into a block is damaged")));
                    return;
                }
            };
            let (at, dots) = (place, first && index < 2);
            place += usize::from(le16(bytes, at + 4)).max(12);
            if dots {
                self.dots(directory, index, &bytes[at..], number, name);
            }
            if number == 0 || name.is_empty() {
                // Names must not be empty, but for the mark of a checksum, which names no inode.
                if number != 0 {
                    self.add(Finding::new("ext-directory", format!("directory {directory}: an entry {at} bytes into a block has no name")));
                }
                continue;
            }
            let named = |what: &str| format!("\"{}\" in directory {directory} {what}", String::from_utf8_lossy(name));
            if !dots && met.plain {
                if name.contains(&b'/') || name.contains(&0) || matches!(name, b"." | b"..") {
                    self.add(Finding::new("ext-name", named("has a name that none may have")));
                }
                if !met.names.insert(met.hashes.hash_one(name)) {
                    self.add(Finding::new("ext-name", named("is there twice")));
                }
            }
            if !dots
                && let Some((Some(hasher), (from, to))) = bounds
                && !(from..=to).contains(&hasher.hash(name))
            {
                self.add(Finding::new("ext-index", format!("directory {directory}: its index would not find {}", named("there"))));
            }
            let counted = number <= fs.inodes && (self.inode_map.has(u64::from(number)) || !self.is_counted(number));
            if !counted || number != ROOT && number < fs.first_own() {
                self.add(Finding::new("ext-dangling", named(&format!("names inode {number}, which is not in use"))));
                continue;
            }
            let told = if fs.file_types && !(dots && index == 1) { kind } else { 0 };
            if fs.file_types && dots && index == 1 && !matches!(kind, 0 | 2) {
                self.add(Finding::new("ext-entry-kind", named("is no directory, as it says")));
            }
            if fs.file_types && kind > 7 && met.plain {
                self.add(Finding::new("ext-entry-kind", named("says that it is something that there is not")));
            } else if fs.file_types && kind == 0 && met.plain {
                // The system looks at the inode then, and so does the checker, without a word.
                self.add(Finding::note("ext-entry-kind", named("does not say what it is")));
            }
            self.count_name(number, told);
            // An entry that says it is no directory needs no way back.
            if !dots && (!fs.file_types || matches!(kind, 0 | 2)) {
                let before = self.above_by_name.insert(number, directory);
                if number == ROOT || fs.file_types && kind == 2 && before.is_some() {
                    self.add(Finding::new("ext-second-way", named("is a second way to a directory")));
                }
            }
        }
    }

    /// The entries for the directory itself and the one above.
    fn dots(&mut self, directory: u32, index: usize, bytes: &[u8], number: u32, name: &[u8]) {
        let len = usize::from(le16(bytes, 4));
        // Behind the name nothing stands, and a first entry long enough to be divided was meant to be.
        let right = if index == 0 {
            name == b"." && number == directory && bytes[9] == 0 && len < 24
        } else {
            name == b".." && number != 0 && bytes[10] == 0
        };
        if !right {
            self.add(Finding::new("ext-dots", format!("directory {directory}: its entries for itself and the one above are wrong")));
        }
        if index == 1 {
            self.above.insert(directory, number);
        }
    }
}
