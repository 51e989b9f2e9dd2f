//! One storage reached by two ways, targets that change between the look and the release, and files in use.

use crate::support::{Loop, Mounted, file, filled, losetup, refused, source, tail};
use badger_drive::Sysfs;
use badger_drive::{Candidate, Release, Source, Workshop};
use rstest::rstest;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::Command;
use tempfile::TempDir;

/// Both ways round, each without a byte changed on either side.
fn neither_way(dir: &TempDir, a: &Path, b: &Path, codes: [&str; 2]) {
    let bytes = |path: &Path| fs::read(path).ok();
    let images: Vec<PathBuf> = fs::read_dir(dir.path()).unwrap().flatten().map(|entry| entry.path()).filter(|path| path.is_file()).collect();
    let before: Vec<_> = images.iter().map(|path| bytes(path)).collect();
    assert_eq!([refused(&source(a), b, &tail(b)), refused(&source(b), a, &tail(a))], codes, "{} and {}", a.display(), b.display());
    assert_eq!(before, images.iter().map(|path| bytes(path)).collect::<Vec<_>>());
}

#[test]
fn two_loop_devices_on_one_file_are_one_storage() {
    let dir = tempfile::tempdir().unwrap();
    let path = filled(&dir, "weir.img", 8, 3);
    let (a, b) = (Loop::over(&path, &[]), Loop::over(&path, &[]));
    neither_way(&dir, &a.0, &b.0, ["same-storage"; 2]);
}

#[test]
fn stretches_of_one_file_are_told_apart_by_their_bytes() {
    let dir = tempfile::tempdir().unwrap();
    let path = filled(&dir, "weir.img", 16, 3);
    let stretch = |offset: &str, len: &str| Loop::over(&path, &["--offset", offset, "--sizelimit", len]);
    let (first, second, middle) = (stretch("0", "8388608"), stretch("8388608", "8388608"), stretch("4194304", "8388608"));
    neither_way(&dir, &first.0, &middle.0, ["same-storage"; 2]);
    neither_way(&dir, &middle.0, &second.0, ["same-storage"; 2]);
    drop(middle);
    // Beside each other they have nothing in common.
    assert_eq!(refused(&source(&first.0), &second.0, &tail(&second.0)), "released");
}

/// The node of a partition of a loop device, made where the machine makes none.
fn partition(device: &Path, number: u32) -> PathBuf {
    let _ = Command::new("partx").args(["-a", "-n", &number.to_string()]).arg(device).stderr(std::process::Stdio::null()).status();
    let (name, node) = (device.file_name().unwrap().to_str().unwrap(), PathBuf::from(format!("{}p{number}", device.display())));
    if !node.exists() {
        let numbers = fs::read_to_string(format!("/sys/block/{name}/{name}p{number}/dev")).unwrap();
        let (major, minor) = numbers.trim().split_once(':').unwrap();
        assert!(Command::new("mknod").arg(&node).args(["b", major, minor]).status().unwrap().success());
    }
    node
}

#[test]
fn a_partition_and_a_loop_device_on_the_same_bytes_are_one_storage() {
    let dir = tempfile::tempdir().unwrap();
    let path = filled(&dir, "disk.img", 16, 5);
    fs::write(dir.path().join("table"), "label: dos\nstart=2048, size=8192\nstart=16384, size=8192\n").unwrap();
    let table = fs::File::open(dir.path().join("table")).unwrap();
    assert!(Command::new("sfdisk").arg("-q").arg(&path).stdin(table).status().unwrap().success());
    let disk = Loop::over(&path, &[]);
    let (one, two) = (partition(&disk.0, 1), partition(&disk.0, 2));
    let same = Loop::over(&path, &["--offset", "1048576", "--sizelimit", "4194304"]);
    let apart = Loop::over(&path, &["--offset", "8388608", "--sizelimit", "4194304"]);
    let codes = [
        refused(&source(&one), &same.0, &tail(&same.0)),
        refused(&source(&same.0), &one, &tail(&one)),
        refused(&source(&one), &disk.0, &tail(&disk.0)),
        refused(&source(&disk.0), &one, &tail(&one)),
        refused(&source(&one), &apart.0, &tail(&apart.0)),
    ];
    drop((same, apart));
    let free = refused(&source(&one), &two, &tail(&two));
    let _ = Command::new("partx").arg("-d").arg(&disk.0).status();
    let _ = (fs::remove_file(&one), fs::remove_file(&two));
    // The last but one: what stands on the second partition by another way keeps it from being a target of anything.
    assert_eq!(codes, ["same-storage", "same-storage", "source-on-target", "target-on-source", "target-held"]);
    assert_eq!(free, "released");
}

