//! `badger machines`, and machines by their names.

use crate::{Common, code};
use badger_drive::Refusal;
use badger_system::Machine;
use badger_system::machine::SHIPPED;

/// A machine that comes along, or a file.
///
/// # Errors
/// Why it is neither.
pub fn find(name: &str) -> Result<Machine, Refusal> {
    Machine::find(name).map_err(|why| Refusal::new("no-machine", why))
}

/// `badger machines`: all that come along, or the file of one.
pub fn machines(name: Option<&str>, common: &Common) -> Result<u8, Refusal> {
    if let Some(name) = name {
        let found = SHIPPED.iter().find(|(shipped, _)| *shipped == name);
        let (_, text) = found.ok_or_else(|| Refusal::new("no-machine", format!("no machine {name} comes along; badger machines names them")))?;
        tell_part!("{text}");
        return Ok(code::DONE);
    }
    let all = SHIPPED.iter().map(|(name, text)| Machine::parse(text).map(|machine| (*name, machine))).collect::<Result<Vec<_>, _>>();
    let all = all.map_err(|why| Refusal::new("no-machine", why))?;
    if common.json {
        let all: Vec<_> = all.iter().map(|(name, machine)| serde_json::json!({ "name": name, "machine": machine })).collect();
        tell_part!("{:#}\n", serde_json::json!({ "machines": all }));
        return Ok(code::DONE);
    }
    for (name, machine) in all {
        tell!("  {name:<10}  {}", machine.name);
    }
    tell!("  badger machines NAME writes one as a file to be edited; --machine takes a name or such a file");
    Ok(code::DONE)
}
