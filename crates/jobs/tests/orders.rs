//! Orders from their preparation to the ledger.

use badger_bench::Bench;
use badger_bench::ledger::{Ledger, day, written};
use badger_drive::Workshop;
use badger_inspect::Level;
use badger_jobs::{Order, Prepared, Ready};
use badger_layout::plan::Ids;
use badger_transfer::events::Silent;
use badger_transfer::{Control, Event, Outcome};
use rstest::rstest;
use std::fs;
use std::path::PathBuf;
use tempfile::TempDir;

/// With nothing left open.
fn settled(prepared: Prepared) -> Ready {
    prepared.settle(&Control::new(), &Silent).unwrap_or_else(|(_, refusal)| panic!("{}", refusal.text))
}

const MIB: usize = 1 << 20;

struct Place {
    dir: TempDir,
    bench: Bench,
}

impl Place {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let workshop = Workshop { shelf: Some(dir.path().to_path_buf()), ..Workshop::default() };
        let ledger = dir.path().join("ledger.db");
        Self { dir, bench: Bench { workshop, ledger, config: Default::default() } }
    }

    /// A drive on the shelf. `mark` makes its content a disk with one partition of that disk identifier.
    fn drive(&self, name: &str, mib: usize, mark: Option<u32>) -> PathBuf {
        let mut bytes = vec![0; mib * MIB];
        if let Some(id) = mark {
            let mut mbr = badger_layout::mbr::Mbr::empty(id);
            mbr.entries[0] = badger_layout::mbr::Entry::new(0x83, 2048, 2048, false);
            bytes[..512].copy_from_slice(&mbr.write(512)[0].1);
            bytes[2 * MIB..2 * MIB + 9].copy_from_slice(b"ferry log");
        }
        fs::write(self.dir.path().join(format!("{name}.img")), bytes).unwrap();
        let path = self.dir.path().join(format!("{name}.drive.toml"));
        let text = format!("backing = \"{name}.img\"\n[identity]\nmodel = \"{name}\"\nserial = \"ZZ-{name}\"\nbus = \"sata\"\n");
        fs::write(&path, text).unwrap();
        path
    }

    fn codes(&self, order: &Order) -> Vec<(Level, &'static str)> {
        Prepared::of(&self.bench, order).unwrap().hazards.iter().map(|hazard| (hazard.level, hazard.code)).collect()
    }
}

/// A drive that says of itself that it fails is named before anything is read of it at length: as a source, and as a target.
#[test]
fn a_drive_that_fails_is_said_so() {
    let place = Place::new();
    let (from, to) = (place.drive("from", 4, Some(7)), place.drive("onto", 4, None));
    let order = Order::new(&from, &to);
    assert!(!place.codes(&order).iter().any(|(_, code)| code.ends_with("-fails")));
    for (drive, code) in [(&from, "source-fails"), (&to, "target-fails")] {
        let text = fs::read_to_string(drive).unwrap();
        fs::write(drive, format!("{text}[health]\nunreadable = 3\nwarnings = [\"it says itself that it fails\"]\n")).unwrap();
        assert!(place.codes(&order).contains(&(Level::Mind, code)), "{:?}", place.codes(&order));
    }
}

#[test]
fn hazards_come_by_level_and_name_what_is_lost() {
    let place = Place::new();
    let (from, to) = (place.drive("from", 4, Some(7)), place.drive("onto", 4, Some(8)));
    place.drive("twin", 4, Some(7));
    let order = Order::new(&from, &to);
    assert_eq!(place.codes(&order), [(Level::Mind, "target-holds"), (Level::Mind, "same-ids"), (Level::Note, "ids-kept")]);
    assert_eq!(place.codes(&Order { ids: Ids::Fresh, ..order.clone() }), [(Level::Mind, "target-holds")]);
    let prepared = Prepared::of(&place.bench, &order).unwrap();
    let texts: Vec<&str> = prepared.hazards.iter().map(|hazard| hazard.text.as_str()).collect();
    assert!(texts[0].contains("1 partition") && texts[0].contains("all of it is lost"), "{texts:?}");
    assert!(texts[1].contains("twin"), "{texts:?}");
}

