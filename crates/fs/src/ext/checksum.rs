//! The checksums of ext4: CRC-32C over most structures, CRC-16 over the descriptors of older volumes.

use badger_drive::field::le16;

/// CRC-32C as ext4 counts it: begun with `seed`, never inverted.
pub fn crc32c(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// The checksum of an inode, and whether it has room for all of it; the fields of the checksum count as zero.
pub fn inode(seed: u32, bytes: &[u8]) -> (u32, bool) {
    let wide = bytes.len() > 128 && le16(bytes, 128) >= 4;
    let mut bytes = bytes.to_vec();
    bytes[124..126].fill(0);
    if wide {
        bytes[130..132].fill(0);
    }
    (crc32c(seed, &bytes), wide)
}

/// The checksum of a block of attributes that stands at block `number`.
pub fn attributes(seed: u32, number: u64, bytes: &[u8]) -> u32 {
    let head = crc32c(crc32c(crc32c(seed, &number.to_le_bytes()), &bytes[..16]), &[0; 4]);
    crc32c(head, &bytes[20..])
}

/// The CRC-32 that goes over whole transactions of older journals: from the highest bit on, never inverted.
#[derive(Clone, Copy)]
pub struct Crc32(u32);

const OLD: crc::Crc<u32> = crc::Crc::<u32>::new(&crc::CRC_32_MPEG_2);

/// That checksum over `bytes`.
pub fn crc32_whole(bytes: &[u8]) -> Crc32 {
    Crc32(u32::MAX).over(bytes)
}

impl Crc32 {
    /// Gone on with over more bytes.
    pub fn over(self, bytes: &[u8]) -> Self {
        let mut digest = OLD.digest_with_initial(self.0);
        digest.update(bytes);
        Self(digest.finalize())
    }

    /// Its value.
    pub fn value(self) -> u32 {
        self.0
    }
}

/// CRC-16 as the descriptors of older volumes carry it, over all parts one after the other.
pub fn crc16(parts: &[&[u8]]) -> u16 {
    const CRC: crc::Crc<u16> = crc::Crc::<u16>::new(&crc::CRC_16_MODBUS);
    let mut digest = CRC.digest();
    parts.iter().for_each(|part| digest.update(part));
    digest.finalize()
}
