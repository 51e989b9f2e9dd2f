//! Opens whatever a technician names: a block device, a raw file, a simulated drive.

use crate::block::BlockDevice;
use crate::clock::{BenchClock, Clock, SimClock};
use crate::discover::{Found, Use};
use crate::ground::Ground;
use crate::health::{self, Health};
use crate::identity::Identity;
use crate::medium::{Geometry, Medium};
use crate::paths::real;
use crate::raw::RawFile;
use crate::refusal::Refusal;
use crate::sim::{self, SimDrive};
use crate::source::Source;
use crate::split::{self, SplitFile};
use crate::sysfs::Sysfs;
use crate::target::{Candidate, Kind};
use crate::witness::Witness;
use std::fs;
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

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
}

impl Default for Workshop {
    fn default() -> Self {
        Self { sysfs: Sysfs::default(), shelf: None, clock: BenchClock::new(), sim_clock: SimClock::new(), no_waiting: false }
    }
}

/// What a path is, before anything is opened.
enum Named {
    Block(Box<Found>),
    File,
    /// The first of several pieces.
    Split(PathBuf),
    Simulated,
}

/// Whether the system does not let this user read what lies there.
pub fn is_forbidden(path: &Path) -> bool {
    rustix::fs::access(path, rustix::fs::Access::READ_OK) == Err(rustix::io::Errno::ACCESS)
}

/// How to get the rights that are missing.
pub const RIGHTS: &str = "start with sudo, or join the group that owns it, often disk";

/// What can be done where the system does not allow something.
fn way(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::PermissionDenied => format!("; {RIGHTS}"),
        _ => String::new(),
    }
}

/// What is seen of raw bytes in files: where all of them are zero, nothing in them says how large their sectors are.
fn seen_raw(drive: &dyn Medium, sector: u32) -> (Geometry, Witness) {
    let mut geometry = drive.geometry();
    if drive.zero_run(0, geometry.size_bytes) == geometry.size_bytes {
        geometry.logical_sector = sector;
    }
    let mut seen = Witness::of(drive, &[]);
    seen.sector = geometry.logical_sector;
    (geometry, seen)
}

fn is_description(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name.to_string_lossy().ends_with(".drive.toml"))
}

impl Workshop {
    /// The drives on the bench now.
    pub fn drives(&self) -> Vec<Found> {
        let Some(shelf) = &self.shelf else { return self.sysfs.drives() };
        let mut paths: Vec<PathBuf> =
            fs::read_dir(shelf).into_iter().flatten().flatten().map(|entry| entry.path()).filter(|path| is_description(path)).collect();
        paths.sort();
        paths.iter().filter_map(|path| self.simulated(path)).collect()
    }

    fn simulated(&self, path: &Path) -> Option<Found> {
        let description = sim::describe(path).ok()?;
        let size_bytes = fs::metadata(&description.backing).ok()?.len();
        let part = &description.identity;
        let geometry = Geometry { size_bytes, logical_sector: part.logical_sector, physical_sector: part.physical_sector };
        Some(Found { identity: description.identity(path), geometry, uses: Vec::new(), system: false, numbers: None, sequence: None })
    }

    fn name(&self, path: &Path, role: &str) -> Result<Named, Refusal> {
        let shown = path.display();
        let missing = |error: std::io::Error| match error.kind() {
            std::io::ErrorKind::PermissionDenied => Refusal::new("not-readable", format!("{role} {shown}: {error}{}", way(&error))),
            _ => Refusal::new("not-found", format!("{role} {shown}: {error}; badger drives lists what is attached")),
        };
        let meta = fs::metadata(path).map_err(missing)?;
        let kind = meta.file_type();
        if kind.is_block_device() {
            let found = self.sysfs.drive_at(path).map(Box::new);
            return found.map(Named::Block).ok_or_else(|| Refusal::new("not-readable", format!("{role} {shown} has no size: is a medium in it?")));
        }
        if kind.is_dir() {
            return Err(Refusal::new("is-directory", format!("{role} {shown} is a directory, not a drive")));
        }
        if kind.is_fifo() || kind.is_socket() || kind.is_char_device() {
            return Err(Refusal::new("is-pipe", format!("{role} {shown} is a pipe or a character device: it has no sectors")));
        }
        if is_description(path) {
            return Ok(Named::Simulated);
        }
        if meta.len() == 0 {
            return Err(Refusal::new("empty", format!("{role} {shown} is an empty file")));
        }
        match split::place_of(path) {
            None => Ok(Named::File),
            Some((first, 1)) => Ok(Named::Split(first)),
            Some((first, number)) => {
                let text = format!("{role} {shown} is piece {number} of a drive in pieces, which is named by its first one, {}", first.display());
                Err(Refusal::new("part-of-split", text))
            }
        }
    }

