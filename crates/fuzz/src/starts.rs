//! What starts a machine: configurations on a drive as its own tools lay them out, boot stores, registry files and their logs, initial
//! memory file systems, programs for firmware, keys out of firmware.

use crate::sound::{Sound, drive, folder, shell, text, tool};
use badger_inspect::Looked;
use badger_layout::Guid;
use badger_system::mend::{self, Wishes};
use badger_system::registry::log::written;
use badger_system::registry::{Edit, Hive, Key, Value};
use badger_system::store::{Device, MANAGER, Store, element};
use badger_system::{Machine, archive, licence, machine, pe, uefi};
use std::process::Command;
use std::sync::LazyLock;

/// Files that an input can be, in the order of its first byte.
const FILES: [&str; 10] = [
    "boot/grub/grub.cfg",
    "boot/grub/custom.cfg",
    "etc/fstab",
    "etc/crypttab",
    "etc/default/grub",
    "boot/loader/entries/tide.conf",
    "boot/loader/loader.conf",
    "boot/initrd.img",
    "boot/grub/grubenv",
    "etc/os-release",
];
/// Bytes that each of them has.
const ROOM: usize = 4096;

/// Bytes of a block of the file system.
const BLOCK: usize = 1024;

/// How a block of the file of this number is found on the drive.
fn mark(number: usize, block: usize) -> Vec<u8> {
    format!("#block {block} of the file of number {number}#").repeat(BLOCK).as_bytes()[..BLOCK].to_vec()
}

/// A drive with an EFI system partition, GRUB in it, and a Linux system; and where the blocks of each of the files lie.
fn system() -> (Vec<u8>, Vec<Vec<usize>>) {
    let dir = folder();
    let at = |name: &str| dir.path().join(name);
    let root = at("root");
    for (number, file) in FILES.iter().enumerate() {
        let file = root.join(file);
        std::fs::create_dir_all(file.parent().expect("a folder")).expect("a folder");
        let blocks: Vec<u8> = (0..ROOM / BLOCK).flat_map(|block| mark(number, block)).collect();
        std::fs::write(file, blocks).expect("a file");
    }
    std::fs::write(root.join("boot/vmlinuz"), vec![b'k'; 3000]).expect("a file");
    let (esp, ext, grub, whole) = (at("esp"), at("ext"), at("grub.efi"), at("drive"));
    let modules = ["part_gpt", "fat", "ext2", "normal", "configfile", "linux"];
    tool(&[&["grub-mkimage", "-O", "x86_64-efi", "-p", "(hd0,gpt2)/boot/grub", "-o", text(&grub)], &modules[..]].concat());
    std::fs::write(&esp, vec![0; 1 << 20]).expect("a partition");
    tool(&["mkfs.fat", "-F", "12", text(&esp)]);
    shell(&format!("mmd -i {0} ::/EFI ::/EFI/BOOT; mcopy -i {0} {1} ::/EFI/BOOT/BOOTX64.EFI", text(&esp), text(&grub)));
    std::fs::write(&ext, vec![0; 2014 * 512]).expect("a partition");
    tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-O", "^has_journal", "-L", "tide", "-U", ROOT, "-d", text(&root), text(&ext)]);
    std::fs::write(&whole, vec![0; 3 << 20]).expect("a drive");
    std::fs::write(at("script"), "label: gpt\nstart=2048, size=2048, type=uefi\nstart=4096, size=2014, type=linux\n").expect("a script");
    shell(&format!("sfdisk -q --no-reread --no-tell-kernel {} < {}", text(&whole), text(&at("script"))));
    let mut bytes = std::fs::read(&whole).expect("the drive");
    for (from, partition) in [(1 << 20, &esp), (2 << 20, &ext)] {
        let content = std::fs::read(partition).expect("a partition");
        bytes[from..from + content.len()].copy_from_slice(&content);
    }
    let find = |mark: Vec<u8>| (0..bytes.len()).step_by(512).find(|at| bytes[*at..].starts_with(&mark)).expect("it is on the drive");
    let places = (0..FILES.len()).map(|number| (0..ROOM / BLOCK).map(|block| find(mark(number, block))).collect()).collect();
    (bytes, places)
}

const ROOT: &str = "3e6be9de-8139-4a29-9106-a43f08d823a6";

