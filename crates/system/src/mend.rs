//! What can be set right so that a target starts: found, told, and given as patches. Nothing is written here.

use crate::efi::{self, Fallback};
use crate::grub;
use crate::machine::Controller;
pub use crate::patch::Repair;
use crate::patch::{Patch, in_file, on_drive};
use crate::places::{Place, Places, Sought, partuuid};
use crate::registry::{Hive, Key};
use crate::store::{Device, element};
use crate::windows::{STORAGE, hive};
use crate::{append, bootcode, letters, uefi};
use badger_drive::Source;
use badger_drive::field::{le16, le32};
use badger_fs::tree::Node;
use badger_fs::volume::Kind;
use badger_fs::{SWAP_PAGES, swap_mark_of_sleep};
use badger_inspect::{Line, Looked, Verdict};
use badger_layout::{Guid, Table};
use std::collections::{BTreeMap, HashSet};

/// What is asked for beyond what is broken.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Wishes {
    /// A system that only slept starts afresh.
    pub afresh: bool,
    /// Drivers for every kind of storage that the system has start with it, as for another machine.
    pub drivers: bool,
    /// A drive that starts by BIOS gets a way for UEFI, and starts by BIOS no more.
    pub uefi: bool,
    /// The same for the controller of one machine.
    pub controller: Option<Controller>,
}

/// So many identifiers of a configuration are looked into.
const MOST_IDENTIFIERS: usize = 1000;
/// So many names are set right.
const MOST_NAMES: usize = 64;

/// An identifier of a partition or volume on a source, and what it is on the target.
pub type Renamed = (String, String);

/// What became of the identifiers of a source on a target, by the numbers that each partition has there and here.
pub fn renamed(source: &Looked, target: &Looked, numbers: impl IntoIterator<Item = (u32, u32)>) -> Vec<Renamed> {
    let ids = |looked: &Looked, number: u32| {
        let partition = looked.table.partitions.iter().find(|partition| partition.number == number)?;
        let volume = looked.volume(number).map(|volume| volume.id.clone()).unwrap_or_default();
        Some([partuuid(&looked.table, partition), volume])
    };
    let pairs = numbers.into_iter().filter_map(|(from, to)| Some((ids(source, from)?, ids(target, to)?)));
    let pairs = pairs.flat_map(|(old, new)| old.into_iter().zip(new));
    pairs.filter(|(old, new)| !old.is_empty() && !new.is_empty() && !old.eq_ignore_ascii_case(new)).collect()
}

/// Everything that can be set right on a drive, of which `chain` is told by [`crate::lines`].
///
/// `renamed` is what became of identifiers where that is known ([`renamed`]); where it is not, what a name stands for is told by what is
/// wanted of it, if only one volume can be meant.
pub fn find(drive: &Source, looked: &Looked, chain: &[Line], wishes: Wishes, renamed: &[Renamed]) -> Vec<Repair> {
    let places = Places::of(drive, looked);
    let mut out = Vec::new();
    out.extend(wishes.uefi.then(|| uefi::of_places(drive, looked, &places).ok()).flatten());
    names(drive, &places, renamed, &mut out);
    // What the way for BIOS lacks it needs no more after that.
    if out.iter().all(|repair| repair.name != "uefi") {
        bootcode::find(drive, &looked.table, &places, chain, &mut out);
        active(drive, &looked.table, &places, &mut out);
        records(drive, &looked.table, &places, &mut out);
        stores(drive, &looked.table, &places, &mut out);
        fallback(drive, &places, &mut out);
    }
    // For one machine's controller only where the system has no driver for it that starts.
    let of_machine = chain.iter().any(|line| line.result == Verdict::Fails && line.link == "machine/controller");
    let mut wanted: Vec<&str> = wishes.controller.filter(|_| of_machine).map(modules).unwrap_or_default().to_vec();
    if wishes.drivers {
        use Controller::{Ide, Nvme, Raid, Sata, Usb, Virtio};
        wanted.extend([Sata, Nvme, Usb, Ide, Raid, Virtio].into_iter().flat_map(modules));
    }
    if !wanted.is_empty() {
        archives(drive, looked, &places, &wanted, &mut out);
    }
    let no_drivers = chain.iter().any(|line| line.result == Verdict::Fails && line.link.rsplit('/').next() == Some("drivers"));
    let drivers = wishes.drivers || no_drivers || of_machine;
    systems(drive, &looked.table, &places, (wishes, drivers), &mut out);
    if wishes.afresh {
        swap(drive, &places, &mut out);
    }
    out.retain(|repair| !repair.patches.is_empty());
    // Each is made from what stands there now: two that touch the same bytes are not done at once. The second is found again after the first.
    let mut taken: Vec<std::ops::Range<u64>> = Vec::new();
    out.retain(|repair| {
        let own: Vec<_> = repair.patches.iter().map(|patch| patch.at..patch.at + patch.new.len() as u64).collect();
        let is_free = own.iter().all(|range| taken.iter().all(|other| range.end <= other.start || other.end <= range.start));
        if is_free {
            taken.extend(own);
        }
        is_free
    });
    out
}

