//! An image without its end, or with damage: what is there is gathered record by record.

use super::entry::{ENTRY, Entry};
use super::record::{HEADER, Header, STEP, What};
use super::shelf::Volumes;
use super::{CHUNK, GROUP};
use badger_drive::field::le64;
use std::collections::BTreeMap;

/// Bytes read in one go while records are looked for.
const WINDOW: u64 = 4 << 20;

/// Chunks behind the last page that are remembered: a group has 1024, and a page that is lost some more.
const MOST_LOOSE: usize = 1 << 20;

/// What is wrong with an image, in a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// Where in the image, in bytes.
    pub at: u64,
    /// What.
    pub text: String,
}

/// What lies where, as far as records say so themselves.
#[derive(Default)]
pub(super) struct Found {
    /// Pages by their group: the last one that was written, and an earlier one.
    pub pages: BTreeMap<u64, (u64, u64)>,
    /// Chunks behind the last page, by their number: where, and the header.
    pub loose: BTreeMap<u64, (u64, Header)>,
    /// What says of chunks behind the last page which of their bytes are unknown, by their number: where.
    pub holes: BTreeMap<u64, u64>,
    /// Where the last page ends.
    pub pages_end: u64,
    /// Where what is whole ends.
    pub end: u64,
    pub damage: Vec<Damage>,
}

impl Found {
    /// Gives up all pages from a byte on; the first record stays.
    pub fn cut(&mut self, volumes: &Volumes, at: u64) {
        self.pages.retain(|_, (first, _)| *first < at);
        for (first, copy) in self.pages.values_mut().filter(|(_, copy)| *copy >= at) {
            *copy = *first;
        }
        let last = self.pages.values().flat_map(|(first, copy)| [*first, *copy]).max().unwrap_or(0);
        let mut head = [0; HEADER];
        let header = volumes.read(last, &mut head).ok().and_then(|()| Header::decode(&head));
        self.pages_end = header.map_or(0, |header| last + header.stride());
    }
}

/// Goes over the records of an image from its start on. Payloads are not read; where no header stands, the next one is looked for.
pub(super) fn scan(volumes: &Volumes, size: u64) -> Found {
    let mut found = Found::default();
    let mut at = 0;
    let mut head = [0; HEADER];
    while at + HEADER as u64 <= volumes.len() {
        let header = volumes.read(at, &mut head).ok().and_then(|()| Header::decode(&head));
        let Some(header) = header else {
            let next = next_record(volumes, at + STEP);
            let text = format!("{} bytes that are no record", next - at);
            found.damage.push(Damage { at, text });
            at = next;
            continue;
        };
        let end = at + header.stride();
        let ends = at + HEADER as u64 + u64::from(header.len);
        if volumes.readable(at).is_ok_and(|end| ends > end && end < volumes.len()) {
            let next = next_record(volumes, at + STEP);
            found.damage.push(Damage { at, text: "a record is cut off where its volume ends".into() });
            at = next;
            continue;
        }
        if ends > volumes.len() {
            found.damage.push(Damage { at, text: "the last record is cut off".into() });
            break;
        }
        match header.what {
            // Numbers of no chunk of this drive are damage that no sum has found.
            What::Page if header.number >= size.div_ceil(GROUP * CHUNK) => {}
            What::Chunk if header.number >= size.div_ceil(CHUNK) => {}
            What::Page => {
                let before = found.pages.get(&header.number).map_or(at, |(first, _)| *first);
                found.pages.insert(header.number, (before, at));
                if before == at {
                    found.loose.clear();
                    found.holes.clear();
                }
                found.pages_end = end;
            }
            // Without the record that says which of its bytes are unknown, all of them are.
            What::Chunk if header.holed && !found.holes.contains_key(&header.number) => {}
            What::Lost if found.holes.len() < MOST_LOOSE => _ = found.holes.insert(header.number, at),
            What::Chunk if found.loose.len() < MOST_LOOSE => _ = found.loose.insert(header.number, (at, header)),
            _ => {}
        }
        found.end = end;
        at = end;
    }
    found
}

/// Where the next header stands; the end where none does.
fn next_record(volumes: &Volumes, from: u64) -> u64 {
    let mut at = from;
    let mut window = vec![0; WINDOW as usize + HEADER];
    while at < volumes.len() {
        let end = match volumes.readable(at) {
            Ok(end) => end,
            Err(next) => {
                // A volume begins with a record.
                at = next.max(at + 1);
                continue;
            }
        };
        let len = (end - at).min(window.len() as u64) as usize;
        if volumes.read(at, &mut window[..len]).is_ok() {
            let places = (0..len.saturating_sub(HEADER - 1)).step_by(STEP as usize);
            if let Some(place) = places.into_iter().find(|place| Header::decode(&window[*place..*place + HEADER]).is_some()) {
                return at + place as u64;
            }
        }
        at = if end - at > WINDOW { at + WINDOW } else { end };
    }
    volumes.len()
}

/// The entries of a page, and what was lost of its chunks: start and length in bytes of the drive.
pub(super) fn page(bytes: &[u8]) -> (Vec<Entry>, Vec<(u64, u64)>) {
    let entries = bytes.chunks_exact(ENTRY).take(GROUP as usize).map(Entry::decode).collect();
    let lost = stretches(bytes.get(ENTRY * GROUP as usize..).unwrap_or_default());
    (entries, lost.filter(|(_, len)| *len <= GROUP * CHUNK).collect())
}

/// The stretches in a list: start and length, in bytes of the drive.
pub(super) fn stretches(list: &[u8]) -> impl Iterator<Item = (u64, u64)> {
    let pairs = list.chunks_exact(16).map(|pair| (le64(pair, 0), le64(pair, 8)));
    pairs.filter(|(start, len)| *start < u64::MAX / 2 && *len < u64::MAX / 2)
}
