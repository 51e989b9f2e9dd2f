//! Reparse points: what their tags mean, as Microsoft's "File System Control Codes" lists them. A file with one is seldom
//! what it looks like: a link, a device of another system, or a file whose content is kept elsewhere.

use crate::finding::Finding;
use crate::node::{Name, NodeKind};
use badger_drive::field::{le16, le32, le64};
use std::borrow::Cow;

/// Tags that others ask for as well.
pub const SYMBOLIC: u32 = 0xa000_000c;
pub const COMPRESSED: u32 = 0x8000_0017;
const JUNCTION: u32 = 0xa000_0003;
const UNIX_LINK: u32 = 0xa000_001d;
const NETWORK: u32 = 0x8000_0014;
/// Tags of files kept online have a number of their service in these bits.
const SERVICE: u32 = 0xf000;
/// Attributes of a file whose content its system would fetch: offline, on opening, on reading.
const AWAY: u32 = 0x1000 | 0x4_0000 | 0x40_0000;

/// Where the content of a file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Held {
    /// Here, as of any file.
    Here,
    /// Elsewhere as far as the file has holes: code, and why.
    Elsewhere(&'static str, &'static str),
}

/// What a reparse point makes of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Meaning {
    /// Link, device and the like; `None` where it stays what it is.
    pub kind: Option<NodeKind>,
    /// In words.
    pub what: Cow<'static, str>,
    held: Held,
}

/// Kinds in the data of the tag that network file systems use: the letters of a name, the last first.
fn network_kind(data: &[u8]) -> (NodeKind, &'static str) {
    match &le64(data, 0).to_le_bytes() {
        b"LNK\x01\0\0\0\0" => (NodeKind::Link, "symbolic link"),
        b"CHR\0\0\0\0\0" | b"BLK\0\0\0\0\0" => (NodeKind::Other, "device"),
        b"FIFO\0\0\0\0" => (NodeKind::Other, "pipe"),
        _ => (NodeKind::Other, "socket"),
    }
}

/// The meaning of a reparse point's bytes.
pub fn meaning(reparse: &[u8]) -> Meaning {
    let tag = le32(reparse, 0);
    let plain = |kind, what: &'static str| Meaning { kind, what: what.into(), held: Held::Here };
    let elsewhere = |what: &'static str, code, why| Meaning { kind: None, what: what.into(), held: Held::Elsewhere(code, why) };
    match tag {
        SYMBOLIC | UNIX_LINK => plain(Some(NodeKind::Link), "symbolic link"),
        JUNCTION => plain(Some(NodeKind::Link), "junction"),
        NETWORK => {
            let (kind, what) = network_kind(reparse.get(8..).unwrap_or_default());
            plain(Some(kind), what)
        }
        0x8000_0023 => plain(Some(NodeKind::Other), "socket"),
        0x8000_0024 => plain(Some(NodeKind::Other), "pipe"),
        0x8000_0025 | 0x8000_0026 => plain(Some(NodeKind::Other), "device"),
        0x8000_001b => plain(Some(NodeKind::Other), "alias of an app"),
        COMPRESSED => plain(None, "compressed by its system"),
        0x8000_0013 => {
            elsewhere("deduplicated", "ntfs-deduplicated", "its content lies in the volume's store of shared pieces, which only its own system reads")
        }
        0x8000_0007 => {
            elsewhere("shared", "ntfs-deduplicated", "its content lies in the volume's store of single files, which only its own system reads")
        }
        0x8000_0008 => elsewhere("kept in an image", "ntfs-elsewhere", "its content lies in an image of the system, not in the file"),
        0xc000_0004 | 0x8000_0006 => elsewhere("moved to other storage", "ntfs-elsewhere", "its content was moved to other storage"),
        0x8000_0015 | 0x8000_0021 => elsewhere("kept online", "ntfs-online", "its content, or a part of it, is not on this drive"),
        _ if tag & !SERVICE == 0x9000_001a => elsewhere("kept online", "ntfs-online", "its content, or a part of it, is not on this drive"),
        0x8000_001e | 0x9000_0027 => elsewhere("kept on a server", "ntfs-online", "its content, or a part of it, is not on this drive"),
        0x9000_001c => elsewhere("placeholder", "ntfs-elsewhere", "another program makes its content when it is read"),
        0x8000_0018 | 0x9000_1018 | 0xa000_0027 | 0xa000_1027 => {
            elsewhere("part of a container", "ntfs-elsewhere", "its content lies in the layer below a container")
        }
        _ => Meaning {
            kind: None,
            what: format!("special (tag {tag:#010x})").into(),
            held: Held::Elsewhere("ntfs-special", "a reparse point that is not known says where its content is"),
        },
    }
}

impl Meaning {
    /// Why the content is not here: by the holes and the length of the stored stream, and the file's attributes.
    pub fn missing(&self, has_holes: bool, size: u64, flags: u32) -> Option<Finding> {
        match self.held {
            // Of what is not known an empty stream tells nothing.
            Held::Elsewhere(code, why) if has_holes || flags & AWAY != 0 || size == 0 && code == "ntfs-special" => {
                Some(Finding::new(code, format!("{}: {why}", self.what)))
            }
            _ => None,
        }
    }
}

/// Where a link leads; `None` where its bytes are damaged, or it is none.
pub fn target(reparse: &[u8]) -> Option<Name> {
    let units = |bytes: &[u8]| bytes.chunks_exact(2).map(|unit| le16(unit, 0)).collect::<Vec<_>>();
    let end = 8 + usize::from(le16(reparse, 4));
    match le32(reparse, 0) {
        // Version 2, then the target as UTF-8.
        UNIX_LINK if le32(reparse, 8) == 2 => Some(Name::from_bytes(reparse.get(12..end)?)),
        NETWORK => Some(Name::from_units(&units(reparse.get(16..end)?))),
        tag @ (SYMBOLIC | JUNCTION) => {
            let buffer = if tag == SYMBOLIC { 20 } else { 16 };
            let name = |at: usize| {
                let (start, len) = (buffer + usize::from(le16(reparse, at)), usize::from(le16(reparse, at + 2)));
                reparse.get(start..start + len).filter(|name| !name.is_empty()).map(|name| Name::from_units(&units(name)))
            };
            // The name for people first.
            name(12).or_else(|| name(8))
        }
        _ => None,
    }
}
