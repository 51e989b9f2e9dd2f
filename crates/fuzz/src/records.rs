//! Records of our own that steer a write: journals of copies, of fetched files and of mends, maps and lists of pieces of a salvage. All of them
//! may have been changed by somebody who set every checksum right.

use crate::sound::{Sound, drive, folder};
use badger_drive::clock::SimClock;
use badger_drive::{Control, Event, Standing, Sysfs, Witness};
use badger_fs::Folder;
use badger_layout::plan::{Ids, Side};
use badger_layout::table;
use badger_people::{Collision, Order, copy_out};
use badger_salvage::file::{self, MapFile, Of};
use badger_salvage::map::{Map, State};
use badger_salvage::pieces::{self, Pieces};
use badger_transfer::journal::Journal;
use badger_transfer::tally::Note;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::sync::LazyLock;

/// Its name and its bytes.
fn copied() -> (String, Sound) {
    let dir = folder();
    let bytes = vec![5; 1 << 20];
    let drive = drive(bytes);
    let side = |key: &str| Side { key: key.into(), size_bytes: 1 << 20, sector: 512, physical: 512 };
    let plan = badger_layout::plan::exact(&table::read(&*drive), &side("weir"), &side("slate"), Ids::Keep, || [1; 16]).expect("a plan");
    let (source, target) = (Witness::of(&*drive, &[]), Standing::default());
    let mut journal = Journal::begin(dir.path(), plan, ("5ca1ab1e5ca1ab1e5ca1ab1e5ca1ab1e", "{}"), &source, &target).expect("a journal");
    journal.note(&Note { done: vec![(0, 65_536)], ..Note::default() }, (65_536, 0), 1.0).expect("it is noted");
    journal.anew(&[(4096, 512)]).expect("it is noted");
    journal.copied().expect("it is noted");
    let name = fs::read_dir(dir.path()).expect("the folder").flatten().map(|entry| entry.file_name().to_string_lossy().into_owned());
    let name = name.into_iter().find(|name| name.ends_with(".journal")).expect("a journal");
    let bytes = fs::read(dir.path().join(&name)).expect("the journal");
    (name, Sound::new(bytes))
}

pub fn copy_journal(input: &[u8]) {
    static SOUND: LazyLock<(String, Sound)> = LazyLock::new(copied);
    let mut bytes = SOUND.1.broken(input);
    let mut at = 16;
    while let Some(head) = bytes.get(at..at + 8) {
        let len = u32::from_le_bytes(head[..4].try_into().expect("four bytes")) as usize;
        let Some(payload) = bytes.get(at + 8..at + 8 + len) else { break };
        let sum = crc32fast::hash(payload);
        bytes[at + 4..at + 8].copy_from_slice(&sum.to_le_bytes());
        at += 8 + len;
    }
    let dir = folder();
    fs::write(dir.path().join(&SOUND.0), bytes).expect("a journal");
    for unfinished in Journal::peek(dir.path(), "weir", "slate").unwrap_or_default() {
        let _ = unfinished.leaves(0, 16);
        if let Ok(Some(journal)) = Journal::open(dir.path(), &unfinished) {
            let _ = (journal.leaves(3, 16), journal.plan.bytes(), journal.past.done.iter().count());
        }
    }
}

/// The input is lines of JSON; each gets the hash that it should have behind those before it.
pub fn fetch_journal(input: &[u8]) {
    let dir = folder();
    let (from, into) = (dir.path().join("from"), dir.path().join("into"));
    let room = into.join(".badger-fetch");
    fs::create_dir_all(&room).and_then(|()| fs::create_dir_all(from.join("sheets"))).expect("folders");
    for name in ["one.csv", "two.csv"] {
        fs::write(from.join("sheets").join(name), name.repeat(50)).expect("a file");
    }
    let tree = Folder::open(&from).expect("a folder");
    let inode = fs::metadata(&room).expect("the room").ino();
    let begin = r#"{"line":"begin","version":3,"source":"weir","picks":["sheets"]}"#;
    let head = format!("{begin}\n{{\"line\":\"room\",\"inode\":{inode}}}\n");
    let (mut text, mut chain) = (Vec::new(), [0; 32]);
    for line in [head.as_bytes(), input].concat().split(|byte| *byte == b'\n').filter(|line| !line.is_empty()) {
        chain = *blake3::hash(&[&chain[..], line].concat()).as_bytes();
        text.extend([line, b" ", hex::encode(&chain[..8]).as_bytes(), b"\n"].concat());
    }
    fs::write(room.join("journal"), text).expect("a journal");
    let order = Order {
        tree: &tree,
        key: "weir".into(),
        picks: vec!["sheets".into()],
        into: into.clone(),
        trusts_destination: true,
        collision: Collision::KeepBoth,
        ask: &|_| Collision::KeepBoth,
    };
    let _ = copy_out(&order, &Sysfs::default(), &Control::new(), &*SimClock::new(), &|_: &Event| {});
    // Whatever it said: nothing of the source is another, and nothing lies outside.
    for name in ["one.csv", "two.csv"] {
        assert_eq!(fs::read(from.join("sheets").join(name)).expect("the source"), name.repeat(50).into_bytes());
    }
    let mut there: Vec<_> = fs::read_dir(dir.path()).expect("the folder").flatten().map(|entry| entry.file_name()).collect();
    there.sort();
    assert_eq!(there, ["from", "into"]);
}

