//! A raw drive in pieces: `weir.001`, `weir.002` and so on, one after the other, as file systems with small files and
//! discs hold it. All pieces but the last have one size, a multiple of 512 bytes. Named by its first piece. It is written to
//! within the pieces that are there; none is added.

use crate::identity::Identity;
use crate::medium::{Geometry, Medium, ReadError, Stretch, WriteError, WriteMedium, inside};
use crate::paths::real;
use crate::patience::Patience;
use crate::raw::{RawFile, writable};
use crate::standing::Standing;
use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Error, ErrorKind};
use std::path::{Path, PathBuf};

/// Numbers have three digits.
const MOST: u32 = 999;

/// The number in a name such as `weir.001`.
fn number(path: &Path) -> Option<u32> {
    let digits = path.extension()?.to_str()?;
    (digits.len() == 3 && digits.bytes().all(|digit| digit.is_ascii_digit())).then(|| digits.parse().ok())?
}

fn piece(path: &Path, number: u32) -> PathBuf {
    path.with_extension(format!("{number:03}"))
}

/// The first piece of the drive that a path is a piece of, and its place counted from 1; `None` for a file that stands alone.
/// What a link leads to counts as much as its own name.
pub fn place_of(path: &Path) -> Option<(PathBuf, u32)> {
    [path.to_path_buf(), real(path)].iter().find_map(|path| {
        let number = number(path).filter(|number| *number > 0)?;
        let is_there = |number: u32| piece(path, number).is_file();
        let others = if number == 1 { (2..=MOST).any(is_there) } else { is_there(1) };
        others.then(|| (piece(path, 1), number))
    })
}

/// The pieces that are there, by the first one's name.
pub(crate) fn pieces_of(first: &Path) -> Vec<PathBuf> {
    (1..=MOST).map(|number| piece(first, number)).filter(|path| path.symlink_metadata().is_ok()).collect()
}

/// Pieces that are open, as one drive.
pub struct SplitFile {
    pieces: Vec<RawFile>,
    /// Bytes of every piece but the last.
    step: u64,
    identity: Identity,
    geometry: Geometry,
}

impl SplitFile {
    /// Opens all pieces for reading only; `path` names the first. Whether the last one that is there is the last there was
    /// cannot be known.
    ///
    /// # Errors
    /// What the system says; one that is missing between others, and sizes that do not belong together, are named.
    pub fn open(path: &Path) -> io::Result<Self> {
        let wrong = |text: String| Error::new(ErrorKind::InvalidData, text);
        let last = (1..=MOST).rev().find(|number| piece(path, *number).symlink_metadata().is_ok()).unwrap_or(1);
        let mut pieces = Vec::new();
        for number in 1..=last {
            let path = piece(path, number);
            let opened = RawFile::open(&path).map_err(|error| Error::new(error.kind(), format!("its piece {}: {error}", path.display())))?;
            pieces.push(opened);
        }
        let sizes: Vec<u64> = pieces.iter().map(|piece| piece.geometry().size_bytes).collect();
        let step = sizes[0];
        for (number, size) in (1..).zip(&sizes) {
            let fits = if number == last { *size <= step } else { *size == step && step.is_multiple_of(512) };
            if !fits {
                return Err(wrong(format!("its piece {number} of {last} has {size} bytes, the first one {step}: they do not belong together")));
            }
        }
        let geometry = Geometry { size_bytes: sizes.iter().sum(), ..pieces[0].geometry() };
        Ok(Self { pieces, step, identity: Identity::of_file(path), geometry })
    }

