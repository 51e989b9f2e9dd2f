//! Salvaging a drive that fails, as a job of the ledger.

mod ending;
mod options;
mod run;

use badger_bench::{Bench, ledger};
use badger_drive::size::human;
use badger_drive::{Candidate, OwnFile, OwnKind, Refusal, RunDrive, Source};
use badger_inspect::{Hazard, Level, hazard};
use badger_layout::Plan;
use badger_salvage::limits::Limits;
use badger_salvage::map::{Map, State, Totals};
use badger_salvage::run::{PassReport, Steer, Watch};
use badger_salvage::{file, holed, pieces};
use badger_transfer::Report;
use badger_transfer::journal::{Journal, Unfinished};
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

/// What becomes of places on the target that could not be read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fill {
    /// Zeroes.
    #[default]
    Zero,
    /// A text in every sector that says so, so that whoever meets it knows.
    Marked,
    /// What is there stays.
    Keep,
}

impl Fill {
    /// What stands on the target, in words.
    fn said(self) -> &'static str {
        match self {
            Self::Zero => "zero on the target where it was tried",
            Self::Marked => "marked on the target sector by sector where it was tried",
            Self::Keep => "left on the target as it was",
        }
    }
}

/// What is asked for.
#[derive(Clone, Debug, Default)]
pub struct SalvageOrder {
    /// Path of the drive that fails.
    pub source: PathBuf,
    /// Path of the target; a file that is not there is made.
    pub target: PathBuf,
    /// An image of our own that is made of what was saved. Then the target is the file in which that is gathered.
    pub image: Option<PathBuf>,
    /// Its map; one that is there is gone on with.
    pub map: PathBuf,
    /// Size of a new target file, in bytes; as large as the drive where that is not said.
    pub new_size: Option<u64>,
    /// Forget what was given up, and what was left, and begin with it anew; what is saved stays.
    pub again: bool,
    /// Files and folders that come first, as `#NUMBER/PATH`. This and what follows is as the map says it where it is left open.
    pub first: Vec<String>,
    /// Whether free space is left out.
    pub used: Option<bool>,
    /// What is allowed.
    pub limits: Limits,
    /// What becomes of places that could not be read.
    pub fill: Option<Fill>,
    /// The customer's ticket; may be empty.
    pub ticket: String,
    /// Customer; may be empty.
    pub customer: String,
    /// Who does it; may be empty.
    pub technician: String,
}

/// An order that was looked at. Of the drive that fails nothing was read.
pub struct SalvageReady {
    /// The order.
    pub order: SalvageOrder,
    /// The drive.
    pub source: Source,
    /// The target, not open yet.
    pub candidate: Candidate,
    /// What to know before.
    pub hazards: Vec<Hazard>,
    /// What is known so far.
    pub map: Map,
    /// Whether that was begun earlier.
    pub begun: bool,
    /// Lines of the map that are damaged.
    pub damaged: u64,
    /// What names the job, where the map says it.
    job: String,
    /// What the map says of the drive as it was when that was begun.
    since: Option<String>,
    /// The target's, as the map says.
    node: String,
    /// A clone that broke off, whose work is taken over.
    pub takes_over: Option<Box<Unfinished>>,
}

/// The broken-off clone of everything as it is between two drives, if there is one.
fn broken_off(bench: &Bench, source: &Source, candidate: &Candidate) -> Option<Box<Unfinished>> {
    let all = Journal::peek(&ledger::journals_beside(&bench.ledger), &source.key(), &candidate.key()).ok()?;
    let standing = candidate.witness().map(|witness| witness.standing.clone()).unwrap_or_default();
    let as_it_is = |plan: &Plan| {
        plan.fit.is_none()
            && plan.sparing.is_none()
            && plan.patches.is_empty()
            && plan.moves.iter().all(|step| step.from == step.to && step.volume.is_none())
    };
    all.into_iter().find(|one| as_it_is(&one.plan) && !one.is_of_another(&standing)).map(Box::new)
}

/// Device and inode of a file; empty for what is none.
fn node(path: &Path) -> String {
    std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file).map(|meta| format!("{}:{}", meta.dev(), meta.ino())).unwrap_or_default()
}

