//! Registry files: the tree of keys and values in which a system of the NT family keeps its settings, and its boot store.
//!
//! Follows the published descriptions of the layout: base block, bins, cells (`nk`, `vk`, `lf`, `lh`, `li`, `ri`, `sk`, `db`), and transaction logs
//! of both kinds. Numbers are little-endian; places within the bins count from the end of the base block.

pub mod base;
pub mod bytes;
pub mod edit;
pub mod hive;
pub mod log;
pub mod names;
pub mod value;

pub use bytes::Bytes;
pub use edit::Edit;
pub use hive::{Hive, Key};
pub use value::{Kind, Value};

use std::fmt;

/// What is wrong with a registry file: what, and where in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wrong {
    /// A short stable name.
    pub code: &'static str,
    /// What, and where.
    pub text: String,
}

impl Wrong {
    pub(crate) fn new(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, text: text.into() }
    }
}

impl Wrong {
    /// What was looked for is not in a file that can be read.
    pub(crate) fn none(text: &str) -> Self {
        Self::new("registry-not-there", text)
    }
}

impl fmt::Display for Wrong {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl std::error::Error for Wrong {}

/// A result of this module.
pub type Result<T> = std::result::Result<T, Wrong>;
