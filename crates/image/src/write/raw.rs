//! Raw: the drive's bytes as they are, with holes where they are zero, in one file or in pieces `NAME.001`, `NAME.002` and so on.
//! Nothing in them says that they are whole: their lengths are set last, and shorter ones are no drive of that size.

use super::Sink;
use std::fs::{File, OpenOptions};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// Numbers of pieces have three digits.
const MOST: u64 = 999;

pub struct Writer {
    pieces: Vec<File>,
    /// Bytes of every piece but the last.
    step: u64,
    size: u64,
}

impl Writer {
    /// Over the first file, which is new; further pieces are made, and named in `made`.
    pub fn new(first: File, path: &Path, size: u64, split: Option<u64>, made: &mut Vec<PathBuf>) -> io::Result<Self> {
        let step = split.unwrap_or(size);
        let wrong = |text: &str| Err(io::Error::new(io::ErrorKind::InvalidInput, text));
        if split.is_some() && path.extension().is_none_or(|ending| ending != "001") {
            return wrong("a raw drive in pieces is named by its first one, NAME.001");
        }
        if step == 0 || split.is_some() && !step.is_multiple_of(512) {
            return wrong("pieces are a multiple of 512 bytes long");
        }
        let count = size.div_ceil(step);
        if count > MOST {
            return wrong("these would be more than 999 pieces: make them larger");
        }
        let mut pieces = vec![first];
        for number in 2..=count {
            let path = path.with_extension(format!("{number:03}"));
            pieces.push(OpenOptions::new().read(true).write(true).create_new(true).open(&path)?);
            made.push(path);
        }
        Ok(Self { pieces, step, size })
    }
}

impl Sink for Writer {
    fn block(&self) -> u64 {
        1 << 20
    }
    fn write_block(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
        let (mut at, mut rest) = (number << 20, bytes);
        while !rest.is_empty() {
            let (piece, inner) = ((at / self.step) as usize, at % self.step);
            let here = (self.step - inner).min(rest.len() as u64) as usize;
            let file = self.pieces.get(piece).ok_or(io::ErrorKind::UnexpectedEof)?;
            file.write_all_at(&rest[..here], inner)?;
            (at, rest) = (at + here as u64, &rest[here..]);
        }
        Ok(())
    }
    fn end(&mut self) -> io::Result<()> {
        for (file, start) in self.pieces.iter().zip((0..).map(|number| number * self.step)) {
            file.set_len(self.step.min(self.size - start))?;
            file.sync_all()?;
        }
        Ok(())
    }
}
