//! What would be lost with a target: its newest files, by name, day and size.

use crate::looked::Looked;
use badger_drive::Source;
use badger_fs::Tree;
use badger_fs::tree::NodeKind;
use badger_fs::walk::{Step, Walk};

/// One file that would be lost.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Newest {
    /// Name of the volume, then the path in it.
    pub path: String,
    /// Last change, seconds since 1970.
    pub modified: i64,
    /// Bytes.
    pub size: u64,
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
}

/// So many entries are looked at: enough to know whose drive it is, and quick on a slow one.
const MOST: u64 = 5000;
/// So many files are named.
const NAMED: usize = 3;

/// Looks at the files of a drive, each volume from its root downward, until there were enough.
pub fn of(drive: &Source, looked: &Looked) -> Stake {
    let mut stake = Stake::default();
    for partition in looked.table.data_partitions() {
        let Some(volume) = looked.volume(partition.number) else { continue };
        let (start, len) = looked.table.place(partition);
        for fs in badger_fs::open_all(drive, start, len).unwrap_or_default() {
            add(&mut stake, &*fs, partition.number, &volume.label);
        }
    }
    stake
}

/// Adds what one volume holds, until there was enough.
fn add(stake: &mut Stake, fs: &dyn Tree, number: u32, label: &str) {
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
                    let modified = entry.node.modified.map_or(0, |time| time.seconds);
                    stake.newest.push(Newest { path: full, modified, size: entry.node.size });
                }
                _ => {}
            }
        }
        stake.newest.sort_by_key(|file| std::cmp::Reverse(file.modified));
        stake.newest.truncate(NAMED);
        if entries > MOST {
            stake.more = true;
            break;
        }
    }
}
