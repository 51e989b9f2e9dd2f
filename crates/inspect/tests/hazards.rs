//! What is said of a drive before and after it was read.

use badger_drive::{Since, Standing};
use badger_inspect::Verdict;
use badger_inspect::hazard::held_still;

use rstest::rstest;

fn counted(written: u64) -> Standing {
    Standing { sequence: Some(9), written: Some(written), ..Standing::default() }
}

#[rstest]
#[case::at_rest(counted(40), counted(40), false, None)]
#[case::in_use_but_at_rest(counted(40), counted(40), true, Some(Verdict::Holds))]
#[case::written_to(counted(40), counted(41), false, Some(Verdict::Fails))]
#[case::taken_out(counted(40), Standing::default(), false, Some(Verdict::NotChecked))]
#[case::never_counted(Standing::default(), Standing::default(), false, None)]
#[case::never_counted_and_in_use(Standing::default(), Standing::default(), true, Some(Verdict::NotChecked))]
fn what_became_of_a_drive_is_told(
    #[case] before: Standing,
    #[case] after: Standing,
    #[case] is_in_use: bool,
    #[case] result: Option<Verdict>,
    #[values(None, Some(Since::Same), Some(Since::Silent), Some(Since::Unseen), Some(Since::Written))] between: Option<Since>,
) {
    let said = held_still(&before, &after, is_in_use, between).map(|line| line.result);
    // Of what an earlier run read only samples are looked at again: where nobody knows what became of the drive, that is not enough.
    let at_most = match between {
        None => result,
        Some(Since::Same) => result.or((after.written == before.written && after.written.is_some()).then_some(Verdict::Holds)),
        Some(_) if result == Some(Verdict::Fails) => result,
        Some(_) => Some(Verdict::NotChecked),
    };
    assert_eq!(said, at_most);
}
