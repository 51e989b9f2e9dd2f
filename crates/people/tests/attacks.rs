//! Volumes and destinations that want to be written elsewhere, or that lose what was proved.

use crate::support::{Place, noise, run, verify};
use badger_drive::{Control, Event, Outcome};
use badger_people::copyout::Collision;
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::{FileExt, MetadataExt, symlink};
use std::path::Path;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Names that are or were ours at a destination.
const OURS: [&str; 10] = [
    "fetched.sha256",
    "fetched.txt",
    "fetched.part",
    "fetched-2.sha256",
    ".badger-parts",
    ".badger-fetch",
    ".badger-fetch-2",
    ".badger-fetch/journal",
    ".badger-fetch/parts",
    ".badger-fetch/manifest",
];

#[test]
fn links_with_our_names_on_the_volume_lead_nowhere() {
    let place = Place::new();
    let precious = place.path("precious");
    fs::write(&precious, "the only copy").unwrap();
    let image = place.volume("evil.img", 16, |data| {
        for name in OURS.iter().filter(|name| !name.contains('/')) {
            symlink(&precious, data.join(name)).unwrap();
        }
        fs::write(data.join("what\n  precious is: this\x1b]0;owned\x07"), "odd").unwrap();
        fs::write(data.join("plain"), "plain").unwrap();
    });
    for turn in 0..2 {
        let report = place.fetch(&image, &["/"], "out", Collision::Skip).unwrap();
        assert_eq!((report.outcome, report.lost_count), (Outcome::Proved, 0), "turn {turn}: {report:?}");
        assert_eq!(report.not_held, [""; 0]);
        assert_eq!(fs::read_to_string(&precious).unwrap(), "the only copy");
        let manifest = report.manifest.unwrap();
        assert!(!OURS.contains(&manifest.file_name().unwrap().to_str().unwrap()), "{}", manifest.display());
        assert_eq!(verify(&place.path("out"), manifest.file_name().unwrap().to_str().unwrap()), 2);
    }
    for name in OURS.iter().filter(|name| !name.contains('/')) {
        assert_eq!(fs::read_link(place.path("out").join(name)).ok(), Some(precious.clone()), "{name} is what the volume has");
    }
}

#[test]
fn files_with_our_names_on_the_volume_come_along() {
    let place = Place::new();
    let image = place.volume("odd.img", 16, |data| {
        fs::create_dir_all(data.join(".badger-fetch")).unwrap();
        fs::create_dir_all(data.join(".badger-parts")).unwrap();
        fs::write(data.join(".badger-parts/7"), "a part of theirs").unwrap();
        for name in OURS.iter().filter(|name| !data.join(name).exists()) {
            fs::write(data.join(name), format!("theirs: {name}")).unwrap();
        }
    });
    for turn in 0..3 {
        let report = place.fetch(&image, &["/"], "out", Collision::Skip).unwrap();
        assert_eq!((report.outcome, report.files, report.skipped_count), (Outcome::Proved, 9, 0), "turn {turn}");
        for name in OURS.iter().filter(|name| **name != ".badger-fetch" && **name != ".badger-parts") {
            assert_eq!(fs::read_to_string(place.path("out").join(name)).unwrap(), format!("theirs: {name}"));
        }
        verify(&place.path("out"), report.manifest.unwrap().file_name().unwrap().to_str().unwrap());
    }
}

#[rstest]
#[case::journal(".badger-fetch")]
#[case::parts(".badger-parts")]
#[case::manifest("fetched.sha256")]
#[case::list("fetched.txt")]
#[case::part("fetched.part")]
fn links_planted_at_the_destination_are_not_followed(#[case] name: &str, #[values(false, true)] directory: bool) {
    let place = Place::new();
    let outside = place.path("outside");
    fs::create_dir(&outside).unwrap();
    fs::write(outside.join("kept"), "kept").unwrap();
    fs::create_dir(place.path("out")).unwrap();
    symlink(if directory { outside.clone() } else { outside.join("kept") }, place.path("out").join(name)).unwrap();
    let report = place.fetch(&place.path("volume.img"), &["/Wenna"], "out", Collision::Skip).unwrap();
    assert_eq!(report.outcome, Outcome::Proved);
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 1);
    assert_eq!(fs::read_to_string(outside.join("kept")).unwrap(), "kept");
    assert!(fs::symlink_metadata(place.path("out").join(name)).unwrap().is_symlink());
}

