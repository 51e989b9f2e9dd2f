//! Packing and locking of payloads.
//!
//! Keys come from a passphrase by Argon2id (RFC 9106); payloads are locked with XChaCha20-Poly1305 (RFC 8439, with the longer nonce of
//! `draft-irtf-cfrg-xchacha`), each with a nonce of its own out of the system's random bytes. What stands in front of a payload is
//! proved with it.

use super::record::{HEADER, Header};
use crate::layer::{Result, Wrong};
use argon2::{Algorithm, Argon2, Params, Version};
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use zstd::bulk::{Compressor, Decompressor};

/// Bytes of a nonce, which stands in front of what is locked.
const NONCE: usize = 24;
/// Bytes of the proof behind it.
const TAG: usize = 16;
/// What Argon2id may be told to take at the most by an image: 1 GiB, and 2 GiB over all passes, which is some seconds.
const MOST_MEMORY: u32 = 1 << 20;
const MOST_WORK: u64 = 2 << 20;

/// What opens a locked image.
#[derive(Clone)]
pub struct Passphrase(String);

impl Passphrase {
    /// As somebody typed it; line ends behind it do not belong to it.
    pub fn new(text: &str) -> Self {
        Self(text.trim_end_matches(['\n', '\r']).to_string())
    }
}

/// How an image is locked, as its head says it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Lock {
    /// Always `argon2id`.
    pub kdf: String,
    /// KiB of memory, passes, lanes.
    pub memory_kib: u32,
    pub passes: u32,
    pub lanes: u32,
    /// 16 bytes, hexadecimal.
    pub salt: String,
    /// Tells whether a passphrase is the right one: 16 bytes, hexadecimal.
    pub check: String,
}

/// The keys of an image.
#[derive(Clone)]
pub(super) struct Keys {
    cipher: XChaCha20Poly1305,
    hash: [u8; 32],
    /// The BLAKE3 of the head, which is not locked: each locked record is proved together with it.
    head: [u8; 32],
}

impl Keys {
    /// The same for an image with this head.
    pub fn bound_to(self, head: &[u8]) -> Self {
        Self { head: *blake3::hash(head).as_bytes(), ..self }
    }

    /// What a locked payload is proved together with.
    fn front(&self, header: &Header) -> Vec<u8> {
        [&header.encode()[..HEADER - 4], &self.head].concat()
    }
}

/// Random bytes of the system.
pub(super) fn random<const N: usize>() -> Result<[u8; N]> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|error| Wrong::new(format!("the system gives no random bytes: {error}")))?;
    Ok(bytes)
}

impl Lock {
    /// A new lock, and its keys.
    pub fn new(passphrase: &Passphrase) -> Result<(Self, Keys)> {
        let salt = random::<16>()?;
        let mut lock = Self { kdf: "argon2id".into(), memory_kib: 64 << 10, passes: 3, lanes: 1, salt: hex::encode(salt), check: String::new() };
        let (keys, check) = lock.derive(passphrase)?;
        lock.check = check;
        Ok((lock, keys))
    }

    /// The keys by a passphrase.
    pub fn open(&self, passphrase: &Passphrase, head: &[u8]) -> Result<Keys> {
        let (keys, check) = self.derive(passphrase)?;
        if check != self.check {
            return Err(Wrong::new("the passphrase is not the right one"));
        }
        Ok(keys.bound_to(head))
    }

    fn derive(&self, passphrase: &Passphrase) -> Result<(Keys, String)> {
        let odd = || Wrong::new("how it is locked is not known");
        if self.kdf != "argon2id"
            || self.memory_kib > MOST_MEMORY
            || self.lanes > 16
            || u64::from(self.memory_kib) * u64::from(self.passes) > MOST_WORK
        {
            return Err(odd());
        }
        let params = Params::new(self.memory_kib, self.passes, self.lanes, Some(80)).map_err(|_| odd())?;
        let salt = hex::decode(&self.salt).map_err(|_| odd())?;
        let mut out = [0; 80];
        Argon2::new(Algorithm::Argon2id, Version::V0x13, params).hash_password_into(passphrase.0.as_bytes(), &salt, &mut out).map_err(|_| odd())?;
        let cipher = XChaCha20Poly1305::new_from_slice(&out[..32]).map_err(|_| odd())?;
        let hash = out[32..64].try_into().map_err(|_| odd())?;
        Ok((Keys { cipher, hash, head: [0; 32] }, hex::encode(&out[64..])))
    }
}

/// The hash of a payload; with a key, so that a locked image does not tell what it holds.
pub(super) fn hash(keys: Option<&Keys>, bytes: &[u8]) -> [u8; 32] {
    let hash = keys.map_or_else(|| blake3::hash(bytes), |keys| blake3::keyed_hash(&keys.hash, bytes));
    *hash.as_bytes()
}

