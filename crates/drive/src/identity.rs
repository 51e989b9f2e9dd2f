//! Who a drive is: what it says of itself, what the box around it says, and the tail a technician types.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::path::{Path, PathBuf};

/// How a drive is connected.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Bus {
    /// Serial ATA on the mainboard.
    Sata,
    /// A SATA drive in a USB box.
    UsbSata,
    /// NVMe on the mainboard.
    Nvme,
    /// An NVMe drive in a USB box.
    UsbNvme,
    /// Parallel ATA.
    Ide,
    /// A USB stick, or a box that hides what is in it.
    Usb,
    /// A memory card slot.
    Mmc,
    /// SCSI or SAS.
    Scsi,
    /// A virtual machine's disk.
    Virtio,
    /// A loop device over a file.
    Loop,
    /// A plain file.
    File,
    /// An image with a drive in it.
    Image,
    /// Another bench lends it over the network.
    Network,
    /// Anything else.
    Other,
}

impl Bus {
    /// The word for a screen, without an article: `SATA in a USB box`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Sata => "SATA",
            Self::UsbSata => "SATA in a USB box",
            Self::Nvme => "NVMe",
            Self::UsbNvme => "NVMe in a USB box",
            Self::Ide => "IDE",
            Self::Usb => "USB",
            Self::Mmc => "memory card",
            Self::Scsi => "SCSI",
            Self::Virtio => "virtual disk",
            Self::Loop => "loop device",
            Self::File => "file",
            Self::Image => "image",
            Self::Network => "borrowed",
            Self::Other => "other",
        }
    }
}

impl fmt::Display for Bus {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(name(*self))
    }
}

/// The name used in files and JSON, the same that serde writes.
fn name(bus: Bus) -> &'static str {
    match bus {
        Bus::Sata => "sata",
        Bus::UsbSata => "usb-sata",
        Bus::Nvme => "nvme",
        Bus::UsbNvme => "usb-nvme",
        Bus::Ide => "ide",
        Bus::Usb => "usb",
        Bus::Mmc => "mmc",
        Bus::Scsi => "scsi",
        Bus::Virtio => "virtio",
        Bus::Loop => "loop",
        Bus::File => "file",
        Bus::Image => "image",
        Bus::Network => "network",
        Bus::Other => "other",
    }
}

/// What a drive says it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Identity {
    /// The drive's own model name where it can be had, else what the box or the file name says.
    pub model: String,
    /// The drive's own serial, or the box's; empty where neither tells one.
    pub serial: String,
    /// Firmware revision; empty where unknown.
    pub firmware: String,
    /// Connection.
    pub bus: Bus,
    /// Whether it has turning platters; `None` where nobody says.
    pub rotational: Option<bool>,
    /// Whether the medium can be taken out of the device.
    pub removable: bool,
    /// Whether it refuses writes.
    pub read_only: bool,
    /// What the adapter says of itself, where it differs from the drive behind it.
    pub adapter: Option<String>,
    /// Where the drive was found.
    pub path: PathBuf,
}

impl Identity {
    /// An identity for a plain file at `path`.
    pub fn of_file(path: &Path) -> Self {
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        Self {
            model: name,
            serial: String::new(),
            firmware: String::new(),
            bus: Bus::File,
            rotational: None,
            removable: false,
            read_only: false,
            adapter: None,
            path: path.to_path_buf(),
        }
    }

    /// The tail: the last four letters or digits of the serial, of the file name's stem where there is no serial.
    /// Upper or lower case as it stands there; empty where there is nothing to take it from.
    pub fn tail(&self) -> String {
        let stem = || {
            let name = self.path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            let stem = name.split_once('.').map_or(name.as_str(), |(stem, _)| if stem.is_empty() { &name } else { stem });
            stem.to_string()
        };
        let from = if self.serial.chars().any(char::is_alphanumeric) { self.serial.clone() } else { stem() };
        let letters: Vec<char> = from.chars().filter(|c| c.is_alphanumeric()).collect();
        letters[letters.len().saturating_sub(4)..].iter().collect()
    }

    /// Whether `typed` releases this drive. Case and spaces around it do not matter; an empty tail never matches.
    pub fn tail_matches(&self, typed: &str) -> bool {
        let tail = self.tail();
        !tail.is_empty() && typed.trim().to_lowercase() == tail.to_lowercase()
    }

    /// A key that stays the same when the drive is unplugged and comes back elsewhere: model and serial, or the
    /// path and size where there is no serial.
    pub fn key(&self, size_bytes: u64) -> String {
        if self.serial.is_empty() {
            format!("{}|{}|{size_bytes}", self.bus, crate::paths::real(&self.path).display())
        } else {
            format!("{}|{}|{size_bytes}", self.model, self.serial)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("TM25-0091-7F3C", "/dev/sdb", "7F3C")]
    #[case("CN96-4410-0F2A  ", "/dev/sdb", "0F2A")]
    #[case("A-1", "/dev/sdb", "A1")]
    #[case("", "/images/field-laptop.img", "ptop")]
    #[case("", "/images/field-laptop.drive.toml", "ptop")]
    #[case("---", "/images/x7.raw", "x7")]
    #[case("", "/images/.img", "img")]
    fn the_tail(#[case] serial: &str, #[case] path: &str, #[case] tail: &str) {
        let identity = Identity { serial: serial.into(), ..Identity::of_file(Path::new(path)) };
        assert_eq!(identity.tail(), tail);
        assert!(identity.tail_matches(&format!(" {} ", tail.to_lowercase())));
        assert!(!identity.tail_matches(&tail[1..]));
        assert!(!identity.tail_matches(""));
    }
}
