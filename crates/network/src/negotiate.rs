//! What a lender says before a drive is chosen.

use crate::export::Says;
use crate::protocol::{self as p, TEXT, hello, info, option, reply, take_text, take_u16, take_u32};
use crate::serve::{ALLOCATION_ID, Agreed, KNOWN_ID, Lent, Shelf};
use crate::wire::{self, Wire};
use rustls::ServerConfig;
use std::io::{self, Read, Write};
use std::sync::Arc;

/// Options of one borrower that are answered.
const MOST_OPTIONS: usize = 1000;

fn garbled(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

/// A borrower who has not chosen yet.
struct Talk<'a> {
    wire: Wire,
    shelf: &'a Shelf,
    agreed: Agreed,
    /// For which drive kinds of status were chosen.
    status_of: Option<String>,
    no_zeroes: bool,
}

/// Talks with a borrower until it has chosen; `None` where it left.
///
/// # Errors
/// What it said that is no option, or the system.
pub fn negotiate<'a>(mut wire: Wire, shelf: &'a Shelf, tls: Option<&Arc<ServerConfig>>) -> io::Result<Option<(Wire, &'a Lent, Agreed)>> {
    let mut out = p::GREETING.to_be_bytes().to_vec();
    out.extend(p::OPTION.to_be_bytes());
    out.extend((hello::FIXED_NEWSTYLE | hello::NO_ZEROES).to_be_bytes());
    wire.write_all(&out)?;
    let mut flags = [0; 4];
    wire.read_exact(&mut flags)?;
    let flags = u32::from_be_bytes(flags);
    if flags & u32::from(hello::FIXED_NEWSTYLE) == 0 || flags >> 2 != 0 {
        return Err(garbled("it speaks another form of the protocol"));
    }
    let no_zeroes = flags & u32::from(hello::NO_ZEROES) != 0;
    let mut talk = Talk { wire, shelf, agreed: Agreed::default(), status_of: None, no_zeroes };
    let mut open = tls.is_none();
    for _ in 0..MOST_OPTIONS {
        let (what, data) = talk.option()?;
        match what {
            option::ABORT => {
                let _ = talk.answer(what, reply::ACK, &[]);
                return Ok(None);
            }
            option::STARTTLS if open => talk.answer(what, if tls.is_some() { reply::INVALID } else { reply::UNSUPPORTED }, &[])?,
            option::STARTTLS if !data.is_empty() => talk.answer(what, reply::INVALID, &[])?,
            option::STARTTLS => {
                let Some(config) = tls else { return Err(garbled("no cipher")) };
                talk.answer(what, reply::ACK, &[])?;
                // What was agreed before it counts no more.
                let Talk { wire, shelf, no_zeroes, .. } = talk;
                let wire = wire.encipher(wire::as_lender(config)?)?;
                talk = Talk { wire, shelf, agreed: Agreed::default(), status_of: None, no_zeroes };
                open = true;
            }
            option::EXPORT_NAME if !open => return Err(garbled("it would not be enciphered")),
            _ if !open => talk.answer(what, reply::TLS_REQUIRED, &[])?,
            option::EXPORT_NAME => {
                let name = String::from_utf8(data).map_err(|_| garbled("a name that is no text"))?;
                let lent = shelf.find(&name).ok_or_else(|| garbled("no such drive"))?;
                let mut out = lent.source.geometry().size_bytes.to_be_bytes().to_vec();
                out.extend(lent.flags().to_be_bytes());
                out.resize(out.len() + if talk.no_zeroes { 0 } else { 124 }, 0);
                talk.wire.write_all(&out)?;
                return Ok(Some(talk.chosen(lent)));
            }
            option::GO | option::INFO => {
                if let Some(lent) = talk.go(what, &data)? {
                    return Ok(Some(talk.chosen(lent)));
                }
            }
            option::LIST if !data.is_empty() => talk.answer(what, reply::INVALID, &[])?,
            option::LIST => {
                for lent in &shelf.0 {
                    let mut data = Vec::new();
                    p::put_text(&mut data, &lent.name);
                    talk.answer(what, reply::SERVER, &data)?;
                }
                talk.answer(what, reply::ACK, &[])?;
            }
            option::STRUCTURED_REPLY if !data.is_empty() => talk.answer(what, reply::INVALID, &[])?,
            option::STRUCTURED_REPLY => {
                talk.agreed.structured = true;
                talk.answer(what, reply::ACK, &[])?;
            }
            option::LIST_META_CONTEXT | option::SET_META_CONTEXT => talk.status(what, &data)?,
            _ => talk.answer(what, reply::UNSUPPORTED, &[])?,
        }
    }
    Err(garbled("it asks without end"))
}

