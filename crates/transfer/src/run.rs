//! A run from its first byte to its proof.

use crate::copy::{self, Break, Context};
use crate::files;
use crate::image::Image;
use crate::journal::Journal;
use crate::proof::{self, ReadBack, Side};
use crate::report::{Outcome, Report};
use crate::route::Route;
use crate::tally::Tally;
use crate::{Control, recast, resume, tree};
use badger_drive::WriteError;
use badger_drive::clock::Clock;
use badger_drive::events::{Event, Observer, Phase};
use badger_drive::size::{human, thousands};
use badger_drive::{Refusal, Since, Source, Target};
use badger_fs::recognise::{Recognised, volumes};
use badger_inspect::{Line, Reference, Stretch, Verdict, references};
use badger_layout::plan::Rest;
use badger_layout::table;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Everything a run is given.
pub struct Run<'a> {
    /// From where.
    pub source: Source,
    /// What the target is to hold; put together of the source by the journal's plan.
    pub image: Image,
    /// To where; released before.
    pub target: Target,
    /// New or found again.
    pub journal: Journal,
    /// Obeyed.
    pub control: &'a Control,
    /// Told.
    pub observer: &'a dyn Observer,
    /// The run's time.
    pub clock: Arc<dyn Clock>,
    /// What on the source names partitions, and what becomes of it.
    pub references: &'a [Reference],
    /// Whether the source is read a second time, to find what it gives differently.
    pub again: bool,
}

/// Runs the journal's plan to its end. The journal of a run that came to its end is given back: it is removed once the outcome is kept, so that
/// a run that is killed in between is proved again and not copied again.
///
/// # Errors
/// A refusal before anything was written: the target is not the one the unfinished run wrote to.
pub fn start(run: Run) -> Result<(Report, Option<Journal>), Refusal> {
    let Run { source, image, target, mut journal, control, observer, clock, references, again } = run;
    let plan = journal.plan.clone();
    let mut tally = journal.past.clone();
    source.obey(control);
    target.obey(control);
    let began = clock.now();
    let context = Context { plan: &plan, source: &source, image: &image, target: &target, control, observer, clock: &*clock, began };
    let path = |identity: &badger_drive::Identity| identity.path.display().to_string();
    let mut report = Report::new(path(source.identity()), path(target.identity()));
    report.planned_bytes = plan.bytes();
    report.left_out = plan.left_out.iter().map(|number| left_out(&source, *number)).collect();
    let resumed = tally.done_bytes();
    let reread = if resumed > 0 || tally.copied { Some(resume::check(&context, &journal, &tally)?) } else { None };
    let (standing, between) = (source.standing(), journal.source.since(&*source));
    let outcome = carry_out(&context, &mut journal, &mut tally, again, &mut report);
    report.read_bytes = tally.done_bytes();
    report.written_bytes += tally.written;
    report.skipped_bytes = tally.skipped;
    let sector = u64::from(plan.source.sector);
    let lost = tally.lost.iter().flat_map(|(range, ())| image.origins(range.start, range.end - range.start, sector));
    report.lost = lost.map(|(start, len)| Stretch { start: start / sector, sectors: len.div_ceil(sector) }).collect();
    report.lost_bytes = tally.lost_bytes();
    report.seconds = tally.seconds + context.seconds();
    if let Err(cause) = outcome {
        // What gave way after a stop gave way to it; but a target that takes no writes, and a journal that cannot be kept, are told.
        let is_of_stop = !matches!(&cause, Break::Journal(_) | Break::Target(WriteError::Failed { .. } | WriteError::Full(_)));
        let cause = if control.is_stopped() && is_of_stop { Break::Stopped } else { cause };
        report.outcome = Outcome::Interrupted;
        report.reason = cause.to_string();
        return Ok((report, None));
    }
    if let (Some(reread), Some(line)) = (reread, report.proof.first_mut()) {
        line.evidence.push(reread.told(resumed));
        // What the system does not say of the time between the runs nobody knows.
        if between != Since::Same {
            let text = format!(
                "resumed: whether the source was written to between the runs is not known; {} blocks of 1 MiB of what was copied before were read again and are equal, \
                 which notices a change of a hundredth of it with a chance of {} %",
                reread.source,
                reread.chance()
            );
            report.proof.insert(1, Line::new("source", Verdict::NotChecked, text));
        }
    }
    if let (Some(line), true) = (report.proof.iter_mut().find(|line| line.what == "boot"), references::broken(references).next().is_some()) {
        line.result = Verdict::Fails;
        line.text = "it will not start as it is: what starts it names what is not on the target".into();
        line.evidence = references::broken(references).map(Reference::told).collect();
    }
    // The last thing that is looked at: a copy that nobody finds, or one of two states, is none.
    if let Err(what) = target.is_still_there() {
        let text = format!("what was written and read back is not what stands under the target's name now: {what}; look for it, and clone again");
        report.proof.insert(0, Line::new("blocks", Verdict::Fails, text));
    }
    let unsound = match source.standing().since(&standing) {
        Since::Written => {
            Some("the source was written to while it was copied: the copy may be half of one state and half of another; copy it again at rest")
        }
        Since::Unseen => Some(
            "whether the source was written to while it was copied is not known, as it was taken out, or another came into its place: copy it again",
        ),
        Since::Same | Since::Silent => None,
    };
    report.proof.splice(0..0, unsound.map(|text| Line::new("blocks", Verdict::Fails, text)));
    (report.outcome, report.reason) = report.verdict();
    target.announce_table();
    Ok((report, Some(journal)))
}

