//! Runs that are broken off, gone on with, lied to: what is said must be so.

use crate::support::{MIB, Shop, noise};
use badger_bench::Bench;
use badger_bench::sheet::outcome_sentence;
use badger_drive::{OwnFile, OwnKind};
use badger_inspect::{Level, Verdict};
use badger_jobs::salvage::{Fill, SalvageOrder, Seat};
use badger_jobs::{ImageOrder, Order, Prepared, Ready};
use badger_layout::plan::{Ids, Rest};
use badger_salvage::limits::Limits;
use badger_transfer::Report;
use badger_transfer::events::Silent;
use badger_transfer::journal::Journal;
use badger_transfer::{Control, Event, Outcome, Phase};
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicU64, Ordering};

/// With nothing left open.
fn settled(prepared: Prepared) -> Ready {
    prepared.settle(&Control::new(), &Silent).unwrap_or_else(|(_, refusal)| panic!("{}", refusal.text))
}

const LONG: usize = 48 * MIB;

/// Stops after so many transfers; gives what the run said, and where its copying began.
fn stopped(shop: &Shop, order: &Order, after: u64) -> (Report, u64) {
    let (control, left, began) = (Control::new(), AtomicU64::new(after), AtomicU64::new(u64::MAX));
    let watch = |event: &Event| match event {
        Event::Moved { .. } if left.fetch_sub(1, Ordering::SeqCst) == 1 => control.stop(),
        Event::Phase { phase: Phase::Copy, done, .. } => began.store(*done, Ordering::SeqCst),
        _ => {}
    };
    let report = shop.run(order, &control, &watch).unwrap();
    (report, began.load(Ordering::SeqCst))
}

fn interrupted(shop: &Shop, from: &Path, onto: &Path) {
    // Eight more may be on their way by then, whatever the machine does besides.
    let (report, _) = stopped(shop, &Order::new(from, onto), 2);
    assert_eq!(report.outcome, Outcome::Interrupted);
    assert!(report.read_bytes > 0 && report.read_bytes < LONG as u64);
}

fn pair(shop: &Shop) -> (PathBuf, PathBuf) {
    (shop.drive("from", &noise(LONG, 3), "AA-1111", ""), shop.drive("onto", &noise(LONG, 4), "BB-2222", ""))
}

fn write_quietly(path: &Path, at: u64, bytes: &[u8]) {
    let file = File::options().write(true).open(path).unwrap();
    let time = file.metadata().unwrap().modified().unwrap();
    file.write_all_at(bytes, at).unwrap();
    file.set_modified(time).unwrap();
}

/// What is left out when a run is resumed is as it was released; the ledger may be another one.
#[test]
fn a_resumed_run_is_the_same_job_in_any_ledger() {
    let shop = Shop::new();
    let (from, onto) = pair(&shop);
    let released = Order { ids: Ids::Fresh, again: true, ..Order::new(&from, &onto) };
    let (report, _) = stopped(&shop, &released, 2);
    assert_eq!((report.outcome, report.job), (Outcome::Interrupted, 1));
    // Another ledger took its place, in which the first job is another customer's; the journals lie where they lay.
    for ending in ["", "-wal", "-shm"] {
        let _ = fs::remove_file(format!("{}{ending}", shop.bench.ledger.display()));
    }
    let other = shop.bench.open_ledger().unwrap();
    let job = badger_bench::ledger::NewJob { ticket: "LR-999", customer: "Mossgate", technician: "", source_key: "x", target_key: "y" };
    assert_eq!(other.new_job(&job).unwrap().0, 1);
    drop(other);
    let ready = settled(shop.prepared(&Order::new(&from, &onto)).unwrap());
    assert_eq!((ready.plan.ids, ready.prepared.order.again), (Ids::Fresh, true), "the options are those of the job");
    let tail = ready.prepared.candidate.tail();
    let report = ready.run(&shop.bench, &tail, &Control::new(), &Silent).unwrap();
    assert_eq!((report.outcome, report.job), (Outcome::Proved, 2), "{} {:?}", report.reason, report.proof);
    assert_eq!(shop.bench.open_ledger().unwrap().job(1).unwrap().unwrap().customer, "Mossgate");
}

/// Codes and texts of the notes about options.
fn said_of_options(hazards: &[badger_inspect::Hazard]) -> Vec<(&'static str, String)> {
    hazards.iter().filter(|hazard| hazard.code.starts_with("options-")).map(|hazard| (hazard.code, hazard.text.clone())).collect()
}

