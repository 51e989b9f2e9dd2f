//! The commands, one function each. Each gives its exit code.

use crate::document::{Drive, Show};
use crate::follow::{Follower, obey_signals};
use crate::waiting::Waiting;
use crate::{CloneArgs, Common, code, exit_code, machines};
use badger_bench::ribbon::Ribbon;
use badger_bench::sheet::{SheetData, draw, verdict, write_paper};
use badger_bench::{Bench, Checkup, ledger};
use badger_drive::health::Health;
use badger_drive::size::{human, span, thousands};
use badger_drive::{Bus, Ground, Refusal, Since};
use badger_inspect::hazard;
use badger_inspect::{Content, Looked};
use badger_inspect::{Hazard, Level, Line, Verdict};
use badger_jobs::{Order, Prepared, Ready};
use badger_layout::Kind;
use badger_system::mend::Wishes;
use badger_transfer::{Control, Outcome, Report, verify as compare};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

pub fn print_json(value: &impl Serialize) {
    tell_part!("{}\n", serde_json::to_string_pretty(value).unwrap_or_default());
}

fn no_ledger(error: ledger::Error) -> Refusal {
    Refusal::new("ledger", error.to_string())
}

/// The mark and word of a hazard's level.
pub fn level(level: Level) -> &'static str {
    match level {
        Level::Stop => "◆ stop",
        Level::Mind => "▲ mind",
        Level::Note => "· note",
    }
}

pub fn print_hazards(hazards: &[Hazard]) {
    for hazard in hazards {
        tell!("  {}  {}  [{}]", level(hazard.level), hazard.text, hazard.code);
    }
}

/// `badger drives`.
pub fn drives(bench: &Bench, common: &Common) -> Result<u8, Refusal> {
    let found = bench.workshop.drives();
    if common.json {
        let drives: Vec<Drive> = found.iter().map(|found| Drive::new(&found.identity, found.geometry, Some(found))).collect();
        print_json(&serde_json::json!({ "drives": drives }));
        return Ok(code::DONE);
    }
    if found.is_empty() {
        tell!("no drives attached");
    }
    for found in &found {
        let identity = &found.identity;
        let mut known: Vec<String> = found.uses.iter().map(ToString::to_string).collect();
        if found.system {
            known.insert(0, "this machine's own".into());
        }
        if let Some(adapter) = &identity.adapter {
            known.push(format!("box says \"{adapter}\""));
        }
        tell!(
            "{:<16} {:<24} {:<20} {:>9}  {}{}{}",
            identity.path.display(),
            identity.model,
            if identity.serial.is_empty() { "-" } else { &identity.serial },
            human(found.geometry.size_bytes),
            identity.bus.word(),
            if known.is_empty() { "" } else { "  · " },
            known.join(" · ")
        );
    }
    Ok(code::DONE)
}

