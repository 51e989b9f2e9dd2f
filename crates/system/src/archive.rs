//! The initial RAM file system of a Linux system: archives of the kind `newc`, one behind the other, each plain or packed (Linux:
//! `Documentation/driver-api/early-userspace/buffer-format.rst`).

use crate::elf::Elf;
use crate::xz;
use badger_drive::field::le32;
use std::collections::{HashMap, HashSet};
use std::fmt::{self, Display, Formatter};
use std::io::Read;
use std::panic::{AssertUnwindSafe, catch_unwind};

/// Unpacked it has so many bytes at the most.
const MOST: u64 = 512 << 20;
/// A block of LZ4 has so many bytes at the most, unpacked.
const BLOCK: usize = 8 << 20;
/// The same of one that is packed with xz, whose unpacker holds all of it twice.
const MOST_XZ: u64 = 256 << 20;
/// Parts that are packed for themselves at the most: loaders hand over a handful.
const MOST_PARTS: usize = 64;
/// Files at the most, bytes of one name, and of all of them.
const MOST_FILES: usize = 200_000;
const MOST_NAME: usize = 4096;
const MOST_NAMES: usize = 64 << 20;
/// The list of modules that are taken by name, and its bytes at the most.
pub(crate) const LIST: &str = "conf/modules";
const MOST_LIST: usize = 64 << 10;

/// Why it was not gone through to its end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wrong {
    /// It is damaged or cut off.
    Damaged(String),
    /// It has more of this than is gone through here: whether it is whole is not known.
    Beyond(&'static str),
}

impl Display for Wrong {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Self::Damaged(why) => f.write_str(why),
            Self::Beyond(what) => write!(f, "it has more {what} than are gone through here: whether it is whole is not known"),
        }
    }
}

impl<T: Into<String>> From<T> for Wrong {
    fn from(why: T) -> Self {
        Self::Damaged(why.into())
    }
}

const BYTES: Wrong = Wrong::Beyond("bytes, unpacked,");

/// What a member is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Member {
    /// A file.
    File(Box<Content>),
    /// A symbolic link, with its target.
    Link(String),
    /// A directory, a device or the like.
    Other,
}

/// What is known of a file's content.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Content {
    /// Whether anybody may execute it.
    pub is_executable: bool,
    /// Bytes.
    pub size: u64,
    /// The program that a script names in its first line, `#!`.
    pub interpreter: String,
    /// What a program, library or module says of itself; why it is none.
    pub elf: Option<Result<Elf, String>>,
}

impl Member {
    /// Bytes of what is kept of it beside its name.
    fn named(&self) -> usize {
        match self {
            Self::File(content) => content.interpreter.len() + content.elf.as_ref().and_then(|elf| elf.as_ref().ok()).map_or(0, Elf::named),
            Self::Link(to) => to.len(),
            Self::Other => 0,
        }
    }
}

/// A first line that is longer names no interpreter.
const MOST_LINE: usize = 256;

/// The interpreter in a script's first line; empty where it is no script.
pub(crate) fn interpreter(bytes: &[u8]) -> String {
    let line = &bytes[..bytes.len().min(MOST_LINE)];
    let line = line.strip_prefix(b"#!").and_then(|rest| rest.split(|byte| *byte == b'\n').next()).unwrap_or_default();
    String::from_utf8_lossy(line).split_whitespace().next().unwrap_or_default().to_string()
}

impl Content {
    /// Of a file's whole bytes: only what starts a system is parsed, by its name and mode.
    fn of(name: &str, mode: u32, bytes: &[u8]) -> Self {
        let is_executable = mode & 0o111 != 0;
        let base = name.rsplit('/').next().unwrap_or_default();
        let is_library = base.contains(".so") || base.starts_with("ld-");
        let is_module = module(name).is_some();
        let elf = match bytes {
            _ if is_module && base.ends_with(".ko") => Some(Elf::read(bytes)),
            [] if is_library || is_module => Some(Err("it is empty".into())),
            _ if bytes.starts_with(b"\x7fELF") => Some(Elf::read(bytes)),
            _ if is_library => Some(Err("it is no library".into())),
            _ => None,
        };
        Self { is_executable, size: bytes.len() as u64, interpreter: interpreter(bytes), elf }
    }
}

