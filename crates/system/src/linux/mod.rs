//! From a loader's configuration to the system of a Linux machine: entries, kernel, initial RAM file system, root, what is mounted.

mod fstab;
mod initial;
mod root;
mod userland;

use crate::elf;
use crate::kernel::{self, Kernel};
use crate::link::Link;
use crate::places::{Initial, Place, Places};
pub use initial::STORAGE;
use root::Root;
use userland::Packages;

/// What a configuration starts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Entry {
    /// Its title.
    pub title: String,
    /// What the volume that it takes files from is looked for by; empty where nothing is.
    pub search: String,
    /// Number of the partition that it takes files from, where the loader names that; otherwise it is the one of the configuration.
    pub on: Option<u32>,
    /// The loader's name of a device that is none of this drive.
    pub device: Option<String>,
    /// The kernel.
    pub kernel: String,
    /// Initial RAM file systems.
    pub initrds: Vec<String>,
    /// What the kernel is told.
    pub options: Vec<String>,
}

/// Words of a line: quotes hold them together, a backslash takes what follows as it is.
pub(crate) fn words(line: &str) -> Vec<String> {
    let (mut out, mut word, mut quote, mut is_word) = (Vec::new(), String::new(), None, false);
    let mut letters = line.chars();
    while let Some(letter) = letters.next() {
        match (quote, letter) {
            (None, '#') if !is_word => break,
            (None, '\'' | '"') => (quote, is_word) = (Some(letter), true),
            (Some(open), _) if letter == open => quote = None,
            (None | Some('"'), '\\') => word.extend(letters.next()),
            (None, _) if letter.is_whitespace() || letter == ';' => {
                if std::mem::take(&mut is_word) {
                    out.push(std::mem::take(&mut word));
                }
            }
            _ => {
                word.push(letter);
                is_word = true;
            }
        }
    }
    if is_word {
        out.push(word);
    }
    out
}

/// An entry as the boot loader specification has it: a file of keys and values.
pub fn specified(text: &str) -> Entry {
    let mut entry = Entry::default();
    for line in text.lines().map(str::trim).filter(|line| !line.starts_with('#')) {
        let (key, value) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
        match key {
            "title" => entry.title = value.trim().to_string(),
            "linux" => entry.kernel = value.trim().to_string(),
            "initrd" => entry.initrds.extend(value.split_whitespace().map(str::to_string)),
            "options" => entry.options.extend(words(value)),
            _ => {}
        }
    }
    entry
}

/// The volume that something names; a broken link where there is none, or several.
pub(crate) fn resolve<'a>(places: &'a Places, name: &str, link: &'static str, what: &str) -> Result<&'a Place, Link> {
    match places.named(name).as_deref() {
        Some([one]) => Ok(one),
        Some([]) => match places.hidden() {
            None => Err(Link::broken(link, format!("{what} is looked for as {name}: nothing on this drive is that"))),
            Some(hidden) => {
                Err(Link::unknown(link, format!("{what} is looked for as {name}, which may lie in {hidden}: that is not looked into here")))
            }
        },
        Some(several) => {
            let names: Vec<String> = several.iter().map(|place| place.name()).collect();
            Err(Link::broken(link, format!("{what} is looked for as {name}, and {} are that: which one is taken is chance", names.join(" and "))))
        }
        None if name.starts_with("/dev/mapper/") || name.starts_with("/dev/md") => {
            Err(Link::unknown(link, format!("{what} is {name}, made from other volumes when the system starts: that is not looked into here")))
        }
        None => Err(Link::unknown(link, format!("{what} is named {name}, which does not say which volume that is on another machine"))),
    }
}

/// The value of an option of the kernel; the last counts.
pub(crate) fn option<'a>(options: &'a [String], name: &str) -> Option<&'a str> {
    options.iter().rev().find_map(|option| option.strip_prefix(name)?.strip_prefix('='))
}

/// What a loader hands to a kernel, and the kernel.
pub(crate) struct Handed<'a> {
    /// The volume that all of it lies on.
    pub on: &'a Place,
    /// What the kernel is, in words: `the kernel /vmlinuz on partition 2`.
    pub kernel_told: String,
    /// The kernel; why it is not there.
    pub kernel: Result<Vec<u8>, Link>,
    /// Its path, where it is a file of its own.
    pub kernel_path: Option<String>,
    /// Initial RAM file systems: what each is, and its bytes.
    pub initrds: Vec<(String, Result<Vec<u8>, Link>)>,
    /// The path of the last, where it is a file of its own.
    pub last: Option<String>,
    /// What the kernel is told.
    pub options: Vec<String>,
    /// The processor of the loader, as in ELF files; 0 where that is not known.
    pub processor: u16,
}

/// Everything from an entry on; `config` is the volume of the entry.
pub(crate) fn follow(places: &Places, config: &Place, entry: &Entry, processor: u16, links: &mut Vec<Link>) {
    let place = match (entry.search.as_str(), entry.on, &entry.device) {
        ("", Some(number), _) => places.all.iter().find(|place| place.partition.number == number).unwrap_or(config),
        ("", None, Some(device)) => {
            let text = format!("the kernel is on {device}, as the loader names it: which volume that is on another machine is not known");
            return links.push(Link::unknown("kernel", text));
        }
        ("", None, None) => config,
        (search, ..) => match resolve(places, search, "kernel", "the volume of the kernel") {
            Ok(place) => place,
            Err(link) => return links.push(link),
        },
    };
    let key = format!("{} {processor} {entry:?}", place.partition.number);
    if let Some(known) = places.followed.borrow().get(&key) {
        return links.extend(known.clone());
    }
    let on = place.name();
    let handed = Handed {
        on: place,
        kernel_told: format!("the kernel {} on {on}", entry.kernel),
        kernel: place.needed(&entry.kernel, "kernel", "the kernel"),
        kernel_path: Some(entry.kernel.clone()),
        initrds: entry.initrds.iter().map(|path| (format!("{path} on {on}"), place.needed(path, "initial", "the initial RAM file system"))).collect(),
        last: entry.initrds.last().cloned(),
        options: entry.options.clone(),
        processor,
    };
    let mut tail = Vec::new();
    start(places, &handed, &mut tail);
    places.followed.borrow_mut().insert(key, tail.clone());
    links.extend(tail);
}

