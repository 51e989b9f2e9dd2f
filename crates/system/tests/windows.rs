//! Disks of systems of the NT family, built here out of the published layouts (none can be had): both firmwares, whole, and broken in many ways.

#[path = "support/links.rs"]
mod links;

use crate::nt::{self, LOADER, program};
use crate::tool::run as tool;
use badger_drive::Workshop;
use badger_inspect::{Line, Looked, Verdict};
use badger_layout::Guid;
use badger_system::mend::{self, Wishes};
use badger_system::registry::{Edit, Hive, Value};
use badger_system::store::{Device, element};
use links::{named, told};
use rstest::rstest;
use std::fs;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

const DISK: &str = "7A1D0C5E-0207-4E20-9B1A-000000000207";
const SIGNATURE: u32 = 0x0208_ab1e;
const SYSTEM: &str = "7A1D0C5E-0207-4E20-9B1A-000000000003";
const START: u64 = 4096;
const SECTORS: u64 = 24 << 11;

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

/// What a disk is made of.
struct Made {
    uefi: bool,
    device: Option<Device>,
    store: Option<Vec<u8>>,
    system: Option<Vec<u8>>,
    /// Files that are left out, and others that are put in.
    without: Vec<&'static str>,
    with: Vec<(&'static str, Vec<u8>)>,
    asleep: bool,
    active: usize,
    hidden: u64,
    /// The first sector, and the system volume's, have code.
    has_code: (bool, bool),
}

impl Made {
    fn new(uefi: bool) -> Self {
        Self {
            uefi,
            device: None,
            store: None,
            system: None,
            without: Vec::new(),
            with: Vec::new(),
            asleep: false,
            active: 1,
            hidden: START,
            has_code: (true, true),
        }
    }

    fn own(&self) -> Device {
        if self.uefi { Device::Gpt(Guid::parse(DISK).unwrap(), Guid::parse(SYSTEM).unwrap()) } else { Device::Mbr(SIGNATURE, START * 512) }
    }

    fn store(&self) -> Vec<u8> {
        nt::store(self.device.unwrap_or(self.own()), self.uefi, "Station")
    }

    fn settings(&self) -> Vec<u8> {
        nt::settings(self.own())
    }

    /// All files of the system's volume.
    fn files(&self) -> Vec<(String, Vec<u8>)> {
        let mut files = nt::system(self.system.clone().unwrap_or_else(|| self.settings()));
        if !self.uefi {
            files.push(("bootmgr".into(), vec![0x90; 100_000]));
            files.push(("Boot/BCD".into(), self.store.clone().unwrap_or_else(|| self.store())));
        }
        if self.asleep {
            files.push(("hiberfil.sys".into(), [b"HIBR".to_vec(), vec![1; 8192]].concat()));
        }
        files.retain(|(name, _)| !self.without.contains(&name.as_str()));
        files.extend(self.with.iter().map(|(name, bytes)| ((*name).to_string(), bytes.clone())));
        files
    }

