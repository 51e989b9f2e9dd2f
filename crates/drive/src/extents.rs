//! Sorted, non-overlapping ranges with a value. Allocation maps, salvage maps, plan moves and file layouts are all
//! this one structure.

use std::collections::BTreeMap;
use std::ops::Range;

/// Ranges of `u64` positions, each with a value. Neighbours with equal values are one range.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Extents<V> {
    /// start -> (end, value)
    map: BTreeMap<u64, (u64, V)>,
}

impl<V> Default for Extents<V> {
    fn default() -> Self {
        Self { map: BTreeMap::new() }
    }
}

impl<V: Clone + PartialEq> Extents<V> {
    /// No ranges.
    pub fn new() -> Self {
        Self::default()
    }

    /// Sets `range` to `value`, over whatever was there. An empty range changes nothing.
    pub fn set(&mut self, range: Range<u64>, value: V) {
        if range.start >= range.end {
            return;
        }
        self.clear(range.clone());
        let Range { mut start, mut end } = range;
        if let Some((&before, (stop, held))) = self.map.range(..start).next_back()
            && *stop == start
            && *held == value
        {
            start = before;
        }
        if let Some((stop, held)) = self.map.get(&end)
            && *held == value
        {
            let stop = *stop;
            self.map.remove(&end);
            end = stop;
        }
        self.map.insert(start, (end, value));
    }

    /// Takes `range` out; ranges that reach over its ends keep what lies outside.
    pub fn clear(&mut self, range: Range<u64>) {
        if range.start >= range.end {
            return;
        }
        if let Some((&start, (end, value))) = self.map.range(..range.start).next_back()
            && *end > range.start
        {
            let (end, value) = (*end, value.clone());
            self.map.insert(start, (range.start, value.clone()));
            if end > range.end {
                self.map.insert(range.end, (end, value));
            }
        }
        let inside: Vec<u64> = self.map.range(range.clone()).map(|(&start, _)| start).collect();
        for start in inside {
            if let Some((end, value)) = self.map.remove(&start)
                && end > range.end
            {
                self.map.insert(range.end, (end, value));
            }
        }
    }

    /// The range that holds `position`, and its value.
    pub fn at(&self, position: u64) -> Option<(Range<u64>, &V)> {
        let (&start, (end, value)) = self.map.range(..=position).next_back()?;
        (*end > position).then_some((start..*end, value))
    }

    /// All ranges in order.
    pub fn iter(&self) -> impl Iterator<Item = (Range<u64>, &V)> {
        self.map.iter().map(|(&start, (end, value))| (start..*end, value))
    }

    /// The parts of the ranges that lie inside `window`, in order.
    pub fn within(&self, window: Range<u64>) -> impl Iterator<Item = (Range<u64>, &V)> {
        let from = self.at(window.start).map_or(window.start, |(range, _)| range.start);
        self.map
            .range(from..window.end.max(from))
            .map(move |(&start, (end, value))| (start.max(window.start)..(*end).min(window.end), value))
            .filter(|(range, _)| range.start < range.end)
    }

    /// The parts of `window` that no range holds, in order.
    pub fn gaps(&self, window: Range<u64>) -> impl Iterator<Item = Range<u64>> {
        let (mut at, end) = (window.start, window.end);
        let mut held = self.within(window);
        std::iter::from_fn(move || {
            while at < end {
                let (start, next) = held.next().map_or((end, end), |(range, _)| (range.start, range.end));
                let gap = at..start;
                at = next;
                if !gap.is_empty() {
                    return Some(gap);
                }
            }
            None
        })
    }

    /// How many positions inside `window` have a value that `which` accepts.
    pub fn total_within(&self, window: Range<u64>, which: impl Fn(&V) -> bool) -> u64 {
        self.within(window).filter(|(_, value)| which(value)).map(|(range, _)| range.end - range.start).sum()
    }

    /// How many positions have a value that `which` accepts.
    pub fn total(&self, which: impl Fn(&V) -> bool) -> u64 {
        self.iter().filter(|(_, value)| which(value)).map(|(range, _)| range.end - range.start).sum()
    }

    /// The number of ranges.
    pub fn len(&self) -> usize {
        self.map.len()
    }

    /// Whether there is no range at all.
    pub fn is_empty(&self) -> bool {
        self.map.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn model(extents: &Extents<u8>) -> Vec<Option<u8>> {
        (0..64).map(|at| extents.at(at).map(|(_, value)| *value)).collect()
    }

    proptest! {
        #[test]
        fn behaves_like_an_array(steps in prop::collection::vec((0u64..64, 0u64..64, prop::option::of(0u8..3)), 0..40)) {
            let mut extents = Extents::new();
            let mut array = vec![None; 64];
            for (a, b, value) in steps {
                let (start, end) = (a.min(b), a.max(b));
                match value {
                    Some(value) => extents.set(start..end, value),
                    None => extents.clear(start..end),
                }
                array[start as usize..end as usize].fill(value);
                prop_assert_eq!(model(&extents), array.clone());
            }
            let ranges: Vec<_> = extents.iter().map(|(range, value)| (range, *value)).collect();
            for pair in ranges.windows(2) {
                prop_assert!(pair[0].0.end < pair[1].0.start || (pair[0].0.end == pair[1].0.start && pair[0].1 != pair[1].1));
            }
            for (a, b) in [(0u64, 64u64), (10, 20), (33, 33)] {
                let counted = array[a as usize..b as usize].iter().filter(|v| **v == Some(1)).count() as u64;
                prop_assert_eq!(extents.total_within(a..b, |v| *v == 1), counted);
                let gaps: Vec<u64> = extents.gaps(a..b).flatten().collect();
                let free: Vec<u64> = (a..b).filter(|at| array[*at as usize].is_none()).collect();
                prop_assert_eq!(gaps, free);
                prop_assert!(extents.gaps(a..b).all(|gap| !gap.is_empty()));
            }
        }
    }
}
