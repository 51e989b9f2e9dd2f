//! Writing files at the destination, reading them back, and giving them their names only then.

use crate::beneath::Beneath;
use crate::journal::{Journal, Line, Way};
use crate::names::{self, Holds};
use badger_drive::Control;
use badger_drive::buffer::{Buffer, Pool, is_zero};
use badger_fs::tree::Time;
use rustix::fs::{Advice, AtFlags, SeekFrom, Timespec, Timestamps, XattrFlags};
use rustix::io::Errno;
use sha2::{Digest, Sha256};
use std::fs::{File, Permissions};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, Sender, SyncSender};

/// Why something of a file could not be read, and which stretches: start and length in bytes.
pub(crate) type Missing = (String, Vec<(u64, u64)>);

/// A file that is to be made.
pub(crate) struct Job {
    pub from: Way,
    /// Relative to the destination.
    pub to: PathBuf,
    pub size: u64,
    pub modified: Option<Time>,
    pub accessed: Option<Time>,
    /// Permission bits, and the owner where it can be kept.
    pub mode: u32,
    pub owner: Option<(u32, u32)>,
    pub attributes: Vec<(String, Vec<u8>)>,
    /// It may take the place of what is there.
    pub replaces: bool,
    /// Set once its content is read: what could not be read.
    pub lost: Option<Missing>,
}

/// What goes from the reader to the writer.
pub(crate) enum Piece {
    Begin(Box<Job>),
    Data {
        offset: u64,
        len: usize,
        buffer: Buffer,
    },
    End {
        lost: Option<Missing>,
    },
    /// What was written so far is to be read back and named.
    Settle,
    /// Another line for the journal.
    Note(Line),
}

/// A file that is written, but not read back yet.
pub(crate) struct Written {
    job: Job,
    part: PathBuf,
    sha256: String,
    digest: blake3::Hash,
    not_held: Vec<String>,
}

/// What goes from the writer to the one who reads back.
pub(crate) enum Settled {
    Batch(Vec<Written>),
    Note(Line),
    /// The destination did not take this one, and why.
    Failed(Way, String),
}

/// What one who reads back says of it.
pub(crate) enum Outcome {
    File {
        bytes: u64,
        to: PathBuf,
    },
    /// It is not there, and why.
    Lost(Way, String),
}

/// Takes pieces until there are none; every file lies among the parts afterwards. What only one file suffers from costs
/// only that file.
pub(crate) fn write(
    beneath: &Beneath,
    parts: &Path,
    pieces: &Receiver<Piece>,
    pool: &Pool,
    done: &SyncSender<Settled>,
    as_root: bool,
    control: &Control,
) -> io::Result<()> {
    let mut open: Option<Open> = None;
    let mut failed: Option<(Way, String)> = None;
    let (mut batch, mut number) = (Vec::new(), 0u64);
    for piece in pieces {
        let step = match piece {
            Piece::Begin(job) => {
                number += 1;
                failed = None;
                open = Some(Open::new(beneath, &parts.join(number.to_string()), *job)?);
                Ok(())
            }
            Piece::Data { offset, len, buffer } => {
                let written = open.as_mut().map_or(Ok(()), |open| open.data(offset, &buffer[..len], control));
                pool.give(buffer);
                written
            }
            Piece::End { lost } => match (open.take(), failed.take()) {
                (Some(mut ended), _) => {
                    ended.job.lost = lost;
                    let (from, part) = (ended.job.from.clone(), ended.part.clone());
                    match ended.close(as_root, control) {
                        Ok(written) => batch.push(written),
                        Err(error) if costs_itself(&error) => {
                            beneath.remove(&part)?;
                            let _ = done.send(Settled::Failed(from, refused(&error)));
                        }
                        Err(error) => return Err(error),
                    }
                    Ok(())
                }
                (None, Some((from, why))) => {
                    let _ = done.send(Settled::Failed(from, why));
                    Ok(())
                }
                (None, None) => Ok(()),
            },
            // Whoever reads back has gone where this fails; the end of it says why.
            Piece::Settle => {
                let _ = done.send(Settled::Batch(std::mem::take(&mut batch)));
                Ok(())
            }
            Piece::Note(line) => {
                let _ = done.send(Settled::Note(line));
                Ok(())
            }
        };
        match (step, open.take()) {
            (Err(error), Some(ended)) if costs_itself(&error) => {
                beneath.remove(&ended.part)?;
                failed = Some((ended.job.from, refused(&error)));
            }
            (Err(error), _) => return Err(error),
            (Ok(()), still) => open = still,
        }
    }
    Ok(())
}

