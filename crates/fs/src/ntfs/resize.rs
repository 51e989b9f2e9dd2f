//! An NTFS volume of another size: how small and large it can become, and where everything finds a place.

use super::rewrite::{BAD, Change, MAP, clusters_in};
use super::runs;
use super::walk::{DATA, FIRST_USER, Ntfs};
use crate::bits::Bits;
use crate::finding::Result;
use crate::resize::{Bounds, Relocation, View, Wanted, must_be_sound, refused, total, units, up};
use crate::survey::Survey;
use crate::tree::Volume;
use badger_drive::field::le64;
use std::collections::BTreeSet;
use std::ops::Range;

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
        let made = self.built(&used, clusters, wanted, &boot, false);
        match made {
            // Where the table's own record gets full, the table is brought together, whatever has to give way.
            Err(finding) if finding.code == "ntfs-table-pieces" => self.built(&used, clusters, wanted, &boot, true),
            other => other,
        }
    }

    /// Makes the new volume; `gather` brings the table into one piece even where it could stay.
    fn built(&self, used: &[Range<u64>], clusters: u64, wanted: &Wanted, boot: &[u8], gather: bool) -> Result<View> {
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
    pub(super) fn mirrored_records(&self) -> u64 {
        (self.cluster / self.record as u64).max(4)
    }
}
