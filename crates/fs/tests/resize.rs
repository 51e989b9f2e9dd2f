//! Volumes made, filled and fragmented by the system's own tools, squeezed and stretched, and judged by their checkers;
//! every file is read through both.

use crate::support::shape::{Family, Random};
use crate::support::{MIB, fill_by, fill_exfat, fill_ntfs, hashed, image, noise, poured, run, source};
use badger_drive::{Medium, Source};
use badger_fs::tree::{Node, NodeKind};
use badger_fs::{Survey, Volume, Wanted};
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

/// Compares everything below two directories; gives how many files there are.
fn same(a: &dyn Volume, b: &dyn Volume, below: (&Node, &Node), path: &str) -> u64 {
    let (first, second) = (a.list(below.0), b.list(below.1));
    assert_eq!(first.findings, [], "{path}");
    assert_eq!(second.findings, [], "{path}");
    assert_eq!(first.entries.len(), second.entries.len(), "{path}");
    let mut count = 0;
    for (x, y) in first.entries.iter().zip(&second.entries) {
        let full = format!("{path}/{}", x.name.shown);
        assert_eq!(x.name, y.name, "{path}");
        assert!(x.node.is_same_elsewhere(&y.node), "{full}: {:?} {:?}", x.node, y.node);
        match x.node.kind {
            NodeKind::Directory => count += same(a, b, (&x.node, &y.node), &full),
            NodeKind::Link => assert_eq!(a.link(&x.node), b.link(&y.node), "{full}"),
            _ => {
                count += 1;
                assert_eq!(hashed(a, &x.node, ""), hashed(b, &y.node, ""), "{full}");
            }
        }
        for stream in a.streams(&x.node).unwrap() {
            assert_eq!(hashed(a, &x.node, &stream.name.shown), hashed(b, &y.node, &stream.name.shown), "{full}:{}", stream.name.shown);
        }
        assert_eq!(a.attributes(&x.node).unwrap(), b.attributes(&y.node).unwrap(), "{full}");
    }
    count
}

/// Resizes a volume, has it judged, and compares every file. Gives the file that holds the changed volume.
fn changed(path: &Path, fs: &dyn Volume, survey: &Survey, wanted: &Wanted, judge: &[&str]) -> PathBuf {
    let view = fs.resized(survey, wanted).unwrap_or_else(|finding| panic!("{wanted:?}: {}", finding.text));
    let out = path.with_extension("changed");
    poured(&view, &out);
    let mut command: Vec<&str> = judge.to_vec();
    command.push(out.to_str().unwrap());
    let told = Command::new(command[0]).args(&command[1..]).output().unwrap();
    assert!(told.status.success(), "{wanted:?} {command:?}: {}{}", String::from_utf8_lossy(&told.stdout), String::from_utf8_lossy(&told.stderr));
    let text = String::from_utf8_lossy(&told.stdout);
    assert!(!text.contains("differ") && !text.contains("wrong"), "{wanted:?}: {text}");
    let there = badger_fs::open(&source(&out), 0, wanted.len).unwrap();
    let after = there.survey();
    let faults: Vec<_> = after.findings.iter().filter(|finding| finding.weight > badger_fs::Weight::Note).collect();
    assert_eq!(faults, Vec::<&badger_fs::Finding>::new(), "{wanted:?}");
    assert_eq!((after.files, after.directories), (survey.files, survey.directories));
    // The view itself reads the same as what was copied of it.
    let shown = badger_fs::open(&Source::detached(Arc::new(view)), 0, wanted.len).unwrap();
    assert!(shown.survey().is_sound());
    let (root, other) = (fs.root().unwrap(), there.root().unwrap());
    // NTFS has up to four files of its own that no walk shows.
    let seen = same(fs, &*there, (&root, &other), "");
    assert!(seen <= survey.files && seen + 4 >= survey.files, "{seen} {}", survey.files);
    out
}

