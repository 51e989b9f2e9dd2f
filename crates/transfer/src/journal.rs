//! The journal of a run, by which it resumes after any kind of end. Described in `docs/formats/journal.md`.
//!
//! Two files: the journal, a sequence of checked records, and the leaves, an array with the hash of every leaf of
//! the source. Nothing is said in the journal that was not flushed to the target before.

use crate::tally::{Note, Tally};
use crate::tree::{self, Hash, LEAF};
use badger_drive::text::parts;
use badger_drive::{Standing, Witness};
use badger_drive::{keep, witness};
use badger_layout::Plan;
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// First bytes of a journal.
pub const MAGIC: &[u8; 16] = b"zbadger journal\n";
/// Version this code writes and reads.
pub const VERSION: u32 = 5;
/// Longest record that is believed, in bytes. None that this code writes is longer, whatever the plan.
const MOST_RECORD: u32 = 2 << 20;
/// Entries of a list in one record.
const MOST_LISTED: usize = 8192;
/// Bytes of a plan in one record.
const PART: usize = 256 << 10;

/// One record. Stretches are start and length, in bytes of the target.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "record", rename_all = "lowercase")]
enum Record {
    /// The first record: what this run is.
    Begin {
        /// Format version.
        version: u32,
        /// What names the job, in any ledger.
        job: String,
        /// What the job was released with besides its plan: JSON of whoever gave the order.
        #[serde(default)]
        options: String,
        /// Bytes of the plan, which follows in parts.
        plan: u64,
        /// BLAKE3 of all of them, as hex.
        hash: String,
        /// How the source looked.
        source: Box<Witness>,
        /// What the system said of the target.
        target: Standing,
        /// Since when the system counted.
        since: String,
    },
    /// The next part of the plan.
    Plan {
        /// The bytes.
        text: String,
    },
    /// Stretches that could not be read.
    Lost {
        /// Stretches.
        stretches: Vec<(u64, u64)>,
    },
    /// Leaves that hold changes of the plan: number and hash of what the target should hold.
    Patched {
        /// Leaves.
        leaves: Vec<(u64, String)>,
    },
    /// Stretches that are on the target. What is known of them stands before.
    Done {
        /// Stretches.
        stretches: Vec<(u64, u64)>,
    },
    /// Stretches that are done anew: nothing that was said of them holds any more.
    Anew {
        /// Stretches.
        stretches: Vec<(u64, u64)>,
    },
    /// The end of what was noted in one go.
    Mark {
        /// Bytes written so far.
        written: u64,
        /// Bytes that needed no writing so far.
        skipped: u64,
        /// Seconds of the run's clock so far, over all resumptions.
        seconds: f64,
    },
    /// Copying is over; what remains is the proof.
    Copied,
}

/// An open journal.
pub struct Journal {
    file: File,
    leaves: File,
    /// The plan it was begun with.
    pub plan: Plan,
    /// What names the job that it belongs to.
    pub job: String,
    /// What the job was released with besides its plan.
    pub options: String,
    /// What was done before it was opened.
    pub past: Tally,
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

fn append(file: &mut File, records: impl IntoIterator<Item = Record>) -> io::Result<()> {
    for record in records {
        let payload = serde_json::to_vec(&record)?;
        if payload.len() > MOST_RECORD as usize {
            return Err(io::Error::other("a record of the journal would be longer than it may be"));
        }
        let mut bytes = Vec::with_capacity(payload.len() + 8);
        bytes.extend((payload.len() as u32).to_le_bytes());
        bytes.extend(crc32fast::hash(&payload).to_le_bytes());
        bytes.extend(payload);
        file.write_all(&bytes)?;
    }
    file.sync_data()
}

/// The whole records of a file, one after the other.
struct Records<R> {
    file: R,
    /// The length of the file up to the last of them.
    whole: u64,
}

impl<R: Read> Iterator for Records<R> {
    type Item = Record;

