//! Finds which files and devices a program holds open that stands between this one and storage: behind a FUSE mount, at the other end
//! of a socket of this machine. The program says what it serves as it likes; what it holds open, the kernel says.

use crate::sysfs::Sysfs;
use std::fs;
use std::net::SocketAddr;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};

/// The processes of this machine that this user may look at, as directories below `/proc`.
fn processes() -> impl Iterator<Item = PathBuf> {
    let all = fs::read_dir("/proc").into_iter().flatten().flatten();
    all.filter(|entry| entry.file_name().as_encoded_bytes().iter().all(u8::is_ascii_digit)).map(|entry| entry.path())
}

fn fds(process: &Path) -> Vec<PathBuf> {
    fs::read_dir(process.join("fd")).into_iter().flatten().flatten().map(|entry| entry.path()).collect()
}

/// What a process holds open that may be storage, or lie on it.
fn held(process: &Path) -> Vec<PathBuf> {
    let place = process.join("cwd");
    let is_root = fs::read_link(&place).is_ok_and(|dir| dir == Path::new("/"));
    // What a program prints, or notes in a log, is no storage that it serves.
    let serves = |fd: &PathBuf| access(process, fd) != Some(libc::O_WRONLY) && !["0", "1", "2"].iter().any(|number| fd.ends_with(number));
    let holds = |fd: &PathBuf| fs::metadata(fd).is_ok_and(|meta| meta.is_file() || meta.is_dir() || meta.file_type().is_block_device());
    fds(process).into_iter().filter(|fd| serves(fd)).chain((!is_root).then_some(place)).filter(|fd| holds(fd)).collect()
}

/// How a descriptor of a process is open: for reading, for writing, or both.
fn access(process: &Path, fd: &Path) -> Option<i32> {
    let info = fs::read_to_string(process.join("fdinfo").join(fd.file_name()?)).ok()?;
    let flags = info.lines().find_map(|line| u32::from_str_radix(line.strip_prefix("flags:")?.trim(), 8).ok())?;
    Some(flags as i32 & libc::O_ACCMODE)
}

/// What the programs behind a mount hold open.
#[derive(Default)]
pub(crate) struct Served {
    /// Files, directories and block devices, as paths below `/proc`.
    pub held: Vec<PathBuf>,
    /// Whether that is all their storage: something is open for reading and writing, and no socket leads elsewhere.
    pub is_all: bool,
}

/// Whether a process has a file or device open for reading and writing, and no socket.
fn has_all(process: &Path) -> bool {
    let is_socket = |fd: &PathBuf| fs::metadata(fd).is_ok_and(|meta| meta.file_type().is_socket());
    let is_storage = |fd: &PathBuf| fs::metadata(fd).is_ok_and(|meta| meta.is_file() || meta.file_type().is_block_device());
    let all = fds(process);
    !all.iter().any(is_socket) && all.iter().any(|fd| is_storage(fd) && access(process, fd) == Some(libc::O_RDWR))
}

impl Sysfs {
    /// What the program behind a FUSE mount holds open. `connection` is the minor number of the mount; where the kernel does not tell
    /// whose it is, every program that serves one counts.
    pub(crate) fn held_by_fuse(&self, connection: u32) -> Served {
        if !self.live() {
            return Served::default();
        }
        let serves = |process: &PathBuf| {
            fds(process).iter().any(|fd| {
                let is_fuse = fs::read_link(fd).is_ok_and(|to| to == Path::new("/dev/fuse"));
                let info = || fs::read_to_string(process.join("fdinfo").join(fd.file_name().unwrap_or_default())).unwrap_or_default();
                let told = |info: String| info.lines().find_map(|line| line.strip_prefix("fuse_connection:")?.trim().parse::<u32>().ok());
                is_fuse && told(info()).is_none_or(|number| number == connection)
            })
        };
        let all: Vec<PathBuf> = processes().filter(serves).collect();
        Served { is_all: !all.is_empty() && all.iter().all(|process| has_all(process)), held: all.iter().flat_map(|process| held(process)).collect() }
    }

