//! Fitting the partitions of one drive onto another: which keep their size, which stretch or squeeze or stay behind,
//! where each begins, and the table that says so.

use crate::convert;
use crate::gpt::Gpt;
use crate::guid::Guid;
use crate::mbr::{self, Logical, Mbr};
use crate::partition::Partition;
use crate::plan::{self, Draft, Fit, Ids, Move, Patch, Plan, Planned, Recast, Side};
use crate::rules::{Rules, What, Which};
use crate::table::{Detail, Kind, Table};
use crate::types::{self, TypeCode};
use badger_drive::Refusal;
use badger_drive::size::human;

pub use crate::convert::STEP;
/// A table of this kind cannot count further.
const MOST_MBR: u64 = 1 << 32;
/// Of the least size nobody is happy: a proposal takes from partitions this many times smaller than the largest only in need.
const SMALL: u64 = 16;

/// How small and how large a volume can become, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// The least size.
    pub least: u64,
    /// The greatest size.
    pub most: u64,
}

/// What is known of a partition besides what the table says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// Its number on the source.
    pub number: u32,
    /// What it is called in messages.
    pub name: String,
    /// How small and large its volume can become, or why it can only be copied as it is.
    pub limits: Result<Limits, String>,
    /// Bytes in use, where that is known.
    pub used: Option<u64>,
    /// Whether a system starts from it or lies on it.
    pub system: bool,
    /// Whether its volume notes where it begins or what its sectors are, so that it must be shown anew when that changes.
    pub placed: bool,
    /// The type it would have in an MBR, by what is in it; 0 where nothing is recognised.
    pub mbr_code: u8,
}

/// A partition with its new place.
#[derive(Clone, Copy, Debug)]
struct Placed<'a> {
    partition: &'a Partition,
    part: &'a Part,
    /// Bytes.
    start: u64,
    len: u64,
    old: u64,
}

fn refuse(code: &'static str, text: impl Into<String>) -> Refusal {
    Refusal::new(code, text)
}

fn up(value: u64, step: u64) -> u64 {
    value.div_ceil(step).saturating_mul(step)
}

/// Bytes of a system partition that is made where firmware has none to start from, with sectors of so many bytes.
pub fn system_partition(sector: u32) -> u64 {
    if sector <= 512 { 100 << 20 } else { 300 << 20 }
}

/// Where partitions may lie on the target, in bytes.
struct Space {
    first: u64,
    end: u64,
    step: u64,
}

fn space(kind: Kind, target: &Side, slots: u64, slot: u64, uefi: bool) -> Space {
    let sector = u64::from(target.sector);
    let kept = if uefi { system_partition(target.sector) } else { 0 };
    let step = STEP.max(u64::from(target.physical)).max(sector);
    let array = up(slots * slot, sector);
    match kind {
        Kind::Gpt => Space { first: step, end: (target.size_bytes / sector * sector).saturating_sub(array + sector + kept), step },
        Kind::Mbr => Space { first: step, end: (target.size_bytes / sector).min(MOST_MBR) * sector, step },
        Kind::Apm | Kind::None => Space { first: 0, end: target.size_bytes / sector * sector, step },
    }
}

/// What a partition may become: from, wished for, up to; and whether it takes what is left.
#[derive(Clone, Copy)]
struct Wish {
    least: u64,
    size: u64,
    most: u64,
    fills: bool,
}

