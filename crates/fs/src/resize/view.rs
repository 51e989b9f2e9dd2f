//! A volume put together out of stretches of a source and blocks that were written anew.

use crate::finding::{Finding, Result};
use badger_drive::{Extents, Geometry, Holds, Identity, Medium, ReadError, Source, Stretch};
use std::collections::BTreeMap;
use std::fs::File;
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::path::Path;

/// Bytes of a block that was written anew.
const BLOCK: u64 = 4096;

/// A stretch that is read from the source.
#[derive(Clone, Copy, Debug)]
struct Span {
    to: u64,
    from: u64,
    len: u64,
}

/// A changed volume that reads like a drive. What was written anew is kept in a file without a name, which is gone with
/// it; in memory there is only where everything lies.
pub struct View {
    source: Source,
    identity: Identity,
    geometry: Geometry,
    /// Sorted by `to`, without overlaps.
    spans: Vec<Span>,
    /// Number of a block to its place in the file.
    blocks: BTreeMap<u64, u64>,
    file: File,
    /// The block that was written last; it goes to the file when another one is written.
    open: Option<(u64, Box<[u8]>)>,
    end: u64,
    moved: u64,
    /// What must be copied although it may be zero.
    fixed: Extents<()>,
    /// What is all ones, whatever is shown there.
    ones: Extents<()>,
}

fn no_room(error: &std::io::Error) -> Finding {
    Finding::new("no-room-to-plan", format!("what changes in the volume cannot be kept: {error}; make room in the folder for temporary files"))
}

impl View {
    /// An empty view of `len` bytes with sectors of `sector` bytes.
    pub(crate) fn new(source: &Source, len: u64, sector: u32) -> Result<Self> {
        let geometry = Geometry { size_bytes: len, logical_sector: sector, physical_sector: sector };
        let file = tempfile::tempfile().map_err(|error| no_room(&error))?;
        Ok(Self {
            source: source.clone(),
            identity: Identity::of_file(Path::new("view")),
            geometry,
            spans: Vec::new(),
            blocks: BTreeMap::new(),
            file,
            open: None,
            end: 0,
            moved: 0,
            fixed: Extents::new(),
            ones: Extents::new(),
        })
    }

    /// Shows `len` bytes of the source, from byte `from` of the drive on, at byte `to`. To be called in any order, without
    /// overlaps, before [`View::sort`].
    pub(crate) fn show(&mut self, from: u64, to: u64, len: u64) {
        self.spans.push(Span { to, from, len });
    }

    /// Fills a stretch with ones.
    pub(crate) fn fill(&mut self, range: Range<u64>) {
        self.fixed.set(range.clone(), ());
        self.ones.set(range, ());
    }

    /// Says that a stretch belongs to the format's own structures: it is copied whole, zeroes too.
    pub(crate) fn fix(&mut self, range: Range<u64>) {
        self.fixed.set(range, ());
    }

    /// Once everything is shown.
    pub(crate) fn sort(&mut self, source_start: u64) {
        self.spans.retain(|span| span.len > 0);
        self.spans.sort_unstable_by_key(|span| span.to);
        self.moved = self.spans.iter().filter(|span| span.from != source_start + span.to).map(|span| span.len).sum();
    }

    /// Bytes of its sectors.
    pub(crate) fn sector(&self) -> u64 {
        u64::from(self.geometry.logical_sector)
    }

    /// Bytes that lie elsewhere in the volume than they did.
    pub fn moved(&self) -> u64 {
        self.moved
    }

    fn keep(&mut self) -> Result<()> {
        if let Some((block, bytes)) = self.open.take() {
            let place = *self.blocks.entry(block).or_insert_with(|| {
                self.end += BLOCK;
                self.end - BLOCK
            });
            self.file.write_all_at(&bytes, place).map_err(|error| no_room(&error))?;
        }
        Ok(())
    }

    fn block(&mut self, number: u64, whole: bool) -> Result<&mut [u8]> {
        if self.open.as_ref().is_none_or(|(open, _)| *open != number) {
            self.keep()?;
            let mut bytes = vec![0; BLOCK as usize].into_boxed_slice();
            let len = BLOCK.min(self.geometry.size_bytes - number * BLOCK) as usize;
            if !whole {
                self.read_at(number * BLOCK, &mut bytes[..len]).map_err(|error| Finding::new("unreadable", error.to_string()))?;
            }
            self.open = Some((number, bytes));
        }
        Ok(&mut self.open.as_mut().expect("it was opened above").1)
    }

