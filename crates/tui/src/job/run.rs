//! Run: the surface fills the screen; beside it what is saved, how fast, how long still.

use super::view::{Entry, JobView};
use crate::draw::{chart, loud, pad, pad_left, print, print_right, say, surface};
use crate::message::{Hit, Hits};
use crate::running::Progress;
use crate::theme::Mean;
use badger_bench::Bench;
use badger_drive::size::{human, span, thousands};
use badger_transfer::Phase;
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::Span;

/// Factors that sample drives can be hurried by, one after the other.
const HURRY: [u32; 4] = [1, 10, 60, 600];

impl JobView {
    pub(super) fn run_key(&mut self, code: KeyCode, bench: &Bench) {
        let Some(running) = &self.running else { return };
        let (width, height) = (usize::from(self.field.0.max(1)), usize::from(self.field.1.max(1)));
        let last = width * height - 1;
        let cursor = self.cursor.unwrap_or_else(|| {
            let size = self.ground().map_or(1, |ground| ground.size.max(1));
            let head = running.look(|progress| progress.head.unwrap_or(0));
            (u128::from(head) * (last as u128 + 1) / u128::from(size)) as usize
        });
        let control = &running.control;
        match code {
            KeyCode::Char(' ') if control.is_paused() => control.resume(),
            KeyCode::Char(' ') => control.pause(),
            KeyCode::Char('x') => self.entry = Some(Entry::Stop),
            KeyCode::Char('l') => self.entry = Some(Entry::Rate(String::new())),
            KeyCode::Char('h') if bench.workshop.shelf.is_some() => {
                let at = HURRY.iter().position(|factor| *factor == bench.workshop.clock.factor()).unwrap_or(0);
                bench.workshop.clock.hurry(HURRY[(at + 1) % HURRY.len()]);
            }
            KeyCode::Left => self.cursor = Some(cursor.saturating_sub(1)),
            KeyCode::Right => self.cursor = Some((cursor + 1).min(last)),
            KeyCode::Up => self.cursor = Some(if cursor >= width { cursor - width } else { cursor }),
            KeyCode::Down => self.cursor = Some(if cursor + width <= last { cursor + width } else { cursor }),
            KeyCode::Home => self.cursor = None,
            _ => {}
        }
    }
}

/// Draws the step.
pub fn draw(job: &mut JobView, frame: &mut Frame, area: Rect, hurry: u32, hits: &mut Hits) -> Vec<(Rect, usize)> {
    let (Some(running), Some(ground)) = (&job.running, job.ground()) else {
        print(frame.buffer_mut(), area.x, area.y, area.width, vec![say(Mean::Quiet, "○ nothing runs")]);
        return Vec::new();
    };
    let wide = area.width >= 84;
    let beside = if wide { 29 } else { 0 };
    let above = if wide { 0 } else { 4 };
    let chart_lines = if area.height >= 26 { 5 } else { 2 };
    let below = chart_lines + 3;
    let field = Rect { y: area.y + above, width: area.width - beside, height: area.height.saturating_sub(above + below).max(3), ..area };
    let size = ground.size;
    let state = State { paused: running.control.is_paused(), limit: running.control.rate_limit(), hurry };
    running.look(|progress| {
        let buf = frame.buffer_mut();
        surface::draw(buf, field, &progress.map, size, progress.head, job.cursor);
        let facts = facts(progress, ground.bytes, size, &state);
        if wide {
            let x = field.right() + 3;
            for (spans, y) in facts.into_iter().zip(area.y..field.bottom()) {
                print(buf, x, y, beside - 3, spans);
            }
        } else {
            for (at, spans) in facts.into_iter().filter(|spans| !spans.is_empty()).enumerate().take(6) {
                let column = (at % 2) as u16 * (area.width / 2);
                print(buf, area.x + column, area.y + at as u16 / 2, area.width / 2 - 1, spans);
            }
        }
        let under = under_cursor(job, progress, field, size);
        print(buf, area.x, field.bottom(), area.width, under);
        let y = field.bottom() + 2;
        let top = progress.history.iter().copied().fold(1.0, f64::max);
        print(buf, area.x, y - 1, area.width, vec![say(Mean::Quiet, "rate over time")]);
        let label = format!("highest {}/s", human(top as u64));
        print_right(buf, area, y - 1, vec![say(Mean::Quiet, label)]);
        chart::draw(buf, Rect { y, height: chart_lines.min(area.bottom().saturating_sub(y)), ..area }, &progress.history, top, Mean::Source);
    });
    job.field = (field.width, field.height);
    hits.push((field, Hit::Surface));
    Vec::new()
}

struct State {
    paused: bool,
    limit: u64,
    hurry: u32,
}

