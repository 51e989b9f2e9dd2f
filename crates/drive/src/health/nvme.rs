//! Health of NVMe drives: log page 2 (NVM Express base specification, SMART / Health Information).

use super::facts::Facts;
use crate::field::{le16, le64};

/// The number of the log page.
pub(crate) const PAGE: u8 = 2;

/// The bits of its first byte.
const WARNINGS: [&str; 5] = [
    "its spare cells run out",
    "it is too hot or too cold",
    "it says that it is not reliable any more",
    "it takes no more writes",
    "what keeps its cache through a power cut has failed",
];

/// Reads the page; false where it is empty.
pub(crate) fn log(data: &[u8; 512], facts: &mut Facts) -> bool {
    if data.iter().all(|byte| *byte == 0) {
        return false;
    }
    // Counts of 16 bytes; what does not fit into 8 is more than any drive lives through.
    let count = |at: usize| if le64(data, at + 8) == 0 { le64(data, at) } else { u64::MAX };
    let kelvin = i64::from(le16(data, 1));
    facts.celsius = (kelvin > 0).then(|| kelvin - 273);
    facts.spare_percent = Some(u64::from(data[3]));
    facts.used_percent = Some(u64::from(data[5]));
    // In thousands of 512 bytes.
    facts.written_bytes = Some(count(48).saturating_mul(512_000));
    (facts.starts, facts.hours, facts.unreadable) = (Some(count(112)), Some(count(128)), Some(count(160)));
    let set = WARNINGS.iter().enumerate().filter(|(bit, _)| data[0] >> bit & 1 != 0);
    facts.warnings.extend(set.map(|(_, warning)| (*warning).to_string()));
    true
}
