#![no_main]

use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

fuzz_target!(|input: &[u8]| {
    let sound = SOUND.get_or_init(|| {
        badger_fuzz::volume(16 << 10, |path, data| {
            badger_fuzz::tool(&["mkfs.btrfs", "-q", "-n", "4096", "--mixed", "--rootdir", data.to_str().expect("a plain path"), path]);
        })
    });
    // What stands behind a checksum is reached only where that is right.
    let mut bytes = badger_fuzz::broken(sound, input);
    let id = sound[65_536 + 32..65_536 + 48].to_vec();
    for block in bytes.chunks_mut(4096).filter(|block| block.len() == 4096 && block[32..48] == id[..]) {
        let sum = crc32c::crc32c(&block[32..]).to_le_bytes();
        block[..4].copy_from_slice(&sum);
    }
    badger_fuzz::list(bytes);
});
