//! exFAT, following Microsoft's "exFAT file system specification": entry sets with their checksum, contiguous files,
//! valid data lengths, times with their offset from UTC.

mod boot;
mod resize;
pub(crate) use boot::FORMAT;
pub(crate) use resize::placed;

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
use badger_drive::field::{le16, le32, le64};
use boot::Boot;

/// The largest directory the format allows.
const MOST_DIRECTORY: u64 = 256 << 20;

/// An open volume.
pub struct ExFat {
    volume: Cached,
    cluster: u64,
    table: u64,
    heap: u64,
    clusters: u32,
    root: u32,
    sector: u64,
    /// Upper case of every unit that has one.
    upper: Vec<u16>,
    system: System,
}

/// Where the format's own files lie.
#[derive(Clone, Copy, Default)]
struct System {
    bitmap: (Place, u64),
    upcase: (Place, u64, u32),
}

/// The format's checksum over entries and names.
fn sum_16(bytes: impl Iterator<Item = u8>) -> u16 {
    bytes.fold(0, |sum: u16, byte| sum.rotate_right(1).wrapping_add(u16::from(byte)))
}

/// The format's checksum over boot regions and the table of upper case letters.
fn sum_32(bytes: impl Iterator<Item = u8>) -> u32 {
    bytes.fold(0, |sum: u32, byte| sum.rotate_right(1).wrapping_add(u32::from(byte)))
}

/// The checksum of an entry set, without its own two bytes.
fn set_sum(set: &[u8]) -> u16 {
    sum_16(set[..2].iter().chain(&set[4..]).copied())
}

/// The checksum over the first eleven sectors of a boot region, without the fields that change.
fn boot_sum(region: &[u8]) -> u32 {
    sum_32(region.iter().enumerate().filter(|(at, _)| !matches!(at, 106 | 107 | 112)).map(|(_, byte)| *byte))
}

impl ExFat {
    /// Opens a volume.
    ///
    /// # Errors
    /// A finding where the boot sector contradicts itself.
    pub fn open(volume: Cached) -> Result<Self> {
        let boot = volume.read(0, 512)?;
        let told = Boot::read(&boot).ok_or_else(|| Finding::new("exfat-boot-sector", "the boot sector is damaged: its sizes"))?;
        let mut fs = Self {
            cluster: told.cluster,
            table: told.table,
            heap: told.heap,
            clusters: told.clusters,
            root: told.root,
            sector: told.sector,
            upper: Vec::new(),
            system: System::default(),
            volume,
        };
        fs.system = fs.find_system();
        fs.upper = fs.upper_case().unwrap_or_default();
        Ok(fs)
    }

    /// The entries of the root directory that name the bitmap and the table of upper case letters.
    fn find_system(&self) -> System {
        let mut system = System::default();
        let place = Place { first: self.root, contiguous: false, valid: MOST_DIRECTORY };
        for piece in self.chain(place, 4 * self.cluster).unwrap_or_default() {
            let bytes = self.volume.read(piece.at.unwrap_or(0), piece.len.min(1 << 20) as usize).unwrap_or_default();
            for part in bytes.chunks_exact(32) {
                let place = Place { first: le32(part, 20), contiguous: false, valid: le64(part, 24) };
                match part[0] {
                    0 => return system,
                    // Where there are two of a kind, systems take the first.
                    0x81 if part[1] & 1 == 0 && system.bitmap.1 == 0 => system.bitmap = (place, le64(part, 24)),
                    0x82 if system.upcase.1 == 0 => system.upcase = (place, le64(part, 24), le32(part, 4)),
                    _ => {}
                }
            }
        }
        system
    }

    /// The bytes of one of the format's own files, `most` at the most.
    fn system_file(&self, place: Place, size: u64, most: u64) -> Result<Vec<u8>> {
        let size = size.min(most);
        let content = FileMap::new(size, self.chain(place, size)?, Form::Plain);
        let mut bytes = vec![0; size as usize];
        content.read(&self.volume, 0, &mut bytes)?;
        Ok(bytes)
    }

    /// The table of upper case letters; a stretch without any is written short.
    fn upper_case(&self) -> Option<Vec<u16>> {
        let (place, size, sum) = self.system.upcase;
        let bytes = self.system_file(place, size, 128 << 10).ok()?;
        if sum_32(bytes.iter().copied()) != sum {
            return None;
        }
        let mut upper = Vec::with_capacity(65536);
        let mut units = bytes.chunks_exact(2).map(|unit| le16(unit, 0));
        while let Some(unit) = units.next() {
            if unit == 0xffff {
                let Some(count) = units.next().map(usize::from) else { break };
                let start = upper.len();
                upper.extend((start..start + count).map(|unit| unit as u16));
            } else {
                upper.push(unit);
            }
            if upper.len() > 65536 {
                return None;
            }
        }
        Some(upper)
    }

