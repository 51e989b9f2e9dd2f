//! A folder of this machine as a tree: what lies in it now, read by way of the system. No link is followed, nothing that is
//! mounted within is gone into, and reading leaves no trace where the system allows that.

use crate::content::{Content, Kept};
use crate::finding::{Finding, Result};
use crate::node::{Entry, Listing, Name, Node, NodeKind, Resolution, Time};
use crate::tree::{Origin, Tree};
use badger_drive::within::Within;
use rustix::fs::{AtFlags, FileType, SeekFrom, Statx, StatxFlags};
use rustix::io::Errno;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

/// A folder of this machine.
pub struct Folder {
    within: Within,
    path: PathBuf,
    device: (u32, u32),
    inode: u64,
    mount: u64,
}

/// The longest list of attributes, and the longest of them, that is read.
const MOST_ATTRIBUTES: usize = 1 << 20;

const WANTED: StatxFlags = StatxFlags::BASIC_STATS.union(StatxFlags::BTIME).union(StatxFlags::MNT_ID);

fn stat(dir: impl AsFd, name: impl rustix::path::Arg, how: AtFlags) -> io::Result<Statx> {
    Ok(rustix::fs::statx(dir, name, how | AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT, WANTED)?)
}

fn opened(file: impl AsFd) -> io::Result<Statx> {
    stat(file, "", AtFlags::EMPTY_PATH)
}

fn device(facts: &Statx) -> (u32, u32) {
    (facts.stx_dev_major, facts.stx_dev_minor)
}

/// Which mount something lies in. A folder that is mounted a second time within the same file system is another mount; files of an overlay
/// have the device numbers of its layers, and lie in one mount all the same. Kernels before 5.8 tell only the device.
fn mount(facts: &Statx) -> u64 {
    if StatxFlags::from_bits_retain(facts.stx_mask).contains(StatxFlags::MNT_ID) {
        facts.stx_mnt_id
    } else {
        rustix::fs::makedev(facts.stx_dev_major, facts.stx_dev_minor)
    }
}

/// What the system says, as a finding.
fn said(error: &io::Error) -> Finding {
    let code = match error.kind() {
        io::ErrorKind::NotFound => "not-found",
        io::ErrorKind::PermissionDenied => "no-permission",
        _ => "unreadable",
    };
    Finding::new(code, error.to_string())
}

fn changed() -> Finding {
    Finding::new("changed", "something else has its place since it was listed; list the folder again")
}

impl Folder {
    /// Opens a folder. The path to it may lead over links; below it none is followed.
    ///
    /// # Errors
    /// A finding where there is none, or it may not be read.
    pub fn open(path: &Path) -> Result<Self> {
        let within = Within::open(path).map_err(|error| said(&error))?;
        let facts = opened(within.root()).map_err(|error| said(&error))?;
        let path = std::fs::canonicalize(path).unwrap_or_else(|_| path.to_path_buf());
        Ok(Self { within, path, device: device(&facts), inode: facts.stx_ino, mount: mount(&facts) })
    }

    /// Where it is, without links.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Names it on this machine: device and inode.
    pub fn identity(&self) -> (u64, u64) {
        (rustix::fs::makedev(self.device.0, self.device.1), self.inode)
    }

    /// Names a file within the folder: by its inode, and where the layers of an overlay count by themselves, by its device too.
    fn id(&self, facts: &Statx) -> u64 {
        let (major, minor) = device(facts);
        if (major, minor) == self.device { facts.stx_ino } else { facts.stx_ino ^ (u64::from(major) << 52 | u64::from(minor) << 32 | 1 << 63) }
    }

