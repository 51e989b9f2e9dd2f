//! Copying out of volumes made by the system's own tools, judged by the system's own driver and checksum program.

use crate::support::{Place, noise, run, verify};
use badger_drive::{Control, Event, Outcome};
use badger_people::copyout::{Clash, Collision};
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::{MetadataExt, symlink};
use std::process::Command;
use std::sync::Mutex;

#[test]
fn folders_come_whole_with_everything_the_destination_can_hold() {
    let place = Place::new();
    let report = place.fetch(&place.path("volume.img"), &["/Wenna"], "out", Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.reason.as_str(), report.files, report.links), (Outcome::Proved, "", 43, 2));
    run(&["diff", "-r", "--no-dereference", place.path("data/Wenna").to_str().unwrap(), place.path("out/Wenna").to_str().unwrap()]);
    assert_eq!(verify(&place.path("out"), "fetched.sha256"), 44);
    let meta = fs::metadata(place.path("out/Wenna/Counts/sheet 3.csv")).unwrap();
    assert_eq!((meta.mtime(), meta.mtime_nsec()), (1_554_444_428, 123_456_789));
    assert_eq!(meta.mode() & 0o7777, 0o640, "bits that let a program run as somebody else do not travel");
    assert_eq!(fs::metadata(place.path("out/Wenna/Counts")).unwrap().mtime(), 1_514_862_245);
    let (a, b) = (fs::metadata(place.path("out/Wenna/same sheet.csv")).unwrap(), fs::metadata(place.path("out/Wenna/Counts/sheet 7.csv")).unwrap());
    assert_eq!(a.ino(), b.ino());
    assert!(fs::metadata(place.path("out/Wenna/sparse.db")).unwrap().blocks() < 1000, "holes stay holes");
    let note = Command::new("getfattr").args(["--only-values", "-n", "user.note"]).arg(place.path("out/Wenna/Counts/sheet 3.csv")).output().unwrap();
    assert_eq!(note.stdout, b"counted twice");
    let left: Vec<_> = fs::read_dir(place.path("out")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(left.len(), 2, "{left:?}");
}

#[test]
fn two_picks_of_one_name_keep_their_paths() {
    let place = Place::new();
    let report = place.fetch(&place.path("volume.img"), &["/Wenna/Counts", "/Piers/Counts"], "out", Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.files), (Outcome::Proved, 42));
    assert_eq!(fs::read(place.path("out/Piers/Counts/sheet 1.csv")).unwrap(), b"another one");
    let refusal = place.fetch(&place.path("volume.img"), &["/Nobody"], "out", Collision::Skip).unwrap_err();
    assert_eq!(refusal.code, "not-found");
}

#[rstest]
#[case::skip(Collision::Skip, &["old", "old", "new"], 2)]
#[case::keep_both(Collision::KeepBoth, &["old", "old", "new"], 0)]
#[case::replace(Collision::ReplaceIfNewer, &["new", "old", "new"], 1)]
#[case::ask(Collision::Ask, &["new", "old", "new"], 1)]
fn what_is_there_is_treated_as_asked(#[case] collision: Collision, #[case] wanted: &[&str], #[case] skipped: u64) {
    let place = Place::new();
    let out = place.path("out/Counts");
    fs::create_dir_all(&out).unwrap();
    fs::write(out.join("sheet 1.csv"), "old").unwrap();
    fs::write(out.join("sheet 2.csv"), "old").unwrap();
    run(&["touch", "-d", "2001-01-01", out.join("sheet 1.csv").to_str().unwrap()]);
    run(&["touch", "-d", "2031-01-01", out.join("sheet 2.csv").to_str().unwrap()]);
    let asked = Mutex::new(Vec::new());
    let ask = |clash: &Clash| {
        asked.lock().unwrap().push(clash.to.clone());
        if clash.there.0 == 3 && clash.to.ends_with("sheet 1.csv") { Collision::ReplaceIfNewer } else { Collision::Skip }
    };
    let report =
        place.fetch_with(&place.path("volume.img"), &["/Wenna/Counts"], &place.path("out"), collision, &Control::new(), &|_| (), &ask).unwrap();
    assert_eq!((report.outcome, report.skipped_count), (Outcome::Proved, skipped));
    for (number, wanted) in wanted.iter().enumerate() {
        let found = fs::read(out.join(format!("sheet {}.csv", number + 1))).unwrap();
        assert_eq!(found == b"old", *wanted == "old", "sheet {}", number + 1);
    }
    assert_eq!(out.join("sheet 2 (2).csv").exists(), collision == Collision::KeepBoth);
    assert_eq!(asked.lock().unwrap().len(), if collision == Collision::Ask { 2 } else { 0 });
    verify(&place.path("out"), "fetched.sha256");
}

