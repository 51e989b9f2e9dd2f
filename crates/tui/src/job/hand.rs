//! Hand over: what to tell the customer, the papers, until when the old drive is kept.

use super::view::JobView;
use crate::draw::{chain, loud, pad, print, ribbon, say, wrap};
use crate::theme::Mean;
use badger_bench::Bench;
use badger_bench::ledger::{day, now};
use badger_bench::sheet::{draw as draw_sheet, outcome_sentence, verdict};
use badger_drive::size::human;
use badger_transfer::{Outcome, Verdict};
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;

const WEEK: i64 = 7 * 86_400;

impl JobView {
    fn keep_until(&self) -> i64 {
        self.sheet.as_ref().and_then(|sheet| sheet.keep_until).filter(|_| self.handed).unwrap_or_else(|| now() + self.weeks * WEEK)
    }

    pub(super) fn hand_key(&mut self, code: KeyCode, bench: &Bench) {
        match code {
            KeyCode::Left if !self.handed => self.weeks = (self.weeks - 1).max(0),
            KeyCode::Right if !self.handed => self.weeks = (self.weeks + 1).min(52),
            KeyCode::Char('w') => self.write_papers(bench),
            KeyCode::Enter if !self.handed => {
                let until = self.keep_until();
                if let (Some(job), Ok(ledger)) = (self.job, bench.open_ledger())
                    && ledger.hand_over(job, until).is_ok()
                {
                    self.handed = true;
                    if let Some(sheet) = &mut self.sheet {
                        sheet.keep_until = Some(until);
                    }
                    self.ledger_changed = true;
                    self.write_papers(bench);
                }
            }
            _ => {}
        }
    }

    /// Writes the job sheet beside the ledger, as SVG and as PDF.
    fn write_papers(&mut self, bench: &Bench) {
        let Some(mut sheet) = self.sheet.clone() else { return };
        (sheet.ticket, sheet.customer) = (self.order.ticket.clone(), self.order.customer.clone());
        sheet.keep_until = Some(self.keep_until());
        let drawing = draw_sheet(&sheet);
        let safe: String = self.name().chars().map(|c| if c.is_alphanumeric() || c == '-' { c } else { '-' }).collect();
        let base = bench.ledger.with_file_name(format!("{safe}-{}", sheet.job));
        self.papers.clear();
        for (ending, bytes) in [("pdf", badger_bench::pdf::write(&drawing)), ("svg", drawing.svg().into_bytes())] {
            let path = base.with_extension(ending);
            self.papers.push(match badger_bench::sheet::write_paper(&path, &bytes) {
                Ok(()) => path.display().to_string(),
                Err(error) => format!("◆ {}: {error}", path.display()),
            });
        }
    }
}

/// What the customer should hear, a sentence each.
fn words(job: &JobView) -> Vec<String> {
    let Some(report) = &job.report else { return Vec::new() };
    let mut out = vec![outcome_sentence(report)];
    let hazard = |code: &str| job.sight.iter().flat_map(|sight| &sight.hazards).any(|hazard| hazard.code == code);
    if hazard("ids-kept") {
        out.push("Old and new drive carry the same identifiers: never start the machine with both inside.".into());
    } else if job.sight.is_none() && !report.image {
        // The ledger does not say whether they were kept.
        out.push("Old and new drive may carry the same identifiers: never start the machine with both inside.".into());
    }
    if hazard("volume-asleep") {
        out.push("The old system was only asleep when it was copied: if the first start fails, start it once more.".into());
    }
    if hazard("space-unused") {
        out.push("The partitions kept their sizes; the new drive has room behind them that is not used yet.".into());
    }
    if report.outcome == Outcome::Incomplete {
        out.push("Files that lie on the unreadable places are damaged; the job sheet lists the sectors.".into());
    }
    if report.proof.iter().any(|line| line.what == "boot" && line.result == Verdict::NotChecked) && !report.image {
        out.push("Start-up and licence were not checked: start the machine once before it is closed.".into());
    }
    out
}

