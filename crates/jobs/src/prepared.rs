//! An order that was looked at and planned.

use crate::options;
use crate::order::Order;
use crate::plan::{self, Asked, Sources};
use crate::starting;
use badger_bench::Bench;
use badger_bench::ledger;
use badger_bench::ribbon::Ribbon;
use badger_drive::health::State;
use badger_drive::{Candidate, Refusal, RunDrive, Source, Witness};
use badger_inspect::references::{self, Carrier, Reference};
use badger_inspect::volumes::{self, Surveyed};
use badger_inspect::{Hazard, Level, Looked, hazard};
use badger_layout::fit::Part;
use badger_layout::plan::{Draft, Ids, Side};
use badger_layout::{Plan, Rules};
use badger_system::Machine;
use badger_system::machine::Starts;
use badger_transfer::journal::{Journal, Unfinished};
use badger_transfer::resume;
use badger_transfer::tally::Tally;
use std::path::Path;

/// An order that was looked at and planned; nothing is written yet.
pub struct Prepared {
    /// The order.
    pub order: Order,
    /// The source, open for reading.
    pub source: Source,
    /// What is on it.
    pub looked: Looked,
    /// The target, not open yet.
    pub candidate: Candidate,
    /// What will be done, as far as it is known without going over volumes that change.
    pub draft: Draft,
    /// What to know before.
    pub hazards: Vec<Hazard>,
    /// What an unfinished run between these two has done, and the number of its job; 0 where this ledger does not know it.
    pub unfinished: Option<(Tally, i64)>,
    /// The source's volumes, gone over; none for a clone of everything as it is.
    pub surveyed: Vec<Surveyed>,
    /// What is known of every partition for a fit.
    pub parts: Vec<Part>,
    /// What names a partition somewhere, and what becomes of it.
    pub references: Vec<Reference>,
    /// How the source looked when it was shown.
    pub witness: Witness,
    /// Hazards of the pair, whatever the plan.
    pub(crate) standing: Vec<Hazard>,
    /// The journal of the unfinished run.
    pub(crate) begun: Option<Unfinished>,
}

