//! A salvage map in a file: a text that is written on and on, and made anew when it gets long. `docs/formats/salvage-map.md`
//! describes it.

use crate::map::{Map, State};
use badger_drive::keep;
use badger_drive::text::parts;
use std::ffi::OsString;
use std::fmt::Write as _;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Write};
use std::ops::Range;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

const MAGIC: &str = "zealous badger salvage map 2";
/// What maps of all versions begin with.
const KIND: &str = "zealous badger salvage map ";
/// Lines are no longer than that; what is longer is damaged.
const MOST_LINE: u64 = 16 << 10;
/// Bytes of the options that stand in one line, and that a map may have.
const PART: usize = 4 << 10;
const MOST_OPTIONS: usize = 1 << 20;
/// Stretches that a map may have.
pub const MOST_STRETCHES: usize = 16 << 20;

/// What a map is of.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Of {
    /// Model of the drive that fails.
    pub model: String,
    /// Its serial; may be empty.
    pub serial: String,
    /// Its key.
    pub source: String,
    /// The key of the target.
    pub target: String,
    /// Where the target was last.
    pub path: PathBuf,
    /// Device and inode of a target that is a file, as `DEVICE:INODE`; empty for others.
    pub node: String,
    /// Bytes of the drive.
    pub size: u64,
    /// Bytes of its logical sectors.
    pub sector: u32,
    /// What names the job, in any ledger; empty where there is none.
    pub job: String,
    /// What the system said of the drive when the map was begun, and under which start of it, as JSON; empty where that is not known.
    pub since: String,
    /// With what it was released besides: JSON of whoever gave the order. Empty where nobody said.
    pub options: String,
}

