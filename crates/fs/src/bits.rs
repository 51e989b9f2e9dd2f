//! A set of numbers with few bytes for long runs of the same: a volume's units in use.

use std::ops::Range;

/// Numbers in one chunk.
const CHUNK: u64 = 1 << 16;
const WORDS: usize = (CHUNK / 64) as usize;

#[derive(Clone, PartialEq, Eq)]
enum Chunk {
    Same(bool),
    Mixed(Box<[u64; WORDS]>),
}

/// A set of numbers below a limit.
#[derive(Clone)]
pub(crate) struct Bits {
    chunks: Vec<Chunk>,
    count: u64,
}

/// The bits of a word from `from` up to `to`.
fn mask(from: u64, to: u64) -> u64 {
    (u64::MAX << from) & (u64::MAX >> (64 - to))
}

impl Bits {
    /// None of the numbers below `count`.
    pub fn new(count: u64) -> Self {
        Self { chunks: vec![Chunk::Same(false); count.div_ceil(CHUNK) as usize], count }
    }

    fn words(chunk: &mut Chunk) -> &mut [u64; WORDS] {
        if let Chunk::Same(value) = chunk {
            *chunk = Chunk::Mixed(Box::new([if *value { u64::MAX } else { 0 }; WORDS]));
        }
        match chunk {
            Chunk::Mixed(words) => words,
            Chunk::Same(_) => unreachable!("it was mixed above"),
        }
    }

    /// Goes over the words that `range` touches: chunk, word, mask.
    fn pieces(range: Range<u64>) -> impl Iterator<Item = (usize, usize, u64)> {
        let mut at = range.start;
        std::iter::from_fn(move || {
            if at >= range.end {
                return None;
            }
            let (word, from) = (at / 64, at % 64);
            let to = (range.end - word * 64).min(64);
            at = (word + 1) * 64;
            Some(((word as usize) / WORDS, (word as usize) % WORDS, mask(from, to)))
        })
    }

    fn clip(&self, range: Range<u64>) -> Range<u64> {
        range.start.min(self.count)..range.end.min(self.count)
    }

    /// Takes numbers in; gives the first that was in already.
    pub fn set(&mut self, range: Range<u64>) -> Option<u64> {
        let Range { mut start, end } = self.clip(range);
        let mut twice = None;
        while start < end {
            let stop = (start / CHUNK + 1) * CHUNK;
            let number = (start / CHUNK) as usize;
            if start.is_multiple_of(CHUNK) && stop <= end && self.chunks[number] == Chunk::Same(false) {
                self.chunks[number] = Chunk::Same(true);
            } else {
                let words = Self::words(&mut self.chunks[number]);
                for (_, word, mask) in Self::pieces(start..stop.min(end)) {
                    let both = words[word] & mask;
                    if both != 0 && twice.is_none() {
                        twice = Some((number * WORDS + word) as u64 * 64 + u64::from(both.trailing_zeros()));
                    }
                    words[word] |= mask;
                }
                self.settle(number);
            }
            start = stop.min(end);
        }
        twice
    }

    /// Lets go of the words of a chunk that became all the same.
    fn settle(&mut self, number: usize) {
        if let Chunk::Mixed(words) = &self.chunks[number]
            && words[0] == u64::MAX
            && words.iter().all(|word| *word == u64::MAX)
        {
            self.chunks[number] = Chunk::Same(true);
        }
    }

    /// Takes in the numbers of `range` whose bits are set in `bytes`, the lowest bit first.
    pub fn load(&mut self, range: Range<u64>, bytes: &[u8]) {
        let mut run: Option<u64> = None;
        let mut at = range.start;
        for byte in bytes {
            if at >= range.end {
                break;
            }
            match (byte, run) {
                (0, None) | (0xff, Some(_)) => {}
                (0, Some(start)) => {
                    self.set(start..at.min(range.end));
                    run = None;
                }
                (0xff, None) => run = Some(at),
                (byte, _) => {
                    for bit in 0..8 {
                        match (byte >> bit & 1 == 1, run) {
                            (true, None) => run = Some(at + bit),
                            (false, Some(start)) => {
                                self.set(start..(at + bit).min(range.end));
                                run = None;
                            }
                            _ => {}
                        }
                    }
                }
            }
            at += 8;
        }
        if let Some(start) = run {
            self.set(start..at.min(range.end));
        }
    }

    pub fn has(&self, number: u64) -> bool {
        match self.chunks.get((number / CHUNK) as usize) {
            Some(Chunk::Same(value)) => *value && number < self.count,
            Some(Chunk::Mixed(words)) => words[(number % CHUNK / 64) as usize] >> (number % 64) & 1 == 1,
            None => false,
        }
    }

    /// How many numbers are in.
    pub fn total(&self) -> u64 {
        self.ranges().map(|range| range.end - range.start).sum()
    }

