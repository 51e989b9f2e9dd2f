//! Makes, appends to and replaces files of the program's own. Whatever has their name may be somebody's only copy: links are never
//! followed, and what is there is replaced or continued only where it begins as files of ours do.

use rustix::fs::{AtFlags, CWD, Mode, OFlags};
use std::fs::{self, File, OpenOptions, Permissions};
use std::io::{self, Read};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};

/// Bytes of a file that are looked at to recognise it.
pub const HEAD: u64 = 4096;
/// So many names for a temporary file are tried.
const TRIES: u32 = 64;

fn refused(kind: io::ErrorKind, path: &Path, text: &str) -> io::Error {
    io::Error::new(kind, format!("{} {text}; nothing was written to it: name another place", path.display()))
}

/// Makes a file where nothing is, not even a link.
///
/// # Errors
/// What the system says; `AlreadyExists` where something has the name.
pub fn create(path: &Path) -> io::Result<File> {
    OpenOptions::new().read(true).write(true).create_new(true).open(path)
}

/// A new file that has no name yet. Where it is dropped without one, nothing of it stays.
pub struct Unnamed {
    file: File,
    path: PathBuf,
    /// The name for the time being, where the file system has no files without one.
    beside: Option<PathBuf>,
}

impl Unnamed {
    /// Makes a file in the directory of `path`.
    ///
    /// # Errors
    /// What the system says; `AlreadyExists` where something has the name already.
    pub fn beside(path: &Path) -> io::Result<Self> {
        if fs::symlink_metadata(path).is_ok() {
            return Err(io::Error::new(io::ErrorKind::AlreadyExists, format!("{} is there already", path.display())));
        }
        let flags = OFlags::TMPFILE | OFlags::RDWR | OFlags::CLOEXEC;
        let (file, other) = match rustix::fs::open(dir_of(path), flags, Mode::from_raw_mode(0o666)) {
            Ok(file) => (file.into(), None),
            Err(_) => beside(path).map(|(other, file)| (file, Some(other)))?,
        };
        Ok(Self { file, path: path.to_path_buf(), beside: other })
    }

    /// The file.
    pub fn file(&self) -> &File {
        &self.file
    }

    /// Makes the file durable and gives it its name, which nothing may have by now.
    ///
    /// # Errors
    /// What the system says.
    pub fn name(mut self) -> io::Result<File> {
        self.file.sync_all()?;
        let file = self.file.try_clone()?;
        match &self.beside {
            Some(beside) => place(beside, &self.path, None)?,
            None => {
                let held = format!("/proc/self/fd/{}", file.as_raw_fd());
                if rustix::fs::linkat(CWD, held, CWD, &self.path, AtFlags::SYMLINK_FOLLOW).is_err() {
                    rustix::fs::linkat(&file, "", CWD, &self.path, AtFlags::EMPTY_PATH)?;
                }
            }
        }
        self.beside = None;
        File::open(dir_of(&self.path))?.sync_all()?;
        Ok(file)
    }
}

impl Drop for Unnamed {
    fn drop(&mut self) {
        if let Some(beside) = &self.beside {
            let _ = fs::remove_file(beside);
        }
    }
}

