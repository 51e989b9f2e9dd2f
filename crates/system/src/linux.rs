//! From a loader's configuration to the system of a Linux machine: entries, kernel, initial RAM file system, root, what is mounted.

use crate::archive::{self, Archive, Wrong, module, plain_name};
use crate::link::{Link, Offers};
use crate::pe::Program;
use crate::places::{Initial, Place, Places};
use badger_drive::field::{le16, le32};
use badger_inspect::Verdict;
use std::collections::HashSet;

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

/// What a configuration starts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Entry {
    /// Its title.
    pub title: String,
    /// What the volume that it takes files from is found by; empty where it is the one of the configuration.
    pub search: String,
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

/// A path without the device or variable in front of it.
fn path_of(word: &str) -> String {
    let word = word.strip_prefix('(').and_then(|rest| rest.split_once(')')).map_or(word, |(_, path)| path);
    let word = word.strip_prefix("$root").or_else(|| word.strip_prefix("${root}")).unwrap_or(word);
    word.to_string()
}

/// What `search` looks for, of the identifier, the label or a file.
pub(crate) fn searched(words: &[String]) -> Option<String> {
    let first = words.first()?;
    let value = words[1..].iter().rev().find(|word| !word.starts_with('-') && !word.starts_with("hd") && *word != "root")?;
    let has = |flag: &str| words.iter().any(|word| word == flag);
    match first.as_str() {
        "search.fs_uuid" => words.get(1).map(|value| format!("UUID={value}")),
        "search.fs_label" => words.get(1).map(|value| format!("LABEL={value}")),
        "search" if has("--fs-uuid") || has("-u") => Some(format!("UUID={value}")),
        "search" if has("--label") || has("-l") => Some(format!("LABEL={value}")),
        _ => None,
    }
}

/// Entries of a loader's configuration in its own language, and which of them is taken when nobody chooses.
pub fn entries(text: &str) -> (Vec<Entry>, usize) {
    let (mut all, mut default, mut search) = (Vec::new(), String::new(), String::new());
    let mut entry: Option<(Entry, usize)> = None;
    let mut depth = 0usize;
    for line in text.lines() {
        let words = words(line);
        let Some(first) = words.first().map(String::as_str) else { continue };
        match first {
            "menuentry" => {
                let title = words.get(1).cloned().unwrap_or_default();
                entry = Some((Entry { title, search: search.clone(), ..Entry::default() }, depth));
            }
            "set" => {
                if let Some(value) = words.get(1).and_then(|word| word.strip_prefix("default=")) {
                    default = value.to_string();
                }
            }
            "linux" | "linux16" | "linuxefi" => {
                if let (Some((entry, _)), Some(kernel)) = (&mut entry, words.get(1)) {
                    (entry.kernel, entry.options) = (path_of(kernel), words[2..].to_vec());
                }
            }
            "initrd" | "initrd16" | "initrdefi" => {
                if let Some((entry, _)) = &mut entry {
                    entry.initrds = words[1..].iter().map(|word| path_of(word)).collect();
                }
            }
            _ => {
                if let Some(found) = searched(&words) {
                    match &mut entry {
                        Some((entry, _)) => entry.search = found,
                        None => search = found,
                    }
                }
            }
        }
        let opens = words.iter().filter(|word| word.as_str() == "{").count();
        let closes = words.iter().filter(|word| word.as_str() == "}").count();
        depth = (depth + opens).saturating_sub(closes);
        if closes > 0
            && let Some((done, _)) = entry.take_if(|(_, above)| depth <= *above)
            && !done.kernel.is_empty()
        {
            all.push(done);
        }
    }
    // "1>2" is the third below the second.
    let chosen = default.split('>').next_back().unwrap_or_default();
    let at = chosen.parse::<usize>().ok().or_else(|| all.iter().position(|entry| entry.title == chosen)).unwrap_or(0);
    (all, at)
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
        Some([]) => Err(Link::broken(link, format!("{what} is looked for as {name}: nothing on this drive is that"))),
        Some(several) => {
            let names: Vec<String> = several.iter().map(|place| place.name()).collect();
            Err(Link::broken(link, format!("{what} is looked for as {name}, and {} are that: which one is taken is chance", names.join(" and "))))
        }
        None => Err(Link::unknown(link, format!("{what} is named {name}, which does not say which volume that is on another machine"))),
    }
}