    fn next(&mut self) -> Option<Record> {
        let mut head = [0; 8];
        self.file.read_exact(&mut head).ok()?;
        let [a, b, c, d, crc @ ..] = head;
        let len = u32::from_le_bytes([a, b, c, d]);
        if len > MOST_RECORD {
            return None;
        }
        let mut payload = vec![0; len as usize];
        self.file.read_exact(&mut payload).ok()?;
        if crc32fast::hash(&payload).to_le_bytes() != crc {
            return None;
        }
        let record = serde_json::from_slice(&payload).ok()?;
        self.whole += 8 + u64::from(len);
        Some(record)
    }
}

fn parse_hash(text: &str) -> Option<Hash> {
    blake3::Hash::from_hex(text).ok().map(|hash| *hash.as_bytes())
}

/// Takes in what a record says.
fn take(tally: &mut Tally, record: Record) {
    // A record is checked as it was written, and still nobody adds up what it says unseen.
    let all = |stretches: Vec<(u64, u64)>| stretches.into_iter().filter_map(|(start, len)| Some(start..start.checked_add(len)?));
    match record {
        Record::Begin { .. } | Record::Plan { .. } => {}
        Record::Lost { stretches } => all(stretches).for_each(|range| tally.lost.set(range, ())),
        Record::Patched { leaves } => tally.patched.extend(leaves.iter().filter_map(|(leaf, hash)| Some((*leaf, parse_hash(hash)?)))),
        Record::Done { stretches } => {
            tally.latest.clone_from(&stretches);
            all(stretches).for_each(|range| tally.done.set(range, ()));
        }
        Record::Anew { stretches } => {
            all(stretches).for_each(|range| tally.forget(range.start, range.end));
            tally.copied = false;
        }
        Record::Mark { written, skipped, seconds } => (tally.written, tally.skipped, tally.seconds) = (written, skipped, seconds),
        Record::Copied => tally.copied = true,
    }
}

/// What a journal's records say, and how far the file is whole.
struct Begun {
    plan: Plan,
    job: String,
    options: String,
    source: Witness,
    target: (Standing, String),
    past: Tally,
    whole: u64,
}

fn replay(file: &File, path: &Path) -> io::Result<Option<Begun>> {
    let other_version = || {
        let text = format!("the journal {} was written by another version of this program; begin anew with --restart", path.display());
        io::Error::new(io::ErrorKind::Unsupported, text)
    };
    let mut file = io::BufReader::new(file);
    let mut magic = [0; 16];
    if file.read_exact(&mut magic).is_err() || &magic != MAGIC {
        return Ok(None);
    }
    let Some(head) = peek_record(&mut file)? else { return Ok(None) };
    // A first record that is whole and says something else is of another version; a torn one says nothing.
    let Ok(Record::Begin { version: VERSION, job, options, plan: len, hash, source, target, since }) = serde_json::from_slice(&head) else {
        return Err(other_version());
    };
    let mut records = Records { file, whole: (MAGIC.len() + 8 + head.len()) as u64 };
    let mut text = String::new();
    while (text.len() as u64) < len {
        let Some(Record::Plan { text: part }) = records.next() else { return Ok(None) };
        text.push_str(&part);
    }
    if blake3::hash(text.as_bytes()).to_hex().as_str() != hash {
        return Ok(None);
    }
    let Ok(plan) = serde_json::from_str(&text) else { return Err(other_version()) };
    let mut past = Tally::default();
    records.by_ref().for_each(|record| take(&mut past, record));
    past.settle();
    Ok(Some(Begun { plan, job, options, source: *source, target: (target, since), past, whole: records.whole }))
}

/// The bytes of a first record that is whole, whatever they say.
fn peek_record(file: &mut impl Read) -> io::Result<Option<Vec<u8>>> {
    let mut head = [0; 8];
    if file.read_exact(&mut head).is_err() {
        return Ok(None);
    }
    let [a, b, c, d, crc @ ..] = head;
    // Older versions wrote longer ones; what is said of them is only that.
    let mut payload = Vec::new();
    file.take(u64::from(u32::from_le_bytes([a, b, c, d])).min(64 << 20)).read_to_end(&mut payload)?;
    Ok((crc32fast::hash(&payload).to_le_bytes() == crc).then_some(payload))
}

/// An unfinished run between two drives, looked at without touching its journal: another program may be writing it.
#[derive(Clone, Debug)]
pub struct Unfinished {
    /// The plan it was begun with.
    pub plan: Plan,
    /// What names the job that it belongs to.
    pub job: String,
    /// What the job was released with besides its plan: JSON of whoever gave the order.
    pub options: String,
    /// What was done.
    pub past: Tally,
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

/// Hashes of leaves that were noted before the run was killed and whose marks were not: what comes of them when they are read again is not
/// known yet, and a leaf of zeroes writes no hash over an old one.
fn forget_unmarked(leaves: &File, past: &Tally) -> io::Result<()> {
    for leaf in 0..leaves.metadata()?.len().div_ceil(32) {
        if past.done.within(leaf * LEAF..(leaf + 1) * LEAF).next().is_none() {
            leaves.write_all_at(&[0; 32], leaf * 32)?;
        }
    }
    leaves.sync_data()
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
            if let Some(Begun { plan, job, options, source, target, past, .. }) = replay(&badger_drive::keep::open_to_read(&path)?, &path)? {
                found.push((time, Unfinished { plan, job, options, past, source, target, name: name.into(), leaves }));
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
        let mut file = match keep::open(&paths[0], &|head| head.starts_with(MAGIC)) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        let Some(Begun { plan, job, options, past, source, whole, .. }) = replay(&file, &paths[0])? else { return Ok(None) };
        file.set_len(whole)?;
        file.seek(SeekFrom::Start(whole))?;
        // Hashes of zeroes alone are never written, so that there may be none.
        let leaves = match keep::open(&paths[1], &|_| true) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => keep::create(&paths[1])?,
            opened => opened?,
        };
        forget_unmarked(&leaves, &past)?;
        Ok(Some(Self { file, leaves, plan, job, options, past, source, paths }))
    }

