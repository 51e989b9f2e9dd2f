//! Looking at a drive in a few places: enough to say whether it is still the one that was shown, and whether it looks
//! empty. What was not looked at is not claimed.

use crate::buffer::{Buffer, is_zero};
use crate::medium::Medium;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Bytes of one place.
pub const PLACE: u64 = 4096;
/// How many places are looked at besides both ends: so many spread evenly, and as many that lie the closer the nearer
/// they are to the start.
pub const WIDE: u32 = 24;
/// The same where only a known drive is to be told from another: every read may be a failing drive's last.
pub const NARROW: u32 = 6;
/// Where volumes and tables begin by custom: the first sectors, sector 63, the super blocks of several formats, 1 MiB.
const BEGINNINGS: [u64; 6] = [0, PLACE, 28 << 10, 32 << 10, 64 << 10, 1 << 20];
/// How far from the end the last places lie.
const ENDS: [u64; 3] = [PLACE, 64 << 10, 1 << 20];
/// A drive that could not read so many places is not asked for more.
const TROUBLE: usize = 4;

/// What a place holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Seen {
    /// Nothing but zeroes.
    Zero,
    /// Something; the first half of its BLAKE3.
    Data([u64; 2]),
    /// It could not be read.
    Unreadable,
}

/// What was seen of a drive: places by their first byte.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sounding {
    /// First byte and what was seen there, in order.
    pub places: Vec<(u64, Seen)>,
}

/// What is in a place now.
fn look(drive: &dyn Medium, at: u64, buffer: &mut Buffer) -> Seen {
    let len = PLACE.min(drive.geometry().size_bytes - at);
    if drive.zero_run(at, len) == len {
        return Seen::Zero;
    }
    let bytes = &mut buffer[..len as usize];
    match drive.read_at(at, bytes) {
        Err(_) => Seen::Unreadable,
        Ok(()) if is_zero(bytes) => Seen::Zero,
        Ok(()) => {
            let hash = blake3::hash(bytes);
            Seen::Data([crate::field::le64(hash.as_bytes(), 0), crate::field::le64(hash.as_bytes(), 8)])
        }
    }
}

/// The places of a drive of `size` bytes, in order.
fn places(size: u64, spread: u32, more: &[u64]) -> BTreeSet<u64> {
    let near = (0..spread).map(|step| {
        // From 2 MiB on, each a fixed factor further out.
        let share = f64::from(step + 1) / f64::from(spread + 1);
        ((2 << 20) as f64 * (size as f64 / (2 << 20) as f64).max(1.0).powf(share)) as u64
    });
    let even = (1..=u64::from(spread)).map(|step| size / (u64::from(spread) + 1) * step);
    let ends = ENDS.iter().filter_map(|back| size.checked_sub(*back));
    let all = BEGINNINGS.into_iter().chain(near).chain(even).chain(ends).chain(more.iter().copied());
    all.map(|at| at / PLACE * PLACE).filter(|at| *at < size).collect()
}

impl Sounding {
    /// Looks at both ends, at places spread over the drive, [`WIDE`] or [`NARROW`], and at those that hold the bytes `more`.
    pub fn take(drive: &dyn Medium, spread: u32, more: &[u64]) -> Self {
        let mut buffer = Buffer::new(PLACE as usize);
        let (mut out, mut trouble) = (Self::default(), 0);
        for at in places(drive.geometry().size_bytes, spread, more) {
            let seen = look(drive, at, &mut buffer);
            out.places.push((at, seen));
            trouble += usize::from(seen == Seen::Unreadable);
            if trouble == TROUBLE {
                break;
            }
        }
        out
    }

    /// Looks at the same places again: how many were compared, and the first bytes of those that hold something else.
    /// Where the drive gives other bytes at every reading nothing can be compared.
    pub fn compare(&self, drive: &dyn Medium) -> (usize, Vec<u64>) {
        let mut buffer = Buffer::new(PLACE as usize);
        let size = drive.geometry().size_bytes;
        let (mut compared, mut differ) = (0, Vec::new());
        for &(at, then) in self.places.iter().filter(|(_, seen)| *seen != Seen::Unreadable) {
            if at >= size {
                differ.push(at);
                continue;
            }
            let now = look(drive, at, &mut buffer);
            if now == Seen::Unreadable {
                continue;
            }
            if now == then {
                compared += 1;
            } else if look(drive, at, &mut buffer) == now {
                compared += 1;
                differ.push(at);
            }
        }
        (compared, differ)
    }

    /// How many places read as zero, hold something, could not be read.
    pub fn counts(&self) -> (usize, usize, usize) {
        let count = |which: fn(&Seen) -> bool| self.places.iter().filter(|(_, seen)| which(seen)).count();
        (count(|seen| *seen == Seen::Zero), count(|seen| matches!(seen, Seen::Data(_))), count(|seen| *seen == Seen::Unreadable))
    }

    /// The places that hold something.
    pub fn data(&self) -> impl Iterator<Item = u64> {
        self.places.iter().filter(|(_, seen)| matches!(seen, Seen::Data(_))).map(|(at, _)| *at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::medium::MemoryMedium;
    use rstest::rstest;

    #[rstest]
    fn places_lie_inside_and_reach_both_ends(#[values(0, 1, 512, 4096, 5000, 1 << 20, 3 << 20, 250_059_350_016, 16_000_900_661_248)] size: u64) {
        let places = places(size, WIDE, &[7, size, u64::MAX]);
        assert!(places.iter().all(|at| *at < size && at % PLACE == 0));
        assert_eq!(places.contains(&0), size > 0);
        if size > PLACE {
            assert!(places.iter().any(|at| size - at <= 2 * PLACE));
        }
        assert!(places.len() <= 70);
    }

    #[test]
    fn a_change_in_a_place_is_seen_and_named() {
        let mut bytes = vec![0u8; 40 << 20];
        bytes[5] = 1;
        let sounding = Sounding::take(&MemoryMedium::new(bytes.clone(), 512), NARROW, &[9 << 20]);
        assert_eq!(sounding.counts().1, 1);
        assert_eq!(sounding.compare(&MemoryMedium::new(bytes.clone(), 512)), (sounding.places.len(), vec![]));
        bytes[(9 << 20) + 17] = 1;
        assert_eq!(sounding.compare(&MemoryMedium::new(bytes, 512)).1, [9 << 20]);
    }
}
