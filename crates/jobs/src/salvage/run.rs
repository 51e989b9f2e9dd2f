//! A salvage under way: what it holds open, and in which order it begins, goes on and ends.

use super::ending::{fill, packed};
use super::{SalvageOrder, SalvageReady, SalvageReport, Seat, node};
use crate::{outcome, record};
use badger_bench::Bench;
use badger_bench::ledger::{self, Ledger, NewJob};
use badger_bench::ribbon::Ribbon;
use badger_bench::sheet::{DriveFacts, SheetData};
use badger_drive::buffer::Buffer;
use badger_drive::claims::Claim;
use badger_drive::clock::Clock;
use badger_drive::gentle::Gentle;
use badger_drive::{Bus, Control, Event, Geometry, Identity, Observer, Outcome, Phase, Refusal, Release, Since, Source, Standing, Target};
use badger_inspect::{Level, Line, Looked, Verdict, hazard};
use badger_salvage::ends::Break;
use badger_salvage::file::{self, MapFile, Of};
use badger_salvage::holed::{self, Files};
use badger_salvage::map::{Map, State};
use badger_salvage::pieces::{self, Pieces};
use badger_salvage::run::{Salvage, Watch, run};
use badger_salvage::strategy::Strategy;
use badger_salvage::value::Wanted;
use badger_salvage::view::Salvaged;
use badger_transfer::journal::{Journal, Unfinished};
use badger_transfer::tree::LEAF;
use badger_transfer::{Report, copy};
use std::path::Path;
use std::sync::{Arc, Mutex};
use tracing::info;

/// Pieces of a drive that fails that are read again before its salvage is gone on with.
const SOURCE_SAMPLES: u64 = 4;
/// The same where it is a copy of it.
const COPY_SAMPLES: u64 = 64;

/// What is held of the drive that fails while it is read; one that is found again is held in its place.
type Held = Mutex<(Claim, Option<Gentle>)>;

/// A salvage that has its target and its place in the ledger.
struct UnderWay<'a> {
    bench: &'a Bench,
    control: &'a Control,
    observer: &'a dyn Observer,
    order: SalvageOrder,
    source: Source,
    target: Target,
    /// The target as it was shown.
    target_facts: (Identity, Geometry),
    /// The target's file, as it was opened.
    written: String,
    map: Map,
    compared: Compared,
    /// What the system said of the drive when this began, and whether it was in use.
    before: (Standing, bool),
    /// What became of the drive since the map was begun, where this continues an earlier run.
    between: Option<Since>,
    saved_before: u64,
    ledger: Ledger,
    job: i64,
    run: i64,
    started: i64,
    clock: Arc<dyn Clock>,
}

impl SalvageReady {
    /// Releases the target and salvages, until there is nothing more to do or a limit is reached.
    ///
    /// # Errors
    /// A refusal; then nothing was written.
    pub fn run(self, bench: &Bench, tail: &str, seat: &Seat, control: &Control, observer: &dyn Observer) -> Result<SalvageReport, Refusal> {
        if let Some(stop) = self.hazards.iter().find(|hazard| hazard.level == Level::Stop) {
            return Err(Refusal::new(stop.code, stop.text.clone()));
        }
        let is_known = self.is_known(bench);
        let held = Mutex::new((self.source.claim()?, gentle(bench, &self.source)));
        self.source.obey(control);
        let (mut under_way, map_file, list) = self.begin(bench, (tail, is_known), control, observer)?;
        let ended = under_way.salvage(seat, &held, map_file, list);
        let watch = seat.watch.lock().expect("watch lock").clone();
        Ok(under_way.conclude(ended, watch))
    }

