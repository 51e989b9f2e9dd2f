//! The master boot record: four entries in the first sector, logical partitions in a chain of sectors like it.
//!
//! Follows the layout that the UEFI specification gives in 5.2 (legacy MBR) and the de-facto rules of extended
//! partitions: the first entry of a link is a logical partition relative to the link, the second points to the next
//! link relative to the start of the extended partition.

use crate::partition::{Partition, Problem};
use crate::types::{TypeCode, is_extended};
use badger_drive::field::{le16, le32};
use std::collections::HashSet;

/// Longest chain that is followed.
pub const MOST_LOGICAL: usize = 256;

/// One entry of the table, as it stands there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Entry {
    /// 0x80 where active, else 0.
    pub status: u8,
    /// Cylinder, head and sector of the first sector, packed.
    pub first_chs: [u8; 3],
    /// Type.
    pub code: u8,
    /// Cylinder, head and sector of the last sector, packed.
    pub last_chs: [u8; 3],
    /// First sector.
    pub start: u32,
    /// Number of sectors.
    pub sectors: u32,
}

impl Entry {
    /// An entry with the packed addresses that go with its place, as tables of drives beyond 8 GB have them.
    pub fn new(code: u8, start: u32, sectors: u32, active: bool) -> Self {
        let last = u64::from(start) + u64::from(sectors).max(1) - 1;
        let status = if active { 0x80 } else { 0 };
        Self { status, first_chs: chs(u64::from(start)), code, last_chs: chs(last), start, sectors }
    }

    fn read(bytes: &[u8], at: usize) -> Self {
        let three = |at: usize| [bytes[at], bytes[at + 1], bytes[at + 2]];
        Self {
            status: bytes[at],
            first_chs: three(at + 1),
            code: bytes[at + 4],
            last_chs: three(at + 5),
            start: le32(bytes, at + 8),
            sectors: le32(bytes, at + 12),
        }
    }

    fn write(&self, bytes: &mut [u8], at: usize) {
        bytes[at] = self.status;
        bytes[at + 1..at + 4].copy_from_slice(&self.first_chs);
        bytes[at + 4] = self.code;
        bytes[at + 5..at + 8].copy_from_slice(&self.last_chs);
        bytes[at + 8..at + 12].copy_from_slice(&self.start.to_le_bytes());
        bytes[at + 12..at + 16].copy_from_slice(&self.sectors.to_le_bytes());
    }

    fn is_empty(&self) -> bool {
        self.code == 0 || self.sectors == 0
    }
}

/// A sector address as cylinder, head and sector with 255 heads and 63 sectors; the highest value where it does not fit.
fn chs(sector: u64) -> [u8; 3] {
    let (cylinder, rest) = (sector / (255 * 63), sector % (255 * 63));
    if cylinder > 1023 {
        return [0xfe, 0xff, 0xff];
    }
    let (head, sector) = ((rest / 63) as u8, (rest % 63 + 1) as u8);
    [head, sector | ((cylinder >> 2) as u8 & 0xc0), cylinder as u8]
}

/// One logical partition: the link that names it and its entry, relative to the link.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Logical {
    /// Absolute sector of the link.
    pub link: u64,
    /// The entry in it; `start` counts from the link.
    pub entry: Entry,
}

/// A whole table with its chain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mbr {
    /// The first 440 bytes, start-up code.
    pub boot_code: Vec<u8>,
    /// The disk's signature.
    pub signature: u32,
    /// The two bytes behind the signature.
    pub reserved: u16,
    /// The four entries.
    pub entries: [Entry; 4],
    /// The logical partitions in the order of the chain.
    pub logical: Vec<Logical>,
}

impl Mbr {
    /// A table without partitions.
    pub fn empty(signature: u32) -> Self {
        Self { boot_code: vec![0; 440], signature, reserved: 0, entries: [Entry::default(); 4], logical: Vec::new() }
    }

    /// Reads the first sector only; `None` where it lacks the 0x55 0xAA mark or is too short.
    pub fn read_sector(bytes: &[u8]) -> Option<Self> {
        if bytes.len() < 512 || le16(bytes, 510) != 0xaa55 {
            return None;
        }
        let entries = [446, 462, 478, 494].map(|at| Entry::read(bytes, at));
        Some(Self { boot_code: bytes[..440].to_vec(), signature: le32(bytes, 440), reserved: le16(bytes, 444), entries, logical: Vec::new() })
    }

