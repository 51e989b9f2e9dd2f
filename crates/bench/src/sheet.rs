//! The job sheet: who, when, which drives, what was done and what was proved. Nothing is cut: what does not fit goes on on the
//! next page.

use crate::drawing::{Drawing, Fill, MAKER, cut, width, wrap};
use crate::ledger::{day, written};
use crate::ribbon::{Part, Ribbon};
use crate::ways::{Way, ways};
use badger_drive::size::{human, span, thousands};
use badger_drive::{Geometry, Identity};
use badger_transfer::{Outcome, Report, Verdict};
use serde::{Deserialize, Serialize};

/// A drive as the sheet shows it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct DriveFacts {
    /// Model.
    pub model: String,
    /// Serial.
    pub serial: String,
    /// Firmware.
    pub firmware: String,
    /// Connection, in words.
    pub connection: String,
    /// Where it was found.
    pub path: String,
    /// Bytes.
    pub size_bytes: u64,
    /// Bytes of a sector, logical and physical.
    pub sectors: (u32, u32),
    /// Its strip: the source as it was, the target as it is now.
    pub ribbon: Ribbon,
}

impl DriveFacts {
    /// What the sheet needs of a drive.
    pub fn new(identity: &Identity, geometry: Geometry, ribbon: Ribbon) -> Self {
        Self {
            model: identity.model.clone(),
            serial: identity.serial.clone(),
            firmware: identity.firmware.clone(),
            connection: identity.bus.word().into(),
            path: identity.path.display().to_string(),
            size_bytes: geometry.size_bytes,
            sectors: (geometry.logical_sector, geometry.physical_sector),
            ribbon,
        }
    }
}

/// Everything a sheet is drawn from; kept in the ledger with each run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SheetData {
    /// Number of the job.
    pub job: i64,
    /// The workshop's name.
    pub workshop: String,
    /// The customer's ticket.
    pub ticket: String,
    /// Customer.
    pub customer: String,
    /// Technician.
    pub technician: String,
    /// Start of the run, seconds since 1970.
    pub started: i64,
    /// Its end.
    pub ended: i64,
    /// Until when the old drive is kept.
    pub keep_until: Option<i64>,
    /// The source.
    pub source: DriveFacts,
    /// The target.
    pub target: DriveFacts,
    /// Bytes a second over the source.
    pub rates: Vec<Option<f64>>,
    /// The outcome.
    pub report: Report,
    /// Place by place, where the drive was salvaged.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub surface: Option<Surface>,
}

/// A salvaged drive as a drawing: equal parts of it, each with the worst that is in it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Surface {
    /// A letter a part: `s` saved, `u` not read, `d` deferred, `l` lost.
    pub cells: String,
    /// Bytes in these four states, in this order.
    pub bytes: [u64; 4],
    /// What stands on the target where nothing could be read, in words.
    pub filled: String,
    /// Files that are whole, and that are not, as far as any were found.
    pub files: (u64, u64),
}

/// Parts of a salvaged drive in a row of the drawing, and rows.
const ACROSS: usize = 120;
const ROWS: usize = 12;
/// Parts of the whole drawing.
pub const CELLS: usize = ACROSS * ROWS;

const LEFT: f32 = 18.0;
const RIGHT: f32 = 192.0;
const WIDE: f32 = RIGHT - LEFT;
/// A knot of a chain, and the thread to the next.
const KNOT: f32 = 2.2;
const THREAD: f32 = 5.0;

/// The word and mark of a verdict, readable without colour.
pub fn verdict(result: Verdict) -> (&'static str, &'static str) {
    match result {
        Verdict::Holds => ("●", "holds"),
        Verdict::Differs => ("◐", "as intended"),
        Verdict::Fails => ("◆", "fails"),
        Verdict::NotChecked => ("○", "not checked"),
    }
}

