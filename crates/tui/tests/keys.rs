//! The screens under any keys and in any size: nothing panics, and nothing but the tail releases a target.

use crate::support::{Room, find_files, numbers, room_with_files};
use crossterm::event::{KeyCode, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use rstest::rstest;
use std::fs::{self, File};
use std::time::{Duration, Instant};

#[rstest]
fn every_view_fits_every_size(#[values((80, 24), (81, 25), (99, 30), (142, 42), (300, 90))] size: (u16, u16)) {
    let mut room = Room::new();
    let (width, height) = size;
    room.screen(width, height);
    room.key(KeyCode::Enter);
    room.screen(width, height);
    room.typed("?");
    room.screen(width, height);
    room.key(KeyCode::Esc);
    room.typed("/dun");
    room.screen(width, height);
    room.key(KeyCode::Esc);
    room.up_to_the_release();
    room.screen(width, height);
    room.typed("bb77");
    room.key(KeyCode::Enter);
    room.screen(width, height);
    room.wait_for("● proved");
    room.screen(width, height);
    room.key(KeyCode::Enter);
    room.screen(width, height);
    room.typed("o");
    room.screen(width, height);
    room.typed("5");
    room.screen(width, height);
    room.key(KeyCode::Right);
    room.screen(width, height);
    assert_eq!(room.content("aa"), room.content("bb"));
}

#[test]
fn keys_for_a_plan_that_is_made_anew_are_not_lost_and_never_release() {
    let mut room = Room::new();
    room.up_to_the_plan();
    // Each plans anew: three in a row come faster than plans do. What releases is not kept.
    room.typed("uuu");
    assert!(room.screen(120, 40).contains("planning anew, 2 keys wait"));
    room.key(KeyCode::Enter);
    room.wait_for("the rest of the target is zero");
    assert!(room.screen(120, 40).contains("no run") && !room.screen(120, 40).contains("Type bb77"));
    room.typed("u");
    room.wait_for("MB to copy");
}

#[test]
fn what_would_be_lost_stands_beside_the_tail() {
    let mut room = Room::new();
    room.up_to_the_release();
    let screen = room.screen(120, 40);
    assert!(screen.contains("Dunmore bb  DS-bb77") && screen.contains("the target holds data without a table"), "{screen}");
    room.typed("aa77");
    room.key(KeyCode::Enter);
    let screen = room.screen(120, 40);
    assert!(screen.contains("that is not the tail of Dunmore bb"), "{screen}");
    room.key(KeyCode::Esc);
    assert!(room.screen(120, 40).contains("no run"));
    assert_eq!(room.content("bb"), vec![7; 8 << 20]);
}

#[test]
fn esc_counts_also_where_the_next_key_is_already_there() {
    let mut room = Room::new();
    room.up_to_the_release();
    room.typed("bb77");
    room.escape_and(KeyCode::Enter);
    // The question was left, and is asked anew with nothing typed.
    let screen = room.wait_for("Type bb77 to release Dunmore bb");
    assert!(screen.contains("no run") && !screen.contains("that is not the tail"), "{screen}");
    assert_eq!(room.content("bb"), vec![7; 8 << 20]);
    room.key(KeyCode::Esc);
    room.typed("5fnobody");
    let screen = room.screen(120, 40);
    assert!(screen.contains("find nobody"), "{screen}");
    room.escape_and(KeyCode::Char('1'));
    let screen = room.screen(120, 40);
    assert!(!screen.contains("find nobody") && screen.contains("Dunmore bb"), "{screen}");
}

/// Thousands of random keys and clicks, everything but the letters of the tails.
#[rstest]
fn no_other_keys_ever_release(#[values(1, 2, 3, 4)] seed: u64) {
    let mut room = Room::new();
    let mut next = numbers(seed);
    let keys = [
        KeyCode::Enter,
        KeyCode::Enter,
        KeyCode::Esc,
        KeyCode::Up,
        KeyCode::Down,
        KeyCode::Left,
        KeyCode::Right,
        KeyCode::Tab,
        KeyCode::BackTab,
        KeyCode::Backspace,
        KeyCode::Home,
        KeyCode::End,
        KeyCode::PageDown,
        KeyCode::Delete,
        KeyCode::F(5),
    ];
    let letters: Vec<char> = "sstjj/?125eiaenrxlhwofy n0".chars().collect();
    for turn in 0..4000 {
        match next(10) {
            0..=3 => room.key(keys[next(keys.len() as u64) as usize]),
            4..=7 => room.key(KeyCode::Char(letters[next(letters.len() as u64) as usize])),
            8 => {
                let kind = if next(2) == 0 { MouseEventKind::Down(MouseButton::Left) } else { MouseEventKind::ScrollDown };
                room.app.mouse(MouseEvent { kind, column: next(120) as u16, row: next(40) as u16, modifiers: KeyModifiers::NONE });
            }
            _ => {
                room.screen(60 + next(120) as u16, 16 + next(40) as u16);
            }
        }
        if turn % 400 == 0 {
            std::thread::sleep(Duration::from_millis(60));
        }
    }
    room.app.close();
    assert_eq!(room.content("bb"), vec![7; 8 << 20]);
    assert!(room.content("cc").iter().all(|byte| *byte == 0));
    assert_eq!(room.content("aa")[510], 0x55);
}

#[test]
fn the_choice_stays_with_its_drive_when_another_arrives() {
    let mut room = Room::new();
    room.key(KeyCode::Down);
    room.key(KeyCode::Enter);
    room.wait_for("bb77 releases it as a target");
    let text = fs::read_to_string(room.dir.path().join("cc.drive.toml")).unwrap().replace("cc", "late").replace("late.img", "cc.img");
    fs::write(room.dir.path().join("late.drive.toml"), text).unwrap();
    let screen = room.wait_for("Dunmore late");
    assert!(screen.contains("just in") && screen.contains("bb77 releases it as a target"), "{screen}");
    fs::remove_file(room.dir.path().join("late.drive.toml")).unwrap();
    room.wait_for("3 drives");
    assert!(room.screen(120, 40).contains("bb77 releases it as a target"));
}

#[test]
fn a_drive_that_cannot_be_looked_at_says_why() {
    let mut room = Room::new();
    let text = "backing = \"gone.img\"\n[identity]\nmodel = \"Brindle\"\nserial = \"B\"\nbus = \"sata\"\n";
    File::create(room.dir.path().join("gone.img")).unwrap().set_len(1 << 20).unwrap();
    fs::write(room.dir.path().join("dd.drive.toml"), text).unwrap();
    room.wait_for("Brindle");
    room.typed("/brindle source");
    room.key(KeyCode::Enter);
    room.typed("/dunmore cc target");
    room.key(KeyCode::Enter);
    fs::remove_file(room.dir.path().join("gone.img")).unwrap();
    room.typed("j");
    let screen = room.wait_for("nothing is written");
    assert!(screen.contains("◆ stop"), "{screen}");
    room.key(KeyCode::Esc);
    room.wait_for("On the bench");
}

#[rstest]
fn dig_shows_what_is_there(#[values((80, 24), (142, 42))] size: (u16, u16)) {
    let (mut room, _) = room_with_files();
    find_files(&mut room);
    let look_for = |room: &mut Room, words: &str| {
        let begin = Instant::now();
        loop {
            let shown = room.screen(size.0, size.1);
            if shown.contains(words) {
                return shown;
            }
            assert!(begin.elapsed() < Duration::from_secs(20), "\"{words}\" does not come up in\n{shown}");
            std::thread::sleep(Duration::from_millis(5));
        }
    };
    look_for(&mut room, "right here");
    let search = |room: &mut Room, words: &str| {
        room.key(KeyCode::Char('f'));
        (0..20).for_each(|_| room.key(KeyCode::Backspace));
        words.chars().for_each(|letter| room.key(KeyCode::Char(letter)));
        room.key(KeyCode::Enter);
    };
    search(&mut room, "latin");
    look_for(&mut room, "Windows-1252");
    look_for(&mut room, "Männerstimmen");
    search(&mut room, ":picture");
    let shown = look_for(&mut room, "2 of 1");
    assert!(shown.contains("cover.png") && shown.contains("torn.png"), "{shown}");
    search(&mut room, "nothing of that name");
    look_for(&mut room, "nothing fits");
    search(&mut room, "link");
    look_for(&mut room, "leads to");
    room.key(KeyCode::Esc);
    room.key(KeyCode::Char('s'));
    look_for(&mut room, "by size");
    let shown = look_for(&mut room, "large.bin");
    let place = |name: &str| shown.lines().position(|line| line.contains(name)).unwrap();
    assert!(place("large.bin") < place("empty"), "the largest is on top\n{shown}");
    room.key(KeyCode::Home);
    room.key(KeyCode::Char(' '));
    look_for(&mut room, "● tray");
    look_for(&mut room, "2 files, 1");
    room.key(KeyCode::Char('x'));
    look_for(&mut room, "the tray is empty");
}

#[test]
fn the_marked_volume_stays_marked_when_drives_come_and_go() {
    let (mut room, image) = room_with_files();
    let drives = [("Ostrel early", "aa-early.drive.toml"), ("Ostrel late", "zz-late.drive.toml"), ("Brindle zz", "zz.drive.toml")];
    for (name, file) in &drives[..2] {
        fs::copy(&image, room.dir.path().join(format!("{name}.img"))).unwrap();
        let text = format!("backing = \"{name}.img\"\n[identity]\nmodel = \"{name}\"\nserial = \"{name}\"\nbus = \"sata\"\n");
        fs::write(room.dir.path().join(file), text).unwrap();
    }
    room.wait_for("6 drives");
    room.key(KeyCode::Char('3'));
    let all = room.wait_until("three volumes", |screen| screen.matches("weir").count() == 3);
    let rows: Vec<&str> = all.lines().filter(|line| line.contains("weir")).collect();
    let stands = |row: usize| drives.iter().find(|(name, _)| rows[row].contains(name)).expect("one of them");
    (0..5).for_each(|_| room.key(KeyCode::Down));
    let marked = stands(2).0;
    let is_marked = |screen: &str| screen.lines().any(|line| line.contains('▌') && line.contains(marked));
    room.wait_until(marked, is_marked);
    // One above it goes, and comes again.
    let other = room.dir.path().join(stands(0).1);
    let text = fs::read(&other).unwrap();
    fs::remove_file(&other).unwrap();
    let screen = room.wait_until("two volumes", |screen| screen.matches("weir").count() == 2);
    assert!(is_marked(&screen), "{screen}");
    fs::write(&other, text).unwrap();
    let screen = room.wait_until("three volumes", |screen| screen.matches("weir").count() == 3);
    assert!(is_marked(&screen), "{screen}");
}

#[test]
fn dig_looks_into_a_folder_of_this_machine() {
    let (mut room, _) = room_with_files();
    let data = room.dir.path().join("data");
    room.key(KeyCode::Char('3'));
    for (path, words) in [(data.join("nowhere"), "No such file"), (data.join("Counts"), "latin.txt")] {
        room.key(KeyCode::Char('o'));
        room.wait_for("look into");
        path.to_str().unwrap().chars().for_each(|letter| room.key(KeyCode::Char(letter)));
        room.key(KeyCode::Enter);
        room.wait_for(words);
    }
    let screen = room.wait_for("this machine");
    assert!(screen.contains("folder") && !screen.contains("lies in"), "{screen}");
}

/// Whatever is pressed, the drive that is looked at stays as it is, byte for byte.
#[rstest]
fn digging_never_changes_a_drive(#[values(5, 6)] seed: u64) {
    let (mut room, image) = room_with_files();
    let before = fs::read(&image).unwrap();
    find_files(&mut room);
    let mut next = numbers(seed);
    let keys = [
        KeyCode::Enter,
        KeyCode::Esc,
        KeyCode::Up,
        KeyCode::Down,
        KeyCode::Down,
        KeyCode::Left,
        KeyCode::Right,
        KeyCode::PageDown,
        KeyCode::PageUp,
        KeyCode::Home,
        KeyCode::End,
        KeyCode::Backspace,
    ];
    let letters: Vec<char> = "ppp[]rssfm x:te 33dd".chars().collect();
    for turn in 0..1500 {
        match next(2) {
            0 => room.key(keys[next(keys.len() as u64) as usize]),
            _ => room.key(KeyCode::Char(letters[next(letters.len() as u64) as usize])),
        }
        if turn % 5 == 0 {
            let (width, height) = [(80, 24), (142, 42), (60, 16), (220, 60)][next(4) as usize];
            room.screen(width, height);
        }
    }
    assert!(before == fs::read(&image).unwrap());
}

/// A room with a divided drive that holds a volume, and a larger empty one.
fn room_to_fit() -> Room {
    let (mut room, image) = room_with_files();
    let volume = fs::read(&image).unwrap();
    let mut divided = vec![0u8; 30 << 20];
    let mut mbr = badger_layout::mbr::Mbr::empty(0x207);
    mbr.entries[0] = badger_layout::mbr::Entry::new(0x83, 2048, (24 << 20) / 512, true);
    divided[..512].copy_from_slice(&mbr.write(512)[0].1);
    divided[1 << 20..25 << 20].copy_from_slice(&volume);
    fs::write(&image, divided).unwrap();
    File::create(room.dir.path().join("ww.img")).unwrap().set_len(64 << 20).unwrap();
    let text = "backing = \"ww.img\"\n[identity]\nmodel = \"Tamarack ww\"\nserial = \"TM-ww77\"\nbus = \"sata\"\n";
    fs::write(room.dir.path().join("ww.drive.toml"), text).unwrap();
    room.wait_for("On the bench · 5 drives");
    for words in ["take brindle zz source", "take tamarack ww target"] {
        room.key(KeyCode::Char('/'));
        room.typed(words);
        room.key(KeyCode::Enter);
    }
    room.wait_for("▸ target");
    room.typed("j");
    room.wait_for("the target looks empty");
    room.key(KeyCode::Enter);
    room.wait_for("to copy");
    room.typed("f");
    room.wait_for("↔ stretch");
    room
}

#[rstest]
fn a_partition_is_fitted_by_hand(#[values((80, 24), (81, 25), (142, 42))] size: (u16, u16)) {
    let mut room = room_to_fit();
    assert!(room.screen(142, 42).contains("fit auto"));
    room.key(KeyCode::Down);
    room.key(KeyCode::Left);
    assert!(room.screen(142, 42).contains("fit auto,1=62MiB"), "{}", room.screen(142, 42));
    room.key(KeyCode::Char('>'));
    assert!(room.screen(142, 42).contains("1=60MiB@3MiB"), "{}", room.screen(142, 42));
    room.typed("p");
    assert!(room.screen(142, 42).lines().any(|line| line.ends_with("fit auto")));
    // What cannot be leaves the plan as it was, and says why.
    room.typed("o");
    let screen = room.screen(142, 42);
    assert!(screen.contains("▲ not taken") && screen.contains("every partition is left out") && screen.contains("fit auto"), "{screen}");
    room.typed("s");
    assert!(room.screen(size.0, size.1).contains("Size of weir on the target"));
    (0..12).for_each(|_| room.key(KeyCode::Backspace));
    room.typed("40MiB");
    room.key(KeyCode::Enter);
    room.screen(size.0, size.1);
    assert!(room.screen(142, 42).contains("1=40MiB"));
    room.typed("m");
    assert!(room.screen(142, 42).contains("the table becomes GPT"));
    // What does not fit is passed over: there is no room for a system partition here.
    room.typed("mm");
    room.key(KeyCode::Enter);
    room.wait_for("Type ww77 to release Tamarack ww");
    room.typed("ww77");
    room.key(KeyCode::Enter);
    let screen = room.wait_for("● proved");
    assert!(screen.contains("weir, ext4: sound"), "{screen}");
    let written = room.content("ww");
    assert_eq!(written[446 + 12..446 + 16], (40u32 * 2048).to_le_bytes());
}

/// Random keys on a plan that is fitted: it never comes to a run, and the plan is always one that could be run.
#[rstest]
fn no_keys_break_a_fit(#[values(1, 2, 3)] seed: u64) {
    let mut room = room_to_fit();
    let mut next = numbers(seed);
    let letters: Vec<char> = "opkmyfs<>,.iu159MG".chars().collect();
    for _ in 0..1500 {
        match next(4) {
            0 => room.key([KeyCode::Up, KeyCode::Down, KeyCode::Left, KeyCode::Right, KeyCode::Enter, KeyCode::Backspace][next(6) as usize]),
            1 => drop(room.screen(60 + next(120) as u16, 16 + next(40) as u16)),
            _ => room.key(KeyCode::Char(letters[next(letters.len() as u64) as usize])),
        }
        if next(60) == 0 {
            std::thread::sleep(Duration::from_millis(5));
        }
    }
    room.app.close();
    assert!(room.content("ww").iter().all(|byte| *byte == 0));
}
