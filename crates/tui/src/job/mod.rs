//! Jobs on the screen: those that are open, and the five steps of the one in hand.

mod asking;
mod draw;
mod entry;
mod fit;
mod hand;
mod imaging;
mod keep;
mod keys;
mod lines;
mod look;
mod mending;
mod mends;
mod open;
mod plan;
mod prove;
mod rehearses;
mod rehearsing;
mod rescue;
mod rescuing;
mod run;
mod salvaging;
mod standing;
mod view;

pub use draw::{draw, hints};
pub use keep::usual_file;
pub use open::{Listed, OpenJobs};
pub use rescue::map_beside;
pub use view::JobView;
