//! One connection with many requests on their way: whoever asks waits for its own answer, one thread takes them in as they come.

use crate::export::Export;
use crate::protocol::{self as p, Request, chunk, command, errno, take_u16, take_u32, take_u64};
use crate::wire::{Receiver, Sender, Socket, Wire};
use badger_drive::buffer::Buffer;
use badger_drive::{Extents, Patience, ReadError};
use std::collections::HashMap;
use std::io::{self, Read, Write};
use std::os::fd::OwnedFd;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard};
use std::time::{Duration, Instant};

/// How often a wait looks whether it was called off.
const GLANCE: Duration = Duration::from_millis(50);
/// Chunks of one answer; more of them are no answer but an attack.
const MOST_CHUNKS: u32 = 1 << 17;
/// Stretches of one kind that are taken from an answer; what comes behind them is asked for later.
const MOST_STRETCHES: usize = 4096;

/// Why a server did not do it.
#[derive(Clone, Debug)]
pub struct Fault {
    /// See [`errno`].
    pub number: u32,
    /// The first byte of the drive that it could not be done for, where the server says so.
    pub at: Option<u64>,
    /// In words.
    pub why: String,
}

/// What came of a request.
pub struct Answer {
    /// The buffer that was given along.
    pub buffer: Option<Buffer>,
    /// Bytes from the start of the request that are in it.
    pub good: u64,
    /// Kind of status, length in bytes, flags.
    pub stretches: Vec<(u32, u32, u32)>,
    /// Why it was not done.
    pub fault: Option<Fault>,
}

/// How waiting ended.
pub enum Waited {
    /// With an answer.
    Answer(Answer),
    /// The connection ended before.
    Broken,
    /// Nobody waits any more.
    Over(ReadError),
}

/// A request on its way.
struct Asked {
    command: u16,
    offset: u64,
    len: u32,
    buffer: Option<Buffer>,
    /// Which bytes came.
    came: Extents<()>,
    stretches: Vec<(u32, u32, u32)>,
    fault: Option<Fault>,
    chunks: u32,
    done: bool,
    /// Nobody waits for it any more.
    left: bool,
}

#[derive(Default)]
struct State {
    asked: HashMap<u64, Asked>,
    broken: Option<String>,
}

#[derive(Default)]
struct Shared {
    state: Mutex<State>,
    changed: Condvar,
}

impl Shared {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().expect("link lock")
    }
}

/// A connection to a server, ready for requests.
pub struct Link {
    sender: Mutex<Sender>,
    socket: Socket,
    shared: Arc<Shared>,
    cookies: AtomicU64,
}

impl Link {
    /// Takes over a connection on which everything is agreed.
    ///
    /// # Errors
    /// What the system says.
    pub fn new(wire: Wire, export: &Export) -> io::Result<Self> {
        let socket = wire.socket()?;
        socket.wait(None, None)?;
        let shared = Arc::new(Shared::default());
        let receiving =
            Receiving { receiver: io::BufReader::with_capacity(4096, wire.receiver), shared: shared.clone(), structured: export.structured };
        std::thread::Builder::new().name("borrowed".into()).spawn(move || receiving.all())?;
        Ok(Self { sender: Mutex::new(wire.sender), socket, shared, cookies: AtomicU64::new(1) })
    }

    /// A second handle on its socket, to ask the system who is at the other end.
    pub fn descriptor(&self) -> Option<OwnedFd> {
        match self.socket.again().ok()? {
            Socket::Tcp(stream) => Some(stream.into()),
            Socket::Unix(stream) => Some(stream.into()),
        }
    }

    /// Why the connection ended; `None` while it lasts.
    pub fn broken(&self) -> Option<String> {
        self.shared.state().broken.clone()
    }

    /// Sends a request: bytes for it behind it, a buffer for what comes back. The cookie to wait with; where the connection is at
    /// its end, waiting says so.
    pub fn ask(&self, (command, flags): (u16, u16), offset: u64, len: u32, payload: &[u8], buffer: Option<Buffer>) -> u64 {
        let cookie = self.cookies.fetch_add(1, Ordering::Relaxed);
        let asked =
            Asked { command, offset, len, buffer, came: Extents::default(), stretches: Vec::new(), fault: None, chunks: 0, done: false, left: false };
        self.shared.state().asked.insert(cookie, asked);
        let request = Request { flags, command, cookie, offset, len }.bytes();
        let mut sender = self.sender.lock().expect("sender lock");
        if let Err(error) = sender.write_all(&request).and_then(|()| sender.write_all(payload)) {
            self.break_off(&error.to_string());
        }
        cookie
    }

    fn break_off(&self, why: &str) {
        self.shared.state().broken.get_or_insert_with(|| why.to_string());
        self.socket.end();
        self.shared.changed.notify_all();
    }

