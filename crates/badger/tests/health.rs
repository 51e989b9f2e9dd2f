//! Disks of a virtual machine, asked about their health through the pass-through interfaces of a real kernel.

#[path = "../../fs/tests/support/kernel.rs"]
mod kernel;

use kernel::Machine;
use std::fs::File;
use std::path::PathBuf;
use std::process::Command;

/// What the kernel needs for SATA, NVMe and USB.
const MODULES: [&str; 22] = [
    "lib/crc-t10dif",
    "crypto/crct10dif_common",
    "crypto/crc64_rocksoft_generic",
    "lib/crc64",
    "lib/crc64-rocksoft",
    "block/t10-pi",
    "drivers/scsi/scsi_common",
    "drivers/scsi/scsi_mod",
    "drivers/scsi/sd_mod",
    "drivers/ata/libata",
    "drivers/ata/libahci",
    "drivers/ata/ahci",
    "crypto/crct10dif_generic",
    "drivers/nvme/host/nvme-core",
    "drivers/nvme/host/nvme",
    "drivers/usb/common/usb-common",
    "drivers/usb/core/usbcore",
    "drivers/usb/host/xhci-hcd",
    "drivers/usb/host/xhci-pci",
    "drivers/usb/storage/usb-storage",
    "drivers/usb/storage/uas",
    "drivers/scsi/sg",
];

const INIT: &str = r#"for m in /mod/*.ko; do insmod $m 2>/dev/null; done
sleep 5
for d in $(cd /sys/block; ls | grep -E '^(sd|nvme)'); do
  echo "said $d $(/bin/badger show /dev/$d --json --ledger /tmp/l.db | tr -d '\n')"
done
poweroff -f
"#;

/// The program with the libraries it takes from the system.
fn program() -> Vec<(PathBuf, PathBuf)> {
    let badger = PathBuf::from(env!("CARGO_BIN_EXE_badger"));
    let out = Command::new("ldd").arg(&badger).output().unwrap();
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    let libraries = text.split_whitespace().filter(|word| word.starts_with('/')).map(|path| (PathBuf::from(path), PathBuf::from(path)));
    libraries.chain([(badger, PathBuf::from("/bin/badger"))]).collect()
}

#[test]
fn disks_of_a_machine_tell_how_they_are() {
    let dir = tempfile::tempdir().unwrap();
    let disks: Vec<String> = (0..4)
        .map(|number| {
            let path = dir.path().join(format!("disk{number}.img"));
            File::create(&path).unwrap().set_len(64 << 20).unwrap();
            format!("file={},if=none,format=raw,id=d{number}", path.display())
        })
        .collect();
    let devices = [
        "ich9-ahci,id=ahci",
        "ide-hd,drive=d0,bus=ahci.0,serial=OP32-5518-A1D0,model=Ostrel Plain",
        "nvme,drive=d1,serial=CN96-4410-0F2A",
        "nvme,drive=d2,serial=CN96-0000-DEAD,smart_critical_warning=4",
        "qemu-xhci",
        "usb-storage,drive=d3,serial=BR12-0044-C77E",
    ];
    let arguments: Vec<String> = disks
        .iter()
        .flat_map(|disk| ["-drive".into(), disk.clone()])
        .chain(devices.iter().flat_map(|device| ["-device".into(), (*device).to_string()]))
        .collect();
    let console = Machine { modules: &MODULES, init: INIT, files: &program(), arguments: &arguments, job: "health" }.run(dir.path());
    let health = |serial: &str| -> serde_json::Value {
        let line = console.lines().find(|line| line.contains("said ") && line.contains(serial)).unwrap_or_else(|| panic!("{serial}: {console}"));
        let shown: serde_json::Value = serde_json::from_str(line[line.find('{').unwrap()..].trim()).unwrap();
        shown["health"].clone()
    };
    let sata = health("OP32-5518-A1D0");
    assert_eq!((sata["asked"].as_str(), sata["state"].as_str()), (Some("SMART"), Some("good")), "{sata}");
    assert_eq!(sata["facts"]["replaced"], 0, "{sata}");
    let nvme = health("CN96-4410-0F2A");
    assert_eq!((nvme["asked"].as_str(), nvme["state"].as_str()), (Some("NVMe health log"), Some("good")), "{nvme}");
    assert!(nvme["facts"]["celsius"].as_i64().is_some_and(|celsius| (0..100).contains(&celsius)), "{nvme}");
    let dying = health("CN96-0000-DEAD");
    assert_eq!(dying["state"], "failing", "{dying}");
    assert!(dying["text"].as_str().unwrap().contains("not reliable any more"), "{dying}");
    // A box that passes nothing on is not called good.
    assert_eq!(health("BR12-0044-C77E")["state"], "unknown");
}