    /// Writes bytes over what is shown.
    pub(crate) fn write(&mut self, at: u64, bytes: &[u8]) -> Result<()> {
        if at.checked_add(bytes.len() as u64).is_none_or(|end| end > self.geometry.size_bytes) {
            return Err(Finding::new("outside", format!("byte {at} lies outside of the resized volume")));
        }
        let mut done = 0;
        while done < bytes.len() {
            let place = at + done as u64;
            let inner = (place % BLOCK) as usize;
            let len = (BLOCK as usize - inner).min(bytes.len() - done);
            let block = self.block(place / BLOCK, len == BLOCK as usize)?;
            block[inner..inner + len].copy_from_slice(&bytes[done..done + len]);
            done += len;
        }
        Ok(())
    }

    /// Writes bytes of which the zeroes need no writing because nothing is shown below them.
    pub(crate) fn write_sparse(&mut self, at: u64, bytes: &[u8]) -> Result<()> {
        let mut done = 0;
        while done < bytes.len() {
            let len = (BLOCK - (at + done as u64) % BLOCK).min((bytes.len() - done) as u64) as usize;
            let piece = &bytes[done..done + len];
            if !badger_drive::buffer::is_zero(piece) {
                self.write(at + done as u64, piece)?;
            }
            done += len;
        }
        Ok(())
    }

    /// Writes a map of bits, the lowest first, over pieces of `unit` bytes that begin at `places`. `used` are the numbers that
    /// are in, as sorted ranges.
    pub(crate) fn write_bits(&mut self, places: impl Iterator<Item = u64>, unit: u64, used: impl Iterator<Item = Range<u64>>) -> Result<()> {
        let mut next = used.peekable();
        let mut first = 0u64;
        for place in places {
            let mut bytes = vec![0u8; unit as usize];
            let last = first + unit * 8;
            while let Some(range) = next.peek() {
                let (from, to) = (range.start.max(first), range.end.min(last));
                (from..to).for_each(|bit| bytes[((bit - first) / 8) as usize] |= 1 << ((bit - first) % 8));
                if range.end > last {
                    break;
                }
                next.next();
            }
            self.write_sparse(place, &bytes)?;
            first = last;
        }
        Ok(())
    }

    /// Bytes at a place as they are by now.
    pub(crate) fn bytes(&mut self, at: u64, len: usize) -> Result<Vec<u8>> {
        self.keep()?;
        let mut bytes = vec![0; len];
        self.read_at(at, &mut bytes).map_err(|error| Finding::new("unreadable", error.to_string()))?;
        Ok(bytes)
    }

    /// Nothing more is written.
    pub(crate) fn finish(mut self) -> Result<Self> {
        self.keep()?;
        Ok(self)
    }

    /// What must be copied: everything shown, everything written, and the format's own structures, in bytes.
    pub fn needed(&self) -> Extents<()> {
        let mut out = self.fixed.clone();
        self.spans.iter().for_each(|span| out.set(span.to..span.to + span.len, ()));
        self.blocks.keys().for_each(|block| out.set(block * BLOCK..((block + 1) * BLOCK).min(self.geometry.size_bytes), ()));
        out
    }

    /// The byte of the source that is shown at a byte, where it comes from there unchanged.
    pub fn origin(&self, at: u64) -> Option<u64> {
        if self.blocks.contains_key(&(at / BLOCK)) || self.ones.at(at).is_some() {
            return None;
        }
        let span = self.spans[..self.spans.partition_point(|span| span.to <= at)].last()?;
        (at < span.to + span.len).then(|| span.from + (at - span.to))
    }
}

