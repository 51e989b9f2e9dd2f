//! btrfs, following its published on-disk format: chunks, trees, subvolumes, inodes with inline, plain and packed extents, checksums of
//! structures and of data. Files are listed and read; the volume's own maps are not checked.

mod file;
mod superblock;
mod trees;

use crate::cached::Cached;
use crate::content::Content;
use crate::finding::{Finding, Result};
use crate::node::{Listing, Name, Node, NodeKind, Resolution, Time, escaped};
use crate::tree::{Origin, Tree};
use badger_drive::field::{le16, le32, le64};
use std::collections::BTreeMap;
use std::ops::ControlFlow;
pub(crate) use superblock::FORMAT;
use trees::{Root, Trees};

/// Numbers of trees: the topmost folder, checksums of data, the first of further subvolumes and the last one.
const TOP: u64 = 5;
const SUMS: u64 = 7;
const FIRST: u64 = 256;
const LAST: u64 = u64::MAX - 255;
/// The folder of the tree of trees, which names the subvolume that is mounted when nobody says another.
const DEFAULTS: u64 = 6;
/// Kinds of items.
const INODE: u8 = 1;
const NAME_OF: u8 = 12;
const ATTRIBUTE: u8 = 24;
const NAMED: u8 = 84;
const ENTRY: u8 = 96;
const TREE: u8 = 132;
const ABOVE: u8 = 144;
/// What a subvolume holds for each that lies in it (`ROOT_REF`).
const BELOW: u8 = 156;
/// The number by which a folder is named that has nothing in it: that of a place in the list of subvolumes which none has.
const NOTHING: u64 = (1 << (64 - NUMBER_BITS)) - 1;
/// The first inode of a subvolume is its top.
const TOPMOST: u64 = 256;
/// So many subvolumes are held, and inodes have numbers below this: both together name a file.
const MOST_TREES: usize = (1 << 16) - 1;
const NUMBER_BITS: u32 = 48;
/// Entries of one directory.
const MOST_ENTRIES: usize = 16 << 20;
/// Flags of inodes: data without checksums.
const NO_SUMS: u64 = 1;

/// An open volume.
pub struct Btrfs {
    trees: Trees,
    /// By their numbers: what holds files.
    roots: BTreeMap<u64, Root>,
    /// Their numbers, in order.
    order: Vec<u64>,
    sums: Option<Root>,
    opened: Vec<Finding>,
}

struct Inode(Vec<u8>);

impl Inode {
    fn size(&self) -> u64 {
        le64(&self.0, 16)
    }
    fn mode(&self) -> u32 {
        le32(&self.0, 52)
    }
    fn has_sums(&self) -> bool {
        le64(&self.0, 64) & NO_SUMS == 0
    }
    fn time(&self, at: usize) -> Option<Time> {
        Some(Time { seconds: le64(&self.0, at) as i64, nanos: le32(&self.0, at + 8).min(999_999_999) })
    }
}

/// Names in an item: what each leads to, its name and, of attributes, its value.
fn names(item: &[u8]) -> impl Iterator<Item = (u64, u8, &[u8], &[u8])> {
    let mut rest = item;
    std::iter::from_fn(move || {
        let head = rest.get(..30)?;
        let (value, name) = (usize::from(le16(head, 25)), usize::from(le16(head, 27)));
        let both = rest.get(30..30 + name + value)?;
        rest = &rest[30 + name + value..];
        Some((le64(head, 0), head[8], &both[..name], &both[name..]))
    })
}

impl Btrfs {
    /// Opens a volume for its files.
    ///
    /// # Errors
    /// A finding where its super block or a tree that leads to all others is damaged, or it has features that are not known.
    pub fn open(volume: Cached) -> Result<Self> {
        let trees = Trees::open(volume)?;
        let (mut roots, mut sums, mut more) = (BTreeMap::new(), None, false);
        trees.each(trees.sb.root, ((TOP, TREE, 0), (LAST, TREE, u64::MAX)), &mut |(tree, kind, _), item| {
            // What nothing refers to any more is being deleted.
            if kind != TREE || item.len() < 239 || le32(item, 216) == 0 {
                return ControlFlow::Continue(());
            }
            let root = (le64(item, 176), item[238], le64(item, 160));
            match tree {
                SUMS => sums = Some(root),
                TOP | FIRST..=LAST if roots.len() < MOST_TREES => _ = roots.insert(tree, root),
                TOP | FIRST..=LAST => more = true,
                _ => {}
            }
            ControlFlow::Continue(())
        })?;
        let mut opened = Vec::new();
        if trees.sb.copied {
            opened.push(Finding::new("btrfs-super-block", "the super block is damaged; its copy is used"));
        }
        if trees.sb.waits {
            opened.push(Finding::new("btrfs-log", "it was not put away: what was written last waits in a log, and is not seen here"));
        }
        if more {
            opened.push(Finding::new("btrfs-subvolumes", format!("there are more than {MOST_TREES} subvolumes; the further ones are not listed")));
        }
        let order = roots.keys().copied().collect();
        Ok(Self { trees, roots, order, sums, opened })
    }