#[test]
fn a_loop_device_on_a_loop_device_is_followed_down() {
    let dir = tempfile::tempdir().unwrap();
    let path = filled(&dir, "weir.img", 8, 7);
    let below = Loop::over(&path, &[]);
    let above = Loop::over(&below.0, &["--offset", "1048576"]);
    neither_way(&dir, &above.0, &below.0, ["source-on-target", "target-on-source"]);
    let side = Loop::over(&path, &["--offset", "2097152"]);
    neither_way(&dir, &above.0, &side.0, ["same-storage"; 2]);
}

#[test]
fn an_unlinked_file_under_a_loop_device_is_known_by_its_inode() {
    let dir = tempfile::tempdir().unwrap();
    let path = filled(&dir, "weir.img", 8, 7);
    let link = dir.path().join("second.img");
    fs::hard_link(&path, &link).unwrap();
    let looped = Loop::over(&path, &[]);
    fs::remove_file(&path).unwrap();
    // Another file has its name now; the loop device still holds the first one.
    filled(&dir, "weir.img", 8, 9);
    assert_eq!(refused(&source(&looped.0), &link, "cond"), "source-on-target");
    assert_eq!(refused(&source(&link), &looped.0, &tail(&looped.0)), "target-on-source");
    assert_eq!(refused(&source(&looped.0), &path, "weir"), "released");
}

#[test]
fn an_overlay_and_its_layers_are_one_storage() {
    let dir = tempfile::tempdir().unwrap();
    for name in ["lower", "upper", "work", "merged"] {
        fs::create_dir(dir.path().join(name)).unwrap();
    }
    let at = |name: &str| dir.path().join(name);
    fs::rename(filled(&dir, "old.img", 4, 3), at("lower/old.img")).unwrap();
    fs::rename(filled(&dir, "new.img", 4, 5), at("upper/new.img")).unwrap();
    let options = format!("lowerdir={},upperdir={},workdir={}", at("lower").display(), at("upper").display(), at("work").display());
    let _merged = Mounted::by(at("merged"), "mount", &["-t", "overlay", "overlay", "-o", &options].map(std::ffi::OsStr::new));
    for (shown, below) in [("merged/new.img", "upper/new.img"), ("merged/old.img", "lower/old.img")] {
        let (shown, below) = (at(shown), at(below));
        let codes = [refused(&source(&shown), &below, &tail(&below)), refused(&source(&below), &shown, &tail(&shown))];
        assert!(codes.iter().all(|code| ["source-on-target", "target-on-source"].contains(code)), "{codes:?}");
    }
}

#[test]
fn a_fuse_mount_of_the_raw_file_is_followed_down() {
    let dir = tempfile::tempdir().unwrap();
    let raw = file(&dir, "volume.img", 64);
    assert!(Command::new("mkntfs").args(["-q", "-F"]).arg(&raw).output().unwrap().status.success());
    let mounted = Mounted::by(dir.path().join("mnt"), "ntfs-3g", &[raw.as_os_str()]);
    let inner = mounted.0.join("inner.img");
    fs::write(&inner, vec![7; 1 << 20]).unwrap();
    let other = source(&file(&dir, "other.img", 1));
    assert_eq!(refused(&source(&raw), &inner, "nner"), "target-on-source");
    assert_eq!(refused(&source(&inner), &raw, "lume"), "source-on-target");
    assert!(["target-mounted", "target-written"].contains(&refused(&other, &raw, "lume")));
    let new = Workshop::default().candidate(&mounted.0.join("new.img"), Some(1 << 20), 512).unwrap();
    assert_eq!(new.release(&Release::new(&source(&raw), 0, "new")).err().unwrap().code, "target-on-source");
    assert!(!mounted.0.join("new.img").exists());
}

