//! Entries of the Boot Loader Specification, as systemd-boot finds and orders them: files below `/loader/entries` and unified kernel images
//! below `/EFI/Linux`, on the EFI system partition and the extended boot partition (UAPI group, "Boot Loader Specification").

use crate::linux::{self, Entry};
use crate::pe::{LoaderKind, Machine, Program};
use crate::places::{Place, Places};
use crate::version;
use std::cmp::Ordering;

/// Type of the extended boot partition.
const XBOOTLDR: &str = "bc13c2ff-59e6-4262-a352-b275fd6f7172";
/// So many entries are read of a folder.
const MOST_ENTRIES: usize = 512;
/// And so many bytes of unified kernel images, of all of them together.
const MOST_IMAGES: u64 = 1 << 30;

/// What an entry starts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Starts {
    /// A kernel with what belongs to it.
    Kernel(Entry),
    /// A program for firmware, by its path.
    Program(String),
}

/// An entry.
#[derive(Clone)]
pub(crate) struct Found<'a> {
    /// The volume that it lies on, and takes its files from.
    pub place: &'a Place,
    /// Its file.
    pub path: String,
    /// Its name, as `default` names it: of the file, without counter of attempts, in small letters.
    pub id: String,
    /// What it is called on the screen.
    pub title: String,
    pub starts: Starts,
    sort_key: String,
    machine_id: String,
    version: String,
    /// Attempts that are left, where they are counted.
    pub left: Option<u32>,
}

/// All entries, the one first that starts by itself.
pub(crate) struct Entries<'a> {
    pub all: Vec<Found<'a>>,
    /// What `default` of `loader.conf` says, where that is no entry.
    pub unmatched: Option<String>,
}

/// `NAME+LEFT-DONE.conf`: the name without the counter, and what is left.
fn counted(name: &str) -> (String, Option<u32>) {
    let (stem, ending) = name.rsplit_once('.').unwrap_or((name, ""));
    let counter = stem.rsplit_once('+').and_then(|(stem, counter)| {
        let (left, done) = counter.split_once('-').unwrap_or((counter, "0"));
        let is_number = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
        (is_number(left) && is_number(done)).then(|| (stem, left.parse().unwrap_or(u32::MAX)))
    });
    match counter {
        Some((stem, left)) => (format!("{stem}.{ending}").to_lowercase(), Some(left)),
        None => (name.to_lowercase(), None),
    }
}

/// Whether a name fits a pattern of the shell: `*`, `?`, `[abc]`.
fn fits(pattern: &[char], name: &[char]) -> bool {
    // Where a star began, and how much it took: no more than one is tried at a time.
    let (mut at, mut from, mut star) = (0, 0, None);
    while from < name.len() {
        let one = match pattern.get(at) {
            Some('*') => {
                star = Some((at + 1, from));
                at += 1;
                continue;
            }
            Some('?') => Some(at + 1),
            Some('[') => pattern[at..].iter().position(|letter| *letter == ']').filter(|end| *end > 1).and_then(|end| {
                let (inner, is_not) = match &pattern[at + 1..at + end] {
                    ['!' | '^', rest @ ..] => (rest, true),
                    inner => (inner, false),
                };
                let mut is_in = inner.contains(&name[from]);
                is_in |= inner.windows(3).any(|range| range[1] == '-' && (range[0]..=range[2]).contains(&name[from]));
                (is_in != is_not).then_some(at + end + 1)
            }),
            Some(letter) if *letter == name[from] => Some(at + 1),
            _ => None,
        };
        match (one, star) {
            (Some(next), _) => (at, from) = (next, from + 1),
            (None, Some((behind, taken))) => {
                star = Some((behind, taken + 1));
                (at, from) = (behind, taken + 1);
            }
            (None, None) => return false,
        }
    }
    pattern[at..].iter().all(|letter| *letter == '*')
}

fn matches(pattern: &str, id: &str) -> bool {
    let letters = |text: &str| text.to_lowercase().chars().collect::<Vec<char>>();
    // Older releases left the ending out.
    [pattern.to_string(), format!("{pattern}.conf"), format!("{pattern}.efi")].iter().any(|pattern| fits(&letters(pattern), &letters(id)))
}

impl<'a> Found<'a> {
    /// Whether it can start at all: `architecture` is that of the loader, and attempts are left.
    fn of_file(place: &'a Place, name: &str, machine: Machine) -> Option<Self> {
        let path = format!("/loader/entries/{name}");
        let text = place.text(&path).ok()??;
        let values = |wanted: &str| -> Vec<String> {
            let lines = text.lines().map(str::trim).filter_map(|line| line.split_once(char::is_whitespace));
            lines.filter(|(key, _)| *key == wanted).map(|(_, value)| value.trim().to_string()).collect()
        };
        let value = |wanted: &str| values(wanted).pop().unwrap_or_default();
        let architecture = value("architecture");
        let own = match machine {
            Machine::X64 => "x64",
            Machine::X86 => "ia32",
            Machine::Arm64 => "aa64",
            Machine::Other(_) => "",
        };
        if !architecture.is_empty() && !own.is_empty() && !architecture.eq_ignore_ascii_case(own) {
            return None;
        }
        let entry = linux::specified(&text);
        let program = ["efi", "uki"].into_iter().map(value).find(|path| !path.is_empty());
        let starts = match program.filter(|_| entry.kernel.is_empty()) {
            Some(program) => Starts::Program(program.replace('\\', "/")),
            None => Starts::Kernel(entry.clone()),
        };
        let (id, left) = counted(name);
        let title = Some(entry.title).filter(|title| !title.is_empty()).unwrap_or_else(|| id.clone());
        Some(Self { place, path, id, title, starts, sort_key: value("sort-key"), machine_id: value("machine-id"), version: value("version"), left })
    }

