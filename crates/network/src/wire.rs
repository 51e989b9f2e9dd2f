//! Connections: over TCP or a socket of this machine, plain or enciphered, in two halves that two threads may hold.

use crate::uri::{Uri, Way};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{ClientConfig, ClientConnection, Connection, RootCertStore, ServerConfig, ServerConnection};
use std::io::{self, Read, Write};
use std::net::{Shutdown, TcpStream, ToSocketAddrs};
use std::os::fd::AsFd;
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// How long a server may take to answer a connection, or a step of the negotiation.
pub const ANSWER: Duration = Duration::from_secs(10);
/// After so long without a word the other machine is asked whether it is there, so often, ...
const QUIET: Duration = Duration::from_secs(10);
const ASKED: u32 = 3;
/// ... and so long after the last time.
const BETWEEN: Duration = Duration::from_secs(5);

/// A socket of either kind.
pub enum Socket {
    /// Over the network.
    Tcp(TcpStream),
    /// Within this machine.
    Unix(UnixStream),
}

impl Socket {
    /// Reaches a server.
    ///
    /// # Errors
    /// What the system says of all its addresses.
    pub fn connect(way: &Way) -> io::Result<Self> {
        let (host, port) = match way {
            Way::Unix(path) => return UnixStream::connect(path).map(Self::Unix),
            Way::Tcp(host, port) => (host.as_str(), *port),
        };
        let mut last = io::Error::new(io::ErrorKind::NotFound, format!("{host} has no address"));
        for address in (host, port).to_socket_addrs()? {
            match TcpStream::connect_timeout(&address, ANSWER) {
                Ok(stream) => return Ok(Self::Tcp(stream)),
                Err(error) => last = error,
            }
        }
        Err(last)
    }

    /// Says what a connection is to be like: no waiting for more to send, and the other side is asked whether it is there.
    pub fn settle(&self) -> io::Result<()> {
        let Self::Tcp(stream) = self else { return Ok(()) };
        stream.set_nodelay(true)?;
        rustix::net::sockopt::set_socket_keepalive(stream.as_fd(), true)?;
        rustix::net::sockopt::set_tcp_keepidle(stream.as_fd(), QUIET)?;
        rustix::net::sockopt::set_tcp_keepintvl(stream.as_fd(), BETWEEN)?;
        rustix::net::sockopt::set_tcp_keepcnt(stream.as_fd(), ASKED)?;
        Ok(())
    }

    /// How long a read, and a write, may take.
    pub fn wait(&self, read: Option<Duration>, write: Option<Duration>) -> io::Result<()> {
        match self {
            Self::Tcp(stream) => stream.set_read_timeout(read).and_then(|()| stream.set_write_timeout(write)),
            Self::Unix(stream) => stream.set_read_timeout(read).and_then(|()| stream.set_write_timeout(write)),
        }
    }

    /// A second handle on the same.
    pub fn again(&self) -> io::Result<Self> {
        match self {
            Self::Tcp(stream) => stream.try_clone().map(Self::Tcp),
            Self::Unix(stream) => stream.try_clone().map(Self::Unix),
        }
    }

    /// Ends it for all handles.
    pub fn end(&self) {
        let _ = match self {
            Self::Tcp(stream) => stream.shutdown(Shutdown::Both),
            Self::Unix(stream) => stream.shutdown(Shutdown::Both),
        };
    }
}

impl Read for Socket {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Tcp(stream) => stream.read(buf),
            Self::Unix(stream) => stream.read(buf),
        }
    }
}

impl Write for Socket {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        match self {
            Self::Tcp(stream) => stream.write(buf),
            Self::Unix(stream) => stream.write(buf),
        }
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// What was agreed on for enciphering, shared by both halves.
type Shared = Arc<Mutex<Connection>>;

/// The half that receives.
pub struct Receiver {
    socket: Socket,
    tls: Option<Shared>,
    /// Enciphered bytes as they come, and which of them are still to be deciphered.
    raw: Vec<u8>,
    held: std::ops::Range<usize>,
}

/// The half that sends.
pub struct Sender {
    socket: Socket,
    tls: Option<Shared>,
}

/// Both halves of a connection.
pub struct Wire {
    /// Receives.
    pub receiver: Receiver,
    /// Sends.
    pub sender: Sender,
}

impl Wire {
    /// Over a socket, plain.
    ///
    /// # Errors
    /// What the system says.
    pub fn plain(socket: Socket) -> io::Result<Self> {
        let second = socket.again()?;
        Ok(Self { receiver: Receiver { socket, tls: None, raw: Vec::new(), held: 0..0 }, sender: Sender { socket: second, tls: None } })
    }