    /// Opens all pieces for writing too. A piece that is a link is none, nor are two that are one file.
    ///
    /// # Errors
    /// See [`SplitFile::open`].
    pub(crate) fn open_for_writing(path: &Path) -> io::Result<Self> {
        let mut drive = Self::open(path)?;
        for (number, held) in (1..).zip(&mut drive.pieces) {
            let opened = RawFile::open_for_writing(&piece(path, number))?;
            if opened.standing().node != held.standing().node || opened.geometry().size_bytes != held.geometry().size_bytes {
                return Err(Error::new(ErrorKind::InvalidData, format!("its piece {number} is another file than a moment ago")));
            }
            *held = opened;
        }
        let nodes: HashSet<_> = drive.pieces.iter().map(|piece| piece.standing().node).collect();
        if nodes.len() < drive.pieces.len() {
            return Err(Error::new(ErrorKind::InvalidData, "two of its pieces are one file"));
        }
        drive.identity.read_only |= drive.pieces.iter().any(|piece| piece.identity().read_only);
        Ok(drive)
    }

    /// Sets what it calls its sectors.
    pub(crate) fn with_sectors(mut self, logical: u32, physical: u32) -> Self {
        (self.geometry.logical_sector, self.geometry.physical_sector) = (logical, physical);
        self
    }

    /// Calls it as whoever named it did.
    pub(crate) fn called(mut self, identity: Identity) -> Self {
        self.identity = identity;
        self
    }

    /// The names of its pieces, the first one's being `path`, and what has them.
    pub(crate) fn names(&self, path: &Path) -> Vec<(PathBuf, Option<(u64, u64)>)> {
        (1..).zip(&self.pieces).map(|(number, held)| (piece(path, number), held.standing().node)).collect()
    }

    /// Cuts a stretch at the borders of pieces: the piece, where in it, how much of it.
    fn cut(&self, offset: u64, len: u64) -> impl Iterator<Item = (&RawFile, u64, u64)> {
        let mut at = offset;
        std::iter::from_fn(move || {
            let (piece, inner) = (self.pieces.get(usize::try_from(at / self.step).ok()?)?, at % self.step);
            let here = (offset + len - at).min(piece.geometry().size_bytes.saturating_sub(inner));
            at += here;
            (here > 0).then_some((piece, inner, here))
        })
    }
}

impl Medium for SplitFile {
    fn geometry(&self) -> Geometry {
        self.geometry
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read_within(offset, buf, &Patience::default())
    }
    fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> Result<(), ReadError> {
        inside(offset, buf.len(), self.geometry.size_bytes)?;
        let (len, mut done) = (buf.len() as u64, 0);
        for (piece, at, here) in self.cut(offset, len) {
            let read = piece.read_within(at, &mut buf[done as usize..(done + here) as usize], patience);
            read.map_err(|error| match error {
                // Places count from the start of the drive.
                ReadError::Unreadable { offset: place, why, .. } => {
                    let place = offset + done + (place - at);
                    ReadError::Unreadable { offset: place, len: offset + len - place, why }
                }
                other => other,
            })?;
            done += here;
        }
        Ok(())
    }
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let parts = self.cut(offset, max.min(self.geometry.size_bytes.saturating_sub(offset)));
        Stretch::joined(parts.map(|(piece, at, here)| (here, piece.stretch(at, here))))
    }
    fn will_read(&self, offset: u64, len: u64) {
        let len = len.min(self.geometry.size_bytes.saturating_sub(offset));
        self.cut(offset, len).for_each(|(piece, at, here)| piece.will_read(at, here));
    }
    fn rests_on(&self) -> Vec<&File> {
        self.pieces.iter().map(RawFile::file).collect()
    }
    fn standing(&self) -> Standing {
        // Sums over all pieces: whichever changes changes them, whatever the clock was set to meanwhile.
        let changed = self.pieces.iter().filter_map(|piece| piece.standing().changed);
        let changed = changed.reduce(|all, one| (all.0.wrapping_add(one.0), all.1.wrapping_add(one.1)));
        Standing { changed, ..self.pieces[0].standing() }
    }
}