impl Medium for View {
    fn geometry(&self) -> Geometry {
        self.geometry
    }

    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> std::result::Result<(), ReadError> {
        let len = buf.len() as u64;
        let end = offset.checked_add(len).filter(|end| *end <= self.geometry.size_bytes);
        let Some(end) = end else { return Err(ReadError::PastEnd { offset, len, size: self.geometry.size_bytes }) };
        let mut at = offset;
        let first = self.spans.partition_point(|span| span.to + span.len <= offset);
        let mut failed = None;
        for span in self.spans[first..].iter().take_while(|span| span.to < end) {
            let (from, to) = (span.to.max(offset), (span.to + span.len).min(end));
            buf[(at - offset) as usize..(from - offset) as usize].fill(0);
            let place = span.from + (from - span.to);
            match self.source.read_at(place, &mut buf[(from - offset) as usize..(to - offset) as usize]) {
                Ok(()) => at = to,
                Err(ReadError::Unreadable { offset: bad, len, why }) => {
                    at = (from + bad.saturating_sub(place)).min(to);
                    failed = Some(ReadError::Unreadable { offset: at, len, why });
                    break;
                }
                Err(other) => return Err(other),
            }
        }
        // What lies before a place that fails is whole, with all that was written over it.
        let end = if failed.is_some() { at } else { end };
        buf[(at - offset) as usize..(end - offset) as usize].fill(0);
        for (range, ()) in self.ones.within(offset..end) {
            buf[(range.start - offset) as usize..(range.end - offset) as usize].fill(0xff);
        }
        // Blocks that were written one after the other lie one after the other in the file.
        let mut run: Option<(u64, u64, u64)> = None;
        let mut copy = |(at, place, len): (u64, u64, u64)| {
            let (from, to) = (at.max(offset), (at + len).min(end));
            let piece = &mut buf[(from - offset) as usize..(to - offset) as usize];
            self.file.read_exact_at(piece, place + (from - at)).map_err(|error| ReadError::Gone(format!("the plan's own file: {error}")))
        };
        for (block, place) in self.blocks.range(offset / BLOCK..end.div_ceil(BLOCK)) {
            match &mut run {
                Some((at, held, len)) if *at + *len == block * BLOCK && *held + *len == *place => *len += BLOCK,
                _ => {
                    run.take().map_or(Ok(()), &mut copy)?;
                    run = Some((block * BLOCK, *place, BLOCK));
                }
            }
        }
        run.map_or(Ok(()), copy)?;
        failed.map_or(Ok(()), Err)
    }

    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let end = offset.saturating_add(max).min(self.geometry.size_bytes);
        let own = self.blocks.range(offset / BLOCK..end.div_ceil(BLOCK)).next().map(|(block, _)| block * BLOCK..(block + 1) * BLOCK);
        let ones = self.ones.within(offset..end).next().map(|(range, ())| range);
        let mut end = end;
        for fresh in own.into_iter().chain(ones) {
            if fresh.start <= offset {
                return Stretch { len: fresh.end.min(end).saturating_sub(offset), holds: Holds::Bytes };
            }
            end = end.min(fresh.start);
        }
        let first = self.spans.partition_point(|span| span.to + span.len <= offset);
        let touched = self.spans[first..].iter().take_while(|span| span.to < end);
        let spans = touched.map(|span| (span.to.max(offset)..(span.to + span.len).min(end), span));
        Stretch::put_together(offset, end, spans, |at, len, span| self.source.stretch(span.from + (at - span.to), len))
    }

    fn present(&self) -> bool {
        self.source.present()
    }

    fn clock(&self) -> Option<std::sync::Arc<dyn badger_drive::clock::Clock>> {
        self.source.clock()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    /// All sevens, but for a sector that cannot be read.
    struct Failing(Identity, u64);

    impl Medium for Failing {
        fn geometry(&self) -> Geometry {
            Geometry { size_bytes: 64 << 10, logical_sector: 512, physical_sector: 512 }
        }
        fn identity(&self) -> &Identity {
            &self.0
        }
        fn read_at(&self, offset: u64, buf: &mut [u8]) -> std::result::Result<(), ReadError> {
            buf.fill(7);
            let touched = offset < self.1 + 512 && self.1 < offset + buf.len() as u64;
            let bad = self.1.max(offset);
            if touched { Err(ReadError::Unreadable { offset: bad, len: 512, why: "it fails".into() }) } else { Ok(()) }
        }
    }

    /// Whoever takes what lies before a place that fails must not get what was written over.
    #[test]
    fn what_lies_before_a_failing_place_is_as_it_was_written() {
        let source = Source::detached(Arc::new(Failing(Identity::of_file(Path::new("failing")), 40 << 10)));
        let mut view = View::new(&source, 96 << 10, 512).unwrap();
        view.show(0, 8 << 10, 64 << 10);
        view.fill(12 << 10..13 << 10);
        view.sort(0);
        view.write(20 << 10, &[9; 5000]).unwrap();
        let view = view.finish().unwrap();
        let mut bytes = vec![1; 80 << 10];
        let error = view.read_at(0, &mut bytes).unwrap_err();
        let ReadError::Unreadable { offset, .. } = error else { panic!("{error}") };
        assert_eq!(offset, 48 << 10);
        let wanted = |at: usize| match at {
            0..8192 => 0,
            12_288..13_312 => 0xff,
            20_480..25_480 => 9,
            _ => 7,
        };
        assert!((0..48 << 10).all(|at| bytes[at] == wanted(at)));
    }
}
