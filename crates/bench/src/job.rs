//! One order, from two paths to a report. The command line and the screens both come through here.

use crate::ledger::{self, Ledger};
use crate::rates::Rates;
use crate::ribbon::Ribbon;
use crate::sheet::{DriveFacts, SheetData};
use badger_drive::clock::Clock;
use badger_drive::{Candidate, Refusal, Source, Workshop};
use badger_layout::fit::{self, Part};
use badger_layout::plan::{self, Ids, InUse, Patch, Rest, Side, Sparing};
use badger_layout::{Plan, Rules};
use badger_transfer::hazard::{self, Looked};
use badger_transfer::journal::{Journal, Past};
use badger_transfer::references::{self, Reference};
use badger_transfer::run::{self, Run};
use badger_transfer::volumes::{self, Surveyed};
use badger_transfer::{Control, Event, Hazard, Image, Observer, Phase, Report};
use std::fs::File;
use std::io::Read;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

/// What is asked for.
#[derive(Clone, Debug)]
pub struct Order {
    /// Path of the source.
    pub source: PathBuf,
    /// Path of the target.
    pub target: PathBuf,
    /// Size of a target file that shall be made, in bytes.
    pub new_size: Option<u64>,
    /// Identifiers on the target.
    pub ids: Ids,
    /// Begin anew even where an unfinished run could be gone on with.
    pub restart: bool,
    /// Read the source a second time after the proof.
    pub again: bool,
    /// Copy only what is in use, and what becomes of the rest of the target.
    pub used: Option<Rest>,
    /// How the partitions are to fit the target; `None` for a clone as it is.
    pub fit: Option<Rules>,
    /// The customer's ticket; may be empty.
    pub ticket: String,
    /// Customer; may be empty.
    pub customer: String,
    /// Who does it; may be empty.
    pub technician: String,
}

impl Order {
    /// An exact clone that keeps identifiers.
    pub fn new(source: impl Into<PathBuf>, target: impl Into<PathBuf>) -> Self {
        let none = String::new;
        Self {
            source: source.into(),
            target: target.into(),
            new_size: None,
            ids: Ids::Keep,
            restart: false,
            again: false,
            used: None,
            fit: None,
            ticket: none(),
            customer: none(),
            technician: none(),
        }
    }
}

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
    /// What will be done.
    pub plan: Plan,
    /// What to know before.
    pub hazards: Vec<Hazard>,
    /// What an unfinished run between these two has done, and the job it belongs to.
    pub unfinished: Option<(Past, i64)>,
    /// The source's volumes, gone over; none for a clone of everything as it is.
    pub surveyed: Vec<Surveyed>,
    /// What is known of every partition for a fit.
    pub parts: Vec<Part>,
    /// What names a partition somewhere, and what becomes of it.
    pub references: Vec<Reference>,
    /// Hazards of the pair, whatever the plan.
    standing: Vec<Hazard>,
}

/// The rest of the target where nothing is said of it.
const REST: Rest = Rest::Leave;

impl Prepared {
    /// Plans anew by other rules. Of the source no more is read than boot sectors of volumes that move.
    ///
    /// # Errors
    /// A refusal that says what does not fit; the plan stays as it was.
    pub fn refit(&mut self, rules: &Rules) -> Result<(), Refusal> {
        let (plan, whole) =
            fitted(&self.source, &self.looked, &self.parts, &self.surveyed, (&self.plan.source, &self.plan.target), &self.order, rules)?;
        self.plan = plan;
        self.order.fit = Some(rules.clone());
        self.references = references::find(&self.looked.table, &self.surveyed, &self.plan);
        self.hazards = hazards(&self.standing, &self.looked, &self.plan, whole);
        Ok(())
    }

    /// The strip of the source.
    pub fn source_ribbon(&self) -> Ribbon {
        Ribbon::of(&self.looked, self.source.geometry().size_bytes)
    }

    /// The strip of the target after the run.
    pub fn target_ribbon(&self) -> Ribbon {
        Ribbon::planned(&self.plan, &self.source_ribbon())
    }
}

