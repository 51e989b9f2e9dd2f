//! A drive that is lent somewhere, as a drive of this bench.

use crate::export::{self, Export, REMARK};
use crate::link::{Answer, Link, Waited};
use crate::protocol::{self as p, command, errno, flag};
use crate::uri::Uri;
use badger_drive::buffer::Buffer;
use badger_drive::flight::{Flight, Landed};
use badger_drive::medium::inside;
use badger_drive::raw::sector_of_content;
use badger_drive::text::plain;
use badger_drive::{Bus, Control, Geometry, Holds, Identity, Medium, Patience, ReadError, Standing, Stretch, WriteError, WriteMedium};
use std::collections::VecDeque;
use std::io;
use std::ops::Range;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// What hides where its bytes lie.
pub const VEIL: &str = "the network";
/// How long a server that is gone is waited for.
const AGAIN: Duration = Duration::from_secs(30);
/// How long after a failure it is tried again.
const PAUSE: Duration = Duration::from_millis(250);
/// What says that another drive is lent under the same name.
const ANOTHER: io::ErrorKind = io::ErrorKind::StaleNetworkFileHandle;
/// How often somebody who waits for a new connection looks whether that was called off.
const GLANCE: Duration = Duration::from_millis(50);
/// A read on which the connection ended so often counts as one that cannot be done.
const DROPS: u32 = 3;
/// Bytes of one place by which a drive is known again, and how many places there are.
const SAMPLE: u64 = 4096;
const SAMPLES: usize = 4;
/// Places of what was read that are kept to know the drive again.
const KEPT: usize = 64;
/// How long the first answers of a server are waited for.
const FIRST: Duration = Duration::from_secs(15);

fn first() -> Patience {
    Patience { limit: FIRST, control: None }
}

/// Bytes of the longest request.
const MOST: u32 = 4 << 20;
/// Bytes of the longest request that brings none along.
const EMPTY: u64 = 256 << 20;
/// Bytes that the status is asked of in one go.
const STATUS: u64 = 1 << 31;

/// A borrowed drive.
pub struct Borrowed {
    uri: Uri,
    trusted: Option<PathBuf>,
    identity: Identity,
    remark: Option<String>,
    geometry: Geometry,
    export: Export,
    link: Mutex<Arc<Link>>,
    /// Whose turn it is to make the connection anew.
    turn: Mutex<()>,
    /// It was waited for in vain: the next time it is tried once only.
    tired: AtomicBool,
    /// What is known without reading of some stretches.
    known: Mutex<Vec<(Range<u64>, Holds)>>,
    /// Places by which it is known again after the connection ended.
    seen: Mutex<Vec<(u64, Vec<u8>)>>,
    written: Mutex<Written>,
    /// A stop of it calls off what is waited for.
    control: Mutex<Option<Control>>,
    /// How often the connection ended.
    ended: AtomicU64,
    /// Reads of which one could be kept.
    reads: AtomicU64,
    /// Hashes of places that were read, anywhere on the drive, by which it is known again.
    read: Mutex<Vec<(u64, blake3::Hash)>>,
}

/// What was written and is not durable.
#[derive(Default)]
struct Written {
    writing: bool,
    /// Places of it, by which the drive will be known again.
    pending: Vec<(u64, Vec<u8>)>,
    /// Something was written since the last flush.
    unkept: bool,
    /// The connection ended when something was not durable: whether it is there, nobody knows.
    lost: bool,
}

