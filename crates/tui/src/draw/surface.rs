//! The surface: the drive as a field of cells in reading order. Shape carries the meaning, colour only helps.

use crate::theme::{self, Mean};
use badger_drive::Extents;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::ops::Range;

/// State of a stretch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// On the target.
    Saved,
    /// On the target, read back and equal.
    Proved,
    /// Could not be read.
    Lost,
    /// Read back and not equal.
    Differs,
    /// Not in use, so not copied.
    Free,
    /// Left for later.
    Deferred,
}

const HEIGHTS: [&str; 9] = ["·", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// The bytes that cell `index` of `count` stands for.
pub fn share(index: usize, count: usize, size: u64) -> Range<u64> {
    let at = |index: usize| (u128::from(size) * index as u128 / count.max(1) as u128) as u64;
    at(index)..at(index + 1)
}

/// What a cell looks like: its glyph and meaning.
pub fn cell(map: &Extents<State>, bytes: &Range<u64>) -> (&'static str, Mean) {
    let len = (bytes.end - bytes.start).max(1);
    let (mut saved, mut proved, mut free, mut deferred, mut bad) = (0, 0, 0, 0, None);
    for (range, state) in map.within(bytes.clone()) {
        let part = range.end - range.start;
        match state {
            State::Saved => saved += part,
            State::Proved => proved += part,
            State::Free => free += part,
            State::Deferred => deferred += part,
            State::Lost | State::Differs => bad = Some(*state),
        }
    }
    match bad {
        Some(State::Differs) => return ("≠", Mean::Stop),
        Some(_) => return ("╳", Mean::Lost),
        None => {}
    }
    if deferred > 0 {
        return (if deferred * 4 >= len { "▒" } else { "▓" }, Mean::Mind);
    }
    if free >= len {
        return ("╴", Mean::Quiet);
    }
    let height = ((saved + proved) as f64 / (len - free) as f64 * 8.0).round() as usize;
    // Something saved is never drawn as nothing.
    let height = if saved + proved > 0 { height.clamp(1, 8) } else { 0 };
    match height {
        0 => (HEIGHTS[0], Mean::Quiet),
        height => (HEIGHTS[height], if proved >= saved { Mean::Good } else { Mean::Source }),
    }
}

/// Draws the field; `head` is where the run is, `cursor` the cell somebody asks about.
pub fn draw(buf: &mut Buffer, area: Rect, map: &Extents<State>, size: u64, head: Option<u64>, cursor: Option<usize>) {
    let count = area.width as usize * area.height as usize;
    for index in 0..count {
        let bytes = share(index, count, size);
        let (x, y) = (area.x + (index % area.width as usize) as u16, area.y + (index / area.width as usize) as u16);
        let (glyph, mean) = cell(map, &bytes);
        let under_head = head.is_some_and(|head| bytes.contains(&head));
        let (glyph, style) = if cursor == Some(index) {
            ("▣", theme::raised(Mean::Focus))
        } else if under_head {
            (if glyph == "·" { "▁" } else { glyph }, theme::raised(Mean::Focus))
        } else {
            (glyph, theme::style(mean))
        };
        buf[(x, y)].set_symbol(glyph).set_style(style);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_cover_the_drive_and_show_the_worst() {
        let size = 1_000_003;
        assert_eq!(share(0, 7, size).start, 0);
        assert_eq!(share(6, 7, size).end, size);
        assert!((0..6).all(|at| share(at, 7, size).end == share(at + 1, 7, size).start));
        let mut map = Extents::new();
        assert_eq!(cell(&map, &(0..1000)).0, "·");
        map.set(0..500, State::Saved);
        assert_eq!(cell(&map, &(0..1000)), ("▄", Mean::Source));
        assert_eq!(cell(&map, &(499..1_000_000)).0, "▁");
        map.set(10..11, State::Lost);
        assert_eq!(cell(&map, &(0..1000)).0, "╳");
        map.set(0..1000, State::Proved);
        map.set(1000..2000, State::Free);
        assert_eq!(cell(&map, &(1000..2000)).0, "╴");
        assert_eq!(cell(&map, &(500..1500)), ("█", Mean::Good), "what is free is not waited for");
        assert_eq!(cell(&map, &(0..1000)), ("█", Mean::Good));
        map.set(990..1000, State::Deferred);
        assert_eq!(cell(&map, &(0..1000)), ("▓", Mean::Mind), "however little it is, it is seen");
        map.set(500..1000, State::Deferred);
        assert_eq!(cell(&map, &(0..1000)), ("▒", Mean::Mind));
    }
}
