//! How fast every part of the source was read, in a fixed number of cells whatever its size.

use badger_transfer::Event;
use serde::{Deserialize, Serialize};

/// Cells a drive is divided into.
pub const CELLS: usize = 300;

/// Seconds in a cell from which a rate can be told: what comes out of a cache, many at once, says nothing of a drive.
const LEAST: f64 = 0.001;

/// Bytes and seconds for each cell.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Rates {
    size: u64,
    bytes: Vec<f64>,
    seconds: Vec<f64>,
    last: f64,
}

impl Rates {
    /// For a source of `size` bytes.
    pub fn new(size: u64) -> Self {
        Self { size, bytes: vec![0.0; CELLS], seconds: vec![0.0; CELLS], last: 0.0 }
    }

    /// A phase begins at `at` seconds: the time before it belongs to no cell.
    pub fn begin(&mut self, at: f64) {
        self.last = at;
    }

    /// Takes in what was moved.
    pub fn add(&mut self, start: u64, len: u64, at: f64) {
        let span = (at - self.last).max(0.0);
        self.last = at.max(self.last);
        if self.size == 0 || len == 0 {
            return;
        }
        let cell = self.size as f64 / CELLS as f64;
        let (from, to) = (start as f64, (start + len) as f64);
        let first = ((from / cell) as usize).min(CELLS - 1);
        let last = ((to / cell).ceil() as usize).clamp(first + 1, CELLS);
        for at in first..last {
            let inside = to.min((at + 1) as f64 * cell) - from.max(at as f64 * cell);
            self.bytes[at] += inside.max(0.0);
            self.seconds[at] += span * inside.max(0.0) / len as f64;
        }
    }

    /// Takes in an event of the copying phase.
    pub fn event(&mut self, event: &Event) {
        if let Event::Moved { start, len, at } = event {
            self.add(*start, *len, *at);
        }
    }

    /// Bytes a second in every cell; `None` where nothing was read, or in less time than tells anything.
    pub fn cells(&self) -> Vec<Option<f64>> {
        self.bytes.iter().zip(&self.seconds).map(|(bytes, seconds)| (*bytes > 0.0 && *seconds >= LEAST).then(|| bytes / seconds)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_and_time_go_to_their_cells() {
        let mut rates = Rates::new(3000);
        rates.add(0, 1500, 1.5);
        rates.add(1500, 15, 4.5);
        rates.add(2000, 10, 4.500_001);
        let cells = rates.cells();
        assert!((cells[0].unwrap() - 1000.0).abs() < 1e-6);
        assert!((cells[150].unwrap() - 5.0).abs() < 1e-6);
        assert_eq!(cells[299], None);
        assert_eq!(cells.iter().flatten().count(), 152);
    }
}
