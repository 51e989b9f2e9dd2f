//! One rehearsal, from the lent drive to the outcome.

use crate::emulator::{Emulator, Things};
use crate::held::Held;
use crate::letters::Letters;
use crate::monitor::Monitor;
use crate::picture::Picture;
use crate::signs::{Sign, Signs, plain};
use badger_drive::size::{human, span};
use badger_drive::{Control, Refusal, Source};
use badger_inspect::{Line, Verdict};
use badger_network::{Lender, Lending, Lent, Shelf};
use badger_system::{Firmware, Machine};
use serde::Serialize;
use serde_json::json;
use std::fs::{self, File};
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tracing::info;

/// How often screen and serial line are looked at.
const GLANCE: Duration = Duration::from_millis(700);
/// A screen that has not changed for so long of the machine's own time will not; emulated, everything takes longer.
const STILL: [Duration; 2] = [Duration::from_secs(180), Duration::from_secs(60)];
/// A kernel that this bench held up is started anew so often, in all.
const ATTEMPTS: usize = 3;
/// Being held up for less than this is not worth a word.
const WORTH_SAYING: Duration = Duration::from_secs(10);
/// Of the serial line no more than this is looked at, in bytes.
const MOST_SERIAL: usize = 1 << 20;
/// A serial line that says more than this says it for ever.
const FLOOD: u64 = 64 << 20;
/// Lines of a screen and of the serial line that are kept as evidence.
const LINES: usize = 8;

/// What is to be rehearsed.
pub struct Rehearsal<'a> {
    /// The drive; it is only read.
    pub source: Source,
    /// The machine that it goes into.
    pub machine: &'a Machine,
    /// The way that it takes.
    pub firmware: Firmware,
    /// So long it may take at the most.
    pub patience: Duration,
    /// Ends it.
    pub control: &'a Control,
    /// Where its log is kept; made where it is not there.
    pub log: &'a Path,
}

/// How it stands.
#[derive(Clone, Debug, Default)]
pub struct Scene {
    /// The screen.
    pub picture: Picture,
    /// What can be read on it.
    pub text: Vec<String>,
    /// The last lines of the serial line.
    pub serial: Vec<String>,
    /// Since it was switched on.
    pub seconds: f64,
    /// So long of it this bench had no processor for it.
    pub held: Duration,
    /// Whether this bench's processor runs it by itself.
    pub is_accelerated: bool,
}

/// How it went.
#[derive(Clone, Debug, Serialize)]
pub struct Rehearsed {
    /// As a line of a proof.
    pub line: Line,
    /// Seconds it took.
    pub seconds: f64,
    /// Where its log is.
    pub log: PathBuf,
}

/// How one attempt ended.
enum Ended {
    Sign(Sign),
    /// It switched itself off, or started anew.
    Off(&'static str),
    Still(Duration),
    TimeOut,
    Stopped,
    Flood,
    /// This bench's processor cannot run it.
    NotAccelerated,
}

impl Rehearsal<'_> {
    /// Starts the drive, and watches until something is known; `told` hears how it stands.
    ///
    /// # Errors
    /// What is missing, or why the emulator did not run. Nothing is written to the drive in any case.
    pub fn run(self, told: &dyn Fn(&Scene)) -> Result<Rehearsed, Refusal> {
        let emulator = Emulator::find(self.machine, self.firmware)?;
        let failed = |what: &str, error: &dyn std::fmt::Display| Refusal::new("not-rehearsed", format!("{what}: {error}"));
        let size = self.source.geometry().size_bytes;
        let Self { source, machine, firmware, patience, control, log } = self;
        // New: nothing in it can be a link to somebody's file.
        let made = log.parent().map_or(Ok(()), fs::create_dir_all).and_then(|()| fs::create_dir(log));
        made.map_err(|error| failed(&log.display().to_string(), &error))?;
        let dir = tempfile::tempdir().map_err(|error| failed("a folder for the rehearsal", &error))?;
        // Nobody writes to the drive while its start is tried.
        let _claim = source.claim()?;
        let shelf = Shelf(vec![Lent::new("drive".into(), source)]);
        let lender = Lender::at_socket(&dir.path().join("drive")).map_err(|error| failed("the drive cannot be lent", &error))?;
        let ends = Control::new();
        let attempt = Attempt { emulator: &emulator, machine, begun: Instant::now(), patience, control, log, dir: dir.path(), told };
        let mut scene = Scene::default();
        let ended = std::thread::scope(|scope| {
            scope.spawn(|| lender.lend(&Lending { shelf: &shelf, tls: None, control: &ends, told: &|_| {} }));
            let result = attempt.until_known(&mut scene);
            ends.stop();
            result
        })?;
        let read = shelf.0.iter().map(|lent| lent.read.load(Ordering::Relaxed)).sum();
        let kept = keep(log, &scene);
        let (result, text) = verdict(&ended, machine, firmware);
        info!(?result, text, seconds = scene.seconds, "a rehearsal ended");
        let mut evidence = vec![format!(
            "{}, {}, {}{}: {} of {} read, nothing written to the drive",
            machine.name,
            firmware.word(),
            machine.controller.map_or("SATA", |controller| controller.word()),
            if emulator.is_secure() { ", Secure Boot" } else { "" },
            human(read),
            human(size)
        )];
        if scene.held >= WORTH_SAYING {
            evidence.push(format!("for {} of {} this bench was busy with other things", span(scene.held.as_secs_f64()), span(scene.seconds)));
        }
        let last = |lines: &[String]| lines.iter().filter(|line| !line.trim().is_empty()).cloned().rev().take(LINES).collect::<Vec<_>>();
        evidence.extend(last(&scene.text).into_iter().rev().map(|line| format!("screen: {}", line.trim())));
        evidence.extend(last(&scene.serial).into_iter().rev().map(|line| format!("serial line: {}", line.trim())));
        evidence.push(match kept {
            Ok(()) => format!("log in {}", log.display()),
            Err(error) => format!("its log could not be kept whole: {error}"),
        });
        let line = Line { link: "rehearsal".into(), evidence, ..Line::new("boot", result, format!("{text}, after {}", span(scene.seconds))) };
        Ok(Rehearsed { line, seconds: scene.seconds, log: log.to_path_buf() })
    }
}