    fn disk(&self, dir: &Path) -> PathBuf {
        let (disk, part, mount) = (dir.join("disk.img"), dir.join("part.img"), dir.join("mnt"));
        let file = fs::File::create(&disk).unwrap();
        file.set_len((START + SECTORS + 4096) * 512).unwrap();
        let table = if self.uefi {
            format!(
                "label: gpt\nlabel-id: {DISK}\nstart=2048, size=2048, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B\nstart={START}, size={SECTORS}, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, uuid={SYSTEM}\n"
            )
        } else {
            let mark = |number: usize| if number < self.active { ", bootable" } else { "" };
            format!(
                "label: dos\nlabel-id: {SIGNATURE:#x}\nstart={START}, size={SECTORS}, type=7{}\nstart=2048, size=2048, type=7{}\n",
                mark(0),
                mark(1)
            )
        };
        let script = dir.join("table");
        fs::write(&script, table).unwrap();
        tool(&["bash", "-c", &format!("sfdisk -q {} < {}", text(&disk), text(&script))]);
        fs::File::create(&part).unwrap().set_len(SECTORS * 512).unwrap();
        tool(&["mkntfs", "-q", "-Q", "-F", "-L", "System", "-p", &self.hidden.to_string(), text(&part)]);
        fs::create_dir_all(&mount).unwrap();
        tool(&["ntfs-3g", text(&part), text(&mount)]);
        for (name, bytes) in self.files() {
            let path = mount.join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, bytes).unwrap();
        }
        tool(&["umount", text(&mount)]);
        let mut bytes = fs::read(&part).unwrap();
        bytes[0x120..0x127].copy_from_slice(b"BOOTMGR");
        let copy = bytes.len() - 512;
        bytes.copy_within(..512, copy);
        if !self.has_code.1 {
            bytes[0x5a..510].fill(0);
        }
        file.write_all_at(&bytes, START * 512).unwrap();
        if self.uefi {
            let esp = dir.join("esp.img");
            fs::File::create(&esp).unwrap().set_len(1 << 20).unwrap();
            tool(&["mkfs.fat", text(&esp)]);
            let staged = dir.join("EFI");
            for (name, bytes) in nt::firmware(self.store.clone().unwrap_or_else(|| self.store())) {
                if !self.without.contains(&name.as_str()) {
                    fs::create_dir_all(staged.join(&name).parent().unwrap()).unwrap();
                    fs::write(staged.join(name), bytes).unwrap();
                }
            }
            tool(&["mcopy", "-s", "-i", text(&esp), text(&staged), "::/"]);
            file.write_all_at(&fs::read(&esp).unwrap(), 2048 * 512).unwrap();
        } else if self.has_code.0 {
            let mut code = [0x90; 440];
            code[300..324].copy_from_slice(b"Missing operating system");
            file.write_all_at(&code, 0).unwrap();
        }
        disk
    }

    fn lines(&self) -> Vec<Line> {
        let dir = tempfile::tempdir().unwrap();
        let drive = Workshop::default().source(&self.disk(dir.path())).unwrap();
        badger_system::lines(&drive, &Looked::at(&drive))
    }
}

#[rstest]
#[case::bios(false, 10)]
#[case::uefi(true, 10)]
fn a_whole_system_holds(#[case] uefi: bool, #[case] least: usize) {
    let lines = Made::new(uefi).lines();
    assert!(lines.len() >= least && lines.iter().all(|line| line.result == Verdict::Holds), "{}", told(&lines));
}

type Change = fn(&mut Made);

fn other() -> Device {
    Device::Gpt(Guid::parse(DISK).unwrap(), Guid::parse("7A1D0C5E-0207-4E20-9B1A-0000000000FF").unwrap())
}

/// A registry file with something changed.
fn changed(bytes: &[u8], change: impl FnOnce(&mut Edit)) -> Option<Vec<u8>> {
    let hive = Hive::open(bytes.to_vec(), &[]).unwrap();
    let mut edit = Edit::of(&hive).unwrap();
    change(&mut edit);
    Some(edit.bytes())
}

