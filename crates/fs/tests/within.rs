//! The files whose insides are tested, which lean on few others of the library: with them alone it need not be compiled twice.

#![allow(dead_code)]

#[path = "../src/bits.rs"]
mod bits;
#[path = "../src/ext/hash.rs"]
mod hash;
#[path = "../src/unpack/lznt1.rs"]
mod lznt1;
#[path = "../src/unpack/lzo.rs"]
mod lzo;
#[path = "../src/unpack/lzx.rs"]
mod lzx;
#[path = "../src/resize/relocate.rs"]
mod relocate;
#[path = "../src/ntfs/runs.rs"]
mod runs;
#[path = "../src/resize/view.rs"]
mod view;
#[path = "../src/unpack/words.rs"]
mod words;
#[path = "../src/unpack/xpress.rs"]
mod xpress;