#[test]
fn a_folder_that_is_a_link_at_the_destination_is_not_gone_through() {
    let place = Place::new();
    let outside = place.path("outside");
    fs::create_dir(&outside).unwrap();
    fs::create_dir(place.path("out")).unwrap();
    symlink(&outside, place.path("out/Wenna")).unwrap();
    // As the folder itself, and as a folder above what is picked.
    for picks in [&["/Wenna"][..], &["/Wenna/Counts", "/Piers/Counts"]] {
        let report = place.fetch(&place.path("volume.img"), picks, "out", Collision::Skip).unwrap();
        assert_eq!(report.outcome, Outcome::Proved, "{report:?}");
        assert_eq!(fs::read_dir(&outside).unwrap().count(), 0);
        assert!(place.path("out/Wenna (2)/Counts").exists() || place.path("out/Wenna (2)/sparse.db").exists());
    }
}

#[test]
fn a_folder_that_becomes_a_link_while_it_goes_on_is_not_gone_through() {
    let place = Place::new();
    let (outside, out) = (place.path("outside"), place.path("out"));
    fs::create_dir(&outside).unwrap();
    let done = Mutex::new(false);
    let swap = |event: &Event| {
        let mut done = done.lock().unwrap();
        if matches!(event, Event::Moved { .. }) && !*done {
            *done = true;
            fs::rename(out.join("Wenna/Counts"), out.join("aside")).unwrap();
            symlink(&outside, out.join("Wenna/Counts")).unwrap();
        }
    };
    let volume = place.path("volume.img");
    let _ = place.fetch_with(&volume, &["/Wenna"], &out, Collision::Skip, &Control::new(), &swap, &|_| Collision::Skip).unwrap();
    assert!(*done.lock().unwrap());
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 0, "nothing came out through the link");
}

#[test]
fn the_drive_that_is_read_is_not_replaced_by_a_file_of_its_own_name() {
    let place = Place::new();
    let image = place.volume("weir.img", 16, |data| fs::write(data.join("weir.img"), "newer").unwrap());
    run(&["debugfs", "-w", "-R", "set_inode_field /weir.img mtime 20400101000000", image.to_str().unwrap()]);
    let before = fs::read(&image).unwrap();
    let report = place.fetch(&image, &["/weir.img"], ".", Collision::ReplaceIfNewer).unwrap();
    assert_eq!((report.skipped_count, report.files), (1, 0), "{report:?}");
    assert!(fs::read(&image).unwrap() == before);
}

/// Each file equals what was read of it; whether that belongs together is not proved where somebody writes to the volume meanwhile.
#[rstest]
#[case::nobody_writes(false, Outcome::Proved)]
#[case::somebody_writes(true, Outcome::Finished)]
fn files_of_a_volume_that_is_written_to_are_not_proved(#[case] writes: bool, #[case] outcome: Outcome) {
    let place = Place::new();
    let image = place.volume("busy.img", 16, |data| fs::write(data.join("hymn"), noise(2 << 20, 5)).unwrap());
    let watch = |event: &Event| {
        if writes && matches!(event, Event::Phase { .. }) {
            // The last block is nobody's.
            File::options().write(true).open(&image).unwrap().write_all_at(b"later", (16 << 20) - 5).unwrap();
        }
    };
    let into = place.path("out");
    let report = place.fetch_with(&image, &["/"], &into, Collision::Skip, &Control::new(), &watch, &|_| Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.files, report.reason.contains("was written to")), (outcome, 1, writes), "{report:?}");
    assert!(fs::read(into.join("hymn")).unwrap() == noise(2 << 20, 5));
}

