//! The super block of btrfs and its checksums, read for recognising a volume and for opening it.

use crate::finding::{Finding, Result};
use crate::format::Format;
use crate::volume::{Kind, Recognised, State, Stretch, text, uuid};
use badger_drive::field::{array, le16, le32, le64};
use sha2::Digest;

/// btrfs.
pub(crate) const FORMAT: Format = Format { recognise, open: None, files: Some(|volume| Ok(Box::new(super::Btrfs::open(volume)?))) };

/// Where the super block and its copies lie.
const PLACES: [u64; 3] = [64 << 10, 64 << 20, 256 << 30];
const SIZE: usize = 4096;
/// Incompatible features that are known. Others, such as zones or extents of another kind, mean that structures lie elsewhere.
const KNOWN: u64 = 0xfff | 0x1_0000;
/// Nodes have an identifier of their own.
const OTHER_ID: u64 = 0x400;

/// How bytes are summed up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sum {
    Crc,
    Xxh,
    Sha,
    Blake,
}

impl Sum {
    fn of(kind: u16) -> Option<Self> {
        [Self::Crc, Self::Xxh, Self::Sha, Self::Blake].get(usize::from(kind)).copied()
    }

    /// Bytes of a checksum.
    pub fn len(self) -> usize {
        match self {
            Self::Crc => 4,
            Self::Xxh => 8,
            Self::Sha | Self::Blake => 32,
        }
    }

    /// Whether `sum` begins with the checksum of `bytes`.
    pub fn is_right(self, bytes: &[u8], sum: &[u8]) -> bool {
        match self {
            Self::Crc => sum.starts_with(&crc32c::crc32c(bytes).to_le_bytes()),
            Self::Xxh => sum.starts_with(&xxhash_rust::xxh64::xxh64(bytes, 0).to_le_bytes()),
            Self::Sha => sum.starts_with(&sha2::Sha256::digest(bytes)),
            Self::Blake => sum.starts_with(&blake2::Blake2b::<blake2::digest::consts::U32>::digest(bytes)),
        }
    }
}

/// What the super block says.
#[derive(Clone, Debug)]
pub(super) struct SuperBlock {
    pub sum: Sum,
    /// Bytes of a node, and of what a checksum stands for.
    pub node: u64,
    pub sector: u64,
    /// Where the trees of trees and of chunks begin: place, level, and when they were written.
    pub root: (u64, u8, u64),
    pub chunks: (u64, u8, u64),
    /// Whether what was written last waits in a tree of its own.
    pub waits: bool,
    /// Number of this drive among those of the volume.
    pub device: u64,
    pub devices: u64,
    /// What every node carries.
    pub id: [u8; 16],
    /// The chunks with the tree of chunks.
    pub first: Vec<u8>,
    /// It is a copy.
    pub copied: bool,
    bytes: Vec<u8>,
}

fn is_one(bytes: &[u8], at: u64) -> bool {
    let sum = Sum::of(le16(bytes, 196));
    bytes.len() == SIZE && &bytes[64..72] == b"_BHRfS_M" && le64(bytes, 48) == at && sum.is_some_and(|sum| sum.is_right(&bytes[32..], bytes))
}

impl SuperBlock {
    /// The first one that is whole, or a copy.
    ///
    /// # Errors
    /// A finding where there is none, it contradicts itself, or has features that are not known.
    pub fn find(read: &dyn Fn(u64, usize) -> Option<Vec<u8>>) -> Result<Self> {
        let wrong = |what: &str| Finding::new("btrfs-super-block", format!("the super block is damaged: {what}"));
        let found = PLACES.iter().find_map(|at| Some((*at, read(*at, SIZE).filter(|bytes| is_one(bytes, *at))?)));
        let (at, bytes) = found.ok_or_else(|| wrong("neither it nor a copy is whole"))?;
        let (sector, node) = (u64::from(le32(&bytes, 144)), u64::from(le32(&bytes, 148)));
        let is_size = |size: u64| size.is_power_of_two() && (4096..=65536).contains(&size);
        if !is_size(sector) || !is_size(node) || node < sector {
            return Err(wrong("the sizes of nodes and sectors"));
        }
        let features = le64(&bytes, 188);
        if features & !KNOWN != 0 {
            let text = format!("it has features that are not known here ({:#x}): its files may mean something else", features & !KNOWN);
            return Err(Finding::new("btrfs-features", text));
        }
        let chunks = (le32(&bytes, 160) as usize).min(2048);
        Ok(Self {
            sum: Sum::of(le16(&bytes, 196)).ok_or_else(|| wrong("its kind of checksums"))?,
            node,
            sector,
            root: (le64(&bytes, 80), bytes[198], le64(&bytes, 72)),
            chunks: (le64(&bytes, 88), bytes[199], le64(&bytes, 164)),
            waits: le64(&bytes, 96) != 0,
            device: le64(&bytes, 201),
            devices: le64(&bytes, 136),
            id: array(&bytes, if features & OTHER_ID != 0 { 571 } else { 32 }),
            first: bytes[811..811 + chunks].to_vec(),
            copied: at != PLACES[0],
            bytes,
        })
    }
}

fn recognise(stretch: &Stretch, _head: &[u8]) -> Option<Recognised> {
    let first = stretch.read(PLACES[0], SIZE).filter(|block| &block[64..72] == b"_BHRfS_M");
    let found = SuperBlock::find(&|at, len| stretch.read(at, len));
    let block = match (&found, first) {
        (_, Some(first)) => first,
        // A copy far inside may be left of a volume that was here before another one.
        (Ok(found), None) if stretch.read(PLACES[0], SIZE).is_none() => found.bytes.clone(),
        _ => return None,
    };
    // One device of several may be here: its own size stands in the device item.
    let mut volume = Recognised::new(Kind::Btrfs, le64(&block, 201 + 8));
    volume.most_sector = Some(le32(&block, 144));
    volume.used_bytes = (le64(&block, 136) == 1).then(|| le64(&block, 120));
    volume.id = uuid(array(&block, 32));
    volume.label = text(&block[299..299 + 256]);
    match found {
        // What is not known here is not broken.
        Err(finding) if finding.code != "btrfs-super-block" => {}
        Err(finding) => {
            volume.state = State::Damaged;
            volume.problems.push(finding.text);
        }
        Ok(found) if found.copied => {
            volume.state = State::Damaged;
            volume.copied = stretch.read(PLACES[0], SIZE).is_some_and(|block| &block[64..72] != b"_BHRfS_M");
            volume.problems.push("its super block is damaged; a copy of it is used".into());
        }
        Ok(found) if found.waits => volume.state = State::Dirty,
        Ok(_) => {}
    }
    Some(volume)
}
