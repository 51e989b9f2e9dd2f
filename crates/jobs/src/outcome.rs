//! What a salvage came to: its account, its proof, its drawing.

use badger_bench::sheet::{CELLS, Surface};
use badger_drive::clock::Clock;
use badger_drive::size::{human, thousands};
use badger_drive::{Control, Event, Observer, Outcome, Source, Target};
use badger_inspect::{Line, Looked, Stretch, Verdict};
use badger_salvage::holed::Files;
use badger_salvage::map::{Map, State};
use badger_salvage::pieces;
use badger_transfer::Report;
use std::ops::Range;
use std::path::Path;

/// What was read, and what is missing.
pub(crate) fn account(report: &mut Report, map: &Map, before: u64, sector: u32) {
    let (totals, sector) = (map.totals(), u64::from(sector));
    report.read_bytes = totals.saved.saturating_sub(before);
    report.written_bytes = report.read_bytes;
    report.lost_bytes = map.size() - totals.saved;
    let mut lost: Vec<(u64, u64)> = Vec::new();
    for (range, _) in map.iter().filter(|(_, state)| *state != State::Saved) {
        match lost.last_mut() {
            Some((_, end)) if *end == range.start => *end = range.end,
            _ => lost.push((range.start, range.end)),
        }
    }
    report.lost = lost.into_iter().map(|(start, end)| Stretch { start: start / sector, sectors: (end - start).div_ceil(sector) }).collect();
}

/// The map as a drawing on paper.
pub(crate) fn surface(map: &Map, files: &Files, filled: &str) -> Surface {
    let size = map.size().max(1);
    let letter = |state: State| match state {
        State::Saved => ('s', 0),
        State::Unread => ('u', 1),
        State::Deferred(_) => ('d', 2),
        State::Lost => ('l', 3),
    };
    let share = |at: usize| (u128::from(size) * at as u128 / CELLS as u128) as u64;
    let worst = |at: usize| {
        let range = share(at)..share(at + 1).max(share(at) + 1);
        map.within(range).map(|(_, state)| letter(state)).max_by_key(|(_, rank)| *rank).map_or('s', |(letter, _)| letter)
    };
    let totals = map.totals();
    Surface {
        cells: (0..CELLS).map(worst).collect(),
        bytes: [totals.saved, totals.unread, totals.deferred, totals.lost],
        filled: filled.into(),
        files: (files.whole, files.holed.len() as u64),
    }
}

/// Reads back what was written. The places that hold other bytes.
pub(crate) fn prove(
    report: &mut Report,
    map_path: &Path,
    map: &Map,
    target: &Target,
    control: &Control,
    observer: &dyn Observer,
    clock: &dyn Clock,
) -> Vec<Range<u64>> {
    let began = clock.now();
    let each = |start: u64, len: u64| {
        let at = clock.now().saturating_sub(began).as_secs_f64();
        observer.event(&Event::Moved { start, len, at });
    };
    let sector = u64::from(target.geometry().logical_sector);
    let back = pieces::prove(map_path, map, target, control, &each);
    let differing = back.as_ref().map(|back| back.differing.clone()).unwrap_or_default();
    let line = match back {
        Err(error) => Line::new("blocks", Verdict::NotChecked, format!("what was written cannot be compared: its list cannot be read: {error}")),
        Ok(back) if back.stopped => Line::new("blocks", Verdict::NotChecked, "stopped while the target was read back"),
        Ok(back) if !back.differing.is_empty() => {
            let places =
                back.differing.iter().map(|range| Stretch { start: range.start / sector, sectors: (range.end - range.start).div_ceil(sector) });
            let text =
                format!("{} stretches of the target hold other bytes than were written; do not hand it over, try another one", back.differing.len());
            Line { places: places.collect(), ..Line::new("blocks", Verdict::Fails, text) }
        }
        Ok(back) if back.unknown > 0 => {
            let text =
                format!("{} read back from the target equal what was read; of {} more nothing was noted", human(back.equal), human(back.unknown));
            Line::new("blocks", Verdict::NotChecked, text)
        }
        Ok(back) => {
            Line::new("blocks", Verdict::Holds, format!("{} read back from the target equal what was read from the drive", human(back.equal)))
        }
    };
    report.proof.push(line);
    if let Err(what) = target.is_still_there() {
        let text = format!("what was written is not what stands under the target's name now: {what}");
        report.proof.insert(0, Line::new("blocks", Verdict::Fails, text));
    }
    differing
}

