//! Lays the files of a made-up system of the NT family into a folder, for the sample workshop: below `system` those of its volume, below `start` those of
//! the volume that it starts from.
//!
//! `nt-files FOLDER NAME gpt DISK PARTITION`, both identifiers; `nt-files FOLDER NAME mbr SIGNATURE START`, in hexadecimal and in bytes: such a system keeps
//! what it would need for UEFI.

#[path = "../tests/support/nt.rs"]
mod nt;

use badger_layout::Guid;
use badger_system::store::Device;
use std::path::Path;

fn device(kind: &str, disk: &str, place: &str) -> Option<Device> {
    match kind {
        "gpt" => Some(Device::Gpt(Guid::parse(disk)?, Guid::parse(place)?)),
        "mbr" => Some(Device::Mbr(u32::from_str_radix(disk, 16).ok()?, place.parse().ok()?)),
        _ => None,
    }
}

fn main() -> std::io::Result<()> {
    let given: Vec<String> = std::env::args().skip(1).collect();
    let [folder, name, kind, disk, place] = &given[..] else {
        return Err(std::io::Error::other("usage: nt-files FOLDER NAME gpt|mbr DISK PLACE"));
    };
    let own = device(kind, disk, place).ok_or_else(|| std::io::Error::other("that names no partition"))?;
    let is_new = matches!(own, Device::Gpt(..));
    let (mut system, mut start) = (nt::system(nt::settings(own)), nt::Files::new());
    if is_new {
        start.extend(nt::firmware(nt::store(own, true, name)).into_iter().map(|(name, bytes)| (format!("EFI/{name}"), bytes)));
    } else {
        start.extend([("bootmgr".into(), vec![0x90; 100_000]), ("Boot/BCD".into(), nt::store(own, false, name))]);
        system.push(("Windows/Boot/EFI/bootmgfw.efi".into(), nt::program(0x8664, 10, "bootmgfw.efi")));
        system.push(("Windows/Boot/Fonts/wgl4_boot.ttf".into(), vec![0x5a; 3000]));
    }
    for (below, files) in [("system", system), ("start", start)] {
        for (name, bytes) in files {
            let path = Path::new(folder).join(below).join(name);
            std::fs::create_dir_all(path.parent().expect("it has a folder"))?;
            std::fs::write(path, bytes)?;
        }
    }
    Ok(())
}
