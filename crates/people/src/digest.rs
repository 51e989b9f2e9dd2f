//! Hashes over files: SHA-256 for the manifest, and a fast one that passes over zeroes, for the comparison.

use badger_drive::Control;
use rustix::fs::{Advice, SeekFrom};
use sha2::{Digest, Sha256};
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::sync::Mutex;

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

/// So many bytes of holes in a file are hashed for the manifest; a longer file has no line there.
const MOST_HOLES: u64 = 2 << 30;
/// Zeroes hashed before a stop is listened to again.
const HEAR: u64 = 4 << 20;

/// SHA-256 of a file for the manifest. Data must come in order; what lies between is zero.
#[derive(Default)]
pub(crate) struct Listed {
    sha256: Sha256,
    at: u64,
    holes: u64,
}

impl Listed {
    /// Takes in bytes at `offset`.
    ///
    /// # Errors
    /// A stop, which is also heard in a long hole.
    pub fn add(&mut self, offset: u64, bytes: &[u8], control: &Control) -> io::Result<()> {
        self.skip_to(offset, control)?;
        if self.holes <= MOST_HOLES {
            self.sha256.update(bytes);
        }
        self.at += bytes.len() as u64;
        Ok(())
    }

    fn skip_to(&mut self, offset: u64, control: &Control) -> io::Result<()> {
        static ZEROES: [u8; 1 << 16] = [0; 1 << 16];
        let mut left = offset.saturating_sub(self.at);
        self.holes += left;
        self.at += left;
        let mut unheard = 0;
        while left > 0 && self.holes <= MOST_HOLES {
            let len = left.min(ZEROES.len() as u64);
            self.sha256.update(&ZEROES[..len as usize]);
            left -= len;
            unheard += len;
            if unheard >= HEAR {
                unheard = 0;
                if control.is_stopped() {
                    return Err(io::ErrorKind::Interrupted.into());
                }
            }
        }
        Ok(())
    }

    /// The hash of a file of `size` bytes in lower-case hex; empty where hashing what is no more than holes would take hours.
    ///
    /// # Errors
    /// A stop.
    pub fn end(mut self, size: u64, control: &Control) -> io::Result<String> {
        self.skip_to(size, control)?;
        Ok(if self.holes <= MOST_HOLES { hex::encode(self.sha256.finalize()) } else { String::new() })
    }
}

/// Calls `each` with the data of a file as the medium has it, in order, with places; holes are passed over. One read at a time holds `turn`.
///
/// # Errors
/// The system, a stop, or what `each` returns.
pub(crate) fn each_data(
    file: &File,
    turn: &Mutex<()>,
    buffer: &mut [u8],
    control: &Control,
    each: &mut dyn FnMut(u64, &[u8]) -> io::Result<()>,
) -> io::Result<()> {
    // What the system still holds in memory proves nothing.
    let _ = rustix::fs::fadvise(file, 0, None, Advice::DontNeed);
    let mut at = 0;
    loop {
        if control.is_stopped() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        let held = turn.lock().expect("no reader panics");
        match rustix::fs::seek(file, SeekFrom::Data(at)) {
            Ok(data) => at = data,
            Err(rustix::io::Errno::NXIO) => return Ok(()),
            // A file system without holes is read from one end to the other.
            Err(_) => {}
        }
        let count = file.read_at(buffer, at)?;
        drop(held);
        if count == 0 {
            return Ok(());
        }
        each(at, &buffer[..count])?;
        at += count as u64;
    }
}

/// The fast hash of a file as the medium has it.
///
/// # Errors
/// The system, or a stop.
pub(crate) fn of_file(file: &File, control: &Control) -> io::Result<blake3::Hash> {
    let mut digest = Digest64::default();
    each_data(file, &Mutex::new(()), &mut vec![0; 1 << 20], control, &mut |at, bytes| {
        digest.add(at, bytes);
        Ok(())
    })?;
    Ok(digest.end())
}

#[cfg(test)]
mod tests {
    use super::*;
    use badger_drive::buffer::is_zero;
    use proptest::prelude::*;
    use sha2::{Digest, Sha256};

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
            prop_assert_eq!(whole.end(), of_file(&file, &Control::new()).unwrap());
        }

        #[test]
        fn holes_count_as_zeroes_in_the_manifest(pieces in prop::collection::vec((0u64..300_000, 1usize..9_000), 0..5)) {
            let (mut bytes, mut file) = (vec![0u8; 300_000], tempfile::tempfile().unwrap());
            for (at, len) in pieces {
                let end = (at as usize + len).min(bytes.len());
                bytes[at as usize..end].fill(7);
                io::Seek::seek(&mut file, io::SeekFrom::Start(at)).unwrap();
                io::Write::write_all(&mut file, &bytes[at as usize..end]).unwrap();
            }
            file.set_len(300_000).unwrap();
            let (mut listed, control) = (Listed::default(), Control::new());
            each_data(&file, &Mutex::new(()), &mut vec![0; 4096], &control, &mut |at, bytes| listed.add(at, bytes, &control)).unwrap();
            prop_assert_eq!(listed.end(300_000, &control).unwrap(), hex::encode(Sha256::digest(&bytes)));
        }
    }
}
