//! The ledger: what was noted is there again, and what is no ledger is not made one.

use badger_bench::ledger::{Error, Ledger, NewJob, day, journals_beside, written};
use badger_drive::{Bus, Geometry, Identity};
use badger_transfer::{Line, Outcome, Report, Verdict};
use rstest::rstest;
use std::fs;
use tempfile::TempDir;

fn ledger() -> (TempDir, Ledger) {
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(&dir.path().join("deep/below/ledger.db")).unwrap();
    (dir, ledger)
}

fn drive(serial: &str) -> (Identity, Geometry) {
    let identity = Identity {
        model: "Tamarack T250".into(),
        serial: serial.into(),
        firmware: "1.04".into(),
        bus: Bus::Sata,
        rotational: Some(false),
        removable: false,
        read_only: false,
        adapter: None,
        path: "/dev/sdb".into(),
    };
    (identity, Geometry { size_bytes: 250_059_350_016, logical_sector: 512, physical_sector: 4096 })
}

fn report(job: i64, outcome: Outcome) -> Report {
    let mut report = Report::new("/dev/sdb".into(), "/dev/sdc".into());
    (report.job, report.outcome) = (job, outcome);
    report.proof = vec![Line::new("blocks", Verdict::Holds, "all of them"), Line::new("boot", Verdict::Fails, "one of them")];
    report
}

#[test]
fn drives_are_known_again() {
    let (_dir, ledger) = ledger();
    let (identity, geometry) = drive("TM25-1");
    assert!(ledger.seen(&identity, geometry).unwrap());
    assert!(!ledger.seen(&identity, geometry).unwrap());
    // Behind another adapter it is the same one; of another size it is not.
    assert!(!ledger.seen(&Identity { path: "/dev/sdx".into(), ..identity.clone() }, geometry).unwrap());
    assert!(ledger.seen(&identity, Geometry { size_bytes: 1 << 30, ..geometry }).unwrap());
    let (other, _) = drive("TM25-2");
    ledger.seen(&other, geometry).unwrap();
    let mut serials: Vec<String> = ledger.drives().unwrap().into_iter().map(|row| row.serial).collect();
    serials.sort();
    assert_eq!(serials, ["TM25-1", "TM25-1", "TM25-2"]);
    let row = ledger.drive(&identity.key(geometry.size_bytes)).unwrap().unwrap();
    assert_eq!((row.model.as_str(), row.size_bytes), ("Tamarack T250", geometry.size_bytes));
    assert!(row.first_seen > 0 && row.first_seen <= row.last_seen && ledger.drive("nobody").unwrap().is_none());
}

/// A job from its opening to its hand-over, with a run that broke off and one that ended.
#[test]
fn a_job_is_kept_with_all_its_runs() {
    let (_dir, mut ledger) = ledger();
    let job =
        ledger.new_job(&NewJob { ticket: "LR-300", customer: "Weir Choir", technician: "Ines", source_key: "from", target_key: "onto" }).unwrap().0;
    let other = ledger.new_job(&NewJob { ticket: "LR-301", customer: "", technician: "Tobiah", source_key: "onto", target_key: "third" }).unwrap().0;
    let first = ledger.job(job).unwrap().unwrap();
    assert_eq!((first.ticket.as_str(), first.started, first.outcome.as_deref(), first.handed_over), ("LR-300", None, None, None));
    // A run that a kill ended has begun and not ended.
    let killed = ledger.begin_run(job).unwrap();
    ledger.note(killed, "begun").unwrap();
    let open = ledger.job(job).unwrap().unwrap();
    assert!(open.started.is_some() && open.ended.is_none() && open.outcome.is_none() && ledger.last_run(job).unwrap().is_none());
    let run = ledger.begin_run(job).unwrap();
    ledger.note(run, "gone on with").unwrap();
    ledger.end_run(run, &report(job, Outcome::Proved), "{\"sheet\":1}").unwrap();
    let told: Vec<String> = ledger.events(job).unwrap().into_iter().map(|(_, text)| text).collect();
    assert_eq!(told, ["begun", "gone on with"]);
    let (back, sheet) = ledger.last_run(job).unwrap().unwrap();
    assert_eq!((back, sheet.as_str()), (report(job, Outcome::Proved), "{\"sheet\":1}"));
    assert_eq!(ledger.job(job).unwrap().unwrap().outcome.as_deref(), Some("proved"));
    ledger.rename(job, "LR-302", "Weir Choir, tenors").unwrap();
    ledger.hand_over(job, 1_800_000_000).unwrap();
    let over = ledger.job(job).unwrap().unwrap();
    assert_eq!((over.ticket.as_str(), over.customer.as_str(), over.keep_until), ("LR-302", "Weir Choir, tenors", Some(1_800_000_000)));
    assert!(over.handed_over.is_some());
    // A drive leads to the latest job it took part in, on either side.
    assert_eq!(ledger.last_job_of("onto").unwrap().map(|row| row.id), Some(other));
    assert_eq!(ledger.last_job_of("from").unwrap().map(|row| row.id), Some(job));
    assert!(ledger.last_job_of("nobody").unwrap().is_none());
    let all: Vec<i64> = ledger.jobs().unwrap().into_iter().map(|row| row.id).collect();
    assert_eq!(all, [other, job], "the latest first");
}

