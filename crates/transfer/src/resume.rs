//! Whether an unfinished run may be gone on with: the source must still be the one that was read, the target must
//! still hold what was written. Some of both is read again and compared with what the journal noted.

use crate::copy::{self, Context};
use crate::journal::{Journal, Unfinished};
use crate::tally::Tally;
use crate::tree::{Hash, LEAF};
use badger_drive::buffer::Buffer;
use badger_drive::{Medium, Refusal, Source};
use badger_layout::Plan;
use std::collections::BTreeSet;
use std::ops::Range;

/// The last leaves before the place where the run broke off.
const LAST: u64 = 8;
/// Leaves of the source spread over everything that was copied, one anywhere in each part of it.
const SPREAD: u64 = 4;
/// Beginnings of volumes that are read again at the most.
const MOST_BEGINNINGS: usize = 32;

/// What was read again before a run was gone on with.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Again {
    /// Blocks of 1 MiB of the source.
    pub source: usize,
    /// Blocks of 1 MiB of the target.
    pub target: usize,
    /// Places of the source that were compared besides.
    pub places: usize,
}

impl Again {
    /// With which chance, in percent, a change of a hundredth of what was copied is noticed by what was read again.
    pub fn chance(&self) -> u32 {
        ((1.0 - 0.99f64.powi(self.source as i32)) * 100.0) as u32
    }

    /// The line of evidence.
    pub fn told(&self, from: u64) -> String {
        format!(
            "gone on with at {}: before, {} blocks of 1 MiB and {} places of the source and {} blocks of the target were read again, all equal to what was noted",
            badger_drive::size::human(from),
            self.source,
            self.places,
            self.target
        )
    }
}

/// Whole leaves of the target that are done.
struct Done<'a> {
    plan: &'a Plan,
    tally: &'a Tally,
}

impl Done<'_> {
    /// Runs of leaves, first and count, in the order of the plan.
    fn runs(&self) -> Vec<(u64, u64)> {
        let held = self.plan.moves.iter().flat_map(|step| self.tally.done.within(step.to..step.to + step.len));
        held.filter_map(|(range, ())| whole(range)).collect()
    }

    /// The leaves that were done last.
    fn last(&self) -> Vec<u64> {
        let latest = self.tally.latest.iter().flat_map(|(start, len)| self.tally.done.within(*start..start + len));
        let runs: Vec<(u64, u64)> = self.runs().into_iter().chain(latest.filter_map(|(range, ())| whole(range))).collect();
        let mut out: Vec<u64> = Vec::new();
        for (first, count) in runs.into_iter().rev() {
            let new = (first..first + count).rev().take(LAST as usize).filter(|leaf| !out.contains(leaf)).collect::<Vec<_>>();
            out.extend(new);
            if out.len() as u64 >= LAST {
                break;
            }
        }
        out.truncate(LAST as usize);
        out
    }

    /// Leaves in which volumes begin or keep what changes whenever they are used, the last ones, and some from everywhere.
    fn telling(&self, beginnings: &[u64]) -> BTreeSet<u64> {
        let runs = self.runs();
        let has = |leaf: u64| runs.iter().any(|(first, count)| (*first..first + count).contains(&leaf));
        let total: u64 = runs.iter().map(|(_, count)| count).sum();
        let mut out: BTreeSet<u64> = self.last().into_iter().take(LAST as usize / 2).collect();
        out.extend(beginnings.iter().map(|at| at / LEAF).filter(|leaf| has(*leaf)).take(MOST_BEGINNINGS));
        for step in 0..SPREAD.min(total) {
            let part = total / SPREAD.min(total);
            let mut place = total * step / SPREAD.min(total) + badger_drive::random_below(part);
            for (first, count) in &runs {
                if place < *count {
                    out.insert(first + place);
                    break;
                }
                place -= count;
            }
        }
        out
    }
}

/// The leaves that lie whole in a stretch: first and count.
fn whole(range: Range<u64>) -> Option<(u64, u64)> {
    let (first, end) = (range.start.div_ceil(LEAF), range.end / LEAF);
    (first < end).then(|| (first, end - first))
}

