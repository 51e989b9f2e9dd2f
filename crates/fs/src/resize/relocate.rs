//! Where the units of a volume go when it gets another size: what can stay stays, the rest fills the largest gaps first,
//! in order, so that as few runs as possible are divided.

use std::collections::BTreeSet;
use std::ops::Range;

/// A run of units that goes somewhere.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Step {
    pub from: u64,
    pub to: u64,
    pub len: u64,
}

/// Where every unit in use goes, and what is free afterwards.
#[derive(Clone, Debug, Default)]
pub struct Relocation {
    /// Sorted by `from`.
    steps: Vec<Step>,
    /// Free runs, by length and start.
    gaps: BTreeSet<(u64, u64)>,
}

/// What of `ranges` lies outside of `holes`; both sorted.
fn without(ranges: &[Range<u64>], holes: &[Range<u64>]) -> Vec<Range<u64>> {
    let mut out = Vec::new();
    let mut next = 0;
    for range in ranges {
        let mut at = range.start;
        while next < holes.len() && holes[next].end <= at {
            next += 1;
        }
        let mut hole = next;
        while at < range.end {
            match holes.get(hole).filter(|hole| hole.start < range.end) {
                Some(gap) => {
                    if at < gap.start {
                        out.push(at..gap.start);
                    }
                    at = at.max(gap.end);
                    hole += 1;
                }
                None => {
                    out.push(at..range.end);
                    break;
                }
            }
        }
    }
    out
}

/// Sorted, without overlaps and without empty ranges.
pub fn tidy(mut ranges: Vec<Range<u64>>) -> Vec<Range<u64>> {
    ranges.retain(|range| range.start < range.end);
    ranges.sort_unstable_by_key(|range| range.start);
    let mut out: Vec<Range<u64>> = Vec::with_capacity(ranges.len());
    for range in ranges {
        match out.last_mut() {
            Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
            _ => out.push(range),
        }
    }
    out
}

impl Relocation {
    /// Keeps what lies inside `room` and not in `taken`; what has to go waits for [`Relocation::settle`]. `used`, `taken`
    /// and `room` are sorted ranges of units.
    pub fn begin(used: &[Range<u64>], taken: &[Range<u64>], room: Range<u64>) -> (Self, Vec<Range<u64>>) {
        let inside: Vec<Range<u64>> =
            used.iter().map(|range| range.start.max(room.start)..range.end.min(room.end)).filter(|r| r.start < r.end).collect();
        let stay = without(&inside, taken);
        let movers = without(used, &stay);
        let mut full = stay.clone();
        full.extend(taken.iter().cloned());
        let gaps = without(&[room], &tidy(full)).into_iter().map(|gap| (gap.end - gap.start, gap.start)).collect();
        let steps = stay.into_iter().map(|range| Step { from: range.start, to: range.start, len: range.end - range.start }).collect();
        (Self { steps, gaps }, movers)
    }

    /// Finds new places for what has to go; `None` where there is too little room.
    pub fn settle(&mut self, movers: &[Range<u64>]) -> Option<()> {
        for range in movers {
            let mut at = range.start;
            while at < range.end {
                let (len, start) = self.gaps.pop_last()?;
                let count = len.min(range.end - at);
                self.steps.push(Step { from: at, to: start, len: count });
                at += count;
                if count < len {
                    self.gaps.insert((len - count, start + count));
                    // It is the largest still, or as good as that: the next run follows here.
                }
            }
        }
        self.steps.sort_unstable_by_key(|step| step.from);
        let mut merged: Vec<Step> = Vec::with_capacity(self.steps.len());
        for step in self.steps.drain(..) {
            match merged.last_mut() {
                Some(last) if last.from + last.len == step.from && last.to + last.len == step.to => last.len += step.len,
                _ => merged.push(step),
            }
        }
        self.steps = merged;
        Some(())
    }

    /// Brings a run that has to go into one piece somewhere, apart from the others; gives those that still have to go.
    pub fn take_along(&mut self, movers: &[Range<u64>], run: Range<u64>) -> Option<Vec<Range<u64>>> {
        self.take_all_along(movers, &[run])
    }

    /// Brings runs into one piece somewhere, one after the other, whether they have to go or not; gives those of `movers`
    /// that still have to. `None` where no gap is long enough; then nothing changed.
    pub fn take_all_along(&mut self, movers: &[Range<u64>], runs: &[Range<u64>]) -> Option<Vec<Range<u64>>> {
        let to = self.take_whole(runs.iter().map(|run| run.end - run.start).sum())?;
        Some(self.bring(movers, runs, to))
    }

    /// Brings runs to a place that nothing else goes to, one after the other; gives those of `movers` that still have to go.
    pub fn bring(&mut self, movers: &[Range<u64>], runs: &[Range<u64>], mut to: u64) -> Vec<Range<u64>> {
        let sorted = tidy(runs.to_vec());
        // A part that could have stayed goes along, and leaves a gap.
        let (stay, brought): (Vec<Step>, Vec<Step>) = self.steps.drain(..).partition(|step| step.from == step.to);
        let stay: Vec<Range<u64>> = stay.into_iter().map(|step| step.from..step.from + step.len).collect();
        let left = without(&stay, &sorted);
        self.gaps.extend(without(&stay, &left).into_iter().map(|gap| (gap.end - gap.start, gap.start)));
        self.steps.extend(left.into_iter().map(|range| Step { from: range.start, to: range.start, len: range.end - range.start }));
        self.steps.extend(brought);
        for run in runs.iter().filter(|run| run.start < run.end) {
            self.steps.push(Step { from: run.start, to, len: run.end - run.start });
            to += run.end - run.start;
        }
        without(movers, &sorted)
    }

