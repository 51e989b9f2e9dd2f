//! Volumes in hundreds of shapes: listed, read, gone over and fitted, and held each time against what the system's own
//! checker and driver say of them, also after the driver filled, emptied and filled them again.
//!
//! `BADGER_SHAPES` says how many of each format (the test command takes a few), `BADGER_FIRST` with which seed to begin.

use crate::support::shape::{Family, Random, Shape, Shown, asked, judged, shown, used_up};
use crate::support::{poured, source};
use badger_fs::tree::NodeKind;
use badger_fs::{Volume, Wanted, Weight};
use rstest::rstest;
use std::fs;
use std::path::Path;

/// What this program lists and reads.
fn ours(fs: &dyn Volume) -> Result<Shown, String> {
    let mut out = Shown::new();
    let mut waiting = vec![(Vec::new(), fs.root().map_err(|finding| finding.text)?)];
    while let Some((path, node)) = waiting.pop() {
        let listing = fs.list(&node);
        if let Some(finding) = listing.findings.first() {
            return Err(format!("{}: {}", String::from_utf8_lossy(&path), finding.text));
        }
        for entry in listing.entries {
            let mut full: Vec<u8> = path.clone();
            if !full.is_empty() {
                full.push(b'/');
            }
            full.extend(&entry.name.bytes);
            if full == b"lost+found" {
                continue;
            }
            let (kind, content) = match entry.node.kind {
                NodeKind::Directory => (0o040_000, Vec::new()),
                NodeKind::Link => (0o120_000, fs.link(&entry.node).map_err(|finding| finding.text)?.bytes),
                NodeKind::File => (0o100_000, crate::support::hashed(fs, &entry.node, "").map_err(|code| format!("{}: {code}", entry.name.shown))?),
                NodeKind::Other => (0, Vec::new()),
            };
            let size = if entry.node.kind == NodeKind::File { entry.node.size } else { 0 };
            out.insert(full.clone(), (kind, size, content));
            if entry.node.kind == NodeKind::Directory {
                waiting.push((full, entry.node));
            }
        }
    }
    Ok(out)
}

/// The first thing in which two listings differ.
fn differ(a: &Shown, b: &Shown) -> Option<String> {
    let key = a.iter().find(|(key, value)| b.get(*key) != Some(value)).or_else(|| b.iter().find(|(key, _)| !a.contains_key(*key)))?.0;
    let say = |of: &Shown| of.get(key).map_or("nothing".to_string(), |(kind, size, content)| format!("kind {kind:o}, {size} bytes, {content:02x?}"));
    Some(format!("{}: {} and {}", String::from_utf8_lossy(key), say(a), say(b)))
}

/// How far a volume could be judged.
enum Judged {
    /// In every fit, and after its driver used it.
    Used,
    /// In every fit; what its driver writes the checker does not take, whoever made the volume.
    Fitted,
    Not,
}

