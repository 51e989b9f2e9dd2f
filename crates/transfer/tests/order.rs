//! Runs that go in any order, with several readers, over a source that gives something late, onto a target that loses power.

use crate::support::volatile::Volatile;
use crate::support::{MIB, Place, noise};
use badger_drive::clock::Clock;
use badger_drive::{Standing, Target};
use badger_layout::plan::{Ids, Side};
use badger_transfer::copy::{self, Context};
use badger_transfer::journal::Journal;
use badger_transfer::route::Route;
use badger_transfer::run::{self, Run};
use badger_transfer::{Control, Event, Image, Outcome, Phase, events::Silent};
use rstest::rstest;
use std::ops::Range;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

struct Dice(u64);

impl Dice {
    fn below(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (self.0 >> 33) % most
    }
}

/// Noise with a partition table and a stretch of zeroes.
fn content(seed: u64) -> Vec<u8> {
    let mut content = noise((37 << 20) + 512, seed);
    content[..512].fill(0);
    content[440..444].copy_from_slice(&[1, 2, 3, 4]);
    content[446..462].copy_from_slice(&[0, 0, 2, 0, 0x83, 0, 0, 0, 0, 8, 0, 0, 0, 8, 0, 0]);
    content[510..512].copy_from_slice(&[0x55, 0xaa]);
    content[20 << 20..23 << 20].fill(0);
    content
}

/// All of a drive in pieces of some MiB, in no order.
fn shuffled(size: u64, dice: &mut Dice) -> Vec<Range<u64>> {
    let mut pieces = Vec::new();
    let mut at = 0;
    while at < size {
        let end = (at + (1 + dice.below(3)) * MIB).min(size);
        pieces.push(at..end);
        at = end;
    }
    for last in (1..pieces.len()).rev() {
        pieces.swap(last, dice.below(last as u64 + 1) as usize);
    }
    pieces
}

const BAD: [(u64, u64); 5] = [(100, 3), (2047, 2), (30_000, 64), (42_000, 1), (75_776, 1)];

fn faults(bad: &[(u64, u64)]) -> String {
    bad.iter().map(|(lba, sectors)| format!("[[fault]]\nkind = \"unreadable\"\nlba = {lba}\nsectors = {sectors}\n")).collect()
}