/// How a partition that stayed behind is called.
fn left_out(source: &Source, number: u32) -> String {
    let table = table::read(&**source);
    match table.partitions.iter().find(|partition| partition.number == number) {
        Some(partition) => format!("partition {number} ({}, {})", partition.type_code.meaning(), human(table.place(partition).1)),
        None => format!("partition {number}"),
    }
}

fn carry_out(context: &Context, journal: &mut Journal, tally: &mut Tally, again: bool, report: &mut Report) -> Result<(), Break> {
    let plan = context.plan;
    let earlier = tally.lost.clone();
    if !tally.copied || !earlier.is_empty() {
        if !tally.copied && tally.done.is_empty() {
            context.observer.event(&Event::Phase { phase: Phase::Clear, total: 0, done: 0, files: None });
            copy::clear(context)?;
        }
        context.observer.event(&Event::Phase { phase: Phase::Copy, total: plan.bytes(), done: tally.done_bytes(), files: None });
        copy::copy(context, &Route::of(plan, tally), 1, journal, tally)?;
        let came = copy::late(context, &earlier, journal, tally)?;
        if !tally.copied || came {
            report.written_bytes += copy::write_outer_patches(context)?;
            context.target.finish()?;
            journal.copied()?;
        }
    }
    let total: u64 = proof::proved_stretches(context).iter().map(|(_, len)| len).sum();
    let zeroed = plan.sparing.as_ref().is_some_and(|sparing| sparing.rest == Rest::Zero);
    let rest: u64 = if zeroed { proof::gaps(context).iter().map(|(_, len)| len).sum() } else { 0 };
    context.observer.event(&Event::Phase { phase: Phase::Prove, total: total + rest, done: 0, files: None });
    context.target.forget(0, context.target.geometry().size_bytes);
    let back = proof::read_back(context, journal, &tally.patched, Side::Target)?;
    report.hash.source = tree::hex(&back.source);
    report.hash.expected = tree::hex(&back.expected);
    report.hash.target = tree::hex(&back.found);
    let is_sound = back.differ == 0 && back.unreadable.count == 0;
    report.proof.push(blocks(context, journal, &back, tally));
    if zeroed {
        report.proof.push(beside(context, Rest::Zero)?);
    }
    if again {
        context.observer.event(&Event::Phase { phase: Phase::Again, total, done: 0, files: None });
        let second = proof::read_back(context, journal, &BTreeMap::new(), Side::Source)?;
        report.proof.push(second_reading(context, &second, tally));
    }
    report.proof.extend(structures(context));
    let place = report.proof.iter().position(|line| line.what == "boot").unwrap_or(report.proof.len());
    report.proof.splice(place..place, recast::prove(context));
    if context.control.is_stopped() {
        return Err(Break::Stopped);
    }
    if let Some(sparing) = plan.sparing.as_ref().filter(|sparing| !sparing.volumes.is_empty()) {
        let place = report.proof.iter().position(|line| line.what == "boot").unwrap_or(report.proof.len());
        let lines = files::prove(context, sparing, &files::Blocks { hold: is_sound, lost: &tally.lost })?;
        report.proof.splice(place..place, lines);
    }
    Ok(())
}