impl<'a> Talk<'a> {
    fn option(&mut self) -> io::Result<(u32, Vec<u8>)> {
        let mut head = [0; 16];
        self.wire.read_exact(&mut head)?;
        let mut rest = &head[..];
        let magic = p::take_u64(&mut rest);
        let (what, len) = (take_u32(&mut rest).unwrap_or(0), take_u32(&mut rest).unwrap_or(u32::MAX) as usize);
        if magic != Some(p::OPTION) || len > 16 * TEXT {
            return Err(garbled("what is no option, or too long"));
        }
        let mut data = vec![0; len];
        self.wire.read_exact(&mut data)?;
        Ok((what, data))
    }

    fn answer(&mut self, what: u32, kind: u32, data: &[u8]) -> io::Result<()> {
        let mut out = p::OPTION_REPLY.to_be_bytes().to_vec();
        out.extend(what.to_be_bytes());
        out.extend(kind.to_be_bytes());
        out.extend((data.len() as u32).to_be_bytes());
        out.extend(data);
        self.wire.write_all(&out)
    }

    /// Kinds of status count for the drive that they were chosen for.
    fn chosen(self, lent: &'a Lent) -> (Wire, &'a Lent, Agreed) {
        let same = self.status_of.as_deref().and_then(|name| self.shelf.find(name)).is_some_and(|other| std::ptr::eq(other, lent));
        let on = self.agreed.structured && same;
        let agreed = Agreed { allocation: self.agreed.allocation && on, known: self.agreed.known && on, ..self.agreed };
        (self.wire, lent, agreed)
    }

    /// The drive, where it is chosen with this.
    fn go(&mut self, what: u32, data: &[u8]) -> io::Result<Option<&'a Lent>> {
        let mut rest = data;
        let asked = take_text(&mut rest).zip(take_u16(&mut rest)).filter(|(_, count)| rest.len() == 2 * usize::from(*count));
        let Some((name, count)) = asked else {
            self.answer(what, reply::INVALID, &[])?;
            return Ok(None);
        };
        let wants: Vec<u16> = (0..count).filter_map(|_| take_u16(&mut rest)).collect();
        let Some(lent) = self.shelf.find(&name) else {
            self.answer(what, reply::UNKNOWN, &[])?;
            return Ok(None);
        };
        let geometry = lent.source.geometry();
        let mut data = info::EXPORT.to_be_bytes().to_vec();
        data.extend(geometry.size_bytes.to_be_bytes());
        data.extend(lent.flags().to_be_bytes());
        self.answer(what, reply::INFO, &data)?;
        if wants.contains(&info::DESCRIPTION) {
            let mut data = info::DESCRIPTION.to_be_bytes().to_vec();
            data.extend(serde_json::to_string(&Says::of(&lent.source)).unwrap_or_default().bytes().take(TEXT));
            self.answer(what, reply::INFO, &data)?;
        }
        // Whoever asks for sizes keeps to them; a file may end in the middle of a sector.
        let least =
            if geometry.size_bytes.is_multiple_of(u64::from(geometry.logical_sector)) && lent.target.is_some() { geometry.logical_sector } else { 1 };
        let mut data = info::BLOCK_SIZE.to_be_bytes().to_vec();
        [least, 4096, p::LONGEST].iter().for_each(|size| data.extend(size.to_be_bytes()));
        self.answer(what, reply::INFO, &data)?;
        self.answer(what, reply::ACK, &[])?;
        Ok((what == option::GO).then_some(lent))
    }

    fn status(&mut self, what: u32, data: &[u8]) -> io::Result<()> {
        let mut rest = data;
        let asked = take_text(&mut rest).zip(take_u32(&mut rest));
        let set = what == option::SET_META_CONTEXT;
        let Some((name, count)) = asked.filter(|(_, count)| *count <= 64 && (self.agreed.structured || !set)) else {
            return self.answer(what, reply::INVALID, &[]);
        };
        let mut names = Vec::new();
        for _ in 0..count {
            match take_text(&mut rest) {
                Some(name) => names.push(name),
                None => return self.answer(what, reply::INVALID, &[]),
            }
        }
        if self.shelf.find(&name).is_none() {
            return self.answer(what, reply::UNKNOWN, &[]);
        }
        // Whoever only looks may leave the name, or its end, open.
        let asks = |full: &str| {
            let space = full.split_once(':').map_or("", |(space, _)| space);
            names.iter().any(|name| name == full || !set && name.strip_suffix(':') == Some(space)) || !set && names.is_empty()
        };
        let (allocation, known) = (asks(p::ALLOCATION), asks(p::KNOWN));
        if set {
            (self.agreed.allocation, self.agreed.known) = (allocation, known);
            self.status_of = Some(name);
        }
        for (on, id, full) in [(allocation, ALLOCATION_ID, p::ALLOCATION), (known, KNOWN_ID, p::KNOWN)] {
            if on {
                let mut data = id.to_be_bytes().to_vec();
                data.extend(full.as_bytes());
                self.answer(what, reply::META_CONTEXT, &data)?;
            }
        }
        self.answer(what, reply::ACK, &[])
    }
}
