//! The sample workshop: made once out of the images that the program carries.

use crate::{Common, code, commands, data_dir, exit_code, open};
use badger_bench::{Bench, Config, sheet};
use badger_drive::size::{human, span};
use badger_drive::{Refusal, Workshop, keep};
use badger_inspect::Looked;
use badger_jobs::{Order, Prepared};
use badger_transfer::events::Silent;
use badger_transfer::{Control, Event};
use std::fs;
use std::io::Write;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// Drives, empty targets and descriptions, made by `workshop/build`.
const IMAGES: &[u8] = include_bytes!("../../../workshop/drives.tar.zst");

/// Stands in a directory while the workshop is unpacked into it.
const MAKING: &[u8] = b"zealous badger: the sample workshop is being unpacked here\n";

/// `badger demo`.
pub fn demo(dir: Option<PathBuf>, run: bool, hurry: u32, bench: Bench, common: &Common) -> Result<u8, Refusal> {
    // The sample workshop has a name and a technician of its own.
    let config = Config { workshop: String::new(), technician: String::new(), ..bench.config };
    let dir = dir.unwrap_or_else(|| data_dir().join("workshop"));
    unpack(&dir).map_err(|error| Refusal::new("demo", format!("the sample workshop in {}: {error}", dir.display())))?;
    let workshop = Workshop { shelf: Some(dir.clone()), no_waiting: run, ..bench.workshop };
    workshop.clock.hurry(hurry);
    let bench = Bench { workshop, ledger: common.ledger.clone().unwrap_or_else(|| dir.join("ledger.db")), config };
    let ledger = bench.open_ledger().map_err(|error| Refusal::new("ledger", error.to_string()))?;
    let named = ledger.set("workshop", "Lantern Row Repairs").and_then(|()| ledger.set("technician", "Ines"));
    named.map_err(|error| Refusal::new("ledger", error.to_string()))?;
    if run { walk(&bench, &dir, common) } else { open(bench) }
}

/// Unpacks the drives next to each other; a directory that has them is left as it is, and so is one that has anything else.
fn unpack(dir: &Path) -> std::io::Result<()> {
    let (done, begun) = (dir.join("made"), dir.join("making"));
    if done.exists() {
        return Ok(());
    }
    fs::create_dir_all(dir)?;
    let other = || std::io::Error::new(std::io::ErrorKind::AlreadyExists, "something else lies there already: name an empty directory with --dir");
    if fs::read_dir(dir)?.next().is_none() {
        keep::create(&begun)?.write_all(MAKING)?;
    }
    // Only what an earlier attempt of this very program left is replaced.
    keep::open(&begun, &|head| head == MAKING).map_err(|_| other())?;
    let mut archive = tar::Archive::new(zstd::stream::read::Decoder::new(IMAGES)?);
    archive.set_preserve_mtime(false);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let there = dir.join(entry.path()?);
        match fs::symlink_metadata(&there) {
            Ok(meta) if meta.is_file() && meta.nlink() == 1 => fs::remove_file(&there)?,
            Ok(meta) if !meta.is_dir() => return Err(other()),
            _ => {}
        }
        entry.unpack_in(dir)?;
    }
    fs::rename(begun, done)
}

/// LR-207 from its first look to its job sheet.
fn walk(bench: &Bench, dir: &Path, common: &Common) -> Result<u8, Refusal> {
    let (source, target) = (dir.join("tamarack-t250.drive.toml"), dir.join("corvane-nx.drive.toml"));
    let say = |text: String| {
        if !common.json {
            tell!("{text}");
        }
    };
    say("LR-207  Alder Weir fish-count station: its start disk is full, it gets a larger and faster one".into());
    say(format!("Look    {} drives on the bench", bench.workshop.drives().len()));
    for path in [&source, &target] {
        let drive = bench.workshop.source(path)?;
        let looked = Looked::at(&drive);
        let (identity, size) = (drive.identity(), drive.geometry().size_bytes);
        say(format!(
            "        {} {}, {}, {}: {} partitions",
            identity.model,
            identity.serial,
            human(size),
            identity.bus.word(),
            looked.table.data_partitions().len()
        ));
        for (number, volume) in &looked.volumes {
            let used = volume.used_bytes.map(|used| format!(", {} used", human(used))).unwrap_or_default();
            say(format!("          {number} {} {} {}{used}", volume.label, volume.kind.word(), human(volume.size_bytes)));
        }
    }
    let order = Order {
        ticket: "LR-207".into(),
        customer: "Alder Weir fish-count station".into(),
        technician: "Ines".into(),
        restart: true,
        ..Order::new(source, target)
    };
    let ready = Prepared::of(bench, &order)?.settle(&Control::new(), &Silent).map_err(|(_, refusal)| refusal)?;
    say(format!("Plan    {} to copy, the second table moves to the new end of {}", human(ready.plan.bytes()), human(ready.plan.target.size_bytes)));
    for hazard in &ready.prepared.hazards {
        say(format!("        {}  {}", commands::level(hazard.level), hazard.text));
    }
    let tail = ready.prepared.candidate.tail();
    say(format!("Run     released by its tail {tail}"));
    let follower = |event: &Event| {
        if let Event::Phase { phase, total, .. } = event
            && *total > 0
            && !common.json
        {
            tell!("        {} {}", phase.word(), human(*total));
        }
    };
    let report = ready.run(bench, &tail, &Control::new(), &follower)?;
    say(format!("        took {} of the drives' own time", span(report.seconds)));
    say("Prove".into());
    if common.json {
        commands::finish(&report, common);
    } else {
        commands::print_report(&report, common.verbose);
    }
    let paper = dir.join("LR-207.pdf");
    commands::sheet(bench, report.job, None, Some(paper.clone()))?;
    say(format!("Hand over\n        job sheet {}\n        {}", paper.display(), sheet::outcome_sentence(&report)));
    Ok(if report.job > 0 { exit_code(report.outcome, false) } else { code::REFUSED })
}