/// What the rules ask for one partition; `None` where it stays behind.
fn wish(partition: &Partition, part: &Part, old: u64, rules: &Rules, target: &Side) -> Result<Option<Wish>, Refusal> {
    let grain = u64::from(target.physical.max(target.sector));
    let rule = rules.of(part.number);
    let fixed = |size: u64| Wish { least: size, size, most: size, fills: false };
    let kept = fixed(up(old, u64::from(target.sector)));
    let limits = || {
        let why = |why: &String| refuse("volume-whole", format!("{} can only be copied as it is: {why}", part.name));
        part.limits.as_ref().map_err(why).map(|limits| Limits { least: up(limits.least, grain), most: limits.most })
    };
    let what = match rule.map(|rule| rule.what) {
        Some(what) => what,
        None if rules.system && !(part.system || partition.type_code.role().is_fixed()) => What::Out,
        // A table of the old kind has no use for these.
        None if rules.table == Some(Kind::Mbr) && partition.type_code.role().needs_gpt() => What::Out,
        None if rules.auto && !partition.type_code.role().is_fixed() => {
            return Ok(Some(limits().map_or(kept, |limits| Wish {
                least: limits.least.min(old),
                size: kept.size,
                most: limits.most.max(old),
                fills: false,
            })));
        }
        None => What::Keep,
    };
    Ok(Some(match what {
        What::Out => return Ok(None),
        What::Keep => kept,
        What::Fill => {
            let limits = limits()?;
            Wish { least: limits.least, size: limits.least, most: limits.most, fills: true }
        }
        // Asked of all, one that cannot change keeps its size; asked of it alone, that is a mistake.
        What::Least if part.limits.is_err() && rule.is_some_and(|rule| rule.which != Which::Span(part.number, part.number)) => kept,
        What::Least => match limits()?.least {
            least if least < old => fixed(least),
            _ => kept,
        },
        What::Size(bytes) if up(bytes, grain) == kept.size => kept,
        What::Size(bytes) => {
            let (limits, bytes) = (limits()?, up(bytes, grain));
            if bytes < limits.least {
                let text = format!(
                    "{} cannot become smaller than {} ({} bytes), {} were asked for",
                    part.name,
                    human(limits.least),
                    limits.least,
                    human(bytes)
                );
                return Err(refuse("fit-too-small", text));
            }
            if bytes > limits.most {
                let text = format!("{} cannot become larger than {}, {} were asked for", part.name, human(limits.most), human(bytes));
                return Err(refuse("fit-too-large", text));
            }
            fixed(bytes)
        }
    }))
}

/// Gives sizes to partitions that share a stretch of `room` bytes; each takes whole steps and begins with `lead` bytes of
/// its own.
fn share(wishes: &mut [(Wish, &Part)], room: u64, step: u64, lead: &dyn Fn(&Part) -> u64, auto: bool) -> Result<(), Refusal> {
    let taken =
        |wishes: &[(Wish, &Part)]| wishes.iter().map(|(wish, part)| up(wish.size, step).saturating_add(lead(part))).fold(0, u64::saturating_add);
    let needed = taken(wishes);
    if needed > room {
        let mut short = needed - room;
        let largest = wishes.iter().map(|(wish, _)| wish.size).max().unwrap_or(0);
        for floor in [largest / SMALL, 0] {
            let slack = |wish: &Wish| up(wish.size, step).saturating_sub(up(wish.least, step));
            let total: u64 = wishes.iter().filter(|(wish, _)| wish.size >= floor).map(|(wish, _)| slack(wish)).sum();
            let (mut left, mut total) = (short.min(total), total);
            for (wish, _) in wishes.iter_mut().filter(|(wish, _)| wish.size >= floor) {
                let own = slack(wish);
                if total == 0 {
                    break;
                }
                // In proportion, in whole steps, and never more than there is.
                let part = up((u128::from(left) * u128::from(own) / u128::from(total)) as u64, step).min(own).min(up(left, step));
                wish.size = if part > 0 { (up(wish.size, step) - part).max(wish.least) } else { wish.size };
                (left, total) = (left.saturating_sub(part), total - own);
            }
            short = taken(wishes).saturating_sub(room);
            if short == 0 {
                break;
            }
        }
        if short > 0 {
            let mut offers: Vec<String> = Vec::new();
            for (wish, part) in wishes.iter() {
                if wish.size >= short {
                    offers.push(format!("leave out {} ({})", part.name, human(wish.size)));
                }
                if let Ok(limits) = &part.limits
                    && up(limits.least, step) < up(wish.size, step)
                {
                    offers.push(format!("squeeze {} by up to {}", part.name, human(wish.size - limits.least)));
                }
            }
            let offers = if offers.is_empty() { "take a larger target".into() } else { offers.join(", or ") };
            return Err(refuse("does-not-fit", format!("the partitions need {} more than the target has: {offers}", human(short))));
        }
        return Ok(());
    }
    let mut spare = room - needed;
    // A small one is small for a reason; it does not take what a larger one was kept from.
    let floor = wishes.iter().map(|(wish, _)| wish.size).max().unwrap_or(0) / SMALL;
    let takes = |wish: &Wish| wish.fills || auto && wish.size >= floor && wish.most > wish.size;
    let mut order: Vec<usize> = (0..wishes.len()).filter(|at| takes(&wishes[*at].0)).collect();
    order.sort_by_key(|at| (!wishes[*at].0.fills, std::cmp::Reverse(wishes[*at].0.size)));
    let fillers = wishes.iter().filter(|(wish, _)| wish.fills).count() as u64;
    for (turn, at) in order.into_iter().enumerate() {
        let wish = &mut wishes[at].0;
        // Several that fill share alike; of the others the largest takes it all.
        let offered = if wish.fills { spare / (fillers - turn as u64) } else { spare };
        let size = (up(wish.size, step) + offered).min(wish.most) / step * step;
        if size > wish.size {
            spare = spare.saturating_sub(size - up(wish.size, step));
            wish.size = size;
        }
    }
    Ok(())
}

