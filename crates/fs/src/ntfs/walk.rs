//! Walking an NTFS volume: the master file table in pieces, attribute lists, directories by their index blocks,
//! resident, sparse and compressed data, reparse points.

use super::{attribute, fixed, geometry, lznt1, resident, runs};
use crate::tree::{Cached, Entry, FileSystem, Finding, Listing, Name, Node, NodeKind, Piece, Place, Result, Time, push_piece, read_pieces};
use badger_drive::field::{le16, le32, le64};
use std::collections::BTreeSet;

const ROOT: u64 = 5;
/// Records below this are the file system's own.
const FIRST_USER: u64 = 24;
/// Attribute types.
const STANDARD: u32 = 0x10;
const LIST: u32 = 0x20;
const DATA: u32 = 0x80;
const INDEX_ROOT: u32 = 0x90;
const INDEX_BLOCKS: u32 = 0xa0;
const BITMAP: u32 = 0xb0;
const REPARSE: u32 = 0xc0;
/// A file of more attribute records than this does not exist.
const MOST_RECORDS: usize = 4096;
/// A directory is not read further than this.
const MOST_DIRECTORY: u64 = 1 << 30;
/// Files compressed by the system itself.
const SYSTEM_COMPRESSED: u32 = 0x8000_0017;

/// An open volume.
pub struct Ntfs {
    volume: Cached,
    cluster: u64,
    record: usize,
    table: Vec<Piece>,
    table_size: u64,
}

/// The bytes behind an attribute.
enum Bytes {
    Resident(Vec<u8>),
    Pieces(Vec<Piece>),
    /// Pieces as they lie on the disk, and the length of a unit that is packed as one.
    Packed(Vec<Piece>, u64),
}

struct Stream {
    bytes: Bytes,
    size: u64,
    encrypted: bool,
}

/// One attribute: its type, its name and its own bytes.
struct Attribute {
    code: u32,
    name: Vec<u16>,
    bytes: Vec<u8>,
}

fn name_is(attribute: &Attribute, name: &str) -> bool {
    attribute.name.iter().copied().eq(name.encode_utf16())
}

