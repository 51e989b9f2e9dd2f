//! Reads text off a screen: its letters are those of the emulator's own video firmware, which kernels take over for their consoles.

use crate::picture::Picture;
use std::collections::HashMap;

/// Rows of a letter.
const HIGH: usize = 16;
/// Columns of a letter.
const WIDE: usize = 8;
/// A letter may differ by so many of its own points.
const NEAR: u32 = 4;
/// The letter A, by which the table is found.
const MARK: [u8; HIGH] = [0, 0, 0x10, 0x38, 0x6c, 0xc6, 0xc6, 0xfe, 0xc6, 0xc6, 0xc6, 0xc6, 0, 0, 0, 0];

/// Letters that kernels draw narrower: their third to twelfth rows, the others are empty.
const NARROW: [(char, [u8; 10]); 11] = [
    ('0', [0x38, 0x6c, 0xc6, 0xc6, 0xd6, 0xd6, 0xc6, 0xc6, 0x6c, 0x38]),
    ('M', [0xc6, 0xee, 0xfe, 0xfe, 0xd6, 0xc6, 0xc6, 0xc6, 0xc6, 0xc6]),
    ('T', [0x7e, 0x7e, 0x5a, 0x18, 0x18, 0x18, 0x18, 0x18, 0x18, 0x3c]),
    ('V', [0xc6, 0xc6, 0xc6, 0xc6, 0xc6, 0xc6, 0xc6, 0x6c, 0x38, 0x10]),
    ('W', [0xc6, 0xc6, 0xc6, 0xc6, 0xd6, 0xd6, 0xd6, 0xfe, 0xee, 0x6c]),
    ('X', [0xc6, 0xc6, 0x6c, 0x7c, 0x38, 0x38, 0x7c, 0x6c, 0xc6, 0xc6]),
    ('Y', [0x66, 0x66, 0x66, 0x66, 0x3c, 0x18, 0x18, 0x18, 0x18, 0x3c]),
    ('m', [0, 0, 0, 0xec, 0xfe, 0xd6, 0xd6, 0xd6, 0xd6, 0xc6]),
    ('v', [0, 0, 0, 0xc6, 0xc6, 0xc6, 0xc6, 0xc6, 0x6c, 0x38]),
    ('w', [0, 0, 0, 0xc6, 0xc6, 0xd6, 0xd6, 0xd6, 0xfe, 0x6c]),
    ('x', [0, 0, 0, 0xc6, 0x6c, 0x38, 0x38, 0x38, 0x6c, 0xc6]),
];

/// Letters by their shape.
#[derive(Clone, Debug, Default)]
pub struct Letters(HashMap<[u8; HIGH], char>);

impl Letters {
    /// Looks for the table of letters in the emulator's video firmware; `None` where it is not in it.
    pub fn of(firmware: &[u8]) -> Option<Self> {
        let mark = firmware.windows(HIGH).position(|window| window == MARK)?;
        let start = mark.checked_sub(usize::from(b'A') * HIGH)?;
        let shape = |letter: u8| firmware.get(start + usize::from(letter) * HIGH..)?.first_chunk::<HIGH>().copied();
        // Between its neighbours a letter that is nothing at all is the blank.
        if shape(b' ')? != [0; HIGH] {
            return None;
        }
        let narrow = NARROW.iter().map(|(letter, rows)| {
            let mut shape = [0; HIGH];
            shape[2..12].copy_from_slice(rows);
            (shape, *letter)
        });
        Some(Self((b'!'..=b'~').filter_map(|letter| Some((shape(letter)?, char::from(letter)))).chain(narrow).collect()))
    }

