//! The tree of folders that a Linux system has when it runs, over the volumes of a drive: its root, and what `/etc/fstab` mounts into that.

use super::fstab::{Mount, subvolume};
use crate::places::{Place, Places, whole};
use badger_fs::tree::{self, Node, NodeKind};
use badger_fs::volume::Kind;
use std::cell::RefCell;
use std::collections::HashMap;

/// Links on one way at most, and parts of it.
const MOST_LINKS: usize = 40;
const MOST_PARTS: usize = 512;
/// A program or library has so many bytes at most.
const MOST_PROGRAM: u64 = 256 << 20;
/// And a text.
const MOST_TEXT: u64 = 8 << 20;

/// The names of a kernel module for the format of a volume, any of which serves; `None` where that is not known.
pub(super) fn fs_module(place: &Place) -> Option<&'static [&'static str]> {
    match place.found.as_ref()?.kind {
        Kind::Ext4 => Some(&["ext4"]),
        Kind::Ext3 => Some(&["ext4", "ext3"]),
        Kind::Ext2 => Some(&["ext4", "ext2"]),
        Kind::Btrfs => Some(&["btrfs"]),
        Kind::Xfs => Some(&["xfs"]),
        _ => None,
    }
}

/// A folder that another volume is mounted at.
struct Mounted<'a> {
    at: Vec<String>,
    /// The volume, and the folder of it; `None` where it cannot be read here.
    from: Option<(&'a Place, String)>,
}

/// What a path leads to.
pub(super) enum Look<'a> {
    /// Something that is there: the volume, the node, and the path without links.
    There(&'a Place, Node, String),
    /// It is not there.
    Missing,
    /// It may be there; why that is not known.
    Unknown(String),
}

type Listing = HashMap<String, Node>;

/// The tree.
pub(super) struct Root<'a> {
    /// The volume of the system.
    pub system: &'a Place,
    mounted: Vec<Mounted<'a>>,
    listed: RefCell<HashMap<(u32, u64), Listing>>,
}

impl<'a> Root<'a> {
    /// The tree of a system with its mounts.
    pub(super) fn of(places: &'a Places, system: &'a Place, mounts: &[Mount]) -> Self {
        let parts = |path: &str| path.split('/').filter(|part| !part.is_empty()).map(str::to_string).collect::<Vec<_>>();
        let mounted = mounts.iter().filter(|mount| mount.at.starts_with('/') && mount.at != "/" && mount.is_device(places));
        let mounted = mounted.map(|mount| {
            let place = match places.named(&mount.name).as_deref() {
                Some([one]) if one.files.is_ok() => Some(*one),
                _ => None,
            };
            let from = place.map(|place| (place, subvolume(&mount.options).unwrap_or_default().to_string()));
            Mounted { at: parts(&mount.at), from }
        });
        Self { system, mounted: mounted.collect(), listed: RefCell::default() }
    }

    /// The node that a path of links and folders starts from: a mounted volume's top, or the system's.
    fn top(&self, place: &'a Place, folder: &str) -> Result<Node, String> {
        let volume = place.files.as_ref().map_err(Clone::clone)?;
        let node = if folder.is_empty() { volume.root() } else { tree::find(&**volume, folder) };
        node.map_err(|finding| finding.text)
    }

    fn child(&self, place: &'a Place, folder: &Node, name: &str) -> Option<Node> {
        let key = (place.partition.number, folder.id);
        let mut listed = self.listed.borrow_mut();
        let listing = listed.entry(key).or_insert_with(|| {
            let Ok(volume) = &place.files else { return Listing::new() };
            volume.list(folder).entries.into_iter().map(|entry| (entry.name.shown, entry.node)).collect()
        });
        listing.get(name).cloned()
    }

    /// Follows a path from the root of the system.
    pub(super) fn look(&self, path: &str) -> Look<'a> {
        let mut rest: Vec<String> = path.split('/').rev().map(str::to_string).collect();
        let mut done: Vec<String> = Vec::new();
        let mut links = 0;
        // Nodes of the folders on the way, the system's root first.
        let start = match self.top(self.system, &self.system.top.borrow()) {
            Ok(node) => (self.system, node),
            Err(why) => return Look::Unknown(why),
        };
        let mut way: Vec<(&'a Place, Node)> = vec![start];
        while let Some(part) = rest.pop() {
            match part.as_str() {
                "" | "." => continue,
                ".." => {
                    if done.pop().is_some() {
                        way.pop();
                    }
                    continue;
                }
                _ => {}
            }
            let Some((place, node)) = way.last().cloned() else { return Look::Missing };
            if node.kind != NodeKind::Directory {
                return Look::Missing;
            }
            done.push(part);
            if let Some(mounted) = self.mounted.iter().find(|mounted| mounted.at == done) {
                match mounted.from.as_ref().map(|(place, folder)| self.top(place, folder).map(|node| (*place, node))) {
                    Some(Ok(found)) => way.push(found),
                    Some(Err(why)) => return Look::Unknown(why),
                    None => return Look::Unknown(format!("/{} is another volume, which was not looked into", done.join("/"))),
                }
                continue;
            }
            let Some(found) = self.child(place, &node, &done[done.len() - 1]) else { return Look::Missing };
            if found.kind == NodeKind::Link {
                links += 1;
                let to = match place.files.as_ref().map(|volume| volume.link(&found)) {
                    Ok(Ok(to)) => to.shown,
                    _ => return Look::Unknown(format!("the link /{} cannot be read", done.join("/"))),
                };
                if links > MOST_LINKS || rest.len() > MOST_PARTS {
                    return Look::Missing;
                }
                done.pop();
                if to.starts_with('/') {
                    done.clear();
                    way.truncate(1);
                }
                rest.extend(to.split('/').rev().map(str::to_string));
                continue;
            }
            way.push((place, found));
        }
        match way.pop() {
            Some((place, node)) => Look::There(place, node, format!("/{}", done.join("/"))),
            None => Look::Missing,
        }
    }

    /// The bytes of a file that [`Root::look`] found.
    pub(super) fn bytes(&self, place: &Place, node: &Node) -> Result<Vec<u8>, String> {
        if node.size > MOST_PROGRAM {
            return Err("it is longer than is read here".into());
        }
        let volume = place.files.as_ref().map_err(Clone::clone)?;
        whole(&volume.open(node, "").map_err(|finding| finding.text)?)
    }

    /// A file of text, where it is there and can be read.
    pub(super) fn text(&self, path: &str) -> Option<String> {
        match self.look(path) {
            Look::There(place, node, _) if node.kind == NodeKind::File && node.size <= MOST_TEXT => {
                self.bytes(place, &node).ok().map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
            }
            _ => None,
        }
    }

    /// Names in a folder; none where it is not there.
    pub(super) fn names(&self, path: &str) -> Vec<String> {
        let Look::There(place, node, _) = self.look(path) else { return Vec::new() };
        let Ok(volume) = &place.files else { return Vec::new() };
        volume.list(&node).entries.into_iter().map(|entry| entry.name.shown).collect()
    }
}
