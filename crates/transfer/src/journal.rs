//! The journal of a run, by which it resumes after any kind of end. Described in `docs/formats/journal.md`.
//!
//! Two files: the journal, a sequence of checked records, and the leaves, an array with the hash of every leaf of
//! the source. Nothing is said in the journal that was not flushed to the target before.

use crate::tree::Hash;
use badger_layout::Plan;
use serde::{Deserialize, Serialize};
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// First bytes of a journal.
pub const MAGIC: &[u8; 16] = b"zbadger journal\n";
/// Version this code writes and reads.
pub const VERSION: u32 = 2;
/// Longest record that is believed, in bytes.
const MOST_RECORD: u32 = 64 << 20;

/// One record.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "record", rename_all = "lowercase")]
pub enum Record {
    /// The first record: what this run is.
    Begin {
        /// Format version.
        version: u32,
        /// Number of the job in the ledger.
        job: i64,
        /// The whole plan.
        plan: Box<Plan>,
    },
    /// Everything up to `done` is on the target.
    Mark {
        /// Bytes in the order of the plan's moves.
        done: u64,
        /// Bytes written so far.
        written: u64,
        /// Bytes that needed no writing so far.
        skipped: u64,
        /// Seconds of the run's clock so far, over all resumptions.
        seconds: f64,
        /// Unreadable stretches found since the last mark: start and length in bytes of the source.
        lost: Vec<(u64, u64)>,
        /// Leaves that hold changes of the plan: number and hash of what the target should hold.
        patched: Vec<(u64, String)>,
    },
    /// Copying is over; what remains is the proof.
    Copied,
}

/// What a journal said when it was opened.
#[derive(Clone, Debug, Default)]
pub struct Past {
    /// Bytes done in the order of the plan.
    pub done: u64,
    /// Bytes written.
    pub written: u64,
    /// Bytes that needed no writing.
    pub skipped: u64,
    /// Seconds spent.
    pub seconds: f64,
    /// All unreadable stretches.
    pub lost: Vec<(u64, u64)>,
    /// Expected hashes of patched leaves.
    pub patched: Vec<(u64, Hash)>,
    /// Whether copying was over.
    pub copied: bool,
}

/// An open journal.
pub struct Journal {
    file: File,
    leaves: File,
    /// The plan it was begun with.
    pub plan: Plan,
    /// The job it belongs to.
    pub job: i64,
    /// What was done before it was opened.
    pub past: Past,
    paths: [PathBuf; 2],
}

fn paths(dir: &Path, source_key: &str, target_key: &str) -> [PathBuf; 2] {
    let name = blake3::hash(format!("{source_key}\n{target_key}").as_bytes()).to_hex();
    let stem = &name[..24];
    [dir.join(format!("{stem}.journal")), dir.join(format!("{stem}.leaves"))]
}

fn append(file: &mut File, record: &Record) -> io::Result<()> {
    let payload = serde_json::to_vec(record)?;
    let mut bytes = Vec::with_capacity(payload.len() + 8);
    bytes.extend((payload.len() as u32).to_le_bytes());
    bytes.extend(crc32fast::hash(&payload).to_le_bytes());
    bytes.extend(payload);
    file.write_all(&bytes)?;
    file.sync_data()
}

/// All whole records, and the length of the file up to the last of them.
fn records(bytes: &[u8]) -> Option<(Vec<Record>, u64)> {
    let mut rest = bytes.strip_prefix(MAGIC)?;
    let mut records = Vec::new();
    while let Some((head, body)) = rest.split_first_chunk::<8>() {
        let len = u32::from_le_bytes([head[0], head[1], head[2], head[3]]);
        let crc = u32::from_le_bytes([head[4], head[5], head[6], head[7]]);
        let Some(payload) = body.get(..len as usize).filter(|_| len <= MOST_RECORD) else { break };
        if crc32fast::hash(payload) != crc {
            break;
        }
        let Ok(record) = serde_json::from_slice(payload) else { break };
        records.push(record);
        rest = &body[len as usize..];
    }
    Some((records, (bytes.len() - rest.len()) as u64))
}

fn parse_hash(text: &str) -> Option<Hash> {
    blake3::Hash::from_hex(text).ok().map(|hash| *hash.as_bytes())
}

/// What a journal's records say: the plan, the job, what was done, and how far the file is whole.
fn replay(bytes: &[u8], path: &Path) -> io::Result<Option<(Plan, i64, Past, u64)>> {
    let Some((records, whole)) = records(bytes) else { return Ok(None) };
    let mut records = records.into_iter();
    let Some(Record::Begin { version, job, plan }) = records.next() else { return Ok(None) };
    if version > VERSION {
        let text = format!("the journal {} was written by a later version of this program", path.display());
        return Err(io::Error::new(io::ErrorKind::Unsupported, text));
    }
    let mut past = Past::default();
    for record in records {
        match record {
            Record::Begin { .. } => break,
            Record::Mark { done, written, skipped, seconds, lost, patched } => {
                past = Past { done, written, skipped, seconds, ..past };
                past.lost.extend(lost);
                past.patched.extend(patched.iter().filter_map(|(leaf, hash)| Some((*leaf, parse_hash(hash)?))));
            }
            Record::Copied => past.copied = true,
        }
    }
    Ok(Some((*plan, job, past, whole)))
}

