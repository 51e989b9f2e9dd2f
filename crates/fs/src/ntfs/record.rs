//! What makes a system refuse a file record.

use badger_drive::field::{le16, le32, le64};

/// Kinds of attributes: from standard information to the stream of logged utilities, in steps of 16.
const KINDS: std::ops::RangeInclusive<u32> = 0x10..=0x100;
const END: u32 = u32::MAX;

/// What is wrong with an attribute by itself.
fn attribute_fault(code: u32, one: &[u8]) -> Option<&'static str> {
    let (len, name_len, name_at) = (one.len(), usize::from(one[9]), usize::from(le16(one, 10)));
    if one[8] > 1 {
        return Some("an attribute is neither within the record nor outside");
    }
    if name_len > 0 && (name_at < 24 || name_at + name_len * 2 > len) {
        return Some("the name of an attribute leads out of it");
    }
    if one[8] == 1 {
        let pairs = usize::from(le16(one, 32));
        if len < 64 || pairs < 64 || pairs >= len {
            return Some("a run list leads out of its attribute");
        }
        let (low, high) = (le64(one, 16) as i64, le64(one, 24) as i64);
        let (allocated, size, written) = (le64(one, 40), le64(one, 48), le64(one, 56));
        let first = low == 0;
        if low < 0 || high < low - 1 || first && ((allocated | size | written) >> 63 != 0 || size > allocated || written > size) {
            return Some("the sizes of an attribute contradict each other");
        }
        // These stand in the record itself.
        return matches!(code, 0x10 | 0x30 | 0x40 | 0x60 | 0x70 | 0x90).then_some("an attribute lies outside that must not");
    }
    let (value_len, value_at) = (le32(one, 16) as usize, usize::from(le16(one, 20)));
    if value_at < 24 || value_at.checked_add(value_len).is_none_or(|end| end > len) {
        return Some("a value leads out of its attribute");
    }
    let value = &one[value_at..value_at + value_len];
    let short = match code {
        0x10 => value_len < 48,
        0x30 => value_len < 66 || 66 + usize::from(value[64]) * 2 > value_len || value[64] == 0,
        0x40 => value_len < 16,
        0x70 => value_len < 12,
        0x90 => {
            let (first, used, room) = (le32(value, 16) as usize, le32(value, 20) as usize, le32(value, 24) as usize);
            value_len < 32 || first < 16 || used < first || room < used || 16 + used > value_len
        }
        0xa0 => true,
        0xc0 => value_len < 8 || value_len < 8 + usize::from(le16(value, 4)),
        _ => false,
    };
    short.then_some("an attribute is too short for what it holds")
}

/// Why a system would refuse a record with its update sequence undone, if it would.
pub(super) fn record_fault(record: &[u8]) -> Option<&'static str> {
    let (mut at, used, room) = (usize::from(le16(record, 20)), le32(record, 24) as usize, le32(record, 28) as usize);
    let sequence = usize::from(le16(record, 4)) + usize::from(le16(record, 6)) * 2;
    if room != record.len() || used > room || !at.is_multiple_of(8) || at < sequence || at + 8 > used {
        return Some("its sizes contradict each other");
    }
    let mut before = 0;
    loop {
        let code = le32(record, at);
        if code == END {
            return None;
        }
        let len = le32(record, at + 4) as usize;
        if !code.is_multiple_of(16) || !KINDS.contains(&code) || code < before {
            return Some("its attributes are of no kind, or out of order");
        }
        let Some(one) = record.get(at..at.saturating_add(len)).filter(|_| len >= 24 && len.is_multiple_of(8) && at + len + 4 <= used) else {
            return Some("an attribute leads out of it");
        };
        if let Some(what) = attribute_fault(code, one) {
            return Some(what);
        }
        before = code;
        at += len;
        if at + 4 > used {
            return Some("its attributes do not end");
        }
    }
}
