//! From the boot store of a system of the NT family to its login.

use crate::link::{Firmware, Link, Offers};
use crate::pe::Program;
use crate::places::{Place, Places, Sought};
use crate::registry::{Bytes, Hive};
use crate::store::{Device, MANAGER, Object, Store, element};
use badger_fs::Content;
use badger_fs::volume::{Kind, State};
use badger_inspect::Verdict;
use badger_layout::Table;

/// Drivers for storage: what people call the way, and services of which one is needed.
pub const STORAGE: [(&str, &[&str]); 4] = [
    ("SATA", &["storahci", "msahci"]),
    ("NVMe", &["stornvme"]),
    ("IDE", &["atapi", "pciide", "intelide"]),
    ("hardware RAID", &["iastorv", "iastorac", "megasas", "lsi_sas"]),
];

/// Opens a registry file of a volume, with its logs beside it.
pub(crate) fn hive<'a>(place: &'a Place, path: &str) -> Result<Option<Hive<'a>>, String> {
    let content = match place.file(path) {
        Sought::Missing => return Ok(None),
        Sought::Unreadable(why) => return Err(why),
        Sought::Here(content) => content,
    };
    let logs: Vec<Content> = [".LOG1", ".LOG2", ".LOG"]
        .iter()
        .filter_map(|ending| match place.file(&format!("{path}{ending}")) {
            Sought::Here(log) if !log.is_empty() => Some(log),
            _ => None,
        })
        .collect();
    let logs: Vec<&dyn Bytes> = logs.iter().map(|log| log as &dyn Bytes).collect();
    Hive::open(content, &logs).map(Some).map_err(|wrong| wrong.text)
}

/// The volume that a device stands for.
fn find<'a>(places: &'a Places, table: &Table, from: &'a Place, device: Device) -> Result<&'a Place, String> {
    let nothing = || Err(format!("it is {device}, and nothing on this drive is that"));
    match device {
        Device::Boot => Ok(from),
        Device::Gpt(disk, partition) => {
            let found = places.all.iter().find(|place| place.partition.id.eq_ignore_ascii_case(&partition.to_string()));
            match found {
                Some(_) if !table.disk_id.eq_ignore_ascii_case(&disk.to_string()) => {
                    Err(format!("it is {device}; the partition is here, and this disk is {}", table.disk_id))
                }
                Some(place) => Ok(place),
                None => nothing(),
            }
        }
        Device::Mbr(disk, start) => {
            let is_disk = u32::from_str_radix(table.disk_id.trim_start_matches("0x"), 16) == Ok(disk);
            match places.all.iter().find(|place| place.start == start) {
                Some(place) if is_disk => Ok(place),
                Some(_) => Err(format!("it is {device}; a partition begins there, and this disk is {}", table.disk_id)),
                None => nothing(),
            }
        }
        Device::Located | Device::Other(_) => Err(format!("it is {device}: which one that is shows only when it starts")),
    }
}

/// A path as the store writes it.
fn path_of(text: &str) -> String {
    text.replace('\\', "/")
}

/// Everything from the store on.
pub(crate) fn follow(places: &Places, table: &Table, place: &Place, path: &str, firmware: Firmware, links: &mut Vec<Link>) {
    let store = match hive(place, path) {
        Ok(None) => return links.push(Link::broken("store", format!("the boot store {path} is not on {}", place.name()))),
        Err(why) => return links.push(Link::broken("store", format!("the boot store {path} on {}: {why}", place.name()))),
        Ok(Some(hive)) => match Store::read(&hive) {
            Err(wrong) => return links.push(Link::broken("store", format!("the boot store {path} on {}: {wrong}", place.name()))),
            Ok(store) => {
                let remarks = hive.remarks().iter().map(|remark| remark.text.clone()).chain(store.wrong.iter().cloned());
                let text = format!("the boot store {path} is on {}, {} objects", place.name(), store.objects.len());
                links.push(Link::holds("store", text).with(remarks));
                store
            }
        },
    };
    let manager = store.objects.get(MANAGER);
    let shown = manager.map(|manager| manager.names(element::SHOWN)).unwrap_or_default();
    let Some(name) = manager.and_then(|manager| manager.names(element::DEFAULT).into_iter().next()).or(shown.first().cloned()) else {
        return links.push(Link::broken("entry", "the boot store names no system to be started"));
    };
    let Some(entry) = store.objects.get(&name) else {
        return links.push(Link::broken("entry", format!("the boot store starts {name}, which is not in it")));
    };
    let title = entry.text(element::DESCRIPTION).unwrap_or_else(|| name.clone());
    let mut others = Vec::new();
    for (what, name) in [("recovery", element::RECOVERY), ("resume", element::RESUME)] {
        for name in entry.names(name) {
            others.push(match store.objects.get(&name) {
                None => format!("{what}: {name}, which is not in the store"),
                Some(other) => format!("{what}: {}", told(places, table, place, other)),
            });
        }
    }
    let device = |which: u32| match entry.device(which) {
        None => Err("it is not said where that is".to_string()),
        Some(device) => find(places, table, place, device),
    };
    let is_open = |device: &Option<Device>| matches!(device, Some(Device::Located | Device::Other(_)));
    let loader = match device(element::DEVICE) {
        Ok(loader) => loader,
        Err(why) if is_open(&entry.device(element::DEVICE)) => return links.push(Link::unknown("entry", format!("\"{title}\": {why}")).with(others)),
        Err(why) => return links.push(Link::broken("entry", format!("\"{title}\" is started from another place: {why}")).with(others)),
    };
    links.push(Link::holds("entry", format!("the boot store starts \"{title}\" from {}", loader.name())).with(others));
    let file = path_of(&entry.text(element::PATH).unwrap_or_default());
    links.push(program(loader, &file, "system-loader", "the system's loader", firmware));
    let system = match device(element::SYSTEM_DEVICE) {
        Ok(system) => system,
        Err(why) => return links.push(Link::broken("system-volume", format!("the system's volume: {why}"))),
    };
    let root = path_of(&entry.text(element::SYSTEM_ROOT).unwrap_or_else(|| "\\Windows".into()));
    of_system(table, system, &root, links);
}

