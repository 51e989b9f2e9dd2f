//! Where the bytes of an image are kept: one file, or several of a size. Everything above knows a stream with places in it, that
//! grows at its end and is read anywhere.

use super::record::{HEADER, Header};
use badger_drive::keep;
use std::ffi::OsStr;
use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt;
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
    for part in Volumes::open(first)?.parts.iter().rev().filter(|part| part.file.is_some()) {
        std::fs::remove_file(volume(first, part.number))?;
    }
    Ok(())
}

/// A volume in the stream.
struct Part {
    number: usize,
    start: u64,
    /// Bytes from its start to that of the next one; all it has for the last one.
    len: u64,
    /// Nothing where it is missing.
    file: Option<File>,
    /// Bytes that are there.
    there: u64,
    /// Where what can be read without a gap from its start on ends.
    reach: u64,
}

/// The volumes of an image, open for reading. One that is missing, or has another length than it had, costs what was in it.
pub struct Volumes {
    parts: Vec<Part>,
    len: u64,
}

/// The head of a volume, and where it says it begins; `None` where none stands there.
fn head_of(file: &File) -> Option<(Header, u64)> {
    let mut here = [0; HEADER];
    file.read_exact_at(&mut here, 0).ok()?;
    let head = Header::decode(&here)?;
    Some((Header { number: 0, ..head }, head.number))
}

/// The numbers of files with the name of a further volume, in order.
fn named(first: &Path) -> Vec<usize> {
    let dir = first.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let (stem, extension) = (first.file_stem().unwrap_or_default(), first.extension().unwrap_or_default());
    let number = |name: &OsStr| {
        let digits = name.as_bytes().strip_prefix(stem.as_bytes())?.strip_prefix(b".")?.strip_suffix(extension.as_bytes())?.strip_suffix(b".")?;
        let number = std::str::from_utf8(digits).ok()?.parse().ok()?;
        (number <= MOST && volume(first, number).file_name() == Some(name)).then_some(number)
    };
    let entries = std::fs::read_dir(dir).into_iter().flatten().flatten();
    let mut numbers: Vec<usize> = entries.filter_map(|entry| number(&entry.file_name())).collect();
    numbers.sort_unstable();
    numbers
}

impl Volumes {
    /// Opens an image by its first volume.
    ///
    /// # Errors
    /// What the system says.
    pub fn open(first: &Path) -> io::Result<Self> {
        // A pipe with the name of an image is not waited for.
        let file = keep::open_to_read(first)?;
        let (own, len) = (head_of(&file).map(|(head, _)| head), file.metadata()?.len());
        let mut parts = vec![Part { number: 1, start: 0, len, there: len, reach: 0, file: Some(file) }];
        let (mut next, mut listed) = (2, None);
        while next <= MOST {
            // Behind a gap only such volumes count as say themselves where they begin.
            let number = if volume(first, next).is_file() {
                next
            } else {
                let numbers: &Vec<usize> = listed.get_or_insert_with(|| named(first));
                match numbers.iter().copied().find(|number| *number > next) {
                    Some(number) => number,
                    None => break,
                }
            };
            next = number + 1;
            let path = volume(first, number);
            if !path.is_file() {
                continue;
            }
            let file = keep::open_to_read(&path)?;
            // A file with the name of a volume that begins otherwise belongs to another image.
            let Some((_, at)) = head_of(&file).filter(|(head, _)| Some(*head) == own) else { continue };
            let before = parts.last_mut().expect("the first one is there");
            let (follows, end) = (before.number + 1 == number, before.start + before.there);
            let start = match at {
                0 if follows => end,
                0 => break,
                at if at <= before.start || at > 1 << 60 => break,
                at => at,
            };
            if follows || start <= end {
                before.len = start - before.start;
            } else {
                let number = before.number + 1;
                parts.push(Part { number, start: end, len: start - end, there: 0, reach: 0, file: None });
            }
            let there = file.metadata()?.len();
            parts.push(Part { number, start, len: there, there, reach: 0, file: Some(file) });
        }
        let mut reach = 0;
        for part in parts.iter_mut().rev() {
            let end = part.start + part.there.min(part.len);
            part.reach = if part.there >= part.len { reach.max(end) } else { end };
            reach = part.reach;
        }
        let len = parts.last().map_or(0, |part| part.start + part.len);
        Ok(Self { parts, len })
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
        self.parts.iter().filter_map(|part| part.file.as_ref())
    }

    /// Whether every volume before a place is there in its length.
    ///
    /// # Errors
    /// The first one that is not.
    pub fn whole_to(&self, at: u64) -> io::Result<()> {
        match self.problems().into_iter().find(|(place, _)| *place < at) {
            Some((_, what)) => Err(io::Error::new(io::ErrorKind::InvalidData, format!("{what}. Bring it back, or start over with --restart"))),
            None => Ok(()),
        }
    }

    /// What is wrong with the volumes themselves: where it begins in the stream, and in words.
    pub fn problems(&self) -> Vec<(u64, String)> {
        let told = self.parts.iter().enumerate().filter_map(|(index, part)| {
            let number = part.number;
            match () {
                () if part.file.is_none() => {
                    let last = self.parts.get(index + 1).map_or(number, |next| next.number - 1);
                    let which = if last > number { format!("volume {number} to volume {last} are") } else { format!("volume {number} is") };
                    Some((part.start, format!("{which} missing: {} bytes", part.len)))
                }
                () if part.there < part.len => {
                    Some((part.start + part.there, format!("volume {number} lacks {} bytes at its end", part.len - part.there)))
                }
                () if part.there > part.len => Some((part.start + part.len, format!("volume {number} has {} bytes too many", part.there - part.len))),
                () => None,
            }
        });
        told.collect()
    }

    fn part(&self, at: u64) -> Option<&Part> {
        let number = self.parts.partition_point(|part| part.start <= at).checked_sub(1)?;
        self.parts.get(number)
    }

    /// Where what can be read without a gap from `at` on ends; where the next volume begins, as an error.
    pub(super) fn readable(&self, at: u64) -> Result<u64, u64> {
        let part = self.part(at).ok_or(self.len)?;
        if at < part.start + part.there.min(part.len) { Ok(part.reach) } else { Err(part.start + part.len) }
    }

    /// Fills `buf` from a place of the stream on.
    ///
    /// # Errors
    /// What the system says; places behind the end, in a volume that is missing or cut off.
    pub fn read(&self, at: u64, buf: &mut [u8]) -> io::Result<()> {
        let mut done = 0;
        while done < buf.len() {
            let place = at + done as u64;
            let part = self.part(place).filter(|_| place < self.len).ok_or(io::ErrorKind::UnexpectedEof)?;
            let lacks = |why: &str| io::Error::new(io::ErrorKind::UnexpectedEof, format!("volume {} is {why}", part.number));
            let file = part.file.as_ref().ok_or_else(|| lacks("missing"))?;
            let within = place - part.start;
            let left = part.there.min(part.len).checked_sub(within).filter(|left| *left > 0).ok_or_else(|| lacks("cut off"))?;
            let len = (buf.len() - done).min(usize::try_from(left).unwrap_or(usize::MAX));
            file.read_exact_at(&mut buf[done..done + len], within)?;
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
        let index = there.parts.partition_point(|part| part.start < at).max(1) - 1;
        let Part { number, start, .. } = there.parts[index];
        there.whole_to(at)?;
        for gone in there.parts[index + 1..].iter().rev().filter(|part| part.file.is_some()) {
            std::fs::remove_file(volume(first, gone.number))?;
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
