//! What a lender says of a drive, and how a borrower asks for it.

use crate::protocol::{self as p, TEXT, hello, info, option, reply, take_text, take_u16, take_u32, take_u64};
use crate::uri::Uri;
use crate::wire::{self, ANSWER, Socket, Wire};
use badger_drive::text::plain;
use badger_drive::{Bus, Source};
use serde::{Deserialize, Serialize};
use std::io::{self, Read, Write};
use std::path::Path;
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::time::Duration;

/// What a lender of ours says of a drive: its description, as JSON.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Says {
    /// As of [`Identity`].
    pub model: String,
    /// As of [`Identity`].
    pub serial: String,
    /// As of [`Identity`].
    pub firmware: String,
    /// How it hangs on the other bench.
    pub bus: Option<Bus>,
    /// Bytes of its sectors: logical, physical.
    pub sectors: Option<(u32, u32)>,
    /// As of [`Medium::remark`](badger_drive::Medium::remark).
    pub remark: Option<String>,
}

/// Letters of a remark that are passed on.
pub(crate) const REMARK: usize = 500;

impl Says {
    /// Of a drive that is lent.
    pub fn of(source: &Source) -> Self {
        let (identity, geometry) = (source.identity(), source.geometry());
        Self {
            remark: source.remark().map(|remark| remark.chars().take(REMARK).collect()),
            model: identity.model.clone(),
            serial: identity.serial.clone(),
            firmware: identity.firmware.clone(),
            bus: Some(identity.bus),
            sectors: Some((geometry.logical_sector, geometry.physical_sector)),
        }
    }
}

/// A drive that is lent, as it was agreed on.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Export {
    /// Bytes.
    pub size: u64,
    /// See [`p::flag`].
    pub flags: u16,
    /// Bytes that requests are multiples of.
    pub least: u32,
    /// Bytes of the longest request.
    pub most: u32,
    /// In the lender's words.
    pub description: String,
    /// Whether replies come in chunks.
    pub structured: bool,
    /// The number of [`p::ALLOCATION`] in replies.
    pub allocation: Option<u32>,
    /// The number of [`p::KNOWN`] in replies.
    pub known: Option<u32>,
}

impl Export {
    /// What a lender of ours said.
    pub fn says(&self) -> Option<Says> {
        serde_json::from_str(&self.description).ok()
    }
}

/// Answers of one option that are listened to.
const MOST_ANSWERS: usize = 4096;

fn refused(text: impl Into<String>) -> io::Error {
    io::Error::new(io::ErrorKind::ConnectionRefused, text.into())
}

fn garbled(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("{what}: it does not speak the NBD protocol as it should"))
}

fn number(wire: &mut Wire) -> io::Result<u64> {
    let mut bytes = [0; 8];
    wire.read_exact(&mut bytes)?;
    Ok(u64::from_be_bytes(bytes))
}

fn ask(wire: &mut Wire, what: u32, data: &[u8]) -> io::Result<()> {
    let mut out = p::OPTION.to_be_bytes().to_vec();
    out.extend(what.to_be_bytes());
    out.extend((data.len() as u32).to_be_bytes());
    out.extend(data);
    wire.write_all(&out)
}

/// One answer to an option: its kind and content.
fn answer(wire: &mut Wire, what: u32) -> io::Result<(u32, Vec<u8>)> {
    if number(wire)? != p::OPTION_REPLY {
        return Err(garbled("an answer begins otherwise"));
    }
    let mut head = [0; 12];
    wire.read_exact(&mut head)?;
    let mut rest = &head[..];
    let (asked, kind, len) = (take_u32(&mut rest), take_u32(&mut rest), take_u32(&mut rest).unwrap_or(u32::MAX) as usize);
    if asked != Some(what) || len > 4 * TEXT {
        return Err(garbled("an answer to something else, or too long"));
    }
    let mut data = vec![0; len];
    wire.read_exact(&mut data)?;
    Ok((kind.unwrap_or(reply::ERROR), data))
}

/// Answers by their kinds; or one that says no, with its words.
type Answers = Result<Vec<(u32, Vec<u8>)>, (u32, String)>;

/// All answers to an option, up to the one that ends them.
fn answers(wire: &mut Wire, what: u32, data: &[u8]) -> io::Result<Answers> {
    ask(wire, what, data)?;
    let mut out = Vec::new();
    while out.len() < MOST_ANSWERS {
        match answer(wire, what)? {
            (reply::ACK, _) => return Ok(Ok(out)),
            (kind, text) if kind & reply::ERROR != 0 => return Ok(Err((kind, String::from_utf8_lossy(&text).into_owned()))),
            other => out.push(other),
        }
    }
    Err(garbled("an answer without an end"))
}

fn why(kind: u32, text: &str) -> String {
    let word = match kind {
        reply::UNSUPPORTED => "it does not know how",
        reply::POLICY => "it is not allowed",
        reply::TLS_REQUIRED => "it is lent enciphered only: nbds:// instead of nbd://",
        reply::UNKNOWN => "no drive of that name is lent there",
        _ => "it says no",
    };
    if text.is_empty() { word.into() } else { format!("{word} ({})", plain(text)) }
}

