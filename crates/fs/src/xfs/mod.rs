//! XFS, following "XFS Algorithms & Data Structures": inodes with extents in place or in a tree, directories of all forms of the second
//! version, symbolic links, extended attributes. Files are listed and read; the volume's own maps are not checked.

mod attributes;
mod superblock;

use crate::cached::{Cached, Near};
use crate::content::{Content, FileMap, Form};
use crate::finding::{Finding, Result};
use crate::node::{Listing, Name, Node, NodeKind, Piece, Resolution, Time};
use crate::tree::{Origin, Tree};
use badger_drive::field::{be16, be32, be64};
use std::collections::HashSet;
pub(crate) use superblock::FORMAT;
use superblock::{Log, SuperBlock, is_right};

/// Names of directories lie in front of this byte of them; behind it is what finds them faster.
const NAMES_END: u64 = 32 << 30;
/// Bytes in which the longest link lies with its heads, whatever the blocks.
const MOST_LINK: u64 = 128 << 10;
/// A directory is not read further than this.
const MOST_DIRECTORY: u64 = 256 << 20;
/// Levels of a tree of extents.
const MOST_LEVELS: u16 = 9;
/// Forms of what an inode holds.
const LOCAL: u8 = 1;
const EXTENTS: u8 = 2;
const TREE: u8 = 3;
/// Flags of inodes: the content lies on a device of its own. Further ones: blocks are shared, long times, many extents.
const REALTIME: u16 = 1;
const SHARED: u64 = 2;
const LONG_TIMES: u64 = 8;
const MANY: u64 = 0x10;

/// An open volume.
pub struct Xfs {
    volume: Cached,
    sb: SuperBlock,
    log: Log,
}

/// A stretch of a file, in blocks.
struct Extent {
    from: u64,
    /// First block by its number; what was never written reads as zero.
    at: Option<u64>,
    count: u64,
}

/// One of the two things an inode holds: content or attributes.
struct Fork<'a> {
    form: u8,
    bytes: &'a [u8],
    extents: u64,
}

struct Inode {
    number: u64,
    bytes: Vec<u8>,
}

impl Inode {
    fn is_new(&self) -> bool {
        self.bytes[4] == 3
    }
    fn size(&self) -> u64 {
        be64(&self.bytes, 56)
    }
    /// Flags that only new inodes have.
    fn further(&self) -> u64 {
        if self.is_new() { be64(&self.bytes, 120) } else { 0 }
    }
    fn kind(&self) -> NodeKind {
        match be16(&self.bytes, 2) >> 12 {
            4 => NodeKind::Directory,
            8 => NodeKind::File,
            10 => NodeKind::Link,
            _ => NodeKind::Other,
        }
    }
    fn time(&self, at: usize) -> Time {
        if self.further() & LONG_TIMES != 0 {
            // Nanoseconds since 1901.
            let nanos = be64(&self.bytes, at);
            return Time { seconds: (nanos / 1_000_000_000) as i64 - (1 << 31), nanos: (nanos % 1_000_000_000) as u32 };
        }
        Time { seconds: i64::from(be32(&self.bytes, at) as i32), nanos: be32(&self.bytes, at + 4).min(999_999_999) }
    }
    fn forks(&self) -> (&[u8], &[u8]) {
        let literal = &self.bytes[if self.is_new() { 176 } else { 100 }..];
        match usize::from(self.bytes[82]) * 8 {
            0 => (literal, &[]),
            middle => literal.split_at(middle.min(literal.len())),
        }
    }
    fn content(&self) -> Fork<'_> {
        let extents = if self.further() & MANY != 0 { be64(&self.bytes, 24) } else { u64::from(be32(&self.bytes, 76)) };
        Fork { form: self.bytes[5], bytes: self.forks().0, extents }
    }
    fn attributes(&self) -> Fork<'_> {
        let extents = if self.further() & MANY != 0 { u64::from(be32(&self.bytes, 76)) } else { u64::from(be16(&self.bytes, 80)) };
        Fork { form: self.bytes[83], bytes: self.forks().1, extents }
    }
}

