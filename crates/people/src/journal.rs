//! What a copy has done, line by line, so that it can be gone on with; and what is made of it in the end. Described in
//! `docs/formats/fetch.md`.

use crate::beneath::Beneath;
use badger_drive::text::plain;
use rustix::fs::{FileType, Stat};
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, BufRead, BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// A path as bytes; written as text where it is text.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub(crate) enum Way {
    Text(String),
    Bytes(Vec<u8>),
}

impl Way {
    pub fn new(bytes: &[u8]) -> Self {
        std::str::from_utf8(bytes).map_or_else(|_| Self::Bytes(bytes.to_vec()), |text| Self::Text(text.to_string()))
    }

    pub fn bytes(&self) -> &[u8] {
        match self {
            Self::Text(text) => text.as_bytes(),
            Self::Bytes(bytes) => bytes,
        }
    }
}

impl std::fmt::Display for Way {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&badger_fs::tree::escaped(self.bytes()))
    }
}

/// One line.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "line", rename_all = "kebab-case")]
pub(crate) enum Line {
    /// The first one: of what this is the copy.
    Begin { version: u32, source: String, picks: Vec<String> },
    /// The second one: the inode of the directory that the journal lies in.
    Room { inode: u64 },
    /// A file is there and was read back equal. Times are seconds and nanoseconds since 1970.
    File { from: Way, to: Way, size: u64, modified: (i64, u32), sha256: String },
    /// A file got its name: seconds and nanoseconds since 1970 when the system last changed anything of it, and its inode.
    There { from: Way, changed: (i64, u32), inode: u64 },
    /// A part of a file could not be read and is zero; start and length in bytes. No stretch means that all is missing.
    Lost { from: Way, why: String, stretches: Vec<(u64, u64)> },
    /// A name was changed.
    Name { from: Way, to: Way },
    /// Something was there already, and stayed.
    Skipped { from: Way, why: String },
    /// The destination cannot hold this.
    NotHeld { from: Way, what: String },
}

/// Bytes of picks that stand in the first line.
const MOST_PICKS: usize = 64 << 10;

impl Line {
    /// That a file is there, as the system says it now.
    pub fn there(from: &Way, stat: &Stat) -> Self {
        Self::There { from: from.clone(), changed: (stat.st_ctime, stat.st_ctime_nsec as u32), inode: stat.st_ino }
    }

    /// The first line of a copy. Very many picks stand in it as one hash.
    pub fn begin(source: &str, picks: &[String]) -> Self {
        let picks = if picks.iter().map(String::len).sum::<usize>() <= MOST_PICKS {
            picks.to_vec()
        } else {
            let mut hash = blake3::Hasher::new();
            picks.iter().for_each(|pick| _ = hash.update(&(pick.len() as u64).to_le_bytes()).update(pick.as_bytes()));
            vec![hash.finalize().to_string()]
        };
        Self::Begin { version: 3, source: source.to_string(), picks }
    }
}

/// A file that is at the destination.
#[derive(Clone, Debug)]
pub(crate) struct Kept {
    pub to: Way,
    pub size: u64,
    pub modified: (i64, u32),
    pub sha256: String,
    /// What of it is missing: start and length in bytes.
    pub missing: Vec<(u64, u64)>,
    /// When the system last changed anything of it, and its inode: as long as both are so, nobody wrote to it.
    pub there: Option<((i64, u32), u64)>,
}

/// What was done before, by its path in the volume.
pub(crate) type Done = HashMap<Way, Kept>;

/// Takes in one line.
fn take(done: &mut Done, line: Line) {
    match line {
        Line::File { from, to, size, modified, sha256 } => {
            _ = done.insert(from, Kept { to, size, modified, sha256, missing: Vec::new(), there: None })
        }
        Line::There { from, changed, inode } => {
            if let Some(kept) = done.get_mut(&from) {
                kept.there = Some((changed, inode));
            }
        }
        Line::Lost { from, stretches, .. } if !stretches.is_empty() => {
            if let Some(kept) = done.get_mut(&from) {
                kept.missing.extend(stretches);
            }
        }
        Line::Lost { from, .. } => _ = done.remove(&from),
        _ => {}
    }
}

