//! Dig: what is chosen, opened, searched, picked and copied.

use crate::draw::outcome_mark;
use crate::theme::Mean;
use badger_bench::Bench;
use badger_bench::browse::preview::{BYTES, Look, Looker, Wish};
use badger_bench::browse::rows::{self, Counted, Picked, Row, Sort};
use badger_bench::browse::work::{self, Copying, News, Searched};
use badger_bench::shelf::Item;
use badger_bench::volume::Opened;
use badger_drive::Refusal;
use badger_drive::size::{human, span, thousands};
use badger_people::changes::Compared;
use badger_people::copyout::{Clash, Collision};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};

/// A volume that can be chosen, or a folder of this machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Choice {
    /// The drive, or the folder.
    pub path: PathBuf,
    /// Number of its partition.
    pub number: Option<u32>,
    /// What the drive says it is.
    pub drive: String,
    /// The volume's label, or the partition's name.
    pub name: String,
    /// Its format.
    pub content: String,
    /// Bytes of its place.
    pub len: u64,
    /// Bytes in use, where the format tells.
    pub used: Option<u64>,
}

/// What the preview shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Mode {
    Content,
    Properties,
    Bytes,
}

impl Mode {
    /// What the next press of the key shows.
    pub(super) fn next(self) -> Self {
        match self {
            Self::Content => Self::Properties,
            Self::Properties => Self::Bytes,
            Self::Bytes => Self::Content,
        }
    }
}

/// What is being typed.
pub(super) enum Entry {
    Find(String),
    Into(String),
    /// A folder of this machine to look into.
    Folder(String),
    /// What the opened volume is compared with.
    Earlier(String),
}

/// A search, or a comparison, and what it found.
pub(super) struct Search {
    pub(super) text: String,
    pub(super) number: u64,
    pub(super) rows: Vec<Row>,
    pub(super) chosen: usize,
    pub(super) over: Option<Searched>,
    pub(super) stop: Arc<AtomicBool>,
    /// Where it is a comparison: what with.
    pub(super) against: Option<Against>,
}

/// What a volume is compared with.
#[derive(Default)]
pub(super) struct Against {
    /// Shows what is there only earlier.
    looker: Option<Looker>,
    pub(super) sum: Option<Compared>,
}

/// An opened volume on the screen.
pub(super) struct View {
    pub(super) choice: Choice,
    pub(super) opened: Arc<Opened>,
    pub(super) rows: Vec<Row>,
    pub(super) chosen: usize,
    pub(super) sort: Sort,
    looker: Looker,
    pub(super) look: Option<Look>,
    pub(super) wished: Option<(String, u64, bool)>,
    pub(super) mode: Mode,
    pub(super) scroll: usize,
    pub(super) offset: u64,
    pub(super) search: Option<Search>,
    searches: u64,
    pub(super) tray: Vec<Picked>,
    pub(super) into: Option<PathBuf>,
    pub(super) free: Option<u64>,
    pub(super) collision: Collision,
    pub(super) copying: Option<Copying>,
    pub(super) clash: Option<(Clash, Sender<Collision>)>,
    pub(super) said: Option<(Mean, Vec<String>)>,
    pub(super) news: (Sender<News>, Receiver<News>),
    /// The image that this one goes on from.
    pub(super) earlier: Option<PathBuf>,
    /// What is wanted next of a drive that is being salvaged: where it lies.
    pub(super) wanted: Vec<Vec<Range<u64>>>,
}

type Opening = (Choice, Option<PathBuf>, Result<Opened, Refusal>);

/// The place.
#[derive(Default)]
pub struct Dig {
    /// Drives whose volumes are offered first.
    pub(super) only: Option<PathBuf>,
    pub(super) chosen: usize,
    pub(super) view: Option<Box<View>>,
    pub(super) opening: Option<Receiver<Opening>>,
    pub(super) entry: Option<Entry>,
}

impl Dig {
    /// Whether keys are letters.
    pub fn is_typing(&self) -> bool {
        self.entry.is_some()
    }