#[test]
fn a_resumed_salvage_is_the_same_job() {
    let shop = Shop::new();
    let (from, _) = pair(&shop);
    let bare = SalvageOrder { source: from, target: shop.path("out.img"), map: shop.path("out.map"), ..SalvageOrder::default() };
    let limits = Limits { tries: Some(4), failures: Some(50), ..Limits::default() };
    // More than one line of a map can hold.
    let first: Vec<String> = (0..400).map(|number| format!("#1/Wenna/a folder with a long name/sheet {number}.csv")).collect();
    let whole = SalvageOrder { first: first.clone(), used: Some(true), limits: limits.clone(), fill: Some(Fill::Marked), ..bare.clone() };
    let run = |order: &SalvageOrder, after: u64| {
        let (control, left) = (Control::new(), AtomicU64::new(after));
        let watch = |event: &Event| {
            if matches!(event, Event::Moved { .. }) && left.fetch_sub(1, Ordering::SeqCst) == 1 {
                control.stop();
            }
        };
        order.clone().prepare(&shop.bench).unwrap().run(&shop.bench, "", &Seat::default(), &control, &watch).unwrap().report.outcome
    };
    assert_eq!(run(&whole, 2), Outcome::Interrupted);
    let ready = bare.clone().prepare(&shop.bench).unwrap();
    assert_eq!((&ready.order.first, ready.order.used, ready.order.fill), (&first, Some(true), Some(Fill::Marked)));
    assert_eq!((ready.order.limits.tries, ready.order.limits.failures), (Some(4), Some(50)));
    let said = said_of_options(&ready.hazards);
    assert_eq!(said.len(), 1, "{said:?}");
    for word in ["sheet 399.csv", "free space is left out", "tries 4", "failures 50", "marked on the target"] {
        assert!(said[0].0 == "options-resumed" && said[0].1.contains(word), "{word}: {said:?}");
    }
    drop(ready);
    // What is said otherwise now counts, and is named one by one.
    let other = SalvageOrder { used: Some(false), limits: Limits { tries: Some(9), ..Limits::default() }, ..bare.clone() };
    let ready = other.clone().prepare(&shop.bench).unwrap();
    let said = said_of_options(&ready.hazards);
    let differ = &said.iter().find(|(code, _)| *code == "options-differ").unwrap().1;
    assert!(differ.contains("free space is left out then, free space is read too now") && differ.contains("tries 4 then, tries 9 now"), "{differ}");
    assert_eq!((ready.order.limits.tries, ready.order.limits.failures, ready.order.fill), (Some(9), Some(50), Some(Fill::Marked)));
    drop(ready);
    assert_eq!(run(&other, 1), Outcome::Interrupted);
    let ready = bare.prepare(&shop.bench).unwrap();
    assert_eq!((ready.order.used, ready.order.limits.tries), (Some(false), Some(9)), "the latest run's options are kept");
}

/// Zeroes behind the list of pieces, or over its records: then another drive must not be taken for the one that was read.
#[rstest]
#[case::behind_it(false)]
#[case::over_its_records(true)]
fn a_list_of_pieces_without_sound_records_vouches_for_nothing(#[case] over: bool) {
    let shop = Shop::new();
    let (from, _) = pair(&shop);
    let order = SalvageOrder { source: from, target: shop.path("out.img"), map: shop.path("out.map"), ..SalvageOrder::default() };
    let (control, left) = (Control::new(), AtomicU64::new(1));
    let watch = |event: &Event| {
        if matches!(event, Event::Moved { .. }) && left.fetch_sub(1, Ordering::SeqCst) == 1 {
            control.stop();
        }
    };
    let begun = order.clone().prepare(&shop.bench).unwrap().run(&shop.bench, "", &Seat::default(), &control, &watch).unwrap();
    assert_eq!(begun.report.outcome, Outcome::Interrupted);
    let list = fs::OpenOptions::new().write(true).open(shop.path("out.map.pieces")).unwrap();
    let len = list.metadata().unwrap().len();
    if over {
        list.write_all_at(&vec![0; len as usize - 52], 52).unwrap();
    } else {
        // Far more of them than samples are taken.
        list.set_len(len + 52 * 4000).unwrap();
        fs::write(shop.path("from.img"), noise(shop.content("from").len(), 77)).unwrap();
    }
    let ready = order.prepare(&shop.bench).unwrap();
    let tail = ready.candidate.tail();
    match ready.run(&shop.bench, &tail, &Seat::default(), &Control::new(), &Silent) {
        Err(refusal) => assert!(!over && refusal.code == "source-changed", "{}", refusal.text),
        Ok(done) => {
            let said: Vec<_> = done.report.proof.iter().map(|line| (line.what.as_str(), line.result, line.text.as_str())).collect();
            assert!(over && done.report.outcome == Outcome::Finished, "{:?} {said:?}", done.report.outcome);
            assert!(said.iter().any(|(what, result, text)| *what == "source" && *result == Verdict::NotChecked && text.contains("no sound record")));
        }
    }
}

