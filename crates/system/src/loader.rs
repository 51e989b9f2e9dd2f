//! The usual loader of Linux systems: what is built into it, its configurations, and its core image for firmware of the old kind.

use crate::grub::{self, Chosen, Outcome};
use crate::link::{Firmware, Link};
use crate::linux::{self, resolve};
use crate::places::{Place, Places};
use badger_drive::field::{le32, le64};
use badger_inspect::Verdict;
use lzma_rs::decompress::raw::{LzmaDecoder, LzmaParams, LzmaProperties};
use std::panic::{AssertUnwindSafe, catch_unwind};

/// What is built into a loader: a configuration that it runs first, and where it looks for another.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Built {
    pub config: String,
    pub prefix: Option<String>,
}

/// Reads the part of a loader that begins with `mimg`: modules, a configuration, a path.
pub(crate) fn built(mods: &[u8]) -> Option<Built> {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim_end_matches('\0').to_string();
    mods.starts_with(b"mimg").then_some(())?;
    let mut out = Built::default();
    // Before the first module stand its place and the length of all, in numbers of the processor's width.
    let mut at = match le32(mods, 4) {
        0 => le64(mods, 8) as usize,
        small => small as usize,
    };
    while let Some(head) = mods.get(at..at.saturating_add(8)) {
        let (kind, size) = (le32(head, 0), le32(head, 4) as usize);
        let Some(inner) = mods.get(at + 8..at.saturating_add(size)).filter(|_| size >= 8) else { break };
        match kind {
            // A configuration on a disk within the program goes on at the path first.
            2 => out.config = Some(text(inner)).filter(|text| !text.contains("(memdisk)")).unwrap_or_default(),
            3 => out.prefix = Some(text(inner)),
            _ => {}
        }
        at += size;
    }
    Some(out)
}

/// Unpacked a core image has so many bytes at the most.
const MOST: u32 = 16 << 20;
/// So many places are tried as its beginning.
const MOST_STARTS: usize = 4;

/// Unpacks a core image, of which the first sector is left out; what is built into it.
///
/// # Errors
/// Why that cannot be: it is damaged, or packed in another way.
pub(crate) fn unpacked(core: &[u8]) -> Result<Built, String> {
    let (packed, size) = (le32(core, 8) as usize, le32(core, 12));
    if size == 0 || size > MOST || packed > core.len() {
        return Err("it does not say how long it is".into());
    }
    // Where the packed part begins is said in an instruction that loads its address: it was made for byte 0x8200.
    let addresses = (0..core.len().min(4096).saturating_sub(5)).filter(|at| core[*at] == 0xbe).map(|at| le32(core, at + 1));
    let mut starts: Vec<usize> = addresses.filter(|address| (0x8600..0xa200).contains(address)).map(|address| (address - 0x8200) as usize).collect();
    starts.dedup();
    starts.truncate(MOST_STARTS);
    for start in starts {
        let Some(mut from) = core.get(start..) else { continue };
        let params = LzmaParams::new(LzmaProperties { lc: 3, lp: 0, pb: 2 }, 1 << 16, Some(u64::from(size)));
        let mut out = Vec::new();
        // What stands there may be anything, and the unpacker is not ours.
        let done = catch_unwind(AssertUnwindSafe(|| {
            LzmaDecoder::new(params, Some(MOST as usize)).and_then(|mut decoder| decoder.decompress(&mut from, &mut out)).is_ok()
        }));
        if done.is_ok_and(|done| done) && out.len() == size as usize {
            let found = out
                .windows(4)
                .enumerate()
                .filter(|(_, window)| *window == b"mimg")
                .find_map(|(at, _)| built(&out[at..]).filter(|built| *built != Built::default()));
            return found.ok_or_else(|| "nothing is built into it".into());
        }
    }
    Err("its packed part is damaged".into())
}

pub(crate) fn linux_path(prefix: &str) -> String {
    prefix.split_once(')').map_or(prefix, |(_, path)| path).trim_end_matches('/').to_string()
}

/// How GRUB was started.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Started {
    pub firmware: Firmware,
    /// The processor that it runs on, as in ELF files; 0 where that is not known.
    pub processor: u16,
}

impl Started {
    pub(crate) const BIOS: Self = Self { firmware: Firmware::Bios, processor: 0 };
}

/// A loader that a configuration starts: the volume, and the path there.
pub(crate) type Chained<'a> = Option<(&'a Place, String)>;

/// A configuration and all it starts; another loader is given back.
pub(crate) fn of_config<'a>(places: &'a Places, place: &'a Place, path: &str, started: Started, links: &mut Vec<Link>) -> Chained<'a> {
    let text = config_text(place, path).map_err(|link| links.push(link)).ok()?;
    let prefix = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let outcome = grub::run(places, Some(place), &text, prefix, (started.firmware, false));
    chosen(places, place, path, &outcome, started, links)
}

/// The text of a configuration; why it is not there.
fn config_text(place: &Place, path: &str) -> Result<String, Link> {
    if let Some(top) = place.hidden_in(path) {
        let text = format!("GRUB looks for its configuration {path} at the top of {}, and it lies in the subvolume {top}", place.name());
        return Err(Link::broken("configuration", text));
    }
    let on = place.name();
    match place.text(path) {
        Ok(Some(text)) => Ok(text),
        Ok(None) => Err(Link::broken("configuration", format!("GRUB's configuration {path} is not on {on}"))),
        Err(why) if place.files.is_err() => {
            Err(Link::unknown("configuration", format!("GRUB's configuration {path} on {on} was not looked at: {why}")))
        }
        Err(why) => Err(Link::broken("configuration", format!("GRUB's configuration {path} on {on} cannot be read: {why}"))),
    }
}

