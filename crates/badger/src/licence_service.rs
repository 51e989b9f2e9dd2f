//! `badger licence-service`: a simulated licence service, to practise a move of a licence with.

use crate::follow::obey_signals;
use crate::{Common, code};
use badger_bench::sheet::put_in_place;
use badger_drive::{Control, Refusal};
use badger_licences::{Book, SAMPLE, Service};
use clap::Args;
use std::fs;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// Books are no longer than this, in bytes.
const MOST: u64 = 16 << 20;

/// `badger licence-service`.
#[derive(Args, Clone)]
pub struct ServiceArgs {
    /// Its book, which is kept up to date; without one the sample is taken, and forgotten
    pub book: Option<PathBuf>,
    /// Where it is asked; port 0 takes a free one
    #[arg(long, value_name = "ADDR:PORT", default_value_t = SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), 8380))]
    pub listen: SocketAddr,
    /// Write the sample book to standard output, to be edited
    #[arg(long)]
    pub sample: bool,
}

/// `badger licence-service`.
pub fn serve(args: &ServiceArgs, common: &Common) -> Result<u8, Refusal> {
    if args.sample {
        tell_part!("{SAMPLE}");
        return Ok(code::DONE);
    }
    let refused = |path: &Path, why: String| Refusal::new("no-book", format!("{}: {why}", path.display()));
    let book = match &args.book {
        None => Book::parse(SAMPLE).map_err(|why| Refusal::new("no-book", why))?,
        Some(path) => {
            let meta = fs::metadata(path).map_err(|error| refused(path, format!("{error}; --sample writes one to start from")))?;
            // A device or a pipe says that it has nothing, and may never end.
            if !meta.is_file() {
                return Err(refused(path, "it is no file".into()));
            }
            let len = meta.len();
            if len > MOST {
                return Err(refused(path, format!("it has {len} bytes: that is no book")));
            }
            fs::read_to_string(path).map_err(|error| error.to_string()).and_then(|text| Book::parse(&text)).map_err(|why| refused(path, why))?
        }
    };
    let service = Service::at(args.listen, book)
        .map_err(|error| Refusal::new("not-served", format!("nobody can ask at {}: {error}; --listen names another place", args.listen)))?;
    let place = service.place().unwrap_or(args.listen);
    if common.json || common.events {
        tell_part!("{}\n", serde_json::json!({ "event": "serves", "service": format!("http://{place}") }));
    } else {
        tell!("http://{place}  a simulated licence service, until it is stopped");
    }
    let (control, stop) = (Arc::new(Control::new()), service.stopper());
    obey_signals(control.clone());
    std::thread::spawn(move || {
        while !control.is_stopped() {
            std::thread::sleep(Duration::from_millis(50));
        }
        stop();
    });
    service.run(|book| args.book.as_deref().map_or(Ok(()), |path| put_in_place(path, book.text().as_bytes())));
    Ok(code::DONE)
}