/// A number of 4 or 8 bytes.
fn number(bytes: &[u8], at: usize, wide: bool) -> u64 {
    if wide { be64(bytes, at) } else { u64::from(be32(bytes, at)) }
}

impl Xfs {
    /// Opens a volume for its files.
    ///
    /// # Errors
    /// A finding where its super block contradicts itself, or has features that are not known.
    pub fn open(volume: Cached) -> Result<Self> {
        let len = volume.len().min(32768) as usize;
        let sb = SuperBlock::read(&volume.read(0, len)?)?;
        let log = superblock::log(&sb, &|at, len| volume.read(at, len).ok());
        Ok(Self { volume, sb, log })
    }

    /// Where an inode lies.
    fn place(&self, number: u64) -> Option<u64> {
        let block = number >> self.sb.inode_bits;
        let inner = number & ((1 << self.sb.inode_bits) - 1);
        Some(self.sb.place(block)? + inner * self.sb.inode)
    }

    fn inode(&self, number: u64, near: &mut Near) -> Result<Inode> {
        let at = self.place(number).ok_or_else(|| Finding::new("xfs-inode", format!("inode {number} lies out of the volume")))?;
        let mut bytes = vec![0; self.sb.inode as usize];
        near.read_into(at, &mut bytes)?;
        let wrong = |what: &str| Err(Finding::new("xfs-inode", format!("inode {number} {what}")).at(at));
        if &bytes[..2] != b"IN" {
            return wrong("is none");
        }
        let inode = Inode { number, bytes };
        if inode.is_new() != self.sb.sums {
            return wrong("is of another version than the volume");
        }
        if self.sb.sums && (!is_right(&inode.bytes, 100) || be64(&inode.bytes, 152) != number) {
            return wrong("is damaged: its checksum or its number is wrong");
        }
        Ok(inode)
    }

    fn lone(&self, node: &Node) -> Result<Inode> {
        self.inode(node.id, &mut self.volume.near())
    }

    fn node_of(&self, inode: &Inode) -> Node {
        let kind = inode.kind();
        let bytes = &inode.bytes;
        let what = match be16(bytes, 2) >> 12 {
            1 => Some("pipe"),
            2 | 6 => Some("device"),
            12 => Some("socket"),
            _ => None,
        };
        Node {
            id: inode.number,
            accessed: Some(inode.time(32)),
            created: inode.is_new().then(|| inode.time(144)),
            mode: Some(u32::from(be16(bytes, 2)) & 0o7777),
            owner: Some((be32(bytes, 8), be32(bytes, 12))),
            links: if bytes[4] == 1 { u32::from(be16(bytes, 6)) } else { be32(bytes, 16) },
            what: what.map(Into::into),
            ..Node::plain(kind, if kind == NodeKind::Directory { 0 } else { inode.size() }, Some(inode.time(40)))
        }
    }

    /// Adds extents as they are packed: 54 bits of where in the file, 52 of the block, 21 of how many, and whether they were written.
    fn unpacked(&self, records: &[u8], most: usize, out: &mut Vec<Extent>) -> Result<()> {
        for record in records.as_chunks::<16>().0 {
            let (high, low) = (be64(record, 0), be64(record, 8));
            let from = (high & !(1 << 63)) >> 9;
            let (at, count) = ((high & 0x1ff) << 43 | low >> 21, low & 0x1f_ffff);
            let place = self.sb.place(at);
            let is_inside = place.is_some_and(|place| place + count * self.sb.block <= self.volume.len());
            let behind = out.last().map_or(0, |last| last.from + last.count);
            if from < behind || count == 0 || !is_inside || out.len() >= most {
                return Err(Finding::new("xfs-extents", "its extents are out of order, or lead out of the volume"));
            }
            out.push(Extent { from, at: place.filter(|_| high >> 63 == 0), count });
        }
        Ok(())
    }