    /// A unified kernel image names itself in the copy of `/etc/os-release` that it carries.
    fn of_image(place: &'a Place, name: &str, machine: Machine, left_to_read: &mut u64) -> Option<Self> {
        let path = format!("/EFI/Linux/{name}");
        let size = place.node(&path).ok()??.size;
        // One that is not read may be one of those that start: its name is all that is known.
        let bytes = match left_to_read.checked_sub(size) {
            Some(rest) => {
                *left_to_read = rest;
                place.read(&path).ok()??
            }
            None => Vec::new(),
        };
        let (id, left) = counted(name);
        let plain = |title: String| Self {
            place,
            starts: Starts::Program(path.clone()),
            path: path.clone(),
            id: id.clone(),
            title,
            sort_key: String::new(),
            machine_id: String::new(),
            version: String::new(),
            left,
        };
        let Ok(program) = Program::read(&bytes) else { return Some(plain(id.clone())) };
        if program.machine != machine || program.kind(&bytes) != LoaderKind::UnifiedKernel {
            return None;
        }
        let section = |name: &str| program.section(&bytes, name).map(|inner| String::from_utf8_lossy(inner).into_owned()).unwrap_or_default();
        let release = section(".osrel");
        let value = |keys: &[&str]| -> String {
            let one = |key: &str| {
                let line = release.lines().filter_map(|line| line.split_once('=')).find(|(name, _)| name.trim() == key)?;
                Some(line.1.trim().trim_matches(['"', '\'']).to_string())
            };
            keys.iter().find_map(|key| one(key)).unwrap_or_default()
        };
        let version = match section(".uname").trim_matches('\0') {
            "" => value(&["IMAGE_VERSION", "VERSION", "VERSION_ID", "BUILD_ID"]),
            uname => uname.to_string(),
        };
        let title = Some(value(&["PRETTY_NAME", "NAME", "ID"])).filter(|title| !title.is_empty()).unwrap_or_else(|| id.clone());
        Some(Self { sort_key: value(&["IMAGE_ID", "ID"]), version, ..plain(title) })
    }

    /// The order of the specification: entries without attempts last; those with a key by it, each machine's newest first; others by their names.
    fn order(&self, other: &Self) -> Ordering {
        let is_bad = |found: &Self| found.left == Some(0);
        let keyed = match (self.sort_key.is_empty(), other.sort_key.is_empty()) {
            (false, false) => self
                .sort_key
                .cmp(&other.sort_key)
                .then_with(|| self.machine_id.cmp(&other.machine_id))
                .then_with(|| version::compare(&other.version, &self.version)),
            (one, two) => one.cmp(&two),
        };
        is_bad(self).cmp(&is_bad(other)).then(keyed).then_with(|| version::compare(&other.id, &self.id)).then_with(|| other.left.cmp(&self.left))
    }
}

/// The entries that systemd-boot of `machine` finds from the system partition `place`.
pub(crate) fn entries<'a>(places: &'a Places, place: &'a Place, machine: Machine) -> Entries<'a> {
    let is_extended = |place: &&Place| place.partition.type_code.code().eq_ignore_ascii_case(XBOOTLDR);
    let (mut all, mut left_to_read) = (Vec::new(), MOST_IMAGES);
    for place in std::iter::once(place).chain(places.all.iter().find(is_extended)) {
        let named = |folder: &str, ending: &str| -> Vec<String> {
            let names = place.list(folder).into_iter().map(|(name, _)| name).filter(|name| name.to_lowercase().ends_with(ending));
            names.take(MOST_ENTRIES).collect()
        };
        all.extend(named("/loader/entries", ".conf").iter().filter_map(|name| Found::of_file(place, name, machine)));
        all.extend(named("/EFI/Linux", ".efi").iter().filter_map(|name| Found::of_image(place, name, machine, &mut left_to_read)));
    }
    all.sort_by(Found::order);
    let config = place.text("/loader/loader.conf").ok().flatten().unwrap_or_default();
    let lines = config.lines().map(str::trim).filter_map(|line| line.split_once(char::is_whitespace));
    let default = lines.filter(|(key, _)| *key == "default").map(|(_, value)| value.trim().to_string()).next_back().unwrap_or_default();
    // What somebody chose last is kept by the machine, not on the drive.
    let mut unmatched = None;
    if !default.is_empty() {
        match all.iter().position(|found| matches(&default, &found.id)) {
            Some(at) => all[..=at].rotate_right(1),
            None => unmatched = Some(default),
        }
    }
    Entries { all, unmatched }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("debian.conf", "debian.conf", true)]
    #[case("debian", "debian.conf", true)]
    #[case("arch-*", "arch-6.6.conf", true)]
    #[case("*-6.?.conf", "arch-6.6.conf", true)]
    #[case("a[a-m]c*", "abc.conf", true)]
    #[case("a[!a-m]c*", "abc.conf", false)]
    #[case("Arch", "arch.efi", true)]
    #[case("arch", "archlinux.conf", false)]
    #[case("***********************b", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa.conf", false)]
    fn a_default_is_a_pattern(#[case] pattern: &str, #[case] id: &str, #[case] fits: bool) {
        assert_eq!(matches(pattern, id), fits);
    }

    #[rstest]
    #[case("Station+3-1.conf", "station.conf", Some(3))]
    #[case("station+0.efi", "station.efi", Some(0))]
    #[case("c++.conf", "c++.conf", None)]
    fn attempts_are_counted_in_the_name(#[case] name: &str, #[case] id: &str, #[case] left: Option<u32>) {
        assert_eq!(counted(name), (id.to_string(), left));
    }
}
