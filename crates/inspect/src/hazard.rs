//! Everything to know before a run.

use crate::line::{Line, Verdict};
use crate::looked::{Content, Looked};
use crate::references::{self, Reference};
use crate::volumes::{self, Surveyed};
use badger_drive::discover::Found;
use badger_drive::size::human;
use badger_drive::sounding::Seen;
use badger_drive::{Candidate, Since, Sounding, Source, Standing, Workshop};
use badger_fs::recognise::{Recognised, State};
use badger_layout::plan::Ids;
use badger_layout::{Kind, Plan, Rules, Table, table};
use serde::Serialize;

/// How much a hazard matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    /// Nothing is written while it stands.
    Stop,
    /// Released together with the target, by its tail.
    Mind,
    /// Good to know.
    Note,
}

/// One thing to know. `code` is stable.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Hazard {
    /// Level.
    pub level: Level,
    /// Short stable name.
    pub code: &'static str,
    /// What, where, what to do.
    pub text: String,
}

impl Hazard {
    /// A hazard.
    pub fn new(level: Level, code: &'static str, text: impl Into<String>) -> Self {
        Self { level, code, text: text.into() }
    }
}

/// What a volume holds, in a few words: `System NTFS 246 GB of 249 GB used`.
fn content(volume: &Recognised) -> String {
    let label = if volume.label.is_empty() { String::new() } else { format!("{} ", volume.label) };
    match volume.used_bytes {
        Some(used) => format!("{label}{} {} of {} used", volume.kind.word(), human(used), human(volume.size_bytes)),
        None => format!("{label}{} {}", volume.kind.word(), human(volume.size_bytes)),
    }
}

/// Hazards of a drive on its own, as `show` tells them.
pub fn of_drive(found: Option<&Found>, looked: &Looked) -> Vec<Hazard> {
    let mut out = Vec::new();
    if let Some(found) = found {
        if found.system {
            out.push(Hazard::new(Level::Stop, "system-drive", "this machine runs from it; it is never a target"));
        }
        for used in &found.uses {
            out.push(Hazard::new(Level::Mind, "in-use", format!("it is {used}")));
        }
    }
    match &looked.content {
        Content::Known | Content::LooksEmpty(_) => {}
        Content::NotReadable(_) => out.push(Hazard::new(Level::Mind, "not-readable", looked.content.words())),
        Content::DataWithoutTable { .. } => out.push(Hazard::new(Level::Note, "data-without-table", looked.content.words())),
    }
    for problem in &looked.table.problems {
        let level = if problem.grave { Level::Mind } else { Level::Note };
        out.push(Hazard::new(level, problem.code, problem.text.clone()));
    }
    for (number, volume) in &looked.volumes {
        let name = volumes::called(*number, volume);
        out.extend(volume.doubt().map(|doubt| Hazard::new(Level::Mind, "volume-doubted", format!("{name}: {doubt}"))));
        match volume.state {
            State::Clean => {}
            State::Dirty => out.push(Hazard::new(
                Level::Mind,
                "volume-dirty",
                format!("{name} was in use when it was last seen: what its system had not written yet is missing, and it may check itself at its next start"),
            )),
            State::Hibernated => out.push(Hazard::new(
                Level::Mind,
                "volume-asleep",
                format!("{name}: its system only slept: shut it down fully in its machine, or let it start afresh"),
            )),
            State::Damaged => out.push(Hazard::new(Level::Mind, "volume-damaged", format!("{name}: {}", volume.problems.join("; ")))),
        }
    }
    out.sort_by_key(|hazard| hazard.level);
    out
}

/// Whether one of these says that the source may change while it is read.
pub fn is_in_use(hazards: &[Hazard]) -> bool {
    hazards.iter().any(|hazard| ["source-in-use", "source-is-system"].contains(&hazard.code))
}

/// Whether the drive stayed as it was while it was read; nothing is said of one that nobody used and nobody is known to have written to.
/// `between` is what became of it since an earlier run that this one continues; only some of what that read was looked at again.
pub fn held_still(before: &Standing, after: &Standing, is_in_use: bool, between: Option<Since>) -> Option<Line> {
    let line = |result, text: &str| Line::new("source", result, text);
    match after.since(before) {
        Since::Written => {
            Some(line(Verdict::Fails, "something was written to the drive while it was read: what was read of it may never have been together"))
        }
        Since::Unseen => {
            let text = "whether something was written to the drive while it was read is not known: it was taken out, or another came into its place";
            Some(line(Verdict::NotChecked, text))
        }
        _ if matches!(between, Some(Since::Written | Since::Unseen | Since::Silent)) => {
            let text = "resumed: some places of what an earlier run read were read again and are equal; whether the drive was written to elsewhere between the runs is not known";
            Some(line(Verdict::NotChecked, text))
        }
        Since::Same if between == Some(Since::Same) => {
            Some(line(Verdict::Holds, "resumed: nothing was written to the drive since the first run began"))
        }
        Since::Same => is_in_use.then(|| line(Verdict::Holds, "the drive was in use, but nothing was written to it while it was read")),
        Since::Silent => is_in_use
            .then(|| line(Verdict::NotChecked, "the drive was in use; whether something was written to it while it was read is not to be seen")),
    }
}

