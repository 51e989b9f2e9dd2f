//! Images on the command line: made, put back, proved.

use crate::follow::{Follower, obey_signals};
use crate::{CloneArgs, Common, ImageArgs, RepairArgs, code, commands, exit_code};
use badger_bench::Bench;
use badger_drive::size::{human, span, thousands};
use badger_drive::{Bus, Control, Event, Medium, Observer, Outcome, Phase, Refusal, Source};
use badger_image::Format;
use badger_image::own::{Damage, Image, Passphrase};
use badger_image::write::Form;
use badger_inspect::{Level, Looked, Verdict};
use badger_jobs::ImageOrder;
use badger_layout::Kind;
use badger_transfer::Report;
use std::path::Path;
use std::sync::Arc;

/// The refusal as a report where one was asked for.
fn refused(refusal: Refusal, (from, to): (&Path, &Path), common: &Common) -> Result<u8, Refusal> {
    if !common.json && !common.events {
        return Err(refusal);
    }
    let mut report = Report::new(from.display().to_string(), to.display().to_string());
    (report.code, report.reason) = (refusal.code.into(), refusal.text);
    commands::finish(&report, common);
    Ok(code::REFUSED)
}

/// In which open format; `None` for our own.
fn kind(args: &ImageArgs) -> Result<Option<Format>, Refusal> {
    let extension = args.file.extension().map(|extension| extension.to_string_lossy().to_lowercase());
    let named = args.format.clone().or(extension).unwrap_or_default();
    let open = match Format::of_word(&named) {
        _ if args.file == Path::new("-") => None,
        Some(format) => format,
        None => {
            let text =
                format!("\"{named}\" is no format that is known: zbi, qcow2, vhd, vhdx, vmdk, vdi or raw, by the name's ending or by --format");
            return Err(Refusal::new("usage", text));
        }
    };
    if open.is_some() && (args.parent.is_some() || args.lock || args.level.is_some()) {
        return Err(Refusal::new("usage", "--parent, --lock and --level belong to our own format, zbi"));
    }
    if open.is_none() && args.fixed {
        return Err(Refusal::new("usage", "--fixed belongs to open formats: our own holds every chunk once"));
    }
    if args.old && open != Some(Format::Qcow2) {
        return Err(Refusal::new("usage", "--old belongs to qcow2: no other format has an older version here"));
    }
    if args.split.is_some() && open.is_some_and(|format| format != Format::Raw) {
        return Err(Refusal::new("usage", "--split belongs to our own format, zbi, and to raw drives"));
    }
    Ok(open)
}

/// `badger image`.
pub fn image(bench: &Bench, args: &ImageArgs, common: &Common) -> Result<u8, Refusal> {
    let paths = (args.source.as_path(), args.file.as_path());
    let is_pipe = args.file == Path::new("-");
    if is_pipe && (common.json || common.events) {
        return refused(Refusal::new("usage", "an image on standard output leaves no room there for anything else"), paths, common);
    }
    let format = match kind(args) {
        Ok(format) => format,
        Err(refusal) => return refused(refusal, paths, common),
    };
    let control = Arc::new(Control::new());
    control.limit(args.job.rate.unwrap_or(0));
    obey_signals(control.clone());
    let order = ImageOrder {
        mend_from: None,
        estimate: None,
        form: match (args.fixed, args.packed) {
            (true, _) => Form::Fixed,
            (_, true) => Form::Packed,
            _ => Form::Growing,
        },
        old: args.old,
        source: args.source.clone(),
        file: args.file.clone(),
        used: args.used,
        parent: args.parent.clone(),
        split: args.split,
        level: args.level,
        locked: args.lock,
        restart: args.restart,
        format,
        ticket: args.job.ticket.clone(),
        customer: args.job.customer.clone(),
        technician: if args.job.technician.is_empty() { bench.config.technician.clone() } else { args.job.technician.clone() },
    };
    make(bench, order, &control, common)
}

/// `badger repair`.
pub fn repair(bench: &Bench, args: &RepairArgs, common: &Common) -> Result<u8, Refusal> {
    let control = Arc::new(Control::new());
    obey_signals(control.clone());
    let order = ImageOrder {
        source: args.image.clone(),
        file: args.file.clone(),
        locked: args.lock,
        mend_from: Some(args.from.clone()),
        technician: bench.config.technician.clone(),
        ..ImageOrder::default()
    };
    make(bench, order, &control, common)
}

/// Makes an image, and tells of it.
fn make(bench: &Bench, order: ImageOrder, control: &Control, common: &Common) -> Result<u8, Refusal> {
    let (from, to) = (order.source.clone(), order.file.clone());
    let (paths, is_pipe) = ((from.as_path(), to.as_path()), order.file == Path::new("-"));
    let ready = match order.prepare(bench, control) {
        Ok(ready) => ready,
        Err(refusal) => return refused(refusal, paths, common),
    };
    let quiet = is_pipe || common.json || common.events;
    if !quiet {
        let estimate = ready.estimate;
        let free = ready.free.map(|free| format!(", {} are free there", human(free))).unwrap_or_default();
        tell!(
            "reads {}, takes about {} in the image{free}; reading takes at least {}",
            human(estimate.read),
            human(estimate.stored),
            span(estimate.seconds)
        );
        commands::print_hazards(&ready.hazards);
    }
    if is_pipe {
        ready.hazards.iter().filter(|hazard| hazard.level != Level::Note).for_each(|hazard| complain!("{}  [{}]", hazard.text, hazard.code));
    }
    let follower = Follower::new(&Common { json: common.json || is_pipe, ..common.clone() });
    crate::log::settle();
    let report = ready.run(bench, control, &follower);
    follower.finish();
    let report = match report {
        Ok(report) => report,
        Err(refusal) => return refused(refusal, paths, common),
    };
    if is_pipe {
        // Whole, and proved by whoever has it.
        let fails = report.proof.iter().find(|line| line.result == Verdict::Fails);
        let is_whole = report.outcome == Outcome::Finished && fails.is_none();
        let word = if is_whole { "whole" } else { report.outcome.word() };
        fails.into_iter().for_each(|line| complain!("{}: {}", line.name(), line.text));
        complain!("{word}  {} read, {} written; {}", human(report.read_bytes), human(report.written_bytes), report.reason);
        return Ok(if is_whole { code::DONE } else { exit_code(report.outcome, control.is_stopped()) });
    }
    commands::finish(&report, common);
    // Where it ended for want of room nobody stopped it.
    Ok(exit_code(report.outcome, control.is_stopped() && report.code.is_empty()))
}

