//! How simulated drives fail as whole drives: a head that reads badly, a scratch, damage that grows. Which sector is bad is the same
//! for the same seed.

use serde::Deserialize;
use std::ops::Range;

/// A number that is the same for the same place and seed, 0 to 1.
fn chance_of(place: u64, seed: u64) -> f64 {
    let mut x = place.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ seed.wrapping_mul(0xd6e8_feb8_6659_fd93).rotate_left(17);
    x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    ((x ^ (x >> 31)) >> 11) as f64 / (1u64 << 53) as f64
}

/// A pattern of bad sectors; all places are logical sectors.
#[derive(Clone, Debug, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Pattern {
    /// One of several heads reads badly. Heads take turns, to and fro, each for a zone of so many sectors.
    WeakHead {
        /// How many there are.
        heads: u64,
        /// The bad one, counted from 0.
        head: u64,
        /// Sectors that one head reads before the next one does; in inner zones it becomes less, by a twentieth each eighth of the drive.
        zone: u64,
        /// How many of its sectors are bad, 0 to 1.
        share: f64,
        /// Which ones.
        #[serde(default)]
        seed: u64,
        /// How long a failure takes, in milliseconds.
        #[serde(default)]
        ms: f64,
    },
    /// A scratch over many tracks: a stretch of bad sectors in each, a little further every time.
    Scratch {
        /// First bad sector.
        lba: u64,
        /// Tracks it goes over.
        tracks: u64,
        /// Sectors of a track.
        every: u64,
        /// Bad ones in each.
        width: u64,
        /// Sectors that it is further in each next track.
        #[serde(default)]
        drift: u64,
        /// How long a failure takes, in milliseconds.
        #[serde(default)]
        ms: f64,
    },
    /// Damage that becomes wider with time, and with every read that touches it.
    Growing {
        /// First bad sector.
        lba: u64,
        /// Bad ones at first.
        sectors: u64,
        /// How many more with each hour, on both sides.
        #[serde(default)]
        per_hour: f64,
        /// How many more with each read that fails, on both sides.
        #[serde(default)]
        per_failure: f64,
        /// It grows no further than to so many.
        most: u64,
        /// How long a failure takes, in milliseconds.
        #[serde(default)]
        ms: f64,
    },
}

impl Pattern {
    /// Milliseconds that a failure takes.
    pub fn ms(&self) -> f64 {
        match *self {
            Self::WeakHead { ms, .. } | Self::Scratch { ms, .. } | Self::Growing { ms, .. } => ms,
        }
    }

    /// The first bad sector of a range of a drive of `all` sectors, after `hours` and `failures` of this kind.
    pub fn first_bad(&self, range: Range<u64>, all: u64, hours: f64, failures: u64) -> Option<u64> {
        match *self {
            Self::WeakHead { heads, head, zone, share, seed, .. } => {
                let mut at = range.start;
                while at < range.end {
                    let (turn, end) = turn(at, zone, all);
                    if head_of(turn, heads.max(1)) == head
                        && let Some(bad) = (at..end.min(range.end)).find(|sector| share >= 1.0 || chance_of(*sector, seed) < share)
                    {
                        return Some(bad);
                    }
                    at = end;
                }
                None
            }
            Self::Scratch { lba, tracks, every, width, drift, .. } => {
                let step = every.max(1).saturating_add(drift);
                // The first track whose bad stretch ends behind the range's start.
                let first = (range.start.saturating_sub(lba.saturating_add(width.saturating_sub(1)))).div_ceil(step);
                let start = lba.saturating_add(first.saturating_mul(step));
                (first < tracks && width > 0 && start < range.end).then(|| start.max(range.start))
            }
            Self::Growing { lba, sectors, per_hour, per_failure, most, .. } => {
                let more = (per_hour * hours + per_failure * failures as f64).max(0.0) as u64;
                let grown = sectors.saturating_add(more.saturating_mul(2)).min(most.max(sectors));
                let start = lba.saturating_sub((grown - sectors) / 2);
                let end = start.saturating_add(grown);
                (start < range.end && end > range.start).then(|| start.max(range.start))
            }
        }
    }
}

/// Which turn a sector belongs to, and the first sector of the next one. Zones become shorter towards the end of the drive.
fn turn(sector: u64, zone: u64, all: u64) -> (u64, u64) {
    let (mut start, mut turns) = (0, 0);
    for eighth in 0..8u64 {
        let end = if eighth == 7 { u64::MAX } else { all / 8 * (eighth + 1) };
        let len = (zone.max(20) / 20 * (20 - eighth)).max(1);
        if sector < end {
            let turn = (sector - start) / len;
            return (turns + turn, start.saturating_add((turn + 1).saturating_mul(len)).min(end));
        }
        turns += (end - start).div_ceil(len);
        start = end;
    }
    (turns, u64::MAX)
}

/// Heads go to and fro: 0, 1, 2, 2, 1, 0, 0 and so on.
fn head_of(turn: u64, heads: u64) -> u64 {
    let at = turn % (2 * heads);
    if at < heads { at } else { 2 * heads - 1 - at }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::weak_head(Pattern::WeakHead { heads: 4, head: 1, zone: 100, share: 0.3, seed: 7, ms: 0.0 })]
    #[case::dead_head(Pattern::WeakHead { heads: 3, head: 2, zone: 60, share: 1.0, seed: 7, ms: 0.0 })]
    #[case::scratch(Pattern::Scratch { lba: 130, tracks: 20, every: 90, width: 7, drift: 3, ms: 0.0 })]
    #[case::growing(Pattern::Growing { lba: 700, sectors: 10, per_hour: 3.0, per_failure: 1.0, most: 80, ms: 0.0 })]
    fn the_first_bad_one_of_a_range_is_the_first_one_that_is_bad(#[case] pattern: Pattern) {
        let bad: Vec<u64> = (0..3000).filter(|at| pattern.first_bad(*at..at + 1, 3000, 2.0, 5).is_some()).collect();
        assert!(bad.len() > 10, "{bad:?}");
        for (start, len) in [(0, 3000), (129, 8), (131, 200), (500, 1000), (2990, 10)] {
            let first = bad.iter().copied().find(|at| (start..start + len).contains(at));
            assert_eq!(pattern.first_bad(start..start + len, 3000, 2.0, 5), first, "{start} {len}");
        }
    }

    #[test]
    fn heads_go_to_and_fro() {
        assert_eq!((0..9).map(|turn| head_of(turn, 3)).collect::<Vec<_>>(), [0, 1, 2, 2, 1, 0, 0, 1, 2]);
    }

    #[test]
    fn damage_grows_with_time_and_with_failures_and_not_for_ever() {
        let pattern = Pattern::Growing { lba: 1000, sectors: 10, per_hour: 4.0, per_failure: 0.5, most: 100, ms: 0.0 };
        let width = |hours, failures| (0..3000u64).filter(|at| pattern.first_bad(*at..at + 1, 3000, hours, failures).is_some()).count();
        assert_eq!((width(0.0, 0), width(1.0, 0), width(1.0, 4), width(1e6, 0)), (10, 18, 22, 100));
    }
}
