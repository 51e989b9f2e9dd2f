//! Setting right what keeps a target from starting: looked for, shown with the question for its tail, done.

use super::mends::Mends;
use super::view::{Entry, JobView};
use crate::draw::{loud, say, wrap};
use crate::theme::Mean;
use badger_bench::Bench;
use badger_jobs::mending::{MendOrder, Mended};
use badger_system::mend::Wishes;
use badger_transfer::{Line, Verdict};
use ratatui::text::Span;
use std::sync::mpsc::channel;

/// So many lines of what is done have room above the question, on a small screen too.
const SHOWN: usize = 13;

impl JobView {
    /// Whether something of the target's chain is broken, so that it is worth looking.
    pub(super) fn may_mend(&self) -> bool {
        // Of what the machine does not take, only drivers, the place of the loader and sleep are a matter of the drive.
        let is_fixed = |line: &Line| {
            line.link.starts_with("machine/") && !["machine/controller", "machine/entry", "machine/sleep"].contains(&line.link.as_str())
        };
        let is_broken = |line: &Line| line.what == "boot" && line.result == Verdict::Fails && line.link != "rehearsal" && !is_fixed(line);
        matches!(self.mends, Mends::Nothing) && self.report.as_ref().is_some_and(|report| report.proof.iter().any(is_broken))
    }

    /// Looks for what can be set right.
    pub(super) fn look_to_mend(&mut self, bench: &Bench) {
        let Some(report) = &self.report else { return };
        let (give, found) = channel();
        let order = MendOrder {
            target: report.target.clone().into(),
            wishes: Wishes::default(),
            renamed: Vec::new(),
            undo: false,
            machine: self.order.machine.clone(),
        };
        let bench = bench.clone();
        std::thread::spawn(move || {
            // A job that was shut meanwhile does not wait for this any more.
            let _ = give.send(order.prepare(&bench).map(Box::new));
        });
        self.mends = Mends::Looking(found);
    }

    /// Does what was shown, where the tail is right.
    pub(super) fn mend(&mut self, tail: String, bench: &Bench) {
        let Mends::Shown(ready) = std::mem::replace(&mut self.mends, Mends::Nothing) else { return };
        if ready.tail().to_lowercase() != tail.trim().to_lowercase() {
            self.mends = Mends::Shown(ready);
            self.entry = Some(Entry::Mend(tail));
            return;
        }
        let (give, done) = channel();
        let bench = bench.clone();
        std::thread::spawn(move || {
            // As above: it is done all the same, and in the journal.
            let _ = give.send(ready.run(&bench, &tail));
        });
        self.mends = Mends::Doing(done);
    }

    /// Takes in what a look or a mending brought.
    pub(super) fn mend_turn(&mut self) {
        match std::mem::replace(&mut self.mends, Mends::Nothing) {
            Mends::Looking(found) => match found.try_recv() {
                Ok(Ok(ready)) if ready.repairs.is_empty() => self.say_of_mending(Verdict::NotChecked, "nothing of that can be set right in place"),
                Ok(Ok(ready)) => {
                    self.mends = Mends::Shown(ready);
                    self.entry = Some(Entry::Mend(String::new()));
                }
                Ok(Err(refusal)) => self.say_of_mending(Verdict::Fails, &format!("nothing was set right: {}", refusal.text)),
                Err(std::sync::mpsc::TryRecvError::Empty) => self.mends = Mends::Looking(found),
                Err(std::sync::mpsc::TryRecvError::Disconnected) => {}
            },
            Mends::Doing(done) => match done.try_recv() {
                Ok(Ok(mended)) => self.mended(&mended),
                Ok(Err(refusal)) => self.say_of_mending(Verdict::Fails, &format!("it was not set right: {}", refusal.text)),
                Err(std::sync::mpsc::TryRecvError::Empty) => self.mends = Mends::Doing(done),
                Err(std::sync::mpsc::TryRecvError::Disconnected) => {}
            },
            other => self.mends = other,
        }
    }

    /// The chain as it is now stands in place of the old one.
    fn mended(&mut self, mended: &Mended) {
        let Some(report) = &mut self.report else { return };
        mended.stand_in(report);
        self.row = report.proof.iter().position(|line| line.what == "boot").unwrap_or(0);
        self.ledger_changed = true;
    }

    fn say_of_mending(&mut self, result: Verdict, text: &str) {
        let Some(report) = &mut self.report else { return };
        self.row = report.say_of_boot(Line::new("boot", result, text));
    }

    /// What will be done, over the line for the tail.
    pub(super) fn mend_lines(&self) -> Vec<Vec<Span<'static>>> {
        let Mends::Shown(ready) = &self.mends else { return Vec::new() };
        let mut lines = vec![vec![loud(Mean::Text, "What is set right on the target, in place, and can be taken back")]];
        for repair in &ready.repairs {
            for (at, text) in wrap(&repair.text, 70).into_iter().enumerate() {
                lines.push(vec![say(Mean::Focus, if at == 0 { "▸ " } else { "  " }), say(Mean::Text, text)]);
            }
        }
        if lines.len() > SHOWN {
            lines.truncate(SHOWN);
            lines.push(vec![say(Mean::Quiet, format!("  {} in all: badger mend, without a tail, shows them whole", ready.repairs.len()))]);
        }
        lines
    }

    /// The tail that is asked for.
    pub(super) fn mend_tail(&self) -> String {
        if let Mends::Shown(ready) = &self.mends { ready.tail() } else { String::new() }
    }
}