    /// Looks whether it is still the same drive, releases the target, and opens the map and the ledger.
    fn begin<'a>(
        self,
        bench: &'a Bench,
        (tail, is_known): (&str, bool),
        control: &'a Control,
        observer: &'a dyn Observer,
    ) -> Result<(UnderWay<'a>, MapFile, Pieces), Refusal> {
        let Self { order, source, candidate, mut map, begun, job, since, takes_over, hazards, .. } = self;
        let between = since.as_deref().map(|since| since_then(since, &source));
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
        order.keep_off(bench, &source, &candidate)?;
        let own = candidate.tail();
        let tail = if is_known && tail.is_empty() { own.as_str() } else { tail };
        // Saved places must carry no mark, not even for a moment.
        let free: Vec<(u64, u64)> =
            map.iter().filter(|(_, state)| *state != State::Saved).map(|(range, _)| (range.start, range.end - range.start)).collect();
        let (target_key, target_facts) = (candidate.key(), (candidate.identity().clone(), candidate.geometry()));
        let ledger = bench.open_ledger().and_then(|ledger| ledger.check().map(|()| ledger)).map_err(no_ledger)?;
        let target = candidate.release(&Release { source: &source, needed: map.size(), tail, overwritten: &free, shifts: &[] })?;
        let (source_key, named) = (source.key(), takes_over.as_ref().map_or(job, |begun| begun.job.clone()));
        let SalvageOrder { ticket, customer, technician, .. } = &order;
        let new = NewJob { ticket, customer, technician, source_key: &source_key, target_key: &target_key };
        let (job, uid) = ledger.job_named(&named, &new).map_err(no_ledger)?;
        let seen = ledger.seen(source.identity(), source.geometry()).and_then(|_| ledger.seen(&target_facts.0, target_facts.1));
        let run = seen.and_then(|_| ledger.begin_run(job)).map_err(no_ledger)?;
        let written = node(&order.target);
        let of = Of {
            model: source.identity().model.clone(),
            serial: source.identity().serial.clone(),
            source: source.key(),
            target: target_key,
            path: std::path::absolute(&order.target).unwrap_or_else(|_| order.target.clone()),
            node: written.clone(),
            size: map.size(),
            sector: source.geometry().logical_sector,
            job: uid,
            since: since.unwrap_or_else(|| serde_json::to_string(&(source.standing(), badger_drive::witness::boot())).unwrap_or_default()),
            options: super::options::text(&order),
        };
        let no_map = |error: std::io::Error| Refusal::new("map", format!("the map {} cannot be written: {error}", order.map.display()));
        let in_use = |error: std::io::Error| match error.kind() {
            std::io::ErrorKind::WouldBlock => {
                Refusal::new("map-in-use", format!("another salvage is using the map {}: wait for its end", order.map.display()))
            }
            _ => no_map(error),
        };
        let mut list = Pieces::open(&order.map, &of, !begun).map_err(in_use)?;
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
        info!(job, run, from = source.key(), begun, "a salvage begins");
        let (clock, saved_before) = (source.clock().or_else(|| target.clock()).unwrap_or_else(|| bench.workshop.clock.clone()), map.totals().saved);
        let (started, before) = (ledger::now(), (source.standing(), hazard::is_in_use(&hazards)));
        let under_way = UnderWay {
            bench,
            control,
            observer,
            order,
            source,
            target,
            target_facts,
            written,
            map,
            compared,
            before,
            between,
            saved_before,
            ledger,
            job,
            run,
            started,
            clock,
        };
        Ok((under_way, map_file, list))
    }
}

