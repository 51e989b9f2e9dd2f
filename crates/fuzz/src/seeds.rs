//! Inputs that are kept: the fewest that reach everything that a long run of the fuzzer reached, packed, one archive for each target.

use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

fn archive(target: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("seeds").join(format!("{target}.tar.zst"))
}

/// The kept inputs of a target.
///
/// # Errors
/// The system, or that the archive is damaged.
pub fn kept(target: &str) -> io::Result<Vec<Vec<u8>>> {
    let packed = match fs::File::open(archive(target)) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        file => file?,
    };
    let mut all = tar::Archive::new(zstd::Decoder::new(packed)?);
    let read = |mut entry: tar::Entry<_>| {
        let mut bytes = Vec::new();
        entry.read_to_end(&mut bytes).map(|_| bytes)
    };
    all.entries()?.map(|entry| read(entry?)).collect()
}

/// Keeps the inputs in a folder, in place of those that were kept.
///
/// # Errors
/// The system.
pub fn keep(target: &str, folder: &Path) -> io::Result<usize> {
    let mut all = fs::read_dir(folder)?.map(|entry| fs::read(entry?.path())).collect::<io::Result<Vec<_>>>()?;
    // In one order and with nothing but their bytes, so that the same inputs give the same archive.
    all.sort_unstable_by(|a, b| (a.len(), a).cmp(&(b.len(), b)));
    fs::create_dir_all(archive(target).with_file_name(""))?;
    let mut out = tar::Builder::new(zstd::Encoder::new(fs::File::create(archive(target))?, 19)?);
    for (number, bytes) in all.iter().enumerate() {
        let mut header = tar::Header::new_ustar();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        out.append_data(&mut header, format!("{number}"), &bytes[..])?;
    }
    out.into_inner()?.finish()?.sync_all()?;
    Ok(all.len())
}
