//! Records of the table: read as they are by now, written with their fix-ups, taken anew.

use super::super::{attributes, owner};
use super::attribute::filled;
use super::{Change, END, FRONT, set};
use crate::finding::Result;
use crate::resize::up;
use badger_drive::field::le16;

impl Change<'_> {
    /// Where bytes of the table go: pieces of the new volume.
    pub(super) fn table_places(&self, at: u64, len: u64) -> Result<Vec<(u64, u64)>> {
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
    pub(super) fn read_record(&mut self, number: u64) -> Result<Vec<u8>> {
        let mut bytes = Vec::with_capacity(self.fs.record);
        for (place, len) in self.table_places(number * self.fs.record as u64, self.fs.record as u64)? {
            bytes.extend(self.view.bytes(place, len as usize)?);
        }
        Ok(bytes)
    }

    /// Writes a record with its update sequence.
    pub(super) fn write_record(&mut self, number: u64, mut record: Vec<u8>) -> Result<()> {
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

    pub(super) fn take_record(&mut self, number: u64, record: Vec<u8>) -> Result<()> {
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
    pub(super) fn new_record(&mut self) -> Result<(u64, Vec<u8>)> {
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

    pub(super) fn mark(&mut self, number: u64, used: bool) {
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
}
