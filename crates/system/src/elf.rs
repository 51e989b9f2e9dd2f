//! Programs, libraries and kernel modules of Linux: what an ELF file says of itself (System V ABI, "Object Files"; Linux: `modinfo`).

use badger_drive::field::{le16, le32, le64};

/// So many sections or segments are looked at, and libraries that one file needs.
const MOST_HEADS: usize = 512;
const MOST_NEEDED: usize = 256;
/// Folders that one file names, and bytes of a name.
const MOST_FOLDERS: usize = 16;
const MOST_NAME: usize = 256;

/// An ELF file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Elf {
    /// Number of the processor (`e_machine`).
    pub machine: u16,
    /// 64 bits, not 32.
    pub is_wide: bool,
    /// The program that loads it; empty where it needs none.
    pub interpreter: String,
    /// Libraries that it needs, by name.
    pub needed: Vec<String>,
    /// Folders that are searched for these first, as they stand there.
    pub folders: Vec<String>,
    /// Of a kernel module: version and options of the kernel that it was made for.
    pub vermagic: String,
}

/// The word for a processor.
pub(crate) fn processor(machine: u16) -> String {
    match machine {
        3 => "x86 of 32 bits".into(),
        40 => "ARM of 32 bits".into(),
        62 => "x86-64".into(),
        183 => "ARM of 64 bits".into(),
        243 => "RISC-V".into(),
        other => format!("processor type {other}"),
    }
}

/// Bytes of a text at most; a longer one is none.
const MOST_TEXT: usize = 4096;

fn text(bytes: &[u8], at: usize) -> String {
    let rest = bytes.get(at..).unwrap_or_default();
    String::from_utf8_lossy(&rest[..rest.iter().take(MOST_TEXT).position(|byte| *byte == 0).unwrap_or(0)]).into_owned()
}

impl Elf {
    /// Reads a whole file.
    ///
    /// # Errors
    /// Why it is none, or where it is cut off.
    pub(crate) fn read(bytes: &[u8]) -> Result<Self, String> {
        if bytes.is_empty() {
            return Err("it is empty".into());
        }
        if !bytes.starts_with(b"\x7fELF") {
            return Err("it is no ELF program".into());
        }
        let is_wide = match bytes.get(4..6) {
            Some([2, 1]) => true,
            Some([1, 1]) => false,
            _ => return Err("its head is damaged, or it is for a processor with the bytes the other way round".into()),
        };
        let head = bytes.get(..if is_wide { 64 } else { 52 }).ok_or("it is cut off")?;
        let number = |bytes: &[u8], wide: usize, narrow: usize| -> u64 { if is_wide { le64(bytes, wide) } else { u64::from(le32(bytes, narrow)) } };
        let half = |wide: usize, narrow: usize| usize::from(le16(head, if is_wide { wide } else { narrow }));
        let mut out = Self { machine: le16(head, 18), is_wide, ..Self::default() };
        let (segments, sections) = (number(head, 32, 28), number(head, 40, 32));
        let (segment, segment_count) = (half(54, 42), half(56, 44));
        let (section, section_count) = (half(58, 46), half(60, 48));
        let rows = |from: u64, size: usize, count: usize, least: usize| -> Result<Vec<&[u8]>, String> {
            let rows = (0..count.min(MOST_HEADS)).map(|at| {
                let start = usize::try_from(from).ok()?.checked_add(at * size)?;
                bytes.get(start..start.checked_add(size)?).filter(|row| row.len() >= least)
            });
            rows.collect::<Option<_>>().ok_or_else(|| "it is cut off".into())
        };
        let within = |from: u64, len: u64| -> Result<&[u8], String> {
            let range = usize::try_from(from).ok().zip(usize::try_from(len).ok()).and_then(|(from, len)| bytes.get(from..from.checked_add(len)?));
            range.ok_or_else(|| "it is cut off".into())
        };
        let (mut loaded, mut dynamic) = (Vec::new(), &[][..]);
        for row in rows(segments, segment, segment_count, if is_wide { 56 } else { 32 })? {
            let (from, to, len) = (number(row, 8, 4), number(row, 16, 8), number(row, 32, 16));
            match le32(row, 0) {
                1 => {
                    within(from, len)?;
                    loaded.push((from, to, len));
                }
                2 => dynamic = within(from, len)?,
                3 => out.interpreter = text(within(from, len)?, 0),
                _ => {}
            }
        }
        out.of_dynamic(bytes, dynamic, &loaded);
        // A stripped file may be without sections; those of a module say what it is for.
        if le16(head, 16) == 1 {
            for row in rows(sections, section, section_count, if is_wide { 64 } else { 40 })? {
                let (from, len) = (number(row, 24, 16), number(row, 32, 20));
                // Not in the file: `NOBITS`.
                if le32(row, 4) == 8 {
                    continue;
                }
                let inner = within(from, len)?;
                if let Some(at) = memchr::memmem::find(inner, b"vermagic=").filter(|at| *at == 0 || inner[at - 1] == 0) {
                    out.vermagic = text(inner, at + 9);
                }
            }
        }
        Ok(out)
    }

