//! Plan: the source's ribbon above, the target's below, ties between them, figures and hazards beneath.

use super::{JobView, Sight, hazard_lines, look};
use crate::draw::{loud, pad, pad_left, put, ribbon, say};
use crate::theme::{self, Mean};
use badger_drive::size::{human, span, thousands};
use badger_layout::plan::Ids;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Color;
use ratatui::symbols::Marker;
use ratatui::widgets::canvas::{Canvas, Line as Tie};

/// Lines the ties take, on a low and on a high screen.
const TIES: [u16; 2] = [3, 6];

/// Draws the step.
pub fn draw(job: &JobView, frame: &mut Frame, area: Rect) -> Vec<(Rect, usize)> {
    let Some(sight) = &job.sight else {
        return look::draw(job, frame, area);
    };
    let label = 8;
    let room = area.width - label;
    let (wide, low) = (ribbon::length(sight.source.size_bytes, room), ribbon::length(sight.after.size, room));
    let x = area.x + label;
    let high = area.height >= 30;
    let (ties_high, thick) = if high { (TIES[1], 2) } else { (TIES[0], 1) };
    let buf = frame.buffer_mut();
    put(buf, area.x, area.y, label, vec![say(Mean::Source, pad(&human(sight.source.size_bytes), 8))]);
    let (from, to) = (ribbon::Look { mean: Mean::Source, chosen: None }, ribbon::Look { mean: Mean::Target, chosen: None });
    ribbon::draw_thick(buf, x, area.y, wide, thick, &sight.source.ribbon, from);
    ties(sight, frame, Rect { x, y: area.y + thick, width: room, height: ties_high }, wide, low);
    let buf = frame.buffer_mut();
    let y = area.y + thick + ties_high;
    put(buf, area.x, y, label, vec![say(Mean::Target, pad(&human(sight.after.size), 8))]);
    ribbon::draw_thick(buf, x, y, low, thick, &sight.after, to);
    let y = y + thick + 1;
    let mut y = figures(sight, frame, Rect { y, height: area.bottom().saturating_sub(y), ..area });
    let buf = frame.buffer_mut();
    let mut more = Vec::new();
    if let Some(refusal) = &job.refusal {
        more.push(vec![loud(Mean::Stop, "◆ stop  "), say(Mean::Text, refusal.text.clone())]);
    }
    if let Some(report) = job.report.as_ref().filter(|report| !report.reason.is_empty()) {
        more.push(vec![loud(Mean::Mind, "◐ broken off  "), say(Mean::Text, report.reason.clone())]);
    }
    if let Some(done) = sight.done_before {
        let share = done as f64 * 100.0 / sight.plan.bytes().max(1) as f64;
        more.push(vec![
            loud(Mean::Good, "● goes on  "),
            say(Mean::Text, format!("an unfinished run has {} of {} ({share:.0} %) on the target", human(done), human(sight.plan.bytes()))),
        ]);
    }
    more.extend(hazard_lines(&sight.hazards, usize::from(area.width)));
    for spans in more {
        if y + 3 > area.bottom() {
            put(buf, area.x, y, area.width, vec![say(Mean::Quiet, "… more on a higher screen")]);
            y += 1;
            break;
        }
        put(buf, area.x, y, area.width, spans);
        y += 1;
    }
    let todo = sight.plan.bytes() - sight.done_before.unwrap_or(0).min(sight.plan.bytes());
    let time =
        sight.pace.map(|pace| format!("about {} at {}/s, then it is read back", span(todo as f64 / pace), human(pace as u64))).unwrap_or_default();
    let y = (y + 1).min(area.bottom() - 1);
    let again = if job.order.again { " · source read twice" } else { "" };
    let rest = match job.order.used {
        None => " to copy".to_string(),
        Some(rest) => format!(" in use to copy · {}", rest.word()),
    };
    let state = if job.waiting.is_some() { "planning anew ... " } else { "" };
    put(
        buf,
        area.x,
        y,
        area.width,
        vec![say(Mean::Mind, state), say(Mean::Text, format!("{}{rest}", human(todo))), say(Mean::Quiet, format!("   {time}{again}"))],
    );
    Vec::new()
}