/// What is in it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Archive {
    /// Names of everything in it.
    pub names: Vec<String>,
    /// Its members by their names without a slash in front; of several of one name the last counts.
    pub(crate) members: HashMap<String, Member>,
    /// Bytes unpacked.
    pub bytes: u64,
    /// How it is packed, as far as that is known here.
    pub packed: Vec<&'static str>,
    /// What is packed in a way that is not read here, so that its names are not known.
    pub unread: Option<&'static str>,
    /// Bytes of the names.
    named: usize,
    /// Its list of modules that are taken by name, where it has one; of several the last counts.
    pub list: Option<Vec<u8>>,
}

fn hexadecimal(bytes: &[u8]) -> Option<u64> {
    u64::from_str_radix(std::str::from_utf8(bytes).ok()?, 16).ok()
}

/// Gathers the names in a plain part; where it ends.
fn plain(bytes: &[u8], mut at: usize, out: &mut Archive) -> Result<usize, Wrong> {
    let mut linked: Vec<((u64, u64), String)> = Vec::new();
    loop {
        let head = bytes.get(at..at + 110).ok_or("it is cut off")?;
        if !head.starts_with(b"07070") {
            return Err(format!("it is damaged at byte {at} of its archive").into());
        }
        let began = at;
        let number = |from: usize| hexadecimal(&head[from..from + 8]).ok_or_else(|| format!("it is damaged at byte {began} of its archive"));
        let (len, name_len) = (number(54)? as usize, number(94)? as usize);
        if name_len > MOST_NAME {
            return Err(format!("it is damaged at byte {at} of its archive").into());
        }
        let name = bytes.get(at + 110..(at + 110).saturating_add(name_len)).ok_or("it is cut off")?;
        let name = String::from_utf8_lossy(name.strip_suffix(&[0]).unwrap_or(name)).into_owned();
        at = (at + 110 + name_len).next_multiple_of(4);
        let end = at.checked_add(len).filter(|end| *end <= bytes.len()).ok_or("it is cut off")?;
        if name.trim_start_matches("./") == LIST {
            out.list = (len <= MOST_LIST).then(|| bytes[at..end].to_vec());
        }
        let inner = &bytes[at..end];
        at = end.next_multiple_of(4);
        if name == "TRAILER!!!" {
            return Ok(at.min(bytes.len()));
        }
        out.named += name.len();
        if out.names.len() == MOST_FILES || out.named > MOST_NAMES {
            return Err(Wrong::Beyond("files"));
        }
        let mode = number(14)? as u32;
        let member = match mode & 0o170_000 {
            0o100_000 => Member::File(Box::new(Content::of(&name, mode, inner))),
            0o120_000 => Member::Link(String::from_utf8_lossy(&inner[..inner.len().min(MOST_NAME)]).into_owned()),
            _ => Member::Other,
        };
        let plain = name.trim_start_matches("./").trim_start_matches('/').to_string();
        // Several names of one file stand behind each other, and the last has the bytes.
        let id = (number(6)?, number(38)?);
        if id.1 > 1 && matches!(member, Member::File(_)) {
            if linked.last().is_some_and(|(other, _)| *other != id) {
                linked.clear();
            }
            linked.push((id, plain.clone()));
            if len > 0 {
                out.named += linked.len() * member.named();
                if out.named > MOST_NAMES {
                    return Err(Wrong::Beyond("names"));
                }
                out.members.extend(linked.drain(..).map(|(_, other)| (other, member.clone())));
            }
        }
        // What is kept of each counts as its name does.
        out.named += member.named();
        if out.named > MOST_NAMES {
            return Err(Wrong::Beyond("names"));
        }
        out.members.insert(plain, member);
        out.names.push(name);
    }
}

