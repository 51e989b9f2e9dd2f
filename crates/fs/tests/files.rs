//! Formats of which only files are read, as the kernel's own drivers wrote them: everything that they show is found, byte for byte.

use crate::support::seen::{Seen, by_system, by_us};
use crate::support::{image, noise, people, run, source};
use badger_fs::tree::{self, NodeKind};
use badger_fs::{Origin, State, Tree};
use rstest::rstest;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::Path;

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

fn files(path: &Path) -> Box<dyn Tree> {
    let drive = source(path);
    let size = drive.geometry().size_bytes;
    badger_fs::files(&drive, 0, size).unwrap()
}

fn state(path: &Path) -> State {
    let drive = source(path);
    badger_fs::recognise(&*drive, 0, drive.geometry().size_bytes).unwrap().state
}

/// Mounts an image for as long as `with` needs it.
fn mounted<T>(path: &Path, options: &str, with: impl FnOnce(&Path) -> T) -> T {
    let place = path.with_extension("mnt");
    fs::create_dir_all(&place).unwrap();
    run(&["mount", "-o", &format!("loop,{options}"), text(path), text(&place)]);
    let out = with(&place);
    run(&["umount", text(&place)]);
    out
}

/// What people have, and what makes a format take each of its forms: wide folders, files in many pieces, attributes short, many and long.
fn fill(place: &Path) {
    let data = people(false);
    run(&["cp", "-a", &format!("{}/.", text(data.path())), text(place)]);
    let wide = place.join("very wide");
    fs::create_dir(&wide).unwrap();
    (0..6000).for_each(|number| fs::write(wide.join(format!("{number:05} counted at the weir in the year 2026.csv")), []).unwrap());
    (0..6000).step_by(3).for_each(|number| fs::remove_file(wide.join(format!("{number:05} counted at the weir in the year 2026.csv"))).unwrap());
    let pieces = File::create(place.join("pieces.db")).unwrap();
    (0..1500u64).for_each(|number| pieces.write_all_at(&noise(4096, number), number * 12_288).unwrap());
    let other = File::create(place.join("set aside.bin")).unwrap();
    run(&["fallocate", "-l", "3M", text(&place.join("set aside.bin"))]);
    other.write_all_at(&noise(5000, 3), 1_000_000).unwrap();
    fs::write(place.join("empty lines.txt"), "the same line once more\n".repeat(40_000)).unwrap();
    let named = place.join("attributes.txt");
    fs::write(&named, "with attributes").unwrap();
    for number in 0..60 {
        run(&["setfattr", "-n", &format!("user.number-{number}"), "-v", &"v".repeat(number * 9), text(&named)]);
    }
    fs::write(place.join("one attribute.txt"), "one").unwrap();
    run(&["setfattr", "-n", "user.short", "-v", "value", text(&place.join("one attribute.txt"))]);
    run(&["setfacl", "-m", "u:1234:rw,g:99:r", text(&place.join("one attribute.txt"))]);
    run(&["setfacl", "-d", "-m", "u:1234:rwx", text(&wide)]);
}

/// What further is known of a file: bits, owner, names, times to the nanosecond, attributes.
type Facts = (u32, u32, u32, u64, (i64, i64), BTreeMap<String, Vec<u8>>);

fn facts_by_system(path: &Path) -> Facts {
    let meta = fs::symlink_metadata(path).unwrap();
    let mut names = vec![0; 1 << 16];
    let len = rustix::fs::llistxattr(path, &mut names[..]).unwrap();
    let mut attributes = BTreeMap::new();
    for name in names[..len].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let name = String::from_utf8(name.to_vec()).unwrap();
        let mut value = vec![0; 1 << 16];
        let len = rustix::fs::lgetxattr(path, &*name, &mut value[..]).unwrap();
        // The driver shows a list of who may do what a second time, as it is kept.
        if !name.starts_with("trusted.SGI_ACL") {
            attributes.insert(name, value[..len].to_vec());
        }
    }
    (meta.mode() & 0o7777, meta.uid(), meta.gid(), meta.nlink(), (meta.mtime(), meta.mtime_nsec()), attributes)
}

