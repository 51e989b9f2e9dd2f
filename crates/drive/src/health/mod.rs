//! A drive's health: what it says of itself by way of the system, never by reading its sectors. Nothing is switched on or
//! changed in the drive for it.

mod ata;
mod facts;
mod nvme;
mod scsi;

use crate::ata::AtaCommand;
use crate::identity::Bus;
use crate::sys;
pub use facts::{Facts, Health, State};
use std::fs::File;
use std::io;

/// Whoever passes questions on to a drive.
pub trait Ask {
    /// SMART READ DATA, 512 bytes.
    fn smart(&self) -> io::Result<[u8; 512]>;

    /// SMART READ THRESHOLDS, 512 bytes.
    fn thresholds(&self) -> io::Result<[u8; 512]>;

    /// SMART RETURN STATUS: whether the drive calls itself sound.
    fn calls_itself_sound(&self) -> io::Result<bool>;

    /// A page of the device statistics log, 512 bytes.
    fn statistics(&self, page: u8) -> io::Result<[u8; 512]>;

    /// A log page of an NVMe controller, 512 bytes.
    fn nvme_log(&self, page: u8) -> io::Result<[u8; 512]>;

    /// LOG SENSE of a SCSI drive, cumulative values, up to 512 bytes.
    fn scsi_log(&self, page: u8) -> io::Result<Vec<u8>>;
}

/// An open block device.
impl Ask for File {
    fn smart(&self) -> io::Result<[u8; 512]> {
        SMART.with(0xd0).read(self)
    }

    fn thresholds(&self) -> io::Result<[u8; 512]> {
        SMART.with(0xd1).read(self)
    }

    fn calls_itself_sound(&self) -> io::Result<bool> {
        match SMART.with(0xda).registers(self)? {
            (0x4f, 0xc2) => Ok(true),
            (0xf4, 0x2c) => Ok(false),
            _ => Err(io::Error::other("the adapter gives other registers back")),
        }
    }

    fn statistics(&self, page: u8) -> io::Result<[u8; 512]> {
        // READ LOG EXT, log 4: the page's number stands in the second byte of the place.
        AtaCommand { command: 0x2f, lba: 4 | u32::from(page) << 8, extended: true, ..AtaCommand::default() }.read(self)
    }

    fn nvme_log(&self, page: u8) -> io::Result<[u8; 512]> {
        sys::nvme_log(self, page)
    }

    fn scsi_log(&self, page: u8) -> io::Result<Vec<u8>> {
        let mut data = vec![0; 512];
        let command = [0x4d, 0, 0x40 | page, 0, 0, 0, 0, 2, 0, 0];
        let answer = sys::scsi(self, &command, &mut data)?;
        if answer.status == 0 { Ok(data) } else { Err(io::Error::other("it does not know the log page")) }
    }
}

/// SMART, with the place that makes the command count.
const SMART: AtaCommand = AtaCommand { command: 0xb0, features: 0, lba: 0x00c2_4f00, extended: false };

impl AtaCommand {
    const fn with(self, features: u8) -> Self {
        Self { features, ..self }
    }
}

/// Asks a drive on a bus how it is.
pub fn ask(drive: &dyn Ask, bus: Bus) -> Health {
    match bus {
        Bus::Nvme => of_nvme(drive),
        Bus::Sata | Bus::UsbSata | Bus::Ide => of_ata(drive),
        // Whatever passes ATA commands on has told its drive's identity that way and stands above.
        Bus::Usb | Bus::UsbNvme | Bus::Scsi | Bus::Other => of_scsi(drive),
        Bus::Virtio => Health::unknown("a virtual disk has none of its own"),
        Bus::Loop | Bus::File => Health::unknown("a file has none of its own; ask the drive it lies on"),
        Bus::Image => Health::unknown("an image has none of its own"),
        Bus::Network => Health::unknown("a borrowed drive passes no question on; ask on the bench that lends it"),
        Bus::Mmc => Health::unknown("memory cards do not say"),
    }
}

fn of_nvme(drive: &dyn Ask) -> Health {
    let mut facts = Facts::default();
    match drive.nvme_log(nvme::PAGE) {
        Ok(data) if nvme::log(&data, &mut facts) => Health::of(facts, "NVMe health log"),
        Ok(_) => Health::unknown("its health log is empty"),
        Err(error) => Health::unknown(&said(&error)),
    }
}

fn of_ata(drive: &dyn Ask) -> Health {
    let mut facts = Facts::default();
    let data = match drive.smart() {
        Ok(data) => data,
        Err(error) => return Health::unknown(&said(&error)),
    };
    let sound = drive.calls_itself_sound();
    let thresholds = drive.thresholds().ok();
    let known = ata::smart(&data, thresholds.as_ref(), &mut facts);
    // Only what it lists is asked for, and a drive that refuses, or takes too long over it, is left in peace.
    let there = drive.statistics(0).map(|list| ata::listed(&list)).unwrap_or_default();
    for page in ata::STATISTICS.into_iter().filter(|page| there.contains(page)) {
        match drive.statistics(page) {
            Ok(data) => ata::statistics(page, &data, &mut facts),
            Err(_) => break,
        }
    }
    if matches!(sound, Ok(false)) && facts.warnings.is_empty() {
        facts.warnings.push("it says itself that it fails".into());
    }
    if !known && facts.is_empty() {
        return Health::unknown("what it answers is no health data");
    }
    Health::of(facts, "SMART")
}

fn of_scsi(drive: &dyn Ask) -> Health {
    let mut facts = Facts::default();
    let mut known = false;
    for page in scsi::PAGES {
        known |= drive.scsi_log(page).is_ok_and(|data| scsi::log(page, &data, &mut facts));
    }
    if known { Health::of(facts, "SCSI log pages") } else { Health::unknown("the box passes no question about it on to the drive") }
}

fn said(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::PermissionDenied => "it may not be asked without more rights".into(),
        _ => format!("it cannot be asked: {error}"),
    }
}
