//! The key that makers put into a machine's firmware: the ACPI table `MSDM` (Microsoft's published "Microsoft Software Licensing Tables",
//! the head by the ACPI specification). Only the machine itself has it; it is not on any drive.

use badger_drive::field::le32;

/// Where a running system shows it.
pub const HERE: &str = "/sys/firmware/acpi/tables/MSDM";
/// Bytes of every table's head, and of what stands before the key.
const HEAD: usize = 36;
const BEFORE: usize = 20;
/// Letters of a key with its strokes.
const KEY: usize = 29;
/// A table is no longer than this.
const MOST: usize = 4096;

/// The key in a table; `None` where it has another kind of data.
///
/// # Errors
/// Why it is no such table, or where it is damaged.
pub fn read(table: &[u8]) -> Result<Option<String>, String> {
    if !table.starts_with(b"MSDM") || table.len() < HEAD + BEFORE {
        return Err("it is no table of licences".into());
    }
    let len = le32(table, 4) as usize;
    let table = table.get(..len).filter(|table| (HEAD + BEFORE..=MOST).contains(&table.len())).ok_or("it is cut off")?;
    if table.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)) != 0 {
        return Err("its checksum is wrong".into());
    }
    let (version, kind, size) = (le32(table, HEAD), le32(table, HEAD + 8), le32(table, HEAD + 16) as usize);
    if version != 1 || kind != 1 || size != KEY {
        return Ok(None);
    }
    let key = table.get(HEAD + BEFORE..HEAD + BEFORE + KEY).ok_or("it is cut off")?;
    let is_key =
        key.iter().enumerate().all(|(at, byte)| if at % 6 == 5 { *byte == b'-' } else { byte.is_ascii_uppercase() || byte.is_ascii_digit() });
    Ok(is_key.then(|| String::from_utf8_lossy(key).into_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn table(key: &[u8]) -> Vec<u8> {
        let len = (HEAD + BEFORE + key.len()) as u32;
        let mut out = [b"MSDM".as_slice(), &len.to_le_bytes(), &[3, 0], b"SAMPLEWORKSHOP", &[0; 12]].concat();
        for value in [1u32, 0, 1, 0, key.len() as u32] {
            out.extend(value.to_le_bytes());
        }
        out.extend(key);
        out[9] = 0u8.wrapping_sub(out.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)));
        out
    }

    #[test]
    fn a_key_is_read_and_a_damaged_table_is_told() {
        let key = "BBBBB-CCCCC-DDDDD-FFFFF-GGGGG";
        let whole = table(key.as_bytes());
        assert_eq!(read(&whole), Ok(Some(key.into())));
        assert_eq!(read(&table(b"other")), Ok(None));
        assert_eq!(read(&table(&[0xff; KEY])), Ok(None));
        for at in 0..whole.len() {
            let mut damaged = whole.clone();
            damaged[at] ^= 1;
            assert!(read(&damaged).is_err(), "{at}");
            assert!(read(&whole[..at]).is_err(), "{at}");
        }
    }

    proptest! {
        #[test]
        fn hostile_tables_are_refused_or_read(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let bytes = [b"MSDM".as_slice(), &bytes].concat();
            if let Ok(Some(key)) = read(&bytes) {
                prop_assert_eq!(key.len(), KEY);
            }
        }
    }
}
