//! Stretches of a volume as they are to become, kept in memory until somebody writes them.

use crate::cached::Cached;
use crate::finding::Result;
use std::collections::BTreeMap;

/// Pages of one size; what was only read is kept as well.
pub(crate) struct Pages<'a> {
    volume: &'a Cached,
    size: u64,
    held: BTreeMap<u64, (Vec<u8>, bool)>,
}

impl<'a> Pages<'a> {
    /// Pages of so many bytes.
    pub fn new(volume: &'a Cached, size: u64) -> Self {
        Self { volume, size, held: BTreeMap::new() }
    }

    fn of(&mut self, page: u64) -> Result<&mut (Vec<u8>, bool)> {
        if let std::collections::btree_map::Entry::Vacant(empty) = self.held.entry(page) {
            empty.insert((self.volume.read(page * self.size, self.size as usize)?, false));
        }
        Ok(self.held.entry(page).or_default())
    }

    /// Whether something in a page was changed.
    pub fn is_changed(&self, page: u64) -> bool {
        self.held.get(&page).is_some_and(|(_, changed)| *changed)
    }

    /// Bytes as they stand there by now.
    pub fn get(&mut self, at: u64, len: usize) -> Result<Vec<u8>> {
        let (mut out, mut at, end) = (Vec::with_capacity(len), at, at + len as u64);
        while at < end {
            let (size, within) = (self.size, (at % self.size) as usize);
            let part = (end - at).min(size - within as u64) as usize;
            out.extend(&self.of(at / size)?.0[within..within + part]);
            at += part as u64;
        }
        Ok(out)
    }

    /// Bytes become others.
    pub fn write(&mut self, at: u64, bytes: &[u8]) -> Result<()> {
        let (mut done, size) = (0, self.size);
        while done < bytes.len() {
            let at = at + done as u64;
            let within = (at % size) as usize;
            let part = (bytes.len() - done).min(size as usize - within);
            // What is written whole need not be read.
            let held =
                if part as u64 == size { self.held.entry(at / size).or_insert_with(|| (vec![0; size as usize], true)) } else { self.of(at / size)? };
            held.0[within..within + part].copy_from_slice(&bytes[done..done + part]);
            held.1 = true;
            done += part;
        }
        Ok(())
    }

    /// What has to be written: places, and what is to stand there, neighbours together.
    pub fn changes(self) -> Vec<(u64, Vec<u8>)> {
        let mut out: Vec<(u64, Vec<u8>)> = Vec::new();
        for (page, (bytes, _)) in self.held.into_iter().filter(|(_, (_, changed))| *changed) {
            let at = page * self.size;
            match out.last_mut() {
                Some((start, before)) if *start + before.len() as u64 == at => before.extend(bytes),
                _ => out.push((at, bytes)),
            }
        }
        out
    }
}
