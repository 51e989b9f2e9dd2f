//! What a drive holds, as people see it: whose folders, how much, the newest files by name, day and size.

use crate::looked::Looked;
use badger_drive::Source;
use badger_fs::Tree;
use badger_fs::tree::NodeKind;
use badger_fs::walk::{Step, Walk};
use std::collections::BTreeMap;

/// One file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Newest {
    /// Name of the volume, then the path in it.
    pub path: String,
    /// Last change, seconds since 1970.
    pub modified: i64,
    /// Bytes.
    pub size: u64,
}

/// A folder that is somebody's, or one of the uppermost.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Whose {
    /// Its name.
    pub name: String,
    /// Files seen in it.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// What was found at stake.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Stake {
    /// Files seen.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Whether there is more than was looked at.
    pub more: bool,
    /// The newest ones, the latest first.
    pub newest: Vec<Newest>,
    /// Whose folders, the largest first; where nobody has one the uppermost.
    pub whose: Vec<Whose>,
}

/// So many entries are looked at: enough to know whose drive it is, and quick on a slow one.
const MOST: u64 = 5000;
/// So many files are named.
const NAMED: usize = 3;
/// So many folders are named.
const FOLDERS: usize = 5;
/// Folders in which each person has one.
const HOMES: [&str; 3] = ["users", "home", "documents and settings"];
/// Folders in there that are nobody's.
const NOBODY: [&str; 6] = ["public", "default", "default user", "all users", "shared", "lost+found"];

/// The folder that a file counts to, and whether that is somebody's; the first part of a path names its volume.
fn folder_of(path: &str) -> Option<(String, bool)> {
    let parts: Vec<&str> = path.split('/').skip(1).collect();
    match parts[..] {
        [homes, name, _, ..] if HOMES.contains(&homes.to_lowercase().as_str()) => {
            (!NOBODY.contains(&name.to_lowercase().as_str())).then(|| (name.to_string(), true))
        }
        [first, _, ..] => Some((first.to_string(), false)),
        _ => None,
    }
}

/// Looks at the files of a drive, each volume from its root downward, until there were enough.
pub fn of(drive: &Source, looked: &Looked) -> Stake {
    let (mut stake, mut folders) = (Stake::default(), BTreeMap::new());
    for partition in looked.table.data_partitions() {
        let Some(volume) = looked.volume(partition.number) else { continue };
        let (start, len) = looked.table.place(partition);
        if let Ok(fs) = badger_fs::files(drive, start, len) {
            add(&mut stake, &mut folders, &*fs, (partition.number, &volume.label));
        }
    }
    let is_any = folders.keys().any(|(_, is_home)| *is_home);
    // A system writes more often than anybody in it.
    let counts = |file: &Newest| !is_any || folder_of(&file.path).is_some_and(|(_, is_home)| is_home);
    stake.newest.retain(counts);
    stake.newest.truncate(NAMED);
    let whose = folders.into_iter().filter(|((_, is_home), _)| *is_home == is_any);
    stake.whose = whose.map(|((name, _), (files, bytes))| Whose { name, files, bytes }).collect();
    stake.whose.sort_by_key(|folder| std::cmp::Reverse(folder.bytes));
    stake.whose.truncate(FOLDERS);
    stake
}

/// So many of people's files and of all others as may be named in the end.
fn keep_newest(newest: &mut Vec<Newest>) {
    let (mut homes, mut others) = (0, 0);
    newest.retain(|file| {
        let count = if folder_of(&file.path).is_some_and(|(_, is_home)| is_home) { &mut homes } else { &mut others };
        *count += 1;
        *count <= NAMED
    });
}

/// Adds what one volume holds, until there was enough.
fn add(stake: &mut Stake, folders: &mut BTreeMap<(String, bool), (u64, u64)>, fs: &dyn Tree, (number, label): (u32, &str)) {
    let Ok(root) = fs.root() else { return };
    let name = if label.is_empty() { number.to_string() } else { label.into() };
    let mut walk = Walk::of(fs, root, name).by_level();
    let mut entries = 0;
    while let Some(Step { node: directory, with: path, .. }) = walk.take() {
        for entry in fs.list(&directory).entries {
            entries += 1;
            let full = format!("{path}/{}", entry.name.shown);
            match entry.node.kind {
                NodeKind::Directory => _ = walk.enter(&entry.node, full),
                NodeKind::File => {
                    stake.files += 1;
                    stake.bytes = stake.bytes.saturating_add(entry.node.size);
                    if let Some(folder) = folder_of(&full) {
                        let (files, bytes) = folders.entry(folder).or_default();
                        (*files, *bytes) = (*files + 1, bytes.saturating_add(entry.node.size));
                    }
                    let modified = entry.node.modified.map_or(0, |time| time.seconds);
                    stake.newest.push(Newest { path: full, modified, size: entry.node.size });
                }
                _ => {}
            }
        }
        stake.newest.sort_by_key(|file| std::cmp::Reverse(file.modified));
        keep_newest(&mut stake.newest);
        if entries > MOST {
            stake.more = true;
            break;
        }
    }
}
