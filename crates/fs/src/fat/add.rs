//! A file is laid into a volume at rest, with the folders on its way: its names, free clusters, every table that follows.

use super::{Fat, MOST_DIRECTORY};
use crate::finding::{Finding, Result};
use crate::node::{Node, NodeKind};
use crate::pages::Pages;
use crate::tree::Tree;
use badger_drive::field::{le16, le32};

/// Bytes of an entry.
const ENTRY: u64 = 32;
/// Letters of a long name in one entry, and in all.
const LETTERS: usize = 13;
const MOST_LETTERS: usize = 255;
/// The first day there is: nobody knows when it was.
pub(super) const DAY: u16 = 0x0021;

fn refused(text: impl Into<String>) -> Finding {
    Finding::new("fat-not-added", text)
}

/// A folder: where its entries lie, and its first cluster, 0 for the root.
struct Folder {
    pieces: Vec<(u64, u64)>,
    first: u32,
}

fn is_plain(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte == b'-'
}

fn short_of(base: &[u8], end: &[u8]) -> [u8; 11] {
    let mut out = [b' '; 11];
    out[..base.len()].copy_from_slice(base);
    out[8..8 + end.len()].copy_from_slice(end);
    out.make_ascii_uppercase();
    out
}

/// A name of eight letters and three as it stands in an entry, in large letters; `None` for one that takes more.
fn short(name: &str) -> Option<[u8; 11]> {
    let (base, end) = name.split_once('.').unwrap_or((name, ""));
    let fits = (1..=8).contains(&base.len()) && end.len() <= 3 && base.bytes().chain(end.bytes()).all(is_plain);
    fits.then(|| short_of(base.as_bytes(), end.as_bytes()))
}

/// The short name beside a long one, by the number that sets it apart.
fn beside(name: &str, number: u32) -> [u8; 11] {
    let (base, end) = name.rsplit_once('.').unwrap_or((name, ""));
    let plain = |part: &str, most: usize| part.bytes().filter(|byte| is_plain(*byte)).take(most).collect::<Vec<u8>>();
    let tail = format!("~{number}");
    short_of(&[&plain(base, 8 - tail.len()), tail.as_bytes()].concat(), &plain(end, 3))
}

/// The entries of a name: those of a long one, the last part first, and the short one's.
fn entries(name: &str, short: [u8; 11], is_long: bool, own: [u8; ENTRY as usize]) -> Vec<[u8; ENTRY as usize]> {
    let mut out = Vec::new();
    if is_long {
        let sum = short.iter().fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte));
        let units: Vec<u16> = name.encode_utf16().collect();
        let parts = units.len().div_ceil(LETTERS);
        for part in (0..parts).rev() {
            let mut entry = [0; ENTRY as usize];
            entry[0] = (part as u8 + 1) | if part + 1 == parts { 0x40 } else { 0 };
            (entry[11], entry[13]) = (0x0f, sum);
            for (letter, at) in (1..11).step_by(2).chain((14..26).step_by(2)).chain((28..32).step_by(2)).enumerate() {
                let unit = match (part * LETTERS + letter).cmp(&units.len()) {
                    std::cmp::Ordering::Less => units[part * LETTERS + letter],
                    std::cmp::Ordering::Equal => 0,
                    std::cmp::Ordering::Greater => u16::MAX,
                };
                entry[at..at + 2].copy_from_slice(&unit.to_le_bytes());
            }
            out.push(entry);
        }
    }
    out.push(own);
    out
}

fn entry(name: [u8; 11], attributes: u8, first: u32, size: u32) -> [u8; ENTRY as usize] {
    let mut out = [0; ENTRY as usize];
    out[..11].copy_from_slice(&name);
    out[11] = attributes;
    [16, 18, 24].into_iter().for_each(|at| out[at..at + 2].copy_from_slice(&DAY.to_le_bytes()));
    out[20..22].copy_from_slice(&((first >> 16) as u16).to_le_bytes());
    out[26..28].copy_from_slice(&(first as u16).to_le_bytes());
    out[28..32].copy_from_slice(&size.to_le_bytes());
    out
}

/// What is being laid into a volume.
struct Laying<'a> {
    fat: &'a Fat,
    pages: Pages<'a>,
    /// Where free clusters are looked for next.
    next: u32,
    taken: u32,
}

