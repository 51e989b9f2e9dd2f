//! What is not the same in two trees: a drive earlier and later, file by file.

use badger_fs::tree::{Entry, Listing, Node, NodeKind, Time};
use badger_fs::walk::{Walk, walk_until};
use badger_fs::{Finding, Tree};
use std::collections::BTreeMap;

/// Bytes of two files that are compared in one go.
const PIECE: usize = 1 << 20;

/// What is known of one side.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Side {
    /// Bytes.
    pub size: u64,
    /// Last change of the content.
    pub modified: Option<Time>,
}

impl Side {
    fn of(node: &Node) -> Self {
        Self { size: node.size, modified: node.modified }
    }
}

/// One entry that is not the same.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// From the top.
    pub path: String,
    /// What the tree says of it, the later one where it is there still.
    pub entry: Entry,
    /// Earlier; `None` where it was not there.
    pub before: Option<Side>,
    /// Later; `None` where it is gone.
    pub after: Option<Side>,
    /// What differs where both are there: `kind`, `size`, `time`, `content`, `link`, `attributes`.
    pub what: Vec<&'static str>,
    /// Why its content could not be compared; it counts neither as the same nor as changed.
    pub unknown: Option<String>,
}

/// What all of it came to, in entries.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Compared {
    /// The same in all that was compared.
    pub same: u64,
    /// Not the same.
    pub changed: u64,
    /// Only later.
    pub added: u64,
    /// Only earlier.
    pub removed: u64,
    /// Could not be compared.
    pub unknown: u64,
    /// Faults met on the way, earlier and later: what lies below them was not compared.
    pub findings: Vec<Finding>,
    /// Why it was not gone through to its end.
    pub cut: Option<&'static str>,
}

impl Compared {
    /// Whether both sides are known to be the same.
    pub fn is_same(&self) -> bool {
        self.changed + self.added + self.removed + self.unknown == 0 && self.findings.is_empty() && self.cut.is_none()
    }
}

/// The two trees, and who is told.
struct Comparing<'a> {
    trees: [&'a dyn Tree; 2],
    content: bool,
    stop: &'a dyn Fn() -> bool,
    each: &'a mut dyn FnMut(&Change),
    out: Compared,
}

/// Compares two trees: names, kinds, sizes, times, attributes, the targets of links; where `content` is set the bytes of every file too.
/// `each` is told what is not the same, and `stop` is asked whether to go on.
///
/// # Errors
/// A tree that has no top.
pub fn changes(
    (before, after): (&dyn Tree, &dyn Tree),
    content: bool,
    stop: &dyn Fn() -> bool,
    each: &mut dyn FnMut(&Change),
) -> Result<Compared, Finding> {
    let (from, to) = (before.root()?, after.root()?);
    let mut comparing = Comparing { trees: [before, after], content, stop, each, out: Compared::default() };
    let mut walk = Walk::of(before, from, (String::new(), to));
    while let Some(step) = walk.take() {
        if stop() {
            comparing.out.cut = Some("it was stopped");
            break;
        }
        let (path, to) = &step.with;
        let listings = [before.list(&step.node), after.list(to)];
        // Of a folder that could not be read whole, what is missing may be there.
        let [whole_before, whole_after] = [0, 1].map(|side: usize| listings[side].findings.is_empty());
        let [earlier, later] = listings.map(|listing| comparing.entries(listing));
        if !walk.has_room(earlier.len()) {
            comparing.out.cut = Some("it names more entries than it has room for");
            break;
        }
        for (name, entry) in &earlier {
            let path = format!("{path}/{}", entry.name.shown);
            match later.get(name) {
                None => comparing.alone(&path, entry, 0, whole_after),
                Some(now) => {
                    comparing.both(&path, &entry.node, now);
                    if entry.node.kind == NodeKind::Directory && now.node.kind == NodeKind::Directory {
                        // What leads back to itself was compared where it was met first.
                        let _ = walk.enter(&entry.node, (path, now.node.clone()));
                    }
                }
            }
        }
        for entry in later.iter().filter(|(name, _)| !earlier.contains_key(*name)).map(|(_, entry)| entry) {
            comparing.alone(&format!("{path}/{}", entry.name.shown), entry, 1, whole_before);
        }
    }
    Ok(comparing.out)
}

