//! The small language in which a fit is asked for, on the command line and in what is stored of it.
//!
//! ```text
//! RULES = RULE { "," RULE }              later rules win over earlier ones
//! RULE  = "auto"                         the plan's own proposal for everything no rule names
//!       | "system"                       only what the system needs to start; the rest is left out
//!       | "gpt" | "mbr"                  the kind of table that results
//!       | "uefi"                         a GPT, and room behind everything for a system partition that is made and filled after the copy
//!       | WHICH "=" WHAT [ "@" SIZE ]    what becomes of partitions, and where they begin
//! WHICH = NUMBER | NUMBER "-" NUMBER | "*"
//! WHAT  = "keep"                         its size
//!       | "fill"                         what the others leave
//!       | "least"                        as small as it can become
//!       | "out"                          left out
//!       | SIZE                           so many bytes: 200GiB, 500G, 1048576
//! ```

use crate::table::Kind;
use badger_drive::size;
use std::fmt;
use std::str::FromStr;

/// Which partitions of the source a rule is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which {
    /// Every one.
    All,
    /// From one number to another, both included.
    Span(u32, u32),
}

impl Which {
    fn has(self, number: u32) -> bool {
        match self {
            Self::All => true,
            Self::Span(first, last) => (first..=last).contains(&number),
        }
    }
}

/// What becomes of a partition.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum What {
    /// It keeps its size.
    Keep,
    /// It takes what the others leave.
    Fill,
    /// It becomes as small as it can.
    Least,
    /// It is left out.
    Out,
    /// It gets so many bytes.
    Size(u64),
}

/// One rule about partitions.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rule {
    /// Which.
    pub which: Which,
    /// What.
    pub what: What,
    /// Where it begins on the target, in bytes.
    pub at: Option<u64>,
}

/// All that is asked for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rules {
    /// The plan proposes what no rule names.
    pub auto: bool,
    /// Only what the system needs to start.
    pub system: bool,
    /// The table that is wanted; `None` for the source's kind.
    pub table: Option<Kind>,
    /// Room is left for a system partition for firmware; the table is a GPT then.
    pub uefi: bool,
    /// The rules in order.
    pub each: Vec<Rule>,
}

impl Rules {
    /// The plan's own proposal.
    pub fn auto() -> Self {
        Self { auto: true, ..Self::default() }
    }

    /// What is asked for a partition, if anything is.
    pub fn of(&self, number: u32) -> Option<Rule> {
        self.each.iter().rev().find(|rule| rule.which.has(number)).copied()
    }

    /// Asks something for one partition, in place of what was asked for it alone before.
    pub fn set(&mut self, number: u32, what: What, at: Option<u64>) {
        self.forget(number);
        self.each.push(Rule { which: Which::Span(number, number), what, at });
    }

    /// Takes back what was asked for one partition alone.
    pub fn forget(&mut self, number: u32) {
        self.each.retain(|rule| rule.which != Which::Span(number, number));
    }
}

/// A size as it is read again without loss.
fn exact(bytes: u64) -> String {
    for (unit, factor) in [("TiB", 1u64 << 40), ("GiB", 1 << 30), ("MiB", 1 << 20), ("KiB", 1 << 10)] {
        if bytes >= factor && bytes.is_multiple_of(factor) {
            return format!("{}{unit}", bytes / factor);
        }
    }
    bytes.to_string()
}

impl fmt::Display for Rules {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut words: Vec<String> = Vec::new();
        words.extend(self.auto.then(|| "auto".into()));
        words.extend(self.system.then(|| "system".into()));
        words.extend(match self.table {
            _ if self.uefi => Some("uefi".into()),
            Some(Kind::Gpt) => Some("gpt".into()),
            Some(Kind::Mbr) => Some("mbr".into()),
            _ => None,
        });
        for rule in &self.each {
            let which = match rule.which {
                Which::All => "*".into(),
                Which::Span(first, last) if first == last => first.to_string(),
                Which::Span(first, last) => format!("{first}-{last}"),
            };
            let what = match rule.what {
                What::Keep => "keep".into(),
                What::Fill => "fill".into(),
                What::Least => "least".into(),
                What::Out => "out".into(),
                What::Size(bytes) => exact(bytes),
            };
            let at = rule.at.map(|at| format!("@{}", exact(at))).unwrap_or_default();
            words.push(format!("{which}={what}{at}"));
        }
        f.write_str(&words.join(","))
    }
}

fn which(text: &str) -> Option<Which> {
    if text == "*" {
        return Some(Which::All);
    }
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    let (first, last) = (first.trim().parse().ok()?, last.trim().parse().ok()?);
    (first <= last).then_some(Which::Span(first, last))
}

impl FromStr for Rules {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let mut rules = Self::default();
        for word in text.split(',').map(str::trim).filter(|word| !word.is_empty()) {
            match word.to_ascii_lowercase().as_str() {
                "auto" => rules.auto = true,
                "system" => rules.system = true,
                "gpt" => (rules.table, rules.uefi) = (Some(Kind::Gpt), false),
                "uefi" => (rules.table, rules.uefi) = (Some(Kind::Gpt), true),
                "mbr" => (rules.table, rules.uefi) = (Some(Kind::Mbr), false),
                word => {
                    let wrong = || {
                        format!(
                            "\"{word}\" is no rule: write auto, system, gpt, uefi, mbr, or PARTITION=keep, fill, least, out or a size, as in 3=200GiB"
                        )
                    };
                    let (left, right) = word.split_once('=').ok_or_else(wrong)?;
                    let which = which(left.trim()).ok_or_else(wrong)?;
                    let (what, at) = match right.split_once('@') {
                        Some((what, at)) => (what.trim(), Some(size::parse(at)?)),
                        None => (right.trim(), None),
                    };
                    let what = match what {
                        "keep" => What::Keep,
                        "fill" => What::Fill,
                        "least" => What::Least,
                        "out" => What::Out,
                        size if size.starts_with(|c: char| c.is_ascii_digit()) => What::Size(size::parse(size)?),
                        _ => return Err(wrong()),
                    };
                    rules.each.push(Rule { which, what, at });
                }
            }
        }
        if rules == Self::default() {
            return Err("nothing is asked for: write auto, or a rule such as 3=200GiB".into());
        }
        Ok(rules)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("auto")]
    #[case("gpt,1-3=keep,4=out")]
    #[case("auto,uefi,2=fill")]
    #[case("system,*=least,2=fill@1MiB")]
    #[case("3=200GiB,3=1000@512")]
    fn what_is_written_is_written_again(#[case] text: &str) {
        assert_eq!(text.parse::<Rules>().unwrap().to_string(), text);
    }

    #[rstest]
    #[case("")]
    #[case("3")]
    #[case("3=")]
    #[case("x=keep")]
    #[case("4-2=out")]
    #[case("3=much")]
    #[case("3=keep@")]
    #[case("3=99999999T")]
    fn what_is_no_rule_is_refused(#[case] text: &str) {
        assert!(text.parse::<Rules>().is_err());
    }

    #[test]
    fn the_last_rule_wins() {
        let rules: Rules = "*=out,2-4=keep,3=5G".parse().unwrap();
        let what = |number| rules.of(number).map(|rule| rule.what);
        assert_eq!([what(1), what(2), what(3)], [Some(What::Out), Some(What::Keep), Some(What::Size(5_000_000_000))]);
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "[auto*,=@0-9gGiBmbrkepfls -]{0,40}") {
            if let Ok(rules) = text.parse::<Rules>() {
                prop_assert_eq!(rules.to_string().parse::<Rules>(), Ok(rules));
            }
        }
    }
}
