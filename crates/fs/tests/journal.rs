//! Journals of ext volumes that were not carried out, judged by the kernel's own replay.

use crate::support::{image, run};
use badger_drive::field::be32;
use badger_fs::Weight;
use rstest::rstest;
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
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
    let fs = crate::support::open(image);
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
    let survey = crate::support::open(image).survey();
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

/// A fast commit that does not end as it should: the kernel does not mount the volume, and nothing of it is trusted.
#[test]
fn a_first_fast_commit_that_is_damaged_is_not_trusted() {
    let (dir, torn) = busy(&["-O", "fast_commit"], "loop,data=ordered");
    let mut bytes = fs::read(&torn).unwrap();
    let tag = |bytes: &[u8], at: usize| u16::from_le_bytes([bytes[at], bytes[at + 1]]);
    // Those of the transaction that follows the last whole one; a head of 8 bytes begins them, an added range follows.
    let heads: Vec<usize> =
        (0..bytes.len()).step_by(4096).filter(|at| bytes[*at..*at + 4] == [9, 0, 8, 0] && (1..10).contains(&tag(&bytes, at + 12))).collect();
    assert_eq!(heads.len(), 1);
    bytes[heads[0] + 40] ^= 1;
    fs::write(&torn, bytes).unwrap();
    assert_eq!(kernels(&dir, &torn), None);
    assert!(broken(&torn));
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

/// A volume as a machine leaves it in the middle of its work: files written, grown, cut off, renamed, linked, deleted while
/// they are open; some of it in transactions, some in fast commits, some only begun.
fn busy(features: &[&str], options: &str) -> (TempDir, PathBuf) {
    let (dir, path) = image(64);
    run(&[&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096"], features, &[path.to_str().unwrap()]].concat());
    let place = dir.path().join("mnt");
    mount(&path, &place, options);
    let at = |name: &str| place.join(name);
    fs::create_dir(at("sheets")).unwrap();
    for number in 0..60usize {
        fs::write(at(&format!("sheets/f{number}")), crate::support::noise(number * 3000 + 10, number as u64 + 1)).unwrap();
    }
    run(&["sync"]);
    (0..60).step_by(2).for_each(|number| fs::remove_file(at(&format!("sheets/f{number}"))).unwrap());
    let open = |name: &str| OpenOptions::new().write(true).open(at(name)).unwrap();
    (1..60).step_by(4).for_each(|number| open(&format!("sheets/f{number}")).set_len(1000).unwrap());
    (0..20).for_each(|number| fs::write(at(&format!("sheets/g{number}")), crate::support::noise(9000, number + 99)).unwrap());
    let held = fs::File::open(at("sheets/f59")).unwrap();
    fs::remove_file(at("sheets/f59")).unwrap();
    for number in 0..10usize {
        let mut file = OpenOptions::new().append(true).open(at(&format!("sheets/g{number}"))).unwrap();
        file.write_all(&crate::support::noise(7000 * number, 7)).unwrap();
        file.sync_all().unwrap();
        fs::rename(at(&format!("sheets/g{number}")), at(&format!("sheets/h{number}"))).unwrap();
        fs::hard_link(at(&format!("sheets/h{number}")), at(&format!("sheets/second {number}"))).unwrap();
        let mut file = OpenOptions::new().create(true).append(true).open(at(&format!("new {number}.txt"))).unwrap();
        file.write_all(&crate::support::noise(5000, 8)).unwrap();
        file.sync_all().unwrap();
    }
    let torn = dir.path().join("torn.img");
    run(&["cp", path.to_str().unwrap(), torn.to_str().unwrap()]);
    drop(held);
    run(&["umount", place.to_str().unwrap()]);
    (dir, torn)
}

/// Path, length and hash of every file.
type Files = std::collections::BTreeMap<String, (u64, blake3::Hash)>;

#[rstest]
#[case::ordered(&[], "loop,data=ordered")]
#[case::with_data(&[], "loop,data=journal")]
#[case::orphan_file(&["-O", "orphan_file"], "loop,data=journal")]
#[case::no_checksums(&["-O", "^metadata_csum"], "loop,data=ordered")]
#[case::fast(&["-O", "fast_commit"], "loop,data=ordered")]
#[case::fast_small_inodes(&["-O", "fast_commit", "-I", "128"], "loop,data=ordered")]
fn a_machine_that_lost_its_power_at_work_is_read_as_the_kernel_reads_it(#[case] features: &[&str], #[case] options: &str) {
    let is_fast = features.contains(&"fast_commit");
    let pending = |torn: &Path| {
        let findings = crate::support::open(torn).survey().findings;
        findings.into_iter().find(|finding| finding.code == "journal-pending").map(|finding| finding.text).unwrap_or_default()
    };
    // Somebody else's sync makes whole commits of fast ones: it is played until nobody did.
    let mut played = (0..20).map(|_| busy(features, options));
    let (dir, torn) = played.find(|(_, torn)| pending(torn).contains("fast commits") == is_fast).expect("such a moment");
    let there = crate::support::open(&torn);
    let mut ours = Files::new();
    let findings = badger_fs::walk::walk(&*there, there.root().unwrap(), "", &mut |path, entry| {
        if entry.node.kind == badger_fs::tree::NodeKind::File {
            let hash = crate::support::hashed(&*there, &entry.node, "").unwrap();
            ours.insert(path.into(), (entry.node.size, blake3::Hash::from_bytes(hash.try_into().unwrap())));
        }
    });
    assert_eq!(findings, []);
    let copy = dir.path().join("judge.img");
    fs::copy(&torn, &copy).unwrap();
    let place = dir.path().join("judge");
    mount(&copy, &place, "loop");
    let mut kernels = Files::new();
    for folder in ["", "/sheets"] {
        for entry in fs::read_dir(place.join(folder.trim_start_matches('/'))).unwrap().map(Result::unwrap) {
            if entry.file_type().unwrap().is_file() {
                let bytes = fs::read(entry.path()).unwrap();
                kernels.insert(format!("{folder}/{}", entry.file_name().to_string_lossy()), (bytes.len() as u64, blake3::hash(&bytes)));
            }
        }
    }
    run(&["umount", place.to_str().unwrap()]);
    assert_eq!(ours.keys().collect::<Vec<_>>(), kernels.keys().collect::<Vec<_>>());
    assert_eq!(ours, kernels);
    // Nothing of it is damage: a start of its own system sets all of it right.
    let survey = there.survey();
    let faults: Vec<_> = survey.findings.iter().filter(|finding| finding.weight > Weight::Note).collect();
    assert_eq!(faults, Vec::<&badger_fs::Finding>::new());
    assert!(!pending(&torn).is_empty());
}