#[rstest]
#[case::no_store(true, "uefi/store", |made: &mut Made| made.without.push("Microsoft/Boot/BCD"))]
#[case::no_store_of_the_old_kind(false, "bios/store", |made: &mut Made| made.without.push("Boot/BCD"))]
#[case::store_is_none(true, "uefi/store", |made: &mut Made| made.store = Some(vec![7; 9000]))]
#[case::store_has_no_objects(true, "uefi/store", |made: &mut Made| made.store = Some(Edit::new("BCD").bytes()))]
#[case::default_is_gone(true, "uefi/entry", |made: &mut Made| {
    let store = made.store();
    made.store = changed(&store, |edit| assert!(edit.remove_key(&format!(r"Objects\{LOADER}")).unwrap()));
})]
#[case::another_partition(true, "uefi/entry", |made: &mut Made| made.device = Some(other()))]
#[case::another_disk(true, "uefi/entry", |made: &mut Made| {
    made.device = Some(Device::Gpt(Guid::parse("00000000-0207-4E20-9B1A-000000000207").unwrap(), Guid::parse(SYSTEM).unwrap()));
})]
#[case::another_signature(false, "bios/entry", |made: &mut Made| made.device = Some(Device::Mbr(0x1234_5678, START * 512)))]
#[case::another_start(false, "bios/entry", |made: &mut Made| made.device = Some(Device::Mbr(SIGNATURE, 1 << 20 << 10)))]
#[case::made_for_the_other_firmware(true, "uefi/system-loader", |made: &mut Made| {
    let store = made.store();
    let value = Value::of_text("Element", r"\Windows\system32\winload.exe");
    made.store = changed(&store, |edit| edit.set(&format!(r"Objects\{LOADER}\Elements\{:08x}", element::PATH), &value).unwrap());
})]
#[case::no_loader_of_the_system(true, "uefi/system-loader", |made: &mut Made| made.without.push("Windows/System32/winload.efi"))]
#[case::no_kernel(false, "bios/kernel", |made: &mut Made| made.without.push("Windows/System32/ntoskrnl.exe"))]
#[case::a_kernel_that_is_none(false, "bios/kernel", |made: &mut Made| {
    made.without.push("Windows/System32/ntoskrnl.exe");
    made.with.push(("Windows/System32/ntoskrnl.exe", vec![0; 5000]));
})]
#[case::no_settings(false, "bios/registry", |made: &mut Made| made.without.push("Windows/System32/config/SYSTEM"))]
#[case::settings_are_damaged(true, "uefi/registry", |made: &mut Made| {
    let mut settings = made.settings();
    settings[4096 + 32..4096 + 2000].fill(0);
    made.system = Some(settings);
})]
#[case::no_accounts(true, "uefi/registry", |made: &mut Made| made.without.push("Windows/System32/config/SAM"))]
#[case::current_set_is_gone(true, "uefi/registry", |made: &mut Made| {
    let settings = made.settings();
    made.system = changed(&settings, |edit| edit.set("Select", &Value::of_number("Current", 2)).unwrap());
})]
#[case::driver_is_gone(true, "uefi/drivers", |made: &mut Made| made.without.push("Windows/System32/drivers/storahci.sys"))]
#[case::no_driver_starts(true, "uefi/drivers", |made: &mut Made| {
    let settings = made.settings();
    made.system = changed(&settings, |edit| edit.set(r"ControlSet001\Services\storahci", &Value::of_number("Start", 3)).unwrap());
})]
#[case::letter_of_another_volume(true, "uefi/letters", |made: &mut Made| {
    let settings = made.settings();
    made.system = changed(&settings, |edit| edit.set("MountedDevices", &Value::of_bytes(r"\DosDevices\C:", &[b"DMIO:ID:".as_slice(), &[9; 16]].concat())).unwrap());
})]
#[case::letter_of_another_disk(false, "bios/letters", |made: &mut Made| {
    let settings = made.settings();
    made.system = changed(&settings, |edit| edit.set("MountedDevices", &Value::of_bytes(r"\DosDevices\C:", &[1; 12])).unwrap());
})]
#[case::no_bootmgr(false, "bios/loader", |made: &mut Made| made.without.push("bootmgr"))]
#[case::two_are_active(false, "bios/active", |made: &mut Made| made.active = 2)]
#[case::none_is_active(false, "bios/active", |made: &mut Made| made.active = 0)]
#[case::record_says_another_place(false, "bios/volume-record", |made: &mut Made| made.hidden = 63)]
#[case::no_code_in_front(false, "bios/first-sector", |made: &mut Made| made.has_code.0 = false)]
#[case::no_code_in_the_record(false, "bios/volume-record", |made: &mut Made| made.has_code.1 = false)]
#[case::asleep(true, "?uefi/state", |made: &mut Made| made.asleep = true)]
fn every_broken_link_is_named(#[case] uefi: bool, #[case] link: &str, #[case] change: Change) {
    let mut made = Made::new(uefi);
    change(&mut made);
    let lines = made.lines();
    let named = named(&lines);
    assert_eq!(named, [link], "{}", told(&lines));
}