/// A partition that comes along: what is wished for it, what is known of it, itself, its size, and where it is to begin.
type Along<'a> = (Wish, &'a Part, &'a Partition, u64, Option<u64>);

/// The partitions that come along.
fn along<'a>(table: &'a Table, parts: &'a [Part], target: &Side, rules: &Rules, kind: Kind) -> Result<Vec<Along<'a>>, Refusal> {
    let mut along = Vec::new();
    for partition in table.data_partitions() {
        let Some(part) = parts.iter().find(|part| part.number == partition.number) else { continue };
        let (_, old) = table.place(partition);
        if let Some(wish) = wish(partition, part, old, rules, target)? {
            along.push((wish, part, partition, old, rules.of(part.number).and_then(|rule| rule.at)));
        }
    }
    if table.data_partitions().is_empty() {
        return Err(refuse("nothing-left", "the source has no partitions that could be fitted: it can only be cloned whole, as it is"));
    }
    if along.is_empty() {
        return Err(refuse("nothing-left", "nothing is left to be copied: every partition is left out"));
    }
    if kind == Kind::None && along.len() > 1 {
        return Err(refuse("fit-table", "a drive without a table holds one volume only"));
    }
    Ok(along)
}

/// Finds a place for everything that comes along.
fn place<'a>(table: &'a Table, parts: &'a [Part], target: &Side, rules: &Rules, kind: Kind) -> Result<Vec<Placed<'a>>, Refusal> {
    let slots = if let Detail::Gpt(gpt) = &table.detail { (u64::from(gpt.slots.max(1)), u64::from(gpt.slot_size)) } else { (128, 128) };
    let space = space(kind, target, slots.0, slots.1, rules.uefi);
    let grain = u64::from(target.sector);
    let along = along(table, parts, target, rules, kind)?;
    // The link of a logical partition stands in front of it.
    let chained = chained(&along.iter().map(|(_, _, partition, ..)| *partition).collect::<Vec<_>>(), table.kind, kind);
    let lead = |part: &Part| if chained.contains(&part.number) { space.step } else { 0 };
    let mut out = Vec::with_capacity(along.len());
    let mut cursor = space.first;
    // Everything may stay where it is when nothing changes its size and every place is a good one.
    let mut at = 0;
    let unmoved =
        !rules.auto && kind == table.kind && along.len() == parts.len() && along.iter().all(|(wish, .., at)| wish.size == wish.most && at.is_none());
    while at < along.len() {
        if let Some(begin) = along[at].4 {
            let begin = up(begin, space.step);
            if begin < cursor + lead(along[at].1) {
                let text = format!("{} cannot begin at {}: what comes before it ends at {}", along[at].1.name, human(begin), human(cursor));
                return Err(refuse("fit-overlap", text));
            }
            cursor = begin - lead(along[at].1);
        }
        let next = (at + 1..along.len()).find(|other| along[*other].4.is_some()).unwrap_or(along.len());
        let end = along.get(next).and_then(|one| one.4.map(|begin| begin - lead(one.1).min(begin))).unwrap_or(space.end).min(space.end);
        let wishes: Vec<(Wish, &Part)> = along[at..next].iter().map(|(wish, part, ..)| (*wish, *part)).collect();
        let whole = (end / space.step * space.step).saturating_sub(cursor);
        let mut shared = wishes.clone();
        let mut done = share(&mut shared, whole, space.step, &lead, rules.auto);
        if done.is_err() {
            // The last one need not end at a whole step where it would not fit otherwise.
            shared.clone_from(&wishes);
            done = share(&mut shared, up(end, space.step).max(cursor) - cursor, space.step, &lead, rules.auto);
        }
        if let Some(next) = along.get(next).filter(|_| done.is_err()) {
            let text = format!("{} cannot begin at {}: what comes before it has too little room", next.1.name, human(end));
            return Err(refuse("fit-overlap", text));
        }
        if let Err(refusal) = done {
            let limited = kind == Kind::Mbr && target.size_bytes / grain > MOST_MBR;
            let why = if limited { "; an MBR table counts no further than 2^32 sectors, a GPT does" } else { "" };
            return Err(refuse(refusal.code, format!("{}{why}", refusal.text)));
        }
        for ((wish, part), (_, _, partition, old, _)) in shared.into_iter().zip(&along[at..next]) {
            let (here, _) = table.place(partition);
            let mut start = cursor + lead(part);
            if unmoved && here.is_multiple_of(space.step) && here >= start {
                start = here;
            }
            let last = start.saturating_add(wish.size);
            let len = if last > end && wish.size > wish.least { end.saturating_sub(start) / grain * grain } else { wish.size };
            if len < wish.least || start.saturating_add(len) > end {
                let short = start.saturating_add(wish.least.max(1)).saturating_sub(end);
                let most =
                    if kind == Kind::Mbr && end == MOST_MBR * grain { "; a table of this kind counts no further than 2^32 sectors" } else { "" };
                let offer = match part.limits {
                    Ok(limits) if limits.least < wish.size => format!(": squeeze it ({}=SIZE), or add auto", part.number),
                    _ => String::new(),
                };
                return Err(refuse("does-not-fit", format!("{} reaches {} beyond what there is for it{offer}{most}", part.name, human(short))));
            }
            out.push(Placed { partition, part, start, len, old: *old });
            cursor = up(start + len, if kind == Kind::None { 1 } else { space.step });
        }
        at = next;
    }
    Ok(out)
}

