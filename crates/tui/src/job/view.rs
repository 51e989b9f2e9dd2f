//! One job: what is known of it, and who gets its keys.

use super::keep::Keep;
use super::mends::Mends;
use super::rehearses::Rehearses;
use super::rescue::Rescue;
use crate::running::Running;
use crate::step::{STEPS, Step};
use badger_bench::Bench;
use badger_bench::ledger::JobRow;
use badger_bench::ribbon::Ribbon;
use badger_bench::sheet::SheetData;
use badger_drive::Refusal;
use badger_jobs::{Order, Prepared, Ready, Sight};
use badger_transfer::events::Silent;
use badger_transfer::{Control, Outcome, Report};
use crossterm::event::KeyCode;
use std::collections::{BTreeSet, VecDeque};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::Instant;

/// What is being typed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Entry {
    Tail(String),
    Rate(String),
    Size(String),
    /// Of an image.
    File(String),
    /// What an image goes on from.
    Parent(String),
    /// The target of a salvage.
    Onto(String),
    /// What a salvage reads first.
    First(String),
    /// What is allowed to a salvage; and what is wrong with it.
    Limits(String, String),
    /// The tail of a target that is mended.
    Mend(String),
    Ticket(String),
    Customer(String),
    Stop,
}

/// What a look at both drives brought.
pub(super) enum Found {
    /// The order, planned.
    Planned(Box<Prepared>, Box<Sight>),
    /// The order, its plan final.
    Final(Box<Ready>, Box<Sight>),
    /// The order; its plan could not be made final.
    Unfit(Box<Prepared>, Box<Sight>, Refusal),
    /// Nothing can be planned.
    Refused(Refusal),
}

/// What a run goes over.
pub(super) struct Ground<'a> {
    /// Bytes of the surface.
    pub size: u64,
    /// Bytes of a sector.
    pub sector: u64,
    /// Bytes to copy.
    pub bytes: u64,
    /// What lies where.
    pub ribbon: &'a Ribbon,
}

/// One job.
pub struct JobView {
    pub(crate) order: Order,
    pub(crate) step: Step,
    pub(super) sight: Option<Sight>,
    /// Of a job whose target is an image.
    pub(super) keep: Option<Keep>,
    /// Of a job that salvages a drive.
    pub(super) rescue: Option<Rescue>,
    /// Of a job whose target does not start.
    pub(super) mends: Mends,
    /// Of a job whose target is started in a virtual machine.
    pub(super) rehearses: Rehearses,
    pub(super) prepared: Option<Box<Prepared>>,
    /// The order whose tail is asked for.
    pub(super) ready: Option<Box<Ready>>,
    pub(super) waiting: Option<Receiver<Found>>,
    /// Since when.
    pub(super) waits_since: Instant,
    /// Keys for the plan that came while it was made anew.
    pub(super) late: VecDeque<KeyCode>,
    /// Both drives are looked at once more before the tail is asked for.
    pub(super) again: Option<(Arc<Control>, Receiver<Found>)>,
    pub(super) refusal: Option<Refusal>,
    pub(super) running: Option<Running>,
    pub(super) report: Option<Report>,
    pub(super) sheet: Option<SheetData>,
    pub(super) job: Option<i64>,
    pub(super) handed: bool,
    pub(super) weeks: i64,
    pub(super) papers: Vec<String>,
    pub(super) entry: Option<Entry>,
    /// Number of the partition that is chosen on the ribbon.
    pub(super) part: Option<u32>,
    /// Why the last change of the plan was not taken.
    pub(super) misfit: Option<Refusal>,
    /// Columns the target's ribbon has, for steps that suit it.
    pub(super) columns: u16,
    pub(crate) cursor: Option<usize>,
    pub(super) field: (u16, u16),
    pub(super) row: usize,
    pub(super) unfolded: BTreeSet<usize>,
    /// Set when something was written that lists show.
    pub(crate) ledger_changed: bool,
}

impl JobView {
    /// A new job; its drives are looked at in the background.
    pub fn new(order: Order, bench: &Bench) -> Self {
        let mut view = Self::blank(order);
        view.prepare(bench);
        view
    }