    /// Whether files are being copied out.
    pub fn is_copying(&self) -> bool {
        self.view.as_ref().and_then(|view| view.copying.as_ref()).is_some_and(|copying| !copying.is_over())
    }

    /// Whether a thread may have something new to show at any moment.
    pub fn is_busy(&self) -> bool {
        self.opening.is_some() || self.view.as_ref().is_some_and(|view| view.copying.is_some() || view.search.is_some())
    }

    /// Stops what goes on, in order.
    pub fn close(&mut self) {
        if let Some(view) = &mut self.view {
            if let Some(search) = &view.search {
                search.stop.store(true, Ordering::Relaxed);
            }
            view.clash = None;
            if let Some(copying) = &mut view.copying {
                copying.stop_and_wait();
            }
        }
    }

    /// Offers the volumes of one drive; opens the volume where there is but one.
    pub fn on_drive(&mut self, path: PathBuf, choices: &[Choice], bench: &Bench) {
        if self.view.as_ref().is_some_and(|view| view.choice.path == path) {
            return;
        }
        if self.is_copying() {
            return;
        }
        self.close();
        (self.view, self.chosen) = (None, 0);
        let mine: Vec<&Choice> = choices.iter().filter(|choice| choice.path == path).collect();
        if let [only] = mine[..] {
            self.open((*only).clone(), bench);
        }
        self.only = Some(path);
    }

    /// What the list of volumes marks: a drive and the number of a partition.
    pub fn marked(&self, items: &[Item]) -> Option<(PathBuf, Option<u32>)> {
        choices(items, self.only.as_deref()).into_iter().nth(self.chosen).map(|choice| (choice.path, choice.number))
    }

    /// Marks the same volume again after drives came or went: Enter opens what was marked when it was pressed.
    pub fn keep_marked(&mut self, marked: Option<(PathBuf, Option<u32>)>, items: &[Item]) {
        let choices = choices(items, self.only.as_deref());
        // What was asked for comes to the top as soon as it was looked at, and nobody has gone on from there.
        if self.chosen == 0 && choices.first().is_some_and(|first| Some(&first.path) == self.only.as_ref()) {
            return;
        }
        let at = marked.and_then(|marked| choices.iter().position(|choice| (&choice.path, choice.number) == (&marked.0, marked.1)));
        self.chosen = at.unwrap_or(self.chosen.min(choices.len().saturating_sub(1)));
    }

    pub(super) fn open(&mut self, choice: Choice, bench: &Bench) {
        let (send, receive) = channel();
        let bench = bench.clone();
        std::thread::spawn(move || {
            let opened = bench.open_tree(&choice.path, choice.number);
            // Nobody waits any more where another volume was chosen.
            let earlier = if opened.is_ok() { bench.earlier(&choice.path) } else { None };
            let _ = send.send((choice, earlier, opened));
        });
        self.opening = Some(receive);
    }

    /// What is wanted next, and of which drive; taken once.
    pub fn take_wanted(&mut self) -> Option<(PathBuf, Vec<Vec<Range<u64>>>)> {
        let view = self.view.as_mut().filter(|view| !view.wanted.is_empty())?;
        Some((view.choice.path.clone(), std::mem::take(&mut view.wanted)))
    }

    /// Chooses a line by its number on the screen.
    pub fn choose(&mut self, at: usize) {
        match &mut self.view {
            None => self.chosen = at,
            Some(view) => {
                if let Some(search) = &mut view.search {
                    search.chosen = at;
                } else {
                    view.chosen = at;
                }
                view.wish(false);
            }
        }
    }

