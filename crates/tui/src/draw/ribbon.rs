//! Draws a drive as a strip of its partitions.

use super::{cut, print, say};
use crate::theme::Mean;
use badger_bench::ribbon::Ribbon;
use ratatui::buffer::Buffer;
use std::ops::Range;
use unicode_width::UnicodeWidthStr;

/// Cells of a strip for a drive of `size` bytes where the longest may have `room`: one log scale for all drives, so
/// that sizes compare by eye.
pub fn length(size: u64, room: u16) -> u16 {
    let steps = ((size.max(1) as f64).log2() - 30.0).clamp(0.0, 14.0);
    ((f64::from(room) * (0.25 + 0.75 * steps / 14.0)).round() as u16).clamp(12.min(room), room)
}

/// A piece of the strip: a partition by its index, or free space.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cell {
    /// Columns, from the strip's own start.
    pub columns: Range<u16>,
    /// Index into the parts; `None` for space no partition has.
    pub part: Option<usize>,
}

/// Divides `width` columns among partitions and gaps: in proportion, but nothing gets less than it needs to be seen.
pub fn divide(ribbon: &Ribbon, width: u16) -> Vec<Cell> {
    let mut pieces: Vec<(Option<usize>, u64)> = Vec::new();
    let mut at = 0;
    for (index, part) in ribbon.parts.iter().enumerate() {
        // Alignment gaps are not worth a column.
        if part.start.saturating_sub(at) > ribbon.size / 200 {
            pieces.push((None, part.start - at));
        }
        pieces.push((Some(index), part.len));
        at = at.max(part.start + part.len);
    }
    if ribbon.size.saturating_sub(at) > ribbon.size / 200 && !pieces.is_empty() {
        pieces.push((None, ribbon.size - at));
    }
    let most = (width / 3).max(1) as usize;
    pieces.truncate(most);
    let total: u64 = pieces.iter().map(|(_, len)| *len).sum::<u64>().max(1);
    let least = |part: &Option<usize>| match part {
        Some(index) => (ribbon.parts[*index].name.width() as u16 + 2).clamp(3, 6),
        None => 2,
    };
    let needed: u16 = pieces.iter().map(|(part, _)| least(part)).sum();
    let (spare, squeeze) = (width.saturating_sub(needed), needed > width);
    let mut out = Vec::new();
    let (mut column, mut sum) = (0u16, 0u64);
    let mut given = 0u16;
    for (place, (part, len)) in pieces.iter().enumerate() {
        sum += len;
        let upto = (u128::from(spare) * u128::from(sum) / u128::from(total)) as u16;
        let base = if squeeze { width / pieces.len() as u16 } else { least(part) };
        let mut columns = base + upto - given;
        given = upto;
        if place + 1 == pieces.len() {
            columns = width.saturating_sub(column);
        }
        out.push(Cell { columns: column..column + columns, part: *part });
        column += columns;
    }
    out
}

/// How a strip is drawn.
#[derive(Clone, Copy)]
pub struct Look {
    /// Colour of the partitions.
    pub mean: Mean,
    /// The part that is chosen.
    pub chosen: Option<usize>,
}