impl Borrowed {
    /// Reaches a drive; `writing` says whether it is to be written to.
    ///
    /// # Errors
    /// Why it cannot be had.
    pub fn open(path: &Path, uri: &Uri, trusted: Option<&Path>, writing: bool) -> io::Result<Self> {
        let (wire, export) = export::open(uri, trusted)?;
        let refused = |text: &str| io::Error::new(io::ErrorKind::PermissionDenied, text);
        if writing && export.flags & flag::READ_ONLY != 0 {
            return Err(rustix::io::Errno::ROFS.into());
        }
        if writing && export.least > 4096 {
            return Err(refused("its server takes writes in larger pieces than a sector"));
        }
        if writing && export.flags & flag::FLUSH == 0 {
            return Err(refused("its server never says when what it was given is durable: it is no target"));
        }
        let link = Arc::new(Link::new(wire, &export)?);
        let says = export.says().unwrap_or_default();
        let or = |said: &str, other: String| if said.is_empty() { other } else { plain(said).into_owned() };
        let of_path = Identity::of_file(path);
        let identity = Identity {
            model: or(&says.model, of_path.model.clone()),
            serial: plain(&says.serial).into_owned(),
            firmware: plain(&says.firmware).into_owned(),
            bus: Bus::Network,
            rotational: says.bus.is_some().then_some(export.flags & flag::ROTATIONAL != 0),
            read_only: export.flags & flag::READ_ONLY != 0,
            adapter: says
                .bus
                .filter(|bus| !matches!(bus, Bus::File | Bus::Image | Bus::Loop))
                .map(|bus| format!("lent by another bench, {} there", bus.word())),
            ..of_path
        };
        let mut borrowed = Self {
            uri: uri.clone(),
            trusted: trusted.map(Path::to_path_buf),
            identity,
            remark: says.remark.as_ref().map(|remark| remark.chars().filter(|c| !c.is_control()).take(REMARK).collect()),
            geometry: Geometry { size_bytes: export.size, logical_sector: 512, physical_sector: 4096 },
            export,
            link: Mutex::new(link),
            turn: Mutex::default(),
            // A server that leaves while it is first looked at is not waited for.
            tired: AtomicBool::new(true),
            known: Mutex::default(),
            seen: Mutex::default(),
            written: Mutex::new(Written { writing, ..Written::default() }),
            control: Mutex::default(),
            ended: AtomicU64::new(0),
            reads: AtomicU64::new(0),
            read: Mutex::default(),
        };
        let sound = |size: u32| size == 512 || size == 4096;
        (borrowed.geometry.logical_sector, borrowed.geometry.physical_sector) = match says.sectors {
            Some((logical, physical)) if sound(logical) && sound(physical) && logical <= physical => (logical, physical),
            _ if borrowed.export.least > 512 => (4096, 4096),
            _ => (sector_of_content(&|at, buf| borrowed.read_within(at, buf, &first()).is_ok(), borrowed.export.size), 4096),
        };
        // A server that agrees on everything and never gives a byte would hold up whoever looks at it.
        let mut byte = vec![0; borrowed.export.least.max(512) as usize];
        if let Err(ReadError::Silent { .. }) = borrowed.read_within(0, &mut byte[..512.min(borrowed.export.size) as usize], &first()) {
            return Err(io::Error::new(io::ErrorKind::TimedOut, "its server takes requests and answers none"));
        }
        borrowed.sample();
        borrowed.tired.store(false, Ordering::Relaxed);
        Ok(borrowed)
    }

    /// How long somebody waits here where nobody said otherwise.
    fn patience(&self) -> Patience {
        Patience { control: self.control.lock().expect("control lock").clone(), ..Patience::default() }
    }

    /// Remembers places by which it is known again.
    fn sample(&self) {
        let size = self.export.size;
        let places = [0, size / 2 / SAMPLE * SAMPLE, size.saturating_sub(SAMPLE) / SAMPLE * SAMPLE];
        let read = |at: u64| {
            let mut bytes = vec![0; SAMPLE.min(size - at) as usize];
            self.read_within(at, &mut bytes, &first()).ok().map(|()| (at, bytes))
        };
        let seen: Vec<_> = places.into_iter().filter_map(read).collect();
        *self.seen.lock().expect("sample lock") = seen;
    }

