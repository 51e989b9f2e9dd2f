//! Going through directories: the one place that knows when to stop.

use crate::finding::Finding;
use crate::node::{Entry, Listing, Node, NodeKind};
use crate::tree::Tree;
use std::collections::{HashMap, HashSet, VecDeque};
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Mutex;
use std::sync::mpsc::{Receiver, Sender, channel};

/// A fault weighs as much as so many entries.
const FAULT: usize = 48;
/// So many faults are kept.
const MOST_FINDINGS: usize = 10_000;
/// Deepest directory that is followed.
pub const DEEPEST: usize = 512;

/// A directory whose turn it is, or will be, and what somebody wants to know of it then.
pub struct Step<T> {
    /// The directory.
    pub node: Node,
    /// Whatever goes with it, such as its path.
    pub with: T,
    depth: usize,
}

/// Why a directory is not gone into.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Turned {
    /// It was met before: it leads back to itself, or has two names.
    Back,
    /// It lies deeper than anything real.
    TooDeep,
}

/// Directories that are still to be gone into: each once whatever the bytes say, none too deep, and no more entries than there
/// is room for.
pub struct Walk<T> {
    waiting: VecDeque<Step<T>>,
    /// Met in the directory whose turn it is.
    met: Vec<Step<T>>,
    seen: HashSet<u64>,
    room: u64,
    depth: usize,
    by_level: bool,
}

impl<T> Walk<T> {
    /// Everything below a directory, itself first, each directory before what is in it.
    pub fn of(tree: &dyn Tree, from: Node, with: T) -> Self {
        let (seen, room) = (HashSet::from([from.id]), tree.most_entries());
        let first = Step { node: from, with, depth: 0 };
        Self { waiting: VecDeque::from([first]), met: Vec::new(), seen, room, depth: 0, by_level: false }
    }

    /// One level after the other, for whoever does not go to the end.
    #[must_use]
    pub fn by_level(mut self) -> Self {
        self.by_level = true;
        self
    }

    fn sort_in(&mut self) {
        if self.by_level {
            self.waiting.extend(self.met.drain(..));
        } else {
            self.met.drain(..).rev().for_each(|step| self.waiting.push_front(step));
        }
    }

    /// The next directory.
    pub fn take(&mut self) -> Option<Step<T>> {
        self.sort_in();
        let step = self.waiting.pop_front()?;
        self.depth = step.depth;
        Some(step)
    }

    /// Whether a tree can hold so many more entries than were met: what names more goes round, and is left there.
    #[must_use]
    pub fn has_room(&mut self, entries: usize) -> bool {
        let left = self.room.checked_sub(entries as u64);
        self.room = left.unwrap_or(0);
        left.is_some()
    }

    /// The same for what a directory gave. What is no directory looks like many, each full of faults: they use up the room as well.
    pub fn has_room_for(&mut self, listing: &Listing) -> bool {
        self.has_room(listing.entries.len().saturating_add(listing.findings.len().saturating_mul(FAULT)))
    }

    /// Has a directory, met in the one that was taken last, gone into later.
    ///
    /// # Errors
    /// Why it is not.
    pub fn enter(&mut self, node: &Node, with: T) -> Result<(), Turned> {
        if self.depth >= DEEPEST {
            return Err(Turned::TooDeep);
        }
        if !self.seen.insert(node.id) {
            return Err(Turned::Back);
        }
        self.met.push(Step { node: node.clone(), with, depth: self.depth + 1 });
        Ok(())
    }

    /// The directories whose turn comes next, in that order.
    fn ahead(&mut self) -> impl Iterator<Item = &mut Step<T>> {
        self.sort_in();
        self.waiting.iter_mut()
    }
}

/// So many directories are read before their turn, by so many readers: what a drive needs to find one does not hold up the
/// others.
const AHEAD: usize = 24;
const READERS: usize = 6;

/// A directory on the way of [`walk`].
struct Way {
    path: String,
    number: u64,
    asked: bool,
}

/// Goes through everything below a directory, each directory before what is in it. `each` gets the path and the entry.
/// Directories that contain themselves are entered once. While `each` looks at one directory the next ones are read.
pub fn walk(tree: &dyn Tree, from: Node, path: &str, each: &mut dyn FnMut(&str, &Entry)) -> Vec<Finding> {
    walk_until(tree, from, path, &|| false, each)
}