#[test]
fn nothing_goes_back_onto_the_source() {
    let place = Place::new();
    let mount = place.path("mnt");
    fs::create_dir(&mount).unwrap();
    // The image itself, mounted through a loop device: the way there leads over two others.
    run(&["mount", "-o", "loop", place.path("volume.img").to_str().unwrap(), mount.to_str().unwrap()]);
    let inside = place.path("mnt/rescued/here");
    let refused = place.fetch_with(&place.path("volume.img"), &["/Wenna"], &inside, Collision::Skip, &Control::new(), &|_| (), &|_| Collision::Skip);
    let there = inside.exists();
    symlink(&mount, place.path("way")).unwrap();
    let by_link = place.fetch(&place.path("volume.img"), &["/Wenna"], "way/rescued", Collision::Skip);
    run(&["umount", mount.to_str().unwrap()]);
    assert_eq!(refused.unwrap_err().code, "into-source");
    assert_eq!(by_link.unwrap_err().code, "into-source");
    assert!(!there);
}

#[test]
fn a_full_destination_is_refused_before_and_survived_while_it_goes_on() {
    let place = Place::new();
    let small = place.path("small");
    fs::create_dir(&small).unwrap();
    run(&["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", small.to_str().unwrap()]);
    let refused = place.fetch(&place.path("volume.img"), &["/Wenna"], "small", Collision::Skip);
    let left = fs::read_dir(&small).unwrap().count();
    run(&["umount", small.to_str().unwrap()]);
    assert_eq!(refused.unwrap_err().code, "destination-full");
    assert!(left <= 1, "only the note that it was begun");
    // Enough by the count, but taken by somebody else meanwhile.
    run(&["mount", "-t", "tmpfs", "-o", "size=80m", "tmpfs", small.to_str().unwrap()]);
    let fill = |event: &Event| {
        if matches!(event, Event::Phase { .. }) {
            // Whatever fits is taken.
            let _ = fs::write(small.join("somebody"), noise(79 << 20, 3));
        }
    };
    let report = place.fetch_with(&place.path("volume.img"), &["/Wenna"], &small, Collision::Skip, &Control::new(), &fill, &|_| Collision::Skip);
    fs::remove_file(small.join("somebody")).unwrap();
    let again = place.fetch(&place.path("volume.img"), &["/Wenna"], "small", Collision::Skip);
    let count = verify(&small, "fetched.sha256");
    run(&["umount", small.to_str().unwrap()]);
    let report = report.unwrap();
    assert_eq!(report.outcome, Outcome::Interrupted);
    assert!(report.reason.contains("No space left"), "{}", report.reason);
    assert_eq!((again.unwrap().outcome, count), (Outcome::Proved, 44));
}

#[test]
fn a_stopped_copy_is_gone_on_with() {
    let place = Place::new();
    for stop_after in [1, 10, 30] {
        let into = format!("out-{stop_after}");
        let (control, seen) = (Control::new(), Mutex::new(0));
        let watch = |event: &Event| {
            if matches!(event, Event::Moved { .. }) {
                *seen.lock().unwrap() += 1;
                if *seen.lock().unwrap() == stop_after {
                    control.stop();
                }
            }
        };
        let image = place.path("volume.img");
        let first = place.fetch_with(&image, &["/"], &place.path(&into), Collision::Skip, &control, &watch, &|_| Collision::Skip).unwrap();
        assert_eq!(first.outcome, Outcome::Interrupted);
        let second = place.fetch(&image, &["/"], &into, Collision::Skip).unwrap();
        assert_eq!((second.outcome, second.skipped_count, second.files), (Outcome::Proved, 0, 44), "{:?}", second.skipped);
        assert_eq!(verify(&place.path(&into), "fetched.sha256"), 45);
    }
}

