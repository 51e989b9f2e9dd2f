//! QCOW2, versions 2 and 3. Follows "The qcow2 image format" of the documentation that is published with the virtual machine that
//! made it: two levels of tables, clusters packed with zlib or zstd, sub-clusters, backing files, states that were kept.

use crate::held::Held;
use crate::layer::{Layer, Packing, Place, Result, Wrong};
use crate::parts::{Below, Opened, beside, files};
use badger_drive::field::{be16, be32, be64};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Bits of an entry that are a place in the file.
const OFFSET: u64 = 0x00ff_ffff_ffff_fe00;
const PACKED: u64 = 1 << 62;
/// Features that change what is where.
const DATA_FILE: u64 = 4;
const PACKING: u64 = 8;
const EXTENDED: u64 = 16;
/// Dirty counts, and a mark that it is damaged: neither changes where things lie.
const HARMLESS: u64 = 3;
/// Parts of a cluster that are told apart.
const PARTS: u64 = 32;
/// The first table is never longer.
const MOST_FIRST: u64 = 32 << 20;
const MOST_STATES: u32 = 65536;

struct Qcow2 {
    files: Arc<Vec<Held>>,
    size: u64,
    bits: u32,
    /// Where the first table begins, and entries of it.
    first: (u64, u64),
    /// The file with the data: 0, or 1 where it is another one.
    data: usize,
    packing: Packing,
    extended: bool,
    /// Marks zeroes.
    zeroes: bool,
}

/// What stands behind the header.
#[derive(Default)]
struct Extensions {
    below_format: String,
    data_file: Option<String>,
}

fn extensions(held: &Held, from: u64, end: u64) -> Result<Extensions> {
    let (mut out, mut at) = (Extensions::default(), from);
    for _ in 0..64 {
        if at + 8 > end {
            break;
        }
        let head = held.bytes(at, 8)?;
        let (kind, len) = (be32(&head, 0), be32(&head, 4) as usize);
        if kind == 0 {
            break;
        }
        if at + 8 + len as u64 > end {
            return Err(Wrong::new("what stands behind its header is longer than its first cluster"));
        }
        let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
        match kind {
            0xe279_2aca => out.below_format = text(held.bytes(at + 8, len)?),
            0x4441_5441 => out.data_file = Some(text(held.bytes(at + 8, len)?)),
            _ => {}
        }
        at += 8 + (len as u64).next_multiple_of(8);
    }
    Ok(out)
}

/// A state that was kept: first table and size, of the one with that name or number.
fn state(held: &Held, head: &[u8], wanted: &str, size: u64) -> Result<(u64, u64, u64)> {
    let (count, mut at) = (be32(head, 60), be64(head, 64));
    let mut names = Vec::new();
    for _ in 0..count.min(MOST_STATES) {
        let entry = held.bytes(at, 40)?;
        let (id_len, name_len, extra) = (u64::from(be16(&entry, 12)), u64::from(be16(&entry, 14)), u64::from(be32(&entry, 36)));
        let words = held.bytes(at + 40 + extra, (id_len + name_len) as usize)?;
        let (id, name) = words.split_at(id_len as usize);
        if name == wanted.as_bytes() || id == wanted.as_bytes() {
            let own = if extra >= 16 { be64(&held.bytes(at + 40 + 8, 8)?, 0) } else { size };
            return Ok((be64(&entry, 0), u64::from(be32(&entry, 8)), own));
        }
        names.push(String::from_utf8_lossy(name).into_owned());
        at = at.checked_add((40 + extra + id_len + name_len).next_multiple_of(8)).ok_or_else(|| Wrong::new("its list of states is damaged"))?;
    }
    names.truncate(20);
    let known = if names.is_empty() { "it keeps none".to_string() } else { format!("it keeps {}", names.join(", ")) };
    Err(Wrong::new(format!("it keeps no state named {wanted}: {known}")))
}

