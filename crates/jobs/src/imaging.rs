//! Keeping a drive in an image of our own.

use crate::record;
use crate::run::unchanged;
use badger_bench::Bench;
use badger_bench::ledger::{self, JobRow, Ledger, NewJob};
use badger_bench::ribbon::Ribbon;
use badger_bench::sheet::{DriveFacts, SheetData};
use badger_drive::clock::Clock;
use badger_drive::size::{human, thousands};
use badger_drive::{Control, Event, Extents, Ground, Medium, Observer, Outcome, Phase, Refusal, RunDrive, Source, Witness};
use badger_image::own::{self, Account, Estimate, Image, Made, Making, Mended, Onto, Passphrase};
use badger_image::write::{Form, To};
use badger_image::{Format, Only, write};
use badger_inspect::{Hazard, Level, Line, Looked, Stretch, Verdict, hazard, volumes};
use badger_transfer::{Report, verify};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tracing::info;

/// How often it is looked whether there is room for more of an image, and what is left free at the most.
const WATCH: Duration = Duration::from_millis(100);
const MARGIN: u64 = 64 << 20;
/// Bytes of the largest record of an image, a list of its index.
const LARGEST: u64 = 8 << 20;

/// What is asked for.
#[derive(Clone, Debug, Default)]
pub struct ImageOrder {
    /// Path of the drive.
    pub source: PathBuf,
    /// The image; `-` for standard output.
    pub file: PathBuf,
    /// Only what is in use.
    pub used: bool,
    /// An image of the same drive that this one goes on from.
    pub parent: Option<PathBuf>,
    /// Bytes of a volume at the most.
    pub split: Option<u64>,
    /// Level of Zstandard; `None` adapts it.
    pub level: Option<i32>,
    /// Whether the image is locked with the workshop's passphrase.
    pub locked: bool,
    /// Begin anew where an unfinished image could be gone on with.
    pub restart: bool,
    /// The source is a damaged image, and these may hold what is damaged in it.
    pub mend_from: Option<Vec<PathBuf>>,
    /// An open format instead of our own.
    pub format: Option<Format>,
    /// In which of its forms.
    pub form: Form,
    /// For old readers of it.
    pub old: bool,
    /// What a look at the same drive, for the same order, has told already: the sample is not read again.
    pub estimate: Option<Estimate>,
    /// The customer's ticket; may be empty.
    pub ticket: String,
    /// Customer; may be empty.
    pub customer: String,
    /// Who does it; may be empty.
    pub technician: String,
}

/// What is where the image goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum There {
    /// Nothing.
    Nothing,
    /// An unfinished image of this drive, which is gone on with.
    Unfinished,
    /// The same, which is given up when the new one begins.
    GivenUp,
    /// A whole image of this drive, made by a run that ended before it proved it: that is what is left to do.
    Unproved,
}

/// An order that was looked at, with what it will take.
pub struct ImageReady {
    /// The order, with what an unfinished image was begun with.
    pub order: ImageOrder,
    source: Source,
    looked: Looked,
    needed: Extents<()>,
    sparing: bool,
    there: There,
    passphrase: Option<Passphrase>,
    /// The damaged image, where one is mended.
    mended: Option<Arc<Mended>>,
    /// How the drive looked.
    witness: Witness,
    /// Bytes that are read, what they take in the image, and how long reading takes.
    pub estimate: Estimate,
    /// What is free where the image goes; `None` for a pipe.
    pub free: Option<u64>,
    /// What to know of the drive.
    pub hazards: Vec<Hazard>,
}

fn refused(code: &'static str) -> impl Fn(std::io::Error) -> Refusal {
    move |error| Refusal::new(code, error.to_string())
}

/// Where nothing may lie that is read.
fn refuse_on_source(file: &Path, source: &Source, bench: &Bench) -> Result<(), Refusal> {
    let dir = file.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if !dir.is_dir() {
        return Err(Refusal::new("not-found", format!("there is no directory {}", dir.display())));
    }
    let here = Ground::of_new_file(dir, &bench.workshop.sysfs);
    bench.keep_off(Vec::new(), &[RunDrive::source(source)])?;
    if source.ground().shares_device(&here, false) || source.ground().touches(&here) {
        let text = format!("{} lies on the drive that is read; a source is never written to: choose a place on another drive", file.display());
        return Err(Refusal::new("target-on-source", text));
    }
    if bench.workshop.trust_destination { Ok(()) } else { badger_drive::own::refuse_hidden(dir, &here, source) }
}

