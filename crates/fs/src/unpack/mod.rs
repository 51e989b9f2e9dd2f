//! The compressions that file systems use inside of files.

pub mod lznt1;
mod lzo;
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
    /// zlib, as btrfs has it: what it does not reach is zero.
    Zlib,
    /// LZO, as btrfs has it.
    Lzo,
    /// Zstandard, as btrfs has it.
    Zstd,
}

impl Packing {
    /// Unpacks a chunk into exactly `size` bytes; `None` where it is damaged.
    pub fn unpack(self, data: &[u8], size: usize) -> Option<Vec<u8>> {
        match self {
            Self::Xpress => xpress::unpack(data, size),
            Self::Lzx => lzx::unpack(data, size),
            Self::Zlib => filled(flate2::read::ZlibDecoder::new(data), size),
            Self::Lzo => lzo::unpack(data, size),
            Self::Zstd => filled(zstd::stream::read::Decoder::new(data).ok()?.single_frame(), size),
        }
    }
}

/// What comes out of a reader, `size` bytes; what it does not reach is zero.
fn filled(mut from: impl std::io::Read, size: usize) -> Option<Vec<u8>> {
    let (mut out, mut done) = (vec![0; size], 0);
    while done < size {
        match from.read(&mut out[done..]).ok()? {
            0 => break,
            count => done += count,
        }
    }
    Some(out)
}