/// Whether an error says something of one file and not of the whole destination.
pub(crate) fn costs_itself(error: &io::Error) -> bool {
    let own = [Errno::FBIG, Errno::NAMETOOLONG, Errno::INVAL, Errno::ILSEQ, Errno::PERM, Errno::ACCESS, Errno::OPNOTSUPP, Errno::LOOP, Errno::NOTDIR];
    Errno::from_io_error(error).is_some_and(|code| own.contains(&code))
}

/// Why the destination did not take a file.
pub(crate) fn refused(error: &io::Error) -> String {
    match Errno::from_io_error(error) {
        Some(Errno::FBIG) => "it is too large for the destination's file system; take another destination for it".into(),
        Some(Errno::NAMETOOLONG) => "its name is too long for the destination's file system".into(),
        _ => format!("the destination does not take it: {error}"),
    }
}

struct Open {
    job: Job,
    part: PathBuf,
    file: File,
    /// `None` where hashing what is no more than holes would take hours.
    sha256: Option<Sha256>,
    digest: Digest64,
    at: u64,
    holes: u64,
}

/// So many bytes of holes in a file are hashed for the manifest; a longer file has no line there.
const MOST_HOLES: u64 = 2 << 30;
/// Zeroes hashed before a stop is listened to again.
const HEAR: u64 = 4 << 20;

impl Open {
    fn new(beneath: &Beneath, part: &Path, job: Job) -> io::Result<Self> {
        let file = beneath.create(part)?;
        Ok(Self { job, part: part.to_path_buf(), file, sha256: Some(Sha256::new()), digest: Digest64::default(), at: 0, holes: 0 })
    }

    /// A hole up to `offset` counts as zeroes and stays a hole.
    fn skip_to(&mut self, offset: u64, control: &Control) -> io::Result<()> {
        static ZEROES: [u8; 1 << 16] = [0; 1 << 16];
        self.holes += offset.saturating_sub(self.at);
        if self.holes > MOST_HOLES {
            self.sha256 = None;
        }
        if let Some(sha256) = &mut self.sha256 {
            let (mut left, mut unheard) = (offset.saturating_sub(self.at), 0);
            while left > 0 {
                let len = left.min(ZEROES.len() as u64);
                sha256.update(&ZEROES[..len as usize]);
                left -= len;
                unheard += len;
                if unheard >= HEAR {
                    unheard = 0;
                    if control.is_stopped() {
                        return Err(io::ErrorKind::Interrupted.into());
                    }
                }
            }
        }
        self.at = self.at.max(offset);
        Ok(())
    }

    fn data(&mut self, offset: u64, bytes: &[u8], control: &Control) -> io::Result<()> {
        self.skip_to(offset, control)?;
        if let Some(sha256) = &mut self.sha256 {
            sha256.update(bytes);
        }
        self.digest.add(offset, bytes);
        self.at += bytes.len() as u64;
        if bytes.len() >= 1 << 16 && is_zero(bytes) { Ok(()) } else { self.file.write_all_at(bytes, offset) }
    }

    fn close(mut self, as_root: bool, control: &Control) -> io::Result<Written> {
        // Too long a file is found out before its zeroes are hashed.
        self.file.set_len(self.job.size)?;
        self.skip_to(self.job.size, control)?;
        let mut not_held = Vec::new();
        for (name, value) in &self.job.attributes {
            if let Err(error) = rustix::fs::fsetxattr(&self.file, name.as_str(), value, XattrFlags::empty()) {
                not_held.push(format!("its attribute {name}: {error}"));
            }
        }
        if let Some((user, group)) = self.job.owner.filter(|_| as_root)
            && let Err(error) = std::os::unix::fs::fchown(&self.file, Some(user), Some(group))
        {
            not_held.push(format!("its owner {user}:{group}: {error}"));
        }
        // Bits that let a program run as somebody else do not travel.
        if let Err(error) = self.file.set_permissions(Permissions::from_mode(self.job.mode & 0o777)) {
            not_held.push(format!("its permissions {:o}: {error}", self.job.mode & 0o777));
        }
        if let Err(error) = rustix::fs::futimens(&self.file, &times(self.job.modified, self.job.accessed)) {
            not_held.push(format!("its times: {error}"));
        }
        let sha256 = self.sha256.map(hex).unwrap_or_default();
        if sha256.is_empty() {
            not_held.push("a checksum in the manifest: it is mostly holes, too long to be hashed; it was read back equal".into());
        }
        Ok(Written { job: self.job, part: self.part, sha256, digest: self.digest.end(), not_held })
    }
}