/// Numbers of the partitions that become logical ones.
fn chained(along: &[&Partition], from: Kind, to: Kind) -> Vec<u32> {
    match (from, to) {
        (Kind::Mbr, Kind::Mbr) => along.iter().filter(|partition| partition.logical).map(|partition| partition.number).collect(),
        (_, Kind::Mbr) if along.len() > 4 => along.iter().skip(3).map(|partition| partition.number).collect(),
        _ => Vec::new(),
    }
}

/// The table that results, and the number each partition gets in it.
struct Made {
    detail: Detail,
    disk_id: String,
    partitions: Vec<Partition>,
    /// Source's number to the target's.
    numbers: Vec<(u32, u32)>,
}

fn make_gpt(table: &Table, placed: &[Placed], target: &Side, ids: Ids, random: &mut dyn FnMut() -> [u8; 16]) -> Made {
    let sector = u64::from(target.sector);
    let old = if let Detail::Gpt(gpt) = &table.detail { Some(gpt) } else { None };
    let boot = match &table.detail {
        Detail::Gpt(gpt) => gpt.mbr.boot_code.clone(),
        Detail::Mbr(mbr) => mbr.boot_code.clone(),
        Detail::None => vec![0; 440],
    };
    let most = placed.iter().map(|one| one.part.number).max().unwrap_or(1);
    let slots = old.map_or(128, |gpt| gpt.slots.max(1)).max(up(u64::from(most), 4) as u32);
    let slot_size = old.map_or(128, |gpt| gpt.slot_size);
    let mut gpt = Gpt {
        disk_id: old.filter(|_| ids == Ids::Keep).map_or_else(|| Guid::from_random(random()), |gpt| gpt.disk_id),
        first_usable: 2 + (u64::from(slots) * u64::from(slot_size)).div_ceil(sector),
        last_usable: 0,
        backup_at: 0,
        entries_at: 2,
        slots,
        slot_size,
        entries: Vec::new(),
        mbr: Mbr { boot_code: boot, ..Mbr::empty(0) },
    };
    for one in placed {
        let known = old.and_then(|gpt| gpt.entries.iter().find(|entry| entry.slot + 1 == one.part.number));
        let (first, last) = (one.start / sector, (one.start + one.len) / sector - 1);
        let mut entry = known
            .cloned()
            .unwrap_or_else(|| convert::entry(one.partition, (first, last), Guid::from_random(random())).expect("only an MBR is turned into a GPT"));
        (entry.first, entry.last) = (first, last);
        if known.is_some() && ids == Ids::Fresh {
            entry.id = Guid::from_random(random());
        }
        gpt.entries.push(entry);
    }
    gpt.entries.sort_by_key(|entry| entry.slot);
    gpt.fit_to(target.size_bytes / sector, target.sector);
    let numbers = placed.iter().map(|one| (one.part.number, one.part.number)).collect();
    Made { disk_id: gpt.disk_id.to_string(), partitions: gpt.partitions(), detail: Detail::Gpt(gpt), numbers }
}

