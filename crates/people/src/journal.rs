//! What a copy has done, line by line, so that it can be gone on with; and what is made of it in the end. Described in
//! `docs/formats/fetch.md`.

use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead, BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

const NAME: &str = ".badger-fetch";

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
        f.write_str(&String::from_utf8_lossy(self.bytes()))
    }
}

/// One line.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "line", rename_all = "kebab-case")]
pub(crate) enum Line {
    /// The first one: of what this is the copy.
    Begin { version: u32, source: String, picks: Vec<String> },
    /// A file is there and was read back equal. Times are seconds and nanoseconds since 1970.
    File { from: Way, to: Way, size: u64, modified: (i64, u32), sha256: String },
    /// A part of a file could not be read and is zero; start and length in bytes. No stretch means that all is missing.
    Lost { from: Way, why: String, stretches: Vec<(u64, u64)> },
    /// A name was changed.
    Name { from: Way, to: Way },
    /// Something was there already, and stayed.
    Skipped { from: Way, why: String },
    /// The destination cannot hold this.
    NotHeld { from: Way, what: String },
}

/// A file that is at the destination.
#[derive(Clone, Debug)]
pub(crate) struct Kept {
    pub to: Way,
    pub size: u64,
    pub modified: (i64, u32),
    pub sha256: String,
    /// A part of it is missing.
    pub holed: bool,
}

/// What was done before, by its path in the volume.
pub(crate) type Done = HashMap<Way, Kept>;

/// Takes in one line.
fn take(done: &mut Done, line: Line) {
    match line {
        Line::File { from, to, size, modified, sha256 } => _ = done.insert(from, Kept { to, size, modified, sha256, holed: false }),
        Line::Lost { from, stretches, .. } if !stretches.is_empty() => {
            if let Some(kept) = done.get_mut(&from) {
                kept.holed = true;
            }
        }
        _ => {}
    }
}

pub(crate) struct Journal {
    file: BufWriter<File>,
    path: PathBuf,
    dir: PathBuf,
}

