//! Fast commits, following the kernel's "Journal (jbd2)" and "Fast Commits" documentation: records of single changes at the
//! end of the journal, behind its last whole transaction. They are taken into account where files are listed and read;
//! the volume's own structures stay as they are.

use super::EXTENTS;
use super::checksum::crc32c;
use crate::node::Piece;
use badger_drive::field::{le16, le32};
use std::collections::HashMap;
use std::ops::Range;

const ADD_RANGE: u16 = 1;
const DEL_RANGE: u16 = 2;
const CREATE: u16 = 3;
const LINK: u16 = 4;
const UNLINK: u16 = 5;
const INODE: u16 = 6;
const PAD: u16 = 7;
const TAIL: u16 = 8;
const HEAD: u16 = 9;
/// The mark at the root of an extent tree.
const MARK: u16 = 0xf30a;

/// A stretch of a file's blocks and where it lies now: `None` for one that was given up, or set aside and never written.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Moved {
    logical: Range<u64>,
    physical: Option<u64>,
}

/// All changes, by what they change.
#[derive(Debug, Default)]
pub struct Fast {
    /// Whole inodes; where their blocks lie is not part of it.
    inodes: HashMap<u32, Vec<u8>>,
    ranges: HashMap<u32, Vec<Moved>>,
    /// Names of a directory and what they lead to; 0 for one that is gone.
    names: HashMap<u32, Vec<(Vec<u8>, u32)>>,
    /// Blocks that files got.
    taken: Vec<Range<u64>>,
    /// How many commits there are.
    pub commits: u64,
    /// They begin, but the first of them does not end as it should: the kernel does not mount such a volume.
    pub is_broken: bool,
}

/// What a record of a kind must at least hold.
fn least(tag: u16) -> usize {
    match tag {
        ADD_RANGE => 16,
        DEL_RANGE => 12,
        CREATE | LINK | UNLINK => 9,
        INODE => 4 + 128,
        TAIL | HEAD => 8,
        _ => 0,
    }
}

/// Reads the blocks of the area for fast commits, in their order; those that belong to the transaction `sequence` and whose
/// checksum is right count. `blocks` is how many the volume has.
pub fn read(area: &mut dyn FnMut(u64) -> Option<Vec<u8>>, count: u64, sequence: u32, blocks: u64) -> Fast {
    let mut fast = Fast::default();
    let (mut sum, mut held): (u32, Vec<(u16, Vec<u8>)>) = (0, Vec::new());
    let mut begun = false;
    'area: for number in 0..count {
        let Some(block) = area(number) else { break };
        let mut at = 0;
        // Without their head, or with one of another transaction, there are none.
        begun |= number == 0 && le16(&block, 0) == HEAD && le32(&block, 8) == sequence;
        if !begun {
            break;
        }
        while at + 4 < block.len() {
            let (tag, len) = (le16(&block, at), usize::from(le16(&block, at + 2)));
            let Some(value) = block.get(at + 4..at + 4 + len).filter(|_| len >= least(tag)) else { break 'area };
            let whole = &block[at..at + 4 + len];
            match tag {
                HEAD if le32(value, 0) != 0 || le32(value, 4) != sequence => break 'area,
                TAIL => {
                    if le32(value, 0) != sequence || crc32c(sum, &whole[..8]) != le32(value, 4) {
                        break 'area;
                    }
                    held.drain(..).for_each(|(tag, value)| fast.read_tag(tag, &value, blocks));
                    fast.commits += 1;
                    sum = 0;
                    at += 4 + len;
                    continue;
                }
                HEAD | PAD => {}
                ADD_RANGE..=INODE => held.push((tag, value.to_vec())),
                _ => break 'area,
            }
            sum = crc32c(sum, whole);
            at += 4 + len;
        }
    }
    fast.is_broken = begun && fast.commits == 0;
    fast
}

