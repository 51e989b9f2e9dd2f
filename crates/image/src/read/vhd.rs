//! VHD: fixed, dynamic and differencing. Follows Microsoft's "Virtual Hard Disk Image Format Specification".

use crate::held::Held;
use crate::layer::{Layer, Place, Result, Wrong};
use crate::parts::{Below, Opened, files};
use badger_drive::field::{be32, be64, le16};
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

const FOOTER: usize = 512;
/// A block that is not there.
const NOWHERE: u32 = u32::MAX;
const FIXED: u32 = 2;
const DYNAMIC: u32 = 3;
const DIFFERENCING: u32 = 4;

/// The sum over a structure without its own four bytes at `at`, turned over.
fn sum(bytes: &[u8], at: usize) -> u32 {
    let others = bytes.iter().enumerate().filter(|(place, _)| !(at..at + 4).contains(place));
    !others.fold(0u32, |sum, (_, byte)| sum.wrapping_add(u32::from(*byte)))
}

fn is_footer(bytes: &[u8]) -> bool {
    bytes.len() == FOOTER && bytes.starts_with(b"conectix") && sum(bytes, 64) == be32(bytes, 64)
}

/// Whether a file ends as a fixed one does: by nothing in front it could be told.
pub(super) fn ends_with_footer(file: &File, len: u64) -> bool {
    let mut footer = [0; FOOTER];
    let Some(at) = len.checked_sub(FOOTER as u64) else { return false };
    file.read_exact_at(&mut footer, at).is_ok() && is_footer(&footer) && be32(&footer, 60) == FIXED && be64(&footer, 48) <= at
}

struct Fixed(u64);

impl Layer for Fixed {
    fn size(&self) -> u64 {
        self.0
    }
    fn locate(&self, offset: u64, max: u64) -> Result<(u64, Place)> {
        Ok((max, Place::File { file: 0, at: offset }))
    }
}

struct Dynamic {
    files: Arc<Vec<Held>>,
    size: u64,
    block: u64,
    table: u64,
    blocks: u64,
    /// What is not in it lies below.
    differs: bool,
}

pub(super) fn open(path: &Path) -> Result<Opened> {
    let files = files(&[path.to_path_buf()])?;
    let held = &files[0];
    // The footer counts; where it was lost, its copy in front says the same.
    let last = held.len().checked_sub(FOOTER as u64).map(|at| held.bytes(at, FOOTER)).transpose()?.filter(|bytes| is_footer(bytes));
    let footer = match last {
        Some(footer) => footer,
        None => {
            held.bytes(0, FOOTER).ok().filter(|bytes| is_footer(bytes)).ok_or_else(|| Wrong::new("its footer is damaged, and its copy as well"))?
        }
    };
    let (size, link) = (be64(&footer, 48), hex::encode(&footer[68..84]));
    match be32(&footer, 60) {
        FIXED if size <= held.len() => Ok(Opened { layer: Box::new(Fixed(size)), files, below: None, link: Some(link) }),
        FIXED => Err(Wrong::new(format!("it is cut off: {} of {size} bytes are here", held.len()))),
        kind @ (DYNAMIC | DIFFERENCING) => {
            dynamic(files.clone(), size, be64(&footer, 16), kind == DIFFERENCING).map(|opened| Opened { link: Some(link), ..opened })
        }
        kind => Err(Wrong::new(format!("its type {kind} is not known"))),
    }
}

fn dynamic(files: Arc<Vec<Held>>, size: u64, at: u64, differs: bool) -> Result<Opened> {
    let head = files[0].bytes(at, 1024)?;
    if !head.starts_with(b"cxsparse") || sum(&head, 36) != be32(&head, 36) {
        return Err(Wrong::new(format!("its header at byte {at} is damaged")));
    }
    let (table, blocks, block) = (be64(&head, 16), u64::from(be32(&head, 28)), u64::from(be32(&head, 32)));
    if !block.is_power_of_two() || !(4096..=256 << 20).contains(&block) || size > block.saturating_mul(blocks) {
        return Err(Wrong::new(format!("its header contradicts itself: {size} bytes in {blocks} blocks of {block}")));
    }
    let below = differs.then(|| Below { names: parents(&files[0], &head), is_raw: false, links: vec![hex::encode(&head[40..56])] });
    let layer = Dynamic { files: files.clone(), size, block, table, blocks, differs };
    Ok(Opened { layer: Box::new(layer), files, below, link: None })
}

/// Names of what lies below: by the locators, relative ones first, and by the header.
fn parents(held: &Held, head: &[u8]) -> Vec<String> {
    let locator = |slot: usize| {
        let entry = &head[576 + slot * 24..600 + slot * 24];
        let len = be32(entry, 8) as usize;
        let bytes = held.bytes(be64(entry, 16), len.min(2048)).ok()?;
        let units: Vec<u16> = bytes.chunks_exact(2).map(|unit| le16(unit, 0)).collect();
        Some((&entry[..4] == b"W2ku", String::from_utf16_lossy(&units))).filter(|_| matches!(&entry[..4], b"W2ru" | b"W2ku"))
    };
    let mut located: Vec<(bool, String)> = (0..8).filter_map(locator).collect();
    located.sort_by_key(|(absolute, _)| *absolute);
    let units: Vec<u16> = head[64..576].chunks_exact(2).map(|unit| u16::from_be_bytes([unit[0], unit[1]])).take_while(|unit| *unit != 0).collect();
    let named = String::from_utf16_lossy(&units);
    located
        .into_iter()
        .map(|(_, name)| name)
        .chain([named])
        .map(|name| name.trim_end_matches('\0').to_string())
        .filter(|name| !name.is_empty())
        .collect()
}

impl Dynamic {
    /// In a block that is here, how far the sectors from `first` on are all here, or all below.
    fn run(&self, bitmap: u64, first: u64, most: u64) -> Result<(u64, bool)> {
        let bytes = self.files[0].bytes(bitmap + first / 8, (most.div_ceil(8) + 1) as usize)?;
        let is_here = |sector: u64| {
            let bit = first % 8 + sector;
            bytes.get((bit / 8) as usize).is_some_and(|byte| byte & (0x80 >> (bit % 8)) != 0)
        };
        let here = is_here(0);
        Ok(((1..most).find(|sector| is_here(*sector) != here).unwrap_or(most), here))
    }
}

impl Layer for Dynamic {
    fn size(&self) -> u64 {
        self.size
    }
    fn locate(&self, offset: u64, max: u64) -> Result<(u64, Place)> {
        let (number, inner) = (offset / self.block, offset % self.block);
        let len = (self.block - inner).min(max);
        let nothing = if self.differs { Place::Below } else { Place::Zero };
        if number >= self.blocks {
            return Ok((len, nothing));
        }
        let entry = be32(&self.files[0].bytes(self.table.saturating_add(number * 4), 4)?, 0);
        if entry == NOWHERE {
            return Ok((len, nothing));
        }
        let bitmap = u64::from(entry) * 512;
        let data = bitmap + (self.block / 512).div_ceil(8).next_multiple_of(512);
        if !self.differs {
            return Ok((len, Place::File { file: 0, at: data + inner }));
        }
        let sectors = (inner % 512 + len).div_ceil(512);
        let (run, here) = self.run(bitmap, inner / 512, sectors)?;
        let len = len.min(run * 512 - inner % 512);
        Ok((len, if here { Place::File { file: 0, at: data + inner } } else { Place::Below }))
    }
}
