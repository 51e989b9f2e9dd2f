//! What Dig does in threads of its own: listing folders, searching, counting, copying out.

use super::rows::{self, Counted, Row, Sort};
use crate::Bench;
use crate::volume::{Fetch, Opened, parted};
use badger_drive::{Control, Event, Refusal};
use badger_fs::Origin;
use badger_fs::tree::{Node, NodeKind};
use badger_fs::walk::{Step, Walk};
use badger_people::changes::{Change, Compared, changes};
use badger_people::copyout::{Clash, Collision, Report};
use badger_people::kind;
use badger_transfer::meter::Meter;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex};

/// What a thread found.
pub enum News {
    /// A folder was read: its path, its rows or nothing, and what is wrong with it.
    Listed(String, Vec<Row>, Option<String>),
    /// Hits of a search, in the order they were met.
    Found(u64, Vec<Row>),
    /// A search is over.
    Searched(u64, Searched),
    /// A pick was counted.
    Counted(String, Counted),
    /// Where on the drive something lies that is wanted next: its path, and the places or why they cannot be told.
    Lies(String, Result<Vec<Vec<Range<u64>>>, String>),
    /// What a comparison is made with: opened, or why it cannot be.
    Earlier(u64, Result<Arc<Opened>, Refusal>),
    /// A comparison is over: what it came to, or why there is none.
    Compared(u64, Result<Compared, String>),
}

/// What a search went through.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Searched {
    /// Entries that were held against what is looked for.
    pub entries: u64,
    /// Folders and files that could not be read, so that nobody knows what is in them.
    pub unread: u64,
    /// It was ended because more fits than is shown.
    pub is_cut: bool,
}

/// Reads a folder.
pub fn list(opened: &Arc<Opened>, node: Node, path: String, depth: u16, sort: Sort, news: &Sender<News>) {
    let (opened, news) = (opened.clone(), news.clone());
    std::thread::spawn(move || {
        let mut listing = opened.tree.list(&node);
        let trouble = match listing.findings.len() {
            0 => None,
            1 => Some(listing.findings.remove(0).text),
            more => Some(format!("{} and {} more faults", listing.findings.remove(0).text, more - 1)),
        };
        let rows = rows::rows(listing, &path, depth, sort);
        // Dig may have been shut meanwhile.
        let _ = news.send(News::Listed(path, rows, trouble));
    });
}

/// A search as it is typed: words that the name has, and kinds of content after a colon.
pub struct Query {
    words: Vec<String>,
    kinds: Vec<kind::Kind>,
}

impl Query {
    /// Takes apart what was typed.
    pub fn new(text: &str) -> Self {
        let (mut words, mut kinds) = (Vec::new(), Vec::new());
        for word in text.split_whitespace().map(str::to_lowercase) {
            match word
                .strip_prefix(':')
                .and_then(|wanted| kind::Kind::ALL.into_iter().find(|kind| !wanted.is_empty() && kind.word().starts_with(wanted)))
            {
                Some(kind) => kinds.push(kind),
                None => words.push(word),
            }
        }
        Self { words, kinds }
    }

    /// Whether an entry fits; `None` where that lies in content that cannot be read.
    fn fits(&self, opened: &Opened, name: &str, node: &Node) -> Option<bool> {
        let name = name.to_lowercase();
        if !self.words.iter().all(|word| name.contains(word)) {
            return Some(false);
        }
        if self.kinds.is_empty() || node.kind != NodeKind::File {
            return Some(self.kinds.is_empty());
        }
        let content = opened.tree.open(node, "").ok()?;
        Some(self.kinds.contains(&kind::format(&kind::head(&content).ok()?).kind))
    }
}

/// So many hits are shown.
pub const MOST_FOUND: usize = 20_000;