/// A configuration of a drive that starts: parts that end in the byte 1E, each behind the number of a file, go into those files.
pub fn start(input: &[u8]) {
    static SOUND: LazyLock<(Vec<u8>, Vec<Vec<usize>>)> = LazyLock::new(system);
    let mut bytes = SOUND.0.clone();
    for place in SOUND.1.iter().flatten() {
        bytes[*place..*place + BLOCK].fill(b'\n');
    }
    let mut rest = input;
    while let [number, more @ ..] = rest {
        let end = more.iter().position(|byte| *byte == 0x1e).unwrap_or(more.len());
        let (content, after) = more.split_at(end);
        for (part, at) in content.chunks(BLOCK).zip(&SOUND.1[usize::from(*number) % FILES.len()]) {
            bytes[*at..*at + part.len()].copy_from_slice(part);
        }
        rest = after.get(1..).unwrap_or_default();
    }
    let drive = drive(bytes);
    let looked = Looked::at_structures(&drive);
    let (chain, _) = machine::told(&drive, &looked, None);
    let all = Wishes { afresh: true, drivers: true, ..Wishes::default() };
    for repair in mend::find(&drive, &looked, &chain, all, &[]) {
        for patch in &repair.patches {
            assert!(patch.at + patch.new.len() as u64 <= 3 << 20 && patch.old.len() == patch.new.len(), "{}", repair.text);
        }
    }
    let _ = (uefi::conversion(&drive, &looked), licence::lines(&drive, &looked, None));
}

pub fn configurations() -> Vec<Vec<u8>> {
    let grub = format!(
        "set default=\"1>2\"\nif [ \"${{next_entry}}\" ] ; then\n set default=\"${{next_entry}}\"\nfi\nsearch --no-floppy --fs-uuid --set=root {ROOT}\n\
         menuentry 'Tide' --class tide $menuentry_id_option 'gnulinux-simple-{ROOT}' {{\n linux /boot/vmlinuz root=UUID={ROOT} ro quiet\n initrd /boot/initrd.img\n}}\n\
         submenu 'More' {{\n menuentry 'Old' {{\n  linux /boot/vmlinuz-1 root=/dev/sda2\n }}\n}}\nsource /boot/grub/custom.cfg\n"
    );
    let fstab = format!(
        "UUID={ROOT} / ext4 errors=remount-ro 0 1\nLABEL=\"a b\" /home ext4 defaults 0 2\n/dev/sda1 /boot/efi vfat umask=0077 0 1\n/swap none swap sw 0 0\n"
    );
    let entry = format!("title Tide\nversion 6.1\nlinux /boot/vmlinuz\ninitrd /boot/initrd.img\noptions root=UUID={ROOT} rw\n");
    let file = |number: u8, content: &str| [&[number], content.as_bytes()].concat();
    let whole =
        [file(0, &grub), file(2, &fstab), file(4, "GRUB_DEFAULT=saved\n"), file(8, "# GRUB Environment Block\nsaved_entry=Tide\n")].join(&0x1e);
    let loader =
        [file(0, "insmod blscfg\nblscfg\n"), file(5, &entry), file(6, "default tide*\ntimeout 3\n"), file(3, "tide UUID=1 none luks\n")].join(&0x1e);
    vec![whole, loader]
}

fn stored() -> Sound {
    let loader = "{0208ab1e-0000-0000-0000-000000000001}";
    let mut edit = Edit::new("BCD00000000");
    let device = Device::Gpt(Guid([1; 16]), Guid([2; 16])).write().expect("a device");
    let elements = [
        (MANAGER, element::DEFAULT, Value::of_text("", loader)),
        (MANAGER, element::SHOWN, Value::of_texts("", &[loader, MANAGER])),
        (loader, element::DEVICE, Value::of_bytes("", &device)),
        (loader, element::SYSTEM_DEVICE, Value::of_bytes("", &device)),
        (loader, element::PATH, Value::of_text("", r"\Windows\system32\winload.efi")),
        (loader, element::RECOVERY, Value::of_texts("", &[loader])),
    ];
    for (object, number, value) in elements {
        edit.set(&format!(r"Objects\{object}\Elements\{number:08x}"), &Value { name: "Element".into(), ..value }).expect("it is set");
        edit.set(&format!(r"Objects\{object}\Description"), &Value::of_number("Type", 0x1020_0003)).expect("it is set");
    }
    Sound::new(edit.bytes())
}

pub fn boot_store(input: &[u8]) {
    static SOUND: LazyLock<Sound> = LazyLock::new(stored);
    let Ok(hive) = Hive::open(SOUND.broken(input), &[]) else { return };
    let Ok(store) = Store::read(&hive) else { return };
    for object in store.objects.values() {
        for number in object.elements.keys() {
            let _ = (object.text(*number), object.names(*number), object.device(*number).map(|device| device.to_string()));
        }
    }
}

fn services() -> Sound {
    let mut edit = Edit::new("ROOT");
    for number in 0..60u32 {
        let path = format!(r"Control\Set {:02}\Service {number:03}", number % 7);
        edit.set(&path, &Value::of_number("Start", number)).expect("it is set");
        edit.set(&path, &Value::of_text("ImagePath", r"System32\drivers\one.sys")).expect("it is set");
        edit.set(&path, &Value::of_bytes("data", &vec![number as u8; number as usize * 400])).expect("it is set");
    }
    Sound::new(edit.bytes())
}

static SERVICES: LazyLock<Sound> = LazyLock::new(services);

