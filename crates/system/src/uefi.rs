//! A drive that starts by BIOS gets a way for UEFI: a table of the newer kind, a system partition, and on it the programs that its own systems
//! keep for that, with what they read.

use crate::efi::{FALLBACK, own_of};
use crate::letters::{self, Lettered};
use crate::loader::linux_path;
use crate::patch::{Patch, Repair, on_drive};
use crate::pe::Program;
use crate::places::{Place, Places};
use crate::registry::{Edit, Hive, Value};
use crate::store::{Device, MANAGER, Store, element};
use crate::windows::hive;
use badger_drive::Source;
use badger_drive::field::le32;
use badger_drive::size::human;
use badger_fs::fat::make::{self, New};
use badger_fs::tree::NodeKind;
use badger_inspect::Looked;
use badger_layout::gpt::Gpt;
use badger_layout::{Guid, Table, convert, fit};

/// Files of a system that go onto the system partition have so many bytes at the most.
const MOST_FILES: u64 = 256 << 20;
/// And there are so many of them.
const MOST_COUNT: usize = 4000;
/// What a conversion costs.
pub const CONSEQUENCE: &str =
    "it starts by UEFI then, and by BIOS no more; what its system later updates for starting has to be told of the new system partition";
/// The store's kinds of objects: firmware's part, and a system's loader.
const KINDS: (u32, u32) = (0x1010_0002, 0x1020_0003);

/// Loaders that Linux systems keep for UEFI: the program, and the one in front of it that firmware trusts.
const KEPT: [(&str, Option<&str>); 5] = [
    ("/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", Some("/usr/lib/shim/shimx64.efi.signed")),
    ("/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", None),
    ("/usr/lib/grub/x86_64-efi/monolithic/grubx64.efi", None),
    ("/boot/grub/x86_64-efi/core.efi", None),
    ("/boot/grub/x86_64-efi/grub.efi", None),
];

type File = (String, Vec<u8>);

/// What goes onto the system partition for one system.
struct Filling {
    told: String,
    files: Vec<File>,
}

/// The conversion of a drive, as one repair.
///
/// # Errors
/// Why it cannot be, and what to do by hand.
pub fn conversion(drive: &Source, looked: &Looked) -> Result<Repair, String> {
    of_places(drive, looked, &Places::of(drive, looked))
}

pub(crate) fn of_places(drive: &Source, looked: &Looked, places: &Places) -> Result<Repair, String> {
    hindrance(looked, places).map_or(Ok(()), Err)?;
    let mut gpt = convert::to_gpt(&looked.table, random).map_err(|refusal| refusal.text)?;
    let sector = looked.table.sector;
    let wanted = (fit::system_partition(sector), make::least(sector));
    let number = convert::add_system_partition(&mut gpt, sector, wanted, Guid::from_random(random()))
        .map_err(|refusal| format!("{}; clone again with uefi among the rules of --fit: that leaves room", refusal.text))?;
    let made = gpt.entries.iter().find(|entry| entry.slot + 1 == number).cloned().ok_or("the new partition is not in its table")?;
    let (mut files, mut told, mut without) = (Vec::new(), Vec::new(), Vec::new());
    for filling in [linux(places), windows(places, &looked.table, &gpt, number)] {
        match filling {
            Ok(Some(filling)) => {
                told.push(filling.told);
                files.extend(
                    filling
                        .files
                        .into_iter()
                        .filter(|(path, _)| !files.iter().any(|(other, _): &File| other.eq_ignore_ascii_case(path)))
                        .collect::<Vec<_>>(),
                );
            }
            Ok(None) => {}
            Err(why) => without.push(why),
        }
    }
    if files.is_empty() {
        return Err(match without.is_empty() {
            true => "no system was found on it that could be started by UEFI".into(),
            false => without.join("; "),
        });
    }
    let size = u64::from(sector);
    let serial = Guid::from_random(random()).0;
    let new = New { sector, len: (made.last - made.first + 1) * size, first: made.first, serial: le32(&serial, 0), label: "EFI" };
    let laid: Vec<(&str, &[u8])> = files.iter().map(|(path, bytes)| (path.as_str(), bytes.as_slice())).collect();
    let changes = make::made(&new, &laid).map_err(|finding| format!("the system partition could not be filled: {}", finding.text))?;
    // Boot code for BIOS would go on with what the table lies over by now.
    gpt.mbr.boot_code = vec![0; 440];
    let mut table = gpt.write(sector);
    // The first sectors come last: until then the drive is what it was.
    table.reverse();
    let unreadable = || "what stands where it would be written cannot be read".to_string();
    let mut patches: Vec<Patch> = Vec::new();
    let all = changes.into_iter().map(|(at, bytes)| (made.first * size + at, bytes)).chain(table.into_iter().map(|(at, bytes)| (at * size, bytes)));
    for (at, bytes) in all {
        patches.extend(on_drive(drive, at, &bytes).ok_or_else(unreadable)?);
    }
    let letters = letters(drive, places, &gpt, &mut patches);
    let text = format!(
        "{}partition {number} becomes a system partition of {}; on it {}{letters}{}",
        if looked.table.kind == badger_layout::Kind::Mbr { "the table becomes a GPT, with every partition where it is; " } else { "" },
        human(new.len),
        told.join(", and "),
        without.iter().map(|why| format!("; {why}")).collect::<String>()
    );
    Ok(Repair { name: "uefi", text, consequence: Some(CONSEQUENCE), patches })
}

