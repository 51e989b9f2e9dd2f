//! Containers among the things that a drive can be.

use crate::container;
use crate::own::{self, Passphrase};
use badger_drive::kinds::{Around, Asked, Kind, Named, NotOpened, Seen, Shown, Written};
use badger_drive::{Ground, Medium, Refusal, Sysfs};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Every container that is known by its content.
pub const CONTAINERS: &dyn Kind = &Containers;

struct Containers;

impl Kind for Containers {
    /// `IMAGE@STATE`: a state that was kept in an image, by its name or number.
    fn named(&self, name: &Path, role: &str, _around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        let Some((path, state)) = name.to_str().filter(|_| !name.exists()).and_then(|name| name.rsplit_once('@')) else { return Ok(None) };
        if state.is_empty() || !container::format_of(Path::new(path)).is_ok_and(|format| format.is_some()) {
            return Ok(None);
        }
        let image = Image { path: path.into(), snapshot: Some(state.into()) };
        let refused = |error: io::Error| Refusal::new("not-found", format!("{role} {}: {error}", name.display()));
        image.opened().map_err(refused)?;
        Ok(Some(Box::new(image)))
    }

    fn probe(&self, asked: &Asked, _around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        let unreadable = |error: io::Error| Refusal::new("not-readable", format!("{} {}: {error}", asked.role, asked.path.display()));
        let found = container::format_of(asked.path).map_err(unreadable)?;
        Ok(found.map(|_| Box::new(Image { path: asked.path.to_path_buf(), snapshot: None }) as Box<dyn Named>))
    }
}

/// Images of our own.
pub const OWN: &dyn Kind = &Owns;

struct Owns;

impl Kind for Owns {
    fn probe(&self, asked: &Asked, around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        let mut head = [0; 64];
        let is_own =
            asked.meta.is_file() && std::fs::File::open(asked.path).and_then(|file| file.read_exact_at(&mut head, 0)).is_ok() && own::is_first(&head);
        Ok(is_own
            .then(|| Box::new(OwnImage { path: asked.path.to_path_buf(), passphrase: around.passphrase.map(Passphrase::new) }) as Box<dyn Named>))
    }
}

struct OwnImage {
    path: PathBuf,
    passphrase: Option<Passphrase>,
}

impl Named for OwnImage {
    fn path(&self) -> &Path {
        &self.path
    }
    fn ground(&self, sysfs: &Sysfs) -> Ground {
        let image = own::Image::open(&self.path, self.passphrase.as_ref());
        let files = image.map(|image| image.rests_on().into_iter().map(|file| Ground::of_open(file, sysfs)).collect::<Vec<_>>());
        files.unwrap_or_default().into_iter().reduce(Ground::and).unwrap_or_else(|| Ground::of(&self.path, sysfs))
    }
    fn open(&self) -> io::Result<Arc<dyn Medium>> {
        Ok(Arc::new(own::Image::open(&self.path, self.passphrase.as_ref())?))
    }
    fn look(&self, _sector: u32) -> io::Result<Seen> {
        Err(io::Error::new(io::ErrorKind::Unsupported, "it is an image with a drive in it, which is only read: name a drive or a new file"))
    }
    fn open_for_writing(&self, _shown: &Shown, _sysfs: &Sysfs) -> Result<Written, NotOpened> {
        Err(io::Error::from(io::ErrorKind::Unsupported).into())
    }
}

struct Image {
    path: PathBuf,
    snapshot: Option<String>,
}

impl Image {
    fn opened(&self) -> io::Result<container::Container> {
        container::open(&self.path, self.snapshot.as_deref())?.ok_or_else(|| io::Error::other("it is another file than a moment ago"))
    }
}

impl Named for Image {
    fn path(&self) -> &Path {
        &self.path
    }
    fn ground(&self, sysfs: &Sysfs) -> Ground {
        let files = self.opened().map(|image| image.rests_on().into_iter().map(|file| Ground::of_open(file, sysfs)).collect::<Vec<_>>());
        files.unwrap_or_default().into_iter().reduce(Ground::and).unwrap_or_else(|| Ground::of(&self.path, sysfs))
    }
    fn open(&self) -> io::Result<Arc<dyn Medium>> {
        Ok(Arc::new(self.opened()?))
    }
    fn look(&self, _sector: u32) -> io::Result<Seen> {
        let word = container::format_of(&self.path)?.map_or("an", container::Format::word);
        Err(io::Error::new(
            io::ErrorKind::Unsupported,
            format!("it is {word} image with a drive in it, which is only read: restore onto a drive, or name a new file"),
        ))
    }
    fn open_for_writing(&self, _shown: &Shown, _sysfs: &Sysfs) -> Result<Written, NotOpened> {
        Err(io::Error::from(io::ErrorKind::Unsupported).into())
    }
}
