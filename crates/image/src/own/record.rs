//! A record: 64 bytes that say what it is, and its payload, padded to 16 bytes.

use badger_drive::field::{array, le32, le64};

/// Bytes in front of the payload.
pub(super) const HEADER: usize = 64;
/// Records begin at multiples of this.
pub(super) const STEP: u64 = 16;
const MARK: &[u8; 4] = b"ZBr1";
/// No payload is longer: a page of the map has some 50 KiB, a list at the end some MiB.
pub(super) const MOST: u32 = 64 << 20;

/// What a record holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum What {
    /// Size, sectors, what it goes on from, how it is locked; always first and never locked itself.
    Head,
    /// Bytes of the drive.
    Chunk,
    /// A page of the map.
    Page,
    /// Whose drive it was, what the job was: JSON.
    Facts,
    /// Where the pages are, and what could not be read.
    Index,
    /// The last one: where the index is.
    End,
    /// Stretches that could not be read, within the chunk that follows.
    Lost,
    /// A part of a list of the index: places of pages, or stretches that could not be read.
    List,
}

impl What {
    fn code(self) -> u8 {
        match self {
            Self::Head => 1,
            Self::Chunk => 2,
            Self::Page => 3,
            Self::Facts => 4,
            Self::Index => 5,
            Self::End => 6,
            Self::Lost => 7,
            Self::List => 8,
        }
    }

    fn of(code: u8) -> Option<Self> {
        [Self::Head, Self::Chunk, Self::Page, Self::Facts, Self::Index, Self::End, Self::Lost, Self::List]
            .into_iter()
            .find(|what| what.code() == code)
    }
}

/// What stands in front of a payload.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Header {
    pub what: What,
    /// Packed with Zstandard.
    pub packed: bool,
    pub locked: bool,
    /// Of a chunk: some of its bytes are unknown, and are zero here. The record before it says which.
    pub holed: bool,
    /// The number of a chunk, or of the group that a page tells of.
    pub number: u64,
    /// Bytes of the payload as it stands there.
    pub len: u32,
    /// Bytes it has in truth.
    pub whole: u32,
    /// BLAKE3 of these, with a key where the image is locked.
    pub hash: [u8; 32],
}

impl Header {
    pub fn encode(&self) -> [u8; HEADER] {
        let mut out = [0; HEADER];
        out[..4].copy_from_slice(MARK);
        (out[4], out[5], out[6], out[7]) = (self.what.code(), u8::from(self.packed), u8::from(self.locked), u8::from(self.holed));
        out[8..16].copy_from_slice(&self.number.to_le_bytes());
        out[16..20].copy_from_slice(&self.len.to_le_bytes());
        out[20..24].copy_from_slice(&self.whole.to_le_bytes());
        out[24..56].copy_from_slice(&self.hash);
        let sum = crc32c::crc32c(&out[..60]);
        out[60..].copy_from_slice(&sum.to_le_bytes());
        out
    }

    /// The header in these bytes; `None` where none stands there that is whole.
    pub fn decode(bytes: &[u8]) -> Option<Self> {
        let whole = bytes.len() >= HEADER && bytes.starts_with(MARK) && crc32c::crc32c(&bytes[..60]) == le32(bytes, 60);
        let header = Self {
            what: What::of(*bytes.get(4)?)?,
            packed: bytes.get(5)? & 1 != 0,
            locked: bytes.get(6)? & 1 != 0,
            holed: bytes.get(7)? & 1 != 0,
            number: le64(bytes, 8),
            len: le32(bytes, 16),
            whole: le32(bytes, 20),
            hash: array(bytes, 24),
        };
        (whole && header.len <= MOST && header.whole <= MOST).then_some(header)
    }

    /// Bytes from one record to the next.
    pub fn stride(&self) -> u64 {
        (HEADER as u64 + u64::from(self.len)).next_multiple_of(STEP)
    }
}

/// Whether a file that begins like this is an image of our own.
pub(crate) fn is_first(bytes: &[u8]) -> bool {
    Header::decode(bytes).is_some_and(|header| header.what == What::Head)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_header_comes_back_and_none_that_was_changed(
            number: u64, len in 0..=MOST, whole in 0..=MOST, hash: [u8; 32], packed: bool, locked: bool, holed: bool, code in 1u8..9, place in 0usize..64, change in 1u8..
        ) {
            let header = Header { what: What::of(code).unwrap(), packed, locked, holed, number, len, whole, hash };
            let mut bytes = header.encode();
            prop_assert_eq!(Header::decode(&bytes), Some(header));
            bytes[place] ^= change;
            prop_assert_eq!(Header::decode(&bytes), None);
        }
    }
}
