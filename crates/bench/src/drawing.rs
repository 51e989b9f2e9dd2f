//! Drawings on paper, and their two forms: SVG and PDF. Both are made from the same shapes, so they show the same.
//!
//! Units are millimetres from the upper left corner. Text is set in Helvetica, one of the fonts every PDF reader
//! brings along; it knows the western European letters, others are set as `?`.

use pdf_writer::{Content, Finish, Name, Pdf, Rect, Ref, Str};
use std::fmt::Write;

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

/// A sheet of paper with shapes on it.
#[derive(Clone, Debug, PartialEq)]
pub struct Drawing {
    /// Width in millimetres.
    pub width: f32,
    /// Height in millimetres.
    pub height: f32,
    /// What stands on it, the lowest first.
    pub shapes: Vec<Shape>,
    /// Its title.
    pub title: String,
}

/// Points in a millimetre.
const POINTS: f32 = 72.0 / 25.4;
/// Distance of hatching lines.
const HATCH: f32 = 0.9;

/// Widths of the letters from space to tilde, in thousandths of the size, from the font's public metrics.
const WIDTHS: [u16; 95] = [
    278, 278, 355, 556, 556, 889, 667, 191, 333, 333, 389, 584, 278, 333, 278, 278, 556, 556, 556, 556, 556, 556, 556, 556, 556, 556, 278, 278, 584,
    584, 584, 556, 1015, 667, 667, 722, 722, 667, 611, 778, 722, 278, 500, 667, 556, 833, 722, 778, 667, 778, 722, 667, 611, 722, 667, 944, 667, 667,
    611, 278, 278, 278, 469, 556, 333, 556, 556, 500, 556, 556, 278, 556, 556, 222, 222, 500, 222, 833, 556, 556, 556, 556, 333, 500, 278, 556, 500,
    722, 500, 500, 500, 334, 260, 334, 584,
];

/// The width of a text in millimetres, close enough to align and to cut by; bold letters are a little wider.
pub fn width(text: &str, size: f32, bold: bool) -> f32 {
    let units: u32 = text.chars().map(|c| u32::from((c as usize).checked_sub(32).and_then(|at| WIDTHS.get(at)).copied().unwrap_or(556))).sum();
    units as f32 / 1000.0 * size / POINTS * if bold { 1.06 } else { 1.0 }
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

/// Breaks a text into lines that fit.
pub fn wrap(text: &str, size: f32, room: f32) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let last = lines.last_mut().expect("there is always one line");
        let longer = if last.is_empty() { word.to_string() } else { format!("{last} {word}") };
        if width(&longer, size, false) <= room || last.is_empty() {
            *last = longer;
        } else {
            lines.push(word.to_string());
        }
    }
    lines
}

impl Drawing {
    /// An empty A4 sheet.
    pub fn a4(title: &str) -> Self {
        Self { width: 210.0, height: 297.0, shapes: Vec::new(), title: title.into() }
    }

    /// Sets a text from its left end.
    pub fn text(&mut self, x: f32, y: f32, size: f32, text: impl Into<String>) {
        self.shapes.push(Shape::Text { x, y, size, bold: false, anchor: Anchor::Left, text: text.into() });
    }

    /// Sets a bold text from its left end.
    pub fn bold(&mut self, x: f32, y: f32, size: f32, text: impl Into<String>) {
        self.shapes.push(Shape::Text { x, y, size, bold: true, anchor: Anchor::Left, text: text.into() });
    }

    /// Sets a text up to its right end.
    pub fn right(&mut self, x: f32, y: f32, size: f32, text: impl Into<String>) {
        self.shapes.push(Shape::Text { x, y, size, bold: false, anchor: Anchor::Right, text: text.into() });
    }

    /// Draws a line.
    pub fn line(&mut self, points: Vec<(f32, f32)>, width: f32, grey: f32) {
        self.shapes.push(Shape::Line { points, width, grey });
    }

    /// Draws a rectangle.
    pub fn rect(&mut self, x: f32, y: f32, w: f32, h: f32, fill: Option<Fill>, edge: f32) {
        self.shapes.push(Shape::Rect { x, y, w, h, fill, edge });
    }

