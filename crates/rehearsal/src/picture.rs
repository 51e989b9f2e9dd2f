//! What is on the machine's screen, as the emulator gives it: a picture of the kind P6 (Netpbm's published format).

use std::path::Path;

/// Points of a picture at the most.
const MOST: usize = 7680 * 4320;

/// A picture.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Picture {
    /// Points in a row.
    pub width: usize,
    /// Rows.
    pub height: usize,
    /// Red, green, blue of each point, row by row.
    pub points: Vec<u8>,
}

impl Picture {
    /// Reads one.
    ///
    /// # Errors
    /// Why it is none.
    pub fn read(bytes: &[u8]) -> Result<Self, &'static str> {
        let mut rest = bytes.strip_prefix(b"P6").ok_or("it is no picture")?;
        let mut numbers = [0usize; 3];
        for number in &mut numbers {
            while let Some((first, behind)) = rest.split_first() {
                match first {
                    b'#' => rest = &behind[behind.iter().position(|byte| *byte == b'\n').ok_or("it is cut off")?..],
                    byte if byte.is_ascii_whitespace() => rest = behind,
                    _ => break,
                }
            }
            let len = rest.iter().position(|byte| !byte.is_ascii_digit()).ok_or("it is cut off")?;
            *number = std::str::from_utf8(&rest[..len]).ok().and_then(|text| text.parse().ok()).ok_or("it is damaged")?;
            rest = &rest[len..];
        }
        let [width, height, most] = numbers;
        if most != 255 || width == 0 || height == 0 || width.checked_mul(height).is_none_or(|points| points > MOST) {
            return Err("it is of a kind that is not read");
        }
        // One white space, then the points.
        let points = rest.get(1..1 + width * height * 3).ok_or("it is cut off")?.to_vec();
        Ok(Self { width, height, points })
    }

    /// One point.
    pub fn at(&self, x: usize, y: usize) -> [u8; 3] {
        let at = (y * self.width + x) * 3;
        self.points.get(at..at + 3).map_or([0; 3], |point| [point[0], point[1], point[2]])
    }

    /// The same, so many points wide and high: each the middle of what lies under it.
    pub fn scaled(&self, width: usize, height: usize) -> Self {
        let mut points = Vec::with_capacity(width * height * 3);
        for y in 0..height {
            let rows = y * self.height / height..((y + 1) * self.height / height).max(y * self.height / height + 1);
            for x in 0..width {
                let columns = x * self.width / width..((x + 1) * self.width / width).max(x * self.width / width + 1);
                let mut sum = [0u64; 3];
                for row in rows.clone() {
                    for column in columns.clone() {
                        self.at(column, row).iter().zip(&mut sum).for_each(|(part, sum)| *sum += u64::from(*part));
                    }
                }
                let count = (rows.len() * columns.len()).max(1) as u64;
                points.extend(sum.map(|sum| (sum / count) as u8));
            }
        }
        Self { width, height, points }
    }

    /// Writes it as PNG.
    ///
    /// # Errors
    /// What the system says.
    pub fn write(&self, path: &Path) -> std::io::Result<()> {
        let (width, height) = (self.width as u32, self.height as u32);
        image::save_buffer_with_format(path, &self.points, width, height, image::ColorType::Rgb8, image::ImageFormat::Png)
            .map_err(std::io::Error::other)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_picture_is_read_and_made_smaller() {
        let mut bytes = b"P6\n# made\n4 2\n255\n".to_vec();
        bytes.extend((0..24u8).map(|number| number * 10));
        let picture = Picture::read(&bytes).unwrap();
        assert_eq!((picture.width, picture.height, picture.at(3, 1)), (4, 2, [210, 220, 230]));
        let small = picture.scaled(2, 1);
        assert_eq!(small.at(0, 0), [75, 85, 95]);
        for len in 0..bytes.len() {
            assert!(Picture::read(&bytes[..len]).is_err(), "{len}");
        }
    }

    proptest! {
        #[test]
        fn hostile_pictures_are_refused_or_whole(bytes in prop::collection::vec(any::<u8>(), 0..200), head in "P6[ \n]{0,2}[0-9]{0,20} [0-9]{0,20} 255\n") {
            let bytes = [head.as_bytes(), &bytes].concat();
            if let Ok(picture) = Picture::read(&bytes) {
                prop_assert_eq!(picture.points.len(), picture.width * picture.height * 3);
            }
        }
    }
}