/// `badger show`.
pub fn show(bench: &Bench, path: &Path, common: &Common) -> Result<u8, Refusal> {
    let source = bench.workshop.source(path)?;
    let looked = Looked::at(&source);
    let found = bench.workshop.found(path);
    let none = match source.identity().bus {
        Bus::Image => "an image has none of its own",
        Bus::Network => "a borrowed drive passes no question on; ask on the bench that lends it",
        _ => "a file has none of its own; ask the drive it lies on",
    };
    let nobody = || Checkup { health: Health::unknown(none), grown: String::new() };
    let checkup = found.as_ref().map_or_else(nobody, |found| bench.checkup(found, false));
    let hazards = [hazard::of_image(&source), hazard::of_drive(found.as_ref(), &looked)].concat();
    if common.json {
        let drive = Drive::new(source.identity(), source.geometry(), found.as_ref());
        print_json(&Show::new(drive, &checkup, &looked, hazards));
        return Ok(code::DONE);
    }
    let (identity, geometry) = (source.identity(), source.geometry());
    tell!("{}  {}  {}  {}", identity.model, identity.serial, human(geometry.size_bytes), identity.bus.word());
    tell!(
        "  tail {}  sectors {} / {} bytes  {} sectors",
        identity.tail(),
        geometry.logical_sector,
        geometry.physical_sector,
        thousands(geometry.sectors())
    );
    if let Some(adapter) = &identity.adapter {
        tell!("  the box says \"{adapter}\", the drive behind it {}, firmware {}", identity.model, identity.firmware);
    }
    tell!("  health {}", checkup.health.text);
    if !checkup.grown.is_empty() {
        tell!("  {}", checkup.grown);
    }
    let table = &looked.table;
    tell!("  {}{}  {}{}", table.kind.word(), if table.is_sound() { "" } else { ", damaged" }, table.disk_id, looked.content.words());
    let ribbon = Ribbon::of(&looked, geometry.size_bytes);
    for part in &ribbon.parts {
        let used = part.used.map(|used| format!("{} used", human(used))).unwrap_or_default();
        tell!("  {:>3}  {:<24} {:<12} {:>9}  {:>12}  at {}", part.number, part.name, part.content, human(part.len), used, human(part.start));
    }
    print_hazards(&hazards);
    Ok(code::DONE)
}

pub fn print_proof(lines: &[Line], verbose: bool) {
    for line in lines {
        let (mark, word) = verdict(line.result);
        let name = line.name();
        tell!("  {mark} {name:<22} {word:<12} {}", line.text);
        if verbose || line.result == Verdict::Fails {
            line.evidence.iter().for_each(|evidence| tell!("      {evidence}"));
        }
        if !line.advice.is_empty() {
            tell!("      by hand: {}", line.advice);
        }
    }
}

/// `badger check`.
pub fn check(bench: &Bench, path: &Path, machine: Option<&str>, common: &Common) -> Result<u8, Refusal> {
    let machine = machine.map(machines::find).transpose()?;
    let source = bench.workshop.source(path)?;
    let (before, is_in_use) = (source.standing(), hazard::is_in_use(&hazard::of_source(&bench.workshop, &source)));
    let looked = Looked::at(&source);
    let table = &looked.table;
    let mut lines = Vec::new();
    let (result, text) = if table.is_sound() { (Verdict::Holds, "is sound") } else { (Verdict::Fails, "is damaged") };
    // What was not read is neither sound nor empty.
    let result = match looked.content {
        Content::Known | Content::LooksEmpty(_) => result,
        Content::NotReadable(_) | Content::DataWithoutTable { .. } => Verdict::NotChecked,
    };
    let text = match (table.kind, looked.volumes.len()) {
        (Kind::None, 0) => format!("there is none: {}", looked.content.words()),
        (Kind::None, _) => "there is none: one volume begins with the first sector".to_string(),
        _ => format!("{} with {} partitions {text}", table.kind.word(), table.data_partitions().len()),
    };
    let mut line = Line::new("table", result, text);
    line.evidence = table.problems.iter().map(|problem| format!("{}: {}", problem.code, problem.text)).collect();
    lines.push(line);
    let waiting = Waiting::begin(format!("going over the volumes of {}", badger_drive::text::plain(&path.display().to_string())), common);
    lines.extend(badger_inspect::volumes::check(&source, &looked));
    drop(waiting);
    if let Some(found) = bench.workshop.found(path) {
        let health = bench.workshop.health(&found);
        let result = match health.state {
            badger_drive::health::State::Failing => Verdict::Fails,
            badger_drive::health::State::Unknown => Verdict::NotChecked,
            _ => Verdict::Holds,
        };
        lines.push(Line::new("health", result, health.text));
    }
    lines.extend(badger_system::machine::lines(&source, &looked, machine.as_ref()));
    lines.extend(badger_system::licence::lines(&source, &looked, machine.as_ref()));
    if let (Some(service), Some(machine)) = (&bench.config.licence_service, &machine) {
        lines.extend(badger_jobs::activation::lines(service, &source, &looked, machine));
    }
    lines.extend(hazard::held_still(&before, &source.standing(), is_in_use, None));
    if common.json {
        print_json(&serde_json::json!({ "proof": lines }));
    } else {
        print_proof(&lines, true);
    }
    // What was not checked is not sound: a script must not take one for the other.
    let is_checked = |line: &Line| line.result != Verdict::NotChecked || !["table", "file-system"].contains(&line.what.as_str());
    let is_sound = lines.iter().all(|line| line.result != Verdict::Fails && is_checked(line));
    Ok(if is_sound { code::DONE } else { code::LOSS })
}

