//! Dig: the files of a drive. The tree left, the preview right, the tray below.

mod draw;
mod keys;
mod view;

pub use draw::draw;
pub use keys::{hints, key};
pub use view::{Choice, Dig, choices};
