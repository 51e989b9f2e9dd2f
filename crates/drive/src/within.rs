//! A directory of this machine and what lies in it, reached by descriptors only: nothing is ever opened through a link or
//! above it, and no path is too long. Reading leaves no trace where the system allows that.

use rustix::fs::{AtFlags, Mode, OFlags, ResolveFlags, Stat};
use rustix::io::Errno;
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};
use std::sync::{Arc, Mutex};

/// The system takes paths of 4,095 bytes; longer ones are gone in steps.
const STEP: usize = 3000;

/// A directory under which everything lies, for reading.
pub struct Within {
    root: Arc<OwnedFd>,
    /// The directory that was used last; most are used many times in a row.
    last: Mutex<Option<(PathBuf, Arc<OwnedFd>)>>,
}

const DIRECTORY: OFlags = OFlags::DIRECTORY.union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);
const FILE: OFlags = OFlags::NOFOLLOW.union(OFlags::NONBLOCK).union(OFlags::CLOEXEC);

/// Only whoever owns something may read it without its time of access being set.
fn quietly<T>(how: OFlags, open: impl Fn(OFlags) -> rustix::io::Result<T>) -> rustix::io::Result<T> {
    match open(how | OFlags::NOATIME) {
        Err(Errno::PERM) => open(how),
        other => other,
    }
}

/// Opens a directory right under another, or some steps down; links are not followed.
fn down(dir: &OwnedFd, path: &Path) -> io::Result<OwnedFd> {
    let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    match quietly(DIRECTORY, |how| rustix::fs::openat2(dir, path, how, Mode::empty(), resolve)) {
        Err(Errno::NOSYS | Errno::PERM) => {
            // An older system: one name at a time comes to the same.
            let mut names = path.iter();
            let step = |dir: &OwnedFd, name: &OsStr| quietly(DIRECTORY, |how| rustix::fs::openat(dir, name, how, Mode::empty()));
            let first = names.next().ok_or(io::ErrorKind::InvalidInput)?;
            let mut at = step(dir, first)?;
            for name in names {
                at = step(&at, name)?;
            }
            Ok(at)
        }
        other => Ok(other?),
    }
}

impl Within {
    /// Opens a directory. The path to it is the technician's; links in it are theirs.
    ///
    /// # Errors
    /// What the system says where it is none or cannot be opened.
    pub fn open(path: &Path) -> io::Result<Self> {
        let root = quietly(OFlags::DIRECTORY | OFlags::CLOEXEC, |how| rustix::fs::open(path, how, Mode::empty()))?;
        Ok(Self::over(root))
    }

    /// The same for a directory that is open already.
    pub fn over(root: OwnedFd) -> Self {
        Self { root: Arc::new(root), last: Mutex::new(None) }
    }

    /// The directory itself.
    pub fn root(&self) -> &OwnedFd {
        &self.root
    }

    /// Forgets the directory it holds on to, so that it can be taken away.
    pub fn forget(&self) {
        *self.last.lock().expect("directory lock") = None;
    }

    /// A directory below it.
    pub fn dir(&self, path: &Path) -> io::Result<Arc<OwnedFd>> {
        if path.as_os_str().is_empty() {
            return Ok(self.root.clone());
        }
        if let Some((known, dir)) = &*self.last.lock().expect("directory lock")
            && known == path
        {
            return Ok(dir.clone());
        }
        let mut at = self.root.clone();
        let mut step = PathBuf::new();
        for part in path.components() {
            let Component::Normal(name) = part else { return Err(io::ErrorKind::InvalidInput.into()) };
            if step.as_os_str().len() + name.len() > STEP {
                at = Arc::new(down(&at, &std::mem::take(&mut step))?);
            }
            step.push(name);
        }
        let dir = Arc::new(down(&at, &step)?);
        *self.last.lock().expect("directory lock") = Some((path.to_path_buf(), dir.clone()));
        Ok(dir)
    }

    /// The directory that holds `path`, and the name in it.
    pub fn split<'a>(&self, path: &'a Path) -> io::Result<(Arc<OwnedFd>, &'a OsStr)> {
        let name = path.file_name().ok_or(io::ErrorKind::InvalidInput)?;
        Ok((self.dir(path.parent().unwrap_or(Path::new("")))?, name))
    }

    /// What stands under a name; a link is itself.
    pub fn stat(&self, path: &Path) -> io::Result<Stat> {
        let (dir, name) = self.split(path)?;
        Ok(rustix::fs::statat(&*dir, name, AtFlags::SYMLINK_NOFOLLOW)?)
    }

    /// Whether there is something under a name.
    pub fn has(&self, path: &Path) -> bool {
        self.stat(path).is_ok()
    }

    /// Opens a plain file that is there for reading.
    pub fn read(&self, path: &Path) -> io::Result<File> {
        let (dir, name) = self.split(path)?;
        let file: File = quietly(FILE, |how| rustix::fs::openat(&*dir, name, how, Mode::empty()))?.into();
        if file.metadata()?.is_file() { Ok(file) } else { Err(io::Error::new(io::ErrorKind::InvalidInput, "not a plain file")) }
    }

    /// What a symbolic link says.
    pub fn link(&self, path: &Path) -> io::Result<Vec<u8>> {
        let (dir, name) = self.split(path)?;
        Ok(rustix::fs::readlinkat(&*dir, name, Vec::new())?.into_bytes())
    }

    /// The names in a directory.
    pub fn names(&self, path: &Path) -> io::Result<Vec<OsString>> {
        let mut names = Vec::new();
        for entry in rustix::fs::Dir::read_from(&*self.dir(path)?)? {
            let entry = entry?;
            let name = entry.file_name().to_bytes();
            if name != b"." && name != b".." {
                names.push(OsStr::from_bytes(name).to_os_string());
            }
        }
        Ok(names)
    }
}
