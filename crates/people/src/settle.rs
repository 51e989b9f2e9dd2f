//! Reading written files back from the medium, hashing them on every processor, and giving them their names only then.

use crate::beneath::Beneath;
use crate::digest::{Digest64, Listed, each_data};
use crate::journal::{Journal, Line, Way};
use crate::names::{self, Holds};
use crate::write::{Outcome, Settled, Written, costs_itself, refused};
use badger_drive::Control;
use std::collections::VecDeque;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::Duration;

/// The most files that are read back at once.
const READERS: usize = 8;
/// Bytes that one file is read for before another one has its turn: a spinning disk loses little to seeks this far apart.
const TURN: usize = 8 << 20;
/// So long nothing more may come before what is read back is noted.
const PAUSE: Duration = Duration::from_millis(100);

/// What reading back found.
struct Found {
    digest: blake3::Hash,
    /// Empty where the file is mostly holes.
    sha256: String,
    len: u64,
}

/// A file to be read back: its number in its batch, and where the answer goes.
struct Task {
    number: usize,
    written: Written,
    answer: Sender<Answer>,
}

type Answer = (usize, Written, io::Result<Found>);

/// A batch that is read back.
struct Batch {
    files: usize,
    answers: Vec<Answer>,
    coming: Receiver<Answer>,
}

impl Batch {
    /// Whether all of it was read back.
    fn is_complete(&mut self) -> bool {
        self.answers.extend(self.coming.try_iter());
        self.answers.len() == self.files
    }

    /// Everything, in the order in which it was written.
    fn wait(mut self) -> io::Result<Vec<Answer>> {
        let left = self.files - self.answers.len();
        self.answers.extend(self.coming.iter().take(left));
        self.answers.sort_by_key(|(number, ..)| *number);
        if self.answers.len() == self.files { Ok(self.answers) } else { Err(io::Error::other("not all that was written was read back")) }
    }
}

/// Those who read back.
struct Readers<'a> {
    beneath: &'a Beneath,
    control: &'a Control,
    turn: Mutex<()>,
    /// Nobody waits for answers any more.
    ended: AtomicBool,
}

impl Readers<'_> {
    fn work(&self, tasks: &Mutex<Receiver<Task>>) {
        let mut buffer = vec![0; TURN];
        loop {
            let next = tasks.lock().expect("no reader panics").recv();
            let Ok(Task { number, written, answer }) = next else { return };
            let stopped = || Err(io::ErrorKind::Interrupted.into());
            let found = if self.ended.load(Ordering::Relaxed) { stopped() } else { self.read_back(&written.part, &mut buffer) };
            let _ = answer.send((number, written, found));
        }
    }

    fn read_back(&self, part: &Path, buffer: &mut [u8]) -> io::Result<Found> {
        let file = self.beneath.read(part)?;
        let (mut digest, mut listed, len) = (Digest64::default(), Listed::default(), file.metadata()?.len());
        each_data(&file, &self.turn, buffer, self.control, &mut |at, bytes| {
            // A long file is not read to its end where the copy has failed.
            if self.ended.load(Ordering::Relaxed) {
                return Err(io::ErrorKind::Interrupted.into());
            }
            digest.add(at, bytes);
            listed.add(at, bytes, self.control)
        })?;
        Ok(Found { digest: digest.end(), sha256: listed.end(len, self.control)?, len })
    }
}

/// Who notes in the journal and gives names.
struct Settler<'a> {
    beneath: &'a Beneath,
    holds: Holds,
    journal: &'a mut Journal,
    tell: &'a Sender<Outcome>,
}

/// Reads every batch back from the medium, notes it, and gives the files their names. A stop is heard while it reads.
///
/// # Errors
/// The destination fails as a whole, or a stop.
pub(crate) fn settle(
    beneath: &Beneath,
    holds: Holds,
    batches: &Receiver<Settled>,
    journal: &mut Journal,
    tell: &Sender<Outcome>,
    control: &Control,
) -> io::Result<()> {
    let readers = Readers { beneath, control, turn: Mutex::new(()), ended: AtomicBool::new(false) };
    let (give, tasks) = channel();
    let tasks = Mutex::new(tasks);
    let hands = std::thread::available_parallelism().map_or(2, std::num::NonZero::get).clamp(1, READERS);
    std::thread::scope(|scope| {
        for _ in 0..hands {
            scope.spawn(|| readers.work(&tasks));
        }
        let ended = Settler { beneath, holds, journal, tell }.all(batches, &give, hands);
        readers.ended.store(true, Ordering::Relaxed);
        drop(give);
        ended
    })
}