#[test]
fn a_resumed_image_is_the_same_job() {
    let mut shop = Shop::new();
    shop.bench.workshop.passphrase = Some("three grey herons".into());
    // Longer than a group, behind which an image can be resumed.
    let from = shop.drive("from", &noise(130 * MIB, 3), "AA-1111", "");
    let bare = ImageOrder { source: from, file: shop.path("kept.zbi"), level: Some(1), ..ImageOrder::default() };
    let whole = ImageOrder { locked: true, split: Some(8 << 20), ..bare.clone() };
    let volumes = || -> Vec<u64> {
        let all = fs::read_dir(shop.dir.path()).unwrap().map(Result::unwrap);
        all.filter(|entry| entry.file_name().to_string_lossy().starts_with("kept.")).map(|entry| entry.metadata().unwrap().len()).collect()
    };
    let control = Control::new();
    let watch = |_: &Event| {
        if volumes().iter().sum::<u64>() > 70 << 20 {
            control.stop();
        }
    };
    let begun = whole.prepare(&shop.bench, &Control::new()).unwrap().run(&shop.bench, &control, &watch).unwrap();
    assert_eq!(begun.outcome, Outcome::Interrupted);
    let ready = bare.prepare(&shop.bench, &Control::new()).unwrap();
    let said = said_of_options(&ready.sight().hazards);
    assert!(ready.order.locked && said.len() == 1 && said[0].1.contains("locked"), "{said:?}");
    let report = ready.run(&shop.bench, &Control::new(), &Silent).unwrap();
    assert_eq!(report.outcome, Outcome::Proved, "{}", report.reason);
    let lengths = volumes();
    assert!(lengths.len() >= 16 && lengths.iter().all(|len| *len <= 8 << 20), "{lengths:?}");
}

#[rstest]
#[case::another_file_in_its_place("rename")]
#[case::the_same_bytes_in_another_file("copy")]
#[case::written_to("write")]
#[case::written_to_and_hidden("quiet")]
#[case::another_drive_with_its_serial("describe")]
#[case::grown("grow")]
fn a_resume_takes_no_other_source(#[case] how: &str) {
    let shop = Shop::new();
    let (from, onto) = pair(&shop);
    interrupted(&shop, &from, &onto);
    let half = shop.content("onto");
    let image = shop.path("from.img");
    match how {
        "rename" => {
            fs::write(shop.path("other.img"), noise(LONG, 9)).unwrap();
            fs::rename(shop.path("other.img"), &image).unwrap();
        }
        "copy" => {
            fs::copy(&image, shop.path("other.img")).unwrap();
            fs::rename(shop.path("other.img"), &image).unwrap();
        }
        "write" => File::options().write(true).open(&image).unwrap().write_all_at(b"x", 7_000_000).unwrap(),
        // Where a look at a few places would not find it, and with the old time given back.
        "quiet" => write_quietly(&image, 2 * MIB as u64 + 5, b"somebody else"),
        "describe" => {
            fs::write(shop.path("other.img"), noise(LONG, 9)).unwrap();
            shop.describe("from", "other", "AA-1111", "");
        }
        _ => File::options().write(true).open(&image).unwrap().set_len(LONG as u64 + 4096).unwrap(),
    }
    let refusal = shop.clone(&from, &onto).unwrap_err();
    let codes: &[&str] = if how == "grow" { &["source-changed", "target-too-small"] } else { &["source-changed"] };
    assert!(codes.contains(&refusal.code), "{refusal:?}");
    assert!(half == shop.content("onto"), "nothing more was written");
}

