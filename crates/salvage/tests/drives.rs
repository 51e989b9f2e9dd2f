//! Salvage of failing drives in simulated time: all that can be read is read, exactly, whatever fails, however often it is stopped.

mod support;

use badger_drive::{Source, Workshop};
use badger_salvage::holed;
use badger_salvage::limits::Limits;
use badger_salvage::map::State;
use badger_salvage::run::Steer;
use badger_salvage::strategy::{Pass, Worth};
use badger_salvage::view::Salvaged;
use rstest::rstest;
use std::sync::Arc;
use std::time::Duration;
use support::{Failing, How, MIB, Run, content, go_on, random_faults, salvage};

const DISK: &str = "read_mb_s = 120.0\nseek_ms = 9.0";

/// Every sector that can be read is on the target, as it is on the drive, and nothing else is called saved.
fn is_all_there(failing: &Failing, run: &Run) {
    let bad = failing.bad();
    let good = content(0, failing.size as usize);
    for (sector, is_bad) in bad.iter().enumerate() {
        let range = sector * 512..(sector + 1) * 512;
        let saved = run.map.is_saved(range.start as u64..range.end as u64);
        assert_eq!(saved, !is_bad, "{} sector {sector}: {:?}", failing.name, run.map.at(range.start as u64));
        assert!(!saved || run.target[range.clone()] == good[range], "{} sector {sector} is other bytes", failing.name);
    }
}

#[rstest]
fn all_that_can_be_read_is_read_exactly(#[values(1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)] seed: u64) {
    let failing = Failing::new(&format!("seed-{seed}"), 48 * MIB, DISK, &random_faults(seed, 48 * 2048));
    is_all_there(&failing, &salvage(&failing, Limits::default()));
}

/// Stopped again and again, at any read of any pass, it comes to the same end.
#[rstest]
fn stopped_at_random_it_comes_to_the_same_end(#[values(3, 5, 8, 13)] seed: u64) {
    let faults = random_faults(seed, 24 * 2048);
    let once = Failing::new("once", 24 * MIB, DISK, &faults);
    let whole = salvage(&once, Limits::default());
    let failing = Failing::new("often", 24 * MIB, DISK, &faults);
    let mut last = None;
    for turn in 0..200 {
        let run = go_on(&failing, How { stop_after: Some(1 + (seed as usize * 7 + turn * 3) % 11), ..How::default() });
        let ended = run.broke.is_none();
        last = Some(run);
        if ended {
            break;
        }
    }
    let last = last.unwrap();
    assert_eq!(last.broke, None);
    is_all_there(&failing, &last);
    assert_eq!(last.map.totals(), whole.map.totals());
}

#[test]
fn what_fails_is_tried_gently() {
    let failing = Failing::new("gentle", 48 * MIB, DISK, "[[fault]]\nkind = \"unreadable\"\nlba = 40000\nsectors = 300\nms = 800\n");
    let run = salvage(&failing, Limits { tries: Some(1), ..Limits::default() });
    is_all_there(&failing, &run);
    let failures: u64 = run.passes.iter().map(|pass| pass.failures).sum();
    assert_eq!(failures, 300, "each bad sector is met once, and no other read fails: {:?}", run.passes);
    let skim = run.passes.iter().find(|pass| pass.name == Pass::Skim).unwrap();
    assert!(skim.failures <= 4 && skim.saved_bytes > 40 * MIB, "{skim:?}");
}