    /// Where a fork lies.
    fn extents(&self, inode: &Inode, fork: &Fork) -> Result<Vec<Extent>> {
        let wrong = |what: &str| Finding::new("xfs-extents", format!("where inode {} lies is damaged: {what}", inode.number));
        let (mut out, most) = (Vec::new(), (self.volume.len() / self.sb.block + 16).min(4 << 20) as usize);
        match fork.form {
            EXTENTS => {
                let len = usize::try_from(fork.extents).ok().and_then(|count| count.checked_mul(16));
                let records = len.and_then(|len| fork.bytes.get(..len)).ok_or_else(|| wrong("more extents than have room"))?;
                self.unpacked(records, most, &mut out)?;
            }
            TREE => {
                let (level, count) = (be16(fork.bytes, 0), usize::from(be16(fork.bytes, 2)));
                let room = fork.bytes.len().saturating_sub(4) / 16;
                if level == 0 || level > MOST_LEVELS || count == 0 || count > room {
                    return Err(wrong("the root of the tree"));
                }
                let mut seen = HashSet::new();
                for slot in 0..count {
                    let child = be64(fork.bytes, 4 + room * 8 + slot * 8);
                    self.branch((inode.number, child), level - 1, most, &mut seen, &mut out)?;
                }
            }
            _ => return Err(wrong("its form")),
        }
        Ok(out)
    }

    /// A block of a tree of extents, and what is below it; each is one level lower than what leads to it, and none is met twice.
    fn branch(&self, (owner, number): (u64, u64), level: u16, most: usize, seen: &mut HashSet<u64>, out: &mut Vec<Extent>) -> Result<()> {
        let wrong = |what: &str| Finding::new("xfs-extents", format!("a block of the tree of extents of inode {owner} is damaged: {what}"));
        let at = self.sb.place(number).filter(|_| seen.insert(number)).ok_or_else(|| wrong("it is met twice, or lies out of the volume"))?;
        let bytes = self.volume.read(at, self.sb.block as usize)?;
        let (mark, head): (&[u8], usize) = if self.sb.sums { (b"BMA3", 72) } else { (b"BMAP", 24) };
        if &bytes[..4] != mark || be16(&bytes, 4) != level {
            return Err(wrong("its mark or its level").at(at));
        }
        if self.sb.sums && (!is_right(&bytes, 64) || be64(&bytes, 56) != owner) {
            return Err(wrong("its checksum, or whose it is").at(at));
        }
        let (count, room) = (usize::from(be16(&bytes, 6)), (bytes.len() - head) / 16);
        if count > room {
            return Err(wrong("the number of its entries").at(at));
        }
        if level == 0 {
            return self.unpacked(&bytes[head..head + count * 16], most, out);
        }
        (0..count).try_for_each(|slot| self.branch((owner, be64(&bytes, head + room * 8 + slot * 8)), level - 1, most, seen, out))
    }

    /// The same as pieces, with what lies between them as holes.
    fn pieces(&self, inode: &Inode, fork: &Fork) -> Result<Vec<Piece>> {
        let (mut out, mut end) = (Vec::new(), 0u64);
        let bytes = |blocks: u64| blocks.saturating_mul(self.sb.block);
        for extent in self.extents(inode, fork)? {
            if extent.from > end {
                crate::node::push_piece(&mut out, None, bytes(extent.from - end));
            }
            crate::node::push_piece(&mut out, extent.at, bytes(extent.count));
            end = extent.from + extent.count;
        }
        Ok(out)
    }

    /// Whose a block with a head of its own is, and whether it is whole; `sum` is where its checksum stands, `owner` where its owner.
    fn is_whole(&self, bytes: &[u8], sum: usize, (owner, number): (usize, u64)) -> bool {
        !self.sb.sums || is_right(bytes, sum) && be64(bytes, owner) == number
    }

