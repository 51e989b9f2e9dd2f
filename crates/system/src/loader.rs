//! The usual loader of Linux systems: what is built into it, its configurations, and its core image for firmware of the old kind.

use crate::link::Link;
use crate::linux::{self, resolve, searched, words};
use crate::places::{Place, Places};
use badger_drive::field::{le32, le64};
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

/// A loader's configuration and all it starts.
pub(crate) fn of_config(places: &Places, place: &Place, path: &str, links: &mut Vec<Link>) {
    let asked = (place.partition.number, path.to_string());
    let known = places.followed.borrow().get(&asked).cloned();
    let tail = known.unwrap_or_else(|| {
        let mut tail = Vec::new();
        follow_config(places, place, path, &mut tail);
        places.followed.borrow_mut().insert(asked, tail.clone());
        tail
    });
    links.extend(tail);
}

fn follow_config(places: &Places, place: &Place, path: &str, links: &mut Vec<Link>) {
    if let Some(top) = place.hidden_in(path) {
        let text = format!("the loader looks for its configuration {path} at the top of {}, and it lies in the subvolume {top}", place.name());
        return links.push(Link::broken("configuration", text));
    }
    let text = match place.text(path) {
        Ok(Some(text)) => text,
        Ok(None) => return links.push(Link::broken("configuration", format!("the loader's configuration {path} is not on {}", place.name()))),
        Err(why) if place.files.is_err() => {
            return links
                .push(Link::unknown("configuration", format!("the loader's configuration {path} on {} was not looked at: {why}", place.name())));
        }
        Err(why) => {
            return links.push(Link::broken("configuration", format!("the loader's configuration {path} on {} cannot be read: {why}", place.name())));
        }
    };
    let (mut entries, at) = linux::entries(&text);
    if entries.is_empty() && text.lines().any(|line| line.trim_start().starts_with("blscfg")) {
        let names = place.list("/loader/entries").into_iter().map(|(name, _)| format!("/loader/entries/{name}"));
        let all = names.chain(place.list("/boot/loader/entries").into_iter().map(|(name, _)| format!("/boot/loader/entries/{name}")));
        let mut named: Vec<String> = all.filter(|path| path.ends_with(".conf")).collect();
        named.sort();
        entries = named.iter().rev().filter_map(|path| place.text(path).ok().flatten()).map(|text| linux::specified(&text)).collect();
    }
    let Some(entry) = entries.get(at).or(entries.first()) else {
        return links.push(Link::broken("configuration", format!("the loader's configuration {path} on {} starts nothing", place.name())));
    };
    let others: Vec<String> = entries.iter().map(|entry| format!("{}: {}", entry.title, entry.kernel)).collect();
    links
        .push(Link::holds("configuration", format!("the loader's configuration {path} on {} starts \"{}\"", place.name(), entry.title)).with(others));
    linux::follow(places, place, entry, links);
}

/// A short configuration that finds a volume and goes on with the one there; or one that starts systems itself.
/// `place` is where it lies; `None` where it is built into a core image.
pub(crate) fn script(places: &Places, place: Option<&Place>, text: &str, prefix: &str, links: &mut Vec<Link>) {
    if let Some(place) = place.filter(|_| !linux::entries(text).0.is_empty()) {
        return of_config(places, place, &format!("{prefix}/grub.cfg"), links);
    }
    let lines: Vec<Vec<String>> = text.lines().map(words).filter(|words| !words.is_empty()).collect();
    let search = lines.iter().rev().find_map(|words| searched(words));
    let Some(search) = search else {
        return links.push(Link::unknown("stub", format!("what {prefix}/grub.cfg does is not understood here")));
    };
    let target = match resolve(places, &search, "stub", "the volume with the loader's configuration") {
        Ok(target) => target,
        Err(link) => return links.push(link),
    };
    links.push(Link::holds("stub", format!("the loader finds its configuration on {}", target.name())).with([search]));
    let path = lines.iter().find_map(|words| words.iter().find_map(|word| word.strip_prefix("prefix=").map(str::to_string)));
    let path = path.map_or_else(|| "/boot/grub".into(), |path| path.replace("($root)", "").replace("(${root})", "").replace("$root", ""));
    let path = linux_path(&path);
    if place.is_none() && target.files.is_ok() && !target.has(&format!("{path}/i386-pc/normal.mod")) {
        links.push(Link::broken("modules", format!("{path}/i386-pc on {} lacks the loader's modules", target.name())));
    }
    of_config(places, target, &format!("{path}/grub.cfg"), links);
}
