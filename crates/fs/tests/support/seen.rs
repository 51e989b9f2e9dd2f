//! What a tree holds, as the system shows it and as it is read here.

use badger_fs::tree::{Node, NodeKind};
use badger_fs::{Finding, Tree};
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// What can be seen of an entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    pub kind: NodeKind,
    pub size: u64,
    pub modified: i64,
    pub content: Option<blake3::Hash>,
    pub link: Option<String>,
}

/// Everything below a folder, as the system shows it.
pub fn by_system(root: &Path) -> BTreeMap<String, Seen> {
    let mut out = BTreeMap::new();
    let mut waiting = vec![root.to_path_buf()];
    while let Some(dir) = waiting.pop() {
        for entry in fs::read_dir(&dir).unwrap() {
            let path = entry.unwrap().path();
            let meta = fs::symlink_metadata(&path).unwrap();
            let kind = match meta.file_type() {
                kind if kind.is_dir() => NodeKind::Directory,
                kind if kind.is_file() => NodeKind::File,
                kind if kind.is_symlink() => NodeKind::Link,
                _ => NodeKind::Other,
            };
            let size = if kind == NodeKind::Directory { 0 } else { meta.size() };
            let content = (kind == NodeKind::File).then(|| blake3::hash(&fs::read(&path).unwrap()));
            let link = (kind == NodeKind::Link).then(|| fs::read_link(&path).unwrap().to_string_lossy().into_owned());
            let name = format!("/{}", path.strip_prefix(root).unwrap().to_string_lossy());
            out.insert(name, Seen { kind, size, modified: meta.mtime(), content, link });
            if kind == NodeKind::Directory {
                waiting.push(path);
            }
        }
    }
    out
}

pub fn read_all(fs: &dyn Tree, node: &Node) -> Result<Vec<u8>, Finding> {
    let mut bytes = vec![0; node.size as usize];
    let mut done = 0;
    while done < bytes.len() {
        // Odd steps, so that reads begin and end inside of blocks.
        let end = (done + 1_000_003).min(bytes.len());
        let count = fs.read(node, done as u64, &mut bytes[done..end])?;
        assert!(count > 0, "a file ends earlier than its size");
        done += count;
    }
    Ok(bytes)
}

/// Everything in a volume, as it is read here.
pub fn by_us(fs: &dyn Tree) -> (BTreeMap<String, Seen>, Vec<Finding>) {
    let mut entries = Vec::new();
    let findings = badger_fs::walk::walk(fs, fs.root().unwrap(), "/", &mut |path, entry| entries.push((path.to_string(), entry.node.clone())));
    let seen = entries.into_iter().map(|(path, node)| {
        let content = (node.kind == NodeKind::File).then(|| blake3::hash(&read_all(fs, &node).unwrap()));
        let link = (node.kind == NodeKind::Link).then(|| fs.link(&node).unwrap().shown);
        (path, Seen { kind: node.kind, size: node.size, modified: node.modified.map_or(0, |time| time.seconds), content, link })
    });
    (seen.collect(), findings)
}
