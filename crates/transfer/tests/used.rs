//! Clones of only what is in use, between simulated drives with volumes made by the system's own tools.

use crate::support::{MIB, Place, noise};
use badger_layout::plan::Rest;
use badger_transfer::{Control, Event, Line, Outcome, Report, Verdict, events::Silent};
use rstest::rstest;
use std::fs;
use std::os::unix::fs::FileExt;
use std::process::Command;

const SIZE: u64 = 96 * MIB;
/// Where the volume begins.
const START: u64 = MIB;

fn run(command: &[&str]) {
    let out = Command::new(command[0]).args(&command[1..]).output().unwrap_or_else(|error| panic!("{}: {error}", command[0]));
    assert!(out.status.success(), "{command:?}: {}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
}

/// A drive with an ext4 volume in its only partition; twenty files of 1 MB, half of which were deleted again. What is
/// free holds noise.
fn system(place: &Place) -> Vec<u8> {
    let volume = place.path("volume");
    let data = place.path("data");
    fs::create_dir_all(data.join("Counts")).unwrap();
    fs::write(&volume, noise((SIZE - 2 * START) as usize, 77)).unwrap();
    (0..20u64).for_each(|number| fs::write(data.join(format!("Counts/sheet {number}.csv")), noise(1_000_000, number + 1)).unwrap());
    run(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", "-E", "nodiscard", "-d", data.to_str().unwrap(), volume.to_str().unwrap()]);
    let script = place.path("script");
    fs::write(&script, (0..20).step_by(2).map(|number| format!("rm \"/Counts/sheet {number}.csv\"\n")).collect::<String>()).unwrap();
    run(&["debugfs", "-w", "-f", script.to_str().unwrap(), volume.to_str().unwrap()]);
    run(&["e2fsck", "-fn", volume.to_str().unwrap()]);
    let whole = place.path("whole");
    fs::write(&whole, noise(SIZE as usize, 5)).unwrap();
    let mut child = Command::new("sfdisk").args(["-q", whole.to_str().unwrap()]).stdin(std::process::Stdio::piped()).spawn().unwrap();
    std::io::Write::write_all(child.stdin.as_mut().unwrap(), format!("label: dos\n2048,{},L\n", (SIZE - 2 * START) / 512).as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    let file = fs::OpenOptions::new().write(true).open(&whole).unwrap();
    file.write_all_at(&fs::read(&volume).unwrap(), START).unwrap();
    fs::read(&whole).unwrap()
}

fn line<'a>(report: &'a Report, what: &str) -> &'a Line {
    report.proof.iter().find(|line| line.what == what).unwrap()
}

/// The volume on the target is sound by its own checker and gives back every file.
fn judge(place: &Place) {
    let volume = place.path("judged");
    fs::write(&volume, &place.content("onto")[START as usize..(SIZE - START) as usize]).unwrap();
    run(&["e2fsck", "-fn", volume.to_str().unwrap()]);
    for number in (1..20u64).step_by(2) {
        let out = place.path("out");
        run(&["debugfs", "-R", &format!("dump \"/Counts/sheet {number}.csv\" {}", out.display()), volume.to_str().unwrap()]);
        assert!(fs::read(&out).unwrap() == noise(1_000_000, number + 1), "sheet {number}");
    }
}

#[rstest]
#[case::left(Rest::Leave)]
#[case::discarded(Rest::Discard)]
#[case::zero(Rest::Zero)]
fn only_what_is_in_use_is_copied_and_every_file_is_proved(#[case] rest: Rest) {
    let place = Place { used: Some(rest), ..Place::new() };
    let content = system(&place);
    let old = noise(SIZE as usize + 4096, 9);
    let (source, target) = (place.drive("from", &content, ""), place.drive("onto", &old, ""));
    let report = place.clone(&source, &target);
    assert_eq!((report.outcome, report.reason.as_str()), (Outcome::Proved, ""));
    assert!(report.read_bytes < 40 * MIB, "{}", report.read_bytes);
    assert_eq!(line(&report, "files").result, Verdict::Holds);
    assert!(line(&report, "files").text.contains("10 files, 10 MB"), "{}", line(&report, "files").text);
    judge(&place);
    let onto = place.content("onto");
    // What lies outside the volume is copied whole, and so is every block in which anything is used.
    assert!(
        onto[..START as usize] == content[..START as usize] && onto[(SIZE - START) as usize..SIZE as usize] == content[(SIZE - START) as usize..]
    );
    let blocks = (0..SIZE as usize).step_by(MIB as usize).map(|at| at..at + MIB as usize);
    let spared = blocks.filter(|block| onto[block.clone()] != content[block.clone()]);
    let mut count = 0;
    for block in spared {
        count += 1;
        // A simulated drive has no use for being told what is not wanted.
        let wanted = if rest == Rest::Zero { vec![0; MIB as usize] } else { old[block.clone()].to_vec() };
        assert!(onto[block.clone()] == wanted, "{block:?}");
    }
    assert!(count > 50, "{count}");
    assert_eq!(report.hash.source, report.hash.target);
}

#[test]
fn a_file_that_arrives_otherwise_fails_the_proof_by_blocks_and_by_files() {
    let place = Place { used: Some(Rest::Leave), ..Place::new() };
    let content = system(&place);
    let wanted = &noise(1_000_000, 8)[..4096];
    let at = content.windows(4096).position(|window| window == wanted).unwrap() as u64;
    let (source, target) = (place.drive("from", &content, ""), place.drive("onto", &noise(SIZE as usize, 9), ""));
    let fault = format!("[[fault]]\nkind = \"silent\"\nlba = {}\nsectors = 1\n", at / 512);
    place.faults("onto", &fault);
    let report = place.clone(&source, &target);
    assert_eq!(report.outcome, Outcome::Finished);
    assert_eq!(line(&report, "blocks").result, Verdict::Fails);
    let files = line(&report, "files");
    assert_eq!((files.result, files.evidence[0].as_str()), (Verdict::Fails, "/Counts/sheet 7.csv"));
}

#[test]
fn an_unreadable_file_is_lost_on_both_sides_and_said_so() {
    let place = Place { used: Some(Rest::Leave), ..Place::new() };
    let content = system(&place);
    let wanted = &noise(1_000_000, 8)[..4096];
    let at = content.windows(4096).position(|window| window == wanted).unwrap() as u64;
    let (source, target) = (place.drive("from", &content, ""), place.drive("onto", &noise(SIZE as usize, 9), ""));
    place.faults("from", &format!("[[fault]]\nkind = \"unreadable\"\nlba = {}\nsectors = 2\n", at / 512));
    let report = place.clone(&source, &target);
    assert_eq!((report.outcome, report.lost_bytes), (Outcome::Incomplete, 1024));
    let files = line(&report, "files");
    assert_eq!(files.result, Verdict::Holds);
    assert!(files.evidence[0].starts_with("1 files cannot be read whole"), "{:?}", files.evidence);
}

#[rstest]
fn stopped_anywhere_it_is_gone_on_with(#[values(1, 4, 9, 15, 22, 30)] turns: u32) {
    let place = Place { used: Some(Rest::Zero), ..Place::new() };
    let content = system(&place);
    let (source, target) = (place.drive("from", &content, ""), place.drive("onto", &noise(SIZE as usize, 9), ""));
    let (control, left) = (Control::new(), std::sync::atomic::AtomicU32::new(turns));
    let watch = |event: &Event| {
        if matches!(event, Event::Moved { .. }) && left.fetch_sub(1, std::sync::atomic::Ordering::Relaxed) == 1 {
            control.stop();
        }
    };
    let report = place.clone_with(&source, &target, &control, false, &watch).unwrap();
    assert_eq!(report.outcome, Outcome::Interrupted);
    assert!(place.has_journal());
    let report = place.clone_with(&source, &target, &Control::new(), true, &Silent).unwrap();
    assert_eq!((report.outcome, report.reason.as_str()), (Outcome::Proved, ""));
    judge(&place);
}

#[test]
fn a_volume_that_cannot_be_trusted_is_copied_whole() {
    let place = Place { used: Some(Rest::Leave), ..Place::new() };
    let mut content = system(&place);
    // A volume of one group has no copy of its descriptors.
    let volume = START as usize;
    content[volume + 4096..volume + 8192].fill(0xff);
    let (source, target) = (place.drive("from", &content, ""), place.drive("onto", &noise(SIZE as usize, 9), ""));
    let report = place.clone(&source, &target);
    assert_eq!((report.outcome, report.read_bytes), (Outcome::Proved, SIZE));
    assert!(report.proof.iter().all(|line| line.what != "files"));
    assert!(place.content("onto") == content);
}
