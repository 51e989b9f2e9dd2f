//! An image of our own as a drive.

use super::crypt::{self, Keys, Passphrase};
use super::entry::{Entry, Held};
use super::record::{HEADER, Header, What};
use super::scan::{self, Damage, Found};
use super::shelf::Volumes;
use super::write::{End, Head, Index, LAST, ListAt, PageAt};
use super::{CHUNK, GROUP};
use crate::layer::{Result, Wrong};
use crate::parts::beside;
use badger_drive::medium::inside;
use badger_drive::{Bus, Extents, Geometry, Holds, Identity, Medium, ReadError, Standing, Stretch};
use lru::LruCache;
use std::collections::BTreeMap;
use std::fs::File;
use std::num::NonZeroUsize;
use std::ops::Range;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Mutex};

/// Pages of the map that are remembered, some 48 KiB each, and chunks.
const PAGES: NonZeroUsize = NonZeroUsize::new(256).expect("it is not zero");
const CHUNKS: NonZeroUsize = NonZeroUsize::new(256).expect("it is not zero");
/// Threads that verify.
const HANDS: usize = 8;
/// Images that go on from each other.
const MOST_LAYERS: usize = 64;

/// Entries of a page, what was lost of its chunks, its hash.
pub(super) type PageAgain = (Vec<Entry>, Vec<(u64, u64)>, [u8; 32]);

/// One image of a chain.
struct Layer {
    volumes: Volumes,
    keys: Option<Keys>,
}

/// Chunks by the image of the chain and the place.
type Chunks = LruCache<(u16, u64), Arc<Vec<u8>>>;
/// Where a page is, and its copy; its hash, where the index says it.
type PlaceOfPage = (u64, u64, Option<[u8; 32]>);
/// Entries of a page, and what was lost of its chunks.
type Page = (Vec<Entry>, Vec<(u64, u64)>);

/// An image that is open, with those it goes on from.
pub struct Image {
    head: Head,
    /// Itself first.
    chain: Vec<Layer>,
    /// Where the page of each group is, and its copy; its hash, where the index says it.
    pages: BTreeMap<u64, PlaceOfPage>,
    /// Chunks behind the last page of an image without an end.
    loose: BTreeMap<u64, Held>,
    lost: Extents<()>,
    facts: String,
    /// Only what is in use is in it.
    sparing: bool,
    hash: String,
    damage: Vec<Damage>,
    held_pages: Mutex<LruCache<u64, Arc<Vec<Entry>>>>,
    held_chunks: Mutex<Chunks>,
    identity: Identity,
}

/// What an image tells of itself.
#[derive(Clone, Debug, serde::Serialize)]
pub struct Shown {
    /// Of the format.
    pub version: u32,
    /// Its number.
    pub id: String,
    /// Number and name of what it goes on from.
    pub parent: Option<(String, String)>,
    /// Whether a passphrase opens it.
    pub locked: bool,
    /// Whether only what is in use was copied.
    pub sparing: bool,
    /// Bytes of the drive that could not be read when it was made.
    pub lost_bytes: u64,
    /// Whether it has an end.
    pub whole: bool,
}

/// What stands in front of a payload.
fn header(layer: &Layer, at: u64, what: What) -> Result<Header> {
    let broken = |why: &str| Wrong::new(format!("its record at byte {at} {why}"));
    let mut head = [0; HEADER];
    layer.volumes.read(at, &mut head).map_err(|error| broken(&error.to_string()))?;
    Header::decode(&head).filter(|header| header.what == what).ok_or_else(|| broken("is damaged"))
}

/// A record as it stands there.
fn stored(layer: &Layer, at: u64, what: What) -> Result<(Header, Vec<u8>)> {
    let header = header(layer, at, what)?;
    let mut stored = vec![0; header.len as usize];
    let cut_off = |_| Wrong::new(format!("its record at byte {at} is cut off"));
    layer.volumes.read(at + HEADER as u64, &mut stored).map_err(cut_off)?;
    Ok((header, stored))
}

