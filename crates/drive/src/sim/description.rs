//! What a simulated drive is, as a `*.drive.toml` says it.

use crate::failing::Pattern;
use crate::health::Facts;
use crate::identity::{Bus, Identity};
use serde::Deserialize;
use std::io;
use std::path::{Path, PathBuf};

/// The description of a simulated drive.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Description {
    /// The raw file with the content, relative to the description.
    pub backing: PathBuf,
    /// Who it says it is.
    pub identity: IdentityPart,
    /// How fast it is; without it the drive is as fast as its file.
    pub pace: Option<Pace>,
    /// What it says of its health, if anything.
    pub health: Option<Facts>,
    /// What is wrong with it.
    #[serde(default, rename = "fault")]
    pub faults: Vec<Fault>,
    /// How it fails as a whole.
    #[serde(default, rename = "failing")]
    pub failing: Vec<Pattern>,
}

/// The `[identity]` part.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct IdentityPart {
    /// Model name.
    pub model: String,
    /// Serial; may be empty.
    #[serde(default)]
    pub serial: String,
    /// Firmware revision.
    #[serde(default)]
    pub firmware: String,
    /// What the adapter around the drive says of itself.
    pub adapter: Option<String>,
    /// Connection.
    pub bus: Bus,
    /// Turning platters.
    #[serde(default)]
    pub rotational: Option<bool>,
    /// Refuses writes.
    #[serde(default)]
    pub read_only: bool,
    /// 512 or 4096 bytes.
    #[serde(default = "sector_512")]
    pub logical_sector: u32,
    /// 512 or 4096 bytes.
    #[serde(default = "sector_512")]
    pub physical_sector: u32,
}

fn sector_512() -> u32 {
    512
}

/// The `[pace]` part.
#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Pace {
    /// Reading, in MB (10^6 bytes) a second.
    pub read_mb_s: f64,
    /// Writing, in MB a second.
    pub write_mb_s: f64,
    /// Time for a jump, in milliseconds.
    #[serde(default)]
    pub seek_ms: f64,
    /// Whether transfers really take that long; else the run's clock is simulated.
    #[serde(default)]
    pub real: bool,
}

/// One `[[fault]]`. Places are logical sectors, times milliseconds where not said otherwise.
#[derive(Clone, Debug, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Fault {
    /// Every read touching it fails.
    Unreadable {
        /// First sector.
        lba: u64,
        /// Sectors.
        sectors: u64,
        /// How long the failure takes.
        #[serde(default)]
        ms: f64,
    },
    /// A read touching it succeeds with this chance.
    Flaky {
        /// First sector.
        lba: u64,
        /// Sectors.
        sectors: u64,
        /// 0 to 1.
        chance: f64,
        /// Start of the random sequence.
        #[serde(default)]
        seed: u64,
        /// How long a failure takes.
        #[serde(default)]
        ms: f64,
    },
    /// Reads touching it take longer.
    Slow {
        /// First sector.
        lba: u64,
        /// Sectors.
        sectors: u64,
        /// How much longer.
        ms: f64,
    },
    /// Reads touching it get no answer for that long, and fail then. The drive answers nothing else meanwhile.
    Hangs {
        /// First sector.
        lba: u64,
        /// Sectors.
        sectors: u64,
        /// How long, in seconds.
        s: f64,
    },
    /// Nobody knows what is there, and that is known without a read, as in an image of a drive that failed.
    Unknown {
        /// First sector.
        lba: u64,
        /// Sectors.
        sectors: u64,
    },
    /// Wrong bytes, other ones at every read, and no error.
    Silent {
        /// First sector.
        lba: u64,
        /// Sectors.
        sectors: u64,
    },
    /// The drive vanishes after so many reads, again and again.
    Drops {
        /// Reads it lasts.
        after_reads: u64,
        /// Seconds until it is back; without it never.
        back_after_s: Option<f64>,
    },
    /// After so many reads every read fails, wherever it is, as with a drive whose heads were parked for good or that is too hot: it is still there.
    Stops {
        /// Reads before that.
        after_reads: u64,
        /// Seconds until it reads again; without it never.
        back_after_s: Option<f64>,
        /// How long a failure takes.
        #[serde(default)]
        ms: f64,
    },
    /// Bad contact: it vanishes now and then, and is back after a while.
    Contact {
        /// Reads it lasts about.
        reads: u64,
        /// Seconds it is away about.
        s: f64,
        /// When, and for how long.
        #[serde(default)]
        seed: u64,
    },
    /// The bridge in its box answers nothing for a while after each error.
    Bridge {
        /// How long, in seconds.
        s: f64,
    },
    /// It keeps in mind what failed last: the next reads of it fail too, at once, until so many other reads were done.
    Remembers {
        /// Reads of other places.
        reads: u64,
    },
    /// Writes touching it fail.
    WriteUnreadable {
        /// First sector.
        lba: u64,
        /// Sectors.
        sectors: u64,
    },
    /// Writes touching it are taken and forgotten: what was there before stays.
    WriteLost {
        /// First sector.
        lba: u64,
        /// Sectors.
        sectors: u64,
    },
    /// After so many flushes that succeed one fails, and some of what was written since the last one is lost.
    FlushFails {
        /// Flushes before it.
        after_flushes: u64,
    },
    /// After so many reads it holds other bytes there, and keeps them: somebody else writes to it.
    Changes {
        /// First sector.
        lba: u64,
        /// Sectors.
        sectors: u64,
        /// Reads before that.
        after_reads: u64,
    },
}