fn make_mbr(table: &Table, placed: &[Placed], target: &Side, ids: Ids, random: &mut dyn FnMut() -> [u8; 16]) -> Result<Made, Refusal> {
    let sector = u64::from(target.sector);
    let step = STEP.max(u64::from(target.physical));
    let bytes = random();
    let fresh = u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]).max(1);
    let mut mbr = match &table.detail {
        Detail::Mbr(mbr) => Mbr { signature: if ids == Ids::Fresh { fresh } else { mbr.signature }, logical: Vec::new(), ..mbr.clone() },
        Detail::Gpt(gpt) => Mbr { boot_code: gpt.mbr.boot_code.clone(), ..Mbr::empty(fresh) },
        Detail::None => Mbr::empty(fresh),
    };
    let was = mbr.entries;
    mbr.entries = Default::default();
    let along: Vec<&Partition> = placed.iter().map(|one| one.partition).collect();
    let chained = chained(&along, table.kind, Kind::Mbr);
    let count = |bytes: u64| {
        let wrong = || refuse("mbr-limit", format!("an MBR table counts no further than 2^32 sectors of {sector} bytes; keep the GPT"));
        u32::try_from(bytes / sector).map_err(|_| wrong())
    };
    let mut numbers = Vec::new();
    let code = |one: &Placed| match &one.partition.type_code {
        TypeCode::Mbr(code) => *code,
        TypeCode::Gpt(guid) => types::mbr_of(guid, one.part.mbr_code, one.partition.attributes),
        _ => one.part.mbr_code,
    };
    let mut span: Option<(u64, u64)> = None;
    for one in placed.iter().filter(|one| chained.contains(&one.part.number)) {
        let link = one.start - step;
        let first = span.map_or(link, |(first, _)| first);
        span = Some((first, one.start + one.len));
        let entry = mbr::Entry { start: (step / sector) as u32, ..mbr::Entry::new(code(one), count(one.start)?, count(one.len)?, false) };
        mbr.logical.push(Logical { link: link / sector, entry });
        numbers.push((one.part.number, 4 + mbr.logical.len() as u32));
    }
    for one in placed.iter().filter(|one| !chained.contains(&one.part.number)) {
        if let Some((first, end)) = span
            && one.start > first
            && one.start < end
        {
            let text = format!("{} lies between logical partitions and would have to become one; leave it out or take a GPT", one.part.name);
            return Err(refuse("fit-table", text));
        }
        let wanted = (table.kind == Kind::Mbr || (1..=4).contains(&one.part.number)).then(|| one.part.number as usize - 1);
        let slot = wanted.filter(|slot| mbr.entries[*slot].code == 0).or_else(|| mbr.entries.iter().position(|entry| entry.code == 0));
        let Some(slot) = slot.filter(|slot| *slot < 4) else {
            return Err(refuse("fit-table", "an MBR table has room for four partitions beside logical ones; leave one out"));
        };
        mbr.entries[slot] = mbr::Entry::new(code(one), count(one.start)?, count(one.len)?, one.partition.bootable);
        numbers.push((one.part.number, slot as u32 + 1));
    }
    if let Some((first, end)) = span {
        let container = was.iter().position(|entry| types::is_extended(entry.code)).filter(|slot| mbr.entries[*slot].code == 0);
        let slot = container.or_else(|| mbr.entries.iter().position(|entry| entry.code == 0));
        let slot = slot.ok_or_else(|| refuse("fit-table", "there is no entry left for the logical partitions; leave one of the others out"))?;
        let code = container.map_or(0x0f, |slot| was[slot].code);
        mbr.entries[slot] = mbr::Entry::new(code, count(first)?, count(end - first)?, false);
    }
    Ok(Made { disk_id: format!("{:08x}", mbr.signature), partitions: mbr.partitions(), detail: Detail::Mbr(mbr), numbers })
}

