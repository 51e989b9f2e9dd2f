//! What was written to the target, piece by piece with its hash, in a file beside the map. A proof reads the target back and compares.
//! `docs/formats/salvage-map.md` describes it: a head that says which map it belongs to, then records, each with a checksum.

use crate::file::Of;
use crate::map::{Map, State};
use badger_drive::buffer::Buffer;
use badger_drive::{Control, Source, Target, keep};
use rustix::fs::FlockOperation;
use std::fs::File;
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

/// The head and each record have so many bytes: start, length, BLAKE3 hash, CRC-32.
const RECORD: usize = 52;
const MAGIC: &[u8; 16] = b"zbadger pieces 2";
/// Pieces of a target that a sample looks at.
pub const SAMPLES: u64 = 16;
/// Pieces are no longer than that.
pub const MOST: u64 = 16 << 20;

/// The list, open to be written on.
pub struct Pieces {
    file: File,
    waiting: Vec<u8>,
    /// The hash of so many zeroes: most are as many as those before.
    zeroes: Option<(u64, blake3::Hash)>,
}

fn of_zeroes(len: u64) -> blake3::Hash {
    let (zeroes, mut hasher) = ([0; 1 << 16], blake3::Hasher::new());
    (0..len).step_by(zeroes.len()).for_each(|done| _ = hasher.update(&zeroes[..zeroes.len().min((len - done) as usize)]));
    hasher.finalize()
}

/// Where the list of a map is.
pub fn beside(map: &Path) -> PathBuf {
    let mut name = map.as_os_str().to_owned();
    name.push(".pieces");
    name.into()
}

/// Whether the list beside a map has pieces in it.
pub fn has_any(map: &Path) -> bool {
    std::fs::metadata(beside(map)).is_ok_and(|meta| meta.len() > RECORD as u64)
}

impl Pieces {
    /// Opens the list beside the map of these drives. Where there is none, or `anew` is set, a list without pieces takes its place. As
    /// long as it is open no other salvage can use the map.
    ///
    /// # Errors
    /// `WouldBlock` where another one uses it; the system; that what has its name is no such list, or that of another map.
    pub fn open(map: &Path, of: &Of, anew: bool) -> io::Result<Self> {
        let (path, head) = (beside(map), head(of));
        let is_ours = |found: &[u8]| found.starts_with(MAGIC) && (anew || found.starts_with(&head));
        let lock = |file: &File| rustix::fs::flock(file, FlockOperation::NonBlockingLockExclusive);
        let there = match keep::open(&path, &is_ours) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            opened => Some(opened?),
        };
        there.as_ref().map_or(Ok(()), lock)?;
        // The name always belongs to a list with its head: a kill leaves nothing that nobody knows again.
        let mut file = match there {
            Some(file) if !anew => file,
            Some(_) => keep::replace(&path, &is_ours, |file| file.write_all(&head))?,
            None => keep::create_with(&path, |file| file.write_all(&head))?,
        };
        lock(&file)?;
        // What a kill left of a last record is none.
        let len = file.metadata()?.len() / RECORD as u64 * RECORD as u64;
        file.set_len(len)?;
        file.seek(SeekFrom::Start(len))?;
        Ok(Self { file, waiting: Vec::new(), zeroes: None })
    }

    /// Notes a piece; it is in the file after [`Pieces::keep`].
    pub fn add(&mut self, start: u64, len: u64, hash: &blake3::Hash) {
        let from = self.waiting.len();
        self.waiting.extend(start.to_le_bytes());
        self.waiting.extend(len.to_le_bytes());
        self.waiting.extend(hash.as_bytes());
        let sum = crc32fast::hash(&self.waiting[from..]);
        self.waiting.extend(sum.to_le_bytes());
    }

    /// Notes zeroes that were not read.
    pub fn add_zeroes(&mut self, range: Range<u64>) {
        let mut at = range.start;
        while at < range.end {
            let len = (range.end - at).min(MOST);
            let hash = match self.zeroes {
                Some((of, hash)) if of == len => hash,
                _ => of_zeroes(len),
            };
            self.zeroes = Some((len, hash));
            self.add(at, len, &hash);
            at += len;
        }
    }

    /// Makes durable what was noted.
    ///
    /// # Errors
    /// The system.
    pub fn keep(&mut self) -> io::Result<()> {
        if !self.waiting.is_empty() {
            self.file.write_all(&self.waiting)?;
            self.file.sync_data()?;
            self.waiting.clear();
        }
        Ok(())
    }
}

/// What reading the target back brought, in bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ReadBack {
    /// Equal to what was written.
    pub equal: u64,
    /// Pieces that are not.
    pub differing: Vec<Range<u64>>,
    /// Saved, and nothing is noted of it: not compared.
    pub unknown: u64,
    /// Stopped before its end.
    pub stopped: bool,
}

/// How many read back at once: while one waits for the target the other one hashes.
const READERS: usize = 2;

/// Reads back from a target what the list beside a map says; what the map does not call saved is passed over.
///
/// # Errors
/// The system, where the list cannot be read.
pub fn prove(map_path: &Path, map: &Map, target: &Target, control: &Control, each: &(dyn Fn(u64, u64) + Sync)) -> io::Result<ReadBack> {
    let list = Mutex::new(BufReader::new(records(map_path)?));
    let seen = Mutex::new(Map::new(map.size()));
    std::thread::scope(|scope| {
        for _ in 0..READERS {
            scope.spawn(|| read_back((&list, &seen), map, target, control, each));
        }
    });
    let seen = seen.into_inner().expect("proof lock");
    Ok(ReadBack {
        equal: seen.totals().saved,
        differing: seen.iter().filter(|(_, state)| *state == State::Lost).map(|(range, _)| range).collect(),
        unknown: map.totals().saved.saturating_sub(seen.totals().saved + seen.totals().lost),
        stopped: control.is_stopped(),
    })
}