fn facts_by_us(tree: &dyn Tree, path: &str) -> Facts {
    let node = tree::find(tree, path).unwrap();
    let (time, (user, group)) = (node.modified.unwrap(), node.owner.unwrap());
    let attributes = tree.attributes(&node).unwrap().into_iter().collect();
    (node.mode.unwrap(), user, group, u64::from(node.links), (time.seconds, i64::from(time.nanos)), attributes)
}

fn assert_same(path: &Path, options: &str) {
    let tree = files(path);
    assert!(matches!(tree.origin(), Origin::Files(_)));
    let (ours, findings) = by_us(&*tree);
    assert_eq!(findings, []);
    mounted(path, &format!("ro,{options}"), |place| {
        let theirs = by_system(place);
        assert!(theirs.len() > 4000);
        assert_eq!(ours.len(), theirs.len());
        for (name, seen) in &theirs {
            assert_eq!(ours.get(name), Some(seen), "{name}");
        }
        for name in ["attributes.txt", "one attribute.txt", "very wide", "lower.txt", "sizes/1.bin", "pipe", "long-link"] {
            assert_eq!(facts_by_us(&*tree, name), facts_by_system(&place.join(name)), "{name}");
        }
    });
}

#[rstest]
#[case::as_made_today(&[], "")]
#[case::small_blocks(&["-b", "size=1024"], "")]
#[case::large_directories(&["-n", "size=16384", "-i", "size=1024"], "")]
#[case::short_times(&["-m", "bigtime=0,reflink=0,rmapbt=1"], "")]
#[case::many_groups(&["-d", "agcount=16"], "inode64")]
fn an_xfs_volume_is_read_as_its_own_driver_reads_it(#[case] options: &[&str], #[case] mount: &str) {
    let (_dir, path) = image(1600);
    run(&[&["mkfs.xfs", "-q"], options, &[text(&path)]].concat());
    mounted(&path, if mount.is_empty() { "rw" } else { mount }, fill);
    assert_eq!(state(&path), State::Clean);
    assert_same(&path, "noatime");
}

#[rstest]
#[case::as_made_today(&[], "rw")]
#[case::zlib(&[], "compress-force=zlib")]
#[case::lzo(&[], "compress-force=lzo")]
#[case::zstd(&["--csum", "xxhash"], "compress-force=zstd")]
#[case::one_copy(&["-m", "single", "--csum", "sha256"], "rw")]
#[case::small_nodes(&["-n", "4096", "--csum", "blake2", "--mixed"], "rw")]
#[case::holes(&["-O", "^no-holes,^skinny-metadata"], "rw")]
#[case::no_sums(&[], "nodatasum")]
fn a_btrfs_volume_is_read_as_its_own_driver_reads_it(#[case] options: &[&str], #[case] mount: &str) {
    let (_dir, path) = image(400);
    run(&[&["mkfs.btrfs", "-q"], options, &[text(&path)]].concat());
    mounted(&path, mount, fill);
    assert_eq!(state(&path), State::Clean);
    assert_same(&path, "noatime");
}

