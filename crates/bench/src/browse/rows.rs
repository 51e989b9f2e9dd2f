//! The tree as rows: folders that are open have what is in them right behind them.

use badger_fs::tree::{Entry, Listing, NodeKind};
use badger_people::changes::Change;
use std::cmp::Ordering;
use std::sync::Arc;

/// What rows are sorted by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sort {
    /// Their names.
    Name,
    /// Their sizes, the largest first.
    Size,
    /// Their last changes, the latest first.
    Time,
}

impl Sort {
    /// The word for a screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::Size => "size",
            Self::Time => "time",
        }
    }

    /// What comes after it.
    pub fn next(self) -> Self {
        match self {
            Self::Name => Self::Size,
            Self::Size => Self::Time,
            Self::Time => Self::Name,
        }
    }

    /// What an entry is sorted by: folders first, the largest and the latest on top, then by name.
    pub fn key(self, entry: &Entry) -> (bool, i128, Natural) {
        let by = match self {
            Self::Name => 0,
            Self::Size => -i128::from(entry.node.size),
            Self::Time => entry.node.modified.map_or(i128::MAX, |time| -(i128::from(time.seconds) * 1_000_000_000 + i128::from(time.nanos))),
        };
        (entry.node.kind != NodeKind::Directory, by, Natural(entry.name.shown.to_lowercase()))
    }
}

/// A name that sorts as people sort: letters without regard to case, numbers by their value.
#[derive(PartialEq, Eq)]
pub struct Natural(String);

impl Ord for Natural {
    fn cmp(&self, other: &Self) -> Ordering {
        alphanumeric_sort::compare_str(&self.0, &other.0).then_with(|| self.0.cmp(&other.0))
    }
}

impl PartialOrd for Natural {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// One line of the tree.
#[derive(Clone)]
pub struct Row {
    /// How deep it lies.
    pub depth: u16,
    /// The path of the folder it is in; empty for the root.
    pub parent: Arc<str>,
    /// What the tree says of it.
    pub entry: Entry,
    /// Whether what is in it stands right behind it.
    pub open: bool,
    /// It is being read.
    pub waits: bool,
    /// Why it could not be read.
    pub trouble: Option<String>,
    /// In what way it is not as it was earlier, where that was asked.
    pub change: Option<Arc<Change>>,
}

impl Row {
    /// Its path from the top of the tree.
    pub fn path(&self) -> String {
        format!("{}/{}", self.parent, self.entry.name.shown)
    }

    /// A line of a list of what changed.
    pub fn of_change(change: &Change) -> Self {
        let parent = change.path.rsplit_once('/').map_or("", |(parent, _)| parent).into();
        let change = Arc::new(change.clone());
        Self { depth: 0, parent, entry: change.entry.clone(), open: false, waits: false, trouble: change.unknown.clone(), change: Some(change) }
    }

    /// Whether it was there earlier, and is not any more.
    pub fn is_gone(&self) -> bool {
        self.change.as_ref().is_some_and(|change| change.after.is_none())
    }

    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.entry.node.kind == NodeKind::Directory
    }
}

/// The rows of a folder's content, sorted.
pub fn rows(listing: Listing, parent: &str, depth: u16, sort: Sort) -> Vec<Row> {
    let mut entries = listing.entries;
    entries.sort_by_cached_key(|entry| sort.key(entry));
    let parent: Arc<str> = parent.into();
    entries.into_iter().map(|entry| Row { depth, parent: parent.clone(), entry, open: false, waits: false, trouble: None, change: None }).collect()
}

/// How many rows behind `at` lie inside of it.
pub fn inside(rows: &[Row], at: usize) -> usize {
    rows[at + 1..].iter().take_while(|row| row.depth > rows[at].depth).count()
}

/// Sorts anew, every folder within itself.
pub fn sorted(rows: Vec<Row>, sort: Sort) -> Vec<Row> {
    let Some(depth) = rows.first().map(|row| row.depth) else { return rows };
    let mut groups: Vec<Vec<Row>> = Vec::new();
    for row in rows {
        match groups.last_mut() {
            Some(group) if row.depth > depth => group.push(row),
            _ => groups.push(vec![row]),
        }
    }
    groups.sort_by_cached_key(|group| sort.key(&group[0].entry));
    let mut out = Vec::new();
    for mut group in groups {
        let below = group.split_off(1);
        out.append(&mut group);
        out.append(&mut sorted(below, sort));
    }
    out
}

/// What a pick holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counted {
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Places that could not be read: there may be more than was counted.
    pub unread: u64,
}

impl Counted {
    /// Both together.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        Self { files: self.files + other.files, bytes: self.bytes + other.bytes, unread: self.unread + other.unread }
    }
}

/// A file or folder that was picked.
#[derive(Clone)]
pub struct Picked {
    /// Its path from the top of the tree.
    pub path: String,
    /// What it holds, once that is counted.
    pub total: Option<Counted>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use badger_fs::tree::{Name, Node, Time};

    fn entry(name: &str, kind: NodeKind, size: u64, time: i64) -> Entry {
        let modified = Some(Time { seconds: time, nanos: 0 });
        Entry { name: Name { bytes: name.into(), shown: name.into() }, node: Node::plain(kind, size, modified) }
    }

    fn names(rows: &[Row]) -> Vec<String> {
        rows.iter().map(Row::path).collect()
    }

    #[test]
    fn names_sort_as_people_do_and_folders_keep_what_is_in_them() {
        let list = |entries: Vec<Entry>| Listing { entries, findings: Vec::new() };
        let top =
            list(vec![entry("sheet 10", NodeKind::File, 5, 1), entry("Sheet 9", NodeKind::File, 50, 3), entry("tide", NodeKind::Directory, 0, 2)]);
        let mut all = rows(top, "", 0, Sort::Name);
        assert_eq!(names(&all), ["/tide", "/Sheet 9", "/sheet 10"]);
        let below = rows(list(vec![entry("a", NodeKind::File, 1, 9), entry("b", NodeKind::File, 2, 8)]), "/tide", 1, Sort::Name);
        all.splice(1..1, below);
        assert_eq!(inside(&all, 0), 2);
        let all = sorted(all, Sort::Size);
        assert_eq!(names(&all), ["/tide", "/tide/b", "/tide/a", "/Sheet 9", "/sheet 10"]);
        assert_eq!(names(&sorted(all, Sort::Time)), ["/tide", "/tide/a", "/tide/b", "/Sheet 9", "/sheet 10"]);
    }
}
