//! Jobs of every kind from the bench to the ledger, and what comes between: changed drives, wrong words, stops.

use crate::support::{Room, numbers, room_with_files};
use crossterm::event::KeyCode;
use rstest::rstest;
use std::fs;
use std::path::Path;
use std::time::Duration;

/// Rubs out what an entry offers, and types something else.
fn instead(room: &mut Room, text: &str) {
    (0..200).for_each(|_| room.key(KeyCode::Backspace));
    room.typed(text);
    room.key(KeyCode::Enter);
}

fn images(dir: &Path) -> Vec<String> {
    let names = fs::read_dir(dir).unwrap().map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned());
    names.filter(|name| name.ends_with(".zbi") || name.ends_with(".qcow2")).collect()
}

/// Up to the plan of an image of the drive with files.
fn to_the_image(room: &mut Room) {
    room.find("take brindle zz source");
    room.typed("i");
    room.wait_for("image, a new file");
    room.key(KeyCode::Enter);
    room.wait_for("everything, as it is");
    room.wait_for("Enter begin");
}

#[rstest]
fn a_drive_is_kept_in_an_image(#[values((80, 24), (142, 42))] size: (u16, u16)) {
    let (mut room, drive) = room_with_files();
    let before = fs::read(&drive).unwrap();
    to_the_image(&mut room);
    room.typed("u");
    room.wait_for("only what is in use");
    room.screen(size.0, size.1);
    room.wait_for("Enter begin");
    room.key(KeyCode::Enter);
    let proof = room.wait_for("● proved");
    assert!(proof.contains("read back"), "{proof}");
    room.screen(size.0, size.1);
    assert_eq!(images(room.dir.path()).len(), 1);
    // The same name again is somebody's image, and is said to be.
    room.typed("1");
    room.typed("i");
    room.wait_for("image, a new file");
    assert_eq!(images(room.dir.path()).len(), 1);
    assert!(before == fs::read(&drive).unwrap());
}

#[test]
fn a_drive_that_is_swapped_before_an_image_begins_is_found_out() {
    let (mut room, _) = room_with_files();
    to_the_image(&mut room);
    let description = room.dir.path().join("zz.drive.toml");
    let other = fs::read_to_string(&description).unwrap().replace("BR-zz77", "BR-zz78");
    fs::write(description, other).unwrap();
    room.key(KeyCode::Enter);
    room.wait_for("this is how it is now: read it again before you begin");
    assert!(images(room.dir.path()).is_empty());
    // Read again, it begins.
    room.wait_for("Enter begin");
    room.key(KeyCode::Enter);
    room.wait_for("● proved");
}

#[rstest]
#[case::other_kind("o", "x", "not taken")]
#[case::nowhere("o", "/nowhere/at/all.zbi", "◆ stop")]
#[case::no_parent("p", "/nowhere/at/all.zbi", "◆ stop")]
fn what_cannot_be_an_image_is_said(#[case] key: &str, #[case] typed: &str, #[case] said: &str) {
    let (mut room, _) = room_with_files();
    to_the_image(&mut room);
    room.typed(key);
    instead(&mut room, typed);
    let screen = room.wait_for(said);
    // A name that is not taken leaves the plan as it was; what is taken and cannot be begins nothing.
    assert_eq!(screen.contains("Enter begin"), said == "not taken", "{screen}");
    if said != "not taken" {
        room.key(KeyCode::Enter);
    }
    std::thread::sleep(Duration::from_millis(50));
    assert!(room.screen(120, 40).contains("no run") && images(room.dir.path()).is_empty());
}

/// A room whose drive cc fails in three places, and a plan to salvage it onto bb.
fn to_the_salvage(target: &str) -> Room {
    let mut room = Room::new();
    let mut bytes: Vec<u8> = Vec::with_capacity(16 << 20);
    let mut next = numbers(17);
    (0..(16 << 20) / 8).for_each(|_| bytes.extend(next(u64::MAX).to_le_bytes()));
    fs::write(room.dir.path().join("cc.img"), bytes).unwrap();
    let description = room.dir.path().join("cc.drive.toml");
    let mut text = fs::read_to_string(&description).unwrap();
    for lba in [9000, 9100, 20000] {
        text += &format!("[[fault]]\nkind = \"unreadable\"\nlba = {lba}\nsectors = 8\n");
    }
    fs::write(description, text).unwrap();
    let bb = room.dir.path().join("bb.img");
    fs::write(&bb, vec![7; 20 << 20]).unwrap();
    room.typed("/");
    room.typed("dunmore cc source");
    room.key(KeyCode::Enter);
    room.wait_for("◂ source");
    room.typed("v");
    room.wait_for("Enter goes on to the plan");
    room.key(KeyCode::Enter);
    room.wait_for("Enter begins");
    room.typed("o");
    let target = room.dir.path().join(target);
    instead(&mut room, target.to_str().unwrap());
    let file = target.file_stem().unwrap().to_string_lossy().into_owned();
    let planned = |screen: &str| screen.contains(&format!("{file}.map")) && (screen.contains("Enter begins") || screen.contains("Enter asks"));
    room.wait_until("a plan onto the target", planned);
    room
}