/// One of those who read back.
fn read_back((list, seen): (&Mutex<BufReader<File>>, &Mutex<Map>), map: &Map, target: &Target, control: &Control, each: &dyn Fn(u64, u64)) {
    let (mut record, mut buffer, mut zeroes) = ([0; RECORD], Buffer::new(MOST as usize), None);
    while control.go_on() && list.lock().expect("list lock").read_exact(&mut record).is_ok() {
        // What was written by a run that broke off before it was called saved is read, and noted, once more.
        let Some((Range { start, end }, noted)) = piece(&record).filter(|(range, _)| map.is_saved(range.clone())) else { continue };
        let len = end - start;
        let bytes = &mut buffer[..len as usize];
        target.forget(start, len);
        let equal = if target.zero_run(start, len) >= len {
            zeroes = Some(zeroes.filter(|(of, _)| *of == len).unwrap_or_else(|| (len, of_zeroes(len))));
            zeroes.is_some_and(|(_, hash)| hash.as_bytes() == noted)
        } else {
            target.read_at(start, bytes).is_ok() && blake3::hash(bytes).as_bytes() == noted
        };
        let mut seen = seen.lock().expect("proof lock");
        // Of two notes of one place one may be of a read whose write never came to the target: one that holds is enough.
        seen.raise(start..end, if equal { State::Saved } else { State::Lost });
        drop(seen);
        each(start, len);
    }
}

/// What a sample of the pieces came to, in pieces.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sampled {
    /// The drive holds what was noted.
    pub equal: u64,
    /// It holds other bytes.
    pub differ: u64,
    /// It could not be read there.
    pub unread: u64,
}

impl Sampled {
    /// Whether something was compared, and all of it is equal.
    pub fn is_equal(&self) -> bool {
        self.equal > 0 && self.differ + self.unread == 0
    }
}

/// Compares `most` of the pieces, spread over all, with what a drive holds: the target, or the one that it came from. Records that are torn
/// count for nothing: the next sound one is taken.
///
/// # Errors
/// The system, where the list cannot be read.
pub fn sample(map_path: &Path, map: &Map, drive: &Source, most: u64) -> io::Result<Sampled> {
    let file = records(map_path)?;
    let count = (file.metadata()?.len() / RECORD as u64).saturating_sub(1);
    let mut out = Sampled::default();
    let mut buffer = Buffer::new(MOST as usize);
    let turns = most.min(count);
    for turn in 0..turns {
        let (from, to) = (count * turn / turns, count * (turn + 1) / turns);
        // Whoever writes to the drive behind our back does not know where will be looked.
        let first = badger_drive::random_below(to - from);
        let mut record = [0; RECORD];
        for step in 0..to - from {
            let number = from + (first + step) % (to - from);
            file.read_exact_at(&mut record, (1 + number) * RECORD as u64)?;
            let Some((range, hash)) = piece(&record).filter(|(range, _)| map.is_saved(range.clone())) else { continue };
            let bytes = &mut buffer[..(range.end - range.start) as usize];
            match drive.read_at(range.start, bytes) {
                Err(_) => out.unread += 1,
                Ok(()) if blake3::hash(bytes).as_bytes() == hash => out.equal += 1,
                Ok(()) => out.differ += 1,
            }
            break;
        }
    }
    Ok(out)
}

/// What a record says: the place of a piece, and its hash; `None` where it can be none.
fn piece(record: &[u8; RECORD]) -> Option<(Range<u64>, &[u8])> {
    let sum = u32::from_le_bytes(record[48..].try_into().unwrap_or_default());
    if crc32fast::hash(&record[..48]) != sum {
        return None;
    }
    let [start, len] = [0, 8].map(|at| u64::from_le_bytes(record[at..at + 8].try_into().unwrap_or_default()));
    let end = start.checked_add(len).filter(|_| len > 0 && len <= MOST)?;
    Some((start..end, &record[16..48]))
}

/// The first record: what it is, and of which map, as a hash of what the map is of.
fn head(of: &Of) -> [u8; RECORD] {
    let mut head = [0; RECORD];
    head[..16].copy_from_slice(MAGIC);
    let text = [of.model.as_str(), &of.serial, &of.size.to_string(), &of.sector.to_string()].join("\n");
    head[16..48].copy_from_slice(blake3::hash(text.as_bytes()).as_bytes());
    let sum = crc32fast::hash(&head[..48]);
    head[48..].copy_from_slice(&sum.to_le_bytes());
    head
}

/// The list beside a map, behind its head.
fn records(map: &Path) -> io::Result<File> {
    let path = beside(map);
    let mut file = keep::open_to_read(&path)?;
    let mut head = [0; RECORD];
    let is_list = file.read_exact(&mut head).is_ok() && head.starts_with(MAGIC);
    if is_list { Ok(file) } else { Err(io::Error::new(io::ErrorKind::InvalidData, format!("{} is no list of pieces", path.display()))) }
}
