//! Volumes made and filled by the system's own tools are walked, and everything found is compared with what went in or
//! with what the system's own driver shows.

use crate::support::seen::{Seen, by_system, by_us};
use crate::support::{MIB, fill_exfat, image, noise, open, people, run};
use badger_drive::Source;
use badger_drive::medium::MemoryMedium;
use badger_fs::tree::{self, NodeKind, Tree};
use badger_fs::walk::{DEEPEST, Step, Turned, Walk};
use badger_fs::{Folder, Volume};
use proptest::prelude::*;
use rstest::rstest;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Command;
use std::sync::{Arc, OnceLock};

/// A volume its own tools made has no faults, and every file lies on what is known to be in use.
fn assert_sound(fs: &dyn Volume, seen: &BTreeMap<String, Seen>) {
    let survey = fs.survey();
    assert_eq!(survey.findings, []);
    let directories = seen.values().filter(|seen| seen.kind == NodeKind::Directory).count() as u64;
    assert!((directories..directories + 12).contains(&survey.directories), "{} of {directories}", survey.directories);
    badger_fs::walk::walk(fs, fs.root().unwrap(), "/", &mut |path, entry| {
        let content = fs.open(&entry.node, "").ok().filter(|_| entry.node.kind == NodeKind::File);
        for piece in content.iter().flat_map(|content| content.pieces()) {
            let held = |at: u64| survey.usage.total_within(at..at + piece.len, |use_| *use_ == badger_fs::Use::Data);
            assert!(piece.at.is_none_or(|at| held(at) == piece.len), "{path}");
        }
    });
}

#[rstest]
#[case::ext2(&["-t", "ext2"])]
#[case::ext3(&["-t", "ext3"])]
#[case::ext4(&["-t", "ext4"])]
#[case::small_blocks(&["-t", "ext4", "-b", "1024"])]
#[case::large_blocks(&["-t", "ext4", "-b", "4096", "-I", "512"])]
#[case::narrow(&["-t", "ext4", "-O", "^64bit,^metadata_csum,^flex_bg"])]
#[case::inline_data(&["-t", "ext4", "-O", "inline_data", "-I", "256"])]
#[case::meta_groups(&["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"])]
#[case::block_maps(&["-t", "ext4", "-O", "^extent,^64bit"])]
#[case::no_sparse_super(&["-t", "ext2", "-b", "1024", "-O", "^sparse_super,^resize_inode"])]
#[case::sparse_super2(&["-t", "ext4", "-O", "sparse_super2,^resize_inode"])]
#[case::no_journal(&["-t", "ext4", "-O", "^has_journal,bigalloc", "-C", "16384"])]
#[case::old_inodes(&["-t", "ext2", "-I", "128", "-O", "^filetype"])]
fn an_ext_volume_is_read_as_its_own_driver_reads_it(#[case] options: &[&str]) {
    let (dir, path) = image(120);
    let data = people(false);
    run(&[&["mke2fs", "-q", "-F"], options, &["-d", data.path().to_str().unwrap(), path.to_str().unwrap()]].concat());
    let volume = open(&path);
    let (ours, findings) = by_us(&*volume);
    assert_eq!(findings, []);
    assert_sound(&*volume, &ours);
    let place = dir.path().join("mnt");
    fs::create_dir(&place).unwrap();
    run(&["mount", "-o", "loop,ro", path.to_str().unwrap(), place.to_str().unwrap()]);
    let theirs = by_system(&place);
    run(&["umount", place.to_str().unwrap()]);
    assert!(theirs.len() > 700);
    assert_eq!(ours.len(), theirs.len());
    for (path, seen) in &theirs {
        assert_eq!(ours.get(path), Some(seen), "{path}");
    }
}