/// The order the arguments name.
///
/// # Errors
/// A machine that is none.
pub fn order(args: &CloneArgs, bench: &Bench) -> Result<Order, Refusal> {
    Ok(Order {
        machine: args.machine.as_deref().map(machines::find).transpose()?,
        wishes: Wishes { afresh: args.afresh, drivers: args.drivers, ..Wishes::default() },
        new_size: args.new_size,
        ids: args.ids.into(),
        restart: args.restart,
        again: args.again,
        used: args.used.then(|| args.rest.into()),
        fit: args.fit.clone(),
        ticket: args.job.ticket.clone(),
        customer: args.job.customer.clone(),
        technician: if args.job.technician.is_empty() { bench.config.technician.clone() } else { args.job.technician.clone() },
        ..Order::new(args.source.clone(), args.target.clone())
    })
}

/// `badger clone`.
pub fn clone(bench: &Bench, args: &CloneArgs, common: &Common) -> Result<u8, Refusal> {
    let refused = |refusal: Refusal| {
        if common.json || common.events {
            let mut report = Report::new(args.source.display().to_string(), args.target.display().to_string());
            report.reason = refusal.text.clone();
            report.code = refusal.code.to_string();
            finish(&report, common);
            return Ok(code::REFUSED);
        }
        Err(refusal)
    };
    let waiting = Waiting::begin("looking at both drives, and going over what is to change".into(), common);
    let (control, follower) = (Arc::new(Control::new()), Follower::new(common));
    control.limit(args.job.rate.unwrap_or(0));
    let ready = order(args, bench).and_then(|order| Prepared::of(bench, &order)).and_then(|prepared| {
        // Until here a signal simply ends the program: nothing is open but for reading.
        obey_signals(control.clone());
        prepared.settle(&control, &follower).map_err(|(_, refusal)| refusal)
    });
    drop(waiting);
    let ready = match ready {
        Ok(ready) => ready,
        Err(refusal) => return refused(refusal),
    };
    if !common.json && !common.events {
        let (plan, prepared) = (&ready.plan, &ready.prepared);
        let (from, to) = (prepared.source.identity(), prepared.candidate.identity());
        tell!("{} {} → {} {}", from.model, human(plan.source.size_bytes), to.model, human(plan.target.size_bytes));
        print_fit(&ready);
        print_hazards(&prepared.hazards);
        if let Some((past, job)) = &prepared.unfinished {
            tell!("  goes on with the unfinished run of job {job} at {}", human(past.done_bytes()));
        }
    }
    crate::log::settle();
    let report = ready.run(bench, &args.confirm, &control, &follower);
    follower.finish();
    let report = match report {
        Ok(report) => report,
        Err(refusal) => return refused(refusal),
    };
    finish(&report, common);
    Ok(exit_code(report.outcome, control.is_stopped()))
}

