//! Pictures in half blocks: each cell shows two dots, one above the other.

use crate::theme::{self, Mean};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Style};

/// Draws rows of dots, so many in a row, as large as they find room; in cells of brightness where there are not all colours. Gives the rows it took.
pub fn draw(buf: &mut Buffer, area: Rect, width: u32, dots: &[[u8; 3]]) -> u16 {
    let (width, height) = (width.max(1) as usize, dots.len() / width.max(1) as usize);
    if height == 0 || area.width == 0 || area.height == 0 {
        return 0;
    }
    let scale = (f64::from(area.width) / width as f64).min(f64::from(area.height) * 2.0 / height as f64).min(1.0);
    let (cells, rows) = (((width as f64 * scale) as usize).max(1), ((height as f64 * scale) as usize).max(1));
    let dot = |x: usize, y: usize| dots[(y * height / rows).min(height - 1) * width + (x * width / cells).min(width - 1)];
    let colour = |[r, g, b]: [u8; 3]| Color::Rgb(r, g, b);
    for y in 0..rows.div_ceil(2) {
        for x in 0..cells {
            let (upper, lower) = (dot(x, y * 2), if y * 2 + 1 < rows { Some(dot(x, y * 2 + 1)) } else { None });
            let (px, py) = (area.x + x as u16, area.y + y as u16);
            if px >= area.right() || py >= area.bottom() {
                continue;
            }
            if theme::has_all_colours() {
                let ground = lower.map_or_else(|| theme::ground().bg.unwrap_or(Color::Reset), colour);
                buf[(px, py)].set_symbol("▀").set_style(Style::new().fg(colour(upper)).bg(ground));
            } else {
                // Without colours the brightness is drawn.
                let light = |[r, g, b]: [u8; 3]| (usize::from(r) * 3 + usize::from(g) * 6 + usize::from(b)) / 10;
                let both = (light(upper) + lower.map_or(light(upper), light)) / 2;
                buf[(px, py)].set_symbol([" ", "░", "▒", "▓", "█"][(both * 5 / 256).min(4)]).set_style(theme::style(Mean::Text));
            }
        }
    }
    rows.div_ceil(2) as u16
}
