//! An NTFS volume of another size is written: run lists led to where their clusters went, the map of clusters, the mirror, both
//! boot sectors and the sizes the format keeps of itself. A file whose run lists outgrow its record is laid out again over
//! further records. The log is emptied: what it says is of places that are not the same any more.

use super::walk::{Attribute, BITMAP, DATA, LIST, NUMBER, Ntfs};
use super::{attributes, fixed, owner, resident, runs};
use crate::bits::Bits;
use crate::finding::{Finding, Result};
use crate::resize::{Relocation, View, Wanted, refused, up};
use crate::tree::Volume;
use badger_drive::field::{le16, le32, le64};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

/// The format's own records.
pub(super) const MFT: u64 = 0;
pub(super) const LOG: u64 = 2;
pub(super) const MAP: u64 = 6;
pub(super) const BAD: u64 = 8;
pub(super) const STANDARD: u32 = 0x10;
/// Where the attributes of a new record begin, and what ends them.
pub(super) const FRONT: usize = 0x38;
pub(super) const END: usize = 8;

pub(super) type Run = (Option<u64>, u64);

/// The number of clusters of a volume of so many bytes; the last sector holds the copy of the boot sector.
pub(super) fn clusters_in(len: u64, sector: u64, cluster: u64) -> u64 {
    (len / sector).saturating_sub(1) * sector / cluster
}

pub(super) fn count(runs: &[Run]) -> u64 {
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

pub(super) fn set(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes[at..at + value.len()].copy_from_slice(value);
}

/// An attribute that is not resident, with another run list.
fn with_runs(attribute: &[u8], runs: &[Run]) -> Vec<u8> {
    let at = usize::from(le16(attribute, 32)).clamp(64, attribute.len());
    let mut out = attribute[..at].to_vec();
    out.extend(packed(runs));
    out.resize(up(out.len() as u64, 8) as usize, 0);
    let len = out.len() as u32;
    set(&mut out, 4, &len.to_le_bytes());
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
            set(&mut head, 10, &64u16.to_le_bytes());
            head.extend(name);
            head.resize(up(head.len() as u64, 8) as usize, 0);
            let at = head.len() as u16;
            set(&mut head, 32, &at.to_le_bytes());
            head
        };
        let mut out = with_runs(&head, runs);
        set(&mut out, 16, &low.to_le_bytes());
        set(&mut out, 24, &(low + count(runs)).wrapping_sub(1).to_le_bytes());
        out
    }

    /// The next part that is written: all that is left where that fits into the `left` bytes of a record or `outer` of a new
    /// one, else as much as a new one holds. Gives the bytes, and how many runs they say.
    fn next_part(&self, low: u64, rest: &[Run], left: usize, outer: usize, none_open: bool) -> (Vec<u8>, usize) {
        if self.runs.is_none() {
            return (self.bytes.clone(), 0);
        }
        let all = self.part(low, rest);
        if all.len() <= left.max(outer) && (all.len() <= left || none_open || all.len() <= outer) {
            return (all, rest.len());
        }
        let (mut few, mut many) = (1, rest.len());
        while few < many {
            let middle = (few + many).div_ceil(2);
            if self.part(low, &rest[..middle]).len() <= outer { few = middle } else { many = middle - 1 }
        }
        (self.part(low, &rest[..few]), few)
    }
}

/// A volume while it is written anew.
pub(super) struct Change<'a> {
    pub(super) fs: &'a Ntfs,
    pub(super) view: View,
    pub(super) moves: Relocation,
    /// Clusters of the new volume.
    pub(super) clusters: u64,
    /// Where the new map of clusters lies.
    pub(super) map: Vec<Range<u64>>,
    pub(super) in_use: Bits,
    pub(super) in_use_bytes: Vec<u8>,
    pub(super) next_free: u64,
    /// Records of the table, with those that came to it.
    pub(super) records: u64,
    /// Clusters that came to the table.
    pub(super) grown: Vec<Range<u64>>,
    /// Files whose run lists outgrew a record.
    pub(super) overflown: BTreeSet<u64>,
}