fn time(ticks: u64) -> Option<Time> {
    let (seconds, rest) = (ticks / 10_000_000, ticks % 10_000_000);
    (ticks != 0).then(|| Time { seconds: seconds as i64 - 11_644_473_600, nanos: rest as u32 * 100 })
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
        let mut fs = Self { volume, cluster: geometry.cluster, record: geometry.record, table: Vec::new(), table_size: geometry.record as u64 * 16 };
        // The first records lie in one piece; with them the rest of the table is found. The mirror has them too.
        for start in [geometry.mft, mirror] {
            let Some(at) = start.checked_mul(fs.cluster) else { continue };
            fs.table = vec![Piece { at: Some(at), len: fs.table_size }];
            if let Ok(Stream { bytes: Bytes::Pieces(pieces), size, .. }) = fs.stream(0, DATA, "") {
                (fs.table, fs.table_size) = (pieces, size);
                return Ok(fs);
            }
        }
        Err(Finding::new("ntfs-table", "the first record of the master file table is damaged, in its mirror as well"))
    }

    fn raw_record(&self, number: u64) -> Result<Vec<u8>> {
        let mut bytes = vec![0; self.record];
        let at = number.checked_mul(self.record as u64).filter(|at| at + self.record as u64 <= self.table_size);
        let at = at.ok_or_else(|| broken(number, "there is none of that number"))?;
        let count = read_pieces(&self.volume, &self.table, self.table_size, at, &mut bytes)?;
        fixed(bytes, b"FILE").filter(|_| count == self.record).ok_or_else(|| broken(number, "it is torn or overwritten"))
    }

    fn attributes_in(record: &[u8], out: &mut Vec<Attribute>) {
        let mut at = usize::from(le16(record, 20));
        loop {
            let (code, len) = (le32(record, at), le32(record, at + 4) as usize);
            let Some(bytes) = at.checked_add(len).and_then(|end| record.get(at..end)) else { return };
            if code == u32::MAX || len < 24 {
                return;
            }
            let (name_len, name_at) = (usize::from(bytes[9]), usize::from(le16(bytes, 10)));
            let name = (0..name_len).map(|unit| le16(bytes, name_at + unit * 2)).collect();
            out.push(Attribute { code, name, bytes: bytes.to_vec() });
            at += len;
        }
    }

    /// All attributes of a file, those in its extension records too.
    fn attributes(&self, number: u64) -> Result<(Vec<u8>, Vec<Attribute>)> {
        let base = self.raw_record(number)?;
        let mut out = Vec::new();
        Self::attributes_in(&base, &mut out);
        let Some(list) = attribute(&base, LIST) else { return Ok((base, out)) };
        let list = match resident(list) {
            Some(bytes) => bytes.to_vec(),
            None => {
                let size = le64(list, 48).min(1 << 20);
                let mut bytes = vec![0; size as usize];
                let count = read_pieces(&self.volume, &self.pieces_of(list)?, size, 0, &mut bytes)?;
                bytes.truncate(count);
                bytes
            }
        };
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
        for other in others {
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

    fn stream(&self, number: u64, code: u32, name: &str) -> Result<Stream> {
        let (_, attributes) = self.attributes(number)?;
        self.stream_in(number, &attributes, code, name)
    }

    fn stream_in(&self, number: u64, attributes: &[Attribute], code: u32, name: &str) -> Result<Stream> {
        let mut parts: Vec<&Attribute> = attributes.iter().filter(|attribute| attribute.code == code && name_is(attribute, name)).collect();
        parts.sort_by_key(|part| if part.bytes[8] == 0 { 0 } else { le64(&part.bytes, 16) });
        let first = parts.first().ok_or_else(|| Finding::new("ntfs-no-stream", format!("record {number} has no such stream")))?;
        if let Some(bytes) = resident(&first.bytes) {
            return Ok(Stream { bytes: Bytes::Resident(bytes.to_vec()), size: bytes.len() as u64, encrypted: false });
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
        if flags & 1 != 0 && (1..=8).contains(&unit) {
            return Ok(Stream { bytes: Bytes::Packed(pieces, self.cluster << unit), size, encrypted });
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
        Ok(Stream { bytes: Bytes::Pieces(clipped), size, encrypted })
    }

    fn read_stream(&self, stream: &Stream, offset: u64, buf: &mut [u8]) -> Result<usize> {
        match &stream.bytes {
            Bytes::Resident(bytes) => {
                let rest = bytes.get(offset.min(bytes.len() as u64) as usize..).unwrap_or_default();
                let len = rest.len().min(buf.len());
                buf[..len].copy_from_slice(&rest[..len]);
                Ok(len)
            }
            Bytes::Pieces(pieces) => read_pieces(&self.volume, pieces, stream.size, offset, buf),
            Bytes::Packed(pieces, unit) => {
                let end = stream.size.min(offset.saturating_add(buf.len() as u64));
                let mut at = offset;
                while at < end {
                    let number = at / unit;
                    let bytes = self.unit(pieces, number * unit, *unit)?;
                    let inner = (at - number * unit) as usize;
                    let len = (bytes.len() - inner).min((end - at) as usize);
                    let done = (at - offset) as usize;
                    buf[done..done + len].copy_from_slice(&bytes[inner..inner + len]);
                    at += len as u64;
                }
                Ok((end.saturating_sub(offset)) as usize)
            }
        }
    }

    /// One unit of a compressed stream: all there is plain, nothing there is zero, less than whole is packed.
    fn unit(&self, pieces: &[Piece], start: u64, len: u64) -> Result<Vec<u8>> {
        let (mut held, mut at) = (Vec::new(), 0u64);
        for piece in pieces {
            let (from, to) = (at.max(start), (at + piece.len).min(start + len));
            if from < to
                && let Some(place) = piece.at
            {
                held.push((place + from - at, to - from));
            }
            at += piece.len;
        }
        let total: u64 = held.iter().map(|(_, len)| len).sum();
        let mut bytes = Vec::with_capacity(total as usize);
        for (place, len) in held {
            bytes.extend(self.volume.read(place, len as usize)?);
        }
        match total {
            0 => Ok(vec![0; len as usize]),
            total if total == len => Ok(bytes),
            _ => lznt1::unpack(&bytes, len as usize).ok_or_else(|| Finding::new("ntfs-compressed", "a compressed stretch is damaged")),
        }
    }

    fn node(&self, number: u64) -> Result<Node> {
        let (base, attributes) = self.attributes(number)?;
        if le16(&base, 22) & 1 == 0 {
            return Err(broken(number, "it is not in use"));
        }
        let of = |code: u32| attributes.iter().find(|attribute| attribute.code == code).and_then(|attribute| resident(&attribute.bytes));
        let standard = of(STANDARD).unwrap_or_default();
        let tag = of(REPARSE).map(|reparse| le32(reparse, 0));
        let directory = le16(&base, 22) & 2 != 0;
        let flags = le32(standard, 32);
        let size = if directory { 0 } else { self.stream_in(number, &attributes, DATA, "").map_or(0, |stream| stream.size) };
        let mut kind = match tag {
            Some(0xa000_000c | 0xa000_0003) => NodeKind::Link,
            _ if directory => NodeKind::Directory,
            _ => NodeKind::File,
        };
        // Unix services keep links and devices as small system files that begin with a mark.
        if kind == NodeKind::File && flags & 4 != 0 && (9..4096).contains(&size) {
            let mut mark = [0; 8];
            if let Ok(stream) = self.stream_in(number, &attributes, DATA, "") {
                self.read_stream(&stream, 0, &mut mark)?;
            }
            kind = match &mark {
                b"IntxLNK\x01" => NodeKind::Link,
                b"IntxCHR\0" | b"IntxBLK\0" => NodeKind::Other,
                _ => kind,
            };
        }
        Ok(Node {
            id: number,
            kind,
            size,
            modified: time(le64(standard, 8)),
            accessed: time(le64(standard, 24)),
            created: time(le64(standard, 0)),
            mode: None,
            attributes: flags & 0x27,
            place: Place::default(),
        })
    }

    /// Takes the entries out of an index node whose header stands at `at`.
    fn entries(&self, node: &[u8], at: usize, found: &mut Vec<(u64, Vec<u16>)>) {
        let mut place = at.saturating_add(le32(node, at) as usize);
        let end = at.saturating_add(le32(node, at + 4) as usize).min(node.len());
        while place + 16 <= end {
            let (reference, len, key) = (le64(node, place), usize::from(le16(node, place + 8)), usize::from(le16(node, place + 10)));
            let flags = le16(node, place + 12);
            if flags & 2 != 0 || len < 16 {
                return;
            }
            if key >= 66 && place + 16 + key <= end {
                let name = &node[place + 16..place + 16 + key];
                let units = usize::from(name[64]);
                // Names of the DOS kind stand beside the long name of the same file.
                if name[65] != 2 && 66 + units * 2 <= key {
                    found.push((reference, (0..units).map(|unit| le16(name, 66 + unit * 2)).collect()));
                }
            }
            place += len;
        }
    }

    fn index(&self, directory: u64, listing: &mut Listing) -> Result<Vec<(u64, Vec<u16>)>> {
        let (_, attributes) = self.attributes(directory)?;
        let mut found = Vec::new();
        let root = self.stream_in(directory, &attributes, INDEX_ROOT, "$I30")?;
        let Bytes::Resident(root) = &root.bytes else { return Err(broken(directory, "its index has no root")) };
        self.entries(root, 16, &mut found);
        let Ok(blocks) = self.stream_in(directory, &attributes, INDEX_BLOCKS, "$I30") else { return Ok(found) };
        let size = u64::from(le32(root, 8));
        if !(512..=65536).contains(&size) {
            return Err(broken(directory, "its index blocks have no size"));
        }
        let mut used = vec![0xff; 1 << 16];
        if let Ok(bitmap) = self.stream_in(directory, &attributes, BITMAP, "$I30") {
            used = vec![0; bitmap.size.min(MOST_DIRECTORY / size / 8) as usize];
            self.read_stream(&bitmap, 0, &mut used)?;
        }
        for number in 0..blocks.size.min(MOST_DIRECTORY) / size {
            if used.get(number as usize / 8).is_none_or(|byte| byte >> (number % 8) & 1 == 0) {
                continue;
            }
            let mut bytes = vec![0; size as usize];
            let read = self.read_stream(&blocks, number * size, &mut bytes);
            match read.ok().and_then(|_| fixed(bytes, b"INDX")) {
                Some(block) => self.entries(&block, 24, &mut found),
                None => listing.findings.push(Finding::new("ntfs-index", format!("block {number} of an index is damaged"))),
            }
        }
        Ok(found)
    }
}

impl FileSystem for Ntfs {
    fn root(&self) -> Result<Node> {
        self.node(ROOT)
    }

    fn list(&self, directory: &Node) -> Listing {
        let mut listing = Listing::default();
        let found = match self.index(directory.id, &mut listing) {
            Ok(found) => found,
            Err(finding) => return finding.into(),
        };
        for (reference, units) in found {
            let (number, sequence) = (reference & 0xffff_ffff_ffff, (reference >> 48) as u16);
            if number < FIRST_USER {
                continue;
            }
            let shown = String::from_utf16_lossy(&units);
            let same = |record: Vec<u8>| sequence == 0 || le16(&record, 16) == sequence;
            match self
                .raw_record(number)
                .map(same)
                .and_then(|same| if same { self.node(number) } else { Err(broken(number, "it is another file by now")) })
            {
                Ok(node) => listing.entries.push(Entry { name: Name::from_bytes(shown.as_bytes()), node }),
                Err(finding) => listing.findings.push(Finding::new("ntfs-dangling", format!("{shown}: {}", finding.text))),
            }
        }
        listing
    }

    fn pieces(&self, file: &Node) -> Result<Vec<Piece>> {
        match self.stream(file.id, DATA, "")?.bytes {
            Bytes::Pieces(pieces) => Ok(pieces),
            Bytes::Resident(_) | Bytes::Packed(..) => Ok(Vec::new()),
        }
    }

    fn read(&self, file: &Node, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let (_, attributes) = self.attributes(file.id)?;
        let reparse = attributes.iter().find(|attribute| attribute.code == REPARSE).and_then(|attribute| resident(&attribute.bytes));
        if reparse.is_some_and(|reparse| le32(reparse, 0) == SYSTEM_COMPRESSED) {
            return Err(Finding::new("ntfs-system-compressed", "it was compressed by its system in a way that is not read yet"));
        }
        let stream = self.stream_in(file.id, &attributes, DATA, "")?;
        if stream.encrypted {
            return Err(Finding::new("ntfs-encrypted", "it is encrypted; only its owner's system can read it"));
        }
        self.read_stream(&stream, offset, buf)
    }

    fn link(&self, link: &Node) -> Result<Name> {
        let (_, attributes) = self.attributes(link.id)?;
        let text = |bytes: &[u8]| String::from_utf16_lossy(&bytes.chunks_exact(2).map(|unit| le16(unit, 0)).collect::<Vec<_>>());
        if let Some(reparse) = attributes.iter().find(|attribute| attribute.code == REPARSE).and_then(|attribute| resident(&attribute.bytes)) {
            let buffer = if le32(reparse, 0) == 0xa000_000c { 20 } else { 16 };
            let name = |at: usize| {
                let (start, len) = (buffer + usize::from(le16(reparse, at)), usize::from(le16(reparse, at + 2)));
                reparse.get(start..start + len).map(text).filter(|name| !name.is_empty())
            };
            let target = name(12).or_else(|| name(8)).ok_or_else(|| broken(link.id, "its link leads nowhere"))?;
            return Ok(Name::from_bytes(target.as_bytes()));
        }
        let stream = self.stream_in(link.id, &attributes, DATA, "")?;
        let mut bytes = vec![0; stream.size.min(8192) as usize];
        let count = self.read_stream(&stream, 0, &mut bytes)?;
        Ok(Name::from_bytes(text(bytes.get(8..count).unwrap_or_default()).as_bytes()))
    }

    fn is_case_sensitive(&self) -> bool {
        false
    }
}