/// Lists directories by their numbers as long as anybody asks for them.
fn read_ahead(tree: &dyn Tree, asked: &Mutex<Receiver<(u64, Node)>>, give: &Sender<(u64, Listing)>) {
    loop {
        let next = asked.lock().expect("queue lock").recv();
        let Ok((number, directory)) = next else { return };
        // Whoever waits for it must not wait for ever.
        match catch_unwind(AssertUnwindSafe(|| tree.list(&directory))) {
            Ok(listing) => {
                if give.send((number, listing)).is_err() {
                    return;
                }
            }
            Err(panic) => {
                let _ = give.send((number, Listing::default()));
                resume_unwind(panic);
            }
        }
    }
}

/// Listings that are made before their turn.
struct Early {
    ask: Sender<(u64, Node)>,
    given: Receiver<(u64, Listing)>,
    came: HashMap<u64, Listing>,
    asked: usize,
}

impl Early {
    fn look_ahead(&mut self, walk: &mut Walk<Way>) {
        let room = AHEAD.saturating_sub(self.asked);
        for next in walk.ahead().take(AHEAD).filter(|next| !next.with.asked).take(room) {
            // Its answer is waited for later.
            let _ = self.ask.send((next.with.number, next.node.clone()));
            next.with.asked = true;
            self.asked += 1;
        }
    }

    fn listing(&mut self, tree: &dyn Tree, step: &Step<Way>) -> Listing {
        if !step.with.asked {
            return tree.list(&step.node);
        }
        self.asked -= 1;
        loop {
            if let Some(listing) = self.came.remove(&step.with.number) {
                return listing;
            }
            let Ok((number, listing)) = self.given.recv() else { return Listing::default() };
            self.came.insert(number, listing);
        }
    }
}

/// See [`walk`]; ended before its time where `stop` says so.
pub fn walk_until(tree: &dyn Tree, from: Node, path: &str, stop: &dyn Fn() -> bool, each: &mut dyn FnMut(&str, &Entry)) -> Vec<Finding> {
    let (mut findings, mut left_out, mut last) = (Vec::new(), 0, None);
    if tree.root().is_ok_and(|root| root.id == from.id) {
        tree.will_walk();
    }
    let (ask, asked) = channel::<(u64, Node)>();
    let asked = Mutex::new(asked);
    let (give, given) = channel::<(u64, Listing)>();
    std::thread::scope(|scope| {
        for _ in 0..READERS {
            let (asked, give) = (&asked, give.clone());
            scope.spawn(move || read_ahead(tree, asked, &give));
        }
        drop(give);
        let mut early = Early { ask, given, came: HashMap::new(), asked: 0 };
        let first = Way { path: path.trim_end_matches('/').to_string(), number: 0, asked: false };
        let (mut walk, mut number) = (Walk::of(tree, from, first), 0);
        while let Some(step) = walk.take() {
            let mut listing = early.listing(tree, &step);
            let path = step.with.path;
            let has_room = walk.has_room_for(&listing);
            let found = std::mem::take(&mut listing.findings);
            left_out += found.len().saturating_sub(MOST_FINDINGS - findings.len());
            let kept = found.into_iter().take(MOST_FINDINGS - findings.len());
            findings.extend(kept.map(|finding| Finding { text: format!("{path}/: {}", finding.text), ..finding }));
            if !has_room {
                let text = format!(
                    "{path}/: the directories name more entries than the volume has room for, or are damaged throughout; what follows was not read"
                );
                last = Some(Finding::grave("walk-budget", text));
                break;
            }
            for entry in listing.entries.iter().filter(|entry| entry.node.kind == NodeKind::Directory) {
                number += 1;
                let full = format!("{path}/{}", entry.name.shown);
                if walk.enter(&entry.node, Way { path: full.clone(), number, asked: false }).is_err() && findings.len() < MOST_FINDINGS {
                    findings.push(Finding::new("directory-loop", format!("{full} leads back to a directory above it, or is too deep")));
                }
            }
            early.look_ahead(&mut walk);
            let mut full = format!("{path}/");
            let folder = full.len();
            for entry in &listing.entries {
                full.truncate(folder);
                full.push_str(&entry.name.shown);
                each(&full, entry);
            }
            if stop() {
                break;
            }
        }
    });
    if left_out > 0 {
        findings.push(Finding::grave("walk-faults", format!("{left_out} more faults were found than are told here")));
    }
    findings.extend(last);
    findings
}
