//! QCOW2, version 3; see the reader for the public description that it follows.

use super::{Out, Sink};
use std::io;

const BITS: u32 = 16;
const CLUSTER: u64 = 1 << BITS;
/// Entries of a table of the second level.
const PER_TABLE: u64 = CLUSTER / 8;
/// Counts in a block of them, 16 bits each.
const PER_BLOCK: u64 = CLUSTER / 2;
/// Marks a cluster that nobody else counts on.
const ALONE: u64 = 1 << 63;

pub(super) struct Writer {
    out: Out,
    size: u64,
    first: Vec<u64>,
    table: Option<(u64, Vec<u64>)>,
}

fn words(entries: &[u64]) -> Vec<u8> {
    entries.iter().flat_map(|entry| entry.to_be_bytes()).collect()
}

impl Writer {
    pub fn new(mut out: Out, size: u64) -> io::Result<Self> {
        let first = vec![0; size.div_ceil(PER_TABLE * CLUSTER).max(1) as usize];
        // Header and first table stand in front, and are written last.
        out.at = CLUSTER + (first.len() as u64 * 8).next_multiple_of(CLUSTER);
        Ok(Self { out, size, first, table: None })
    }

    fn close_table(&mut self) -> io::Result<()> {
        let Some((number, table)) = self.table.take() else { return Ok(()) };
        self.first[number as usize] = self.out.append(&words(&table), CLUSTER)? | ALONE;
        Ok(())
    }
}

impl Sink for Writer {
    fn block(&self) -> u64 {
        CLUSTER
    }

    fn put(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
        let which = number / PER_TABLE;
        if self.table.as_ref().is_some_and(|(held, _)| *held != which) {
            self.close_table()?;
        }
        let at = self.out.append(bytes, CLUSTER)?;
        let (_, table) = self.table.get_or_insert_with(|| (which, vec![0; PER_TABLE as usize]));
        table[(number % PER_TABLE) as usize] = at | ALONE;
        Ok(())
    }

    fn end(&mut self) -> io::Result<()> {
        self.close_table()?;
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
            let counts = (0..PER_BLOCK).map(|at| u16::from(block * PER_BLOCK + at < all));
            places.push(self.out.append(&counts.flat_map(u16::to_be_bytes).collect::<Vec<u8>>(), CLUSTER)?);
        }
        let counts = self.out.append(&words(&places), CLUSTER)?;
        self.out.cut()?;
        self.out.put(CLUSTER, &words(&self.first))?;
        self.out.file.sync_data()?;
        let mut head = vec![0; 112];
        head[..4].copy_from_slice(b"QFI\xfb");
        let mut put32 = |at: usize, value: u32| head[at..at + 4].copy_from_slice(&value.to_be_bytes());
        put32(4, 3);
        put32(20, BITS);
        put32(36, self.first.len() as u32);
        put32(56, tables as u32);
        put32(96, 4);
        put32(100, 104);
        head[24..32].copy_from_slice(&self.size.to_be_bytes());
        head[40..48].copy_from_slice(&CLUSTER.to_be_bytes());
        head[48..56].copy_from_slice(&counts.to_be_bytes());
        self.out.put(0, &head)
    }
}
