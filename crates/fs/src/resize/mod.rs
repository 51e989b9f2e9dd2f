//! A volume as it would be with another size, at another place, on a drive with other sectors. Nothing is written: what
//! comes out is a [`View`], which reads like the changed volume while every byte still lies on the source.

mod relocate;
mod view;

use crate::finding::{Finding, Result, Weight};
use crate::survey::Survey;
pub(crate) use relocate::{Relocation, tidy};
use serde::{Deserialize, Serialize};
use std::ops::Range;
pub use view::View;

/// How small and how large a volume can become, in bytes. Sizes are taken down to whole units.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Bounds {
    /// The least size.
    pub least: u64,
    /// The greatest size.
    pub most: u64,
    /// Bytes of a cluster or block.
    pub unit: u64,
}

/// Where a volume is to stand and how long it is to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wanted {
    /// Bytes of its partition.
    pub len: u64,
    /// First sector of its partition, in the target's sectors.
    pub start: u64,
    /// Bytes of the target's sectors.
    pub sector: u32,
    /// Where the volume gets another identifier: bytes to make it of.
    pub fresh: Option<[u8; 16]>,
}

/// What is in use inside a stretch of bytes, as sorted runs of units; the stretch begins with unit `first`.
pub(crate) fn units(survey: &Survey, within: Range<u64>, unit: u64, first: u64) -> Vec<Range<u64>> {
    let number = |byte: u64| (byte - within.start) / unit + first;
    let mut out: Vec<Range<u64>> = Vec::new();
    for (range, _) in survey.usage.within(within.clone()) {
        let (start, end) = (number(range.start), number(range.end - 1) + 1);
        match out.last_mut() {
            Some(last) if last.end >= start => last.end = end,
            _ => out.push(start..end),
        }
    }
    out
}

/// Why a volume can only be copied as it is.
pub(crate) fn refused(code: &'static str, why: impl Into<String>) -> Finding {
    Finding::new(code, why)
}

/// The first reason in a survey why a volume must not be changed.
///
/// # Errors
/// That reason.
pub(crate) fn must_be_sound(survey: &Survey) -> Result<()> {
    let open = ["volume-dirty", "volume-asleep", "ntfs-log-pending"];
    let reason = |finding: &&Finding| finding.weight > Weight::Note || open.contains(&finding.code);
    survey.findings.iter().find(reason).map_or(Ok(()), |finding| Err(finding.clone()))
}

/// How many units runs have together.
pub(crate) fn total(runs: &[Range<u64>]) -> u64 {
    runs.iter().map(|run| run.end - run.start).sum()
}

/// `value` up to a multiple of `step`.
pub(crate) fn up(value: u64, step: u64) -> u64 {
    value.div_ceil(step) * step
}
