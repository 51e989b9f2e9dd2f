//! A broken structure costs what it holds, not the volume.

use badger_drive::medium::MemoryMedium;
use badger_drive::{Source, Workshop};
use badger_fs::tree::{self, Listing};
use badger_fs::{Finding, Volume};
use rstest::rstest;
use std::fs::{self, File};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;

const MIB: u64 = 1 << 20;

fn run(command: &[&str]) {
    let out = Command::new(command[0]).args(&command[1..]).output().unwrap_or_else(|error| panic!("{}: {error}", command[0]));
    assert!(out.status.success(), "{command:?}: {}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
}

/// A volume of 16 MiB, made by `tool` and filled by `fill` with five files.
fn volume(tool: &[&str], fill: impl Fn(&Path, &Path)) -> Vec<u8> {
    let dir = tempfile::tempdir().unwrap();
    let (path, data) = (dir.path().join("volume.img"), dir.path().join("data"));
    File::create(&path).unwrap().set_len(16 * MIB).unwrap();
    fs::create_dir(&data).unwrap();
    for number in 0..5 {
        fs::write(data.join(format!("A longer name {number}.txt")), vec![b'0' + number; 20_000]).unwrap();
    }
    run(&[tool, &[path.to_str().unwrap()]].concat());
    fill(&path, &data);
    fs::read(&path).unwrap()
}

fn fat() -> Vec<u8> {
    volume(&["mkfs.fat", "-F", "16", "-s", "1"], |path, data| {
        for entry in fs::read_dir(data).unwrap() {
            run(&["mcopy", "-i", path.to_str().unwrap(), entry.unwrap().path().to_str().unwrap(), "::/"]);
        }
    })
}

fn ext() -> Vec<u8> {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("volume.img");
    volume(&["true"], |volume, data| {
        fs::copy(volume, &path).unwrap();
        run(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-d", data.to_str().unwrap(), path.to_str().unwrap()]);
    });
    fs::read(&path).unwrap()
}

fn ntfs() -> Vec<u8> {
    volume(&["mkntfs", "-q", "-F", "-Q", "-c", "4096"], |path, data| {
        for entry in fs::read_dir(data).unwrap() {
            let file = entry.unwrap().path();
            run(&["ntfscp", "-q", path.to_str().unwrap(), file.to_str().unwrap(), file.file_name().unwrap().to_str().unwrap()]);
        }
    })
}

fn open(bytes: Vec<u8>) -> Box<dyn Volume> {
    let source = Source::detached(Arc::new(MemoryMedium::new(bytes, 512)));
    badger_fs::open(&source, 0, 16 * MIB).unwrap()
}

fn list(fs: &dyn Volume) -> Listing {
    let mut listing = fs.list(&fs.root().unwrap());
    listing.entries.retain(|entry| entry.name.shown.starts_with("A longer"));
    listing
}

fn codes(findings: &[Finding]) -> Vec<&'static str> {
    findings.iter().map(|finding| finding.code).collect()
}

fn read(fs: &dyn Volume, name: &str) -> Result<Vec<u8>, Finding> {
    let node = tree::find(fs, name)?;
    let mut bytes = vec![0; node.size as usize];
    fs.read(&node, 0, &mut bytes)?;
    Ok(bytes)
}

/// Where a stretch of bytes first stands in a volume.
fn place(bytes: &[u8], wanted: &[u8]) -> usize {
    bytes.windows(wanted.len()).position(|window| window == wanted).unwrap()
}

#[rstest]
#[case::fat(fat())]
#[case::ext(ext())]
#[case::ntfs(ntfs())]
fn a_sound_volume_gives_all_five_files(#[case] bytes: Vec<u8>) {
    let fs = open(bytes);
    let listing = list(&*fs);
    assert_eq!((listing.entries.len(), codes(&listing.findings)), (5, vec![]));
    for number in 0..5u8 {
        assert_eq!(read(&*fs, &format!("/A longer name {number}.txt")).unwrap(), vec![b'0' + number; 20_000]);
    }
}

#[test]
fn a_deleted_name_is_not_listed_and_its_long_name_goes_to_nobody_else() {
    let mut bytes = fat();
    let short = place(&bytes, b"ALONGE~2TXT").min(place(&bytes, b"ALONGE~3TXT"));
    bytes[short] = 0xe5;
    let listing = list(&*open(bytes));
    // The long name was not deleted with it; whoever wrote the volume would have.
    assert_eq!((listing.entries.len(), codes(&listing.findings)), (4, vec!["fat-long-name"]));
}

#[test]
fn a_short_name_shows_its_case_and_a_wrong_long_name_is_not_believed() {
    let mut bytes = fat();
    let short = place(&bytes, b"ALONGE~2TXT");
    // The long name in front carries the checksum of the old short name.
    bytes[short..short + 11].copy_from_slice(b"ROTAS   CSV");
    bytes[short + 12] = 0x18;
    let fs = open(bytes);
    let names: Vec<String> = fs.list(&fs.root().unwrap()).entries.into_iter().map(|entry| entry.name.shown).collect();
    assert!(names.contains(&"rotas.csv".to_string()) && names.len() == 5, "{names:?}");
}

#[test]
fn a_cut_chain_costs_the_file_and_no_other() {
    let mut bytes = fat();
    let fs = open(bytes.clone());
    let node = tree::find(&*fs, "/a longer name 2.txt").unwrap();
    let first = fs.open(&node, "").unwrap().pieces()[0].at.unwrap();
    let reserved = u16::from_le_bytes([bytes[14], bytes[15]]) as usize * 512;
    let table_len = usize::from(u16::from_le_bytes([bytes[22], bytes[23]])) * 512;
    let data = reserved + 2 * table_len + usize::from(u16::from_le_bytes([bytes[17], bytes[18]])) * 32;
    let cluster = (first as usize - data) / 512 + 2;
    for (value, code) in [(0xffffu16, "fat-chain-short"), (0, "fat-chain"), (0xfff7, "fat-chain"), (cluster as u16, "fat-chain")] {
        let entry = reserved + cluster * 2;
        bytes[entry..entry + 2].copy_from_slice(&value.to_le_bytes());
        let fs = open(bytes.clone());
        let error = read(&*fs, "/a longer name 2.txt").map(|read| read.len()).map_err(|finding| finding.code);
        // A cluster that names itself gives the right number of wrong bytes: nothing in the format tells.
        assert!(error == Err(code) || value == cluster as u16, "{value:x}: {error:?}");
        assert_eq!(read(&*fs, "/A longer name 3.txt").unwrap(), vec![b'3'; 20_000]);
    }
}

#[test]
fn an_overwritten_inode_is_a_dangling_name() {
    let mut bytes = ext();
    let id = tree::find(&*open(bytes.clone()), "/A longer name 4.txt").unwrap().id as usize;
    // The second descriptor field of group 0 (block 2) names the block of its inode table.
    let table = u32::from_le_bytes(bytes[2048 + 8..2048 + 12].try_into().unwrap()) as usize * 1024;
    let size = usize::from(u16::from_le_bytes([bytes[1024 + 88], bytes[1024 + 89]]));
    bytes[table + (id - 1) * size..table + id * size].fill(0);
    let fs = open(bytes);
    let listing = list(&*fs);
    assert_eq!((listing.entries.len(), codes(&listing.findings)), (4, vec!["ext-dangling"]));
    assert_eq!(read(&*fs, "/A longer name 1.txt").unwrap(), vec![b'1'; 20_000]);
}

#[test]
fn a_damaged_first_record_is_made_good_by_the_mirror() {
    let mut bytes = ntfs();
    let table = u64::from_le_bytes(bytes[48..56].try_into().unwrap()) as usize * 4096;
    bytes[table + 100..table + 400].fill(0x5a);
    bytes[table + 510] ^= 0xff;
    let source = Source::detached(Arc::new(MemoryMedium::new(bytes.clone(), 512)));
    let fs = badger_fs::open(&source, 0, 16 * MIB).unwrap();
    // With the mirror only the first sixteen records are certain; the rest of the table is found by its own record.
    assert!(fs.root().is_ok() || codes(&fs.list(&tree::find(&*fs, "/").unwrap()).findings).is_empty());
    let mirror = u64::from_le_bytes(bytes[56..64].try_into().unwrap()) as usize * 4096;
    bytes[mirror + 510] ^= 0xff;
    let source = Source::detached(Arc::new(MemoryMedium::new(bytes, 512)));
    assert_eq!(badger_fs::open(&source, 0, 16 * MIB).err().unwrap().code, "ntfs-table");
}

#[test]
fn a_torn_record_is_a_dangling_name() {
    let mut bytes = ntfs();
    let id = tree::find(&*open(bytes.clone()), "/A longer name 0.txt").unwrap().id as usize;
    let table = u64::from_le_bytes(bytes[48..56].try_into().unwrap()) as usize * 4096;
    bytes[table + id * 1024 + 510] ^= 0xff;
    let listing = list(&*open(bytes));
    assert_eq!((listing.entries.len(), codes(&listing.findings)), (4, vec!["ntfs-dangling"]));
}

#[rstest]
fn an_atari_volume_is_one_of_fat(#[values(&["-F", "12", "-s", "16"], &["-F", "16", "-s", "1"], &["-S", "1024", "-s", "2"])] format: &[&str]) {
    let bytes = volume(&[&["mkfs.fat", "-A"], format].concat(), |path, data| {
        for entry in fs::read_dir(data).unwrap() {
            run(&["mcopy", "-i", path.to_str().unwrap(), entry.unwrap().path().to_str().unwrap(), "::/"]);
        }
    });
    assert!(bytes[0] == 0x60 && bytes[510..512] == [0, 0]);
    let fs = open(bytes.clone());
    assert_eq!(read(&*fs, "/A longer name 4.txt").unwrap(), vec![b'4'; 20_000]);
    // What only begins like one is none.
    let mut other = bytes;
    let table = usize::from(u16::from_le_bytes([other[11], other[12]])) * usize::from(u16::from_le_bytes([other[14], other[15]]));
    other[table + 1] ^= 1;
    let source = Source::detached(Arc::new(MemoryMedium::new(other, 512)));
    assert!(badger_fs::open(&source, 0, 16 * MIB).is_err());
}

#[test]
fn an_unreadable_sector_costs_the_file_that_lies_on_it() {
    let bytes = ext();
    let dir = tempfile::tempdir().unwrap();
    let content = place(&bytes, &[b'2'; 4096]) as u64 / 512 + 4;
    fs::write(dir.path().join("slate.img"), &bytes).unwrap();
    let text = format!(
        "backing = \"slate.img\"\n[identity]\nmodel = \"Dunmore Slate\"\nserial = \"DS50-7702-BEEF\"\nbus = \"sata\"\n[[fault]]\nkind = \"unreadable\"\nlba = {content}\nsectors = 1\n"
    );
    let path = dir.path().join("slate.drive.toml");
    fs::write(&path, text).unwrap();
    let source = Workshop::default().source(&path).unwrap();
    let fs = badger_fs::open(&source, 0, 16 * MIB).unwrap();
    assert_eq!(list(&*fs).entries.len(), 5);
    assert_eq!(read(&*fs, "/A longer name 2.txt").unwrap_err().code, "unreadable");
    assert_eq!(read(&*fs, "/A longer name 4.txt").unwrap(), vec![b'4'; 20_000]);
}

/// Whatever a tool that knows no long names left behind: every file is there, by its short name, and each long one is said to be damaged.
#[test]
fn a_fat_directory_whose_long_names_are_all_damaged_is_listed_whole() {
    let (dir, path) = crate::support::image(16);
    let volume = path.to_str().unwrap();
    run(&["mkfs.fat", "-F", "16", volume]);
    let folder = dir.path().join("counts");
    fs::create_dir(&folder).unwrap();
    (0..600).for_each(|number| fs::write(folder.join(format!("a count of the weir {number:03}.csv")), "trout").unwrap());
    run(&["mcopy", "-s", "-i", volume, folder.to_str().unwrap(), "::/"]);
    let mut bytes = fs::read(&path).unwrap();
    // The byte that ties a long name to its short one.
    let long: Vec<usize> =
        (0..bytes.len()).step_by(32).filter(|at| bytes[at + 11] == 0x0f && bytes[at + 12] == 0 && bytes[*at] & 0x40 != 0).collect();
    assert!(long.len() >= 600);
    long.iter().for_each(|at| bytes[at + 13] ^= 0xff);
    let fs = open(bytes);
    let listing = fs.list(&tree::find(&*fs, "counts").unwrap());
    assert_eq!(listing.entries.len(), 600);
    assert!(listing.findings.len() >= 600 && listing.findings.iter().all(|finding| finding.code == "fat-long-name"));
}
