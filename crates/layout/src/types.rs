//! What partition types mean: the published codes of MBR tables, of GPT tables (UEFI specification, the Discoverable
//! Partitions Specification, Microsoft's and Apple's public documentation), and of Apple partition maps.

use crate::guid::Guid;

/// How a table names the type of a partition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TypeCode {
    /// One byte of an MBR entry.
    Mbr(u8),
    /// The type identifier of a GPT entry.
    Gpt(Guid),
    /// The type string of an Apple map entry.
    Apm(String),
    /// The whole drive without a table.
    Whole,
}

impl TypeCode {
    /// The code as it is written: `0x07`, a GUID, a string.
    pub fn code(&self) -> String {
        match self {
            Self::Mbr(byte) => format!("0x{byte:02X}"),
            Self::Gpt(guid) => guid.to_string(),
            Self::Apm(name) => name.clone(),
            Self::Whole => "-".into(),
        }
    }

    /// What it stands for, in a few words.
    pub fn meaning(&self) -> &'static str {
        match self {
            Self::Mbr(byte) => mbr(*byte),
            Self::Gpt(guid) => gpt(guid).map_or("unknown type", |(_, meaning, ..)| meaning),
            Self::Apm(name) => apm(name),
            Self::Whole => "no table",
        }
    }

    /// Whether it is the partition that UEFI firmware starts from.
    pub fn is_efi(&self) -> bool {
        match self {
            Self::Mbr(byte) => *byte == 0xef,
            Self::Gpt(guid) => *guid == known(EFI_SYSTEM),
            Self::Apm(_) | Self::Whole => false,
        }
    }

    /// What it is there for.
    pub fn role(&self) -> Role {
        match self {
            Self::Mbr(0xef | 0x41 | 0xea) => Role::Firmware,
            Self::Mbr(0x27 | 0x12 | 0xde) => Role::Recovery,
            Self::Mbr(0x82) => Role::Swap,
            Self::Gpt(guid) => gpt(guid).map_or(Role::Data, |(_, _, role, _)| *role),
            Self::Mbr(_) | Self::Apm(_) | Self::Whole => Role::Data,
        }
    }

    /// Whether an Apple map says with it that nothing is there.
    pub fn is_free(&self) -> bool {
        matches!(self, Self::Apm(name) if name == "Apple_Free")
    }
}

/// What a partition is there for, by its type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Whatever its owner keeps in it, the system among that.
    Data,
    /// Firmware starts from it, or a loader that it started.
    Firmware,
    /// Room for a loader on firmware of the old kind, on a table of the new kind.
    BiosBoot,
    /// Room that a system keeps for itself on a table of the new kind.
    Reserved,
    /// A system, or its maker, repairs or resets it from there.
    Recovery,
    /// Memory that was laid aside.
    Swap,
}

impl Role {
    /// Whether it is there for a system's own ends, so that its size is nobody's concern.
    pub fn is_fixed(self) -> bool {
        self != Self::Data
    }

    /// Whether a table of the old kind has no use for it.
    pub fn needs_gpt(self) -> bool {
        matches!(self, Self::Reserved | Self::BiosBoot)
    }
}

/// Whether an MBR type says that a chain of logical partitions hangs below.
pub fn is_extended(code: u8) -> bool {
    matches!(code, 0x05 | 0x0f | 0x85)
}

fn mbr(code: u8) -> &'static str {
    match code {
        0x00 => "unused",
        0x01 => "FAT12",
        0x04 | 0x06 => "FAT16",
        0x0e => "FAT16, LBA",
        0x05 => "extended",
        0x0f => "extended, LBA",
        0x85 => "extended, Linux",
        0x07 => "NTFS or exFAT",
        0x0b => "FAT32",
        0x0c => "FAT32, LBA",
        0x11 => "FAT12, hidden",
        0x14 | 0x16 => "FAT16, hidden",
        0x17 => "NTFS, hidden",
        0x1b => "FAT32, hidden",
        0x1c => "FAT32, LBA, hidden",
        0x1e => "FAT16, LBA, hidden",
        0x12 => "maker's recovery",
        0x27 => "Windows recovery",
        0x39 => "Plan 9",
        0x41 => "PReP boot",
        0x42 => "Windows dynamic disk",
        0x63 => "Unix System V",
        0x64 | 0x65 => "NetWare",
        0x80 | 0x81 => "Minix",
        0x82 => "Linux swap",
        0x83 => "Linux",
        0x84 => "hibernation",
        0x86 | 0x87 => "NTFS volume set",
        0x88 => "Linux plain text",
        0x8e => "Linux LVM",
        0xa5 => "FreeBSD",
        0xa6 => "OpenBSD",
        0xa8 => "Apple UFS",
        0xa9 => "NetBSD",
        0xab => "Apple boot",
        0xaf => "HFS or HFS+",
        0xbe => "Solaris boot",
        0xbf => "Solaris",
        0xda => "data without a file system",
        0xde => "maker's diagnostics",
        0xe8 => "LUKS",
        0xea => "boot loader specification",
        0xeb => "BeOS",
        0xee => "protective (GPT)",
        0xef => "EFI system",
        0xfb => "virtual machine file system",
        0xfd => "Linux RAID",
        _ => "unknown type",
    }
}