/// Least size, one unit more, what it is now, double, and seeded sizes between.
fn all_sizes(path: &Path, sector: u32, seeds: u64, judge: &[&str]) {
    let len = fs::metadata(path).unwrap().len();
    let fs = badger_fs::open(&source(path), 0, len).unwrap();
    let survey = fs.survey();
    let bounds = fs.bounds(&survey, sector).unwrap_or_else(|finding| panic!("{}: {:?}", finding.text, survey.findings));
    assert!(bounds.least <= len, "{bounds:?} {len}");
    let sector_up = |size: u64| size.div_ceil(u64::from(sector)) * u64::from(sector);
    let mut random = Random::new(seeds);
    let (least, most) = (sector_up(bounds.least), bounds.most.min(2 * len));
    let mut sizes = vec![least, sector_up(bounds.least + bounds.unit), len, most / u64::from(sector) * u64::from(sector)];
    sizes.extend((0..seeds).map(|_| sector_up(least + random.below(most - least))));
    for len in sizes {
        let start = 2048 + random.below(1 << 31);
        changed(path, &*fs, &survey, &Wanted { len, start, sector, fresh: None }, judge);
    }
    let too_small = Wanted { len: (bounds.least - bounds.unit) / u64::from(sector) * u64::from(sector), start: 2048, sector, fresh: None };
    assert_eq!(fs.resized(&survey, &too_small).err().map(|finding| finding.code), Some("volume-too-small"));
}

/// Fills a FAT volume so that its last files lie in many pieces.
fn fat(options: &[&str], mib: u64, pieces: usize, piece: usize) -> (tempfile::TempDir, PathBuf) {
    let (dir, path) = image(mib);
    let image = path.to_str().unwrap();
    run(&[&["mkfs.fat"], options, &[image]].concat());
    let data = tempfile::tempdir().unwrap();
    let put = |name: &str, bytes: &[u8]| fs::write(data.path().join(name), bytes).unwrap();
    (0..pieces).for_each(|number| put(&format!("filler {number:04}.csv"), &noise(piece, number as u64 + 1)));
    put("a rehearsal recording with a long name.wav", &noise(pieces / 2 * piece, 7));
    put("empty.txt", b"");
    run(&["mmd", "-i", image, "::/Counts", "::/Counts/deep"]);
    let files = |which: &dyn Fn(usize) -> bool| -> Vec<String> {
        (0..pieces).filter(|number| which(*number)).map(|number| data.path().join(format!("filler {number:04}.csv")).display().to_string()).collect()
    };
    let all = files(&|_| true);
    let copy = |names: &[String], to: &str| {
        let mut command = vec!["mcopy", "-i", image];
        command.extend(names.iter().map(String::as_str));
        command.push(to);
        run(&command);
    };
    copy(&all, "::/Counts");
    let gone: Vec<String> = (0..pieces).step_by(2).map(|number| format!("::/Counts/filler {number:04}.csv")).collect();
    run(&[&["mdel", "-i", image], gone.iter().map(String::as_str).collect::<Vec<_>>().as_slice()].concat());
    copy(
        &[data.path().join("a rehearsal recording with a long name.wav").display().to_string(), data.path().join("empty.txt").display().to_string()],
        "::/Counts/deep",
    );
    (dir, path)
}

#[rstest]
#[case::fat12(&["-F", "12", "-s", "4"], 4, 60, 9000, 512, 12)]
#[case::fat16(&["-F", "16", "-s", "4"], 40, 400, 9000, 512, 12)]
#[case::fat32(&["-F", "32", "-s", "1"], 48, 300, 9000, 512, 12)]
#[case::fat32_near_full(&["-F", "32", "-s", "1"], 36, 300, 80_000, 512, 4)]
#[case::fat16_to_large_sectors(&["-F", "16", "-s", "8"], 40, 200, 9000, 4096, 6)]
#[case::fat32_from_large_sectors(&["-F", "32", "-S", "4096", "-s", "1"], 300, 300, 9000, 512, 2)]
fn fat_volumes(#[case] options: &[&str], #[case] mib: u64, #[case] pieces: usize, #[case] piece: usize, #[case] sector: u32, #[case] seeds: u64) {
    let (_dir, path) = fat(options, mib, pieces, piece);
    all_sizes(&path, sector, seeds, &["fsck.fat", "-n"]);
}

fn exfat(options: &[&str], mib: u64, pieces: usize, piece: usize) -> (tempfile::TempDir, PathBuf) {
    let (dir, path) = image(mib);
    run(&[&["mkfs.exfat"], options, &[path.to_str().unwrap()]].concat());
    fill_exfat(&path, |place| {
        fs::create_dir_all(place.join("Noten/tief unten")).unwrap();
        (0..pieces).for_each(|number| fs::write(place.join(format!("Noten/Blatt {number:04}.csv")), noise(piece, number as u64 + 1)).unwrap());
        (0..pieces).step_by(2).for_each(|number| fs::remove_file(place.join(format!("Noten/Blatt {number:04}.csv"))).unwrap());
        fs::write(place.join("Noten/tief unten/Probe.wav"), noise(pieces / 2 * piece, 7)).unwrap();
        fs::write(place.join("leer.txt"), b"").unwrap();
    });
    (dir, path)
}