    /// Names a file among all: its subvolume's place in their order, and its inode.
    fn id(&self, tree: u64, inode: u64) -> Result<u64> {
        let place = self.order.binary_search(&tree).map_err(|_| Finding::new("btrfs-dangling", format!("there is no subvolume {tree}")))?;
        match inode >> NUMBER_BITS {
            0 => Ok((place as u64) << NUMBER_BITS | inode),
            _ => Err(Finding::new("btrfs-inode", format!("no volume has as many inodes as {inode}"))),
        }
    }

    /// The tree, its number and the inode of a file.
    fn parted(&self, id: u64) -> Result<(u64, Root, u64)> {
        let tree = self.order.get((id >> NUMBER_BITS) as usize).copied();
        let found = tree.and_then(|tree| Some((tree, *self.roots.get(&tree)?, id & ((1 << NUMBER_BITS) - 1))));
        found.ok_or_else(|| Finding::new("btrfs-inode", "there is no such subvolume"))
    }

    /// Whether a subvolume lies under this name in a folder of that very subvolume. A snapshot keeps the names of the subvolumes that lay in
    /// what it is a snapshot of, and not these: its systems show an empty folder there.
    fn lies_in(&self, child: u64, (tree, folder): (u64, u64), name: &[u8]) -> Result<bool> {
        let found = self.trees.find(self.trees.sb.root, (tree, BELOW, child))?;
        Ok(found.is_some_and(|item| item.len() >= 18 && le64(&item, 0) == folder && item.get(18..18 + usize::from(le16(&item, 16))) == Some(name)))
    }

    fn inode(&self, id: u64) -> Result<Inode> {
        let (tree, root, number) = self.parted(id)?;
        let item = self.trees.find(root, (number, INODE, 0))?.filter(|item| item.len() >= 160);
        item.map(Inode).ok_or_else(|| Finding::new("btrfs-dangling", format!("inode {number} of subvolume {tree} is not there")))
    }

    fn node_of(&self, id: u64) -> Result<Node> {
        if id >> NUMBER_BITS == NOTHING {
            return Ok(Node { id, mode: Some(0o755), ..Node::plain(NodeKind::Directory, 0, None) });
        }
        let inode = self.inode(id)?;
        let (kind, what) = match inode.mode() >> 12 & 15 {
            4 => (NodeKind::Directory, None),
            8 => (NodeKind::File, None),
            10 => (NodeKind::Link, None),
            1 => (NodeKind::Other, Some("pipe")),
            2 | 6 => (NodeKind::Other, Some("device")),
            12 => (NodeKind::Other, Some("socket")),
            _ => (NodeKind::Other, None),
        };
        Ok(Node {
            id,
            accessed: inode.time(112),
            created: inode.time(148),
            mode: Some(inode.mode() & 0o7777),
            owner: Some((le32(&inode.0, 44), le32(&inode.0, 48))),
            links: le32(&inode.0, 40),
            what: what.map(Into::into),
            ..Node::plain(kind, if kind == NodeKind::Directory { 0 } else { inode.size() }, inode.time(136))
        })
    }

