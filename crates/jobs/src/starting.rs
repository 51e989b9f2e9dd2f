//! Whether what was written will start: its boot chain, held against that of what it was copied from.

use crate::activation;
use crate::mending::MendOrder;
use crate::order::Order;
use badger_bench::Bench;
use badger_drive::{Candidate, Control, Source};
use badger_inspect::references::{self, Carrier, Reference};
use badger_inspect::{Hazard, Level, Line, Looked, Verdict};
use badger_layout::plan::Ids;
use badger_layout::{Plan, Table};
use badger_system::machine::{self, Guest, Starts};
use badger_system::mend::Wishes;
use badger_system::uefi;
use badger_transfer::{Outcome, Report};
use std::path::Path;

/// What is to be known of starting before anything is copied: what the machine that it goes into would not take, and what is asked for.
pub(crate) fn before(order: &Order, source: &Source, looked: &Looked, candidate: &Candidate) -> Vec<Hazard> {
    let mut out = Vec::new();
    let asleep = machine::asleep(source, looked);
    if let (true, Some(place)) = (order.wishes.afresh, &asleep) {
        let text = format!("the system on {place} starts afresh on the target: what was open and not saved is lost there, and stays on the source");
        out.push(Hazard::new(Level::Mind, "starts-afresh", text));
    }
    out.extend(order.fit.as_ref().filter(|rules| rules.uefi).map(|_| converts(source, looked)));
    let Some(machine) = &order.machine else { return out };
    let chains = badger_system::chains(source, looked);
    let asleep = asleep.filter(|_| !order.wishes.afresh);
    let guest = Guest { bus: candidate.identity().bus, sector: candidate.geometry().logical_sector, chains: &chains, asleep };
    for line in machine::fit(machine, &guest) {
        let level = match line.result {
            Verdict::Fails => Level::Mind,
            Verdict::NotChecked | Verdict::Differs => Level::Note,
            Verdict::Holds => continue,
        };
        let name = line.link.rsplit('/').next().unwrap_or_default();
        let Some(code) = machine::HAZARDS.into_iter().find(|code| code.strip_prefix("machine-") == Some(name)) else { continue };
        let way = match name {
            "controller" => "; drivers that it has are laid beside after the copy, where that can be",
            "entry" => "; after the copy it is laid where every firmware looks",
            "firmware" if machine.firmware == Some(Starts::Uefi) => "; with the rule uefi it is converted after the copy",
            _ => "",
        };
        out.push(Hazard::new(level, code, format!("{}: {}{way}", machine.name, line.text)));
    }
    out
}

/// Whether its systems can be made to start by UEFI, and what that costs.
pub(crate) fn converts(source: &Source, looked: &Looked) -> Hazard {
    match uefi::prospect(source, looked) {
        Ok(by) => Hazard::new(
            Level::Mind,
            "becomes-uefi",
            format!("behind everything room is left for a system partition, made after the copy, and filled with {by}; {}", uefi::CONSEQUENCE),
        ),
        Err(why) => Hazard::new(Level::Stop, "no-uefi", format!("it cannot be made to start by UEFI: {why}; take the rule uefi away")),
    }
}

/// What is set right after a copy beyond what the copy broke.
fn wishes(order: &Order) -> Wishes {
    Wishes { uefi: order.fit.as_ref().is_some_and(|rules| rules.uefi), ..order.wishes }
}

/// What on a drive names something of a table, and what a plan does to it.
pub(crate) fn named(drive: &Source, looked: &Looked, table: &Table, plan: &Plan) -> Vec<Reference> {
    let opened: Vec<_> = looked
        .volumes
        .iter()
        .filter_map(|(number, volume)| {
            let partition = looked.table.partitions.iter().find(|partition| partition.number == *number)?;
            let (start, len) = looked.table.place(partition);
            Some((*number, start, volume, badger_fs::files(drive, start, len).ok()))
        })
        .collect();
    let carriers: Vec<Carrier> = opened
        .iter()
        .map(|(number, start, volume, fs)| Carrier { number: *number, start: *start, kind: volume.kind, id: &volume.id, fs: fs.as_deref() })
        .collect();
    references::find(table, &carriers, plan)
}