/// The place where jobs are done: drives and the ledger.
#[derive(Clone)]
pub struct Bench {
    /// The drives.
    pub workshop: Workshop,
    /// Path of the ledger.
    pub ledger: PathBuf,
}

fn random() -> [u8; 16] {
    let mut bytes = [0; 16];
    // The kernel's source of randomness does not run dry and does not fail once the machine is up.
    File::open("/dev/urandom").and_then(|mut file| file.read_exact(&mut bytes)).expect("the system gives random bytes");
    bytes
}

fn ledger_refusal(error: &dyn std::fmt::Display) -> Refusal {
    Refusal::new("ledger", error.to_string())
}

impl Bench {
    /// Opens the ledger.
    ///
    /// # Errors
    /// See [`ledger::Error`].
    pub fn open_ledger(&self) -> Result<Ledger, ledger::Error> {
        Ledger::open(&self.ledger)
    }

    /// Looks at both drives and makes the plan. Nothing is written, nothing is created.
    ///
    /// # Errors
    /// A refusal where there is nothing to plan. Refusals that depend on the target's state are among the hazards.
    pub fn prepare(&self, order: &Order) -> Result<Prepared, Refusal> {
        let source = self.workshop.source(&order.source)?;
        let geometry = source.geometry();
        let candidate = self.workshop.candidate(&order.target, order.new_size, geometry.logical_sector)?;
        let needed = if order.fit.is_some() { 0 } else { geometry.size_bytes };
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
        let (mut parts, mut whole) = (Vec::new(), Vec::new());
        let mut plan = match &order.fit {
            None => plan::exact(&looked.table, &here, &there, order.ids, random)?,
            Some(rules) => {
                parts = volumes::parts(&looked.table, &surveyed, there.sector);
                let fitted = fitted(&source, &looked, &parts, &surveyed, (&here, &there), order, rules)?;
                whole = fitted.1;
                fitted.0
            }
        };
        let past = Journal::peek(&ledger::journals_beside(&self.ledger), &here.key, &there.key)
            .map_err(|error| Refusal::new("journal", format!("the journal of the unfinished run: {error}")))?;
        let mut unfinished = None;
        if let Some((begun, job, past)) = past.filter(|_| !order.restart) {
            let spared = |plan: &Plan| plan.sparing.as_ref().map(|sparing| sparing.rest);
            let rest = if order.fit.is_some() { spared(&plan) } else { order.used };
            if begun.source != plan.source || begun.target != plan.target || begun.ids != plan.ids || begun.fit != plan.fit || spared(&begun) != rest
            {
                let text = "an unfinished run between these two drives was begun with other options: give the same ones, or --restart to begin anew";
                return Err(Refusal::new("run-differs", text));
            }
            plan = begun;
            unfinished = Some((past, job));
        }
        if let Some(rest) = order.used.filter(|_| unfinished.is_none() && order.fit.is_none()) {
            let (needed, spared) = volumes::needed(&surveyed, geometry.size_bytes);
            plan.spare(&needed, Sparing { volumes: spared, rest });
            whole = hazard::of_whole_volumes(&surveyed);
        }
        let standing = hazard::of_pair(&self.workshop, &source, &looked, &candidate, order.ids);
        let hazards = hazards(&standing, &looked, &plan, whole);
        let references = if order.fit.is_some() { references::find(&looked.table, &surveyed, &plan) } else { Vec::new() };
        Ok(Prepared { order: order.clone(), source, looked, candidate, plan, hazards, unfinished, surveyed, parts, references, standing })
    }

