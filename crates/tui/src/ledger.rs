//! The ledger: past jobs and drives, findable by serial, ticket, customer, date.

use crate::draw::{cut, inset, loud, pad, pad_left, print, print_right, say};
use crate::message::{Hit, Hits, Message, Place};
use crate::past::{self, Past};
use crate::theme::Mean;
use badger_bench::ledger::{DriveRow, JobRow, day, written};
use badger_drive::size::human;
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;

/// What is shown, and how it is searched.
#[derive(Default)]
pub struct LedgerView {
    jobs: Vec<JobRow>,
    drives: Vec<DriveRow>,
    show_drives: bool,
    chosen: usize,
    filter: String,
    typing: bool,
    past: Option<Past>,
}

/// From this height on the chosen job is shown below the list.
const HIGH: u16 = 30;

/// The short name out of a drive's key.
fn model(key: &str) -> &str {
    let first = key.split('|').next().unwrap_or(key);
    if first == "file" { key.split('|').nth(1).and_then(|path| path.rsplit('/').next()).unwrap_or(key) } else { first }
}

/// The mark, meaning and word of an outcome.
pub fn outcome(row: &JobRow) -> (&'static str, Mean, String) {
    match row.outcome.as_deref() {
        Some("proved") => ("●", Mean::Good, "proved".into()),
        Some("interrupted") => ("◐", Mean::Mind, "interrupted".into()),
        Some("incomplete") => ("╳", Mean::Lost, "incomplete".into()),
        Some("finished") => ("◆", Mean::Stop, "not proved".into()),
        Some(other) => ("○", Mean::Quiet, other.into()),
        None if row.started.is_some() => ("◐", Mean::Mind, "unfinished".into()),
        None => ("○", Mean::Quiet, "planned".into()),
    }
}

impl LedgerView {
    /// Takes in what the ledger holds.
    pub fn fill(&mut self, jobs: Vec<JobRow>, drives: Vec<DriveRow>) {
        (self.jobs, self.drives, self.past) = (jobs, drives, None);
    }

    /// The job that is chosen, where it is not the one that is shown.
    pub fn wanted(&self) -> Option<i64> {
        let chosen = if self.show_drives { None } else { self.shown_jobs().get(self.chosen).map(|row| row.id) }?;
        self.past.as_ref().is_none_or(|past| past.job != chosen).then_some(chosen)
    }

    /// Takes in what there is of the chosen job.
    pub fn show(&mut self, past: Past) {
        self.past = Some(past);
    }

    /// Whether letters go into the field.
    pub fn is_typing(&self) -> bool {
        self.typing
    }

    /// Chooses a line.
    pub fn choose(&mut self, at: usize) {
        self.chosen = at;
    }

    fn found(&self, text: &str) -> bool {
        let text = text.to_lowercase();
        self.filter.to_lowercase().split_whitespace().all(|word| text.contains(word))
    }

    fn shown_jobs(&self) -> Vec<&JobRow> {
        let text = |row: &JobRow| {
            format!("{} {} {} {} {} {} {}", row.id, row.ticket, row.customer, row.source_key, row.target_key, day(row.created), outcome(row).2)
        };
        self.jobs.iter().filter(|row| self.found(&text(row))).collect()
    }

    fn shown_drives(&self) -> Vec<&DriveRow> {
        self.drives.iter().filter(|row| self.found(&format!("{} {} {}", row.model, row.serial, day(row.last_seen)))).collect()
    }

    fn count(&self) -> usize {
        if self.show_drives { self.shown_drives().len() } else { self.shown_jobs().len() }
    }
}

/// Takes a key of the ledger.
pub fn key(view: &mut LedgerView, code: KeyCode) -> Option<Message> {
    if view.typing {
        match code {
            KeyCode::Enter => view.typing = false,
            KeyCode::Esc => {
                view.typing = false;
                view.filter.clear();
            }
            KeyCode::Backspace => {
                view.filter.pop();
            }
            KeyCode::Char(c) => view.filter.push(c),
            _ => {}
        }
        view.chosen = 0;
        return None;
    }
    match code {
        KeyCode::Down => view.chosen = (view.chosen + 1).min(view.count().saturating_sub(1)),
        KeyCode::Up => view.chosen = view.chosen.saturating_sub(1),
        KeyCode::Left | KeyCode::Right => {
            view.show_drives = !view.show_drives;
            view.chosen = 0;
        }
        KeyCode::Char('f') => view.typing = true,
        KeyCode::Esc if !view.filter.is_empty() => view.filter.clear(),
        KeyCode::Esc => return Some(Message::Go(Place::Bench)),
        KeyCode::Enter if !view.show_drives => {
            return view.shown_jobs().get(view.chosen).map(|row| Message::OpenPast(Box::new((*row).clone())));
        }
        KeyCode::Enter => {
            if let Some(serial) = view.shown_drives().get(view.chosen).map(|row| row.serial.clone()).filter(|serial| !serial.is_empty()) {
                (view.filter, view.show_drives, view.chosen) = (serial, false, 0);
            }
        }
        _ => {}
    }
    None
}

