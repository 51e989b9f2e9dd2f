//! The drives on the bench, kept up to date by a thread of its own: a failing drive that takes long to answer must
//! not hold up the screen.

use crate::ledger::JobRow;
use crate::ribbon::Ribbon;
use crate::{Bench, Checkup};
use badger_drive::discover::Found;
use badger_drive::{Identity, Refusal};
use badger_inspect::Looked;
use badger_inspect::hazard;
use badger_inspect::{Hazard, Level};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tracing::info;

/// One drive with everything that was found out about it.
#[derive(Clone)]
pub struct Item {
    /// Identity and who uses it.
    pub found: Found,
    /// When it came.
    pub since: Instant,
    /// Whether it was there when the program started.
    pub from_start: bool,
    /// Whether the ledger had never seen it.
    pub new: bool,
    /// The last job it took part in.
    pub job: Option<JobRow>,
    /// What is on it; `None` until it was looked at.
    pub looked: Option<Arc<Looked>>,
    /// Its strip.
    pub ribbon: Ribbon,
    /// What to know of it.
    pub hazards: Vec<Hazard>,
    /// Why it could not be looked at.
    pub trouble: Option<String>,
    /// How it is; `None` until it answered.
    pub checkup: Option<Checkup>,
}

impl Item {
    /// The gravest thing to know.
    pub fn worst(&self) -> Option<&Hazard> {
        self.hazards.iter().find(|hazard| hazard.level != Level::Note)
    }

    /// Where it is.
    pub fn path(&self) -> &PathBuf {
        &self.found.identity.path
    }
}

/// The shared shelf.
#[derive(Clone)]
pub struct Shelf {
    items: Arc<Mutex<Vec<Item>>>,
    generation: Arc<AtomicU64>,
    stop: Arc<AtomicBool>,
    first: Arc<AtomicBool>,
    /// Files, images and lent drives that somebody put there.
    brought: Arc<Mutex<Vec<Found>>>,
    refusal: Arc<Mutex<Option<Refusal>>>,
}

/// How often arrivals and departures are looked for.
const EVERY: Duration = Duration::from_millis(400);

impl Shelf {
    /// Starts looking.
    pub fn start(bench: Bench) -> Self {
        let first = Arc::new(AtomicBool::new(true));
        let shelf =
            Self { items: Arc::default(), generation: Arc::default(), stop: Arc::default(), first, brought: Arc::default(), refusal: Arc::default() };
        let watched = shelf.clone();
        std::thread::spawn(move || watched.watch(&bench));
        shelf
    }

    /// The drives now, the latest arrival first.
    pub fn items(&self) -> Vec<Item> {
        self.items.lock().expect("shelf lock").clone()
    }

    /// Grows with every change.
    pub fn generation(&self) -> u64 {
        self.generation.load(Ordering::SeqCst)
    }

    /// Whether the first look round is still going on.
    pub fn looking(&self) -> bool {
        self.first.load(Ordering::SeqCst)
    }

