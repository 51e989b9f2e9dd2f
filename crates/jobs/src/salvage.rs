//! Salvaging a drive that fails, as a job of the ledger.

use crate::imaging::ImageOrder;
use crate::{outcome, record};
use badger_bench::Bench;
use badger_bench::ledger;
use badger_bench::ribbon::Ribbon;
use badger_bench::sheet::{DriveFacts, SheetData};
use badger_drive::buffer::Buffer;
use badger_drive::clock::Clock;
use badger_drive::gentle::Gentle;
use badger_drive::size::human;
use badger_drive::{Candidate, Control, Event, Ground, Observer, Outcome, Phase, Refusal, Release, Source, Target};
use badger_inspect::{Hazard, Level, Line, Looked, Verdict, hazard};
use badger_layout::Plan;
use badger_salvage::ends::Break;
use badger_salvage::file::{self, MapFile, Of};
use badger_salvage::holed::{self, Files};
use badger_salvage::limits::Limits;
use badger_salvage::map::{Map, State, Totals};
use badger_salvage::pieces::{self, Pieces};
use badger_salvage::run::{PassReport, Salvage, Steer, Watch, run};
use badger_salvage::strategy::Strategy;
use badger_salvage::value::Wanted;
use badger_salvage::view::Salvaged;
use badger_transfer::journal::{Journal, Unfinished};
use badger_transfer::tree::LEAF;
use badger_transfer::{Report, copy};
use std::collections::VecDeque;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use tracing::info;

/// Pieces of a drive that fails that are read again before its salvage is gone on with.
const SOURCE_SAMPLES: u64 = 4;

/// What becomes of places on the target that could not be read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
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
    /// What comes first, and whether free space is left out.
    pub wanted: Wanted,
    /// What is allowed.
    pub limits: Limits,
    /// What becomes of places that could not be read.
    pub fill: Fill,
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
    job: i64,
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

/// Takes over what a clone has copied: each of its blocks is read back from the target, and counts where it is what the clone noted.
fn take_over(begun: &Unfinished, map: &mut Map, list: &mut Pieces, target: &Target, control: &Control) {
    let (size, sector) = (map.size(), u64::from(target.geometry().logical_sector));
    let mut buffer = Buffer::new(LEAF as usize);
    for leaf in 0..size.div_ceil(LEAF) {
        let (start, end) = (leaf * LEAF, ((leaf + 1) * LEAF).min(size));
        if begun.past.done.gaps(start..end).next().is_some() {
            continue;
        }
        if !control.go_on() {
            return;
        }
        let bytes = &mut buffer[..(end - start) as usize];
        target.forget(start, end - start);
        let noted = begun.leaves(leaf, 1).ok().and_then(|hashes| hashes.first().copied());
        if target.read_at(start, bytes).is_err() || noted != Some(copy::noted(leaf, bytes, size)) {
            continue;
        }
        let good: Vec<_> = begun.past.lost.gaps(start..end).collect();
        for part in good {
            let piece = &bytes[(part.start - start) as usize..(part.end - start) as usize];
            list.add(part.start, piece.len() as u64, &blake3::hash(piece));
            map.set(part, State::Saved);
        }
        // The clone tried these alone.
        let lost: Vec<_> = begun.past.lost.within(start..end).map(|(part, ())| part.start / sector * sector..part.end).collect();
        lost.into_iter().for_each(|part| map.set(part, State::Deferred(1)));
    }
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

fn refusal(code: &'static str, error: &dyn std::fmt::Display) -> Refusal {
    Refusal::new(code, error.to_string())
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
        for path in [self.map.clone(), pieces::beside(&self.map), bench.ledger.clone()] {
            let dir = path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
            let there = path.exists();
            if !there && !dir.is_dir() {
                return Err(Refusal::new("not-found", format!("there is no directory {}", dir.display())));
            }
            let ground = if there { Ground::of(&path, &bench.workshop.sysfs) } else { Ground::of_new_file(dir, &bench.workshop.sysfs) };
            for (side, other) in [("source", source.ground()), ("target", candidate.ground())] {
                if ground.touches(other) {
                    return Err(Refusal::new("map-misplaced", format!("{} lies on the {side}: name another place", path.display())));
                }
            }
        }
        let mut ready = SalvageReady {
            hazards: hazard::of_places(&bench.workshop, &source, &candidate),
            map: Map::new(geometry.size_bytes),
            source,
            candidate,
            begun: false,
            damaged: 0,
            job: 0,
            node: String::new(),
            takes_over: None,
            order: self.clone(),
        };
        if let Some(image) = &self.image {
            let text = format!("what is saved is gathered in {} first; {} is made of it at the end", self.target.display(), image.display());
            ready.hazards.push(Hazard::new(Level::Note, "image-later", text));
        }
        match std::fs::symlink_metadata(&self.map) {
            Err(_) if std::fs::metadata(pieces::beside(&self.map)).is_ok_and(|meta| meta.len() > 0) => {
                let list = pieces::beside(&self.map);
                let text = format!("{} is there, and its map is not: name another map, or take it away", list.display());
                return Err(Refusal::new("map-exists", text));
            }
            Err(_) => ready.takes_over = broken_off(bench, &ready.source, &ready.candidate),
            Ok(_) => {
                let loaded = file::load(&self.map).map_err(|error| Refusal::new("map-damaged", format!("{shown}: {error}")))?;
                ready.go_on_with(loaded)?;
            }
        }
        Ok(ready)
    }
}

