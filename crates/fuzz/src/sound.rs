//! Sound volumes and images made by the system's own tools, and inputs that change them.

use badger_drive::medium::MemoryMedium;
use badger_drive::{Medium, Source};
use std::ops::Deref;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

/// A folder for as long as something is made.
pub(crate) fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a temporary folder")
}

pub(crate) fn text(path: &Path) -> &str {
    path.to_str().expect("a plain path")
}

/// Runs one of the system's tools.
pub(crate) fn tool(command: &[&str]) {
    let done = Command::new(command[0]).args(&command[1..]).stdout(Stdio::null()).stderr(Stdio::null()).status();
    assert!(done.is_ok_and(|status| status.success()), "{command:?}");
}

pub(crate) fn shell(script: &str) {
    tool(&["sh", "-ec", script]);
}

/// Bytes of the drives that images are of.
pub(crate) const IMAGE: u64 = 1 << 20;

/// A volume of `kib` KiB made by `make`, which gets its path and a folder of files.
pub(crate) fn volume(kib: u64, make: impl Fn(&str, &Path)) -> Sound {
    let dir = folder();
    let (path, data) = (dir.path().join("volume"), dir.path().join("data"));
    std::fs::File::create(&path).and_then(|file| file.set_len(kib << 10)).expect("an image");
    for number in 0..40usize {
        let folder = data.join(format!("folder {}", number % 5));
        std::fs::create_dir_all(&folder).expect("a folder");
        std::fs::write(folder.join(format!("a longer name for sheet {number}.csv")), vec![number as u8; number * 97]).expect("a file");
    }
    make(text(&path), &data);
    Sound::new(std::fs::read(&path).expect("the volume"))
}

/// An image of 1 MiB that `make` makes out of a raw file: it gets the path of that and its own.
pub(crate) fn image(make: impl Fn(&str, &str)) -> Sound {
    let dir = folder();
    let (raw, path) = (dir.path().join("raw"), dir.path().join("image"));
    let bytes: Vec<u8> = (0..IMAGE as usize).map(|at| if (at >> 16) & 3 == 3 { 0 } else { (at >> 9) as u8 }).collect();
    std::fs::write(&raw, bytes).expect("a raw file");
    make(text(&raw), text(&path));
    Sound::new(std::fs::read(&path).expect("the image"))
}

/// Something sound, and where its structures are.
pub(crate) struct Sound {
    bytes: Vec<u8>,
    /// Sectors that are not one byte all over, as the content of files here is.
    structures: Vec<usize>,
}

const SECTOR: usize = 512;

impl Sound {
    pub fn new(bytes: Vec<u8>) -> Self {
        let is_structure = |(_, sector): &(usize, &[u8])| sector.iter().any(|byte| *byte != sector[0]);
        let mut structures: Vec<usize> = bytes.chunks(SECTOR).enumerate().filter(is_structure).map(|(number, _)| number * SECTOR).collect();
        if structures.is_empty() {
            structures.push(0);
        }
        Self { bytes, structures }
    }

    /// Changes structures as an input says: it is a list of changes, three bytes for the place (in steps of 2 bytes, counted on and on over
    /// all structures), one for the length, then the bytes.
    pub fn broken(&self, input: &[u8]) -> Vec<u8> {
        let mut bytes = self.bytes.clone();
        let mut rest = input;
        while let [a, b, c, len, more @ ..] = rest {
            let place = u32::from_le_bytes([*a, *b, *c, 0]) as usize * 2;
            let at = self.structures[place / SECTOR % self.structures.len()] + place % SECTOR;
            let at = at.min(bytes.len() - 1);
            let len = usize::from(len % 16 + 1).min(more.len()).min(bytes.len() - at);
            bytes[at..at + len].copy_from_slice(&more[..len]);
            rest = &more[len..];
        }
        bytes
    }
}

impl Deref for Sound {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.bytes
    }
}

/// A drive that holds these bytes.
pub(crate) fn drive(bytes: Vec<u8>) -> Source {
    Source::detached(Arc::new(MemoryMedium::new(bytes, 512)))
}

/// Opens an image file in every way and reads what it gives.
pub(crate) fn read_image(bytes: &[u8], passphrase: Option<&badger_image::own::Passphrase>) {
    let dir = folder();
    let path = dir.path().join("image");
    std::fs::write(&path, bytes).expect("an image");
    let opened = badger_image::open(&path, None).ok().flatten().map(|image| Box::new(image) as Box<dyn Medium>);
    let own = || badger_image::own::Image::open(&path, passphrase).ok().map(|image| Box::new(image) as Box<dyn Medium>);
    let Some(drive) = opened.or_else(own) else { return };
    let size = drive.geometry().size_bytes;
    let mut buffer = vec![0; 300_000];
    for at in (0..24).map(|step| size / 24 * step) {
        let len = buffer.len().min((size - at) as usize);
        let _ = drive.read_at(at, &mut buffer[..len]);
        if at < size {
            let known = drive.stretch(at, size - at);
            assert!(known.len > 0 && known.len <= size - at, "{known:?} of {}", size - at);
        }
    }
}

/// Lists and reads everything on a volume of a format of which only files are read.
pub(crate) fn list(bytes: Vec<u8>) {
    let len = bytes.len() as u64;
    let drive = drive(bytes);
    let _ = badger_fs::recognise(&*drive, 0, len);
    let Ok(tree) = badger_fs::files(&drive, 0, len) else { return };
    let _ = tree.mounted();
    read_tree(&*tree);
}

/// Reads everything in a tree, up to a number of files.
fn read_tree(tree: &dyn badger_fs::Tree) {
    let Ok(root) = tree.root() else { return };
    let (mut buffer, mut count) = (vec![0; 70_000], 0u32);
    badger_fs::walk::walk(tree, root, "", &mut |_, entry| {
        count += 1;
        if count > 2000 {
            return;
        }
        let _ = (tree.streams(&entry.node), tree.attributes(&entry.node), tree.link(&entry.node));
        let Ok(content) = tree.open(&entry.node, "") else { return };
        for at in [0, content.size() / 2, content.size().saturating_sub(3)] {
            let read = content.read_hard(at, &mut buffer, &mut Vec::new());
            assert!(read as u64 <= content.size() - at.min(content.size()));
            let _ = (content.hole(at), content.until_hole(at, 1 << 20), content.place(at));
        }
    });
}

/// Surveys a volume, shows it with other sizes, and reads everything that is left of it.
pub(crate) fn survey(bytes: Vec<u8>) {
    let len = bytes.len() as u64;
    let drive = drive(bytes);
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
    read_tree(&*fs);
}