    /// Takes in what the threads found. Gives what is to be said, if anything. Files go into `into` where the technician does
    /// not say otherwise.
    pub fn refresh(&mut self, into: Option<&Path>) -> Result<bool, (Mean, String)> {
        let mut news = false;
        if let Some((choice, earlier, opened)) = self.opening.as_ref().and_then(|opening| opening.try_recv().ok()) {
            self.opening = None;
            news = true;
            match opened {
                Ok(opened) => {
                    let mut view = View::new(choice, opened, into.map(Path::to_path_buf));
                    view.earlier = earlier;
                    self.view = Some(Box::new(view));
                }
                Err(refusal) => return Err((Mean::Stop, refusal.text)),
            }
        }
        Ok(news | self.view.as_mut().is_some_and(|view| view.refresh()))
    }
}

impl View {
    pub(super) fn new(choice: Choice, opened: Opened, into: Option<PathBuf>) -> Self {
        let opened = Arc::new(opened);
        let news = channel();
        if let Ok(root) = opened.tree.root() {
            work::list(&opened, root, String::new(), 0, Sort::Name, &news.0);
        }
        let free = into.as_deref().and_then(badger_people::free);
        Self {
            choice,
            looker: Looker::start(opened.clone()),
            opened,
            rows: Vec::new(),
            chosen: 0,
            sort: Sort::Name,
            look: None,
            wished: None,
            mode: Mode::Content,
            scroll: 0,
            offset: 0,
            search: None,
            searches: 0,
            tray: Vec::new(),
            into,
            free,
            collision: Collision::Skip,
            copying: None,
            clash: None,
            said: None,
            news,
            earlier: None,
            wanted: Vec::new(),
        }
    }

    /// The rows on the screen and which is chosen.
    pub(super) fn shown(&self) -> (&[Row], usize) {
        self.search.as_ref().map_or((&self.rows, self.chosen), |search| (&search.rows, search.chosen))
    }

    pub(super) fn row(&self) -> Option<&Row> {
        let (rows, chosen) = self.shown();
        rows.get(chosen)
    }

    /// Asks for a preview of what is chosen, if it is not the one that is there.
    pub(super) fn wish(&mut self, through: bool) {
        let Some((path, node, gone)) = self.row().map(|row| (row.path(), row.entry.node.clone(), row.is_gone())) else { return };
        if self.wished.as_ref().is_none_or(|(was, ..)| *was != path) {
            (self.scroll, self.offset) = (0, 0);
        }
        let wish = (path.clone(), self.offset, through);
        if self.wished.as_ref() != Some(&wish) {
            let earlier = self.search.as_ref().and_then(|search| search.against.as_ref()).and_then(|against| against.looker.as_ref());
            if let Some(looker) = if gone { earlier } else { Some(&self.looker) } {
                looker.wish(Wish { path, node, offset: self.offset, through });
                self.wished = Some(wish);
            }
        }
    }

    /// True where something new is to be shown.
    fn refresh(&mut self) -> bool {
        let mut changed = false;
        while let Ok(news) = self.news.1.try_recv() {
            self.take(news);
            changed = true;
        }
        let earlier = self.search.as_ref().and_then(|search| search.against.as_ref()).and_then(|against| against.looker.as_ref());
        if let Some(look) = self.looker.take().or_else(|| earlier?.take()) {
            self.look = Some(look);
            changed = true;
        }
        if self.wished.is_none() {
            self.wish(false);
        }
        let Some(copying) = &self.copying else { return changed };
        if self.clash.is_none() {
            self.clash = copying.clashes.try_recv().ok();
        }
        let outcome = copying.progress.lock().expect("progress lock").outcome.take();
        if let Some(outcome) = outcome {
            (self.copying, self.clash) = (None, None);
            self.said = Some(told(outcome));
            self.measure();
        }
        true
    }

