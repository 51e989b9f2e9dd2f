//! A service is asked over real sockets: what it says, what it forgets to say, and what it says that makes no sense.

use badger_licences::{Book, Outage, Patience, Service, State, Wish, ask, identifier};
use rstest::rstest;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

const SAMPLE: &str = include_str!("../sample.toml");
const SHORT: Patience = Patience { answer: Duration::from_millis(700), tries: 3, pause: Duration::from_millis(20) };

/// A running service; ends with the test.
struct Running {
    place: String,
    kept: Arc<Mutex<Vec<Book>>>,
    stop: Box<dyn Fn()>,
}

impl Drop for Running {
    fn drop(&mut self) {
        (self.stop)();
    }
}

fn running(outage: Outage) -> Running {
    let service = Service::at("127.0.0.1:0", Book { outage, ..Book::parse(SAMPLE).unwrap() }).unwrap();
    let (place, stop) = (format!("http://{}", service.place().unwrap()), Box::new(service.stopper()));
    let kept = Arc::new(Mutex::new(Vec::new()));
    let keep = kept.clone();
    std::thread::spawn(move || {
        service.run(|book| {
            keep.lock().unwrap().push(book.clone());
            Ok(())
        });
    });
    Running { place, kept, stop }
}

fn key(end: &str) -> String {
    identifier("key", &format!("BBBBB-CCCCC-DDDDD-FFFFF-{end}"))
}

#[test]
fn a_licence_is_taken_from_one_device_to_another() {
    let service = running(Outage::default());
    let asked = |device: &str, wish| ask(&service.place, &key("HHHHH"), &identifier("device", device), wish, SHORT).unwrap();
    assert_eq!(asked("new", Wish::Look).state, State::Elsewhere);
    assert_eq!(asked("new", Wish::Activate).state, State::Elsewhere);
    assert!(service.kept.lock().unwrap().is_empty(), "nothing changed yet");
    assert_eq!(asked("old", Wish::Release).state, State::Free);
    let active = asked("new", Wish::Activate);
    assert_eq!((active.state, active.left), (State::Active, Some(0)));
    assert_eq!(asked("old", Wish::Look).state, State::Refused);
    assert_eq!(service.kept.lock().unwrap().len(), 2);
}

#[rstest]
#[case::turned_away(Outage { every: 2, silent_every: 0 })]
#[case::silent(Outage { every: 0, silent_every: 2 })]
fn one_that_is_not_there_now_and_then_is_asked_again(#[case] outage: Outage) {
    let service = running(outage);
    for _ in 0..4 {
        let answer = ask(&service.place, &key("JJJJJ"), &identifier("device", "desk"), Wish::Look, SHORT).unwrap();
        assert_eq!(answer.state, State::Active);
    }
}

#[rstest]
#[case::turned_away(Outage { every: 1, silent_every: 0 }, "503")]
#[case::silent(Outage { every: 0, silent_every: 1 }, "3 times")]
fn one_that_is_not_there_is_given_up(#[case] outage: Outage, #[case] says: &str) {
    let service = running(outage);
    let start = Instant::now();
    let why = ask(&service.place, &key("JJJJJ"), &identifier("device", "desk"), Wish::Look, SHORT).unwrap_err();
    assert!(why.0.contains(says), "{why}");
    assert!(start.elapsed() < Duration::from_secs(5));
}

#[test]
fn what_could_not_be_kept_was_not_done() {
    let service = Service::at("127.0.0.1:0", Book::parse(SAMPLE).unwrap()).unwrap();
    let (place, stop) = (format!("http://{}", service.place().unwrap()), service.stopper());
    let thread = std::thread::spawn(move || service.run(|_| Err(std::io::Error::other("full"))));
    let asked = |wish| ask(&place, &key("JJJJJ"), &identifier("device", "new"), wish, SHORT);
    assert!(asked(Wish::Activate).unwrap_err().0.contains("500"));
    assert_eq!(asked(Wish::Look).unwrap().state, State::Free);
    stop();
    thread.join().unwrap();
}

/// A server that says the same to everybody.
fn saying(answer: &'static [u8]) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let place = format!("http://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        for stream in listener.incoming().take(8) {
            let mut stream = stream.unwrap();
            let _ = stream.read(&mut [0; 4096]);
            let _ = stream.write_all(answer);
        }
    });
    place
}

#[rstest]
#[case::no_http(b"\0\0\0\0\0\0\0\0\n\n")]
#[case::no_json(b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello")]
#[case::another_state(b"HTTP/1.1 200 OK\r\nContent-Length: 30\r\n\r\n{\"state\":\"gratis\",\"why\":\"more\"}")]
#[case::active_but_refused(b"HTTP/1.1 409 Conflict\r\nContent-Length: 30\r\n\r\n{\"state\":\"active\",\"why\":\"here\"}")]
#[case::words_that_steer(b"HTTP/1.1 200 OK\r\nContent-Length: 36\r\n\r\n{\"state\":\"active\",\"why\":\"\\u001b[2J.\"}")]
#[case::words_that_turn_around("HTTP/1.1 200 OK\r\nContent-Length: 34\r\n\r\n{\"state\":\"active\",\"why\":\"\u{202e}here\"}".as_bytes())]
#[case::elsewhere(b"HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:1/\r\nContent-Length: 0\r\n\r\n")]
#[case::long(b"HTTP/1.1 200 OK\r\nContent-Length: 99999999999\r\n\r\n{")]
#[case::cut(b"HTTP/1.1 200 OK\r\nContent-Length: 30\r\n\r\n{\"state\":\"act")]
fn answers_that_make_no_sense_are_none(#[case] answer: &'static [u8]) {
    let place = saying(answer);
    let result = ask(&place, &key("JJJJJ"), &identifier("device", "desk"), Wish::Look, SHORT);
    assert!(result.is_err(), "{result:?}");
}

#[rstest]
#[case("ftp://127.0.0.1:1", "http://")]
#[case("https://127.0.0.1:1", "http://")]
#[case("http://127.0.0.1:1", "asked 3 times")]
fn a_place_that_is_none_is_named(#[case] place: &str, #[case] says: &str) {
    let why = ask(place, &key("JJJJJ"), &identifier("device", "desk"), Wish::Look, SHORT).unwrap_err();
    assert!(why.0.contains(says), "{why}");
}

#[test]
fn requests_that_make_no_sense_are_turned_away() {
    let service = running(Outage::default());
    let status = |request: &str| {
        let mut stream = std::net::TcpStream::connect(service.place.trim_start_matches("http://")).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        stream.write_all(request.as_bytes()).unwrap();
        let mut answer = [0; 12];
        stream.read_exact(&mut answer).unwrap();
        String::from_utf8_lossy(&answer[9..]).parse::<u16>().unwrap()
    };
    let put = |body: &str| format!("PUT /activations HTTP/1.1\r\nHost: a\r\nContent-Length: {}\r\n\r\n{body}", body.len());
    assert_eq!(status("GET /licences/x?device=y HTTP/1.1\r\nHost: a\r\n\r\n"), 400);
    assert_eq!(status("GET /../etc HTTP/1.1\r\nHost: a\r\n\r\n"), 404);
    assert_eq!(status("POST /activations HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n"), 405);
    assert_eq!(status(&put("{}")), 400);
    assert_eq!(status(&put(&"x".repeat(40_000))), 400);
    assert_eq!(status(&put(&format!("{{\"licence\":\"{}\",\"device\":\"{}\",\"more\":1}}", key("JJJJJ"), key("JJJJJ")))), 400);
}
