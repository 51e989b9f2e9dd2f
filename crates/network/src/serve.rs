//! Requests of one borrower, answered: one thread takes them in, a few carry them out, each answer goes out whole.

use crate::protocol::{self as p, Request, chunk, command, errno, flag, how};
use crate::wire::{Receiver, Sender, Socket, Wire};
use badger_drive::buffer::{ALIGN, Buffer};
use badger_drive::{Bus, Control, Holds, ReadError, Source, Target, WriteError};
use std::io::{self, BufReader, Read, Write};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver as Taker, SyncSender, sync_channel};
use std::sync::{Condvar, Mutex};

/// Threads that carry out the requests of one borrower.
const HANDS: usize = 4;
/// Requests that wait for them.
const WAITING: usize = 64;
/// Bytes that the requests of one borrower may hold at a time.
const BUDGET: u64 = 64 << 20;
/// Stretches of one answer.
const STRETCHES: usize = 4096;
/// Numbers of the kinds of status in answers.
pub const ALLOCATION_ID: u32 = 1;
/// The same of our own.
pub const KNOWN_ID: u32 = 2;

/// A drive that is lent.
pub struct Lent {
    /// Its name there.
    pub name: String,
    /// The drive.
    pub source: Source,
    /// The same, where it was released to be written to.
    pub target: Option<Target>,
    /// Whose connection writes to it; 0 for nobody's.
    pub(crate) writer: AtomicU64,
    /// Bytes that were read from it, and written to it.
    pub read: AtomicU64,
    /// See `read`.
    pub written: AtomicU64,
    /// A flush of it failed: none is believed any more.
    pub(crate) doubtful: AtomicBool,
}

impl Lent {
    /// A drive that is only read.
    pub fn new(name: String, source: Source) -> Self {
        let zero = || AtomicU64::new(0);
        Self { name, source, target: None, writer: zero(), read: zero(), written: zero(), doubtful: AtomicBool::new(false) }
    }

    /// A drive that was released to be written to.
    pub fn released(name: String, target: Target) -> Self {
        Self { target: Some(target.clone()), ..Self::new(name, target.as_source()) }
    }

    /// See [`flag`].
    pub(crate) fn flags(&self) -> u16 {
        let turning = if self.source.identity().rotational == Some(true) { flag::ROTATIONAL } else { 0 };
        let may = match self.target {
            Some(_) => flag::FLUSH | flag::FUA | flag::TRIM | flag::WRITE_ZEROES,
            None => flag::READ_ONLY | flag::MULTI_CONN,
        };
        flag::HAS_FLAGS | flag::DF | turning | may
    }
}

/// All drives that are lent.
pub struct Shelf(pub Vec<Lent>);

impl Shelf {
    /// By its name; the empty one is the first.
    pub(crate) fn find(&self, name: &str) -> Option<&Lent> {
        if name.is_empty() { self.0.first() } else { self.0.iter().find(|lent| lent.name == name) }
    }
}

/// What was agreed on with a borrower.
#[derive(Clone, Copy, Default)]
pub struct Agreed {
    /// Replies come in chunks.
    pub structured: bool,
    /// Holes and zeroes are told.
    pub allocation: bool,
    /// What nobody knows is told.
    pub known: bool,
}

/// Bytes that requests hold.
struct Budget {
    free: Mutex<u64>,
    more: Condvar,
}

impl Budget {
    fn take(&self, bytes: u64) {
        let mut free = self.free.lock().expect("budget lock");
        while *free < bytes {
            free = self.more.wait(free).expect("budget lock");
        }
        *free -= bytes;
    }
    fn give(&self, bytes: u64) {
        *self.free.lock().expect("budget lock") += bytes;
        self.more.notify_all();
    }
}

struct Work {
    request: Request,
    payload: Vec<u8>,
    budget: u64,
}

