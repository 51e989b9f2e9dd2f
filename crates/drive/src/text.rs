//! Text that comes from a drive and is shown to a person: nothing in it may steer a terminal or turn a line around.

use std::borrow::Cow;

/// Whether a character steers instead of being seen: control characters, and those that change the direction of writing
/// (Unicode Standard Annex 9) or stand for line ends.
fn steers(c: char) -> bool {
    c.is_control() || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{2028}' | '\u{2029}' | '\u{61c}')
}

/// The same text with everything that steers written as `\n`, `\t`, `\u{1b}`; a backslash becomes two where anything was
/// changed, so that the change can be taken back.
pub fn plain(text: &str) -> Cow<'_, str> {
    // Nearly all text is of this kind.
    if text.bytes().fold(true, |plain, byte| plain & (0x20..0x7f).contains(&byte)) || !text.chars().any(steers) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match c {
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\r' => out.push_str("\\r"),
            c if steers(c) => out.extend(c.escape_unicode()),
            c => out.push(c),
        }
    }
    Cow::Owned(out)
}

/// The same for text of several lines of our own: line ends stay.
pub fn plain_lines(text: &str) -> Cow<'_, str> {
    if !text.chars().any(|c| c != '\n' && steers(c)) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.split('\n').map(plain).collect::<Vec<_>>().join("\n"))
}

/// A text in parts of at most `most` bytes, each cut where a character ends. `most` is 4 or more.
pub fn parts(text: &str, most: usize) -> impl Iterator<Item = &str> {
    let mut rest = text;
    std::iter::from_fn(move || {
        let (part, after) = rest.split_at(rest.floor_char_boundary(most));
        rest = after;
        (!part.is_empty()).then_some(part)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Fähre 7.csv", "Fähre 7.csv")]
    #[case("back\\slash", "back\\slash")]
    #[case("two\nlines\\", "two\\nlines\\\\")]
    #[case("\x1b]0;owned\x07", "\\u{1b}]0;owned\\u{7}")]
    #[case("\u{202e}gpj.exe", "\\u{202e}gpj.exe")]
    #[case("\u{9b}2J", "\\u{9b}2J")]
    fn nothing_steers(#[case] text: &str, #[case] shown: &str) {
        assert_eq!(plain(text), shown);
    }

    #[test]
    fn lines_stay_lines() {
        assert_eq!(plain_lines("one\n\x1btwo"), "one\n\\u{1b}two");
    }
}
