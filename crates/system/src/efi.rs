//! Firmware of the new kind: the system partition, the programs on it, and what they read.

use crate::entries::{self, Entries, Starts};
use crate::kernel::processor_of;
use crate::link::{Chain, Firmware, Link, Offers};
use crate::linux::{self, Handed, words};
use crate::loader::{Built, Started, built, linux_path, script};
use crate::pe::{LoaderKind, Machine, Program};
use crate::places::{Place, Places};
use crate::windows;
use badger_fs::tree::NodeKind;
use badger_fs::volume::{Kind, State};
use badger_inspect::Verdict;

/// Where firmware looks that knows nothing of the drive, for each processor.
pub(crate) const FALLBACK: [(&str, Machine); 3] = [("bootx64.efi", Machine::X64), ("bootia32.efi", Machine::X86), ("bootaa64.efi", Machine::Arm64)];
/// A longer program is not looked into.
const MOST_PROGRAM: u64 = 256 << 20;
/// Nor are more bytes of all of them together.
const MOST_PROGRAMS: u64 = 512 << 20;
/// Nor more folders.
const MOST_FOLDERS: usize = 200;

/// Nor more partitions that are marked as system partitions.
const MOST_PARTITIONS: usize = 8;

/// A program on the system partition.
struct Found {
    path: String,
    bytes: Vec<u8>,
    program: Program,
    /// By its sections.
    kind: LoaderKind,
}

/// The programs on a system partition.
#[derive(Default)]
struct Programs {
    /// Those that are sound.
    sound: Vec<Found>,
    /// Why others are not, path first.
    wrong: Vec<String>,
    /// What was not looked into, path first: a limit of ours, and no fault.
    beyond: Vec<String>,
}

/// Whether a path, or a text that begins with one, lies where firmware looks by itself.
fn is_fallback(path: &str) -> bool {
    path.to_lowercase().starts_with("/efi/boot/")
}

impl Found {
    fn is_fallback(&self) -> bool {
        is_fallback(&self.path)
    }

    fn says(&self, text: &[u8]) -> bool {
        memchr::memmem::find(&self.bytes, text).is_some()
    }

    /// What a loader that firmware starts most likely is: where its sections do not say, by words in it and its name.
    fn likely(&self) -> LoaderKind {
        let manager: Vec<u8> = "bootmgfw".encode_utf16().flat_map(u16::to_le_bytes).collect();
        match self.kind {
            LoaderKind::Unknown if self.says(b"#### LoaderInfo: systemd-boot") => LoaderKind::SystemdBoot,
            LoaderKind::Unknown if self.path.to_lowercase().ends_with("/bootmgfw.efi") || self.says(&manager) => LoaderKind::WindowsBootManager,
            kind => kind,
        }
    }

    /// Whether shim may start it from its own folder: GRUB, or what took GRUB's name.
    fn is_second(&self) -> bool {
        let is_shims = matches!(self.kind, LoaderKind::Shim | LoaderKind::ShimHelper);
        self.kind == LoaderKind::Grub || !is_shims && self.path.to_lowercase().contains("grub")
    }

    fn folder(&self) -> &str {
        self.path.rsplit_once('/').map_or("", |(folder, _)| folder)
    }

    /// Whether it starts systems.
    fn is_loader(&self) -> bool {
        match self.kind {
            LoaderKind::ShimHelper => false,
            LoaderKind::Unknown => is_loader(&self.path),
            _ => true,
        }
    }
}

/// The way through firmware of the new kind; `None` where nothing was ever made for it.
pub(crate) fn chain(places: &Places) -> Option<Chain> {
    let chain = |links| Chain { firmware: Firmware::Uefi, links };
    let all: Vec<&Place> = places.all.iter().filter(|place| place.partition.type_code.is_efi()).collect();
    // A volume with these programs that is not marked as the system partition is found by some firmware only.
    let unmarked = places.all.iter().find(|place| !place.partition.type_code.is_efi() && !place.list("/EFI").is_empty() && is_fat(place));
    if all.is_empty() {
        let place = unmarked?;
        let text = format!("{} has programs for firmware, and is not marked as the system partition: firmware does not look there", place.name());
        return Some(chain(vec![Link::broken("system-partition", text)]));
    }
    // Of several, one that is there for rescue only, or empty, does not speak for the system: the one that leads furthest does, and
    // the system's own before others.
    let mounted =
        |place: &Place| places.all.iter().any(|other| other.text("/etc/fstab").is_ok_and(|text| text.is_some_and(|text| mounts(&text, place))));
    let chains = all.iter().take(MOST_PARTITIONS).map(|place| (*place, chain(of_partition(places, place))));
    let rank = |(place, chain): &(&Place, Chain)| {
        let verdict = match chain.verdict() {
            Verdict::Holds => 0,
            Verdict::NotChecked => 1,
            _ => 2,
        };
        (place.list("/EFI").is_empty(), !mounted(place), verdict)
    };
    let (place, mut best) = chains.min_by_key(rank)?;
    if all.len() > 1 {
        let others = all.iter().filter(|other| other.partition.number != place.partition.number).map(|other| other.name()).collect::<Vec<_>>();
        let text = format!("{} can also be started from: which one the firmware takes, its own settings say", others.join(", "));
        if let Some(link) = best.links.first_mut() {
            link.evidence.push(text);
        }
    }
    Some(best)
}

