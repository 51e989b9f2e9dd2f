//! What is known of a drive's health, and what it comes to.

use crate::size::{human, thousands};
use serde::{Deserialize, Serialize};

/// What the facts come to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Nobody says. This is not the same as good.
    #[default]
    Unknown,
    /// Nothing in what it says speaks against it.
    Good,
    /// It has lost something, or has little left.
    Worn,
    /// It cannot be read everywhere, or says itself that it fails.
    Failing,
}

/// What a drive says of its health. What it does not say is `None`, which is never the same as 0.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Facts {
    /// Hours it was on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hours: Option<u64>,
    /// How often it was switched on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub starts: Option<u64>,
    /// Its temperature in degrees Celsius.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub celsius: Option<i64>,
    /// Sectors that were replaced by spare ones.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub replaced: Option<u64>,
    /// Sectors that could not be read and wait to be replaced.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub waiting: Option<u64>,
    /// Reads that failed for good, over its life.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unreadable: Option<u64>,
    /// Transfers that were damaged on the cable, over its life.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cable_errors: Option<u64>,
    /// Percent of the writes it was built for; may go beyond 100.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used_percent: Option<u64>,
    /// Percent of its spare cells that are left.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub spare_percent: Option<u64>,
    /// Bytes written to it over its life.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub written_bytes: Option<u64>,
    /// Its own warnings.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
}

/// A drive's health as it was told at one time.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Health {
    /// What it comes to.
    pub state: State,
    /// One sentence.
    pub text: String,
    /// What the drive said.
    pub facts: Facts,
    /// By what it was asked; empty where nothing answered.
    pub asked: String,
}

/// From so many replaced sectors on a drive counts as worn: a few come with age.
const MANY_REPLACED: u64 = 10;
/// From so many percent of its writes on.
const NEARLY_USED: u64 = 90;
/// A drive this hot, in degrees Celsius, wants air before it works for hours.
const HOT: i64 = 60;

fn some(count: u64, one: &str, many: &str) -> String {
    format!("{} {}", thousands(count), if count == 1 { one } else { many })
}

impl Facts {
    /// Whether anything is known at all.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    fn state(&self) -> State {
        let above = |fact: Option<u64>, least: u64| fact.is_some_and(|count| count >= least);
        if self.is_empty() {
            State::Unknown
        } else if !self.warnings.is_empty() || above(self.waiting, 1) {
            State::Failing
        } else if above(self.replaced, MANY_REPLACED) || above(self.unreadable, 1) || above(self.used_percent, NEARLY_USED) {
            State::Worn
        } else if self.replaced.or(self.waiting).or(self.unreadable).or(self.used_percent).or(self.spare_percent).is_none() {
            // Hours and degrees say nothing for it or against it.
            State::Unknown
        } else {
            State::Good
        }
    }

    /// What speaks for it or against it, the gravest first.
    fn parts(&self) -> Vec<String> {
        let count = |fact: Option<u64>| fact.filter(|count| *count > 0);
        let mut parts: Vec<String> =
            count(self.waiting).map(|count| some(count, "sector cannot be read", "sectors cannot be read")).into_iter().collect();
        parts.extend(self.warnings.iter().cloned());
        let mut add = |part: Option<String>| parts.extend(part);
        add(count(self.unreadable).map(|count| some(count, "read failed", "reads failed")));
        add(count(self.replaced).map(|count| some(count, "sector replaced", "sectors replaced")));
        add(self.used_percent.map(|percent| format!("{} % of its writes left", 100u64.saturating_sub(percent))));
        add(self.hours.map(|hours| format!("{} h on", thousands(hours))));
        add(self.celsius.filter(|celsius| *celsius >= HOT).map(|celsius| format!("hot, {celsius} °C")));
        parts
    }

    /// Every number as a name and a value with its unit, for a list.
    pub fn lines(&self) -> Vec<(&'static str, String)> {
        let number = |name, fact: Option<u64>| fact.map(|count| (name, thousands(count)));
        let percent = |name, fact: Option<u64>| fact.map(|percent| (name, format!("{percent} %")));
        let known = [
            number("sectors that cannot be read", self.waiting),
            number("sectors replaced", self.replaced),
            number("reads that failed", self.unreadable),
            percent("of its writes used", self.used_percent),
            percent("spare cells left", self.spare_percent),
            self.written_bytes.map(|bytes| ("written to it", human(bytes))),
            self.hours.map(|hours| ("on", format!("{} h", thousands(hours)))),
            number("switched on", self.starts),
            self.celsius.map(|celsius| ("temperature", format!("{celsius} °C"))),
            number("errors on the cable", self.cable_errors),
        ];
        known.into_iter().flatten().collect()
    }

    /// What got worse since it was asked before, in words; empty where nothing did, or nobody knows.
    pub fn grown_since(&self, before: &Self) -> String {
        let more = |now: Option<u64>, then: Option<u64>| now.zip(then).and_then(|(now, then)| now.checked_sub(then)).filter(|more| *more > 0);
        let parts = [
            more(self.waiting, before.waiting).map(|more| format!("{} more cannot be read", thousands(more))),
            more(self.replaced, before.replaced).map(|more| format!("{} more replaced", thousands(more))),
            more(self.unreadable, before.unreadable).map(|more| format!("{} more failed", some(more, "read", "reads"))),
            more(self.used_percent, before.used_percent).map(|more| format!("{more} % more of its writes used")),
            more(self.cable_errors, before.cable_errors).map(|more| format!("{} more on the cable", some(more, "error", "errors"))),
        ];
        parts.into_iter().flatten().collect::<Vec<_>>().join(" · ")
    }
}

impl Health {
    /// Judges what a drive said when it was asked by `asked`.
    pub fn of(facts: Facts, asked: &str) -> Self {
        let state = facts.state();
        let parts = facts.parts().join(" · ");
        let text = match state {
            State::Unknown if facts.is_empty() => "unknown: it answers, but says nothing".into(),
            State::Unknown => format!("unknown: it says no more than {parts}").trim_end_matches(" no more than ").to_string(),
            State::Good if parts.is_empty() => "nothing against it".into(),
            State::Good => parts,
            State::Worn => format!("worn: {parts}"),
            State::Failing => format!("fails: {parts}"),
        };
        Self { state, text, facts, asked: asked.into() }
    }

    /// Nothing is known, and why.
    pub fn unknown(why: &str) -> Self {
        Self { text: format!("unknown: {why}"), ..Self::default() }
    }
}
