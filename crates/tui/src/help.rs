//! What the current place is for, and its keys.

use crate::draw::sheet;
use crate::draw::{loud, pad, say};
use crate::message::Place;
use crate::theme::Mean;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::Span;

type Keys = &'static [(&'static str, &'static str)];

const BENCH: Keys = &[
    ("↑ ↓", "choose a drive"),
    ("Enter", "open or shut its drawer: partitions, identity, who uses it"),
    ("s  t", "mark it as source (◂ read only) or target (▸ overwritten)"),
    ("j", "make a job of the two"),
    ("d", "dig: look into its files"),
    ("h", "ask it again how it is"),
    ("i", "keep it in an image, or the marked source"),
    ("v", "salvage it, or the marked source, onto the marked target or a new file"),
    ("o  x", "put an image, a file, a lent drive on the shelf; take it away"),
    ("Esc", "take the marks away"),
];
const JOB: Keys = &[
    ("Enter", "on to the next step; on Plan: type the tail that releases the target"),
    ("Esc", "back one step"),
    ("[ ]", "other jobs that are open"),
    ("e", "ticket and customer"),
    ("i  a", "Plan: identifiers kept or fresh; read the source a second time"),
    ("w  z", "Plan: the machine it goes into; a system that sleeps starts afresh there"),
    ("u", "Plan: everything, or only what is in use with the rest left, discarded or zero"),
    ("f", "Plan: fit the partitions to the target, by the program's own proposal"),
    ("← → < >", "Plan: move the end or the start of the partition chosen with ↑ ↓"),
    ("s o k p", "Plan: type its size, leave it out, keep it, back to the proposal"),
    ("m y", "Plan: another kind of table; only what the system needs to start"),
    ("Space", "Run: hold, go on"),
    ("x  l", "Run: stop in order; limit the rate"),
    ("h", "Run: let sample drives' time pass faster"),
    ("arrows", "Run: move the cursor over the surface; Prove: choose a line"),
    ("o u p", "Plan of an image: its file and format; what is kept; what it goes on from"),
    ("m  h", "Prove: set right what keeps it from starting; start it in a virtual machine"),
    ("w", "Hand over: write the job sheet"),
];
const DIG: Keys = &[
    ("o", "in the list: look into a folder of this machine"),
    ("↑ ↓ → ←", "choose; open a folder, shut it or go up"),
    ("Space", "into the tray, or out of it; x empties it"),
    ("p", "preview: content, properties with the sectors, bytes"),
    ("[ ]", "scroll the preview"),
    ("r", "read the whole file and say what of it cannot be read"),
    ("f", "find by words of the name and, after a colon, by kind of content"),
    ("w", "of a drive that is being salvaged: read it next"),
    ("v", "list what is not as it was in an earlier image or drive"),
    ("s", "sort by name, size, time"),
    ("o  m  c", "where to; what happens to clashes; copy the tray out"),
    ("Esc", "back: from the search, from the volume"),
];
const LEDGER: Keys = &[
    ("↑ ↓", "choose a job or a drive"),
    ("← →", "jobs or drives"),
    ("f", "find by serial, ticket, customer, date: type, Enter"),
    ("Enter", "open the job: its proof and papers, or pick it up again"),
];
const EVERYWHERE: Keys = &[
    ("1 2 3 5", "Bench, Job, Dig, Ledger; Tab goes round"),
    ("/", "find any drive, partition, job or action by typing"),
    ("q", "leave; asks while a run goes on"),
];
const MARKS: Keys = &[
    ("●", "good, done"),
    ("◐", "in hand, or differs as intended"),
    ("○", "not yet"),
    ("▲", "mind: needs a thought"),
    ("◆", "stop, or failed"),
    ("█ ▒ ░", "used, not known, free"),
    ("▁▄█ ╳ ≠ ╴", "surface: how much of the cell is saved, unreadable, differs, not in use"),
];

/// Draws the help of a place over it.
pub fn draw(frame: &mut Frame, body: Rect, place: Place) {
    let (what, keys) = match place {
        Place::Bench => ("Bench: every drive that is attached, the latest on top", BENCH),
        Place::Job => ("Job: Look, Plan, Run, Prove, Hand over", JOB),
        Place::Dig => ("Dig: the files of a drive, looked at before they are taken", DIG),
        Place::Ledger => ("Ledger: every job and drive this workshop has seen", LEDGER),
    };
    let mut lines: Vec<Vec<Span<'static>>> = vec![vec![loud(Mean::Focus, what)], vec![]];
    let section = |keys: Keys, lines: &mut Vec<Vec<Span<'static>>>| {
        lines.extend(keys.iter().map(|(key, what)| vec![loud(Mean::Text, pad(key, 10)), say(Mean::Text, *what)]));
    };
    section(keys, &mut lines);
    // A low screen shows the keys of the place first; marks follow where there is room.
    if body.height as usize > lines.len() + EVERYWHERE.len() + 3 {
        lines.push(vec![]);
    }
    section(EVERYWHERE, &mut lines);
    if body.height as usize > lines.len() + MARKS.len() + 3 {
        lines.push(vec![]);
        section(MARKS, &mut lines);
    }
    sheet(frame, body, 84, lines);
}