    /// From here on enciphered.
    ///
    /// # Errors
    /// The other side is not who it should be, or does not understand.
    pub fn encipher(self, connection: Connection) -> io::Result<Self> {
        let (mut socket, second, mut connection) = (self.receiver.socket, self.sender.socket, connection);
        while connection.is_handshaking() {
            let (read, written) = connection.complete_io(&mut socket)?;
            if read + written == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
        }
        let shared = Arc::new(Mutex::new(connection));
        let receiver = Receiver { socket, tls: Some(shared.clone()), raw: vec![0; 64 << 10], held: 0..0 };
        Ok(Self { receiver, sender: Sender { socket: second, tls: Some(shared) } })
    }

    /// The socket, to say how long to wait and to end it.
    ///
    /// # Errors
    /// What the system says.
    pub fn socket(&self) -> io::Result<Socket> {
        self.receiver.socket.again()
    }
}

impl Read for Wire {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        self.receiver.read(buf)
    }
}

impl Write for Wire {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.sender.write(buf)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.sender.flush()
    }
}

impl Read for Receiver {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let Some(tls) = &self.tls else { return self.socket.read(buf) };
        loop {
            let plain = tls.lock().expect("cipher lock").reader().read(buf);
            match plain {
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                other => return other,
            }
            if self.held.is_empty() {
                // Waited for without the lock: the other half sends meanwhile.
                self.held = 0..self.socket.read(&mut self.raw)?;
            }
            let mut connection = tls.lock().expect("cipher lock");
            // Not more than one step: what was deciphered is taken before there is more of it.
            self.held.start += connection.read_tls(&mut &self.raw[self.held.clone()])?;
            // What is said back, such as new keys, goes out with the next thing that is sent.
            connection.process_new_packets().map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
        }
    }
}

impl Write for Sender {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let Some(tls) = &self.tls else { return self.socket.write(buf) };
        let mut connection = tls.lock().expect("cipher lock");
        let taken = connection.writer().write(buf)?;
        while connection.wants_write() {
            connection.write_tls(&mut self.socket)?;
        }
        Ok(taken)
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn wrong(path: &Path, error: impl std::fmt::Display) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidInput, format!("{}: {error}", path.display()))
}

fn certificates(path: &Path) -> io::Result<Vec<CertificateDer<'static>>> {
    let all: Result<Vec<_>, _> = CertificateDer::pem_file_iter(path).map_err(|error| wrong(path, error))?.collect();
    let all = all.map_err(|error| wrong(path, error))?;
    if all.is_empty() { Err(wrong(path, "there is no certificate in it")) } else { Ok(all) }
}

/// What a lender is known by.
///
/// # Errors
/// What is wrong with the files, both PEM.
pub fn lender(certificate: &Path, key: &Path) -> io::Result<Arc<ServerConfig>> {
    let secret = PrivateKeyDer::from_pem_file(key).map_err(|error| wrong(key, error))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions().map_err(io::Error::other)?;
    let config = builder.with_no_client_auth().with_single_cert(certificates(certificate)?, secret).map_err(|error| wrong(certificate, error))?;
    Ok(Arc::new(config))
}

/// One connection of a lender.
///
/// # Errors
/// What the cipher says.
pub fn as_lender(config: &Arc<ServerConfig>) -> io::Result<Connection> {
    ServerConnection::new(config.clone()).map(Connection::Server).map_err(io::Error::other)
}

/// One connection to a lender who is to be known by one of the certificates in `trusted`.
///
/// # Errors
/// What is wrong with the file or the name.
pub fn as_borrower(uri: &Uri, trusted: Option<&Path>) -> io::Result<Connection> {
    let path = trusted.ok_or_else(|| {
        let text = "an enciphered drive is borrowed by the certificate of who lends it: name the file with it as `trusted` in the settings";
        io::Error::new(io::ErrorKind::InvalidInput, text)
    })?;
    let mut roots = RootCertStore::empty();
    for certificate in certificates(path)? {
        roots.add(certificate).map_err(|error| wrong(path, error))?;
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().map_err(io::Error::other)?;
    let config = builder.with_root_certificates(roots).with_no_client_auth();
    let host = match &uri.way {
        Way::Tcp(host, _) => host.clone(),
        Way::Unix(_) => "localhost".into(),
    };
    let name = ServerName::try_from(host).map_err(|error| io::Error::new(io::ErrorKind::InvalidInput, error))?;
    ClientConnection::new(Arc::new(config), name).map(Connection::Client).map_err(io::Error::other)
}
