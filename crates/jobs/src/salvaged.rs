//! What there is of a drive while it is salvaged: whose a place is, and how many files are whole.

use badger_bench::Bench;
use badger_drive::Refusal;
use badger_salvage::file;
use badger_salvage::holed::{self, Owners};
use std::ops::Range;
use std::path::Path;

/// So many names are told of a place.
const MOST_NAMES: usize = 3;

/// Whose a place is, as far as that is saved by now: a range of bytes of the drive that `map` is of.
///
/// # Errors
/// The map, or its target, cannot be opened.
pub fn owners(bench: &Bench, map: &Path, range: &Range<u64>, stop: &dyn Fn() -> bool) -> Result<Owners, Refusal> {
    let drive = bench.workshop.source(map)?;
    Ok(holed::owners(&drive, range, MOST_NAMES, stop))
}

/// How many files are whole by now, and how many are not.
///
/// # Errors
/// The map, or its target, cannot be opened.
pub fn counted(bench: &Bench, map: &Path, stop: &dyn Fn() -> bool) -> Result<(u64, u64), Refusal> {
    let drive = bench.workshop.source(map)?;
    let loaded = file::load(map).map_err(|error| Refusal::new("map-damaged", format!("{}: {error}", map.display())))?;
    let files = holed::files(&drive, &loaded.map, stop);
    Ok((files.whole, files.holed.len() as u64))
}