/// What the customer is told about the outcome.
pub fn outcome_sentence(report: &Report) -> String {
    let behind = match report.left_out.len() {
        0 => String::new(),
        _ => format!(" Left out, as planned: {}.", report.left_out.join(", ")),
    };
    match report.outcome {
        Outcome::Proved if report.image => "What was read from the drive was kept in the image, and equals what was read back out of it.".into(),
        Outcome::Proved if !behind.is_empty() => {
            format!("What was planned was copied and read back from the new drive; it equals the old one.{behind}")
        }
        // Only a copy of what is in use is proved by its files.
        Outcome::Proved if report.proof.iter().any(|line| line.what == "files") => {
            "What is in use was copied and read back from the new drive; every file equals the old one.".into()
        }
        Outcome::Proved => "Everything was copied and read back from the new drive; it equals the old one.".into(),
        Outcome::Finished if report.proof.iter().all(|line| line.result != Verdict::Fails) => {
            format!("Copied, but not all of it is proved: {}.{behind}", report.reason)
        }
        Outcome::Finished => format!("Copied, but a proof failed: {}.{behind}", report.reason),
        Outcome::Incomplete => format!("Copied with loss: {}.{behind}", report.reason),
        Outcome::Interrupted => format!("Broken off: {}.", report.reason),
        Outcome::Refused => format!("Not begun: {}.", report.reason),
    }
}

/// Where a page ends.
const BOTTOM: f32 = 282.0;

/// Pages that are filled from the top down.
struct Flow {
    drawing: Drawing,
    y: f32,
    /// What stands on top of every further page.
    name: String,
}

impl Flow {
    /// Goes on on a new page where so much does not fit on this one.
    fn need(&mut self, height: f32) {
        if self.y + height > BOTTOM {
            self.drawing.next_page();
            let number = self.drawing.pages.len();
            self.drawing.text(LEFT, 16.0, 8.0, cut(&self.name, 8.0, 140.0));
            self.drawing.right(RIGHT, 16.0, 8.0, format!("page {number}"));
            self.drawing.line(vec![(LEFT, 18.0), (RIGHT, 18.0)], 0.25, 0.0);
            self.y = 26.0;
        }
    }

    /// Goes down by so much, on this page or the next.
    fn down(&mut self, height: f32) {
        self.y += height;
        self.need(0.0);
    }

    /// Sets a text in lines below each other; the first stands on the line in hand.
    fn lines(&mut self, x: f32, size: f32, step: f32, text: &str) {
        for (at, line) in wrap(text, size, RIGHT - x).into_iter().enumerate() {
            if at > 0 {
                self.down(step);
            }
            let y = self.y;
            self.drawing.text(x, y, size, line);
        }
    }

    /// The head of a part; at least `height` of it stays with it.
    fn head(&mut self, text: &str, height: f32) {
        self.need(height);
        let y = self.y;
        self.drawing.bold(LEFT, y, 10.0, text);
    }
}

/// Draws the sheet.
pub fn draw(data: &SheetData) -> Drawing {
    let name = if data.ticket.is_empty() { format!("Job {}", data.job) } else { data.ticket.clone() };
    let mut page = Drawing::a4(&format!("Job sheet {name}"));
    let workshop = if data.workshop.is_empty() { "Job sheet" } else { &data.workshop };
    page.bold(LEFT, 22.0, 16.0, cut(workshop, 17.5, 115.0));
    page.right(RIGHT, 22.0, 11.0, cut(&format!("Job sheet {name}"), 11.0, 55.0));
    page.line(vec![(LEFT, 25.0), (RIGHT, 25.0)], 0.5, 0.0);
    let mut flow = Flow { drawing: page, y: 32.0, name: format!("Job sheet {name}   {}", data.customer) };
    facts_part(&mut flow, data);
    outcome_part(&mut flow, &data.report);
    for (what, drive) in [("Source", &data.source), ("Target", &data.target)] {
        drive_part(&mut flow, what, drive);
    }
    rates_part(&mut flow, data);
    surface_part(&mut flow, data);
    lost_part(&mut flow, data);
    chain_part(&mut flow, &data.report);
    proof_part(&mut flow, &data.report);
    partitions_part(&mut flow, &data.target);
    signature(&mut flow);
    flow.drawing
}

