//! The bytes of an opened file: pieces on the volume, bytes held in a structure, or packed ones.

use crate::cached::Cached;
use crate::finding::{Finding, Result};
use crate::node::Piece;
use crate::unpack::{self, Packing};
use badger_drive::narrow::{Failed, narrow};
use std::convert::Infallible;

/// How the pieces become bytes.
pub(crate) enum Form {
    /// As they lie there.
    Plain,
    /// Kept inside a structure of the format.
    Held(Vec<u8>),
    /// Units of so many bytes, each plain, empty or packed with LZNT1.
    Units(u64),
    /// Chunks behind a table of their places.
    Chunks(Chunks),
}

/// A stream of packed chunks: where each begins within the pieces.
pub(crate) struct Chunks {
    pub packing: Packing,
    /// Bytes a chunk unpacks to.
    pub unit: u64,
    /// Where each chunk begins in the stream, and where the last one ends.
    pub starts: Vec<u64>,
}

/// Where the bytes of a file or stream are, and how to read them from the volume, which is given with every read.
pub(crate) struct FileMap {
    size: u64,
    pieces: Vec<Piece>,
    starts: Vec<u64>,
    form: Form,
    bound: bool,
    /// Where its pieces end before they should, in bytes of all pieces, and why: nobody knows what stands behind.
    torn: Option<(u64, Finding)>,
}

/// Packed data is unpacked for as many bytes at once at the most.
const MOST_UNIT: u64 = 16 << 20;

/// An opened file or stream.
pub struct Content<'a>(Opened<'a>);

