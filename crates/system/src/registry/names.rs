//! Names of keys and values: one byte a character, or two; compared without regard to case.

/// One byte a character, as Latin 1.
pub(crate) fn narrow(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| char::from(*byte)).collect()
}

/// Two bytes a character; what is no text is shown as replacement characters.
pub(crate) fn wide(bytes: &[u8]) -> String {
    let units = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
    char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
}

/// A name as it is kept, and whether that is one byte a character.
pub(crate) fn kept(name: &str) -> (Vec<u8>, bool) {
    match name.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect() {
        Some(bytes) => (bytes, true),
        None => (name.encode_utf16().flat_map(u16::to_le_bytes).collect(), false),
    }
}

/// Upper case, a unit for a unit: what would become several stays.
pub(crate) fn upper(name: &str) -> String {
    name.chars()
        .map(|c| {
            let mut upper = c.to_uppercase();
            match (upper.next(), upper.next()) {
                (Some(one), None) => one,
                _ => c,
            }
        })
        .collect()
}

/// Whether two names are one.
pub fn is_same(a: &str, b: &str) -> bool {
    a == b || upper(a) == upper(b)
}

/// What lists of the kind `lh` note for a name.
pub(crate) fn hash(name: &str) -> u32 {
    upper(name).encode_utf16().fold(0u32, |hash, unit| hash.wrapping_mul(37).wrapping_add(u32::from(unit)))
}

/// What lists of the kind `lf` note for a name: its first four characters.
pub(crate) fn hint(name: &str) -> [u8; 4] {
    let mut out = [0; 4];
    for (to, c) in out.iter_mut().zip(name.chars()) {
        *to = u8::try_from(u32::from(c)).unwrap_or(0);
    }
    out
}
