//! Borrowed drives among the things that a drive can be.

use crate::borrowed::{Borrowed, VEIL};
use crate::uri::Uri;
use badger_drive::kinds::{Around, Asked, Kind, Named, NotOpened, Seen, Shown, Written};
use badger_drive::{Ground, Medium, Refusal, Sysfs};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Drives that are lent somewhere, by their URIs.
pub const BORROWED: &dyn Kind = &Lent;

struct Lent;

impl Kind for Lent {
    fn named(&self, name: &Path, role: &str, around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        let Some(uri) = Uri::of_path(name) else { return Ok(None) };
        let uri = uri.map_err(|why| Refusal::new("not-found", format!("{role} {}: {why}", name.display())))?;
        Ok(Some(Box::new(Drive { path: name.to_path_buf(), uri, trusted: around.trusted.map(Path::to_path_buf) })))
    }
    fn probe(&self, _asked: &Asked, _around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        Ok(None)
    }
}

struct Drive {
    path: PathBuf,
    uri: Uri,
    trusted: Option<PathBuf>,
}

impl Drive {
    fn reached(&self, writing: bool) -> io::Result<Borrowed> {
        Borrowed::open(&self.path, &self.uri, self.trusted.as_deref(), writing)
    }
}

impl Named for Drive {
    fn path(&self) -> &Path {
        &self.path
    }
    fn ground(&self, _sysfs: &Sysfs) -> Ground {
        Ground::default().veiled(Some(VEIL.into()))
    }
    fn open(&self) -> io::Result<Arc<dyn Medium>> {
        Ok(Arc::new(self.reached(false)?))
    }
    fn look(&self, _sector: u32) -> io::Result<Seen> {
        Ok(Seen::of(&self.reached(false)?))
    }
    fn open_for_writing(&self, _shown: &Shown, _sysfs: &Sysfs) -> Result<Written, NotOpened> {
        let drive = self.reached(true)?;
        Ok(Written { medium: Arc::new(drive), names: Vec::new() })
    }
}
