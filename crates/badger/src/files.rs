//! Files of a drive: `badger ls` and `badger fetch`.

use crate::follow::obey_signals;
use crate::{Common, FetchArgs, code, output};
use badger_bench::Bench;
use badger_bench::volume::{Fetch, Opened, parted};
use badger_drive::size::{human, span, thousands};
use badger_drive::{Control, Event, Outcome, Refusal};
use badger_fs::tree::{Entry, Name, NodeKind, Time, find};
use badger_fs::walk::walk;
use badger_fs::{Finding, Tree};
use badger_people::copyout::{Clash, Collision, Report};
use badger_transfer::meter::Meter;
use serde::Serialize;
use std::io::{self, BufRead, BufWriter, IsTerminal, Write};
use std::path::Path;
use std::sync::{Arc, Mutex};

#[derive(Serialize)]
struct Row<'a> {
    path: &'a str,
    kind: NodeKind,
    size: u64,
    modified: Option<&'a str>,
    state: &'static str,
    /// What it is where it is no plain file.
    #[serde(skip_serializing_if = "Option::is_none")]
    what: Option<&'a str>,
    /// Why its content cannot be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<String>,
}

/// A moment as the documents write it: `2026-05-01T10:00:00Z`.
pub fn written(time: Time) -> Option<String> {
    jiff::Timestamp::from_second(time.seconds).ok().map(|moment| moment.to_string())
}

/// Opens what `DRIVE[#PART]` or a folder's path names.
fn opened(bench: &Bench, named: &Path) -> Result<Opened, Refusal> {
    let (path, number) = parted(named);
    bench.open_tree(&path, number)
}

/// Prints entries as they come, so that a volume of any size needs no memory for them.
struct Printer<W: Write> {
    out: W,
    line: String,
    json: bool,
    count: u64,
    /// The second that was written last: files that came together share it, and a calendar takes longer than all else.
    second: (i64, Option<String>),
    /// Whoever reads it may have gone away.
    shut: bool,
    lost: Option<io::Error>,
}

impl<W: Write> Printer<W> {
    fn entry(&mut self, tree: &dyn Tree, path: &str, entry: &Entry) {
        if self.shut {
            return;
        }
        let node = &entry.node;
        if let Some(time) = node.modified.filter(|time| self.second.0 != time.seconds || self.second.1.is_none()) {
            self.second = (time.seconds, written(time));
        }
        let modified = node.modified.and(self.second.1.as_deref());
        let done = if self.json {
            // Where its bytes lie must be known; without a salvage map nothing tells of holes before they are read.
            let opened = if node.kind == NodeKind::File { tree.open(node, "").err() } else { None };
            let state = if opened.is_none() { "whole" } else { "unread" };
            let why = opened.map(|finding| finding.text);
            let row = Row { path, kind: node.kind, size: node.size, modified, state, what: node.what.as_deref(), why };
            let text = serde_json::to_string(&row).unwrap_or_default();
            write!(self.out, "{}{text}", if self.count == 0 { "\n" } else { ",\n" })
        } else {
            let (size, mark) = match node.kind {
                NodeKind::Directory => (None, "/"),
                NodeKind::Link => (Some(human(node.size)), "@"),
                NodeKind::Other => (None, "?"),
                NodeKind::File => (Some(human(node.size)), ""),
            };
            // A line for each of millions: put together without the machinery of formats.
            let (size, modified) = (size.as_deref().unwrap_or("-"), modified.unwrap_or("-"));
            self.line.clear();
            self.line.extend(std::iter::repeat_n(' ', 9usize.saturating_sub(size.len())));
            self.line.extend([size, "  ", modified]);
            self.line.extend(std::iter::repeat_n(' ', 22usize.saturating_sub(modified.len())));
            self.line.extend([&badger_drive::text::plain(path), mark]);
            if let Some(what) = &node.what {
                self.line.extend(["  (", what, ")"]);
            }
            self.line.push('\n');
            self.out.write_all(self.line.as_bytes())
        };
        self.count += 1;
        if let Err(error) = done {
            self.shut = true;
            self.lost = Some(error);
        }
    }
}