    fn node(&self, path: PathBuf, facts: &Statx) -> Node {
        let mode = u32::from(facts.stx_mode);
        let (kind, what) = match FileType::from_raw_mode(mode) {
            _ if mount(facts) != self.mount => (NodeKind::Other, Some("something else is mounted there")),
            FileType::RegularFile => (NodeKind::File, None),
            FileType::Directory => (NodeKind::Directory, None),
            FileType::Symlink => (NodeKind::Link, None),
            FileType::Fifo => (NodeKind::Other, Some("pipe")),
            FileType::Socket => (NodeKind::Other, Some("socket")),
            FileType::CharacterDevice | FileType::BlockDevice => (NodeKind::Other, Some("device")),
            FileType::Unknown => (NodeKind::Other, None),
        };
        let time = |time: rustix::fs::StatxTimestamp| Some(Time { seconds: time.tv_sec, nanos: time.tv_nsec });
        let born = StatxFlags::from_bits_retain(facts.stx_mask).contains(StatxFlags::BTIME);
        Node {
            id: self.id(facts),
            modified: time(facts.stx_mtime),
            accessed: time(facts.stx_atime),
            created: time(facts.stx_btime).filter(|_| born),
            mode: Some(mode & 0o7777),
            owner: Some((facts.stx_uid, facts.stx_gid)),
            links: facts.stx_nlink,
            what: what.map(Into::into),
            path: Some(path.into()),
            ..Node::plain(kind, if kind == NodeKind::Directory { 0 } else { facts.stx_size }, None)
        }
    }

    /// Whether what is open is what was listed.
    fn still(&self, node: &Node, file: impl AsFd) -> Result<Statx> {
        let facts = opened(file).map_err(|error| said(&error))?;
        if self.id(&facts) != node.id || mount(&facts) != self.mount { Err(changed()) } else { Ok(facts) }
    }

    fn entries(&self, directory: &Node) -> Result<Listing> {
        let path = at(directory);
        let dir = self.within.dir(path).map_err(|error| said(&error))?;
        self.still(directory, &*dir)?;
        let mut names = self.within.names(path).map_err(|error| said(&error))?;
        names.sort_unstable();
        let mut listing = Listing::default();
        for name in names {
            let shown = Name::from_bytes(name.as_bytes());
            match stat(&*dir, &*name, AtFlags::empty()) {
                Ok(facts) => {
                    if mount(&facts) != self.mount {
                        let text = format!("{}: something else is mounted there, which is not gone into: name it itself", shown.shown);
                        listing.findings.push(Finding::new("mounted", text));
                    }
                    listing.entries.push(Entry { node: self.node(path.join(&name), &facts), name: shown });
                }
                // It went away meanwhile.
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => listing.findings.push(Finding { text: format!("{}: {error}", shown.shown), ..said(&error) }),
            }
        }
        Ok(listing)
    }

    fn file(&self, node: &Node) -> Result<(File, Statx)> {
        let file = self.within.read(at(node)).map_err(|error| said(&error))?;
        let facts = self.still(node, &file)?;
        Ok((file, facts))
    }
}

fn at(node: &Node) -> &Path {
    node.path.as_deref().unwrap_or(Path::new(""))
}

impl Tree for Folder {
    fn origin(&self) -> Origin<'_> {
        Origin::Folder(&self.path)
    }

    fn root(&self) -> Result<Node> {
        let facts = opened(self.within.root()).map_err(|error| said(&error))?;
        Ok(self.node(PathBuf::new(), &facts))
    }

    fn list(&self, directory: &Node) -> Listing {
        self.entries(directory).unwrap_or_else(Listing::from)
    }

    fn open(&self, file: &Node, stream: &str) -> Result<Content<'_>> {
        if !stream.is_empty() {
            return Err(Finding::new("no-stream", format!("it has no stream \"{stream}\"")));
        }
        if file.kind != NodeKind::File {
            return Err(Finding::new("no-file", "it has no content of its own"));
        }
        let (_, facts) = self.file(file)?;
        let time = Time { seconds: facts.stx_mtime.tv_sec, nanos: facts.stx_mtime.tv_nsec };
        if facts.stx_size != file.size || Some(time) != file.modified {
            return Err(Finding::new("changed", "it was written to since it was listed; list the folder again"));
        }
        Ok(Content::kept(Open { folder: self, node: file.clone(), file: OnceLock::new() }))
    }

    fn attributes(&self, node: &Node) -> Result<Vec<(String, Vec<u8>)>> {
        let file: Arc<OwnedFd> = match node.kind {
            NodeKind::File => Arc::new(self.file(node)?.0.into()),
            NodeKind::Directory => self.within.dir(at(node)).map_err(|error| said(&error))?,
            // The system keeps none for them that anybody could set elsewhere.
            NodeKind::Link | NodeKind::Other => return Ok(Vec::new()),
        };
        self.still(node, &*file)?;
        let whole = |read: &dyn Fn(&mut [u8]) -> rustix::io::Result<usize>| -> io::Result<Vec<u8>> {
            let mut bytes = vec![0; 4096];
            loop {
                match read(&mut bytes) {
                    Ok(count) => {
                        bytes.truncate(count);
                        return Ok(bytes);
                    }
                    Err(Errno::RANGE) if bytes.len() < MOST_ATTRIBUTES => bytes.resize(bytes.len() * 4, 0),
                    Err(error) => return Err(error.into()),
                }
            }
        };
        let names = match whole(&|bytes| rustix::fs::flistxattr(&*file, bytes)) {
            Err(error) if error.raw_os_error() == Some(Errno::NOTSUP.raw_os_error()) => return Ok(Vec::new()),
            names => names.map_err(|error| said(&error))?,
        };
        let mut found = Vec::new();
        for name in names.split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
            match whole(&|bytes| rustix::fs::fgetxattr(&*file, name, bytes)) {
                Ok(value) => found.push((String::from_utf8_lossy(name).into_owned(), value)),
                Err(error) if error.raw_os_error() == Some(Errno::NODATA.raw_os_error()) => {}
                Err(error) => return Err(said(&error)),
            }
        }
        Ok(found)
    }

    fn link(&self, link: &Node) -> Result<Name> {
        self.within.link(at(link)).map(|says| Name::from_bytes(&says)).map_err(|error| said(&error))
    }

    fn is_case_sensitive(&self) -> bool {
        true
    }

    fn resolution(&self) -> Resolution {
        Resolution { modified: 1, accessed: 1, created: 1 }
    }

    fn most_entries(&self) -> u64 {
        // The system sees to it that folders do not go round.
        u64::MAX
    }
}