/// The greeting, and the cipher where it is asked for.
fn greet(uri: &Uri, trusted: Option<&Path>) -> io::Result<(Wire, Deadline)> {
    let socket = Socket::connect(&uri.way)?;
    socket.settle()?;
    socket.wait(Some(ANSWER), Some(ANSWER))?;
    let deadline = Deadline::new(socket.again()?, TALK)?;
    let mut wire = Wire::plain(socket)?;
    if (number(&mut wire)?, number(&mut wire)?) != (p::GREETING, p::OPTION) {
        return Err(garbled("another greeting"));
    }
    let mut flags = [0; 2];
    wire.read_exact(&mut flags)?;
    let flags = u16::from_be_bytes(flags);
    if flags & hello::FIXED_NEWSTYLE == 0 {
        return Err(refused("it speaks an old form of the NBD protocol, in which it could not say no"));
    }
    wire.write_all(&u32::from(flags & (hello::FIXED_NEWSTYLE | hello::NO_ZEROES)).to_be_bytes())?;
    if uri.tls {
        answers(&mut wire, option::STARTTLS, &[])?.map_err(|(kind, text)| refused(format!("enciphered: {}", why(kind, &text))))?;
        wire = wire.encipher(wire::as_borrower(uri, trusted)?)?;
    }
    Ok((wire, deadline))
}

/// How long a server may take until everything is agreed on, however often it says a little.
const TALK: Duration = Duration::from_secs(20);

/// Ends a connection after a time, unless it is dropped before.
struct Deadline(#[expect(dead_code, reason = "its end is heard by the thread")] Sender<()>);

impl Deadline {
    fn new(socket: Socket, after: Duration) -> io::Result<Self> {
        let (holds, held) = channel::<()>();
        let ends = move || {
            if held.recv_timeout(after) == Err(RecvTimeoutError::Timeout) {
                socket.end();
            }
        };
        std::thread::Builder::new().name("deadline".into()).spawn(ends)?;
        Ok(Self(holds))
    }
}

/// Which drives are lent there, by their names.
///
/// # Errors
/// Why nobody can tell.
pub fn list(uri: &Uri, trusted: Option<&Path>) -> io::Result<Vec<String>> {
    let (mut wire, _deadline) = greet(uri, trusted)?;
    let all = answers(&mut wire, option::LIST, &[])?.map_err(|(kind, text)| refused(why(kind, &text)))?;
    let _ = ask(&mut wire, option::ABORT, &[]);
    all.into_iter().filter(|(kind, _)| *kind == reply::SERVER).map(|(_, data)| take_text(&mut &data[..]).ok_or_else(|| garbled("a name"))).collect()
}

/// Reaches a drive that is lent, ready for requests.
///
/// # Errors
/// Why it cannot be had.
pub fn open(uri: &Uri, trusted: Option<&Path>) -> io::Result<(Wire, Export)> {
    let (mut wire, _deadline) = greet(uri, trusted)?;
    let mut export = Export { least: 1, most: p::LONGEST, ..Export::default() };
    export.structured = answers(&mut wire, option::STRUCTURED_REPLY, &[])?.is_ok();
    if export.structured {
        let mut data = Vec::new();
        p::put_text(&mut data, &uri.export);
        data.extend(2u32.to_be_bytes());
        [p::ALLOCATION, p::KNOWN].iter().for_each(|name| p::put_text(&mut data, name));
        for (_, data) in answers(&mut wire, option::SET_META_CONTEXT, &data)?.unwrap_or_default() {
            let Some((id, name)) = data.split_first_chunk::<4>() else { continue };
            match std::str::from_utf8(name) {
                Ok(p::ALLOCATION) => export.allocation = Some(u32::from_be_bytes(*id)),
                Ok(p::KNOWN) => export.known = Some(u32::from_be_bytes(*id)),
                _ => {}
            }
        }
    }
    let mut data = Vec::new();
    p::put_text(&mut data, &uri.export);
    data.extend(2u16.to_be_bytes());
    data.extend(info::BLOCK_SIZE.to_be_bytes());
    data.extend(info::DESCRIPTION.to_be_bytes());
    let mut told = false;
    for (_, data) in answers(&mut wire, option::GO, &data)?.map_err(|(kind, text)| refused(why(kind, &text)))? {
        told |= note(&mut export, &data).ok_or_else(|| garbled("what it says of the drive"))?;
    }
    if !told || export.size == 0 {
        return Err(refused("it does not say how large the drive is"));
    }
    // Sums of places stay within 64 bits.
    if export.size > 1 << 60 {
        return Err(garbled("a drive larger than any"));
    }
    Ok((wire, export))
}

/// Whether this was size and flags.
fn note(export: &mut Export, data: &[u8]) -> Option<bool> {
    let mut rest = data;
    match take_u16(&mut rest)? {
        info::EXPORT => {
            (export.size, export.flags) = (take_u64(&mut rest)?, take_u16(&mut rest)?);
            return Some(true);
        }
        info::BLOCK_SIZE => {
            let (least, _, most) = (take_u32(&mut rest)?, take_u32(&mut rest)?, take_u32(&mut rest)?);
            (least.is_power_of_two() && least <= 64 << 10 && most >= least.max(4096)).then_some(())?;
            (export.least, export.most) = (least, most.min(p::LONGEST) / least * least);
        }
        info::DESCRIPTION => export.description = String::from_utf8_lossy(&rest[..rest.len().min(TEXT)]).into_owned(),
        _ => {}
    }
    Some(false)
}