/// Whether a table of mounts has the volume as the place of the loaders.
fn mounts(fstab: &str, place: &Place) -> bool {
    let lines = fstab.lines().map(|line| line.split_whitespace().collect::<Vec<_>>());
    let mut lines = lines.filter(|fields| fields.len() > 2 && matches!(fields[1], "/boot/efi" | "/efi" | "/boot"));
    lines
        .any(|fields| !place.id().is_empty() && fields[0].ends_with(place.id()) || !place.partuuid.is_empty() && fields[0].ends_with(&place.partuuid))
}

/// The way from one system partition on.
fn of_partition(places: &Places, place: &Place) -> Vec<Link> {
    let mut links = Vec::new();
    let broken = |text: String| Link::broken("system-partition", text);
    match &place.found {
        _ if !is_fat(place) && place.found.is_some() => {
            links.push(broken(format!("the system partition, {}, holds no FAT: firmware cannot read it", place.name())));
            return links;
        }
        None => {
            links.push(broken(format!("the system partition, {}, holds no file system that is known", place.name())));
            return links;
        }
        Some(found) if found.state == State::Damaged => {
            links.push(broken(format!("the file system of the system partition is damaged: {}", found.problems.join("; "))));
        }
        Some(_) => links.push(Link::holds("system-partition", format!("the system partition is {}, FAT", place.name()))),
    }
    if let Err(why) = &place.files {
        links.push(broken(format!("the files of the system partition cannot be read: {why}")));
        return links;
    }
    let programs = programs(place);
    if let Some(start) = loaders(place, &programs, &mut links) {
        from(places, place, start, &programs, &mut links);
    }
    links
}

fn is_fat(place: &Place) -> bool {
    matches!(place.found.as_ref().map(|found| found.kind), Some(Kind::Fat12 | Kind::Fat16 | Kind::Fat32))
}

/// Every program below `/EFI`, two folders deep.
fn programs(place: &Place) -> Programs {
    let (mut out, mut total) = (Programs::default(), 0);
    let mut folders = vec!["/EFI".to_string()];
    for (name, node) in place.list("/EFI") {
        if node.kind == NodeKind::Directory {
            let path = format!("/EFI/{name}");
            folders.extend(
                place.list(&path).into_iter().filter(|(_, node)| node.kind == NodeKind::Directory).map(|(below, _)| format!("{path}/{below}")),
            );
            folders.push(path);
        }
    }
    // First where firmware looks by itself: no limit leaves that out for others.
    folders.sort_by_cached_key(|folder| (!is_fallback(&format!("{folder}/")), folder.clone()));
    let rest = folders.split_off(folders.len().min(MOST_FOLDERS));
    out.beyond.extend(rest.first().map(|first| format!("{first} and folders after it were not looked at: there are more than are gone through")));
    for folder in &folders {
        for (name, node) in place.list(folder) {
            if node.kind != NodeKind::File || !name.to_lowercase().ends_with(".efi") {
                continue;
            }
            let path = format!("{folder}/{name}");
            if node.size > MOST_PROGRAM || total + node.size > MOST_PROGRAMS {
                out.beyond.push(format!("{path} was not looked into: there is more than is read here"));
                continue;
            }
            total += node.size;
            match place.read(&path).map(|bytes| bytes.unwrap_or_default()) {
                Err(why) => out.wrong.push(format!("{path} cannot be read: {why}")),
                Ok(bytes) => match Program::read(&bytes) {
                    Err(why) => out.wrong.push(format!("{path}: {why}")),
                    Ok(program) if program.is_as_signed(&bytes) == Some(false) => {
                        out.wrong.push(format!("{path} is damaged: its bytes are not those that were signed"));
                    }
                    Ok(program) => out.sound.push(Found { kind: program.kind(&bytes), path, bytes, program }),
                },
            }
        }
    }
    out
}

