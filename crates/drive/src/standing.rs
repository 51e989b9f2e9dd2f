//! What the system says of a drive that is open.

use serde::{Deserialize, Serialize};

/// What the system says of an open drive, as long as it is attached or the file is there.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Standing {
    /// The number the kernel gave this medium when it appeared.
    pub sequence: Option<u64>,
    /// Sectors of 512 bytes written to it since then, by anybody.
    pub written: Option<u64>,
    /// Device and inode of the file, or of the file under it.
    pub node: Option<(u64, u64)>,
    /// When that file, or what the system keeps of it, changed last: seconds and nanoseconds since 1970. Nobody can set this.
    pub changed: Option<(i64, i64)>,
}

/// What became of a drive or file between two looks at it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Since {
    /// Nothing was written to it.
    Same,
    /// Something was written to it.
    Written,
    /// It was taken out, or another has come into its place: the system says of one look what it does not say of the other.
    Unseen,
    /// The system never says whether anything is written to such a one.
    #[default]
    Silent,
}

impl Standing {
    /// What became of the drive or file between two looks at it under one start of the system, `then` and this one.
    pub fn since(&self, then: &Self) -> Since {
        fn pair<T: PartialEq>(then: Option<T>, now: Option<T>, other: Since) -> Since {
            match (then, now) {
                (Some(then), Some(now)) if then != now => other,
                (Some(_), Some(_)) => Since::Same,
                (None, None) => Since::Silent,
                _ => Since::Unseen,
            }
        }
        let place = [pair(then.sequence, self.sequence, Since::Unseen), pair(then.node, self.node, Since::Unseen)];
        let counted = pair(then.written, self.written, Since::Written);
        let dated = pair(then.changed, self.changed, Since::Written);
        match () {
            // A count begins anew with another medium.
            () if dated == Since::Written || counted == Since::Written && place[0] != Since::Unseen => Since::Written,
            () if place.contains(&Since::Unseen) || [counted, dated].contains(&Since::Unseen) => Since::Unseen,
            () if [counted, dated].contains(&Since::Same) => Since::Same,
            () => Since::Silent,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn drive(sequence: u64, written: u64) -> Standing {
        Standing { sequence: Some(sequence), written: Some(written), ..Standing::default() }
    }

    fn file(inode: u64, changed: i64) -> Standing {
        Standing { node: Some((5, inode)), changed: Some((changed, 0)), ..Standing::default() }
    }

    #[rstest]
    #[case::a_drive_at_rest(drive(9, 40), drive(9, 40), Since::Same)]
    #[case::a_drive_that_is_written_to(drive(9, 40), drive(9, 41), Since::Written)]
    #[case::another_medium(drive(9, 40), drive(10, 40), Since::Unseen)]
    #[case::another_medium_with_its_own_count(drive(9, 40), drive(10, 0), Since::Unseen)]
    #[case::a_drive_that_was_taken_out(drive(9, 40), Standing { sequence: Some(9), ..Standing::default() }, Since::Unseen)]
    #[case::nothing_is_said_any_more(drive(9, 40), Standing::default(), Since::Unseen)]
    #[case::a_file_at_rest(file(3, 40), file(3, 40), Since::Same)]
    #[case::a_file_that_is_written_to(file(3, 40), file(3, 41), Since::Written)]
    #[case::another_file_of_the_same_time(file(3, 40), file(4, 40), Since::Unseen)]
    #[case::a_file_that_is_nowhere_any_more(file(3, 40), Standing { node: Some((5, 3)), ..Standing::default() }, Since::Unseen)]
    #[case::written_to_and_then_taken_out(
        Standing { changed: Some((40, 0)), ..drive(9, 40) },
        Standing { changed: Some((41, 0)), ..Standing::default() },
        Since::Written
    )]
    #[case::a_drive_of_which_nothing_is_ever_said(Standing::default(), Standing::default(), Since::Silent)]
    fn two_looks_are_compared(#[case] then: Standing, #[case] now: Standing, #[case] since: Since) {
        assert_eq!(now.since(&then), since);
    }
}
