//! The compressions that file systems use inside of files.

pub mod lznt1;
mod lzx;
mod words;
mod xpress;

/// How a chunk that its system compressed is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Packing {
    /// Xpress with Huffman codes.
    Xpress,
    /// LZX with a window of 32 KiB.
    Lzx,
}

impl Packing {
    /// Unpacks a chunk into exactly `size` bytes; `None` where it is damaged.
    pub fn unpack(self, data: &[u8], size: usize) -> Option<Vec<u8>> {
        match self {
            Self::Xpress => xpress::unpack(data, size),
            Self::Lzx => lzx::unpack(data, size),
        }
    }
}