    /// Releases the target by its tail and runs the plan to its end.
    ///
    /// # Errors
    /// A refusal; then nothing was written.
    pub fn run(&self, prepared: Prepared, tail: &str, control: &Control, observer: &dyn Observer) -> Result<Report, Refusal> {
        let Prepared { order, source, looked, candidate, plan: asked, surveyed, .. } = prepared;
        let mut plan = asked.clone();
        if !plan.recasts.is_empty() {
            observer.event(&Event::Phase { phase: Phase::Shape, total: 0, done: 0 });
            plan.moves.retain(|step| step.volume.is_none());
        }
        let image = Image::of(&source, &mut plan, &surveyed)?;
        if asked.is_spelled_out() && asked != plan {
            let text = "the source is not as it was when the unfinished run began: begin anew with --restart";
            return Err(Refusal::new("source-changed", text));
        }
        let ledger = self.open_ledger().map_err(|error| ledger_refusal(&error))?;
        let source_facts = DriveFacts::new(source.identity(), source.geometry(), Ribbon::of(&looked, source.geometry().size_bytes));
        let target_facts = DriveFacts::new(candidate.identity(), candidate.geometry(), Ribbon::planned(&plan, &source_facts.ribbon));
        let target = candidate.release(&source, plan.reach(), tail)?;
        let clock: Arc<dyn Clock> = source.clock().or_else(|| target.clock()).unwrap_or_else(|| self.workshop.clock.clone());
        let journal = self.journal(&ledger, &order, plan)?;
        let job = journal.job;
        let noted = ledger.seen(source.identity(), source.geometry()).and_then(|_| ledger.seen(target.identity(), target.geometry()));
        let run_id = noted.and_then(|_| ledger.begin_run(job)).map_err(|error| ledger_refusal(&error))?;
        let resumed = journal.past.done;
        let plan = journal.plan.clone();
        if resumed > 0 {
            ledger.note(run_id, &format!("gone on with at {}", badger_drive::size::human(resumed))).map_err(|error| ledger_refusal(&error))?;
        }
        let record = Record { rates: Rates::new(plan.size()), phase: None, ledger, run: run_id, sector: u64::from(plan.source.sector), noted: 0 };
        let recorder = Recorder { record: Mutex::new(record), outer: observer };
        let started = ledger::now();
        let mut report = run::start(Run { source, image, target, journal, control, observer: &recorder, clock, again: order.again })?;
        let Record { rates, mut ledger, .. } = recorder.record.into_inner().expect("recorder lock");
        let row = ledger.job(job).ok().flatten();
        let sheet = SheetData {
            job,
            workshop: ledger.setting("workshop").ok().flatten().unwrap_or_default(),
            ticket: row.as_ref().map(|row| row.ticket.clone()).unwrap_or_default(),
            customer: row.as_ref().map(|row| row.customer.clone()).unwrap_or_default(),
            technician: row.as_ref().map(|row| row.technician.clone()).unwrap_or_default(),
            started,
            ended: ledger::now(),
            keep_until: None,
            source: source_facts,
            target: target_facts,
            rates: rates.cells(),
            report: report.clone(),
        };
        let json = serde_json::to_string(&sheet).unwrap_or_default();
        if let Err(error) = ledger.end_run(run_id, &report, &json) {
            report.reason = format!("{} (the ledger could not be written: {error})", report.reason).trim().to_string();
        }
        Ok(report)
    }

    /// The journal to go on with, or a new one with a new job.
    fn journal(&self, ledger: &Ledger, order: &Order, plan: Plan) -> Result<Journal, Refusal> {
        let failed = |error: std::io::Error| Refusal::new("journal", format!("the journal of the run cannot be written: {error}"));
        let dir = ledger.journals();
        if !order.restart
            && let Some(journal) = Journal::find(&dir, &plan.source.key, &plan.target.key).map_err(failed)?
            && journal.plan == plan
        {
            return Ok(journal);
        }
        let job = ledger.new_job(&order.ticket, &order.customer, &order.technician, &plan.source.key, &plan.target.key);
        Journal::begin(&dir, plan, job.map_err(|error| ledger_refusal(&error))?).map_err(failed)
    }
}

/// All there is to know, the stops first.
fn hazards(standing: &[Hazard], looked: &Looked, plan: &Plan, whole: Vec<Hazard>) -> Vec<Hazard> {
    let mut all = [standing, &hazard::of_plan(looked, plan), &whole].concat();
    all.sort_by_key(|hazard| hazard.level);
    all
}

