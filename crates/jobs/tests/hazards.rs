//! What is said before a run: each situation names what it is, as gravely as it is, and nothing that is not so.

use crate::support::{MIB, Shop, noise};
use badger_inspect::Level::{self, Mind, Note, Stop};
use badger_jobs::Order;
use badger_layout::Rules;
use badger_layout::mbr::{Entry, Mbr};
use badger_layout::plan::{Ids, Rest};
use badger_system::Machine;
use rstest::rstest;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

fn run(command: &[&str]) {
    let out = Command::new(command[0]).args(&command[1..]).output().unwrap();
    assert!(out.status.success(), "{command:?}: {}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
}

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

/// A volume in a file, made by its own tool, and changed by another one.
fn volume(shop: &Shop, name: &str, mib: usize, make: &[&str], then: &[&str]) -> Vec<u8> {
    let path = shop.path(name);
    fs::File::create(&path).unwrap().set_len((mib * MIB) as u64).unwrap();
    run(&[make, &[text(&path)]].concat());
    if !then.is_empty() {
        let command: Vec<&str> = then.iter().map(|word| if *word == "VOLUME" { text(&path) } else { word }).collect();
        run(&command);
    }
    fs::read(path).unwrap()
}

const EXT: &[&str] = &["mke2fs", "-q", "-F", "-t", "ext4", "-L", "Scores"];
const FAT: &[&str] = &["mkfs.fat", "-F", "16", "-n", "TAPES"];
const NTFS: &[&str] = &["mkntfs", "-q", "-F", "-Q", "-s", "512", "-p", "2048", "-H", "255", "-S", "63", "-L", "Office"];
const OPEN: &[&str] = &["debugfs", "-w", "-R", "set_super_value state 0", "VOLUME"];

/// A drive of the shelf with an MBR table and a volume in its only partition.
fn disk(shop: &Shop, name: &str, id: u32, kind: u8, volume: &[u8]) -> PathBuf {
    let mut bytes = vec![0; MIB + volume.len() + MIB];
    let mut mbr = Mbr::empty(id);
    mbr.entries[0] = Entry::new(kind, 2048, (volume.len() / 512) as u32, true);
    bytes[..512].copy_from_slice(&mbr.write(512)[0].1);
    bytes[MIB..MIB + volume.len()].copy_from_slice(volume);
    shop.drive(name, &bytes, &format!("OP-{name}"), "")
}

fn empty(shop: &Shop, mib: usize, more: &str) -> PathBuf {
    let path = shop.drive("onto", &[], "OP-onto", more);
    fs::File::options().write(true).open(shop.path("onto.img")).unwrap().set_len((mib * MIB) as u64).unwrap();
    path
}

/// With bytes a sector other than 512.
fn in_sectors(drive: &Path) {
    let said = fs::read_to_string(drive).unwrap();
    fs::write(drive, said.replace("bus = \"sata\"\n", "bus = \"sata\"\nlogical_sector = 4096\nphysical_sector = 4096\n")).unwrap();
}

fn codes(shop: &Shop, order: &Order) -> Vec<(Level, &'static str)> {
    let prepared = shop.prepared(order).unwrap_or_else(|refusal| panic!("{}: {}", refusal.code, refusal.text));
    prepared.hazards.iter().map(|hazard| (hazard.level, hazard.code)).collect()
}

fn words(shop: &Shop, order: &Order, code: &str) -> String {
    let hazards = shop.prepared(order).unwrap().hazards;
    hazards.iter().find(|hazard| hazard.code == code).unwrap_or_else(|| panic!("no {code} in {hazards:#?}")).text.clone()
}

const PLAIN: [(Level, &str); 2] = [(Note, "target-looks-empty"), (Note, "ids-kept")];

/// How the volume of the source was left.
#[rstest]
#[case::put_away(EXT, &[], 0x83, &[])]
#[case::in_use(EXT, OPEN, 0x83, &[(Mind, "volume-dirty")])]
#[case::fat(FAT, &[], 0x0e, &[])]
#[case::ntfs(NTFS, &[], 0x07, &[])]
fn how_a_volume_was_left(#[case] make: &[&str], #[case] then: &[&str], #[case] kind: u8, #[case] more: &[(Level, &str)]) {
    let shop = Shop::new();
    let from = disk(&shop, "from", 0x208, kind, &volume(&shop, "volume", 12, make, then));
    let order = Order::new(from, empty(&shop, 14, ""));
    assert_eq!(codes(&shop, &order), [more, &PLAIN].concat());
}

/// A system that only slept is said to, and what becomes of it where it is to start afresh.
#[test]
fn a_system_that_sleeps_is_said_to() {
    let shop = Shop::new();
    let sleep = shop.path("sleep");
    fs::write(&sleep, [b"HIBR".to_vec(), noise(8188, 3)].concat()).unwrap();
    let path = shop.path("volume");
    fs::File::create(&path).unwrap().set_len(24 * MIB as u64).unwrap();
    run(&[NTFS, &[text(&path)]].concat());
    run(&["ntfscp", "-f", text(&path), text(&sleep), "hiberfil.sys"]);
    let from = disk(&shop, "from", 0x208, 7, &fs::read(&path).unwrap());
    let mut order = Order::new(from, empty(&shop, 26, ""));
    assert_eq!(codes(&shop, &order), [&[(Mind, "volume-asleep")], &PLAIN[..]].concat());
    assert!(words(&shop, &order, "volume-asleep").contains("Office"));
    order.wishes.afresh = true;
    assert_eq!(codes(&shop, &order), [&[(Mind, "volume-asleep"), (Mind, "starts-afresh")], &PLAIN[..]].concat());
    assert!(words(&shop, &order, "starts-afresh").contains("stays on the source"));
    // What sleeps cannot change its size, and nobody is told that it did.
    (order.wishes.afresh, order.fit) = (false, Some(Rules::auto()));
    assert!(words(&shop, &order, "volume-whole").contains("keeps its size"));
}

/// What the target holds: known, nothing that was seen, or not known; never the one for the other.
#[rstest]
#[case::zeroes(&|shop: &Shop| empty(shop, 14, ""), (Note, "target-looks-empty"), "what lies between them is not known")]
#[case::bytes(&|shop: &Shop| shop.drive("onto", &noise(14 * MIB, 4), "OP-onto", ""), (Mind, "target-holds"), "without a table")]
#[case::a_volume(&|shop: &Shop| disk(shop, "onto", 0x55, 0x83, &volume(shop, "other", 12, EXT, &[])), (Mind, "target-holds"), "1 partition: Scores ext4")]
#[case::a_new_file(&|shop: &Shop| shop.path("fresh.img"), (Note, "target-new"), "nothing is overwritten")]
#[case::its_start_fails(&|shop: &Shop| empty(shop, 14, "[[fault]]\nkind = \"unreadable\"\nlba = 0\nsectors = 40\n"), (Mind, "target-not-readable"), "is not known")]
fn what_the_target_holds(#[case] make: &dyn Fn(&Shop) -> PathBuf, #[case] said: (Level, &str), #[case] how: &str) {
    let shop = Shop::new();
    let from = disk(&shop, "from", 0x208, 0x83, &volume(&shop, "volume", 12, EXT, &[]));
    let onto = make(&shop);
    let new_size = (!onto.exists()).then_some(14 * MIB as u64);
    let order = Order { new_size, ids: Ids::Fresh, ..Order::new(from, onto) };
    assert_eq!(codes(&shop, &order), [said]);
    let told = words(&shop, &order, said.1);
    assert!(told.contains(how), "{told}");
}

/// What a plan brings with it that the clone as it is would not.
#[rstest]
#[case::fitted("auto", None, &[(Note, "changed-used-only")])]
#[case::another_table("auto,gpt", None, &[(Mind, "table-changes"), (Note, "changed-used-only")])]
#[case::a_fixed_size("1=keep", None, &[(Note, "changed-used-only"), (Note, "space-unused")])]
#[case::only_what_is_in_use("", Some(Rest::Leave), &[(Note, "used-only"), (Note, "space-unused")])]
fn what_a_plan_brings(#[case] rules: &str, #[case] used: Option<Rest>, #[case] said: &[(Level, &str)]) {
    let shop = Shop::new();
    let from = disk(&shop, "from", 0x208, 0x83, &volume(&shop, "volume", 48, EXT, &[]));
    let fit = (!rules.is_empty()).then(|| rules.parse().unwrap());
    let order = Order { fit, used, ids: Ids::Fresh, ..Order::new(from, empty(&shop, 80, "")) };
    let mut found = codes(&shop, &order);
    found.retain(|(_, code)| *code != "target-looks-empty");
    assert_eq!(found, said);
}

/// A volume that was open gives only what its disk has: that is worth a word before the rest is left out.
#[test]
fn what_is_in_use_of_an_open_volume_may_not_be_all() {
    let shop = Shop::new();
    let from = disk(&shop, "from", 0x208, 0x83, &volume(&shop, "volume", 16, EXT, OPEN));
    let order = Order { used: Some(Rest::Leave), ids: Ids::Fresh, ..Order::new(from, empty(&shop, 18, "")) };
    let said = [(Mind, "volume-dirty"), (Mind, "used-only-open"), (Note, "target-looks-empty"), (Note, "used-only")];
    assert_eq!(codes(&shop, &order), said);
}

/// Onto sectors of 4096 bytes: what changes is changed, what needs small ones is a stop, what nobody knows is said to be unknown.
#[rstest]
#[case::ext(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096"], 0x83, "auto", (Mind, "sector-changes"), None)]
#[case::xfs(&["mkfs.xfs", "-q", "-s", "size=512"], 0x83, "1=keep", (Stop, "needs-small-sectors"), Some("sectors of 512"))]
#[case::xfs_in_large_ones(&["mkfs.xfs", "-q", "-s", "size=4096"], 0x83, "1=keep", (Mind, "sector-changes"), None)]
fn other_sectors(#[case] make: &[&str], #[case] kind: u8, #[case] rules: &str, #[case] said: (Level, &str), #[case] how: Option<&str>) {
    let shop = Shop::new();
    let is_xfs = make[0] == "mkfs.xfs";
    let from = disk(&shop, "from", 0x208, kind, &volume(&shop, "volume", if is_xfs { 310 } else { 16 }, make, &[]));
    let onto = empty(&shop, if is_xfs { 320 } else { 40 }, "");
    in_sectors(&onto);
    let order = Order { fit: Some(rules.parse().unwrap()), ids: Ids::Fresh, ..Order::new(from, onto) };
    let found = codes(&shop, &order);
    let stops: Vec<_> = found.iter().filter(|(level, _)| *level == Stop).collect();
    assert!(found.contains(&said) && stops.len() == usize::from(said.0 == Stop), "{found:?}");
    if let Some(how) = how {
        assert!(words(&shop, &order, said.1).contains(how));
    }
}

/// Blocks smaller than a sector cannot be set right: nothing is planned.
#[test]
fn small_blocks_stay_on_small_sectors() {
    let shop = Shop::new();
    let small = volume(&shop, "volume", 16, &["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024"], &[]);
    let from = disk(&shop, "from", 0x208, 0x83, &small);
    let onto = empty(&shop, 40, "");
    in_sectors(&onto);
    for rules in ["auto", "1=keep"] {
        let order = Order { fit: Some(rules.parse().unwrap()), ..Order::new(&from, &onto) };
        let refusal = shop.prepared(&order).err().unwrap();
        assert!(refusal.code == "sector-differs" && refusal.text.contains("1024 bytes"), "{}", refusal.text);
    }
}

#[test]
fn what_nobody_knows_in_other_sectors_is_said_to_be_unknown() {
    let shop = Shop::new();
    let from = disk(&shop, "from", 0x208, 0xda, &noise(8 * MIB, 9));
    let onto = empty(&shop, 16, "");
    in_sectors(&onto);
    let order = Order { fit: Some("1=keep".parse().unwrap()), ids: Ids::Fresh, ..Order::new(from, onto) };
    assert!(codes(&shop, &order).contains(&(Mind, "sectors-not-known")));
    assert!(words(&shop, &order, "sectors-not-known").contains("partition 1"));
}

/// Beyond 2 TiB an MBR table does not reach; a file there takes no room before it is released.
#[test]
fn what_an_mbr_table_cannot_reach_is_said() {
    let shop = Shop::new();
    let from = disk(&shop, "from", 0x208, 0x83, &volume(&shop, "volume", 12, EXT, &[]));
    let onto = shop.path("large.img");
    for (size, said) in [(2u64 << 40, false), (3u64 << 40, true)] {
        let order = Order { new_size: Some(size), ..Order::new(&from, &onto) };
        assert_eq!(codes(&shop, &order).contains(&(Note, "mbr-limit")), said, "{size}");
        assert!(!onto.exists());
    }
}

/// The machine that the drive goes into: what it cannot take is said, what cannot be told is not called fine.
#[rstest]
#[case::another_kind("name = \"Slim one\"\ntakes = [\"nvme\"]\n", Some((Mind, "machine-slot")))]
#[case::its_own("name = \"Old one\"\ntakes = [\"sata\"]\n", None)]
#[case::nothing_said("name = \"Some one\"\n", None)]
fn the_machine_it_goes_into(#[case] machine: &str, #[case] said: Option<(Level, &str)>) {
    let shop = Shop::new();
    let from = disk(&shop, "from", 0x208, 0x83, &volume(&shop, "volume", 12, EXT, &[]));
    let machine = Some(Machine::parse(machine).unwrap());
    let order = Order { machine, ..Order::new(from, empty(&shop, 14, "")) };
    let found: Vec<_> = codes(&shop, &order).into_iter().filter(|(_, code)| code.starts_with("machine-")).collect();
    assert_eq!(found, said.into_iter().collect::<Vec<_>>());
}

/// What is not on the drive cannot be made to start the other way.
#[test]
fn a_drive_without_a_system_is_not_made_to_start() {
    let shop = Shop::new();
    let from = disk(&shop, "from", 0x208, 0x83, &volume(&shop, "volume", 12, EXT, &[]));
    let order = Order { fit: Some("auto,uefi".parse().unwrap()), ..Order::new(from, empty(&shop, 200, "")) };
    let found = shop.prepared(&order).map(|prepared| prepared.hazards);
    match found {
        Ok(hazards) => assert!(hazards.iter().any(|hazard| (hazard.level, hazard.code) == (Stop, "no-uefi")), "{hazards:#?}"),
        Err(refusal) => panic!("{}: {}", refusal.code, refusal.text),
    }
}

/// Left out is said by name, and the target need not have room for it.
#[test]
fn what_stays_behind_is_named() {
    let shop = Shop::new();
    let (small, large) = (volume(&shop, "small", 4, &["mkfs.fat", "-n", "TAPES"], &[]), volume(&shop, "large", 12, EXT, &[]));
    let mut bytes = vec![0; 20 * MIB];
    let mut mbr = Mbr::empty(0x208);
    mbr.entries[0] = Entry::new(0x0e, 2048, 4 * 2048, true);
    mbr.entries[1] = Entry::new(0x83, 6 * 2048, 12 * 2048, false);
    bytes[..512].copy_from_slice(&mbr.write(512)[0].1);
    bytes[MIB..5 * MIB].copy_from_slice(&small);
    bytes[6 * MIB..18 * MIB].copy_from_slice(&large);
    let from = shop.drive("from", &bytes, "OP-from", "");
    let order = Order { fit: Some("1=keep,2=out".parse().unwrap()), ids: Ids::Fresh, ..Order::new(from, empty(&shop, 8, "")) };
    let told = words(&shop, &order, "left-out");
    assert!(told.contains("Scores") && told.contains("nothing of it will be on the target"), "{told}");
    assert!(!shop.prepared(&order).unwrap().hazards.iter().any(|hazard| hazard.level == Stop));
}