    /// Waits for the answer to a request at `offset`.
    pub fn wait(&self, cookie: u64, offset: u64, patience: &Patience) -> Waited {
        let began = Instant::now();
        let mut state = self.shared.state();
        loop {
            if state.asked.get(&cookie).is_some_and(|asked| asked.done) {
                let Asked { buffer, came, stretches, fault, .. } = state.asked.remove(&cookie).expect("it was just seen");
                let good = came.iter().next().filter(|(range, ())| range.start == 0).map_or(0, |(range, ())| range.end);
                return Waited::Answer(Answer { buffer, good, stretches, fault });
            }
            if state.broken.is_some() {
                state.asked.remove(&cookie);
                return Waited::Broken;
            }
            if let Err(over) = patience.check(offset, began.elapsed()) {
                // Its answer may come yet, and must be known then.
                if let Some(asked) = state.asked.get_mut(&cookie) {
                    asked.left = true;
                }
                return Waited::Over(over);
            }
            state = self.shared.changed.wait_timeout(state, GLANCE).expect("link lock").0;
        }
    }
}

impl Drop for Link {
    fn drop(&mut self) {
        if let Ok(mut sender) = self.sender.lock() {
            let _ = self.socket.wait(None, Some(GLANCE));
            let _ = sender.write_all(&Request { flags: 0, command: command::DISCONNECT, cookie: 0, offset: 0, len: 0 }.bytes());
        }
        self.socket.end();
    }
}

/// The thread that takes answers in.
struct Receiving {
    receiver: io::BufReader<Receiver>,
    shared: Arc<Shared>,
    structured: bool,
}

fn garbled(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("{what} that nobody could understand"))
}

impl Receiving {
    fn all(mut self) {
        let why = loop {
            if let Err(error) = self.one() {
                break error.to_string();
            }
        };
        self.shared.state().broken.get_or_insert(why);
        self.shared.changed.notify_all();
    }

    fn one(&mut self) -> io::Result<()> {
        match u32::from_be_bytes(self.get()?) {
            p::SIMPLE => self.simple(),
            p::CHUNK if self.structured => self.chunk(),
            _ => Err(garbled("an answer")),
        }
    }

    fn get<const N: usize>(&mut self) -> io::Result<[u8; N]> {
        let mut bytes = [0; N];
        self.receiver.read_exact(&mut bytes)?;
        Ok(bytes)
    }

    fn simple(&mut self) -> io::Result<()> {
        let head: [u8; 12] = self.get()?;
        let mut rest = &head[..];
        let (number, cookie) = (take_u32(&mut rest).unwrap_or(0), take_u64(&mut rest).unwrap_or(0));
        let read = self.with(cookie, |asked| (asked.command == command::READ).then_some((asked.offset, asked.len)))?;
        if number != 0 {
            return self.end(cookie, Some(Fault { number, at: None, why: said(number, "") }));
        }
        if let Some((offset, len)) = read {
            if self.structured {
                return Err(garbled("bytes without a chunk"));
            }
            self.fill(cookie, offset, len)?;
        }
        self.end(cookie, None)
    }

    fn chunk(&mut self) -> io::Result<()> {
        let head: [u8; 16] = self.get()?;
        let mut rest = &head[..];
        let (flags, kind) = (take_u16(&mut rest).unwrap_or(0), take_u16(&mut rest).unwrap_or(0));
        let (cookie, len) = (take_u64(&mut rest).unwrap_or(0), take_u32(&mut rest).unwrap_or(0));
        let chunks = self.with(cookie, |asked| {
            asked.chunks += 1;
            asked.chunks
        })?;
        if chunks > MOST_CHUNKS {
            return Err(garbled("an answer in more pieces"));
        }
        let mut fault = None;
        match kind {
            chunk::NONE if len == 0 => {}
            chunk::DATA if len > 8 => {
                let offset = u64::from_be_bytes(self.get()?);
                self.fill(cookie, offset, len - 8)?;
            }
            chunk::HOLE if len == 12 => {
                let (offset, len) = (u64::from_be_bytes(self.get()?), u32::from_be_bytes(self.get()?));
                self.hole(cookie, offset, len)?;
            }
            chunk::BLOCK_STATUS if len >= 12 && (len - 4) % 8 == 0 => self.status(cookie, len)?,
            kind if kind & chunk::ERROR != 0 && (6..=6 + 8 + p::TEXT as u32).contains(&len) => {
                let mut data = vec![0; len as usize];
                self.receiver.read_exact(&mut data)?;
                fault = Some(told(kind, &data).ok_or_else(|| garbled("an error"))?);
            }
            _ => return Err(garbled("a chunk")),
        }
        if let Some(fault) = fault {
            self.with(cookie, |asked| _ = asked.fault.get_or_insert(fault))?;
        }
        if flags & chunk::DONE != 0 { self.end(cookie, None) } else { Ok(()) }
    }

