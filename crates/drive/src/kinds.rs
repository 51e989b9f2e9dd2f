//! What a drive can be. Each kind recognises, opens, describes and makes its own, in one entry of [`KINDS`], or of what a workshop knows
//! besides; nothing else in this crate tells them apart.

use crate::block::BlockDevice;
use crate::clock::{BenchClock, Clock, SimClock};
use crate::discover::{Found, Use};
use crate::ground::Ground;
use crate::health::{self, Health};
use crate::identity::Identity;
use crate::medium::{Geometry, Medium, WriteMedium};
use crate::paths::real;
use crate::raw::RawFile;
use crate::refusal::Refusal;
use crate::sim::{self, SimDrive};
use crate::split::{self, SplitFile};
use crate::sysfs::Sysfs;
use crate::witness::Witness;
use std::fs::{self, Metadata};
use std::io;
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What drives are opened in.
#[derive(Clone, Copy)]
pub struct Around<'a> {
    /// The kernel's trees.
    pub sysfs: &'a Sysfs,
    /// The clock of real drives.
    pub clock: &'a Arc<BenchClock>,
    /// The clock of simulated ones that take no time.
    pub sim_clock: &'a Arc<SimClock>,
    /// No simulated drive lives by the real clock.
    pub no_waiting: bool,
    /// What opens locked images.
    pub passphrase: Option<&'a str>,
    /// A file with the certificates (PEM) by which lenders are known.
    pub trusted: Option<&'a Path>,
    /// The format that the technician says files have, in small letters, where their names and contents disagree.
    pub as_format: Option<&'a str>,
}

/// A path that somebody named and that is there; `role` says as what.
pub struct Asked<'a> {
    /// As it was named.
    pub path: &'a Path,
    /// As what: a source, a target, a drive.
    pub role: &'a str,
    /// What the system says of it.
    pub meta: &'a Metadata,
}

/// One kind of drive.
pub trait Kind: Sync {
    /// The drive of this kind that a name leads to which is no path of this machine.
    ///
    /// # Errors
    /// A refusal where the name is of this kind and leads nowhere.
    fn named(&self, _name: &Path, _role: &str, _around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        Ok(None)
    }

    /// The drive that a path names, where it is of this kind.
    ///
    /// # Errors
    /// A refusal where it is of this kind and cannot be used.
    fn probe(&self, asked: &Asked, around: &Around) -> Result<Option<Box<dyn Named>>, Refusal>;

    /// The drive at a path, described without being opened.
    fn describe(&self, _path: &Path, _around: &Around) -> Option<Found> {
        None
    }

    /// How a drive at a path is, where it is of this kind. This may take some seconds.
    fn health(&self, _found: &Found, _around: &Around) -> Option<Health> {
        None
    }

    /// A drive of `size` bytes that is not there yet; a refusal where its name belongs to another one.
    ///
    /// # Errors
    /// Why nothing can be made there.
    fn create(&self, _path: &Path, _size: u64) -> Result<Option<Box<dyn Named>>, Refusal> {
        Ok(None)
    }
}

/// All of them; the first that knows a path has it.
pub(crate) static KINDS: [&dyn Kind; 4] = [&Blocks, &Simulations, &Splits, &Files];

/// A drive that is named and not open.
pub trait Named: Send + Sync {
    /// Where it is, links resolved when it was named: that is what will be opened for writing.
    fn path(&self) -> &Path;

    /// What it stands on, by its names.
    fn ground(&self, sysfs: &Sysfs) -> Ground;

    /// Opens it for reading only.
    ///
    /// # Errors
    /// What the system says, or what is wrong with it.
    fn open(&self) -> io::Result<Arc<dyn Medium>>;

    /// Looks at it as something that might be written to, in sectors of `sector` bytes where nothing in it tells.
    ///
    /// # Errors
    /// Why it cannot be written to.
    fn look(&self, sector: u32) -> io::Result<Seen>;

    /// Opens it for writing, and makes it where it is not there yet. It is called as it was shown.
    ///
    /// # Errors
    /// See [`NotOpened`].
    fn open_for_writing(&self, shown: &Shown, sysfs: &Sysfs) -> Result<Written, NotOpened>;

    /// Whether it is not there yet.
    fn is_new(&self) -> bool {
        false
    }

