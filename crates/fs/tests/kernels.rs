//! Volumes that a real kernel wrote in a virtual machine, with its own drivers for FAT and exFAT and with features that the
//! kernel of a build machine may not mount; fitted, and used up by the same kernel once more.
//!
//! Slow, and in no hurry: the test command runs it at low priority beside all other tests.

mod support;

use badger_fs::tree::NodeKind;
use badger_fs::{Wanted, Weight};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use support::kernel::Machine;
use support::shape::{Family, judged};
use support::{MIB, poured, run};

/// What the kernel needs to find its disks and to mount them, in the order in which it takes them.
const MODULES: [&str; 21] = [
    "lib/crc16",
    "crypto/crc32c_generic",
    "lib/libcrc32c",
    "drivers/virtio/virtio_ring",
    "drivers/virtio/virtio",
    "drivers/virtio/virtio_pci_legacy_dev",
    "drivers/virtio/virtio_pci_modern_dev",
    "drivers/virtio/virtio_pci",
    "drivers/block/virtio_blk",
    "fs/nls/nls_cp437",
    "fs/nls/nls_ascii",
    "fs/nls/nls_iso8859-1",
    "fs/nls/nls_utf8",
    "fs/fat/fat",
    "fs/fat/vfat",
    "fs/exfat/exfat",
    "fs/mbcache",
    "fs/jbd2/jbd2",
    "fs/quota/quota_tree",
    "fs/quota/quota_v2",
    "fs/ext4/ext4",
];

/// The first program of the machine: it fills every disk it can mount, or uses it up, and says how that went.
const INIT: &str = r#"sleep 1
put() {
  t=$1
  for t in vfat exfat ext4; do
    o=rw; [ $t = vfat ] && o=utf8,shortname=mixed; [ $t = exfat ] && o=iocharset=utf8
    mount -t $t -o $o /dev/$d /mnt 2>/dev/null && return 0
  done
  return 1
}
full() {
  mkdir /mnt/$1; i=0
  while [ $i -lt 400 ] && dd if=/dev/zero of=/mnt/$1/$i bs=64k count=$((1 + i % 9)) 2>/dev/null; do i=$((i+1)); done
}
right() { (cd /mnt && md5sum -c sums.md5 >/dev/null 2>&1) && echo "said $d $1 right" || echo "said $d $1 WRONG"; }
for d in $(cd /sys/block; ls | grep ^vd); do
  put || { echo "said $d mount WRONG"; continue; }
  if grep -q job=fill /proc/cmdline; then
    mkdir -p /mnt/Counts "/mnt/été 2026/deep/deeper"
    i=0; while [ $i -lt 300 ]; do head -c $((i*97)) /dev/urandom > "/mnt/Counts/a longer name of count $i.csv"; i=$((i+1)); done
    for i in $(seq 0 2 299); do echo "/mnt/Counts/a longer name of count $i.csv"; done | tr '\n' '\0' | xargs -0 rm
    i=0; while [ $i -lt 40 ]; do head -c 30000 /dev/urandom > "/mnt/été 2026/deep/Übung für Männerstimmen $i.txt"; i=$((i+1)); done
    head -c 900000 /dev/urandom > /mnt/tape.wav
    mv "/mnt/été 2026/deep/Übung für Männerstimmen 3.txt" /mnt/renamed.txt
    (cd /mnt; find . -type f -print0 | xargs -0 md5sum > /sums; cp /sums sums.md5)
    right filled
  else
    right first; full one; rm -r /mnt/one; full two; umount /mnt; put; right after; rm -r /mnt/two
  fi
  umount /mnt
done
sync; poweroff -f
"#;

/// Starts the machine with disks; what it said of them, disk and step to whether it was right.
fn machine(dir: &Path, job: &str, disks: &[PathBuf]) -> BTreeMap<(usize, String), bool> {
    let disks = disks.iter().map(|disk| format!("-drive file={},if=virtio,format=raw", disk.display()));
    let arguments: Vec<String> = disks.flat_map(|disk| disk.split(' ').map(String::from).collect::<Vec<_>>()).collect();
    let console = Machine { modules: &MODULES, init: INIT, files: &[], arguments: &arguments, job }.run(dir);
    let mut said = BTreeMap::new();
    for line in console.lines().filter_map(|line| line.split("said vd").nth(1)) {
        let words: Vec<&str> = line.split_whitespace().collect();
        let disk = usize::from(words[0].as_bytes()[0] - b'a');
        said.insert((disk, words[1].to_string()), words[2] == "right");
    }
    assert!(!said.is_empty() && said.values().all(|right| *right), "{console}");
    said
}

