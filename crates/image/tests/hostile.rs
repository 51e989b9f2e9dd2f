//! Images whose bytes were changed anywhere, or that were cut off: they are refused or read, and nothing else.

use crate::support::{Place, content, run};
use badger_drive::Medium;
use proptest::prelude::*;
use std::fs;
use std::path::Path;
use std::sync::OnceLock;

const SIZE: usize = 3 << 20;

/// One of each, made once.
fn images() -> &'static Vec<(&'static str, Vec<u8>)> {
    static MADE: OnceLock<Vec<(&str, Vec<u8>)>> = OnceLock::new();
    MADE.get_or_init(|| {
        let place = Place::new();
        let raw = place.raw(&content(SIZE, 17));
        let kinds: [(&str, &[&str]); 8] = [
            ("qcow2", &[]),
            ("qcow2", &["-c", "-o", "compression_type=zstd"]),
            ("qcow2", &["-o", "extended_l2=on"]),
            ("vpc", &[]),
            ("vhdx", &[]),
            ("vmdk", &[]),
            ("vmdk", &["-o", "subformat=streamOptimized"]),
            ("vdi", &[]),
        ];
        let made = kinds.map(|(format, options)| {
            let image = place.path("image");
            run("qemu-img", &[&["convert", "-f", "raw", "-O", format], options, &[&raw, &image]].concat());
            (format, fs::read(&image).unwrap())
        });
        made.into()
    })
}

/// Opens an image and reads all it gives, in pieces; never more than a few times what it holds.
fn walk(path: &Path) {
    let Ok(Some(drive)) = badger_image::open(path, None) else { return };
    let size = drive.geometry().size_bytes;
    let (mut at, mut buf) = (0, vec![0; 300_000]);
    for _ in 0..40 {
        let len = buf.len().min(size.saturating_sub(at) as usize);
        if len == 0 {
            break;
        }
        let _ = drive.read_at(at, &mut buf[..len]);
        let known = drive.stretch(at, size);
        assert!(known.len > 0 && known.len <= size - at);
        at += (len as u64).max(known.len.min(size / 20));
    }
    let _ = drive.read_at(size.saturating_sub(512), &mut [0; 512]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    #[test]
    fn what_was_changed_anywhere_does_no_harm(
        which in 0usize..8, near in any::<bool>(), changes in prop::collection::vec((any::<u32>(), any::<u8>()), 1..6), cut in prop::option::of(any::<u32>())
    ) {
        let (_, bytes) = &images()[which];
        let mut bytes = bytes.clone();
        for (place, value) in changes {
            // Most of what matters stands in front, and of some at the end.
            let len = if near { bytes.len().min(4096) } else { bytes.len() };
            bytes[place as usize % len] = value;
        }
        if let Some(cut) = cut {
            bytes.truncate(cut as usize % bytes.len() + 1);
        }
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("image");
        fs::write(&path, &bytes).unwrap();
        walk(&path);
    }
}