/// A file, and a mount of what a server gives of it: the program behind the mount holds nothing but a socket.
fn behind_a_veil(dir: &TempDir, options: &[&str]) -> (Veil, PathBuf, PathBuf) {
    let (path, socket, place) = (filled(dir, "weir.img", 8, 11), dir.path().join("served"), dir.path().join("veil"));
    fs::create_dir(&place).unwrap();
    let quiet = |command: &mut Command| command.stdin(std::process::Stdio::null()).spawn().unwrap();
    let filters: &[&str] = if options.is_empty() { &[] } else { &["--filter=offset"] };
    let until = |there: &Path| {
        (0..2000).any(|_| {
            std::thread::sleep(std::time::Duration::from_millis(10));
            there.exists()
        })
    };
    let server = quiet(Command::new("nbdkit").args(["-f", "-U"]).arg(&socket).args(filters).arg("file").arg(&path).args(options));
    assert!(until(&socket));
    let shown = place.join("weir.img");
    let mount = quiet(Command::new("nbdfuse").arg(&shown).arg("--unix").arg(&socket));
    assert!(until(&shown));
    (Veil([server, mount], Mounted(place)), path, shown)
}

/// What stands between a file and its mount.
struct Veil([std::process::Child; 2], Mounted);

impl Drop for Veil {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.1.0).status();
        self.0.iter_mut().for_each(|child| _ = (child.kill(), child.wait()));
    }
}

fn with_wire(source: &Source, target: &Path, shifts: &[i128]) -> &'static str {
    let candidate = Workshop::default().candidate(target, None, 512).unwrap();
    let size = candidate.geometry().size_bytes;
    let tail = candidate.tail();
    let release = Release { source, needed: 0, tail: &tail, overwritten: &[(0, size)], shifts };
    candidate.release(&release).err().map_or("released", |refusal| refusal.code)
}

#[rstest]
#[case::whole(&[])]
#[case::a_stretch_of_it(&["offset=1234944", "range=4194304"])]
fn the_trip_wire_tells_what_a_veil_hides(#[case] options: &[&str]) {
    let dir = tempfile::tempdir().unwrap();
    let (veil, path, shown) = behind_a_veil(&dir, options);
    let before = fs::read(&path).unwrap();
    assert!(!source(&shown).ground().hidden.is_empty());
    // The server has the file open for writing; what is shown of it nobody has.
    assert_eq!(with_wire(&source(&shown), &path, &[]), "target-written");
    assert_eq!(with_wire(&source(&path), &shown, &[]), "same-storage");
    assert!(fs::read(&path).unwrap() == before, "the old bytes are back");
    assert_eq!(with_wire(&source(&filled(&dir, "other.img", 8, 1)), &shown, &[]), "released");
    assert!(fs::read(&path).unwrap() == before, "what is released still holds what it held");
    drop(veil);
}

#[test]
fn a_mounted_folder_is_followed_to_where_it_lies() {
    let dir = tempfile::tempdir().unwrap();
    let under = dir.path().join("under");
    fs::create_dir(&under).unwrap();
    let path = under.join("weir.img");
    fs::rename(filled(&dir, "weir.img", 8, 11), &path).unwrap();
    let mounted = Mounted::by(dir.path().join("veil"), "bindfs", &[under.as_os_str()]);
    let (shown, before) = (mounted.0.join("weir.img"), fs::read(&path).unwrap());
    let codes = ["same-storage", "source-on-target", "target-on-source", "target-written"];
    for (from, onto) in [(&path, &shown), (&shown, &path)] {
        let code = with_wire(&source(from), onto, &[]);
        assert!(codes.contains(&code), "{code}");
    }
    // A stretch of it that begins elsewhere.
    let part = Loop::over(&path, &["--offset", "1048576"]);
    assert!(codes.contains(&with_wire(&source(&shown), &part.0, &[1 << 20])));
    drop(part);
    assert!(fs::read(&path).unwrap() == before);
}

#[test]
fn the_trip_wire_leaves_holes_as_holes() {
    use std::os::unix::fs::MetadataExt;
    let dir = tempfile::tempdir().unwrap();
    let (from, to) = (filled(&dir, "weir.img", 4, 3), file(&dir, "slate.img", 4));
    assert_eq!(with_wire(&source(&from), &to, &[]), "released");
    assert_eq!(fs::metadata(&to).unwrap().blocks(), 0);
}

const DRIVE: &str = "backing = \"slate.img\"\n[identity]\nmodel = \"Dunmore Slate\"\nserial = \"DS50-7702-BEEF\"\nbus = \"sata\"\n";

