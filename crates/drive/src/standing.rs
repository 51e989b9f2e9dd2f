//! What the system says of a drive that is open.

use serde::{Deserialize, Serialize};

/// What the system says of an open drive, as long as it is attached or the file is there.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Standing {
    /// The number the kernel gave this medium when it appeared.
    pub sequence: Option<u64>,
    /// Sectors of 512 bytes written to it since then, by anybody.
    pub written: Option<u64>,
    /// Device and inode of the file, or of the file under it.
    pub node: Option<(u64, u64)>,
    /// When that file, or what the system keeps of it, changed last: seconds and nanoseconds since 1970. Nobody can set this.
    pub changed: Option<(i64, i64)>,
}

impl Standing {
    /// Whether anybody wrote to the drive or file between two looks at it, `then` and this one; `None` where the system does not say.
    pub fn written_since(&self, then: &Self) -> Option<bool> {
        let counted = (self.sequence == then.sequence).then(|| then.written.zip(self.written)).flatten().map(|(then, now)| then != now);
        let dated = then.changed.zip(self.changed).map(|(then, now)| then != now);
        match (counted, dated) {
            (Some(one), Some(other)) => Some(one || other),
            (one, other) => one.or(other),
        }
    }
}
