//! Why nothing is done.

/// A reason why nothing is written. `code` is stable.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error, serde::Serialize)]
#[error("{text}")]
pub struct Refusal {
    /// Short stable name, such as `wrong-tail`.
    pub code: &'static str,
    /// What happened, where, and what to do next.
    pub text: String,
}

impl Refusal {
    /// A refusal.
    pub fn new(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, text: text.into() }
    }
}
