//! The last look before the first write: a random mark on the target that must not show on the source.
//!
//! Layers that hide what is below them (FUSE, overlays, the network) can make one drive look like two. A stretch that
//! the run overwrites anyway gets a mark, flushed; where the source shows it, both are the same storage. The old bytes
//! go back at once, whatever was seen.

use crate::buffer::{Buffer, is_zero};
use crate::medium::{WriteError, WriteMedium};
use crate::refusal::Refusal;
use crate::release::Release;
use std::hash::{BuildHasher, Hasher, RandomState};

/// Bytes of the mark.
const MARK: u64 = 4096;
/// So many places are tried.
const PLACES: usize = 12;

/// Stretches of the mark's length that are overwritten anyway, those that hold nothing first.
fn places(target: &dyn WriteMedium, overwritten: &[(u64, u64)]) -> Vec<(u64, Buffer)> {
    let mut out = Vec::new();
    let whole = |(start, len): &(u64, u64)| {
        let first = start.next_multiple_of(MARK);
        (first, (start + len).saturating_sub(first) / MARK)
    };
    for (first, count) in overwritten.iter().map(whole).filter(|(_, count)| *count > 0) {
        for share in [0, count / 2, count - 1] {
            let at = first + share * MARK;
            if out.len() < PLACES && out.iter().all(|(other, _)| *other != at) {
                let mut held = Buffer::new(MARK as usize);
                if target.read_at(at, &mut held).is_ok() {
                    out.push((at, held));
                }
            }
        }
    }
    out.sort_by_key(|(_, held)| !is_zero(held));
    out
}

fn mark() -> Buffer {
    let mut mark = Buffer::new(MARK as usize);
    for (at, piece) in mark.chunks_mut(8).enumerate() {
        // The standard library seeds this from the system's randomness.
        let mut hasher = RandomState::new().build_hasher();
        hasher.write_usize(at);
        piece.copy_from_slice(&hasher.finish().to_le_bytes());
    }
    mark
}

/// Whether the source shows the mark at a place; `None` where it cannot be read there.
fn shows(release: &Release, at: i128, mark: &[u8]) -> Option<bool> {
    let size = release.source.geometry().size_bytes;
    let at = u64::try_from(at).ok().filter(|at| at.checked_add(MARK).is_some_and(|end| end <= size))?;
    // Read in whole pages, so that it comes from the medium and not from memory.
    let first = at / MARK * MARK;
    let mut pages = Buffer::new(((at + MARK).next_multiple_of(MARK).min(size) - first) as usize);
    release.source.read_at(first, &mut pages).ok()?;
    let from = (at - first) as usize;
    Some(pages[from..from + MARK as usize] == *mark)
}

/// Lays the trip-wire and takes it up again.
///
/// # Errors
/// A refusal where source and target are the same storage, where that cannot be told although a layer hides what is
/// below, or where the old bytes could not be put back.
pub fn lay(target: &dyn WriteMedium, release: &Release, veiled: bool, hidden: bool) -> Result<(), Refusal> {
    let mut shifts: Vec<i128> = [0].into_iter().chain(release.shifts.iter().copied()).collect();
    shifts.sort_by_key(|shift| shift.abs());
    shifts.dedup();
    let mut told = false;
    for (at, held) in places(target, release.overwritten) {
        if shifts.is_empty() {
            break;
        }
        let mark = mark();
        // A place that takes no write is no place for a mark; the run will say what is wrong with it.
        if let Err(error) = target.write_at(at, &mark) {
            // How much of it was written is not known.
            let back = put_back(target, at, &held);
            if !matches!(error, WriteError::Failed { .. }) {
                back?;
            }
            continue;
        }
        if target.flush().is_err() {
            put_back(target, at, &held)?;
            continue;
        }
        let mut same = false;
        shifts.retain(|shift| match shows(release, i128::from(at) + shift, &mark) {
            Some(seen) => {
                same |= seen;
                told |= *shift == 0;
                false
            }
            None => true,
        });
        put_back(target, at, &held)?;
        if same {
            let text = "what is written there shows on the source: they are the same storage, reached by two ways; nothing was changed, choose another target";
            return Err(Refusal::new("same-storage", text));
        }
    }
    if hidden && search(target, release)? {
        let text = "what is written there shows on the source at another place: they share storage; nothing was changed, choose another target";
        return Err(Refusal::new("same-storage", text));
    }
    if veiled && !told && !release.overwritten.is_empty() {
        let text = "a layer hides what is below, and whether it is the source could not be told; choose another target";
        return Err(Refusal::new("not-told-apart", text));
    }
    Ok(())
}

