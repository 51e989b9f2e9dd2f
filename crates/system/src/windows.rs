//! From the boot store of a system of the NT family to its login.

use crate::link::{Firmware, Link};
use crate::places::{Place, Places};
use badger_layout::Table;

/// Everything from the store on.
pub(crate) fn follow(_places: &Places, _table: &Table, place: &Place, path: &str, _firmware: Firmware, links: &mut Vec<Link>) {
    if !place.has(path) {
        links.push(Link::broken("store", format!("the boot store {path} is not on {}", place.name())));
    }
}