    pub(super) fn take(&mut self, news: News) {
        match news {
            News::Listed(path, rows, trouble) => {
                if path.is_empty() {
                    self.rows = rows;
                    if let Some(trouble) = trouble {
                        self.said = Some((Mean::Mind, vec![trouble]));
                    }
                    return;
                }
                let Some(at) = self.rows.iter().position(|row| row.waits && row.path() == path) else { return };
                (self.rows[at].waits, self.rows[at].trouble) = (false, trouble);
                if self.rows[at].open {
                    if self.chosen > at {
                        self.chosen += rows.len();
                    }
                    self.rows.splice(at + 1..at + 1, rows);
                }
            }
            News::Found(number, rows) => {
                if let Some(search) = self.search.as_mut().filter(|search| search.number == number) {
                    let first = search.rows.is_empty() && !rows.is_empty();
                    search.rows.extend(rows);
                    if first {
                        self.wish(false);
                    }
                }
            }
            News::Searched(number, searched) => {
                let sort = self.sort;
                if let Some(search) = self.search.as_mut().filter(|search| search.number == number) {
                    search.over = Some(searched);
                    if search.chosen == 0 {
                        search.rows.sort_by_cached_key(|row| sort.key(&row.entry));
                    }
                }
            }
            News::Lies(path, Ok(places)) => {
                let bytes = places.iter().flatten().map(|place| place.end - place.start).sum();
                self.said = Some((Mean::Text, vec![format!("● wanted next: {path}, {} in {} places", human(bytes), thousands(places.len() as u64))]));
                self.wanted.extend(places);
            }
            News::Lies(path, Err(why)) => self.said = Some((Mean::Mind, vec![format!("▲ {path}: {why}")])),
            News::Earlier(number, opened) => match opened {
                Ok(opened) => {
                    if let Some(against) = self.against(number) {
                        against.looker = Some(Looker::start(opened));
                    }
                }
                Err(refusal) => self.no_comparison(number, refusal.text),
            },
            News::Compared(number, Ok(compared)) => {
                let said = summed(&compared);
                if let Some(against) = self.against(number) {
                    against.sum = Some(compared);
                    self.said = Some(said);
                }
            }
            News::Compared(number, Err(why)) => self.no_comparison(number, why),
            News::Counted(path, counted) => {
                if let Some(picked) = self.tray.iter_mut().find(|picked| picked.path == path) {
                    picked.total = Some(counted);
                }
            }
        }
    }

    pub(super) fn open_row(&mut self) {
        if self.search.is_some() {
            self.show_in_tree();
            return;
        }
        let Some(row) = self.rows.get_mut(self.chosen) else { return };
        if !row.is_folder() || row.waits {
            return;
        }
        if row.open {
            self.shut_row();
            return;
        }
        (row.open, row.waits) = (true, true);
        let (path, node, depth) = (row.path(), row.entry.node.clone(), row.depth + 1);
        work::list(&self.opened, node, path, depth, self.sort, &self.news.0);
    }

    pub(super) fn shut_row(&mut self) {
        let Some(row) = self.rows.get(self.chosen) else { return };
        if row.open {
            let below = rows::inside(&self.rows, self.chosen);
            self.rows.drain(self.chosen + 1..self.chosen + 1 + below);
            self.rows[self.chosen].open = false;
        } else if let Some(above) = self.rows[..self.chosen].iter().rposition(|other| other.depth < row.depth) {
            self.chosen = above;
        }
    }

    /// From a hit of the search to its place in the tree: the folder it is in is shown open.
    fn show_in_tree(&mut self) {
        let Some(row) = self.row().cloned() else { return };
        if row.is_gone() {
            self.said = Some((Mean::Mind, vec!["▲ it is there only earlier: dig into the earlier drive or image to take it".into()]));
            return;
        }
        self.end_search();
        // The folders on the way are read here; there are few of them.
        let mut parent = String::new();
        for part in row.path().split('/').filter(|part| !part.is_empty()) {
            let path = format!("{parent}/{part}");
            let Some(at) = self.rows.iter().position(|row| row.path() == path) else { break };
            self.chosen = at;
            if path != row.path() && self.rows[at].is_folder() && !self.rows[at].open {
                let (node, depth) = (self.rows[at].entry.node.clone(), self.rows[at].depth + 1);
                let below = rows::rows(self.opened.tree.list(&node), &path, depth, self.sort);
                self.rows[at].open = true;
                self.rows.splice(at + 1..at + 1, below);
            }
            parent = path;
        }
        self.wish(false);
    }