/// What was picked is read before all else, and to its end.
#[test]
fn what_is_picked_comes_first() {
    let failing = Failing::new("picked", 64 * MIB, DISK, "[[fault]]\nkind = \"unreadable\"\nlba = 82000\nsectors = 20\nms = 500\n");
    let picked = [40 * MIB..42 * MIB, 50 * MIB..51 * MIB];
    let wishes = vec![Steer::Value(picked.to_vec(), Some(Worth::Picked)), Steer::Value(std::iter::once(10 * MIB..20 * MIB).collect(), None)];
    let run = go_on(&failing, How { wishes, ..How::default() });
    // A few places are looked at for structures even before.
    let is_picked = |(start, _): &&(u64, u64)| picked.iter().any(|range| range.contains(start));
    let before = run.moved.iter().take_while(|moved| !is_picked(moved)).count();
    assert!(before < 8, "{:?}", run.moved);
    let first: Vec<_> = run.moved.iter().skip(before).take_while(is_picked).collect();
    let bytes: u64 = first.iter().map(|(_, len)| len).sum();
    assert_eq!(bytes, 3 * MIB - 20 * 512, "{:?}", run.moved);
    assert!(run.map.within(10 * MIB..20 * MIB).all(|(_, state)| state == State::Unread), "what was left out was not touched");
    assert!(run.map.totals().saved >= 54 * MIB - 20 * 512);
}

#[test]
fn limits_end_it_in_order() {
    let failing = Failing::new("limits", 48 * MIB, DISK, "[[fault]]\nkind = \"unreadable\"\nlba = 40000\nsectors = 3000\nms = 800\n");
    let time = go_on(&failing, How { limits: Limits { time: Some(Duration::from_secs(30)), ..Limits::default() }, ..How::default() });
    assert!(time.broke.unwrap().contains("time"), "it ends by time");
    assert!(time.seconds < 35.0 && time.map.totals().saved > 40 * MIB);
    let row = go_on(&failing, How { limits: Limits { failures: Some(25), ..Limits::default() }, ..How::default() });
    assert!(row.broke.unwrap().contains("25 reads in a row"));
    let rests = Limits { rests: Some((Duration::from_secs(10), Duration::from_secs(100))), tries: Some(1), ..Limits::default() };
    let rested = go_on(&failing, How { limits: rests, ..How::default() });
    assert!(rested.broke.is_none() && rested.seconds > 2000.0, "{}", rested.seconds);
    is_all_there(&failing, &rested);
}

#[test]
fn a_drive_that_never_comes_back_is_not_waited_for_without_end() {
    let failing = Failing::new("gone", 48 * MIB, DISK, "[[fault]]\nkind = \"drops\"\nafter_reads = 9\n");
    let run = go_on(&failing, How::default());
    assert!(run.broke.unwrap().contains("does not answer"), "it says so");
    assert!(run.map.totals().saved > MIB && run.seconds > 500.0 && run.seconds < 700.0, "{}", run.seconds);
    assert!(
        run.map.iter().all(|(_, state)| !matches!(state, State::Deferred(_) | State::Lost)),
        "nothing is held against places of a drive that was not there"
    );
}

/// Two half-salvaged copies of one drive make one: what this one does not know is had from the other.
#[test]
fn copies_are_merged() {
    let one = Failing::new("same", 32 * MIB, DISK, "[[fault]]\nkind = \"unreadable\"\nlba = 1000\nsectors = 500\n");
    let other = Failing::new("same", 32 * MIB, DISK, "[[fault]]\nkind = \"unreadable\"\nlba = 1400\nsectors = 500\n");
    let (first, second) = (salvage(&one, Limits::default()), salvage(&other, Limits::default()));
    let lost = |run: &Run| run.map.totals().lost / 512;
    assert_eq!((lost(&first), lost(&second)), (500, 500));
    let target = Workshop::default().source(&other.dir.path().join("target.img")).unwrap();
    let copy = Salvaged::new(target, second.map.clone(), ("Tamarack T250", "TM25-same"), 512, &other.path());
    // What was given up here is open again for another reader.
    let map_path = one.dir.path().join("t250.map");
    let mut loaded = badger_salvage::file::load(&map_path).unwrap();
    let given_up: Vec<_> = loaded.map.iter().filter(|(_, state)| *state == State::Lost).map(|(range, _)| range).collect();
    given_up.into_iter().for_each(|range| loaded.map.set(range, State::Unread));
    badger_salvage::file::MapFile::write(&map_path, loaded.of, &loaded.map).unwrap();
    let merged = go_on(&one, How { source: Some(Source::detached(Arc::new(copy))), ..How::default() });
    assert_eq!(merged.map.totals().saved, 32 * MIB - 100 * 512, "only what neither has is missing");
    assert_eq!(merged.map.totals().unread, 100 * 512, "of that nobody says that it is lost: this copy just does not know");
    let good = content(0, (32 * MIB) as usize);
    assert!(merged.target[..1400 * 512] == good[..1400 * 512]);
}