    /// Follows the chains of logical partitions. `sector` reads one; every lie in the chain becomes a problem.
    pub fn read_chain(&mut self, mut sector: impl FnMut(u64) -> Option<Vec<u8>>, sectors: u64) -> Vec<Problem> {
        let mut problems = Vec::new();
        let extended: Vec<Entry> = self.entries.iter().copied().filter(|entry| is_extended(entry.code) && entry.sectors > 0).collect();
        if extended.len() > 1 {
            problems.push(Problem::light("mbr-two-extended", "the table has more than one extended partition; systems follow only the first"));
        }
        let Some(base) = extended.first() else { return problems };
        let (start, end) = (u64::from(base.start), u64::from(base.start) + u64::from(base.sectors));
        let mut seen = HashSet::new();
        let mut link = start;
        loop {
            if !seen.insert(link) {
                problems.push(Problem::grave("ebr-loop", format!("the chain of logical partitions comes back to sector {link}")));
                break;
            }
            if seen.len() > MOST_LOGICAL {
                problems.push(Problem::grave("ebr-too-many", format!("the chain has more than {MOST_LOGICAL} links; the rest is not read")));
                break;
            }
            if link >= sectors {
                problems.push(Problem::grave(
                    "ebr-past-end",
                    format!("the chain of logical partitions points to sector {link}, past the end of the drive"),
                ));
                break;
            }
            let Some(bytes) = sector(link) else {
                problems.push(Problem::grave(
                    "ebr-unreadable",
                    format!("sector {link}, a link of the logical partitions, cannot be read; what comes behind it is unknown"),
                ));
                break;
            };
            if bytes.len() < 512 || le16(&bytes, 510) != 0xaa55 {
                problems.push(Problem::grave("ebr-no-mark", format!("sector {link} should be a link of the logical partitions but lacks its mark")));
                break;
            }
            let (entry, next) = (Entry::read(&bytes, 446), Entry::read(&bytes, 462));
            if !entry.is_empty() {
                let first = link + u64::from(entry.start);
                if first < start || first + u64::from(entry.sectors) > end {
                    problems.push(Problem::grave(
                        "ebr-outside",
                        format!("the logical partition at sector {first} reaches out of its extended partition"),
                    ));
                }
                self.logical.push(Logical { link, entry });
            }
            if next.is_empty() || !is_extended(next.code) {
                break;
            }
            link = start + u64::from(next.start);
        }
        problems
    }

    /// The partitions in the usual numbering: 1 to 4, logical ones from 5.
    pub fn partitions(&self) -> Vec<Partition> {
        let id = |number: u32| format!("{:08x}-{number:02x}", self.signature);
        let partition = |number: u32, start: u64, entry: &Entry| Partition {
            bootable: entry.status & 0x80 != 0,
            id: id(number),
            ..Partition::new(number, start, u64::from(entry.sectors), TypeCode::Mbr(entry.code))
        };
        let primary = self.entries.iter().zip(1..).filter(|(entry, _)| !entry.is_empty());
        let mut all: Vec<Partition> = primary.map(|(entry, number)| partition(number, u64::from(entry.start), entry)).collect();
        for (logical, number) in self.logical.iter().zip(5..) {
            let start = logical.link + u64::from(logical.entry.start);
            all.push(Partition { logical: true, ..partition(number, start, &logical.entry) });
        }
        all
    }

    /// Faults of the entries themselves.
    pub fn check(&self, sectors: u64) -> Vec<Problem> {
        let mut problems = Vec::new();
        for (entry, number) in self.entries.iter().zip(1..) {
            if entry.status & 0x7f != 0 {
                problems.push(Problem::light(
                    "mbr-bad-active",
                    format!("partition {number} has 0x{:02x} where only active or not can stand", entry.status),
                ));
            }
        }
        if self.entries.iter().filter(|entry| entry.status == 0x80).count() > 1 {
            problems.push(Problem::light("mbr-two-active", "more than one partition is marked active; firmware may start neither"));
        }
        problems.extend(crate::partition::overlaps(&self.partitions(), sectors, "mbr"));
        problems
    }

    /// The table as sectors of `sector_size` bytes, each with its number: the first sector, then the links.
    pub fn write(&self, sector_size: u32) -> Vec<(u64, Vec<u8>)> {
        let mut first = vec![0; sector_size as usize];
        let code = self.boot_code.len().min(440);
        first[..code].copy_from_slice(&self.boot_code[..code]);
        first[440..444].copy_from_slice(&self.signature.to_le_bytes());
        first[444..446].copy_from_slice(&self.reserved.to_le_bytes());
        for (entry, at) in self.entries.iter().zip([446, 462, 478, 494]) {
            entry.write(&mut first, at);
        }
        first[510..512].copy_from_slice(&[0x55, 0xaa]);
        let mut out = vec![(0, first)];
        let base = self.entries.iter().find(|entry| is_extended(entry.code)).map_or(0, |entry| u64::from(entry.start));
        for (at, logical) in self.logical.iter().enumerate() {
            let mut link = vec![0; sector_size as usize];
            logical.entry.write(&mut link, 446);
            if let Some(next) = self.logical.get(at + 1) {
                let start = next.link.saturating_sub(base) as u32;
                let length = next.entry.start.saturating_add(next.entry.sectors);
                Entry::new(0x05, start, length, false).write(&mut link, 462);
            }
            link[510..512].copy_from_slice(&[0x55, 0xaa]);
            out.push((logical.link, link));
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, [0, 1, 0])]
    #[case(63, [1, 1, 0])]
    #[case(2048, [32, 33, 0])]
    #[case(1_000_000_000, [0xfe, 0xff, 0xff])]
    fn packed_addresses(#[case] sector: u64, #[case] expected: [u8; 3]) {
        assert_eq!(chs(sector), expected);
    }

