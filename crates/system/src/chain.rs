//! The ways from firmware to login that a drive has.

use crate::advice::advise;
use crate::link::{Chain, Link};
use crate::places::Places;
use crate::{bios, efi};
use badger_drive::Source;
use badger_inspect::{Line, Looked, Verdict};

/// Every way that was made for a drive, of firmware of the new kind first.
pub fn chains(drive: &Source, looked: &Looked) -> Vec<Chain> {
    of_places(drive, looked, &Places::of(drive, looked))
}

pub(crate) fn of_places(drive: &Source, looked: &Looked, places: &Places) -> Vec<Chain> {
    let mut out: Vec<Chain> = efi::chain(places).into_iter().chain(bios::chain(drive, looked, places)).collect();
    // An empty system partition beside a way of the old kind was never made for starting.
    let mut efi = places.all.iter().filter(|place| place.partition.type_code.is_efi()).peekable();
    let is_empty = efi.peek().is_some() && efi.all(|place| place.files.is_ok() && place.list("/").is_empty());
    if out.len() == 2 && is_empty {
        out.remove(0);
    }
    // A drive with data only may be marked, or divided, as if something were to start from it. Loaders are put there for nothing else,
    // also where the system behind them cannot be read here.
    let says_something = |link: &Link| match link.name {
        "first-sector" | "active" | "volume-record" | "system-partition" => false,
        "loader" => !link.evidence.is_empty(),
        _ => true,
    };
    if !has_system(places) {
        out.retain(|chain| chain.links.iter().any(says_something));
    }
    out
}

/// Whether a drive has files of a system, whose starting matters.
fn has_system(places: &Places) -> bool {
    let marks = ["/etc/fstab", "/Windows/System32/config/SYSTEM", "/boot/grub/grub.cfg", "/bootmgr", "/EFI/Microsoft/Boot/BCD"];
    places.all.iter().any(|place| marks.iter().any(|mark| place.has(mark)))
}

/// The same as lines of a proof: one for each link, and one where there is none.
pub fn lines(drive: &Source, looked: &Looked) -> Vec<Line> {
    let places = Places::of(drive, looked);
    let mut lines = told(&of_places(drive, looked, &places), &places);
    advise(&mut lines);
    lines
}

pub(crate) fn told(chains: &[Chain], places: &Places) -> Vec<Line> {
    if chains.is_empty() {
        return vec![match has_system(places) {
            true => Line::new("boot", Verdict::Fails, "there are files of a system, and nothing that firmware could start them by"),
            false => Line::new("boot", Verdict::NotChecked, "no system that could start was found"),
        }];
    }
    let mut out: Vec<Line> = Vec::new();
    for chain in chains {
        for line in chain.lines() {
            // What both ways go through is told once.
            let name = line.link.rsplit('/').next().unwrap_or_default();
            let same = out.iter_mut().find(|other| other.text == line.text && other.link.rsplit('/').next() == Some(name));
            match same {
                Some(other) => other.link = name.to_string(),
                None => out.push(line),
            }
        }
    }
    out
}