/// Draws the step.
pub fn draw(job: &JobView, frame: &mut Frame, area: Rect) -> Vec<(Rect, usize)> {
    let width = usize::from(area.width.min(96));
    let mut y = area.y;
    let mut line = |spans, y: &mut u16| {
        if *y < area.bottom() {
            print(frame.buffer_mut(), area.x, *y, area.width, spans);
        }
        *y += 1;
    };
    line(vec![say(Mean::Quiet, "Tell the customer")], &mut y);
    for sentence in words(job) {
        for (part, text) in wrap(&sentence, width - 2).into_iter().enumerate() {
            line(vec![say(Mean::Focus, if part == 0 { "▸ " } else { "  " }), say(Mean::Text, text)], &mut y);
        }
    }
    y += 1;
    line(vec![say(Mean::Quiet, "The old drive")], &mut y);
    let until = day(job.keep_until());
    if job.handed {
        line(vec![loud(Mean::Good, "● "), say(Mean::Text, format!("handed over; the old drive is kept until {until}"))], &mut y);
    } else {
        line(
            vec![say(Mean::Text, "keep it until "), loud(Mean::Focus, format!("◂ {until} ▸")), say(Mean::Quiet, format!("  {} weeks", job.weeks))],
            &mut y,
        );
        line(vec![say(Mean::Quiet, "Enter notes that the machine was handed over, and writes the papers")], &mut y);
    }
    y += 1;
    line(vec![say(Mean::Quiet, "Papers")], &mut y);
    if job.papers.is_empty() {
        line(vec![loud(Mean::Focus, "w"), say(Mean::Text, " writes the job sheet as PDF and SVG beside the ledger")], &mut y);
    }
    for paper in &job.papers {
        let bad = paper.starts_with('◆');
        line(vec![loud(if bad { Mean::Stop } else { Mean::Good }, if bad { "" } else { "● " }), say(Mean::Text, paper.clone())], &mut y);
    }
    if let Some(sheet) = &job.sheet
        && y + 8 < area.bottom()
    {
        y += 1;
        line(vec![say(Mean::Quiet, "On the sheet")], &mut y);
        for (drive, mean) in [(&sheet.source, Mean::Source), (&sheet.target, Mean::Target)] {
            print(
                frame.buffer_mut(),
                area.x,
                y,
                area.width,
                vec![loud(mean, drive.model.clone()), say(Mean::Text, format!("  {}  {}", drive.serial, human(drive.size_bytes)))],
            );
            let look = ribbon::Look { mean, chosen: None };
            ribbon::draw(frame.buffer_mut(), area.x, y + 1, ribbon::length(drive.size_bytes, area.width), &drive.ribbon, look);
            y += 3;
        }
        for spans in chain::lines(&sheet.report.proof, usize::from(area.width)) {
            if y < area.bottom() {
                print(frame.buffer_mut(), area.x, y, area.width, spans);
            }
            y += 1;
        }
        // Links that hold are drawn; what else there is stands below, as far as there is room.
        let told: Vec<_> = sheet.report.proof.iter().filter(|line| line.link.is_empty() || line.result != Verdict::Holds).collect();
        let room = usize::from(area.bottom().saturating_sub(y));
        let shown = if told.len() > room { room.saturating_sub(1) } else { told.len() };
        if shown < told.len() && room > 0 {
            let text = format!("and {} more, on the sheet", told.len() - shown);
            print(frame.buffer_mut(), area.x, area.bottom() - 1, area.width, vec![say(Mean::Quiet, text)]);
        }
        for (proof, y) in told[..shown].iter().zip(y..area.bottom()) {
            let (mark, word) = verdict(proof.result);
            let head = format!("{mark} {} {}", pad(&proof.what, 12), pad(word, 12));
            print(frame.buffer_mut(), area.x, y, area.width, vec![say(Mean::Text, head), say(Mean::Quiet, format!(" {}", proof.text))]);
        }
    }
    Vec::new()
}