/// Subvolumes stand where folders would, a snapshot shares what it holds, and the one that is mounted by default is named.
#[test]
fn subvolumes_are_folders() {
    let (_dir, path) = image(300);
    run(&["mkfs.btrfs", "-q", text(&path)]);
    mounted(&path, "rw", |place| {
        let at = |name: &str| text(&place.join(name)).to_string();
        fs::create_dir(place.join("deep")).unwrap();
        for name in ["@", "@home", "deep/inner"] {
            run(&["btrfs", "-q", "subvolume", "create", &at(name)]);
        }
        fs::create_dir(place.join("@/etc")).unwrap();
        fs::write(place.join("@/etc/fstab"), "one").unwrap();
        fs::write(place.join("@home/tape.wav"), noise(700_000, 3)).unwrap();
        run(&["btrfs", "-q", "subvolume", "snapshot", &at("@home"), &at("deep/inner/before")]);
        fs::write(place.join("@home/tape.wav"), noise(700_000, 4)).unwrap();
        run(&["cp", "--reflink=always", &at("@home/tape.wav"), &at("@home/twice.wav")]);
        run(&["btrfs", "-q", "subvolume", "create", &at("gone")]);
        run(&["btrfs", "-q", "subvolume", "delete", &at("gone")]);
    });
    assert_eq!(files(&path).mounted(), None);
    let theirs = mounted(&path, "rw", |place| {
        run(&["btrfs", "subvolume", "set-default", text(&place.join("deep/inner"))]);
        by_system(place)
    });
    let tree = files(&path);
    let (ours, findings) = by_us(&*tree);
    assert_eq!((findings, ours), (vec![], theirs));
    assert_eq!(tree.mounted().as_deref(), Some("/deep/inner"));
}

/// What changed last waits in the log when the power fails: nobody calls such a volume clean, and whoever lists it is told.
#[rstest]
#[case::xfs(&["mkfs.xfs", "-q"])]
#[case::btrfs(&["mkfs.btrfs", "-q"])]
fn a_volume_that_was_not_put_away_is_called_so(#[case] make: &[&str]) {
    let (_dir, path) = image(320);
    run(&[make, &[text(&path)]].concat());
    let cut = path.with_extension("cut");
    mounted(&path, "rw", |place| fs::write(place.join("first.txt"), "first").unwrap());
    mounted(&path, "rw", |place| {
        let last = File::create(place.join("last.txt")).unwrap();
        last.write_all_at(b"last", 0).unwrap();
        last.sync_all().unwrap();
        // As the drive is at this moment: the loop device writes through to the file.
        run(&["bash", "-c", &format!("dd if=$(findmnt -no SOURCE {}) of={} bs=1M conv=sparse iflag=direct status=none", text(place), text(&cut))]);
    });
    assert_eq!((state(&path), state(&cut)), (State::Clean, State::Dirty));
    let tree = files(&cut);
    let listing = tree.list(&tree.root().unwrap());
    let codes: Vec<&str> = listing.findings.iter().map(|finding| finding.code).collect();
    assert!(matches!(codes[..], ["xfs-log" | "btrfs-log"]), "{codes:?}");
    assert!(listing.entries.iter().any(|entry| entry.name.shown == "first.txt"));
    assert!(files(&path).list(&files(&path).root().unwrap()).findings.is_empty());
}

/// Damaged data is never taken for what was written, and of a structure that is kept twice the good one is taken.
#[test]
fn checksums_are_held_against_what_is_read() {
    let (_dir, path) = image(300);
    run(&["mkfs.btrfs", "-q", "-m", "dup", text(&path)]);
    let mark = b"a text that stands at only one place of this volume, again and again. ".repeat(400);
    mounted(&path, "rw", |place| fs::write(place.join("one.txt"), &mark).unwrap());
    let mut bytes = fs::read(&path).unwrap();
    let at = bytes.windows(70).position(|window| window == &mark[..70]).unwrap();
    bytes[at + 5000] ^= 1;
    // The names of the topmost folder, in both copies; one of them is damaged.
    let names: Vec<usize> = bytes.windows(7).enumerate().filter(|(_, window)| window == b"one.txt").map(|(at, _)| at).collect();
    assert!(names.len() > 1);
    bytes[names[0]] ^= 1;
    fs::write(&path, bytes).unwrap();
    let tree = files(&path);
    let node = tree::find(&*tree, "one.txt").unwrap();
    let content = tree.open(&node, "").unwrap();
    let mut out = vec![0; 4096];
    assert_eq!(content.read(0, &mut out).map(|_| out == mark[..4096]), Ok(true));
    assert_eq!(content.read(4096, &mut out).unwrap_err().code, "btrfs-checksum");
    let (mut all, mut lost) = (vec![0; mark.len()], Vec::new());
    content.read_hard(0, &mut all, &mut lost);
    assert_eq!(lost, [(4096, 4096)]);
    assert!(all[..4096] == mark[..4096] && all[8192..] == mark[8192..]);
}

