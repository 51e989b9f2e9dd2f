//! Reading: keys and values by their paths, as far as a damaged file goes.

use super::base::{BASE, Base, NONE};
use super::bytes::{Bytes, Paged};
use super::log;
use super::names::{hash, hint, is_same, narrow, wide};
use super::value::{Kind, Value};
use super::{Result, Wrong};
use badger_drive::field::{le16, le32, le64};

/// Bytes of a cell at the most; larger ones are not made by anybody.
const MOST_CELL: u64 = 16 << 20;
/// Bytes of data at the most.
const MOST_DATA: u64 = 64 << 20;
/// Keys below a key at the most, and values of one.
const MOST_ENTRIES: usize = 1 << 20;
const MOST_VALUES: usize = 1 << 17;
/// Bytes of the cells of a key, and of a value, at the most: their names are short.
const KEY_CELL: u64 = 2048;
const VALUE_CELL: u64 = 40_000;
/// Data longer than this lies in segments of so many bytes.
pub(crate) const SEGMENT: usize = 16_344;

/// An opened registry file.
pub struct Hive<'a> {
    pages: Paged<'a>,
    base: Base,
    /// What was wrong, and what was taken from logs.
    remarks: Vec<Wrong>,
}

/// A key, and where it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Key {
    pub(crate) cell: u32,
    /// Its name.
    pub name: String,
    /// When it was changed last, in units of 100 ns since 1601.
    pub written: u64,
    subkeys: (u32, u32),
    values: (u32, u32),
    class: (u32, u16),
}

impl Key {
    pub(crate) fn read(cell: u32, bytes: &[u8]) -> Result<Self> {
        let wrong = |what: &str| Wrong::new("registry-key", format!("key at {cell}: {what}"));
        if bytes.len() < 76 || &bytes[..2] != b"nk" {
            return Err(wrong("it is none"));
        }
        let len = usize::from(le16(bytes, 72));
        let name = bytes.get(76..76 + len).ok_or_else(|| wrong("its name goes beyond it"))?;
        Ok(Self {
            cell,
            name: if le16(bytes, 2) & 0x20 != 0 { narrow(name) } else { wide(name) },
            written: le64(bytes, 4),
            subkeys: (le32(bytes, 20), le32(bytes, 28)),
            values: (le32(bytes, 36), le32(bytes, 40)),
            class: (le32(bytes, 48), le16(bytes, 74)),
        })
    }

    /// How many keys it says are below it.
    pub fn subkey_count(&self) -> u32 {
        self.subkeys.0
    }
}

/// What a walk over a list does with an entry: a place, and what the list notes for its name. False ends it.
type EachEntry<'e> = dyn FnMut(u32, Noted) -> bool + 'e;

/// What a list notes for a name.
#[derive(Clone, Copy)]
enum Noted {
    Nothing,
    Hint([u8; 4]),
    Hash(u32),
}

impl<'a> Hive<'a> {
    /// Opens a file. `logs` are its transaction logs as far as there are any: what they have and the file has not is read from them, in memory.
    ///
    /// # Errors
    /// It is no such file, or its beginning is damaged, and no log has it.
    pub fn open(file: impl Bytes + 'a, logs: &[&dyn Bytes]) -> Result<Self> {
        let mut pages = Paged::new(file);
        let mut block = [0; 512];
        pages.read_at(0, &mut block)?;
        let mut base = Base::read(&block)?;
        let mut remarks = Vec::new();
        if !base.is_clean() {
            let applied = log::apply(&mut pages, &base, logs, &mut remarks);
            let text = match applied {
                Some(after) => {
                    base = after;
                    "it was not written to its end; what is missing was taken from its logs".to_string()
                }
                None if base.is_sound => {
                    "it was not written to its end, and no log has what is missing: the latest changes may be half there".to_string()
                }
                None => "its base block has a wrong sum, and no log has another".to_string(),
            };
            remarks.insert(0, Wrong::new(if applied.is_some() { "registry-recovered" } else { "registry-dirty" }, text));
        }
        if base.version.0 != 1 || !(2..=6).contains(&base.version.1) {
            return Err(Wrong::new("registry-version", format!("version {}.{} of the layout is not known", base.version.0, base.version.1)));
        }
        let hive = Self { pages, base, remarks };
        hive.root()?;
        Ok(hive)
    }

