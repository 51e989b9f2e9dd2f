//! Small things that every screen is put together from.

pub mod chain;
pub mod chart;
pub mod picture;
pub mod ribbon;
pub mod surface;

use crate::theme::{self, Mean};
use badger_drive::Outcome;
use badger_drive::text::plain;
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Block;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// A text in a meaning.
pub fn say(mean: Mean, text: impl Into<String>) -> Span<'static> {
    Span::styled(text.into(), theme::style(mean))
}

/// A bold text in a meaning.
pub fn loud(mean: Mean, text: impl Into<String>) -> Span<'static> {
    Span::styled(text.into(), theme::bold(mean))
}

/// Cuts a text to `width` columns, with an ellipsis where something is missing.
pub fn cut(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_string();
    }
    let mut out = String::new();
    let mut used = 0;
    for c in text.chars() {
        let wide = c.width().unwrap_or(0);
        if used + wide + 1 > width {
            break;
        }
        out.push(c);
        used += wide;
    }
    if width > 0 {
        out.push('…');
    }
    out
}

/// Cuts a text to `width` columns at its beginning: the end of a path says more than the folders before it.
pub fn cut_start(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_string();
    }
    let mut left = width.saturating_sub(1);
    let kept = text.char_indices().rev().take_while(|(_, c)| {
        let wide = c.width().unwrap_or(0);
        let fits = wide <= left;
        left = left.saturating_sub(wide);
        fits
    });
    let start = kept.last().map_or(text.len(), |(at, _)| at);
    if width > 0 { format!("…{}", &text[start..]) } else { String::new() }
}

/// A text in exactly `width` columns, to the left.
pub fn pad(text: &str, width: usize) -> String {
    let text = cut(text, width);
    let missing = width.saturating_sub(text.width());
    text + &" ".repeat(missing)
}

/// A text in exactly `width` columns, to the right.
pub fn pad_left(text: &str, width: usize) -> String {
    let text = cut(text, width);
    " ".repeat(width.saturating_sub(text.width())) + &text
}

/// Puts a line of spans at a place, cut to `width` columns.
pub fn print(buf: &mut Buffer, x: u16, y: u16, width: u16, spans: Vec<Span<'static>>) {
    let area = buf.area;
    if y >= area.bottom() || x >= area.right() || width == 0 {
        return;
    }
    let width = width.min(area.right() - x) as usize;
    // Names come from drives: nothing in them may steer the terminal.
    let mut line: Vec<Span> = spans.iter().map(|span| Span::styled(plain(&span.content), span.style)).collect();
    if line.iter().map(Span::width).sum::<usize>() > width {
        let mut left = width;
        let last = line.iter_mut().position(|span| {
            let wide = span.width();
            if wide >= left {
                span.content = cut(&format!("{}\u{2026}", span.content), left).into();
                return true;
            }
            left -= wide;
            false
        });
        line.truncate(last.map_or(line.len(), |at| at + 1));
    }
    buf.set_line(x, y, &Line::from(line), width as u16);
}

/// Puts a line that ends at the right edge of `area`.
pub fn print_right(buf: &mut Buffer, area: Rect, y: u16, spans: Vec<Span<'static>>) {
    let wide: usize = spans.iter().map(Span::width).sum();
    let wide = (wide as u16).min(area.width);
    print(buf, area.right() - wide, y, wide, spans);
}

/// A thin rule from left to right.
pub fn rule(buf: &mut Buffer, area: Rect, y: u16) {
    print(buf, area.x, y, area.width, vec![say(Mean::Quiet, "─".repeat(area.width as usize))]);
}

/// Breaks a text into lines of `width` columns.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let how = textwrap::Options::new(width.max(1)).word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::wrap(text, how).into_iter().map(std::borrow::Cow::into_owned).collect()
}

/// A bar of `width` cells, `share` of them filled.
pub fn bar(share: f64, width: usize) -> (String, String) {
    let filled = (share.clamp(0.0, 1.0) * width as f64).round() as usize;
    ("━".repeat(filled), "╌".repeat(width - filled))
}

/// A rectangle inside another, `margin` columns away from left and right.
pub fn inset(area: Rect, margin: u16) -> Rect {
    Rect { x: area.x + margin.min(area.width / 2), width: area.width.saturating_sub(2 * margin), ..area }
}

/// A raised sheet in the middle of the screen with some lines on it.
pub fn sheet(frame: &mut Frame, body: Rect, width: u16, lines: Vec<Vec<Span<'static>>>) {
    let width = width.min(body.width.saturating_sub(2));
    let height = (lines.len() as u16 + 2).min(body.height);
    let area = Rect { x: body.x + (body.width - width) / 2, y: body.y + (body.height - height) / 3, width, height };
    let raised = theme::raised(Mean::Text);
    frame.render_widget(ratatui::widgets::Clear, area);
    frame.render_widget(Block::new().style(raised), area);
    let buf = frame.buffer_mut();
    for (line, y) in lines.into_iter().zip(area.y + 1..area.bottom().saturating_sub(1)) {
        let spans = line.into_iter().map(|span| Span::styled(span.content, raised.patch(span.style)));
        print(buf, area.x + 2, y, width - 4, spans.collect());
    }
    if height > 0 {
        (area.y..area.bottom()).for_each(|y| print(buf, area.x, y, 1, vec![loud(Mean::Focus, "▌")]));
    }
}

/// The mark and colour of an outcome.
pub fn outcome_mark(outcome: Outcome) -> (&'static str, Mean) {
    match outcome {
        Outcome::Proved => ("●", Mean::Good),
        Outcome::Incomplete => ("╳", Mean::Lost),
        Outcome::Interrupted => ("◐", Mean::Mind),
        Outcome::Finished | Outcome::Refused => ("◆", Mean::Stop),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Tamarack", 8, "Tamarack")]
    #[case("Tamarack", 7, "Tamara…")]
    #[case("Tamarack", 1, "…")]
    #[case("Tamarack", 0, "")]
    #[case("日本語", 5, "日本…")]
    fn texts_never_get_wider_than_their_room(#[case] text: &str, #[case] width: usize, #[case] expected: &str) {
        assert_eq!(cut(text, width), expected);
        assert_eq!(pad(text, width).width(), width);
    }

    #[rstest]
    #[case("/srv/taken", 10, "/srv/taken")]
    #[case("/srv/taken", 9, "…rv/taken")]
    #[case("/srv/taken", 1, "…")]
    #[case("/srv/taken", 0, "")]
    #[case("日本語", 5, "…本語")]
    #[case("日本語", 4, "…語")]
    fn the_end_of_a_path_stays(#[case] path: &str, #[case] width: usize, #[case] expected: &str) {
        assert_eq!(cut_start(path, width), expected);
    }

    #[test]
    fn a_long_line_ends_in_an_ellipsis() {
        let mut buf = Buffer::empty(Rect::new(0, 0, 12, 1));
        print(&mut buf, 0, 0, 12, vec![say(Mean::Text, "source "), say(Mean::Text, "Tamarack T250")]);
        let line: String = (0..12).map(|x| buf[(x, 0)].symbol().to_string()).collect();
        assert_eq!(line, "source Tama…");
    }
}