    /// The same of the program at the other end of a connected socket; empty where it is not on this machine, or cannot be seen.
    pub(crate) fn held_by_peer(&self, socket: &OwnedFd) -> Vec<PathBuf> {
        if !self.live() {
            return Vec::new();
        }
        // A socket of this machine tells who made its other end; one that was passed on may be held by others too.
        if let Ok(peer) = rustix::net::sockopt::socket_peercred(socket.as_fd()) {
            let id = peer.pid.as_raw_nonzero().get();
            let is_of = |process: &PathBuf| process.file_name().is_some_and(|name| name == id.to_string().as_str()) || parent(process) == Some(id);
            if !peer.pid.is_init() || id > 1 {
                let held: Vec<_> = processes().filter(is_of).flat_map(|process| held(&process)).collect();
                if !held.is_empty() {
                    return held;
                }
            }
        }
        let Some(inode) = far_end(socket) else { return Vec::new() };
        let name = PathBuf::from(format!("socket:[{inode}]"));
        let serves = |process: &PathBuf| fds(process).iter().any(|fd| fs::read_link(fd).is_ok_and(|to| to == name));
        processes().filter(serves).flat_map(|process| held(&process)).collect()
    }
}

/// The process that started another one.
fn parent(process: &Path) -> Option<i32> {
    let stat = fs::read_to_string(process.join("stat")).ok()?;
    // The name in front may hold anything; the parent is the second word behind it.
    stat.rsplit_once(')')?.1.split_whitespace().nth(1)?.parse().ok()
}

/// The inode of the socket at the other end of a TCP connection within this machine (`/proc/net/tcp`, `/proc/net/tcp6`).
fn far_end(socket: &OwnedFd) -> Option<u64> {
    let (near, far) = (rustix::net::getsockname(socket).ok()?, rustix::net::getpeername(socket).ok()??);
    let (near, far): (SocketAddr, SocketAddr) = (near.try_into().ok()?, far.try_into().ok()?);
    ["/proc/net/tcp", "/proc/net/tcp6"].iter().find_map(|table| {
        let text = fs::read_to_string(table).unwrap_or_default();
        text.lines().skip(1).find_map(|line| {
            let words: Vec<&str> = line.split_whitespace().collect();
            let is_it = address(words.get(1)?)? == plain(far) && address(words.get(2)?)? == plain(near);
            is_it.then(|| words.get(9)?.parse().ok()).flatten()
        })
    })
}

/// An address without the difference between IPv4 and IPv4 within IPv6.
fn plain(address: SocketAddr) -> SocketAddr {
    SocketAddr::new(address.ip().to_canonical(), address.port())
}

/// An address as the kernel writes it: words of 32 bits in the order of this machine, in hexadecimal digits, and the port.
fn address(text: &str) -> Option<SocketAddr> {
    let (host, port) = text.split_once(':')?;
    let mut bytes = Vec::new();
    for at in (0..host.len()).step_by(8) {
        bytes.extend(u32::from_str_radix(host.get(at..at + 8)?, 16).ok()?.to_ne_bytes());
    }
    let port = u16::from_str_radix(port, 16).ok()?;
    let ip = match bytes.len() {
        4 => std::net::IpAddr::from(<[u8; 4]>::try_from(bytes).ok()?),
        _ => std::net::IpAddr::from(<[u8; 16]>::try_from(bytes).ok()?),
    };
    Some(plain(SocketAddr::new(ip, port)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::net::{TcpListener, TcpStream};

    #[rstest]
    #[case("127.0.0.1:0")]
    #[case("[::1]:0")]
    fn the_other_end_of_a_connection_within_this_machine_is_found(#[case] at: &str) {
        let listener = TcpListener::bind(at).unwrap();
        let near = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
        let (far, _) = listener.accept().unwrap();
        let found = far_end(&near.into()).unwrap();
        let stat = rustix::fs::fstat(&far).unwrap();
        assert_eq!(found, stat.st_ino);
    }
}
