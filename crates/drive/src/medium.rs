//! The one small trait that everything with sectors implements.

use crate::clock::Clock;
use crate::control::Control;
pub use crate::error::{ReadError, WriteError};
use crate::flight::Flight;
use crate::identity::Identity;
use crate::patience::Patience;
use crate::standing::Standing;
use std::fs::File;
use std::os::fd::OwnedFd;
use std::sync::Arc;

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

/// What is known of a stretch before it is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Holds {
    /// Bytes that must be read to be known.
    Bytes,
    /// Nothing but zeroes, such as a hole in a sparse file.
    Zero,
    /// Nobody knows: what this came from was not read there, or could not be. A read fails.
    Unknown,
}

/// A stretch of one kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// Bytes; 0 only at the end of the drive, or where none were asked about. What follows may be of the same kind.
    pub len: u64,
    /// What it holds.
    pub holds: Holds,
}

impl Stretch {
    /// The first stretch of several parts that lie one behind the other: how long each is, and what is known of its start. Bytes
    /// are not joined: who reads them asks again.
    pub fn joined(parts: impl IntoIterator<Item = (u64, Self)>) -> Self {
        let mut all: Option<Self> = None;
        for (whole, part) in parts {
            match &mut all {
                Some(all) if all.holds != part.holds => break,
                Some(all) => all.len += part.len,
                None => all = Some(part),
            }
            if part.len < whole || part.holds == Holds::Bytes {
                break;
            }
        }
        all.unwrap_or(Self { len: 0, holds: Holds::Bytes })
    }

    /// The first stretch from `offset` to `end` of what is put together out of `spans`, with zeroes between them. `ask` is told
    /// a place within a span, the bytes from there on, and the span.
    pub fn put_together<T>(offset: u64, end: u64, spans: impl Iterator<Item = (std::ops::Range<u64>, T)>, ask: impl Fn(u64, u64, T) -> Self) -> Self {
        let zeroes = |len: u64| (len, Self { len, holds: Holds::Zero });
        let mut at = offset;
        let mut parts = spans.map(Some).chain([None]).flat_map(|span| {
            let (range, span) = span.map_or((end..end, None), |(range, span)| (range, Some(span)));
            let between = zeroes(range.start.saturating_sub(at));
            at = range.end;
            let len = range.end - range.start;
            [Some(between), span.map(|span| (len, ask(range.start, len, span)))].into_iter().flatten().filter(|(len, _)| *len > 0)
        });
        Self::joined(&mut parts)
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

    /// The same, with an end to the waiting.
    ///
    /// # Errors
    /// [`ReadError::Silent`] when the patience is over, [`ReadError::Gone`] when it is called off; the drive may be busy with
    /// the read all the same. What is in `buf` then is not said.
    fn read_within(&self, offset: u64, buf: &mut [u8], _patience: &Patience) -> Result<(), ReadError> {
        self.read_at(offset, buf)
    }

    /// A way to have several reads in flight, `depth` at the most, where the drive has one. `flight` in `in_turn` is for
    /// whoever reads.
    fn flight(&self, _depth: u32, _patience: &Patience) -> Option<Box<dyn Flight + '_>> {
        None
    }

    /// What is known without reading of the bytes from `offset` on, and of how many, `max` at the most. A simulated drive spends
    /// the time on zeroes that reading would have taken.
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        Stretch { len: max.min(self.geometry().size_bytes.saturating_sub(offset)), holds: Holds::Bytes }
    }

    /// How many bytes from `offset` on, `max` at the most, are known to be zero; 0 where that is not known.
    fn zero_run(&self, offset: u64, max: u64) -> u64 {
        let Stretch { len, holds } = self.stretch(offset, max);
        if holds == Holds::Zero { len } else { 0 }
    }

    /// Says that a range is read next, so that the system may begin with it while another one is waited for.
    fn will_read(&self, _offset: u64, _len: u64) {}

    /// What the system says of the open drive, asked anew.
    fn standing(&self) -> Standing {
        Standing::default()
    }

    /// The open files and devices that its bytes lie in: all of them, so that nobody writes to one meanwhile.
    fn rests_on(&self) -> Vec<&File> {
        Vec::new()
    }

    /// What whoever copies it has to know of it, a sentence; `None` for a drive that is all there.
    fn remark(&self) -> Option<String> {
        None
    }

    /// What whoever reads it may want to know: which other files its bytes come from, and whether those are proved to be the right ones.
    fn notes(&self) -> Vec<String> {
        Vec::new()
    }

    /// What hides where its bytes lie, in words; `None` where the files that it rests on tell everything.
    fn veil(&self) -> Option<String> {
        None
    }

    /// Calls off whatever is waited for, for reading and for writing, once `control` was told to stop.
    fn obey(&self, _control: &Control) {}

    /// The socket through which its bytes come, where another program serves them.
    fn peer(&self) -> Option<OwnedFd> {
        None
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

    /// Ends the writing: what belongs to the whole is written and is as durable as its bytes. Nothing is written after it.
    ///
    /// # Errors
    /// See [`WriteError`].
    fn finish(&self) -> Result<(), WriteError> {
        self.flush()
    }

    /// Lets the system forget what it holds of this range in memory, so that the next read comes from the medium.
    fn forget(&self, offset: u64, len: u64);

    /// Asks the system to read the partition table again.
    fn announce_table(&self) {}
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

/// The end of a stretch, which lies inside a drive of `size` bytes.
///
/// # Errors
/// [`ReadError::PastEnd`].
pub fn inside(offset: u64, len: usize, size: u64) -> Result<u64, ReadError> {
    let len = len as u64;
    match offset.checked_add(len) {
        Some(end) if end <= size => Ok(end),
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
