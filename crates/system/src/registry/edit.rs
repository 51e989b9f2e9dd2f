//! Writing: a registry file in memory, changed and given back whole, as its system and other readers take it.

use super::base::{BASE, NONE, sum};
use super::bytes::Bytes;
use super::hive::{Hive, Key, SEGMENT};
use super::names::{hash, is_same, kept, upper};
use super::value::Value;
use super::{Result, Wrong};
use badger_drive::field::{le16, le32};
use std::collections::{BTreeMap, BTreeSet};

/// Bytes of a bin's head.
const BIN_HEAD: u32 = 32;
/// Entries of a list of keys; more go into several, and a list of these.
const MOST_LISTED: usize = 507;
/// A registry file that is changed may have so many bytes.
const MOST: u64 = 512 << 20;

/// A registry file that is being changed.
pub struct Edit {
    bytes: Vec<u8>,
    /// Free cells: place, bytes.
    free: BTreeMap<u32, u32>,
    /// Where cells begin that are not free.
    held: BTreeSet<u32>,
}

/// Every key below one; what is damaged there is told, and nothing is changed then.
fn all_below(hive: &Hive, key: &Key) -> Result<Vec<Key>> {
    let (below, wrong) = hive.subkeys(key);
    wrong.into_iter().next().map_or(Ok(below), Err)
}

/// A key by its path, also where a list notes its name wrongly: what is there is not taken for missing.
fn reached(hive: &Hive, path: &str) -> Result<Option<Key>> {
    let mut key = hive.root()?;
    for part in path.split('\\').filter(|part| !part.is_empty()) {
        let found = match hive.subkey(&key, part)? {
            Some(found) => Some(found),
            None => all_below(hive, &key)?.into_iter().find(|key| is_same(&key.name, part)),
        };
        let Some(found) = found else { return Ok(None) };
        key = found;
    }
    Ok(Some(key))
}

impl Edit {
    /// A file with a root key and nothing else.
    pub fn new(root: &str) -> Self {
        let mut bytes = vec![0; BASE as usize];
        bytes[..4].copy_from_slice(b"regf");
        for (at, number) in [(4, 1u32), (8, 1), (20, 1), (24, 5), (32, 1), (44, 1)] {
            bytes[at..at + 4].copy_from_slice(&number.to_le_bytes());
        }
        let mut edit = Self { bytes, free: BTreeMap::new(), held: BTreeSet::new() };
        let security = edit.security();
        let cell = edit.key_cell(root, NONE, security, 0x2c);
        edit.bytes[36..40].copy_from_slice(&cell.to_le_bytes());
        edit
    }

    /// Takes an opened file in whole, with what its logs say.
    ///
    /// # Errors
    /// It is too large, damaged where cells end, or cannot be read.
    pub fn of(hive: &Hive) -> Result<Self> {
        if BASE + u64::from(hive.base().bins) > MOST {
            return Err(Wrong::new("registry-too-large", "it is larger than any that is changed here"));
        }
        let mut bytes = hive.whole()?;
        bytes[36..40].copy_from_slice(&hive.base().root.to_le_bytes());
        let mut edit = Self { bytes, free: BTreeMap::new(), held: BTreeSet::new() };
        edit.gather()?;
        Ok(edit)
    }

    /// Finds all free cells; every bin and every cell must end where the next begins.
    fn gather(&mut self) -> Result<()> {
        let end = self.bytes.len() as u32 - BASE as u32;
        let mut bin = 0;
        while bin < end {
            let wrong = |what: &str| Wrong::new("registry-bin", format!("bin at {bin}: {what}; it is not changed"));
            let head = self.bytes.get((BASE as u32 + bin) as usize..).unwrap_or_default();
            let size = le32(head, 8);
            if !head.starts_with(b"hbin") || size == 0 || !size.is_multiple_of(4096) || size > end - bin {
                return Err(wrong("it is damaged"));
            }
            let mut at = bin + BIN_HEAD;
            while at < bin + size {
                let len = self.get32(at).cast_signed();
                let bytes = len.unsigned_abs();
                if bytes < 8 || !bytes.is_multiple_of(8) || bytes > bin + size - at {
                    return Err(wrong("its cells do not fill it"));
                }
                if len > 0 {
                    self.free.insert(at, bytes);
                } else {
                    self.held.insert(at);
                }
                at += bytes;
            }
            bin += size;
        }
        Ok(())
    }

