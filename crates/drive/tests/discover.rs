//! Discovery over recorded trees: what the kernel and the device manager of various machines publish.

use badger_drive::Sysfs;
use badger_drive::ata::AtaIdentity;
use badger_drive::discover::Use;
use badger_drive::ground::{Ground, Meeting};
use badger_drive::{Bus, Identity};
use rstest::rstest;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;
use tempfile::TempDir;

/// A tree out of lines: `path = content`, or `path -> target of a link`.
fn tree(lines: &str) -> TempDir {
    let dir = tempfile::tempdir().unwrap();
    for line in lines.lines().map(str::trim).filter(|line| !line.is_empty()) {
        let (path, content, link) = match (line.split_once(" -> "), line.split_once(" = ")) {
            (Some((path, target)), _) => (path, target, true),
            (_, Some((path, content))) => (path, content, false),
            _ => panic!("{line}"),
        };
        let path = dir.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        if link { symlink(content, path).unwrap() } else { fs::write(path, content.replace("\\n", "\n") + "\n").unwrap() }
    }
    dir
}

/// ATA IDENTIFY data with the words that matter.
fn identify(model: &str, serial: &str, firmware: &str, sata: bool) -> Vec<u8> {
    let mut words = vec![0u8; 512];
    let mut put = |at: usize, text: &str, len: usize| {
        for (place, pair) in format!("{text:len$}").as_bytes().chunks(2).enumerate() {
            words[at * 2 + place * 2] = pair[1];
            words[at * 2 + place * 2 + 1] = pair[0];
        }
    };
    put(10, serial, 20);
    put(23, firmware, 8);
    put(27, model, 40);
    words[152] = if sata { 6 } else { 0 };
    words
}

const BOXED: &str = "
    sys/block/sdb -> ../devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb
    sys/dev/block/8:16 -> ../../devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb
    sys/dev/block/8:17 -> ../../devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/sdb1
    sys/devices/pci0000:00/usb2/2-1/idVendor = 1209
    sys/devices/pci0000:00/usb2/2-1/product = Bridge 4
    sys/devices/pci0000:00/usb2/2-1/manufacturer = USB
    sys/devices/pci0000:00/usb2/2-1/serial = 0000000000A1
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/vendor = USB
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/model = Bridge 4
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/rev = 0104
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/dev = 8:16
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/size = 488397168
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/ro = 0
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/removable = 0
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/queue/rotational = 0
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/queue/logical_block_size = 512
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/queue/physical_block_size = 4096
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/device -> ../../../6:0:0:0
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/sdb1/partition = 1
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/sdb1/dev = 8:17
    sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/sdb1/size = 1000
";

#[test]
fn the_drive_behind_an_adapter_shows_its_own_name() {
    let dir = tree(BOXED);
    let mut page = vec![0u8; 60];
    page.extend(identify("Tamarack T250", "TM25-0091-7F3C", "1.04", true));
    fs::write(dir.path().join("sys/block/sdb/device/vpd_pg89"), page).unwrap();
    let drives = Sysfs::at(dir.path()).drives();
    assert_eq!(drives.len(), 1);
    let found = &drives[0];
    let expected = Identity {
        model: "Tamarack T250".into(),
        serial: "TM25-0091-7F3C".into(),
        firmware: "1.04".into(),
        bus: Bus::UsbSata,
        rotational: Some(false),
        adapter: Some("USB Bridge 4".into()),
        path: "/dev/sdb".into(),
        ..Identity::of_file(Path::new(""))
    };
    assert_eq!(found.identity, expected);
    assert_eq!((found.geometry.size_bytes, found.geometry.logical_sector, found.geometry.physical_sector), (250_059_350_016, 512, 4096));
    assert_eq!(found.identity.tail(), "7F3C");
    assert!(found.uses.is_empty() && !found.system);
}

#[test]
fn a_box_that_hides_its_drive_is_named_by_itself() {
    let dir = tree(BOXED);
    let found = &Sysfs::at(dir.path()).drives()[0];
    assert_eq!((found.identity.model.as_str(), found.identity.serial.as_str(), found.identity.bus), ("USB Bridge 4", "0000000000A1", Bus::Usb));
    assert_eq!(found.identity.adapter, None);
}

#[rstest]
#[case::mounted("proc/self/mountinfo = 36 1 8:17 / /media/choir\\040scores rw - exfat /dev/sdb1 rw", Use::Mounted("/media/choir scores".into()))]
#[case::mounted_under_another_number("proc/self/mountinfo = 36 1 0:41 /@ /mnt/x rw - btrfs /dev/sdb1 rw", Use::Mounted("/mnt/x".into()))]
#[case::swap("proc/swaps = Filename Type Size Used Priority\\n/dev/sdb1 partition 1 0 -2", Use::Swap("/dev/sdb1".into()))]
#[case::mapped("sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/sdb1/holders/dm-0/dm/name = vault", Use::Held("dm-0 (vault)".into()))]
#[case::array("sys/devices/pci0000:00/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb/holders/md127/size = 5", Use::Held("md127".into()))]
fn whoever_uses_a_drive_is_named(#[case] line: &str, #[case] expected: Use) {
    let dir = tree(&format!("{BOXED}\n{line}"));
    assert_eq!(Sysfs::at(dir.path()).drives()[0].uses, [expected]);
}