/// GPT types: what each stands for, what it is for, and the MBR type of the same meaning, 0 where that goes by what is in it. The
/// table is searched from the top, the most frequent first.
const GPT: &[(&str, &str, Role, u8)] = &[
    (EFI_SYSTEM, "EFI system", Role::Firmware, 0xef),
    ("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", "basic data", Role::Data, 0),
    ("E3C9E316-0B5C-4DB8-817D-F92DF00215AE", "Microsoft reserved", Role::Reserved, 0),
    ("DE94BBA4-06D1-4D40-A16A-BFD50179D6AC", "Windows recovery", Role::Recovery, 0x27),
    ("0FC63DAF-8483-4772-8E79-3D69D8477DE4", "Linux data", Role::Data, 0x83),
    ("4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709", "Linux root, x86-64", Role::Data, 0x83),
    ("44479540-F297-41B2-9AF7-D131D5F0458A", "Linux root, x86", Role::Data, 0x83),
    ("B921B045-1DF0-41C3-AF44-4C6F280D3FAE", "Linux root, ARM 64", Role::Data, 0x83),
    ("69DAD710-2CE4-4E3C-B16C-21A1D49ABED3", "Linux root, ARM 32", Role::Data, 0x83),
    ("72EC70A6-CF74-40E6-BD49-4BDA08E8F224", "Linux root, RISC-V 64", Role::Data, 0x83),
    ("8484680C-9521-48C6-9C11-B0720656F69E", "Linux /usr, x86-64", Role::Data, 0x83),
    ("933AC7E1-2EB4-4F13-B844-0E14E2AEF915", "Linux home", Role::Data, 0x83),
    ("3B8F8425-20E0-4F3B-907F-1A25A76F98E8", "Linux server data", Role::Data, 0x83),
    ("4D21B016-B534-45C2-A9FB-5C16E091FD2D", "Linux variable data", Role::Data, 0x83),
    ("7EC6F557-3BC5-4ACA-B293-16EF5DF639D1", "Linux temporary data", Role::Data, 0x83),
    ("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F", "Linux swap", Role::Swap, 0x82),
    ("A19D880F-05FC-4D3B-A006-743F0F84911E", "Linux RAID", Role::Data, 0xfd),
    ("E6D6D379-F507-44C2-A23C-238F2A3DF928", "Linux LVM", Role::Data, 0x8e),
    ("CA7D7CCB-63ED-4C53-861C-1742536059CC", "LUKS", Role::Data, 0xe8),
    ("7FFEC5C9-2D00-49B7-8941-3EA10A5586B7", "Linux plain encryption", Role::Data, 0x83),
    ("BC13C2FF-59E6-4262-A352-B275FD6F7172", "extended boot loader", Role::Firmware, 0xea),
    ("8DA63339-0007-60C0-C436-083AC8230908", "Linux reserved", Role::Data, 0x83),
    ("21686148-6449-6E6F-744E-656564454649", "BIOS boot", Role::BiosBoot, 0),
    ("024DEE41-33E7-11D3-9D69-0008C781F39F", "MBR partition scheme", Role::Data, 0),
    ("5808C8AA-7E8F-42E0-85D2-E1E90434CFB3", "Windows dynamic metadata", Role::Data, 0),
    ("AF9B60A0-1431-4F62-BC68-3311714A69AD", "Windows dynamic data", Role::Data, 0),
    ("E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D", "Windows storage space", Role::Data, 0),
    ("558D43C5-A1AC-43C0-AAC8-D1472B2923D1", "Windows storage replica", Role::Data, 0),
    ("37AFFC90-EF7D-4E96-91C3-2D7AE055B174", "parallel file system", Role::Data, 0),
    ("48465300-0000-11AA-AA11-00306543ECAC", "HFS+", Role::Data, 0xaf),
    ("7C3457EF-0000-11AA-AA11-00306543ECAC", "APFS", Role::Data, 0xaf),
    ("69646961-6700-11AA-AA11-00306543ECAC", "APFS start-up", Role::Data, 0),
    ("52637672-7900-11AA-AA11-00306543ECAC", "APFS recovery", Role::Data, 0),
    ("55465300-0000-11AA-AA11-00306543ECAC", "Apple UFS", Role::Data, 0),
    ("52414944-0000-11AA-AA11-00306543ECAC", "Apple RAID", Role::Data, 0),
    ("52414944-5F4F-11AA-AA11-00306543ECAC", "Apple RAID, offline", Role::Data, 0),
    ("426F6F74-0000-11AA-AA11-00306543ECAC", "Apple boot", Role::Data, 0xab),
    ("4C616265-6C00-11AA-AA11-00306543ECAC", "Apple label", Role::Data, 0),
    ("53746F72-6167-11AA-AA11-00306543ECAC", "Apple volume group", Role::Data, 0),
    ("83BD6B9D-7F41-11DC-BE0B-001560B84F0F", "FreeBSD boot", Role::Data, 0),
    ("516E7CB4-6ECF-11D6-8FF8-00022D09712B", "FreeBSD data", Role::Data, 0xa5),
    ("516E7CB5-6ECF-11D6-8FF8-00022D09712B", "FreeBSD swap", Role::Data, 0),
    ("516E7CB6-6ECF-11D6-8FF8-00022D09712B", "FreeBSD UFS", Role::Data, 0),
    ("516E7CBA-6ECF-11D6-8FF8-00022D09712B", "FreeBSD ZFS", Role::Data, 0),
    ("824CC7A0-36A8-11E3-890A-952519AD3F61", "OpenBSD data", Role::Data, 0xa6),
    ("49F48D32-B10E-11DC-B99B-0019D1879648", "NetBSD swap", Role::Data, 0),
    ("49F48D5A-B10E-11DC-B99B-0019D1879648", "NetBSD FFS", Role::Data, 0),
    ("6A898CC3-1DD2-11B2-99A6-080020736631", "Solaris /usr or ZFS", Role::Data, 0),
    ("6A85CF4D-1DD2-11B2-99A6-080020736631", "Solaris root", Role::Data, 0),
    ("6A82CB45-1DD2-11B2-99A6-080020736631", "Solaris boot", Role::Data, 0),
    ("9E1A2D38-C612-4316-AA26-8B49521E5A8B", "PReP boot", Role::Firmware, 0x41),
    ("FE3A2A5D-4F32-41A7-B725-ACCC3285A309", "ChromeOS kernel", Role::Data, 0),
    ("3CB8E202-3B7E-47DD-8A3C-7FF2A13CFCEC", "ChromeOS root", Role::Data, 0),
    ("42465331-3BA3-10F1-802A-4861696B7521", "Haiku BFS", Role::Data, 0),
];

