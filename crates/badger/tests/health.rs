//! Disks of a virtual machine, behind a real kernel: what they tell of their health, and what is had of them when they fail.

#[path = "../../fs/tests/support/kernel.rs"]
mod kernel;

use kernel::Machine;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
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
if grep -q job=salvage /proc/cmdline; then
  sh /bin/salvage
  poweroff -f
fi
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

/// What fails on each disk: sectors of 512 bytes.
const BAD: [(&str, &[u64]); 3] = [("OP32-5518-A1D0", &[4096, 4097, 20_011]), ("CN96-4410-0F2A", &[777, 30_000]), ("BR12-0044-C77E", &[10_000])];

/// What the system's own tool says of some bytes.
fn md5(dir: &Path, bytes: &[u8]) -> String {
    let path = dir.join("expected");
    fs::write(&path, bytes).unwrap();
    let out = Command::new("md5sum").arg(&path).output().unwrap();
    String::from_utf8(out.stdout).unwrap()[..32].to_string()
}

/// Each disk that fails, salvaged onto its own raw file; what the run said, and what came out.
const SALVAGE: &str = r#"mkdir /out
for d in sda sdb nvme0n1; do
  tries=$(cat /sys/block/$d/device/scsi_disk/*/max_retries 2>/dev/null)
  errors=$(cat /sys/block/$d/device/ioerr_cnt 2>/dev/null)
  report=$(/bin/badger salvage /dev/$d /out/$d.img --map /out/$d.map --fill keep --json --ledger /tmp/l.db 2>&1 | tr -d '\n')
  again=$(cat /sys/block/$d/device/scsi_disk/*/max_retries 2>/dev/null)
  serial=$(/bin/badger show /dev/$d --json --ledger /tmp/l.db | tr -d '\n')
  echo "did {\"disk\": \"$d\", \"md5\": \"$(md5sum < /out/$d.img | cut -c1-32)\", \"tries\": [\"$tries\", \"$again\"], \"errors\": [\"$errors\", \"$(cat /sys/block/$d/device/ioerr_cnt 2>/dev/null)\"], \"report\": $report, \"drive\": $serial}"
  rm /out/$d.img
done
"#;

#[test]
fn disks_of_a_machine_that_fail_are_salvaged() {
    const SIZE: u64 = 24 << 20;
    let dir = tempfile::tempdir().unwrap();
    let script = dir.path().join("salvage.sh");
    fs::write(&script, SALVAGE).unwrap();
    let mut arguments: Vec<String> = Vec::new();
    let mut good = Vec::new();
    for (number, (_, bad)) in BAD.iter().enumerate() {
        let path = dir.path().join(format!("disk{number}.img"));
        let bytes: Vec<u8> =
            (0..SIZE / 8).flat_map(|at| (at ^ (number as u64 + 1) << 40).wrapping_mul(0x9e37_79b9_7f4a_7c15).to_le_bytes()).collect();
        fs::write(&path, &bytes).unwrap();
        good.push(bytes);
        let rules: String = bad
            .iter()
            .enumerate()
            .map(|(at, sector)| {
                format!(",inject-error.{at}.event=none,inject-error.{at}.iotype=read,inject-error.{at}.errno=5,inject-error.{at}.sector={sector}")
            })
            .collect();
        arguments
            .extend(["-blockdev".into(), format!("driver=blkdebug,node-name=d{number},image.driver=file,image.filename={}{rules}", path.display())]);
    }
    let devices = [
        "ich9-ahci,id=ahci",
        "ide-hd,drive=d0,bus=ahci.0,serial=OP32-5518-A1D0,model=Ostrel Plain",
        "nvme,drive=d1,serial=CN96-4410-0F2A",
        "qemu-xhci",
        "usb-storage,drive=d2,serial=BR12-0044-C77E",
    ];
    arguments.extend(devices.iter().flat_map(|device| ["-device".into(), (*device).to_string()]));
    let files: Vec<_> = program().into_iter().chain([(script, PathBuf::from("/bin/salvage"))]).collect();
    let console = Machine { modules: &MODULES, init: INIT, files: &files, arguments: &arguments, job: "salvage" }.run(dir.path());
    for ((serial, bad), good) in BAD.iter().zip(good) {
        let line = console.lines().find(|line| line.contains("did {") && line.contains(serial)).unwrap_or_else(|| panic!("{serial}: {console}"));
        let did: serde_json::Value = serde_json::from_str(line[line.find('{').unwrap()..].trim()).unwrap();
        let report = &did["report"];
        let lost: Vec<u64> = report["lost"]
            .as_array()
            .unwrap()
            .iter()
            .flat_map(|lost| {
                let start = lost["start"].as_u64().unwrap();
                start..start + lost["sectors"].as_u64().unwrap()
            })
            .collect();
        assert_eq!(&lost, bad, "{report}");
        assert_eq!(report["proof"][0]["result"], "holds", "{report}");
        // All that can be read came out as it went in; nothing was filled in.
        let mut expected = good;
        bad.iter().for_each(|sector| expected[(sector * 512) as usize..(sector * 512 + 512) as usize].fill(0));
        assert_eq!(did["md5"].as_str(), Some(md5(dir.path(), &expected).as_str()), "{serial}");
        // Each failure is one at the drive, not six; and afterwards the kernel tries again as ever.
        let Some(before) = did["tries"][0].as_str().filter(|tries| !tries.is_empty()) else { continue };
        assert_eq!(did["tries"], serde_json::json!([before, before]));
        let count = |at: usize| u64::from_str_radix(did["errors"][at].as_str().unwrap().trim_start_matches("0x"), 16).unwrap();
        let failures: u64 = report["passes"].as_array().unwrap().iter().map(|pass| pass["failures"].as_u64().unwrap()).sum();
        assert!(count(1) - count(0) <= failures + failures / 5, "{} errors for {failures} failures of {serial}", count(1) - count(0));
    }
}