/// Where the registry has no room for a letter by the newer table what names the older one is taken out: the system settles it.
#[test]
fn a_letter_without_room_is_given_up() {
    let mut made = Made::new(true);
    let record = [SIGNATURE.to_le_bytes().to_vec(), (START * 512).to_le_bytes().to_vec()].concat();
    let settings = made.settings();
    let mut full = changed(&settings, |edit| edit.set("MountedDevices", &Value::of_bytes(r"\DosDevices\C:", &record)).unwrap()).unwrap();
    // Filled up, ever finer, to where anything more would make it longer.
    for (number, size) in [1500, 400, 100, 40, 24, 12].into_iter().flat_map(|size| (0..40).map(move |number| (number, size))) {
        let name = format!("{size}-{number}");
        let more = changed(&full, |edit| edit.set("Select", &Value::of_bytes(&name, &vec![1; size])).unwrap()).unwrap();
        if more.len() == full.len() {
            full = more;
        }
    }
    made.system = Some(full);
    let dir = tempfile::tempdir().unwrap();
    let disk = made.disk(dir.path());
    let drive = Workshop::default().source(&disk).unwrap();
    let looked = Looked::at(&drive);
    let repairs = mend::find(&drive, &looked, &badger_system::lines(&drive, &looked), Wishes::default(), &[]);
    assert!(repairs.len() == 1 && repairs[0].text.contains("settles its letters"), "{}", repairs[0].text);
    let file = fs::OpenOptions::new().write(true).open(&disk).unwrap();
    repairs[0].patches.iter().for_each(|patch| file.write_all_at(&patch.new, patch.at).unwrap());
    let drive = Workshop::default().source(&disk).unwrap();
    let lines = badger_system::lines(&drive, &Looked::at(&drive));
    assert_eq!(named(&lines), ["?uefi/letters"], "{}", told(&lines));
}

/// What can be set right is, by other bytes in the same places; then every link holds, and what others read is as it should be.
#[rstest]
#[case::another_partition(true, |made: &mut Made| made.device = Some(other()))]
#[case::another_signature(false, |made: &mut Made| made.device = Some(Device::Mbr(0x1234_5678, START * 512)))]
#[case::another_start(false, |made: &mut Made| made.device = Some(Device::Mbr(SIGNATURE, 1 << 20 << 10)))]
#[case::letter_of_another_volume(true, |made: &mut Made| {
    let settings = made.settings();
    made.system = changed(&settings, |edit| edit.set("MountedDevices", &Value::of_bytes(r"\DosDevices\C:", &[b"DMIO:ID:".as_slice(), &[9; 16]].concat())).unwrap());
})]
#[case::letter_of_another_disk(false, |made: &mut Made| {
    let settings = made.settings();
    made.system = changed(&settings, |edit| edit.set("MountedDevices", &Value::of_bytes(r"\DosDevices\C:", &[1; 12])).unwrap());
})]
#[case::letter_by_the_older_table(true, |made: &mut Made| {
    let record = [SIGNATURE.to_le_bytes().to_vec(), (START * 512).to_le_bytes().to_vec()].concat();
    let settings = made.settings();
    made.system = changed(&settings, |edit| edit.set("MountedDevices", &Value::of_bytes(r"\DosDevices\C:", &record)).unwrap());
})]
#[case::no_driver_starts(true, |made: &mut Made| {
    let settings = made.settings();
    made.system = changed(&settings, |edit| edit.set(r"ControlSet001\Services\storahci", &Value::of_number("Start", 3)).unwrap());
})]
#[case::two_are_active(false, |made: &mut Made| made.active = 2)]
#[case::none_is_active(false, |made: &mut Made| made.active = 0)]
#[case::record_says_another_place(false, |made: &mut Made| made.hidden = 63)]
#[case::no_code_in_front(false, |made: &mut Made| made.has_code.0 = false)]
#[case::no_code_in_the_record(false, |made: &mut Made| made.has_code.1 = false)]
#[case::asleep(true, |made: &mut Made| made.asleep = true)]
fn what_is_broken_is_mended(#[case] uefi: bool, #[case] change: Change) {
    let mut made = Made::new(uefi);
    change(&mut made);
    let dir = tempfile::tempdir().unwrap();
    let disk = made.disk(dir.path());
    let look = || {
        let drive = Workshop::default().source(&disk).unwrap();
        let looked = Looked::at(&drive);
        {
            let lines = badger_system::lines(&drive, &looked);
            let repairs = mend::find(&drive, &looked, &lines, Wishes { afresh: true, ..Wishes::default() }, &[]);
            (lines, repairs)
        }
    };
    let (before, repairs) = look();
    assert!(before.iter().any(|line| line.result != Verdict::Holds));
    assert_eq!(repairs.len(), 1, "{repairs:?}");
    let file = fs::OpenOptions::new().read(true).write(true).open(&disk).unwrap();
    for patch in &repairs[0].patches {
        let mut now = vec![0; patch.old.len()];
        file.read_exact_at(&mut now, patch.at).unwrap();
        assert_eq!((&now, now.len()), (&patch.old, patch.new.len()));
        file.write_all_at(&patch.new, patch.at).unwrap();
    }
    let (after, left) = look();
    assert!(after.iter().all(|line| line.result == Verdict::Holds), "{}", told(&after));
    assert!(left.is_empty(), "{left:?}");
    // The volume is sound for its own driver's tools, and the registry for the independent reader.
    let part = dir.path().join("after.img");
    tool(&[
        "dd",
        &format!("if={}", text(&disk)),
        &format!("of={}", text(&part)),
        "bs=512",
        &format!("skip={START}"),
        &format!("count={SECTORS}"),
        "status=none",
    ]);
    tool(&["ntfsfix", "-n", text(&part)]);
    tool(&[
        "bash",
        "-c",
        &format!("ntfscat {} Windows/System32/config/SYSTEM > {}.hive && hivexml {1}.hive > /dev/null", text(&part), text(&part))
            .replace("{1}", text(&part)),
    ]);
}

