//! An exFAT volume of another size: boot regions, bitmap and table written anew, entry sets moved to where their clusters
//! went. A file that lay in one piece and cannot stay so gets a chain. The bitmap and the table of upper case letters
//! always lie in one piece: the format's text allows chains, but systems read them by their first cluster and length.

use super::{ExFat, MOST_DIRECTORY, boot_sum, set_sum};
use crate::finding::Result;
use crate::node::{Piece, Place};
use crate::resize::{Bounds, Relocation, View, Wanted, must_be_sound, refused, tidy, total, units, up};
use crate::survey::Survey;
use badger_drive::field::{le16, le32, le64};
use std::collections::HashSet;
use std::ops::Range;

/// Sectors of both boot regions; the table comes behind them.
const BOOT: u64 = 24;
/// The first cluster keeps its alignment up to this.
const MOST_ALIGN: u64 = 1 << 20;
/// The greatest number of clusters.
const MOST: u64 = u32::MAX as u64 - 10;

/// How many clusters of sorted runs lie in a range.
fn overlap(used: &[Range<u64>], range: &Range<u64>) -> u64 {
    let first = used.partition_point(|run| run.end <= range.start);
    used[first..].iter().take_while(|run| run.start < range.end).map(|run| run.end.min(range.end) - run.start.max(range.start)).sum()
}

struct Shape {
    sector: u64,
    table: u64,
    table_len: u64,
    heap: u64,
    clusters: u64,
}

/// An entry set of a directory: where each of its parts stands in the volume, and its bytes.
struct Set {
    at: Vec<u64>,
    bytes: Vec<u8>,
}

impl ExFat {
    fn shape(&self, clusters: u64, sector: u64) -> Shape {
        // As it was: at least this far in, and as well aligned.
        let align = (1 << self.heap.trailing_zeros().min(MOST_ALIGN.trailing_zeros())).max(sector);
        let table = up(self.table.max(BOOT * sector), sector.max(4096));
        let table_len = up((clusters + 2) * 4, sector);
        Shape { sector, table, table_len, heap: up(table + table_len, align), clusters }
    }

    fn fitting(&self, len: u64, sector: u64) -> Shape {
        let (mut low, mut high) = (0, MOST.min(len / self.cluster));
        while low < high {
            let middle = (low + high).div_ceil(2);
            if self.shape(middle, sector).heap + middle * self.cluster <= len { low = middle } else { high = middle - 1 }
        }
        self.shape(low, sector)
    }

    fn bitmap_clusters(&self, clusters: u64) -> u64 {
        clusters.div_ceil(8).div_ceil(self.cluster)
    }

    /// Clusters in use without those of the bitmap, which is written anew, and of the table of upper case letters.
    fn used_clusters(&self, survey: &Survey) -> Result<Vec<Range<u64>>> {
        let mut survey = survey.clone();
        let (bitmap, upcase) = (self.system.bitmap, self.system.upcase);
        for piece in self.chain(bitmap.0, bitmap.1)?.into_iter().chain(self.chain(upcase.0, upcase.1)?) {
            let at = piece.at.unwrap_or(0);
            survey.usage.clear(at..at + piece.len);
        }
        Ok(units(&survey, self.heap..self.heap + u64::from(self.clusters) * self.cluster, self.cluster, 2))
    }

    /// Clusters of the table of upper case letters.
    fn upcase_clusters(&self) -> u64 {
        self.system.upcase.1.div_ceil(self.cluster)
    }

    pub(super) fn bounds_of(&self, survey: &Survey, sector: u64) -> Result<Bounds> {
        must_be_sound(survey)?;
        self.can_change(sector)?;
        let used = total(&self.used_clusters(survey)?) + self.upcase_clusters();
        // The bitmap takes clusters of its own.
        let mut least = used + 1;
        while least < used + self.bitmap_clusters(least) {
            least = used + self.bitmap_clusters(least);
        }
        let size = |clusters| {
            let shape = self.shape(clusters, sector);
            shape.heap + clusters * self.cluster
        };
        Ok(Bounds { least: up(size(least), sector), most: size(MOST), unit: self.cluster })
    }

    pub(super) fn room_in(&self, survey: &Survey, len: u64, sector: u64) -> Result<u64> {
        self.can_change(sector)?;
        let clusters = self.fitting(len, sector).clusters;
        let used = total(&self.used_clusters(survey)?);
        Ok(clusters.saturating_sub(used + self.upcase_clusters() + self.bitmap_clusters(clusters)) * self.cluster)
    }