/// The program that firmware starts, by its number.
fn loaders(place: &Place, all: &Programs, links: &mut Vec<Link>) -> Option<usize> {
    let Programs { sound: programs, wrong, beyond } = all;
    let said = programs.iter().map(|found| {
        format!(
            "{}: {}{}",
            found.path,
            found.program.machine.word(),
            if found.program.is_signed { ", signed" } else { ", not signed: not with Secure Boot" }
        )
    });
    let evidence: Vec<String> = said.chain(wrong.iter().cloned()).chain(beyond.iter().cloned()).collect();
    let fallback = programs.iter().position(|found| {
        let name = found.path.rsplit('/').next().unwrap_or_default().to_lowercase();
        found.is_fallback() && FALLBACK.iter().any(|(wanted, machine)| *wanted == name && *machine == found.program.machine)
    });
    let misplaced = programs.iter().find(|found| {
        let name = found.path.rsplit('/').next().unwrap_or_default().to_lowercase();
        found.is_fallback() && FALLBACK.iter().any(|(wanted, machine)| *wanted == name && *machine != found.program.machine)
    });
    let at_fallback = |text: &&String| text.to_lowercase().starts_with("/efi/boot/boot");
    let damaged = wrong.iter().find(at_fallback);
    let own = programs.iter().position(|found| !found.is_fallback() && found.program.is_for_firmware && found.is_loader());
    // Where no loader is known, what was not looked into may be one, wherever it lies.
    let unseen = beyond.iter().find(at_fallback).or_else(|| beyond.first().filter(|_| own.is_none()));
    let offers = |at: usize| Offers {
        processor: Some(programs[at].program.machine),
        is_signed: Some(programs[at].program.is_signed),
        is_fallback: Some(fallback == Some(at)),
        ..Offers::default()
    };
    if let Some(found) = misplaced {
        let text = format!("{} is a program for {}: firmware that looks there cannot run it", found.path, found.program.machine.word());
        links.push(Link::broken("loader", text).with(evidence.clone()));
        return fallback.or(own);
    }
    match (fallback, own, damaged, unseen) {
        (Some(at), ..) => {
            links.push(
                Link::holds("loader", format!("{} is there, a program for {}", programs[at].path, programs[at].program.machine.word()))
                    .with(evidence)
                    .offering(offers(at)),
            );
            Some(at)
        }
        (None, _, Some(damaged), _) => {
            links.push(Link::broken("loader", damaged.clone()).with(evidence));
            None
        }
        (None, _, None, Some(unseen)) => {
            links.push(Link::unknown("loader", unseen.clone()).with(evidence));
            None
        }
        (None, Some(at), None, None) => {
            let text = format!(
                "there is no program at the fallback path; {} starts only where the machine itself has an entry for it, which is not on the drive",
                programs[at].path
            );
            links.push(Link::unknown("loader", text).with(evidence).offering(offers(at)));
            Some(at)
        }
        (None, None, None, None) => {
            links.push(Link::broken("loader", format!("no program for firmware is on {}", place.name())).with(evidence));
            None
        }
    }
}

/// What has to be laid where firmware looks by itself.
pub(crate) struct Fallback<'a> {
    /// The system partition.
    pub place: &'a Place,
    /// The program that is meant.
    pub from: String,
    /// Paths, and what is to be there.
    pub files: Vec<(String, Vec<u8>)>,
}

/// A loader for where firmware looks by itself. `None` where one is there, or none is known.
pub(crate) fn fallback(places: &Places) -> Option<Fallback<'_>> {
    let place = places.all.iter().find(|place| place.partition.type_code.is_efi() && is_fat(place) && !place.list("/EFI").is_empty())?;
    let Programs { sound: programs, wrong, beyond } = programs(place);
    // What is there and damaged, or was not looked into, is not written over.
    if programs.iter().any(Found::is_fallback) || wrong.iter().chain(&beyond).any(|text| is_fallback(text)) {
        return None;
    }
    let is_own = |found: &&Found| found.program.is_for_firmware && found.is_loader();
    // shim comes before what it starts, and what starts any system before the loader of one.
    let rank = |found: &Found| match found.kind {
        LoaderKind::Shim => 0,
        LoaderKind::Grub | LoaderKind::SystemdBoot => 1,
        _ => 2,
    };
    let own = programs.iter().filter(is_own).min_by_key(|found| (rank(found), found.path.as_str()))?;
    let (name, _) = FALLBACK.iter().find(|(_, machine)| *machine == own.program.machine)?;
    let mut files = vec![(format!("/EFI/BOOT/{}", name.to_uppercase()), own.bytes.clone())];
    if own.kind == LoaderKind::Shim {
        let next = programs.iter().find(|found| found.folder() == own.folder() && found.is_second())?;
        files.push((format!("/EFI/BOOT/{}", next.path.rsplit('/').next()?.to_uppercase()), next.bytes.clone()));
    }
    Some(Fallback { place, from: own.path.clone(), files })
}