#[test]
fn what_cannot_be_had_costs_only_itself() {
    let place = Place::new();
    let image = place.volume("deep.img", 64, |data| {
        fs::write(data.join("first"), "first").unwrap();
        File::create(data.join("long.db")).unwrap().set_len(20 << 30).unwrap();
        fs::write(data.join("last"), "last").unwrap();
    });
    // A file system of small blocks holds files of 16 GiB at the most.
    let small = place.path("small.img");
    File::create(&small).unwrap().set_len(64 << 20).unwrap();
    run(&["mke2fs", "-q", "-F", "-t", "ext2", "-b", "1024", small.to_str().unwrap()]);
    let mount = place.path("small");
    fs::create_dir(&mount).unwrap();
    run(&["mount", "-o", "loop", small.to_str().unwrap(), mount.to_str().unwrap()]);
    let report = place.fetch(&image, &["/first", "/long.db", "/last"], "small", Collision::Skip);
    let (first, last) = (fs::read(mount.join("first")), fs::read(mount.join("last")));
    let names = fs::read_dir(&mount).unwrap().count();
    run(&["umount", mount.to_str().unwrap()]);
    let report = report.unwrap();
    assert_eq!((report.outcome, report.files, report.lost_count), (Outcome::Incomplete, 2, 1));
    assert!(report.lost[0].path == "/long.db" && report.lost[0].why.contains("too large"), "{:?}", report.lost);
    assert_eq!((first.unwrap(), last.unwrap()), (b"first".to_vec(), b"last".to_vec()));
    assert_eq!(names, 5, "both files, both lists, lost+found");
}

#[test]
fn paths_longer_than_the_system_takes_are_copied() {
    let place = Place::new();
    let image = place.path("deep.img");
    File::create(&image).unwrap().set_len(32 << 20).unwrap();
    run(&["mke2fs", "-q", "-F", "-t", "ext4", image.to_str().unwrap()]);
    let mount = place.path("mnt");
    fs::create_dir(&mount).unwrap();
    run(&["mount", "-o", "loop", image.to_str().unwrap(), mount.to_str().unwrap()]);
    let name = "n".repeat(250);
    // 30 folders of 250 letters: 7,500 bytes, made from within.
    let within = |place: &Path, step: &str, end: &str| {
        let script = format!("import os\nos.chdir({:?})\nfor i in range(30):\n    {step}os.chdir('{name}')\n{end}", place.to_str().unwrap());
        std::process::Command::new("python3").args(["-c", &script]).output().unwrap()
    };
    let made = within(&mount, &format!("os.mkdir('{name}');"), "open('file', 'w').write('deep')");
    run(&["umount", mount.to_str().unwrap()]);
    assert!(made.status.success(), "{made:?}");
    let report = place.fetch(&image, &["/"], "out", Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.files), (Outcome::Proved, 1), "{report:?}");
    assert_eq!(within(&place.path("out"), "", "print(open('file').read())").stdout, b"deep\n");
    run(&["rm", "-rf", place.path("out").to_str().unwrap()]);
}

