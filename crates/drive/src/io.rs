//! Reading and writing through file descriptors: direct where the alignment allows it, through the page cache where
//! it does not.

use crate::buffer::Buffer;
use crate::flight::{Flight, Landed};
use crate::medium::{Holds, ReadError, Stretch, WriteError, inside};
use crate::patience::{GLANCE, Patience};
use crate::sys::ring::{Ring, Ticket};
use rustix::fs::{Advice, OFlags, SeekFrom};
use rustix::io::ReadWriteFlags;
use std::collections::VecDeque;
use std::fs::{File, OpenOptions};
use std::io::{self, IoSliceMut};
use std::num::NonZeroU64;
use std::ops::Range;
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::Path;
use std::sync::Mutex;
use std::time::{Duration, Instant};

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
    /// Rings for single reads that somebody may stop waiting for. One in which such a read hangs is here too, until it ends.
    rings: Mutex<Vec<Single>>,
    /// It is served by a program, which may not answer.
    served: bool,
    /// Where a file is known to hold bytes, so that the system is not asked at every step.
    solid: Mutex<Range<u64>>,
}

/// A ring for single reads, and the buffer they go through.
struct Single {
    ring: Ring,
    buffer: Buffer,
}

/// The number of file systems that programs serve (`linux/magic.h` of the kernel).
const FUSE: i64 = 0x6573_5546;

/// Reads that may hang at a time before no other one is tried.
const MOST_HANGING: usize = 8;

/// Bytes of the longest single read that somebody may stop waiting for.
const PIECE: usize = 4 << 20;

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
        let served = rustix::fs::fstatfs(&plain).is_ok_and(|info| info.f_type == FUSE);
        Self { plain, direct, align, rings: Mutex::default(), served, solid: Mutex::new(0..0) }
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

    /// Fills `buf` from `offset`, however long that takes.
    pub fn read(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read_by(offset, buf, &mut |lane, at, buf| Ok(lane.read_at(buf, at)))
    }

    /// Fills `buf` from `offset` by single reads, each of which may give less than it was asked for.
    fn read_by(&self, offset: u64, buf: &mut [u8], once: &mut Once) -> Result<(), ReadError> {
        let total = buf.len();
        let mut done = 0;
        let mut cached = false;
        while done < total {
            let (rest, at) = (&mut buf[done..], offset + done as u64);
            let (lane, direct) = if cached { (&self.plain, false) } else { self.lane(at, rest.as_ptr() as usize, rest.len()) };
            match once(lane, at, rest)? {
                Ok(0) => return Err(ReadError::Gone(format!("it ends at byte {at}, earlier than it said"))),
                Ok(count) => done += count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if direct && error.raw_os_error() == Some(libc::EINVAL) => cached = true,
                Err(error) => return Err(ReadError::from_io(&error, at, (total - done) as u64)),
            }
        }
        Ok(())
    }

    /// Fills `buf` from `offset` as long as somebody has the patience. A system without the means waits however long it takes.
    pub fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> Result<(), ReadError> {
        let began = Instant::now();
        let mut single = match self.single() {
            Some(Ok(single)) => single,
            Some(Err(_)) => return self.read(offset, buf),
            None => return Err(ReadError::Silent { offset, after: Duration::ZERO }),
        };
        let Single { ring, buffer } = &mut single;
        if buffer.len() < buf.len().min(PIECE) {
            *buffer = Buffer::new(buf.len().min(PIECE));
        }
        let outcome = self.read_by(offset, buf, &mut |lane, at, buf| {
            // What the system has in memory is had at once, and without a detour.
            if !self.served
                && std::ptr::eq(lane, &raw const self.plain)
                && let Ok(count @ 1..) = rustix::io::preadv2(lane, &mut [IoSliceMut::new(buf)], at, ReadWriteFlags::NOWAIT)
            {
                return Ok(Ok(count));
            }
            let len = buf.len().min(PIECE);
            if let Err(back) = ring.begin(lane, at, len, std::mem::replace(buffer, Buffer::new(0)), self.served) {
                *buffer = back;
                return Ok(lane.read_at(buf, at));
            }
            loop {
                if let Some((_, filled, outcome)) = ring.wait(GLANCE) {
                    *buffer = filled;
                    return Ok(outcome.inspect(|count| buf[..*count].copy_from_slice(&buffer[..*count])));
                }
                patience.check(at, began.elapsed())?;
            }
        });
        self.rings.lock().expect("ring lock").push(single);
        outcome
    }

    /// A ring in which nothing is in flight; none where too many reads hang.
    fn single(&self) -> Option<io::Result<Single>> {
        let mut rings = self.rings.lock().expect("ring lock");
        for place in (0..rings.len()).rev() {
            while let Some((_, buffer, _)) = rings[place].ring.wait(Duration::ZERO) {
                rings[place].buffer = buffer;
            }
            if rings[place].ring.in_flight() == 0 {
                return Some(Ok(rings.swap_remove(place)));
            }
        }
        (rings.len() < MOST_HANGING).then(|| Ok(Single { ring: Ring::new(1)?, buffer: Buffer::new(0) }))
    }

    /// Reads in flight on a drive of `size` bytes; `sort` looks at errors before anybody else does.
    pub fn flight<'a>(&'a self, size: u64, depth: u32, patience: &Patience, sort: Sort<'a>) -> Option<Box<dyn Flight + 'a>> {
        let ring = Ring::new(depth).ok()?;
        Some(Box::new(Airborne { io: self, ring, size, patience: patience.clone(), sort, order: VecDeque::new() }))
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

    /// Whether a file has a hole at `offset` or bytes, and for how long, `max` at the most; `size` is the file's length.
    pub fn stretch(&self, offset: u64, max: u64, size: u64) -> Stretch {
        let max = max.min(size.saturating_sub(offset));
        let bytes = |end: u64| Stretch { len: end.saturating_sub(offset).min(max), holds: Holds::Bytes };
        let mut solid = self.solid.lock().expect("range lock");
        if solid.contains(&offset) {
            return bytes(solid.end);
        }
        match rustix::fs::seek(&self.plain, SeekFrom::Data(offset)) {
            Ok(data) if data > offset => Stretch { len: (data - offset).min(max), holds: Holds::Zero },
            Ok(_) => {
                let end = rustix::fs::seek(&self.plain, SeekFrom::Hole(offset)).unwrap_or(offset + 1).max(offset + 1);
                *solid = offset..end;
                bytes(end)
            }
            Err(rustix::io::Errno::NXIO) => Stretch { len: max, holds: Holds::Zero },
            Err(_) => bytes(u64::MAX),
        }
    }

    /// Says that a hole may be anywhere now.
    pub fn pierced(&self) {
        *self.solid.lock().expect("range lock") = 0..0;
    }
}

