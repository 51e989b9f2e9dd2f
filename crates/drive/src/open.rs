//! Opens whatever a technician names: a block device, a raw file, a simulated drive.

use crate::clock::{BenchClock, SimClock};
use crate::discover::{Found, Use};
use crate::ground::Ground;
use crate::health::Health;
use crate::kinds::{Around, Asked, KINDS, Kind, Named, Seen, is_description, way};
use crate::medium::Medium;
use crate::own::{self, OwnFile, OwnKind, RunDrive};
use crate::refusal::Refusal;
use crate::source::Source;
use crate::sysfs::Sysfs;
use crate::target::Candidate;
use std::fs;
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

pub use crate::kinds::RIGHTS;

/// Where drives are found and by which clocks they live.
#[derive(Clone)]
pub struct Workshop {
    /// The kernel's trees.
    pub sysfs: Sysfs,
    /// A directory of simulated drives that are on the bench instead of this machine's own, for the sample workshop.
    pub shelf: Option<PathBuf>,
    /// The clock of real drives and of simulated ones at their real pace.
    pub clock: Arc<BenchClock>,
    /// The clock of simulated drives that take no time.
    pub sim_clock: Arc<SimClock>,
    /// Lets every simulated drive live by the simulated clock, whatever its description says.
    pub no_waiting: bool,
    /// What opens locked images.
    pub passphrase: Option<String>,
    /// A file with the certificates (PEM) by which lenders are known.
    pub trusted: Option<PathBuf>,
    /// The format that the technician says files have, where their names and contents disagree.
    pub as_format: Option<String>,
    /// Kinds of drives that rooms above know; they are asked first.
    pub more: &'static [&'static dyn Kind],
    /// What this program writes whatever it is asked to do: log, temporary files, standard output.
    pub own: Vec<OwnFile>,
    /// Set as soon as a drive is read on which the log lies: then nothing more is written to it.
    pub no_log: Arc<AtomicBool>,
    /// The technician knows that destinations below which the system sees nothing are not on the source.
    pub trust_destination: bool,
}

impl Default for Workshop {
    fn default() -> Self {
        Self {
            sysfs: Sysfs::default(),
            shelf: None,
            clock: BenchClock::new(),
            sim_clock: SimClock::new(),
            no_waiting: false,
            passphrase: None,
            trusted: None,
            as_format: None,
            more: &[],
            own: Vec::new(),
            no_log: Arc::default(),
            trust_destination: false,
        }
    }
}

/// Whether the system does not let this user read what lies there.
pub fn is_forbidden(path: &Path) -> bool {
    rustix::fs::access(path, rustix::fs::Access::READ_OK) == Err(rustix::io::Errno::ACCESS)
}

impl Workshop {
    /// The drives on the bench now.
    pub fn drives(&self) -> Vec<Found> {
        let Some(shelf) = &self.shelf else { return self.sysfs.drives() };
        let mut paths: Vec<PathBuf> =
            fs::read_dir(shelf).into_iter().flatten().flatten().map(|entry| entry.path()).filter(|path| is_description(path)).collect();
        paths.sort();
        paths.iter().filter_map(|path| self.found(path)).collect()
    }

