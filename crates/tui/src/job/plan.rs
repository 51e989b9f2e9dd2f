//! Plan: the source's ribbon above, the target's below, ties between them, figures and hazards beneath.

use super::lines::{hazard_lines, marked, stacked};
use super::look;
use super::view::JobView;
use crate::draw::{cut, loud, pad, pad_left, print, ribbon, say};
use crate::theme::{self, Mean};
use badger_bench::ribbon::{Part, Ribbon};
use badger_drive::size::{human, span, thousands};
use badger_inspect::references::{Effect, Reference};
use badger_jobs::Sight;
use badger_layout::plan::{Fit, Ids};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Color;
use ratatui::symbols::Marker;
use ratatui::text::Span;
use ratatui::widgets::canvas::{Canvas, Line as Tie};

/// Lines the ties take, on a low and on a high screen.
const TIES: [u16; 2] = [3, 6];

/// Draws the step.
pub fn draw(job: &mut JobView, frame: &mut Frame, area: Rect) -> Vec<(Rect, usize)> {
    let label = 8;
    let room = area.width - label;
    if let Some(sight) = &job.sight {
        job.columns = ribbon::length(sight.after.size, room);
    }
    let Some(sight) = &job.sight else {
        return look::draw(job, frame, area);
    };
    let (wide, low) = (ribbon::length(sight.source.size_bytes, room), ribbon::length(sight.after.size, room));
    let x = area.x + label;
    let high = area.height >= 30;
    let (ties_high, thick) = if high { (TIES[1], 2) } else { (TIES[0], 1) };
    let buf = frame.buffer_mut();
    print(buf, area.x, area.y, label, vec![say(Mean::Source, pad(&human(sight.source.size_bytes), 8))]);
    let index = |ribbon: &Ribbon, number: u32| ribbon.parts.iter().position(|part| part.number == number);
    let chosen = job.part.filter(|_| job.order.fit.is_some());
    let from = ribbon::Look { mean: Mean::Source, chosen: chosen.and_then(|part| index(&sight.source.ribbon, part)) };
    let to = ribbon::Look { mean: Mean::Target, chosen: chosen.and_then(|part| index(&sight.after, sight.plan.number_after(part))) };
    ribbon::draw_thick(buf, x, area.y, wide, thick, &sight.source.ribbon, from);
    ties(sight, frame, Rect { x, y: area.y + thick, width: room, height: ties_high }, wide, low);
    let buf = frame.buffer_mut();
    let y = area.y + thick + ties_high;
    print(buf, area.x, y, label, vec![say(Mean::Target, pad(&human(sight.after.size), 8))]);
    ribbon::draw_thick(buf, x, y, low, thick, &sight.after, to);
    let y = y + thick + 1;
    let y = figures(job, sight, frame, Rect { y, height: area.bottom().saturating_sub(y), ..area });
    let buf = frame.buffer_mut();
    let more = remarks(job, sight, usize::from(area.width));
    // The last line says what it comes to.
    let y = stacked(buf, Rect { y, height: area.bottom().saturating_sub(y + 1), ..area }, more);
    let todo = sight.bytes - sight.done_before.unwrap_or(0).min(sight.bytes);
    let time =
        sight.pace.map(|pace| format!("about {} at {}/s, then it is read back", span(todo as f64 / pace), human(pace as u64))).unwrap_or_default();
    let y = (y + 1).min(area.bottom() - 1);
    let again = if job.order.again { " · source read twice" } else { "" };
    let rest = match job.order.used {
        None if sight.plan.fit.is_some() => format!(" to copy · edges move by {}", human(job.step_size())),
        None => " to copy".to_string(),
        Some(rest) => format!(" in use to copy · {}", rest.word()),
    };
    // Of a volume that changes it is known when it was gone over, before the tail is asked for.
    let about = if sight.is_final { "" } else { "about " };
    let state = match (job.waiting.is_some(), job.late.len()) {
        (false, _) => String::new(),
        (true, 0) => "planning anew ... ".into(),
        (true, 1) => "planning anew, 1 key waits ... ".into(),
        (true, keys) => format!("planning anew, {keys} keys wait ... "),
    };
    print(
        buf,
        area.x,
        y,
        area.width,
        vec![say(Mean::Mind, state), say(Mean::Text, format!("{about}{}{rest}", human(todo))), say(Mean::Quiet, format!("   {time}{again}"))],
    );
    Vec::new()
}

