//! Drawings on paper, and their form as SVG; `pdf` makes the other one from the same shapes.
//!
//! Units are millimetres from the upper left corner of a page. The fonts that a PDF needs are in it, as far as it needs them; an
//! SVG names them, and says how wide each text is.

use crate::fonts;

use std::fmt::Write;

/// What every paper says of itself within its first bytes.
pub(crate) const MAKER: &str = "Zealous Badger";

/// Where a text starts from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Anchor {
    /// Its left end.
    Left,
    /// Its right end.
    Right,
}

/// What an area is filled with.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Fill {
    /// A shade, 0 black to 1 white.
    Grey(f32),
    /// Slanted lines.
    Hatch,
}

/// One thing on the paper.
#[derive(Clone, Debug, PartialEq)]
pub enum Shape {
    /// A line of text; `y` is its baseline, `size` in points.
    Text {
        /// Place.
        x: f32,
        /// Baseline.
        y: f32,
        /// Points.
        size: f32,
        /// Weight.
        bold: bool,
        /// What `x` means.
        anchor: Anchor,
        /// The words.
        text: String,
    },
    /// Straight lines through points, `width` wide.
    Line {
        /// The points.
        points: Vec<(f32, f32)>,
        /// Width.
        width: f32,
        /// Shade, 0 black to 1 white.
        grey: f32,
    },
    /// A rectangle.
    Rect {
        /// Left.
        x: f32,
        /// Top.
        y: f32,
        /// Width.
        w: f32,
        /// Height.
        h: f32,
        /// Filling, if any.
        fill: Option<Fill>,
        /// Width of its edge; 0 for none.
        edge: f32,
    },
}

/// Sheets of paper with shapes on them.
#[derive(Clone, Debug, PartialEq)]
pub struct Drawing {
    /// Width of a page in millimetres.
    pub width: f32,
    /// Height of a page in millimetres.
    pub height: f32,
    /// What stands on each page, the lowest first.
    pub pages: Vec<Vec<Shape>>,
    /// Its title.
    pub title: String,
}

/// Points in a millimetre.
pub(crate) const POINTS: f32 = 72.0 / 25.4;
/// Distance of hatching lines.
pub(crate) const HATCH: f32 = 0.9;

/// Distance of pages that are drawn below each other.
const BETWEEN: f32 = 10.0;

/// The width of a text in millimetres.
pub fn width(text: &str, size: f32, bold: bool) -> f32 {
    fonts::pieces(text, bold).iter().map(|piece| piece.width).sum::<f32>() * size / POINTS
}

/// Cuts a text so that it fits, with an ellipsis where something is missing.
pub fn cut(text: &str, size: f32, room: f32) -> String {
    if width(text, size, false) <= room {
        return text.to_string();
    }
    let mut kept: String = text.to_string();
    while !kept.is_empty() && width(&format!("{kept}…"), size, false) > room {
        kept.pop();
    }
    format!("{}…", kept.trim_end())
}

/// Breaks a text into lines that fit, within words where one is too long.
pub fn wrap(text: &str, size: f32, room: f32) -> Vec<String> {
    let blank = width(" ", size, false);
    let (mut lines, mut used) = (vec![String::new()], 0.0);
    for word in text.split_whitespace() {
        for part in parts(word, size, room) {
            let wide = width(part, size, false);
            let last = lines.last_mut().expect("there is always one line");
            if last.is_empty() {
                (*last, used) = (part.to_string(), wide);
            } else if used + blank + wide <= room {
                last.extend([" ", part]);
                used += blank + wide;
            } else {
                lines.push(part.to_string());
                used = wide;
            }
        }
    }
    lines
}

/// A word in parts that fit.
fn parts(word: &str, size: f32, room: f32) -> Vec<&str> {
    if width(word, size, false) <= room {
        return vec![word];
    }
    let (mut out, mut start, mut used) = (Vec::new(), 0, 0.0);
    for (at, letter) in word.char_indices() {
        let wide = width(letter.encode_utf8(&mut [0; 4]), size, false);
        if used + wide > room && at > start {
            out.push(&word[start..at]);
            (start, used) = (at, 0.0);
        }
        used += wide;
    }
    out.push(&word[start..]);
    out
}

impl Drawing {
    /// An empty A4 sheet.
    pub fn a4(title: &str) -> Self {
        Self { width: 210.0, height: 297.0, pages: vec![Vec::new()], title: title.into() }
    }

    /// Goes on on a new page.
    pub fn next_page(&mut self) {
        self.pages.push(Vec::new());
    }

    fn add(&mut self, shape: Shape) {
        self.pages.last_mut().expect("there is always one page").push(shape);
    }

    /// Sets a text from its left end.
    pub fn text(&mut self, x: f32, y: f32, size: f32, text: impl Into<String>) {
        self.add(Shape::Text { x, y, size, bold: false, anchor: Anchor::Left, text: text.into() });
    }

    /// Sets a bold text from its left end.
    pub fn bold(&mut self, x: f32, y: f32, size: f32, text: impl Into<String>) {
        self.add(Shape::Text { x, y, size, bold: true, anchor: Anchor::Left, text: text.into() });
    }

