//! Typing in a job: the tail that releases the target, a rate, ticket and customer.

use super::lines::at_stake;
use super::mends::Mends;
use super::view::{Entry, JobView};
use crate::draw::{loud, say};
use crate::running::Running;
use crate::step::Step;
use crate::theme::Mean;
use badger_bench::Bench;
use badger_drive::size::human;
use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;

impl JobView {
    pub(super) fn entry_key(&mut self, entry: Entry, code: KeyCode, bench: &Bench) {
        let edit = |mut text: String| {
            match code {
                KeyCode::Char(c) => text.push(c),
                KeyCode::Backspace => {
                    text.pop();
                }
                _ => {}
            }
            text
        };
        if code == KeyCode::Esc {
            (self.ready, self.mends) = (None, Mends::default());
            return;
        }
        match entry {
            Entry::Tail(text) if code == KeyCode::Enter && self.rescue.is_some() => self.begin_rescue(text, bench),
            Entry::Tail(text) if code == KeyCode::Enter => self.release(text, bench),
            Entry::Mend(text) if code == KeyCode::Enter => self.mend(text, bench),
            Entry::Mend(text) => self.entry = Some(Entry::Mend(edit(text))),
            Entry::Rate(text) if code == KeyCode::Enter => {
                let rate = if text.trim().is_empty() { Ok(0) } else { badger_drive::size::parse(&text) };
                match (rate, &self.running) {
                    (Ok(rate), Some(running)) => running.control.limit(rate),
                    (Err(_), _) => self.entry = Some(Entry::Rate(text)),
                    _ => {}
                }
            }
            Entry::Size(text) if code == KeyCode::Enter => self.typed_size(&text),
            Entry::File(text) if code == KeyCode::Enter => self.typed_file(&text, bench),
            Entry::Parent(text) if code == KeyCode::Enter => self.typed_parent(&text, bench),
            Entry::Onto(text) if code == KeyCode::Enter => self.typed_onto(&text, bench),
            Entry::First(text) if code == KeyCode::Enter => self.typed_first(&text),
            Entry::Limits(text, _) if code == KeyCode::Enter => self.typed_limits(text),
            Entry::Ticket(text) if code == KeyCode::Enter => {
                self.order.ticket = text.trim().to_string();
                self.entry = Some(Entry::Customer(self.order.customer.clone()));
            }
            Entry::Customer(text) if code == KeyCode::Enter => {
                self.order.customer = text.trim().to_string();
                self.name_in_ledger(bench);
            }
            Entry::Stop => {
                if let (KeyCode::Char('y'), Some(running)) = (code, &self.running) {
                    running.control.stop();
                }
            }
            Entry::Tail(text) => self.entry = Some(Entry::Tail(edit(text))),
            Entry::Rate(text) => self.entry = Some(Entry::Rate(edit(text))),
            Entry::File(text) => self.entry = Some(Entry::File(edit(text))),
            Entry::Parent(text) => self.entry = Some(Entry::Parent(edit(text))),
            Entry::Onto(text) => self.entry = Some(Entry::Onto(edit(text))),
            Entry::First(text) => self.entry = Some(Entry::First(edit(text))),
            Entry::Limits(text, _) => self.entry = Some(Entry::Limits(edit(text), String::new())),
            Entry::Size(text) => self.entry = Some(Entry::Size(edit(text))),
            Entry::Ticket(text) => self.entry = Some(Entry::Ticket(edit(text))),
            Entry::Customer(text) => self.entry = Some(Entry::Customer(edit(text))),
        }
    }

    fn name_in_ledger(&mut self, bench: &Bench) {
        self.name_image();
        if let Some(prepared) = &mut self.prepared {
            (prepared.order.ticket, prepared.order.customer) = (self.order.ticket.clone(), self.order.customer.clone());
        }
        if let Some(job) = self.job
            && let Ok(ledger) = bench.open_ledger()
        {
            // The ledger tells its own troubles when a run begins.
            let _ = ledger.rename(job, &self.order.ticket, &self.order.customer);
            self.ledger_changed = true;
        }
    }

    /// Releases the target and begins the run, if the tail is right.
    fn release(&mut self, typed: String, bench: &Bench) {
        let right = self.ready.as_ref().is_some_and(|ready| ready.prepared.candidate.identity().tail_matches(&typed));
        if !right {
            self.entry = Some(Entry::Tail(typed));
            return;
        }
        if let Some(ready) = self.ready.take() {
            self.prepared = None;
            self.running = Some(Running::start(bench.clone(), *ready, typed));
            (self.report, self.refusal, self.cursor) = (None, None, None);
            self.order.restart = false;
            self.step = Step::Run;
        }
    }
}

/// Whether what was typed can no longer become this tail.
fn is_wrong(text: &str, tail: &str) -> bool {
    text.chars().count() >= tail.chars().count() && text.to_lowercase() != tail.to_lowercase()
}