/// What is said of the files, and of what was not looked at.
pub(crate) fn lines(view: &Source, files: &Files, map: &Map) -> Vec<Line> {
    let mut out = Vec::new();
    let totals = map.totals();
    if totals.saved < map.size() {
        let count = |count: usize| if count == 1 { "1 file is".to_string() } else { format!("{} files are", thousands(count as u64)) };
        let (result, text) = match (files.holed.len(), files.problems.len()) {
            (0, 0) if files.whole > 0 => (Verdict::Holds, format!("all {} files that were found are whole", thousands(files.whole))),
            (0, 0) => (Verdict::NotChecked, "no volume was found whose files could be named".to_string()),
            (0, 1) => (Verdict::NotChecked, "not all files could be named: 1 folder or volume could not be read through".to_string()),
            (0, many) => (Verdict::NotChecked, format!("not all files could be named: {many} folders or volumes could not be read through")),
            (holed, _) => (Verdict::Fails, format!("{} not whole, {} are", count(holed), thousands(files.whole))),
        };
        let named = files.holed.iter().map(|file| match &file.unknown {
            Some(why) => format!("{}: {why}", file.path),
            None => format!("{}: {} of {} missing", file.path, human(file.bytes()), human(file.size)),
        });
        let evidence: Vec<String> = files.problems.iter().cloned().chain(named).take(2000).collect();
        out.push(Line { evidence, ..Line::new("files", result, text) });
        if files.elsewhere > 0 {
            let text = format!("{} that are missing belong to no file that was found", human(files.elsewhere));
            out.push(Line::new("rest", Verdict::NotChecked, text));
        }
    }
    let looked = Looked::at_structures(view);
    let table = &looked.table;
    let text = match table.data_partitions().len() {
        _ if table.kind == badger_layout::Kind::None => "there is no table in what was salvaged".to_string(),
        0 => "there is no partition in what was salvaged".to_string(),
        1 => format!("{} with 1 partition, as it was salvaged", table.kind.word()),
        count => format!("{} with {count} partitions, as it was salvaged", table.kind.word()),
    };
    let sound = table.is_sound();
    let mut line = Line::new("table", if sound { Verdict::Holds } else { Verdict::Fails }, text);
    line.evidence = table.problems.iter().map(|problem| format!("{}: {}", problem.code, problem.text)).collect();
    out.push(line);
    out.push(Line::new("boot", Verdict::NotChecked, "starting up was not tried"));
    out.push(Line::new("licence", Verdict::NotChecked, "the licence was not looked at"));
    out
}

/// The worst of everything that is known is the verdict.
pub(crate) fn conclude(report: &mut Report, map: &Map, control: &Control) {
    let totals = map.totals();
    let failed = report
        .proof
        .iter()
        .find(|line| line.result == Verdict::Fails && ["blocks", "source"].contains(&line.what.as_str()))
        .map(|line| line.text.clone());
    let missing = map.size() - totals.saved;
    (report.outcome, report.reason) = match (failed, missing) {
        (Some(failed), _) => (Outcome::Finished, failed),
        _ if control.is_stopped() => (Outcome::Interrupted, "stopped while the target was read back; give the same command again".into()),
        (None, 0) if report.proof.iter().any(|line| line.what == "blocks" && line.result != Verdict::Holds) => {
            (Outcome::Finished, "all is saved; not all of it could be read back and compared".into())
        }
        (None, 0) => match report.proof.iter().find(|line| line.doubts_source()) {
            Some(doubted) => (Outcome::Finished, doubted.text.clone()),
            None => (Outcome::Proved, String::new()),
        },
        (None, missing) => (Outcome::Incomplete, format!("{} in {} stretches are not saved", human(missing), thousands(report.lost.len() as u64))),
    };
}
