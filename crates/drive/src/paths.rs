//! Paths and device numbers as the system means them.

use std::path::{Path, PathBuf};

/// Major and minor of a device number, as the C library packs them.
pub fn numbers(device: u64) -> (u32, u32) {
    (libc::major(device), libc::minor(device))
}

/// A path with symbolic links resolved; of what is not there yet, only its directory's.
pub fn real(path: &Path) -> PathBuf {
    path.canonicalize().unwrap_or_else(|_| {
        let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
        match (absolute.parent().and_then(|dir| dir.canonicalize().ok()), absolute.file_name()) {
            (Some(dir), Some(name)) => dir.join(name),
            _ => absolute,
        }
    })
}