/// What there is to say beneath the figures: why a change was not taken, what broke off, hazards, what names partitions.
fn remarks(job: &JobView, sight: &Sight, width: usize) -> Vec<Vec<Span<'static>>> {
    let mut more = Vec::new();
    if let Some(misfit) = &job.misfit {
        more.extend(marked(Mean::Mind, "▲ not taken  ", &misfit.text, width));
    }
    if let Some(refusal) = &job.refusal {
        more.push(vec![loud(Mean::Stop, "◆ stop  "), say(Mean::Text, refusal.text.clone())]);
    }
    if let Some(report) = job.report.as_ref().filter(|report| !report.reason.is_empty()) {
        more.push(vec![loud(Mean::Mind, "◐ broken off  "), say(Mean::Text, report.reason.clone())]);
    }
    if let Some(done) = sight.done_before {
        let share = done as f64 * 100.0 / sight.bytes.max(1) as f64;
        more.push(vec![
            loud(Mean::Good, "● goes on  "),
            say(Mean::Text, format!("an unfinished run has {} of {} ({share:.0} %) on the target", human(done), human(sight.bytes))),
        ]);
    }
    more.extend(hazard_lines(&sight.hazards, width));
    more.extend(references(sight, width));
    more
}

/// Lines from every partition of the source to its place on the target.
fn ties(sight: &Sight, frame: &mut Frame, area: Rect, wide: u16, low: u16) {
    let (above, below) = (ribbon::divide(&sight.source.ribbon, wide), ribbon::divide(&sight.after, low));
    let colour = theme::style(Mean::Quiet).fg.unwrap_or(Color::Reset);
    let middle = |cells: &[ribbon::Cell], part: Option<usize>| {
        cells.iter().find(|cell| cell.part == part).map(|cell| f64::from(cell.columns.start + cell.columns.end) / 2.0)
    };
    let after = |part: usize| {
        let number = sight.plan.number_after(sight.source.ribbon.parts[part].number);
        sight.after.parts.iter().position(|other| other.number == number)
    };
    let pairs: Vec<(f64, f64)> =
        (0..sight.source.ribbon.parts.len()).filter_map(|part| Some((middle(&above, Some(part))?, middle(&below, Some(after(part)?))?))).collect();
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

/// What names partitions: a line in all, and one for each that does not stay valid by itself.
fn references(sight: &Sight, width: usize) -> Vec<Vec<Span<'static>>> {
    if sight.references.is_empty() {
        return Vec::new();
    }
    let count = |effect: Effect| sight.references.iter().filter(|one| one.effect == effect).count();
    let counts: Vec<String> = [Effect::Kept, Effect::SetRight, Effect::StartUp]
        .into_iter()
        .filter(|effect| count(*effect) > 0)
        .map(|effect| format!("{} {}", count(effect), effect.word()))
        .collect();
    let mut out = vec![vec![
        loud(Mean::Quiet, "· names "),
        say(
            Mean::Quiet,
            format!(
                "{}: {}",
                if sight.references.len() == 1 {
                    "1 place names a partition".into()
                } else {
                    format!("{} places name a partition", sight.references.len())
                },
                counts.join(", ")
            ),
        ),
    ]];
    // Those that need somebody's care come first.
    let mut each: Vec<&Reference> = sight.references.iter().collect();
    each.sort_by_key(|one| std::cmp::Reverse(one.effect));
    for one in each {
        let text = cut(&format!("{} of {}: {}, {}", one.place, one.number, one.names, one.effect.word()), width.saturating_sub(8));
        out.push(match one.effect {
            Effect::StartUp => vec![loud(Mean::Mind, "▲ later "), say(Mean::Text, text)],
            _ => vec![say(Mean::Quiet, format!("        {text}"))],
        });
    }
    out
}