    /// Of a request that is on its way.
    fn with<T>(&self, cookie: u64, what: impl FnOnce(&mut Asked) -> T) -> io::Result<T> {
        let mut state = self.shared.state();
        let asked = state.asked.get_mut(&cookie).filter(|asked| !asked.done).ok_or_else(|| garbled("an answer to nothing"))?;
        Ok(what(asked))
    }

    /// The place in the buffer of bytes of a read; nothing outside it, and nothing twice.
    fn place(&self, cookie: u64, offset: u64, len: u32) -> io::Result<(u64, Option<Buffer>)> {
        self.with(cookie, |asked| {
            let from = offset.checked_sub(asked.offset)?;
            let to = from.checked_add(u64::from(len)).filter(|to| *to <= u64::from(asked.len) && asked.command == command::READ)?;
            if asked.came.within(from..to).next().is_some() {
                return None;
            }
            asked.came.set(from..to, ());
            Some((from, asked.buffer.take()))
        })?
        .ok_or_else(|| garbled("bytes nobody asked for"))
    }

    /// The buffer is filled without the lock: others ask and wait meanwhile.
    fn fill(&mut self, cookie: u64, offset: u64, len: u32) -> io::Result<()> {
        let (at, buffer) = self.place(cookie, offset, len)?;
        let mut buffer = buffer.ok_or_else(|| garbled("bytes"))?;
        self.receiver.read_exact(&mut buffer[at as usize..at as usize + len as usize])?;
        self.with(cookie, |asked| asked.buffer = Some(buffer))
    }

    fn hole(&self, cookie: u64, offset: u64, len: u32) -> io::Result<()> {
        let (at, buffer) = self.place(cookie, offset, len)?;
        let mut buffer = buffer.ok_or_else(|| garbled("zeroes"))?;
        buffer[at as usize..at as usize + len as usize].fill(0);
        self.with(cookie, |asked| asked.buffer = Some(buffer))
    }

    fn status(&mut self, cookie: u64, len: u32) -> io::Result<()> {
        let context = u32::from_be_bytes(self.get()?);
        let mut held = self.with(cookie, |asked| asked.stretches.iter().filter(|(id, ..)| *id == context).count())?;
        for _ in 0..(len - 4) / 8 {
            let (len, flags) = (u32::from_be_bytes(self.get()?), u32::from_be_bytes(self.get()?));
            let fits = self.with(cookie, |asked| {
                if held < MOST_STRETCHES {
                    asked.stretches.push((context, len, flags));
                    held += 1;
                }
                asked.command == command::BLOCK_STATUS && len > 0
            })?;
            if !fits {
                return Err(garbled("a status"));
            }
        }
        Ok(())
    }

    fn end(&self, cookie: u64, fault: Option<Fault>) -> io::Result<()> {
        let mut state = self.shared.state();
        let asked = state.asked.get_mut(&cookie).ok_or_else(|| garbled("an end"))?;
        asked.done = true;
        asked.fault = asked.fault.take().or(fault);
        let whole = asked.came.iter().map(|(range, ())| range.end - range.start).sum::<u64>() == u64::from(asked.len);
        if asked.command == command::READ && asked.fault.is_none() && !whole {
            asked.fault = Some(Fault { number: errno::IO, at: None, why: "the server gave less than it was asked for".into() });
        }
        if asked.left {
            state.asked.remove(&cookie);
        }
        drop(state);
        self.shared.changed.notify_all();
        Ok(())
    }
}

/// An error as the server tells it.
fn told(kind: u16, data: &[u8]) -> Option<Fault> {
    let mut rest = data;
    let (number, len) = (take_u32(&mut rest)?, take_u16(&mut rest)? as usize);
    let (text, mut rest) = rest.split_at_checked(len)?;
    let at = if kind == chunk::FAILED_AT { take_u64(&mut rest) } else { None };
    Some(Fault { number, at, why: said(number, &String::from_utf8_lossy(text)) })
}

fn said(number: u32, text: &str) -> String {
    let word = match number {
        errno::PERM => "it is not allowed there",
        errno::IO => "it could not be read or written there",
        errno::INVAL => "the server takes it for a mistake",
        errno::NOSPC => "there is no room left",
        errno::NOTSUP => "the server cannot do it",
        errno::SHUTDOWN => "the server ends",
        _ => "the server failed",
    };
    if text.is_empty() { word.into() } else { format!("{word} ({})", badger_drive::text::plain(text)) }
}
