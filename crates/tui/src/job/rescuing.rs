//! A job that salvages a drive that fails: what is asked for, and what is known before it begins.

use super::asking::Asking;
use super::lines::{hazard_lines, marked, stacked};
use super::rescue::{Rescue, RescueSight, map_beside, sight};
use super::view::{Entry, JobView};
use crate::draw::{cut, loud, pad, pad_left, say};
use crate::running::Running;
use crate::step::Step;
use crate::theme::Mean;
use badger_bench::Bench;
use badger_drive::size::human;
use badger_jobs::Order;
use badger_jobs::salvage::{SalvageOrder, Seat};
use badger_salvage::limits::Limits;
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::Span;
use std::path::PathBuf;

type Line = Vec<Span<'static>>;

/// How it goes about it.
const PASSES: [(&str, &str); 5] = [
    ("skim", "long reads over what nobody has touched; trouble is left at once, and jumped over"),
    ("edge", "into each gap, from the side where it reads well"),
    ("comb", "sector by sector, between bad ones"),
    ("insist", "what failed, again: other directions, other lengths, other places in between"),
    ("always", "a drive that vanishes is waited for, and found again by its serial; a stop loses nothing"),
];

impl JobView {
    /// A new job that salvages a drive.
    pub fn salvage(order: SalvageOrder, bench: &Bench) -> Self {
        let mut view = Self::blank(Order::new(order.source.clone(), order.target.clone()));
        (view.order.ticket, view.order.customer) = (order.ticket.clone(), order.customer.clone());
        let mut rescue = Rescue::new(order);
        rescue.look(bench);
        view.rescue = Some(rescue);
        view
    }

    /// Looks once more at both ends and at the map.
    pub(super) fn look_at_rescue(&mut self, bench: &Bench) {
        if let Some(rescue) = &mut self.rescue {
            rescue.ready = None;
            self.order.target.clone_from(&rescue.order.target);
            rescue.look(bench);
        }
    }

    /// Takes in what a look brought.
    pub(super) fn rescue_looked(&mut self) {
        let Some(rescue) = &mut self.rescue else { return };
        let Some(looked) = rescue.waiting.as_ref().and_then(|waiting| waiting.try_recv().ok()) else { return };
        rescue.waiting = None;
        match looked {
            Ok((ready, known)) => {
                rescue.sight = Some(sight(&ready, known));
                // What an earlier run was released with is shown, and can be changed.
                let SalvageOrder { first, used, limits, fill, .. } = ready.order.clone();
                let order = &mut rescue.order;
                (order.first, order.used, order.limits, order.fill) = (first, used, limits, fill);
                (rescue.ready, self.refusal) = (Some(ready), None);
            }
            Err(refusal) => (rescue.ready, self.refusal) = (None, Some(refusal)),
        }
    }

    pub(super) fn rescue_key(&mut self, code: KeyCode, bench: &Bench) {
        let Some(rescue) = &mut self.rescue else { return };
        let idle = rescue.waiting.is_none() && self.running.is_none();
        match code {
            KeyCode::Enter if self.running.is_some() => self.step = Step::Run,
            KeyCode::Enter if rescue.ready.is_some() && idle => {
                if rescue.sight.as_ref().is_some_and(|sight| sight.known) {
                    self.begin_rescue(String::new(), bench);
                } else {
                    self.entry = Some(Entry::Tail(String::new()));
                }
            }
            KeyCode::Char('o') if idle => self.entry = Some(Entry::Onto(rescue.order.target.display().to_string())),
            KeyCode::Char('f') if idle => self.entry = Some(Entry::First(rescue.order.first.join(" ; "))),
            KeyCode::Char('l') if idle => self.entry = Some(Entry::Limits(rescue.order.limits.to_string(), String::new())),
            KeyCode::Char('u') if idle => rescue.order.used = Some(!rescue.order.used.unwrap_or_default()),
            KeyCode::Char('n') if idle => {
                rescue.order.again = !rescue.order.again;
                self.look_at_rescue(bench);
            }
            KeyCode::Char('r') if idle => self.look_at_rescue(bench),
            _ => {}
        }
    }

    /// Takes the target that was typed; its map lies beside it.
    pub(super) fn typed_onto(&mut self, text: &str, bench: &Bench) {
        if let Some(rescue) = &mut self.rescue {
            rescue.order.target = PathBuf::from(text.trim());
            rescue.order.map = map_beside(bench, &rescue.order.target);
            self.look_at_rescue(bench);
        }
    }

    pub(super) fn typed_first(&mut self, text: &str) {
        if let Some(rescue) = &mut self.rescue {
            rescue.order.first = text.split(';').map(str::trim).filter(|text| !text.is_empty()).map(str::to_string).collect();
        }
    }

    pub(super) fn typed_limits(&mut self, text: String) {
        match (&mut self.rescue, Limits::parse(&text)) {
            (Some(rescue), Ok(limits)) => rescue.order.limits = Limits { pauses: true, ..limits },
            (_, Err(wrong)) => self.entry = Some(Entry::Limits(text, wrong)),
            (None, Ok(_)) => {}
        }
    }

    /// Begins, where the tail is right or nobody is asked for it.
    pub(super) fn begin_rescue(&mut self, tail: String, bench: &Bench) {
        let Some(rescue) = &mut self.rescue else { return };
        let right = rescue.ready.as_ref().is_some_and(|ready| ready.candidate.identity().tail_matches(&tail));
        if !right && !rescue.sight.as_ref().is_some_and(|sight| sight.known) {
            self.entry = Some(Entry::Tail(tail));
            return;
        }
        if let Some(mut ready) = rescue.ready.take() {
            // What was chosen since the look changes nothing of what was looked at.
            ready.order = rescue.order.clone();
            (ready.order.ticket, ready.order.customer) = (self.order.ticket.clone(), self.order.customer.clone());
            (rescue.seat, rescue.asking) = (Seat::default(), Asking::default());
            self.running = Some(Running::salvage(bench.clone(), *ready, tail, rescue.seat.clone()));
            (self.report, self.refusal, self.cursor, self.step) = (None, None, None, Step::Run);
            rescue.order.again = false;
        }
    }
}