/// An entry beside the one that is started, in a line.
fn told(places: &Places, table: &Table, from: &Place, object: &Object) -> String {
    let title = object.text(element::DESCRIPTION).unwrap_or_default();
    match object.device(element::DEVICE).map(|device| find(places, table, from, device)) {
        Some(Ok(place)) => format!("\"{title}\" on {}", place.name()),
        Some(Err(why)) => format!("\"{title}\": {why}"),
        None => format!("\"{title}\""),
    }
}

/// A program of the system.
fn program(place: &Place, path: &str, link: &'static str, what: &str, firmware: Firmware) -> Link {
    let bytes = match place.needed(path, link, what) {
        Err(why) => return why,
        Ok(bytes) => bytes,
    };
    let is_for_firmware = path.to_lowercase().ends_with(".efi");
    match Program::read(&bytes) {
        Err(why) => Link::broken(link, format!("{what} {path} on {}: {why}", place.name())),
        Ok(_) if link == "system-loader" && is_for_firmware != (firmware == Firmware::Uefi) => {
            let text = format!("{what} is {path}, which {} cannot start: the entry was made for the other kind of firmware", firmware.word());
            Link::broken(link, text)
        }
        Ok(found) => Link::holds(link, format!("{what} {path} is on {}, for {}", place.name(), found.machine.word())),
    }
}

/// The system's volume: kernel, registry, drivers, what is mounted, and how it was left.
fn of_system(table: &Table, system: &Place, root: &str, links: &mut Vec<Link>) {
    match &system.found {
        Some(found) if found.kind == Kind::BitLocker => {
            return links.push(Link::unknown(
                "system-volume",
                format!("the system's volume, {}, is encrypted: it is looked into by itself only", system.name()),
            ));
        }
        Some(found) if found.state == State::Damaged => {
            links.push(Link::broken("system-volume", format!("the system's volume, {}, is damaged: {}", system.name(), found.problems.join("; "))));
        }
        _ => links.push(Link::holds("system-volume", format!("the system's volume is {}", system.name()))),
    }
    links.push(program(system, &format!("{root}/System32/ntoskrnl.exe"), "kernel", "the kernel", Firmware::Bios));
    for name in ["SOFTWARE", "SAM", "SECURITY", "DEFAULT"] {
        let path = format!("{root}/System32/config/{name}");
        match hive(system, &path) {
            Ok(Some(_)) => {}
            Ok(None) => return links.push(Link::broken("registry", format!("{path} is not on {}", system.name()))),
            Err(why) => return links.push(Link::broken("registry", format!("{path} on {}: {why}", system.name()))),
        }
    }
    let path = format!("{root}/System32/config/SYSTEM");
    let hive = match hive(system, &path) {
        Ok(Some(hive)) => hive,
        Ok(None) => return links.push(Link::broken("registry", format!("{path} is not on {}", system.name()))),
        Err(why) => return links.push(Link::broken("registry", format!("{path} on {}: {why}", system.name()))),
    };
    let current = match hive.find("Select", "Current") {
        Ok(Some(value)) => value.number().unwrap_or(0),
        Ok(None) => return links.push(Link::broken("registry", format!("{path} does not say which settings are current"))),
        Err(why) => return links.push(Link::broken("registry", format!("{path} on {}: {why}", system.name()))),
    };
    let set = format!("ControlSet{current:03}");
    match hive.key(&set) {
        Ok(Some(_)) => {
            let remarks = hive.remarks().iter().map(|remark| remark.text.clone());
            links.push(Link::holds("registry", format!("the registry is whole as far as it was looked at; {set} is current")).with(remarks));
        }
        Ok(None) => return links.push(Link::broken("registry", format!("{path} says that {set} is current, which is not in it"))),
        Err(why) => return links.push(Link::broken("registry", format!("{path} on {}: {why}", system.name()))),
    }
    drivers(&hive, &set, system, root, links);
    mounted(&hive, table, system, links);
    if let Ok(volume) = &system.files
        && badger_fs::ntfs::is_asleep(&**volume)
    {
        let text = "the system is only asleep: it will go on where it was, with the drives and the machine of then in mind; shut it down, or let it start afresh";
        links.push(Link::unknown("state", text));
    }
}