impl Journal {
    /// Goes on with the journal in `dir` if it is of the same copy, or begins one.
    pub fn open(dir: &Path, begin: &Line) -> io::Result<(Self, Done)> {
        let path = dir.join(NAME);
        let mut file = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&path)?;
        let (mut done, mut whole, mut same) = (Done::new(), 0, false);
        let mut reader = BufReader::new(&file);
        let mut text = Vec::new();
        loop {
            text.clear();
            let count = reader.by_ref().take(1 << 20).read_until(b'\n', &mut text)?;
            let Some(line) = text.strip_suffix(b"\n").and_then(|text| serde_json::from_slice::<Line>(text).ok()) else { break };
            if whole == 0 {
                same = line == *begin;
                if !same {
                    break;
                }
            }
            whole += count as u64;
            take(&mut done, line);
        }
        drop(reader);
        file.set_len(if same { whole } else { 0 })?;
        file.seek(SeekFrom::End(0))?;
        let mut journal = Self { file: BufWriter::new(file), path, dir: dir.to_path_buf() };
        if !same {
            done.clear();
            journal.add(begin)?;
        }
        Ok((journal, done))
    }

    pub fn add(&mut self, line: &Line) -> io::Result<()> {
        serde_json::to_writer(&mut self.file, line)?;
        self.file.write_all(b"\n")
    }

    /// Returns once every line would survive a loss of power.
    pub fn keep(&mut self) -> io::Result<()> {
        self.file.flush()?;
        self.file.get_ref().sync_data()
    }

    /// Writes the manifest and, where there is something to say, the list; then the journal goes. Gives both paths.
    pub fn finish(mut self) -> io::Result<(PathBuf, Option<PathBuf>)> {
        self.keep()?;
        let stem = (1..).map(|number| if number == 1 { "fetched".to_string() } else { format!("fetched-{number}") });
        let stem = stem.into_iter().find(|stem| !self.dir.join(format!("{stem}.sha256")).exists()).unwrap_or_default();
        let (manifest, list) = (self.dir.join(format!("{stem}.sha256")), self.dir.join(format!("{stem}.txt")));
        let part = |path: &Path| path.with_extension("part");
        let mut sums = BufWriter::new(File::create(part(&manifest))?);
        let mut said = Vec::new();
        let mut last: HashMap<Way, u64> = HashMap::new();
        // A file that was written again after a break has two lines; the later one holds, and so does what is said of it.
        for (at, line) in self.lines()?.enumerate() {
            if let Line::File { from, .. } = line {
                last.insert(from, at as u64);
            }
        }
        let newest = |from: &Way, at: usize| last.get(from).is_none_or(|last| *last <= at as u64);
        for (at, line) in self.lines()?.enumerate() {
            match line {
                Line::File { from, to, sha256, .. } if newest(&from, at) => sums.write_all(&manifest_line(to.bytes(), &sha256))?,
                Line::Begin { .. } | Line::File { .. } => {}
                Line::Lost { from, why, stretches } if stretches.is_empty() => said.push(format!("lost      {from}: {why}")),
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
        fs::rename(part(&manifest), &manifest)?;
        // What was said before a break is said again after it.
        let mut seen = HashSet::new();
        said.retain(|line| seen.insert(line.clone()));
        if !said.is_empty() {
            fs::write(&list, said.join("\n") + "\n")?;
        }
        fs::remove_file(&self.path)?;
        Ok((manifest, (!said.is_empty()).then_some(list)))
    }

    /// Where every file went, as far as it is written down.
    pub fn places(&mut self) -> io::Result<Done> {
        self.keep()?;
        let mut done = Done::new();
        self.lines()?.for_each(|line| take(&mut done, line));
        Ok(done)
    }

    fn lines(&self) -> io::Result<impl Iterator<Item = Line>> {
        let reader = BufReader::new(File::open(&self.path)?);
        Ok(reader.lines().map_while(|line| serde_json::from_str(&line.ok()?).ok()))
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

    fn begin(pick: &str) -> Line {
        Line::Begin { version: 1, source: "weir#3".into(), picks: vec![pick.into()] }
    }

    fn file(name: &str, sha256: &str) -> Line {
        Line::File { from: Way::new(name.as_bytes()), to: Way::new(name.as_bytes()), size: 5, modified: (7, 8), sha256: sha256.into() }
    }

    fn holed(name: &str) -> Line {
        Line::Lost { from: Way::new(name.as_bytes()), why: "unreadable".into(), stretches: vec![(512, 1024)] }
    }

    fn written(dir: &Path, lines: &[Line]) -> Journal {
        let (mut journal, _) = Journal::open(dir, &begin("/Users")).unwrap();
        lines.iter().for_each(|line| journal.add(line).unwrap());
        journal.keep().unwrap();
        journal
    }

    #[rstest]
    fn a_torn_end_costs_only_itself(#[values(1, 7, 40)] torn: u64) {
        let dir = tempfile::tempdir().unwrap();
        drop(written(dir.path(), &[file("a", "1"), file("b", "2")]));
        let path = dir.path().join(NAME);
        let len = fs::metadata(&path).unwrap().len();
        OpenOptions::new().write(true).open(&path).unwrap().set_len(len - torn).unwrap();
        let (mut journal, done) = Journal::open(dir.path(), &begin("/Users")).unwrap();
        assert_eq!(done.keys().map(Way::to_string).collect::<Vec<_>>(), ["a"]);
        journal.add(&file("c", "3")).unwrap();
        journal.keep().unwrap();
        assert_eq!(journal.places().unwrap().len(), 2, "what is appended stands behind the last whole line");
    }

    #[test]
    fn the_journal_of_another_copy_is_replaced() {
        let dir = tempfile::tempdir().unwrap();
        drop(written(dir.path(), &[file("a", "1")]));
        let (_, done) = Journal::open(dir.path(), &begin("/Users/Oda")).unwrap();
        assert!(done.is_empty());
        let (_, done) = Journal::open(dir.path(), &begin("/Users")).unwrap();
        assert!(done.is_empty(), "the first one is gone for good");
    }

    #[test]
    fn what_was_written_again_counts_as_it_was_last() {
        let dir = tempfile::tempdir().unwrap();
        let mut journal = written(dir.path(), &[file("a", "1"), holed("a"), file("b", "2"), file("a", "3"), file("c", "4"), holed("c")]);
        let places = journal.places().unwrap();
        let of = |name: &str| &places[&Way::new(name.as_bytes())];
        assert!(!of("a").holed && of("c").holed && of("a").sha256 == "3");
        let (manifest, list) = journal.finish().unwrap();
        assert_eq!(fs::read_to_string(manifest).unwrap(), "2  b\n3  a\n4  c\n");
        assert_eq!(fs::read_to_string(list.unwrap()).unwrap(), "holed     c: 1024 bytes at 512 are zero: unreadable\n");
        assert!(!dir.path().join(NAME).exists());
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