fn facts(progress: &Progress, planned: u64, size: u64, state: &State) -> Vec<Vec<Span<'static>>> {
    let (done, total) = progress.meter.amounts();
    let line = |mark: &str, mean: Mean, name: &str, bytes: u64| {
        let share = bytes as f64 * 100.0 / planned.max(1) as f64;
        vec![
            loud(mean, format!("{mark} ")),
            say(Mean::Text, pad(name, 8)),
            say(Mean::Text, pad_left(&human(bytes), 8)),
            say(Mean::Quiet, format!(" {share:>5.1} %")),
        ]
    };
    let proving = progress.phase != Some(Phase::Copy);
    let what = if state.paused { "held".into() } else { progress.phase.map_or("begins", Phase::word).to_string() };
    let rate = if state.paused { "-".into() } else { format!("{}/s", human(progress.meter.rate(progress.now) as u64)) };
    let left = progress.meter.left(progress.now).map_or_else(|| "-".into(), span);
    let mut out = vec![
        vec![
            loud(if state.paused { Mean::Mind } else { Mean::Focus }, format!("{} {what}", if state.paused { "‖" } else { "▸" })),
            say(Mean::Text, format!("  {:.1} %", progress.meter.share() * 100.0)),
        ],
        if proving { line("█", Mean::Good, "proved", done) } else { line("█", Mean::Source, "saved", done) },
        vec![say(Mean::Quiet, "  now     "), loud(Mean::Text, pad_left(&rate, 9))],
        vec![say(Mean::Quiet, "  left    "), loud(Mean::Text, pad_left(&left, 9))],
        line("╳", Mean::Lost, "lost", progress.lost.0),
        line("·", Mean::Quiet, "to do", total - done),
    ];
    if planned < size {
        let free = pad_left(&human(size - planned), 8);
        out.push(vec![loud(Mean::Quiet, "╴ "), say(Mean::Text, pad("not used", 8)), say(Mean::Text, free), say(Mean::Quiet, "  left out")]);
    }
    if proving && progress.differs > 0 {
        out.insert(2, vec![loud(Mean::Stop, format!("≠ {} blocks differ", progress.differs))]);
    }
    out.push(vec![]);
    if !proving {
        out.push(vec![say(Mean::Quiet, "  kept    "), say(Mean::Text, pad_left(&human(progress.kept), 9)), say(Mean::Quiet, " safe")]);
    }
    out.push(vec![say(Mean::Quiet, "  so far  "), say(Mean::Text, pad_left(&span(progress.now), 9))]);
    if progress.lost.1 > 0 {
        out.push(vec![say(Mean::Quiet, "  holes   "), say(Mean::Lost, pad_left(&progress.lost.1.to_string(), 9))]);
    }
    if state.limit > 0 {
        out.push(vec![say(Mean::Quiet, "  limit   "), say(Mean::Mind, pad_left(&format!("{}/s", human(state.limit)), 9))]);
    }
    if state.hurry > 1 {
        out.push(vec![say(Mean::Quiet, "  hurried "), say(Mean::Mind, pad_left(&format!("{}×", state.hurry), 9))]);
    }
    out
}

/// The bytes of the cell under the cursor, or under the head where there is no cursor, and which of them it is.
pub(super) fn under((cursor, head): (Option<usize>, u64), field: Rect, size: u64) -> (&'static str, std::ops::Range<u64>) {
    let count = usize::from(field.width) * usize::from(field.height);
    match cursor {
        Some(cursor) => ("cursor", surface::share(cursor.min(count - 1), count, size)),
        None => {
            let index = (u128::from(head.min(size.saturating_sub(1))) * count as u128 / u128::from(size.max(1))) as usize;
            ("head", surface::share(index.min(count - 1), count, size))
        }
    }
}

/// What lies under the cursor, or under the head where there is no cursor.
fn under_cursor(job: &JobView, progress: &Progress, field: Rect, size: u64) -> Vec<Span<'static>> {
    let (who, bytes) = under((job.cursor, progress.head.unwrap_or(0)), field, size);
    let Some(ground) = job.ground() else { return Vec::new() };
    let sector = ground.sector.max(1);
    let part = ground.ribbon.at(bytes.start).or_else(|| ground.ribbon.at(bytes.end.saturating_sub(1)));
    let place = part.map_or_else(|| "no partition".to_string(), |part| format!("{} {} {}", part.number, part.name, part.content));
    let (glyph, mean) = surface::cell(&progress.map, &bytes);
    let lost = progress.map.total_within(bytes.clone(), |state| *state == surface::State::Lost);
    let state = match glyph {
        "·" => "to do".to_string(),
        "╴" => "not in use, not copied".to_string(),
        "╳" => format!("{} unreadable", human(lost)),
        "≠" => "differs from the source".into(),
        _ if mean == Mean::Good => "read back, equal".into(),
        _ => "saved".into(),
    };
    vec![
        say(Mean::Quiet, format!("{who}  ")),
        say(Mean::Text, format!("sectors {}–{}", thousands(bytes.start / sector), thousands(bytes.end.div_ceil(sector).saturating_sub(1)))),
        say(Mean::Quiet, format!(" · {place} · ")),
        say(mean, format!("{glyph} {state}")),
    ]
}
