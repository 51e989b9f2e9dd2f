//! What a file on btrfs holds: inline bytes, plain and packed extents, holes; every sector of data is held against its checksum.

use super::trees::Trees;
use super::{Btrfs, Root, SUMS};
use crate::content::Kept;
use crate::finding::{Finding, Result};
use crate::node::{Piece, push_piece};
use crate::unpack::Packing;
use badger_drive::field::le64;
use std::ops::ControlFlow;
use std::sync::{Arc, Mutex};

/// Kinds of items: stretches of a file, checksums of data and the object they belong to.
const EXTENT: u8 = 108;
const SUM: u8 = 128;
const SUMMED: u64 = u64::MAX - 9;
/// A packed stretch has at most this many bytes, packed or not.
const MOST_PACKED: u64 = 128 << 10;
/// So much is read and held against its checksums at once.
const MOST_AT_ONCE: u64 = 1 << 20;
/// Stretches of a file at the most.
const MOST_PARTS: usize = 4 << 20;

/// Where a stretch of a file comes from.
enum From {
    /// Nowhere: it reads as zero.
    Hole,
    /// Bytes that stand beside the inode.
    Held(Vec<u8>),
    /// A place of the volume.
    Plain(u64),
    /// A packed stretch: its place, its bytes, what it unpacks to, and where in there this part begins.
    Packed { at: u64, len: u64, size: u64, offset: u64, packing: Packing },
}

struct Part {
    at: u64,
    len: u64,
    from: From,
}

/// An opened file.
pub(super) struct File<'a> {
    trees: &'a Trees,
    /// The tree of checksums, where data has any.
    sums: Option<Root>,
    size: u64,
    parts: Vec<Part>,
    pieces: Vec<Piece>,
    /// Where all of it lies is known.
    placed: bool,
    /// The packed stretch that was read last.
    unpacked: Mutex<Option<(u64, Arc<Vec<u8>>)>>,
}

fn damaged(what: &str) -> Finding {
    Finding::new("btrfs-extents", format!("where it lies is damaged: {what}"))
}

/// A stretch of a file out of its item.
fn part(start: u64, item: &[u8]) -> Result<Part> {
    let packing = match item.get(16).copied() {
        Some(0) => None,
        Some(1) => Some(Packing::Zlib),
        Some(2) => Some(Packing::Lzo),
        Some(3) => Some(Packing::Zstd),
        _ => return Err(Finding::new("btrfs-packing", "it is packed in a way that is not known here")),
    };
    if item.len() < 21 {
        return Err(damaged("an extent is shorter than any"));
    }
    if item[17..20] != [0; 3] {
        return Err(Finding::new("btrfs-packing", "it is encrypted, or encoded in a way that is not known here"));
    }
    let size = le64(item, 8);
    match item[20] {
        0 => {
            let bytes = item.get(21..).unwrap_or_default();
            if start != 0 || size > MOST_PACKED || packing.is_none() && bytes.len() as u64 != size {
                return Err(damaged("the place or the length of what stands beside the inode"));
            }
            let bytes = match packing {
                None => bytes.to_vec(),
                Some(packing) => packing.unpack(bytes, size as usize).ok_or_else(|| damaged("what stands beside the inode cannot be unpacked"))?,
            };
            start.checked_add(size).ok_or_else(|| damaged("it is longer than any"))?;
            Ok(Part { at: start, len: bytes.len() as u64, from: From::Held(bytes) })
        }
        1 | 2 if item.len() >= 53 => {
            let (at, disk, offset, len) = (le64(item, 21), le64(item, 29), le64(item, 37), le64(item, 45));
            let end = [offset, len, disk, MOST_AT_ONCE].iter().try_fold(at, |end, more| end.checked_add(*more));
            if end.is_none() || start.checked_add(len).is_none() || offset.checked_add(len).is_none_or(|end| end > size && packing.is_some()) {
                return Err(damaged("an extent is longer than there is room for"));
            }
            let from = match packing {
                // What was only set aside reads as zero.
                _ if at == 0 || item[20] == 2 => From::Hole,
                None => From::Plain(at + offset),
                Some(_) if size > MOST_PACKED || disk > MOST_PACKED => return Err(damaged("a packed extent is longer than any")),
                Some(packing) => From::Packed { at, len: disk, size, offset, packing },
            };
            Ok(Part { at: start, len, from })
        }
        _ => Err(damaged("the kind of an extent")),
    }
}

