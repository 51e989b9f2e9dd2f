//! VDI, dynamic and fixed: a header, a map of blocks, and the blocks. Follows the layout of its header as it is published with
//! the sources of the virtual machine that made it.

use crate::held::Held;
use crate::layer::{Layer, Place, Result, Wrong};
use crate::parts::{Opened, files};
use badger_drive::field::{le32, le64};
use std::path::Path;
use std::sync::Arc;

/// Marks the header, at byte 64.
pub(super) const SIGNATURE: u32 = 0xbeda_107f;
/// Blocks that were given up, and those that never were: both are zero.
const GIVEN_UP: u32 = 0xffff_fffe;

struct Vdi {
    files: Arc<Vec<Held>>,
    size: u64,
    block: u64,
    map: u64,
    data: u64,
    /// Bytes in front of each block that are not the drive's.
    extra: u64,
    blocks: u64,
}

pub(super) fn open(path: &Path) -> Result<Opened> {
    let files = files(&[path.to_path_buf()])?;
    let head = files[0].bytes(0, 512)?;
    let (version, kind) = (le32(&head, 68), le32(&head, 76));
    if version >> 16 != 1 {
        return Err(Wrong::new(format!("its version {}.{} is not known", version >> 16, version & 0xffff)));
    }
    if !matches!(kind, 1 | 2) {
        return Err(Wrong::new("it holds only what changed on another image, which this program does not put together: merge them first"));
    }
    let (block, blocks) = (u64::from(le32(&head, 376)), u64::from(le32(&head, 384)));
    let size = le64(&head, 368);
    if !block.is_power_of_two() || !(4096..=256 << 20).contains(&block) || size > block.saturating_mul(blocks) {
        return Err(Wrong::new(format!("its header contradicts itself: {size} bytes in {blocks} blocks of {block}")));
    }
    let (map, data, extra) = (u64::from(le32(&head, 340)), u64::from(le32(&head, 344)), u64::from(le32(&head, 380)));
    let layer = Vdi { files: files.clone(), size, block, map, data, extra, blocks };
    Ok(Opened { layer: Box::new(layer), files, below: None, link: None })
}

impl Layer for Vdi {
    fn size(&self) -> u64 {
        self.size
    }
    fn locate(&self, offset: u64, max: u64) -> Result<(u64, Place)> {
        let (number, inner) = (offset / self.block, offset % self.block);
        let len = (self.block - inner).min(max);
        if number >= self.blocks {
            return Ok((len, Place::Zero));
        }
        let entry = le32(&self.files[0].bytes(self.map + number * 4, 4)?, 0);
        if entry >= GIVEN_UP {
            return Ok((len, Place::Zero));
        }
        let before = u64::from(entry).saturating_mul(self.block + self.extra);
        Ok((len, Place::File { file: 0, at: self.data.saturating_add(before).saturating_add(self.extra + inner) }))
    }
}