const BOARD: &str = "
    sys/block/nvme0n1 -> ../devices/pci0000:00/nvme/nvme0/nvme0n1
    sys/class/block/nvme0n1p2 -> ../../devices/pci0000:00/nvme/nvme0/nvme0n1/nvme0n1p2
    sys/dev/block/259:0 -> ../../devices/pci0000:00/nvme/nvme0/nvme0n1
    sys/dev/block/259:2 -> ../../devices/pci0000:00/nvme/nvme0/nvme0n1/nvme0n1p2
    sys/dev/block/253:0 -> ../../devices/virtual/block/dm-0
    sys/devices/pci0000:00/nvme/nvme0/model = Corvane NX          
    sys/devices/pci0000:00/nvme/nvme0/serial = CN96-4410-0F2A
    sys/devices/pci0000:00/nvme/nvme0/firmware_rev = 3B2
    sys/devices/pci0000:00/nvme/nvme0/nvme0n1/dev = 259:0
    sys/devices/pci0000:00/nvme/nvme0/nvme0n1/size = 1875385008
    sys/devices/pci0000:00/nvme/nvme0/nvme0n1/queue/rotational = 0
    sys/devices/pci0000:00/nvme/nvme0/nvme0n1/queue/logical_block_size = 4096
    sys/devices/pci0000:00/nvme/nvme0/nvme0n1/device -> ../../nvme0
    sys/devices/pci0000:00/nvme/nvme0/nvme0n1/nvme0n1p2/partition = 2
    sys/devices/pci0000:00/nvme/nvme0/nvme0n1/nvme0n1p2/dev = 259:2
    sys/devices/pci0000:00/nvme/nvme0/nvme0n1/nvme0n1p2/size = 5000
    sys/devices/pci0000:00/nvme/nvme0/nvme0n1/nvme0n1p2/holders/dm-0/dm/name = root
    sys/devices/virtual/block/dm-0/dev = 253:0
    sys/devices/virtual/block/dm-0/size = 5000
    sys/devices/virtual/block/dm-0/slaves/nvme0n1p2 -> ../../../../pci0000:00/nvme/nvme0/nvme0n1/nvme0n1p2
    sys/block/dm-0 -> ../devices/virtual/block/dm-0
    sys/block/ram0/dev = 1:0
    sys/block/ram0/size = 100
    sys/block/sr0/dev = 11:0
    sys/block/sr0/size = 100
    sys/block/loop3/dev = 7:3
    sys/block/loop3/size = 0
";

#[test]
fn the_disk_under_the_systems_mapped_root_is_its_own() {
    let dir = tree(&format!("{BOARD}\nproc/self/mountinfo = 22 1 253:0 / / rw - ext4 /dev/mapper/root rw"));
    let sysfs = Sysfs::at(dir.path());
    let drives = sysfs.drives();
    assert_eq!(drives.iter().map(|found| found.identity.path.to_str().unwrap()).collect::<Vec<_>>(), ["/dev/nvme0n1"]);
    assert!(drives[0].system);
    assert_eq!((drives[0].identity.model.as_str(), drives[0].identity.bus), ("Corvane NX", Bus::Nvme));
    assert_eq!(drives[0].geometry.sectors(), 1_875_385_008 / 8);
    let (mapped, disk) = (Ground::of_device(253, 0, &sysfs), Ground::of_device(259, 0, &sysfs));
    assert!(mapped.rests_on(&disk) && !disk.rests_on(&mapped) && mapped.meets(&disk) == Some(Meeting::SourceOnTarget));
}

#[test]
fn swap_makes_a_disk_the_systems_own() {
    let dir = tree(&format!("{BOARD}\nproc/swaps = Filename Type\\n/dev/nvme0n1p2 partition 1 0 -2"));
    assert!(Sysfs::at(dir.path()).drives()[0].system);
}

#[test]
fn the_serial_comes_from_wherever_it_is_told() {
    let lines = "
        sys/block/sda -> ../devices/pci0000:00/ata1/host0/target0:0:0/0:0:0:0/block/sda
        sys/devices/pci0000:00/ata1/host0/target0:0:0/0:0:0:0/vendor = ATA
        sys/devices/pci0000:00/ata1/host0/target0:0:0/0:0:0:0/model = Ostrel Plain
        sys/devices/pci0000:00/ata1/host0/target0:0:0/0:0:0:0/block/sda/dev = 8:0
        sys/devices/pci0000:00/ata1/host0/target0:0:0/0:0:0:0/block/sda/size = 625142448
        sys/devices/pci0000:00/ata1/host0/target0:0:0/0:0:0:0/block/sda/queue/rotational = 1
        sys/devices/pci0000:00/ata1/host0/target0:0:0/0:0:0:0/block/sda/device -> ../../../0:0:0:0
        run/udev/data/b8:0 = E:ID_SERIAL_SHORT=OP32-5518-A1D0\\nE:ID_BUS=ata
    ";
    let dir = tree(lines);
    let identity = Sysfs::at(dir.path()).drives()[0].identity.clone();
    assert_eq!((identity.model.as_str(), identity.serial.as_str(), identity.bus), ("Ostrel Plain", "OP32-5518-A1D0", Bus::Sata));
    assert_eq!(identity.rotational, Some(true));
    fs::write(dir.path().join("sys/block/sda/device/vpd_pg80"), b"\0\x80\0\x08  PAGE80\0").unwrap();
    assert_eq!(Sysfs::at(dir.path()).drives()[0].identity.serial, "PAGE80");
}

#[test]
fn an_old_parallel_drive_is_told_from_a_serial_one() {
    assert!(!AtaIdentity::parse(&identify("Brindle 120", "B1", "2", false)).unwrap().serial_ata);
    assert_eq!(AtaIdentity::parse(&[0; 512]), None);
    assert_eq!(AtaIdentity::parse(&[0; 100]), None);
}

#[test]
fn a_tree_with_nothing_in_it_has_no_drives() {
    let dir = tempfile::tempdir().unwrap();
    assert!(Sysfs::at(dir.path()).drives().is_empty());
}
