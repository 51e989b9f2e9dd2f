//! Journals of ext volumes that were not carried out, judged by the kernel's own replay.

mod support;

use badger_drive::field::be32;
use badger_fs::Weight;
use rstest::rstest;
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use support::{image, run};
use tempfile::TempDir;

const FILES: usize = 24;

fn mount(image: &Path, place: &Path, options: &str) {
    fs::create_dir_all(place).unwrap();
    run(&["mount", "-o", options, image.to_str().unwrap(), place.to_str().unwrap()]);
}

/// A volume as a machine leaves it that loses its power: 24 files, each in a transaction of its own.
fn torn(features: &[&str], options: &str) -> (TempDir, PathBuf) {
    let (dir, path) = image(64);
    run(&[&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096"], features, &[path.to_str().unwrap()]].concat());
    let place = dir.path().join("mnt");
    mount(&path, &place, options);
    for number in 0..FILES {
        let mut file = OpenOptions::new().create(true).append(true).open(place.join(format!("new {number}.txt"))).unwrap();
        file.write_all(format!("high water {number}").as_bytes()).unwrap();
        file.sync_all().unwrap();
    }
    let torn = dir.path().join("torn.img");
    run(&["cp", path.to_str().unwrap(), torn.to_str().unwrap()]);
    run(&["umount", place.to_str().unwrap()]);
    (dir, torn)
}

/// What this program reads of the files, those that are there.
fn ours(image: &Path) -> Vec<Option<String>> {
    let fs = support::open(image);
    let read = |number: usize| {
        let node = badger_fs::tree::find(&*fs, &format!("/new {number}.txt")).ok()?;
        let mut bytes = vec![0; node.size as usize];
        fs.read(&node, 0, &mut bytes).ok()?;
        Some(String::from_utf8_lossy(&bytes).into_owned())
    };
    (0..FILES).map(read).collect()
}

/// What the kernel reads of them after its replay; `None` where it does not mount the volume.
fn kernels(dir: &TempDir, image: &Path) -> Option<Vec<Option<String>>> {
    let (copy, place) = (dir.path().join("copy.img"), dir.path().join("judge"));
    fs::copy(image, &copy).unwrap();
    fs::create_dir_all(&place).unwrap();
    let out = std::process::Command::new("mount").args(["-o", "loop"]).arg(&copy).arg(&place).output().unwrap();
    if !out.status.success() {
        return None;
    }
    let read = (0..FILES).map(|number| fs::read_to_string(place.join(format!("new {number}.txt"))).ok()).collect();
    run(&["umount", place.to_str().unwrap()]);
    Some(read)
}

/// Places of the commit blocks of the journal, in order of the transactions.
fn commits(bytes: &[u8]) -> Vec<usize> {
    let mut all: Vec<(u32, usize)> = (0..bytes.len() / 4096)
        .map(|number| number * 4096)
        .filter(|at| be32(bytes, *at) == 0xc03b_3998 && be32(bytes, *at + 4) == 2)
        .map(|at| (be32(bytes, at + 8), at))
        .collect();
    all.sort_unstable();
    all.into_iter().map(|(_, at)| at).collect()
}

fn broken(image: &Path) -> bool {
    let survey = support::open(image).survey();
    survey.findings.iter().any(|finding| finding.code == "journal-broken" && finding.weight == Weight::Grave)
}

#[rstest]
#[case::third(&[], "loop")]
#[case::none(&["-O", "^metadata_csum"], "loop")]
#[case::over_transactions(&["-O", "^metadata_csum"], "loop,journal_checksum")]
#[case::asynchronous(&["-O", "^metadata_csum"], "loop,data=writeback,journal_async_commit")]
#[case::narrow(&["-O", "^64bit,^metadata_csum"], "loop,journal_checksum")]
fn a_journal_is_replayed_as_the_kernel_replays_it(#[case] features: &[&str], #[case] options: &str) {
    let (dir, torn) = torn(features, options);
    let seen = ours(&torn);
    assert!(seen.iter().flatten().count() > FILES / 2);
    assert_eq!(Some(seen), kernels(&dir, &torn));
    assert!(!broken(&torn));
}

#[test]
fn a_commit_that_the_kernel_tolerates_is_no_end() {
    let (dir, torn) = torn(&[], "loop");
    let mut bytes = fs::read(&torn).unwrap();
    let places = commits(&bytes);
    assert!(places.len() > FILES / 2);
    // The header is right by itself; what lies behind it belongs to nobody.
    places.iter().for_each(|at| bytes[at + 100..at + 200].fill(0x5a));
    fs::write(&torn, bytes).unwrap();
    let seen = ours(&torn);
    assert_eq!(seen.iter().flatten().count(), FILES);
    assert_eq!(Some(seen), kernels(&dir, &torn));
    assert!(!broken(&torn));
}

#[rstest]
#[case::commit(&[], "loop", 40)]
#[case::over_a_transaction(&["-O", "^metadata_csum"], "loop,journal_checksum", 16)]
fn a_journal_that_ends_where_it_should_not_is_not_trusted(#[case] features: &[&str], #[case] options: &str, #[case] at: usize) {
    let (dir, torn) = torn(features, options);
    let mut bytes = fs::read(&torn).unwrap();
    let places = commits(&bytes);
    bytes[places[places.len() / 2] + at] ^= 0x40;
    fs::write(&torn, bytes).unwrap();
    assert!(broken(&torn));
    // The kernel does not take it either, or not further than this.
    assert!(kernels(&dir, &torn).is_none_or(|kernels| kernels == ours(&torn)));
}

#[test]
fn a_block_of_a_transaction_that_is_wrong_is_not_trusted() {
    let (_dir, torn) = torn(&[], "loop");
    let mut bytes = fs::read(&torn).unwrap();
    let places = commits(&bytes);
    bytes[places[places.len() / 2] - 4096 + 77] ^= 1;
    fs::write(&torn, bytes).unwrap();
    assert!(broken(&torn));
}
