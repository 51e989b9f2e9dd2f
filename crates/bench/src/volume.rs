//! One volume of a drive, opened for its files.

use crate::Bench;
use badger_drive::{Control, Refusal, Source};
use badger_fs::{FileSystem, Kind};
use badger_layout::table;
use badger_people::copyout::{self, Clash, Collision, Observer, Report};
use std::path::{Path, PathBuf};

/// An opened volume.
pub struct Opened {
    /// The drive it lies on.
    pub drive: Source,
    /// Number of its partition; 0 without a table.
    pub number: u32,
    /// What it is.
    pub kind: Kind,
    /// Its label, or the name of its partition.
    pub label: String,
    /// Its files.
    pub fs: Box<dyn FileSystem>,
}

/// What is to be copied out, and how.
pub struct Fetch<'a> {
    /// Paths from the root of the volume.
    pub picks: Vec<String>,
    /// Where to.
    pub into: PathBuf,
    /// What happens where something is there already.
    pub collision: Collision,
    /// Asked where [`Collision::Ask`] is set.
    pub ask: &'a (dyn Fn(&Clash) -> Collision + Sync),
}

/// Takes `DRIVE#PART` apart. A file whose own name ends that way is meant itself.
pub fn parted(named: &str) -> (PathBuf, Option<u32>) {
    if !Path::new(named).exists()
        && let Some((drive, number)) = named.rsplit_once('#')
        && let Ok(number) = number.parse()
    {
        return (drive.into(), Some(number));
    }
    (named.into(), None)
}

impl Bench {
    /// Opens the volume in a partition of a drive, or in its only one.
    ///
    /// # Errors
    /// A refusal where the drive cannot be read, has no such partition, or its format is not walked.
    pub fn open_volume(&self, path: &Path, number: Option<u32>) -> Result<Opened, Refusal> {
        let shown = path.display();
        let drive: Source = self.workshop.source(path)?;
        let found = table::read(&*drive);
        let data = found.data_partitions();
        let partition = match number {
            Some(number) => data.iter().find(|partition| partition.number == number),
            None if data.len() == 1 => data.first(),
            None if data.is_empty() => {
                let words = badger_transfer::hazard::Looked::at(&drive).content.words();
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
        let fs = badger_fs::open(&drive, start, len).map_err(refused)?;
        let volume = badger_fs::recognise(&*drive, start, len);
        let label = volume.as_ref().map(|volume| volume.label.clone()).filter(|label| !label.is_empty());
        let kind = volume.map_or(Kind::Swap, |volume| volume.kind);
        Ok(Opened { number: partition.number, kind, label: label.unwrap_or_else(|| partition.name.clone()), fs, drive })
    }

    /// Copies files out of a volume.
    ///
    /// # Errors
    /// See [`copyout::copy_out`].
    pub fn fetch(&self, volume: &Opened, fetch: Fetch, control: &Control, observer: &dyn Observer) -> Result<Report, Refusal> {
        let clock = volume.drive.clock().unwrap_or_else(|| self.workshop.clock.clone());
        let order = copyout::Order {
            fs: &*volume.fs,
            source: &volume.drive,
            key: format!("{}#{}", volume.drive.key(), volume.number),
            picks: fetch.picks,
            into: fetch.into,
            collision: fetch.collision,
            ask: fetch.ask,
        };
        copyout::copy_out(&order, &self.workshop.sysfs, control, &*clock, observer)
    }
}
