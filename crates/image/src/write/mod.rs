//! Writing the open formats: a drive once through, in blocks of the format's own size. What makes a file an image is written last, so
//! that none which was broken off passes for one.

mod qcow2;
mod raw;
mod vdi;
mod vhd;
mod vhdx;
mod vmdk;

use crate::parts::Format;
use badger_drive::buffer::{Pool, is_zero};
use badger_drive::clock::Clock;
use badger_drive::reads::{Got, Reads};
use badger_drive::{Control, Event, Holds, Observer, Phase, Source};
use std::fs::{File, OpenOptions};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// Bytes of one read: blocks of all formats go into it whole.
const PIECE: u64 = 4 << 20;
/// Reads in flight.
const DEPTH: u32 = 2;

/// A format that is written.
trait Sink {
    /// Bytes of a block: a power of two, 4 MiB at the most.
    fn block(&self) -> u64;
    /// Writes a block that is not zero, by its number; they come in their order. The last one may be shorter.
    fn write_block(&mut self, number: u64, bytes: &[u8]) -> io::Result<()>;
    /// Writes what makes it an image.
    fn end(&mut self) -> io::Result<()>;
}

/// A file that grows, and whose places are written to.
struct Out {
    file: File,
    /// Where the next block goes.
    at: u64,
}

impl Out {
    fn write_at(&self, at: u64, bytes: &[u8]) -> io::Result<()> {
        self.file.write_all_at(bytes, at)
    }

    /// Appends bytes, with zeroes behind them up to a multiple of `step`. Where they begin.
    fn append(&mut self, bytes: &[u8], step: u64) -> io::Result<u64> {
        let at = self.at;
        self.file.write_all_at(bytes, at)?;
        self.at = (at + bytes.len() as u64).next_multiple_of(step);
        Ok(at)
    }

    /// Ends it where the next block would go.
    fn cut(&self) -> io::Result<()> {
        self.file.set_len(self.at)
    }
}

fn sink(To { format, form, old, .. }: To, out: Out, (size, logical, physical): (u64, u32, u32)) -> io::Result<Box<dyn Sink>> {
    let cannot = |why: &str| io::Error::new(io::ErrorKind::Unsupported, format!("{} {why}", format.word()));
    if logical != 512 && format != Format::Vhdx {
        return Err(cannot("has no room for sectors of 4096 bytes: VHDX and our own format have"));
    }
    if size % 512 != 0 {
        return Err(cannot("holds whole sectors only"));
    }
    let fixed = form == Form::Fixed;
    if old && format != Format::Qcow2 {
        return Err(cannot("has one version here: QCOW2 has an older one"));
    }
    match (form, format) {
        (Form::Packed, Format::Qcow2 | Format::Vmdk) | (Form::Growing, _) => {}
        (Form::Packed, _) => return Err(cannot("has no packed form: QCOW2, VMDK and our own format have")),
        (Form::Fixed, Format::Qcow2) => return Err(cannot("has no fixed form")),
        (Form::Fixed, _) => {}
    }
    Ok(match format {
        Format::Raw => return Err(cannot("is written another way")),
        Format::Qcow2 => Box::new(qcow2::Writer::new(out, size, form == Form::Packed, old)?),
        Format::Vhd if size > vhd::MOST => return Err(cannot("ends at 2040 GiB")),
        Format::Vhd => Box::new(vhd::Writer::new(out, size, fixed)?),
        Format::Vhdx if size > 64 << 40 => return Err(cannot("ends at 64 TiB")),
        Format::Vhdx => Box::new(vhdx::Writer::new(out, size, (logical, physical), fixed)?),
        Format::Vmdk if form == Form::Packed => Box::new(vmdk::Stream::new(out, size)),
        Format::Vmdk => Box::new(vmdk::Writer::new(out, size)?),
        Format::Vdi if size > vdi::MOST => return Err(cannot("ends at 4 PiB")),
        Format::Vdi => Box::new(vdi::Writer::new(out, size, fixed)),
    })
}

/// In which format.
#[derive(Clone, Copy, Debug)]
pub struct To {
    /// The format.
    pub format: Format,
    /// Bytes of a piece; raw drives only.
    pub split: Option<u64>,
    /// How it holds them.
    pub form: Form,
    /// For old readers: QCOW2 in version 2, packed by Deflate.
    pub old: bool,
}

/// How a format holds the bytes of a drive.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Form {
    /// Only what is not zero.
    #[default]
    Growing,
    /// All of it, each byte at a place of its own: VHD, VHDX, VMDK, VDI.
    Fixed,
    /// Packed: QCOW2 with Zstandard, VMDK with zlib, in one stream.
    Packed,
}