    fn kinds(&self) -> impl Iterator<Item = &'static dyn Kind> {
        self.more.iter().chain(KINDS.iter()).copied()
    }

    fn around(&self) -> Around<'_> {
        Around {
            sysfs: &self.sysfs,
            clock: &self.clock,
            sim_clock: &self.sim_clock,
            no_waiting: self.no_waiting,
            passphrase: self.passphrase.as_deref(),
            trusted: self.trusted.as_deref(),
            as_format: self.as_format.as_deref(),
        }
    }

    /// What a path names, before anything is opened.
    fn name(&self, path: &Path, role: &str) -> Result<Box<dyn Named>, Refusal> {
        let (shown, around) = (path.display(), self.around());
        for kind in self.kinds() {
            if let Some(named) = kind.named(path, role, &around)? {
                return Ok(named);
            }
        }
        let missing = |error: std::io::Error| match error.kind() {
            std::io::ErrorKind::PermissionDenied => Refusal::new("not-readable", format!("{role} {shown}: {error}{}", way(&error))),
            _ => Refusal::new("not-found", format!("{role} {shown}: {error}; badger drives lists what is attached")),
        };
        let meta = fs::metadata(path).map_err(missing)?;
        let kind = meta.file_type();
        if kind.is_dir() {
            return Err(Refusal::new("is-directory", format!("{role} {shown} is a directory, not a drive")));
        }
        if kind.is_fifo() || kind.is_socket() || kind.is_char_device() {
            return Err(Refusal::new("is-pipe", format!("{role} {shown} is a pipe or a character device: it has no sectors")));
        }
        if kind.is_file() && meta.len() == 0 && !is_description(path) {
            return Err(Refusal::new("empty", format!("{role} {shown} is an empty file")));
        }
        let asked = Asked { path, role, meta: &meta };
        for kind in self.kinds() {
            if let Some(named) = kind.probe(&asked, &around)? {
                return Ok(named);
            }
        }
        Err(Refusal::new("not-readable", format!("{role} {shown} is nothing that has sectors")))
    }

    #[cfg(test)]
    pub(crate) fn ground_of(&self, path: &Path) -> Ground {
        self.name(path, "drive").map_or_else(|_| Ground::of(path, &self.sysfs), |named| named.ground(&self.sysfs))
    }

    /// Opens a drive for reading only.
    ///
    /// # Errors
    /// A refusal with the reason: it does not exist, is a directory, a pipe, empty, not readable.
    pub fn source(&self, path: &Path) -> Result<Source, Refusal> {
        let unreadable =
            |error: std::io::Error| Refusal::new("not-readable", format!("source {} cannot be read: {error}{}", path.display(), way(&error)));
        let medium = self.name(path, "source")?.open().map_err(unreadable)?;
        let source = self.over(medium);
        self.keep_output_off(&source)?;
        Ok(source)
    }

    /// A drive is not even looked at with its own files as the place of what is said of it. To the disk under this machine's system
    /// everybody writes all the time; runs are stricter, see [`Workshop::keep_off`].
    fn keep_output_off(&self, source: &Source) -> Result<(), Refusal> {
        let off = |kind: OwnKind| {
            let files = self.own.iter().filter(|file| file.kind == kind);
            own::keep_off(files, &[RunDrive::source(source)], &self.sysfs, self.trust_destination)
        };
        if off(OwnKind::Log).is_err() {
            self.no_log.store(true, Ordering::Relaxed);
        }
        if self.sysfs.is_system(source.ground()) { Ok(()) } else { off(OwnKind::Output) }
    }

    /// Refuses a run where a file of ours lies on one of its drives: what the program always writes, and `more`.
    ///
    /// # Errors
    /// See [`own::keep_off`].
    pub fn keep_off(&self, more: &[OwnFile], sides: &[RunDrive]) -> Result<(), Refusal> {
        own::keep_off(self.own.iter().chain(more), sides, &self.sysfs, self.trust_destination)
    }

    /// A source over what is open already: what it stands on is asked of that, not of a name.
    pub fn over(&self, medium: Arc<dyn Medium>) -> Source {
        let ground = Ground::of_medium(&*medium, &self.sysfs);
        Source::new(medium, ground)
    }

    /// Who uses a drive now; nobody uses files.
    pub fn found(&self, path: &Path) -> Option<Found> {
        self.kinds().find_map(|kind| kind.describe(path, &self.around()))
    }

    /// Asks a drive how it is. This may take some seconds, and reads no sectors.
    pub fn health(&self, found: &Found) -> Health {
        self.kinds().find_map(|kind| kind.health(found, &self.around())).unwrap_or_else(|| Health::unknown("nothing asks such a drive"))
    }

    /// Everything that uses these very bytes now, by whatever way: mounts, devices on top, swap space, other programs
    /// that write.
    pub fn uses(&self, ground: &Ground) -> Vec<Use> {
        [self.sysfs.users(ground), self.sysfs.writers(ground)].concat()
    }

    /// A drive that is to be made at the release.
    fn new_drive(&self, path: &Path, size: u64) -> Result<Box<dyn Named>, Refusal> {
        if size == 0 {
            return Err(Refusal::new("new-size-differs", "a new target of 0 bytes holds nothing"));
        }
        for kind in self.kinds() {
            if let Some(named) = kind.create(path, size)? {
                return Ok(named);
            }
        }
        Err(Refusal::new("target-unusable", format!("target {}: nothing can be made there", path.display())))
    }

    /// Looks at a drive as a possible target; nothing is opened for writing yet. With `new_size` a file that does
    /// not exist may be created at the release, `sector` being the size its sectors shall have.
    ///
    /// # Errors
    /// A refusal where the path is nothing that could be written to.
    pub fn candidate(&self, path: &Path, new_size: Option<u64>, sector: u32) -> Result<Candidate, Refusal> {
        let named = match new_size.filter(|_| fs::symlink_metadata(path).is_err()) {
            Some(size) => self.new_drive(path, size)?,
            None => self.name(path, "target")?,
        };
        if let Some(size) = new_size.filter(|size| !named.is_new() && named.sized() != Some(*size)) {
            let what = named.sized().map_or_else(
                || "is a drive: --new-size makes new files only".to_string(),
                |there| format!("is there already with {there} bytes, not {size}"),
            );
            return Err(Refusal::new("new-size-differs", format!("target {} {what}", path.display())));
        }
        let unusable = |error: std::io::Error| match error.kind() {
            std::io::ErrorKind::NotFound if named.is_new() => Refusal::new("not-found", format!("target {}: {error}", path.display())),
            _ => Refusal::new("target-unusable", format!("target {}: {error}{}", path.display(), way(&error))),
        };
        let ground = named.ground(&self.sysfs);
        let Seen { identity, geometry, mut uses, system, witness } = named.look(sector).map_err(unusable)?;
        if named.is_new() {
            let trusted = self.trust_destination;
            return Ok(Candidate { named, identity, geometry, ground, uses, system, witness, sysfs: self.sysfs.clone(), trusted });
        }
        for used in self.sysfs.users(&ground).into_iter().chain(self.sysfs.writers(&ground)) {
            if !uses.contains(&used) {
                uses.push(used);
            }
        }
        let system = system || self.sysfs.is_system(&ground);
        let sysfs = self.sysfs.clone();
        Ok(Candidate { named, identity, geometry, ground, uses, system, witness, sysfs, trusted: self.trust_destination })
    }
}