impl Prepared {
    /// Looks at both drives and makes the plan. Nothing is written, nothing is created.
    ///
    /// # Errors
    /// A refusal where there is nothing to plan. Refusals that depend on the target's state are among the hazards.
    pub fn of(bench: &Bench, order: &Order) -> Result<Self, Refusal> {
        let source = bench.workshop.source(&order.source)?;
        let geometry = source.geometry();
        let candidate = bench.workshop.candidate(&order.target, order.new_size, geometry.logical_sector)?;
        let past = if order.restart { None } else { begun(bench, &source, &candidate, &source.key(), &candidate.key())? };
        let mut order = order.clone();
        if let Some(begun) = &past {
            options::resumed(&mut order, begun)?;
        }
        let order = &order;
        let needed = if order.fit.is_some() { 0 } else { geometry.size_bytes };
        let witness = Witness::of(&*source, &[]);
        bench.keep_off(Vec::new(), &[RunDrive::source(&source), candidate.in_run()])?;
        if let Some(stop) = candidate.stops(&source, needed).into_iter().next() {
            return Err(stop);
        }
        let looked = Looked::at(&source);
        let side = |key, geometry: badger_drive::Geometry| Side {
            key,
            size_bytes: geometry.size_bytes,
            sector: geometry.logical_sector,
            physical: geometry.physical_sector,
        };
        let (here, there) = (side(source.key(), geometry), side(candidate.key(), candidate.geometry()));
        let surveyed = if order.used.is_some() || order.fit.is_some() { volumes::survey(&source, &looked) } else { Vec::new() };
        let parts = if order.fit.is_some() { volumes::parts(&looked.table, &surveyed, there.sector) } else { Vec::new() };
        let sources = Sources { source: &source, looked: &looked, surveyed: &surveyed, parts: &parts, sides: (&here, &there) };
        let (mut draft, mut whole) = plan::draft(&sources, &Asked { ids: order.ids, used: order.used, fit: order.fit.as_ref() })?;
        let mut unfinished = None;
        if let Some(Unfinished { plan: begun, job, past, .. }) = past.clone() {
            let spared = |plan: &Plan| plan.sparing.as_ref().map(|sparing| sparing.rest);
            let plan = draft.plan();
            let other = begun.source != plan.source || begun.target != plan.target || begun.ids != plan.ids || begun.fit != plan.fit;
            if other || spared(&begun) != spared(plan) {
                let text = "an unfinished run between these two drives was begun with other options: give the same ones, or --restart to begin anew";
                return Err(Refusal::new("run-differs", text));
            }
            (draft, whole) = (begun.into(), Vec::new());
            // Another ledger, or none, does not know it; it is the same run all the same.
            let number = bench.read_ledger().ok().flatten().and_then(|ledger| ledger.number_of(&job).ok()?);
            unfinished = Some((past, number.unwrap_or_default()));
        }
        let mut standing = hazard::of_pair(&bench.workshop, &source, &looked, &candidate, order.ids);
        let gentler = "salvage it instead: that reads what matters first, and leaves trouble for later";
        standing.extend(failing(bench, &source.identity().path, "source-fails", ("the source", gentler)));
        standing.extend(failing(bench, &candidate.identity().path, "target-fails", ("the target", "take another drive")));
        let (key, continued) = (candidate.key(), unfinished.as_ref().map(|(_, job)| *job));
        standing.extend(bench.unfinished_copy(&key).filter(|(job, _)| Some(*job) != continued).map(|(_, hazard)| hazard));
        if let Some((past, job)) = &unfinished {
            // What it holds is this very copy.
            standing.retain(|hazard| !["target-holds", "target-looks-empty", "target-not-readable"].contains(&hazard.code));
            let of = if *job > 0 { format!("job {job}") } else { "a job of another ledger".into() };
            let text =
                format!("the target holds what {of} has copied so far, {}: the run resumes there", badger_drive::size::human(past.done_bytes()));
            standing.push(Hazard { level: Level::Note, code: "target-unfinished", text });
        }
        standing.extend(starting::before(order, &source, &looked, &candidate));
        let references = named(&source, &looked, &surveyed, draft.plan());
        let hazards = hazards(&standing, &looked, draft.plan(), &references, whole, order.machine.as_ref());
        let order = order.clone();
        Ok(Self { order, source, looked, candidate, draft, hazards, unfinished, surveyed, parts, references, witness, standing, begun: past })
    }

    /// Plans anew by other rules. Of the source no more is read than boot sectors of volumes that move.
    ///
    /// # Errors
    /// A refusal that says what does not fit; the plan stays as it was.
    pub fn refit(&mut self, rules: &Rules) -> Result<(), Refusal> {
        let plan = self.draft.plan();
        let sources =
            Sources { source: &self.source, looked: &self.looked, surveyed: &self.surveyed, parts: &self.parts, sides: (&plan.source, &plan.target) };
        let (draft, whole) = plan::draft(&sources, &Asked { ids: self.order.ids, used: self.order.used, fit: Some(rules) })?;
        self.draft = draft;
        if self.order.fit.as_ref().is_some_and(|before| before.uefi) != rules.uefi {
            self.standing.retain(|hazard| !["becomes-uefi", "no-uefi"].contains(&hazard.code));
            self.standing.extend(rules.uefi.then(|| starting::converts(&self.source, &self.looked)));
        }
        self.order.fit = Some(rules.clone());
        self.references = named(&self.source, &self.looked, &self.surveyed, self.draft.plan());
        self.hazards = hazards(&self.standing, &self.looked, self.draft.plan(), &self.references, whole, self.order.machine.as_ref());
        Ok(())
    }

