//! The boot sector of exFAT, read for recognising a volume and for opening it.

use crate::format::Format;
use crate::volume::{Kind, Recognised, State, Stretch};
use badger_drive::field::{le16, le32, le64};

/// exFAT.
pub(crate) const FORMAT: Format = Format { recognise, open: Some(|volume| Ok(crate::format::alone(super::ExFat::open(volume)?))), files: None };

/// What it says of where things lie, in bytes.
pub(super) struct Boot {
    pub sector: u64,
    pub cluster: u64,
    pub table: u64,
    /// Where clusters begin, with number 2.
    pub heap: u64,
    pub clusters: u32,
    /// The first cluster of the root directory.
    pub root: u32,
}

impl Boot {
    /// Reads a boot sector; `None` where its sizes cannot be.
    pub fn read(boot: &[u8]) -> Option<Self> {
        let (sector, cluster) = (u32::from(boot[108]), u32::from(boot[109]));
        if !(9..=12).contains(&sector) || sector + cluster > 25 {
            return None;
        }
        let bytes = |at: usize| u64::from(le32(boot, at)) << sector;
        Some(Self {
            sector: 1 << sector,
            cluster: 1 << (sector + cluster),
            table: bytes(80),
            heap: bytes(88),
            clusters: le32(boot, 92).min(u32::MAX - 16),
            root: le32(boot, 96),
        })
    }
}

/// Microsoft's "exFAT file system specification".
fn recognise(stretch: &Stretch, head: &[u8]) -> Option<Recognised> {
    let boot = Boot::read(head).filter(|_| &head[3..11] == b"EXFAT   ")?;
    let mut volume = Recognised::new(Kind::ExFat, le64(head, 72).checked_mul(boot.sector)?);
    volume.most_sector = Some(boot.sector as u32);
    let serial = le32(head, 100);
    volume.id = format!("{:04X}-{:04X}", serial >> 16, serial & 0xffff);
    if le16(head, 106) & 2 != 0 {
        volume.state = State::Dirty;
    }
    // Whole percents: 0 is anything below one, which is not nothing.
    if (1..=100).contains(&head[112]) {
        volume.used_bytes = Some(u64::from(boot.clusters) * boot.cluster / 100 * u64::from(head[112]));
    }
    let at = boot.heap.checked_add(u64::from(boot.root.checked_sub(2)?).checked_mul(boot.cluster)?)?;
    let entries = stretch.read(at, boot.cluster.min(32 << 10) as usize)?;
    if let Some(label) = entries.chunks_exact(32).take_while(|entry| entry[0] != 0).find(|entry| entry[0] == 0x83) {
        let units: Vec<u16> = (0..usize::from(label[1].min(11))).map(|at| le16(label, 2 + at * 2)).collect();
        volume.label = String::from_utf16_lossy(&units);
    }
    Some(volume)
}
