//! An order whose plan is final, and its run.

use crate::options::Options;
use crate::order::Order;
use crate::prepared::Prepared;
use crate::record::{self, Recorder};
use crate::starting;
use badger_bench::Bench;
use badger_bench::ledger::{self, Ledger, NewJob};
use badger_bench::ribbon::Ribbon;
use badger_bench::sheet::{DriveFacts, SheetData};
use badger_drive::clock::Clock;
use badger_drive::{Candidate, Refusal, Release, RunDrive, Source, Standing, Witness, Workshop};
use badger_inspect::{Level, Looked, hazard};
use badger_layout::Plan;
use badger_transfer::journal::{Journal, Unfinished};
use badger_transfer::run::{self, Run};
use badger_transfer::tally::Tally;
use badger_transfer::{Control, Event, Image, Observer, Phase, Report};
use std::sync::Arc;
use tracing::info;

/// An order whose plan is final: what is shown of it is what will be done.
pub struct Ready {
    /// The order and both drives.
    pub prepared: Prepared,
    /// What will be done.
    pub plan: Plan,
    /// What the target is to hold.
    image: Image,
}

fn ledger_refusal(error: &dyn std::fmt::Display) -> Refusal {
    Refusal::new("ledger", error.to_string())
}

impl Prepared {
    /// Goes over every volume that is shown anew, and makes the plan final. This takes as long as reading the structures of
    /// those volumes does; nothing is written.
    ///
    /// # Errors
    /// A refusal, and the order as it was.
    pub fn settle(self, control: &Control, observer: &dyn Observer) -> Result<Ready, (Box<Self>, Refusal)> {
        self.source.obey(control);
        if !self.draft.plan().recasts.is_empty() {
            observer.event(&Event::Phase { phase: Phase::Shape, total: 0, done: 0, files: None });
        }
        let settled = Image::settle(&self.source, self.draft.clone(), &self.surveyed, control).and_then(|(plan, image)| {
            // What was begun must come out the same again.
            match &self.begun {
                Some(begun) if begun.plan != plan => {
                    let text = "the source is not as it was when the unfinished run began: begin anew with --restart";
                    Err(Refusal::new("source-changed", text))
                }
                _ => Ok((plan, image)),
            }
        });
        match settled {
            Ok((plan, image)) => Ok(Ready { prepared: self, plan, image }),
            Err(refusal) => Err((Box::new(self), refusal)),
        }
    }
}

/// Whether a source is still what was shown.
pub(crate) fn unchanged(witness: &Witness, source: &Source, is_in_use: bool) -> Result<(), Refusal> {
    // One that is in use changes all the time, and was released with that said; the proof says it once more.
    let same = if is_in_use { witness.is_of(&**source) } else { witness.holds_still(&**source).map(drop) };
    same.map_err(|what| Refusal::new("source-changed", format!("the source is not what was shown: {what}; look at it again")))
}

impl Ready {
    /// Releases the target by its tail and runs the plan to its end.
    ///
    /// # Errors
    /// A refusal; then nothing was written.
    pub fn run(self, bench: &Bench, tail: &str, control: &Control, observer: &dyn Observer) -> Result<Report, Refusal> {
        let Self { prepared, plan, image } = self;
        let Prepared { order, source, looked, candidate, witness, references, begun, hazards, .. } = prepared;
        // A stop has no answer but another plan, whoever asks.
        if let Some(stop) = hazards.iter().find(|hazard| hazard.level == Level::Stop) {
            return Err(Refusal::new(stop.code, stop.text.clone()));
        }
        // A file system may have been mounted since.
        bench.keep_off(Vec::new(), &[RunDrive::source(&source), candidate.in_run()])?;
        // Kept until the run is over: nobody may write to what is read.
        let _claim = source.claim()?;
        source.obey(control);
        unchanged(&witness, &source, hazard::is_in_use(&hazards))?;
        let ledger = bench.open_ledger().and_then(|ledger| ledger.check().map(|()| ledger)).map_err(|error| ledger_refusal(&error))?;
        let source_facts = DriveFacts::new(source.identity(), source.geometry(), Ribbon::of(&looked, source.geometry().size_bytes));
        let target_facts = DriveFacts::new(candidate.identity(), candidate.geometry(), Ribbon::planned(&plan, &source_facts.ribbon));
        let shifts = shifts(&looked, &bench.workshop, &candidate);
        // What is copied already must not carry a mark, not even for a moment in which somebody pulls the plug.
        let overwritten = ahead(&plan, &begun.as_ref().map(|begun| begun.past.clone()).unwrap_or_default());
        let release = Release { source: &source, needed: plan.reach(), tail, overwritten: &overwritten, shifts: &shifts };
        let target = candidate.release(&release)?;
        let clock: Arc<dyn Clock> = source.clock().or_else(|| target.clock()).unwrap_or_else(|| bench.workshop.clock.clone());
        let journal = journal(&ledger, &order, plan, begun, (&witness, &target.standing()))?;
        let job = ledger.job_named(&journal.job, &new_job(&order, &journal.plan)).map_err(|error| ledger_refusal(&error))?.0;
        let noted = ledger.seen(source.identity(), source.geometry()).and_then(|_| ledger.seen(target.identity(), target.geometry()));
        let run_id = noted.and_then(|_| ledger.begin_run(job)).map_err(|error| ledger_refusal(&error))?;
        let resumed = journal.past.done_bytes();
        let plan = journal.plan.clone();
        if resumed > 0 {
            ledger.note(run_id, &format!("gone on with at {}", badger_drive::size::human(resumed))).map_err(|error| ledger_refusal(&error))?;
        }
        let recorder = Recorder::new(ledger, run_id, &plan, observer);
        let started = ledger::now();
        let (from, to) = (plan.source.key.as_str(), plan.target.key.as_str());
        info!(job, run = run_id, from, to, bytes = plan.bytes(), resumed, "a run begins");
        let (mut report, finished) =
            run::start(Run { source, image, target, journal, control, observer: &recorder, clock, references: &references, again: order.again })?;
        report.job = job;
        let (outcome, code, lost) = (format!("{:?}", report.outcome), report.code.as_str(), report.lost_bytes);
        info!(job, run = run_id, outcome, code, lost, seconds = report.seconds, "the run ended");
        for line in &report.proof {
            info!(run = run_id, what = format!("{:?}", line.what), result = format!("{:?}", line.result), "proof");
        }
        starting::prove(&mut report, bench, &order, control);
        if starting::sets_right(&order, &references) {
            starting::set_right(&mut report, bench, &order, tail, (&looked, &plan, &references));
        }
        let (rates, mut ledger) = recorder.finish();
        let row = ledger.job(job).ok().flatten();
        let sheet = SheetData {
            job,
            workshop: bench.named(Some(&ledger), "workshop"),
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
            surface: None,
        };
        record::end(&mut ledger, run_id, &mut report, &sheet);
        finished.into_iter().for_each(Journal::remove);
        Ok(report)
    }
}

/// The journal to go on with, or a new one with a new job.
fn journal(
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
    let (_, uid) = ledger.new_job(&new_job(order, &plan)).map_err(|error| ledger_refusal(&error))?;
    Journal::begin(&dir, plan, (&uid, &Options::of(order).text()), source, target).map_err(failed)
}

fn new_job<'a>(order: &'a Order, plan: &'a Plan) -> NewJob<'a> {
    NewJob {
        ticket: &order.ticket,
        customer: &order.customer,
        technician: &order.technician,
        source_key: &plan.source.key,
        target_key: &plan.target.key,
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