/// A run belongs to a job that there is, and a proof is written once.
#[test]
fn what_does_not_fit_is_not_noted() {
    let (_dir, mut ledger) = ledger();
    assert!(ledger.begin_run(77).is_err() && ledger.note(77, "of no run").is_err());
    let job = ledger.new_job(&NewJob { ticket: "", customer: "", technician: "", source_key: "a", target_key: "b" }).unwrap().0;
    let run = ledger.begin_run(job).unwrap();
    ledger.end_run(run, &report(job, Outcome::Incomplete), "{}").unwrap();
    assert!(ledger.end_run(run, &report(job, Outcome::Proved), "{}").is_err());
    // The second time nothing of it was changed.
    assert_eq!(ledger.job(job).unwrap().unwrap().outcome.as_deref(), Some("incomplete"));
}

#[test]
fn settings_are_kept_and_changed() {
    let (_dir, ledger) = ledger();
    assert_eq!(ledger.setting("workshop").unwrap(), None);
    for name in ["The bench", "L'atelier; DROP TABLE job"] {
        ledger.set("workshop", name).unwrap();
        assert_eq!(ledger.setting("workshop").unwrap().as_deref(), Some(name));
    }
    assert_eq!(ledger.jobs().unwrap(), []);
}

#[test]
fn reading_alone_makes_nothing() {
    let (dir, ledger) = ledger();
    let nowhere = dir.path().join("nowhere.db");
    assert!(Ledger::read(&nowhere).unwrap().is_none() && !nowhere.exists());
    ledger.new_job(&NewJob { ticket: "LR-300", customer: "", technician: "", source_key: "a", target_key: "b" }).unwrap();
    let read = Ledger::read(ledger.path()).unwrap().unwrap();
    assert_eq!(read.jobs().unwrap().len(), 1);
    assert!(
        read.new_job(&NewJob { ticket: "LR-301", customer: "", technician: "", source_key: "a", target_key: "b" }).is_err(),
        "it was opened for reading"
    );
    assert_eq!(ledger.journals(), journals_beside(ledger.path()));
    assert!(ledger.journals().ends_with("deep/below/ledger-journals"));
}

/// What is no ledger is left as it is, and named.
#[rstest]
#[case::noise(vec![0x5a; 9000])]
#[case::a_text(b"Counts of the weir, 2026\n".repeat(90))]
fn a_file_of_another_kind_is_no_ledger(#[case] content: Vec<u8>) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ledger.db");
    fs::write(&path, &content).unwrap();
    let error = Ledger::open(&path).err().unwrap();
    assert!(matches!(&error, Error::NotOurs { path: named } if *named == path) && error.to_string().contains("ledger.db"), "{error}");
    assert!(Ledger::read(&path).is_err());
    assert!(fs::read(&path).unwrap() == content);
}

#[test]
fn moments_are_written_as_the_workshop_writes_them() {
    let (day, moment) = (day(1_790_000_000), written(1_790_000_000));
    assert!(moment.starts_with(&day) && day.starts_with("2026-09-2") && moment.len() == 16, "{moment}");
}
