//! Partition tables, and what is made of them: plans for the same and for another drive, and the other kind of table.

use crate::sound::{Sound, drive, folder, shell, text};
use badger_inspect::Looked;
use badger_layout::plan::{Ids, Plan, Side};
use badger_layout::table::{self, Table};
use badger_layout::{Rules, convert, fit};
use std::process::Command;
use std::sync::LazyLock;

/// Bytes of the drives.
const SIZE: usize = 1 << 20;

fn partitioned(script: &str) -> Sound {
    let dir = folder();
    let path = dir.path().join("drive");
    std::fs::write(&path, vec![0; SIZE]).expect("a drive");
    std::fs::write(dir.path().join("script"), script).expect("a script");
    shell(&format!("sfdisk -q --no-reread --no-tell-kernel {} < {}", text(&path), text(&dir.path().join("script"))));
    Sound::new(std::fs::read(&path).expect("the drive"))
}

/// Whatever the table says, a plan stays within both drives, and a new table says what was planned.
fn planned(table: &Table) {
    let side = |size_bytes: u64, sector: u32| Side { key: format!("{size_bytes}"), size_bytes, sector, physical: sector };
    let source = side(SIZE as u64, 512);
    let holds = |plan: &Plan, target: &Side| {
        for step in &plan.moves {
            let ends = (step.from.checked_add(step.len), step.to.checked_add(step.len));
            assert!(ends.1.is_some_and(|end| end <= target.size_bytes), "{step:?} reaches beyond the target");
            assert!(ends.0.is_some(), "{step:?}");
        }
        for patch in &plan.patches {
            assert!(patch.at + patch.bytes.len() as u64 <= target.size_bytes, "a patch at {} reaches beyond the target", patch.at);
        }
        let _ = (plan.bytes(), plan.stretches(), plan.differences(table));
    };
    for (target, ids) in [(side(SIZE as u64, 512), Ids::Fresh), (side(3 << 20, 512), Ids::Keep), (side(4 << 20, 4096), Ids::Keep)] {
        if let Ok(plan) = badger_layout::plan::exact(table, &source, &target, ids, || [7; 16]) {
            holds(&plan, &target);
        }
        let parts: Vec<fit::Part> = table
            .data_partitions()
            .into_iter()
            .map(|partition| fit::Part {
                number: partition.number,
                name: String::new(),
                limits: Ok(fit::Limits { least: 4096, most: 1 << 30 }),
                used: None,
                system: partition.number == 1,
                placed: false,
                mbr_code: 7,
            })
            .collect();
        if let Ok(draft) = fit::plan(table, &parts, (&source, &target), ids, &Rules::default(), || [9; 16]) {
            holds(draft.plan(), &target);
        }
    }
    let _ = convert::to_gpt(table, || [3; 16]);
}

fn read(bytes: Vec<u8>) {
    let drive = drive(bytes);
    let table = table::read(&*drive);
    for partition in &table.partitions {
        let _ = table.place(partition);
    }
    let _ = (table.at_sector(100), table.data_partitions(), table.is_sound());
    planned(&table);
    let looked = Looked::at_structures(&drive);
    let _ = badger_inspect::stake::of(&drive, &looked);
}

/// The checksums of both headers and of their entries.
fn gpt_sums(bytes: &mut [u8]) {
    for at in [512, SIZE - 512] {
        let le32 = |bytes: &[u8], at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().expect("four bytes")) as usize;
        let entries = u64::from_le_bytes(bytes[at + 72..at + 80].try_into().expect("eight bytes")) as usize;
        let len = le32(bytes, at + 80).saturating_mul(le32(bytes, at + 84));
        if let Some(from) = entries.checked_mul(512).filter(|from| from.saturating_add(len) <= SIZE) {
            let sum = crc32fast::hash(&bytes[from..from + len]);
            bytes[at + 88..at + 92].copy_from_slice(&sum.to_le_bytes());
        }
        let len = le32(bytes, at + 12).min(512);
        bytes[at + 16..at + 20].fill(0);
        let sum = crc32fast::hash(&bytes[at..at + len]);
        bytes[at + 16..at + 20].copy_from_slice(&sum.to_le_bytes());
    }
}

pub fn gpt(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| {
        let more: String = (0..6).map(|number| format!("start={}, size=100, type=linux, name=\"part {number}\"\n", 400 + number * 150)).collect();
        partitioned(&format!("label: gpt\nfirst-lba: 34\nstart=40, size=300, type=uefi\n{more}"))
    });
    let mut bytes = SOUND.broken(input);
    gpt_sums(&mut bytes);
    read(bytes);
}

pub fn mbr(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| {
        partitioned(
            "label: dos\ngrain: 512\nstart=63, size=200, type=7, bootable\nstart=300, size=100, type=83\nstart=500, size=1500, type=5\nstart=520, size=100, type=83\nstart=700, size=100, type=82\nstart=900, size=200, type=7\n",
        )
    });
    read(SOUND.broken(input));
}

pub fn apm(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(|| {
        // The only maker of an Apple map here makes one for a disc.
        let dir = folder();
        let (data, disc) = (dir.path().join("data"), dir.path().join("disc"));
        std::fs::create_dir(&data).expect("a folder");
        std::fs::write(data.join("sheet.csv"), vec![b'x'; 3000]).expect("a file");
        let made = Command::new("xorriso")
            .args(["-as", "mkisofs", "-quiet", "-hfsplus", "-apm-block-size", "512", "-o", text(&disc), text(&data)])
            .stderr(std::process::Stdio::null())
            .status();
        assert!(made.is_ok_and(|status| status.success()), "a disc with an Apple map");
        let mut bytes = std::fs::read(&disc).expect("the disc");
        bytes.resize(SIZE, 0);
        Sound::new(bytes)
    });
    read(SOUND.broken(input));
}