#[test]
fn what_is_known_of_the_licence_is_told_and_the_key_is_not() {
    let dir = tempfile::tempdir().unwrap();
    let drive = Workshop::default().source(&Made::new(true).disk(dir.path())).unwrap();
    let lines = badger_system::licence::lines(&drive, &Looked::at(&drive), None);
    let all = format!("{} {}", lines[0].text, lines[0].evidence.join(" "));
    for said in [
        "System 10 Pro 22H2, build 19045",
        "on the same machine it carries over",
        "on another it needs activation",
        "*****-*****-*****-*****-",
        "retail",
    ] {
        assert!(all.contains(said), "{said}: {all}");
    }
    let found = badger_system::licence::of(&drive, &Looked::at(&drive));
    let key = found[0].1.as_ref().unwrap().key(true).unwrap();
    assert!(!all.contains(&key[..23]), "{all}");
}

/// On another machine a system that sleeps fails, however little of the drive was looked at; on its own it does not.
#[test]
fn a_system_that_sleeps_does_not_fit_another_machine() {
    let dir = tempfile::tempdir().unwrap();
    let mut made = Made::new(true);
    made.asleep = true;
    let drive = Workshop::default().source(&made.disk(dir.path())).unwrap();
    let other = badger_system::Machine::parse("name = \"Other\"").unwrap();
    let same = badger_system::Machine { same: true, ..other.clone() };
    let sleeps = |machine: &badger_system::Machine, looked: &Looked| {
        badger_system::machine::lines(&drive, looked, Some(machine)).iter().any(|line| line.link == "machine/sleep" && line.result == Verdict::Fails)
    };
    for looked in [Looked::at(&drive), Looked::at_structures(&drive)] {
        assert!(sleeps(&other, &looked) && !sleeps(&same, &looked));
    }
}

