//! Walking an NTFS volume: the master file table in pieces, attribute lists, directories by their index blocks,
//! resident, sparse and compressed data, files compressed by the system, named streams, reparse points. Where an index
//! is damaged the names are taken from the file records themselves.

use super::{attribute, fix, fixed, geometry, reparse, resident, runs};
use crate::cached::{Cached, Near};
use crate::content::{Chunks, Content, FileMap, Form};
use crate::finding::{Finding, Result};
use crate::node::{Listing, Name, Node, NodeKind, Piece, Place, Resolution, Stream, Time, push_piece};
use crate::resize::{Bounds, View, Wanted};
use crate::survey::Survey;
use crate::tree::{Origin, Tree, Volume};
use crate::unpack::Packing;
use badger_drive::field::{le16, le32, le64};
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::OnceLock;

pub(super) const ROOT: u64 = 5;
const UPCASE: u64 = 10;
/// Records below this are the file system's own.
pub(super) const FIRST_USER: u64 = 24;
/// Attribute types.
const STANDARD: u32 = 0x10;
pub(super) const LIST: u32 = 0x20;
pub(super) const NAME: u32 = 0x30;
pub(super) const DATA: u32 = 0x80;
pub(super) const INDEX_ROOT: u32 = 0x90;
pub(super) const INDEX_BLOCKS: u32 = 0xa0;
pub(super) const BITMAP: u32 = 0xb0;
const REPARSE: u32 = 0xc0;
/// A file of more attribute records than this does not exist.
const MOST_RECORDS: usize = 4096;
/// A directory is not read further than this.
pub(super) const MOST_DIRECTORY: u64 = 1 << 30;
/// Bits of a reference that number the record; the rest counts how often the record was used.
pub(super) const NUMBER: u64 = 0xffff_ffff_ffff;

/// An open volume.
pub struct Ntfs {
    volume: Cached,
    pub(super) cluster: u64,
    pub(super) clusters: u64,
    pub(super) record: usize,
    pub(super) table: FileMap,
    /// Where the copy of the first records lies, in clusters, and whether it had to be used.
    pub(super) mirror: (u64, bool),
    upper: OnceLock<Vec<u16>>,
    /// Directory to the records that name it as theirs; made when an index is found damaged.
    swept: OnceLock<HashMap<u64, Vec<u64>>>,
}

/// An opened stream, and whether only its owner's system can read it.
struct Opened {
    content: FileMap,
    encrypted: bool,
}

/// One attribute: its type, its name and its own bytes.
pub(super) struct Attribute {
    pub code: u32,
    pub name: Vec<u16>,
    pub bytes: Vec<u8>,
}

/// The value of the first attribute of a kind, where it is resident.
fn resident_in(attributes: &[Attribute], code: u32) -> Option<&[u8]> {
    attributes.iter().find(|one| one.code == code).and_then(|one| resident(&one.bytes))
}

fn name_is(attribute: &Attribute, name: &str) -> bool {
    attribute.name.iter().copied().eq(name.encode_utf16())
}

fn time(ticks: u64) -> Option<Time> {
    let (seconds, rest) = (ticks / 10_000_000, ticks % 10_000_000);
    (ticks != 0).then(|| Time { seconds: seconds as i64 - 11_644_473_600, nanos: rest as u32 * 100 })
}

/// When it was made, changed and read, and its flags.
fn times_and_flags(standard: Option<&[u8]>) -> ([Option<Time>; 3], u32) {
    let standard = standard.unwrap_or_default();
    ([0, 8, 24].map(|at| time(le64(standard, at))), le32(standard, 32))
}

/// Bytes that the first part of an attribute says its stream has.
fn stream_size(attribute: &[u8]) -> u64 {
    resident(attribute).map_or_else(|| le64(attribute, 48), |bytes| bytes.len() as u64)
}

