//! The one place that makes something writable.
//!
//! A [`Candidate`] is a drive somebody thinks of writing to. It knows every reason to refuse; only when there is none
//! and the tail was typed does [`Candidate::release`] open it for writing and hand out a [`Target`].

use crate::claims::{AGAIN, Claim, TRIES};
use crate::clock::Clock;
use crate::discover::Use;
use crate::flight::Flight;
use crate::ground::{Ground, Meeting};
use crate::identity::Identity;
use crate::kinds::{Named, NotOpened, Shown, Written};
use crate::medium::{Geometry, Medium, ReadError, Stretch, WriteMedium};
use crate::own::{self, RunDrive};
use crate::patience::Patience;
use crate::refusal::Refusal;
use crate::release::Release;
use crate::source::Source;
use crate::standing::Standing;
use crate::sysfs::Sysfs;
use crate::witness::Witness;
use crate::{size, tripwire};
use rustix::fs::FlockOperation;
use std::fs::File;
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// A drive that might be written to.
pub struct Candidate {
    pub(crate) named: Box<dyn Named>,
    pub(crate) identity: Identity,
    pub(crate) geometry: Geometry,
    pub(crate) ground: Ground,
    pub(crate) uses: Vec<Use>,
    pub(crate) system: bool,
    /// What was seen of it; `None` for a file that is not there yet.
    pub(crate) witness: Option<Witness>,
    pub(crate) sysfs: Sysfs,
    /// See [`crate::Workshop::trust_destination`].
    pub(crate) trusted: bool,
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

