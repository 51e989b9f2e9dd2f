//! What starts a machine: registry files, boot chains link by link. Reads only what it is given, and knows no interface.

pub mod registry;