/// What nothing was copied to, where it was to become zero.
fn beside(context: &Context, rest: Rest) -> Result<Line, Break> {
    let sector = u64::from(context.plan.target.sector);
    let found = proof::beside(context)?;
    if found.differ == 0 && found.unreadable.count == 0 {
        return Ok(Line::new("blocks", Verdict::Holds, format!("{}: {} read back, nothing but zeroes", rest.word(), human(found.bytes))));
    }
    let text = format!(
        "{} is not so: other bytes in {} blocks of 1 MiB, {} could not be read back",
        rest.word(),
        found.differ,
        human(found.unreadable.bytes)
    );
    let places: Vec<Stretch> = found.differing.iter().chain(&found.unreadable.ranges).map(|(start, len)| stretch((*start, *len), sector)).collect();
    Ok(Line { evidence: listed(&places), places, ..Line::new("blocks", Verdict::Fails, text) })
}

/// A stretch of bytes in sectors.
fn stretch((start, len): (u64, u64), sector: u64) -> Stretch {
    Stretch { start: start / sector, sectors: len.div_ceil(sector) }
}

/// A list of stretches, cut short where it gets long.
fn listed(stretches: &[Stretch]) -> Vec<String> {
    let mut out: Vec<String> = stretches
        .iter()
        .take(50)
        .map(|stretch| match stretch.sectors {
            1 => format!("sector {}", thousands(stretch.start)),
            count => format!("sectors {}–{}", thousands(stretch.start), thousands(stretch.start + count - 1)),
        })
        .collect();
    if stretches.len() > 50 {
        out.push(format!("and {} more stretches", stretches.len() - 50));
    }
    out
}

