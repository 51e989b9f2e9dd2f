//! A line of a proof: what was compared, and what came out.

use serde::{Deserialize, Serialize};

/// What a line of a proof says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// As it should be.
    Holds,
    /// Differs in a way that was intended.
    Differs,
    /// Not as it should be.
    Fails,
    /// Not looked at.
    NotChecked,
}

/// One line of a proof.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Line {
    /// `source`, `table`, `blocks`, `file-system`, `files`, `boot`, `licence`.
    pub what: String,
    /// Of `boot` and `licence` which link of the chain it speaks of; else empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub link: String,
    /// What came out.
    pub result: Verdict,
    /// In a sentence.
    pub text: String,
    /// What it rests on, a line each.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub evidence: Vec<String>,
    /// What to do by hand where it does not hold and nothing else sets it right; else empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub advice: String,
    /// The places it speaks of, where they are known; the first of them where there are very many.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub places: Vec<Stretch>,
}

impl Line {
    /// What it is called on a screen: the link, or what it speaks of.
    pub fn name(&self) -> String {
        match (self.what.as_str(), self.link.as_str()) {
            (what, "") => what.to_string(),
            ("licence", link) => format!("licence/{link}"),
            (_, link) => link.to_string(),
        }
    }

    /// A line without evidence.
    pub fn new(what: &str, result: Verdict, text: impl Into<String>) -> Self {
        Self { what: what.into(), link: String::new(), result, text: text.into(), evidence: Vec::new(), advice: String::new(), places: Vec::new() }
    }

    /// Whether this line leaves open that the source stayed as it was. Then no run is proved.
    pub fn doubts_source(&self) -> bool {
        self.what == "source" && self.result == Verdict::NotChecked
    }
}

/// A stretch in logical sectors of the source.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stretch {
    /// First sector.
    pub start: u64,
    /// Sectors.
    pub sectors: u64,
}