    /// Upper case by the volume's own table, by the common rules where it is damaged.
    fn upper(&self, unit: u16) -> u16 {
        match self.upper.get(usize::from(unit)) {
            Some(upper) => *upper,
            None if self.upper.is_empty() && unit < 128 => u16::from((unit as u8).to_ascii_uppercase()),
            None => unit,
        }
    }

    /// The clusters from the first on, up to `most` bytes.
    fn chain(&self, place: Place, most: u64) -> Result<Vec<Piece>> {
        match self.chain_up_to(place, most) {
            (pieces, None) => Ok(pieces),
            (_, Some(finding)) => Err(finding),
        }
    }

    /// The same as far as it is sound, and what is wrong behind that.
    fn chain_up_to(&self, place: Place, most: u64) -> (Vec<Piece>, Option<Finding>) {
        let mut pieces = Vec::new();
        let walked = self.follow_chain(place, most, &mut pieces);
        let loops = || Finding::new("exfat-chain-loop", format!("the chain from cluster {} comes back to itself", place.first));
        // A circle may be longer than the file is.
        match first_repeated(&pieces) {
            Some(at) => (cut_pieces(pieces, at), Some(loops())),
            None => (pieces, walked.err().map(|broken| broken.unwrap_or_else(loops))),
        }
    }

    /// Notes pieces up to the end, or up to what is wrong: `None` where the chain comes back to itself.
    fn follow_chain(&self, place: Place, most: u64, pieces: &mut Vec<Piece>) -> std::result::Result<(), Option<Finding>> {
        let (mut cluster, mut len, mut turn) = (place.first, 0u64, Turn::default());
        while len < most {
            if !(2..self.clusters + 2).contains(&cluster) {
                return Err(Some(Finding::new("exfat-chain", format!("a chain leads to cluster {cluster}, which there is none of"))));
            }
            if turn.comes_back(cluster) {
                return Err(None);
            }
            push_piece(pieces, Some(self.heap + u64::from(cluster - 2) * self.cluster), self.cluster);
            len += self.cluster;
            if place.contiguous {
                cluster += 1;
                continue;
            }
            let mut next = [0; 4];
            self.volume.read_into(self.table + u64::from(cluster) * 4, &mut next).map_err(Some)?;
            match le32(&next, 0) {
                0xffff_ffff => break,
                value => cluster = value,
            }
        }
        Ok(())
    }

    /// The entry of a complete set of 32-byte parts; `None` where the set is no file.
    fn entry(&self, set: &[u8], at: u64) -> std::result::Result<Entry, Finding> {
        let damaged = |what: &str| Finding::new("exfat-entry", format!("the entry at byte {at} of the volume is damaged: {what}"));
        if set_sum(set) != le16(set, 2) {
            return Err(damaged("its checksum"));
        }
        let stream = set.get(32..64).filter(|part| part[0] == 0xc0).ok_or_else(|| damaged("it has no stream"))?;
        let names = set[64..].chunks_exact(32).filter(|part| part[0] == 0xc1);
        let units: Vec<u16> = names.flat_map(|part| (0..15).map(|unit| le16(part, 2 + unit * 2))).take(usize::from(stream[3])).collect();
        if units.len() != usize::from(stream[3]) || units.is_empty() {
            return Err(damaged("its name"));
        }
        let attributes = u32::from(le16(set, 4));
        let kind = if attributes & 16 != 0 { NodeKind::Directory } else { NodeKind::File };
        let time = |at: usize, hundredths: u8, zone: u8| {
            let local = packed_seconds(le16(set, at + 2), le16(set, at))?;
            // Seven bits with a sign, quarters of an hour; without the highest bit nobody knows the zone.
            let quarters = if zone & 0x80 != 0 { i64::from(((zone << 1) as i8) >> 1) } else { 0 };
            Some(Time { seconds: local - quarters * 900 + i64::from(hundredths / 100), nanos: u32::from(hundredths % 100) * 10_000_000 })
        };
        let size = le64(stream, 24);
        let node = Node {
            id: at,
            kind,
            size: if kind == NodeKind::File { size } else { 0 },
            modified: time(12, set[21], set[23]),
            accessed: time(16, 0, set[24]),
            created: time(8, set[20], set[22]),
            mode: None,
            owner: None,
            links: 1,
            attributes: attributes & 0x27,
            what: None,
            place: Place {
                first: le32(stream, 20),
                contiguous: stream[1] & 2 != 0,
                valid: if kind == NodeKind::File { le64(stream, 8).min(size) } else { size },
            },
            path: None,
        };
        let hash = sum_16(units.iter().map(|unit| self.upper(*unit)).flat_map(u16::to_le_bytes));
        if !self.upper.is_empty() && hash != le16(stream, 4) {
            return Err(damaged("its name's hash"));
        }
        Ok(Entry { name: Name::from_units(&units), node })
    }
}