fn record(layer: &Layer, at: u64, what: What) -> Result<(Header, Vec<u8>)> {
    let broken = |why: &str| Wrong::new(format!("its record at byte {at} {why}"));
    let (header, stored) = stored(layer, at, what)?;
    let keys = layer.keys.as_ref().filter(|_| what != What::Head);
    let bytes = crypt::unseal(keys, &header, stored).map_err(|wrong| broken(&wrong.to_string()))?;
    Ok((header, bytes))
}

/// The head of an image, and the bytes that say it.
pub(super) fn head_of(volumes: &Volumes) -> Result<(Head, Vec<u8>)> {
    let mut first = [0; HEADER];
    volumes.read(0, &mut first).map_err(|error| Wrong::new(error.to_string()))?;
    let header = Header::decode(&first).filter(|header| header.what == What::Head && header.len <= 1 << 20);
    let header = header.ok_or_else(|| Wrong::new("its first record is damaged"))?;
    let mut stored = vec![0; header.len as usize];
    volumes.read(HEADER as u64, &mut stored).map_err(|_| Wrong::new("its first record is cut off"))?;
    let bytes = crypt::unseal(None, &header, stored).map_err(|wrong| Wrong::new(format!("its first record {wrong}")))?;
    let head: Head = serde_json::from_slice(&bytes).map_err(|error| Wrong::new(format!("its first record cannot be understood: {error}")))?;
    let possible = head.size > 0 && head.size <= 1 << 60 && matches!(head.logical, 512 | 4096) && matches!(head.physical, 512 | 4096);
    match head.version {
        2 if possible => Ok((head, bytes)),
        2 => Err(Wrong::new("its first record contradicts itself")),
        other => Err(Wrong::new(format!("its version {other} is not known"))),
    }
}

/// The end of an image, if it has one.
fn index_of(layer: &Layer) -> Option<(Index, String)> {
    let len = layer.volumes.len();
    let from = len.saturating_sub(LAST) / 16 * 16;
    let mut tail = vec![0; (len - from) as usize];
    layer.volumes.read(from, &mut tail).ok()?;
    let places = (0..tail.len().saturating_sub(HEADER - 1)).step_by(16);
    let at = places.rev().find(|place| Header::decode(&tail[*place..]).is_some_and(|header| header.what == What::End))?;
    let (_, end) = record(layer, from + at as u64, What::End).ok()?;
    let end: End = serde_json::from_slice(&end).ok()?;
    let (header, text) = record(layer, end.index, What::Index).ok()?;
    Some((serde_json::from_slice(&text).ok()?, hex::encode(header.hash)))
}

/// Groups of pages, by the lists of an index; stretches that could not be read.
type Lists = (BTreeMap<u64, PlaceOfPage>, Extents<()>);

/// Stretches that could not be read: more of them are no image of a drive.
const MOST_LOST: usize = 8 << 20;

/// What an index names, each compared with its hash; a drive of `size` bytes has no more pages than that.
fn lists_of(layer: &Layer, index: &Index, size: u64) -> Result<Lists> {
    let named = |place: &ListAt, what: What| {
        let (header, bytes) = record(layer, place.at, what)?;
        if hex::encode(header.hash) == place.hash { Ok(bytes) } else { Err(Wrong::new(format!("its record at byte {} is another list", place.at))) }
    };
    let most = size.div_ceil(GROUP * CHUNK);
    let (mut pages, mut lost) = (BTreeMap::new(), Extents::new());
    for list in &index.pages {
        for page in PageAt::decode(&named(list, What::List)?).filter(|page| page.group < most) {
            pages.insert(page.group, (page.at, page.copy, Some(page.hash)));
        }
    }
    for list in &index.lost {
        let bytes = named(list, What::List)?;
        scan::stretches(&bytes)
            .filter(|(start, len)| *start < size && *len > 0)
            .for_each(|(start, len)| lost.set(start..(start + len).min(size), ()));
        if lost.len() > MOST_LOST {
            return Err(Wrong::new("it names more stretches that could not be read than any drive has"));
        }
    }
    Ok((pages, lost))
}

