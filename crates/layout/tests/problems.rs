//! Every fault a table can have is named by its code, and only that fault.

use badger_drive::medium::MemoryMedium;
use badger_layout::gpt::Gpt;
use badger_layout::mbr::{Entry, Logical, Mbr};
use badger_layout::table::{self, Detail};
use badger_layout::types::TypeCode;
use badger_layout::{Guid, Kind, Table};
use rstest::rstest;

const SECTORS: u64 = 16_384;
const SECTOR: usize = 512;

/// A drive in memory with these sectors on it.
fn drive(sectors: &[(u64, Vec<u8>)]) -> MemoryMedium {
    let mut bytes = vec![0; SECTORS as usize * SECTOR];
    for (at, content) in sectors {
        let start = *at as usize * SECTOR;
        bytes[start..start + content.len()].copy_from_slice(content);
    }
    MemoryMedium::new(bytes, SECTOR as u32)
}

fn codes(table: &Table) -> Vec<&'static str> {
    table.problems.iter().map(|problem| problem.code).collect()
}

/// A sound table with two partitions.
fn gpt() -> Gpt {
    let entry = |slot: u32, first: u64, last: u64| badger_layout::gpt::Entry {
        slot,
        type_id: Guid::parse("0FC63DAF-8483-4772-8E79-3D69D8477DE4").unwrap(),
        id: Guid::from_random([slot as u8 + 1; 16]),
        first,
        last,
        attributes: 0,
        name: [0; 36],
        extra: Vec::new(),
    };
    let mut gpt = Gpt {
        disk_id: Guid::from_random([9; 16]),
        first_usable: 34,
        last_usable: 0,
        backup_at: 0,
        entries_at: 2,
        slots: 128,
        slot_size: 128,
        entries: vec![entry(0, 2048, 4095), entry(1, 4096, 8191)],
        mbr: Mbr::empty(0),
    };
    gpt.fit_to(SECTORS, SECTOR as u32);
    gpt
}

fn read(gpt: &Gpt) -> Table {
    table::read(&drive(&gpt.write(SECTOR as u32)))
}

#[test]
fn a_sound_table_has_no_fault() {
    let table = read(&gpt());
    assert_eq!(codes(&table), Vec::<&str>::new());
    assert_eq!(table.detail, Detail::Gpt(gpt()));
    assert_eq!(table.at_sector(4096).unwrap().number, 2);
    assert_eq!(table.at_sector(9000), None);
}

#[rstest]
#[case::ends_before_it_starts("gpt-entry-backwards", |gpt: &mut Gpt| gpt.entries[1].last = 4000)]
#[case::overlaps("gpt-overlap", |gpt: &mut Gpt| gpt.entries[1].first = 4095)]
#[case::lies_before_the_usable_sectors("gpt-entry-outside", |gpt: &mut Gpt| gpt.entries[0].first = 33)]
#[case::same_identifiers("gpt-same-ids", |gpt: &mut Gpt| gpt.entries[1].id = gpt.entries[0].id)]
#[case::not_protected("gpt-no-protective", |gpt: &mut Gpt| gpt.mbr.entries = [Entry::default(); 4])]
#[case::protected_in_part("gpt-protective-size", |gpt: &mut Gpt| gpt.mbr.entries[0].sectors = 5)]
#[case::hybrid("gpt-hybrid", |gpt: &mut Gpt| gpt.mbr.entries[1] = Entry::new(0x83, 2048, 2048, false))]
fn a_fault_has_its_code(#[case] code: &str, #[case] spoil: fn(&mut Gpt)) {
    let mut spoiled = gpt();
    spoil(&mut spoiled);
    assert_eq!(codes(&read(&spoiled)), [code]);
}

#[test]
fn a_partition_past_the_end_is_outside_as_well() {
    let mut spoiled = gpt();
    spoiled.entries[1].last = SECTORS + 5;
    let table = read(&spoiled);
    assert_eq!(codes(&table), ["gpt-entry-outside", "gpt-entry-past-end"]);
    assert!(!table.is_sound());
}

