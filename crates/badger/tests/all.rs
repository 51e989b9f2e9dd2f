//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod cli;
mod destinations;
mod fit;
mod images;
mod killed;
mod lend;
mod licence;
mod rooms;
mod salvage;
mod screens;
mod support;
mod volumes;