#[rstest]
fn a_failing_drive_is_salvaged(#[values((80, 24), (142, 42))] size: (u16, u16)) {
    let mut room = to_the_salvage("saved.img");
    room.key(KeyCode::Enter);
    room.screen(size.0, size.1);
    let proof = room.wait_for("12.3 kB in 3 stretches are not saved");
    room.screen(size.0, size.1);
    assert!(proof.contains("read back from the target equal"), "{proof}");
    let (source, saved) = (room.content("cc"), room.content("saved"));
    let lost = |sector: &usize| [9000, 9100, 20000].iter().any(|lba| (*lba..lba + 8).contains(sector));
    for (number, (a, b)) in source.chunks(512).zip(saved.chunks(512)).enumerate() {
        assert!(if lost(&number) { b.iter().all(|byte| *byte == 0) } else { a == b }, "sector {number}");
    }
    // It is picked up again: nothing is left to read, and that is what it says.
    room.typed("2");
    room.key(KeyCode::Esc);
    room.screen(size.0, size.1);
}

#[test]
fn words_for_a_salvage_are_taken_or_said_to_be_wrong() {
    let mut room = to_the_salvage("saved.img");
    room.typed("l");
    instead(&mut room, "failures x");
    room.wait_for("needs a number");
    instead(&mut room, "failures 50 ; tries 3");
    room.wait_for("failures 50 ; tries 3");
    room.typed("f");
    instead(&mut room, "#1/Counts ; #2/Covers");
    room.wait_for("structures, then #1/Counts · #2/Covers");
    room.typed("u");
    room.wait_for("free space is left out");
    room.typed("u");
    room.wait_for("then free space");
    room.typed("o");
    instead(&mut room, "/nowhere/at/all.img");
    room.wait_for("◆ stop");
    // Back onto the drive itself it never goes.
    room.typed("o");
    let itself = room.dir.path().join("cc.drive.toml");
    instead(&mut room, itself.to_str().unwrap());
    room.wait_for("◆ stop");
    room.key(KeyCode::Enter);
    assert!(room.screen(120, 40).contains("no run"));
}

/// Onto a drive that holds something a salvage asks for the tail; nothing but that begins it.
#[rstest]
fn no_other_keys_ever_begin_a_salvage_over_data(#[values(1, 2)] seed: u64) {
    let mut room = to_the_salvage("bb.drive.toml");
    let mut next = numbers(seed);
    let letters: Vec<char> = "nruefl x;ahzgpd125".chars().collect();
    for _ in 0..1200 {
        match next(4) {
            0 => room.key([KeyCode::Enter, KeyCode::Enter, KeyCode::Esc, KeyCode::Up, KeyCode::Left, KeyCode::Backspace][next(6) as usize]),
            1 => drop(room.screen(60 + next(120) as u16, 16 + next(40) as u16)),
            _ => room.key(KeyCode::Char(letters[next(letters.len() as u64) as usize])),
        }
    }
    room.app.close();
    assert!(room.content("bb").iter().all(|byte| *byte == 7));
}

/// A proved clone of aa onto bb, at Prove.
fn proved() -> Room {
    let mut room = Room::new();
    room.up_to_the_release();
    room.typed("bb77");
    room.key(KeyCode::Enter);
    room.wait_for("● proved");
    room
}

#[test]
fn a_job_gets_its_names_its_papers_and_its_place_in_the_ledger() {
    let mut room = proved();
    room.typed("e");
    room.wait_for("Enter goes on to the customer");
    instead(&mut room, "LR-300");
    room.wait_for("Enter keeps both");
    instead(&mut room, "Weir Choir");
    room.wait_for("LR-300");
    room.typed("o");
    room.wait_for("Tell the customer");
    let four = room.wait_for("4 weeks");
    assert!(four.contains("handed over"), "{four}");
    room.key(KeyCode::Right);
    room.wait_for("5 weeks");
    room.key(KeyCode::Left);
    room.key(KeyCode::Left);
    room.wait_for("3 weeks");
    room.typed("w");
    room.wait_for("LR-300-1.pdf");
    let paper = fs::read_to_string(room.dir.path().join("LR-300-1.svg")).unwrap();
    assert!(paper.contains("LR-300") && paper.contains("Weir Choir"));
    assert!(fs::read(room.dir.path().join("LR-300-1.pdf")).unwrap().starts_with(b"%PDF"));
    room.key(KeyCode::Enter);
    room.wait_for("the old drive is kept until");
    // Handed over, its weeks are settled.
    room.key(KeyCode::Right);
    assert!(!room.screen(120, 40).contains("weeks"));
    room.typed("5");
    let ledger = room.wait_for("Weir Choir");
    for words in ["LR-300", "● proved", "Dunmore"] {
        assert!(ledger.contains(words), "{words}:\n{ledger}");
    }
}