    /// Libraries and folders out of the dynamic section.
    fn of_dynamic(&mut self, bytes: &[u8], dynamic: &[u8], loaded: &[(u64, u64, u64)]) {
        let size = if self.is_wide { 16 } else { 8 };
        let pairs: Vec<(u64, u64)> = dynamic
            .chunks_exact(size)
            .map(|pair| if self.is_wide { (le64(pair, 0), le64(pair, 8)) } else { (le32(pair, 0).into(), le32(pair, 4).into()) })
            .take_while(|(tag, _)| *tag != 0)
            .collect();
        // Names are in the file where a segment puts the address of their table.
        let address = pairs.iter().find(|(tag, _)| *tag == 5).map_or(0, |(_, value)| *value);
        let table = loaded.iter().find(|(_, to, len)| (*to..to.saturating_add(*len)).contains(&address)).map(|(from, to, _)| address - to + from);
        let Some(table) = table else { return };
        let place = |at: u64| text(bytes, usize::try_from(table.saturating_add(at)).unwrap_or(usize::MAX));
        let needed = pairs.iter().filter(|(tag, _)| *tag == 1).take(MOST_NEEDED).map(|(_, value)| place(*value));
        self.needed = needed.filter(|name| name.len() <= MOST_NAME).collect();
        let folders = pairs.iter().filter(|(tag, _)| matches!(tag, 15 | 29)).take(MOST_FOLDERS).map(|(_, value)| place(*value));
        self.folders = folders
            .flat_map(|folders| folders.split(':').map(str::to_string).collect::<Vec<_>>())
            .filter(|one| !one.is_empty())
            .take(MOST_FOLDERS)
            .collect();
    }

    /// Bytes of its names.
    pub(crate) fn named(&self) -> usize {
        let names = self.needed.iter().chain(&self.folders).chain([&self.interpreter, &self.vermagic]);
        names.map(|name| name.len() + size_of::<String>()).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Judged by what runs here.
    #[test]
    fn programs_and_libraries_of_this_system_are_read() {
        let shell = std::fs::read("/bin/sh").unwrap();
        let elf = Elf::read(&shell).unwrap();
        assert!(elf.interpreter.contains("ld-linux") && elf.needed.iter().any(|name| name.starts_with("libc.so")), "{elf:?}");
        assert_eq!(Elf::read(&shell[..shell.len() / 2]), Err("it is cut off".into()));
        let library = std::fs::read(std::fs::canonicalize("/lib64/ld-linux-x86-64.so.2").unwrap()).unwrap();
        assert_eq!(Elf::read(&library).unwrap().machine, elf.machine);
    }

    #[test]
    fn any_bytes_are_survived() {
        let shell = std::fs::read("/bin/sh").unwrap();
        let mut seed = 1u64;
        for _ in 0..3000 {
            let mut bytes = shell.clone();
            for _ in 0..6 {
                seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                // The heads, where the numbers are.
                bytes[(seed >> 33) as usize % 900] = (seed >> 20) as u8;
            }
            let _ = Elf::read(&bytes);
        }
    }
}