impl SalvageReady {
    fn go_on_with(&mut self, loaded: file::Loaded) -> Result<(), Refusal> {
        let file::Loaded { of, mut map, damaged } = loaded;
        let (identity, geometry) = (self.source.identity(), self.source.geometry());
        let same = if of.serial.is_empty() { of.source == self.source.key() } else { (&of.model, &of.serial) == (&identity.model, &identity.serial) };
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
        if map.totals().saved > 0 && (self.candidate.is_new() || of.target != self.candidate.key()) {
            let text = format!("{} says what is saved on another target, {}; name that one, or another map", self.order.map.display(), of.path);
            return Err(Refusal::new("map-of-another-target", text));
        }
        if self.order.again {
            let left: Vec<_> = map.iter().filter(|(_, state)| *state != State::Saved).map(|(range, _)| range).collect();
            left.into_iter().for_each(|range| map.set(range, State::Unread));
        }
        // What the target held is what was saved: it is no loss.
        self.hazards
            .retain(|hazard| map.totals().saved == 0 || !["target-holds", "target-looks-empty", "target-not-readable"].contains(&hazard.code));
        (self.map, self.begun, self.damaged, self.job, self.node) = (map, true, damaged, of.job, of.node);
        Ok(())
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
        sampled.is_ok_and(|sampled| sampled.equal > 0 && sampled.differ + sampled.unread == 0)
    }

