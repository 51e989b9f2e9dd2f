//! One order, from two paths to a report. The command line and the screens both come through here.

use crate::config::Config;
use crate::ledger::{self, Ledger};
use crate::rates::Rates;
use crate::ribbon::Ribbon;
use crate::sheet::{DriveFacts, SheetData};
use badger_drive::clock::Clock;
use badger_drive::ground::Ground;
use badger_drive::{Candidate, Refusal, Release, Source, Standing, Witness, Workshop};
use badger_layout::fit::{self, Part};
use badger_layout::plan::{self, Ids, InUse, Patch, Rest, Side, Sparing};
use badger_layout::{Plan, Rules};
use badger_transfer::hazard;
use badger_transfer::journal::{Journal, Unfinished};
use badger_transfer::looked::Looked;
use badger_transfer::references::{self, Carrier, Reference};
use badger_transfer::resume;
use badger_transfer::run::{self, Run};
use badger_transfer::tally::Tally;
use badger_transfer::volumes::{self, Surveyed};
use badger_transfer::{Control, Event, Hazard, Image, Observer, Phase, Report};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use tracing::info;

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
    standing: Vec<Hazard>,
    /// The journal of the unfinished run.
    begun: Option<Unfinished>,
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
        self.references = named(&self.source, &self.looked, &self.surveyed, &self.plan);
        self.hazards = hazards(&self.standing, &self.looked, &self.plan, &self.references, whole);
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
    /// What the workshop settled.
    pub config: Config,
}

fn random() -> [u8; 16] {
    let mut bytes = [0; 16];
    // The kernel's source of randomness does not run dry and does not fail once the machine is up.
    getrandom::fill(&mut bytes).expect("the system gives random bytes");
    bytes
}

fn ledger_refusal(error: &dyn std::fmt::Display) -> Refusal {
    Refusal::new("ledger", error.to_string())
}

impl Bench {
    /// The workshop's name or the technician's: the settings' one, else the ledger's; empty where neither says it.
    pub fn named(&self, ledger: Option<&Ledger>, what: &str) -> String {
        let settled = if what == "workshop" { &self.config.workshop } else { &self.config.technician };
        if !settled.is_empty() {
            return settled.clone();
        }
        ledger.and_then(|ledger| ledger.setting(what).ok().flatten()).unwrap_or_default()
    }

    /// Opens the ledger.
    ///
    /// # Errors
    /// See [`ledger::Error`].
    pub fn open_ledger(&self) -> Result<Ledger, ledger::Error> {
        Ledger::open(&self.ledger)
    }

