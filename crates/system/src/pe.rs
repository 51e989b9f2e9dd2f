//! Programs for firmware: what a PE file says of itself (Microsoft's published "PE format").

use badger_drive::field::{le16, le32};
use sha2::{Digest, Sha256};
use std::ops::Range;

/// A processor that a program is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Machine {
    /// x86 of 64 bits.
    X64,
    /// x86 of 32 bits.
    X86,
    /// ARM of 64 bits.
    Arm64,
    /// Another one, by its number.
    Other(u16),
}

impl Machine {
    /// The word for it.
    pub fn word(self) -> String {
        match self {
            Self::X64 => "x86-64".into(),
            Self::X86 => "x86 of 32 bits".into(),
            Self::Arm64 => "ARM of 64 bits".into(),
            Self::Other(number) => format!("processor type {number:#06x}"),
        }
    }
}

/// What a program does at a start, told by what its maker put into its sections.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LoaderKind {
    /// shim: checks the signature of the loader beside it, and starts that.
    Shim,
    /// Comes with shim and starts no system by itself (`fbx64.efi`, `mmx64.efi`).
    ShimHelper,
    /// GRUB.
    Grub,
    /// systemd-boot.
    SystemdBoot,
    /// A unified kernel image (UAPI group, "Unified Kernel Image").
    UnifiedKernel,
    /// The Windows Boot Manager.
    WindowsBootManager,
    /// Something else, or a program that does not say.
    Unknown,
}

/// A program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Program {
    /// Its processor.
    pub machine: Machine,
    /// Whether firmware takes it for an application.
    pub is_for_firmware: bool,
    /// Whether it carries signatures. Who signed is not looked at.
    pub is_signed: bool,
    /// Its sections: names, and where in the file.
    pub sections: Vec<(String, Range<usize>)>,
}

impl Program {
    /// Reads a whole file.
    ///
    /// # Errors
    /// Why it is none, or where it is cut off.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        let at = le32(bytes, 0x3c) as usize;
        let head = bytes.get(at..).filter(|head| bytes.starts_with(b"MZ") && head.starts_with(b"PE\0\0")).ok_or("it is no program")?;
        let machine = match le16(head, 4) {
            0x8664 => Machine::X64,
            0x014c => Machine::X86,
            0xaa64 => Machine::Arm64,
            other => Machine::Other(other),
        };
        let (count, optional) = (usize::from(le16(head, 6)), usize::from(le16(head, 20)));
        let subsystem = le16(head, 24 + 68);
        let directories = match le16(head, 24) {
            0x20b => 24 + 112,
            0x10b => 24 + 96,
            _ => return Err("its head is damaged".into()),
        };
        let signatures = (le32(head, directories + 4 * 8) as usize, le32(head, directories + 4 * 8 + 4) as usize);
        let table = head.get(24 + optional..).unwrap_or_default();
        let mut sections = Vec::new();
        for section in table.chunks_exact(40).take(count) {
            let name: String = section[..8].iter().take_while(|byte| **byte != 0).map(|byte| char::from(*byte)).collect();
            let (virtual_len, len, from) = (le32(section, 8) as usize, le32(section, 16) as usize, le32(section, 20) as usize);
            let range = from..from.saturating_add(len);
            if len > 0 && range.end > bytes.len() {
                return Err(format!("it is cut off: section {name} ends at byte {}, and it has {}", range.end, bytes.len()));
            }
            let inner = if virtual_len > 0 { range.start..range.start.saturating_add(virtual_len.min(len)) } else { range };
            sections.push((name, inner));
        }
        if sections.len() < count {
            return Err("it is cut off within its table of sections".into());
        }
        if signatures.1 > 0 && signatures.0.saturating_add(signatures.1) > bytes.len() {
            return Err("it is cut off within its signatures".into());
        }
        Ok(Self { machine, is_for_firmware: (10..=13).contains(&subsystem), is_signed: signatures.1 > 0, sections })
    }

    /// What it does at a start. Words elsewhere in a program say nothing: systemd-boot has the Windows loader's name in it, and a signed GRUB
    /// that of shim. Read are GRUB's modules (`mods`), the marks that shim and systemd-boot carry in a section of their own, the product
    /// in `.sbat` ("SBAT" of the shim project), and the version resource in `.rsrc` ("VERSIONINFO" of the PE format).
    pub fn kind(&self, bytes: &[u8]) -> LoaderKind {
        let marked = |mark: &[u8]| self.sections.iter().any(|(_, range)| bytes.get(range.clone()).is_some_and(|inner| inner.starts_with(mark)));
        let original: Vec<u8> = "bootmgfw.efi".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let is_manager = || self.section(bytes, ".rsrc").is_some_and(|resources| memchr::memmem::find(resources, &original).is_some());
        match () {
            () if self.section(bytes, ".linux").is_some() => LoaderKind::UnifiedKernel,
            () if marked(b"UEFI SHIM\n") => LoaderKind::Shim,
            () if self.section(bytes, "mods").is_some_and(|mods| mods.starts_with(b"mimg")) => LoaderKind::Grub,
            () if marked(b"#### LoaderInfo: systemd-boot") => LoaderKind::SystemdBoot,
            () => match self.section(bytes, ".sbat").and_then(product) {
                Some(b"shim") => LoaderKind::ShimHelper,
                Some(b"grub") => LoaderKind::Grub,
                Some(b"systemd-boot") => LoaderKind::SystemdBoot,
                _ if is_manager() => LoaderKind::WindowsBootManager,
                _ => LoaderKind::Unknown,
            },
        }
    }

    /// Whether its bytes are those that were signed, by the hash in its signature (Microsoft, "Windows Authenticode Portable Executable Signature
    /// Format"); `None` where it has none of a kind that is known here. Who signed is not looked at.
    pub fn is_as_signed(&self, bytes: &[u8]) -> Option<bool> {
        let head = le32(bytes, 0x3c) as usize;
        let directories = match le16(bytes, head + 24) {
            0x20b => head + 24 + 112,
            _ => head + 24 + 96,
        };
        let entry = directories + 4 * 8;
        let (from, len) = (le32(bytes, entry) as usize, le32(bytes, entry + 4) as usize);
        let signature = bytes.get(from..from.checked_add(len)?).filter(|_| len > 0)?;
        let hashed = [0..head + 24 + 64, head + 24 + 68..entry, entry + 8..from, from + len..bytes.len()];
        let mut hash = Sha256::new();
        for range in hashed {
            hash.update(bytes.get(range)?);
        }
        // Signers fill up to a multiple of eight bytes.
        let behind = bytes.len() - (from + len);
        hash.update(&[0; 8][..(8 - (from + behind) % 8) % 8]);
        let hash = hash.finalize();
        // `SpcIndirectDataContent`, and not far behind it `DigestInfo` of SHA-256: the algorithm, no parameters, 32 bytes. Other digests are passed over.
        const CONTENT: [u8; 10] = [0x2b, 6, 1, 4, 1, 0x82, 0x37, 2, 1, 4];
        const SHA256: [u8; 13] = [0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 1, 5, 0, 4, 32];
        let content = &signature[memchr::memmem::find(signature, &CONTENT)?..];
        let digest = memchr::memmem::find(&content[..content.len().min(256)], &SHA256)? + SHA256.len();
        content.get(digest..digest + 32).map(|signed| signed == hash.as_slice())
    }

    /// What is in a section.
    pub fn section<'a>(&self, bytes: &'a [u8], name: &str) -> Option<&'a [u8]> {
        let (_, range) = self.sections.iter().find(|(other, _)| other == name)?;
        bytes.get(range.clone())
    }
}