/// A finished SHA-256 in lower-case hex.
pub(crate) fn hex(sha256: Sha256) -> String {
    hex::encode(sha256.finalize())
}

/// A hash over a file that passes over its zeroes: blocks of 64 KiB that hold something, with their places. Data must come
/// in order.
#[derive(Default)]
pub(crate) struct Digest64 {
    hash: blake3::Hasher,
    block: Vec<u8>,
    number: u64,
}

const BLOCK: u64 = 1 << 16;

impl Digest64 {
    /// Takes in bytes at `offset`; what lies between is zero.
    pub fn add(&mut self, offset: u64, bytes: &[u8]) {
        let (mut offset, mut rest) = (offset, bytes);
        while !rest.is_empty() {
            let number = offset / BLOCK;
            if number != self.number {
                self.close();
                self.number = number;
            }
            let from = (offset % BLOCK) as usize;
            let len = rest.len().min(BLOCK as usize - from);
            if from == 0 && len == BLOCK as usize {
                self.take(number, &rest[..len]);
            } else {
                self.block.resize(from, 0);
                self.block.extend(&rest[..len]);
            }
            offset += len as u64;
            rest = &rest[len..];
        }
    }

    fn take(&mut self, number: u64, bytes: &[u8]) {
        let zeroes = bytes.iter().rev().take_while(|byte| **byte == 0).count();
        let bytes = &bytes[..bytes.len() - zeroes];
        if !bytes.is_empty() {
            self.hash.update(&number.to_le_bytes());
            self.hash.update(&(bytes.len() as u64).to_le_bytes());
            self.hash.update(bytes);
        }
    }

    fn close(&mut self) {
        let block = std::mem::take(&mut self.block);
        self.take(self.number, &block);
        self.block = block;
        self.block.clear();
    }

    /// The hash of everything.
    pub fn end(mut self) -> blake3::Hash {
        self.close();
        self.hash.finalize()
    }
}

/// Times as the system sets them; one that is not known is left alone.
pub(crate) fn times(modified: Option<Time>, accessed: Option<Time>) -> Timestamps {
    const OMIT: i64 = 0x3fff_fffe;
    let spec = |time: Option<Time>| match time {
        Some(time) => Timespec { tv_sec: time.seconds, tv_nsec: i64::from(time.nanos.min(999_999_999)) },
        None => Timespec { tv_sec: 0, tv_nsec: OMIT },
    };
    Timestamps { last_access: spec(accessed.or(modified)), last_modification: spec(modified) }
}

/// Reads every batch back from the medium, notes it, and gives the files their names. A stop is heard while it reads.
pub(crate) fn settle(
    beneath: &Beneath,
    holds: Holds,
    batches: &Receiver<Settled>,
    journal: &mut Journal,
    tell: &Sender<Outcome>,
    control: &Control,
) -> io::Result<()> {
    let lose = |journal: &mut Journal, from: &Way, why: &str| -> io::Result<()> {
        journal.add(&Line::Lost { from: from.clone(), why: why.to_string(), stretches: Vec::new() })?;
        // Nobody may be listening any more.
        let _ = tell.send(Outcome::Lost(from.clone(), why.to_string()));
        Ok(())
    };
    for settled in batches {
        let batch = match settled {
            Settled::Note(line) => {
                journal.add(&line)?;
                continue;
            }
            Settled::Failed(from, why) => {
                lose(journal, &from, &why)?;
                continue;
            }
            Settled::Batch(batch) => batch,
        };
        if batch.is_empty() {
            continue;
        }
        // Through a descriptor that was open before anything was written, so that no error is missed.
        rustix::fs::syncfs(beneath.root())?;
        let mut named = Vec::new();
        for written in batch {
            if read_back(&beneath.read(&written.part)?, control)? != written.digest {
                lose(journal, &written.job.from, "the destination gives other bytes than were written")?;
                beneath.remove(&written.part)?;
                continue;
            }
            let job = &written.job;
            journal.add(&written.line(&job.to))?;
            if let Some((why, stretches)) = &job.lost {
                journal.add(&Line::Lost { from: job.from.clone(), why: why.clone(), stretches: stretches.clone() })?;
            }
            for what in &written.not_held {
                journal.add(&Line::NotHeld { from: job.from.clone(), what: what.clone() })?;
            }
            named.push(written);
        }
        // A name means that the file is whole: first the journal, then the name.
        journal.keep()?;
        for written in named {
            let to = match name(beneath, holds, &written) {
                Ok(to) => to,
                Err(error) if costs_itself(&error) => {
                    lose(journal, &written.job.from, &refused(&error))?;
                    beneath.remove(&written.part)?;
                    continue;
                }
                Err(error) => return Err(error),
            };
            if to != written.job.to {
                journal.add(&Line::Name { from: written.job.from.clone(), to: Way::new(to.as_os_str().as_bytes()) })?;
                journal.add(&written.line(&to))?;
            }
            let _ = tell.send(Outcome::File { bytes: written.job.size, to });
        }
    }
    Ok(())
}