/// Lines from every partition of the source to its place on the target.
fn ties(sight: &Sight, frame: &mut Frame, area: Rect, wide: u16, low: u16) {
    let (above, below) = (ribbon::divide(&sight.source.ribbon, wide), ribbon::divide(&sight.after, low));
    let colour = theme::style(Mean::Quiet).fg.unwrap_or(Color::Reset);
    let middle = |cells: &[ribbon::Cell], part: Option<usize>| {
        cells.iter().find(|cell| cell.part == part).map(|cell| f64::from(cell.columns.start + cell.columns.end) / 2.0)
    };
    let pairs: Vec<(f64, f64)> =
        (0..sight.source.ribbon.parts.len()).filter_map(|part| Some((middle(&above, Some(part))?, middle(&below, Some(part))?))).collect();
    let canvas = Canvas::default()
        .marker(Marker::Braille)
        .background_color(theme::ground().bg.unwrap_or(Color::Reset))
        .x_bounds([0.0, f64::from(area.width)])
        .y_bounds([0.0, f64::from(area.height)])
        .paint(|context| {
            for (from, to) in &pairs {
                context.draw(&Tie { x1: *from, y1: f64::from(area.height), x2: *to, y2: 0.0, color: colour });
            }
        });
    frame.render_widget(canvas, area);
}

/// The table of partitions; gives the next free line.
fn figures(sight: &Sight, frame: &mut Frame, area: Rect) -> u16 {
    let buf = frame.buffer_mut();
    let wide = area.width >= 100;
    let name = if wide { 22 } else { 14 };
    let sector = u64::from(sight.plan.target.sector);
    let mut title = format!(
        "{} {} {} {}  {} {}",
        pad("partition", name),
        pad("fit", 6),
        pad_left("from", 8),
        pad_left("to", 9),
        pad_left("used", 9),
        pad_left("free after", 10)
    );
    if wide {
        title.push_str(&format!("  {}  {}", pad_left("starts at", 10), pad_left("sector", 15)));
    }
    put(buf, area.x, area.y, area.width, vec![say(Mean::Quiet, title)]);
    let mut y = area.y + 1;
    for part in &sight.after.parts {
        if y + 4 > area.bottom() {
            put(buf, area.x, y, area.width, vec![say(Mean::Quiet, "… more partitions on a higher screen")]);
            y += 1;
            break;
        }
        let from = sight.source.ribbon.parts.iter().find(|source| source.number == part.number).map_or(part.len, |source| source.len);
        let used = part.used.map(human).unwrap_or_else(|| "-".into());
        let free = part.used.map(|used| human(part.len.saturating_sub(used))).unwrap_or_else(|| "-".into());
        let mut spans = vec![
            say(Mean::Text, pad(&format!("{} {}", part.number, part.name), name)),
            say(Mean::Good, format!(" {} ", pad("keep", 6))),
            say(
                Mean::Text,
                format!("{} {}  {} {}", pad_left(&human(from), 8), pad_left(&human(part.len), 9), pad_left(&used, 9), pad_left(&free, 10)),
            ),
        ];
        if wide {
            let aligned = if part.start.is_multiple_of(1 << 20) { "aligned" } else { "" };
            spans.push(say(
                Mean::Quiet,
                format!("  {}  {}  {aligned}", pad_left(&human(part.start), 10), pad_left(&thousands(part.start / sector), 15)),
            ));
        }
        put(buf, area.x, y, area.width, spans);
        y += 1;
    }
    let ids = match sight.plan.ids {
        Ids::Keep => "identifiers kept",
        Ids::Fresh => "fresh identifiers",
    };
    let disk = if sight.plan.disk_id.is_empty() { String::new() } else { format!(" · {}", sight.plan.disk_id) };
    put(buf, area.x, y, area.width, vec![say(Mean::Quiet, format!("{} · {ids}{disk}", sight.plan.kind.word()))]);
    y + 2
}