    fn chain_disk(links: &[(u64, Entry, Entry)], base: Entry) -> impl FnMut(u64) -> Option<Vec<u8>> {
        let mut sectors = std::collections::HashMap::new();
        for (at, first, second) in links {
            let mut bytes = vec![0; 512];
            first.write(&mut bytes, 446);
            second.write(&mut bytes, 462);
            bytes[510..].copy_from_slice(&[0x55, 0xaa]);
            sectors.insert(*at, bytes);
        }
        let _ = base;
        move |at| sectors.get(&at).cloned()
    }

    #[rstest]
    #[case::comes_back("ebr-loop", &[(1000, 0), (1500, 0)])]
    #[case::points_past_the_end("ebr-past-end", &[(1000, 1_000_000)])]
    #[case::points_to_nothing("ebr-unreadable", &[(1000, 700)])]
    fn chains_that_lie_are_survived(#[case] code: &str, #[case] links: &[(u64, u32)]) {
        let mut mbr = Mbr::empty(7);
        let base = Entry::new(0x05, 1000, 5000, false);
        mbr.entries[0] = base;
        let entry = Entry::new(0x83, 1, 10, false);
        let links: Vec<_> = links
            .iter()
            .enumerate()
            .map(|(at, (link, jump))| {
                let next = links.get(at + 1).map_or(*jump, |(next, _)| (next - 1000) as u32);
                (*link, entry, Entry { code: 0x05, start: next, sectors: 100, ..Entry::default() })
            })
            .collect();
        let problems = mbr.read_chain(chain_disk(&links, base), 10_000);
        assert_eq!(problems.iter().map(|problem| problem.code).collect::<Vec<_>>(), [code]);
        assert_eq!(mbr.logical.len(), links.len());
    }

    fn arbitrary() -> impl Strategy<Value = Mbr> {
        let primary = prop::collection::vec((any::<bool>(), 1u8..=255, 2048u32..1_000_000, 1u32..100_000), 0..3);
        let logical = prop::collection::vec((1u32..64, 1u32..5000, prop::sample::select(vec![0x83u8, 0x07, 0x82])), 0..12);
        (any::<u32>(), prop::collection::vec(any::<u8>(), 440), primary, logical).prop_map(|(signature, boot_code, primary, logical)| {
            let mut mbr = Mbr { boot_code, ..Mbr::empty(signature) };
            for (slot, (active, code, start, sectors)) in primary.into_iter().enumerate() {
                let code = if is_extended(code) { 0x83 } else { code };
                mbr.entries[slot] = Entry::new(code, start, sectors, active);
            }
            let mut at = 2_000_000u64;
            for (gap, sectors, code) in logical {
                mbr.logical.push(Logical { link: at, entry: Entry::new(code, gap, sectors, false) });
                at += u64::from(gap + sectors);
            }
            if !mbr.logical.is_empty() {
                mbr.entries[3] = Entry::new(0x0f, 2_000_000, (at - 2_000_000) as u32, false);
            }
            mbr
        })
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_again(mbr in arbitrary(), sector in prop::sample::select(vec![512u32, 4096])) {
            let written: std::collections::HashMap<u64, Vec<u8>> = mbr.write(sector).into_iter().collect();
            let mut read = Mbr::read_sector(&written[&0]).unwrap();
            let problems = read.read_chain(|at| written.get(&at).cloned(), 4_000_000);
            prop_assert_eq!(problems, vec![]);
            prop_assert_eq!(read, mbr);
        }

        #[test]
        fn arbitrary_sectors_never_panic(first in prop::collection::vec(any::<u8>(), 512), links in prop::collection::vec(prop::collection::vec(any::<u8>(), 512), 1..8)) {
            let mut first = first;
            first[510..].copy_from_slice(&[0x55, 0xaa]);
            first[450] = 0x05;
            let mut mbr = Mbr::read_sector(&first).unwrap();
            let mut turn = 0;
            mbr.read_chain(|_| { turn += 1; let mut link = links[turn % links.len()].clone(); link[510] = 0x55; link[511] = 0xaa; link[466] = 0x05; Some(link) }, u64::MAX);
            prop_assert!(mbr.logical.len() <= MOST_LOGICAL);
            mbr.check(1_000_000);
        }
    }
}