fn facts_part(flow: &mut Flow, data: &SheetData) {
    let or_dash = |text: &str| if text.is_empty() { "-".to_string() } else { text.to_string() };
    for (what, value) in [("Workshop", &data.workshop), ("Customer", &data.customer), ("Technician", &data.technician)] {
        // The workshop stands on top already, as far as there is room.
        if what == "Workshop" && width(value, 17.5, false) <= 115.0 {
            continue;
        }
        let y = flow.y;
        flow.drawing.text(LEFT, y, 9.0, format!("{what}:"));
        flow.lines(LEFT + 38.0, 9.0, 4.2, &or_dash(value));
        flow.down(5.5);
    }
    let facts = [
        ("Begun", written(data.started)),
        ("Ended", written(data.ended)),
        ("Took", span(data.report.seconds)),
        ("Old drive kept until", data.keep_until.map_or_else(|| "not set".into(), day)),
    ];
    for (at, (what, value)) in facts.iter().enumerate() {
        let (x, y) = (LEFT + (at % 2) as f32 * 90.0, flow.y);
        flow.drawing.text(x, y, 9.0, format!("{what}:"));
        flow.drawing.text(x + 38.0, y, 9.0, value.clone());
        if at % 2 == 1 {
            flow.down(5.5);
        }
    }
    flow.down(2.5);
}

/// The outcome in a frame that is as high as it needs to be.
fn outcome_part(flow: &mut Flow, report: &Report) {
    let word = report.outcome.word().to_uppercase();
    let x = LEFT + width(&word, 12.0, true) + 8.0;
    let said = wrap(&outcome_sentence(report), 9.0, RIGHT - x - 3.0);
    let top = flow.y;
    let height = 6.0 + 4.2 * said.len() as f32;
    flow.drawing.rect(LEFT, top, WIDE, height, None, 0.5);
    flow.drawing.bold(LEFT + 3.0, top + 6.6, 12.0, word);
    for (line, at) in said.into_iter().zip(0..) {
        flow.drawing.text(x, top + 6.4 + 4.2 * at as f32, 9.0, line);
    }
    flow.down(height + 7.0);
}

fn drive_part(flow: &mut Flow, what: &str, drive: &DriveFacts) {
    flow.head(what, 30.0);
    let mut said = vec![drive.model.clone()];
    said.extend(Some(format!("serial {}", drive.serial)).filter(|_| !drive.serial.is_empty()));
    said.extend(Some(format!("firmware {}", drive.firmware)).filter(|_| !drive.firmware.is_empty()));
    said.push(format!("{} ({} bytes)", human(drive.size_bytes), thousands(drive.size_bytes)));
    flow.lines(LEFT + 18.0, 9.0, 4.2, &said.join(" · "));
    flow.down(4.5);
    let sectors = format!("sectors of {} / {} bytes", drive.sectors.0, drive.sectors.1);
    flow.lines(LEFT + 18.0, 8.0, 4.0, &[drive.connection.as_str(), &sectors, &drive.ribbon.table, &drive.path].join(" · "));
    flow.down(3.0);
    flow.need(12.0);
    ribbon(flow, &drive.ribbon);
    flow.down(8.0);
}

/// The strip: solid what is used, hatched where that is not known, white what is free. Its partitions are numbered
/// where there is room, and named underneath.
fn ribbon(flow: &mut Flow, strip: &Ribbon) {
    let (page, y) = (&mut flow.drawing, flow.y);
    let scale = |bytes: u64| bytes as f32 / strip.size.max(1) as f32 * WIDE;
    page.rect(LEFT, y, WIDE, 5.0, None, 0.25);
    for part in &strip.parts {
        let (x, w) = (LEFT + scale(part.start), scale(part.len).max(0.6));
        match part.used {
            Some(used) => page.rect(x, y, scale(used).clamp(0.3, w), 5.0, Some(Fill::Grey(0.7)), 0.0),
            None => page.rect(x, y, w, 5.0, Some(Fill::Hatch), 0.0),
        }
        page.rect(x, y, w, 5.0, None, 0.35);
        if w > 5.0 {
            page.bold(x + 1.5, y + 3.6, 8.0, part.number.to_string());
        }
    }
    let named = |part: &Part| format!("{} {} {} {}", part.number, part.name, part.content, human(part.len)).replace("  ", " ");
    let names = if strip.parts.is_empty() { "no partitions".into() } else { strip.parts.iter().map(named).collect::<Vec<_>>().join(" · ") };
    flow.down(8.5);
    flow.lines(LEFT, 7.5, 3.5, &names);
}

