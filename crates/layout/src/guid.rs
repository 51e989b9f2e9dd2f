//! Globally unique identifiers as the UEFI specification stores them (Appendix A): the first three fields little
//! endian, the rest as bytes.

use std::fmt;
use uuid::{Builder, Uuid};

/// An identifier, kept in its on-disk byte order.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct Guid(pub [u8; 16]);

impl Guid {
    /// All zero: an unused entry.
    pub const ZERO: Self = Self([0; 16]);

    /// Reads the written form, `C12A7328-F81F-11D2-BA4B-00A0C93EC93B`.
    pub fn parse(text: &str) -> Option<Self> {
        Uuid::try_parse(text).ok().map(|id| Self(id.to_bytes_le()))
    }

    /// A new identifier of version 4 out of 16 random bytes.
    pub fn from_random(bytes: [u8; 16]) -> Self {
        Self(Builder::from_random_bytes(bytes).into_uuid().to_bytes_le())
    }
}

impl fmt::Display for Guid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:X}", Uuid::from_bytes_le(self.0).hyphenated())
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
