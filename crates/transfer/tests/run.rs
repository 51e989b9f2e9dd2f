//! Whole runs over simulated drives: faults on both sides, interruptions, loss of power.

use crate::support::volatile::Volatile;
use crate::support::{MIB, Place, noise};
use badger_drive::clock::Clock;
use badger_drive::{Since, Standing, Target};
use badger_inspect::Stretch;
use badger_layout::plan::Side;
use badger_transfer::journal::{Journal, Unfinished};
use badger_transfer::run::{self, Run};
use badger_transfer::{Control, Event, Image, Outcome, Report, Verdict, events::Silent, verify};
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::{Arc, Mutex};

fn blocks(report: &Report) -> &badger_transfer::Line {
    report.proof.iter().find(|line| line.what == "blocks").unwrap()
}

#[rstest]
fn every_byte_arrives(#[values(512, MIB, MIB + 512, 9 * MIB + 1536, 20 * MIB)] size: u64) {
    let place = Place::new();
    let content = noise(size as usize, size);
    let (source, target) = (place.drive("from", &content, ""), place.drive("onto", &noise(size as usize, 5), ""));
    let report = place.clone(&source, &target);
    assert_eq!((report.outcome, report.lost_bytes, report.read_bytes), (Outcome::Proved, 0, size));
    assert!(place.content("onto") == content);
    assert_eq!(report.hash.source, report.hash.target);
    assert!(!place.has_journal());
}

#[test]
fn zeroes_replace_what_was_there_and_holes_are_left_alone() {
    let place = Place::new();
    let mut content = noise(24 << 20, 3);
    content[5 << 20..11 << 20].fill(0);
    let source = place.drive("from", &content, "");
    // The target is full where the source is zero at first, and a hole where the source is zero later on.
    let target = place.drive("onto", &noise(9 << 20, 8), "");
    File::options().write(true).open(place.path("onto.img")).unwrap().set_len(24 << 20).unwrap();
    let report = place.clone(&source, &target);
    assert_eq!(report.outcome, Outcome::Proved);
    assert!(place.content("onto") == content);
    assert_eq!(report.skipped_bytes, 2 * MIB, "only what was a hole on the target needs no writing");
    assert_eq!(report.written_bytes, 22 * MIB);
}

#[test]
fn what_cannot_be_read_is_zero_and_listed_to_the_sector() {
    let place = Place::new();
    let content = noise(16 << 20, 11);
    let bad = [(0u64, 1u64), (777, 3), (2048 * 4 - 1, 2), (30_000, 64), (32_767, 1)];
    let faults: String = bad.iter().map(|(lba, sectors)| format!("[[fault]]\nkind = \"unreadable\"\nlba = {lba}\nsectors = {sectors}\n")).collect();
    let (source, target) = (place.drive("from", &content, &faults), place.drive("onto", &vec![0; 16 << 20], ""));
    let reads = Mutex::new(0u64);
    let report = place.clone_with(&source, &target, &Control::new(), false, &|_: &Event| *reads.lock().unwrap() += 1).unwrap();
    assert_eq!(report.outcome, Outcome::Incomplete);
    let mut lost = report.lost.clone();
    lost.sort_by_key(|stretch| stretch.start);
    let expected: Vec<Stretch> = bad.iter().map(|(start, sectors)| Stretch { start: *start, sectors: *sectors }).collect();
    // A stretch that crosses the edge of a transfer is found in two parts.
    let sectors = |list: &[Stretch]| list.iter().flat_map(|stretch| stretch.start..stretch.start + stretch.sectors).collect::<Vec<_>>();
    assert_eq!(sectors(&lost), sectors(&expected));
    let mut wanted = content;
    sectors(&expected).into_iter().for_each(|sector| wanted[sector as usize * 512..sector as usize * 512 + 512].fill(0));
    assert!(place.content("onto") == wanted);
    assert_eq!(blocks(&report).result, Verdict::Holds);
}