impl Laying<'_> {
    fn entry_at(&self, cluster: u32) -> u64 {
        u64::from(cluster) * u64::from(self.fat.bits) / 8
    }

    fn value(&mut self, cluster: u32) -> Result<u32> {
        let at = self.fat.table + self.fat.active * self.fat.table_len + self.entry_at(cluster);
        let bytes = self.pages.get(at, if self.fat.bits == 32 { 4 } else { 2 })?;
        Ok(match self.fat.bits {
            12 => u32::from(le16(&bytes, 0)) >> (4 * (cluster % 2)) & 0xfff,
            16 => u32::from(le16(&bytes, 0)),
            _ => le32(&bytes, 0) & 0x0fff_ffff,
        })
    }

    fn set(&mut self, cluster: u32, value: u32) -> Result<()> {
        let within = self.entry_at(cluster);
        let copies = if self.fat.mirrored { 0..self.fat.copies } else { self.fat.active..self.fat.active + 1 };
        for copy in copies {
            let at = self.fat.table + copy * self.fat.table_len + within;
            let old = self.pages.get(at, if self.fat.bits == 32 { 4 } else { 2 })?;
            let new = match self.fat.bits {
                12 => {
                    let shift = 4 * (cluster % 2);
                    (u32::from(le16(&old, 0)) & !(0xfff << shift) | (value & 0xfff) << shift).to_le_bytes()[..2].to_vec()
                }
                16 => (value as u16).to_le_bytes().to_vec(),
                _ => (le32(&old, 0) & 0xf000_0000 | value & 0x0fff_ffff).to_le_bytes().to_vec(),
            };
            self.pages.write(at, &new)?;
        }
        Ok(())
    }

    fn place(&self, cluster: u32) -> u64 {
        self.fat.data + u64::from(cluster - 2) * self.fat.cluster
    }

    /// A free cluster, the end of a chain by now.
    fn cluster(&mut self) -> Result<u32> {
        while self.next < self.fat.clusters + 2 {
            let cluster = self.next;
            self.next += 1;
            if self.value(cluster)? == 0 {
                self.set(cluster, 0x0fff_ffff)?;
                self.taken += 1;
                return Ok(cluster);
            }
        }
        Err(refused("it has no room for it"))
    }

    fn zeroed(&mut self) -> Result<u32> {
        let cluster = self.cluster()?;
        self.pages.write(self.place(cluster), &vec![0; self.fat.cluster as usize])?;
        Ok(cluster)
    }

    /// Puts a name into a folder, which may become longer for it; `own` gives its last entry by its short name.
    fn enter(&mut self, folder: &mut Folder, name: &str, own: impl FnOnce([u8; 11]) -> [u8; ENTRY as usize]) -> Result<()> {
        let units = name.encode_utf16().count();
        let wrong = |letter: char| letter.is_control() || "\"*/:<>?\\|".contains(letter);
        if !(1..=MOST_LETTERS).contains(&units) || name.contains(wrong) || name.ends_with(['.', ' ']) {
            return Err(refused(format!("{name} is no name there")));
        }
        let mut places: Vec<u64> = folder.pieces.iter().flat_map(|(at, len)| (0..len / ENTRY).map(move |slot| at + slot * ENTRY)).collect();
        // Behind the last one nothing counts, whatever stands there.
        let (mut free, mut taken, mut is_over) = (Vec::with_capacity(places.len()), Vec::new(), false);
        for at in &places {
            let entry = self.pages.get(*at, ENTRY as usize)?;
            is_over |= entry[0] == 0;
            free.push(is_over || entry[0] == 0xe5);
            // Parts of long names and the volume's label are no names.
            taken.extend((!is_over && entry[11] & 8 == 0).then(|| entry[..11].to_vec()));
        }
        let end = if is_over { places.len() - free.iter().rev().take_while(|free| **free).count() } else { places.len() };
        let plain = short(name);
        let own_short = match plain {
            Some(short) if taken.iter().any(|other| *other == short) => {
                return Err(refused(format!("{name} is there already, as the short name of another")));
            }
            Some(short) => short,
            None => (1..1_000_000)
                .map(|number| beside(name, number))
                .find(|short| !taken.iter().any(|other| other == short))
                .ok_or_else(|| refused("a folder is full of such names"))?,
        };
        let entries = entries(name, own_short, plain.is_none(), own(own_short));
        let run = |free: &[bool]| (0..free.len()).find(|at| free[*at..].iter().take_while(|free| **free).count() >= entries.len());
        let mut at = run(&free);
        while at.is_none() {
            if folder.first == 0 && self.fat.bits != 32 {
                return Err(refused("its root folder is full"));
            }
            let Some(last) = folder.pieces.last().map(|(at, len)| ((at + len - self.fat.data) / self.fat.cluster) as u32 + 1) else {
                return Err(refused("a folder lies nowhere"));
            };
            let more = self.zeroed()?;
            self.set(last, more)?;
            let place = self.place(more);
            folder.pieces.push((place, self.fat.cluster));
            for slot in 0..self.fat.cluster / ENTRY {
                places.push(place + slot * ENTRY);
                free.push(true);
            }
            at = run(&free);
        }
        let at = at.unwrap_or_default();
        for (entry, place) in entries.iter().zip(&places[at..]) {
            self.pages.write(*place, entry)?;
        }
        match places.get(at + entries.len()) {
            Some(behind) if at + entries.len() > end => self.pages.write(*behind, &[0]),
            _ => Ok(()),
        }
    }

    /// The folder of a name in another one, made where it is not there.
    fn folder(&mut self, above: &mut Folder, name: &str) -> Result<Folder> {
        let first = self.zeroed()?;
        let at = self.place(first);
        let dots = |count: usize| {
            let mut name = [b' '; 11];
            name[..count].fill(b'.');
            name
        };
        self.pages.write(at, &entry(dots(1), 0x10, first, 0))?;
        self.pages.write(at + ENTRY, &entry(dots(2), 0x10, above.first, 0))?;
        self.enter(above, name, |short| entry(short, 0x10, first, 0))?;
        Ok(Folder { pieces: vec![(at, self.fat.cluster)], first })
    }

    fn content(&mut self, bytes: &[u8]) -> Result<u32> {
        let (mut first, mut last) = (0, 0);
        for part in bytes.chunks(self.fat.cluster as usize) {
            let cluster = self.cluster()?;
            let mut whole = part.to_vec();
            whole.resize(self.fat.cluster as usize, 0);
            self.pages.write(self.place(cluster), &whole)?;
            match last {
                0 => first = cluster,
                last => self.set(last, cluster)?,
            }
            last = cluster;
        }
        Ok(first)
    }
}

