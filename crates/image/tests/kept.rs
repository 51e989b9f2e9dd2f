//! What an image says that was cut off, killed or changed: never more than it holds.

use crate::support::{Place, content};
use badger_drive::clock::SimClock;
use badger_drive::{Control, Extents, Medium, Outcome, Source, Workshop};
use badger_image::own::{self, CHUNK, GROUP, Image, Making, Onto, Passphrase};
use rstest::rstest;
use std::fs;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::path::Path;

const SIZE: usize = 5 * (CHUNK * GROUP) as usize / 4;

/// A drive with unreadable sectors here and there, and where they are.
fn failing(place: &Place) -> (Source, Vec<u8>, Vec<u64>) {
    let bytes = content(SIZE, 77);
    fs::write(place.path("weir.img"), &bytes).unwrap();
    let bad: Vec<u64> = (0..40).map(|turn| (turn * 4_219 + 129) % (SIZE as u64 / 512)).collect();
    let faults: String = bad.iter().map(|lba| format!("[[fault]]\nkind = \"unreadable\"\nlba = {lba}\nsectors = 1\n")).collect();
    let text = format!("backing = \"weir.img\"\n[identity]\nmodel = \"Dunmore Slate\"\nserial = \"DS50-7702-BEEF\"\nbus = \"sata\"\n{faults}");
    fs::write(place.path("weir.drive.toml"), text).unwrap();
    let workshop = Workshop { no_waiting: true, ..Workshop::default() };
    (workshop.source(Path::new(&place.path("weir.drive.toml"))).unwrap(), bytes, bad)
}

fn image(source: &Source, path: &str, passphrase: Option<&Passphrase>) -> own::Made {
    let mut needed = Extents::new();
    needed.set(0..source.geometry().size_bytes, ());
    let facts = || "{}".to_string();
    let making = Making { source, needed: &needed, sparing: false, parent: None, passphrase, level: Some(1), resume: false, facts: &facts };
    own::make(&making, Onto::File(Path::new(path), None), &Control::new(), &|_: &badger_drive::Event| {}, &*SimClock::new()).unwrap()
}

/// Numbers that differ at every run of the tests.
fn chance(most: usize, count: usize) -> Vec<usize> {
    let state = RandomState::new();
    let number = |turn: usize| {
        let mut hasher = state.build_hasher();
        hasher.write_usize(turn);
        hasher.finish() as usize % most
    };
    (0..count).map(number).collect()
}

/// Wherever an image ends, as after a kill: each sector is what the drive gave, or unknown. What could not be read is never given.
#[rstest]
fn an_image_that_ends_anywhere_gives_no_unreadable_sector(#[values(false, true)] locked: bool) {
    let place = Place::new();
    let (drive, bytes, bad) = failing(&place);
    let passphrase = locked.then(|| Passphrase::new("otter"));
    let whole = place.path("whole.zbi");
    assert_eq!(image(&drive, &whole, passphrase.as_ref()).outcome, Outcome::Incomplete);
    let written = fs::read(&whole).unwrap();
    let (cut, mut told, mut given) = (place.path("cut.zbi"), 0, 0);
    for len in chance(written.len(), if locked { 12 } else { 60 }) {
        fs::write(&cut, &written[..len]).unwrap();
        let Ok(opened) = Image::open(Path::new(&cut), passphrase.as_ref()) else { continue };
        assert!(!opened.shown().whole && !opened.damage().is_empty(), "cut at {len}");
        told += 1;
        for lba in &bad {
            let at = lba * 512;
            let mut sector = [0; 512];
            assert!(opened.read_at(at, &mut sector).is_err(), "cut at {len}: sector {lba} could not be read, and is given");
            // Its neighbour was read.
            let next = at + 512;
            if !bad.contains(&(lba + 1)) && opened.read_at(next, &mut sector).is_ok() {
                assert!(sector == bytes[next as usize..next as usize + 512], "cut at {len}: the sector behind {lba}");
                given += 1;
            }
        }
    }
    assert!(told > 5 && given > 20, "{told} {given}: the cuts tell nothing");
}

/// Changes the head of an image as somebody who knows the format would: with a hash and a sum that fit.
fn with_other_head(path: &str, from: &str, to: &str) -> Vec<u8> {
    let mut bytes = fs::read(path).unwrap();
    let len = u32::from_le_bytes(bytes[16..20].try_into().unwrap()) as usize;
    let text = String::from_utf8(bytes[64..64 + len].to_vec()).unwrap();
    assert!(text.contains(from) && from.len() == to.len(), "{text}");
    bytes[64..64 + len].copy_from_slice(text.replace(from, to).as_bytes());
    let hash = blake3::hash(&bytes[64..64 + len]);
    bytes[24..56].copy_from_slice(hash.as_bytes());
    let sum = crc32c::crc32c(&bytes[..60]);
    bytes[60..64].copy_from_slice(&sum.to_le_bytes());
    bytes
}

/// Half a drive is no drive: what the head says is proved with all the rest, with and without the passphrase.
#[rstest]
#[case::half_the_size("\"size\":8", "\"size\":4")]
#[case::other_sectors("\"logical\":512", "\"logical\":409")]
#[case::only_what_is_in_use("\"sparing\":false", "\"sparing\":true ")]
#[case::other_blocks("\"physical\":512", "\"physical\":409")]
fn a_head_that_was_changed_opens_nothing(#[case] from: &str, #[case] to: &str, #[values(false, true)] locked: bool) {
    let place = Place::new();
    let (drive, ..) = failing(&place);
    let passphrase = locked.then(|| Passphrase::new("otter"));
    let path = place.path("whole.zbi");
    image(&drive, &path, passphrase.as_ref());
    let changed = with_other_head(&path, from, to);
    for len in [changed.len(), changed.len() - 100, changed.len() / 2] {
        fs::write(&path, &changed[..len]).unwrap();
        let Ok(opened) = Image::open(Path::new(&path), passphrase.as_ref()) else { continue };
        assert!(len < changed.len(), "an image with its end is refused");
        // Without an end and without a lock nothing proves the head; with a lock every record does.
        let mut byte = [0; 512];
        assert!(!locked || (0..64).all(|at| opened.read_at(at * 1_000_448, &mut byte).is_err()), "{from} at {len}");
    }
}

/// One hash covers all that is trusted: whatever is changed, the root is another one, or what hangs on it does not hold.
#[test]
fn the_root_covers_the_whole_image() {
    let place = Place::new();
    let (drive, ..) = failing(&place);
    let path = place.path("whole.zbi");
    let made = image(&drive, &path, None);
    let root = hex::encode(made.hash);
    let sound = |path: &str| Image::open(Path::new(path), None).is_ok_and(|image| image.hash() == root && image.verify(&mut |_| true).is_empty());
    assert!(sound(&path));
    let whole = fs::read(&path).unwrap();
    let (mut noticed, other) = (0, place.path("other.zbi"));
    for at in chance(whole.len(), 40) {
        let mut bytes = whole.clone();
        bytes[at] ^= 0x10;
        fs::write(&other, &bytes).unwrap();
        noticed += u32::from(!sound(&other));
    }
    // What lies between two records, and a second page where one is whole, may change unseen: some bytes in a hundred thousand.
    assert!(noticed >= 39, "{noticed} of 40");
}