/// The screen as it was last, beside what came over the serial line.
fn keep(log: &Path, scene: &Scene) -> std::io::Result<()> {
    if scene.picture.width > 0 {
        scene.picture.write(&log.join("screen.png"))?;
    }
    fs::write(log.join("screen.txt"), scene.text.join("\n"))
}

fn verdict(ended: &Ended, machine: &Machine, firmware: Firmware) -> (Verdict, String) {
    let on = format!("in a virtual machine like \"{}\", by {},", machine.name, firmware.word());
    match ended {
        Ended::Sign(Sign::Up(line)) => (Verdict::Holds, format!("{on} it started: \"{line}\"")),
        Ended::Sign(Sign::Broken(why)) => (Verdict::Fails, format!("{on} it did not start: {why}")),
        Ended::Sign(Sign::HeldUp(line)) => {
            let text =
                format!("{on} its kernel gave up because this bench was too busy, {ATTEMPTS} times: rehearse again when less runs here (\"{line}\")");
            (Verdict::NotChecked, text)
        }
        Ended::Off(how) => (Verdict::NotChecked, format!("{on} it {how}, and nothing said that it had come up")),
        Ended::Still(time) => {
            let text = format!("{on} its screen stood still for {}, and nothing said how it went: look at the picture", span(time.as_secs_f64()));
            (Verdict::NotChecked, text)
        }
        Ended::TimeOut => (Verdict::NotChecked, format!("{on} nothing said in the time it was given that it had come up: look at the picture")),
        Ended::Flood => (Verdict::NotChecked, format!("{on} it wrote to its serial line without end")),
        Ended::Stopped | Ended::NotAccelerated => (Verdict::NotChecked, format!("{on} it was stopped before anything was known")),
    }
}

/// What one attempt needs.
struct Attempt<'a> {
    emulator: &'a Emulator,
    machine: &'a Machine,
    begun: Instant,
    patience: Duration,
    control: &'a Control,
    log: &'a Path,
    dir: &'a Path,
    told: &'a dyn Fn(&Scene),
}

