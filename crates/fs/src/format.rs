//! What is known of a format: one entry for each in the list of `recognise.rs`.

use crate::cached::Cached;
use crate::finding::Result;
use crate::tree::{Tree, Volume};
use crate::volume::{Recognised, Stretch};

/// Bytes at the start of a stretch that every format gets to see.
pub(crate) const HEAD: usize = 4096;

/// Tells what stands in a stretch by its first [`HEAD`] bytes and a few reads; `None` where it is another format.
pub(crate) type Recognise = fn(&Stretch, &[u8]) -> Option<Recognised>;

/// Opens every volume that lies in a place: one, or several where it is a container.
pub(crate) type Open = fn(Cached) -> Result<Vec<Box<dyn Volume>>>;

/// Opens what lies in a place for its files alone.
pub(crate) type Files = fn(Cached) -> Result<Box<dyn Tree>>;

/// A format.
pub(crate) struct Format {
    /// How it is told.
    pub recognise: Recognise,
    /// How it is opened; `None` where its structures are not checked here.
    pub open: Option<Open>,
    /// How it is opened where only its files are read.
    pub files: Option<Files>,
}

/// The volume that stands in a place by itself.
pub(crate) fn alone(volume: impl Volume + 'static) -> Vec<Box<dyn Volume>> {
    vec![Box::new(volume)]
}
