//! A volume of what people have, and copying out of it.
#![allow(dead_code)]

#[path = "../../../fs/tests/support/tool.rs"]
mod tool;

use badger_drive::Event;
use badger_drive::Sysfs;
use badger_drive::clock::Clock;
use badger_drive::{Control, Refusal, Source, Workshop};
use badger_fs::{Folder, Tree};
use badger_people::copyout::{Clash, Collision, Order, Report, copy_out};
use std::fs::{self, File};
use std::os::unix::fs::{FileExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;
use tempfile::TempDir;
pub use tool::run;

pub fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    (0..len.div_ceil(8)).flat_map(|_| next().to_le_bytes()).take(len).collect()
}

pub struct Place {
    pub dir: TempDir,
}

impl Place {
    /// A folder with an ext4 volume of what people have.
    pub fn new() -> Self {
        let place = Self { dir: tempfile::tempdir().unwrap() };
        let data = place.path("data");
        fs::create_dir_all(data.join("Wenna/Counts/.hidden")).unwrap();
        fs::create_dir_all(data.join("Piers/Counts")).unwrap();
        fs::create_dir_all(data.join("Wenna/empty")).unwrap();
        for number in 0..40u64 {
            fs::write(data.join(format!("Wenna/Counts/sheet {number}.csv")), noise(number as usize * 3000, number + 1)).unwrap();
        }
        fs::write(data.join("Wenna/Counts/.hidden/notes.txt"), "tide at four").unwrap();
        fs::write(data.join("Piers/Counts/sheet 1.csv"), "another one").unwrap();
        fs::write(data.join("Wenna/what: is\\this?\nnow.txt"), "odd name").unwrap();
        fs::hard_link(data.join("Wenna/Counts/sheet 7.csv"), data.join("Wenna/same sheet.csv")).unwrap();
        symlink("Counts/sheet 3.csv", data.join("Wenna/link")).unwrap();
        let sparse = File::create(data.join("Wenna/sparse.db")).unwrap();
        sparse.set_len(64 << 20).unwrap();
        sparse.write_all_at(b"middle", 30 << 20).unwrap();
        fs::set_permissions(data.join("Wenna/Counts/sheet 3.csv"), fs::Permissions::from_mode(0o4640)).unwrap();
        run(&["setfattr", "-n", "user.note", "-v", "counted twice", data.join("Wenna/Counts/sheet 3.csv").to_str().unwrap()]);
        run(&["touch", "-d", "2018-01-02T03:04:05Z", data.join("Wenna/Counts").to_str().unwrap()]);
        File::create(place.path("volume.img")).unwrap().set_len(120 << 20).unwrap();
        run(&["mke2fs", "-q", "-F", "-t", "ext4", "-d", data.to_str().unwrap(), place.path("volume.img").to_str().unwrap()]);
        // Parts of a second only the system's own driver sets.
        let mount = place.path("made");
        fs::create_dir(&mount).unwrap();
        run(&["mount", "-o", "loop", place.path("volume.img").to_str().unwrap(), mount.to_str().unwrap()]);
        run(&["touch", "-d", "2019-04-05T06:07:08.123456789Z", mount.join("Wenna/Counts/sheet 3.csv").to_str().unwrap()]);
        run(&["umount", mount.to_str().unwrap()]);
        place
    }

    /// An NTFS volume of 24 MiB that its driver fills; streams are named behind a colon.
    pub fn ntfs(&self, fill: impl FnOnce(&Path)) -> PathBuf {
        let (image, mount) = (self.path("ntfs.img"), self.path("mnt"));
        File::create(&image).unwrap().set_len(24 << 20).unwrap();
        run(&["mkntfs", "-q", "-F", "-Q", image.to_str().unwrap()]);
        fs::create_dir(&mount).unwrap();
        run(&["ntfs-3g", "-o", "streams_interface=windows", image.to_str().unwrap(), mount.to_str().unwrap()]);
        fill(&mount);
        run(&["umount", mount.to_str().unwrap()]);
        image
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub fn fetch(&self, source: &Path, picks: &[&str], into: &str, collision: Collision) -> Result<Report, Refusal> {
        self.fetch_with(source, picks, &self.path(into), collision, &Control::new(), &|_| (), &|_| Collision::Skip)
    }

    #[allow(clippy::too_many_arguments)] // one call for every test
    pub fn fetch_with(
        &self,
        source: &Path,
        picks: &[&str],
        into: &Path,
        collision: Collision,
        control: &Control,
        observer: &(dyn Fn(&Event) + Send + Sync),
        ask: &(dyn Fn(&Clash) -> Collision + Sync),
    ) -> Result<Report, Refusal> {
        let workshop = Workshop::default();
        let tree: Box<dyn Tree> = if source.is_dir() {
            Box::new(Folder::open(source).unwrap())
        } else {
            let drive: Source = workshop.source(source)?;
            badger_fs::open(&drive, 0, drive.geometry().size_bytes).unwrap()
        };
        let order = Order {
            tree: &*tree,
            key: "volume".into(),
            picks: picks.iter().map(ToString::to_string).collect(),
            into: into.to_path_buf(),
            trusts_destination: false,
            collision,
            ask,
        };
        let clock: &dyn Clock = &*workshop.clock;
        copy_out(&order, &Sysfs::default(), control, clock, &|event: &Event| observer(event))
    }
}

/// The system's own checksum program agrees with the manifest.
pub fn verify(into: &Path, manifest: &str) -> usize {
    let out = Command::new("sha256sum").args(["-c", "--strict", manifest]).current_dir(into).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).lines().count()
}

impl Place {
    /// An ext4 volume of `mib` MiB that holds what `fill` puts into a directory.
    pub fn volume(&self, name: &str, mib: u64, fill: impl FnOnce(&Path)) -> PathBuf {
        let (data, image) = (self.path(&format!("{name}-data")), self.path(name));
        fs::create_dir_all(&data).unwrap();
        fill(&data);
        File::create(&image).unwrap().set_len(mib << 20).unwrap();
        run(&["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", "-d", data.to_str().unwrap(), image.to_str().unwrap()]);
        image
    }
}
