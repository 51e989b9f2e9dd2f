//! Images of our own: made, read, cut off, damaged, locked, gone on with.

use crate::support::{Place, content, read_all};
use badger_drive::clock::SimClock;
use badger_drive::{Control, Event, Extents, Holds, Medium, Outcome, ReadError, Source, Workshop};
use badger_image::own::{self, CHUNK, GROUP, Image, Made, Making, Onto, Passphrase};
use proptest::prelude::*;
use rstest::rstest;
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::{Arc, Mutex};

const SIZE: usize = 5 * (CHUNK * GROUP) as usize / 4 + 1536;

#[derive(Default)]
struct Order<'a> {
    parent: Option<&'a Path>,
    passphrase: Option<&'a Passphrase>,
    needed: Option<Extents<()>>,
    resume: bool,
    split: Option<u64>,
}

fn source(path: &str) -> Source {
    Workshop { no_waiting: true, ..Workshop::default() }.source(Path::new(path)).unwrap()
}

fn make(drive: &str, image: &str, order: Order, control: &Control, observer: &(dyn Fn(&Event) + Send + Sync)) -> std::io::Result<Made> {
    let source = source(drive);
    let mut all = Extents::new();
    all.set(0..source.geometry().size_bytes, ());
    let sparing = order.needed.is_some();
    let needed = order.needed.unwrap_or(all);
    let facts = || r#"{"drive":"weir"}"#.to_string();
    let making = Making {
        source: &source,
        needed: &needed,
        sparing,
        parent: order.parent,
        passphrase: order.passphrase,
        level: None,
        resume: order.resume,
        facts: &facts,
    };
    own::make(&making, Onto::File(Path::new(image), order.split), control, &observer, &*SimClock::new())
}

fn plainly(drive: &str, image: &str, order: Order) -> Made {
    make(drive, image, order, &Control::new(), &|_| {}).unwrap()
}

fn open(image: &str) -> Image {
    Image::open(Path::new(image), None).unwrap()
}