fn gpt(guid: &Guid) -> Option<&'static (&'static str, &'static str, Role, u8)> {
    GPT.iter().find(|(text, ..)| Guid::parse(text).as_ref() == Some(guid))
}

/// The type of the partition that UEFI firmware starts from.
const EFI_SYSTEM: &str = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B";
/// The type of every volume that has none of its own.
const BASIC_DATA: &str = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7";

fn known(text: &str) -> Guid {
    Guid::parse(text).unwrap_or_default()
}

/// Hidden from systems, and without a drive letter: attribute bits of a GPT entry.
const HIDDEN: u64 = 1 << 62;
const NO_LETTER: u64 = 1 << 63;
/// The platform needs it: another attribute bit.
const REQUIRED: u64 = 1;

/// The type of the partition that UEFI firmware starts from.
pub(crate) fn efi_system() -> Guid {
    known(EFI_SYSTEM)
}

/// The GPT type, and the attribute bits, that mean what an MBR type means.
pub fn gpt_of(code: u8) -> (Guid, u64) {
    let data = BASIC_DATA;
    let (text, attributes) = match code {
        0xef => (EFI_SYSTEM, 0),
        0x27 => ("DE94BBA4-06D1-4D40-A16A-BFD50179D6AC", REQUIRED | NO_LETTER),
        0x12 | 0xde => (data, HIDDEN | NO_LETTER),
        0x11 | 0x14 | 0x16 | 0x17 | 0x1b | 0x1c | 0x1e => (data, HIDDEN),
        0x82 => ("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F", 0),
        0x83 => ("0FC63DAF-8483-4772-8E79-3D69D8477DE4", 0),
        0x8e => ("E6D6D379-F507-44C2-A23C-238F2A3DF928", 0),
        0xfd => ("A19D880F-05FC-4D3B-A006-743F0F84911E", 0),
        0xe8 => ("CA7D7CCB-63ED-4C53-861C-1742536059CC", 0),
        0xea => ("BC13C2FF-59E6-4262-A352-B275FD6F7172", 0),
        0x41 => ("9E1A2D38-C612-4316-AA26-8B49521E5A8B", 0),
        0xa5 => ("516E7CB4-6ECF-11D6-8FF8-00022D09712B", 0),
        0xa6 => ("824CC7A0-36A8-11E3-890A-952519AD3F61", 0),
        0xaf => ("48465300-0000-11AA-AA11-00306543ECAC", 0),
        0xab => ("426F6F74-0000-11AA-AA11-00306543ECAC", 0),
        _ => (data, 0),
    };
    (known(text), attributes)
}