fn rates_part(flow: &mut Flow, data: &SheetData) {
    let known: Vec<f64> = data.rates.iter().flatten().copied().collect();
    if known.is_empty() {
        return;
    }
    let height = 22.0;
    let top = known.iter().copied().fold(0.0, f64::max);
    // Of as many bytes in each, so that the slow ones count for the time that they took.
    let average = known.len() as f64 / known.iter().map(|rate| 1.0 / rate).sum::<f64>();
    flow.head("Rate over position", height + 10.0);
    let (page, y) = (&mut flow.drawing, flow.y);
    page.right(RIGHT, y, 8.0, format!("highest {}/s   average {}/s", human(top as u64), human(average as u64)));
    let base = y + 3.0 + height;
    page.line(vec![(LEFT, y + 3.0), (LEFT, base), (RIGHT, base)], 0.25, 0.0);
    let step = WIDE / data.rates.len() as f32;
    let mut points: Vec<(f32, f32)> = Vec::new();
    for (at, rate) in data.rates.iter().enumerate() {
        match rate {
            Some(rate) => points.push((LEFT + (at as f32 + 0.5) * step, base - (rate / top) as f32 * height)),
            None if points.len() > 1 => page.line(std::mem::take(&mut points), 0.35, 0.0),
            None => points.clear(),
        }
    }
    if points.len() > 1 {
        page.line(points, 0.35, 0.0);
    }
    page.text(LEFT, base + 3.5, 7.0, "sector 0");
    page.right(RIGHT, base + 3.5, 7.0, format!("sector {}", thousands(data.source.size_bytes / u64::from(data.source.sectors.0.max(1)))));
    flow.y = base;
    flow.down(10.0);
}

/// So many stretches are listed; whoever has more of them reads the ledger.
const MOST_LOST: usize = 20_000;

/// What was had of a drive that fails, place by place.
fn surface_part(flow: &mut Flow, data: &SheetData) {
    let Some(surface) = &data.surface else { return };
    let states =
        [('s', "saved", Some(Fill::Grey(0.8))), ('u', "not read", None), ('d', "deferred", Some(Fill::Hatch)), ('l', "lost", Some(Fill::Grey(0.0)))];
    let (cell, row) = (WIDE / ACROSS as f32, 2.6);
    flow.head("Surface", 10.0 + row * ROWS as f32);
    let top = flow.y + 3.0;
    let page = &mut flow.drawing;
    let mut x = RIGHT;
    for ((_, word, fill), bytes) in states.into_iter().zip(surface.bytes).rev() {
        let text = format!("{word} {}", human(bytes));
        x -= width(&text, 8.0, false) + 1.0;
        page.text(x, flow.y, 8.0, text);
        x -= 4.0;
        page.rect(x, flow.y - 2.4, 2.8, 2.6, fill, 0.25);
        x -= 4.0;
    }
    let cells: Vec<char> = surface.cells.chars().take(CELLS).collect();
    for (at, line) in cells.chunks(ACROSS).enumerate() {
        let y = top + at as f32 * row;
        let mut from = 0;
        for run in line.chunk_by(|one, next| one == next) {
            let fill = states.iter().find(|(letter, ..)| *letter == run[0]).and_then(|(_, _, fill)| *fill);
            if fill.is_some() {
                page.rect(LEFT + from as f32 * cell, y, run.len() as f32 * cell, row - 0.5, fill, 0.0);
            }
            from += run.len();
        }
        page.rect(LEFT, y, from as f32 * cell, row - 0.5, None, 0.2);
    }
    flow.y = top + row * cells.len().div_ceil(ACROSS) as f32;
    let each = data.source.size_bytes / surface.cells.len().max(1) as u64;
    let files = match surface.files {
        (0, 0) => String::new(),
        (whole, 0) => format!(" Of the files that were found all {} are whole.", thousands(whole)),
        (whole, holed) => {
            format!(" Of the files that were found {} are whole and {} are not; these are named below.", thousands(whole), thousands(holed))
        }
    };
    flow.down(3.5);
    flow.lines(
        LEFT,
        7.5,
        3.5,
        &format!("From the first sector, line by line; each mark stands for {}, and shows the worst in it.{files}", human(each)),
    );
    flow.down(7.0);
}

