//! The one place that makes something writable.
//!
//! A [`Candidate`] is a drive somebody thinks of writing to. It knows every reason to refuse; only when there is none
//! and the tail was typed does [`Candidate::release`] open it for writing and hand out a [`Target`].

use crate::block::BlockDevice;
use crate::clock::Clock;
use crate::discover::{Found, Use};
use crate::ground::Ground;
use crate::identity::Identity;
use crate::medium::{Geometry, Medium, ReadError, Source, WriteMedium};
use crate::raw::RawFile;
use crate::sim::SimDrive;
use crate::size;
use rustix::fs::FlockOperation;
use std::fs::{self, File, OpenOptions};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

/// A reason why nothing is written. `code` is stable.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error, serde::Serialize)]
#[error("{text}")]
pub struct Refusal {
    /// Short stable name, such as `wrong-tail`.
    pub code: &'static str,
    /// What happened, where, and what to do next.
    pub text: String,
}

impl Refusal {
    /// A refusal.
    pub fn new(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, text: text.into() }
    }
}

pub(crate) enum Kind {
    Block(Box<Found>),
    File,
    NewFile,
    Simulated(Arc<dyn Clock>),
}

/// A drive that might be written to.
pub struct Candidate {
    pub(crate) kind: Kind,
    pub(crate) identity: Identity,
    pub(crate) geometry: Geometry,
    pub(crate) ground: Ground,
    pub(crate) uses: Vec<Use>,
    pub(crate) system: bool,
}

impl Candidate {
    /// Who it is.
    pub fn identity(&self) -> &Identity {
        &self.identity
    }

    /// Its size and sectors.
    pub fn geometry(&self) -> Geometry {
        self.geometry
    }

    /// What must be typed to release it.
    pub fn tail(&self) -> String {
        self.identity.tail()
    }

    /// What it stands on.
    pub fn ground(&self) -> &Ground {
        &self.ground
    }

    /// Whether it is a file that does not exist yet, and so holds nothing that could be lost.
    pub fn is_new(&self) -> bool {
        matches!(self.kind, Kind::NewFile)
    }

    /// The stable key of the drive, see [`Identity::key`].
    pub fn key(&self) -> String {
        self.identity.key(self.geometry.size_bytes)
    }

    /// Every reason not to write `needed` bytes from `source` here, the gravest first. Whether another run has
    /// claimed the drive shows only at the release.
    pub fn stops(&self, source: &Source, needed: u64) -> Vec<Refusal> {
        let mut stops = Vec::new();
        let name = self.identity.path.display();
        if self.system {
            stops.push(Refusal::new("system-drive", format!("{name} carries the system this machine runs from; it is never a target")));
        }
        if self.ground.same_as(source.ground()) {
            stops.push(Refusal::new("same-drive", format!("source and target are the same drive ({name})")));
        } else if source.ground().rests_on(&self.ground) {
            stops.push(Refusal::new("source-on-target", format!("the source lies on {name}; writing there would destroy it")));
        } else if self.ground.rests_on(source.ground()) {
            stops.push(Refusal::new("target-on-source", format!("{name} lies on the source; a source is never written to: choose another place")));
        }
        for used in &self.uses {
            let code = if matches!(used, Use::Mounted(_)) { "target-mounted" } else { "target-held" };
            stops.push(Refusal::new(code, format!("{name} is {used}: release it there first")));
        }
        if self.identity.read_only {
            stops.push(Refusal::new(
                "target-read-only",
                format!("{name} refuses writes: its lock switch, its permissions or its box is set to read-only"),
            ));
        }
        if self.geometry.size_bytes < needed {
            let missing = needed - self.geometry.size_bytes;
            stops.push(Refusal::new(
                "target-too-small",
                format!(
                    "{name} has {}, {} needed: {} bytes short; take a larger drive",
                    size::human(self.geometry.size_bytes),
                    size::human(needed),
                    size::thousands(missing)
                ),
            ));
        }
        stops
    }

    /// Opens the drive for writing, if nothing speaks against it and `tail` is its tail. A new file is created here
    /// and nowhere earlier.
    ///
    /// # Errors
    /// The first reason to refuse; then nothing was opened, created or written.
    pub fn release(self, source: &Source, needed: u64, tail: &str) -> Result<Target, Refusal> {
        if let Some(stop) = self.stops(source, needed).into_iter().next() {
            return Err(stop);
        }
        if !self.identity.tail_matches(tail) {
            let text = if tail.trim().is_empty() {
                format!("{} is released by its tail, the last four of its serial or name: {}", self.identity.path.display(), self.tail())
            } else {
                format!("\"{}\" is not the tail of {}: look at the drive again", tail.trim(), self.identity.path.display())
            };
            return Err(Refusal::new(if tail.trim().is_empty() { "no-tail" } else { "wrong-tail" }, text));
        }
        self.open()
    }

