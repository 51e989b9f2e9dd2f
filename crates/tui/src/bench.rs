//! The bench: one block of three lines for every drive, the chosen one with its drawer open, and the jobs beside.

use crate::draw::{bar, cut, inset, loud, pad, pad_left, print, print_right, ribbon, say, wrap};
use crate::job::{Listed, OpenJobs};
use crate::message::{Hit, Hits, Message};
use crate::step::{STEPS, Step};
use crate::theme::Mean;
use badger_bench::Bench;
use badger_bench::ledger::now;
use badger_bench::shelf::{Item, Shelf};
use badger_drive::health::State;
use badger_drive::size::{human, span, thousands};
use badger_inspect::Level;
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::Span;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Width of the column of jobs, and the width of the screen from which on it is there.
const JOBS: u16 = 38;
const WIDE: u16 = 112;
/// How long a drive is marked as just in.
pub(crate) const JUST_IN: Duration = Duration::from_secs(60);

/// The shelf as it is shown, and what is marked on it.
#[derive(Default)]
pub struct BenchView {
    /// The drives, the latest first.
    pub items: Vec<Item>,
    /// The chosen one.
    pub chosen: usize,
    /// Whether its drawer is open.
    pub drawer: bool,
    /// Marked as source and target.
    pub source: Option<PathBuf>,
    /// Marked as target.
    pub target: Option<PathBuf>,
    /// The name of what is to be brought, while it is typed.
    pub bringing: Option<String>,
    /// Chosen as soon as it is there.
    pub wanted: Option<PathBuf>,
}

impl BenchView {
    /// Takes in the drives that are there; the choice stays with its drive when others come and go.
    pub fn fill(&mut self, items: Vec<Item>) {
        let path = self.items.get(self.chosen).map(|item| item.path().clone());
        self.items = items;
        self.chosen = path.and_then(|path| self.place_of(&path)).unwrap_or(0);
        if let Some(at) = self.wanted.as_ref().and_then(|path| self.place_of(path)) {
            (self.chosen, self.wanted) = (at, None);
        }
    }

    /// Where a drive stands.
    pub fn place_of(&self, path: &Path) -> Option<usize> {
        self.items.iter().position(|item| item.path() == path)
    }

    /// Takes a key.
    pub fn key(&mut self, code: KeyCode, shelf: &Shelf, bench: &Bench) -> Option<Message> {
        let last = self.items.len().saturating_sub(1);
        let path = self.items.get(self.chosen).map(|item| item.path().clone());
        if let Some(mut typed) = self.bringing.take() {
            match code {
                KeyCode::Enter => return Some(typed.trim()).filter(|typed| !typed.is_empty()).map(|typed| Message::Bring(typed.into())),
                KeyCode::Esc => return None,
                KeyCode::Backspace => _ = typed.pop(),
                KeyCode::Char(c) => typed.push(c),
                _ => {}
            }
            self.bringing = Some(typed);
            return None;
        }
        match code {
            KeyCode::Down => self.chosen = (self.chosen + 1).min(last),
            KeyCode::Up => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Home => self.chosen = 0,
            KeyCode::End => self.chosen = last,
            KeyCode::Enter => self.drawer = !self.drawer,
            KeyCode::Char('s') => {
                self.source = if self.source == path { None } else { path };
                if self.target == self.source {
                    self.target = None;
                }
            }
            KeyCode::Char('t') => {
                if let Some(item) = self.items.get(self.chosen).filter(|item| item.found.system) {
                    let text = format!("{} carries the system this machine runs from; it is never a target", item.found.identity.model);
                    return Some(Message::Say(Mean::Stop, text));
                }
                self.target = if self.target == path { None } else { path };
                if self.source == self.target {
                    self.source = None;
                }
            }
            KeyCode::Char('d') => return path.map(Message::Dig),
            KeyCode::Char('i') => return self.source.clone().or(path).map(Message::Keep),
            KeyCode::Char('v') => return self.source.clone().or(path).map(Message::Salvage),
            KeyCode::Char('o') => self.bringing = Some(String::new()),
            KeyCode::Char('x') if path.as_ref().is_some_and(|path| shelf.is_brought(path)) => {
                path.iter().for_each(|path| shelf.take_away(path));
            }
            KeyCode::Char('h') => {
                if let Some(item) = self.items.get(self.chosen) {
                    shelf.check_up(bench, &item.found);
                    self.drawer = true;
                }
            }
            KeyCode::Char('j') => return Some(Message::NewJob),
            KeyCode::Esc if self.drawer => self.drawer = false,
            KeyCode::Esc => (self.source, self.target) = (None, None),
            _ => {}
        }
        None
    }

