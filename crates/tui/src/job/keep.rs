//! What a job has of its image: the order, what was seen, the look that is waited for.

use badger_bench::Bench;
use badger_drive::{Control, Refusal};
use badger_jobs::{ImageOrder, ImageReady, ImageSight, There};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};

type Looked = Result<Box<ImageReady>, Refusal>;

/// What a job has of its image.
pub struct Keep {
    pub(super) order: ImageOrder,
    pub(super) sight: Option<ImageSight>,
    pub(super) ready: Option<Box<ImageReady>>,
    pub(super) waiting: Option<Receiver<Looked>>,
    /// Stops the look that is waited for.
    looking: Arc<Control>,
    /// The look is the last before it begins.
    pub(super) begins: bool,
}

impl Keep {
    pub(super) fn new(order: ImageOrder) -> Self {
        Self { order, sight: None, ready: None, waiting: None, looking: Arc::new(Control::new()), begins: false }
    }

    /// Looks once more before it begins; the sample that tells what it will take is not read again.
    pub(super) fn look_once_more(&mut self, bench: &Bench) {
        self.order.estimate = self.sight.as_ref().map(|sight| sight.estimate);
        self.look(bench);
        (self.order.estimate, self.begins) = (None, true);
    }

    /// Looks at the drive and at the place of the image, in the background.
    pub(super) fn look(&mut self, bench: &Bench) {
        self.looking.stop();
        self.looking = Arc::new(Control::new());
        let (send, receive) = channel();
        let (bench, order, control) = (bench.clone(), self.order.clone(), self.looking.clone());
        std::thread::spawn(move || {
            // A job that was shut meanwhile does not wait for this any more.
            let _ = send.send(order.prepare(&bench, &control).map(Box::new));
        });
        self.waiting = Some(receive);
    }

    pub(super) fn is_waiting(&self) -> bool {
        self.waiting.is_some()
    }
}

/// Whether there is an unfinished image that may be given up.
pub(super) fn may_begin_anew(keep: &Keep, refusal: Option<&Refusal>) -> bool {
    keep.sight.as_ref().is_some_and(|sight| sight.there != There::Nothing) || refusal.is_some_and(|refusal| refusal.code == "image-unbegun")
}

/// Where an image goes where nobody says it: a name that is free, of the drive's own.
pub fn usual_file(bench: &Bench, model: &str, serial: &str) -> PathBuf {
    let dir = bench.config.destination.clone().or_else(|| bench.ledger.parent().map(Path::to_path_buf)).unwrap_or_default();
    let safe = |text: &str| text.chars().map(|c| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { '-' }).collect::<String>();
    let name = [safe(model), safe(serial)].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("-");
    let free = |path: &PathBuf| std::fs::symlink_metadata(path).is_err();
    let names = std::iter::once(format!("{name}.zbi")).chain((2..1000).map(|number| format!("{name}-{number}.zbi")));
    names.map(|name| dir.join(name)).find(free).unwrap_or_else(|| dir.join(format!("{name}.zbi")))
}
