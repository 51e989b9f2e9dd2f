//! The files of an opened tree, as a technician goes through them: rows, previews, searches, counts and copies, each made in
//! a thread of its own.

pub mod preview;
pub mod rows;
pub mod work;
