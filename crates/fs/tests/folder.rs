//! A folder of this machine as a tree, held against what the system's own program lists, and changed while it is read.

use badger_fs::tree::{self, NodeKind};
use badger_fs::{Folder, Tree};
use rstest::rstest;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::Command;

fn filled() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("scores/old")).unwrap();
    fs::write(dir.path().join("scores/psalm.txt"), "a psalm").unwrap();
    fs::write(dir.path().join(std::ffi::OsStr::from_bytes(b"scores/old/no \xff text")), "odd").unwrap();
    symlink("old", dir.path().join("scores/way")).unwrap();
    dir
}

fn code<T>(result: tree::Result<T>) -> &'static str {
    result.err().map_or("fine", |finding| finding.code)
}

#[test]
fn it_lists_what_the_system_lists() {
    let dir = filled();
    let folder = Folder::open(dir.path()).unwrap();
    let mut ours = Vec::new();
    let findings = badger_fs::walk::walk(&folder, folder.root().unwrap(), "/", &mut |path, entry| {
        let (kind, node) = (entry.node.kind, &entry.node);
        let letter = match kind {
            NodeKind::File => 'f',
            NodeKind::Directory => 'd',
            NodeKind::Link => 'l',
            NodeKind::Other => '?',
        };
        let time = node.modified.unwrap();
        let size = if kind == NodeKind::Directory { 0 } else { node.size };
        ours.push(format!("{letter} {size} {}.{:09}0 {} {path}", time.seconds, time.nanos, node.links));
    });
    assert!(findings.is_empty(), "{findings:?}");
    let out = Command::new("find").arg(dir.path()).args(["-mindepth", "1", "-printf", "%y %s %T@ %n /%P\\n"]).output().unwrap();
    let theirs = String::from_utf8_lossy(&out.stdout).replace('\u{fffd}', "\\xff");
    let mut theirs: Vec<String> = theirs
        .lines()
        .map(|line| {
            let mut parts: Vec<&str> = line.splitn(3, ' ').collect();
            if parts[0] == "d" {
                parts[1] = "0";
            }
            parts.join(" ")
        })
        .collect();
    ours.sort();
    theirs.sort();
    assert_eq!(ours, theirs);
    let psalm = tree::find(&folder, "/scores/psalm.txt").unwrap();
    let mut bytes = [0; 16];
    assert_eq!((folder.read(&psalm, 0, &mut bytes).unwrap(), &bytes[..7]), (7, &b"a psalm"[..]));
    assert_eq!(folder.link(&tree::find(&folder, "/scores/way").unwrap()).unwrap().shown, "old");
}

#[rstest]
#[case::another_file("changed", |at: &Path| { fs::remove_file(at).unwrap(); fs::write(at.with_extension("new"), "another").unwrap(); fs::rename(at.with_extension("new"), at).unwrap() })]
#[case::longer("changed", |at: &Path| fs::write(at, "a psalm and more").unwrap())]
#[case::gone("not-found", |at: &Path| fs::remove_file(at).unwrap())]
#[case::a_link("unreadable", |at: &Path| { fs::remove_file(at).unwrap(); symlink("/etc/hostname", at).unwrap() })]
#[case::a_pipe("unreadable", |at: &Path| { fs::remove_file(at).unwrap(); assert!(Command::new("mkfifo").arg(at).status().unwrap().success()) })]
#[case::a_link_on_the_way("unreadable", |at: &Path| {
    let scores = at.parent().unwrap();
    fs::rename(scores, scores.with_extension("moved")).unwrap();
    symlink(scores.with_extension("moved"), scores).unwrap()
})]
fn what_changed_since_it_was_listed_is_not_read(#[case] wanted: &str, #[case] change: fn(&Path)) {
    let dir = filled();
    let folder = Folder::open(dir.path()).unwrap();
    let psalm = tree::find(&folder, "/scores/psalm.txt").unwrap();
    let waiting = folder.open(&psalm, "").unwrap();
    change(&dir.path().join("scores/psalm.txt"));
    // A name of the folder that was used before is still the same place; a new one goes the whole way.
    let fresh = Folder::open(dir.path()).unwrap();
    assert_eq!(code(fresh.open(&psalm, "")), wanted);
    let mut bytes = [0; 7];
    let read = waiting.read(0, &mut bytes);
    assert!(read.is_err() || waiting.settled().is_err() || bytes == *b"a psalm", "{read:?} {bytes:?}");
}

#[test]
fn a_file_that_is_written_to_while_it_is_read_is_named() {
    let dir = filled();
    let folder = Folder::open(dir.path()).unwrap();
    let at = dir.path().join("scores/psalm.txt");
    let content = folder.open(&tree::find(&folder, "/scores/psalm.txt").unwrap(), "").unwrap();
    assert_eq!(content.read(0, &mut [0; 3]), Ok(3));
    assert!(content.settled().is_ok());
    fs::write(&at, "a p").unwrap();
    assert_eq!((code(content.read(0, &mut [0; 7])), code(content.settled())), ("changed", "changed"));
}
