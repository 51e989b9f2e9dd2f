//! The destination, reached by descriptors only: nothing is ever opened through a link, above the destination, or over
//! something that was there, and no path is too long.

use rustix::fs::{AtFlags, Mode, OFlags, RenameFlags, ResolveFlags, Stat};
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};
use std::sync::{Arc, Mutex};

/// The system takes paths of 4,095 bytes; longer ones are gone in steps.
const STEP: usize = 3000;

/// A directory under which everything lies.
pub(crate) struct Beneath {
    root: Arc<OwnedFd>,
    /// The directory that was used last; most are used many times in a row.
    last: Mutex<Option<(PathBuf, Arc<OwnedFd>)>>,
}

const DIRECTORY: OFlags = OFlags::DIRECTORY.union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// Opens a directory right under another, or some steps down; links are not followed.
fn down(dir: &OwnedFd, path: &Path) -> io::Result<OwnedFd> {
    match rustix::fs::openat2(dir, path, DIRECTORY, Mode::empty(), ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS) {
        Err(rustix::io::Errno::NOSYS | rustix::io::Errno::PERM) => {
            // An older system: one name at a time comes to the same.
            let mut names = path.iter();
            let first = names.next().ok_or(io::ErrorKind::InvalidInput)?;
            let mut at = rustix::fs::openat(dir, first, DIRECTORY, Mode::empty())?;
            for name in names {
                at = rustix::fs::openat(&at, name, DIRECTORY, Mode::empty())?;
            }
            Ok(at)
        }
        other => Ok(other?),
    }
}