impl Btrfs {
    pub(super) fn file(&self, id: u64) -> Result<File<'_>> {
        let (_, root, number) = self.parted(id)?;
        let inode = self.inode(id)?;
        let (mut parts, mut wrong) = (Vec::<Part>::new(), None);
        self.trees.each(root, ((number, EXTENT, 0), (number, EXTENT, u64::MAX)), &mut |(_, _, start), item| {
            match part(start, item) {
                Ok(part) if part.at < parts.last().map_or(0, |last| last.at + last.len) || parts.len() >= MOST_PARTS => {
                    wrong = Some(damaged("its extents lie over each other"));
                }
                Ok(part) => parts.push(part),
                Err(finding) => wrong = Some(finding),
            }
            if wrong.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })?;
        if let Some(wrong) = wrong {
            return Err(wrong);
        }
        let sums = match (inode.has_sums(), self.sums) {
            (true, None) => return Err(Finding::new("btrfs-checksum", format!("the checksums of data (tree {SUMS}) are not there"))),
            (true, sums) => sums,
            (false, _) => None,
        };
        let (pieces, placed) = self.pieces(&parts);
        Ok(File { trees: &self.trees, sums, size: inode.size(), parts, pieces, placed, unpacked: Mutex::default() })
    }

    /// Where the parts lie on the drive, of each the first copy, and whether that is known of all.
    fn pieces(&self, parts: &[Part]) -> (Vec<Piece>, bool) {
        let (mut out, mut end, mut placed) = (Vec::new(), 0, true);
        for part in parts {
            if part.at > end {
                push_piece(&mut out, None, part.at - end);
            }
            end = part.at + part.len;
            let (mut at, mut rest) = match part.from {
                From::Plain(at) => (at, part.len),
                From::Packed { at, len, .. } => (at, len),
                From::Hole | From::Held(_) => {
                    push_piece(&mut out, None, part.len);
                    continue;
                }
            };
            while rest > 0 {
                let (place, here) = self.trees.copies(at, rest).map_or((None, rest), |(copies, here)| (copies.first().copied(), here));
                placed &= place.is_some();
                push_piece(&mut out, place, here);
                (at, rest) = (at + here, rest - here);
            }
        }
        (out, placed)
    }
}

impl File<'_> {
    /// The checksums of so many sectors from a place on.
    fn sums_of(&self, root: Root, at: u64, sectors: u64) -> Result<Vec<u8>> {
        let (sector, len) = (self.trees.sb.sector, self.trees.sb.sum.len());
        let missing = || Finding::new("btrfs-checksum", "its data has no checksum");
        let (mut out, wanted) = (Vec::new(), sectors as usize * len);
        // The first one may stand in the middle of an item.
        let (first, item) = self.trees.last(root, (SUMMED, SUM, at))?.filter(|(key, _)| (key.0, key.1) == (SUMMED, SUM)).ok_or_else(missing)?;
        let from = ((at - first.2) / sector).saturating_mul(len as u64);
        out.extend(item.get(usize::try_from(from).unwrap_or(usize::MAX)..).unwrap_or_default().iter().take(wanted));
        if out.is_empty() {
            return Err(missing());
        }
        if out.len() < wanted {
            self.trees.each(root, ((SUMMED, SUM, at + 1), (SUMMED, SUM, at + sectors * sector)), &mut |key, item| {
                if key.2 != at + (out.len() / len) as u64 * sector {
                    return ControlFlow::Break(());
                }
                let more = wanted - out.len();
                out.extend(item.iter().take(more));
                if out.len() < wanted { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
            })?;
        }
        if out.len() < wanted { Err(missing()) } else { Ok(out) }
    }

    /// Whole sectors from a place of the volume on, each as its checksum says, of whichever copy.
    fn sectors(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        let (sector, sum) = (self.trees.sb.sector, self.trees.sb.sum);
        let sums = self.sums.map(|root| self.sums_of(root, at, buf.len() as u64 / sector)).transpose()?;
        let is_right = |bytes: &[u8], first: usize| {
            let mut each = bytes.chunks(sector as usize).enumerate();
            sums.as_ref().is_none_or(|sums| each.all(|(number, bytes)| sum.is_right(bytes, &sums[(first + number) * sum.len()..])))
        };
        let mut done = 0;
        while done < buf.len() {
            let (copies, here) = self.trees.copies(at + done as u64, (buf.len() - done) as u64)?;
            // Chunks begin and end with sectors.
            let here = (here / sector * sector) as usize;
            if here == 0 {
                return Err(damaged("a sector lies in two chunks"));
            }
            let (first, part) = (done / sector as usize, &mut buf[done..done + here]);
            let first_copy = copies.first().copied().unwrap_or(u64::MAX);
            if self.trees.volume.read_into(first_copy, part).is_err() || !is_right(part, first) {
                for (number, bytes) in part.chunks_mut(sector as usize).enumerate() {
                    let mut wrong = None;
                    let place = |copy: &u64| copy + number as u64 * sector;
                    let found = copies.iter().map(place).any(|place| match self.trees.volume.read_into(place, bytes) {
                        Ok(()) if is_right(bytes, first + number) => true,
                        Ok(()) => {
                            wrong = Some(Finding::new("btrfs-checksum", "it is not what was written: its checksum is wrong").at(place));
                            false
                        }
                        Err(finding) => {
                            wrong = wrong.take().or(Some(finding));
                            false
                        }
                    });
                    if !found {
                        return Err(wrong.unwrap_or_else(|| damaged("a sector lies nowhere")));
                    }
                }
            }
            done += here;
        }
        Ok(())
    }

    /// Bytes from a place of the volume on.
    fn plain(&self, at: u64, buf: &mut [u8]) -> Result<()> {
        let sector = self.trees.sb.sector;
        let mut done = 0;
        while done < buf.len() {
            let place = at + done as u64;
            let from = place / sector * sector;
            let wanted = (place - from + (buf.len() - done) as u64).next_multiple_of(sector).min(MOST_AT_ONCE);
            let len = ((wanted - (place - from)) as usize).min(buf.len() - done);
            let out = &mut buf[done..done + len];
            if place == from && len as u64 == wanted {
                self.sectors(from, out)?;
            } else {
                let mut bytes = vec![0; wanted as usize];
                self.sectors(from, &mut bytes)?;
                out.copy_from_slice(&bytes[(place - from) as usize..][..len]);
            }
            done += len;
        }
        Ok(())
    }

    fn packed(&self, at: u64, len: u64, size: u64, packing: Packing) -> Result<Arc<Vec<u8>>> {
        if let Some((held, bytes)) = &*self.unpacked.lock().expect("unpacked lock")
            && *held == at
            && bytes.len() as u64 == size
        {
            return Ok(bytes.clone());
        }
        let mut bytes = vec![0; len.next_multiple_of(self.trees.sb.sector) as usize];
        self.sectors(at, &mut bytes)?;
        bytes.truncate(len as usize);
        let unpacked = packing.unpack(&bytes, size as usize).ok_or_else(|| Finding::new("packed-damaged", "a packed extent cannot be unpacked"))?;
        let unpacked = Arc::new(unpacked);
        *self.unpacked.lock().expect("unpacked lock") = Some((at, unpacked.clone()));
        Ok(unpacked)
    }

    /// The part in which a byte lies, or the next one.
    fn part(&self, offset: u64) -> Option<&Part> {
        self.parts.get(self.parts.partition_point(|part| part.at + part.len <= offset))
    }
}

