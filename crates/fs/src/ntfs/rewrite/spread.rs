//! A file whose run lists outgrow its record is laid out again over further records.

use super::super::Run;
use super::super::runs;
use super::super::walk::{Attribute, LIST, NUMBER, Ntfs};
use super::attribute::{Placed, Whole, count, filled, list_entry, name_of, with_id, with_runs};
use super::{Change, END, FRONT, STANDARD, set};
use crate::finding::{Finding, Result};
use crate::resize::up;
use badger_drive::field::{le16, le32, le64};
use std::collections::BTreeMap;

/// A part of an attribute: whether it stood in the base record, and its bytes.
type Part = (bool, Vec<u8>);
/// A further record that is being filled: its number, its bytes, the attributes for it, and the bytes that are left.
type Filling = (u64, Vec<u8>, Vec<Vec<u8>>, usize);

impl Change<'_> {
    /// Lays the attributes of a file out anew over its records and as many more as it needs.
    pub(super) fn lay_out(&mut self, file: u64) -> Result<()> {
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
    pub(super) fn wholes(&mut self, file: u64, base: &[u8], all: &[Attribute]) -> Vec<Whole> {
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
    pub(super) fn stay_at_home(&self, wholes: &[Whole], room: usize) -> Result<Vec<bool>> {
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
    pub(super) fn write_outside(
        &mut self,
        file: u64,
        base: &[u8],
        wholes: &[Whole],
        at_home: &[bool],
        extensions: &mut Vec<u64>,
    ) -> Result<Vec<Placed>> {
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

    pub(super) fn close(&mut self, number: u64, record: Vec<u8>, held: &[Vec<u8>]) -> Result<()> {
        let all: Vec<Vec<u8>> = held.iter().zip(0..).map(|(bytes, id)| with_id(bytes.clone(), id)).collect();
        self.write_record(number, filled(record, &all, held.len() as u16))
    }

    /// The list of a file's attributes as an attribute: in the record where there is room, else in clusters of its own.
    pub(super) fn list(&mut self, list: &[u8], room: usize) -> Result<Vec<u8>> {
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
}

/// Whether an attribute stands in the base record.
fn order_in(inside: &[Attribute], bytes: &[u8]) -> bool {
    inside.iter().any(|one| one.bytes == bytes)
}