/// What a conversion of the drive's systems would start by, on a drive that has room for it.
///
/// # Errors
/// Why there is nothing, and what to do by hand.
pub fn prospect(drive: &Source, looked: &Looked) -> Result<String, String> {
    let places = Places::of(drive, looked);
    hindrance(looked, &places).map_or(Ok(()), Err)?;
    let (linux, windows) = (linux(&places), kept(&places));
    match (&linux, &windows) {
        (Ok(Some(filling)), _) => Ok(filling.told.clone()),
        (_, Ok(Some((place, ..)))) => Ok(format!("/Windows/Boot/EFI of {}", place.name())),
        (Err(why), _) | (_, Err(why)) => Err(why.clone()),
        _ => Err("no system was found on it that could be started by UEFI".into()),
    }
}

/// What keeps a drive from being converted, whatever its systems keep.
fn hindrance(looked: &Looked, places: &Places) -> Option<String> {
    let there = places.all.iter().find(|place| place.partition.type_code.is_efi());
    let text = |place: &Place| format!("there is a system partition already, {}: mend what keeps it from starting", place.name());
    there.map(text).or_else(|| named_by_table(&looked.table, places))
}

/// What names a volume by an identifier that only the older table has.
fn named_by_table(table: &Table, places: &Places) -> Option<String> {
    if table.kind != badger_layout::Kind::Mbr {
        return None;
    }
    for place in &places.all {
        for (path, text) in place.configurations() {
            let text = text.to_lowercase();
            let names = |other: &&Place| {
                !other.partuuid.is_empty() && text.lines().any(|line| !line.trim_start().starts_with('#') && line.contains(&other.partuuid))
            };
            if let Some(other) = places.all.iter().find(names) {
                return Some(format!(
                    "{path} on {} names {} by the older table's identifier, PARTUUID={}: name it by UUID= in the running system first",
                    place.name(),
                    other.name(),
                    other.partuuid
                ));
            }
        }
    }
    None
}

/// The name at which firmware looks for a program of its processor.
fn fallback(program: &Program) -> Option<String> {
    FALLBACK.iter().find(|(_, machine)| *machine == program.machine).map(|(name, _)| format!("/EFI/BOOT/{}", name.to_uppercase()))
}

/// A Linux system: its loader's program, and a short configuration that finds its own.
fn linux(places: &Places) -> Result<Option<Filling>, String> {
    let folders = ["/boot/grub", "/boot/grub2", "/grub", "/grub2"];
    let config = |place: &Place| folders.into_iter().find(|folder| place.has(&format!("{folder}/grub.cfg")));
    let Some((on, folder)) = places.all.iter().find_map(|place| Some((place, config(place)?))) else { return Ok(None) };
    if on.id().is_empty() {
        return Err(format!("{}, with the loader's configuration, has no identifier that it could be found by", on.name()));
    }
    let prefix = on.whole_path(folder);
    let stub = format!("search --no-floppy --fs-uuid --set=root {}\nset prefix=($root){prefix}\nconfigfile $prefix/grub.cfg\n", on.id());
    for system in &places.all {
        for (path, front) in KEPT {
            let (Ok(Some(bytes)), front) = (system.read(path), front.map(|front| system.read(front))) else { continue };
            let Ok(program) = Program::read(&bytes) else { continue };
            let Some(name) = fallback(&program) else { continue };
            let built = own_of(&program, &bytes);
            // One with a configuration of its own finds what it was made for, and no other.
            if !built.config.is_empty() && !built.config.contains(on.id()) {
                continue;
            }
            let prefix = linux_path(built.prefix.as_deref().unwrap_or_default());
            let mut files: Vec<File> = match front {
                Some(Ok(Some(front))) => vec![(name, front), ("/EFI/BOOT/GRUBX64.EFI".into(), bytes)],
                Some(_) => continue,
                None => vec![(name, bytes)],
            };
            let mut prefixes = vec!["/EFI/BOOT".to_string()];
            prefixes.extend(prefix.starts_with("/EFI/").then_some(prefix));
            prefixes.dedup();
            files.extend(prefixes.into_iter().map(|prefix| (format!("{prefix}/grub.cfg"), stub.clone().into_bytes())));
            let signed = if program.is_signed { "" } else { " (not signed: not with Secure Boot)" };
            return Ok(Some(Filling { told: format!("{path} of {}{signed}, which goes on with {folder}/grub.cfg", system.name()), files }));
        }
    }
    Err(format!(
        "the system on {} keeps no loader for UEFI: start it by BIOS once, install its loader's package for UEFI (grub-efi-amd64-bin, grub2-efi-x64), and clone again",
        on.name()
    ))
}