/// Searches everything below the root; `stop` ends it.
pub fn search(opened: &Arc<Opened>, text: &str, number: u64, stop: &Arc<AtomicBool>, news: &Sender<News>) {
    let (opened, news, stop, query) = (opened.clone(), news.clone(), stop.clone(), Query::new(text));
    std::thread::spawn(move || {
        let Ok(root) = opened.tree.root() else {
            let _ = news.send(News::Searched(number, Searched { unread: 1, ..Searched::default() }));
            return;
        };
        let (mut hits, mut searched, mut found) = (Vec::new(), Searched::default(), 0);
        let mut walk = Walk::of(&*opened.tree, root, String::new());
        let mut told = std::time::Instant::now();
        'walk: while let Some(Step { node: directory, with: path, .. }) = walk.take() {
            if stop.load(Ordering::Relaxed) {
                break;
            }
            let parent: Arc<str> = path.as_str().into();
            let listing = opened.tree.list(&directory);
            searched.unread += u64::from(!listing.findings.is_empty());
            if !walk.has_room_for(&listing) {
                searched.unread += 1;
                break;
            }
            for entry in listing.entries {
                if stop.load(Ordering::Relaxed) || found >= MOST_FOUND {
                    searched.is_cut = found >= MOST_FOUND;
                    break 'walk;
                }
                searched.entries += 1;
                if entry.node.kind == NodeKind::Directory {
                    // One that leads back was searched already.
                    let _ = walk.enter(&entry.node, format!("{path}/{}", entry.name.shown));
                }
                let fits = query.fits(&opened, &entry.name.shown, &entry.node);
                searched.unread += u64::from(fits.is_none());
                if fits == Some(true) {
                    found += 1;
                    hits.push(Row { depth: 0, parent: parent.clone(), entry, open: false, waits: false, trouble: None, change: None });
                }
                if !hits.is_empty() && told.elapsed().as_millis() > 80 {
                    told = std::time::Instant::now();
                    let _ = news.send(News::Found(number, std::mem::take(&mut hits)));
                }
            }
        }
        let _ = news.send(News::Found(number, hits));
        let _ = news.send(News::Searched(number, searched));
    });
}

/// Finds out where on the drive a file, or all below a folder, lies.
pub fn lies(opened: &Arc<Opened>, path: String, news: &Sender<News>) {
    let (opened, news) = (opened.clone(), news.clone());
    std::thread::spawn(move || {
        let places = match opened.tree.origin() {
            Origin::Folder(_) => Err("it lies in a folder of this machine".into()),
            Origin::Volume(_) | Origin::Files(_) => badger_salvage::holed::ranges(&*opened.tree, &path),
        };
        // Dig may have been shut meanwhile.
        let _ = news.send(News::Lies(path, places));
    });
}

/// Compares what is open with an earlier drive or image, by names, sizes and times; of one with several volumes, that of the same
/// number. `stop` ends it.
pub fn compare(bench: &Bench, (earlier, part): (&str, Option<u32>), opened: &Arc<Opened>, number: u64, stop: &Arc<AtomicBool>, news: &Sender<News>) {
    let (bench, opened, news, stop) = (bench.clone(), opened.clone(), news.clone(), stop.clone());
    let (path, named) = parted(earlier);
    std::thread::spawn(move || {
        let before = match bench.open_tree(&path, named).or_else(|refusal| match (named, part) {
            (None, Some(_)) if !path.is_dir() => bench.open_tree(&path, part),
            _ => Err(refusal),
        }) {
            Ok(before) => Arc::new(before),
            // Dig may have been shut meanwhile, here and below.
            Err(refusal) => {
                let _ = news.send(News::Earlier(number, Err(refusal)));
                return;
            }
        };
        let _ = news.send(News::Earlier(number, Ok(before.clone())));
        let (mut rows, mut found) = (Vec::new(), 0);
        let mut told = std::time::Instant::now();
        let mut each = |change: &Change| {
            found += 1;
            if found <= MOST_FOUND {
                rows.push(Row::of_change(change));
            }
            if told.elapsed().as_millis() > 80 {
                told = std::time::Instant::now();
                let _ = news.send(News::Found(number, std::mem::take(&mut rows)));
            }
        };
        let compared = changes((&*before.tree, &*opened.tree), false, &|| stop.load(Ordering::Relaxed), &mut each);
        let _ = news.send(News::Found(number, rows));
        let _ = news.send(News::Compared(number, compared.map_err(|finding| finding.text)));
    });
}

