//! A target that loses power.

use badger_drive::{Geometry, Identity, Medium, ReadError, WriteError, WriteMedium};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Mutex;

/// A drive with a cache that loses power after so many requests. What was not flushed is kept or lost, sector by
/// sector, as a seed decides.
pub struct Volatile {
    identity: Identity,
    state: Mutex<Cache>,
}

struct Cache {
    durable: Vec<u8>,
    waiting: BTreeMap<u64, Vec<u8>>,
    requests_left: u64,
    random: u64,
}

impl Volatile {
    /// A drive that holds this, and has power for so many requests.
    pub fn new(durable: Vec<u8>, requests_left: u64, random: u64) -> Self {
        let cache = Cache { durable, waiting: BTreeMap::new(), requests_left, random };
        Self { identity: Identity::of_file(Path::new("volatile")), state: Mutex::new(cache) }
    }

    /// What it holds after all.
    pub fn take(&self) -> Vec<u8> {
        std::mem::take(&mut self.state.lock().unwrap().durable)
    }

    fn request(&self) -> Result<std::sync::MutexGuard<'_, Cache>, WriteError> {
        let mut state = self.state.lock().unwrap();
        if state.requests_left == 0 {
            return Err(WriteError::Gone("no power".into()));
        }
        state.requests_left -= 1;
        if state.requests_left == 0 {
            let waiting = std::mem::take(&mut state.waiting);
            for (at, bytes) in waiting {
                for (sector, piece) in bytes.chunks(512).enumerate() {
                    state.random = state.random.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
                    if state.random >> 63 == 1 {
                        let at = at as usize + sector * 512;
                        state.durable[at..at + piece.len()].copy_from_slice(piece);
                    }
                }
            }
            return Err(WriteError::Gone("no power".into()));
        }
        Ok(state)
    }
}

impl Medium for Volatile {
    fn geometry(&self) -> Geometry {
        Geometry { size_bytes: self.state.lock().unwrap().durable.len() as u64, logical_sector: 512, physical_sector: 512 }
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        let state = self.state.lock().unwrap();
        let start = offset as usize;
        buf.copy_from_slice(&state.durable[start..start + buf.len()]);
        for (at, bytes) in &state.waiting {
            let (from, to) = ((*at).max(offset), (at + bytes.len() as u64).min(offset + buf.len() as u64));
            if from < to {
                buf[(from - offset) as usize..(to - offset) as usize].copy_from_slice(&bytes[(from - at) as usize..(to - at) as usize]);
            }
        }
        Ok(())
    }
}

impl WriteMedium for Volatile {
    fn write_at(&self, offset: u64, buf: &[u8]) -> Result<(), WriteError> {
        let mut state = self.request()?;
        // Later writes win over earlier ones at the same place because every place is written once between flushes.
        state.waiting.insert(offset, buf.to_vec());
        Ok(())
    }
    fn write_zero(&self, offset: u64, len: u64) -> Result<(), WriteError> {
        self.write_at(offset, &vec![0; len as usize])
    }
    fn flush(&self) -> Result<(), WriteError> {
        let mut state = self.request()?;
        for (at, bytes) in std::mem::take(&mut state.waiting) {
            state.durable[at as usize..at as usize + bytes.len()].copy_from_slice(&bytes);
        }
        Ok(())
    }
    fn forget(&self, _offset: u64, _len: u64) {}
}
