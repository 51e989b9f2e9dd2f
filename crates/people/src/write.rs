//! Writing files at the destination, reading them back, and giving them their names only then.

use crate::journal::{Journal, Line, Way};
use crate::names::{self, Holds};
use badger_drive::buffer::{Buffer, Pool, is_zero};
use badger_fs::tree::Time;
use rustix::fs::{Advice, AtFlags, CWD, RenameFlags, Timespec, Timestamps, XattrFlags};
use sha2::{Digest, Sha256};
use std::fs::{self, File, OpenOptions, Permissions};
use std::io::{self, Read};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, Sender, SyncSender};

/// Where files lie until they were read back.
pub(crate) const PARTS: &str = ".badger-parts";

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
    hash: blake3::Hash,
    not_held: Vec<String>,
}

/// What goes from the writer to the one who reads back.
pub(crate) enum Settled {
    Batch(Vec<Written>),
    Note(Line),
}

/// What one who reads back says of it.
pub(crate) enum Outcome {
    File {
        bytes: u64,
        to: PathBuf,
    },
    /// It came back otherwise than it was written.
    Differs(Way),
}

/// Takes pieces until there are none; every file lies in the folder for parts afterwards.
pub(crate) fn write(into: &Path, pieces: &Receiver<Piece>, pool: &Pool, done: &SyncSender<Settled>, as_root: bool) -> io::Result<()> {
    let mut open: Option<Open> = None;
    let (mut batch, mut number) = (Vec::new(), 0u64);
    for piece in pieces {
        match piece {
            Piece::Begin(job) => {
                number += 1;
                open = Some(Open::new(into, number, *job)?);
            }
            Piece::Data { offset, len, buffer } => {
                let written = open.as_mut().map_or(Ok(()), |open| open.data(offset, &buffer[..len]));
                pool.give(buffer);
                written?;
            }
            Piece::End { lost } => {
                if let Some(mut open) = open.take() {
                    open.job.lost = lost;
                    batch.push(open.close(as_root)?);
                }
            }
            // Whoever reads back has gone where this fails; the end of it says why.
            Piece::Settle => _ = done.send(Settled::Batch(std::mem::take(&mut batch))),
            Piece::Note(line) => _ = done.send(Settled::Note(line)),
        }
    }
    Ok(())
}

struct Open {
    job: Job,
    part: PathBuf,
    file: File,
    sha256: Sha256,
    hash: blake3::Hasher,
    at: u64,
}

impl Open {
    fn new(into: &Path, number: u64, job: Job) -> io::Result<Self> {
        let part = into.join(PARTS).join(number.to_string());
        let file = OpenOptions::new().read(true).write(true).create_new(true).open(&part)?;
        Ok(Self { job, part, file, sha256: Sha256::new(), hash: blake3::Hasher::new(), at: 0 })
    }

    /// A hole up to `offset` counts as zeroes and stays a hole.
    fn skip_to(&mut self, offset: u64) {
        static ZEROES: [u8; 1 << 16] = [0; 1 << 16];
        while self.at < offset {
            let len = (offset - self.at).min(ZEROES.len() as u64) as usize;
            self.sha256.update(&ZEROES[..len]);
            self.hash.update(&ZEROES[..len]);
            self.at += len as u64;
        }
    }

    fn data(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        self.skip_to(offset);
        self.sha256.update(bytes);
        self.hash.update(bytes);
        self.at += bytes.len() as u64;
        if bytes.len() >= 1 << 16 && is_zero(bytes) { Ok(()) } else { self.file.write_all_at(bytes, offset) }
    }

    fn close(mut self, as_root: bool) -> io::Result<Written> {
        self.skip_to(self.job.size);
        self.file.set_len(self.job.size)?;
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
        let sha256 = self.sha256.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
        Ok(Written { job: self.job, part: self.part, sha256, hash: self.hash.finalize(), not_held })
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

/// Reads every batch back from the medium, notes it, and gives the files their names.
pub(crate) fn settle(into: &Path, holds: Holds, batches: &Receiver<Settled>, journal: &mut Journal, tell: &Sender<Outcome>) -> io::Result<()> {
    for settled in batches {
        let batch = match settled {
            Settled::Note(line) => {
                journal.add(&line)?;
                continue;
            }
            Settled::Batch(batch) => batch,
        };
        if batch.is_empty() {
            continue;
        }
        rustix::fs::syncfs(File::open(into)?)?;
        let mut named = Vec::new();
        for written in batch {
            if read_back(&written.part)? != written.hash {
                let why = "the destination gives other bytes than were written".to_string();
                journal.add(&Line::Lost { from: written.job.from.clone(), why, stretches: Vec::new() })?;
                fs::remove_file(&written.part)?;
                // Nobody may be listening any more.
                let _ = tell.send(Outcome::Differs(written.job.from));
                continue;
            }
            let job = &written.job;
            let modified = job.modified.map_or((0, 0), |time| (time.seconds, time.nanos));
            let to = Way::new(job.to.as_os_str().as_bytes());
            journal.add(&Line::File { from: job.from.clone(), to, size: job.size, modified, sha256: written.sha256.clone() })?;
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
            let to = name(into, holds, &written)?;
            if to != written.job.to {
                let modified = written.job.modified.map_or((0, 0), |time| (time.seconds, time.nanos));
                let way = Way::new(to.as_os_str().as_bytes());
                journal.add(&Line::Name { from: written.job.from.clone(), to: way.clone() })?;
                let Written { job, sha256, .. } = &written;
                journal.add(&Line::File { from: job.from.clone(), to: way, size: job.size, modified, sha256: sha256.clone() })?;
            }
            let _ = tell.send(Outcome::File { bytes: written.job.size, to });
        }
    }
    Ok(())
}

fn read_back(part: &Path) -> io::Result<blake3::Hash> {
    let mut file = File::open(part)?;
    // What the system still holds in memory proves nothing.
    let _ = rustix::fs::fadvise(&file, 0, None, Advice::DontNeed);
    let (mut hash, mut buffer) = (blake3::Hasher::new(), vec![0; 1 << 20]);
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(hash.finalize()),
            count => _ = hash.update(&buffer[..count]),
        }
    }
}

/// Gives a file its name; where something came into its place meanwhile, the next one with a number.
fn name(into: &Path, holds: Holds, written: &Written) -> io::Result<PathBuf> {
    if written.job.replaces {
        fs::rename(&written.part, into.join(&written.job.to))?;
        return Ok(written.job.to.clone());
    }
    let (parent, name) = (written.job.to.parent().unwrap_or(Path::new("")), written.job.to.file_name().unwrap_or_default());
    for number in 1..u32::MAX {
        let name = if number == 1 { name.as_bytes().to_vec() } else { names::numbered(name.as_bytes(), number, holds) };
        let to = parent.join(std::ffi::OsStr::from_bytes(&name));
        match rustix::fs::renameat_with(CWD, &written.part, CWD, into.join(&to), RenameFlags::NOREPLACE) {
            Ok(()) => return Ok(to),
            Err(rustix::io::Errno::EXIST) => {}
            // Some file systems do not know this way of renaming.
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) if fs::symlink_metadata(into.join(&to)).is_err() => {
                fs::rename(&written.part, into.join(&to))?;
                return Ok(to);
            }
            Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Err(io::Error::other("there is no free name left"))
}

/// Sets the times of a link itself.
pub(crate) fn link_times(path: &Path, modified: Option<Time>, accessed: Option<Time>) {
    // A link without its time is still the link.
    let _ = rustix::fs::utimensat(CWD, path, &times(modified, accessed), AtFlags::SYMLINK_NOFOLLOW);
}