fn lost_part(flow: &mut Flow, data: &SheetData) {
    let report = &data.report;
    flow.head(if data.surface.is_some() { "Not saved" } else { "Unreadable" }, 8.0);
    let y = flow.y;
    if report.lost.is_empty() {
        let none = if report.outcome == Outcome::Interrupted { "nothing so far" } else { "nothing; every sector was read" };
        flow.drawing.text(LEFT + 26.0, y, 9.0, none);
        return flow.down(7.0);
    }
    let filled = data.surface.as_ref().map_or("zero on the target", |surface| &surface.filled);
    flow.drawing.text(LEFT + 26.0, y, 9.0, format!("{} in {} stretches, {filled}", human(report.lost_bytes), report.lost.len()));
    let each = |lost: &badger_inspect::Stretch| format!("{}+{}", lost.start, lost.sectors);
    let shown: Vec<String> = report.lost.iter().take(MOST_LOST).map(each).collect();
    let more = report.lost.len().saturating_sub(MOST_LOST);
    let tail = if more > 0 { format!(" and {more} more, listed in the ledger") } else { String::new() };
    flow.down(4.0);
    flow.lines(LEFT, 7.5, 3.8, &format!("sectors (first+count): {}{tail}", shown.join(" ")));
    flow.down(7.0);
}

/// What starts the target, drawn: a knot for each link, filled where it holds, half where it is as intended, crossed where it is broken, empty
/// where nobody could look. Behind a broken one the thread is open.
fn chain_part(flow: &mut Flow, report: &Report) {
    let ways = ways(&report.proof);
    if ways.is_empty() {
        return;
    }
    flow.head("Will it start", 14.0);
    flow.drawing.text(LEFT + 46.0, flow.y, 7.5, "filled: holds · half: as intended · crossed: fails · empty: not checked");
    for Way { word, is_chain, links } in ways {
        flow.down(5.0);
        flow.drawing.text(LEFT, flow.y, 8.5, word);
        let (mut x, mut is_open) = (LEFT + 22.0, false);
        for (at, (name, result)) in links.iter().enumerate() {
            let wide = KNOT + 1.0 + width(name, 7.5, false);
            let thread = if at == 0 { 0.0 } else { THREAD };
            if at > 0 && x + thread + wide > RIGHT {
                flow.down(4.4);
                x = LEFT + 22.0;
            }
            if at > 0 && is_chain {
                let y = flow.y - KNOT / 2.0 + 0.2;
                let pieces = if is_open { 3 } else { 1 };
                let each = (THREAD - 2.0) / (2 * pieces - 1) as f32;
                for piece in 0..pieces {
                    let from = x + 1.0 + (2 * piece) as f32 * each;
                    flow.drawing.line(vec![(from, y), (from + each, y)], 0.35, 0.0);
                }
            }
            x += thread;
            knot(&mut flow.drawing, x, flow.y + 0.2, *result);
            flow.drawing.text(x + KNOT + 1.0, flow.y, 7.5, *name);
            x += wide;
            is_open |= *result == Verdict::Fails;
        }
    }
    flow.down(7.0);
}

/// A knot, whose lower left corner is given.
fn knot(page: &mut Drawing, x: f32, y: f32, result: Verdict) {
    let top = y - KNOT;
    match result {
        Verdict::Holds => page.rect(x, top, KNOT, KNOT, Some(Fill::Grey(0.0)), 0.0),
        Verdict::Differs => page.rect(x, top, KNOT / 2.0, KNOT, Some(Fill::Grey(0.0)), 0.0),
        Verdict::Fails => {
            page.line(vec![(x, top), (x + KNOT, y)], 0.4, 0.0);
            page.line(vec![(x, y), (x + KNOT, top)], 0.4, 0.0);
        }
        Verdict::NotChecked => {}
    }
    page.rect(x, top, KNOT, KNOT, None, 0.3);
}

fn proof_part(flow: &mut Flow, report: &Report) {
    flow.head("Proof", 10.0);
    let mut last = "";
    for line in &report.proof {
        flow.down(4.8);
        let y = flow.y;
        // Links of one chain stand below each other.
        if std::mem::replace(&mut last, &line.what) != line.what || line.link.is_empty() {
            flow.drawing.text(LEFT, y, 8.5, line.what.clone());
        }
        flow.drawing.bold(LEFT + 22.0, y, 8.5, verdict(line.result).1);
        let text = if line.link.is_empty() { line.text.clone() } else { format!("{}: {}", line.link, line.text) };
        flow.lines(LEFT + 46.0, 8.5, 3.8, &text);
        // What failed is told to its last place.
        for evidence in line.evidence.iter().filter(|_| line.result == Verdict::Fails) {
            flow.down(3.6);
            flow.lines(LEFT + 46.0, 7.5, 3.6, evidence);
        }
        if !line.advice.is_empty() {
            flow.down(3.6);
            flow.lines(LEFT + 46.0, 7.5, 3.6, &format!("by hand: {}", line.advice));
        }
    }
    flow.down(6.0);
    for (what, hash) in [("source", &report.hash.source), ("target", &report.hash.target)] {
        if !hash.is_empty() {
            let y = flow.y;
            flow.drawing.text(LEFT, y, 7.0, format!("{} tree hash of the {what}", report.hash.algorithm));
            flow.lines(LEFT + 46.0, 7.0, 3.6, hash);
            flow.down(3.8);
        }
    }
}

