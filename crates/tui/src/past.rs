//! A job of the ledger at a glance: its drives, what came out, its boot chain, what its drives did before.

use crate::draw::{chain, chart, cut, loud, outcome_mark, pad, print, print_right, ribbon, say, wrap};
use crate::theme::Mean;
use badger_bench::ledger::{JobRow, day, written};
use badger_bench::sheet::{DriveFacts, SheetData, outcome_sentence, verdict};
use badger_drive::size::{human, span};
use badger_inspect::{Line, Verdict};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::Span;

/// What is shown of it.
pub struct Past {
    /// Its number.
    pub job: i64,
    /// What its last run left; none where it never ran to an end.
    pub sheet: Option<SheetData>,
}

/// Columns in front of a strip.
const LABEL: u16 = 30;
/// Lines of a proof that are told, at the most.
const TOLD: usize = 5;
/// Lines of what its drives did before, at the most.
const BEFORE: usize = 4;

/// A drive with its strip.
fn drive(frame: &mut Frame, area: Rect, y: u16, facts: &DriveFacts, (mark, mean): (&'static str, Mean)) {
    let buf = frame.buffer_mut();
    let label = usize::from(LABEL) - 12;
    let text = vec![
        loud(mean, format!("{mark} ")),
        say(Mean::Text, pad(&cut(&facts.model, label), label)),
        say(Mean::Quiet, format!("{:>9}", human(facts.size_bytes))),
    ];
    print(buf, area.x, y, LABEL, text);
    let width = ribbon::length(facts.size_bytes, area.width.saturating_sub(LABEL + 1));
    ribbon::draw(buf, area.x + LABEL + 1, y, width, &facts.ribbon, ribbon::Look { mean, chosen: None });
}

/// How many lines of a proof came out how.
fn counts(sheet: &SheetData) -> Vec<Span<'static>> {
    let mut out = vec![say(Mean::Quiet, "proof ")];
    if sheet.report.proof.is_empty() {
        out.push(say(Mean::Text, "○ nothing was compared yet"));
    }
    for result in [Verdict::Fails, Verdict::Holds, Verdict::Differs, Verdict::NotChecked] {
        let count = sheet.report.proof.iter().filter(|line| line.result == result).count();
        if count > 0 {
            let (mark, word) = verdict(result);
            out.extend([loud(chain::mean(result), format!("{mark} ")), say(Mean::Text, format!("{count} {word}   "))]);
        }
    }
    out
}

/// What else its drives were in, the latest first.
fn before(row: &JobRow, all: &[JobRow]) -> Vec<Vec<Span<'static>>> {
    let mut out = Vec::new();
    let mut others: Vec<&JobRow> = all.iter().filter(|other| other.id != row.id).collect();
    others.sort_by_key(|other| std::cmp::Reverse(other.id));
    for (key, mark, mean) in [(&row.source_key, "◂", Mean::Source), (&row.target_key, "▸", Mean::Target)] {
        for other in others.iter().filter(|other| other.source_key == *key || other.target_key == *key) {
            let was = if other.source_key == *key { "source" } else { "target" };
            let ticket = if other.ticket.is_empty() { String::new() } else { format!(" {}", other.ticket) };
            let text = format!("was {was} of job {}{ticket}, {}, {}", other.id, day(other.created), other.outcome.as_deref().unwrap_or("unfinished"));
            out.push(vec![loud(mean, format!("{mark} ")), say(Mean::Text, text)]);
        }
    }
    out
}

/// Draws it.
pub fn draw(past: &Past, row: &JobRow, all: &[JobRow], frame: &mut Frame, area: Rect) {
    let buf = frame.buffer_mut();
    print(buf, area.x, area.y, area.width, vec![say(Mean::Quiet, "─".repeat(usize::from(area.width)))]);
    let name = if row.ticket.is_empty() { format!("job {}", row.id) } else { format!("job {} · {}", row.id, row.ticket) };
    print(buf, area.x, area.y + 1, area.width, vec![loud(Mean::Text, name), say(Mean::Text, format!("  {}", row.customer))]);
    let Some(sheet) = &past.sheet else {
        print(
            buf,
            area.x,
            area.y + 3,
            area.width,
            vec![say(Mean::Quiet, "no run of it came to an end yet; Enter opens it, and it can be gone on with")],
        );
        return;
    };
    let by = if row.technician.is_empty() { String::new() } else { format!("{} · ", row.technician) };
    let kept = row.keep_until.map(|until| format!(" · old drive kept until {}", day(until))).unwrap_or_default();
    let when = format!("{by}{} · {}{kept}", written(sheet.started), span((sheet.ended - sheet.started).max(0) as f64));
    print_right(buf, Rect { x: area.x + area.width / 3, width: area.width - area.width / 3, ..area }, area.y + 1, vec![say(Mean::Quiet, when)]);
    drive(frame, area, area.y + 3, &sheet.source, ("◂", Mean::Source));
    drive(frame, area, area.y + 4, &sheet.target, ("▸", Mean::Target));
    let buf = frame.buffer_mut();
    let (mark, mean) = outcome_mark(sheet.report.outcome);
    let mut lines: Vec<Vec<Span<'static>>> = Vec::new();
    for (at, text) in wrap(&outcome_sentence(&sheet.report), usize::from(area.width).saturating_sub(4).min(110)).into_iter().enumerate() {
        lines.push(vec![loud(mean, if at == 0 { format!("{mark} ") } else { "  ".into() }), say(Mean::Text, text)]);
    }
    lines.push(Vec::new());
    lines.extend(chain::lines(&sheet.report.proof, usize::from(area.width)));
    lines.push(counts(sheet));
    // What did not simply hold is told, the worst first.
    let mut told: Vec<&Line> = sheet.report.proof.iter().filter(|line| line.result != Verdict::Holds).collect();
    told.sort_by_key(|line| [Verdict::Fails, Verdict::Differs, Verdict::NotChecked].iter().position(|result| *result == line.result));
    for line in told.into_iter().take(TOLD) {
        let name = line.name();
        let text = cut(&line.text, usize::from(area.width).saturating_sub(30));
        let (mark, _) = verdict(line.result);
        lines.push(vec![loud(chain::mean(line.result), format!("      {mark} ")), say(Mean::Text, pad(&cut(&name, 20), 21)), say(Mean::Quiet, text)]);
    }
    let others = before(row, all);
    if !others.is_empty() {
        lines.push(Vec::new());
        let left = others.len().saturating_sub(BEFORE);
        lines.extend(others.into_iter().take(BEFORE));
        if left > 0 {
            lines.push(vec![say(Mean::Quiet, format!("  and {left} more; ←→ shows drives, Enter there their jobs"))]);
        }
    }
    let (from, count) = (area.y + 6, lines.len() as u16);
    for (line, y) in lines.into_iter().zip(from..area.bottom()) {
        print(buf, area.x, y, area.width, line);
    }
    let rates: Vec<f64> = sheet.rates.iter().map(|rate| rate.unwrap_or(0.0)).collect();
    let y = from + count + 1;
    if y + 5 < area.bottom() && rates.iter().any(|rate| *rate > 0.0) {
        let top = rates.iter().copied().fold(1.0, f64::max);
        print(buf, area.x, y, area.width, vec![say(Mean::Quiet, "rate over position, sector 0 at the left")]);
        print_right(buf, area, y, vec![say(Mean::Quiet, format!("highest {}/s", human(top as u64)))]);
        chart::draw(buf, Rect { y: y + 1, height: (area.bottom() - y - 1).min(5), ..area }, &rates, top, Mean::Source);
    }
}