impl ImageOrder {
    /// Looks once more at where the image goes, and gives up the unfinished one that is to go.
    fn take_place(&self, source: &Source, shown: There, passphrase: Option<&Passphrase>, bench: &Bench) -> Result<(), Refusal> {
        // What was looked at may have been mounted somewhere else since.
        refuse_on_source(&self.file, source, bench)?;
        if self.there(source, self.open_there(bench), bench)? != shown {
            return Err(Refusal::new("shown-changed", format!("{} came, or went, since it was looked at", self.file.display())));
        }
        if shown == There::GivenUp {
            own::give_up(&self.file, passphrase).map_err(refused("image-exists"))?;
        }
        Ok(())
    }

    /// The source; for one that is mended also what tells what became of its damage.
    fn open(&self, bench: &Bench) -> Result<(Source, Option<Arc<Mended>>), Refusal> {
        let Some(others) = &self.mend_from else { return bench.workshop.source(&self.source).map(|source| (source, None)) };
        let others = others.iter().map(|path| bench.workshop.source(path)).collect::<Result<Vec<_>, _>>()?;
        let passphrase = bench.workshop.passphrase.as_deref().map(Passphrase::new);
        let unreadable = |error: std::io::Error| Refusal::new("not-readable", format!("{}: {error}", self.source.display()));
        let mended = Arc::new(Mended::open(&self.source, passphrase.as_ref(), others).map_err(unreadable)?);
        Ok((bench.workshop.over(mended.clone()), Some(mended)))
    }

    /// Opens what has the image's name, if it may be an image of our own: with the workshop's passphrase where it does not open without.
    fn open_there(&self, bench: &Bench) -> Option<std::io::Result<Image>> {
        if self.format.is_some() || self.file == Path::new("-") || std::fs::symlink_metadata(&self.file).is_err() {
            return None;
        }
        let opened = Image::open(&self.file, None);
        let passphrase = bench.workshop.passphrase.as_deref().map(Passphrase::new);
        Some(if opened.is_err() && passphrase.is_some() { Image::open(&self.file, passphrase.as_ref()) } else { opened })
    }

    /// Takes over from an unfinished image of the drive what the order leaves open, and names it.
    fn resumed(&mut self, image: Option<&Image>, source: &Source) -> Vec<Hazard> {
        let is_resumed = |image: &&Image| !self.restart && !image.shown().whole && image.is_of(&source.key());
        let Some(image) = image.filter(is_resumed) else { return Vec::new() };
        let (begun, mut kept) = (image.shown(), Vec::new());
        // A drive that is there in part only is kept in part without being asked.
        if begun.sparing && !self.used && source.remark().is_none() {
            self.used = true;
            kept.push("only what is in use".to_string());
        }
        if begun.locked && !self.locked {
            self.locked = true;
            kept.push("locked".to_string());
        }
        if let (Some((_, name)), None) = (begun.parent, &self.parent) {
            self.parent = Some(self.file.with_file_name(&name));
            kept.push(format!("as what changed since {name}"));
        }
        let text = format!("continues the unfinished image as it was begun: {}", kept.join("; "));
        if kept.is_empty() { Vec::new() } else { vec![Hazard::new(Level::Note, "options-resumed", text)] }
    }

