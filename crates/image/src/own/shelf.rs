//! Where the bytes of an image are kept: one file, or several of a size. Everything above knows a stream with places in it, that
//! grows at its end and is read anywhere.

use super::record::{HEADER, Header};
use badger_drive::keep;
use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// More volumes than anybody has.
const MOST: usize = 9999;

/// Where an image is written to. What was written is not changed any more.
pub(super) trait Store: Send {
    /// Where the next byte goes.
    fn at(&self) -> u64;
    /// Writes at the end.
    fn append(&mut self, bytes: &[u8]) -> io::Result<()>;
    /// Says that a record ends here and `next` bytes follow that belong together. Whether another volume was begun for them.
    fn record_follows(&mut self, next: u64) -> io::Result<bool>;
    /// Makes all of it durable.
    fn keep(&mut self) -> io::Result<()>;
}

/// The names of the volumes of an image: `weir.zbi`, `weir.002.zbi`, and so on.
fn volume(first: &Path, number: usize) -> PathBuf {
    if number == 1 {
        return first.to_path_buf();
    }
    let (stem, extension) = (first.file_stem().unwrap_or_default(), first.extension().unwrap_or_default());
    first.with_file_name(format!("{}.{number:03}.{}", stem.to_string_lossy(), extension.to_string_lossy()))
}

/// Keeps every other run away from an image that is made or given up, as long as the file is open.
///
/// # Errors
/// Another run has it; what the system says.
pub(super) fn alone(file: &File) -> io::Result<()> {
    let taken = |_| io::Error::new(io::ErrorKind::WouldBlock, "another run of this program makes this image right now");
    rustix::fs::flock(file, rustix::fs::FlockOperation::NonBlockingLockExclusive).map_err(taken)
}

/// Takes all volumes of an image away that was broken off; one that is whole, or is being made, stays.
///
/// # Errors
/// Why it stays; what the system says.
pub(super) fn remove(first: &Path, is_whole: impl FnOnce() -> io::Result<bool>) -> io::Result<()> {
    let held = File::open(first)?;
    alone(&held)?;
    if is_whole()? {
        return Err(io::Error::new(io::ErrorKind::AlreadyExists, "it is whole"));
    }
    for number in (1..=Volumes::open(first)?.files.len()).rev() {
        std::fs::remove_file(volume(first, number))?;
    }
    Ok(())
}

/// The volumes of an image, open for reading.
pub struct Volumes {
    /// Where each begins in the stream, and the file.
    files: Vec<(u64, File)>,
    len: u64,
}

impl Volumes {
    /// Opens an image by its first volume.
    ///
    /// # Errors
    /// What the system says.
    pub fn open(first: &Path) -> io::Result<Self> {
        let (mut files, mut len, mut first_head) = (Vec::new(), 0, None);
        for number in 1..=MOST {
            let path = volume(first, number);
            if number > 1 && !path.is_file() {
                break;
            }
            let file = File::open(path)?;
            // A file with the name of a volume that begins otherwise belongs to another image.
            let mut here = [0; HEADER];
            let head = file.read_exact_at(&mut here, 0).ok().and_then(|()| Header::decode(&here));
            match &first_head {
                None => first_head = Some(head),
                Some(first) if head.is_some() && *first == head => {}
                Some(_) => break,
            }
            let bytes = file.metadata()?.len();
            files.push((len, file));
            len += bytes;
        }
        Ok(Self { files, len })
    }

    /// Bytes of the stream.
    pub fn len(&self) -> u64 {
        self.len
    }

    /// Whether there is nothing in it.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// The files.
    pub fn files(&self) -> impl Iterator<Item = &File> {
        self.files.iter().map(|(_, file)| file)
    }