    pub(super) fn end_search(&mut self) {
        if let Some(search) = self.search.take() {
            search.stop.store(true, Ordering::Relaxed);
            if search.against.is_some() {
                self.said = None;
            }
        }
        self.wish(false);
    }

    pub(super) fn begin_search(&mut self, text: String) {
        self.end_search();
        if text.trim().is_empty() {
            return;
        }
        self.searches += 1;
        let stop = Arc::new(AtomicBool::new(false));
        work::search(&self.opened, &text, self.searches, &stop, &self.news.0);
        self.search = Some(Search { text, number: self.searches, rows: Vec::new(), chosen: 0, over: None, stop, against: None });
    }

    /// Lists what is not as it was in an earlier drive or image.
    pub(super) fn compare(&mut self, earlier: &str, bench: &Bench) {
        self.end_search();
        if earlier.is_empty() {
            return;
        }
        self.searches += 1;
        let stop = Arc::new(AtomicBool::new(false));
        work::compare(bench, (earlier, self.choice.number), &self.opened, self.searches, &stop, &self.news.0);
        let (text, against) = (earlier.to_string(), Some(Against::default()));
        self.search = Some(Search { text, number: self.searches, rows: Vec::new(), chosen: 0, over: None, stop, against });
    }

    /// Finds out where the chosen one lies, so that it is read next.
    pub(super) fn want(&mut self) {
        if let Some(row) = self.row() {
            work::lies(&self.opened, row.path(), &self.news.0);
        }
    }

    fn against(&mut self, number: u64) -> Option<&mut Against> {
        self.search.as_mut().filter(|search| search.number == number)?.against.as_mut()
    }

    fn no_comparison(&mut self, number: u64, why: String) {
        if self.against(number).is_some() {
            self.end_search();
            self.said = Some((Mean::Stop, vec![format!("◆ nothing is compared: {why}")]));
        }
    }

    pub(super) fn step(&mut self, by: isize) {
        let (rows, chosen) = self.shown();
        let next = chosen.saturating_add_signed(by).min(rows.len().saturating_sub(1));
        match &mut self.search {
            Some(search) => search.chosen = next,
            None => self.chosen = next,
        }
        self.wish(false);
    }

    pub(super) fn pick(&mut self) {
        let Some(row) = self.row() else { return };
        if row.is_gone() {
            return self.show_in_tree();
        }
        let (path, node) = (row.path(), row.entry.node.clone());
        if let Some(at) = self.tray.iter().position(|picked| picked.path == path) {
            self.tray.remove(at);
        } else if self.is_picked(&path) {
            self.said = Some((Mean::Mind, vec!["▲ the folder it is in lies in the tray already".into()]));
            return;
        } else {
            // A folder takes the place of what was picked inside of it.
            self.tray.retain(|picked| !is_below(&picked.path, &path));
            work::count(&self.opened, path.clone(), node, &self.news.0);
            self.tray.push(Picked { path, total: None });
        }
        self.step(1);
    }

    /// Whether a path, or a folder above it, lies in the tray.
    pub(super) fn is_picked(&self, path: &str) -> bool {
        self.tray.iter().any(|picked| picked.path == path || is_below(path, &picked.path))
    }

    pub(super) fn measure(&mut self) {
        self.free = self.into.as_ref().and_then(|into| badger_people::free(into));
    }

    /// What lies in the tray; `None` while it is being counted.
    pub(super) fn total(&self) -> Option<Counted> {
        self.tray.iter().try_fold(Counted::default(), |all, picked| Some(all.with(picked.total?)))
    }

    pub(super) fn scroll(&mut self, by: isize) {
        if self.mode == Mode::Bytes {
            let size = self.look.as_ref().map_or(0, |look| look.node.size);
            let last = size.saturating_sub(1) / BYTES as u64 * BYTES as u64;
            self.offset = if by < 0 { self.offset.saturating_sub(BYTES as u64) } else { (self.offset + BYTES as u64).min(last) };
            self.wish(false);
        } else {
            self.scroll = self.scroll.saturating_add_signed(by * 10);
        }
    }

