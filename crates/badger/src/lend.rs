//! `badger lend`: drives of this bench for others, until it is stopped.

use crate::follow::obey_signals;
use crate::{Common, code};
use badger_bench::Bench;
use badger_drive::medium::MemoryMedium;
use badger_drive::size::human;
use badger_drive::{Control, Refusal, Release, Source};
use badger_network::{Lender, Lending, Lent, Note, PORT, Shelf, encoded, identified};
use clap::Args;
use serde_json::{Value, json};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;

/// `badger lend`.
#[derive(Args, Clone)]
pub struct LendArgs {
    /// Drives or images; each is lent by the last part of its name
    #[arg(required = true, value_name = "DRIVE")]
    pub drives: Vec<PathBuf>,
    /// Where borrowers come in; port 0 takes a free one
    #[arg(long, value_name = "ADDR:PORT", default_value_t = SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), PORT), conflicts_with = "socket")]
    pub listen: SocketAddr,
    /// A socket of this machine instead
    #[arg(long, value_name = "PATH")]
    pub socket: Option<PathBuf>,
    /// Let it be written to: the drive's tail, the last four letters or digits of its serial, or of its file name
    #[arg(long, value_name = "TAIL")]
    pub confirm: Option<String>,
    /// Enciphers it: a certificate in PEM ...
    #[arg(long, value_name = "FILE", requires = "tls_key")]
    pub tls_cert: Option<PathBuf>,
    /// ... and its key
    #[arg(long, value_name = "FILE", requires = "tls_cert")]
    pub tls_key: Option<PathBuf>,
}

fn name_of(path: &Path) -> String {
    path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned())
}

/// The drives, open and claimed as long as what is given back lives.
fn shelf(bench: &Bench, args: &LendArgs) -> Result<(Shelf, Vec<impl Sized>), Refusal> {
    let (mut lent, mut claims) = (Vec::<Lent>::new(), Vec::new());
    if args.confirm.is_some() && args.drives.len() != 1 {
        return Err(Refusal::new("usage", "a tail releases one drive: lend it by itself"));
    }
    for path in &args.drives {
        let name = name_of(path);
        if lent.iter().any(|other| other.name == name) {
            return Err(Refusal::new("usage", format!("two of the drives would both be lent as {name}")));
        }
        lent.push(match &args.confirm {
            None => {
                let source = bench.workshop.source(path)?;
                claims.push(source.claim()?);
                Lent::new(name, source)
            }
            Some(tail) => {
                // Nothing of this bench is read for it: what is written comes from elsewhere.
                let nothing = Source::detached(Arc::new(MemoryMedium::new(Vec::new(), 512)));
                let candidate = bench.workshop.candidate(path, None, 512)?;
                Lent::released(name, candidate.release(&Release::new(&nothing, 0, tail))?)
            }
        });
    }
    Ok((Shelf(lent), claims))
}

/// `badger lend`.
pub fn lend(bench: &Bench, args: &LendArgs, common: &Common) -> Result<u8, Refusal> {
    let wrong = |error: std::io::Error| Refusal::new("not-lent", format!("it cannot be enciphered: {error}"));
    let tls = args.tls_cert.as_deref().zip(args.tls_key.as_deref()).map(|(cert, key)| identified(cert, key)).transpose().map_err(wrong)?;
    let (shelf, _claims) = shelf(bench, args)?;
    let place = args.socket.as_ref().map_or_else(|| args.listen.to_string(), |path| path.display().to_string());
    let busy = |error: std::io::Error| Refusal::new("not-lent", format!("nobody can come in at {place}: {error}; --listen names another place"));
    let lender = args.socket.as_deref().map_or_else(|| Lender::at(args.listen), Lender::at_socket).map_err(busy)?;
    let node = |path: &Path| std::fs::symlink_metadata(path).ok().filter(|meta| meta.file_type().is_socket()).map(|meta| (meta.dev(), meta.ino()));
    let door = args.socket.as_deref().and_then(node);
    let uri = |lent: &Lent| {
        let (s, name) = (if tls.is_some() { "s" } else { "" }, encoded(&lent.name));
        match (lender.address(), &args.socket) {
            (Some(address), _) => format!("nbd{s}://{address}/{name}"),
            (None, socket) => {
                format!("nbd{s}+unix:///{name}?socket={}", socket.as_deref().map(|path| encoded(&path.display().to_string())).unwrap_or_default())
            }
        }
    };
    let quiet = common.json || common.events;
    let event = |value: &Value| {
        if common.events {
            tell_part!("{value}\n");
        }
    };
    for lent in &shelf.0 {
        let (size, writable) = (lent.source.geometry().size_bytes, lent.target.is_some());
        event(&json!({ "event": "lent", "name": lent.name, "uri": uri(lent), "size_bytes": size, "writable": writable }));
        if !quiet {
            tell!("{}  {}, {}", uri(lent), human(size), if writable { "▸ to be written to" } else { "read only" });
        }
    }
    if tls.is_none() && lender.address().is_some_and(|address| !address.ip().is_loopback()) {
        complain!("everybody who reaches this address can read it, and see what is read: --tls-cert and --tls-key encipher it");
    }
    let told = |note: Note| {
        let (number, word, what) = match note {
            Note::Came(number, from) => (number, "came", from),
            Note::Took(number, name) => (number, "took", name),
            Note::Left(number, why) => (number, "left", why.unwrap_or_default()),
        };
        event(&json!({ "event": word, "borrower": number, "what": what }));
        if !quiet {
            tell!("borrower {number} {word}{}{what}", if what.is_empty() { "" } else { ": " });
        }
    };
    let control = Arc::new(Control::new());
    obey_signals(control.clone());
    crate::log::settle();
    lender.lend(&Lending { shelf: &shelf, tls: tls.clone(), control: &control, told: &told });
    // Another one may have come into its place, or something else.
    if let Some(path) = args.socket.as_ref().filter(|path| door.is_some() && node(path) == door) {
        let _ = std::fs::remove_file(path);
    }
    // A borrower may leave without having asked for it.
    for target in shelf.0.iter().filter_map(|lent| lent.target.as_ref()) {
        target.finish().map_err(|error| Refusal::new("not-durable", format!("what was written may be lost: {error}")))?;
    }
    let of = |lent: &Lent| {
        let (read, written) = (lent.read.load(Ordering::Relaxed), lent.written.load(Ordering::Relaxed));
        json!({ "name": lent.name, "uri": uri(lent), "read_bytes": read, "written_bytes": written })
    };
    if common.json {
        tell_part!("{:#}\n", json!({ "lent": shelf.0.iter().map(of).collect::<Vec<_>>() }));
    }
    for lent in shelf.0.iter().filter(|_| !quiet) {
        tell!("{}  {} read, {} written", lent.name, human(lent.read.load(Ordering::Relaxed)), human(lent.written.load(Ordering::Relaxed)));
    }
    Ok(code::DONE)
}
