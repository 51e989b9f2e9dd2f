//! A table of the newer kind where one of the older kind stands, with the same partitions in the same places, and room for one more.

use crate::gpt::{Entry, Gpt};
use crate::guid::Guid;
use crate::mbr::Mbr;
use crate::partition::Partition;
use crate::table::{Detail, Kind, Table};
use crate::types::{self, TypeCode};
use badger_drive::Refusal;
use badger_drive::size::human;

/// Partitions begin at multiples of this many bytes, or of the target's own step where that is larger.
pub const STEP: u64 = 1 << 20;
/// Entries of a new table, and bytes of each.
pub(crate) const SLOTS: (u32, u32) = (128, 128);

/// The type of partitions whose system keeps a table of its own behind them.
const DYNAMIC: u8 = 0x42;

fn refuse(text: impl Into<String>) -> Refusal {
    Refusal::new("not-converted", text)
}

/// An entry for a partition of a table of the older kind; `None` for one of another.
pub(crate) fn entry(partition: &Partition, (first, last): (u64, u64), id: Guid) -> Option<Entry> {
    let TypeCode::Mbr(code) = partition.type_code else { return None };
    let (type_id, attributes) = types::gpt_of(code);
    let attributes = attributes | if partition.bootable { 4 } else { 0 };
    Some(Entry { slot: partition.number - 1, type_id, id, first, last, attributes, name: [0; 36], extra: Vec::new() })
}

/// The drive's table as one of the newer kind: its own, or one with the partitions, the places and the numbers that the older one has.
///
/// # Errors
/// A refusal where its own is damaged, or where one of the newer kind has no place beside the partitions.
pub fn to_gpt(table: &Table, mut random: impl FnMut() -> [u8; 16]) -> Result<Gpt, Refusal> {
    if let Some(problem) = table.problems.iter().find(|problem| problem.grave) {
        return Err(refuse(format!("the table is damaged: {}", problem.text)));
    }
    let mbr = match &table.detail {
        Detail::Gpt(gpt) => return Ok(gpt.clone()),
        Detail::Mbr(mbr) if table.kind == Kind::Mbr => mbr,
        _ => return Err(refuse("there is no table that could become one of the newer kind")),
    };
    let sector = u64::from(table.sector);
    let array = (u64::from(SLOTS.0) * u64::from(SLOTS.1)).div_ceil(sector);
    if table.sectors < 2 * array + 3 {
        return Err(refuse("the drive is too small for any table"));
    }
    let mut gpt = Gpt {
        disk_id: Guid::from_random(random()),
        first_usable: 2 + array,
        last_usable: 0,
        backup_at: 0,
        entries_at: 2,
        slots: SLOTS.0,
        slot_size: SLOTS.1,
        entries: Vec::new(),
        mbr: Mbr { boot_code: mbr.boot_code.clone(), ..Mbr::empty(0) },
    };
    gpt.fit_to(table.sectors, table.sector);
    for partition in table.data_partitions() {
        if partition.start < gpt.first_usable || partition.end() > gpt.last_usable + 1 {
            let text = format!(
                "partition {} lies where a table of the newer kind has its own sectors: they take {} at the start, and {} at the end",
                partition.number,
                human(gpt.first_usable * sector),
                human((array + 1) * sector)
            );
            return Err(refuse(text));
        }
        if partition.type_code == TypeCode::Mbr(DYNAMIC) {
            return Err(refuse(format!(
                "partition {} belongs to a dynamic disk, whose records lie at the end: that is not converted",
                partition.number
            )));
        }
        if partition.number > gpt.slots {
            return Err(refuse(format!("partition {} has no place in a table of {} entries", partition.number, gpt.slots)));
        }
        let place = (partition.start, partition.end() - 1);
        gpt.entries.extend(entry(partition, place, Guid::from_random(random())));
    }
    Ok(gpt)
}