/// The plan by rules, and what is to be known of volumes that are copied whole.
fn fitted(
    source: &Source,
    looked: &Looked,
    parts: &[Part],
    surveyed: &[Surveyed],
    sides: (&Side, &Side),
    order: &Order,
    rules: &Rules,
) -> Result<(Plan, Vec<Hazard>), Refusal> {
    let mut plan = fit::plan(&looked.table, parts, sides, order.ids, rules, random)?;
    let (shown, plain): (Vec<&Surveyed>, Vec<&Surveyed>) = surveyed.iter().partition(|volume| plan.recast(volume.number).is_some());
    for volume in plain {
        let Some((to, _)) = plan.planned(volume.number).map(|planned| planned.place(sides.1.sector)) else { continue };
        if to != volume.start {
            let what = format!("first sector of {}", volumes::name(volume.number, &volume.volume));
            let bytes = badger_fs::resize::placed(source, volume.start, volume.len, to / u64::from(sides.1.sector));
            plan.patches.extend(bytes.into_iter().map(|(at, bytes)| Patch { at: to + at, bytes, what: what.clone() }));
        }
    }
    plan.patches.sort_by_key(|patch| patch.at);
    let used = |volume: &Surveyed| volume.survey().map_or(volume.len, badger_fs::Survey::used);
    let in_use = |volume: &Surveyed| InUse { number: volume.number, start: volume.start, len: volume.len, used: used(volume) };
    let mut volumes: Vec<InUse> = shown.into_iter().map(in_use).collect();
    let mut whole = Vec::new();
    if let Some(rest) = order.used {
        let (needed, spared) = volumes::needed(surveyed, sides.0.size_bytes);
        volumes.extend(spared.into_iter().filter(|one| !plan.left_out.contains(&one.number) && plan.recast(one.number).is_none()));
        volumes.sort_by_key(|volume| volume.number);
        plan.spare(&needed, Sparing { volumes, rest });
        whole = hazard::of_whole_volumes(surveyed);
    } else if !volumes.is_empty() {
        plan.sparing = Some(Sparing { volumes, rest: REST });
    }
    // Whoever wonders why a volume does not change is told.
    if whole.is_empty() && (rules.auto || rules.each.iter().any(|rule| rule.what != badger_layout::rules::What::Out)) {
        whole = hazard::of_unchanging(looked, parts, &plan);
    }
    Ok((plan, whole))
}

/// So many unreadable places are noted one by one; the report lists them all.
const MOST_NOTED: u32 = 10_000;

struct Record {
    rates: Rates,
    phase: Option<Phase>,
    ledger: Ledger,
    run: i64,
    sector: u64,
    noted: u32,
}

impl Record {
    fn take(&mut self, event: &Event) {
        match event {
            Event::Phase { phase, .. } => {
                self.phase = Some(*phase);
                self.note(phase.word());
            }
            Event::Lost { start, len } if self.noted < MOST_NOTED => {
                self.noted += 1;
                self.note(&format!("unreadable: sector {} and on, {} sectors", start / self.sector, len.div_ceil(self.sector)));
            }
            Event::Differs { start, .. } if self.noted < MOST_NOTED => {
                self.noted += 1;
                self.note(&format!("differs: somewhere from sector {} on", start / self.sector));
            }
            _ if self.phase == Some(Phase::Copy) => self.rates.event(event),
            _ => {}
        }
    }

    fn note(&self, text: &str) {
        // A ledger that cannot be written shows at the end of the run; the run itself must not suffer.
        let _ = self.ledger.note(self.run, text);
    }
}

/// Keeps the rates of the copying phase, notes what happens in the ledger as it happens, and passes everything on.
struct Recorder<'a> {
    record: Mutex<Record>,
    outer: &'a dyn Observer,
}

impl Observer for Recorder<'_> {
    fn event(&self, event: &Event) {
        self.record.lock().expect("recorder lock").take(event);
        self.outer.event(event);
    }
}