impl Written {
    fn line(&self, to: &Path) -> Line {
        let modified = self.job.modified.map_or((0, 0), |time| (time.seconds, time.nanos));
        let (from, to) = (self.job.from.clone(), Way::new(to.as_os_str().as_bytes()));
        Line::File { from, to, size: self.job.size, modified, sha256: self.sha256.clone() }
    }
}

/// The hash of a file as the medium has it; holes are passed over.
pub(crate) fn read_back(file: &File, control: &Control) -> io::Result<blake3::Hash> {
    // What the system still holds in memory proves nothing.
    let _ = rustix::fs::fadvise(file, 0, None, Advice::DontNeed);
    let (mut digest, mut buffer, mut at) = (Digest64::default(), vec![0; 1 << 20], 0);
    loop {
        if control.is_stopped() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        match rustix::fs::seek(file, SeekFrom::Data(at)) {
            Ok(data) => at = data,
            Err(rustix::io::Errno::NXIO) => return Ok(digest.end()),
            // A file system without holes is read from one end to the other.
            Err(_) => {}
        }
        match file.read_at(&mut buffer, at)? {
            0 => return Ok(digest.end()),
            count => {
                digest.add(at, &buffer[..count]);
                at += count as u64;
            }
        }
    }
}

/// Gives a file its name; where something came into its place meanwhile, the next one with a number.
fn name(beneath: &Beneath, holds: Holds, written: &Written) -> io::Result<PathBuf> {
    if written.job.replaces {
        beneath.rename(&written.part, &written.job.to, true)?;
        return Ok(written.job.to.clone());
    }
    for number in 1..u32::MAX {
        let to = names::numbered_path(&written.job.to, number, holds);
        match beneath.rename(&written.part, &to, false) {
            Ok(()) => return Ok(to),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(error),
        }
    }
    Err(io::Error::other("there is no free name left"))
}

/// Sets the times of a link or a folder itself.
pub(crate) fn link_times(beneath: &Beneath, path: &Path, modified: Option<Time>, accessed: Option<Time>) {
    // One without its time is still there.
    let _ = beneath.split(path).map(|(dir, name)| rustix::fs::utimensat(&*dir, name, &times(modified, accessed), AtFlags::SYMLINK_NOFOLLOW));
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn zeroes_count_alike_whether_they_are_read_or_not(
            pieces in prop::collection::vec((0u64..400_000, 1usize..90_000, any::<bool>()), 0..8), cuts in prop::collection::vec(1usize..200_000, 1..20)
        ) {
            let mut bytes = vec![0u8; 512 << 10];
            for (at, len, fill) in pieces {
                let end = (at as usize + len).min(bytes.len());
                bytes[at as usize..end].fill(u8::from(fill) * 7);
            }
            let mut whole = Digest64::default();
            let mut at = 0;
            for cut in cuts.iter().cycle() {
                let end = (at + cut).min(bytes.len());
                // Pieces that hold nothing are left out now and then, as holes are.
                if cut % 2 == 0 || !is_zero(&bytes[at..end]) {
                    whole.add(at as u64, &bytes[at..end]);
                }
                at = end;
                if at == bytes.len() {
                    break;
                }
            }
            let mut file = tempfile::tempfile().unwrap();
            io::Write::write_all(&mut file, &bytes).unwrap();
            prop_assert_eq!(whole.end(), read_back(&file, &Control::new()).unwrap());
        }
    }
}
