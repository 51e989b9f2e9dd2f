//! Asking an ATA drive, by way of SCSI (SAT, ATA PASS-THROUGH(16)), and what it says of itself.

use crate::sys;
use std::fs::File;
use std::io;

/// A command to an ATA drive (ACS-3, 7).
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct AtaCommand {
    pub command: u8,
    pub features: u8,
    pub lba: u32,
    /// With 48 bits for places.
    pub extended: bool,
}

impl AtaCommand {
    /// The bytes of ATA PASS-THROUGH(16): one block of 512 bytes from the drive, or no data and the registers back.
    fn bytes(self, data: bool) -> [u8; 16] {
        let [low, mid, high, _] = self.lba.to_le_bytes();
        let mut bytes = [0u8; 16];
        bytes[0] = 0x85;
        bytes[1] = if data { 4 << 1 } else { 3 << 1 } | u8::from(self.extended);
        // From the device, in blocks, as many as the sector count says; or with the registers in the sense data.
        bytes[2] = if data { 0x0e } else { 0x20 };
        bytes[4] = self.features;
        bytes[6] = u8::from(data);
        (bytes[8], bytes[10], bytes[12], bytes[14]) = (low, mid, high, self.command);
        bytes
    }

    /// Asks for 512 bytes.
    pub fn read(self, device: &File) -> io::Result<[u8; 512]> {
        let mut data = [0u8; 512];
        sys::scsi(device, &self.bytes(true), &mut data)?;
        Ok(data)
    }

    /// Asks without data; gives the middle and the high byte of the place as the drive left them.
    pub fn registers(self, device: &File) -> io::Result<(u8, u8)> {
        let sense = sys::scsi(device, &self.bytes(false), &mut [])?.sense;
        match sense[0] & 0x7f {
            // SAT, 12.2.6: an ATA Status Return descriptor, or its fixed form.
            0x72 | 0x73 if sense[8] == 9 => Ok((sense[17], sense[19])),
            0x70 | 0x71 => Ok((sense[10], sense[11])),
            _ => Err(io::Error::other("the adapter does not give the registers back")),
        }
    }
}

/// Asks for the identity: IDENTIFY DEVICE.
pub(crate) fn identify(device: &File) -> io::Result<[u8; 512]> {
    AtaCommand { command: 0xec, ..AtaCommand::default() }.read(device)
}

/// The parts of ATA's IDENTIFY DEVICE data (ACS-3, 7.12) that tell drives apart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AtaIdentity {
    /// Model, words 27 to 46.
    pub model: String,
    /// Serial, words 10 to 19.
    pub serial: String,
    /// Firmware revision, words 23 to 26.
    pub firmware: String,
    /// Whether word 76 speaks of Serial ATA.
    pub serial_ata: bool,
}

impl AtaIdentity {
    /// Reads the 512 bytes; `None` where they carry no model name.
    pub fn parse(words: &[u8]) -> Option<Self> {
        let text = |from: usize, to: usize| {
            let bytes = words.get(from * 2..(to + 1) * 2)?;
            let swapped: Vec<u8> = bytes.chunks(2).flat_map(|pair| [pair[1], pair[0]]).filter(|byte| (0x20..0x7f).contains(byte)).collect();
            Some(String::from_utf8_lossy(&swapped).trim().to_string())
        };
        let model = text(27, 46)?;
        let capability = u16::from_le_bytes([*words.get(152)?, *words.get(153)?]);
        (!model.is_empty()).then_some(())?;
        Some(Self { model, serial: text(10, 19)?, firmware: text(23, 26)?, serial_ata: capability != 0 && capability != 0xffff })
    }
}