#[rstest]
#[case::fat12(14, &["-F", "12", "-s", "8"])]
#[case::fat16(60, &["-F", "16", "-s", "4"])]
#[case::fat32(100, &["-F", "32", "-s", "1"])]
#[case::fat32_large_sectors(600, &["-F", "32", "-S", "4096", "-s", "1"])]
fn a_fat_volume_gives_back_what_went_in(#[case] mib: u64, #[case] options: &[&str]) {
    let (_dir, path) = image(mib);
    let data = people(true);
    run(&[&["mkfs.fat"], options, &[path.to_str().unwrap()]].concat());
    let mut command = Command::new("mcopy");
    command.env("MTOOLS_SKIP_CHECK", "1").env("LC_ALL", "C.UTF-8").env("TZ", "UTC").args(["-s", "-m", "-i"]).arg(&path);
    command.args(fs::read_dir(data.path()).unwrap().map(|entry| entry.unwrap().path())).arg("::/");
    let out = command.output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    run(&["fsck.fat", "-n", path.to_str().unwrap()]);
    let (ours, findings) = by_us(&*open(&path));
    assert_eq!(findings, []);
    assert_sound(&*open(&path), &ours);
    let theirs = by_system(data.path());
    assert_eq!(ours.len(), theirs.len());
    for (path, seen) in &theirs {
        let found = ours.get(path).unwrap_or_else(|| panic!("{path} is missing"));
        assert_eq!((found.kind, found.size, found.content), (seen.kind, seen.size, seen.content), "{path}");
        assert!(seen.kind == NodeKind::Directory || (found.modified - seen.modified).abs() <= 2, "{path}: {} {}", found.modified, seen.modified);
    }
    let fs = open(&path);
    assert_eq!(tree::find(&*fs, "counts/2026").unwrap().kind, NodeKind::Directory, "case does not matter here");
    assert_eq!(tree::find(&*fs, "/nowhere").unwrap_err().code, "not-found");
    assert_eq!(tree::find(&*fs, "/lower.txt/x").unwrap_err().code, "not-a-directory");
}

#[rstest]
#[case::small_clusters(&["-c", "4K"])]
#[case::large_clusters(&["-c", "128K"])]
fn an_exfat_volume_is_read_as_its_driver_reads_it(#[case] options: &[&str]) {
    let (_dir, path) = image(200);
    let data = people(true);
    run(&[&["mkfs.exfat", "-L", "Scores"], options, &[path.to_str().unwrap()]].concat());
    let mut theirs = BTreeMap::new();
    fill_exfat(&path, |place| {
        run(&["cp", "-r", "--preserve=timestamps", &format!("{}/.", data.path().display()), place.to_str().unwrap()]);
        // Pieces on purpose: two files that grow in turns.
        let grow = |name: &str| fs::OpenOptions::new().create(true).append(true).open(place.join(name)).unwrap();
        for turn in 0..40 {
            for name in ["one.log", "two.log"] {
                std::io::Write::write_all(&mut grow(name), &noise(30_000, turn + 1)).unwrap();
            }
        }
        theirs = by_system(place);
    });
    run(&["fsck.exfat", "-n", path.to_str().unwrap()]);
    let fs = open(&path);
    let (ours, findings) = by_us(&*fs);
    assert_eq!(findings, []);
    assert_sound(&*fs, &ours);
    assert!(fs.open(&tree::find(&*fs, "/one.log").unwrap(), "").unwrap().pieces().len() > 3);
    assert_eq!(ours.len(), theirs.len());
    for (path, seen) in &theirs {
        let found = ours.get(path).unwrap_or_else(|| panic!("{path} is missing"));
        assert_eq!((found.kind, found.size, found.content), (seen.kind, seen.size, seen.content), "{path}");
        assert!((found.modified - seen.modified).abs() <= 2, "{path}: {} {}", found.modified, seen.modified);
    }
}