impl Fast {
    fn read_tag(&mut self, tag: u16, value: &[u8], blocks: u64) {
        let number = le32(value, 0);
        match tag {
            ADD_RANGE => {
                let raw = le16(value, 8);
                let (len, unwritten) = (u64::from(if raw > 32768 { raw - 32768 } else { raw }), raw > 32768);
                let first = u64::from(le32(value, 4));
                let physical = u64::from(le32(value, 12)) | u64::from(le16(value, 10)) << 32;
                if physical + len <= blocks {
                    self.taken.push(physical..physical + len);
                    let moved = Moved { logical: first..first + len, physical: (!unwritten).then_some(physical) };
                    self.ranges.entry(number).or_default().push(moved);
                }
            }
            DEL_RANGE => {
                let first = u64::from(le32(value, 4));
                let moved = Moved { logical: first..first + u64::from(le32(value, 8)), physical: None };
                self.ranges.entry(number).or_default().push(moved);
            }
            CREATE | LINK => self.names.entry(number).or_default().push((value[8..].to_vec(), le32(value, 4))),
            UNLINK => self.names.entry(number).or_default().push((value[8..].to_vec(), 0)),
            INODE => _ = self.inodes.insert(number, value[4..].to_vec()),
            _ => {}
        }
    }

    /// Whether it changes nothing.
    pub fn is_empty(&self) -> bool {
        self.commits == 0
    }

    /// Blocks that files got, which no map of the volume calls used yet.
    pub fn taken(&self) -> &[Range<u64>] {
        &self.taken
    }

    /// An inode as it is by now; where its blocks lie stays as it was, unless what stands there is its content.
    pub fn inode(&self, number: u32, stored: &[u8], inline: u32) -> Option<Vec<u8>> {
        let new = self.inodes.get(&number)?;
        let mut bytes = stored.to_vec();
        let len = new.len().min(bytes.len());
        bytes[..40].copy_from_slice(&new[..40]);
        bytes[100..len].copy_from_slice(&new[100..len]);
        // A link's target or a small file's content stands where the blocks of others do.
        let (flags, is_link) = (le32(new, 32), le16(new, 0) >> 12 == 10);
        if flags & inline != 0 || is_link && flags & EXTENTS == 0 {
            bytes[40..100].copy_from_slice(&new[40..100]);
        } else if flags & EXTENTS != 0 && le16(&bytes, 40) != MARK {
            // A new file has no blocks but those that are named besides.
            bytes[40..100].fill(0);
            bytes[40..42].copy_from_slice(&MARK.to_le_bytes());
            bytes[44] = 4;
        }
        Some(bytes)
    }

    /// Lays the stretches that changed over those of a file.
    pub fn pieces(&self, number: u32, pieces: Vec<Piece>, size: u64, block: u64) -> Vec<Piece> {
        let Some(moved) = self.ranges.get(&number) else { return pieces };
        let mut out = badger_drive::Extents::new();
        let mut at = 0;
        for piece in pieces {
            if let Some(start) = piece.at {
                out.set(at..at + piece.len, start as i128 - i128::from(at));
            }
            at += piece.len;
        }
        for one in moved {
            let range = one.logical.start * block..(one.logical.end * block).min(size.max(one.logical.start * block));
            match one.physical {
                // What follows each other has the same distance to where it lies.
                Some(start) if range.start < range.end => out.set(range.clone(), i128::from(start * block) - i128::from(range.start)),
                _ => out.clear(range),
            }
        }
        let (mut made, mut next) = (Vec::new(), 0);
        for (range, distance) in out.within(0..size) {
            if range.start > next {
                made.push(Piece { at: None, len: range.start - next });
            }
            made.push(Piece { at: Some((i128::from(range.start) + distance) as u64), len: range.end - range.start });
            next = range.end;
        }
        if next < size {
            made.push(Piece { at: None, len: size - next });
        }
        made
    }

    /// Applies changes of names to what a directory holds; of several to one name the last counts.
    pub fn names(&self, directory: u32, found: &mut Vec<(u64, Vec<u8>)>) {
        let Some(changes) = self.names.get(&directory) else { return };
        let last: HashMap<&[u8], u32> = changes.iter().map(|(name, number)| (&name[..], *number)).collect();
        found.retain(|(_, name)| !last.contains_key(&name[..]));
        let come = last.into_iter().filter(|(name, number)| *number != 0 && *name != b"." && *name != b"..");
        found.extend(come.map(|(name, number)| (u64::from(number), name.to_vec())));
    }
}
