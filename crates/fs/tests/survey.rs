//! What was broken on purpose is found and named; what the system's own checkers call clean is called clean.

use crate::support::{MIB, fill_exfat, fill_ntfs, image, in_memory, noise, run};
use badger_fs::{Survey, Use, Weight};
use rstest::rstest;
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::Path;
use std::process::Command;
use std::sync::OnceLock;

/// The codes of all findings above a note.
fn faults(survey: &Survey) -> Vec<&'static str> {
    let mut codes: Vec<_> = survey.findings.iter().filter(|finding| finding.weight > Weight::Note).map(|finding| finding.code).collect();
    codes.sort_unstable();
    codes.dedup();
    codes
}

fn codes(survey: &Survey) -> Vec<&'static str> {
    let mut codes: Vec<_> = survey.findings.iter().map(|finding| finding.code).collect();
    codes.sort_unstable();
    codes.dedup();
    codes
}

fn le16(bytes: &[u8], at: usize) -> usize {
    usize::from(u16::from_le_bytes([bytes[at], bytes[at + 1]]))
}

fn le32(bytes: &[u8], at: usize) -> usize {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize
}

fn le64(bytes: &[u8], at: usize) -> usize {
    u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap()) as usize
}

/// Twelve files of four clusters in two folders.
fn data() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    for number in 0..12u8 {
        let folder = dir.path().join(format!("folder-{}", number % 2));
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join(format!("sheet {number}.csv")), noise(16_000, u64::from(number) + 1)).unwrap();
    }
    dir
}

fn fat32() -> Vec<u8> {
    static MADE: OnceLock<Vec<u8>> = OnceLock::new();
    MADE.get_or_init(|| {
        let (_dir, path) = image(40);
        let data = data();
        run(&["mkfs.fat", "-F", "32", "-s", "1", path.to_str().unwrap()]);
        for entry in fs::read_dir(data.path()).unwrap() {
            run(&["mcopy", "-s", "-i", path.to_str().unwrap(), entry.unwrap().path().to_str().unwrap(), "::/"]);
        }
        fs::read(&path).unwrap()
    })
    .clone()
}

fn exfat() -> Vec<u8> {
    static MADE: OnceLock<Vec<u8>> = OnceLock::new();
    MADE.get_or_init(|| {
        let (_dir, path) = image(16);
        let data = data();
        run(&["mkfs.exfat", "-c", "4K", path.to_str().unwrap()]);
        fill_exfat(&path, |place| run(&["cp", "-r", &format!("{}/.", data.path().display()), place.to_str().unwrap()]));
        fs::read(&path).unwrap()
    })
    .clone()
}

fn ntfs() -> Vec<u8> {
    static MADE: OnceLock<Vec<u8>> = OnceLock::new();
    MADE.get_or_init(|| {
        let (_dir, path) = image(24);
        let data = data();
        run(&["mkntfs", "-q", "-F", "-Q", "-c", "4096", path.to_str().unwrap()]);
        fill_ntfs(&path, |place| {
            run(&["cp", "-r", &format!("{}/.", data.path().display()), place.to_str().unwrap()]);
            fs::create_dir(place.join("wide")).unwrap();
            (0..300).for_each(|number| fs::write(place.join(format!("wide/count {number:04}.csv")), b"7").unwrap());
        });
        fs::read(&path).unwrap()
    })
    .clone()
}

