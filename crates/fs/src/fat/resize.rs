//! A FAT volume of another size: tables written anew, chains and first clusters led to where their clusters went.

use super::Fat;
use crate::finding::Result;
use crate::node::NodeKind;
use crate::resize::{Bounds, Relocation, View, Wanted, must_be_sound, refused, total, units, up};
use crate::survey::Survey;
use crate::tree::{self, Tree};
use badger_drive::field::{le16, le32};
use std::ops::Range;

/// Clusters of FAT32 are brought to multiples of this, for drives that write in pieces of 4096 bytes.
const ALIGN: u64 = 4096;
/// Entries written at once; even, so that no entry of 12 bits lies across two stretches.
const STEP: u64 = 1 << 16;

/// The sizes of a volume, in its own sectors unless they say otherwise.
#[derive(Clone, Copy)]
struct Shape {
    sector: u64,
    per_cluster: u64,
    reserved: u64,
    table: u64,
    root: u64,
    total: u64,
    clusters: u64,
}

impl Shape {
    fn data(&self, copies: u64) -> u64 {
        self.reserved + copies * self.table + self.root
    }
}

impl Fat {
    /// The least and the greatest number of clusters the width of the entries allows.
    fn cluster_bounds(&self) -> (u64, u64) {
        match self.bits {
            12 => (1, 4084),
            16 => (4085, 65524),
            _ => (65525, 0x0fff_fff5),
        }
    }

    /// The shape for `clusters` clusters on a drive with sectors of `sector` bytes.
    fn shape(&self, clusters: u64, sector: u64) -> Result<Shape> {
        let boot = self.volume.read(0, 512)?;
        if !self.cluster.is_multiple_of(sector) || self.cluster / sector > 128 {
            let text = format!("its clusters of {} bytes cannot be counted in sectors of {sector}", self.cluster);
            return Err(refused("fat-sectors", text));
        }
        let table = ((clusters + 2) * u64::from(self.bits)).div_ceil(8 * sector);
        let roots = u64::from(le16(&boot, 17)) * 32;
        if !roots.is_multiple_of(sector) {
            return Err(refused("fat-sectors", format!("its root directory of {roots} bytes does not fill whole sectors of {sector}")));
        }
        let mut reserved = self.table / self.sector;
        if self.bits == 32 {
            let step = (ALIGN.min(self.cluster) / sector).max(1);
            let front = reserved + self.copies * table;
            reserved += up(front, step) - front;
        }
        let per_cluster = self.cluster / sector;
        let shape = Shape { sector, per_cluster, reserved, table, root: roots / sector, total: 0, clusters };
        Ok(Shape { total: shape.data(self.copies) + clusters * per_cluster, ..shape })
    }

    /// The largest shape that has room in `len` bytes.
    fn fitting(&self, len: u64, sector: u64) -> Result<Shape> {
        let (_, most) = self.cluster_bounds();
        let (mut low, mut high) = (0, most.min(len / self.cluster));
        while low < high {
            let middle = (low + high).div_ceil(2);
            let shape = self.shape(middle, sector)?;
            if shape.total * sector <= len && shape.total <= u64::from(u32::MAX) { low = middle } else { high = middle - 1 }
        }
        let shape = self.shape(low, sector)?;
        // What does not make a cluster any more belongs to the volume all the same.
        let end = (len / sector).min(shape.total + shape.per_cluster - 1).min(u64::from(u32::MAX));
        Ok(Shape { total: end.max(shape.total), ..shape })
    }

    fn used_clusters(&self, survey: &Survey) -> Vec<Range<u64>> {
        units(survey, self.data..self.data + u64::from(self.clusters) * self.cluster, self.cluster, 2)
    }

    pub(super) fn bounds_of(&self, survey: &Survey, sector: u64) -> Result<Bounds> {
        must_be_sound(survey)?;
        let (least, most) = self.cluster_bounds();
        let used = total(&self.used_clusters(survey));
        let bytes = |clusters| self.shape(clusters, sector).map(|shape| shape.total * sector);
        let most = most.min((u64::from(u32::MAX) - self.shape(most, sector)?.data(self.copies)) * sector / self.cluster);
        Ok(Bounds { least: bytes(used.max(least))?, most: bytes(most)?, unit: self.cluster })
    }

    pub(super) fn room_in(&self, survey: &Survey, len: u64, sector: u64) -> Result<u64> {
        let used = total(&self.used_clusters(survey));
        Ok(self.fitting(len, sector)?.clusters.saturating_sub(used) * self.cluster)
    }

