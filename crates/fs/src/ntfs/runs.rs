//! Run lists: where the clusters of a stream lie, as they are read and as they are written.

use badger_drive::field::le16;

/// Clusters that lie behind each other: the first one (`None` for a hole), and how many.
pub(super) type Run = (Option<u64>, u64);

/// The runs of a non-resident attribute, up to the first that is damaged.
pub(super) fn runs(attribute: &[u8]) -> Vec<Run> {
    let mut out = Vec::new();
    let mut at = le16(attribute, 32) as usize;
    let mut cluster = 0i64;
    while let Some(&head) = attribute.get(at).filter(|head| **head != 0) {
        let (len, jump) = ((head & 15) as usize, (head >> 4) as usize);
        let number = |at: usize, width: usize, signed: bool| -> Option<i64> {
            let bytes = attribute.get(at..at + width).filter(|_| width <= 8)?;
            let negative = signed && bytes.last().is_some_and(|byte| byte & 0x80 != 0);
            let mut wide = [if negative { 0xff } else { 0 }; 8];
            wide[..width].copy_from_slice(bytes);
            Some(i64::from_le_bytes(wide))
        };
        let (Some(count), Some(delta)) = (number(at + 1, len, false), number(at + 1 + len, jump, true)) else { break };
        if count <= 0 {
            break;
        }
        cluster = cluster.wrapping_add(delta);
        // In front of the volume nothing lies: what such a run stands for is not known, and no hole.
        if jump > 0 && cluster < 0 {
            break;
        }
        out.push(((jump > 0).then_some(cluster as u64), count as u64));
        at += 1 + len + jump;
    }
    out
}

/// The bytes a number takes, with its sign.
fn signed(value: i64) -> Vec<u8> {
    let bytes = value.to_le_bytes();
    let mut len = 8;
    while len > 1 && (bytes[len - 1] == 0 && bytes[len - 2] < 0x80 || bytes[len - 1] == 0xff && bytes[len - 2] >= 0x80) {
        len -= 1;
    }
    bytes[..len].to_vec()
}

/// A run list as it is written, with its end.
pub(super) fn packed(runs: &[Run]) -> Vec<u8> {
    let (mut out, mut before) = (Vec::new(), 0i64);
    for (first, len) in runs {
        let len = signed(*len as i64);
        let jump = first.map(|first| {
            let jump = signed(first as i64 - before);
            before = first as i64;
            jump
        });
        let jump = jump.unwrap_or_default();
        out.push((jump.len() << 4 | len.len()) as u8);
        out.extend(len);
        out.extend(jump);
    }
    out.push(0);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn run_lists_are_read_as_they_were_written(list in prop::collection::vec((prop::option::of(0u64..1 << 40), 1u64..1 << 33), 1..60)) {
            let mut attribute = vec![0; 64];
            attribute[32] = 64;
            attribute.extend(packed(&list));
            prop_assert_eq!(runs(&attribute), list);
        }
    }
}
