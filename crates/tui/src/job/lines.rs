//! Lines that several steps show.

use crate::draw::{loud, print, say};
use crate::theme::Mean;
use badger_inspect::{Hazard, Level};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::Span;

/// Prints lines one below the other, and says so in the last row where there is no room for all. The row behind them.
pub(super) fn stacked(buf: &mut Buffer, area: Rect, lines: Vec<Vec<Span<'static>>>) -> u16 {
    let (rows, count) = (usize::from(area.height), lines.len());
    let fits = if count > rows { rows.saturating_sub(1) } else { count };
    let mut y = area.y;
    for spans in lines.into_iter().take(fits) {
        print(buf, area.x, y, area.width, spans);
        y += 1;
    }
    if fits < count && rows > 0 {
        print(buf, area.x, y, area.width, vec![say(Mean::Quiet, "… more on a higher screen")]);
        y += 1;
    }
    y
}

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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::all_fit(3, 3, &["0", "1", "2"])]
    #[case::one_too_many(4, 3, &["0", "1", "… more on a higher screen"])]
    #[case::no_room(2, 0, &[])]
    fn what_does_not_fit_is_told_of(#[case] count: usize, #[case] rows: u16, #[case] shown: &[&str]) {
        let area = Rect::new(0, 0, 30, rows);
        let mut buf = Buffer::empty(Rect { height: rows + 1, ..area });
        let end = stacked(&mut buf, area, (0..count).map(|line| vec![say(Mean::Text, line.to_string())]).collect());
        let row = |y: u16| (0..30).map(|x| buf[(x, y)].symbol()).collect::<String>().trim_end().to_string();
        assert_eq!((0..end).map(row).collect::<Vec<_>>(), shown);
        assert_eq!(row(rows), "", "nothing is drawn beneath");
    }
}
