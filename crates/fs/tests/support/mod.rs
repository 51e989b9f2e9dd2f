//! What several tests of file systems need: volumes made and filled by the system's own tools.
#![allow(dead_code)] // every test uses a part of it

pub mod kernel;
pub mod seen;
pub mod shape;
pub mod tool;

use badger_drive::medium::MemoryMedium;
use badger_drive::{Extents, Medium, Source, Workshop};
use badger_fs::tree::Node;
use badger_fs::{View, Volume};
use shape::{Family, Mounted};
use std::fs::{self, File};
use std::os::unix::fs::{FileExt, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tempfile::TempDir;
pub use tool::run;

pub const MIB: u64 = 1 << 20;

pub fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed | 1;
    (0..len.div_ceil(8))
        .flat_map(|_| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state.to_le_bytes()
        })
        .take(len)
        .collect()
}

/// A folder such as people have: deep and wide, long and foreign names, empty, small and large files.
pub fn people(plain: bool) -> TempDir {
    let dir = tempfile::tempdir().unwrap();
    let put = |path: &str, bytes: &[u8]| {
        let path = dir.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    };
    put("empty.txt", b"");
    put("Counts/2026/a rather long name of a fish-count sheet, as people write them.csv", &noise(5000, 1));
    put("Partituren/Übung für Männerstimmen – Fassung 2.txt", b"do re mi");
    put("UPPER.TXT", b"upper");
    put("lower.txt", b"lower");
    put("Mixed.Case.Name", &noise(70_000, 2));
    for size in [1usize, 59, 60, 61, 140, 511, 512, 513, 4095, 4096, 4097, 65_536] {
        put(&format!("sizes/{size}.bin"), &noise(size, size as u64));
    }
    // The tool that fills FAT goes through the folder anew for each file.
    for number in 0..if plain { 240 } else { 700 } {
        put(&format!("wide/count-{number:04}-of-the-weir.csv"), format!("{number}\n").as_bytes());
    }
    let deep: String = (0..30).map(|level| format!("level-{level}/")).collect();
    put(&format!("{deep}bottom.txt"), b"deep down");
    put("large.wav", &noise(6 << 20, 9));
    if !plain {
        symlink("Counts/2026", dir.path().join("short-link")).unwrap();
        symlink(format!("/{}", "long-target/".repeat(12)), dir.path().join("long-link")).unwrap();
        fs::hard_link(dir.path().join("lower.txt"), dir.path().join("same-file.txt")).unwrap();
        run(&["mkfifo", dir.path().join("pipe").to_str().unwrap()]);
        let sparse = File::create(dir.path().join("sparse.db")).unwrap();
        sparse.set_len(40 << 20).unwrap();
        sparse.write_all_at(&noise(10_000, 4), 9 << 20).unwrap();
        sparse.write_all_at(b"end", (40 << 20) - 3).unwrap();
    }
    dir
}

pub fn open(path: &Path) -> Box<dyn Volume> {
    let source = Workshop::default().source(path).unwrap();
    let size = source.geometry().size_bytes;
    badger_fs::open(&source, 0, size).unwrap()
}

pub fn image(mib: u64) -> (TempDir, PathBuf) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("volume.img");
    File::create(&path).unwrap().set_len(mib * MIB).unwrap();
    (dir, path)
}

/// Mounts an exFAT image and has it filled.
pub fn fill_exfat(path: &Path, fill: impl FnOnce(&Path)) {
    fill_by(Family::ExFat, path, fill);
}

/// Mounts an NTFS image and has it filled.
pub fn fill_ntfs(path: &Path, fill: impl FnOnce(&Path)) {
    fill_by(Family::Ntfs, path, fill);
}

/// Mounts an image by the driver of its format and has it filled.
pub fn fill_by(family: Family, path: &Path, fill: impl FnOnce(&Path)) {
    fill(Mounted::new(family, path, true).unwrap_or_else(|why| panic!("{}: {why}", path.display())).place());
}

/// Bytes in memory as an opened volume.
pub fn in_memory(bytes: Vec<u8>) -> badger_fs::tree::Result<Box<dyn Volume>> {
    let len = bytes.len() as u64;
    badger_fs::open(&Source::detached(Arc::new(MemoryMedium::new(bytes, 512))), 0, len)
}

pub fn source(path: &Path) -> Source {
    Workshop::default().source(path).unwrap()
}

/// The hash of a file's content, or of one of its streams.
pub fn hashed(fs: &dyn Volume, node: &Node, stream: &str) -> Result<Vec<u8>, &'static str> {
    let content = fs.open(node, stream).map_err(|finding| finding.code)?;
    let (mut hasher, mut at, mut buffer) = (blake3::Hasher::new(), 0, vec![0; 1 << 20]);
    while at < content.size() {
        let count = content.read(at, &mut buffer).map_err(|finding| finding.code)?;
        hasher.update(&buffer[..count]);
        at += count as u64;
    }
    Ok(hasher.finalize().as_bytes().to_vec())
}

/// Copies what a view needs into a new file; the rest holds rubbish, as a used drive would.
pub fn poured(view: &View, path: &Path) {
    let size = view.geometry().size_bytes;
    let rubbish = noise(MIB as usize, 99);
    let file = File::create(path).unwrap();
    (0..size).step_by(MIB as usize).for_each(|at| file.write_all_at(&rubbish[..(size - at).min(MIB) as usize], at).unwrap());
    let needed: Extents<()> = view.needed();
    for (range, ()) in needed.iter() {
        let mut at = range.start;
        while at < range.end {
            let mut bytes = vec![0; (range.end - at).min(MIB) as usize];
            view.read_at(at, &mut bytes).unwrap();
            file.write_all_at(&bytes, at).unwrap();
            at += bytes.len() as u64;
        }
    }
}