    pub(super) fn blank(order: Order) -> Self {
        Self {
            order,
            step: Step::Look,
            sight: None,
            keep: None,
            rescue: None,
            mends: Mends::default(),
            rehearses: Rehearses::default(),
            prepared: None,
            ready: None,
            waiting: None,
            waits_since: Instant::now(),
            late: VecDeque::new(),
            again: None,
            refusal: None,
            running: None,
            report: None,
            sheet: None,
            job: None,
            handed: false,
            weeks: 4,
            papers: Vec::new(),
            entry: None,
            part: None,
            misfit: None,
            columns: 100,
            cursor: None,
            field: (0, 0),
            row: 0,
            unfolded: BTreeSet::new(),
            ledger_changed: false,
        }
    }

    /// A job of the ledger that is over.
    pub fn past(row: &JobRow, bench: &Bench) -> Option<Self> {
        let (report, sheet) = bench.open_ledger().ok()?.last_run(row.id).ok()??;
        let sheet: SheetData = serde_json::from_str(&sheet).ok()?;
        let mut view = Self::blank(Order::new(report.source.clone(), report.target.clone()));
        view.order.ticket = row.ticket.clone();
        view.order.customer = row.customer.clone();
        (view.job, view.handed) = (Some(row.id), row.handed_over.is_some());
        view.step = if view.handed { Step::Hand } else { Step::Prove };
        (view.report, view.sheet) = (Some(report), Some(sheet));
        Some(view)
    }

    /// Looks at both drives and plans anew, in the background.
    pub(super) fn prepare(&mut self, bench: &Bench) {
        if self.rescue.is_some() {
            return self.look_at_rescue(bench);
        }
        if self.keep.is_some() {
            return self.look_at_image(bench);
        }
        self.waiting = Some(self.look(bench, None));
        self.waits_since = Instant::now();
        (self.prepared, self.ready) = (None, None);
        self.forget_again();
    }

    /// Looks at both drives, and makes the plan final where somebody can stop that.
    pub(super) fn look(&self, bench: &Bench, settling: Option<Arc<Control>>) -> Receiver<Found> {
        let (send, receive) = channel();
        let (bench, order) = (bench.clone(), self.order.clone());
        std::thread::spawn(move || {
            let found = match Prepared::of(&bench, &order) {
                Ok(prepared) => {
                    let mut sight = Box::new(Sight::of(&bench, &prepared));
                    match settling {
                        None => Found::Planned(Box::new(prepared), sight),
                        Some(control) => match prepared.settle(&control, &Silent) {
                            Ok(ready) => {
                                sight.settle(&ready.plan);
                                Found::Final(Box::new(ready), sight)
                            }
                            Err((prepared, refusal)) => Found::Unfit(prepared, sight, refusal),
                        },
                    }
                }
                Err(refusal) => Found::Refused(refusal),
            };
            // A job that was shut meanwhile does not wait for this any more.
            let _ = send.send(found);
        });
        receive
    }

    /// Does not ask for the tail after all.
    pub(super) fn forget_again(&mut self) {
        if let Some((control, _)) = self.again.take() {
            control.stop();
        }
    }

    /// Takes in a look that was taken before the tail is asked for: what was shown must still be so.
    fn looked_again(&mut self, found: Found) {
        let differs = |now: &Prepared| self.prepared.as_ref().and_then(|shown| shown.differs(now));
        let changed = |what| Refusal::new("shown-changed", format!("{what}; this is how it is now: read it again before you release it"));
        match found {
            Found::Final(ready, sight) => {
                match differs(&ready.prepared) {
                    None => (self.entry, self.ready) = (Some(Entry::Tail(String::new())), Some(ready)),
                    Some(what) => (self.misfit, self.prepared) = (Some(changed(what)), Some(Box::new(ready.prepared))),
                }
                self.sight = Some(*sight);
            }
            Found::Unfit(prepared, sight, refusal) => {
                let why = differs(&prepared).map_or(refusal, changed);
                (self.misfit, self.prepared, self.sight) = (Some(why), Some(prepared), Some(*sight));
            }
            Found::Planned(..) => {}
            Found::Refused(refusal) => (self.refusal, self.prepared) = (Some(refusal), None),
        }
    }

    /// Whether its drives were looked at.
    pub(super) fn has_sight(&self) -> bool {
        self.sight.is_some()
            || self.keep.as_ref().is_some_and(|keep| keep.sight.is_some())
            || self.rescue.as_ref().is_some_and(|rescue| rescue.sight.is_some())
    }

