//! The job sheet: one page that says who, when, which drives, what was done and what was proved.

use crate::drawing::{Drawing, Fill, cut, width, wrap};
use crate::ledger::{day, written};
use crate::ribbon::{Part, Ribbon};
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
}

const LEFT: f32 = 18.0;
const RIGHT: f32 = 192.0;
const WIDE: f32 = RIGHT - LEFT;

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
        Outcome::Proved if !behind.is_empty() => {
            format!("What was planned was copied and read back from the new drive; it equals the old one.{behind}")
        }
        // Only a copy of what is in use is proved by its files.
        Outcome::Proved if report.proof.iter().any(|line| line.what == "files") => {
            "What is in use was copied and read back from the new drive; every file equals the old one.".into()
        }
        Outcome::Proved => "Everything was copied and read back from the new drive; it equals the old one.".into(),
        Outcome::Finished => format!("Copied, but a proof failed: {}.{behind}", report.reason),
        Outcome::Incomplete => format!("Copied with loss: {}.{behind}", report.reason),
        Outcome::Interrupted => format!("Broken off: {}.", report.reason),
        Outcome::Refused => format!("Not begun: {}.", report.reason),
    }
}

/// Draws the sheet.
pub fn draw(data: &SheetData) -> Drawing {
    let name = if data.ticket.is_empty() { format!("Job {}", data.job) } else { data.ticket.clone() };
    let mut page = Drawing::a4(&format!("Job sheet {name}"));
    let workshop = if data.workshop.is_empty() { "Job sheet" } else { &data.workshop };
    page.bold(LEFT, 22.0, 16.0, cut(workshop, 17.0, 115.0));
    page.right(RIGHT, 22.0, 11.0, cut(&format!("Job sheet {name}"), 11.0, 55.0));
    page.line(vec![(LEFT, 25.0), (RIGHT, 25.0)], 0.5, 0.0);
    let facts = [
        ("Customer", if data.customer.is_empty() { "-".into() } else { data.customer.clone() }),
        ("Technician", if data.technician.is_empty() { "-".into() } else { data.technician.clone() }),
        ("Begun", written(data.started)),
        ("Ended", written(data.ended)),
        ("Took", span(data.report.seconds)),
        ("Old drive kept until", data.keep_until.map_or_else(|| "not set".into(), day)),
    ];
    for (at, (what, value)) in facts.iter().enumerate() {
        let (x, y) = (LEFT + (at % 2) as f32 * 90.0, 32.0 + (at / 2) as f32 * 5.5);
        page.text(x, y, 9.0, format!("{what}:"));
        page.text(x + 34.0, y, 9.0, cut(value, 9.0, 54.0));
    }
    let mut y = 51.0;
    page.rect(LEFT, y, WIDE, 10.0, None, 0.5);
    page.bold(LEFT + 3.0, y + 6.6, 12.0, data.report.outcome.word().to_uppercase());
    let shift = width(&data.report.outcome.word().to_uppercase(), 12.0, true) + 8.0;
    page.text(LEFT + shift, y + 6.4, 9.0, cut(&outcome_sentence(&data.report), 9.0, WIDE - shift - 3.0));
    y += 17.0;
    for (what, drive) in [("Source", &data.source), ("Target", &data.target)] {
        y = drive_part(&mut page, y, what, drive);
    }
    y = rates_part(&mut page, y, data);
    y = lost_part(&mut page, y, &data.report);
    y = proof_part(&mut page, y, &data.report);
    y = partitions_part(&mut page, y, &data.target);
    signature(&mut page, y);
    page
}

fn drive_part(page: &mut Drawing, mut y: f32, what: &str, drive: &DriveFacts) -> f32 {
    page.bold(LEFT, y, 10.0, what);
    let mut said = vec![drive.model.clone()];
    said.extend(Some(format!("serial {}", drive.serial)).filter(|_| !drive.serial.is_empty()));
    said.extend(Some(format!("firmware {}", drive.firmware)).filter(|_| !drive.firmware.is_empty()));
    said.push(format!("{} ({} bytes)", human(drive.size_bytes), thousands(drive.size_bytes)));
    page.text(LEFT + 18.0, y, 9.0, cut(&said.join("   "), 9.0, WIDE - 18.0));
    y += 4.5;
    let sectors = format!("sectors of {} / {} bytes", drive.sectors.0, drive.sectors.1);
    page.text(LEFT + 18.0, y, 8.0, cut(&format!("{}   {sectors}   {}   {}", drive.connection, drive.ribbon.table, drive.path), 8.0, WIDE - 18.0));
    y += 3.0;
    ribbon(page, y, &drive.ribbon) + 8.0
}

/// The strip: solid what is used, hatched where that is not known, white what is free. Its partitions are numbered
/// where there is room, and named underneath.
fn ribbon(page: &mut Drawing, mut y: f32, strip: &Ribbon) -> f32 {
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
    let names = if strip.parts.is_empty() { "no partitions".into() } else { strip.parts.iter().map(named).collect::<Vec<_>>().join("   ") };
    y += 5.0;
    for line in wrap(&names, 7.5, WIDE).into_iter().take(3) {
        y += 3.5;
        page.text(LEFT, y, 7.5, cut(&line, 7.5, WIDE));
    }
    y
}

