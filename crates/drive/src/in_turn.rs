//! Reads in flight on any drive: where it has no way to that, one after the other.

use crate::buffer::Buffer;
use crate::flight::{Flight, Landed};
use crate::medium::Medium;
use crate::patience::Patience;
use std::collections::VecDeque;

/// Reads on `drive`, up to `depth` of them in flight where it has a way to that.
pub fn flight<'a>(drive: &'a dyn Medium, depth: u32, patience: &Patience) -> Box<dyn Flight + 'a> {
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