/// Everything below a folder, with other paths.
fn below(place: &Place, from: &str, to: &str, files: &mut Vec<File>) -> Result<(), String> {
    let mut folders = vec![(from.to_string(), to.to_string())];
    while let Some((from, to)) = folders.pop() {
        for (name, node) in place.list(&from) {
            let (from, to) = (format!("{from}/{name}"), format!("{to}/{name}"));
            match node.kind {
                NodeKind::Directory => folders.push((from, to)),
                NodeKind::File => {
                    let bytes = place.read(&from).map_err(|why| format!("{from} on {} cannot be read: {why}", place.name()))?;
                    files.push((to, bytes.unwrap_or_default()));
                }
                _ => {}
            }
            let all: u64 = files.iter().map(|(_, bytes)| bytes.len() as u64).sum();
            if files.len() > MOST_COUNT || folders.len() > MOST_COUNT || all > MOST_FILES {
                return Err(format!("a folder for starting on {} holds more than any system keeps there", place.name()));
            }
        }
    }
    Ok(())
}

type Kept<'a> = (&'a Place, Vec<u8>, String);

/// A system of the NT family that keeps what it takes: its volume, the program, and the name at which firmware looks for that.
fn kept(places: &Places) -> Result<Option<Kept<'_>>, String> {
    let Some(place) = places.all.iter().find(|place| place.has("/Windows/System32/config/SYSTEM")) else { return Ok(None) };
    let lacks = |what: &str| format!("the system on {} keeps no {what} for UEFI: set up a way for it with its own tools", place.name());
    let program = place.read("/Windows/Boot/EFI/bootmgfw.efi")?.ok_or_else(|| lacks("/Windows/Boot/EFI/bootmgfw.efi"))?;
    if !place.has("/Windows/System32/winload.efi") {
        return Err(lacks("/Windows/System32/winload.efi"));
    }
    let name = Program::read(&program).ok().and_then(|program| fallback(&program)).ok_or_else(|| lacks("program that firmware could run"))?;
    Ok(Some((place, program, name)))
}

/// A system of the NT family: what it keeps for UEFI, and its boot store.
fn windows(places: &Places, table: &Table, gpt: &Gpt, number: u32) -> Result<Option<Filling>, String> {
    let Some((place, program, name)) = kept(places)? else { return Ok(None) };
    let mut files = vec![(name, program)];
    for (from, to) in [("/Windows/Boot/EFI", ""), ("/Windows/Boot/Fonts", "/Fonts"), ("/Windows/Boot/Resources", "/Resources")] {
        below(place, from, &format!("/EFI/Microsoft/Boot{to}"), &mut files)?;
    }
    let device = |number: u32| gpt.entries.iter().find(|entry| entry.slot + 1 == number).map(|entry| Device::Gpt(gpt.disk_id, entry.id));
    let (Some(own), Some(system)) = (device(number), device(place.partition.number)) else { return Err("its partition is not in the table".into()) };
    // The store that it has, with everything in it; else a new one.
    let old = places.all.iter().find_map(|other| hive(other, "/Boot/BCD").ok().flatten().map(|hive| (other, hive)));
    let of_start = |start: u64| places.all.iter().find(|place| place.start == start).and_then(|place| device(place.partition.number));
    let (store, how) = match &old {
        Some((other, hive)) => {
            let store = converted(hive, own, |device| match device {
                Device::Mbr(_, start) if table.kind == badger_layout::Kind::Mbr => of_start(start).unwrap_or(system),
                _ => system,
            });
            (store.map_err(|wrong| format!("the boot store on {} cannot be written anew: {wrong}", other.name()))?, "its boot store converted")
        }
        None => (new_store(own, system).map_err(|wrong| wrong.text)?, "a new boot store"),
    };
    files.push(("/EFI/Microsoft/Boot/BCD".into(), store));
    Ok(Some(Filling { told: format!("/Windows/Boot/EFI of {}, with {how}", place.name()), files }))
}

fn random() -> [u8; 16] {
    let mut bytes = [0; 16];
    getrandom::fill(&mut bytes).expect("the system gives random bytes");
    bytes
}

fn element_at(object: &str, number: u32) -> String {
    format!(r"Objects\{object}\Elements\{number:08x}")
}

