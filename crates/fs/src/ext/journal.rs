//! The journal of an ext3 or ext4 volume, following the kernel's "Journal (jbd2)" documentation: transactions that were
//! committed but not carried out are laid over the volume in memory. It is replayed as far as the kernel replays it; where
//! that is not where the format says the journal ends, the volume is not trusted.

use super::checksum::{crc32_whole, crc32c};
use super::fast::{self, Fast};
use crate::cached::{Cached, Overlay};
use crate::content::FileMap;
use crate::finding::{Finding, Result};
use badger_drive::field::{array, be16, be32};
use std::collections::HashMap;

const MAGIC: u32 = 0xc03b_3998;
const DESCRIPTOR: u32 = 1;
const COMMIT: u32 = 2;
const REVOKE: u32 = 5;
/// Features: what may be ignored, then what may not.
const OLD_CHECKSUM: u32 = 1;
const WIDE: u32 = 2;
const CHECKSUM_2: u32 = 8;
const CHECKSUM_3: u32 = 16;
const FAST_COMMIT: u32 = 32;
/// All features that are known: that may be ignored, that may not, and that may for reading.
const KNOWN: [u32; 3] = [OLD_CHECKSUM, 0x3f, 0];
/// No journal is shorter, unless its file is.
const LEAST_BLOCKS: u64 = 1024;

struct Journal<'a> {
    volume: &'a Cached,
    content: &'a FileMap,
    block: u64,
    first: u64,
    end: u64,
    /// Transactions have a checksum over everything in them, in the commit block.
    old_checksum: bool,
    features: u32,
    seed: u32,
}

/// Where the transactions end.
enum End {
    /// Where the format says: something else follows, or the last one was not committed.
    Clean,
    /// In the middle of what belongs to the journal.
    Damaged(&'static str),
}

/// Bytes of a commit block that mean something.
const COMMIT_HEADER: usize = 64;

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

    /// Whether a commit block stands as the kernel takes it: the checksum is right, or it is right for the header alone
    /// with nothing behind it, as some wrote it.
    fn is_committed(&self, bytes: &[u8]) -> bool {
        let mut bare = vec![0; bytes.len()];
        bare[..COMMIT_HEADER].copy_from_slice(&bytes[..COMMIT_HEADER]);
        self.is_right(bytes, 16) || self.is_right(&bare, 16)
    }

    /// Reads one transaction from a block on; the block behind it.
    fn transaction(&self, mut at: u64, sequence: u32) -> std::result::Result<(Transaction, u64), End> {
        let mut transaction = Transaction::default();
        let mut seen = 0;
        // The old checksum goes over descriptors and what they describe, one block after the other.
        let mut old = self.old_checksum.then(|| crc32_whole(&[]));
        let mut summed: Vec<u8> = Vec::new();
        while seen < self.end {
            let bytes = self.read(at).map_err(|_| End::Damaged("a block of it cannot be read"))?;
            if be32(&bytes, 0) != MAGIC || be32(&bytes, 8) != sequence {
                return Err(End::Clean);
            }
            (at, seen) = (self.after(at), seen + 1);
            let tail = bytes.len() - 4;
            match be32(&bytes, 4) {
                DESCRIPTOR => {
                    if !self.is_right(&bytes, tail) {
                        return Err(End::Damaged("the checksum of a descriptor is wrong"));
                    }
                    if old.is_some() {
                        summed.extend_from_slice(&bytes);
                    }
                    for (block, flags, sum) in self.tags(&bytes) {
                        if self.has_checksums() || old.is_some() {
                            let held = self.read(at).map_err(|_| End::Damaged("a block of it cannot be read"))?;
                            let found = crc32c(crc32c(self.seed, &sequence.to_be_bytes()), &held);
                            let found = if self.features & CHECKSUM_3 != 0 { found } else { found & 0xffff };
                            if self.has_checksums() && found != sum {
                                return Err(End::Damaged("the checksum of a block is wrong"));
                            }
                            if old.is_some() {
                                summed.extend_from_slice(&held);
                            }
                        }
                        transaction.blocks.push((block, at, flags & 1 != 0));
                        (at, seen) = (self.after(at), seen + 1);
                        if seen > self.end {
                            return Err(End::Damaged("a transaction is longer than the journal"));
                        }
                        // A transaction may be as long as the journal; its checksum is counted as it goes.
                        if summed.len() > 1 << 20 {
                            old = old.map(|sum| sum.over(&std::mem::take(&mut summed)));
                        }
                    }
                }
                REVOKE => {
                    if !self.is_right(&bytes, tail) {
                        return Err(End::Damaged("the checksum of a list of blocks given up is wrong"));
                    }
                    let width = if self.features & WIDE != 0 { 8 } else { 4 };
                    let end = (be32(&bytes, 12) as usize).min(tail + 4);
                    let numbers = bytes.get(16..end).unwrap_or_default().chunks_exact(width);
                    transaction.revoked.extend(numbers.map(|number| number.iter().fold(0u64, |value, byte| value << 8 | u64::from(*byte))));
                }
                COMMIT => {
                    if !self.is_committed(&bytes) {
                        return Err(End::Damaged("the checksum of a commit is wrong"));
                    }
                    if let Some(sum) = old {
                        // Kind 1 with 4 bytes, or nothing at all where none was counted.
                        let (kind, stored) = (be16(&bytes, 12), be32(&bytes, 16));
                        let right = kind == 0x0104 && sum.over(&summed).value() == stored || kind == 0 && stored == 0;
                        if !right {
                            return Err(End::Damaged("the checksum over a transaction is wrong"));
                        }
                    }
                    return Ok((transaction, at));
                }
                _ => return Err(End::Clean),
            }
        }
        Err(End::Damaged("a transaction is longer than the journal"))
    }
}