impl Fault {
    /// First sector and sectors it is at; none where it is not at a place.
    pub(super) fn place(&self) -> (u64, u64) {
        match *self {
            Self::Unreadable { lba, sectors, .. }
            | Self::Flaky { lba, sectors, .. }
            | Self::Slow { lba, sectors, .. }
            | Self::Hangs { lba, sectors, .. }
            | Self::Unknown { lba, sectors }
            | Self::Silent { lba, sectors }
            | Self::WriteUnreadable { lba, sectors }
            | Self::WriteLost { lba, sectors }
            | Self::Changes { lba, sectors, .. } => (lba, sectors),
            Self::Drops { .. }
            | Self::Stops { .. }
            | Self::Contact { .. }
            | Self::Bridge { .. }
            | Self::Remembers { .. }
            | Self::FlushFails { .. } => (0, 0),
        }
    }

    /// Whether it shows when its place is read.
    pub(super) fn is_read(&self) -> bool {
        !matches!(self, Self::WriteUnreadable { .. } | Self::WriteLost { .. }) && self.place() != (0, 0)
    }
}

/// Bytes of the longest description.
const MOST_TEXT: u64 = 1 << 20;
/// No time, pace or chance is greater, and no sector lies further on.
const MOST_NUMBER: f64 = 1e9;
const MOST_SECTOR: i64 = 1 << 50;

/// The first number that no drive has: neither a number nor finite, below zero, or beyond anything.
fn impossible(value: &toml::Value, name: &str) -> Option<String> {
    match value {
        toml::Value::Float(number) if !(0.0..=MOST_NUMBER).contains(number) => Some(format!("{name} = {number}: it is from 0 to {MOST_NUMBER}")),
        toml::Value::Integer(number) if name != "seed" && !(0..=MOST_SECTOR).contains(number) => {
            Some(format!("{name} = {number}: it is from 0 to {MOST_SECTOR}"))
        }
        toml::Value::Array(all) => all.iter().find_map(|value| impossible(value, name)),
        toml::Value::Table(all) => all.iter().find_map(|(name, value)| impossible(value, name)),
        _ => None,
    }
}

/// Reads a description; the backing path in it is made absolute.
///
/// # Errors
/// What the system says, or what is wrong in the text and where.
pub fn describe(path: &Path) -> io::Result<Description> {
    let meta = std::fs::metadata(path)?;
    if !meta.is_file() || meta.len() > MOST_TEXT {
        return Err(io::Error::new(
            io::ErrorKind::InvalidData,
            format!("a description is a text of at most {MOST_TEXT} bytes, and this one has {}", meta.len()),
        ));
    }
    let text = std::fs::read_to_string(path)?;
    let bad = |text: String| io::Error::new(io::ErrorKind::InvalidData, text);
    if let Some(wrong) = toml::from_str::<toml::Table>(&text).ok().and_then(|table| impossible(&toml::Value::Table(table), "")) {
        return Err(bad(wrong));
    }
    let mut description: Description =
        toml::from_str(&text).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error.to_string().trim_end().to_string()))?;
    if description.pace.is_some_and(|pace| pace.read_mb_s <= 0.0 || pace.write_mb_s <= 0.0) {
        return Err(bad("a pace of nothing a second: no drive is that slow".into()));
    }
    let part = &description.identity;
    for sector in [part.logical_sector, part.physical_sector] {
        if sector != 512 && sector != 4096 {
            return Err(io::Error::new(io::ErrorKind::InvalidData, format!("a sector of {sector} bytes: only 512 and 4096 exist")));
        }
    }
    description.backing = path.parent().unwrap_or(Path::new(".")).join(&description.backing);
    Ok(description)
}

impl Description {
    /// The identity the drive shows; `path` is the description's own.
    pub fn identity(&self, path: &Path) -> Identity {
        let part = &self.identity;
        Identity {
            model: part.model.clone(),
            serial: part.serial.clone(),
            firmware: part.firmware.clone(),
            bus: part.bus,
            rotational: part.rotational,
            removable: false,
            read_only: part.read_only,
            adapter: part.adapter.clone(),
            path: path.to_path_buf(),
        }
    }
}