/// What our directories at a destination begin with.
const NAME: &str = ".badger-fetch";
/// The journal in such a directory, and where files lie in it until they were read back.
const JOURNAL: &str = "journal";
const PARTS: &str = "parts";

/// The longest line that is read, in bytes.
const MOST_LINE: u64 = 1 << 20;
/// So many stretches stand in one line; a file with more of them has several.
const MOST_STRETCHES: usize = 8192;
/// Hex digits of the hash behind each line.
const DIGITS: usize = 16;

/// The hash over a line and all lines before it.
#[derive(Clone, Copy)]
struct Chain([u8; 32]);

impl Chain {
    const START: Self = Self([0; 32]);

    fn on(self, line: &[u8]) -> Self {
        let mut hash = blake3::Hasher::new();
        hash.update(&self.0).update(line);
        Self(*hash.finalize().as_bytes())
    }

    fn digits(self) -> String {
        hex::encode(&self.0[..DIGITS / 2])
    }
}

pub(crate) struct Journal {
    file: BufWriter<File>,
    chain: Chain,
    /// Our own directory, right under the destination.
    room: PathBuf,
}

/// The lines of a journal, up to the first one that is cut short or does not belong behind those before it.
struct Lines<R> {
    reader: R,
    chain: Chain,
    /// Bytes of the lines so far.
    whole: u64,
}

impl<R: BufRead> Lines<R> {
    fn new(reader: R) -> Self {
        Self { reader, chain: Chain::START, whole: 0 }
    }
}

impl<R: BufRead> Iterator for Lines<R> {
    type Item = io::Result<Line>;

    fn next(&mut self) -> Option<Self::Item> {
        let mut text = Vec::new();
        let count = match self.reader.by_ref().take(MOST_LINE).read_until(b'\n', &mut text) {
            Ok(count) => count as u64,
            Err(error) => return Some(Err(error)),
        };
        let (json, digits) = text.strip_suffix(b"\n")?.split_last_chunk::<DIGITS>()?;
        let (json, chain) = (json.strip_suffix(b" ")?, self.chain.on(json.strip_suffix(b" ")?));
        let line = serde_json::from_slice(json).ok().filter(|_| chain.digits().as_bytes() == digits)?;
        (self.chain, self.whole) = (chain, self.whole + count);
        Some(Ok(line))
    }
}

/// Whether a directory holds nothing, or only an empty journal.
fn begun_only(beneath: &Beneath, room: &Path) -> bool {
    let names = beneath.names(room).unwrap_or_else(|_| vec![OsString::from("?")]);
    let empty = || beneath.stat(&room.join(JOURNAL)).is_ok_and(|stat| stat.st_size == 0 && FileType::from_raw_mode(stat.st_mode).is_file());
    names.is_empty() || names == [OsString::from(JOURNAL)] && empty()
}

impl Journal {
    /// Goes on with the journal of the same copy, or begins one. `taken` are names that the copy itself brings to the
    /// destination, in lower case: those are never ours.
    pub fn open(beneath: &Beneath, begin: &Line, taken: &HashSet<Vec<u8>>) -> io::Result<(Self, Done)> {
        let free = |name: &OsStr| !taken.contains(&name.as_bytes().to_ascii_lowercase());
        let mut rooms: Vec<OsString> = beneath.names(Path::new(""))?;
        rooms.retain(|name| name.as_bytes().starts_with(NAME.as_bytes()) && free(name));
        rooms.sort();
        for room in rooms.into_iter().map(PathBuf::from) {
            let Ok(mut file) = beneath.write(&room.join(JOURNAL)) else { continue };
            // One that came with somebody's files says another number.
            let own = Line::Room { inode: beneath.stat(&room)?.st_ino };
            let mut lines = Lines::new(BufReader::new(&file));
            let head = (lines.next().transpose()?, lines.next().transpose()?);
            if head.0.as_ref() != Some(begin) || head.1 != Some(own) {
                continue;
            }
            let mut done = Done::new();
            for line in lines.by_ref() {
                take(&mut done, line?);
            }
            let (whole, chain) = (lines.whole, lines.chain);
            file.set_len(whole)?;
            file.seek(SeekFrom::End(0))?;
            let journal = Self { file: BufWriter::new(file), chain, room };
            journal.empty_parts(beneath)?;
            return Ok((journal, done));
        }
        for number in 1..u32::MAX {
            let room = PathBuf::from(if number == 1 { NAME.to_string() } else { format!("{NAME}-{number}") });
            if !free(room.as_os_str()) {
                continue;
            }
            match beneath.make_dir(&room, 0o700) {
                Ok(()) => {}
                // One in which nothing is was left by a run that ended before its first line.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists && begun_only(beneath, &room) => {}
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => continue,
                Err(error) => return Err(error),
            }
            let journal = room.join(JOURNAL);
            if beneath.has(&journal) {
                beneath.remove(&journal)?;
            }
            let mut journal = Self { file: BufWriter::new(beneath.create(&journal)?), chain: Chain::START, room };
            journal.add(begin)?;
            journal.add(&Line::Room { inode: beneath.stat(&journal.room)?.st_ino })?;
            journal.keep()?;
            journal.empty_parts(beneath)?;
            return Ok((journal, Done::new()));
        }
        Err(io::Error::other("there is no free name left"))
    }