struct Serving<'a> {
    lent: &'a Lent,
    agreed: Agreed,
    /// The connection's number, 1 and up.
    number: u64,
    out: Mutex<Sender>,
    socket: Socket,
    budget: Budget,
    control: &'a Control,
}

/// Answers until the borrower leaves, or all lending ends.
///
/// # Errors
/// Why the connection broke.
pub fn serve(wire: Wire, lent: &Lent, agreed: Agreed, number: u64, control: &Control) -> io::Result<()> {
    let socket = wire.socket()?;
    let budget = Budget { free: Mutex::new(BUDGET), more: Condvar::new() };
    let serving = Serving { lent, agreed, number, out: Mutex::new(wire.sender), socket, budget, control };
    let (give, take) = sync_channel::<Work>(WAITING);
    let take = Mutex::new(take);
    let ended = std::thread::scope(|scope| {
        for _ in 0..HANDS {
            scope.spawn(|| serving.hand(&take));
        }
        serving.take_in(BufReader::with_capacity(64 << 10, wire.receiver), &give).inspect_err(|_| serving.socket.end()).map(|()| drop(give))
    });
    let _ = lent.writer.compare_exchange(number, 0, Ordering::AcqRel, Ordering::Relaxed);
    serving.socket.end();
    ended
}

/// What an answer says.
enum Said {
    /// Nothing but that it is done.
    Done,
    /// Why it is not.
    No(u32, String),
}

