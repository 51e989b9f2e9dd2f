//! What a screen shows of a prepared order.

use crate::prepared::Prepared;
use badger_bench::Bench;
use badger_bench::ribbon::Ribbon;
use badger_bench::sheet::DriveFacts;
use badger_drive::Source;
use badger_inspect::stake::{self, Stake};
use badger_inspect::{Hazard, Looked, Reference};
use badger_layout::Plan;
use badger_layout::fit::Part;

/// What the screen needs of a prepared order, whatever became of the order itself.
#[derive(Clone)]
pub struct Sight {
    /// The source.
    pub source: DriveFacts,
    /// The target as it is.
    pub before: DriveFacts,
    /// The target as it will be.
    pub after: Ribbon,
    /// What goes where, as far as it is known.
    pub plan: Plan,
    /// Bytes to copy; about as many while the plan is not final.
    pub bytes: u64,
    /// Whether nothing of the plan is open.
    pub is_final: bool,
    /// What to know before.
    pub hazards: Vec<Hazard>,
    /// Files on the target that would be lost.
    pub stake: Stake,
    /// What the source brings along; nothing is known of one that fails, which is not read for this.
    pub brings: Stake,
    /// What must be typed to release the target.
    pub tail: String,
    /// Bytes an unfinished run has done.
    pub done_before: Option<u64>,
    /// Bytes a second the source gave just now.
    pub pace: Option<f64>,
    /// What is known of the partitions for a fit.
    pub parts: Vec<Part>,
    /// What names partitions, and what becomes of it.
    pub references: Vec<Reference>,
}

/// Bytes read to learn the source's pace; they lie at its start, which is read anyway.
const SAMPLE: usize = 8 << 20;

fn pace(bench: &Bench, source: &Source) -> Option<f64> {
    let clock = source.clock().unwrap_or_else(|| bench.workshop.clock.clone());
    let len = SAMPLE.min(source.geometry().size_bytes as usize);
    let mut buffer = badger_drive::buffer::Buffer::new(len);
    let began = clock.now();
    source.read_at(0, &mut buffer).ok()?;
    let span = clock.now().saturating_sub(began).as_secs_f64();
    (span > 0.0).then(|| len as f64 / span)
}

impl Sight {
    /// Looks at what a screen needs of an order; reads a little of both drives.
    pub fn of(bench: &Bench, prepared: &Prepared) -> Self {
        let (from, to) = (&prepared.source, &prepared.candidate);
        let there = bench.workshop.source(&to.identity().path).ok().filter(|_| !to.is_new());
        let looked = there.as_ref().map(Looked::at);
        let before = looked.as_ref().map(|looked| Ribbon::of(looked, to.geometry().size_bytes));
        let stake = there.iter().zip(&looked).map(|(drive, looked)| stake::of(drive, looked)).next().unwrap_or_default();
        let fails = prepared.hazards.iter().any(|hazard| hazard.code == "source-fails");
        let brings = if fails { Stake::default() } else { stake::of(from, &prepared.looked) };
        let empty = Ribbon { size: to.geometry().size_bytes, ..Ribbon::default() };
        Self {
            source: DriveFacts::new(from.identity(), from.geometry(), prepared.source_ribbon()),
            before: DriveFacts::new(to.identity(), to.geometry(), before.unwrap_or(empty)),
            after: prepared.target_ribbon(),
            plan: prepared.draft.plan().clone(),
            bytes: prepared.draft.bytes(),
            is_final: prepared.draft.plan().recasts.is_empty(),
            hazards: prepared.hazards.clone(),
            stake,
            brings,
            tail: to.tail(),
            done_before: prepared.unfinished.as_ref().map(|(past, _)| past.done_bytes()),
            pace: pace(bench, from),
            parts: prepared.parts.clone(),
            references: prepared.references.clone(),
        }
    }

    /// Takes in a plan that is final.
    pub fn settle(&mut self, plan: &Plan) {
        (self.plan, self.bytes, self.is_final) = (plan.clone(), plan.bytes(), true);
    }

    /// Takes in what an order came to after its rules were changed.
    pub fn take(&mut self, prepared: &Prepared) {
        let plan = prepared.draft.plan();
        (self.plan, self.bytes, self.is_final) = (plan.clone(), prepared.draft.bytes(), plan.recasts.is_empty());
        self.after = prepared.target_ribbon();
        self.hazards.clone_from(&prepared.hazards);
        self.references.clone_from(&prepared.references);
    }
}