/// What a controller takes to be found by a Linux system: modules, of which the kernel may have some itself.
fn modules(controller: Controller) -> &'static [&'static str] {
    match controller {
        Controller::Sata => &["ahci", "sd_mod"],
        Controller::Nvme => &["nvme"],
        Controller::Usb => &["xhci_pci", "ehci_pci", "usb_storage", "uas", "sd_mod"],
        Controller::Ide => &["ata_piix", "ata_generic", "sd_mod"],
        Controller::Raid => &["megaraid_sas", "mpt3sas", "sd_mod"],
        Controller::Virtio => &["virtio_pci", "virtio_blk", "virtio_scsi", "sd_mod"],
    }
}

/// A loader where firmware looks that knows nothing of the drive.
fn fallback(drive: &Source, places: &Places, out: &mut Vec<Repair>) {
    let Some(Fallback { place, from, files }) = efi::fallback(places) else { return };
    let Some(volume) = place.volume() else { return };
    let wanted: Vec<(&str, &[u8])> = files.iter().map(|(path, bytes)| (path.as_str(), bytes.as_slice())).collect();
    let Ok(changes) = volume.added(&wanted) else { return };
    out.push(Repair {
        name: "fallback",
        text: format!("{from} on {} is laid at {} too, where the firmware of any machine looks", place.name(), files[0].0),
        consequence: None,
        patches: in_volume(drive, place, &changes),
    });
}

/// Drivers that the initial RAM file systems lack.
fn archives(drive: &Source, looked: &Looked, places: &Places, wanted: &[&str], out: &mut Vec<Repair>) {
    crate::chain::of_places(drive, looked, places);
    let place = |number: u32| places.all.iter().find(|place| place.partition.number == number);
    let initials = places.initials.borrow();
    for on in &places.all {
        let Some(volume) = on.volume() else { continue };
        // All of a volume are made longer at once: what is free is counted out among them.
        let mut files: Vec<(Node, Vec<u8>)> = Vec::new();
        let mut told: Vec<String> = Vec::new();
        for initial in initials.iter().filter(|initial| initial.on == on.partition.number) {
            let (Ok(Some(node)), Some(system)) = (on.real_node(&initial.path), place(initial.system)) else { continue };
            let Ok(Some((more, modules))) = append::drivers(system, &initial.version, &initial.archive, wanted) else { continue };
            if files.iter().any(|(other, _)| other.id == node.id) {
                continue;
            }
            // Archives begin at multiples of four bytes.
            files.push((node, [vec![0; initial.bytes.next_multiple_of(4) - initial.bytes], more].concat()));
            told.push(format!("{} gets {}", initial.path, modules.join(", ")));
        }
        let files: Vec<(&Node, &[u8])> = files.iter().map(|(node, more)| (node, more.as_slice())).collect();
        if files.is_empty() {
            continue;
        }
        let Ok(changes) = volume.lengthened(&files) else { continue };
        out.push(Repair {
            name: "archive",
            text: format!("on {}, out of the system's own drivers, laid behind what is there: {}", on.name(), told.join("; ")),
            consequence: None,
            patches: in_volume(drive, on, &changes),
        });
    }
}

/// What changes in a volume, as patches of its drive; none where one of its places cannot be read.
fn in_volume(drive: &Source, place: &Place, changes: &[(u64, Vec<u8>)]) -> Vec<Patch> {
    let patches: Option<Vec<Option<Patch>>> = changes.iter().map(|(at, bytes)| on_drive(drive, place.start + at, bytes)).collect();
    patches.into_iter().flatten().flatten().collect()
}

