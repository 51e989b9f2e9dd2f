//! Health of ATA drives: the attributes and thresholds of SMART, and the device statistics log (ACS-3, 9.5).

use super::facts::Facts;
use crate::field::{le16, le32, le64};

/// One attribute of the 30 that SMART READ DATA gives: number, flags, present value, raw value.
struct Attribute {
    id: u8,
    /// The drive's maker says that it fails when the value falls to the threshold.
    foretells: bool,
    value: u8,
    raw: u64,
}

/// The sum of all bytes of a SMART structure is 0 (ATA/ATAPI-7, 6.54).
fn is_sound(data: &[u8; 512]) -> bool {
    data.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)) == 0
}

/// 362 bytes of attributes behind two of a version.
fn attributes(data: &[u8; 512]) -> Option<Vec<Attribute>> {
    if !is_sound(data) {
        return None;
    }
    let each = data[2..362].chunks_exact(12).filter(|entry| entry[0] != 0);
    Some(
        each.map(|entry| Attribute {
            id: entry[0],
            foretells: entry[1] & 1 != 0,
            value: entry[3],
            raw: u64::from(le32(entry, 5)) | u64::from(le16(entry, 9)) << 32,
        })
        .collect(),
    )
}

/// What SMART READ DATA and SMART READ THRESHOLDS say. The numbers of attributes are the makers' custom; of those that
/// mean different things with different makers none is read.
pub(crate) fn smart(data: &[u8; 512], thresholds: Option<&[u8; 512]>, facts: &mut Facts) -> bool {
    let Some(attributes) = attributes(data) else { return false };
    let thresholds = thresholds.filter(|all| is_sound(all));
    for Attribute { id, foretells, value, raw } in attributes {
        // Some keep other counts in the upper half.
        let low = raw & 0xffff_ffff;
        match id {
            5 => facts.replaced = Some(low),
            9 => facts.hours = Some(raw & 0xff_ffff),
            12 => facts.starts = Some(low),
            187 => facts.unreadable = Some(low & 0xffff),
            194 => facts.celsius = Some(i64::from(raw as u8 as i8)),
            197 => facts.waiting = Some(low),
            199 => facts.cable_errors = Some(low),
            _ => {}
        }
        let limit = thresholds.and_then(|all| all[2..362].chunks_exact(12).find(|entry| entry[0] == id)).map(|entry| entry[1]);
        if foretells && limit.is_some_and(|limit| limit > 0 && limit < 254 && value > 0 && value <= limit) {
            facts.warnings.push(format!("its value {id} has fallen to {value}, as low as its maker allows"));
        }
    }
    true
}

/// The pages of the device statistics log that are asked for.
pub(crate) const STATISTICS: [u8; 6] = [1, 3, 4, 5, 6, 7];

/// The pages that page 0 of the device statistics log lists (ACS-3, A.5.2).
pub(crate) fn listed(data: &[u8; 512]) -> Vec<u8> {
    if le16(data, 0) == 0 || data[2] != 0 {
        return Vec::new();
    }
    data[9..].iter().take(usize::from(data[8])).copied().collect()
}

/// One page of the device statistics log (ACS-3, A.5): what it says counts more than attributes.
pub(crate) fn statistics(page: u8, data: &[u8; 512], facts: &mut Facts) {
    if le16(data, 0) == 0 || data[2] != page {
        return;
    }
    // Eight bytes each, of which the last says that the drive has it and that it is good.
    let value = |at: usize| Some(le64(data, at) & 0x00ff_ffff_ffff_ffff).filter(|_| data[at + 7] & 0xc0 == 0xc0);
    let short = |at: usize| value(at).map(|_| u64::from(le32(data, at)));
    let set = |fact: &mut Option<u64>, found: Option<u64>| *fact = found.or(*fact);
    match page {
        1 => {
            set(&mut facts.starts, short(8));
            set(&mut facts.hours, short(16));
            set(&mut facts.written_bytes, value(24).map(|sectors| sectors.saturating_mul(512)));
        }
        3 => {
            set(&mut facts.replaced, short(32));
            set(&mut facts.waiting, short(56));
        }
        4 => set(&mut facts.unreadable, short(8)),
        5 => facts.celsius = value(8).map(|byte| i64::from(byte as u8 as i8)).or(facts.celsius),
        6 => set(&mut facts.cable_errors, short(24)),
        7 => set(&mut facts.used_percent, value(8).map(|byte| byte & 0xff)),
        _ => {}
    }
}
