//! A chart of a rate over time, some lines high.

use super::{print, say};
use crate::theme::Mean;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

const EIGHTHS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// Brings `values` to `width` columns: the average of what falls into each, the latest at the right.
pub fn columns(values: &[f64], width: usize) -> Vec<f64> {
    if values.len() <= width {
        return values.to_vec();
    }
    let at = |column: usize| values.len() * column / width;
    (0..width).map(|column| &values[at(column)..at(column + 1)]).map(|part| part.iter().sum::<f64>() / part.len().max(1) as f64).collect()
}

/// Draws the values from the bottom of `area` up to its top, where `top` stands.
pub fn draw(buf: &mut Buffer, area: Rect, values: &[f64], top: f64, mean: Mean) {
    let columns = columns(values, area.width as usize);
    let steps = f64::from(area.height) * 8.0;
    for (column, value) in columns.iter().enumerate() {
        let filled = ((value / top.max(1.0)).clamp(0.0, 1.0) * steps).round() as usize;
        for row in 0..area.height {
            let here = filled.saturating_sub(usize::from(area.height - 1 - row) * 8).min(8);
            let glyph = if here == 0 && row + 1 == area.height { EIGHTHS[1] } else { EIGHTHS[here] };
            print(buf, area.x + column as u16, area.y + row, 1, vec![say(mean, glyph)]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_histories_are_averaged_into_the_width() {
        let values: Vec<f64> = (0..1000).map(f64::from).collect();
        let columns = columns(&values, 10);
        assert_eq!(columns.len(), 10);
        assert!((columns[0] - 49.5).abs() < 1e-9 && (columns[9] - 949.5).abs() < 1e-9);
    }
}