    /// Looks at the drive and at the place of the image; nothing is written.
    ///
    /// # Errors
    /// A refusal with its reason.
    pub fn prepare(mut self, bench: &Bench, control: &Control) -> Result<ImageReady, Refusal> {
        let (source, mended) = self.open(bench)?;
        source.obey(control);
        let image = self.open_there(bench);
        let resumed = self.resumed(image.as_ref().and_then(|image| image.as_ref().ok()), &source);
        let passphrase = bench.workshop.passphrase.as_deref().filter(|_| self.locked).map(Passphrase::new);
        if self.locked && passphrase.is_none() {
            return Err(Refusal::new("no-passphrase", "a locked image needs a passphrase: name a file with it by --passphrase-file"));
        }
        let is_pipe = self.file == Path::new("-");
        let mut there = There::Nothing;
        if is_pipe {
            bench.keep_off(Vec::new(), &[RunDrive::source(&source)])?;
        } else {
            refuse_on_source(&self.file, &source, bench)?;
            there = self.there(&source, image, bench)?;
            if let Some((first, _)) = badger_drive::split::place_of(&self.file).filter(|_| self.format == Some(Format::Raw)) {
                let text = format!("{} would become a piece of the drive in pieces {}: take another name", self.file.display(), first.display());
                return Err(Refusal::new("part-of-split", text));
            }
        }
        if let Some(parent) = &self.parent {
            let unfit = |error: std::io::Error| Refusal::new("parent-unfit", format!("{}: {error}", parent.display()));
            own::goes_on_from(parent, source.geometry(), passphrase.as_ref()).map_err(unfit)?;
        }
        let (looked, witness) = (Looked::at(&source), Witness::of(&*source, &[]));
        let size = source.geometry().size_bytes;
        // What is made of a drive that is there in part is no more than that.
        let (mut needed, mut sparing) = (Extents::new(), source.remark().is_some());
        needed.set(0..size, ());
        if self.used {
            let (used, spared) = volumes::needed(&volumes::survey(&source, &looked), size);
            (needed, sparing) = (used, sparing || !spared.is_empty());
        }
        let estimate = match self.estimate {
            Some(estimate) => estimate,
            None => own::estimate(&source, &needed, control).map_err(refused("not-readable"))?,
        };
        let free = (!is_pipe).then(|| badger_people::free(&self.file)).flatten();
        if let Some(free) = free.filter(|free| *free < estimate.stored && there == There::Nothing) {
            let text =
                format!("the image will take about {} where {} are free: make room, or choose another place", human(estimate.stored), human(free));
            return Err(Refusal::new("no-room", text));
        }
        let hazards = [hazard::of_source(&bench.workshop, &source), hazard::of_drive(None, &looked), resumed].concat();
        Ok(ImageReady { order: self, source, looked, needed, sparing, there, passphrase, mended, witness, estimate, free, hazards })
    }

    /// What has the image's name, which was opened if it may be an image; nothing of it is touched.
    fn there(&self, source: &Source, image: Option<std::io::Result<Image>>, bench: &Bench) -> Result<There, Refusal> {
        let shown = self.file.display();
        let there = |what: &str| Refusal::new("image-exists", format!("{shown} {what}: take another name"));
        let Some(image) = image else {
            return if std::fs::symlink_metadata(&self.file).is_err() { Ok(There::Nothing) } else { Err(there("is there already")) };
        };
        let image = image.map_err(|error| there(&format!("is there already ({error})")))?;
        let shown_of_it = image.shown();
        if shown_of_it.whole {
            let is_as_asked =
                (shown_of_it.sparing, shown_of_it.locked, shown_of_it.parent.is_some()) == (self.used, self.locked, self.parent.is_some());
            let is_left = is_as_asked
                && !self.restart
                && image.is_of(&source.key())
                && bench.read_ledger().ok().flatten().is_some_and(|ledger| unended(self, source, &ledger).is_some());
            return if is_left { Ok(There::Unproved) } else { Err(there("is there already, and whole")) };
        }
        if !image.is_of(&source.key()) {
            return Err(there("is an unfinished image of another drive"));
        }
        // What was broken off before its first page still gives the chunks that are in it: nobody takes it away unasked.
        match (self.restart, image.is_begun()) {
            (true, _) => Ok(There::GivenUp),
            (false, true) => Ok(There::Unfinished),
            (false, false) => Err(Refusal::new(
                "image-unbegun",
                format!("{shown} is an unfinished image with too little in it to be gone on with: begin it anew (--restart), or take another name"),
            )),
        }
    }
}

/// What a screen shows of an order that was looked at.
#[derive(Clone)]
pub struct ImageSight {
    /// The drive.
    pub source: DriveFacts,
    /// Bytes of it that are needed.
    pub bytes: u64,
    /// Which they are.
    pub needed: Extents<()>,
    /// Whether that is only what is in use.
    pub sparing: bool,
    /// What the image will take, by a sample.
    pub estimate: Estimate,
    /// What is free where it goes.
    pub free: Option<u64>,
    /// What is where it goes.
    pub there: There,
    /// What to know of the drive.
    pub hazards: Vec<Hazard>,
}

/// Passes on what is reported, and stops the run where no room is left for the image.
struct Watched<'a> {
    told: &'a dyn Observer,
    control: &'a Control,
    file: &'a Path,
    /// Bytes that are left free at the least.
    least: u64,
    looked: Mutex<Instant>,
    is_full: AtomicBool,
}