/// What nobody knows is lost, and takes no trying: it is not zero.
#[test]
fn what_an_image_of_a_failing_drive_does_not_know_is_lost() {
    let place = Place::new();
    let content = noise(16 << 20, 19);
    let fault = "[[fault]]\nkind = \"unknown\"\nlba = 9001\nsectors = 8000\n";
    let (source, target) = (place.drive("from", &content, fault), place.drive("onto", &vec![0; 16 << 20], ""));
    let report = place.clone(&source, &target);
    assert_eq!((report.outcome, report.lost_bytes), (Outcome::Incomplete, 8000 * 512));
    let mut wanted = content;
    wanted[9001 * 512..17_001 * 512].fill(0);
    assert!(place.content("onto") == wanted);
}

/// A drive that hangs does not hold the run: it breaks off, says why, and goes on where it was.
#[test]
fn a_source_that_gives_no_answer_ends_the_run_in_order() {
    let place = Place::new();
    let content = noise(16 << 20, 23);
    let hangs = "[[fault]]\nkind = \"hangs\"\nlba = 20000\nsectors = 1\ns = 4000\n";
    let (source, target) = (place.drive("from", &content, hangs), place.drive("onto", &vec![0; 16 << 20], ""));
    let report = place.clone(&source, &target);
    assert_eq!(report.outcome, Outcome::Interrupted);
    let why = &report.reason;
    assert!(why.contains("no answer") && why.contains("300 s"), "{why}");
    place.faults("from", "");
    let report = place.clone(&source, &target);
    assert_eq!((report.outcome, place.content("onto") == content), (Outcome::Proved, true));
}

#[test]
fn silent_corruption_on_the_target_is_placed_to_the_sector() {
    let place = Place::new();
    let source = place.drive("from", &noise(12 << 20, 2), "");
    let target = place.drive(
        "onto",
        &vec![0; 12 << 20],
        "[[fault]]\nkind = \"silent\"\nlba = 12345\nsectors = 2\n[[fault]]\nkind = \"silent\"\nlba = 20000\nsectors = 1\n",
    );
    let report = place.clone(&source, &target);
    assert_eq!(report.outcome, Outcome::Finished);
    let line = blocks(&report);
    assert_eq!(line.result, Verdict::Fails);
    assert_eq!(line.evidence[..2], ["sectors 12,345–12,346", "sector 20,000"]);
    assert_ne!(report.hash.source, report.hash.target);
}

#[test]
fn a_target_that_cannot_be_read_back_fails_the_proof() {
    let place = Place::new();
    let source = place.drive("from", &noise(6 << 20, 2), "");
    let target = place.drive("onto", &vec![1; 6 << 20], "[[fault]]\nkind = \"unreadable\"\nlba = 5000\nsectors = 1\n");
    let report = place.clone(&source, &target);
    assert_eq!((report.outcome, blocks(&report).result), (Outcome::Finished, Verdict::Fails));
    assert_eq!(blocks(&report).evidence[0], "sector 5,000");
}

#[test]
fn a_source_that_lies_is_found_by_a_second_reading() {
    let place = Place::new();
    let source = place.drive("from", &noise(12 << 20, 2), "[[fault]]\nkind = \"silent\"\nlba = 4321\nsectors = 1\n");
    let target = place.drive("onto", &vec![0; 12 << 20], "");
    assert_eq!(place.clone(&source, &target).outcome, Outcome::Proved, "one reading cannot know");
    let report = place.clone_with(&source, &target, &Control::new(), true, &Silent).unwrap();
    assert_eq!(report.outcome, Outcome::Finished);
    let line = report.proof.iter().find(|line| line.result == Verdict::Fails).unwrap();
    assert_eq!(line.evidence, ["sector 4,321"]);
    let steady = place.drive("steady", &noise(12 << 20, 2), "");
    assert_eq!(place.clone_with(&steady, &target, &Control::new(), true, &Silent).unwrap().outcome, Outcome::Proved);
}