#[rstest]
#[case::plain(&[], false)]
#[case::small_clusters(&["-c", "512"], false)]
#[case::large_clusters(&["-c", "65536"], false)]
#[case::compressed(&["-c", "4096"], true)]
fn an_ntfs_volume_is_read_as_its_driver_reads_it(#[case] options: &[&str], #[case] compressed: bool) {
    let (dir, path) = image(200);
    let data = people(false);
    run(&[&["mkntfs", "-q", "-F", "-Q"], options, &[path.to_str().unwrap()]].concat());
    let place = dir.path().join("mnt");
    fs::create_dir(&place).unwrap();
    run(&["ntfs-3g", "-o", "compression", path.to_str().unwrap(), place.to_str().unwrap()]);
    let inside = place.join("people");
    fs::create_dir(&inside).unwrap();
    if compressed {
        run(&["setfattr", "-h", "-v", "0x00000800", "-n", "system.ntfs_attrib_be", inside.to_str().unwrap()]);
    }
    run(&["rm", data.path().join("pipe").to_str().unwrap()]);
    run(&["cp", "-r", "-d", "--preserve=timestamps,links", &format!("{}/.", data.path().display()), inside.to_str().unwrap()]);
    fs::write(inside.join("text.log"), "high water 412 cm at the lock gate\n".repeat(40_000)).unwrap();
    run(&["setfattr", "-n", "user.note", "-v", "a named stream", inside.join("text.log").to_str().unwrap()]);
    // Pieces on purpose, so many that their list outgrows its record.
    let files: Vec<File> = (0..2).map(|number| File::create(inside.join(format!("grown-{number}.log"))).unwrap()).collect();
    for turn in 0..1500u64 {
        for file in &files {
            file.write_all_at(&noise(4096, turn + 1), turn * 4096).unwrap();
            file.sync_data().unwrap();
        }
    }
    drop(files);
    let theirs = by_system(&place);
    run(&["umount", place.to_str().unwrap()]);
    let fs = open(&path);
    let (ours, findings) = by_us(&*fs);
    assert_eq!(findings, []);
    assert_sound(&*fs, &ours);
    for (path, seen) in &theirs {
        // How long a link is its driver tells in letters of its own.
        let size = |seen: &Seen| if seen.kind == NodeKind::Link { 0 } else { seen.size };
        let found = ours.get(path).unwrap_or_else(|| panic!("{path} is missing"));
        assert_eq!((size(found), found), (size(seen), &Seen { size: found.size, ..seen.clone() }), "{path}");
    }
    assert_eq!(ours.len(), theirs.len());
    if compressed {
        let node = tree::find(&*fs, "/people/text.log").unwrap();
        let content = fs.open(&node, "").unwrap();
        assert!(content.is_packed() && content.pieces().iter().any(|piece| piece.at.is_none()), "it is packed");
    }
}

#[test]
fn a_chain_that_leads_to_itself_ends() {
    let (_dir, path) = image(40);
    run(&["mkfs.fat", "-F", "16", "-s", "4", path.to_str().unwrap()]);
    let mut bytes = fs::read(&path).unwrap();
    let table = 4 * 512; // four reserved sectors with this geometry
    let reserved = u16::from_le_bytes([bytes[14], bytes[15]]) as usize * 512;
    let table = if reserved == table { table } else { reserved };
    let root = reserved + usize::from(bytes[16]) * usize::from(u16::from_le_bytes([bytes[22], bytes[23]])) * 512;
    // A directory whose chain is 2, 3, 2, 3 ..., named by an entry in the root.
    bytes[table + 4..table + 8].copy_from_slice(&[3, 0, 2, 0]);
    bytes[root..root + 11].copy_from_slice(b"LOOP       ");
    bytes[root + 11] = 16;
    bytes[root + 26..root + 28].copy_from_slice(&2u16.to_le_bytes());
    let data = root + usize::from(u16::from_le_bytes([bytes[17], bytes[18]])) * 32;
    // Its content names itself again.
    let entry = bytes[root..root + 32].to_vec();
    bytes[data..data + 32].copy_from_slice(&entry);
    let source = Source::detached(Arc::new(MemoryMedium::new(bytes, 512)));
    let fs = badger_fs::open(&source, 0, 40 * MIB).unwrap();
    let mut count = 0;
    let findings = badger_fs::walk::walk(&*fs, fs.root().unwrap(), "/", &mut |_, _| count += 1);
    assert!(findings.iter().any(|finding| finding.code == "fat-chain-loop" || finding.code == "directory-loop"), "{findings:?}");
    assert!(count < 2000, "{count}");
}