/// What came of it, in bytes.
#[derive(Debug, Default)]
pub struct Written {
    /// Of the drive, known zeroes among them.
    pub read_bytes: u64,
    /// Of the file.
    pub len: u64,
    /// What could not be read, and is zero in the image: start and length.
    pub lost: Vec<(u64, u64)>,
    /// Whether it was stopped; there is no file then.
    pub stopped: bool,
}

/// Writes a drive into a new file of an open format. Where it is not written to its end the file goes again.
///
/// # Errors
/// What the format cannot hold, why the file cannot be written, or that the drive is gone.
pub fn write(source: &Source, path: &Path, to: To, control: &Control, observer: &dyn Observer, clock: &dyn Clock) -> io::Result<Written> {
    let file = OpenOptions::new().read(true).write(true).create_new(true).open(path)?;
    if to.format == Format::Raw {
        badger_drive::raw::mark_raw(&file);
    }
    let mut made = vec![path.to_path_buf()];
    let written = write_into(source, &file, to, &mut made, control, observer, clock);
    if !written.as_ref().is_ok_and(|written| !written.stopped) {
        made.iter().for_each(|path| _ = std::fs::remove_file(path));
    }
    written
}

/// Files that are made are noted in `made`, by the name of the first.
fn write_into(
    source: &Source,
    file: &File,
    to: To,
    made: &mut Vec<PathBuf>,
    control: &Control,
    observer: &dyn Observer,
    clock: &dyn Clock,
) -> io::Result<Written> {
    let geometry = source.geometry();
    let size = geometry.size_bytes;
    let mut sink: Box<dyn Sink> = match to.format {
        Format::Raw if to.form == Form::Packed || to.old => {
            return Err(io::Error::new(io::ErrorKind::Unsupported, "a raw drive is not packed, and has no versions"));
        }
        Format::Raw => {
            let first = made.first().cloned().unwrap_or_default();
            Box::new(raw::Writer::new(file.try_clone()?, &first, size, to.split, made)?)
        }
        Format::Vmdk if to.form == Form::Fixed => {
            let first = made.first().cloned().unwrap_or_default();
            Box::new(vmdk::Flat::new(file.try_clone()?, &first, size, made)?)
        }
        _ => sink(to, Out { file: file.try_clone()?, at: 0 }, (size, geometry.logical_sector, geometry.physical_sector))?,
    };
    observer.event(&Event::Phase { phase: Phase::Copy, total: size, done: 0, files: None });
    let began = clock.now();
    let seconds = || clock.now().saturating_sub(began).as_secs_f64();
    let pool = Pool::new(DEPTH as usize + 1, PIECE as usize);
    let mut reads = Reads::new(&**source, DEPTH, &source.patience(), &pool);
    let (mut written, mut at) = (Written::default(), 0);
    let mut take = |Got { offset, len, buffer, lost }: Got, written: &mut Written| -> io::Result<()> {
        let block = sink.block();
        for (bytes, number) in buffer[..len].chunks(block as usize).zip(offset / block..) {
            if !is_zero(bytes) {
                sink.write_block(number, bytes)?;
            }
        }
        pool.give(buffer);
        written.lost.extend(lost);
        written.read_bytes += len as u64;
        observer.event(&Event::Moved { start: offset, len: len as u64, at: seconds() });
        Ok(())
    };
    while at < size {
        if !control.go_on() {
            written.stopped = true;
            return Ok(written);
        }
        let known = source.stretch(at, size - at);
        let zero = if known.holds == Holds::Zero { if at + known.len == size { known.len } else { known.len / PIECE * PIECE } } else { 0 };
        if zero > 0 {
            observer.event(&Event::Moved { start: at, len: zero, at: seconds() });
            (at, written.read_bytes) = (at + zero, written.read_bytes + zero);
            continue;
        }
        let len = (size - at).min(PIECE);
        control.hold_back(len, clock);
        reads.begin(at, len);
        at += len;
        while let Some(got) = reads.make_room().map_err(io::Error::other)? {
            take(got, &mut written)?;
        }
    }
    while let Some(got) = reads.land().map_err(io::Error::other)? {
        take(got, &mut written)?;
    }
    sink.end()?;
    file.sync_all()?;
    written.len = made.iter().filter_map(|path| path.metadata().ok()).map(|meta| meta.len()).sum();
    for (start, len) in &written.lost {
        observer.event(&Event::Lost { start: *start, len: *len });
    }
    Ok(written)
}