/// A disk for BIOS gets a way for UEFI: every link of it holds, the partitions are where they were, and the stores are what an independent reader
/// takes. Taken back, the disk is what it was, to the byte.
#[rstest]
#[case::its_store(&[], "its boot store converted")]
#[case::no_store(&["Boot/BCD"], "a new boot store")]
fn a_disk_for_bios_starts_by_uefi(#[case] without: &[&'static str], #[case] how: &str) {
    let dir = tempfile::tempdir().unwrap();
    let mut made = Made::new(false);
    made.without = without.to_vec();
    made.with = [("bootmgfw.efi", "bootmgfw.efi"), ("en-US/bootmgfw.efi.mui", "words"), ("boot.stl", "list")]
        .map(|(name, says)| (Box::leak(format!("Windows/Boot/EFI/{name}").into_boxed_str()) as &str, program(0x8664, 10, says)))
        .to_vec();
    let disk = made.disk(dir.path());
    let file = fs::OpenOptions::new().read(true).write(true).open(&disk).unwrap();
    let look = |uefi: bool| {
        let drive = Workshop::default().source(&disk).unwrap();
        let looked = Looked::at(&drive);
        let lines = badger_system::lines(&drive, &looked);
        let why = badger_system::uefi::conversion(&drive, &looked);
        let repairs = mend::find(&drive, &looked, &lines, Wishes { uefi, ..Wishes::default() }, &[]);
        (lines, repairs, why)
    };
    let (_, repairs, why) = look(true);
    assert!(repairs.iter().all(|repair| repair.name != "uefi"));
    assert!(why.unwrap_err().contains("no room for a system partition"));
    file.set_len((START + SECTORS + 4096) * 512 + (104 << 20)).unwrap();
    let (_, repairs, _) = look(true);
    assert_eq!(repairs.len(), 1, "{repairs:?}");
    assert!(repairs[0].text.contains(how) && repairs[0].text.contains("its letters stay"), "{}", repairs[0].text);
    let whole = fs::read(&disk).unwrap();
    for patch in &repairs[0].patches {
        let mut now = vec![0; patch.old.len()];
        file.read_exact_at(&mut now, patch.at).unwrap();
        assert!(now == patch.old);
        file.write_all_at(&patch.new, patch.at).unwrap();
    }
    let checked = std::process::Command::new("sgdisk").args(["-v", text(&disk)]).output().unwrap();
    assert!(String::from_utf8_lossy(&checked.stdout).contains("No problems found"), "{checked:?}");
    let (lines, left, why) = look(true);
    assert!(left.is_empty() && why.unwrap_err().contains("already"));
    assert!(lines.len() > 8 && lines.iter().all(|line| line.result == Verdict::Holds && !line.link.starts_with("bios/")), "{}", told(&lines));
    let drive = Workshop::default().source(&disk).unwrap();
    let looked = Looked::at(&drive);
    let places: Vec<_> = looked.table.data_partitions().iter().map(|partition| (partition.number, partition.start, partition.sectors)).collect();
    assert_eq!(places[..2], [(2, 2048, 2048), (1, START, SECTORS)]);
    let esp = format!("{}@@{}", text(&disk), places[2].1 * 512);
    let (store, words) = (dir.path().join("store"), dir.path().join("words"));
    tool(&["mcopy", "-i", &esp, "::/EFI/Microsoft/Boot/BCD", text(&store)]);
    tool(&["mcopy", "-i", &esp, "::/EFI/Microsoft/Boot/en-US/bootmgfw.efi.mui", text(&words)]);
    assert_eq!(fs::read(words).unwrap(), program(0x8664, 10, "words"));
    tool(&["bash", "-c", &format!("hivexml {} | grep -q Elements", text(&store))]);
    tool(&[
        "bash",
        "-c",
        &format!("dd if={0} of={0}.esp bs=1M skip={1} count=100 status=none && fsck.fat -n {0}.esp", text(&disk), places[2].1 >> 11),
    ]);
    for patch in repairs[0].patches.iter().rev() {
        file.write_all_at(&patch.old, patch.at).unwrap();
    }
    assert!(fs::read(&disk).unwrap() == whole);
}
