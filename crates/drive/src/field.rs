//! Checked reads of numbers out of raw bytes: what lies outside reads as zero, never as a panic.

#[inline]
fn take<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    let mut out = [0; N];
    if let Some(found) = at.checked_add(N).and_then(|end| bytes.get(at..end)) {
        out.copy_from_slice(found);
    }
    out
}

/// Little-endian 16 bits at byte `at`.
#[inline]
pub fn le16(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes(take(bytes, at))
}

/// Little-endian 32 bits at byte `at`.
#[inline]
pub fn le32(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(take(bytes, at))
}

/// Little-endian 64 bits at byte `at`.
#[inline]
pub fn le64(bytes: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(take(bytes, at))
}

/// Big-endian 16 bits at byte `at`.
#[inline]
pub fn be16(bytes: &[u8], at: usize) -> u16 {
    u16::from_be_bytes(take(bytes, at))
}

/// Big-endian 32 bits at byte `at`.
#[inline]
pub fn be32(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes(take(bytes, at))
}

/// Big-endian 64 bits at byte `at`.
#[inline]
pub fn be64(bytes: &[u8], at: usize) -> u64 {
    u64::from_be_bytes(take(bytes, at))
}

/// `N` bytes at `at`.
#[inline]
pub fn array<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    take(bytes, at)
}
