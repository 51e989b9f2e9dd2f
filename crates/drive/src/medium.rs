//! The one small trait that everything with sectors implements, and the handle that can only read it.

use crate::claims::Claim;
use crate::clock::Clock;
use crate::control::Control;
use crate::ground::Ground;
use crate::identity::Identity;
use crate::target::Refusal;
use crate::witness::Standing;
use std::io;
use std::sync::{Arc, RwLock};

/// Size and sectors of a drive, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
pub struct Geometry {
    /// Everything that can be addressed. A multiple of the logical sector except for odd-sized files.
    pub size_bytes: u64,
    /// What the drive counts in: 512 or 4096.
    pub logical_sector: u32,
    /// What the drive writes in one go; at least the logical sector.
    pub physical_sector: u32,
}

impl Geometry {
    /// Whole logical sectors.
    pub fn sectors(&self) -> u64 {
        self.size_bytes / u64::from(self.logical_sector.max(1))
    }
}

/// Why a read gave nothing.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// The drive answers, but cannot read this place. Bytes before `offset` of the same call were read.
    #[error("unreadable at byte {offset} ({len} bytes): {why}")]
    Unreadable {
        /// First byte that could not be had.
        offset: u64,
        /// Length of the rest of the call, in bytes.
        len: u64,
        /// What the system said.
        why: String,
    },
    /// The drive does not answer any more.
    #[error("the drive is gone: {0}")]
    Gone(String),
    /// Nobody may read past the end; a bug in the caller or a drive that became smaller.
    #[error("read of {len} bytes at {offset} reaches past the end of the drive at {size}")]
    PastEnd {
        /// First byte asked for.
        offset: u64,
        /// Bytes asked for.
        len: u64,
        /// Size of the drive in bytes.
        size: u64,
    },
}

/// Why a write did not happen. How much of the stretch was written is not known.
#[derive(Debug, thiserror::Error)]
pub enum WriteError {
    /// The drive refuses this place.
    #[error("cannot write at byte {offset} ({len} bytes): {why}")]
    Failed {
        /// First byte of the call.
        offset: u64,
        /// Length of the call in bytes.
        len: u64,
        /// What the system said.
        why: String,
    },
    /// The file system under a target file is full.
    #[error("no space left under the target file at byte {0}: make room there and give the same command again")]
    Full(u64),
    /// The drive does not answer any more.
    #[error("the target is gone: {0}")]
    Gone(String),
    /// Nobody may write past the end.
    #[error("write of {len} bytes at {offset} reaches past the end of the target at {size}")]
    PastEnd {
        /// First byte of the call.
        offset: u64,
        /// Length of the call in bytes.
        len: u64,
        /// Size of the target in bytes.
        size: u64,
    },
}

/// Whether an error of the system means that the device went away.
pub(crate) fn means_gone(error: &io::Error) -> bool {
    matches!(error.raw_os_error(), Some(libc::ENODEV | libc::ENXIO | libc::ENOMEDIUM | libc::ESHUTDOWN))
}

impl ReadError {
    /// Sorts a system error at `offset`, with `len` bytes still wanted.
    pub fn from_io(error: &io::Error, offset: u64, len: u64) -> Self {
        if means_gone(error) { Self::Gone(error.to_string()) } else { Self::Unreadable { offset, len, why: error.to_string() } }
    }
}

impl WriteError {
    /// Sorts a system error of a write of `len` bytes at `offset`.
    pub fn from_io(error: &io::Error, offset: u64, len: u64) -> Self {
        match error.raw_os_error() {
            Some(libc::ENOSPC | libc::EDQUOT) => Self::Full(offset),
            _ if means_gone(error) => Self::Gone(error.to_string()),
            _ => Self::Failed { offset, len, why: error.to_string() },
        }
    }
}

/// Anything with sectors that can be read: a block device, a raw file, a simulated drive.
pub trait Medium: Send + Sync {
    /// Size and sectors.
    fn geometry(&self) -> Geometry;

    /// Who it is.
    fn identity(&self) -> &Identity;

    /// Fills `buf` from byte `offset`.
    ///
    /// # Errors
    /// [`ReadError::Unreadable`] names the first place that failed; what lies before it in `buf` is good.
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError>;

    /// How many bytes from `offset` on, `max` at the most, are known to read as zero without reading them: a hole in
    /// a sparse file. 0 where nothing is known. A simulated drive spends the time that reading would have taken.
    fn zero_run(&self, _offset: u64, _max: u64) -> u64 {
        0
    }

    /// Says that a range is read next, so that the system may begin with it while another one is waited for.
    fn will_read(&self, _offset: u64, _len: u64) {}

    /// What the system says of the open drive, asked anew.
    fn standing(&self) -> Standing {
        Standing::default()
    }

    /// Whether the drive still answers at all.
    fn present(&self) -> bool {
        true
    }

    /// The clock this drive lives by, where it does not live by the machine's.
    fn clock(&self) -> Option<Arc<dyn Clock>> {
        None
    }
}

/// Anything with sectors that can be written to. Only a [`crate::Target`] hands this out.
pub trait WriteMedium: Medium {
    /// Writes `buf` at byte `offset`; durable only after [`WriteMedium::flush`].
    ///
    /// # Errors
    /// See [`WriteError`].
    fn write_at(&self, offset: u64, buf: &[u8]) -> Result<(), WriteError>;