    /// Releases the target and salvages, until there is nothing more to do or a limit is reached.
    ///
    /// # Errors
    /// A refusal; then nothing was written.
    pub fn run(self, bench: &Bench, tail: &str, seat: &Seat, control: &Control, observer: &dyn Observer) -> Result<SalvageReport, Refusal> {
        if let Some(stop) = self.hazards.iter().find(|hazard| hazard.level == Level::Stop) {
            return Err(Refusal::new(stop.code, stop.text.clone()));
        }
        let known = self.is_known(bench);
        let Self { order, source, candidate, mut map, begun, job, takes_over, .. } = self;
        // A drive that is found again is held in its place.
        let held = Mutex::new((source.claim()?, gentle(bench, &source)));
        source.obey(control);
        // Boxes give one serial to many drives: bytes of two of them must not come together on one target.
        let compared = if begun { compared_with(&order.map, &map, &source) } else { Compared::Nothing };
        if compared == Compared::Differs {
            let text = format!(
                "{} gives other bytes than the drive that {} is of: another drive, or it was written to",
                order.source.display(),
                order.map.display()
            );
            return Err(Refusal::new("source-changed", text));
        }
        let own = candidate.tail();
        let tail = if known && tail.is_empty() { own.as_str() } else { tail };
        let size = map.size();
        // Saved places must carry no mark, not even for a moment.
        let free: Vec<(u64, u64)> =
            map.iter().filter(|(_, state)| *state != State::Saved).map(|(range, _)| (range.start, range.end - range.start)).collect();
        let (target_key, target_facts) = (candidate.key(), (candidate.identity().clone(), candidate.geometry()));
        let ledger = bench.open_ledger().map_err(|error| refusal("ledger", &error))?;
        let target = candidate.release(&Release { source: &source, needed: size, tail, overwritten: &free, shifts: &[] })?;
        let no_ledger = |error: ledger::Error| refusal("ledger", &error);
        let job = takes_over.as_ref().map_or(job, |begun| begun.job);
        let job = match ledger.job(job).ok().flatten() {
            Some(_) if begun || takes_over.is_some() => job,
            _ => ledger.new_job(&order.ticket, &order.customer, &order.technician, &source.key(), &target_key).map_err(no_ledger)?,
        };
        let seen = ledger.seen(source.identity(), source.geometry()).and_then(|_| ledger.seen(&target_facts.0, target_facts.1));
        let run_id = seen.and_then(|_| ledger.begin_run(job)).map_err(no_ledger)?;
        let path = std::path::absolute(&order.target).unwrap_or_else(|_| order.target.clone()).display().to_string();
        let identity = source.identity().clone();
        let written = node(&order.target);
        let of = Of {
            model: identity.model.clone(),
            serial: identity.serial.clone(),
            source: source.key(),
            target: target_key,
            path,
            node: written.clone(),
            size,
            sector: source.geometry().logical_sector,
            job,
        };
        let no_map = |error: std::io::Error| Refusal::new("map", format!("the map {} cannot be written: {error}", order.map.display()));
        let mut list = Pieces::open(&order.map, !begun).map_err(no_map)?;
        if let Some(begun) = &takes_over {
            observer.event(&Event::Phase { phase: Phase::Prove, total: begun.past.done_bytes(), done: 0, files: None });
            take_over(begun, &mut map, &mut list, &target, control);
            list.keep().map_err(no_map)?;
        }
        let map_file = MapFile::write(&order.map, of, &map).map_err(no_map)?;
        // What the clone did is in the map now; two accounts of one target would be one too many.
        if let Some(Ok(Some(journal))) = takes_over.as_ref().map(|begun| Journal::open(&ledger.journals(), begun)) {
            journal.remove();
        }
        let clock: Arc<dyn Clock> = source.clock().or_else(|| target.clock()).unwrap_or_else(|| bench.workshop.clock.clone());
        let started = ledger::now();
        let saved_before = map.totals().saved;
        observer.event(&Event::Phase { phase: Phase::Salvage, total: size, done: saved_before, files: None });
        info!(job, run = run_id, from = source.key(), begun, "a salvage begins");
        let find = || {
            let again = find_again(bench, &source)?;
            let so_far = file::load(&order.map).ok()?.map;
            if compared_with(&order.map, &so_far, &again) == Compared::Differs {
                return None;
            }
            let claim = again.claim().ok()?;
            let mut held = held.lock().expect("claim lock");
            // What was turned for the drive as it was is given back first: it may be the very same knob.
            held.1 = None;
            *held = (claim, gentle(bench, &again));
            Some(again)
        };
        let heat = || heat(bench, &source);
        let mut salvage = Salvage {
            source: source.clone(),
            find: &find,
            strategy: Strategy::new(map, source.geometry().logical_sector),
            first: Some(order.wanted.clone()),
            limits: order.limits.clone(),
            wishes: seat.wishes.clone(),
            watch: seat.watch.clone(),
            heat: &heat,
            control,
            observer,
            clock: clock.clone(),
        };
        let ended = run(&mut salvage, &target, map_file, list);
        let watch = seat.watch.lock().expect("watch lock").clone();
        let map = salvage.strategy.map().clone();
        let mut report = Report::new(order.source.display().to_string(), order.target.display().to_string());
        report.job = job;
        report.planned_bytes = size;
        outcome::account(&mut report, &map, saved_before, source.geometry().logical_sector);
        report.seconds = watch.seconds;
        let mut files = Files::default();
        let ended = ended.and_then(|()| fill(&map, &target, order.fill, source.geometry().logical_sector));
        let view = || {
            let names = (identity.model.as_str(), identity.serial.as_str());
            Source::detached(Arc::new(Salvaged::new(target.as_source(), map.clone(), names, source.geometry().logical_sector, &order.source)))
        };
        match ended {
            Err(why) => {
                report.outcome = Outcome::Interrupted;
                report.reason = why.to_string();
                // What there is is listed all the same: that takes as long as going through the folders on the target.
                if !matches!(why, Break::Target(_)) {
                    files = holed::files(&view(), &map, &|| false);
                    report.proof.push(Line::new("blocks", Verdict::NotChecked, "not read back: it is not at its end"));
                    report.proof.extend(outcome::lines(&view(), &files, &map));
                }
            }
            Ok(()) => {
                observer.event(&Event::Phase { phase: Phase::Prove, total: map.totals().saved, done: 0, files: None });
                outcome::prove(&mut report, &order.map, &map, &target, control, observer, &*clock);
                files = holed::files(&view(), &map, &|| control.is_stopped());
                report.proof.extend(outcome::lines(&view(), &files, &map));
                if compared == Compared::Unread {
                    let text =
                        "whether this is the drive that the map was begun with was not compared: of what was saved before it gave nothing again";
                    report.proof.push(Line::new("source", Verdict::NotChecked, text));
                }
                outcome::conclude(&mut report, &map, control);
            }
        }
        let source_facts = DriveFacts::new(&identity, source.geometry(), Ribbon::of(&Looked::at_structures(&view()), size));
        if let Some(image) = order.image.as_ref().filter(|_| report.outcome != Outcome::Interrupted) {
            drop(target);
            packed(bench, &order, (image, &written), control, observer, &mut report);
        }
        let sheet = SheetData {
            job,
            workshop: bench.named(Some(&ledger), "workshop"),
            ticket: order.ticket.clone(),
            customer: order.customer.clone(),
            technician: order.technician.clone(),
            started,
            ended: ledger::now(),
            keep_until: None,
            target: DriveFacts::new(&target_facts.0, target_facts.1, source_facts.ribbon.clone()),
            source: source_facts,
            rates: Vec::new(),
            report: report.clone(),
            surface: Some(outcome::surface(&map, &files, order.fill.said())),
        };
        let mut ledger = ledger;
        record::end(&mut ledger, run_id, &mut report, &sheet);
        info!(job, run = run_id, outcome = format!("{:?}", report.outcome), lost = report.lost_bytes, "the salvage ended");
        Ok(SalvageReport {
            map: map.totals(),
            passes: watch.passes,
            whole_files: files.whole,
            missing_elsewhere: files.elsewhere,
            holed: files.holed,
            problems: files.problems,
            not_found: watch.not_found,
            simulated_seconds: source.clock().map(|_| watch.seconds),
            timeline: watch.timeline,
            report,
        })
    }
}

