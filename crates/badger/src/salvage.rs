//! `badger salvage`: what can be had of a drive that fails.

use crate::follow::{Follower, obey_signals};
use crate::{Common, JobArgs, code, commands, exit_code};
use badger_bench::Bench;
use badger_drive::size::{self, human, span, thousands};
use badger_drive::{Control, Refusal};
use badger_jobs::salvage::{Fill, SalvageOrder, SalvageReport, Seat};
use badger_salvage::limits::{Limits, rests, spanned};
use badger_transfer::Report;
use clap::{Args, ValueEnum};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// `badger salvage`.
#[derive(Args, Clone)]
pub struct SalvageArgs {
    /// The drive that fails; the map of another copy of it; an image. Never written to
    pub source: PathBuf,
    /// Where to: a drive, a raw file that is there or is made, or a new image of our own (.zbi)
    pub target: PathBuf,
    /// What is known of every place; one that is there is gone on with
    #[arg(long, value_name = "FILE")]
    pub map: PathBuf,
    /// The target's tail; a file that this makes, or made, needs none
    #[arg(long, value_name = "TAIL", default_value = "")]
    pub confirm: String,
    /// Size of the new target file; without it as large as the drive
    #[arg(long, value_name = "SIZE", value_parser = size::parse)]
    pub new_size: Option<u64>,
    /// Files and folders that come first, as #NUMBER/PATH; may be given several times
    #[arg(long, value_name = "PATH")]
    pub first: Vec<String>,
    /// Leave out what the file systems call free
    #[arg(long)]
    pub used: bool,
    /// Read free space too, where an earlier run with this map left it out
    #[arg(long, conflicts_with = "used")]
    pub free: bool,
    /// Begin anew with everything that is not saved, also with what was given up
    #[arg(long)]
    pub again: bool,
    /// Try no sector more often than this
    #[arg(long, value_name = "TIMES", value_parser = clap::value_parser!(u8).range(1..))]
    pub tries: Option<u8>,
    /// End after so long: 90s, 45m, 2h
    #[arg(long = "for", value_name = "SPAN", value_parser = spanned)]
    pub limit: Option<Duration>,
    /// End after so many reads in a row that failed
    #[arg(long, value_name = "COUNT")]
    pub failures: Option<u64>,
    /// Leave the drive in peace now and then: 45m/5m reads for 45 minutes and rests for 5
    #[arg(long, value_name = "SPAN/SPAN", value_parser = rests)]
    pub rest: Option<(Duration, Duration)>,
    /// Let it cool where it is hotter than this, in degrees Celsius
    #[arg(long, value_name = "DEGREES")]
    pub hottest: Option<i64>,
    /// What becomes of places that could not be read; zero where nothing else is said
    #[arg(long, value_enum)]
    pub fill: Option<FillArg>,
    /// What goes into the ledger.
    #[command(flatten)]
    pub job: JobArgs,
}

/// `--fill`.
#[derive(Clone, Copy, ValueEnum)]
pub enum FillArg {
    /// Zeroes.
    Zero,
    /// A text in each sector that says so.
    Marked,
    /// What is on the target stays.
    Keep,
}

/// `badger salvage`.
pub fn salvage(bench: &Bench, args: &SalvageArgs, common: &Common) -> Result<u8, Refusal> {
    let refused = |refusal: Refusal| {
        if common.json || common.events {
            let mut report = Report::new(args.source.display().to_string(), args.target.display().to_string());
            (report.reason, report.code) = (refusal.text.clone(), refusal.code.to_string());
            commands::finish(&report, common);
            return Ok(code::REFUSED);
        }
        Err(refusal)
    };
    let order = SalvageOrder {
        image: None,
        source: args.source.clone(),
        target: args.target.clone(),
        map: args.map.clone(),
        new_size: args.new_size,
        again: args.again,
        first: args.first.clone(),
        used: args.used.then_some(true).or(args.free.then_some(false)),
        limits: Limits { time: args.limit, failures: args.failures, rests: args.rest, tries: args.tries, hottest: args.hottest, pauses: false },
        fill: args.fill.map(|fill| match fill {
            FillArg::Zero => Fill::Zero,
            FillArg::Marked => Fill::Marked,
            FillArg::Keep => Fill::Keep,
        }),
        ticket: args.job.ticket.clone(),
        customer: args.job.customer.clone(),
        technician: if args.job.technician.is_empty() { bench.config.technician.clone() } else { args.job.technician.clone() },
    };
    let ready = match order.prepare(bench) {
        Ok(ready) => ready,
        Err(refusal) => return refused(refusal),
    };
    let (control, follower) = (Arc::new(Control::new()), Follower::new(common));
    control.limit(args.job.rate.unwrap_or(0));
    obey_signals(control.clone());
    if !common.json && !common.events {
        let (from, to) = (ready.source.identity(), ready.candidate.identity());
        tell!("{} {} → {} {}", from.model, human(ready.source.geometry().size_bytes), to.model, human(ready.candidate.geometry().size_bytes));
        commands::print_hazards(&ready.hazards);
        if ready.begun {
            let totals = ready.map.totals();
            tell!(
                "  goes on: {} saved, {} deferred, {} lost, {} unread",
                human(totals.saved),
                human(totals.deferred),
                human(totals.lost),
                human(totals.unread)
            );
        }
        if let Some(begun) = &ready.takes_over {
            tell!("  takes over what the unfinished clone between these two drives has copied, {}", human(begun.past.done_bytes()));
        }
        if ready.damaged > 0 {
            tell!("  {} lines of the map are damaged: what they said is read again", thousands(ready.damaged));
        }
    }
    crate::log::settle();
    let report = ready.run(bench, &args.confirm, &Seat::default(), &control, &follower);
    follower.finish();
    let report = match report {
        Ok(report) => report,
        Err(refusal) => return refused(refusal),
    };
    if common.json {
        commands::print_json(&report);
    } else if common.events {
        tell_part!("{}\n", serde_json::json!({ "event": "report", "report": report }));
    } else {
        told(&report, common.verbose);
    }
    Ok(exit_code(report.report.outcome, control.is_stopped()))
}

/// The outcome in words.
fn told(salvaged: &SalvageReport, verbose: bool) {
    let totals = salvaged.map;
    commands::print_report(&salvaged.report, verbose);
    tell!("  {} saved, {} lost, {} deferred, {} unread", human(totals.saved), human(totals.lost), human(totals.deferred), human(totals.unread));
    for pass in &salvaged.passes {
        tell!(
            "  {:<7} {:>9} saved in {}, {} reads, {} failed",
            pass.name.word(),
            human(pass.saved_bytes),
            span(pass.seconds),
            thousands(pass.reads),
            thousands(pass.failures)
        );
    }
    for (path, why) in &salvaged.not_found {
        tell!("  not found: {path}: {why}");
    }
    for file in salvaged.holed.iter().take(if verbose { usize::MAX } else { 20 }) {
        let state = if file.bytes() >= file.size { "unread" } else { "holed" };
        match &file.unknown {
            Some(why) => tell!("  unknown  {}  {why}", file.path),
            None => tell!("  {state:<7}  {}  {} of {} missing", file.path, human(file.bytes()), human(file.size)),
        }
    }
    if salvaged.holed.len() > 20 && !verbose {
        tell!("  and {} more files; -v or --json lists them all", thousands(salvaged.holed.len() as u64 - 20));
    }
    salvaged.problems.iter().take(5).for_each(|problem| tell!("  ▲ {problem}"));
    if salvaged.missing_elsewhere > 0 {
        tell!("  {} that are missing belong to no file that was found", human(salvaged.missing_elsewhere));
    }
}