/// Never left behind.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Attempt<'_> {
    /// Starts it until something is known of the drive, and not only of this bench.
    fn until_known(&self, scene: &mut Scene) -> Result<Ended, Refusal> {
        let mut is_accelerated = Emulator::has_accelerator();
        let mut left = ATTEMPTS;
        loop {
            match self.run(is_accelerated, scene)? {
                Ended::NotAccelerated if is_accelerated => is_accelerated = false,
                Ended::Sign(Sign::HeldUp(_)) if left > 1 => left -= 1,
                ended => return Ok(ended),
            }
        }
    }

    fn run(&self, is_accelerated: bool, scene: &mut Scene) -> Result<Ended, Refusal> {
        let failed = |what: &str, error: &dyn std::fmt::Display| Refusal::new("not-rehearsed", format!("{what}: {error}"));
        let of_system = |error: std::io::Error| failed("the emulator cannot be started", &error);
        let (serial, said) = (self.log.join("serial.log"), self.dir.join("said"));
        let (monitor, variables) = (self.dir.join(format!("monitor-{is_accelerated}")), self.dir.join("variables"));
        if let Some(fresh) = self.emulator.variables() {
            fs::copy(fresh, &variables).map_err(of_system)?;
        }
        File::create(&serial).map_err(of_system)?;
        let things = Things { drive: &self.dir.join("drive"), monitor: &monitor, serial: &serial, variables: &variables };
        let mut command = self.emulator.command();
        command.args(self.emulator.arguments(self.machine, &things, is_accelerated)).env("TMPDIR", self.dir);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(File::create(&said).map_err(of_system)?);
        let mut running = Running(command.spawn().map_err(of_system)?);
        let mut held = Held::of(running.0.id());
        let gone = |error: std::io::Error| {
            let said = fs::read_to_string(&said).unwrap_or_default();
            failed("the emulator does not answer", &format!("{error}; {}", said.lines().last().unwrap_or("it says nothing")))
        };
        let mut monitor = match Monitor::open(&monitor, Duration::from_secs(10)) {
            Ok(monitor) => monitor,
            Err(_) if is_accelerated => return Ok(Ended::NotAccelerated),
            Err(error) => return Err(gone(error)),
        };
        let letters = Emulator::letters().and_then(|path| Letters::of(&fs::read(path).ok()?)).unwrap_or_default();
        let signs = Signs { up: Some(self.machine.up_when.clone()) };
        let still = STILL[usize::from(is_accelerated)];
        let (shot, mut heard) = (self.dir.join("screen"), Serial::default());
        let (mut changed, mut held_since) = (Instant::now(), Duration::ZERO);
        *scene = Scene::default();
        loop {
            std::thread::sleep(GLANCE);
            if self.control.is_stopped() {
                return Ok(Ended::Stopped);
            }
            let is_over = running.0.try_wait().map_err(of_system)?.is_some();
            let drawn = if is_over { false } else { monitor.ask("screendump", &json!({ "filename": shot.display().to_string() })).is_ok() };
            let picture = drawn.then(|| fs::read(&shot).ok().and_then(|bytes| Picture::read(&bytes).ok())).flatten();
            let is_more = heard.read(&serial).map_err(|error| failed("what came over the serial line", &error))?;
            let waited = held.since();
            (scene.held, held_since) = (scene.held + waited, held_since + waited);
            if is_more || picture.as_ref().is_some_and(|picture| *picture != scene.picture) {
                (changed, held_since) = (Instant::now(), Duration::ZERO);
            }
            if let Some(picture) = picture {
                (scene.text, scene.picture) = (letters.read(&picture), picture);
            }
            let text = plain(&heard.text);
            scene.serial = text.lines().rev().take(200).map(str::to_string).collect::<Vec<_>>().into_iter().rev().collect();
            (scene.seconds, scene.is_accelerated) = (self.begun.elapsed().as_secs_f64(), is_accelerated);
            (self.told)(scene);
            if let Some(sign) = signs.read(&text).or_else(|| signs.read(&scene.text.join("\n"))) {
                return Ok(Ended::Sign(sign));
            }
            if is_over {
                monitor.last_words();
                let how = match monitor.ended.as_deref() {
                    Some("guest-reset") => "started anew",
                    Some(_) => "switched itself off",
                    None if is_accelerated => return Ok(Ended::NotAccelerated),
                    None => return Err(gone(std::io::ErrorKind::BrokenPipe.into())),
                };
                return Ok(Ended::Off(how));
            }
            let state = monitor.ask("query-status", &json!({})).ok();
            if is_accelerated && state.as_ref().is_some_and(|state| state["status"] == "internal-error") {
                return Ok(Ended::NotAccelerated);
            }
            match () {
                () if heard.total > FLOOD => return Ok(Ended::Flood),
                () if changed.elapsed().saturating_sub(held_since) > still => return Ok(Ended::Still(still)),
                () if self.begun.elapsed() > self.patience => return Ok(Ended::TimeOut),
                () => {}
            }
        }
    }
}

/// What came over the serial line.
#[derive(Default)]
struct Serial {
    text: String,
    total: u64,
}

impl Serial {
    /// Reads on; whether there was more.
    fn read(&mut self, path: &Path) -> std::io::Result<bool> {
        let mut file = File::open(path)?;
        file.seek(SeekFrom::Start(self.total))?;
        let mut bytes = Vec::new();
        let len = file.take(MOST_SERIAL as u64).read_to_end(&mut bytes)?;
        self.total += len as u64;
        self.text.push_str(&String::from_utf8_lossy(&bytes));
        if self.text.len() > MOST_SERIAL {
            let cut = (self.text.len() - MOST_SERIAL / 2..).find(|at| self.text.is_char_boundary(*at)).unwrap_or(0);
            self.text.drain(..cut);
        }
        Ok(len > 0)
    }
}