    /// Begins a journal, between a source that looks as `source` says and a target of which the system says `target`.
    /// Older ones between the same two drives go, where they are not certainly of another target with the same name.
    ///
    /// # Errors
    /// What the system says.
    pub fn begin(dir: &Path, plan: Plan, (job, options): (&str, &str), source: &Witness, target: &Standing) -> io::Result<Self> {
        fs::create_dir_all(dir)?;
        for old in Self::peek(dir, &plan.source.key, &plan.target.key).unwrap_or_default() {
            if !old.is_of_another(target) {
                for path in paths(dir, &old.name) {
                    let _ = fs::remove_file(path);
                }
            }
        }
        let stem = stem(&plan.source.key, &plan.target.key);
        let free = |number: &u32| paths(dir, &format!("{stem}-{number}")).iter().all(|path| fs::symlink_metadata(path).is_err());
        let number = (1..u32::MAX).find(free).unwrap_or(u32::MAX);
        let paths = paths(dir, &format!("{stem}-{number}"));
        let leaves = keep::create(&paths[1])?;
        let (target, since) = (target.clone(), witness::boot());
        let text = serde_json::to_string(&plan)?;
        let hash = blake3::hash(text.as_bytes()).to_hex().to_string();
        let begin = Record::Begin {
            version: VERSION,
            job: job.into(),
            options: options.into(),
            plan: text.len() as u64,
            hash,
            source: Box::new(source.clone()),
            target,
            since,
        };
        let file = keep::replace(&paths[0], &|_| false, |file| {
            file.write_all(MAGIC)?;
            append(file, std::iter::once(begin).chain(parts(&text, PART).map(|part| Record::Plan { text: part.into() })))
        })?;
        Ok(Self { file, leaves, plan, job: job.into(), options: options.into(), past: Tally::default(), source: source.clone(), paths })
    }

