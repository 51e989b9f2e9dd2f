//! Reading and writing through file descriptors: direct where the alignment allows it, through the page cache where
//! it does not.

use crate::medium::{ReadError, WriteError};
use rustix::fs::{Advice, OFlags, SeekFrom};
use std::fs::{File, OpenOptions};
use std::io;
use std::num::NonZeroU64;
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::Path;

/// How to open.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Access {
    /// Reading only.
    Read,
    /// Reading and writing.
    Write,
    /// Reading and writing, alone: fails where the kernel knows another user of the block device.
    WriteAlone,
}

/// A pair of descriptors on one file or device.
pub struct Io {
    plain: File,
    direct: Option<File>,
    align: usize,
}

impl Io {
    /// Opens `path`; direct transfers must start and end on multiples of `align` bytes. For writing a link is not
    /// followed.
    pub fn open(path: &Path, access: Access, align: usize) -> io::Result<Self> {
        let options = |flags: OFlags| {
            OpenOptions::new()
                .read(true)
                .write(access != Access::Read)
                .custom_flags((flags | OFlags::CLOEXEC | OFlags::NONBLOCK).bits() as i32)
                .clone()
        };
        let how = match access {
            Access::Read => OFlags::empty(),
            Access::Write => OFlags::NOFOLLOW,
            Access::WriteAlone => OFlags::NOFOLLOW | OFlags::EXCL,
        };
        Ok(Self::over(options(how).open(path)?, access != Access::Read, align))
    }

    /// Reads and writes through what is open already, whatever its name leads to now.
    pub fn over(plain: File, writing: bool, align: usize) -> Self {
        let again = format!("/proc/self/fd/{}", plain.as_raw_fd());
        // A file system without direct transfers refuses the flag; the page cache serves then.
        let direct = OpenOptions::new()
            .read(true)
            .write(writing)
            .custom_flags((OFlags::DIRECT | OFlags::CLOEXEC | OFlags::NONBLOCK).bits() as i32)
            .open(again)
            .ok();
        Self { plain, direct, align }
    }

    /// The descriptor without direct transfers, for requests that are not reads or writes.
    pub fn file(&self) -> &File {
        &self.plain
    }

    fn lane(&self, offset: u64, address: usize, len: usize) -> (&File, bool) {
        let aligned = offset.is_multiple_of(self.align as u64) && (address | len).is_multiple_of(self.align);
        match &self.direct {
            Some(direct) if aligned => (direct, true),
            _ => (&self.plain, false),
        }
    }

    /// Fills `buf` from `offset`.
    pub fn read(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        let total = buf.len();
        let mut done = 0;
        let mut cached = false;
        while done < total {
            let (rest, at) = (&mut buf[done..], offset + done as u64);
            let (lane, direct) = if cached { (&self.plain, false) } else { self.lane(at, rest.as_ptr() as usize, rest.len()) };
            match lane.read_at(rest, at) {
                Ok(0) => return Err(ReadError::Gone(format!("it ends at byte {at}, earlier than it said"))),
                Ok(count) => done += count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if direct && error.raw_os_error() == Some(libc::EINVAL) => cached = true,
                Err(error) => return Err(ReadError::from_io(&error, at, (total - done) as u64)),
            }
        }
        Ok(())
    }

    /// Writes all of `buf` at `offset`.
    pub fn write(&self, offset: u64, buf: &[u8]) -> Result<(), WriteError> {
        let mut done = 0;
        let mut cached = false;
        while done < buf.len() {
            let (rest, at) = (&buf[done..], offset + done as u64);
            let (lane, direct) = if cached { (&self.plain, false) } else { self.lane(at, rest.as_ptr() as usize, rest.len()) };
            match lane.write_at(rest, at) {
                Ok(0) => return Err(WriteError::Full(at)),
                Ok(count) => done += count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if direct && error.raw_os_error() == Some(libc::EINVAL) => cached = true,
                Err(error) => return Err(WriteError::from_io(&error, at, rest.len() as u64)),
            }
        }
        Ok(())
    }

    /// Writes zeroes the plain way, in stretches of 1 MiB.
    pub fn write_zeroes(&self, mut offset: u64, mut len: u64) -> Result<(), WriteError> {
        let zeroes = crate::buffer::Buffer::new(1 << 20);
        while len > 0 {
            let step = len.min(zeroes.len() as u64);
            self.write(offset, &zeroes[..step as usize])?;
            offset += step;
            len -= step;
        }
        Ok(())
    }

    /// Everything written so far is on the medium when this returns.
    pub fn sync(&self) -> Result<(), WriteError> {
        self.plain.sync_data().map_err(|error| WriteError::from_io(&error, 0, 0))
    }

    /// Lets the system begin to read a range.
    pub fn expect(&self, offset: u64, len: u64) {
        let _ = rustix::fs::fadvise(&self.plain, offset, NonZeroU64::new(len), Advice::WillNeed);
    }

    /// Lets the page cache forget a range.
    pub fn forget(&self, offset: u64, len: u64) {
        // Advice may be ignored by the system; reads that can be direct do not depend on it.
        let _ = rustix::fs::fadvise(&self.plain, offset, NonZeroU64::new(len), Advice::DontNeed);
    }

    /// How far a hole reaches from `offset`, in bytes, `max` at the most; `size` is the file's length.
    pub fn hole(&self, offset: u64, max: u64, size: u64) -> u64 {
        let max = max.min(size.saturating_sub(offset));
        match rustix::fs::seek(&self.plain, SeekFrom::Data(offset)) {
            Ok(data) => data.saturating_sub(offset).min(max),
            Err(rustix::io::Errno::NXIO) => max,
            Err(_) => 0,
        }
    }
}