#[rstest]
fn in_any_order_with_losses_of_power_it_ends_the_same(#[values(1, 2, 3, 4, 5)] seed: u64, #[values(Ids::Keep, Ids::Fresh)] ids: Ids) {
    let place = Place { ids, ..Place::new() };
    let content = content(seed);
    let size = content.len() as u64;
    let from = place.drive("from", &content, &faults(&BAD));
    let mut durable = noise(content.len(), 77);
    let side = Side { key: "volatile".into(), size_bytes: size, sector: 512, physical: 512 };
    let mut dice = Dice(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    let (mut losses, mut late) = (0, 0);
    let mut wanted = content.clone();
    for turn in 0.. {
        // Later on, what could not be read can.
        if turn == 4 {
            place.faults("from", "");
        }
        let source = place.workshop.source(&from).unwrap();
        let budget = if turn < 9 { 2 + dice.below(14) } else { u64::MAX };
        let medium = Arc::new(Volatile::new(durable, budget, dice.below(u64::MAX)));
        let mut journal = place.journal(&source, side.clone(), &Standing::default());
        let plan = journal.plan.clone();
        plan.patches.iter().for_each(|patch| wanted[patch.at as usize..][..patch.bytes.len()].copy_from_slice(&patch.bytes));
        let image = Image::plain(&source, &plan);
        let (target, control) = (Target::rehearse(medium.clone()), Control::new());
        let clock: Arc<dyn Clock> = place.workshop.sim_clock.clone();
        let over = if turn < 3 {
            let context = Context {
                plan: &plan,
                source: &source,
                image: &image,
                target: &target,
                control: &control,
                observer: &Silent,
                clock: &*clock,
                began: clock.now(),
            };
            let mut tally = journal.past.clone();
            let route = Route::over(shuffled(size, &mut dice).into_iter().flat_map(|piece| tally.done.gaps(piece).collect::<Vec<_>>()));
            let copied = copy::copy(&context, &route, 1 + dice.below(3) as usize, &mut journal, &mut tally);
            assert_eq!(copied.is_ok(), tally.done_bytes() == size);
            false
        } else {
            let came = AtomicU64::new(0);
            let count = |event: &Event| {
                if let Event::Late { len, .. } = event {
                    came.fetch_add(*len, Ordering::Relaxed);
                }
            };
            let (report, finished) = run::start(Run {
                source: source.clone(),
                image,
                target,
                journal,
                control: &control,
                observer: &count,
                clock,
                references: &[],
                again: false,
            })
            .unwrap();
            finished.into_iter().for_each(Journal::remove);
            late += came.load(Ordering::Relaxed);
            assert!(matches!(report.outcome, Outcome::Proved | Outcome::Interrupted), "{:?} {} {:?}", report.outcome, report.reason, report.proof);
            report.outcome == Outcome::Proved
        };
        durable = medium.take();
        if over {
            break;
        }
        losses += 1;
        let past = Journal::peek(&place.journals(), &source.key(), "volatile").unwrap().remove(0).past;
        for (range, ()) in past.done.iter() {
            for good in past.lost.gaps(range) {
                let good = good.start as usize..good.end as usize;
                assert!(durable[good.clone()] == wanted[good.clone()], "{good:?} is not what the journal claims");
            }
        }
    }
    assert!(losses >= 3);
    assert!(durable == wanted);
    assert!(late <= BAD.iter().map(|(_, sectors)| sectors * 512).sum::<u64>() * 9, "{late}");
}

/// What comes late makes the copy whole; what does not come stays lost, and nothing else of the source is read again.
#[rstest]
#[case::all_comes(&[], Outcome::Proved)]
#[case::some_comes(&[(30_010, 5)], Outcome::Incomplete)]
fn what_comes_late_is_taken_with_its_hash(#[case] still: &[(u64, u64)], #[case] outcome: Outcome, #[values(Ids::Keep, Ids::Fresh)] ids: Ids) {
    let place = Place { ids, ..Place::new() };
    let content = content(9);
    let source = place.drive("from", &content, &faults(&BAD));
    let target = place.drive("onto", &vec![0; content.len()], "");
    let control = Control::new();
    let stopper = |event: &Event| {
        if matches!(event, Event::Moved { start, .. } if *start >= 36 * MIB) {
            control.stop();
        }
    };
    let first = place.clone_with(&source, &target, &control, false, &stopper).unwrap();
    assert_eq!(first.outcome, Outcome::Interrupted);
    assert!(first.lost_bytes >= (1 + 64 + 1) * 512, "{}", first.lost_bytes);
    place.faults("from", &faults(still));
    let events = Mutex::new(Vec::new());
    let report = place.clone_with(&source, &target, &Control::new(), true, &|event: &Event| events.lock().unwrap().push(event.clone())).unwrap();
    assert_eq!(report.outcome, outcome, "{} {:?}", report.reason, report.proof);
    let mut wanted = content;
    let there = place.content("onto");
    if ids == Ids::Fresh {
        assert!(there[440..444] != wanted[440..444]);
        wanted[440..444].copy_from_slice(&there[440..444]);
    }
    still.iter().for_each(|(lba, sectors)| wanted[*lba as usize * 512..(lba + sectors) as usize * 512].fill(0));
    assert!(there == wanted);
    assert_eq!(report.lost.iter().map(|stretch| (stretch.start, stretch.sectors)).collect::<Vec<_>>(), still);
    let came: u64 = events.into_inner().unwrap().iter().map(|event| if let Event::Late { len, .. } = event { *len } else { 0 }).sum();
    assert_eq!(came, first.lost_bytes - report.lost_bytes);
}

/// A source that gave a sector once and does not any more: what is on the target is not given for what comes late beside it.
#[rstest]
#[case::beside_a_change_of_the_plan(500, Ids::Fresh, &[], Outcome::Proved)]
#[case::under_a_change_of_the_plan(0, Ids::Fresh, &[(100, 3)], Outcome::Incomplete)]
#[case::without_any_change(500, Ids::Keep, &[], Outcome::Proved)]
fn what_is_here_is_not_given_for_what_comes(#[case] worse: u64, #[case] ids: Ids, #[case] lost: &[(u64, u64)], #[case] outcome: Outcome) {
    let place = Place { ids, ..Place::new() };
    let content = content(9);
    let source = place.drive("from", &content, &faults(&[(100, 3)]));
    let target = place.drive("onto", &vec![0; content.len()], "");
    let control = Control::new();
    let stopper = |event: &Event| {
        if matches!(event, Event::Phase { phase: Phase::Prove, .. }) {
            control.stop();
        }
    };
    assert_eq!(place.clone_with(&source, &target, &control, false, &stopper).unwrap().outcome, Outcome::Interrupted);
    place.faults("from", &faults(&[(worse, 1)]));
    let report = place.clone_with(&source, &target, &Control::new(), false, &Silent).unwrap();
    assert_eq!(report.lost.iter().map(|stretch| (stretch.start, stretch.sectors)).collect::<Vec<_>>(), lost);
    assert_eq!(report.outcome, outcome, "{} {:?}", report.reason, report.proof);
    let (mut wanted, there) = (content, place.content("onto"));
    if ids == Ids::Fresh {
        wanted[440..444].copy_from_slice(&there[440..444]);
    }
    lost.iter().for_each(|(lba, sectors)| wanted[*lba as usize * 512..(lba + sectors) as usize * 512].fill(0));
    assert!(there == wanted);
}