#[rstest]
#[case::one_file(None)]
#[case::volumes(Some(3 << 20))]
fn a_drive_comes_back_out_of_its_image(#[case] split: Option<u64>) {
    let place = Place::new();
    let bytes = content(SIZE, 41);
    let (drive, image) = (place.raw(&bytes), place.path("weir.zbi"));
    let made = plainly(&drive, &image, Order { split, ..Order::default() });
    assert_eq!((made.outcome, made.read_bytes), (Outcome::Proved, SIZE as u64));
    assert!(made.len < SIZE as u64 * 2 / 3);
    let opened = open(&image);
    assert!(read_all(&opened) == bytes);
    assert!(opened.verify(&mut |_| true).is_empty() && opened.shown().whole && !opened.shown().sparing);
    assert_eq!((opened.facts(), opened.hash().len()), (r#"{"drive":"weir"}"#, 64));
    let volumes =
        fs::read_dir(Path::new(&image).parent().unwrap()).unwrap().flatten().filter(|entry| entry.file_name().to_string_lossy().ends_with("zbi"));
    let longest = volumes.map(|entry| entry.metadata().unwrap().len()).collect::<Vec<_>>();
    assert!(split.is_none_or(|most| longest.len() > 2 && longest.iter().all(|len| *len <= most)), "{longest:?}");
    // It is told by its content, and opens as a drive.
    static KINDS: &[&dyn badger_drive::kinds::Kind] = &[badger_image::OWN, badger_image::CONTAINERS];
    let named = Workshop { more: KINDS, ..Workshop::default() }.source(Path::new(&image)).unwrap();
    assert_eq!(named.geometry().size_bytes, SIZE as u64);
}

/// A volume that was left there by another image is not taken for one of this.
#[test]
fn a_volume_of_another_image_is_not_taken() {
    let place = Place::new();
    let (drive, image) = (place.raw(&content(SIZE, 3)), place.path("weir.zbi"));
    plainly(&drive, &image, Order { split: Some(3 << 20), ..Order::default() });
    fs::remove_file(&image).unwrap();
    let bytes = content(SIZE, 5);
    fs::write(&drive, &bytes).unwrap();
    assert!(
        make(&drive, &image, Order { split: Some(3 << 20), ..Order::default() }, &Control::new(), &|_| {}).is_err(),
        "its second volume is another's"
    );
    plainly(&drive, &image, Order::default());
    let opened = open(&image);
    assert!(opened.shown().whole && read_all(&opened) == bytes);
}

/// The same bytes, whatever takes them one after the other.
#[test]
fn a_pipe_takes_it_in_one_pass() {
    #[derive(Clone, Default)]
    struct Sink(Arc<Mutex<Vec<u8>>>);
    impl Write for Sink {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            self.0.lock().unwrap().extend(bytes);
            Ok(bytes.len())
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    let place = Place::new();
    let bytes = content(SIZE, 43);
    let (drive, image, sink) = (place.raw(&bytes), place.path("weir.zbi"), Sink::default());
    let source = source(&drive);
    let mut needed = Extents::new();
    needed.set(0..SIZE as u64, ());
    let facts = String::new;
    let making =
        Making { source: &source, needed: &needed, sparing: false, parent: None, passphrase: None, level: Some(1), resume: false, facts: &facts };
    own::make(&making, Onto::Pipe(Box::new(sink.clone())), &Control::new(), &|_: &Event| {}, &*SimClock::new()).unwrap();
    fs::write(&image, &*sink.0.lock().unwrap()).unwrap();
    assert!(read_all(&open(&image)) == bytes);
}

#[test]
fn what_is_not_needed_is_left_out_and_said_so() {
    let place = Place::new();
    let bytes = content(SIZE, 47);
    let (drive, image) = (place.raw(&bytes), place.path("weir.zbi"));
    let mut needed = Extents::new();
    needed.set(3 << 20..9 << 20, ());
    needed.set(70 << 20..70 << 20 | 4096, ());
    let made = plainly(&drive, &image, Order { needed: Some(needed), ..Order::default() });
    assert_eq!(made.read_bytes, (6 << 20) + CHUNK);
    let read = read_all(&open(&image));
    assert!(read[3 << 20..9 << 20] == bytes[3 << 20..9 << 20] && read[70 << 20..70 << 20 | 4096] == bytes[70 << 20..70 << 20 | 4096]);
    assert!(read[9 << 20..70 << 20].iter().all(|byte| *byte == 0));
    assert!(open(&image).shown().sparing);
}

/// What could not be read stays marked, to the sector.
#[test]
fn what_was_lost_is_not_zero() {
    let place = Place::new();
    let bytes = content(SIZE, 53);
    place.raw(&bytes);
    let description = place.path("weir.drive.toml");
    let faults: String = [(700, 3), (140_000, 5000)]
        .iter()
        .map(|(lba, sectors)| format!("[[fault]]\nkind = \"unreadable\"\nlba = {lba}\nsectors = {sectors}\n"))
        .collect();
    fs::write(&description, format!("backing = \"content.raw\"\n[identity]\nmodel = \"weir\"\nbus = \"sata\"\n{faults}")).unwrap();
    let image = place.path("weir.zbi");
    let made = plainly(&description, &image, Order::default());
    assert_eq!((made.outcome, made.lost.iter().map(|(_, len)| len).sum::<u64>()), (Outcome::Incomplete, 5003 * 512));
    let opened = open(&image);
    assert_eq!(opened.shown().lost_bytes, 5003 * 512);
    assert_eq!(opened.stretch(700 * 512, u64::MAX).holds, Holds::Unknown);
    let mut buf = vec![0; 1024 * 512];
    let error = opened.read_at(0, &mut buf).unwrap_err();
    assert!(matches!(error, ReadError::Unreadable { offset, .. } if offset == 700 * 512), "{error}");
    let (mut lost, mut whole) = (Vec::new(), vec![1; SIZE]);
    badger_drive::narrow::read_hard(&opened, 0, &mut whole, &mut lost).unwrap();
    assert_eq!(lost, [(700 * 512, 3 * 512), (140_000 * 512, 5000 * 512)]);
    let mut wanted = bytes;
    lost.iter().for_each(|(start, len)| wanted[*start as usize..(start + len) as usize].fill(0));
    assert!(whole == wanted);
}

/// A later image of the same drive stores only what changed.
#[test]
fn a_chain_stores_what_changed() {
    let place = Place::new();
    let mut bytes = content(SIZE, 59);
    let (drive, first, second, third) = (place.raw(&bytes), place.path("one.zbi"), place.path("two.zbi"), place.path("three.zbi"));
    let all = plainly(&drive, &first, Order::default());
    let before = bytes.clone();
    let mut versions = Vec::new();
    for (image, below, seed) in [(&second, &first, 61), (&third, &second, 67)] {
        let at = seed as usize * 500_000;
        bytes[at..at + 200_000].copy_from_slice(&content(1 << 20, seed)[..200_000]);
        fs::write(&drive, &bytes).unwrap();
        let made = plainly(&drive, image, Order { parent: Some(Path::new(below)), ..Order::default() });
        assert!(made.len < all.len / 10, "{} of {}", made.len, all.len);
        versions.push(bytes.clone());
    }
    assert!(read_all(&open(&second)) == versions[0] && read_all(&open(&third)) == versions[1] && read_all(&open(&first)) == before);
    // One of another drive, or none, is not taken for it.
    fs::remove_file(&first).unwrap();
    assert!(Image::open(Path::new(&third), None).is_err());
    plainly(&drive, &first, Order::default());
    let refused = Image::open(Path::new(&third), None).err().unwrap().to_string();
    assert!(refused.contains("another image"), "{refused}");
}

#[test]
fn a_locked_image_opens_by_its_passphrase_alone() {
    let place = Place::new();
    let bytes = content(SIZE, 71);
    let (drive, image, later) = (place.raw(&bytes), place.path("weir.zbi"), place.path("later.zbi"));
    let (right, wrong) = (Passphrase::new("slate and lantern\n"), Passphrase::new("slate and lanterns"));
    plainly(&drive, &image, Order { passphrase: Some(&right), ..Order::default() });
    let file = fs::read(&image).unwrap();
    assert!(!file.windows(24).any(|window| window == b"the slate of Lantern Row"), "it shows what it holds");
    for (passphrase, words) in [(None, "give its passphrase"), (Some(&wrong), "not the right one")] {
        let refused = Image::open(Path::new(&image), passphrase).err().unwrap().to_string();
        assert!(refused.contains(words), "{refused}");
    }
    let opened = Image::open(Path::new(&image), Some(&right)).unwrap();
    assert!(read_all(&opened) == bytes && opened.verify(&mut |_| true).is_empty());
    plainly(&drive, &later, Order { passphrase: Some(&right), parent: Some(Path::new(&image)), ..Order::default() });
    assert!(fs::metadata(&later).unwrap().len() < file.len() as u64 / 10);
    assert!(read_all(&Image::open(Path::new(&later), Some(&right)).unwrap()) == bytes);
    // Whoever changes a byte, or puts a record in another's place, is found out.
    let records: Vec<usize> = (0..file.len() - 64).step_by(16).filter(|at| file[*at..].starts_with(b"ZBr1\x02")).collect();
    let (one, other) = (records[3], records[4]);
    let mut swapped = file.clone();
    let len = 64.min(other - one);
    swapped.copy_within(other..other + len, one);
    fs::write(&image, &swapped).unwrap();
    let opened = Image::open(Path::new(&image), Some(&right)).unwrap();
    assert!(!opened.verify(&mut |_| true).is_empty());
}

/// Reads an image in chunks: each is right or an error. How many are right.
fn right(image: &Image, bytes: &[u8]) -> usize {
    let mut right = 0;
    for (piece, number) in bytes.chunks(CHUNK as usize).zip(0..) {
        let mut buf = vec![0; piece.len()];
        match image.read_at(number * CHUNK, &mut buf) {
            Ok(()) => {
                assert!(buf == piece, "chunk {number} is wrong, and nothing says so");
                right += 1;
            }
            Err(error) => assert!(matches!(error, ReadError::Unreadable { .. }), "{error}"),
        }
    }
    right
}

/// Where records begin.
fn records(file: &[u8]) -> Vec<usize> {
    (0..file.len().saturating_sub(63)).step_by(16).filter(|at| file[*at..].starts_with(b"ZBr1")).collect()
}

/// A volume that is missing, or has another length than it had, costs the chunks in it and no other.
#[rstest]
#[case::missing("missing")]
#[case::two_missing("two")]
#[case::cut_off("cut")]
#[case::empty("empty")]
#[case::lengthened("longer")]
fn a_volume_costs_no_more_than_what_is_in_it(#[case] what: &str, #[values(None, Some("three grey herons"))] locked: Option<&str>) {
    let place = Place::new();
    // No chunk is like another: what lies in a volume is in one place of the drive.
    let mut bytes = content(SIZE, 77);
    bytes.chunks_mut(CHUNK as usize).zip(1u64..).for_each(|(chunk, number)| chunk[..8].copy_from_slice(&number.to_le_bytes()));
    let (drive, image) = (place.raw(&bytes), place.path("weir.zbi"));
    let passphrase = locked.map(Passphrase::new);
    plainly(&drive, &image, Order { split: Some(1 << 20), passphrase: passphrase.as_ref(), ..Order::default() });
    let open = || Image::open(Path::new(&image), passphrase.as_ref()).unwrap();
    let whole = right(&open(), &bytes);
    let last = (2..).take_while(|number| fs::exists(place.path(&format!("weir.{number:03}.zbi"))).unwrap()).last().unwrap();
    assert!(last > 5, "{last} volumes");
    for number in [2, last / 2, last - 1] {
        let paths = [number, number + 1].map(|number| place.path(&format!("weir.{number:03}.zbi")));
        let kept = paths.clone().map(|path| fs::read(path).unwrap());
        let mut in_them = vec![&kept[0]];
        match what {
            "missing" => fs::remove_file(&paths[0]).unwrap(),
            // The last one names all pages.
            "two" if number + 1 < last => {
                paths.iter().for_each(|path| fs::remove_file(path).unwrap());
                in_them.push(&kept[1]);
            }
            "cut" => fs::write(&paths[0], &kept[0][..kept[0].len() / 2]).unwrap(),
            "empty" => fs::write(&paths[0], b"").unwrap(),
            _ => fs::write(&paths[0], [&kept[0][..], &[7; 5000]].concat()).unwrap(),
        }
        let opened = open();
        let (found, most) = (right(&opened, &bytes), in_them.iter().map(|volume| records(volume).len()).sum::<usize>());
        assert!(whole - found <= most, "volume {number} of {last} {what}: {} chunks are lost, and {most} records were in it", whole - found);
        let said: Vec<String> = opened.verify(&mut |_| true).into_iter().map(|damage| damage.text).collect();
        assert!(!opened.shown().whole && said.iter().any(|text| text.contains(&format!("volume {number} "))), "{said:?}");
        assert!(what != "longer" || found == whole, "what is too long costs nothing");
        // A run that would go on with it takes nothing of it away.
        drop(opened);
        let resume = Order { resume: true, split: Some(1 << 20), passphrase: passphrase.as_ref(), ..Order::default() };
        assert!(make(&drive, &image, resume, &Control::new(), &|_| {}).is_err());
        paths.iter().zip(&kept).for_each(|(path, bytes)| fs::write(path, bytes).unwrap());
        assert_eq!(right(&open(), &bytes), whole);
    }
}

#[test]
fn an_image_that_is_cut_off_gives_what_was_written() {
    let place = Place::new();
    let bytes = content(SIZE, 73);
    let (drive, image, cut) = (place.raw(&bytes), place.path("weir.zbi"), place.path("cut.zbi"));
    plainly(&drive, &image, Order::default());
    let file = fs::read(&image).unwrap();
    let records = records(&file);
    let mut before = 0;
    for (number, at) in records.iter().enumerate().filter(|(number, _)| number % 97 == 5 || *number > records.len() - 6) {
        for more in [0, 1, 63, 64, 200] {
            fs::write(&cut, &file[..(at + more).min(file.len())]).unwrap();
            let opened = open(&cut);
            assert_eq!(opened.shown().whole, at + more >= file.len());
            let now = right(&opened, &bytes);
            assert!(now >= before, "at record {number} fewer chunks are there than before");
            before = if more == 0 { now } else { before };
        }
    }
    assert!(before > SIZE / CHUNK as usize - 2);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    /// Bytes changed anywhere: what is intact comes back right, what is not is named.
    #[test]
    fn damage_is_named_and_costs_only_itself(changes in prop::collection::vec((any::<u32>(), 1u8..), 1..8)) {
        static MADE: std::sync::OnceLock<(Vec<u8>, Vec<u8>)> = std::sync::OnceLock::new();
        let (bytes, file) = MADE.get_or_init(|| {
            let place = Place::new();
            let bytes = content(SIZE / 3, 79);
            let (drive, image) = (place.raw(&bytes), place.path("weir.zbi"));
            plainly(&drive, &image, Order::default());
            (bytes, fs::read(&image).unwrap())
        });
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("weir.zbi");
        let mut damaged = file.clone();
        changes.iter().for_each(|(place, change)| damaged[*place as usize % file.len()] ^= change);
        fs::write(&path, &damaged).unwrap();
        if let Ok(image) = Image::open(&path, None) {
            let right = right(&image, bytes);
            let all = bytes.len().div_ceil(CHUNK as usize);
            prop_assert!(right == all || !image.verify(&mut |_| true).is_empty());
            prop_assert!(right + 60 * changes.len() >= all, "{right} of {all}");
        }
    }
}

/// Stopped anywhere, it is gone on with to the same end.
#[rstest]
#[case::one_file(None, None)]
#[case::volumes(Some(2 << 20), None)]
#[case::locked(None, Some("slate"))]
fn what_was_stopped_is_gone_on_with(#[case] split: Option<u64>, #[case] locked: Option<&str>) {
    let place = Place::new();
    let bytes = content(3 * SIZE, 83);
    let (drive, image) = (place.raw(&bytes), place.path("weir.zbi"));
    let passphrase = locked.map(Passphrase::new);
    let order = |resume| Order { split, passphrase: passphrase.as_ref(), resume, ..Order::default() };
    let control = Control::new();
    let stop_at = |bytes: u64, control: Control| {
        let done = Mutex::new(0);
        move |event: &Event| {
            if let Event::Moved { len, .. } = event {
                let mut done = done.lock().unwrap();
                *done += len;
                if *done > bytes {
                    control.stop();
                }
            }
        }
    };
    let made = make(&drive, &image, order(false), &control, &stop_at(100 << 20, control.clone())).unwrap();
    assert_eq!(made.outcome, Outcome::Interrupted);
    let opened = Image::open(Path::new(&image), passphrase.as_ref()).unwrap();
    assert!(!opened.shown().whole && right(&opened, &bytes) >= 1024);
    // What a loss of power leaves behind it is not taken for anything.
    let last = (2..).map(|number| place.path(&format!("weir.{number:03}.zbi"))).take_while(|path| Path::new(path).is_file()).last();
    OpenOptions::new().append(true).open(last.unwrap_or(image.clone())).unwrap().write_all(&[0x5a; 777]).unwrap();
    let made = make(&drive, &image, order(true), &Control::new(), &|_| {}).unwrap();
    assert_eq!(made.outcome, Outcome::Proved);
    let opened = Image::open(Path::new(&image), passphrase.as_ref()).unwrap();
    assert!(opened.shown().whole && opened.verify(&mut |_| true).is_empty() && read_all(&opened) == bytes);
    assert!(make(&drive, &image, order(true), &Control::new(), &|_| {}).is_err(), "it is whole");
}

/// A loss of power keeps what was written in any order: a page may be there without the chunks that it tells of.
#[rstest]
#[case::before_the_first_page(0, false)]
#[case::payload(1, false)]
#[case::header(1, true)]
fn what_a_loss_of_power_tore_is_read_again(#[case] group: u64, #[case] header: bool) {
    let place = Place::new();
    let bytes = content(4 * SIZE, 89);
    let (drive, image) = (place.raw(&bytes), place.path("weir.zbi"));
    let (control, done) = (Control::new(), Mutex::new(0));
    let stop = |event: &Event| {
        if let Event::Moved { len, .. } = event {
            let mut done = done.lock().unwrap();
            *done += len;
            if *done > 200 << 20 {
                control.stop();
            }
        }
    };
    assert_eq!(make(&drive, &image, Order::default(), &control, &stop).unwrap().outcome, Outcome::Interrupted);
    let mut there = fs::read(&image).unwrap();
    let number = |at: usize| u64::from_le_bytes(there[at + 8..at + 16].try_into().unwrap());
    let is_chunk = |at: &usize| there[at + 4] == 2 && number(*at) >= group * GROUP;
    let chunk = records(&there).into_iter().find(is_chunk).unwrap();
    there[if header { chunk..chunk + 64 } else { chunk + 64..chunk + 128 }].fill(0);
    fs::write(&image, &there).unwrap();
    let made = make(&drive, &image, Order { resume: true, ..Order::default() }, &Control::new(), &|_| {}).unwrap();
    assert_eq!(made.outcome, Outcome::Proved);
    let opened = Image::open(Path::new(&image), None).unwrap();
    assert!(opened.shown().whole && opened.verify(&mut |_| true).is_empty() && read_all(&opened) == bytes);
}

/// What an earlier part of it lost is lost of the whole; and it is gone on with only as it was begun.
#[test]
fn what_was_begun_is_not_forgotten() {
    let place = Place::new();
    place.raw(&content(3 * SIZE, 101));
    let (description, image) = (place.path("weir.drive.toml"), place.path("weir.zbi"));
    let fault = "[[fault]]\nkind = \"unreadable\"\nlba = 700\nsectors = 3\n";
    fs::write(&description, format!("backing = \"content.raw\"\n[identity]\nmodel = \"weir\"\nbus = \"sata\"\n{fault}")).unwrap();
    let (control, seen) = (Control::new(), Mutex::new(0));
    let stop = control.clone();
    let observer = move |event: &Event| {
        if let Event::Moved { len, .. } = event {
            let mut seen = seen.lock().unwrap();
            *seen += len;
            if *seen > 100 << 20 {
                stop.stop();
            }
        }
    };
    make(&description, &image, Order::default(), &control, &observer).unwrap();
    let passphrase = Passphrase::new("slate");
    let mut some = Extents::new();
    some.set(0..200 << 20, ());
    let refused = |order: Order| make(&description, &image, order, &Control::new(), &|_| {}).unwrap_err().to_string();
    assert!(refused(Order { resume: true, passphrase: Some(&passphrase), ..Order::default() }).contains("begin anew"));
    assert!(refused(Order { resume: true, needed: Some(some), ..Order::default() }).contains("begin anew"));
    let link = place.path("link.zbi");
    std::os::unix::fs::symlink(&image, &link).unwrap();
    assert!(make(&description, &link, Order { resume: true, ..Order::default() }, &Control::new(), &|_| {}).is_err());
    let made = plainly(&description, &image, Order { resume: true, ..Order::default() });
    assert_eq!((made.outcome, made.lost), (Outcome::Incomplete, vec![(700 * 512, 3 * 512)]));
}

#[test]
fn a_drive_that_changed_since_is_not_gone_on_with() {
    let place = Place::new();
    let mut bytes = content(3 * SIZE, 89);
    let (drive, image) = (place.raw(&bytes), place.path("weir.zbi"));
    let control = Control::new();
    let stop = control.clone();
    let seen = Mutex::new(0);
    let observer = move |event: &Event| {
        if let Event::Moved { len, .. } = event {
            let mut seen = seen.lock().unwrap();
            *seen += len;
            if *seen > 100 << 20 {
                stop.stop();
            }
        }
    };
    make(&drive, &image, Order::default(), &control, &observer).unwrap();
    let before = fs::read(&image).unwrap();
    bytes.reverse();
    fs::File::options().write(true).open(&drive).unwrap().write_all_at(&bytes, 0).unwrap();
    let refused = make(&drive, &image, Order { resume: true, ..Order::default() }, &Control::new(), &|_| {}).unwrap_err().to_string();
    assert!(refused.contains("was written to since"), "{refused}");
    assert!(fs::read(&image).unwrap() == before);
}

#[test]
fn an_estimate_is_near_what_comes() {
    let place = Place::new();
    let bytes = content(3 * SIZE, 97);
    let (drive, image) = (place.raw(&bytes), place.path("weir.zbi"));
    let mut needed = Extents::new();
    needed.set(0..bytes.len() as u64, ());
    let estimate = own::estimate(&source(&drive), &needed, &Control::new()).unwrap();
    let made = plainly(&drive, &image, Order::default());
    assert_eq!(estimate.read, made.read_bytes);
    let ratio = estimate.stored as f64 / made.len as f64;
    assert!((0.6..1.8).contains(&ratio), "{} estimated, {} made", estimate.stored, made.len);
}

/// While it is made nobody else writes to it or takes it away; what is whole is not given up.
#[test]
fn an_image_that_is_made_is_left_alone() {
    let place = Place::new();
    let (drive, image) = (place.raw(&content(3 * SIZE, 97)), place.path("weir.zbi"));
    let tried = Mutex::new(0);
    let meddle = |event: &Event| {
        if matches!(event, Event::Moved { .. }) && Path::new(&image).exists() {
            assert!(own::give_up(Path::new(&image), None).is_err());
            let second = make(&drive, &image, Order { resume: true, ..Order::default() }, &Control::new(), &|_| {});
            assert!(second.unwrap_err().to_string().contains("another run"));
            *tried.lock().unwrap() += 1;
        }
    };
    let made = make(&drive, &image, Order::default(), &Control::new(), &meddle).unwrap();
    assert_eq!(made.outcome, Outcome::Proved);
    assert!(*tried.lock().unwrap() > 10);
    assert!(open(&image).verify(&mut |_| true).is_empty());
    assert!(own::give_up(Path::new(&image), None).unwrap_err().to_string().contains("whole"));
    assert!(open(&image).shown().whole);
}