/// An image equals what was read for it; whether that ever was together on the drive is another question.
#[rstest]
#[case::nobody_writes(None, None, &[("blocks", Verdict::Holds)])]
#[case::written_to_where_nothing_was_read_yet(None, Some(LONG as u64 - 5), &[("blocks", Verdict::Holds), ("source", Verdict::Fails)])]
#[case::nobody_writes_and_it_is_raw(Some(badger_image::Format::Raw), None, &[("blocks", Verdict::Holds)])]
#[case::raw_and_equal_all_the_same(Some(badger_image::Format::Raw), Some(LONG as u64 - 5), &[("blocks", Verdict::Holds), ("source", Verdict::Fails)])]
#[case::raw_and_another(Some(badger_image::Format::Raw), Some(5), &[("blocks", Verdict::Fails), ("source", Verdict::Fails)])]
fn an_image_of_what_changed_while_it_was_read_is_not_proved(
    #[case] format: Option<badger_image::Format>,
    #[case] writes: Option<u64>,
    #[case] proof: &[(&str, Verdict)],
) {
    let shop = Shop::new();
    let (from, _) = pair(&shop);
    let order = ImageOrder { source: from, file: shop.path("kept.raw"), format, ..ImageOrder::default() };
    let ready = order.prepare(&shop.bench, &Control::new()).unwrap();
    let (begun, image) = (AtomicU64::new(0), shop.path("from.img"));
    let watch = |event: &Event| {
        if let Some(at) = writes
            && matches!(event, Event::Moved { .. })
            && begun.fetch_add(1, Ordering::SeqCst) == 0
        {
            write_quietly(&image, at, b"later");
        }
    };
    let report = ready.run(&shop.bench, &Control::new(), &watch).unwrap();
    let said: Vec<(&str, Verdict)> = report.proof.iter().filter(|line| line.what != "boot").map(|line| (line.what.as_str(), line.result)).collect();
    assert_eq!(said, proof, "{:?}", report.proof);
    let outcome = if writes.is_some() { Outcome::Finished } else { Outcome::Proved };
    assert!(report.outcome == outcome && report.reason.is_empty() == writes.is_none(), "{}", report.reason);
}

#[rstest]
#[case::nobody_writes(false, Outcome::Proved)]
#[case::somebody_writes(true, Outcome::Finished)]
fn a_salvage_of_what_changed_while_it_was_read_is_not_proved(#[case] writes: bool, #[case] outcome: Outcome) {
    let shop = Shop::new();
    let (source, _) = pair(&shop);
    let order = SalvageOrder { source, target: shop.path("out.img"), map: shop.path("out.map"), ..SalvageOrder::default() };
    let (ready, image, left) = (order.prepare(&shop.bench).unwrap(), shop.path("from.img"), AtomicU64::new(u64::from(writes)));
    let watch = |event: &Event| {
        if matches!(event, Event::Moved { .. }) && left.swap(0, Ordering::SeqCst) == 1 {
            write_quietly(&image, LONG as u64 - 5, b"later");
        }
    };
    let report = ready.run(&shop.bench, "", &Seat::default(), &Control::new(), &watch).unwrap().report;
    let said = report.proof.iter().find(|line| line.name() == "source").map(|line| line.result);
    assert_eq!((report.outcome, said), (outcome, writes.then_some(Verdict::Fails)), "{}: {:?}", report.reason, report.proof);
}

#[test]
fn an_image_is_not_made_of_what_changed_since_it_was_looked_at() {
    let shop = Shop::new();
    let (from, _) = pair(&shop);
    let order = ImageOrder { source: from, file: shop.path("kept.zbi"), ..ImageOrder::default() };
    let ready = order.prepare(&shop.bench, &Control::new()).unwrap();
    write_quietly(&shop.path("from.img"), 2 * MIB as u64 + 5, b"somebody else");
    assert_eq!(ready.run(&shop.bench, &Control::new(), &Silent).unwrap_err().code, "source-changed");
    assert!(!shop.path("kept.zbi").exists());
}

#[test]
fn a_resume_says_what_it_compared_and_does_not_begin_anew() {
    let shop = Shop::new();
    let (from, onto) = pair(&shop);
    interrupted(&shop, &from, &onto);
    let (report, began) = stopped(&shop, &Order::new(&from, &onto), u64::MAX);
    assert!(began > 0, "it began anew");
    assert_eq!(report.outcome, Outcome::Proved);
    let said = report.proof[0].evidence.iter().find(|line| line.contains("gone on with at")).unwrap();
    assert!(said.contains("blocks of 1 MiB") && said.contains("places of the source"), "{said}");
    assert!(shop.content("onto") == noise(LONG, 3));
}