fn layer(path: &Path, passphrase: Option<&Passphrase>) -> Result<(Head, Vec<u8>, Layer)> {
    let volumes = Volumes::open(path).map_err(|error| Wrong::new(format!("{}: {error}", path.display())))?;
    let (head, text) = head_of(&volumes)?;
    let keys = match (&head.lock, passphrase) {
        (None, _) => None,
        (Some(lock), Some(passphrase)) => Some(lock.open(passphrase, &text)?),
        (Some(_), None) => return Err(Wrong::new("it is locked: give its passphrase")),
    };
    Ok((head, text, Layer { volumes, keys }))
}

impl Image {
    /// Opens an image by its first volume.
    ///
    /// # Errors
    /// What is wrong with it and where; what of it is not there.
    pub fn open(path: &Path, passphrase: Option<&Passphrase>) -> std::io::Result<Self> {
        Self::opened(path, passphrase).map_err(|wrong| std::io::Error::new(std::io::ErrorKind::InvalidData, wrong.to_string()))
    }

    pub(super) fn opened(path: &Path, passphrase: Option<&Passphrase>) -> Result<Self> {
        let (head, text, first) = layer(path, passphrase)?;
        let (mut chain, mut parent, mut from) = (vec![first], head.parent.clone(), path.to_path_buf());
        while let Some((id, name)) = parent {
            if chain.len() >= MOST_LAYERS {
                return Err(Wrong::new("too many images go on from each other"));
            }
            from = beside(&from, &[name])?;
            let (below, _, next) = layer(&from, passphrase)?;
            if below.id != id {
                return Err(Wrong::new(format!("{} is another image than the one that it goes on from", from.display())));
            }
            chain.push(next);
            parent = below.parent;
        }
        let mut identity = Identity::of_file(path);
        (identity.read_only, identity.bus) = (true, Bus::Image);
        let mut image = Self {
            head,
            chain,
            pages: BTreeMap::new(),
            loose: BTreeMap::new(),
            lost: Extents::new(),
            facts: String::new(),
            sparing: false,
            hash: String::new(),
            damage: Vec::new(),
            held_pages: Mutex::new(LruCache::new(PAGES)),
            held_chunks: Mutex::new(LruCache::new(CHUNKS)),
            identity,
        };
        image.find_map(&text)?;
        Ok(image)
    }

    /// By its end; where it has none, or what that names is damaged, record by record. `head` is what stands in the first record.
    fn find_map(&mut self, head: &[u8]) -> Result<()> {
        let mut why = "it has no end: it was cut off, or is still being written".to_string();
        if let Some((index, hash)) = index_of(&self.chain[0]) {
            if index.head != hex::encode(crypt::hash(self.keys(), head)) {
                return Err(Wrong::new("its first record is not the one that it was made with: its size, its parent or its lock were changed"));
            }
            match lists_of(&self.chain[0], &index, self.head.size) {
                Ok((pages, lost)) => {
                    (self.hash, self.pages, self.lost, self.sparing) = (hash, pages, lost, index.sparing);
                    let facts = index.facts.and_then(|place| {
                        let (header, text) = record(&self.chain[0], place.at, What::Facts).ok()?;
                        (hex::encode(header.hash) == place.hash).then(|| String::from_utf8_lossy(&text).into_owned())
                    });
                    if facts.is_none() {
                        self.damage.push(Damage { at: 0, text: "what it says of the drive and the job is damaged".into() });
                    }
                    self.facts = facts.unwrap_or_default();
                    self.damage.extend(self.volumes_damage());
                    return Ok(());
                }
                Err(wrong) => why = format!("the list of its pages is damaged: {wrong}"),
            }
        }
        let Found { pages, loose, holes, mut damage, end, .. } = scan::scan(&self.chain[0].volumes, self.head.size);
        // With another head no record of a locked image opens; one that is only damaged still has some that do.
        let some: Vec<(u64, What)> =
            pages.values().map(|(at, _)| (*at, What::Page)).chain(loose.values().map(|(at, _)| (*at, What::Chunk))).take(16).collect();
        if self.keys().is_some() && !some.is_empty() && some.iter().all(|(at, what)| record(&self.chain[0], *at, *what).is_err()) {
            return Err(Wrong::new("nothing in it opens with what its first record says: that was changed, or all of it is damaged"));
        }
        // What no page tells of was not written yet, or its page is lost: nobody knows it, but for chunks that stand there.
        let (span, size) = (GROUP * CHUNK, self.head.size);
        let told = pages.last_key_value().map_or(0, |(group, _)| (group + 1) * span).min(size);
        self.lost.set(told..size, ());
        if !damage.is_empty() {
            self.lost.set(0..told, ());
            pages.keys().for_each(|group| self.lost.clear(group * span..((group + 1) * span).min(size)));
        }
        loose.keys().for_each(|chunk| self.lost.clear(chunk * CHUNK..((chunk + 1) * CHUNK).min(size)));
        for (chunk, at) in holes.into_iter().filter(|(chunk, _)| loose.contains_key(chunk)) {
            let range = chunk * CHUNK..((chunk + 1) * CHUNK).min(size);
            match record(&self.chain[0], at, What::Lost) {
                Ok((header, list)) if header.number == chunk => {
                    let within = scan::stretches(&list).map(|(start, len)| start.max(range.start)..(start + len).min(range.end));
                    within.filter(|lost| lost.start < lost.end).for_each(|lost| self.lost.set(lost, ()));
                }
                _ => self.lost.set(range, ()),
            }
        }
        damage.push(Damage { at: end, text: why });
        let pages = pages.into_iter().map(|(group, (at, copy))| (group, (at, copy, None))).collect();
        damage.extend(self.volumes_damage());
        (self.pages, self.damage, self.sparing) = (pages, damage, true);
        self.loose = loose.into_iter().map(|(number, (at, header))| (number, Held { image: 0, at, len: header.len, hash: header.hash })).collect();
        for group in self.pages.keys().copied().collect::<Vec<_>>() {
            if let Ok((_, lost)) = self.read_page(group) {
                lost.into_iter().for_each(|(start, len)| self.lost.set(start..start.saturating_add(len), ()));
            }
        }
        Ok(())
    }

