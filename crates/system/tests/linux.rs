//! Small disks of Linux systems: which names are set right, which are left because nobody can be sure, and what a loader's configuration starts.

use crate::nt;
use crate::tool::run as tool;
use badger_drive::Workshop;
use badger_inspect::{Looked, Verdict};
use badger_system::linux::specified;
use badger_system::mend::{self, Wishes};
use rstest::rstest;
use std::fs;
use std::os::unix::fs::FileExt;
use std::path::Path;

const MIB: u64 = 1 << 20;
const OLD_ROOT: &str = "11111111-2222-3333-4444-555555555555";
const OLD_SWAP: &str = "aaaaaaaa-bbbb-cccc-dddd-eeeeeeeeeeee";
const OLD_DATA: &str = "99999999-9999-9999-9999-999999999999";
const LOCKED: &str = "77777777-7777-7777-7777-777777777777";

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

#[test]
fn names_are_set_right_where_it_is_sure_what_they_mean() {
    let dir = tempfile::tempdir().unwrap();
    let (disk, root, esp, swap) = (dir.path().join("disk.img"), dir.path().join("root"), dir.path().join("esp.img"), dir.path().join("swap.img"));
    for folder in ["etc", "boot/grub"] {
        fs::create_dir_all(root.join(folder)).unwrap();
    }
    let fstab = format!(
        "UUID={OLD_ROOT} / ext4 defaults 0 1\nUUID=ABCD-1234 /boot/efi vfat umask=0077 0 1\nUUID={OLD_SWAP} none swap sw 0 0\nUUID={OLD_DATA} /srv ext4 defaults 0 2\n"
    );
    let config = format!(
        "set default=0\nmenuentry 'One' {{\n search --no-floppy --fs-uuid --set=root {OLD_ROOT}\n linux /boot/vmlinuz root=UUID={OLD_ROOT} resume=UUID={OLD_SWAP} ro\n initrd /boot/initrd\n}}\nmenuentry 'Other' {{\n search --no-floppy --fs-uuid --set=root ABCD-1234\n chainloader /EFI/other.efi\n}}\n"
    );
    fs::write(root.join("etc/fstab"), &fstab).unwrap();
    fs::write(root.join("etc/crypttab"), format!("locked UUID={LOCKED} none luks\n")).unwrap();
    fs::write(root.join("etc/os-release"), "NAME=Station\n").unwrap();
    fs::write(root.join("boot/grub/grub.cfg"), &config).unwrap();
    let part = dir.path().join("root.img");
    tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-U", "01234567-89ab-cdef-0123-456789abcdef", "-d", text(&root), text(&part), "24M"]);
    fs::File::create(&esp).unwrap().set_len(36 * MIB).unwrap();
    tool(&["mkfs.fat", "-F", "32", "-i", "5678EF90", text(&esp)]);
    fs::File::create(&swap).unwrap().set_len(4 * MIB).unwrap();
    tool(&["mkswap", "-U", "fedcba98-7654-3210-fedc-ba9876543210", text(&swap)]);
    let file = fs::File::create(&disk).unwrap();
    file.set_len(80 * MIB).unwrap();
    let table = dir.path().join("table");
    fs::write(&table, "label: gpt\nstart=2048, size=73728, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B\nstart=75776, size=49152\nstart=124928, size=8192, type=0657FD6D-A4AB-43C4-84E5-0933C84B4F4F\n").unwrap();
    tool(&["bash", "-c", &format!("sfdisk -q {} < {}", text(&disk), text(&table))]);
    for (part, start) in [(&esp, 2048), (&part, 75_776), (&swap, 124_928u64)] {
        file.write_all_at(&fs::read(part).unwrap(), start * 512).unwrap();
    }
    let drive = Workshop::default().source(&disk).unwrap();
    let looked = Looked::at(&drive);
    let repairs = mend::find(&drive, &looked, &badger_system::lines(&drive, &looked), Wishes::default(), &[]);
    let mut bytes = fs::read(&disk).unwrap();
    for patch in repairs.iter().flat_map(|repair| &repair.patches) {
        let range = patch.at as usize..patch.at as usize + patch.old.len();
        assert_eq!(bytes[range.clone()], patch.old[..]);
        bytes[range].copy_from_slice(&patch.new);
    }
    fs::write(&disk, bytes).unwrap();
    let read = |path: &str| {
        let out = dir.path().join("out");
        tool(&["bash", "-c", &format!("debugfs -R 'dump {path} {}' '{}?offset={}'", text(&out), text(&disk), 75_776 * 512)]);
        fs::read_to_string(out).unwrap()
    };
    let new = |text: &str| {
        text.replace(OLD_ROOT, "01234567-89ab-cdef-0123-456789abcdef")
            .replace(OLD_SWAP, "fedcba98-7654-3210-fedc-ba9876543210")
            .replace("ABCD-1234", "5678-EF90")
    };
    // What is unlocked first, and what is mounted from who knows where, stay as they are.
    assert_eq!(read("/etc/fstab"), new(&fstab), "{repairs:?}");
    assert_eq!(read("/boot/grub/grub.cfg"), new(&config));
    assert!(read("/etc/crypttab").contains(LOCKED) && read("/etc/fstab").contains(OLD_DATA));
}