    /// Notes what is on the target, once the leaves before it are safe; the target must have been flushed.
    ///
    /// # Errors
    /// What the system says.
    pub fn note(&mut self, note: &Note, (written, skipped): (u64, u64), seconds: f64) -> io::Result<()> {
        self.leaves.sync_data()?;
        let lost = note.lost.chunks(MOST_LISTED).map(|stretches| Record::Lost { stretches: stretches.to_vec() });
        let patched = note
            .patched
            .chunks(MOST_LISTED)
            .map(|leaves| Record::Patched { leaves: leaves.iter().map(|(leaf, hash)| (*leaf, tree::hex(hash))).collect() });
        let done = note.done.chunks(MOST_LISTED).map(|stretches| Record::Done { stretches: stretches.to_vec() });
        append(&mut self.file, lost.chain(patched).chain(done).chain([Record::Mark { written, skipped, seconds }]))
    }

    /// Notes that stretches are done anew: start and length in bytes of the target. It must stand before they are touched.
    ///
    /// # Errors
    /// What the system says.
    pub fn anew(&mut self, stretches: &[(u64, u64)]) -> io::Result<()> {
        append(&mut self.file, stretches.chunks(MOST_LISTED).map(|stretches| Record::Anew { stretches: stretches.to_vec() }))
    }

