//! Lines that several steps show.

use crate::draw::{loud, say};
use crate::theme::Mean;
use badger_inspect::{Hazard, Level};
use ratatui::text::Span;

/// What is known of what the target holds: mark, meaning, sentence.
pub(super) fn at_stake(hazards: &[Hazard]) -> (&'static str, Mean, String) {
    const CODES: [&str; 6] = ["target-unfinished", "target-holds", "target-not-readable", "unfinished-copy", "target-looks-empty", "target-new"];
    let said = CODES.iter().find_map(|code| hazards.iter().find(|hazard| hazard.code == *code));
    match said {
        Some(hazard) if hazard.level == Level::Note => ("●", Mean::Good, hazard.text.clone()),
        Some(hazard) => ("▲", Mean::Mind, hazard.text.clone()),
        None => ("▲", Mean::Mind, "what the target holds is not known".into()),
    }
}

/// A text behind its mark, wrapped to a width; further lines stand below its beginning.
pub(super) fn marked(mean: Mean, mark: &str, text: &str, width: usize) -> Vec<Vec<Span<'static>>> {
    let (indent, mark) = (mark.chars().count(), mark.to_string());
    let lines = crate::draw::wrap(text, width.saturating_sub(indent)).into_iter().enumerate();
    lines.map(|(at, text)| vec![loud(mean, if at == 0 { mark.clone() } else { " ".repeat(indent) }), say(Mean::Text, text)]).collect()
}

/// Hazards as lines, wrapped to a width.
pub(super) fn hazard_lines(hazards: &[Hazard], width: usize) -> Vec<Vec<Span<'static>>> {
    let mut out = Vec::new();
    for hazard in hazards {
        let (mark, word, mean) = match hazard.level {
            Level::Stop => ("◆", "stop", Mean::Stop),
            Level::Mind => ("▲", "mind", Mean::Mind),
            Level::Note => ("·", "note", Mean::Quiet),
        };
        for (line, text) in crate::draw::wrap(&hazard.text, width.saturating_sub(8)).into_iter().enumerate() {
            let head = if line == 0 { format!("{mark} {word}  ") } else { "        ".into() };
            out.push(vec![loud(mean, head), say(if hazard.level == Level::Note { Mean::Quiet } else { Mean::Text }, text)]);
        }
    }
    out
}
