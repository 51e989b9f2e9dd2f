//! VMDK: sparse, stream-optimised, and flat with a descriptor. Follows the published "Virtual Disk Format" specification, version 1.1
//! and 5.0.

use crate::held::Held;
use crate::layer::{Layer, Packing, Place, Result, Wrong};
use crate::parts::{Below, MOST_UNPACKED, Opened, beside, files};
use badger_drive::field::{le16, le32, le64};
use std::path::{Path, PathBuf};
use std::sync::Arc;

const SECTOR: u64 = 512;
/// A descriptor is a text of a few lines.
const MOST_TEXT: u64 = 1 << 20;
const MOST_EXTENTS: usize = 1000;
/// The table of tables stands in the footer.
const AT_END: u64 = u64::MAX;
/// Bits of the flags: entries may say zero; grains are packed.
const ZEROES: u32 = 4;
const PACKED: u32 = 1 << 16;

/// Whether these are the first bytes of a descriptor.
pub(super) fn is_descriptor(head: &[u8]) -> bool {
    let text = String::from_utf8_lossy(&head[..head.len().min(512)]).to_lowercase();
    text.trim_start_matches(['\u{feff}', '\n', '\r', ' ']).starts_with("# disk descriptorfile")
}

/// A stretch of the drive, by a line of the descriptor.
#[derive(Debug)]
struct Line {
    sectors: u64,
    kind: String,
    name: String,
    offset: u64,
}

/// What the descriptor says.
#[derive(Debug, Default)]
struct Text {
    extents: Vec<Line>,
    parent: Option<String>,
    /// The content's identifier, and that of what lies below.
    content: Option<String>,
    below: Option<String>,
}

fn text(bytes: &[u8]) -> Result<Text> {
    let mut out = Text::default();
    let (mut differs, mut hint) = (false, None);
    for line in String::from_utf8_lossy(bytes).trim_end_matches('\0').lines().map(str::trim) {
        if let Some((key, value)) = line.split_once('=') {
            let value = value.trim().trim_matches('"');
            match key.trim().to_lowercase().as_str() {
                "cid" => out.content = Some(value.to_lowercase()),
                "parentcid" => (differs, out.below) = (!value.eq_ignore_ascii_case("ffffffff"), Some(value.to_lowercase())),
                "parentfilenamehint" => hint = Some(value.to_string()),
                _ => {}
            }
            continue;
        }
        let mut words = line.split_whitespace();
        if !words.next().is_some_and(|word| ["RW", "RDONLY", "NOACCESS"].contains(&word)) {
            continue;
        }
        let (Some(Ok(sectors)), Some(kind)) = (words.next().map(str::parse), words.next()) else {
            return Err(Wrong::new(format!("a line of its descriptor is damaged: {line}")));
        };
        let name = line.split('"').nth(1).unwrap_or_default().to_string();
        let offset = line.rsplit('"').next().and_then(|rest| rest.trim().parse().ok()).filter(|_| line.contains('"')).unwrap_or(0);
        out.extents.push(Line { sectors, kind: kind.to_string(), name, offset });
        if out.extents.len() > MOST_EXTENTS {
            return Err(Wrong::new("its descriptor names too many files"));
        }
    }
    if differs {
        out.parent = Some(hint.ok_or_else(|| Wrong::new("it holds only what changed on another image, and does not say on which"))?);
    }
    Ok(out)
}

/// A sparse file, which holds a stretch of the drive.
struct Sparse {
    sectors: u64,
    /// Bytes of a grain.
    grain: u64,
    /// Where the table of tables begins, and entries of each table.
    tables: u64,
    per_table: u64,
    zeroes: bool,
    packed: bool,
    descriptor: Option<(u64, u64)>,
}

impl Sparse {
    fn read(held: &Held) -> Result<Self> {
        let mut head = held.bytes(0, 512)?;
        if le64(&head, 56) == AT_END {
            let at = held.len().checked_sub(1024).ok_or_else(|| Wrong::new("it is cut off: its footer is missing"))?;
            let footer = held.bytes(at, 512)?;
            if !footer.starts_with(b"KDMV") {
                return Err(Wrong::new("it is cut off: its footer, which says where things lie, is missing"));
            }
            head = footer;
        }
        let (version, flags, grain, per_table) = (le32(&head, 4), le32(&head, 8), le64(&head, 20), u64::from(le32(&head, 44)));
        if !head.starts_with(b"KDMV") || !(1..=3).contains(&version) {
            return Err(Wrong::new(format!("its version {version} is not known")));
        }
        let packed = flags & PACKED != 0;
        let possible = grain.is_power_of_two() && (8..=MOST_UNPACKED as u64 / SECTOR).contains(&grain) && (1..=65536).contains(&per_table);
        let sectors = le64(&head, 12);
        if !possible || sectors > u64::MAX / SECTOR / 2 || (packed && le16(&head, 77) != 1) {
            return Err(Wrong::new("its header contradicts itself"));
        }
        let descriptor =
            Some((le64(&head, 28).saturating_mul(SECTOR), le64(&head, 36).saturating_mul(SECTOR))).filter(|(at, len)| *at > 0 && *len > 0);
        let tables = le64(&head, 56).saturating_mul(SECTOR);
        Ok(Self { sectors, grain: grain * SECTOR, tables, per_table, zeroes: flags & ZEROES != 0, packed, descriptor })
    }