#[test]
fn a_write_error_breaks_off_and_is_gone_on_with_once_it_is_mended() {
    let place = Place::new();
    let content = noise(40 << 20, 4);
    let source = place.drive("from", &content, "");
    let target = place.drive("onto", &vec![0; 40 << 20], "[[fault]]\nkind = \"write-unreadable\"\nlba = 50000\nsectors = 1\n");
    let report = place.clone(&source, &target);
    assert_eq!(report.outcome, Outcome::Interrupted);
    assert!(report.reason.contains("cannot write at byte 25600000"), "{}", report.reason);
    place.faults("onto", "");
    let report = place.clone(&source, &target);
    assert_eq!(report.outcome, Outcome::Proved);
    assert!(place.content("onto") == content);
}

#[test]
fn a_source_that_drops_off_is_gone_on_with() {
    let place = Place::new();
    let content = noise(64 << 20, 6);
    let source = place.drive("from", &content, "[[fault]]\nkind = \"drops\"\nafter_reads = 35\nback_after_s = 0.001\n");
    let target = place.drive("onto", &vec![0; 64 << 20], "");
    let mut turns = 0;
    let mut done = 0;
    let report = loop {
        let report = place.clone(&source, &target);
        turns += 1;
        if report.outcome != Outcome::Interrupted {
            break report;
        }
        assert!(report.read_bytes > done && turns < 20, "every turn gets further");
        done = report.read_bytes;
    };
    assert!(turns > 1);
    assert_eq!(report.outcome, Outcome::Proved);
    assert!(place.content("onto") == content);
}

#[test]
fn a_broken_off_copy_does_not_look_whole() {
    let place = Place::new();
    let mut content = noise(30 << 20, 4);
    content[510..512].copy_from_slice(&[0x55, 0xaa]);
    let source = place.drive("from", &content, "");
    let target = place.drive("onto", &content, "[[fault]]\nkind = \"write-unreadable\"\nlba = 50000\nsectors = 1\n");
    assert_eq!(place.clone(&source, &target).outcome, Outcome::Interrupted);
    let there = place.content("onto");
    assert!(there[..MIB as usize].iter().all(|byte| *byte == 0), "the old table is gone and the new one not there yet");
    assert!(there[MIB as usize..20 << 20] == content[MIB as usize..20 << 20]);
}

#[test]
fn a_target_that_was_used_otherwise_is_not_gone_on_with() {
    let place = Place::new();
    let source = place.drive("from", &noise(40 << 20, 4), "");
    let target = place.drive("onto", &vec![0; 40 << 20], "[[fault]]\nkind = \"write-unreadable\"\nlba = 50000\nsectors = 1\n");
    assert_eq!(place.clone(&source, &target).outcome, Outcome::Interrupted);
    place.faults("onto", "");
    File::options().write(true).open(place.path("onto.img")).unwrap().write_all_at(&noise(40 << 20, 99), 0).unwrap();
    let refusal = place.clone_with(&source, &target, &Control::new(), false, &Silent).unwrap_err();
    assert_eq!(refusal.code, "target-changed");
}

#[test]
fn stop_pause_and_limit_are_obeyed() {
    let place = Place::new();
    let content = noise(48 << 20, 12);
    let (source, target) = (place.drive("from", &content, ""), place.drive("onto", &vec![0; 48 << 20], ""));
    let control = Control::new();
    let stopper = |event: &Event| {
        if matches!(event, Event::Moved { start, .. } if *start > 16 << 20) {
            control.stop();
        }
    };
    let report = place.clone_with(&source, &target, &control, false, &stopper).unwrap();
    assert_eq!(report.outcome, Outcome::Interrupted);
    assert!(report.read_bytes > 16 << 20 && report.read_bytes < 48 << 20);
    let limited = Control::new();
    limited.limit(8 << 20);
    let before = place.workshop.sim_clock.now();
    let report = place.clone_with(&source, &target, &limited, false, &Silent).unwrap();
    let rest = (48 << 20) - (17 << 20);
    assert_eq!(report.outcome, Outcome::Proved);
    assert!((place.workshop.sim_clock.now() - before).as_secs_f64() >= f64::from(rest) / f64::from(8 << 20), "reading back is limited too");
    assert!(place.content("onto") == content);
}