impl Watched<'_> {
    /// Says of a run that ended for want of room that it did.
    fn say_no_room(&self, report: &mut Report, order: &ImageOrder) {
        // The writer ends by itself where its next record has no room; a stop that somebody asked for has another reason.
        let is_short = || !self.control.is_stopped() && badger_people::free(self.file).is_some_and(|free| free < own::LEFT_FREE + LARGEST);
        let is_full = || self.is_full.load(Ordering::Relaxed) || is_short();
        if report.outcome == Outcome::Interrupted && is_full() {
            report.code = "no-room".into();
            let way = if order.format.is_some() { "begin anew" } else { "go on" };
            report.reason = format!("there is no room left for {}: make room and give the same command again to {way}", order.file.display());
        }
    }
}

impl Observer for Watched<'_> {
    fn event(&self, event: &Event) {
        self.told.event(event);
        if !matches!(event, Event::Moved { .. }) {
            return;
        }
        let mut looked = self.looked.lock().expect("watch lock");
        if looked.elapsed() >= WATCH {
            *looked = Instant::now();
            if badger_people::free(self.file).is_some_and(|free| free < self.least) {
                self.is_full.store(true, Ordering::Relaxed);
                self.control.stop();
            }
        }
    }
}

impl ImageReady {
    /// What a screen shows of it.
    pub fn sight(&self) -> ImageSight {
        let geometry = self.source.geometry();
        ImageSight {
            source: DriveFacts::new(self.source.identity(), geometry, Ribbon::of(&self.looked, geometry.size_bytes)),
            bytes: self.needed.total(|()| true),
            needed: self.needed.clone(),
            sparing: self.sparing,
            estimate: self.estimate,
            free: self.free,
            there: self.there,
            hazards: self.hazards.clone(),
        }
    }