    /// The connection, made anew where it ended. One thread does that, and nobody waits for it longer than they have patience.
    fn link(&self, offset: u64, patience: &Patience) -> Result<Arc<Link>, ReadError> {
        let began = Instant::now();
        loop {
            let held = self.held();
            if held.broken().is_none() {
                return Ok(held);
            }
            if let Ok(_turn) = self.turn.try_lock()
                && Arc::ptr_eq(&held, &self.held())
            {
                let mut written = self.written.lock().expect("written lock");
                written.lost |= written.unkept;
                let writing = written.writing;
                drop(written);
                match self.reached(writing, || patience.check(offset, began.elapsed()))? {
                    Ok(link) => {
                        let link = Arc::new(link);
                        self.ended.fetch_add(1, Ordering::Relaxed);
                        *self.link.lock().expect("connection lock") = link.clone();
                        self.tired.store(false, Ordering::Relaxed);
                        return Ok(link);
                    }
                    // Another drive in its place does not become this one by waiting.
                    Err(why) if why.kind() == ANOTHER || self.tired.load(Ordering::Relaxed) || began.elapsed() >= AGAIN => {
                        self.tired.store(true, Ordering::Relaxed);
                        return Err(ReadError::Gone(why.to_string()));
                    }
                    Err(_) => {}
                }
            }
            patience.check(offset, began.elapsed())?;
            std::thread::sleep(PAUSE);
        }
    }

    /// The connection as it is now, ended or not.
    fn held(&self) -> Arc<Link> {
        self.link.lock().expect("connection lock").clone()
    }

    /// A new connection, to the same drive as before. A thread of its own tries it: whoever is called off leaves that behind.
    fn reached(&self, writing: bool, patience: impl Fn() -> Result<(), ReadError>) -> Result<io::Result<Link>, ReadError> {
        let again = Reach {
            uri: self.uri.clone(),
            trusted: self.trusted.clone(),
            export: self.export.clone(),
            seen: self.seen.lock().expect("sample lock").clone(),
            read: if writing { Vec::new() } else { self.read.lock().expect("sample lock").clone() },
            writing,
        };
        let (tell, told) = channel();
        let tries = move || _ = tell.send(again.link());
        if let Err(error) = std::thread::Builder::new().name("reconnects".into()).spawn(tries) {
            return Ok(Err(error));
        }
        loop {
            match told.recv_timeout(GLANCE) {
                Ok(reached) => return Ok(reached),
                Err(RecvTimeoutError::Timeout) => patience()?,
                Err(RecvTimeoutError::Disconnected) => return Ok(Err(io::Error::other("the attempt to reconnect broke off"))),
            }
        }
    }

    /// Keeps some of the places that are read, each with the same chance however many come.
    fn note_read(&self, offset: u64, bytes: &[u8]) {
        let first = offset.next_multiple_of(SAMPLE.max(u64::from(self.export.least)));
        let Some(inner) = (first - offset).try_into().ok().filter(|inner: &usize| inner + SAMPLE as usize <= bytes.len()) else { return };
        let number = self.reads.fetch_add(1, Ordering::Relaxed);
        // Reservoir sampling (J. S. Vitter, "Random Sampling with a Reservoir", 1985).
        let slot = if number < KEPT as u64 { number } else { badger_drive::random_below(number + 1) };
        if slot < KEPT as u64 {
            let noted = (first, blake3::hash(&bytes[inner..inner + SAMPLE as usize]));
            let mut read = self.read.lock().expect("sample lock");
            match read.get_mut(slot as usize) {
                Some(place) => *place = noted,
                None => read.push(noted),
            }
        }
    }

    /// Widens a stretch to what the server can be asked for.
    fn widened(&self, offset: u64, len: u64) -> Range<u64> {
        let least = u64::from(self.export.least);
        offset / least * least..(offset + len).next_multiple_of(least).min(self.export.size)
    }

