//! Boot code of the old way: the system's own copy of its loader's, put back where it was; or code of our own that starts the active partition.

use crate::loader::unpacked;
use crate::patch::{Patch, Repair, on_drive};
use crate::places::{Place, Places};
use badger_drive::Source;
use badger_drive::field::{le16, le32};
use badger_inspect::{Line, Verdict};
use badger_layout::types::Role;
use badger_layout::{Kind, Table};

/// Code that starts the active partition; `boot/first-sector.s` is where it comes from.
pub(crate) const OWN: &[u8; 440] = include_bytes!("../boot/first-sector.bin");
/// Folders in which a loader keeps what was written to the first sectors.
const KEPT: [&str; 4] = ["/boot/grub/i386-pc", "/boot/grub2/i386-pc", "/grub/i386-pc", "/grub2/i386-pc"];
/// Where the code in the first sector says from where the core image is read, and where that image's first sector lists the rest.
const CORE_AT: usize = 0x5c;
const LIST_AT: usize = 512 - 12;
/// Where the rest of a core image is put in memory, as it is written in its list.
const SEGMENT: u16 = 0x820;

/// What of the old way for firmware is broken and can be set right. `chain` says what is broken.
pub(crate) fn find(drive: &Source, table: &Table, places: &Places, chain: &[Line], out: &mut Vec<Repair>) {
    let breaks = |link: &str| chain.iter().any(|line| line.result == Verdict::Fails && line.link == link);
    if table.sector != 512 || !(breaks("bios/first-sector") || breaks("bios/core")) {
        return;
    }
    let mut first = vec![0; 512];
    if drive.read_at(0, &mut first).is_err() {
        return;
    }
    let is_empty = first[..440].iter().all(|byte| *byte == 0);
    // Code that nobody knows here may be all that starts it.
    let is_loaders = first.starts_with(&[0xeb, 0x63]) && first[..440].windows(4).any(|window| window == b"GRUB");
    if !is_empty && !is_loaders {
        return;
    }
    match kept(drive, table, places) {
        Some(repair) => out.push(repair),
        None if is_empty => out.extend(own(drive, table, places)),
        None => {}
    }
}

/// The loader's own code and core image, which it keeps among its files.
fn kept(drive: &Source, table: &Table, places: &Places) -> Option<Repair> {
    let read = |place: &Place, folder: &str, name: &str| place.read(&format!("{folder}/{name}")).ok().flatten();
    let (place, folder, boot, mut core) = places
        .all
        .iter()
        .find_map(|place| KEPT.iter().find_map(|folder| Some((place, folder, read(place, folder, "boot.img")?, read(place, folder, "core.img")?))))?;
    if boot.len() != 512 || le16(&boot, 510) != 0xaa55 || core.len() < 1024 || unpacked(&core[512..]).is_err() {
        return None;
    }
    core.resize(core.len().next_multiple_of(512), 0);
    let sectors = core.len() as u64 / 512;
    let room = match table.kind {
        Kind::Gpt => table.partitions.iter().find(|partition| partition.type_code.role() == Role::BiosBoot).map(|it| (it.start, it.sectors))?,
        Kind::Mbr => (1, table.data_partitions().first()?.start.checked_sub(1)?),
        _ => return None,
    };
    if sectors > room.1 {
        return None;
    }
    // What it lists is where it lay in the file; here it lies in one piece.
    if core[LIST_AT - 12..LIST_AT].iter().any(|byte| *byte != 0) {
        return None;
    }
    core[LIST_AT..LIST_AT + 8].copy_from_slice(&(room.0 + 1).to_le_bytes());
    core[LIST_AT + 8..LIST_AT + 10].copy_from_slice(&u16::try_from(sectors - 1).ok()?.to_le_bytes());
    core[LIST_AT + 10..].get_mut(..2)?.copy_from_slice(&SEGMENT.to_le_bytes());
    let mut code = boot[..440].to_vec();
    code[CORE_AT..CORE_AT + 8].copy_from_slice(&room.0.to_le_bytes());
    let mut patches: Vec<Patch> = on_drive(drive, room.0 * 512, &core)?.into_iter().collect();
    patches.extend(on_drive(drive, 510, &[0x55, 0xaa])?);
    patches.extend(on_drive(drive, 0, &code)?);
    let text = format!("boot code and core image as {} keeps them in {folder}, put to the first sector and to sector {}", place.name(), room.0);
    Some(Repair { name: "boot-code", text, consequence: None, patches })
}

/// Code of our own, where one partition is marked and has a boot record.
fn own(drive: &Source, table: &Table, places: &Places) -> Option<Repair> {
    let active: Vec<&Place> = places.all.iter().filter(|place| place.partition.bootable && !place.partition.logical).collect();
    let ([place], Kind::Mbr) = (&active[..], table.kind) else { return None };
    let mut record = vec![0; 512];
    drive.read_at(place.start, &mut record).ok()?;
    if le16(&record, 510) != 0xaa55 || record[0x5a..510].iter().all(|byte| *byte == 0) || le32(&record, 0) == 0 {
        return None;
    }
    let mut patches: Vec<Patch> = on_drive(drive, 510, &[0x55, 0xaa])?.into_iter().collect();
    patches.extend(on_drive(drive, 0, OWN)?);
    Some(Repair { name: "boot-code", text: format!("the first sector gets code that starts {}", place.name()), consequence: None, patches })
}