/// A copy of which hardly anything is known is read for that, and no place of it is asked for for ever.
#[test]
fn what_nobody_knows_is_not_asked_for_again() {
    let failing = Failing::new("hardly", 16 * MIB, DISK, "");
    let known = Failing::new("hardly", 16 * MIB, DISK, "");
    let mut map = badger_salvage::map::Map::new(16 * MIB);
    map.set(0..MIB + 512, State::Saved);
    map.set(3 * MIB + 1024..3 * MIB + 2048, State::Saved);
    let source = Workshop::default().source(&known.dir.path().join("drive.img")).unwrap();
    let copy = Salvaged::new(source, map, ("Tamarack T250", "TM25-hardly"), 512, &known.path());
    let run = go_on(&failing, How { source: Some(Source::detached(Arc::new(copy))), ..How::default() });
    assert_eq!((run.broke, run.map.totals().saved, run.map.totals().lost), (None, MIB + 512 + 1024, 0));
}

/// Places of files begin and end within sectors; what is read does not.
#[test]
fn reads_begin_and_end_with_sectors() {
    let failing = Failing::new("odd", 16 * MIB, DISK, "[[fault]]\nkind = \"unreadable\"\nlba = 9000\nsectors = 3\n");
    let odd = vec![5_000_001..5_000_123, 9000 * 512 + 7..9000 * 512 + 2000, 8_000_000..8_000_000];
    let run = go_on(&failing, How { wishes: vec![Steer::Value(odd, Some(Worth::Picked))], ..How::default() });
    assert!(run.moved.iter().all(|(start, len)| start % 512 == 0 && len % 512 == 0), "{:?}", run.moved);
    is_all_there(&failing, &run);
}

/// Where too much fails in a row it is held for whoever sits there; where nobody does it ends, and can be gone on with.
#[test]
fn too_many_failures_hold_it_or_end_it() {
    let faults = "[[fault]]\nkind = \"unreadable\"\nlba = 9000\nsectors = 300\nms = 20\n";
    let failing = Failing::new("held", 16 * MIB, DISK, faults);
    let limits = |pauses| Limits { failures: Some(50), pauses, ..Limits::default() };
    let ended = go_on(&failing, How { limits: limits(false), ..How::default() });
    assert!(ended.broke.as_ref().is_some_and(|why| why.contains("50 reads in a row failed")), "{:?}", ended.broke);
    let held = go_on(&failing, How { limits: limits(true), lets_go_on: true, ..How::default() });
    assert!(held.broke.is_none() && held.held > 3, "{:?} {}", held.broke, held.held);
    is_all_there(&failing, &held);
    // A drive that gives nothing any more holds it also where nobody named a limit.
    let dead = Failing::new("dead", 512 * MIB, DISK, "[[fault]]\nkind = \"unreadable\"\nlba = 0\nsectors = 1048576\nms = 1\n");
    let run = go_on(
        &dead,
        How {
            limits: Limits { pauses: true, tries: Some(1), time: Some(Duration::from_secs(1500)), ..Limits::default() },
            lets_go_on: true,
            ..How::default()
        },
    );
    assert!(run.held > 0, "it was never held: {:?}", run.passes);
}

