//! An NTFS volume of another size: run lists led to where their clusters went, the map of clusters, the mirror, both boot
//! sectors and the sizes the format keeps of itself written anew. A file whose run lists outgrow its record is laid out
//! again over further records. The log is emptied: what it says is of places that are not the same any more.

use super::walk::{BITMAP, DATA, FIRST_USER, LIST, NUMBER, Ntfs};
use super::{attributes, fixed, owner, resident, runs};
use crate::bits::Bits;
use crate::finding::{Finding, Result};
use crate::resize::{Bounds, Relocation, View, Wanted, must_be_sound, refused, total, units, up};
use crate::survey::Survey;
use crate::tree::Volume;
use badger_drive::field::{le16, le32, le64};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

/// The format's own records.
const MFT: u64 = 0;
const LOG: u64 = 2;
const MAP: u64 = 6;
const BAD: u64 = 8;
const STANDARD: u32 = 0x10;
/// Where the attributes of a new record begin, and what ends them.
const FRONT: usize = 0x38;
const END: usize = 8;

type Run = (Option<u64>, u64);

/// The number of clusters of a volume of so many bytes; the last sector holds the copy of the boot sector.
fn clusters_in(len: u64, sector: u64, cluster: u64) -> u64 {
    (len / sector).saturating_sub(1) * sector / cluster
}

fn count(runs: &[Run]) -> u64 {
    runs.iter().map(|(_, len)| len).sum()
}

/// The bytes a number takes, with its sign.
fn signed(value: i64) -> Vec<u8> {
    let bytes = value.to_le_bytes();
    let mut len = 8;
    while len > 1 && (bytes[len - 1] == 0 && bytes[len - 2] < 0x80 || bytes[len - 1] == 0xff && bytes[len - 2] >= 0x80) {
        len -= 1;
    }
    bytes[..len].to_vec()
}

/// A run list as it is written, with its end.
fn packed(runs: &[Run]) -> Vec<u8> {
    let (mut out, mut before) = (Vec::new(), 0i64);
    for (first, len) in runs {
        let len = signed(*len as i64);
        let jump = first.map(|first| {
            let jump = signed(first as i64 - before);
            before = first as i64;
            jump
        });
        let jump = jump.unwrap_or_default();
        out.push((jump.len() << 4 | len.len()) as u8);
        out.extend(len);
        out.extend(jump);
    }
    out.push(0);
    out
}

fn put(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes[at..at + value.len()].copy_from_slice(value);
}

/// An attribute that is not resident, with another run list.
fn with_runs(attribute: &[u8], runs: &[Run]) -> Vec<u8> {
    let at = usize::from(le16(attribute, 32)).clamp(64, attribute.len());
    let mut out = attribute[..at].to_vec();
    out.extend(packed(runs));
    out.resize(up(out.len() as u64, 8) as usize, 0);
    let len = out.len() as u32;
    put(&mut out, 4, &len.to_le_bytes());
    out
}

fn name_of(attribute: &[u8]) -> &[u8] {
    let (len, at) = (usize::from(attribute[9]) * 2, usize::from(le16(attribute, 10)));
    attribute.get(at..at + len).unwrap_or_default()
}

/// A part of an attribute: whether it stood in the base record, and its bytes.
type Part = (bool, Vec<u8>);
/// A further record that is being filled: its number, its bytes, the attributes for it, and the bytes that are left.
type Filling = (u64, Vec<u8>, Vec<Vec<u8>>, usize);

/// One attribute of a file with everything it has, wherever its parts stood.
struct Whole {
    code: u32,
    bytes: Vec<u8>,
    /// `None` where it is resident.
    runs: Option<Vec<Run>>,
    outside: bool,
}

impl Whole {
    /// The part of a run list from cluster `low` on. Only the first part tells sizes.
    fn part(&self, low: u64, runs: &[Run]) -> Vec<u8> {
        let head = if low == 0 {
            self.bytes.clone()
        } else {
            let name = name_of(&self.bytes);
            let mut head = self.bytes[..64].to_vec();
            head[40..64].fill(0);
            put(&mut head, 10, &64u16.to_le_bytes());
            head.extend(name);
            head.resize(up(head.len() as u64, 8) as usize, 0);
            let at = head.len() as u16;
            put(&mut head, 32, &at.to_le_bytes());
            head
        };
        let mut out = with_runs(&head, runs);
        put(&mut out, 16, &low.to_le_bytes());
        put(&mut out, 24, &(low + count(runs)).wrapping_sub(1).to_le_bytes());
        out
    }
}

impl Ntfs {
    /// Clusters in use without those of the map, which is written anew, and without bad ones, which the new drive has not.
    fn used_clusters(&self, survey: &Survey) -> Result<Vec<Range<u64>>> {
        let mut survey = survey.clone();
        let mut clear = |number: u64, name: &str| -> Result<()> {
            for attribute in self.all_attributes(number)?.1.iter().filter(|one| one.code == DATA && one.bytes[8] != 0) {
                if attribute.name.iter().copied().eq(name.encode_utf16()) {
                    for (first, len) in runs(&attribute.bytes) {
                        let Some(first) = first else { continue };
                        survey.usage.clear(first * self.cluster..(first + len) * self.cluster);
                    }
                }
            }
            Ok(())
        };
        clear(MAP, "")?;
        clear(BAD, "$Bad")?;
        Ok(units(&survey, 0..self.clusters * self.cluster, self.cluster, 0))
    }

