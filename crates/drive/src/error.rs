//! Why a drive did not do what was asked of it.

use std::io;
use std::time::Duration;

/// Why a read gave nothing.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// The drive answers, but cannot read this place. Bytes before `offset` of the same call were read.
    #[error("unreadable at byte {offset} ({len} bytes): {why}")]
    Unreadable {
        /// First byte that could not be had.
        offset: u64,
        /// Length of the rest of the call, in bytes.
        len: u64,
        /// What the system said.
        why: String,
    },
    /// The drive does not answer any more.
    #[error("the drive is gone: {0}")]
    Gone(String),
    /// The drive is there and has not answered yet. It may be busy with this read for long.
    #[error("no answer from byte {offset} for {} s", after.as_secs())]
    Silent {
        /// First byte of the call.
        offset: u64,
        /// How long the answer was waited for.
        after: Duration,
    },
    /// Nobody may read past the end; a bug in the caller or a drive that became smaller.
    #[error("read of {len} bytes at {offset} reaches past the end of the drive at {size}")]
    PastEnd {
        /// First byte asked for.
        offset: u64,
        /// Bytes asked for.
        len: u64,
        /// Size of the drive in bytes.
        size: u64,
    },
}

/// Why a write did not happen. How much of the stretch was written is not known.
#[derive(Debug, thiserror::Error)]
pub enum WriteError {
    /// The drive refuses this place.
    #[error("cannot write at byte {offset} ({len} bytes): {why}")]
    Failed {
        /// First byte of the call.
        offset: u64,
        /// Length of the call in bytes.
        len: u64,
        /// What the system said.
        why: String,
    },
    /// The file system under a target file is full.
    #[error("no space left under the target file at byte {0}: make room there and give the same command again")]
    Full(u64),
    /// The drive does not answer any more.
    #[error("the target is gone: {0}")]
    Gone(String),
    /// Nobody may write past the end.
    #[error("write of {len} bytes at {offset} reaches past the end of the target at {size}")]
    PastEnd {
        /// First byte of the call.
        offset: u64,
        /// Length of the call in bytes.
        len: u64,
        /// Size of the target in bytes.
        size: u64,
    },
}

/// Whether an error of the system means that the device went away.
pub(crate) fn means_gone(error: &io::Error) -> bool {
    matches!(error.raw_os_error(), Some(libc::ENODEV | libc::ENXIO | libc::ENOMEDIUM | libc::ESHUTDOWN))
}

impl ReadError {
    /// Sorts a system error at `offset`, with `len` bytes still wanted.
    pub fn from_io(error: &io::Error, offset: u64, len: u64) -> Self {
        if means_gone(error) { Self::Gone(error.to_string()) } else { Self::Unreadable { offset, len, why: error.to_string() } }
    }
}

impl WriteError {
    /// Sorts a system error of a write of `len` bytes at `offset`.
    pub fn from_io(error: &io::Error, offset: u64, len: u64) -> Self {
        match error.raw_os_error() {
            Some(libc::ENOSPC | libc::EDQUOT) => Self::Full(offset),
            _ if means_gone(error) => Self::Gone(error.to_string()),
            _ => Self::Failed { offset, len, why: error.to_string() },
        }
    }
}
