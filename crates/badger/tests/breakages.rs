//! A real Debian disk, broken in one place at a time by the system's own tools: the check names the link that is broken, and calls nothing
//! broken that is sound.

use crate::support::{Place, path, system_disk, text};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::Mutex;

/// What the scripts have at hand: the disk is `$IMG`, its system partition for mtools `$ESP`, the root for debugfs behind `d`.
const TOOLS: &str = r#"
set -euo pipefail
cp --sparse=always "$BASE" "$IMG"
start() { sfdisk -d "$IMG" | awk -F'[=,]' -v n="$1" '$1 ~ "img"n" " {print $2*512}'; }
export ESP="$IMG@@$(start 2)" ROOT="$IMG?offset=$(start 3)" MTOOLS_SKIP_CHECK=1
d() { debugfs -w -R "$1" "$ROOT" 2>/dev/null >/dev/null; }
get() { debugfs -R "dump $1 $2" "$ROOT" 2>/dev/null >/dev/null; [ -f "$2" ]; }
put() { local mode=${3:-0100644}; d "rm $2"; d "write $1 $2"; d "sif $2 mode $mode"; }
text() { get "$1" f; bash -c "$2 f"; put f "$1"; }            # a file of text, changed by a command
flip() { get "$1" f; at=$(( $(stat -c %s f) * ${2:-50} / 100 )); printf '\x5a\xa5\x11' | dd of=f bs=1 seek=$at conv=notrunc status=none; put f "$1" 0100755; }
V=$(debugfs -R 'ls -p /lib/modules' "$ROOT" 2>/dev/null | awk -F/ '$6 ~ /^[0-9]/ {print $6}')
R=/boot/initrd.img-$V K=/boot/vmlinuz-$V
initrd() { mkdir t; get "$R" i; (cd t; zstd -dcq ../i | cpio -idm --quiet; eval "$1"; find . | cpio -o -H newc --quiet | zstd -q -1 > ../i); put i "$R"; }
real() { readlink -f "$1"; }
M=usr/lib/modules/$V/kernel
"#;