/// What somebody changed at the destination between two runs is theirs: it stays, and the file is copied again under another name.
#[rstest]
#[case::only_once(false)]
#[case::with_its_old_time(true)]
fn what_was_changed_at_the_destination_is_neither_believed_nor_lost(#[case] hides: bool) {
    let place = Place::new();
    let (control, seen, into) = (Control::new(), Mutex::new(0), place.path("out"));
    let watch = |event: &Event| {
        if matches!(event, Event::Moved { .. }) {
            *seen.lock().unwrap() += 1;
            if *seen.lock().unwrap() == 30 {
                control.stop();
            }
        }
    };
    let image = place.path("volume.img");
    // All of it is there; a second run finds some of it equal, and is stopped.
    assert_eq!(place.fetch(&image, &["/"], "out", Collision::KeepBoth).unwrap().outcome, Outcome::Proved);
    let first = place.fetch_with(&image, &["/"], &into, Collision::KeepBoth, &control, &watch, &|_| Collision::KeepBoth).unwrap();
    assert_eq!(first.outcome, Outcome::Interrupted);
    let journal = fs::read_to_string(into.join(".badger-fetch/journal")).unwrap();
    let mut brought = Vec::new();
    let mut dirs = vec![into.clone()];
    while let Some(dir) = dirs.pop() {
        for entry in fs::read_dir(dir).unwrap().map(Result::unwrap).filter(|entry| entry.file_name() != ".badger-fetch") {
            if entry.path().is_dir() { dirs.push(entry.path()) } else { brought.push(entry.path()) }
        }
    }
    brought.sort();
    let changed =
        brought.iter().find(|path| fs::metadata(path).unwrap().len() > 100 && journal.contains(path.file_name().unwrap().to_str().unwrap()));
    let changed = changed.expect("a file was found equal");
    let (was, time) = (fs::read(changed).unwrap(), fs::metadata(changed).unwrap().modified().unwrap());
    let theirs = [b"somebody's own words", &was[20..]].concat();
    let file = fs::File::options().write(true).open(changed).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, &theirs[..20], 0).unwrap();
    if hides {
        file.set_modified(time).unwrap();
    }
    let second = place.fetch(&image, &["/"], "out", Collision::KeepBoth).unwrap();
    assert_eq!((second.outcome, second.files), (Outcome::Proved, 44), "{:?}", second.reason);
    assert!(fs::read(changed).unwrap() == theirs, "{} was overwritten", changed.display());
    let stem = changed.file_stem().unwrap().to_string_lossy().into_owned();
    let beside = fs::read_dir(changed.parent().unwrap()).unwrap().map(|entry| entry.unwrap().path()).filter(|path| path != changed);
    let again: Vec<_> = beside.filter(|path| path.file_name().unwrap().to_string_lossy().starts_with(&stem)).collect();
    assert!(again.iter().any(|path| fs::read(path).unwrap() == was), "{again:?}");
}