/// A look, something that happens, and the release.
fn after(path: &Path, happens: impl FnOnce()) -> &'static str {
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "source.img", 1));
    let candidate: Candidate = Workshop::default().candidate(path, None, 512).unwrap();
    let tail = candidate.tail();
    happens();
    candidate.release(&Release::new(&from, 0, &tail)).err().map_or("released", |refusal| refusal.code)
}

/// Three pieces of 2 MiB.
fn pieces(dir: &TempDir) -> [PathBuf; 3] {
    ["weir.001", "weir.002", "weir.003"].map(|name| filled(dir, name, 2, 7))
}

#[rstest]
#[case::nothing("released", |_: &Path| ())]
#[case::another_file("target-changed", |piece: &Path| { fs::rename(piece, piece.with_extension("old")).unwrap(); fs::copy(piece.with_extension("old"), piece).map(|_| ()).unwrap() })]
#[case::a_link("target-changed", |piece: &Path| { fs::rename(piece, piece.with_extension("old")).unwrap(); symlink(piece.with_extension("old"), piece).unwrap() })]
#[case::one_file_twice("target-unusable", |piece: &Path| { fs::remove_file(piece).unwrap(); fs::hard_link(piece.with_extension("001"), piece).unwrap() })]
#[case::written_to("target-changed", |piece: &Path| { std::thread::sleep(std::time::Duration::from_millis(20)); fs::write(piece, vec![9; 2 << 20]).unwrap() })]
#[case::gone("target-unusable", |piece: &Path| fs::remove_file(piece).unwrap())]
fn every_piece_of_a_target_is_what_was_shown(#[case] wanted: &str, #[case] change: fn(&Path), #[values(1, 2)] which: usize) {
    let dir = tempfile::tempdir().unwrap();
    let pieces = pieces(&dir);
    let code = after(&pieces[0], || change(&pieces[which]));
    // Without its last piece it is a shorter drive, which was not shown.
    assert_eq!(code, if which == 2 && !pieces[2].exists() { "target-changed" } else { wanted });
}

#[test]
fn a_target_in_pieces_is_claimed_whole() {
    let dir = tempfile::tempdir().unwrap();
    let pieces = pieces(&dir);
    let before: Vec<Vec<u8>> = pieces.iter().map(|piece| fs::read(piece).unwrap()).collect();
    let from = source(&file(&dir, "source.img", 1));
    let take = || Workshop::default().candidate(&pieces[0], None, 512).unwrap().release(&Release::new(&from, 0, "weir"));
    let target = take().unwrap();
    assert_eq!(take().err().unwrap().code, "target-claimed");
    assert!(target.is_still_there().is_ok());
    fs::rename(&pieces[1], dir.path().join("away")).unwrap();
    assert!(target.is_still_there().is_err_and(|what| what.contains("weir.002")));
    fs::rename(dir.path().join("away"), &pieces[1]).unwrap();
    drop(target);
    let device = Loop::over(&pieces[2], &[]);
    assert_eq!(take().err().unwrap().code, "target-held", "one of its pieces is in use");
    drop(device);
    // What is read lies in one of its pieces.
    for way in [source(&pieces[0]), {
        let device = Loop::over(&pieces[1], &[]);
        source(&device.0)
    }] {
        let refusal = Workshop::default().candidate(&pieces[0], None, 512).unwrap().release(&Release::new(&way, 0, "weir")).err().unwrap();
        assert!(["same-drive", "source-on-target", "same-storage", "target-held"].contains(&refusal.code), "{}", refusal.text);
    }
    assert!(pieces.iter().map(|piece| fs::read(piece).unwrap()).eq(before), "nothing was left behind in any of them");
}