#[rstest]
#[case::small_clusters(&["-c", "4K"], 24, 300, 9000, 512, 12)]
#[case::near_full(&["-c", "512"], 12, 1000, 9000, 512, 6)]
#[case::to_large_sectors(&["-c", "32K"], 64, 60, 90_000, 4096, 8)]
fn exfat_volumes(#[case] options: &[&str], #[case] mib: u64, #[case] pieces: usize, #[case] piece: usize, #[case] sector: u32, #[case] seeds: u64) {
    let (_dir, path) = exfat(options, mib, pieces, piece);
    all_sizes(&path, sector, seeds, &["fsck.exfat", "-n"]);
}

/// Fills an NTFS volume: files in thousands of pieces, streams, compressed and sparse ones, wide directories.
fn ntfs(options: &[&str], mib: u64, pieces: usize, piece: usize) -> (tempfile::TempDir, PathBuf) {
    let (dir, path) = image(mib);
    run(&[&["mkntfs", "-q", "-F", "-Q"], options, &[path.to_str().unwrap()]].concat());
    fill_ntfs(&path, |place| {
        let sheets = place.join("Zählungen");
        fs::create_dir_all(place.join("Weir/deep/deeper")).unwrap();
        fs::create_dir(&sheets).unwrap();
        (0..pieces).for_each(|number| fs::write(sheets.join(format!("count {number:05}.csv")), noise(piece, number as u64 + 1)).unwrap());
        (0..pieces).step_by(2).for_each(|number| fs::remove_file(sheets.join(format!("count {number:05}.csv"))).unwrap());
        fs::write(place.join("Weir/deep/rehearsal.wav"), noise(pieces / 2 * piece, 7)).unwrap();
        fs::write(place.join("Weir/small.txt"), b"resident").unwrap();
        fs::write(place.join("Weir/small.txt:note"), noise(30_000, 5)).unwrap();
        let sparse = File::create(place.join("Weir/sparse.db")).unwrap();
        sparse.set_len(9 << 20).unwrap();
        sparse.write_all_at(&noise(70_000, 4), 3 << 20).unwrap();
        fs::create_dir(place.join("Packed")).unwrap();
        run(&["setfattr", "-h", "-v", "0x00080000", "-n", "system.ntfs_attrib", place.join("Packed").to_str().unwrap()]);
        fs::write(place.join("Packed/tides.csv"), "2026-11-25,high,4.2\n".repeat(20_000)).unwrap();
    });
    (dir, path)
}

#[rstest]
#[case::usual(&["-c", "4096"], 48, 600, 9000, 512, 10)]
#[case::thousands_of_pieces(&["-c", "512"], 32, 9000, 1000, 512, 6)]
#[case::large_clusters(&["-c", "65536"], 96, 300, 70_000, 512, 4)]
#[case::from_large_sectors(&["-s", "4096", "-c", "4096"], 48, 600, 9000, 512, 4)]
fn ntfs_volumes(#[case] options: &[&str], #[case] mib: u64, #[case] pieces: usize, #[case] piece: usize, #[case] sector: u32, #[case] seeds: u64) {
    let (_dir, path) = ntfs(options, mib, pieces, piece);
    all_sizes(&path, sector, seeds, &["ntfsfix", "-n"]);
}

/// Its own driver reads a squeezed volume, and writes to it.
#[rstest]
fn a_squeezed_ntfs_volume_is_mounted_and_written_to() {
    let (_dir, path) = ntfs(&["-c", "4096"], 48, 600, 9000);
    let there = badger_fs::open(&source(&path), 0, 48 * MIB).unwrap();
    let survey = there.survey();
    let least = there.bounds(&survey, 512).unwrap().least;
    let out = changed(&path, &*there, &survey, &Wanted { len: least + 6 * MIB, start: 2048, sector: 512, fresh: None }, &["ntfsfix", "-n"]);
    let whole = path.with_extension("whole");
    fs::copy(&path, &whole).unwrap();
    let copy = tempfile::tempdir().unwrap();
    fill_ntfs(&whole, |place| run(&["cp", "-r", &format!("{}/.", place.display()), copy.path().to_str().unwrap()]));
    fill_ntfs(&out, |place| {
        run(&["diff", "-r", copy.path().to_str().unwrap(), place.to_str().unwrap()]);
        fs::write(place.join("new.bin"), noise(3 << 20, 3)).unwrap();
    });
    let after = badger_fs::open(&source(&out), 0, least + 6 * MIB).unwrap().survey();
    assert!(after.is_sound(), "{:?}", after.findings);
}

