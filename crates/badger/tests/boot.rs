//! A real system disk, cloned to a larger target, starts in a virtual machine under both firmwares.

mod support;

use std::process::Command;
use support::{MIB, Place, path, text, tool};

const SUPPORT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/support");

#[test]
fn a_cloned_system_disk_starts_under_both_firmwares() {
    let place = Place::new();
    let disk = place.path("system.img");
    // The unpacked system is kept between runs; building it from packages takes minutes.
    let cache = format!("{}/system-disk", env!("CARGO_TARGET_TMPDIR"));
    tool(&[&format!("{SUPPORT}/make-system-disk"), path(&disk), "--size", "2G", "--table", "gpt", "--firmware", "both", "--cache", &cache]);
    let target = place.path("larger.img");
    let (code, report) = place.json(&["clone", path(&disk), path(&target), "--new-size", "3GiB", "--confirm", "rger"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    assert!(report["planned_bytes"].as_u64().unwrap() == 2048 * MIB);
    assert!(text(&tool(&["sgdisk", "-v", path(&target)]).stdout).contains("No problems found"));
    for (firmware, bus) in [("uefi", "nvme"), ("bios", "sata")] {
        let boot = Command::new(format!("{SUPPORT}/boot-disk"))
            .args([path(&target), "--firmware", firmware, "--bus", bus, "--seconds", "400"])
            .output()
            .unwrap();
        let console = text(&boot.stdout);
        assert!(boot.status.success(), "{firmware}: {console}");
        assert!(console.contains("failed=0"), "{firmware}: {console}");
    }
}