/// Bytes of the content of a file that has all its attributes in one record.
fn content_size(record: &[u8]) -> u64 {
    super::attributes(record).find(|(code, bytes)| *code == DATA && bytes[9] == 0).map_or(0, |(_, bytes)| stream_size(bytes))
}

fn broken(number: u64, what: &str) -> Finding {
    Finding::new("ntfs-record", format!("record {number}: {what}"))
}

impl Ntfs {
    /// Opens a volume.
    ///
    /// # Errors
    /// A finding where the boot sector or the first record of the table is broken beyond use.
    pub fn open(volume: Cached) -> Result<Self> {
        let boot = volume.read(0, 512)?;
        let geometry = geometry(&boot).ok_or_else(|| Finding::new("ntfs-boot-sector", "the boot sector contradicts itself"))?;
        let mirror = le64(&boot, 56);
        let first = 16 * geometry.record as u64;
        let length = volume.len();
        let mut fs = Self {
            volume,
            cluster: geometry.cluster,
            clusters: geometry.clusters.min(length / geometry.cluster + 1),
            record: geometry.record,
            table: FileMap::held(Vec::new()),
            mirror: (mirror, false),
            upper: OnceLock::new(),
            swept: OnceLock::new(),
        };
        // The first records lie in one piece; with them the rest of the table is found. The mirror has them too.
        for (start, mirrored) in [(geometry.mft, false), (mirror, true)] {
            let Some(at) = start.checked_mul(fs.cluster) else { continue };
            fs.table = FileMap::new(first, vec![Piece { at: Some(at), len: first }], Form::Plain);
            if let Ok(opened) = fs.stream(0, DATA, "")
                && !opened.content.pieces().is_empty()
            {
                fs.table = opened.content.cut(length);
                fs.mirror.1 = mirrored;
                return Ok(fs);
            }
        }
        Err(Finding::new("ntfs-table", "the first record of the master file table is damaged, in its mirror as well"))
    }

    /// A record with its update sequence undone; the first ones also from their mirror.
    pub(super) fn raw_record(&self, number: u64) -> Result<Vec<u8>> {
        self.table_record(number).or_else(|finding| self.mirrored(number).ok_or(finding))
    }

    fn mirrored(&self, number: u64) -> Option<Vec<u8>> {
        let at = self.mirror.0.checked_mul(self.cluster)?.checked_add(number * self.record as u64)?;
        (number < 4).then(|| fixed(self.volume.read(at, self.record).ok()?, b"FILE")).flatten()
    }

    fn table_record(&self, number: u64) -> Result<Vec<u8>> {
        let mut bytes = vec![0; self.record];
        let at = number.checked_mul(self.record as u64).ok_or_else(|| broken(number, "there is none of that number"))?;
        match self.table.read(&self.volume, at, &mut bytes)? {
            0 => Err(broken(number, "there is none of that number")),
            count => fixed(bytes, b"FILE").filter(|_| count == self.record).ok_or_else(|| broken(number, "it is torn or overwritten")),
        }
    }

    /// Upper case of a unit by the volume's own table, by the plainest rule where that is damaged.
    pub(super) fn upper(&self, unit: u16) -> u16 {
        let table = self.upper.get_or_init(|| {
            let read = || -> Result<Vec<u16>> {
                let content = self.stream(UPCASE, DATA, "")?.content;
                let mut bytes = vec![0; 128 << 10];
                let count = content.read(&self.volume, 0, &mut bytes)?;
                Ok(bytes[..count].chunks_exact(2).map(|unit| le16(unit, 0)).collect())
            };
            read().unwrap_or_default()
        });
        match table.get(usize::from(unit)) {
            Some(upper) => *upper,
            None if unit < 128 => u16::from((unit as u8).to_ascii_uppercase()),
            None => unit,
        }
    }