    /// The keys at the bottom.
    pub fn hints(&self) -> Vec<(&'static str, &'static str)> {
        let mut hints = vec![
            ("s", "source"),
            ("t", "target"),
            ("Enter", if self.drawer { "shut" } else { "open" }),
            ("d", "dig"),
            ("h", "health"),
            ("i", "image"),
            ("v", "salvage"),
            ("o", "open a file"),
        ];
        // A drive that fails is offered it first.
        if self.items.get(self.chosen).is_some_and(|item| how(item) == State::Failing) {
            hints.retain(|(key, _)| *key != "v");
            hints.insert(0, ("v", "it fails: salvage it"));
        }
        if self.source.is_some() && self.target.is_some() {
            hints.insert(0, ("j", "make the job"));
        } else {
            hints.push(("j", "new job"));
        }
        hints
    }

    /// Draws the bench; `looking` while drives are still looked for.
    pub fn draw(&self, jobs: &OpenJobs, looking: bool, frame: &mut Frame, body: Rect, hits: &mut Hits) {
        let shown = Shown { bench: self, jobs };
        let wide = body.width >= WIDE;
        let listed = jobs.listed();
        let strip = if wide || listed.is_empty() { 0 } else { 3 };
        let shelf = Rect { width: if wide { body.width - JOBS } else { body.width }, height: body.height - strip, ..body };
        draw_shelf(&shown, looking, frame, inset(shelf, 1), hits);
        if wide {
            let buf = frame.buffer_mut();
            (body.y..body.bottom()).for_each(|y| print(buf, shelf.right(), y, 1, vec![say(Mean::Quiet, "│")]));
            let column = Rect { x: shelf.right() + 2, width: JOBS - 3, ..body };
            draw_jobs(jobs, frame, column, &listed, 4, hits);
        } else if strip > 0 {
            let low = Rect { y: body.bottom() - strip, height: strip, ..body };
            crate::draw::rule(frame.buffer_mut(), low, low.y);
            draw_job_lines(jobs, frame, inset(Rect { y: low.y + 1, height: strip - 1, ..low }, 1), &listed, hits);
        }
        if let Some(typed) = &self.bringing {
            let lines = vec![
                vec![loud(Mean::Text, "An image, a raw file, or a drive that another bench lends (nbd://HOST/NAME)")],
                vec![loud(Mean::Focus, "▸ "), loud(Mean::Text, typed.clone()), loud(Mean::Focus, "▏")],
                vec![say(Mean::Quiet, "Enter puts it on the shelf · x takes it away again · Esc leaves it")],
            ];
            crate::draw::sheet(frame, body, 84, lines);
        }
    }
}

/// What the shelf is drawn of.
struct Shown<'a> {
    bench: &'a BenchView,
    jobs: &'a OpenJobs,
}

fn draw_shelf(shown: &Shown, looking: bool, frame: &mut Frame, area: Rect, hits: &mut Hits) {
    let (count, chosen) = (shown.bench.items.len(), shown.bench.chosen);
    let title = match count {
        0 if looking => "looking for drives ...".to_string(),
        0 => "no drives attached: plug one in, it shows here within a second".to_string(),
        1 => "On the bench · 1 drive".to_string(),
        count => format!("On the bench · {count} drives"),
    };
    print(frame.buffer_mut(), area.x, area.y, area.width, vec![say(Mean::Quiet, title)]);
    let area = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    let blocks: Vec<Vec<Row>> = (0..count).map(|at| block(shown, at, area.width - 3)).collect();
    // The chosen block is always whole on the screen.
    let height = |block: &[Row]| block.len() as u16 + 1;
    let mut first = 0;
    while first < chosen && blocks[first..=chosen].iter().map(|block| height(block)).sum::<u16>() > area.height + 1 {
        first += 1;
    }
    let mut y = area.y;
    for (at, block) in blocks.into_iter().enumerate().skip(first) {
        if y + 3 > area.bottom() {
            let more = format!("↓ {} more", count - at);
            print_right(frame.buffer_mut(), area, area.bottom() - 1, vec![say(Mean::Quiet, more)]);
            break;
        }
        let top = y;
        for row in block {
            if y >= area.bottom() {
                break;
            }
            draw_row(shown, frame.buffer_mut(), area, y, at, row);
            y += 1;
        }
        hits.push((Rect { y: top, height: y - top, ..area }, Hit::Drive(at)));
        y += 1;
    }
}

