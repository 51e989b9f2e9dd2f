//! What came of a read, and what is learned from it.

use super::{Ask, Came, LONG, Pass, Strategy, Worth};
use crate::map::State;
use std::ops::Range;
use std::time::Duration;

/// Bytes of the first read after trouble; each that goes well is followed by one four times as long.
const SHORT: u64 = 512 << 10;

/// What is looked for here and there says nothing of what lies behind it.
fn jumps(ask: &Ask) -> bool {
    ask.pass == Pass::Skim && ask.worth != Worth::Structure
}

impl Strategy {
    /// Says what came of a read, and how long it took.
    pub fn told(&mut self, ask: &Ask, came: Came, took: Duration) {
        let Range { start, end } = ask.range;
        if ask.pass != Pass::Insist {
            self.spent += took.as_secs_f64();
        }
        if self.is_bad(start.checked_sub(1)) {
            let is_good = came == Came::Whole || matches!(came, Came::Until(at) if at >= start + self.sector);
            self.alone += (f64::from(u8::from(is_good)) - self.alone) * 0.2;
        }
        if came == Came::Unknown {
            // Whoever knows more may still be asked another time.
            return self.value(start..end, None);
        }
        self.reach = if came == Came::Whole { self.reach.saturating_mul(4).min(LONG) } else { SHORT };
        let jumped = start != self.head;
        self.head = if self.backwards { start } else { end };
        match came {
            Came::Whole => self.came_whole(ask, took, jumped),
            Came::Until(at) => self.came_until(ask, self.aligned(at.clamp(start, end - 1)), took, jumped),
            Came::Nothing => self.came_to_nothing(ask, took, jumped),
            Came::Unknown => {}
        }
    }

    fn came_whole(&mut self, ask: &Ask, took: Duration, jumped: bool) {
        let Range { start, end } = ask.range;
        self.late |= ask.pass == Pass::Insist;
        self.failing_files = 0;
        let slow = self.pace.came(end - start, took, jumped);
        if slow.is_some() {
            self.change(start..end, |this| _ = this.slow_at.insert(start));
        }
        self.note(start..end, State::Saved);
        if jumps(ask) && self.map.at(end).is_some_and(|(_, state)| state == State::Unread) {
            match slow {
                Some(more) => self.leave((end, start), end - start, more, true),
                None => self.calm(self.head),
            }
        }
    }

    /// The sector at `at` failed, and what lies before it is there.
    fn came_until(&mut self, ask: &Ask, at: u64, took: Duration, jumped: bool) {
        let Range { start, end } = ask.range;
        let past = (at + self.sector).min(end);
        self.late |= ask.pass == Pass::Insist && at > start;
        self.note(start..at, State::Saved);
        self.pace.failed(at - start, took, jumped);
        let tries = match self.map.at(at) {
            Some((_, State::Deferred(tries))) => tries.saturating_add(1),
            _ => 1,
        };
        self.note(at..past, State::Deferred(tries));
        if ask.pass == Pass::Insist {
            // The rest of what was read together is tried in this round too.
            if past < end {
                self.again.push(past..end);
            }
            return;
        }
        self.head = past;
        if ask.worth == Worth::Picked && self.holes(at) {
            return;
        }
        self.skip(past..end, false);
        if jumps(ask) {
            self.calm(at);
            self.bands.begins(at);
            self.leave((past, start), at - start, self.pace.failure(), false);
        }
    }

    fn came_to_nothing(&mut self, ask: &Ask, took: Duration, jumped: bool) {
        let Range { start, end } = ask.range;
        self.pace.failed(0, took, jumped);
        if ask.pass == Pass::Insist {
            return self.tried(start..end);
        }
        let past = (start + self.sector).min(end);
        self.tried(start..past);
        if ask.worth == Worth::Picked && self.holes(start) {
            self.head = past;
            return;
        }
        self.skip(past..end, false);
        if jumps(ask) {
            self.leave((end, start), 0, self.pace.failure(), false);
        }
    }

    fn tried(&mut self, range: Range<u64>) {
        let held: Vec<_> = self.map.within(range).filter(|(_, state)| matches!(state, State::Deferred(_) | State::Unread)).collect();
        for (part, state) in held {
            let tries = if let State::Deferred(tries) = state { tries.saturating_add(1) } else { 1 };
            self.note(part, State::Deferred(tries));
        }
    }

    /// Jumps ahead: a little further than trouble was wide before, four times as far where the last jump led into trouble too.
    fn leave(&mut self, (from, before): (u64, u64), good: u64, costs: f64, is_slow: bool) {
        let size = self.map.size();
        let from = if self.backwards { before } else { from };
        // The dearer a failure, the more may be left for later.
        let fair = (costs * self.pace.rate() * if is_slow { 2.0 } else { 1.0 / 64.0 }) as u64;
        let typical = self.bands.jump();
        let again = self.jump.filter(|(len, to)| from.abs_diff(*to) <= (*len).max(good)).map(|(len, _)| match typical {
            // As wide as usual was not enough: a little more, before it is taken for something else.
            Some(typical) if len == typical => typical / 4,
            _ => len * 4,
        });
        let len = again.or(typical).unwrap_or(0).max(fair).clamp(self.sector, (size / 8).max(self.sector));
        let to = if self.backwards { self.aligned(from.saturating_sub(len)) } else { self.aligned(from + len).clamp(from, size) };
        self.skip(from.min(to)..from.max(to), is_slow);
        self.jump = Some((len, to));
        self.head = to;
    }

    /// Reads went well up to a place: far enough behind where the last jump led, what it jumped over was over there.
    pub(super) fn calm(&mut self, at: u64) {
        if let Some((len, to)) = self.jump
            && at.abs_diff(to) > len / 2
        {
            self.bands.ends(to);
            self.jump = None;
        }
    }
}