    pub(super) fn attributes_in(record: &[u8], out: &mut Vec<Attribute>) {
        out.extend(super::attributes(record).map(|(code, bytes)| {
            let (name_len, name_at) = (usize::from(bytes[9]), usize::from(le16(bytes, 10)));
            let name = (0..name_len).map(|unit| le16(bytes, name_at + unit * 2)).collect();
            Attribute { code, name, bytes: bytes.to_vec() }
        }));
    }

    /// The list of attributes in a file's first record, where it has more than one.
    pub(super) fn list_of(&self, base: &[u8]) -> Result<Option<Vec<u8>>> {
        let Some(list) = attribute(base, LIST) else { return Ok(None) };
        if let Some(bytes) = resident(list) {
            return Ok(Some(bytes.to_vec()));
        }
        let size = le64(list, 48).min(1 << 20);
        let mut bytes = vec![0; size as usize];
        let count = FileMap::new(size, self.pieces_of(list)?, Form::Plain).read(&self.volume, 0, &mut bytes)?;
        bytes.truncate(count);
        Ok(Some(bytes))
    }

    /// Numbers of a file's further records, by the list in its first one.
    pub(super) fn further_records(&self, number: u64, base: &[u8]) -> Result<BTreeSet<u64>> {
        let Some(list) = self.list_of(base)? else { return Ok(BTreeSet::new()) };
        let (mut at, mut others) = (0, BTreeSet::new());
        while at + 26 <= list.len() && others.len() < MOST_RECORDS {
            let len = usize::from(le16(&list, at + 4));
            let record = le64(&list, at + 16) & 0xffff_ffff_ffff;
            if record != number {
                others.insert(record);
            }
            if len < 26 {
                break;
            }
            at += len;
        }
        Ok(others)
    }

    /// All attributes of a file, those in its extension records too.
    pub(super) fn all_attributes(&self, number: u64) -> Result<(Vec<u8>, Vec<Attribute>)> {
        let base = self.raw_record(number)?;
        let mut out = Vec::new();
        Self::attributes_in(&base, &mut out);
        for other in self.further_records(number, &base)? {
            // An extension that cannot be read costs only what it holds; one that belongs elsewhere is not taken.
            if let Ok(record) = self.raw_record(other)
                && le64(&record, 32) & 0xffff_ffff_ffff == number
            {
                Self::attributes_in(&record, &mut out);
            }
        }
        Ok((base, out))
    }

    /// The run list of one attribute as pieces.
    fn pieces_of(&self, attribute: &[u8]) -> Result<Vec<Piece>> {
        let mut pieces = Vec::new();
        for (first, count) in runs(attribute) {
            let lies = || Finding::new("ntfs-runs", "a run list leads out of the volume");
            let len = count.checked_mul(self.cluster).ok_or_else(lies)?;
            let at = first.map(|first| first.checked_mul(self.cluster).filter(|at| at.checked_add(len).is_some_and(|end| end <= self.volume.len())));
            match at {
                Some(None) => return Err(lies()),
                Some(Some(at)) => push_piece(&mut pieces, Some(at), len),
                None => push_piece(&mut pieces, None, len),
            }
        }
        Ok(pieces)
    }

    fn stream(&self, number: u64, code: u32, name: &str) -> Result<Opened> {
        let (_, attributes) = self.all_attributes(number)?;
        self.stream_in(number, &attributes, code, name)
    }