    fn place(at: u32) -> usize {
        BASE as usize + at as usize
    }

    fn get32(&self, at: u32) -> u32 {
        le32(&self.bytes, Self::place(at))
    }

    /// Whether a cell begins there that holds this.
    fn is(&self, at: u32, mark: &[u8]) -> bool {
        self.held.contains(&at) && self.bytes[Self::place(at) + 4..].starts_with(mark)
    }

    /// The numbers in a cell, so many of them from a place on, as far as it has room.
    fn numbers(&self, at: u32, from: usize, count: usize) -> Vec<u32> {
        if !self.held.contains(&at) {
            return Vec::new();
        }
        let room = self.get32(at).cast_signed().unsigned_abs() as usize - 4;
        (0..count.min(room.saturating_sub(from) / 4)).map(|number| le32(&self.bytes, Self::place(at) + 4 + from + number * 4)).collect()
    }

    fn put32(&mut self, at: u32, number: u32) {
        let place = Self::place(at);
        self.bytes[place..place + 4].copy_from_slice(&number.to_le_bytes());
    }

    /// A new cell with so many bytes in it, all zero.
    fn take(&mut self, len: usize) -> u32 {
        let need = u32::try_from((len + 4).next_multiple_of(8)).expect("cells are short").max(8);
        let found = self.free.iter().find(|(_, bytes)| **bytes >= need).map(|(at, bytes)| (*at, *bytes));
        let (at, have) = found.unwrap_or_else(|| self.grow(need));
        self.free.remove(&at);
        let given = if have - need >= 8 { need } else { have };
        if given < have {
            self.free.insert(at + given, have - given);
            self.put32(at + given, have - given);
        }
        self.put32(at, given.wrapping_neg());
        self.held.insert(at);
        let place = Self::place(at);
        self.bytes[place + 4..place + given as usize].fill(0);
        at
    }

    /// A new bin, all of it one free cell.
    fn grow(&mut self, need: u32) -> (u32, u32) {
        let size = (need + BIN_HEAD).next_multiple_of(4096);
        let bin = (self.bytes.len() as u64 - BASE) as u32;
        self.bytes.resize(self.bytes.len() + size as usize, 0);
        let place = Self::place(bin);
        self.bytes[place..place + 4].copy_from_slice(b"hbin");
        self.put32(bin + 4, bin);
        self.put32(bin + 8, size);
        let (at, len) = (bin + BIN_HEAD, size - BIN_HEAD);
        self.put32(at, len);
        self.free.insert(at, len);
        (at, len)
    }

    /// Gives a cell back.
    fn give(&mut self, at: u32) {
        // Where a damaged file says that a cell is and none begins, nothing is given back.
        if !self.held.remove(&at) {
            return;
        }
        let bytes = self.get32(at).cast_signed().unsigned_abs();
        self.put32(at, bytes);
        self.free.insert(at, bytes);
    }

    /// A cell with these bytes.
    fn hold(&mut self, bytes: &[u8]) -> u32 {
        let at = self.take(bytes.len());
        let place = Self::place(at) + 4;
        self.bytes[place..place + bytes.len()].copy_from_slice(bytes);
        at
    }

