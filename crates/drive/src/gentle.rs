//! The kernel's own retries. A read that a SCSI, SATA or USB disk fails is sent again five times before anybody hears of it, and each
//! of these may be a drive's last: whoever salvages decides himself what is tried again, and when.

use crate::sysfs::Sysfs;
use std::fs;
use std::path::PathBuf;

/// While this lives the kernel passes the failure of a drive's command on at once; then it does again what it did before.
#[derive(Debug)]
pub struct Gentle {
    knob: PathBuf,
    before: String,
}

impl Sysfs {
    /// Asks the kernel not to try again by itself on a drive. `None` where there is no such knob (NVMe, recorded trees), where it may not be
    /// turned, or where it is turned already.
    pub fn gentle(&self, (major, minor): (u32, u32)) -> Option<Gentle> {
        if !self.live() {
            return None;
        }
        let disks = fs::read_dir(self.device_dir(major, minor)?.join("device/scsi_disk")).ok()?;
        let knob = disks.flatten().next()?.path().join("max_retries");
        let before = self.text(&knob).filter(|before| before != "0")?;
        fs::write(&knob, "0").ok()?;
        Some(Gentle { knob, before })
    }
}

impl Drop for Gentle {
    fn drop(&mut self) {
        // A drive that is not there any more has no knob either.
        let _ = fs::write(&self.knob, &self.before);
    }
}