    /// What is not as it was when it was shown; `None` where nothing is.
    pub fn differs(&self, now: &Self) -> Option<&'static str> {
        if self.source.key() != now.source.key() {
            Some("it is another drive")
        } else if self.witness != now.witness || self.needed.total(|()| true) != now.needed.total(|()| true) {
            Some("the drive was written to, or holds something else")
        } else if self.there != now.there {
            Some("an unfinished image came, or went")
        } else {
            None
        }
    }

    /// Makes the image, reads it back, and notes it in the ledger.
    ///
    /// # Errors
    /// A refusal; then nothing was begun.
    pub fn run(self, bench: &Bench, control: &Control, observer: &dyn Observer) -> Result<Report, Refusal> {
        let Self { order, source, looked, needed, sparing, there, passphrase, mended, witness, estimate, hazards, .. } = self;
        let _claim = source.claim()?;
        let is_in_use = hazard::is_in_use(&hazards);
        unchanged(&witness, &source, is_in_use)?;
        let before = source.standing();
        let is_pipe = order.file == Path::new("-");
        if is_pipe {
            bench.keep_off(Vec::new(), &[RunDrive::source(&source)])?;
        } else {
            order.take_place(&source, there, passphrase.as_ref(), bench)?;
        }
        let (mut ledger, job, run) = begun(&order, &source, bench).map_err(|error| Refusal::new("ledger", error.to_string()))?;
        let clock: Arc<dyn Clock> = source.clock().unwrap_or_else(|| bench.workshop.clock.clone());
        let (began, started) = (clock.now(), ledger::now());
        let source_facts = DriveFacts::new(source.identity(), source.geometry(), Ribbon::of(&looked, source.geometry().size_bytes));
        let facts = || facts(&source, &looked, job, &order);
        // An open format has no way to say what is not in it: there it is zero, for the writer and for the proof.
        let seen = if sparing { bench.workshop.over(Arc::new(Only::new(source.clone(), &needed))) } else { source.clone() };
        seen.obey(control);
        let making = Making {
            source: &source,
            needed: &needed,
            sparing,
            parent: order.parent.as_deref(),
            passphrase: passphrase.as_ref(),
            level: order.level,
            resume: there == There::Unfinished,
            facts: &facts,
        };
        let onto = if is_pipe { Onto::Pipe(Box::new(std::io::stdout())) } else { Onto::File(&order.file, order.split) };
        info!(job, run, from = source.key(), used = sparing, there = format!("{there:?}"), "an image is made");
        let least = (estimate.stored / 16 + (4 << 20)).min(MARGIN);
        let watched =
            Watched { told: observer, control, file: &order.file, least, looked: Mutex::new(Instant::now()), is_full: AtomicBool::new(false) };
        let told: &dyn Observer = if is_pipe { observer } else { &watched };
        let made = match order.format {
            Some(format) => written(&seen, &order.file, To { format, split: order.split, form: order.form, old: order.old }, control, told, &*clock),
            None if there == There::Unproved => own::made(&order.file, &making).unwrap_or_else(failed),
            None => own::make(&making, onto, control, told, &*clock).unwrap_or_else(failed),
        };
        let mut report = report(&order, &source, &needed, &made);
        report.job = job;
        watched.say_no_room(&mut report, &order);
        // What an earlier run went over, or nobody did, is in no account of this one.
        let is_all = made.outcome != Outcome::Interrupted && !matches!(there, There::Unfinished | There::Unproved);
        report.proof.extend(mended.iter().map(|mended| mending(&mended.account(), &order, is_all)));
        match order.format {
            _ if !matches!(made.outcome, Outcome::Proved | Outcome::Incomplete) => {}
            Some(_) => {
                compare(&mut report, &order, &seen, bench, control, observer);
                let text = "only what is in use is in the image; all else is zero there, and was not read";
                report.proof.extend(sparing.then(|| Line::new("rest", Verdict::NotChecked, text.to_string())));
            }
            None => prove(&mut report, &order, passphrase.as_ref(), is_pipe, control, observer),
        }
        if matches!(made.outcome, Outcome::Proved | Outcome::Incomplete) {
            report.proof.extend(hazard::held_still(&before, &source.standing(), is_in_use, made.between));
            judge(&mut report);
        }
        report.seconds = clock.now().saturating_sub(began).as_secs_f64();
        let kept = (!is_pipe).then(|| bench.workshop.source(&order.file).ok()).flatten();
        let target = kept.map(|image| DriveFacts::new(image.identity(), image.geometry(), source_facts.ribbon.clone()));
        let sheet = SheetData {
            job,
            workshop: bench.named(Some(&ledger), "workshop"),
            ticket: order.ticket.clone(),
            customer: order.customer.clone(),
            technician: order.technician.clone(),
            started,
            ended: ledger::now(),
            keep_until: None,
            target: target.unwrap_or_else(|| source_facts.clone()),
            source: source_facts,
            rates: Vec::new(),
            report: report.clone(),
            surface: None,
        };
        record::end(&mut ledger, run, &mut report, &sheet);
        info!(job, run, outcome = format!("{:?}", report.outcome), lost = report.lost_bytes, "the image is done");
        Ok(report)
    }
}

/// What the ledger calls the image.
fn key_of(order: &ImageOrder) -> String {
    format!("image {}", std::path::absolute(&order.file).unwrap_or_else(|_| order.file.clone()).display())
}

/// The job whose last run on this image of this drive never came to its end.
fn unended(order: &ImageOrder, source: &Source, ledger: &Ledger) -> Option<JobRow> {
    let row = ledger.last_job_of(&key_of(order)).ok().flatten()?;
    let is_same = |asked: &str, held: &str| asked.is_empty() || asked == held;
    let is_its = row.source_key == source.key() && is_same(&order.ticket, &row.ticket) && is_same(&order.customer, &row.customer);
    (is_its && row.started.is_some() && row.outcome.as_deref().is_none_or(|outcome| outcome == "interrupted")).then_some(row)
}

/// Notes in the ledger that a run begins: the ledger, the job and the run.
fn begun(order: &ImageOrder, source: &Source, bench: &Bench) -> Result<(Ledger, i64, i64), ledger::Error> {
    let ledger = bench.open_ledger()?;
    ledger.check()?;
    let key = key_of(order);
    let ImageOrder { ticket, customer, technician, .. } = order;
    let job = match unended(order, source, &ledger) {
        Some(row) => row.id,
        None => ledger.new_job(&NewJob { ticket, customer, technician, source_key: &source.key(), target_key: &key })?.0,
    };
    ledger.seen(source.identity(), source.geometry())?;
    let run = ledger.begin_run(job)?;
    Ok((ledger, job, run))
}

