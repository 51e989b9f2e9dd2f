//! What Xpress and LZX share: bits out of 16-bit words, the highest bit first, and canonical Huffman codes.

/// A stream of bits in little-endian words of 16 bits.
pub struct Words<'a> {
    pub data: &'a [u8],
    pub at: usize,
    bits: u32,
    have: u32,
}

impl<'a> Words<'a> {
    pub fn new(data: &'a [u8]) -> Self {
        Self { data, at: 0, bits: 0, have: 0 }
    }

    /// Holds at least `count` bits, 17 at the most. Past the end there are zeroes, but not for ever.
    pub fn ensure(&mut self, count: u32) -> Option<()> {
        while self.have < count {
            if self.at > self.data.len() + 4 {
                return None;
            }
            let byte = |at: usize| u32::from(self.data.get(at).copied().unwrap_or(0));
            let word = byte(self.at) | byte(self.at + 1) << 8;
            self.bits |= word << (16 - self.have);
            (self.at, self.have) = (self.at + 2, self.have + 16);
        }
        Some(())
    }

    /// Holds 16 bits or more, as Xpress counts its bytes.
    pub fn fill(&mut self) -> Option<()> {
        self.ensure(16)
    }

    pub fn take(&mut self, count: u32) -> Option<usize> {
        if count == 0 {
            return Some(0);
        }
        self.ensure(count)?;
        let value = self.bits >> (32 - count);
        self.bits <<= count;
        self.have -= count;
        Some(value as usize)
    }

    /// Goes to the next word; from the edge of one, over a whole one.
    pub fn align(&mut self) -> Option<()> {
        self.ensure(1)?;
        let rest = match self.have % 16 {
            0 => self.have - 16,
            part => self.have - part,
        };
        self.at = self.at.checked_sub(rest as usize / 8)?;
        (self.bits, self.have) = (0, 0);
        Some(())
    }

    pub fn byte(&mut self) -> Option<usize> {
        let byte = *self.data.get(self.at)?;
        self.at += 1;
        Some(usize::from(byte))
    }
}

/// Longest code, in bits.
const LONGEST: usize = 16;

/// A canonical Huffman code.
pub struct Code {
    /// By length: the first code behind those of this length, laid out to 16 bits, and the first symbol's index.
    limits: [u32; LONGEST + 1],
    firsts: [(u32, u32); LONGEST + 1],
    symbols: Vec<u16>,
}

impl Code {
    /// From the length of every symbol's code, 0 for a symbol without one. `None` where more codes are asked for than
    /// there can be.
    pub fn new(lengths: &[u8]) -> Option<Self> {
        let mut code = Self { limits: [0; LONGEST + 1], firsts: [(0, 0); LONGEST + 1], symbols: Vec::new() };
        let mut next = 0u32;
        for length in 1..=LONGEST {
            code.firsts[length] = (next, code.symbols.len() as u32);
            for (symbol, _) in lengths.iter().enumerate().filter(|(_, other)| usize::from(**other) == length) {
                code.symbols.push(symbol as u16);
                next += 1 << (LONGEST - length);
            }
            code.limits[length] = next;
        }
        (next <= 1 << LONGEST).then_some(code)
    }

    pub fn next(&self, words: &mut Words) -> Option<usize> {
        words.ensure(LONGEST as u32)?;
        let peek = words.bits >> 16;
        let length = (1..=LONGEST).find(|length| peek < self.limits[*length])?;
        let (first, index) = self.firsts[length];
        words.take(length as u32)?;
        self.symbols.get((index + ((peek - first) >> (LONGEST - length))) as usize).map(|symbol| usize::from(*symbol))
    }
}

/// Repeats what stands `back` bytes before the end of `out`, never beyond `size` bytes.
pub fn repeat(out: &mut Vec<u8>, back: usize, len: usize, size: usize) -> Option<()> {
    let from = out.len().checked_sub(back).filter(|_| back > 0)?;
    if out.len() + len > size {
        return None;
    }
    (from..from + len).for_each(|at| out.push(out[at]));
    Some(())
}