/// Counts what a pick holds.
pub fn count(opened: &Arc<Opened>, path: String, node: Node, news: &Sender<News>) {
    let (opened, news) = (opened.clone(), news.clone());
    std::thread::spawn(move || {
        let mut counted = Counted::default();
        let mut add = |node: &Node| {
            if node.kind == NodeKind::File {
                counted.files += 1;
                counted.bytes = counted.bytes.saturating_add(node.size);
            }
        };
        add(&node);
        if node.kind == NodeKind::Directory {
            let findings = badger_fs::walk::walk(&*opened.tree, node, "", &mut |_, entry| add(&entry.node));
            counted.unread = findings.len() as u64;
        }
        let _ = news.send(News::Counted(path, counted));
    });
}

/// What is known of a copy that goes on.
pub struct Progress {
    /// How far it is.
    pub meter: Meter,
    /// Its time in seconds.
    pub now: f64,
    /// Files that are done.
    pub files: u64,
    /// The last one.
    pub last: String,
    /// What came of it.
    pub outcome: Option<Result<Report, Refusal>>,
}

/// A copy that goes on.
pub struct Copying {
    /// To steer it.
    pub control: Arc<Control>,
    /// How far it is.
    pub progress: Arc<Mutex<Progress>>,
    /// Clashes that wait for an answer, and where the answer goes.
    pub clashes: Receiver<(Clash, Sender<Collision>)>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Copying {
    /// Begins.
    pub fn start(bench: &Bench, opened: &Arc<Opened>, picks: Vec<String>, into: PathBuf, collision: Collision) -> Self {
        let control = Arc::new(Control::new());
        let first = Progress { meter: Meter::new(0, 0), now: 0.0, files: 0, last: String::new(), outcome: None };
        let progress = Arc::new(Mutex::new(first));
        let (ask, clashes) = channel();
        let (bench, opened, steered, shared) = (bench.clone(), opened.clone(), control.clone(), progress.clone());
        let thread = std::thread::spawn(move || {
            let told = shared.clone();
            let observer = move |event: &Event| {
                let mut progress = told.lock().expect("progress lock");
                match event {
                    Event::Phase { total, .. } => progress.meter = Meter::new(*total, 0),
                    Event::Moved { len, at, .. } => {
                        progress.now = *at;
                        progress.meter.add(*len, *at);
                    }
                    Event::File { path, .. } => {
                        progress.files += 1;
                        progress.last.clone_from(path);
                    }
                    _ => {}
                }
            };
            let ask = Mutex::new(ask);
            let asked = |clash: &Clash| {
                let (answer, answered) = channel();
                let sent = ask.lock().expect("question lock").send((clash.clone(), answer)).is_ok();
                // Without anybody to answer, what is there stays.
                if sent { answered.recv().unwrap_or(Collision::Skip) } else { Collision::Skip }
            };
            let fetch = Fetch { picks, into, collision, ask: &asked };
            let outcome = bench.fetch(&opened, fetch, &steered, &observer);
            shared.lock().expect("progress lock").outcome = Some(outcome);
        });
        Self { control, progress, clashes, thread: Some(thread) }
    }

    /// Whether it is over.
    pub fn is_over(&self) -> bool {
        self.progress.lock().expect("progress lock").outcome.is_some()
    }

    /// Stops it in order and waits for its end.
    pub fn stop_and_wait(&mut self) {
        self.control.stop();
        // Questions that nobody answers any more must not hold it.
        while let Ok((_, answer)) = self.clashes.try_recv() {
            let _ = answer.send(Collision::Skip);
        }
        if let Some(thread) = self.thread.take() {
            while !thread.is_finished() {
                if let Ok((_, answer)) = self.clashes.recv_timeout(std::time::Duration::from_millis(50)) {
                    let _ = answer.send(Collision::Skip);
                }
            }
            let _ = thread.join();
        }
    }
}
