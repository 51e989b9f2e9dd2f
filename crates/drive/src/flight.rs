//! Several reads in flight on one drive, ended in the order in which they began.

use crate::buffer::Buffer;
use crate::medium::{Medium, ReadError};
use crate::patience::Patience;
use std::collections::VecDeque;

/// A read that ended.
pub struct Landed {
    /// First byte that was asked for.
    pub offset: u64,
    /// Bytes that were asked for.
    pub len: usize,
    /// They are at its start. A drive that does not answer keeps the buffer it was given: this is another one of its size then.
    pub buffer: Buffer,
    /// As of [`Medium::read_at`].
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

/// Reads on `drive`, up to `depth` of them in flight where it has a way to that.
pub fn over<'a>(drive: &'a dyn Medium, depth: u32, patience: &Patience) -> Box<dyn Flight + 'a> {
    drive.flight(depth, patience).unwrap_or_else(|| Box::new(InTurn { drive, patience: patience.clone(), asked: VecDeque::new() }))
}

/// One after the other, each when it is waited for.
struct InTurn<'a> {
    drive: &'a dyn Medium,
    patience: Patience,
    asked: VecDeque<(u64, usize, Buffer)>,
}

impl Flight for InTurn<'_> {
    fn has_room(&self) -> bool {
        self.asked.is_empty()
    }
    fn begin(&mut self, offset: u64, len: usize, buffer: Buffer) {
        self.asked.push_back((offset, len, buffer));
    }
    fn land(&mut self) -> Option<Landed> {
        let (offset, len, mut buffer) = self.asked.pop_front()?;
        let outcome = self.drive.read_within(offset, &mut buffer[..len], &self.patience);
        Some(Landed { offset, len, buffer, outcome })
    }
}
