//! In which order a run goes over what is to be copied.

use crate::tally::Tally;
use crate::tree::LEAF;
use badger_layout::Plan;
use std::collections::VecDeque;
use std::ops::Range;
use std::sync::Mutex;

/// Bytes that are handed out in one go at the most.
const STRIDE: u64 = 64 << 20;

/// What is still to be copied, in bytes of the target. Whoever reads takes the next stretch from here; several may.
pub struct Route {
    left: Mutex<VecDeque<Range<u64>>>,
}

impl Route {
    /// Everything that the plan copies and that is not done yet, in the order of the plan.
    pub fn of(plan: &Plan, tally: &Tally) -> Self {
        let moves = plan.moves.iter().map(|step| step.to..step.to + step.len);
        Self::over(moves.flat_map(|step| {
            // Hashes are of whole leaves: one that is done in part is read again.
            let whole = |gap: Range<u64>| (gap.start / LEAF * LEAF).max(step.start)..gap.end.div_ceil(LEAF).saturating_mul(LEAF).min(step.end);
            let mut gaps: Vec<Range<u64>> = Vec::new();
            for gap in tally.done.gaps(step.clone()).map(whole) {
                match gaps.last_mut() {
                    Some(last) if last.end >= gap.start => last.end = gap.end,
                    _ => gaps.push(gap),
                }
            }
            gaps
        }))
    }

    /// Stretches in any order. They begin at leaves, and end there or where a move ends.
    pub fn over(stretches: impl IntoIterator<Item = Range<u64>>) -> Self {
        Self { left: Mutex::new(stretches.into_iter().filter(|stretch| !stretch.is_empty()).collect()) }
    }

    /// The next stretch.
    pub fn next(&self) -> Option<Range<u64>> {
        let mut left = self.left.lock().expect("route lock");
        let first = left.front_mut()?;
        let end = first.end.min(first.start / LEAF * LEAF + STRIDE);
        let stretch = first.start..end;
        first.start = end;
        if first.is_empty() {
            left.pop_front();
        }
        Some(stretch)
    }
}