/// What is to be known of two drives before anything of the source is read.
pub fn of_places(workshop: &Workshop, source: &Source, candidate: &Candidate) -> Vec<Hazard> {
    let stops = candidate.stops(source, 0);
    let mut out: Vec<Hazard> = stops.into_iter().map(|stop| Hazard::new(Level::Stop, stop.code, stop.text)).collect();
    out.push(target_content(workshop, candidate));
    out.extend(of_source(workshop, source));
    if let Err(claimed) = source.claim() {
        out.push(Hazard::new(Level::Stop, claimed.code, claimed.text));
    }
    out.extend(veiled(source, candidate));
    out
}

/// What is to be known of a drive that is to be read, whatever becomes of what is read.
pub fn of_source(workshop: &Workshop, source: &Source) -> Vec<Hazard> {
    let mut out = Vec::new();
    let found = workshop.found(&source.identity().path);
    let mut uses: Vec<_> = found.iter().flat_map(|found| found.uses.clone()).collect();
    uses.extend(workshop.uses(source.ground()).into_iter().filter(|used| !found.iter().any(|found| found.uses.contains(used))));
    let told: Vec<String> = uses.iter().map(ToString::to_string).collect();
    if !told.is_empty() {
        let text = format!("the source is {}: what changes while it is read may not fit together", told.join(", "));
        out.push(Hazard::new(Level::Mind, "source-in-use", text));
    }
    if !workshop.sysfs.sees_all_writers() {
        let text = "whether another user's program writes to a drive right now is not to be seen: only root sees all programs";
        out.push(Hazard::new(Level::Note, "writers-unseen", text));
    }
    if found.is_some_and(|found| found.system) {
        out.push(Hazard::new(Level::Mind, "source-is-system", "the source is the disk this machine runs from"));
    }
    out.extend(source.remark().map(|text| Hazard::new(Level::Mind, "source-in-part", text)));
    out.extend(of_image(source));
    out
}

/// What an image says of the files that its bytes come from.
pub fn of_image(source: &Source) -> Vec<Hazard> {
    source.notes().into_iter().map(|text| Hazard::new(Level::Note, "image-rests-on", format!("the image {text}"))).collect()
}

/// What is to be known of two drives whatever goes where between them.
pub fn of_pair(workshop: &Workshop, source: &Source, looked: &Looked, candidate: &Candidate, ids: Ids) -> Vec<Hazard> {
    let mut out = of_places(workshop, source, candidate);
    out.extend(of_drive(None, looked));
    if ids == Ids::Keep && !looked.table.disk_id.is_empty() {
        let twins = twins(workshop, source, candidate, &looked.table);
        for twin in twins {
            out.push(Hazard::new(
                Level::Mind,
                "same-ids",
                format!("{twin} carries the same disk identifier already: unplug one of them before a system starts"),
            ));
        }
        out.push(Hazard::new(Level::Note, "ids-kept", "identifiers are kept: do not start with source and target both attached"));
    }
    out
}

/// What the system does not show: which storage lies below, and whether it looks like one and the same.
fn veiled(source: &Source, candidate: &Candidate) -> Vec<Hazard> {
    let mut out = Vec::new();
    for (side, ground) in [("source", source.ground()), ("target", candidate.ground())] {
        for veil in &ground.veils {
            let text = format!("the {side} lies behind {veil}, which hides what is below: a mark at the release tells whether both are one");
            out.push(Hazard::new(Level::Note, "veiled", text));
        }
    }
    let Some(witness) = candidate.witness().filter(|_| !out.is_empty()) else { return out };
    let data = witness.sounding.places.iter().filter(|(_, seen)| matches!(seen, Seen::Data(_))).copied().collect();
    let (compared, differ) = Sounding { places: data }.compare(&**source);
    if compared > 0 && differ.is_empty() {
        let text = format!("source and target hold the same bytes in all {compared} places that were compared: are they one and the same?");
        out.push(Hazard::new(Level::Mind, "looks-like-source", text));
    }
    out
}

