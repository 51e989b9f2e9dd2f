//! The handle that can only read.

use crate::claims::Claim;
use crate::clock::Clock;
use crate::control::Control;
use crate::flight::Flight;
use crate::ground::Ground;
use crate::identity::Identity;
use crate::medium::{Geometry, Medium, ReadError, Stretch};
use crate::patience::Patience;
use crate::refusal::Refusal;
use crate::standing::Standing;
use std::fs::File;
use std::os::fd::OwnedFd;
use std::sync::{Arc, RwLock};
use std::time::Duration;

/// A drive that is read and never written to: there is no method that could.
#[derive(Clone)]
pub struct Source {
    medium: Arc<Heeding>,
    ground: Arc<Ground>,
}

/// A drive that gives nothing more once a run was told to stop, so that no walk over it goes on, and that nobody waits for
/// without end.
struct Heeding {
    inner: Arc<dyn Medium>,
    patience: RwLock<Patience>,
}

impl Heeding {
    fn is_stopped(&self) -> bool {
        self.patience.read().expect("patience lock").control.as_ref().is_some_and(Control::is_stopped)
    }

    fn patience(&self) -> Patience {
        self.patience.read().expect("patience lock").clone()
    }
}

impl Medium for Heeding {
    fn geometry(&self) -> Geometry {
        self.inner.geometry()
    }
    fn identity(&self) -> &Identity {
        self.inner.identity()
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read_within(offset, buf, &self.patience())
    }
    fn read_within(&self, offset: u64, buf: &mut [u8], patience: &Patience) -> Result<(), ReadError> {
        if self.is_stopped() { Err(ReadError::Gone("the run was stopped".into())) } else { self.inner.read_within(offset, buf, patience) }
    }
    fn flight(&self, depth: u32, patience: &Patience) -> Option<Box<dyn Flight + '_>> {
        self.inner.flight(depth, patience)
    }
    fn stretch(&self, offset: u64, max: u64) -> Stretch {
        self.inner.stretch(offset, max)
    }
    fn will_read(&self, offset: u64, len: u64) {
        if !self.is_stopped() {
            self.inner.will_read(offset, len);
        }
    }
    fn standing(&self) -> Standing {
        self.inner.standing()
    }
    fn rests_on(&self) -> Vec<&File> {
        self.inner.rests_on()
    }
    fn remark(&self) -> Option<String> {
        self.inner.remark()
    }
    fn notes(&self) -> Vec<String> {
        self.inner.notes()
    }
    fn veil(&self) -> Option<String> {
        self.inner.veil()
    }
    fn peer(&self) -> Option<OwnedFd> {
        self.inner.peer()
    }
    fn present(&self) -> bool {
        !self.is_stopped() && self.inner.present()
    }
    fn clock(&self) -> Option<Arc<dyn Clock>> {
        self.inner.clock()
    }
}

impl Source {
    /// Wraps a medium; `ground` tells what it stands on, so that it is never taken for its own target.
    pub fn new(medium: Arc<dyn Medium>, ground: Ground) -> Self {
        Self { medium: Arc::new(Heeding { inner: medium, patience: RwLock::default() }), ground: Arc::new(ground) }
    }

    /// A source that stands on nothing the system knows, for data in memory.
    pub fn detached(medium: Arc<dyn Medium>) -> Self {
        Self::new(medium, Ground::default())
    }

    /// Gives nothing more, to whoever holds it, once `control` was told to stop.
    pub fn obey(&self, control: &Control) {
        self.medium.patience.write().expect("patience lock").control = Some(control.clone());
        self.medium.inner.obey(control);
    }

    /// Sets how long a single read may take, on the clock the drive lives by.
    pub fn wait_at_most(&self, limit: Duration) {
        self.medium.patience.write().expect("patience lock").limit = limit;
    }

    /// How long, and whom it obeys.
    pub fn patience(&self) -> Patience {
        self.medium.patience()
    }

    /// What it stands on.
    pub fn ground(&self) -> &Ground {
        &self.ground
    }

    /// The stable key of the drive, see [`Identity::key`].
    pub fn key(&self) -> String {
        self.identity().key(self.geometry().size_bytes)
    }

    /// Keeps every other run of this machine from writing to it as long as the claim lives.
    ///
    /// # Errors
    /// A refusal where it is the target of a run right now.
    pub fn claim(&self) -> Result<Claim, Refusal> {
        let name = self.identity().path.display();
        match Claim::take(&self.ground, false) {
            Ok(Some(claim)) => Ok(claim),
            Ok(None) => {
                let text = format!("the source {name} is being written to by another run of this program right now: wait for its end");
                Err(Refusal::new("source-claimed", text))
            }
            Err(error) => Err(Refusal::new("no-claim", format!("{name} cannot be claimed for this run: {error}"))),
        }
    }
}

impl std::ops::Deref for Source {
    type Target = dyn Medium;
    fn deref(&self) -> &Self::Target {
        &*self.medium
    }
}