pub(super) fn open(path: &Path, snapshot: Option<&str>) -> Result<Opened> {
    let mut paths = vec![path.to_path_buf()];
    let files = files(&paths)?;
    let mut head = files[0].bytes(0, 72)?;
    let (version, bits, mut size) = (be32(&head, 4), be32(&head, 20), be64(&head, 24));
    if !matches!(version, 2 | 3) {
        return Err(Wrong::new(format!("its version {version} is not known")));
    }
    if !(9..=21).contains(&bits) {
        return Err(Wrong::new(format!("its clusters of 2^{bits} bytes are not possible")));
    }
    if be32(&head, 32) != 0 {
        return Err(Wrong::new("it is encrypted by the virtual machine that made it: unlock it there first"));
    }
    let (mut incompatible, mut head_len, mut packing) = (0, 72, Packing::Deflate);
    if version == 3 {
        head.extend(files[0].bytes(72, 32)?);
        (incompatible, head_len) = (be64(&head, 72), u64::from(be32(&head, 100)));
        let unknown = incompatible & !(DATA_FILE | PACKING | EXTENDED | HARMLESS);
        if unknown != 0 {
            return Err(Wrong::new(format!("it has features {unknown:#x}, which are not known")));
        }
        if incompatible & PACKING != 0 {
            packing = match files[0].bytes(104, 1)?[0] {
                0 => Packing::Deflate,
                1 => Packing::Zstd,
                other => return Err(Wrong::new(format!("its packing {other} is not known"))),
            };
        }
    }
    let extensions = extensions(&files[0], head_len, 1 << bits)?;
    let below = below(&files[0], &head, &extensions)?;
    let mut first = (be64(&head, 40), u64::from(be32(&head, 36)));
    if let Some(wanted) = snapshot {
        let (at, entries, own) = state(&files[0], &head, wanted, size)?;
        (first, size) = ((at, entries), own);
    }
    let extended = incompatible & EXTENDED != 0;
    let reach = (1u64 << bits >> if extended { 4 } else { 3 }) << bits;
    if first.1 * 8 > MOST_FIRST || size.div_ceil(reach) > first.1 {
        return Err(Wrong::new("its first table does not fit its size"));
    }
    let (mut files, mut data) = (files, 0);
    if incompatible & DATA_FILE != 0 {
        paths.push(data_file(path, extensions.data_file)?);
        (files, data) = (crate::parts::files(&paths)?, 1);
    }
    let layer = Qcow2 { files: files.clone(), size, bits, first, data, packing, extended, zeroes: version == 3 };
    Ok(Opened { layer: Box::new(layer), files, below, link: None })
}

fn data_file(path: &Path, named: Option<String>) -> Result<PathBuf> {
    let named = named.ok_or_else(|| Wrong::new("it says that its data lie in another file, and not in which"))?;
    beside(path, &[named])
}

fn below(held: &Held, head: &[u8], extensions: &Extensions) -> Result<Option<Below>> {
    let (at, len) = (be64(head, 8), be32(head, 16) as usize);
    if at == 0 || len == 0 {
        return Ok(None);
    }
    if len > 1023 {
        return Err(Wrong::new("the name of what it rests on is too long"));
    }
    let name = String::from_utf8_lossy(&held.bytes(at, len)?).into_owned();
    let name = name.strip_prefix("file:").unwrap_or(&name).to_string();
    Ok(Some(Below { names: vec![name], is_raw: extensions.below_format == "raw", links: Vec::new() }))
}

impl Qcow2 {
    fn packed(&self, entry: u64, inner: u64) -> Place {
        // The wider the clusters, the fewer bits are left for the place.
        let width = 62 - (self.bits - 8);
        let at = entry & ((1 << width) - 1);
        let sectors = (entry & (PACKED - 1)) >> width;
        let len = ((sectors + 1) * 512 - at % 512) as usize;
        Place::Packed { file: 0, at, len, whole: 1 << self.bits, inner: inner as usize, packing: self.packing }
    }

    /// Where a part of a cluster lies, told by two words.
    fn part(&self, entry: u64, parts: u64, inner: u64, max: u64) -> Result<(u64, Place)> {
        let size = (1u64 << self.bits) / PARTS;
        let part = inner / size;
        let kind = |part: u64| (parts >> part & 1, parts >> (part + 32) & 1);
        let mine = kind(part);
        let same = (part + 1..PARTS).find(|other| kind(*other) != mine).unwrap_or(PARTS);
        let len = (same * size - inner).min(max);
        match mine {
            (1, 0) if entry & OFFSET != 0 || self.data == 1 => Ok((len, Place::File { file: self.data, at: (entry & OFFSET) + inner })),
            (0, 1) => Ok((len, Place::Zero)),
            (0, 0) => Ok((len, Place::Below)),
            _ => Err(Wrong::new("a part of a cluster is told to be two things at once")),
        }
    }
}

impl Layer for Qcow2 {
    fn size(&self) -> u64 {
        self.size
    }
    fn locate(&self, offset: u64, max: u64) -> Result<(u64, Place)> {
        let cluster = 1u64 << self.bits;
        let entry_len: u64 = if self.extended { 16 } else { 8 };
        let per_table = cluster / entry_len;
        let (number, inner) = (offset >> self.bits, offset & (cluster - 1));
        let len = (cluster - inner).min(max);
        let held = &self.files[0];
        let table = be64(&held.bytes(self.first.0.saturating_add(number / per_table * 8), 8)?, 0) & OFFSET;
        if table == 0 {
            let reach = per_table << self.bits;
            return Ok(((reach - offset % reach).min(max), Place::Below));
        }
        let words = held.bytes(table + number % per_table * entry_len, entry_len as usize)?;
        let entry = be64(&words, 0);
        Ok(match entry {
            entry if entry & PACKED != 0 => (len, self.packed(entry, inner)),
            entry if self.extended => return self.part(entry, be64(&words, 8), inner, len),
            entry if self.zeroes && entry & 1 != 0 => (len, Place::Zero),
            entry if entry & OFFSET == 0 && !(self.data == 1 && entry >> 63 != 0) => (len, Place::Below),
            entry => (len, Place::File { file: self.data, at: (entry & OFFSET) + inner }),
        })
    }
}