    fn locate(&self, held: &Held, file: usize, offset: u64, max: u64) -> Result<(u64, Place)> {
        let (number, inner) = (offset / self.grain, offset % self.grain);
        let len = (self.grain - inner).min(max);
        let table = u64::from(le32(&held.bytes(self.tables.saturating_add(number / self.per_table * 4), 4)?, 0));
        if table == 0 {
            let reach = self.per_table * self.grain;
            return Ok(((reach - offset % reach).min(max), Place::Below));
        }
        let entry = u64::from(le32(&held.bytes(table * SECTOR + number % self.per_table * 4, 4)?, 0));
        Ok(match entry {
            0 => (len, Place::Below),
            1 if self.zeroes => (len, Place::Zero),
            entry if self.packed => {
                let at = entry * SECTOR;
                let packed = le32(&held.bytes(at, 12)?, 8) as usize;
                // The last grain is packed no longer than the drive is.
                let whole = (self.sectors * SECTOR - (offset - inner)).min(self.grain) as usize;
                (len, Place::Packed { file, at: at + 12, len: packed, whole, inner: inner as usize, packing: Packing::Zlib })
            }
            entry => (len, Place::File { file, at: entry * SECTOR + inner }),
        })
    }
}

enum What {
    Sparse(usize, Sparse),
    /// Bytes of a file, from a byte on.
    Flat(usize, u64),
    Zero,
}

struct Vmdk {
    files: Arc<Vec<Held>>,
    /// Where each stretch ends, and what it is.
    extents: Vec<(u64, What)>,
}

pub(super) fn open(path: &Path) -> Result<Opened> {
    let own = files(&[path.to_path_buf()])?;
    let head = own[0].bytes(0, 4.min(own[0].len() as usize))?;
    let (described, whole) = if head == b"KDMV" {
        let sparse = Sparse::read(&own[0])?;
        let described = match sparse.descriptor {
            Some((at, len)) => text(&own[0].bytes(at, len.min(MOST_TEXT) as usize)?)?,
            None => Text::default(),
        };
        (described, Some(sparse))
    } else {
        (text(&own[0].bytes(0, own[0].len().min(MOST_TEXT) as usize)?)?, None)
    };
    let below = described.parent.clone().map(|name| Below { names: vec![name], is_raw: false, links: described.below.iter().cloned().collect() });
    let link = described.content.clone();
    if let Some(sparse) = whole {
        let end = sparse.sectors * SECTOR;
        let layer = Vmdk { files: own.clone(), extents: vec![(end, What::Sparse(0, sparse))] };
        return Ok(Opened { layer: Box::new(layer), files: own, below, link });
    }
    let layer = described_files(path, &described)?;
    Ok(Opened { files: layer.files.clone(), layer: Box::new(layer), below, link })
}

/// The files that a descriptor names.
fn described_files(path: &Path, described: &Text) -> Result<Vmdk> {
    let mut paths: Vec<PathBuf> = vec![path.to_path_buf()];
    let mut places = Vec::new();
    for line in &described.extents {
        places.push(paths.len());
        if line.kind != "ZERO" {
            paths.push(beside(path, std::slice::from_ref(&line.name))?);
        }
    }
    let files = files(&paths)?;
    let (mut extents, mut end) = (Vec::new(), 0u64);
    for (line, file) in described.extents.iter().zip(places) {
        end = line.sectors.checked_mul(SECTOR).and_then(|len| end.checked_add(len)).ok_or_else(|| Wrong::new("its descriptor contradicts itself"))?;
        let what = match line.kind.as_str() {
            "ZERO" => What::Zero,
            "FLAT" | "VMFS" => What::Flat(file, line.offset.saturating_mul(SECTOR)),
            "SPARSE" => What::Sparse(file, Sparse::read(&files[file])?),
            other => return Err(Wrong::new(format!("its kind of file {other} is not known"))),
        };
        extents.push((end, what));
    }
    if extents.is_empty() {
        return Err(Wrong::new("its descriptor names no file that holds anything"));
    }
    Ok(Vmdk { files, extents })
}

impl Layer for Vmdk {
    fn size(&self) -> u64 {
        self.extents.last().map_or(0, |(end, _)| *end)
    }
    fn locate(&self, offset: u64, max: u64) -> Result<(u64, Place)> {
        let number = self.extents.partition_point(|(end, _)| *end <= offset);
        let Some((end, what)) = self.extents.get(number) else { return Ok((max, Place::Zero)) };
        let start = number.checked_sub(1).map_or(0, |before| self.extents[before].0);
        let (inner, max) = (offset - start, max.min(end - offset));
        match what {
            What::Zero => Ok((max, Place::Zero)),
            What::Flat(file, at) => Ok((max, Place::File { file: *file, at: at.saturating_add(inner) })),
            What::Sparse(_, sparse) if inner / SECTOR >= sparse.sectors => Ok((max, Place::Below)),
            What::Sparse(file, sparse) => sparse.locate(&self.files[*file], *file, inner, max),
        }
    }
}
