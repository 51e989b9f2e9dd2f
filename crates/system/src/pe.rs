//! Programs for firmware: what a PE file says of itself (Microsoft's published "PE format").

use badger_drive::field::{le16, le32};
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

    /// What is in a section.
    pub fn section<'a>(&self, bytes: &'a [u8], name: &str) -> Option<&'a [u8]> {
        let (_, range) = self.sections.iter().find(|(other, _)| other == name)?;
        bytes.get(range.clone())
    }
}
