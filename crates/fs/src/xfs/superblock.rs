//! The super block of XFS and its log, read for recognising a volume and for opening it.

use crate::finding::{Finding, Result};
use crate::format::Format;
use crate::volume::{Kind, Recognised, State, Stretch, text, uuid};
use badger_drive::field::{array, be16, be32, be64, le32};

/// XFS.
pub(crate) const FORMAT: Format = Format { recognise, open: None, files: Some(|volume| Ok(Box::new(super::Xfs::open(volume)?))) };

/// Incompatible features by their bits: kinds in directories, repair needed.
const KINDS: u32 = 1;
const NEEDS_REPAIR: u32 = 0x10;
/// All that are known: with others structures may mean something else.
const KNOWN: u32 = 0xff;

/// More bytes than any volume of this format can have: 8 EiB, less one.
const MOST_BYTES: u64 = i64::MAX as u64;

/// What the super block says.
#[derive(Clone, Debug)]
pub(super) struct SuperBlock {
    /// Bytes of a block, of an inode and of a block of a directory.
    pub block: u64,
    pub inode: u64,
    pub directory: u64,
    /// Blocks in all, of a group, and groups.
    pub blocks: u64,
    pub group: u64,
    pub groups: u64,
    /// Bits of a number that count blocks within a group, and inodes within a block.
    pub group_bits: u32,
    pub inode_bits: u32,
    pub root: u64,
    /// Structures have checksums, and carry whose they are.
    pub sums: bool,
    /// Directories tell kinds.
    pub kinds: bool,
    log: (u64, u64),
    incompatible: u32,
    is_made: bool,
}

impl SuperBlock {
    /// Reads it out of the first sector.
    ///
    /// # Errors
    /// A finding where it contradicts itself.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let wrong = |what: &str| Finding::new("xfs-super-block", format!("the super block is damaged: {what}"));
        let version = be16(bytes, 100) & 15;
        let sums = version == 5;
        let sector = usize::from(be16(bytes, 102));
        if !(4..=5).contains(&version) || !(512..=32768).contains(&sector) || bytes.len() < sector {
            return Err(wrong("its version, or the size of sectors"));
        }
        if sums && !is_right(&bytes[..sector], 224) {
            return Err(wrong("its checksum is wrong"));
        }
        let log2 = |at: usize| u32::from(bytes[at]);
        let (block_bits, inode_log, group_bits, directory) = (log2(120), log2(122), log2(124), log2(192));
        if !(9..=16).contains(&block_bits) || !(8..=11).contains(&inode_log) || inode_log > block_bits || !(1..=32).contains(&group_bits) {
            return Err(wrong("the sizes of blocks, inodes or groups"));
        }
        if 1 << block_bits != be32(bytes, 4) || 1 << inode_log != u32::from(be16(bytes, 104)) || directory > 7 || block_bits + directory > 16 {
            return Err(wrong("sizes that contradict each other"));
        }
        let found = Self {
            block: 1 << block_bits,
            inode: 1 << inode_log,
            directory: 1 << (block_bits + directory),
            blocks: be64(bytes, 8),
            group: u64::from(be32(bytes, 84)),
            groups: u64::from(be32(bytes, 88)),
            group_bits,
            inode_bits: block_bits - inode_log,
            root: be64(bytes, 56),
            sums,
            kinds: if sums { be32(bytes, 216) & KINDS != 0 } else { be32(bytes, 200) & 0x200 != 0 },
            log: (be64(bytes, 48), u64::from(be32(bytes, 96))),
            incompatible: if sums { be32(bytes, 216) } else { 0 },
            is_made: bytes[126] == 0,
        };
        let all = found.groups.checked_mul(found.group);
        if found.blocks.checked_mul(found.block).is_none_or(|bytes| bytes > MOST_BYTES) {
            return Err(wrong("its length"));
        }
        if found.group == 0 || found.group > 1 << group_bits || all.is_none_or(|all| all < found.blocks || all - found.blocks >= found.group) {
            return Err(wrong("the number of groups"));
        }
        if !sums && be16(bytes, 100) & 0x2000 == 0 {
            return Err(Finding::new("xfs-old", "its directories are of a kind that no system has written for twenty years"));
        }
        match found.incompatible & !KNOWN {
            0 => Ok(found),
            unknown => Err(Finding::new(
                "xfs-features",
                format!("it has features that are not known here ({unknown:#x}): its files may mean something else"),
            )),
        }
    }

    /// First byte of a block by its number, of which the upper bits name the group.
    pub fn place(&self, number: u64) -> Option<u64> {
        let (group, block) = (number >> self.group_bits, number & ((1 << self.group_bits) - 1));
        let at = group.checked_mul(self.group)?.checked_add(block)?;
        (group < self.groups && block < self.group && at < self.blocks).then(|| at * self.block)
    }
}