#[test]
fn copies_that_name_different_partitions_are_found() {
    let (first, mut second) = (gpt(), gpt());
    second.entries.pop();
    let mut sectors = first.write(SECTOR as u32);
    sectors.truncate(3);
    sectors.extend(second.write(SECTOR as u32).split_off(3));
    let table = table::read(&drive(&sectors));
    assert_eq!(codes(&table), ["gpt-copies-differ"]);
    assert_eq!(table.partitions.len(), 2, "the first copy counts");
}

#[rstest]
#[case::size(84, 127u32)]
#[case::size_is_no_multiple(84, 130)]
#[case::count(80, u32::MAX)]
#[case::header_size(12, 91)]
#[case::header_size_large(12, 513)]
#[case::place(24, 77)]
fn a_header_that_contradicts_itself_is_not_believed(#[case] at: usize, #[case] value: u32) {
    let mut sectors = gpt().write(SECTOR as u32);
    let header = &mut sectors[1].1;
    header[at..at + 4].copy_from_slice(&value.to_le_bytes());
    let size = (u32::from_le_bytes(header[12..16].try_into().unwrap()) as usize).clamp(92, 512);
    header[16..20].fill(0);
    let crc = crc32fast::hash(&header[..size]);
    header[16..20].copy_from_slice(&crc.to_le_bytes());
    let table = table::read(&drive(&sectors));
    assert_eq!(codes(&table), ["gpt-primary-damaged"]);
    assert_eq!(table.partitions.len(), 2);
}

fn mbr(entries: &[Entry]) -> Mbr {
    let mut mbr = Mbr::empty(0x0208_ab1e);
    mbr.entries[..entries.len()].copy_from_slice(entries);
    mbr
}

#[rstest]
#[case::two_active("mbr-two-active", &[Entry::new(7, 64, 100, true), Entry::new(7, 200, 100, true)])]
#[case::odd_status("mbr-bad-active", &[Entry { status: 0x81, ..Entry::new(7, 64, 100, false) }])]
#[case::past_the_end("mbr-entry-past-end", &[Entry::new(7, 64, u32::MAX, false)])]
#[case::overlap("mbr-overlap", &[Entry::new(7, 64, 100, false), Entry::new(7, 163, 100, false)])]
fn an_mbr_fault_has_its_code(#[case] code: &str, #[case] entries: &[Entry]) {
    let table = table::read(&drive(&mbr(entries).write(SECTOR as u32)));
    assert_eq!(table.kind, Kind::Mbr);
    assert_eq!(codes(&table), [code]);
    assert_eq!(table.disk_id, "0208ab1e");
}

#[test]
fn overlaps_are_found_however_far_apart_the_entries_are() {
    let entries = [Entry::new(7, 64, 5000, false), Entry::new(7, 100, 10, false), Entry::new(7, 4000, 100, false)];
    assert_eq!(codes(&table::read(&drive(&mbr(&entries).write(512)))), ["mbr-overlap", "mbr-overlap"]);
}

#[rstest]
#[case::reaches_out("ebr-outside", |sectors: &mut Vec<(u64, Vec<u8>)>| sectors[1].1[446 + 12..446 + 16].copy_from_slice(&9000u32.to_le_bytes()))]
#[case::no_mark("ebr-no-mark", |sectors: &mut Vec<(u64, Vec<u8>)>| sectors[1].1[510] = 0)]
fn a_fault_in_the_chain_has_its_code(#[case] code: &str, #[case] spoil: fn(&mut Vec<(u64, Vec<u8>)>)) {
    let mut chain = mbr(&[Entry::new(7, 64, 100, false), Entry::new(5, 1000, 2000, false)]);
    chain.logical.push(Logical { link: 1000, entry: Entry::new(0x83, 8, 100, false) });
    let mut sectors = chain.write(SECTOR as u32);
    assert_eq!(codes(&table::read(&drive(&sectors))), Vec::<&str>::new());
    spoil(&mut sectors);
    assert_eq!(codes(&table::read(&drive(&sectors))), [code]);
}