    /// What its base block says, after what logs say.
    pub fn base(&self) -> &Base {
        &self.base
    }

    /// What was wrong with it, as far as it was looked at.
    pub fn remarks(&self) -> &[Wrong] {
        &self.remarks
    }

    /// All its bytes, with what logs say.
    pub(crate) fn whole(&self) -> Result<Vec<u8>> {
        let len = (BASE + u64::from(self.base.bins)).min(self.pages.len());
        let mut out = vec![0; usize::try_from(len).unwrap_or(usize::MAX)];
        self.pages.read_at(0, &mut out)?;
        Ok(out)
    }

    /// What is in a cell.
    pub(crate) fn cell(&self, at: u32) -> Result<Vec<u8>> {
        self.cell_to(at, MOST_CELL)
    }

    /// The same, no more of it than so many bytes.
    fn cell_to(&self, at: u32, most: u64) -> Result<Vec<u8>> {
        let wrong = |what: &str| Wrong::new("registry-cell", format!("cell at {at}: {what}"));
        let room = u64::from(self.base.bins).min(self.pages.len().saturating_sub(BASE));
        if at == NONE || !at.is_multiple_of(8) || u64::from(at) + 8 > room {
            return Err(wrong("it lies where none can be"));
        }
        let mut size = [0; 4];
        self.pages.read_at(BASE + u64::from(at), &mut size)?;
        let size = i32::from_le_bytes(size);
        if size >= 0 {
            return Err(wrong("it is free"));
        }
        let size = u64::from(size.unsigned_abs());
        if !(8..=MOST_CELL).contains(&size) || u64::from(at) + size > room {
            return Err(wrong("its length cannot be"));
        }
        let mut out = vec![0; (size - 4).min(most) as usize];
        self.pages.read_at(BASE + u64::from(at) + 4, &mut out)?;
        Ok(out)
    }

    fn key_at(&self, at: u32) -> Result<Key> {
        Key::read(at, &self.cell_to(at, KEY_CELL)?)
    }

    /// The key that all others are below.
    ///
    /// # Errors
    /// It is damaged.
    pub fn root(&self) -> Result<Key> {
        self.key_at(self.base.root)
    }