    pub(super) fn resized_to(&self, survey: &Survey, wanted: &Wanted) -> Result<View> {
        must_be_sound(survey)?;
        let sector = u64::from(wanted.sector);
        let boot = self.can_change(sector)?;
        let shape = self.fitting(wanted.len, sector);
        let room = 2..shape.clusters + 2;
        let short = || refused("volume-too-small", format!("{} bytes are too few for what it holds", wanted.len));
        let used = self.used_clusters(survey)?;
        let [bitmap, upcase] = self.place_system(&used, room.clone(), shape.clusters).ok_or_else(short)?;
        let taken = tidy(vec![bitmap.clone(), upcase.clone()]);
        let (mut moves, movers) = Relocation::begin(&used, &taken, room.clone());
        moves.settle(&movers).ok_or_else(short)?;
        let mut view = View::new(self.volume.drive(), wanted.len, wanted.sector)?;
        for step in moves.steps() {
            let from = self.volume.start() + self.heap + (step.from - 2) * self.cluster;
            view.show(from, shape.heap + (step.to - 2) * self.cluster, step.len * self.cluster);
        }
        let mut at = shape.heap + (upcase.start - 2) * self.cluster;
        for piece in self.chain(self.system.upcase.0, self.system.upcase.1)? {
            view.show(self.volume.start() + piece.at.unwrap_or(0), at, piece.len);
            at += piece.len;
        }
        view.fix(0..shape.heap);
        view.fix(shape.heap + (bitmap.start - 2) * self.cluster..shape.heap + (bitmap.end - 2) * self.cluster);
        view.sort(self.volume.start());
        let mut change = Change { fs: self, view, moves, shape };
        change.table(0, &[0xf8, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff])?;
        change.bitmap(&bitmap, room)?;
        change.link(std::slice::from_ref(&upcase))?;
        let root = Place { first: self.root, contiguous: false, valid: MOST_DIRECTORY };
        change.directories(root, bitmap.start, upcase.start)?;
        change.boot(wanted, &boot)?;
        change.view.finish()
    }

    /// Places for the bitmap and the table of upper case letters, each in one piece: where they were as far as they can
    /// stay, else where the fewest clusters of files have to make way.
    fn place_system(&self, used: &[Range<u64>], room: Range<u64>, clusters: u64) -> Option<[Range<u64>; 2]> {
        let lens = [self.bitmap_clusters(clusters), self.upcase_clusters()];
        let old = [(self.system.bitmap.0, lens[0]), (self.system.upcase.0, lens[1])];
        let mut out: [Option<Range<u64>>; 2] = [None, None];
        // What only stays needs no other to make way.
        for (which, (place, len)) in old.into_iter().enumerate() {
            let range = u64::from(place.first)..u64::from(place.first) + len;
            let is_free = range.start >= room.start && range.end <= room.end && overlap(used, &range) == 0;
            let is_apart = out.iter().flatten().all(|other| other.end <= range.start || range.end <= other.start);
            out[which] = (is_free && is_apart).then_some(range);
        }
        for which in [0, 1] {
            if out[which].is_some() {
                continue;
            }
            let len = lens[which];
            let other = out[1 - which].clone();
            let edges = used.iter().chain(&other).flat_map(|range| [Some(range.end), range.start.checked_sub(len)]);
            let starts = std::iter::once(Some(room.start)).chain(edges).chain([room.end.checked_sub(len)]).flatten();
            let fits = |start: &u64| {
                let end = start + len;
                *start >= room.start && end <= room.end && other.as_ref().is_none_or(|other| other.end <= *start || end <= other.start)
            };
            let start = starts.filter(fits).min_by_key(|start| (overlap(used, &(*start..start + len)), *start));
            out[which] = match start {
                Some(start) => Some(start..start + len),
                // The other one stands in the way: both go side by side.
                None => {
                    let start = room.start;
                    out[1 - which] = Some(start + len..start + len + lens[1 - which]).filter(|range| range.end <= room.end);
                    Some(start..start + len)
                }
            };
        }
        let [bitmap, upcase] = out;
        Some([bitmap?, upcase?])
    }

    /// The boot sector of a volume that can be changed.
    fn can_change(&self, sector: u64) -> Result<Vec<u8>> {
        let boot = self.volume.read(0, 512)?;
        if !self.cluster.is_multiple_of(sector) {
            return Err(refused("exfat-sectors", format!("its clusters of {} bytes cannot be counted in sectors of {sector}", self.cluster)));
        }
        if boot[110] != 1 {
            return Err(refused("exfat-two-tables", "it keeps two tables; such volumes are only copied as they are"));
        }
        Ok(boot)
    }

    fn number(&self, byte: u64) -> u64 {
        (byte - self.heap) / self.cluster + 2
    }

    /// The clusters of `bytes` bytes in their order.
    fn chain_runs(&self, place: Place, bytes: u64) -> Result<Vec<Range<u64>>> {
        let pieces = self.chain(place, bytes)?;
        Ok(pieces.iter().map(|piece| piece.at.map_or(0..0, |at| self.number(at)..self.number(at) + piece.len / self.cluster)).collect())
    }