    /// Names in an inode itself.
    fn short_names(&self, bytes: &[u8], found: &mut Vec<(u64, Name)>) -> Result<()> {
        let damaged = || Finding::new("xfs-directory", "an entry of a short directory is damaged");
        let (count, wide) = (usize::from(*bytes.first().ok_or_else(damaged)?), bytes.get(1).is_some_and(|count| *count > 0));
        let len = if wide { 8 } else { 4 };
        let mut at = 2 + len;
        for _ in 0..count {
            let name_len = usize::from(*bytes.get(at).ok_or_else(damaged)?);
            let behind = at + 3 + name_len + usize::from(self.sb.kinds);
            let name = bytes.get(at + 3..at + 3 + name_len).filter(|name| !name.is_empty()).ok_or_else(damaged)?;
            bytes.get(behind..behind + len).ok_or_else(damaged)?;
            found.push((number(bytes, behind, wide), Name::from_bytes(name)));
            at = behind + len;
        }
        Ok(())
    }

    /// Names in a block of a directory.
    fn names(&self, directory: &Inode, bytes: &[u8], found: &mut Vec<(u64, Name)>) -> Result<()> {
        let damaged =
            |what: &str| Finding::new("xfs-directory", format!("a block of the directory with inode {} is damaged: {what}", directory.number));
        let (is_alone, is_one_of_many) = match &bytes[..4] {
            b"XDB3" | b"XD2B" => (true, false),
            b"XDD3" | b"XD2D" => (false, true),
            _ => (false, false),
        };
        if !is_alone && !is_one_of_many {
            return Err(damaged("its mark"));
        }
        if !self.is_whole(bytes, 4, (40, directory.number)) {
            return Err(damaged("its checksum, or whose it is"));
        }
        let mut end = bytes.len();
        if is_alone {
            // Behind the names stands what finds them, and how much of it there is.
            let count = be32(bytes, bytes.len() - 8) as usize;
            end = count.checked_mul(8).and_then(|len| (bytes.len() - 8).checked_sub(len)).ok_or_else(|| damaged("the number of its entries"))?;
        }
        let mut at = if self.sb.sums { 64 } else { 16 };
        while at + 8 <= end {
            if be16(bytes, at) == 0xffff {
                let len = usize::from(be16(bytes, at + 2));
                if len < 8 || !len.is_multiple_of(8) {
                    return Err(damaged("the length of a free place"));
                }
                at += len;
                continue;
            }
            let name_len = usize::from(bytes.get(at + 8).copied().unwrap_or(0));
            let len = (8 + 1 + name_len + usize::from(self.sb.kinds) + 2).next_multiple_of(8);
            if name_len == 0 || at + len > end {
                return Err(damaged("the length of a name"));
            }
            let name = &bytes[at + 9..at + 9 + name_len];
            if name != b"." && name != b".." {
                found.push((be64(bytes, at), Name::from_bytes(name)));
            }
            at += len;
        }
        Ok(())
    }

    fn listed(&self, directory: &Inode, listing: &mut Listing, found: &mut Vec<(u64, Name)>) -> Result<()> {
        let fork = directory.content();
        if fork.form == LOCAL {
            let len = usize::try_from(directory.size()).unwrap_or(usize::MAX);
            return self.short_names(fork.bytes.get(..len).unwrap_or(fork.bytes), found);
        }
        if directory.size() > MOST_DIRECTORY && directory.size() <= NAMES_END {
            let text = format!("a folder of {} bytes is listed up to {MOST_DIRECTORY}; the names behind that are missing", directory.size());
            listing.findings.push(Finding::new("xfs-directory", text));
        }
        let size = directory.size().min(MOST_DIRECTORY).min(NAMES_END).min(self.volume.len()).next_multiple_of(self.sb.directory);
        let content = FileMap::new(size, self.pieces(directory, &fork)?, Form::Plain);
        if content.pieces().len() > 1 {
            self.volume.expect(content.pieces().iter().filter_map(|piece| Some((piece.at?, piece.len))));
        }
        let mut block = vec![0; self.sb.directory as usize];
        for at in (0..size).step_by(block.len()).filter(|at| content.hole(*at) == 0) {
            let read = content.read(&self.volume, at, &mut block).and_then(|_| self.names(directory, &block, found));
            listing.findings.extend(read.err());
        }
        Ok(())
    }

