#![no_main]

use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

fuzz_target!(|input: &[u8]| {
    let sound = SOUND.get_or_init(|| badger_fuzz::image(|raw, image| badger_fuzz::tool(&["qemu-img", "convert", "-f", "raw", "-O", "vpc", raw, image])));
    badger_fuzz::break_and_read_image(sound, input);
});
