//! What is known of every place of a drive that fails.

use badger_drive::Extents;
use std::ops::Range;

/// What is known of a stretch. The order is that of knowing more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum State {
    /// Nobody was there yet.
    Unread,
    /// Left for later: after so many reads that failed at this very sector, or, where that is 0, because trouble is near.
    Deferred(u8),
    /// Given up after many tries.
    Lost,
    /// On the target.
    Saved,
}

/// Bytes in each state.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Totals {
    /// Nobody was there yet.
    pub unread: u64,
    /// Left for later.
    pub deferred: u64,
    /// Given up.
    pub lost: u64,
    /// On the target.
    pub saved: u64,
}

impl Totals {
    fn of(&mut self, state: State) -> &mut u64 {
        match state {
            State::Unread => &mut self.unread,
            State::Deferred(_) => &mut self.deferred,
            State::Lost => &mut self.lost,
            State::Saved => &mut self.saved,
        }
    }
}

/// The state of every byte of a drive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Map {
    size: u64,
    extents: Extents<State>,
    totals: Totals,
}

impl Map {
    /// Of a drive of `size` bytes of which nothing is known.
    pub fn new(size: u64) -> Self {
        let mut extents = Extents::new();
        extents.set(0..size, State::Unread);
        Self { size, extents, totals: Totals { unread: size, ..Totals::default() } }
    }

    /// Bytes of the drive.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Bytes in each state.
    pub fn totals(&self) -> Totals {
        self.totals
    }

    /// Ranges that are told apart.
    pub fn count(&self) -> usize {
        self.extents.len()
    }

    /// Sets what is known of a range, whatever was known before; what lies past the end is nothing.
    pub fn set(&mut self, range: Range<u64>, state: State) {
        let range = range.start..range.end.min(self.size);
        if range.start >= range.end {
            return;
        }
        for (part, held) in self.extents.within(range.clone()) {
            *self.totals.of(*held) -= part.end - part.start;
        }
        *self.totals.of(state) += range.end - range.start;
        self.extents.set(range, state);
    }

    /// Sets it where that is to know more than before.
    pub fn raise(&mut self, range: Range<u64>, state: State) {
        let less: Vec<_> = self.extents.within(range).filter(|(_, held)| **held < state).map(|(part, _)| part).collect();
        less.into_iter().for_each(|part| self.set(part, state));
    }

    /// The whole stretch of one state around a byte; `None` past the end.
    pub fn at(&self, byte: u64) -> Option<(Range<u64>, State)> {
        self.extents.at(byte).map(|(range, state)| (range, *state))
    }

    /// All stretches in order.
    pub fn iter(&self) -> impl Iterator<Item = (Range<u64>, State)> {
        self.extents.iter().map(|(range, state)| (range, *state))
    }

    /// The stretches inside a window, in order.
    pub fn within(&self, window: Range<u64>) -> impl Iterator<Item = (Range<u64>, State)> {
        self.extents.within(window).map(|(range, state)| (range, *state))
    }

    /// Whether all of a range is on the target.
    pub fn is_saved(&self, range: Range<u64>) -> bool {
        range.is_empty() || self.at(range.start).is_some_and(|(held, state)| state == State::Saved && held.end >= range.end)
    }

    /// Takes in what another map of the same drive knows more.
    pub fn merge(&mut self, other: &Self) {
        other.iter().filter(|(_, state)| *state != State::Unread).for_each(|(range, state)| self.raise(range, state));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn state(code: u8) -> State {
        match code % 6 {
            0 => State::Unread,
            1 => State::Saved,
            2 => State::Lost,
            code => State::Deferred(code),
        }
    }

    proptest! {
        /// Against one state for every byte.
        #[test]
        fn it_is_what_a_state_for_each_byte_would_be(steps in prop::collection::vec((0u64..260, 0u64..80, 0u8..6, any::<bool>()), 1..60)) {
            let mut map = Map::new(256);
            let mut plain = vec![State::Unread; 256];
            for (start, len, code, raises) in steps {
                let (range, state) = (start..start + len, state(code));
                for held in plain.iter_mut().take(range.end as usize).skip(range.start as usize) {
                    *held = if raises { state.max(*held) } else { state };
                }
                if raises { map.raise(range, state) } else { map.set(range, state) }
            }
            let held: Vec<State> = map.iter().flat_map(|(range, state)| range.map(move |_| state)).collect();
            prop_assert_eq!(&held, &plain);
            let count = |which: fn(&State) -> bool| plain.iter().filter(|state| which(state)).count() as u64;
            prop_assert_eq!(map.totals(), Totals {
                unread: count(|state| *state == State::Unread),
                deferred: count(|state| matches!(state, State::Deferred(_))),
                lost: count(|state| *state == State::Lost),
                saved: count(|state| *state == State::Saved),
            });
        }

        #[test]
        fn two_maps_know_together_what_either_knows(one in prop::collection::vec(0u8..6, 64), other in prop::collection::vec(0u8..6, 64)) {
            let made = |codes: &[u8]| {
                let mut map = Map::new(64);
                codes.iter().zip(0..).for_each(|(code, at)| map.set(at..at + 1, state(*code)));
                map
            };
            let (mut a, mut b) = (made(&one), made(&other));
            let before = b.clone();
            b.merge(&a);
            a.merge(&before);
            prop_assert_eq!(&a, &b);
            for at in 0..64 {
                prop_assert_eq!(a.at(at).unwrap().1, state(one[at as usize]).max(state(other[at as usize])));
            }
        }
    }
}