    /// Notes that copying is over.
    ///
    /// # Errors
    /// What the system says.
    pub fn copied(&mut self) -> io::Result<()> {
        self.leaves.sync_data()?;
        append(&mut self.file, [Record::Copied])
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
    use badger_drive::Extents;
    use badger_layout::plan::{Ids, Side};
    use rstest::rstest;

    fn plan() -> Plan {
        let side = |key: &str| Side { key: key.into(), size_bytes: 5 << 20, sector: 512, physical: 512 };
        let medium = badger_drive::medium::MemoryMedium::new(vec![0; 5 << 20], 512);
        badger_layout::plan::exact(&badger_layout::table::read(&medium), &side("a"), &side("b"), Ids::Keep, || [1; 16]).unwrap()
    }

    fn note(at: u64) -> Note {
        Note { done: vec![(at, 1 << 20)], lost: vec![(at, 512)], patched: vec![(at >> 20, [9; 32])] }
    }

    fn places(extents: &Extents<()>) -> Vec<(u64, u64)> {
        extents.iter().map(|(range, ())| (range.start, range.end - range.start)).collect()
    }

    fn witness() -> Witness {
        Witness::of(&badger_drive::medium::MemoryMedium::new(vec![7; 1 << 20], 512), &[])
    }

    fn on(node: u64) -> Standing {
        Standing { node: Some((1, node)), ..Standing::default() }
    }

    fn begun(dir: &Path, node: u64) -> Journal {
        Journal::begin(dir, plan(), (&node.to_string(), "{}"), &witness(), &on(node)).unwrap()
    }

    fn found(dir: &Path) -> Option<Journal> {
        Journal::open(dir, Journal::peek(dir, "a", "b").unwrap().first()?).unwrap()
    }

    #[rstest]
    fn a_torn_end_costs_only_itself(#[values(1, 5, 9, 60, 100, 150)] torn: u64) {
        let dir = tempfile::tempdir().unwrap();
        let mut journal = begun(dir.path(), 7);
        journal.note(&note(4 << 20), (1, 2), 1.5).unwrap();
        let whole = journal.file.metadata().unwrap().len();
        journal.note(&note(2 << 20), (3, 4), 2.5).unwrap();
        assert!(journal.file.metadata().unwrap().len() > whole + torn);
        journal.file.set_len(whole + torn).unwrap();
        drop(journal);
        let mut again = found(dir.path()).unwrap();
        assert_eq!((places(&again.past.done), again.job.as_str()), (vec![(4 << 20, 1 << 20)], "7"));
        assert_eq!((again.past.written, again.past.skipped, again.past.seconds), (1, 2, 1.5));
        // What could not be read is believed only of what is done.
        assert_eq!(places(&again.past.lost), [(4 << 20, 512)]);
        assert_eq!((&again.plan, &again.source), (&plan(), &witness()));
        again.note(&note(1 << 20), (5, 6), 3.5).unwrap();
        let third = found(dir.path()).unwrap().past;
        assert_eq!(places(&third.done), [(1 << 20, 1 << 20), (4 << 20, 1 << 20)]);
        assert_eq!(places(&third.lost), [(1 << 20, 512), (4 << 20, 512)]);
        assert_eq!((third.latest, third.patched.get(&1)), (vec![(1 << 20, 1 << 20)], Some(&[9; 32])));
    }

    #[test]
    fn what_is_done_anew_is_as_if_it_never_was() {
        let dir = tempfile::tempdir().unwrap();
        let mut journal = begun(dir.path(), 7);
        journal.note(&note(1 << 20), (0, 0), 0.0).unwrap();
        journal.note(&note(2 << 20), (0, 0), 0.0).unwrap();
        journal.anew(&[(1 << 20, 1 << 20)]).unwrap();
        let past = found(dir.path()).unwrap().past;
        assert_eq!((places(&past.done), places(&past.lost)), (vec![(2 << 20, 1 << 20)], vec![(2 << 20, 512)]));
        assert_eq!(past.patched.keys().copied().collect::<Vec<_>>(), [2]);
    }

    /// Whatever a plan or a failing drive brings, every record stays within its bound, and all of it comes back.
    #[test]
    fn records_are_short_whatever_they_carry() {
        let dir = tempfile::tempdir().unwrap();
        let mut plan = plan();
        plan.partitions = (0..40_000)
            .map(|number| badger_layout::plan::Planned {
                number,
                start: 1,
                sectors: 2,
                code: "ö".repeat(20),
                name: "ü".repeat(30),
                id: String::new(),
                fit: badger_layout::plan::Fit::Keep,
                from: None,
            })
            .collect();
        let mut journal = Journal::begin(dir.path(), plan.clone(), ("1", "{}"), &witness(), &on(1)).unwrap();
        let each = || (0..100_000u64).map(|at| (at << 20, 512));
        let note = Note { done: each().collect(), lost: each().collect(), patched: each().map(|(at, _)| (at >> 20, [at as u8; 32])).collect() };
        journal.note(&note, (0, 0), 0.0).unwrap();
        let mut bytes = &fs::read(&journal.paths[0]).unwrap()[16..];
        let (mut longest, mut records) = (0, 0);
        while let Some((head, _)) = bytes.split_first_chunk::<4>() {
            let len = u32::from_le_bytes(*head) as usize;
            (longest, records) = (longest.max(len), records + 1);
            bytes = &bytes[8 + len..];
        }
        assert!(longest < MOST_RECORD as usize && records > 50, "{longest} bytes, {records} records");
        let again = Journal::open(dir.path(), &Journal::peek(dir.path(), "a", "b").unwrap()[0]).unwrap().unwrap();
        assert!(again.plan == plan);
        assert_eq!((again.past.done.len(), again.past.lost.len(), again.past.patched.len()), (100_000, 100_000, 100_000));
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
        let mut jobs: Vec<String> = Journal::peek(dir.path(), "a", "b").unwrap().into_iter().map(|one| one.job).collect();
        jobs.sort_unstable();
        assert_eq!(jobs, ["7", "8"]);
        // Begun anew on one of them, the other's is still there.
        drop(Journal::begin(dir.path(), plan(), ("9", "{}"), &witness(), &on(7)).unwrap());
        let mut jobs: Vec<String> = Journal::peek(dir.path(), "a", "b").unwrap().into_iter().map(|one| one.job).collect();
        jobs.sort_unstable();
        assert_eq!(jobs, ["8", "9"]);
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
