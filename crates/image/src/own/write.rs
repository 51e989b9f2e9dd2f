//! Writing: records at the end of a stream, and the map that grows with them.

use super::crypt::{self, Keys, Lock};
use super::entry::{ENTRY, Entry, Held};
use super::record::{HEADER, Header, STEP, What};
use super::shelf::Store;
use super::{CHUNK, GROUP};
use crate::layer::{Result, Wrong};
use badger_drive::field::{array, le64};
use badger_drive::{Extents, Standing};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::collections::hash_map::Entry as Slot;

/// Chunks by whose content further ones are known again: some 100 MiB of memory.
const MOST_KNOWN: usize = 1 << 20;
/// The level at which maps are packed.
const PAGE_LEVEL: i32 = 3;

/// What an image says of itself first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Head {
    /// Of the format: 2.
    pub version: u32,
    /// 16 random bytes, hexadecimal.
    pub id: String,
    /// Bytes of the drive.
    pub size: u64,
    /// Bytes of its sectors.
    pub logical: u32,
    /// Bytes it writes in one go.
    pub physical: u32,
    /// BLAKE3 of the drive's key, hexadecimal: tells the same drive again, and not which it is.
    pub drive: String,
    /// Whether only what is in use is copied.
    pub sparing: bool,
    /// The image that this one goes on from: its number and the name of its file.
    pub parent: Option<(String, String)>,
    /// What the system said of the drive when the image was begun, and under which start of the system.
    #[serde(default)]
    pub standing: Standing,
    /// Names that start.
    #[serde(default)]
    pub boot: String,
    /// Bytes of a volume at the most, where it was begun in volumes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub split: Option<u64>,
    /// How it is locked.
    pub(super) lock: Option<Lock>,
}

impl Head {
    /// As it stands in the first record.
    pub(super) fn text(&self) -> Result<Vec<u8>> {
        serde_json::to_vec(self).map_err(|error| Wrong::new(error.to_string()))
    }

    /// What tells a drive again, by its key.
    pub(super) fn drive_of(key: &str) -> String {
        blake3::hash(key.as_bytes()).to_hex().to_string()
    }
}

/// The end of an image: what is needed to find everything else. Its hash covers the hashes in it, and so the whole image.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Index {
    /// The hash of the head, hexadecimal.
    pub head: String,
    /// Lists of the pages of all groups with something in them.
    pub pages: Vec<ListAt>,
    /// Lists of what could not be read.
    pub lost: Vec<ListAt>,
    /// The facts.
    pub facts: Option<ListAt>,
    /// Whether only what is in use was copied.
    pub sparing: bool,
}

/// Where a record of the index is, and its hash, hexadecimal.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct ListAt {
    pub at: u64,
    pub hash: String,
}

/// Where the page of a group is, and its copy; its hash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct PageAt {
    pub group: u64,
    pub at: u64,
    pub copy: u64,
    pub hash: [u8; 32],
}

/// Bytes of a page's place in a list.
const PLACE: usize = 56;
/// Bytes of a list in one record: a whole number of places, and of stretches.
const LIST: usize = 112 << 16;

impl PageAt {
    fn encode(&self, out: &mut Vec<u8>) {
        [self.group, self.at, self.copy].iter().for_each(|number| out.extend(number.to_le_bytes()));
        out.extend(self.hash);
    }

    /// The places in a list.
    pub fn decode(list: &[u8]) -> impl Iterator<Item = Self> {
        list.chunks_exact(PLACE).map(|place| Self { group: le64(place, 0), at: le64(place, 8), copy: le64(place, 16), hash: array(place, 24) })
    }
}

/// Stretches as a list: start and length each.
fn stretches(lost: impl Iterator<Item = (u64, u64)>) -> Vec<u8> {
    lost.flat_map(|(start, len)| [start.to_le_bytes(), len.to_le_bytes()].concat()).collect()
}

/// The last record.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct End {
    pub index: u64,
}

/// Chunks that are known by their content.
#[derive(Default)]
pub(super) struct Known(HashMap<[u8; 16], Held>);

impl Known {
    fn key(hash: &[u8; 32]) -> [u8; 16] {
        std::array::from_fn(|at| hash[at])
    }

    pub fn find(&self, hash: &[u8; 32]) -> Option<Held> {
        self.0.get(&Self::key(hash)).copied().filter(|held| held.hash == *hash)
    }

