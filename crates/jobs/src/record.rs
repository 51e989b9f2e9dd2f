//! A run as the ledger keeps it.

use badger_bench::Bench;
use badger_bench::ledger::{self, Ledger};
use badger_bench::rates::Rates;
use badger_bench::sheet::SheetData;
use badger_layout::Plan;
use badger_transfer::{Event, Observer, Phase, Report};
use std::sync::Mutex;
use tracing::info;

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
            Event::Unreadable { start, len } if self.noted < MOST_NOTED => {
                self.noted += 1;
                self.note(&format!("unreadable: sector {} and on, {} sectors", start / self.sector, len.div_ceil(self.sector)));
            }
            Event::Late { start, len } if self.noted < MOST_NOTED => {
                self.noted += 1;
                self.note(&format!("read after all: sector {} and on, {} sectors", start / self.sector, len.div_ceil(self.sector)));
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

/// Ends a run in the ledger, with all that its sheet is drawn from. A ledger that cannot be written is told of in the report.
pub(crate) fn end(ledger: &mut Ledger, run: i64, report: &mut Report, sheet: &SheetData) {
    let json = serde_json::to_string(sheet).unwrap_or_default();
    if let Err(error) = ledger.end_run(run, report, &json) {
        report.reason = format!("{} (the ledger could not be written: {error})", report.reason).trim().to_string();
    }
}

/// Keeps the rates of the copying phase, notes what happens in the ledger as it happens, and passes everything on.
pub(crate) struct Recorder<'a> {
    record: Mutex<Record>,
    outer: &'a dyn Observer,
}

impl<'a> Recorder<'a> {
    pub(crate) fn new(ledger: Ledger, run: i64, plan: &Plan, outer: &'a dyn Observer) -> Self {
        let record = Record { rates: Rates::new(plan.size()), phase: None, ledger, run, sector: u64::from(plan.source.sector), noted: 0 };
        Self { record: Mutex::new(record), outer }
    }

    /// What is left when the run is over.
    pub(crate) fn finish(self) -> (Rates, Ledger) {
        let Record { rates, ledger, .. } = self.record.into_inner().expect("recorder lock");
        (rates, ledger)
    }
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

/// Changes what the paper of a target's latest job says, as a run of its own in it: what stands there now is told, what stood there is kept.
pub(crate) fn amend(bench: &Bench, key: &str, change: impl FnOnce(&mut Report)) -> Result<(), ledger::Error> {
    let mut ledger = bench.open_ledger()?;
    let Some(job) = ledger.last_job_of(key)? else { return Ok(()) };
    let Some((mut report, sheet)) = ledger.last_run(job.id)? else { return Ok(()) };
    change(&mut report);
    let run = ledger.begin_run(job.id)?;
    let json = match serde_json::from_str::<SheetData>(&sheet) {
        Ok(sheet) => serde_json::to_string(&SheetData { ended: ledger::now(), report: report.clone(), ..sheet }).unwrap_or_default(),
        Err(_) => sheet,
    };
    ledger.end_run(run, &report, &json)
}
