//! Which of two versions is newer (UAPI group, "Version Format Specification").

use std::cmp::Ordering;

/// Takes digits off the front; leading zeroes do not count.
fn number<'a>(text: &mut &'a [u8]) -> &'a [u8] {
    let len = text.iter().take_while(|byte| byte.is_ascii_digit()).count();
    let (digits, rest) = text.split_at(len);
    *text = rest;
    let zeroes = digits.iter().take_while(|byte| **byte == b'0').count();
    &digits[zeroes..]
}

fn letters<'a>(text: &mut &'a [u8]) -> &'a [u8] {
    let len = text.iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
    let (letters, rest) = text.split_at(len);
    *text = rest;
    letters
}

/// Compares two versions, the older first.
pub(crate) fn compare(one: &str, other: &str) -> Ordering {
    let (mut one, mut other) = (one.as_bytes(), other.as_bytes());
    let counts = |byte: &u8| byte.is_ascii_alphanumeric() || b"~-^.".contains(byte);
    loop {
        for text in [&mut one, &mut other] {
            let skipped = text.iter().take_while(|byte| !counts(byte)).count();
            *text = &text[skipped..];
        }
        // A tilde comes before everything, also before the end; then the end; a dash, a caret, a dot come before what has none there.
        for mark in *b"~-^." {
            if mark == b'-' && (one.is_empty() || other.is_empty()) {
                return (!one.is_empty()).cmp(&!other.is_empty());
            }
            match (one.first() == Some(&mark), other.first() == Some(&mark)) {
                (true, true) => {
                    (one, other) = (&one[1..], &other[1..]);
                    break;
                }
                (true, false) => return Ordering::Less,
                (false, true) => return Ordering::Greater,
                (false, false) => {}
            }
        }
        if one.is_empty() && other.is_empty() {
            return Ordering::Equal;
        }
        let is_number = |text: &[u8]| text.first().is_some_and(u8::is_ascii_digit);
        let order = if is_number(one) || is_number(other) {
            let (left, right) = (number(&mut one), number(&mut other));
            left.len().cmp(&right.len()).then(left.cmp(right))
        } else {
            letters(&mut one).cmp(letters(&mut other))
        };
        if order != Ordering::Equal {
            return order;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// The examples of the specification, and names as distributions give them.
    #[rstest]
    #[case("122.1", "123", Ordering::Less)]
    #[case("123~rc1-1", "123", Ordering::Less)]
    #[case("123", "123-a", Ordering::Less)]
    #[case("123-a", "123-a.1", Ordering::Less)]
    #[case("123-a.1", "123-1", Ordering::Less)]
    #[case("123-1", "123-1.1", Ordering::Less)]
    #[case("123-1.1", "123^post1", Ordering::Less)]
    #[case("123^post1", "123.a-1", Ordering::Less)]
    #[case("123.a-1", "123.1-1", Ordering::Less)]
    #[case("123.1-1", "123a-1", Ordering::Less)]
    #[case("123a-1", "124-1", Ordering::Less)]
    #[case("0124", "124", Ordering::Equal)]
    #[case("6.1.0-9-amd64", "6.1.0-13-amd64", Ordering::Less)]
    #[case("abc-6.6.8-200.fc39", "abc-6.6.13-200.fc39", Ordering::Less)]
    #[case("abc-0-rescue", "abc-5.14.0-70.el9", Ordering::Less)]
    fn versions_are_ordered(#[case] one: &str, #[case] other: &str, #[case] order: Ordering) {
        assert_eq!((compare(one, other), compare(other, one)), (order, order.reverse()), "{one} {other}");
    }
}
