//! Tables made by the system's own tools are read, and tables written here are judged by them.

use badger_drive::medium::MemoryMedium;
use badger_drive::{Medium, Workshop};
use badger_layout::plan::{self, Ids, Side};
use badger_layout::table::{self, Detail};
use badger_layout::{Kind, Table};
use proptest::prelude::*;
use rstest::rstest;
use std::fs::{self, File};
use std::io::{Seek, SeekFrom, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use tempfile::TempDir;

const MIB: u64 = 1 << 20;

struct Disk {
    _dir: TempDir,
    path: PathBuf,
}

/// A sparse file divided by sfdisk.
fn disk(size: u64, script: &str) -> Disk {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("disk.img");
    File::create(&path).unwrap().set_len(size).unwrap();
    let mut sfdisk = Command::new("sfdisk").arg("-q").arg(&path).stdin(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    sfdisk.stdin.take().unwrap().write_all(script.as_bytes()).unwrap();
    assert!(sfdisk.wait().unwrap().success());
    Disk { _dir: dir, path }
}

fn read(path: &Path) -> Table {
    let source = Workshop::default().source(path).unwrap();
    table::read(&*source)
}

fn codes(table: &Table) -> Vec<&'static str> {
    table.problems.iter().map(|problem| problem.code).collect()
}

fn patch(path: &Path, at: u64, bytes: &[u8]) {
    let file = fs::OpenOptions::new().write(true).open(path).unwrap();
    file.write_all_at(bytes, at).unwrap();
}

/// What the system's tool says about a disk, for comparison.
fn sfdisk_json(path: &Path) -> serde_json::Value {
    let out = Command::new("sfdisk").arg("--json").arg(path).output().unwrap();
    serde_json::from_slice(&out.stdout).unwrap()
}

fn judged_sound(path: &Path) {
    let sfdisk = Command::new("sfdisk").args(["--verify", "-q"]).arg(path).output().unwrap();
    assert!(sfdisk.status.success(), "{}", String::from_utf8_lossy(&sfdisk.stderr));
    let sgdisk = Command::new("sgdisk").arg("-v").arg(path).output().unwrap();
    let text = String::from_utf8_lossy(&sgdisk.stdout);
    assert!(text.contains("No problems found"), "{text}");
}

const GPT: &str = "label: gpt\nsize=100MiB, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, name=\"EFI\"\nsize=16MiB, type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE\nsize=300MiB, name=\"Pläne\", attrs=LegacyBIOSBootable\n";
const MBR: &str = "label: dos\nstart=2048, size=100MiB, type=7, bootable\nsize=50MiB, type=c\nsize=200MiB, type=f\nsize=60MiB, type=83\nsize=40MiB, type=82\nsize=20MiB, type=83\n";

#[rstest]
#[case::gpt(GPT)]
#[case::mbr_with_logical_partitions(MBR)]
#[case::gpt_with_gaps("label: gpt\nfirst-lba: 34\nstart=40, size=7\nstart=999999, size=3, type=swap\n")]
#[case::mbr_one("label: dos\nstart=63, size=1000, type=b\n")]
fn the_same_is_read_as_by_the_systems_tool(#[case] script: &str) {
    let disk = disk(600 * MIB, script);
    let (table, json) = (read(&disk.path), sfdisk_json(&disk.path));
    let json = &json["partitiontable"];
    assert_eq!(codes(&table), Vec::<&str>::new());
    assert_eq!(table.disk_id.to_lowercase(), json["id"].as_str().unwrap().trim_start_matches("0x").to_lowercase());
    let theirs = json["partitions"].as_array().unwrap();
    assert_eq!(table.partitions.len(), theirs.len());
    for (mine, other) in table.partitions.iter().zip(theirs) {
        assert!(other["node"].as_str().unwrap().ends_with(&mine.number.to_string()));
        assert_eq!(mine.start, other["start"].as_u64().unwrap());
        assert_eq!(mine.sectors, other["size"].as_u64().unwrap());
        let code = mine.type_code.code();
        let kind = other["type"].as_str().unwrap();
        assert!(code.eq_ignore_ascii_case(kind) || code.trim_start_matches("0x").trim_start_matches('0').eq_ignore_ascii_case(kind), "{code} {kind}");
        assert_eq!(mine.name, other["name"].as_str().unwrap_or(""));
        if table.kind == Kind::Gpt {
            assert_eq!(mine.id, other["uuid"].as_str().unwrap());
        } else {
            assert_eq!(mine.bootable, other["bootable"].as_bool().unwrap_or(false));
        }
    }
}

#[rstest]
#[case::header("gpt-primary-damaged", 512 + 60)]
#[case::entries("gpt-primary-damaged", 1024 + 5)]
#[case::second_header("gpt-backup-damaged", 600 * MIB - 512 + 60)]
#[case::second_entries("gpt-backup-damaged", 600 * MIB - 33 * 512 + 5)]
fn one_damaged_copy_costs_nothing_but_itself(#[case] code: &str, #[case] at: u64) {
    let disk = disk(600 * MIB, GPT);
    let before = read(&disk.path);
    // Some of these places hold a random identifier: whatever is there becomes something else.
    let mut byte = [0];
    fs::File::open(&disk.path).unwrap().read_exact_at(&mut byte, at).unwrap();
    patch(&disk.path, at, &[!byte[0]]);
    let after = read(&disk.path);
    assert_eq!(codes(&after), [code]);
    assert!(!after.is_sound());
    assert_eq!((after.partitions, after.disk_id), (before.partitions, before.disk_id));
}

#[test]
fn both_copies_damaged_is_said_and_not_guessed() {
    let disk = disk(600 * MIB, GPT);
    patch(&disk.path, 512 + 60, b"\x99");
    patch(&disk.path, 600 * MIB - 512 + 60, b"\x99");
    let table = read(&disk.path);
    assert_eq!(table.kind, Kind::Gpt);
    assert!(codes(&table).contains(&"gpt-both-damaged"));
    assert!(table.partitions.is_empty());
}

#[test]
fn a_drive_that_grew_or_shrank_is_noticed() {
    let disk = disk(600 * MIB, GPT);
    let file = fs::OpenOptions::new().write(true).open(&disk.path).unwrap();
    file.set_len(700 * MIB).unwrap();
    let table = read(&disk.path);
    assert!(codes(&table).contains(&"gpt-backup-not-at-end") && table.is_sound(), "{:?}", codes(&table));
    file.set_len(500 * MIB).unwrap();
    let table = read(&disk.path);
    assert!(codes(&table).contains(&"gpt-past-end") && !table.is_sound());
    assert_eq!(table.partitions.len(), 3);
}

#[test]
fn a_hybrid_table_is_a_gpt_with_a_warning() {
    let disk = disk(600 * MIB, GPT);
    assert!(Command::new("sgdisk").args(["-h", "1:3"]).arg(&disk.path).output().unwrap().status.success());
    let table = read(&disk.path);
    assert_eq!(table.kind, Kind::Gpt);
    assert!(codes(&table).contains(&"gpt-hybrid"), "{:?}", codes(&table));
}

#[rstest]
fn entries_of_another_size_are_read_and_written(#[values(128, 256, 512)] slot_size: u32) {
    let disk = disk(600 * MIB, GPT);
    let Detail::Gpt(mut gpt) = read(&disk.path).detail else { panic!("no GPT") };
    gpt.slot_size = slot_size;
    gpt.entries.iter_mut().for_each(|entry| entry.extra = vec![7; slot_size as usize - 128]);
    (gpt.first_usable, gpt.slots) = (2048, 64);
    gpt.fit_to(600 * MIB / 512, 512);
    for (at, bytes) in gpt.write(512) {
        patch(&disk.path, at * 512, &bytes);
    }
    let table = read(&disk.path);
    assert_eq!(codes(&table), Vec::<&str>::new());
    assert_eq!(table.detail, Detail::Gpt(gpt));
}

#[rstest]
#[case("mkfs.fat", &["-F", "32", "-S", "512"], Kind::None)]
#[case("mkntfs", &["-F", "-Q", "-q"], Kind::None)]
#[case("mkfs.exfat", &[], Kind::None)]
#[case("mke2fs", &["-q", "-F"], Kind::None)]
fn a_file_system_without_a_table_is_no_table(#[case] tool: &str, #[case] args: &[&str], #[case] kind: Kind) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("floppy.img");
    File::create(&path).unwrap().set_len(100 * MIB).unwrap();
    assert!(Command::new(tool).args(args).arg(&path).output().unwrap().status.success());
    let table = read(&path);
    assert_eq!(table.kind, kind);
    assert_eq!(table.partitions.iter().map(|partition| (partition.number, partition.start)).collect::<Vec<_>>(), [(0, 0)]);
}

#[test]
fn an_empty_drive_has_nothing() {
    let table = table::read(&MemoryMedium::new(vec![0; 4 << 20], 512));
    assert_eq!((table.kind, table.partitions.len(), table.is_sound()), (Kind::None, 0, true));
}

fn side(path: &Path) -> Side {
    let size_bytes = fs::metadata(path).unwrap().len();
    Side { key: path.display().to_string(), size_bytes, sector: 512, physical: 512 }
}

/// Carries a plan out the simplest way there is.
fn carry_out(plan: &plan::Plan, from: &Path, to: &Path) {
    let source = Workshop::default().source(from).unwrap();
    let mut target = fs::OpenOptions::new().write(true).open(to).unwrap();
    for step in &plan.moves {
        let mut bytes = vec![0; step.len as usize];
        source.read_at(step.from, &mut bytes).unwrap();
        target.seek(SeekFrom::Start(step.to)).unwrap();
        target.write_all(&bytes).unwrap();
    }
    for piece in &plan.patches {
        patch(to, piece.at, &piece.bytes);
    }
}

#[rstest]
#[case::larger(GPT, 900 * MIB, Ids::Keep)]
#[case::a_little_larger(GPT, 600 * MIB + 512, Ids::Keep)]
#[case::same_size(GPT, 600 * MIB, Ids::Keep)]
#[case::same_size_fresh(GPT, 600 * MIB, Ids::Fresh)]
#[case::larger_fresh(GPT, 900 * MIB, Ids::Fresh)]
#[case::mbr_larger(MBR, 900 * MIB, Ids::Keep)]
#[case::mbr_fresh(MBR, 600 * MIB, Ids::Fresh)]
fn planned_tables_are_sound_to_other_judges(#[case] script: &str, #[case] size: u64, #[case] ids: Ids) {
    let disk = disk(600 * MIB, script);
    let to = disk.path.with_file_name("target.img");
    File::create(&to).unwrap().set_len(size).unwrap();
    let before = read(&disk.path);
    let mut turn = 0;
    let random = || {
        turn += 1;
        [turn; 16]
    };
    let plan = plan::exact(&before, &side(&disk.path), &side(&to), ids, random).unwrap();
    carry_out(&plan, &disk.path, &to);
    let after = read(&to);
    assert_eq!(codes(&after), Vec::<&str>::new());
    assert_eq!(plan.differences(&after), Vec::<String>::new());
    if after.kind == Kind::Gpt {
        judged_sound(&to);
    }
    assert_eq!(before.disk_id == after.disk_id, ids == Ids::Keep);
    let places =
        |table: &Table| table.partitions.iter().map(|partition| (partition.start, partition.sectors, partition.name.clone())).collect::<Vec<_>>();
    assert_eq!(places(&before), places(&after));
}

#[test]
fn a_smaller_target_and_other_sectors_are_refused() {
    let disk = disk(600 * MIB, GPT);
    let table = read(&disk.path);
    let source = side(&disk.path);
    let refused = |size: u64, sector: u32| {
        plan::exact(&table, &source, &Side { size_bytes: size, sector, ..source.clone() }, Ids::Keep, || [1; 16]).unwrap_err().code
    };
    assert_eq!(refused(600 * MIB - 512, 512), "target-too-small");
    assert_eq!(refused(900 * MIB, 4096), "sector-differs");
}

#[test]
fn four_kilobyte_sectors_are_read_where_they_are() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("disk.img");
    File::create(&path).unwrap().set_len(600 * MIB).unwrap();
    // The image tool of the system divides only 512-byte files, so this table is written here and read as a file again.
    let original = disk(600 * MIB, GPT);
    let Detail::Gpt(mut gpt) = read(&original.path).detail else { panic!("no GPT") };
    gpt.entries.iter_mut().for_each(|entry| (entry.first, entry.last) = (entry.first / 8, (entry.last + 1) / 8 - 1));
    (gpt.first_usable, gpt.entries_at) = (6, 2);
    gpt.fit_to(600 * MIB / 4096, 4096);
    for (at, bytes) in gpt.write(4096) {
        patch(&path, at * 4096, &bytes);
    }
    let source = Workshop::default().source(&path).unwrap();
    assert_eq!(source.geometry().logical_sector, 4096);
    let table = table::read(&*source);
    assert_eq!(codes(&table), Vec::<&str>::new());
    assert_eq!(table.partitions[0].start, 256);
}