impl Change<'_> {
    fn short(&self) -> Finding {
        refused("volume-too-small", "there is too little room for the lists of where its files lie")
    }

    fn moved(&self, runs: Vec<Run>) -> Vec<Run> {
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
            set(&mut out, 24, &count(runs).wrapping_sub(1).to_le_bytes());
            set(&mut out, 40, &(count(runs) * self.fs.cluster).to_le_bytes());
            set(&mut out, 48, &bytes.to_le_bytes());
            out
        };
        if file == MAP && code == DATA && name.is_empty() {
            let runs: Vec<Run> = self.map.iter().map(|run| (Some(run.start), run.end - run.start)).collect();
            let bytes = up(self.clusters.div_ceil(8), 8);
            let mut out = sized(&runs, bytes);
            set(&mut out, 56, &bytes.to_le_bytes());
            return Some(out);
        }
        if file == BAD && code == DATA && !name.is_empty() {
            let bytes = self.clusters * self.fs.cluster;
            let mut out = sized(&[(None, self.clusters)], bytes);
            let written = le64(attribute, 56).min(bytes);
            set(&mut out, 56, &written.to_le_bytes());
            return Some(out);
        }
        let old = runs(attribute);
        let new = self.moved(old.clone());
        (new != old).then(|| with_runs(attribute, &new))
    }

    pub(super) fn all(&mut self) -> Result<()> {
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
            for (first, len) in self.moved(runs(&attribute.bytes)) {
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
            set(&mut record, end - 2, &mark);
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
        set(&mut record, 0, b"FILE");
        set(&mut record, 4, &0x30u16.to_le_bytes());
        set(&mut record, 6, &marks.to_le_bytes());
        set(&mut record, 16, &sequence.to_le_bytes());
        let front = up(0x30 + u64::from(marks) * 2, 8).max(FRONT as u64) as u16;
        set(&mut record, 20, &front.to_le_bytes());
        set(&mut record, 22, &1u16.to_le_bytes());
        set(&mut record, 28, &(fs.record as u32).to_le_bytes());
        set(&mut record, 44, &(number as u32).to_le_bytes());
        set(&mut record, 0x30, &1u16.to_le_bytes());
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
        let wholes = self.wholes(file, &base, &all);
        let mut extensions: Vec<u64> = fs.further_records(file, &base)?.into_iter().rev().collect();
        let room = fs.record - usize::from(le16(&base, 20)) - END;
        let at_home = self.stay_at_home(&wholes, room)?;
        let mut places = self.write_outside(file, &base, &wholes, &at_home, &mut extensions)?;
        // Records that are not needed any more are free.
        for number in extensions {
            let mut record = fs.raw_record(number)?;
            set(&mut record, 22, &0u16.to_le_bytes());
            self.write_record(number, record)?;
            self.mark(number, false);
        }
        let own = file | u64::from(le64(&base, 16) as u16) << 48;
        let mut home: Vec<Vec<u8>> = Vec::new();
        for (at, whole) in wholes.iter().enumerate().filter(|(at, _)| at_home[*at]) {
            let bytes = whole.runs.as_ref().map_or_else(|| whole.bytes.clone(), |runs| whole.part(0, runs));
            places.push(Placed { at, low: 0, reference: own, id: home.len() as u16 });
            home.push(bytes);
        }
        places.sort_by_key(|place| (place.at, place.low));
        // Ids are the order in which the attributes were put in; the list, where there is one, has the last one.
        let mut home: Vec<(u16, Vec<u8>)> = (0..).zip(home).collect();
        if places.iter().any(|place| place.reference & NUMBER != file) {
            let list: Vec<u8> = places.iter().flat_map(|place| list_entry(&wholes[place.at], place)).collect();
            let room = room - home.iter().map(|(_, bytes)| bytes.len()).sum::<usize>();
            let bytes = self.list(&list, room)?;
            let at = home.iter().position(|(_, bytes)| le32(bytes, 0) > LIST).unwrap_or(home.len());
            home.insert(at, (home.len() as u16, bytes));
        }
        let next = home.len() as u16;
        let all: Vec<Vec<u8>> = home.into_iter().map(|(id, bytes)| with_id(bytes, id)).collect();
        self.write_record(file, filled(base, &all, next))
    }

    /// A file's attributes as they must be in the new volume, each whole, in the order of the format.
    fn wholes(&mut self, file: u64, base: &[u8], all: &[Attribute]) -> Vec<Whole> {
        let mut inside = Vec::new();
        Ntfs::attributes_in(base, &mut inside);
        // The list of attributes is written anew; where it lay outside of the record that place is free.
        for one in all.iter().filter(|one| one.code == LIST && one.bytes[8] != 0) {
            let moved = self.moved(runs(&one.bytes));
            moved.into_iter().filter_map(|(first, len)| Some(first?..first? + len)).flatten().for_each(|cluster| self.moves.release(cluster));
        }
        let mut wholes: BTreeMap<(u32, usize, Vec<u8>), Vec<Part>> = BTreeMap::new();
        for (order, one) in all.iter().enumerate().filter(|(_, one)| one.code != LIST) {
            let bytes = self.changed(file, &one.bytes, one.code).unwrap_or_else(|| one.bytes.clone());
            // Parts of one stream belong together; several names of a file do not.
            let order = if one.bytes[8] == 0 { order } else { 0 };
            wholes.entry((one.code, order, name_of(&one.bytes).to_vec())).or_default().push((order_in(&inside, &one.bytes), bytes));
        }
        let whole = |code: u32, mut parts: Vec<Part>| {
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
        };
        wholes.into_iter().map(|((code, ..), parts)| whole(code, parts)).collect()
    }

    /// Which attributes stay in the file's own record, of which so many bytes are free.
    fn stay_at_home(&self, wholes: &[Whole], room: usize) -> Result<Vec<bool>> {
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
        Ok(at_home)
    }

    /// Writes what does not stay, record after record, a run list in as many parts as it needs. Records that the file had are
    /// taken from `extensions`.
    fn write_outside(&mut self, file: u64, base: &[u8], wholes: &[Whole], at_home: &[bool], extensions: &mut Vec<u64>) -> Result<Vec<Placed>> {
        let fs = self.fs;
        let outer = fs.record - FRONT.max(usize::from(up(0x30 + (fs.record as u64 / 512 + 1) * 2, 8) as u16)) - END;
        let own = le64(base, 16) as u16;
        let mut places = Vec::new();
        let mut filling: Option<Filling> = None;
        for (at, whole) in wholes.iter().enumerate().filter(|(at, _)| !at_home[*at]) {
            let (mut low, mut rest): (u64, &[Run]) = (0, whole.runs.as_deref().unwrap_or_default());
            loop {
                let left = filling.as_ref().map_or(0, |(.., left)| *left);
                let (bytes, taken) = whole.next_part(low, rest, left, outer, filling.is_none());
                if bytes.len() > left {
                    if let Some((number, record, held, _)) = filling.take() {
                        self.close(number, record, &held)?;
                    }
                    let (number, mut record) = match extensions.pop() {
                        Some(number) => (number, fs.raw_record(number)?),
                        None => self.new_record()?,
                    };
                    set(&mut record, 32, &(file | u64::from(own) << 48).to_le_bytes());
                    let left = fs.record - usize::from(le16(&record, 20)) - END;
                    if bytes.len() > left {
                        return Err(self.short());
                    }
                    filling = Some((number, record, Vec::new(), left));
                }
                if let Some((number, record, held, left)) = &mut filling {
                    let reference = *number | u64::from(le16(record, 16)) << 48;
                    places.push(Placed { at, low, reference, id: held.len() as u16 });
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
        Ok(places)
    }

    fn close(&mut self, number: u64, record: Vec<u8>, held: &[Vec<u8>]) -> Result<()> {
        let all: Vec<Vec<u8>> = held.iter().zip(0..).map(|(bytes, id)| with_id(bytes.clone(), id)).collect();
        self.write_record(number, filled(record, &all, held.len() as u16))
    }

    /// The list of a file's attributes as an attribute: in the record where there is room, else in clusters of its own.
    fn list(&mut self, list: &[u8], room: usize) -> Result<Vec<u8>> {
        let mut out = vec![0; 24];
        set(&mut out, 0, &LIST.to_le_bytes());
        if up(24 + list.len() as u64, 8) as usize <= room {
            set(&mut out, 10, &24u16.to_le_bytes());
            set(&mut out, 16, &(list.len() as u32).to_le_bytes());
            set(&mut out, 20, &24u16.to_le_bytes());
            out.extend(list);
            out.resize(up(out.len() as u64, 8) as usize, 0);
            let len = out.len() as u32;
            set(&mut out, 4, &len.to_le_bytes());
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
        set(&mut out, 10, &64u16.to_le_bytes());
        set(&mut out, 32, &64u16.to_le_bytes());
        set(&mut out, 40, &(padded.len() as u64).to_le_bytes());
        set(&mut out, 48, &(list.len() as u64).to_le_bytes());
        set(&mut out, 56, &(list.len() as u64).to_le_bytes());
        let runs: Vec<Run> = pieces.iter().map(|piece| (Some(piece.start), piece.end - piece.start)).collect();
        set(&mut out, 24, &(count(&runs) - 1).to_le_bytes());
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
            set(&mut out, 24, &(le64(&bytes, 24).wrapping_add(1) + count(&more)).wrapping_sub(1).to_le_bytes());
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
                set(&mut new, 40, &room.to_le_bytes());
                set(&mut new, 48, &size.to_le_bytes());
                set(&mut new, 56, &size.to_le_bytes());
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
            set(&mut attribute, at, &bytes);
            set(&mut attribute, 16, &(bytes.len() as u32).to_le_bytes());
            attribute.resize(up(attribute.len() as u64, 8) as usize, 0);
            let len = attribute.len() as u32;
            set(&mut attribute, 4, &len.to_le_bytes());
            return Ok(attribute);
        }
        let cluster = self.fs.cluster;
        let mut held = runs(&attribute);
        let room = count(&held) * cluster;
        if bytes.len() as u64 > room {
            let more = self.moves.take((bytes.len() as u64 - room).div_ceil(cluster)).ok_or_else(|| self.short())?;
            held.extend(more.iter().map(|run| (Some(run.start), run.end - run.start)));
            attribute = with_runs(&attribute, &held);
            set(&mut attribute, 24, &(count(&held) - 1).to_le_bytes());
            set(&mut attribute, 40, &(count(&held) * cluster).to_le_bytes());
        }
        set(&mut attribute, 48, &(bytes.len() as u64).to_le_bytes());
        set(&mut attribute, 56, &(bytes.len() as u64).to_le_bytes());
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
    pub(super) fn write_map(&mut self) -> Result<()> {
        let cluster = self.fs.cluster;
        let bits = up(self.clusters.div_ceil(8), 8) * 8;
        let mut used = self.moves.used(0..self.clusters);
        used.push(self.clusters..bits);
        let places = self.map.iter().cloned().flatten().map(|number| number * cluster);
        self.view.write_bits(places, cluster, used.into_iter())
    }

    pub(super) fn boot(&mut self, wanted: &Wanted, mut boot: Vec<u8>) -> Result<()> {
        let fs = self.fs;
        let sector = u64::from(wanted.sector);
        let per = fs.cluster / sector;
        let place = |cluster: u64| self.moves.place(cluster).unwrap_or(cluster);
        set(&mut boot, 11, &(sector as u16).to_le_bytes());
        boot[13] = if per <= 128 { per as u8 } else { (256 - u64::from(per.ilog2())) as u8 };
        set(&mut boot, 28, &u32::try_from(wanted.start).unwrap_or(0).to_le_bytes());
        // A volume may not be longer than its clusters by more than one of them.
        let total = (wanted.len / sector - 1).min(self.clusters * per + per - 1);
        let (table, mirror) = (place(le64(&boot, 48)), place(fs.mirror.0));
        if let Some(fresh) = wanted.fresh {
            set(&mut boot, 72, &fresh[..8]);
        }
        set(&mut boot, 40, &total.to_le_bytes());
        set(&mut boot, 48, &table.to_le_bytes());
        set(&mut boot, 56, &mirror.to_le_bytes());
        self.view.write(0, &boot)?;
        self.view.write(total * sector, &boot)?;
        self.view.fix(total * sector..(total + 1) * sector);
        Ok(())
    }
}

/// Whether an attribute stands in the base record.
fn order_in(inside: &[Attribute], bytes: &[u8]) -> bool {
    inside.iter().any(|one| one.bytes == bytes)
}

fn with_id(mut attribute: Vec<u8>, id: u16) -> Vec<u8> {
    set(&mut attribute, 14, &id.to_le_bytes());
    attribute
}

/// A record with other attributes; `next` is the id the next one would get.
fn filled(mut record: Vec<u8>, all: &[Vec<u8>], next: u16) -> Vec<u8> {
    let mut at = usize::from(le16(&record, 20));
    record[at..].fill(0);
    for bytes in all {
        set(&mut record, at, bytes);
        at += bytes.len();
    }
    set(&mut record, at, &u32::MAX.to_le_bytes());
    let used = (at + END) as u32;
    set(&mut record, 24, &used.to_le_bytes());
    set(&mut record, 40, &next.to_le_bytes());
    record
}

/// Where an attribute, or a part of one, was written.
struct Placed {
    /// Which of the file's attributes.
    at: usize,
    /// The first cluster of the stream that the part tells.
    low: u64,
    /// The record.
    reference: u64,
    /// Its number there.
    id: u16,
}

fn list_entry(whole: &Whole, place: &Placed) -> Vec<u8> {
    let name = name_of(&whole.bytes);
    let mut out = vec![0; 26];
    set(&mut out, 0, &whole.code.to_le_bytes());
    out[6] = (name.len() / 2) as u8;
    out[7] = 26;
    set(&mut out, 8, &place.low.to_le_bytes());
    set(&mut out, 16, &place.reference.to_le_bytes());
    set(&mut out, 24, &place.id.to_le_bytes());
    out.extend(name);
    out.resize(up(out.len() as u64, 8) as usize, 0);
    let len = out.len() as u16;
    set(&mut out, 4, &len.to_le_bytes());
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
