//! Files of a drive: `badger ls`.

use crate::{Common, code};
use badger_bench::Bench;
use badger_drive::size::human;
use badger_drive::{Refusal, Source};
use badger_fs::tree::{self, Entry, NodeKind, Time};
use badger_fs::{FileSystem, Finding};
use badger_layout::table;
use serde::Serialize;
use std::path::{Path, PathBuf};

#[derive(Serialize)]
struct Row {
    path: String,
    kind: NodeKind,
    size: u64,
    modified: Option<String>,
    state: &'static str,
}

/// A moment as the documents write it: `2026-05-01T10:00:00Z`.
fn written(time: Time) -> Option<String> {
    jiff::Timestamp::new(time.seconds, time.nanos as i32).ok().map(|moment| moment.strftime("%Y-%m-%dT%H:%M:%SZ").to_string())
}

/// Takes `DRIVE#PART` apart. A file whose own name ends that way is meant itself.
fn parted(named: &str) -> (PathBuf, Option<u32>) {
    if !Path::new(named).exists()
        && let Some((drive, number)) = named.rsplit_once('#')
        && let Ok(number) = number.parse()
    {
        return (drive.into(), Some(number));
    }
    (named.into(), None)
}

/// Opens the volume that `DRIVE[#PART]` names.
fn volume(bench: &Bench, named: &str) -> Result<Box<dyn FileSystem>, Refusal> {
    let (path, number) = parted(named);
    let drive: Source = bench.workshop.source(&path)?;
    let found = table::read(&*drive);
    let data = found.data_partitions();
    let partition = match number {
        Some(number) => data.into_iter().find(|partition| partition.number == number),
        None if data.len() == 1 => data.into_iter().next(),
        None => {
            let numbers: Vec<String> = data.iter().map(|partition| partition.number.to_string()).collect();
            let text = format!("{named} has {} partitions: name one of them with # and its number: {}", numbers.len(), numbers.join(", "));
            return Err(Refusal::new("no-partition", text));
        }
    };
    let partition = partition.ok_or_else(|| Refusal::new("no-partition", format!("{} has no such partition", path.display())))?;
    let (start, len) = found.place(partition);
    badger_fs::open(&drive, start, len).map_err(|finding| Refusal::new(finding.code, format!("{named}: {}", finding.text)))
}

/// `badger ls`.
pub fn ls(bench: &Bench, named: &str, path: &str, recursive: bool, common: &Common) -> Result<u8, Refusal> {
    let fs = volume(bench, named)?;
    let refused = |finding: Finding| Refusal::new(finding.code, format!("{named}: {}", finding.text));
    let node = tree::find(&*fs, path).map_err(refused)?;
    let base = format!("/{}", path.trim_matches('/'));
    let mut rows = Vec::new();
    let mut take = |path: &str, entry: &Entry| {
        let node = &entry.node;
        rows.push(Row { path: path.to_string(), kind: node.kind, size: node.size, modified: node.modified.and_then(written), state: "whole" });
    };
    let findings = if node.kind != NodeKind::Directory {
        let name = tree::Name { bytes: Vec::new(), shown: String::new() };
        take(&base, &Entry { name, node });
        Vec::new()
    } else if recursive {
        tree::walk(&*fs, node, &base, &mut take)
    } else {
        let listing = fs.list(&node);
        listing.entries.iter().for_each(|entry| take(&format!("{}/{}", base.trim_end_matches('/'), entry.name.shown), entry));
        listing.findings
    };
    if common.json {
        tell!("{}", serde_json::to_string_pretty(&serde_json::json!({ "entries": rows, "problems": findings })).unwrap_or_default());
    } else {
        for row in &rows {
            let (size, mark) = match row.kind {
                NodeKind::Directory => ("-".into(), "/"),
                NodeKind::Link => (human(row.size), "@"),
                NodeKind::Other => ("-".into(), "?"),
                NodeKind::File => (human(row.size), ""),
            };
            tell!("{size:>9}  {:<20}  {}{mark}", row.modified.as_deref().unwrap_or("-"), row.path);
        }
        findings.iter().for_each(|finding| complain!("▲ {}  [{}]", finding.text, finding.code));
    }
    Ok(if findings.is_empty() { code::DONE } else { code::LOSS })
}
