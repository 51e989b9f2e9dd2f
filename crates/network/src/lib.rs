//! Drives over the network: lent to other benches and borrowed from them, by the NBD protocol (the NBD project's `doc/proto.md`
//! and `doc/uri.md`).

mod borrowed;
mod export;
mod kind;
mod lend;
mod link;
mod negotiate;
mod protocol;
mod serve;
mod uri;
mod wire;

pub use borrowed::Borrowed;
pub use export::{Export, Says, list};
pub use kind::BORROWED;
pub use lend::{Lender, Lending, Note};
pub use serve::{Lent, Shelf};
pub use uri::{PORT, Uri, Way, encoded};
pub use wire::lender as identified;