/// What is done, the link that is broken by it (empty: none), and how.
const BREAKAGES: &[(&str, &str, &str)] = &[
    ("nothing", "", ""),
    // Firmware and loaders.
    ("loader cut off", "loader", "mcopy -n -i $ESP ::EFI/BOOT/BOOTX64.EFI l; truncate -s 60000 l; mcopy -o -i $ESP l ::EFI/BOOT/BOOTX64.EFI"),
    ("loader of zeroes", "loader", "head -c 200000 /dev/zero > l; mcopy -o -i $ESP l ::EFI/BOOT/BOOTX64.EFI"),
    (
        "loader for another processor",
        "loader",
        "mcopy -n -i $ESP ::EFI/BOOT/BOOTX64.EFI l; printf '\\x64\\xaa' | dd of=l bs=1 seek=$(( $(od -An -tu4 -j60 -N4 l) + 4 )) conv=notrunc status=none; mcopy -o -i $ESP l ::EFI/BOOT/BOOTX64.EFI",
    ),
    (
        "signed loader with a flipped bit",
        "loader",
        "cp /usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed l; printf Z | dd of=l bs=1 seek=300000 conv=notrunc status=none; mcopy -o -i $ESP l ::EFI/BOOT/BOOTX64.EFI",
    ),
    (
        "system partition without its boot sector",
        "system-partition",
        "dd if=/dev/zero of=$IMG bs=512 seek=$(( $(start 2)/512 )) count=16 conv=notrunc status=none",
    ),
    ("system partition that is no FAT", "system-partition", "mke2fs -q -F -E offset=$(start 2) $IMG 65536k"),
    ("loaders gone", "loader", "mdeltree -i $ESP ::EFI/BOOT ::EFI/debian; mmd -i $ESP ::EFI/none"),
    (
        "loader looks for another volume",
        "stub",
        "mcopy -n -i $ESP ::EFI/debian/grub.cfg l; sed -i -E 's/[0-9a-f]{8}-/77777777-/' l; mcopy -o -i $ESP l ::EFI/debian/grub.cfg",
    ),
    ("configuration gone", "configuration", "d 'rm /boot/grub/grub.cfg'"),
    ("configuration empty", "configuration", ": > f; put f /boot/grub/grub.cfg"),
    ("configuration without entries", "configuration", "echo 'set timeout=5' > f; put f /boot/grub/grub.cfg"),
    ("configuration for another volume", "kernel", "text /boot/grub/grub.cfg 'sed -i -E s/[0-9a-f]{8}-/77777777-/g'"),
    // The kernel.
    ("kernel gone", "kernel", "d \"rm $K\""),
    ("kernel empty", "kernel", ": > f; put f $K"),
    ("kernel cut off", "kernel", "get $K f; truncate -s 3000000 f; put f $K"),
    ("kernel with a flipped bit", "kernel", "flip $K"),
    ("kernel with damage at its end", "kernel", "flip $K 97"),
    (
        "kernel for another processor",
        "kernel",
        "cp /usr/lib/shim/shimx64.efi f; printf '\\x64\\xaa' | dd of=f bs=1 seek=$(( $(od -An -tu4 -j60 -N4 f) + 4 )) conv=notrunc status=none; put f $K",
    ),
    ("kernel is a text", "kernel", "(yes text || true) | head -c 100000 > f; put f $K"),
    // The initial RAM file system.
    ("initrd gone", "initial", "d \"rm $R\""),
    ("initrd cut off", "initial", "get $R f; truncate -s 2000000 f; put f $R"),
    ("initrd with a flipped bit", "initial", "flip $R"),
    ("no init in it", "initial", "initrd 'rm init'"),
    ("its init is not executable", "initial", "initrd 'chmod a-x init'"),
    ("its init is empty", "initial", "initrd ': > init'"),
    ("its init wants a shell that is not there", "initial", "initrd 'sed -i 1s,/bin/sh,/bin/zsh, init'"),
    ("no shell in it", "initial", "initrd 'rm -f usr/bin/sh usr/bin/sh.shared usr/bin/busybox'"),
    ("its shell is empty", "initial", "initrd 'f=usr/bin/$(basename $(readlink usr/bin/sh || echo sh)); : > $f'"),
    ("its shell's library is gone", "initial", "initrd 'rm -f usr/lib/klibc-* usr/lib/x86_64-linux-gnu/libc.so.6'"),
    ("its shell is for another processor", "initial", "initrd 'printf \"\\xb7\" | dd of=usr/bin/sh bs=1 seek=18 conv=notrunc status=none'"),
    ("modules of another kernel", "initial", "initrd 'mv usr/lib/modules/* usr/lib/modules/5.4.0-1-amd64'"),
    ("no modules", "drivers", "initrd 'rm -r usr/lib/modules'"),
    ("empty modules", "drivers", "initrd 'find usr/lib/modules -name \"*.ko\" -exec truncate -s 0 {} +'"),
    ("modules cut off", "drivers", "initrd 'find usr/lib/modules -name \"*.ko\" -exec truncate -s 2000 {} +'"),
    ("no libata", "drivers", "initrd 'rm $(find . -name libata.ko)'"),
    ("no sd_mod", "drivers", "initrd 'rm $(find . -name sd_mod.ko)'"),
    ("no ahci", "drivers", "initrd 'rm $(find . -name ahci.ko)'"),
    ("no ext4", "drivers", "initrd 'rm $(find . -name ext4.ko)'"),
    ("no journal for ext4", "drivers", "initrd 'rm $(find . -name jbd2.ko)'"),
    ("ext4 empty", "drivers", "initrd ': > $(find . -name ext4.ko)'"),
    ("ahci for another kernel", "drivers", "initrd 'sed -i s/vermagic=6/vermagic=5/ $(find . -name ahci.ko)'"),
    // The root.
    ("root by another name", "root", "text /boot/grub/grub.cfg 'sed -i -E s/root=UUID=[0-9a-f]{4}/root=UUID=7777/'"),
    ("root given by a label that is not there", "root", "text /boot/grub/grub.cfg 'sed -i s/root=UUID=[-0-9a-f]*/root=LABEL=gone/'"),
    ("mount that is not there", "mounts", "text /etc/fstab 'sed -i \\$aUUID=77777777-1111-2222-3333-444444444444\\ /srv\\ ext4\\ defaults\\ 0\\ 2'"),
    ("optional mount that is not there", "", "text /etc/fstab 'sed -i \\$aUUID=77777777-1111-2222-3333-444444444444\\ /srv\\ ext4\\ nofail\\ 0\\ 2'"),
    (
        "automount that is not there",
        "",
        "text /etc/fstab 'sed -i \\$aUUID=77777777-1111-2222-3333-444444444444\\ /srv\\ ext4\\ x-systemd.automount\\ 0\\ 2'",
    ),
    ("locked volume that is not there", "mounts", "echo 'data UUID=77777777-1111-2222-3333-444444444444 none luks' > f; put f /etc/crypttab"),
    ("system partition by another name", "mounts", "text /etc/fstab 'sed -i -E -e s,^UUID=[0-9A-F]{4}-[0-9A-F]{4},UUID=7777-7777, -e s/,noauto//'"),
    // The system.
    ("init gone", "init", "d 'rm /usr/sbin/init'"),
    ("systemd gone", "init", "d 'rm /usr/lib/systemd/systemd'"),
    ("systemd empty", "init", ": > f; put f /usr/lib/systemd/systemd 0100755"),
    ("systemd not executable", "init", "d 'sif /usr/lib/systemd/systemd mode 0100644'"),
    ("systemd with a flipped bit", "init", "flip /usr/lib/systemd/systemd"),
    (
        "systemd for another processor",
        "init",
        "get /usr/lib/systemd/systemd f; printf '\\xb7' | dd of=f bs=1 seek=18 conv=notrunc status=none; put f /usr/lib/systemd/systemd 0100755",
    ),
    (
        "systemd's own library gone",
        "init",
        "d \"rm $(debugfs -R 'ls -p /usr/lib/x86_64-linux-gnu/systemd' \"$ROOT\" 2>/dev/null | awk -F/ '/shared/{print \"/usr/lib/x86_64-linux-gnu/systemd/\"$6}' | head -1)\"",
    ),
    ("libc gone", "init", "d 'rm /usr/lib/x86_64-linux-gnu/libc.so.6'"),
    ("libc empty", "init", ": > f; put f /usr/lib/x86_64-linux-gnu/libc.so.6 0100755"),
    ("libc cut off", "init", "get /usr/lib/x86_64-linux-gnu/libc.so.6 f; truncate -s 100000 f; put f /usr/lib/x86_64-linux-gnu/libc.so.6 0100755"),
    ("libc with a flipped bit", "init", "flip /usr/lib/x86_64-linux-gnu/libc.so.6"),
    ("a library of a library gone", "init", "d 'rm /usr/lib/x86_64-linux-gnu/libpcre2-8.so.0'"),
    ("the dynamic loader gone", "init", "d 'rm /usr/lib/x86_64-linux-gnu/ld-linux-x86-64.so.2'"),
    ("the dynamic loader not executable", "init", "d 'sif /usr/lib/x86_64-linux-gnu/ld-linux-x86-64.so.2 mode 0100644'"),
    ("the dynamic loader's name gone", "init", "d 'rm /usr/lib64/ld-linux-x86-64.so.2'"),
    ("shell gone", "init", "d 'rm /usr/bin/dash'"),
    ("wrong init", "init", "text /boot/grub/grub.cfg 'sed -i \"s,quiet,init=/sbin/none,;s, ro$, ro init=/sbin/none,;s, ro , ro init=/sbin/none ,\"'"),
    ("right init", "", "text /boot/grub/grub.cfg 'sed -i \"s, ro$, ro init=/lib/systemd/systemd,;s, ro , ro init=/lib/systemd/systemd ,\"'"),
    (
        "target gone",
        "init",
        "d 'rm /usr/lib/systemd/system/graphical.target'; d 'rm /usr/lib/systemd/system/default.target'; d 'rm /etc/systemd/system/default.target'",
    ),
    ("target masked", "init", "d 'rm /etc/systemd/system/default.target'; d 'symlink /etc/systemd/system/default.target /dev/null'"),
    // The other firmware.
    ("no boot code", "first-sector", "mdeltree -i $ESP ::EFI; dd if=/dev/zero of=$IMG bs=440 count=1 conv=notrunc status=none"),
    ("core image zeroed", "core", "dd if=/dev/zero of=$IMG bs=1M seek=1 count=1 conv=notrunc status=none"),
    ("core image damaged", "core", "dd if=/dev/urandom of=$IMG bs=512 seek=2100 count=4 conv=notrunc status=none"),
    ("GRUB's modules gone", "modules", "d 'rm /boot/grub/i386-pc/normal.mod'"),
    // Menus as distributions write them, sound and broken.
    (
        "a submenu as the default",
        "",
        "get /boot/grub/grub.cfg f; { echo \"set default='adv>new'\"; grep -v menuentry\\ \\'Deb f | sed -n '/^search/p'; echo \"submenu More --id adv {\"; cat f; sed 's/menuentry .*{/menuentry new --id new {/' f; echo '}'; } > g; put g /boot/grub/grub.cfg",
    ),
    (
        "a default that was saved",
        "kernel",
        "printf '# GRUB Environment Block\\nsaved_entry=bad\\n' > e; truncate -s 1024 e; put e /boot/grub/grubenv; get /boot/grub/grub.cfg f; { echo 'load_env'; echo 'set default=\"${saved_entry}\"'; cat f; sed \"s/menuentry .*{/menuentry Bad --id bad {/; s,linux *[^ ]*,linux /boot/none,\" f; } > g; put g /boot/grub/grub.cfg",
    ),
    (
        "another system's entry",
        "",
        "get /boot/grub/grub.cfg f; { cat f; printf \"menuentry 'Other' --id osprober-gnulinux-1 {\\n search --fs-uuid --set=root 77777777-1111-2222-3333-444444444444\\n linux /vmlinuz root=UUID=77777777-1111-2222-3333-444444444444\\n}\\n\"; } > g; put g /boot/grub/grub.cfg",
    ),
    (
        "a configuration of its own",
        "",
        "get /boot/grub/grub.cfg f; put f /boot/grub/custom.cfg; echo 'if [ -f $prefix/custom.cfg ]; then source $prefix/custom.cfg; fi' > g; put g /boot/grub/grub.cfg",
    ),
];

