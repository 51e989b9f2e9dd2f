//! FAT12, FAT16 and FAT32, following Microsoft's "FAT: General Overview of On-Disk Format" and the long-name
//! specification that goes with it.

mod add;
mod boot;
pub mod make;
mod resize;
mod survey;

use crate::cached::Cached;
use crate::content::{Content, FileMap, Form};
use crate::finding::{Finding, Result};
use crate::node::{
    Entry, Listing, Name, Node, NodeKind, Piece, Place, Resolution, Time, Turn, cut_pieces, first_repeated, packed_seconds, push_piece,
};
use crate::resize::{Bounds, View, Wanted};
use crate::survey::Survey;
use crate::tree::{Origin, Tree, Volume};
use badger_drive::field::{le16, le32};
use boot::Boot;
pub(crate) use boot::FORMAT;
use oem_cp::code_table::DECODING_TABLE_CP437;

/// A directory has at most this many bytes: 65,536 entries.
const MOST_DIRECTORY: u64 = 2 << 20;

/// A directory with more names than these that none may have is something else: any bytes look like entries. Long names that fit
/// no short one do not count: a tool that knew nothing of them may have left a whole directory so.
const MOST_STRANGE: usize = 200;

/// An open volume.
pub struct Fat {
    volume: Cached,
    bits: u32,
    cluster: u64,
    table: u64,
    /// Bytes of one table, and how many of them there are.
    table_len: u64,
    copies: u64,
    /// The table that counts, and whether the others follow it.
    active: u64,
    mirrored: bool,
    /// Bytes the boot sector says the volume has, and whether it says that a system still writes to it.
    said: u64,
    dirty: bool,
    /// Sectors in front that hold counts and a copy of the boot sector; 0 where there are none.
    info: u64,
    backup: u64,
    sector: u64,
    /// Where the root directory of FAT12 and FAT16 lies: start and length.
    root: (u64, u64),
    root_cluster: u32,
    data: u64,
    clusters: u32,
}

impl Fat {
    /// Opens a volume.
    ///
    /// # Errors
    /// A finding where the boot sector is none or contradicts itself.
    pub fn open(volume: Cached) -> Result<Self> {
        let boot = volume.read(0, 512)?;
        let wrong = |what: &str| Finding::new("fat-boot-sector", format!("the boot sector is damaged: {what}"));
        let told = Boot::read(&boot).map_err(wrong)?;
        let clusters = told.clusters.min(0x0fff_fff5) as u32;
        if told.reserved == 0 || told.copies == 0 || told.table_len * told.sector * 8 / u64::from(told.bits) < u64::from(clusters) {
            return Err(wrong("its tables are too short"));
        }
        // With mirroring off only one table counts: the lower four bits say which.
        let flags = if told.bits == 32 { le16(&boot, 40) } else { 0 };
        let mirrored = flags & 0x80 == 0;
        let active = if mirrored { 0 } else { u64::from(flags & 15) };
        if active >= told.copies {
            return Err(wrong("it names a table that there is not"));
        }
        Ok(Self {
            active,
            mirrored,
            said: told.total.saturating_mul(told.sector),
            dirty: told.dirty,
            bits: told.bits,
            cluster: told.per_cluster * told.sector,
            table: told.reserved * told.sector,
            table_len: told.table_len * told.sector,
            copies: told.copies,
            info: told.info,
            backup: told.backup,
            sector: told.sector,
            root: (told.root_start * told.sector, told.root_len * told.sector),
            root_cluster: le32(&boot, 44),
            data: told.data * told.sector,
            clusters,
            volume,
        })
    }