fn exfat(data: &Path) -> Vec<u8> {
    let (_dir, path) = image(4);
    run(&["mkfs.exfat", "-c", "4K", path.to_str().unwrap()]);
    fill_exfat(&path, |place| run(&["cp", "-r", &format!("{}/.", data.display()), place.to_str().unwrap()]));
    fs::read(&path).unwrap()
}

fn ntfs(data: &Path) -> Vec<u8> {
    let (dir, path) = image(4);
    run(&["mkntfs", "-q", "-F", "-Q", "-c", "512", path.to_str().unwrap()]);
    let place = dir.path().join("mnt");
    fs::create_dir(&place).unwrap();
    run(&["ntfs-3g", path.to_str().unwrap(), place.to_str().unwrap()]);
    run(&["cp", "-r", &format!("{}/.", data.display()), place.to_str().unwrap()]);
    run(&["umount", place.to_str().unwrap()]);
    fs::read(&path).unwrap()
}

fn volumes() -> &'static [Vec<u8>] {
    static VOLUMES: OnceLock<Vec<Vec<u8>>> = OnceLock::new();
    VOLUMES.get_or_init(|| {
        let data = tempfile::tempdir().unwrap();
        for number in 0..60 {
            let dir = data.path().join(format!("folder-{}", number % 7));
            fs::create_dir_all(&dir).unwrap();
            fs::write(dir.join(format!("a longer name for file {number}.txt")), noise(number * 300, 3)).unwrap();
        }
        let text = data.path().to_str().unwrap();
        let ext = |options: &[&str]| {
            let (_dir, path) = image(4);
            run(&[&["mke2fs", "-q", "-F", "-b", "1024"], options, &["-d", text, path.to_str().unwrap()]].concat());
            fs::read(&path).unwrap()
        };
        let (_dir, path) = image(4);
        run(&["mkfs.fat", "-F", "12", path.to_str().unwrap()]);
        for entry in fs::read_dir(data.path()).unwrap() {
            run(&["mcopy", "-s", "-i", path.to_str().unwrap(), entry.unwrap().path().to_str().unwrap(), "::/"]);
        }
        vec![ext(&["-t", "ext4"]), ext(&["-t", "ext2"]), fs::read(&path).unwrap(), exfat(data.path()), ntfs(data.path())]
    })
}

/// Every file with its content, as far as it can be had.
fn contents(bytes: Vec<u8>) -> BTreeMap<String, blake3::Hash> {
    let Ok(fs) = crate::support::in_memory(bytes) else { return BTreeMap::new() };
    let Ok(root) = fs.root() else { return BTreeMap::new() };
    let mut found = BTreeMap::new();
    badger_fs::walk::walk(&*fs, root, "", &mut |path, entry| {
        let mut bytes = vec![0; entry.node.size.min(1 << 20) as usize];
        if entry.node.kind == NodeKind::File && fs.read(&entry.node, 0, &mut bytes).is_ok() {
            found.insert(path.to_string(), blake3::hash(&bytes));
        }
    });
    found
}

