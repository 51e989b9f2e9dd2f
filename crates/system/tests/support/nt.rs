//! Files of a system of the NT family as far as its start and its licence are looked at, made out of the published layouts: none of them runs.
#![allow(dead_code)] // every test uses a part of it

use badger_system::registry::{Edit, Value};
use badger_system::store::{Device, MANAGER, element};

/// The entry of the system in its boot store.
pub const LOADER: &str = "{0208ab1e-0000-0000-0000-000000000001}";

/// Files by their paths.
pub type Files = Vec<(String, Vec<u8>)>;

/// A program for firmware, or for the system, with one section and a text in it.
pub fn program(machine: u16, subsystem: u16, says: &str) -> Vec<u8> {
    let mut out = vec![0; 0x400];
    out[..2].copy_from_slice(b"MZ");
    out[0x3c] = 0x80;
    out[0x80..0x84].copy_from_slice(b"PE\0\0");
    out[0x84..0x86].copy_from_slice(&machine.to_le_bytes());
    out[0x86] = 1;
    out[0x94..0x96].copy_from_slice(&240u16.to_le_bytes());
    out[0x98..0x9a].copy_from_slice(&0x20bu16.to_le_bytes());
    out[0x98 + 68..0x98 + 70].copy_from_slice(&subsystem.to_le_bytes());
    let section = 0x98 + 240;
    out[section..section + 5].copy_from_slice(b".text");
    out[section + 16..section + 20].copy_from_slice(&0x400u32.to_le_bytes());
    out[section + 20..section + 24].copy_from_slice(&0x400u32.to_le_bytes());
    let mut body: Vec<u8> = says.encode_utf16().flat_map(u16::to_le_bytes).collect();
    body.resize(0x400, 0x90);
    out.extend(body);
    out
}

/// A boot store whose system, by this name, is on a device.
pub fn store(device: Device, uefi: bool, name: &str) -> Vec<u8> {
    let mut edit = Edit::new("BCD00000000");
    let mut set = |object: &str, number: u32, value: Value| {
        edit.set(&format!(r"Objects\{object}\Elements\{number:08x}"), &Value { name: "Element".into(), ..value }).unwrap();
    };
    let device = device.write().unwrap();
    set(MANAGER, element::DEFAULT, Value::of_text("", LOADER));
    set(MANAGER, element::SHOWN, Value::of_texts("", &[LOADER]));
    set(LOADER, element::DEVICE, Value::of_bytes("", &device));
    set(LOADER, element::SYSTEM_DEVICE, Value::of_bytes("", &device));
    set(LOADER, element::PATH, Value::of_text("", if uefi { r"\Windows\system32\winload.efi" } else { r"\Windows\system32\winload.exe" }));
    set(LOADER, element::SYSTEM_ROOT, Value::of_text("", r"\Windows"));
    set(LOADER, element::DESCRIPTION, Value::of_text("", name));
    for object in [MANAGER, LOADER] {
        edit.set(&format!(r"Objects\{object}\Description"), &Value::of_number("Type", 0x1020_0003)).unwrap();
    }
    edit.bytes()
}

/// The settings of a system that is on a device.
pub fn settings(own: Device) -> Vec<u8> {
    let mut edit = Edit::new("ROOT");
    edit.set("Select", &Value::of_number("Current", 1)).unwrap();
    for (name, start) in [("storahci", 0), ("stornvme", 3), ("iaStorV", 3)] {
        edit.set(&format!(r"ControlSet001\Services\{name}"), &Value::of_number("Start", start)).unwrap();
    }
    edit.set(r"ControlSet001\Services\storahci", &Value::of_text("ImagePath", r"System32\drivers\storahci.sys")).unwrap();
    let mut letter = b"DMIO:ID:".to_vec();
    match own {
        Device::Gpt(_, partition) => letter.extend(partition.0),
        Device::Mbr(disk, start) => letter = [disk.to_le_bytes().to_vec(), start.to_le_bytes().to_vec()].concat(),
        _ => panic!("a system is on a partition"),
    }
    edit.set("MountedDevices", &Value::of_bytes(r"\DosDevices\C:", &letter)).unwrap();
    edit.bytes()
}

/// What it says of its edition and its licence.
pub fn software() -> Vec<u8> {
    let key = r"Microsoft\Windows NT\CurrentVersion";
    let mut edit = Edit::new("ROOT");
    for (name, text) in [
        ("ProductName", "System 10 Pro"),
        ("EditionID", "Professional"),
        ("CurrentBuild", "19045"),
        ("DisplayVersion", "22H2"),
        ("InstallationType", "Client"),
        ("ProductId", "00000-00000-00000-AAAAA"),
    ] {
        edit.set(key, &Value::of_text(name, text)).unwrap();
    }
    edit.set(key, &Value::of_bytes("DigitalProductId4", &badger_system::licence::kept(&[7; 15], "Retail"))).unwrap();
    edit.bytes()
}

/// All files of the system's volume that do not depend on the firmware.
pub fn system(settings: Vec<u8>) -> Files {
    let config = |name: &str| format!("Windows/System32/config/{name}");
    let mut files = vec![
        ("Windows/System32/ntoskrnl.exe".to_string(), program(0x8664, 1, "kernel")),
        ("Windows/System32/winload.exe".into(), program(0x8664, 1, "loader")),
        ("Windows/System32/winload.efi".into(), program(0x8664, 16, "loader")),
        ("Windows/System32/drivers/storahci.sys".into(), program(0x8664, 1, "driver")),
        (config("SYSTEM"), settings),
        (config("SOFTWARE"), software()),
    ];
    files.extend(["SAM", "SECURITY", "DEFAULT"].map(|name| (config(name), Edit::new("ROOT").bytes())));
    files
}

/// All files of the system partition, below its folder `EFI`.
pub fn firmware(store: Vec<u8>) -> Files {
    vec![
        ("BOOT/BOOTX64.EFI".into(), program(0x8664, 10, "bootmgfw.efi")),
        ("Microsoft/Boot/bootmgfw.efi".into(), program(0x8664, 10, "bootmgfw.efi")),
        ("Microsoft/Boot/BCD".into(), store),
    ]
}
