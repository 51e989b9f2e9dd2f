//! VHDX, dynamic or fixed; see the reader for the public description that it follows.

use super::{Out, Sink};
use std::io;
use uuid::Uuid;

const MIB: u64 = 1 << 20;
const BLOCK: u64 = 2 * MIB;
const LOG: u64 = MIB;
const METADATA: u64 = 2 * MIB;
const TABLE: u64 = 3 * MIB;
/// A block that is whole.
const PRESENT: u64 = 6;

pub(super) struct Writer {
    out: Out,
    size: u64,
    sectors: (u32, u32),
    table: Vec<u64>,
    /// Blocks between two places that are for maps of sectors.
    ratio: u64,
    fixed: bool,
}

fn id(text: &str) -> [u8; 16] {
    Uuid::parse_str(text).unwrap_or_default().to_bytes_le()
}

fn random() -> io::Result<[u8; 16]> {
    let mut bytes = [0; 16];
    getrandom::fill(&mut bytes).map_err(io::Error::other)?;
    Ok(bytes)
}

fn put32(bytes: &mut [u8], at: usize, value: u32) {
    bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
}

fn put64(bytes: &mut [u8], at: usize, value: u64) {
    bytes[at..at + 8].copy_from_slice(&value.to_le_bytes());
}

fn sum(bytes: &mut [u8]) {
    put32(bytes, 4, 0);
    let sum = crc32c::crc32c(bytes);
    put32(bytes, 4, sum);
}

impl Writer {
    pub fn new(mut out: Out, size: u64, (logical, physical): (u32, u32), fixed: bool) -> io::Result<Self> {
        let ratio = (1u64 << 23) * u64::from(logical) / BLOCK;
        let blocks = size.div_ceil(BLOCK).max(1);
        let mut table = vec![0; (blocks + (blocks - 1) / ratio) as usize];
        out.at = TABLE + (table.len() as u64 * 8).next_multiple_of(MIB);
        for block in (0..blocks).filter(|_| fixed) {
            table[(block + block / ratio) as usize] = out.at | PRESENT;
            out.at += BLOCK;
        }
        Ok(Self { out, size, sectors: (logical, physical), table, ratio, fixed })
    }

    fn metadata(&self) -> io::Result<Vec<u8>> {
        let mut out = vec![0; MIB as usize];
        out[..8].copy_from_slice(b"metadata");
        // A fixed one keeps the room of its blocks.
        let parameters = [(BLOCK as u32).to_le_bytes(), u32::from(self.fixed).to_le_bytes()].concat();
        // Flags: 2 is of the drive, 4 must be known.
        let items: [(&str, u32, Vec<u8>); 5] = [
            ("CAA16737-FA36-4D43-B3B6-33F0AA44E76B", 4, parameters),
            ("2FA54224-CD1B-4876-B211-5DBED83BF4B8", 6, self.size.to_le_bytes().to_vec()),
            ("BECA12AB-B2E6-4523-93EF-C309E000C746", 6, random()?.to_vec()),
            ("8141BF1D-A96F-4709-BA47-F233A8FAAB5F", 6, self.sectors.0.to_le_bytes().to_vec()),
            ("CDA348C7-445D-4471-9CC9-E9885251C556", 6, self.sectors.1.to_le_bytes().to_vec()),
        ];
        out[10..12].copy_from_slice(&(items.len() as u16).to_le_bytes());
        let mut place = 64 << 10;
        for (number, (name, flags, bytes)) in items.iter().enumerate() {
            let entry = &mut out[32 + number * 32..64 + number * 32];
            entry[..16].copy_from_slice(&id(name));
            put32(entry, 16, place as u32);
            put32(entry, 20, bytes.len() as u32);
            put32(entry, 24, *flags);
            out[place..place + bytes.len()].copy_from_slice(bytes);
            place += bytes.len().next_multiple_of(8);
        }
        Ok(out)
    }

    fn regions(&self) -> Vec<u8> {
        let mut out = vec![0; 64 << 10];
        out[..4].copy_from_slice(b"regi");
        put32(&mut out, 8, 2);
        let len = (self.table.len() as u64 * 8).next_multiple_of(MIB);
        let regions = [("2DC27766-F623-4200-9D64-115E9BFD4A08", TABLE, len), ("8B7CA206-4790-4B9A-B8FE-575F050F886E", METADATA, MIB)];
        for (number, (name, at, len)) in regions.iter().enumerate() {
            let entry = &mut out[16 + number * 32..48 + number * 32];
            entry[..16].copy_from_slice(&id(name));
            put64(entry, 16, *at);
            put32(entry, 24, *len as u32);
            put32(entry, 28, 1);
        }
        sum(&mut out);
        out
    }
}

impl Sink for Writer {
    fn block(&self) -> u64 {
        BLOCK
    }

    fn write_block(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
        if self.fixed {
            return self.out.write_at(self.table[(number + number / self.ratio) as usize] & !(MIB - 1), bytes);
        }
        let at = self.out.append(bytes, BLOCK)?;
        self.table[(number + number / self.ratio) as usize] = at | PRESENT;
        Ok(())
    }

    fn end(&mut self) -> io::Result<()> {
        self.out.cut()?;
        let table: Vec<u8> = self.table.iter().flat_map(|entry| entry.to_le_bytes()).collect();
        self.out.write_at(TABLE, &table)?;
        self.out.write_at(METADATA, &self.metadata()?)?;
        let regions = self.regions();
        self.out.write_at(192 << 10, &regions)?;
        self.out.write_at(256 << 10, &regions)?;
        let (file, data) = (random()?, random()?);
        for (at, sequence) in [(64 << 10, 1), (128 << 10, 2)] {
            let mut head = vec![0; 4096];
            head[..4].copy_from_slice(b"head");
            put64(&mut head, 8, sequence);
            head[16..32].copy_from_slice(&file);
            head[32..48].copy_from_slice(&data);
            head[66] = 1;
            put32(&mut head, 68, LOG as u32);
            put64(&mut head, 72, MIB);
            sum(&mut head);
            self.out.write_at(at, &head)?;
        }
        self.out.file.sync_data()?;
        let mut first = b"vhdxfile".to_vec();
        first.extend("zealous badger".encode_utf16().flat_map(u16::to_le_bytes));
        self.out.write_at(0, &first)
    }
}