    pub(super) fn resized_to(&self, survey: &Survey, wanted: &Wanted) -> Result<View> {
        must_be_sound(survey)?;
        let sector = u64::from(wanted.sector);
        let shape = self.fitting(wanted.len, sector)?;
        let (least, _) = self.cluster_bounds();
        let short = || refused("volume-too-small", format!("{} bytes are too few for what it holds", wanted.len));
        if shape.clusters < least {
            return Err(short());
        }
        let room = 2..shape.clusters + 2;
        let (mut moves, movers) = Relocation::begin(&self.used_clusters(survey), &[], room.clone());
        moves.settle(&movers).ok_or_else(short)?;
        let mut view = View::new(self.volume.drive(), wanted.len, wanted.sector)?;
        let start = self.volume.start();
        let data = shape.data(self.copies) * sector;
        for step in moves.steps() {
            let from = start + self.data + (step.from - 2) * self.cluster;
            view.show(from, data + (step.to - 2) * self.cluster, step.len * self.cluster);
        }
        let root = (shape.reserved + self.copies * shape.table) * sector;
        view.show(start + self.root.0, root, self.root.1);
        view.fix(0..data);
        view.sort(start);
        self.write_front(&mut view, &shape, wanted, room.end - room.start - (shape.clusters - moves.free()))?;
        self.write_tables(&mut view, &shape, &moves)?;
        let place = |byte: u64| -> Option<u64> {
            match byte.checked_sub(self.data) {
                Some(inner) => moves.place(inner / self.cluster + 2).map(|cluster| data + (cluster - 2) * self.cluster + inner % self.cluster),
                None => Some(root + byte.checked_sub(self.root.0)?),
            }
        };
        self.lead_entries(&mut view, &moves, &place)?;
        view.finish()
    }

    /// The sectors in front of the tables.
    fn write_front(&self, view: &mut View, shape: &Shape, wanted: &Wanted, free: u64) -> Result<()> {
        let shared = self.sector.min(shape.sector);
        for number in 0..(self.table / self.sector).min(shape.reserved) {
            let bytes = self.volume.read(number * self.sector, shared as usize)?;
            view.write_sparse(number * shape.sector, &bytes)?;
        }
        let boots = [0, self.backup].into_iter().take(if self.backup > 0 { 2 } else { 1 });
        for at in boots {
            let mut boot = self.volume.read(at * self.sector, 512)?;
            let mut put = |at: usize, bytes: &[u8]| boot[at..at + bytes.len()].copy_from_slice(bytes);
            put(11, &(shape.sector as u16).to_le_bytes());
            put(13, &[shape.per_cluster as u8]);
            put(14, &(shape.reserved as u16).to_le_bytes());
            let short = self.bits != 32 && shape.total < 1 << 16;
            put(19, &(if short { shape.total as u16 } else { 0 }).to_le_bytes());
            put(32, &(if short { 0 } else { shape.total as u32 }).to_le_bytes());
            // What stands behind the largest number is the system's to find; the field has no more room.
            put(28, &u32::try_from(wanted.start).unwrap_or(0).to_le_bytes());
            if let Some([a, b, c, d, ..]) = wanted.fresh {
                put(if self.bits == 32 { 67 } else { 39 }, &[a, b, c, d]);
            }
            if self.bits == 32 {
                put(36, &(shape.table as u32).to_le_bytes());
            } else {
                put(22, &(shape.table as u16).to_le_bytes());
            }
            view.write(at * shape.sector, &boot)?;
        }
        for at in [self.info, self.info + self.backup].into_iter().filter(|at| self.info > 0 && at * self.sector < self.table) {
            let mut info = self.volume.read(at * self.sector, 512)?;
            if le32(&info, 0) == 0x4161_5252 && le32(&info, 484) == 0x6141_7272 {
                info[488..492].copy_from_slice(&(free as u32).to_le_bytes());
                info[492..496].copy_from_slice(&u32::MAX.to_le_bytes());
                view.write(at * shape.sector, &info)?;
            }
        }
        Ok(())
    }

