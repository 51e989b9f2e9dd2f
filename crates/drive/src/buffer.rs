//! Buffers whose start is aligned for direct I/O, and a pool that hands them round.

use std::ops::{Deref, DerefMut};
use std::sync::{Condvar, Mutex};

/// Alignment in bytes that every direct transfer on every drive accepts.
pub const ALIGN: usize = 4096;

/// A zero-filled byte buffer that starts on an [`ALIGN`] boundary.
pub struct Buffer {
    bytes: Vec<u8>,
    start: usize,
    len: usize,
}

impl Buffer {
    /// A buffer of `len` bytes, all zero.
    pub fn new(len: usize) -> Self {
        let bytes = vec![0; len + ALIGN];
        let start = bytes.as_ptr().align_offset(ALIGN);
        Self { bytes, start, len }
    }
}

impl Deref for Buffer {
    type Target = [u8];
    fn deref(&self) -> &[u8] {
        &self.bytes[self.start..self.start + self.len]
    }
}

impl DerefMut for Buffer {
    fn deref_mut(&mut self) -> &mut [u8] {
        &mut self.bytes[self.start..self.start + self.len]
    }
}

/// A fixed number of buffers. Taking one waits until one is free, which is what keeps a fast reader from
/// running away from a slow writer.
pub struct Pool {
    state: Mutex<State>,
    returned: Condvar,
    len: usize,
}

struct State {
    free: Vec<Buffer>,
    /// How many were never asked for: a small drive needs but a few, and filling memory costs more than reading it.
    unmade: usize,
}

impl Pool {
    /// `count` buffers of `len` bytes each; each is made when it is first needed.
    pub fn new(count: usize, len: usize) -> Self {
        Self { state: Mutex::new(State { free: Vec::with_capacity(count), unmade: count }), returned: Condvar::new(), len }
    }

    /// Waits for a free buffer. Its contents are whatever the last user left.
    pub fn take(&self) -> Buffer {
        let mut state = self.state.lock().expect("pool lock");
        loop {
            if let Some(buffer) = state.free.pop() {
                return buffer;
            }
            if state.unmade > 0 {
                state.unmade -= 1;
                drop(state);
                return Buffer::new(self.len);
            }
            state = self.returned.wait(state).expect("pool lock");
        }
    }

    /// Gives a buffer back.
    pub fn give(&self, buffer: Buffer) {
        self.state.lock().expect("pool lock").free.push(buffer);
        self.returned.notify_one();
    }
}

/// Whether every byte is zero; compares in words, so that it costs less than reading the memory.
pub fn is_zero(bytes: &[u8]) -> bool {
    let (words, rest) = bytes.as_chunks::<64>();
    words.iter().all(|word| *word == [0; 64]) && rest.iter().all(|&byte| byte == 0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0)]
    #[case(512)]
    #[case(1 << 20)]
    fn buffers_start_aligned(#[case] len: usize) {
        let buffer = Buffer::new(len);
        assert_eq!(buffer.as_ptr() as usize % ALIGN, 0);
        assert_eq!(buffer.len(), len);
    }

    #[test]
    fn no_more_buffers_are_out_than_there_are() {
        let pool = Pool::new(2, 512);
        let (one, two) = (pool.take(), pool.take());
        assert_ne!(one.as_ptr(), two.as_ptr());
        std::thread::scope(|scope| {
            let third = scope.spawn(|| pool.take());
            std::thread::sleep(std::time::Duration::from_millis(30));
            assert!(!third.is_finished(), "it waits");
            let given = two.as_ptr() as usize;
            pool.give(two);
            assert_eq!(third.join().unwrap().as_ptr() as usize, given);
        });
        drop(one);
    }

    #[rstest]
    fn one_set_bit_anywhere_is_not_zero(#[values(0, 1, 63, 64, 4095, 4100)] place: usize) {
        let mut bytes = vec![0; 4101];
        assert!(is_zero(&bytes));
        bytes[place] = 0x80;
        assert!(!is_zero(&bytes));
    }
}