impl Fat {
    fn folder_of(&self, node: &Node, is_root: bool) -> Result<Folder> {
        let pieces = self.directory_pieces(node)?;
        let pieces: Option<Vec<(u64, u64)>> = pieces.iter().map(|piece| Some((piece.at?, piece.len))).collect();
        let pieces = pieces.ok_or_else(|| refused("a folder lies nowhere"))?;
        if pieces.iter().map(|(_, len)| len).sum::<u64>() > MOST_DIRECTORY {
            return Err(refused("a folder is longer than any"));
        }
        Ok(Folder { pieces, first: if is_root { 0 } else { node.place.first } })
    }

    /// What has to be written so that files are there; see [`crate::Volume::added`].
    pub(super) fn with_files(&self, files: &[(&str, &[u8])]) -> Result<Vec<(u64, Vec<u8>)>> {
        if self.dirty {
            return Err(refused("its system still writes to it, as far as it says"));
        }
        let mut laying = Laying { fat: self, pages: Pages::new(&self.volume, self.sector), next: 2, taken: 0 };
        // Folders that are made here are not on the volume yet.
        let mut made: Vec<(String, Folder)> = Vec::new();
        for (path, bytes) in files {
            let parts: Vec<&str> = path.split('/').filter(|part| !part.is_empty()).collect();
            let Some((name, way)) = parts.split_last() else { return Err(refused("it has no name")) };
            let mut node = Some(self.root()?);
            let mut so_far = String::new();
            for part in way.iter().copied().chain([*name]) {
                let is_last = so_far.matches('/').count() == way.len();
                let found = node.as_ref().and_then(|node| {
                    let entries = self.list(node).entries;
                    entries.into_iter().find(|entry| self.is_same_name(&entry.name.shown, part))
                });
                let upper = format!("{so_far}/{part}");
                match found {
                    Some(_) if is_last => return Err(refused(format!("{path} is there already"))),
                    Some(entry) if entry.node.kind == NodeKind::Directory => node = Some(entry.node),
                    Some(_) => return Err(refused(format!("{upper} is no folder"))),
                    None => {
                        let at = made.iter().position(|(path, _)| *path == so_far);
                        let mut above = match (at, &node) {
                            (Some(at), _) => made.swap_remove(at).1,
                            (None, Some(node)) => self.folder_of(node, so_far.is_empty())?,
                            (None, None) => return Err(refused("a folder is lost")),
                        };
                        if is_last {
                            let size = u32::try_from(bytes.len()).map_err(|_| refused("it is longer than any file here"))?;
                            let first = laying.content(bytes)?;
                            laying.enter(&mut above, part, |short| entry(short, 0x20, first, size))?;
                        } else if !made.iter().any(|(path, _)| *path == upper) {
                            let below = laying.folder(&mut above, part)?;
                            made.push((upper.clone(), below));
                        }
                        made.push((so_far.clone(), above));
                        if !is_last {
                            node = None;
                        }
                    }
                }
                so_far = upper;
            }
        }
        if self.info > 0 && self.info * self.sector < self.table {
            let at = self.info * self.sector;
            let info = laying.pages.get(at, 512)?;
            let free = le32(&info, 488);
            if le32(&info, 0) == 0x4161_5252 && le32(&info, 484) == 0x6141_7272 && free != u32::MAX {
                laying.pages.write(at + 488, &free.saturating_sub(laying.taken).to_le_bytes())?;
            }
        }
        Ok(laying.pages.changes())
    }
}
