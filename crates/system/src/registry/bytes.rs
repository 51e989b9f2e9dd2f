//! Where the bytes of a registry file come from.

use super::{Result, Wrong};
use std::collections::HashMap;
use std::sync::Mutex;

/// A file that is read at places.
pub trait Bytes: Send + Sync {
    /// Bytes it has.
    fn len(&self) -> u64;

    /// Whether it has none.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Fills `buf` from byte `offset` on.
    ///
    /// # Errors
    /// Why it cannot be read, also where it ends before.
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> std::result::Result<(), String>;
}

impl Bytes for Vec<u8> {
    fn len(&self) -> u64 {
        self.as_slice().len() as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> std::result::Result<(), String> {
        let range = usize::try_from(offset).ok().and_then(|start| self.get(start..start.checked_add(buf.len())?));
        buf.copy_from_slice(range.ok_or("it ends before")?);
        Ok(())
    }
}

impl Bytes for badger_fs::Content<'_> {
    fn len(&self) -> u64 {
        self.size()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> std::result::Result<(), String> {
        let mut done = 0;
        while done < buf.len() {
            match self.read(offset + done as u64, &mut buf[done..]) {
                Ok(0) => return Err("it ends before".into()),
                Ok(more) => done += more,
                Err(finding) => return Err(finding.text),
            }
        }
        Ok(())
    }
}

/// Bytes of a page of the cache.
const PAGE: u64 = 16 * 1024;
/// So many pages are kept.
const MOST_PAGES: usize = 4096;
/// Bytes of a page that a log may replace.
pub(crate) const LOGGED: u64 = 512;

/// A file with what transaction logs say laid over it, and what was read last kept.
pub(crate) struct Paged<'a> {
    inner: Box<dyn Bytes + 'a>,
    len: u64,
    /// What stands in pages of [`LOGGED`] bytes instead of what the file has there.
    over: HashMap<u64, Box<[u8]>>,
    pages: Mutex<HashMap<u64, Box<[u8]>>>,
}

impl<'a> Paged<'a> {
    pub fn new(inner: impl Bytes + 'a) -> Self {
        Self { len: inner.len(), inner: Box::new(inner), over: HashMap::new(), pages: Mutex::default() }
    }

    pub fn len(&self) -> u64 {
        self.len
    }

    /// Lays bytes over what is there; what begins or ends within a page keeps the rest of it.
    pub fn lay_over(&mut self, offset: u64, bytes: &[u8]) {
        self.len = self.len.max(offset + bytes.len() as u64);
        let mut done = 0;
        while done < bytes.len() {
            let at = offset + done as u64;
            let (number, within) = (at / LOGGED, (at % LOGGED) as usize);
            let more = (LOGGED as usize - within).min(bytes.len() - done);
            let mut page = vec![0; LOGGED as usize];
            if more < LOGGED as usize {
                // What lies behind the end reads as zero.
                let _ = self.read_at(number * LOGGED, &mut page);
            }
            page[within..within + more].copy_from_slice(&bytes[done..done + more]);
            self.over.insert(number, page.into());
            done += more;
        }
    }

    /// Fills `buf` from byte `offset` on, zeroes where only a log reaches so far.
    pub fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        let end = offset.saturating_add(buf.len() as u64);
        let wrong = |why: String| Wrong::new("registry-unreadable", format!("bytes {offset} to {end}: {why}"));
        if offset.checked_add(buf.len() as u64).is_none_or(|end| end > self.len) {
            return Err(wrong("it ends before".into()));
        }
        let mut done = 0;
        while done < buf.len() {
            let at = offset + done as u64;
            let (number, within) = (at / PAGE, (at % PAGE) as usize);
            let more = (PAGE as usize - within).min(buf.len() - done);
            let mut pages = self.pages.lock().expect("page lock");
            if !pages.contains_key(&number) {
                let mut page = vec![0; PAGE as usize];
                let have = self.inner.len().saturating_sub(number * PAGE).min(PAGE) as usize;
                // Behind the end of the file only a log has something.
                if have > 0 {
                    self.inner.read_at(number * PAGE, &mut page[..have]).map_err(wrong)?;
                }
                if pages.len() == MOST_PAGES {
                    pages.clear();
                }
                pages.insert(number, page.into());
            }
            buf[done..done + more].copy_from_slice(&pages[&number][within..within + more]);
            done += more;
        }
        if !self.over.is_empty() {
            let end = offset + buf.len() as u64;
            for number in offset / LOGGED..end.div_ceil(LOGGED) {
                if let Some(page) = self.over.get(&number) {
                    let (from, to) = (offset.max(number * LOGGED), end.min((number + 1) * LOGGED));
                    let part = &page[(from - number * LOGGED) as usize..(to - number * LOGGED) as usize];
                    buf[(from - offset) as usize..(to - offset) as usize].copy_from_slice(part);
                }
            }
        }
        Ok(())
    }
}