    /// How many numbers of `range` are in.
    pub fn total_within(&self, range: Range<u64>) -> u64 {
        Self::pieces(self.clip(range))
            .map(|(chunk, word, mask)| match &self.chunks[chunk] {
                Chunk::Same(value) => u64::from(if *value { mask.count_ones() } else { 0 }),
                Chunk::Mixed(words) => u64::from((words[word] & mask).count_ones()),
            })
            .sum()
    }

    /// The numbers that are in, as ranges in order.
    pub fn ranges(&self) -> impl Iterator<Item = Range<u64>> {
        Ranges { bits: [self, self], at: 0, which: |a, _| a }
    }

    /// The numbers of `within` that are in, as ranges in order.
    pub fn ranges_within(&self, within: Range<u64>) -> impl Iterator<Item = Range<u64>> {
        let all = Ranges { bits: [self, self], at: within.start, which: |a, _| a };
        all.take_while(move |range| range.start < within.end).map(move |range| range.start..range.end.min(within.end))
    }

    /// The numbers that are in here and not in `other`, as ranges in order.
    pub fn without<'a>(&'a self, other: &'a Self) -> impl Iterator<Item = Range<u64>> {
        Ranges { bits: [self, other], at: 0, which: |a, b| a & !b }
    }
}

struct Ranges<'a> {
    bits: [&'a Bits; 2],
    at: u64,
    which: fn(u64, u64) -> u64,
}

impl Ranges<'_> {
    fn word(&self, number: u64) -> u64 {
        let of = |bits: &Bits| match bits.chunks.get(number as usize / WORDS) {
            Some(Chunk::Same(value)) => u64::from(*value).wrapping_neg(),
            Some(Chunk::Mixed(words)) => words[number as usize % WORDS],
            None => 0,
        };
        (self.which)(of(self.bits[0]), of(self.bits[1]))
    }

    /// The first number from `at` on that is in (or not), skipping whole chunks that are all the same.
    fn next(&self, mut at: u64, value: bool) -> u64 {
        let end = self.bits[0].count;
        while at < end {
            let number = (at / CHUNK) as usize;
            if at.is_multiple_of(CHUNK)
                && let (Some(Chunk::Same(a)), Some(Chunk::Same(b))) = (self.bits[0].chunks.get(number), self.bits[1].chunks.get(number))
                && ((self.which)(u64::from(*a).wrapping_neg(), u64::from(*b).wrapping_neg()) != 0) != value
            {
                at += CHUNK;
                continue;
            }
            let word = self.word(at / 64);
            let word = if value { word } else { !word } & (u64::MAX << (at % 64));
            if word != 0 {
                return (at / 64 * 64 + u64::from(word.trailing_zeros())).min(end);
            }
            at = (at / 64 + 1) * 64;
        }
        end
    }
}

impl Iterator for Ranges<'_> {
    type Item = Range<u64>;
    fn next(&mut self) -> Option<Range<u64>> {
        let start = Ranges::next(self, self.at, true);
        if start >= self.bits[0].count {
            return None;
        }
        let end = Ranges::next(self, start, false);
        self.at = end;
        Some(start..end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn behaves_like_a_set(steps in prop::collection::vec((0u64..200_100, 0u64..70_000), 0..20), others in prop::collection::vec((0u64..200_000, 0u64..70_000), 0..8)) {
            let count = 200_000u64;
            let mut bits = [Bits::new(count), Bits::new(count)];
            let mut model = [vec![false; count as usize], vec![false; count as usize]];
            for (which, steps) in [steps, others].into_iter().enumerate() {
                for (start, len) in steps {
                    let end = (start + len).min(count);
                    let twice = bits[which].set(start..start + len);
                    let range = start.min(count)..end.max(start.min(count));
                    prop_assert_eq!(twice, range.clone().find(|at| model[which][*at as usize]));
                    range.for_each(|at| model[which][at as usize] = true);
                }
            }
            let back = |ranges: Vec<Range<u64>>| {
                let mut out = vec![false; count as usize];
                ranges.into_iter().flatten().for_each(|at| out[at as usize] = true);
                out
            };
            prop_assert_eq!(back(bits[0].ranges().collect()), model[0].clone());
            let without: Vec<bool> = model[0].iter().zip(&model[1]).map(|(a, b)| *a && !b).collect();
            prop_assert_eq!(back(bits[0].without(&bits[1]).collect()), without);
            prop_assert_eq!(bits[0].total_within(777..140_001), model[0][777..140_001].iter().filter(|is| **is).count() as u64);
            prop_assert_eq!((0..count).filter(|at| bits[0].has(*at)).count() as u64, bits[0].total());
        }

        #[test]
        fn loads_what_bytes_say(bytes in prop::collection::vec(prop_oneof![Just(0u8), Just(255), any::<u8>()], 0..300), first in 0u64..100) {
            let mut bits = Bits::new(4000);
            bits.load(first..3000, &bytes);
            for (at, byte) in bytes.iter().enumerate() {
                for bit in 0..8 {
                    let number = first + at as u64 * 8 + bit;
                    prop_assert_eq!(bits.has(number), byte >> bit & 1 == 1 && number < 3000);
                }
            }
        }
    }
}
