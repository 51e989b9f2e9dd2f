//! Asks the emulator, by its published control protocol: a line of JSON each way.

use serde_json::{Value, json};
use std::io::{self, BufRead, BufReader, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::time::{Duration, Instant};

/// An answer is no longer than this, in bytes.
const MOST: u64 = 1 << 20;
/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// A line to the emulator.
pub struct Monitor {
    out: UnixStream,
    back: BufReader<UnixStream>,
    /// Why it ended, as it said itself.
    pub ended: Option<String>,
}

impl Monitor {
    /// Waits until the emulator listens.
    pub fn open(path: &Path, patience: Duration) -> io::Result<Self> {
        let begun = Instant::now();
        let out = loop {
            match UnixStream::connect(path) {
                Ok(stream) => break stream,
                Err(error) if begun.elapsed() > patience => return Err(error),
                Err(_) => std::thread::sleep(Duration::from_millis(50)),
            }
        };
        out.set_read_timeout(Some(PATIENCE))?;
        out.set_write_timeout(Some(PATIENCE))?;
        let back = BufReader::new(out.try_clone()?);
        let mut monitor = Self { out, back, ended: None };
        monitor.line()?;
        monitor.ask("qmp_capabilities", &json!({}))?;
        Ok(monitor)
    }

    fn line(&mut self) -> io::Result<Value> {
        let mut text = String::new();
        if io::Read::take(&mut self.back, MOST).read_line(&mut text)? == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        Ok(serde_json::from_str(&text)?)
    }

    /// Asks, and waits for the answer; what happened meanwhile is kept.
    pub fn ask(&mut self, what: &str, arguments: &Value) -> io::Result<Value> {
        let mut text = json!({ "execute": what, "arguments": arguments }).to_string();
        text.push('\n');
        self.out.write_all(text.as_bytes())?;
        loop {
            let mut line = self.line()?;
            if line["event"] == "SHUTDOWN" {
                self.ended = line["data"]["reason"].as_str().map(str::to_string);
            }
            if let Some(error) = line.get("error") {
                return Err(io::Error::other(error["desc"].as_str().unwrap_or("it does not say why").to_string()));
            }
            if line.get("return").is_some() {
                return Ok(line["return"].take());
            }
        }
    }

    /// Hears what it still says, after it ended.
    pub fn last_words(&mut self) {
        let _ = self.out.set_read_timeout(Some(Duration::from_millis(300)));
        while let Ok(line) = self.line() {
            if line["event"] == "SHUTDOWN" {
                self.ended = line["data"]["reason"].as_str().map(str::to_string);
            }
        }
    }
}