/// Whether a kernel is whole, as its own head says.
fn kernel(bytes: &[u8]) -> Result<String, String> {
    if bytes.get(0x202..0x206) != Some(b"HdrS") {
        return Program::read(bytes).map(|program| format!("a kernel for {}", program.machine.word()));
    }
    let setup = match bytes[0x1f1] {
        0 => 4,
        sectors => usize::from(sectors),
    };
    let need = (setup + 1) * 512 + le32(bytes, 0x1f4) as usize * 16;
    if bytes.len() < need {
        return Err(format!("it is cut off: {need} bytes are needed, and it has {}", bytes.len()));
    }
    let zeros = bytes[512..].chunks(4096).filter(|page| page.len() == 4096 && page.iter().all(|byte| *byte == 0)).count();
    if zeros > 64 {
        return Err(format!("{zeros} pages of it are nothing but zeroes"));
    }
    let at = usize::from(le16(bytes, 0x20e)) + 0x200;
    let version: String = bytes.get(at..).unwrap_or_default().iter().take(200).take_while(|byte| **byte != 0).map(|byte| char::from(*byte)).collect();
    Ok(version.split(' ').next().unwrap_or_default().to_string())
}

/// What comes of an initial RAM file system that was not gone through to its end: a limit of ours is no fault of it.
pub(crate) fn unread(place: &str, why: &Wrong) -> Link {
    let text = format!("the initial RAM file system {place}: {why}");
    match why {
        Wrong::Damaged(_) => Link::broken("initial", text),
        Wrong::Beyond(_) => Link::unknown("initial", text),
    }
}

/// Everything from an entry on.
pub(crate) fn follow(places: &Places, config: &Place, entry: &Entry, links: &mut Vec<Link>) {
    let place = match entry.search.as_str() {
        "" => config,
        search => match resolve(places, search, "kernel", "the volume of the kernel") {
            Ok(place) => place,
            Err(link) => return links.push(link),
        },
    };
    let mut version = String::new();
    links.push(match place.needed(&entry.kernel, "kernel", "the kernel") {
        Err(link) => link,
        Ok(bytes) => match kernel(&bytes) {
            Err(why) => Link::broken("kernel", format!("the kernel {} on {}: {why}", entry.kernel, place.name())),
            Ok(said) => {
                version = said;
                Link::holds("kernel", format!("the kernel {} is on {}, {version}", entry.kernel, place.name()))
            }
        },
    });
    let root = entry.options.iter().rev().find_map(|option| option.strip_prefix("root="));
    let system = match root {
        None => {
            links.push(Link::unknown("root", "the kernel is not told which volume is the system's: it takes the one it was made for"));
            None
        }
        Some(name) => match resolve(places, name, "root", "the system's volume") {
            Err(link) => {
                links.push(link);
                None
            }
            Ok(system) => {
                links.push(
                    Link::holds("root", format!("the system's volume is {}", system.name()))
                        .with([format!("root={name}: {}", system.found.as_ref().map_or("", |found| found.kind.word()))]),
                );
                Some(system)
            }
        },
    };
    if let Some((system, folder)) = system.zip(entry.options.iter().rev().find_map(|option| subvolume(option.strip_prefix("rootflags=")?)))
        && !system.has_root_in(folder)
    {
        let text = format!("the system is looked for in the subvolume {folder} of {}, which has none of that name", system.name());
        return links.push(Link::broken("subvolume", text));
    }
    let handed = initial(place, entry, system, &version, links);
    if let (Some(system), Some((archive, bytes)), Some(path)) = (system, handed, entry.initrds.last()) {
        let (on, system) = (place.partition.number, system.partition.number);
        let found = Initial { on, path: path.clone(), bytes, archive, system, version };
        let mut all = places.initials.borrow_mut();
        if !all.contains(&found) {
            all.push(found);
        }
    }
    if let Some(system) = system {
        mounts(places, system, links);
    }
}

