//! The handle that can only read.

use crate::claims::Claim;
use crate::clock::Clock;
use crate::control::Control;
use crate::ground::Ground;
use crate::identity::Identity;
use crate::medium::{Geometry, Medium, ReadError};
use crate::refusal::Refusal;
use crate::standing::Standing;
use std::fs::File;
use std::sync::{Arc, RwLock};

/// A drive that is read and never written to: there is no method that could.
#[derive(Clone)]
pub struct Source {
    medium: Arc<Heeding>,
    ground: Arc<Ground>,
}

/// A drive that gives nothing more once a run was told to stop, so that no walk over it goes on.
struct Heeding {
    inner: Arc<dyn Medium>,
    control: RwLock<Option<Control>>,
}

impl Heeding {
    fn is_stopped(&self) -> bool {
        self.control.read().expect("control lock").as_ref().is_some_and(Control::is_stopped)
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
        if self.is_stopped() { Err(ReadError::Gone("the run was stopped".into())) } else { self.inner.read_at(offset, buf) }
    }
    fn zero_run(&self, offset: u64, max: u64) -> u64 {
        self.inner.zero_run(offset, max)
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
        Self { medium: Arc::new(Heeding { inner: medium, control: RwLock::new(None) }), ground: Arc::new(ground) }
    }

    /// A source that stands on nothing the system knows, for data in memory.
    pub fn detached(medium: Arc<dyn Medium>) -> Self {
        Self::new(medium, Ground::default())
    }

    /// Gives nothing more, to whoever holds it, once `control` was told to stop.
    pub fn obey(&self, control: &Control) {
        *self.medium.control.write().expect("control lock") = Some(control.clone());
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