fn dir_of(path: &Path) -> &Path {
    path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Makes a file where nothing is: its name appears together with what `write` puts into it, durable.
///
/// # Errors
/// What the system says; `AlreadyExists` where something has the name.
pub fn create_with(path: &Path, write: impl FnOnce(&mut &File) -> io::Result<()>) -> io::Result<File> {
    let unnamed = Unnamed::beside(path)?;
    write(&mut unnamed.file())?;
    unnamed.name()
}

/// Opens a plain file to read it. A pipe is refused: its other end may never be opened.
///
/// # Errors
/// What the system says; `InvalidInput` for what is no plain file.
pub fn open_to_read(path: &Path) -> io::Result<File> {
    let flags = (OFlags::NONBLOCK | OFlags::CLOEXEC).bits() as i32;
    let file = OpenOptions::new().read(true).custom_flags(flags).open(path)?;
    if file.metadata()?.is_file() { Ok(file) } else { Err(io::Error::new(io::ErrorKind::InvalidInput, "it is no plain file")) }
}

/// The text of a plain file of at most `most` bytes.
///
/// # Errors
/// Those of [`open_to_read`]; `InvalidData` for a longer file, and for what is no UTF-8.
pub fn text(path: &Path, most: u64) -> io::Result<String> {
    let mut text = String::new();
    open_to_read(path)?.take(most + 1).read_to_string(&mut text)?;
    if text.len() as u64 > most {
        return Err(io::Error::new(io::ErrorKind::InvalidData, format!("it is longer than {most} bytes")));
    }
    Ok(text)
}

/// Opens a file of ours that is there, to read it and to write to it.
///
/// # Errors
/// `NotFound` where nothing is there; otherwise why it is not one of ours: a link, no plain file, a file with a second name, other bytes
/// at its beginning.
pub fn open(path: &Path, is_ours: &dyn Fn(&[u8]) -> bool) -> io::Result<File> {
    let flags = (OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC).bits() as i32;
    let file = OpenOptions::new().read(true).write(true).custom_flags(flags).open(path).map_err(|error| match error.raw_os_error() {
        Some(libc::ELOOP) => refused(io::ErrorKind::InvalidInput, path, "is a link"),
        _ => error,
    })?;
    let meta = file.metadata()?;
    if !meta.is_file() {
        return Err(refused(io::ErrorKind::InvalidInput, path, "is no plain file"));
    }
    if meta.nlink() > 1 {
        return Err(refused(io::ErrorKind::InvalidInput, path, "has a second name"));
    }
    let mut head = Vec::new();
    (&file).take(HEAD).read_to_end(&mut head)?;
    if !is_ours(&head) {
        return Err(refused(io::ErrorKind::AlreadyExists, path, "is there already and is not of this program"));
    }
    io::Seek::rewind(&mut &file)?;
    Ok(file)
}

/// Writes a file as a whole: beside its place, flushed, and renamed into it in one step. What has the name stays unless it is a file of
/// ours. The handle is that of the file that has the name now.
///
/// # Errors
/// What the system says, or why what is there is not replaced.
pub fn replace(path: &Path, is_ours: &dyn Fn(&[u8]) -> bool, write: impl FnOnce(&mut File) -> io::Result<()>) -> io::Result<File> {
    let there = match open(path, is_ours) {
        Ok(file) => Some(file.metadata()?),
        Err(error) if error.kind() == io::ErrorKind::NotFound => None,
        Err(error) => return Err(error),
    };
    let (beside, mut file) = beside(path)?;
    let written = write(&mut file).and_then(|()| match &there {
        Some(meta) => file.set_permissions(Permissions::from_mode(meta.mode() & 0o777)),
        None => Ok(()),
    });
    let placed = written.and_then(|()| file.sync_all()).and_then(|()| place(&beside, path, there.map(|meta| (meta.dev(), meta.ino()))));
    if let Err(error) = placed {
        let _ = fs::remove_file(&beside);
        return Err(error);
    }
    File::open(dir_of(path))?.sync_all()?;
    Ok(file)
}

/// A new file in the directory of `path`, with a name that nothing had.
fn beside(path: &Path) -> io::Result<(PathBuf, File)> {
    static COUNT: AtomicU32 = AtomicU32::new(0);
    let name = path.file_name().ok_or(io::ErrorKind::InvalidInput)?;
    for _ in 0..TRIES {
        let mut other = std::ffi::OsString::from(".");
        other.push(name);
        other.push(format!(".{}-{}.new", std::process::id(), COUNT.fetch_add(1, Ordering::Relaxed)));
        let other = path.with_file_name(other);
        match create(&other) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            made => return Ok((other, made?)),
        }
    }
    Err(io::Error::new(io::ErrorKind::AlreadyExists, format!("no name is free beside {}", path.display())))
}