/// What a fit does with every partition, and what names them.
fn print_fit(ready: &Ready) {
    let (plan, prepared) = (&ready.plan, &ready.prepared);
    if plan.fit.is_none() {
        return;
    }
    let (before, after) = (prepared.source_ribbon(), prepared.target_ribbon());
    for part in &before.parts {
        let Some(planned) = plan.planned(part.number) else {
            tell!("  {:>3}  {:<24} {:<10} {:>9}", part.number, part.name, "leave out", human(part.len));
            continue;
        };
        let (start, len) = planned.place(plan.target.sector);
        let free = after.parts.iter().find(|other| other.number == planned.number).and_then(|other| other.used);
        let free = free.map(|used| format!("{} free after", human(len.saturating_sub(used)))).unwrap_or_default();
        let least = prepared.parts.iter().find(|one| one.number == part.number).and_then(|one| one.limits.as_ref().ok());
        let least = least.map(|limits| format!("least {}", human(limits.least))).unwrap_or_default();
        let number = if planned.number == part.number { String::new() } else { format!(" as {}", planned.number) };
        tell!(
            "  {:>3}{number}  {:<24} {:<10} {:>9} → {:<9} {free:<18} {least:<14} at {}",
            part.number,
            part.name,
            planned.fit.word(),
            human(part.len),
            human(len),
            human(start)
        );
    }
    for reference in &prepared.references {
        let place = if reference.number == 0 { reference.place.clone() } else { format!("{} of {}", reference.place, reference.number) };
        tell!("  names  {place}: {}: {}", reference.names, reference.effect.word());
    }
}

/// Prints the outcome of a run.
pub fn finish(report: &Report, common: &Common) {
    if common.json {
        print_json(report);
    } else if common.events {
        tell_part!("{}\n", serde_json::json!({ "event": "report", "report": report }));
    } else {
        print_report(report, common.verbose);
    }
}

/// The outcome in words.
pub fn print_report(report: &Report, verbose: bool) {
    tell!(
        "{}  job {}  {} read, {} written, {} needed no writing, {}",
        report.outcome.word(),
        report.job,
        human(report.read_bytes),
        human(report.written_bytes),
        human(report.skipped_bytes),
        span(report.seconds)
    );
    if !report.reason.is_empty() {
        tell!("  {}", report.reason);
    }
    for lost in report.lost.iter().take(20) {
        tell!("  lost: sector {} and on, {} sectors", thousands(lost.start), thousands(lost.sectors));
    }
    if report.lost.len() > 20 {
        tell!("  and {} more stretches; --json lists them all", report.lost.len() - 20);
    }
    print_proof(&report.proof, verbose);
    if report.outcome == Outcome::Proved && !report.hash.source.is_empty() {
        tell!("  blake3 tree of the source  {}", report.hash.source);
        tell!("  blake3 tree of the target  {}", report.hash.target);
    }
}

