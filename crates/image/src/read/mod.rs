//! The formats: how each is told, and how it is opened.

mod qcow2;
mod vdi;
mod vhd;
mod vhdx;
mod vhdx_log;
mod vmdk;

use crate::layer::Result;
use crate::parts::{Format, Opened};
use badger_drive::field::le32;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;

/// Bytes in front by which formats are told.
const HEAD: usize = 4096;

/// Which container a file is; `None` where it is none that is known.
pub(crate) fn format_of(path: &Path) -> io::Result<Option<Format>> {
    if !std::fs::metadata(path)?.is_file() {
        return Ok(None);
    }
    let file = File::open(path)?;
    let len = file.metadata()?.len();
    let mut head = vec![0; HEAD.min(len as usize)];
    file.read_exact_at(&mut head, 0)?;
    let begins = |mark: &[u8]| head.starts_with(mark);
    Ok(match () {
        () if begins(b"QFI\xfb") => Some(Format::Qcow2),
        () if begins(b"vhdxfile") => Some(Format::Vhdx),
        () if begins(b"KDMV") || vmdk::is_descriptor(&head) => Some(Format::Vmdk),
        () if le32(&head, 64) == vdi::SIGNATURE && head.len() > 512 => Some(Format::Vdi),
        () if begins(b"conectix") || vhd::ends_with_footer(&file, len) => Some(Format::Vhd),
        () => None,
    })
}

/// Opens a container of that format. `snapshot` names a state that was kept in it.
pub(crate) fn open(format: Format, path: &Path, snapshot: Option<&str>) -> Result<Opened> {
    if let (true, Some(name)) = (format != Format::Qcow2, snapshot) {
        return Err(crate::layer::Wrong::new(format!("it keeps no state named {name}: {} has none", format.word())));
    }
    match format {
        Format::Qcow2 => qcow2::open(path, snapshot),
        Format::Vhd => vhd::open(path),
        Format::Vhdx => vhdx::open(path),
        Format::Vmdk => vmdk::open(path),
        Format::Vdi => vdi::open(path),
        Format::Raw => Err(crate::layer::Wrong::new("a raw drive is no container")),
    }
}