    /// The sheet as SVG.
    pub fn svg(&self) -> String {
        let (w, h) = (self.width, self.height);
        let mut out = format!("<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{w}mm\" height=\"{h}mm\" viewBox=\"0 0 {w} {h}\">\n");
        let _ = writeln!(out, "<title>{}</title>", escaped(&self.title));
        let _ = writeln!(
            out,
            "<defs><pattern id=\"hatch\" width=\"{HATCH}\" height=\"{HATCH}\" patternUnits=\"userSpaceOnUse\" patternTransform=\"rotate(45)\"><path d=\"M0 0V{HATCH}\" stroke=\"#000\" stroke-width=\"0.25\"/></pattern></defs>"
        );
        let _ =
            writeln!(out, "<rect width=\"{w}\" height=\"{h}\" fill=\"#fff\"/>\n<g font-family=\"Helvetica, Arial, 'Liberation Sans', sans-serif\">");
        for shape in &self.shapes {
            match shape {
                Shape::Text { x, y, size, bold, anchor, text } => {
                    let weight = if *bold { " font-weight=\"bold\"" } else { "" };
                    let end = if *anchor == Anchor::Right { " text-anchor=\"end\"" } else { "" };
                    let _ = writeln!(
                        out,
                        "<text x=\"{x:.2}\" y=\"{y:.2}\" font-size=\"{:.3}\"{weight}{end} xml:space=\"preserve\">{}</text>",
                        size / POINTS,
                        escaped(text)
                    );
                }
                Shape::Line { points, width, grey } => {
                    let points: Vec<String> = points.iter().map(|(x, y)| format!("{x:.2},{y:.2}")).collect();
                    let _ = writeln!(
                        out,
                        "<polyline points=\"{}\" fill=\"none\" stroke=\"{}\" stroke-width=\"{width}\"/>",
                        points.join(" "),
                        shade(*grey)
                    );
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
        out.push_str("</g>\n</svg>\n");
        out
    }

    /// The sheet as PDF.
    pub fn pdf(&self) -> Vec<u8> {
        let (catalog, pages, page, content, plain, bold, info) =
            (Ref::new(1), Ref::new(2), Ref::new(3), Ref::new(4), Ref::new(5), Ref::new(6), Ref::new(7));
        let mut pdf = Pdf::new();
        pdf.catalog(catalog).pages(pages);
        pdf.pages(pages).kids([page]).count(1);
        let mut sheet = pdf.page(page);
        sheet.media_box(Rect::new(0.0, 0.0, self.width * POINTS, self.height * POINTS)).parent(pages).contents(content);
        sheet.resources().fonts().pair(Name(b"F1"), plain).pair(Name(b"F2"), bold);
        sheet.finish();
        for (id, font) in [(plain, &b"Helvetica"[..]), (bold, &b"Helvetica-Bold"[..])] {
            pdf.type1_font(id).base_font(Name(font)).encoding_predefined(Name(b"WinAnsiEncoding"));
        }
        pdf.document_info(info).title(pdf_writer::TextStr(&self.title)).producer(pdf_writer::TextStr("Zealous Badger"));
        let mut drawn = Content::new();
        for shape in &self.shapes {
            self.draw(&mut drawn, shape);
        }
        pdf.stream(content, &drawn.finish());
        pdf.finish()
    }

    fn draw(&self, out: &mut Content, shape: &Shape) {
        let place = |x: f32, y: f32| (x * POINTS, (self.height - y) * POINTS);
        match shape {
            Shape::Text { x, y, size, bold, anchor, text } => {
                let left = if *anchor == Anchor::Right { x - width(text, *size, *bold) } else { *x };
                let (x, y) = place(left, *y);
                out.begin_text();
                out.set_fill_gray(0.0);
                out.set_font(Name(if *bold { b"F2" } else { b"F1" }), *size);
                out.next_line(x, y);
                out.show(Str(&western(text)));
                out.end_text();
            }
            Shape::Line { points, width, grey } => {
                out.set_line_width(width * POINTS);
                out.set_stroke_gray(*grey);
                for (at, (x, y)) in points.iter().enumerate() {
                    let (x, y) = place(*x, *y);
                    if at == 0 {
                        out.move_to(x, y)
                    } else {
                        out.line_to(x, y)
                    };
                }
                out.stroke();
            }
            Shape::Rect { x, y, w, h, fill, edge } => {
                let (left, bottom) = place(*x, y + h);
                match fill {
                    Some(Fill::Grey(grey)) => {
                        out.set_fill_gray(*grey);
                        out.rect(left, bottom, w * POINTS, h * POINTS);
                        out.fill_nonzero();
                    }
                    Some(Fill::Hatch) => self.hatch(out, (*x, *y, *w, *h)),
                    None => {}
                }
                if *edge > 0.0 {
                    out.set_line_width(edge * POINTS);
                    out.set_stroke_gray(0.0);
                    out.rect(left, bottom, w * POINTS, h * POINTS);
                    out.stroke();
                }
            }
        }
    }

    fn hatch(&self, out: &mut Content, (x, y, w, h): (f32, f32, f32, f32)) {
        out.save_state();
        out.rect(x * POINTS, (self.height - y - h) * POINTS, w * POINTS, h * POINTS);
        out.clip_nonzero();
        out.end_path();
        out.set_line_width(0.25 * POINTS);
        out.set_stroke_gray(0.0);
        let lines = ((w + h) / (HATCH * 1.414)) as usize + 1;
        for line in 0..=lines {
            let at = line as f32 * HATCH * 1.414;
            out.move_to((x + at) * POINTS, (self.height - y) * POINTS);
            out.line_to((x + at - h) * POINTS, (self.height - y - h) * POINTS);
        }
        out.stroke();
        out.restore_state();
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

/// A text in the encoding the PDF's fonts use (Windows code page 1252).
fn western(text: &str) -> Vec<u8> {
    const HIGH: [(char, u8); 12] = [
        ('€', 0x80),
        ('…', 0x85),
        ('Š', 0x8a),
        ('Œ', 0x8c),
        ('Ž', 0x8e),
        ('’', 0x92),
        ('“', 0x93),
        ('”', 0x94),
        ('•', 0x95),
        ('–', 0x96),
        ('—', 0x97),
        ('š', 0x9a),
    ];
    text.chars()
        .map(|c| match c {
            ' '..='~' | '\u{a0}'..='\u{ff}' => c as u32 as u8,
            _ => HIGH.iter().find(|(high, _)| *high == c).map_or(b'?', |(_, byte)| *byte),
        })
        .collect()
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
        assert_eq!(western("é–ł"), [0xe9, 0x96, b'?']);
    }
}
