//! The super block of ext2, ext3 and ext4, read for recognising a volume and for opening it.

use super::checksum::crc32c;
use super::{CHECKSUMS, WIDE};
use crate::format::Format;
use crate::volume::{Kind, Recognised, State, Stretch, text, uuid};
use badger_drive::field::{array, le16, le32};

/// ext2, ext3 and ext4.
pub(crate) const FORMAT: Format = Format { recognise, open: Some(|volume| Ok(crate::format::alone(super::Ext::open(volume)?))), files: None };

/// Where the copies of the super block begin that group 1 has by default, for each size of a block.
const BACKUPS: [u64; 4] = [8193 << 10, 16384 << 11, 32768 << 12, 65536 << 13];

/// A super block.
pub(super) struct SuperBlock {
    /// All of it.
    pub bytes: Vec<u8>,
    /// Where the copy lies that it comes from, where it is one.
    pub copied: Option<u64>,
    /// Whether it contradicts itself and no copy is better.
    pub damaged: bool,
}

/// Whether a super block stands in these bytes that does not contradict itself.
fn is_right(bytes: &[u8]) -> bool {
    let sums = le32(bytes, 100) & CHECKSUMS != 0;
    bytes.len() == 1024
        && le16(bytes, 56) == 0xef53
        && le32(bytes, 24) <= 6
        && le32(bytes, 32) > 0
        && le32(bytes, 40) > 0
        && (!sums || crc32c(u32::MAX, &bytes[..1020]) == le32(bytes, 1020))
}

impl SuperBlock {
    /// The first one that is right, of the volume or of a copy; else what stands in its place if it is one at all. `read` gets
    /// 1024 bytes at a place.
    pub fn find(read: &dyn Fn(u64) -> Option<Vec<u8>>) -> Option<Self> {
        let first = read(1024);
        if let Some(bytes) = first.as_ref().filter(|bytes| is_right(bytes)) {
            return Some(Self { bytes: bytes.clone(), copied: None, damaged: false });
        }
        // A copy says which group it is in.
        let copy = |at: u64| Some((at, read(at).filter(|bytes| is_right(bytes) && le16(bytes, 90) == 1)?));
        if let Some((at, bytes)) = BACKUPS.into_iter().find_map(copy) {
            return Some(Self { bytes, copied: Some(at), damaged: false });
        }
        let bytes = first.filter(|bytes| le16(bytes, 56) == 0xef53 && le32(bytes, 24) <= 6)?;
        Some(Self { bytes, copied: None, damaged: true })
    }

    /// Bytes of a block.
    pub fn block(&self) -> u64 {
        1024 << le32(&self.bytes, 24).min(6)
    }

    /// Compatible, incompatible and read-only compatible features.
    pub fn features(&self) -> [u32; 3] {
        [92, 96, 100].map(|at| le32(&self.bytes, at))
    }

    /// A number of which the upper half counts only on volumes that have it.
    fn wide(&self, low: usize, high: usize) -> u64 {
        let upper = if self.features()[1] & WIDE != 0 { le32(&self.bytes, high) } else { 0 };
        u64::from(le32(&self.bytes, low)) | u64::from(upper) << 32
    }

    /// Blocks of the volume.
    pub fn blocks(&self) -> u64 {
        self.wide(4, 0x150)
    }

    fn free_blocks(&self) -> u64 {
        self.wide(12, 0x158)
    }
}

/// The kernel's documentation of ext4, "Super Block".
fn recognise(stretch: &Stretch, _head: &[u8]) -> Option<Recognised> {
    let found = SuperBlock::find(&|at| stretch.read(at, 1024))?;
    let ([compatible, incompatible, read_only], block) = (found.features(), found.block());
    let kind = match () {
        () if incompatible & 0x2c0 != 0 || read_only & 0x478 != 0 => Kind::Ext4,
        () if compatible & 4 != 0 => Kind::Ext3,
        () => Kind::Ext2,
    };
    let bytes = &found.bytes;
    let mut volume = Recognised::new(kind, found.blocks().checked_mul(block)?);
    volume.most_sector = Some(block as u32);
    volume.used_bytes = found.blocks().checked_sub(found.free_blocks()).map(|used| used * block);
    volume.id = uuid(array(bytes, 104));
    volume.label = text(&bytes[120..136]);
    // Bit 2 of the incompatible features: the journal holds changes that are not carried out yet.
    let state = le16(bytes, 58);
    if found.copied.is_some() {
        volume.state = State::Damaged;
        volume.copied = true;
        volume.problems.push("its super block is damaged; a copy of it is used".into());
    } else if state & 2 != 0 {
        volume.state = State::Damaged;
        volume.problems.push("its system noted errors in it".into());
    } else if state & 1 == 0 || incompatible & 4 != 0 {
        volume.state = State::Dirty;
    }
    Some(volume)
}
