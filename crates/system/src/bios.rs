//! Firmware of the old kind: code in the first sector, an active partition or a core image, and what they load.

use crate::link::{Chain, Firmware, Link};
use crate::loader::{Built, Chained, Started, of_config, script, unpacked};
use crate::places::{Place, Places, Sought};
use crate::windows;
use badger_drive::Source;
use badger_drive::field::{le16, le32, le64};
use badger_inspect::Looked;
use badger_layout::partition::Partition;
use badger_layout::types::Role;
use badger_layout::{Kind, Table};

/// What the code in the first sector does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Code {
    /// There is none.
    None,
    /// It starts the active partition.
    Active,
    /// It reads a core image from a place that is written in it.
    Core(u64),
    /// Nobody knows.
    Other,
}

fn has(bytes: &[u8], text: &[u8]) -> bool {
    bytes.windows(text.len()).any(|window| window == text)
}

fn code(sector: &[u8]) -> Code {
    match &sector[..440] {
        code if code.iter().all(|byte| *byte == 0) => Code::None,
        code if has(code, b"GRUB") && code.starts_with(&[0xeb, 0x63]) => Code::Core(le64(sector, 0x5c)),
        code if code == crate::bootcode::OWN || has(code, b"issing operating system") || has(code, b"Invalid partition table") => Code::Active,
        _ => Code::Other,
    }
}

/// The way through firmware of the old kind; `None` where nothing was ever made for it.
pub(crate) fn chain(drive: &Source, looked: &Looked, places: &Places) -> Option<Chain> {
    let mut sector = vec![0; drive.geometry().logical_sector as usize];
    let mut links = Vec::new();
    let table = &looked.table;
    if table.kind == Kind::None {
        return None;
    }
    if let Err(error) = drive.read_at(0, &mut sector) {
        links.push(Link::unknown("first-sector", format!("the first sector cannot be read: {error}")));
        return Some(Chain { firmware: Firmware::Bios, links });
    }
    let active: Vec<&Place> = places.all.iter().filter(|place| place.partition.bootable).collect();
    let is_marked = le16(&sector, 510) == 0xaa55;
    match code(&sector) {
        Code::None if table.kind == Kind::Gpt => {
            let partition =
                table.partitions.iter().find(|partition| partition.type_code.role() == Role::BiosBoot && holds_core(drive, table, partition))?;
            let text = format!("the first sector has no boot code, and partition {} holds the core image that it would start", partition.number);
            // What starts by UEFI needs none, also where an earlier way left its core image behind.
            let has_other = places.all.iter().any(|place| place.partition.type_code.is_efi() && !place.list("/EFI").is_empty());
            links.push(if has_other { Link::unknown("first-sector", text) } else { Link::broken("first-sector", text) });
        }
        Code::None if active.is_empty() => return None,
        Code::None => links.push(Link::broken("first-sector", "the first sector has no boot code, and a partition is marked to be started")),
        _ if !is_marked => links.push(Link::broken("first-sector", "the first sector lacks its mark (55 AA at byte 510): firmware passes it over")),
        Code::Other => links.push(Link::unknown("first-sector", "the boot code in the first sector is not known here")),
        Code::Active => {
            links.push(Link::holds("first-sector", "the boot code in the first sector starts the active partition"));
            of_active(drive, table, &active, places, &mut links);
        }
        Code::Core(at) => {
            links.push(Link::holds("first-sector", format!("the boot code in the first sector reads a core image from sector {at}")));
            if let Some(built) = core(drive, table, at, &mut links) {
                of_core(places, &built, &mut links);
            }
        }
    }
    Some(Chain { firmware: Firmware::Bios, links })
}

/// Whether a partition that is made for a core image holds one.
fn holds_core(drive: &Source, table: &Table, partition: &Partition) -> bool {
    let (start, _) = table.place(partition);
    let mut first = vec![0; 512];
    // Its first sector ends in the list of places of all others.
    drive.read_at(start, &mut first).is_ok() && le64(&first, 512 - 12) == start / 512 + 1 && le16(&first, 512 - 4) > 0
}

