//! Linux kernels: version, processor, and whether they are whole (Linux: `Documentation/arch/x86/boot.rst`).

use crate::archive;
use crate::pe::{Machine, Program};
use badger_drive::field::{le16, le32};

/// What is known of a kernel.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Kernel {
    /// Its version, as the folder of its modules is called; empty where that is not known.
    pub version: String,
    /// What its wholeness rests on.
    pub proof: String,
    /// Whether that compares every byte, not only parts.
    pub is_whole: bool,
    /// Number of the processor, as in ELF files; 0 where that is not known.
    pub processor: u16,
}

/// Processors of programs for firmware as ELF files number them.
pub(crate) fn processor_of(machine: Machine) -> u16 {
    match machine {
        Machine::X64 => 62,
        Machine::X86 => 3,
        Machine::Arm64 => 183,
        Machine::Other(_) => 0,
    }
}

/// What an ARM kernel carries where its head says so ("Documentation/arch/arm64/booting.rst").
const ARM64: &[u8] = b"ARMd";

/// Looks at a whole file.
///
/// # Errors
/// Where it is damaged, or no kernel.
pub(crate) fn read(bytes: &[u8]) -> Result<Kernel, String> {
    let program = Program::read(bytes);
    let signed = program.as_ref().ok().and_then(|program| program.is_as_signed(bytes));
    if signed == Some(false) {
        return Err("its bytes are not those that were signed: it is damaged".into());
    }
    if bytes.get(0x202..0x206) != Some(b"HdrS") {
        let program = program.map_err(|why| if bytes.get(56..60) == Some(ARM64) { "its head is damaged".into() } else { why })?;
        let proof = if signed.is_some() { "its bytes are those that were signed" } else { "its inside was not looked at" };
        return Ok(Kernel { processor: processor_of(program.machine), proof: proof.into(), is_whole: signed.is_some(), ..Kernel::default() });
    }
    let setup = match bytes[0x1f1] {
        0 => 4,
        sectors => usize::from(sectors),
    };
    let protocol = le16(bytes, 0x206);
    let start = (setup + 1) * 512;
    let need = start + le32(bytes, 0x1f4) as usize * 16;
    if bytes.len() < need {
        return Err(format!("it is cut off: {need} bytes are needed, and it has {}", bytes.len()));
    }
    let at = usize::from(le16(bytes, 0x20e)) + 0x200;
    let version: String = bytes.get(at..).unwrap_or_default().iter().take(200).take_while(|byte| **byte != 0).map(|byte| char::from(*byte)).collect();
    let version = version.split(' ').next().unwrap_or_default().to_string();
    // Before protocol 2.12 nothing says that it runs 64 bits; then its program for firmware may.
    let is_wide = if protocol >= 0x20c { Some(le16(bytes, 0x236) & 1 != 0) } else { program.ok().map(|program| program.machine == Machine::X64) };
    let processor = is_wide.map_or(0, |is_wide| if is_wide { 62 } else { 3 });
    let kernel = |proof: &str, is_whole| Ok(Kernel { version: version.clone(), proof: proof.into(), is_whole, processor });
    if signed.is_some() {
        return kernel("its bytes are those that were signed", true);
    }
    // Over all of it, its own place among them. Signing changes the head, and the newest kernels have none.
    let mut sum = flate2::Crc::new();
    sum.update(&bytes[..need]);
    if sum.sum() == u32::MAX {
        return kernel("its own checksum holds", true);
    }
    if protocol < 0x208 {
        return kernel("its inside was not looked at", false);
    }
    let (from, len) = (le32(bytes, 0x248) as usize, le32(bytes, 0x24c) as usize);
    let payload = start.checked_add(from).and_then(|from| bytes.get(from..from.checked_add(len)?)).filter(|payload| payload.len() > 8);
    let payload = payload.ok_or("the packed kernel is not where its head says: it is damaged")?;
    match unpacked(payload) {
        Payload::Whole => kernel("the packed kernel in it unpacks to an ELF program", false),
        Payload::Unread(packing) => kernel(&format!("the packed kernel in it was not unpacked ({packing})"), false),
        Payload::Wrong(why) => Err(format!("the packed kernel in it {why}: it is damaged")),
    }
}

enum Payload {
    Whole,
    Unread(&'static str),
    Wrong(String),
}

/// Unpacks what a kernel carries. All but gzip have their length behind them.
fn unpacked(payload: &[u8]) -> Payload {
    let packed = match payload {
        [0x1f, 0x8b, ..] => payload,
        _ => &payload[..payload.len() - 4],
    };
    let wanted = (packed.len() < payload.len()).then(|| le32(payload, payload.len() - 4) as usize);
    match archive::unpacked(packed) {
        Ok(None) => Payload::Unread("in a way that is not read here"),
        Err(archive::Wrong::Beyond(_)) => Payload::Unread("it is longer than is unpacked here"),
        Err(archive::Wrong::Damaged(why)) => Payload::Wrong(why.replacen("it cannot", "cannot", 1)),
        Ok(Some(bytes)) if wanted.is_some_and(|wanted| wanted != bytes.len()) => Payload::Wrong("has not the length that it says".into()),
        Ok(Some(bytes)) if !bytes.starts_with(b"\x7fELF") => Payload::Wrong("is no ELF program".into()),
        Ok(Some(_)) => Payload::Whole,
    }
}