    /// What a run goes over: size and sectors of the surface, bytes to copy, what lies where.
    pub(super) fn ground(&self) -> Option<Ground<'_>> {
        if let Some(sight) = &self.sight {
            let (size, sector) = (sight.plan.size(), u64::from(sight.plan.target.sector));
            return Some(Ground { size, sector, bytes: sight.plan.bytes(), ribbon: &sight.after });
        }
        if let Some(sight) = self.rescue.as_ref().and_then(|rescue| rescue.sight.as_ref()) {
            return Some(Ground { size: sight.sizes.0, sector: u64::from(sight.sector), bytes: sight.sizes.0, ribbon: &sight.ribbon });
        }
        let sight = self.keep.as_ref()?.sight.as_ref()?;
        Some(Ground { size: sight.source.size_bytes, sector: u64::from(sight.source.sectors.0), bytes: sight.bytes, ribbon: &sight.source.ribbon })
    }

    /// Stops a run in order.
    pub fn stop_and_wait(&mut self) {
        if let Some(running) = &mut self.running {
            running.stop_and_wait();
        }
        self.rehearses.stop_and_wait();
    }

    /// Takes in what the threads found. True when a run has just ended.
    pub fn refresh(&mut self, bench: &Bench) -> bool {
        if let Some(ready) = self.waiting.as_ref().and_then(|waiting| waiting.try_recv().ok()) {
            self.waiting = None;
            match ready {
                Found::Planned(prepared, sight) => {
                    if let Some((_, job)) = &prepared.unfinished {
                        self.job = Some(*job);
                        self.take_names(bench);
                    }
                    (self.prepared, self.sight, self.refusal) = (Some(prepared), Some(*sight), None);
                    self.late_keys(bench);
                }
                // As it is it cannot be copied there; the proposal may do it.
                Found::Final(..) | Found::Unfit(..) => {}
                Found::Refused(refusal) if self.order.fit.is_none() && ["target-too-small", "sector-differs"].contains(&refusal.code) => {
                    self.order.fit = Some(badger_layout::Rules::auto());
                    self.prepare(bench);
                }
                Found::Refused(refusal) => {
                    self.refusal = Some(refusal);
                    self.late.clear();
                }
            }
        }
        self.image_looked(bench);
        self.rescue_looked();
        self.rescue_asks(bench);
        self.mend_turn();
        self.rehearsal_turn();
        if let Some(ready) = self.again.as_ref().and_then(|(_, again)| again.try_recv().ok()) {
            self.again = None;
            self.looked_again(ready);
        }
        let Some(outcome) =
            self.running.as_ref().filter(|running| running.is_over()).and_then(|running| running.look(|progress| progress.outcome.clone()))
        else {
            return false;
        };
        self.running = None;
        match outcome {
            Ok(report) => {
                self.job = Some(report.job);
                self.sheet = bench
                    .open_ledger()
                    .ok()
                    .and_then(|ledger| ledger.last_run(report.job).ok().flatten())
                    .and_then(|(_, sheet)| serde_json::from_str(&sheet).ok());
                self.step = if report.outcome == Outcome::Interrupted { Step::Plan } else { Step::Prove };
                self.report = Some(report);
            }
            Err(refusal) => {
                self.refusal = Some(refusal);
                self.step = Step::Plan;
            }
        }
        if self.is_live() {
            self.prepare(bench);
        }
        true
    }

    /// Ticket and customer as the ledger has them.
    fn take_names(&mut self, bench: &Bench) {
        let row = self.job.and_then(|job| bench.open_ledger().ok()?.job(job).ok()?);
        if let Some(row) = row {
            (self.order.ticket, self.order.customer) = (row.ticket, row.customer);
        }
    }

    /// Shows a step, where it has something to show.
    pub fn show(&mut self, step: Step) {
        let past_without_plan = !self.has_sight() && self.sheet.is_some() && step < Step::Prove;
        if step <= self.reached() && !past_without_plan && !(step == Step::Run && self.running.is_none()) {
            self.step = step;
        }
    }

    /// Back one step; false where there is none.
    pub fn back(&mut self) -> bool {
        let before = STEPS.iter().rev().copied().find(|step| *step < self.step);
        let was = self.step;
        if let Some(step) = before {
            self.show(step);
            if self.step == was && step == Step::Run {
                self.show(Step::Plan);
            }
        }
        self.step != was
    }
}
