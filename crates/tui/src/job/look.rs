//! Look: both drives side by side, and what is at stake on the target.

use super::lines::{at_stake, hazard_lines, stacked};
use super::view::JobView;
use crate::draw::{cut, cut_start, loud, pad, pad_left, print, ribbon, say, wrap};
use crate::theme::Mean;
use badger_bench::ledger::day;
use badger_bench::sheet::DriveFacts;
use badger_drive::size::{human, thousands};
use badger_inspect::Level;
use badger_inspect::stake::Stake;
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

type Lines = Vec<(Rect, usize)>;

/// Draws the step.
pub fn draw(job: &JobView, frame: &mut Frame, area: Rect) -> Lines {
    let buf = frame.buffer_mut();
    let Some(sight) = &job.sight else {
        match &job.refusal {
            Some(refusal) => refused(buf, area, &refusal.text, refusal.code),
            None => print(buf, area.x, area.y, area.width, vec![say(Mean::Quiet, job.wait_text())]),
        }
        return Vec::new();
    };
    let half = (area.width - 3) / 2;
    let left = Rect { width: half, ..area };
    let right = Rect { x: area.x + half + 3, width: half, ..area };
    let low = side(buf, left, "◂ source, only read", Mean::Source, &sight.source);
    let low = low.max(side(buf, right, "▸ target, overwritten", Mean::Target, &sight.before));
    let y = low + 1;
    if y + 2 > area.bottom() {
        return Vec::new();
    }
    print(buf, area.x, y, area.width, vec![say(Mean::Quiet, "At stake")]);
    let lost: Vec<_> = sight.hazards.iter().filter(|hazard| hazard.level != Level::Note).cloned().collect();
    let (mark, mean, said) = at_stake(&sight.hazards);
    let mut lines = Vec::new();
    if mean == Mean::Good {
        for (at, text) in wrap(&said, usize::from(area.width).saturating_sub(8)).into_iter().enumerate() {
            lines.push(vec![loud(mean, if at == 0 { format!("{mark} good  ") } else { "        ".into() }), say(Mean::Text, text)]);
        }
    }
    lines.extend(hazard_lines(&lost, usize::from(area.width)));
    let y = stacked(buf, Rect { y: y + 1, height: area.bottom() - y - 1, ..area }, lines);
    // Side by side: what comes along, and what is lost for it.
    let below = |side: Rect| Rect { y: y + 1, height: area.bottom().saturating_sub(y + 1), ..side };
    held(buf, below(left), ("◂ comes along  ", Mean::Source), &sight.brings);
    held(buf, below(right), ("▸ is lost  ", Mean::Target), &sight.stake);
    Vec::new()
}

/// What a drive holds as people see it: how much, whose folders, the newest files.
fn held(buf: &mut Buffer, area: Rect, (title, mean): (&'static str, Mean), stake: &Stake) {
    if stake.files == 0 {
        return;
    }
    let width = usize::from(area.width);
    let more = if stake.more { "more than " } else { "" };
    let mut lines = vec![vec![loud(mean, title), say(Mean::Text, format!("{more}{} files, {}", thousands(stake.files), human(stake.bytes)))]];
    let name = stake.whose.iter().map(|folder| folder.name.chars().count()).max().unwrap_or(0).min(24);
    lines.extend(stake.whose.iter().map(|folder| {
        let files = format!("{:>7} files  {:>9}", thousands(folder.files), human(folder.bytes));
        vec![say(Mean::Text, format!("  {}", pad(&cut(&folder.name, name), name))), say(Mean::Quiet, files)]
    }));
    lines.extend(stake.newest.iter().map(|file| {
        let head = format!("  {}  {}  ", day(file.modified), pad_left(&human(file.size), 8));
        let room = width.saturating_sub(head.chars().count());
        vec![say(Mean::Quiet, head), say(Mean::Text, cut_start(&file.path, room))]
    }));
    for (spans, y) in lines.into_iter().zip(area.y..area.bottom()) {
        print(buf, area.x, y, area.width, spans);
    }
}

/// Draws why a job cannot be planned.
pub fn refused(buf: &mut Buffer, area: Rect, text: &str, code: &str) {
    print(buf, area.x, area.y, area.width, vec![loud(Mean::Stop, "◆ stop  "), say(Mean::Quiet, format!("nothing is written ({code})"))]);
    for (line, y) in wrap(text, usize::from(area.width.min(90))).into_iter().zip(area.y + 2..area.bottom()) {
        print(buf, area.x, y, area.width, vec![say(Mean::Text, line)]);
    }
}

/// One drive, down to its partitions; the next free line.
pub(super) fn side(buf: &mut Buffer, area: Rect, title: &str, mean: Mean, drive: &DriveFacts) -> u16 {
    let width = usize::from(area.width);
    let mut y = area.y;
    let mut line = |spans, y: &mut u16| {
        if *y < area.bottom() {
            print(buf, area.x, *y, area.width, spans);
        }
        *y += 1;
    };
    line(vec![loud(mean, title.to_string())], &mut y);
    line(vec![loud(Mean::Text, drive.model.clone()), say(Mean::Text, format!("  {}", human(drive.size_bytes)))], &mut y);
    y += 1;
    let strip = y;
    y += 2;
    let field =
        |name: &str, text: String| vec![say(Mean::Quiet, format!("{} ", pad(name, 10))), say(Mean::Text, cut(&text, width.saturating_sub(11)))];
    line(field("serial", if drive.serial.is_empty() { "none".into() } else { drive.serial.clone() }), &mut y);
    if area.height >= 26 {
        line(field("firmware", if drive.firmware.is_empty() { "not told".into() } else { drive.firmware.clone() }), &mut y);
        line(field("size", format!("{} bytes", thousands(drive.size_bytes))), &mut y);
    }
    line(field("connected", drive.connection.clone()), &mut y);
    if area.height >= 22 {
        let sectors = thousands(drive.size_bytes / u64::from(drive.sectors.0.max(1)));
        line(field("sectors", format!("{sectors} of {} bytes, {} physical", drive.sectors.0, drive.sectors.1)), &mut y);
        line(field("table", if drive.ribbon.table.is_empty() { "no table".into() } else { drive.ribbon.table.clone() }), &mut y);
        line(field("at", drive.path.clone()), &mut y);
    }
    y += 1;
    for part in &drive.ribbon.parts {
        let (name, used) = match part.used {
            Some(used) if width >= 50 => (16, format!("  {} used", human(used))),
            Some(used) => (9, format!(" {:>3.0} %", used as f64 * 100.0 / part.len.max(1) as f64)),
            None => (if width >= 50 { 16 } else { 9 }, String::new()),
        };
        let number = pad_left(&part.number.to_string(), 2);
        let facts = format!("{number} {} {} {}", pad(&part.name, name), pad(&part.content, 6), pad_left(&human(part.len), 7));
        line(vec![say(Mean::Text, facts), say(Mean::Quiet, used)], &mut y);
    }
    if drive.ribbon.parts.is_empty() {
        line(vec![say(Mean::Quiet, "no partitions")], &mut y);
    }
    ribbon::draw(buf, area.x, strip, ribbon::length(drive.size_bytes, area.width), &drive.ribbon, ribbon::Look { mean, chosen: None });
    y
}