/// Of a volume of two drives one gives what lies on it: a file that lies on the other is not read as zeroes, and not said to lie here.
#[test]
fn what_lies_on_another_drive_is_said_to() {
    let (_dir, path) = image(300);
    let second = path.with_extension("second");
    File::create(&second).unwrap().set_len(300 << 20).unwrap();
    let over = |file: &Path| {
        let command = format!("flock /tmp/badger-losetup.lock losetup -f --show {}", text(file));
        let out = std::process::Command::new("bash").args(["-c", &command]).output().unwrap();
        String::from_utf8(out.stdout).unwrap().trim().to_string()
    };
    let (one, two) = (over(&path), over(&second));
    let place = path.with_extension("mnt");
    fs::create_dir(&place).unwrap();
    run(&["mkfs.btrfs", "-q", "-m", "raid1", "-d", "raid0", &one, &two]);
    run(&["mount", "-o", &format!("device={one},device={two}"), &one, text(&place)]);
    fs::write(place.join("spread.bin"), noise(3 << 20, 8)).unwrap();
    fs::write(place.join("inline.txt"), "beside its inode").unwrap();
    run(&["umount", text(&place)]);
    run(&["losetup", "-d", &one]);
    run(&["losetup", "-d", &two]);
    let tree = files(&path);
    let open = |name: &str| tree.open(&tree::find(&*tree, name).unwrap(), "").unwrap();
    let (spread, inline) = (open("spread.bin"), open("inline.txt"));
    assert_eq!((spread.is_placed(), inline.is_placed()), (false, true));
    let mut bytes = [0; 16];
    assert_eq!(spread.read(0, &mut bytes).unwrap_err().code, "btrfs-drives");
    assert_eq!(inline.read(0, &mut bytes).map(|count| bytes[..count].to_vec()), Ok(b"beside its inode".to_vec()));
}

/// A file whose blocks another one shares must not be changed in place.
#[test]
fn what_is_shared_is_bound() {
    let (_dir, path) = image(320);
    run(&["mkfs.xfs", "-q", text(&path)]);
    mounted(&path, "rw", |place| {
        fs::write(place.join("one.txt"), noise(9000, 1)).unwrap();
        fs::write(place.join("own.txt"), noise(9000, 2)).unwrap();
        run(&["cp", "--reflink=always", text(&place.join("one.txt")), text(&place.join("two.txt"))]);
    });
    let tree = files(&path);
    let is_bound = |name: &str| tree.open(&tree::find(&*tree, name).unwrap(), "").unwrap().is_bound();
    assert_eq!(["one.txt", "two.txt", "own.txt"].map(is_bound), [true, true, false]);
}

/// What waits in the log of XFS may be of any file: until its own system has put it away none is changed in place.
#[test]
fn what_waits_in_a_log_binds_every_file() {
    let (_dir, path) = image(320);
    run(&["mkfs.xfs", "-q", text(&path)]);
    mounted(&path, "rw", |place| {
        fs::write(place.join("own.txt"), noise(9000, 2)).unwrap();
    });
    mounted(&path, "rw", |place| {
        fs::write(place.join("late.txt"), noise(9000, 3)).unwrap();
        run(&["xfs_io", "-x", "-c", "shutdown -f", text(place)]);
    });
    assert_eq!(state(&path), State::Dirty);
    let tree = files(&path);
    let own = tree.open(&tree::find(&*tree, "own.txt").unwrap(), "").unwrap();
    assert!(own.is_bound());
    mounted(&path, "rw", |_| ());
    let tree = files(&path);
    let own = tree.open(&tree::find(&*tree, "own.txt").unwrap(), "").unwrap();
    assert!(!own.is_bound() && state(&path) == State::Clean);
    drop(tree::find(&*tree, "late.txt").unwrap());
}

