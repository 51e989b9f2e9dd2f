//! Who gets the keys of a job, and what those of its plan do.

use super::view::{Entry, JobView};
use crate::step::Step;
use badger_bench::Bench;
use badger_layout::plan::{Ids, Rest};
use badger_system::Machine;
use badger_transfer::Control;
use crossterm::event::KeyCode;
use std::sync::Arc;

/// Keys kept while a plan is made anew, at the most.
const MOST_LATE: usize = 16;

/// The machine after one, none after the last.
fn next_machine(all: Vec<Machine>, now: Option<&Machine>) -> Option<Machine> {
    let at = now.and_then(|now| all.iter().position(|machine| machine == now)).map_or(0, |at| at + 1);
    all.into_iter().nth(at)
}

impl JobView {
    /// Takes pasted text; never where a tail is asked for.
    pub fn paste(&mut self, text: &str) -> Option<&'static str> {
        match &mut self.entry {
            Some(Entry::Tail(_) | Entry::Mend(_)) => Some("pasted text never releases a target: read the tail on the drive and type it"),
            Some(
                Entry::Rate(held)
                | Entry::Size(held)
                | Entry::File(held)
                | Entry::Parent(held)
                | Entry::Onto(held)
                | Entry::First(held)
                | Entry::Limits(held, _)
                | Entry::Ticket(held)
                | Entry::Customer(held),
            ) => {
                held.extend(text.chars().filter(|c| !c.is_control()));
                None
            }
            Some(Entry::Stop) | None => None,
        }
    }

    /// Chooses a line of a list.
    pub fn choose(&mut self, at: usize) {
        if self.step == Step::Prove {
            self.row = at;
            if !self.unfolded.remove(&at) {
                self.unfolded.insert(at);
            }
        }
    }

    /// Takes a key that is not for the whole program.
    pub fn key(&mut self, code: KeyCode, bench: &Bench) {
        if self.again.is_some() {
            // Keys that come before the question are no answers to it.
            if code == KeyCode::Esc {
                self.forget_again();
            }
            return;
        }
        if let Some(entry) = self.entry.take() {
            self.entry_key(entry, code, bench);
            return;
        }
        if code == KeyCode::Char('e') {
            self.entry = Some(Entry::Ticket(self.order.ticket.clone()));
            return;
        }
        match self.step {
            Step::Look if code == KeyCode::Enter && self.has_sight() => self.step = Step::Plan,
            Step::Look => {}
            Step::Plan if self.rescue.is_some() => self.rescue_key(code, bench),
            Step::Plan if self.keep.is_some() => self.keep_key(code, bench),
            Step::Plan => self.plan_key(code, bench),
            Step::Run => {
                if !self.steer_key(code) {
                    self.run_key(code, bench);
                }
            }
            Step::Prove if self.is_rehearsing() => {
                if code == KeyCode::Char('x') {
                    self.stop_rehearsal();
                }
            }
            Step::Prove if code == KeyCode::Char('m') && self.may_mend() => self.look_to_mend(bench),
            Step::Prove if code == KeyCode::Char('h') && self.may_rehearse() => self.rehearse(bench),
            Step::Prove => self.prove_key(code),
            Step::Hand => self.hand_key(code, bench),
        }
    }

    /// Takes the keys that came while the plan was made anew; one that plans anew leaves the others waiting.
    pub(super) fn late_keys(&mut self, bench: &Bench) {
        while self.waiting.is_none()
            && let Some(code) = self.late.pop_front()
        {
            self.plan_key(code, bench);
        }
    }

    fn plan_key(&mut self, code: KeyCode, bench: &Bench) {
        // What changes the plan waits for it; what releases a target never does.
        let changes = matches!(code, KeyCode::Char('i' | 'u' | 'w' | 'z' | 'f' | 'm' | 'y' | 'o' | 'p' | 'k' | '<' | ',' | '>' | '.'));
        if self.waiting.is_some() && self.running.is_none() && changes {
            if self.late.len() < MOST_LATE {
                self.late.push_back(code);
            }
            return;
        }
        let fixed = self.sight.as_ref().is_some_and(|sight| sight.done_before.is_some());
        match code {
            KeyCode::Enter if self.running.is_some() => self.step = Step::Run,
            KeyCode::Enter if self.prepared.is_some() && self.stops() == 0 => {
                self.misfit = None;
                let control = Arc::new(Control::new());
                self.again = Some((control.clone(), self.look(bench, Some(control))));
            }
            KeyCode::Char('i') if self.waiting.is_none() && self.running.is_none() && !fixed => {
                self.order.ids = if self.order.ids == Ids::Keep { Ids::Fresh } else { Ids::Keep };
                self.prepare(bench);
            }
            KeyCode::Char('u') if self.waiting.is_none() && self.running.is_none() && !fixed => {
                self.order.used = match self.order.used {
                    None => Some(Rest::Leave),
                    Some(Rest::Leave) => Some(Rest::Discard),
                    Some(Rest::Discard) => Some(Rest::Zero),
                    Some(Rest::Zero) => None,
                };
                self.prepare(bench);
            }
            KeyCode::Char('a') if self.running.is_none() => {
                self.order.again = !self.order.again;
                if let Some(prepared) = &mut self.prepared {
                    prepared.order.again = self.order.again;
                }
            }
            KeyCode::Char('n') if fixed && self.running.is_none() => {
                self.order.restart = true;
                self.job = None;
                self.prepare(bench);
            }
            KeyCode::Char('r') if self.running.is_none() => self.prepare(bench),
            KeyCode::Char('w') if self.waiting.is_none() && self.running.is_none() => {
                self.order.machine = next_machine(badger_jobs::machines::all(bench), self.order.machine.as_ref());
                self.prepare(bench);
            }
            KeyCode::Char('z') if self.may_wake() && self.waiting.is_none() && self.running.is_none() => {
                self.order.wishes.afresh = !self.order.wishes.afresh;
                self.prepare(bench);
            }
            _ if self.waiting.is_none() && self.running.is_none() && !fixed => self.fit_key(code, bench),
            _ => {}
        }
    }
}