/// Identifiers in a text, each with how it is named.
fn identifiers(text: &str) -> Vec<(&'static str, String)> {
    let is_id = |c: char| c.is_ascii_hexdigit() || c == '-';
    let mut out = Vec::new();
    for line in text.lines().filter(|line| !line.trim_start().starts_with('#')) {
        for (what, mark) in [("PARTUUID", "PARTUUID="), ("UUID", "UUID=")] {
            for (at, _) in line.match_indices(mark) {
                if what == "UUID" && line[..at].ends_with("PART") {
                    continue;
                }
                out.push((what, line[at + mark.len()..].trim_start_matches('"').chars().take_while(|c| is_id(*c)).collect::<String>()));
            }
        }
        if line.contains("fs-uuid") || line.contains("fs_uuid") {
            let ids = line.split(|c: char| c.is_whitespace() || c == '"' || c == '\'').filter(|word| word.contains('-') && word.len() >= 9);
            out.extend(ids.filter(|word| word.chars().all(is_id)).map(|word| ("UUID", word.to_string())));
        }
    }
    let mut seen = HashSet::new();
    out.retain(|one: &(&'static str, String)| one.1.len() >= 8 && seen.insert(one.clone()));
    // Each is looked for in every line again; no configuration of a system names as many.
    out.truncate(MOST_IDENTIFIERS);
    out
}

/// Configurations of a volume: path and content.
type Texts = Vec<(String, String)>;

/// Which volume a name that nothing has stands for, by what is wanted of it. `None` where it is not sure.
fn meant<'a>(places: &'a Places, texts: &[(&'a Place, Texts)], id: &str) -> Option<&'a Place> {
    let is_root = |place: &&Place| place.has("/etc/fstab") && (place.has("/etc/os-release") || place.has("/usr/lib/os-release"));
    let only = |found: Vec<&'a Place>| if let [one] = found[..] { Some(one) } else { None };
    let mut votes: Vec<Option<&Place>> = Vec::new();
    for (place, texts) in texts {
        for (path, text) in texts {
            for line in text.lines().filter(|line| line.contains(id) && !line.trim_start().starts_with('#')) {
                let fields: Vec<&str> = line.split_whitespace().collect();
                let root = || only(places.all.iter().filter(is_root).collect());
                let with = |path: &str| only(places.all.iter().filter(|place| place.has(path)).collect());
                let swap = || only(places.all.iter().filter(|place| place.found.as_ref().is_some_and(|found| found.kind == Kind::Swap)).collect());
                // The option that this very name is the value of: others may stand in the same line.
                let is = |option: &str| line.contains(&format!("{option}=UUID={id}")) || line.contains(&format!("{option}=PARTUUID={id}"));
                votes.push(match (path.as_str(), &fields[..]) {
                    ("/etc/fstab", [_, "/", ..]) => root(),
                    ("/etc/fstab", [_, "/boot/efi" | "/efi", ..]) => {
                        only(places.all.iter().filter(|place| place.partition.type_code.is_efi()).collect())
                    }
                    ("/etc/fstab", [_, _, "swap", ..]) => swap(),
                    // What is unlocked by it is not seen.
                    ("/etc/fstab" | "/etc/crypttab", _) => None,
                    _ if is("root") => root(),
                    _ if is("resume") => swap(),
                    // A short configuration looks for the volume with the long one; the long one for that with the kernel.
                    _ if path.starts_with("/EFI/") => with("/boot/grub/grub.cfg").or_else(|| with("/grub/grub.cfg")),
                    // Another system's volume is looked for as well, for entries that start that one.
                    _ if line.contains("search") && place.id().len() != id.len() => continue,
                    _ if line.contains("search") => Some(*place),
                    _ => None,
                });
            }
        }
    }
    let first = votes.first().copied().flatten()?;
    votes.iter().all(|vote| vote.is_some_and(|vote| vote.partition.number == first.partition.number)).then_some(first)
}

/// Names of volumes that nothing on the drive has, and that stand for one of them.
fn names(drive: &Source, places: &Places, known: &[Renamed], out: &mut Vec<Repair>) {
    // What starts systems of other disks is theirs.
    let own = |text: String| {
        let mut text = text;
        for range in grub::foreign(&text).into_iter().rev() {
            text.replace_range(range, "");
        }
        text
    };
    let of = |place: &Place| place.configurations().into_iter().map(|(path, text)| (path, own(text))).collect::<Texts>();
    let texts: Vec<(&Place, Texts)> = places.all.iter().map(|place| (place, of(place))).collect();
    let mut renamed: BTreeMap<(&'static str, String), String> = BTreeMap::new();
    for (_, texts_here) in &texts {
        for (what, id) in texts_here.iter().flat_map(|(_, text)| identifiers(text)) {
            let is_known = places.named(&format!("{what}={id}")).is_some_and(|found| !found.is_empty());
            if is_known || renamed.len() == MOST_NAMES || renamed.contains_key(&(what, id.clone())) {
                continue;
            }
            let new = known.iter().find(|(old, _)| old.eq_ignore_ascii_case(&id)).map(|(_, new)| new.clone());
            // Whoever copied it knows all that got another name: a name that is not among them meant nothing here before either.
            let guessed = || meant(places, &texts, &id).map(|meant| if what == "UUID" { meant.id().to_string() } else { meant.partuuid.clone() });
            let Some(new) = new.or_else(|| known.is_empty().then(guessed).flatten()) else { continue };
            let meant = places.all.iter().find(|place| if what == "UUID" { place.id() == new } else { place.partuuid == new });
            let new = if id.chars().any(|c| c.is_ascii_uppercase()) { new.to_uppercase() } else { new.to_lowercase() };
            // FAT has its letters large, wherever they stand.
            let new =
                if meant.and_then(|meant| meant.found.as_ref()).is_some_and(|found| matches!(found.kind, Kind::Fat12 | Kind::Fat16 | Kind::Fat32))
                    && what == "UUID"
                {
                    new.to_uppercase()
                } else {
                    new
                };
            if new.len() == id.len() {
                renamed.insert((what, id), new);
            }
        }
    }
    for (place, texts) in &texts {
        for (path, _) in texts {
            let Sought::Here(content) = place.file(path) else { continue };
            if content.size() > 8 << 20 {
                continue;
            }
            let Ok(bytes) = crate::places::whole(&content) else { continue };
            let (mut patches, mut told) = (Vec::new(), Vec::new());
            // Places are those of the bytes, whatever encoding titles have.
            let plain: String = bytes.iter().map(|byte| if byte.is_ascii() { char::from(*byte) } else { '?' }).collect();
            let foreign = grub::foreign(&plain);
            for ((what, old), new) in &renamed {
                let mut from = 0;
                while let Some(at) = bytes[from..].windows(old.len()).position(|window| window == old.as_bytes()) {
                    // A short name may be a part of a longer one.
                    let is_part = |byte: Option<&u8>| byte.is_some_and(|byte| byte.is_ascii_hexdigit() || *byte == b'-');
                    let (before, behind) = ((from + at).checked_sub(1).and_then(|before| bytes.get(before)), bytes.get(from + at + old.len()));
                    let is_whole = !is_part(before) && !is_part(behind) && !foreign.iter().any(|range| range.contains(&(from + at)));
                    if is_whole && let Some(patch) = in_file(drive, place, &content, (from + at) as u64, new.as_bytes()) {
                        patches.extend(patch);
                        let line = format!("{what} {old} becomes {new}");
                        if !told.contains(&line) {
                            told.push(line);
                        }
                    }
                    from += at + old.len();
                }
            }
            if !patches.is_empty() {
                out.push(Repair { name: "names", text: format!("{path} on {}: {}", place.name(), told.join(", ")), consequence: None, patches });
            }
        }
    }
}

/// The mark of the partition to be started.
fn active(drive: &Source, table: &Table, places: &Places, out: &mut Vec<Repair>) {
    if table.kind != badger_layout::Kind::Mbr {
        return;
    }
    let marked = places.all.iter().filter(|place| place.partition.bootable).count();
    let wanted: Vec<&Place> = places.all.iter().filter(|place| place.has("/bootmgr") && !place.partition.logical).collect();
    let [wanted] = wanted[..] else { return };
    if marked == 1 && wanted.partition.bootable {
        return;
    }
    let slots = 1..=4u32;
    let patches: Option<Vec<_>> =
        slots.map(|slot| on_drive(drive, 446 + u64::from(slot - 1) * 16, &[if slot == wanted.partition.number { 0x80 } else { 0 }])).collect();
    let text = format!("{} becomes the one that is started", wanted.name());
    out.push(Repair { name: "active", text, consequence: None, patches: patches.into_iter().flatten().flatten().collect() });
}

/// Boot records that say another first sector than the partition's, or lost their code.
fn records(drive: &Source, table: &Table, places: &Places, out: &mut Vec<Repair>) {
    let size = u64::from(table.sector);
    for place in &places.all {
        let kind = place.found.as_ref().map(|found| found.kind);
        let copy = match kind {
            Some(Kind::Ntfs) => (place.partition.sectors - 1) * size,
            Some(Kind::Fat32) => 6 * size,
            _ => continue,
        };
        let (mut record, mut second) = (vec![0; 512], vec![0; 512]);
        let Ok(start) = u32::try_from(place.partition.start) else { continue };
        if drive.read_at(place.start, &mut record).is_err() {
            continue;
        }
        let is_whole = |record: &[u8]| le16(record, 510) == 0xaa55 && record[0x5a..510].iter().any(|byte| *byte != 0);
        let has_copy = drive.read_at(place.start + copy, &mut second).is_ok() && second[3..0x1c] == record[3..0x1c];
        if !is_whole(&record) && has_copy && is_whole(&second) {
            second[0x1c..0x20].copy_from_slice(&start.to_le_bytes());
            let text = format!("the boot record of {} becomes what the volume keeps of it", place.name());
            let patches = on_drive(drive, place.start, &second).flatten().into_iter().collect();
            out.push(Repair { name: "volume-record", text, consequence: None, patches });
            continue;
        }
        if le32(&record, 0x1c) == start {
            continue;
        }
        let mut patches: Vec<Patch> = on_drive(drive, place.start + 0x1c, &start.to_le_bytes()).flatten().into_iter().collect();
        // The copy only where it is one.
        if has_copy && second[..3] == record[..3] && le16(&second, 510) == 0xaa55 {
            patches.extend(on_drive(drive, place.start + copy + 0x1c, &start.to_le_bytes()).flatten());
        }
        let text = format!("the boot record of {} says that it begins at sector {start}", place.name());
        out.push(Repair { name: "volume-record", text, consequence: None, patches });
    }
}

/// The device of a partition as a store names it.
fn device_of(table: &Table, place: &Place) -> Option<Device> {
    if table.kind == badger_layout::Kind::Gpt {
        return Some(Device::Gpt(Guid::parse(&table.disk_id)?, Guid::parse(&place.partition.id)?));
    }
    Some(Device::Mbr(u32::from_str_radix(table.disk_id.trim_start_matches("0x"), 16).ok()?, place.start))
}

/// The bytes of a value of a registry file become others.
fn in_hive(drive: &Source, place: &Place, path: &str, hive: &Hive, (key, name): (&Key, &str), new: &[u8]) -> Option<Vec<Patch>> {
    let range = hive.where_is(key, name).ok()??;
    if range.end - range.start < new.len() as u64 {
        return None;
    }
    let Sought::Here(content) = place.file(path) else { return None };
    in_file(drive, place, &content, range.start, new)
}

/// Devices in boot stores that nothing on the drive is.
fn stores(drive: &Source, table: &Table, places: &Places, out: &mut Vec<Repair>) {
    // Beside one for UEFI nobody reads what an earlier way for BIOS left behind.
    let is_left = places.all.iter().any(|place| place.partition.type_code.is_efi() && place.has("/EFI/Microsoft/Boot/BCD"));
    for place in &places.all {
        for path in ["/Boot/BCD", "/EFI/Microsoft/Boot/BCD"].into_iter().skip(usize::from(is_left)) {
            let Ok(Some(hive)) = hive(place, path) else { continue };
            let (mut patches, mut told) = (Vec::new(), Vec::new());
            let Ok(Some(objects)) = hive.key("Objects") else { continue };
            for object in hive.subkeys(&objects).0 {
                let under = |name: u32| hive.key(&format!(r"Objects\{}\Elements\{name:08x}", object.name)).ok().flatten();
                let file = |name: u32| {
                    under(name)
                        .and_then(|key| hive.value(&key, "Element").ok().flatten())
                        .and_then(|value| value.text())
                        .map(|text| text.replace('\\', "/"))
                };
                for which in [element::DEVICE, element::SYSTEM_DEVICE] {
                    let Some(key) = under(which) else { continue };
                    let Some(device) = hive.value(&key, "Element").ok().flatten().and_then(|value| Device::read(&value.data)) else { continue };
                    if !matches!(device, Device::Gpt(..) | Device::Mbr(..)) || places.all.iter().any(|place| device_of(table, place) == Some(device))
                    {
                        continue;
                    }
                    // What is looked for on it tells which volume it was.
                    let wanted = if which == element::DEVICE {
                        file(element::PATH)
                    } else {
                        file(element::SYSTEM_ROOT).map(|root| root + "/System32/config/SYSTEM")
                    };
                    let Some(wanted) = wanted else { continue };
                    let found: Vec<&Place> = places.all.iter().filter(|place| place.has(&wanted)).collect();
                    let [found] = found[..] else { continue };
                    let Some(new) = device_of(table, found).and_then(|device| device.write()) else { continue };
                    // Only what says the place changes; what else stands there stays.
                    let Some(old) = hive.value(&key, "Element").ok().flatten() else { continue };
                    let mut data = old.data.clone();
                    let len = data.len().min(0x48);
                    data[16..len].copy_from_slice(&new[16..len]);
                    if let Some(patch) = in_hive(drive, place, path, &hive, (&key, "Element"), &data) {
                        patches.extend(patch);
                        let line = format!("what was {device} is {}", found.name());
                        if !told.contains(&line) {
                            told.push(line);
                        }
                    }
                }
            }
            out.push(Repair {
                name: "store",
                text: format!("the boot store {path} on {}: {}", place.name(), told.join("; ")),
                consequence: None,
                patches,
            });
        }
    }
}

/// What a system in swap slept with is marked as used up: it gets its own mark back.
fn swap(drive: &Source, places: &Places, out: &mut Vec<Repair>) {
    for place in places.all.iter().filter(|place| place.found.as_ref().is_some_and(|found| found.kind == Kind::Swap)) {
        let found = SWAP_PAGES.into_iter().find_map(|page| {
            let mut block = vec![0; 4096];
            drive.read_at(place.start + page - 4096, &mut block).ok()?;
            Some((page, swap_mark_of_sleep(block.last_chunk()?)?))
        });
        let Some((page, mark)) = found else { continue };
        let patches = on_drive(drive, place.start + page - mark.len() as u64, &mark).flatten().into_iter().collect();
        out.push(Repair { name: "afresh", text: afresh_text(place), consequence: Some(AFRESH), patches });
    }
}

/// What it costs that a system starts afresh.
const AFRESH: &str = "what was open and not saved when it went to sleep is lost on the target; on the old drive it stays";

fn afresh_text(place: &Place) -> String {
    format!("the system on {} starts afresh: what it kept while it slept is marked as used up", place.name())
}

/// Letters, drivers and sleep of systems.
fn systems(drive: &Source, table: &Table, places: &Places, (wishes, drivers): (Wishes, bool), out: &mut Vec<Repair>) {
    let path = letters::SETTINGS;
    for place in &places.all {
        if wishes.afresh
            && let Ok(volume) = &place.files
            && badger_fs::ntfs::is_asleep(&**volume)
            && let Sought::Here(content) = place.file("/hiberfil.sys")
        {
            let len = content.size().min(4096) as usize;
            out.push(Repair {
                name: "afresh",
                text: afresh_text(place),
                consequence: Some(AFRESH),
                patches: in_file(drive, place, &content, 0, &vec![0; len]).unwrap_or_default(),
            });
        }
        let Ok(Some(hive)) = hive(place, path) else { continue };
        // In the pass that turns it into one for UEFI that sees to them.
        if out.iter().all(|repair| repair.name != "uefi")
            && let Some(lettered) = letters::set_right(drive, places, place, &|place| device_of(table, place))
        {
            let text = match lettered.is_given_up {
                false => format!("C: becomes {}", place.name()),
                true => format!("what C: was is taken out of the registry of {}: the system settles its letters when it starts", place.name()),
            };
            out.push(Repair { name: "letters", text, consequence: None, patches: lettered.patches });
        }
        if !drivers {
            continue;
        }
        let Some(current) = hive.find("Select", "Current").ok().flatten().and_then(|value| value.number()) else { continue };
        for service in STORAGE.iter().flat_map(|(_, services)| services.iter()) {
            let Ok(Some(key)) = hive.key(&format!(r"ControlSet{current:03}\Services\{service}")) else { continue };
            let start = hive.value(&key, "Start").ok().flatten().and_then(|value| value.number());
            if start.is_none_or(|start| start == 0) || !place.has(&format!("/Windows/System32/drivers/{service}.sys")) {
                continue;
            }
            let patches = in_hive(drive, place, path, &hive, (&key, "Start"), &0u32.to_le_bytes()).unwrap_or_default();
            out.push(Repair { name: "drivers", text: format!("{service} starts with the system on {}", place.name()), consequence: None, patches });
        }
    }
}