/// An ext4 volume with blocks of 1024 bytes and an indexed directory, changed by the tool that is made for it.
fn ext4(commands: &[&str]) -> Vec<u8> {
    let (dir, path) = image(24);
    let data = data();
    fs::create_dir(data.path().join("wide")).unwrap();
    (0..300).for_each(|number| fs::write(data.path().join(format!("wide/a longer name for count {number:04}.csv")), b"7").unwrap());
    run(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-d", data.path().to_str().unwrap(), path.to_str().unwrap()]);
    // The directory gets its index.
    Command::new("e2fsck").args(["-fyD"]).arg(&path).output().unwrap();
    run(&["e2fsck", "-fn", path.to_str().unwrap()]);
    if !commands.is_empty() {
        let script = dir.path().join("script");
        fs::write(&script, commands.join("\n")).unwrap();
        run(&["debugfs", "-w", "-f", script.to_str().unwrap(), path.to_str().unwrap()]);
        let noted = commands[0].starts_with("set_super_value");
        assert!(noted || !Command::new("e2fsck").args(["-fn"]).arg(&path).output().unwrap().status.success(), "its own checker finds it too");
    }
    fs::read(&path).unwrap()
}

fn survey(bytes: Vec<u8>) -> Survey {
    in_memory(bytes).unwrap().survey()
}

/// An entry may leave it to the inode to say what it is: neither the system nor its checker minds.
#[test]
fn entries_of_no_kind_are_no_damage() {
    let (_dir, path) = image(16);
    let data = data();
    run(&["mke2fs", "-q", "-F", "-t", "ext2", "-d", data.path().to_str().unwrap(), path.to_str().unwrap()]);
    let mut bytes = fs::read(&path).unwrap();
    for name in [&b"folder-1"[..], b"sheet 4.csv"] {
        let at = bytes.windows(name.len() + 2).position(|bytes| bytes[0] == name.len() as u8 && bytes[2..] == *name).unwrap() + 1;
        assert_ne!(std::mem::take(&mut bytes[at]), 0);
    }
    fs::write(&path, &bytes).unwrap();
    run(&["e2fsck", "-fn", path.to_str().unwrap()]);
    let there = in_memory(bytes).unwrap();
    assert_eq!(faults(&there.survey()), [""; 0]);
    for name in ["/folder-1/sheet 3.csv", "/folder-0/sheet 4.csv"] {
        assert_eq!(badger_fs::tree::find(&*there, name).unwrap().size, 16_000, "{name}");
    }
}

#[rstest]
#[case::bitmap_says_free(&["freeb 9000 1", "setb 9000 1", "freeb 700 8"], &["ext-free-in-use", "ext-group-count"])]
#[case::bitmap_says_used(&["setb 20000 5"], &["ext-group-count", "ext-lost"])]
#[case::link_count(&["set_inode_field /folder-0/sheet\\ 0.csv links_count 3"], &["ext-link-count"])]
#[case::block_count(&["set_inode_field /folder-0 blocks 99"], &["ext-block-count"])]
#[case::dangling(&["clri /wide/a\\ longer\\ name\\ for\\ count\\ 0007.csv"], &["ext-inode-bitmap"])]
#[case::errors_noted(&["set_super_value state 3"], &["ext-errors"])]
#[case::never_put_away(&["set_super_value state 0"], &["volume-dirty"])]
#[case::descriptor(&["set_block_group 0 used_dirs_count 9"], &["ext-descriptor"])]
#[case::cut_off(&["unlink /folder-1"], &["ext-cut-off", "ext-link-count"])]
#[case::second_name(&["link /folder-0/sheet\\ 0.csv /again"], &["ext-link-count"])]
fn ext_faults_are_named(#[case] commands: &[&str], #[case] wanted: &[&'static str]) {
    let commands: Vec<String> = commands.iter().map(|command| command.replace("\\ ", " ")).map(quoted).collect();
    let commands: Vec<&str> = commands.iter().map(String::as_str).collect();
    let found = faults(&survey(ext4(&commands)));
    for code in wanted {
        assert!(found.contains(code), "{code} is not among {found:?}");
    }
    assert!(found.len() <= wanted.len() + 1, "{found:?}");
}

/// Puts a path with blanks into quotes for debugfs.
fn quoted(command: String) -> String {
    let Some(start) = command.find('/').filter(|_| command.contains(".csv")) else { return command };
    let end = command.find(".csv").unwrap() + 4;
    format!("{}\"{}\"{}", &command[..start], &command[start..end], &command[end..])
}

#[test]
fn a_flipped_byte_in_any_ext_structure_is_found_by_its_checksum() {
    let bytes = ext4(&[]);
    let fs = in_memory(bytes.clone()).unwrap();
    assert_eq!(faults(&fs.survey()), [] as [&str; 0]);
    let wide = badger_fs::tree::find(&*fs, "/wide").unwrap();
    let descriptor = 2048;
    let (per_group, inode_size) = (le32(&bytes, 1024 + 40), le16(&bytes, 1024 + 88));
    let (group, index) = ((wide.id as usize - 1) / per_group, (wide.id as usize - 1) % per_group);
    let inode = le32(&bytes, descriptor + group * 64 + 8) * 1024 + index * inode_size;
    let first = fs.open(&wide, "").unwrap().place(0).unwrap() as usize;
    let cases = [
        (1024 + 0x1c8, "ext-super-block"),
        (descriptor + 28, "ext-descriptor"),
        (le32(&bytes, descriptor) * 1024 + 900, "ext-block-bitmap"),
        (le32(&bytes, descriptor + 4) * 1024 + 100, "ext-inode-bitmap"),
        (inode + 12, "ext-inode-checksum"),
        (fs.open(&wide, "").unwrap().place(1024 + 900).unwrap() as usize, "ext-directory-checksum"),
        (first + 40, "ext-index-checksum"),
    ];
    for (at, code) in cases {
        let mut broken = bytes.clone();
        broken[at] ^= 0x10;
        let found = codes(&survey(broken));
        assert!(found.contains(&code), "{code} is not among {found:?}");
    }
}

#[test]
fn ext_files_are_read_through_a_copied_descriptor() {
    let mut bytes = ext4(&[]);
    bytes[2048..3072].fill(0xff);
    let fs = in_memory(bytes).unwrap();
    let node = badger_fs::tree::find(&*fs, "/folder-1/sheet 3.csv").unwrap();
    let mut read = vec![0; 16_000];
    fs.read(&node, 0, &mut read).unwrap();
    assert_eq!(read, noise(16_000, 4));
    assert_eq!(faults(&fs.survey()), ["ext-descriptor"]);
}

/// Where the tables of a FAT32 volume begin, the bytes of one, and where the data begins.
fn fat_places(bytes: &[u8]) -> (usize, usize, usize) {
    let (reserved, len) = (le16(bytes, 14) * 512, le32(bytes, 36) * 512);
    (reserved, len, reserved + len * usize::from(bytes[16]))
}

fn first_cluster(bytes: &[u8], path: &str) -> usize {
    let fs = in_memory(bytes.to_vec()).unwrap();
    let node = badger_fs::tree::find(&*fs, path).unwrap();
    let at = fs.open(&node, "").unwrap().pieces()[0].at.unwrap() as usize;
    (at - fat_places(bytes).2) / 512 + 2
}

type Break = fn(&mut Vec<u8>);

/// Sets an entry in both tables.
fn set_fat(bytes: &mut [u8], cluster: usize, value: u32) {
    let (start, len, _) = fat_places(bytes);
    for copy in 0..2 {
        let at = start + copy * len + cluster * 4;
        bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
    }
}

#[rstest]
#[case::clean(|_: &mut Vec<u8>| (), &[])]
#[case::tables_differ(|bytes: &mut Vec<u8>| { let (start, len, _) = fat_places(bytes); bytes[start + len + 4000] ^= 1; }, &["fat-lost", "fat-tables-differ"])]
#[case::lost(|bytes: &mut Vec<u8>| set_fat(bytes, 60_000, 0x0fff_ffff), &["fat-lost"])]
#[case::cross_linked(|bytes: &mut Vec<u8>| { let (a, b) = (first_cluster(bytes, "/folder-0/sheet 0.csv"), first_cluster(bytes, "/folder-1/sheet 1.csv")); set_fat(bytes, a, b as u32); }, &["fat-chain-long", "fat-chain-short", "fat-cross-linked", "fat-lost"])]
#[case::short(|bytes: &mut Vec<u8>| { let a = first_cluster(bytes, "/folder-0/sheet 0.csv"); set_fat(bytes, a, 0x0fff_ffff); }, &["fat-chain-short", "fat-lost"])]
#[case::freed(|bytes: &mut Vec<u8>| { let a = first_cluster(bytes, "/folder-0/sheet 0.csv"); set_fat(bytes, a, 0); }, &["fat-chain", "fat-chain-short", "fat-free-in-use", "fat-lost"])]
#[case::boot_copy(|bytes: &mut Vec<u8>| bytes[6 * 512 + 40] ^= 1, &["fat-boot-copy"])]
#[case::dirty(|bytes: &mut Vec<u8>| { let (start, len, _) = fat_places(bytes); bytes[start + 7] &= 0xf7; bytes[start + len + 7] &= 0xf7; }, &["volume-dirty"])]
fn fat_faults_are_named(#[case] damage: Break, #[case] wanted: &[&str]) {
    let mut bytes = fat32();
    damage(&mut bytes);
    let found = faults(&survey(bytes));
    // A chain that is cut can make the other's length wrong or not, by where it is cut.
    assert!(found.iter().all(|code| wanted.contains(code)) && found.is_empty() == wanted.is_empty(), "{found:?} {wanted:?}");
    assert!(wanted.iter().filter(|code| !found.contains(code)).all(|code| code.starts_with("fat-chain")), "{found:?} {wanted:?}");
}

#[test]
fn a_wrong_count_of_free_clusters_is_a_note() {
    let mut bytes = fat32();
    bytes[512 + 488] ^= 7;
    let survey = survey(bytes);
    assert_eq!((codes(&survey), survey.is_sound()), (vec!["fat-free-count"], true));
}

fn exfat_heap(bytes: &[u8]) -> usize {
    le32(bytes, 88) << bytes[108]
}

#[rstest]
#[case::clean(|_: &mut Vec<u8>| (), &[])]
#[case::boot_checksum(|bytes: &mut Vec<u8>| bytes[11 * 512 + 8] ^= 1, &["exfat-boot-checksum"])]
#[case::lost(|bytes: &mut Vec<u8>| { let at = exfat_heap(bytes) + 300; bytes[at] |= 0x10; }, &["exfat-lost"])]
#[case::free_in_use(|bytes: &mut Vec<u8>| { let at = exfat_heap(bytes); bytes[at + 1] = 0; }, &["exfat-free-in-use"])]
#[case::entry(|bytes: &mut Vec<u8>| { let at = find(bytes, &utf16("sheet 3")); bytes[at] ^= 1; }, &["exfat-entry", "exfat-lost"])]
#[case::upper_case(|bytes: &mut Vec<u8>| { let at = exfat_heap(bytes) + 4096 + 500; bytes[at] ^= 1; }, &["exfat-upcase"])]
#[case::dirty(|bytes: &mut Vec<u8>| bytes[106] |= 2, &["volume-dirty"])]
fn exfat_faults_are_named(#[case] damage: Break, #[case] wanted: &[&str]) {
    let mut bytes = exfat();
    damage(&mut bytes);
    assert_eq!(faults(&survey(bytes)), wanted);
}

/// Nobody looks at the second region while the first is whole.
#[test]
fn a_damaged_second_boot_region_is_a_note() {
    let mut bytes = exfat();
    bytes[12 * 512 + 72] ^= 1;
    let survey = survey(bytes);
    assert_eq!((codes(&survey), survey.is_sound()), (vec!["exfat-boot-checksum", "exfat-boot-copy"], true));
}

/// Systems take as much of the bitmap as the clusters need, and their checker says nothing of it.
#[test]
fn a_bitmap_that_says_it_is_longer_is_a_note() {
    let mut bytes = exfat();
    let heap = le32(&bytes, 88) * 512 + (le32(&bytes, 96) - 2) * (512 << bytes[109]);
    let entry = heap + bytes[heap..].chunks(32).position(|entry| entry[0] == 0x81).unwrap() * 32;
    bytes[entry + 28] = 4;
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), &bytes).unwrap();
    assert!(std::process::Command::new("fsck.exfat").arg("-n").arg(file.path()).output().unwrap().status.success());
    let survey = survey(bytes);
    assert_eq!((codes(&survey), survey.is_sound()), (vec!["exfat-bitmap-size"], true));
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