/// The system partition is sound, and what starts from it is not known.
const LEFT: [(&str, Verdict); 2] = [("uefi/system-partition", Verdict::Holds), ("uefi/loader", Verdict::NotChecked)];

/// A loader is broken also where nobody can read the system behind it; a system partition without any is a place for data. One that is longer
/// than is looked into is not called broken, wherever it lies, and nothing is laid in its place, though a loader that could be is there.
#[rstest]
#[case::damaged("BOOT/BOOTX64.EFI", 5000, "", &[("uefi/system-partition", Verdict::Holds), ("uefi/loader", Verdict::Fails)], &[])]
#[case::none("BOOT/readme.txt", 5000, "", &[("", Verdict::NotChecked)], &[])]
#[case::too_long("BOOT/BOOTX64.EFI", 257 * MIB, "debian/grubx64.efi", &LEFT, &[])]
#[case::too_long_elsewhere("Linux/one.efi", 257 * MIB, "tools/shell.efi", &LEFT, &[])]
#[case::where_only_its_machine_looks("BOOT/readme.txt", 5000, "debian/grubx64.efi", &[LEFT[0], LEFT[1], ("uefi/stub", Verdict::NotChecked)], &["fallback"])]
fn a_broken_loader_is_told_without_its_system(
    #[case] name: &str,
    #[case] long: u64,
    #[case] beside: &str,
    #[case] expected: &[(&str, Verdict)],
    #[case] laid: &[&str],
) {
    let dir = tempfile::tempdir().unwrap();
    let (disk, table) = (dir.path().join("disk.img"), dir.path().join("table"));
    let made = |name: &str| {
        let path = dir.path().join("EFI").join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::File::create(path).unwrap()
    };
    if !beside.is_empty() {
        made(beside).write_all_at(&nt::program(0x8664, 10, ""), 0).unwrap();
    }
    let program = made(name);
    program.write_all_at(&[0x4d; 5000], 0).unwrap();
    program.set_len(long).unwrap();
    let mib = (long / MIB * 9 / 8).max(4);
    let file = fs::File::create(&disk).unwrap();
    file.set_len((mib + 12) * MIB).unwrap();
    let (size, data) = (mib * 2048, (mib + 1) * 2048);
    let rows = format!("label: gpt\nstart=2048, size={size}, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B\nstart={data}, size=8192\n");
    fs::write(&table, rows).unwrap();
    tool(&["bash", "-c", &format!("sfdisk -q {} < {}", text(&disk), text(&table))]);
    tool(&["mkfs.fat", "--offset", "2048", text(&disk), &(mib * 1024).to_string()]);
    tool(&["mcopy", "-s", "-i", &format!("{}@@1M", text(&disk)), text(&dir.path().join("EFI")), "::/"]);
    file.write_all_at(&[0xa7; 65_536], data * 512).unwrap();
    let drive = Workshop::default().source(&disk).unwrap();
    let looked = Looked::at(&drive);
    let lines = badger_system::lines(&drive, &looked);
    let found: Vec<_> = lines.iter().map(|line| (line.link.as_str(), line.result)).collect();
    assert_eq!(found, expected, "{lines:?}");
    let repairs: Vec<&str> = mend::find(&drive, &looked, &lines, Wishes::default(), &[]).iter().map(|repair| repair.name).collect();
    assert_eq!(repairs, laid);
}

#[test]
fn an_entry_of_the_specification_is_read() {
    let entry =
        specified("# comment\ntitle Station\nversion 6.1\nlinux /station/linux\ninitrd /station/initrd\noptions root=UUID=1 rw\noptions quiet\n");
    assert_eq!((entry.title.as_str(), entry.kernel.as_str(), entry.initrds.len()), ("Station", "/station/linux", 1));
    assert_eq!(entry.options, ["root=UUID=1", "rw", "quiet"]);
}

