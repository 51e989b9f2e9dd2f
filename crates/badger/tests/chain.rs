//! Real system disks, broken in many ways: each broken link of the boot chain is named, and nothing else is called broken.

#[path = "../../system/tests/support/links.rs"]
mod links;
use crate::support::{Mount, Place, killed_at, path, started, starts, system_disk, text, tool};
use badger_drive::Workshop;
use badger_inspect::{Line, Looked, Verdict};
use links::{named, told};
use std::fs;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

/// A copy of a system disk that is being broken.
struct Disk {
    path: PathBuf,
    /// First bytes of its system partition and of its root.
    esp: u64,
    root: u64,
    scratch: PathBuf,
    /// Where the root is nothing that debugfs knows, how it is mounted.
    mounts: Option<&'static str>,
}

/// One at a time: copies of a volume that are mounted at once are taken for one.
static MOUNTED: Mutex<()> = Mutex::new(());

impl Disk {
    fn patch(&self, at: u64, bytes: &[u8]) {
        fs::OpenOptions::new().write(true).open(&self.path).unwrap().write_all_at(bytes, at).unwrap();
    }

    fn mtools(&self, program: &str, args: &[&str]) {
        let image = format!("{}@@{}", path(&self.path), self.esp);
        tool(&[&[program, "-i", &image], args].concat());
    }

    /// Commands for the root's file system.
    fn debugfs(&self, commands: &[String]) {
        let script = self.scratch.join("commands");
        fs::write(&script, commands.join("\n") + "\n").unwrap();
        tool(&["debugfs", "-w", "-f", path(&script), &format!("{}?offset={}", path(&self.path), self.root)]);
    }

    /// Mounts the root and has something done in it.
    fn within<T>(&self, options: &str, with: impl FnOnce(&Path) -> T) -> T {
        let _one = MOUNTED.lock().unwrap();
        let options = format!("loop,offset={},{options}", self.root);
        let mount = Mount::of(&["mount", "-o", &options], path(&self.path), self.scratch.join("mnt"));
        let out = with(&mount.0);
        drop(mount);
        let _ = std::process::Command::new("btrfs").args(["device", "scan", "--forget"]).output();
        out
    }

    fn remove(&self, file: &str) {
        if let Some(options) = self.mounts {
            return self.within(options, |root| fs::remove_file(root.join(&file[1..])).unwrap());
        }
        self.debugfs(&[format!("rm {file}")]);
    }

    /// A file of the root, changed.
    fn change(&self, file: &str, change: impl FnOnce(Vec<u8>) -> Vec<u8>) {
        if let Some(options) = self.mounts {
            let there = |root: &Path| root.join(&file[1..]);
            return self.within(options, |root| fs::write(there(root), change(fs::read(there(root)).unwrap())).unwrap());
        }
        let (out, new) = (self.scratch.join("out"), self.scratch.join("new"));
        self.debugfs(&[format!("dump {file} {}", path(&out))]);
        fs::write(&new, change(fs::read(&out).unwrap())).unwrap();
        self.debugfs(&[format!("rm {file}"), format!("write {} {file}", path(&new))]);
    }

    fn change_text(&self, file: &str, from: &str, to: &str) {
        self.change(file, |bytes| {
            let text = String::from_utf8(bytes).unwrap();
            assert!(text.contains(from), "{file} has no {from}: {text}");
            text.replace(from, to).into_bytes()
        });
    }

    fn named(&self, start: &str) -> String {
        if let Some(options) = self.mounts {
            let names =
                |root: &Path| fs::read_dir(root.join("boot")).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
            let all: Vec<String> = self.within(options, names);
            return format!("/boot/{}", all.iter().find(|name| name.starts_with(start)).unwrap_or_else(|| panic!("{start}: {all:?}")));
        }
        let listed = text(&tool(&["debugfs", "-R", "ls -p /boot", &format!("{}?offset={}", path(&self.path), self.root)]).stdout);
        let name = listed.lines().find_map(|line| line.split('/').find(|name| name.starts_with(start)).map(str::to_string));
        format!("/boot/{}", name.unwrap_or_else(|| panic!("{start}: {listed}")))
    }

    fn lines(&self) -> Vec<Line> {
        let drive = Workshop::default().source(&self.path).unwrap();
        badger_system::lines(&drive, &Looked::at(&drive))
    }
}