#[rstest]
fn after_any_loss_of_power_it_ends_the_same(#[values(1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)] seed: u64) {
    let place = Place::new();
    let mut content = noise(37 << 20, seed);
    content[20 << 20..23 << 20].fill(0);
    // A slow source lets much time pass, so that marks come often.
    let text =
        "backing = \"from.img\"\n[identity]\nmodel = \"from\"\nserial = \"XX-from\"\nbus = \"sata\"\n[pace]\nread_mb_s = 2.0\nwrite_mb_s = 100.0\n";
    let from = place.drive("from", &content, "");
    fs::write(&from, text).unwrap();
    let source = place.workshop.source(&from).unwrap();
    let mut durable = noise(content.len(), 77);
    let side = Side { key: "volatile".into(), size_bytes: durable.len() as u64, sector: 512, physical: 512 };
    let mut random = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let mut losses = 0;
    loop {
        random = random.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        let budget = if losses < 6 { 3 + (random >> 33) % 8 } else { u64::MAX };
        let medium = Arc::new(Volatile::new(durable, budget, random));
        let journal = place.journal(&source, side.clone(), &Standing::default());
        let clock: Arc<dyn Clock> = place.workshop.sim_clock.clone();
        let target = Target::rehearse(medium.clone());
        let image = Image::plain(&source, &journal.plan);
        let (report, finished) = run::start(Run {
            source: source.clone(),
            image,
            target,
            journal,
            control: &Control::new(),
            observer: &Silent,
            clock,
            references: &[],
            again: false,
        })
        .unwrap();
        finished.into_iter().for_each(Journal::remove);
        durable = medium.take();
        if report.outcome == Outcome::Proved {
            break;
        }
        losses += 1;
        assert_eq!(report.outcome, Outcome::Interrupted);
        if let Some(Unfinished { past, .. }) = Journal::peek(&place.journals(), &source.key(), "volatile").unwrap().into_iter().next() {
            for (range, ()) in past.done.iter() {
                let range = range.start as usize..range.end as usize;
                assert!(durable[range.clone()] == content[range], "the journal claims what was not flushed");
            }
        }
    }
    assert!(losses >= 2);
    assert!(durable == content);
}

#[test]
fn a_comparison_names_what_differs() {
    let place = Place::new();
    let mut content = noise(10 << 20, 3);
    let a = place.drive("one", &content, "");
    content[777 * 512] ^= 1;
    content[9000 * 512..9002 * 512].fill(1);
    let b = place.drive("two", &content, "");
    let open = |path: &Path| place.workshop.source(path).unwrap();
    let clock = place.workshop.sim_clock.clone();
    let found = verify::compare(&open(&a), &open(&b), &Control::new(), &Silent, &*clock);
    assert_eq!(found.differing, [Stretch { start: 777, sectors: 1 }, Stretch { start: 9000, sectors: 2 }]);
    assert_eq!((found.sectors, found.bytes), (3, 10 << 20));
    let same = verify::compare(&open(&a), &open(&a), &Control::new(), &Silent, &*clock);
    assert!(same.is_equal() && same.since == [Since::Same; 2], "{same:?}");
    // Broken off, or written to meanwhile where nobody looked any more, it is not known to be equal.
    let control = Control::new();
    let stopped = verify::compare(&open(&a), &open(&a), &control, &|_: &Event| control.stop(), &*clock);
    assert!(stopped.stopped && stopped.sectors == 0 && stopped.bytes < 10 << 20 && !stopped.is_equal(), "{stopped:?}");
    let write = |_: &Event| std::fs::File::options().write(true).open(place.path("one.img")).unwrap().write_all_at(&content[..1], 0).unwrap();
    let written = verify::compare(&open(&a), &open(&a), &Control::new(), &write, &*clock);
    assert!(written.sectors == 0 && written.since == [Since::Written; 2] && !written.is_equal(), "{written:?}");
}