/// Makes an image of what was saved. Where all was, and the image is proved, what it was gathered in is taken away.
/// `written` is the file it was gathered in, as it was opened.
fn packed(bench: &Bench, order: &SalvageOrder, (image, written): (&Path, &str), control: &Control, observer: &dyn Observer, report: &mut Report) {
    let asked = ImageOrder {
        source: order.map.clone(),
        file: image.to_path_buf(),
        ticket: order.ticket.clone(),
        customer: order.customer.clone(),
        technician: order.technician.clone(),
        ..ImageOrder::default()
    };
    let shown = image.display();
    let stands = node(&order.target);
    let mut is_proved = false;
    let line = match asked.prepare(bench, control).and_then(|ready| ready.run(bench, control, observer)) {
        Err(refusal) => Line::new("image", Verdict::Fails, format!("{shown} could not be made of what was saved: {}", refusal.text)),
        Ok(made) => {
            is_proved = made.outcome == Outcome::Proved;
            let blocks = made.proof.iter().find(|line| line.what == "blocks");
            let (held, said) = blocks.map_or((Verdict::NotChecked, ""), |line| (line.result, line.text.as_str()));
            match made.outcome {
                Outcome::Interrupted | Outcome::Refused => {
                    // What is gathered is all there: a part of an image is of no use beside it.
                    let _ = badger_image::own::give_up(image, None);
                    Line::new("image", Verdict::Fails, format!("{shown} is not made: {}", made.reason))
                }
                _ => Line::new("image", held, format!("{shown} is made of what was saved: {said}")),
            }
        }
    };
    let is_whole = is_proved && line.result == Verdict::Holds && report.outcome == Outcome::Proved;
    if line.result != Verdict::Holds {
        report.reason = [report.reason.as_str(), line.text.as_str()].iter().filter(|text| !text.is_empty()).copied().collect::<Vec<_>>().join("; ");
        report.outcome = match report.outcome {
            _ if control.is_stopped() => Outcome::Interrupted,
            Outcome::Proved => Outcome::Finished,
            other => other,
        };
    }
    report.proof.push(line);
    if is_whole {
        // Another file may have come into its place while the image was made.
        if stands.is_empty() || stands != written || node(&order.target) != stands {
            report.reason = format!("{} is not the file that was written any more: it stays", order.target.display());
            return;
        }
        for path in [order.target.clone(), order.map.clone(), pieces::beside(&order.map)] {
            if let Err(error) = std::fs::remove_file(&path) {
                report.reason = format!("{} could not be taken away: {error}", path.display());
            }
        }
    }
}