    fn map_clusters(&self, clusters: u64) -> u64 {
        up(clusters.div_ceil(8), 8).div_ceil(self.cluster)
    }

    /// What files may need besides when their run lists grow: a record each, and a list of records.
    fn spare_clusters(&self, survey: &Survey, used: &[Range<u64>]) -> u64 {
        let held = total(used);
        let gaps = used.iter().take_while(|range| range.start < held + held / 8).count() as u64;
        // A run list grows by eight bytes for each gap that is filled; records that were full already overflow at once.
        let records = survey.spread * 2 + gaps / 16 + 2;
        (records * self.record as u64).div_ceil(self.cluster) + survey.spread + 4
    }

    fn least_clusters(&self, survey: &Survey, used: &[Range<u64>]) -> u64 {
        let held: u64 = total(used) + self.spare_clusters(survey, used);
        let mut least = held + 1;
        while least < held + self.map_clusters(least) {
            least = held + self.map_clusters(least);
        }
        least
    }

    fn can_change(&self, sector: u64) -> Result<Vec<u8>> {
        let boot = self.volume().read(0, 512)?;
        let index = boot[68] as i8;
        let index = if index > 0 { index as u64 * self.cluster } else { 1u64.checked_shl(u32::from(index.unsigned_abs())).unwrap_or(0) };
        for (size, what) in [(self.cluster, "clusters"), (self.record as u64, "file records"), (index, "index blocks")] {
            if !size.is_multiple_of(sector) {
                return Err(refused("ntfs-sectors", format!("its {what} of {size} bytes are smaller than a sector of {sector}")));
            }
        }
        Ok(boot)
    }

    pub(super) fn bounds_of(&self, survey: &Survey, sector: u64) -> Result<Bounds> {
        must_be_sound(survey)?;
        self.can_change(sector)?;
        let least = self.least_clusters(survey, &self.used_clusters(survey)?);
        let size = |clusters: u64| up(clusters * self.cluster + 1, sector).max(clusters * self.cluster + sector);
        // Systems count clusters in 32 bits.
        Ok(Bounds { least: size(least), most: size(u64::from(u32::MAX) - 1), unit: self.cluster })
    }

    pub(super) fn room_in(&self, survey: &Survey, len: u64, sector: u64) -> Result<u64> {
        self.can_change(sector)?;
        let clusters = clusters_in(len, sector, self.cluster).min(u64::from(u32::MAX) - 1);
        let used = total(&self.used_clusters(survey)?);
        Ok(clusters.saturating_sub(used + self.map_clusters(clusters)) * self.cluster)
    }

    pub(super) fn resized_to(&self, survey: &Survey, wanted: &Wanted) -> Result<View> {
        must_be_sound(survey)?;
        let sector = u64::from(wanted.sector);
        let boot = self.can_change(sector)?;
        let clusters = clusters_in(wanted.len, sector, self.cluster).min(u64::from(u32::MAX) - 1);
        let used = self.used_clusters(survey)?;
        let short = || refused("volume-too-small", format!("{} bytes are too few for what it holds", wanted.len));
        if clusters < self.least_clusters(survey, &used) {
            return Err(short());
        }
        let made = self.made(&used, clusters, wanted, &boot, false);
        match made {
            // Where the table's own record gets full, the table is brought together, whatever has to give way.
            Err(finding) if finding.code == "ntfs-table-pieces" => self.made(&used, clusters, wanted, &boot, true),
            other => other,
        }
    }

    /// Makes the new volume; `gather` brings the table into one piece even where it could stay.
    fn made(&self, used: &[Range<u64>], clusters: u64, wanted: &Wanted, boot: &[u8], gather: bool) -> Result<View> {
        let short = || refused("volume-too-small", format!("{} bytes are too few for what it holds", wanted.len));
        let mut moves = self.arranged(used, clusters, boot, gather).ok_or_else(short)?;
        let map = moves.take(self.map_clusters(clusters)).ok_or_else(short)?;
        let mut view = View::new(self.volume().drive(), wanted.len, wanted.sector)?;
        for step in moves.steps() {
            view.show(self.volume().start() + step.from * self.cluster, step.to * self.cluster, step.len * self.cluster);
        }
        map.iter().for_each(|run| view.fix(run.start * self.cluster..run.end * self.cluster));
        view.sort(self.volume().start());
        let records = self.table.size() / self.record as u64;
        let mut change = Change {
            fs: self,
            view,
            moves,
            clusters,
            map,
            in_use: Bits::new(records),
            in_use_bytes: Vec::new(),
            next_free: FIRST_USER,
            records,
            grown: Vec::new(),
            overflown: BTreeSet::new(),
        };
        change.all()?;
        change.write_map()?;
        change.boot(wanted, boot.to_vec())?;
        change.view.finish()
    }