    /// All entry sets of a directory, complete or not checked further.
    fn sets(&self, pieces: &[Piece]) -> Result<Vec<Set>> {
        let (mut out, mut missing): (Vec<Set>, usize) = (Vec::new(), 0);
        for piece in pieces {
            let mut done = 0;
            while done < piece.len {
                let step = (piece.len - done).min(1 << 20);
                let at = piece.at.unwrap_or(0) + done;
                let bytes = self.volume.read(at, step as usize)?;
                for (part, at) in bytes.chunks_exact(32).zip((at..).step_by(32)) {
                    match part[0] {
                        0 => return Ok(out),
                        0x81..=0x83 | 0x85 | 0xa0..=0xbf => {
                            missing = if part[0] == 0x85 { usize::from(part[1]) } else { 0 };
                            out.push(Set { at: vec![at], bytes: part.to_vec() });
                        }
                        0xc0..=0xff if missing > 0 => {
                            missing -= 1;
                            if let Some(set) = out.last_mut() {
                                set.at.push(at);
                                set.bytes.extend_from_slice(part);
                            }
                        }
                        _ => missing = 0,
                    }
                }
                done += step;
            }
        }
        Ok(out)
    }
}

/// What both boot regions become where a volume begins at another sector; see [`crate::placed`].
pub(crate) fn placed(boot: &[u8], read: &dyn Fn(u64, usize) -> Option<Vec<u8>>, first: u64) -> Vec<(u64, Vec<u8>)> {
    let sector = 1usize << boot[108].clamp(9, 12);
    let region = |number: u64| {
        let start = number * 12 * sector as u64;
        let mut bytes = read(start, 11 * sector)?;
        bytes[64..72].copy_from_slice(&first.to_le_bytes());
        let sum = boot_sum(&bytes).to_le_bytes();
        Some([(start + 64, first.to_le_bytes().to_vec()), (start + 11 * sector as u64, sum.repeat(sector / 4))])
    };
    (0..2).filter_map(region).flatten().collect()
}

struct Change<'a> {
    fs: &'a ExFat,
    view: View,
    moves: Relocation,
    shape: Shape,
}

