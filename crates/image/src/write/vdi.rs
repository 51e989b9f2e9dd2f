//! VDI, dynamic or fixed; see the reader for the layout that it follows.

use super::{Out, Sink};
use std::io;

const BLOCK: u64 = 1 << 20;
/// Blocks are counted in 32 bits.
pub(super) const MOST: u64 = (u32::MAX as u64 - 2) * BLOCK;
const NEVER: u32 = u32::MAX;

pub(super) struct Writer {
    out: Out,
    size: u64,
    map: Vec<u32>,
    data: u64,
    used: u32,
    fixed: bool,
}

impl Writer {
    pub fn new(mut out: Out, size: u64, fixed: bool) -> Self {
        let count = size.div_ceil(BLOCK).max(1) as u32;
        let map: Vec<u32> = if fixed { (0..count).collect() } else { vec![NEVER; count as usize] };
        let data = (512 + map.len() as u64 * 4).next_multiple_of(BLOCK);
        out.at = if fixed { data + u64::from(count) * BLOCK } else { data };
        Self { out, size, map, data, used: if fixed { count } else { 0 }, fixed }
    }
}

impl Sink for Writer {
    fn block(&self) -> u64 {
        BLOCK
    }

    fn write_block(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
        if self.fixed {
            return self.out.write_at(self.data + number * BLOCK, bytes);
        }
        self.out.append(bytes, BLOCK)?;
        self.map[number as usize] = self.used;
        self.used += 1;
        Ok(())
    }

    fn end(&mut self) -> io::Result<()> {
        self.out.cut()?;
        let map: Vec<u8> = self.map.iter().flat_map(|entry| entry.to_le_bytes()).collect();
        self.out.write_at(512, &map)?;
        self.out.file.sync_data()?;
        let mut head = vec![0; 512];
        let text = b"<<< virtual disk image >>>\n";
        head[..text.len()].copy_from_slice(text);
        let mut put32 = |at: usize, value: u32| head[at..at + 4].copy_from_slice(&value.to_le_bytes());
        put32(64, 0xbeda_107f);
        put32(68, 0x1_0001);
        put32(72, 400);
        put32(76, if self.fixed { 2 } else { 1 });
        put32(340, 512);
        put32(344, self.data as u32);
        put32(360, 512);
        put32(376, BLOCK as u32);
        put32(384, self.map.len() as u32);
        put32(388, self.used);
        head[368..376].copy_from_slice(&self.size.to_le_bytes());
        for at in [392, 408] {
            getrandom::fill(&mut head[at..at + 16]).map_err(io::Error::other)?;
        }
        self.out.write_at(0, &head)
    }
}