    /// Takes `len` free units in one piece: the smallest gap that is large enough, of these the first.
    pub fn take_whole(&mut self, len: u64) -> Option<u64> {
        if len == 0 {
            return Some(0);
        }
        let (size, start) = self.gaps.range((len, 0)..).next().copied()?;
        self.gaps.remove(&(size, start));
        if size > len {
            self.gaps.insert((size - len, start + len));
        }
        Some(start)
    }

    /// Takes `len` free units in as few pieces as there can be.
    pub fn take(&mut self, len: u64) -> Option<Vec<Range<u64>>> {
        if let Some(start) = self.take_whole(len) {
            return Some(std::iter::once(start..start + len).filter(|range| range.start < range.end).collect());
        }
        let (mut out, mut left) = (Vec::new(), len);
        while left > 0 {
            let (size, start) = self.gaps.pop_last()?;
            let count = size.min(left);
            out.push(start..start + count);
            left -= count;
            if count < size {
                self.gaps.insert((size - count, start + count));
            }
        }
        Some(out)
    }

    /// Lets go of a unit at its new place.
    pub fn release(&mut self, place: u64) {
        self.gaps.insert((1, place));
    }

    /// How many units are free.
    pub fn free(&self) -> u64 {
        self.gaps.iter().map(|(len, _)| len).sum()
    }

    /// Where a unit goes; `None` for one that is not in use.
    pub fn place(&self, unit: u64) -> Option<u64> {
        let step = self.steps[..self.steps.partition_point(|step| step.from <= unit)].last()?;
        (unit < step.from + step.len).then(|| step.to + (unit - step.from))
    }

    /// Where a run of units goes, in its order; a part that is not in use is left out.
    pub fn run(&self, range: Range<u64>) -> Vec<Range<u64>> {
        let first = self.steps.partition_point(|step| step.from + step.len <= range.start);
        let mut out: Vec<Range<u64>> = Vec::new();
        for step in self.steps[first..].iter().take_while(|step| step.from < range.end) {
            let (from, to) = (step.from.max(range.start), (step.from + step.len).min(range.end));
            let place = step.to + (from - step.from);
            match out.last_mut() {
                Some(last) if last.end == place => last.end += to - from,
                _ => out.push(place..place + (to - from)),
            }
        }
        out
    }

    /// All of it, by where it comes from.
    pub fn steps(&self) -> &[Step] {
        &self.steps
    }

    /// Every unit in use afterwards, with what was taken besides, as sorted ranges of `room`.
    pub fn used(&self, room: Range<u64>) -> Vec<Range<u64>> {
        let free = tidy(self.gaps.iter().map(|(len, start)| *start..start + len).collect());
        without(&[room], &free)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn runs(bits: &[bool]) -> Vec<Range<u64>> {
        tidy((0..bits.len() as u64).filter(|at| bits[*at as usize]).map(|at| at..at + 1).collect())
    }

    proptest! {
        #[test]
        fn everything_arrives_once_and_nothing_lies_where_it_must_not(
            used in prop::collection::vec(prop::bool::weighted(0.4), 1..300),
            taken in prop::collection::vec(prop::bool::weighted(0.1), 300),
            limit in 1u64..400,
        ) {
            let taken = runs(&taken[..(limit as usize).min(300)]);
            let (mut plan, movers) = Relocation::begin(&runs(&used), &taken, 0..limit);
            let count = used.iter().filter(|used| **used).count() as u64;
            let room = limit - taken.iter().map(|range| range.end - range.start).sum::<u64>();
            let done = plan.settle(&movers);
            prop_assert_eq!(done.is_some(), count <= room);
            if done.is_none() {
                return Ok(());
            }
            let mut seen = std::collections::HashSet::new();
            for (unit, is_used) in used.iter().enumerate() {
                let unit = unit as u64;
                let place = plan.place(unit);
                prop_assert_eq!(place.is_some(), *is_used);
                if let Some(place) = place {
                    prop_assert!(place < limit && seen.insert(place) && !taken.iter().any(|range| range.contains(&place)));
                    // What could stay did.
                    prop_assert!(place == unit || unit >= limit || taken.iter().any(|range| range.contains(&unit)));
                }
            }
            prop_assert_eq!(plan.free(), room - count);
            let all: Vec<u64> = plan.run(0..300).into_iter().flatten().collect();
            let each: Vec<u64> = (0..300).filter_map(|unit| plan.place(unit)).collect();
            prop_assert_eq!(all, each);
            if let Some(pieces) = plan.take(plan.free() / 2) {
                prop_assert!(pieces.into_iter().flatten().all(|unit| unit < limit && seen.insert(unit)));
            }
        }
    }
}