impl ExFat {
    fn map_of(&self, file: &Node, stream: &str) -> Result<FileMap> {
        if !stream.is_empty() {
            return Err(Finding::new("no-stream", "this format has no further streams"));
        }
        if file.size == 0 || file.kind != NodeKind::File {
            return Ok(FileMap::held(Vec::new()));
        }
        let valid = file.place.valid;
        let (mut pieces, wrong) = if valid > 0 { self.chain_up_to(file.place, valid) } else { (Vec::new(), None) };
        let held: u64 = pieces.iter().map(|piece| piece.len).sum();
        if held < valid {
            let short = || Finding::new("exfat-chain-short", format!("the chain ends after {held} of {valid} bytes"));
            return Ok(FileMap::new(file.size, pieces, Form::Plain).torn(held, wrong.unwrap_or_else(short)));
        }
        if let Some(last) = pieces.last_mut() {
            last.len -= held - valid;
        }
        if file.size > valid {
            push_piece(&mut pieces, None, file.size - valid);
        }
        Ok(FileMap::new(file.size, pieces, Form::Plain))
    }
}

impl Tree for ExFat {
    fn root(&self) -> Result<Node> {
        let place = Place { first: self.root, contiguous: false, valid: MOST_DIRECTORY };
        Ok(Node { place, ..Node::plain(NodeKind::Directory, 0, None) })
    }

    fn list(&self, directory: &Node) -> Listing {
        let mut listing = Listing::default();
        let pieces = match self.chain(directory.place, directory.place.valid.min(MOST_DIRECTORY)) {
            Ok(pieces) => pieces,
            Err(finding) => return finding.into(),
        };
        if pieces.len() > 1 {
            self.volume.expect(pieces.iter().filter_map(|piece| Some((piece.at?, piece.len))));
        }
        // A set may cross from one stretch to another that does not follow it.
        let (mut set, mut start, mut missing) = (Vec::new(), 0, 0usize);
        for piece in pieces {
            let from = piece.at.unwrap_or(0);
            let mut done = 0;
            while done < piece.len {
                let step = (piece.len - done).min(1 << 20);
                let bytes = match self.volume.read(from + done, step as usize) {
                    Ok(bytes) => bytes,
                    Err(finding) => {
                        listing.findings.push(finding);
                        break;
                    }
                };
                for (part, at) in bytes.chunks_exact(32).zip((from + done..).step_by(32)) {
                    let belongs = part[0] >= 0xc0 && missing > 0;
                    if missing > 0 && !belongs {
                        missing = 0;
                        let text = format!("the entry at byte {start} of the volume ends before it should");
                        listing.findings.push(Finding::new("exfat-entry", text));
                    }
                    match part[0] {
                        0 => return listing,
                        0x85 => {
                            set = part.to_vec();
                            (start, missing) = (at, usize::from(part[1]));
                            if missing == 0 {
                                let text = format!("the entry at byte {at} of the volume has no stream and no name");
                                listing.findings.push(Finding::new("exfat-entry", text));
                            }
                        }
                        _ if belongs => {
                            set.extend_from_slice(part);
                            missing -= 1;
                            if missing == 0 {
                                match self.entry(&set, start) {
                                    Ok(entry) => listing.entries.push(entry),
                                    Err(finding) => listing.findings.push(finding),
                                }
                            }
                        }
                        // The bitmap, the letters, the label, and what may stand anywhere; whatever else is in use is not known.
                        0..=0x7f | 0x81..=0x83 | 0xa0..=0xa2 | 0xe0 | 0xe1 => {}
                        _ => {
                            let text = format!("the entry at byte {at} of the volume belongs to no file");
                            listing.findings.push(Finding::new("exfat-entry", text));
                        }
                    }
                }
                done += step;
            }
        }
        listing
    }

    fn open(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        Ok(self.map_of(file, stream)?.on(&self.volume))
    }

    fn is_same_name(&self, a: &str, b: &str) -> bool {
        a.encode_utf16().map(|unit| self.upper(unit)).eq(b.encode_utf16().map(|unit| self.upper(unit)))
    }

    fn resolution(&self) -> Resolution {
        Resolution { modified: 10_000_000, accessed: 2_000_000_000, created: 10_000_000 }
    }

    fn origin(&self) -> Origin<'_> {
        Origin::Volume(self)
    }

    fn most_entries(&self) -> u64 {
        self.volume.most_entries()
    }
}

impl Volume for ExFat {
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