#[test]
fn targets_with_one_serial_keep_their_own_journals() {
    let shop = Shop::new();
    let (from, _) = pair(&shop);
    let (one, two) = (shop.drive("one", &noise(LONG, 5), "000000", ""), shop.drive("two", &noise(LONG, 6), "000000", ""));
    // A bridge that gives every drive the same serial: only one is attached at a time, at the same place.
    let slot = shop.path("slot.drive.toml");
    let attach = |path: &Path| _ = fs::copy(path, &slot).unwrap();
    attach(&one);
    interrupted(&shop, &from, &slot);
    let half = shop.content("one");
    attach(&two);
    let refusal = shop.clone(&from, &slot).unwrap_err();
    assert_eq!(refusal.code, "target-changed");
    assert!(shop.content("two") == noise(LONG, 6) && shop.content("one") == half);
    // Begun anew on the second, the first is still gone on with.
    let order = Order { restart: true, ..Order::new(&from, &slot) };
    assert_eq!(stopped(&shop, &order, 2).0.outcome, Outcome::Interrupted);
    attach(&one);
    let (report, began) = stopped(&shop, &Order::new(&from, &slot), u64::MAX);
    assert!(report.outcome == Outcome::Proved && began > 0);
    attach(&two);
    let (report, began) = stopped(&shop, &Order::new(&from, &slot), u64::MAX);
    assert!(report.outcome == Outcome::Proved && began > 0);
    assert!(shop.content("one") == noise(LONG, 3) && shop.content("two") == noise(LONG, 3));
}

#[test]
fn relative_paths_name_one_journal_each() {
    let shop = Shop::new();
    for name in ["a", "b"] {
        fs::create_dir(shop.path(name)).unwrap();
        fs::write(shop.path(&format!("{name}/from.img")), noise(LONG, u64::from(name.as_bytes()[0]))).unwrap();
    }
    let key = |dir: &str| {
        let path = shop.path(dir).join("../").join(dir).join("from.img");
        shop.bench.workshop.source(&path).unwrap().key()
    };
    assert_ne!(key("a"), key("b"));
    assert_eq!(key("a"), shop.bench.workshop.source(&shop.path("a/from.img")).unwrap().key());
}

#[rstest]
fn a_flush_that_failed_is_not_believed_when_it_is_tried_again(#[values(2, 3, 4)] after: u64) {
    let shop = Shop::new();
    let from = shop.drive("from", &noise(LONG, 3), "AA-1111", "");
    let fault = format!("[pace]\nread_mb_s = 5.0\nwrite_mb_s = 5.0\n[[fault]]\nkind = \"flush-fails\"\nafter_flushes = {after}\n");
    let onto = shop.drive("onto", &noise(LONG, 4), "BB-2222", &fault);
    let mut kept = 0;
    let watch = AtomicU64::new(0);
    let observer = |event: &Event| {
        if let Event::Kept { done } = event {
            watch.store(*done, Ordering::SeqCst);
        }
    };
    let mut report = shop.run(&Order::new(&from, &onto), &Control::new(), &observer).unwrap();
    // The trip-wire flushes too; a fault that met it only ends the release.
    for _ in 0..20 {
        if report.outcome != Outcome::Interrupted {
            break;
        }
        kept = kept.max(watch.load(Ordering::SeqCst));
        shop.describe("onto", "onto", "BB-2222", "");
        report = shop.clone(&from, &onto).unwrap();
    }
    assert_eq!(report.outcome, Outcome::Proved, "{}", report.reason);
    assert!(shop.content("onto") == noise(LONG, 3));
}

#[test]
fn the_worst_line_is_the_verdict() {
    let shop = Shop::new();
    let from = shop.drive("from", &noise(LONG, 3), "AA-1111", "[[fault]]\nkind = \"unreadable\"\nlba = 9000\nsectors = 2\n");
    let onto = shop.drive("onto", &noise(LONG, 4), "BB-2222", "[[fault]]\nkind = \"write-lost\"\nlba = 40000\nsectors = 3\n");
    let report = shop.clone(&from, &onto).unwrap();
    assert_eq!((report.outcome, report.lost_bytes), (Outcome::Finished, 1024));
    let line = &report.proof[0];
    assert_eq!((line.result, line.places.iter().map(|place| place.sectors).sum::<u64>()), (Verdict::Fails, 3));
    assert_eq!(line.places[0].start, 40_000);
    assert!(outcome_sentence(&report).contains("a proof failed") && report.reason.contains("could not be read"), "{}", report.reason);
}