/// Walks all of a registry file, and changes what can be changed.
fn walk(hive: &Hive) {
    let mut left = 10_000;
    let mut below: Vec<Key> = hive.root().into_iter().collect();
    while let Some(key) = below.pop() {
        left -= 1;
        if left == 0 {
            break;
        }
        let _ = (hive.values(&key), hive.class(&key));
        below.extend(hive.subkeys(&key).0);
    }
    let Ok(mut edit) = Edit::of(hive) else { return };
    if edit.set(r"Control\New", &Value::of_text("word", "here")).is_ok() {
        let again = Hive::open(edit.bytes(), &[]).expect("what was written opens");
        let _ = again.find(r"Control\New", "word");
    }
}

pub fn registry(input: &[u8]) {
    if let Ok(hive) = Hive::open(SERVICES.broken(input), &[]) {
        walk(&hive);
    }
}

/// Changes to the pages of a log whose proofs are right, and to its own bytes.
pub fn registry_log(input: &[u8]) {
    let Some(([place, more], input)) = input.split_first_chunk::<2>() else { return };
    let base = &SERVICES[..4096];
    let bins = (SERVICES.len() - 4096) as u32;
    let from = usize::from(*place) * 512 % bins as usize;
    let page = Sound::new(SERVICES[4096 + from..4096 + from + 512].to_vec()).broken(input);
    let sequence = u32::from_le_bytes(base[8..12].try_into().expect("four bytes"));
    let pages = [(from as u32, &page[..]), (u32::from(*more) << 9, &page[..])];
    let mut log = written(base, sequence, bins, &pages);
    if more & 1 == 1 {
        log = Sound::new(log).broken(input);
    }
    let mut file = SERVICES.to_vec();
    // The file says that something was begun and not ended.
    file[4..8].copy_from_slice(&sequence.wrapping_add(1).to_le_bytes());
    if let Ok(hive) = Hive::open(file, &[&log]) {
        walk(&hive);
    }
}

pub fn initramfs(input: &[u8]) {
    if let Ok(found) = archive::read(input) {
        let _ = (found.modules().len(), found.taken().len(), found.waits());
    }
}

/// One archive, packed in every way that is known here.
pub fn archives() -> Vec<Vec<u8>> {
    let dir = folder();
    let inside = dir.path().join("inside");
    for file in ["usr/lib/modules/6.1.0/kernel/drivers/ata/ahci.ko", "conf/conf.d/resume", "scripts/local", "init"] {
        let file = inside.join(file);
        std::fs::create_dir_all(file.parent().expect("a folder")).expect("a folder");
        std::fs::write(file, "a few words, and the same again: a few words\n").expect("a file");
    }
    let ways = ["cat", "gzip", "xz --check=crc32", "xz --check=sha256 --block-size=200", "lz4 -l", "zstd", "xz --format=lzma"];
    let packed = ways.map(|way| {
        let made = Command::new("sh").args(["-ec", &format!("cd {}; find . | cpio -o -H newc --quiet | {way} -c", text(&inside))]).output();
        made.expect("an archive").stdout
    });
    packed.into_iter().map(|bytes| if bytes.is_empty() { vec![0] } else { bytes }).collect()
}

/// Its head, which is what is read, and what lies behind, which counts as it is.
fn built() -> (Sound, Vec<u8>) {
    let dir = folder();
    let path = dir.path().join("grub.efi");
    tool(&["grub-mkimage", "-O", "x86_64-efi", "-p", "/boot/grub", "-o", text(&path), "part_gpt", "fat"]);
    let mut head = std::fs::read(&path).expect("a program");
    let behind = head.split_off(2048);
    (Sound::new(head), behind)
}

pub fn program(input: &[u8]) {
    static SOUND: LazyLock<(Sound, Vec<u8>)> = LazyLock::new(built);
    let mut bytes = SOUND.0.broken(input);
    bytes.extend(&SOUND.1);
    if let Ok(program) = pe::Program::read(&bytes) {
        for (name, _) in &program.sections {
            let _ = program.section(&bytes, name);
        }
    }
}

pub fn firmware_key(input: &[u8]) {
    // Its sum is set right: all bytes add up to nothing.
    let mut table = input.to_vec();
    if table.len() > 9 {
        table[9] = 0;
        table[9] = table.iter().fold(0u8, |sum, byte| sum.wrapping_sub(*byte));
    }
    let _ = badger_system::firmware_key::read(&table);
    let _ = licence::decoded(input);
    let _ = Machine::parse(&String::from_utf8_lossy(input));
}

pub fn firmware_keys() -> Vec<Vec<u8>> {
    let mut table = b"MSDM".to_vec();
    table.extend(85u32.to_le_bytes());
    table.resize(36, 0);
    table.extend([1u32, 0, 1, 0, 29].map(u32::to_le_bytes).concat());
    table.extend(b"BBBBB-CCCCC-DDDDD-FFFFF-GGGGG");
    vec![table, b"name = \"tide\"\nfirmware = \"uefi\"\ncontroller = \"nvme\"\n".to_vec()]
}