    /// Bytes of the longest read in one request.
    fn most(&self) -> u64 {
        u64::from(self.export.most.min(MOST))
    }

    fn write(&self, request: (u16, u16), offset: u64, len: u32, payload: &[u8]) -> Result<(), WriteError> {
        let patience = self.patience();
        let failed = |why: String| WriteError::Failed { offset, len: u64::from(len), why };
        let gone = |error: ReadError| WriteError::Gone(error.to_string());
        // Not done a second time by itself: what a request whose answer is missing has done is not known.
        let link = self.link(offset, &patience).map_err(gone)?;
        match link.wait(link.ask(request, offset, len, payload, None), offset, &patience) {
            Waited::Answer(Answer { fault: None, .. }) => Ok(()),
            Waited::Answer(Answer { fault: Some(fault), .. }) => Err(match fault.number {
                errno::NOSPC => WriteError::Full(offset),
                errno::SHUTDOWN => WriteError::Gone(fault.why),
                _ => failed(fault.why),
            }),
            Waited::Broken => Err(WriteError::Gone(link.broken().unwrap_or_default())),
            Waited::Over(error) => Err(gone(error)),
        }
    }

    /// Notes that a stretch is about to change, and by what it may be known when it is durable.
    fn changes(&self, offset: u64, len: u64, bytes: &[u8]) {
        self.known.lock().expect("status lock").clear();
        let apart = |(at, held): &(u64, Vec<u8>)| at + held.len() as u64 <= offset || offset + len <= *at;
        self.seen.lock().expect("sample lock").retain(apart);
        let mut written = self.written.lock().expect("written lock");
        written.unkept = true;
        written.pending.retain(apart);
        let first = self.widened(offset, 0).start;
        if first == offset && bytes.len() as u64 >= SAMPLE {
            if written.pending.len() == SAMPLES {
                written.pending.remove(0);
            }
            written.pending.push((offset, bytes[..SAMPLE as usize].to_vec()));
        }
    }

    fn each(&self, offset: u64, len: u64, most: u64, mut what: impl FnMut(u64, u64) -> Result<(), WriteError>) -> Result<(), WriteError> {
        let size = self.export.size;
        if offset.checked_add(len).is_none_or(|end| end > size) {
            return Err(WriteError::PastEnd { offset, len, size });
        }
        let mut at = offset;
        while at < offset + len {
            let step = most.min(offset + len - at);
            what(at, step)?;
            at += step;
        }
        Ok(())
    }

    /// What the server says of a stretch without reading it, from its start on.
    fn asked(&self, offset: u64, max: u64) -> Option<Vec<(Range<u64>, Holds)>> {
        let asked = self.widened(offset, max.min(STATUS));
        let patience = self.patience();
        let link = self.link(offset, &patience).ok()?;
        let len = u32::try_from(asked.end - asked.start).ok()?;
        let cookie = link.ask((command::BLOCK_STATUS, 0), asked.start, len, &[], None);
        let Waited::Answer(Answer { stretches, fault: None, .. }) = link.wait(cookie, offset, &patience) else { return None };
        let of = |context: Option<u32>| {
            let mut at = asked.start;
            let mine = stretches.iter().filter(move |(id, ..)| Some(*id) == context);
            let ranges = mine.map(move |(_, len, flags)| {
                let start = at;
                at += u64::from(*len);
                (start..at.min(self.export.size), *flags)
            });
            ranges.filter(|(range, _)| !range.is_empty()).collect::<Vec<_>>()
        };
        let unknown: Vec<_> = of(self.export.known).into_iter().filter(|(_, flags)| flags & p::UNKNOWN != 0).map(|(range, _)| range).collect();
        let mut out = Vec::new();
        for (range, flags) in of(self.export.allocation) {
            let holds = if flags & p::ZERO != 0 { Holds::Zero } else { Holds::Bytes };
            let mut at = range.start;
            for lost in unknown.iter().filter(|lost| lost.start < range.end && lost.end > range.start) {
                let (from, to) = (lost.start.max(at), lost.end.min(range.end));
                out.extend((at < from).then_some((at..from, holds)));
                out.push((from..to, Holds::Unknown));
                at = to;
            }
            out.extend((at < range.end).then_some((at..range.end, holds)));
        }
        Some(out)
    }
}

