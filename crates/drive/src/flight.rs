//! Several reads in flight on one drive, ended in the order in which they began.

use crate::buffer::Buffer;
use crate::error::ReadError;

/// A read that ended.
pub struct Landed {
    /// First byte that was asked for.
    pub offset: u64,
    /// Bytes that were asked for.
    pub len: usize,
    /// They are at its start. A drive that does not answer keeps the buffer it was given: this is another one of its size then.
    pub buffer: Buffer,
    /// As of [`crate::Medium::read_at`].
    pub outcome: Result<(), ReadError>,
}

/// Reads in flight.
pub trait Flight {
    /// Whether another one may begin now.
    fn has_room(&self) -> bool;

    /// Begins to read `len` bytes at `offset` into the start of `buffer`, which is at least as long. Where there is no room
    /// it begins later.
    fn begin(&mut self, offset: u64, len: usize, buffer: Buffer);

    /// Waits for the read that began first; `None` where none is in flight.
    fn land(&mut self) -> Option<Landed>;
}
