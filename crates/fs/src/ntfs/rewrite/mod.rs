//! An NTFS volume of another size is written: run lists led to where their clusters went, the map of clusters, the mirror, both
//! boot sectors and the sizes the format keeps of itself. A file whose run lists outgrow its record is laid out again over
//! further records. The log is emptied: what it says is of places that are not the same any more.

mod attribute;
mod record;
mod spread;

use super::walk::{BITMAP, DATA, Ntfs};
use super::{Run, attributes, fixed, resident, runs};
use crate::bits::Bits;
use crate::finding::{Finding, Result};
use crate::resize::{Relocation, View, Wanted, refused, up};
use crate::tree::Volume;
use attribute::{count, filled, name_of, with_runs};
use badger_drive::field::{le16, le64};
use std::collections::BTreeSet;
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

/// The number of clusters of a volume of so many bytes; the last sector holds the copy of the boot sector.
pub(super) fn clusters_in(len: u64, sector: u64, cluster: u64) -> u64 {
    (len / sector).saturating_sub(1) * sector / cluster
}

pub(super) fn set(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes[at..at + value.len()].copy_from_slice(value);
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