/// The MBR type that means what a GPT type means; `content` is the type by what is in the partition, 0 where nobody knows.
pub fn mbr_of(guid: &Guid, content: u8, attributes: u64) -> u8 {
    match gpt(guid).map(|(_, _, _, code)| *code) {
        Some(code) if code != 0 => code,
        _ if *guid == known(BASIC_DATA) && attributes & HIDDEN != 0 && matches!(content, 0x01 | 0x04 | 0x06 | 0x07 | 0x0b | 0x0c | 0x0e) => {
            content | 0x10
        }
        _ if content != 0 => content,
        _ => 0xda,
    }
}

fn apm(name: &str) -> &'static str {
    match name {
        "Apple_partition_map" => "the map itself",
        "Apple_HFS" => "HFS or HFS+",
        "Apple_HFSX" => "HFS+, case-sensitive",
        "Apple_APFS" => "APFS",
        "Apple_Free" => "free",
        "Apple_Boot" => "Apple boot",
        "Apple_UFS" => "Apple UFS",
        "Apple_Driver" | "Apple_Driver43" | "Apple_Driver_ATA" | "Apple_Driver_IOKit" | "Apple_Patches" | "Apple_FWDriver" => "driver",
        _ => "unknown type",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_gpt_type_is_well_written_and_there_once() {
        for (at, (text, meaning, ..)) in GPT.iter().enumerate() {
            let guid = Guid::parse(text).unwrap();
            assert_eq!(&guid.to_string(), text);
            assert_eq!(TypeCode::Gpt(guid).meaning(), *meaning);
            assert!(GPT[..at].iter().all(|(other, ..)| other != text), "{text} twice");
        }
        assert!(TypeCode::Gpt(Guid::parse(GPT[0].0).unwrap()).is_efi());
        assert_eq!(TypeCode::Mbr(0x07).code(), "0x07");
    }

    #[test]
    fn types_keep_their_sense_both_ways() {
        let codes = [0x07u8, 0x0c, 0x0e, 0x01, 0x17, 0x1c, 0x27, 0x82, 0x83, 0x8e, 0xfd, 0xef, 0xe8, 0xea, 0x41, 0xa5, 0xa6, 0xaf, 0xab];
        for code in codes {
            let (guid, attributes) = gpt_of(code);
            assert!(gpt(&guid).is_some(), "{code:02x}");
            // What is in the partition tells which of several data types it was.
            assert_eq!(mbr_of(&guid, code & !0x10, attributes), code, "{code:02x}");
        }
        assert_eq!(mbr_of(&Guid([7; 16]), 0, 0), 0xda);
    }
}
