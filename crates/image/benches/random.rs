//! Random reads of 64 KiB from a raw file in memory, and from an image of it.

use badger_drive::clock::SimClock;
use badger_drive::{Control, Extents, Medium, Source, Workshop};
use badger_image::own::{self, Image, Making, Onto};
use criterion::{Criterion, criterion_group, criterion_main};
use std::hint::black_box;
use std::path::Path;

const SIZE: u64 = 512 << 20;
const READ: u64 = 64 << 10;

/// A third that nothing packs, a third of a program and of text, a third of zeroes.
fn content() -> Vec<u8> {
    let program = std::env::current_exe().and_then(std::fs::read).expect("this program");
    let text = concat!(include_str!("../../../docs/guide.md"), include_str!("../../../docs/formats/image.md"));
    let (mut program, mut text) = (program.iter().copied().cycle(), text.bytes().cycle());
    let (mut out, mut state) = (Vec::with_capacity(SIZE as usize), 88_172_645_463_325_252_u64);
    for piece in 0..SIZE >> 20 {
        let kind = piece % 6;
        while out.len() < ((piece + 1) << 20) as usize {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            match kind {
                0 | 3 => out.extend(state.to_le_bytes()),
                1 => out.extend(program.by_ref().take(4096)),
                4 => out.extend(text.by_ref().take(4096)),
                _ => out.extend([0; 4096]),
            }
        }
        out.truncate(((piece + 1) << 20) as usize);
    }
    out
}

fn image(source: &Source, path: &Path) -> Option<Image> {
    let mut needed = Extents::new();
    needed.set(0..SIZE, ());
    let facts = String::new;
    let making = Making { source, needed: &needed, sparing: false, parent: None, passphrase: None, level: Some(3), resume: false, facts: &facts };
    let observer = |_: &badger_drive::Event| {};
    own::make(&making, Onto::File(path, None), &Control::new(), &observer, &*SimClock::new()).ok()?;
    Image::open(path, None).ok()
}

fn reads(criterion: &mut Criterion) {
    let dir = tempfile::tempdir().expect("a directory");
    let (raw, kept) = (dir.path().join("drive.img"), dir.path().join("drive.zbi"));
    std::fs::write(&raw, content()).expect("a file");
    let source = Workshop::default().source(&raw).expect("a drive");
    let image = image(&source, &kept).expect("an image");
    let drives: [(&str, &dyn Medium, u64); 4] =
        [("raw", &*source, READ), ("image", &image, READ), ("raw_anywhere", &*source, 4096), ("image_anywhere", &image, 4096)];
    for (name, drive, step) in drives {
        let (mut state, mut buf) = (7u64, vec![0; READ as usize + 16]);
        criterion.bench_function(name, |bencher| {
            bencher.iter(|| {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                // Not where direct reads are possible: both come from memory.
                drive.read_at((state >> 20) % (SIZE - READ) / step * step, black_box(&mut buf[16..])).expect("a read");
            });
        });
    }
}

criterion_group!(benches, reads);
criterion_main!(benches);
