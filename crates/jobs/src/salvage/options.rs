//! What a salvage was released with besides its ends: kept in its map, so that a resumed run is the same job.

use super::{Fill, SalvageOrder};
use badger_inspect::{Hazard, Level};
use badger_salvage::limits::Limits;
use serde::{Deserialize, Serialize};

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(default)]
struct Options {
    first: Vec<String>,
    used: bool,
    limits: Limits,
    fill: Fill,
}

/// The options of an order, as a map keeps them.
pub(super) fn text(order: &SalvageOrder) -> String {
    let (used, fill) = (order.used.unwrap_or_default(), order.fill.unwrap_or_default());
    serde_json::to_string(&Options { first: order.first.clone(), used, limits: order.limits.clone(), fill }).unwrap_or_default()
}

/// What is taken from the map, and what is another now, one by one.
#[derive(Default)]
struct Compared {
    kept: Vec<String>,
    differ: Vec<String>,
}

impl Compared {
    /// Takes over what is left open. `word` says an option in full.
    fn option<T: Clone + PartialEq>(&mut self, now: &mut Option<T>, then: Option<T>, usual: Option<&T>, word: impl Fn(&T) -> String) {
        match (now.as_ref(), then.as_ref()) {
            (None, then) if then == usual => {}
            (None, Some(then)) => self.kept.push(word(then)),
            (Some(now), Some(then)) if now == then => {}
            (Some(now), Some(then)) => self.differ.push(format!("{} then, {} now", word(then), word(now))),
            (Some(now), None) => self.differ.push(format!("{} now, and not before", word(now))),
            (None, None) => {}
        }
        if now.is_none() {
            *now = then;
        }
    }
}

/// Takes over from the map what an order leaves open; names what is taken over, and what the order says otherwise.
pub(super) fn resumed(order: &mut SalvageOrder, text: &str) -> Vec<Hazard> {
    let Ok(Options { first, used, limits, fill }) = serde_json::from_str::<Options>(text) else {
        let text = "the map does not name the options of the earlier run; those given now are used";
        return vec![Hazard::new(Level::Note, "options-unknown", text)];
    };
    let mut compared = Compared::default();
    let mut now = Some(std::mem::take(&mut order.first)).filter(|first| !first.is_empty());
    compared.option(&mut now, Some(first).filter(|first| !first.is_empty()), None, |first| format!("first {}", first.join(" · ")));
    order.first = now.unwrap_or_default();
    let read = |used: &bool| if *used { "free space is left out" } else { "free space is read too" }.to_string();
    compared.option(&mut order.used, Some(used), Some(&false), read);
    compared.option(&mut order.fill, Some(fill), Some(&Fill::Zero), |fill| format!("unreadable places are {}", fill.said()));
    // Each limit by itself, in the words in which it is typed.
    let Limits { time, failures, rests, tries, hottest, pauses: _ } = limits;
    let word = |limits: Limits| limits.to_string();
    let mine = &mut order.limits;
    compared.option(&mut mine.time, time, None, |time| word(Limits { time: Some(*time), ..Limits::default() }));
    compared.option(&mut mine.failures, failures, None, |failures| word(Limits { failures: Some(*failures), ..Limits::default() }));
    compared.option(&mut mine.rests, rests, None, |rests| word(Limits { rests: Some(*rests), ..Limits::default() }));
    compared.option(&mut mine.tries, tries, None, |tries| word(Limits { tries: Some(*tries), ..Limits::default() }));
    compared.option(&mut mine.hottest, hottest, None, |hottest| word(Limits { hottest: Some(*hottest), ..Limits::default() }));
    let note = |code: &'static str, what: &str, all: Vec<String>| {
        (!all.is_empty()).then(|| Hazard::new(Level::Note, code, format!("{what}: {}", all.join("; "))))
    };
    let kept = note("options-resumed", "uses the options of the earlier run", compared.kept);
    kept.into_iter().chain(note("options-differ", "these options differ from the earlier run", compared.differ)).collect()
}