/// Unpacks blocks of LZ4 as the kernel takes them, each behind its length; where they end.
fn blocks(bytes: &[u8], most: u64, out: &mut Vec<u8>) -> std::io::Result<usize> {
    let (mut at, mut block) = (4, vec![0; BLOCK]);
    while let Some(head) = bytes.get(at..at + 4) {
        let len = le32(head, 0) as usize;
        // Nothing says where they end: behind the last one come zeroes, or the end.
        if len == 0 {
            break;
        }
        let packed = bytes.get(at + 4..(at + 4).saturating_add(len)).ok_or_else(|| std::io::Error::other("it is cut off"))?;
        let long = lz4_flex::block::decompress_into(packed, &mut block).map_err(std::io::Error::other)?;
        if (out.len() + long) as u64 >= most {
            return Err(std::io::ErrorKind::FileTooLarge.into());
        }
        out.extend_from_slice(&block[..long]);
        at += 4 + len;
    }
    Ok(at.min(bytes.len()))
}

/// What is packed in front of a rest, unpacked, with the bytes that are left behind it; `None` where it is packed in a way that is not read.
fn unpack(rest: &[u8], at: usize, out: &mut Archive) -> Result<Option<(Vec<u8>, usize)>, Wrong> {
    let mut unpacked = Vec::new();
    // One budget for all parts.
    let most = MOST.saturating_sub(out.bytes);
    if out.packed.len() == MOST_PARTS {
        return Err(Wrong::Beyond("parts"));
    }
    let result = match rest {
        [0x28, 0xb5, 0x2f, 0xfd, ..] => {
            out.packed.push("Zstandard");
            zstd::stream::read::Decoder::with_buffer(rest).and_then(|decoder| {
                let mut decoder = decoder.single_frame().take(most);
                decoder.read_to_end(&mut unpacked)?;
                Ok(decoder.into_inner().finish().len())
            })
        }
        [0x1f, 0x8b, ..] => {
            out.packed.push("gzip");
            let mut decoder = flate2::bufread::GzDecoder::new(rest).take(most);
            decoder.read_to_end(&mut unpacked).map(|_| decoder.into_inner().into_inner().len())
        }
        [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => match xz::stream(rest) {
            Err(xz::Wrong::Unread) => {
                out.unread = Some("xz, in a way of its own");
                return Ok(None);
            }
            Err(xz::Wrong::Damaged(why)) => Err(std::io::Error::other(why)),
            Ok((_, long)) if long >= most.min(MOST_XZ) => return Err(BYTES),
            Ok((end, _)) => {
                out.packed.push("xz");
                let mut from = &rest[..end];
                // What stands there may be anything, and the unpacker is not ours.
                catch_unwind(AssertUnwindSafe(|| lzma_rs::xz_decompress(&mut from, &mut unpacked)))
                    .map_err(|_| std::io::Error::other("it is damaged"))
                    .and_then(|done| done.map_err(|error| std::io::Error::other(format!("{error:?}"))))
                    .map(|()| rest.len() - end)
            }
        },
        [0x02, 0x21, 0x4c, 0x18, ..] => {
            out.packed.push("LZ4");
            blocks(rest, most, &mut unpacked).map(|end| rest.len() - end)
        }
        [0x89, b'L', b'Z', b'O', ..] => {
            out.unread = Some("LZO");
            return Ok(None);
        }
        [b'B', b'Z', b'h', ..] => {
            out.unread = Some("bzip2");
            return Ok(None);
        }
        [0x5d, 0, 0, ..] => {
            out.unread = Some("LZMA");
            return Ok(None);
        }
        _ => return Err(format!("what stands at byte {at} is neither an archive nor packed").into()),
    };
    let left = result.map_err(|error| match error.kind() {
        std::io::ErrorKind::FileTooLarge => BYTES,
        _ => format!("it cannot be unpacked: {error}").into(),
    })?;
    Ok(Some((unpacked, left)))
}

/// Unpacks something that is packed as a whole; `None` where it is packed in a way that is not read here.
///
/// # Errors
/// Where it is damaged or cut off, or longer than is unpacked here.
pub(crate) fn unpacked(bytes: &[u8]) -> Result<Option<Vec<u8>>, Wrong> {
    Ok(unpack(bytes, 0, &mut Archive::default())?.map(|(unpacked, _)| unpacked))
}

/// Goes through all of it.
///
/// # Errors
/// Where it is damaged or cut off, or has more than is gone through here.
pub fn read(bytes: &[u8]) -> Result<Archive, Wrong> {
    let mut out = Archive::default();
    let mut at = 0;
    while at < bytes.len() {
        let rest = &bytes[at..];
        if rest[0] == 0 {
            at += rest.iter().position(|byte| *byte != 0).unwrap_or(rest.len());
            continue;
        }
        if rest.starts_with(b"07070") {
            at = plain(bytes, at, &mut out)?;
            out.bytes = at as u64;
            continue;
        }
        let Some((unpacked, left)) = unpack(rest, at, &mut out)? else { return Ok(out) };
        if out.bytes + unpacked.len() as u64 >= MOST {
            return Err(BYTES);
        }
        let mut inner = 0;
        while inner < unpacked.len() {
            if unpacked[inner] == 0 {
                inner += unpacked[inner..].iter().position(|byte| *byte != 0).unwrap_or(unpacked.len() - inner);
                continue;
            }
            inner = plain(&unpacked, inner, &mut out)?;
        }
        out.bytes += unpacked.len() as u64;
        at = bytes.len() - left;
    }
    if out.names.is_empty() {
        return Err("there is nothing in it".into());
    }
    Ok(out)
}

impl Archive {
    /// Names of the kernel's modules in it, without folder and ending.
    pub fn modules(&self) -> Vec<&str> {
        self.names.iter().filter_map(|name| module(name)).collect()
    }

    /// Lays another one behind it, as a loader hands over several.
    pub fn join(&mut self, next: Self) {
        self.names.extend(next.names);
        self.members.extend(next.members);
        self.bytes += next.bytes;
        self.packed.extend(next.packed);
        self.unread = self.unread.or(next.unread);
        self.list = next.list.or_else(|| self.list.take());
    }

    /// What a path leads to, links followed as the kernel follows them.
    pub(crate) fn member(&self, path: &str) -> Option<(String, &Member)> {
        let mut parts: Vec<String> = path.split('/').rev().map(str::to_string).collect();
        let (mut here, mut links) = (Vec::<String>::new(), 0);
        while let Some(part) = parts.pop() {
            match part.as_str() {
                "" | "." => continue,
                ".." => drop(here.pop()),
                _ => {
                    here.push(part);
                    let Some(Member::Link(to)) = self.members.get(&here.join("/")) else { continue };
                    links += 1;
                    if links > 32 || parts.len() > 512 {
                        return None;
                    }
                    if to.starts_with('/') {
                        here.clear();
                    } else {
                        here.pop();
                    }
                    parts.extend(to.split('/').rev().map(str::to_string));
                }
            }
        }
        let path = here.join("/");
        self.members.get(&path).map(|member| (path, member))
    }

    /// Whether there is somebody in it who waits for devices and takes their modules.
    pub fn waits(&self) -> bool {
        let who = ["udevd", "systemd-udevd", "udevadm", "mdev", "nlplug-findfs"];
        self.names.iter().any(|name| name.rsplit('/').next().is_some_and(|name| who.contains(&name)))
    }

    /// Those of its modules that it is known to take when it starts, if devices want them: all where somebody waits for devices,
    /// what is listed where nobody does. What a script of its own takes by name is not known.
    pub fn taken(&self) -> Vec<&str> {
        let mut modules = self.modules();
        if !self.waits() {
            let text = String::from_utf8_lossy(self.list.as_deref().unwrap_or_default());
            let listed: HashSet<String> = text.lines().filter_map(|line| line.split_whitespace().next()).map(plain_name).collect();
            modules.retain(|module| listed.contains(&plain_name(module)));
        }
        modules
    }
}

/// One name for a module, however it is written.
pub(crate) fn plain_name(name: &str) -> String {
    name.replace('-', "_")
}

/// The name of a module by its path.
pub(crate) fn module(path: &str) -> Option<&str> {
    let name = path.rsplit('/').next()?;
    let stem = name.split_once(".ko").filter(|(_, ending)| matches!(*ending, "" | ".xz" | ".zst" | ".gz"))?.0;
    (!stem.is_empty()).then_some(stem)
}
