//! Whether a drive is still the one that was shown, or that an unfinished run read: asked of the open drive itself.

use crate::medium::{Geometry, Medium};
use crate::sounding::{NARROW, Sounding};
use crate::standing::{Since, Standing};
use serde::{Deserialize, Serialize};

/// Everything by which a drive is known again.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Witness {
    /// What it says it is.
    pub model: String,
    /// Its serial.
    pub serial: String,
    /// Bytes.
    pub size_bytes: u64,
    /// Bytes of a logical sector.
    pub sector: u32,
    /// What the system said of it.
    pub standing: Standing,
    /// Since when the system counts; sequences and counts mean nothing under another start of it.
    pub boot: String,
    /// What it held.
    pub sounding: Sounding,
}

/// Names this start of the system; sequences and counts mean nothing under another one.
pub fn boot() -> String {
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default().trim().to_string()
}

/// What became of a drive since the system said `then` of it, under the start of the system `boot`. A drive may have been taken out since, and
/// the system started again: then it counts from another beginning, and only inodes and times of files still tell.
pub fn since(then: &Standing, boot: &str, now: &Standing) -> Since {
    let counts_on = boot == self::boot() && then.sequence.is_some() && then.sequence == now.sequence;
    // Device numbers mean nothing under another start of the system.
    let inode = |of: &Standing| of.node.map(|(_, inode)| (0, inode));
    let kept = |of: &Standing| Standing { sequence: None, written: of.written.filter(|_| counts_on), node: inode(of), changed: of.changed };
    kept(now).since(&kept(then))
}

impl Witness {
    /// What became of the drive since, as far as the system says.
    pub fn since(&self, drive: &dyn Medium) -> Since {
        since(&self.standing, &self.boot, &drive.standing())
    }

    /// Looks at an open drive; `more` are bytes whose places are looked at besides.
    pub fn of(drive: &dyn Medium, more: &[u64]) -> Self {
        let (identity, Geometry { size_bytes, logical_sector, .. }) = (drive.identity(), drive.geometry());
        Self {
            model: identity.model.clone(),
            serial: identity.serial.clone(),
            size_bytes,
            sector: logical_sector,
            standing: drive.standing(),
            boot: boot(),
            sounding: Sounding::take(drive, NARROW, more),
        }
    }

    /// Compares with the open drive as it is now. How many places were compared.
    ///
    /// # Errors
    /// What differs, in words.
    pub fn holds(&self, drive: &dyn Medium) -> Result<usize, String> {
        self.is_of(drive)?;
        match since(&self.standing, &self.boot, &drive.standing()) {
            Since::Written => return Err("something was written to it since".into()),
            Since::Unseen => return Err("whether something was written to it since is not to be seen".into()),
            Since::Same | Since::Silent => {}
        }
        let (compared, differ) = self.sounding.compare(drive);
        match differ.first() {
            Some(at) => Err(format!("it holds other bytes in {} of {compared} places, the first at byte {at}", differ.len())),
            None => Ok(compared),
        }
    }

    /// Whether it is the same drive or file, whatever it holds by now: of one that is in use nothing more can be said.
    ///
    /// # Errors
    /// What differs, in words.
    pub fn is_of(&self, drive: &dyn Medium) -> Result<(), String> {
        let (identity, geometry, now) = (drive.identity(), drive.geometry(), drive.standing());
        if (&identity.model, &identity.serial) != (&self.model, &self.serial) {
            return Err(format!("it is {} {}, not {} {}", identity.model, identity.serial, self.model, self.serial));
        }
        if (geometry.size_bytes, geometry.logical_sector) != (self.size_bytes, self.sector) {
            return Err(format!(
                "it has {} bytes in sectors of {}, not {} in sectors of {}",
                geometry.size_bytes, geometry.logical_sector, self.size_bytes, self.sector
            ));
        }
        let then = &self.standing;
        let same_boot = self.boot == boot();
        let differs = |then: Option<(u64, u64)>, now: Option<(u64, u64)>| match (then, now) {
            (Some(then), Some(now)) => then.1 != now.1 || same_boot && then.0 != now.0,
            (then, now) => then.is_some() != now.is_some(),
        };
        if differs(then.node, now.node) {
            return Err("another file has come into its place".into());
        }
        Ok(())
    }

    /// The same for a drive that must not even have been taken out since.
    ///
    /// # Errors
    /// What differs, in words.
    pub fn holds_still(&self, drive: &dyn Medium) -> Result<usize, String> {
        if drive.standing().sequence != self.standing.sequence {
            return Err("the medium was changed".into());
        }
        self.holds(drive)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn file(device: u64, inode: u64, changed: i64) -> Standing {
        Standing { node: Some((device, inode)), changed: Some((changed, 0)), ..Standing::default() }
    }

    #[rstest]
    #[case::at_rest(file(5, 3, 40), Since::Same)]
    #[case::under_another_device_number(file(6, 3, 40), Since::Same)]
    #[case::another_file_of_the_same_time(file(5, 4, 40), Since::Unseen)]
    #[case::written_to(file(5, 3, 41), Since::Written)]
    fn files_are_known_by_inode_and_time_under_any_start_of_the_system(#[case] now: Standing, #[case] expected: Since) {
        for boot in [boot(), "another start".into()] {
            assert_eq!(since(&file(5, 3, 40), &boot, &now), expected);
        }
    }
}