/// A sector that goes bad costs what lies on it. What everything hangs on takes more with it, but not often.
#[rstest]
#[case::ext4(0, 85)]
#[case::ext2(1, 85)]
#[case::fat(2, 85)]
#[case::exfat(3, 85)]
#[case::ntfs(4, 85)]
fn as_much_as_possible_is_still_read(#[case] which: usize, #[case] at_least: usize) {
    let sound = volumes()[which].clone();
    let whole = contents(sound.clone());
    assert_eq!(whole.len(), 60);
    // Sectors in use, so that every one of them costs something.
    let survey = crate::support::in_memory(sound.clone()).unwrap().survey();
    let used: Vec<usize> =
        survey.usage.iter().flat_map(|(range, _)| (range.start / 512..range.end / 512).map(|sector| sector as usize * 512)).collect();
    let mut kept = 0;
    for seed in 0..100usize {
        let at = used[(seed * 7919 + 13) % used.len()];
        let mut broken = sound.clone();
        broken[at..at + 512].copy_from_slice(&noise(512, seed as u64 + 1));
        kept += contents(broken).iter().filter(|(path, hash)| whole.get(*path) == Some(hash)).count();
    }
    assert!(kept * 100 >= whole.len() * 100 * at_least, "{kept} of {} files are still read", whole.len() * 100);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn damaged_volumes_are_walked_without_panic_or_end_less_loops(
        which in 0usize..5,
        near in prop::collection::vec((1024usize..120_000, any::<u8>()), 0..60),
        far in prop::collection::vec((0usize..4 << 20, any::<u8>()), 0..200),
    ) {
        let mut bytes = volumes()[which].clone();
        near.into_iter().chain(far).for_each(|(at, byte)| bytes[at] = byte);
        let source = Source::detached(Arc::new(MemoryMedium::new(bytes, 512)));
        if let Ok(fs) = badger_fs::open(&source, 0, 4 << 20)
            && let Ok(root) = fs.root()
        {
            let mut buffer = vec![0; 5000];
            let mut count = 0u32;
            badger_fs::walk::walk(&*fs, root, "/", &mut |_, entry| {
                count += 1;
                if count < 500 {
                    let _ = fs.open(&entry.node, "").map(|content| content.pieces().len());
                    let _ = (fs.streams(&entry.node), fs.attributes(&entry.node));
                    let _ = fs.read(&entry.node, entry.node.size / 2, &mut buffer);
                    let _ = fs.link(&entry.node);
                }
            });
            prop_assert!(count < 2_000_000);
            let survey = fs.survey();
            prop_assert!(survey.findings.len() < 10_000);
            prop_assert!(survey.usage.iter().all(|(range, _)| range.end <= 5 << 20));
        }
    }
}

/// Paths in the order in which directories have their turn.
fn turns(by_level: bool) -> Vec<String> {
    let dir = tempfile::tempdir().unwrap();
    for path in ["a/x/deep", "a/y", "b/z"] {
        std::fs::create_dir_all(dir.path().join(path)).unwrap();
    }
    let folder = Folder::open(dir.path()).unwrap();
    let walk = Walk::of(&folder, folder.root().unwrap(), String::new());
    let mut walk = if by_level { walk.by_level() } else { walk };
    let mut out = Vec::new();
    while let Some(Step { node, with: path, .. }) = walk.take() {
        let mut entries = folder.list(&node).entries;
        entries.sort_by(|a, b| a.name.shown.cmp(&b.name.shown));
        entries.iter().for_each(|entry| walk.enter(&entry.node, format!("{path}/{}", entry.name.shown)).unwrap());
        out.push(path);
    }
    out
}

#[rstest]
#[case::downward(false, ["", "/a", "/a/x", "/a/x/deep", "/a/y", "/b", "/b/z"])]
#[case::level_by_level(true, ["", "/a", "/b", "/a/x", "/a/y", "/b/z", "/a/x/deep"])]
fn directories_have_their_turn_in_order(#[case] by_level: bool, #[case] wanted: [&str; 7]) {
    assert_eq!(turns(by_level), wanted);
}

/// A directory that names itself, one below another without end, and more entries than there can be.
#[test]
fn what_the_bytes_say_does_not_keep_it_going() {
    let dir = tempfile::tempdir().unwrap();
    let folder = Folder::open(dir.path()).unwrap();
    let node = |id: u64| {
        let mut node = folder.root().unwrap();
        node.id = id;
        node
    };
    let mut walk = Walk::of(&folder, node(1), ());
    walk.take().unwrap();
    assert_eq!(walk.enter(&node(1), ()), Err(Turned::Back));
    let depth = (2..).take_while(|id| walk.enter(&node(*id), ()).map(|()| walk.take().unwrap()).is_ok()).count();
    assert_eq!((depth, walk.enter(&node(9999), ())), (DEEPEST, Err(Turned::TooDeep)));
    assert!(walk.take().is_none());
    let most = folder.most_entries();
    let mut walk = Walk::of(&folder, node(1), ());
    assert!(walk.has_room((most - 10) as usize) && walk.has_room(10) && !walk.has_room(1));
}