/// What is to be known of a plan itself, and of what names partitions that it changes.
pub fn of_plan(looked: &Looked, plan: &Plan, references: &[Reference]) -> Vec<Hazard> {
    let mut out = Vec::new();
    let broken: Vec<String> = references::broken(references).map(Reference::told).collect();
    if let Some(first) = broken.first() {
        let more = if broken.len() > 1 { format!(" and {} more", broken.len() - 1) } else { String::new() };
        let text = format!(
            "what starts it names what the target will not have: {first}{more}; that is set right after the copy where it can be in place, and the proof says what is left"
        );
        out.push(Hazard::new(Level::Mind, "will-not-start", text));
    }
    if plan.reach() > plan.target.size_bytes {
        let short = human(plan.reach() - plan.target.size_bytes);
        out.push(Hazard::new(Level::Stop, "target-too-small", format!("the target is {short} too small for what is planned")));
    }
    for number in &plan.left_out {
        let name = looked.volume(*number).map_or_else(|| format!("partition {number}"), |volume| volumes::called(*number, volume));
        out.push(Hazard::new(Level::Mind, "left-out", format!("{name} stays behind: nothing of it will be on the target")));
    }
    if plan.kind != looked.table.kind {
        let text = format!(
            "the table becomes {} where it was {}: the firmware must start the other way, and what names the disk by its old identifier does not find it",
            plan.kind.word(),
            looked.table.kind.word()
        );
        out.push(Hazard::new(Level::Mind, "table-changes", text));
    }
    if plan.source.sector != plan.target.sector && plan.fit.is_some() {
        let text = format!(
            "sectors have {} bytes where they had {}: start-up code that counts sectors is left to the start-up step",
            plan.target.sector, plan.source.sector
        );
        out.push(Hazard::new(Level::Mind, "sector-changes", text));
    }
    if plan.source.sector != plan.target.sector {
        out.extend(of_sectors(looked, plan));
    }
    if plan.fit.is_some() && !plan.recasts.is_empty() && plan.sparing.as_ref().is_none_or(|sparing| sparing.volumes.len() == plan.recasts.len()) {
        let text = "of volumes that change only what is in use is copied: deleted files cannot be found on the target";
        out.push(Hazard::new(Level::Note, "changed-used-only", text));
    }
    if let Some(sparing) = plan.sparing.as_ref().filter(|sparing| plan.fit.is_none() || sparing.volumes.len() > plan.recasts.len()) {
        let text =
            format!("only what is in use is copied, {}; deleted files cannot be found on the target; {}", human(plan.bytes()), sparing.rest.word());
        out.push(Hazard::new(Level::Note, "used-only", text));
        for (number, volume) in &looked.volumes {
            if matches!(volume.state, State::Dirty | State::Hibernated) && sparing.volumes.iter().any(|spared| spared.number == *number) {
                let name = volumes::called(*number, volume);
                let text = format!(
                    "{name} was not put away: what it has in use is taken from its disk, and what its system had not written yet is not there; a whole clone is safer"
                );
                out.push(Hazard::new(Level::Mind, "used-only-open", text));
            }
        }
    }
    let end = plan.partitions.iter().map(|planned| planned.place(plan.target.sector)).map(|(start, len)| start + len).max();
    let reach = if plan.fit.is_some() { end.unwrap_or(0) } else { plan.source.size_bytes };
    // What is kept for a system partition is not unused.
    let is_uefi = plan.fit.as_ref().and_then(|fit| fit.parse::<Rules>().ok()).is_some_and(|rules| rules.uefi);
    let kept = if is_uefi { badger_layout::fit::system_partition(plan.target.sector) } else { 0 };
    let unused = plan.target.size_bytes.saturating_sub(reach).saturating_sub(kept);
    if unused > plan.source.size_bytes / 20 {
        out.push(Hazard::new(
            Level::Note,
            "space-unused",
            format!(
                "{} at the end of the target stay unused: {}",
                human(unused),
                if plan.fit.is_some() { "no partition reaches there" } else { "partitions keep their sizes" }
            ),
        ));
    }
    if plan.kind == Kind::Mbr && plan.target.size_bytes / u64::from(plan.target.sector) > 1 << 32 {
        out.push(Hazard::new(Level::Note, "mbr-limit", "the MBR table cannot use the target beyond 2^32 sectors"));
    }
    out.sort_by_key(|hazard| hazard.level);
    out
}