    /// Goes over a list of keys, and the lists in it.
    fn entries(&self, at: u32, deep: bool, each: &mut EachEntry) -> Result<bool> {
        let list = self.cell(at)?;
        let count = usize::from(le16(&list, 2));
        let width = match list.get(..2) {
            Some(b"lf" | b"lh") => 8,
            Some(b"li" | b"ri") => 4,
            _ => return Err(Wrong::new("registry-list", format!("list at {at}: it is none"))),
        };
        if list.len() < 4 + count * width {
            return Err(Wrong::new("registry-list", format!("list at {at}: it has no room for what it says")));
        }
        for entry in list[4..4 + count * width].chunks_exact(width) {
            let place = le32(entry, 0);
            let goes_on = match &list[..2] {
                b"ri" if deep => return Err(Wrong::new("registry-list", format!("list at {at}: lists of lists of lists"))),
                b"ri" => self.entries(place, true, each)?,
                b"lh" => each(place, Noted::Hash(le32(entry, 4))),
                b"lf" => each(place, Noted::Hint([entry[4], entry[5], entry[6], entry[7]])),
                _ => each(place, Noted::Nothing),
            };
            if !goes_on {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// The keys below a key, as far as they can be read, and what cannot.
    pub fn subkeys(&self, key: &Key) -> (Vec<Key>, Vec<Wrong>) {
        let (mut keys, mut wrong) = (Vec::new(), Vec::new());
        if key.subkeys.0 == 0 {
            return (keys, wrong);
        }
        let mut seen = 0;
        let walked = self.entries(key.subkeys.1, false, &mut |at, _| {
            seen += 1;
            match self.key_at(at) {
                Ok(below) => keys.push(below),
                Err(why) => wrong.push(why),
            }
            seen < MOST_ENTRIES
        });
        wrong.extend(walked.err());
        if wrong.is_empty() && seen != key.subkeys.0 as usize {
            wrong.push(Wrong::new("registry-count", format!("{} says that {} keys are below it, and {seen} are", key.name, key.subkeys.0)));
        }
        (keys, wrong)
    }

    /// One key below a key, by its name.
    ///
    /// # Errors
    /// What is damaged, where it was not found and might be there.
    pub fn subkey(&self, key: &Key, name: &str) -> Result<Option<Key>> {
        if key.subkeys.0 == 0 {
            return Ok(None);
        }
        let (hash, hint) = (hash(name), hint(name));
        let (mut found, mut damaged) = (None, None);
        let walked = self.entries(key.subkeys.1, false, &mut |at, noted| {
            let may_be = match noted {
                Noted::Hash(other) => other == hash,
                // What is not one byte a character has a zero there.
                Noted::Hint(other) => other.iter().zip(hint).all(|(a, b)| *a == 0 || b == 0 || a.eq_ignore_ascii_case(&b) || !a.is_ascii()),
                Noted::Nothing => true,
            };
            if may_be {
                match self.key_at(at) {
                    Ok(key) if is_same(&key.name, name) => found = Some(key),
                    Ok(_) => {}
                    Err(why) => damaged = Some(why),
                }
            }
            found.is_none()
        });
        match (found, walked, damaged) {
            (Some(key), ..) => Ok(Some(key)),
            (None, Err(why), _) | (None, Ok(_), Some(why)) => Err(why),
            (None, Ok(_), None) => Ok(None),
        }
    }

    /// A key by its path from the root, its parts divided by `\`.
    ///
    /// # Errors
    /// What is damaged on the way.
    pub fn key(&self, path: &str) -> Result<Option<Key>> {
        let mut key = self.root()?;
        for part in path.split('\\').filter(|part| !part.is_empty()) {
            match self.subkey(&key, part)? {
                Some(below) => key = below,
                None => return Ok(None),
            }
        }
        Ok(Some(key))
    }

    /// The places of the values of a key.
    fn value_cells(&self, key: &Key) -> Result<Vec<u32>> {
        let count = key.values.0 as usize;
        if count == 0 {
            return Ok(Vec::new());
        }
        let list = self.cell(key.values.1)?;
        if count > MOST_VALUES || list.len() < count * 4 {
            return Err(Wrong::new("registry-list", format!("values of {}: their list has no room for what it says", key.name)));
        }
        Ok(list[..count * 4].chunks_exact(4).map(|at| le32(at, 0)).collect())
    }

    fn value_name(&self, at: u32) -> Result<(String, Vec<u8>)> {
        let cell = self.cell_to(at, VALUE_CELL)?;
        let wrong = |what: &str| Wrong::new("registry-value", format!("value at {at}: {what}"));
        if cell.len() < 20 || &cell[..2] != b"vk" {
            return Err(wrong("it is none"));
        }
        let name = cell.get(20..20 + usize::from(le16(&cell, 2))).ok_or_else(|| wrong("its name goes beyond it"))?;
        Ok((if le16(&cell, 16) & 1 != 0 { narrow(name) } else { wide(name) }, cell))
    }

    fn value_of(&self, name: String, cell: &[u8]) -> Result<Value> {
        let (size, at) = (le32(cell, 4), le32(cell, 8));
        let kind = Kind::of(le32(cell, 12));
        let len = (size & 0x7fff_ffff) as usize;
        let wrong = |what: &str| Wrong::new("registry-data", format!("data of value \"{name}\": {what}"));
        let data = match () {
            () if size & 0x8000_0000 != 0 => cell.get(8..8 + len.min(4)).unwrap_or_default().to_vec(),
            () if len == 0 => Vec::new(),
            () if len as u64 > MOST_DATA => return Err(wrong("it is longer than any")),
            () => {
                let held = self.cell(at)?;
                let is_segmented = len > SEGMENT && self.base.version.1 >= 4 && held.starts_with(b"db");
                if is_segmented { self.segments(&held, len)? } else { held.get(..len).ok_or_else(|| wrong("it is cut off"))?.to_vec() }
            }
        };
        Ok(Value { name, kind, data })
    }

    /// Data that lies in segments.
    fn segments(&self, head: &[u8], len: usize) -> Result<Vec<u8>> {
        let wrong = |what: &str| Wrong::new("registry-data", format!("data in segments: {what}"));
        let count = usize::from(le16(head, 2));
        if count != len.div_ceil(SEGMENT) {
            return Err(wrong("they are not as many as its length needs"));
        }
        let list = self.cell(le32(head, 4))?;
        let mut out = Vec::with_capacity(len);
        for at in list.chunks_exact(4).take(count) {
            let part = self.cell(le32(at, 0))?;
            let more = (len - out.len()).min(SEGMENT);
            out.extend_from_slice(part.get(..more).ok_or_else(|| wrong("one is cut off"))?);
        }
        if out.len() == len { Ok(out) } else { Err(wrong("some are missing")) }
    }

    /// The values of a key, as far as they can be read, and what cannot.
    pub fn values(&self, key: &Key) -> (Vec<Value>, Vec<Wrong>) {
        let (mut values, mut wrong) = (Vec::new(), Vec::new());
        match self.value_cells(key) {
            Err(why) => wrong.push(why),
            Ok(cells) => {
                for at in cells {
                    match self.value_name(at).and_then(|(name, cell)| self.value_of(name, &cell)) {
                        Ok(value) => values.push(value),
                        Err(why) => wrong.push(why),
                    }
                }
            }
        }
        (values, wrong)
    }

    /// One value of a key; an empty name for the one without.
    ///
    /// # Errors
    /// What is damaged, where it was not found and might be there.
    pub fn value(&self, key: &Key, name: &str) -> Result<Option<Value>> {
        let mut damaged = None;
        for at in self.value_cells(key)? {
            match self.value_name(at) {
                Ok((found, cell)) if is_same(&found, name) => return self.value_of(found, &cell).map(Some),
                Ok(_) => {}
                Err(why) => damaged = Some(why),
            }
        }
        damaged.map_or(Ok(None), Err)
    }

    /// Where in the file the data of a value stands: bytes that may be set right there. `None` where it stands in several places, or where
    /// logs have something that the file has not: then it is not to be changed by itself.
    ///
    /// # Errors
    /// What is damaged.
    pub fn where_is(&self, key: &Key, name: &str) -> Result<Option<std::ops::Range<u64>>> {
        if self.remarks.iter().any(|remark| matches!(remark.code, "registry-recovered" | "registry-dirty")) {
            return Ok(None);
        }
        for at in self.value_cells(key)? {
            let Ok((found, cell)) = self.value_name(at) else { continue };
            if !is_same(&found, name) {
                continue;
            }
            let (size, data) = (le32(&cell, 4), le32(&cell, 8));
            let len = u64::from(size & 0x7fff_ffff);
            let start = if size & 0x8000_0000 != 0 { BASE + u64::from(at) + 4 + 8 } else { BASE + u64::from(data) + 4 };
            let is_whole =
                size & 0x8000_0000 != 0 && len <= 4 || len as usize <= SEGMENT && self.cell(data).is_ok_and(|held| held.len() as u64 >= len);
            return Ok(is_whole.then(|| start..start + len));
        }
        Ok(None)
    }

    /// One value by the path of its key; nothing where the key or the value is not there.
    ///
    /// # Errors
    /// What is damaged on the way.
    pub fn find(&self, path: &str, name: &str) -> Result<Option<Value>> {
        self.key(path)?.map_or(Ok(None), |key| self.value(&key, name))
    }

    /// The class of a key: a further text that some keys have.
    ///
    /// # Errors
    /// It is damaged.
    pub fn class(&self, key: &Key) -> Result<Option<String>> {
        if key.class.0 == NONE || key.class.1 == 0 {
            return Ok(None);
        }
        Ok(self.cell(key.class.0)?.get(..usize::from(key.class.1)).map(wide))
    }
}