enum Opened<'a> {
    /// Its pieces, and the volume they lie on.
    Mapped(FileMap, &'a Cached),
    /// A file somebody else keeps.
    Kept(Box<dyn Kept + 'a>),
}

/// A file that is read from whoever keeps it, such as this machine.
pub(crate) trait Kept: Send + Sync {
    /// Bytes it has.
    fn size(&self) -> u64;

    /// See [`Content::read`].
    fn read(&self, offset: u64, buf: &mut [u8]) -> Result<usize>;

    /// See [`Content::hole`].
    fn hole(&self, offset: u64) -> u64;

    /// See [`Content::until_hole`].
    fn until_hole(&self, offset: u64, most: u64) -> u64;

    /// See [`Content::settled`].
    fn settled(&self) -> Result<()>;

    /// See [`Content::pieces`].
    fn pieces(&self) -> &[Piece] {
        &[]
    }

    /// See [`Content::is_placed`].
    fn is_placed(&self) -> bool {
        true
    }

    /// See [`Content::is_packed`].
    fn is_packed(&self) -> bool {
        false
    }

    /// See [`Content::place`].
    fn place(&self, _offset: u64) -> Option<u64> {
        None
    }
}

impl<'a> Content<'a> {
    pub(crate) fn kept(file: impl Kept + 'a) -> Self {
        Self(Opened::Kept(Box::new(file)))
    }

    /// Bytes it has.
    pub fn size(&self) -> u64 {
        match &self.0 {
            Opened::Mapped(map, _) => map.size,
            Opened::Kept(file) => file.size(),
        }
    }

    /// Where its bytes lie, in order. Empty for what lies inside a structure of the format, and for what is not read from a volume.
    /// Of packed data these are the packed bytes.
    pub fn pieces(&self) -> &[Piece] {
        match &self.0 {
            Opened::Mapped(map, _) => &map.pieces,
            Opened::Kept(file) => file.pieces(),
        }
    }

    /// Where its bytes lie, where they lie there as they are, all of them, and no sum of the format stands for them: then equal places that hold
    /// the same are equal contents.
    pub fn plain_pieces(&self) -> Option<&[Piece]> {
        match &self.0 {
            Opened::Mapped(FileMap { form: Form::Plain, torn: None, pieces, .. }, _) => Some(pieces),
            _ => None,
        }
    }

    /// Whether its pieces say where all of it lies: not where a part lies on another drive, or nobody knows where.
    pub fn is_placed(&self) -> bool {
        match &self.0 {
            Opened::Mapped(..) => true,
            Opened::Kept(file) => file.is_placed(),
        }
    }

    /// Whether its bytes are kept packed.
    pub fn is_packed(&self) -> bool {
        match &self.0 {
            Opened::Mapped(map, _) => matches!(map.form, Form::Units(_) | Form::Chunks(_)),
            Opened::Kept(file) => file.is_packed(),
        }
    }

    /// Whether its bytes may not be changed where they lie: others share them, something counts them, or may move them.
    pub fn is_bound(&self) -> bool {
        matches!(&self.0, Opened::Mapped(FileMap { bound: true, .. }, _) | Opened::Kept(_))
    }

    /// Reads from byte `offset` on; gives how many bytes were read, 0 at the end.
    ///
    /// # Errors
    /// A finding where a place cannot be read or packed bytes are damaged; nothing in `buf` is good then.
    pub fn read(&self, offset: u64, buf: &mut [u8]) -> Result<usize> {
        match &self.0 {
            Opened::Mapped(map, volume) => map.read(volume, offset, buf),
            Opened::Kept(file) => file.read(offset, buf),
        }
    }

    /// Reads like [`Content::read`], whatever it takes: what cannot be read is filled with zeroes and named in `lost`, as
    /// start and length in bytes of the file.
    pub fn read_hard(&self, offset: u64, buf: &mut [u8], lost: &mut Vec<(u64, u64)>) -> usize {
        match &self.0 {
            Opened::Mapped(map, volume) => map.read_hard(volume, offset, buf, lost),
            Opened::Kept(file) => hard(&|at, buf| file.read(at, buf), (file.size(), 4096), offset, buf, lost),
        }
    }

    /// Whether what was read of it is what stood there all the while: nobody may write to a volume meanwhile, but anybody to
    /// a file of this machine.
    ///
    /// # Errors
    /// A finding where it was written to.
    pub fn settled(&self) -> Result<()> {
        match &self.0 {
            Opened::Mapped(..) => Ok(()),
            Opened::Kept(file) => file.settled(),
        }
    }

    /// The byte of the volume where a byte of the file lies, where one does.
    pub fn place(&self, offset: u64) -> Option<u64> {
        match &self.0 {
            Opened::Mapped(map, _) => map.place(offset),
            Opened::Kept(file) => file.place(offset),
        }
    }

    /// How many bytes from `offset` on are known to be zero because they lie nowhere.
    pub fn hole(&self, offset: u64) -> u64 {
        match &self.0 {
            Opened::Mapped(map, _) => map.hole(offset),
            Opened::Kept(file) => file.hole(offset),
        }
    }

    /// How many bytes from `offset` on come before the next hole, `most` at the most.
    pub fn until_hole(&self, offset: u64, most: u64) -> u64 {
        match &self.0 {
            Opened::Mapped(map, _) => map.until_hole(offset, most),
            Opened::Kept(file) => file.until_hole(offset, most),
        }
    }
}

impl FileMap {
    /// The file as it is read from its volume.
    pub(crate) fn on(self, volume: &Cached) -> Content<'_> {
        Content(Opened::Mapped(self, volume))
    }

    pub(crate) fn new(size: u64, pieces: Vec<Piece>, form: Form) -> Self {
        let mut at = 0u64;
        let mut begin = |piece: &Piece| {
            let start = at;
            at = at.saturating_add(piece.len);
            start
        };
        let starts = pieces.iter().map(&mut begin).collect();
        Self { size, pieces, starts, form, bound: false, torn: None }
    }

    /// The same, whose pieces should go on behind byte `at` and do not: reading there is an error, not zeroes.
    pub(crate) fn torn(self, at: u64, why: Finding) -> Self {
        Self { torn: Some((at, why)), ..self }
    }

    /// An error where bytes up to `end` of the pieces reach behind the place where they are torn.
    fn whole(&self, end: u64) -> Result<()> {
        match &self.torn {
            Some((at, why)) if end > *at => Err(why.clone()),
            _ => Ok(()),
        }
    }

    pub(crate) fn held(bytes: Vec<u8>) -> Self {
        Self::new(bytes.len() as u64, Vec::new(), Form::Held(bytes))
    }

    /// The same pieces, read as packed chunks that make up `size` bytes.
    pub(crate) fn into_chunks(self, size: u64, chunks: Chunks) -> Self {
        match self.form {
            // A short one is held; its chunks are unpacked at once.
            Form::Held(bytes) => {
                let unpacked = chunks.starts.windows(2).enumerate().map(|(number, place)| {
                    let wanted = chunks.unit.min(size.saturating_sub(number as u64 * chunks.unit)) as usize;
                    let packed = bytes.get(place[0] as usize..place[1] as usize)?;
                    if packed.len() == wanted { Some(packed.to_vec()) } else { chunks.packing.unpack(packed, wanted) }
                });
                let unpacked: Option<Vec<Vec<u8>>> = unpacked.collect();
                match unpacked {
                    Some(parts) => Self::held(parts.concat()),
                    None => Self {
                        size,
                        pieces: Vec::new(),
                        starts: Vec::new(),
                        form: Form::Chunks(Chunks { starts: Vec::new(), ..chunks }),
                        bound: false,
                        torn: None,
                    },
                }
            }
            _ => Self { size, form: Form::Chunks(chunks), ..self },
        }
    }

    /// The same, of which nothing may be changed where it lies.
    pub(crate) fn bound(self) -> Self {
        Self { bound: true, ..self }
    }

    /// The same, `most` bytes long at the most.
    pub(crate) fn cut(self, most: u64) -> Self {
        Self { size: self.size.min(most), ..self }
    }

    /// Bytes it has.
    pub(crate) fn size(&self) -> u64 {
        self.size
    }

    /// Where its bytes lie, in order. Empty for what lies inside a structure of the format. Of packed data these are
    /// the packed bytes.
    pub(crate) fn pieces(&self) -> &[Piece] {
        &self.pieces
    }

    /// Reads from byte `offset` on; gives how many bytes were read, 0 at the end.
    ///
    /// # Errors
    /// A finding where a place cannot be read or packed bytes are damaged; nothing in `buf` is good then.
    pub(crate) fn read(&self, volume: &Cached, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let end = self.size.min(offset.saturating_add(buf.len() as u64));
        let len = end.saturating_sub(offset) as usize;
        let buf = &mut buf[..len];
        match &self.form {
            Form::Plain => self.plain(volume, offset, buf)?,
            Form::Held(bytes) => buf.copy_from_slice(&bytes[offset.min(end) as usize..][..len]),
            Form::Units(unit) => self.each(offset, buf, *unit, |number| self.unit(volume, number * unit, *unit))?,
            Form::Chunks(chunks) => self.each(offset, buf, chunks.unit, |number| self.chunk(volume, chunks, number))?,
        }
        Ok(len)
    }

    /// See [`Content::read_hard`].
    pub(crate) fn read_hard(&self, volume: &Cached, offset: u64, buf: &mut [u8], lost: &mut Vec<(u64, u64)>) -> usize {
        let least = match &self.form {
            Form::Units(unit) => *unit,
            Form::Chunks(chunks) => chunks.unit,
            Form::Plain | Form::Held(_) => volume.sector(),
        };
        hard(&|at, buf| self.read(volume, at, buf), (self.size, least), offset, buf, lost)
    }

    /// The stretch of the volume in which a byte of the file lies, where one does.
    pub(crate) fn place(&self, offset: u64) -> Option<u64> {
        let index = self.starts.partition_point(|start| *start <= offset).checked_sub(1)?;
        let inner = offset - self.starts[index];
        self.pieces[index].at.filter(|_| inner < self.pieces[index].len).map(|at| at + inner)
    }

    /// How many bytes from `offset` on are known to be zero because they lie nowhere.
    pub(crate) fn hole(&self, offset: u64) -> u64 {
        if !matches!(self.form, Form::Plain) || self.whole(offset.saturating_add(1)).is_err() {
            return 0;
        }
        let Some(index) = self.starts.partition_point(|start| *start <= offset).checked_sub(1) else { return 0 };
        let (piece, inner) = (self.pieces[index], offset - self.starts[index]);
        let end = self.torn.as_ref().map_or(self.size, |(at, _)| self.size.min(*at));
        if piece.at.is_some() { 0 } else { piece.len.saturating_sub(inner).min(end.saturating_sub(offset)) }
    }

    /// How many bytes from `offset` on come before the next hole, `most` at the most.
    pub(crate) fn until_hole(&self, offset: u64, most: u64) -> u64 {
        let rest = self.size.saturating_sub(offset).min(most);
        if !matches!(self.form, Form::Plain) {
            return rest;
        }
        let first = self.starts.partition_point(|start| *start <= offset).saturating_sub(1);
        let near = (first..self.pieces.len()).take_while(|at| self.starts[*at] < offset.saturating_add(most));
        let hole = near.into_iter().find(|at| self.pieces[*at].at.is_none());
        hole.map_or(rest, |at| self.starts[at].saturating_sub(offset).min(rest))
    }

    fn plain(&self, volume: &Cached, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.whole(offset.saturating_add(buf.len() as u64))?;
        let mut done = 0usize;
        let mut index = self.starts.partition_point(|start| *start <= offset).saturating_sub(1);
        while done < buf.len() {
            let at = offset + done as u64;
            let Some((piece, start)) = self.pieces.get(index).zip(self.starts.get(index)) else {
                // What no piece reaches was never written.
                buf[done..].fill(0);
                break;
            };
            index += 1;
            let inner = at - start;
            if inner >= piece.len {
                continue;
            }
            let len = (piece.len - inner).min((buf.len() - done) as u64) as usize;
            let out = &mut buf[done..done + len];
            match piece.at {
                Some(place) => volume.read_into(place + inner, out)?,
                None => out.fill(0),
            }
            done += len;
        }
        Ok(())
    }

    fn each(&self, offset: u64, buf: &mut [u8], unit: u64, mut unpacked: impl FnMut(u64) -> Result<Vec<u8>>) -> Result<()> {
        let mut done = 0;
        while done < buf.len() {
            let at = offset + done as u64;
            let bytes = unpacked(at / unit)?;
            let rest = bytes.get((at % unit) as usize..).filter(|rest| !rest.is_empty()).ok_or_else(damaged)?;
            let len = rest.len().min(buf.len() - done);
            buf[done..done + len].copy_from_slice(&rest[..len]);
            done += len;
        }
        Ok(())
    }

    /// One unit: all there is plain, nothing there is zero, less than whole is packed.
    fn unit(&self, volume: &Cached, start: u64, len: u64) -> Result<Vec<u8>> {
        self.whole(start.saturating_add(len).min(self.size))?;
        let mut bytes = Vec::new();
        let first = self.starts.partition_point(|at| *at <= start).saturating_sub(1);
        for (piece, at) in self.pieces[first..].iter().zip(&self.starts[first..]).take_while(|(_, at)| **at < start + len) {
            let (from, to) = ((*at).max(start), (at + piece.len).min(start + len));
            if from < to
                && let Some(place) = piece.at
            {
                bytes.extend(volume.read(place + from - at, (to - from) as usize)?);
            }
        }
        match bytes.len() as u64 {
            0 => Ok(vec![0; len as usize]),
            total if total == len => Ok(bytes),
            _ => unpack::lznt1::unpack(&bytes, len as usize).ok_or_else(damaged),
        }
    }

    fn chunk(&self, volume: &Cached, chunks: &Chunks, number: u64) -> Result<Vec<u8>> {
        let place = usize::try_from(number).ok().and_then(|number| chunks.starts.get(number..number + 2)).ok_or_else(damaged)?;
        let wanted = chunks.unit.min(self.size - number * chunks.unit) as usize;
        let len = place[1].checked_sub(place[0]).filter(|len| (1..=chunks.unit.min(MOST_UNIT)).contains(len)).ok_or_else(damaged)?;
        let mut bytes = vec![0; len as usize];
        self.plain(volume, place[0], &mut bytes)?;
        if bytes.len() == wanted {
            return Ok(bytes);
        }
        chunks.packing.unpack(&bytes, wanted).ok_or_else(damaged)
    }
}

/// Reads what can be read of a file of `size` bytes, of which no less than `least` can be read alone.
fn hard(read: &dyn Fn(u64, &mut [u8]) -> Result<usize>, (size, least): (u64, u64), offset: u64, buf: &mut [u8], lost: &mut Vec<(u64, u64)>) -> usize {
    if let Ok(count) = read(offset, buf) {
        return count;
    }
    let len = (buf.len() as u64).min(size.saturating_sub(offset)) as usize;
    if len == 0 {
        return 0;
    }
    // The whole of it was just tried.
    let mut tried = true;
    let mut again = |at: u64, buf: &mut [u8]| {
        if std::mem::take(&mut tried) {
            return Err(Failed::At(at));
        }
        let count = read(at, buf).map_err(|_| Failed::At(at))?;
        // What became shorter meanwhile has nothing there.
        buf[count..].fill(0);
        Ok(())
    };
    let Ok(()) = narrow::<Infallible>(&mut again, least, offset, &mut buf[..len], lost);
    len
}

fn damaged() -> Finding {
    Finding::new("packed-damaged", "a compressed stretch is damaged")
}