/// A payload as it is written, and what stands in front of it. `level` is that of Zstandard; 0 leaves it as it is.
pub(super) fn seal(keys: Option<&Keys>, header: Header, bytes: &[u8], level: i32) -> Result<(Header, Vec<u8>)> {
    let packed = (level != 0).then(|| packed(bytes, level)).flatten().filter(|packed| packed.len() + packed.len() / 32 < bytes.len());
    let whole = u32::try_from(bytes.len()).map_err(|_| Wrong::new("a payload is too long"))?;
    let mut header = Header { packed: packed.is_some(), locked: keys.is_some(), whole, ..header };
    let plain = packed.unwrap_or_else(|| bytes.to_vec());
    let Some(keys) = keys else {
        header.len = plain.len() as u32;
        return Ok((header, plain));
    };
    header.len = (NONCE + plain.len() + TAG) as u32;
    let nonce = random::<NONCE>()?;
    let (front, mut out) = (keys.front(&header), nonce.to_vec());
    let payload = Payload { msg: &plain, aad: &front };
    out.extend(keys.cipher.encrypt(XNonce::from_slice(&nonce), payload).map_err(|_| Wrong::new("a payload could not be locked"))?);
    Ok((header, out))
}

thread_local! {
    /// What packs and unpacks in this thread, and room for what it unpacks: making it anew costs as much as a chunk.
    static PACKER: RefCell<Option<(i32, Compressor<'static>)>> = const { RefCell::new(None) };
    static UNPACKER: RefCell<(Option<Decompressor<'static>>, Vec<u8>)> = RefCell::new((Decompressor::new().ok(), Vec::new()));
}

fn packed(bytes: &[u8], level: i32) -> Option<Vec<u8>> {
    PACKER.with_borrow_mut(|held| {
        if held.as_ref().is_none_or(|(of, _)| *of != level) {
            *held = Some((level, Compressor::new(level).ok()?));
        }
        held.as_mut()?.1.compress(bytes).ok()
    })
}

/// What was packed, where it has just so many bytes at the most.
fn unpacked(bytes: &[u8], whole: usize) -> Option<Vec<u8>> {
    UNPACKER.with_borrow_mut(|(unpacker, _)| unpacker.as_mut()?.decompress(bytes, whole).ok())
}

/// Fills `out` with a payload that is not locked; `read` fills a buffer with it as it stands there.
pub(super) fn open_into(header: &Header, read: &dyn Fn(&mut [u8]) -> Result<()>, out: &mut [u8]) -> Result<()> {
    let broken = || Wrong::new("is damaged");
    if header.packed {
        UNPACKER.with_borrow_mut(|(unpacker, stored)| {
            stored.resize(header.len as usize, 0);
            read(stored)?;
            let got = unpacker.as_mut().and_then(|unpacker| unpacker.decompress_to_buffer(stored, out).ok());
            got.filter(|got| *got == out.len()).map(|_| ()).ok_or_else(broken)
        })?;
    } else if header.len as usize == out.len() {
        read(out)?;
    } else {
        return Err(broken());
    }
    if hash(None, out) == header.hash { Ok(()) } else { Err(broken()) }
}

/// The bytes of a payload, compared with their hash.
pub(super) fn unseal(keys: Option<&Keys>, header: &Header, stored: Vec<u8>) -> Result<Vec<u8>> {
    let broken = || Wrong::new("is damaged");
    let plain = if header.locked {
        let keys = keys.ok_or_else(|| Wrong::new("is locked, and no passphrase was given"))?;
        let (nonce, locked) = stored.split_at_checked(NONCE).ok_or_else(broken)?;
        let front = keys.front(header);
        let payload = Payload { msg: locked, aad: &front };
        keys.cipher.decrypt(XNonce::from_slice(nonce), payload).map_err(|_| broken())?
    } else if keys.is_some() {
        // Somebody put it there who has no key.
        return Err(broken());
    } else {
        stored
    };
    let bytes = if header.packed { unpacked(&plain, header.whole as usize).ok_or_else(broken)? } else { plain };
    if bytes.len() != header.whole as usize || hash(keys, &bytes) != header.hash {
        return Err(broken());
    }
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Whoever opens an image waits some seconds at the most, whatever its head asks for.
    #[rstest]
    #[case::ours(64 << 10, 3, true)]
    #[case::much_memory_once(1 << 20, 1, true)]
    #[case::too_much_memory((1 << 20) + 1, 1, false)]
    #[case::much_memory_often(1 << 20, 3, false)]
    #[case::little_memory_for_ever(8, u32::MAX, false)]
    fn what_an_image_asks_for_has_an_end(#[case] memory_kib: u32, #[case] passes: u32, #[case] is_derived: bool) {
        let lock = Lock { kdf: "argon2id".into(), memory_kib, passes, lanes: 1, salt: "00".repeat(16), check: String::new() };
        assert_eq!(lock.derive(&Passphrase::new("three grey herons")).is_ok(), is_derived);
    }
}