#[test]
fn a_repeated_copy_proves_again_and_never_leaves_an_empty_manifest() {
    let place = Place::new();
    let image = place.path("volume.img");
    place.fetch(&image, &["/Wenna"], "out", Collision::Skip).unwrap();
    let again = place.fetch(&image, &["/Wenna"], "out", Collision::Skip).unwrap();
    assert_eq!((again.outcome, again.files, again.resumed, again.skipped_count), (Outcome::Proved, 43, 43, 0));
    assert_eq!(verify(&place.path("out"), "fetched-2.sha256"), 44);
    // What is no longer equal is not counted, whatever its size and time say.
    let (path, time) =
        (place.path("out/Wenna/Counts/sheet 9.csv"), fs::metadata(place.path("out/Wenna/Counts/sheet 9.csv")).unwrap().modified().unwrap());
    let file = File::options().write(true).open(&path).unwrap();
    file.write_all_at(b"x", 100).unwrap();
    file.set_modified(time).unwrap();
    let third = place.fetch(&image, &["/Wenna"], "out", Collision::Skip).unwrap();
    assert_eq!((third.files, third.skipped_count), (42, 1), "{:?}", third.skipped);
    // Where nothing at all is there to be summed up there is no manifest.
    let nothing = place.fetch(&image, &["/Wenna/empty"], "none", Collision::Skip).unwrap();
    assert_eq!((nothing.outcome, nothing.manifest), (Outcome::Proved, None));
}

#[test]
fn holes_cost_no_time_and_a_stop_is_heard() {
    let place = Place::new();
    let image = place.volume("sparse.img", 32, |data| {
        let file = File::create(data.join("tide.db")).unwrap();
        file.set_len(4 << 40).unwrap();
        file.write_all_at(b"at the end", (4 << 40) - 10).unwrap();
        file.write_all_at(&noise(100_000, 7), (2 << 40) + 12_345).unwrap();
    });
    let began = Instant::now();
    let report = place.fetch(&image, &["/tide.db"], "out", Collision::Skip).unwrap();
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
    assert_eq!((report.outcome, report.files, report.bytes), (Outcome::Proved, 1, 4 << 40));
    let file = File::open(place.path("out/tide.db")).unwrap();
    let mut bytes = vec![0; 100_000];
    file.read_exact_at(&mut bytes, (2 << 40) + 12_345).unwrap();
    assert!(bytes == noise(100_000, 7));
    assert!(file.metadata().unwrap().blocks() < 1000);
    // It is too long for a checksum, and that is said.
    assert!(report.manifest.is_none());
    assert!(fs::read_to_string(report.list.unwrap()).unwrap().contains("too long to be hashed"));
    // While 2 GB of zeroes are hashed for the manifest, a stop ends it at once.
    let image = place.volume("stop.img", 32, |data| File::create(data.join("rota.db")).unwrap().set_len(2_000_000_001).unwrap());
    // A loaded machine may be late by itself, but not each time.
    let after_stop = |attempt: usize| {
        let control = Control::new();
        std::thread::scope(|scope| {
            let stopping = scope.spawn(|| {
                std::thread::sleep(Duration::from_millis(200));
                control.stop();
                Instant::now()
            });
            let to = place.path(&format!("stopped-{attempt}"));
            let report = place.fetch_with(&image, &["/rota.db"], &to, Collision::Skip, &control, &|_| (), &|_| Collision::Skip);
            assert_eq!(report.unwrap().outcome, Outcome::Interrupted);
            stopping.join().unwrap().elapsed()
        })
    };
    let late: Vec<Duration> = (0..8).map(after_stop).take_while(|late| *late > Duration::from_secs(1)).collect();
    assert!(late.len() < 8, "{late:?}");
}

#[test]
fn a_size_that_cannot_be_is_named() {
    let place = Place::new();
    let image = place.volume("damaged.img", 16, |data| fs::write(data.join("rota.ods"), "rota").unwrap());
    run(&["debugfs", "-w", "-R", "set_inode_field /rota.ods size 0x7ffffffffffff000", image.to_str().unwrap()]);
    let began = Instant::now();
    let report = place.fetch(&image, &["/"], "out", Collision::Skip).unwrap();
    assert!(began.elapsed() < Duration::from_secs(5));
    assert_eq!((report.outcome, report.lost_count), (Outcome::Incomplete, 1));
    assert!(report.lost[0].why.contains("cannot be"), "{:?}", report.lost);
    assert!(!Path::new(&place.path("out/rota.ods")).exists());
}