/// What a run shows and takes while it goes on.
#[derive(Clone, Default)]
pub struct Seat {
    /// Shown.
    pub watch: Arc<Mutex<Watch>>,
    /// Wishes.
    pub wishes: Arc<Mutex<VecDeque<Steer>>>,
}

/// The whole outcome.
#[derive(Clone, Debug, serde::Serialize)]
pub struct SalvageReport {
    /// As of every run.
    #[serde(flatten)]
    pub report: Report,
    /// Bytes in each state.
    pub map: Totals,
    /// What each pass came to.
    pub passes: Vec<PassReport>,
    /// Files of which something is missing.
    pub holed: Vec<holed::Holed>,
    /// Files that are whole.
    pub whole_files: u64,
    /// Bytes that are missing and belong to no file that was found.
    pub missing_elsewhere: u64,
    /// What could not be gone through, in words.
    pub problems: Vec<String>,
    /// What was wanted first and was not found, and why.
    pub not_found: Vec<(String, String)>,
    /// Seconds of a simulated drive's own time; `None` for others.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub simulated_seconds: Option<f64>,
    /// Saved over time: seconds since the run began, bytes.
    pub timeline: Vec<(f64, u64)>,
}

impl SalvageOrder {
    /// Looks at both ends and at the map. Of the drive that fails nothing is read, and nothing is written.
    ///
    /// # Errors
    /// A refusal with its reason.
    pub fn prepare(mut self, bench: &Bench) -> Result<SalvageReady, Refusal> {
        if self.image.is_none() && self.target.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("zbi")) {
            self.image = Some(self.target.clone());
            self.target.set_extension("gathered.img");
        }
        if let Some(image) = self.image.as_ref().filter(|image| std::fs::symlink_metadata(image).is_ok()) {
            let text = format!(
                "{} is there already; if it was made of what was saved so far, take it away and the same command goes on, or name another image",
                image.display()
            );
            return Err(Refusal::new("image-exists", text));
        }
        let source = bench.workshop.source(&self.source)?;
        let geometry = source.geometry();
        let shown = self.map.display();
        let is_new = std::fs::symlink_metadata(&self.target).is_err();
        let size = if is_new { self.new_size.or(Some(geometry.size_bytes)) } else { self.new_size };
        let candidate = bench.workshop.candidate(&self.target, size, geometry.logical_sector)?;
        if let Some(stop) = candidate.stops(&source, geometry.size_bytes).into_iter().next() {
            return Err(stop);
        }
        self.keep_off(bench, &source, &candidate)?;
        let mut ready = SalvageReady {
            hazards: hazard::of_places(&bench.workshop, &source, &candidate),
            map: Map::new(geometry.size_bytes),
            source,
            candidate,
            begun: false,
            damaged: 0,
            job: String::new(),
            since: None,
            node: String::new(),
            takes_over: None,
            order: self.clone(),
        };
        if let Some(image) = &self.image {
            let text = format!("what is saved is gathered in {} first; {} is made of it at the end", self.target.display(), image.display());
            ready.hazards.push(Hazard::new(Level::Note, "image-later", text));
        }
        match std::fs::symlink_metadata(&self.map) {
            Err(_) if pieces::has_any(&self.map) => {
                let list = pieces::beside(&self.map);
                let text = format!("{} is there, and its map is not: name another map, or take it away", list.display());
                return Err(Refusal::new("map-exists", text));
            }
            Err(_) => ready.takes_over = broken_off(bench, &ready.source, &ready.candidate),
            Ok(_) => {
                let loaded = file::load(&self.map).map_err(|error| Refusal::new("map-damaged", format!("{shown}: {error}")))?;
                ready.go_on_with(bench, loaded)?;
            }
        }
        Ok(ready)
    }
}