/// `badger ls`.
pub fn ls(bench: &Bench, named: &Path, path: &str, recursive: bool, common: &Common) -> Result<u8, Refusal> {
    let opened = opened(bench, named)?;
    let tree = &*opened.tree;
    let refused = |finding: Finding| Refusal::new(finding.code, format!("{}: {}", named.display(), finding.text));
    let node = find(tree, path).map_err(refused)?;
    let base = format!("/{}", path.trim_matches('/'));
    let mut printer = Printer {
        out: BufWriter::with_capacity(1 << 16, io::stdout().lock()),
        line: String::new(),
        json: common.json,
        count: 0,
        second: (0, None),
        shut: false,
        lost: None,
    };
    if common.json {
        printer.shut = write!(printer.out, "{{\"entries\": [").is_err();
    }
    let findings = if node.kind != NodeKind::Directory {
        let name = Name { bytes: Vec::new(), shown: String::new() };
        printer.entry(tree, &base, &Entry { name, node });
        Vec::new()
    } else if recursive {
        walk(tree, node, &base, &mut |path, entry| printer.entry(tree, path, entry))
    } else {
        let listing = tree.list(&node);
        listing.entries.iter().for_each(|entry| printer.entry(tree, &format!("{}/{}", base.trim_end_matches('/'), entry.name.shown), entry));
        listing.findings
    };
    let Printer { mut out, lost, .. } = printer;
    // A reader that has gone away is no reason to complain.
    let ended = if common.json {
        writeln!(out, "],\n\"problems\": {}}}", serde_json::to_string(&findings).unwrap_or_default()).and_then(|()| out.flush())
    } else {
        out.flush()
    };
    drop(out);
    output::note(lost.map_or(ended, Err));
    if !common.json {
        findings.iter().for_each(|finding| complain!("▲ {}  [{}]", finding.text, finding.code));
    }
    Ok(if findings.is_empty() { code::DONE } else { code::LOSS })
}

/// Asks at the terminal what to do with a clash; `all` keeps the answer for those that follow.
fn ask(clash: &Clash, all: &Mutex<Option<Collision>>) -> Collision {
    let mut all = all.lock().expect("answer lock");
    if let Some(answer) = *all {
        return answer;
    }
    let time = |time: Option<Time>| time.and_then(written).unwrap_or_else(|| "no time".into());
    loop {
        complain!("{} is there already", clash.to.display());
        complain!("  there  {:>9}  {}", human(clash.there.0), time(clash.there.1));
        complain!("  comes  {:>9}  {}", human(clash.comes.0), time(clash.comes.1));
        complain!("  s skip   k keep both   n replace if newer   (a capital letter: the same for all that follow)");
        let mut answer = String::new();
        if io::stdin().lock().read_line(&mut answer).unwrap_or(0) == 0 {
            return Collision::Skip;
        }
        let choice = match answer.trim().to_lowercase().as_str() {
            "s" => Collision::Skip,
            "k" => Collision::KeepBoth,
            "n" => Collision::ReplaceIfNewer,
            _ => continue,
        };
        if answer.trim().chars().all(char::is_uppercase) {
            *all = Some(choice);
        }
        return choice;
    }
}

