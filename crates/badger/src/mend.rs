//! `badger mend`: what keeps a target from starting is set right, or taken back.

use crate::{Common, code, commands};
use badger_bench::Bench;
use badger_drive::Refusal;
use badger_inspect::Verdict;
use badger_jobs::mending::MendOrder;
use badger_system::mend::Wishes;
use clap::Args;
use std::path::PathBuf;

/// `badger mend`.
#[derive(Args, Clone)]
pub struct MendArgs {
    /// The target of a job
    pub target: PathBuf,
    /// The target's tail; without it what would be done is only shown
    #[arg(long, value_name = "TAIL", default_value = "")]
    pub confirm: String,
    /// A system that only slept starts afresh: what was open in it is lost there
    #[arg(long)]
    pub afresh: bool,
    /// Every driver for storage that the system has starts with it, as another machine may need it
    #[arg(long)]
    pub drivers: bool,
    /// Make it start by UEFI where it starts by BIOS: the table becomes a GPT, and a system partition is made in what is free
    #[arg(long)]
    pub uefi: bool,
    /// The machine that it goes into: one that comes along (badger machines), or a file
    #[arg(long, value_name = "MACHINE")]
    pub machine: Option<String>,
    /// Take back what was set right last
    #[arg(long)]
    pub undo: bool,
}

/// `badger mend`.
pub fn mend(bench: &Bench, args: &MendArgs, common: &Common) -> Result<u8, Refusal> {
    let machine = args.machine.as_deref().map(crate::machines::find).transpose()?;
    let order = MendOrder {
        target: args.target.clone(),
        wishes: Wishes { afresh: args.afresh, drivers: args.drivers, uefi: args.uefi, ..Wishes::default() },
        renamed: Vec::new(),
        undo: args.undo,
        machine,
    };
    let refused = |refusal: Refusal| {
        if common.json {
            commands::print_json(&serde_json::json!({ "outcome": "refused", "code": refusal.code, "reason": refusal.text }));
            return Ok(code::REFUSED);
        }
        Err(refusal)
    };
    let ready = match order.prepare(bench) {
        Ok(ready) => ready,
        Err(refusal) => return refused(refusal),
    };
    if !common.json {
        let left: Vec<_> = ready.chain.iter().filter(|line| line.result != Verdict::Holds).cloned().collect();
        commands::print_proof(&left, common.verbose);
        for repair in &ready.repairs {
            tell!("  ▸ {:<14} {}", repair.name, repair.text);
            repair.consequence.iter().for_each(|consequence| tell!("      ▲ {consequence}"));
        }
    }
    if ready.repairs.is_empty() || args.confirm.is_empty() {
        let shown: Vec<&str> = ready.repairs.iter().map(|repair| repair.text.as_str()).collect();
        if common.json {
            commands::print_json(&serde_json::json!({ "outcome": "shown", "repairs": shown, "proof": ready.chain }));
        } else if shown.is_empty() {
            tell!("  there is nothing that can be set right by itself");
        } else {
            tell!("  nothing was written; --confirm {} does it, and --undo takes it back", ready.tail());
        }
        return Ok(if ready.repairs.is_empty() { code::DONE } else { code::REFUSED });
    }
    let mended = match ready.run(bench, &args.confirm) {
        Ok(mended) => mended,
        Err(refusal) => return refused(refusal),
    };
    if common.json {
        commands::print_json(&mended);
    } else {
        tell!("{}", mended.outcome);
        commands::print_proof(&mended.proof, common.verbose);
    }
    Ok(if mended.proof.iter().any(|line| line.result == Verdict::Fails) { code::LOSS } else { code::DONE })
}