    fn map_of(&self, inode: &Inode) -> Result<FileMap> {
        if be16(&inode.bytes, 90) & REALTIME != 0 {
            return Err(Finding::new("xfs-realtime", "its content lies on a device of its own, which is not here"));
        }
        let fork = inode.content();
        if fork.form == LOCAL {
            let len = usize::try_from(inode.size()).unwrap_or(usize::MAX);
            return fork
                .bytes
                .get(..len)
                .map(|bytes| FileMap::held(bytes.to_vec()))
                .ok_or_else(|| Finding::new("xfs-inode", "it is longer than its inode"));
        }
        let map = FileMap::new(inode.size(), self.pieces(inode, &fork)?, Form::Plain);
        // What others share, and what the log may still move, must not be changed in place.
        Ok(if inode.further() & SHARED != 0 || self.log != Log::Done { map.bound() } else { map })
    }
}

impl Tree for Xfs {
    fn origin(&self) -> Origin<'_> {
        Origin::Files(&self.volume)
    }

    fn root(&self) -> Result<Node> {
        Ok(self.node_of(&self.inode(self.sb.root, &mut self.volume.near())?))
    }

    fn list(&self, directory: &Node) -> Listing {
        let (mut listing, mut found, mut near) = (Listing::default(), Vec::new(), self.volume.near());
        if directory.id == self.sb.root && self.log != Log::Done {
            let text = match self.log {
                Log::Unknown => "its log cannot be read, or lies on another drive: whether changes wait in it is not known",
                _ => "it was not put away: changes that wait in its log are not seen here; what was written last may be older, or not there",
            };
            listing.findings.push(Finding::new("xfs-log", text));
        }
        let read = self.inode(directory.id, &mut near).and_then(|inode| self.listed(&inode, &mut listing, &mut found));
        listing.findings.extend(read.err());
        self.volume.expect(found.iter().filter_map(|(number, _)| Some((self.place(*number)?, self.sb.inode))));
        listing.add(found, |number, name| {
            let inode = self.inode(number, &mut near)?;
            match be16(&inode.bytes, 2) {
                0 => Err(Finding::new("xfs-dangling", format!("{} names inode {number}, which is not in use", name.shown))),
                _ => Ok(self.node_of(&inode)),
            }
        });
        listing
    }

    fn open(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        if !stream.is_empty() {
            return Err(Finding::new("no-stream", "this format has no further streams"));
        }
        Ok(self.map_of(&self.lone(file)?)?.on(&self.volume))
    }

    fn attributes(&self, node: &Node) -> Result<Vec<(String, Vec<u8>)>> {
        self.attributes_of(&self.lone(node)?)
    }

    fn link(&self, link: &Node) -> Result<Name> {
        let inode = self.lone(link)?;
        let fork = inode.content();
        let size = inode.size().min(1024) as usize;
        if fork.form == LOCAL || !self.sb.sums {
            let mut bytes = vec![0; size];
            let count = self.map_of(&inode)?.read(&self.volume, 0, &mut bytes)?;
            return Ok(Name::from_bytes(&bytes[..count]));
        }
        // Each extent has a head that says how much of the name it holds; no name needs more than a few blocks.
        let mut out = Vec::new();
        for extent in self.extents(&inode, &fork)? {
            let len = extent.count.saturating_mul(self.sb.block).min(MOST_LINK);
            let bytes = self.volume.read(extent.at.unwrap_or(u64::MAX), len as usize)?;
            let len = be32(&bytes, 8) as usize;
            let part =
                bytes.get(56..56 + len.min(size)).filter(|_| len > 0 && &bytes[..4] == b"XSLM" && self.is_whole(&bytes, 12, (32, inode.number)));
            out.extend(part.ok_or_else(|| Finding::new("xfs-link", "where the link leads is damaged"))?);
            if out.len() >= size {
                out.truncate(size);
                return Ok(Name::from_bytes(&out));
            }
        }
        Err(Finding::new("xfs-link", "where the link leads is cut off"))
    }

    fn is_case_sensitive(&self) -> bool {
        true
    }

    fn resolution(&self) -> Resolution {
        Resolution { modified: 1, accessed: 1, created: 1 }
    }

    fn most_entries(&self) -> u64 {
        self.volume.most_entries()
    }
}
