//! VHDX: fixed, dynamic and differencing. Follows Microsoft's "[MS-VHDX]: Virtual Hard Disk v2 (VHDX) File Format". A log that was not
//! carried out is laid over the file in memory.

use super::vhdx_log::{self, is_sound};
use crate::held::Held;
use crate::layer::{Layer, Place, Result, Wrong};
use crate::parts::{Below, Opened, files};
use badger_drive::field::{array, le16, le32, le64};
use std::path::Path;
use std::sync::Arc;
use uuid::Uuid;

const MIB: u64 = 1 << 20;
/// Where the two headers and the two region tables lie.
const HEADERS: [u64; 2] = [64 << 10, 128 << 10];
const REGIONS: [u64; 2] = [192 << 10, 256 << 10];

fn id(bytes: &[u8], at: usize) -> String {
    Uuid::from_bytes_le(array(bytes, at)).to_string().to_uppercase()
}

const BAT: &str = "2DC27766-F623-4200-9D64-115E9BFD4A08";
const METADATA: &str = "8B7CA206-4790-4B9A-B8FE-575F050F886E";
const PARAMETERS: &str = "CAA16737-FA36-4D43-B3B6-33F0AA44E76B";
const SIZE: &str = "2FA54224-CD1B-4876-B211-5DBED83BF4B8";
const LOGICAL: &str = "8141BF1D-A96F-4709-BA47-F233A8FAAB5F";
const PHYSICAL: &str = "CDA348C7-445D-4471-9CC9-E9885251C556";
const PARENT: &str = "A8D35F2D-B30B-454D-ABF7-D3D84834AB0C";

/// The header that counts: the sound one with the higher number.
fn header(held: &Held) -> Result<Vec<u8>> {
    let sound = |at: u64| held.bytes(at, 4096).ok().filter(|bytes| bytes.starts_with(b"head") && is_sound(bytes));
    let headers = HEADERS.into_iter().filter_map(sound);
    headers.max_by_key(|bytes| le64(bytes, 8)).ok_or_else(|| Wrong::new("both of its headers are damaged"))
}

/// Where the table of blocks and the metadata lie: start and length.
fn regions(held: &Held) -> Result<[(u64, u64); 2]> {
    let sound = |at: u64| held.bytes(at, 64 << 10).ok().filter(|bytes| bytes.starts_with(b"regi") && is_sound(bytes));
    let table = REGIONS.into_iter().find_map(sound).ok_or_else(|| Wrong::new("both of its region tables are damaged"))?;
    let mut found = [None; 2];
    for entry in table[16..].chunks_exact(32).take(le32(&table, 8).min(2047) as usize) {
        let place = (le64(entry, 16), u64::from(le32(entry, 24)));
        match id(entry, 0).as_str() {
            BAT => found[0] = Some(place),
            METADATA => found[1] = Some(place),
            other if le32(entry, 28) & 1 != 0 => return Err(Wrong::new(format!("it needs a region {other}, which is not known"))),
            _ => {}
        }
    }
    match found {
        [Some(bat), Some(metadata)] => Ok([bat, metadata]),
        _ => Err(Wrong::new("its region table names no table of blocks, or no metadata")),
    }
}

/// What the metadata say.
struct Facts {
    block: u64,
    differs: bool,
    size: u64,
    logical: u32,
    physical: u32,
    parents: Vec<String>,
    links: Vec<String>,
}

fn facts(held: &Held, (start, len): (u64, u64)) -> Result<Facts> {
    let table = held.bytes(start, 64 << 10)?;
    if !table.starts_with(b"metadata") {
        return Err(Wrong::new(format!("its metadata at byte {start} are damaged")));
    }
    let mut facts = Facts { block: 0, differs: false, size: 0, logical: 512, physical: 4096, parents: Vec::new(), links: Vec::new() };
    for entry in table[32..].chunks_exact(32).take(usize::from(le16(&table, 10)).min(2047)) {
        let (offset, item_len) = (u64::from(le32(entry, 16)), le32(entry, 20) as usize);
        if offset + item_len as u64 > len {
            return Err(Wrong::new("an entry of its metadata lies outside of them"));
        }
        let item = held.bytes(start.saturating_add(offset), item_len.min(64 << 10))?;
        match id(entry, 0).as_str() {
            PARAMETERS => (facts.block, facts.differs) = (u64::from(le32(&item, 0)), le32(&item, 4) & 2 != 0),
            SIZE => facts.size = le64(&item, 0),
            LOGICAL => facts.logical = le32(&item, 0),
            PHYSICAL => facts.physical = le32(&item, 0),
            PARENT => (facts.parents, facts.links) = parents(&item),
            // Bit 2: whoever does not know it must not go on.
            other if le32(entry, 24) & 4 != 0 && !other.starts_with("BECA12AB") => {
                return Err(Wrong::new(format!("it needs {other} of its metadata, which is not known")));
            }
            _ => {}
        }
    }
    let possible = facts.block.is_power_of_two() && (MIB..=256 * MIB).contains(&facts.block) && matches!(facts.logical, 512 | 4096);
    if !possible || facts.size > 64 << 40 || !facts.size.is_multiple_of(u64::from(facts.logical)) || !matches!(facts.physical, 512 | 4096) {
        return Err(Wrong::new("its metadata contradict themselves"));
    }
    Ok(facts)
}