/// Tries one volume.
fn one(family: Family, seed: u64) -> Result<Judged, String> {
    let shape = Shape::of(family, seed);
    let told = |what: String| format!("{}: {what}", shape.text);
    let len = fs::metadata(&shape.path).unwrap().len();
    // The driver itself leaves what the checker wants otherwise, the kinds in entries of volumes without them, for one.
    let is_sound = judged(family, &shape.path).is_ok();
    if !is_sound {
        // Set right by the checker it is a volume like any other, but one that the driver must not write to again.
        if family == Family::Ext {
            let _ = std::process::Command::new("e2fsck").arg("-fy").arg(&shape.path).output();
        }
        if let Err(said) = judged(family, &shape.path) {
            eprintln!("{}: not judged: {said}", shape.text);
            return Ok(Judged::Not);
        }
    }
    let fs = badger_fs::open(&source(&shape.path), 0, len).map_err(|finding| told(finding.text))?;
    let survey = fs.survey();
    if let Some(finding) = survey.findings.iter().find(|finding| finding.weight > Weight::Note) {
        return Err(told(format!("a clean volume is called faulty: {} {}", finding.code, finding.text)));
    }
    let mine = ours(&*fs).map_err(told)?;
    let theirs = if shape.driven { Some(shown(family, &shape.path).map_err(told)?) } else { None };
    if let Some(differs) = theirs.as_ref().and_then(|theirs| differ(&mine, theirs)) {
        return Err(told(format!("read otherwise than by the driver: {differs}")));
    }
    let mut random = Random::new(seed.wrapping_mul(77));
    let own = if family == Family::Ext { 512 } else { u32::from(u16::from_le_bytes(fs.volume().read(11, 2).unwrap().try_into().unwrap())).max(512) };
    let other = if own == 512 { 4096 } else { 512 };
    for (turn, sector) in [(0, own), (1, own), (2, other), (3, own)] {
        let bounds = match fs.bounds(&survey, sector) {
            Ok(bounds) => bounds,
            Err(finding) if finding.code.ends_with("-sectors") && sector == other => continue,
            Err(finding) => return Err(told(format!("cannot be fitted: {} {}", finding.code, finding.text))),
        };
        let up = |size: u64| size.div_ceil(u64::from(sector)) * u64::from(sector);
        let least = up(bounds.least);
        let wanted = match turn {
            0 => least,
            1 => (2 * len).min(bounds.most / u64::from(sector) * u64::from(sector)),
            _ => up(least + random.below((2 * len).min(bounds.most).saturating_sub(least))),
        };
        let fresh = random.chance(40).then_some([0x5a; 16]);
        let wanted = Wanted { len: wanted, start: 2048, sector, fresh };
        let told = |what: String| format!("{} to {wanted:?}: {what}", shape.text);
        let view = fs.resized(&survey, &wanted).map_err(|finding| told(format!("{} {}", finding.code, finding.text)))?;
        let out = shape.path.with_extension("changed");
        poured(&view, &out);
        judged(family, &out).map_err(|said| told(format!("the checker: {said}")))?;
        check(&out, &mine, family).map_err(told)?;
        let promised = fs.room(&survey, wanted.len, sector).map_err(|finding| told(finding.text))?;
        let there = badger_fs::open(&source(&out), 0, wanted.len).map_err(|finding| told(finding.text))?;
        let size = badger_fs::recognise(&*source(&out), 0, wanted.len).map_or(0, |volume| volume.size_bytes);
        let free = size.saturating_sub(there.survey().used());
        if free.abs_diff(promised) > wanted.len / 100 + (1 << 20) {
            return Err(told(format!("{free} bytes are free where {promised} were promised")));
        }
        if shape.driven {
            let after = match shown(family, &out) {
                // This driver refuses a FAT of 12 bits in which a chain leads to the very last cluster, its own ones too.
                Err(said) if family == Family::Fat && said.contains(&format!("too big({:#x})", last_cluster(&out))) => continue,
                shown => shown.map_err(|said| told(format!("the driver: {said}")))?,
            };
            if let Some(differs) = differ(theirs.as_ref().unwrap_or(&mine), &after) {
                return Err(told(format!("the driver reads it otherwise than before: {differs}")));
            }
            if !is_sound {
                continue;
            }
            used_up(family, &out).map_err(|said| told(format!("in use: {said}")))?;
            let there = badger_fs::open(&source(&out), 0, wanted.len).map_err(|finding| told(finding.text))?;
            let after = there.survey();
            if let Some(finding) = after.findings.iter().find(|finding| finding.weight > Weight::Note) {
                return Err(told(format!("after use: {} {}", finding.code, finding.text)));
            }
        }
    }
    Ok(if is_sound { Judged::Used } else { Judged::Fitted })
}

/// A fitted volume by this program's own eyes.
fn check(path: &Path, mine: &Shown, family: Family) -> Result<(), String> {
    let there = badger_fs::open(&source(path), 0, fs::metadata(path).unwrap().len()).map_err(|finding| finding.text)?;
    if let Some(finding) = there.survey().findings.iter().find(|finding| finding.weight > Weight::Note) {
        return Err(format!("{family:?} is not sound: {} {}", finding.code, finding.text));
    }
    differ(mine, &ours(&*there)?).map_or(Ok(()), Err)
}

/// The number of the last cluster of a FAT volume without 32 bits.
fn last_cluster(path: &Path) -> u32 {
    let boot = std::fs::read(path).unwrap();
    let word = |at: usize| u32::from(u16::from_le_bytes([boot[at], boot[at + 1]]));
    let (sector, all) = (word(11), if word(19) == 0 { word(32) | word(34) << 16 } else { word(19) });
    let front = word(14) + u32::from(boot[16]) * word(22) + (word(17) * 32).div_ceil(sector);
    (all - front) / u32::from(boot[13]) + 1
}

#[rstest]
#[case::fat(Family::Fat)]
#[case::exfat(Family::ExFat)]
#[case::ext(Family::Ext)]
#[case::ntfs(Family::Ntfs)]
fn shapes_are_read_and_fitted_as_their_systems_have_them(#[case] family: Family) {
    let (first, count) = (asked("BADGER_FIRST", 0), asked("BADGER_SHAPES", 8));
    let (mut failed, mut used, mut fitted) = (Vec::new(), 0, 0);
    for seed in first..first + count {
        match one(family, seed) {
            Ok(Judged::Used) => used += 1,
            Ok(Judged::Fitted) => fitted += 1,
            Ok(Judged::Not) => {}
            Err(what) => {
                eprintln!("{what}\n");
                failed.push(what);
            }
        }
    }
    let judged = used + fitted;
    println!("{family:?}: {judged} of {count} shapes sound in every fit, {used} of them after use too; {} not", failed.len());
    assert!(failed.is_empty(), "{} of {count}:\n{}", failed.len(), failed.join("\n\n"));
    assert!(judged * 10 >= count * 8, "only {judged} of {count} could be judged");
}