    /// Parts of an earlier run have no name and prove nothing.
    fn empty_parts(&self, beneath: &Beneath) -> io::Result<()> {
        if beneath.has(&self.parts()) {
            beneath.remove_dir(&self.parts())?;
        }
        beneath.make_dir(&self.parts(), 0o700)
    }

    /// Where files lie until they were read back.
    pub fn parts(&self) -> PathBuf {
        self.room.join(PARTS)
    }

    pub fn add(&mut self, line: &Line) -> io::Result<()> {
        match line {
            Line::Lost { from, why, stretches } if stretches.len() > MOST_STRETCHES => stretches
                .chunks(MOST_STRETCHES)
                .try_for_each(|stretches| self.add(&Line::Lost { from: from.clone(), why: why.clone(), stretches: stretches.to_vec() })),
            _ => {
                let json = serde_json::to_vec(line)?;
                self.chain = self.chain.on(&json);
                self.file.write_all(&json)?;
                writeln!(self.file, " {}", self.chain.digits())
            }
        }
    }

    /// Returns once every line would survive a loss of power.
    pub fn keep(&mut self) -> io::Result<()> {
        self.file.flush()?;
        self.file.get_ref().sync_data()
    }

    /// Writes the manifest and, where there is something to say, the list; then the journal goes. Gives the names of both;
    /// without a file there is no manifest. `taken` are names that the copy itself brought.
    pub fn finish(mut self, beneath: &Beneath, taken: &HashSet<Vec<u8>>) -> io::Result<(Option<PathBuf>, Option<PathBuf>)> {
        self.keep()?;
        // A file that was written again after a break has two lines; the later one holds, and so does what is said of it.
        let mut last: HashMap<Way, u64> = HashMap::new();
        for (at, line) in self.lines(beneath)?.enumerate() {
            match line? {
                Line::File { from, .. } => _ = last.insert(from, at as u64),
                Line::Lost { from, stretches, .. } if stretches.is_empty() => _ = last.remove(&from),
                _ => {}
            }
        }
        let newest = |from: &Way, at: usize| last.get(from).is_none_or(|last| *last <= at as u64);
        let (part, mut said, mut count) = (self.room.join("manifest"), Vec::new(), 0u64);
        if beneath.has(&part) {
            beneath.remove(&part)?;
        }
        let mut sums = BufWriter::new(beneath.create(&part)?);
        for (at, line) in self.lines(beneath)?.enumerate() {
            match line? {
                Line::File { from, to, sha256, .. } if last.get(&from) == Some(&(at as u64)) && !sha256.is_empty() => {
                    count += 1;
                    sums.write_all(&manifest_line(to.bytes(), &sha256))?;
                }
                Line::Begin { .. } | Line::Room { .. } | Line::File { .. } | Line::There { .. } => {}
                Line::Lost { from, why, stretches } if stretches.is_empty() => {
                    if !last.contains_key(&from) {
                        said.push(format!("lost      {from}: {why}"));
                    }
                }
                Line::Lost { from, .. } if !newest(&from, at) => {}
                Line::Lost { from, why, stretches } => {
                    let listed: Vec<String> = stretches.iter().map(|(start, len)| format!("{len} bytes at {start}")).collect();
                    said.push(format!("holed     {from}: {} are zero: {why}", listed.join(", ")));
                }
                Line::Name { from, to } => said.push(format!("renamed   {from} is {to}")),
                Line::Skipped { from, why } => said.push(format!("skipped   {from}: {why}")),
                Line::NotHeld { from, what } => said.push(format!("not held  {from}: {what}")),
            }
        }
        sums.flush()?;
        sums.get_ref().sync_all()?;
        // What was said before a break is said again after it.
        let mut seen = HashSet::new();
        said.retain(|line| seen.insert(line.clone()));
        let list_part = self.room.join("list");
        if beneath.has(&list_part) {
            beneath.remove(&list_part)?;
        }
        let mut list = beneath.create(&list_part)?;
        said.iter().try_for_each(|line| list.write_all(format!("{}\n", plain(line)).as_bytes()))?;
        list.sync_all()?;
        let (manifest, list) = self.name(beneath, taken, (count > 0).then_some(part), (!said.is_empty()).then_some(list_part))?;
        // A room without its journal is nobody's: the journal goes last, and only when the rest is gone for good.
        for name in beneath.names(&self.room)?.into_iter().filter(|name| name != JOURNAL) {
            let path = self.room.join(name);
            if path == self.parts() { beneath.remove_dir(&path)? } else { beneath.remove(&path)? }
        }
        beneath.keep(&self.room)?;
        drop(self.file);
        beneath.remove_dir(&self.room)?;
        rustix::fs::fsync(beneath.root())?;
        Ok((manifest, list))
    }