/// The worst line of the proof is the verdict, and what the report gives as the reason.
fn judge(report: &mut Report) {
    let is_doubted = |line: &Line| line.result == Verdict::Fails || line.doubts_source();
    if report.outcome == Outcome::Proved && report.proof.iter().any(is_doubted) {
        report.outcome = Outcome::Finished;
    }
    if report.outcome == Outcome::Finished && report.reason.is_empty() {
        let first = |result| report.proof.iter().find(|line| line.result == result);
        report.reason = first(Verdict::Fails).or(first(Verdict::NotChecked)).map(|line| line.text.clone()).unwrap_or_default();
    }
}

/// What goes into the image beside the drive's bytes.
fn facts(source: &Source, looked: &Looked, job: i64, order: &ImageOrder) -> String {
    let partitions: Vec<_> = looked
        .table
        .partitions
        .iter()
        .map(|partition| serde_json::json!({ "number": partition.number, "start": partition.start, "sectors": partition.sectors, "type": partition.type_code.code(), "name": partition.name }))
        .collect();
    let facts = serde_json::json!({
        "drive": { "key": source.key(), "model": source.identity().model, "serial": source.identity().serial, "firmware": source.identity().firmware },
        "table": { "kind": looked.table.kind.word(), "disk_id": looked.table.disk_id, "partitions": partitions },
        "job": { "number": job, "ticket": order.ticket, "customer": order.customer, "technician": order.technician, "made": ledger::now() },
    });
    facts.to_string()
}

fn report(order: &ImageOrder, source: &Source, needed: &Extents<()>, made: &Made) -> Report {
    let mut report = Report::new(order.source.display().to_string(), order.file.display().to_string());
    let sector = u64::from(source.geometry().logical_sector);
    (report.outcome, report.image) = (made.outcome, true);
    report.planned_bytes = needed.total(|()| true);
    report.read_bytes = made.read_bytes;
    report.written_bytes = made.stored_bytes;
    report.skipped_bytes = made.read_bytes.saturating_sub(made.stored_bytes);
    report.lost_bytes = made.lost.iter().map(|(_, len)| len).sum();
    report.lost = made.lost.iter().map(|(start, len)| Stretch { start: start / sector, sectors: len.div_ceil(sector) }).collect();
    report.reason.clone_from(&made.reason);
    report
}

/// What became of the damage.
fn mending(account: &Account, order: &ImageOrder, is_all: bool) -> Line {
    let others = order.mend_from.as_deref().unwrap_or_default();
    let places = |count: usize| if count == 1 { "1 place".to_string() } else { format!("{} places", thousands(count as u64)) };
    let name = |number: &usize| others.get(*number).map(|path| path.display().to_string()).unwrap_or_default();
    let mended =
        account.mended.iter().map(|(at, from)| format!("at byte {} of the drive: taken from {}, equal by its hash", thousands(*at), name(from)));
    let left = account.left.iter().map(|(at, why)| format!("at byte {} of the drive: still damaged, {why}", thousands(*at)));
    let (result, text) = match (account.mended.len(), account.left.len()) {
        (mended, 0) if !is_all => (Verdict::NotChecked, format!("not all of it was gone over in this run; {} are mended so far", places(mended))),
        (0, 0) => (Verdict::Holds, "nothing of it was damaged".to_string()),
        (mended, 0) => (Verdict::Holds, format!("{} were damaged, and are mended", places(mended))),
        (mended, left) => {
            (Verdict::Fails, format!("{} could not be mended, and are lost in the new image; {} are mended", places(left), places(mended)))
        }
    };
    Line { evidence: left.chain(mended).take(1000).collect(), ..Line::new("repair", result, text) }
}

/// Writes an image of an open format.
fn written(source: &Source, file: &Path, to: To, control: &Control, observer: &dyn Observer, clock: &dyn Clock) -> Made {
    let written = match write::write(source, file, to, control, observer, clock) {
        Ok(written) => written,
        Err(error) => return failed(error),
    };
    let mut made = Made { read_bytes: written.read_bytes, stored_bytes: written.len, len: written.len, lost: written.lost, ..Made::default() };
    if written.stopped {
        made.reason = "stopped; this format cannot be gone on with, nothing is left of it".into();
    } else {
        made.outcome = if made.lost.is_empty() { Outcome::Proved } else { Outcome::Incomplete };
    }
    made
}