/// The parts of an initial RAM file system as the one that they become, and the bytes of the last; a line for each goes into `said`.
fn handed_over(place: &Place, paths: &[String], said: &mut Vec<String>) -> Result<(Archive, usize), Link> {
    let (mut whole, mut last) = (Archive::default(), 0);
    for path in paths {
        let bytes = place.needed(path, "initial", "the initial RAM file system")?;
        let found = archive::read(&bytes).map_err(|why| unread(&format!("{path} on {}", place.name()), &why))?;
        said.push(format!("{path}: {} files, {}", found.names.len(), found.packed.join(", ")));
        whole.join(found);
        last = bytes.len();
    }
    Ok((whole, last))
}

/// The initial RAM file system, and the drivers in it; as it is where all of it could be read, with the bytes of its last part.
fn initial(place: &Place, entry: &Entry, system: Option<&Place>, version: &str, links: &mut Vec<Link>) -> Option<(Archive, usize)> {
    let mut said = Vec::new();
    let (whole, last) = handed_over(place, &entry.initrds, &mut said).map_err(|link| links.push(link)).ok()?;
    if entry.initrds.is_empty() {
        links.push(Link::unknown("initial", "there is no initial RAM file system: the kernel must have all drivers itself"));
        return None;
    }
    if let Some(packing) = whole.unread {
        let text = format!("the initial RAM file system is packed with {packing}, which is not read here: whether it is whole is not known");
        links.push(Link::unknown("initial", text).with(said));
        return None;
    }
    links.push(Link::holds("initial", "the initial RAM file system is there, and whole").with(said));
    // What the kernel has itself is listed beside its modules.
    let folders = ["/lib/modules", "/usr/lib/modules"];
    let builtin =
        system.and_then(|system| folders.iter().find_map(|folder| system.text(&format!("{folder}/{version}/modules.builtin")).ok().flatten()));
    let names = |modules: Vec<&str>| -> HashSet<String> { modules.into_iter().map(plain_name).collect() };
    let (there, mut taken) = (names(whole.modules()), names(whole.taken()));
    taken.extend(builtin.iter().flat_map(|text| text.lines()).filter_map(module).map(plain_name));
    links.push(drivers(&there, &taken, builtin.is_some()));
    Some((whole, last))
}

/// Whether the system finds its own disk, by the names of modules that lie in its initial RAM file system and of those that it takes.
fn drivers(there: &HashSet<String>, taken: &HashSet<String>, is_kernel_known: bool) -> Link {
    let is_in = |names: &HashSet<String>, modules: &[&str]| modules.iter().any(|module| names.contains(&plain_name(module)));
    let (with, without): (Vec<&Storage>, Vec<&Storage>) = STORAGE.iter().partition(|(_, modules)| is_in(taken, modules));
    let (idle, without): (Vec<&Storage>, Vec<&Storage>) = without.into_iter().partition(|(_, modules)| is_in(there, modules));
    let ways = |some: &[&Storage]| some.iter().map(|(name, _)| *name).collect::<Vec<_>>();
    let list = |some: &[&Storage]| ways(some).join(", ");
    let mut evidence = Vec::new();
    if !without.is_empty() {
        evidence.push(format!("without a driver: {}", list(&without)));
    }
    if !idle.is_empty() {
        evidence.push(format!("with a driver that it neither lists nor waits for a device to take: {}", list(&idle)));
    }
    let storage = is_kernel_known.then(|| ways(&with));
    let link = match with.is_empty() {
        // A script of its own may load them by name: who did not read it must not call it broken.
        true if !idle.is_empty() => {
            let text = format!("it has drivers for {}, and neither lists them nor waits for devices: whether it takes one is not known", list(&idle));
            Link::unknown("drivers", text)
        }
        true if !is_kernel_known => Link::unknown("drivers", "it takes no driver for storage; what the kernel has itself could not be read"),
        true => Link::broken("drivers", "it takes no driver for storage, nor has the kernel one: it will not find its own disk"),
        false => Link::holds("drivers", format!("it finds its disk on {}", list(&with))),
    };
    link.with(evidence).offering(Offers { storage, perhaps: ways(&idle), ..Offers::default() })
}