    /// What is not as it was here, when both drives were looked at again; `None` where nothing is.
    pub fn differs(&self, now: &Self) -> Option<String> {
        let other = |side: &str, then: &Witness, now: &Witness| {
            let identity = |witness: &Witness| (witness.model.clone(), witness.serial.clone(), witness.size_bytes, witness.standing.sequence);
            (identity(then) != identity(now)).then(|| format!("the {side} is another drive: {} {}", now.model, now.serial))
        };
        let held = |side: &str, then: &Witness, now: &Witness| (then != now).then(|| format!("the {side} was written to, or holds something else"));
        let targets = self.candidate.witness().zip(now.candidate.witness());
        if self.candidate.is_new() != now.candidate.is_new() {
            return Some("the target has come, or gone".into());
        }
        let said = |prepared: &Self| prepared.hazards.iter().map(|hazard| (hazard.code, hazard.text.clone())).collect::<Vec<_>>();
        other("source", &self.witness, &now.witness)
            .or_else(|| targets.and_then(|(then, now)| other("target", then, now)))
            .or_else(|| held("source", &self.witness, &now.witness))
            .or_else(|| targets.and_then(|(then, now)| held("target", then, now)))
            .or_else(|| (self.unfinished.is_some() != now.unfinished.is_some()).then(|| "an unfinished run came, or went".into()))
            .or_else(|| (said(self) != said(now)).then(|| "what there is to know of it changed".into()))
    }

    /// The strip of the source.
    pub fn source_ribbon(&self) -> Ribbon {
        Ribbon::of(&self.looked, self.source.geometry().size_bytes)
    }

    /// The strip of the target after the run.
    pub fn target_ribbon(&self) -> Ribbon {
        Ribbon::planned(self.draft.plan(), &self.source_ribbon())
    }
}

/// The unfinished run between two drives that fits them, if any.
fn begun(bench: &Bench, source: &Source, candidate: &Candidate, here: &str, there: &str) -> Result<Option<Unfinished>, Refusal> {
    let mut all = Journal::peek(&ledger::journals_beside(&bench.ledger), here, there)
        .map_err(|error| Refusal::new("journal", format!("the journal of the unfinished run: {error}")))?;
    if all.is_empty() {
        return Ok(None);
    }
    // Two targets that hold the beginning of one source both fit; the journal of this very one comes first.
    let standing = candidate.witness().map(|witness| witness.standing.clone()).unwrap_or_default();
    all.sort_by_key(|one| one.is_of_another(&standing));
    let target = if candidate.is_new() { None } else { Some(bench.workshop.source(&candidate.identity().path)?) };
    let mut refusal = None;
    for one in all {
        match resume::fits(&one, source, target.as_ref()) {
            Ok(()) => return Ok(Some(one)),
            Err(why) => _ = refusal.get_or_insert(why),
        }
    }
    refusal.map_or(Ok(None), Err)
}

/// What names partitions on the source, where the plan changes something of what could be named.
fn named(source: &Source, looked: &Looked, surveyed: &[Surveyed], plan: &Plan) -> Vec<Reference> {
    if plan.fit.is_none() && plan.ids == Ids::Keep {
        return Vec::new();
    }
    if !surveyed.is_empty() {
        let carriers: Vec<Carrier> = surveyed.iter().map(Carrier::from).collect();
        return references::find(&looked.table, &carriers, plan);
    }
    starting::named(source, looked, &looked.table, plan)
}

/// A drive that says of itself that it fails.
fn failing(bench: &Bench, path: &Path, code: &'static str, (what, way): (&str, &str)) -> Option<Hazard> {
    let health = bench.workshop.health(&bench.workshop.found(path)?);
    (health.state == State::Failing).then(|| Hazard::new(Level::Mind, code, format!("{what} fails: {}; {way}", health.text)))
}

/// All there is to know, the stops first.
fn hazards(
    standing: &[Hazard],
    looked: &Looked,
    plan: &Plan,
    references: &[Reference],
    whole: Vec<Hazard>,
    machine: Option<&Machine>,
) -> Vec<Hazard> {
    let mut all = [standing, &hazard::of_plan(looked, plan, references), &whole].concat();
    // That it starts the other way from then on is said with what makes it so.
    if all.iter().any(|hazard| hazard.code == "becomes-uefi") {
        all.retain(|hazard| !["table-changes", "machine-firmware"].contains(&hazard.code));
        if let Some(machine) = machine.filter(|machine| machine.firmware == Some(Starts::Bios)) {
            let text = format!("{}: it starts by BIOS, and by the rule uefi the target starts by UEFI only: take the rule away", machine.name);
            all.push(Hazard::new(Level::Mind, "machine-firmware", text));
        }
    }
    all.sort_by_key(|hazard| hazard.level);
    all
}
