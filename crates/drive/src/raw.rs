//! A raw file as a drive. Holes are known and not read.

use crate::flight::Flight;
use crate::identity::Identity;
use crate::io::{Access, Io};
use crate::medium::{Geometry, Medium, ReadError, Stretch, WriteError, WriteMedium, inside};
use crate::patience::Patience;
use crate::standing::Standing;
use rustix::fs::FallocateFlags;
use std::fs::File;
use std::io::{self, Error};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// An extended attribute of files that this program wrote as raw drives: whatever they begin with, they are no containers.
const RAW: &str = "user.zealous-badger";

/// Marks a file as a raw drive, where the file system keeps such marks.
pub fn mark_raw(file: &File) {
    let _ = rustix::fs::fsetxattr(file, RAW, b"raw", rustix::fs::XattrFlags::empty());
}

/// Whether this program wrote a file as a raw drive.
pub fn is_marked_raw(path: &Path) -> bool {
    let mut value = [0u8; 8];
    rustix::fs::getxattr(path, RAW, &mut value[..]).is_ok_and(|len| &value[..len] == b"raw")
}

/// Direct transfers on any file system are content with this.
const FILE_ALIGN: usize = 4096;

/// An open raw file.
pub struct RawFile {
    io: Io,
    identity: Identity,
    geometry: Geometry,
    /// Where it was opened.
    path: PathBuf,
}

impl RawFile {
    /// Opens for reading only.
    ///
    /// # Errors
    /// What the system says; an empty file and anything but a regular file is refused with a reason.
    pub fn open(path: &Path) -> io::Result<Self> {
        Self::with(path, Access::Read)
    }

    /// Opens a file that is there for writing; a link is not followed.
    pub(crate) fn open_for_writing(path: &Path) -> io::Result<Self> {
        Self::with(path, Access::Write)
    }

    /// Makes a file of `size` bytes, all of them holes, where nothing is.
    pub(crate) fn create(path: &Path, size: u64) -> io::Result<Self> {
        let file = crate::keep::create_with(path, |file| {
            mark_raw(file);
            file.set_len(size)
        })?;
        Self::over(Io::over(file, true, FILE_ALIGN), path)
    }

    fn with(path: &Path, access: Access) -> io::Result<Self> {
        // Looked at before: opening a pipe would wait for its other end.
        if !std::fs::metadata(path)?.is_file() {
            return Err(Error::new(io::ErrorKind::InvalidInput, "not a regular file"));
        }
        Self::over(Io::open(path, access, FILE_ALIGN)?, path)
    }

    fn over(io: Io, path: &Path) -> io::Result<Self> {
        let meta = io.file().metadata()?;
        if !meta.is_file() {
            return Err(Error::new(io::ErrorKind::InvalidInput, "not a regular file"));
        }
        if meta.len() == 0 {
            return Err(Error::new(io::ErrorKind::InvalidData, "the file is empty"));
        }
        let mut identity = Identity::of_file(path);
        identity.read_only = meta.permissions().readonly();
        let sector = sector_of_content(&|at, buf| io.read(at, buf).is_ok(), meta.len());
        let geometry = Geometry { size_bytes: meta.len(), logical_sector: sector, physical_sector: 4096 };
        Ok(Self { io, identity, geometry, path: path.to_path_buf() })
    }

    /// Says that the sectors are of another size than the content tells.
    #[must_use]
    pub fn with_sectors(mut self, logical: u32, physical: u32) -> Self {
        self.geometry.logical_sector = logical;
        self.geometry.physical_sector = physical;
        self
    }

    /// Calls it as whoever named it did.
    pub(crate) fn called(mut self, identity: Identity) -> Self {
        self.identity = identity;
        self
    }

    pub(crate) fn file(&self) -> &File {
        self.io.file()
    }
}

/// Bytes of a sector of what does not say it: a GPT header stands in the second one, so its place tells; else 512. `read` says
/// whether it could fill a buffer from a byte on.
pub fn sector_of_content(read: &dyn Fn(u64, &mut [u8]) -> bool, size: u64) -> u32 {
    let signature_at = |at: u64| {
        let mut bytes = [0u8; 8];
        at + 8 <= size && read(at, &mut bytes) && &bytes == b"EFI PART"
    };
    if !signature_at(512) && signature_at(4096) { 4096 } else { 512 }
}

impl Medium for RawFile {
    fn will_read(&self, offset: u64, len: u64) {
        self.io.expect(offset, len);
    }
    fn geometry(&self) -> Geometry {
        self.geometry
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        inside(offset, buf.len(), self.geometry.size_bytes)?;
        self.io.read(offset, buf)
    }
    fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> Result<(), ReadError> {
        inside(offset, buf.len(), self.geometry.size_bytes)?;
        self.io.read_within(offset, buf, patience)
    }
    fn flight(&self, depth: u32, patience: &Patience) -> Option<Box<dyn Flight + '_>> {
        self.io.flight(self.geometry.size_bytes, depth, patience, Box::new(|error| error))
    }
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        self.io.stretch(offset, max, self.geometry.size_bytes)
    }
    fn rests_on(&self) -> Vec<&File> {
        vec![self.file()]
    }
    fn standing(&self) -> Standing {
        let Ok(meta) = self.file().metadata() else { return Standing::default() };
        Standing { node: Some((meta.dev(), meta.ino())), changed: Some((meta.ctime(), meta.ctime_nsec())), ..Standing::default() }
    }
}

/// The same check for writes.
pub(crate) fn writable(offset: u64, len: u64, size: u64) -> Result<(), WriteError> {
    match offset.checked_add(len) {
        Some(end) if end <= size => Ok(()),
        _ => Err(WriteError::PastEnd { offset, len, size }),
    }
}

impl WriteMedium for RawFile {
    fn write_at(&self, offset: u64, buf: &[u8]) -> Result<(), WriteError> {
        writable(offset, buf.len() as u64, self.geometry.size_bytes)?;
        self.io.write(offset, buf)
    }
    fn write_zero(&self, offset: u64, len: u64) -> Result<(), WriteError> {
        writable(offset, len, self.geometry.size_bytes)?;
        self.io.pierced();
        let punch = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        match rustix::fs::fallocate(self.io.file(), punch, offset, len) {
            Ok(()) => Ok(()),
            Err(_) => self.io.write_zeroes(offset, len),
        }
    }
    fn discard(&self, offset: u64, len: u64) -> Result<bool, WriteError> {
        self.write_zero(offset, len).map(|()| true)
    }
    fn flush(&self) -> Result<(), WriteError> {
        self.io.sync()
    }
    fn finish(&self) -> Result<(), WriteError> {
        let failed = |error: Error| WriteError::from_io(&error, 0, 0);
        self.file().sync_all().map_err(failed)?;
        // A name is as durable as its directory; one that may not be opened is left to the system.
        let dir = self.path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
        File::open(dir).map_or(Ok(()), |dir| dir.sync_all()).map_err(failed)
    }
    fn forget(&self, offset: u64, len: u64) {
        self.io.forget(offset, len);
    }
}