impl Journal {
    /// Looks at the unfinished journal between two drives without touching it: another program may be writing it.
    ///
    /// # Errors
    /// What the system says; a journal of a later version is an error too.
    pub fn peek(dir: &Path, source_key: &str, target_key: &str) -> io::Result<Option<(Plan, i64, Past)>> {
        let paths = paths(dir, source_key, target_key);
        match fs::read(&paths[0]) {
            Ok(bytes) => Ok(replay(&bytes, &paths[0])?.map(|(plan, job, past, _)| (plan, job, past))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Opens the unfinished journal between two drives, if there is one, to go on with it. A torn end is cut off, so
    /// the target must be claimed before.
    ///
    /// # Errors
    /// What the system says; a journal of a later version is an error too.
    pub fn find(dir: &Path, source_key: &str, target_key: &str) -> io::Result<Option<Self>> {
        let paths = paths(dir, source_key, target_key);
        let mut bytes = Vec::new();
        let mut file = match OpenOptions::new().read(true).append(true).open(&paths[0]) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        file.read_to_end(&mut bytes)?;
        let Some((plan, job, past, whole)) = replay(&bytes, &paths[0])? else { return Ok(None) };
        file.set_len(whole)?;
        let leaves = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&paths[1])?;
        Ok(Some(Self { file, leaves, plan, job, past, paths }))
    }

    /// Begins a journal; one that was there is replaced.
    ///
    /// # Errors
    /// What the system says.
    pub fn begin(dir: &Path, plan: Plan, job: i64) -> io::Result<Self> {
        fs::create_dir_all(dir)?;
        let paths = paths(dir, &plan.source.key, &plan.target.key);
        let leaves = OpenOptions::new().read(true).write(true).create(true).truncate(true).open(&paths[1])?;
        let part = paths[0].with_extension("journal.part");
        let mut file = File::create(&part)?;
        file.write_all(MAGIC)?;
        append(&mut file, &Record::Begin { version: VERSION, job, plan: Box::new(plan.clone()) })?;
        fs::rename(&part, &paths[0])?;
        File::open(dir)?.sync_all()?;
        let file = OpenOptions::new().append(true).open(&paths[0])?;
        Ok(Self { file, leaves, plan, job, past: Past::default(), paths })
    }

    /// Writes a record once the leaves before it are safe.
    ///
    /// # Errors
    /// What the system says.
    pub fn append(&mut self, record: &Record) -> io::Result<()> {
        self.leaves.sync_data()?;
        append(&mut self.file, record)
    }

    /// Notes the hashes of leaves from number `first` on.
    ///
    /// # Errors
    /// What the system says.
    pub fn note_leaves(&self, first: u64, hashes: &[Hash]) -> io::Result<()> {
        self.leaves.write_all_at(hashes.as_flattened(), first * 32)
    }

    /// Reads the hashes of `count` leaves from number `first` on; all zero stands for a leaf of zeroes.
    ///
    /// # Errors
    /// What the system says.
    pub fn leaves(&self, first: u64, count: usize) -> io::Result<Vec<Hash>> {
        let mut hashes = vec![[0u8; 32]; count];
        let bytes = hashes.as_flattened_mut();
        let mut done = 0;
        // Past its end the file is as good as zero: leaves of zeroes are never written.
        while done < bytes.len() {
            match self.leaves.read_at(&mut bytes[done..], first * 32 + done as u64)? {
                0 => break,
                count => done += count,
            }
        }
        Ok(hashes)
    }

    /// Takes both files away: the run is over.
    pub fn remove(self) {
        for path in &self.paths {
            // A file that stays is only found again by the same pair of drives, and then replaced.
            let _ = fs::remove_file(path);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use badger_layout::plan::{Ids, Side};
    use rstest::rstest;

    fn plan() -> Plan {
        let side = |key: &str| Side { key: key.into(), size_bytes: 5 << 20, sector: 512, physical: 512 };
        let medium = badger_drive::medium::MemoryMedium::new(vec![0; 5 << 20], 512);
        badger_layout::plan::exact(&badger_layout::table::read(&medium), &side("a"), &side("b"), Ids::Keep, || [1; 16]).unwrap()
    }

    fn mark(done: u64) -> Record {
        Record::Mark { done, written: done, skipped: 0, seconds: 1.5, lost: vec![(done, 512)], patched: vec![] }
    }

    #[rstest]
    fn a_torn_end_costs_only_itself(#[values(1, 5, 9, 60)] torn: u64) {
        let dir = tempfile::tempdir().unwrap();
        let mut journal = Journal::begin(dir.path(), plan(), 7).unwrap();
        journal.append(&mark(1 << 20)).unwrap();
        let whole = journal.file.metadata().unwrap().len();
        journal.append(&mark(2 << 20)).unwrap();
        journal.file.set_len(whole + torn).unwrap();
        drop(journal);
        let mut again = Journal::find(dir.path(), "a", "b").unwrap().unwrap();
        assert_eq!((again.past.done, again.job), (1 << 20, 7));
        assert_eq!(again.plan, plan());
        again.append(&mark(3 << 20)).unwrap();
        let third = Journal::find(dir.path(), "a", "b").unwrap().unwrap();
        assert_eq!(third.past.done, 3 << 20);
        assert_eq!(third.past.lost, [(1 << 20, 512), (3 << 20, 512)]);
    }

    #[test]
    fn only_the_same_pair_finds_it() {
        let dir = tempfile::tempdir().unwrap();
        Journal::begin(dir.path(), plan(), 7).unwrap();
        assert!(Journal::find(dir.path(), "a", "c").unwrap().is_none());
        assert!(Journal::find(dir.path(), "b", "a").unwrap().is_none());
        Journal::find(dir.path(), "a", "b").unwrap().unwrap().remove();
        assert!(Journal::find(dir.path(), "a", "b").unwrap().is_none());
    }
}