    /// Whether it is a single file that may be made with a size, and how many bytes that has now.
    fn sized(&self) -> Option<u64> {
        None
    }
}

/// What was seen of a drive that might be written to.
pub struct Seen {
    /// Who it is.
    pub identity: Identity,
    /// Size and sectors.
    pub geometry: Geometry,
    /// Who uses it.
    pub uses: Vec<Use>,
    /// Whether this machine runs from it.
    pub system: bool,
    /// How it looked; `None` where there is nothing yet.
    pub witness: Option<Witness>,
}

impl Seen {
    /// Of a drive that nobody on this machine uses.
    pub fn of(drive: &dyn Medium) -> Self {
        let (identity, witness) = (drive.identity().clone(), Some(Witness::of(drive, &[])));
        Self { identity, geometry: drive.geometry(), uses: Vec::new(), system: false, witness }
    }

    /// Of raw bytes in files: where all of them are zero, nothing in them says how large their sectors are.
    fn of_raw(drive: &dyn Medium, sector: u32) -> Self {
        let mut seen = Self::of(drive);
        if drive.zero_run(0, seen.geometry.size_bytes) == seen.geometry.size_bytes {
            seen.geometry.logical_sector = sector;
        }
        if let Some(witness) = &mut seen.witness {
            witness.sector = seen.geometry.logical_sector;
        }
        seen
    }
}

/// How a drive was shown.
pub struct Shown<'a> {
    /// Who it was.
    pub identity: &'a Identity,
    /// Size and sectors.
    pub geometry: Geometry,
}

/// A drive that is open for writing.
pub struct Written {
    /// The drive.
    pub medium: Arc<dyn WriteMedium>,
    /// The names of what it lies in, besides its own, and which files they are.
    pub names: Vec<(PathBuf, Option<(u64, u64)>)>,
}

impl Written {
    fn of(medium: impl WriteMedium + 'static) -> Self {
        Self { medium: Arc::new(medium), names: Vec::new() }
    }
}

/// Why a drive was not opened for writing.
pub enum NotOpened {
    /// The system says so.
    Io(io::Error),
    /// It is not what was shown.
    Changed(String),
}

impl From<io::Error> for NotOpened {
    fn from(error: io::Error) -> Self {
        Self::Io(error)
    }
}

/// Block devices.
struct Blocks;

impl Kind for Blocks {
    fn probe(&self, asked: &Asked, around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        if !asked.meta.file_type().is_block_device() {
            return Ok(None);
        }
        let text = || format!("{} {} has no size: is a medium in it?", asked.role, asked.path.display());
        let found = around.sysfs.drive_at(asked.path).ok_or_else(|| Refusal::new("not-readable", text()))?;
        Ok(Some(Box::new(Block { path: real(asked.path), found })))
    }
    fn describe(&self, path: &Path, around: &Around) -> Option<Found> {
        around.sysfs.drive_at(path)
    }
    fn health(&self, found: &Found, around: &Around) -> Option<Health> {
        found.numbers?;
        if !around.sysfs.live() {
            return Some(Health::unknown("it is not attached to this machine"));
        }
        Some(match fs::File::open(&found.identity.path) {
            Ok(device) => health::ask(&device, found.identity.bus),
            Err(error) => Health::unknown(&format!("it cannot be opened: {error}{}", way(&error))),
        })
    }
}

struct Block {
    path: PathBuf,
    found: Found,
}

impl Named for Block {
    fn path(&self) -> &Path {
        &self.path
    }
    fn ground(&self, sysfs: &Sysfs) -> Ground {
        Ground::of(&self.found.identity.path, sysfs)
    }
    fn open(&self) -> io::Result<Arc<dyn Medium>> {
        let device = BlockDevice::open(&self.found)?;
        match device.differs(self.found.numbers) {
            Some(what) => Err(io::Error::other(format!("it is not what it was a moment ago: {what}"))),
            None => Ok(Arc::new(device)),
        }
    }
    fn look(&self, _sector: u32) -> io::Result<Seen> {
        let Found { identity, geometry, uses, system, .. } = self.found.clone();
        let witness = Some(Witness::of(&BlockDevice::open(&self.found)?, &[]));
        Ok(Seen { identity, geometry, uses, system, witness })
    }
    fn open_for_writing(&self, shown: &Shown, sysfs: &Sysfs) -> Result<Written, NotOpened> {
        let found = Found { identity: Identity { path: self.path.clone(), ..self.found.identity.clone() }, ..self.found.clone() };
        let mut device = BlockDevice::open_for_writing(&found)?;
        if let Some(what) = device.differs(found.numbers) {
            return Err(NotOpened::Changed(what));
        }
        // The drive is asked again who it is, now that nobody can put another one in its place unnoticed.
        found.numbers.into_iter().for_each(|numbers| sysfs.ask_again(numbers));
        let now = sysfs.drive_at(&self.path).ok_or_else(|| NotOpened::Changed("it is not there any more".into()))?;
        device.call(Identity { path: shown.identity.path.clone(), ..now.identity });
        Ok(Written::of(device))
    }
}

