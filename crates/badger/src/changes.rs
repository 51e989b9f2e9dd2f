//! `badger changes`: what is not the same in two drives or images, file by file.

use crate::files::written;
use crate::follow::obey_signals;
use crate::{Common, code};
use badger_bench::Bench;
use badger_bench::volume::parted;
use badger_drive::size::{human, thousands};
use badger_drive::{Control, Refusal};
use badger_fs::Finding;
use badger_fs::tree::NodeKind;
use badger_inspect::Looked;
use badger_people::changes::{Change, Compared, Side, changes};
use clap::Args;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::sync::Arc;

/// `badger changes`.
#[derive(Args, Clone)]
pub struct ChangesArgs {
    /// The drive or image earlier, with #NUMBER for one of its partitions
    pub before: String,
    /// The same later
    pub after: String,
    /// Compare the bytes of every file too, not only sizes and times
    #[arg(long)]
    pub content: bool,
}

/// The numbers of the partitions whose files can be listed; that of a drive without a table is none. Of the others, why they cannot.
fn parts(bench: &Bench, named: &str) -> Result<(BTreeSet<Option<u32>>, Vec<String>), Refusal> {
    let (path, number) = parted(named);
    if number.is_some() {
        return Ok((BTreeSet::from([number]), Vec::new()));
    }
    let looked = Looked::at(&bench.workshop.source(&path)?);
    let (mut all, mut closed) = (BTreeSet::new(), Vec::new());
    for partition in &looked.table.partitions {
        match bench.open_tree(&path, Some(partition.number)) {
            Ok(_) => _ = all.insert(Some(partition.number)),
            Err(refusal) => closed.push(format!("{named}, partition {}, is not compared: {}", partition.number, refusal.text)),
        }
    }
    Ok((if looked.table.partitions.is_empty() { BTreeSet::from([None]) } else { all }, closed))
}

fn side(side: Option<Side>) -> Value {
    side.map_or(Value::Null, |side| json!({ "size": side.size, "modified": side.modified.and_then(written) }))
}

fn tell(change: &Change) {
    let size = |side: Option<Side>| side.map_or_else(String::new, |side| human(side.size));
    let path = if change.entry.node.kind == NodeKind::Directory { format!("{}/", change.path) } else { change.path.clone() };
    match (change.before, change.after) {
        (before, after) if before.is_none() || after.is_none() => {
            let mark = match (&change.unknown, before) {
                (Some(_), _) => "?",
                (None, None) => "+",
                (None, Some(_)) => "-",
            };
            let why = change.unknown.as_ref().map(|why| format!("  {why}")).unwrap_or_default();
            tell!("{mark} {:>9}  {path}{why}", size(before.or(after)));
        }
        (before, after) if change.what.contains(&"size") => {
            tell!("~ {:>9}  {path}  {} before; {}", size(after), size(before), change.what.join(", "))
        }
        (_, after) => {
            let why = change.unknown.as_ref().map(|why| format!("not compared: {why}")).unwrap_or_default();
            let what = change.what.join(", ");
            tell!(
                "{} {:>9}  {path}  {what}{}{why}",
                if change.what.is_empty() { "?" } else { "~" },
                size(after),
                if what.is_empty() || why.is_empty() { "" } else { "; " }
            );
        }
    }
}

/// What all of it came to, and what was compared.
fn sum(part: Option<u32>, compared: &Compared, content: bool) {
    let name = part.map(|part| format!("partition {part}: ")).unwrap_or_default();
    let how = if content { "by name, size, time and content" } else { "by name, size and time, not by content" };
    let unknown = if compared.unknown > 0 { format!(", {} not compared", thousands(compared.unknown)) } else { String::new() };
    tell!(
        "{name}{} the same {how}; {} changed, {} added, {} gone{unknown}",
        thousands(compared.same),
        thousands(compared.changed),
        thousands(compared.added),
        thousands(compared.removed)
    );
}

/// `badger changes`.
pub fn compare(bench: &Bench, args: &ChangesArgs, common: &Common) -> Result<u8, Refusal> {
    let control = Arc::new(Control::new());
    obey_signals(control.clone());
    let [before, after] = [&args.before, &args.after].map(|named| parts(bench, named));
    let ((before, mut closed), (after, more)) = (before?, after?);
    closed.extend(more);
    // One volume of each is compared whatever their numbers.
    let single = before.len() == 1 && after.len() == 1;
    let pairs: Vec<_> = if single {
        before.iter().copied().zip(after.iter().copied()).collect()
    } else {
        before.intersection(&after).map(|part| (*part, *part)).collect()
    };
    let (mut documents, mut same) = (Vec::new(), closed.is_empty());
    for (one, other) in &pairs {
        let open = |named: &str, part: &Option<u32>| bench.open_tree(&parted(named).0, *part);
        let (earlier, later) = (open(&args.before, one)?, open(&args.after, other)?);
        let mut list = Vec::new();
        let mut each = |change: &Change| {
            if common.json {
                let (before, after) = (side(change.before), side(change.after));
                list.push(json!({ "path": change.path, "kind": change.entry.node.kind, "before": before, "after": after, "differs": change.what, "not_compared": change.unknown }));
            } else {
                tell(change);
            }
        };
        let refused = |finding: Finding| Refusal::new(finding.code, finding.text);
        let compared = changes((&*earlier.tree, &*later.tree), args.content, &|| control.is_stopped(), &mut each).map_err(refused)?;
        same &= compared.is_same();
        if common.json {
            let Compared { same, changed, added, removed, unknown, findings, cut } = compared;
            documents.push(json!({ "partition": one, "same": same, "changed": changed, "added": added, "removed": removed, "not_compared": unknown, "changes": list, "problems": findings, "cut": cut }));
        } else {
            sum(*one, &compared, args.content);
            compared.cut.iter().for_each(|why| complain!("○ not to its end: {why}"));
            compared.findings.iter().for_each(|finding| complain!("▲ {}  [{}]", finding.text, finding.code));
        }
    }
    let only = |one: &BTreeSet<Option<u32>>, other: &BTreeSet<Option<u32>>| {
        if single { Vec::new() } else { one.difference(other).copied().collect::<Vec<_>>() }
    };
    let (only_before, only_after) = (only(&before, &after), only(&after, &before));
    same &= only_before.is_empty() && only_after.is_empty() && !pairs.is_empty();
    if common.json {
        tell_part!(
            "{:#}\n",
            json!({ "content": args.content, "partitions": documents, "only_before": only_before, "only_after": only_after, "not_compared": closed, "same": same })
        );
    } else {
        closed.iter().for_each(|why| complain!("○ {why}"));
        only_before.iter().flatten().for_each(|part| tell!("- partition {part}"));
        only_after.iter().flatten().for_each(|part| tell!("+ partition {part}"));
        if pairs.is_empty() {
            tell!("no volume is there on both sides whose files can be listed");
        }
    }
    Ok(match () {
        () if control.is_stopped() => code::STOPPED,
        () if same => code::DONE,
        () => code::LOSS,
    })
}
