//! What is asked of a drive while its files are looked at, and by which rule small volumes are told apart.

use crate::support::{image, run};
use badger_drive::{Geometry, Identity, Medium, ReadError, Source};
use badger_fs::Kind;
use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex};

/// A drive with one bad sector that counts how often each of its sectors is asked for.
struct Failing {
    identity: Identity,
    bytes: Vec<u8>,
    bad: u64,
    asked: Arc<Mutex<HashMap<u64, u32>>>,
}

impl Medium for Failing {
    fn geometry(&self) -> Geometry {
        Geometry { size_bytes: self.bytes.len() as u64, logical_sector: 512, physical_sector: 512 }
    }
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), ReadError> {
        let sectors = offset / 512..(offset + buf.len() as u64).div_ceil(512);
        let mut asked = self.asked.lock().unwrap();
        sectors.clone().for_each(|sector| *asked.entry(sector).or_default() += 1);
        if sectors.contains(&self.bad) {
            return Err(ReadError::Unreadable { offset: self.bad * 512, len: 512, why: "it cannot be read".into() });
        }
        buf.copy_from_slice(&self.bytes[offset as usize..offset as usize + buf.len()]);
        Ok(())
    }
}

#[test]
fn a_failing_place_is_not_asked_for_again_and_again() {
    let (dir, path) = image(16);
    let data = dir.path().join("data");
    std::fs::create_dir(&data).unwrap();
    (0..300).for_each(|number| std::fs::write(data.join(format!("sheet {number}")), "counted").unwrap());
    run(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024", "-d", data.to_str().unwrap(), path.to_str().unwrap()]);
    let asked = Arc::new(Mutex::new(HashMap::new()));
    // In the middle of the inode table, beside which every look at a file reads something.
    let out = std::process::Command::new("debugfs").args(["-R", "imap <150>"]).arg(&path).output().unwrap();
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    let block: u64 = text.split("at block ").nth(1).unwrap().split([',', '\n', ' ']).next().unwrap().parse().unwrap();
    let bad = block * 2;
    let medium = Failing { identity: Identity::of_file(Path::new("failing")), bytes: std::fs::read(&path).unwrap(), bad, asked: asked.clone() };
    let size = medium.bytes.len() as u64;
    let fs = badger_fs::open(&Source::detached(Arc::new(medium)), 0, size).unwrap();
    for _ in 0..5 {
        let root = fs.root().unwrap();
        badger_fs::walk::walk(&*fs, root, "", &mut |_, entry| drop(fs.open(&entry.node, "")));
    }
    let times = asked.lock().unwrap()[&bad];
    assert!((1..=3).contains(&times), "the failing sector was asked for {times} times");
}

#[test]
fn a_small_fat32_volume_is_one_for_everybody() {
    let (_dir, path) = image(8);
    run(&["mkfs.fat", "-F", "32", "-s", "1", path.to_str().unwrap()]);
    let drive = badger_drive::Workshop::default().source(&path).unwrap();
    let size = drive.geometry().size_bytes;
    assert_eq!(badger_fs::recognise(&*drive, 0, size).unwrap().kind, Kind::Fat32);
    let fs = badger_fs::open(&drive, 0, size).unwrap();
    let survey = fs.survey();
    assert!(survey.is_sound(), "{:?}", survey.findings);
    // The room in front of FAT32's tables is in use; read as FAT16 the root directory would lie elsewhere.
    assert!(fs.list(&fs.root().unwrap()).findings.is_empty());
    assert!(fs.bounds(&survey, 512).is_ok());
}