/// Why a raw file is no image of a drive, unless somebody says that it is: a text, a part of an image, or any other file has no sectors, no
/// partition table and no volume.
fn no_drive(bench: &Bench, path: &Path, source: &Source) -> Option<String> {
    if source.identity().bus != Bus::File || bench.workshop.as_format.is_some() {
        return None;
    }
    let sector = u64::from(source.geometry().logical_sector);
    let over = std::fs::metadata(path).map_or(0, |meta| meta.len() % sector);
    if over > 0 && badger_drive::split::place_of(path).is_none() {
        return Some(format!("its length is {over} bytes more than whole sectors"));
    }
    let looked = Looked::at(source);
    let is_known = looked.table.kind != Kind::None || !looked.volumes.is_empty();
    (!is_known).then(|| format!("it has no partition table and no volume that is known ({})", looked.content.words()))
}

/// `badger restore`.
pub fn restore(bench: &Bench, args: &CloneArgs, common: &Common) -> Result<u8, Refusal> {
    let source = match bench.workshop.source(&args.source) {
        Ok(source) => source,
        Err(refusal) => return refused(refusal, (&args.source, &args.target), common),
    };
    if source.rests_on().iter().any(|file| file.metadata().is_ok_and(|meta| !meta.is_file())) {
        let text = format!("{} is a drive and no image: badger clone copies drives", args.source.display());
        return refused(Refusal::new("no-image", text), (&args.source, &args.target), common);
    }
    if let Some(why) = no_drive(bench, &args.source, &source) {
        let text =
            format!("{} is no image of a drive: {why}; nothing was written. --as raw takes its bytes as a drive all the same", args.source.display());
        return refused(Refusal::new("no-image", text), (&args.source, &args.target), common);
    }
    drop(source);
    commands::clone(bench, args, common)
}

/// `badger verify IMAGE`: every chunk against its hash.
pub fn verify(bench: &Bench, path: &Path, root: Option<&str>, common: &Common) -> Result<u8, Refusal> {
    let passphrase = bench.workshop.passphrase.as_deref().map(Passphrase::new);
    let unreadable = |error: std::io::Error| {
        let text = format!("{}: {error}; a drive or an image of another format is compared with a second one", path.display());
        Refusal::new("not-readable", text)
    };
    let image = Image::open(path, passphrase.as_ref()).map_err(unreadable)?;
    let (control, follower) = (Arc::new(Control::new()), Follower::new(common));
    obey_signals(control.clone());
    let size = image.geometry().size_bytes;
    follower.event(&Event::Phase { phase: Phase::Prove, total: size, done: 0, files: None });
    image.forget();
    let (mut before, began) = (0, std::time::Instant::now());
    let damage = image.verify(&mut |at| {
        follower.event(&Event::Moved { start: before, len: at.saturating_sub(before), at: began.elapsed().as_secs_f64() });
        before = at;
        control.go_on()
    });
    follower.finish();
    if control.is_stopped() {
        return Ok(code::STOPPED);
    }
    let shown = image.shown();
    // The root hash covers the head, the pages, the hashes of all chunks and what could not be read: an image with the root that the paper
    // names is the one that was made then.
    let mut damage = damage;
    if let Some(root) = root.filter(|root| !root.trim().eq_ignore_ascii_case(&image.hash())) {
        let has = if image.hash().is_empty() { "none".to_string() } else { image.hash() };
        damage.insert(0, Damage { at: 0, text: format!("its root hash is {has}, and not {}", root.trim()) });
    }
    if common.json {
        let damage: Vec<_> = damage.iter().map(|damage| serde_json::json!({ "at": damage.at, "text": damage.text })).collect();
        tell_part!("{}\n", serde_json::json!({ "image": shown, "hash": image.hash(), "damage": damage }));
    } else if damage.is_empty() {
        let left = if shown.sparing { "; only what was in use is in it" } else { "" };
        let lost = if shown.lost_bytes > 0 { format!("; {} could not be read when it was made", human(shown.lost_bytes)) } else { String::new() };
        tell!("sound: every chunk of {} equals its hash{left}{lost}", human(size));
        let with = if root.is_some() { "the one that was named" } else { "compare it with the paper: --root HASH" };
        tell!("  root hash {}  {with}", image.hash());
    } else {
        tell!("damaged in {} places", thousands(damage.len() as u64));
        damage.iter().take(40).for_each(|damage| tell!("  at byte {}: {}", thousands(damage.at), damage.text));
    }
    Ok(if damage.is_empty() { code::DONE } else { code::LOSS })
}
