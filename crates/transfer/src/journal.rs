//! The journal of a run, by which it resumes after any kind of end. Described in `docs/formats/journal.md`.
//!
//! Two files: the journal, a sequence of checked records, and the leaves, an array with the hash of every leaf of
//! the source. Nothing is said in the journal that was not flushed to the target before.

use crate::tree::Hash;
use badger_drive::witness;
use badger_drive::{Standing, Witness};
use badger_layout::Plan;
use serde::{Deserialize, Serialize};
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// First bytes of a journal.
pub const MAGIC: &[u8; 16] = b"zbadger journal\n";
/// Version this code writes and reads.
pub const VERSION: u32 = 3;
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
        /// How the source looked.
        source: Box<Witness>,
        /// What the system said of the target.
        target: Standing,
        /// Since when the system counted.
        since: String,
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
    /// How the source looked when it was begun.
    pub source: Witness,
    paths: [PathBuf; 2],
}

/// What the names of all journals between two drives begin with.
fn stem(source_key: &str, target_key: &str) -> String {
    let name = blake3::hash(format!("{source_key}\n{target_key}").as_bytes()).to_hex();
    name[..24].to_string()
}

fn paths(dir: &Path, name: &str) -> [PathBuf; 2] {
    [dir.join(format!("{name}.journal")), dir.join(format!("{name}.leaves"))]
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

/// What a journal's records say, and how far the file is whole.
struct Begun {
    plan: Plan,
    job: i64,
    source: Witness,
    target: (Standing, String),
    past: Past,
    whole: u64,
}

fn replay(bytes: &[u8], path: &Path) -> io::Result<Option<Begun>> {
    let other_version = || {
        let text = format!("the journal {} was written by another version of this program; begin anew with --restart", path.display());
        io::Error::new(io::ErrorKind::Unsupported, text)
    };
    let Some((records, whole)) = records(bytes) else { return Ok(None) };
    let mut records = records.into_iter();
    let Some(Record::Begin { version, job, plan, source, target, since }) = records.next() else {
        // A first record that is whole and says something else is of another version; a torn one says nothing.
        return if whole > MAGIC.len() as u64 || says_begin(bytes) { Err(other_version()) } else { Ok(None) };
    };
    if version != VERSION {
        return Err(other_version());
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
    Ok(Some(Begun { plan: *plan, job, source: *source, target: (target, since), past, whole }))
}

/// Whether the first record is whole, whatever it says.
fn says_begin(bytes: &[u8]) -> bool {
    let whole = || {
        let (head, body) = bytes.strip_prefix(MAGIC)?.split_first_chunk::<8>()?;
        let payload = body.get(..u32::from_le_bytes([head[0], head[1], head[2], head[3]]) as usize)?;
        Some(crc32fast::hash(payload).to_le_bytes() == head[4..])
    };
    whole().unwrap_or(false)
}

/// An unfinished run between two drives, looked at without touching its journal: another program may be writing it.
#[derive(Clone, Debug)]
pub struct Unfinished {
    /// The plan it was begun with.
    pub plan: Plan,
    /// The job it belongs to.
    pub job: i64,
    /// What was done.
    pub past: Past,
    /// How the source looked when it began.
    pub source: Witness,
    /// What the system said of the target then, and since when it counts.
    pub target: (Standing, String),
    name: String,
    leaves: PathBuf,
}

impl Unfinished {
    /// The hashes of `count` leaves from number `first` on, as they were noted.
    ///
    /// # Errors
    /// What the system says.
    pub fn leaves(&self, first: u64, count: usize) -> io::Result<Vec<Hash>> {
        noted_leaves(&File::open(&self.leaves)?, first, count)
    }

    /// Whether its target is certainly another one than a drive of which the system says this, although both have the
    /// same key.
    pub fn is_of_another(&self, standing: &Standing) -> bool {
        let then = &self.target.0;
        let other_node = matches!((then.node, standing.node), (Some(then), Some(now)) if then.1 != now.1);
        let other_medium = matches!((then.sequence, standing.sequence), (Some(then), Some(now)) if then != now);
        other_node || other_medium && self.target.1 == witness::boot()
    }
}

/// Reads hashes; all zero stands for a leaf of zeroes. Past its end the file is as good as zero: leaves of zeroes are
/// never written.
fn noted_leaves(file: &File, first: u64, count: usize) -> io::Result<Vec<Hash>> {
    let mut hashes = vec![[0u8; 32]; count];
    let bytes = hashes.as_flattened_mut();
    let mut done = 0;
    while done < bytes.len() {
        match file.read_at(&mut bytes[done..], first * 32 + done as u64)? {
            0 => break,
            count => done += count,
        }
    }
    Ok(hashes)
}

impl Journal {
    /// Looks at the unfinished runs between two drives, the newest first. Drives that say the same of themselves have
    /// several.
    ///
    /// # Errors
    /// What the system says; a journal of another version is an error too.
    pub fn peek(dir: &Path, source_key: &str, target_key: &str) -> io::Result<Vec<Unfinished>> {
        let stem = stem(source_key, target_key);
        let entries = match fs::read_dir(dir) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(error),
        };
        let mut found = Vec::new();
        for entry in entries {
            let entry = entry?;
            let file_name = entry.file_name().to_string_lossy().into_owned();
            let Some(name) = file_name.strip_suffix(".journal").filter(|name| name.starts_with(&stem)) else { continue };
            let [path, leaves] = paths(dir, name);
            let time = entry.metadata()?.modified()?;
            if let Some(Begun { plan, job, source, target, past, .. }) = replay(&fs::read(&path)?, &path)? {
                found.push((time, Unfinished { plan, job, past, source, target, name: name.into(), leaves }));
            }
        }
        found.sort_by_key(|(time, _)| std::cmp::Reverse(*time));
        Ok(found.into_iter().map(|(_, unfinished)| unfinished).collect())
    }

    /// Opens an unfinished run to go on with it. A torn end is cut off, so the target must be claimed before. `None` where
    /// it is not there any more.
    ///
    /// # Errors
    /// What the system says.
    pub fn open(dir: &Path, unfinished: &Unfinished) -> io::Result<Option<Self>> {
        let paths = paths(dir, &unfinished.name);
        let mut bytes = Vec::new();
        let mut file = match OpenOptions::new().read(true).append(true).open(&paths[0]) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        file.read_to_end(&mut bytes)?;
        let Some(Begun { plan, job, past, source, whole, .. }) = replay(&bytes, &paths[0])? else { return Ok(None) };
        file.set_len(whole)?;
        let leaves = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&paths[1])?;
        Ok(Some(Self { file, leaves, plan, job, past, source, paths }))
    }

    /// Begins a journal, between a source that looks as `source` says and a target of which the system says `target`.
    /// Older ones between the same two drives go, where they are not certainly of another target with the same name.
    ///
    /// # Errors
    /// What the system says.
    pub fn begin(dir: &Path, plan: Plan, job: i64, source: &Witness, target: &Standing) -> io::Result<Self> {
        fs::create_dir_all(dir)?;
        for old in Self::peek(dir, &plan.source.key, &plan.target.key).unwrap_or_default() {
            if !old.is_of_another(target) {
                for path in paths(dir, &old.name) {
                    let _ = fs::remove_file(path);
                }
            }
        }
        let stem = stem(&plan.source.key, &plan.target.key);
        let free = |number: &u32| !paths(dir, &format!("{stem}-{number}"))[0].exists();
        let number = (1..u32::MAX).find(free).unwrap_or(u32::MAX);
        let paths = paths(dir, &format!("{stem}-{number}"));
        let leaves = OpenOptions::new().read(true).write(true).create(true).truncate(true).open(&paths[1])?;
        let part = paths[0].with_extension("journal.part");
        let mut file = File::create(&part)?;
        file.write_all(MAGIC)?;
        let (target, since) = (target.clone(), witness::boot());
        append(&mut file, &Record::Begin { version: VERSION, job, plan: Box::new(plan.clone()), source: Box::new(source.clone()), target, since })?;
        fs::rename(&part, &paths[0])?;
        File::open(dir)?.sync_all()?;
        let file = OpenOptions::new().append(true).open(&paths[0])?;
        Ok(Self { file, leaves, plan, job, past: Past::default(), source: source.clone(), paths })
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
        noted_leaves(&self.leaves, first, count)
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

    fn witness() -> Witness {
        Witness::of(&badger_drive::medium::MemoryMedium::new(vec![7; 1 << 20], 512), &[])
    }

    fn on(node: u64) -> Standing {
        Standing { node: Some((1, node)), ..Standing::default() }
    }

    fn begun(dir: &Path, node: u64) -> Journal {
        Journal::begin(dir, plan(), node as i64, &witness(), &on(node)).unwrap()
    }

    fn found(dir: &Path) -> Option<Journal> {
        Journal::open(dir, Journal::peek(dir, "a", "b").unwrap().first()?).unwrap()
    }

    #[rstest]
    fn a_torn_end_costs_only_itself(#[values(1, 5, 9, 60)] torn: u64) {
        let dir = tempfile::tempdir().unwrap();
        let mut journal = begun(dir.path(), 7);
        journal.append(&mark(1 << 20)).unwrap();
        let whole = journal.file.metadata().unwrap().len();
        journal.append(&mark(2 << 20)).unwrap();
        journal.file.set_len(whole + torn).unwrap();
        drop(journal);
        let mut again = found(dir.path()).unwrap();
        assert_eq!((again.past.done, again.job), (1 << 20, 7));
        assert_eq!((&again.plan, &again.source), (&plan(), &witness()));
        again.append(&mark(3 << 20)).unwrap();
        let third = found(dir.path()).unwrap();
        assert_eq!(third.past.done, 3 << 20);
        assert_eq!(third.past.lost, [(1 << 20, 512), (3 << 20, 512)]);
    }

    #[test]
    fn only_the_same_pair_finds_it() {
        let dir = tempfile::tempdir().unwrap();
        drop(begun(dir.path(), 7));
        assert!(Journal::peek(dir.path(), "a", "c").unwrap().is_empty());
        assert!(Journal::peek(dir.path(), "b", "a").unwrap().is_empty());
        found(dir.path()).unwrap().remove();
        assert!(found(dir.path()).is_none());
    }

    #[test]
    fn drives_with_one_name_keep_a_journal_each() {
        let dir = tempfile::tempdir().unwrap();
        drop((begun(dir.path(), 7), begun(dir.path(), 8)));
        let mut jobs: Vec<i64> = Journal::peek(dir.path(), "a", "b").unwrap().iter().map(|one| one.job).collect();
        jobs.sort_unstable();
        assert_eq!(jobs, [7, 8]);
        // Begun anew on one of them, the other's is still there.
        drop(Journal::begin(dir.path(), plan(), 9, &witness(), &on(7)).unwrap());
        let mut jobs: Vec<i64> = Journal::peek(dir.path(), "a", "b").unwrap().iter().map(|one| one.job).collect();
        jobs.sort_unstable();
        assert_eq!(jobs, [8, 9]);
    }

    #[test]
    fn a_journal_of_another_version_is_an_error_and_a_torn_first_record_nothing() {
        let dir = tempfile::tempdir().unwrap();
        let journal = begun(dir.path(), 7);
        let path = journal.paths[0].clone();
        drop(journal);
        let whole = fs::read(&path).unwrap();
        fs::write(&path, &whole[..whole.len() - 9]).unwrap();
        assert!(found(dir.path()).is_none());
        let mut file = File::create(&path).unwrap();
        file.write_all(MAGIC).unwrap();
        let payload = br#"{"record":"begin","version":2,"job":1}"#;
        file.write_all(&(payload.len() as u32).to_le_bytes()).unwrap();
        file.write_all(&crc32fast::hash(payload).to_le_bytes()).unwrap();
        file.write_all(payload).unwrap();
        assert!(Journal::peek(dir.path(), "a", "b").is_err());
    }
}