/// The figures of one partition, on a screen so wide, with so many columns for its name.
fn figure_row(job: &JobView, sight: &Sight, part: &Part, (width, name): (u16, usize)) -> Vec<Span<'static>> {
    let (wide, fitted, sector) = (width >= 100, sight.plan.fit.is_some(), u64::from(sight.plan.target.sector));
    let planned = sight.plan.planned(part.number);
    let place = planned.map(|planned| planned.place(sight.plan.target.sector));
    let fit = planned.map_or(Fit::LeaveOut, |planned| planned.fit);
    let mean = match fit {
        Fit::Keep => Mean::Good,
        Fit::Stretch | Fit::Squeeze => Mean::Target,
        Fit::LeaveOut => Mean::Mind,
    };
    let mark = match fit {
        Fit::Keep => "=",
        Fit::Stretch => "↔",
        Fit::Squeeze => "⇥",
        Fit::LeaveOut => "×",
    };
    let here = fitted && job.part == Some(part.number);
    let known = sight.parts.iter().find(|one| one.number == part.number);
    let used = known.and_then(|one| one.used).or(part.used);
    let shown = |bytes: Option<u64>| bytes.map(human).unwrap_or_else(|| "-".into());
    let after = sight.plan.recast(part.number).map(|recast| recast.used).or(used);
    let free = place.and_then(|(_, len)| Some(len.saturating_sub(after?)));
    let number = planned.filter(|planned| planned.number != part.number).map(|planned| format!(" → {}", planned.number)).unwrap_or_default();
    let named = format!("{}{number} {}", part.number, part.name);
    let mut spans = vec![
        loud(Mean::Focus, if here { "▌ " } else { "  " }),
        if here { loud(Mean::Text, pad(&cut(&named, name), name)) } else { say(Mean::Text, pad(&cut(&named, name), name)) },
        say(mean, format!(" {} ", pad(&if fitted { format!("{mark} {}", fit.word()) } else { fit.word().into() }, 11))),
        say(
            Mean::Text,
            format!(
                "{} {}  {} {}",
                pad_left(&human(part.len), 8),
                pad_left(&shown(place.map(|(_, len)| len)), 9),
                pad_left(&shown(used), 9),
                pad_left(&shown(free), 10)
            ),
        ),
    ];
    if wide {
        let least = match known.map(|one| &one.limits) {
            Some(Ok(limits)) => human(limits.least),
            Some(Err(_)) => "fixed".into(),
            None => String::new(),
        };
        spans.push(say(Mean::Quiet, format!(" {}", pad_left(&least, 9))));
        if let Some((start, _)) = place {
            let aligned = if start.is_multiple_of(1 << 20) { "aligned" } else { "" };
            let sector = if width >= 122 { format!("  {}", pad_left(&thousands(start / sector), 15)) } else { String::new() };
            spans.push(say(Mean::Quiet, format!("  {}{sector}  {aligned}", pad_left(&human(start), 10))));
        }
    }
    spans
}

/// The table of partitions; gives the next free line.
fn figures(job: &JobView, sight: &Sight, frame: &mut Frame, area: Rect) -> u16 {
    let buf = frame.buffer_mut();
    let wide = area.width >= 100;
    let name = if wide { 22 } else { 14 };
    let fitted = sight.plan.fit.is_some();
    let mut title = format!(
        "  {} {} {} {}  {} {}",
        pad("partition", name),
        pad("fit", 11),
        pad_left("from", 8),
        pad_left("to", 9),
        pad_left("used", 9),
        pad_left("free after", 10)
    );
    if wide {
        title.push_str(&format!(" {}  {}", pad_left(if fitted { "least" } else { "" }, 9), pad_left("starts at", 10)));
        title.push_str(&if area.width >= 122 { format!("  {}", pad_left("sector", 15)) } else { String::new() });
    }
    print(buf, area.x, area.y, area.width, vec![say(Mean::Quiet, title)]);
    let mut y = area.y + 1;
    for part in &sight.source.ribbon.parts {
        if y + 4 > area.bottom() {
            print(buf, area.x, y, area.width, vec![say(Mean::Quiet, "… more partitions on a higher screen")]);
            y += 1;
            break;
        }
        let spans = figure_row(job, sight, part, (area.width, name));
        print(buf, area.x, y, area.width, spans);
        y += 1;
    }
    let ids = match sight.plan.ids {
        Ids::Keep => "identifiers kept",
        Ids::Fresh => "fresh identifiers",
    };
    let disk = if sight.plan.disk_id.is_empty() { String::new() } else { format!(" · {}", sight.plan.disk_id) };
    let rules = sight.plan.fit.as_ref().map(|rules| format!(" · fit {rules}")).unwrap_or_default();
    print(buf, area.x, y, area.width, vec![say(Mean::Quiet, format!("  {} · {ids}{disk}{rules}", sight.plan.kind.word()))]);
    let machine = job.order.machine.as_ref().map_or_else(|| "a machine that is not described".to_string(), |machine| machine.name.clone());
    let afresh = if job.order.wishes.afresh { " · its system starts afresh there" } else { "" };
    y += 1;
    print(buf, area.x, y, area.width, vec![say(Mean::Quiet, "  goes into "), say(Mean::Text, machine), say(Mean::Quiet, afresh)]);
    y + 2
}
