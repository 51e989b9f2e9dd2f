//! The folder of a system image that an operating system's own backup made, as one drive: virtual disks, each with one or several
//! partitions, beside a catalogue.
//!
//! For the catalogue there is no public specification, so nothing is taken from it: what it names lies in the virtual disks
//! themselves, and where they lay on the machine's drive is where they lie in their disks. The table of the whole is made here.

use badger_drive::kinds::{Around, Asked, Kind, Named, NotOpened, Seen, Shown, Written};
use badger_drive::medium::inside;
use badger_drive::{Geometry, Ground, Holds, Identity, Medium, ReadError, Refusal, Standing, Stretch, Sysfs};
use badger_image::Container;
use badger_layout::gpt::{Entry, Gpt};
use badger_layout::mbr::Mbr;
use badger_layout::types::TypeCode;
use badger_layout::{Guid, table};
use std::fs::{self, File};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Folders with the virtual disks of a backup.
pub const BACKUPS: &dyn Kind = &Backups;

/// So deep and so many entries such a folder is looked through, and so many disks and partitions are put together.
const DEEPEST: usize = 3;
const MOST_ENTRIES: usize = 4096;
const MOST_DISKS: usize = 32;
const MOST_PARTS: usize = 128;
/// Partitions begin at multiples of this, in bytes, where they cannot lie where they lay.
const STEP: u64 = 1 << 20;
/// No drive is larger.
const LARGEST: u64 = 1 << 60;

struct Backups;

impl Kind for Backups {
    fn named(&self, name: &Path, _role: &str, _around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        if !name.is_dir() {
            return Ok(None);
        }
        let disks = disks(name);
        Ok((!disks.is_empty()).then(|| Box::new(Folder { path: name.to_path_buf(), disks }) as Box<dyn Named>))
    }
    fn probe(&self, _asked: &Asked, _around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        Ok(None)
    }
}

/// The virtual disks below a folder, in the order of their names; none where no catalogue lies beside them.
fn disks(folder: &Path) -> Vec<PathBuf> {
    let (mut disks, mut catalogue, mut left) = (Vec::new(), false, MOST_ENTRIES);
    let mut waiting = vec![(folder.to_path_buf(), 0)];
    while let Some((folder, depth)) = waiting.pop() {
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            left = left.saturating_sub(1);
            if left == 0 {
                return Vec::new();
            }
            // No link is followed: what lies elsewhere is no part of the folder.
            let Ok(kind) = entry.file_type() else { continue };
            let path = entry.path();
            let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase()).unwrap_or_default();
            match ending.as_str() {
                _ if kind.is_dir() && depth < DEEPEST => waiting.push((path, depth + 1)),
                "vhd" | "vhdx" if kind.is_file() => disks.push(path),
                "xml" if kind.is_file() => catalogue = true,
                _ => {}
            }
        }
    }
    disks.sort();
    if catalogue { disks } else { Vec::new() }
}

struct Folder {
    path: PathBuf,
    disks: Vec<PathBuf>,
}

impl Named for Folder {
    fn path(&self) -> &Path {
        &self.path
    }
    fn ground(&self, sysfs: &Sysfs) -> Ground {
        self.disks.iter().map(|disk| Ground::of(disk, sysfs)).reduce(Ground::and).unwrap_or_default()
    }
    fn open(&self) -> io::Result<Arc<dyn Medium>> {
        Ok(Arc::new(Backup::of(&self.path, &self.disks)?))
    }
    fn look(&self, _sector: u32) -> io::Result<Seen> {
        Err(io::Error::new(
            io::ErrorKind::Unsupported,
            "it is a backup with a drive in it, which is only read: restore onto a drive, or name a new file",
        ))
    }
    fn open_for_writing(&self, _shown: &Shown, _sysfs: &Sysfs) -> Result<Written, NotOpened> {
        Err(io::Error::from(io::ErrorKind::Unsupported).into())
    }
}

/// A partition of one of the disks.
struct Part {
    disk: usize,
    /// Where it lies there, and how long it is, in bytes.
    at: u64,
    len: u64,
    type_id: Guid,
    name: String,
}

/// A stretch of the whole.
struct Piece {
    start: u64,
    len: u64,
    from: From,
}

/// Where its bytes are.
enum From {
    /// Here: of the table.
    Bytes(Vec<u8>),
    /// In a disk, from this byte on.
    Disk(usize, u64),
}

/// The whole.
struct Backup {
    identity: Identity,
    geometry: Geometry,
    disks: Vec<Container>,
    /// In order, with nothing but zeroes between them.
    pieces: Vec<Piece>,
}

