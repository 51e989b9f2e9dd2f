//! A drawing as PDF (ISO 32000-1): its shapes, and of every font the glyphs that it needs.

use crate::drawing::{Anchor, Drawing, Fill, HATCH, MAKER, POINTS, Shape};
use crate::fonts::{self, Face};
use pdf_writer::types::{CidFontType, FontFlags, SystemInfo, UnicodeCmap};
use pdf_writer::{Content, Filter, Finish, Name, Pdf, Rect, Ref, Str, TextStr};
use rustybuzz::ttf_parser::{RawFace, Tag};
use std::collections::BTreeMap;
use std::io::Write;
use subsetter::GlyphRemapper;

/// A font as far as it is used.
struct Used {
    face: &'static Face,
    glyphs: GlyphRemapper,
    /// What each glyph says, by its new number.
    says: BTreeMap<u16, String>,
}

/// Draws pages and notes which fonts they need.
struct Pen<'a> {
    drawing: &'a Drawing,
    fonts: Vec<Used>,
}

/// The whole document.
pub fn write(drawing: &Drawing) -> Vec<u8> {
    let mut pen = Pen { drawing, fonts: Vec::new() };
    let contents: Vec<Vec<u8>> = drawing.pages.iter().map(|shapes| pen.page(shapes)).collect();
    let mut next = 0;
    let mut fresh = || {
        next += 1;
        Ref::new(next)
    };
    let (catalog, pages, info) = (fresh(), fresh(), fresh());
    let fonts: Vec<Ref> = pen.fonts.iter().map(|_| fresh()).collect();
    let mut pdf = Pdf::new();
    // First, so that the beginning of the file says whose it is.
    pdf.document_info(info).title(TextStr(&drawing.title)).producer(TextStr(MAKER));
    pdf.catalog(catalog).pages(pages);
    let mut kids = Vec::new();
    for content in &contents {
        let (id, stream) = (fresh(), fresh());
        kids.push(id);
        let mut page = pdf.page(id);
        page.media_box(Rect::new(0.0, 0.0, drawing.width * POINTS, drawing.height * POINTS)).parent(pages).contents(stream);
        let mut resources = page.resources();
        let mut named = resources.fonts();
        for (number, font) in fonts.iter().enumerate() {
            named.pair(Name(name(number).as_bytes()), *font);
        }
        named.finish();
        resources.finish();
        page.finish();
        let packed = packed(content);
        pdf.stream(stream, &packed).filter(Filter::FlateDecode);
    }
    pdf.pages(pages).count(kids.len() as i32).kids(kids);
    for (number, (used, id)) in pen.fonts.iter().zip(fonts).enumerate() {
        write_font(&mut pdf, used, number, id, [fresh(), fresh(), fresh(), fresh()]);
    }
    pdf.finish()
}

/// How a font is called in the pages.
fn name(number: usize) -> String {
    format!("F{number}")
}

fn packed(bytes: &[u8]) -> Vec<u8> {
    let mut out = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::default());
    // Memory takes whatever is written to it.
    let _ = out.write_all(bytes);
    out.finish().unwrap_or_default()
}

fn write_font(pdf: &mut Pdf, used: &Used, number: usize, id: Ref, [cid, descriptor, file, unicode]: [Ref; 4]) {
    let face = &used.face.shaper;
    let unit = 1000.0 / face.units_per_em() as f32;
    let own = face.names().into_iter().find(|name| name.name_id == 6).and_then(|name| name.to_string());
    // Six capitals say that it is a part of the font.
    let base = format!("BADGE{}+{}", char::from(b'A' + (number % 26) as u8), own.unwrap_or_else(|| format!("Font{number}")).replace(' ', ""));
    let system = SystemInfo { registry: Str(b"Adobe"), ordering: Str(b"Identity"), supplement: 0 };
    let part = subsetter::subset(used.face.data, used.face.index, &used.glyphs).unwrap_or_else(|_| used.face.data.to_vec());
    let outlines = RawFace::parse(&part, 0).ok().and_then(|raw| raw.table(Tag::from_bytes(b"CFF ")));
    pdf.type0_font(id).base_font(Name(base.as_bytes())).encoding_predefined(Name(b"Identity-H")).descendant_font(cid).to_unicode(unicode);
    let mut font = pdf.cid_font(cid);
    font.subtype(if outlines.is_some() { CidFontType::Type0 } else { CidFontType::Type2 });
    font.base_font(Name(base.as_bytes())).system_info(system).font_descriptor(descriptor).default_width(0.0);
    if outlines.is_none() {
        font.cid_to_gid_map_predefined(Name(b"Identity"));
    }
    let wide = |glyph: u16| f32::from(face.glyph_hor_advance(rustybuzz::ttf_parser::GlyphId(glyph)).unwrap_or(0)) * unit;
    font.widths().consecutive(0, used.glyphs.remapped_gids().map(wide));
    font.finish();
    let bounds = face.global_bounding_box();
    let [left, low, right, high] = [bounds.x_min, bounds.y_min, bounds.x_max, bounds.y_max].map(|value| f32::from(value) * unit);
    let mut about = pdf.font_descriptor(descriptor);
    about.name(Name(base.as_bytes())).flags(FontFlags::SYMBOLIC).bbox(Rect::new(left, low, right, high)).italic_angle(0.0);
    about.ascent(f32::from(face.ascender()) * unit).descent(f32::from(face.descender()) * unit);
    about.cap_height(f32::from(face.capital_height().unwrap_or(face.ascender())) * unit).stem_v(80.0);
    if outlines.is_some() {
        about.font_file3(file)
    } else {
        about.font_file2(file)
    };
    about.finish();
    match outlines {
        Some(outlines) => {
            let packed = packed(outlines);
            pdf.stream(file, &packed).filter(Filter::FlateDecode).pair(Name(b"Subtype"), Name(b"CIDFontType0C"));
        }
        None => {
            let packed = packed(&part);
            pdf.stream(file, &packed).filter(Filter::FlateDecode).pair(Name(b"Length1"), part.len() as i32);
        }
    }
    let mut says: UnicodeCmap = UnicodeCmap::new(Name(b"Letters"), system);
    used.says.iter().for_each(|(glyph, text)| says.pair_with_multiple(*glyph, text.chars()));
    pdf.cmap(unicode, &says.finish());
}

