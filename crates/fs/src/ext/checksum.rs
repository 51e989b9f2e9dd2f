//! The checksums of ext4: CRC-32C over most structures, CRC-16 over the descriptors of older volumes.

/// CRC-32C as ext4 counts it: begun with `seed`, never inverted.
pub fn crc32c(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// CRC-16 as the descriptors of older volumes carry it, over all parts one after the other.
pub fn crc16(parts: &[&[u8]]) -> u16 {
    const CRC: crc::Crc<u16> = crc::Crc::<u16>::new(&crc::CRC_16_MODBUS);
    let mut digest = CRC.digest();
    parts.iter().for_each(|part| digest.update(part));
    digest.finalize()
}