/// Whether a program by its name is one that starts systems.
fn is_loader(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or_default().to_lowercase();
    ["grub", "shim", "bootmgfw", "systemd-boot"].iter().any(|start| name.starts_with(start)) || path.to_lowercase().starts_with("/efi/linux/")
}

/// Goes on from a program.
fn from(places: &Places, place: &Place, start: usize, all: &Programs, links: &mut Vec<Link>) {
    let programs = &all.sound[..];
    let found = &programs[start];
    let store = "/EFI/Microsoft/Boot/BCD";
    let next = match found.likely() {
        LoaderKind::Unknown if place.has(store) => return windows::follow(places, &places.table, place, store, Firmware::Uefi, links),
        // It starts what lies beside it; its copy at the fallback path starts the one that its helper finds elsewhere.
        LoaderKind::Shim => {
            let beside = programs.iter().position(|other| other.folder() == found.folder() && other.is_second());
            beside.or_else(|| programs.iter().position(Found::is_second))
        }
        _ => Some(start),
    };
    let Some(next) = next else {
        if let Some(unseen) = all.beyond.iter().find(|text| text.to_lowercase().contains("grub") && !is_fallback(text)) {
            return links.push(Link::unknown("second-loader", format!("{} starts a second loader: {unseen}", found.path)));
        }
        return links.push(Link::broken("second-loader", format!("{} starts a second loader, and none is beside it", found.path)));
    };
    let loader = &programs[next];
    if next != start && loader.program.is_as_signed(&loader.bytes) == Some(false) {
        let text = format!("{}, which {} starts, is damaged: its bytes are not those that were signed", loader.path, found.path);
        return links.push(Link::broken("second-loader", text));
    }
    of_loader(places, place, loader, links);
}

/// A loader that another one starts, by its path.
pub(crate) fn chained(places: &Places, place: &Place, path: &str, links: &mut Vec<Link>) {
    let name = format!("{path} on {}", place.name());
    let bytes = match place.needed(path, "second-loader", "the second loader") {
        Ok(bytes) => bytes,
        Err(link) => return links.push(link),
    };
    let program = match Program::read(&bytes) {
        Ok(program) => program,
        Err(why) => return links.push(Link::broken("second-loader", format!("{name}: {why}"))),
    };
    if program.is_as_signed(&bytes) == Some(false) {
        return links.push(Link::broken("second-loader", format!("{name} is damaged: its bytes are not those that were signed")));
    }
    links.push(Link::holds("second-loader", format!("{name} is there, a program for {}", program.machine.word())));
    let found = Found { kind: program.kind(&bytes), path: path.to_string(), bytes, program };
    match found.likely() {
        // What goes on from there to others is not followed round and round.
        LoaderKind::Grub | LoaderKind::Shim | LoaderKind::SystemdBoot => {
            links.push(Link::unknown("stub", format!("what {name} starts was not looked into")))
        }
        _ => of_loader(places, place, &found, links),
    }
}

/// Everything that a loader starts.
fn of_loader(places: &Places, place: &Place, loader: &Found, links: &mut Vec<Link>) {
    match loader.likely() {
        LoaderKind::UnifiedKernel => return unified(places, place, &loader.path, &loader.bytes, links),
        LoaderKind::SystemdBoot => return of_entries(places, place, loader.program.machine, links),
        LoaderKind::WindowsBootManager => {
            return windows::follow(places, &places.table, place, "/EFI/Microsoft/Boot/BCD", Firmware::Uefi, links);
        }
        _ => {}
    }
    let started = Started { firmware: Firmware::Uefi, processor: processor_of(loader.program.machine) };
    let Built { config, prefix } = own(loader);
    let chained = match prefix {
        _ if !config.is_empty() => {
            let path = prefix.unwrap_or_else(|| "/boot/grub".into());
            script(places, Some(place), (&config, &linux_path(&path), true), started, links)
        }
        Some(prefix) => {
            let path = format!("{}/grub.cfg", linux_path(&prefix));
            let found = match place.text(&path) {
                Ok(Some(text)) => Ok(text),
                Ok(None) => Err(format!("{} looks for {path}, which is not on {}", loader.path, place.name())),
                Err(why) => Err(format!("{path} on {} cannot be read: {why}", place.name())),
            };
            match found {
                Ok(text) => script(places, Some(place), (&text, &linux_path(&prefix), false), started, links),
                Err(why) => {
                    links.push(Link::broken("stub", why));
                    None
                }
            }
        }
        None => {
            links.push(Link::unknown("stub", format!("what {} reads is not known here", loader.path)));
            None
        }
    };
    if let Some((place, path)) = chained {
        self::chained(places, place, &path, links);
    }
}

