//! The other side of a connection: servers and borrowers that say what they like, and a licence service.

use crate::sound::{drive, folder};
use badger_drive::{Control, Medium, Source};
use badger_licences::{Patience, Wish, ask, identifier};
use badger_network::{Borrowed, Lender, Lending, Lent, Shelf, Uri, list};
use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, LazyLock, Mutex};
use std::thread::JoinHandle;
use std::time::Duration;

/// Nobody waits longer for more of what will not come.
const WAIT: Duration = Duration::from_millis(100);

fn uri(socket: &Path) -> Uri {
    Uri::parse(&format!("nbd+unix:///weir?socket={}", socket.display())).expect("a URI").expect("a URI")
}

/// Whoever says this to the first one who comes, and then listens until that one leaves.
fn saying(socket: &Path, input: &[u8]) -> JoinHandle<()> {
    let listener = UnixListener::bind(socket).expect("a socket");
    let (socket, input) = (socket.to_path_buf(), input.to_vec());
    std::thread::spawn(move || {
        let Ok((mut stream, _)) = listener.accept() else { return };
        // Nobody comes a second time.
        drop(listener);
        let _ = std::fs::remove_file(socket);
        let _ = stream.set_read_timeout(Some(WAIT));
        let _ = stream.write_all(&input);
        let _ = stream.shutdown(Shutdown::Write);
        let _ = stream.read_to_end(&mut Vec::new());
    })
}

/// Looks at a drive as a borrower does.
fn look(borrowed: Borrowed) {
    let drive = Source::detached(Arc::new(borrowed));
    drive.wait_at_most(WAIT);
    let geometry = drive.geometry();
    let sector = u64::from(geometry.logical_sector);
    let len = geometry.size_bytes.min(64 << 10) / sector * sector;
    let mut buffer = vec![0; len as usize];
    if drive.read_at(0, &mut buffer).is_ok() && geometry.size_bytes > 0 {
        let known = drive.stretch(0, geometry.size_bytes);
        assert!(known.len > 0 && known.len <= geometry.size_bytes);
    }
    let _ = drive.remark();
}

/// What a server sends.
pub fn server(input: &[u8]) {
    let dir = folder();
    for listing in [false, true] {
        let socket = dir.path().join("socket");
        let said = saying(&socket, input);
        if listing {
            let _ = list(&uri(&socket), None);
        } else if let Ok(borrowed) = Borrowed::open(&socket, &uri(&socket), None, false) {
            look(borrowed);
        }
        said.join().expect("whoever says it does not panic");
    }
}

/// A lender of one drive, for as long as the process lives.
struct Door {
    socket: PathBuf,
    _dir: tempfile::TempDir,
}

fn lender() -> Door {
    let dir = folder();
    let socket = dir.path().join("lender");
    let lender = Lender::at_socket(&socket).expect("a socket");
    std::thread::spawn(move || {
        let shelf = Shelf(vec![Lent::new("weir".into(), drive((0..1usize << 20).map(|at| (at >> 9) as u8).collect()))]);
        lender.lend(&Lending { shelf: &shelf, tls: None, control: &Control::new(), told: &|_| {} });
    });
    Door { socket, _dir: dir }
}

static LENDER: LazyLock<Door> = LazyLock::new(lender);

/// What a borrower sends.
pub fn client(input: &[u8]) {
    let mut stream = UnixStream::connect(&LENDER.socket).expect("the lender");
    let _ = stream.set_read_timeout(Some(WAIT));
    let _ = stream.write_all(input);
    let _ = stream.shutdown(Shutdown::Write);
    let _ = stream.read_to_end(&mut Vec::new());
    // It goes on lending.
    let borrowed = Borrowed::open(&LENDER.socket, &uri(&LENDER.socket), None, false).expect("it still lends");
    let mut sector = [0; 512];
    borrowed.read_at(512, &mut sector).expect("it still reads");
    assert_eq!(sector, [1; 512]);
}

/// What both sides say to each other when a drive is borrowed and read: the server, the client.
fn talked() -> [Vec<u8>; 2] {
    let dir = folder();
    let middle = dir.path().join("middle");
    let listener = UnixListener::bind(&middle).expect("a socket");
    let heard = Arc::new(Mutex::new([Vec::new(), Vec::new()]));
    let passed = heard.clone();
    std::thread::spawn(move || {
        let (near, _) = listener.accept().expect("somebody");
        let far = UnixStream::connect(&LENDER.socket).expect("the lender");
        let pairs = [(far.try_clone(), near.try_clone(), 0), (near.try_clone(), far.try_clone(), 1)];
        for (from, to, side) in pairs {
            let (mut from, mut to, heard) = (from.expect("a socket"), to.expect("a socket"), passed.clone());
            std::thread::spawn(move || {
                let mut buffer = vec![0; 64 << 10];
                while let Ok(count @ 1..) = from.read(&mut buffer) {
                    heard.lock().expect("what was heard")[side].extend(&buffer[..count]);
                    let _ = to.write_all(&buffer[..count]);
                }
            });
        }
    });
    look(Borrowed::open(&middle, &uri(&middle), None, false).expect("the lender"));
    std::thread::sleep(WAIT);
    let heard = heard.lock().expect("what was heard");
    heard.clone()
}

pub fn servers() -> Vec<Vec<u8>> {
    vec![talked()[0].clone()]
}

pub fn clients() -> Vec<Vec<u8>> {
    vec![talked()[1].clone()]
}

/// Answers every question with what it was told last.
fn service() -> (String, Sender<Vec<u8>>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("an address"));
    let (tell, told) = channel::<Vec<u8>>();
    std::thread::spawn(move || {
        for answer in told {
            let Ok((mut stream, _)) = listener.accept() else { return };
            let _ = stream.set_read_timeout(Some(WAIT));
            let _ = stream.read(&mut [0; 4096]);
            let _ = stream.write_all(&answer);
            let _ = stream.shutdown(Shutdown::Write);
        }
    });
    (address, tell)
}

pub fn licence_service(input: &[u8]) {
    static SERVICE: LazyLock<Mutex<(String, Sender<Vec<u8>>)>> = LazyLock::new(|| Mutex::new(service()));
    let service = SERVICE.lock().expect("the service");
    service.1.send(input.to_vec()).expect("the service");
    let patience = Patience { answer: WAIT, tries: 1, pause: Duration::ZERO };
    if let Ok(answer) = ask(&service.0, &identifier("key", "BBBBB-CCCCC-DDDDD-FFFFF-GGGGG"), &identifier("device", "tide"), Wish::Look, patience) {
        assert!(!answer.why.chars().any(char::is_control), "what it says is shown: {:?}", answer.why);
    }
}

pub fn answers() -> Vec<Vec<u8>> {
    let answer =
        |status: &str, body: &str| format!("HTTP/1.1 {status}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}", body.len());
    let all = [
        answer("200 OK", r#"{"state":"active","why":"it is active on this device","left":1}"#),
        answer("404 Not Found", r#"{"state":"unknown","why":"the service does not know this licence"}"#),
        answer("409 Conflict", r#"{"state":"refused","why":"too many devices"}"#),
        "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\n{\"sta\r\n0\r\n\r\n".to_string(),
    ];
    all.map(String::into_bytes).to_vec()
}
