//! Simulated drives: every kind of fault, and their own time.

use badger_drive::clock::{Clock, SimClock};
use badger_drive::sim::SimDrive;
use badger_drive::{Control, Holds, Medium, Patience, ReadError, Release, Stretch, Workshop, WriteError};
use rstest::rstest;
use std::fs;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tempfile::TempDir;

const SECTOR: usize = 512;

struct Bench {
    _dir: TempDir,
    path: PathBuf,
    clock: Arc<SimClock>,
}

/// A drive of 8192 sectors, each filled with the low byte of its number.
fn drive(more: &str) -> Bench {
    let dir = tempfile::tempdir().unwrap();
    let bytes: Vec<u8> = (0..8192usize).flat_map(|sector| [sector as u8; SECTOR]).collect();
    fs::write(dir.path().join("slate.img"), bytes).unwrap();
    let path = dir.path().join("slate.drive.toml");
    let text = format!("backing = \"slate.img\"\n[identity]\nmodel = \"Dunmore Slate\"\nserial = \"DS50-7702-BEEF\"\nbus = \"sata\"\n{more}");
    fs::write(&path, text).unwrap();
    Bench { _dir: dir, path, clock: SimClock::new() }
}

impl Bench {
    fn open(&self) -> SimDrive {
        SimDrive::open(&self.path, self.clock.clone()).unwrap()
    }
}

fn read(drive: &SimDrive, sector: u64, count: usize) -> Result<Vec<u8>, ReadError> {
    let mut bytes = vec![0xee; count * SECTOR];
    drive.read_at(sector * SECTOR as u64, &mut bytes).map(|()| bytes)
}

#[test]
fn an_unreadable_stretch_fails_where_it_begins_and_takes_its_time() {
    let bench = drive("[[fault]]\nkind = \"unreadable\"\nlba = 100\nsectors = 8\nms = 800\n");
    let drive = bench.open();
    let mut bytes = vec![0xee; 16 * SECTOR];
    let error = drive.read_at(92 * SECTOR as u64, &mut bytes).unwrap_err();
    assert!(matches!(error, ReadError::Unreadable { offset, .. } if offset == 100 * SECTOR as u64));
    assert_eq!((bytes[0], bytes[8 * SECTOR - 1]), (92, 99), "what lies before the failure is good");
    assert_eq!(bench.clock.now(), Duration::from_millis(800));
    assert!(read(&drive, 107, 1).is_err());
    assert_eq!(read(&drive, 108, 1).unwrap()[0], 108);
}

#[test]
fn a_flaky_sector_succeeds_with_its_chance() {
    let bench = drive("[[fault]]\nkind = \"flaky\"\nlba = 200\nsectors = 1\nchance = 0.25\nseed = 7\n");
    let drive = bench.open();
    let good = (0..2000).filter(|_| read(&drive, 200, 1).is_ok()).count();
    assert!((400..600).contains(&good), "{good} of 2000");
    let again = bench.open();
    assert_eq!((0..2000).filter(|_| read(&again, 200, 1).is_ok()).count(), good, "the same seed gives the same drive");
}

#[test]
fn silent_corruption_gives_other_wrong_bytes_each_time() {
    let bench = drive("[[fault]]\nkind = \"silent\"\nlba = 300\nsectors = 1\n");
    let drive = bench.open();
    let (first, second) = (read(&drive, 300, 1).unwrap(), read(&drive, 300, 1).unwrap());
    assert!(first != vec![300u16 as u8; SECTOR] && first != second);
    assert_eq!(read(&drive, 301, 1).unwrap()[0], 301u16 as u8);
}

#[rstest]
#[case::comes_back("back_after_s = 3.0", true)]
#[case::stays_away("", false)]
fn a_drive_that_drops_off(#[case] back: &str, #[case] returns: bool) {
    let bench = drive(&format!("[[fault]]\nkind = \"drops\"\nafter_reads = 5\n{back}\n"));
    let drive = bench.open();
    (0..5).for_each(|sector| assert!(read(&drive, sector, 1).is_ok()));
    assert!(matches!(read(&drive, 5, 1), Err(ReadError::Gone(_))));
    assert!(!drive.present());
    bench.clock.sleep(Duration::from_secs(4));
    assert_eq!(drive.present(), returns);
    assert_eq!(read(&drive, 5, 1).is_ok(), returns);
}

#[test]
fn a_drive_that_hangs_is_waited_for_as_long_as_somebody_wants() {
    let bench = drive("[[fault]]\nkind = \"hangs\"\nlba = 100\nsectors = 8\ns = 90\n");
    let (drive, mut bytes) = (bench.open(), vec![0; 16 * SECTOR]);
    let patience = Patience { limit: Duration::from_secs(20), control: None };
    let mut hasty = |sector: u64| drive.read_within(sector * SECTOR as u64, &mut bytes, &patience);
    assert!(matches!(hasty(96), Err(ReadError::Silent { after, .. }) if after == patience.limit));
    assert_eq!(bench.clock.now(), patience.limit);
    assert!(matches!(hasty(0), Err(ReadError::Silent { .. })), "it is busy with the other read");
    bench.clock.sleep(Duration::from_secs(60));
    assert!(hasty(0).is_ok());
    assert!(matches!(read(&drive, 103, 1), Err(ReadError::Unreadable { .. })), "who waits long enough gets its answer");
    let control = Control::new();
    control.stop();
    let called_off = Patience { limit: Duration::MAX, control: Some(control) };
    assert!(matches!(drive.read_within(100 * SECTOR as u64, &mut [0; SECTOR], &called_off), Err(ReadError::Gone(_))));
}