/// Names of what lies below, the relative one first, and the identifiers that it may have.
fn parents(item: &[u8]) -> (Vec<String>, Vec<String>) {
    let text = |at: u32, len: u16| {
        let bytes = item.get(at as usize..(at as usize).checked_add(usize::from(len))?)?;
        Some(String::from_utf16_lossy(&bytes.chunks_exact(2).map(|unit| le16(unit, 0)).collect::<Vec<_>>()))
    };
    let pairs = item.get(20..).unwrap_or_default().chunks_exact(12).take(usize::from(le16(item, 18)));
    let mut links = Vec::new();
    let mut found: Vec<(usize, String)> = pairs
        .filter_map(|pair| {
            let key = text(le32(pair, 0), le16(pair, 8))?;
            if key == "parent_linkage" || key == "parent_linkage2" {
                links.push(text(le32(pair, 4), le16(pair, 10))?.trim_matches(['{', '}', '\0']).to_uppercase());
            }
            let rank = ["relative_path", "absolute_win32_path", "volume_path"].iter().position(|known| *known == key)?;
            Some((rank, text(le32(pair, 4), le16(pair, 10))?))
        })
        .collect();
    found.sort();
    (found.into_iter().map(|(_, name)| name).collect(), links)
}

struct Vhdx {
    files: Arc<Vec<Held>>,
    facts: Facts,
    table: (u64, u64),
    /// Blocks whose sectors one bitmap tells of.
    ratio: u64,
}

pub(super) fn open(path: &Path) -> Result<Opened> {
    let mut files = files(&[path.to_path_buf()])?;
    let head = header(&files[0])?;
    if le16(&head, 66) != 1 {
        return Err(Wrong::new(format!("its version {} is not known", le16(&head, 66))));
    }
    // What is written changes this: a child of before that does not fit any more.
    let link = Some(id(&head, 32));
    let log: [u8; 16] = array(&head, 48);
    if log != [0; 16] {
        let changed = vhdx_log::replay(&files[0], le64(&head, 72), u64::from(le32(&head, 68)), log)?;
        let held = Arc::into_inner(files).and_then(|mut all| all.pop()).ok_or_else(|| Wrong::new("its log is in use"))?;
        files = Arc::new(vec![held.with_changes(changed)]);
    }
    let [table, metadata] = regions(&files[0])?;
    let facts = facts(&files[0], metadata)?;
    let ratio = ((1u64 << 23) * u64::from(facts.logical) / facts.block).max(1);
    let below = facts.differs.then(|| Below { names: facts.parents.clone(), is_raw: false, links: facts.links.clone() });
    Ok(Opened { layer: Box::new(Vhdx { files: files.clone(), facts, table, ratio }), files, below, link })
}

impl Vhdx {
    fn entry(&self, number: u64) -> Result<(u64, u64)> {
        if number * 8 + 8 > self.table.1 {
            return Err(Wrong::new("its table of blocks is too short for its size"));
        }
        let entry = le64(&self.files[0].bytes(self.table.0.saturating_add(number * 8), 8)?, 0);
        Ok((entry & 7, entry >> 20 << 20))
    }

    /// In a block that is here in part, how far the sectors from `offset` on are all here, or all below: bytes, and which.
    fn run(&self, offset: u64, most: u64) -> Result<(u64, bool)> {
        let chunk = offset / self.facts.block / self.ratio;
        let (state, bitmap) = self.entry((chunk + 1) * self.ratio + chunk)?;
        let sector = u64::from(self.facts.logical);
        if state != 6 {
            return Ok((most, false));
        }
        let first = offset % (self.facts.block * self.ratio) / sector;
        let sectors = (offset % sector + most).div_ceil(sector).min(64 << 10);
        let bytes = self.files[0].bytes(bitmap.saturating_add(first / 8), (sectors.div_ceil(8) + 1) as usize)?;
        let is_here = |at: u64| {
            let bit = first % 8 + at;
            bytes.get((bit / 8) as usize).is_some_and(|byte| byte >> (bit % 8) & 1 != 0)
        };
        let here = is_here(0);
        let run = (1..sectors).find(|at| is_here(*at) != here).unwrap_or(sectors);
        Ok(((run * sector - offset % sector).min(most), here))
    }
}

impl Layer for Vhdx {
    fn size(&self) -> u64 {
        self.facts.size
    }
    fn sectors(&self) -> (u32, u32) {
        (self.facts.logical, self.facts.physical)
    }
    fn locate(&self, offset: u64, max: u64) -> Result<(u64, Place)> {
        let (number, inner) = (offset / self.facts.block, offset % self.facts.block);
        let len = (self.facts.block - inner).min(max);
        let (state, at) = self.entry(number + number / self.ratio)?;
        match state {
            0 if self.facts.differs => Ok((len, Place::Below)),
            // Never written, of no matter, zero, given up.
            0..=3 => Ok((len, Place::Zero)),
            6 => Ok((len, Place::File { file: 0, at: at.saturating_add(inner) })),
            7 if self.facts.differs => {
                let (len, here) = self.run(offset, len)?;
                Ok((len, if here { Place::File { file: 0, at: at.saturating_add(inner) } } else { Place::Below }))
            }
            other => Err(Wrong::new(format!("block {number} is in state {other}, which there is none of"))),
        }
    }
}