/// The product in `.sbat`: the first field of its second line; the first line is that of the list itself.
fn product(sbat: &[u8]) -> Option<&[u8]> {
    let line = sbat.split(|byte| *byte == b'\n').find(|line| !line.starts_with(b"sbat,"))?;
    line.split(|byte| *byte == b',').next()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Judged by what the distribution packages.
    #[rstest]
    #[case::shim("/usr/lib/shim/shimx64.efi", LoaderKind::Shim)]
    #[case::fallback_of_shim("/usr/lib/shim/fbx64.efi", LoaderKind::ShimHelper)]
    #[case::keys_of_shim("/usr/lib/shim/mmx64.efi", LoaderKind::ShimHelper)]
    #[case::grub("/usr/lib/grub/x86_64-efi/monolithic/grubx64.efi", LoaderKind::Grub)]
    #[case::signed_grub("/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", LoaderKind::Grub)]
    #[case::systemd_boot("/usr/lib/systemd/boot/efi/systemd-bootx64.efi", LoaderKind::SystemdBoot)]
    #[case::a_stub_without_a_kernel("/usr/lib/systemd/boot/efi/linuxx64.efi.stub", LoaderKind::Unknown)]
    fn loaders_are_known_by_their_sections(#[case] path: &str, #[case] kind: LoaderKind) {
        let bytes = std::fs::read(path).unwrap();
        assert_eq!(Program::read(&bytes).unwrap().kind(&bytes), kind);
    }

    #[rstest]
    #[case("/usr/lib/grub/x86_64-efi-signed/gcdx64.efi.signed")]
    #[case("/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed")]
    fn a_flipped_bit_is_seen_by_the_signature(#[case] path: &str) {
        let mut bytes = std::fs::read(path).unwrap();
        let program = Program::read(&bytes).unwrap();
        assert_eq!(program.is_as_signed(&bytes), Some(true));
        for at in [600, bytes.len() / 2] {
            bytes[at] ^= 4;
            assert_eq!(program.is_as_signed(&bytes), Some(false), "{at}");
            bytes[at] ^= 4;
        }
    }
}