/// Long files in one piece each behind gaps of one cluster: squeezed, their lists outgrow what held them.
fn gaps(place: &Path, cluster: usize) {
    fs::write(place.join("low.bin"), noise(4400 * cluster, 3)).unwrap();
    (0..7).for_each(|number| fs::write(place.join(format!("tape {number}.wav")), noise(440 * cluster, number + 9)).unwrap());
    fs::remove_file(place.join("low.bin")).unwrap();
    fs::create_dir(place.join("fill")).unwrap();
    (0..5000).for_each(|number| fs::write(place.join(format!("fill/{number}")), noise(1000, number + 1)).unwrap());
    let mut random = Random::new(77);
    (0..5000).filter(|_| random.below(1000) < 500).for_each(|number| fs::remove_file(place.join(format!("fill/{number}"))).unwrap());
}

#[rstest]
fn lists_that_outgrow_their_record_go_on_in_others(#[values(true, false)] full_table: bool) {
    let (_dir, path) = image(40);
    run(&["mkntfs", "-q", "-F", "-Q", "-c", "4096", path.to_str().unwrap()]);
    fill_ntfs(&path, |place| {
        gaps(place, 4096);
        // With no record of the table left over it has to grow.
        (0..if full_table { 2600 } else { 0 }).for_each(|number| fs::write(place.join(format!("fill/again {number}")), b"7").unwrap());
    });
    all_sizes(&path, 512, 6, &["ntfsfix", "-n"]);
}

/// Fills an ext volume through a mount: files in pieces, links, attributes, sparse and set-aside ones, indexed directories.
fn ext(options: &[&str], mib: u64, pieces: usize, piece: usize) -> (tempfile::TempDir, PathBuf) {
    let (dir, path) = image(mib);
    run(&[&["mke2fs", "-q", "-F"], options, &[path.to_str().unwrap()]].concat());
    fill_by(Family::Ext, &path, |place| {
        let sheets = place.join("counts");
        fs::create_dir_all(place.join("weir/deep/deeper")).unwrap();
        fs::create_dir(&sheets).unwrap();
        (0..pieces)
            .for_each(|number| fs::write(sheets.join(format!("a longer name for count {number:05}.csv")), noise(piece, number as u64 + 1)).unwrap());
        (0..pieces).step_by(2).for_each(|number| fs::remove_file(sheets.join(format!("a longer name for count {number:05}.csv"))).unwrap());
        fs::write(place.join("weir/deep/rehearsal.wav"), noise(pieces / 2 * piece, 7)).unwrap();
        std::os::unix::fs::symlink("weir/deep", place.join("short")).unwrap();
        std::os::unix::fs::symlink(format!("/{}", "long-target/".repeat(12)), place.join("weir/long")).unwrap();
        fs::hard_link(place.join("weir/deep/rehearsal.wav"), place.join("weir/same.wav")).unwrap();
        let sparse = File::create(place.join("weir/sparse.db")).unwrap();
        sparse.set_len(9 << 20).unwrap();
        sparse.write_all_at(&noise(70_000, 4), 3 << 20).unwrap();
        // Old formats cannot set space aside.
        let _ = Command::new("fallocate").args(["-l", "300000", place.join("weir/aside.db").to_str().unwrap()]).status();
        let name = "user.note";
        run(&["setfattr", "-n", name, "-v", &"x".repeat(300), place.join("weir/sparse.db").to_str().unwrap()]);
        (0..40).for_each(|number| fs::create_dir(place.join(format!("weir/deep/folder {number}"))).unwrap());
        (0..40).for_each(|number| fs::write(place.join(format!("weir/deep/folder {number}/note.txt")), b"short").unwrap());
    });
    run(&["e2fsck", "-fn", path.to_str().unwrap()]);
    (dir, path)
}