    pub(super) fn copy(&mut self, bench: &Bench) -> Option<Entry> {
        if self.tray.is_empty() || self.copying.is_some() {
            return None;
        }
        let Some(into) = self.into.clone() else { return Some(Entry::Into(String::new())) };
        let picks = self.tray.iter().map(|picked| picked.path.clone()).collect();
        self.copying = Some(Copying::start(bench, &self.opened, picks, into, self.collision));
        self.said = None;
        None
    }
}

fn is_below(path: &str, folder: &str) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
}

/// The word of a rule for clashes.
pub(super) fn rule(collision: Collision) -> &'static str {
    match collision {
        Collision::Skip => "skip what is there",
        Collision::KeepBoth => "keep both",
        Collision::ReplaceIfNewer => "replace what is older",
        Collision::Ask => "ask each time",
    }
}

/// What a comparison came to, in lines.
fn summed(compared: &Compared) -> (Mean, Vec<String>) {
    let Compared { same, changed, added, removed, unknown, findings, cut } = compared;
    let [same, changed, added, removed] = [same, changed, added, removed].map(|count| thousands(*count));
    let not = if *unknown > 0 { format!(", {} not compared", thousands(*unknown)) } else { String::new() };
    let mut lines = vec![
        format!("{added} came, {removed} gone, {changed} changed, {same} the same{not}"),
        "compared by names, sizes, times and attributes, not by content".to_string(),
    ];
    lines.extend(cut.map(|why| format!("○ not to its end: {why}")));
    if let Some(finding) = findings.first() {
        let more = if findings.len() > 1 { format!(", and {} more", findings.len() - 1) } else { String::new() };
        lines.push(format!("▲ what lies below was not compared: {}{more}", finding.text));
    }
    (if lines.len() > 2 { Mean::Mind } else { Mean::Text }, lines)
}

/// The end of a copy, in lines.
fn told(outcome: Result<badger_people::Report, Refusal>) -> (Mean, Vec<String>) {
    let report = match outcome {
        Ok(report) => report,
        Err(refusal) => return (Mean::Stop, vec![format!("◆ {}", refusal.text)]),
    };
    let (mark, mean) = outcome_mark(report.outcome);
    let mut lines = vec![format!(
        "{mark} {}  {} files, {}, read back and equal, in {}",
        report.outcome.word(),
        thousands(report.files),
        human(report.bytes),
        span(report.seconds)
    )];
    if !report.reason.is_empty() {
        lines.push(report.reason.clone());
    }
    lines.extend(report.lost.iter().take(2).map(|lost| format!("╳ {}: {}", lost.path, lost.why)));
    if let Some(manifest) = &report.manifest {
        lines.push(format!("checksums {}", manifest.display()));
    }
    (mean, lines)
}

/// The volumes of every drive on the bench that can be walked or are at least recognised; those of one drive come first.
pub fn choices(items: &[Item], first: Option<&Path>) -> Vec<Choice> {
    let mut out = Vec::new();
    for item in items {
        let Some(looked) = &item.looked else { continue };
        for (number, volume) in &looked.volumes {
            let part = looked.table.partitions.iter().find(|partition| partition.number == *number);
            let (_, len) = part.map_or((0, volume.size_bytes), |partition| looked.table.place(partition));
            let name = if volume.label.is_empty() { part.map(|part| part.name.clone()).unwrap_or_default() } else { volume.label.clone() };
            out.push(Choice {
                path: item.path().clone(),
                number: Some(*number),
                drive: item.found.identity.model.clone(),
                name,
                content: volume.kind.word().to_string(),
                len,
                used: volume.used_bytes,
            });
        }
    }
    // The drive that was asked for comes first.
    if let Some(only) = first {
        out.sort_by_key(|choice| choice.path != *only);
    }
    out
}
