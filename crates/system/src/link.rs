//! A boot chain as it is told: link by link, with what each rests on.

use crate::pe;
use badger_inspect::{Line, Verdict};

/// Firmware that a machine starts with.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Firmware {
    /// Of the old kind: code in the first sector.
    Bios,
    /// Of the new kind: files on a partition of its own.
    Uefi,
}

impl Firmware {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Bios => "BIOS",
            Self::Uefi => "UEFI",
        }
    }
}

/// What a link brings along for the machine that it has to fit.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Offers {
    /// The processor of the program that firmware starts.
    pub processor: Option<pe::Machine>,
    /// Whether that program carries a signature.
    pub is_signed: Option<bool>,
    /// Whether it lies where firmware looks that knows nothing of the drive.
    pub is_fallback: Option<bool>,
    /// The ways in which the system finds its own disk, by the words for them.
    pub storage: Option<Vec<&'static str>>,
    /// Ways for which a driver lies there, and nothing says that it is taken.
    pub perhaps: Vec<&'static str>,
}

/// One step from firmware to login.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Link {
    /// A short stable name.
    pub name: &'static str,
    /// Whether it holds.
    pub result: Verdict,
    /// What was found.
    pub text: String,
    /// What that rests on.
    pub evidence: Vec<String>,
    /// What it brings along.
    pub offers: Box<Offers>,
}

impl Link {
    pub(crate) fn new(name: &'static str, result: Verdict, text: impl Into<String>) -> Self {
        Self { name, result, text: text.into(), evidence: Vec::new(), offers: Box::default() }
    }

    pub(crate) fn holds(name: &'static str, text: impl Into<String>) -> Self {
        Self::new(name, Verdict::Holds, text)
    }

    pub(crate) fn broken(name: &'static str, text: impl Into<String>) -> Self {
        Self::new(name, Verdict::Fails, text)
    }

    pub(crate) fn unknown(name: &'static str, text: impl Into<String>) -> Self {
        Self::new(name, Verdict::NotChecked, text)
    }

    pub(crate) fn with(mut self, evidence: impl IntoIterator<Item = String>) -> Self {
        self.evidence.extend(evidence);
        self
    }

    pub(crate) fn offering(self, offers: Offers) -> Self {
        Self { offers: Box::new(offers), ..self }
    }
}

/// One way from firmware to a system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chain {
    /// Where it begins.
    pub firmware: Firmware,
    /// Its links, the first first.
    pub links: Vec<Link>,
}

impl Chain {
    /// The worst of its links: broken before unknown before holding.
    pub fn verdict(&self) -> Verdict {
        let has = |verdict| self.links.iter().any(|link| link.result == verdict);
        match () {
            () if has(Verdict::Fails) => Verdict::Fails,
            () if has(Verdict::NotChecked) || self.links.is_empty() => Verdict::NotChecked,
            () => Verdict::Holds,
        }
    }

    /// As lines of a proof.
    pub fn lines(&self) -> Vec<Line> {
        let line = |link: &Link| Line {
            link: format!("{}/{}", self.firmware.word().to_lowercase(), link.name),
            evidence: link.evidence.clone(),
            ..Line::new("boot", link.result, link.text.clone())
        };
        self.links.iter().map(line).collect()
    }
}