#[rstest]
#[case::usual(&["-t", "ext4"], 160, 600, 9000, 8)]
#[case::small_blocks(&["-t", "ext4", "-b", "1024", "-g", "2048", "-N", "4000"], 40, 1500, 1500, 10)]
#[case::narrow(&["-t", "ext4", "-b", "1024", "-O", "^64bit,^metadata_csum,^flex_bg"], 60, 900, 1500, 8)]
#[case::uninit(&["-t", "ext4", "-b", "1024", "-O", "^64bit,^metadata_csum,uninit_bg"], 60, 900, 1500, 6)]
#[case::inline_data(&["-t", "ext4", "-b", "1024", "-O", "inline_data", "-I", "256"], 60, 900, 1500, 8)]
#[case::meta_groups(&["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"], 60, 900, 1500, 8)]
#[case::block_maps(&["-t", "ext4", "-b", "1024", "-O", "^extent,^64bit"], 60, 900, 1500, 8)]
#[case::ext2(&["-t", "ext2", "-b", "1024", "-I", "128", "-O", "^filetype"], 60, 900, 1500, 8)]
#[case::ext3(&["-t", "ext3", "-b", "1024"], 60, 900, 1500, 6)]
#[case::no_sparse_super(&["-t", "ext2", "-b", "1024", "-O", "^sparse_super,^resize_inode"], 60, 900, 1500, 8)]
#[case::sparse_super2(&["-t", "ext4", "-b", "1024", "-O", "sparse_super2,^resize_inode"], 60, 900, 1500, 8)]
#[case::large_units(&["-t", "ext4", "-O", "bigalloc", "-C", "16384"], 160, 400, 17_000, 6)]
#[case::seed_and_values(&["-t", "ext4", "-b", "1024", "-O", "metadata_csum_seed,ea_inode,orphan_file"], 60, 900, 1500, 6)]
fn ext_volumes(#[case] options: &[&str], #[case] mib: u64, #[case] pieces: usize, #[case] piece: usize, #[case] seeds: u64) {
    let (_dir, path) = ext(options, mib, pieces, piece);
    all_sizes(&path, 512, seeds, &["e2fsck", "-fn"]);
}

/// What people use is counted: lists of places that become longer or shorter count too.
#[test]
fn quotas_count_what_is_used_in_any_size() {
    let (_dir, path) = ext(&["-t", "ext4", "-I", "256", "-b", "1024"], 60, 900, 1500);
    fill_by(Family::Ext, &path, |place| {
        // In one piece far behind, which in a smaller volume has to lie in the gaps.
        let piece = |number: usize| place.join(format!("counts/piece {number}"));
        (0..1500).for_each(|number| fs::write(piece(number), noise(6000, number as u64 + 1)).unwrap());
        fs::create_dir(place.join("whole")).unwrap();
        fs::write(place.join("whole/march.wav"), noise(5 << 20, 5)).unwrap();
        (0..1500).step_by(2).for_each(|number| fs::remove_file(piece(number)).unwrap());
        run(&["chown", "1000:70000", place.join("whole/march.wav").to_str().unwrap()]);
        run(&["chown", "-R", "4242:1000", place.join("weir").to_str().unwrap()]);
    });
    run(&["tune2fs", "-O", "quota,project", path.to_str().unwrap()]);
    run(&["e2fsck", "-fn", path.to_str().unwrap()]);
    all_sizes(&path, 512, 8, &["e2fsck", "-fn"]);
}

#[rstest]
#[case::ext("ext4", &["mke2fs", "-q", "-F", "-b", "1024"], "ext-sectors")]
#[case::fat("fat", &["mkfs.fat", "-F", "32", "-s", "1"], "fat-sectors")]
#[case::exfat("exfat", &["mkfs.exfat", "-c", "512"], "exfat-sectors")]
#[case::ntfs("ntfs", &["mkntfs", "-q", "-F", "-Q", "-c", "4096"], "ntfs-sectors")]
fn what_is_smaller_than_a_sector_is_refused_with_the_reason(#[case] name: &str, #[case] make: &[&str], #[case] code: &str) {
    let (_dir, path) = image(48);
    run(&[make, &[path.to_str().unwrap()]].concat());
    let there = badger_fs::open(&source(&path), 0, 48 * MIB).unwrap();
    let survey = there.survey();
    let wanted = Wanted { len: 64 * MIB, start: 2048, sector: 4096, fresh: None };
    assert_eq!(there.bounds(&survey, 4096).unwrap_err().code, code, "{name}");
    assert_eq!(there.resized(&survey, &wanted).err().map(|finding| finding.code), Some(code));
    there.bounds(&survey, 512).unwrap();
}