impl SalvageOrder {
    /// Refuses where the map, what lies beside it, or another file of ours would lie on one of the drives, or be one of them.
    fn keep_off(&self, bench: &Bench, source: &Source, candidate: &Candidate) -> Result<(), Refusal> {
        let shown = self.map.display();
        let dir = self.map.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
        if !dir.is_dir() {
            return Err(Refusal::new("not-found", format!("there is no directory {}", dir.display())));
        }
        if let Some((first, _)) = badger_drive::split::place_of(&self.map) {
            let text = format!("the map {shown} would become a piece of the drive in pieces {}: take another name", first.display());
            return Err(Refusal::new("map-misplaced", text));
        }
        let own = [self.map.clone(), pieces::beside(&self.map)];
        if let Some(image) = self.image.as_ref().filter(|image| own.iter().any(|path| is_one(path, image))) {
            return Err(Refusal::new("map-misplaced", format!("the map {shown} and {} would be one file: name another map", image.display())));
        }
        let own = own.map(|path| OwnFile { path, kind: OwnKind::Map });
        bench.keep_off(own.to_vec(), &[RunDrive::source(source), candidate.in_run()])
    }
}

/// Whether two names lead to one place, whether or not something is there.
fn is_one(a: &Path, b: &Path) -> bool {
    let real = |path: &Path| {
        let dir = path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
        path.canonicalize().ok().or_else(|| Some(dir.canonicalize().ok()?.join(path.file_name()?)))
    };
    real(a).is_some() && real(a) == real(b)
}

impl SalvageReady {
    fn go_on_with(&mut self, bench: &Bench, loaded: file::Loaded) -> Result<(), Refusal> {
        let file::Loaded { of, mut map, damaged } = loaded;
        self.hazards.extend(options::resumed(&mut self.order, &of.options));
        let (identity, geometry) = (self.source.identity(), self.source.geometry());
        // A drive without a serial is known by its place, which may be another one today; what it gives is compared before anything is written.
        let same = (&of.model, &of.serial) == (&identity.model, &identity.serial) || of.serial.is_empty() && of.source == self.source.key();
        if !same || of.size != geometry.size_bytes || of.sector != geometry.logical_sector {
            let text = format!(
                "{} is of another drive: {} {}, {}; name another map, or that drive",
                self.order.map.display(),
                of.model,
                of.serial,
                human(of.size)
            );
            return Err(Refusal::new("map-differs", text));
        }
        if map.totals().saved > 0 && (self.candidate.is_new() || of.target != self.candidate.key() && !self.holds_what_was_saved(bench, &map)) {
            let text =
                format!("{} says what is saved on another target, {}; name that one, or another map", self.order.map.display(), of.path.display());
            return Err(Refusal::new("map-of-another-target", text));
        }
        if self.order.again {
            let left: Vec<_> = map.iter().filter(|(_, state)| *state != State::Saved).map(|(range, _)| range).collect();
            left.into_iter().for_each(|range| map.set(range, State::Unread));
        }
        // What the target held is what was saved: it is no loss.
        self.hazards
            .retain(|hazard| map.totals().saved == 0 || !["target-holds", "target-looks-empty", "target-not-readable"].contains(&hazard.code));
        (self.map, self.begun, self.damaged, self.job, self.node, self.since) = (map, true, damaged, of.job, of.node, Some(of.since));
        Ok(())
    }

    /// Whether the target, which has another name than the map says, holds what was saved: it was moved together with the map.
    fn holds_what_was_saved(&self, bench: &Bench, map: &Map) -> bool {
        let Ok(target) = bench.workshop.source(&self.order.target) else { return false };
        let sampled = pieces::sample(&self.order.map, map, &target, pieces::SAMPLES * 4);
        sampled.is_ok_and(|sampled| sampled.is_equal())
    }

    /// Whether the target is known to be the one of the map, by what was written to it: then its tail was given before. A drive is
    /// always asked for.
    pub fn is_known(&self, bench: &Bench) -> bool {
        if self.candidate.is_new() {
            return true;
        }
        if !self.order.target.is_file() {
            return false;
        }
        let Ok(target) = bench.workshop.source(&self.order.target) else { return false };
        if self.map.totals().saved == 0 {
            // A run that was killed at its beginning leaves a file that is one hole, or this very one: there is nothing to lose.
            let is_hole = target.zero_run(0, self.map.size()) >= target.geometry().size_bytes;
            return is_hole || self.begun && !self.node.is_empty() && node(&self.order.target) == self.node;
        }
        let sampled = pieces::sample(&self.order.map, &self.map, &target, pieces::SAMPLES);
        sampled.is_ok_and(|sampled| sampled.is_equal())
    }
}
