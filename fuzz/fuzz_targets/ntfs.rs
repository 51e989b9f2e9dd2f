#![no_main]

use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

fuzz_target!(|input: &[u8]| {
    let sound = SOUND.get_or_init(|| {
        badger_fuzz::volume(2048, |path, data| {
            badger_fuzz::tool(&["mkntfs", "-q", "-F", "-Q", "-c", "512", path]);
            let text = format!("set -e; mkdir {path}.mnt; ntfs-3g {path} {path}.mnt; cp -r {}/. {path}.mnt; umount {path}.mnt", data.display());
            badger_fuzz::tool(&["sh", "-c", &text]);
        })
    });
    badger_fuzz::break_and_read(sound, input);
});