/// Whether the checksum at `at` is that of all bytes, itself counted as zero: CRC-32C, written the other way round than everything else.
pub(super) fn is_right(bytes: &[u8], at: usize) -> bool {
    let (Some(front), Some(back)) = (bytes.get(..at), bytes.get(at + 4..)) else { return false };
    crc32c::crc32c_append(crc32c::crc32c_append(crc32c::crc32c(front), &[0; 4]), back) == le32(bytes, at)
}

/// What is in the log.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Log {
    /// Everything was carried out.
    Done,
    /// Changes wait in it.
    Waiting,
    /// It lies elsewhere, or cannot be read.
    Unknown,
}

/// The log counts in these, whatever the sectors are.
const UNIT: u64 = 512;
const RECORD: u32 = 0xfeed_babe;
/// The longest record, in units, with its heads.
const MOST_RECORD: u64 = 512 + 8;
/// The operation that ends a log whose changes were all carried out.
const UNMOUNT: u8 = 0x20;

/// Whether changes wait in the log: its newest record says that there are none.
pub(super) fn log(sb: &SuperBlock, read: &dyn Fn(u64, usize) -> Option<Vec<u8>>) -> Log {
    let (start, blocks) = sb.log;
    let Some(start) = sb.place(start).filter(|start| *start > 0) else { return Log::Unknown };
    let count = blocks.saturating_mul(sb.block) / UNIT;
    if count == 0 {
        return Log::Unknown;
    }
    let unit = |number: u64| read(start.checked_add(number % count * UNIT)?, UNIT as usize);
    // Every unit begins with the number of the round in which it was written; the head of a record has its mark in front.
    let round = |number: u64| unit(number).map(|bytes| if be32(&bytes, 0) == RECORD { be32(&bytes, 4) } else { be32(&bytes, 0) });
    let newest = || -> Option<Log> {
        let (first, last) = (round(0)?, round(count.checked_sub(1)?)?);
        if first == 0 {
            return Some(Log::Done);
        }
        let (mut low, mut high) = (0, count);
        if first != last {
            while high - low > 1 {
                let middle = low.midpoint(high);
                if round(middle)? == first { low = middle } else { high = middle }
            }
        }
        let head = high;
        let is_head = |back: &u64| unit(head + count - back).is_some_and(|bytes| be32(&bytes, 0) == RECORD);
        let back = (1..=MOST_RECORD.min(count)).find(is_head)?;
        let at = head + count - back;
        let record = unit(at)?;
        let heads = if be32(&record, 8) & 2 != 0 { u64::from(be32(&record, 320)).div_ceil(32768).max(1) } else { 1 };
        let end = heads + u64::from(be32(&record, 12)).div_ceil(UNIT);
        let operation = unit(at + heads)?;
        Some(if end == back && be32(&record, 40) == 1 && operation[9] & UNMOUNT != 0 { Log::Done } else { Log::Waiting })
    };
    newest().unwrap_or(Log::Unknown)
}

fn recognise(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    (&head[..4] == b"XFSB").then_some(())?;
    let size = u64::from(be32(head, 4));
    let blocks = be64(head, 8);
    let mut volume = Recognised::new(Kind::Xfs, blocks.checked_mul(size)?);
    volume.most_sector = Some(u32::from(be16(head, 102)));
    volume.used_bytes = blocks.checked_sub(be64(head, 144)).and_then(|used| used.checked_mul(size));
    volume.id = uuid(array(head, 32));
    volume.label = text(&head[108..120]);
    match SuperBlock::read(head) {
        // What is not known here is not broken.
        Err(finding) if finding.code != "xfs-super-block" => {}
        Err(finding) => {
            volume.state = State::Damaged;
            volume.problems.push(finding.text);
        }
        Ok(sb) if sb.incompatible & NEEDS_REPAIR != 0 || !sb.is_made => {
            volume.state = State::Damaged;
            volume.problems.push("its system noted that it needs repair".into());
        }
        Ok(sb) => {
            if log(&sb, &|at, len| stretch.read(at, len)) != Log::Done {
                volume.state = State::Dirty;
            }
        }
    }
    Some(volume)
}
