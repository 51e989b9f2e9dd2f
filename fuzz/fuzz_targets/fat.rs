#![no_main]

use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

fuzz_target!(|input: &[u8]| {
    let sound = SOUND.get_or_init(|| {
        badger_fuzz::volume(1440, |path, data| {
            badger_fuzz::tool(&["mkfs.fat", "-F", "12", path]);
            for entry in std::fs::read_dir(data).expect("the data").flatten() {
                badger_fuzz::tool(&["mcopy", "-s", "-i", path, entry.path().to_str().expect("a plain path"), "::/"]);
            }
        })
    });
    badger_fuzz::break_and_read(sound, input);
});
