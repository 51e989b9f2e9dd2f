//! What divides a drive: the table, its partitions, and everything that is wrong with it.

use crate::partition::{Partition, Problem};
use crate::types::TypeCode;
use crate::{apm, gpt, mbr};
use badger_drive::{Medium, field};
use gpt::Gpt;
use mbr::Mbr;
use serde::Serialize;

/// The kind of table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// GUID partition table.
    Gpt,
    /// Master boot record.
    Mbr,
    /// Apple partition map.
    Apm,
    /// No table: empty, or a file system over the whole drive.
    None,
}

impl Kind {
    /// The word for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Gpt => "GPT",
            Self::Mbr => "MBR",
            Self::Apm => "Apple map",
            Self::None => "no table",
        }
    }
}

/// The full detail behind a table, for rewriting it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Detail {
    /// Nothing that could be rewritten.
    None,
    /// An MBR.
    Mbr(Mbr),
    /// A GPT.
    Gpt(Gpt),
}

/// What divides a drive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Table {
    /// Its kind.
    pub kind: Kind,
    /// The disk's identifier in the table; empty where there is none.
    pub disk_id: String,
    /// The partitions by number.
    pub partitions: Vec<Partition>,
    /// What is wrong.
    pub problems: Vec<Problem>,
    /// For rewriting.
    pub detail: Detail,
    /// Bytes a sector has.
    pub sector: u32,
    /// Sectors the drive has.
    pub sectors: u64,
}

impl Table {
    /// Whether nothing grave is wrong.
    pub fn is_sound(&self) -> bool {
        self.problems.iter().all(|problem| !problem.grave)
    }

    /// The partitions that can hold data, in the order of their places.
    pub fn data_partitions(&self) -> Vec<&Partition> {
        let mut all: Vec<&Partition> = self.partitions.iter().filter(|partition| !partition.is_container() && partition.sectors > 0).collect();
        all.sort_by_key(|partition| partition.start);
        all
    }

    /// First byte and length in bytes of a partition; what no drive could hold stops at the largest number.
    pub fn place(&self, partition: &Partition) -> (u64, u64) {
        let sector = u64::from(self.sector);
        (partition.start.saturating_mul(sector), partition.sectors.saturating_mul(sector))
    }

    /// The partition that holds a sector.
    pub fn at_sector(&self, sector: u64) -> Option<&Partition> {
        self.data_partitions().into_iter().find(|partition| (partition.start..partition.end()).contains(&sector))
    }
}

/// Whether the first sector is the start of a file system that fills the drive, rather than a table: it carries the
/// parameter block of FAT, NTFS or exFAT, whose place overlaps with nothing an MBR needs, and no credible entries.
fn is_volume(sector: &[u8]) -> bool {
    let jump = matches!(sector.first(), Some(0xeb | 0xe9));
    let name = sector.get(3..11).unwrap_or_default();
    let fat = sector.get(0x36..0x39) == Some(b"FAT") || sector.get(0x52..0x57) == Some(b"FAT32");
    let bytes = field::le16(sector, 11);
    let known = name == b"NTFS    " || name == b"EXFAT   " || (fat && matches!(bytes, 512 | 1024 | 2048 | 4096));
    jump && known
}

/// Reads the table of a drive, whatever state it is in.
pub fn read(drive: &dyn Medium) -> Table {
    let geometry = drive.geometry();
    let (sector, sectors) = (geometry.logical_sector, geometry.sectors());
    let mut read = |at: u64, count: u64| -> Option<Vec<u8>> {
        let len = count.checked_mul(u64::from(sector)).filter(|len| *len <= 4 << 20)?;
        let offset = at.checked_mul(u64::from(sector))?;
        let mut bytes = vec![0; len as usize];
        (at.checked_add(count)? <= sectors && drive.read_at(offset, &mut bytes).is_ok()).then_some(bytes)
    };
    let none = |problems: Vec<Problem>, partitions: Vec<Partition>| Table {
        kind: Kind::None,
        disk_id: String::new(),
        partitions,
        problems,
        detail: Detail::None,
        sector,
        sectors,
    };
    let first = read(0, 1);
    let unreadable = first.is_none();
    let first = first.unwrap_or_else(|| vec![0; sector as usize]);
    let mut mbr = Mbr::read_sector(&first);
    let blank = mbr.clone().unwrap_or_else(|| Mbr::empty(0));
    let whole = || Partition::new(0, 0, sectors, TypeCode::Whole);
    if is_volume(&first) && !blank.entries.iter().any(|entry| entry.code == 0xee) {
        return none(Vec::new(), vec![whole()]);
    }
    if let Some((gpt, mut problems)) = gpt::read(&mut read, &blank, sectors, sector) {
        if unreadable {
            problems.push(Problem::grave("mbr-unreadable", "sector 0 cannot be read"));
        }
        let partitions = gpt.partitions();
        return Table { kind: Kind::Gpt, disk_id: gpt.disk_id.to_string(), partitions, problems, detail: Detail::Gpt(gpt), sector, sectors };
    }
    let blocks_per = u64::from(sector / 512).max(1);
    let block = |number: u64| {
        let bytes = read(number / blocks_per, 1)?;
        let at = (number % blocks_per) as usize * 512;
        bytes.get(at..at + 512).map(<[u8]>::to_vec)
    };
    if let Some((partitions, problems)) = apm::read(block, sectors, sector) {
        return Table { kind: Kind::Apm, disk_id: String::new(), partitions, problems, detail: Detail::None, sector, sectors };
    }
    if unreadable {
        return none(
            vec![Problem::grave("mbr-unreadable", "sector 0 cannot be read, and there is no second copy of a table at the end")],
            Vec::new(),
        );
    }
    match &mut mbr {
        Some(mbr) if mbr.entries.iter().any(|entry| entry.code != 0 && entry.sectors != 0) => {
            let mut problems = mbr.read_chain(|at| read(at, 1), sectors);
            problems.extend(mbr.check(sectors));
            Table {
                kind: Kind::Mbr,
                disk_id: format!("{:08x}", mbr.signature),
                partitions: mbr.partitions(),
                problems,
                detail: Detail::Mbr(mbr.clone()),
                sector,
                sectors,
            }
        }
        _ => none(Vec::new(), if first.iter().all(|byte| *byte == 0) && drive_is_bare(drive) { Vec::new() } else { vec![whole()] }),
    }
}

/// Whether the first 128 KiB hold nothing: file systems without a boot sector start within them.
fn drive_is_bare(drive: &dyn Medium) -> bool {
    let mut bytes = vec![0; drive.geometry().size_bytes.min(128 << 10) as usize];
    drive.read_at(0, &mut bytes).is_ok() && badger_drive::buffer::is_zero(&bytes)
}