impl Beneath {
    /// Opens the destination, making it where it is not there. The path to it is the technician's; links in it are theirs.
    pub fn new(into: &Path) -> io::Result<Self> {
        std::fs::create_dir_all(into)?;
        let root = rustix::fs::open(into, OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
        Ok(Self::over(root))
    }

    /// The same for a directory that is open already.
    pub fn over(root: OwnedFd) -> Self {
        Self { root: Arc::new(root), last: Mutex::new(None) }
    }

    /// The destination itself.
    pub fn root(&self) -> &OwnedFd {
        &self.root
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

    /// Makes a directory.
    pub fn make_dir(&self, path: &Path, mode: u32) -> io::Result<()> {
        let (dir, name) = self.split(path)?;
        Ok(rustix::fs::mkdirat(&*dir, name, Mode::from(mode))?)
    }

    /// Opens a file that is there for reading.
    pub fn read(&self, path: &Path) -> io::Result<File> {
        let (dir, name) = self.split(path)?;
        let file: File = rustix::fs::openat(&*dir, name, OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC, Mode::empty())?.into();
        if file.metadata()?.is_file() { Ok(file) } else { Err(io::Error::new(io::ErrorKind::InvalidInput, "not a plain file")) }
    }

    /// Makes a file where nothing is.
    pub fn create(&self, path: &Path) -> io::Result<File> {
        let (dir, name) = self.split(path)?;
        let how = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(rustix::fs::openat(&*dir, name, how, Mode::from(0o600))?.into())
    }

    /// Opens a file that is there for reading and writing.
    pub fn write(&self, path: &Path) -> io::Result<File> {
        let (dir, name) = self.split(path)?;
        let how = OFlags::RDWR | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file: File = rustix::fs::openat(&*dir, name, how, Mode::empty())?.into();
        if file.metadata()?.is_file() { Ok(file) } else { Err(io::Error::new(io::ErrorKind::InvalidInput, "not a plain file")) }
    }

    /// Gives something another name; over nothing that is there, where `over` is not set.
    pub fn rename(&self, from: &Path, to: &Path, over: bool) -> io::Result<()> {
        let ((old, old_name), (new, new_name)) = (self.split(from)?, self.split(to)?);
        if over {
            return Ok(rustix::fs::renameat(&*old, old_name, &*new, new_name)?);
        }
        match rustix::fs::renameat_with(&*old, old_name, &*new, new_name, RenameFlags::NOREPLACE) {
            // Some file systems do not know this way of renaming. A second name, or an empty file that is made first and
            // alone, keeps the place against everybody else.
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
                let how = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                drop(rustix::fs::openat(&*new, new_name, how, Mode::from(0o600))?);
                Ok(rustix::fs::renameat(&*old, old_name, &*new, new_name)?)
            }
            other => Ok(other?),
        }
    }

    /// Makes a symbolic link.
    pub fn symlink(&self, says: &[u8], path: &Path) -> io::Result<()> {
        let (dir, name) = self.split(path)?;
        Ok(rustix::fs::symlinkat(OsStr::from_bytes(says), &*dir, name)?)
    }

    /// What a symbolic link says.
    pub fn link(&self, path: &Path) -> io::Result<Vec<u8>> {
        let (dir, name) = self.split(path)?;
        Ok(rustix::fs::readlinkat(&*dir, name, Vec::new())?.into_bytes())
    }

    /// Gives a file a further name.
    pub fn hard_link(&self, from: &Path, to: &Path) -> io::Result<()> {
        let ((old, old_name), (new, new_name)) = (self.split(from)?, self.split(to)?);
        Ok(rustix::fs::linkat(&*old, old_name, &*new, new_name, AtFlags::empty())?)
    }

    /// Takes a file away.
    pub fn remove(&self, path: &Path) -> io::Result<()> {
        let (dir, name) = self.split(path)?;
        Ok(rustix::fs::unlinkat(&*dir, name, AtFlags::empty())?)
    }

    /// Takes a directory of ours away with the files right in it and in its directories.
    pub fn remove_dir(&self, path: &Path) -> io::Result<()> {
        for name in self.names(path)? {
            let below = path.join(name);
            if rustix::fs::FileType::from_raw_mode(self.stat(&below)?.st_mode).is_dir() {
                self.remove_dir(&below)?;
            } else {
                self.remove(&below)?;
            }
        }
        *self.last.lock().expect("directory lock") = None;
        let (dir, name) = self.split(path)?;
        Ok(rustix::fs::unlinkat(&*dir, name, AtFlags::REMOVEDIR)?)
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

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::symlink;

    #[test]
    fn no_way_leads_out() {
        let place = tempfile::tempdir().unwrap();
        let (into, outside) = (place.path().join("into"), place.path().join("outside"));
        fs::create_dir_all(outside.join("deep")).unwrap();
        fs::write(outside.join("kept"), "kept").unwrap();
        let beneath = Beneath::new(&into).unwrap();
        symlink(&outside, into.join("way")).unwrap();
        symlink(outside.join("kept"), into.join("file")).unwrap();
        let at = Path::new;
        for path in ["way/new", "../outside/new", "/tmp/new", "way/deep/new"] {
            assert!(beneath.create(at(path)).is_err() && beneath.make_dir(at(path), 0o755).is_err(), "{path}");
        }
        assert!(beneath.create(at("file")).is_err() && beneath.write(at("file")).is_err() && beneath.read(at("file")).is_err());
        beneath.create(at("mine")).unwrap();
        assert!(beneath.rename(at("mine"), at("file"), false).is_err());
        assert!(beneath.rename(at("mine"), at("way/mine"), true).is_err());
        assert_eq!(fs::read_to_string(outside.join("kept")).unwrap(), "kept");
        assert_eq!(fs::read_dir(&outside).unwrap().count(), 2);
    }

    #[test]
    fn no_path_is_too_long() {
        let place = tempfile::tempdir().unwrap();
        let beneath = Beneath::new(place.path()).unwrap();
        let (mut path, name) = (PathBuf::new(), "n".repeat(200));
        for _ in 0..60 {
            path.push(&name);
            beneath.make_dir(&path, 0o755).unwrap();
        }
        let file = path.join("file");
        beneath.create(&file).unwrap();
        assert!(beneath.read(&file).is_ok() && beneath.has(&file));
        beneath.remove_dir(Path::new(&name)).unwrap();
        assert_eq!(beneath.names(Path::new("")).unwrap().len(), 0);
    }
}
