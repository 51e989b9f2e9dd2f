//! Letters for paper: which font has them, in which order they stand, and how wide they are.
//!
//! Latin, Greek, Cyrillic, Arabic and more come with the program; what it lacks is taken from the fonts of this machine. A letter
//! that nothing has is drawn as the empty box of the first font.

use fontdb::Database;
use rustybuzz::{Direction, UnicodeBuffer};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::{LazyLock, Mutex};
use unicode_bidi::BidiInfo;

/// A font that is open.
pub(crate) struct Face {
    /// What it says of itself.
    pub shaper: rustybuzz::Face<'static>,
    /// Its file.
    pub data: &'static [u8],
    /// Its number in the file.
    pub index: u32,
}

/// One letter, or what several became together. Lengths are parts of the size.
pub(crate) struct Glyph {
    /// Its number in the font.
    pub id: u16,
    /// How far the next one is.
    pub advance: f32,
    /// Where it stands from where it would stand, to the right and up.
    pub shift: (f32, f32),
    /// What it says, in bytes of its piece.
    pub said: Range<usize>,
}

impl Face {
    fn of(data: &'static [u8], index: u32) -> Option<&'static Self> {
        let shaper = rustybuzz::Face::from_slice(data, index)?;
        // Few are ever needed, and all of them until the program ends.
        Some(Box::leak(Box::new(Self { shaper, data, index })))
    }

    fn has(&self, letter: char) -> bool {
        self.shaper.glyph_index(letter).is_some()
    }
}

/// The program's own, plain and bold, packed: they are half of their size, and unpacked only where there is paper.
const PACKED: [&[u8]; 2] = [include_bytes!("../fonts/DejaVuSans.ttf.zst"), include_bytes!("../fonts/DejaVuSans-Bold.ttf.zst")];

static OWN: LazyLock<[&'static Face; 2]> = LazyLock::new(|| {
    PACKED.map(|packed| {
        let data = zstd::decode_all(packed).expect("the program's own fonts are whole");
        Face::of(data.leak(), 0).expect("the program's own fonts are fonts")
    })
});

/// Fonts of this machine, as far as letters asked for them.
#[derive(Default)]
struct Others {
    system: Option<Database>,
    open: Vec<&'static Face>,
    /// What was found for a letter.
    known: HashMap<char, Option<&'static Face>>,
}

static OTHERS: LazyLock<Mutex<Others>> = LazyLock::new(Mutex::default);

impl Others {
    fn find(&mut self, letter: char) -> Option<&'static Face> {
        if let Some(known) = self.known.get(&letter) {
            return *known;
        }
        let open = self.open.iter().copied().find(|face| face.has(letter));
        let found = open.or_else(|| self.search(letter));
        self.known.insert(letter, found);
        found
    }

    fn search(&mut self, letter: char) -> Option<&'static Face> {
        let system = self.system.get_or_insert_with(|| {
            let mut fonts = Database::new();
            fonts.load_system_fonts();
            fonts
        });
        let has = |data: &[u8], index| rustybuzz::ttf_parser::Face::parse(data, index).is_ok_and(|face| face.glyph_index(letter).is_some());
        let ids: Vec<_> = system.faces().map(|face| face.id).collect();
        let id = ids.into_iter().find(|id| system.with_face_data(*id, has).unwrap_or(false))?;
        let face = system.with_face_data(id, |data, index| Face::of(Box::leak(data.to_vec().into_boxed_slice()), index))??;
        self.open.push(face);
        Some(face)
    }
}

fn face_for(letter: char, bold: bool) -> &'static Face {
    let own = OWN[usize::from(bold)];
    if letter.is_ascii() || own.has(letter) {
        return own;
    }
    OTHERS.lock().expect("font lock").find(letter).unwrap_or(own)
}

/// A stretch of one line in one font and one direction.
pub(crate) struct Piece {
    /// Its font.
    pub face: &'static Face,
    /// What it says.
    pub text: String,
    /// Its glyphs from left to right.
    pub glyphs: Vec<Glyph>,
    /// Its width in parts of the size.
    pub width: f32,
}

