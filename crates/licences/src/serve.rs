//! A simulated service.

use crate::{Answer, Book, State, Wish, is_identifier};
use serde::Deserialize;
use std::io::{self, Read};
use std::net::{SocketAddr, ToSocketAddrs};
use std::sync::Arc;
use std::time::Duration;
use tiny_http::{Header, Method, Request, Response, Server};

/// Requests are no longer than this, in bytes.
const MOST: u64 = 16 << 10;
/// One that is not answered is held so long.
const SILENCE: Duration = Duration::from_secs(30);
/// So many of these are held.
const MOST_HELD: usize = 64;

/// Answers out of a book until it is stopped.
pub struct Service {
    server: Arc<Server>,
    book: Book,
    asked: u32,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Asked {
    licence: String,
    device: String,
}

/// What a request asks, or which status it gets.
fn read(request: &mut Request) -> Result<(Asked, Wish), u16> {
    let wish = match request.method() {
        Method::Get => Wish::Look,
        Method::Put => Wish::Activate,
        Method::Delete => Wish::Release,
        _ => return Err(405),
    };
    let asked = if wish == Wish::Look {
        let (path, device) = request.url().split_once("?device=").ok_or(404u16)?;
        Asked { licence: path.strip_prefix("/licences/").ok_or(404u16)?.into(), device: device.into() }
    } else {
        if request.url() != "/activations" {
            return Err(404);
        }
        let mut text = String::new();
        request.as_reader().take(MOST).read_to_string(&mut text).map_err(|_| 400u16)?;
        serde_json::from_str(&text).map_err(|_| 400u16)?
    };
    if is_identifier(&asked.licence) && is_identifier(&asked.device) { Ok((asked, wish)) } else { Err(400) }
}

impl Service {
    /// Listens at an address.
    ///
    /// # Errors
    /// Nobody can come in there.
    pub fn at(place: impl ToSocketAddrs, book: Book) -> io::Result<Self> {
        Ok(Self { server: Arc::new(Server::http(place).map_err(io::Error::other)?), book, asked: 0 })
    }

    /// Where it listens.
    pub fn place(&self) -> Option<SocketAddr> {
        self.server.server_addr().to_ip()
    }

    /// Ends [`Service::run`], from another thread.
    pub fn stopper(&self) -> impl Fn() + Send + Sync + use<> {
        let server = self.server.clone();
        move || server.unblock()
    }

    /// Answers until it is stopped; `kept` takes the book each time it changed, before that is answered.
    pub fn run(mut self, mut kept: impl FnMut(&Book) -> io::Result<()>) {
        let mut held: Vec<(std::time::Instant, Request)> = Vec::new();
        let (server, outage) = (self.server.clone(), self.book.outage);
        for mut request in server.incoming_requests() {
            self.asked = self.asked.wrapping_add(1);
            held.retain(|(since, _)| since.elapsed() < SILENCE);
            if outage.silent_every > 0 && self.asked.is_multiple_of(outage.silent_every) && held.len() < MOST_HELD {
                held.push((std::time::Instant::now(), request));
                continue;
            }
            let (status, answer) = match read(&mut request) {
                _ if outage.every > 0 && self.asked.is_multiple_of(outage.every) => (503, None),
                Err(status) => (status, None),
                Ok((asked, wish)) => {
                    let before = self.book.clone();
                    let (answer, is_changed) = self.book.answer(&asked.licence, &asked.device, wish);
                    if is_changed && kept(&self.book).is_err() {
                        // What could not be kept was not done.
                        self.book = before;
                        (500, None)
                    } else {
                        (status(&answer), Some(answer))
                    }
                }
            };
            let text = answer.and_then(|answer| serde_json::to_string(&answer).ok()).unwrap_or_default();
            let json: Option<Header> = "Content-Type: application/json".parse().ok();
            let mut response = Response::from_string(text).with_status_code(status);
            json.into_iter().for_each(|header| response.add_header(header));
            // Whoever asked may be gone.
            let _ = request.respond(response);
        }
    }
}

fn status(answer: &Answer) -> u16 {
    match answer.state {
        State::Active | State::Free | State::Elsewhere => 200,
        State::Refused => 409,
        State::Unknown => 404,
    }
}