#[test]
fn an_unreadable_stretch_is_named_and_tried_again_later() {
    let place = Place::new();
    let image = fs::read(place.path("volume.img")).unwrap();
    let wanted = noise(39 * 3000, 40);
    let at = image.windows(4096).position(|window| window == &wanted[..4096]).unwrap() as u64;
    let toml = |fault: &str| {
        let text = format!("backing = \"volume.img\"\n[identity]\nmodel = \"Dunmore Slate\"\nserial = \"DS50-7702-BEEF\"\nbus = \"sata\"\n{fault}");
        fs::write(place.path("slate.drive.toml"), text).unwrap();
    };
    toml(&format!("[[fault]]\nkind = \"unreadable\"\nlba = {}\nsectors = 3\n", at / 512 + 4));
    let drive = place.path("slate.drive.toml");
    let report = place.fetch(&drive, &["/Wenna/Counts"], "out", Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.lost_count), (Outcome::Incomplete, 1));
    assert_eq!((report.lost[0].path.as_str(), report.lost[0].stretches.as_slice()), ("/Wenna/Counts/sheet 39.csv", [(2048, 1536)].as_slice()));
    let mut holed = wanted.clone();
    holed[2048..3584].fill(0);
    assert!(fs::read(place.path("out/Counts/sheet 39.csv")).unwrap() == holed);
    assert!(fs::read_to_string(place.path("out/fetched.txt")).unwrap().contains("1536 bytes at 2048"));
}

#[test]
fn streams_come_along_and_long_ones_lie_beside_their_file() {
    let place = Place::new();
    let image = place.ntfs(|mount| {
        fs::write(mount.join("survey.pdf"), "the weir").unwrap();
        fs::write(mount.join("survey.pdf:short"), "seen").unwrap();
        fs::write(mount.join("survey.pdf:long"), noise(90_000, 3)).unwrap();
    });
    let report = place.fetch(&image, &["survey.pdf"], "out", Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.files), (Outcome::Proved, 2));
    assert_eq!(report.renamed, [("/survey.pdf:long".to_string(), "survey.pdf:long".to_string())]);
    assert!(fs::read(place.path("out/survey.pdf:long")).unwrap() == noise(90_000, 3));
    let note = Command::new("getfattr").args(["--only-values", "-n", "user.short"]).arg(place.path("out/survey.pdf")).output().unwrap();
    assert_eq!(note.stdout, b"seen");
    // An earlier copy that came no further than the file itself is gone on with.
    fs::remove_file(place.path("out/survey.pdf:long")).unwrap();
    let report = place.fetch(&image, &["survey.pdf"], "out", Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.files, report.resumed), (Outcome::Proved, 2, 1));
    assert!(fs::read(place.path("out/survey.pdf:long")).unwrap() == noise(90_000, 3));
}

#[test]
fn a_name_that_leads_out_of_the_destination_stays_inside() {
    let place = Place::new();
    let mut image = fs::read(place.path("volume.img")).unwrap();
    // The names of two files are overwritten on the disk; the volume carries checksums, which nobody needs for reading.
    for (name, evil) in [(&b"sheet 11.csv"[..], &b"../sheet.csv"[..]), (b"sheet 12.csv", b"/etc/evil.sh")] {
        let at = image.windows(name.len()).position(|window| window == name).unwrap();
        image[at..at + name.len()].copy_from_slice(evil);
    }
    fs::write(place.path("evil.img"), image).unwrap();
    let report = place.fetch(&place.path("evil.img"), &["/Wenna/Counts"], "out", Collision::Skip).unwrap();
    assert!(place.path("out/Counts/..%2Fsheet.csv").exists() && place.path("out/Counts/%2Fetc%2Fevil.sh").exists(), "{:?}", report.renamed);
    assert!(!place.path("out/sheet.csv").exists());
}