fn find(bytes: &[u8], wanted: &[u8]) -> usize {
    bytes.windows(wanted.len()).position(|window| window == wanted).unwrap()
}

/// Where a record of the master file table lies.
fn record(bytes: &[u8], number: usize) -> usize {
    le64(bytes, 48) * 4096 + number * 1024
}

fn record_of(bytes: &[u8], path: &str) -> usize {
    let fs = in_memory(bytes.to_vec()).unwrap();
    record(bytes, badger_fs::tree::find(&*fs, path).unwrap().id as usize)
}

/// Where the runs of a record's content stand.
fn runs_at(bytes: &[u8], record: usize) -> usize {
    let mut at = record + le16(bytes, record + 20);
    while le32(bytes, at) != 0x80 {
        at += le32(bytes, at + 4);
    }
    at + le16(bytes, at + 32)
}

#[rstest]
#[case::clean(|_: &mut Vec<u8>| (), &[])]
#[case::torn_record(|bytes: &mut Vec<u8>| { let at = record_of(bytes, "/folder-0/sheet 0.csv"); bytes[at + 510] ^= 1; }, &["ntfs-dangling", "ntfs-lost", "ntfs-record"])]
#[case::freed_record(|bytes: &mut Vec<u8>| { let at = record_of(bytes, "/folder-0/sheet 0.csv"); bytes[at + 22] = 0; }, &["ntfs-dangling", "ntfs-lost", "ntfs-table-map"])]
#[case::another_use(|bytes: &mut Vec<u8>| { let at = record_of(bytes, "/folder-0/sheet 0.csv"); bytes[at + 16] += 1; }, &["ntfs-dangling", "ntfs-names"])]
#[case::links(|bytes: &mut Vec<u8>| { let at = record_of(bytes, "/folder-0/sheet 0.csv"); bytes[at + 18] = 5; }, &["ntfs-link-count"])]
#[case::cross_linked(
    |bytes: &mut Vec<u8>| {
        let (a, b) = (record_of(bytes, "/folder-0/sheet 0.csv"), record_of(bytes, "/folder-1/sheet 1.csv"));
        let (a, b) = (runs_at(bytes, a), runs_at(bytes, b));
        let runs = bytes[b..b + 4].to_vec();
        bytes[a..a + 4].copy_from_slice(&runs);
    },
    &["ntfs-cross-linked", "ntfs-lost"]
)]
#[case::runs_too_long(|bytes: &mut Vec<u8>| { let at = record_of(bytes, "/folder-0/sheet 0.csv"); let at = runs_at(bytes, at); bytes[at + 1] += 1; }, &["ntfs-cross-linked", "ntfs-runs"])]
#[case::boot_copy(|bytes: &mut Vec<u8>| { let last = bytes.len() - 512; bytes[last + 60] ^= 1; }, &["ntfs-boot-copy"])]
#[case::mirror(|bytes: &mut Vec<u8>| { let at = le64(bytes, 56) * 4096; bytes[at + 200] ^= 1; }, &["ntfs-mirror"])]
#[case::first_record(|bytes: &mut Vec<u8>| { let at = record(bytes, 0); bytes[at + 510] ^= 1; }, &["ntfs-mirror"])]
#[case::index_block(|bytes: &mut Vec<u8>| { let at = index_block(bytes); bytes[at + 510] ^= 1; }, &["ntfs-index", "ntfs-names"])]
#[case::order(|bytes: &mut Vec<u8>| { let at = index_block(bytes); let at = at + find(&bytes[at..], &utf16("count 00")); bytes[at] = b'z'; }, &["ntfs-index", "ntfs-names"])]
#[case::dirty(|bytes: &mut Vec<u8>| { volume_flags(bytes).into_iter().for_each(|at| bytes[at] |= 1); }, &["volume-dirty"])]
fn ntfs_faults_are_named(#[case] damage: Break, #[case] wanted: &[&str]) {
    let mut bytes = ntfs();
    damage(&mut bytes);
    let found = faults(&survey(bytes));
    assert!(found.iter().all(|code| wanted.contains(code)) && found.is_empty() == wanted.is_empty(), "{found:?} {wanted:?}");
    // Where runs grow into free space nothing is linked twice.
    assert!(wanted.iter().filter(|code| !found.contains(code)).all(|code| matches!(*code, "ntfs-cross-linked" | "ntfs-record")), "{found:?}");
}