/// A line of a block.
enum Row {
    Spans(Vec<Span<'static>>, Vec<Span<'static>>),
    Ribbon,
}

fn draw_row(shown: &Shown, buf: &mut Buffer, area: Rect, y: u16, at: usize, row: Row) {
    let chosen = at == shown.bench.chosen;
    if chosen {
        print(buf, area.x, y, 1, vec![loud(Mean::Focus, "▌")]);
    }
    let inner = Rect { x: area.x + 2, width: area.width - 2, y, height: 1 };
    match row {
        Row::Spans(left, right) => {
            let wide: usize = right.iter().map(Span::width).sum();
            print(buf, inner.x, y, inner.width.saturating_sub(wide as u16 + 1), left);
            print_right(buf, inner, y, right);
        }
        Row::Ribbon => {
            let item = &shown.bench.items[at];
            let mean = role(shown, item).map_or(Mean::Source, |(_, mean, _)| mean);
            let width = ribbon::length(item.ribbon.size, inner.width);
            let empty_unknown = item.looked.is_none() && item.trouble.is_none();
            if empty_unknown {
                print(buf, inner.x, y, width, vec![say(Mean::Quiet, format!("┊{}┊", pad(" looking ...", usize::from(width) - 2)))]);
            } else {
                ribbon::draw(buf, inner.x, y, width, &item.ribbon, ribbon::Look { mean, chosen: None });
            }
        }
    }
}

/// What is being done with a drive: mark, colour, word.
fn role(shown: &Shown, item: &Item) -> Option<(&'static str, Mean, String)> {
    let path = item.path();
    let live = shown.jobs.live_on(path);
    if shown.bench.source.as_ref() == Some(path) {
        return Some(("◂", Mean::Source, "source".into()));
    }
    if shown.bench.target.as_ref() == Some(path) {
        return Some(("▸", Mean::Target, "target".into()));
    }
    live.map(|job| {
        let source = job.order.source == *path;
        let (mark, mean, word) = if source { ("◂", Mean::Source, "source") } else { ("▸", Mean::Target, "target") };
        (mark, mean, format!("{word} of {}", job.name()))
    })
}

fn ago(seconds: i64) -> String {
    let gone = (now() - seconds).max(0);
    if gone < 60 { "just now".into() } else { format!("{} ago", span(gone as f64)) }
}

/// What the ledger knows, or that the drive has just come.
fn known(shown: &Shown, item: &Item) -> Vec<Span<'static>> {
    if let Some((mark, mean, word)) = role(shown, item) {
        return vec![loud(mean, format!("{mark} {word}"))];
    }
    if !item.from_start && item.since.elapsed() < JUST_IN {
        return vec![loud(Mean::Focus, format!("◇ just in · {} s", item.since.elapsed().as_secs()))];
    }
    match &item.job {
        Some(job) => {
            let word = if job.source_key == item.found.key() { "source" } else { "target" };
            let name = if job.ticket.is_empty() { format!("job {}", job.id) } else { job.ticket.clone() };
            vec![say(Mean::Quiet, format!("{word} of {name}, {}", ago(job.started.unwrap_or(job.created))))]
        }
        None => Vec::new(),
    }
}