impl Pen<'_> {
    fn page(&mut self, shapes: &[Shape]) -> Vec<u8> {
        let mut out = Content::new();
        shapes.iter().for_each(|shape| self.shape(&mut out, shape));
        out.finish().into_vec()
    }

    /// Points from the lower left corner.
    fn place(&self, x: f32, y: f32) -> (f32, f32) {
        (x * POINTS, (self.drawing.height - y) * POINTS)
    }

    fn font(&mut self, face: &'static Face) -> usize {
        let known = self.fonts.iter().position(|used| std::ptr::eq(used.face, face));
        known.unwrap_or_else(|| {
            self.fonts.push(Used { face, glyphs: GlyphRemapper::new(), says: BTreeMap::new() });
            self.fonts.len() - 1
        })
    }

    fn shape(&mut self, out: &mut Content, shape: &Shape) {
        match shape {
            Shape::Text { x, y, size, bold, anchor, text } => {
                let pieces = fonts::pieces(text, *bold);
                let wide: f32 = pieces.iter().map(|piece| piece.width).sum::<f32>() * size;
                let (mut left, base) = self.place(*x, *y);
                left -= if *anchor == Anchor::Right { wide } else { 0.0 };
                for piece in &pieces {
                    self.piece(out, piece, *size, (left, base));
                    left += piece.width * size;
                }
            }
            Shape::Line { points, width, grey } => {
                out.set_line_width(width * POINTS);
                out.set_stroke_gray(*grey);
                self.lines(out, &[points]);
            }
            Shape::Rect { x, y, w, h, fill, edge } => {
                let (left, low) = self.place(*x, y + h);
                let (wide, high) = (w * POINTS, h * POINTS);
                match fill {
                    Some(Fill::Grey(grey)) => {
                        out.set_fill_gray(*grey);
                        out.rect(left, low, wide, high);
                        out.fill_nonzero();
                    }
                    Some(Fill::Hatch) => {
                        out.save_state();
                        out.rect(left, low, wide, high);
                        out.clip_nonzero();
                        out.end_path();
                        out.set_line_width(0.25 * POINTS);
                        out.set_stroke_gray(0.0);
                        let count = ((w + h) / (HATCH * 1.414)) as usize + 1;
                        let slant = |line: usize| line as f32 * HATCH * 1.414;
                        let slants: Vec<[(f32, f32); 2]> = (0..=count).map(slant).map(|at| [(x + at, *y), (x + at - h, y + h)]).collect();
                        self.lines(out, &slants);
                        out.restore_state();
                    }
                    None => {}
                }
                if *edge > 0.0 {
                    out.set_line_width(edge * POINTS);
                    out.set_stroke_gray(0.0);
                    out.rect(left, low, wide, high);
                    out.stroke();
                }
            }
        }
    }

    /// Draws lines through points, each by itself.
    fn lines(&self, out: &mut Content, lines: &[impl AsRef<[(f32, f32)]>]) {
        for line in lines {
            for (at, (x, y)) in line.as_ref().iter().enumerate() {
                let (x, y) = self.place(*x, *y);
                if at == 0 {
                    out.move_to(x, y)
                } else {
                    out.line_to(x, y)
                };
            }
        }
        out.stroke();
    }

    /// Sets the glyphs of a piece from a place on. As long as each stands where the one before it leads, they are one string.
    fn piece(&mut self, out: &mut Content, piece: &fonts::Piece, size: f32, (left, base): (f32, f32)) {
        let font = self.font(piece.face);
        let used = &mut self.fonts[font];
        let unit = piece.face.shaper.units_per_em() as f32;
        out.begin_text();
        out.set_fill_gray(0.0);
        out.set_font(Name(name(font).as_bytes()), size);
        let (mut pen, mut pen_at, mut string) = (0.0, None, Vec::new());
        let mut before = None;
        for glyph in &piece.glyphs {
            let place = (pen + glyph.shift.0, glyph.shift.1);
            let goes_on = pen_at.is_some_and(|(x, y): (f32, f32)| (x - place.0).abs() < 0.0005 && (y - place.1).abs() < 0.0005);
            if !goes_on {
                if !string.is_empty() {
                    out.show(Str(&std::mem::take(&mut string)));
                }
                out.set_text_matrix([1.0, 0.0, 0.0, 1.0, left + place.0 * size, base + place.1 * size]);
            }
            let id = used.glyphs.remap(glyph.id);
            string.extend(id.to_be_bytes());
            // Of several glyphs that say something together the first one says it.
            if before.replace(glyph.said.start) != Some(glyph.said.start) && glyph.id != 0 {
                used.says.entry(id).or_insert_with(|| piece.text[glyph.said.clone()].into());
            }
            let wide = piece.face.shaper.glyph_hor_advance(rustybuzz::ttf_parser::GlyphId(glyph.id)).unwrap_or(0);
            pen_at = Some((place.0 + f32::from(wide) / unit, place.1));
            pen += glyph.advance;
        }
        if !string.is_empty() {
            out.show(Str(&string));
        }
        out.end_text();
    }
}