impl UnderWay<'_> {
    /// Reads what can be read, and marks on the target what cannot.
    fn salvage(&mut self, seat: &Seat, held: &Held, map_file: MapFile, list: Pieces) -> Result<(), Break> {
        let (bench, source, sector) = (self.bench, &self.source, self.source.geometry().logical_sector);
        self.observer.event(&Event::Phase { phase: Phase::Salvage, total: self.map.size(), done: self.saved_before, files: None });
        let find = || {
            let again = find_again(bench, source)?;
            let so_far = file::load(&self.order.map).ok()?.map;
            if compared_with(&self.order.map, &so_far, &again) == Compared::Differs {
                return None;
            }
            let claim = again.claim().ok()?;
            let mut held = held.lock().expect("claim lock");
            // What was turned for the drive as it was is given back first: it may be the very same knob.
            held.1 = None;
            *held = (claim, gentle(bench, &again));
            Some(again)
        };
        let heat = || heat(bench, source);
        let mut salvage = Salvage {
            source: source.clone(),
            find: &find,
            strategy: Strategy::new(self.map.clone(), sector),
            first: Some(Wanted { first: self.order.first.clone(), used: self.order.used.unwrap_or_default() }),
            limits: self.order.limits.clone(),
            wishes: seat.wishes.clone(),
            watch: seat.watch.clone(),
            heat: &heat,
            control: self.control,
            observer: self.observer,
            clock: self.clock.clone(),
        };
        let ended = run(&mut salvage, &self.target, map_file, list);
        let map = salvage.strategy.map().clone();
        drop(salvage);
        self.map = map;
        // What was on its way when the target gave way is not saved: the map in the file says what is.
        if let (Err(Break::Target(_)), Ok(loaded)) = (&ended, file::load(&self.order.map)) {
            self.map = loaded.map;
        }
        ended.and_then(|()| fill(&self.map, &self.target, self.order.fill.unwrap_or_default(), sector))
    }

    /// What was saved, as a drive that can be looked into.
    fn saved(&self) -> Source {
        let (identity, sector) = (self.source.identity(), self.source.geometry().logical_sector);
        let names = (identity.model.as_str(), identity.serial.as_str());
        Source::detached(Arc::new(Salvaged::new(self.target.as_source(), self.map.clone(), names, sector, &self.order.source)))
    }

    /// The account of it, with the files of which something is missing.
    fn judged(&mut self, ended: Result<(), Break>, seconds: f64) -> (Report, Files) {
        let (order, control) = (self.order.clone(), self.control);
        let order = &order;
        let sector = self.source.geometry().logical_sector;
        let mut report = Report::new(order.source.display().to_string(), order.target.display().to_string());
        report.job = self.job;
        report.planned_bytes = self.map.size();
        outcome::account(&mut report, &self.map, self.saved_before, sector);
        report.seconds = seconds;
        let mut files = Files::default();
        match ended {
            Err(why) => {
                report.outcome = Outcome::Interrupted;
                report.reason = why.to_string();
                // What there is is listed all the same: that takes as long as going through the folders on the target.
                if !matches!(why, Break::Target(_)) {
                    files = holed::files(&self.saved(), &self.map, &|| false);
                    report.proof.push(Line::new("blocks", Verdict::NotChecked, "not read back: it is not at its end"));
                    report.proof.extend(outcome::lines(&self.saved(), &files, &self.map));
                }
            }
            Ok(()) => {
                self.observer.event(&Event::Phase { phase: Phase::Prove, total: self.map.totals().saved, done: 0, files: None });
                let differing = outcome::prove(&mut report, &order.map, &self.map, &self.target, control, self.observer, &*self.clock);
                // A place that does not hold what was read is not saved: the same command reads it again.
                if !differing.is_empty() {
                    differing.into_iter().for_each(|range| self.map.set(range, State::Unread));
                    outcome::account(&mut report, &self.map, self.saved_before, sector);
                    let kept = file::load(&order.map).and_then(|loaded| Ok(MapFile::write(&order.map, loaded.of, &self.map)?));
                    if let Err(error) = kept {
                        report.proof.push(Line::new("blocks", Verdict::Fails, format!("the map still calls these places saved: {error}")));
                    }
                }
                files = holed::files(&self.saved(), &self.map, &|| control.is_stopped());
                report.proof.extend(outcome::lines(&self.saved(), &files, &self.map));
                if let Some(why) = self.compared.gap() {
                    let text = format!("whether this is the drive that the map was begun with was not compared: {why}");
                    report.proof.push(Line::new("source", Verdict::NotChecked, text));
                }
                let (before, is_in_use) = &self.before;
                let between = self.between.filter(|_| self.saved_before > 0 && self.compared.gap().is_none());
                report.proof.extend(hazard::held_still(before, &self.source.standing(), *is_in_use, between));
                outcome::conclude(&mut report, &self.map, control);
            }
        }
        (report, files)
    }

    /// Proves what was saved, makes an image of it where one is asked for, and writes it all into the ledger.
    fn conclude(mut self, ended: Result<(), Break>, watch: Watch) -> SalvageReport {
        let (mut report, files) = self.judged(ended, watch.seconds);
        let ribbon = Ribbon::of(&Looked::at_structures(&self.saved()), self.map.size());
        let Self { bench, control, observer, order, source, target, target_facts, written, map, mut ledger, job, run, started, .. } = self;
        drop(target);
        // Before the end of a run nothing is marked on the target.
        let filled = if report.outcome == Outcome::Interrupted {
            "what the target held before, until the run is at its end"
        } else {
            order.fill.unwrap_or_default().said()
        };
        if let Some(image) = order.image.as_ref().filter(|_| report.outcome != Outcome::Interrupted) {
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
            target: DriveFacts::new(&target_facts.0, target_facts.1, ribbon.clone()),
            source: DriveFacts::new(source.identity(), source.geometry(), ribbon),
            rates: Vec::new(),
            report: report.clone(),
            surface: Some(outcome::surface(&map, &files, filled)),
        };
        record::end(&mut ledger, run, &mut report, &sheet);
        info!(job, run, outcome = format!("{:?}", report.outcome), lost = report.lost_bytes, "the salvage ended");
        SalvageReport {
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
        }
    }
}

fn no_ledger(error: ledger::Error) -> Refusal {
    Refusal::new("ledger", error.to_string())
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

/// What became of a drive since the map says this of it.
fn since_then(said: &str, drive: &Source) -> Since {
    let then: Option<(Standing, String)> = serde_json::from_str(said).ok();
    then.map_or(Since::Silent, |(then, boot)| badger_drive::witness::since(&then, &boot, &drive.standing()))
}

/// What a drive gives of what was read from it before.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Compared {
    /// Nothing was saved before.
    Nothing,
    /// The same.
    Equal,
    /// Other bytes.
    Differs,
    /// It gives none of them any more.
    Unread,
    /// No sound record says what was saved.
    Unnoted,
}

impl Compared {
    /// Why nothing was compared although something was saved before.
    fn gap(self) -> Option<&'static str> {
        match self {
            Self::Unread => Some("of what was saved before it gave nothing again"),
            Self::Unnoted => Some("the list of pieces beside the map has no sound record"),
            Self::Nothing | Self::Equal | Self::Differs => None,
        }
    }
}

fn compared_with(map_path: &Path, map: &Map, drive: &Source) -> Compared {
    if map.totals().saved == 0 {
        return Compared::Nothing;
    }
    // Reading a copy once more costs nothing; of a drive that fails every read may be the last.
    let most = if matches!(drive.identity().bus, Bus::File | Bus::Image) { COPY_SAMPLES } else { SOURCE_SAMPLES };
    match pieces::sample(map_path, map, drive, most) {
        Ok(sampled) if sampled.differ > 0 => Compared::Differs,
        Ok(sampled) if sampled.equal > 0 => Compared::Equal,
        Ok(sampled) if sampled.unread > 0 => Compared::Unread,
        _ => Compared::Unnoted,
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