    fn open(self) -> Result<Target, Refusal> {
        let path = self.identity.path.clone();
        let created = matches!(self.kind, Kind::NewFile);
        let denied = |error: std::io::Error| match error.raw_os_error() {
            Some(libc::EBUSY) => Refusal::new("target-held", format!("{} is in use: the system does not let it go", path.display())),
            Some(libc::EROFS | libc::EACCES | libc::EPERM) => {
                Refusal::new("target-read-only", format!("{} cannot be opened for writing: {error}", path.display()))
            }
            _ => Refusal::new("target-unusable", format!("{} cannot be opened for writing: {error}", path.display())),
        };
        if created {
            create(&path, self.geometry.size_bytes).map_err(denied)?;
        }
        let medium: Arc<dyn WriteMedium> = match self.kind {
            Kind::Block(found) => {
                let device = BlockDevice::open_for_writing(&found).map_err(denied)?;
                claim(device.file(), &path)?;
                Arc::new(device)
            }
            Kind::File | Kind::NewFile => {
                let sectors = self.geometry;
                let file = RawFile::open_for_writing(&path).map_err(denied)?;
                claim(file.file(), &path)?;
                Arc::new(file.with_sectors(sectors.logical_sector, sectors.physical_sector))
            }
            Kind::Simulated(clock) => {
                let drive = SimDrive::open_for_writing(&path, clock).map_err(denied)?;
                claim(drive.file(), &path)?;
                Arc::new(drive)
            }
        };
        if medium.geometry().size_bytes != self.geometry.size_bytes {
            return Err(Refusal::new("target-changed", format!("{} has another size than a moment ago: look at it again", path.display())));
        }
        Ok(Target { medium })
    }
}

fn create(path: &Path, size: u64) -> std::io::Result<()> {
    let file = OpenOptions::new().write(true).create_new(true).open(path)?;
    if let Err(error) = file.set_len(size) {
        let _ = fs::remove_file(path);
        return Err(error);
    }
    file.sync_all()
}

/// Takes the drive for this run alone; the claim ends with the process, however it ends.
fn claim(file: &File, path: &Path) -> Result<(), Refusal> {
    // A program that is just being started by another thread holds what this one has open for a moment.
    let claimed = (0..CLAIMS).any(|turn| {
        std::thread::sleep(if turn == 0 { Duration::ZERO } else { CLAIM_AGAIN });
        rustix::fs::flock(file, FlockOperation::NonBlockingLockExclusive).is_ok()
    });
    let taken = || Refusal::new("target-claimed", format!("{} is the target of another run of this program right now", path.display()));
    claimed.then_some(()).ok_or_else(taken)
}

/// A claim is tried so many times, and so long after the last time.
const CLAIMS: u32 = 20;
const CLAIM_AGAIN: Duration = Duration::from_millis(25);

/// A drive that may be written to. It exists only after [`Candidate::release`].
#[derive(Clone)]
pub struct Target {
    medium: Arc<dyn WriteMedium>,
}

impl Target {
    /// A target over something that is no drive anybody could lose: memory, for tests of engines.
    #[cfg(feature = "rehearse")]
    pub fn rehearse(medium: Arc<dyn WriteMedium>) -> Self {
        Self { medium }
    }
}

impl Target {
    /// The same drive for reading, for whoever must not write.
    pub fn as_source(&self) -> Source {
        Source::detached(Arc::new(Reading(self.medium.clone())))
    }
}

/// A target that is only read.
struct Reading(Arc<dyn WriteMedium>);

impl Medium for Reading {
    fn geometry(&self) -> Geometry {
        self.0.geometry()
    }
    fn identity(&self) -> &Identity {
        self.0.identity()
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        self.0.read_at(offset, buf)
    }
    fn zero_run(&self, offset: u64, max: u64) -> u64 {
        self.0.zero_run(offset, max)
    }
    fn present(&self) -> bool {
        self.0.present()
    }
    fn clock(&self) -> Option<Arc<dyn Clock>> {
        self.0.clock()
    }
}

impl std::ops::Deref for Target {
    type Target = dyn WriteMedium;
    fn deref(&self) -> &Self::Target {
        &*self.medium
    }
}