/// What it takes to reach the same drive again.
struct Reach {
    uri: Uri,
    trusted: Option<PathBuf>,
    export: Export,
    seen: Vec<(u64, Vec<u8>)>,
    read: Vec<(u64, blake3::Hash)>,
    writing: bool,
}

impl Reach {
    /// Connects, and compares what the drive holds.
    fn link(&self) -> io::Result<Link> {
        let (wire, export) = export::open(&self.uri, self.trusted.as_deref())?;
        let other = |what: &str| io::Error::new(ANOTHER, format!("another drive is lent there now: {what}"));
        if export != self.export {
            return Err(other("it is described otherwise"));
        }
        let link = Link::new(wire, &export)?;
        if self.seen.is_empty() && self.writing {
            return Err(io::Error::other("whether it is the same drive cannot be told: nothing of it was durable"));
        }
        let patience = Patience { limit: AGAIN, control: None };
        let holds = |at: u64, len: usize, is_same: &dyn Fn(&[u8]) -> bool| match read_by(&link, at, len as u32, &patience) {
            (Some(buffer), Ok(())) if is_same(&buffer[..len]) => Ok(()),
            (_, Ok(())) => Err(other("it holds other bytes")),
            (_, Err(error)) => Err(io::Error::other(error.to_string())),
        };
        self.seen.iter().try_for_each(|(at, bytes)| holds(*at, bytes.len(), &|found| found == bytes))?;
        // Places that nobody could foretell: another drive that is equal where drives begin and end is another one.
        self.read.iter().try_for_each(|(at, hash)| holds(*at, SAMPLE as usize, &|found| blake3::hash(found) == *hash))?;
        Ok(link)
    }
}

/// Asks for aligned bytes once. What is before the error is in the buffer.
fn read_by(link: &Link, offset: u64, len: u32, patience: &Patience) -> (Option<Buffer>, Result<(), ReadError>) {
    let cookie = link.ask((command::READ, 0), offset, len, &[], Some(Buffer::new(len as usize)));
    came(link.wait(cookie, offset, patience), offset, len)
}

/// What of a read is in the buffer, and how it ended.
fn came(waited: Waited, offset: u64, len: u32) -> (Option<Buffer>, Result<(), ReadError>) {
    match waited {
        Waited::Answer(Answer { buffer, fault: None, .. }) => (buffer, Ok(())),
        Waited::Answer(Answer { fault: Some(fault), .. }) if fault.number == errno::SHUTDOWN => (None, Err(ReadError::Gone(fault.why))),
        Waited::Answer(Answer { buffer, good, fault: Some(fault), .. }) => {
            let end = offset + u64::from(len);
            // No further than bytes came.
            let at = fault.at.filter(|at| (offset..end).contains(at)).unwrap_or(offset).min(offset + good);
            (buffer, Err(ReadError::Unreadable { offset: at, len: end - at, why: fault.why }))
        }
        Waited::Broken => (None, Err(ReadError::Gone("the connection ended".into()))),
        Waited::Over(error) => (None, Err(error)),
    }
}