fn blocks(context: &Context, journal: &Journal, back: &ReadBack, tally: &Tally) -> Line {
    let sector = u64::from(context.plan.target.sector);
    if back.differ == 0 && back.unreadable.count == 0 {
        let intended = context.plan.patches.len();
        let read = match &context.plan.sparing {
            None => human(context.plan.bytes()),
            Some(_) if context.plan.fit.is_some() => human(context.plan.bytes()),
            Some(_) => format!("{} in use", human(context.plan.bytes())),
        };
        let (result, text) = if intended == 0 {
            (Verdict::Holds, format!("all {read} read back from the medium equal the source"))
        } else {
            let changes = if intended == 1 { "change" } else { "changes" };
            (Verdict::Differs, format!("{read} read back; equal to the source but for {intended} {changes} of the plan"))
        };
        let mut line = Line::new("blocks", result, text);
        if let Some(sparing) = &context.plan.sparing {
            line.evidence.push(format!("copied in blocks of 1 MiB in which anything is used; {}", sparing.rest.word()));
        }
        line.evidence.extend(context.plan.patches.iter().map(|patch| {
            format!("intended: {} at sector {}, {} bytes", patch.what, thousands(patch.at / sector), thousands(patch.bytes.len() as u64))
        }));
        if !tally.lost.is_empty() {
            line.evidence.push("places that could not be read are zero on the target".into());
        }
        return line;
    }
    let mut found = Vec::new();
    let mut evidence = Vec::new();
    for &leaf in back.differing.iter().take(256) {
        match proof::narrow(context, journal, leaf) {
            Some(stretches) if stretches.is_empty() => {
                evidence.push(format!(
                    "sectors {}–{}: wrong once, right when read again: the target is not steady",
                    leaf * tree::LEAF / sector,
                    (leaf + 1) * tree::LEAF / sector - 1
                ));
            }
            Some(stretches) => found.extend(stretches),
            None => evidence.push(format!(
                "somewhere in sectors {}–{}; the source gives other bytes now",
                leaf * tree::LEAF / sector,
                (leaf + 1) * tree::LEAF / sector - 1
            )),
        }
    }
    let differing: u64 = found.iter().map(|stretch| stretch.sectors).sum();
    found.extend(back.unreadable.ranges.iter().map(|place| stretch(*place, sector)));
    found.sort_by_key(|stretch| stretch.start);
    found.dedup();
    let blocks = back.differ - back.unread_leaves.min(back.differ);
    let text = match (blocks, back.unreadable.count) {
        (0, _) => {
            format!("{} of the target cannot be read back; do not hand it over, try another drive", human(back.unreadable.bytes))
        }
        (_, 0) => format!(
            "the target holds other bytes than were written: {} sectors in {blocks} blocks of 1 MiB; do not hand it over, try another drive",
            thousands(differing)
        ),
        _ => format!(
            "the target holds other bytes than were written in {blocks} blocks of 1 MiB, and {} of it cannot be read back; do not hand it over, try another drive",
            human(back.unreadable.bytes)
        ),
    };
    let mut line = Line::new("blocks", Verdict::Fails, text);
    line.evidence = listed(&found);
    line.places = found;
    line.evidence.extend(evidence);
    line
}

fn second_reading(context: &Context, second: &ReadBack, tally: &Tally) -> Line {
    let sector = u64::from(context.plan.target.sector);
    let mut found = Vec::new();
    for &leaf in second.differing.iter().take(256) {
        // The target holds what the first reading gave; a third reading against it names the sectors.
        let start = leaf * tree::LEAF;
        let len = tree::LEAF.min(context.plan.size() - start) as usize;
        let (mut now, mut first) = (badger_drive::buffer::Buffer::new(len), badger_drive::buffer::Buffer::new(len));
        let readable = badger_drive::narrow::read_hard(context.image, start, &mut now, &mut Vec::new()).is_ok()
            && context.target.read_at(start, &mut first).is_ok();
        context.apply_patches(start, &mut now);
        let stretches = if readable { proof::differing_sectors(start, &now, &first, context.plan.target.sector) } else { Vec::new() };
        if stretches.is_empty() {
            found.push(Stretch { start: start / sector, sectors: len as u64 / sector });
        }
        found.extend(stretches);
    }
    let lost = |stretch: &Stretch| tally.lost.within(stretch.start * sector..(stretch.start + 1) * sector).next().is_some();
    found.retain(|stretch| !lost(stretch));
    if found.is_empty() {
        return Line::new("blocks", Verdict::Holds, "a second reading of the source gives the same bytes");
    }
    let sectors: u64 = found.iter().map(|stretch| stretch.sectors).sum();
    let mut line = Line::new(
        "blocks",
        Verdict::Fails,
        format!("the source gives other bytes when read again: {} sectors; which reading is right nobody knows", thousands(sectors)),
    );
    line.evidence = listed(&found);
    line.places = found;
    line
}

/// A power of two of bytes, as alignments are named.
fn human_binary(bytes: u64) -> String {
    if bytes.is_multiple_of(1 << 20) { format!("{} MiB", bytes >> 20) } else { format!("{bytes} bytes") }
}