/// Adds a system partition for firmware to a table: `wanted` bytes, or as many as the largest stretch without a partition has, at least `least`.
/// Gives its number.
///
/// # Errors
/// A refusal where there is no such stretch, or no entry.
pub fn add_system_partition(gpt: &mut Gpt, sector: u32, (wanted, least): (u64, u64), id: Guid) -> Result<u32, Refusal> {
    let size = u64::from(sector);
    let step = (STEP / size).max(1);
    let mut taken: Vec<(u64, u64)> = gpt.entries.iter().map(|entry| (entry.first, entry.last.saturating_add(1))).collect();
    taken.sort_unstable();
    taken.push((gpt.last_usable + 1, gpt.last_usable + 1));
    let (mut from, mut best) = (gpt.first_usable, (0, 0));
    for (first, end) in taken {
        let start = from.next_multiple_of(step);
        let room = first.saturating_sub(start) / step * step;
        // The last one that is large enough; else the largest.
        if room >= best.1.min(wanted / size) && room > 0 {
            best = (start, room);
        }
        from = from.max(end);
    }
    let (start, room) = best;
    if room * size < least {
        let text = format!(
            "there is no room for a system partition: the largest stretch without a partition has {}, it takes {}",
            human(room * size),
            human(least)
        );
        return Err(refuse(text));
    }
    let slot = gpt.entries.iter().map(|entry| entry.slot + 1).max().unwrap_or(0);
    if slot >= gpt.slots {
        return Err(refuse("the table has no entry left for a system partition"));
    }
    let mut name = [0; 36];
    name.iter_mut().zip("EFI system partition".encode_utf16()).for_each(|(to, unit)| *to = unit);
    let last = start + room.min(wanted / size) - 1;
    gpt.entries.push(Entry { slot, type_id: types::efi_system(), id, first: start, last, attributes: 0, name, extra: Vec::new() });
    Ok(slot + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn table(kind: Kind, detail: Detail, partitions: Vec<Partition>) -> Table {
        Table { kind, disk_id: String::new(), partitions, problems: Vec::new(), detail, sector: 512, sectors: 1 << 20 }
    }

    fn old(places: &[(u32, u64, u64)]) -> Table {
        let partitions = places.iter().map(|(number, start, sectors)| Partition::new(*number, *start, *sectors, TypeCode::Mbr(0x83))).collect();
        table(Kind::Mbr, Detail::Mbr(Mbr::empty(7)), partitions)
    }

    #[test]
    fn a_dynamic_disk_is_left_alone() {
        let mut table = old(&[(1, 2048, 4096)]);
        table.partitions[0].type_code = TypeCode::Mbr(DYNAMIC);
        assert!(to_gpt(&table, || [3; 16]).unwrap_err().text.contains("dynamic"));
    }

    #[test]
    fn partitions_keep_their_places_and_numbers() {
        let gpt = to_gpt(&old(&[(1, 2048, 4096), (5, 8192, 100)]), || [3; 16]).unwrap();
        let places: Vec<_> = gpt.partitions().iter().map(|partition| (partition.number, partition.start, partition.sectors)).collect();
        assert_eq!(places, [(1, 2048, 4096), (5, 8192, 100)]);
    }

    #[rstest]
    #[case::in_front(&[(1, 1, 100)])]
    #[case::at_the_end(&[(1, 2048, (1 << 20) - 2048)])]
    fn what_lies_in_the_way_is_named(#[case] places: &[(u32, u64, u64)]) {
        assert!(to_gpt(&old(places), || [3; 16]).unwrap_err().text.contains("its own sectors"));
    }

    #[rstest]
    #[case::at_the_end(&[(1, 2048, 4096)], 100 << 20, Some((2, 204_800)))]
    #[case::between(&[(1, 2048, 2048), (2, 206_848, 1 << 19)], 200 << 20, Some((3, 315_392)))]
    #[case::full(&[(1, 2048, (1 << 20) - 4096)], 100 << 20, None)]
    fn room_is_found(#[case] places: &[(u32, u64, u64)], #[case] wanted: u64, #[case] expected: Option<(u32, u64)>) {
        let mut gpt = to_gpt(&old(places), || [3; 16]).unwrap();
        let number = add_system_partition(&mut gpt, 512, (wanted, 36 << 20), Guid([9; 16]));
        match expected {
            None => assert!(number.unwrap_err().text.contains("no room")),
            Some((number_wanted, sectors)) => {
                let added = gpt.partitions().into_iter().find(|partition| partition.type_code.is_efi()).unwrap();
                assert_eq!((number.unwrap(), added.number, added.sectors), (number_wanted, number_wanted, sectors));
                assert!(added.start.is_multiple_of(2048) && added.end() <= gpt.last_usable + 1);
            }
        }
    }
}