#[test]
fn a_target_that_goes_away_while_it_is_read_back_is_not_called_defective() {
    let shop = Shop::new();
    let from = shop.drive("from", &noise(LONG, 3), "AA-1111", "");
    let onto = shop.drive("onto", &noise(LONG, 4), "BB-2222", "[[fault]]\nkind = \"drops\"\nafter_reads = 30\n");
    let report = shop.clone(&from, &onto).unwrap();
    // Enough reads for the look and the release, not enough for reading back.
    if report.outcome == Outcome::Proved {
        panic!("the fault came too late for this test");
    }
    assert_eq!(report.outcome, Outcome::Interrupted, "{}", report.reason);
    assert!(report.reason.contains("target does not answer"), "{}", report.reason);
    shop.describe("onto", "onto", "BB-2222", "");
    let (report, _) = stopped(&shop, &Order::new(&from, &onto), u64::MAX);
    assert_eq!(report.outcome, Outcome::Proved, "{}", report.reason);
}

#[rstest]
#[case::unlinked("unlink")]
#[case::swapped("swap")]
#[case::source_written("source")]
fn what_happens_during_a_run_is_no_success(#[case] how: &str) {
    let shop = Shop::new();
    fs::write(shop.path("from.img"), noise(LONG, 3)).unwrap();
    fs::write(shop.path("onto.img"), noise(LONG, 4)).unwrap();
    let done = AtomicU64::new(0);
    let watch = |event: &Event| {
        if matches!(event, Event::Phase { phase: Phase::Prove, .. }) && done.fetch_add(1, Ordering::SeqCst) == 0 {
            let onto = shop.path("onto.img");
            match how {
                "unlink" => fs::remove_file(&onto).unwrap(),
                "swap" => {
                    fs::write(shop.path("other.img"), noise(LONG, 8)).unwrap();
                    fs::rename(shop.path("other.img"), &onto).unwrap();
                }
                _ => File::options().write(true).open(shop.path("from.img")).unwrap().write_all_at(b"x", 99).unwrap(),
            }
        }
    };
    let report = shop.run(&Order::new(shop.path("from.img"), shop.path("onto.img")), &Control::new(), &watch).unwrap();
    assert_eq!(report.outcome, Outcome::Finished, "{:?}", report.proof[0]);
    assert_eq!(report.proof[0].result, Verdict::Fails);
}

/// A disk with one ext4 volume that starts a system by identifiers.
fn system(shop: &Shop, name: &str, mib: usize, uuid: &str) -> PathBuf {
    let volume = shop.path("volume.img");
    let data = shop.path("data");
    fs::create_dir_all(data.join("etc")).unwrap();
    fs::create_dir_all(data.join("boot/grub")).unwrap();
    fs::write(data.join("etc/fstab"), format!("UUID={uuid} / ext4 defaults 0 1\nPARTUUID=12345678-01 /srv ext4 noauto 0 2\n")).unwrap();
    fs::write(data.join("boot/grub/grub.cfg"), format!("search --fs-uuid --set=root {uuid}\nlinux /vmlinuz root=UUID={uuid} ro\n")).unwrap();
    File::create(&volume).unwrap().set_len(((mib - 2) * MIB) as u64).unwrap();
    let made = std::process::Command::new("mke2fs").args(["-q", "-F", "-t", "ext4", "-U", uuid, "-d"]).arg(&data).arg(&volume).status();
    assert!(made.unwrap().success());
    let mut mbr = badger_layout::mbr::Mbr::empty(0x1234_5678);
    mbr.entries[0] = badger_layout::mbr::Entry::new(0x83, 2048, ((mib - 2) * MIB / 512) as u32, true);
    let mut bytes = vec![0; MIB];
    bytes[..512].copy_from_slice(&mbr.write(512)[0].1);
    bytes.extend(fs::read(&volume).unwrap());
    bytes.resize(mib * MIB, 0);
    shop.drive(name, &bytes, "AA-1111", "")
}

