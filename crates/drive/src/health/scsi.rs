//! Health of SCSI drives, and of boxes that answer as such: log pages of SPC-4 and SBC-3.

use super::facts::Facts;
use crate::field::be16;

/// The log pages that are asked for: temperature, solid state media, informational exceptions, background scan.
pub(crate) const PAGES: [u8; 4] = [0x0d, 0x11, 0x2f, 0x15];

/// Additional sense codes of the informational exceptions that foretell a failure.
const FORETOLD: u8 = 0x5d;

/// Reads one log page; false where it is none.
pub(crate) fn log(page: u8, data: &[u8], facts: &mut Facts) -> bool {
    if data.len() < 8 || data[0] & 0x3f != page {
        return false;
    }
    let len = usize::from(be16(data, 2));
    let mut at = 4;
    let mut found = false;
    while let Some(head) = data.get(at..at + 4).filter(|_| at < 4 + len) {
        let (number, size) = (be16(head, 0), usize::from(head[3]));
        let Some(value) = data.get(at + 4..at + 4 + size) else { break };
        match (page, number) {
            (0x0d, 0) if size >= 2 && value[1] != 0xff => facts.celsius = Some(i64::from(value[1])),
            (0x11, 1) if size >= 4 => facts.used_percent = Some(u64::from(value[3])),
            (0x2f, 0) if size >= 2 && value[0] == FORETOLD => facts.warnings.push("it says itself that it fails soon".into()),
            (0x15, 0) if size >= 4 => facts.hours = Some(u64::from(u32::from_be_bytes([value[0], value[1], value[2], value[3]])) / 60),
            _ => {
                at += 4 + size;
                continue;
            }
        }
        found = true;
        at += 4 + size;
    }
    found
}
