//! What is opened for its files: a volume of a drive, or a folder of this machine.

use crate::Bench;
use badger_drive::{Control, Observer, Refusal, RunDrive, Source};
use badger_fs::{Folder, Tree};
use badger_image::own::{Image, Passphrase};
use badger_layout::table;
use badger_people::copyout::{self, Clash, Collision, Report};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use tracing::info;

/// An opened tree.
pub struct Opened {
    /// Its files.
    pub tree: Box<dyn Tree>,
    /// What it is, for a screen.
    pub what: &'static str,
    /// Its label, the name of its partition, or where the folder is.
    pub label: String,
    /// Whether it lies on a drive that is half salvaged, named by its map.
    pub is_salvaged: bool,
    /// Names it among all.
    key: String,
}

impl Bench {
    /// What an image of our own goes on from, for a screen that offers it.
    pub fn earlier(&self, path: &Path) -> Option<PathBuf> {
        let passphrase = self.workshop.passphrase.as_deref().map(Passphrase::new);
        let (_, name) = Image::open(path, passphrase.as_ref()).ok()?.shown().parent?;
        Some(path.with_file_name(name))
    }
}

/// What is to be copied out, and how.
pub struct Fetch<'a> {
    /// Paths from the top of the tree.
    pub picks: Vec<String>,
    /// Where to.
    pub into: PathBuf,
    /// What happens where something is there already.
    pub collision: Collision,
    /// Asked where [`Collision::Ask`] is set.
    pub ask: &'a (dyn Fn(&Clash) -> Collision + Sync),
}

/// Takes `DRIVE#PART` apart. A file whose own name ends that way is meant itself.
pub fn parted(named: impl AsRef<Path>) -> (PathBuf, Option<u32>) {
    let named = named.as_ref();
    let bytes = named.as_os_str().as_bytes();
    if !named.exists()
        && let Some(at) = bytes.iter().rposition(|byte| *byte == b'#')
        && let Some(number) = std::str::from_utf8(&bytes[at + 1..]).ok().and_then(|number| number.parse().ok())
    {
        return (OsStr::from_bytes(&bytes[..at]).into(), Some(number));
    }
    (named.into(), None)
}

impl Bench {
    /// Opens the volume in a partition of a drive, or in its only one; or a folder of this machine.
    ///
    /// # Errors
    /// A refusal where the drive or folder cannot be read, has no such partition, or its format is not walked.
    pub fn open_tree(&self, path: &Path, number: Option<u32>) -> Result<Opened, Refusal> {
        let shown = path.display();
        // A folder that an operating system's backup made is a drive too: with a number one of its partitions is meant.
        if path.is_dir() && !(number.is_some() && self.workshop.source(path).is_ok()) {
            if number.is_some() {
                return Err(Refusal::new("no-partition", format!("{shown} is a folder, which has no partitions: leave # and the number out")));
            }
            let folder = Folder::open(path).map_err(|finding| Refusal::new(finding.code, format!("{shown}: {}", finding.text)))?;
            let label = folder.path().display().to_string();
            return Ok(Opened {
                what: "folder",
                key: format!("folder {label} {}", folder.identity().1),
                label,
                tree: Box::new(folder),
                is_salvaged: false,
            });
        }
        let drive: Source = self.workshop.source(path)?;
        let found = table::read(&*drive);
        let data = found.data_partitions();
        let partition = match number {
            Some(number) => data.iter().find(|partition| partition.number == number),
            None if data.len() == 1 => data.first(),
            None if data.is_empty() => {
                let words = badger_inspect::Looked::at(&drive).content.words();
                let what = if words.is_empty() { "its table names no partition that holds files".into() } else { words };
                let text = format!("{shown}: {what}: there is no volume on it to look into; look for lost ones, or attach another drive");
                return Err(Refusal::new("no-partition", text));
            }
            None => {
                let numbers: Vec<String> = data.iter().map(|partition| partition.number.to_string()).collect();
                let text = format!("{shown} has {} partitions: name one of them with # and its number: {}", numbers.len(), numbers.join(", "));
                return Err(Refusal::new("no-partition", text));
            }
        };
        let partition = partition.ok_or_else(|| Refusal::new("no-partition", format!("{shown} has no such partition")))?;
        let (start, len) = found.place(partition);
        let refused = |finding: badger_fs::Finding| Refusal::new(finding.code, format!("{shown}#{}: {}", partition.number, finding.text));
        let tree = badger_fs::files(&drive, start, len).map_err(refused)?;
        let volume = badger_fs::recognise(&*drive, start, len);
        let label = volume.as_ref().map(|volume| volume.label.clone()).filter(|label| !label.is_empty());
        Ok(Opened {
            is_salvaged: badger_salvage::is_map(path),
            tree,
            what: volume.map_or("", |volume| volume.kind.word()),
            label: label.unwrap_or_else(|| partition.name.clone()),
            key: format!("{}#{}", drive.key(), partition.number),
        })
    }

    /// Copies files out of a tree.
    ///
    /// # Errors
    /// See [`copyout::copy_out`].
    pub fn fetch(&self, opened: &Opened, fetch: Fetch, control: &Control, observer: &dyn Observer) -> Result<Report, Refusal> {
        let own = opened.tree.origin().cached().and_then(|volume| volume.drive().clock());
        let clock = own.unwrap_or_else(|| self.workshop.clock.clone());
        let order = copyout::Order {
            tree: &*opened.tree,
            key: opened.key.clone(),
            picks: fetch.picks,
            into: fetch.into,
            trusts_destination: self.workshop.trust_destination,
            collision: fetch.collision,
            ask: fetch.ask,
        };
        if let Some(volume) = opened.tree.origin().cached() {
            self.workshop.keep_off(&[], &[RunDrive::source(volume.drive())])?;
        }
        let (from, picked) = (order.key.clone(), order.picks.len());
        info!(from, picked, "files are copied out");
        let done = copyout::copy_out(&order, &self.workshop.sysfs, control, &*clock, observer);
        match &done {
            Ok(report) => info!(from, files = report.files, bytes = report.bytes, outcome = format!("{:?}", report.outcome), "files were copied out"),
            Err(refusal) => info!(from, code = refusal.code, "no file was copied out"),
        }
        done
    }
}