    fn read_page(&self, group: u64) -> Result<Page> {
        let Some((at, copy, hash)) = self.pages.get(&group).copied() else { return Ok((vec![Entry::Unused; GROUP as usize], Vec::new())) };
        let read = |at: u64| {
            record(&self.chain[0], at, What::Page).and_then(|(header, bytes)| match () {
                () if header.number != group => Err(Wrong::new("it tells of another group")),
                () if hash.is_some_and(|hash| header.hash != hash) => Err(Wrong::new("it is not the page that the index names")),
                () => Ok(bytes),
            })
        };
        let bytes = read(at).or_else(|wrong| if copy == at { Err(wrong) } else { read(copy) })?;
        Ok(scan::page(&bytes))
    }

    fn entries(&self, group: u64) -> Result<Arc<Vec<Entry>>> {
        if let Some(page) = self.held_pages.lock().expect("page lock").get(&group) {
            return Ok(page.clone());
        }
        let page = Arc::new(self.read_page(group)?.0);
        self.held_pages.lock().expect("page lock").put(group, page.clone());
        Ok(page)
    }

    /// What a chunk is.
    pub(super) fn entry(&self, chunk: u64) -> Result<Entry> {
        let known = self.entries(chunk / GROUP)?.get((chunk % GROUP) as usize).copied().unwrap_or_default();
        Ok(match known {
            Entry::Unused => self.loose.get(&chunk).map_or(Entry::Unused, |held| Entry::Data(*held)),
            known => known,
        })
    }

    /// The bytes of a chunk.
    pub(super) fn chunk(&self, held: &Held) -> Result<Arc<Vec<u8>>> {
        let key = (held.image, held.at);
        if let Some(bytes) = self.held_chunks.lock().expect("chunk lock").get(&key) {
            return Ok(bytes.clone());
        }
        let layer = self.chain.get(usize::from(held.image)).ok_or_else(|| Wrong::new("it lies in an image that this one does not go on from"))?;
        let (header, bytes) = record(layer, held.at, What::Chunk)?;
        if header.hash != held.hash || u64::from(header.whole) > CHUNK {
            return Err(Wrong::new(format!("its record at byte {} is another chunk", held.at)));
        }
        let bytes = Arc::new(bytes);
        self.held_chunks.lock().expect("chunk lock").put(key, bytes.clone());
        Ok(bytes)
    }