/// Drivers for storage that start with the system, and whose files are there.
fn drivers(hive: &Hive, set: &str, system: &Place, root: &str, links: &mut Vec<Link>) {
    let (mut with, mut without, mut missing) = (Vec::new(), Vec::new(), Vec::new());
    for (name, services) in STORAGE {
        let mut starts = false;
        for service in services {
            let path = format!(r"{set}\Services\{service}");
            let Ok(Some(start)) = hive.find(&path, "Start") else { continue };
            if start.number() != Some(0) {
                continue;
            }
            let image = hive.find(&path, "ImagePath").ok().flatten().and_then(|value| value.text());
            let image = image.map_or_else(|| format!("{root}/System32/drivers/{service}.sys"), |image| image_path(&image, root));
            if system.has(&image) {
                starts = true;
            } else {
                missing.push(format!("{service} is to start with the system, and {image} is not there"));
            }
        }
        if starts { with.push(name) } else { without.push(name) }
    }
    let evidence = [format!("without a driver that starts with it: {}", without.join(", "))];
    let link = match (missing.is_empty(), with.is_empty()) {
        (false, _) => Link::broken("drivers", missing.join("; ")).with(evidence),
        (true, true) => Link::broken("drivers", "no driver for storage starts with the system: it will not find its own disk"),
        (true, false) => Link::holds("drivers", format!("it finds its disk on {}", with.join(", "))).with(evidence),
    };
    links.push(link.offering(Offers { storage: Some(with), ..Offers::default() }));
}

/// A path as services write it.
fn image_path(image: &str, root: &str) -> String {
    let plain = image.replace('\\', "/");
    let lower = plain.to_lowercase();
    match () {
        () if lower.starts_with("/systemroot/") => format!("{root}/{}", &plain["/systemroot/".len()..]),
        () if lower.starts_with("system32/") => format!("{root}/{plain}"),
        () => plain,
    }
}

/// The record of the letter of the system's own volume.
pub(crate) const OWN_LETTER: &str = r"\DosDevices\C:";

/// Whether the letter of the system's volume is still that volume's.
fn mounted(hive: &Hive, table: &Table, system: &Place, links: &mut Vec<Link>) {
    let record = match hive.find("MountedDevices", OWN_LETTER) {
        Ok(Some(record)) => record.data,
        Ok(None) => {
            return links.push(Link::unknown("letters", "the registry does not say which volume is C:; the system settles that when it starts"));
        }
        Err(why) => return links.push(Link::unknown("letters", format!("which volume is C: cannot be read: {why}"))),
    };
    let own = match record.strip_prefix(b"DMIO:ID:") {
        Some(id) => <[u8; 16]>::try_from(id).is_ok_and(|id| system.partition.id.eq_ignore_ascii_case(&badger_layout::Guid(id).to_string())),
        None if record.len() == 12 => {
            let disk = badger_drive::field::le32(&record, 0);
            let is_disk = u32::from_str_radix(table.disk_id.trim_start_matches("0x"), 16) == Ok(disk);
            is_disk && badger_drive::field::le64(&record, 4) == system.start
        }
        None => return links.push(Link::unknown("letters", "which volume is C: is written in a way that is not known here")),
    };
    links.push(if own {
        Link::holds("letters", format!("C: is {}", system.name()))
    } else {
        Link::new(
            "letters",
            Verdict::Fails,
            format!("C: is another volume than {}: the system would look for its files elsewhere, and stop at its login", system.name()),
        )
    });
}