    /// Finds new places for everything. The table goes into one piece where any of it has to move: its own record must hold
    /// the list of its pieces.
    fn arranged(&self, used: &[Range<u64>], clusters: u64, boot: &[u8], gather: bool) -> Option<Relocation> {
        let pieces = self.table.pieces().iter().filter_map(|piece| Some(piece.at? / self.cluster..(piece.at? + piece.len).div_ceil(self.cluster)));
        let table: Vec<Range<u64>> = pieces.collect();
        let len: u64 = table.iter().map(|piece| piece.end - piece.start).sum();
        let copies = (self.mirrored_records() * self.record as u64).div_ceil(self.cluster);
        let mirror = self.mirror.0..self.mirror.0 + copies;
        let moving = |movers: &[Range<u64>], run: &Range<u64>| movers.iter().any(|range| range.start < run.end && run.start < range.end);
        // What the boot sector names must stay apart from what the table may have to push aside.
        let front = (le64(boot, 48).min(16) + 16).max((8192u64).div_ceil(self.cluster));
        let cleared = clusters.checked_sub(len).filter(|start| *start > front).map(|start| start..clusters);
        for aside in [None, cleared] {
            let taken: Vec<Range<u64>> = aside.clone().into_iter().collect();
            let (mut moves, mut movers) = Relocation::begin(used, &taken, 0..clusters);
            if gather || table.iter().any(|piece| moving(&movers, piece)) {
                movers = match &aside {
                    Some(aside) => moves.bring(&movers, &table, aside.start),
                    None => match moves.take_all_along(&movers, &table) {
                        Some(left) => left,
                        None => continue,
                    },
                };
            } else if aside.is_some() {
                continue;
            }
            if moving(&movers, &mirror) {
                // The copy is found by its first cluster alone.
                let Some(left) = moves.take_along(&movers, mirror.clone()) else { continue };
                movers = left;
            }
            if moves.settle(&movers).is_some() {
                return Some(moves);
            }
        }
        None
    }

    /// How many of the first records the mirror holds.
    fn mirrored_records(&self) -> u64 {
        (self.cluster / self.record as u64).max(4)
    }
}

struct Change<'a> {
    fs: &'a Ntfs,
    view: View,
    moves: Relocation,
    /// Clusters of the new volume.
    clusters: u64,
    /// Where the new map of clusters lies.
    map: Vec<Range<u64>>,
    in_use: Bits,
    in_use_bytes: Vec<u8>,
    next_free: u64,
    /// Records of the table, with those that came to it.
    records: u64,
    /// Clusters that came to the table.
    grown: Vec<Range<u64>>,
    /// Files whose run lists outgrew a record.
    overflown: BTreeSet<u64>,
}

