//! Files that are not what they look like: links, devices and files whose content is kept elsewhere, set by the format's own
//! driver with the bytes that their systems write.

use crate::support::{fill_ntfs, image, noise, run};
use badger_fs::tree::{self, NodeKind};
use rstest::rstest;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// A tag with its data.
fn point(tag: u32, data: &[u8]) -> Vec<u8> {
    [&tag.to_le_bytes()[..], &(data.len() as u16).to_le_bytes(), &[0; 2], data].concat()
}

/// A file of 100,000 bytes that is a hole, or is all there, or is empty, with a reparse point.
fn made(point: &[u8], held: &str) -> (TempDir, PathBuf) {
    let (dir, path) = image(24);
    run(&["mkntfs", "-q", "-F", "-Q", path.to_str().unwrap()]);
    fill_ntfs(&path, |place| {
        let file = place.join("it");
        match held {
            "hole" => {
                let file = File::create(&file).unwrap();
                file.set_len(100_000).unwrap();
                // A part of it is here.
                file.write_all_at(&noise(9000, 3), 60_000).unwrap();
            }
            "all" => fs::write(&file, noise(100_000, 3)).unwrap(),
            _ => fs::write(&file, b"").unwrap(),
        }
        set(&file, "system.ntfs_reparse_data", point);
        fs::write(place.join("beside.txt"), b"as ever").unwrap();
    });
    (dir, path)
}

fn set(file: &Path, name: &str, value: &[u8]) {
    let hex: String = value.iter().map(|byte| format!("{byte:02x}")).collect();
    run(&["setfattr", "-h", "-n", name, "-v", &format!("0x{hex}"), file.to_str().unwrap()]);
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

#[rstest]
#[case::deduplicated(0x8000_0013, "hole", "deduplicated", "ntfs-deduplicated")]
#[case::online(0x9000_001a, "hole", "kept online", "ntfs-online")]
#[case::online_of_a_service(0x9000_601a, "hole", "kept online", "ntfs-online")]
#[case::server(0x8000_001e, "hole", "kept on a server", "ntfs-online")]
#[case::placeholder(0x9000_001c, "hole", "placeholder", "ntfs-elsewhere")]
#[case::not_known(0x8000_4711, "none", "special (tag 0x80004711)", "ntfs-special")]
#[case::not_known_with_holes(0x8000_4711, "hole", "special (tag 0x80004711)", "ntfs-special")]
fn what_is_kept_elsewhere_is_named_and_is_missing(#[case] tag: u32, #[case] held: &str, #[case] what: &str, #[case] code: &str) {
    let (_dir, path) = made(&point(tag, &[1; 16]), held);
    let volume = crate::support::open(&path);
    let node = tree::find(&*volume, "/it").unwrap();
    assert_eq!((node.kind, node.what.as_deref()), (NodeKind::File, Some(what)));
    let finding = volume.open(&node, "").err().unwrap();
    assert_eq!(finding.code, code);
    assert!(finding.text.starts_with(what), "{}", finding.text);
    // What is stored of it can be compared all the same, and the file beside it is as ever.
    assert!(volume.stored(&node, "").is_ok());
    assert!(volume.open(&tree::find(&*volume, "/beside.txt").unwrap(), "").is_ok());
    assert!(volume.survey().is_sound(), "{:?}", volume.survey().findings);
}

#[rstest]
#[case::online(0x9000_001a, "all")]
#[case::deduplicated_no_more(0x8000_0013, "all")]
#[case::not_known(0x8000_4711, "all")]
fn what_is_here_is_read(#[case] tag: u32, #[case] held: &str) {
    let (_dir, path) = made(&point(tag, &[1; 16]), held);
    let volume = crate::support::open(&path);
    let node = tree::find(&*volume, "/it").unwrap();
    assert!(node.what.is_some());
    let mut bytes = vec![0; 100_000];
    assert_eq!(volume.read(&node, 0, &mut bytes).unwrap(), 100_000);
    assert_eq!(bytes, noise(100_000, 3));
}

/// All is allocated, but its system says that it would fetch it: what lies there is not the content.
#[test]
fn a_file_that_its_system_would_fetch_is_missing_whatever_lies_there() {
    let (_dir, path) = made(&point(0x9000_001a, &[1; 16]), "all");
    fill_ntfs(&path, |place| set(&place.join("it"), "system.ntfs_attrib", &(0x1000u32 | 0x20).to_le_bytes()));
    let volume = crate::support::open(&path);
    assert_eq!(volume.open(&tree::find(&*volume, "/it").unwrap(), "").err().unwrap().code, "ntfs-online");
}

fn symbolic(target: &str) -> Vec<u8> {
    let name = utf16(target);
    let len = name.len() as u16;
    let head = [0, len, len, len].iter().flat_map(|field| field.to_le_bytes()).collect::<Vec<u8>>();
    [&head[..], &1u32.to_le_bytes(), &name, &name].concat()
}

#[rstest]
#[case::symbolic(0xa000_000c, symbolic("..\\weir\\tide"), "..\\weir\\tide")]
#[case::of_another_system(0xa000_001d, [&2u32.to_le_bytes()[..], "weir/Übung".as_bytes()].concat(), "weir/Übung")]
#[case::over_the_network(0x8000_0014, [&b"LNK\x01\0\0\0\0"[..], &utf16("weir/tide")].concat(), "weir/tide")]
fn links_of_other_systems_are_links(#[case] tag: u32, #[case] data: Vec<u8>, #[case] target: &str) {
    let (_dir, path) = made(&point(tag, &data), "none");
    let volume = crate::support::open(&path);
    let node = tree::find(&*volume, "/it").unwrap();
    assert_eq!((node.kind, volume.link(&node).unwrap().shown.as_str()), (NodeKind::Link, target));
}

#[rstest]
#[case::socket(0x8000_0014, b"SOCK\0\0\0\0", "socket")]
#[case::pipe(0x8000_0014, b"FIFO\0\0\0\0", "pipe")]
#[case::device(0x8000_0014, b"CHR\0\0\0\0\0\x01\0\0\0\x05\0\0\0", "device")]
#[case::app(0x8000_001b, &[3, 0, 0, 0], "alias of an app")]
fn what_is_no_file_says_what_it_is(#[case] tag: u32, #[case] data: &[u8], #[case] what: &str) {
    let (_dir, path) = made(&point(tag, data), "none");
    let volume = crate::support::open(&path);
    let node = tree::find(&*volume, "/it").unwrap();
    assert_eq!((node.kind, node.what.as_deref()), (NodeKind::Other, Some(what)));
}