/// The keys at the bottom.
pub fn hints(view: &LedgerView) -> Vec<(&'static str, &'static str)> {
    if view.typing {
        return vec![("Enter", "keep"), ("Esc", "show all")];
    }
    let enter = if view.show_drives { "its jobs" } else { "open" };
    vec![("↑↓", "choose"), ("Enter", enter), ("←→", "jobs, drives"), ("f", "find here")]
}

/// Draws the ledger.
pub fn draw(view: &LedgerView, frame: &mut Frame, body: Rect, hits: &mut Hits) {
    let area = inset(body, 1);
    let buf = frame.buffer_mut();
    let head = |on: bool, text: String| if on { loud(Mean::Focus, text) } else { say(Mean::Quiet, text) };
    let heads = vec![
        head(!view.show_drives, format!("Jobs {}", view.jobs.len())),
        say(Mean::Quiet, "   "),
        head(view.show_drives, format!("Drives {}", view.drives.len())),
    ];
    print(buf, area.x, area.y, area.width, heads);
    if view.typing || !view.filter.is_empty() {
        let cursor = if view.typing { "▏" } else { "" };
        print_right(buf, area, area.y, vec![say(Mean::Quiet, "find "), loud(Mean::Text, view.filter.clone()), loud(Mean::Focus, cursor)]);
    }
    let row = if view.show_drives { None } else { view.shown_jobs().get(view.chosen).copied() };
    let past = view.past.as_ref().zip(row).filter(|(past, row)| past.job == row.id && area.height >= HIGH);
    // The list has a third where the chosen job is shown, less where it is short.
    let rows = usize::from(area.height.saturating_sub(4));
    let rows = if past.is_some() { rows.min((usize::from(area.height) / 3).clamp(3, view.count().max(3))) } else { rows };
    let skip = view.chosen.saturating_sub(rows.saturating_sub(1));
    let wide = area.width >= 110;
    let y = area.y + 2;
    if view.show_drives {
        let name = if wide { 30 } else { 22 };
        let title = format!("  {} {} {}  {}  {}", pad("drive", name), pad("serial", 20), pad_left("size", 8), pad("first seen", 16), "last seen");
        print(buf, area.x, y, area.width, vec![say(Mean::Quiet, title)]);
        for (line, row) in view.shown_drives().iter().enumerate().skip(skip).take(rows) {
            let at = y + 1 + (line - skip) as u16;
            let chosen = line == view.chosen;
            let text = format!(
                "{} {} {}  {}  {}",
                pad(&row.model, name),
                pad(&row.serial, 20),
                pad_left(&human(row.size_bytes), 8),
                pad(&written(row.first_seen), 16),
                written(row.last_seen)
            );
            print(buf, area.x, at, area.width, line_of(chosen, vec![say(Mean::Text, text)]));
            hits.push((Rect { y: at, height: 1, ..area }, Hit::Line(line)));
        }
    } else {
        let (customer, pair) = if wide { (34, 36) } else { (20, 22) };
        let title = format!("  {} {} {} {} {}", pad_left("job", 4), pad("ticket", 9), pad("customer", customer), pad("drives", pair), "outcome");
        print(buf, area.x, y, area.width, vec![say(Mean::Quiet, title)]);
        for (line, row) in view.shown_jobs().iter().enumerate().skip(skip).take(rows) {
            let at = y + 1 + (line - skip) as u16;
            let (mark, mean, word) = outcome(row);
            let drives = cut(&format!("{} → {}", model(&row.source_key), model(&row.target_key)), pair);
            let ticket = if row.ticket.is_empty() { "-" } else { &row.ticket };
            let mut spans = vec![
                say(
                    Mean::Text,
                    format!("{} {} {} {} ", pad_left(&row.id.to_string(), 4), pad(ticket, 9), pad(&row.customer, customer), pad(&drives, pair)),
                ),
                say(mean, format!("{mark} {}", pad(&word, 12))),
            ];
            if wide {
                let kept = row.keep_until.map(|until| format!("  kept until {}", day(until))).unwrap_or_default();
                spans.push(say(Mean::Quiet, format!(" {}{kept}", day(row.created))));
            }
            print(buf, area.x, at, area.width, line_of(line == view.chosen, spans));
            hits.push((Rect { y: at, height: 1, ..area }, Hit::Line(line)));
        }
    }
    if let Some((past, row)) = past {
        let y = y + rows as u16 + 2;
        past::draw(past, row, &view.jobs, frame, Rect { y, height: area.bottom().saturating_sub(y), ..area });
    }
    if view.count() == 0 {
        let why = if view.filter.is_empty() { "nothing yet: jobs and drives are noted as they come" } else { "nothing by that name; Esc shows all" };
        print(frame.buffer_mut(), area.x + 2, y + 2, area.width, vec![say(Mean::Quiet, why)]);
    }
}

fn line_of(chosen: bool, mut spans: Vec<ratatui::text::Span<'static>>) -> Vec<ratatui::text::Span<'static>> {
    spans.insert(0, loud(Mean::Focus, if chosen { "▌ " } else { "  " }));
    spans
}
