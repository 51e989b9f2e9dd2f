//! `badger rehearse`: a drive is started in a virtual machine.

use crate::follow::obey_signals;
use crate::{Common, code, commands, machines};
use badger_bench::Bench;
use badger_drive::size::span;
use badger_drive::{Control, Refusal};
use badger_inspect::Verdict;
use badger_jobs::rehearsing::RehearseOrder;
use clap::Args;
use std::cell::Cell;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// `badger rehearse`.
#[derive(Args, Clone)]
pub struct RehearseArgs {
    /// A drive, or an image of one; it is only read
    pub target: PathBuf,
    /// The machine that it goes into: one that comes along (badger machines), or a file
    #[arg(long, value_name = "MACHINE")]
    pub machine: Option<String>,
    /// So many minutes it may take
    #[arg(long, value_name = "MINUTES", default_value_t = 15, value_parser = clap::value_parser!(u64).range(1..=600))]
    pub patience: u64,
}

/// `badger rehearse`.
pub fn rehearse(bench: &Bench, args: &RehearseArgs, common: &Common) -> Result<u8, Refusal> {
    let machine = args.machine.as_deref().map(machines::find).transpose()?;
    let order = RehearseOrder { target: args.target.clone(), machine, patience: Duration::from_secs(args.patience * 60) };
    let control = Arc::new(Control::new());
    obey_signals(control.clone());
    // What came over the serial line is passed on as it comes.
    let (told, quiet) = (Cell::new(String::new()), common.json || common.events);
    let done = order.run(bench, &control, &|scene| {
        let last = scene.serial.iter().rfind(|line| !line.trim().is_empty()).or(scene.text.iter().rfind(|line| !line.trim().is_empty()));
        let last = last.map(|line| line.trim().to_string()).unwrap_or_default();
        if common.events {
            tell_part!("{}\n", serde_json::json!({ "event": "scene", "seconds": scene.seconds, "line": last }));
        } else if !quiet && last != told.replace(last.clone()) && !last.is_empty() {
            tell!("  {:>7}  {last}", span(scene.seconds));
        }
    });
    let rehearsed = match done {
        Ok(rehearsed) => rehearsed,
        Err(refusal) if common.json => {
            commands::print_json(&serde_json::json!({ "outcome": "refused", "code": refusal.code, "reason": refusal.text }));
            return Ok(code::REFUSED);
        }
        Err(refusal) => return Err(refusal),
    };
    if common.json {
        commands::print_json(&rehearsed);
    } else {
        commands::print_proof(std::slice::from_ref(&rehearsed.line), true);
    }
    Ok(match rehearsed.line.result {
        _ if control.is_stopped() => code::STOPPED,
        Verdict::Holds => code::DONE,
        _ => code::LOSS,
    })
}