    /// Gives both lists the same free name: never one of the copy's own, never over something.
    fn name(
        &self,
        beneath: &Beneath,
        taken: &HashSet<Vec<u8>>,
        manifest: Option<PathBuf>,
        list: Option<PathBuf>,
    ) -> io::Result<(Option<PathBuf>, Option<PathBuf>)> {
        for number in 1..u32::MAX {
            let stem = if number == 1 { "fetched".to_string() } else { format!("fetched-{number}") };
            let names = [PathBuf::from(format!("{stem}.sha256")), PathBuf::from(format!("{stem}.txt"))];
            if names.iter().any(|name| taken.contains(&name.as_os_str().as_bytes().to_ascii_lowercase()) || beneath.has(name)) {
                continue;
            }
            for (part, name) in [&manifest, &list].into_iter().zip(&names) {
                if let Some(part) = part {
                    beneath.rename(part, name, false)?;
                }
            }
            let [sums, said] = names;
            return Ok((manifest.map(|_| sums), list.map(|_| said)));
        }
        Err(io::Error::other("there is no free name left"))
    }

    /// Where every file went, as far as it is written down.
    pub fn places(&mut self, beneath: &Beneath) -> io::Result<Done> {
        self.keep()?;
        let mut done = Done::new();
        for line in self.lines(beneath)? {
            take(&mut done, line?);
        }
        Ok(done)
    }

    /// Every line that was written; an error where one of them does not come back.
    fn lines(&self, beneath: &Beneath) -> io::Result<impl Iterator<Item = io::Result<Line>> + use<>> {
        let mut lines = Lines::new(BufReader::new(beneath.read(&self.room.join(JOURNAL))?));
        let mut end = Some(self.chain.digits());
        Ok(std::iter::from_fn(move || {
            let broken = || io::Error::new(io::ErrorKind::InvalidData, "the journal of this copy does not come back as it was written");
            lines.next().or_else(|| end.take().filter(|end| *end != lines.chain.digits()).map(|_| Err(broken())))
        }))
    }
}