impl Kept for File<'_> {
    fn size(&self) -> u64 {
        self.size
    }

    fn read(&self, offset: u64, buf: &mut [u8]) -> Result<usize> {
        let len = self.size.saturating_sub(offset).min(buf.len() as u64) as usize;
        let buf = &mut buf[..len];
        let mut done = 0;
        while done < len {
            let at = offset + done as u64;
            let rest = (len - done) as u64;
            let Some(part) = self.part(at) else {
                buf[done..].fill(0);
                break;
            };
            if part.at > at {
                let hole = (part.at - at).min(rest) as usize;
                buf[done..done + hole].fill(0);
                done += hole;
                continue;
            }
            let inner = at - part.at;
            let count = (part.len - inner).min(rest) as usize;
            let out = &mut buf[done..done + count];
            match &part.from {
                From::Hole => out.fill(0),
                From::Held(bytes) => out.copy_from_slice(&bytes[inner as usize..][..count]),
                From::Plain(place) => self.plain(place + inner, out)?,
                From::Packed { at, len, size, offset, packing } => {
                    let bytes = self.packed(*at, *len, *size, *packing)?;
                    let part = bytes.get((offset + inner) as usize..).and_then(|bytes| bytes.get(..count));
                    out.copy_from_slice(part.ok_or_else(|| damaged("a packed extent is too short"))?);
                }
            }
            done += count;
        }
        Ok(len)
    }

    fn hole(&self, offset: u64) -> u64 {
        let rest = self.size.saturating_sub(offset);
        match self.part(offset) {
            None => rest,
            Some(part) if part.at > offset => (part.at - offset).min(rest),
            Some(part) if matches!(part.from, From::Hole) => (part.at + part.len - offset).min(rest),
            Some(_) => 0,
        }
    }

    fn until_hole(&self, offset: u64, most: u64) -> u64 {
        let rest = self.size.saturating_sub(offset).min(most);
        let (first, mut at) = (self.parts.partition_point(|part| part.at + part.len <= offset), offset);
        for part in &self.parts[first..] {
            if part.at > at || at - offset >= rest || matches!(part.from, From::Hole) {
                break;
            }
            at = part.at + part.len;
        }
        (at - offset).min(rest)
    }

    fn settled(&self) -> Result<()> {
        Ok(())
    }

    fn pieces(&self) -> &[Piece] {
        &self.pieces
    }

    fn is_placed(&self) -> bool {
        self.placed
    }

    fn is_packed(&self) -> bool {
        self.parts.iter().any(|part| matches!(part.from, From::Packed { .. }))
    }

    fn place(&self, offset: u64) -> Option<u64> {
        let part = self.part(offset).filter(|part| part.at <= offset)?;
        let From::Plain(at) = part.from else { return None };
        self.trees.copies(at + (offset - part.at), 1).ok()?.0.first().copied()
    }
}
