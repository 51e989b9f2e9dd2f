//! Files that become longer at their ends, judged by the system's own checker and by its own reader.

use crate::support::{image, noise, open, run};
use badger_fs::tree::find;
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;

fn written(path: &std::path::Path, changes: &[(u64, Vec<u8>)]) {
    let file = File::options().write(true).open(path).unwrap();
    changes.iter().for_each(|(at, bytes)| file.write_all_at(bytes, *at).unwrap());
}

#[rstest]
#[case::usual(&["-t", "ext4"])]
#[case::small_blocks(&["-t", "ext4", "-b", "1024"])]
#[case::narrow(&["-t", "ext4", "-O", "^64bit,^metadata_csum"])]
#[case::no_sums(&["-t", "ext4", "-O", "^64bit,^metadata_csum,^uninit_bg"])]
#[case::stored_seed(&["-t", "ext4", "-O", "metadata_csum_seed"])]
#[case::meta_groups(&["-t", "ext4", "-O", "meta_bg,^resize_inode"])]
#[case::small_groups(&["-t", "ext4", "-b", "1024", "-g", "4096"])]
fn a_file_becomes_longer(#[case] format: &[&str]) {
    let (_kept, path) = image(64);
    let dir = tempfile::tempdir().unwrap();
    // Sizes at and around the ends of blocks, each with another file behind it.
    let sizes = [1usize, 1023, 1024, 4095, 4096, 4097, 700_000];
    for size in sizes {
        fs::write(dir.path().join(format!("f{size}")), noise(size, size as u64)).unwrap();
        fs::write(dir.path().join(format!("g{size}")), noise(5000, 9)).unwrap();
    }
    let name = path.to_str().unwrap();
    run(&[&["mkfs.ext4", "-q", "-F"], format, &["-d", dir.path().to_str().unwrap(), name]].concat());
    let mut contents: Vec<(String, Vec<u8>)> = sizes.iter().map(|size| (format!("f{size}"), noise(*size, *size as u64))).collect();
    for (round, more) in [3usize, 2_000_000, 1, 4096].into_iter().enumerate() {
        let volume = open(&path);
        let nodes: Vec<_> = contents.iter().map(|(name, _)| find(&*volume, name).unwrap()).collect();
        let added: Vec<Vec<u8>> = (0..contents.len()).map(|at| noise(more, (round * 100 + at) as u64 + 5)).collect();
        let files: Vec<_> = nodes.iter().zip(&added).map(|(node, more)| (node, more.as_slice())).collect();
        let changes = volume.lengthened(&files).unwrap_or_else(|finding| panic!("{round}: {}", finding.text));
        written(&path, &changes);
        contents.iter_mut().zip(added).for_each(|((_, content), more)| content.extend(more));
        let checked = std::process::Command::new("e2fsck").args(["-fn", name]).output().unwrap();
        assert!(checked.status.success(), "{round}: {}", String::from_utf8_lossy(&checked.stdout));
        for (file, content) in &contents {
            let to = dir.path().join("dumped");
            run(&["debugfs", "-R", &format!("dump /{file} {}", to.display()), name]);
            assert!(fs::read(&to).unwrap() == *content, "{round}: {file}");
        }
        for size in sizes {
            let to = dir.path().join("dumped");
            run(&["debugfs", "-R", &format!("dump /g{size} {}", to.display()), name]);
            assert_eq!(fs::read(&to).unwrap(), noise(5000, 9), "{round}: what lies beside it");
        }
    }
}

#[rstest]
#[case::asleep("needs_recovery", "put away")]
#[case::quota("quota", "counts")]
#[case::read_only("read-only", "only read")]
fn what_is_not_safe_is_refused(#[case] feature: &str, #[case] says: &str) {
    let (_kept, path) = image(16);
    let dir = tempfile::tempdir().unwrap();
    fs::write(dir.path().join("file"), b"text").unwrap();
    run(&["mkfs.ext4", "-q", "-F", "-d", dir.path().to_str().unwrap(), path.to_str().unwrap()]);
    run(&["debugfs", "-w", "-R", &format!("feature {feature}"), path.to_str().unwrap()]);
    let volume = open(&path);
    let node = find(&*volume, "file").unwrap();
    let finding = volume.lengthened(&[(&node, b"more")]).unwrap_err();
    assert!(finding.text.contains(says), "{}", finding.text);
}

#[test]
fn what_has_no_room_is_refused() {
    let (_kept, path) = image(16);
    let dir = tempfile::tempdir().unwrap();
    fs::write(dir.path().join("file"), b"text").unwrap();
    run(&["mkfs.ext4", "-q", "-F", "-d", dir.path().to_str().unwrap(), path.to_str().unwrap()]);
    let volume = open(&path);
    let node = find(&*volume, "file").unwrap();
    assert_eq!(volume.lengthened(&[(&node, &noise(20 << 20, 1))]).unwrap_err().code, "ext-not-longer");
}
