//! What a format tells of a drive.

use std::sync::Arc;

/// How a stretch is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Packing {
    /// Deflate without a frame.
    Deflate,
    /// Deflate in the frame of zlib.
    Zlib,
    /// Zstandard.
    Zstd,
}

/// Where a stretch lies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Place {
    /// In one of the container's files, from a byte on.
    File { file: usize, at: u64 },
    /// Packed in `len` bytes at `at` of a file, together with what is around it: `whole` bytes come out, and the stretch begins
    /// `inner` bytes into them.
    Packed { file: usize, at: u64, len: usize, whole: usize, inner: usize, packing: Packing },
    /// Nowhere: it is zero.
    Zero,
    /// In what lies below this layer; zero where nothing does.
    Below,
}

/// What is wrong with a container, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub(crate) struct Wrong(pub Arc<str>);

impl Wrong {
    pub(crate) fn new(text: impl Into<String>) -> Self {
        Self(text.into().into())
    }
}

pub(crate) type Result<T> = std::result::Result<T, Wrong>;

/// A drive as a format keeps it.
pub(crate) trait Layer: Send + Sync {
    /// Bytes of the drive.
    fn size(&self) -> u64;

    /// Bytes of a logical and of a physical sector.
    fn sectors(&self) -> (u32, u32) {
        (512, 4096)
    }

    /// Where the bytes from `offset` on lie, and for how many, `max` at the most, that is so. At least one byte.
    fn locate(&self, offset: u64, max: u64) -> Result<(u64, Place)>;
}