impl Comparing<'_> {
    fn entries(&mut self, listing: Listing) -> BTreeMap<Vec<u8>, Entry> {
        self.out.findings.extend(listing.findings);
        listing.entries.into_iter().map(|entry| (entry.name.bytes.clone(), entry)).collect()
    }

    /// An entry that is there only earlier (0) or later (1), with all that is below it; where the folder on the other side could not be read
    /// whole, it may be there as well.
    fn alone(&mut self, path: &str, entry: &Entry, side: usize, is_certain: bool) {
        let mut tell = |path: &str, entry: &Entry| {
            let here = Some(Side::of(&entry.node));
            let (before, after) = if side == 0 { (here, None) } else { (None, here) };
            let unknown = (!is_certain).then(|| format!("its folder could not be read whole {}", if side == 0 { "later" } else { "earlier" }));
            (self.each)(&Change { path: path.to_string(), entry: entry.clone(), before, after, what: Vec::new(), unknown });
            match (is_certain, side) {
                (false, _) => self.out.unknown += 1,
                (true, 0) => self.out.removed += 1,
                (true, _) => self.out.added += 1,
            }
        };
        tell(path, entry);
        if entry.node.kind == NodeKind::Directory {
            let findings = walk_until(self.trees[side], entry.node.clone(), path, self.stop, &mut tell);
            self.out.findings.extend(findings);
        }
    }

    fn both(&mut self, path: &str, before: &Node, now: &Entry) {
        let after = &now.node;
        let mut what = Vec::new();
        let mut unknown = None;
        if before.kind != after.kind {
            what.push("kind");
        }
        if before.size != after.size && before.kind != NodeKind::Directory {
            what.push("size");
        }
        // The time of a folder says what its entries say already.
        if before.modified != after.modified && before.kind != NodeKind::Directory {
            what.push("time");
        }
        if (before.mode, before.owner, before.attributes) != (after.mode, after.owner, after.attributes) {
            what.push("attributes");
        }
        match self.same_extras(before, after) {
            Ok(true) => {}
            Ok(false) => what.push("attributes"),
            Err(why) => unknown = Some(why),
        }
        what.dedup();
        match (before.kind, after.kind) {
            (NodeKind::Link, NodeKind::Link) => match (self.trees[0].link(before), self.trees[1].link(after)) {
                (Ok(one), Ok(other)) if one == other => {}
                (Ok(_), Ok(_)) => what.push("link"),
                (Err(finding), _) | (_, Err(finding)) => unknown = Some(finding.text),
            },
            (NodeKind::File, NodeKind::File) if self.content && before.size == after.size => match self.same_content(before, after) {
                Ok(true) => {}
                Ok(false) => what.push("content"),
                Err(why) => unknown = Some(why),
            },
            _ => {}
        }
        match (what.is_empty(), &unknown) {
            (true, None) => return self.out.same += 1,
            (false, _) => self.out.changed += 1,
            (true, Some(_)) => self.out.unknown += 1,
        }
        let (one, other) = (Some(Side::of(before)), Some(Side::of(after)));
        (self.each)(&Change { path: path.to_string(), entry: now.clone(), before: one, after: other, what, unknown });
    }

    /// Whether extended attributes, and names and lengths of further streams, are the same.
    fn same_extras(&self, before: &Node, after: &Node) -> Result<bool, String> {
        let of = |side: usize, node: &Node| -> Result<_, String> {
            let mut attributes = self.trees[side].attributes(node).map_err(|finding| finding.text)?;
            let streams = self.trees[side].streams(node).map_err(|finding| finding.text)?;
            let mut streams: Vec<_> = streams.into_iter().map(|stream| (stream.name.bytes, stream.size)).collect();
            attributes.sort();
            streams.sort();
            Ok((attributes, streams))
        };
        Ok(of(0, before)? == of(1, after)?)
    }

    fn same_content(&self, before: &Node, after: &Node) -> Result<bool, String> {
        let said = |finding: Finding| finding.text;
        let (one, other) = (self.trees[0].open(before, "").map_err(said)?, self.trees[1].open(after, "").map_err(said)?);
        let (mut a, mut b, mut at) = (vec![0; PIECE], vec![0; PIECE], 0u64);
        while at < before.size {
            if (self.stop)() {
                return Err("it was stopped".into());
            }
            let len = PIECE.min((before.size - at) as usize);
            for (content, buf) in [(&one, &mut a), (&other, &mut b)] {
                let mut done = 0;
                while done < len {
                    match content.read(at + done as u64, &mut buf[done..len]).map_err(said)? {
                        0 => return Err("it ends before its size".into()),
                        count => done += count,
                    }
                }
            }
            if a[..len] != b[..len] {
                return Ok(false);
            }
            at += len as u64;
        }
        Ok(true)
    }
}