/// The one thing to know.
fn thing(shown: &Shown, item: &Item) -> Vec<Span<'static>> {
    let path = item.path();
    if let Some(job) = shown.jobs.running_on(path) {
        let (share, text) = job.progress_text();
        let (done, rest) = bar(share, 24);
        return vec![say(Mean::Good, done), say(Mean::Quiet, rest), say(Mean::Text, format!(" {text}"))];
    }
    if item.found.system {
        return vec![loud(Mean::Stop, "◆ "), say(Mean::Text, "this machine runs from it; it is never a target")];
    }
    if let Some(trouble) = &item.trouble {
        return vec![loud(Mean::Stop, "◆ "), say(Mean::Text, trouble.clone())];
    }
    if item.looked.is_none() {
        return vec![say(Mean::Quiet, "○ being looked at")];
    }
    match item.worst() {
        Some(hazard) if hazard.level == Level::Stop => vec![loud(Mean::Stop, "◆ "), say(Mean::Text, hazard.text.clone())],
        _ if how(item) == State::Failing => vec![loud(Mean::Stop, "◆ "), say(Mean::Text, health_text(item))],
        Some(hazard) => vec![loud(Mean::Mind, "▲ "), say(Mean::Text, hazard.text.clone())],
        None if how(item) == State::Worn => vec![loud(Mean::Mind, "▲ "), say(Mean::Text, health_text(item))],
        None if read_with_holes(item) => vec![loud(Mean::Lost, "╳ "), say(Mean::Text, "did not read everywhere in its last job")],
        // The strip says what was seen of it where it has parts of its own to show.
        None if !item.ribbon.said.is_empty() && !item.ribbon.parts.is_empty() => vec![say(Mean::Text, format!("◇ {}", item.ribbon.said))],
        None if item.ribbon.parts.is_empty() && item.new => vec![say(Mean::Text, "◇ never seen here before")],
        None if item.ribbon.parts.is_empty() => vec![say(Mean::Text, "◇ nothing is known of it")],
        None => match item.ribbon.parts.iter().find(|part| is_full(part)) {
            Some(part) => {
                vec![loud(Mean::Mind, "▲ "), say(Mean::Text, format!("{} is full: {} free", part.name, human(part.len - part.used.unwrap_or(0))))]
            }
            None => vec![say(Mean::Good, "● "), say(Mean::Text, "nothing against it")],
        },
    }
}

/// What the drive's own account of its health comes to.
fn how(item: &Item) -> State {
    item.checkup.as_ref().map_or(State::Unknown, |checkup| checkup.health.state)
}

fn health_text(item: &Item) -> String {
    item.checkup.as_ref().map_or_else(|| "being asked".into(), |checkup| checkup.health.text.clone())
}

/// Whether the drive could not be read everywhere in its last job.
fn read_with_holes(item: &Item) -> bool {
    item.job.as_ref().is_some_and(|job| job.source_key == item.found.key() && job.outcome.as_deref() == Some("incomplete"))
}

/// Whether a volume large enough to matter has nearly no room left.
fn is_full(part: &badger_bench::ribbon::Part) -> bool {
    part.len > 4_000_000_000 && part.used.is_some_and(|used| used <= part.len && used as f64 > part.len as f64 * 0.95)
}

fn block(shown: &Shown, at: usize, width: u16) -> Vec<Row> {
    let item = &shown.bench.items[at];
    let identity = &item.found.identity;
    let name = if at == shown.bench.chosen { loud(Mean::Focus, pad(&identity.model, 18)) } else { loud(Mean::Text, pad(&identity.model, 18)) };
    let size = pad_left(&human(item.found.geometry.size_bytes), 8);
    let serial = if identity.serial.is_empty() { "no serial".to_string() } else { identity.serial.clone() };
    let mut first = vec![name, say(Mean::Text, format!(" {} ", pad(&serial, if width < 90 { 15 } else { 18 }))), loud(Mean::Text, size)];
    let turning = if identity.rotational == Some(true) { ", rotating" } else { "" };
    first.push(say(Mean::Quiet, format!("  {}{turning}", identity.bus.word())));
    let mut rows = vec![Row::Spans(first, known(shown, item)), Row::Ribbon, Row::Spans(thing(shown, item), Vec::new())];
    if at == shown.bench.chosen && shown.bench.drawer {
        rows.extend(drawer(item, usize::from(width)).into_iter().map(|spans| Row::Spans(spans, Vec::new())));
    }
    rows
}

/// Parts in lines, divided by dots; none is broken that has room in a line of its own.
fn listed<'a>(parts: impl Iterator<Item = &'a str>, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for part in parts.flat_map(|part| wrap(part, width)) {
        match lines.last_mut() {
            Some(line) if line.chars().count() + 3 + part.chars().count() <= width => line.extend([" · ", &part]),
            _ => lines.push(part),
        }
    }
    lines
}

/// A name and what it says, in the drawer.
fn field(name: &str, text: &str, width: usize) -> Vec<Span<'static>> {
    vec![say(Mean::Quiet, format!("    {} ", pad(name, 7))), say(Mean::Text, cut(text, width.saturating_sub(12)))]
}