impl Change<'_> {
    fn short(&self) -> Finding {
        refused("volume-too-small", "there is too little room for the lists of where its files lie")
    }

    fn led(&self, runs: Vec<Run>) -> Vec<Run> {
        let mut out: Vec<Run> = Vec::with_capacity(runs.len());
        for (first, len) in runs {
            let Some(first) = first else {
                out.push((None, len));
                continue;
            };
            for piece in self.moves.run(first..first + len) {
                match out.last_mut() {
                    Some((Some(start), held)) if *start + *held == piece.start => *held += piece.end - piece.start,
                    _ => out.push((Some(piece.start), piece.end - piece.start)),
                }
            }
        }
        out
    }

    /// The attribute as it must be in the new volume; `None` where it stays as it is.
    fn changed(&self, file: u64, attribute: &[u8], code: u32) -> Option<Vec<u8>> {
        // One shorter than its own fields is damaged; what it says is not believed.
        if attribute[8] == 0 || attribute.len() < 64 {
            return None;
        }
        let name = name_of(attribute);
        let sized = |runs: &[Run], bytes: u64| {
            let mut out = with_runs(attribute, runs);
            put(&mut out, 24, &count(runs).wrapping_sub(1).to_le_bytes());
            put(&mut out, 40, &(count(runs) * self.fs.cluster).to_le_bytes());
            put(&mut out, 48, &bytes.to_le_bytes());
            out
        };
        if file == MAP && code == DATA && name.is_empty() {
            let runs: Vec<Run> = self.map.iter().map(|run| (Some(run.start), run.end - run.start)).collect();
            let bytes = up(self.clusters.div_ceil(8), 8);
            let mut out = sized(&runs, bytes);
            put(&mut out, 56, &bytes.to_le_bytes());
            return Some(out);
        }
        if file == BAD && code == DATA && !name.is_empty() {
            let bytes = self.clusters * self.fs.cluster;
            let mut out = sized(&[(None, self.clusters)], bytes);
            let written = le64(attribute, 56).min(bytes);
            put(&mut out, 56, &written.to_le_bytes());
            return Some(out);
        }
        let old = runs(attribute);
        let new = self.led(old.clone());
        (new != old).then(|| with_runs(attribute, &new))
    }

    fn all(&mut self) -> Result<()> {
        let fs = self.fs;
        let map = fs.content(MFT, BITMAP, "")?;
        self.in_use_bytes = vec![0; map.size() as usize];
        map.read(fs.volume(), 0, &mut self.in_use_bytes)?;
        let bytes = std::mem::take(&mut self.in_use_bytes);
        self.in_use.load(0..self.records, &bytes);
        self.in_use_bytes = bytes;
        self.empty_log()?;
        let mut failed = None;
        fs.each_record(|number, record| {
            let Some(record) = record.filter(|record| number != MFT && le16(record, 22) & 1 != 0 && failed.is_none()) else { return };
            failed = self.take_record(number, record).err();
        });
        if let Some(finding) = failed {
            return Err(finding);
        }
        if self.overflown.contains(&MFT) {
            return Err(refused("ntfs-table-pieces", "its master file table would lie in too many pieces"));
        }
        for file in std::mem::take(&mut self.overflown) {
            self.lay_out(file)?;
        }
        self.table_itself()?;
        for number in 0..fs.mirrored_records() {
            let bytes = self.read_record(number)?;
            let to = self.moves.place(fs.mirror.0).ok_or_else(|| self.short())?;
            self.view.write(to * fs.cluster + number * fs.record as u64, &bytes)?;
        }
        Ok(())
    }

    /// The first content of a log that nobody used yet.
    fn empty_log(&mut self) -> Result<()> {
        let (_, all) = self.fs.all_attributes(LOG)?;
        for attribute in all.iter().filter(|one| one.code == DATA && one.bytes[8] != 0) {
            for (first, len) in self.led(runs(&attribute.bytes)) {
                let Some(first) = first else { continue };
                self.view.fill(first * self.fs.cluster..(first + len) * self.fs.cluster);
            }
        }
        Ok(())
    }

    /// Where bytes of the table go: pieces of the new volume.
    fn table_places(&self, at: u64, len: u64) -> Result<Vec<(u64, u64)>> {
        let fs = self.fs;
        let held: u64 = fs.table.pieces().iter().map(|piece| piece.len).sum();
        let (mut out, mut done) = (Vec::new(), 0);
        while done < len {
            let byte = at + done;
            let step = (fs.cluster - byte % fs.cluster).min(len - done);
            let place = if byte < held {
                let old = fs.table.place(byte).ok_or_else(|| self.short())?;
                self.moves.place(old / fs.cluster).ok_or_else(|| self.short())? * fs.cluster + old % fs.cluster
            } else {
                let mut inner = (byte - up(held, fs.cluster)) / fs.cluster;
                let run = self.grown.iter().find(|run| {
                    let here = inner < run.end - run.start;
                    inner -= if here { 0 } else { run.end - run.start };
                    here
                });
                (run.ok_or_else(|| self.short())?.start + inner) * fs.cluster + byte % fs.cluster
            };
            out.push((place, step));
            done += step;
        }
        Ok(out)
    }

    /// A record as it is in the new volume by now, its update sequence still in place.
    fn read_record(&mut self, number: u64) -> Result<Vec<u8>> {
        let mut bytes = Vec::with_capacity(self.fs.record);
        for (place, len) in self.table_places(number * self.fs.record as u64, self.fs.record as u64)? {
            bytes.extend(self.view.bytes(place, len as usize)?);
        }
        Ok(bytes)
    }

    /// Writes a record with its update sequence.
    fn write_record(&mut self, number: u64, mut record: Vec<u8>) -> Result<()> {
        let (start, count) = (usize::from(le16(&record, 4)), usize::from(le16(&record, 6)));
        let mark = [record[start], record[start + 1]];
        for step in 1..count {
            let end = step * 512;
            record.copy_within(end - 2..end, start + step * 2);
            put(&mut record, end - 2, &mark);
        }
        let mut done = 0;
        for (place, len) in self.table_places(number * self.fs.record as u64, record.len() as u64)? {
            self.view.write(place, &record[done..done + len as usize])?;
            done += len as usize;
        }
        Ok(())
    }

    fn take_record(&mut self, number: u64, record: Vec<u8>) -> Result<()> {
        let file = owner(number, &record);
        let mut any = false;
        let all: Vec<Vec<u8>> = attributes(&record)
            .map(|(code, bytes)| {
                let new = self.changed(file, bytes, code);
                any |= new.is_some();
                new.unwrap_or_else(|| bytes.to_vec())
            })
            .collect();
        if !any {
            return Ok(());
        }
        let front = usize::from(le16(&record, 20));
        if front + all.iter().map(Vec::len).sum::<usize>() + END > self.fs.record {
            self.overflown.insert(file);
            return Ok(());
        }
        let next = le16(&record, 40);
        self.write_record(number, filled(record, &all, next))
    }

    /// A record of the table that nobody uses; the table grows where there is none.
    fn new_record(&mut self) -> Result<(u64, Vec<u8>)> {
        let fs = self.fs;
        let old = fs.table.size() / fs.record as u64;
        let mut number = self.next_free;
        while number < old && self.in_use.has(number) {
            number += 1;
        }
        self.next_free = number + 1;
        let sequence = if number < old {
            let record = fs.raw_record(number).ok();
            record.map_or(1, |record| le16(&record, 16).max(1))
        } else {
            self.records = self.records.max(number + 1);
            let held: u64 = fs.table.pieces().iter().map(|piece| piece.len).sum();
            let have = up(held, fs.cluster) + self.grown.iter().map(|run| run.end - run.start).sum::<u64>() * fs.cluster;
            let need = (number + 1) * fs.record as u64;
            if need > have {
                // Some more at once, so that the table does not lie in many pieces.
                let step = (need - have).div_ceil(fs.cluster).max((8 * fs.record as u64).div_ceil(fs.cluster));
                let least = (need - have).div_ceil(fs.cluster);
                let taken = self.moves.take_whole(step).map(|start| start..start + step);
                let taken = taken.or_else(|| self.moves.take_whole(least).map(|start| start..start + least)).ok_or_else(|| self.short())?;
                match self.grown.last_mut() {
                    Some(last) if last.end == taken.start => last.end = taken.end,
                    _ => self.grown.push(taken),
                }
            }
            1
        };
        self.mark(number, true);
        let mut record = vec![0; fs.record];
        let marks = (fs.record / 512 + 1) as u16;
        put(&mut record, 0, b"FILE");
        put(&mut record, 4, &0x30u16.to_le_bytes());
        put(&mut record, 6, &marks.to_le_bytes());
        put(&mut record, 16, &sequence.to_le_bytes());
        let front = up(0x30 + u64::from(marks) * 2, 8).max(FRONT as u64) as u16;
        put(&mut record, 20, &front.to_le_bytes());
        put(&mut record, 22, &1u16.to_le_bytes());
        put(&mut record, 28, &(fs.record as u32).to_le_bytes());
        put(&mut record, 44, &(number as u32).to_le_bytes());
        put(&mut record, 0x30, &1u16.to_le_bytes());
        Ok((number, record))
    }

    fn mark(&mut self, number: u64, used: bool) {
        let at = (number / 8) as usize;
        if self.in_use_bytes.len() <= at {
            self.in_use_bytes.resize(up(at as u64 + 1, 8) as usize, 0);
        }
        if used {
            self.in_use_bytes[at] |= 1 << (number % 8);
        } else {
            self.in_use_bytes[at] &= !(1 << (number % 8));
        }
    }

    /// Lays the attributes of a file out anew over its records and as many more as it needs.
    fn lay_out(&mut self, file: u64) -> Result<()> {
        let fs = self.fs;
        let (base, all) = fs.all_attributes(file)?;
        let broken = || Finding::new("ntfs-record", format!("record {file}: its attributes contradict each other"));
        if usize::from(le16(&base, 20)) + END > fs.record || all.iter().any(|one| one.bytes[8] != 0 && one.bytes.len() < 64) {
            return Err(broken());
        }
        let mut inside = Vec::new();
        Ntfs::attributes_in(&base, &mut inside);
        // The list of attributes is written anew; where it lay outside of the record that place is free.
        for one in all.iter().filter(|one| one.code == LIST && one.bytes[8] != 0) {
            let led = self.led(runs(&one.bytes));
            led.into_iter().filter_map(|(first, len)| Some(first?..first? + len)).flatten().for_each(|cluster| self.moves.release(cluster));
        }
        let mut wholes: BTreeMap<(u32, usize, Vec<u8>), Vec<Part>> = BTreeMap::new();
        for (order, one) in all.iter().enumerate().filter(|(_, one)| one.code != LIST) {
            let bytes = self.changed(file, &one.bytes, one.code).unwrap_or_else(|| one.bytes.clone());
            // Parts of one stream belong together; several names of a file do not.
            let order = if one.bytes[8] == 0 { order } else { 0 };
            wholes.entry((one.code, order, name_of(&one.bytes).to_vec())).or_default().push((order_in(&inside, &one.bytes), bytes));
        }
        let wholes: Vec<Whole> = wholes
            .into_iter()
            .map(|((code, ..), mut parts)| {
                parts.sort_by_key(|(_, part)| if part[8] == 0 { 0 } else { le64(part, 16) });
                let outside = !parts[0].0;
                let held = (parts[0].1[8] != 0).then(|| {
                    let mut held: Vec<Run> = Vec::new();
                    for run in parts.iter().flat_map(|(_, part)| runs(part)) {
                        match (held.last_mut(), run) {
                            (Some((Some(start), len)), (Some(first), more)) if *start + *len == first => *len += more,
                            _ => held.push(run),
                        }
                    }
                    held
                });
                Whole { code, bytes: parts.swap_remove(0).1, runs: held, outside }
            })
            .collect();
        let mut extensions: Vec<u64> = fs.further_records(file, &base)?.into_iter().rev().collect();
        let room = fs.record - usize::from(le16(&base, 20)) - END;
        let outer = fs.record - FRONT.max(usize::from(up(0x30 + (fs.record as u64 / 512 + 1) * 2, 8) as u16)) - END;
        // A list that lies elsewhere takes this much of the record; it is the least that can be said of it.
        const LIST_LEN: usize = 64 + 24;
        let length = |whole: &Whole| whole.runs.as_ref().map_or(whole.bytes.len(), |runs| whole.part(0, runs).len());
        let mut at_home: Vec<bool> = wholes.iter().map(|whole| !whole.outside).collect();
        let held = |at_home: &[bool]| -> usize { wholes.iter().zip(at_home).filter(|(_, home)| **home).map(|(whole, _)| length(whole)).sum() };
        while held(&at_home) + LIST_LEN > room {
            // What lies elsewhere goes first, the longest list of it; then whatever is longest, but for the times and flags.
            let out = (0..wholes.len())
                .filter(|at| at_home[*at] && wholes[*at].code != STANDARD)
                .max_by_key(|at| (wholes[*at].runs.is_some(), length(&wholes[*at])));
            at_home[out.ok_or_else(|| self.short())?] = false;
        }
        // Everything outside is written record after record, a run list in as many parts as it needs.
        let mut places: Vec<(usize, u64, u64, u16)> = Vec::new();
        let mut filling: Option<Filling> = None;
        let own = le64(&base, 16) as u16;
        for (at, whole) in wholes.iter().enumerate().filter(|(at, _)| !at_home[*at]) {
            let (mut low, mut rest): (u64, &[Run]) = (0, whole.runs.as_deref().unwrap_or_default());
            loop {
                let left = filling.as_ref().map_or(0, |(.., left)| *left);
                let (bytes, taken) = match &whole.runs {
                    None => (whole.bytes.clone(), 0),
                    Some(_) => {
                        let all = whole.part(low, rest);
                        if all.len() <= left.max(outer) && (all.len() <= left || filling.is_none() || all.len() <= outer) {
                            (all, rest.len())
                        } else {
                            let (mut few, mut many) = (1, rest.len());
                            while few < many {
                                let middle = (few + many).div_ceil(2);
                                if whole.part(low, &rest[..middle]).len() <= outer { few = middle } else { many = middle - 1 }
                            }
                            (whole.part(low, &rest[..few]), few)
                        }
                    }
                };
                if bytes.len() > left {
                    if let Some((number, record, held, _)) = filling.take() {
                        self.close(number, record, &held)?;
                    }
                    let (number, mut record) = match extensions.pop() {
                        Some(number) => (number, fs.raw_record(number)?),
                        None => self.new_record()?,
                    };
                    put(&mut record, 32, &(file | u64::from(own) << 48).to_le_bytes());
                    let left = fs.record - usize::from(le16(&record, 20)) - END;
                    if bytes.len() > left {
                        return Err(self.short());
                    }
                    filling = Some((number, record, Vec::new(), left));
                }
                if let Some((number, record, held, left)) = &mut filling {
                    let reference = *number | u64::from(le16(record, 16)) << 48;
                    places.push((at, low, reference, held.len() as u16));
                    *left -= bytes.len();
                    held.push(bytes);
                }
                low += count(&rest[..taken]);
                rest = &rest[taken..];
                if rest.is_empty() {
                    break;
                }
            }
        }
        if let Some((number, record, held, _)) = filling.take() {
            self.close(number, record, &held)?;
        }
        // Records that are not needed any more are free.
        for number in extensions {
            let mut record = fs.raw_record(number)?;
            put(&mut record, 22, &0u16.to_le_bytes());
            self.write_record(number, record)?;
            self.mark(number, false);
        }
        let mut home: Vec<Vec<u8>> = Vec::new();
        for (at, whole) in wholes.iter().enumerate().filter(|(at, _)| at_home[*at]) {
            let bytes = whole.runs.as_ref().map_or_else(|| whole.bytes.clone(), |runs| whole.part(0, runs));
            places.push((at, 0, file | u64::from(own) << 48, home.len() as u16));
            home.push(bytes);
        }
        places.sort_by_key(|(at, low, ..)| (*at, *low));
        if places.iter().any(|(.., reference, _)| reference & NUMBER != file) {
            let list: Vec<u8> = places.iter().flat_map(|(at, low, reference, id)| list_entry(&wholes[*at], *low, *reference, *id)).collect();
            let room = room - home.iter().map(Vec::len).sum::<usize>();
            let bytes = self.list(&list, room)?;
            let at = home.iter().position(|bytes| le32(bytes, 0) > LIST).unwrap_or(home.len());
            // Ids are the order in which the attributes were put in; the list has the last one.
            let ids: Vec<u16> = (0..home.len() as u16).collect();
            let last = home.len() as u16;
            let mut home: Vec<(u16, Vec<u8>)> = ids.into_iter().zip(home).collect();
            home.insert(at, (last, bytes));
            let all: Vec<Vec<u8>> = home.into_iter().map(|(id, bytes)| with_id(bytes, id)).collect();
            return self.write_record(file, filled(base, &all, last + 1));
        }
        let all: Vec<Vec<u8>> = home.into_iter().zip(0..).map(|(bytes, id)| with_id(bytes, id)).collect();
        let next = all.len() as u16;
        self.write_record(file, filled(base, &all, next))
    }

    fn close(&mut self, number: u64, record: Vec<u8>, held: &[Vec<u8>]) -> Result<()> {
        let all: Vec<Vec<u8>> = held.iter().zip(0..).map(|(bytes, id)| with_id(bytes.clone(), id)).collect();
        self.write_record(number, filled(record, &all, held.len() as u16))
    }

    /// The list of a file's attributes as an attribute: in the record where there is room, else in clusters of its own.
    fn list(&mut self, list: &[u8], room: usize) -> Result<Vec<u8>> {
        let mut out = vec![0; 24];
        put(&mut out, 0, &LIST.to_le_bytes());
        if up(24 + list.len() as u64, 8) as usize <= room {
            put(&mut out, 10, &24u16.to_le_bytes());
            put(&mut out, 16, &(list.len() as u32).to_le_bytes());
            put(&mut out, 20, &24u16.to_le_bytes());
            out.extend(list);
            out.resize(up(out.len() as u64, 8) as usize, 0);
            let len = out.len() as u32;
            put(&mut out, 4, &len.to_le_bytes());
            return Ok(out);
        }
        let cluster = self.fs.cluster;
        let pieces = self.moves.take((list.len() as u64).div_ceil(cluster)).ok_or_else(|| self.short())?;
        let mut padded = list.to_vec();
        padded.resize(up(list.len() as u64, cluster) as usize, 0);
        let mut done = 0;
        for piece in &pieces {
            let len = ((piece.end - piece.start) * cluster) as usize;
            self.view.write(piece.start * cluster, &padded[done..done + len])?;
            done += len;
        }
        out.resize(64, 0);
        out[8] = 1;
        put(&mut out, 10, &64u16.to_le_bytes());
        put(&mut out, 32, &64u16.to_le_bytes());
        put(&mut out, 40, &(padded.len() as u64).to_le_bytes());
        put(&mut out, 48, &(list.len() as u64).to_le_bytes());
        put(&mut out, 56, &(list.len() as u64).to_le_bytes());
        let runs: Vec<Run> = pieces.iter().map(|piece| (Some(piece.start), piece.end - piece.start)).collect();
        put(&mut out, 24, &(count(&runs) - 1).to_le_bytes());
        let out = with_runs(&out, &runs);
        if out.len() > room { Err(self.short()) } else { Ok(out) }
    }

    /// The records of the table: its runs, what came to it, and its own map.
    fn table_itself(&mut self) -> Result<()> {
        let fs = self.fs;
        let record = fs.raw_record(MFT)?;
        // What comes to the table is written where its last part stands.
        let is_table = |code: u32, bytes: &[u8]| code == DATA && bytes[8] != 0 && name_of(bytes).is_empty();
        let mut tail = (MFT, 0);
        for number in fs.further_records(MFT, &record)?.into_iter().rev() {
            let part = fs.raw_record(number)?;
            let low = attributes(&part).filter(|(code, bytes)| is_table(*code, bytes)).map(|(_, bytes)| le64(bytes, 16)).max();
            tail = tail.max((if low > Some(tail.1) { number } else { tail.0 }, low.unwrap_or(0).max(tail.1)));
        }
        let more: Vec<Run> = self.grown.iter().map(|run| (Some(run.start), run.end - run.start)).collect();
        let lengthened = |bytes: Vec<u8>| {
            let mut held = runs(&bytes);
            held.extend(&more);
            let mut out = with_runs(&bytes, &held);
            put(&mut out, 24, &(le64(&bytes, 24).wrapping_add(1) + count(&more)).wrapping_sub(1).to_le_bytes());
            out
        };
        let size = self.records * fs.record as u64;
        let full = || refused("ntfs-table-pieces", "its master file table lies in too many pieces for its own record");
        let (mut all, mut map_written) = (Vec::new(), false);
        for (code, bytes) in attributes(&record) {
            let mut new = self.changed(MFT, bytes, code).unwrap_or_else(|| bytes.to_vec());
            if is_table(code, bytes) {
                if !more.is_empty() && tail.0 == MFT {
                    new = lengthened(new);
                }
                let room = le64(bytes, 40) + count(&more) * fs.cluster;
                put(&mut new, 40, &room.to_le_bytes());
                put(&mut new, 48, &size.to_le_bytes());
                put(&mut new, 56, &size.to_le_bytes());
            }
            if code == BITMAP {
                new = self.table_map(new)?;
                map_written = true;
            }
            all.push(new);
        }
        let front = usize::from(le16(&record, 20));
        if !map_written || front + all.iter().map(Vec::len).sum::<usize>() + END > fs.record {
            return Err(full());
        }
        let next = le16(&record, 40);
        self.write_record(MFT, filled(record, &all, next))?;
        if tail.0 != MFT && !more.is_empty() {
            let part = fixed(self.read_record(tail.0)?, b"FILE").ok_or_else(full)?;
            let all: Vec<Vec<u8>> =
                attributes(&part).map(|(code, bytes)| if is_table(code, bytes) { lengthened(bytes.to_vec()) } else { bytes.to_vec() }).collect();
            if usize::from(le16(&part, 20)) + all.iter().map(Vec::len).sum::<usize>() + END > fs.record {
                return Err(full());
            }
            let next = le16(&part, 40);
            self.write_record(tail.0, filled(part, &all, next))?;
        }
        Ok(())
    }

    /// The map of records in use as it is by now.
    fn table_map(&mut self, mut attribute: Vec<u8>) -> Result<Vec<u8>> {
        let bytes = self.in_use_bytes.clone();
        if let Some(held) = resident(&attribute) {
            let at = usize::from(le16(&attribute, 20));
            let old = held.len();
            attribute.truncate(at + old);
            attribute.resize(at + bytes.len().max(old), 0);
            put(&mut attribute, at, &bytes);
            put(&mut attribute, 16, &(bytes.len() as u32).to_le_bytes());
            attribute.resize(up(attribute.len() as u64, 8) as usize, 0);
            let len = attribute.len() as u32;
            put(&mut attribute, 4, &len.to_le_bytes());
            return Ok(attribute);
        }
        let cluster = self.fs.cluster;
        let mut held = runs(&attribute);
        let room = count(&held) * cluster;
        if bytes.len() as u64 > room {
            let more = self.moves.take((bytes.len() as u64 - room).div_ceil(cluster)).ok_or_else(|| self.short())?;
            held.extend(more.iter().map(|run| (Some(run.start), run.end - run.start)));
            attribute = with_runs(&attribute, &held);
            put(&mut attribute, 24, &(count(&held) - 1).to_le_bytes());
            put(&mut attribute, 40, &(count(&held) * cluster).to_le_bytes());
        }
        put(&mut attribute, 48, &(bytes.len() as u64).to_le_bytes());
        put(&mut attribute, 56, &(bytes.len() as u64).to_le_bytes());
        let mut padded = bytes;
        padded.resize((count(&held) * cluster) as usize, 0);
        let mut done = 0;
        for (first, len) in held {
            let len = (len * cluster) as usize;
            if let Some(first) = first {
                self.view.write(first * cluster, &padded[done..done + len])?;
            }
            done += len;
        }
        Ok(attribute)
    }

    /// The map of clusters in use; what it says of clusters beyond the end counts as used.
    fn write_map(&mut self) -> Result<()> {
        let cluster = self.fs.cluster;
        let bits = up(self.clusters.div_ceil(8), 8) * 8;
        let mut used = self.moves.used(0..self.clusters);
        used.push(self.clusters..bits);
        let places = self.map.iter().cloned().flatten().map(|number| number * cluster);
        self.view.write_bits(places, cluster, used.into_iter())
    }

    fn boot(&mut self, wanted: &Wanted, mut boot: Vec<u8>) -> Result<()> {
        let fs = self.fs;
        let sector = u64::from(wanted.sector);
        let per = fs.cluster / sector;
        let place = |cluster: u64| self.moves.place(cluster).unwrap_or(cluster);
        put(&mut boot, 11, &(sector as u16).to_le_bytes());
        boot[13] = if per <= 128 { per as u8 } else { (256 - u64::from(per.ilog2())) as u8 };
        put(&mut boot, 28, &u32::try_from(wanted.start).unwrap_or(0).to_le_bytes());
        // A volume may not be longer than its clusters by more than one of them.
        let total = (wanted.len / sector - 1).min(self.clusters * per + per - 1);
        let (table, mirror) = (place(le64(&boot, 48)), place(fs.mirror.0));
        if let Some(fresh) = wanted.fresh {
            put(&mut boot, 72, &fresh[..8]);
        }
        put(&mut boot, 40, &total.to_le_bytes());
        put(&mut boot, 48, &table.to_le_bytes());
        put(&mut boot, 56, &mirror.to_le_bytes());
        self.view.write(0, &boot)?;
        self.view.write(total * sector, &boot)?;
        self.view.fix(total * sector..(total + 1) * sector);
        Ok(())
    }
}