/// Filled until nothing fits any more, so that the last unit is in use; then every third file goes.
fn brim(place: &Path) {
    fs::create_dir(place.join("brim")).unwrap();
    let mut count = 0;
    while fs::write(place.join(format!("brim/{count}")), noise(40_000 + count % 7 * 900, count as u64 + 1)).is_ok() {
        count += 1;
    }
    let _ = fs::remove_file(place.join(format!("brim/{count}")));
    (0..count).step_by(3).for_each(|number| fs::remove_file(place.join(format!("brim/{number}"))).unwrap());
}

#[rstest]
#[case::exfat(&["mkfs.exfat", "-c", "4K"], &["fsck.exfat", "-n"])]
#[case::ntfs(&["mkntfs", "-q", "-F", "-Q", "-c", "4096"], &["ntfsfix", "-n"])]
#[case::ext4(&["mke2fs", "-q", "-F", "-t", "ext4", "-m", "0"], &["e2fsck", "-fn"])]
fn volumes_filled_to_the_last_unit(#[case] make: &[&str], #[case] judge: &[&str]) {
    let (_dir, path) = image(40);
    run(&[make, &[path.to_str().unwrap()]].concat());
    match judge[0] {
        "fsck.exfat" => fill_exfat(&path, brim),
        "ntfsfix" => fill_ntfs(&path, brim),
        _ => fill_by(Family::Ext, &path, brim),
    }
    all_sizes(&path, 512, 6, judge);
}

/// Another identifier, and nothing else, is what a fresh one brings.
#[rstest]
#[case::fat(&["mkfs.fat", "-F", "32", "-s", "1"], &["fsck.fat", "-n"])]
#[case::exfat(&["mkfs.exfat", "-c", "4K"], &["fsck.exfat", "-n"])]
#[case::ntfs(&["mkntfs", "-q", "-F", "-Q", "-c", "4096"], &["ntfsfix", "-n"])]
#[case::ext4(&["mke2fs", "-q", "-F", "-t", "ext4"], &["e2fsck", "-fn"])]
#[case::older(&["mke2fs", "-q", "-F", "-t", "ext4", "-O", "^metadata_csum,uninit_bg"], &["e2fsck", "-fn"])]
fn volumes_get_fresh_identifiers(#[case] make: &[&str], #[case] judge: &[&str]) {
    let (_dir, path) = image(60);
    run(&[make, &[path.to_str().unwrap()]].concat());
    let there = badger_fs::open(&source(&path), 0, 60 * MIB).unwrap();
    let survey = there.survey();
    let out = changed(&path, &*there, &survey, &Wanted { len: 80 * MIB, start: 2048, sector: 512, fresh: Some([0x5a; 16]) }, judge);
    let id = |path: &Path, len| badger_fs::recognise(&*source(path), 0, len).unwrap().id;
    assert_ne!(id(&path, 60 * MIB), id(&out, 80 * MIB));
    assert!(id(&out, 80 * MIB).to_lowercase().starts_with("5a5a"), "{}", id(&out, 80 * MIB));
}