    fn clock_of(&self, path: &Path) -> Result<Arc<dyn Clock>, Refusal> {
        let description = sim::describe(path).map_err(|error| Refusal::new("not-readable", format!("{}: {error}", path.display())))?;
        let waits = description.pace.is_some_and(|pace| pace.real) && !self.no_waiting;
        Ok(if waits { self.clock.clone() } else { self.sim_clock.clone() })
    }

    pub(crate) fn ground_of(&self, path: &Path) -> Ground {
        let backing = is_description(path).then(|| sim::describe(path).ok()).flatten().map(|description| description.backing);
        Ground::of(backing.as_deref().unwrap_or(path), &self.sysfs)
    }

    /// Opens a drive for reading only.
    ///
    /// # Errors
    /// A refusal with the reason: it does not exist, is a directory, a pipe, empty, not readable.
    pub fn source(&self, path: &Path) -> Result<Source, Refusal> {
        let unreadable =
            |error: std::io::Error| Refusal::new("not-readable", format!("source {} cannot be read: {error}{}", path.display(), way(&error)));
        // What it stands on is asked of what is open, not of the name.
        let ground = |file| Ground::of_open(file, &self.sysfs);
        let (medium, ground): (Arc<dyn Medium>, Ground) = match self.name(path, "source")? {
            Named::Block(found) => {
                let device = BlockDevice::open(&found).map_err(unreadable)?;
                if let Some(what) = device.differs(found.numbers) {
                    return Err(Refusal::new("not-readable", format!("source {} is not what it was a moment ago: {what}", path.display())));
                }
                let ground = ground(device.file());
                (Arc::new(device), ground)
            }
            Named::File => {
                let file = RawFile::open(path).map_err(unreadable)?;
                let ground = ground(file.file());
                (Arc::new(file), ground)
            }
            Named::Split(first) => {
                let drive = SplitFile::open(&first).map_err(unreadable)?;
                let ground = drive.files().map(ground).reduce(Ground::and).unwrap_or_default();
                (Arc::new(drive), ground)
            }
            Named::Simulated => {
                let drive = SimDrive::open(path, self.clock_of(path)?).map_err(unreadable)?;
                let ground = ground(drive.file());
                (Arc::new(drive), ground)
            }
        };
        Ok(Source::new(medium, ground))
    }

    /// Who uses a drive now; nobody uses files.
    pub fn found(&self, path: &Path) -> Option<Found> {
        if is_description(path) { self.simulated(path) } else { self.sysfs.drive_at(path) }
    }

    /// Asks a drive how it is. This may take some seconds, and reads no sectors.
    pub fn health(&self, found: &Found) -> Health {
        let path = &found.identity.path;
        if is_description(path) {
            let says = sim::describe(path).ok().and_then(|description| description.health);
            return says.map_or_else(|| Health::unknown("the sample drive says nothing of it"), |facts| Health::of(facts, "its description"));
        }
        if !self.sysfs.live() {
            return Health::unknown("it is not attached to this machine");
        }
        match fs::File::open(path) {
            Ok(device) => health::ask(&device, found.identity.bus),
            Err(error) => Health::unknown(&format!("it cannot be opened: {error}{}", way(&error))),
        }
    }

    /// Everything that uses these very bytes now, by whatever way: mounts, devices on top, swap space, other programs
    /// that write.
    pub fn uses(&self, ground: &Ground) -> Vec<Use> {
        [self.sysfs.users(ground), self.sysfs.writers(ground)].concat()
    }