fn damaged() -> Finding {
    Finding::new("ext-journal", "the journal is damaged: what it held back cannot be told")
}

/// Blocks at the end of a journal that are kept for fast commits.
fn fast_blocks(head: &[u8], features: u32) -> u64 {
    match features & FAST_COMMIT {
        0 => 0,
        _ => Some(u64::from(be32(head, 84))).filter(|count| *count > 0).unwrap_or(256),
    }
}

/// What is wrong with the super block of a journal in a file of `room` blocks; `is_pending` is what the volume says of it.
pub(super) fn head_fault(head: &[u8], room: u64, block: u64, is_pending: bool) -> Option<&'static str> {
    let second = be32(head, 4) == 4;
    let features = if second { [36, 40, 44].map(|at| be32(head, at)) } else { [0; 3] };
    let (blocks, first, start) = (u64::from(be32(head, 16)), u64::from(be32(head, 20)), u64::from(be32(head, 28)));
    let sums = features[1] & (CHECKSUM_2 | CHECKSUM_3);
    let sum = || crc32c(crc32c(crc32c(u32::MAX, &head[..0xfc]), &[0; 4]), &head[0x100..]);
    Some(match () {
        () if be32(head, 0) != MAGIC || !matches!(be32(head, 4), 3 | 4) => "it does not begin with its super block",
        () if u64::from(be32(head, 12)) != block => "its blocks have another size than the volume's",
        () if (0..3).any(|word| features[word] & !KNOWN[word] != 0) => "it names features that are not known",
        () if sums == CHECKSUM_2 | CHECKSUM_3 => "it names two kinds of checksum",
        () if blocks > room || blocks < LEAST_BLOCKS.min(room) || fast_blocks(head, features[1]) >= blocks => "its length",
        () if first == 0 || first >= blocks || start >= blocks => "where it begins",
        () if sums != 0 && (head[0x50] != 4 || sum() != be32(head, 0xfc)) => "the checksum of its super block is wrong",
        () if be32(head, 32) != 0 => "its system noted an error in it",
        () if start != 0 && !is_pending => "it holds changes back, but the volume says it does not",
        () if second && !matches!(be32(head, 64), 0 | 1) => "it says that others use it too",
        () => return None,
    })
}

/// Reads the journal in `content` and gives what is to be laid over the volume, and the fast commits behind that, with a word
/// on it.
pub(super) fn replay(volume: &Cached, content: &FileMap, block: u64, blocks: u64) -> Result<(Overlay, Fast, Finding)> {
    let mut head = vec![0; 1024];
    content.read(volume, 0, &mut head)?;
    if be32(&head, 0) != MAGIC || !matches!(be32(&head, 4), 3 | 4) || u64::from(be32(&head, 12)) != block {
        return Err(damaged());
    }
    let features = if be32(&head, 4) == 4 { be32(&head, 40) } else { 0 };
    let old_checksum = be32(&head, 4) == 4 && be32(&head, 36) & OLD_CHECKSUM != 0 && features & (CHECKSUM_2 | CHECKSUM_3) == 0;
    let fast = fast_blocks(&head, features);
    let end = u64::from(be32(&head, 16)).min(content.size() / block).saturating_sub(fast);
    let seed = crc32c(u32::MAX, &array::<16>(&head, 48));
    let journal = Journal { volume, content, block, first: u64::from(be32(&head, 20)), end, old_checksum, features, seed };
    let (mut at, mut sequence) = (u64::from(be32(&head, 28)), be32(&head, 24));
    if at == 0 {
        return Ok((Overlay::default(), Fast::default(), Finding::note("journal-empty", "its journal holds nothing back")));
    }
    if journal.first == 0 || at >= end || journal.first >= end {
        return Err(damaged());
    }
    let (mut count, mut passed) = (0, 0);
    let mut newest: HashMap<u64, (u32, u64, bool)> = HashMap::new();
    let mut revoked: HashMap<u64, u32> = HashMap::new();
    let mut broken = None;
    while passed < end {
        let (transaction, next) = match journal.transaction(at, sequence) {
            Ok(read) => read,
            Err(End::Clean) => break,
            Err(End::Damaged(why)) => {
                broken = Some(why);
                break;
            }
        };
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
    // The block right behind the transactions belongs to neither.
    let fast = fast::read(&mut |number| journal.read(end + 1 + number).ok(), fast.saturating_sub(1), sequence, blocks);
    if let Some(why) = broken.or(fast.is_broken.then_some("the first of its fast commits is damaged")) {
        let text = format!("its journal ends after {count} changes where it should not: {why}; what its system would make of it is not known");
        return Ok((overlay, Fast::default(), Finding::grave("journal-broken", text)));
    }
    let more = match fast.commits {
        0 => String::new(),
        commits => format!(", and {commits} fast commits"),
    };
    let text =
        format!("its journal holds back {count} changes over {} blocks{more}; they are taken into account in memory only", overlay.places.len());
    Ok((overlay, fast, Finding::note("journal-pending", text)))
}
