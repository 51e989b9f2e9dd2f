//! Only some of a drive: all else is zero, and is not read.

use badger_drive::medium::inside;
use badger_drive::{Extents, Geometry, Holds, Identity, Medium, Patience, ReadError, Source, Standing, Stretch};
use std::fs::File;

/// What is kept begins and ends at multiples of this, in bytes: what lies between comes along.
const STEP: u64 = 1 << 20;

/// A drive of which only some stretches are there.
pub struct Only {
    drive: Source,
    kept: Extents<()>,
}

impl Only {
    /// Of `drive`, what is `needed` and little more.
    pub fn new(drive: Source, needed: &Extents<()>) -> Self {
        let (mut kept, size) = (Extents::new(), drive.geometry().size_bytes);
        needed.iter().for_each(|(range, ())| kept.set(range.start / STEP * STEP..range.end.next_multiple_of(STEP).min(size), ()));
        Self { drive, kept }
    }

    /// The stretch from a byte on that is kept, or that is not, up to `end`.
    fn part(&self, at: u64, end: u64) -> (bool, u64) {
        match self.kept.within(at..end).next() {
            Some((range, ())) if range.start <= at => (true, range.end.min(end)),
            Some((range, ())) => (false, range.start),
            None => (false, end),
        }
    }
}

impl Medium for Only {
    fn geometry(&self) -> Geometry {
        self.drive.geometry()
    }
    fn identity(&self) -> &Identity {
        self.drive.identity()
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read_within(offset, buf, &self.drive.patience())
    }
    fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> Result<(), ReadError> {
        let end = inside(offset, buf.len(), self.geometry().size_bytes)?;
        let mut at = offset;
        while at < end {
            let (kept, until) = self.part(at, end);
            let here = &mut buf[(at - offset) as usize..(until - offset) as usize];
            if kept {
                self.drive.read_within(at, here, patience)?;
            } else {
                here.fill(0);
            }
            at = until;
        }
        Ok(())
    }
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let end = offset.saturating_add(max).min(self.geometry().size_bytes);
        if offset >= end {
            return Stretch { len: 0, holds: Holds::Bytes };
        }
        let (kept, until) = self.part(offset, end);
        if kept { self.drive.stretch(offset, until - offset) } else { Stretch { len: until - offset, holds: Holds::Zero } }
    }
    fn standing(&self) -> Standing {
        self.drive.standing()
    }
    fn rests_on(&self) -> Vec<&File> {
        self.drive.rests_on()
    }
    fn veil(&self) -> Option<String> {
        self.drive.veil()
    }
    fn present(&self) -> bool {
        self.drive.present()
    }
    fn clock(&self) -> Option<std::sync::Arc<dyn badger_drive::clock::Clock>> {
        self.drive.clock()
    }
}
