//! The tree as rows: folders that are open have what is in them right behind them.

use badger_fs::tree::{Entry, Listing, NodeKind};
use std::cmp::Ordering;
use std::sync::Arc;

/// What rows are sorted by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sort {
    Name,
    Size,
    Time,
}

impl Sort {
    pub fn word(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::Size => "size",
            Self::Time => "time",
        }
    }

    pub fn next(self) -> Self {
        match self {
            Self::Name => Self::Size,
            Self::Size => Self::Time,
            Self::Time => Self::Name,
        }
    }

    /// Folders first; the largest and the latest on top.
    pub fn order(self, a: &Entry, b: &Entry) -> Ordering {
        let folder = |entry: &Entry| entry.node.kind != NodeKind::Directory;
        let by = match self {
            Self::Name => Ordering::Equal,
            Self::Size => b.node.size.cmp(&a.node.size),
            Self::Time => b.node.modified.cmp(&a.node.modified),
        };
        folder(a).cmp(&folder(b)).then(by).then_with(|| natural(&a.name.shown, &b.name.shown))
    }
}

/// Names as people sort them: numbers by their value, letters without regard to case.
fn natural(a: &str, b: &str) -> Ordering {
    let (mut a, mut b) = (a.chars().peekable(), b.chars().peekable());
    loop {
        match (a.peek().copied(), b.peek().copied()) {
            (None, None) => return Ordering::Equal,
            (None, _) => return Ordering::Less,
            (_, None) => return Ordering::Greater,
            (Some(x), Some(y)) if x.is_ascii_digit() && y.is_ascii_digit() => {
                let value = |chars: &mut std::iter::Peekable<std::str::Chars>| {
                    let mut value = 0u64;
                    while let Some(digit) = chars.peek().and_then(|c| c.to_digit(10)) {
                        value = value.saturating_mul(10).saturating_add(u64::from(digit));
                        chars.next();
                    }
                    value
                };
                match value(&mut a).cmp(&value(&mut b)) {
                    Ordering::Equal => {}
                    other => return other,
                }
            }
            (Some(x), Some(y)) => match x.to_lowercase().cmp(y.to_lowercase()) {
                Ordering::Equal => {
                    a.next();
                    b.next();
                }
                other => return other,
            },
        }
    }
}

/// One line of the tree.
#[derive(Clone)]
pub struct Row {
    pub depth: u16,
    /// The path of the folder it is in; empty for the root.
    pub parent: Arc<str>,
    pub entry: Entry,
    pub open: bool,
    /// It is being read.
    pub waits: bool,
    pub trouble: Option<String>,
}

impl Row {
    pub fn path(&self) -> String {
        format!("{}/{}", self.parent, self.entry.name.shown)
    }

    pub fn is_folder(&self) -> bool {
        self.entry.node.kind == NodeKind::Directory
    }
}

/// The rows of a folder's content, sorted.
pub fn rows(listing: Listing, parent: &str, depth: u16, sort: Sort) -> Vec<Row> {
    let mut entries = listing.entries;
    entries.sort_by(|a, b| sort.order(a, b));
    let parent: Arc<str> = parent.into();
    entries.into_iter().map(|entry| Row { depth, parent: parent.clone(), entry, open: false, waits: false, trouble: None }).collect()
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
    groups.sort_by(|a, b| sort.order(&a[0].entry, &b[0].entry));
    let mut out = Vec::new();
    for mut group in groups {
        let below = group.split_off(1);
        out.append(&mut group);
        out.append(&mut sorted(below, sort));
    }
    out
}

/// A file or folder that was picked.
#[derive(Clone)]
pub struct Picked {
    pub path: String,
    /// Files and bytes, once they are counted.
    pub total: Option<(u64, u64)>,
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