    /// Ends the thread.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::SeqCst);
    }

    /// Has a drive looked at again, after something was written to it.
    pub fn look_again(&self, path: &PathBuf) {
        for item in self.items.lock().expect("shelf lock").iter_mut().filter(|item| item.path() == path) {
            item.looked = None;
        }
    }

    /// Asks a drive how it is, in a thread of its own: one that hangs holds up nobody.
    pub fn check_up(&self, bench: &Bench, found: &Found) {
        let path = found.identity.path.clone();
        self.answer(&path, None);
        let (shelf, bench, found) = (self.clone(), bench.clone(), found.clone());
        std::thread::spawn(move || {
            let checkup = bench.checkup(&found, true);
            info!(key = found.key(), health = checkup.health.text, grown = checkup.grown, "a drive was asked how it is");
            shelf.answer(&path, Some(checkup));
        });
    }

    /// Puts a file, an image or a lent drive on the shelf, in a thread of its own. Why that is not possible is told by
    /// [`Shelf::take_refusal`].
    pub fn bring(&self, bench: &Bench, path: PathBuf) {
        let (shelf, bench) = (self.clone(), bench.clone());
        std::thread::spawn(move || {
            match bench.workshop.source(&path) {
                Ok(source) => {
                    let identity = Identity { path: path.clone(), ..source.identity().clone() };
                    let found = Found { identity, geometry: source.geometry(), uses: Vec::new(), system: false, numbers: None, sequence: None };
                    let mut brought = shelf.brought.lock().expect("shelf lock");
                    brought.retain(|one| one.identity.path != path);
                    brought.push(found);
                }
                Err(refusal) => *shelf.refusal.lock().expect("shelf lock") = Some(refusal),
            }
            shelf.generation.fetch_add(1, Ordering::SeqCst);
        });
    }

    /// Why the last thing could not be put on the shelf; told once.
    pub fn take_refusal(&self) -> Option<Refusal> {
        self.refusal.lock().expect("shelf lock").take()
    }

    /// Whether somebody put it there.
    pub fn is_brought(&self, path: &Path) -> bool {
        self.brought.lock().expect("shelf lock").iter().any(|one| one.identity.path == *path)
    }

    /// Takes it off the shelf again.
    pub fn take_away(&self, path: &Path) {
        self.brought.lock().expect("shelf lock").retain(|one| one.identity.path != *path);
    }

    fn answer(&self, path: &PathBuf, checkup: Option<Checkup>) {
        if let Some(item) = self.items.lock().expect("shelf lock").iter_mut().find(|item| item.path() == path) {
            item.checkup = checkup;
        }
        self.generation.fetch_add(1, Ordering::SeqCst);
    }

    fn watch(&self, bench: &Bench) {
        while !self.stop.load(Ordering::SeqCst) {
            let mut found = bench.workshop.drives();
            let brought = self.brought.lock().expect("shelf lock").clone();
            found.extend(brought.into_iter().filter(|one| found.iter().all(|other| other.identity.path != one.identity.path)).collect::<Vec<_>>());
            self.merge(bench, found);
            self.first.store(false, Ordering::SeqCst);
            self.look_at_new(bench);
            std::thread::sleep(EVERY);
        }
    }

    fn merge(&self, bench: &Bench, found: Vec<Found>) {
        let first = self.looking();
        let known: HashMap<PathBuf, Found> = self.items().into_iter().map(|item| (item.path().clone(), item.found)).collect();
        // What was never asked for is not opened: the ledger is written to only for arrivals.
        let comes = |drive: &&Found| known.get(&drive.identity.path).is_none_or(|before| before.key() != drive.key());
        let mut arrived: Vec<(Found, bool)> = found.iter().filter(comes).map(|drive| (drive.clone(), false)).collect();
        let ledger = if arrived.is_empty() { None } else { bench.open_ledger().ok() };
        for (drive, new) in &mut arrived {
            *new = ledger.as_ref().and_then(|ledger| ledger.seen_found(drive).ok()).unwrap_or(false);
        }
        let mut items = self.items.lock().expect("shelf lock");
        let count = items.len();
        items.retain(|item| {
            let stays = found.iter().any(|drive| drive.key() == item.found.key() && drive.identity.path == *item.path());
            if !stays {
                info!(key = item.found.key(), path = %item.path().display(), "a drive left");
            }
            stays
        });
        let mut changed = items.len() != count || !arrived.is_empty();
        for item in items.iter_mut() {
            if let Some(now) = found.iter().find(|drive| drive.identity.path == *item.path())
                && *now != item.found
            {
                // Another user of the same medium is no reason to read it again.
                let same = (now.sequence, now.geometry, &now.identity) == (item.found.sequence, item.found.geometry, &item.found.identity);
                item.found = now.clone();
                match &item.looked {
                    Some(looked) if same => {
                        let unfinished = item.hazards.iter().find(|hazard| hazard.code == "unfinished-copy").cloned();
                        item.hazards = unfinished.into_iter().chain(hazard::of_drive(Some(now), looked)).collect();
                    }
                    _ => (item.looked, item.trouble) = (None, None),
                }
                changed = true;
            }
        }
        let mut came = Vec::new();
        for (drive, new) in arrived {
            let (bytes, sector) = (drive.geometry.size_bytes, drive.geometry.logical_sector);
            info!(key = drive.key(), path = %drive.identity.path.display(), bytes, sector, new, "a drive came");
            let job = ledger.as_ref().and_then(|ledger| ledger.last_job_of(&drive.key()).ok()).flatten();
            let ribbon = Ribbon { size: drive.geometry.size_bytes, ..Ribbon::default() };
            came.push(drive.clone());
            let item = Item {
                found: drive,
                since: Instant::now(),
                from_start: first,
                new,
                job,
                looked: None,
                ribbon,
                hazards: Vec::new(),
                trouble: None,
                checkup: None,
            };
            if first { items.push(item) } else { items.insert(0, item) }
        }
        drop(items);
        came.iter().for_each(|drive| self.check_up(bench, drive));
        if changed {
            self.generation.fetch_add(1, Ordering::SeqCst);
        }
    }

    fn look_at_new(&self, bench: &Bench) {
        let waiting: Vec<Found> =
            self.items().into_iter().filter(|item| item.looked.is_none() && item.trouble.is_none()).map(|item| item.found).collect();
        for found in waiting {
            let looked = bench.workshop.source(&found.identity.path).map(|source| Looked::at(&source));
            let job = bench.read_ledger().ok().flatten().and_then(|ledger| ledger.last_job_of(&found.key()).ok()).flatten();
            let unfinished = bench.unfinished_copy(&found.key()).map(|(_, hazard)| hazard);
            let mut items = self.items.lock().expect("shelf lock");
            let Some(item) = items.iter_mut().find(|item| *item.path() == found.identity.path) else { continue };
            item.job = job;
            match looked {
                Ok(looked) => {
                    item.ribbon = Ribbon::of(&looked, found.geometry.size_bytes);
                    item.hazards = hazard::of_drive(Some(&found), &looked);
                    if let Some(hazard) = unfinished {
                        if item.ribbon.parts.is_empty() {
                            item.ribbon.said = item.job.as_ref().map(|job| format!("unfinished copy of job {}", job.id)).unwrap_or_default();
                        }
                        item.hazards.insert(0, hazard);
                    }
                    item.looked = Some(Arc::new(looked));
                }
                Err(refusal) => {
                    item.ribbon = Ribbon { said: "not readable".into(), size: found.geometry.size_bytes, ..Ribbon::default() };
                    item.trouble = Some(refusal.text);
                }
            }
            drop(items);
            self.generation.fetch_add(1, Ordering::SeqCst);
        }
    }
}