    fn stream_in(&self, number: u64, attributes: &[Attribute], code: u32, name: &str) -> Result<Opened> {
        let mut parts: Vec<&Attribute> = attributes.iter().filter(|attribute| attribute.code == code && name_is(attribute, name)).collect();
        parts.sort_by_key(|part| if part.bytes[8] == 0 { 0 } else { le64(&part.bytes, 16) });
        let first = parts.first().ok_or_else(|| Finding::new("ntfs-no-stream", format!("record {number} has no such stream")))?;
        if let Some(bytes) = resident(&first.bytes) {
            return Ok(Opened { content: FileMap::held(bytes.to_vec()), encrypted: false });
        }
        let flags = le16(&first.bytes, 12);
        let (size, written) = (le64(&first.bytes, 48), le64(&first.bytes, 56));
        let unit = u32::from(le16(&first.bytes, 34));
        let mut pieces = Vec::new();
        let mut next = 0;
        for part in &parts {
            if part.bytes[8] == 0 || le64(&part.bytes, 16) != next {
                return Err(broken(number, "a part of its run list is missing"));
            }
            for piece in self.pieces_of(&part.bytes)? {
                next += piece.len / self.cluster;
                push_piece(&mut pieces, piece.at, piece.len);
            }
        }
        let encrypted = flags & 0x4000 != 0;
        // What a list does not reach although it was written is not known.
        let reach: u64 = pieces.iter().map(|piece| piece.len).sum();
        let torn = (reach < written.min(size)).then(|| {
            Finding::new("ntfs-runs", format!("record {number}: its run list ends after {reach} of {size} bytes, what stands behind is not known"))
        });
        let torn = |map: FileMap| match torn {
            Some(why) => map.torn(reach, why),
            None => map,
        };
        if flags & 1 != 0 && (1..=8).contains(&unit) {
            return Ok(Opened { content: torn(FileMap::new(size, pieces, Form::Units(self.cluster << unit))), encrypted });
        }
        // What was set aside but never written reads as zero.
        let (mut clipped, mut at) = (Vec::new(), 0);
        for piece in pieces {
            let len = piece.len.min(written.min(size).saturating_sub(at));
            if len > 0 {
                push_piece(&mut clipped, piece.at, len);
            }
            at += piece.len;
        }
        let held: u64 = clipped.iter().map(|piece| piece.len).sum();
        if held < size {
            push_piece(&mut clipped, None, size - held);
        }
        Ok(Opened { content: torn(FileMap::new(size, clipped, Form::Plain)), encrypted })
    }

    /// Opens a stream for reading by name.
    pub(super) fn content(&self, number: u64, code: u32, name: &str) -> Result<FileMap> {
        Ok(self.stream(number, code, name)?.content)
    }

    /// A file that its system compressed: chunks in a stream of its own, behind a table of their places.
    fn compressed(&self, number: u64, attributes: &[Attribute], reparse: &[u8]) -> Result<FileMap> {
        let damaged = |what: &str| Finding::new("ntfs-system-compressed", format!("record {number} was compressed by its system: {what}"));
        // Version 1 of the outer part, provider 2 for files, then version 1 and the algorithm.
        if le32(reparse, 8) != 1 || le32(reparse, 12) != 2 || le32(reparse, 16) != 1 {
            return Err(damaged("it is kept in another place or by a later version"));
        }
        let (packing, unit) = match le32(reparse, 20) {
            0 => (Packing::Xpress, 4u64 << 10),
            1 => (Packing::Lzx, 32 << 10),
            2 => (Packing::Xpress, 8 << 10),
            3 => (Packing::Xpress, 16 << 10),
            _ => return Err(damaged("its method is not known")),
        };
        let size = self.stream_in(number, attributes, DATA, "")?.content.size();
        let packed = self.stream_in(number, attributes, DATA, COMPRESSED)?.content;
        let count = size.div_ceil(unit);
        let width = if size > u64::from(u32::MAX) { 8 } else { 4 };
        let table = count.saturating_sub(1).saturating_mul(width);
        if table > packed.size() || count > 1 << 27 {
            return Err(damaged("its table is longer than it is itself"));
        }
        let mut bytes = vec![0; table as usize];
        packed.read(&self.volume, 0, &mut bytes)?;
        let place = |entry: &[u8]| table.saturating_add(if width == 8 { le64(entry, 0) } else { u64::from(le32(entry, 0)) });
        let starts = std::iter::once(table).chain(bytes.chunks_exact(width as usize).map(place)).chain([packed.size()]).collect();
        Ok(packed.into_chunks(size, Chunks { packing, unit, starts }))
    }