#[test]
fn a_larger_empty_target_has_nothing_to_lose_and_room_to_spare() {
    let place = Place::new();
    let order = Order::new(place.drive("from", 4, Some(7)), place.drive("onto", 8, None));
    assert_eq!(place.codes(&order), [(Level::Note, "target-looks-empty"), (Level::Note, "ids-kept"), (Level::Note, "space-unused")]);
    let prepared = Prepared::of(&place.bench, &order).unwrap();
    assert_eq!(prepared.target_ribbon().size, 8 << 20);
    assert_eq!(prepared.target_ribbon().parts, prepared.source_ribbon().parts);
    assert_eq!(prepared.target_ribbon().at(1 << 20).unwrap().number, 1);
}

#[rstest]
#[case::smaller("small", "target-too-small")]
#[case::itself("from", "same-drive")]
#[case::missing("nowhere", "not-found")]
fn orders_that_cannot_be_planned(#[case] target: &str, #[case] code: &str) {
    let place = Place::new();
    let from = place.drive("from", 4, Some(7));
    place.drive("small", 3, None);
    let to = place.dir.path().join(format!("{target}.drive.toml"));
    assert_eq!(Prepared::of(&place.bench, &Order::new(&from, &to)).err().unwrap().code, code);
}

#[test]
fn a_whole_job_in_the_ledger() {
    let place = Place::new();
    let (from, to) = (place.drive("from", 6, Some(7)), place.drive("onto", 6, None));
    let order = Order { ticket: "LR-210".into(), customer: "Tidewater ferry office".into(), technician: "Tobiah".into(), ..Order::new(&from, &to) };
    let prepared = Prepared::of(&place.bench, &order).unwrap();
    let tail = prepared.candidate.tail();
    assert_eq!(tail, "onto");
    assert_eq!(
        settled(Prepared::of(&place.bench, &order).unwrap()).run(&place.bench, "from", &Control::new(), &Silent).unwrap_err().code,
        "wrong-tail"
    );
    let ledger = Ledger::open(&place.bench.ledger).unwrap();
    assert!(ledger.jobs().unwrap().is_empty(), "a refusal is no job");
    let report = settled(prepared).run(&place.bench, &tail, &Control::new(), &Silent).unwrap();
    assert_eq!((report.outcome, report.job), (Outcome::Proved, 1));
    let row = ledger.job(1).unwrap().unwrap();
    assert_eq!((row.ticket.as_str(), row.customer.as_str(), row.technician.as_str()), ("LR-210", "Tidewater ferry office", "Tobiah"));
    assert_eq!(row.outcome.as_deref(), Some("proved"));
    assert!(row.ended >= row.started);
    let events: Vec<String> = ledger.events(1).unwrap().into_iter().map(|(_, text)| text).collect();
    assert_eq!(events, ["clearing", "copying", "reading back"]);
    let (stored, _) = ledger.last_run(1).unwrap().unwrap();
    assert_eq!(stored, report);
    assert_eq!(ledger.last_job_of(&row.target_key).unwrap().unwrap().id, 1);
    ledger.rename(1, "LR-211", "the lock-keeper").unwrap();
    ledger.hand_over(1, 1_800_000_000).unwrap();
    let row = ledger.job(1).unwrap().unwrap();
    assert_eq!((row.ticket.as_str(), row.keep_until, row.handed_over.is_some()), ("LR-211", Some(1_800_000_000), true));
    assert_eq!(ledger.drives().unwrap().len(), 2);
}

#[test]
fn a_stopped_run_is_found_again_with_its_job() {
    let place = Place::new();
    let (from, to) = (place.drive("from", 40, Some(7)), place.drive("onto", 40, None));
    let order = Order::new(&from, &to);
    let control = Control::new();
    let stopper = |event: &Event| {
        if matches!(event, Event::Moved { start, .. } if *start > 8 << 20) {
            control.stop();
        }
    };
    let report = settled(Prepared::of(&place.bench, &order).unwrap()).run(&place.bench, "onto", &control, &stopper).unwrap();
    assert_eq!(report.outcome, Outcome::Interrupted);
    let again = Prepared::of(&place.bench, &order).unwrap();
    let (past, job) = again.unfinished.as_ref().unwrap();
    assert_eq!((past.done_bytes(), *job), (report.read_bytes, 1));
    assert!(Prepared::of(&place.bench, &Order { restart: true, ..order.clone() }).unwrap().unfinished.is_none());
    assert_eq!(Prepared::of(&place.bench, &Order { ids: Ids::Fresh, ..order.clone() }).err().unwrap().code, "run-differs");
    let report = settled(again).run(&place.bench, "onto", &Control::new(), &Silent).unwrap();
    assert_eq!((report.outcome, report.job), (Outcome::Proved, 1));
    let events: Vec<String> = Ledger::open(&place.bench.ledger).unwrap().events(1).unwrap().into_iter().map(|(_, text)| text).collect();
    assert!(events.iter().any(|text| text.starts_with("gone on with at")), "{events:?}");
}

