//! Bytes of a container's file that tell where things lie: read in pages, few of them held at a time, however large the
//! tables are.

use crate::layer::{Result, Wrong};
use badger_drive::raw::RawFile;
use badger_drive::{Holds, Medium, Stretch};
use lru::LruCache;
use std::collections::BTreeMap;
use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex};

/// Bytes of a page.
const PAGE: u64 = 64 << 10;
/// Pages that are held: 16 MiB.
const MOST: NonZeroUsize = NonZeroUsize::new(256).expect("it is not zero");

/// A file of a container.
pub(crate) struct Held {
    pub file: RawFile,
    pages: Mutex<LruCache<u64, Arc<[u8]>>>,
    /// Stretches of 4 KiB that a log changed and that are not in the file yet.
    changed: BTreeMap<u64, Vec<u8>>,
}

/// Bytes of a stretch that a log changes.
pub(crate) const CHANGED: u64 = 4096;

impl Held {
    pub fn new(file: RawFile) -> Self {
        Self { file, pages: Mutex::new(LruCache::new(MOST)), changed: BTreeMap::new() }
    }

    /// The same file as it is once a log was carried out: 4 KiB each, by where they begin.
    pub fn with_changes(mut self, changed: BTreeMap<u64, Vec<u8>>) -> Self {
        self.changed = changed;
        self.pages = Mutex::new(LruCache::new(MOST));
        self
    }

    /// Bytes of the file.
    pub fn len(&self) -> u64 {
        let grown = self.changed.last_key_value().map_or(0, |(at, _)| at + CHANGED);
        self.file.geometry().size_bytes.max(grown)
    }

    /// Fills `buf` from a byte on, without holding it. What lies behind the end of the file is an error.
    pub fn read_plain(&self, at: u64, buf: &mut [u8]) -> std::result::Result<(), badger_drive::ReadError> {
        if self.changed.is_empty() {
            return self.file.read_at(at, buf);
        }
        let end = at.saturating_add(buf.len() as u64);
        let inside = self.file.geometry().size_bytes.saturating_sub(at).min(buf.len() as u64) as usize;
        self.file.read_at(at, &mut buf[..inside])?;
        buf[inside..].fill(0);
        for (start, bytes) in self.changed.range(at.saturating_sub(CHANGED - 1)..end) {
            let (from, to) = ((*start).max(at), (start + CHANGED).min(end));
            if from < to {
                buf[(from - at) as usize..(to - at) as usize].copy_from_slice(&bytes[(from - start) as usize..(to - start) as usize]);
            }
        }
        Ok(())
    }

    /// What is known of a stretch without reading it.
    pub fn stretch(&self, at: u64, max: u64) -> Stretch {
        if self.changed.is_empty() { self.file.stretch(at, max) } else { Stretch { len: max, holds: Holds::Bytes } }
    }

    fn page(&self, number: u64) -> Result<Arc<[u8]>> {
        if let Some(page) = self.pages.lock().expect("page lock").get(&number) {
            return Ok(page.clone());
        }
        let at = number * PAGE;
        let len = self.len().saturating_sub(at).min(PAGE);
        let mut bytes = vec![0; len as usize];
        self.read_plain(at, &mut bytes).map_err(|error| Wrong::new(error.to_string()))?;
        let page: Arc<[u8]> = bytes.into();
        self.pages.lock().expect("page lock").put(number, page.clone());
        Ok(page)
    }

    /// Fills `buf` from a byte on.
    pub fn fill(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        let end = at.checked_add(buf.len() as u64).filter(|end| *end <= self.len());
        if end.is_none() {
            return Err(Wrong::new(format!("it ends at byte {}, and something it needs lies at byte {at}", self.len())));
        }
        let mut done = 0;
        while done < buf.len() {
            let place = at + done as u64;
            let page = self.page(place / PAGE)?;
            let inner = (place % PAGE) as usize;
            let len = (buf.len() - done).min(page.len() - inner);
            buf[done..done + len].copy_from_slice(&page[inner..inner + len]);
            done += len;
        }
        Ok(())
    }

    /// `len` bytes at a byte, 1 MiB at the most.
    pub fn bytes(&self, at: u64, len: usize) -> Result<Vec<u8>> {
        if len > 1 << 20 {
            return Err(Wrong::new(format!("a structure at byte {at} claims {len} bytes")));
        }
        let mut bytes = vec![0; len];
        self.fill(at, &mut bytes)?;
        Ok(bytes)
    }
}