    /// What the table says of a cluster: the next one, or `None` at the end of a chain.
    fn next(&self, cluster: u32) -> Result<Option<u32>> {
        let bad = |value: u32| Finding::new("fat-chain", format!("cluster {cluster} leads to {value}, which is no cluster of a file"));
        let at = self.table + self.active * self.table_len + u64::from(cluster) * u64::from(self.bits) / 8;
        let mut bytes = [0u8; 4];
        let entry = &mut bytes[..if self.bits == 32 { 4 } else { 2 }];
        // Where the first table cannot be read, the second says the same.
        self.volume.read_into(at, entry).or_else(|finding| match self.copies {
            2.. if self.mirrored => self.volume.read_into(at + self.table_len, entry),
            _ => Err(finding),
        })?;
        let raw = le32(&bytes, 0);
        let (value, end) = match self.bits {
            12 if cluster.is_multiple_of(2) => (raw & 0xfff, 0xff8),
            12 => (raw >> 4 & 0xfff, 0xff8),
            16 => (raw & 0xffff, 0xfff8),
            _ => (raw & 0x0fff_ffff, 0x0fff_fff8),
        };
        match value {
            value if value >= end => Ok(None),
            value if (2..self.clusters + 2).contains(&value) => Ok(Some(value)),
            value => Err(bad(value)),
        }
    }

    /// The chain from a cluster on as pieces, `most` bytes at the most.
    fn chain(&self, first: u32, most: u64) -> Result<Vec<Piece>> {
        match self.chain_up_to(first, most) {
            (pieces, None) => Ok(pieces),
            (_, Some(finding)) => Err(finding),
        }
    }

    /// The same as far as it is sound, and what is wrong behind that.
    fn chain_up_to(&self, first: u32, most: u64) -> (Vec<Piece>, Option<Finding>) {
        let mut pieces: Vec<Piece> = Vec::new();
        let (mut next, mut len, mut turn) = (Some(first), 0, Turn::default());
        let wrong = loop {
            let Some(cluster) = next.filter(|_| len < most) else { break None };
            if !(2..self.clusters + 2).contains(&cluster) {
                break Some(Finding::new("fat-chain", format!("a chain starts at cluster {cluster}, which there is none of")));
            }
            if turn.comes_back(cluster) {
                break Some(self.loops(first));
            }
            let at = self.data + u64::from(cluster - 2) * self.cluster;
            push_piece(&mut pieces, Some(at), self.cluster);
            len += self.cluster;
            next = match if len < most { self.next(cluster) } else { Ok(None) } {
                Ok(next) => next,
                Err(finding) => break Some(finding),
            };
        };
        // A circle may be longer than the file is.
        match first_repeated(&pieces) {
            Some(at) => (cut_pieces(pieces, at), Some(self.loops(first))),
            None => (pieces, wrong),
        }
    }

    fn loops(&self, first: u32) -> Finding {
        Finding::new("fat-chain-loop", format!("the chain from cluster {first} comes back to itself"))
    }

    fn directory_pieces(&self, directory: &Node) -> Result<Vec<Piece>> {
        match (directory.id, self.bits) {
            (0, 12 | 16) => Ok(vec![Piece { at: Some(self.root.0), len: self.root.1 }]),
            _ => self.chain(directory.place.first, MOST_DIRECTORY),
        }
    }

    /// The first cluster of what an entry names.
    fn first_cluster(&self, entry: &[u8]) -> u32 {
        let high = if self.bits == 32 { u32::from(le16(entry, 20)) << 16 } else { 0 };
        high | u32::from(le16(entry, 26))
    }
}

/// A date and time as the format packs them; `None` where no date is set. `tenths` counts hundredths of a second.
fn time(date: u16, time: u16, tenths: u8) -> Option<Time> {
    let seconds = packed_seconds(date, time)?;
    Some(Time { seconds: seconds + i64::from(tenths / 100), nanos: u32::from(tenths % 100) * 10_000_000 })
}

/// A short name with its dot; `case` says which parts are shown in lower case.
fn short_name(entry: &[u8]) -> String {
    let part = |bytes: &[u8], lower: bool| {
        let text: String = bytes
            .iter()
            .map(|byte| match byte {
                0..0x80 => *byte as char,
                // Where nothing else is said, short names are written in code page 437.
                _ => DECODING_TABLE_CP437[usize::from(byte & 0x7f)],
            })
            .collect();
        let text = text.trim_end_matches(' ');
        if lower { text.to_lowercase() } else { text.to_string() }
    };
    let mut base = entry[..8].to_vec();
    // This byte would mark the entry as deleted and is written as 5.
    if base[0] == 5 {
        base[0] = 0xe5;
    }
    let (base, end) = (part(&base, entry[12] & 8 != 0), part(&entry[8..11], entry[12] & 16 != 0));
    if end.is_empty() { base } else { format!("{base}.{end}") }
}

