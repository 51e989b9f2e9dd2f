//! What names a partition on a drive is found, and it is told what a plan does to it.

use badger_drive::Workshop;
use badger_inspect::Looked;
use badger_inspect::references::{self, Effect, Reference};
use badger_inspect::volumes;
use badger_layout::fit;
use badger_layout::plan::{Ids, Side};
use badger_layout::{Rules, table};
use rstest::rstest;
use std::fs;
use std::process::Command;
use tempfile::TempDir;

const MIB: u64 = 1 << 20;

const FSTAB: &str = "# <file system> <mount point>\nUUID=2f6a1c0e-7b1d-4b6e-9a55-0c3d5e7f9a11 / ext4 defaults 0 1\nLABEL=scores /srv ext4 ro 0 2\n\
    PARTUUID=0208ab1e-02 /old auto noauto 0 0\n/dev/sda2 /data ext4 noauto 0 0\n/dev/nvme0n1p1 none swap sw 0 0\n";
const MENU: &str = "set root='hd0,msdos2'\nsearch --no-floppy --fs-uuid --set=root 2f6a1c0e-7b1d-4b6e-9a55-0c3d5e7f9a11\n\
    linux /vmlinuz root=UUID=2f6a1c0e-7b1d-4b6e-9a55-0c3d5e7f9a11 ro quiet\n";

/// A drive with a FAT and an ext4 partition, the second of which holds a system's files.
fn drive(place: &TempDir) -> std::path::PathBuf {
    let data = place.path().join("data");
    for (path, text) in [("etc/fstab", FSTAB), ("boot/grub/grub.cfg", MENU), ("etc/hostname", "weir")] {
        fs::create_dir_all(data.join(path).parent().unwrap()).unwrap();
        fs::write(data.join(path), text).unwrap();
    }
    let (fat, ext) = (place.path().join("fat"), place.path().join("ext"));
    for (path, size) in [(&fat, 20), (&ext, 40)] {
        fs::File::create(path).unwrap().set_len(size * MIB).unwrap();
    }
    assert!(Command::new("mkfs.fat").args(["-F", "16", "-h", "2048"]).arg(&fat).output().unwrap().status.success());
    assert!(
        Command::new("mke2fs")
            .args(["-q", "-F", "-t", "ext4", "-U", "2f6a1c0e-7b1d-4b6e-9a55-0c3d5e7f9a11", "-d"])
            .arg(&data)
            .arg(&ext)
            .status()
            .unwrap()
            .success()
    );
    let mut bytes = vec![0; 70 * MIB as usize];
    let mut mbr = badger_layout::mbr::Mbr::empty(0x0208_ab1e);
    mbr.entries[0] = badger_layout::mbr::Entry::new(0x0e, 2048, 20 * 2048, true);
    mbr.entries[1] = badger_layout::mbr::Entry::new(0x83, 30 * 2048, 40 * 2048, false);
    bytes[..512].copy_from_slice(&mbr.write(512)[0].1);
    bytes[MIB as usize..21 * MIB as usize].copy_from_slice(&fs::read(&fat).unwrap());
    bytes[30 * MIB as usize..].copy_from_slice(&fs::read(&ext).unwrap());
    let from = place.path().join("from.img");
    fs::write(&from, bytes).unwrap();
    from
}

fn found(rules: &str, ids: Ids) -> Vec<Reference> {
    let place = tempfile::tempdir().unwrap();
    let source = Workshop::default().source(&drive(&place)).unwrap();
    let looked = Looked::at(&source);
    let surveyed = volumes::survey(&source, &looked);
    let side = |size: u64| Side { key: "k".into(), size_bytes: size, sector: 512, physical: 4096 };
    let parts = volumes::parts(&looked.table, &surveyed, 512);
    let rules: Rules = rules.parse().unwrap();
    let plan = fit::plan(&table::read(&*source), &parts, (&side(70 * MIB), &side(200 * MIB)), ids, &rules, || [5; 16]).unwrap();
    let plan = plan.plan();
    references::find(&looked.table, &surveyed.iter().map(references::Carrier::from).collect::<Vec<_>>(), plan)
}

fn effect(all: &[Reference], names: &str) -> Effect {
    all.iter().find(|one| one.names.contains(names)).unwrap_or_else(|| panic!("{names} in {all:#?}")).effect
}

#[rstest]
#[case::sizes_alone("auto", Ids::Keep, [Effect::Kept, Effect::Kept, Effect::Kept, Effect::Kept, Effect::Kept])]
#[case::another_table("auto,gpt", Ids::Keep, [Effect::Kept, Effect::Kept, Effect::StartUp, Effect::Kept, Effect::StartUp])]
#[case::fresh_identifiers("auto", Ids::Fresh, [Effect::StartUp, Effect::Kept, Effect::StartUp, Effect::Kept, Effect::Kept])]
fn every_way_to_name_a_partition_is_judged(#[case] rules: &str, #[case] ids: Ids, #[case] effects: [Effect; 5]) {
    let all = found(rules, ids);
    let names = ["UUID=2f6a1c0e", "LABEL=scores", "PARTUUID=0208ab1e-02", "/dev/sda2", "(hd0,msdos2)"];
    assert_eq!(names.map(|name| effect(&all, name)), effects, "{all:#?}");
    // The name of another drive says nothing that a clone could keep.
    assert_eq!(effect(&all, "/dev/nvme0n1p1"), Effect::StartUp);
    assert!(all.iter().all(|one| !one.names.contains("file system")), "a remark names nothing");
    let again: std::collections::HashSet<_> = all.iter().map(|one| (one.number, &one.place, &one.names)).collect();
    assert_eq!(again.len(), all.len());
}

#[test]
fn a_boot_sector_that_moves_is_set_right() {
    let all = found("1=keep@40MiB,2=keep", Ids::Keep);
    let boot = all.iter().find(|one| one.place == "boot sector").unwrap();
    assert_eq!((boot.effect, boot.names.as_str()), (Effect::SetRight, "its first sector, 2048, now 81920"));
}
