//! What it takes to make a drive writable.

use crate::identity::Identity;
use crate::medium::{Geometry, Medium, ReadError};
use crate::source::Source;
use std::path::Path;
use std::sync::Arc;

/// What is needed to release a target.
pub struct Release<'a> {
    /// What will be read; it must have nothing in common with the target.
    pub source: &'a Source,
    /// Bytes the target must have.
    pub needed: u64,
    /// What was typed.
    pub tail: &'a str,
    /// Stretches that the run overwrites in any case, start and length in bytes: there the trip-wire may lie.
    pub overwritten: &'a [(u64, u64)],
    /// How far the same bytes may lie further on the source than on the target, were they the same storage: the
    /// beginnings of partitions. No distance is always looked at.
    pub shifts: &'a [i128],
}

impl<'a> Release<'a> {
    /// A release without a place for the trip-wire.
    pub fn new(source: &'a Source, needed: u64, tail: &'a str) -> Self {
        Self { source, needed, tail, overwritten: &[], shifts: &[] }
    }
}

/// A drive without bytes, that stands on nothing.
struct Nothing(Identity);

impl Medium for Nothing {
    fn geometry(&self) -> Geometry {
        Geometry { size_bytes: 0, logical_sector: 512, physical_sector: 512 }
    }
    fn identity(&self) -> &Identity {
        &self.0
    }
    fn read_at(&self, offset: u64, _buf: &mut [u8]) -> Result<(), ReadError> {
        Err(ReadError::Gone(format!("there is nothing at byte {offset}")))
    }
}

/// What is read where nothing is.
pub(crate) fn nothing() -> Source {
    Source::detached(Arc::new(Nothing(Identity::of_file(Path::new("nothing")))))
}
