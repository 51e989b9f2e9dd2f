//! What a technician allows, and how it is written.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::time::Duration;

/// What a technician allows.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Limits {
    /// Time on the run's clock.
    pub time: Option<Duration>,
    /// Reads that fail, one after the other, with nothing saved between them.
    pub failures: Option<u64>,
    /// A rest after so long, and how long.
    pub rests: Option<(Duration, Duration)>,
    /// How often a sector is tried.
    pub tries: Option<u8>,
    /// It is not read any more where it is hotter than this, in degrees Celsius.
    pub hottest: Option<i64>,
    /// Somebody sits there: where too much fails in a row it is held, and goes on when they say so. Else it ends.
    #[serde(skip)]
    pub pauses: bool,
}

/// Reads a span of time: `90s`, `45m`, `2h`.
///
/// # Errors
/// What is wrong with it.
pub fn spanned(text: &str) -> Result<Duration, String> {
    let wrong = || format!("\"{text}\" is no span of time: 90s, 45m or 2h");
    let (number, unit) = text.split_at(text.len() - text.chars().last().map_or(0, char::len_utf8));
    let factor = match unit {
        "s" => 1.0,
        "m" => 60.0,
        "h" => 3600.0,
        _ => return Err(wrong()),
    };
    let number: f64 = number.parse().map_err(|_| wrong())?;
    if number.is_finite() && (0.0..1e9).contains(&number) { Ok(Duration::from_secs_f64(number * factor)) } else { Err(wrong()) }
}

/// Reads how long it works and how long it rests: `45m/5m`.
///
/// # Errors
/// What is wrong with it.
pub fn rests(text: &str) -> Result<(Duration, Duration), String> {
    let (work, rest) = text.split_once('/').ok_or_else(|| format!("\"{text}\" is no such pair: 45m/5m"))?;
    let (work, rest) = (spanned(work)?, spanned(rest)?);
    if work.is_zero() { Err("it would rest without end".into()) } else { Ok((work, rest)) }
}

impl Limits {
    /// Reads limits as they are typed, several with `;` between them: `for 2h`, `failures 50`, `rest 45m/5m`, `hottest 55`, `tries 3`.
    ///
    /// # Errors
    /// What is wrong with them.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mut limits = Self::default();
        for one in text.split(';').map(str::trim).filter(|one| !one.is_empty()) {
            let (word, value) = one.split_once(' ').map_or((one, ""), |(word, value)| (word, value.trim()));
            let number = || value.parse::<u64>().ok().filter(|number| *number > 0).ok_or_else(|| format!("\"{one}\" needs a number above 0"));
            match word {
                "for" => limits.time = Some(spanned(value)?),
                "failures" => limits.failures = Some(number()?),
                "rest" => limits.rests = Some(rests(value)?),
                "hottest" => limits.hottest = Some(number()?.min(200) as i64),
                "tries" => limits.tries = Some(number()?.min(255) as u8),
                _ => return Err(format!("\"{one}\" is none of: for, failures, rest, hottest, tries")),
            }
        }
        Ok(limits)
    }
}

/// As they are typed; empty where there are none.
impl fmt::Display for Limits {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let span = |span: Duration| match span.as_secs() {
            secs if secs >= 3600 && secs % 3600 == 0 => format!("{}h", secs / 3600),
            secs if secs >= 60 && secs % 60 == 0 => format!("{}m", secs / 60),
            secs => format!("{secs}s"),
        };
        let all = [
            self.time.map(|time| format!("for {}", span(time))),
            self.failures.map(|most| format!("failures {most}")),
            self.rests.map(|(work, rest)| format!("rest {}/{}", span(work), span(rest))),
            self.hottest.map(|hottest| format!("hottest {hottest}")),
            self.tries.map(|tries| format!("tries {tries}")),
        ];
        f.write_str(&all.into_iter().flatten().collect::<Vec<_>>().join(" ; "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_are_taken_and_others_refused() {
        assert_eq!(spanned("90s"), Ok(Duration::from_secs(90)));
        assert_eq!(spanned("1.5m"), Ok(Duration::from_secs(90)));
        assert_eq!(rests("2h/5m"), Ok((Duration::from_secs(7200), Duration::from_secs(300))));
        for wrong in ["", "s", "5", "5x", "-1s", "infs", "nans", "5é", "1e30h"] {
            assert!(spanned(wrong).is_err(), "{wrong}");
        }
        assert!(rests("45m").is_err() && rests("0s/5m").is_err());
    }

    #[test]
    fn limits_are_written_as_they_are_read() {
        let text = "for 2h ; failures 50 ; rest 45m/90s ; hottest 55 ; tries 3";
        let limits = Limits::parse(text).unwrap();
        assert_eq!(limits.to_string(), text);
        assert_eq!(Limits::parse("").unwrap().to_string(), "");
        for wrong in ["for", "for ever", "failures 0", "failures -1", "tries many", "rest 5m", "loud 3"] {
            assert!(Limits::parse(wrong).is_err(), "{wrong}");
        }
    }
}
