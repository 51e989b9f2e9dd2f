//! Containers among the things that a drive can be.

use crate::container::{self, Format};
use crate::own::{self, Passphrase};
use badger_drive::kinds::{Around, Asked, Kind, Named, NotOpened, Seen, Shown, Written, is_description};
use badger_drive::raw::is_marked_raw;
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

    fn probe(&self, asked: &Asked, around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        if !asked.meta.is_file() || is_description(asked.path) {
            return Ok(None);
        }
        let shown = asked.path.display();
        let unreadable = |error: io::Error| Refusal::new("not-readable", format!("{} {shown}: {error}", asked.role));
        let found = container::format_of(asked.path).map_err(unreadable)?;
        let image = |_| Some(Box::new(Image { path: asked.path.to_path_buf(), snapshot: None }) as Box<dyn Named>);
        if let Some(word) = around.as_format {
            return match (word, found) {
                ("raw", _) => Ok(None),
                (word, Some(format)) if word == format.option() => Ok(image(format)),
                (word, _) => Err(Refusal::new("not-an-image", format!("{} {shown} is no {word} image, by its content", asked.role))),
            };
        }
        let named = Format::of_ending(asked.path);
        match (found, named) {
            (Some(found), Some(Some(named))) if found == named => Ok(image(found)),
            (None, Some(None)) => Err(Refusal::new(
                "not-an-image",
                format!(
                    "{} {shown} is named as an image of this program and is none, or its beginning is damaged; --as raw takes it as a raw drive",
                    asked.role
                ),
            )),
            (None, Some(Some(named))) if named != Format::Raw => Err(Refusal::new(
                "not-an-image",
                format!(
                    "{} {shown} is named as a {} image and is none, or its beginning is damaged; --as raw takes it as a raw drive",
                    asked.role,
                    named.word()
                ),
            )),
            (None, _) => Ok(None),
            // What a raw drive begins with is its own affair.
            (Some(_), Some(Some(Format::Raw))) if says_raw(asked.path) => Ok(None),
            (Some(found), _) => Err(Refusal::new(
                "format-unclear",
                format!(
                    "{} {shown} begins like a {} image, and its name does not say so: --as {} opens it as one, --as raw takes it as a raw drive",
                    asked.role,
                    found.word(),
                    found.option()
                ),
            )),
        }
    }

    fn create(&self, path: &Path, _size: u64) -> Result<Option<Box<dyn Named>>, Refusal> {
        match Format::of_ending(path) {
            Some(Some(Format::Raw)) | None => Ok(None),
            Some(named) => {
                let word = named.map_or("zbi", Format::option);
                let text =
                    format!("a new target is a raw drive, and {} is named as a {word} image: name it .img, or use badger image", path.display());
                Err(Refusal::new("name-differs", text))
            }
        }
    }
}

/// Whether a name means a raw drive and nothing else, or this program wrote the file as one.
fn says_raw(path: &Path) -> bool {
    path.extension().is_some_and(|ending| ["raw", "dd"].iter().any(|raw| ending.eq_ignore_ascii_case(raw))) || is_marked_raw(path)
}

/// Images of our own.
pub const OWN: &dyn Kind = &Owns;

struct Owns;

impl Kind for Owns {
    fn probe(&self, asked: &Asked, around: &Around) -> Result<Option<Box<dyn Named>>, Refusal> {
        if around.as_format.is_some_and(|word| word != "zbi") {
            return Ok(None);
        }
        let mut head = [0; 64];
        let is_own =
            asked.meta.is_file() && std::fs::File::open(asked.path).and_then(|file| file.read_exact_at(&mut head, 0)).is_ok() && own::is_first(&head);
        let named = Format::of_ending(asked.path);
        let is_volume = asked.path.extension().is_some_and(|ending| ending.to_str().is_some_and(|ending| ending.parse::<u32>().is_ok()));
        // Whatever a raw drive begins with is its own affair.
        let says_raw = named == Some(Some(Format::Raw)) && says_raw(asked.path);
        match (is_own, named) {
            (false, _) => Ok(None),
            (true, _) if around.as_format.is_some() || named == Some(None) || is_volume && !says_raw => {
                Ok(Some(Box::new(OwnImage { path: asked.path.to_path_buf(), passphrase: around.passphrase.map(Passphrase::new) })))
            }
            (true, _) if says_raw => Ok(None),
            (true, _) => Err(Refusal::new(
                "format-unclear",
                format!(
                    "{} {} begins like an image of this program, and its name does not say so: --as zbi opens it as one, --as raw takes it as a raw drive",
                    asked.role,
                    asked.path.display()
                ),
            )),
        }
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