impl SplitFile {
    /// Does something with every part of a stretch; places in errors count from the start of the drive.
    fn each(&self, offset: u64, len: u64, mut act: impl FnMut(&RawFile, u64, u64, u64) -> Result<(), WriteError>) -> Result<(), WriteError> {
        writable(offset, len, self.geometry.size_bytes)?;
        let mut done = 0;
        for (piece, at, here) in self.cut(offset, len) {
            act(piece, at, done, here).map_err(|error| match error {
                WriteError::Failed { offset: place, len, why } => WriteError::Failed { offset: offset + done + (place - at), len, why },
                WriteError::Full(place) => WriteError::Full(offset + done + (place - at)),
                other => other,
            })?;
            done += here;
        }
        Ok(())
    }
}

impl WriteMedium for SplitFile {
    fn write_at(&self, offset: u64, buf: &[u8]) -> Result<(), WriteError> {
        self.each(offset, buf.len() as u64, |piece, at, done, here| piece.write_at(at, &buf[done as usize..(done + here) as usize]))
    }
    fn write_zero(&self, offset: u64, len: u64) -> Result<(), WriteError> {
        self.each(offset, len, |piece, at, _, here| piece.write_zero(at, here))
    }
    fn discard(&self, offset: u64, len: u64) -> Result<bool, WriteError> {
        self.write_zero(offset, len).map(|()| true)
    }
    fn flush(&self) -> Result<(), WriteError> {
        self.pieces.iter().try_for_each(RawFile::flush)
    }
    fn finish(&self) -> Result<(), WriteError> {
        self.pieces.iter().try_for_each(RawFile::finish)
    }
    fn forget(&self, offset: u64, len: u64) {
        let len = len.min(self.geometry.size_bytes.saturating_sub(offset));
        self.cut(offset, len).for_each(|(piece, at, here)| piece.forget(at, here));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Workshop;
    use proptest::prelude::*;
    use rstest::rstest;
    use std::fs;
    use tempfile::TempDir;

    fn noise(len: usize) -> Vec<u8> {
        let mut state = 7u64;
        let mut next = || {
            state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
            (state >> 33) as u8
        };
        (0..len).map(|_| next()).collect()
    }

    /// Pieces of `step` bytes.
    fn split(bytes: &[u8], step: usize) -> (TempDir, PathBuf) {
        let dir = tempfile::tempdir().unwrap();
        for (part, number) in bytes.chunks(step).zip(1..) {
            fs::write(dir.path().join(format!("weir.{number:03}")), part).unwrap();
        }
        let first = dir.path().join("weir.001");
        (dir, first)
    }

    proptest! {
        #[test]
        fn it_reads_as_the_whole(len in 1usize..9000, sectors in 1usize..5, reads in prop::collection::vec((0usize..9000, 0usize..9000), 8)) {
            let bytes = noise(len);
            let (_dir, first) = split(&bytes, sectors * 512);
            let drive = SplitFile::open(&first).unwrap();
            prop_assert_eq!(drive.geometry().size_bytes, len as u64);
            for (at, count) in reads {
                let mut buf = vec![0; count];
                match bytes.get(at..at + count) {
                    Some(right) => {
                        drive.read_at(at as u64, &mut buf).unwrap();
                        prop_assert_eq!(&buf[..], right);
                    }
                    None => prop_assert!(drive.read_at(at as u64, &mut buf).is_err()),
                }
            }
        }
    }

    proptest! {
        #[test]
        fn it_is_written_as_the_whole(
            len in 1usize..9000, sectors in 1usize..5, writes in prop::collection::vec((0usize..9000, 0usize..9000, any::<bool>()), 8)
        ) {
            let mut bytes = noise(len);
            let (dir, first) = split(&bytes, sectors * 512);
            let drive = SplitFile::open_for_writing(&first).unwrap();
            for (at, count, zero) in writes {
                let new = vec![if zero { 0 } else { at as u8 | 1 }; count];
                let done = if zero { drive.write_zero(at as u64, count as u64) } else { drive.write_at(at as u64, &new) };
                match bytes.get_mut(at..at + count) {
                    Some(place) => {
                        prop_assert!(done.is_ok());
                        place.copy_from_slice(&new);
                    }
                    None => prop_assert!(done.is_err()),
                }
            }
            // To be on the disk takes long while others write to it, and what is there to be read is the same.
            if len.is_multiple_of(8) {
                drive.flush().unwrap();
            }
            let pieces = len.div_ceil(sectors * 512);
            let there: Vec<u8> = (1..=pieces).flat_map(|number| fs::read(dir.path().join(format!("weir.{number:03}"))).unwrap()).collect();
            prop_assert_eq!(there, bytes);
            prop_assert_eq!(fs::read_dir(dir.path()).unwrap().count(), pieces);
        }
    }

    #[test]
    fn holes_go_on_from_piece_to_piece() {
        let (dir, first) = split(&noise(8192), 4096);
        for number in 3..=4 {
            fs::File::create(dir.path().join(format!("weir.{number:03}"))).unwrap().set_len(4096).unwrap();
        }
        let drive = SplitFile::open(&first).unwrap();
        assert_eq!((drive.zero_run(8192, u64::MAX), drive.zero_run(12000, 100), drive.zero_run(0, 99)), (8192, 100, 0));
    }

    #[rstest]
    #[case::one_is_missing("weir.002", None, "weir.002")]
    #[case::one_is_short("weir.002", Some(512), "piece 2")]
    #[case::the_last_is_long("weir.003", Some(8192), "piece 3")]
    #[case::one_is_empty("weir.002", Some(0), "weir.002")]
    fn pieces_that_do_not_belong_together_are_named(#[case] name: &str, #[case] len: Option<usize>, #[case] named: &str) {
        let (dir, first) = split(&noise(10000), 4096);
        let path = dir.path().join(name);
        match len {
            Some(len) => fs::write(path, noise(len)).unwrap(),
            None => fs::remove_file(path).unwrap(),
        }
        let refusal = Workshop::default().source(&first).err().unwrap();
        assert!(refusal.code == "not-readable" && refusal.text.contains(named), "{}", refusal.text);
    }

    /// No piece is a drive by itself, and none is written over, least of all by a clone of the whole.
    #[rstest]
    fn a_piece_is_not_taken_for_a_drive(#[values("weir.001", "weir.002", "weir.003")] name: &str) {
        let (dir, first) = split(&noise(10000), 4096);
        let (workshop, path) = (Workshop::default(), dir.path().join(name));
        let code = |path: &Path| workshop.candidate(path, None, 512).map_or_else(|refusal| refusal.code, |_| "whole");
        let wanted = if name == "weir.001" { "whole" } else { "part-of-split" };
        assert_eq!((code(&path), workshop.source(&path).is_ok()), (wanted, name == "weir.001"));
        let link = dir.path().join("link.img");
        std::os::unix::fs::symlink(&path, &link).unwrap();
        assert_eq!(code(&link), wanted);
        assert_eq!(workshop.source(&link).map(|drive| drive.geometry().size_bytes).ok(), (name == "weir.001").then_some(10000));
        let next = workshop.candidate(&dir.path().join("weir.004"), Some(4096), 512);
        assert_eq!(next.err().unwrap().code, "part-of-split");
        let whole = workshop.source(&first).unwrap();
        assert!(whole.ground().touches(&workshop.ground_of(&path)), "{name}");
    }

    #[rstest]
    fn a_change_of_any_piece_shows(#[values("weir.001", "weir.002", "weir.003")] name: &str) {
        let (dir, first) = split(&noise(10000), 4096);
        let drive = SplitFile::open(&first).unwrap();
        let before = drive.standing();
        // Times of the system go on in steps.
        std::thread::sleep(std::time::Duration::from_millis(20));
        fs::set_permissions(dir.path().join(name), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
        assert_ne!(drive.standing(), before);
    }

    #[test]
    fn a_file_that_stands_alone_is_a_drive() {
        let (dir, first) = split(&noise(4096), 4096);
        fs::write(dir.path().join("other.002"), noise(512)).unwrap();
        let workshop = Workshop::default();
        assert!(workshop.source(&first).is_ok() && workshop.source(&dir.path().join("other.002")).is_ok());
        assert!(workshop.candidate(&first, None, 512).is_ok());
    }
}
