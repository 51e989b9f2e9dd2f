//! A bench over a directory of simulated drives and raw files.
#![allow(dead_code)]

use badger_bench::Bench;
use badger_drive::{Refusal, Workshop};
use badger_jobs::{Order, Prepared, Ready};
use badger_transfer::events::Silent;
use badger_transfer::{Control, Observer, Report};
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

pub const MIB: usize = 1 << 20;

/// Bytes that look like nothing in particular, the same for the same seed.
pub fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut bytes = vec![0; len];
    for piece in bytes.chunks_mut(8) {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        piece.copy_from_slice(&state.to_le_bytes()[..piece.len()]);
    }
    bytes
}

pub struct Shop {
    pub dir: TempDir,
    pub bench: Bench,
}

impl Shop {
    /// In memory where the machine allows it: nothing here asks what a disk does.
    pub fn new() -> Self {
        let dir = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap();
        let workshop = Workshop { no_waiting: true, shelf: Some(dir.path().join("shelf")), ..badger_bench::workshop() };
        let ledger = dir.path().join("ledger.db");
        Self { bench: Bench { workshop, ledger, config: Default::default() }, dir }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// A drive with this content, serial and faults.
    pub fn drive(&self, name: &str, content: &[u8], serial: &str, faults: &str) -> PathBuf {
        fs::write(self.path(&format!("{name}.img")), content).unwrap();
        self.describe(name, name, serial, faults)
    }

    pub fn describe(&self, name: &str, backing: &str, serial: &str, faults: &str) -> PathBuf {
        let path = self.path(&format!("{name}.drive.toml"));
        let text = format!("backing = \"{backing}.img\"\n[identity]\nmodel = \"Ostrel Plain\"\nserial = \"{serial}\"\nbus = \"sata\"\n{faults}");
        fs::write(&path, text).unwrap();
        path
    }

    pub fn content(&self, name: &str) -> Vec<u8> {
        fs::read(self.path(&format!("{name}.img"))).unwrap()
    }

    /// Looks at both drives and plans.
    pub fn prepared(&self, order: &Order) -> Result<Prepared, Refusal> {
        Prepared::of(&self.bench, order)
    }

    /// Plans to the end.
    pub fn ready(&self, order: &Order) -> Result<Ready, Refusal> {
        self.prepared(order)?.settle(&Control::new(), &Silent).map_err(|(_, refusal)| refusal)
    }

    /// Prepares and runs with the right tail.
    pub fn run(&self, order: &Order, control: &Control, observer: &dyn Observer) -> Result<Report, Refusal> {
        let ready = self.ready(order)?;
        let tail = ready.prepared.candidate.tail();
        ready.run(&self.bench, &tail, control, observer)
    }

    pub fn clone(&self, from: &Path, onto: &Path) -> Result<Report, Refusal> {
        self.run(&Order::new(from, onto), &Control::new(), &Silent)
    }
}