/// Swap in which a system sleeps gets its own mark back, and nothing else of it changes; nobody is asked to that did not wish it.
#[test]
fn a_system_that_sleeps_in_swap_starts_afresh() {
    let dir = tempfile::tempdir().unwrap();
    let (disk, swap) = (dir.path().join("disk.img"), dir.path().join("swap.img"));
    fs::File::create(&swap).unwrap().set_len(4 * MIB).unwrap();
    tool(&["mkswap", "-q", text(&swap)]);
    fs::File::create(&disk).unwrap().set_len(8 * MIB).unwrap();
    tool(&["bash", "-c", &format!("printf 'label: gpt\\nstart=2048, size=8192, type=S\\n' | sfdisk -q {}", text(&disk))]);
    let file = fs::File::options().write(true).open(&disk).unwrap();
    file.write_all_at(&fs::read(&swap).unwrap(), MIB).unwrap();
    let awake = fs::read(&disk).unwrap();
    file.write_all_at(b"SWAPSPACE2S1SUSPEND\0", MIB + 4096 - 20).unwrap();
    let drive = Workshop::default().source(&disk).unwrap();
    let looked = Looked::at_structures(&drive);
    let repairs = |afresh| mend::find(&drive, &looked, &[], Wishes { afresh, ..Wishes::default() }, &[]);
    assert!(repairs(false).is_empty());
    let [repair] = &repairs(true)[..] else { panic!("one repair") };
    assert!(repair.consequence.is_some());
    repair.patches.iter().for_each(|patch| file.write_all_at(&patch.new, patch.at).unwrap());
    let mut expected = awake.clone();
    expected[(MIB + 4096 - 20) as usize..][..10].copy_from_slice(b"SWAPSPACE2");
    assert!(fs::read(&disk).unwrap() == expected);
}

const VERSION: &str = "6.9-bench";

/// An archive as the system's own tool packs it.
fn packed(dir: &Path, names: &[(&str, &[u8])]) -> Vec<u8> {
    let (tree, out) = (tempfile::tempdir_in(dir).unwrap(), dir.join("packed"));
    for (name, content) in names {
        let path = tree.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }
    tool(&["bash", "-c", &format!("cd {} && find . | cpio -o -H newc --quiet > {}", text(tree.path()), text(&out))]);
    fs::read(out).unwrap()
}