#[rstest]
#[case::kept(Ids::Keep, false, true)]
#[case::fresh(Ids::Fresh, false, false)]
#[case::fresh_and_fitted(Ids::Fresh, true, false)]
fn what_will_not_start_is_said_before_and_is_no_success_after(#[case] ids: Ids, #[case] fit: bool, #[case] starts: bool) {
    let shop = Shop::new();
    let from = system(&shop, "from", 32, "c680409a-6ebe-4801-89d9-b55e9ba1ed2d");
    let onto = shop.drive("onto", &vec![0; 64 * MIB], "BB-2222", "");
    let order = Order { ids, fit: fit.then(|| "auto".parse().unwrap()), ..Order::new(&from, &onto) };
    let prepared = Prepared::of(&shop.bench, &order).unwrap();
    let said = prepared.hazards.iter().any(|hazard| hazard.code == "will-not-start" && hazard.level == Level::Mind);
    assert_eq!(said, !starts);
    let report = settled(prepared).run(&shop.bench, "2222", &Control::new(), &Silent).unwrap();
    let fails = report.proof.iter().any(|line| line.what == "boot" && line.result == Verdict::Fails);
    assert_eq!((report.outcome == Outcome::Proved, fails), (starts, !starts), "{:?}", report.proof);
}

#[rstest]
#[case::used(None)]
#[case::fitted(Some("auto"))]
fn the_rest_is_zero_only_where_it_was_read_as_zero(#[case] fit: Option<&str>) {
    let shop = Shop::new();
    let from = system(&shop, "from", 32, "c680409a-6ebe-4801-89d9-b55e9ba1ed2d");
    let order = |onto: &Path| Order { used: Some(Rest::Zero), fit: fit.map(|rules| rules.parse().unwrap()), ..Order::new(&from, onto) };
    let onto = shop.drive("onto", &noise(64 * MIB, 4), "BB-2222", "");
    let report = shop.run(&order(&onto), &Control::new(), &Silent).unwrap();
    assert_eq!(report.outcome, Outcome::Proved, "{:?}", report.proof);
    let line = report.proof.iter().find(|line| line.text.contains("nothing but zeroes")).unwrap();
    assert_eq!(line.result, Verdict::Holds);
    // A place at the far end that nothing is copied to, and that keeps what it held.
    let liar = shop.drive("liar", &noise(64 * MIB, 4), "CC-3333", "[[fault]]\nkind = \"write-lost\"\nlba = 124000\nsectors = 8\n");
    let report = shop.run(&order(&liar), &Control::new(), &Silent).unwrap();
    assert_eq!(report.outcome, Outcome::Finished);
    assert!(report.reason.contains("is not so"), "{}", report.reason);
}

#[test]
fn what_was_left_out_is_not_called_everything() {
    let shop = Shop::new();
    let mut mbr = badger_layout::mbr::Mbr::empty(7);
    mbr.entries[0] = badger_layout::mbr::Entry::new(0x83, 2048, 8192, false);
    mbr.entries[1] = badger_layout::mbr::Entry::new(0x83, 16384, 8192, false);
    let mut bytes = noise(16 * MIB, 3);
    bytes[..512].copy_from_slice(&mbr.write(512)[0].1);
    let (from, onto) = (shop.drive("from", &bytes, "AA-1111", ""), shop.drive("onto", &vec![0; 16 * MIB], "BB-2222", ""));
    let order = Order { fit: Some("2=out".parse().unwrap()), ..Order::new(&from, &onto) };
    let report = shop.run(&order, &Control::new(), &Silent).unwrap();
    assert_eq!(report.outcome, Outcome::Proved, "{:?}", report.proof);
    let said = outcome_sentence(&report);
    assert!(!said.contains("Everything") && said.contains("Left out, as planned: partition 2"), "{said}");
}

#[rstest]
#[case::zeroes(0, 0, "target-looks-empty", "looks empty")]
#[case::data_behind_a_zeroed_start(40, 0, "target-holds", "data without a table")]
#[case::data_at_the_very_end(63, 0, "target-holds", "data without a table")]
#[case::not_readable(0, 9, "target-not-readable", "not readable")]
fn empty_is_not_claimed(#[case] data_at: usize, #[case] faults: u64, #[case] code: &str, #[case] words: &str) {
    let shop = Shop::new();
    let mut bytes = vec![0; 64 * MIB];
    if data_at > 0 {
        bytes[data_at * MIB..(data_at + 1) * MIB].copy_from_slice(&noise(MIB, 8));
    }
    let fault = if faults > 0 { "[[fault]]\nkind = \"unreadable\"\nlba = 20\nsectors = 131000\n" } else { "" };
    let (from, onto) = (shop.drive("from", &noise(4 * MIB, 3), "AA-1111", ""), shop.drive("onto", &bytes, "BB-2222", fault));
    let prepared = Prepared::of(&shop.bench, &Order::new(&from, &onto)).unwrap();
    let said = prepared.hazards.iter().find(|hazard| hazard.code.starts_with("target-")).unwrap();
    assert_eq!(said.code, code, "{said:?}");
    let looked = badger_inspect::Looked::at(&shop.bench.workshop.source(&onto).unwrap());
    assert!(looked.content.words().contains(words), "{}", looked.content.words());
}