fn set(edit: &mut Edit, object: &str, number: u32, value: Value) -> crate::registry::Result<()> {
    edit.set(&element_at(object, number), &Value { name: "Element".into(), ..value })
}

fn set_device(edit: &mut Edit, object: &str, number: u32, device: Device) -> crate::registry::Result<()> {
    device.write().map_or(Ok(()), |data| set(edit, object, number, Value::of_bytes("", &data)))
}

/// A store for BIOS as one for UEFI: its devices by the new table, its programs those for UEFI. What else is in it stays.
fn converted(hive: &Hive, own: Device, place: impl Fn(Device) -> Device) -> crate::registry::Result<Vec<u8>> {
    let store = Store::read(hive)?;
    let mut edit = Edit::of(hive)?;
    for (name, object) in &store.objects {
        for number in [element::DEVICE, element::SYSTEM_DEVICE] {
            match object.device(number) {
                Some(_) if name == MANAGER => set_device(&mut edit, name, number, own)?,
                Some(device @ (Device::Mbr(..) | Device::Gpt(..))) => set_device(&mut edit, name, number, place(device))?,
                _ => {}
            }
        }
        let path = object.text(element::PATH).unwrap_or_default();
        let low = path.to_lowercase();
        let new = match () {
            () if name == MANAGER => Some(r"\EFI\Microsoft\Boot\bootmgfw.efi".to_string()),
            () if low.ends_with(r"\winload.exe") || low.ends_with(r"\winresume.exe") => Some(format!("{}.efi", &path[..path.len() - 4])),
            () if low == r"\boot\memtest.exe" => Some(r"\EFI\Microsoft\Boot\memtest.efi".into()),
            () => None,
        };
        if let Some(new) = new {
            set(&mut edit, name, element::PATH, Value::of_text("", &new))?;
        }
    }
    if !store.objects.get(MANAGER).is_some_and(|object| object.elements.contains_key(&element::DEVICE)) {
        set_device(&mut edit, MANAGER, element::DEVICE, own)?;
        set(&mut edit, MANAGER, element::PATH, Value::of_text("", r"\EFI\Microsoft\Boot\bootmgfw.efi"))?;
    }
    edit.set(&format!(r"Objects\{MANAGER}\Description"), &Value::of_number("Type", KINDS.0))?;
    Ok(edit.bytes())
}

/// A store with one system.
fn new_store(own: Device, system: Device) -> crate::registry::Result<Vec<u8>> {
    let loader = format!("{{{}}}", Guid::from_random(random()).to_string().to_lowercase());
    let mut edit = Edit::new("BCD00000000");
    edit.set("Description", &Value::of_text("KeyName", "BCD00000000"))?;
    for (object, kind) in [(MANAGER, KINDS.0), (loader.as_str(), KINDS.1)] {
        edit.set(&format!(r"Objects\{object}\Description"), &Value::of_number("Type", kind))?;
    }
    set_device(&mut edit, MANAGER, element::DEVICE, own)?;
    set_device(&mut edit, &loader, element::DEVICE, system)?;
    set_device(&mut edit, &loader, element::SYSTEM_DEVICE, system)?;
    for (object, number, text) in [
        (MANAGER, element::PATH, r"\EFI\Microsoft\Boot\bootmgfw.efi"),
        (MANAGER, element::DESCRIPTION, "Boot Manager"),
        (MANAGER, element::DEFAULT, loader.as_str()),
        (&loader, element::PATH, r"\Windows\system32\winload.efi"),
        (&loader, element::DESCRIPTION, "Windows"),
        (&loader, element::SYSTEM_ROOT, r"\Windows"),
    ] {
        set(&mut edit, object, number, Value::of_text("", text))?;
    }
    set(&mut edit, MANAGER, element::SHOWN, Value::of_texts("", &[&loader]))?;
    Ok(edit.bytes())
}

/// Letters that a system of the NT family keeps by the older table are kept by the newer one, where the registry file has room for that.
fn letters(drive: &Source, places: &Places, gpt: &Gpt, patches: &mut Vec<Patch>) -> &'static str {
    let Some(own) = places.all.iter().find(|place| place.has(letters::SETTINGS)) else { return "" };
    let device = |place: &Place| {
        let entry = gpt.entries.iter().find(|entry| entry.slot + 1 == place.partition.number)?;
        Some(Device::Gpt(gpt.disk_id, entry.id))
    };
    match letters::set_right(drive, places, own, &device) {
        Some(Lettered { patches: more, is_given_up: false }) => {
            patches.extend(more);
            "; its letters stay"
        }
        Some(Lettered { patches: more, is_given_up: true }) => {
            patches.extend(more);
            "; its letters it settles itself when it starts"
        }
        None => "",
    }
}