/// A line as the system's checksum program writes and reads it: a backslash in front where the name has signs that would
/// break the line.
fn manifest_line(path: &[u8], sha256: &str) -> Vec<u8> {
    let breaks = |byte: &u8| matches!(byte, b'\\' | b'\n' | b'\r');
    let mut line = if path.iter().any(breaks) { b"\\".to_vec() } else { Vec::new() };
    line.extend(format!("{sha256}  ").into_bytes());
    for byte in path {
        match byte {
            b'\\' => line.extend(b"\\\\"),
            b'\n' => line.extend(b"\\n"),
            b'\r' => line.extend(b"\\r"),
            byte => line.push(*byte),
        }
    }
    line.push(b'\n');
    line
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::fs;

    fn begin(pick: &str) -> Line {
        Line::begin("weir#3", &[pick.into()])
    }

    fn file(name: &str, sha256: &str) -> Line {
        Line::File { from: Way::new(name.as_bytes()), to: Way::new(name.as_bytes()), size: 5, modified: (7, 8), sha256: sha256.into() }
    }

    fn holed(name: &str) -> Line {
        Line::Lost { from: Way::new(name.as_bytes()), why: "unreadable".into(), stretches: vec![(512, 1024)] }
    }

    fn open(dir: &Path, pick: &str) -> (Journal, Done) {
        Journal::open(&Beneath::new(dir).unwrap(), &begin(pick), &HashSet::new()).unwrap()
    }

    fn written(dir: &Path, lines: &[Line]) -> Journal {
        let (mut journal, _) = open(dir, "/Users");
        lines.iter().for_each(|line| journal.add(line).unwrap());
        journal.keep().unwrap();
        journal
    }

    #[rstest]
    fn a_torn_end_costs_only_itself(#[values(1, 7, 40)] torn: u64) {
        let dir = tempfile::tempdir().unwrap();
        let journal = written(dir.path(), &[file("a", "1"), file("b", "2")]);
        let path = dir.path().join(&journal.room).join(JOURNAL);
        drop(journal);
        let len = fs::metadata(&path).unwrap().len();
        fs::OpenOptions::new().write(true).open(&path).unwrap().set_len(len - torn).unwrap();
        let (mut journal, done) = open(dir.path(), "/Users");
        assert_eq!(done.keys().map(Way::to_string).collect::<Vec<_>>(), ["a"]);
        journal.add(&file("c", "3")).unwrap();
        let places = journal.places(&Beneath::new(dir.path()).unwrap()).unwrap();
        assert_eq!(places.len(), 2, "what is appended stands behind the last whole line");
    }

    #[test]
    fn a_line_that_was_changed_counts_for_nothing_and_neither_does_what_follows() {
        let dir = tempfile::tempdir().unwrap();
        let names = ["a", "b", "c"];
        let mut journal = written(dir.path(), &names.map(|name| file(name, "1")));
        let (room, beneath) = (dir.path().join(&journal.room), Beneath::new(dir.path()).unwrap());
        let text = fs::read(room.join(JOURNAL)).unwrap();
        let ends: Vec<usize> = text.iter().enumerate().filter(|(_, byte)| **byte == b'\n').map(|(at, _)| at).collect();
        for at in ends[1] + 1..text.len() {
            let mut changed = text.clone();
            changed[at] ^= 1;
            fs::write(room.join(JOURNAL), &changed).unwrap();
            // The run that wrote it gets an error; a resume takes only the lines before the change.
            assert!(journal.places(&beneath).is_err(), "byte {at}");
            let line = ends[2..].iter().position(|end| at <= *end).unwrap();
            assert_eq!(open(dir.path(), "/Users").1.len(), line, "byte {at}");
            assert_eq!(fs::metadata(room.join(JOURNAL)).unwrap().len(), ends[1 + line] as u64 + 1);
        }
        // A line that is left out is one that was changed.
        fs::write(room.join(JOURNAL), [&text[..=ends[1]], &text[ends[2] + 1..]].concat()).unwrap();
        assert!(open(dir.path(), "/Users").1.is_empty());
    }

    #[test]
    fn a_file_with_very_many_holes_is_read_again() {
        let dir = tempfile::tempdir().unwrap();
        let stretches: Vec<(u64, u64)> = (0..100_000).map(|at| (u64::MAX - at, u64::MAX - at)).collect();
        let holes = Line::Lost { from: Way::new(b"a"), why: "unreadable".into(), stretches: stretches.clone() };
        drop(written(dir.path(), &[file("a", "1"), holes, file("b", "2")]));
        let done = open(dir.path(), "/Users").1;
        assert!(done.len() == 2 && done[&Way::new(b"a")].missing == stretches);
    }

    #[test]
    fn every_copy_has_a_journal_of_its_own() {
        let dir = tempfile::tempdir().unwrap();
        drop(written(dir.path(), &[file("a", "1")]));
        assert!(open(dir.path(), "/Users/Oda").1.is_empty());
        assert_eq!(open(dir.path(), "/Users").1.len(), 1, "the first one is still there");
    }

    #[test]
    fn a_journal_that_came_with_somebodys_files_is_not_ours() {
        let dir = tempfile::tempdir().unwrap();
        let journal = written(dir.path(), &[file("a", "1")]);
        let room = dir.path().join(&journal.room);
        let planted = fs::read(room.join(JOURNAL)).unwrap();
        drop(journal);
        fs::rename(&room, dir.path().join("aside")).unwrap();
        fs::create_dir(&room).unwrap();
        fs::write(room.join(JOURNAL), &planted).unwrap();
        assert!(open(dir.path(), "/Users").1.is_empty());
        assert_eq!(fs::read(room.join(JOURNAL)).unwrap(), planted);
        // Nor is one whose name the copy itself brings, whatever it says.
        let other = tempfile::tempdir().unwrap();
        drop(written(other.path(), &[file("a", "1")]));
        let taken = HashSet::from([NAME.as_bytes().to_vec()]);
        let (journal, done) = Journal::open(&Beneath::new(other.path()).unwrap(), &begin("/Users"), &taken).unwrap();
        assert!(done.is_empty() && journal.room == Path::new(".badger-fetch-2"));
    }

    #[test]
    fn what_was_written_again_counts_as_it_was_last() {
        let dir = tempfile::tempdir().unwrap();
        let beneath = Beneath::new(dir.path()).unwrap();
        let gone = Line::Lost { from: Way::new(b"d"), why: "too long\nfor it".into(), stretches: Vec::new() };
        let lines = [file("a", "1"), holed("a"), file("b", "2"), file("a", "3"), file("c", "4"), holed("c"), file("d", "5"), gone];
        let mut journal = written(dir.path(), &lines);
        let places = journal.places(&beneath).unwrap();
        let of = |name: &str| &places[&Way::new(name.as_bytes())];
        assert!(of("a").missing.is_empty() && !of("c").missing.is_empty() && of("a").sha256 == "3" && places.len() == 3);
        fs::write(dir.path().join("fetched.txt"), "somebody's").unwrap();
        let (manifest, list) = journal.finish(&beneath, &HashSet::new()).unwrap();
        let read = |name: Option<PathBuf>| fs::read_to_string(dir.path().join(name.unwrap())).unwrap();
        assert_eq!(read(manifest), "2  b\n3  a\n4  c\n");
        assert_eq!(read(list), "holed     c: 1024 bytes at 512 are zero: unreadable\nlost      d: too long\\nfor it\n");
        assert_eq!(fs::read_to_string(dir.path().join("fetched.txt")).unwrap(), "somebody's");
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 3, "the journal is gone");
    }

    #[rstest]
    #[case(b"plain name", "ab  plain name\n")]
    #[case(b"two\nlines", "\\ab  two\\nlines\n")]
    #[case(b"back\\slash", "\\ab  back\\\\slash\n")]
    fn odd_names_do_not_break_the_manifest(#[case] name: &[u8], #[case] line: &str) {
        assert_eq!(String::from_utf8(manifest_line(name, "ab")).unwrap(), line);
    }

    #[test]
    fn a_name_that_is_no_text_is_kept_as_it_is() {
        let way = Way::new(b"latin \xe9");
        let text = serde_json::to_string(&way).unwrap();
        assert_eq!(serde_json::from_str::<Way>(&text).unwrap().bytes(), b"latin \xe9");
        assert_eq!(serde_json::to_string(&Way::new("Fähre".as_bytes())).unwrap(), "\"Fähre\"");
    }
}