/// Bytes, zeroes and what nobody knows, each with its length, and all of it together the whole drive.
#[test]
fn what_is_known_without_reading_is_one_answer() {
    let bench = drive("[[fault]]\nkind = \"unknown\"\nlba = 100\nsectors = 50\n[[fault]]\nkind = \"unknown\"\nlba = 9000\nsectors = 10\n");
    fs::OpenOptions::new().write(true).open(bench.path.with_file_name("slate.img")).unwrap().set_len(10_000 * SECTOR as u64).unwrap();
    let (drive, mut seen, mut at) = (bench.open(), Vec::new(), 0);
    while at < drive.geometry().size_bytes {
        let Stretch { len, holds } = drive.stretch(at, u64::MAX);
        seen.push((holds, len / SECTOR as u64));
        at += len;
    }
    let wanted = [(Holds::Bytes, 100), (Holds::Unknown, 50), (Holds::Bytes, 8042), (Holds::Zero, 808), (Holds::Unknown, 10), (Holds::Zero, 990)];
    assert_eq!(seen, wanted);
    let error = drive.read_at(0, &mut vec![0; 200 * SECTOR]).unwrap_err();
    assert!(matches!(error, ReadError::Unreadable { offset, .. } if offset == 100 * SECTOR as u64));
    let (mut bytes, mut lost) = (vec![1; 200 * SECTOR], Vec::new());
    badger_drive::narrow::read_hard(&drive, 0, &mut bytes, &mut lost).unwrap();
    assert_eq!(lost, [(100 * SECTOR as u64, 50 * SECTOR as u64)]);
    assert!(
        bytes[150 * SECTOR..].iter().zip(150u16..).all(|(byte, _)| *byte >= 150) && bytes[100 * SECTOR..150 * SECTOR].iter().all(|byte| *byte == 0)
    );
}

#[test]
fn pace_and_jumps_cost_time() {
    let bench =
        drive("[pace]\nread_mb_s = 100.0\nwrite_mb_s = 50.0\nseek_ms = 10.0\n[[fault]]\nkind = \"slow\"\nlba = 4000\nsectors = 1\nms = 400\n");
    let drive = bench.open();
    read(&drive, 0, 2000).unwrap();
    let first = bench.clock.now();
    assert_eq!(first, Duration::from_secs_f64(2000.0 * 512.0 / 100e6), "one stretch at the start needs no jump");
    read(&drive, 4000, 1).unwrap();
    let jumped = bench.clock.now() - first;
    assert!(jumped > Duration::from_millis(410) && jumped < Duration::from_millis(411), "{jumped:?}");
}

#[test]
fn holes_are_known_but_not_where_something_is_wrong() {
    let bench = drive("[[fault]]\nkind = \"unreadable\"\nlba = 100000\nsectors = 1\n");
    let file = fs::OpenOptions::new().write(true).open(bench.path.with_file_name("slate.img")).unwrap();
    file.set_len(200_000 * 512).unwrap();
    let drive = bench.open();
    assert_eq!(drive.zero_run(0, 1 << 20), 0);
    assert_eq!(drive.zero_run(8192 * 512, u64::MAX), (100_000 - 8192) * 512);
}

#[rstest]
#[case("nothing = 1\n", "unknown field")]
#[case("[[fault]]\nkind = \"tired\"\nlba = 1\nsectors = 1\n", "unknown variant")]
#[case("[identity2]\n", "unknown field")]
fn a_wrong_description_says_what_is_wrong(#[case] more: &str, #[case] words: &str) {
    let bench = drive(more);
    let refusal = Workshop::default().source(&bench.path).err().unwrap();
    assert_eq!(refusal.code, "not-readable");
    assert!(refusal.text.contains(words), "{}", refusal.text);
}

#[test]
fn writes_fail_where_they_should() {
    let bench = drive("[[fault]]\nkind = \"write-unreadable\"\nlba = 500\nsectors = 8\n");
    let workshop = Workshop::default();
    let other = drive("");
    let source = workshop.source(&other.path).unwrap();
    let target = workshop.candidate(&bench.path, None, 512).unwrap().release(&Release::new(&source, 0, "beef")).unwrap();
    target.write_at(0, &[1; 512]).unwrap();
    assert!(matches!(target.write_at(499 * 512, &[1; 1024]), Err(WriteError::Failed { offset, .. }) if offset == 500 * 512));
    assert!(target.write_zero(507 * 512, 512).is_err());
    assert!(matches!(target.write_at(8192 * 512, &[1; 1]), Err(WriteError::PastEnd { .. })));
}