/// Whether an attribute stands in the base record.
fn order_in(inside: &[super::walk::Attribute], bytes: &[u8]) -> bool {
    inside.iter().any(|one| one.bytes == bytes)
}

fn with_id(mut attribute: Vec<u8>, id: u16) -> Vec<u8> {
    put(&mut attribute, 14, &id.to_le_bytes());
    attribute
}

/// A record with other attributes; `next` is the id the next one would get.
fn filled(mut record: Vec<u8>, all: &[Vec<u8>], next: u16) -> Vec<u8> {
    let mut at = usize::from(le16(&record, 20));
    record[at..].fill(0);
    for bytes in all {
        put(&mut record, at, bytes);
        at += bytes.len();
    }
    put(&mut record, at, &u32::MAX.to_le_bytes());
    let used = (at + END) as u32;
    put(&mut record, 24, &used.to_le_bytes());
    put(&mut record, 40, &next.to_le_bytes());
    record
}

fn list_entry(whole: &Whole, low: u64, reference: u64, id: u16) -> Vec<u8> {
    let name = name_of(&whole.bytes);
    let mut out = vec![0; 26];
    put(&mut out, 0, &whole.code.to_le_bytes());
    out[6] = (name.len() / 2) as u8;
    out[7] = 26;
    put(&mut out, 8, &low.to_le_bytes());
    put(&mut out, 16, &reference.to_le_bytes());
    put(&mut out, 24, &id.to_le_bytes());
    out.extend(name);
    out.resize(up(out.len() as u64, 8) as usize, 0);
    let len = out.len() as u16;
    put(&mut out, 4, &len.to_le_bytes());
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn run_lists_are_read_as_they_were_written(list in prop::collection::vec((prop::option::of(0u64..1 << 40), 1u64..1 << 33), 1..60)) {
            let mut attribute = vec![0; 64];
            attribute[32] = 64;
            prop_assert_eq!(runs(&with_runs(&attribute, &list)), list);
        }
    }
}
