#![no_main]

use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

fuzz_target!(|input: &[u8]| {
    let sound = SOUND.get_or_init(|| {
        badger_fuzz::volume(1024, |path, data| {
            badger_fuzz::tool(&[
                "mke2fs",
                "-q",
                "-F",
                "-t",
                "ext4",
                "-b",
                "1024",
                "-O",
                "^has_journal,^metadata_csum,inline_data",
                "-I",
                "256",
                "-d",
                data.to_str().expect("a plain path"),
                path,
            ]);
        })
    });
    badger_fuzz::break_and_read(sound, input);
});
