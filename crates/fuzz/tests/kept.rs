//! Every kept input, and some that nobody kept, are taken by their target.

use badger_fuzz::{TARGETS, kept, target};
use rstest::rstest;
use std::time::{Duration, Instant};

/// What one input may take, with what the target makes once.
const LONGEST: Duration = Duration::from_secs(60);

fn replay(names: &[&str]) {
    for name in names {
        let target = target(name).unwrap();
        let began = Instant::now();
        let inputs: Vec<_> = (target.samples)().into_iter().chain(kept(name).unwrap()).collect();
        inputs.iter().for_each(|input| (target.read)(input));
        println!("{name}: {} inputs in {:?}", inputs.len(), began.elapsed());
        assert!(began.elapsed() < LONGEST, "{name}: {} inputs took {:?}", inputs.len(), began.elapsed());
    }
}

// Parts that take about as long as each other.
#[rstest]
#[case::volumes(&["fat", "exfat", "ntfs", "ext", "ext-sums", "xfs", "btrfs"])]
#[case::images(&["qcow2", "vhd", "vhdx", "vmdk", "vdi", "own", "own-cut"])]
#[case::locked(&["own-locked"])]
#[case::tables(&["gpt", "mbr", "apm"])]
#[case::starts(&["start", "boot-store", "registry", "registry-log", "initramfs", "program", "firmware-key"])]
#[case::records(&["copy-journal", "fetch-journal", "mend-journal", "salvage-map", "salvage-pieces"])]
#[case::texts(&["description", "settings", "preview", "health"])]
#[case::talks(&["nbd-server", "nbd-client", "licence-service"])]
fn kept_inputs_are_taken(#[case] names: &[&str]) {
    replay(names);
}

/// No target is left out above.
#[test]
fn all_targets_are_replayed() {
    let own = include_str!("kept.rs");
    TARGETS.iter().for_each(|target| assert!(own.contains(&format!("{:?}", target.name)), "{} is not replayed", target.name));
}