    fn node(&self, number: u64) -> Result<Node> {
        self.node_of(number, &self.raw_record(number)?, 0, &mut |_| {})
    }

    /// A record as [`Ntfs::raw_record`] gives it, read with those beside it into a buffer that holds one.
    fn record_near(&self, number: u64, near: &mut Near, into: &mut Vec<u8>) -> Result<()> {
        let len = self.record as u64;
        let place = |at: u64| self.table.place(at);
        into.resize(self.record, 0);
        if let Some(at) = number.checked_mul(len)
            && let Some(first) = place(at)
            && place(at + len - 1) == Some(first + len - 1)
            && near.read_into(first, into).is_ok()
            && fix(into, b"FILE")
        {
            return Ok(());
        }
        *into = self.raw_record(number)?;
        Ok(())
    }

    /// What a record names, if it is still the one that was meant: its use is counted, 0 stands for any.
    fn node_of(&self, number: u64, base: &[u8], sequence: u16, refused: &mut dyn FnMut(&'static str)) -> Result<Node> {
        if let Some(what) = super::record::record_fault(base) {
            refused(what);
        }
        if sequence != 0 && le16(base, 16) != sequence {
            return Err(broken(number, "it is another file by now"));
        }
        if le16(base, 22) & 1 == 0 {
            return Err(broken(number, "it is not in use"));
        }
        let directory = le16(base, 22) & 2 != 0;
        // Most files have all they have in one record, which needs no copying.
        let (standard, meaning, size) = if attribute(base, LIST).is_none() {
            let of = |code: u32| attribute(base, code).and_then(resident);
            let size = if directory { 0 } else { content_size(base) };
            (times_and_flags(of(STANDARD)), of(REPARSE).map(reparse::meaning), size)
        } else {
            let (_, attributes) = self.all_attributes(number)?;
            let of = |code: u32| resident_in(&attributes, code);
            let size = if directory { 0 } else { self.size_in(&attributes) };
            (times_and_flags(of(STANDARD)), of(REPARSE).map(reparse::meaning), size)
        };
        let ([created, modified, accessed], flags) = standard;
        let plain = if directory { NodeKind::Directory } else { NodeKind::File };
        let mut kind = meaning.as_ref().and_then(|meaning| meaning.kind).unwrap_or(plain);
        // A link or a folder says what it is by its kind.
        let mut what = meaning.filter(|_| kind == NodeKind::File || kind == NodeKind::Other).map(|meaning| meaning.what);
        if flags & 0x4000 != 0 && kind == NodeKind::File {
            what = Some("encrypted".into());
        }
        // Unix services keep links and devices as small system files that begin with a mark.
        if kind == NodeKind::File && flags & 4 != 0 && (9..4096).contains(&size) {
            let mut mark = [0; 8];
            if let Ok(opened) = self.stream(number, DATA, "") {
                opened.content.read(&self.volume, 0, &mut mark)?;
            }
            (kind, what) = match &mark {
                b"IntxLNK\x01" => (NodeKind::Link, None),
                b"IntxCHR\0" | b"IntxBLK\0" => (NodeKind::Other, Some("device".into())),
                _ => (kind, what),
            };
        }
        Ok(Node {
            id: number,
            kind,
            size,
            modified,
            accessed,
            created,
            mode: None,
            owner: None,
            links: u32::from(le16(base, 18)),
            attributes: flags & 0x27,
            what,
            place: Place::default(),
            path: None,
        })
    }

    /// Bytes of a file's content, out of its first part.
    fn size_in(&self, attributes: &[Attribute]) -> u64 {
        let first = |attribute: &&Attribute| {
            attribute.code == DATA && attribute.name.is_empty() && (attribute.bytes[8] == 0 || le64(&attribute.bytes, 16) == 0)
        };
        attributes.iter().find(first).map_or(0, |attribute| stream_size(&attribute.bytes))
    }

    /// Reads every record once and notes which directory it names as its own.
    fn sweep(&self) -> &HashMap<u64, Vec<u64>> {
        self.swept.get_or_init(|| {
            let mut found: HashMap<u64, Vec<u64>> = HashMap::new();
            self.each_record(|number, record| {
                let Some(record) = record.filter(|record| le16(record, 22) & 1 != 0) else { return };
                let mut attributes = Vec::new();
                Self::attributes_in(&record, &mut attributes);
                let names = attributes.iter().filter(|attribute| attribute.code == NAME).filter_map(|attribute| resident(&attribute.bytes));
                let parents: HashSet<u64> = names.map(|name| le64(name, 0) & NUMBER).collect();
                parents.into_iter().for_each(|parent| found.entry(parent).or_default().push(super::owner(number, &record)));
            });
            found
        })
    }

    /// Goes through the table from its start; `None` stands for a record that is none or torn.
    pub(super) fn each_record(&self, mut each: impl FnMut(u64, Option<Vec<u8>>)) {
        let step = (1 << 20) / self.record * self.record;
        let mut bytes = vec![0; step];
        let mut at = 0;
        while at < self.table.size() {
            let count = self.table.read_hard(&self.volume, at, &mut bytes, &mut Vec::new());
            if count == 0 {
                break;
            }
            for (record, number) in bytes[..count].chunks_exact(self.record).zip(at / self.record as u64..) {
                each(number, fixed(record.to_vec(), b"FILE").or_else(|| self.mirrored(number)));
            }
            at += count as u64;
        }
    }

    /// The names a record gives itself within a directory, without those of the DOS kind.
    fn names_within(&self, number: u64, directory: u64) -> Vec<Vec<u16>> {
        let Ok((_, attributes)) = self.all_attributes(number) else { return Vec::new() };
        let names = attributes.iter().filter(|attribute| attribute.code == NAME).filter_map(|attribute| resident(&attribute.bytes));
        let here = names.filter(|name| name.len() >= 66 && le64(name, 0) & NUMBER == directory && name[65] != 2);
        here.map(|name| (0..usize::from(name[64])).map(|unit| le16(name, 66 + unit * 2)).collect()).collect()
    }
}

/// The stream in which the system keeps what it compressed.
const COMPRESSED: &str = "WofCompressedData";

impl Ntfs {
    fn map_of(&self, file: &Node, stream: &str) -> Result<FileMap> {
        let (_, attributes) = self.all_attributes(file.id)?;
        let reparse = resident_in(&attributes, REPARSE).filter(|_| stream.is_empty());
        if let Some(reparse) = reparse.filter(|reparse| le32(reparse, 0) == reparse::COMPRESSED) {
            return self.compressed(file.id, &attributes, reparse);
        }
        let opened = self.stream_in(file.id, &attributes, DATA, stream)?;
        if opened.encrypted {
            return Err(Finding::new("ntfs-encrypted", "it is encrypted; only its owner's system can read it"));
        }
        if let Some(reparse) = reparse {
            let (_, flags) = times_and_flags(resident_in(&attributes, STANDARD));
            let has_holes = opened.content.pieces().iter().any(|piece| piece.at.is_none());
            if let Some(finding) = reparse::meaning(reparse).missing(has_holes, opened.content.size(), flags) {
                return Err(finding);
            }
        }
        Ok(opened.content)
    }