type Breaks = (&'static str, &'static [&'static str], fn(&Disk));

fn no_driver(disk: &Disk) {
    let packed = disk.scratch.join("initrd");
    let script = format!(
        "mkdir -p {0}/x && cd {0}/x && echo nothing > init && chmod +x init && find . | cpio -o -H newc 2>/dev/null | gzip > {1}",
        path(&disk.scratch),
        path(&packed)
    );
    tool(&["bash", "-c", &script]);
    let new = fs::read(&packed).unwrap();
    disk.change(&disk.named("initrd.img"), |_| new);
}

/// The drivers lie there still, and nothing says that they are to be loaded: their list is changed.
fn idle_drivers(disk: &Disk, change: &str) {
    let (packed, script) = (
        disk.scratch.join("initrd"),
        "set -o pipefail; mkdir -p $0/idle; cd $0/idle; zstd -qdc $0/out | cpio -id --quiet; \
        eval $1; find . | cpio -o -H newc --quiet | zstd -q > $0/initrd",
    );
    disk.change(&disk.named("initrd.img"), |_| {
        tool(&["bash", "-ec", script, path(&disk.scratch), change]);
        fs::read(&packed).unwrap()
    });
}

fn one_byte_of_the_initial(disk: &Disk) {
    disk.change(&disk.named("initrd.img"), |mut bytes| {
        let middle = bytes.len() / 2;
        bytes[middle] ^= 0x10;
        bytes
    });
}

/// What is done to a disk for both firmwares on the newer kind of table, and which links are named for it; `?` in front: as not known.
static GPT: [Breaks; 33] = [
    ("no program at the fallback path", &["?uefi/loader"], |disk| disk.mtools("mdel", &["::/EFI/BOOT/BOOTX64.EFI"])),
    ("no program at all", &["uefi/loader"], |disk| {
        disk.mtools("mdel", &["::/EFI/BOOT/BOOTX64.EFI"]);
        disk.mtools("mdel", &["::/EFI/debian/grubx64.efi"]);
    }),
    ("a program that is cut off", &["uefi/loader"], |disk| {
        let part = disk.scratch.join("part.efi");
        disk.mtools("mcopy", &["-o", "::/EFI/BOOT/BOOTX64.EFI", path(&part)]);
        let bytes = fs::read(&part).unwrap();
        fs::write(&part, &bytes[..bytes.len() / 2]).unwrap();
        disk.mtools("mcopy", &["-o", path(&part), "::/EFI/BOOT/BOOTX64.EFI"]);
    }),
    ("a program for another processor", &["uefi/loader"], |disk| {
        let part = disk.scratch.join("part.efi");
        disk.mtools("mcopy", &["-o", "::/EFI/BOOT/BOOTX64.EFI", path(&part)]);
        let mut bytes = fs::read(&part).unwrap();
        let at = u32::from_le_bytes(bytes[0x3c..0x40].try_into().unwrap()) as usize;
        bytes[at + 4..at + 6].copy_from_slice(&0xaa64u16.to_le_bytes());
        fs::write(&part, &bytes).unwrap();
        disk.mtools("mcopy", &["-o", path(&part), "::/EFI/BOOT/BOOTX64.EFI"]);
    }),
    ("no stub on the system partition", &["uefi/stub"], |disk| disk.mtools("mdel", &["::/EFI/debian/grub.cfg"])),
    ("a stub that names another volume", &["uefi/stub"], |disk| {
        let stub = disk.scratch.join("stub");
        let line = "search --no-floppy --fs-uuid --set=root 00000000-1111-2222-3333-444444444444\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n";
        fs::write(&stub, line).unwrap();
        disk.mtools("mcopy", &["-o", path(&stub), "::/EFI/debian/grub.cfg"]);
    }),
    ("the system partition of another type", &["uefi/system-partition"], |disk| {
        tool(&["sfdisk", "-q", "--no-reread", "--part-type", path(&disk.path), "2", "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"]);
    }),
    ("the system partition without a file system", &["uefi/system-partition"], |disk| disk.patch(disk.esp, &[0; 4096])),
    ("no configuration", &["configuration"], |disk| disk.remove("/boot/grub/grub.cfg")),
    ("an empty configuration", &["configuration"], |disk| disk.change("/boot/grub/grub.cfg", |_| b"set timeout=5\n".to_vec())),
    ("no kernel", &["kernel"], |disk| disk.remove(&disk.named("vmlinuz"))),
    ("a kernel that is cut off", &["kernel"], |disk| disk.change(&disk.named("vmlinuz"), |bytes| bytes[..bytes.len() / 2].to_vec())),
    ("an empty kernel", &["kernel"], |disk| disk.change(&disk.named("vmlinuz"), |_| Vec::new())),
    ("a kernel of zeroes", &["kernel"], |disk| {
        disk.change(&disk.named("vmlinuz"), |mut bytes| {
            let end = bytes.len() - 4096;
            bytes[65_536..end].fill(0);
            bytes
        });
    }),
    ("a configuration that names another kernel", &["kernel"], |disk| {
        disk.change_text("/boot/grub/grub.cfg", "linux /boot/vmlinuz", "linux /boot/vmlinux")
    }),
    ("a configuration that looks for another volume", &["kernel"], |disk| {
        disk.change_text("/boot/grub/grub.cfg", "--set=root ", "--set=root 00000000");
    }),
    ("no initial RAM file system", &["initial"], |disk| disk.remove(&disk.named("initrd.img"))),
    ("an initial RAM file system that is cut off", &["initial"], |disk| {
        disk.change(&disk.named("initrd.img"), |bytes| bytes[..bytes.len() - 5000].to_vec());
    }),
    ("one byte of the initial RAM file system", &["initial"], one_byte_of_the_initial),
    ("no driver for any disk", &["drivers"], no_driver),
    ("drivers that nobody lists", &["?drivers"], |disk| idle_drivers(disk, "truncate -s 0 conf/modules")),
    ("no list of drivers, and nobody who waits for devices", &["?drivers"], |disk| idle_drivers(disk, "rm conf/modules")),
    ("another root", &["root"], |disk| disk.change_text("/boot/grub/grub.cfg", "root=UUID=", "root=UUID=00000000")),
    ("another root in fstab", &["mounts"], |disk| disk.change_text("/etc/fstab", "UUID=", "UUID=0000")),
    ("a volume in fstab that is not there", &["mounts"], |disk| {
        disk.change("/etc/fstab", |bytes| [bytes, b"LABEL=archive /srv ext4 defaults 0 2\n".to_vec()].concat());
    }),
    ("a volume in fstab that need not be there", &[], |disk| {
        disk.change("/etc/fstab", |bytes| [bytes, b"LABEL=archive /srv ext4 defaults,nofail 0 2\n".to_vec()].concat());
    }),
    ("a root with another identifier", &["stub"], |disk| {
        // As a copy with fresh identifiers has it.
        let copy = disk.scratch.join("root.img");
        tool(&["bash", "-c", &format!("dd if={} of={} bs=1M skip={} conv=sparse status=none", path(&disk.path), path(&copy), disk.root >> 20)]);
        tool(&[
            "bash",
            "-c",
            &format!("truncate -s %1M {0}; e2fsck -fy {0} >/dev/null; tune2fs -f -U 00000000-1111-2222-3333-444444444444 {0}", path(&copy)),
        ]);
        tool(&[
            "bash",
            "-c",
            &format!("dd if={} of={} bs=1M seek={} conv=notrunc,sparse status=none", path(&copy), path(&disk.path), disk.root >> 20),
        ]);
        fs::remove_file(copy).unwrap();
    }),
    ("boot code that points to nothing", &["bios/core"], |disk| disk.patch(0x5c, &1500u64.to_le_bytes())),
    ("an empty sector in the core image", &["bios/core"], |disk| disk.patch((2048 + 60) * 512, &[0; 512])),
    ("a core image that is gone", &["bios/core"], |disk| disk.patch(2048 * 512, &[0; 512])),
    ("the second half of the core image", &["bios/core"], |disk| disk.patch((2048 + 100) * 512, &vec![0; 113 * 512])),
    ("a partition for something else over the core image", &["bios/core"], |disk| {
        tool(&["sfdisk", "-q", "--no-reread", "--part-type", path(&disk.path), "1", "0FC63DAF-8483-4772-8E79-3D69D8477DE4"]);
    }),
    ("boot code that nobody knows", &["?bios/first-sector"], |disk| disk.patch(0, &[0x90; 400])),
];

/// The same on the older kind.
static MBR: [Breaks; 3] = [
    ("no modules of the loader", &["bios/modules"], |disk| disk.remove("/boot/grub/i386-pc/normal.mod")),
    ("no boot code, and a partition to be started", &["bios/first-sector"], |disk| disk.patch(0, &[0; 440])),
    ("boot code for an active partition, whose record loads nothing", &["?bios/volume-record"], |disk| {
        let mut code = [0x90; 440];
        code[300..324].copy_from_slice(b"Missing operating system");
        disk.patch(0, &code);
        disk.patch(disk.root + 510, &[0x55, 0xaa]);
        disk.patch(disk.root + 0x5a, &[0x90; 16]);
    }),
];

/// On roots of other formats, whatever the table.
static ROOTS: [Breaks; 6] = [
    ("no configuration", &["configuration"], |disk| disk.remove("/boot/grub/grub.cfg")),
    ("a kernel that is cut off", &["kernel"], |disk| disk.change(&disk.named("vmlinuz"), |bytes| bytes[..bytes.len() / 2].to_vec())),
    ("one byte of the initial RAM file system", &["initial"], one_byte_of_the_initial),
    ("no driver for any disk", &["drivers"], no_driver),
    ("another root", &["root"], |disk| disk.change_text("/boot/grub/grub.cfg", "root=UUID=", "root=UUID=00000000")),
    ("another root in fstab", &["mounts"], |disk| disk.change_text("/etc/fstab", "UUID=", "UUID=0000")),
];

/// Where the system lies in a subvolume.
static SUBVOLUMES: [Breaks; 4] = [
    ("a stub that looks at the top of the volume", &["uefi/configuration"], |disk| {
        let stub = disk.scratch.join("stub");
        disk.mtools("mcopy", &["-o", "::/EFI/debian/grub.cfg", path(&stub)]);
        fs::write(&stub, fs::read_to_string(&stub).unwrap().replace("/@/boot", "/boot")).unwrap();
        disk.mtools("mcopy", &["-o", path(&stub), "::/EFI/debian/grub.cfg"]);
    }),
    ("a kernel that is looked for at the top of the volume", &["kernel"], |disk| {
        disk.change_text("/boot/grub/grub.cfg", "linux /@/boot", "linux /boot");
    }),
    ("a subvolume that is not there", &["subvolume"], |disk| disk.change_text("/boot/grub/grub.cfg", "subvol=@", "subvol=@old")),
    ("a subvolume in fstab that is not there", &["mounts"], |disk| {
        disk.change("/etc/fstab", |bytes| {
            let text = String::from_utf8(bytes).unwrap();
            let id = text.split_whitespace().next().unwrap().to_string();
            format!("{text}{id} /home btrfs subvol=@home 0 0\n").into_bytes()
        });
    }),
];

/// Breaks a disk; what was named where that is not what was to be.
fn is_missed(broken: &Disk, (what, links, breaks): &Breaks) -> Option<String> {
    breaks(broken);
    let lines = broken.lines();
    // Where there is one way only, what both would share is a link of that one.
    let shared = |name: String| if links.contains(&name.as_str()) { name } else { name.trim_start_matches("bios/").to_string() };
    let mut named: Vec<String> =
        named(&lines).into_iter().map(|name| if links.iter().any(|link| link.contains('/')) { name } else { shared(name) }).collect();
    named.sort();
    let mut expected: Vec<String> = links.iter().map(ToString::to_string).collect();
    expected.sort();
    fs::remove_file(&broken.path).unwrap();
    (named != expected).then(|| format!("{what}: {expected:?}, and named was {named:?}\n{}", told(&lines)))
}

#[test]
fn every_broken_link_is_named() {
    let place = Place::new();
    // Copies share what is not broken in them.
    let shared = place.sparse("shared.xfs", 6 << 30);
    tool(&["mkfs.xfs", "-q", "-m", "reflink=1", path(&shared)]);
    let _shared = Mount::of(&["mount", "-o", "loop"], path(&shared), place.path("shared"));
    let mut wrong = Vec::new();
    let roots: Vec<Breaks> = ROOTS.into_iter().chain(SUBVOLUMES).collect();
    let sets: [(&[&str], Option<&'static str>, &[Breaks]); 4] = [
        (&["--table", "gpt"], None, &GPT),
        (&["--table", "mbr"], None, &MBR),
        (&["--table", "gpt", "--root", "btrfs", "--subvolume", "@"], Some("subvol=@"), &roots),
        (&["--table", "mbr", "--root", "xfs"], Some("nouuid"), &ROOTS),
    ];
    for (options, mounts, breaks) in sets {
        let made = system_disk(&place, "shared/made.img", &[&["--size", "700M"], options].concat());
        let starts = starts(&made);
        let disk = |name: &str| {
            let copy = place.path(&format!("shared/{name}.img"));
            tool(&["cp", "--reflink=always", path(&made), path(&copy)]);
            let scratch = place.path(&format!("{name}-scratch"));
            fs::create_dir_all(&scratch).unwrap();
            Disk { path: copy, esp: starts.get(1).copied().unwrap_or(0), root: *starts.last().unwrap(), scratch, mounts }
        };
        let sound = disk("sound");
        let lines = sound.lines();
        assert!(lines.len() > 6 && lines.iter().all(|line| line.result == Verdict::Holds), "{}", told(&lines));
        fs::remove_file(&sound.path).unwrap();
        // Two at a time.
        let half = breaks.len().div_ceil(2);
        std::thread::scope(|scope| {
            let disk = &disk;
            let each = |name: &'static str, part: &[Breaks]| {
                let part = part.to_vec();
                scope.spawn(move || part.iter().filter_map(|breaks| is_missed(&disk(name), breaks)).collect::<Vec<String>>())
            };
            let threads = [each("first", &breaks[..half]), each("second", &breaks[half..])];
            threads.into_iter().for_each(|thread| wrong.extend(thread.join().unwrap()));
        });
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// A clone with fresh identifiers is set right in the same pass, and starts under the firmware whose loader lies in files. What was done can be
/// taken back and done again, and what a customer brought is never written to.
#[test]
fn a_clone_with_fresh_identifiers_starts() {
    let place = Place::new();
    let (disk, target) = (system_disk(&place, "disk.img", &["--size", "700M", "--table", "gpt", "--firmware", "both"]), place.path("target.img"));
    let before = fs::metadata(&disk).unwrap().modified().unwrap();
    let machine = place.path("machine.toml");
    fs::write(&machine, "name = \"Old one\"\nfirmware = \"uefi\"\ncontroller = \"nvme\"\ntakes = [\"nvme\"]\n").unwrap();
    let args = ["clone", path(&disk), path(&target), "--new-size", "1GiB", "--confirm", "rget", "--ids", "fresh", "--fit", "auto"];
    let (code, report) = place.json(&[&args[..], &["--machine", path(&machine)]].concat());
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    let links = |report: &serde_json::Value, result: &str| -> Vec<String> {
        let lines = report["proof"].as_array().unwrap().iter().filter(|line| line["result"] == result);
        lines.map(|line| line["link"].as_str().unwrap_or_default().to_string()).collect()
    };
    // The core image for the other firmware has the old name packed within it, which is not changed in place.
    assert!(links(&report, "differs").contains(&"bios/stub".to_string()) && links(&report, "fails").is_empty(), "{report}");
    let fitting: Vec<String> = links(&report, "holds").into_iter().filter(|link| link.starts_with("machine/")).collect();
    assert_eq!(fitting, ["machine/firmware", "machine/controller"], "{report}");
    assert_eq!(place.json(&["mend", path(&disk), "--confirm", "disk"]).1["code"], "not-a-target");
    let whole = || text(&tool(&["md5sum", path(&target)]).stdout);
    let (code, nothing) = place.json(&["mend", path(&target)]);
    assert_eq!((code, nothing["repairs"].as_array().unwrap().len()), (0, 0), "{nothing}");
    tool(&["bash", "-c", &format!("dd if={0} of={0}.root bs=1M skip={1} status=none && e2fsck -fn {0}.root", path(&target), 66)]);
    // The job's paper says what stands there now.
    let sheet = place.path("sheet.pdf");
    place.run(&["sheet", "1", "--pdf", path(&sheet)]);
    let paper = text(&tool(&["pdftotext", "-layout", path(&sheet), "-"]).stdout);
    assert!(paper.contains("set right after the copy"), "{paper}");
    let (up, console) = started(&target, "uefi", "nvme");
    assert!(up, "{console}");
    let mended = whole();
    let (_, undone) = place.json(&["mend", path(&target), "--undo", "--confirm", "rget"]);
    assert_eq!(undone["outcome"], "undone", "{undone}");
    assert_eq!(place.json(&["mend", path(&target), "--undo", "--confirm", "rget"]).1["code"], "nothing-to-undo");
    let unmended = whole();
    let (code, shown) = place.json(&["mend", path(&target)]);
    assert_eq!((code, shown["outcome"].as_str()), (2, Some("shown")), "{shown}");
    assert_eq!(whole(), unmended, "shown is not done");
    assert_eq!(place.json(&["mend", path(&target), "--confirm", "tape"]).1["code"], "wrong-tail");
    let (_, again) = place.json(&["mend", path(&target), "--confirm", "rget"]);
    assert_eq!((again["outcome"].as_str(), links(&again, "fails")), (Some("mended"), vec!["bios/stub".to_string()]), "{again}");
    assert_eq!(whole(), mended);
    assert_eq!(fs::metadata(&disk).unwrap().modified().unwrap(), before);
    mending_is_killed_anywhere(&place, &target, &[unmended, mended]);
}

/// Kills at every call of a mend that makes something durable: given again it comes to its end, and taken back nothing of it is left.
fn mending_is_killed_anywhere(place: &Place, target: &Path, [unmended, mended]: &[String; 2]) {
    let whole = || text(&tool(&["md5sum", path(target)]).stdout);
    let mend = ["mend", path(target), "--confirm", "rget"];
    let undo = || place.json(&[&mend[..], &["--undo"]].concat()).1;
    assert_eq!(undo()["outcome"], "undone");
    let (killed, count) = killed_at(place, "flush", 0, &mend);
    assert!(!killed && count > 5, "{count}");
    assert_eq!(undo()["outcome"], "undone");
    for at in 1..=count {
        let (killed, _) = killed_at(place, "flush", at, &mend);
        let told = format!("{at} of {count}, killed: {killed}");
        if at % 2 == 0 {
            let (code, again) = place.json(&mend);
            assert!(again["outcome"] == "mended" || code == 0, "{told}: {again}");
            assert_eq!(whole(), *mended, "{told}: {again}");
        }
        // A second mend may have continued a torn one. Both are undone.
        let last = std::iter::repeat_with(undo).take(4).find(|undone| undone["outcome"] != "undone").unwrap();
        assert_eq!(last["code"], "nothing-to-undo", "{told}: {last}");
        assert_eq!(whole(), *unmended, "{told}");
    }
}

/// A system with drivers for one controller only is given those of another machine's out of its own, and starts there; without them it does not.
#[test]
fn a_system_gets_drivers_for_another_controller_and_starts() {
    let place = Place::new();
    let disk = system_disk(&place, "disk.img", &["--size", "700M", "--firmware", "uefi", "--modules", "dep"]);
    let (target, machine) = (place.path("target.img"), place.path("m.toml"));
    fs::write(&machine, "name = \"Small one\"\nfirmware = \"uefi\"\ncontroller = \"nvme\"\nup-when = \"SYSTEM-READY\"\n").unwrap();
    let machine = path(&machine);
    // Besides, the loader lies where only the old machine knew to look.
    let bare = place.path("bare.img");
    tool(&["cp", "--sparse=always", path(&disk), path(&bare)]);
    tool(&["mdel", "-i", &format!("{}@@2M", path(&bare)), "::/EFI/BOOT/BOOTX64.EFI"]);
    let (_, lines) = place.json(&["check", path(&bare), "--machine", machine]);
    let fails = |lines: &serde_json::Value, link: &str| {
        lines["proof"].as_array().unwrap().iter().any(|line| line["link"] == link && line["result"] == "fails")
    };
    assert!(fails(&lines, "machine/controller") && fails(&lines, "machine/entry"), "{lines}");
    let (code, report) = place.json(&["clone", path(&bare), path(&target), "--new-size", "700MiB", "--confirm", "rget", "--machine", machine]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    let parts = "dd if={0} of={0}.root bs=1M skip=66 status=none && e2fsck -fn {0}.root && dd if={0} of={0}.esp bs=1M skip=2 count=64 status=none && fsck.fat -n {0}.esp";
    tool(&["bash", "-c", &parts.replace("{0}", path(&target))]);
    let before = text(&tool(&["md5sum", path(&disk), path(&target)]).stdout);
    std::thread::scope(|scope| {
        let rehearsed = |drive| {
            let place = &place;
            scope.spawn(move || place.json(&["rehearse", path(drive), "--patience", "60", "--machine", machine]))
        };
        let (without, with) = (rehearsed(&disk), rehearsed(&target));
        let ((code, without), (_, with)) = (without.join().unwrap(), with.join().unwrap());
        assert_eq!((code, without["line"]["result"].as_str()), (1, Some("fails")), "{without}");
        assert_eq!(with["line"]["result"], "holds", "{with}");
    });
    assert_eq!(text(&tool(&["md5sum", path(&disk), path(&target)]).stdout), before, "a rehearsal writes nothing");
    // What starts only what is signed does not start it, and the job says so.
    let (_, secure) = place.json(&["rehearse", path(&target), "--patience", "60", "--machine", "uefi-nvme"]);
    assert!(secure["line"]["text"].as_str().unwrap().contains("not signed"), "{secure}");
    let (_, jobs) = place.json(&["jobs"]);
    assert!(jobs.to_string().contains("finished"), "{jobs}");
    let (_, undone) = place.json(&["mend", path(&target), "--undo", "--confirm", "rget"]);
    assert_eq!(undone["outcome"], "undone", "{undone}");
    assert_eq!(place.json(&["verify", path(&bare), path(&target)]).0, 0);
}

/// A disk for BIOS becomes one for UEFI in the pass that copies it, and starts; what does not know how says so before anything is written. Taken back,
/// and done again beside the copy, it starts the same.
#[test]
fn a_disk_for_bios_becomes_one_for_uefi_and_starts() {
    let place = Place::new();
    let disk = system_disk(&place, "disk.img", &["--size", "700M", "--table", "mbr", "--keeps-uefi", "yes"]);
    let (target, machine) = (place.path("target.img"), place.path("m.toml"));
    fs::write(&machine, "name = \"New one\"\nfirmware = \"uefi\"\ncontroller = \"nvme\"\nup-when = \"SYSTEM-READY\"\n").unwrap();
    let machine = path(&machine);
    let bare = place.path("bare.img");
    tool(&["cp", "--sparse=always", path(&disk), path(&bare)]);
    tool(&["debugfs", "-w", "-R", "rm /usr/lib/grub/x86_64-efi/monolithic/grubx64.efi", &format!("{}?offset=1048576", path(&bare))]);
    let clone = |from: &Path, fit: &str, more: &[&str]| {
        let args = ["clone", path(from), path(&target), "--new-size", "1GiB", "--confirm", "rget", "--fit", fit, "--restart"];
        place.json(&[&args[..], more].concat())
    };
    let (code, refused) = clone(&bare, "auto,uefi", &[]);
    assert_eq!(code, 2, "{refused}");
    assert!(refused.to_string().contains("keeps no loader for UEFI"), "{refused}");
    assert!(!target.exists());
    let (code, report) = clone(&disk, "auto,uefi", &["--machine", machine, "--ids", "fresh"]);
    assert_eq!((code, report["outcome"].as_str()), (0, Some("proved")), "{report}");
    let table = text(&tool(&["sgdisk", "-v", "-p", path(&target)]).stdout);
    assert!(table.contains("No problems found") && table.contains("EF00"), "{table}");
    let starts: Vec<u64> = table.lines().filter_map(|line| line.trim().strip_prefix(['1', '2'])?.split_whitespace().next()?.parse().ok()).collect();
    let part = |at: u64, name: &str, check: &str| {
        tool(&[
            "bash",
            "-c",
            &format!(
                "dd if={0} of={0}.{name} bs=1M skip={1} status=none && truncate -s %4096 {0}.{name}; {check} {0}.{name}",
                path(&target),
                at >> 11
            ),
        ]);
    };
    part(starts[0], "root", "e2fsck -fn");
    let (_, rehearsed) = place.json(&["rehearse", path(&target), "--patience", "60", "--machine", machine]);
    assert_eq!(rehearsed["line"]["result"], "holds", "{rehearsed}");
    let (_, undone) = place.json(&["mend", path(&target), "--undo", "--confirm", "rget"]);
    assert_eq!(undone["outcome"], "undone", "{undone}");
    assert!(!text(&tool(&["sgdisk", "-p", path(&target)]).stdout).contains("EF00"));
    let (_, again) = place.json(&["mend", path(&target), "--uefi", "--confirm", "rget"]);
    assert_eq!(again["outcome"], "mended", "{again}");
    assert!(again["proof"].as_array().unwrap().iter().all(|line| line["result"] == "holds"), "{again}");
    assert_eq!(place.json(&["mend", path(&target), "--uefi"]).1["code"], "no-uefi");
}

/// Code for the first sector is what its source says, and starts the partition that is marked, in a machine for BIOS.
#[test]
fn code_for_the_first_sector_starts_the_marked_partition() {
    let place = Place::new();
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/../system/boot/first-sector");
    let put_together = |source: &str, at: &str, to: &Path| {
        let object = place.path("object.o");
        tool(&["as", "--32", "-o", path(&object), source]);
        tool(&["ld", "-m", "elf_i386", "--oformat", "binary", "-Ttext", at, "-e", "start", "-o", path(to), path(&object)]);
        fs::read(to).unwrap()
    };
    let code = put_together(&format!("{source}.s"), "0x600", &place.path("code"));
    assert_eq!(code, fs::read(format!("{source}.bin")).unwrap());
    // A boot record that says over the serial line what it was given, and switches off.
    let says = place.path("says.s");
    let lines = [".intel_syntax noprefix", ".code16", ".globl start", "start:", "jmp 1f", ".org start + 0x5a", "1: mov di, offset text"];
    let more = ["cmp byte ptr [si], 0x80", "jne 4f", "mov dx, 0x3f8", "2: mov al, [di]", "inc di", "test al, al", "jz 3f", "out dx, al", "jmp 2b"];
    let last =
        ["3: lidt [zero]", "int3", "4: hlt", "jmp 4b", "zero: .word 0, 0, 0", "text: .asciz \"SYSTEM-READY\\n\"", ".org start + 510", ".word 0xaa55"];
    fs::write(&says, [&lines[..], &more[..], &last[..]].concat().join("\n") + "\n").unwrap();
    let record = put_together(path(&says), "0x7c00", &place.path("record"));
    let disk = place.path("disk.img");
    fs::File::create(&disk).unwrap().set_len(16 << 20).unwrap();
    tool(&["bash", "-c", &format!("printf 'start=2048, size=2048, type=83\nstart=6144, type=83, bootable\n' | sfdisk -q {}", path(&disk))]);
    // What has no system is not looked at: it has one, whatever starts it.
    let system = place.path("system");
    fs::create_dir_all(system.join("etc")).unwrap();
    fs::write(system.join("etc/fstab"), "# nothing\n").unwrap();
    tool(&["mke2fs", "-q", "-F", "-d", path(&system), "-E", "offset=1048576", path(&disk), "1024k"]);
    let file = fs::OpenOptions::new().write(true).open(&disk).unwrap();
    file.write_all_at(&record, 6144 * 512).unwrap();
    let target = place.path("target.img");
    assert_eq!(place.json(&["clone", path(&disk), path(&target), "--new-size", "16MiB", "--confirm", "rget"]).0, 0);
    let (_, mended) = place.json(&["mend", path(&target), "--confirm", "rget"]);
    assert!(mended["repairs"].to_string().contains("starts partition 2"), "{mended}");
    let (_, console) = started(&target, "bios", "sata");
    assert!(console.contains("SYSTEM-READY"), "{console}");
}

/// What was a target once and is now what is copied from is what a customer brought: it is not mended.
#[test]
fn a_target_that_became_a_source_is_not_mended() {
    let place = Place::new();
    let first = place.noise("first.img", 8 << 20, 1);
    let (second, third) = (place.path("second.img"), place.path("third.img"));
    let clone = |from: &Path, to: &Path, tail: &str| place.json(&["clone", path(from), path(to), "--new-size", "8MiB", "--confirm", tail]).0;
    assert_eq!(clone(&first, &second, "cond"), 0);
    assert_eq!(place.json(&["mend", path(&second)]).1["outcome"], "shown");
    assert_eq!(clone(&second, &third, "hird"), 0);
    for undo in [&[][..], &["--undo"]] {
        let (code, refused) = place.json(&[&["mend", path(&second), "--confirm", "cond"], undo].concat());
        assert_eq!((code, refused["code"].as_str()), (2, Some("not-a-target")), "{refused}");
    }
    assert_eq!(place.json(&["mend", path(&third)]).1["outcome"], "shown");
}

/// A drive without a system is not called broken.
#[test]
fn what_has_no_system_is_not_called_broken() {
    let place = Place::new();
    let data = place.path("data.img");
    fs::File::create(&data).unwrap().set_len(64 << 20).unwrap();
    tool(&["bash", "-c", &format!("echo 'start=2048, type=83' | sfdisk -q {}", path(&data))]);
    let drive = Workshop::default().source(Path::new(&data)).unwrap();
    let lines = badger_system::lines(&drive, &Looked::at(&drive));
    assert!(lines.iter().all(|line| line.result == Verdict::NotChecked), "{}", told(&lines));
}