    /// The lines of a screen; what is no letter is a blank. Empty where next to nothing on it is.
    pub fn read(&self, picture: &Picture) -> Vec<String> {
        // Screens of text have letters nine points wide, the last of which is the space between them.
        let wide = if (picture.width, picture.height) == (720, 400) { 9 } else { WIDE };
        let (columns, rows) = (picture.width / wide, picture.height / HIGH);
        // Pictures have places that look like dots and strokes.
        let (mut known, mut other) = (0, 0);
        let mut lines: Vec<String> = Vec::new();
        for row in 0..rows {
            let line: String = (0..columns)
                .map(|column| {
                    let (x, y) = (column * wide, row * HIGH);
                    let Some(shape) = shape(picture, x, y) else { return ' ' };
                    let letter = self.letter(&shape);
                    known += usize::from(letter.is_some_and(|letter| letter.is_ascii_alphanumeric()));
                    other += usize::from(letter.is_none());
                    letter.unwrap_or(' ')
                })
                .collect();
            lines.push(line.trim_end().to_string());
        }
        if known < 4 || known < other {
            return Vec::new();
        }
        while lines.last().is_some_and(String::is_empty) {
            lines.pop();
        }
        lines
    }

    /// The letter of a shape.
    fn letter(&self, shape: &[u8; HIGH]) -> Option<char> {
        // A letter may cover its own corner.
        self.0.get(shape).or_else(|| self.0.get(&shape.map(|bits| !bits))).copied().or_else(|| self.nearest(shape))
    }

    /// Kernels draw a few letters a little differently: the one that is near, where no other is as near.
    fn nearest(&self, shape: &[u8; HIGH]) -> Option<char> {
        let most = shape.iter().map(|bits| bits.count_ones()).sum::<u32>() / NEAR;
        let far = |other: &[u8; HIGH]| other.iter().zip(shape).map(|(here, there)| (here ^ there).count_ones()).sum::<u32>();
        let mut all: Vec<(u32, char)> = self.0.iter().map(|(other, letter)| (far(other), *letter)).filter(|(far, _)| *far <= most).collect();
        all.sort_unstable();
        match all[..] {
            [(_, one)] => Some(one),
            [(first, one), (second, _), ..] if first < second => Some(one),
            _ => None,
        }
    }
}

/// What stands out from its ground, whose upper left point is there; `None` where nothing does.
fn shape(picture: &Picture, x: usize, y: usize) -> Option<[u8; HIGH]> {
    let ground = picture.at(x, y);
    let mut shape = [0u8; HIGH];
    for (row, bits) in shape.iter_mut().enumerate() {
        for column in 0..WIDE {
            *bits = *bits << 1 | u8::from(picture.at(x + column, y + row) != ground);
        }
    }
    (shape != [0; HIGH]).then_some(shape)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Firmware with a table of two letters in it.
    fn firmware() -> Vec<u8> {
        let mut table = vec![0u8; 256 * HIGH];
        let at = usize::from(b'A') * HIGH;
        table[at..at + HIGH].copy_from_slice(&MARK);
        table[at + HIGH..at + 2 * HIGH].copy_from_slice(&[0xfe; HIGH]);
        [vec![7; 100], table, vec![9; 100]].concat()
    }

    #[test]
    fn letters_are_read_whatever_their_colours() {
        let letters = Letters::of(&firmware()).unwrap();
        let mut picture = Picture { width: 64, height: 32, points: [40, 0, 0].repeat(64 * 32) };
        let mut draw = |column: usize, row: usize, shape: [u8; HIGH], colour: [u8; 3]| {
            for (y, bits) in shape.iter().enumerate() {
                for x in (0..8).filter(|x| bits & (0x80 >> x) != 0) {
                    let at = ((row * HIGH + y) * 64 + column * 8 + x) * 3;
                    picture.points[at..at + 3].copy_from_slice(&colour);
                }
            }
        };
        [0, 1, 3, 5].iter().for_each(|column| draw(*column, 1, MARK, [255; 3]));
        draw(6, 1, [0xfe; HIGH], [0, 9, 0]);
        assert_eq!(letters.read(&picture), ["", "AA A AB"]);
        assert!(letters.read(&Picture { width: 64, height: 32, points: vec![1; 64 * 32 * 3] }).is_empty());
        assert!(Letters::of(&[0; 64]).is_none());
    }
}