pub fn fetch_lines() -> Vec<Vec<u8>> {
    let hash = "ab".repeat(32);
    let file = format!(r#"{{"line":"file","from":"/sheets/one.csv","to":"sheets/one.csv","size":350,"modified":[1,2],"sha256":"{hash}"}}"#);
    let lost = r#"{"line":"lost","from":"/sheets/one.csv","why":"unreadable","stretches":[[0,512]]}"#;
    let more = r#"{"line":"name","from":[47,115],"to":"../x"}"#;
    vec![format!("{file}\n{lost}\n{more}\n").into_bytes()]
}

/// The input is the body behind the line with its hash.
pub fn mend_journal(input: &[u8]) {
    let dir = folder();
    let path = dir.path().join("mend.json");
    let text = [format!("zealous badger mend journal 2 {}\n", blake3::hash(input).to_hex()).as_bytes(), input].concat();
    fs::write(&path, text).expect("a journal");
    if let Ok(patches) = badger_jobs::mending::taken_back(&path, "weir", 1 << 20) {
        assert!(patches.iter().all(|patch| patch.old.len() == patch.new.len() && patch.at + patch.new.len() as u64 <= 1 << 20));
    }
}

pub fn mend_journals() -> Vec<Vec<u8>> {
    let text = r#"{"version":2,"target":"weir","size":1048576,"texts":["fstab"],"patches":[{"at":512,"old":"6f6c64","new":"6e6577"},{"at":4096,"old":"00","new":"01"}]}"#;
    vec![text.into()]
}

/// The input is lines of a map; each gets its sum.
pub fn salvage_map(input: &[u8]) {
    let dir = folder();
    let path = dir.path().join("map");
    let mut text = Vec::new();
    for line in input.split(|byte| *byte == b'\n').filter(|line| !line.is_empty()) {
        text.extend([line, format!(" ~{:08x}\n", crc32fast::hash(line)).as_bytes()].concat());
    }
    fs::write(&path, text).expect("a map");
    let Ok(loaded) = file::load(&path) else { return };
    let totals = loaded.map.totals();
    assert!(loaded.map.iter().all(|(range, _)| range.end <= loaded.map.size()));
    assert!(totals.saved <= loaded.map.size() && totals.lost <= loaded.map.size());
    // A map that is written and read again says the same.
    let again = dir.path().join("again");
    MapFile::write(&again, loaded.of.clone(), &loaded.map).expect("it is written");
    let read = file::load(&again).unwrap_or_else(|error| panic!("{error} of {:?}", loaded.of));
    assert_eq!((read.damaged, read.map.totals()), (0, totals));
}

pub fn map_lines() -> Vec<Vec<u8>> {
    let head = "zealous badger salvage map 2\nmodel Ostrel Plain\nserial SN-1\nsource weir\ntarget slate\nat /srv/slate.img\nnode 1:2\nsize 1048576 512\njob 5ca1ab1e\nsince \n";
    vec![format!("{head}saved 0 65536\ndeferred 65536 4096 2\nlost 69632 512\nunread 4096 512\nsaved 1040384 8192\n").into_bytes()]
}

fn listed() -> Sound {
    let dir = folder();
    let (map, of) = (dir.path().join("map"), of());
    let mut list = Pieces::open(&map, &of, true).expect("a list");
    list.add(0, 65_536, &blake3::hash(&[5; 65_536]));
    list.add_zeroes(65_536..1 << 20);
    list.keep().expect("it is kept");
    drop(list);
    Sound::new(fs::read(pieces::beside(&map)).expect("the list"))
}

fn of() -> Of {
    Of { model: "Ostrel Plain".into(), size: 1 << 20, sector: 512, ..Of::default() }
}

pub fn salvage_pieces(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(listed);
    let mut bytes = SOUND.broken(input);
    for record in bytes.chunks_exact_mut(52).skip(1) {
        let sum = crc32fast::hash(&record[..48]);
        record[48..].copy_from_slice(&sum.to_le_bytes());
    }
    let dir = folder();
    let path = dir.path().join("map");
    fs::write(pieces::beside(&path), bytes).expect("a list");
    let mut map = Map::new(1 << 20);
    map.set(0..1 << 20, State::Saved);
    let drive = drive(vec![5; 1 << 20]);
    if let Ok(sampled) = pieces::sample(&path, &map, &drive, pieces::SAMPLES) {
        assert!(sampled.equal + sampled.differ + sampled.unread <= pieces::SAMPLES);
    }
    let _ = Pieces::open(&path, &of(), false);
}