/// The partitions of the target as a table.
fn partitions_part(flow: &mut Flow, target: &DriveFacts) {
    if target.ribbon.parts.is_empty() {
        return;
    }
    flow.down(4.0);
    let columns = [(RIGHT - 68.0, "first sector"), (RIGHT - 34.0, "size"), (RIGHT, "in use")];
    let title = |flow: &mut Flow| {
        flow.head("Partitions of the target", 12.0);
        let y = flow.y;
        columns.iter().for_each(|(x, name)| flow.drawing.right(*x, y, 8.0, *name));
    };
    title(flow);
    let sector = u64::from(target.sectors.0.max(1));
    for part in &target.ribbon.parts {
        let pages = flow.drawing.pages.len();
        flow.down(4.2);
        if flow.drawing.pages.len() > pages {
            title(flow);
            flow.down(4.2);
        }
        let y = flow.y;
        let used = part.used.map_or_else(|| "-".into(), human);
        for ((x, _), text) in columns.iter().zip([thousands(part.start / sector), human(part.len), used]) {
            flow.drawing.right(*x, y, 8.0, text);
        }
        flow.drawing.text(LEFT, y, 8.0, part.number.to_string());
        flow.drawing.text(LEFT + 62.0, y, 8.0, cut(&part.content, 8.0, 20.0));
        for (at, line) in wrap(&part.name, 8.0, 50.0).into_iter().enumerate() {
            if at > 0 {
                flow.down(3.6);
            }
            let y = flow.y;
            flow.drawing.text(LEFT + 8.0, y, 8.0, line);
        }
    }
}

fn signature(flow: &mut Flow) {
    flow.need(22.0);
    let y = (flow.y + 16.0).max(268.0);
    let page = &mut flow.drawing;
    page.line(vec![(LEFT, y), (LEFT + 70.0, y)], 0.25, 0.0);
    page.line(vec![(RIGHT - 70.0, y), (RIGHT, y)], 0.25, 0.0);
    page.text(LEFT, y + 4.0, 8.0, "technician");
    page.text(RIGHT - 70.0, y + 4.0, 8.0, "received by the customer");
}

/// Whether a file begins as a paper of this program does.
fn is_paper(head: &[u8]) -> bool {
    let is_kind = head.starts_with(b"%PDF-") || head.starts_with(b"<svg");
    is_kind && head.windows(MAKER.len()).any(|part| part == MAKER.as_bytes())
}

/// Writes a paper where nothing is, or over an older paper of this program; over nothing else, and through no link.
///
/// # Errors
/// What the system says; something else that is there is left alone.
pub fn write_paper(path: &std::path::Path, bytes: &[u8]) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    badger_drive::keep::replace(path, &is_paper, |file| {
        file.set_permissions(std::fs::Permissions::from_mode(0o644))?;
        std::io::Write::write_all(file, bytes)
    })?;
    Ok(())
}

/// Puts a file in the place of the one of that name, whole, through a new one beside it that has nobody's name.
///
/// # Errors
/// What the system says; the old one is left then.
pub fn put_in_place(path: &std::path::Path, bytes: &[u8]) -> std::io::Result<()> {
    let dir = path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(std::path::Path::new("."));
    let mut part = tempfile::NamedTempFile::new_in(dir)?;
    std::io::Write::write_all(&mut part, bytes)?;
    part.as_file().sync_all()?;
    part.as_file().set_permissions(std::os::unix::fs::PermissionsExt::from_mode(0o644))?;
    part.persist(path).map(|_| ()).map_err(|error| error.error)
}