/// Simulated drives, named by their descriptions.
struct Simulations;

/// Whether a name is that of a simulated drive's description.
pub fn is_description(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name.to_string_lossy().ends_with(".drive.toml"))
}

impl Kind for Simulations {
    fn probe(&self, asked: &Asked, around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        if !is_description(asked.path) {
            return Ok(None);
        }
        let unreadable = |error| Refusal::new("not-readable", format!("{}: {error}", asked.path.display()));
        let description = sim::describe(asked.path).map_err(unreadable)?;
        let waits = description.pace.is_some_and(|pace| pace.real) && !around.no_waiting;
        let clock: Arc<dyn Clock> = if waits { around.clock.clone() } else { around.sim_clock.clone() };
        let (path, named, at_once) = (real(asked.path), asked.path.to_path_buf(), around.sim_clock.clone());
        Ok(Some(Box::new(Simulated { path, named, backing: description.backing, clock, at_once })))
    }
    fn describe(&self, path: &Path, _around: &Around) -> Option<Found> {
        let description = is_description(path).then(|| sim::describe(path).ok())??;
        let size_bytes = fs::metadata(&description.backing).ok()?.len();
        let part = &description.identity;
        let geometry = Geometry { size_bytes, logical_sector: part.logical_sector, physical_sector: part.physical_sector };
        Some(Found { identity: description.identity(path), geometry, uses: Vec::new(), system: false, numbers: None, sequence: None })
    }
    fn health(&self, found: &Found, _around: &Around) -> Option<Health> {
        let path = Some(&found.identity.path).filter(|path| is_description(path))?;
        let says = sim::describe(path).ok().and_then(|description| description.health);
        Some(says.map_or_else(|| Health::unknown("the sample drive says nothing of it"), |facts| Health::of(facts, "its description")))
    }
}

struct Simulated {
    path: PathBuf,
    /// As somebody wrote it.
    named: PathBuf,
    backing: PathBuf,
    clock: Arc<dyn Clock>,
    /// The clock by which nothing takes time, to look at it.
    at_once: Arc<SimClock>,
}

impl Named for Simulated {
    fn path(&self) -> &Path {
        &self.path
    }
    fn ground(&self, sysfs: &Sysfs) -> Ground {
        Ground::of(&self.backing, sysfs)
    }
    fn open(&self) -> io::Result<Arc<dyn Medium>> {
        Ok(Arc::new(SimDrive::open(&self.named, self.clock.clone())?))
    }
    fn look(&self, _sector: u32) -> io::Result<Seen> {
        Ok(Seen::of(&SimDrive::open(&self.named, self.at_once.clone())?))
    }
    fn open_for_writing(&self, shown: &Shown, _sysfs: &Sysfs) -> Result<Written, NotOpened> {
        Ok(Written::of(SimDrive::open_for_writing(&self.path, self.clock.clone())?.shown_at(&shown.identity.path)))
    }
}

/// Raw drives in pieces.
struct Splits;

impl Kind for Splits {
    fn probe(&self, asked: &Asked, _around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        let (role, shown) = (asked.role, asked.path.display());
        match split::place_of(asked.path) {
            None => Ok(None),
            // Behind a link to a piece lie the others beside that piece, not beside the link.
            Some((first, 1)) => Ok(Some(Box::new(Split { path: real(&first), first }))),
            Some((first, number)) => {
                let text = format!("{role} {shown} is piece {number} of a drive in pieces, which is named by its first one, {}", first.display());
                Err(Refusal::new("part-of-split", text))
            }
        }
    }
    fn create(&self, path: &Path, _size: u64) -> Result<Option<Box<dyn Named>>, Refusal> {
        if split::place_of(path).is_none() {
            return Ok(None);
        }
        let text = format!("target {} would become a piece of the drive in pieces beside it: take another name", path.display());
        Err(Refusal::new("part-of-split", text))
    }
}

