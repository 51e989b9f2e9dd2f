//! Names that a destination cannot hold, changed so that the change can be taken back.
//!
//! A changed name has every byte that cannot stay written as `%` and two hex digits, the percent sign itself among them.
//! A name that is too long is cut and ends in `%~` and eight hex digits of a hash of the whole.

use std::borrow::Cow;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// What a destination can hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Holds {
    /// Any bytes but a slash, 255 of them.
    Bytes,
    /// What FAT, exFAT and NTFS volumes and shares take: Unicode, 255 units, some signs and names left out.
    Units,
}

const LONGEST: usize = 255;
/// Names that mean devices to some systems, whatever follows behind a dot.
const DEVICES: [&str; 4] = ["CON", "PRN", "AUX", "NUL"];

fn is_device(name: &[u8]) -> bool {
    let stem = name.split(|byte| *byte == b'.').next().unwrap_or_default().to_ascii_uppercase();
    let numbered = stem.len() == 4 && (stem.starts_with(b"COM") || stem.starts_with(b"LPT")) && (b'1'..=b'9').contains(&stem[3]);
    numbered || DEVICES.iter().any(|device| device.as_bytes() == stem)
}

fn length(name: &[u8], holds: Holds) -> usize {
    match holds {
        Holds::Bytes => name.len(),
        Holds::Units => String::from_utf8_lossy(name).encode_utf16().count(),
    }
}

/// The name as the destination can hold it; borrowed where nothing must change.
pub fn held(name: &[u8], holds: Holds) -> Cow<'_, [u8]> {
    let dots = name.iter().all(|byte| *byte == b'.') && name.len() <= 2;
    let text = std::str::from_utf8(name);
    let bad = |byte: u8| byte == 0 || byte == b'/' || holds == Holds::Units && (byte < 0x20 || byte == 0x7f || b"\"*:<>?\\|".contains(&byte));
    let device = holds == Holds::Units && is_device(name);
    let ends = holds == Holds::Units && matches!(name.last(), Some(b'.' | b' '));
    let foreign = holds == Holds::Units && text.is_err();
    if !(name.is_empty() || dots || device || ends || foreign || name.iter().any(|byte| bad(*byte)) || length(name, holds) > LONGEST) {
        return Cow::Borrowed(name);
    }
    let mut out = Vec::with_capacity(name.len() + 8);
    let last = name.len().saturating_sub(1);
    for (at, &byte) in name.iter().enumerate() {
        let first = at == 0 && (dots || device);
        if bad(byte) || byte == b'%' || first || dots || at == last && ends || foreign && byte >= 0x80 {
            out.extend(format!("%{byte:02X}").into_bytes());
        } else {
            out.push(byte);
        }
    }
    if out.is_empty() {
        out.extend(b"%~empty");
    }
    if length(&out, holds) > LONGEST {
        let mark = format!("%~{}", &blake3::hash(name).to_hex()[..8]);
        // A short ending tells what kind of file it is; it stays.
        let end = out.iter().rposition(|byte| *byte == b'.').map(|at| out[at..].to_vec()).filter(|end| end.len() <= 12).unwrap_or_default();
        while length(&out, holds) > LONGEST - mark.len() - end.len() || std::str::from_utf8(&out).is_err() && text.is_ok() {
            out.pop();
        }
        out.extend(mark.into_bytes());
        out.extend(end);
    }
    Cow::Owned(out)
}

/// Takes the change of a name back; `None` where it was cut.
pub fn original(held: &[u8]) -> Option<Vec<u8>> {
    let (mut out, mut at) = (Vec::with_capacity(held.len()), 0);
    while at < held.len() {
        if held[at] != b'%' {
            out.push(held[at]);
            at += 1;
            continue;
        }
        let digits = held.get(at + 1..at + 3)?;
        out.push(u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()?);
        at += 3;
    }
    Some(out)
}

/// The name with a number before its ending: `sheet (2).csv`.
pub fn numbered(name: &[u8], number: u32, holds: Holds) -> Vec<u8> {
    let dot = name.iter().rposition(|byte| *byte == b'.').filter(|at| *at > 0).unwrap_or(name.len());
    let mark = format!(" ({number})");
    let (mut stem, end) = (name[..dot].to_vec(), &name[dot..]);
    while !stem.is_empty() && length(&stem, holds) + mark.len() + length(end, holds) > LONGEST {
        stem.pop();
        while std::str::from_utf8(&stem).is_err() && std::str::from_utf8(name).is_ok() {
            stem.pop();
        }
    }
    [&stem, mark.as_bytes(), end].concat()
}

/// The path whose last name has a number; with 1 it is the path itself.
pub fn numbered_path(path: &Path, number: u32, holds: Holds) -> PathBuf {
    let name = path.file_name().unwrap_or_default().as_bytes();
    if number == 1 { path.to_path_buf() } else { path.with_file_name(OsStr::from_bytes(&numbered(name, number, holds))) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"sheet.csv", "sheet.csv", Holds::Units)]
    #[case(b"100 %.txt", "100 %.txt", Holds::Units)]
    #[case(b"what?.txt", "what%3F.txt", Holds::Units)]
    #[case(b"what?.txt", "what?.txt", Holds::Bytes)]
    #[case(b"5 % of: all.txt", "5 %25 of%3A all.txt", Holds::Units)]
    #[case(b"..", "%2E%2E", Holds::Bytes)]
    #[case(b".", "%2E", Holds::Units)]
    #[case(b"a/b", "a%2Fb", Holds::Bytes)]
    #[case(b"nul.txt", "%6Eul.txt", Holds::Units)]
    #[case(b"ends.", "ends%2E", Holds::Units)]
    #[case(b"latin \xe9", "latin %E9", Holds::Units)]
    fn names_change_only_where_they_must(#[case] name: &[u8], #[case] wanted: &str, #[case] holds: Holds) {
        assert_eq!(String::from_utf8_lossy(&held(name, holds)), wanted);
    }

    #[test]
    fn long_names_are_cut_and_stay_apart() {
        let (a, b) = ("ü".repeat(200) + "a.wav", "ü".repeat(200) + "b.wav");
        let (a, b) = (held(a.as_bytes(), Holds::Bytes).into_owned(), held(b.as_bytes(), Holds::Bytes).into_owned());
        assert!(a != b && a.len() <= 255 && a.ends_with(b".wav") && std::str::from_utf8(&a).is_ok());
    }

    proptest! {
        #[test]
        fn every_change_can_be_taken_back(name in prop::collection::vec(any::<u8>(), 1..80), units in any::<bool>()) {
            let holds = if units { Holds::Units } else { Holds::Bytes };
            let changed = held(&name, holds);
            prop_assert!(length(&changed, holds) <= 255 && !changed.contains(&b'/') && !changed.contains(&0));
            prop_assert!(&*changed != b"." && &*changed != b"..");
            if let Cow::Owned(changed) = changed {
                prop_assert_eq!(original(&changed), Some(name));
            }
        }
    }
}
