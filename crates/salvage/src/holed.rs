//! Which files are whole, holed or unread on a half-salvaged drive, by name.

use crate::map::{Map, State};
use badger_drive::{Extents, Source};
use badger_fs::Tree;
use badger_fs::tree::{Entry, Node, NodeKind, Stream};
use badger_fs::walk::walk_until;
use badger_inspect::Looked;
use std::cell::{Cell, RefCell};
use std::ops::Range;

/// A stretch of a file that is missing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
pub struct Missing {
    /// First byte of the file.
    pub start: u64,
    /// How many.
    pub bytes: u64,
}

/// A file of which something is missing.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct Holed {
    /// `#NUMBER` of the partition and the path in it.
    pub path: String,
    /// Its length in bytes.
    pub size: u64,
    /// What of it is missing; all of it where it is unread.
    pub missing: Vec<Missing>,
    /// Why that is not known, where it is not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unknown: Option<String>,
}

impl Holed {
    /// Bytes that are missing.
    pub fn bytes(&self) -> u64 {
        self.missing.iter().map(|missing| missing.bytes).sum()
    }
}

/// What the files of a drive came to.
#[derive(Clone, Debug, Default, serde::Serialize)]
pub struct Files {
    /// Files that are whole.
    pub whole: u64,
    /// Those that are not.
    pub holed: Vec<Holed>,
    /// Bytes that are missing and belong to no file that was found: free space, structures, or files whose names are lost.
    pub elsewhere: u64,
    /// What could not be gone through: folders and volumes that are lost themselves, in words.
    pub problems: Vec<String>,
    /// There are more of them than are listed.
    pub cut: bool,
}

/// So many files are listed by name.
const MOST: usize = 200_000;

/// The places on the drive of what belongs to a file: start, length, and where in the file; `None` where that is not known.
fn places(tree: &dyn Tree, entry: &Entry) -> Result<Vec<(u64, u64, u64)>, String> {
    places_of(tree, &entry.node, "")
}

/// The same of one of the streams of a file or folder.
fn places_of(tree: &dyn Tree, node: &Node, stream: &str) -> Result<Vec<(u64, u64, u64)>, String> {
    let content = tree.open(node, stream).map_err(|finding| finding.text)?;
    if !content.is_placed() {
        return Err("part of it lies on another drive, or nobody knows where".into());
    }
    let first = tree.origin().cached().ok_or("it lies on no drive")?.start();
    let (mut at, mut out) = (0, Vec::new());
    let size = content.size();
    for piece in content.pieces() {
        if let Some(place) = piece.at {
            out.push((first + place, piece.len, at));
        }
        at += piece.len;
    }
    if content.is_packed() {
        // Where in the file the bytes of a packed stretch come out is not told: any of it missing is all of it missing.
        out = out.into_iter().map(|(place, len, _)| (place, len, u64::MAX)).collect();
    }
    out.retain(|(_, _, at)| *at == u64::MAX || *at < size.max(1));
    Ok(out)
}

/// Everything on the drive that a file, or each below a folder, lies on.
///
/// # Errors
/// Why it cannot be found.
pub fn ranges(tree: &dyn Tree, path: &str) -> Result<Vec<Vec<Range<u64>>>, String> {
    let node = badger_fs::tree::find(tree, path).map_err(|finding| finding.text)?;
    let mut out = Vec::new();
    let mut add = |entry: &Entry| {
        if let (NodeKind::File, Ok(places)) = (entry.node.kind, places(tree, entry)) {
            out.push(places.into_iter().map(|(start, len, _)| start..start + len).collect());
        }
    };
    let name = badger_fs::tree::Name { bytes: Vec::new(), shown: String::new() };
    add(&Entry { name, node: node.clone() });
    if node.kind == NodeKind::Directory {
        walk_until(tree, node, "", &|| false, &mut |_, entry| add(entry));
    }
    Ok(out)
}

/// Files that something of a place on the drive belongs to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Owners {
    /// Each as `#NUMBER` of the partition and the path in it.
    pub names: Vec<String>,
    /// There are more.
    pub more: bool,
}