/// How the drive is, what grew since it was here before, and its numbers.
fn health_lines(item: &Item, width: usize) -> Vec<Vec<Span<'static>>> {
    let (mark, mean) = match how(item) {
        State::Failing => ("◆ ", Mean::Stop),
        State::Worn => ("▲ ", Mean::Mind),
        State::Good => ("● ", Mean::Good),
        State::Unknown => ("○ ", Mean::Quiet),
    };
    let (mut out, room) = (Vec::new(), width.saturating_sub(14));
    for (line, text) in listed(health_text(item).split(" · "), room).into_iter().enumerate() {
        let mut spans = field(if line == 0 { "health" } else { "" }, "", width);
        spans.extend([say(mean, if line == 0 { mark } else { "  " }), say(Mean::Text, text)]);
        out.push(spans);
    }
    if let Some(checkup) = &item.checkup {
        let numbers: Vec<String> = checkup.health.facts.lines().into_iter().map(|(name, value)| format!("{name}: {value}")).collect();
        let grown = (!checkup.grown.is_empty()).then(|| (Mean::Mind, checkup.grown.clone()));
        let lines = listed(numbers.iter().map(String::as_str), room).into_iter().map(|text| (Mean::Quiet, text));
        out.extend(grown.into_iter().chain(lines).map(|(mean, text)| vec![say(mean, format!("    {} {}", pad("", 9), cut(&text, room)))]));
    }
    out
}

/// What the drawer of a drive shows.
fn drawer(item: &Item, width: usize) -> Vec<Vec<Span<'static>>> {
    let mut out = Vec::new();
    let (identity, geometry) = (&item.found.identity, item.found.geometry);
    let count = item.ribbon.parts.len();
    for (at, part) in item.ribbon.parts.iter().enumerate() {
        let knot = if at + 1 == count { "└" } else { "├" };
        let mut spans = vec![
            say(Mean::Quiet, format!("  {knot} ")),
            say(
                Mean::Text,
                format!(
                    "{} {} {} {}",
                    pad_left(&part.number.to_string(), 2),
                    pad(&part.name, 18),
                    pad(&part.content, 9),
                    pad_left(&human(part.len), 8)
                ),
            ),
        ];
        if let Some(used) = part.used {
            let share = used as f64 / part.len.max(1) as f64;
            let full = (share * 10.0).round() as usize;
            spans.push(say(Mean::Text, format!("  {} used ", pad_left(&human(used), 8))));
            spans.push(say(if share > 0.95 { Mean::Mind } else { Mean::Source }, "▇".repeat(full.min(10))));
            spans.push(say(Mean::Quiet, "▁".repeat(10 - full.min(10))));
            spans.push(say(Mean::Quiet, format!(" {:>3.0} %", share * 100.0)));
        }
        out.push(spans);
    }
    let field = |name: &str, text: String| field(name, &text, width);
    let firmware = if identity.firmware.is_empty() { String::new() } else { format!(", firmware {}", identity.firmware) };
    out.push(field(
        "who",
        match &identity.adapter {
            Some(adapter) => format!("box says \"{adapter}\", the drive behind it says {}{firmware}", identity.model),
            None => format!("says {}{firmware}", identity.model),
        },
    ));
    out.extend(health_lines(item, width));
    let sectors = format!("{} sectors of {} bytes, {} physical", thousands(geometry.sectors()), geometry.logical_sector, geometry.physical_sector);
    out.push(field("size", sectors));
    if let Some(looked) = &item.looked {
        let id = if looked.table.disk_id.is_empty() { String::new() } else { format!(", {}", looked.table.disk_id) };
        let sound = if looked.table.is_sound() { "" } else { ", damaged" };
        out.push(field("table", format!("{}{sound}{id}", looked.table.kind.word())));
    }
    out.push(field("tail", format!("{} releases it as a target", identity.tail())));
    out.push(field("at", identity.path.display().to_string()));
    for used in &item.found.uses {
        out.push(field("used", used.to_string()));
    }
    for hazard in item.hazards.iter().skip(1) {
        let mark = if hazard.level == Level::Stop {
            "◆"
        } else if hazard.level == Level::Mind {
            "▲"
        } else {
            "·"
        };
        for (line, text) in wrap(&hazard.text, width.saturating_sub(8)).into_iter().enumerate() {
            out.push(vec![say(Mean::Mind, format!("    {} ", if line == 0 { mark } else { " " })), say(Mean::Text, text)]);
        }
    }
    out
}