/// A block of the wide directory's index.
fn index_block(bytes: &[u8]) -> usize {
    let wanted = utf16("count 00");
    let block = bytes.chunks(4096).position(|block| block.starts_with(b"INDX") && block.windows(wanted.len()).any(|window| window == wanted));
    block.unwrap() * 4096
}

/// Where the flags of the volume stand, in the table and in its mirror.
fn volume_flags(bytes: &[u8]) -> [usize; 2] {
    [record(bytes, 3), le64(bytes, 56) * 4096 + 3 * 1024].map(|record| {
        let mut at = record + le16(bytes, record + 20);
        while le32(bytes, at) != 0x70 {
            at += le32(bytes, at + 4);
        }
        at + le16(bytes, at + 20) + 10
    })
}

#[test]
fn a_damaged_index_is_made_good_by_the_records() {
    let mut bytes = ntfs();
    let at = index_block(&bytes);
    bytes[at + 510] ^= 1;
    let fs = in_memory(bytes).unwrap();
    let listing = fs.list(&badger_fs::tree::find(&*fs, "/wide").unwrap());
    assert_eq!(listing.entries.len(), 300);
    assert!(listing.findings.iter().any(|finding| finding.code == "ntfs-index"));
}

/// What the volume's own tools say is in use, in units.
fn said(command: &[&str], word: &str) -> u64 {
    let out = Command::new(command[0]).args(&command[1..]).output().unwrap();
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    let line = text.lines().find(|line| line.starts_with(word)).unwrap_or_else(|| panic!("{text}"));
    line.rsplit(|letter: char| !letter.is_ascii_digit()).find(|part| !part.is_empty()).unwrap().parse().unwrap()
}

