//! How long it takes to open a registry file of 200 MB and find a value in it, to follow the chains of a disk named by `DISK`, and to
//! check all of it.

use badger_drive::Workshop;
use badger_inspect::Looked;
use badger_system::registry::{Bytes, Edit, Hive, Value};
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::time::Instant;

/// A file that is read as it is asked for.
struct Kept(File);

impl Bytes for &Kept {
    fn len(&self) -> u64 {
        self.0.metadata().map_or(0, |meta| meta.len())
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), String> {
        self.0.read_exact_at(buf, offset).map_err(|error| error.to_string())
    }
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

fn main() {
    let mut edit = Edit::new("ROOT");
    for number in 0..400 {
        edit.set(&format!(r"Software\Vendor {number:03}"), &Value::of_bytes("data", &vec![number as u8; 500_000])).expect("it is set");
    }
    edit.set(r"Software\Vendor 207\Deep\Deeper", &Value::of_text("wanted", "here")).expect("it is set");
    let dir = tempfile::tempdir().expect("a directory");
    let path = dir.path().join("hive");
    std::fs::write(&path, edit.bytes()).expect("it is written");
    let kept = Kept(File::open(&path).expect("it is there"));
    let times = (0..51).map(|_| {
        let began = Instant::now();
        let hive = Hive::open(&kept, &[]).expect("it opens");
        let value = hive.find(r"Software\Vendor 207\Deep\Deeper", "wanted").expect("it is read").expect("it is there");
        assert_eq!(value.text().as_deref(), Some("here"));
        began.elapsed().as_secs_f64() * 1e3
    });
    println!(
        "registry file of {} MB: opened and a value found in {:.2} ms (median of 51, from cache)",
        (&kept).len() / 1_000_000,
        median(times.collect())
    );
    let Ok(disk) = std::env::var("DISK") else { return };
    let times = (0..5).map(|_| {
        let began = Instant::now();
        let drive = Workshop::default().source(disk.as_ref()).expect("the disk is there");
        let lines = badger_system::lines(&drive, &Looked::at(&drive));
        assert!(!lines.is_empty());
        began.elapsed().as_secs_f64()
    });
    println!("chains of {disk}: {:.2} s (median of 5, from cache)", median(times.collect()));
    let mut said = String::new();
    let times = (0..5).map(|_| {
        let began = Instant::now();
        let drive = Workshop::default().source(disk.as_ref()).expect("the disk is there");
        let looked = Looked::at(&drive);
        let lines = badger_inspect::volumes::check(&drive, &looked);
        assert!(!badger_system::machine::lines(&drive, &looked, None).is_empty());
        said = lines.iter().map(|line| line.text.clone()).collect::<Vec<_>>().join("; ");
        began.elapsed().as_secs_f64()
    });
    println!("whole check of {disk}: {:.2} s (median of 5, from cache): {said}", median(times.collect()));
}