    /// Fills `out` with a whole chunk, without a detour where there is none to be made.
    fn whole_chunk(&self, held: &Held, out: &mut [u8]) -> Result<()> {
        let is_held = self.held_chunks.lock().expect("chunk lock").contains(&(held.image, held.at));
        let layer = self.chain.get(usize::from(held.image)).filter(|layer| !is_held && layer.keys.is_none());
        let Some(layer) = layer else {
            let bytes = self.chunk(held)?;
            let bytes = bytes.get(..out.len()).ok_or_else(|| Wrong::new("a chunk is short"))?;
            out.copy_from_slice(bytes);
            return Ok(());
        };
        let broken = |why: &str| Wrong::new(format!("its record at byte {} {why}", held.at));
        let header = header(layer, held.at, What::Chunk)?;
        if header.locked {
            return Err(broken("is damaged"));
        }
        if header.hash != held.hash || header.whole as usize != out.len() || header.len > header.whole {
            return Err(broken("is another chunk"));
        }
        let read = |buf: &mut [u8]| layer.volumes.read(held.at + HEADER as u64, buf).map_err(|_| broken("is cut off"));
        crypt::open_into(&header, &read, out).map_err(|wrong| broken(&wrong.to_string()))
    }

    /// The page of a group once more: entries, what was lost, and its hash.
    pub(super) fn page_again(&self, group: u64) -> Result<PageAgain> {
        let (entries, lost) = self.read_page(group)?;
        let mut bytes = Vec::new();
        entries.iter().for_each(|entry| entry.encode(&mut bytes));
        for (start, len) in &lost {
            bytes.extend(start.to_le_bytes());
            bytes.extend(len.to_le_bytes());
        }
        Ok((entries, lost, crypt::hash(self.keys(), &bytes)))
    }

    /// Whether there is something in it that can be gone on with: a page of the map.
    pub fn is_begun(&self) -> bool {
        !self.pages.is_empty()
    }

    /// The first stretch from a byte on that could not be read from the drive.
    pub(super) fn lost_from(&self, at: u64) -> Option<Range<u64>> {
        self.lost.within(at..self.head.size).next().map(|(range, ())| range)
    }

    /// What could not be read from the drive: start and length.
    pub(super) fn lost_stretches(&self) -> Vec<(u64, u64)> {
        self.lost.iter().map(|(range, ())| (range.start, range.end - range.start)).collect()
    }

    /// Bytes of its own volumes.
    pub(super) fn len(&self) -> u64 {
        self.chain[0].volumes.len()
    }

    /// What it tells of itself.
    pub fn shown(&self) -> Shown {
        Shown {
            version: self.head.version,
            id: self.head.id.clone(),
            parent: self.head.parent.clone(),
            locked: self.head.lock.is_some(),
            sparing: self.sparing,
            lost_bytes: self.lost.total(|()| true),
            whole: self.damage.is_empty(),
        }
    }

    /// Whether it is of the drive with that key.
    pub fn is_of(&self, key: &str) -> bool {
        self.head.drive == Head::drive_of(key)
    }

    /// The hash over all, hexadecimal; empty where it has no end.
    pub fn hash(&self) -> String {
        self.hash.clone()
    }

    /// Lets the system forget what it holds of it, so that it is read from the medium next.
    pub fn forget(&self) {
        for file in self.chain.iter().flat_map(|layer| layer.volumes.files()) {
            let _ = rustix::fs::fadvise(file, 0, None, rustix::fs::Advice::DontNeed);
        }
    }

    /// JSON about the drive and the job.
    pub fn facts(&self) -> &str {
        &self.facts
    }

    /// What was found wrong when it was opened.
    pub fn damage(&self) -> &[Damage] {
        &self.damage
    }

    pub(super) fn keys(&self) -> Option<&Keys> {
        self.chain[0].keys.as_ref()
    }

    pub(super) fn head(&self) -> &Head {
        &self.head
    }

    /// What is wrong with the volumes themselves.
    fn volumes_damage(&self) -> Vec<Damage> {
        self.chain[0].volumes.problems().into_iter().map(|(at, text)| Damage { at, text }).collect()
    }

