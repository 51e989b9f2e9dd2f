#![no_main]

use libfuzzer_sys::fuzz_target;
use std::path::Path;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

/// Folders with files, as the maker of XFS takes them.
fn list(data: &Path) -> String {
    let file = data.join("folder 0/a longer name for sheet 0.csv").display().to_string();
    let copied = data.join("file");
    std::fs::copy(file, &copied).expect("a file");
    let mut out = "- \n0 0\nd--755 0 0\n".to_string();
    for folder in 0..5 {
        out += &format!("folder-{folder} d--755 0 0\n");
        (0..60).for_each(|number| out += &format!("a-longer-name-for-sheet-{number}.csv ---644 0 0 {}\n", copied.display()));
        out += "$\n";
    }
    out + "link l--777 0 0 folder-1\n$\n"
}

fuzz_target!(|input: &[u8]| {
    let sound = SOUND.get_or_init(|| {
        badger_fuzz::volume(16 << 10, |path, data| {
            let proto = data.join("proto");
            std::fs::write(&proto, list(data)).expect("a list");
            let proto = proto.to_str().expect("a plain path");
            // Without checksums: what stands behind one would not be reached.
            badger_fuzz::tool(&["mkfs.xfs", "-q", "--unsupported", "-m", "crc=0", "-p", proto, path]);
        })
    });
    badger_fuzz::list(badger_fuzz::broken(sound, input));
});