/// `badger fetch`.
pub fn fetch(bench: &Bench, args: &FetchArgs, common: &Common) -> Result<u8, Refusal> {
    let refused = |refusal: Refusal| {
        if common.json || common.events {
            let report = serde_json::json!({ "outcome": "refused", "code": refusal.code, "reason": refusal.text });
            tell_part!("{}\n", if common.json { report } else { serde_json::json!({ "event": "report", "report": report }) });
            return Ok(code::REFUSED);
        }
        Err(refusal)
    };
    if matches!(args.collision.into(), Collision::Ask) && !io::stdin().is_terminal() {
        return refused(Refusal::new("no-terminal", "--collision ask needs a terminal: name what to do instead"));
    }
    let Some(into) = args.into.clone().or_else(|| bench.config.destination.clone()) else {
        return refused(Refusal::new("no-destination", "--into says where to; the settings name no destination"));
    };
    let opened = match opened(bench, &args.drive) {
        Ok(opened) => opened,
        Err(refusal) => return refused(refusal),
    };
    let control = Arc::new(Control::new());
    control.limit(args.rate.unwrap_or(0));
    obey_signals(control.clone());
    let line = !common.json && !common.events && io::stdout().is_terminal();
    let state = Mutex::new((Meter::new(0, 0), 0u64, None::<std::time::Instant>));
    let follow = |event: &Event| {
        if common.events
            && let Ok(text) = serde_json::to_string(event)
        {
            tell_part!("{text}\n");
        }
        let mut state = state.lock().expect("progress lock");
        match event {
            Event::Phase { total, .. } => state.0 = Meter::new(*total, 0),
            Event::File { .. } => state.1 += 1,
            Event::Moved { len, at, .. } => {
                state.0.add(*len, *at);
                if line && state.2.is_none_or(|drawn| drawn.elapsed().as_millis() > 100) {
                    state.2 = Some(std::time::Instant::now());
                    let (done, total) = state.0.amounts();
                    let left = state.0.left(*at).map(|left| format!("{} left", span(left))).unwrap_or_default();
                    let rate = human(state.0.rate(*at) as u64);
                    tell_part!(
                        "\r\x1b[K{:>3.0} %  {} of {}  {rate}/s  {} files there  {left}",
                        state.0.share() * 100.0,
                        human(done),
                        human(total),
                        thousands(state.1)
                    );
                    let _ = io::stdout().flush();
                }
            }
            _ => {}
        }
    };
    let all = Mutex::new(None);
    let order = Fetch { picks: args.paths.clone(), into: into.clone(), collision: args.collision.into(), ask: &|clash| ask(clash, &all) };
    crate::log::settle();
    let report = bench.fetch(&opened, order, &control, &follow);
    if line {
        tell_part!("\r\x1b[K");
    }
    let report = match report {
        Ok(report) => report,
        Err(refusal) => return refused(refusal),
    };
    if common.json {
        tell_part!("{}\n", serde_json::to_string_pretty(&report).unwrap_or_default());
    } else if common.events {
        tell_part!("{}\n", serde_json::json!({ "event": "report", "report": report }));
    } else {
        print_report(&report, &into);
    }
    Ok(match report.outcome {
        Outcome::Proved => code::DONE,
        Outcome::Interrupted if control.is_stopped() => code::STOPPED,
        Outcome::Interrupted => code::BROKEN_OFF,
        _ => code::LOSS,
    })
}

/// So many lines of a list are printed.
const MOST_PRINTED: usize = 20;

fn print_report(report: &Report, into: &Path) {
    tell!(
        "{}  {} files, {} folders, {} links, {} in {}",
        report.outcome.word(),
        thousands(report.files),
        thousands(report.directories),
        thousands(report.links),
        human(report.bytes),
        span(report.seconds)
    );
    if !report.reason.is_empty() {
        tell!("  {}", report.reason);
    }
    if report.resumed > 0 {
        tell!("  {} files were there from an earlier run", thousands(report.resumed));
    }
    let list = |mark: &str, lines: Vec<String>, count: u64| {
        lines.iter().take(MOST_PRINTED).for_each(|line| tell!("  {mark} {line}"));
        if count > MOST_PRINTED as u64 {
            tell!("  {mark} and {} more", thousands(count - MOST_PRINTED as u64));
        }
    };
    let lost = report.lost.iter().map(|lost| {
        let what = if lost.stretches.is_empty() { "lost".into() } else { format!("{} zero", human(lost.stretches.iter().map(|(_, len)| len).sum())) };
        format!("{}: {what}: {}", lost.path, lost.why)
    });
    list("╳", lost.collect(), report.lost_count);
    list("·", report.skipped.clone(), report.skipped_count);
    list("·", report.renamed.iter().map(|(from, to)| format!("{from} is {to}")).collect(), report.renamed.len() as u64);
    list("·", report.not_held.clone(), report.not_held.len() as u64);
    if let Some(name) = report.manifest.as_ref().and_then(|manifest| manifest.file_name()) {
        tell!("  checksums: {} in {}", name.to_string_lossy(), into.display());
    }
    if let Some(list) = &report.list {
        tell!("  all of that: {}", list.display());
    }
}