    /// Reads every chunk that is in it and compares it with its hash. `each` gets how many bytes of the drive were gone over, and gives
    /// false where it shall end. What is damaged: chunks of the drive, in bytes.
    pub fn verify(&self, each: &mut dyn FnMut(u64) -> bool) -> Vec<Damage> {
        let groups: Vec<_> = self.pages.iter().collect();
        let (next, ends, mut damage) = (AtomicUsize::new(0), AtomicBool::new(false), self.damage.clone());
        let (tell, told) = channel();
        let hand = |tell: Sender<(u64, Vec<Damage>)>| {
            let mut sound = Vec::new();
            while !ends.load(Ordering::Relaxed)
                && let Some((group, pages)) = groups.get(next.fetch_add(1, Ordering::Relaxed))
                && tell.send(((*group + 1).saturating_mul(GROUP * CHUNK), self.verified_group(**group, **pages, &mut sound))).is_ok()
            {}
        };
        std::thread::scope(|scope| {
            let hand = &hand;
            for _ in 0..std::thread::available_parallelism().map_or(2, std::num::NonZero::get).clamp(1, HANDS) {
                let tell = tell.clone();
                scope.spawn(move || hand(tell));
            }
            drop(tell);
            let mut furthest = 0;
            for (end, found) in told {
                furthest = end.max(furthest);
                damage.extend(found);
                if !each(furthest.min(self.head.size)) {
                    ends.store(true, Ordering::Relaxed);
                }
            }
        });
        if !ends.load(Ordering::Relaxed) {
            self.loose.keys().for_each(|chunk| damage.extend(self.verified(*chunk)));
            each(self.head.size);
        }
        damage.sort_by_key(|damage| damage.at);
        damage
    }

    /// What is wrong with the chunks of a group, and with both of its pages, although one is enough.
    fn verified_group(&self, group: u64, (at, copy, _): PlaceOfPage, sound: &mut Vec<u8>) -> Vec<Damage> {
        let mut damage = Vec::new();
        for place in [at, copy] {
            if let Err(wrong) = self.verified_page(place, sound) {
                damage.push(Damage { at: place, text: format!("a page of its map: {wrong}") });
            }
        }
        let chunks = group * GROUP..self.head.size.div_ceil(CHUNK).min((group + 1) * GROUP);
        let nothing = |entry: &Entry| matches!(entry, Entry::Unused | Entry::Zero);
        // Most of a large drive is nothing: no chunk of such a group is asked for.
        if self.loose.is_empty() && self.entries(group).is_ok_and(|entries| entries.iter().all(nothing)) {
            return damage;
        }
        damage.extend(chunks.filter_map(|chunk| self.verified(chunk)));
        damage
    }

    /// Whether a page is what its hash says. One that stands there byte for byte as the last sound one, but for the group that it tells of,
    /// is not unpacked again.
    fn verified_page(&self, at: u64, sound: &mut Vec<u8>) -> Result<()> {
        let layer = &self.chain[0];
        let (header, stored) = stored(layer, at, What::Page)?;
        let bytes = [&Header { number: 0, ..header }.encode()[..], &stored].concat();
        if header.locked || *sound != bytes {
            crypt::unseal(layer.keys.as_ref(), &header, stored).map_err(|wrong| Wrong::new(format!("its record at byte {at} {wrong}")))?;
            *sound = bytes;
        }
        Ok(())
    }

    /// What is wrong with a chunk.
    fn verified(&self, chunk: u64) -> Option<Damage> {
        let checked = self.entry(chunk).and_then(|entry| match entry {
            Entry::Data(held) => self.chunk(&held).map(|_| ()),
            Entry::Unused | Entry::Zero => Ok(()),
        });
        checked.err().map(|wrong| Damage { at: chunk * CHUNK, text: wrong.to_string() })
    }

    /// What stands in the first record.
    pub(super) fn head_text(&self) -> Result<Vec<u8>> {
        head_of(&self.chain[0].volumes).map(|(_, text)| text)
    }

