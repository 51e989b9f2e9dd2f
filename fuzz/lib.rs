//! What the fuzz targets share: a sound volume or image made by the system's own tools, and inputs that overwrite bytes of it.
//!
//! An input is a list of changes: three bytes for the place (in steps of 2 bytes), one for the length, then the bytes.
//! Most changes hit structures that way, where random bytes would not even be recognised.

use badger_drive::{Medium, Source};
use badger_drive::medium::MemoryMedium;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

/// Runs one of the system's tools.
pub fn tool(command: &[&str]) {
    let done = Command::new(command[0]).args(&command[1..]).stdout(Stdio::null()).stderr(Stdio::null()).status();
    assert!(done.is_ok_and(|status| status.success()), "{command:?}");
}

/// A volume of `kib` KiB made by `make`, which gets its path and a folder of files.
pub fn volume(kib: u64, make: impl Fn(&str, &Path)) -> Vec<u8> {
    let dir = tempfile::tempdir().expect("a temporary folder");
    let (path, data) = (dir.path().join("volume"), dir.path().join("data"));
    std::fs::File::create(&path).and_then(|file| file.set_len(kib << 10)).expect("an image");
    for number in 0..40usize {
        let folder = data.join(format!("folder {}", number % 5));
        std::fs::create_dir_all(&folder).expect("a folder");
        std::fs::write(folder.join(format!("a longer name for sheet {number}.csv")), vec![number as u8; number * 97]).expect("a file");
    }
    make(path.to_str().expect("a plain path"), &data);
    std::fs::read(&path).expect("the volume")
}

/// Changes bytes as the input says.
pub fn broken(sound: &[u8], input: &[u8]) -> Vec<u8> {
    let mut bytes = sound.to_vec();
    let mut rest = input;
    while let [a, b, c, len, more @ ..] = rest {
        let at = (usize::from(*a) | usize::from(*b) << 8 | usize::from(*c) << 16) * 2 % bytes.len();
        let len = usize::from(len % 16 + 1).min(more.len()).min(bytes.len() - at);
        bytes[at..at + len].copy_from_slice(&more[..len]);
        rest = &more[len..];
    }
    bytes
}

/// An image of 3 MiB that `make` makes out of a raw file: it gets the path of that and its own.
pub fn image(make: impl Fn(&str, &str)) -> Vec<u8> {
    let dir = tempfile::tempdir().expect("a temporary folder");
    let (raw, path) = (dir.path().join("raw"), dir.path().join("image"));
    let bytes: Vec<u8> = (0..3usize << 20).map(|at| if at >> 17 & 3 == 3 { 0 } else { (at * at >> 7) as u8 }).collect();
    std::fs::write(&raw, bytes).expect("a raw file");
    make(raw.to_str().expect("a plain path"), path.to_str().expect("a plain path"));
    std::fs::read(&path).expect("the image")
}

/// Changes an image as the input says and reads what it gives.
pub fn break_and_read_image(sound: &[u8], input: &[u8]) {
    let dir = tempfile::tempdir().expect("a temporary folder");
    let path = dir.path().join("image");
    std::fs::write(&path, broken(sound, input)).expect("an image");
    let opened = badger_image::open(&path, None).ok().flatten();
    let opened = opened.map(|image| Box::new(image) as Box<dyn Medium>);
    let own = || badger_image::own::Image::open(&path, None).ok().map(|image| Box::new(image) as Box<dyn Medium>);
    let Some(drive) = opened.or_else(own) else { return };
    let size = drive.geometry().size_bytes;
    let mut buffer = vec![0; 300_000];
    for at in (0..24).map(|step| size / 24 * step) {
        let len = buffer.len().min((size - at) as usize);
        let _ = drive.read_at(at, &mut buffer[..len]);
        let known = drive.stretch(at, size - at);
        assert!(known.len > 0 && known.len <= size - at);
    }
}

/// Lists and reads everything on a volume of a format of which only files are read.
pub fn list(bytes: Vec<u8>) {
    let len = bytes.len() as u64;
    let drive = Source::detached(Arc::new(MemoryMedium::new(bytes, 512)));
    let _ = badger_fs::recognise(&*drive, 0, len);
    let Ok(tree) = badger_fs::files(&drive, 0, len) else { return };
    let _ = tree.mounted();
    let Ok(root) = tree.root() else { return };
    let mut buffer = vec![0; 70_000];
    badger_fs::walk::walk(&*tree, root, "", &mut |_, entry| {
        let _ = (tree.attributes(&entry.node), tree.link(&entry.node));
        if let Ok(content) = tree.open(&entry.node, "") {
            let _ = (content.read(0, &mut buffer), content.read_hard(1, &mut buffer, &mut Vec::new()), content.hole(1));
        }
    });
}

/// Changes a volume as the input says and reads everything that is left of it.
pub fn break_and_read(sound: &[u8], input: &[u8]) {
    let bytes = broken(sound, input);
    let len = bytes.len() as u64;
    let drive = Source::detached(Arc::new(MemoryMedium::new(bytes, 512)));
    let _ = badger_fs::recognise(&*drive, 0, len);
    let Ok(fs) = badger_fs::open(&drive, 0, len) else { return };
    let survey = fs.survey();
    assert!(survey.usage.iter().all(|(range, _)| range.end <= len), "nothing is in use beyond the end");
    if let Ok(bounds) = fs.bounds(&survey, 512) {
        for len in [bounds.least, len / 2, len * 2] {
            let wanted = badger_fs::Wanted { len: len / 512 * 512, start: 2048, sector: 512, fresh: None };
            if let Ok(view) = fs.resized(&survey, &wanted) {
                assert!(view.needed().iter().all(|(range, ())| range.end <= wanted.len), "nothing lies beyond the new end");
            }
        }
    }
    let Ok(root) = fs.root() else { return };
    let (mut buffer, mut count) = (vec![0; 70_000], 0u32);
    badger_fs::walk::walk(&*fs, root, "", &mut |_, entry| {
        count += 1;
        if count > 2000 {
            return;
        }
        let _ = (fs.streams(&entry.node), fs.attributes(&entry.node), fs.link(&entry.node));
        if let Ok(content) = fs.open(&entry.node, "") {
            for at in [0, content.size() / 2, content.size().saturating_sub(3)] {
                let read = content.read_hard(at, &mut buffer, &mut Vec::new());
                assert!(read as u64 <= content.size() - at.min(content.size()));
                let _ = (content.hole(at), content.until_hole(at, 1 << 20), content.place(at));
            }
        }
    });
}
