//! Bytes of a drive that become others, each with what stood there before.

use crate::places::Place;
use badger_drive::Source;
use badger_fs::Content;

/// Bytes of the drive that become others.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Patch {
    /// First byte on the drive.
    pub at: u64,
    /// What stands there.
    #[serde(with = "hexadecimal")]
    pub old: Vec<u8>,
    /// What is to stand there.
    #[serde(with = "hexadecimal")]
    pub new: Vec<u8>,
}

/// One thing that can be set right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Repair {
    /// A short stable name.
    pub name: &'static str,
    /// What will be done.
    pub text: String,
    /// What that costs, where it costs something.
    pub consequence: Option<&'static str>,
    /// How.
    pub patches: Vec<Patch>,
}

mod hexadecimal {
    use serde::{Deserialize, Deserializer, Serializer};

    pub fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&hex::encode(bytes))
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        hex::decode(String::deserialize(from)?).map_err(serde::de::Error::custom)
    }
}

/// The drive's bytes at a place become others: a patch, or none where they are these already. `None` where they cannot be read.
pub(crate) fn on_drive(drive: &Source, at: u64, new: &[u8]) -> Option<Option<Patch>> {
    let size = u64::from(drive.geometry().logical_sector);
    let (from, to) = (at / size * size, (at + new.len() as u64).div_ceil(size) * size);
    let mut sectors = vec![0; (to - from) as usize];
    drive.read_at(from, &mut sectors).ok()?;
    let old = sectors[(at - from) as usize..(at - from) as usize + new.len()].to_vec();
    Some((old != new).then(|| Patch { at, old, new: new.to_vec() }))
}

/// The whole of a file becomes another of the same length: patches for the stretches that differ.
pub(crate) fn in_file_where_changed(drive: &Source, place: &Place, content: &Content, old: &[u8], new: &[u8]) -> Option<Vec<Patch>> {
    let mut out = Vec::new();
    for (number, (before, after)) in old.chunks(512).zip(new.chunks(512)).enumerate() {
        if before != after {
            out.extend(in_file(drive, place, content, number as u64 * 512, after)?);
        }
    }
    Some(out)
}

/// Bytes of a file become others, from `offset` on: patches of the drive, or `None` where the file does not lie on it as it is, or cannot be read
/// there: half of a name is never changed.
pub(crate) fn in_file(drive: &Source, place: &Place, content: &Content, offset: u64, new: &[u8]) -> Option<Vec<Patch>> {
    if content.is_packed() || content.is_bound() || offset.checked_add(new.len() as u64)? > content.size() {
        return None;
    }
    let (mut out, mut at, end) = (Vec::new(), 0u64, offset + new.len() as u64);
    let mut covered = 0;
    for piece in content.pieces() {
        let (from, to) = (offset.max(at), end.min(at + piece.len));
        if from < to {
            let place_of = place.start + piece.at? + (from - at);
            let part = &new[(from - offset) as usize..(to - offset) as usize];
            covered += to - from;
            out.extend(on_drive(drive, place_of, part)?);
        }
        at += piece.len;
    }
    (covered == new.len() as u64).then_some(out)
}