#[test]
fn the_ledger_finds_jobs_and_drives() {
    let mut room = proved();
    room.typed("5");
    // The chosen job stands below the list, with what its drives were.
    let shown = room.wait_for("read back");
    assert!(shown.contains("aa") && shown.contains("bb"), "{shown}");
    room.typed("f");
    room.typed("bb77 proved");
    room.key(KeyCode::Enter);
    room.wait_for("● proved");
    room.typed("f");
    room.typed(" nothing of that kind");
    room.key(KeyCode::Enter);
    room.wait_until("an empty list", |screen| !screen.contains("● proved"));
    room.typed("f");
    room.key(KeyCode::Esc);
    room.wait_for("● proved");
    room.key(KeyCode::Right);
    let drives = room.wait_for("DS-bb77");
    assert!(drives.contains("DS-aa77") && drives.contains("DS-cc77"), "whatever lay on the bench is known:\n{drives}");
    room.key(KeyCode::Left);
    room.wait_for("● proved");
    // What is over opens again as it ended.
    room.key(KeyCode::Enter);
    room.wait_until("the old job", |screen| screen.contains("Prove") && screen.contains("● proved"));
}

#[test]
fn a_run_is_held_slowed_and_stopped_and_goes_on() {
    let mut room = Room::new();
    // More than may be on its way at once.
    for name in ["aa", "bb"] {
        let path = room.dir.path().join(format!("{name}.img"));
        fs::write(&path, [fs::read(&path).unwrap(), vec![7; 56 << 20]].concat()).unwrap();
    }
    let description = room.dir.path().join("aa.drive.toml");
    let text = fs::read_to_string(&description).unwrap() + "[pace]\nread_mb_s = 12.0\nwrite_mb_s = 400.0\nreal = true\n";
    fs::write(description, text).unwrap();
    room.wait_until("both drives, longer", |screen| screen.matches("67.1 MB").count() >= 2);
    room.find("take dunmore aa source");
    room.find("take dunmore bb target");
    room.wait_for("▸ target");
    room.typed("j");
    room.wait_for("At stake");
    room.key(KeyCode::Enter);
    room.wait_for("to copy");
    room.key(KeyCode::Enter);
    room.wait_for("Type bb77 to release Dunmore bb");
    room.typed("bb77");
    room.key(KeyCode::Enter);
    room.wait_for("copying");
    room.key(KeyCode::Char(' '));
    room.wait_for("‖ held");
    room.typed("l");
    room.wait_for("Read no faster than");
    instead(&mut room, "fast");
    // Not a rate: it asks on.
    room.wait_for("Read no faster than");
    instead(&mut room, "300k");
    room.wait_for("limit");
    room.key(KeyCode::Char(' '));
    room.typed("x");
    room.wait_for("Stop this run?");
    room.typed("n");
    room.wait_until("the run that goes on", |screen| screen.contains("copying") && !screen.contains("Stop this run?"));
    room.typed("x");
    room.wait_for("Stop this run?");
    room.typed("y");
    room.wait_for("broken off");
    let bb = room.content("bb");
    assert!(bb.contains(&0) && bb != room.content("aa"), "it was half-way");
    // It is the same run: its tail is asked for once more, and then it ends.
    let fast = fs::read_to_string(room.dir.path().join("aa.drive.toml")).unwrap().replace("12.0", "400.0");
    fs::write(room.dir.path().join("aa.drive.toml"), fast).unwrap();
    room.typed("r");
    room.wait_for("● goes on");
    room.wait_for("Enter release");
    room.key(KeyCode::Enter);
    room.wait_for("Type bb77 to release Dunmore bb");
    room.typed("bb77");
    room.key(KeyCode::Enter);
    room.wait_for("● proved");
    assert_eq!(room.content("aa"), room.content("bb"));
}

/// Every machine that is known can be chosen, each says what it takes, and behind the last stands none.
#[test]
fn machines_are_gone_through_in_the_plan() {
    let mut room = Room::new();
    room.up_to_the_plan();
    let machines = badger_jobs::machines::all(&room.bench);
    assert!(machines.len() > 3);
    for machine in machines {
        room.typed("w");
        room.wait_for(&machine.name);
    }
    let last = badger_jobs::machines::all(&room.bench).pop().unwrap().name;
    room.typed("w");
    room.wait_until("a plan for no machine", |screen| screen.contains("to copy") && !screen.contains(&last));
}
