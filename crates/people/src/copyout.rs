//! Copying files and whole folders out of a volume.
//!
//! Threads overlap: one walks and reads, one writes, several read back and hash, one notes and names. A file gets its name only when it
//! was read back equal, so whatever ends a copy, a file that is there is whole.

use crate::beneath::Beneath;
use crate::journal::{Journal, Line};
use crate::last::Last;
use crate::names::{self, Holds};
use crate::order::Break;
use crate::place;
use crate::settle;
use crate::walker::{CHUNK, Pick, Walker};
use crate::write::{self, Piece};
use badger_drive::Sysfs;
use badger_drive::buffer::Pool;
use badger_drive::clock::Clock;
use badger_drive::{Control, Event, Observer, Outcome, Phase, Refusal, Since};
use badger_fs::Tree;
use badger_fs::cached::Cached;
use badger_fs::tree::{self, Node, NodeKind};
use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, channel, sync_channel};

pub use crate::order::{Clash, Collision, Lost, Order, Report};

/// Pieces in flight.
const BUFFERS: usize = 12;
/// The manifest and the list of what could not be kept, where they were written.
type Papers = (Option<PathBuf>, Option<PathBuf>);

/// Where each pick goes: under its own name, or, where two have the same, under its whole path.
fn picks(order: &Order, holds: Holds) -> Result<Vec<Pick>, Refusal> {
    let refused = |finding: badger_fs::Finding| Refusal::new(finding.code, finding.text);
    let trimmed: Vec<&str> = order.picks.iter().map(|path| path.trim_matches('/')).collect();
    let last = |path: &str| path.rsplit('/').next().unwrap_or_default().to_lowercase();
    let twins = trimmed.iter().enumerate().any(|(at, path)| trimmed[..at].iter().any(|other| last(other) == last(path)));
    let each = trimmed.iter().map(|path| {
        let (node, found) = tree::find_named(order.tree, path).map_err(refused)?;
        let kept = if twins { &found[..] } else { &found[found.len().saturating_sub(1)..] };
        let to = kept.iter().map(|name| OsStr::from_bytes(&names::held(&name.bytes, holds)).to_os_string()).collect();
        let path = if found.is_empty() { b"/".to_vec() } else { found.iter().flat_map(|name| [b"/", &name.bytes[..]].concat()).collect() };
        Ok(Pick { path, node, to })
    });
    each.collect()
}

/// Copies what is picked, proves every file, and writes a manifest.
///
/// # Errors
/// A refusal before anything was written: the destination lies on the source, has no room, or a pick is not there.
pub fn copy_out(order: &Order, sysfs: &Sysfs, control: &Control, clock: &dyn Clock, observer: &dyn Observer) -> Result<Report, Refusal> {
    place::refuse_source(&order.into, order.tree, sysfs, order.trusts_destination)?;
    let holds = place::holds(&order.into);
    let picks = picks(order, holds)?;
    let (files, bytes) = totals(order.tree, &picks, control);
    let unwritable = |error: io::Error| {
        let text = format!("{} cannot be written: {error}; make it writable, or take another place", order.into.display());
        Refusal::new("destination", text)
    };
    let beneath = Beneath::new(&order.into).map_err(unwritable)?;
    // Looked at again on what is open: that is where everything goes.
    place::refuse_opened(beneath.root(), &order.into, order.tree, sysfs, order.trusts_destination)?;
    let taken = brought(order.tree, &picks, holds);
    let begin = Line::begin(&order.key, &order.picks);
    let (mut journal, done) = Journal::open(&beneath, &begin, &taken).map_err(unwritable)?;
    let before = done.values().fold(0u64, |sum, kept| sum.saturating_add(kept.size));
    let free = place::free(&order.into).unwrap_or(u64::MAX);
    if free < bytes.saturating_sub(before) {
        let missing = badger_drive::size::human(bytes.saturating_sub(before) - free);
        let text = format!("{} has {missing} too little room for what is picked: pick less or take another place", order.into.display());
        return Err(Refusal::new("destination-full", text));
    }
    let parts = journal.parts();
    observer.event(&Event::Phase { phase: Phase::Fetch, total: bytes, done: 0, files: Some(files) });
    let began = clock.now();
    let pool = Pool::new(BUFFERS, CHUNK);
    let (to_writer, from_reader) = sync_channel(BUFFERS);
    let (to_settler, from_writer) = sync_channel(2);
    let (tell, told) = channel();
    let as_root = rustix::process::geteuid().is_root();
    let mut walker = Walker {
        order,
        beneath: &beneath,
        holds,
        control,
        clock,
        began,
        observer,
        pool: &pool,
        done: &done,
        strange: HashSet::new(),
        send: to_writer,
        told,
        batch: Vec::new(),
        batch_bytes: 0,
        reserved: HashSet::new(),
        made: HashMap::new(),
        folders: Vec::new(),
        soft: Vec::new(),
        hard: Vec::new(),
        firsts: HashMap::new(),
        report: Report::default(),
        moved: 0,
    };
    let outcome = std::thread::scope(|scope| {
        let (beneath, parts, pool, journal) = (&beneath, &parts, &pool, &mut journal);
        let writing = scope.spawn(move || drain(&from_reader, pool, |pieces| write::write(beneath, parts, pieces, pool, &to_settler, as_root)));
        let settling = scope.spawn(move || settle::settle(beneath, holds, &from_writer, journal, &tell, control));
        let walked = walker.walk(picks);
        let (report, folders, soft, hard) = walker.end();
        let written = writing.join().expect("the writer does not panic");
        let settled = settling.join().expect("the one who reads back does not panic");
        // Where one end failed, the walker only noticed that nobody listens any more.
        let finished = settled.and(written).map_err(Break::Failed).and(walked);
        (report, folders, soft, hard, finished)
    });
    let (mut report, folders, soft, hard, finished) = outcome;
    let last = Last { beneath: &beneath, parts: &parts, control, as_root };
    let finished = finished.and_then(|()| last.links_and_times(&folders, soft, hard, &mut journal, &mut report));
    report.seconds = clock.now().saturating_sub(began).as_secs_f64();
    let ended = finished.and_then(|()| Ok(journal.finish(&beneath, &taken)?));
    conclude(order, control, ended, &mut report);
    Ok(report)
}