    pub fn add(&mut self, held: Held) {
        if self.0.len() < MOST_KNOWN
            && let Slot::Vacant(slot) = self.0.entry(Self::key(&held.hash))
        {
            slot.insert(held);
        }
    }
}

/// A record as it is written.
fn whole(header: &Header, payload: &[u8]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(header.stride() as usize);
    bytes.extend(header.encode());
    bytes.extend(payload);
    bytes.resize(bytes.len().next_multiple_of(STEP as usize), 0);
    bytes
}

/// An image that is written.
pub(super) struct Writer {
    store: Box<dyn Store>,
    /// The first record, with which every volume begins.
    head: Vec<u8>,
    keys: Option<Keys>,
    /// The page of the group that is filled now.
    page: Vec<Entry>,
    group: Option<u64>,
    sparing: bool,
    pages: Vec<PageAt>,
    /// The hash of the head, hexadecimal.
    head_hash: String,
    /// The page before, of which a copy follows the next one: what damages one of them leaves the other.
    previous: Option<(usize, Vec<u8>)>,
    lost: Extents<()>,
    /// Bytes of chunks that were written.
    pub stored: u64,
}

impl Writer {
    /// Begins an image.
    pub fn begin(store: Box<dyn Store>, head: &Head, keys: Option<Keys>, sparing: bool) -> Result<Self> {
        let text = head.text()?;
        let mut writer = Self::over(store, (Vec::new(), &text), keys, (sparing, Vec::new()), Extents::new());
        // The head says how to unlock everything else: it is not locked itself.
        let hash = crypt::hash(None, &text);
        let header = Header { what: What::Head, packed: false, locked: false, holed: false, number: 0, len: 0, whole: 0, hash };
        let (header, payload) = crypt::seal(None, header, &text, 0)?;
        writer.append(&header, &payload)?;
        writer.head = whole(&header, &payload);
        Ok(writer)
    }

    /// Goes on with one: the record of its head and what stands in it, whether only what is in use is copied, and the pages so far.
    pub fn over(
        store: Box<dyn Store>,
        (head, text): (Vec<u8>, &[u8]),
        keys: Option<Keys>,
        (sparing, pages): (bool, Vec<PageAt>),
        lost: Extents<()>,
    ) -> Self {
        let head_hash = hex::encode(crypt::hash(keys.as_ref(), text));
        Self { store, head, keys, page: Vec::new(), group: None, sparing, pages, head_hash, previous: None, lost, stored: 0 }
    }

    fn append(&mut self, header: &Header, payload: &[u8]) -> Result<u64> {
        let failed = |error: std::io::Error| Wrong::new(format!("it cannot be written: {error}"));
        if self.store.record_follows(header.stride()).map_err(failed)? {
            // Its number is where this volume begins: a volume before it that is missing costs no more than itself.
            let front = Header::decode(&self.head).ok_or_else(|| Wrong::new("its first record is damaged"))?;
            let front = Header { number: self.store.at(), ..front };
            let head = [&front.encode()[..], &self.head[HEADER..]].concat();
            self.store.append(&head).map_err(failed)?;
        }
        let at = self.store.at();
        self.store.append(&whole(header, payload)).map_err(failed)?;
        Ok(at)
    }

    fn record(&mut self, what: What, number: u64, bytes: &[u8], level: i32) -> Result<u64> {
        let hash = crypt::hash(self.keys.as_ref(), bytes);
        let header = Header { what, packed: false, locked: false, holed: false, number, len: 0, whole: 0, hash };
        let (header, payload) = crypt::seal(self.keys.as_ref(), header, bytes, level)?;
        self.append(&header, &payload)
    }

    /// The same, with its hash.
    fn listed(&mut self, what: What, bytes: &[u8]) -> Result<ListAt> {
        let hash = hex::encode(crypt::hash(self.keys.as_ref(), bytes));
        Ok(ListAt { at: self.record(what, 0, bytes, PAGE_LEVEL)?, hash })
    }

    /// Writes a chunk that was packed before, and says where it is.
    pub fn chunk(&mut self, header: &Header, payload: &[u8]) -> Result<Held> {
        if header.holed {
            // In front, so that an image that ends with the chunk says of it what is unknown.
            let (start, end) = (header.number * CHUNK, (header.number + 1) * CHUNK);
            let lost = stretches(self.lost.within(start..end).map(|(range, ())| (range.start, range.end - range.start)));
            self.record(What::Lost, header.number, &lost, 0)?;
        }
        self.stored += HEADER as u64 + u64::from(header.len);
        let at = self.append(header, payload)?;
        Ok(Held { image: 0, at, len: header.len, hash: header.hash })
    }