struct Split {
    path: PathBuf,
    first: PathBuf,
}

impl Named for Split {
    fn path(&self) -> &Path {
        &self.path
    }
    fn ground(&self, sysfs: &Sysfs) -> Ground {
        split::pieces_of(&self.first).into_iter().map(|piece| Ground::of(&piece, sysfs)).reduce(Ground::and).unwrap_or_default()
    }
    fn open(&self) -> io::Result<Arc<dyn Medium>> {
        Ok(Arc::new(SplitFile::open(&self.first)?))
    }
    fn look(&self, sector: u32) -> io::Result<Seen> {
        Ok(Seen::of_raw(&SplitFile::open(&self.first)?, sector))
    }
    fn open_for_writing(&self, shown: &Shown, _sysfs: &Sysfs) -> Result<Written, NotOpened> {
        let drive = SplitFile::open_for_writing(&self.path)?;
        let drive = drive.with_sectors(shown.geometry.logical_sector, shown.geometry.physical_sector).called(shown.identity.clone());
        let names = drive.names(&self.path);
        Ok(Written { names, ..Written::of(drive) })
    }
}

/// Raw files, each a drive by itself: whatever nothing else knows.
struct Files;

impl Kind for Files {
    fn probe(&self, asked: &Asked, _around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        Ok(Some(Box::new(Raw { path: real(asked.path), named: asked.path.to_path_buf(), bytes: asked.meta.len(), is_new: false })))
    }
    fn create(&self, path: &Path, size: u64) -> Result<Option<Box<dyn Named>>, Refusal> {
        Ok(Some(Box::new(Raw { path: real(path), named: path.to_path_buf(), bytes: size, is_new: true })))
    }
}

struct Raw {
    path: PathBuf,
    named: PathBuf,
    bytes: u64,
    is_new: bool,
}

impl Raw {
    /// The directory in which a new one will lie.
    fn dir(&self) -> &Path {
        self.named.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."))
    }
}

impl Named for Raw {
    fn path(&self) -> &Path {
        &self.path
    }
    fn ground(&self, sysfs: &Sysfs) -> Ground {
        // The file itself is not there yet; what it will stand on is.
        if self.is_new { Ground::of_new_file(self.dir(), sysfs) } else { Ground::of(&self.named, sysfs) }
    }
    fn open(&self) -> io::Result<Arc<dyn Medium>> {
        Ok(Arc::new(RawFile::open(&self.named)?))
    }
    fn look(&self, sector: u32) -> io::Result<Seen> {
        if !self.is_new {
            return Ok(Seen::of_raw(&RawFile::open(&self.named)?, sector));
        }
        if !self.dir().is_dir() {
            return Err(io::Error::new(io::ErrorKind::NotFound, format!("there is no directory {}", self.dir().display())));
        }
        let geometry = Geometry { size_bytes: self.bytes, logical_sector: sector, physical_sector: 4096 };
        Ok(Seen { identity: Identity::of_file(&self.named), geometry, uses: Vec::new(), system: false, witness: None })
    }
    fn open_for_writing(&self, shown: &Shown, _sysfs: &Sysfs) -> Result<Written, NotOpened> {
        let file = if self.is_new { RawFile::create(&self.path, self.bytes)? } else { RawFile::open_for_writing(&self.path)? };
        let file = file.with_sectors(shown.geometry.logical_sector, shown.geometry.physical_sector);
        Ok(Written::of(file.called(shown.identity.clone())))
    }
    fn is_new(&self) -> bool {
        self.is_new
    }
    fn sized(&self) -> Option<u64> {
        Some(self.bytes)
    }
}

/// How to get the rights that are missing.
pub const RIGHTS: &str = "start with sudo, or join the group that owns it, often disk";

/// What can be done where the system does not allow something.
pub(crate) fn way(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::PermissionDenied => format!("; {RIGHTS}"),
        _ => String::new(),
    }
}
