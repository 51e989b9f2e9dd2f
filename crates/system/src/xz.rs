//! Where a stream of the format `.xz` ends, and how long it is unpacked, told from its structure before anything is unpacked (the published
//! description of the format, version 1.1): the unpacker itself knows no bounds.

/// Why that cannot be told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Wrong {
    /// It is damaged, or cut off.
    Damaged(String),
    /// It is made in a way that is not read here.
    Unread,
}

/// The filter that is read.
const LZMA2: u64 = 0x21;

struct Walk<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl Walk<'_> {
    fn cut() -> Wrong {
        Wrong::Damaged("it is cut off".into())
    }

    fn skip(&mut self, count: usize) -> Result<(), Wrong> {
        self.at = self.at.checked_add(count).filter(|at| *at <= self.bytes.len()).ok_or_else(Self::cut)?;
        Ok(())
    }

    fn byte(&mut self) -> Result<u8, Wrong> {
        let byte = *self.bytes.get(self.at).ok_or_else(Self::cut)?;
        self.at += 1;
        Ok(byte)
    }

    /// Two bytes, the higher one first.
    fn pair(&mut self) -> Result<usize, Wrong> {
        Ok(usize::from(self.byte()?) << 8 | usize::from(self.byte()?))
    }

    /// A number of one to nine bytes.
    fn number(&mut self) -> Result<u64, Wrong> {
        let mut out = 0;
        for place in 0..9 {
            let byte = self.byte()?;
            out |= u64::from(byte & 0x7f) << (7 * place);
            if byte < 0x80 {
                return Ok(out);
            }
        }
        Err(Wrong::Damaged("a number in it does not end".into()))
    }

    fn align(&mut self, from: usize) -> Result<(), Wrong> {
        self.skip((self.at - from).next_multiple_of(4) - (self.at - from))
    }

    /// A block, of which the first byte was read; bytes unpacked.
    fn block(&mut self, size: u8, check: usize) -> Result<u64, Wrong> {
        let head = self.at - 1;
        let flags = self.byte()?;
        for bit in [0x40, 0x80] {
            if flags & bit != 0 {
                self.number()?;
            }
        }
        if flags & 0x3f != 0 || self.number()? != LZMA2 {
            return Err(Wrong::Unread);
        }
        self.at = head;
        self.skip((usize::from(size) + 1) * 4)?;
        let (start, mut unpacked) = (self.at, 0);
        loop {
            let control = self.byte()?;
            match control {
                0 => break,
                1 | 2 => {
                    let len = self.pair()? + 1;
                    unpacked += len as u64;
                    self.skip(len)?;
                }
                0x80.. => {
                    unpacked += ((usize::from(control & 0x1f) << 16) + self.pair()? + 1) as u64;
                    let packed = self.pair()? + 1;
                    self.skip(packed + usize::from(control >= 0xc0))?;
                }
                _ => return Err(Wrong::Damaged("a part of it is of no kind".into())),
            }
        }
        self.align(start)?;
        self.skip(check)?;
        Ok(unpacked)
    }
}

/// Its end, and its bytes unpacked.
pub(crate) fn stream(bytes: &[u8]) -> Result<(usize, u64), Wrong> {
    let mut walk = Walk { bytes, at: 0 };
    walk.skip(12)?;
    let check = match bytes[7] {
        0 => 0,
        1 => 4,
        4 => 8,
        _ => return Err(Wrong::Unread),
    };
    let mut unpacked = 0;
    let index = loop {
        match walk.byte()? {
            0 => break walk.at - 1,
            size => unpacked += walk.block(size, check)?,
        }
    };
    for _ in 0..walk.number()?.saturating_mul(2) {
        walk.number()?;
    }
    walk.align(index)?;
    walk.skip(4 + 12)?;
    Ok((walk.at, unpacked))
}