impl Piece {
    fn of(face: &'static Face, text: &str, backwards: bool) -> Self {
        let mut buffer = UnicodeBuffer::new();
        buffer.push_str(text);
        buffer.guess_segment_properties();
        buffer.set_direction(if backwards { Direction::RightToLeft } else { Direction::LeftToRight });
        let shaped = rustybuzz::shape(&face.shaper, &[], buffer);
        let unit = face.shaper.units_per_em() as f32;
        let mut clusters: Vec<usize> = shaped.glyph_infos().iter().map(|info| info.cluster as usize).collect();
        clusters.sort_unstable();
        clusters.dedup();
        let until = |start: usize| clusters.get(clusters.partition_point(|other| *other <= start)).copied().unwrap_or(text.len());
        let glyphs: Vec<Glyph> = (shaped.glyph_infos().iter().zip(shaped.glyph_positions()))
            .map(|(info, place)| {
                let said: Range<usize> = info.cluster as usize..until(info.cluster as usize);
                let [advance, right, up] = [place.x_advance, place.x_offset, place.y_offset].map(|value| value as f32 / unit);
                Glyph { id: info.glyph_id as u16, advance, shift: (right, up), said }
            })
            .collect();
        let width = glyphs.iter().map(|glyph| glyph.advance).sum();
        Self { face, text: text.into(), glyphs, width }
    }
}

/// A line in pieces, from left to right.
pub(crate) fn pieces(text: &str, bold: bool) -> Vec<Piece> {
    // One line is one paragraph, whatever a name brings along.
    let text: String = text.chars().map(|c| if c.is_control() || matches!(c, '\u{2028}' | '\u{2029}') { ' ' } else { c }).collect();
    let order = BidiInfo::new(&text, None);
    let Some(paragraph) = order.paragraphs.first() else { return Vec::new() };
    let (levels, runs) = order.visual_runs(paragraph, paragraph.range.clone());
    let mut out = Vec::new();
    for run in runs {
        let backwards = levels[run.start].is_rtl();
        let mut parts: Vec<(&'static Face, Range<usize>)> = Vec::new();
        for (at, letter) in text[run.clone()].char_indices() {
            let (at, end) = (run.start + at, run.start + at + letter.len_utf8());
            match parts.last_mut() {
                // Marks and blanks go with what they follow.
                Some((face, part)) if face.has(letter) && (letter == ' ' || std::ptr::eq(*face, face_for(letter, bold))) => part.end = end,
                _ => parts.push((face_for(letter, bold), at..end)),
            }
        }
        if backwards {
            parts.reverse();
        }
        out.extend(parts.into_iter().map(|(face, part)| Piece::of(face, &text[part], backwards)));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn the_packed_fonts_are_the_published_ones() {
        for (packed, published) in PACKED.into_iter().zip([dejavu::sans::regular(), dejavu::sans::bold()]) {
            assert!(zstd::decode_all(packed).unwrap() == published);
        }
    }

    /// Whatever a line says, all of it is said by its glyphs, and it has a width.
    #[rstest]
    #[case::latin("Tamarack T-250, 250 GB")]
    #[case::greek_and_cyrillic("Αρχείο Ленина 12")]
    #[case::arabic("الملفات 2026 القديمة")]
    #[case::mixed("disk الملفات of Жанна")]
    #[case::marks("e\u{301}cole n\u{303}")]
    #[case::unknown("\u{10ffff} x")]
    #[case::breaks("one\ntwo\u{2029}three")]
    fn every_letter_is_said_once(#[case] text: &str, #[values(false, true)] bold: bool) {
        let pieces = pieces(text, bold);
        let count: usize = pieces.iter().map(|piece| piece.text.chars().count()).sum();
        assert_eq!(count, text.chars().count());
        for piece in &pieces {
            let mut said = vec![false; piece.text.len()];
            piece.glyphs.iter().for_each(|glyph| said[glyph.said.clone()].fill(true));
            assert!(said.iter().all(|byte| *byte), "{:?}", piece.text);
        }
        assert!(pieces.iter().map(|piece| piece.width).sum::<f32>() > 0.0);
    }

    #[test]
    fn what_runs_from_right_to_left_does() {
        let pieces = pieces("abc مرحبا def", false);
        let texts: Vec<&str> = pieces.iter().map(|piece| piece.text.trim()).collect();
        assert_eq!(texts, ["abc", "مرحبا", "def"]);
        let arabic = pieces.iter().find(|piece| piece.text.contains('م')).unwrap();
        assert!(arabic.glyphs.windows(2).all(|pair| pair[0].said.start >= pair[1].said.start));
    }
}