#[test]
fn two_extended_partitions_are_a_fault_and_only_the_first_is_followed() {
    let mut chain = mbr(&[Entry::new(5, 1000, 2000, false), Entry::new(0x0f, 4000, 2000, false)]);
    chain.logical.push(Logical { link: 1000, entry: Entry::new(0x83, 8, 100, false) });
    let table = table::read(&drive(&chain.write(SECTOR as u32)));
    assert_eq!(codes(&table), ["mbr-two-extended"]);
    assert_eq!(table.data_partitions().iter().map(|partition| partition.number).collect::<Vec<_>>(), [5]);
}

/// A driver descriptor and entries of an Apple map, as the format's description lays them out.
fn apple(entries: &[(&str, &str, u32, u32)], claimed: u32) -> Vec<(u64, Vec<u8>)> {
    let mut first = vec![0; 512];
    first[..2].copy_from_slice(b"ER");
    let mut out = vec![(0, first)];
    for (number, (name, kind, start, blocks)) in (1u64..).zip(entries) {
        let mut entry = vec![0; 512];
        entry[..2].copy_from_slice(b"PM");
        entry[4..8].copy_from_slice(&claimed.to_be_bytes());
        entry[8..12].copy_from_slice(&start.to_be_bytes());
        entry[12..16].copy_from_slice(&blocks.to_be_bytes());
        entry[16..16 + name.len()].copy_from_slice(name.as_bytes());
        entry[48..48 + kind.len()].copy_from_slice(kind.as_bytes());
        out.push((number, entry));
    }
    out
}

#[test]
fn an_apple_map_is_read() {
    let entries = [("Apple", "Apple_partition_map", 1, 63), ("silver", "Apple_HFS", 64, 8000), ("", "Apple_Free", 8064, 100)];
    let table = table::read(&drive(&apple(&entries, 3)));
    assert_eq!((table.kind, codes(&table)), (Kind::Apm, vec![]));
    let named: Vec<_> = table.partitions.iter().map(|partition| (partition.name.as_str(), partition.start, partition.sectors)).collect();
    assert_eq!(named, [("Apple", 1, 63), ("silver", 64, 8000)]);
    assert_eq!(table.partitions[1].type_code, TypeCode::Apm("Apple_HFS".into()));
}

#[rstest]
#[case::too_many("apm-too-many", 100_000)]
#[case::one_missing("apm-entry-damaged", 5)]
fn a_lying_apple_map_is_survived(#[case] code: &str, #[case] claimed: u32) {
    let entries = [("Apple", "Apple_partition_map", 1, 63), ("silver", "Apple_HFS", 64, 8000)];
    let table = table::read(&drive(&apple(&entries, claimed)));
    assert!(codes(&table).contains(&code), "{:?}", codes(&table));
    assert_eq!(table.partitions.len(), 2);
}

#[test]
fn an_apple_partition_past_the_end_is_a_fault() {
    let table = table::read(&drive(&apple(&[("silver", "Apple_HFS", 64, 1_000_000)], 1)));
    assert_eq!(codes(&table), ["apm-past-end"]);
}

#[test]
fn a_boot_sector_of_a_volume_is_not_taken_for_a_table() {
    let mut sector = vec![0; 512];
    sector[0] = 0xeb;
    sector[3..11].copy_from_slice(b"NTFS    ");
    sector[11..13].copy_from_slice(&512u16.to_le_bytes());
    // What would be entries of a table is start-up code here.
    sector[446..510].fill(0x5a);
    sector[510..512].copy_from_slice(&[0x55, 0xaa]);
    let table = table::read(&drive(&[(0, sector)]));
    assert_eq!((table.kind, table.partitions.len(), codes(&table).len()), (Kind::None, 1, 0));
}