    /// Looks at a drive as a possible target; nothing is opened for writing yet. With `new_size` a file that does
    /// not exist may be created at the release, `sector` being the size its sectors shall have.
    ///
    /// # Errors
    /// A refusal where the path is nothing that could be written to.
    pub fn candidate(&self, path: &Path, new_size: Option<u64>, sector: u32) -> Result<Candidate, Refusal> {
        if let Some(size) = new_size
            && fs::symlink_metadata(path).is_err()
        {
            if split::place_of(path).is_some() {
                let text = format!("target {} would become a piece of the drive in pieces beside it: take another name", path.display());
                return Err(Refusal::new("part-of-split", text));
            }
            return self.new_file(path, size, sector);
        }
        let named = self.name(path, "target")?;
        if let (Some(size), Named::File) = (new_size, &named) {
            let there = fs::metadata(path).map(|meta| meta.len()).unwrap_or(0);
            if there != size {
                return Err(Refusal::new("new-size-differs", format!("target {} is there already with {there} bytes, not {size}", path.display())));
            }
        } else if new_size.is_some() {
            return Err(Refusal::new("new-size-differs", format!("target {} is a drive: --new-size makes new files only", path.display())));
        }
        let (ground, place) = match &named {
            Named::Split(first) => {
                let grounds = split::pieces_of(first).into_iter().map(|piece| Ground::of(&piece, &self.sysfs));
                // Behind a link to a piece lie the others beside that piece, not beside the link.
                (grounds.reduce(Ground::and).unwrap_or_default(), real(first))
            }
            _ => (self.ground_of(path), real(path)),
        };
        let unusable = |error: std::io::Error| Refusal::new("target-unusable", format!("target {}: {error}{}", path.display(), way(&error)));
        let (kind, identity, geometry, uses, system, witness) = match named {
            Named::Block(found) => {
                let device = BlockDevice::open(&found).map_err(unusable)?;
                let seen = Witness::of(&device, &[]);
                (Kind::Block(found.clone()), found.identity, found.geometry, found.uses, found.system, seen)
            }
            Named::File => {
                let file = RawFile::open(path).map_err(unusable)?;
                let (geometry, seen) = seen_raw(&file, sector);
                (Kind::File, file.identity().clone(), geometry, Vec::new(), false, seen)
            }
            Named::Split(first) => {
                let drive = SplitFile::open(&first).map_err(unusable)?;
                let (geometry, seen) = seen_raw(&drive, sector);
                (Kind::Split, drive.identity().clone(), geometry, Vec::new(), false, seen)
            }
            Named::Simulated => {
                let drive = SimDrive::open(path, self.sim_clock.clone()).map_err(unusable)?;
                let (clock, seen) = (self.clock_of(path)?, Witness::of(&drive, &[]));
                (Kind::Simulated(clock), drive.identity().clone(), drive.geometry(), Vec::new(), false, seen)
            }
        };
        let mut uses = uses;
        for used in self.sysfs.users(&ground).into_iter().chain(self.sysfs.writers(&ground)) {
            if !uses.contains(&used) {
                uses.push(used);
            }
        }
        let system = system || self.sysfs.is_system(&ground);
        let sysfs = self.sysfs.clone();
        Ok(Candidate { kind, identity, geometry, path: place, ground, uses, system, witness: Some(witness), sysfs })
    }

    fn new_file(&self, path: &Path, size: u64, sector: u32) -> Result<Candidate, Refusal> {
        if size == 0 {
            return Err(Refusal::new("new-size-differs", "a new target of 0 bytes holds nothing"));
        }
        let dir = path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
        if !dir.is_dir() {
            return Err(Refusal::new("not-found", format!("target {}: there is no directory {}", path.display(), dir.display())));
        }
        // The file itself is not there yet; what it will stand on is.
        let ground = Ground::of_new_file(dir, &self.sysfs);
        let geometry = Geometry { size_bytes: size, logical_sector: sector, physical_sector: 4096 };
        let (sysfs, identity, path) = (self.sysfs.clone(), Identity::of_file(path), real(path));
        Ok(Candidate { kind: Kind::NewFile, identity, geometry, path, ground, uses: Vec::new(), system: false, witness: None, sysfs })
    }
}
