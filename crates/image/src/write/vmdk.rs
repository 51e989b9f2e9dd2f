//! VMDK, one sparse file, one stream of packed grains, or a flat one with its descriptor; see the reader for the public description that it follows.

use super::{Out, Sink};
use flate2::Compression;
use flate2::write::ZlibEncoder;
use std::fs::{File, OpenOptions};
use std::io::{self, Read, Write};
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
/// The table of tables is named by the footer.
const AT_END: u64 = u64::MAX;
const PACKED: u64 = 1 << 16;
/// Of a stream: lines end as they should, grains are packed, and each stands behind a mark.
const STREAM_FLAGS: u64 = 1 | PACKED | 1 << 17;
const STREAM_VERSION: u64 = 3;
const STREAM_LEVEL: u32 = 4;
const MARK_TABLE: u32 = 1;
const MARK_DIRECTORY: u32 = 2;
const MARK_FOOTER: u32 = 3;

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
    fn write_block(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
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
            writer.out.write_at(place, &directory.flat_map(u32::to_le_bytes).collect::<Vec<u8>>())?;
        }
        Ok(writer)
    }

    fn table_at(&self, place: u64, number: u64) -> u64 {
        place + (self.tables * 4).next_multiple_of(SECTOR) + number * TABLE
    }

    fn close_table(&mut self) -> io::Result<()> {
        let Some((number, table)) = self.table.take() else { return Ok(()) };
        let bytes: Vec<u8> = table.iter().flat_map(|entry| entry.to_le_bytes()).collect();
        self.places.iter().try_for_each(|place| self.out.write_at(self.table_at(*place, number), &bytes))
    }
}

impl Sink for Writer {
    fn block(&self) -> u64 {
        GRAIN
    }

    fn write_block(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
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
        self.out.write_at(TEXT, text.as_bytes())?;
        self.out.file.sync_data()?;
        let grains = (self.places[1] * 2 - self.places[0]).next_multiple_of(GRAIN);
        // Lines end as they should, and there are two tables of tables.
        self.out.write_at(0, &header(1, 3, sectors, self.places, grains))
    }
}

/// The first sector of a sparse file: its `version`, what `flags` say, the drive's sectors, where its tables of tables begin, and its grains.
fn header(version: u64, flags: u64, sectors: u64, tables: [u64; 2], grains: u64) -> Vec<u8> {
    let mut head = vec![0; SECTOR as usize];
    head[..4].copy_from_slice(b"KDMV");
    let mut set = |at: usize, value: u64, len: usize| head[at..at + len].copy_from_slice(&value.to_le_bytes()[..len]);
    set(4, version, 4);
    set(8, flags, 4);
    set(12, sectors, 8);
    set(20, GRAIN / SECTOR, 8);
    set(28, TEXT / SECTOR, 8);
    set(36, TEXT_LEN / SECTOR, 8);
    set(44, PER_TABLE, 4);
    set(48, tables[0] / SECTOR, 8);
    set(56, if tables[1] == AT_END { AT_END } else { tables[1] / SECTOR }, 8);
    set(64, grains / SECTOR, 8);
    if flags & PACKED != 0 {
        set(77, 1, 2);
    }
    head[73..77].copy_from_slice(b"\n \r\n");
    head
}

/// Packed grains one behind the other, each behind a mark that names its place, then the tables and a footer that says where they are.
pub(super) struct Stream {
    out: Out,
    size: u64,
    /// Where each table is, in sectors.
    directory: Vec<u32>,
    table: Option<(u64, Vec<u32>)>,
}

impl Stream {
    pub fn new(mut out: Out, size: u64) -> Self {
        out.at = GRAIN;
        Self { out, size, directory: vec![0; size.div_ceil(PER_TABLE * GRAIN).max(1) as usize], table: None }
    }

    /// Where it goes on, in sectors.
    fn here(&self) -> io::Result<u32> {
        u32::try_from(self.out.at / SECTOR).map_err(|_| io::Error::new(io::ErrorKind::FileTooLarge, "VMDK ends at 2 TiB of content"))
    }

    /// A mark: what follows, and how many sectors of it.
    fn mark(&mut self, kind: u32, sectors: u64) -> io::Result<()> {
        let mut mark = sectors.to_le_bytes().to_vec();
        mark.extend([0; 4]);
        mark.extend(kind.to_le_bytes());
        mark.resize(SECTOR as usize, 0);
        self.out.append(&mark, SECTOR).map(drop)
    }

    fn close_table(&mut self) -> io::Result<()> {
        let Some((number, table)) = self.table.take() else { return Ok(()) };
        self.mark(MARK_TABLE, TABLE / SECTOR)?;
        self.directory[number as usize] = self.here()?;
        let bytes: Vec<u8> = table.iter().flat_map(|entry| entry.to_le_bytes()).collect();
        self.out.append(&bytes, SECTOR).map(drop)
    }
}

impl Sink for Stream {
    fn block(&self) -> u64 {
        GRAIN
    }

    fn write_block(&mut self, number: u64, bytes: &[u8]) -> io::Result<()> {
        let which = number / PER_TABLE;
        if self.table.as_ref().is_some_and(|(held, _)| *held != which) {
            self.close_table()?;
        }
        let at = self.here()?;
        let mut grain = (number * GRAIN / SECTOR).to_le_bytes().to_vec();
        grain.extend([0; 4]);
        let mut zlib = ZlibEncoder::new(grain, Compression::new(STREAM_LEVEL));
        zlib.write_all(bytes)?;
        // Readers of old take grains as whole ones.
        io::copy(&mut io::repeat(0).take(GRAIN - bytes.len() as u64), &mut zlib)?;
        let mut grain = zlib.finish()?;
        let len = (grain.len() - 12) as u32;
        grain[8..12].copy_from_slice(&len.to_le_bytes());
        self.out.append(&grain, SECTOR)?;
        let (_, table) = self.table.get_or_insert_with(|| (which, vec![0; PER_TABLE as usize]));
        table[(number % PER_TABLE) as usize] = at;
        Ok(())
    }

    fn end(&mut self) -> io::Result<()> {
        self.close_table()?;
        let sectors = self.size / SECTOR;
        let directory: Vec<u8> = self.directory.iter().flat_map(|entry| entry.to_le_bytes()).collect();
        self.mark(MARK_DIRECTORY, (directory.len() as u64).div_ceil(SECTOR))?;
        let tables = self.out.append(&directory, SECTOR)?;
        self.mark(MARK_FOOTER, 1)?;
        self.out.append(&header(STREAM_VERSION, STREAM_FLAGS, sectors, [0, tables], GRAIN), SECTOR)?;
        // A mark of nothing ends the stream.
        self.mark(0, 0)?;
        self.out.cut()?;
        let text = descriptor(sectors, "streamOptimized", &format!("RW {sectors} SPARSE \"image.vmdk\""))?;
        self.out.write_at(TEXT, text.as_bytes())?;
        self.out.file.sync_data()?;
        self.out.write_at(0, &header(STREAM_VERSION, STREAM_FLAGS, sectors, [0, AT_END], GRAIN))
    }
}
