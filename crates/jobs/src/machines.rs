//! Machines that a target may go into: those that come along, and those that a workshop described.

use badger_bench::Bench;
use badger_system::Machine;
use badger_system::machine::SHIPPED;
use std::path::PathBuf;

/// Where a workshop keeps its own, one file each, `NAME.machine.toml`.
pub fn folder(bench: &Bench) -> PathBuf {
    bench.ledger.with_file_name("machines")
}

/// All of them, a workshop's own first. Files that are none are left out: asked for by name they say what is wrong.
pub fn all(bench: &Bench) -> Vec<Machine> {
    let files = std::fs::read_dir(folder(bench)).into_iter().flatten().flatten().map(|entry| entry.path());
    let mut own: Vec<PathBuf> = files.filter(|path| path.to_string_lossy().ends_with(".machine.toml")).collect();
    own.sort();
    let own = own.iter().filter_map(|path| Machine::find(&path.to_string_lossy()).ok());
    own.chain(SHIPPED.iter().filter_map(|(_, text)| Machine::parse(text).ok())).collect()
}