#[test]
fn the_newest_files_of_a_target_are_what_is_at_stake() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("data");
    fs::create_dir_all(data.join("Scores")).unwrap();
    for (number, name) in ["old.txt", "Scores/round.txt", "Scores/newest.txt", "middle.txt"].iter().enumerate() {
        fs::write(data.join(name), vec![1; 1000 * (number + 1)]).unwrap();
        let time = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(1_700_000_000 + [0, 300_000, 900_000, 600_000][number]);
        fs::File::options().write(true).open(data.join(name)).unwrap().set_modified(time).unwrap();
    }
    let image = dir.path().join("vault.img");
    fs::File::create(&image).unwrap().set_len(20 << 20).unwrap();
    let made = std::process::Command::new("mke2fs").args(["-q", "-F", "-t", "ext4", "-L", "choir", "-d"]).arg(&data).arg(&image).status().unwrap();
    assert!(made.success());
    let drive = Workshop::default().source(&image).unwrap();
    let stake = badger_inspect::stake::of(&drive, &badger_inspect::Looked::at(&drive));
    assert_eq!((stake.files, stake.bytes, stake.more), (4, 10_000, false));
    let named: Vec<(&str, u64)> = stake.newest.iter().map(|file| (file.path.as_str(), file.size)).collect();
    assert_eq!(named, [("choir/Scores/newest.txt", 3000), ("choir/middle.txt", 4000), ("choir/Scores/round.txt", 2000)]);
    let whose = |stake: &badger_inspect::stake::Stake| stake.whose.iter().map(|one| (one.name.clone(), one.files, one.bytes)).collect::<Vec<_>>();
    assert_eq!(whose(&stake), [("Scores".to_string(), 2, 5000)]);
    // Where people have folders, these are told, and nobody's are not.
    for path in ["home/piers/a.txt", "home/piers/deep/b.txt", "home/nell/c.txt", "home/lost+found/d.txt"] {
        fs::create_dir_all(data.join(path).parent().unwrap()).unwrap();
        fs::write(data.join(path), vec![1; 700]).unwrap();
    }
    let second = dir.path().join("second.img");
    fs::File::create(&second).unwrap().set_len(20 << 20).unwrap();
    assert!(std::process::Command::new("mke2fs").args(["-q", "-F", "-t", "ext4", "-d"]).arg(&data).arg(&second).status().unwrap().success());
    let drive = Workshop::default().source(&second).unwrap();
    let stake = badger_inspect::stake::of(&drive, &badger_inspect::Looked::at(&drive));
    assert!(
        stake.newest.len() == 3 && stake.newest.iter().all(|file| file.path.contains("/home/") && !file.path.contains("lost+found")),
        "{stake:?}"
    );
    assert_eq!(whose(&stake), [("piers".to_string(), 2, 1400), ("nell".to_string(), 1, 700)]);
}

#[test]
fn a_drive_is_known_again_wherever_it_is_plugged_in() {
    let place = Place::new();
    let from = place.drive("from", 2, None);
    let ledger = Ledger::open(&place.bench.ledger).unwrap();
    let found = place.bench.workshop.found(&from).unwrap();
    assert!(ledger.seen_found(&found).unwrap());
    let moved = place.dir.path().join("elsewhere.drive.toml");
    fs::rename(&from, &moved).unwrap();
    assert!(!ledger.seen_found(&place.bench.workshop.found(&moved).unwrap()).unwrap());
    assert_eq!(ledger.drives().unwrap().len(), 1);
}

#[test]
fn times_are_written_in_order_of_their_size() {
    assert_eq!(day(1_790_000_000).len(), 10);
    assert!(written(1_790_000_000).starts_with(&day(1_790_000_000)));
    assert!(written(1_790_000_000) < written(1_790_086_400));
}
