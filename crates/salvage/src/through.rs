//! The drive as whoever looks for what matters first sees it: what is read is saved as it is read, and nothing is read twice.

use badger_drive::medium::inside;
use badger_drive::{Geometry, Identity, Medium, ReadError, Source};
use std::ops::Range;
use std::sync::Mutex;
use std::sync::mpsc::{Receiver, Sender, channel};

/// A read that somebody waits for.
pub(crate) struct Wanted {
    pub range: Range<u64>,
    pub answer: Sender<Result<Vec<u8>, ReadError>>,
}

/// See the module.
pub(crate) struct Through {
    identity: Identity,
    geometry: Geometry,
    wants: Mutex<Sender<Wanted>>,
}

impl Through {
    /// Over a drive; what is wanted comes out at the other end.
    pub fn new(drive: &Source) -> (Self, Receiver<Wanted>) {
        let (wants, wanted) = channel();
        (Self { identity: drive.identity().clone(), geometry: drive.geometry(), wants: Mutex::new(wants) }, wanted)
    }
}

impl Medium for Through {
    fn geometry(&self) -> Geometry {
        self.geometry
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        let end = inside(offset, buf.len(), self.geometry.size_bytes)?;
        let gone = || ReadError::Gone("the run ended".into());
        let (answer, answered) = channel();
        self.wants.lock().expect("wants lock").send(Wanted { range: offset..end, answer }).map_err(|_| gone())?;
        let bytes = answered.recv().map_err(|_| gone())??;
        let good = bytes.len().min(buf.len());
        buf[..good].copy_from_slice(&bytes[..good]);
        match offset + good as u64 {
            at if at < end => Err(ReadError::Unreadable { offset: at, len: end - at, why: "it is not salvaged yet".into() }),
            _ => Ok(()),
        }
    }
}