impl Serving<'_> {
    fn take_in(&self, mut receiver: BufReader<Receiver>, give: &SyncSender<Work>) -> io::Result<()> {
        loop {
            let mut head = [0; Request::LEN];
            receiver.read_exact(&mut head)?;
            let request = Request::of(&head).ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "a request that begins otherwise"))?;
            if request.command == command::DISCONNECT {
                return Ok(());
            }
            let brings = if request.command == command::WRITE { request.len } else { 0 };
            if brings > p::LONGEST {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "a write longer than was agreed"));
            }
            let held = if request.command == command::READ { request.len.min(p::LONGEST) } else { brings };
            self.budget.take(u64::from(held));
            let mut payload = vec![0; brings as usize];
            receiver.read_exact(&mut payload)?;
            if give.send(Work { request, payload, budget: u64::from(held) }).is_err() {
                return Ok(());
            }
        }
    }

    fn hand(&self, take: &Mutex<Taker<Work>>) {
        // One for all that this hand reads: the system gives new memory page by page.
        let mut buffer = Buffer::new(0);
        loop {
            let next = take.lock().expect("queue lock").recv();
            let Ok(Work { request, payload, budget }) = next else { return };
            let sent = self.carry_out(&request, &payload, &mut buffer);
            self.budget.give(budget);
            if sent.is_err() {
                // Whoever takes requests in hears of it there.
                self.socket.end();
            }
        }
    }

    fn carry_out(&self, request: &Request, payload: &[u8], buffer: &mut Buffer) -> io::Result<()> {
        let size = self.lent.source.geometry().size_bytes;
        let Request { command, offset, len, .. } = *request;
        let inside = offset.checked_add(u64::from(len)).is_some_and(|end| end <= size);
        if self.control.is_stopped() {
            return self.say(request, Said::No(errno::SHUTDOWN, String::new()));
        }
        match command {
            command::READ | command::BLOCK_STATUS | command::TRIM | command::WRITE_ZEROES | command::WRITE if !inside => {
                let number = if command == command::WRITE { errno::NOSPC } else { errno::INVAL };
                self.say(request, Said::No(number, "it reaches past the end of the drive".into()))
            }
            command::READ if len > p::LONGEST || len == 0 => self.say(request, Said::No(errno::INVAL, "a read of no bytes, or of too many".into())),
            command::READ => self.read(request, buffer),
            command::BLOCK_STATUS if len == 0 || !self.agreed.allocation && !self.agreed.known => {
                self.say(request, Said::No(errno::INVAL, "no kind of status was agreed on".into()))
            }
            command::BLOCK_STATUS => self.status(request),
            command::WRITE | command::WRITE_ZEROES | command::TRIM | command::FLUSH => {
                let said = self.change(request, payload);
                self.say(request, said)
            }
            _ => self.say(request, Said::No(errno::INVAL, "no such command".into())),
        }
    }

    /// An answer without bytes of the drive.
    fn say(&self, request: &Request, said: Said) -> io::Result<()> {
        let mut out = Vec::new();
        match (self.agreed.structured, said) {
            (false, said) => {
                let number = if let Said::No(number, _) = said { number } else { 0 };
                out.extend(p::SIMPLE.to_be_bytes());
                out.extend(number.to_be_bytes());
                out.extend(request.cookie.to_be_bytes());
            }
            (true, Said::Done) => head(&mut out, chunk::DONE, chunk::NONE, request.cookie, 0),
            (true, Said::No(number, why)) => {
                head(&mut out, chunk::DONE, chunk::FAILED, request.cookie, 6 + why.len());
                out.extend(number.to_be_bytes());
                out.extend((why.len() as u16).to_be_bytes());
                out.extend(why.as_bytes());
            }
        }
        self.out.lock().expect("sender lock").write_all(&out)
    }

    fn read(&self, request: &Request, buffer: &mut Buffer) -> io::Result<()> {
        let Request { offset, cookie, .. } = *request;
        let len = request.len as usize;
        // Files are read through the system's memory, which others read them through too; drives past it, so that they answer
        // for themselves. Direct reads need bytes that begin at a multiple of the page.
        let at = if matches!(self.lent.source.identity().bus, Bus::File | Bus::Image) { ALIGN + 64 } else { ALIGN };
        if buffer.len() < at + len {
            *buffer = Buffer::new(at + len);
        }
        let ended = self.lent.source.read_within(offset, &mut buffer[at..at + len], &self.lent.source.patience());
        self.lent.read.fetch_add(len as u64, Ordering::Relaxed);
        let fault = match ended {
            Ok(()) => None,
            Err(ReadError::Unreadable { offset: bad, why, .. }) => Some((bad.clamp(offset, offset + len as u64 - 1), why)),
            Err(error) => Some((offset, error.to_string())),
        };
        let good = fault.as_ref().map_or(len, |(bad, _)| (bad - offset) as usize);
        let mut before = Vec::with_capacity(64);
        if !self.agreed.structured {
            before.extend(p::SIMPLE.to_be_bytes());
            before.extend(if fault.is_some() { errno::IO } else { 0 }.to_be_bytes());
            before.extend(cookie.to_be_bytes());
            return self.send(buffer, at, &before, if fault.is_some() { 0 } else { len }, &[]);
        }
        if good > 0 {
            head(&mut before, if fault.is_none() { chunk::DONE } else { 0 }, chunk::DATA, cookie, 8 + good);
            before.extend(offset.to_be_bytes());
        }
        let mut behind = Vec::new();
        if let Some((bad, why)) = fault {
            let why = &why[..why.floor_char_boundary(p::TEXT)];
            head(&mut behind, chunk::DONE, chunk::FAILED_AT, cookie, 6 + why.len() + 8);
            behind.extend(errno::IO.to_be_bytes());
            behind.extend((why.len() as u16).to_be_bytes());
            behind.extend(why.as_bytes());
            behind.extend(bad.to_be_bytes());
        }
        self.send(buffer, at, &before, good, &behind)
    }

    /// What stands before the bytes goes right in front of them, so that all is sent in one go.
    fn send(&self, buffer: &mut Buffer, at: usize, before: &[u8], len: usize, behind: &[u8]) -> io::Result<()> {
        let start = at - before.len();
        buffer[start..at].copy_from_slice(before);
        let mut out = self.out.lock().expect("sender lock");
        out.write_all(&buffer[start..at + len])?;
        out.write_all(behind)
    }

    fn status(&self, request: &Request) -> io::Result<()> {
        let end = request.offset + u64::from(request.len);
        let most = if request.flags & how::REQ_ONE == 0 { STRETCHES } else { 1 };
        // Joined for each kind of status by itself: bytes that are not known are no hole.
        let mut all: [Vec<(u32, u32)>; 2] = Default::default();
        let mut at = request.offset;
        while at < end && all.iter().all(|list| list.len() <= most) {
            let known = self.lent.source.stretch(at, end - at);
            let len = if known.len == 0 { end - at } else { known.len.min(end - at) } as u32;
            let hole = if known.holds == Holds::Zero { p::HOLE | p::ZERO } else { 0 };
            let unknown = if known.holds == Holds::Unknown { p::UNKNOWN } else { 0 };
            for (list, flags) in all.iter_mut().zip([hole, unknown]) {
                match list.last_mut() {
                    Some((held, before)) if *before == flags => *held += len,
                    _ => list.push((len, flags)),
                }
            }
            at += u64::from(len);
        }
        let wanted: Vec<_> =
            [(self.agreed.allocation, ALLOCATION_ID), (self.agreed.known, KNOWN_ID)].into_iter().zip(all).filter(|((on, _), _)| *on).collect();
        let mut out = Vec::new();
        for (turn, ((_, id), list)) in wanted.iter().enumerate() {
            let list = &list[..list.len().min(most)];
            let done = if turn + 1 == wanted.len() { chunk::DONE } else { 0 };
            head(&mut out, done, chunk::BLOCK_STATUS, request.cookie, 4 + 8 * list.len());
            out.extend(id.to_be_bytes());
            for (len, flags) in list {
                out.extend(len.to_be_bytes());
                out.extend(flags.to_be_bytes());
            }
        }
        self.out.lock().expect("sender lock").write_all(&out)
    }

    /// What writes. Only one borrower at a time does.
    fn change(&self, request: &Request, payload: &[u8]) -> Said {
        let Some(target) = &self.lent.target else { return Said::No(errno::PERM, "it is lent to be read only".into()) };
        if request.command != command::FLUSH
            && let Err(other) = self.lent.writer.compare_exchange(0, self.number, Ordering::AcqRel, Ordering::Acquire)
            && other != self.number
        {
            return Said::No(errno::PERM, "somebody else writes to it right now".into());
        }
        let (offset, len) = (request.offset, u64::from(request.len));
        let no = |error: WriteError| {
            let number = if matches!(error, WriteError::Full(_)) { errno::NOSPC } else { errno::IO };
            Said::No(number, error.to_string())
        };
        let done = match request.command {
            command::WRITE => target.write_at(offset, payload),
            command::WRITE_ZEROES => target.write_zero(offset, len),
            command::TRIM => target.discard(offset, len).map(|_| ()),
            _ => Ok(()),
        };
        if let Err(error) = done {
            return no(error);
        }
        self.lent.written.fetch_add(payload.len() as u64, Ordering::Relaxed);
        if request.command != command::FLUSH && request.flags & how::FUA == 0 {
            return Said::Done;
        }
        if self.lent.doubtful.load(Ordering::Acquire) {
            return Said::No(errno::IO, "an earlier flush failed: what it was for may be lost".into());
        }
        match target.flush() {
            Ok(()) => {
                // What is read back comes from the drive, not from memory.
                target.forget(0, target.geometry().size_bytes);
                Said::Done
            }
            Err(error) => {
                self.lent.doubtful.store(true, Ordering::Release);
                no(error)
            }
        }
    }
}

fn head(out: &mut Vec<u8>, flags: u16, kind: u16, cookie: u64, len: usize) {
    out.extend(p::CHUNK.to_be_bytes());
    out.extend(flags.to_be_bytes());
    out.extend(kind.to_be_bytes());
    out.extend(cookie.to_be_bytes());
    out.extend((len as u32).to_be_bytes());
}
