//! What a job was released with besides its plan: kept in its journal, so that a resumed run is the same job.

use crate::order::Order;
use badger_drive::Refusal;
use badger_layout::Rules;
use badger_system::Machine;
use badger_transfer::journal::Unfinished;
use serde::{Deserialize, Serialize};

/// The options of an order that its plan does not hold.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Options {
    machine: Option<Machine>,
    afresh: bool,
    drivers: bool,
    again: bool,
}

impl Options {
    pub fn of(order: &Order) -> Self {
        Self { machine: order.machine.clone(), afresh: order.wishes.afresh, drivers: order.wishes.drivers, again: order.again }
    }

    pub fn text(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }
}

/// Takes over from an unfinished run what an order leaves open.
///
/// # Errors
/// `run-differs`, with each option that says something else.
pub(crate) fn resumed(order: &mut Order, begun: &Unfinished) -> Result<(), Refusal> {
    let then: Options = serde_json::from_str(&begun.options).unwrap_or_default();
    let mut differ = Vec::new();
    let mut differs = |option: &str, then: String, now: String| differ.push(format!("{option}: {then} then, {now} now"));
    let plan = &begun.plan;
    if order.ids != plan.ids {
        if order.ids == badger_layout::plan::Ids::Keep {
            order.ids = plan.ids;
        } else {
            differs("--ids", format!("{:?}", plan.ids).to_lowercase(), format!("{:?}", order.ids).to_lowercase());
        }
    }
    let rest = plan.sparing.as_ref().map(|sparing| sparing.rest);
    match order.used {
        None => order.used = rest,
        Some(now) if Some(now) == rest => {}
        Some(now) => differs(
            "--used",
            rest.map_or_else(|| "the whole drive".into(), |rest| format!("--rest {rest:?}").to_lowercase()),
            format!("--rest {now:?}").to_lowercase(),
        ),
    }
    let rules = plan.fit.as_ref().and_then(|text| text.parse::<Rules>().ok());
    match &order.fit {
        None => order.fit = rules,
        Some(now) if Some(now) == rules.as_ref() => {}
        Some(now) => differs("--fit", plan.fit.clone().unwrap_or_else(|| "none".into()), now.to_string()),
    }
    match (&order.machine, then.machine) {
        (None, machine) => order.machine = machine,
        (Some(now), Some(then)) if *now == then => {}
        (Some(now), then) => differs("--machine", then.map_or_else(|| "none".into(), |then| then.name), now.name.clone()),
    }
    order.wishes.afresh |= then.afresh;
    order.wishes.drivers |= then.drivers;
    order.again |= then.again;
    if differ.is_empty() {
        return Ok(());
    }
    let text = format!(
        "the unfinished run between these two drives has other options ({}): leave them out to resume it, or begin again with --restart",
        differ.join("; ")
    );
    Err(Refusal::new("run-differs", text))
}