fn checksum(short: &[u8]) -> u8 {
    short[..11].iter().fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte))
}

/// The pieces of a long name as they come, last piece first.
#[derive(Default)]
struct LongName {
    units: Vec<u16>,
    sum: u8,
    expected: u8,
}

impl LongName {
    /// Takes one piece; false where it belongs to no name, cuts another one short, or holds what it must not.
    fn take(&mut self, entry: &[u8]) -> bool {
        let order = entry[0];
        let begins = order & 0x40 != 0;
        // A name that was not finished is lost.
        let mut right = self.units.is_empty() || !begins && self.expected > 0;
        if begins {
            *self = Self { units: Vec::new(), sum: entry[13], expected: order & 0x1f };
            right &= order & 0x20 == 0 && (1..=20).contains(&self.expected);
        } else if self.units.is_empty() || order != self.expected || entry[13] != self.sum {
            *self = Self::default();
            return false;
        }
        let mut piece: Vec<u16> = [1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30].iter().map(|at| le16(entry, *at)).collect();
        piece.append(&mut self.units);
        self.units = piece;
        self.expected = self.expected.saturating_sub(1);
        // Some go by the four bits, some by the whole byte.
        right && entry[11] == 0x0f && entry[12] == 0 && le16(entry, 26) == 0
    }

    /// The whole name, if it belongs to this short entry, and whether nothing of one is left over.
    fn finish(&mut self, short: &[u8]) -> (Option<String>, bool) {
        let whole = std::mem::take(self);
        let end = whole.units.iter().position(|unit| *unit == 0).unwrap_or(whole.units.len());
        let name = (end > 0 && whole.expected == 0 && whole.sum == checksum(short)).then(|| String::from_utf16_lossy(&whole.units[..end]));
        let right = name.is_some() || whole.units.is_empty();
        (name, right)
    }
}

impl Fat {
    /// What an entry of a directory says, which stands at a byte of the volume.
    fn node_of(&self, entry: &[u8], at: u64) -> Node {
        let attributes = entry[11];
        let kind = if attributes & 16 != 0 { NodeKind::Directory } else { NodeKind::File };
        Node {
            id: at,
            kind,
            size: if kind == NodeKind::File { u64::from(le32(entry, 28)) } else { 0 },
            modified: time(le16(entry, 24), le16(entry, 22), 0),
            accessed: time(le16(entry, 18), 0, 0),
            created: time(le16(entry, 16), le16(entry, 14), entry[13]),
            mode: None,
            owner: None,
            links: 1,
            attributes: u32::from(attributes & 0x27),
            what: None,
            place: Place { first: self.first_cluster(entry), ..Place::default() },
            path: None,
        }
    }

    fn map_of(&self, file: &Node, stream: &str) -> Result<FileMap> {
        if !stream.is_empty() {
            return Err(Finding::new("no-stream", "this format has no further streams"));
        }
        if file.size == 0 || file.id == 0 {
            return Ok(FileMap::held(Vec::new()));
        }
        let (mut pieces, wrong) = self.chain_up_to(file.place.first, file.size);
        let held: u64 = pieces.iter().map(|piece| piece.len).sum();
        if held < file.size {
            let short = || Finding::new("fat-chain-short", format!("the chain ends after {held} of {} bytes", file.size));
            return Ok(FileMap::new(file.size, pieces, Form::Plain).torn(held, wrong.unwrap_or_else(short)));
        }
        if let Some(last) = pieces.last_mut() {
            last.len -= held - file.size;
        }
        Ok(FileMap::new(file.size, pieces, Form::Plain))
    }
}