/// The subvolume that options of a mount name.
fn subvolume(options: &str) -> Option<&str> {
    options.split(',').find_map(|option| option.strip_prefix("subvol="))
}

/// So many lines of what the system waits for in vain are named, and so many are kept as evidence.
const MOST_NAMED: usize = 20;
const MOST_EVIDENCE: usize = 1000;

/// What the system mounts while it starts.
fn mounts(places: &Places, system: &Place, links: &mut Vec<Link>) {
    let text = match system.text("/etc/fstab") {
        Err(why) => return links.push(Link::unknown("mounts", format!("what the system mounts was not looked at: {why}"))),
        Ok(None) => return links.push(Link::unknown("mounts", format!("there is no /etc/fstab on {}", system.name()))),
        Ok(Some(text)) => text,
    };
    let (mut wrong, mut evidence, mut waits) = (Vec::new(), Vec::new(), Verdict::Holds);
    for line in text.lines() {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let [name, place, kind, rest @ ..] = &fields[..] else { continue };
        if name.starts_with('#') {
            continue;
        }
        let options = rest.first().copied().unwrap_or("");
        let is_optional = options.split(',').any(|option| matches!(option, "nofail" | "noauto")) || *kind == "swap";
        let is_device = name.starts_with("/dev/") || places.named(name).is_some();
        if !is_device {
            continue;
        }
        let found = match places.named(name).as_deref() {
            Some([one]) => one.name(),
            Some([]) => "nothing on this drive".into(),
            Some(_) => "more than one volume".into(),
            None => "it depends on the machine".into(),
        };
        evidence.push(format!("{place}: {name} {kind}: {found}"));
        match places.named(name).as_deref() {
            Some([one]) if *place == "/" && one.partition.number != system.partition.number => {
                wrong.push(format!("/ is {} there, and the loader starts {}", one.name(), system.name()));
            }
            Some([one]) if !is_optional && subvolume(options).is_some_and(|folder| !one.has_folder(folder)) => {
                wrong.push(format!(
                    "{place} is looked for in the subvolume {} of {}, which has none of that name",
                    subvolume(options).unwrap_or_default(),
                    one.name()
                ));
            }
            Some([_]) => {}
            Some([]) if !is_optional => wrong.push(format!("{place} is looked for as {name}: nothing on this drive is that")),
            Some([_, _, ..]) if !is_optional => wrong.push(format!("{place} is looked for as {name}, and several volumes are that")),
            None if !is_optional => waits = Verdict::NotChecked,
            _ => {}
        }
    }
    if wrong.len() > MOST_NAMED {
        let more = wrong.len() - MOST_NAMED;
        wrong.truncate(MOST_NAMED);
        wrong.push(format!("and {more} more"));
    }
    evidence.truncate(MOST_EVIDENCE);
    links.push(match (wrong.is_empty(), waits) {
        (false, _) => Link::broken("mounts", format!("the system waits for what is not there: {}", wrong.join("; "))),
        (true, Verdict::Holds) => Link::holds("mounts", "all that the system mounts by itself is there"),
        _ => Link::unknown("mounts", "some of what the system mounts is named by the place where it is attached"),
    });
    if let Some(last) = links.last_mut() {
        last.evidence = evidence;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
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
        let names = |all: &[&str]| all.iter().map(|name| name.to_string()).collect();
        let link = drivers(&names(there), &names(taken), is_kernel_known);
        let ways = link.offers.storage.as_ref().map(|ways| ways.join(", "));
        assert_eq!((link.result, ways.as_deref(), &link.offers.perhaps[..]), (result, storage, perhaps), "{}", link.text);
    }
}
