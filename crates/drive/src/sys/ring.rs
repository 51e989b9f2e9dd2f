//! Reads in flight, through `io_uring` (the kernel's `Documentation` and `io_uring(7)`).
//!
//! What holds it up: the kernel writes to a buffer from the moment a read begins until its completion was taken. All that while
//! [`Ring`] owns the buffer and nobody can reach it; where a ring ends before that, the buffer is given up and never freed.

use crate::buffer::Buffer;
use io_uring::squeue::Flags;
use io_uring::types::{Fd, SubmitArgs, Timespec};
use io_uring::{IoUring, opcode};
use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;
use std::time::{Duration, Instant};

/// A number by which a read is known again.
pub type Ticket = u64;

/// The kernel cuts longer reads in parts. One that may not wait for them is begun, given up and begun anew: these may wait.
const LONG: usize = 512 << 10;

/// Marks what is no read.
const CALLED_OFF: u64 = u64::MAX;

/// So long the end of a ring waits for reads that are still in flight.
const GRACE: Duration = Duration::from_millis(200);

/// Reads in flight and the buffers that they fill.
pub struct Ring {
    ring: IoUring,
    depth: usize,
    /// What the kernel may write to.
    held: Vec<(Ticket, Buffer)>,
    next: Ticket,
}

impl Ring {
    /// A ring for `depth` reads at a time.
    ///
    /// # Errors
    /// What the system says; it may not have such rings, or not allow them.
    pub fn new(depth: u32) -> io::Result<Self> {
        Ok(Self { ring: IoUring::new(depth.max(1) * 2)?, depth: depth.max(1) as usize, held: Vec::new(), next: 0 })
    }

    /// Reads that began and did not end.
    pub fn in_flight(&self) -> usize {
        self.held.len()
    }

    /// Whether another one may begin.
    pub fn has_room(&self) -> bool {
        self.held.len() < self.depth
    }

    /// Begins to read `len` bytes at `offset` into the start of `buffer`. With `apart` nothing of it is done here: there are
    /// files of which already the question whether they can be read may get no answer.
    ///
    /// # Errors
    /// The buffer where the system does not take the read, or there is no room.
    pub fn begin(&mut self, file: &File, offset: u64, len: usize, buffer: Buffer, apart: bool) -> Result<Ticket, Buffer> {
        let Ok(count) = u32::try_from(len) else { return Err(buffer) };
        if !self.has_room() || len > buffer.len() {
            return Err(buffer);
        }
        let ticket = self.next;
        self.next += 1;
        self.held.push((ticket, buffer));
        let target = self.held.last_mut().expect("it was pushed a line above").1.as_mut_ptr();
        let entry = opcode::Read::new(Fd(file.as_raw_fd()), target, count).offset(offset).build().user_data(ticket);
        let entry = if apart || len > LONG { entry.flags(Flags::ASYNC) } else { entry };
        // SAFETY: `held` owns the buffer, whose bytes lie elsewhere and do not move with it, until the completion was taken; `len`
        // lies within it. The descriptor is open during the call, and the kernel holds the file from there on.
        let pushed = unsafe { self.ring.submission().push(&entry) };
        match pushed {
            Ok(()) => match self.ring.submit() {
                Ok(_) => Ok(ticket),
                // The read may begin yet: its buffer stays here.
                Err(_) => Err(Buffer::new(len)),
            },
            Err(_) => Err(self.held.pop().map_or_else(|| Buffer::new(len), |(_, buffer)| buffer)),
        }
    }

    /// A read that ended, its buffer and what the system said, after `limit` at the latest.
    pub fn wait(&mut self, limit: Duration) -> Option<(Ticket, Buffer, io::Result<usize>)> {
        let end = Instant::now() + limit;
        loop {
            while let Some(completion) = self.ring.completion().next() {
                let ticket = completion.user_data();
                if let Some(place) = self.held.iter().position(|(held, _)| *held == ticket) {
                    let (_, buffer) = self.held.swap_remove(place);
                    let result = completion.result();
                    let outcome = if result < 0 { Err(io::Error::from_raw_os_error(-result)) } else { Ok(result as usize) };
                    return Some((ticket, buffer, outcome));
                }
            }
            let left = end.saturating_duration_since(Instant::now());
            if self.held.is_empty() || left.is_zero() {
                return None;
            }
            let left = Timespec::from(left);
            match self.ring.submitter().submit_with_args(1, &SubmitArgs::new().timespec(&left)) {
                Err(error) if !matches!(error.raw_os_error(), Some(libc::ETIME | libc::EINTR | libc::EAGAIN | libc::EBUSY)) => return None,
                _ => {}
            }
        }
    }
}

impl Drop for Ring {
    fn drop(&mut self) {
        for (ticket, _) in &self.held {
            let entry = opcode::AsyncCancel::new(*ticket).build().user_data(CALLED_OFF);
            // SAFETY: calling off refers to no memory.
            let _ = unsafe { self.ring.submission().push(&entry) };
        }
        if !self.held.is_empty() {
            let _ = self.ring.submit();
            let end = Instant::now() + GRACE;
            while self.wait(end.saturating_duration_since(Instant::now())).is_some() {}
        }
        // The kernel may still write into what did not end; what ended is gone from here.
        if !self.held.is_empty() {
            std::mem::forget(std::mem::take(&mut self.held));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;
    use std::os::fd::OwnedFd;

    /// A pipe is a drive that hangs until somebody writes to it.
    #[test]
    fn a_read_that_hangs_is_left_behind_and_ends_later() {
        let (read, write) = io::pipe().unwrap();
        let (read, mut write) = (File::from(OwnedFd::from(read)), File::from(OwnedFd::from(write)));
        let mut ring = Ring::new(2).unwrap();
        let began = Instant::now();
        let ticket = ring.begin(&read, 0, 4, Buffer::new(8), false).ok().unwrap();
        assert!(ring.wait(Duration::from_millis(30)).is_none() && began.elapsed() >= Duration::from_millis(30));
        assert_eq!(ring.in_flight(), 1);
        write.write_all(b"late").unwrap();
        let (landed, buffer, outcome) = ring.wait(Duration::from_secs(5)).unwrap();
        assert_eq!((landed, outcome.unwrap(), &buffer[..4], ring.in_flight()), (ticket, 4, &b"late"[..], 0));
    }

    #[test]
    fn a_ring_with_reads_in_flight_ends_soon() {
        let (read, _write) = io::pipe().unwrap();
        let read = File::from(OwnedFd::from(read));
        let mut ring = Ring::new(4).unwrap();
        for _ in 0..4 {
            assert!(ring.begin(&read, 0, 512, Buffer::new(512), true).is_ok());
        }
        assert!(!ring.has_room() && ring.begin(&read, 0, 512, Buffer::new(512), false).is_err());
        let began = Instant::now();
        drop(ring);
        assert!(began.elapsed() < Duration::from_secs(2));
    }
}
