//! Compares two drives or images.

use crate::Control;
use crate::copy::CHUNK;
use crate::proof::differing_sectors;
use badger_drive::Source;
use badger_drive::buffer::Buffer;
use badger_drive::clock::Clock;
use badger_drive::events::{Event, Observer};
use badger_inspect::Stretch;

/// So many stretches are remembered.
const MOST: usize = 10_000;

/// What a comparison brought.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Comparison {
    /// Bytes that were compared: the size of the smaller drive.
    pub bytes: u64,
    /// Differing stretches, in sectors of the first drive.
    pub differing: Vec<Stretch>,
    /// How many sectors differ, also where there are too many stretches to remember.
    pub sectors: u64,
    /// Places one of the two could not read, in sectors.
    pub unreadable: Vec<Stretch>,
    /// Whether it was stopped before the end.
    pub stopped: bool,
}

/// Compares `a` with `b` over the size of the smaller one.
pub fn compare(a: &Source, b: &Source, control: &Control, observer: &dyn Observer, clock: &dyn Clock) -> Comparison {
    let size = a.geometry().size_bytes.min(b.geometry().size_bytes);
    let sector = a.geometry().logical_sector;
    let mut out = Comparison { bytes: size, ..Comparison::default() };
    let (mut left, mut right) = (Buffer::new(CHUNK as usize), Buffer::new(CHUNK as usize));
    let began = clock.now();
    let mut at = 0;
    while at < size {
        if !control.go_on() {
            out.stopped = true;
            return out;
        }
        let empty = a.zero_run(at, size - at);
        let empty = if empty > 0 { b.zero_run(at, empty) } else { 0 };
        let len = if empty > 0 { empty } else { (size - at).min(CHUNK) };
        if empty == 0 {
            let (left, right) = (&mut left[..len as usize], &mut right[..len as usize]);
            let mut lost = Vec::new();
            let read = std::thread::scope(|scope| {
                let other = scope.spawn(|| {
                    let mut lost = Vec::new();
                    badger_drive::narrow::read_hard(&**b, at, right, &mut lost).map(|()| lost)
                });
                let mine = badger_drive::narrow::read_hard(&**a, at, left, &mut lost);
                mine.and(other.join().expect("the reader does not panic"))
            });
            match read {
                Ok(more) => lost.extend(more),
                Err(_) => lost.push((at, len)),
            }
            out.unreadable
                .extend(lost.iter().map(|(start, len)| Stretch { start: start / u64::from(sector), sectors: len.div_ceil(u64::from(sector)) }));
            if left != right {
                let stretches = differing_sectors(at, left, right, sector);
                out.sectors += stretches.iter().map(|stretch| stretch.sectors).sum::<u64>();
                let room = MOST.saturating_sub(out.differing.len());
                out.differing.extend(stretches.into_iter().take(room));
            }
        }
        observer.event(&Event::Moved { start: at, len, at: (clock.now().saturating_sub(began)).as_secs_f64() });
        at += len;
    }
    out
}
