//! The last look before the first write: a random mark on the target that must not show on the source.
//!
//! Layers that hide what is below them (FUSE, overlays, the network) can make one drive look like two. A stretch that
//! the run overwrites anyway gets a mark, flushed; where the source shows it, both are the same storage. The old bytes
//! go back at once, whatever was seen.

use crate::buffer::{Buffer, is_zero};
use crate::medium::{WriteError, WriteMedium};
use crate::random::random;
use crate::refusal::Refusal;
use crate::release::Release;

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
    for piece in mark.chunks_mut(8) {
        piece.copy_from_slice(&random().to_le_bytes());
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

/// What lies between a drive and its storage.
#[derive(Clone, Copy)]
pub struct Layers {
    /// A layer may show the same bytes under another name.
    pub veiled: bool,
    /// A layer hides which bytes it shows, so any offset between source and target is possible.
    pub hidden: bool,
    /// The technician vouches for the target where the marks give no answer.
    pub trusted: bool,
}

/// Lays the trip-wire and takes it up again.
///
/// # Errors
/// A refusal where source and target are the same storage, where that cannot be told although a layer hides what is
/// below, or where the old bytes could not be put back.
pub fn lay(target: &dyn WriteMedium, release: &Release, layers: Layers) -> Result<(), Refusal> {
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
    match if layers.hidden { search(target, release)? } else { Seen::Nowhere } {
        Seen::Mark => {
            let text = "what is written there shows on the source at another place: they share storage; nothing was changed, choose another target";
            return Err(Refusal::new("same-storage", text));
        }
        Seen::Unknown(why) if !layers.trusted => {
            let text = format!(
                "whether it shares storage with the source is not known: {why}. Choose another target, or say --trust-destination where you know it"
            );
            return Err(Refusal::new("not-told-apart", text));
        }
        Seen::Unknown(_) | Seen::Nowhere => {}
    }
    if layers.veiled && !told && !release.overwritten.is_empty() {
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

/// What a search for the marks found.
enum Seen {
    /// The source shows one.
    Mark,
    /// The source shows none.
    Nowhere,
    /// The search gives no answer, and why.
    Unknown(String),
}

/// Looks for one storage behind two drives where nobody knows how far apart the same bytes lie on them, as where the source is a stretch of
/// the target that somebody serves. Marks are spread over everything that the run overwrites; stretches of the source longer than the way
/// from one mark to the next are read. What is found: any stretch of the target that is longer than two such ways.
fn search(target: &dyn WriteMedium, release: &Release) -> Result<Seen, Refusal> {
    let bytes: u64 = release.overwritten.iter().map(|(_, len)| *len).sum();
    let way = (bytes / MARKS).next_multiple_of(MARK).max(NEAREST);
    let token = *mark().first_chunk::<32>().expect("a mark is longer");
    let mut marked = Buffer::new(MARK as usize);
    marked.chunks_mut(512).for_each(|sector| sector[..32].copy_from_slice(&token));
    let mut laid: Vec<(u64, Buffer)> = Vec::new();
    let mut next = 0;
    // A run may write the start of a drive last.
    let mut overwritten = release.overwritten.to_vec();
    overwritten.sort_unstable();
    for (start, len) in overwritten {
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
    // A mark that did not arrive cannot show.
    let arrived = written == laid.len() && target.flush().is_ok();
    let seen = match arrived {
        false => Seen::Unknown("the target does not take the marks that would tell".into()),
        true if laid.is_empty() && bytes >= MARK => Seen::Unknown("no place of the target can be read".into()),
        true if laid.is_empty() => Seen::Nowhere,
        true => shows_anywhere(release, &token, way, target.geometry().size_bytes),
    };
    // The one that failed may be written in part.
    restore(target, &laid[..laid.len().min(written + 1)])?;
    Ok(seen)
}

/// So many reads of the source may fail during a search. On a failing drive each can take seconds.
const FAILURES: usize = 16;

/// Whether the source shows a mark. Stretches of it are read, so many that one lies in any part of it that could be the target, and each
/// so long that a mark would lie in it: where a read fails, the stretch begins again behind the failure.
fn shows_anywhere(release: &Release, token: &[u8; 32], way: u64, target: u64) -> Seen {
    let size = release.source.geometry().size_bytes;
    let finder = memchr::memmem::Finder::new(token);
    let apart = target.saturating_sub(2 * way).max(2 * way);
    let (mut start, mut failures) = (0, 0);
    let mut buffer = Buffer::new((STEP + MARK) as usize);
    while start < size {
        let (mut at, mut end, mut is_whole) = (start, start.saturating_add(2 * way + MARK).min(size), true);
        while at < end {
            let len = (end - at).min(STEP + MARK) as usize;
            is_whole = release.source.read_at(at, &mut buffer[..len]).is_ok();
            if is_whole && finder.find(&buffer[..len]).is_some() {
                return Seen::Mark;
            }
            at += STEP;
            if !is_whole {
                failures += 1;
                if failures == FAILURES {
                    return Seen::Unknown(format!("{FAILURES} reads of the source failed"));
                }
                end = at.saturating_add(2 * way + MARK).min(size);
            }
        }
        if !is_whole {
            return Seen::Unknown("the end of the source cannot be read".into());
        }
        start = start.saturating_add(apart);
    }
    Seen::Nowhere
}

/// Puts the old bytes back everywhere, also behind a place that fails.
fn restore(target: &dyn WriteMedium, laid: &[(u64, Buffer)]) -> Result<(), Refusal> {
    let at_once = laid.iter().all(|(at, held)| write_back(target, *at, held).is_ok()) && target.flush().is_ok();
    let mut failed = None;
    for (at, held) in laid {
        if !at_once || !holds(target, *at, held) {
            failed = failed.or(put_back(target, *at, held).err());
        }
    }
    failed.map_or(Ok(()), Err)
}

fn write_back(target: &dyn WriteMedium, at: u64, held: &[u8]) -> Result<(), WriteError> {
    if is_zero(held) { target.write_zero(at, MARK) } else { target.write_at(at, held) }
}

/// Whether the target holds the old bytes at a place.
fn holds(target: &dyn WriteMedium, at: u64, held: &[u8]) -> bool {
    target.forget(at, MARK);
    let mut now = Buffer::new(MARK as usize);
    target.read_at(at, &mut now).is_ok() && *now == *held
}

/// So often the old bytes are written and read again, until they are there.
const TURNS: usize = 5;

fn put_back(target: &dyn WriteMedium, at: u64, held: &[u8]) -> Result<(), Refusal> {
    let mut why = String::new();
    for _ in 0..TURNS {
        // After a flush that failed the write counts as not done, so both are done again.
        match write_back(target, at, held).and_then(|()| target.flush()) {
            Ok(()) if holds(target, at, held) => return Ok(()),
            Ok(()) => why = "it gives other bytes than were put back".into(),
            Err(error) => why = error.to_string(),
        }
    }
    let text = format!("{MARK} bytes at {at} were written for a last check and could not be put back: {why}; this drive is failing");
    Err(Refusal::new("target-unusable", text))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Source;
    use crate::identity::Identity;
    use crate::medium::{Geometry, Medium, ReadError};
    use rstest::rstest;
    use std::ops::Range;
    use std::path::Path;
    use std::sync::atomic::{AtomicUsize, Ordering};
    use std::sync::{Arc, Mutex};

    /// A stretch of storage that several drives can share.
    struct Window {
        identity: Identity,
        storage: Arc<Mutex<Vec<u8>>>,
        from: usize,
        size: usize,
        /// Bytes that cannot be read, by where they begin; one sector each.
        bad: Vec<u64>,
        /// Flushes so far, and which of them fail.
        flushes: AtomicUsize,
        failing: Range<usize>,
    }

    impl Window {
        fn over(storage: &Arc<Mutex<Vec<u8>>>, from: usize, size: usize) -> Self {
            let (identity, storage) = (Identity::of_file(Path::new("window")), storage.clone());
            Self { identity, storage, from, size, bad: Vec::new(), flushes: AtomicUsize::new(0), failing: 0..0 }
        }
    }

    impl Medium for Window {
        fn geometry(&self) -> Geometry {
            Geometry { size_bytes: self.size as u64, logical_sector: 512, physical_sector: 512 }
        }
        fn identity(&self) -> &Identity {
            &self.identity
        }
        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
            let end = offset + buf.len() as u64;
            if let Some(bad) = self.bad.iter().find(|bad| (offset..end).contains(bad)) {
                return Err(ReadError::Unreadable { offset: *bad, len: end - bad, why: "a bad sector".into() });
            }
            let at = self.from + offset as usize;
            buf.copy_from_slice(&self.storage.lock().unwrap()[at..at + buf.len()]);
            Ok(())
        }
    }

    impl WriteMedium for Window {
        fn write_at(&self, offset: u64, buf: &[u8]) -> Result<(), WriteError> {
            let at = self.from + offset as usize;
            self.storage.lock().unwrap()[at..at + buf.len()].copy_from_slice(buf);
            Ok(())
        }
        fn write_zero(&self, offset: u64, len: u64) -> Result<(), WriteError> {
            self.write_at(offset, &vec![0; len as usize])
        }
        fn flush(&self) -> Result<(), WriteError> {
            if self.failing.contains(&self.flushes.fetch_add(1, Ordering::Relaxed)) {
                return Err(WriteError::Failed { offset: 0, len: 0, why: "the cable".into() });
            }
            Ok(())
        }
        fn forget(&self, _offset: u64, _len: u64) {}
    }

    const SIZE: usize = 8 << 20;

    fn storage(seed: u8) -> Arc<Mutex<Vec<u8>>> {
        Arc::new(Mutex::new((0..SIZE).map(|at| (at / 512) as u8 ^ seed).collect()))
    }

    /// The code of the refusal where source and target share storage, or do not; `apart` where nothing is refused.
    fn told(shared: bool, bad: &[u64], failing: Range<usize>, trusted: bool) -> &'static str {
        let below = storage(1);
        let before = below.lock().unwrap().clone();
        let target = Window { failing, ..Window::over(&below, 0, SIZE) };
        let read = if shared { below.clone() } else { storage(2) };
        let source = Window { bad: bad.to_vec(), ..Window::over(&read, (1 << 20) + 5 * 4096, 4 << 20) };
        let source = Source::detached(Arc::new(source));
        let release = Release { source: &source, needed: 0, tail: "", overwritten: &[(0, SIZE as u64)], shifts: &[] };
        let refusal = lay(&target, &release, Layers { veiled: false, hidden: true, trusted }).err();
        assert!(*below.lock().unwrap() == before, "the old bytes are back");
        refusal.map_or("apart", |refusal| refusal.code)
    }

    /// A bad sector in each megabyte of the source.
    fn each_megabyte() -> Vec<u64> {
        (0..4).map(|at| (at << 20) + 70_000).collect()
    }

    #[rstest]
    #[case::shared(true, vec![], 0..0, "same-storage")]
    #[case::apart(false, vec![], 0..0, "apart")]
    // 512 bytes that cannot be read hide no mark from the next stretch.
    #[case::shared_behind_a_bad_sector(true, vec![0], 0..0, "same-storage")]
    #[case::apart_with_a_bad_sector(false, vec![0], 0..0, "apart")]
    #[case::the_end_cannot_be_read(false, each_megabyte(), 0..0, "not-told-apart")]
    #[case::shared_and_the_end_cannot_be_read(true, each_megabyte(), 0..0, "not-told-apart")]
    // The first two flushes are those of the mark at the first place and of its old bytes.
    #[case::marks_do_not_arrive(false, vec![], 2..3, "not-told-apart")]
    #[case::old_bytes_need_a_second_flush(false, vec![], 3..6, "apart")]
    #[case::old_bytes_never_arrive(false, vec![], 3..99_999, "target-unusable")]
    fn unknown_is_not_apart(#[case] shared: bool, #[case] bad: Vec<u64>, #[case] failing: Range<usize>, #[case] expected: &str) {
        assert_eq!(told(shared, &bad, failing, false), expected);
    }

    /// A run may write the start of a drive last, and a window may begin at any byte.
    #[rstest]
    fn a_window_is_found_wherever_it_begins_and_whatever_is_written_first(#[values(1, 305, 124_209, 1 << 20, 2_000_001)] from: usize) {
        let below = storage(1);
        let target = Window::over(&below, 0, SIZE);
        let source = Source::detached(Arc::new(Window::over(&below, from, 1 << 20)));
        let overwritten = [(7 << 20, 1 << 20), (0, 7 << 20)];
        let release = Release { source: &source, needed: 0, tail: "", overwritten: &overwritten, shifts: &[] };
        let refusal = lay(&target, &release, Layers { veiled: false, hidden: true, trusted: false }).unwrap_err();
        assert_eq!(refusal.code, "same-storage", "{}", refusal.text);
    }

    #[test]
    fn the_technicians_word_counts_only_where_nothing_is_known() {
        assert_eq!(told(false, &each_megabyte(), 0..0, true), "apart");
        assert_eq!(told(true, &[], 0..0, true), "same-storage");
    }
}