/// `badger verify`.
pub fn verify(bench: &Bench, a: &Path, b: &Path, common: &Common) -> Result<u8, Refusal> {
    let names = [a.display().to_string(), b.display().to_string()];
    // Two states that one image keeps lie in one file and are two; so the names are asked, and not where the bytes lie.
    let named = [a, b].map(|path| Ground::of(path, &bench.workshop.sysfs).top().cloned());
    let is_one = a == b || named[0].is_some() && named[0] == named[1];
    let (a, b) = (bench.workshop.source(a)?, bench.workshop.source(b)?);
    if is_one {
        let text = format!("{} and {} are one and the same: it equals itself; name what is to be compared with it", names[0], names[1]);
        return Err(Refusal::new("same-drive", text));
    }
    let control = Arc::new(Control::new());
    obey_signals(control.clone());
    let follower = Follower::new(common);
    let clock = a.clock().or_else(|| b.clock()).unwrap_or_else(|| bench.workshop.clock.clone());
    let found = compare::compare(&a, &b, &control, &follower, &*clock);
    follower.finish();
    let sizes = [a.geometry().size_bytes, b.geometry().size_bytes];
    let mut notes: Vec<String> = Vec::new();
    for (number, drive) in [&a, &b].into_iter().enumerate() {
        let name = &names[number];
        match found.since[number] {
            Since::Written => notes.push(format!("something was written to {name} meanwhile: what it holds now is not known")),
            Since::Unseen => notes.push(format!("{name} was taken out, or another came into its place, meanwhile: what it holds now is not known")),
            Since::Same | Since::Silent => {}
        }
        notes.extend(drive.remark().map(|remark| format!("{name}: {remark}")));
        let more = sizes[number].saturating_sub(sizes[1 - number]);
        if more > 0 {
            notes.push(format!("{name} is {} larger, which was not compared", human(more)));
        }
    }
    if a.ground().touches(b.ground()) {
        notes.push(format!("{} and {} lie on the same storage, all of it or a part: what is equal there is no copy", names[0], names[1]));
    }
    if common.json {
        print_json(&serde_json::json!({
            "same": found.is_equal(), "stopped": found.stopped, "compared_bytes": found.bytes, "differing_sectors": found.sectors,
            "differing": found.differing, "unreadable_sectors": found.unread, "unreadable": found.unreadable,
            "size_bytes": sizes, "notes": notes,
        }));
    } else {
        let stopped = if found.stopped { ", and was stopped there" } else { "" };
        if found.sectors == 0 && found.unread == 0 {
            let equal = if found.is_held() { "equal" } else { "nothing that was read differs" };
            tell!("{equal} over {}{stopped}", human(found.bytes));
        } else {
            let (differ, unread) = (thousands(found.sectors), thousands(found.unread));
            tell!("{differ} sectors differ, {unread} could not be read; went over {}{stopped}", human(found.bytes));
        }
        for (what, stretches) in [("differs", &found.differing), ("not read", &found.unreadable)] {
            for stretch in stretches.iter().take(20) {
                tell!("  {what}: sector {} and on, {} sectors", thousands(stretch.start), thousands(stretch.sectors));
            }
        }
        notes.iter().for_each(|note| tell!("  {note}"));
    }
    Ok(match () {
        () if found.stopped => code::STOPPED,
        () if found.is_equal() => code::DONE,
        () => code::LOSS,
    })
}

/// `badger jobs`.
pub fn jobs(bench: &Bench, common: &Common) -> Result<u8, Refusal> {
    let ledger = bench.open_ledger().map_err(no_ledger)?;
    let jobs = ledger.jobs().map_err(no_ledger)?;
    if common.json {
        print_json(&serde_json::json!({ "jobs": jobs }));
        return Ok(code::DONE);
    }
    for job in jobs {
        let outcome = job.outcome.as_deref().unwrap_or(if job.started.is_some() { "unfinished" } else { "planned" });
        tell!("{:>5}  {:<10} {:<28} {}  {outcome}", job.id, job.ticket, job.customer, ledger::written(job.created));
        if common.verbose {
            for (at, text) in ledger.events(job.id).map_err(no_ledger)? {
                tell!("         {}  {text}", ledger::written(at));
            }
        }
    }
    Ok(code::DONE)
}

/// `badger sheet`.
pub fn sheet(bench: &Bench, job: i64, svg: Option<PathBuf>, pdf: Option<PathBuf>) -> Result<u8, Refusal> {
    let ledger = bench.open_ledger().map_err(no_ledger)?;
    let none = || Refusal::new("no-sheet", format!("job {job} has no finished run in the ledger; badger jobs lists them"));
    let (_, json) = ledger.last_run(job).map_err(no_ledger)?.ok_or_else(none)?;
    let mut data: SheetData = serde_json::from_str(&json).map_err(|_| none())?;
    if let Some(row) = ledger.job(job).map_err(no_ledger)? {
        (data.keep_until, data.ticket, data.customer) = (row.keep_until, row.ticket, row.customer);
    }
    let drawing = draw(&data);
    let write =
        |path: &PathBuf, bytes: &[u8]| write_paper(path, bytes).map_err(|error| Refusal::new("not-writable", format!("{}: {error}", path.display())));
    if let Some(path) = &svg {
        write(path, drawing.svg().as_bytes())?;
    }
    if let Some(path) = &pdf {
        write(path, &badger_bench::pdf::write(&drawing))?;
    }
    if svg.is_none() && pdf.is_none() {
        tell_part!("{}", drawing.svg());
    }
    Ok(code::DONE)
}
