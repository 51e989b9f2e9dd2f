//! A damaged image as a drive, with what is damaged taken from elsewhere: only where it is proved by the hash in the image's map.

use super::entry::Entry;
use super::read::Image;
use super::{CHUNK, Passphrase, crypt};
use badger_drive::{Geometry, Identity, Medium, ReadError, Source, Standing, Stretch};
use std::collections::BTreeMap;
use std::fs::File;
use std::path::Path;
use std::sync::Mutex;

/// What became of chunks that were damaged, by their first byte on the drive.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Account {
    /// Taken from elsewhere, and equal by their hash: which of those that were named gave them.
    pub mended: BTreeMap<u64, usize>,
    /// Still damaged, and why.
    pub left: BTreeMap<u64, String>,
}

/// An image, and drives or images that may hold what is damaged in it.
pub struct Mended {
    image: Image,
    from: Vec<Source>,
    account: Mutex<Account>,
}

impl Mended {
    /// Opens a damaged image. `from` are looked at in their order.
    ///
    /// # Errors
    /// It is too damaged to be opened at all.
    pub fn open(path: &Path, passphrase: Option<&Passphrase>, from: Vec<Source>) -> std::io::Result<Self> {
        Ok(Self { image: Image::open(path, passphrase)?, from, account: Mutex::default() })
    }

    /// What was mended so far, and what was not.
    pub fn account(&self) -> Account {
        self.account.lock().expect("account lock").clone()
    }

    /// The bytes of a chunk, from wherever they can be had.
    fn chunk(&self, number: u64) -> Result<Vec<u8>, String> {
        let at = number * CHUNK;
        let len = CHUNK.min(self.image.geometry().size_bytes.saturating_sub(at)) as usize;
        let entry = self.image.entry(number).map_err(|wrong| wrong.to_string())?;
        let Entry::Data(held) = entry else { return Ok(vec![0; len]) };
        let wrong = match self.image.chunk(&held) {
            Ok(bytes) if bytes.len() >= len => return Ok(bytes[..len].to_vec()),
            Ok(_) => "a chunk is short".to_string(),
            Err(wrong) => wrong.to_string(),
        };
        let mut bytes = vec![0; len];
        for (number, other) in self.from.iter().enumerate() {
            if at + len as u64 <= other.geometry().size_bytes
                && other.read_at(at, &mut bytes).is_ok()
                && crypt::hash(self.image.keys(), &bytes) == held.hash
            {
                self.account.lock().expect("account lock").mended.insert(at, number);
                return Ok(bytes);
            }
        }
        Err(wrong)
    }
}

impl Medium for Mended {
    fn geometry(&self) -> Geometry {
        self.image.geometry()
    }
    fn identity(&self) -> &Identity {
        self.image.identity()
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        let Err(error) = self.image.read_at(offset, buf) else { return Ok(()) };
        let ReadError::Unreadable { offset: mut at, .. } = error else { return Err(error) };
        let end = offset + buf.len() as u64;
        while at < end {
            // What could not be read from the drive then is no damage, unless the image was cut off: then it is not there.
            let lost = self.image.lost_from(at);
            let got = match &lost {
                Some(lost) if lost.start <= at && self.image.shown().whole => Err(("it was lost when the image was made".to_string(), false)),
                Some(lost) if lost.start <= at => Err(("it is not in the image, which was cut off".to_string(), true)),
                _ => self.chunk(at / CHUNK).map_err(|why| (why, true)),
            };
            let bytes = got.map_err(|(why, is_damage)| {
                if is_damage {
                    self.account.lock().expect("account lock").left.insert(at / CHUNK * CHUNK, why.clone());
                }
                ReadError::Unreadable { offset: at, len: end - at, why }
            })?;
            let inner = (at % CHUNK) as usize;
            let until = lost.map_or(end, |lost| lost.start.min(end));
            let here = (bytes.len().saturating_sub(inner) as u64).min(until - at) as usize;
            if here == 0 {
                return Err(ReadError::Unreadable { offset: at, len: end - at, why: "a chunk is short".into() });
            }
            buf[(at - offset) as usize..(at - offset) as usize + here].copy_from_slice(&bytes[inner..inner + here]);
            at += here as u64;
        }
        Ok(())
    }
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        self.image.stretch(offset, max)
    }
    fn remark(&self) -> Option<String> {
        self.image.remark()
    }
    fn standing(&self) -> Standing {
        self.image.standing()
    }
    fn rests_on(&self) -> Vec<&File> {
        self.image.rests_on().into_iter().chain(self.from.iter().flat_map(|other| other.rests_on())).collect()
    }
}
