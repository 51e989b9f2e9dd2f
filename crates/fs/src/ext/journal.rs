//! The journal of an ext3 or ext4 volume, following the kernel's "Journal (jbd2)" documentation: transactions that were
//! committed but not carried out are laid over the volume in memory.

use super::checksum::crc32c;
use crate::cached::{Cached, Overlay};
use crate::content::Content;
use crate::tree::{Finding, Result};
use badger_drive::field::{array, be16, be32};
use std::collections::HashMap;

const MAGIC: u32 = 0xc03b_3998;
const DESCRIPTOR: u32 = 1;
const COMMIT: u32 = 2;
const REVOKE: u32 = 5;
/// Features.
const WIDE: u32 = 2;
const CHECKSUM_2: u32 = 8;
const CHECKSUM_3: u32 = 16;
const FAST_COMMIT: u32 = 32;

struct Journal<'a> {
    volume: &'a Cached,
    content: &'a Content,
    block: u64,
    first: u64,
    end: u64,
    features: u32,
    seed: u32,
}

/// What one transaction changes.
#[derive(Default)]
struct Transaction {
    /// Block of the volume, block of the journal, whether the first bytes were taken out.
    blocks: Vec<(u64, u64, bool)>,
    revoked: Vec<u64>,
}

impl Journal<'_> {
    fn read(&self, number: u64) -> Result<Vec<u8>> {
        let mut bytes = vec![0; self.block as usize];
        let at = number.checked_mul(self.block).ok_or_else(damaged)?;
        match self.content.read(self.volume, at, &mut bytes)? {
            count if count as u64 == self.block => Ok(bytes),
            _ => Err(damaged()),
        }
    }

    fn after(&self, number: u64) -> u64 {
        if number + 1 >= self.end { self.first } else { number + 1 }
    }

    fn has_checksums(&self) -> bool {
        self.features & (CHECKSUM_2 | CHECKSUM_3) != 0
    }

    /// Whether the checksum at `at` of a block is right; always, where the journal has none.
    fn is_right(&self, bytes: &[u8], at: usize) -> bool {
        let sum = crc32c(crc32c(crc32c(self.seed, &bytes[..at]), &[0; 4]), &bytes[at + 4..]);
        !self.has_checksums() || be32(bytes, at) == sum
    }

    /// The tags of a descriptor: block of the volume, flags, checksum.
    fn tags(&self, bytes: &[u8]) -> Vec<(u64, u32, u32)> {
        let wide = self.features & WIDE != 0;
        let third = self.features & CHECKSUM_3 != 0;
        let len = match (third, self.features & CHECKSUM_2 != 0) {
            (true, _) => 16,
            (false, second) => 8 + 2 * usize::from(second) + 4 * usize::from(wide),
        };
        let end = bytes.len() - 4 * usize::from(self.has_checksums());
        let (mut at, mut out) = (12, Vec::new());
        while at + len <= end {
            let (flags, high, sum) = if third {
                (be32(bytes, at + 4), be32(bytes, at + 8), be32(bytes, at + 12))
            } else {
                (u32::from(be16(bytes, at + 6)), if wide { be32(bytes, at + 8) } else { 0 }, u32::from(be16(bytes, at + 4)))
            };
            out.push((u64::from(be32(bytes, at)) | u64::from(if wide { high } else { 0 }) << 32, flags, sum));
            at += len + if flags & 2 == 0 { 16 } else { 0 };
            if flags & 8 != 0 {
                break;
            }
        }
        out
    }

    /// Reads one transaction from a block on; the block behind it. `None` where the journal ends.
    fn transaction(&self, mut at: u64, sequence: u32) -> Option<(Transaction, u64)> {
        let mut transaction = Transaction::default();
        let mut seen = 0;
        while seen < self.end {
            let bytes = self.read(at).ok()?;
            if be32(&bytes, 0) != MAGIC || be32(&bytes, 8) != sequence {
                return None;
            }
            (at, seen) = (self.after(at), seen + 1);
            let tail = bytes.len() - 4;
            match be32(&bytes, 4) {
                DESCRIPTOR if self.is_right(&bytes, tail) => {
                    for (block, flags, sum) in self.tags(&bytes) {
                        if self.has_checksums() {
                            let found = crc32c(crc32c(self.seed, &sequence.to_be_bytes()), &self.read(at).ok()?);
                            if self.features & CHECKSUM_3 != 0 && found != sum || self.features & CHECKSUM_3 == 0 && found & 0xffff != sum {
                                return None;
                            }
                        }
                        if flags & 4 == 0 {
                            transaction.blocks.push((block, at, flags & 1 != 0));
                        }
                        (at, seen) = (self.after(at), seen + 1);
                        if seen > self.end {
                            return None;
                        }
                    }
                }
                REVOKE if self.is_right(&bytes, tail) => {
                    let width = if self.features & WIDE != 0 { 8 } else { 4 };
                    let end = (be32(&bytes, 12) as usize).min(tail + 4);
                    let numbers = bytes.get(16..end).unwrap_or_default().chunks_exact(width);
                    transaction.revoked.extend(numbers.map(|number| number.iter().fold(0u64, |value, byte| value << 8 | u64::from(*byte))));
                }
                COMMIT if self.is_right(&bytes, 16) => return Some((transaction, at)),
                _ => return None,
            }
        }
        None
    }
}

