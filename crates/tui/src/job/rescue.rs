//! What a job has of its salvage: the order, what was seen, the look that is waited for.

use super::asking::Asking;
use badger_bench::Bench;
use badger_bench::ribbon::Ribbon;
use badger_drive::Refusal;
use badger_inspect::Hazard;
use badger_jobs::salvage::{SalvageOrder, SalvageReady, Seat};
use badger_salvage::map::Totals;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, channel};

/// What there is to see of both ends and of the map.
pub(super) struct RescueSight {
    /// Model, serial, connection of the drive.
    pub source: (String, String, &'static str),
    /// The same of the target.
    pub target: (String, String, &'static str),
    /// Bytes of both, and of the drive's sectors.
    pub sizes: (u64, u64),
    pub sector: u32,
    pub tail: String,
    pub totals: Totals,
    pub begun: bool,
    pub damaged: u64,
    /// What a clone that broke off has copied.
    pub takes_over: Option<u64>,
    pub hazards: Vec<Hazard>,
    /// Nobody is asked for a tail: the target is new, or the one of the map.
    pub known: bool,
    /// Where things lie is not known before the run.
    pub ribbon: Ribbon,
}

pub(super) type Looked = Result<(Box<SalvageReady>, bool), Refusal>;

/// What a job has of its salvage.
pub struct Rescue {
    pub(super) order: SalvageOrder,
    pub(super) sight: Option<RescueSight>,
    pub(super) ready: Option<Box<SalvageReady>>,
    pub(super) waiting: Option<Receiver<Looked>>,
    pub(super) seat: Seat,
    pub(super) asking: Asking,
}

impl Rescue {
    pub(super) fn new(mut order: SalvageOrder) -> Self {
        // Whoever sits there is asked; a command line ends.
        order.limits.pauses = true;
        Self { order, sight: None, ready: None, waiting: None, seat: Seat::default(), asking: Asking::default() }
    }

    pub(super) fn look(&mut self, bench: &Bench) {
        let (send, receive) = channel();
        let (bench, order) = (bench.clone(), self.order.clone());
        std::thread::spawn(move || {
            let ready = order.prepare(&bench).map(|ready| {
                let known = ready.is_known(&bench);
                (Box::new(ready), known)
            });
            // A job that was shut meanwhile does not wait for this any more.
            let _ = send.send(ready);
        });
        self.waiting = Some(receive);
    }

    pub(super) fn is_waiting(&self) -> bool {
        self.waiting.is_some()
    }
}

pub(super) fn sight(ready: &SalvageReady, known: bool) -> RescueSight {
    let (from, to) = (ready.source.identity(), ready.candidate.identity());
    let size = ready.source.geometry().size_bytes;
    RescueSight {
        source: (from.model.clone(), from.serial.clone(), from.bus.word()),
        target: (to.model.clone(), to.serial.clone(), to.bus.word()),
        sizes: (size, ready.candidate.geometry().size_bytes),
        sector: ready.source.geometry().logical_sector,
        tail: ready.candidate.tail(),
        totals: ready.map.totals(),
        begun: ready.begun,
        damaged: ready.damaged,
        takes_over: ready.takes_over.as_ref().map(|begun| begun.past.done_bytes()),
        hazards: ready.hazards.clone(),
        known,
        ribbon: Ribbon { size, table: String::new(), parts: Vec::new(), said: "not looked at".into() },
    }
}

/// Where the map of a target lies: beside a file, beside the ledger for a drive.
pub fn map_beside(bench: &Bench, target: &Path) -> PathBuf {
    let name = target.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_else(|| "salvage".into());
    let is_device = target.starts_with("/dev") || target.to_string_lossy().ends_with(".drive.toml");
    let beside = || bench.ledger.parent().map(|dir| dir.join(format!("{name}.map"))).unwrap_or_default();
    if is_device { beside() } else { target.with_extension("map") }
}