/// What is asked for, what was typed so far, and what to say under it.
fn asked(job: &JobView, entry: &Entry, tail: &str) -> (String, String, String) {
    match entry {
        Entry::Tail(text) => {
            let to = job.title().1;
            let why = if is_wrong(text, tail) {
                format!("◆ that is not the tail of {to}: look at the drive again")
            } else {
                "Enter begins the run · Esc goes back, nothing is written".into()
            };
            (format!("Type {tail} to release {to}"), text.clone(), why)
        }
        Entry::Mend(text) => {
            let tail = job.mend_tail();
            let why = if is_wrong(text, &tail) {
                "◆ that is not its tail: look at the drive again"
            } else {
                "Enter does it · Esc goes back, nothing is written"
            };
            (format!("Type {tail} to release {}", job.title().1), text.clone(), why.to_string())
        }
        Entry::Rate(text) => ("Read no faster than, a second (50M, empty for no limit)".into(), text.clone(), "Enter sets it · Esc leaves it".into()),
        Entry::Size(text) => {
            let part = job.part.and_then(|part| job.sight.as_ref()?.parts.iter().find(|one| one.number == part));
            let name = part.map(|part| part.name.clone()).unwrap_or_default();
            let why = match part.map(|part| &part.limits) {
                Some(Ok(limits)) => format!("at least {} · 200G is decimal, 200GiB binary · Enter sets it", human(limits.least)),
                Some(Err(why)) => format!("it can only be copied as it is: {why}"),
                None => "200G is decimal, 200GiB binary · Enter sets it".into(),
            };
            (format!("Size of {name} on the target"), text.clone(), why)
        }
        Entry::File(text) => {
            ("Image, a new file: its ending says the format (.zbi is our own)".into(), text.clone(), "Enter takes it · Esc leaves it".into())
        }
        Entry::Parent(text) => (
            "An earlier image of this drive, to store only what changed since; empty for none".into(),
            text.clone(),
            "Enter takes it · Esc leaves it".into(),
        ),
        Entry::Onto(text) => {
            ("Onto: a drive, a raw file, or a new .zbi; its map lies beside it".into(), text.clone(), "Enter takes it · Esc leaves it".into())
        }
        Entry::First(text) => (
            "What comes first: #2/Users/Piers ; #2/Users/Nell".into(),
            text.clone(),
            "#PARTITION/PATH, several with ; between them · Enter takes it".into(),
        ),
        Entry::Limits(text, wrong) => {
            let why =
                if wrong.is_empty() { "several with ; between them, empty for none · Enter takes it".to_string() } else { format!("◆ {wrong}") };
            ("Limits: for 2h ; failures 50 ; rest 45m/5m ; hottest 55 ; tries 3".into(), text.clone(), why)
        }
        Entry::Ticket(text) => ("Ticket".into(), text.clone(), "Enter goes on to the customer".into()),
        Entry::Customer(text) => ("Customer".into(), text.clone(), "Enter keeps both".into()),
        Entry::Stop => ("Stop this run? It can be picked up again.".into(), String::new(), "y stops in order · any other key goes on".into()),
    }
}

/// The line somebody types in, over the lower part of the step.
pub(super) fn draw(job: &JobView, frame: &mut Frame, area: Rect) {
    if job.again.is_some() {
        let changes = job.sight.as_ref().is_some_and(|sight| !sight.plan.recasts.is_empty());
        let more = if changes { ", and going over what changes" } else { "" };
        let lines = vec![
            vec![loud(Mean::Text, format!("Looking at both drives once more{more} ..."))],
            vec![say(Mean::Quiet, "Esc goes back, nothing is written")],
        ];
        return crate::draw::sheet(frame, area, 78, lines);
    }
    let Some(entry) = &job.entry else { return };
    let rescue = job.rescue.as_ref().and_then(|rescue| rescue.sight.as_ref());
    let tail = job.sight.as_ref().map(|sight| &sight.tail).or(rescue.map(|sight| &sight.tail)).cloned().unwrap_or_default();
    let (ask, text, why) = asked(job, entry, &tail);
    let mut lines =
        vec![vec![loud(Mean::Text, ask)], vec![loud(Mean::Focus, "▸ "), loud(Mean::Text, text), loud(Mean::Focus, "▏")], vec![say(Mean::Quiet, why)]];
    let shown = job.sight.as_ref().map(|sight| (&sight.hazards, sight.before.model.clone(), sight.before.serial.clone(), sight.before.size_bytes));
    let shown = shown.or(rescue.map(|sight| (&sight.hazards, sight.target.0.clone(), sight.target.1.clone(), sight.sizes.1)));
    if let (Entry::Tail(_), Some((hazards, model, serial, size))) = (entry, shown) {
        let (mark, mean, text) = at_stake(hazards);
        // All of what would be lost is read before the tail is typed.
        for (at, text) in crate::draw::wrap(&text, 70).into_iter().enumerate().rev() {
            lines.insert(1, vec![say(mean, format!("{} {text}", if at == 0 { mark } else { " " }))]);
        }
        lines.insert(1, vec![say(Mean::Target, format!("▸ {model}  {serial}  {}", human(size)))]);
    }
    if matches!(entry, Entry::Mend(_)) {
        lines.splice(0..0, job.mend_lines());
    }
    if *entry == Entry::Stop {
        lines.remove(1);
    }
    crate::draw::sheet(frame, area, 78, lines);
}