/// Every file by this program, held against the sums that the kernel noted.
fn read_as_noted(path: &Path) -> usize {
    let volume = crate::support::open(path);
    let survey = volume.survey();
    let faults: Vec<_> = survey.findings.iter().filter(|finding| finding.weight > Weight::Note).collect();
    assert_eq!(faults, Vec::<&badger_fs::Finding>::new(), "{}", path.display());
    let copy = tempfile::tempdir().unwrap();
    let mut count = 0;
    let findings = badger_fs::walk::walk(&*volume, volume.root().unwrap(), "", &mut |path, entry| {
        let place = copy.path().join(path.trim_start_matches('/'));
        match entry.node.kind {
            NodeKind::Directory => fs::create_dir_all(place).unwrap(),
            NodeKind::File => {
                let mut bytes = vec![0; entry.node.size as usize];
                volume.read(&entry.node, 0, &mut bytes).unwrap();
                fs::write(place, bytes).unwrap();
                count += 1;
            }
            _ => {}
        }
    });
    assert_eq!(findings, []);
    run(&["bash", "-c", &format!("cd {} && md5sum -c --quiet sums.md5", copy.path().display())]);
    count
}

#[test]
fn what_a_kernel_wrote_is_read_and_stays_what_it_was_in_any_size() {
    let dir = tempfile::tempdir().unwrap();
    let made: [(Family, u64, &[&str]); 5] = [
        (Family::Fat, 20, &["mkfs.fat", "-F", "16"]),
        (Family::Fat, 40, &["mkfs.fat", "-F", "32", "-s", "1"]),
        (Family::ExFat, 24, &["mkfs.exfat", "-c", "4K"]),
        (Family::Ext, 40, &["mke2fs", "-q", "-F", "-t", "ext4", "-O", "casefold,quota,project", "-E", "encoding=utf8"]),
        (Family::Ext, 40, &["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", "-O", "verity,quota,fast_commit,orphan_file,large_dir,stable_inodes"]),
    ];
    let mut disks = Vec::new();
    for (number, (_, mib, make)) in made.iter().enumerate() {
        let path = dir.path().join(format!("disk {number}.img").replace(' ', "-"));
        fs::File::create(&path).unwrap().set_len(mib * MIB).unwrap();
        run(&[make, &[path.to_str().unwrap()][..]].concat());
        disks.push(path);
    }
    assert_eq!(machine(dir.path(), "fill", &disks).len(), disks.len());
    let mut fitted = Vec::new();
    for (number, (path, (family, ..))) in disks.iter().zip(&made).enumerate() {
        assert_eq!(judged(*family, path), Ok(()), "{number}");
        let count = read_as_noted(path);
        assert_eq!(count, 150 + 40 + 1 + 1, "{number}");
        let (volume, len) = (crate::support::open(path), fs::metadata(path).unwrap().len());
        let survey = volume.survey();
        let least = volume.bounds(&survey, 512).unwrap().least;
        for (turn, len) in [(least + least / 10) / 512 * 512, (len + len / 3) / 4096 * 4096].into_iter().enumerate() {
            let view = volume.resized(&survey, &Wanted { len, start: 2048, sector: 512, fresh: None }).unwrap();
            let out = dir.path().join(format!("fitted-{number}-{turn}.img"));
            poured(&view, &out);
            assert_eq!(judged(*family, &out), Ok(()), "{number} to {len}");
            assert_eq!(read_as_noted(&out), count);
            fitted.push((*family, out));
        }
    }
    let paths: Vec<PathBuf> = fitted.iter().map(|(_, path)| path.clone()).collect();
    // Before and after it was used, of each.
    assert_eq!(machine(dir.path(), "use", &paths).len(), 2 * paths.len());
    for (family, path) in fitted {
        assert_eq!(judged(family, &path), Ok(()), "after use: {}", path.display());
        read_as_noted(&path);
    }
}
