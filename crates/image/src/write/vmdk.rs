//! VMDK, one sparse file, or a flat one with its descriptor; see the reader for the public description that it follows.

use super::{Out, Sink};
use std::fs::{File, OpenOptions};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

const SECTOR: u64 = 512;
const GRAIN: u64 = 64 << 10;
/// Entries of a table, and bytes of it.
const PER_TABLE: u64 = 512;
const TABLE: u64 = PER_TABLE * 4;
/// Where the descriptor stands, and how long it may be.
const TEXT: u64 = SECTOR;
const TEXT_LEN: u64 = 20 * SECTOR;

/// What says of what the whole consists.
fn descriptor(sectors: u64, kind: &str, extent: &str) -> io::Result<String> {
    let mut id = [0; 4];
    getrandom::fill(&mut id).map_err(io::Error::other)?;
    Ok(format!(
        "# Disk DescriptorFile\nversion=1\nCID={}\nparentCID=ffffffff\ncreateType=\"{kind}\"\n\n# Extent description\n{extent}\n\n\
         # The Disk Data Base\n#DDB\n\nddb.virtualHWVersion = \"4\"\nddb.geometry.cylinders = \"{}\"\nddb.geometry.heads = \"16\"\n\
         ddb.geometry.sectors = \"63\"\nddb.adapterType = \"ide\"\n",
        hex::encode(id),
        (sectors / (16 * 63)).min(16383)
    ))
}

/// A descriptor, and beside it a file with the bytes as they are.
pub(super) struct Flat {
    descriptor: File,
    flat: File,
    name: String,
    size: u64,
}

impl Flat {
    /// `descriptor` is new, at `path`; the file beside it is made, and named in `made`.
    pub fn new(descriptor: File, path: &Path, size: u64, made: &mut Vec<PathBuf>) -> io::Result<Self> {
        if !size.is_multiple_of(SECTOR) {
            return Err(io::Error::new(io::ErrorKind::Unsupported, "VMDK holds whole sectors only"));
        }
        let stem = path.file_stem().unwrap_or_default().to_string_lossy();
        let name = format!("{stem}-flat.vmdk");
        if name.contains(['"', '\n']) {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "a name with such letters cannot stand in a VMDK descriptor"));
        }
        let beside = path.with_file_name(&name);
        let flat = OpenOptions::new().read(true).write(true).create_new(true).open(&beside)?;
        made.push(beside);
        Ok(Self { descriptor, flat, name, size })
    }
}

impl Sink for Flat {
    fn block(&self) -> u64 {
        1 << 20
    }
    fn put(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
        self.flat.write_all_at(bytes, number << 20)
    }
    fn end(&mut self) -> io::Result<()> {
        self.flat.set_len(self.size)?;
        self.flat.sync_all()?;
        let sectors = self.size / SECTOR;
        let text = descriptor(sectors, "monolithicFlat", &format!("RW {sectors} FLAT \"{}\" 0", self.name))?;
        self.descriptor.write_all_at(text.as_bytes(), 0)
    }
}

pub(super) struct Writer {
    out: Out,
    size: u64,
    tables: u64,
    /// Where the two tables of tables begin; behind each stand its tables.
    places: [u64; 2],
    table: Option<(u64, Vec<u32>)>,
}

impl Writer {
    pub fn new(mut out: Out, size: u64) -> io::Result<Self> {
        let tables = size.div_ceil(PER_TABLE * GRAIN).max(1);
        let whole = (tables * 4).next_multiple_of(SECTOR) + tables * TABLE;
        let first = TEXT + TEXT_LEN;
        out.at = (first + 2 * whole).next_multiple_of(GRAIN);
        let writer = Self { out, size, tables, places: [first, first + whole], table: None };
        for place in writer.places {
            let directory = (0..tables).map(|number| (writer.table_at(place, number) / SECTOR) as u32);
            writer.out.put(place, &directory.flat_map(u32::to_le_bytes).collect::<Vec<u8>>())?;
        }
        Ok(writer)
    }

    fn table_at(&self, place: u64, number: u64) -> u64 {
        place + (self.tables * 4).next_multiple_of(SECTOR) + number * TABLE
    }

    fn close_table(&mut self) -> io::Result<()> {
        let Some((number, table)) = self.table.take() else { return Ok(()) };
        let bytes: Vec<u8> = table.iter().flat_map(|entry| entry.to_le_bytes()).collect();
        self.places.iter().try_for_each(|place| self.out.put(self.table_at(*place, number), &bytes))
    }
}

impl Sink for Writer {
    fn block(&self) -> u64 {
        GRAIN
    }

    fn put(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
        let which = number / PER_TABLE;
        if self.table.as_ref().is_some_and(|(held, _)| *held != which) {
            self.close_table()?;
        }
        let at = self.out.append(bytes, GRAIN)? / SECTOR;
        let at = u32::try_from(at).map_err(|_| io::Error::new(io::ErrorKind::FileTooLarge, "VMDK ends at 2 TiB of content"))?;
        let (_, table) = self.table.get_or_insert_with(|| (which, vec![0; PER_TABLE as usize]));
        table[(number % PER_TABLE) as usize] = at;
        Ok(())
    }

    fn end(&mut self) -> io::Result<()> {
        self.close_table()?;
        self.out.cut()?;
        let sectors = self.size / SECTOR;
        let text = descriptor(sectors, "monolithicSparse", &format!("RW {sectors} SPARSE \"image.vmdk\""))?;
        self.out.put(TEXT, text.as_bytes())?;
        self.out.file.sync_data()?;
        let mut head = vec![0; 512];
        head[..4].copy_from_slice(b"KDMV");
        let mut put = |at: usize, value: u64, len: usize| head[at..at + len].copy_from_slice(&value.to_le_bytes()[..len]);
        put(4, 1, 4);
        // Lines end as they should, and there are two tables of tables.
        put(8, 3, 4);
        put(12, sectors, 8);
        put(20, GRAIN / SECTOR, 8);
        put(28, TEXT / SECTOR, 8);
        put(36, TEXT_LEN / SECTOR, 8);
        put(44, PER_TABLE, 4);
        put(48, self.places[0] / SECTOR, 8);
        put(56, self.places[1] / SECTOR, 8);
        put(64, (self.places[1] * 2 - self.places[0]).next_multiple_of(GRAIN) / SECTOR, 8);
        head[73..77].copy_from_slice(b"\n \r\n");
        self.out.put(0, &head)
    }
}
