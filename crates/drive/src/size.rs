//! Sizes as people write and read them: decimal as drives are sold, binary where asked for.

use serde::Deserialize;
use std::sync::atomic::{AtomicBool, Ordering};

/// Units a size may carry, longest first so that `GiB` is not read as `B`.
const UNITS: [(&str, u64); 17] = [
    ("kib", 1 << 10),
    ("mib", 1 << 20),
    ("gib", 1 << 30),
    ("tib", 1 << 40),
    ("pib", 1 << 50),
    ("kb", 1_000),
    ("mb", 1_000_000),
    ("gb", 1_000_000_000),
    ("tb", 1_000_000_000_000),
    ("pb", 1_000_000_000_000_000),
    ("k", 1_000),
    ("m", 1_000_000),
    ("g", 1_000_000_000),
    ("t", 1_000_000_000_000),
    ("p", 1_000_000_000_000_000),
    ("b", 1),
    ("", 1),
];

/// Reads a size: a plain number is bytes, `500G` is decimal, `500GiB` is binary; one decimal point is allowed
/// before a unit. The answer is bytes.
///
/// # Errors
/// A sentence that says what was wrong with the text.
pub fn parse(text: &str) -> Result<u64, String> {
    let lower = text.trim().to_ascii_lowercase();
    let digits = lower.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(lower.len());
    let (number, unit) = (&lower[..digits], lower[digits..].trim());
    let wrong = || format!("\"{text}\" is not a size: write bytes, 500G (decimal) or 500GiB (binary)");
    let factor = UNITS.iter().find(|(name, _)| *name == unit).map(|(_, factor)| *factor).ok_or_else(wrong)?;
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    let whole: u64 = whole.parse().map_err(|_| wrong())?;
    let mut bytes = whole.checked_mul(factor).ok_or_else(|| format!("{text} is larger than any drive"))?;
    let mut share = factor;
    for digit in fraction.bytes() {
        if !digit.is_ascii_digit() {
            return Err(wrong());
        }
        share /= 10;
        bytes = bytes.checked_add(u64::from(digit - b'0') * share).ok_or_else(wrong)?;
    }
    Ok(bytes)
}

/// How sizes are written for people.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Units {
    /// `250 GB`: by thousands, as drives are sold.
    #[default]
    Decimal,
    /// `233 GiB`: by 1024.
    Binary,
}

static BINARY: AtomicBool = AtomicBool::new(false);

/// Settles how the whole program writes sizes.
pub fn settle(units: Units) {
    BINARY.store(units == Units::Binary, Ordering::Relaxed);
}

/// A size for people in the units that were settled, three significant digits at the most where there is a fraction:
/// `250 GB`, `1.02 TB`.
pub fn human(bytes: u64) -> String {
    let units = if BINARY.load(Ordering::Relaxed) { Units::Binary } else { Units::Decimal };
    written(bytes, units)
}

/// A size for people in given units.
pub fn written(bytes: u64, units: Units) -> String {
    const DECIMAL: [&str; 7] = ["B", "kB", "MB", "GB", "TB", "PB", "EB"];
    const BINARY: [&str; 7] = ["B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"];
    let (names, step) = match units {
        Units::Decimal => (DECIMAL, 1000.0),
        Units::Binary => (BINARY, 1024.0),
    };
    let mut value = bytes as f64;
    if value < step {
        return format!("{bytes} B");
    }
    let mut unit = 0;
    while value >= step - 0.5 && unit < names.len() - 1 {
        value /= step;
        unit += 1;
    }
    let digits = if value < 9.995 {
        2
    } else if value < 99.95 {
        1
    } else {
        0
    };
    let number = format!("{value:.digits$}");
    let number = if number.contains('.') { number.trim_end_matches('0').trim_end_matches('.') } else { &number };
    format!("{number} {}", names[unit])
}

/// A number with its thousands set apart: `511,204,352`.
pub fn thousands(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::with_capacity(digits.len() * 4 / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// A span of time for people, in two units at the most: `8 s`, `4 min`, `1 h 20 min`, `3 days`.
pub fn span(seconds: f64) -> String {
    let seconds = seconds.max(0.0).round() as u64;
    match seconds {
        0..=89 => format!("{seconds} s"),
        90..=5399 => format!("{} min", (seconds + 30) / 60),
        5400..=172_799 => {
            let minutes = (seconds + 30) / 60;
            format!("{} h {:02} min", minutes / 60, minutes % 60)
        }
        _ => format!("{} days", seconds / 86_400),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("0", 0)]
    #[case("512", 512)]
    #[case("500G", 500_000_000_000)]
    #[case("500GiB", 536_870_912_000)]
    #[case("1.5 T", 1_500_000_000_000)]
    #[case("64k", 64_000)]
    #[case("64KiB", 65_536)]
    fn sizes_are_read(#[case] text: &str, #[case] bytes: u64) {
        assert_eq!(parse(text), Ok(bytes));
    }

    #[rstest]
    fn nonsense_is_refused(#[values("", "G", "-5", "5X", "1.2.3G", "99999999999T", "1,5G")] text: &str) {
        assert!(parse(text).is_err(), "{text}");
    }

    #[rstest]
    #[case(0, "0 B")]
    #[case(999, "999 B")]
    #[case(1000, "1 kB")]
    #[case(104_857_600, "105 MB")]
    #[case(250_059_350_016, "250 GB")]
    #[case(999_999_999, "1 GB")]
    #[case(1_024_209_543_168, "1.02 TB")]
    #[case(15_000_000_000_000, "15 TB")]
    fn sizes_are_written(#[case] bytes: u64, #[case] text: &str) {
        assert_eq!(human(bytes), text);
    }

    #[rstest]
    #[case(1023, "1023 B")]
    #[case(1024, "1 KiB")]
    #[case(250_059_350_016, "233 GiB")]
    #[case(1_099_511_627_775, "1 TiB")]
    #[case(1_649_267_441_664, "1.5 TiB")]
    fn sizes_are_written_by_1024(#[case] bytes: u64, #[case] text: &str) {
        assert_eq!(written(bytes, Units::Binary), text);
    }

    #[rstest]
    #[case(0.4, "0 s")]
    #[case(89.0, "89 s")]
    #[case(240.0, "4 min")]
    #[case(7260.0, "2 h 01 min")]
    #[case(300_000.0, "3 days")]
    fn spans_are_written(#[case] seconds: f64, #[case] text: &str) {
        assert_eq!(span(seconds), text);
    }

    #[test]
    fn thousands_are_set_apart() {
        assert_eq!(thousands(7), "7");
        assert_eq!(thousands(511_204_352), "511,204,352");
    }
}