/// Gives a file its name: one that nothing has, or that of the very file which was recognised.
fn place(beside: &Path, path: &Path, there: Option<(u64, u64)>) -> io::Result<()> {
    use rustix::fs::{RenameFlags, renameat_with};
    if let Some(node) = there {
        let now = fs::symlink_metadata(path)?;
        if (now.dev(), now.ino()) != node {
            return Err(refused(io::ErrorKind::AlreadyExists, path, "became another file meanwhile"));
        }
        return fs::rename(beside, path);
    }
    match renameat_with(CWD, beside, CWD, path, RenameFlags::NOREPLACE) {
        Ok(()) => Ok(()),
        // Not every file system knows this flag; a second name is as good.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => match fs::hard_link(beside, path) {
            Ok(()) => fs::remove_file(beside),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Err(error),
            // No second names either: nothing was there a moment ago.
            Err(_) if fs::symlink_metadata(path).is_err() => fs::rename(beside, path),
            Err(error) => Err(error),
        },
        Err(rustix::io::Errno::EXIST) => Err(refused(io::ErrorKind::AlreadyExists, path, "came into being meanwhile")),
        Err(error) => Err(error.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Write;
    use std::os::unix::fs::symlink;

    fn is_ours(head: &[u8]) -> bool {
        head.starts_with(b"badger")
    }

    #[test]
    fn a_pipe_is_not_waited_for_and_a_long_text_not_read() {
        let dir = tempfile::tempdir().unwrap();
        let (pipe, text_of) = (dir.path().join("pipe"), dir.path().join("text"));
        assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
        fs::write(&text_of, "twelve bytes").unwrap();
        assert_eq!(open_to_read(&pipe).unwrap_err().kind(), io::ErrorKind::InvalidInput);
        assert_eq!((text(&text_of, 12).unwrap().as_str(), text(&text_of, 11).unwrap_err().kind()), ("twelve bytes", io::ErrorKind::InvalidData));
    }

    #[rstest]
    #[case::nothing(|_: &Path, _: &Path| (), true)]
    #[case::one_of_ours(|path: &Path, _: &Path| fs::write(path, "badger 1").unwrap(), true)]
    #[case::of_somebody(|path: &Path, _: &Path| fs::write(path, "scores").unwrap(), false)]
    #[case::empty(|path: &Path, _: &Path| fs::write(path, "").unwrap(), false)]
    #[case::a_link(|path: &Path, other: &Path| symlink(other, path).unwrap(), false)]
    #[case::a_link_to_nothing(|path: &Path, other: &Path| symlink(other.with_extension("none"), path).unwrap(), false)]
    #[case::a_second_name(|path: &Path, other: &Path| fs::hard_link(other, path).unwrap(), false)]
    #[case::a_directory(|path: &Path, _: &Path| fs::create_dir(path).unwrap(), false)]
    #[case::a_pipe(|path: &Path, _: &Path| assert!(std::process::Command::new("mkfifo").arg(path).status().unwrap().success()), false)]
    fn only_our_own_is_replaced(#[case] there: fn(&Path, &Path), #[case] replaced: bool) {
        let dir = tempfile::tempdir().unwrap();
        let (path, other) = (dir.path().join("t250.map"), dir.path().join("other"));
        fs::write(&other, "badger of somebody").unwrap();
        there(&path, &other);
        let held = || fs::metadata(&path).ok().filter(fs::Metadata::is_file).and_then(|_| fs::read(&path).ok());
        let before = held();
        let done = replace(&path, &is_ours, |file| file.write_all(b"badger 2"));
        assert_eq!(done.is_ok(), replaced);
        assert_eq!(held(), if replaced { Some(b"badger 2".to_vec()) } else { before });
        assert_eq!(fs::read(&other).unwrap(), b"badger of somebody");
        let names = fs::read_dir(dir.path()).unwrap().flatten().filter(|entry| entry.file_name().to_string_lossy().ends_with(".new"));
        assert_eq!(names.count(), 0, "nothing is left beside it");
    }
}
