//! What has files, and what lies on sectors.
//!
//! A [`Tree`] is whatever can be listed and read: a volume, a folder of this machine. A [`Volume`] is a tree on a drive,
//! which can also be checked and shown with another size.
//!
//! Reading only. A broken structure costs what it holds, not the volume: it becomes a [`Finding`] and the walk goes on.

use crate::cached::Cached;
use crate::content::Content;
pub use crate::finding::{Finding, Result, Weight};
pub use crate::node::{Entry, Listing, Name, Node, NodeKind, Piece, Resolution, Stream, Time, escaped};
use crate::resize::{Bounds, View, Wanted};
use crate::survey::Survey;
use std::path::Path;

/// Where a tree comes from.
#[derive(Clone, Copy)]
pub enum Origin<'a> {
    /// It lies on a drive.
    Volume(&'a dyn Volume),
    /// It lies on a drive, and only its files are read: the bytes it stands on.
    Files(&'a Cached),
    /// It is a folder of this machine, at this place.
    Folder(&'a Path),
}

impl<'a> Origin<'a> {
    /// The bytes of a drive that it stands on.
    pub fn cached(self) -> Option<&'a Cached> {
        match self {
            Self::Volume(volume) => Some(volume.volume()),
            Self::Files(cached) => Some(cached),
            Self::Folder(_) => None,
        }
    }
}

/// Files and folders that can be listed and read.
pub trait Tree: Send + Sync {
    /// What it is beside its files.
    fn origin(&self) -> Origin<'_>;

    /// The directory everything starts from.
    fn root(&self) -> Result<Node>;

    /// The entries of a directory.
    fn list(&self, directory: &Node) -> Listing;

    /// Opens a file's content, or one of its further streams by name.
    fn open(&self, file: &Node, stream: &str) -> Result<Content<'_>>;

    /// Opens what is held of a file's content or stream, whether or not it can be understood: encrypted, or kept
    /// elsewhere. For comparing copies of volumes.
    fn stored(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        self.open(file, stream)
    }

    /// The streams of a file or directory beside its content; most formats have none.
    fn streams(&self, _node: &Node) -> Result<Vec<Stream>> {
        Ok(Vec::new())
    }

    /// Extended attributes: full name and value; most formats have none.
    fn attributes(&self, _node: &Node) -> Result<Vec<(String, Vec<u8>)>> {
        Ok(Vec::new())
    }

    /// The target of a symbolic link; a format without them has none to give.
    fn link(&self, _link: &Node) -> Result<Name> {
        Err(Finding::new("no-links", "this format has no symbolic links"))
    }

    /// Whether upper and lower case name different entries.
    fn is_case_sensitive(&self) -> bool {
        false
    }

    /// Whether two names are one by the format's rules.
    fn is_same_name(&self, a: &str, b: &str) -> bool {
        a == b || !self.is_case_sensitive() && a.to_uppercase() == b.to_uppercase()
    }

    /// How finely times are kept.
    fn resolution(&self) -> Resolution;

    /// So many entries have room in it: a walk that meets more goes round.
    fn most_entries(&self) -> u64;

    /// The folder that a system shows as the top where it is told no other one; `None` where that is the top itself.
    fn mounted(&self) -> Option<String> {
        None
    }

    /// Says that everything in it is listed next.
    fn will_walk(&self) {}

    /// Reads from byte `offset` of a file; gives how many bytes were read, 0 at its end. For a single read only:
    /// whoever reads a file through opens it once.
    fn read(&self, file: &Node, offset: u64, buf: &mut [u8]) -> Result<usize> {
        self.open(file, "")?.read(offset, buf)
    }
}

/// A tree that lies on a drive.
pub trait Volume: Tree {
    /// The bytes it stands on.
    fn volume(&self) -> &Cached;

    /// Goes over every structure of the volume: what is in use and for what, and everything that is wrong.
    fn survey(&self) -> Survey;

    /// How small and how large the volume can become on a drive with sectors of `sector` bytes; `survey` is its own.
    ///
    /// # Errors
    /// Why it can only be copied as it is.
    fn bounds(&self, survey: &Survey, sector: u32) -> Result<Bounds>;

    /// Bytes that are free for files when the volume is `len` bytes long on sectors of `sector` bytes: without what the
    /// format's own tables take then. Lists of where files lie may grow and take a little of it.
    ///
    /// # Errors
    /// Why it can only be copied as it is.
    fn room(&self, survey: &Survey, len: u64, sector: u32) -> Result<u64>;

    /// The volume with another size or on other sectors; `survey` is its own.
    ///
    /// # Errors
    /// Why that cannot be; nothing was written anywhere.
    fn resized(&self, survey: &Survey, wanted: &Wanted) -> Result<View>;

    /// What has to be written so that files have more bytes at their ends: places on the volume, in bytes, and what is to stand there. Every
    /// structure that counts or maps them is among it.
    ///
    /// # Errors
    /// Why that cannot be.
    fn lengthened(&self, _files: &[(&Node, &[u8])]) -> Result<Vec<(u64, Vec<u8>)>> {
        Err(Finding::new("not-longer", "files of this format are not made longer here"))
    }

    /// The same so that new files are there: paths from the root on, and their content. Folders on the way are made.
    ///
    /// # Errors
    /// Why that cannot be.
    fn added(&self, _files: &[(&str, &[u8])]) -> Result<Vec<(u64, Vec<u8>)>> {
        Err(Finding::new("not-added", "files are not laid into this format here"))
    }
}

/// Finds a path, its parts divided by `/`, from the root on; names that are no text go by how they are shown.
pub fn find(tree: &dyn Tree, path: &str) -> Result<Node> {
    find_named(tree, path).map(|(node, _)| node)
}

/// The same, with the names on the way as they stand on the disk.
pub fn find_named(tree: &dyn Tree, path: &str) -> Result<(Node, Vec<Name>)> {
    let (mut node, mut names) = (tree.root()?, Vec::new());
    for part in path.split('/').filter(|part| !part.is_empty()) {
        if node.kind != NodeKind::Directory {
            return Err(Finding::new("not-a-directory", format!("what comes before \"{part}\" in {path} is no directory")));
        }
        let entries = tree.list(&node).entries;
        let exact = entries.iter().position(|entry| entry.name.shown == part);
        let found = exact.or_else(|| entries.iter().position(|entry| tree.is_same_name(&entry.name.shown, part)));
        let entry = found.map(|at| entries[at].clone()).ok_or_else(|| Finding::new("not-found", format!("there is no \"{part}\" in {path}")))?;
        node = entry.node;
        names.push(entry.name);
    }
    Ok((node, names))
}