/// A file of this machine; it is open from its first read on, so that many may wait.
struct Open<'a> {
    folder: &'a Folder,
    node: Node,
    file: OnceLock<Result<File>>,
}

impl Open<'_> {
    fn file(&self) -> Result<&File> {
        self.file.get_or_init(|| self.folder.file(&self.node).map(|(file, _)| file)).as_ref().map_err(Clone::clone)
    }

    /// Where the next data or the next hole begins; `None` where the system does not say.
    fn next(&self, wanted: SeekFrom, offset: u64) -> Option<u64> {
        if offset >= self.size() {
            return None;
        }
        match rustix::fs::seek(self.file().ok()?, wanted) {
            Ok(at) => Some(at.clamp(offset, self.size())),
            // Behind the last data there is none.
            Err(Errno::NXIO) if matches!(wanted, SeekFrom::Data(_)) => Some(self.size()),
            Err(_) => None,
        }
    }
}

impl Kept for Open<'_> {
    fn size(&self) -> u64 {
        self.node.size
    }

    fn read(&self, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let len = self.size().saturating_sub(offset).min(buf.len() as u64) as usize;
        let file = self.file()?;
        file.read_exact_at(&mut buf[..len], offset).map_err(|error| match error.kind() {
            io::ErrorKind::UnexpectedEof => Finding::new("changed", "it became shorter while it was read"),
            _ => said(&error),
        })?;
        Ok(len)
    }

    /// Whether nobody wrote to it since it was listed.
    fn settled(&self) -> Result<()> {
        let file = self.file()?;
        // What the kernel makes up when it is read has no length.
        if file.read_at(&mut [0], self.size()).map_err(|error| said(&error))? > 0 {
            return Err(Finding::new("changed", "it holds more than its length says"));
        }
        let facts = file.metadata().map_err(|error| said(&error))?;
        let time = Time { seconds: facts.mtime(), nanos: facts.mtime_nsec() as u32 };
        if facts.len() != self.size() || Some(time) != self.node.modified {
            return Err(Finding::new("changed", "it was written to while it was read; what is here may be of two times"));
        }
        Ok(())
    }

    /// How far a hole reaches, within the file.
    fn hole(&self, offset: u64) -> u64 {
        self.next(SeekFrom::Data(offset), offset).map_or(0, |data| data - offset)
    }

    fn until_hole(&self, offset: u64, most: u64) -> u64 {
        let rest = self.size().saturating_sub(offset).min(most);
        self.next(SeekFrom::Hole(offset), offset).map_or(rest, |hole| (hole - offset).min(rest))
    }
}