    fn stored_map_of(&self, file: &Node, stream: &str) -> Result<FileMap> {
        let (_, attributes) = self.all_attributes(file.id)?;
        Ok(self.stream_in(file.id, &attributes, DATA, stream)?.content)
    }
}

impl Tree for Ntfs {
    fn root(&self) -> Result<Node> {
        self.node(ROOT)
    }

    fn list(&self, directory: &Node) -> Listing {
        let mut listing = Listing::default();
        let mut found = match self.index(directory.id, false) {
            Ok(index) => {
                listing.findings = index.findings;
                index.entries
            }
            Err(finding) => {
                listing.findings.push(finding);
                Vec::new()
            }
        };
        if !listing.findings.is_empty() {
            // The index does not tell it all; the records themselves do.
            let known: HashSet<(u64, Vec<u16>)> = found.iter().map(|(reference, name)| (reference & NUMBER, name.clone())).collect();
            for &number in self.sweep().get(&directory.id).into_iter().flatten() {
                let names = self.names_within(number, directory.id).into_iter().map(|name| (number, name));
                found.extend(names.filter(|entry| !known.contains(entry)));
            }
            found.sort_by(|a, b| a.1.cmp(&b.1).then(a.0.cmp(&b.0)));
            found.dedup();
        }
        let found = found.into_iter().filter(|(reference, _)| reference & NUMBER >= FIRST_USER);
        let found: Vec<(u64, Name)> = found.map(|(reference, units)| (reference, Name::from_units(&units))).collect();
        let record = self.record as u64;
        let places = found.iter().filter_map(|(reference, _)| Some((self.table.place((reference & NUMBER).checked_mul(record)?)?, record)));
        self.volume.expect(places);
        let (mut refused, mut near, mut record) = (Vec::new(), self.volume.near(), Vec::new());
        listing.add(found, |reference, name| {
            let number = reference & NUMBER;
            let read = self.record_near(number, &mut near, &mut record);
            let node = read.and_then(|()| {
                self.node_of(number, &record, (reference >> 48) as u16, &mut |what| {
                    let text = format!("{}: record {number}: {what}; its own system may refuse it", name.shown);
                    refused.push(Finding::new("ntfs-record", text));
                })
            });
            node.map_err(|finding| Finding::new("ntfs-dangling", format!("{}: {}", name.shown, finding.text)))
        });
        listing.findings.extend(refused);
        listing
    }

