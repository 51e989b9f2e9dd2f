//! Compares two drives or images.

use crate::Control;
use crate::copy::CHUNK;
use crate::proof::differing_sectors;
use badger_drive::buffer::Buffer;
use badger_drive::clock::Clock;
use badger_drive::events::{Event, Observer};
use badger_drive::{Since, Source};
use badger_inspect::Stretch;

/// So many stretches are remembered.
const MOST: usize = 10_000;

/// What a comparison brought.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Comparison {
    /// Bytes from the start that were gone over: the size of the smaller drive where it was not stopped.
    pub bytes: u64,
    /// Differing stretches, in sectors of the first drive.
    pub differing: Vec<Stretch>,
    /// How many sectors differ, also where there are too many stretches to remember.
    pub sectors: u64,
    /// Places one of the two could not read, in sectors of the first drive: they are neither equal nor different.
    pub unreadable: Vec<Stretch>,
    /// How many sectors that is, also where there are too many places to remember.
    pub unread: u64,
    /// Whether it was stopped before the end.
    pub stopped: bool,
    /// What became of the first and of the second one meanwhile.
    pub since: [Since; 2],
}

impl Comparison {
    /// Whether neither is known to have been written to, or taken out, while it was read.
    pub fn is_held(&self) -> bool {
        !self.since.iter().any(|since| matches!(since, Since::Written | Since::Unseen))
    }

    /// Whether all of the smaller one was read of both, is the same, and nobody is known to have changed it meanwhile.
    pub fn is_equal(&self) -> bool {
        !self.stopped && self.sectors == 0 && self.unread == 0 && self.is_held()
    }

    fn lose(&mut self, start: u64, len: u64, sector: u64) {
        let (first, end) = (start / sector, (start + len).div_ceil(sector));
        self.unread += end - first;
        let has_room = self.unreadable.len() < MOST;
        match self.unreadable.last_mut() {
            Some(last) if last.start + last.sectors == first => last.sectors += end - first,
            _ if has_room => self.unreadable.push(Stretch { start: first, sectors: end - first }),
            _ => {}
        }
    }
}

/// Compares `a` with `b` over the size of the smaller one.
pub fn compare(a: &Source, b: &Source, control: &Control, observer: &dyn Observer, clock: &dyn Clock) -> Comparison {
    let size = a.geometry().size_bytes.min(b.geometry().size_bytes);
    let sector = a.geometry().logical_sector;
    let mut out = Comparison::default();
    let before = [a, b].map(|drive| drive.standing());
    let (mut left, mut right) = (Buffer::new(CHUNK as usize), Buffer::new(CHUNK as usize));
    let began = clock.now();
    let mut at = 0;
    while at < size {
        if !control.go_on() {
            out.stopped = true;
            break;
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
                Err(_) => lost = vec![(at, len)],
            }
            lost.sort_unstable();
            let mut said = at;
            for (start, len) in lost {
                let place = (start - at) as usize..(start + len - at) as usize;
                left[place.clone()].fill(0);
                right[place].fill(0);
                // Both may have lost the same place.
                let end = start + len;
                if end > said {
                    out.lose(start.max(said), end - start.max(said), u64::from(sector));
                    said = end;
                }
            }
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
    out.bytes = at;
    out.since = [(a, &before[0]), (b, &before[1])].map(|(drive, before)| drive.standing().since(before));
    out
}
