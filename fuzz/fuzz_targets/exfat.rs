#![no_main]

use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

fuzz_target!(|input: &[u8]| {
    let sound = SOUND.get_or_init(|| {
        badger_fuzz::volume(4096, |path, data| {
            badger_fuzz::tool(&["mkfs.exfat", "-c", "4K", path]);
            // Its driver insists on a block device; the loop device has it for as long as it is filled.
            let text = format!("set -e; d=$(losetup -f --show {path}); mkdir {path}.mnt; mount.exfat-fuse $d {path}.mnt; cp -r {}/. {path}.mnt; umount {path}.mnt; sync; losetup -d $d", data.display());
            badger_fuzz::tool(&["sh", "-c", &text]);
        })
    });
    badger_fuzz::break_and_read(sound, input);
});