fn rates_part(page: &mut Drawing, y: f32, data: &SheetData) -> f32 {
    let known: Vec<f64> = data.rates.iter().flatten().copied().collect();
    if known.is_empty() {
        return y;
    }
    let height = 22.0;
    let top = known.iter().copied().fold(0.0, f64::max);
    page.bold(LEFT, y, 10.0, "Rate over position");
    page.right(
        RIGHT,
        y,
        8.0,
        format!("highest {}/s   average {}/s", human(top as u64), human((known.iter().sum::<f64>() / known.len() as f64) as u64)),
    );
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
    base + 10.0
}

fn lost_part(page: &mut Drawing, mut y: f32, report: &Report) -> f32 {
    page.bold(LEFT, y, 10.0, "Unreadable");
    if report.lost.is_empty() {
        page.text(LEFT + 24.0, y, 9.0, if report.outcome == Outcome::Interrupted { "nothing so far" } else { "nothing; every sector was read" });
        return y + 7.0;
    }
    page.text(LEFT + 24.0, y, 9.0, format!("{} in {} stretches, zero on the target", human(report.lost_bytes), report.lost.len()));
    let each = |lost: &badger_inspect::Stretch| format!("{}+{}", lost.start, lost.sectors);
    let shown: Vec<String> = report.lost.iter().take(24).map(each).collect();
    let more = report.lost.len().saturating_sub(24);
    let tail = if more > 0 { format!("   and {more} more, listed in the ledger") } else { String::new() };
    for line in wrap(&format!("sectors (first+count): {}{tail}", shown.join("  ")), 7.5, WIDE).iter().take(4) {
        y += 4.0;
        page.text(LEFT, y, 7.5, cut(line, 7.5, WIDE));
    }
    y + 7.0
}

fn proof_part(page: &mut Drawing, mut y: f32, report: &Report) -> f32 {
    page.bold(LEFT, y, 10.0, "Proof");
    for line in &report.proof {
        y += 4.8;
        page.text(LEFT, y, 8.5, line.what.clone());
        page.bold(LEFT + 22.0, y, 8.5, verdict(line.result).1);
        for (at, text) in wrap(&line.text, 8.5, WIDE - 44.0).into_iter().take(2).enumerate() {
            if at > 0 {
                y += 3.8;
            }
            page.text(LEFT + 44.0, y, 8.5, cut(&text, 8.5, WIDE - 44.0));
        }
    }
    y += 6.0;
    for (what, hash) in [("source", &report.hash.source), ("target", &report.hash.target)] {
        if !hash.is_empty() {
            page.text(LEFT, y, 7.5, format!("{} tree hash of the {what}", report.hash.algorithm));
            page.text(LEFT + 44.0, y, 7.5, hash.clone());
            y += 3.8;
        }
    }
    y
}

/// The partitions of the target as a table, as far as the page goes.
fn partitions_part(page: &mut Drawing, mut y: f32, target: &DriveFacts) -> f32 {
    let room = ((255.0 - y) / 4.0) as usize;
    if target.ribbon.parts.is_empty() || room < 3 {
        return y;
    }
    y += 4.0;
    page.bold(LEFT, y, 10.0, "Partitions of the target");
    let columns = [(RIGHT - 68.0, "first sector"), (RIGHT - 34.0, "size"), (RIGHT, "in use")];
    columns.iter().for_each(|(x, name)| page.right(*x, y, 8.0, *name));
    let sector = u64::from(target.sectors.0.max(1));
    for part in target.ribbon.parts.iter().take(room - 2) {
        y += 4.0;
        page.text(LEFT, y, 8.0, format!("{}", part.number));
        page.text(LEFT + 8.0, y, 8.0, cut(&part.name, 8.0, 46.0));
        page.text(LEFT + 56.0, y, 8.0, part.content.clone());
        let used = part.used.map_or_else(|| "-".into(), human);
        for ((x, _), text) in columns.iter().zip([thousands(part.start / sector), human(part.len), used]) {
            page.right(*x, y, 8.0, text);
        }
    }
    y
}

fn signature(page: &mut Drawing, y: f32) {
    let y = (y + 16.0).clamp(268.0, 280.0);
    page.line(vec![(LEFT, y), (LEFT + 70.0, y)], 0.25, 0.0);
    page.line(vec![(RIGHT - 70.0, y), (RIGHT, y)], 0.25, 0.0);
    page.text(LEFT, y + 4.0, 8.0, "technician");
    page.text(RIGHT - 70.0, y + 4.0, 8.0, "received by the customer");
}

/// Writes a paper where nothing is, or over an older paper; over nothing else, and through no link.
///
/// # Errors
/// What the system says; something else that is there is left alone.
pub fn write_paper(path: &std::path::Path, bytes: &[u8]) -> std::io::Result<()> {
    use std::io::{Error, ErrorKind};
    if let Ok(meta) = std::fs::symlink_metadata(path) {
        let is_paper = || {
            let mut head = [0u8; 5];
            let read = std::fs::File::open(path).and_then(|mut file| std::io::Read::read_exact(&mut file, &mut head));
            read.is_ok() && (&head == b"%PDF-" || head.starts_with(b"<svg") || head.starts_with(b"<?xml"))
        };
        if !meta.is_file() || !is_paper() {
            return Err(Error::new(ErrorKind::AlreadyExists, "there is something else already: name another file"));
        }
    }
    let dir = path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(std::path::Path::new("."));
    let mut part = tempfile::NamedTempFile::new_in(dir)?;
    std::io::Write::write_all(&mut part, bytes)?;
    part.as_file().sync_all()?;
    part.as_file().set_permissions(std::os::unix::fs::PermissionsExt::from_mode(0o644))?;
    part.persist(path).map(|_| ()).map_err(|error| error.error)
}
