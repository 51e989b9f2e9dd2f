//! QCOW2, version 3, plain or packed with Zstandard, and version 2, plain or packed with Deflate; see the reader for the public description that it follows.

use super::{Out, Sink};
use flate2::{Compress, Compression, FlushCompress, Status};
use std::io;

const BITS: u32 = 16;
const CLUSTER: u64 = 1 << BITS;
/// Entries of a table of the second level.
const PER_TABLE: u64 = CLUSTER / 8;
/// Counts in a block of them, 16 bits each.
const PER_BLOCK: u64 = CLUSTER / 2;
/// The level at which clusters are packed.
const LEVEL: i32 = 3;
const OLD_LEVEL: u32 = 4;
/// Readers of Deflate look back no further than 2^12 bytes.
const WINDOW_BITS: u8 = 12;
/// A packed cluster, and where the number of its further sectors stands.
const PACKED: u64 = 1 << 62;
const SECTORS_AT: u32 = 62 - (BITS - 8);
/// Marks a cluster that nobody else counts on.
const ALONE: u64 = 1 << 63;

pub(super) struct Writer {
    out: Out,
    size: u64,
    first: Vec<u64>,
    table: Option<(u64, Vec<u64>)>,
    /// How many count on each cluster of the file; `None` where it is one everywhere.
    counts: Option<Vec<u16>>,
    /// Version 2, and what packs for it.
    old: Option<Compress>,
}

fn words(entries: &[u64]) -> Vec<u8> {
    entries.iter().flat_map(|entry| entry.to_be_bytes()).collect()
}

/// One packed cluster; `None` where it does not get shorter.
fn deflated(deflate: &mut Compress, bytes: &[u8]) -> io::Result<Option<Vec<u8>>> {
    deflate.reset();
    let mut out = Vec::with_capacity(bytes.len());
    let status = deflate.compress_vec(bytes, &mut out, FlushCompress::Finish).map_err(io::Error::other)?;
    Ok((status == Status::StreamEnd).then_some(out))
}

impl Writer {
    pub fn new(mut out: Out, size: u64, packed: bool, old: bool) -> io::Result<Self> {
        let first = vec![0; size.div_ceil(PER_TABLE * CLUSTER).max(1) as usize];
        // Header and first table stand in front, and are written last.
        out.at = CLUSTER + (first.len() as u64 * 8).next_multiple_of(CLUSTER);
        let counts = packed.then(|| vec![1; (out.at / CLUSTER) as usize]);
        Ok(Self {
            out,
            size,
            first,
            table: None,
            counts,
            old: old.then(|| Compress::new_with_window_bits(Compression::new(OLD_LEVEL), false, WINDOW_BITS)),
        })
    }

    /// Notes that one more counts on the clusters of a stretch.
    fn count(&mut self, at: u64, end: u64) {
        if let Some(counts) = &mut self.counts {
            let last = ((end - 1) / CLUSTER) as usize;
            counts.resize(counts.len().max(last + 1), 0);
            counts[(at / CLUSTER) as usize..=last].iter_mut().for_each(|count| *count += 1);
        }
    }

    /// Appends a whole cluster, at a place of its own.
    fn append(&mut self, bytes: &[u8]) -> io::Result<u64> {
        self.out.at = self.out.at.next_multiple_of(CLUSTER);
        let at = self.out.append(bytes, CLUSTER)?;
        self.count(at, self.out.at);
        Ok(at)
    }

    /// Appends a cluster right behind what is there, where it becomes shorter by that; its entry.
    fn pack(&mut self, bytes: &[u8]) -> io::Result<Option<u64>> {
        let mut whole = bytes.to_vec();
        whole.resize(CLUSTER as usize, 0);
        let packed = match &mut self.old {
            Some(deflate) => deflated(deflate, &whole)?,
            None => Some(zstd::bulk::compress(&whole, LEVEL)?),
        };
        let Some(packed) = packed.filter(|packed| packed.len() as u64 + 4096 <= CLUSTER) else { return Ok(None) };
        let at = self.out.at;
        self.out.write_at(at, &packed)?;
        self.out.at += packed.len() as u64;
        let more = (self.out.at - 1) / 512 - at / 512;
        self.count(at, (at / 512 + more + 1) * 512);
        Ok(Some(PACKED | more << SECTORS_AT | at))
    }

    fn close_table(&mut self) -> io::Result<()> {
        let Some((number, table)) = self.table.take() else { return Ok(()) };
        self.first[number as usize] = self.append(&words(&table))? | ALONE;
        Ok(())
    }
}

impl Sink for Writer {
    fn block(&self) -> u64 {
        CLUSTER
    }

    fn write_block(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
        let which = number / PER_TABLE;
        if self.table.as_ref().is_some_and(|(held, _)| *held != which) {
            self.close_table()?;
        }
        let packed = if self.counts.is_some() { self.pack(bytes)? } else { None };
        let entry = match packed {
            Some(entry) => entry,
            None => self.append(bytes)? | ALONE,
        };
        let (_, table) = self.table.get_or_insert_with(|| (which, vec![0; PER_TABLE as usize]));
        table[(number % PER_TABLE) as usize] = entry;
        Ok(())
    }

    fn end(&mut self) -> io::Result<()> {
        self.close_table()?;
        self.out.at = self.out.at.next_multiple_of(CLUSTER);
        // Counts count themselves as well.
        let used = self.out.at / CLUSTER;
        let (mut blocks, mut tables) = (1, 1);
        loop {
            let all = used + blocks + tables;
            let wanted = (all.div_ceil(PER_BLOCK), (all.div_ceil(PER_BLOCK) * 8).div_ceil(CLUSTER));
            if wanted == (blocks, tables) {
                break;
            }
            (blocks, tables) = wanted;
        }
        let all = used + blocks + tables;
        let mut places = Vec::new();
        for block in 0..blocks {
            let held = self.counts.as_deref().unwrap_or_default();
            let count = |cluster: u64| held.get(cluster as usize).copied().unwrap_or_else(|| u16::from(cluster < all));
            let counts = (0..PER_BLOCK).map(|at| count(block * PER_BLOCK + at));
            places.push(self.out.append(&counts.flat_map(u16::to_be_bytes).collect::<Vec<u8>>(), CLUSTER)?);
        }
        let counts = self.out.append(&words(&places), CLUSTER)?;
        self.out.cut()?;
        self.out.write_at(CLUSTER, &words(&self.first))?;
        self.out.file.sync_data()?;
        let mut head = vec![0; 112];
        head[..4].copy_from_slice(b"QFI\xfb");
        let mut put32 = |at: usize, value: u32| head[at..at + 4].copy_from_slice(&value.to_be_bytes());
        let old = self.old.is_some();
        put32(4, if old { 2 } else { 3 });
        put32(20, BITS);
        put32(36, self.first.len() as u32);
        put32(56, tables as u32);
        if !old {
            put32(96, 4);
            put32(100, if self.counts.is_some() { 112 } else { 104 });
        }
        if self.counts.is_some() && !old {
            // Whoever reads it must know how it is packed: by Zstandard.
            (head[79], head[104]) = (8, 1);
        }
        head[24..32].copy_from_slice(&self.size.to_be_bytes());
        head[40..48].copy_from_slice(&CLUSTER.to_be_bytes());
        head[48..56].copy_from_slice(&counts.to_be_bytes());
        // Behind the older header stand named parts: none.
        self.out.write_at(0, &head)
    }
}
