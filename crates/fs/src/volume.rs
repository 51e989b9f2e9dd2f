//! What is known of a volume as a whole.

use badger_drive::Medium;
use serde::{Serialize, Serializer};

/// What kind of content it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// FAT with 12-bit entries.
    Fat12,
    /// FAT with 16-bit entries.
    Fat16,
    /// FAT with 32-bit entries.
    Fat32,
    /// exFAT.
    ExFat,
    /// NTFS.
    Ntfs,
    /// ext2.
    Ext2,
    /// ext3.
    Ext3,
    /// ext4.
    Ext4,
    /// btrfs.
    Btrfs,
    /// XFS.
    Xfs,
    /// HFS+ or HFSX.
    HfsPlus,
    /// APFS container.
    Apfs,
    /// ISO 9660.
    Iso9660,
    /// SquashFS.
    Squashfs,
    /// Linux swap.
    Swap,
    /// LVM physical volume.
    Lvm,
    /// LUKS container.
    Luks,
    /// Recognised encrypted by Windows.
    BitLocker,
    /// Member of a Linux array.
    Md,
}

impl Kind {
    /// The name for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::ExFat => "exFAT",
            Self::Ntfs => "NTFS",
            Self::Ext2 => "ext2",
            Self::Ext3 => "ext3",
            Self::Ext4 => "ext4",
            Self::Btrfs => "btrfs",
            Self::Xfs => "XFS",
            Self::HfsPlus => "HFS+",
            Self::Apfs => "APFS",
            Self::Iso9660 => "ISO 9660",
            Self::Squashfs => "SquashFS",
            Self::Swap => "swap",
            Self::Lvm => "LVM",
            Self::Luks => "LUKS",
            Self::BitLocker => "BitLocker",
            Self::Md => "RAID member",
        }
    }

    /// The stable name in JSON.
    pub fn code(self) -> &'static str {
        match self {
            Self::HfsPlus => "hfsplus",
            Self::Iso9660 => "iso9660",
            Self::BitLocker => "bitlocker",
            Self::Md => "md",
            Self::Fat12 => "fat12",
            Self::Fat16 => "fat16",
            Self::Fat32 => "fat32",
            Self::ExFat => "exfat",
            Self::Ntfs => "ntfs",
            Self::Ext2 => "ext2",
            Self::Ext3 => "ext3",
            Self::Ext4 => "ext4",
            Self::Btrfs => "btrfs",
            Self::Xfs => "xfs",
            Self::Apfs => "apfs",
            Self::Squashfs => "squashfs",
            Self::Swap => "swap",
            Self::Lvm => "lvm",
            Self::Luks => "luks",
        }
    }
}

impl Serialize for Kind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.code())
    }
}

/// In which state a volume was left.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Put away properly.
    Clean,
    /// In use when it was last seen.
    Dirty,
    /// Its system sleeps and expects it unchanged.
    Hibernated,
    /// A structure it starts from is broken.
    Damaged,
}

/// A recognised volume. Sizes are bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Recognised {
    /// What it is.
    pub kind: Kind,
    /// Its name; empty where it has none.
    pub label: String,
    /// Its identifier as systems write it; empty where it has none.
    pub id: String,
    /// How long it says it is.
    pub size_bytes: u64,
    /// How much of it is in use, where the format tells.
    pub used_bytes: Option<u64>,
    /// State, as far as it was looked at.
    pub state: State,
    /// What is wrong with it.
    pub problems: Vec<String>,
    /// Told by a copy of its first structure alone: it may be a former volume, of which other content left the copy.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub copied: bool,
    /// Formats of which there are first structures too: which of them is the one in use, nobody can be sure.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<Kind>,
    /// Bytes of the largest sectors of a drive that its systems read it from as it is; `None` where that is not known, as of
    /// a container whose content is not looked into.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most_sector: Option<u32>,
}

impl Recognised {
    /// Why what it says of itself may not be that of the volume in use; `None` where nothing speaks against it.
    pub fn doubt(&self) -> Option<String> {
        if self.copied {
            return Some(format!("only a copy of the first structure of {} is there: it may be left of a former volume", self.kind.word()));
        }
        let others: Vec<&str> = self.others.iter().map(|kind| kind.word()).collect();
        (!others.is_empty()).then(|| format!("it begins like {} too: which one is in use is not certain", others.join(" and like ")))
    }

    pub(crate) fn new(kind: Kind, size_bytes: u64) -> Self {
        Self {
            kind,
            label: String::new(),
            id: String::new(),
            size_bytes,
            used_bytes: None,
            state: State::Clean,
            problems: Vec::new(),
            copied: false,
            others: Vec::new(),
            most_sector: None,
        }
    }
}

/// A stretch of a drive, read from its own start.
pub struct Stretch<'a> {
    pub(crate) drive: &'a dyn Medium,
    pub(crate) start: u64,
    pub(crate) len: u64,
}

impl Stretch<'_> {
    /// `len` bytes at `offset`; `None` where they lie outside or cannot be read.
    pub fn read(&self, offset: u64, len: usize) -> Option<Vec<u8>> {
        let end = offset.checked_add(len as u64)?;
        if end > self.len || len > 1 << 20 {
            return None;
        }
        let mut bytes = vec![0; len];
        self.drive.read_at(self.start.checked_add(offset)?, &mut bytes).ok()?;
        Some(bytes)
    }
}

/// Text up to its first zero byte.
pub(crate) fn text(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(&bytes[..end]).trim_end().to_string()
}

/// An identifier as systems write it.
pub(crate) fn uuid(bytes: [u8; 16]) -> String {
    uuid::Uuid::from_bytes(bytes).to_string()
}