/// What a drive gives of what was read from it before.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Compared {
    /// Nothing was read before, or nothing noted.
    Nothing,
    /// The same.
    Equal,
    /// Other bytes.
    Differs,
    /// It gives none of them any more.
    Unread,
}

fn compared_with(map_path: &Path, map: &Map, drive: &Source) -> Compared {
    match pieces::sample(map_path, map, drive, SOURCE_SAMPLES) {
        Ok(sampled) if sampled.differ > 0 => Compared::Differs,
        Ok(sampled) if sampled.equal > 0 => Compared::Equal,
        Ok(sampled) if sampled.unread > 0 => Compared::Unread,
        _ => Compared::Nothing,
    }
}

/// The kernel does not try again by itself on what is salvaged, where it can be asked not to.
fn gentle(bench: &Bench, source: &Source) -> Option<Gentle> {
    bench.workshop.sysfs.gentle(bench.workshop.found(&source.identity().path)?.numbers?)
}

/// The same drive, where it is attached anew; one without a serial is not told from others.
fn find_again(bench: &Bench, source: &Source) -> Option<Source> {
    let (identity, size) = (source.identity(), source.geometry().size_bytes);
    if identity.serial.is_empty() {
        return None;
    }
    let found = bench
        .workshop
        .drives()
        .into_iter()
        .find(|found| found.identity.model == identity.model && found.identity.serial == identity.serial && found.geometry.size_bytes == size)?;
    bench.workshop.source(&found.identity.path).ok().filter(|again| again.key() == source.key() && again.present())
}

fn heat(bench: &Bench, source: &Source) -> Option<i64> {
    let found = bench.workshop.found(&source.identity().path)?;
    bench.workshop.health(&found).facts.celsius
}

/// Marks on the target what could not be read.
fn fill(map: &Map, target: &Target, fill: Fill, sector: u32) -> Result<(), Break> {
    if fill == Fill::Keep {
        return Ok(());
    }
    for (range, _) in map.iter().filter(|(_, state)| matches!(state, State::Lost | State::Deferred(1..))) {
        let mut at = range.start;
        while at < range.end {
            let len = (range.end - at).min(1 << 20);
            match fill {
                Fill::Marked => target.write_at(at, &marks(at, len, u64::from(sector)))?,
                _ if target.zero_run(at, len) >= len => {}
                _ => target.write_zero(at, len)?,
            }
            at += len;
        }
    }
    target.flush()?;
    Ok(())
}

/// A text in every sector of a stretch.
fn marks(start: u64, len: u64, sector: u64) -> Vec<u8> {
    let mut out = vec![0; len as usize];
    for (bytes, at) in out.chunks_mut(sector as usize).zip((start..).step_by(sector as usize)) {
        let text = format!("UNREAD sector {}: it could not be read on the drive that this was salvaged from\n", at / sector);
        let len = text.len().min(bytes.len());
        bytes[..len].copy_from_slice(&text.as_bytes()[..len]);
    }
    out
}