/// Whether something is set right on the target in the same pass.
pub(crate) fn sets_right(order: &Order, references: &[Reference]) -> bool {
    order.ids == Ids::Fresh || order.machine.is_some() || wishes(order) != Wishes::default() || references::broken(references).next().is_some()
}

/// Sets right on the target what the copy broke of its start, and what was asked for; the report says what, and what is left.
pub(crate) fn set_right(report: &mut Report, bench: &Bench, order: &Order, tail: &str, (source, plan, before): (&Looked, &Plan, &[Reference])) {
    if !is_whole(report) {
        return;
    }
    // The copy knows what got another name, so nothing has to be guessed.
    let numbers = plan.partitions.iter().map(|planned| (planned.from.unwrap_or(planned.number), planned.number));
    let target = bench.workshop.source(&order.target).map(|drive| Looked::at_structures(&drive));
    let renamed = target.map(|target| badger_system::mend::renamed(source, &target, numbers)).unwrap_or_default();
    let table = &source.table;
    let mut mend = MendOrder { target: order.target.clone(), wishes: wishes(order), renamed, undo: false, machine: order.machine.clone() };
    // Only what was said before the run: what the copy breaks, what the machine lacks, what was asked for.
    let is_broken = order.ids == Ids::Fresh || references::broken(before).next().is_some();
    let is_said = |name: &str| match name {
        "names" | "store" | "letters" => is_broken,
        "fallback" => order.machine.is_some(),
        "archive" | "drivers" => order.machine.is_some() || order.wishes.drivers,
        "afresh" => order.wishes.afresh,
        "uefi" => wishes(order).uefi,
        _ => false,
    };
    let mut ready = mend.clone().prepare(bench);
    if let Err(refusal) = &ready
        && refusal.code == "no-uefi"
    {
        // What is named by other names now is set right all the same.
        report.say_of_boot(Line::new("boot", Verdict::Fails, refusal.text.clone()));
        (report.outcome, report.reason) = report.verdict();
        mend.wishes.uefi = false;
        ready = mend.prepare(bench);
    }
    let done = ready.and_then(|mut ready| {
        ready.repairs.retain(|repair| is_said(repair.name));
        if ready.repairs.is_empty() { Ok(None) } else { ready.apply(bench, tail).map(Some) }
    });
    let mended = match done {
        Ok(None) => return,
        Ok(Some(mended)) => mended,
        Err(refusal) => {
            report.say_of_boot(Line::new("boot", Verdict::Fails, format!("it was not set right: {}", refusal.text)));
            (report.outcome, report.reason) = report.verdict();
            return;
        }
    };
    mended.stand_in(report);
    // What the chain does not go through may name the old places still.
    let Ok(drive) = bench.workshop.source(&order.target) else { return };
    let looked = Looked::at_structures(&drive);
    let now = named(&drive, &looked, table, plan);
    // Stores and registries say it in forms of their own: where the chain came that far it has read them by now, and says how they are.
    let is_told = |link: &str| mended.proof.iter().any(|line| line.link.rsplit('/').next() == Some(link));
    let (store, settings) = (is_told("entry"), is_told("letters"));
    let is_open = |old: &&Reference| !(store && old.place.ends_with("/BCD") || settings && old.place.ends_with("/SYSTEM"));
    let is_left = |old: &&Reference| now.iter().any(|new| new.place == old.place && new.names == old.names);
    let left: Vec<String> = references::broken(before).filter(is_open).filter(is_left).map(Reference::told).collect();
    if !left.is_empty() {
        let line = Line::new("boot", Verdict::Fails, "what is named here is not on the target, and could not be set right in place");
        report.say_of_boot(Line { evidence: left, ..line });
        (report.outcome, report.reason) = report.verdict();
    }
}

