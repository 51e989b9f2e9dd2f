//! Globally unique identifiers as the UEFI specification stores them (Appendix A): the first three fields little
//! endian, the rest as bytes.

use std::fmt;

/// An identifier, kept in its on-disk byte order.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct Guid(pub [u8; 16]);

impl Guid {
    /// All zero: an unused entry.
    pub const ZERO: Self = Self([0; 16]);

    /// Reads the written form, `C12A7328-F81F-11D2-BA4B-00A0C93EC93B`.
    pub fn parse(text: &str) -> Option<Self> {
        let digits: String = text.chars().filter(|c| *c != '-').collect();
        if digits.len() != 32 || !digits.is_ascii() {
            return None;
        }
        let mut bytes = [0u8; 16];
        for (at, byte) in bytes.iter_mut().enumerate() {
            *byte = u8::from_str_radix(&digits[at * 2..at * 2 + 2], 16).ok()?;
        }
        bytes[0..4].reverse();
        bytes[4..6].reverse();
        bytes[6..8].reverse();
        Some(Self(bytes))
    }

    /// A new identifier of version 4 out of 16 random bytes.
    pub fn from_random(mut bytes: [u8; 16]) -> Self {
        bytes[7] = bytes[7] & 0x0f | 0x40;
        bytes[8] = bytes[8] & 0x3f | 0x80;
        Self(bytes)
    }
}

impl fmt::Display for Guid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let b = &self.0;
        write!(f, "{:02X}{:02X}{:02X}{:02X}-{:02X}{:02X}-{:02X}{:02X}-", b[3], b[2], b[1], b[0], b[5], b[4], b[7], b[6])?;
        write!(f, "{:02X}{:02X}-", b[8], b[9])?;
        b[10..].iter().try_for_each(|byte| write!(f, "{byte:02X}"))
    }
}

impl fmt::Debug for Guid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn written_and_read_again() {
        let text = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B";
        let guid = Guid::parse(text).unwrap();
        assert_eq!(guid.0[0], 0x28);
        assert_eq!(guid.to_string(), text);
        assert_eq!(Guid::parse("C12A7328"), None);
        assert_eq!(Guid::parse("ééééééééééééééééé"), None);
    }
}
