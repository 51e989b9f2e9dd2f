//! Why a run ends before its end.

use badger_drive::WriteError;
use std::io;

/// Why a run ended before there was nothing more to do. All of these can be gone on with.
#[derive(Debug, thiserror::Error)]
pub enum Break {
    /// The technician stopped it.
    #[error("stopped; give the same command again to go on")]
    Stopped,
    /// A limit is reached.
    #[error("{0}; give the same command again to go on")]
    Limit(String),
    /// The drive does not come back.
    #[error("the source does not answer any more ({0}); let it cool, plug it in again and give the same command")]
    SourceGone(String),
    /// The target did not take a write.
    #[error("target: {0}")]
    Target(#[from] WriteError),
    /// The map could not be written.
    #[error("the map cannot be written: {0}; make room for it and give the same command again")]
    Map(#[from] io::Error),
}