    /// The path of a subvolume from the topmost one on; `None` where none leads to it.
    fn path(&self, tree: u64) -> Option<String> {
        let (mut tree, mut path) = (tree, String::new());
        for _ in 0..64 {
            if tree == TOP {
                return Some(path);
            }
            let mut above = None;
            let found = self.trees.each(self.trees.sb.root, ((tree, ABOVE, 0), (tree, ABOVE, u64::MAX)), &mut |key, item| {
                above = item.get(18..18 + usize::from(le16(item, 16))).map(|name| (key.2, le64(item, 0), escaped(name)));
                ControlFlow::Break(())
            });
            let (parent, mut folder, name) = above.filter(|_| found.is_ok())?;
            path = format!("/{name}{path}");
            let root = *self.roots.get(&parent)?;
            for _ in 0..64 {
                if folder == TOPMOST {
                    break;
                }
                let mut above = None;
                let found = self.trees.each(root, ((folder, NAME_OF, 0), (folder, NAME_OF, u64::MAX)), &mut |key, item| {
                    above = item.get(10..10 + usize::from(le16(item, 8))).map(|name| (key.2, escaped(name)));
                    ControlFlow::Break(())
                });
                let (next, name) = above.filter(|_| found.is_ok())?;
                (folder, path) = (next, format!("/{name}{path}"));
            }
            (folder == TOPMOST).then_some(())?;
            tree = parent;
        }
        None
    }
}

impl Tree for Btrfs {
    fn origin(&self) -> Origin<'_> {
        Origin::Files(&self.trees.volume)
    }

    fn root(&self) -> Result<Node> {
        self.node_of(self.id(TOP, TOPMOST)?)
    }

    fn list(&self, directory: &Node) -> Listing {
        let (mut listing, mut found) = (Listing::default(), Vec::new());
        if directory.id >> NUMBER_BITS == NOTHING {
            return listing;
        }
        let (tree, root, number) = match self.parted(directory.id) {
            Ok(parted) => parted,
            Err(finding) => return finding.into(),
        };
        if tree == TOP && number == TOPMOST {
            listing.findings.extend(self.opened.iter().cloned());
        }
        let read = self.trees.each(root, ((number, ENTRY, 0), (number, ENTRY, u64::MAX)), &mut |_, item| {
            for (to, kind, name, _) in names(item) {
                // A subvolume stands where a folder would.
                let id = match kind {
                    TREE => match self.lies_in(to, (tree, number), name) {
                        Ok(true) => self.id(to, TOPMOST),
                        Ok(false) => Ok(NOTHING << NUMBER_BITS | to & ((1 << NUMBER_BITS) - 1)),
                        Err(finding) => Err(finding),
                    },
                    _ => self.id(tree, to),
                };
                match id {
                    Ok(id) => found.push((id, Name::from_bytes(name))),
                    Err(finding) => listing.findings.push(Finding { text: format!("{}: {}", escaped(name), finding.text), ..finding }),
                }
            }
            if found.len() > MOST_ENTRIES { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        listing.findings.extend(read.err());
        listing.add(found, |id, name| self.node_of(id).map_err(|finding| Finding { text: format!("{}: {}", name.shown, finding.text), ..finding }));
        listing
    }

    fn open(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        if !stream.is_empty() {
            return Err(Finding::new("no-stream", "this format has no further streams"));
        }
        Ok(Content::kept(self.file(file.id)?))
    }

    fn attributes(&self, node: &Node) -> Result<Vec<(String, Vec<u8>)>> {
        let (_, root, number) = self.parted(node.id)?;
        let mut out = Vec::new();
        self.trees.each(root, ((number, ATTRIBUTE, 0), (number, ATTRIBUTE, u64::MAX)), &mut |_, item| {
            out.extend(names(item).map(|(_, _, name, value)| (escaped(name), value.to_vec())));
            ControlFlow::Continue(())
        })?;
        Ok(out)
    }

    fn link(&self, link: &Node) -> Result<Name> {
        let content = self.open(link, "")?;
        let mut bytes = vec![0; content.size().min(4096) as usize];
        let count = content.read(0, &mut bytes)?;
        Ok(Name::from_bytes(&bytes[..count]))
    }

    fn is_case_sensitive(&self) -> bool {
        true
    }

    fn resolution(&self) -> Resolution {
        Resolution { modified: 1, accessed: 1, created: 1 }
    }

    fn most_entries(&self) -> u64 {
        self.trees.volume.most_entries()
    }

    fn mounted(&self) -> Option<String> {
        let mut tree = None;
        let names = self.trees.each(self.trees.sb.root, ((DEFAULTS, NAMED, 0), (DEFAULTS, NAMED, u64::MAX)), &mut |_, item| {
            tree = names(item).find(|(_, _, name, _)| *name == b"default").map(|(to, ..)| to);
            if tree.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        self.path(tree.filter(|tree| names.is_ok() && *tree != TOP)?)
    }
}
