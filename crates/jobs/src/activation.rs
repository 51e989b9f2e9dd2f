//! What a licence service says of the systems on a drive, for the machine that it goes into.

use badger_drive::Source;
use badger_inspect::{Line, Looked, Verdict};
use badger_licences::{Answer, Patience, State, Unanswered, Wish, ask, identifier};
use badger_system::Machine;
use badger_system::licence::{self, Licence};

/// Asks a service for a licence on a machine.
///
/// # Errors
/// There was no answer, or the system keeps nothing that could be asked for.
pub fn asked(service: &str, licence: &Licence, machine: &Machine, wish: Wish) -> Result<Answer, Unanswered> {
    let key = licence.key(true).filter(|key| !key.is_empty()).or_else(|| Some(licence.product_id.clone()).filter(|id| !id.is_empty()));
    let Some(key) = key else { return Err(Unanswered("it keeps neither a key nor a product id that a service could be asked for".into())) };
    let device = if machine.device.is_empty() { &machine.name } else { &machine.device };
    ask(service, &identifier("key", &key), &identifier("device", device), wish, Patience::default())
}

/// What an answer means, as a line of a proof.
pub fn line(machine: &Machine, answer: Result<Answer, Unanswered>) -> Line {
    let (result, text) = match answer {
        Err(why) => (Verdict::NotChecked, format!("whether it is activated on \"{}\" is not known: {why}", machine.name)),
        Ok(Answer { state, why, left }) => {
            let left = left.map(|left| format!("; {left} left")).unwrap_or_default();
            match state {
                State::Active => (Verdict::Holds, format!("the licence service: active on \"{}\"", machine.name)),
                State::Free => (Verdict::Differs, format!("the licence service: not activated on \"{}\" yet: {why}{left}", machine.name)),
                State::Elsewhere => (Verdict::Differs, format!("the licence service: not on \"{}\" yet: {why}{left}", machine.name)),
                State::Refused => (Verdict::Fails, format!("the licence service: not to be activated on \"{}\": {why}", machine.name)),
                State::Unknown => (Verdict::NotChecked, format!("the licence service says of \"{}\": {why}", machine.name)),
            }
        }
    };
    Line { link: "activation".into(), ..Line::new("licence", result, text) }
}

/// Looks up every system on a drive; nothing is activated.
pub fn lines(service: &str, drive: &Source, looked: &Looked, machine: &Machine) -> Vec<Line> {
    let found = licence::of(drive, looked).into_iter().filter_map(|(_, licence)| licence.ok());
    found.map(|licence| line(machine, asked(service, &licence, machine, Wish::Look))).collect()
}