impl Settler<'_> {
    /// `ahead` batches may be read back before the first of them is noted: one may be a single long file, which takes one reader long.
    fn all(&mut self, batches: &Receiver<Settled>, give: &Sender<Task>, ahead: usize) -> io::Result<()> {
        let mut under_way: VecDeque<Batch> = VecDeque::new();
        loop {
            let more = match batches.recv_timeout(PAUSE) {
                Ok(Settled::Note(line)) => self.journal.add(&line).map(|()| true)?,
                Ok(Settled::Failed(from, why)) => self.lose(&from, &why).map(|()| true)?,
                Ok(Settled::Batch(batch)) => {
                    if !batch.is_empty() {
                        under_way.push_back(self.begin(batch, give)?);
                    }
                    true
                }
                Err(RecvTimeoutError::Timeout) => true,
                Err(RecvTimeoutError::Disconnected) => false,
            };
            while under_way.len() > ahead || !more && !under_way.is_empty() || under_way.front_mut().is_some_and(Batch::is_complete) {
                let batch = under_way.pop_front().expect("there is one");
                self.end(batch.wait()?)?;
            }
            if !more {
                return Ok(());
            }
        }
    }

    fn lose(&mut self, from: &Way, why: &str) -> io::Result<()> {
        self.journal.add(&Line::Lost { from: from.clone(), why: why.to_string(), stretches: Vec::new() })?;
        // Nobody may be listening any more.
        let _ = self.tell.send(Outcome::Lost(from.clone(), why.to_string()));
        Ok(())
    }

    fn begin(&self, batch: Vec<Written>, give: &Sender<Task>) -> io::Result<Batch> {
        // Through a descriptor that was open before anything was written, so that no error is missed.
        rustix::fs::syncfs(self.beneath.root())?;
        let (answer, coming) = channel();
        let files = batch.len();
        for (number, written) in batch.into_iter().enumerate() {
            give.send(Task { number, written, answer: answer.clone() }).map_err(|_| io::Error::other("nobody reads back"))?;
        }
        Ok(Batch { files, answers: Vec::new(), coming })
    }

    fn end(&mut self, answers: Vec<Answer>) -> io::Result<()> {
        let mut named = Vec::new();
        for (_, mut written, found) in answers {
            let Found { digest, sha256, len } = found?;
            if digest != written.digest || len != written.job.size {
                self.lose(&written.job.from, "the destination gives other bytes than were written")?;
                self.beneath.remove(&written.part)?;
                continue;
            }
            if sha256.is_empty() {
                written.not_held.push("a checksum in the manifest: it is mostly holes, too long to be hashed; it was read back equal".into());
            }
            let job = &written.job;
            self.journal.add(&written.line(&job.to, &sha256))?;
            if let Some((why, stretches)) = &job.lost {
                self.journal.add(&Line::Lost { from: job.from.clone(), why: why.clone(), stretches: stretches.clone() })?;
            }
            for what in &written.not_held {
                self.journal.add(&Line::NotHeld { from: job.from.clone(), what: what.clone() })?;
            }
            named.push((written, sha256));
        }
        // A name means that the file is whole: first the journal, then the name.
        self.journal.keep()?;
        for (written, sha256) in named {
            let to = match name(self.beneath, self.holds, &written) {
                Ok(to) => to,
                Err(error) if costs_itself(&error) => {
                    self.lose(&written.job.from, &refused(&error))?;
                    self.beneath.remove(&written.part)?;
                    continue;
                }
                Err(error) => return Err(error),
            };
            if to != written.job.to {
                self.journal.add(&Line::Name { from: written.job.from.clone(), to: Way::new(to.as_os_str().as_bytes()) })?;
                self.journal.add(&written.line(&to, &sha256))?;
            }
            // Without this line a resumed run reads the file and compares its checksum.
            if let Ok(stat) = self.beneath.stat(&to) {
                self.journal.add(&Line::there(&written.job.from, &stat))?;
            }
            let _ = self.tell.send(Outcome::File { bytes: written.job.size, to });
        }
        Ok(())
    }
}

impl Written {
    fn line(&self, to: &Path, sha256: &str) -> Line {
        let modified = self.job.modified.map_or((0, 0), |time| (time.seconds, time.nanos));
        let (from, to) = (self.job.from.clone(), Way::new(to.as_os_str().as_bytes()));
        Line::File { from, to, size: self.job.size, modified, sha256: sha256.to_string() }
    }
}

/// Gives a file its name; where something came into its place meanwhile, the next one with a number.
fn name(beneath: &Beneath, holds: Holds, written: &Written) -> io::Result<PathBuf> {
    if written.job.replaces {
        beneath.rename(&written.part, &written.job.to, true)?;
        return Ok(written.job.to.clone());
    }
    for number in 1..u32::MAX {
        let to = names::numbered_path(&written.job.to, number, holds);
        match beneath.rename(&written.part, &to, false) {
            Ok(()) => return Ok(to),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(error),
        }
    }
    Err(io::Error::other("there is no free name left"))
}