    /// Notes what a chunk is; they come in their order.
    pub fn note(&mut self, chunk: u64, entry: Entry) -> Result<()> {
        let group = chunk / GROUP;
        if self.group != Some(group) {
            self.close_page()?;
            self.group = Some(group);
            self.page = vec![Entry::Unused; GROUP as usize];
        }
        self.page[(chunk % GROUP) as usize] = entry;
        Ok(())
    }

    /// Notes what could not be read.
    pub fn lost(&mut self, start: u64, len: u64) {
        self.lost.set(start..start + len, ());
    }

    /// Writes the page that was filled: what came before it is found by it from now on.
    fn close_page(&mut self) -> Result<()> {
        let Some(group) = self.group.take() else { return Ok(()) };
        let mut bytes = Vec::with_capacity(GROUP as usize * ENTRY + 16);
        self.page.iter().for_each(|entry| entry.encode(&mut bytes));
        // What was lost in these chunks goes with them, so that no image that is cut off takes it for zeroes.
        let span = group * GROUP * CHUNK..(group + 1) * GROUP * CHUNK;
        bytes.extend(stretches(self.lost.within(span).map(|(range, ())| (range.start, range.end - range.start))));
        let at = self.record(What::Page, group, &bytes, PAGE_LEVEL)?;
        let hash = crypt::hash(self.keys.as_ref(), &bytes);
        self.copy_previous()?;
        self.previous = Some((self.pages.len(), bytes));
        self.pages.push(PageAt { group, at, copy: at, hash });
        Ok(())
    }

    fn copy_previous(&mut self) -> Result<()> {
        let Some((number, bytes)) = self.previous.take() else { return Ok(()) };
        let group = self.pages[number].group;
        self.pages[number].copy = self.record(What::Page, group, &bytes, PAGE_LEVEL)?;
        Ok(())
    }

    /// What could not be read so far, by earlier runs too: start and length.
    pub fn lost_so_far(&self) -> Vec<(u64, u64)> {
        self.lost.iter().map(|(range, ())| (range.start, range.end - range.start)).collect()
    }

    /// Why it ended early, and what can be done.
    pub fn way_on(&self, why: &str) -> String {
        match self.pages.is_empty() {
            true => format!("{why}; too little of it is there to go on with: it has to be begun anew"),
            false => format!("{why}; give the same command again to go on"),
        }
    }

    /// Makes all that was written durable.
    pub fn keep(&mut self) -> Result<()> {
        self.store.keep().map_err(|error| Wrong::new(format!("it cannot be made durable: {error}")))
    }

    /// Ends an image. `facts` is JSON. Gives its length, and the hash over all.
    pub fn end(&mut self, facts: &str) -> Result<(u64, [u8; 32])> {
        self.close_page()?;
        self.copy_previous()?;
        let facts = Some(self.listed(What::Facts, facts.as_bytes())?);
        let mut places = Vec::with_capacity(self.pages.len() * PLACE);
        self.pages.iter().for_each(|page| page.encode(&mut places));
        let lost = stretches(self.lost_so_far().into_iter());
        let mut lists = |bytes: &[u8]| bytes.chunks(LIST).map(|part| self.listed(What::List, part)).collect::<Result<Vec<_>>>();
        let (pages, lost) = (lists(&places)?, lists(&lost)?);
        let json = |error: serde_json::Error| Wrong::new(error.to_string());
        let index = Index { head: self.head_hash.clone(), pages, lost, facts, sparing: self.sparing };
        let text = serde_json::to_vec(&index).map_err(json)?;
        let index = self.record(What::Index, 0, &text, PAGE_LEVEL)?;
        // An image that has its end is whole, also after a loss of power.
        self.keep()?;
        self.record(What::End, 0, &serde_json::to_vec(&End { index }).map_err(json)?, 0)?;
        self.keep()?;
        Ok((self.store.at(), crypt::hash(self.keys.as_ref(), &text)))
    }
}

/// The last record lies in so many bytes at the end.
pub(super) const LAST: u64 = 512;