fn wrong(text: impl Into<String>) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, text.into())
}

fn guid(text: &str) -> Guid {
    Guid::parse(text).unwrap_or(Guid::ZERO)
}

/// What a type of an MBR is called in a GPT.
fn type_id(code: &TypeCode) -> Guid {
    match code {
        TypeCode::Gpt(id) => *id,
        TypeCode::Mbr(0xef) => guid("C12A7328-F81F-11D2-BA4B-00A0C93EC93B"),
        TypeCode::Mbr(0x27) => guid("DE94BBA4-06D1-4D40-A16A-BFD50179D6AC"),
        TypeCode::Mbr(0x83) => guid("0FC63DAF-8483-4772-8E79-3D69D8477DE4"),
        _ => guid("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"),
    }
}

/// The partitions of all disks.
fn parts(disks: &[Container], names: &[PathBuf]) -> io::Result<Vec<Part>> {
    let mut out = Vec::new();
    for (disk, (drive, path)) in disks.iter().zip(names).enumerate() {
        let size = drive.geometry().size_bytes;
        let name = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
        let table = table::read(drive);
        for partition in table.data_partitions() {
            let (at, len) = table.place(partition);
            if at.checked_add(len).is_none_or(|end| end > size) {
                return Err(wrong(format!("{}: partition {} reaches past its end", path.display(), partition.number)));
            }
            let name = if partition.name.is_empty() { name.clone() } else { partition.name.clone() };
            out.push(Part { disk, at, len, type_id: type_id(&partition.type_code), name });
        }
        if table.partitions.is_empty() {
            // A volume without a table around it.
            out.push(Part { disk, at: 0, len: size, type_id: type_id(&TypeCode::Mbr(0x07)), name });
        }
        if out.len() > MOST_PARTS {
            return Err(wrong("it holds more partitions than one table"));
        }
    }
    Ok(out)
}

/// Where each part begins in the whole: where it lay, if all of them can; else one behind the other.
fn places(parts: &[Part]) -> Option<Vec<u64>> {
    let mut ranges: Vec<(u64, u64)> = parts.iter().map(|part| (part.at, part.at + part.len)).collect();
    ranges.sort_unstable();
    let free = ranges.first().is_none_or(|(start, _)| *start >= STEP) && ranges.windows(2).all(|pair| pair[0].1 <= pair[1].0);
    if free {
        return Some(parts.iter().map(|part| part.at).collect());
    }
    let mut at = STEP;
    parts
        .iter()
        .map(|part| {
            let start = at;
            at = at.checked_add(part.len)?.checked_next_multiple_of(STEP).filter(|end| *end < LARGEST)?;
            Some(start)
        })
        .collect()
}

impl Backup {
    fn of(folder: &Path, names: &[PathBuf]) -> io::Result<Self> {
        if names.len() > MOST_DISKS {
            return Err(wrong(format!("{} virtual disks lie there: name one of them", names.len())));
        }
        let open = |path: &PathBuf| {
            let opened = badger_image::open(path, None).map_err(|error| io::Error::new(error.kind(), format!("{}: {error}", path.display())))?;
            opened.ok_or_else(|| wrong(format!("{} is no virtual disk", path.display())))
        };
        let disks = names.iter().map(open).collect::<io::Result<Vec<_>>>()?;
        let sector = disks.first().map_or(512, |disk| disk.geometry().logical_sector);
        if disks.iter().any(|disk| disk.geometry().logical_sector != sector) {
            return Err(wrong("its virtual disks have sectors of different sizes: name one of them"));
        }
        let parts = parts(&disks, names)?;
        let starts = places(&parts).ok_or_else(|| wrong("its virtual disks are larger than any drive"))?;
        let end = parts.iter().zip(&starts).map(|(part, start)| start.saturating_add(part.len)).max().unwrap_or(STEP);
        let size = end.checked_next_multiple_of(STEP).and_then(|end| end.checked_add(STEP)).filter(|size| *size <= LARGEST);
        let size = size.ok_or_else(|| wrong("its virtual disks are larger than any drive"))?;
        let mut pieces: Vec<Piece> =
            parts.iter().zip(&starts).map(|(part, start)| Piece { start: *start, len: part.len, from: From::Disk(part.disk, part.at) }).collect();
        pieces.extend(table_of(folder, &parts, &starts, (size, sector)));
        pieces.sort_by_key(|piece| piece.start);
        let identity = Identity { bus: badger_drive::Bus::Image, read_only: true, ..Identity::of_file(folder) };
        let geometry = Geometry { size_bytes: size, logical_sector: sector, physical_sector: sector.max(4096) };
        Ok(Self { identity, geometry, disks, pieces })
    }