/// A drive that fails gives other bytes when it is read again: what was sound when it was gone over may not be any more.
/// Whatever stands there then, nothing panics, nothing goes on for ever, and what is refused has a reason.
#[rstest]
#[case::fat(&["mkfs.fat", "-F", "16", "-s", "1"])]
#[case::exfat(&["mkfs.exfat", "-c", "4K"])]
#[case::ntfs(&["mkntfs", "-q", "-F", "-Q", "-c", "4096"])]
#[case::ext(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-g", "1024", "-O", "^metadata_csum,inline_data", "-I", "256"])]
#[case::maps(&["mke2fs", "-q", "-F", "-t", "ext3", "-b", "1024", "-g", "1024"])]
fn bytes_that_change_after_the_survey_are_survived(#[case] make: &[&str]) {
    let (_dir, path) = image(16);
    run(&[make, &[path.to_str().unwrap()]].concat());
    let few = |place: &Path| {
        fs::create_dir_all(place.join("folder/deep")).unwrap();
        (0..150).for_each(|number| {
            fs::write(place.join(format!("folder/a longer name {number}.csv")), noise(3000 + number * 20, number as u64 + 1)).unwrap()
        });
        (0..150).step_by(2).for_each(|number| fs::remove_file(place.join(format!("folder/a longer name {number}.csv"))).unwrap());
        fs::write(place.join("folder/deep/tape.wav"), noise(400_000, 3)).unwrap();
    };
    match make[0] {
        "mkfs.exfat" => fill_exfat(&path, few),
        "mkntfs" => fill_ntfs(&path, few),
        "mke2fs" => fill_by(Family::Ext, &path, few),
        _ => {
            let data = tempfile::tempdir().unwrap();
            few(data.path());
            run(&["mcopy", "-s", "-i", path.to_str().unwrap(), data.path().join("folder").to_str().unwrap(), "::/"]);
        }
    }
    let sound = fs::read(&path).unwrap();
    let opened = |bytes: Vec<u8>| crate::support::in_memory(bytes);
    let there = opened(sound.clone()).unwrap();
    let survey = there.survey();
    let bounds = there.bounds(&survey, 512).unwrap();
    // Damage where it hurts: in what is metadata.
    let metadata: Vec<std::ops::Range<u64>> =
        survey.usage.iter().filter(|(_, value)| **value == badger_fs::Use::Metadata).map(|(range, _)| range).collect();
    let total: u64 = metadata.iter().map(|range| range.end - range.start).sum();
    let mut random = Random::new(0x5eed);
    let (mut made, mut refused) = (0, 0);
    for turn in 0..300 {
        let mut bytes = sound.clone();
        for _ in 0..1 + random.below(12) {
            let mut at = random.below(total);
            let place = metadata
                .iter()
                .find_map(|range| {
                    if at < range.end - range.start {
                        Some(range.start + at)
                    } else {
                        at -= range.end - range.start;
                        None
                    }
                })
                .unwrap();
            for byte in place..(place + 1 + random.below(6)).min(bytes.len() as u64) {
                bytes[byte as usize] = [0, 1, 0x7f, 0x80, 0xff, random.below(256) as u8][random.below(6) as usize];
            }
        }
        let Ok(damaged) = opened(bytes) else { continue };
        let len = [bounds.least, bounds.least + random.below(8 * MIB), 24 * MIB][turn % 3] / 512 * 512;
        match damaged.resized(&survey, &Wanted { len: len.max(bounds.least), start: 2048, sector: 512, fresh: None }) {
            Ok(view) => {
                made += 1;
                assert!(view.needed().iter().all(|(range, ())| range.end <= view.geometry().size_bytes));
            }
            Err(finding) => {
                refused += 1;
                assert!(!finding.text.is_empty() && !finding.code.is_empty());
            }
        }
    }
    assert!(made > 20, "{made} made, {refused} refused");
}

/// A volume that must stay as it is still has to know where it begins when it is copied to another place.
#[rstest]
#[case::fat(&["mkfs.fat", "-F", "32", "-s", "1"], &["fsck.fat", "-n"])]
#[case::exfat(&["mkfs.exfat", "-c", "4K"], &["fsck.exfat", "-n"])]
#[case::ntfs(&["mkntfs", "-q", "-F", "-Q", "-c", "4096"], &["ntfsfix", "-n"])]
fn a_volume_that_only_moves_knows_its_new_place(#[case] make: &[&str], #[case] judge: &[&str]) {
    let (_dir, path) = image(48);
    run(&[make, &[path.to_str().unwrap()]].concat());
    let patches = badger_fs::placed(&source(&path), 0, 48 * MIB, 0x0012_3456);
    let file = fs::OpenOptions::new().write(true).open(&path).unwrap();
    patches.iter().for_each(|(at, bytes)| file.write_all_at(bytes, *at).unwrap());
    assert!(patches.len() >= 2, "the copy of the boot sector is set right too");
    run(&[judge, &[path.to_str().unwrap()]].concat());
    let boot = fs::read(&path).unwrap();
    let at = if judge[0] == "fsck.exfat" { 64 } else { 28 };
    assert_eq!(boot[at..at + 4], 0x0012_3456u32.to_le_bytes());
    let survey = badger_fs::open(&source(&path), 0, 48 * MIB).unwrap().survey();
    assert!(survey.is_sound(), "{:?}", survey.findings);
}
