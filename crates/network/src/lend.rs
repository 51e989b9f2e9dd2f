//! Lending: waits for borrowers, and answers each by itself.

use crate::negotiate::negotiate;
use crate::serve::{Shelf, serve};
use crate::wire::{ANSWER, Socket, Wire};
use badger_drive::Control;
use rustls::ServerConfig;
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::os::unix::net::UnixListener;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::Duration;

/// Borrowers at a time.
const MOST: usize = 16;
/// How often it is looked whether somebody comes, and whether it ends.
const GLANCE: Duration = Duration::from_millis(20);
/// How long a borrower may leave an answer untaken.
const UNTAKEN: Duration = Duration::from_secs(60);

/// Where borrowers come in.
enum Door {
    Tcp(TcpListener),
    Unix(UnixListener),
}

/// What happens while drives are lent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Note {
    /// Somebody came, from there.
    Came(u64, String),
    /// Took this drive.
    Took(u64, String),
    /// Left; why, where it broke.
    Left(u64, Option<String>),
}

/// A door that is open.
pub struct Lender {
    door: Door,
}

/// What is lent, and how.
pub struct Lending<'a> {
    /// The drives.
    pub shelf: &'a Shelf,
    /// Enciphers it, and only so.
    pub tls: Option<Arc<ServerConfig>>,
    /// Ends it.
    pub control: &'a Control,
    /// Told.
    pub told: &'a (dyn Fn(Note) + Sync),
}

impl Lender {
    /// Listens at an address.
    ///
    /// # Errors
    /// What the system says.
    pub fn at(address: SocketAddr) -> io::Result<Self> {
        let listener = TcpListener::bind(address)?;
        listener.set_nonblocking(true)?;
        Ok(Self { door: Door::Tcp(listener) })
    }

    /// Listens at a socket of this machine, where nothing is yet.
    ///
    /// # Errors
    /// What the system says.
    pub fn at_socket(path: &Path) -> io::Result<Self> {
        let listener = UnixListener::bind(path)?;
        listener.set_nonblocking(true)?;
        Ok(Self { door: Door::Unix(listener) })
    }

    /// The address, where it is one of the network's; its port is known now.
    pub fn address(&self) -> Option<SocketAddr> {
        match &self.door {
            Door::Tcp(listener) => listener.local_addr().ok(),
            Door::Unix(_) => None,
        }
    }

    fn knock(&self) -> io::Result<(Socket, String)> {
        match &self.door {
            Door::Tcp(listener) => {
                let (stream, from) = listener.accept()?;
                stream.set_nonblocking(false)?;
                Ok((Socket::Tcp(stream), from.to_string()))
            }
            Door::Unix(listener) => {
                let (stream, _) = listener.accept()?;
                stream.set_nonblocking(false)?;
                Ok((Socket::Unix(stream), "this machine".into()))
            }
        }
    }

    /// Lends until it is stopped.
    pub fn lend(&self, lending: &Lending) {
        let (numbers, here) = (AtomicU64::new(1), AtomicUsize::new(0));
        std::thread::scope(|scope| {
            while lending.control.go_on() {
                let Ok((socket, from)) = self.knock() else {
                    std::thread::sleep(GLANCE);
                    continue;
                };
                if here.fetch_add(1, Ordering::AcqRel) >= MOST {
                    here.fetch_sub(1, Ordering::AcqRel);
                    continue;
                }
                let number = numbers.fetch_add(1, Ordering::Relaxed);
                let here = &here;
                scope.spawn(move || {
                    (lending.told)(Note::Came(number, from));
                    let ended = one(socket, lending, number);
                    here.fetch_sub(1, Ordering::AcqRel);
                    let why = ended.err().filter(|error| error.kind() != io::ErrorKind::UnexpectedEof).map(|error| error.to_string());
                    (lending.told)(Note::Left(number, why));
                });
            }
        });
    }
}

fn one(socket: Socket, lending: &Lending, number: u64) -> io::Result<()> {
    socket.settle()?;
    socket.wait(Some(ANSWER), Some(ANSWER))?;
    let (second, third) = (socket.again()?, socket.again()?);
    let over = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        // Whoever waits for a borrower hears of the end by the end of the connection.
        scope.spawn(|| {
            while !over.load(Ordering::Acquire) {
                if lending.control.is_stopped() {
                    third.end();
                    return;
                }
                std::thread::sleep(GLANCE);
            }
        });
        let ended = negotiate(Wire::plain(socket)?, lending.shelf, lending.tls.as_ref()).and_then(|chosen| {
            let Some((wire, lent, agreed)) = chosen else { return Ok(()) };
            (lending.told)(Note::Took(number, lent.name.clone()));
            second.wait(None, Some(UNTAKEN))?;
            serve(wire, lent, agreed, number, lending.control)
        });
        over.store(true, Ordering::Release);
        ended
    })
}