    /// The same for a run that must keep its own files off it.
    pub fn in_run(&self) -> RunDrive<'_> {
        RunDrive::target(&self.ground, &self.identity.path)
    }

    /// What was seen of it; `None` for a file that is not there yet.
    pub fn witness(&self) -> Option<&Witness> {
        self.witness.as_ref()
    }

    /// Whether it is a file that does not exist yet, and so holds nothing that could be lost.
    pub fn is_new(&self) -> bool {
        self.named.is_new()
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
        stops.extend(self.common_ground(&self.ground, source));
        for used in &self.uses {
            stops.push(self.in_use(used));
        }
        if self.identity.read_only {
            stops.push(Refusal::new(
                "target-read-only",
                format!("{name} refuses writes: its lock switch, its permissions or its box is set to read-only; take that off, or run as a user who may write"),
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

    fn in_use(&self, used: &Use) -> Refusal {
        let code = match used {
            Use::Mounted(_) => "target-mounted",
            // Another run of this very program.
            Use::Written(by) if by.starts_with(&own_name()) => "target-claimed",
            Use::Written(_) => "target-written",
            Use::Swap(_) | Use::Held(_) => "target-held",
        };
        Refusal::new(code, format!("{} is {used}: release it there first", self.identity.path.display()))
    }

    fn common_ground(&self, ground: &Ground, source: &Source) -> Option<Refusal> {
        let name = self.identity.path.display();
        Some(match source.ground().meets(ground)? {
            Meeting::Same => Refusal::new("same-drive", format!("source and target are the same drive ({name})")),
            Meeting::SourceOnTarget => Refusal::new("source-on-target", format!("the source lies on {name}; writing there would destroy it")),
            Meeting::TargetOnSource => {
                Refusal::new("target-on-source", format!("{name} lies on the source; a source is never written to: choose another place"))
            }
            Meeting::Shared => Refusal::new(
                "same-storage",
                format!("{name} and the source are two ways to the same bytes: writing to one would destroy the other; choose another place"),
            ),
        })
    }

    /// Opens the drive for writing, if nothing speaks against it and `tail` is its tail. A new file is created here
    /// and nowhere earlier. What was shown is compared again on the opened drive itself.
    ///
    /// # Errors
    /// The first reason to refuse; then nothing is written, or, where the trip-wire told, what was written is taken
    /// back.
    pub fn release(self, release: &Release) -> Result<Target, Refusal> {
        if let Some(stop) = self.stops(release.source, release.needed).into_iter().next() {
            return Err(stop);
        }
        if !self.identity.tail_matches(release.tail) {
            let typed = release.tail.trim();
            let name = self.identity.path.display();
            let text = if typed.is_empty() {
                format!("{name} is released by its tail, the last four of its serial or name: {}", self.tail())
            } else {
                format!("\"{typed}\" is not the tail of {name}: look at the drive again")
            };
            return Err(Refusal::new(if typed.is_empty() { "no-tail" } else { "wrong-tail" }, text));
        }
        self.open(release)
    }

    /// Opens the drive to set right a little of what is on it: by the same rules, with nothing that is copied onto it.
    ///
    /// # Errors
    /// As [`Candidate::release`].
    pub fn release_to_mend(self, tail: &str) -> Result<Target, Refusal> {
        let nothing = crate::release::nothing();
        self.release(&Release::new(&nothing, 0, tail))
    }

    fn changed(&self, what: impl std::fmt::Display) -> Refusal {
        Refusal::new("target-changed", format!("{} is not what was shown: {what}; look at it again", self.identity.path.display()))
    }

    fn open(self, release: &Release) -> Result<Target, Refusal> {
        let shown = self.identity.path.clone();
        let denied = |error: std::io::Error| match error.raw_os_error() {
            Some(libc::EBUSY) => Refusal::new("target-held", format!("{} is in use: the system does not let it go", shown.display())),
            Some(libc::EROFS | libc::EACCES | libc::EPERM) => {
                let text = format!("{} cannot be opened for writing: {error}; run as root, or as a user who may write there", shown.display());
                Refusal::new("target-read-only", text)
            }
            Some(libc::ELOOP) => {
                Refusal::new("target-changed", format!("{} has become a link since it was shown: look at it again", shown.display()))
            }
            _ => Refusal::new("target-unusable", format!("{} cannot be opened for writing: {error}", shown.display())),
        };
        let opened = self.named.open_for_writing(&Shown { identity: &self.identity, geometry: self.geometry }, &self.sysfs);
        let written = opened.map_err(|why| match why {
            NotOpened::Io(error) => denied(error),
            NotOpened::Changed(what) => self.changed(what),
        })?;
        // A target that was made here and is refused after all goes again.
        let made = self.is_new().then(|| (self.named.path(), written.medium.standing().node));
        let target = self.claimed(written, release);
        if let (Err(_), Some((path, node))) = (&target, made) {
            // Only that very file: another one may have come into its place.
            if node.is_some() && std::fs::symlink_metadata(path).map(|meta| (meta.dev(), meta.ino())).ok() == node {
                let _ = std::fs::remove_file(path);
            }
        }
        target
    }

    /// Claims what is open, all the files it lies in, and compares it with what was shown.
    fn claimed(&self, Written { medium, names }: Written, release: &Release) -> Result<Target, Refusal> {
        let files = medium.rests_on();
        let name = self.identity.path.display();
        let taken = || Refusal::new("target-claimed", format!("{name} is the target of another run of this program, or read by one, right now"));
        files.iter().all(|file| lock(file)).then_some(()).ok_or_else(taken)?;
        let ground = Ground::of_medium(&*medium, &self.sysfs);
        let claim =
            Claim::take(&ground, true).map_err(|error| Refusal::new("no-claim", format!("{name} cannot be claimed for this run: {error}")))?;
        let claim = claim.ok_or_else(taken)?;
        if self.sysfs.is_system(&ground) {
            return Err(self.changed("the system this machine runs from lies there"));
        }
        if let Some(refusal) = self.common_ground(&ground, release.source) {
            return Err(refusal);
        }
        let users = self.sysfs.users(&ground).into_iter().chain(self.sysfs.writers(&ground));
        if let Some(used) = users.into_iter().find(|used| !self.is_new() || !matches!(used, Use::Mounted(_))) {
            return Err(self.in_use(&used));
        }
        if medium.geometry().size_bytes != self.geometry.size_bytes {
            return Err(self.changed("it has another size than a moment ago"));
        }
        if let Some(witness) = &self.witness {
            witness.holds_still(&*medium).map_err(|what| self.changed(what))?;
        }
        let target = Target {
            standing: medium.standing(),
            medium: medium.clone(),
            path: self.named.path().to_path_buf(),
            names,
            claim: Some(Arc::new(claim)),
        };
        if self.is_new() && !self.trusted {
            let dir = self.named.path().parent().unwrap_or(Path::new("/"));
            own::refuse_hidden(dir, &ground, release.source)?;
        } else if !self.is_new() {
            let either = |names: fn(&Ground) -> &Vec<String>| !names(&ground).is_empty() || !names(release.source.ground()).is_empty();
            let (veiled, hidden) = (either(|ground| &ground.veils), either(|ground| &ground.hidden));
            let layers = tripwire::Layers { veiled, hidden, trusted: self.trusted };
            tripwire::lay(&*target, release, layers).map_err(|refusal| Refusal { text: format!("{name}: {}", refusal.text), ..refusal })?;
        }
        Ok(target)
    }
}

/// How the system calls this program.
fn own_name() -> String {
    std::fs::read_to_string("/proc/self/comm").map_or_else(|_| "badger".into(), |name| format!("{} (", name.trim()))
}

/// Takes the drive for this run alone; the claim ends with the process, however it ends.
fn lock(file: &File) -> bool {
    (0..TRIES).any(|turn| {
        std::thread::sleep(if turn == 0 { Duration::ZERO } else { AGAIN });
        rustix::fs::flock(file, FlockOperation::NonBlockingLockExclusive).is_ok()
    })
}

/// A drive that may be written to. It exists only after [`Candidate::release`].
#[derive(Clone)]
pub struct Target {
    medium: Arc<dyn WriteMedium>,
    path: PathBuf,
    standing: Standing,
    /// The pieces of a drive in pieces, and which files they are.
    names: Vec<(PathBuf, Option<(u64, u64)>)>,
    #[expect(dead_code, reason = "held as long as the target")]
    claim: Option<Arc<Claim>>,
}

impl Target {
    /// A target over something that is no drive anybody could lose: memory, for tests of engines.
    #[cfg(feature = "rehearse")]
    pub fn rehearse(medium: Arc<dyn WriteMedium>) -> Self {
        Self { standing: medium.standing(), path: PathBuf::new(), names: Vec::new(), medium, claim: None }
    }
}

impl Target {
    /// Whether what was written to is still what has the target's name: a file that was unlinked, a medium that was
    /// changed, hold the copy, but nobody will find it there.
    ///
    /// # Errors
    /// What became of it, in words.
    pub fn is_still_there(&self) -> Result<(), String> {
        if self.path.as_os_str().is_empty() {
            return Ok(());
        }
        if self.medium.veil().is_some() && self.medium.rests_on().is_empty() {
            // Nothing of this machine has its name: whoever lends it answers, or does not.
            return if self.medium.present() { Ok(()) } else { Err("it does not answer any more".into()) };
        }
        for (path, node) in &self.names {
            let there = std::fs::symlink_metadata(path).map(|meta| (meta.dev(), meta.ino())).ok();
            if there != *node {
                return Err(format!("another file, or none, has the name of its piece {} now", path.display()));
            }
        }
        let now = self.medium.standing();
        if now.sequence != self.standing.sequence {
            return Err("the medium in it was changed".into());
        }
        let meta = std::fs::symlink_metadata(&self.path).map_err(|_| "its name is gone".to_string())?;
        // A simulated drive is named by its description, not by the file that holds its bytes.
        if meta.is_file() && self.medium.clock().is_none() && Some((meta.dev(), meta.ino())) != self.standing.node {
            return Err("another file has its name now".into());
        }
        if meta.file_type().is_symlink() {
            return Err("its name is a link now".into());
        }
        Ok(())
    }

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
    fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> Result<(), ReadError> {
        self.0.read_within(offset, buf, patience)
    }
    fn flight(&self, depth: u32, patience: &Patience) -> Option<Box<dyn Flight + '_>> {
        self.0.flight(depth, patience)
    }
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        self.0.stretch(offset, max)
    }
    fn veil(&self) -> Option<String> {
        self.0.veil()
    }
    fn peer(&self) -> Option<OwnedFd> {
        self.0.peer()
    }
    fn present(&self) -> bool {
        self.0.present()
    }
    fn standing(&self) -> Standing {
        self.0.standing()
    }
    fn rests_on(&self) -> Vec<&File> {
        self.0.rests_on()
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