    fn open(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        Ok(self.map_of(file, stream)?.on(&self.volume))
    }

    fn stored(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        Ok(self.stored_map_of(file, stream)?.on(&self.volume))
    }

    fn streams(&self, node: &Node) -> Result<Vec<Stream>> {
        let (_, attributes) = self.all_attributes(node.id)?;
        let first = |attribute: &&Attribute| {
            attribute.code == DATA && !attribute.name.is_empty() && (attribute.bytes[8] == 0 || le64(&attribute.bytes, 16) == 0)
        };
        let named = attributes.iter().filter(first).filter(|attribute| !name_is(attribute, COMPRESSED));
        Ok(named.map(|attribute| Stream { name: Name::from_units(&attribute.name), size: stream_size(&attribute.bytes) }).collect())
    }

    fn link(&self, link: &Node) -> Result<Name> {
        let (_, attributes) = self.all_attributes(link.id)?;
        if let Some(reparse) = resident_in(&attributes, REPARSE) {
            return reparse::target(reparse).ok_or_else(|| broken(link.id, "its link leads nowhere"));
        }
        let content = self.stream_in(link.id, &attributes, DATA, "")?.content;
        let mut bytes = vec![0; content.size().min(8192) as usize];
        let count = content.read(&self.volume, 0, &mut bytes)?;
        let units: Vec<u16> = bytes.get(8..count).unwrap_or_default().chunks_exact(2).map(|unit| le16(unit, 0)).collect();
        Ok(Name::from_units(&units))
    }

    fn is_same_name(&self, a: &str, b: &str) -> bool {
        a.encode_utf16().map(|unit| self.upper(unit)).eq(b.encode_utf16().map(|unit| self.upper(unit)))
    }

    fn resolution(&self) -> Resolution {
        Resolution { modified: 100, accessed: 100, created: 100 }
    }

    fn origin(&self) -> Origin<'_> {
        Origin::Volume(self)
    }

    fn most_entries(&self) -> u64 {
        self.volume.most_entries()
    }
}

impl Volume for Ntfs {
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

    fn survey(&self) -> Survey {
        self.go_over().within(self.volume.len())
    }
}
