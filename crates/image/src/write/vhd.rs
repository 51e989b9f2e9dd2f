//! VHD, dynamic or fixed; see the reader for the public description that it follows.

use super::{Out, Sink};
use std::io;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// The format's own end.
pub(super) const MOST: u64 = 2040 << 30;
const BLOCK: u64 = 2 << 20;
const SECTOR: u64 = 512;
const NOWHERE: u32 = u32::MAX;
/// Times count from the first second of 2000.
const EPOCH: Duration = Duration::from_secs(946_684_800);

pub(super) struct Writer {
    out: Out,
    size: u64,
    table: Vec<u32>,
    fixed: bool,
}

/// Cylinders, heads, sectors, as the specification counts them; the largest where they do not give the size exactly, which says that
/// the size counts.
fn geometry(size: u64) -> (u16, u8, u8) {
    let largest = (65535, 16, 255);
    let sectors = size / SECTOR;
    if sectors >= 65535 * 16 * 63 {
        return largest;
    }
    let (mut per, mut heads, mut cylinder_heads) = (17, 0, sectors / 17);
    if per == 17 {
        heads = cylinder_heads.div_ceil(1024).max(4);
    }
    if cylinder_heads >= heads * 1024 || heads > 16 {
        (per, heads, cylinder_heads) = (31, 16, sectors / 31);
    }
    if cylinder_heads >= heads * 1024 {
        (per, heads, cylinder_heads) = (63, 16, sectors / 63);
    }
    let cylinders = cylinder_heads / heads;
    if cylinders * heads * per == sectors { (cylinders as u16, heads as u8, per as u8) } else { largest }
}

fn sum(bytes: &mut [u8], at: usize) {
    let sum = !bytes.iter().fold(0u32, |sum, byte| sum.wrapping_add(u32::from(*byte)));
    bytes[at..at + 4].copy_from_slice(&sum.to_be_bytes());
}

fn footer(size: u64, fixed: bool) -> io::Result<Vec<u8>> {
    let mut out = vec![0; 512];
    out[..8].copy_from_slice(b"conectix");
    let mut put32 = |at: usize, value: u32| out[at..at + 4].copy_from_slice(&value.to_be_bytes());
    put32(8, 2);
    put32(12, 0x1_0000);
    put32(24, SystemTime::now().duration_since(UNIX_EPOCH + EPOCH).map_or(0, |since| since.as_secs() as u32));
    put32(28, u32::from_be_bytes(*b"zbdg"));
    put32(32, 0x1_0000);
    put32(60, if fixed { 2 } else { 3 });
    out[16..24].copy_from_slice(&if fixed { u64::MAX } else { 512u64 }.to_be_bytes());
    out[40..48].copy_from_slice(&size.to_be_bytes());
    out[48..56].copy_from_slice(&size.to_be_bytes());
    let (cylinders, heads, sectors) = geometry(size);
    out[56..58].copy_from_slice(&cylinders.to_be_bytes());
    (out[58], out[59]) = (heads, sectors);
    getrandom::fill(&mut out[68..84]).map_err(io::Error::other)?;
    sum(&mut out, 64);
    Ok(out)
}

impl Writer {
    pub fn new(mut out: Out, size: u64, fixed: bool) -> io::Result<Self> {
        let table = vec![NOWHERE; size.div_ceil(BLOCK).max(1) as usize];
        out.at = 512 + 1024 + (table.len() as u64 * 4).next_multiple_of(SECTOR);
        Ok(Self { out, size, table, fixed })
    }
}

impl Sink for Writer {
    fn block(&self) -> u64 {
        BLOCK
    }

    fn write_block(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
        if self.fixed {
            return self.out.write_at(number * BLOCK, bytes);
        }
        // A bit for each sector of the block, all of them here.
        let mut block = vec![0xff; (BLOCK / SECTOR / 8) as usize];
        block.extend(bytes);
        block.resize((BLOCK / SECTOR / 8 + BLOCK) as usize, 0);
        self.table[number as usize] = (self.out.append(&block, SECTOR)? / SECTOR) as u32;
        Ok(())
    }

    fn end(&mut self) -> io::Result<()> {
        let footer = footer(self.size, self.fixed)?;
        if self.fixed {
            self.out.file.set_len(self.size)?;
            self.out.file.sync_data()?;
            return self.out.write_at(self.size, &footer);
        }
        let table: Vec<u8> = self.table.iter().flat_map(|entry| entry.to_be_bytes()).collect();
        let mut padded = table;
        padded.resize(padded.len().next_multiple_of(SECTOR as usize), 0xff);
        self.out.write_at(1536, &padded)?;
        let mut head = vec![0; 1024];
        head[..8].copy_from_slice(b"cxsparse");
        head[8..16].fill(0xff);
        head[16..24].copy_from_slice(&1536u64.to_be_bytes());
        head[24..28].copy_from_slice(&0x1_0000u32.to_be_bytes());
        head[28..32].copy_from_slice(&(self.table.len() as u32).to_be_bytes());
        head[32..36].copy_from_slice(&(BLOCK as u32).to_be_bytes());
        sum(&mut head, 36);
        self.out.write_at(512, &head)?;
        self.out.append(&footer, SECTOR)?;
        self.out.cut()?;
        self.out.file.sync_data()?;
        self.out.write_at(0, &footer)
    }
}