    /// Sets a text up to its right end.
    pub fn right(&mut self, x: f32, y: f32, size: f32, text: impl Into<String>) {
        self.add(Shape::Text { x, y, size, bold: false, anchor: Anchor::Right, text: text.into() });
    }

    /// Draws a line.
    pub fn line(&mut self, points: Vec<(f32, f32)>, width: f32, grey: f32) {
        self.add(Shape::Line { points, width, grey });
    }

    /// Draws a rectangle.
    pub fn rect(&mut self, x: f32, y: f32, w: f32, h: f32, fill: Option<Fill>, edge: f32) {
        self.add(Shape::Rect { x, y, w, h, fill, edge });
    }

    /// The sheets as SVG, one below the other.
    pub fn svg(&self) -> String {
        let (w, h) = (self.width, self.height);
        let all = self.pages.len() as f32 * (h + BETWEEN) - BETWEEN;
        let mut out = format!("<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{w}mm\" height=\"{all}mm\" viewBox=\"0 0 {w} {all}\">\n");
        let _ = writeln!(out, "<title>{}</title>", escaped(&self.title));
        let _ = writeln!(out, "<!-- {MAKER} -->");
        let _ = writeln!(
            out,
            "<defs><pattern id=\"hatch\" width=\"{HATCH}\" height=\"{HATCH}\" patternUnits=\"userSpaceOnUse\" patternTransform=\"rotate(45)\"><path d=\"M0 0V{HATCH}\" stroke=\"#000\" stroke-width=\"0.25\"/></pattern></defs>"
        );
        for (number, page) in self.pages.iter().enumerate() {
            let top = number as f32 * (h + BETWEEN);
            let _ = writeln!(
                out,
                "<g transform=\"translate(0 {top})\" font-family=\"'DejaVu Sans', Verdana, sans-serif\">\n<rect width=\"{w}\" height=\"{h}\" fill=\"#fff\"/>"
            );
            page.iter().for_each(|shape| svg_shape(&mut out, shape));
            out.push_str("</g>\n");
        }
        out.push_str("</svg>\n");
        out
    }
}

fn svg_shape(out: &mut String, shape: &Shape) {
    match shape {
        Shape::Text { x, y, size, bold, anchor, text } => {
            let weight = if *bold { " font-weight=\"bold\"" } else { "" };
            let end = if *anchor == Anchor::Right { " text-anchor=\"end\"" } else { "" };
            let _ = writeln!(
                out,
                "<text x=\"{x:.2}\" y=\"{y:.2}\" font-size=\"{:.3}\" textLength=\"{:.2}\" lengthAdjust=\"spacingAndGlyphs\"{weight}{end} xml:space=\"preserve\">{}</text>",
                size / POINTS,
                width(text, *size, *bold),
                escaped(text)
            );
        }
        Shape::Line { points, width, grey } => {
            let points: Vec<String> = points.iter().map(|(x, y)| format!("{x:.2},{y:.2}")).collect();
            let _ = writeln!(out, "<polyline points=\"{}\" fill=\"none\" stroke=\"{}\" stroke-width=\"{width}\"/>", points.join(" "), shade(*grey));
        }
        Shape::Rect { x, y, w, h, fill, edge } => {
            let fill = match fill {
                None => "none".into(),
                Some(Fill::Grey(grey)) => shade(*grey),
                Some(Fill::Hatch) => "url(#hatch)".into(),
            };
            let edge = if *edge > 0.0 { format!(" stroke=\"#000\" stroke-width=\"{edge}\"") } else { String::new() };
            let _ = writeln!(out, "<rect x=\"{x:.2}\" y=\"{y:.2}\" width=\"{w:.2}\" height=\"{h:.2}\" fill=\"{fill}\"{edge}/>");
        }
    }
}

fn shade(grey: f32) -> String {
    let value = (grey.clamp(0.0, 1.0) * 255.0).round() as u8;
    format!("#{value:02x}{value:02x}{value:02x}")
}

fn escaped(text: &str) -> String {
    let clean: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    clean.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_cut_and_wrapped_to_their_room() {
        let long = "the old drive is kept in the workshop until it is certain that nothing is missing";
        for line in wrap(long, 9.0, 40.0) {
            assert!(width(&line, 9.0, false) <= 40.0);
        }
        assert_eq!(wrap(long, 9.0, 40.0).join(" "), long);
        // A name without blanks is broken where it must be.
        let name = "x".repeat(300);
        assert!(wrap(&name, 9.0, 40.0).iter().all(|line| width(line, 9.0, false) <= 40.0));
        assert_eq!(wrap(&name, 9.0, 40.0).concat(), name);
        let short = cut(long, 9.0, 40.0);
        assert!(short.ends_with('…') && width(&short, 9.0, false) <= 40.0);
        assert_eq!(cut("short", 9.0, 40.0), "short");
    }

    #[test]
    fn what_svg_reserves_is_escaped() {
        let mut drawing = Drawing::a4("a < b");
        drawing.text(1.0, 1.0, 9.0, "\"R&D\" <drive>\u{7}");
        let svg = drawing.svg();
        assert!(svg.contains("&quot;R&amp;D&quot; &lt;drive&gt; <"), "{svg}");
    }
}
