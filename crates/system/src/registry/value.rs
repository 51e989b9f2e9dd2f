//! Values and what is in them.

use super::names::wide;
use badger_drive::field::{le32, le64};

/// What kind of data a value says it has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Nothing said.
    None,
    /// Text.
    Text,
    /// Text with variables in it.
    Expand,
    /// Bytes.
    Binary,
    /// 32 bits.
    Number,
    /// Several texts.
    Texts,
    /// 64 bits.
    Long,
    /// Another one.
    Other(u32),
}

impl Kind {
    /// By its number.
    pub fn of(number: u32) -> Self {
        match number {
            0 => Self::None,
            1 => Self::Text,
            2 => Self::Expand,
            3 => Self::Binary,
            4 => Self::Number,
            7 => Self::Texts,
            11 => Self::Long,
            other => Self::Other(other),
        }
    }

    /// Its number.
    pub fn number(self) -> u32 {
        match self {
            Self::None => 0,
            Self::Text => 1,
            Self::Expand => 2,
            Self::Binary => 3,
            Self::Number => 4,
            Self::Texts => 7,
            Self::Long => 11,
            Self::Other(other) => other,
        }
    }
}

/// A value with its data.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Value {
    /// Its name; empty for the one without.
    pub name: String,
    /// What it says it has.
    pub kind: Kind,
    /// Its data.
    pub data: Vec<u8>,
}

impl Value {
    /// As text, to its first zero; `None` for other kinds.
    pub fn text(&self) -> Option<String> {
        matches!(self.kind, Kind::Text | Kind::Expand).then(|| {
            let text = wide(&self.data);
            text.split('\0').next().unwrap_or_default().to_string()
        })
    }

    /// As texts.
    pub fn texts(&self) -> Option<Vec<String>> {
        (self.kind == Kind::Texts).then(|| wide(&self.data).split('\0').filter(|text| !text.is_empty()).map(str::to_string).collect())
    }

    /// As a number of 32 bits.
    pub fn number(&self) -> Option<u32> {
        (self.kind == Kind::Number && self.data.len() >= 4).then(|| le32(&self.data, 0))
    }

    /// As a number of 64 bits; one of 32 bits is taken too.
    pub fn long(&self) -> Option<u64> {
        match self.kind {
            Kind::Long if self.data.len() >= 8 => Some(le64(&self.data, 0)),
            _ => self.number().map(u64::from),
        }
    }

    /// A value with a text.
    pub fn of_text(name: &str, text: &str) -> Self {
        let data = text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect();
        Self { name: name.into(), kind: Kind::Text, data }
    }

    /// A value with a number.
    pub fn of_number(name: &str, number: u32) -> Self {
        Self { name: name.into(), kind: Kind::Number, data: number.to_le_bytes().to_vec() }
    }

    /// A value with bytes.
    pub fn of_bytes(name: &str, data: &[u8]) -> Self {
        Self { name: name.into(), kind: Kind::Binary, data: data.to_vec() }
    }

    /// A value with several texts.
    pub fn of_texts(name: &str, texts: &[&str]) -> Self {
        let data = texts.iter().flat_map(|text| text.encode_utf16().chain([0])).chain([0]).flat_map(u16::to_le_bytes).collect();
        Self { name: name.into(), kind: Kind::Texts, data }
    }
}