/// Links that do not hold, of a check of a disk; `?` in front of those that were not looked into.
fn told(place: &Place, disk: &Path) -> Vec<String> {
    let (_, report) = place.json(&["check", path(disk)]);
    let lines = report["proof"].as_array().unwrap_or_else(|| panic!("{report}"));
    let name = |line: &serde_json::Value| {
        let name = line["link"].as_str().unwrap_or_default().rsplit('/').next().unwrap_or_default().to_string();
        match line["result"].as_str() {
            Some("fails") => Some(name),
            Some("not-checked") => Some(format!("?{name}")),
            _ => None,
        }
    };
    lines.iter().filter(|line| line["what"] == "boot").filter_map(name).collect()
}

/// Makes a disk by a script, in a folder of its own; the disk, and what the script said.
pub fn made(dir: &Path, base: &Path, tools: &str, script: &str) -> (PathBuf, Output) {
    let image = dir.join("disk.img");
    let script = format!("{tools}\n{script}");
    let done = Command::new("bash").args(["-c", &script]).current_dir(dir).env("IMG", &image).env("BASE", base).output().unwrap();
    (image, done)
}

/// Makes a disk by each script, two at a time, checks it, and compares the links that do not hold with those that are expected.
pub fn each(place: &Place, base: &Path, tools: &str, all: &[(&str, &str, &str)], is_right: impl Fn(&[String], &str) -> bool + Sync) {
    let (rest, wrong) = (Mutex::new(all.iter()), Mutex::new(Vec::new()));
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let Some((name, link, script)) = rest.lock().unwrap().next() else { return };
                    let dir = tempfile::tempdir_in(place.dir.path()).unwrap();
                    let (image, done) = made(dir.path(), base, tools, script);
                    let found = if image.exists() { told(place, &image) } else { vec!["no disk".into()] };
                    eprintln!("{name}: {found:?}");
                    if !is_right(&found, link) || !done.status.success() {
                        wrong.lock().unwrap().push(format!("{name}: wanted {link:?}, found {found:?} {}", text(&done.stderr)));
                    }
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), all.len(), wrong.join("\n"));
}

#[test]
fn each_breakage_is_named_at_its_link() {
    let place = Place::new();
    let disk = system_disk(&place, "whole.img", &["--size", "900M", "--table", "gpt", "--modules", "dep"]);
    each(&place, &disk, TOOLS, BREAKAGES, |found, wanted| match wanted {
        "" => found.is_empty(),
        wanted => found.iter().any(|found| found == wanted),
    });
}