#[test]
fn what_was_shown_is_compared_on_the_opened_target() {
    let dir = tempfile::tempdir().unwrap();
    let path = |name: &str| dir.path().join(name);
    let slate = file(&dir, "slate.img", 8);
    let precious = filled(&dir, "precious.img", 8, 5);
    let before = fs::read(&precious).unwrap();
    assert_eq!(after(&slate, || ()), "released");
    assert_eq!(after(&slate, || fs::remove_file(&slate).and_then(|()| symlink(&precious, &slate)).unwrap()), "target-changed");
    fs::remove_file(&slate).unwrap();
    file(&dir, "slate.img", 8);
    assert_eq!(after(&slate, || fs::rename(&precious, &slate).unwrap()), "target-changed");
    assert!(fs::read(&slate).unwrap() == before);
    // The same file, the same size, another place in it.
    assert_eq!(after(&slate, || fs::write(&slate, vec![1; 8 << 20]).unwrap()), "target-changed");
    assert_eq!(after(&slate, || fs::OpenOptions::new().write(true).open(&slate).unwrap().set_len(9 << 20).unwrap()), "target-changed");
    assert_eq!(after(&slate, || fs::remove_file(&slate).unwrap()), "target-unusable");
    file(&dir, "slate.img", 8);
    let description = path("slate.drive.toml");
    fs::write(&description, DRIVE).unwrap();
    assert_eq!(after(&description, || fs::write(&description, DRIVE.replace("DS50-7702", "DS50-7703")).unwrap()), "target-changed");
    fs::write(&description, DRIVE).unwrap();
    filled(&dir, "other.img", 8, 8);
    assert_eq!(after(&description, || fs::write(&description, DRIVE.replace("slate.img", "other.img")).unwrap()), "target-changed");
}

#[test]
fn a_link_that_was_shown_is_opened_where_it_led_then() {
    let dir = tempfile::tempdir().unwrap();
    let (slate, precious, link) = (file(&dir, "slate.img", 8), filled(&dir, "precious.img", 8, 5), dir.path().join("link.img"));
    symlink(&slate, &link).unwrap();
    let from = source(&file(&dir, "source.img", 1));
    let candidate = Workshop::default().candidate(&link, None, 512).unwrap();
    fs::remove_file(&link).unwrap();
    symlink(&precious, &link).unwrap();
    let target = candidate.release(&Release::new(&from, 0, "link")).unwrap();
    target.write_at(0, &[9; 512]).unwrap();
    assert_eq!((fs::read(&slate).unwrap()[0], fs::read(&precious).unwrap()[0] == 9), (9, false));
}

#[test]
fn another_medium_behind_the_same_node_is_found_out() {
    let dir = tempfile::tempdir().unwrap();
    let (empty, precious) = (file(&dir, "empty.img", 8), filled(&dir, "precious.img", 8, 5));
    let node = Loop::over(&empty, &[]);
    let swap = |to: &Path| {
        let both = ["sh", "-c", "losetup -d \"$0\" && losetup \"$0\" \"$1\""];
        assert!(losetup().args(both).args([&node.0, to]).status().unwrap().success());
    };
    assert_eq!(after(&node.0, || swap(&precious)), "target-changed");
    swap(&empty);
    // Even one that holds the same bytes was not the one that was shown.
    let twin = file(&dir, "twin.img", 8);
    assert_eq!(after(&node.0, || swap(&twin)), "target-changed");
}

#[test]
fn a_target_that_lost_its_name_is_known() {
    let dir = tempfile::tempdir().unwrap();
    let (from, slate) = (source(&file(&dir, "source.img", 1)), file(&dir, "slate.img", 1));
    let release = || Workshop::default().candidate(&slate, None, 512).unwrap().release(&Release::new(&from, 0, "late")).unwrap();
    let target = release();
    assert_eq!(target.is_still_there(), Ok(()));
    fs::remove_file(&slate).unwrap();
    assert!(target.is_still_there().is_err());
    drop(target);
    file(&dir, "slate.img", 1);
    let target = release();
    fs::rename(filled(&dir, "other.img", 1, 3), &slate).unwrap();
    assert!(target.is_still_there().is_err());
}

#[test]
fn files_in_use_are_no_targets() {
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "source.img", 1));
    let slate = file(&dir, "slate.img", 8);
    let looped = Loop::over(&slate, &["--offset", "4194304"]);
    assert_eq!(refused(&from, &slate, "late"), "target-held");
    drop(looped);
    let script = format!("exec 3<>'{}'; echo; exec sleep 60", slate.display());
    let mut writer = Command::new("sh").arg("-c").arg(script).stdout(std::process::Stdio::piped()).spawn().unwrap();
    std::io::Read::read(writer.stdout.as_mut().unwrap(), &mut [0; 1]).unwrap();
    let while_written = refused(&from, &slate, "late");
    writer.kill().unwrap();
    writer.wait().unwrap();
    assert_eq!((while_written, refused(&from, &slate, "late")), ("target-written", "released"));
}