/// What a configuration starts when nobody chooses; else what its `fallback` does.
fn chosen<'a>(places: &'a Places, place: &'a Place, path: &str, outcome: &Outcome, started: Started, links: &mut Vec<Link>) -> Chained<'a> {
    let told = format!("GRUB's configuration {path} on {}", place.name());
    if outcome.is_beyond {
        links.push(Link::unknown("configuration", format!("{told} has more commands than are followed here")));
        return None;
    }
    let at = links.len();
    let mut chained = of_choice(places, place, &told, (&outcome.chosen, &outcome.titles), started, links);
    // GRUB goes on with the next one where a kernel cannot be loaded; whatever comes later it does not see.
    let is_unloaded = |links: &[Link]| links.iter().any(|link| link.result == Verdict::Fails && matches!(link.name, "kernel" | "configuration"));
    for fallback in &outcome.fallback {
        if !is_unloaded(&links[at..]) {
            break;
        }
        let first = links[at..].iter().find(|link| link.result == Verdict::Fails).map(|link| link.text.clone()).unwrap_or_default();
        links.truncate(at);
        links.push(Link::unknown("default-entry", format!("the entry that {told} starts first cannot be loaded: {first}. Its fallback is started")));
        chained = of_choice(places, place, &told, (fallback, &outcome.titles), started, links);
    }
    chained
}

fn of_choice<'a>(
    places: &'a Places,
    place: &'a Place,
    told: &str,
    (choice, titles): (&Chosen, &[String]),
    started: Started,
    links: &mut Vec<Link>,
) -> Chained<'a> {
    let starts = |title: &str| Link::holds("configuration", format!("{told} starts \"{title}\"")).with(titles.iter().cloned());
    match choice {
        Chosen::Nothing => links.push(Link::broken("configuration", format!("{told} starts nothing"))),
        Chosen::Other(title) => {
            let text = format!("{told} starts \"{title}\", which is no kernel and no loader");
            links.push(Link::unknown("configuration", text).with(titles.iter().cloned()));
        }
        Chosen::Linux(entry) => {
            links.push(starts(&entry.title));
            linux::follow(places, place, entry, started.processor, links);
        }
        Chosen::Chain { title, path, on } => {
            if let Some(on) = on.and_then(|on| places.all.iter().find(|place| place.partition.number == on)) {
                links.push(starts(title));
                return Some((on, path.clone()));
            }
            let text = format!("{told} starts \"{title}\", a loader on a volume that is not on this drive: that is not looked into here");
            links.push(Link::unknown("configuration", text).with(titles.iter().cloned()));
        }
    }
    None
}

/// A configuration that goes on with another one, on a volume that it looks for; or one that starts systems itself.
/// `place` is where it lies, or the program that it is built into (`is_built`); `None` where that is a core image.
pub(crate) fn script<'a>(
    places: &'a Places,
    place: Option<&'a Place>,
    (text, prefix, is_built): (&str, &str, bool),
    started: Started,
    links: &mut Vec<Link>,
) -> Chained<'a> {
    let outcome = grub::run(places, place, text, prefix, (started.firmware, is_built));
    let stub = || match place {
        Some(place) if !is_built => format!("{prefix}/grub.cfg on {}", place.name()),
        _ => "the configuration built into GRUB".to_string(),
    };
    let resolved = || outcome.missed.as_deref().map(|name| resolve(places, name, "stub", "the volume with GRUB's configuration"));
    let Some(next) = &outcome.next else {
        if let Some(place) = place.filter(|_| outcome.chosen != Chosen::Nothing) {
            return chosen(places, place, &format!("{prefix}/grub.cfg"), &outcome, started, links);
        }
        let unknown = || Link::unknown("stub", format!("what {} starts is not known here", stub()));
        links.push(resolved().and_then(Result::err).unwrap_or_else(unknown));
        return None;
    };
    // What it looked for and did not find, or found twice, comes before where it looked in its stead.
    if let Some(Err(link)) = resolved() {
        links.push(link);
        return None;
    }
    let Some(target) = next.on.and_then(|on| places.all.iter().find(|place| place.partition.number == on)) else {
        links.push(Link::unknown("stub", format!("{} goes on with {}, and which volume that is on is not known", stub(), next.path)));
        return None;
    };
    links.push(Link::holds("stub", format!("GRUB finds its configuration on {}", target.name())).with([next.path.clone()]));
    let folder = next.path.rsplit_once('/').map_or("", |(folder, _)| folder);
    if place.is_none() && target.files.is_ok() && !target.has(&format!("{folder}/i386-pc/normal.mod")) {
        links.push(Link::broken("modules", format!("{folder}/i386-pc on {} lacks GRUB's modules", target.name())));
    }
    match next.is_read {
        // From there on with the variables that it was given.
        true => chosen(places, target, &next.path, &outcome, started, links),
        false => of_config(places, target, &next.path, started, links),
    }
}
