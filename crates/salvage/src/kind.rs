//! A salvage map among the things that a drive can be: named by its map, a half-salvaged drive is listed, dug into, kept in an image,
//! cloned, and read as a further copy of the drive that fails.

use crate::file::{self, Loaded};
use crate::pieces;
use crate::view::Salvaged;
use badger_drive::kinds::{Around, Asked, Kind, Named, NotOpened, Seen, Shown, Written};
use badger_drive::{Ground, Medium, Refusal, Source, Sysfs, Workshop};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Salvage maps.
pub const MAPS: &dyn Kind = &Maps;

struct Maps;

impl Kind for Maps {
    fn probe(&self, asked: &Asked, _around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        Ok((asked.meta.is_file() && is_map(asked.path)).then(|| Box::new(MapDrive { path: asked.path.to_path_buf() }) as Box<dyn Named>))
    }
}

/// Whether a file is a salvage map, by its beginning.
pub fn is_map(path: &Path) -> bool {
    let mut head = [0; 64];
    std::fs::File::open(path).and_then(|file| file.read_exact_at(&mut head, 0)).is_ok() && file::is_map(&head)
}

struct MapDrive {
    path: PathBuf,
}

/// The target of a map: where it was last, or beside the map.
fn target(path: &Path, loaded: &Loaded) -> io::Result<Source> {
    let last = loaded.of.path.clone();
    let beside = last.file_name().map(|name| path.with_file_name(name)).unwrap_or_default();
    let there = [&last, &beside].into_iter().find(|path| path.exists());
    let missing = || {
        io::Error::new(
            io::ErrorKind::NotFound,
            format!("{} is a salvage map; what it saved lies on {}, which is not there", path.display(), last.display()),
        )
    };
    let target = Workshop::default().source(there.ok_or_else(missing)?).map_err(|refusal| io::Error::other(refusal.text))?;
    // Another thing of the same name must not be taken for what was saved.
    let is_empty = loaded.map.totals().saved == 0;
    match pieces::sample(path, &loaded.map, &target, pieces::SAMPLES) {
        Ok(sampled) if target.geometry().size_bytes >= loaded.of.size && (is_empty || sampled.is_equal()) => Ok(target),
        Ok(sampled) if !is_empty && sampled == pieces::Sampled::default() => {
            let text = format!("{} cannot be compared with the map: the list of pieces beside the map has no sound record", last.display());
            Err(io::Error::new(io::ErrorKind::InvalidData, text))
        }
        Ok(_) => Err(io::Error::new(io::ErrorKind::InvalidData, format!("{} does not hold what the map says was saved on it", last.display()))),
        Err(error) => Err(error),
    }
}

impl MapDrive {
    fn opened(&self) -> io::Result<Salvaged> {
        let loaded = file::load(&self.path).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error.to_string()))?;
        let target = target(&self.path, &loaded)?;
        let names = (loaded.of.model.as_str(), loaded.of.serial.as_str());
        Ok(Salvaged::new(target, loaded.map, names, loaded.of.sector, &self.path))
    }
}

impl Named for MapDrive {
    fn path(&self) -> &Path {
        &self.path
    }
    fn ground(&self, sysfs: &Sysfs) -> Ground {
        let loaded = file::load(&self.path);
        let target = loaded.ok().and_then(|loaded| target(&self.path, &loaded).ok());
        target.map_or_else(|| Ground::of(&self.path, sysfs), |target| target.ground().clone())
    }
    fn open(&self) -> io::Result<Arc<dyn Medium>> {
        Ok(Arc::new(self.opened()?))
    }
    fn look(&self, _sector: u32) -> io::Result<Seen> {
        Err(io::Error::new(io::ErrorKind::Unsupported, "it is a salvage map, which is only read: name a drive or a new file"))
    }
    fn open_for_writing(&self, _shown: &Shown, _sysfs: &Sysfs) -> Result<Written, NotOpened> {
        Err(io::Error::from(io::ErrorKind::Unsupported).into())
    }
}