#[test]
fn an_unfinished_copy_is_called_one() {
    let shop = Shop::new();
    let (from, onto) = pair(&shop);
    interrupted(&shop, &from, &onto);
    let other = shop.drive("other", &noise(MIB, 9), "DD-4444", "");
    let prepared = Prepared::of(&shop.bench, &Order::new(&other, &onto)).unwrap();
    let said = prepared.hazards.iter().find(|hazard| hazard.code == "unfinished-copy").unwrap();
    assert!(said.text.contains("unfinished copy of job 1"), "{}", said.text);
    // Gone on with it is no surprise.
    let prepared = Prepared::of(&shop.bench, &Order::new(&from, &onto)).unwrap();
    assert!(prepared.unfinished.is_some() && prepared.hazards.iter().all(|hazard| hazard.code != "unfinished-copy"));
}

#[test]
fn own_files_are_neither_source_nor_target() {
    let shop = Shop::new();
    let (from, _) = pair(&shop);
    drop(shop.bench.open_ledger().unwrap());
    let ledger = shop.path("ledger.db");
    let refusal = Prepared::of(&shop.bench, &Order { fit: Some("auto".parse().unwrap()), ..Order::new(&from, &ledger) }).err().unwrap();
    assert_eq!(refusal.code, "ledger-on-target");
    let bench = Bench { ledger: shop.path("from.img"), ..shop.bench.clone() };
    assert_eq!(Prepared::of(&bench, &Order::new(&from, shop.path("onto.drive.toml"))).err().unwrap().code, "ledger-on-source");
    for (name, code) in [("from.img", "log-on-source"), ("onto.img", "log-on-target")] {
        let mut bench = shop.bench.clone();
        bench.workshop.own = vec![OwnFile { path: shop.path(name), kind: OwnKind::Log }];
        assert_eq!(Prepared::of(&bench, &Order::new(&from, shop.path("onto.drive.toml"))).err().unwrap().code, code);
    }
}

/// A draft leaves open what of a volume that changes is copied; what was settled is in the journal, and is what arrives.
#[test]
fn what_was_shown_is_what_is_done() {
    let shop = Shop::new();
    let (from, onto) = (shop.drive("from", &vec![0; 20 * MIB], "AA-1111", ""), shop.drive("onto", &vec![0; 40 * MIB], "BB-2222", ""));
    assert!(Command::new("mkfs.fat").args(["-F", "16"]).arg(shop.path("from.img")).output().unwrap().status.success());
    let order = Order { fit: Some("auto".parse().unwrap()), ..Order::new(&from, &onto) };
    let prepared = shop.prepared(&order).unwrap();
    assert!(prepared.draft.plan().moves.is_empty() && prepared.draft.bytes() > 0);
    let ready = settled(prepared);
    let (shown, tail) = (ready.plan.clone(), ready.prepared.candidate.tail());
    assert!(shown.moves.iter().all(|step| step.volume == Some(0)) && shown.bytes() > 0, "{:?}", shown.moves);
    let control = Control::new();
    let stop = |event: &Event| {
        if matches!(event, Event::Phase { phase: Phase::Copy, .. }) {
            control.stop();
        }
    };
    assert_eq!(ready.run(&shop.bench, &tail, &control, &stop).unwrap().outcome, Outcome::Interrupted);
    let ledger = shop.bench.open_ledger().unwrap();
    let begun = Journal::peek(&ledger.journals(), &shown.source.key, &shown.target.key).unwrap();
    assert!(begun[0].plan == shown);
    // Gone on with, it comes out the same again.
    let again = shop.ready(&order).unwrap();
    assert!(again.plan == shown);
    let report = again.run(&shop.bench, &tail, &Control::new(), &Silent).unwrap();
    assert_eq!((report.outcome, report.planned_bytes), (Outcome::Proved, shown.bytes()), "{} {:?}", report.reason, report.proof);
    let out = Command::new("fsck.fat").arg("-n").arg(shop.path("onto.img")).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stdout));
}