/// Why there is no map.
#[derive(Debug, thiserror::Error)]
pub enum MapError {
    /// The system says why.
    #[error("{0}")]
    Io(#[from] io::Error),
    /// It is something else.
    #[error("it is no salvage map, or its beginning is damaged: {0}")]
    NotOne(String),
}

/// An open map. What it says is saved must be durable on the target before it is noted.
pub struct MapFile {
    path: PathBuf,
    /// Always at its end.
    file: File,
    of: Of,
}

/// A map as it was read.
pub struct Loaded {
    /// What it is of.
    pub of: Of,
    /// What it says.
    pub map: Map,
    /// Lines that are damaged: what they said is not known any more, and is read again.
    pub damaged: u64,
}

/// A line with its checksum.
fn line(text: &str) -> String {
    format!("{text} ~{:08x}\n", crc32fast::hash(text.as_bytes()))
}

/// What a line says, where its checksum is right.
fn said(line: &str) -> Option<&str> {
    let (text, sum) = line.trim_end_matches('\n').rsplit_once(" ~")?;
    let sum = Some(sum).filter(|sum| sum.len() == 8)?;
    (u32::from_str_radix(sum, 16).ok()? == crc32fast::hash(text.as_bytes())).then_some(text)
}

fn told(range: &Range<u64>, state: State) -> String {
    let (start, len) = (range.start, range.end - range.start);
    line(&match state {
        State::Unread => format!("unread {start} {len}"),
        State::Deferred(tries) => format!("deferred {start} {len} {tries}"),
        State::Lost => format!("lost {start} {len}"),
        State::Saved => format!("saved {start} {len}"),
    })
}

fn stretch(text: &str) -> Option<(Range<u64>, State)> {
    let mut words = text.split(' ');
    let word = words.next()?;
    let (start, len): (u64, u64) = (words.next()?.parse().ok()?, words.next()?.parse().ok()?);
    let state = match (word, words.next()) {
        ("unread", None) => State::Unread,
        ("saved", None) => State::Saved,
        ("lost", None) => State::Lost,
        ("deferred", Some(tries)) => State::Deferred(tries.parse().ok()?),
        _ => return None,
    };
    (words.next().is_none() && len > 0).then_some((start..start.checked_add(len)?, state))
}

/// A path as text: a `%` and its bytes in hexadecimal digits where a line cannot hold it as it is.
fn told_path(path: &Path) -> String {
    match path.to_str() {
        Some(text) if !text.starts_with('%') && !text.contains(char::is_control) => text.to_string(),
        _ => format!("%{}", hex::encode(path.as_os_str().as_bytes())),
    }
}

fn path_of(text: String) -> PathBuf {
    match text.strip_prefix('%').and_then(|digits| hex::decode(digits).ok()) {
        Some(bytes) => OsString::from_vec(bytes).into(),
        None => text.into(),
    }
}

/// What lines of options begin with.
const OPTIONS: &str = "options ";

fn head(of: &Of) -> String {
    let quoted = |text: &str| text.replace(|c: char| c.is_control(), " ");
    // A reader would not take more: the options count as not named then.
    let options = Some(quoted(&of.options)).filter(|options| options.len() <= MOST_OPTIONS).unwrap_or_default();
    let at = told_path(&of.path);
    let named = [("model", &of.model), ("serial", &of.serial), ("source", &of.source), ("target", &of.target), ("at", &at), ("node", &of.node)];
    let named = named.into_iter().map(|(word, text)| format!("{word} {}", quoted(text)));
    std::iter::once(MAGIC.to_string())
        .chain(named)
        .chain([format!("size {} {}", of.size, of.sector), format!("job {}", of.job), format!("since {}", quoted(&of.since))])
        .chain(parts(&options, PART).map(|part| format!("{OPTIONS}{part}")))
        .map(|text| line(&text))
        .collect()
}

/// Whether a file begins as a map does.
pub fn is_map(head: &[u8]) -> bool {
    head.starts_with(KIND.as_bytes())
}

/// Reads a map. Damaged lines count as never written: what a map says only ever grows, so what is lost with a line is read again.
///
/// # Errors
/// The system, or that the beginning is not that of a map.
pub fn load(path: &Path) -> Result<Loaded, MapError> {
    let mut file = BufReader::new(keep::open_to_read(path)?);
    let mut next = || -> io::Result<Option<Option<String>>> {
        let mut bytes = Vec::new();
        if io::Read::take(&mut file, MOST_LINE).read_until(b'\n', &mut bytes)? == 0 {
            return Ok(None);
        }
        Ok(Some(String::from_utf8(bytes).ok().and_then(|text| said(&text).map(str::to_string))))
    };
    let mut field = |word: &str| -> Result<String, MapError> {
        let text = next()?.flatten().ok_or_else(|| MapError::NotOne(format!("its line of {word} is missing")))?;
        text.strip_prefix(word).map(|rest| rest.trim_start().to_string()).ok_or_else(|| MapError::NotOne(format!("its line of {word} is another")))
    };
    field(MAGIC)?;
    let (model, serial, source) = (field("model")?, field("serial")?, field("source")?);
    let (target, path, node) = (field("target")?, field("at")?, field("node")?);
    let (sizes, job, since) = (field("size")?, field("job")?, field("since")?);
    let sizes: Option<(u64, u32)> = sizes
        .split_once(' ')
        .and_then(|(size, sector)| Some((size.parse().ok()?, sector.parse().ok().filter(|sector| [512, 4096].contains(sector))?)));
    let (size, sector) = sizes.ok_or_else(|| MapError::NotOne("its size is no size".into()))?;
    let (mut map, mut damaged, mut options) = (Map::new(size), 0, String::new());
    while let Some(text) = next()? {
        if let Some(part) = text.as_deref().and_then(|text| text.strip_prefix(OPTIONS)).filter(|part| options.len() + part.len() <= MOST_OPTIONS) {
            options.push_str(part);
            continue;
        }
        match text.as_deref().and_then(stretch).filter(|(range, _)| range.end <= size) {
            Some((range, state)) if map.count() < MOST_STRETCHES => map.set(range, state),
            _ => damaged += 1,
        }
    }
    Ok(Loaded { of: Of { model, serial, source, target, path: path_of(path), node, size, sector, job, since, options }, map, damaged })
}

impl MapFile {
    /// Writes a map into a file, which is made, or replaced in one step where it is a map.
    ///
    /// # Errors
    /// The system, or that something else has the name.
    pub fn write(path: &Path, of: Of, map: &Map) -> io::Result<Self> {
        let file = keep::replace(path, &is_map, |file| {
            let mut text = head(&of);
            for (range, state) in map.iter().filter(|(_, state)| *state != State::Unread) {
                text.push_str(&told(&range, state));
                if text.len() > 1 << 20 {
                    file.write_all(text.as_bytes())?;
                    text.clear();
                }
            }
            file.write_all(text.as_bytes())
        })?;
        Ok(Self { path: path.to_path_buf(), file, of })
    }