    /// Makes `len` bytes at `offset` read as zero, by the cheapest way the drive has.
    ///
    /// # Errors
    /// See [`WriteError`].
    fn write_zero(&self, offset: u64, len: u64) -> Result<(), WriteError>;

    /// Tells the drive that `len` bytes at `offset` are not wanted any more; what they read as afterwards is open. False
    /// where it has no use for that.
    ///
    /// # Errors
    /// See [`WriteError`].
    fn discard(&self, _offset: u64, _len: u64) -> Result<bool, WriteError> {
        Ok(false)
    }

    /// Returns once everything written so far would survive a loss of power.
    ///
    /// # Errors
    /// See [`WriteError`].
    fn flush(&self) -> Result<(), WriteError>;

    /// Lets the system forget what it holds of this range in memory, so that the next read comes from the medium.
    fn forget(&self, offset: u64, len: u64);

    /// Asks the system to read the partition table again.
    fn announce_table(&self) {}
}

/// A drive that is read and never written to: there is no method that could.
#[derive(Clone)]
pub struct Source {
    medium: Arc<Heeding>,
    ground: Arc<Ground>,
}

/// A drive that gives nothing more once a run was told to stop, so that no walk over it goes on.
struct Heeding {
    inner: Arc<dyn Medium>,
    control: RwLock<Option<Control>>,
}

impl Heeding {
    fn is_stopped(&self) -> bool {
        self.control.read().expect("control lock").as_ref().is_some_and(Control::is_stopped)
    }
}

impl Medium for Heeding {
    fn geometry(&self) -> Geometry {
        self.inner.geometry()
    }
    fn identity(&self) -> &Identity {
        self.inner.identity()
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        if self.is_stopped() { Err(ReadError::Gone("the run was stopped".into())) } else { self.inner.read_at(offset, buf) }
    }
    fn zero_run(&self, offset: u64, max: u64) -> u64 {
        self.inner.zero_run(offset, max)
    }
    fn will_read(&self, offset: u64, len: u64) {
        if !self.is_stopped() {
            self.inner.will_read(offset, len);
        }
    }
    fn standing(&self) -> Standing {
        self.inner.standing()
    }
    fn present(&self) -> bool {
        !self.is_stopped() && self.inner.present()
    }
    fn clock(&self) -> Option<Arc<dyn Clock>> {
        self.inner.clock()
    }
}

impl Source {
    /// Wraps a medium; `ground` tells what it stands on, so that it is never taken for its own target.
    pub fn new(medium: Arc<dyn Medium>, ground: Ground) -> Self {
        Self { medium: Arc::new(Heeding { inner: medium, control: RwLock::new(None) }), ground: Arc::new(ground) }
    }

    /// A source that stands on nothing the system knows, for data in memory.
    pub fn detached(medium: Arc<dyn Medium>) -> Self {
        Self::new(medium, Ground::default())
    }

    /// Gives nothing more, to whoever holds it, once `control` was told to stop.
    pub fn obey(&self, control: &Control) {
        *self.medium.control.write().expect("control lock") = Some(control.clone());
    }

    /// What it stands on.
    pub fn ground(&self) -> &Ground {
        &self.ground
    }

    /// The stable key of the drive, see [`Identity::key`].
    pub fn key(&self) -> String {
        self.identity().key(self.geometry().size_bytes)
    }

    /// Keeps every other run of this machine from writing to it as long as the claim lives.
    ///
    /// # Errors
    /// A refusal where it is the target of a run right now.
    pub fn claim(&self) -> Result<Claim, Refusal> {
        let name = self.identity().path.display();
        match Claim::take(&self.ground, false) {
            Ok(Some(claim)) => Ok(claim),
            Ok(None) => {
                let text = format!("the source {name} is being written to by another run of this program right now: wait for its end");
                Err(Refusal::new("source-claimed", text))
            }
            Err(error) => Err(Refusal::new("no-claim", format!("{name} cannot be claimed for this run: {error}"))),
        }
    }
}

impl std::ops::Deref for Source {
    type Target = dyn Medium;
    fn deref(&self) -> &Self::Target {
        &*self.medium
    }
}

/// Bytes in memory as a drive, for tables that are checked before they are written, and for tests.
pub struct MemoryMedium {
    identity: Identity,
    geometry: Geometry,
    bytes: Vec<u8>,
}

impl MemoryMedium {
    /// A drive that holds `bytes`, with sectors of `sector` bytes.
    pub fn new(bytes: Vec<u8>, sector: u32) -> Self {
        let geometry = Geometry { size_bytes: bytes.len() as u64, logical_sector: sector, physical_sector: sector };
        Self { identity: Identity::of_file(std::path::Path::new("memory")), geometry, bytes }
    }
}

/// Checks that a stretch lies inside a drive of `size` bytes.
pub(crate) fn inside(offset: u64, len: usize, size: u64) -> Result<(), ReadError> {
    let len = len as u64;
    match offset.checked_add(len) {
        Some(end) if end <= size => Ok(()),
        _ => Err(ReadError::PastEnd { offset, len, size }),
    }
}

impl Medium for MemoryMedium {
    fn geometry(&self) -> Geometry {
        self.geometry
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        inside(offset, buf.len(), self.geometry.size_bytes)?;
        let start = offset as usize;
        buf.copy_from_slice(&self.bytes[start..start + buf.len()]);
        Ok(())
    }
}
