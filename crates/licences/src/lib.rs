//! What a licence service says: asked over HTTP by [`ask()`], and simulated by [`Service`] out of a [`Book`].
//!
//! `docs/formats/licence-service.md` writes down what goes over the line. No key and no name of a machine does: both go as [`identifier`]s.

mod ask;
mod book;
mod serve;

pub use ask::{Patience, Unanswered, ask};
pub use book::{Book, Kind, Licence, Outage, SAMPLE};
pub use serve::Service;

use serde::{Deserialize, Serialize};

/// What is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wish {
    /// How it stands; nothing changes.
    Look,
    /// It is to be active on the device.
    Activate,
    /// It is to be active there no more.
    Release,
}

/// How a licence stands for a device.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// It is active there.
    Active,
    /// It is not, and would be if it were activated there.
    Free,
    /// It is active on another device, and has to be taken off there first.
    Elsewhere,
    /// It cannot be activated there.
    Refused,
    /// The service does not know it.
    Unknown,
}

/// What the service answers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answer {
    /// How it stands.
    pub state: State,
    /// Why, in plain words.
    pub why: String,
    /// So many activations on further devices are left, where they are counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub left: Option<u32>,
}

/// By what a key or a device is named over the line: 32 digits that do not tell what they were made from.
pub fn identifier(what: &str, secret: &str) -> String {
    blake3::derive_key(&format!("zealous-badger licence service 1 {what}"), secret.as_bytes())[..16]
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect()
}

/// Whether a text could be an identifier.
fn is_identifier(text: &str) -> bool {
    text.len() == 32 && text.bytes().all(|byte| byte.is_ascii_digit() || (b'a'..=b'f').contains(&byte))
}
