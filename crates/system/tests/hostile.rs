//! Bytes that mean ill: nothing panics, nothing goes round for ever, nothing takes memory without end.

use badger_system::archive::{self, Wrong};
use badger_system::licence::decoded;
use badger_system::linux::specified;
use badger_system::pe::Program;
use badger_system::store::Device;
use proptest::prelude::*;
use std::io::Write;
use std::process::{Command, Stdio};
use std::sync::OnceLock;

/// An archive that the system's own tool made, plain and packed.
fn archives() -> &'static [Vec<u8>; 6] {
    static MADE: OnceLock<[Vec<u8>; 6]> = OnceLock::new();
    MADE.get_or_init(|| {
        let dir = tempfile::tempdir().unwrap();
        let lib = dir.path().join("lib/modules/6.1/kernel/drivers");
        std::fs::create_dir_all(&lib).unwrap();
        for name in ["ahci.ko", "nvme.ko.xz", "usb-storage.ko.zst", "readme.txt"] {
            std::fs::write(lib.join(name), vec![7; 3000]).unwrap();
        }
        let pack = format!("cd {} && find . | cpio -o -H newc 2>/dev/null", dir.path().display());
        let plain = Command::new("bash").args(["-c", &pack]).output().unwrap().stdout;
        let through = |program: &str, args: &[&str]| {
            let mut child = Command::new(program).args(args).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
            child.stdin.take().unwrap().write_all(&plain).unwrap();
            child.wait_with_output().unwrap().stdout
        };
        let packed = through("gzip", &["-c"]);
        // As it is with early microcode: a plain one, then a packed one.
        let both = [plain.clone(), vec![0; 700], packed.clone()].concat();
        // As the system's tools pack it; behind xz something may follow.
        let dense = [through("xz", &["-c", "--check=crc32", "--block-size=4096"]), through("xz", &["-c"]), plain.clone()].concat();
        let fast = [through("lz4", &["-l", "-c"]), vec![0; 300]].concat();
        let newest = through("zstd", &["-q", "-c"]);
        [plain, packed, both, dense, fast, newest]
    })
}

#[test]
fn archives_of_the_system_are_read() {
    for bytes in archives() {
        let found = archive::read(bytes).unwrap();
        let modules = found.modules();
        for name in ["ahci", "nvme", "usb-storage"] {
            assert!(modules.contains(&name), "{modules:?}");
        }
        assert!(!modules.contains(&"readme"));
        assert!(archive::read(&bytes[..bytes.len() / 2]).is_err());
    }
    assert!(archive::read(&[]).is_err() && archive::read(&[0; 4096]).is_err());
}

/// Of more files than anybody has it is not known whether they are whole; that is no damage.
#[test]
fn more_files_than_any_are_not_called_damaged() {
    let one = format!("070701{}", "00000000".repeat(11) + "00000002" + "00000000");
    let one = [one.as_bytes(), b"a\0"].concat();
    assert_eq!(one.len() % 4, 0);
    let all = |count: usize| [one.repeat(count), format!("070701{}0000000b00000000TRAILER!!!\0\0\0\0", "00000000".repeat(11)).into_bytes()].concat();
    assert_eq!(archive::read(&all(200_000)).unwrap().names.len(), 200_000);
    assert_eq!(archive::read(&all(200_001)), Err(Wrong::Beyond("files")));
}

/// What unpacks to more than any is not unpacked to be found out.
#[test]
fn what_would_fill_the_memory_is_not_unpacked() {
    let script = "head -c 700M /dev/zero | xz -0 -T1 -c";
    let bomb = Command::new("bash").args(["-c", script]).output().unwrap().stdout;
    assert!(bomb.len() < 1 << 20);
    assert_eq!(archive::read(&bomb), Err(Wrong::Beyond("bytes, unpacked,")));
    let other = Command::new("bash").args(["-c", "head -c 100000 /dev/zero | xz --x86 --lzma2 -c"]).output().unwrap().stdout;
    assert!(archive::read(&other).unwrap().unread.is_some());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 500, ..ProptestConfig::default() })]

    #[test]
    fn damaged_archives_are_survived(which in 0..6usize, places in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..20)) {
        let mut bytes = archives()[which].clone();
        for (place, byte) in places {
            let at = place.index(bytes.len());
            bytes[at] = byte;
        }
        let _ = archive::read(&bytes);
    }

    #[test]
    fn programs_of_any_bytes_are_survived(mut bytes in prop::collection::vec(any::<u8>(), 0..2000), at in 0..200u32) {
        if bytes.len() > 300 {
            bytes[..2].copy_from_slice(b"MZ");
            bytes[0x3c..0x40].copy_from_slice(&at.to_le_bytes());
            bytes[at as usize..at as usize + 4].copy_from_slice(b"PE\0\0");
        }
        if let Ok(program) = Program::read(&bytes) {
            for (name, _) in &program.sections {
                let _ = program.section(&bytes, name);
            }
        }
    }

    #[test]
    fn configurations_of_any_text_are_survived(text in "[a-z '\"{}\\\\\n$()=#;/-]{0,400}") {
        let _ = specified(&text);
    }

    #[test]
    fn devices_and_keys_of_any_bytes_are_survived(bytes in prop::collection::vec(any::<u8>(), 0..120)) {
        if let Some(device) = Device::read(&bytes)
            && let Some(written) = device.write()
        {
            prop_assert_eq!(Device::read(&written), Some(device));
        }
        if let Some(key) = decoded(&bytes) {
            prop_assert_eq!(key.len(), 29);
        }
    }
}