/// Whether a run came to its end.
fn is_whole(report: &Report) -> bool {
    matches!(report.outcome, Outcome::Proved | Outcome::Finished | Outcome::Incomplete)
}

/// A drive that gives nothing more once the run is told to stop, and what its first structures say.
fn look(bench: &Bench, path: &Path, control: &Control) -> Option<(Source, Looked)> {
    let drive = bench.workshop.source(path).ok()?;
    drive.obey(control);
    let looked = Looked::at_structures(&drive);
    Some((drive, looked))
}

/// Puts the links of the target's chain in place of the line that nobody looked. What does not hold on the source either is told so, and is no
/// fault of the copy.
pub(crate) fn prove(report: &mut Report, bench: &Bench, order: &Order, control: &Control) {
    if !is_whole(report) {
        return;
    }
    let (source, target, machine) = (order.source.as_path(), order.target.as_path(), order.machine.as_ref());
    let Some((drive, looked)) = look(bench, target, control) else { return };
    let (chain, of_machine) = machine::told(&drive, &looked, machine);
    let licence = badger_system::licence::lines(&drive, &looked, machine);
    if let Some(place) = report.proof.iter().position(|line| line.what == "licence")
        && licence.iter().any(|line| !line.link.is_empty())
    {
        report.proof.splice(place..=place, licence);
    }
    if let (Some(service), Some(machine)) = (&bench.config.licence_service, machine) {
        let place = report.proof.iter().rposition(|line| line.what == "licence").map_or(report.proof.len(), |at| at + 1);
        let said = activation::lines(service, &drive, &looked, machine);
        let refused = said.iter().find(|line| line.result == Verdict::Fails).map(|line| line.text.clone());
        report.proof.splice(place..place, said);
        if let (Some(refused), Outcome::Proved) = (refused, report.outcome) {
            (report.outcome, report.reason) = (Outcome::Finished, refused);
        }
    }
    let mut lines = chain.clone();
    if lines.iter().all(|line| line.link.is_empty() && line.result == Verdict::NotChecked) {
        return;
    }
    if lines.iter().any(|line| line.result == Verdict::Fails) {
        let before = look(bench, source, control).map(|(drive, looked)| badger_system::lines(&drive, &looked)).unwrap_or_default();
        for line in lines.iter_mut().filter(|line| line.result == Verdict::Fails) {
            if before.iter().any(|other| other.link == line.link && other.result == Verdict::Fails) {
                line.result = Verdict::Differs;
                line.text = format!("{}; it is so on the source too", line.text);
            }
        }
    }
    if let Some(machine) = machine {
        machine::spare(machine, &mut lines);
        lines.extend(of_machine);
    }
    let name = |line: &Line| machine.filter(|_| line.link.starts_with("machine/")).map(|machine| format!("{}: ", machine.name)).unwrap_or_default();
    let broken = lines.iter().find(|line| line.result == Verdict::Fails).map(|line| format!("{}{}", name(line), line.text));
    let place = report.proof.iter().position(|line| line.what == "boot").unwrap_or(report.proof.len());
    // A line that says what names the old places stays in front of them.
    let keeps = report.proof.get(place).is_some_and(|line| line.result == Verdict::Fails);
    let end = if keeps || place == report.proof.len() { place } else { place + 1 };
    report.proof.splice(if keeps { place + 1..place + 1 } else { place..end }, lines);
    if broken.is_some() && !badger_system::mend::find(&drive, &looked, &chain, badger_system::mend::Wishes::default(), &[]).is_empty() {
        let way = Line::new("boot", Verdict::NotChecked, "some of that can be set right on the target: badger mend shows it, and does it");
        report.say_of_boot(way);
    }
    if let (Some(broken), Outcome::Proved) = (broken, report.outcome) {
        (report.outcome, report.reason) = (Outcome::Finished, format!("it will not start: {broken}"));
    }
}
