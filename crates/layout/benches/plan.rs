//! What a plan costs that fits 128 partitions onto a smaller, a larger and another kind of drive.

use badger_layout::fit::{self, Limits, Part};
use badger_layout::gpt::{Entry, Gpt};
use badger_layout::mbr::Mbr;
use badger_layout::plan::{Ids, Side};
use badger_layout::table::{Detail, Kind, Table};
use badger_layout::types::TypeCode;
use badger_layout::{Guid, Partition};
use criterion::{Criterion, criterion_group, criterion_main};

const COUNT: u32 = 128;
/// Sectors of a partition.
const LONG: u64 = 8 << 21;

fn table() -> Table {
    let data = Guid::parse("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7").unwrap_or_default();
    let start = |number: u32| 2048 + u64::from(number - 1) * LONG;
    let partitions = (1..=COUNT).map(|number| Partition::new(number, start(number), LONG, TypeCode::Gpt(data))).collect();
    let entry = |number: u32| Entry {
        slot: number - 1,
        type_id: data,
        id: Guid([number as u8; 16]),
        first: start(number),
        last: start(number) + LONG - 1,
        attributes: 0,
        name: [0; 36],
        extra: Vec::new(),
    };
    let sectors = start(COUNT + 1) + 2048;
    let gpt = Gpt {
        disk_id: Guid([9; 16]),
        first_usable: 34,
        last_usable: sectors - 34,
        backup_at: sectors - 1,
        entries_at: 2,
        slots: COUNT,
        slot_size: 128,
        entries: (1..=COUNT).map(entry).collect(),
        mbr: Mbr::empty(0),
    };
    Table { kind: Kind::Gpt, disk_id: gpt.disk_id.to_string(), partitions, problems: Vec::new(), detail: Detail::Gpt(gpt), sector: 512, sectors }
}

fn plans(criterion: &mut Criterion) {
    let table = table();
    let part = |number: u32| Part {
        number,
        name: format!("partition {number}"),
        limits: Ok(Limits { least: LONG * 512 / 4, most: 1 << 44 }),
        used: Some(LONG * 512 / 5),
        system: false,
        placed: true,
        mbr_code: 7,
    };
    let parts: Vec<Part> = (1..=COUNT).map(part).collect();
    let side = |size: u64, sector: u32| Side { key: "k".into(), size_bytes: size, sector, physical: 4096 };
    let from = side(table.sectors * 512, 512);
    for (name, size, sector) in
        [("squeeze", table.sectors * 256, 512), ("stretch", table.sectors * 1024, 512), ("other sectors", table.sectors * 1024, 4096)]
    {
        let to = side(size, sector);
        let rules = "auto,7=out,9=12GiB".parse().expect("these are rules");
        criterion.bench_function(&format!("plan/128 {name}"), |bencher| {
            bencher.iter(|| fit::plan(&table, &parts, (&from, &to), Ids::Keep, &rules, || [5; 16]).expect("it fits"));
        });
    }
}

criterion_group!(benches, plans);
criterion_main!(benches);
