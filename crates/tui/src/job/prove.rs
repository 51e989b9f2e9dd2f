//! Prove: one line for each thing proved, its evidence folded under it.

use super::rehearses::Rehearses;
use super::rehearsing;
use super::view::JobView;
use crate::draw::{chain, chart, cut, loud, outcome_mark, pad, print, print_right, say, wrap};
use crate::step::Step;
use crate::theme::Mean;
use badger_bench::sheet::{outcome_sentence, verdict};
use badger_drive::size::{human, span, thousands};
use badger_transfer::Report;
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::Span;

impl JobView {
    pub(super) fn prove_key(&mut self, code: KeyCode) {
        let last = self.report.as_ref().map_or(0, |report| report.proof.len().saturating_sub(1));
        match code {
            KeyCode::Down => self.row = (self.row + 1).min(last),
            KeyCode::Up => self.row = self.row.saturating_sub(1),
            KeyCode::Enter | KeyCode::Right | KeyCode::Left => self.choose(self.row),
            KeyCode::Char('o') => self.show(Step::Hand),
            _ => {}
        }
    }
}

/// Lines, each with the number of the proof it belongs to.
type Numbered = Vec<(Option<usize>, Vec<Span<'static>>)>;

/// What came out, and the figures of it.
fn head_lines(report: &Report, width: usize) -> Numbered {
    let (mark, mean) = outcome_mark(report.outcome);
    let mut lines: Numbered = Vec::new();
    lines.push((None, vec![loud(mean, format!("{mark} {}", report.outcome.word()))]));
    lines.extend(wrap(&outcome_sentence(report), width.min(100)).into_iter().map(|text| (None, vec![say(Mean::Text, text)])));
    let figures = format!(
        "{} read · {} written · {} needed no writing · {} lost · {}",
        human(report.read_bytes),
        human(report.written_bytes),
        human(report.skipped_bytes),
        human(report.lost_bytes),
        span(report.seconds)
    );
    lines.push((None, vec![say(Mean::Quiet, figures)]));
    lines.push((None, Vec::new()));
    let drawn = chain::lines(&report.proof, width);
    if !drawn.is_empty() {
        lines.extend(drawn.into_iter().map(|line| (None, line)));
        lines.push((None, Vec::new()));
    }
    lines
}

/// Every line of the proof, with its evidence where it is unfolded.
fn proof_lines(job: &JobView, report: &Report, width: usize) -> Numbered {
    let mut lines: Numbered = Vec::new();
    // The links of a chain have longer names.
    let name = |line: &badger_inspect::Line| match line.link.rsplit('/').next() {
        Some(link) if !link.is_empty() && width < 96 => cut(link, 11),
        _ => line.name(),
    };
    let names = report.proof.iter().map(|line| name(line).len() + 1).max().unwrap_or(0).max(12);
    for (at, line) in report.proof.iter().enumerate() {
        let (mark, word) = verdict(line.result);
        let mean = chain::mean(line.result);
        let open = job.unfolded.contains(&at);
        let fold = match () {
            () if line.evidence.is_empty() && line.advice.is_empty() => " ",
            () if open => "▾",
            () => "▹",
        };
        let bar = if at == job.row { "▌" } else { " " };
        for (part, text) in wrap(&line.text, width.saturating_sub(names + 21)).into_iter().enumerate() {
            let head = if part == 0 {
                vec![
                    loud(Mean::Focus, bar),
                    say(Mean::Quiet, format!("{fold} ")),
                    loud(mean, format!("{mark} ")),
                    say(Mean::Text, pad(&name(line), names)),
                    say(mean, pad(word, 13)),
                ]
            } else {
                vec![say(Mean::Text, " ".repeat(names + 18))]
            };
            lines.push((Some(at), head.into_iter().chain([say(Mean::Text, text)]).collect()));
        }
        if open {
            let under = |text: String| (Some(at), vec![say(Mean::Quiet, "     │ "), say(Mean::Text, text)]);
            let advice = Some(format!("by hand: {}", line.advice)).filter(|_| !line.advice.is_empty());
            lines.extend(line.evidence.iter().chain(&advice).flat_map(|text| wrap(text, width.saturating_sub(8))).map(under));
        }
    }
    lines
}

/// Hashes, and what could not be read.
fn tail_lines(report: &Report) -> Numbered {
    let mut lines: Numbered = Vec::new();
    if !report.hash.source.is_empty() {
        lines.push((None, Vec::new()));
        lines.push((None, vec![say(Mean::Quiet, format!("{} tree, leaves of {}", report.hash.algorithm, human(report.hash.leaf_bytes)))]));
        for (name, hash) in [("source", &report.hash.source), ("expected", &report.hash.expected), ("target", &report.hash.target)] {
            lines.push((None, vec![say(Mean::Quiet, format!("  {} ", pad(name, 9))), say(Mean::Text, hash.clone())]));
        }
    }
    if !report.lost.is_empty() {
        lines.push((None, Vec::new()));
        lines.push((None, vec![loud(Mean::Lost, format!("╳ {} stretches could not be read", report.lost.len()))]));
        lines.extend(
            report
                .lost
                .iter()
                .map(|lost| (None, vec![say(Mean::Text, format!("  sector {:>15}  {:>8} sectors", thousands(lost.start), thousands(lost.sectors)))])),
        );
    }
    lines
}

/// Draws the step.
pub fn draw(job: &JobView, frame: &mut Frame, area: Rect) -> Vec<(Rect, usize)> {
    let Some(report) = &job.report else { return Vec::new() };
    if let Rehearses::Running(running) = &job.rehearses {
        rehearsing::draw(running, &job.title().1, frame, area);
        return Vec::new();
    }
    let width = usize::from(area.width);
    let mut lines = head_lines(report, width);
    let before = lines.len();
    lines.extend(proof_lines(job, report, width));
    lines.extend(job.mends.waits().map(|text| (None, vec![say(Mean::Focus, text)])));
    lines.extend(tail_lines(report));
    // The chosen line stays in sight however much is unfolded.
    let rows = usize::from(area.height);
    let chosen = lines.iter().rposition(|(at, _)| *at == Some(job.row)).unwrap_or(before);
    let skip = if chosen < rows { 0 } else { chosen + 1 - rows };
    let buf = frame.buffer_mut();
    let mut hits = Vec::new();
    let count = lines.len();
    let rates = job.sheet.as_ref().map(|sheet| sheet.rates.iter().map(|rate| rate.unwrap_or(0.0)).collect::<Vec<f64>>()).unwrap_or_default();
    if count + 9 < rows && rates.iter().any(|rate| *rate > 0.0) {
        let top = rates.iter().copied().fold(1.0, f64::max);
        let y = area.y + count as u16 + 2;
        print(buf, area.x, y, area.width, vec![say(Mean::Quiet, "rate over position, sector 0 at the left")]);
        print_right(buf, area, y, vec![say(Mean::Quiet, format!("highest {}/s", human(top as u64)))]);
        chart::draw(buf, Rect { y: y + 1, height: 5, ..area }, &rates, top, Mean::Source);
    }
    for ((at, spans), y) in lines.into_iter().skip(skip).zip(area.y..area.bottom()) {
        print(buf, area.x, y, area.width, spans);
        if let Some(at) = at {
            hits.push((Rect { y, height: 1, ..area }, at));
        }
    }
    if count > skip + rows {
        print(buf, area.right().saturating_sub(10), area.bottom() - 1, 10, vec![say(Mean::Quiet, format!("↓ {} more", count - skip - rows))]);
    }
    hits
}
