//! How a drive is, and what got worse since the workshop saw it before.

use crate::Bench;
use crate::ledger::day;
use badger_drive::discover::Found;
use badger_drive::health::{Health, State};

/// A drive that was asked how it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checkup {
    /// What it says.
    pub health: Health,
    /// What got worse since it was here before, with the day; empty where nothing did, or it was never asked before.
    pub grown: String,
}

/// An earlier answer counts as that of another visit when it is older than this, in seconds.
const ANOTHER_VISIT: i64 = 3600;

impl Bench {
    /// Asks a drive how it is and compares with the answer of its last visit; with `keep` the answer goes into the ledger.
    pub fn checkup(&self, found: &Found, keep: bool) -> Checkup {
        let health = self.workshop.health(found);
        let key = found.key();
        let now = crate::ledger::now();
        let before = self.read_ledger().ok().flatten().and_then(|ledger| ledger.health_before(&key, now - ANOTHER_VISIT).ok()).flatten();
        let grown = before.map(|(at, facts)| (day(at), health.facts.grown_since(&facts))).filter(|(_, text)| !text.is_empty());
        if keep && health.state != State::Unknown {
            // A ledger that cannot be written to says so elsewhere; the answer is shown all the same.
            let _ = self.open_ledger().and_then(|ledger| ledger.note_health(&key, now, &health.facts));
        }
        Checkup { health, grown: grown.map(|(day, text)| format!("since {day}: {text}")).unwrap_or_default() }
    }
}
