//! A block device as a drive, read and written past the page cache.

use crate::discover::Found;
use crate::flight::Flight;
use crate::identity::Identity;
use crate::io::{Access, Io};
use crate::medium::{Geometry, Medium, ReadError, WriteError, WriteMedium, inside};
use crate::patience::Patience;
use crate::raw::writable;
use crate::standing::Standing;
use crate::sys;
use std::fs::File;
use std::io;
use std::os::unix::fs::{FileTypeExt, MetadataExt};

/// An open block device.
pub struct BlockDevice {
    io: Io,
    identity: Identity,
    geometry: Geometry,
}

impl BlockDevice {
    /// Opens what discovery found, for reading only.
    ///
    /// # Errors
    /// What the system says.
    pub fn open(found: &Found) -> io::Result<Self> {
        Self::with(found, Access::Read)
    }

    /// Opens for writing; the kernel refuses where the device or a part of it is in use.
    pub(crate) fn open_for_writing(found: &Found) -> io::Result<Self> {
        Self::with(found, Access::WriteAlone)
    }

    /// What the open device says of itself differs from what discovery found, in words.
    pub(crate) fn differs(&self, numbers: Option<(u32, u32)>) -> Option<String> {
        let file = self.io.file();
        let Ok(meta) = file.metadata() else { return Some("it does not answer".into()) };
        if !meta.file_type().is_block_device() || Some(crate::paths::numbers(meta.rdev())) != numbers {
            return Some("its node leads to another device".into());
        }
        match (sys::device_bytes(file), sys::device_sectors(file)) {
            (Ok(bytes), _) if bytes != self.geometry.size_bytes => Some(format!("it has {bytes} bytes, not {}", self.geometry.size_bytes)),
            (_, Ok((logical, _))) if logical != self.geometry.logical_sector => Some(format!("its sectors have {logical} bytes")),
            (Err(error), _) | (_, Err(error)) => Some(error.to_string()),
            _ => None,
        }
    }

    fn with(found: &Found, access: Access) -> io::Result<Self> {
        let align = found.geometry.logical_sector.max(512) as usize;
        let io = Io::open(&found.identity.path, access, align)?;
        Ok(Self { io, identity: found.identity.clone(), geometry: found.geometry })
    }

    /// Gives it the identity it was found to have now.
    pub(crate) fn call(&mut self, identity: Identity) {
        self.identity = identity;
    }

    pub(crate) fn file(&self) -> &File {
        self.io.file()
    }

    /// A drive that was pulled out often answers with a plain read error first.
    fn sorted(&self, error: ReadError) -> ReadError {
        match error {
            ReadError::Unreadable { why, .. } if !self.present() => ReadError::Gone(why),
            other => other,
        }
    }
}

impl Medium for BlockDevice {
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
        self.io.read(offset, buf).map_err(|error| self.sorted(error))
    }
    fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> Result<(), ReadError> {
        inside(offset, buf.len(), self.geometry.size_bytes)?;
        self.io.read_within(offset, buf, patience).map_err(|error| self.sorted(error))
    }
    fn flight(&self, depth: u32, patience: &Patience) -> Option<Box<dyn Flight + '_>> {
        self.io.flight(self.geometry.size_bytes, depth, patience, Box::new(|error| self.sorted(error)))
    }
    fn rests_on(&self) -> Vec<&File> {
        vec![self.file()]
    }
    fn standing(&self) -> Standing {
        let Ok(meta) = self.file().metadata() else { return Standing::default() };
        let (major, minor) = crate::paths::numbers(meta.rdev());
        let says = |name: &str| std::fs::read_to_string(format!("/sys/dev/block/{major}:{minor}/{name}")).ok();
        // Sectors written are the seventh number (`Documentation/block/stat.rst` of the kernel).
        let written = says("stat").and_then(|text| text.split_whitespace().nth(6)?.parse().ok());
        let node = sys::loop_node(self.file()).ok();
        let backing = says("loop/backing_file").and_then(|path| std::fs::metadata(path.trim_end_matches('\n')).ok());
        let changed = backing.filter(|meta| Some((meta.dev(), meta.ino())) == node).map(|meta| (meta.ctime(), meta.ctime_nsec()));
        Standing { sequence: sys::device_sequence(self.file()).ok(), written, node, changed }
    }
    fn present(&self) -> bool {
        use std::io::{Seek, SeekFrom};
        self.identity.path.exists() && self.file().seek(SeekFrom::End(0)).is_ok_and(|size| size > 0)
    }
}

impl WriteMedium for BlockDevice {
    fn write_at(&self, offset: u64, buf: &[u8]) -> Result<(), WriteError> {
        writable(offset, buf.len() as u64, self.geometry.size_bytes)?;
        match self.io.write(offset, buf) {
            Err(WriteError::Failed { why, .. }) if !self.present() => Err(WriteError::Gone(why)),
            other => other,
        }
    }
    fn write_zero(&self, offset: u64, len: u64) -> Result<(), WriteError> {
        writable(offset, len, self.geometry.size_bytes)?;
        sys::zero_out(self.io.file(), offset, len).or_else(|_| self.io.write_zeroes(offset, len))
    }
    fn discard(&self, offset: u64, len: u64) -> Result<bool, WriteError> {
        writable(offset, len, self.geometry.size_bytes)?;
        Ok(sys::discard(self.io.file(), offset, len).is_ok())
    }
    fn flush(&self) -> Result<(), WriteError> {
        self.io.sync()
    }
    fn forget(&self, offset: u64, len: u64) {
        let _ = sys::flush_buffers(self.io.file());
        self.io.forget(offset, len);
    }
    fn announce_table(&self) {
        // Refused on devices without partition scanning; whoever plugs the drive in again reads it anyway.
        let _ = sys::reread_table(self.io.file());
    }
}
