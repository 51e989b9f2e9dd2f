//! Fitting by hand: a partition is picked on the ribbon and its edges are moved; the plan answers at once.

use super::view::{Entry, JobView};
use badger_bench::Bench;
use badger_drive::Refusal;
use badger_layout::rules::What;
use badger_layout::{Kind, Rules};
use crossterm::event::KeyCode;

/// The least step, in bytes.
const LEAST: u64 = 1 << 20;

impl JobView {
    pub(super) fn fit_key(&mut self, code: KeyCode, bench: &Bench) {
        self.misfit = None;
        let Some(mut rules) = self.order.fit.clone() else {
            if code == KeyCode::Char('f') {
                self.order.fit = Some(Rules::auto());
                self.prepare(bench);
            }
            return;
        };
        match code {
            KeyCode::Char('f') => {
                (self.order.fit, self.part) = (None, None);
                self.prepare(bench);
            }
            KeyCode::Up | KeyCode::Down => self.choose_part(code == KeyCode::Down),
            KeyCode::Char('m') => {
                // One that does not fit is said, and passed over.
                let mut said = None;
                for _ in 0..4 {
                    (rules.table, rules.uefi) = match (rules.table, rules.uefi) {
                        (None, _) => (Some(Kind::Gpt), false),
                        (Some(Kind::Gpt), false) => (Some(Kind::Gpt), true),
                        (Some(Kind::Gpt), true) => (Some(Kind::Mbr), false),
                        (Some(_), _) => (None, false),
                    };
                    self.refit(rules.clone());
                    match self.misfit.take() {
                        None => break,
                        why => said = said.or(why),
                    }
                }
                self.misfit = said;
            }
            KeyCode::Char('y') => {
                rules.system = !rules.system;
                self.refit(rules);
            }
            _ => {
                let Some(part) = self.part else {
                    self.choose_part(true);
                    return;
                };
                self.part_key(part, rules, code);
            }
        }
    }

    fn part_key(&mut self, part: u32, mut rules: Rules, code: KeyCode) {
        let place = self.sight.as_ref().and_then(|sight| Some(sight.plan.planned(part)?.place(sight.plan.target.sector)));
        let step = self.step_size();
        match (code, place) {
            (KeyCode::Char('o'), None) => rules.forget(part),
            (KeyCode::Char('o'), Some(_)) => rules.set(part, What::Out, None),
            (KeyCode::Char('p'), _) => rules.forget(part),
            (KeyCode::Char('k'), _) => rules.set(part, What::Keep, None),
            (KeyCode::Char('s'), Some((_, len))) => {
                self.entry = Some(Entry::Size(badger_drive::size::thousands(len).replace(',', "")));
                return;
            }
            (KeyCode::Left | KeyCode::Right, Some((_, len))) => {
                let at = rules.of(part).and_then(|rule| rule.at);
                let wanted = if code == KeyCode::Right { len.saturating_add(step) / step * step } else { len.saturating_sub(1) / step * step };
                rules.set(part, What::Size(self.within(part, wanted)), at);
            }
            (KeyCode::Char('<' | ',' | '>' | '.'), Some((start, len))) => {
                let later = matches!(code, KeyCode::Char('>' | '.'));
                let to = if later { start + step } else { start.saturating_sub(step).max(LEAST) };
                // The end stays where it is, as far as the volume goes along.
                let size = self.within(part, (start + len).saturating_sub(to));
                rules.set(part, What::Size(size), Some(to));
            }
            _ => return,
        }
        self.refit(rules);
    }

    /// A size as near to the wanted one as the volume allows; one that cannot change keeps its own.
    fn within(&self, part: u32, wanted: u64) -> u64 {
        let limits = self.sight.as_ref().and_then(|sight| sight.parts.iter().find(|one| one.number == part)?.limits.clone().ok());
        limits.map_or(wanted, |limits| wanted.clamp(limits.least, limits.most))
    }

    /// A step that moves an edge by about a column of the target's ribbon.
    pub(super) fn step_size(&self) -> u64 {
        let size = self.sight.as_ref().map_or(0, |sight| sight.plan.target.size_bytes);
        let column = size / u64::from(self.columns.max(1));
        (column.max(LEAST).next_power_of_two() / 2).max(LEAST)
    }

    fn choose_part(&mut self, down: bool) {
        let numbers: Vec<u32> = self.sight.iter().flat_map(|sight| sight.source.ribbon.parts.iter().map(|part| part.number)).collect();
        let at = self.part.and_then(|part| numbers.iter().position(|number| *number == part));
        let next = match (at, down) {
            (None, _) => 0,
            (Some(at), true) => (at + 1).min(numbers.len().saturating_sub(1)),
            (Some(at), false) => at.saturating_sub(1),
        };
        self.part = numbers.get(next).copied();
    }

    /// Takes the size that was typed.
    pub(super) fn typed_size(&mut self, text: &str) {
        let (Some(part), Some(mut rules)) = (self.part, self.order.fit.clone()) else { return };
        let at = rules.of(part).and_then(|rule| rule.at);
        match badger_drive::size::parse(text) {
            Ok(size) => {
                rules.set(part, What::Size(size), at);
                self.refit(rules);
            }
            Err(why) => self.misfit = Some(Refusal::new("no-size", why)),
        }
    }

    /// Plans by other rules; where that cannot be, the plan stays and says why.
    fn refit(&mut self, rules: Rules) {
        let Some(prepared) = &mut self.prepared else { return };
        match prepared.refit(&rules) {
            Ok(()) => {
                self.order.fit = Some(rules);
                if let Some(sight) = &mut self.sight {
                    sight.take(prepared);
                }
            }
            Err(refusal) => self.misfit = Some(refusal),
        }
    }
}