/// What nothing came of, although it was begun.
fn failed(error: std::io::Error) -> Made {
    Made { outcome: Outcome::Interrupted, reason: error.to_string(), ..Made::default() }
}

/// Reads the drive once more, and the image as a drive, and compares them.
fn compare(report: &mut Report, order: &ImageOrder, source: &Source, bench: &Bench, control: &Control, observer: &dyn Observer) {
    let image = match bench.workshop.source(&order.file) {
        Ok(image) => image,
        Err(refusal) => {
            report.outcome = Outcome::Finished;
            return report.proof.push(Line::new("blocks", Verdict::Fails, format!("it cannot be opened again: {}", refusal.text)));
        }
    };
    image.obey(control);
    observer.event(&Event::Phase { phase: Phase::Prove, total: source.geometry().size_bytes, done: 0, files: None });
    let compared = verify::compare(source, &image, control, observer, &*bench.workshop.clock);
    let same = compared.sectors == 0 && source.geometry().size_bytes == image.geometry().size_bytes;
    let unread = compared.unread;
    let line = match (compared.stopped, same) {
        (true, _) => Line::new("blocks", Verdict::NotChecked, "reading it back was stopped"),
        // Two places that give nothing are not equal.
        (_, true) if unread > 0 => Line {
            places: compared.unreadable.clone(),
            ..Line::new("blocks", Verdict::NotChecked, format!("{} sectors could not be read and compared; all else equals", thousands(unread)))
        },
        (_, true) => {
            Line::new("blocks", Verdict::Holds, format!("{} of the drive, read once more, equal what the image holds", human(compared.bytes)))
        }
        (_, false) => Line {
            places: compared.differing.clone(),
            ..Line::new("blocks", Verdict::Fails, format!("{} sectors of the image are not as on the drive", thousands(compared.sectors)))
        },
    };
    // What was lost says the worse already, where nothing but that is missing of the proof.
    let is_said = report.outcome == Outcome::Incomplete && same && !compared.stopped;
    if line.result != Verdict::Holds && !is_said {
        report.outcome = Outcome::Finished;
    }
    report.proof.push(line);
}

/// Reads the image back, from the medium as far as the system lets it, and compares every chunk with what was read from the drive.
fn prove(report: &mut Report, order: &ImageOrder, passphrase: Option<&Passphrase>, is_pipe: bool, control: &Control, observer: &dyn Observer) {
    if is_pipe {
        report.proof.push(Line::new("blocks", Verdict::NotChecked, "what went through a pipe cannot be read back here".to_string()));
        report.outcome = Outcome::Finished;
        report.reason = "not proved: badger verify IMAGE proves it where it lies".into();
        return;
    }
    let image = match Image::open(&order.file, passphrase) {
        Ok(image) => image,
        Err(error) => {
            report.proof.push(Line::new("blocks", Verdict::Fails, format!("it cannot be opened again: {error}")));
            report.outcome = Outcome::Finished;
            return;
        }
    };
    let size = image.geometry().size_bytes;
    observer.event(&Event::Phase { phase: Phase::Prove, total: size, done: 0, files: None });
    let mut before = 0;
    image.forget();
    let damage = image.verify(&mut |at| {
        observer.event(&Event::Moved { start: before, len: at.saturating_sub(before), at: 0.0 });
        before = at;
        control.go_on()
    });
    if control.is_stopped() {
        report.proof.push(Line::new("blocks", Verdict::NotChecked, "reading it back was stopped".to_string()));
        (report.outcome, report.reason) = (Outcome::Finished, "not proved: stopped while it was read back".into());
        return;
    }
    let hash = image.hash();
    let line = match damage.len() {
        0 => Line {
            evidence: vec![format!("hash over all of it: {hash}")],
            ..Line::new(
                "blocks",
                Verdict::Holds,
                format!("{} of the drive read back out of the image equal what was read from it", human(report.read_bytes)),
            )
        },
        count => Line {
            evidence: damage.iter().take(100).map(|damage| format!("at byte {}: {}", thousands(damage.at), damage.text)).collect(),
            ..Line::new("blocks", Verdict::Fails, format!("{} places of the image are damaged", thousands(count as u64)))
        },
    };
    if line.result == Verdict::Fails {
        report.outcome = Outcome::Finished;
    }
    report.proof.push(line);
    report.proof.push(Line::new("boot", Verdict::NotChecked, "an image does not start by itself".to_string()));
    report.hash.target = hash;
}