    /// Notes what more is known since the last note, and makes it durable.
    ///
    /// # Errors
    /// The system; what was noted before is there all the same.
    pub fn note(&mut self, changes: &[(Range<u64>, State)]) -> io::Result<()> {
        if changes.is_empty() {
            return Ok(());
        }
        let mut text = String::new();
        changes.iter().for_each(|(range, state)| _ = write!(text, "{}", told(range, *state)));
        self.file.write_all(text.as_bytes())?;
        self.file.sync_data()
    }

    /// Makes it anew, which makes it short again.
    ///
    /// # Errors
    /// The system; it is as it was then.
    pub fn renew(&mut self, map: &Map) -> io::Result<()> {
        *self = Self::write(&self.path, self.of.clone(), map)?;
        Ok(())
    }

    /// What it is of.
    pub fn of(&self) -> &Of {
        &self.of
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of() -> Of {
        let (model, serial) = ("Tamarack T250".into(), "TM25-0091-7F3C".into());
        Of {
            model,
            serial,
            size: 1 << 20,
            sector: 512,
            job: "7c".into(),
            target: "/kept/t250.img".into(),
            path: OsString::from_vec(b"/kept/F\xe4hre\n.img".to_vec()).into(),
            ..Of::default()
        }
    }

    fn states() -> impl Strategy<Value = State> {
        prop_oneof![Just(State::Saved), Just(State::Lost), (0u8..9).prop_map(State::Deferred)]
    }

    proptest! {
        #[test]
        fn what_is_noted_is_read_again(changes in prop::collection::vec((0u64..2040, 1u64..9, states()), 1..60), cut in 1usize..9) {
            let dir = tempfile::tempdir().unwrap();
            let path = dir.path().join("t250.map");
            let mut map = Map::new(1 << 20);
            let mut file = MapFile::write(&path, of(), &map).unwrap();
            for part in changes.chunks(cut) {
                let mut noted = Vec::new();
                for (sector, count, state) in part {
                    let range = sector * 512..(sector + count) * 512;
                    map.set(range.clone(), *state);
                    noted.push((range, *state));
                }
                file.note(&noted).unwrap();
            }
            let loaded = load(&path).unwrap();
            prop_assert_eq!((&loaded.of, loaded.damaged), (&of(), 0));
            prop_assert_eq!(&loaded.map, &map);
            file.renew(&map).unwrap();
            prop_assert_eq!(&load(&path).unwrap().map, &map);
        }

        /// A map that is cut off or flipped says less, never more.
        #[test]
        fn damage_only_makes_it_know_less(saved in prop::collection::vec((0u64..2040, 1u64..9), 1..40), at in 0.0f64..1.0, bit in 0u8..8, cuts in any::<bool>()) {
            let dir = tempfile::tempdir().unwrap();
            let path = dir.path().join("t250.map");
            let mut map = Map::new(1 << 20);
            saved.iter().for_each(|(sector, count)| map.set(sector * 512..(sector + count) * 512, State::Saved));
            MapFile::write(&path, of(), &map).unwrap();
            let mut bytes = std::fs::read(&path).unwrap();
            let place = (bytes.len() as f64 * at) as usize;
            if cuts { bytes.truncate(place) } else { bytes[place] ^= 1 << bit }
            std::fs::write(&path, &bytes).unwrap();
            if let Ok(loaded) = load(&path) {
                prop_assert_eq!(&loaded.of, &of());
                for (range, _) in loaded.map.iter().filter(|(_, state)| *state == State::Saved) {
                    prop_assert!(map.is_saved(range));
                }
            }
        }

        #[test]
        fn any_bytes_are_no_map_or_one(bytes in prop::collection::vec(any::<u8>(), 0..3000)) {
            let dir = tempfile::tempdir().unwrap();
            let path = dir.path().join("any.map");
            std::fs::write(&path, [head(&of()).as_bytes(), &bytes].concat()).unwrap();
            prop_assert_eq!(load(&path).unwrap().map.totals().saved, 0);
            std::fs::write(&path, &bytes).unwrap();
            prop_assert!(load(&path).is_err());
        }
    }
}