/// What is built into a program, where it is a loader of the usual kind.
fn own(found: &Found) -> Built {
    own_of(&found.program, &found.bytes)
}

pub(crate) fn own_of(program: &Program, bytes: &[u8]) -> Built {
    program.section(bytes, "mods").and_then(built).unwrap_or_default()
}

/// Entries of the Boot Loader Specification.
fn of_entries(places: &Places, place: &Place, machine: Machine, links: &mut Vec<Link>) {
    let Entries { all, unmatched } = entries::entries(places, place, machine);
    let Some(first) = all.first() else {
        // It finds the Windows loader by itself.
        let windows = "/EFI/Microsoft/Boot/bootmgfw.efi";
        if place.has(windows) {
            links.push(Link::holds("configuration", format!("systemd-boot finds no entry on {}, and starts the Windows Boot Manager", place.name())));
            return chained(places, place, windows, links);
        }
        return links.push(Link::broken("configuration", format!("systemd-boot finds no entry on {}", place.name())));
    };
    let told = format!("{} on {}", first.path, first.place.name());
    let mut evidence: Vec<String> = all.iter().map(|found| format!("{}: {}", found.path, found.title)).collect();
    evidence.extend(unmatched.map(|default| format!("loader.conf names {default} as the default, which no entry is")));
    let mut add = |link: Link| links.push(link.with(std::mem::take(&mut evidence)));
    if first.left == Some(0) {
        add(Link::unknown("configuration", format!("{told} starts \"{}\", of which every attempt to start failed", first.title)));
    }
    match &first.starts {
        Starts::Kernel(entry) if entry.kernel.is_empty() => add(Link::broken("configuration", format!("{told} names no kernel"))),
        Starts::Kernel(entry) => {
            add(Link::holds("configuration", format!("{told} starts \"{}\"", first.title)));
            let bytes = first.place.read(&entry.kernel).ok().flatten();
            // The kernel of an entry may be a unified image.
            match bytes.filter(|bytes| Program::read(bytes).is_ok_and(|program| program.kind(bytes) == LoaderKind::UnifiedKernel)) {
                Some(bytes) => unified(places, first.place, &entry.kernel, &bytes, links),
                None => linux::follow(places, first.place, entry, processor_of(machine), links),
            }
        }
        Starts::Program(path) => {
            add(Link::holds("configuration", format!("{told} starts \"{}\"", first.title)));
            chained(places, first.place, path, links);
        }
    }
}

/// A unified kernel image: a kernel, its initial RAM file system and its options in one program (UAPI group, "Unified Kernel Image").
fn unified(places: &Places, place: &Place, path: &str, bytes: &[u8], links: &mut Vec<Link>) {
    let program = match Program::read(bytes) {
        Ok(program) => program,
        Err(why) => return links.push(Link::broken("kernel", format!("{path} on {}: {why}", place.name()))),
    };
    let section = |name: &str| program.section(bytes, name);
    let text = |name: &str| section(name).map(|inner| String::from_utf8_lossy(inner).trim_end_matches('\0').to_string());
    let told = format!("{path} on {}", place.name());
    let initrds = [".ucode", ".initrd"].into_iter().filter_map(|name| section(name).map(|inner| (format!("in {told}"), Ok(inner.to_vec()))));
    let handed = Handed {
        on: place,
        kernel_told: format!("the kernel in {told}"),
        kernel: section(".linux").map(<[u8]>::to_vec).ok_or_else(|| Link::broken("kernel", format!("{told} holds no kernel"))),
        kernel_path: None,
        initrds: initrds.collect(),
        last: None,
        options: text(".cmdline").map(|text| words(&text)).unwrap_or_default(),
        processor: processor_of(program.machine),
    };
    linux::start(places, &handed, links);
}