/// The table's own sectors as patches.
fn patches(detail: &Detail, sector: u32) -> Vec<Patch> {
    let patch = |(at, bytes): (u64, Vec<u8>), what: &str| Patch { at: at * u64::from(sector), bytes, what: what.into() };
    match detail {
        Detail::Gpt(gpt) => {
            let backup = gpt.backup_at;
            let name = |at: u64| match at {
                0 => "protective MBR",
                1 => "GPT header",
                at if at == backup => "second GPT header",
                at if at == gpt.entries_at => "GPT entries",
                _ => "second GPT entries",
            };
            gpt.write(sector).into_iter().map(|one| (name(one.0), one)).map(|(what, one)| patch(one, what)).collect()
        }
        Detail::Mbr(mbr) => {
            let mut all = mbr.write(sector).into_iter();
            let first = all.next().map(|one| patch(one, "MBR"));
            first.into_iter().chain(all.map(|one| patch(one, "link to a logical partition"))).collect()
        }
        Detail::None => Vec::new(),
    }
}

/// What is copied as it is, and which volumes are shown anew.
fn copies(
    table: &Table,
    placed: &[Placed],
    (source, target): (&Side, &Side),
    ids: Ids,
    random: &mut dyn FnMut() -> [u8; 16],
) -> Result<(Vec<Move>, Vec<Recast>), Refusal> {
    let (mut moves, mut recasts) = (Vec::new(), Vec::new());
    for one in placed {
        let (from, _) = table.place(one.partition);
        let moved = from / u64::from(source.sector) != one.start / u64::from(target.sector) || source.sector != target.sector;
        let resized = one.len != one.old;
        if one.part.limits.is_ok() && (resized || moved && one.part.placed || ids == Ids::Fresh) {
            recasts.push(Recast {
                number: one.part.number,
                from,
                from_len: one.old,
                to: one.start,
                len: one.len,
                used: one.part.used.unwrap_or(one.old),
                id: if ids == Ids::Fresh { random().to_vec() } else { Vec::new() },
            });
        } else if source.sector != target.sector && one.part.placed {
            let why = one.part.limits.as_ref().err().cloned().unwrap_or_default();
            return Err(refuse(
                "sector-differs",
                format!("{} counts in sectors of {} bytes and cannot be set right: {why}", one.part.name, source.sector),
            ));
        } else {
            moves.push(Move { from, to: one.start, len: one.old.min(one.len), volume: None });
        }
    }
    Ok((moves, recasts))
}