/// How a copy ended, and what its papers are called.
fn conclude(order: &Order, control: &Control, ended: Result<Papers, Break>, report: &mut Report) {
    match ended {
        Ok((manifest, list)) => {
            let full = |name: PathBuf| order.into.join(name);
            (report.manifest, report.list) = (manifest.map(full), list.map(full));
            report.outcome = if report.lost_count > 0 { Outcome::Incomplete } else { Outcome::Proved };
            if report.skipped_count > 0 {
                report.reason = format!("{} were there already and stayed as they are", report.skipped_count);
            }
            if report.lost_count > 0 {
                report.reason = format!("{} could not be had whole", report.lost_count);
            }
            let apart = match order.tree.origin().cached().map(Cached::since) {
                Some(Since::Written) => Some("something was written to the drive while it was open here: what was read of it may not fit together"),
                Some(Since::Unseen) => Some(
                    "the drive was taken out, or another came into its place, while it was open here: whether what was read of it fits together is not known",
                ),
                _ => None,
            };
            if let Some(apart) = apart {
                // Each file equals what was read of it, which is no proof that this belongs together.
                if report.outcome == Outcome::Proved {
                    report.outcome = Outcome::Finished;
                }
                let others = if report.reason.is_empty() { String::new() } else { format!("; {}", report.reason) };
                report.reason = format!("{apart}{others}");
            }
        }
        Err(_) if control.is_stopped() => {
            (report.outcome, report.reason) = (Outcome::Interrupted, "stopped; give the same command again to go on".into())
        }
        Err(Break::Stopped) => (report.outcome, report.reason) = (Outcome::Interrupted, "broken off; give the same command again to go on".into()),
        Err(Break::Failed(error)) => {
            report.outcome = Outcome::Interrupted;
            report.reason = format!("{}: {error}; make it good and give the same command again to go on", order.into.display());
        }
    }
}

/// The names that a copy brings right under the destination, in lower case: those are never taken for our own files.
fn brought(tree: &dyn Tree, picks: &[Pick], holds: Holds) -> HashSet<Vec<u8>> {
    let mut names = HashSet::new();
    let mut add = |name: &[u8]| _ = names.insert(name.to_ascii_lowercase());
    for pick in picks {
        match pick.to.iter().next() {
            Some(first) => add(first.as_bytes()),
            None => tree.list(&pick.node).entries.iter().for_each(|entry| add(&names::held(&entry.name.bytes, holds))),
        }
    }
    names
}

/// Runs the writer; after a failure it takes what still comes, so that the reader never waits for its buffers.
fn drain(pieces: &Receiver<Piece>, pool: &Pool, run: impl FnOnce(&Receiver<Piece>) -> io::Result<()>) -> io::Result<()> {
    let outcome = run(pieces);
    for piece in pieces {
        if let Piece::Data { buffer, .. } = piece {
            pool.give(buffer);
        }
    }
    outcome
}

/// Files longer than this may be mostly holes, which need no room.
const SPARSE: u64 = 1 << 30;

/// Bytes of a file that lie somewhere.
fn held(tree: &dyn Tree, node: &Node) -> u64 {
    let Ok(content) = tree.open(node, "") else { return 0 };
    if content.is_packed() {
        content.size()
    } else if content.pieces().is_empty() {
        // Of a file of this machine the system tells only where its holes are.
        let (mut at, mut bytes) = (0, 0);
        while at < content.size() {
            let here = content.until_hole(at, u64::MAX);
            bytes += here;
            at = at.saturating_add(here.max(content.hole(at)).max(1));
        }
        bytes
    } else {
        content.pieces().iter().filter(|piece| piece.at.is_some()).fold(0, |sum, piece| sum.saturating_add(piece.len))
    }
}

/// Files and bytes of everything picked.
fn totals(tree: &dyn Tree, picks: &[Pick], control: &Control) -> (u64, u64) {
    let (mut files, mut bytes) = (0, 0);
    let mut count = |node: &Node| {
        if node.kind == NodeKind::File {
            files += 1;
            bytes = u64::saturating_add(bytes, if node.size > SPARSE { held(tree, node) } else { node.size });
        }
    };
    for pick in picks {
        if control.is_stopped() {
            break;
        }
        count(&pick.node);
        if pick.node.kind == NodeKind::Directory {
            badger_fs::walk::walk_until(tree, pick.node.clone(), "", &|| control.is_stopped(), &mut |_, entry| count(&entry.node));
        }
    }
    (files, bytes)
}