/// The five steps as a row of marks.
fn marks(reached: impl Fn(Step) -> (&'static str, Mean)) -> Vec<Span<'static>> {
    let short = ["Look", "Plan", "Run", "Prove", "Hand"];
    let mut spans = Vec::new();
    for (step, name) in STEPS.iter().zip(short) {
        let (mark, mean) = reached(*step);
        spans.push(say(Mean::Quiet, format!("{name} ")));
        spans.push(say(mean, format!("{mark} ")));
    }
    spans
}

fn job_rows(jobs: &OpenJobs, listed: &Listed) -> Vec<Vec<Span<'static>>> {
    match listed {
        Listed::Open(at) => {
            let job = &jobs.list[*at];
            let name = if *at == jobs.current { loud(Mean::Focus, job.name()) } else { loud(Mean::Text, job.name()) };
            let mut rows = vec![vec![name, say(Mean::Text, format!("  {}", job.customer()))], marks(|step| job.mark(step))];
            if job.is_running() {
                let (share, text) = job.progress_text();
                let (done, rest) = bar(share, 12);
                rows.push(vec![say(Mean::Good, done), say(Mean::Quiet, rest), say(Mean::Text, format!(" {text}"))]);
            } else {
                rows.push(vec![job.state_text()]);
            }
            rows
        }
        Listed::Past(row) => {
            let name = if row.ticket.is_empty() { format!("job {}", row.id) } else { row.ticket.clone() };
            let (mark, mean, word) = crate::ledger::outcome(row);
            let over = matches!(row.outcome.as_deref(), Some("proved" | "incomplete" | "finished"));
            let handed = row.handed_over.is_some();
            let steps = |step: Step| match step {
                Step::Look | Step::Plan => ("●", Mean::Good),
                Step::Run => {
                    if over {
                        ("●", Mean::Good)
                    } else {
                        ("◐", Mean::Focus)
                    }
                }
                Step::Prove => {
                    if over {
                        (mark, mean)
                    } else {
                        ("○", Mean::Quiet)
                    }
                }
                Step::Hand => {
                    if handed {
                        ("●", Mean::Good)
                    } else {
                        ("○", Mean::Quiet)
                    }
                }
            };
            let what = if over { format!("{word}, {}", ago(row.ended.unwrap_or(row.created))) } else { format!("{word}, can go on: open it") };
            vec![vec![loud(Mean::Text, name), say(Mean::Quiet, format!("  {}", row.customer))], marks(steps), vec![say(Mean::Quiet, what)]]
        }
    }
}

fn draw_jobs(jobs: &OpenJobs, frame: &mut Frame, area: Rect, listed: &[Listed], height: u16, hits: &mut Hits) {
    let buf = frame.buffer_mut();
    print(buf, area.x, area.y, area.width, vec![say(Mean::Quiet, "Jobs")]);
    if listed.is_empty() {
        for (text, y) in wrap("none yet: mark a source with s, a target with t, then press j", usize::from(area.width)).into_iter().zip(area.y + 2..)
        {
            print(buf, area.x, y, area.width, vec![say(Mean::Quiet, text)]);
        }
    }
    for (at, job) in listed.iter().enumerate() {
        let y = area.y + 2 + at as u16 * height;
        if y + 3 > area.bottom() {
            break;
        }
        for (line, spans) in job_rows(jobs, job).into_iter().enumerate() {
            print(frame.buffer_mut(), area.x, y + line as u16, area.width, spans);
        }
        hits.push((Rect { y, height: 3, ..area }, Hit::Job(at)));
    }
}

fn draw_job_lines(jobs: &OpenJobs, frame: &mut Frame, area: Rect, listed: &[Listed], hits: &mut Hits) {
    for (at, job) in listed.iter().enumerate().take(usize::from(area.height)) {
        let mut rows = job_rows(jobs, job);
        let state = rows.remove(2);
        let name = rows.remove(0);
        let y = area.y + at as u16;
        print(frame.buffer_mut(), area.x, y, 34, name);
        print(frame.buffer_mut(), area.x + 35, y, area.width.saturating_sub(35), state);
        hits.push((Rect { y, height: 1, ..area }, Hit::Job(at)));
    }
}