/// The core image: where it is said to be, whole, and where nothing else lies.
fn core(drive: &Source, table: &Table, at: u64, links: &mut Vec<Link>) -> Option<Built> {
    let size = u64::from(drive.geometry().logical_sector);
    if size != 512 {
        links.push(Link::unknown("core", format!("the core image is named in sectors of 512 bytes, and the drive has {size}")));
        return None;
    }
    let mut first = vec![0; 512];
    if at == 0 || drive.read_at(at.saturating_mul(512), &mut first).is_err() {
        links.push(Link::broken("core", format!("the core image cannot be read from sector {at}")));
        return None;
    }
    // Lists of places stand at the end of its first sector, from there downwards: first sector, count, segment.
    let mut runs = vec![(at, 1u64)];
    let mut from = 512 - 12;
    while from >= 12 && le16(&first, from + 8) != 0 {
        runs.push((le64(&first, from), u64::from(le16(&first, from + 8))));
        from -= 12;
        if runs.len() > 32 {
            break;
        }
    }
    let sectors: u64 = runs.iter().map(|(_, count)| count).sum();
    let evidence: Vec<String> =
        runs.iter().map(|(start, count)| format!("sectors {start} to {}", start.saturating_add(*count).saturating_sub(1))).collect();
    let broken = |text: String| Link::broken("core", text).with(evidence.clone());
    if runs.len() < 2 || first.iter().all(|byte| *byte == 0) {
        links.push(broken(format!("what stands at sector {at} is no core image")));
        return None;
    }
    for (start, count) in &runs {
        let range = *start..start.saturating_add(*count);
        // In a file system's place it lies as one of its files, or in nobody's.
        let over = table
            .data_partitions()
            .into_iter()
            .find(|partition| partition.start < range.end && partition.end() > range.start && partition.type_code.role() != Role::BiosBoot);
        if let Some(partition) = over
            && table.kind == Kind::Mbr
            && partition.start < at
        {
            continue;
        }
        if let Some(partition) = over {
            links.push(broken(format!("the core image lies in partition {}, which does not keep it: it will be written over", partition.number)));
            return None;
        }
    }
    let room = match table.partitions.iter().find(|partition| partition.type_code.role() == Role::BiosBoot) {
        Some(partition) if (partition.start..partition.end()).contains(&at) => format!("partition {}, made for it", partition.number),
        _ => "the gap in front of the first partition".into(),
    };
    match built(drive, &runs) {
        Ok(built) => {
            links.push(Link::holds("core", format!("the core image is there, {sectors} sectors in {room}")).with(evidence));
            Some(built)
        }
        Err(why) => {
            links.push(broken(why));
            None
        }
    }
}

/// What a core image that lies in runs of sectors was built with; or why it is none.
fn built(drive: &Source, runs: &[(u64, u64)]) -> Result<Built, String> {
    let mut whole = Vec::new();
    for (start, count) in runs {
        let mut part = vec![0; (*count * 512).min(4 << 20) as usize];
        drive.read_at(start.saturating_mul(512), &mut part).map_err(|error| format!("the core image cannot be read: {error}"))?;
        whole.extend(part);
    }
    // Packed code has no long stretches of zeroes; its very end may.
    let kept = whole.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    let empty = whole[512..kept.max(512)].chunks_exact(512).position(|sector| sector.iter().all(|byte| *byte == 0));
    let packed = le32(&whole, 512 + 8) as usize;
    match empty {
        Some(empty) => Err(format!("sector {} of the core image is empty: it is not whole", empty + 1)),
        None if packed > whole.len() => Err(format!("the core image says that it has {packed} bytes, and {} are there", whole.len())),
        None if kept + 4096 < whole.len() => Err("the end of the core image is empty: it is not whole".into()),
        None => unpacked(&whole[512..]).map_err(|why| format!("the core image cannot be unpacked: {why}")),
    }
}