/// Volumes that come as they are onto a drive with other sectors: not every format can live there.
fn of_sectors(looked: &Looked, plan: &Plan) -> Vec<Hazard> {
    let sector = plan.target.sector;
    let (mut out, mut unknown) = (Vec::new(), Vec::new());
    let numbers: Vec<u32> = looked.table.data_partitions().into_iter().map(|partition| partition.number).collect();
    let whole = looked.volumes.iter().map(|(number, _)| *number).filter(|number| !numbers.contains(number));
    for number in numbers.iter().copied().chain(whole) {
        let comes = plan.fit.is_none() || plan.planned(number).is_some();
        if !comes || plan.recast(number).is_some() {
            continue;
        }
        let volume = looked.volume(number);
        let name = volume.map_or_else(|| format!("partition {number}"), |volume| volumes::called(number, volume));
        match volume.and_then(|volume| volume.most_sector) {
            Some(most) if most < sector => {
                let text = format!(
                    "{name} counts in sectors of {most} bytes: its systems cannot read it from a drive with sectors of {sector}; leave it out, or take a target with sectors of {most}"
                );
                out.push(Hazard::new(Level::Stop, "needs-small-sectors", text));
            }
            Some(_) => {}
            None => unknown.push(name),
        }
    }
    if !unknown.is_empty() {
        let text = format!("whether what is in {} can be read from sectors of {sector} bytes is not known", unknown.join(", "));
        out.push(Hazard::new(Level::Mind, "sectors-not-known", text));
    }
    out
}

/// Volumes of which nothing can be left out although that was asked for, and why.
pub fn of_whole_volumes(surveyed: &[Surveyed]) -> Vec<Hazard> {
    let whole = surveyed.iter().filter_map(|volume| {
        let why = volume.must_be_whole()?;
        let level = if volume.survey().is_some() { Level::Mind } else { Level::Note };
        Some(Hazard::new(level, "volume-whole", format!("{} is copied whole: {why}", volumes::name(volume.number, &volume.volume))))
    });
    whole.collect()
}

/// Volumes that could not take another size although they hold people's data, and why.
pub fn of_unchanging(looked: &Looked, parts: &[badger_layout::fit::Part], plan: &Plan) -> Vec<Hazard> {
    let each = parts.iter().filter(|part| looked.volume(part.number).is_some() && !plan.left_out.contains(&part.number));
    let each = each.filter_map(|part| {
        let why = part.limits.as_ref().err()?;
        let kind = looked.volume(part.number)?.kind.word();
        Some(Hazard::new(Level::Note, "volume-whole", format!("{}, {kind}, keeps its size: {why}", part.name)))
    });
    each.collect()
}

/// What is known of what the target holds. Every target gets one such line.
fn target_content(workshop: &Workshop, candidate: &Candidate) -> Hazard {
    if candidate.is_new() {
        return Hazard::new(Level::Note, "target-new", "the target is a new file; nothing is overwritten");
    }
    let source = match workshop.source(&candidate.identity().path) {
        Ok(source) => source,
        Err(refusal) => return Hazard::new(Level::Mind, "target-not-readable", format!("what the target holds is not known: {}", refusal.text)),
    };
    let looked = Looked::at(&source);
    match &looked.content {
        Content::Known => {}
        Content::NotReadable(why) => {
            return Hazard::new(Level::Mind, "target-not-readable", format!("what the target holds is not known, it is not readable: {why}"));
        }
        Content::LooksEmpty(places) => {
            let text = format!("the target looks empty: nothing but zeroes in {places} places spread over it; what lies between them is not known");
            return Hazard::new(Level::Note, "target-looks-empty", text);
        }
        Content::DataWithoutTable { with, places, first } => {
            let text = format!("the target holds data without a table, in {with} of {places} places, the first at byte {first}: all of it is lost");
            return Hazard::new(Level::Mind, "target-holds", text);
        }
    }
    let partitions = looked.table.data_partitions().len();
    let held: Vec<String> = looked.volumes.iter().map(|(_, volume)| content(volume)).collect();
    let held = if held.is_empty() { "nothing that is recognised".into() } else { held.join(", ") };
    let text = if looked.table.kind == Kind::None {
        format!("the target holds {held}: all of it is lost")
    } else {
        let word = if partitions == 1 { "partition" } else { "partitions" };
        format!("the target holds {partitions} {word}: {held}: all of it is lost")
    };
    Hazard::new(Level::Mind, "target-holds", text)
}

/// Other attached drives with the source's disk identifier.
fn twins(workshop: &Workshop, source: &Source, candidate: &Candidate, table: &Table) -> Vec<String> {
    let mut out = Vec::new();
    for found in workshop.drives() {
        if found.identity.path == source.identity().path || found.identity.path == candidate.identity().path {
            continue;
        }
        let Ok(other) = workshop.source(&found.identity.path) else { continue };
        if other.ground().touches(source.ground()) || other.ground().touches(candidate.ground()) {
            continue;
        }
        let disk_id = table::read(&*other).disk_id;
        if !disk_id.is_empty() && disk_id == table.disk_id {
            out.push(format!("{} ({})", found.identity.model, found.identity.path.display()));
        }
    }
    out
}
