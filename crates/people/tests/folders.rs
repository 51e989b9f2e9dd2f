//! Copying out of a folder of this machine, judged by the system's own programs.

use crate::support::{Place, run, verify};
use badger_drive::Outcome;
use badger_people::copyout::Collision;
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::Path;
use std::process::Command;

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

#[test]
fn a_folder_of_this_machine_comes_whole_and_is_left_as_it_was() {
    let place = Place::new();
    let data = place.path("data");
    let sheet = data.join("Wenna/Counts/sheet 3.csv");
    for path in [&sheet, &data.join("Wenna"), &data] {
        run(&["touch", "-a", "-d", "2001-02-03", text(path)]);
    }
    run(&["setfattr", "-n", "user.note", "-v", "counted twice", text(&sheet)]);
    let facts = |path: &Path| fs::metadata(path).map(|meta| (meta.atime(), meta.mtime(), meta.ctime(), meta.ctime_nsec())).unwrap();
    let before = [facts(&sheet), facts(&data.join("Wenna"))];
    let report = place.fetch(&data, &["/Wenna"], "out", Collision::Skip).unwrap();
    assert_eq!((report.outcome, report.reason.as_str(), report.files, report.links), (Outcome::Proved, "", 43, 2));
    assert_eq!(before, [facts(&sheet), facts(&data.join("Wenna"))], "reading leaves no trace");
    run(&["diff", "-r", "--no-dereference", text(&data.join("Wenna")), text(&place.path("out/Wenna"))]);
    assert_eq!(verify(&place.path("out"), "fetched.sha256"), 44);
    let (a, b) = (fs::metadata(place.path("out/Wenna/same sheet.csv")).unwrap(), fs::metadata(place.path("out/Wenna/Counts/sheet 7.csv")).unwrap());
    assert_eq!(a.ino(), b.ino());
    assert!(fs::metadata(place.path("out/Wenna/sparse.db")).unwrap().blocks() < 1000, "holes stay holes");
    assert_eq!(fs::metadata(place.path("out/Wenna/Counts/sheet 3.csv")).unwrap().mtime(), fs::metadata(&sheet).unwrap().mtime());
    let note = Command::new("getfattr").args(["--only-values", "-n", "user.note"]).arg(place.path("out/Wenna/Counts/sheet 3.csv")).output().unwrap();
    assert_eq!(note.stdout, b"counted twice");
    // The same order again finds all of it there.
    let again = place.fetch(&data, &["/Wenna"], "out", Collision::Skip).unwrap();
    assert_eq!((again.outcome, again.files, again.resumed), (Outcome::Proved, 43, 43));
}

#[rstest]
#[case::itself("data", true)]
#[case::below("data/Wenna/Counts", true)]
#[case::below_what_is_not_there("data/new/deeper", true)]
#[case::above(".", true)]
#[case::by_a_link("way/new", true)]
#[case::by_a_mount("bind/new", true)]
#[case::by_a_folder_that_shows_it("shown/new", true)]
#[case::by_one_that_shows_a_part_of_it("part/new", true)]
#[case::by_an_overlay("over/new", true)]
#[case::by_a_folder_that_shows_what_is_above("above/data/new", true)]
#[case::beside("out", false)]
#[case::a_name_that_begins_alike("data of others", false)]
fn a_folder_and_its_destination_never_lie_in_one_another(#[case] into: &str, #[case] refused: bool) {
    let place = Place::new();
    symlink(place.path("data/Wenna"), place.path("way")).unwrap();
    fs::create_dir(place.path("bind")).unwrap();
    let (data, counts) = (place.path("data"), place.path("data/Wenna/Counts"));
    for name in ["shown", "part", "over", "above", "lower", "work"] {
        fs::create_dir(place.path(name)).unwrap();
    }
    let whole = data.parent().unwrap();
    let layers = format!("lowerdir={0}/lower,upperdir={0}/data,workdir={0}/work", whole.display());
    run(&["mount", "--bind", text(&counts), text(&place.path("bind"))]);
    for (from, to) in [(&*data, "shown"), (&counts, "part"), (whole, "above")] {
        run(&["bindfs", text(from), text(&place.path(to))]);
    }
    run(&["mount", "-t", "overlay", "overlay", "-o", &layers, text(&place.path("over"))]);
    let all = |dir: &Path| Command::new("find").arg(dir).output().unwrap().stdout;
    let before = all(&data);
    let outcome = place.fetch(&data, &["/Piers"], into, Collision::Skip);
    let after = all(&data);
    for name in ["over", "above", "part", "shown", "bind"] {
        run(&["umount", text(&place.path(name))]);
    }
    match outcome {
        Ok(report) => assert!(!refused && report.outcome == Outcome::Proved, "{report:?}"),
        Err(refusal) => assert!(refused && refusal.code == "into-source", "{}", refusal.text),
    }
    assert!(before == after, "nothing came into what is read");
}

#[test]
fn what_is_no_plain_file_is_named_and_nothing_waits_for_it() {
    let place = Place::new();
    let odd = place.path("data/odd");
    fs::create_dir_all(odd.join("mounted")).unwrap();
    run(&["mkfifo", text(&odd.join("pipe"))]);
    run(&["mknod", text(&odd.join("null")), "c", "1", "3"]);
    symlink("/etc/hostname", odd.join("leads out")).unwrap();
    File::create(odd.join("plain")).unwrap();
    run(&["mount", "-t", "tmpfs", "none", text(&odd.join("mounted"))]);
    fs::write(odd.join("mounted/kept elsewhere"), "not copied").unwrap();
    let report = place.fetch(&place.path("data"), &["/odd"], "out", Collision::Skip).unwrap();
    run(&["umount", text(&odd.join("mounted"))]);
    assert_eq!((report.outcome, report.files, report.links, report.lost_count), (Outcome::Incomplete, 1, 1, 1), "{report:?}");
    assert!(report.lost[0].why.contains("something else is mounted there"), "{report:?}");
    assert_eq!(fs::read_link(place.path("out/odd/leads out")).unwrap(), Path::new("/etc/hostname"));
    let said = report.not_held.join("\n");
    for part in ["pipe", "device"] {
        assert!(said.contains(part), "{part}: {said}");
    }
    assert!(!place.path("out/odd/mounted/kept elsewhere").exists());
}
