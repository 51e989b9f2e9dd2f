//! How long somebody waits for a drive.

use crate::control::Control;
use crate::error::ReadError;
use std::time::Duration;

/// The longest wait for one read where nothing else is said. The kernel itself tries a read several times, up to half a minute
/// each time, before it gives up.
pub const LONGEST: Duration = Duration::from_secs(300);

/// How often a wait looks whether it was called off.
pub(crate) const GLANCE: Duration = Duration::from_millis(50);

/// How long a read may take, and who may call it off.
#[derive(Clone)]
pub struct Patience {
    /// The longest wait, on the clock the drive lives by.
    pub limit: Duration,
    /// A stop of it calls the wait off.
    pub control: Option<Control>,
}

impl Default for Patience {
    fn default() -> Self {
        Self { limit: LONGEST, control: None }
    }
}

impl Patience {
    /// Why nobody waits any more after `waited` for a read at `offset`.
    ///
    /// # Errors
    /// [`ReadError::Gone`] where it was called off, [`ReadError::Silent`] where the limit is reached.
    pub fn check(&self, offset: u64, waited: Duration) -> Result<(), ReadError> {
        if self.control.as_ref().is_some_and(Control::is_stopped) {
            Err(ReadError::Gone("the run was stopped".into()))
        } else if waited >= self.limit {
            Err(ReadError::Silent { offset, after: self.limit })
        } else {
            Ok(())
        }
    }
}