    /// Opens the ledger only to read it; `None` where there is none yet.
    ///
    /// # Errors
    /// See [`ledger::Error`].
    pub fn read_ledger(&self) -> Result<Option<Ledger>, ledger::Error> {
        Ledger::read(&self.ledger)
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
        let witness = Witness::of(&*source, &[]);
        self.own_files_lie_elsewhere(&source, &candidate)?;
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
        let mut unfinished = None;
        let past = if order.restart { None } else { self.begun(&source, &candidate, &here.key, &there.key)? };
        if let Some(Unfinished { plan: begun, job, past, .. }) = past.clone() {
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
        let mut standing = hazard::of_pair(&self.workshop, &source, &looked, &candidate, order.ids);
        let (key, continued) = (candidate.key(), unfinished.as_ref().map(|(_, job)| *job));
        standing.extend(self.unfinished_copy(&key).filter(|(job, _)| Some(*job) != continued).map(|(_, hazard)| hazard));
        if let Some((past, job)) = &unfinished {
            // What it holds is this very copy.
            standing.retain(|hazard| !["target-holds", "target-looks-empty", "target-not-readable"].contains(&hazard.code));
            let text =
                format!("the target holds what job {job} has copied so far, {}: it is gone on with", badger_drive::size::human(past.done_bytes()));
            standing.push(Hazard { level: badger_transfer::Level::Note, code: "target-unfinished", text });
        }
        let references = named(&source, &looked, &surveyed, &plan);
        let hazards = hazards(&standing, &looked, &plan, &references, whole);
        let order = order.clone();
        Ok(Prepared { order, source, looked, candidate, plan, hazards, unfinished, surveyed, parts, references, witness, standing, begun: past })
    }

    /// Neither the ledger nor the journals nor the log may lie on what is read or written.
    fn own_files_lie_elsewhere(&self, source: &Source, candidate: &Candidate) -> Result<(), Refusal> {
        let journals = ledger::journals_beside(&self.ledger);
        let mut own = vec![self.ledger.clone(), journals.clone()];
        own.extend(std::fs::read_dir(&journals).into_iter().flatten().flatten().map(|entry| entry.path()));
        let ours = own.into_iter().map(|path| (path, ["ledger-on-source", "ledger-on-target"], "the ledger's ", "take another ledger with --ledger"));
        let log = self.config.log.clone();
        let logs = log.into_iter().map(|path| (path, ["log-on-source", "log-on-target"], "the log ", "name another place with XDG_STATE_HOME"));
        for (path, codes, what, way) in ours.chain(logs) {
            // What is not there yet will lie in the nearest directory that is.
            let Some(there) = path.ancestors().find(|path| path.exists()) else { continue };
            let of = if there == path { Ground::of } else { Ground::of_new_file };
            let ground = of(there, &self.workshop.sysfs);
            for (code, side, other) in [(codes[0], "source", source.ground()), (codes[1], "target", candidate.ground())] {
                // Many files lie in one directory; only what is one of ours, or carries it, counts.
                if ground.touches(other) {
                    return Err(Refusal::new(code, format!("{what}{} lies on the {side}: {way}", path.display())));
                }
            }
        }
        Ok(())
    }

    /// The unfinished run between two drives that fits them, if any.
    fn begun(&self, source: &Source, candidate: &Candidate, here: &str, there: &str) -> Result<Option<Unfinished>, Refusal> {
        let mut all = Journal::peek(&ledger::journals_beside(&self.ledger), here, there)
            .map_err(|error| Refusal::new("journal", format!("the journal of the unfinished run: {error}")))?;
        if all.is_empty() {
            return Ok(None);
        }
        // Two targets that hold the beginning of one source both fit; the journal of this very one comes first.
        let standing = candidate.witness().map(|witness| witness.standing.clone()).unwrap_or_default();
        all.sort_by_key(|one| one.is_of_another(&standing));
        let target = if candidate.is_new() { None } else { Some(self.workshop.source(&candidate.identity().path)?) };
        let mut refusal = None;
        for one in all {
            match resume::fits(&one, source, target.as_ref()) {
                Ok(()) => return Ok(Some(one)),
                Err(why) => _ = refusal.get_or_insert(why),
            }
        }
        refusal.map_or(Ok(None), Err)
    }

    /// The job of which a drive holds an unfinished copy by the ledger, and what is to be known of that.
    pub fn unfinished_copy(&self, target_key: &str) -> Option<(i64, Hazard)> {
        let row = self.read_ledger().ok()??.last_job_of(target_key).ok()??;
        let unfinished = row.target_key == target_key && row.started.is_some() && row.outcome.as_deref().is_none_or(|word| word == "interrupted");
        unfinished.then(|| {
            let text =
                format!("it holds an unfinished copy of job {}: give the same two drives to go on with it, or all that was copied is lost", row.id);
            (row.id, Hazard { level: badger_transfer::Level::Mind, code: "unfinished-copy", text })
        })
    }

    /// Releases the target by its tail and runs the plan to its end.
    ///
    /// # Errors
    /// A refusal; then nothing was written.
    pub fn run(&self, prepared: Prepared, tail: &str, control: &Control, observer: &dyn Observer) -> Result<Report, Refusal> {
        let Prepared { order, source, looked, candidate, plan: asked, surveyed, witness, references, begun, hazards, .. } = prepared;
        // A stop has no answer but another plan, whoever asks.
        if let Some(stop) = hazards.iter().find(|hazard| hazard.level == badger_transfer::Level::Stop) {
            return Err(Refusal::new(stop.code, stop.text.clone()));
        }
        // Kept until the run is over: nobody may write to what is read.
        let _claim = source.claim()?;
        source.obey(control);
        let changed = |what| {
            let text = format!("the source is not what was shown: {what}; look at it again");
            Refusal::new("source-changed", text)
        };
        // One that is in use changes all the time, and was released with that said; the proof says it once more.
        if hazards.iter().any(|hazard| ["source-in-use", "source-is-system"].contains(&hazard.code)) {
            witness.is_of(&*source).map_err(changed)?;
        } else {
            witness.holds_still(&*source).map_err(changed)?;
        }
        let mut plan = asked.clone();
        if !plan.recasts.is_empty() {
            observer.event(&Event::Phase { phase: Phase::Shape, total: 0, done: 0 });
            plan.moves.retain(|step| step.volume.is_none());
        }
        let image = Image::of(&source, &mut plan, &surveyed, control)?;
        if asked.is_spelled_out() && asked != plan {
            let text = "the source is not as it was when the unfinished run began: begin anew with --restart";
            return Err(Refusal::new("source-changed", text));
        }
        let ledger = self.open_ledger().map_err(|error| ledger_refusal(&error))?;
        let source_facts = DriveFacts::new(source.identity(), source.geometry(), Ribbon::of(&looked, source.geometry().size_bytes));
        let target_facts = DriveFacts::new(candidate.identity(), candidate.geometry(), Ribbon::planned(&plan, &source_facts.ribbon));
        let shifts = shifts(&looked, &self.workshop, &candidate);
        // What is copied already must not carry a mark, not even for a moment in which somebody pulls the plug.
        let overwritten = ahead(&plan, &begun.as_ref().map(|begun| begun.past.clone()).unwrap_or_default());
        let release = Release { source: &source, needed: plan.reach(), tail, overwritten: &overwritten, shifts: &shifts };
        let target = candidate.release(&release)?;
        let clock: Arc<dyn Clock> = source.clock().or_else(|| target.clock()).unwrap_or_else(|| self.workshop.clock.clone());
        let journal = self.journal(&ledger, &order, plan, begun, (&witness, &target.standing()))?;
        let job = journal.job;
        let noted = ledger.seen(source.identity(), source.geometry()).and_then(|_| ledger.seen(target.identity(), target.geometry()));
        let run_id = noted.and_then(|_| ledger.begin_run(job)).map_err(|error| ledger_refusal(&error))?;
        let resumed = journal.past.done_bytes();
        let plan = journal.plan.clone();
        if resumed > 0 {
            ledger.note(run_id, &format!("gone on with at {}", badger_drive::size::human(resumed))).map_err(|error| ledger_refusal(&error))?;
        }
        let record = Record { rates: Rates::new(plan.size()), phase: None, ledger, run: run_id, sector: u64::from(plan.source.sector), noted: 0 };
        let recorder = Recorder { record: Mutex::new(record), outer: observer };
        let started = ledger::now();
        let (from, to) = (plan.source.key.as_str(), plan.target.key.as_str());
        info!(job, run = run_id, from, to, bytes = plan.bytes(), resumed, "a run begins");
        let mut report =
            run::start(Run { source, image, target, journal, control, observer: &recorder, clock, references: &references, again: order.again })?;
        let (outcome, code, lost) = (format!("{:?}", report.outcome), report.code.as_str(), report.lost_bytes);
        info!(job, run = run_id, outcome, code, lost, seconds = report.seconds, "the run ended");
        for line in &report.proof {
            info!(run = run_id, what = format!("{:?}", line.what), result = format!("{:?}", line.result), "proof");
        }
        let Record { rates, mut ledger, .. } = recorder.record.into_inner().expect("recorder lock");
        let row = ledger.job(job).ok().flatten();
        let sheet = SheetData {
            job,
            workshop: self.named(Some(&ledger), "workshop"),
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
    fn journal(
        &self,
        ledger: &Ledger,
        order: &Order,
        plan: Plan,
        begun: Option<Unfinished>,
        (source, target): (&Witness, &Standing),
    ) -> Result<Journal, Refusal> {
        let failed = |error: std::io::Error| Refusal::new("journal", format!("the journal of the run cannot be written: {error}"));
        let dir = ledger.journals();
        if let Some(begun) = &begun
            && let Some(journal) = Journal::open(&dir, begun).map_err(failed)?
            && journal.plan == plan
        {
            return Ok(journal);
        }
        if begun.is_some() {
            return Err(Refusal::new("run-differs", "the unfinished run was gone on with by another program meanwhile: look at both drives again"));
        }
        let job = ledger.new_job(&order.ticket, &order.customer, &order.technician, &plan.source.key, &plan.target.key);
        Journal::begin(&dir, plan, job.map_err(|error| ledger_refusal(&error))?, source, target).map_err(failed)
    }
}

/// How far the same bytes would lie further on the source than on the target, were one a partition of the other.
fn shifts(looked: &Looked, workshop: &Workshop, candidate: &Candidate) -> Vec<i128> {
    let starts = |table: &badger_layout::Table| -> Vec<i128> {
        table.data_partitions().iter().map(|partition| i128::from(table.place(partition).0)).filter(|start| *start > 0).collect()
    };
    let mut shifts = starts(&looked.table);
    if let Ok(target) = workshop.source(&candidate.identity().path) {
        shifts.extend(starts(&badger_layout::table::read(&*target)).into_iter().map(|start| -start));
    }
    // A hostile table names any number of them.
    shifts.truncate(32);
    shifts
}

/// What of the target a run has still to overwrite: start and length in bytes.
fn ahead(plan: &Plan, tally: &Tally) -> Vec<(u64, u64)> {
    plan.moves.iter().flat_map(|step| tally.done.gaps(step.to..step.to + step.len)).map(|gap| (gap.start, gap.end - gap.start)).collect()
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
    let opened: Vec<_> = looked
        .volumes
        .iter()
        .filter_map(|(number, volume)| {
            let partition = looked.table.partitions.iter().find(|partition| partition.number == *number)?;
            let (start, len) = looked.table.place(partition);
            Some((*number, start, volume.kind, badger_fs::open(source, start, len).ok()))
        })
        .collect();
    let carriers: Vec<Carrier> =
        opened.iter().map(|(number, start, kind, fs)| Carrier { number: *number, start: *start, kind: *kind, fs: fs.as_deref() }).collect();
    references::find(&looked.table, &carriers, plan)
}

/// All there is to know, the stops first.
fn hazards(standing: &[Hazard], looked: &Looked, plan: &Plan, references: &[Reference], whole: Vec<Hazard>) -> Vec<Hazard> {
    let mut all = [standing, &hazard::of_plan(looked, plan, references), &whole].concat();
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
    for recast in &mut plan.recasts {
        let walked = surveyed.iter().find(|volume| volume.number == recast.number).and_then(|volume| volume.walked.as_ref());
        if let Some(Ok(room)) = walked.map(|(fs, survey)| fs.room(survey, recast.len, sides.1.sector)) {
            recast.used = recast.len.saturating_sub(room);
        }
    }
    let (shown, plain): (Vec<&Surveyed>, Vec<&Surveyed>) = surveyed.iter().partition(|volume| plan.recast(volume.number).is_some());
    for volume in plain {
        let Some((to, _)) = plan.planned(volume.number).map(|planned| planned.place(sides.1.sector)) else { continue };
        if to != volume.start {
            let what = format!("first sector of {}", volumes::name(volume.number, &volume.volume));
            let bytes = badger_fs::placed(source, volume.start, volume.len, to / u64::from(sides.1.sector));
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
        if let Event::Phase { phase, total, .. } = event {
            info!(phase = format!("{phase:?}"), total, "a phase begins");
        }
        self.record.lock().expect("recorder lock").take(event);
        self.outer.event(event);
    }
}
