//! The one way in which a read that failed is narrowed down to what cannot be read.

use crate::medium::{Holds, Medium, ReadError};

/// Why one of the reads gave nothing.
pub enum Failed<E> {
    /// Somewhere in it, at this byte or behind it; what lies before it was read.
    At(u64),
    /// At this byte, and for so many, which is known; what lies before it was read.
    All(u64, u64),
    /// There is no use in reading on.
    Over(E),
}

/// Fills a buffer from a byte on.
pub type Read<'a, E> = dyn FnMut(u64, &mut [u8]) -> Result<(), Failed<E>> + 'a;

/// Reads a stretch whatever it takes: what fails is read again in ever smaller parts, down to `least` bytes that begin at
/// a multiple of `least`. What stays unreadable is zero in `buf` and named in `lost`, start and length in bytes.
///
/// # Errors
/// What [`Failed::Over`] says.
pub fn narrow<E>(read: &mut Read<E>, least: u64, offset: u64, buf: &mut [u8], lost: &mut Vec<(u64, u64)>) -> Result<(), E> {
    let (least, end) = (least.max(1), offset + buf.len() as u64);
    let edge = |at: u64| (at / least + 1) * least;
    let mut loses = |bytes: &mut [u8], from: u64| {
        bytes.fill(0);
        let to = from + bytes.len() as u64;
        match lost.last_mut() {
            Some((start, held)) if *start + *held == from => *held = to - *start,
            _ => lost.push((from, to - from)),
        }
    };
    let at = match read(offset, buf) {
        Ok(()) => return Ok(()),
        Err(Failed::Over(why)) => return Err(why),
        Err(Failed::All(at, len)) => {
            let from = (at.clamp(offset, end - 1) / least * least).max(offset);
            let to = edge(at.saturating_add(len.max(1)) - 1).clamp(from + 1, end);
            let (gone, rest) = buf[(from - offset) as usize..].split_at_mut((to - from) as usize);
            loses(gone, from);
            return if rest.is_empty() { Ok(()) } else { narrow(read, least, to, rest, lost) };
        }
        Err(Failed::At(at)) => at,
    };
    if end <= edge(offset) {
        loses(buf, offset);
        return Ok(());
    }
    // What lies before the failure is here; the rest is halved.
    let start = (at.clamp(offset, end - 1) / least * least).max(offset);
    let middle = ((start + (end - start) / 2) / least * least).max(edge(start)).min(end);
    let (first, second) = buf[(start - offset) as usize..].split_at_mut((middle - start) as usize);
    narrow(read, least, start, first, lost)?;
    if second.is_empty() {
        return Ok(());
    }
    narrow(read, least, middle, second, lost)
}

/// What an error of a drive means for whoever wants the rest.
fn failed(drive: &dyn Medium, error: ReadError) -> Failed<String> {
    match error {
        ReadError::Unreadable { offset, len, .. } if drive.present() => {
            let known = drive.stretch(offset, len);
            if known.holds == Holds::Unknown && known.len > 0 { Failed::All(offset, known.len) } else { Failed::At(offset) }
        }
        error => Failed::Over(error.to_string()),
    }
}

/// Goes on with a stretch of a drive of which one read has failed already.
///
/// # Errors
/// Why the drive does not answer any more.
pub fn read_on(drive: &dyn Medium, offset: u64, buf: &mut [u8], error: ReadError, lost: &mut Vec<(u64, u64)>) -> Result<(), String> {
    let mut first = Some(error);
    let mut read = |at: u64, buf: &mut [u8]| first.take().map_or_else(|| drive.read_at(at, buf), Err).map_err(|error| failed(drive, error));
    narrow(&mut read, u64::from(drive.geometry().logical_sector), offset, buf, lost)
}

/// Reads a stretch of a drive whatever it takes, down to its sectors.
///
/// # Errors
/// Why the drive does not answer any more.
pub fn read_hard(drive: &dyn Medium, offset: u64, buf: &mut [u8], lost: &mut Vec<(u64, u64)>) -> Result<(), String> {
    let mut read = |at: u64, buf: &mut [u8]| drive.read_at(at, buf).map_err(|error| failed(drive, error));
    narrow(&mut read, u64::from(drive.geometry().logical_sector), offset, buf, lost)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        /// Whatever is bad, all of it and nothing else is lost, and no place is asked for more often than its size has halves.
        #[test]
        fn all_that_is_bad_and_nothing_else_is_lost(
            bad in prop::collection::btree_set(0u64..200, 0..20), least in 1u64..9, from in 0u64..150, len in 1u64..60,
            tells in any::<bool>(), knows in any::<bool>()
        ) {
            let bad: BTreeSet<u64> = bad.into_iter().collect();
            let mut reads = 0usize;
            let mut read = |at: u64, buf: &mut [u8]| -> Result<(), Failed<()>> {
                reads += 1;
                for (byte, place) in buf.iter_mut().zip(at..) {
                    if bad.contains(&place) {
                        if knows {
                            let run = (place..).take_while(|place| bad.contains(place)).count() as u64;
                            return Err(Failed::All(place, run));
                        }
                        return Err(Failed::At(if tells { place } else { at }));
                    }
                    *byte = place as u8 | 1;
                }
                Ok(())
            };
            let (mut buf, mut lost) = (vec![0xee; len as usize], Vec::new());
            narrow(&mut read, least, from, &mut buf, &mut lost).unwrap();
            let is_lost = |place: u64| {
                let unit = (place / least * least).max(from)..((place / least + 1) * least).min(from + len);
                bad.range(unit).next().is_some()
            };
            let wanted: Vec<u8> = (from..from + len).map(|place| if is_lost(place) { 0 } else { place as u8 | 1 }).collect();
            prop_assert_eq!(buf, wanted);
            let named: BTreeSet<u64> = lost.iter().flat_map(|(start, len)| *start..start + len).collect();
            prop_assert_eq!(named, (from..from + len).filter(|place| is_lost(*place)).collect::<BTreeSet<u64>>());
            prop_assert!(lost.windows(2).all(|pair| pair[0].0 + pair[0].1 < pair[1].0));
            prop_assert!(reads <= 1 + 2 * 7 * bad.len(), "{} reads for {}", reads, bad.len());
        }
    }

    #[test]
    fn a_drive_that_is_away_ends_it() {
        let mut reads = 0;
        let mut read = |_: u64, _: &mut [u8]| {
            reads += 1;
            Err(if reads < 3 { Failed::At(0) } else { Failed::Over("gone") })
        };
        assert_eq!(narrow(&mut read, 1, 0, &mut [0; 64], &mut Vec::new()), Err("gone"));
        assert_eq!(reads, 3);
    }
}