impl Medium for Borrowed {
    fn geometry(&self) -> Geometry {
        self.geometry
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn remark(&self) -> Option<String> {
        self.remark.clone()
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read_within(offset, buf, &Patience::default())
    }
    fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> Result<(), ReadError> {
        let len = buf.len() as u64;
        inside(offset, buf.len(), self.export.size)?;
        let (mut done, mut drops) = (0u64, 0);
        while done < len {
            let at = offset + done;
            let asked = self.widened(at, (len - done).min(self.most()));
            let asked = asked.start..asked.end.min(asked.start + self.most());
            let link = self.link(at, patience)?;
            let (buffer, ended) = read_by(&link, asked.start, (asked.end - asked.start) as u32, patience);
            let (skip, count) = ((at - asked.start) as usize, (asked.end.min(offset + len) - at) as usize);
            if let Some(buffer) = buffer {
                buf[done as usize..done as usize + count].copy_from_slice(&buffer[skip..skip + count]);
                if ended.is_ok() {
                    self.note_read(at, &buf[done as usize..done as usize + count]);
                }
            }
            match ended {
                Ok(()) => (done, drops) = (done + count as u64, 0),
                Err(ReadError::Unreadable { offset: bad, why, .. }) => {
                    let bad = bad.clamp(at, offset + len - 1);
                    return Err(ReadError::Unreadable { offset: bad, len: offset + len - bad, why });
                }
                // The connection ended, and with it the answer: it is asked for once more, by a new one.
                Err(ReadError::Gone(_)) if link.broken().is_some() && drops + 1 < DROPS => drops += 1,
                Err(ReadError::Gone(_)) if link.broken().is_some() => {
                    let why = "the connection ends each time this is read".to_string();
                    return Err(ReadError::Unreadable { offset: at, len: offset + len - at, why });
                }
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }
    fn flight(&self, depth: u32, patience: &Patience) -> Option<Box<dyn Flight + '_>> {
        Some(Box::new(InFlight { drive: self, depth: depth.max(DEEP) as usize, patience: patience.clone(), order: VecDeque::new() }))
    }
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        let max = max.min(self.export.size.saturating_sub(offset));
        if self.export.allocation.is_none() || max == 0 {
            return Stretch { len: max, holds: Holds::Bytes };
        }
        let mut known = self.known.lock().expect("status lock");
        if !known.iter().any(|(range, _)| range.contains(&offset)) {
            // What cannot be told is read.
            let Some(all) = self.asked(offset, max) else { return Stretch { len: max.min(SAMPLE), holds: Holds::Bytes } };
            *known = all;
        }
        let parts = known.iter().filter(|(range, _)| range.end > offset);
        let parts = parts.map(|(range, holds)| (range.end - range.start.max(offset), *holds));
        let told = Stretch::joined(parts.map(|(len, holds)| (len, Stretch { len, holds })));
        if told.len == 0 { Stretch { len: max.min(SAMPLE), holds: Holds::Bytes } } else { Stretch { len: told.len.min(max), ..told } }
    }
    fn present(&self) -> bool {
        self.held().broken().is_none() || !self.tired.load(Ordering::Relaxed)
    }
    fn obey(&self, control: &Control) {
        *self.control.lock().expect("control lock") = Some(control.clone());
    }
    fn standing(&self) -> Standing {
        // Another drive may have been lent under the same name while nobody was connected.
        let ended = self.ended.load(Ordering::Relaxed);
        Standing { sequence: (ended > 0).then_some(ended), ..Standing::default() }
    }
    fn veil(&self) -> Option<String> {
        Some(VEIL.into())
    }
    fn peer(&self) -> Option<OwnedFd> {
        self.held().descriptor()
    }
}

impl WriteMedium for Borrowed {
    fn write_at(&self, offset: u64, buf: &[u8]) -> Result<(), WriteError> {
        self.each(offset, buf.len() as u64, self.most(), |at, step| {
            let bytes = &buf[(at - offset) as usize..(at - offset + step) as usize];
            self.changes(at, step, bytes);
            self.write((command::WRITE, 0), at, step as u32, bytes)
        })
    }
    fn write_zero(&self, offset: u64, len: u64) -> Result<(), WriteError> {
        let zeroes = if self.export.flags & flag::WRITE_ZEROES == 0 { vec![0; self.most().min(len) as usize] } else { Vec::new() };
        let most = if zeroes.is_empty() { EMPTY } else { self.most() };
        self.each(offset, len, most, |at, step| {
            self.changes(at, step, &[]);
            match zeroes.get(..step as usize).filter(|zeroes| !zeroes.is_empty()) {
                Some(zeroes) => self.write((command::WRITE, 0), at, step as u32, zeroes),
                None => self.write((command::WRITE_ZEROES, 0), at, step as u32, &[]),
            }
        })
    }
    fn discard(&self, offset: u64, len: u64) -> Result<bool, WriteError> {
        if self.export.flags & flag::TRIM == 0 {
            return Ok(false);
        }
        self.each(offset, len, EMPTY, |at, step| {
            self.changes(at, step, &[]);
            self.write((command::TRIM, 0), at, step as u32, &[])
        })?;
        Ok(true)
    }
    fn flush(&self) -> Result<(), WriteError> {
        let done = self.write((command::FLUSH, 0), 0, 0, &[]);
        let mut written = self.written.lock().expect("written lock");
        // A failed flush is never believed again.
        written.lost |= done.is_err() && written.unkept;
        done?;
        if written.lost {
            return Err(WriteError::Gone("the connection ended before what was written was durable".into()));
        }
        written.unkept = false;
        let mut seen = self.seen.lock().expect("sample lock");
        seen.append(&mut written.pending);
        let more = seen.len().saturating_sub(SAMPLES);
        seen.drain(..more);
        Ok(())
    }
    fn forget(&self, _offset: u64, _len: u64) {}
}

/// Reads on their way at the least: the way there and back takes time.
const DEEP: u32 = 4;

/// Reads in flight over one connection.
struct InFlight<'a> {
    drive: &'a Borrowed,
    depth: usize,
    patience: Patience,
    order: VecDeque<Flying>,
}