/// A small drive with a real table on it, to be damaged.
fn sample(script: &str) -> Vec<u8> {
    let size = 4 * MIB;
    let disk = disk(size, script);
    fs::read(&disk.path).unwrap()
}

fn samples() -> &'static [Vec<u8>] {
    static SAMPLES: std::sync::OnceLock<Vec<Vec<u8>>> = std::sync::OnceLock::new();
    SAMPLES.get_or_init(|| {
        let gpt = "label: gpt\nfirst-lba: 34\nstart=40, size=100\nsize=1000\n";
        let mbr = "label: dos\nstart=64, size=100, type=7\nstart=200, size=4000, type=5\nstart=264, size=64\nstart=400, size=64\n";
        vec![sample(gpt), sample(mbr)]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn mutated_tables_never_panic(which in 0usize..2, changes in prop::collection::vec((0usize..40 * 512, any::<u8>()), 1..40), end in prop::collection::vec((0usize..34 * 512, any::<u8>()), 0..10), sector in prop::sample::select(vec![512u32, 4096])) {
        let mut bytes = samples()[which].clone();
        let len = bytes.len();
        changes.into_iter().for_each(|(at, byte)| bytes[at] = byte);
        end.into_iter().for_each(|(at, byte)| bytes[len - 1 - at] = byte);
        let table = table::read(&MemoryMedium::new(bytes, sector));
        prop_assert!(table.partitions.len() <= 4 + 256 + (1 << 20) / 128);
        table.data_partitions();
        let side = Side { key: "a".into(), size_bytes: len as u64, sector, physical: sector };
        let _ = plan::exact(&table, &side, &Side { size_bytes: len as u64 * 2, ..side.clone() }, Ids::Fresh, || [3; 16]);
    }

    #[test]
    fn arbitrary_bytes_never_panic(mut bytes in prop::collection::vec(any::<u8>(), 4096..40_000), mark in any::<bool>(), protective in any::<bool>()) {
        if mark { bytes[510..512].copy_from_slice(&[0x55, 0xaa]); }
        if protective { bytes[450] = 0xee; bytes[512..520].copy_from_slice(b"EFI PART"); }
        let table = table::read(&MemoryMedium::new(bytes, 512));
        table.at_sector(5);
    }

    #[test]
    fn a_gpt_that_is_written_is_read_again(names in prop::collection::vec("[a-zA-Zäöü ]{0,30}", 1..20), seed in any::<[u8; 16]>(), sectors in 20_000u64..3_000_000_000) {
        let base = table::read(&MemoryMedium::new(samples()[0].clone(), 512));
        let Detail::Gpt(mut gpt) = base.detail else { panic!("no GPT") };
        let pattern = gpt.entries[0].clone();
        gpt.entries = names.iter().zip(0u32..).map(|(name, slot)| {
            let mut entry = pattern.clone();
            entry.slot = slot * 3;
            entry.first = 100 + u64::from(slot) * 500;
            entry.last = entry.first + 399;
            entry.id.0 = seed;
            entry.id.0[0] = slot as u8;
            entry.attributes = u64::from_le_bytes(seed[..8].try_into().unwrap());
            entry.name = [0; 36];
            for (place, unit) in entry.name.iter_mut().zip(name.encode_utf16()) { *place = unit; }
            entry
        }).collect();
        gpt.disk_id.0 = seed;
        gpt.fit_to(sectors, 512);
        let written = gpt.write(512);
        let mut fetch = |at: u64, count: u64| {
            written.iter().find(|(start, _)| *start == at).map(|(_, bytes)| bytes[..(count * 512) as usize].to_vec())
        };
        let (read, problems) = badger_layout::gpt::read(&mut fetch, &gpt.mbr, sectors, 512).unwrap();
        prop_assert_eq!(problems, vec![]);
        prop_assert_eq!(read, gpt);
    }
}

/// A medium that answers nothing must not keep anybody.
#[test]
fn a_drive_that_reads_nothing_has_no_table() {
    struct Dead(MemoryMedium);
    impl Medium for Dead {
        fn geometry(&self) -> badger_drive::Geometry {
            self.0.geometry()
        }
        fn identity(&self) -> &badger_drive::Identity {
            self.0.identity()
        }
        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), badger_drive::ReadError> {
            Err(badger_drive::ReadError::Unreadable { offset, len: buf.len() as u64, why: "dead".into() })
        }
    }
    let table = table::read(&Dead(MemoryMedium::new(vec![0; 1 << 20], 512)));
    assert_eq!(codes(&table), ["mbr-unreadable"]);
}
