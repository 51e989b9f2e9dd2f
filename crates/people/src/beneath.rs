//! The destination, reached by descriptors only: nothing is ever opened through a link, above the destination, or over
//! something that was there.

use badger_drive::within::Within;
use rustix::fs::{AtFlags, Mode, OFlags, RenameFlags};
use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::ops::Deref;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

/// A directory under which everything is written.
pub(crate) struct Beneath(Within);

impl Deref for Beneath {
    type Target = Within;

    fn deref(&self) -> &Within {
        &self.0
    }
}

impl Beneath {
    /// Opens the destination, making it where it is not there. The path to it is the technician's; links in it are theirs.
    pub fn new(into: &Path) -> io::Result<Self> {
        std::fs::create_dir_all(into)?;
        Within::open(into).map(Self)
    }

    /// Makes a directory.
    pub fn make_dir(&self, path: &Path, mode: u32) -> io::Result<()> {
        let (dir, name) = self.split(path)?;
        Ok(rustix::fs::mkdirat(&*dir, name, Mode::from(mode))?)
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

    /// Returns once the names in a directory would survive a loss of power.
    pub fn keep(&self, dir: &Path) -> io::Result<()> {
        Ok(rustix::fs::fsync(&*self.dir(dir)?)?)
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
        self.forget();
        let (dir, name) = self.split(path)?;
        Ok(rustix::fs::unlinkat(&*dir, name, AtFlags::REMOVEDIR)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::symlink;
    use std::path::PathBuf;

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