/// Marks of a search, and the longest stretch of the source that is read for it in one go.
const MARKS: u64 = 1024;
const STEP: u64 = 1 << 20;
/// Marks lie no nearer to each other.
const NEAREST: u64 = 64 << 10;

/// Looks for one storage behind two drives where nobody knows how far apart the same bytes lie on them, as where the source is a stretch of
/// the target that somebody serves. Marks are spread over everything that the run overwrites; stretches of the source longer than the way
/// from one mark to the next are read. What is found: any stretch of the target that is longer than two such ways.
fn search(target: &dyn WriteMedium, release: &Release) -> Result<bool, Refusal> {
    let bytes: u64 = release.overwritten.iter().map(|(_, len)| *len).sum();
    let way = (bytes / MARKS).next_multiple_of(MARK).max(NEAREST);
    let token = *mark().first_chunk::<32>().expect("a mark is longer");
    let mut marked = Buffer::new(MARK as usize);
    marked.chunks_mut(512).for_each(|sector| sector[..32].copy_from_slice(&token));
    let mut laid: Vec<(u64, Buffer)> = Vec::new();
    let mut next = 0;
    for (start, len) in release.overwritten {
        let mut at = start.next_multiple_of(MARK).max(next);
        while at + MARK <= start + len && laid.len() < 2 * MARKS as usize {
            let mut held = Buffer::new(MARK as usize);
            // A place that cannot be read cannot be put back.
            if target.read_at(at, &mut held).is_ok() {
                laid.push((at, held));
            }
            at += way;
            next = at;
        }
    }
    let written = laid.iter().take_while(|(at, _)| target.write_at(*at, &marked).is_ok()).count();
    // A mark that did not arrive cannot show: then nothing is known.
    let is_told = written == laid.len() && target.flush().is_ok();
    let is_found = is_told && written > 0 && shows_anywhere(release, &token, way, target.geometry().size_bytes);
    // The one that failed may be written in part.
    laid.iter().take(written + 1).try_for_each(|(at, held)| put_back(target, *at, held))?;
    if !is_told {
        let text = "a layer hides what is below, and the target does not take what would tell whether it is the source; choose another target";
        return Err(Refusal::new("not-told-apart", text));
    }
    Ok(is_found)
}

/// Whether the source shows a mark: stretches of it are read, so many that one lies in any part of it that could be the target.
fn shows_anywhere(release: &Release, token: &[u8; 32], way: u64, target: u64) -> bool {
    let size = release.source.geometry().size_bytes;
    let finder = memchr::memmem::Finder::new(token);
    let apart = target.saturating_sub(2 * way).max(2 * way);
    let mut start = 0;
    let mut buffer = Buffer::new((STEP + MARK) as usize);
    while start < size {
        let mut at = start;
        let end = start.saturating_add(2 * way + MARK).min(size);
        while at < end {
            let len = (end - at).min(STEP + MARK) as usize;
            // What cannot be read is passed over: the run will say so.
            if release.source.read_at(at, &mut buffer[..len]).is_ok() && finder.find(&buffer[..len]).is_some() {
                return true;
            }
            at += STEP;
        }
        start = start.saturating_add(apart);
    }
    false
}

/// So often the old bytes are written and read again, until they are there.
const TURNS: usize = 5;

fn put_back(target: &dyn WriteMedium, at: u64, held: &[u8]) -> Result<(), Refusal> {
    let mut why = String::new();
    for _ in 0..TURNS {
        // After a flush that failed the write counts as not done, so both are done again.
        let back = if is_zero(held) { target.write_zero(at, MARK) } else { target.write_at(at, held) };
        match back.and_then(|()| target.flush()) {
            Ok(()) => {
                target.forget(at, MARK);
                let mut now = Buffer::new(MARK as usize);
                if target.read_at(at, &mut now).is_ok() && *now == *held {
                    return Ok(());
                }
                why = "it gives other bytes than were put back".into();
            }
            Err(error) => why = error.to_string(),
        }
    }
    let text = format!("{MARK} bytes at {at} were written for a last check and could not be put back: {why}; this drive is failing");
    Err(Refusal::new("target-unusable", text))
}