/// The volume of the system, as the kernel is told.
fn system<'a>(places: &'a Places, handed: &Handed, links: &mut Vec<Link>) -> Option<&'a Place> {
    let Some(name) = option(&handed.options, "root").filter(|name| *name != "gpt-auto") else {
        // The type of a partition says that it is the root, for systemd (UAPI group, "Discoverable Partitions Specification").
        let found: Vec<&Place> =
            places.all.iter().filter(|place| ROOTS.iter().any(|root| place.partition.type_code.code().eq_ignore_ascii_case(root))).collect();
        match found[..] {
            [one] => {
                links.push(Link::holds("root", format!("the system's volume is {}, by the type of its partition", one.name())));
                return Some(one);
            }
            _ => links.push(Link::unknown("root", "the kernel is not told which volume is the system's: it takes the one it was made for")),
        }
        return None;
    };
    match resolve(places, name, "root", "the system's volume") {
        Err(link) => {
            links.push(link);
            None
        }
        Ok(system) => {
            let format = system.found.as_ref().map_or("", |found| found.kind.word());
            links.push(Link::holds("root", format!("the system's volume is {}", system.name())).with([format!("root={name}: {format}")]));
            Some(system)
        }
    }
}

/// Types of partitions with the root of a system for x86-64 and ARM of 64 bits.
const ROOTS: [&str; 2] = ["4f68bce3-e8cd-4db1-96e7-fbcaf984b709", "b921b045-1df0-41c3-af44-4c6f280d3fae"];

/// Everything from a kernel on.
pub(crate) fn start(places: &Places, handed: &Handed, links: &mut Vec<Link>) {
    let at = links.len();
    let system = system(places, handed, links);
    let subvolume = option(&handed.options, "rootflags").and_then(fstab::subvolume);
    if let Some((system, folder)) = system.zip(subvolume)
        && !system.has_root_in(folder)
    {
        let text = format!("the system is looked for in the subvolume {folder} of {}, which has none of that name", system.name());
        links.push(Link::broken("subvolume", text));
    }
    let is_rootless = links.last().is_some_and(|link| link.name == "subvolume");
    let table = system.map(|system| system.text("/etc/fstab").map(|text| text.map(|text| fstab::mounts(&text))));
    let mounts = table.as_ref().and_then(|table| table.as_ref().ok()).and_then(Option::as_ref).map_or(&[][..], Vec::as_slice);
    let root = system.filter(|_| !is_rootless).map(|system| Root::of(places, system, mounts));
    let packages = root.as_ref().map(Packages::of).unwrap_or_default();
    let (link, kernel) = kernel(handed, &packages);
    // The kernel comes first where it is told.
    links.insert(at, link);
    if is_rootless {
        return;
    }
    let whole = initial::follow(handed, kernel.as_ref(), root.as_ref(), links);
    let has_initial = !handed.initrds.is_empty();
    let version = kernel.as_ref().map(|kernel| kernel.version.clone()).unwrap_or_default();
    if let (Some(system), Some(archive), Some(path), Some((_, Ok(last)))) = (system, whole, handed.last.clone(), handed.initrds.last()) {
        let (on, system) = (handed.on.partition.number, system.partition.number);
        let found = Initial { on, path, bytes: last.len(), archive, system, version };
        let mut all = places.initials.borrow_mut();
        if !all.contains(&found) {
            all.push(found);
        }
    }
    if let (Some(system), Some(table), Some(root)) = (system, table, &root) {
        fstab::follow(places, system, table, links);
        links.push(userland::follow(root, &kernel.unwrap_or_default(), &packages, &handed.options, has_initial));
    }
}

/// The kernel itself.
fn kernel(handed: &Handed, packages: &Packages) -> (Link, Option<Kernel>) {
    let bytes = match &handed.kernel {
        Ok(bytes) => bytes,
        Err(link) => return (link.clone(), None),
    };
    let told = &handed.kernel_told;
    let broken = |why: String| (Link::broken("kernel", format!("{told}: {why}")), None);
    let found = match kernel::read(bytes) {
        Ok(found) => found,
        Err(why) => return broken(why),
    };
    // The path below `/boot`, also where that is a volume of its own.
    let name = handed.kernel_path.as_deref().and_then(|path| path.rsplit('/').next());
    let installed = name.and_then(|name| packages.is_as_installed(&format!("boot/{name}"), bytes));
    if installed == Some(false) && !found.is_whole {
        return broken("it is not as its package installed it, and has no signature or checksum of its own that holds: it is damaged".into());
    }
    let (own, loader) = (found.processor, handed.processor);
    if loader != 0 && own != 0 && own != loader && (loader, own) != (62, 3) {
        return broken(format!("it is for {}, and the loader for {}", elf::processor(own), elf::processor(loader)));
    }
    let proof = if installed == Some(true) { "it is as its package installed it".into() } else { found.proof.clone() };
    (
        Link::holds("kernel", format!("{told} is there, {}", if found.version.is_empty() { "a kernel" } else { &found.version })).with([proof]),
        Some(found),
    )
}
