//! The base block, which a registry file and its logs begin with.

use super::{Result, Wrong};
use badger_drive::field::{le32, le64};

/// Bytes of it in the file itself; places of cells count from its end.
pub const BASE: u64 = 4096;
/// Bytes of it in a log.
pub const LOG_BASE: u64 = 512;
/// No cell.
pub const NONE: u32 = u32::MAX;

/// What a base block says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Base {
    /// Counted up before a file is written to, and after: it was written whole where both are equal.
    pub sequence: (u32, u32),
    /// When it was written last, in units of 100 ns since 1601.
    pub written: u64,
    /// Version of the layout.
    pub version: (u32, u32),
    /// 0 the file itself, others logs.
    pub kind: u32,
    /// Where the root key is.
    pub root: u32,
    /// Bytes of all bins.
    pub bins: u32,
    /// Whether its sum is right.
    pub is_sound: bool,
}

/// The sum over the first 508 bytes, as it stands behind them.
pub fn sum(block: &[u8]) -> u32 {
    match (0..127).fold(0, |sum, at| sum ^ le32(block, at * 4)) {
        0 => 1,
        u32::MAX => u32::MAX - 1,
        sum => sum,
    }
}

impl Base {
    /// Reads one from 512 bytes.
    ///
    /// # Errors
    /// It is none.
    pub fn read(block: &[u8]) -> Result<Self> {
        if block.len() < LOG_BASE as usize || &block[..4] != b"regf" {
            return Err(Wrong::new("registry-no-base", "it does not begin as a registry file does"));
        }
        Ok(Self {
            sequence: (le32(block, 4), le32(block, 8)),
            written: le64(block, 12),
            version: (le32(block, 20), le32(block, 24)),
            kind: le32(block, 28),
            root: le32(block, 36),
            bins: le32(block, 40),
            is_sound: le32(block, 508) == sum(block),
        })
    }

    /// Whether what it says was written to its end.
    pub fn is_clean(&self) -> bool {
        self.is_sound && self.sequence.0 == self.sequence.1
    }
}