/// Whether a volume of the source stands on the target: the same in everything, or, where it was shown anew, the same
/// volume with another size.
fn arrived(context: &Context, (number, volume): &(u32, Recognised), here: &[(u32, Recognised)]) -> bool {
    let recast = context.plan.recast(*number);
    here.iter().filter(|(other, _)| *other == context.plan.number_after(*number)).any(|(_, found)| {
        let same = (found.kind, &found.label, found.state) == (volume.kind, &volume.label, volume.state);
        found == volume || recast.is_some_and(|recast| same && (found.id == volume.id) == recast.id.is_empty())
    })
}

/// The table and the file systems, parsed again from the target.
fn structures(context: &Context) -> Vec<Line> {
    let mut lines = Vec::new();
    let table = table::read(&**context.target);
    let before = table::read(&**context.source);
    let differences = context.plan.differences(&table);
    let mut line = if !differences.is_empty() {
        Line { evidence: differences, ..Line::new("table", Verdict::Fails, "the table on the target is not the planned one") }
    } else if context.plan.patches.is_empty() {
        Line::new("table", Verdict::Holds, format!("{} with {} partitions, as on the source", table.kind.word(), table.data_partitions().len()))
    } else {
        Line::new(
            "table",
            Verdict::Holds,
            format!("{} with {} partitions, as planned for the new size", table.kind.word(), table.data_partitions().len()),
        )
    };
    if context.plan.fit.is_some() {
        let step = badger_layout::fit::STEP.max(u64::from(context.plan.target.physical));
        let crooked = table.data_partitions().iter().filter(|partition| !table.place(partition).0.is_multiple_of(step)).count();
        if crooked == 0 && table.kind != badger_layout::Kind::None {
            line.evidence.push(format!("every partition begins at a multiple of {}", human_binary(step)));
        } else if crooked > 0 {
            line.result = Verdict::Fails;
            line.text = format!("{crooked} partitions do not begin at a multiple of {}", human_binary(step));
        }
    }
    line.evidence.extend(table.problems.iter().map(|problem| {
        let known = before.problems.iter().any(|other| other.code == problem.code);
        format!("{}: {}{}", problem.code, problem.text, if known { " (as on the source)" } else { "" })
    }));
    if !table.is_sound() && before.is_sound() {
        line.result = Verdict::Fails;
        line.text = "the table on the target is damaged where the source's is sound".into();
    }
    line.evidence.extend(table.data_partitions().iter().map(|partition| {
        format!(
            "{} at sector {}, {} sectors, {}",
            partition.number,
            thousands(partition.start),
            thousands(partition.sectors),
            partition.type_code.meaning()
        )
    }));
    lines.push(line);
    let (mut there, here) = (volumes(&**context.source, &before), volumes(&**context.target, &table));
    there.retain(|(number, _)| !context.plan.left_out.contains(number));
    if !there.is_empty() {
        let missing: Vec<String> = there
            .iter()
            .filter(|volume| !arrived(context, volume, &here))
            .map(|(number, volume)| format!("{} in partition {number} is not found there as on the source", volume.kind.word()))
            .collect();
        let mut line = if missing.is_empty() {
            Line::new("file-system", Verdict::Holds, format!("{} recognised, the same as on the source", here.len()))
        } else {
            Line::new("file-system", Verdict::Fails, "a file system is not recognised as on the source")
        };
        line.evidence = missing;
        line.evidence.extend(here.iter().map(|(number, volume)| {
            let label = if volume.label.is_empty() { String::new() } else { format!(" \"{}\"", volume.label) };
            format!("{number} {}{label} {}", volume.kind.word(), volume.id)
        }));
        lines.push(line);
    }
    lines.push(Line::new("boot", Verdict::NotChecked, "starting up was not tried"));
    lines.push(Line::new("licence", Verdict::NotChecked, "the licence was not looked at"));
    lines
}