    /// Fills `buf` from a place of the stream on.
    ///
    /// # Errors
    /// What the system says; places behind the end.
    pub fn read(&self, at: u64, buf: &mut [u8]) -> io::Result<()> {
        let mut done = 0;
        while done < buf.len() {
            let place = at + done as u64;
            let number = self.files.partition_point(|(start, _)| *start <= place).saturating_sub(1);
            let end = self.files.get(number + 1).map_or(self.len, |(start, _)| *start);
            if place >= end {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            let len = (buf.len() - done).min((end - place) as usize);
            self.files[number].1.read_exact_at(&mut buf[done..done + len], place - self.files[number].0)?;
            done += len;
        }
        Ok(())
    }
}

/// Files that are written, each as long as was asked for at the most.
pub(super) struct Files {
    first: PathBuf,
    open: File,
    /// The volume that is written now, until it has its name: with the head in it, so that a kill leaves none that nobody knows again.
    unnamed: Option<keep::Unnamed>,
    number: usize,
    /// Bytes of the volume that is written now.
    here: u64,
    at: u64,
    /// Bytes that can be written before the system is asked for the free ones again.
    room: u64,
    most: Option<u64>,
    /// The first volume, which nobody else writes meanwhile.
    #[expect(dead_code, reason = "held, not read")]
    held: File,
}

impl Files {
    /// Begins the first volume, under a name that nothing has.
    pub fn begin(first: &Path, most: Option<u64>) -> io::Result<Self> {
        // Found now, and not in the middle.
        if most.is_some() && volume(first, 2).symlink_metadata().is_ok() {
            return Err(io::Error::new(io::ErrorKind::AlreadyExists, format!("{} is there already", volume(first, 2).display())));
        }
        let unnamed = keep::Unnamed::beside(first)?;
        let open = unnamed.file().try_clone()?;
        alone(&open)?;
        let held = open.try_clone()?;
        Ok(Self { first: first.to_path_buf(), open, unnamed: Some(unnamed), number: 1, here: 0, at: 0, room: 0, most, held })
    }

    /// Goes on behind place `at` of what is there; whatever lies behind it is given up. `held` is the first volume, see [`alone`].
    pub fn resume(first: &Path, at: u64, most: Option<u64>, held: File) -> io::Result<Self> {
        let there = Volumes::open(first)?;
        let number = there.files.partition_point(|(start, _)| *start < at).max(1);
        let start = there.files[number - 1].0;
        for gone in (number + 1..=there.files.len()).rev() {
            std::fs::remove_file(volume(first, gone))?;
        }
        // What a link leads to may lie anywhere, on the drive that is read too.
        let flags = rustix::fs::OFlags::NOFOLLOW.bits() as i32;
        let mut open = OpenOptions::new().write(true).custom_flags(flags).open(volume(first, number))?;
        open.set_len(at - start)?;
        io::Seek::seek(&mut open, io::SeekFrom::End(0))?;
        Ok(Self { first: first.to_path_buf(), open, unnamed: None, number, here: at - start, at, room: 0, most, held })
    }
}

/// Bytes that stay free where an image grows: a place that is full to the last byte stops others too.
pub const LEFT_FREE: u64 = 2 << 20;
/// Bytes after which the system is asked again how much is free.
const LOOK: u64 = 4 << 20;

/// Bytes that are free where a file lies; all there could be where the system does not say, as some FUSE file systems do not.
fn free(file: &File) -> u64 {
    let said = rustix::fs::fstatvfs(file).ok().filter(|said| said.f_blocks > 0);
    said.map_or(u64::MAX, |said| said.f_bavail.saturating_mul(said.f_frsize))
}

impl Store for Files {
    fn at(&self) -> u64 {
        self.at
    }
    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        let len = bytes.len() as u64;
        if self.room < len {
            self.room = free(&self.open).saturating_sub(LEFT_FREE).min(LOOK.max(len));
            if self.room < len {
                return Err(io::Error::new(io::ErrorKind::StorageFull, "there is no room left"));
            }
        }
        self.room -= len;
        self.open.write_all(bytes)?;
        if let Some(unnamed) = self.unnamed.take() {
            unnamed.name()?;
        }
        self.here += bytes.len() as u64;
        self.at += bytes.len() as u64;
        Ok(())
    }
    fn record_follows(&mut self, next: u64) -> io::Result<bool> {
        let begins = self.here > 0 && self.most.is_some_and(|most| self.here + next > most);
        if begins {
            self.keep()?;
            self.number += 1;
            let unnamed = keep::Unnamed::beside(&volume(&self.first, self.number))?;
            self.open = unnamed.file().try_clone()?;
            self.unnamed = Some(unnamed);
            self.here = 0;
        }
        Ok(begins)
    }
    fn keep(&mut self) -> io::Result<()> {
        self.open.sync_all()?;
        let dir = self.first.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
        File::open(dir)?.sync_all()
    }
}

/// A pipe, or whatever else takes bytes one after the other.
pub(super) struct Pipe<W: Write + Send> {
    out: W,
    at: u64,
}

impl<W: Write + Send> Pipe<W> {
    pub fn new(out: W) -> Self {
        Self { out, at: 0 }
    }
}

impl<W: Write + Send> Store for Pipe<W> {
    fn at(&self) -> u64 {
        self.at
    }
    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.at += bytes.len() as u64;
        self.out.write_all(bytes)
    }
    fn record_follows(&mut self, _next: u64) -> io::Result<bool> {
        Ok(false)
    }
    fn keep(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}