/// What a core image starts: what is built into it says where it looks.
fn of_core(places: &Places, built: &Built, links: &mut Vec<Link>) {
    let prefix = built.prefix.clone().unwrap_or_else(|| "/boot/grub".into());
    if !built.config.is_empty() {
        let chained = script(places, None, (&built.config, &prefix, true), Started::BIOS, links);
        return unfollowed(chained, links);
    }
    // `(,gpt3)/boot/grub`: a partition by its number, of the disk it was started from.
    let number = prefix.strip_prefix('(').and_then(|rest| rest.split_once(')')).and_then(|(device, _)| {
        let part = device.rsplit(',').next()?;
        part.trim_start_matches(|c: char| !c.is_ascii_digit()).parse::<u32>().ok()
    });
    let path = crate::loader::linux_path(&prefix);
    match number.map(|number| (number, places.all.iter().find(|place| place.partition.number == number))) {
        None => links.push(Link::unknown("stub", format!("the core image looks for {prefix}, which does not say which volume that is"))),
        Some((number, None)) => {
            links.push(Link::broken("stub", format!("the core image looks for its configuration on partition {number}, which is not there")))
        }
        Some((_, Some(place))) => {
            links.push(Link::holds("stub", format!("the loader finds its configuration on {}", place.name())).with([prefix.clone()]));
            modules(place, &path, links);
            let chained = of_config(places, place, &format!("{path}/grub.cfg"), Started::BIOS, links);
            unfollowed(chained, links);
        }
    }
}

/// What GRUB starts in its place is not followed by this way.
fn unfollowed(chained: Chained, links: &mut Vec<Link>) {
    links.extend(
        chained.map(|(place, path)| Link::unknown("second-loader", format!("{path} on {} is started next: it was not looked into", place.name()))),
    );
}

/// The modules that a loader takes from beside its configuration.
fn modules(place: &Place, folder: &str, links: &mut Vec<Link>) {
    if place.files.is_ok() && !place.has(&format!("{folder}/i386-pc/normal.mod")) {
        links.push(Link::broken("modules", format!("{folder}/i386-pc on {} lacks the loader's modules", place.name())));
    }
}

/// What the active partition starts.
fn of_active(drive: &Source, table: &Table, active: &[&Place], places: &Places, links: &mut Vec<Link>) {
    if table.kind != Kind::Mbr {
        return links.push(Link::broken("active", "the boot code looks for an active partition, and the table is not of the kind that has one"));
    }
    let place = match active {
        [one] => *one,
        [] => return links.push(Link::broken("active", "no partition is marked to be started")),
        _ => {
            let numbers: Vec<String> = active.iter().map(|place| place.partition.number.to_string()).collect();
            return links
                .push(Link::broken("active", format!("partitions {} are all marked to be started: firmware takes none", numbers.join(", "))));
        }
    };
    links.push(Link::holds("active", format!("{} is marked to be started", place.name())));
    let mut record = vec![0; 8192];
    if let Err(error) = drive.read_at(place.start, &mut record) {
        return links.push(Link::broken("volume-record", format!("the boot record of {} cannot be read: {error}", place.name())));
    }
    let hidden = u64::from(le32(&record, 0x1c));
    let wide: Vec<u8> = "BOOTMGR".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let is_new = has(&record, b"BOOTMGR") || has(&record, &wide);
    let wrong = match () {
        () if le16(&record, 510) != 0xaa55 => Some("lacks its mark (55 AA at byte 510)".to_string()),
        () if record[0x5a..510].iter().all(|byte| *byte == 0) => Some("has no code".into()),
        () if hidden != place.partition.start && (record[3..11] == *b"NTFS    " || &record[0x52..0x57] == b"FAT32") => {
            Some(format!("says that it begins at sector {hidden}, and the partition begins at {}", place.partition.start))
        }
        () => None,
    };
    if let Some(wrong) = wrong {
        return links.push(Link::broken("volume-record", format!("the boot record of {} {wrong}", place.name())));
    }
    if !is_new {
        return links.push(Link::unknown("volume-record", format!("the code in the boot record of {} is not known here", place.name())));
    }
    links.push(Link::holds("volume-record", format!("the boot record of {} fits its place, and loads bootmgr", place.name())));
    match place.file("/bootmgr") {
        Sought::Missing => return links.push(Link::broken("loader", format!("bootmgr is not on {}", place.name()))),
        Sought::Unreadable(why) => return links.push(Link::unknown("loader", format!("bootmgr on {}: {why}", place.name()))),
        Sought::Here(content) if content.size() < 65_536 => {
            return links.push(Link::broken("loader", format!("bootmgr on {} is cut off", place.name())));
        }
        Sought::Here(_) => links.push(Link::holds("loader", format!("bootmgr is on {}", place.name()))),
    }
    windows::follow(places, table, place, "/Boot/BCD", Firmware::Bios, links);
}