/// Of files that were picked those that can be whole come first: one of which something fails is left at once, whatever it costs later.
#[test]
fn whole_files_come_before_those_that_cannot_be() {
    let faults = "[[fault]]\nkind = \"unreadable\"\nlba = 20100\nsectors = 600\nms = 500\n[[fault]]\nkind = \"unreadable\"\nlba = 30010\nsectors = 2\nms = 500\n";
    let failing = Failing::new("whole-first", 32 * MIB, DISK, faults);
    // Thirty files one behind the other, each in two places; the first fault is in the eleventh, the other in the last.
    let file = |number: u64| {
        vec![(10_000 + number * 1000) * 512..(10_500 + number * 1000) * 512, (10_500 + number * 1000) * 512..(11_000 + number * 1000) * 512]
    };
    let picked: Vec<_> = (0..30).map(file).collect();
    let run = go_on(&failing, How { wishes: vec![Steer::Files(picked.clone())], ..How::default() });
    let place = |number: usize| {
        run.moved.iter().rposition(|(start, len)| picked[number].iter().any(|range| *start < range.end && start + len > range.start)).unwrap()
    };
    let holed = [10, 20];
    let last_whole = (0..30).filter(|number| !holed.contains(number)).map(place).max().unwrap();
    let first_of_holed_left = holed.map(place).into_iter().min().unwrap();
    assert!(last_whole < first_of_holed_left, "{last_whole} {first_of_holed_left}");
    is_all_there(&failing, &run);
}

/// On a volume that the system made: files are named with what is missing of them, and structures come first.
#[test]
fn files_are_named_with_what_is_missing() {
    let failing = Failing::new("files", 64 * MIB, DISK, "");
    let (folder, image) = (failing.dir.path().join("folder"), failing.dir.path().join("drive.img"));
    std::fs::create_dir_all(folder.join("letters")).unwrap();
    let noise = |seed: u64, len: usize| content(seed << 32, len);
    for (name, len) in [("letters/whole.txt", 70_000), ("letters/holed.bin", 3_000_000), ("unread.dat", 8_192)] {
        std::fs::write(folder.join(name), noise(len as u64, len)).unwrap();
    }
    let run = |program: &str, args: &[&str]| assert!(std::process::Command::new(program).args(args).output().unwrap().status.success(), "{program}");
    run("mke2fs", &["-q", "-F", "-t", "ext4", "-d", folder.to_str().unwrap(), image.to_str().unwrap(), "64M"]);
    let bytes = std::fs::read(&image).unwrap();
    let find = |what: &[u8]| bytes.windows(64).position(|window| window == &what[..64]).unwrap() as u64 / 512;
    let holed_at = find(&noise(3_000_000, 3_000_000)[1_024_000..]);
    let unread_at = find(&noise(8_192, 8_192));
    let description = std::fs::read_to_string(failing.path()).unwrap();
    let faults = format!(
        "[[fault]]\nkind = \"unreadable\"\nlba = {holed_at}\nsectors = 6\n[[fault]]\nkind = \"unreadable\"\nlba = {unread_at}\nsectors = 16\n"
    );
    std::fs::write(failing.path(), format!("{description}\n{faults}")).unwrap();
    let done = salvage(&failing, Limits { tries: Some(2), ..Limits::default() });
    let target = Workshop::default().source(&failing.dir.path().join("target.img")).unwrap();
    let view = Source::detached(Arc::new(Salvaged::new(target, done.map.clone(), ("Tamarack T250", "1"), 512, &failing.path())));
    let files = holed::files(&view, &done.map, &|| false);
    assert_eq!((files.whole, files.elsewhere, files.problems.len()), (1, 0, 0), "{files:?}");
    let mut named: Vec<_> = files.holed.iter().map(|file| (file.path.rsplit('/').next().unwrap(), file.missing.clone())).collect();
    named.sort_by_key(|(name, _)| *name);
    let missing = |start, bytes| vec![holed::Missing { start, bytes }];
    assert_eq!(named, [("holed.bin", missing(1_024_000, 3072)), ("unread.dat", missing(0, 8192))]);
    // Whose a place is.
    let whose = |sector: u64| holed::owners(&view, &(sector * 512..sector * 512 + 512), 3, &|| false);
    assert_eq!(whose(unread_at).names, ["#0/unread.dat"]);
    assert_eq!(whose(holed_at + 40).names, ["#0/letters/holed.bin"]);
    assert_eq!(whose(0), holed::Owners::default());
    let all = holed::owners(&view, &(0..64 * MIB), 2, &|| false);
    assert!(all.names.len() == 2 && all.more, "{all:?}");
    // The view gives what is saved and nothing else.
    let mut sector = [0; 512];
    assert!(view.read_at(unread_at * 512, &mut sector).is_err() && view.read_at(0, &mut sector).is_ok());
    // What the file system keeps for itself came before the bulk of it.
    let skimmed = done.moved.iter().position(|(_, len)| *len > MIB).unwrap();
    assert!(skimmed > 5, "{:?}", &done.moved[..8]);
}