#[rstest]
#[case::itself("slate.img")]
#[case::by_a_link("link.img")]
fn a_file_under_swap_is_no_target(#[case] named: &str) {
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "source.img", 1));
    let slate = file(&dir, "slate.img", 8);
    symlink(&slate, dir.path().join("link.img")).unwrap();
    let root = dir.path().join("machine");
    fs::create_dir_all(root.join("proc")).unwrap();
    fs::write(root.join("proc/swaps"), format!("Filename Type Size Used Priority\n{} file 8 0 -2\n", dir.path().join(named).display())).unwrap();
    let workshop = Workshop { sysfs: Sysfs::at(&root), ..Workshop::default() };
    let candidate = workshop.candidate(&slate, None, 512).unwrap();
    assert_eq!(candidate.release(&Release::new(&from, 0, "late")).err().unwrap().code, "target-held");
}

#[test]
fn the_disk_under_the_system_is_refused_by_whatever_way() {
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "source.img", 1));
    let disk = file(&dir, "disk.img", 8);
    let (below, root) = (Loop::over(&disk, &[]), dir.path().join("machine"));
    let above = Loop::over(&below.0, &[]);
    // An imagined machine that runs from the lower of two loop devices.
    let minor = |path: &Path| std::os::unix::fs::MetadataExt::rdev(&fs::metadata(path).unwrap()) & 0xff;
    for (name, path) in [("below", &below.0), ("above", &above.0)] {
        let device = root.join("sys/block").join(name);
        fs::create_dir_all(device.join("loop")).unwrap();
        fs::create_dir_all(root.join("sys/dev/block")).unwrap();
        fs::write(device.join("dev"), format!("7:{}", minor(path))).unwrap();
        fs::write(device.join("size"), "16384").unwrap();
        fs::write(device.join("loop/backing_file"), if name == "above" { below.0.to_str().unwrap() } else { disk.to_str().unwrap() }).unwrap();
        symlink(format!("../../block/{name}"), root.join(format!("sys/dev/block/7:{}", minor(path)))).unwrap();
    }
    fs::create_dir_all(root.join("proc/self")).unwrap();
    fs::write(root.join("proc/self/mountinfo"), format!("22 1 7:{} / / rw - ext4 /dev/below rw", minor(&below.0))).unwrap();
    let candidate = Workshop { sysfs: Sysfs::at(&root), ..Workshop::default() }.candidate(&above.0, None, 512).unwrap();
    let tail = candidate.tail();
    assert_eq!(candidate.release(&Release::new(&from, 0, &tail)).err().unwrap().code, "system-drive");
}

#[test]
fn a_file_and_the_loop_device_on_it_are_claimed_together() {
    let dir = tempfile::tempdir().unwrap();
    let from = source(&file(&dir, "source.img", 1));
    let slate = file(&dir, "slate.img", 8);
    let held = Workshop::default().candidate(&slate, None, 512).unwrap().release(&Release::new(&from, 0, "late")).unwrap();
    let looped = Loop::over(&slate, &["--offset", "1048576"]);
    assert_eq!(refused(&from, &looped.0, &tail(&looped.0)), "target-claimed");
    // What is being written is no source either, by neither way.
    for path in [&slate, &looped.0] {
        assert_eq!(source(path).claim().err().unwrap().code, "source-claimed");
    }
    drop(held);
    let reading = source(&looped.0).claim().unwrap();
    assert!(source(&slate).claim().is_ok(), "any number may read");
    drop(looped);
    assert_eq!(refused(&from, &slate, "late"), "target-claimed");
    drop(reading);
    assert_eq!(refused(&from, &slate, "late"), "released");
}

#[test]
fn a_source_that_grows_old_is_known() {
    let dir = tempfile::tempdir().unwrap();
    let path = filled(&dir, "source.img", 4, 3);
    let from = source(&path);
    let witness = badger_drive::Witness::of(&*from, &[]);
    assert!(witness.holds(&*from).unwrap() > 10);
    fs::write(&path, vec![2; 4 << 20]).unwrap();
    assert!(witness.holds(&*source(&path)).is_err());
    let key = |path: &str| source(Path::new(path)).key();
    // One file by two names is one drive, and one name in two directories two.
    assert_eq!(key(path.to_str().unwrap()), key(dir.path().join("./source.img").to_str().unwrap()));
}