/// One read, which may be called off.
type Once<'a> = dyn FnMut(&File, u64, &mut [u8]) -> Result<io::Result<usize>, ReadError> + 'a;

/// What an error of a read means for this drive.
pub type Sort<'a> = Box<dyn Fn(ReadError) -> ReadError + 'a>;

/// One read of a flight.
struct Airborn {
    offset: u64,
    len: usize,
    state: State,
}

enum State {
    /// There was no room for it, or no sense in it.
    Waits(Buffer),
    Flies(Ticket),
    Ended(Buffer, io::Result<usize>),
}

/// Reads in flight through a ring of their own.
struct Airborne<'a> {
    io: &'a Io,
    ring: Ring,
    size: u64,
    patience: Patience,
    sort: Sort<'a>,
    order: VecDeque<Airborn>,
}

impl Airborne<'_> {
    /// Waits for one of the reads.
    fn wait(&mut self, ticket: Ticket, offset: u64, began: Instant) -> Result<(Buffer, io::Result<usize>), ReadError> {
        loop {
            if let Some((landed, buffer, outcome)) = self.ring.wait(GLANCE) {
                if landed == ticket {
                    return Ok((buffer, outcome));
                }
                let other = self.order.iter_mut().find(|read| matches!(read.state, State::Flies(held) if held == landed));
                if let Some(read) = other {
                    read.state = State::Ended(buffer, outcome);
                }
                continue;
            }
            self.patience.check(offset, began.elapsed())?;
        }
    }
}

impl Flight for Airborne<'_> {
    fn has_room(&self) -> bool {
        self.ring.has_room()
    }

    fn begin(&mut self, offset: u64, len: usize, buffer: Buffer) {
        let (lane, _) = self.io.lane(offset, buffer.as_ptr() as usize, len);
        let state = if inside(offset, len, self.size).is_ok() {
            self.ring.begin(lane, offset, len, buffer, self.io.served).map_or_else(State::Waits, State::Flies)
        } else {
            State::Waits(buffer)
        };
        self.order.push_back(Airborn { offset, len, state });
    }

    fn land(&mut self) -> Option<Landed> {
        let Airborn { offset, len, state } = self.order.pop_front()?;
        let ended = match state {
            State::Waits(buffer) => Ok((buffer, Ok(0))),
            State::Ended(buffer, outcome) => Ok((buffer, outcome)),
            State::Flies(ticket) => self.wait(ticket, offset, Instant::now()),
        };
        let (mut buffer, outcome) = match ended {
            Ok((buffer, Ok(count))) if count == len => (buffer, Ok(())),
            Ok((buffer, Err(error))) if !is_passing(&error) => (buffer, Err(ReadError::from_io(&error, offset, len as u64))),
            // Whatever is still to be read is read like any other stretch.
            Ok((mut buffer, outcome)) => {
                let done = outcome.unwrap_or(0);
                let rest =
                    inside(offset, len, self.size).and_then(|_| self.io.read_within(offset + done as u64, &mut buffer[done..len], &self.patience));
                (buffer, rest)
            }
            Err(error) => (Buffer::new(0), Err(error)),
        };
        if buffer.is_empty() {
            buffer = Buffer::new(len);
        }
        Some(Landed { offset, len, buffer, outcome: outcome.map_err(&self.sort) })
    }
}