impl Change<'_> {
    /// Writes bytes of the table from the entry of a cluster on.
    fn table(&mut self, cluster: u64, bytes: &[u8]) -> Result<()> {
        self.view.write(self.shape.table + cluster * 4, bytes)
    }

    /// Writes the chain that leads through runs of the new volume.
    fn link(&mut self, runs: &[Range<u64>]) -> Result<()> {
        for (run, next) in runs.iter().zip(runs.iter().skip(1).map(|run| run.start as u32).chain([u32::MAX])) {
            let mut at = run.start;
            while at < run.end {
                let stop = run.end.min(at + (1 << 16));
                let bytes: Vec<u8> =
                    (at..stop).flat_map(|cluster| if cluster + 1 == run.end { next } else { cluster as u32 + 1 }.to_le_bytes()).collect();
                self.table(at, &bytes)?;
                at = stop;
            }
        }
        Ok(())
    }

    /// Where runs of the old volume went, one after the other.
    fn moved(&self, runs: &[Range<u64>]) -> Vec<Range<u64>> {
        let mut out: Vec<Range<u64>> = Vec::new();
        for run in runs.iter().flat_map(|run| self.moves.run(run.clone())) {
            match out.last_mut() {
                Some(last) if last.end == run.start => last.end = run.end,
                _ => out.push(run),
            }
        }
        out
    }

    /// Writes the chain of runs of the old volume.
    fn chain(&mut self, runs: &[Range<u64>]) -> Result<()> {
        let moved = self.moved(runs);
        self.link(&moved)
    }

    fn bitmap(&mut self, place: &Range<u64>, room: Range<u64>) -> Result<()> {
        self.link(std::slice::from_ref(place))?;
        let (cluster, heap) = (self.fs.cluster, self.shape.heap);
        let places = place.clone().map(|number| heap + (number - 2) * cluster);
        let used = self.moves.used(room).into_iter().map(|range| range.start - 2..range.end - 2);
        self.view.write_bits(places, cluster, used)
    }

    /// Where a byte of the cluster heap went.
    fn place(&self, byte: u64) -> Option<u64> {
        let cluster = self.moves.place(self.fs.number(byte))?;
        Some(self.shape.heap + (cluster - 2) * self.fs.cluster + (byte - self.fs.heap) % self.fs.cluster)
    }

    fn write_set(&mut self, set: &Set) -> Result<()> {
        for (part, at) in set.bytes.chunks_exact(32).zip(&set.at) {
            if let Some(place) = self.place(*at) {
                self.view.write(place, part)?;
            }
        }
        Ok(())
    }

    fn directories(&mut self, root: Place, bitmap: u64, upcase: u64) -> Result<()> {
        let fs = self.fs;
        let mut seen = HashSet::from([root.first]);
        let mut waiting = vec![root];
        while let Some(place) = waiting.pop() {
            let pieces = fs.chain(place, place.valid.min(MOST_DIRECTORY))?;
            if place.first == fs.root {
                let runs = fs.chain_runs(place, MOST_DIRECTORY)?;
                self.chain(&runs)?;
            }
            for mut set in fs.sets(&pieces)? {
                match set.bytes[0] {
                    0x81 => {
                        set.bytes[20..24].copy_from_slice(&(bitmap as u32).to_le_bytes());
                        set.bytes[24..32].copy_from_slice(&self.shape.clusters.div_ceil(8).to_le_bytes());
                        self.write_set(&set)?;
                    }
                    0x82 => {
                        set.bytes[20..24].copy_from_slice(&(upcase as u32).to_le_bytes());
                        self.write_set(&set)?;
                    }
                    0x85 if set.bytes.get(32) == Some(&0xc0) => {
                        if let Some(below) = self.file(&mut set)?.filter(|below| seen.insert(below.first)) {
                            waiting.push(below);
                        }
                    }
                    _ => {}
                }
            }
        }
        Ok(())
    }

    /// Leads one file or directory to its clusters; gives a directory's place.
    fn file(&mut self, set: &mut Set) -> Result<Option<Place>> {
        let fs = self.fs;
        let (first, size) = (le32(&set.bytes, 52), le64(&set.bytes, 56));
        let place = Place { first, contiguous: set.bytes[33] & 2 != 0, valid: size };
        if first == 0 || size == 0 {
            return Ok(None);
        }
        let moved = self.moved(&fs.chain_runs(place, size)?);
        let together = moved.len() == 1;
        if !(place.contiguous && together) {
            self.link(&moved)?;
        }
        let to = moved.first().map_or(0, |run| run.start as u32);
        if to != first || place.contiguous && !together {
            set.bytes[52..56].copy_from_slice(&to.to_le_bytes());
            if !together {
                set.bytes[33] &= !2;
            }
            let sum = set_sum(&set.bytes);
            set.bytes[2..4].copy_from_slice(&sum.to_le_bytes());
            self.write_set(set)?;
        }
        Ok((le16(&set.bytes, 4) & 16 != 0).then_some(place))
    }

    /// Both boot regions.
    fn boot(&mut self, wanted: &Wanted, boot: &[u8]) -> Result<()> {
        let (fs, shape) = (self.fs, &self.shape);
        let sector = shape.sector as usize;
        let mut region = vec![0u8; sector * 12];
        let mut main = boot.to_vec();
        let count = |bytes: u64| (bytes / shape.sector) as u32;
        let mut field = |at: usize, bytes: &[u8]| main[at..at + bytes.len()].copy_from_slice(bytes);
        field(64, &wanted.start.to_le_bytes());
        field(72, &(wanted.len / shape.sector).to_le_bytes());
        field(80, &count(shape.table).to_le_bytes());
        field(84, &count(shape.table_len).to_le_bytes());
        field(88, &count(shape.heap).to_le_bytes());
        field(92, &(shape.clusters as u32).to_le_bytes());
        field(96, &(self.moves.place(u64::from(fs.root)).unwrap_or(0) as u32).to_le_bytes());
        if let Some([a, b, c, d, ..]) = wanted.fresh {
            field(100, &[a, b, c, d]);
        }
        field(108, &[shape.sector.ilog2() as u8, (fs.cluster / shape.sector).ilog2() as u8]);
        let used = shape.clusters - self.moves.free();
        field(112, &[(used * 100 / shape.clusters.max(1)) as u8]);
        region[..512].copy_from_slice(&main);
        // The extended boot sectors end with their mark, whatever their size; then come parameters that count nothing.
        for number in 1..=8usize {
            let old = fs.volume.read(number as u64 * fs.sector, fs.sector as usize)?;
            let body = old.len().min(sector) - 4;
            region[number * sector..number * sector + body].copy_from_slice(&old[..body]);
            region[(number + 1) * sector - 4..(number + 1) * sector].copy_from_slice(&[0, 0, 0x55, 0xaa]);
        }
        let old = fs.volume.read(9 * fs.sector, 480)?;
        region[9 * sector..9 * sector + 480].copy_from_slice(&old);
        let sum = boot_sum(&region[..11 * sector]);
        region[11 * sector..].as_chunks_mut::<4>().0.iter_mut().for_each(|field| *field = sum.to_le_bytes());
        self.view.write_sparse(0, &region)?;
        self.view.write_sparse((sector * 12) as u64, &region)
    }
}