/// Whose a place on a half-salvaged drive is: at most so many names, of what can be gone through.
pub fn owners(drive: &Source, range: &Range<u64>, most: usize, stop: &dyn Fn() -> bool) -> Owners {
    let mut out = Owners::default();
    let looked = Looked::at_structures(drive);
    for partition in looked.table.data_partitions() {
        let (start, len) = looked.table.place(partition);
        if start >= range.end || start.saturating_add(len) <= range.start {
            continue;
        }
        let Ok(volume) = badger_fs::files(drive, start, len) else { continue };
        let Ok(root) = volume.root() else { continue };
        let (found, is_enough) = (RefCell::new(&mut out), Cell::new(false));
        walk_until(&*volume, root, "", &|| is_enough.get() || stop(), &mut |path, entry| {
            let touches = |(place, len, _): &(u64, u64, u64)| *place < range.end && place + len > range.start;
            if entry.node.kind == NodeKind::File && places(&*volume, entry).is_ok_and(|places| places.iter().any(touches)) {
                let mut found = found.borrow_mut();
                if found.names.len() == most {
                    found.more = true;
                    is_enough.set(true);
                } else {
                    found.names.push(format!("#{}{path}", partition.number));
                }
            }
        });
    }
    out
}

/// Goes through every file of a half-salvaged drive, of which `drive` shows what is saved.
pub fn files(drive: &Source, map: &Map, stop: &dyn Fn() -> bool) -> Files {
    let mut out = Files::default();
    let mut missing: Extents<()> = Extents::new();
    map.iter().filter(|(_, state)| *state != State::Saved).for_each(|(range, _)| missing.set(range, ()));
    if missing.is_empty() {
        return out;
    }
    let looked = Looked::at_structures(drive);
    let mut unowned = missing.clone();
    for partition in looked.table.data_partitions() {
        let (start, len) = looked.table.place(partition);
        let volume = match badger_fs::files(drive, start, len) {
            Ok(volume) => volume,
            Err(finding) => {
                if missing.within(start..start.saturating_add(len)).next().is_some() {
                    out.problems.push(format!("partition {}: its files cannot be named: {}", partition.number, finding.text));
                }
                continue;
            }
        };
        let Ok(root) = volume.root() else {
            out.problems.push(format!("partition {}: its top folder is lost", partition.number));
            continue;
        };
        let mut one = |path: String, size: u64, places: Result<Vec<(u64, u64, u64)>, String>| {
            let places = match places {
                Ok(places) => places,
                Err(why) => {
                    if out.holed.len() < MOST {
                        out.holed.push(Holed { path, size, missing: Vec::new(), unknown: Some(why) });
                    }
                    return;
                }
            };
            let mut holes: Vec<Missing> = Vec::new();
            for (place, len, at) in places {
                for (gap, ()) in missing.within(place..place + len) {
                    unowned.clear(gap.clone());
                    let hole = match at {
                        u64::MAX => Missing { start: 0, bytes: size },
                        at => {
                            let start = at + gap.start - place;
                            Missing { start, bytes: (gap.end - gap.start).min(size.saturating_sub(start)) }
                        }
                    };
                    match holes.last_mut() {
                        Some(last) if hole.start <= last.start + last.bytes => last.bytes = last.bytes.max(hole.start + hole.bytes - last.start),
                        _ if hole.bytes > 0 => holes.push(hole),
                        _ => {}
                    }
                }
            }
            match (holes.is_empty(), out.holed.len() < MOST) {
                (true, _) => out.whole += 1,
                (false, true) => out.holed.push(Holed { path, size, missing: holes, unknown: None }),
                (false, false) => out.cut = true,
            }
        };
        let mut each = |path: &str, entry: &Entry| {
            let (node, path) = (&entry.node, format!("#{}{path}", partition.number));
            let mut parts = Vec::new();
            match volume.streams(node) {
                Ok(streams) => {
                    let of = |stream: Stream| (format!("{path}:{}", stream.name.shown), stream.size, places_of(&*volume, node, &stream.name.shown));
                    parts.extend(streams.into_iter().map(of));
                }
                Err(finding) => parts.push((format!("{path} (streams)"), 0, Err(finding.text))),
            }
            parts.extend(volume.attributes(node).err().map(|finding| (format!("{path} (attributes)"), 0, Err(finding.text))));
            if node.kind == NodeKind::Link {
                parts.extend(volume.link(node).err().map(|finding| (path.clone(), node.size, Err(finding.text))));
            }
            if node.kind == NodeKind::File {
                parts.push((path, node.size, places(&*volume, entry)));
            }
            parts.into_iter().for_each(|(path, size, places)| one(path, size, places));
        };
        let findings = walk_until(&*volume, root, "", stop, &mut each);
        out.problems.extend(findings.iter().take(1000).map(|finding| format!("partition {}: {}", partition.number, finding.text)));
    }
    out.elsewhere = unowned.total(|()| true);
    out
}