/// Whether the same read may well succeed in another way.
fn is_passing(error: &io::Error) -> bool {
    matches!(error.raw_os_error(), Some(libc::EINVAL | libc::EINTR | libc::EAGAIN))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Control;
    use proptest::prelude::*;
    use std::io::Write;
    use std::os::fd::OwnedFd;

    /// A pipe is a drive that hangs until somebody writes to it.
    #[test]
    fn a_read_that_hangs_is_given_up_and_the_next_one_is_not_mixed_up_with_it() {
        let (read, mut write) = io::pipe().unwrap();
        let io = Io { direct: None, ..Io::over(File::from(OwnedFd::from(read)), false, 512) };
        let patience = |limit: u64, control: Option<Control>| Patience { limit: Duration::from_millis(limit), control };
        let mut bytes = [0; 4];
        let error = io.read_within(0, &mut bytes, &patience(60, None)).unwrap_err();
        assert!(matches!(error, ReadError::Silent { offset: 0, .. }), "{error}");
        let (control, began) = (Control::new(), Instant::now());
        std::thread::scope(|scope| {
            scope.spawn(|| {
                std::thread::sleep(Duration::from_millis(100));
                control.stop();
            });
            let error = io.read_within(4, &mut bytes, &patience(60_000, Some(control.clone()))).unwrap_err();
            assert!(matches!(error, ReadError::Gone(_)) && began.elapsed() < Duration::from_secs(10), "{error}");
        });
        // The first two get what comes first, wherever that goes now; who asks later gets what comes later.
        write.write_all(b"frstscnd").unwrap();
        std::thread::sleep(Duration::from_millis(50));
        write.write_all(b"here").unwrap();
        io.read_within(8, &mut bytes, &patience(5000, None)).unwrap();
        assert_eq!(&bytes, b"here");
    }

    #[test]
    fn reads_that_hang_do_not_pile_up() {
        let (read, _write) = io::pipe().unwrap();
        let io = Io { direct: None, ..Io::over(File::from(OwnedFd::from(read)), false, 512) };
        let patience = Patience { limit: Duration::from_millis(1), control: None };
        let spans: Vec<Duration> = (0..MOST_HANGING as u64 + 2)
            .map(|at| match io.read_within(at, &mut [0; 4], &patience) {
                Err(ReadError::Silent { after, .. }) => after,
                other => panic!("{other:?}"),
            })
            .collect();
        assert_eq!(spans[MOST_HANGING - 1..], [patience.limit, Duration::ZERO, Duration::ZERO]);
    }

    proptest! {
        /// However many fly, each lands in its turn with its own bytes.
        #[test]
        fn a_flight_lands_in_order(depth in 1u32..5, reads in prop::collection::vec((0u64..70_000, 1usize..9000, any::<bool>()), 1..20)) {
            let content: Vec<u8> = (0..65_536u32).flat_map(|word| (word as u16).to_le_bytes()).take(70_001).collect();
            let mut file = tempfile::tempfile().unwrap();
            file.write_all(&content).unwrap();
            let io = Io::over(file, false, 512);
            let mut flight = io.flight(content.len() as u64, depth, &Patience::default(), Box::new(|error| error)).unwrap();
            let (mut asked, mut landed) = (VecDeque::new(), 0);
            let mut check = |flight: &mut Box<dyn Flight + '_>, asked: &mut VecDeque<(u64, usize)>| {
                let (at, len) = asked.pop_front().unwrap();
                let read = flight.land().unwrap();
                landed += 1;
                assert_eq!((read.offset, read.len), (at, len));
                match content.get(at as usize..at as usize + len) {
                    Some(right) => assert!(read.outcome.is_ok() && &read.buffer[..len] == right),
                    None => assert!(matches!(read.outcome, Err(ReadError::PastEnd { .. }))),
                }
            };
            for (at, len, is_aligned) in &reads {
                let (at, len) = if *is_aligned { (at / 512 * 512, len.next_multiple_of(512)) } else { (*at, *len) };
                while !flight.has_room() {
                    check(&mut flight, &mut asked);
                }
                flight.begin(at, len, Buffer::new(len.next_multiple_of(4096)));
                asked.push_back((at, len));
            }
            while !asked.is_empty() {
                check(&mut flight, &mut asked);
            }
            prop_assert_eq!(landed, reads.len());
            prop_assert!(flight.land().is_none());
        }
    }
}
