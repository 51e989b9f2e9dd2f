//! An entry of the map: what a chunk of the drive is.

use badger_drive::field::{array, le16, le32, le64};

/// Bytes of an entry.
pub(super) const ENTRY: usize = 48;

/// What a chunk of the drive is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Entry {
    /// It was not copied: nothing in use lies there.
    #[default]
    Unused,
    /// Zeroes.
    Zero,
    /// In a record.
    Data(Held),
}

/// A chunk in a record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Held {
    /// Which image of the chain: 0 is the one that says so, 1 what it goes on from, and so on.
    pub image: u16,
    /// Where the record begins in the stream of that image.
    pub at: u64,
    /// Bytes of its payload.
    pub len: u32,
    /// The hash of the chunk.
    pub hash: [u8; 32],
}

impl Entry {
    pub fn encode(&self, out: &mut Vec<u8>) {
        let (at, len, image, hash) = match self {
            Self::Unused => (0, 0, 0, [0; 32]),
            Self::Zero => (1, 0, 0, [0; 32]),
            Self::Data(held) => (held.at, held.len, held.image, held.hash),
        };
        out.extend(at.to_le_bytes());
        out.extend(len.to_le_bytes());
        out.extend(image.to_le_bytes());
        out.extend([0; 2]);
        out.extend(hash);
    }

    pub fn decode(bytes: &[u8]) -> Self {
        match le64(bytes, 0) {
            0 => Self::Unused,
            1 => Self::Zero,
            at => Self::Data(Held { image: le16(bytes, 12), at, len: le32(bytes, 8), hash: array(bytes, 16) }),
        }
    }
}