/// A read on its way.
struct Flying {
    offset: u64,
    len: usize,
    /// The connection and the cookie; where there is none, it is read when it is waited for, into the buffer that is here then.
    by: Result<(Arc<Link>, u64), Buffer>,
    /// Bytes of the buffer that was given.
    whole: usize,
}

impl Flight for InFlight<'_> {
    fn has_room(&self) -> bool {
        self.order.len() < self.depth
    }
    fn begin(&mut self, offset: u64, len: usize, buffer: Buffer) {
        let whole = buffer.len();
        let fits = self.drive.widened(offset, len as u64) == (offset..offset + len as u64) && len as u64 <= u64::from(self.drive.export.most);
        let link = fits.then(|| self.drive.held()).filter(|link| link.broken().is_none());
        let by = match link {
            Some(link) => {
                let cookie = link.ask((command::READ, 0), offset, len as u32, &[], Some(buffer));
                Ok((link, cookie))
            }
            None => Err(buffer),
        };
        self.order.push_back(Flying { offset, len, by, whole });
    }
    fn land(&mut self) -> Option<Landed> {
        let Flying { offset, len, by, whole } = self.order.pop_front()?;
        let (buffer, outcome) = match by {
            Ok((link, cookie)) => match came(link.wait(cookie, offset, &self.patience), offset, len as u32) {
                (buffer, Err(ReadError::Gone(_))) if link.broken().is_some() => (buffer, None),
                (buffer, ended) => (buffer, Some(ended)),
            },
            Err(buffer) => (Some(buffer), None),
        };
        if let (Some(buffer), Some(Ok(()))) = (&buffer, &outcome) {
            self.drive.note_read(offset, &buffer[..len]);
        }
        let mut buffer = buffer.unwrap_or_else(|| Buffer::new(whole));
        let outcome = outcome.unwrap_or_else(|| self.drive.read_within(offset, &mut buffer[..len], &self.patience));
        Some(Landed { offset, len, buffer, outcome })
    }
}
