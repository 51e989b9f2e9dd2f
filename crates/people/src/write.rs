//! Writing files at the destination, among the parts: their names come later.

use crate::beneath::Beneath;
use crate::digest::Digest64;
use crate::journal::{Line, Way};
use badger_drive::buffer::{Buffer, Pool, is_zero};
use badger_fs::tree::Time;
use rustix::fs::{AtFlags, Timespec, Timestamps, XattrFlags};
use rustix::io::Errno;
use std::fs::{File, Permissions};
use std::io;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, SyncSender};

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
    pub job: Job,
    pub part: PathBuf,
    /// Of what was written.
    pub digest: blake3::Hash,
    /// What the destination did not take of it.
    pub not_held: Vec<String>,
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
                let written = open.as_mut().map_or(Ok(()), |open| open.data(offset, &buffer[..len]));
                pool.give(buffer);
                written
            }
            Piece::End { lost } => match (open.take(), failed.take()) {
                (Some(mut ended), _) => {
                    ended.job.lost = lost;
                    let (from, part) = (ended.job.from.clone(), ended.part.clone());
                    match ended.close(as_root) {
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
    digest: Digest64,
}

impl Open {
    fn new(beneath: &Beneath, part: &Path, job: Job) -> io::Result<Self> {
        let file = beneath.create(part)?;
        Ok(Self { job, part: part.to_path_buf(), file, digest: Digest64::default() })
    }

    fn data(&mut self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        self.digest.add(offset, bytes);
        if bytes.len() >= 1 << 16 && is_zero(bytes) { Ok(()) } else { self.file.write_all_at(bytes, offset) }
    }

    fn close(self, as_root: bool) -> io::Result<Written> {
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
        Ok(Written { job: self.job, part: self.part, digest: self.digest.end(), not_held })
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

/// Sets the times of a link or a folder itself.
pub(crate) fn link_times(beneath: &Beneath, path: &Path, modified: Option<Time>, accessed: Option<Time>) {
    // One without its time is still there.
    let _ = beneath.split(path).map(|(dir, name)| rustix::fs::utimensat(&*dir, name, &times(modified, accessed), AtFlags::SYMLINK_NOFOLLOW));
}