impl Tree for Fat {
    fn root(&self) -> Result<Node> {
        let place = Place { first: self.root_cluster, ..Place::default() };
        Ok(Node { place, ..Node::plain(NodeKind::Directory, 0, None) })
    }

    fn list(&self, directory: &Node) -> Listing {
        let mut listing = Listing::default();
        let pieces = match self.directory_pieces(directory) {
            Ok(pieces) => pieces,
            Err(finding) => return finding.into(),
        };
        if pieces.len() > 1 {
            self.volume.expect(pieces.iter().filter_map(|piece| Some((piece.at?, piece.len))));
        }
        let (mut long, mut strange) = (LongName::default(), 0);
        for piece in pieces {
            let start = piece.at.unwrap_or(0);
            let bytes = match self.volume.read(start, piece.len as usize) {
                Ok(bytes) => bytes,
                Err(finding) => {
                    listing.findings.push(finding);
                    continue;
                }
            };
            for (entry, at) in bytes.chunks_exact(32).zip((start..).step_by(32)) {
                if strange > MOST_STRANGE {
                    let text = format!("what stands at byte {at} of the volume is no directory any more: the rest of it is not read");
                    listing.findings.push(Finding::grave("fat-no-directory", text).at(at));
                    return listing;
                }
                let lost = || Finding::new("fat-long-name", format!("a long name that ends at byte {at} of the volume is damaged")).at(at);
                match (entry[0], entry[11]) {
                    (first, attributes) if first != 0 && first != 0xe5 && attributes & 0x3f == 0x0f => {
                        if !long.take(entry) {
                            listing.findings.push(lost());
                        }
                    }
                    (first, attributes) if matches!(first, 0 | 0xe5 | b'.') || attributes & 8 != 0 => {
                        // Nothing that a long name could belong to.
                        if !std::mem::take(&mut long).units.is_empty() {
                            listing.findings.push(lost());
                        }
                        if entry[0] == 0 {
                            return listing;
                        }
                    }
                    (_, attributes) => {
                        if attributes & 16 != 0 && le32(entry, 28) != 0 {
                            let text = format!("the folder whose entry stands at byte {at} of the volume has a size, which none has");
                            listing.findings.push(Finding::new("fat-directory-size", text).at(at));
                        }
                        let (name, whole) = long.finish(entry);
                        if !whole {
                            listing.findings.push(lost());
                        }
                        // The first letter may be 5, which stands for another one.
                        let is_none =
                            |(place, byte): (usize, &u8)| (*byte < 0x20 && (place, *byte) != (0, 5)) || *byte == 0x7f || b"*?<>|:/\\".contains(byte);
                        if entry[..11].iter().enumerate().any(is_none) || entry[0] == b' ' {
                            strange += 1;
                            let text = format!("the short name at byte {at} of the volume has letters that none may have");
                            listing.findings.push(Finding::new("fat-name", text).at(at));
                        }
                        let name = name.unwrap_or_else(|| short_name(entry));
                        listing.entries.push(Entry { name: Name::from_bytes(name.as_bytes()), node: self.node_of(entry, at) });
                    }
                }
            }
        }
        listing
    }

    fn open(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        Ok(self.map_of(file, stream)?.on(&self.volume))
    }

    fn resolution(&self) -> Resolution {
        Resolution { modified: 2_000_000_000, accessed: 86_400_000_000_000, created: 10_000_000 }
    }

    fn origin(&self) -> Origin<'_> {
        Origin::Volume(self)
    }

    fn most_entries(&self) -> u64 {
        // Each takes 32 bytes; a directory that is something else must not end it all, however small the volume.
        self.volume.len() / 32 + MOST_DIRECTORY / 32
    }
}

impl Volume for Fat {
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

    fn added(&self, files: &[(&str, &[u8])]) -> Result<Vec<(u64, Vec<u8>)>> {
        self.with_files(files)
    }

    fn survey(&self) -> Survey {
        self.go_over().within(self.volume.len())
    }
}