fn few(place: &Path) {
    for folder in 0..8 {
        fs::create_dir_all(place.join(format!("folder-{folder}/below"))).unwrap();
        (0..60).for_each(|number| fs::write(place.join(format!("folder-{folder}/count-{number}.csv")), noise(number * 90, 5)).unwrap());
    }
    (0..900).for_each(|number| fs::write(place.join(format!("folder-1/below/{number:04}-counted-at-the-weir.csv")), []).unwrap());
    std::os::unix::fs::symlink("folder-1", place.join("link")).unwrap();
    std::os::unix::fs::symlink("x/".repeat(300), place.join("long-link")).unwrap();
}

/// What is in a folder as the maker of XFS takes it.
fn proto(folder: &Path, out: &mut String) {
    let mut entries: Vec<_> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap()).collect();
    entries.sort_by_key(|entry| entry.file_name());
    for entry in entries {
        let (name, path) = (entry.file_name().into_string().unwrap(), entry.path());
        match entry.file_type().unwrap() {
            kind if kind.is_dir() => {
                *out += &format!("{name} d--755 0 0\n");
                proto(&path, out);
                *out += "$\n";
            }
            kind if kind.is_symlink() => *out += &format!("{name} l--777 0 0 {}\n", fs::read_link(&path).unwrap().display()),
            _ => *out += &format!("{name} ---644 0 0 {}\n", path.display()),
        }
    }
}

/// XFS without checksums, which kernels of today need not mount any more, filled by its own maker.
fn old_xfs(more: &[&str]) -> (tempfile::TempDir, std::path::PathBuf, tempfile::TempDir) {
    let ((dir, path), data) = (image(320), tempfile::tempdir().unwrap());
    few(data.path());
    let mut list = "- \n0 0\nd--755 0 0\n".to_string();
    proto(data.path(), &mut list);
    let file = dir.path().join("list");
    fs::write(&file, list + "$\n").unwrap();
    run(&[&["mkfs.xfs", "-q", "-m", "crc=0", "-p", text(&file)], more, &[text(&path)]].concat());
    (dir, path, data)
}

#[rstest]
#[case::plain(&[])]
#[case::small_blocks(&["-b", "size=512", "-n", "size=4096"])]
#[case::without_kinds(&["-n", "ftype=0"])]
fn an_old_xfs_volume_gives_back_what_went_in(#[case] options: &[&str]) {
    let (_dir, path, data) = old_xfs(options);
    let (mut ours, findings) = by_us(&*files(&path));
    let mut theirs = by_system(data.path());
    // Its maker gives everything the time of its making.
    ours.values_mut().chain(theirs.values_mut()).for_each(|seen| seen.modified = 0);
    assert_eq!((findings, ours), (vec![], theirs));
}

fn whole_old_xfs() -> (tempfile::TempDir, std::path::PathBuf) {
    let (dir, path, _data) = old_xfs(&[]);
    (dir, path)
}

fn small_btrfs() -> (tempfile::TempDir, std::path::PathBuf) {
    let (dir, path) = image(32);
    run(&["mkfs.btrfs", "-q", "-n", "4096", "--mixed", text(&path)]);
    mounted(&path, "compress=zstd", |place| {
        few(place);
        run(&["setfattr", "-n", "user.note", "-v", "note", text(&place.join("folder-1"))]);
        run(&["btrfs", "-q", "subvolume", "create", text(&place.join("further"))]);
        run(&["btrfs", "subvolume", "set-default", text(&place.join("further"))]);
    });
    (dir, path)
}