/// Draws the strip in one line from `x` on.
pub fn draw(buf: &mut Buffer, x: u16, y: u16, width: u16, ribbon: &Ribbon, look: Look) {
    let cells = divide(ribbon, width);
    if cells.is_empty() {
        let inner = usize::from(width.saturating_sub(2));
        let text =
            format!("┊{}┊", super::pad(&cut(&format!(" {}", if ribbon.said.is_empty() { "not looked at" } else { &ribbon.said }), inner), inner));
        print(buf, x, y, width, vec![say(Mean::Quiet, text)]);
        return;
    }
    for cell in cells {
        let wide = usize::from(cell.columns.end - cell.columns.start);
        let at = x + cell.columns.start;
        let Some(index) = cell.part else {
            print(buf, at, y, wide as u16, vec![say(Mean::Quiet, "┄".repeat(wide))]);
            continue;
        };
        let part = &ribbon.parts[index];
        let mean = if look.chosen == Some(index) { Mean::Focus } else { look.mean };
        if wide < 3 {
            print(buf, at, y, wide as u16, vec![say(mean, "▕".repeat(wide))]);
            continue;
        }
        let inner = wide - 2;
        let full = format!("{} {}", part.name, part.content);
        let label = match () {
            () if inner >= full.trim().width() + 4 => format!("{} ", full.trim()),
            () if inner >= part.name.width() + 3 => format!("{} ", part.name),
            () => cut(&part.name, inner),
        };
        let room = inner - label.width();
        let used = part.used.map(|used| used as f64 / part.len.max(1) as f64);
        let fill = match used {
            Some(share) => {
                let solid = ((share * room as f64).round() as usize).clamp(usize::from(share > 0.0 && room > 0), room);
                ("█".repeat(solid), "░".repeat(room - solid))
            }
            None => ("▒".repeat(room), String::new()),
        };
        let spans = vec![say(mean, "▏"), say(Mean::Text, label), say(mean, fill.0), say(Mean::Quiet, fill.1), say(mean, "▕")];
        print(buf, at, y, wide as u16, spans);
    }
}

/// Draws the strip `thick` lines high: names and fill in the first, fill in the others.
pub fn draw_thick(buf: &mut Buffer, x: u16, y: u16, width: u16, thick: u16, ribbon: &Ribbon, look: Look) {
    draw(buf, x, y, width, ribbon, look);
    for line in 1..thick {
        for cell in divide(ribbon, width) {
            let wide = cell.columns.end - cell.columns.start;
            let at = x + cell.columns.start;
            let Some(part) = cell.part.map(|index| &ribbon.parts[index]) else { continue };
            let room = usize::from(wide.saturating_sub(2));
            let solid = part.used.map_or(0, |used| ((used as f64 / part.len.max(1) as f64) * room as f64).round() as usize).min(room);
            let rest = if part.used.is_some() { "░" } else { "▒" };
            let mean = if look.chosen == cell.part { Mean::Focus } else { look.mean };
            let spans = vec![say(mean, "▏"), say(mean, "█".repeat(solid)), say(Mean::Quiet, rest.repeat(room - solid)), say(mean, "▕")];
            print(buf, at, y + line, wide, spans);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use badger_bench::ribbon::Part;
    use rstest::rstest;

    fn ribbon(parts: &[(u64, u64)], size: u64) -> Ribbon {
        let part = |(number, (start, len)): (u32, &(u64, u64))| Part {
            number,
            name: "System".into(),
            content: "NTFS".into(),
            start: *start,
            len: *len,
            used: None,
        };
        Ribbon { size, table: "GPT".into(), parts: (1..).zip(parts).map(part).collect(), said: String::new() }
    }

    #[rstest]
    fn the_strip_is_filled_exactly(#[values(12, 40, 77, 140)] width: u16, #[values(1, 4, 9, 60)] count: u64) {
        let parts: Vec<(u64, u64)> = (0..count).map(|at| (at * 1000, if at % 3 == 0 { 10 } else { 1000 })).collect();
        let cells = divide(&ribbon(&parts, count * 1000 + 500), width);
        assert_eq!(cells[0].columns.start, 0);
        assert_eq!(cells.last().unwrap().columns.end, width);
        for pair in cells.windows(2) {
            assert_eq!(pair[0].columns.end, pair[1].columns.start);
        }
    }

    #[test]
    fn larger_drives_are_longer_strips() {
        let sizes = [8u64 << 30, 120_000_000_000, 250_000_000_000, 960_000_000_000, 15_000_000_000_000];
        let lengths: Vec<u16> = sizes.iter().map(|size| length(*size, 100)).collect();
        assert!(lengths.windows(2).all(|pair| pair[0] < pair[1]), "{lengths:?}");
        assert!(lengths[4] <= 100);
    }
}