    /// The piece that a byte lies in, or none and where the next one begins.
    fn piece(&self, at: u64) -> (Option<&Piece>, u64) {
        let next = self.pieces.partition_point(|piece| piece.start + piece.len <= at);
        match self.pieces.get(next) {
            Some(piece) if piece.start <= at => (Some(piece), piece.start + piece.len),
            Some(piece) => (None, piece.start),
            None => (None, self.geometry.size_bytes),
        }
    }
}

/// The sectors of a table over the parts.
fn table_of(folder: &Path, parts: &[Part], starts: &[u64], (size, sector): (u64, u32)) -> Vec<Piece> {
    // The same folder has the same identifiers whenever it is opened.
    let id = |number: u64| {
        let half = |salt: u64| {
            let mut hasher = DefaultHasher::new();
            (folder, number, salt).hash(&mut hasher);
            hasher.finish().to_le_bytes()
        };
        let (low, high) = (half(0), half(1));
        Guid::from_random(std::array::from_fn(|at| if at < 8 { low[at] } else { high[at - 8] }))
    };
    let each = u64::from(sector);
    let entry = |(slot, (part, start)): (usize, (&Part, &u64))| {
        let mut name = [0; 36];
        name.iter_mut().zip(part.name.encode_utf16().take(35)).for_each(|(unit, letter)| *unit = letter);
        let (first, last) = (start / each, (start + part.len) / each - 1);
        Entry { slot: slot as u32, type_id: part.type_id, id: id(slot as u64 + 1), first, last, attributes: 0, name, extra: Vec::new() }
    };
    let sectors = size / each;
    let mut gpt = Gpt {
        disk_id: id(0),
        first_usable: 2 + (128 * 128u64).div_ceil(each),
        last_usable: 0,
        backup_at: 0,
        entries_at: 2,
        slots: 128,
        slot_size: 128,
        entries: parts.iter().zip(starts).enumerate().filter(|(_, (part, _))| part.len >= each).map(entry).collect(),
        mbr: Mbr::empty(0),
    };
    gpt.fit_to(sectors, sector);
    gpt.write(sector).into_iter().map(|(at, bytes)| Piece { start: at * each, len: bytes.len() as u64, from: From::Bytes(bytes) }).collect()
}

impl Medium for Backup {
    fn geometry(&self) -> Geometry {
        self.geometry
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        let end = inside(offset, buf.len(), self.geometry.size_bytes)?;
        let mut at = offset;
        while at < end {
            let (piece, until) = self.piece(at);
            let until = until.min(end);
            let here = &mut buf[(at - offset) as usize..(until - offset) as usize];
            match piece.map(|piece| (at - piece.start, &piece.from)) {
                None => here.fill(0),
                Some((inner, From::Bytes(bytes))) => here.copy_from_slice(&bytes[inner as usize..inner as usize + here.len()]),
                Some((inner, From::Disk(disk, from))) => self.disks[*disk].read_at(from + inner, here).map_err(|error| match error {
                    // The place in the whole, not that in its disk.
                    ReadError::Unreadable { offset: bad, why, .. } => {
                        let bad = at + bad.saturating_sub(from + inner).min(until - at);
                        ReadError::Unreadable { offset: bad, len: end - bad, why }
                    }
                    other => other,
                })?,
            }
            at = until;
        }
        Ok(())
    }
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let end = offset.saturating_add(max).min(self.geometry.size_bytes);
        if offset >= end {
            return Stretch { len: 0, holds: Holds::Bytes };
        }
        let (piece, until) = self.piece(offset);
        let len = until.min(end) - offset;
        match piece.map(|piece| (offset - piece.start, &piece.from)) {
            None => Stretch { len, holds: Holds::Zero },
            Some((_, From::Bytes(_))) => Stretch { len, holds: Holds::Bytes },
            Some((inner, From::Disk(disk, from))) => self.disks[*disk].stretch(from + inner, len),
        }
    }
    fn remark(&self) -> Option<String> {
        let disks = self.disks.len();
        Some(format!("it is put together of {disks} virtual disks of a backup: its table was made here, and what lay outside of them is zero"))
    }
    fn standing(&self) -> Standing {
        self.disks.first().map(Medium::standing).unwrap_or_default()
    }
    fn rests_on(&self) -> Vec<&File> {
        self.disks.iter().flat_map(Medium::rests_on).collect()
    }
}