/// The partitions as they will be, and what is done with each.
fn partitions(made: &Made, placed: &[Placed], target: &Side) -> Vec<Planned> {
    let fit = |one: &Placed| {
        if one.len > up(one.old, u64::from(target.sector)) {
            Fit::Stretch
        } else if one.len < one.old {
            Fit::Squeeze
        } else {
            Fit::Keep
        }
    };
    let mut partitions = plan::planned(&made.partitions);
    for planned in &mut partitions {
        planned.from = made.numbers.iter().find(|(_, after)| *after == planned.number).map(|(before, _)| *before);
        planned.fit = planned.from.and_then(|from| placed.iter().find(|one| one.part.number == from)).map_or(Fit::Keep, fit);
    }
    partitions
}

/// The plan that brings a source's partitions onto a target of another size, by the rules. `random` gives 16 fresh bytes
/// for each new identifier.
///
/// # Errors
/// A refusal that says what does not fit, by how much, and what could be done.
pub fn plan(
    table: &Table,
    parts: &[Part],
    sides: (&Side, &Side),
    ids: Ids,
    rules: &Rules,
    mut random: impl FnMut() -> [u8; 16],
) -> Result<Draft, Refusal> {
    let (source, target) = sides;
    if !table.is_sound() {
        let problem = table.problems.iter().find(|problem| problem.grave).map(|problem| problem.text.clone()).unwrap_or_default();
        return Err(refuse("table-damaged", format!("the source's table is damaged ({problem}): it can only be cloned whole")));
    }
    let kind = match rules.table {
        Some(kind) if table.kind == Kind::None => {
            return Err(refuse("fit-table", format!("the source has no table that could become {}", kind.word())));
        }
        Some(kind) => kind,
        None => table.kind,
    };
    if table.kind == Kind::Apm {
        return Err(refuse("fit-table", "an Apple map is not changed: the source can only be cloned whole"));
    }
    if target.size_bytes < 4 * STEP {
        return Err(refuse("target-too-small", format!("the target has {}: too little for any table", human(target.size_bytes))));
    }
    let placed = place(table, parts, target, rules, kind)?;
    let made = match kind {
        Kind::Gpt => make_gpt(table, &placed, target, ids, &mut random),
        Kind::Mbr => make_mbr(table, &placed, target, ids, &mut random)?,
        Kind::None | Kind::Apm => Made {
            detail: Detail::None,
            disk_id: String::new(),
            partitions: vec![Partition::new(0, 0, placed[0].len / u64::from(target.sector), TypeCode::Whole)],
            numbers: vec![(0, 0)],
        },
    };
    let (mut moves, recasts) = copies(table, &placed, sides, ids, &mut random)?;
    // Start-up code between the table and the first partition has a place only in a table of the old kind.
    let first = |starts: &mut dyn Iterator<Item = u64>| starts.min().unwrap_or(0);
    let gap = first(&mut placed.iter().map(|one| one.start))
        .min(first(&mut table.data_partitions().iter().map(|partition| table.place(partition).0)))
        .min(STEP);
    if table.kind == Kind::Mbr && kind == Kind::Mbr && source.sector == target.sector && gap > 0 {
        moves.push(Move { from: 0, to: 0, len: gap, volume: None });
    }
    let partitions = partitions(&made, &placed, target);
    let mut patches = patches(&made.detail, target.sector);
    patches.sort_by_key(|patch| patch.at);
    let mut plan = Plan {
        source: source.clone(),
        target: target.clone(),
        ids,
        kind,
        disk_id: made.disk_id,
        partitions,
        moves,
        patches,
        cleared: plan::ends(target.size_bytes),
        sparing: None,
        fit: Some(rules.to_string()),
        recasts,
        left_out: table
            .data_partitions()
            .iter()
            .map(|partition| partition.number)
            .filter(|number| !placed.iter().any(|one| one.part.number == *number))
            .collect(),
    };
    plan.order();
    Ok(plan.into())
}

impl Planned {
    /// First byte and bytes, or the largest number, on a target with sectors of `sector` bytes.
    pub fn place(&self, sector: u32) -> (u64, u64) {
        (self.start.saturating_mul(u64::from(sector)), self.sectors.saturating_mul(u64::from(sector)))
    }
}