/// Bytes of the target in which the telling parts of volumes lie: their first sectors, and the master file tables.
fn beginnings(source: &Source, plan: &Plan) -> Vec<u64> {
    let mut out = Vec::new();
    for step in plan.moves.iter().filter(|step| step.volume.is_none()) {
        out.push(step.to);
    }
    for planned in &plan.partitions {
        let (to, _) = planned.place(plan.target.sector);
        out.push(to);
        let from = plan.moves.iter().find(|step| step.volume.is_none() && (step.to..step.to + step.len).contains(&to));
        let Some(from) = from.map(|step| step.from + (to - step.to)) else { continue };
        let mut boot = Buffer::new(512);
        // NTFS keeps whether it was put away in a record of its table, and says in its first sector where that lies.
        if source.read_at(from, &mut boot).is_ok() && &boot[3..11] == b"NTFS    " {
            let cluster = u64::from(u16::from_le_bytes([boot[11], boot[12]])) * u64::from(boot[13]);
            let table = u64::from_le_bytes(boot[48..56].try_into().expect("eight bytes"));
            out.extend(table.checked_mul(cluster).and_then(|at| at.checked_add(to)));
        }
    }
    out
}

fn same(plan: &Plan, leaf: u64, bytes: &mut [u8], noted: Hash) -> bool {
    copy::noted(leaf, bytes, plan.size()) == noted
}

/// Makes sure that a target still holds what the journal says. How many leaves were compared.
///
/// # Errors
/// `target-changed`.
fn target(plan: &Plan, tally: &Tally, noted: impl Fn(u64) -> Option<Hash>, target: &dyn Medium) -> Result<usize, Refusal> {
    let mut bytes = Buffer::new(LEAF as usize);
    let last = Done { plan, tally }.last();
    for leaf in &last {
        let wanted = tally.patched.get(leaf).copied().or_else(|| noted(*leaf));
        let held = target.read_at(leaf * LEAF, &mut bytes).is_ok() && wanted.is_some_and(|wanted| same(plan, *leaf, &mut bytes, wanted));
        if !held {
            let text = "the target does not hold what the unfinished run wrote: it was used for something else since. Begin anew with --restart";
            return Err(Refusal::new("target-changed", text));
        }
    }
    Ok(last.len())
}

fn source_changed(what: impl std::fmt::Display) -> Refusal {
    let text = format!("the source is not the one that the unfinished run read: {what}. Attach that one, or begin anew with --restart");
    Refusal::new("source-changed", text)
}

/// Whether an unfinished run fits these two drives, as far as that shows before the target is released.
///
/// # Errors
/// `source-changed` or `target-changed`, with what was compared.
pub fn fits(unfinished: &Unfinished, source: &Source, target_drive: Option<&Source>) -> Result<(), Refusal> {
    unfinished.source.holds(&**source).map_err(source_changed)?;
    if let Some(drive) = target_drive {
        let noted = |leaf| unfinished.leaves(leaf, 1).ok().and_then(|hashes| hashes.first().copied());
        target(&unfinished.plan, &unfinished.past, noted, &**drive)?;
    }
    Ok(())
}

/// Reads some of what was copied again, on the source and on the released target.
///
/// # Errors
/// `source-changed` or `target-changed`; then nothing was written.
pub fn check(context: &Context, journal: &Journal, tally: &Tally) -> Result<Again, Refusal> {
    let mut again = Again { places: journal.source.holds(&**context.source).map_err(source_changed)?, ..Again::default() };
    let noted = |leaf| journal.leaves(leaf, 1).ok().and_then(|hashes| hashes.first().copied());
    again.target = target(context.plan, tally, noted, &**context.target)?;
    let telling = Done { plan: context.plan, tally }.telling(&beginnings(context.source, context.plan));
    let mut bytes = Buffer::new(LEAF as usize);
    for leaf in telling {
        let (start, end) = (leaf * LEAF, (leaf + 1) * LEAF);
        // What could not be read then says nothing now.
        if tally.lost.within(start..end).next().is_some() {
            continue;
        }
        let len = LEAF.min(context.plan.size() - start) as usize;
        if context.image.read_at(start, &mut bytes[..len]).is_err() {
            continue;
        }
        if noted(leaf).is_none_or(|noted| !same(context.plan, leaf, &mut bytes[..len], noted)) {
            return Err(source_changed(format!("it gives other bytes in the block of 1 MiB at byte {start} of the target than were copied")));
        }
        again.source += 1;
    }
    if again.source == 0 && again.places == 0 {
        return Err(source_changed("nothing of it can be read now, so nothing tells whether it is"));
    }
    Ok(again)
}
