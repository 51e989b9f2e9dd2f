//! Plans that fit partitions to another drive: judged by the system's own partition tools, and by rules no plan may break.

use badger_drive::{Refusal, Source, Workshop};
use badger_layout::fit::{self, Limits, Part};
use badger_layout::plan::{Fit, Ids, Side};
use badger_layout::{Kind, Plan, Rules, Table, table};
use proptest::prelude::*;
use rstest::rstest;
use std::fs::File;
use std::io::Write;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::{Command, Stdio};
use tempfile::TempDir;

const MIB: u64 = 1 << 20;
const GIB: u64 = 1 << 30;

fn side(size: u64, sector: u32) -> Side {
    Side { key: "k".into(), size_bytes: size, sector, physical: 4096 }
}

fn random() -> impl FnMut() -> [u8; 16] {
    let mut turn = 0u8;
    move || {
        turn += 1;
        [turn; 16]
    }
}

/// A table made by the system's own tool from a script.
fn made(dir: &TempDir, size: u64, script: &str) -> Table {
    let path = dir.path().join("from.img");
    File::create(&path).unwrap().set_len(size).unwrap();
    let mut child = Command::new("sfdisk").args(["-q", "-w", "always"]).arg(&path).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.as_mut().unwrap().write_all(script.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    read(&path)
}

fn read(path: &Path) -> Table {
    let source: Source = Workshop::default().source(path).unwrap();
    table::read(&*source)
}

/// Every data partition can become as small as a quarter and as large as anything; those for the system's own ends cannot.
fn parts(table: &Table) -> Vec<Part> {
    let part = |partition: &badger_layout::Partition| Part {
        number: partition.number,
        name: format!("partition {}", partition.number),
        limits: match partition.sectors * 512 {
            len if len > 600 * MIB => Ok(Limits { least: len / 4, most: 1 << 50 }),
            _ => Err("it is small".into()),
        },
        used: Some(partition.sectors * 512 / 5),
        system: partition.number <= 3,
        placed: true,
        mbr_code: 0x07,
    };
    table.data_partitions().into_iter().map(part).collect()
}

fn planned(table: &Table, size: u64, rules: &str) -> Result<Plan, Refusal> {
    let from = side(table.sectors * u64::from(table.sector), table.sector);
    fit::plan(table, &parts(table), (&from, &side(size, 512)), Ids::Keep, &rules.parse().unwrap(), random()).map(|draft| draft.plan().clone())
}

/// The table a plan writes, as the system's own tools see it.
fn judged(dir: &TempDir, plan: &Plan) -> Table {
    let path = dir.path().join("to.img");
    let file = File::create(&path).unwrap();
    file.set_len(plan.target.size_bytes).unwrap();
    plan.patches.iter().for_each(|patch| file.write_all_at(&patch.bytes, patch.at).unwrap());
    let told = Command::new("sfdisk").arg("--verify").arg(&path).output().unwrap();
    assert!(told.status.success(), "{}{}", String::from_utf8_lossy(&told.stdout), String::from_utf8_lossy(&told.stderr));
    if plan.kind == Kind::Gpt {
        let told = Command::new("sgdisk").arg("-v").arg(&path).output().unwrap();
        assert!(String::from_utf8_lossy(&told.stdout).contains("No problems found"), "{}", String::from_utf8_lossy(&told.stdout));
    }
    let table = read(&path);
    assert_eq!(table.problems, []);
    assert_eq!(plan.differences(&table), Vec::<String>::new());
    table
}

const USUAL: &str = "label: gpt\nsize=100M,type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B,name=EFI\nsize=16M,type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE\n\
    size=20G,type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7,name=System\nsize=8G,type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7,name=Scores\n\
    size=500M,type=DE94BBA4-06D1-4D40-A16A-BFD50179D6AC,name=Recovery\n";
const OLD: &str =
    "label: dos\nx1 : start=63,size=4G,type=7,bootable\nx2 : size=2G,type=83\nx3 : size=10G,type=f\nx5 : size=3G,type=7\nx6 : size=4G,type=83\n";

fn sizes(plan: &Plan) -> Vec<(u32, u64, Fit)> {
    plan.partitions.iter().filter(|one| one.from.is_some()).map(|one| (one.number, one.place(plan.target.sector).1, one.fit)).collect()
}

#[rstest]
fn the_largest_data_partition_takes_what_is_left() {
    let dir = tempfile::tempdir().unwrap();
    let table = made(&dir, 30 * GIB, USUAL);
    let plan = planned(&table, 60 * GIB, "auto").unwrap();
    judged(&dir, &plan);
    let sizes = sizes(&plan);
    assert_eq!(sizes.iter().map(|(.., fit)| *fit).collect::<Vec<_>>(), [Fit::Keep, Fit::Keep, Fit::Stretch, Fit::Keep, Fit::Keep]);
    assert!(sizes[2].1 > 50 * GIB);
    // Nothing that could be used stays behind the last one.
    let last = plan.partitions.last().unwrap().place(512);
    assert!(60 * GIB - last.0 - last.1 < 2 * MIB);
}

#[rstest]
fn too_little_room_is_taken_in_proportion_and_not_from_the_systems_own() {
    let dir = tempfile::tempdir().unwrap();
    let table = made(&dir, 30 * GIB, USUAL);
    let plan = planned(&table, 20 * GIB, "auto").unwrap();
    judged(&dir, &plan);
    let sizes = sizes(&plan);
    assert_eq!(sizes.iter().map(|(.., fit)| *fit).collect::<Vec<_>>(), [Fit::Keep, Fit::Keep, Fit::Squeeze, Fit::Squeeze, Fit::Keep]);
    let share = |at: usize, before: u64| sizes[at].1 as f64 / (before * GIB) as f64;
    assert!((share(2, 20) - share(3, 8)).abs() < 0.01, "{sizes:?}");
}

#[rstest]
#[case::by_how_much("auto", 5 * GIB, "does-not-fit", "leave out")]
#[case::kept("1-5=keep", 20 * GIB, "does-not-fit", "GB")]
#[case::less_than_it_holds("3=1GiB", 60 * GIB, "fit-too-small", "cannot become smaller than 5.37 GB")]
#[case::not_resizable("5=4GiB", 60 * GIB, "volume-whole", "it is small")]
#[case::over_another("auto,4=keep@2GiB", 60 * GIB, "fit-overlap", "cannot begin at")]
#[case::nothing("*=out", 60 * GIB, "nothing-left", "left out")]
fn what_does_not_fit_says_why(#[case] rules: &str, #[case] size: u64, #[case] code: &str, #[case] says: &str) {
    let dir = tempfile::tempdir().unwrap();
    let refusal = planned(&made(&dir, 30 * GIB, USUAL), size, rules).unwrap_err();
    assert_eq!(refusal.code, code, "{}", refusal.text);
    assert!(refusal.text.contains(says), "{}", refusal.text);
}

#[rstest]
fn sizes_and_places_are_as_they_were_asked_for() {
    let dir = tempfile::tempdir().unwrap();
    let table = made(&dir, 30 * GIB, USUAL);
    let plan = planned(&table, 60 * GIB, "auto,3=25GiB,4=fill@30GiB,5=out").unwrap();
    let after = judged(&dir, &plan);
    let place = |number: u32| plan.planned(number).map(|one| one.place(512));
    assert_eq!(place(3).map(|(_, len)| len), Some(25 * GIB));
    assert_eq!(place(4).map(|(start, _)| start), Some(30 * GIB));
    assert!(place(4).unwrap().1 > 29 * GIB);
    assert_eq!((plan.left_out.as_slice(), after.partitions.len()), ([5].as_slice(), 4));
}

#[rstest]
#[case::larger(60, &[Fit::Keep, Fit::Keep, Fit::Keep, Fit::Keep])]
fn logical_partitions_keep_their_links(#[case] gib: u64, #[case] fits: &[Fit]) {
    let dir = tempfile::tempdir().unwrap();
    let table = made(&dir, 20 * GIB, OLD);
    assert_eq!(table.data_partitions().len(), 4);
    let plan = planned(&table, gib * GIB, "1-6=keep").unwrap();
    let after = judged(&dir, &plan);
    assert_eq!(sizes(&plan).iter().map(|(.., fit)| *fit).collect::<Vec<_>>(), fits);
    assert!(after.data_partitions().iter().all(|partition| partition.start.is_multiple_of(2048)));
    assert_eq!(after.data_partitions().iter().filter(|partition| partition.logical).count(), 2);
    assert_eq!(after.disk_id, table.disk_id);
    assert!(after.partitions[0].bootable);
}

#[rstest]
fn leaving_a_logical_partition_out_renumbers_the_next() {
    let dir = tempfile::tempdir().unwrap();
    let table = made(&dir, 20 * GIB, OLD);
    let plan = planned(&table, 20 * GIB, "auto,5=out").unwrap();
    judged(&dir, &plan);
    assert_eq!((plan.number_after(5), plan.number_after(6)), (0, 5));
}

#[rstest]
fn an_mbr_becomes_a_gpt_and_a_gpt_an_mbr() {
    let dir = tempfile::tempdir().unwrap();
    let table = made(&dir, 20 * GIB, OLD);
    let plan = planned(&table, 30 * GIB, "auto,gpt").unwrap();
    let gpt = judged(&dir, &plan);
    assert_eq!((gpt.kind, gpt.partitions.len()), (Kind::Gpt, 4));
    assert_eq!(
        gpt.partitions.iter().map(|one| (one.number, one.type_code.meaning())).collect::<Vec<_>>(),
        [(1, "basic data"), (2, "Linux data"), (5, "basic data"), (6, "Linux data")]
    );
    // The active flag has its counterpart.
    assert!(gpt.partitions[0].bootable && !gpt.partitions[1].bootable);
    let table = made(&dir, 30 * GIB, USUAL);
    let plan = planned(&table, 30 * GIB, "auto,mbr").unwrap();
    let mbr = judged(&dir, &plan);
    assert_eq!((mbr.kind, plan.left_out.as_slice()), (Kind::Mbr, [2].as_slice()));
    let codes: Vec<String> = mbr.data_partitions().iter().map(|one| one.type_code.code()).collect();
    assert_eq!(codes, ["0xEF", "0x07", "0x07", "0x27"]);
    // One that stays behind has no place there, whoever has its number by now.
    assert_eq!(plan.planned(2), None);
    assert!(plan.partitions.iter().any(|planned| planned.number == 2));
}

/// Asked of all, what cannot change keeps its size; asked of it alone, that is refused.
#[test]
fn the_least_of_all_leaves_out_nobody() {
    let dir = tempfile::tempdir().unwrap();
    let table = made(&dir, 60 * GIB, USUAL);
    let plan = planned(&table, 60 * GIB, "*=least").unwrap();
    judged(&dir, &plan);
    for part in parts(&table) {
        let fit = plan.planned(part.number).unwrap().fit;
        assert_eq!(fit, if part.limits.is_ok() { Fit::Squeeze } else { Fit::Keep }, "{}", part.name);
    }
    assert_eq!(planned(&table, 60 * GIB, "5=least").unwrap_err().code, "volume-whole");
}

#[rstest]
fn an_mbr_counts_no_further_than_it_can() {
    let dir = tempfile::tempdir().unwrap();
    let table = made(&dir, 30 * GIB, USUAL);
    let plan = planned(&table, 4096 * GIB, "auto,mbr").unwrap();
    let end = plan.partitions.iter().map(|one| one.start + one.sectors).max().unwrap();
    assert!(end <= 1 << 32, "{end}");
    let refusal = planned(&table, 4096 * GIB, "auto,mbr,3=3TiB").unwrap_err();
    assert!(refusal.text.contains("counts no further than 2^32 sectors"), "{}", refusal.text);
}

#[rstest]
fn only_what_the_system_needs_comes_along() {
    let dir = tempfile::tempdir().unwrap();
    let table = made(&dir, 30 * GIB, USUAL);
    let plan = planned(&table, 60 * GIB, "auto,system").unwrap();
    judged(&dir, &plan);
    assert_eq!(plan.left_out, [4]);
}

#[rstest]
#[case(512, 4096)]
#[case(4096, 512)]
fn tables_are_written_in_the_targets_sectors(#[case] from: u32, #[case] to: u32) {
    let dir = tempfile::tempdir().unwrap();
    let mut table = made(&dir, 30 * GIB, USUAL);
    if from == 4096 {
        // As a box shows it that counts in larger sectors.
        for partition in &mut table.partitions {
            (partition.start, partition.sectors) = (partition.start / 8, partition.sectors / 8);
        }
        (table.sector, table.sectors) = (4096, table.sectors / 8);
    }
    let here = side(30 * GIB, from);
    let plan = fit::plan(&table, &parts(&table)[2..4], (&here, &side(40 * GIB, to)), Ids::Fresh, &Rules::auto(), random()).unwrap();
    let plan = plan.plan();
    let path = dir.path().join("to.img");
    let file = File::create(&path).unwrap();
    file.set_len(40 * GIB).unwrap();
    plan.patches.iter().for_each(|patch| file.write_all_at(&patch.bytes, patch.at).unwrap());
    let device =
        String::from_utf8(Command::new("losetup").args(["-f", "--show", "-b", &to.to_string()]).arg(&path).output().unwrap().stdout).unwrap();
    let told = Command::new("sfdisk").args(["--verify", device.trim()]).output().unwrap();
    Command::new("losetup").args(["-d", device.trim()]).status().unwrap();
    assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
    assert!(plan.partitions.iter().all(|one| one.place(to).0.is_multiple_of(MIB)));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]
    /// Whatever is asked for: nothing overlaps, nothing ends behind the drive, everything begins well, no volume is made
    /// smaller than it can be; or it is refused.
    #[test]
    fn no_plan_breaks_the_rules(
        sizes in prop::collection::vec((1u64..4000, 1u64..100), 1..20),
        size in 64u64..60_000,
        rules in prop::collection::vec((1u32..20, prop::sample::select(vec!["keep", "fill", "least", "out", "900MiB", "3GiB", "2GiB@40GiB"])), 0..5),
        auto in any::<bool>(),
        sector in prop::sample::select(vec![512u32, 4096]),
    ) {
        let mut at = 2048;
        let partitions: Vec<badger_layout::Partition> = sizes.iter().zip(1..).map(|((mib, _), number)| {
            let guid = badger_layout::Guid::parse("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7").unwrap();
            let one = badger_layout::Partition::new(number, at, mib * 2048, badger_layout::types::TypeCode::Gpt(guid));
            at += mib * 2048;
            one
        }).collect();
        let entries = partitions.iter().map(|one| badger_layout::gpt::Entry {
            slot: one.number - 1, type_id: badger_layout::Guid([7; 16]), id: badger_layout::Guid([one.number as u8; 16]), first: one.start, last: one.end() - 1,
            attributes: 0, name: [0; 36], extra: Vec::new(),
        }).collect();
        let gpt = badger_layout::gpt::Gpt { disk_id: badger_layout::Guid([9; 16]), first_usable: 34, last_usable: at, backup_at: at + 33, entries_at: 2,
            slots: 128, slot_size: 128, entries, mbr: badger_layout::mbr::Mbr::empty(0) };
        let table = Table { kind: Kind::Gpt, disk_id: "9".into(), partitions, problems: Vec::new(), detail: table::Detail::Gpt(gpt), sector: 512, sectors: at + 34 };
        let parts: Vec<Part> = table.partitions.iter().zip(&sizes).map(|(one, (mib, share))| Part {
            number: one.number, name: "it".into(), limits: Ok(Limits { least: mib * MIB * share / 100 + 512, most: 5000 * MIB }),
            used: None, system: false, placed: true, mbr_code: 7,
        }).collect();
        let mut text: Vec<String> = rules.iter().map(|(number, what)| format!("{number}={what}")).collect();
        text.push(if auto { "auto".into() } else { "*=keep".into() });
        text.rotate_right(1);
        let rules: Rules = text.join(",").parse().unwrap();
        let target = Side { key: "t".into(), size_bytes: size * MIB, sector, physical: 4096 };
        let from = side((at + 34) * 512, 512);
        let Ok(draft) = fit::plan(&table, &parts, (&from, &target), Ids::Keep, &rules, random()) else { return Ok(()) };
        let plan = draft.plan();
        let mut end = MIB;
        for one in &plan.partitions {
            let (start, len) = one.place(sector);
            prop_assert!(start >= end && start.is_multiple_of(MIB), "{plan:?}");
            let part = parts.iter().find(|part| Some(part.number) == one.from).unwrap();
            let old = sizes[part.number as usize - 1].0 * MIB;
            let limits = part.limits.as_ref().unwrap();
            prop_assert!(len == old || len >= limits.least && (len <= limits.most.max(old)), "{len} {limits:?}");
            end = start + len;
        }
        prop_assert!(end <= size * MIB - 33 * 512);
        prop_assert!(plan.reach() <= size * MIB);
    }
}