/// Streams of a folder, and files that are kept elsewhere: nothing is dropped without a word.
#[test]
fn folders_keep_their_streams_and_what_is_not_here_is_lost_by_name() {
    let place = Place::new();
    let image = place.ntfs(|mount| {
        fs::create_dir(mount.join("Weir")).unwrap();
        fs::write(mount.join("Weir:short"), "of the folder").unwrap();
        fs::write(mount.join("Weir:long"), noise(90_000, 3)).unwrap();
        fs::write(mount.join("Weir/tide.csv"), "high").unwrap();
        File::create(mount.join("Weir/online.mov")).unwrap().set_len(50_000).unwrap();
        let cloud = ["setfattr", "-h", "-n", "system.ntfs_reparse_data", "-v", "0x1a00009004000000deadbeef"];
        run(&[&cloud[..], &[mount.join("Weir/online.mov").to_str().unwrap()]].concat());
    });
    let report = place.fetch(&image, &["Weir"], "out", Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.files, report.lost_count), (Outcome::Incomplete, 2, 1), "{:?}", report.lost);
    assert_eq!(report.lost[0].path, "/Weir/online.mov");
    assert!(report.lost[0].why.starts_with("kept online"), "{}", report.lost[0].why);
    assert!(!place.path("out/Weir/online.mov").exists());
    assert!(fs::read(place.path("out/Weir:long")).unwrap() == noise(90_000, 3));
    let note = Command::new("getfattr").args(["--only-values", "-n", "user.short"]).arg(place.path("out/Weir")).output().unwrap();
    assert_eq!(note.stdout, b"of the folder");
    // Once more: what is there is equal, and nothing comes twice.
    place.fetch(&image, &["Weir"], "out", Collision::Skip).unwrap();
    let mut names: Vec<_> = fs::read_dir(place.path("out")).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    assert_eq!(names.iter().filter(|name| name.starts_with("Weir")).collect::<Vec<_>>(), ["Weir", "Weir:long"]);
}

/// Attributes of folders, who may do what, and names that are no text.
#[test]
fn folders_keep_their_attributes_and_names_that_are_no_text_can_be_named() {
    use std::os::unix::ffi::OsStrExt;
    let place = Place::new();
    let mount = place.path("made");
    let image = place.path("volume.img");
    run(&["mount", "-o", "loop", image.to_str().unwrap(), mount.to_str().unwrap()]);
    let folder = mount.join("Wenna/Counts");
    run(&["setfattr", "-n", "user.colour", "-v", "green", folder.to_str().unwrap()]);
    // Version 2; owner, user 1234, group, mask, others.
    let acl = "0x0200000001000700ffffffff02000600d204000004000500ffffffff10000700ffffffff20000400ffffffff";
    run(&["setfattr", "-n", "system.posix_acl_access", "-v", acl, folder.join("sheet 3.csv").to_str().unwrap()]);
    run(&["setfattr", "-n", "system.posix_acl_default", "-v", acl, folder.to_str().unwrap()]);
    run(&["setfattr", "-n", "security.capability", "-v", "0x0100000200040000000000000000000000000000", folder.join("sheet 4.csv").to_str().unwrap()]);
    let odd = std::ffi::OsStr::from_bytes(b"tide \xff\xfe.csv");
    fs::write(folder.join(odd), "odd").unwrap();
    run(&["umount", mount.to_str().unwrap()]);
    let report = place.fetch(&image, &["/Wenna/Counts"], "out", Collision::Skip).unwrap();
    assert_eq!(report.outcome, Outcome::Proved);
    let value = |name: &str, path: &str| {
        Command::new("getfattr").args(["-e", "hex", "--only-values", "-n", name]).arg(place.path(path)).output().unwrap().stdout
    };
    let wanted: Vec<u8> = (2..acl.len()).step_by(2).map(|at| u8::from_str_radix(&acl[at..at + 2], 16).unwrap()).collect();
    assert_eq!(value("user.colour", "out/Counts"), b"green");
    assert_eq!(value("system.posix_acl_default", "out/Counts"), wanted);
    assert_eq!(value("system.posix_acl_access", "out/Counts/sheet 3.csv"), wanted);
    assert_eq!(value("security.capability", "out/Counts/sheet 4.csv"), b"");
    assert!(report.not_held.iter().any(|line| line.starts_with("/Wenna/Counts/sheet 4.csv: its right")), "{:?}", report.not_held);
    assert_eq!(fs::read(place.path("out/Counts").join(odd)).unwrap(), b"odd");
    // As it is shown it can be asked for.
    let report = place.fetch(&image, &["/Wenna/Counts/tide \\xff\\xfe.csv"], "one", Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.files), (Outcome::Proved, 1));
    assert_eq!(fs::read(place.path("one").join(odd)).unwrap(), b"odd");
}