/// Everything that can be read of a volume; how many entries there were.
fn all_of(path: &Path) -> Option<usize> {
    let drive = source(path);
    let len = drive.geometry().size_bytes;
    let _ = badger_fs::recognise(&*drive, 0, len);
    let tree = badger_fs::files(&drive, 0, len).ok()?;
    let _ = tree.mounted();
    let mut entries = Vec::new();
    badger_fs::walk::walk(&*tree, tree.root().ok()?, "", &mut |_, entry| entries.push(entry.clone()));
    for entry in &entries {
        let _ = (tree.attributes(&entry.node), tree.link(&entry.node));
        if let Ok(content) = tree.open(&entry.node, "") {
            let mut buf = vec![0; content.size().min(1 << 16) as usize];
            let _ = (content.read(0, &mut buf), content.hole(1), content.until_hole(0, 1 << 20));
        }
    }
    Some(entries.len())
}

/// Whatever stands in a structure, reading it ends, and nothing goes wrong; sums are set right, so that what is behind them is reached.
#[rstest]
#[case::old_xfs(whole_old_xfs(), None)]
#[case::btrfs(small_btrfs(), Some(32))]
fn whatever_stands_there_is_survived(#[case] (_dir, path): (tempfile::TempDir, std::path::PathBuf), #[case] sums: Option<usize>) {
    let mut seed = 0x9e37_79b9_7f4a_7c15_u64;
    let mut next = move || {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) as usize
    };
    let (sound, expected) = (fs::read(&path).unwrap(), all_of(&path).unwrap());
    let file = fs::File::options().write(true).open(&path).unwrap();
    assert!(expected > 480, "{expected}");
    // Blocks that are structures: of the one by their marks, of the other by the identifier in each.
    let id = sound[65_536 + 32..65_536 + 48].to_vec();
    let is_structure = |block: &[u8]| match sums {
        Some(_) => block[32..48] == id[..],
        None => block.starts_with(b"XFSB") || block.starts_with(b"XD2") || block.starts_with(b"IN") || block.starts_with(b"BMAP"),
    };
    let blocks: Vec<usize> = (0..sound.len() / 4096).map(|number| number * 4096).filter(|at| is_structure(&sound[*at..at + 4096])).collect();
    assert!(blocks.len() > 8, "{}", blocks.len());
    let mut fewer = 0;
    for _ in 0..120 {
        let mut changed = BTreeMap::new();
        for _ in 0..6 {
            let block = blocks[next() % blocks.len()];
            let bytes = changed.entry(block).or_insert_with(|| sound[block..block + 4096].to_vec());
            let at = if let Some(head) = sums { head + 16 + next() % 900 } else { next() % 1024 };
            match next() % 3 {
                0 => bytes[at] ^= 1 << (next() % 8),
                1 => bytes[at] = [0, 1, 0x7f, 0x80, 0xff][next() % 5],
                _ => bytes[at..at + 8].fill(0xff),
            }
            if let Some(head) = sums {
                let sum = crc32c::crc32c(&bytes[head..]).to_le_bytes();
                bytes[..4].copy_from_slice(&sum);
            }
        }
        changed.iter().for_each(|(block, bytes)| file.write_all_at(bytes, *block as u64).unwrap());
        fewer += usize::from(all_of(&path) != Some(expected));
        changed.keys().for_each(|block| file.write_all_at(&sound[*block..block + 4096], *block as u64).unwrap());
    }
    assert!(fewer > 10, "what was changed must matter: {fewer}");
}

/// Whoever wants a volume that is checked and resized gets none of these.
#[test]
fn what_is_not_checked_is_not_opened_as_if_it_were() {
    let (_dir, path) = image(320);
    run(&["mkfs.xfs", "-q", text(&path)]);
    let drive = source(&path);
    let refused = badger_fs::open(&drive, 0, drive.geometry().size_bytes).err().unwrap();
    assert_eq!(refused.code, "not-checked");
    let empty: BTreeMap<String, Seen> = by_us(&*files(&path)).0;
    assert!(empty.values().all(|seen| seen.kind == NodeKind::Directory) && empty.len() < 2, "{empty:?}");
}