fn damaged() -> Finding {
    Finding::new("ext-journal", "the journal is damaged: what it held back cannot be told")
}

/// Reads the journal in `content` and gives what is to be laid over the volume, with a word on it.
pub(super) fn replay(volume: &Cached, content: &Content, block: u64, blocks: u64) -> Result<(Overlay, Finding)> {
    let mut head = vec![0; 1024];
    content.read(volume, 0, &mut head)?;
    if be32(&head, 0) != MAGIC || !matches!(be32(&head, 4), 3 | 4) || u64::from(be32(&head, 12)) != block {
        return Err(damaged());
    }
    let features = if be32(&head, 4) == 4 { be32(&head, 40) } else { 0 };
    let fast = if features & FAST_COMMIT != 0 { u64::from(be32(&head, 84)).max(256) } else { 0 };
    let end = u64::from(be32(&head, 16)).min(content.size() / block).saturating_sub(fast);
    let seed = crc32c(u32::MAX, &array::<16>(&head, 48));
    let journal = Journal { volume, content, block, first: u64::from(be32(&head, 20)), end, features, seed };
    let (mut at, mut sequence) = (u64::from(be32(&head, 28)), be32(&head, 24));
    if at == 0 {
        return Ok((Overlay::default(), Finding::note("journal-empty", "its journal holds nothing back")));
    }
    if journal.first == 0 || at >= end || journal.first >= end {
        return Err(damaged());
    }
    let (mut count, mut passed) = (0, 0);
    let mut newest: HashMap<u64, (u32, u64, bool)> = HashMap::new();
    let mut revoked: HashMap<u64, u32> = HashMap::new();
    while passed < end
        && let Some((transaction, next)) = journal.transaction(at, sequence)
    {
        for (block, place, taken) in transaction.blocks.into_iter().filter(|(block, ..)| *block < blocks) {
            newest.insert(block, (count, place, taken));
        }
        revoked.extend(transaction.revoked.into_iter().map(|block| (block, count)));
        passed += if next > at { next - at } else { end - at + next - journal.first };
        (at, sequence, count) = (next, sequence.wrapping_add(1), count + 1);
    }
    // A block that was given up later must not come back.
    newest.retain(|block, (when, ..)| revoked.get(block).is_none_or(|given_up| given_up < when));
    let places = newest.into_iter().filter_map(|(number, (_, place, taken))| {
        let at = content.place(place * block)?;
        Some((number, (at, taken.then_some(MAGIC.to_be_bytes()))))
    });
    let overlay = Overlay { block, places: places.collect() };
    let text = format!("its journal holds back {count} changes over {} blocks; they are taken into account in memory only", overlay.places.len());
    Ok((overlay, Finding::note("journal-pending", text)))
}