/// What a loader hands over is one: where the first part waits for devices, drivers that are laid behind the second are taken.
#[test]
fn drivers_are_laid_behind_the_last_of_several_parts() {
    let dir = tempfile::tempdir().unwrap();
    let (disk, esp, root) = (dir.path().join("disk.img"), dir.path().join("esp.img"), dir.path().join("root"));
    let modules = root.join("lib/modules").join(VERSION);
    fs::create_dir_all(modules.join("kernel")).unwrap();
    fs::write(modules.join("modules.dep"), "kernel/ahci.ko:\nkernel/nvme.ko:\n").unwrap();
    fs::write(modules.join("modules.builtin"), "kernel/sd_mod.ko\nkernel/ext4.ko\n").unwrap();
    // Modules as far as they are looked at: what they were made for.
    let module = dir.path().join("module.ko");
    tool(&["bash", "-c", &format!("printf '.section .modinfo,\"a\"\n.asciz \"vermagic={VERSION} SMP\"\n' | as --64 -o {}", text(&module))]);
    for name in ["ahci", "nvme"] {
        fs::copy(&module, modules.join("kernel").join(name).with_extension("ko")).unwrap();
    }
    let module = fs::read(&module).unwrap();
    fs::create_dir_all(root.join("etc")).unwrap();
    fs::write(root.join("etc/fstab"), format!("UUID={OLD_ROOT} / ext4 defaults 0 1\n")).unwrap();
    // A kernel as far as it is looked at: its head, its length, its version.
    let mut kernel = vec![0x90; 4096];
    (kernel[0x1f1], kernel[0x1f4], kernel[0x20e]) = (1, 1, 0);
    kernel[0x1f5..0x1f8].fill(0);
    kernel[0x202..0x208].copy_from_slice(b"HdrS\x07\x02");
    (kernel[0x20e], kernel[0x20f]) = (0, 1);
    kernel[0x300..0x300 + VERSION.len() + 1].copy_from_slice(format!("{VERSION}\0").as_bytes());
    let within = format!("lib/modules/{VERSION}");
    let first = packed(
        dir.path(),
        &[("bin/mdev", b"waits"), (&format!("{within}/modules.dep"), b"kernel/ahci.ko:\n"), (&format!("{within}/kernel/ahci.ko"), &module)],
    );
    let last = packed(dir.path(), &[("etc/bench", b"of this bench")]);
    let search = format!("search --no-floppy --fs-uuid --set=root {OLD_ROOT}\n");
    let entry =
        format!("menuentry 'Station' {{\n {search} linux /boot/vmlinuz root=UUID={OLD_ROOT} ro\n initrd /boot/first.img /boot/last.img\n}}\n");
    fs::create_dir_all(root.join("boot/grub")).unwrap();
    for (name, content) in [("vmlinuz", &kernel[..]), ("first.img", &first), ("last.img", &last), ("grub/grub.cfg", entry.as_bytes())] {
        fs::write(root.join("boot").join(name), content).unwrap();
    }
    // A loader as far as it is looked at: a configuration is built into it.
    let mut loader = nt::program(0x8664, 10, "");
    let section = 0x98 + 240;
    loader[section..section + 5].copy_from_slice(b"mods\0");
    let stub = format!("{search}set prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n\0");
    loader[0x400..0x408].copy_from_slice(b"mimg\x10\0\0\0");
    loader[0x410..0x418].copy_from_slice(&[2, 0, 0, 0, 8 + stub.len() as u8, 0, 0, 0]);
    loader[0x418..0x418 + stub.len()].copy_from_slice(stub.as_bytes());
    loader[0x418 + stub.len()..].fill(0);
    fs::write(dir.path().join("file"), loader).unwrap();
    fs::File::create(&esp).unwrap().set_len(4 * MIB).unwrap();
    tool(&["mkfs.fat", text(&esp)]);
    tool(&["mmd", "-i", text(&esp), "EFI", "EFI/BOOT"]);
    tool(&["mcopy", "-i", text(&esp), text(&dir.path().join("file")), "::EFI/BOOT/BOOTX64.EFI"]);
    fs::write(&disk, b"").unwrap();
    let part = dir.path().join("root.img");
    tool(&["mke2fs", "-q", "-F", "-t", "ext4", "-U", OLD_ROOT, "-d", text(&root), text(&part), "8M"]);
    let file = fs::File::options().write(true).open(&disk).unwrap();
    file.set_len(16 * MIB).unwrap();
    let table = "label: gpt\\nstart=2048, size=8192, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B\\nstart=10240, size=16384\\n";
    tool(&["bash", "-c", &format!("printf '{table}' | sfdisk -q {}", text(&disk))]);
    file.write_all_at(&fs::read(&esp).unwrap(), 2048 * 512).unwrap();
    file.write_all_at(&fs::read(&part).unwrap(), 10_240 * 512).unwrap();
    let drive = || Workshop::default().source(&disk).unwrap();
    let storage = || {
        let lines = badger_system::lines(&drive(), &Looked::at(&drive()));
        lines.into_iter().find(|line| line.link == "uefi/drivers").map(|line| line.text).unwrap()
    };
    assert_eq!(storage(), "it finds its disk on SATA");
    let looked = Looked::at(&drive());
    let repairs = mend::find(&drive(), &looked, &[], Wishes { drivers: true, ..Wishes::default() }, &[]);
    let [repair] = &repairs[..] else { panic!("{repairs:?}") };
    assert!(repair.text.contains("/boot/last.img gets nvme"), "{}", repair.text);
    repair.patches.iter().for_each(|patch| file.write_all_at(&patch.new, patch.at).unwrap());
    assert_eq!(storage(), "it finds its disk on SATA, NVMe");
    // The system's own tools find it sound, and unpack what was laid behind.
    let out = dir.path().join("out");
    tool(&["bash", "-c", &format!("dd if={} of={1} bs=512 skip=10240 count=16384 status=none && e2fsck -fn {1}", text(&disk), text(&part))]);
    tool(&["debugfs", "-R", &format!("dump /boot/last.img {}", text(&out)), text(&part)]);
    let bytes = fs::read(&out).unwrap();
    assert_eq!(bytes[..last.len()], last);
    fs::write(&out, &bytes[last.len().next_multiple_of(4)..]).unwrap();
    tool(&["bash", "-c", &format!("cd {} && cpio -id --quiet < {}", text(dir.path()), text(&out))]);
    assert!(fs::read(dir.path().join(&within).join("kernel/nvme.ko")).unwrap() == module, "the module is as it was");
}
