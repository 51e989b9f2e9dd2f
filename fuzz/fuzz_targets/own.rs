#![no_main]

use badger_drive::clock::SimClock;
use badger_drive::{Control, Event, Extents, Workshop};
use badger_image::own::{self, Making, Onto};
use libfuzzer_sys::fuzz_target;
use std::path::Path;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

fn make(raw: &str, image: &str) {
    let source = Workshop::default().source(Path::new(raw)).expect("a raw file");
    let mut needed = Extents::new();
    needed.set(0..3 << 20, ());
    let facts = String::new;
    let making =
        Making { source: &source, needed: &needed, sparing: false, parent: None, passphrase: None, level: Some(3), resume: false, facts: &facts };
    own::make(&making, Onto::File(Path::new(image), None), &Control::new(), &|_: &Event| {}, &*SimClock::new()).expect("an image");
}

fuzz_target!(|input: &[u8]| {
    badger_fuzz::break_and_read_image(SOUND.get_or_init(|| badger_fuzz::image(make)), input);
});