#[test]
fn metadata_is_told_from_data() {
    let (_dir, path) = image(64);
    run(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", path.to_str().unwrap()]);
    let survey = crate::support::open(&path).survey();
    let free = said(&["dumpe2fs", "-h", path.to_str().unwrap()], "Free blocks:");
    assert_eq!(survey.used(), 64 * MIB - free * 4096);
    assert_eq!(survey.usage.total(|use_| *use_ == Use::Data), 0, "an empty volume is nothing but structures");
    let data = data();
    run(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", "-d", data.path().to_str().unwrap(), path.to_str().unwrap()]);
    assert_eq!(crate::support::open(&path).survey().usage.total(|use_| *use_ == Use::Data), 12 * 4 * 4096);
}

#[test]
fn a_pending_journal_is_taken_into_account_and_nothing_is_written() {
    let (dir, path) = image(64);
    run(&["mke2fs", "-q", "-F", "-t", "ext4", path.to_str().unwrap()]);
    let place = dir.path().join("mnt");
    fs::create_dir(&place).unwrap();
    run(&["mount", "-o", "loop", path.to_str().unwrap(), place.to_str().unwrap()]);
    fs::create_dir(place.join("old")).unwrap();
    fs::write(place.join("old/kept.txt"), b"kept").unwrap();
    run(&["sync"]);
    for number in 0..200 {
        let mut file = OpenOptions::new().create(true).append(true).open(place.join(format!("new {number}.txt"))).unwrap();
        file.write_all(format!("high water {number}").as_bytes()).unwrap();
        file.sync_all().unwrap();
    }
    // What lies on the disk now is what a machine leaves behind that loses its power.
    let torn = dir.path().join("torn.img");
    run(&["cp", path.to_str().unwrap(), torn.to_str().unwrap()]);
    run(&["umount", place.to_str().unwrap()]);
    let before = fs::read(&torn).unwrap();
    let fs = crate::support::open(&torn);
    let survey = fs.survey();
    assert!(codes(&survey).contains(&"journal-pending"), "{:?}", survey.findings);
    for number in 0..200 {
        let node = badger_fs::tree::find(&*fs, &format!("/new {number}.txt")).unwrap();
        let mut bytes = vec![0; node.size as usize];
        fs.read(&node, 0, &mut bytes).unwrap();
        assert_eq!(bytes, format!("high water {number}").as_bytes());
    }
    assert!(faults(&survey).iter().all(|code| *code == "volume-dirty"), "{:?}", survey.findings);
    assert!(before == fs::read(&torn).unwrap(), "nothing is written");
    // The system's own replay comes to the same.
    replayed(&torn);
    let after = crate::support::open(&torn).survey();
    assert_eq!(faults(&after), [] as [&str; 0]);
    assert_eq!((after.files, after.directories), (survey.files, survey.directories));
}

fn replayed(path: &Path) {
    let out = Command::new("e2fsck").args(["-fy", "-E", "journal_only"]).arg(path).output().unwrap();
    assert!(out.status.code().is_some_and(|code| code < 4), "{}", String::from_utf8_lossy(&out.stdout));
    run(&["e2fsck", "-fn", path.to_str().unwrap()]);
}

#[test]
fn streams_and_attributes_are_read() {
    let (_dir, path) = image(24);
    run(&["mkntfs", "-q", "-F", "-Q", path.to_str().unwrap()]);
    fill_ntfs(&path, |place| {
        fs::write(place.join("survey.pdf"), b"the weir").unwrap();
        fs::write(place.join("survey.pdf:origin"), noise(9000, 5)).unwrap();
    });
    let volume = crate::support::open(&path);
    let node = badger_fs::tree::find(&*volume, "/SURVEY.PDF").unwrap();
    let streams = volume.streams(&node).unwrap();
    assert_eq!(streams.iter().map(|stream| (stream.name.shown.as_str(), stream.size)).collect::<Vec<_>>(), [("origin", 9000)]);
    let content = volume.open(&node, "origin").unwrap();
    let mut bytes = vec![0; 9000];
    assert_eq!(content.read(0, &mut bytes).unwrap(), 9000);
    assert_eq!(bytes, noise(9000, 5));
    assert_eq!(volume.open(&node, "nothing").err().unwrap().code, "ntfs-no-stream");

    let (dir, path) = image(24);
    run(&["mke2fs", "-q", "-F", "-t", "ext4", path.to_str().unwrap()]);
    let place = dir.path().join("mnt");
    fs::create_dir(&place).unwrap();
    run(&["mount", "-o", "loop", path.to_str().unwrap(), place.to_str().unwrap()]);
    let file = place.join("rota.txt");
    fs::write(&file, b"Ines").unwrap();
    let long = "tide".repeat(150);
    run(&["setfattr", "-n", "user.short", "-v", "kept", file.to_str().unwrap()]);
    run(&["setfattr", "-n", "user.long", "-v", &long, file.to_str().unwrap()]);
    run(&["umount", place.to_str().unwrap()]);
    let volume = crate::support::open(&path);
    let mut found = volume.attributes(&badger_fs::tree::find(&*volume, "/rota.txt").unwrap()).unwrap();
    found.sort();
    assert_eq!(found, [("user.long".to_string(), long.into_bytes()), ("user.short".to_string(), b"kept".to_vec())]);
    assert_eq!(faults(&volume.survey()), [] as [&str; 0]);
}

/// A chunk of sixteen different letters, packed: a table that gives each a code of four bits, then the codes.
fn packed_chunk(bytes: &[u8]) -> Vec<u8> {
    let mut out = vec![0; 256];
    (0..16).for_each(|letter| out[(0x60 + letter) / 2] |= 4 << (letter % 2 * 4));
    for four in bytes.chunks(4) {
        let word = four.iter().fold(0u16, |word, byte| word << 4 | u16::from(byte - 0x60)) << (4 * (4 - four.len()));
        out.extend(word.to_le_bytes());
    }
    out
}

#[test]
fn a_file_compressed_by_its_system_is_read_like_any_other() {
    let (_dir, path) = image(24);
    run(&["mkntfs", "-q", "-F", "-Q", path.to_str().unwrap()]);
    let letters: Vec<u8> = noise(11_000, 3).iter().map(|byte| 0x60 + byte % 16).collect();
    // Two chunks are packed, the last is kept plain because packing did not make it shorter.
    let mut chunks: Vec<Vec<u8>> = letters.chunks(4096).map(packed_chunk).collect();
    chunks[2] = letters[8192..].to_vec();
    let ends: Vec<u32> = chunks
        .iter()
        .scan(0, |end, chunk| {
            *end += chunk.len() as u32;
            Some(*end)
        })
        .collect();
    let stream: Vec<u8> = ends[..2].iter().flat_map(|end| end.to_le_bytes()).chain(chunks.concat()).collect();
    fill_ntfs(&path, |place| {
        for (name, len) in [("program.dll", 11_000u64), ("short.dll", 40)] {
            let file = place.join(name);
            fs::File::create(&file).unwrap().set_len(len).unwrap();
            let stream = if len == 40 { letters[..40].to_vec() } else { stream.clone() };
            fs::write(place.join(format!("{name}:WofCompressedData")), stream).unwrap();
            // Tag, length, then the version and provider of the outer part and the version and method of the inner one.
            let reparse = "0x17000080100000000100000002000000".to_string() + "0100000000000000";
            run(&["setfattr", "-h", "-n", "system.ntfs_reparse_data", "-v", &reparse, file.to_str().unwrap()]);
        }
    });
    let volume = crate::support::open(&path);
    for (name, len) in [("/program.dll", 11_000), ("/short.dll", 40)] {
        let node = badger_fs::tree::find(&*volume, name).unwrap();
        assert_eq!((node.size, volume.streams(&node).unwrap().len()), (len as u64, 0), "what the system keeps there is no stream of the file");
        let content = volume.open(&node, "").unwrap();
        let mut bytes = vec![0; len];
        assert_eq!(content.read(0, &mut bytes).unwrap(), len);
        assert!(bytes == letters[..len], "{name}");
        let mut middle = vec![0; 10];
        content.read(25, &mut middle).unwrap();
        assert_eq!(middle, &letters[25..35]);
    }
    assert_eq!(faults(&volume.survey()), [] as [&str; 0]);
}
