//! Our own format, which `docs/formats/image.md` describes: records one behind the other, each by itself whole or not.

mod crypt;
mod entry;
mod estimate;
mod make;
mod mend;
mod read;
mod record;
mod scan;
mod shelf;
mod write;

pub use crypt::Passphrase;
pub use estimate::{Estimate, estimate};
pub use make::{Made, Making, Onto, give_up, goes_on_from, made, make};
pub use mend::{Account, Mended};
pub use read::{Image, Shown};
pub(crate) use record::is_first;
pub use scan::Damage;
pub use shelf::{LEFT_FREE, Volumes};
pub use write::Head;

/// Bytes of the drive that are packed as one.
pub const CHUNK: u64 = 64 << 10;
/// Chunks that one page of the map tells of.
pub const GROUP: u64 = 1024;