/// Columns of the names of what was asked for.
const LABEL: usize = 10;

/// Both ends, and what was asked for.
fn ordered(rescue: &Rescue, sight: &RescueSight, width: usize) -> Vec<Line> {
    let mut lines = Vec::new();
    let field = |name: &str, text: String| vec![say(Mean::Quiet, pad(name, LABEL)), say(Mean::Text, cut(&text, width.saturating_sub(LABEL)))];
    let end = |mark: &str, mean: Mean, (model, serial, bus): &(String, String, &str), size: u64| {
        let serial = if serial.is_empty() { "no serial".to_string() } else { serial.clone() };
        vec![loud(mean, format!("{mark} {} ", pad(model, 30))), say(Mean::Text, format!("{} {}  {bus}", pad(&serial, 18), pad_left(&human(size), 9)))]
    };
    lines.push(end("◂", Mean::Source, &sight.source, sight.sizes.0));
    lines.push(end("▸", Mean::Target, &sight.target, sight.sizes.1));
    lines.push(vec![]);
    lines.push(field("onto", rescue.order.target.display().to_string()));
    lines.push(field("map", rescue.order.map.display().to_string()));
    let first = rescue.order.first.join(" · ");
    lines.push(field(
        "first",
        if first.is_empty() { "tables, boot areas, what the file systems keep for themselves".into() } else { format!("structures, then {first}") },
    ));
    let then = if rescue.order.used.unwrap_or_default() { "what is in use; free space is left out" } else { "what is in use, then free space" };
    lines.push(field("then", then.into()));
    let limits = rescue.order.limits.to_string();
    lines.push(field("limits", if limits.is_empty() { "none; pauses after 100 failed reads in a row".into() } else { limits }));
    lines.push(vec![]);
    lines
}

/// What an earlier run came to, where this one goes on with it.
fn standing(rescue: &Rescue, sight: &RescueSight, width: usize) -> Vec<Line> {
    let mut lines = Vec::new();
    let totals = sight.totals;
    if let Some(copied) = sight.takes_over {
        let text = format!("a clone broke off here: the {} that it copied are read back from the target, and taken over", human(copied));
        lines.extend(marked(Mean::Good, "● goes on  ", &text, width));
    } else if rescue.order.again && sight.begun {
        let text = format!("{} saved stay; everything else is begun anew, also what was given up", human(totals.saved));
        lines.extend(marked(Mean::Mind, "▲ anew  ", &text, width));
    } else if sight.begun {
        let text = format!(
            "{} saved, {} deferred, {} lost, {} unread",
            human(totals.saved),
            human(totals.deferred),
            human(totals.lost),
            human(totals.unread)
        );
        lines.extend(marked(Mean::Good, "● goes on  ", &text, width));
    }
    if sight.damaged > 0 {
        let text = format!("{} lines of the map are damaged: what they said is read again", sight.damaged);
        lines.extend(marked(Mean::Mind, "▲ mind  ", &text, width));
    }
    lines
}

/// What Enter does.
fn next(step: Step, rescue: &Rescue, sight: &RescueSight) -> String {
    if rescue.is_waiting() {
        "○ looking at the target and at the map ...".to_string()
    } else if step == Step::Look {
        "Enter goes on to the plan: onto what, what comes first, limits".to_string()
    } else if sight.known {
        "Enter begins: the target is new, or holds what the map says".to_string()
    } else {
        format!("Enter asks for the tail of the target, {}", sight.tail)
    }
}

/// Draws the step: Look or Plan.
pub(super) fn draw(job: &JobView, frame: &mut Frame, area: Rect) -> Vec<(Rect, usize)> {
    let (Some(rescue), buf) = (&job.rescue, frame.buffer_mut()) else { return Vec::new() };
    let width = usize::from(area.width);
    let mut lines = Vec::new();
    if let Some(refusal) = &job.refusal {
        lines.extend(marked(Mean::Stop, "◆ stop  ", &format!("{}  [{}]", refusal.text, refusal.code), width));
        lines.push(vec![]);
    }
    match &rescue.sight {
        None => lines.push(vec![say(
            Mean::Quiet,
            if job.refusal.is_some() { "" } else { "○ looking at the target and at the map; the drive is left in peace ..." },
        )]),
        Some(sight) => {
            lines.extend(ordered(rescue, sight, width));
            lines.extend(standing(rescue, sight, width));
            if let Some(report) = job.report.as_ref().filter(|report| !report.reason.is_empty()) {
                lines.extend(marked(Mean::Mind, "◐ broken off  ", &report.reason, width));
            }
            lines.extend(hazard_lines(&sight.hazards, width));
            lines.push(vec![]);
            lines.push(vec![say(Mean::Quiet, next(job.step, rescue, sight))]);
            lines.push(vec![say(Mean::Quiet, "nothing of the drive is read before that")]);
            lines.push(vec![]);
            for (word, text) in PASSES {
                lines.push(vec![say(Mean::Quiet, pad(word, LABEL)), say(Mean::Quiet, cut(text, width.saturating_sub(LABEL)))]);
            }
        }
    }
    stacked(buf, area, lines);
    Vec::new()
}
