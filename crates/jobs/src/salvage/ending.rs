//! What comes after the last read: marks on the target where nothing was had, and an image of what was saved.

use super::{Fill, SalvageOrder, node};
use crate::imaging::ImageOrder;
use badger_bench::Bench;
use badger_drive::{Control, Observer, Outcome, Target};
use badger_inspect::{Line, Verdict};
use badger_salvage::ends::Break;
use badger_salvage::map::{Map, State};
use badger_salvage::pieces;
use badger_transfer::Report;
use std::path::Path;

/// Makes an image of what was saved. Where all was, and the image is proved, what it was gathered in is taken away.
/// `written` is the file it was gathered in, as it was opened.
pub(super) fn packed(
    bench: &Bench,
    order: &SalvageOrder,
    (image, written): (&Path, &str),
    control: &Control,
    observer: &dyn Observer,
    report: &mut Report,
) {
    let asked = ImageOrder {
        source: order.map.clone(),
        file: image.to_path_buf(),
        ticket: order.ticket.clone(),
        customer: order.customer.clone(),
        technician: order.technician.clone(),
        ..ImageOrder::default()
    };
    let shown = image.display();
    let stands = node(&order.target);
    let mut is_proved = false;
    let line = match asked.prepare(bench, control).and_then(|ready| ready.run(bench, control, observer)) {
        Err(refusal) => Line::new("image", Verdict::Fails, format!("{shown} could not be made of what was saved: {}", refusal.text)),
        Ok(made) => {
            is_proved = made.outcome == Outcome::Proved;
            let blocks = made.proof.iter().find(|line| line.what == "blocks");
            let (held, said) = blocks.map_or((Verdict::NotChecked, ""), |line| (line.result, line.text.as_str()));
            match made.outcome {
                Outcome::Interrupted | Outcome::Refused => {
                    // What is gathered is all there: a part of an image is of no use beside it.
                    let _ = badger_image::own::give_up(image, None);
                    Line::new("image", Verdict::Fails, format!("{shown} is not made: {}", made.reason))
                }
                _ => Line::new("image", held, format!("{shown} is made of what was saved: {said}")),
            }
        }
    };
    let is_whole = is_proved && line.result == Verdict::Holds && report.outcome == Outcome::Proved;
    if line.result != Verdict::Holds {
        report.reason = [report.reason.as_str(), line.text.as_str()].iter().filter(|text| !text.is_empty()).copied().collect::<Vec<_>>().join("; ");
        report.outcome = match report.outcome {
            _ if control.is_stopped() => Outcome::Interrupted,
            Outcome::Proved => Outcome::Finished,
            other => other,
        };
    }
    report.proof.push(line);
    if is_whole {
        // Another file may have come into its place while the image was made.
        if stands.is_empty() || stands != written || node(&order.target) != stands {
            report.reason = format!("{} is not the file that was written any more: it stays", order.target.display());
            return;
        }
        for path in [order.target.clone(), order.map.clone(), pieces::beside(&order.map)] {
            if let Err(error) = std::fs::remove_file(&path) {
                report.reason = format!("{} could not be taken away: {error}", path.display());
            }
        }
    }
}

/// Marks on the target what could not be read.
pub(super) fn fill(map: &Map, target: &Target, fill: Fill, sector: u32) -> Result<(), Break> {
    if fill == Fill::Keep {
        return Ok(());
    }
    for (range, _) in map.iter().filter(|(_, state)| matches!(state, State::Lost | State::Deferred(1..))) {
        let mut at = range.start;
        while at < range.end {
            let len = (range.end - at).min(1 << 20);
            match fill {
                Fill::Marked => target.write_at(at, &marks(at, len, u64::from(sector)))?,
                _ if target.zero_run(at, len) >= len => {}
                _ => target.write_zero(at, len)?,
            }
            at += len;
        }
    }
    target.flush()?;
    Ok(())
}

/// A text in every sector of a stretch.
fn marks(start: u64, len: u64, sector: u64) -> Vec<u8> {
    let mut out = vec![0; len as usize];
    for (bytes, at) in out.chunks_mut(sector as usize).zip((start..).step_by(sector as usize)) {
        let text = format!("UNREAD sector {}: it could not be read on the drive that this was salvaged from\n", at / sector);
        let len = text.len().min(bytes.len());
        bytes[..len].copy_from_slice(&text.as_bytes()[..len]);
    }
    out
}