    /// The first record as it stands there.
    pub(super) fn first_record(&self) -> Result<Vec<u8>> {
        let volumes = &self.chain[0].volumes;
        let failed = |error: std::io::Error| Wrong::new(error.to_string());
        let mut head = [0; HEADER];
        volumes.read(0, &mut head).map_err(failed)?;
        let header = Header::decode(&head).ok_or_else(|| Wrong::new("its first record is damaged"))?;
        let mut bytes = vec![0; header.stride() as usize];
        volumes.read(0, &mut bytes).map_err(failed)?;
        Ok(bytes)
    }
}

impl Medium for Image {
    fn geometry(&self) -> Geometry {
        Geometry { size_bytes: self.head.size, logical_sector: self.head.logical, physical_sector: self.head.physical }
    }

    fn remark(&self) -> Option<String> {
        if !self.damage.is_empty() {
            return Some("the image is not whole: what it does not hold is not known".into());
        }
        let text = "the image holds only what was in use on the drive: all else was not kept, and is zero here";
        self.sparing.then(|| text.to_string())
    }

    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> std::result::Result<(), ReadError> {
        let end = inside(offset, buf.len(), self.head.size)?;
        // What could not be read then cannot be read now; what lies before it can.
        let lost = self.lost.within(offset..end).next().map(|(range, ())| range.start);
        let mut at = offset;
        while at < lost.unwrap_or(end) {
            let (chunk, inner) = (at / CHUNK, (at % CHUNK) as usize);
            let here = (CHUNK - inner as u64).min(lost.unwrap_or(end) - at) as usize;
            let out = &mut buf[(at - offset) as usize..(at - offset) as usize + here];
            let bad = |wrong: Wrong| ReadError::Unreadable { offset: at, len: end - at, why: format!("the image is damaged there: {wrong}") };
            match self.entry(chunk).map_err(bad)? {
                Entry::Unused | Entry::Zero => out.fill(0),
                Entry::Data(held) if inner == 0 && here as u64 == CHUNK.min(self.head.size - at) => self.whole_chunk(&held, out).map_err(bad)?,
                Entry::Data(held) => {
                    let bytes = self.chunk(&held).map_err(bad)?;
                    let piece = bytes.get(inner..inner + here).ok_or_else(|| bad(Wrong::new("a chunk is short")))?;
                    out.copy_from_slice(piece);
                }
            }
            at += here as u64;
        }
        match lost {
            Some(place) => Err(ReadError::Unreadable { offset: place, len: end - place, why: "it could not be read when the image was made".into() }),
            None => Ok(()),
        }
    }

    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let end = offset.saturating_add(max).min(self.head.size);
        if let Some((lost, ())) = self.lost.within(offset..end).next() {
            if lost.start == offset {
                return Stretch { len: lost.end - offset, holds: Holds::Unknown };
            }
            return self.known(offset, lost.start);
        }
        self.known(offset, end)
    }

    fn standing(&self) -> Standing {
        let Some(meta) = self.chain[0].volumes.files().next().and_then(|file| file.metadata().ok()) else { return Standing::default() };
        Standing { node: Some((meta.dev(), meta.ino())), changed: Some((meta.ctime(), meta.ctime_nsec())), ..Standing::default() }
    }

    fn rests_on(&self) -> Vec<&File> {
        self.chain.iter().flat_map(|layer| layer.volumes.files()).collect()
    }
}

impl Image {
    fn known(&self, offset: u64, end: u64) -> Stretch {
        let mut at = offset;
        let parts = std::iter::from_fn(|| {
            let rest = end.checked_sub(at).filter(|rest| *rest > 0)?;
            let chunk = at / CHUNK;
            // A group without a page is nothing in one go.
            let empty = !self.pages.contains_key(&(chunk / GROUP)) && self.loose.is_empty();
            let border = if empty { (chunk / GROUP + 1) * GROUP * CHUNK } else { (chunk + 1) * CHUNK };
            let here = rest.min(border - at);
            let holds = match self.entry(chunk) {
                Ok(Entry::Unused | Entry::Zero) => Holds::Zero,
                _ => Holds::Bytes,
            };
            at += here;
            Some((here, Stretch { len: here, holds }))
        });
        Stretch::joined(parts.take(1 << 16))
    }
}