    /// Entries from `first` on as they stand, with the bits the format does not use.
    fn raw(&self, first: u64, count: u64) -> Result<Vec<u32>> {
        let at = first * u64::from(self.bits) / 8;
        let end = ((first + count) * u64::from(self.bits)).div_ceil(8);
        let bytes = self.volume.read(self.table + self.active * self.table_len + at, (end - at) as usize)?;
        Ok(match self.bits {
            12 => (0..count as usize)
                .map(|index| {
                    let odd = (first as usize + index) % 2;
                    let low = ((first as usize + index) * 3 / 2) - at as usize;
                    u32::from(le16(&bytes, low)) >> (odd * 4) & 0xfff
                })
                .collect(),
            16 => bytes.as_chunks::<2>().0.iter().map(|entry| u32::from(u16::from_le_bytes(*entry))).collect(),
            _ => bytes.as_chunks::<4>().0.iter().map(|entry| u32::from_le_bytes(*entry)).collect(),
        })
    }

    fn write_tables(&self, view: &mut View, shape: &Shape, moves: &Relocation) -> Result<()> {
        let mask = if self.bits == 32 { 0x0fff_ffff } else { u32::MAX };
        let lead = |raw: u32| -> u32 {
            let value = raw & mask;
            if (2..self.clusters + 2).contains(&value) { moves.place(u64::from(value)).map_or(raw, |to| raw & !mask | to as u32) } else { raw }
        };
        let mut write = |number: u64, values: &[u32]| -> Result<()> {
            let bytes: Vec<u8> = match self.bits {
                12 => values.as_chunks::<2>().0.iter().flat_map(|[a, b]| [*a as u8, (a >> 8 | b << 4) as u8, (b >> 4) as u8]).collect(),
                16 => values.iter().flat_map(|value| (*value as u16).to_le_bytes()).collect(),
                _ => values.iter().flat_map(|value| value.to_le_bytes()).collect(),
            };
            let at = number * STEP * u64::from(self.bits) / 8;
            let bytes = &bytes[..bytes.len().min((shape.table * shape.sector - at) as usize)];
            (0..self.copies).try_for_each(|copy| view.write_sparse((shape.reserved + copy * shape.table) * shape.sector + at, bytes))
        };
        // In the order of the new table, one stretch of it at a time.
        let (mut stretch, mut number) = (vec![0; STEP as usize], 0);
        stretch[..2].copy_from_slice(&self.raw(0, 2)?);
        let mut steps = moves.steps().to_vec();
        steps.sort_unstable_by_key(|step| step.to);
        for step in steps {
            let mut done = 0;
            while done < step.len {
                let to = step.to + done;
                if to / STEP != number {
                    write(number, &stretch)?;
                    stretch.fill(0);
                    number = to / STEP;
                }
                let count = (step.len - done).min(STEP - to % STEP);
                let values = self.raw(step.from + done, count)?;
                for (slot, raw) in stretch[(to % STEP) as usize..].iter_mut().zip(values) {
                    *slot = lead(raw);
                }
                done += count;
            }
        }
        write(number, &stretch)
    }

    /// Leads the entries of all directories to where their clusters went.
    fn lead_entries(&self, view: &mut View, moves: &Relocation, place: &dyn Fn(u64) -> Option<u64>) -> Result<()> {
        let mut wrong = None;
        let mut lead = |at: u64, first: u32| {
            let to = moves.place(u64::from(first)).filter(|to| *to != u64::from(first));
            if let (Some(to), Some(at)) = (to, place(at)) {
                let high = self.bits == 32;
                let done = view.write(at + 26, &(to as u16).to_le_bytes());
                let done = done.and_then(|()| if high { view.write(at + 20, &((to >> 16) as u16).to_le_bytes()) } else { Ok(()) });
                wrong = done.err().or(wrong.take());
            }
        };
        let root = self.root()?;
        let mut each = |_: &str, entry: &tree::Entry| {
            let first = entry.node.place.first;
            lead(entry.node.id, first);
            if entry.node.kind == NodeKind::Directory && first >= 2 {
                let at = self.data + u64::from(first - 2) * self.cluster;
                let Ok(dots) = self.volume.read(at, 64) else { return };
                for (dot, at) in dots.chunks_exact(32).zip([at, at + 32]) {
                    if dot[0] == b'.' {
                        lead(at, self.first_cluster(dot));
                    }
                }
            }
        };
        let findings = crate::walk::walk(self, root, "", &mut each);
        if let Some(finding) = findings.into_iter().next().or(wrong) {
            return Err(finding);
        }
        if self.bits == 32 {
            let to = moves.place(u64::from(self.root_cluster)).unwrap_or(2) as u32;
            let sector = view.sector();
            for at in [0, self.backup].into_iter().take(if self.backup > 0 { 2 } else { 1 }) {
                view.write(at * sector + 44, &to.to_le_bytes())?;
            }
        }
        Ok(())
    }
}
