//! What is wrong in a volume.

use serde::Serialize;

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// Good to know; nothing is lost by it.
    Note,
    /// Costs a file, or space; what is in use is still known.
    Fault,
    /// What is in use cannot be told from what is free.
    Grave,
}

/// Something wrong in a volume. `code` is stable.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// Short stable name.
    pub code: &'static str,
    /// What and where.
    pub text: String,
    /// How much it matters.
    pub weight: Weight,
    /// Byte of the volume, where one place can be named.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<u64>,
}

impl Finding {
    pub(crate) fn new(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, text: text.into(), weight: Weight::Fault, at: None }
    }

    pub(crate) fn note(code: &'static str, text: impl Into<String>) -> Self {
        Self { weight: Weight::Note, ..Self::new(code, text) }
    }

    pub(crate) fn grave(code: &'static str, text: impl Into<String>) -> Self {
        Self { weight: Weight::Grave, ..Self::new(code, text) }
    }

    /// A volume of `says` bytes in a place of `has`: what lies beyond is not there.
    pub(crate) fn longer(says: u64, has: u64) -> Option<Self> {
        let text = || format!("it says it is {} bytes longer than the place it lies in; what lies there cannot be read", says - has);
        (says > has).then(|| Self::grave("longer-than-place", text()))
    }

    pub(crate) fn at(self, byte: u64) -> Self {
        Self { at: Some(byte), ..self }
    }
}

/// Why something could not be read.
pub type Result<T> = std::result::Result<T, Finding>;