/// Reads fail everywhere for a while, also where they worked before: that is the drive, and no place is held to it, not even where each sector
/// is tried once only.
#[rstest]
fn a_drive_that_stops_as_a_whole_loses_nothing(#[values(0, 3, 9, 40, 200)] after_reads: u64, #[values(None, Some(1))] tries: Option<u8>) {
    let bad = "[[fault]]\nkind = \"unreadable\"\nlba = 9000\nsectors = 24\nms = 500.0\n[[fault]]\nkind = \"unreadable\"\nlba = 30000\nsectors = 3\nms = 500.0\n";
    let stops = format!("{bad}[[fault]]\nkind = \"stops\"\nafter_reads = {after_reads}\nback_after_s = 400.0\nms = 20.0\n");
    let failing = Failing::new("stops", 24 * MIB, "read_mb_s = 100.0\nseek_ms = 10.0", &stops);
    let run = go_on(&failing, How { limits: Limits { tries, ..Limits::default() }, ..How::default() });
    assert_eq!(run.broke, None);
    is_all_there(&failing, &run);
    let failures: u64 = run.passes.iter().map(|pass| pass.failures).sum();
    assert!(failures < 2000, "{failures} reads failed");
}

/// It never reads again: the run ends and says why, and what it did not read is not called lost.
#[test]
fn a_drive_that_stops_for_good_is_not_called_lost() {
    let stops = "[[fault]]\nkind = \"stops\"\nafter_reads = 5\nms = 20.0\n";
    let failing = Failing::new("stopped", 24 * MIB, "read_mb_s = 100.0\nseek_ms = 10.0", stops);
    let run = go_on(&failing, How::default());
    assert!(run.broke.as_deref().is_some_and(|why| why.contains("reads fail everywhere")), "{:?}", run.broke);
    let totals = run.map.totals();
    assert_eq!(totals.lost, 0);
    assert!(totals.saved > 0 && run.seconds > 500.0, "{} s", run.seconds);
}

/// One of four heads reads nothing: once that is seen its stretches are jumped over, and those of the others read straight on.
#[rstest]
fn a_dead_head_is_jumped_over(#[values(4096, 5000)] zone: u64) {
    let faults = format!("[[failing]]\nkind = \"weak-head\"\nheads = 4\nhead = 1\nzone = {zone}\nshare = 1.0\nms = 20\n");
    // Many turns of the heads in each zone of the surface, as on a real drive; times are a sixteenth, as the turns are.
    let failing = Failing::new("dead-head", 2048 * MIB, "read_mb_s = 120.0\nseek_ms = 0.6", &faults);
    let good = failing.bad().iter().filter(|bad| !**bad).count() as f64 * 512.0;
    // Somebody who knows every stretch, and pays nothing for it.
    let straight = good / 120e6 + (2048.0 * 2048.0 / zone as f64 / 4.0) * 0.0006;
    let limits = Limits { time: Some(std::time::Duration::from_secs_f64(straight * 1.35)), ..Limits::default() };
    let run = go_on(&failing, How { limits, ..How::default() });
    let share = run.map.totals().saved as f64 / good;
    assert!(share > 0.5, "{share} of what the good heads hold, in {straight} s and a third");
}