    /// The first security cell: everybody may do everything, as in a file that nobody guards.
    fn security(&mut self) -> u32 {
        // A descriptor that says nothing of owners and lists, self-relative.
        let descriptor = [1u8, 0, 0, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
        let mut cell = b"sk\0\0".to_vec();
        cell.extend([0; 8]);
        cell.extend(1u32.to_le_bytes());
        cell.extend((descriptor.len() as u32).to_le_bytes());
        cell.extend(descriptor);
        let at = self.hold(&cell);
        self.put32(at + 8, at);
        self.put32(at + 12, at);
        at
    }

    fn key_cell(&mut self, name: &str, parent: u32, security: u32, flags: u16) -> u32 {
        let (name, is_narrow) = kept(name);
        let mut cell = vec![0; 76];
        cell[..2].copy_from_slice(b"nk");
        let flags = if is_narrow { flags | 0x20 } else { flags & !0x20 };
        cell[2..4].copy_from_slice(&flags.to_le_bytes());
        cell[4..12].copy_from_slice(&self.bytes[12..20]);
        for (at, number) in [(16, parent), (28, NONE), (32, NONE), (40, NONE), (44, security), (48, NONE)] {
            cell[at..at + 4].copy_from_slice(&number.to_le_bytes());
        }
        cell[72..74].copy_from_slice(&(name.len() as u16).to_le_bytes());
        cell.extend(name);
        self.hold(&cell)
    }

    /// As it is now, to be read.
    fn view(&self) -> Result<Hive<'_>> {
        struct View<'a>(&'a [u8], [u8; 512]);
        impl Bytes for View<'_> {
            fn len(&self) -> u64 {
                self.0.len() as u64
            }
            fn read_at(&self, offset: u64, buf: &mut [u8]) -> std::result::Result<(), String> {
                let start = usize::try_from(offset).map_err(|_| "it ends before")?;
                let part = start.checked_add(buf.len()).and_then(|end| self.0.get(start..end)).ok_or("it ends before")?;
                buf.copy_from_slice(part);
                for (at, byte) in buf.iter_mut().enumerate().take(512usize.saturating_sub(start)) {
                    *byte = self.1[start + at];
                }
                Ok(())
            }
        }
        Hive::open(View(&self.bytes, self.head()), &[])
    }

    /// The base block as it will be written.
    fn head(&self) -> [u8; 512] {
        let mut head: [u8; 512] = self.bytes[..512].try_into().expect("a base block");
        let sequence = le32(&head, 4).max(le32(&head, 8)).wrapping_add(1);
        head[4..8].copy_from_slice(&sequence.to_le_bytes());
        head[8..12].copy_from_slice(&sequence.to_le_bytes());
        head[40..44].copy_from_slice(&((self.bytes.len() as u64 - BASE) as u32).to_le_bytes());
        let sum = sum(&head);
        head[508..512].copy_from_slice(&sum.to_le_bytes());
        head
    }

    /// A key by its path, made where it is not there, with all above it.
    ///
    /// # Errors
    /// What is damaged on the way.
    pub fn make(&mut self, path: &str) -> Result<u32> {
        let mut key = self.view()?.root()?;
        for part in path.split('\\').filter(|part| !part.is_empty()) {
            let hive = self.view()?;
            key = match hive.subkey(&key, part)? {
                Some(below) => below,
                None => {
                    let mut below = all_below(&hive, &key)?;
                    if let Some(hidden) = below.iter().find(|key| is_same(&key.name, part)).cloned() {
                        // The list notes it wrongly, so that it is not found by its name: a second one beside it would not be found either.
                        drop(hive);
                        self.list(key.cell, below)?;
                        key = hidden;
                        continue;
                    }
                    let security = le32(&hive.cell(key.cell)?, 44);
                    drop(hive);
                    let cell = self.key_cell(part, key.cell, security, 0x20);
                    // Everybody who is guarded by a security cell counts in it.
                    if self.is(security, b"sk") {
                        let count = self.get32(security + 4 + 12);
                        self.put32(security + 4 + 12, count.wrapping_add(1));
                    }
                    let made = Key::read(cell, &self.view()?.cell(cell)?)?;
                    below.push(made.clone());
                    self.list(key.cell, below)?;
                    made
                }
            };
        }
        Ok(key.cell)
    }

    /// Writes the list of the keys below a key anew.
    fn list(&mut self, key: u32, mut below: Vec<Key>) -> Result<()> {
        below.sort_by_key(|key| upper(&key.name));
        self.drop_list(self.get32(key + 4 + 28), false);
        let lists: Vec<u32> = below
            .chunks(MOST_LISTED)
            .map(|part| {
                let mut cell = b"lh".to_vec();
                cell.extend((part.len() as u16).to_le_bytes());
                part.iter().for_each(|key| cell.extend([key.cell, hash(&key.name)].iter().flat_map(|number| number.to_le_bytes())));
                self.hold(&cell)
            })
            .collect();
        let list = match lists[..] {
            [] => NONE,
            [one] => one,
            _ => {
                let count = u16::try_from(lists.len()).map_err(|_| Wrong::new("registry-full", "a key has too many keys below it"))?;
                let mut cell = b"ri".to_vec();
                cell.extend(count.to_le_bytes());
                lists.iter().for_each(|list| cell.extend(list.to_le_bytes()));
                self.hold(&cell)
            }
        };
        self.put32(key + 4 + 20, below.len() as u32);
        self.put32(key + 4 + 28, list);
        let longest = below.iter().map(|key| key.name.encode_utf16().count() as u32 * 2).max().unwrap_or(0);
        self.put32(key + 4 + 52, longest);
        Ok(())
    }

    fn drop_list(&mut self, list: u32, deep: bool) {
        if !deep && self.is(list, b"ri") {
            let count = usize::from(le16(&self.bytes, Self::place(list) + 6));
            self.numbers(list, 4, count).into_iter().for_each(|list| self.drop_list(list, true));
        }
        self.give(list);
    }

    /// The value cells of a key.
    fn values(&self, key: u32) -> Vec<u32> {
        let (count, list) = (self.get32(key + 4 + 36), self.get32(key + 4 + 40));
        self.numbers(list, 0, count as usize)
    }

    fn set_values(&mut self, key: u32, cells: &[u32]) {
        self.give(self.get32(key + 4 + 40));
        let list = if cells.is_empty() { NONE } else { self.hold(&cells.iter().flat_map(|cell| cell.to_le_bytes()).collect::<Vec<_>>()) };
        self.put32(key + 4 + 36, cells.len() as u32);
        self.put32(key + 4 + 40, list);
    }

    /// Gives back what a value cell holds, and the cell.
    fn drop_value(&mut self, cell: u32) {
        let (size, data) = (self.get32(cell + 4 + 4), self.get32(cell + 4 + 8));
        if size & 0x8000_0000 == 0 && size > 0 {
            if size as usize > SEGMENT && self.is(data, b"db") {
                let (count, list) = (usize::from(le16(&self.bytes, Self::place(data) + 6)), self.get32(data + 8));
                let parts = self.numbers(list, 0, count);
                parts.into_iter().for_each(|part| self.give(part));
                self.give(list);
            }
            self.give(data);
        }
        self.give(cell);
    }

    /// Sets a value of a key, which is made where it is not there.
    ///
    /// # Errors
    /// What is damaged on the way.
    pub fn set(&mut self, path: &str, value: &Value) -> Result<()> {
        let key = self.make(path)?;
        self.remove_value(key, &value.name)?;
        let len = value.data.len();
        let (size, data) = match len {
            0..=4 => {
                let mut inline = [0; 4];
                inline[..len].copy_from_slice(&value.data);
                (len as u32 | 0x8000_0000, u32::from_le_bytes(inline))
            }
            _ if len > SEGMENT => {
                let parts: Vec<u32> = value.data.chunks(SEGMENT).map(|part| self.hold(part)).collect();
                let count = u16::try_from(parts.len()).map_err(|_| Wrong::new("registry-full", "the data of a value is too long"))?;
                let list = self.hold(&parts.iter().flat_map(|part| part.to_le_bytes()).collect::<Vec<_>>());
                let mut head = b"db".to_vec();
                head.extend(count.to_le_bytes());
                head.extend(list.to_le_bytes());
                (len as u32, self.hold(&head))
            }
            _ => (len as u32, self.hold(&value.data)),
        };
        let (name, is_narrow) = kept(&value.name);
        let mut cell = b"vk".to_vec();
        cell.extend((name.len() as u16).to_le_bytes());
        [size, data, value.kind.number()].iter().for_each(|number| cell.extend(number.to_le_bytes()));
        cell.extend(u16::from(is_narrow).to_le_bytes());
        cell.extend([0; 2]);
        cell.extend(&name);
        let cell = self.hold(&cell);
        let mut cells = self.values(key);
        cells.push(cell);
        self.set_values(key, &cells);
        let longest_name = self.get32(key + 4 + 60).max(value.name.encode_utf16().count() as u32 * 2);
        self.put32(key + 4 + 60, longest_name);
        let longest_data = self.get32(key + 4 + 64).max(len as u32);
        self.put32(key + 4 + 64, longest_data);
        Ok(())
    }

    fn remove_value(&mut self, key: u32, name: &str) -> Result<bool> {
        let cells = self.values(key);
        let hive = self.view()?;
        let mut found = None;
        for cell in &cells {
            let bytes = hive.cell(*cell)?;
            let raw = bytes.get(20..20 + usize::from(le16(&bytes, 2))).unwrap_or_default();
            let shown = if le16(&bytes, 16) & 1 != 0 { super::names::narrow(raw) } else { super::names::wide(raw) };
            if is_same(&shown, name) {
                found = Some(*cell);
            }
        }
        let Some(found) = found else { return Ok(false) };
        drop(hive);
        self.drop_value(found);
        self.set_values(key, &cells.into_iter().filter(|cell| *cell != found).collect::<Vec<_>>());
        Ok(true)
    }

    /// Takes a value away; false where it was not there.
    ///
    /// # Errors
    /// What is damaged on the way.
    pub fn remove(&mut self, path: &str, name: &str) -> Result<bool> {
        let Some(key) = reached(&self.view()?, path)? else { return Ok(false) };
        self.remove_value(key.cell, name)
    }

    /// Takes a key away with all below it; false where it was not there.
    ///
    /// # Errors
    /// What is damaged on the way, or that it is the root.
    pub fn remove_key(&mut self, path: &str) -> Result<bool> {
        let (above, name) = path.trim_matches('\\').rsplit_once('\\').unwrap_or(("", path.trim_matches('\\')));
        if name.is_empty() {
            return Err(Wrong::new("registry-root", "the root key cannot be taken away"));
        }
        let hive = self.view()?;
        let Some(parent) = reached(&hive, above)? else { return Ok(false) };
        let below = all_below(&hive, &parent)?;
        let Some(gone) = below.iter().find(|key| is_same(&key.name, name)).cloned() else { return Ok(false) };
        // Everything below it, found before anything is given back.
        let (mut all, mut at) = (vec![gone.clone()], 0);
        while at < all.len() {
            all.extend(all_below(&hive, &all[at])?);
            at += 1;
            if all.len() > 1 << 20 {
                return Err(Wrong::new("registry-loop", "keys are below each other in a circle"));
            }
        }
        drop(hive);
        for key in &all {
            for cell in self.values(key.cell) {
                self.drop_value(cell);
            }
            self.give(self.get32(key.cell + 4 + 40));
            self.drop_list(self.get32(key.cell + 4 + 28), false);
            self.give(self.get32(key.cell + 4 + 48));
            let security = self.get32(key.cell + 4 + 44);
            if self.is(security, b"sk") {
                let count = self.get32(security + 4 + 12);
                self.put32(security + 4 + 12, count.saturating_sub(1).max(1));
            }
            self.give(key.cell);
        }
        self.list(parent.cell, below.into_iter().filter(|key| key.cell != gone.cell).collect())?;
        Ok(true)
    }

    /// The whole file, as it is to be written.
    pub fn bytes(mut self) -> Vec<u8> {
        let head = self.head();
        self.bytes[..512].copy_from_slice(&head);
        self.bytes
    }
}
