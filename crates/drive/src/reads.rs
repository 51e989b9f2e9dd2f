//! Reading a drive on and on: several reads in flight, ended in the order in which they began, each whatever it takes.

use crate::buffer::{Buffer, Pool};
use crate::flight::{Flight, Landed};
use crate::in_turn;
use crate::medium::Medium;
use crate::narrow::read_on;
use crate::patience::Patience;

/// Reads of one drive into the buffers of a pool. What is still in flight when it is dropped is replaced in the pool: others
/// may be waiting for it.
pub struct Reads<'a> {
    drive: &'a (dyn Medium + 'a),
    flight: Box<dyn Flight + 'a>,
    pool: &'a Pool,
    flying: usize,
    /// Bytes of a buffer of the pool.
    most: usize,
}

/// A stretch that was read.
pub struct Got {
    /// Its first byte.
    pub offset: u64,
    /// Its bytes; they are at the start of `buffer`.
    pub len: usize,
    /// From the pool, to be given back there.
    pub buffer: Buffer,
    /// What of it could not be read and is zero in the buffer: start and length in bytes.
    pub lost: Vec<(u64, u64)>,
}

impl<'a> Reads<'a> {
    /// Reads on `drive`, up to `depth` in flight where it has a way to that.
    pub fn new(drive: &'a (dyn Medium + 'a), depth: u32, patience: &Patience, pool: &'a Pool) -> Self {
        Self { drive, flight: in_turn::flight(drive, depth, patience), pool, flying: 0, most: 0 }
    }

    /// Begins to read a stretch, at most as long as a buffer of the pool; waits for one.
    pub fn begin(&mut self, offset: u64, len: u64) {
        let buffer = self.pool.take();
        self.most = buffer.len();
        self.flight.begin(offset, len as usize, buffer);
        self.flying += 1;
    }

    /// What was begun first, where it must end before another read can begin.
    ///
    /// # Errors
    /// As of [`Reads::land`].
    pub fn make_room(&mut self) -> Result<Option<Got>, String> {
        if self.flight.has_room() { Ok(None) } else { self.land() }
    }

    /// Waits for what was begun first; `None` where nothing is in flight.
    ///
    /// # Errors
    /// Why the drive does not answer any more.
    pub fn land(&mut self) -> Result<Option<Got>, String> {
        if self.flying == 0 {
            return Ok(None);
        }
        let Landed { offset, len, mut buffer, outcome } = self.flight.land().ok_or("of the reads in flight none ends")?;
        self.flying -= 1;
        let mut lost = Vec::new();
        match outcome.or_else(|error| read_on(self.drive, offset, &mut buffer[..len], error, &mut lost)) {
            Ok(()) => Ok(Some(Got { offset, len, buffer, lost })),
            Err(why) => {
                self.pool.give(buffer);
                Err(why)
            }
        }
    }
}

impl Drop for Reads<'_> {
    fn drop(&mut self) {
        (0..self.flying).for_each(|_| self.pool.give(Buffer::new(self.most)));
    }
}
