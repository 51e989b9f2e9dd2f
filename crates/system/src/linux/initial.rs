//! The initial RAM file system of a start: its first program with what that needs, and the drivers for the disk and the root file system.

use super::root::{Root, fs_module};
use super::{Handed, option};
use crate::archive::{self, Archive, Content, Member, Wrong, module, plain_name};
use crate::elf::{Elf, processor};
use crate::kernel::Kernel;
use crate::link::{Link, Offers};
use std::collections::{BTreeSet, HashMap, HashSet};

/// A kind of connection, and the modules of which any serves it.
type Storage = (&'static str, &'static [&'static str]);

/// Drivers for the ways in which a drive is attached: what people call them, and the modules of which one is needed.
pub const STORAGE: [Storage; 6] = [
    ("SATA", &["ahci"]),
    ("NVMe", &["nvme"]),
    ("USB", &["usb-storage", "usb_storage", "uas"]),
    ("virtio", &["virtio_blk", "virtio_scsi"]),
    ("SATA as IDE", &["ata_piix", "pata_acpi", "ata_generic"]),
    ("hardware RAID", &["megaraid_sas", "mpt3sas"]),
];
/// Modules behind whose disks stands the one for disks of SCSI.
const WITHOUT_SD: [&str; 2] = ["nvme", "virtio_blk"];
/// So many files of libraries are looked for behind one program.
const MOST_LIBRARIES: usize = 64;

/// What comes of an initial RAM file system that was not gone through to its end: a limit of ours is no fault of it.
pub(super) fn unread(place: &str, why: &Wrong) -> Link {
    let text = format!("the initial RAM file system {place}: {why}");
    match why {
        Wrong::Damaged(_) => Link::broken("initial", text),
        Wrong::Beyond(_) => Link::unknown("initial", text),
    }
}

/// Modules of the kernel, by what lies on the system's volume about them.
#[derive(Default)]
struct Modules {
    /// Those within the kernel itself; `None` where that is not known.
    builtin: Option<HashSet<String>>,
    /// What each needs.
    needs: HashMap<String, Vec<String>>,
}

impl Modules {
    fn of(root: &Root, version: &str) -> Self {
        let text = |name: &str| ["/lib/modules", "/usr/lib/modules"].iter().find_map(|folder| root.text(&format!("{folder}/{version}/{name}")));
        let names = |text: &str| text.split_whitespace().filter_map(module).map(plain_name).collect::<Vec<_>>();
        let builtin = text("modules.builtin").map(|text| names(&text).into_iter().collect());
        let lines = text("modules.dep").unwrap_or_default();
        let needs = lines.lines().filter_map(|line| line.split_once(':'));
        Self { builtin, needs: needs.filter_map(|(path, needs)| Some((plain_name(module(path)?), names(needs)))).collect() }
    }

    fn has(&self, name: &str) -> bool {
        self.builtin.as_ref().is_some_and(|builtin| builtin.contains(name))
    }
}

/// The modules in an archive.
struct Packed<'a> {
    archive: &'a Archive,
    /// Name, and what its file says of itself, where it is not packed.
    files: HashMap<String, Option<&'a Result<Elf, String>>>,
    /// Those that are known to be taken.
    taken: HashSet<String>,
}

impl<'a> Packed<'a> {
    fn of(archive: &'a Archive) -> Self {
        let files = archive.members.iter().filter_map(|(path, member)| match member {
            Member::File(content) => Some((plain_name(module(path)?), content.elf.as_ref())),
            _ => None,
        });
        Self { archive, files: files.collect(), taken: archive.taken().into_iter().map(plain_name).collect() }
    }

    /// Versions of kernels that it has modules for.
    fn versions(&self) -> BTreeSet<String> {
        let folders = self.archive.members.keys().filter(|path| module(path).is_some());
        folders.filter_map(|path| path.split_once("lib/modules/")?.1.split('/').next().map(str::to_string)).collect()
    }

    /// Why a module that is wanted cannot be loaded; `None` where it can.
    fn lacks(&self, name: &str, modules: &Modules, kernel: &Kernel, depth: usize) -> Option<String> {
        if modules.has(name) || depth > 16 {
            return None;
        }
        match self.files.get(name)? {
            Some(Err(why)) => return Some(format!("{name}: {why}")),
            Some(Ok(elf)) => {
                let made_for = elf.vermagic.split(' ').next().unwrap_or_default();
                if !kernel.version.is_empty() && !made_for.is_empty() && made_for != kernel.version {
                    return Some(format!("{name} was made for kernel {made_for}"));
                }
                if kernel.processor != 0 && elf.machine != kernel.processor {
                    return Some(format!("{name} is for {}", processor(elf.machine)));
                }
            }
            None => {}
        }
        let needs = modules.needs.get(name)?;
        needs.iter().find_map(|needed| match self.files.contains_key(needed) || modules.has(needed) || modules.builtin.is_none() {
            true => self.lacks(needed, modules, kernel, depth + 1),
            false => Some(format!("{name} needs {needed}, which is not in it")),
        })
    }
}

/// Whether the system finds its own disk and reads its volume.
fn drivers(packed: &Packed, modules: &Modules, kernel: &Kernel, root: Option<&Root>) -> Link {
    let has = |names: &HashSet<String>, wanted: &[&str]| wanted.iter().any(|name| names.contains(&plain_name(name)));
    let is_known = modules.builtin.is_some();
    let taken: HashSet<String> = packed.taken.iter().cloned().chain(modules.builtin.iter().flatten().cloned()).collect();
    let there: HashSet<String> = packed.files.keys().cloned().collect();
    let (mut with, mut idle, mut without, mut evidence) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let is_sd = has(&there, &["sd_mod"]) || modules.has("sd_mod") || !is_known;
    for (way, names) in STORAGE {
        // Any of them serves; of several that lack something the first is told.
        let present: Vec<String> = names.iter().map(|name| plain_name(name)).filter(|name| there.contains(name) || modules.has(name)).collect();
        let lack = |name: &String| {
            let needs_sd = !WITHOUT_SD.contains(&name.as_str()) && !is_sd;
            packed.lacks(name, modules, kernel, 0).or_else(|| needs_sd.then(|| format!("{name} finds disks only with sd_mod, which is not in it")))
        };
        let lacks: Vec<Option<String>> = present.iter().map(lack).collect();
        match () {
            () if !lacks.is_empty() && lacks.iter().all(Option::is_some) => {
                evidence.extend(lacks.into_iter().flatten().take(1).map(|why| format!("{way}: {why}")));
                without.push(way);
            }
            () if has(&taken, names) => with.push(way),
            () if !present.is_empty() => idle.push(way),
            () => without.push(way),
        }
    }
    if !without.is_empty() {
        evidence.push(format!("without a driver: {}", without.join(", ")));
    }
    if !idle.is_empty() {
        evidence.push(format!("with a driver that it neither lists nor waits for a device to take: {}", idle.join(", ")));
    }
    let format = root.and_then(|root| fs_module(root.system)).filter(|names| {
        let is_there = |name: &str| there.contains(name) && packed.lacks(name, modules, kernel, 0).is_none() || modules.has(name);
        is_known && !names.iter().any(|name| is_there(name))
    });
    let link = match with.is_empty() {
        _ if format.is_some() => {
            let names = format.unwrap_or_default();
            let why = names.iter().find_map(|name| packed.lacks(name, modules, kernel, 0)).map(|why| format!(" ({why})")).unwrap_or_default();
            Link::broken("drivers", format!("neither it nor the kernel has a driver for {}, the format of the system's volume{why}", names[0]))
        }
        // A script of its own may load them by name: who did not read it must not call it broken.
        true if !idle.is_empty() => {
            let text =
                format!("it has drivers for {}, and neither lists them nor waits for devices: whether it takes one is not known", idle.join(", "));
            Link::unknown("drivers", text)
        }
        true if !is_known => Link::unknown("drivers", "it takes no driver for storage; what the kernel has itself could not be read"),
        true => Link::broken("drivers", "it takes no driver for storage, nor has the kernel one: it will not find its own disk"),
        false => Link::holds("drivers", format!("it finds its disk on {}", with.join(", "))),
    };
    link.with(evidence).offering(Offers { storage: is_known.then_some(with), perhaps: idle, ..Offers::default() })
}

/// Why a program in the archive does not run; `None` where nothing speaks against it.
fn hinders(archive: &Archive, path: &str, kernel: &Kernel, depth: usize) -> Option<String> {
    let content = match archive.member(path) {
        None => return Some(format!("{path} is not in it")),
        Some((_, Member::File(content))) => content,
        Some(_) => return Some(format!("{path} in it is no file")),
    };
    if depth > 4 {
        return None;
    }
    let Content { is_executable, size, interpreter, elf } = &**content;
    match (size, elf) {
        (0, _) => Some(format!("{path} in it is empty")),
        _ if !is_executable && depth == 0 => Some(format!("{path} in it is not executable")),
        (_, Some(Err(why))) => Some(format!("{path} in it: {why}")),
        (_, Some(Ok(elf))) => {
            // A kernel of 64 bits runs programs of 32.
            if kernel.processor != 0 && elf.machine != kernel.processor && (kernel.processor, elf.machine) != (62, 3) {
                return Some(format!("{path} in it is for {}, and the kernel for {}", processor(elf.machine), processor(kernel.processor)));
            }
            let loaded = (!elf.interpreter.is_empty()).then(|| hinders(archive, &elf.interpreter, kernel, depth + 1)).flatten();
            loaded.or_else(|| libraries(archive, elf))
        }
        (_, None) if !interpreter.is_empty() => hinders(archive, interpreter, kernel, depth + 1),
        // Something that the kernel may know how to start, and this does not.
        (_, None) => None,
    }
}

/// The library that a program needs, itself or through others, and that is not there or no library.
fn libraries(archive: &Archive, program: &Elf) -> Option<String> {
    let mut wanted = program.needed.clone();
    let mut at = 0;
    while let Some(name) = wanted.get(at).cloned() {
        at += 1;
        let ending = format!("/{name}");
        let found = archive.members.keys().filter(|path| path.ends_with(&ending)).find_map(|path| match archive.member(path) {
            Some((_, Member::File(content))) => Some(content),
            _ => None,
        });
        match found.map(|content| &content.elf) {
            None => return Some(format!("{name} is not in it, and its first programs need that")),
            Some(Some(Err(why))) => return Some(format!("{name} in it: {why}")),
            Some(Some(Ok(elf))) => {
                let more: Vec<String> = elf.needed.iter().filter(|name| !wanted.contains(name)).cloned().collect();
                wanted.extend(more);
                wanted.truncate(MOST_LIBRARIES);
            }
            Some(None) => {}
        }
    }
    None
}

/// The initial RAM file system, and the drivers in it; the archive where all of it could be read.
pub(super) fn follow(handed: &Handed, kernel: Option<&Kernel>, root: Option<&Root>, links: &mut Vec<Link>) -> Option<Archive> {
    let (mut whole, mut said) = (Archive::default(), Vec::new());
    let unknown = Kernel::default();
    let kernel = kernel.unwrap_or(&unknown);
    let modules = root.filter(|_| !kernel.version.is_empty()).map(|root| Modules::of(root, &kernel.version)).unwrap_or_default();
    for (told, bytes) in &handed.initrds {
        let bytes = match bytes {
            Ok(bytes) => bytes,
            Err(link) => {
                links.push(link.clone());
                return None;
            }
        };
        match archive::read(bytes) {
            Ok(found) => {
                said.push(format!("{told}: {} files, {}", found.names.len(), found.packed.join(", ")));
                whole.join(found);
            }
            Err(why) => {
                links.push(unread(told, &why));
                return None;
            }
        }
    }
    if handed.initrds.is_empty() {
        links.push(without(handed, &modules, root));
        return None;
    }
    if let Some(packing) = whole.unread {
        let text = format!("the initial RAM file system is packed with {packing}, which is not read here: whether it is whole is not known");
        links.push(Link::unknown("initial", text).with(said));
        return None;
    }
    let packed = Packed::of(&whole);
    let versions = packed.versions();
    let first = option(&handed.options, "rdinit").filter(|path| path.starts_with('/')).unwrap_or("/init");
    let wrong = hinders(&whole, first, kernel, 0).or_else(|| {
        let is_other = !kernel.version.is_empty() && !versions.is_empty() && !versions.contains(&kernel.version);
        is_other.then(|| {
            format!("its modules are for kernel {}, and the kernel is {}", versions.iter().cloned().collect::<Vec<_>>().join(", "), kernel.version)
        })
    });
    let link = match wrong {
        Some(why) => Link::broken("initial", format!("the initial RAM file system does not start: {why}")),
        None => Link::holds("initial", "the initial RAM file system is there, and whole"),
    };
    links.push(link.with(said));
    links.push(drivers(&packed, &modules, kernel, root));
    Some(whole)
}

/// A start without an initial RAM file system: the kernel has all drivers itself, and finds the root by its partition.
fn without(handed: &Handed, modules: &Modules, root: Option<&Root>) -> Link {
    let name = option(&handed.options, "root").unwrap_or_default();
    let only_in_initial = ["UUID=", "LABEL=", "/dev/mapper/", "/dev/disk/"];
    if only_in_initial.iter().any(|start| name.starts_with(start)) {
        return Link::broken("initial", format!("there is no initial RAM file system, and without one no kernel finds root={name}"));
    }
    let (Some(builtin), Some(root)) = (&modules.builtin, root) else {
        return Link::unknown("initial", "there is no initial RAM file system: the kernel must have all drivers itself");
    };
    let is_in = |name: &&str| builtin.contains(&plain_name(name));
    let with: Vec<&str> = STORAGE.iter().filter(|(_, names)| names.iter().any(is_in)).map(|(way, _)| *way).collect();
    let is_format_in = fs_module(root.system).is_none_or(|names| names.iter().any(is_in));
    match (with.is_empty(), is_format_in) {
        (false, true) => {
            Link::holds("initial", format!("there is no initial RAM file system; the kernel itself finds its disk on {}", with.join(", ")))
                .offering(Offers { storage: Some(with), ..Offers::default() })
        }
        (true, _) => Link::broken("initial", "there is no initial RAM file system, and the kernel itself has no driver for storage"),
        (_, false) => Link::broken("initial", "there is no initial RAM file system, and the kernel itself cannot read the system's volume"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use badger_inspect::Verdict;
    use rstest::rstest;

    #[rstest]
    #[case::taken(&["nvme", "ahci"], &["ahci"], true, Verdict::Holds, Some("SATA"), &["NVMe"])]
    #[case::idle(&["nvme"], &["ext4"], true, Verdict::NotChecked, Some(""), &["NVMe"])]
    #[case::none(&["ext4"], &["ext4"], true, Verdict::Fails, Some(""), &[])]
    #[case::kernel_unread(&[], &[], false, Verdict::NotChecked, None, &[])]
    fn a_driver_that_lies_there_is_neither_taken_nor_missing(
        #[case] there: &[&str],
        #[case] taken: &[&str],
        #[case] is_kernel_known: bool,
        #[case] result: Verdict,
        #[case] storage: Option<&str>,
        #[case] perhaps: &[&str],
    ) {
        let archive = Archive::default();
        let packed = Packed {
            archive: &archive,
            files: there.iter().chain(taken).map(|name| (name.to_string(), None)).collect(),
            taken: taken.iter().map(|name| name.to_string()).collect(),
        };
        let modules = Modules { builtin: is_kernel_known.then(|| HashSet::from(["sd_mod".to_string()])), needs: HashMap::new() };
        let link = drivers(&packed, &modules, &Kernel::default(), None);
        let ways = link.offers.storage.as_ref().map(|ways| ways.join(", "));
        assert_eq!((link.result, ways.as_deref(), &link.offers.perhaps[..]), (result, storage, perhaps), "{}", link.text);
    }
}
